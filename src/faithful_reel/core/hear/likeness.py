"""How alike two spoken words sound: cepstra of both, aligned by dynamic time warping; and which of many is unlike the rest."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy.fft import dct

from faithful_reel.core.units import EAR_RATE, Signal, Span

WINDOW, HOP, BANDS, CEPSTRA = 400, 160, 26, 13
"""25 ms windows every 10 ms, 26 bands, 13 cepstra: the usual front end of speech recognition (Davis and Mermelstein, 1980)."""
FEWEST = 3
ODD_TIMES = 1.45
ODD_SPREADS = 4.0


@lru_cache(maxsize=1)
def _bank() -> NDArray[np.float32]:
    """Triangles, even on the mel scale 2595 log10(1 + f / 700), from 100 Hz to 7 kHz."""
    mel = np.linspace(2595 * np.log10(1 + 100 / 700), 2595 * np.log10(1 + 7000 / 700), BANDS + 2)
    hz = 700 * (10 ** (mel / 2595) - 1)
    bins = np.fft.rfftfreq(512, 1 / EAR_RATE)
    rows = [
        np.clip(np.minimum((bins - a) / (b - a), (c - bins) / (c - b)), 0, None)
        for a, b, c in zip(hz, hz[1:], hz[2:], strict=False)
    ]
    return np.asarray(rows, np.float32)


def cepstra(x: Signal) -> NDArray[np.float32]:
    """(frames, 13) mel cepstra of (n,) audio at 16 kHz; their mean is taken out, so that distance and level do not count."""
    count = 1 + (len(x) - WINDOW) // HOP
    if count < 2:
        return np.zeros((0, CEPSTRA), np.float32)
    y = np.append(x[:1], x[1:] - 0.97 * x[:-1])
    frames = np.lib.stride_tricks.sliding_window_view(y, WINDOW)[::HOP][:count] * np.hamming(WINDOW)
    power = np.abs(np.fft.rfft(frames, 512)) ** 2
    c = np.asarray(dct(np.log(power @ _bank().T + 1e-8), norm="ortho")[:, :CEPSTRA], np.float32)
    found: NDArray[np.float32] = c - c.mean(axis=0)
    return found


@njit(cache=True, nogil=True)
def _warped(a: NDArray[np.float32], b: NDArray[np.float32]) -> float:  # pragma: no cover - compiled
    """Mean distance along the best path (Sakoe and Chiba, 1978, symmetric steps, weights 1, 2, 1)."""
    n, m = a.shape[0], b.shape[0]
    row = np.full(m + 1, 1e30)
    row[0] = 0.0
    for i in range(n):
        diagonal = row[0]
        row[0] = 1e30
        for j in range(m):
            d = 0.0
            for k in range(a.shape[1]):
                e = a[i, k] - b[j, k]
                d += e * e
            d = np.sqrt(d)
            best = min(diagonal + 2 * d, row[j + 1] + d, row[j] + d)
            diagonal = row[j + 1]
            row[j + 1] = best
    return float(row[m] / (n + m))


def unlikeness(words: Sequence[NDArray[np.float32]]) -> NDArray[np.float64]:
    """(n, n) distances of words' cepstra; infinite where one is too short."""
    n = len(words)
    table = np.zeros((n, n))
    for i in range(n):
        for j in range(i):
            table[i, j] = table[j, i] = _warped(words[i], words[j]) if len(words[i]) and len(words[j]) else np.inf
    return table


def odd_ones(table: NDArray[np.float64]) -> list[tuple[int, float]]:
    """Which of at least three spoken words are unlike the rest: (index, times the usual distance).

    Each is known by its median distance to the others; it is odd where that is `ODD_TIMES` the median of all and
    `ODD_SPREADS` usual deviations above it.
    """
    n = len(table)
    usable = [i for i in range(n) if np.isfinite(np.delete(table[i], i)).any()]
    if len(usable) < FEWEST:
        return []
    own = np.array([np.median([table[i, j] for j in usable if j != i]) for i in usable])
    middle = float(np.median(own))
    spread = 1.4826 * float(np.median(np.abs(own - middle)))
    least = max(ODD_TIMES * middle, middle + ODD_SPREADS * spread) if n > FEWEST else ODD_TIMES * middle
    return [(i, float(v / middle)) for i, v in zip(usable, own, strict=True) if v > least]


def heard_as(x: Signal, spans: Sequence[Span]) -> list[NDArray[np.float32]]:
    """The cepstra of stretches of (n,) audio at 16 kHz, each (frames, 13)."""
    return [cepstra(np.asarray(x[s.start : s.stop], np.float32)) for s in spans]
