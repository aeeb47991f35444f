"""Samples drawn anew from what lies on both sides of them: linear prediction, by how long the gap is."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solve_toeplitz
from scipy.signal import lfilter

from faithful_reel.core.errors import SignalError
from faithful_reel.core.units import Signal, samples

LONGEST_S = 0.02
"""Longer gaps hold more than a few periods of a voice, and what is drawn there is no longer what was said (own measure)."""
SHORT_S, MIDDLE_S = 0.0006, 0.004
SHORT_ORDER, MIDDLE_ORDER, LONG_ORDER, ROUNDS = 80, 160, 550, 3
"""Coefficients at 44.1 kHz; at other rates as many as span the same time (own measure)."""
AROUND_S = 0.05
"""So much on either side is looked at."""
LEAST = 64
"""Samples that must be there on a side to predict from it."""


def predictor(x: NDArray[np.float64], order: int) -> NDArray[np.float64]:
    """Coefficients 1, a1 … ap of the filter that whitens (n,) sound, by the autocorrelation method: (order + 1,)."""
    return predictor_of((x,), order)


def predictor_of(parts: Sequence[NDArray[np.float64]], order: int) -> NDArray[np.float64]:
    """The same of several stretches, (n,) each, as of one sound: (order + 1,).

    References
    ----------
    Makhoul, "Linear prediction: a tutorial review", Proceedings of the IEEE 63 (1975), equation 33.
    """
    r = np.zeros(order + 1)
    for x in parts:
        size = 1 << (2 * len(x) + order).bit_length()
        spectrum = np.fft.rfft(x * np.hanning(len(x)), size)
        r += np.fft.irfft(np.abs(spectrum) ** 2, size)[: order + 1]
    r[0] = r[0] * (1 + 1e-9) + 1e-12
    return np.concatenate([[1.0], -solve_toeplitz(r[:-1], r[1:])])


def burg(x: NDArray[np.float64], order: int) -> NDArray[np.float64]:
    """Coefficients 1, a1 … ap of (n,) sound by Burg's method, whose filter is always stable: (order + 1,).

    References
    ----------
    Burg, "Maximum entropy spectral analysis" (1975); the recursion as in Kay, "Modern spectral estimation" (1988, from memory).
    """
    f, b = np.array(x[1:], np.float64), np.array(x[:-1], np.float64)
    a = np.ones(1)
    for _ in range(min(order, len(x) - 2)):
        k = -2.0 * float(f @ b) / (float(f @ f) + float(b @ b) + 1e-20)
        a = np.concatenate([a, [0.0]])
        a = a + k * a[::-1]
        f, b = (f + k * b)[1:], (b + k * f)[:-1]
    return a


def redrawn(x: Signal, first: int, last: int, rate: int) -> Signal:
    """A copy of (n,) sound whose samples `first` up to `last` are drawn anew from both sides; all others stay as they are.

    Up to 4 ms the least prediction error over the gap decides, with coefficients that are found anew three times with what was
    drawn; beyond that both sides are continued into it and crossfaded.

    Raises
    ------
    SignalError
        The gap is longer than 20 ms, or there is too little sound beside it.

    References
    ----------
    Janssen, Veldhuis and Vries, "Adaptive interpolation of discrete-time signals that can be modeled as autoregressive
    processes", IEEE Transactions on Acoustics, Speech and Signal Processing 34 (1986).
    """
    length = last - first
    if not 0 <= first < last <= len(x):
        raise ValueError(f"{first} to {last} is no stretch of {len(x)} samples")
    if length > samples(LONGEST_S, rate):
        raise SignalError(f"{1000 * length / rate:.0f} ms are too long to be drawn anew: at most {1000 * LONGEST_S:.0f} ms.")
    around = samples(AROUND_S, rate)
    start, stop = max(0, first - around), min(len(x), last + around)
    near = np.asarray(x[start:stop], np.float64)
    a, b = first - start, last - start
    if a < LEAST and len(near) - b < LEAST:
        raise SignalError("There is too little sound beside what is marked to draw it anew.")
    mean = float(np.mean(np.concatenate([near[:a], near[b:]])))
    near = near - mean
    if length <= samples(MIDDLE_S, rate) and min(a, len(near) - b) >= LEAST:
        order = SHORT_ORDER if length <= samples(SHORT_S, rate) else MIDDLE_ORDER
        drawn = _least_error(near, a, b, _at_rate(order, rate))
    else:
        drawn = _continued(near, a, b, _at_rate(LONG_ORDER, rate))
    out = np.array(x, np.float32)
    out[first:last] = drawn + mean
    return out


def _at_rate(order: int, rate: int) -> int:
    return max(16, round(order * rate / 44_100))


def _least_error(x: NDArray[np.float64], first: int, last: int, order: int) -> NDArray[np.float64]:
    """The samples of a gap for which the prediction error is least (Janssen and others 1986, equations 9 to 12)."""
    y = x.copy()
    y[first:last] = np.interp(np.arange(first, last), [first - 1, last], [y[first - 1], y[last]])
    order = min(order, first, len(x) - last, len(x) // 3)
    for _ in range(ROUNDS):
        a = predictor(y, order)
        rows = last - first + order
        table = np.zeros((rows, last - first))
        for k in range(last - first):
            table[k : k + order + 1, k] = a
        known = y.copy()
        known[first:last] = 0.0
        errors = lfilter(a, [1.0], known[: last + order])[first : last + order]
        y[first:last] = np.linalg.lstsq(table[: len(errors)], -errors, rcond=None)[0]
    return y[first:last]


def _continued(x: NDArray[np.float64], first: int, last: int, order: int) -> NDArray[np.float64]:
    """Both sides of a gap predicted into it, and crossfaded at equal gain; one side alone where the other is too short."""
    length = last - first
    before, after = x[:first], x[last:][::-1]
    sides = [_onward(side, length, order) if len(side) >= LEAST else None for side in (before, after)]
    if sides[0] is None or sides[1] is None:
        return sides[0] if sides[0] is not None else np.asarray(sides[1])[::-1]
    fade = 0.5 - 0.5 * np.cos(np.pi * (np.arange(length) + 0.5) / length)
    return sides[0] * (1 - fade) + sides[1][::-1] * fade


def _onward(x: NDArray[np.float64], length: int, order: int) -> NDArray[np.float64]:
    """Sound continued by so many samples."""
    a = burg(x, min(order, len(x) // 3))
    past = x[::-1][: len(a) - 1]
    state = np.array([-np.dot(a[k + 1 :], past[: len(a) - 1 - k]) for k in range(len(a) - 1)])
    return np.asarray(lfilter([1.0], a, np.zeros(length), zi=state)[0])
