"""The process that owns the sound input: writes what it hears into a shared ring, whatever the window is busy with.

Started by `faithful_reel.app.recording.microphone`; ends with its parent.
"""

from __future__ import annotations

import sys
from typing import Any

import numpy as np
from PyQt6.QtCore import QCoreApplication, QIODevice

from faithful_reel.app.sound_process import NO_DEVICE, READY, Numbers, attached, mono, of_name, run

WRITTEN, STATE = range(2)
RING = 1 << 20
"""Samples that the ring holds: more than twenty seconds, so that a window that stalls loses nothing."""


class _Sink(QIODevice):
    """What the source writes to."""

    def __init__(self, header: Numbers, ring: Numbers) -> None:
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


def main(name: str, rate: int, wanted_device: str, parent: int) -> int:
    """Write what is heard at the input of that description, or at the usual one, into the ring named `name`."""
    from PyQt6.QtMultimedia import QAudio, QAudioSource, QMediaDevices

    _memory, header, ring = attached(name, 2, RING)
    app = QCoreApplication([])
    device, wanted = of_name(QMediaDevices.audioInputs(), QMediaDevices.defaultAudioInput(), wanted_device), mono(rate)
    if device.isNull() or not device.isFormatSupported(wanted):
        header[STATE] = NO_DEVICE
        return 0
    source, sink = QAudioSource(device, wanted), _Sink(header, ring)
    source.start(sink)
    header[STATE] = READY if source.error() == QAudio.Error.NoError else NO_DEVICE
    return run(app, parent)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], int(sys.argv[2]), sys.argv[3], int(sys.argv[4])))
