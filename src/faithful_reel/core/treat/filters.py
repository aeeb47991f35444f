"""Low cut, block by block, and the sections that tone is made of."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.signal import butter, sosfilt

from faithful_reel.core.units import Signal


class LowCut:
    """Second-order Butterworth high pass; keeps its state between blocks.

    References
    ----------
    The Butterworth polynomials, as in `scipy.signal.butter`, which a test holds.  Near 80 Hz: common practice.
    """

    def __init__(self, rate: int, channels: int = 1, *, cutoff_hz: float = 80.0) -> None:
        self._sos = butter(2, cutoff_hz, "highpass", fs=rate, output="sos")
        self._state = np.zeros((self._sos.shape[0], channels, 2))

    def feed(self, x: Signal) -> Signal:
        """The next block, (channels, n)."""
        y, self._state = sosfilt(self._sos, x, axis=-1, zi=self._state)
        return y.astype(np.float32)


Kind = Literal["low cut", "high cut", "low shelf", "high shelf", "bell"]
BUTTERWORTH_Q = float(np.sqrt(0.5))


def section(kind: Kind, hz: float, rate: int, *, gain_db: float = 0.0, q: float = BUTTERWORTH_Q) -> NDArray[np.float64]:
    """One second-order section, (6,): b0 b1 b2 1 a1 a2.

    Raises
    ------
    ValueError
        The frequency is not between nothing and half of the rate, or `q` is not positive.

    References
    ----------
    Bristow-Johnson, "Cookbook formulae for audio equalizer biquad filter coefficients" (W3C note, 2021): LPF, HPF, lowShelf,
    highShelf with the slope given by Q, peakingEQ.
    """
    if not 0 < hz < rate / 2 or q <= 0:
        raise ValueError(f"no {kind} at {hz} Hz with Q {q} at a rate of {rate}")
    w = 2 * np.pi * hz / rate
    cos, alpha = np.cos(w), np.sin(w) / (2 * q)
    a = 10 ** (gain_db / 40)
    root = 2 * np.sqrt(a) * alpha
    match kind:
        case "low cut":
            b, c = ((1 + cos) / 2, -(1 + cos), (1 + cos) / 2), (1 + alpha, -2 * cos, 1 - alpha)
        case "high cut":
            b, c = ((1 - cos) / 2, 1 - cos, (1 - cos) / 2), (1 + alpha, -2 * cos, 1 - alpha)
        case "bell":
            b, c = (1 + alpha * a, -2 * cos, 1 - alpha * a), (1 + alpha / a, -2 * cos, 1 - alpha / a)
        case _:
            s = 1 if kind == "low shelf" else -1
            plus, minus = a + 1, a - 1
            b = (a * (plus - s * minus * cos + root), s * 2 * a * (minus - s * plus * cos), a * (plus - s * minus * cos - root))
            c = (plus + s * minus * cos + root, -s * 2 * (minus + s * plus * cos), plus + s * minus * cos - root)
    return np.asarray(np.array([*b, *c]) / c[0], np.float64)
