"""What the processes that own a sound device have in common: a ring in shared memory, a format, and an end with their parent."""

from __future__ import annotations

import os
from collections.abc import Sequence
from functools import partial
from multiprocessing import resource_tracker, shared_memory
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QCoreApplication, QTimer

if TYPE_CHECKING:
    from PyQt6.QtMultimedia import QAudioDevice, QAudioFormat

READY, NO_DEVICE = 1, 2
HEADER = 64
"""Bytes before the ring, for whole numbers that both sides read and write."""
Numbers = NDArray[np.number[Any]]


def attached(name: str, slots: int, size: int) -> tuple[shared_memory.SharedMemory, Numbers, Numbers]:
    """The shared memory of that name, which the parent unlinks; its whole numbers, (slots,), and its ring, (size,) float32."""
    memory = shared_memory.SharedMemory(name=name)
    resource_tracker.unregister(memory._name, "shared_memory")  # type: ignore[attr-defined]
    assert memory.buf is not None
    return memory, np.frombuffer(memory.buf, np.int64, slots), np.frombuffer(memory.buf, np.float32, size, HEADER)


def of_name(devices: Sequence[QAudioDevice], usual: QAudioDevice, wanted: str) -> QAudioDevice:
    """The device of that description, else the usual one."""
    return next((d for d in devices if wanted and d.description() == wanted), usual)


def mono(rate: int) -> QAudioFormat:
    """One channel of float samples."""
    from PyQt6.QtMultimedia import QAudioFormat

    wanted = QAudioFormat()
    wanted.setSampleRate(rate)
    wanted.setChannelCount(1)
    wanted.setSampleFormat(QAudioFormat.SampleFormat.Float)
    return wanted


def run(app: QCoreApplication, parent: int) -> int:
    """Run until the process that began this one is gone; whose child an orphan is then, a desktop decides, not only `init`."""
    alone = QTimer()
    alone.setInterval(500)
    alone.timeout.connect(partial(_quit_when_orphaned, parent))
    alone.start()
    return app.exec()


def _quit_when_orphaned(parent: int) -> None:
    if os.getppid() != parent:
        QCoreApplication.quit()
