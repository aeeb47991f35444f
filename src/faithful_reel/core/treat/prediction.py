"""Linear prediction of many windows of a sound at once."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray
from scipy import fft

from faithful_reel.core.units import Signal

Rows = NDArray[np.float64]


@numba.njit(cache=True, nogil=True, fastmath=True)
def predictors(r, a, energy):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Prediction error filters by (m, order + 1) autocorrelations, into `a`, as large; their error into `energy`, (m,).

    The recursion of Levinson and Durbin (Makhoul, Proceedings of the IEEE 63, 1975, equations 38a to 38e).
    """
    count, size = r.shape
    row = np.empty(size)
    for m in range(count):
        error = r[m, 0] * (1 + 1e-5) + 1e-9
        row[0] = 1.0
        for k in range(1, size):
            total = r[m, k]
            for i in range(1, k):
                total += row[i] * r[m, k - i]
            reflection = -total / error
            for i in range(1, k // 2 + 1):
                left, right = row[i], row[k - i]
                row[i] = left + reflection * right
                if i != k - i:
                    row[k - i] = right + reflection * left
            row[k] = reflection
            error *= 1 - reflection * reflection
        energy[m] = error
        for k in range(size):
            a[m, k] = row[k]


@numba.njit(cache=True, nogil=True, fastmath=True)
def two_sided(x, a, hop, out):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Two-sided residual A(1/z) A(z) x / ||a|| of (n,) sound, filter m over samples m * hop to (m + 1) * hop, into `out`.

    `x` has `order` samples more on either side.
    """
    count, size = a.shape
    order = size - 1
    c = np.empty(size)
    taps = np.empty(size, x.dtype)
    for m in range(count):
        for k in range(size):
            total = 0.0
            for i in range(size - k):
                total += a[m, i] * a[m, i + k]
            c[k] = total
        scale = 1.0 / np.sqrt(c[0])
        for k in range(size):
            taps[k] = c[k] * scale
        length = min(hop, out.shape[0] - m * hop)
        y, middle = out[m * hop : m * hop + length], x[m * hop + order : m * hop + order + length]
        for n in range(length):
            y[n] = taps[0] * middle[n]
        for k in range(1, size):
            left = x[m * hop + order - k : m * hop + order - k + length]
            right = x[m * hop + order + k : m * hop + order + k + length]
            for n in range(length):
                y[n] += taps[k] * (left[n] + right[n])


def autocorrelations(x: Signal, window: int, hop: int, order: int) -> Rows:
    """Of Hann windows of (n,) sound, centred on successive stretches of `hop` samples: (ceil(n / hop), order + 1)."""
    count = -(-len(x) // hop)
    padded = np.pad(x, ((window - hop) // 2, count * hop - len(x) + window), "edge")
    frames = np.lib.stride_tricks.sliding_window_view(padded, window)[::hop][:count]
    size = fft.next_fast_len(window + order, real=True)
    taper = np.hanning(window).astype(x.dtype)
    out = np.empty((count, order + 1))
    for k in range(0, count, 128):
        power = np.square(np.abs(fft.rfft(frames[k : k + 128] * taper, size)))
        out[k : k + 128] = fft.irfft(power, size)[:, : order + 1]
    return out
