"""Gains on short spectra: frames analysed, weighed and added up again."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from faithful_reel.core.treat.cells import Near
from faithful_reel.core.units import Signal

OVERLAP = 4
HOP_S = 512 / 44_100
Spectra = NDArray[np.complex64]
Powers = NDArray[np.float32]
Gains = Callable[[Spectra, int, NDArray[np.int64]], Powers]
"""Gives the gain of every bin of (frames, bins) spectra of a channel around some samples."""


def hop_of(rate: int) -> int:
    """Samples from frame to frame: about 12 ms."""
    return max(64, round(HOP_S * rate / 64) * 64)


def frame_of(rate: int) -> int:
    """Samples of a frame: about 46 ms."""
    return OVERLAP * hop_of(rate)


def window_of(rate: int) -> Powers:
    """The Hann window of a frame, for analysis and synthesis: (frame,)."""
    return np.hanning(frame_of(rate) + 1)[:-1].astype(np.float32)


def weighed(cell: Near, rate: int, gains: Gains, *, heard: Near | None = None) -> Signal:
    """The cell's own stretch with gains on its spectra: (channels, n).

    Frames stand on one grid through the whole sound, so that cells meet.  `heard`, as large, is weighed by the gains of `cell`
    instead where it is given: what becomes of a part of a sound.
    """
    hop, frame, window = hop_of(rate), frame_of(rate), window_of(rate)
    first, last = -(-(cell.at - frame // 2) // hop), (cell.at + cell.sound.shape[1] + frame // 2) // hop + 1
    centres = np.arange(first, last, dtype=np.int64) * hop
    out = np.empty((cell.sound.shape[0], cell.last - cell.first), np.float32)

    def analysed(x: Signal) -> Spectra:
        padded = np.pad(x, (frame, frame))
        frames = np.lib.stride_tricks.sliding_window_view(padded, frame)[centres - cell.at + frame // 2]
        return np.asarray(fft.rfft(frames * window, axis=-1), np.complex64)

    for c, x in enumerate(cell.sound):
        spectra = analysed(x)
        table = gains(spectra, c, centres)
        spectra = (analysed(heard.sound[c]) if heard else spectra) * table
        shaped = fft.irfft(spectra, n=frame, axis=-1) * (window / np.float32(1.5))
        rows = np.zeros((len(centres) + OVERLAP) * hop, np.float32)
        for part in range(OVERLAP):  # frames that do not overlap are added in one go
            block = shaped[part::OVERLAP].reshape(-1)
            rows[part * hop : part * hop + block.size] += block
        start = cell.start - (int(centres[0]) - frame // 2)
        out[c] = rows[start : start + cell.last - cell.first]
    return out
