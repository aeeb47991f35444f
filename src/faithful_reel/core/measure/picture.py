"""The spectrogram of a short stretch, as shades."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.units import Signal

FRAME = 1024
DEEPEST_DB = 80.0


def spectrogram(x: Signal, width: int, *, height: int = 192) -> NDArray[np.float32]:
    """Shades 0 to 1 of (n,) audio: (height, width), high frequencies on top, 80 dB deep below the greatest bin.

    Frequencies are laid out by the square root, so that the voice gets most of the height.
    """
    if len(x) < FRAME or width < 1:
        return np.zeros((height, max(1, width)), np.float32)
    starts = np.linspace(0, len(x) - FRAME, width).astype(np.intp)
    frames = np.lib.stride_tricks.sliding_window_view(x, FRAME)[starts] * np.hanning(FRAME).astype(np.float32)
    power = np.abs(np.fft.rfft(frames, axis=1)) ** 2
    rows = (np.linspace(1, 0, height) ** 2 * (power.shape[1] - 1)).astype(np.intp)
    level = 10 * np.log10(power[:, rows].T + 1e-14)
    return np.asarray(np.clip((level - level.max() + DEEPEST_DB) / DEEPEST_DB, 0, 1), dtype=np.float32)
