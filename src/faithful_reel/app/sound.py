"""Playing: a feeder thread renders ahead; the device, in a process of its own, or the simulated card plays."""

from __future__ import annotations

import math
import os
import subprocess
import sys
import threading
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from multiprocessing import shared_memory
from typing import Protocol

import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from faithful_reel.app.rendering import Rendering, Turn
from faithful_reel.app.sound_child import PULLED, READ, RING, RUN, STATE, WRITTEN
from faithful_reel.app.sound_process import HEADER, NO_DEVICE, READY
from faithful_reel.core.audio.tempo import Tempo
from faithful_reel.core.units import SILENT_DB, Signal, ratio

BLOCK = 2048
TICK_MS = 33
TURN_S, FADE_S = 0.06, 0.01
"""What of the sound that is ahead is heard before another rendering goes on, and how long the one takes over from the other."""
BEGIN_S = 0.03
"""The interface waits at most so long for the first sound."""
MOST_AHEAD = RING + BLOCK
"""Samples that a card may have ahead."""


class Card(Protocol):
    """Something that plays samples in real time."""

    name: str
    simulated: bool
    device: str

    def begin(self) -> None: ...
    def push(self, block: Signal, count: int) -> int: ...
    def take_back(self, keep: int) -> int: ...
    def played(self) -> int: ...
    def halt(self) -> None: ...
    def close(self) -> None: ...


def devices() -> list[str]:
    """The names of the sound devices there are."""
    from PyQt6.QtMultimedia import QMediaDevices

    return [device.description() for device in QMediaDevices.audioOutputs()]


