"""The odds that a boundary is a join: a logistic regression on what stands right before and right after it.

Learned from natural boundaries of readings that packages carry and of made voices, against the same places with the other side
altered in level, tone and floor and a few milliseconds off (`benchmarks/splice/fit.py`, which prints the figures below).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.units import Signal

AROUND_S = 0.16
"""So much on either side is looked at."""
STEPS_MS = (5, 20, 60, 150)
FLUX_STEP_S, FLUX_FRAME_S, FLUX_STEPS = 0.005, 0.010, 12
LEAST_DB = -100.0

PAUSE = (
    (4.065, 3.991, 5.962, 4.896, 7.868, 5.476, 8.725, 5.580, 2.362, -0.616),
    (4.015, 4.793, 4.526, 4.893, 5.580, 5.324, 5.161, 5.425, 3.061, 8.109),
    (0.541, 0.206, 0.243, 0.059, 0.352, 0.058, 0.143, -0.215, 0.385, 1.026),
    0.204,
)
TOUCH = (
    (3.014, 2.712, 4.342, 5.627, 8.860, 4.420, 9.778, 6.935, 2.747, 0.104),
    (3.304, 3.036, 3.286, 5.970, 4.339, 4.038, 4.128, 6.860, 3.637, 12.420),
    (0.298, -0.033, 1.214, -0.031, -0.024, 0.113, 0.060, -0.104, 0.783, 0.963),
    0.362,
)
"""Mean and spread of every feature, its weight, and the constant: of boundaries in pauses, and of those where words touch."""


def features(left: Signal, right: Signal, rate: int) -> NDArray[np.float64]:
    """(10,): steps of level and of third-octaves over 5, 20, 60 and 150 ms, of the floor, flux, and click.

    `left` is (n,) audio that ends at the boundary, `right` (m,) audio that begins there; both are to hold `AROUND_S`.
    """
    a, b = np.asarray(left, np.float64), np.asarray(right, np.float64)
    found: list[float] = []
    for ms in STEPS_MS:
        size = max(8, round(ms * rate / 1000))
        mine, theirs = a[-size:], b[:size]
        found.append(abs(_db(mine) - _db(theirs)))
        if ms > STEPS_MS[0]:
            found.append(float(np.mean(np.abs(_bands(mine, rate) - _bands(theirs, rate)))))
    hop = round(0.005 * rate)
    floors = [_db_of(np.percentile(_powers(s, hop), 15)) for s in (a[-round(0.1 * rate) :], b[: round(0.1 * rate)])]
    found.append(abs(floors[0] - floors[1]))
    step, frame = round(FLUX_STEP_S * rate), round(FLUX_FRAME_S * rate)
    both = np.concatenate([a, b])
    middle = len(a)
    starts = middle + step * np.arange(-FLUX_STEPS, FLUX_STEPS) - frame // 2
    starts = starts[(starts >= 0) & (starts + frame <= len(both))]
    rows = _bands(both[starts[:, None] + np.arange(frame)], rate, 10)
    flux = np.abs(np.diff(rows, axis=0)).mean(axis=1) if len(rows) > 2 else np.zeros(1)
    centre = len(flux) // 2
    found.append(float(flux[max(0, centre - 2) : centre + 2].max() - np.median(flux)))
    bend = np.abs(np.diff(both, 2))
    near = round(0.003 * rate)
    outer = np.concatenate([bend[max(0, middle - 20 * near) : middle - near], bend[middle + near : middle + 20 * near]])
    inner = bend[max(0, middle - near) : middle + near]
    found.append(
        float(20 * np.log10((inner.max() + 1e-9) / (np.percentile(outer, 99) + 1e-9))) if len(outer) and len(inner) else 0.0
    )
    return np.array(found)


def logit(left: Signal, right: Signal, rate: int, *, in_pause: bool) -> float:
    """The logarithm of the odds that a boundary between two sounds, (n,) each, is a join; 0 is even."""
    mean, spread, weight, constant = (np.asarray(v) for v in (PAUSE if in_pause else TOUCH))
    return float(((features(left, right, rate) - mean) / spread) @ weight + constant)


def _db(x: NDArray[np.float64]) -> float:
    return _db_of(float(np.mean(np.square(x))) if len(x) else 0.0)


def _db_of(power: float) -> float:
    return max(LEAST_DB, float(10 * np.log10(power + 1e-12)))


def _powers(x: NDArray[np.float64], hop: int) -> NDArray[np.float64]:
    count = len(x) // hop
    return np.mean(np.square(x[: count * hop].reshape(count, hop)), axis=1) if count else np.zeros(1)


def _bands(x: NDArray[np.float64], rate: int, count: int = 18) -> NDArray[np.float64]:
    """Levels in dB of bands even in octaves from 100 Hz to 7.5 kHz, (..., count), of (..., n) audio."""
    size = x.shape[-1]
    spectra = np.fft.rfft(x * np.hanning(size), axis=-1)
    power = (spectra.real**2 + spectra.imag**2) / max(1, size)
    edges = np.searchsorted(np.fft.rfftfreq(size, 1 / rate), np.geomspace(100, min(7500.0, 0.45 * rate), count + 1))
    firsts, lasts = edges[:-1], np.minimum(np.maximum(edges[1:], edges[:-1] + 1), power.shape[-1])
    firsts = np.minimum(firsts, lasts - 1)
    sums = np.concatenate([np.zeros((*power.shape[:-1], 1)), np.cumsum(power, axis=-1)], axis=-1)
    return np.asarray(10 * np.log10((sums[..., lasts] - sums[..., firsts]) / (lasts - firsts) + 1e-10))
