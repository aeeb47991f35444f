"""Clicks of a few samples, in words as in pauses: what the sound on neither side leads to."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import scipy
from numpy.typing import NDArray

from faithful_reel.core.audio.files import audio_info, mono_blocks
from faithful_reel.core.jobs import Unwatched, Watch
from faithful_reel.core.units import EAR_RATE, Signal, Span

FRAME_S, NEAR_S, FAR_S, PART_S = 0.025, 0.001, 0.035, 20
"""Windows of the prediction; a click is held against what lies from 1 to 35 ms on either side of it: the pulses of a voice come
again within that time, and after a burst the breath goes on.
"""
CONTRAST_DB, UNDER_DB, LEAST_DB = 16.0, 12.0, -40.0
"""It stands out of that by so much, and is not softer than so much under the voice (own rules: docs/decisions/0044)."""
Rows = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Click:
    """A click: its place in samples at 16 kHz, and its peak in dBFS."""

    at: int
    peak_db: float


def clicks_in(path: Path, watch: Watch | None = None, within: Span | None = None, weights: Sequence[float] = ()) -> list[Click]:
    """The clicks of a recording, looked for at its own rate, in bounded memory; of a stretch of it, in samples at 16 kHz, and
    counted from there, where `within` is given.  Mixed down as `downmixed` does.

    Raises
    ------
    FileProblem
        As `blocks`.
    """
    info = audio_info(path)
    rate, watch = info.rate, watch or Unwatched()

    def parts() -> Iterator[Signal]:
        at = 0
        for block in mono_blocks(path, rate, weights):
            at += len(block)
            watch.tick(at / max(1, info.frames, at), "looking for clicks")
            yield block

    found = [Click(round(at * EAR_RATE / rate), peak) for at, peak in _clicks(parts(), rate)]
    return [Click(c.at - within.start, c.peak_db) for c in found if within.start <= c.at < within.stop] if within else found


def clicks_of(x: Signal, rate: int) -> list[tuple[int, float]]:
    """Where (n,) audio has clicks: (sample, peak in dBFS)."""
    return list(_clicks(iter((x,)), rate))


def _clicks(parts: Iterator[Signal], rate: int) -> Iterator[tuple[int, float]]:
    """The clicks of a sound that comes in parts; it is looked at 20 s at a time, with what lies around them."""
    around, size = 2 * round((FAR_S + FRAME_S) * rate), PART_S * rate
    held, start, fresh, ended = np.zeros(0), 0, 0, False  # `held` begins at `start` of the sound, and is new from `fresh` on
    while not ended:
        while len(held) < fresh + size + around and not ended:
            block = next(parts, None)
            ended = block is None
            held = held if block is None else np.concatenate([held, np.asarray(block, np.float64)])
        stop = len(held) if ended else fresh + size
        yield from ((start + at, peak) for at, peak in _found(held, rate) if fresh <= at < stop)
        let_go = max(0, stop - around)
        held, start, fresh = held[let_go:], start + let_go, stop - let_go


def _found(x: Rows, rate: int) -> list[tuple[int, float]]:
    """Clicks of (n,) audio: (sample, peak in dBFS).

    The two-sided residual of linear prediction, A(1/z) A(z) x / ||a||, is a matched filter of an impulse in an autoregressive
    signal (Vaseghi, Advanced Digital Signal Processing and Noise Reduction, ch. on impulsive noise; from memory).  The prediction
    is that of the window itself, in which a single sample is told best, and that of the windows beside it, which a wider click is
    not in.
    """
    if len(x) < 4 * round(FRAME_S * rate):
        return []
    voice = np.abs(x)[np.abs(x) > np.median(np.abs(x))]
    loud = 10 * np.log10(np.mean(np.square(voice)) + 1e-20) if len(voice) else 0.0
    least = 10 ** (max(loud - UNDER_DB, LEAST_DB) / 20)
    near, far = round(NEAR_S * rate), round(FAR_S * rate)
    spread = far - near + 1
    found: dict[int, float] = {}
    for level, peaks in _residuals(x, rate):
        most = scipy.ndimage.maximum_filter1d(level, spread, mode="constant")
        beside = np.full_like(level, 1e-6)
        shift = near + spread // 2
        beside[shift:] = np.maximum(beside[shift:], most[:-shift])
        beside[:-shift] = np.maximum(beside[:-shift], most[shift:])
        own = scipy.ndimage.maximum_filter1d(level, 2 * near + 1, mode="constant")
        out = (level > beside * 10 ** (CONTRAST_DB / 20)) & (level == own) & (peaks > least)
        for at in np.flatnonzero(out).tolist():
            if not any(abs(at - k) <= near for k in found):
                found[at] = 20 * float(np.log10(peaks[at]))
    return sorted(found.items())


def _residuals(x: Rows, rate: int) -> Iterator[tuple[Rows, Rows]]:
    """Two-sided residuals of (n,) samples, and how large a single sample that gave them is, (n,) each: by two predictions."""
    order = 48 if rate > 2 * EAR_RATE else 32  # as measured
    hop = round(FRAME_S * rate) // 2
    count, size = -(-len(x) // hop), scipy.fft.next_fast_len(2 * hop + order, real=True)
    padded = np.pad(x, (hop // 2, count * hop - len(x) + 2 * hop), "edge")
    frames = np.lib.stride_tricks.sliding_window_view(padded, 2 * hop)[::hop][:count]
    lags = scipy.fft.irfft(np.abs(scipy.fft.rfft(frames * np.hanning(2 * hop), size)) ** 2, size)[:, : order + 1]
    rows = np.arange(count)
    beside = lags[np.clip(rows - 2, 0, count - 1)] + lags[np.clip(rows + 2, 0, count - 1)]
    wide = np.pad(x, (order, count * hop - len(x) + order), "edge")  # a step where the file begins or ends would be a click
    length = scipy.fft.next_fast_len(hop + 4 * order, real=True)
    spectra = scipy.fft.rfft(np.lib.stride_tricks.sliding_window_view(wide, hop + 2 * order)[::hop][:count], length)
    for r in (lags, beside):
        a = _predictors(r)
        energy = np.sum(np.square(a), axis=1)[:, None]
        y = np.abs(scipy.fft.irfft(spectra * np.abs(scipy.fft.rfft(a, length)) ** 2, length)[:, order : order + hop])
        yield (y / np.sqrt(energy)).ravel()[: len(x)], (y / energy).ravel()[: len(x)]


def _predictors(r: Rows) -> Rows:
    """Prediction error filters by (m, order + 1) autocorrelations: (m, order + 1); the recursion of Levinson and Durbin."""
    a = np.zeros_like(r)
    a[:, 0] = 1.0
    error = r[:, 0] * (1 + 1e-5) + 1e-9
    for k in range(1, r.shape[1]):
        reflection = -np.einsum("ij,ij->i", a[:, :k], r[:, k:0:-1]) / error
        a[:, 1 : k + 1] += reflection[:, None] * a[:, k - 1 :: -1] if k == 1 else reflection[:, None] * a[:, :k][:, ::-1]
        error = error * (1 - np.square(reflection))
    return a
