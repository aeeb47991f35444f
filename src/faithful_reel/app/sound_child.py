"""The process that owns the sound device: pulls samples from a shared ring, whatever the window is busy with.

Started once by `faithful_reel.app.sound`; ends when its standard input closes.
"""

from __future__ import annotations

import sys

import numpy as np
from PyQt6.QtCore import QCoreApplication, QIODevice

from faithful_reel.app.sound_process import NO_DEVICE, READY, Numbers, attached, mono, of_name, run

WRITTEN, READ, STATE, RUN = range(4)
RING = 1 << 15
PULLED = 4096
"""The most samples that are pulled at once."""


class _Ring(QIODevice):
    """What the sink pulls from: silence while nothing runs."""

    def __init__(self, header: Numbers, ring: Numbers) -> None:
        super().__init__()
        self._header, self._ring = header, ring
        self.open(QIODevice.OpenModeFlag.ReadOnly)

    def bytesAvailable(self) -> int:  # noqa: N802 - Qt's name
        return RING * 4

    def readData(self, most: int) -> bytes:  # noqa: N802 - Qt's name
        count = min(most // 4, PULLED)
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


def main(name: str, rate: int, wanted_device: str, parent: int) -> int:
    """Play what the ring named `name` holds, on the device of that description, or where there is none on the usual one."""
    from PyQt6.QtMultimedia import QAudio, QAudioSink, QMediaDevices  # not for the window, which asks for the ring's layout alone

    _memory, header, ring = attached(name, 4, RING)
    app = QCoreApplication([])
    device, wanted = of_name(QMediaDevices.audioOutputs(), QMediaDevices.defaultAudioOutput(), wanted_device), mono(rate)
    if device.isNull() or not device.isFormatSupported(wanted):
        header[STATE] = NO_DEVICE
        return 0
    source = _Ring(header, ring)
    sink = QAudioSink(device, wanted)
    sink.setBufferSize(rate // 10 * 4)
    sink.start(source)
    header[STATE] = READY if sink.error() == QAudio.Error.NoError else NO_DEVICE
    return run(app, parent)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], int(sys.argv[2]), sys.argv[3], int(sys.argv[4])))
