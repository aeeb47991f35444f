"""The vocabulary of sound: rates, positions, spans, levels."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NewType

import numpy as np
from numpy.typing import NDArray

Hertz = NewType("Hertz", int)
Samples = int
Decibels = float
Signal = NDArray[np.floating[Any]]
"""Audio, time last, full scale 1.0; float32 at rest, float64 in filters and sums."""

BOOK_RATE = Hertz(44_100)
EAR_RATE = Hertz(16_000)
SILENT_DB = -200.0
"""What a level of zero is shown as: finite, so that JSON and tables can hold it."""


@dataclass(frozen=True, slots=True, order=True)
class Span:
    """A half-open stretch of samples, `start <= position < stop`."""

    start: Samples
    stop: Samples

    def __post_init__(self) -> None:
        if self.start > self.stop:
            raise ValueError(f"a span can not end before it starts: {self.start} > {self.stop}")

    def __len__(self) -> int:
        return self.stop - self.start

    def overlap(self, other: Span) -> int:
        """Samples that both spans hold."""
        return max(0, min(self.stop, other.stop) - max(self.start, other.start))


def decibels(ratio: float) -> Decibels:
    """Amplitude ratio to dB; `SILENT_DB` for zero."""
    return float(20.0 * np.log10(ratio)) if ratio > 1e-10 else SILENT_DB


def ratio(level_db: Decibels) -> float:
    """DB to amplitude ratio."""
    return float(10.0 ** (level_db / 20.0))


def seconds(position: Samples, rate: int) -> float:
    """Samples to seconds, for the edges only."""
    return position / rate


def samples(time_s: float, rate: int) -> Samples:
    """Seconds to the nearest sample."""
    return round(time_s * rate)


def clock(time_s: float) -> str:
    """Seconds as `h:mm:ss.mmm`, for people."""
    total = round(time_s * 1000)
    hours, rest = divmod(total, 3_600_000)
    minutes, rest = divmod(rest, 60_000)
    return f"{hours}:{minutes:02d}:{rest // 1000:02d}.{rest % 1000:03d}"
