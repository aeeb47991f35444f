"""The height of a voice: of frames, of words, and a sound raised or lowered by some semitones."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import soxr
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft

from faithful_reel.core.audio.tempo import Tempo
from faithful_reel.core.units import Signal, Span

VOICED_S, LEAST_VOICED, LOWEST_HZ, HIGHEST_HZ = 0.06, 0.5, 70.0, 400.0
"""A frame is voiced from this autocorrelation on; voices lie between these (common practice)."""
A_WORD, LEAST_FRAMES, MOST_WORDS = 5, 2, 20
"""Frames that are looked at in a word, how many of them are voiced at least, and how many words are looked at, evenly."""
NEARLY = 0.9
"""Of peaks that are nearly as high as the highest the first counts: the others are its multiples (own choice)."""
SMALL_RATE = 11_025
REFERENCE_HZ = 100.0


def heights_of(frames: NDArray[np.float64], rate: float) -> NDArray[np.float64]:
    """Fundamental frequencies in Hz of (n, size) frames, (n,), by autocorrelation; 0 for a frame that is not voiced."""
    size = frames.shape[1]
    frames = np.asarray(frames - frames.mean(axis=1, keepdims=True), np.float32)
    length = next_fast_len(2 * size, real=True)
    spectra = rfft(frames, length, axis=1)
    sums = np.asarray(irfft(spectra.real**2 + spectra.imag**2, length, axis=1)[:, :size], np.float64)
    low, high = max(2, round(rate / HIGHEST_HZ)), min(round(rate / LOWEST_HZ), size - 2)
    if high <= low or not len(frames):
        return np.zeros(len(frames))
    lags = np.arange(low - 1, high + 1)
    rows = sums[:, lags] / np.maximum(sums[:, :1], 1e-12) * size / (size - lags)
    before, at, after = rows[:, :-2], rows[:, 1:-1], rows[:, 2:]
    bend = np.minimum(before - 2 * at + after, -1e-9)
    between = np.clip(0.5 * (before - after) / bend, -0.5, 0.5)
    tops = np.where((at >= before) & (at >= after), at - 0.25 * (before - after) * between, 0.0)
    best = (tops >= NEARLY * tops.max(axis=1, keepdims=True)).argmax(axis=1)
    each = np.arange(len(rows))
    top = tops[each, best]
    voiced = (top > LEAST_VOICED) & (sums[:, 0] >= 1e-7 * size)
    return np.where(voiced, rate / (lags[best + 1] + between[each, best]), 0.0)


def word_heights(words: Sequence[Span | None], sound: Signal, offset: int, rate: int) -> NDArray[np.float64]:
    """Heights of words in semitones over 100 Hz, (words,), in a sound that begins at `offset`; NaN where one is not voiced.

    Of many words every second, third and so on, the others being NaN.
    """
    by = max(1, rate // SMALL_RATE)
    small = np.asarray(sound[: len(sound) // by * by], np.float64).reshape(-1, by).mean(axis=1)
    size = round(VOICED_S * rate / by)
    out = np.full(len(words), np.nan)
    firsts: list[NDArray[np.int64]] = []
    owners: list[int] = []
    every = max(1, -(-len(words) // MOST_WORDS))
    for k, span in enumerate(words):
        if span is None or k % every:
            continue
        low, high = (span.start - offset) // by, (span.stop - offset) // by - size
        if low >= 0 and high > low and high + size <= len(small):
            firsts.append(np.linspace(low, high, A_WORD).astype(np.int64))
            owners.append(k)
    if not firsts:
        return out
    starts = np.concatenate(firsts)
    hz = heights_of(small[starts[:, None] + np.arange(size)], rate / by).reshape(-1, A_WORD)
    for k, row in zip(owners, hz, strict=True):
        if (row > 0).sum() >= LEAST_FRAMES:
            out[k] = 12 * np.log2(np.median(row[row > 0]) / REFERENCE_HZ)
    return out


def raised(x: Signal, rate: int, semitones: float) -> Signal:
    """(n,) audio as many samples long, higher by some semitones: read slower, then played faster."""
    factor = 2 ** (semitones / 12)
    tempo = Tempo(rate, 1 / factor)
    slow = np.concatenate([tempo.feed(x), tempo.flush()])
    y = np.asarray(soxr.resample(slow, rate * factor, rate, quality="VHQ"), np.float32)
    return np.pad(y[: len(x)], (0, max(0, len(x) - len(y))))