class DeviceCard:
    """The real sound device, through a ring in shared memory and a child process."""

    name = "sound device"
    simulated = False

    def __init__(self, rate: int, device: str = "") -> None:
        self.device = device
        self._memory = shared_memory.SharedMemory(create=True, size=HEADER + RING * 4)
        assert self._memory.buf is not None
        self._header = np.frombuffer(self._memory.buf, np.int64, 4)
        self._ring = np.frombuffer(self._memory.buf, np.float32, RING, HEADER)
        self._header[:] = 0
        self._child = subprocess.Popen(
            [sys.executable, "-m", "faithful_reel.app.sound_child", self._memory.name, str(rate), device, str(os.getpid())],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        self._base = 0

    def state(self) -> str:
        """One of "waiting", "ready" or "none"."""
        if self._child.poll() is not None or self._header[STATE] == NO_DEVICE:
            return "none"
        return "ready" if self._header[STATE] == READY else "waiting"

    def begin(self) -> None:
        """Empty the ring and let it run."""
        self._header[RUN] = 0
        self._header[READ] = self._header[WRITTEN]
        self._base = int(self._header[READ])
        self._header[RUN] = 1

    def push(self, block: Signal, count: int) -> int:
        """Write as much of a block as there is room for."""
        written = int(self._header[WRITTEN])
        taken = min(count, RING - (written - int(self._header[READ])) - 1)
        if taken > 0:
            self._ring[(written + np.arange(taken)) % RING] = block[:taken]
            self._header[WRITTEN] = written + taken
        return max(0, taken)

    def take_back(self, keep: int) -> int:
        """Let go of what is to come, but for `keep` samples; how many were let go."""
        written, least = int(self._header[WRITTEN]), int(self._header[READ]) + max(keep, PULLED)
        if written <= least:
            return 0
        self._header[WRITTEN] = least
        return written - least

    def played(self) -> int:
        """Samples pulled since `begin`."""
        return int(self._header[READ]) - self._base

    def halt(self) -> None:
        """Stop at once."""
        self._header[RUN] = 0

    def close(self) -> None:
        """End the child and free the memory."""
        self._child.terminate()
        self._child.wait()
        del self._header, self._ring
        self._memory.close()
        self._memory.unlink()


@dataclass(frozen=True, slots=True)
class _Run:
    """What is rendered from a number of pushed samples on: of what, from where to where, and what is told of its positions."""

    pushed: int
    render: Rendering
    start: int
    stop: int
    shown: Callable[[int], int]


class _Feed(threading.Thread):
    """Renders ahead of the card and notes the level of what it pushed."""

    def __init__(
        self,
        card: Card,
        render: Rendering,
        start: int,
        stop: int,
        rate: int,
        speed: float,
        gain: Callable[[], np.float32],
        *,
        backwards: bool,
        rest: int,
        shown: Callable[[int], int],
    ) -> None:
        super().__init__(name="sound-feed", daemon=True)
        self._card, self._speed, self._gain, self._backwards, self._rest = card, speed, gain, backwards, rest
        self.runs = [_Run(0, render, start, stop, shown)]
        self._tempo = Tempo(rate, speed)
        self.ended, self.begun = threading.Event(), threading.Event()
        self.total = -1
        self.levels: list[tuple[int, float, float]] = []  # (samples pushed, peak, mean square)
        self.problem: Exception | None = None
        self._rate = rate
        self._pushed = 0
        self._recent: list[tuple[int, Signal]] = []  # what may be taken back: (samples pushed before it, block)
        self._turn: Turn | None = None
        self._fading: Signal = np.zeros(0, np.float32)

    def turn(self, turn: Turn) -> None:
        """Go on with another rendering as soon as can be, without a gap."""
        self._turn = turn

    def _run_at(self, played: int) -> _Run:
        return next((r for r in reversed(self.runs) if r.pushed <= played), self.runs[0])

    def _position(self, played: int) -> int:
        run = self._run_at(played)
        gone = round((played - run.pushed) * self._speed)
        return max(run.start, run.stop - gone) if self._backwards else min(run.stop, run.start + gone)

    def shown(self, played: int) -> int:
        """What is told to be heard once so many samples were played."""
        return self._run_at(played).shown(self._position(played))

    def _block(self, at: int) -> Signal:
        """The next samples in the order in which they are heard."""
        run = self.runs[-1]
        if not self._backwards:
            return run.render(at, min(run.stop, at + BLOCK))
        last = run.stop - (at - run.start)
        return np.ascontiguousarray(run.render(max(run.start, last - BLOCK), last)[::-1])

    def _turned(self, turn: Turn) -> int:
        """Take back what nobody has heard yet, but a little, and be at the same place of another rendering."""
        back = self._card.take_back(round(TURN_S * self._rate))
        taken = self._pushed - back
        kept = [block[max(0, taken - at) :] for at, block in self._recent if at + len(block) > taken]
        self._fading = np.concatenate([*kept, np.zeros(0, np.float32)])[: round(FADE_S * self._rate)]
        self._recent = [(at, block[: taken - at]) for at, block in self._recent if at < taken]
        self.levels[:] = [row for row in self.levels if row[0] < taken]
        start = min(turn.stop, max(0, turn.there(self.shown(taken))))
        self._pushed, self.total = taken, -1
        self.runs.append(_Run(taken, turn.render, start, turn.stop, turn.shown))
        self._tempo = Tempo(self._rate, self._speed)
        return start

    def _faded(self, block: Signal) -> Signal:
        """A block that takes over from what was taken back, with equal gain: it is the same voice at the same place."""
        count = min(len(block), len(self._fading))
        if not count:
            return block
        rise = (np.arange(count, dtype=np.float32) + 0.5) / len(self._fading)
        block = block.copy()
        block[:count] = block[:count] * rise + self._fading[:count] * (1 - rise)
        self._fading = np.zeros(0, np.float32)
        return block

    def _push(self, block: Signal) -> None:
        offset = 0
        while offset < len(block) and not self.ended.is_set() and self._turn is None:
            taken = self._card.push(block[offset:] * self._gain(), len(block) - offset)
            if taken:
                part = block[offset : offset + taken]
                loud = part.astype(np.float64)
                self.levels.append((self._pushed, float(np.abs(loud).max()), float(np.mean(loud**2))))
                self._recent = [row for row in self._recent if row[0] + len(row[1]) > self._pushed - MOST_AHEAD]
                self._recent.append((self._pushed, part))
                offset += taken
                self._pushed += taken
                self.begun.set()
            else:
                self.ended.wait(0.02)

    def run(self) -> None:
        at = self.runs[0].start
        try:
            while not self.ended.is_set():
                if self._turn is not None:
                    turn, self._turn = self._turn, None
                    at = self._turned(turn)
                stop = self.runs[-1].stop
                if at < stop:
                    block = self._tempo.feed(self._block(at))
                    at = min(stop, at + BLOCK)
                    self._push(self._faded(block))
                elif self.total < 0:
                    self._push(self._faded(self._tempo.flush()))
                    self._push(np.zeros(self._rest, np.float32))
                    if self._turn is None:
                        self.total = self._pushed
                elif self._card.played() >= self.total:
                    break
                else:
                    self.ended.wait(0.01)
        except Exception as problem:  # noqa: BLE001 - handed to the interface thread, which shows it
            self.problem = problem
            self.total = self._pushed
        self.begun.set()


class Player(QObject):
    """Plays a range of a rendering; tells position and level about thirty times a second."""

    moved = pyqtSignal(int)
    level = pyqtSignal(float, float)
    started = pyqtSignal()
    ended = pyqtSignal()
    failed = pyqtSignal(str)

    def __init__(self, card: Card, open_card: Callable[[str], Card] | None = None) -> None:
        super().__init__()
        self.card = card
        self._open_card = open_card
        self.volume_db = 0.0
        self._feed: _Feed | None = None
        self._position = 0
        self._anew: Callable[..., None] | None = None
        self._again: Callable[[], None] = self.stop
        self._timer = QTimer(self)
        self._timer.setInterval(TICK_MS)
        self._timer.timeout.connect(self._tick)

    @property
    def playing(self) -> bool:
        """Whether sound is going out."""
        return self._feed is not None

    @property
    def position(self) -> int:
        """The sample being heard, or where it stopped."""
        return self._position

    def play(
        self,
        render: Rendering,
        start: int,
        stop: int,
        rate: int,
        *,
        speed: float = 1.0,
        loop: bool = False,
        backwards: bool = False,
        rest: int = 0,
        shown: Callable[[int], int] = int,
    ) -> None:
        """Play `start` to `stop`, or with `backwards` from `stop` back to `start`; in a loop with a `rest` between.

        `shown` gives what is told of a position.
        """
        self.stop()
        if stop <= start:
            return
        how = partial(self.play, rate=rate, speed=speed, loop=True, rest=rest)
        self._anew = how if loop else None
        self._again = partial(how, render, start, stop, shown=shown)
        self._position = shown(stop if backwards else start)
        self.card.begin()
        rest = rest if loop else 0
        self._feed = _Feed(self.card, render, start, stop, rate, speed, self._gain, backwards=backwards, rest=rest, shown=shown)
        self._feed.start()
        self._feed.begun.wait(BEGIN_S)  # else what is painted next would keep it from its first block
        self._timer.start()
        self.started.emit()

    def turn(self, turn: Turn) -> None:
        """Go on with another rendering of what is being heard, without a gap."""
        if self._feed is not None:
            self._feed.turn(turn)
            if self._anew is not None:
                self._again = partial(self._anew, turn.render, turn.start, turn.stop, shown=turn.shown)

    def _gain(self) -> np.float32:
        return np.float32(ratio(self.volume_db))

    def use_device(self, device: str) -> None:
        """Play on another device from now on; an empty one is the usual."""
        self.stop()
        if self._open_card is not None and device != self.card.device:
            self.card.close()
            self.card = self._open_card(device)

    def stop(self) -> None:
        """Stop at once; the position stays."""
        if self._halt():
            self.level.emit(SILENT_DB, SILENT_DB)
            self.ended.emit()

    def _halt(self) -> bool:
        """Let go of what plays; whether something did."""
        if self._feed is None:
            return False
        self._timer.stop()
        self._feed.ended.set()
        self.card.halt()
        self._feed.join()
        self._feed = None
        return True

    def _tick(self) -> None:
        feed = self._feed
        if feed is None:
            return
        played = self.card.played()
        self._position = feed.shown(played)
        self.moved.emit(self._position)
        heard = [row for row in list(feed.levels) if row[0] <= played]
        if heard:
            feed.levels[: len(heard)] = []
            peak = max(row[1] for row in heard)
            square = sum(row[2] for row in heard) / len(heard)
            self.level.emit(10 * math.log10(square + 1e-20), 20 * math.log10(peak + 1e-10))
        if feed.problem is not None:
            problem = feed.problem
            self.stop()
            self.failed.emit(str(problem))
        elif feed.total >= 0 and played >= feed.total:
            if self._anew is None:
                self.stop()
            else:  # it does not end between
                self._halt()
                self._again()
