"""Places of a sound that a treatment touches."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from faithful_reel.core.treat.cells import Near
from faithful_reel.core.units import Signal, ratio


@dataclass(frozen=True, slots=True, order=True)
class Place:
    """A stretch in samples with what was found there: its level in dB, in the way of its kind, and how sure it is, 0 to 1."""

    start: int
    stop: int
    kind: str
    level_db: float
    sure: float

    def __len__(self) -> int:
        return self.stop - self.start

    def with_(self, other: Place) -> Place:
        """Both as one."""
        start, stop = min(self.start, other.start), max(self.stop, other.stop)
        return replace(self, start=start, stop=stop, level_db=max(self.level_db, other.level_db), sure=max(self.sure, other.sure))


class Patch(NamedTuple):
    """What stands from sample `start` on in the place of what was there: (channels, n) float32."""

    start: int
    sound: Signal


class Patched:
    """Puts patches in their places, and all of it at another level; everything else stays to the sample."""

    reach = 0

    def __init__(self, patches: Sequence[Patch], gain_db: float = 0.0) -> None:
        self._patches = sorted(patches, key=lambda patch: patch.start)
        self._gain = np.float32(ratio(gain_db)) if gain_db else None

    def treated(self, cell: Near) -> Signal:
        """The cell's own stretch, (channels, n)."""
        out = np.array(cell.sound[:, cell.first : cell.last], np.float32)
        for start, sound in self._patches:
            stop = start + sound.shape[1]
            first, last = max(start, cell.start), min(stop, cell.stop)
            if last > first:
                out[:, first - cell.start : last - cell.start] = sound[:, first - start : last - start]
        return out if self._gain is None else out * self._gain
