"""Playing: a feeder thread renders ahead; the device, in a process of its own, or the simulated card plays."""

from __future__ import annotations

import math
import os
import subprocess
import sys
import threading
from collections.abc import Callable
from multiprocessing import shared_memory
from typing import Protocol

import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from faithful_reel.app.sound_child import READ, RING, RUN, STATE, WRITTEN
from faithful_reel.app.sound_process import HEADER, NO_DEVICE, READY
from faithful_reel.core.audio.tempo import Tempo
from faithful_reel.core.units import SILENT_DB, Signal, ratio

BLOCK = 2048
TICK_MS = 33
Rendering = Callable[[int, int], Signal]


class Card(Protocol):
    """Something that plays samples in real time."""

    name: str
    simulated: bool
    device: str

    def begin(self) -> None: ...
    def push(self, block: Signal, count: int) -> int: ...
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
    ) -> None:
        super().__init__(name="sound-feed", daemon=True)
        self._card, self._render, self._range, self._speed = card, render, (start, stop), speed
        self._gain, self._backwards = gain, backwards
        self._tempo = Tempo(rate, speed)
        self.ended = threading.Event()
        self.total = -1
        self.levels: list[tuple[int, float, float]] = []  # (samples pushed, peak, mean square)
        self.problem: Exception | None = None
        self._rate = rate

    def _block(self, at: int) -> Signal:
        """The next samples in the order in which they are heard."""
        start, stop = self._range
        if not self._backwards:
            return self._render(at, min(stop, at + BLOCK))
        last = stop - (at - start)
        return np.ascontiguousarray(self._render(max(start, last - BLOCK), last)[::-1])

    def run(self) -> None:
        pushed = 0
        at, stop = self._range
        try:
            while not self.ended.is_set():
                if at < stop:
                    block = self._tempo.feed(self._block(at))
                    at = min(stop, at + BLOCK)
                    last = False
                else:
                    block, last = self._tempo.flush(), True
                offset = 0
                while offset < len(block) and not self.ended.is_set():
                    taken = self._card.push(block[offset:] * self._gain(), len(block) - offset)
                    if taken:
                        part = block[offset : offset + taken].astype(np.float64)
                        self.levels.append((pushed, float(np.abs(part).max()), float(np.mean(part**2))))
                        offset += taken
                        pushed += taken
                    else:
                        self.ended.wait(0.02)
                if last:
                    break
        except Exception as problem:  # noqa: BLE001 - handed to the interface thread, which shows it
            self.problem = problem
        self.total = pushed


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
        self._backwards = False
        self._feed: _Feed | None = None
        self._start = self._stop = self._position = 0
        self._speed = 1.0
        self._loop = False
        self._request: tuple[Rendering, int, int, int, float] | None = None
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
    ) -> None:
        """Play `start` to `stop`, or with `backwards` from `stop` back to `start`."""
        self.stop()
        if stop <= start:
            return
        self._request = (render, start, stop, rate, speed)
        self._start, self._stop, self._speed, self._loop = start, stop, speed, loop
        self._backwards, self._position = backwards, stop if backwards else start
        self.card.begin()
        self._feed = _Feed(self.card, render, start, stop, rate, speed, self._gain, backwards=backwards)
        self._feed.start()
        self._timer.start()
        self.started.emit()

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
        if self._feed is None:
            return
        self._timer.stop()
        self._feed.ended.set()
        self.card.halt()
        self._feed.join()
        self._feed = None
        self.level.emit(SILENT_DB, SILENT_DB)
        self.ended.emit()

    def _tick(self) -> None:
        feed = self._feed
        if feed is None:
            return
        played = self.card.played()
        gone = round(played * self._speed)
        self._position = max(self._start, self._stop - gone) if self._backwards else min(self._stop, self._start + gone)
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
            request, loop = self._request, self._loop
            self.stop()
            if loop and request:
                render, start, stop, rate, speed = request
                self.play(render, start, stop, rate, speed=speed, loop=True)
