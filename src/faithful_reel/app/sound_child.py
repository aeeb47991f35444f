"""The process that owns the sound device: pulls samples from a shared ring, whatever the window is busy with.

Started once by `faithful_reel.app.sound`; ends when its standard input closes.
"""

from __future__ import annotations

import sys
from multiprocessing import resource_tracker, shared_memory
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QCoreApplication, QIODevice, QTimer

WRITTEN, READ, STATE, RUN = range(4)
READY, NO_DEVICE = 1, 2
HEADER = 64
RING = 1 << 15


class _Ring(QIODevice):
    """What the sink pulls from: silence while nothing runs."""

    def __init__(self, header: NDArray[np.number[Any]], ring: NDArray[np.number[Any]]) -> None:
        super().__init__()
        self._header, self._ring = header, ring
        self.open(QIODevice.OpenModeFlag.ReadOnly)

    def bytesAvailable(self) -> int:  # noqa: N802 - Qt's name
        return RING * 4

    def readData(self, most: int) -> bytes:  # noqa: N802 - Qt's name
        count = min(most // 4, 4096)
        out = np.zeros(count, np.float32)
        if self._header[RUN]:
            read, written = int(self._header[READ]), int(self._header[WRITTEN])
            have = min(count, written - read)
            at = (read + np.arange(have)) % RING
            out[:have] = self._ring[at]
            self._header[READ] = read + have
        return out.tobytes()

    def writeData(self, _data: object) -> int:  # noqa: N802 - Qt's name
        return -1


def main(name: str, rate: int, wanted_device: str = "") -> int:
    """Play what the ring named `name` holds, on the device of that description, or where there is none on the usual one."""
    from PyQt6.QtMultimedia import (  # not for the window, which asks for the ring's layout alone
        QAudio,
        QAudioFormat,
        QAudioSink,
        QMediaDevices,
    )

    memory = shared_memory.SharedMemory(name=name)
    resource_tracker.unregister(memory._name, "shared_memory")  # type: ignore[attr-defined]
    assert memory.buf is not None
    header: NDArray[np.number[Any]] = np.frombuffer(memory.buf, np.int64, 4)
    ring: NDArray[np.number[Any]] = np.frombuffer(memory.buf, np.float32, RING, HEADER)
    app = QCoreApplication([])
    named = [d for d in QMediaDevices.audioOutputs() if wanted_device and d.description() == wanted_device]
    device = named[0] if named else QMediaDevices.defaultAudioOutput()
    wanted = QAudioFormat()
    wanted.setSampleRate(rate)
    wanted.setChannelCount(1)
    wanted.setSampleFormat(QAudioFormat.SampleFormat.Float)
    if device.isNull() or not device.isFormatSupported(wanted):
        header[STATE] = NO_DEVICE
        return 0
    source = _Ring(header, ring)
    sink = QAudioSink(device, wanted)
    sink.setBufferSize(rate // 10 * 4)
    sink.start(source)
    header[STATE] = READY if sink.error() == QAudio.Error.NoError else NO_DEVICE
    closed = QTimer()
    closed.setInterval(500)
    closed.timeout.connect(_quit_when_orphaned)
    closed.start()
    return app.exec()


def _quit_when_orphaned() -> None:
    import os

    if os.getppid() == 1:
        QCoreApplication.quit()


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], int(sys.argv[2]), sys.argv[3]))
