"""The process that owns the sound input: writes what it hears into a shared ring, whatever the window is busy with.

Started by `faithful_reel.app.recording.microphone`; ends with its parent.
"""

from __future__ import annotations

import os
import sys
from multiprocessing import resource_tracker, shared_memory
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QCoreApplication, QIODevice, QTimer

WRITTEN, STATE = range(2)
READY, NO_DEVICE = 1, 2
HEADER = 64
RING = 1 << 20
"""Samples that the ring holds: more than twenty seconds, so that a window that stalls loses nothing."""


class _Sink(QIODevice):
    """What the source writes to."""

    def __init__(self, header: NDArray[np.number[Any]], ring: NDArray[np.number[Any]]) -> None:
        super().__init__()
        self._header, self._ring = header, ring
        self.open(QIODevice.OpenModeFlag.WriteOnly)

    def readData(self, _most: int) -> bytes:  # noqa: N802 - Qt's name
        return b""

    def writeData(self, data: Any) -> int:  # noqa: N802 - Qt's name
        x = np.frombuffer(data, np.float32)
        written = int(self._header[WRITTEN])
        self._ring[(written + np.arange(len(x))) % RING] = x
        self._header[WRITTEN] = written + len(x)
        return len(data)


def main(name: str, rate: int, wanted_device: str = "") -> int:
    """Write what is heard at the input of that description, or at the usual one, into the ring named `name`."""
    from PyQt6.QtMultimedia import QAudio, QAudioFormat, QAudioSource, QMediaDevices

    memory = shared_memory.SharedMemory(name=name)
    resource_tracker.unregister(memory._name, "shared_memory")  # type: ignore[attr-defined]
    assert memory.buf is not None
    header: NDArray[np.number[Any]] = np.frombuffer(memory.buf, np.int64, 2)
    ring: NDArray[np.number[Any]] = np.frombuffer(memory.buf, np.float32, RING, HEADER)
    app = QCoreApplication([])
    named = [d for d in QMediaDevices.audioInputs() if wanted_device and d.description() == wanted_device]
    device = named[0] if named else QMediaDevices.defaultAudioInput()
    wanted = QAudioFormat()
    wanted.setSampleRate(rate)
    wanted.setChannelCount(1)
    wanted.setSampleFormat(QAudioFormat.SampleFormat.Float)
    if device.isNull() or not device.isFormatSupported(wanted):
        header[STATE] = NO_DEVICE
        return 0
    source, sink = QAudioSource(device, wanted), _Sink(header, ring)
    source.start(sink)
    header[STATE] = READY if source.error() == QAudio.Error.NoError else NO_DEVICE
    alone = QTimer()
    alone.setInterval(500)
    alone.timeout.connect(_quit_when_orphaned)
    alone.start()
    return app.exec()


def _quit_when_orphaned() -> None:
    if os.getppid() == 1:
        QCoreApplication.quit()


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], int(sys.argv[2]), sys.argv[3]))
