"""Sound treated cell by cell: what comes out hangs on the sound around it alone, not on what was asked for before."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import NamedTuple, Protocol, TypeVar

import numpy as np

from faithful_reel.core.jobs import Unwatched, Watch, at_once
from faithful_reel.core.units import Signal

CELL = 1 << 18
"""Samples that are treated at a time, counted from the start of the sound: about six seconds."""
WORKERS = 2
T = TypeVar("T")


class Sound(Protocol):
    """Sound that can be read anywhere, by several threads."""

    @property
    def rate(self) -> int: ...
    @property
    def channels(self) -> int: ...
    @property
    def frames(self) -> int: ...
    def read(self, start: int, stop: int) -> Signal:
        """Samples `start` to `stop`, both inside of the sound: (channels, n) float32."""


@dataclass(frozen=True)
class Held:
    """Sound in memory: (channels, n) float32."""

    sound: Signal
    rate: int

    @property
    def channels(self) -> int:
        """How many there are."""
        return int(self.sound.shape[0])

    @property
    def frames(self) -> int:
        """Its length in samples."""
        return int(self.sound.shape[1])

    def read(self, start: int, stop: int) -> Signal:
        """Samples `start` to `stop`: (channels, n), not to be changed."""
        return self.sound[:, start:stop]


class Near(NamedTuple):
    """A stretch with what lies around it: `sound` (channels, n) begins at sample `at`; the stretch is `first` to `last` of it."""

    sound: Signal
    first: int
    last: int
    at: int

    @property
    def start(self) -> int:
        """The stretch's first sample, counted from the start of the whole."""
        return self.at + self.first

    @property
    def stop(self) -> int:
        """The sample after its last, counted from the start of the whole."""
        return self.at + self.last


def near(sound: Sound, start: int, stop: int, reach: int) -> Near:
    """A stretch with so many samples on either side, fewer where the sound begins or ends."""
    at, end = max(0, start - reach), min(sound.frames, stop + reach)
    return Near(sound.read(at, end), start - at, stop - at, at)


CANCEL = 0.1


def mixed(x: Signal) -> Signal:
    """The mean of (channels, n) sound, (n,) float64; where the channels cancel one another, the loudest of them."""
    mean = x.mean(axis=0, dtype=np.float64)
    powers = np.square(x, dtype=np.float64).mean(axis=1) if x.shape[1] else np.zeros(len(x))
    if len(x) > 1 and float(np.mean(np.square(mean))) < CANCEL * float(powers.max(initial=0.0)):
        return np.asarray(x[int(np.argmax(powers))], np.float64)
    return np.asarray(mean)


class Treatment(Protocol):
    """What is done to sound.  The length stays, and what comes out for a cell is a function of the sound within `reach` of it."""

    @property
    def reach(self) -> int:
        """Samples on either side of a cell that are looked at."""

    def treated(self, cell: Near) -> Signal:
        """The cell's own stretch, (channels, last - first) float32."""


def grid(start: int, stop: int) -> Iterator[tuple[int, int]]:
    """The cells of a sound that lie in a stretch, whole at their common edges: (start, stop)."""
    for at in range(start // CELL * CELL, stop, CELL):
        yield max(start, at), min(stop, at + CELL)


def over_cells(sound: Sound, reach: int, work: Callable[[Near], T], watch: Watch | None = None, note: str = "") -> Iterator[T]:
    """The results of `work` for every cell, in order; two are worked on at a time.

    Raises
    ------
    Cancelled
        From the watch.
    """
    watch = watch or Unwatched()
    cells = list(grid(0, sound.frames))
    results = at_once(lambda cell: work(near(sound, *cell, reach)), cells, WORKERS)
    for done, result in enumerate(results, 1):
        yield result
        watch.tick(done / len(cells), note)


def treated_cells(sound: Sound, treatment: Treatment, watch: Watch | None = None, note: str = "") -> Iterator[Signal]:
    """The whole sound treated, cell by cell: (channels, n) each."""
    return over_cells(sound, treatment.reach, treatment.treated, watch, note)


class Streamed:
    """A treatment that is fed sound as it comes, in blocks of any size: the same samples come out."""

    def __init__(self, treatment: Treatment, channels: int) -> None:
        self._treatment = treatment
        self._held = np.zeros((channels, 0), np.float32)
        self._at = self._given = 0

    @property
    def lag(self) -> int:
        """By how many samples at most what comes out is behind what was fed."""
        return CELL + self._treatment.reach

    def feed(self, x: Signal) -> Signal:
        """The next block, (channels, n); gives what is finished."""
        self._held = np.concatenate([self._held, np.asarray(x, np.float32)], axis=1)
        return self._finished(self._at + self._held.shape[1] - self._treatment.reach)

    def flush(self) -> Signal:
        """What is left: then as much has come out as was fed."""
        return self._finished(None)

    def _finished(self, until: int | None) -> Signal:
        end = self._at + self._held.shape[1]
        parts = [self._held[:, :0]]
        while self._given < end:
            stop = min(end, (self._given // CELL + 1) * CELL)
            if until is not None and (stop > until or stop % CELL):
                break
            at, last = max(0, self._given - self._treatment.reach), min(end, stop + self._treatment.reach)
            cell = Near(self._held[:, at - self._at : last - self._at], self._given - at, stop - at, at)
            parts.append(self._treatment.treated(cell))
            self._given = stop
        keep = max(self._at, self._given - self._treatment.reach)
        self._held, self._at = self._held[:, keep - self._at :], keep
        return np.concatenate(parts, axis=1)
