"""Where a recording comes from: the sound input in a process of its own, or the stand-in booth."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from multiprocessing import shared_memory
from typing import Protocol

import numpy as np

from faithful_reel.app.recording.microphone_child import RING, STATE, WRITTEN
from faithful_reel.app.sound_process import HEADER, NO_DEVICE
from faithful_reel.core.errors import AppError
from faithful_reel.core.units import Signal

CHILD = "faithful_reel.app.recording.microphone_child"
ROOM_S = 0.4


@dataclass(frozen=True, slots=True)
class Cue:
    """What is about to be read: its words, which take of it, after a lead-in of so many seconds.

    `stands` gives what is heard there now, (n,) at the book's rate, for a stand-in that has no other voice.
    """

    line: str
    take: int = 0
    lead_s: float = 0.0
    stands: Callable[[], Signal] | None = None


class Microphone(Protocol):
    """Gives what is heard while it is open."""

    name: str
    simulated: bool

    @property
    def problem(self) -> str:
        """Why nothing is heard; empty while all is well."""

    def open(self, cue: Cue) -> None:
        """Begin to listen to what is about to be read."""

    def pull(self) -> Signal:
        """What was heard since the last call, (n,) at the book's rate."""

    def close(self) -> None:
        """Stop listening."""


def inputs() -> list[str]:
    """The names of the sound inputs there are."""
    from PyQt6.QtMultimedia import QMediaDevices

    return [device.description() for device in QMediaDevices.audioInputs()]


class DeviceMicrophone:
    """The real sound input, through a ring in shared memory and a child process."""

    simulated = False

    def __init__(self, rate: int, device: str = "") -> None:
        self.name = device or "sound input"
        self._rate, self._device = rate, device
        self._memory: shared_memory.SharedMemory | None = None
        self._child: subprocess.Popen[bytes] | None = None
        self._read = 0

    def _start(self) -> None:
        if self._memory is not None:
            return
        self._memory = shared_memory.SharedMemory(create=True, size=HEADER + RING * 4)
        assert self._memory.buf is not None
        self._header = np.frombuffer(self._memory.buf, np.int64, 2)
        self._ring = np.frombuffer(self._memory.buf, np.float32, RING, HEADER)
        self._header[:] = 0
        self._read = 0
        self._child = subprocess.Popen(
            [sys.executable, "-m", CHILD, self._memory.name, str(self._rate), self._device, str(os.getpid())],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )

    def open(self, cue: Cue) -> None:
        """As `Microphone`: what was heard before is left out."""
        del cue
        self._start()
        self.pull()

    @property
    def problem(self) -> str:
        """As `Microphone`."""
        if self._child is None or (self._child.poll() is None and self._header[STATE] != NO_DEVICE):
            return ""
        return f"Nothing can be recorded from {self.name}. Check that it is connected, or choose another input."

    def pull(self) -> Signal:
        """As `Microphone`."""
        if self._memory is None:
            return np.zeros(0, np.float32)
        written = int(self._header[WRITTEN])
        self._read = max(self._read, written - RING)
        x = self._ring[(self._read + np.arange(written - self._read)) % RING].copy()
        self._read = written
        return x

    def close(self) -> None:
        """As `Microphone`."""
        if self._child is not None:
            self._child.terminate()
            self._child.wait()
        if self._memory is not None:
            del self._header, self._ring  # views of what is closed now
            self._memory.close()
            self._memory.unlink()
        self._child, self._memory = None, None


class StandInMicrophone:
    """The stand-in booth at the microphone: it reads the line that is asked for, in real time."""

    simulated = True
    name = "stand-in booth"

    def __init__(self, rate: int, read: Callable[[Cue], Signal], clock: Callable[[], float] = time.monotonic) -> None:
        self.problem = ""
        self._rate, self._read, self._clock = rate, read, clock
        self._coming: Future[Signal] | None = None
        self._sound: Signal = np.zeros(0, np.float32)
        self._lead_s, self._since, self._given = 0.0, 0.0, 0

    def open(self, cue: Cue) -> None:
        """As `Microphone`: the voice gets ready beside the work, and begins when the lead-in is over."""
        self.problem = ""
        self._lead_s, self._since, self._given = cue.lead_s, self._clock(), 0
        booth = ThreadPoolExecutor(1)
        self._coming = booth.submit(self._read, cue)
        booth.shutdown(wait=False)

    def pull(self) -> Signal:
        """As `Microphone`: after what it reads the room goes on."""
        if self._coming is not None and self._coming.done():
            try:
                self._sound = self._coming.result()
            except AppError as problem:
                self.problem = str(problem)
            self._coming = None
            self._lead_s = max(0.0, self._since + self._lead_s - self._clock())
            self._since, self._given = self._clock(), -round(self._lead_s * self._rate)
        if not len(self._sound):
            return self._sound
        due = round((self._clock() - self._since - self._lead_s) * self._rate)
        places = np.arange(self._given, max(self._given, due))  # below 0 while the lead-in is heard
        self._given = max(self._given, due)
        room = max(1, min(len(self._sound), round(ROOM_S * self._rate)))  # its last moments are nobody speaking
        tail = len(self._sound) - room + (places - len(self._sound)) % room
        reads = (places >= 0) & (places < len(self._sound))
        return np.asarray(self._sound[np.where(reads, places, tail)], np.float32)

    def close(self) -> None:
        """As `Microphone`."""
        self._coming, self._sound = None, np.zeros(0, np.float32)
