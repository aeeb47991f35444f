"""Flaws of known place laid on sound, and how much of one is left."""

from __future__ import annotations

import numpy as np
from scipy.signal import butter, sosfiltfilt

from faithful_reel.core.treat.cells import Held, treated_cells
from support.sounds import RATE


def held(x, rate=RATE):
    """(n,) or (channels, n) sound as treatments read it."""
    return Held(np.atleast_2d(np.asarray(x, np.float32)), rate)


def whole(sound, treatment):
    """All of a sound, treated: (channels, n)."""
    return np.concatenate(list(treated_cells(sound, treatment)), axis=1)


def level(x):
    """RMS in dB."""
    return float(10 * np.log10(np.mean(np.square(x, dtype=np.float64)) + 1e-20))


def gain(before, after, clean):
    """By how many dB what is wrong went down."""
    wrong = np.sum(np.square(before - clean, dtype=np.float64))
    return float(10 * np.log10(wrong / (np.sum(np.square(after - clean, dtype=np.float64)) + 1e-16)))


def band(x, low, high, rate=RATE):
    """The part between two frequencies, without a shift."""
    kind, edge = ("lowpass", high) if not low else ("bandpass", (low, high))
    return sosfiltfilt(butter(4, edge, kind, fs=rate, output="sos"), np.asarray(x, np.float64))


def clicked(x, places, *, seed=1, rate=RATE):
    """(n,) sound with a click of 0.2 to 4 ms at each place, twenty times as loud as the fine structure there."""
    rng, y = np.random.default_rng(seed), np.array(x, np.float64)
    for at, ms in places:
        n = max(1, round(ms * rate / 1000))
        shape = rng.standard_normal(n) * np.exp(-2.0 * np.arange(n) / n)
        near = x[at - 600 : at + 600]
        fine = np.std(np.diff(near, 2)) / 2 + 1e-4
        y[at : at + n] += shape / np.sqrt(np.mean(shape**2)) * 20 * fine
    return y.astype(np.float32)


def popped(n, seed, rate=RATE):
    """A burst of air, peak 1, in (n,)."""
    t = np.arange(n) / rate
    y = np.sin(2 * np.pi * (24 + 6 * seed) * t) * np.exp(-t / (0.3 * t[-1]))
    y[: rate // 250] *= np.linspace(0, 1, rate // 250)
    y[-n // 4 :] *= np.linspace(1, 0, len(y[-n // 4 :]))
    return y / np.max(np.abs(y))
