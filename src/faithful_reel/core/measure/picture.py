"""The spectrogram of a short stretch, as shades."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.units import Signal

LOWEST_HZ = 50.0
QUIETEST_TOP_DB = -40.0
"""Against a tone of full scale: what is quieter is not made as bright as what is loud, so that a pause looks like one."""


class Scale(Enum):
    """How frequencies are laid out."""

    VOICE = "for the voice"
    EVEN = "even"
    OCTAVES = "by octaves"


@dataclass(frozen=True, slots=True)
class SpectrumLook:
    """How a spectrogram is drawn: its scale, up to which frequency, how deep in dB, and with a window of how many samples."""

    scale: Scale = Scale.VOICE
    top_hz: float = 20_000.0
    deepest_db: float = 80.0
    frame: int = 1024

    def share_of(self, hz: float) -> float:
        """Where a frequency stands, from 0 at the foot to 1 at the top; over 1 where it is not shown."""
        match self.scale:
            case Scale.VOICE:
                return float(np.sqrt(hz / self.top_hz))
            case Scale.EVEN:
                return hz / self.top_hz
            case Scale.OCTAVES:
                return float(np.log(max(hz, LOWEST_HZ) / LOWEST_HZ) / np.log(self.top_hz / LOWEST_HZ))

    def frequencies(self, height: int) -> NDArray[np.float64]:
        """The frequency of every row, (height,), from the top, in Hz."""
        share = np.linspace(1, 0, height)
        match self.scale:
            case Scale.VOICE:
                return share**2 * self.top_hz
            case Scale.EVEN:
                return share * self.top_hz
            case Scale.OCTAVES:
                return LOWEST_HZ * (self.top_hz / LOWEST_HZ) ** share


VOICE = SpectrumLook()


def spectrogram(
    x: Signal, width: int, *, height: int = 192, rate: int = 44_100, look: SpectrumLook = VOICE
) -> NDArray[np.float32]:
    """Shades 0 to 1 of (n,) audio at `rate`: (height, width), high frequencies on top, `deepest_db` below the greatest bin,
    or below a tone of −40 dB where all is quieter.

    A row shows the greatest of its frequencies.  A long window shows fine differences of pitch, a short one quick ones in time.
    """
    if len(x) < look.frame or width < 1:
        return np.zeros((height, max(1, width)), np.float32)
    starts = np.linspace(0, len(x) - look.frame, width).astype(np.intp)
    frames = np.lib.stride_tricks.sliding_window_view(x, look.frame)[starts] * np.hanning(look.frame).astype(np.float32)
    power = np.abs(np.fft.rfft(frames, axis=1)) ** 2
    bins = look.frequencies(height)[::-1] * look.frame / rate
    firsts = np.round(np.concatenate([bins[:1], (bins[1:] + bins[:-1]) / 2])).astype(np.intp)  # of each row, from the foot
    there = int(np.searchsorted(firsts, power.shape[1]))
    level = np.full((height, width), -np.inf)
    level[height - there :] = 10 * np.log10(np.maximum.reduceat(power, firsts[:there], axis=1).T[::-1] + 1e-14)
    greatest = max(float(level.max()), 20 * float(np.log10(look.frame / 4)) + QUIETEST_TOP_DB)
    return np.asarray(np.clip((level - greatest + look.deepest_db) / look.deepest_db, 0, 1), dtype=np.float32)
