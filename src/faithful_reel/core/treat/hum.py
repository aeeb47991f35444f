"""Hum: the mains and its harmonics, followed as they drift, and taken away without ringing."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d, uniform_filter1d

from faithful_reel.core.jobs import Watch
from faithful_reel.core.treat.cells import Near, Sound, mixed, over_cells
from faithful_reel.core.treat.decimation import MEAN_OF, decimated
from faithful_reel.core.units import Signal

MAINS = (50.0, 60.0)
LOW_RATE, HARMONICS, TOP_HZ = 2200, 16, 1000.0
WINDOW_S, HOP_S, GRID_HZ, RANGE_HZ = 2.0, 0.5, 0.02, 1.0
BESIDE_HZ = 6.0
STEP_PENALTY, MOST_MOVES = 1.2, 6
"""Of a change of 0.02 Hz in half a second, in units of the score."""
LEAST_SCORE = 0.17
"""The mean over harmonics and windows stands so far over that of frequencies at which no mains runs (own measure)."""
FRAME_S, STEP_S = 0.1, 0.05
WIDTHS_S = (0.5, 1.5, 5.0, 15.0)
"""Standard deviations of the window over which a harmonic's amplitude is found: longer ones where it stands still."""
WEIGHT_POWER, ROUNDS, REFINED = 1.5, 3, 8
ABOUT = 1.12
"""What explains about as much is preferred where it is simpler: a frequency that stands, a longer window."""
LEAST_OVER_DB = 3.0
"""A harmonic that does not stand so far over what is beside it in the pauses is left alone."""
STANDING = ((1.0, 0.5), (4.0, 1.5), (12.0, 3.0), (12.0, 3.0))
"""A frequency that stands is found by how far the phases turn in so many seconds, meant over so many."""
QUIET, SLOPE_S, REFINE_S = 0.1, 0.5, 0.3
Track = NDArray[np.float64]


@dataclass(frozen=True)
class Hum:
    """A hum as it was found: `mains` in Hz, how far it drifts, its level in dB RMS, and the harmonics that are taken away.

    `phase` (n,), in radians beyond that of an even `mains`, and `amplitudes` (channels, harmonics, n) stand every 50 ms.
    """

    mains: float
    drift_hz: float
    level_db: float
    harmonics: tuple[int, ...]
    phase: Track
    amplitudes: NDArray[np.complex128]


def found_hum(sound: Sound, *, mains: float | None = None, watch: Watch | None = None) -> Hum | None:
    """The hum of a sound, or None where there is none that stands over the room's noise.

    Parameters
    ----------
    mains : float, Hz
        50 or 60; else that of the two which is found.

    Notes
    -----
    Own method: the sum over harmonics of log(1 + P(h f) / 4 M), M the median beside each, is followed through windows of two
    seconds by dynamic programming (Viterbi 1967).  Each harmonic is then demodulated, and its amplitude is a mean under a
    Gaussian in which the quiet moments count most.
    """
    low, low_rate = _low(sound, watch)
    if low.shape[1] < 3 * WINDOW_S * low_rate:
        return None
    mono = mixed(low).astype(np.float32)
    power, hz = _windows(mono, low_rate)
    best: tuple[float, float, Track] | None = None
    for base in MAINS if mains is None else (mains,):
        score, track = _followed(power, hz, base)
        nothing = max(_followed(power, hz, base + by)[0] for by in (-4.3, 4.3))
        if score - nothing > LEAST_SCORE and (best is None or score - nothing > best[0]):
            best = score - nothing, base, track
    if best is None:
        return None
    return _amplitudes(low, low_rate, best[1], best[2])


def _low(sound: Sound, watch: Watch | None) -> tuple[NDArray[np.float32], float]:
    """The sound at about 2.2 kHz, (channels, n), and its rate: 32 MB for an hour of one channel."""
    by = low_by(sound.rate)
    reach = 64 * by

    def of_cell(cell: Near) -> NDArray[np.float32]:
        skip = (-cell.at) % by  # the grid begins at the sound's first sample
        y = decimated(cell.sound[:, skip:], by)
        first = -(-cell.start // by) - (cell.at + skip) // by
        last = -(-cell.stop // by) - (cell.at + skip) // by
        return np.asarray(y[:, first:last], np.float32)

    parts = list(over_cells(sound, reach, of_cell, watch, "looking for hum"))
    return np.concatenate(parts, axis=1), sound.rate / by


def low_by(rate: int) -> int:
    """By how much sound is decimated to about 2.2 kHz: a multiple of four where that can be."""
    by = max(1, rate // LOW_RATE)
    return by // MEAN_OF * MEAN_OF if by >= MEAN_OF else by


def _windows(x: NDArray[np.float32], rate: float) -> tuple[NDArray[np.float32], Track]:
    """Power spectra of windows of two seconds, (windows, bins) up to the highest harmonic, and their frequencies."""
    size, hop = round(WINDOW_S * rate), round(HOP_S * rate)
    padded = 1 << (4 * size - 1).bit_length()
    hz = np.fft.rfftfreq(padded, 1 / rate)
    keep = hz <= min(TOP_HZ, 0.45 * rate) + BESIDE_HZ
    window = np.hanning(size).astype(np.float32)
    frames = np.lib.stride_tricks.sliding_window_view(x, size)[::hop]
    out = np.empty((len(frames), int(keep.sum())), np.float32)
    for k in range(0, len(frames), 64):
        out[k : k + 64] = np.square(np.abs(np.fft.rfft(frames[k : k + 64] * window, padded)[:, keep]))
    return out, np.asarray(hz[keep], np.float64)


def _followed(power: NDArray[np.float32], hz: Track, base: float) -> tuple[float, Track]:
    """How strongly a frequency near `base` and its harmonics stand out, and which it is in every window."""
    grid = np.arange(base - RANGE_HZ, base + RANGE_HZ + GRID_HZ / 2, GRID_HZ)
    step = hz[1] - hz[0]
    score = np.zeros((len(power), len(grid)))
    count = 0
    for h in range(1, HARMONICS + 1):
        if h * (base + RANGE_HZ) > hz[-1] - BESIDE_HZ:
            break
        a, b = (round((h * base + by) / step) for by in (-BESIDE_HZ - RANGE_HZ, BESIDE_HZ + RANGE_HZ))
        median = np.median(power[:, max(0, a) : b], axis=1, keepdims=True) + 1e-20
        at = h * grid / step
        k = at.astype(np.intp)
        part = at - k
        there = power[:, k] * (1 - part) + power[:, k + 1] * part
        score += np.log1p(there / median / 4)
        count += 1
    score /= max(1, count)
    quiet = power.sum(axis=1)
    calm = quiet <= np.percentile(quiet, 60)
    weight = np.where(calm, 1.0, 0.4)[:, None]
    total, back = _viterbi(score * weight)
    path = np.empty(len(score), np.intp)
    path[-1] = int(np.argmax(total))
    for t in range(len(score) - 1, 0, -1):
        path[t - 1] = back[t, path[t]]
    return float(score[np.arange(len(score)), path][calm].mean()), grid[path]


@numba.njit(cache=True, nogil=True)
def _viterbi(score):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """The best sums at the end, (states,), and where each state came from, (windows, states)."""
    count, states = score.shape
    total, next_total = score[0].copy(), np.empty(states)
    back = np.zeros((count, states), np.int64)
    for t in range(1, count):
        for k in range(states):
            best, came = -1e300, k
            for move in range(-MOST_MOVES, MOST_MOVES + 1):
                if 0 <= k + move < states:
                    value = total[k + move] - STEP_PENALTY * abs(move) / MOST_MOVES
                    if value > best:
                        best, came = value, k + move
            next_total[k] = best + score[t, k]
            back[t, k] = came
        total[:] = next_total
    return total, back


def _amplitudes(low: NDArray[np.float32], rate: float, base: float, track: Track) -> Hum | None:
    """Amplitudes of the harmonics along a track of frequencies, which is made finer by their phases."""
    n = low.shape[1]
    hop, size = round(STEP_S * rate), round(FRAME_S * rate)
    count = n // hop + 1
    step = hop / rate
    windows = np.arange(len(track)) * round(HOP_S * rate) / rate + WINDOW_S / 2
    deviation = gaussian_filter1d(np.interp(np.arange(count) * step, windows, track) - base, 0.5 / STEP_S, mode="nearest")
    top = min(HARMONICS, int(min(TOP_HZ, 0.45 * rate) / (base + RANGE_HZ)))
    number = np.arange(1.0, top + 1)[:, None]
    begun = _integrated(deviation, step)
    first = _demodulated(mixed(low).astype(np.float32), rate, base, begun, hop, size, top)

    def turned(by: Track) -> NDArray[np.complex128]:
        return np.asarray(first * np.exp(-1j * number * (_integrated(by, step) - begun)))

    def left_over(by: Track, lag: int = 1, width: float = REFINE_S) -> Track:
        """The frequency, in Hz, by which the phases of the harmonics still turn, from frame to frame or over so many."""
        smooth = _means(turned(by), width / STEP_S)
        weight = number**2 * np.square(np.abs(smooth))
        turn = np.angle(smooth[:, lag:] * np.conj(smooth[:, :-lag])) / number
        weight = np.minimum(weight[:, lag:], weight[:, :-lag]) + 1e-30
        return np.asarray((turn * weight).sum(axis=0) / weight.sum(axis=0) / (2 * np.pi * step * lag))

    standing = np.full(count, float(np.median(deviation)))
    for _ in range(REFINED):  # the phases that are left make the track finer
        slope = np.clip(gaussian_filter1d(left_over(deviation), SLOPE_S / STEP_S, mode="nearest"), -0.2, 0.2)
        deviation += np.concatenate([slope[:1], (slope[1:] + slope[:-1]) / 2, slope[-1:]])
    for _ in range(ROUNDS):
        standing += float(np.clip(np.mean(left_over(standing)), -0.2, 0.2))
    for lag_s, width in STANDING:
        if count > 2 * lag_s / STEP_S:
            standing += float(np.median(left_over(standing, round(lag_s / STEP_S), width)))
    power = np.square(np.pad(low, ((0, 0), (0, hop * count - n)))).mean(axis=0).reshape(count, hop).mean(axis=1)
    quiet = power <= np.quantile(power[power > 0], QUIET) if np.any(power > 0) else power > 0

    def unexplained(by: Track, width: float) -> float:
        rows = turned(by)
        return float(np.sum(np.square(np.abs(rows - _means(rows, width / STEP_S)))[:, quiet]))

    if min(unexplained(standing, width) for width in WIDTHS_S) < ABOUT * min(unexplained(deviation, w) for w in WIDTHS_S):
        deviation = standing
    phase = _integrated(deviation, step)
    chosen: list[NDArray[np.complex128]] = []
    kept = np.zeros(top, bool)
    for x in low:
        rows = _demodulated(x, rate, base, phase, hop, size, top)
        best, least = np.zeros_like(rows), np.inf
        for width in WIDTHS_S:
            smooth = _means(rows, width / STEP_S)
            left = float(np.sum(np.square(np.abs(rows - smooth))[:, quiet]))
            if left < ABOUT * least:  # of windows that do about as well the longest: it takes least of a voice along
                best, least = smooth, min(left, least)
        beside = np.median(np.square(np.abs(rows - best))[:, quiet], axis=1) + 1e-30
        kept |= np.square(np.abs(best))[:, quiet].mean(axis=1) > beside * 10 ** (LEAST_OVER_DB / 10)
        chosen.append(best)
    if not kept.any():
        return None
    amplitudes = np.array(chosen) * kept[None, :, None]
    level = 10 * np.log10(np.mean(np.sum(np.square(np.abs(amplitudes)), axis=1) / 2) + 1e-20)
    harmonics = tuple(int(h) + 1 for h in np.flatnonzero(kept))
    return Hum(base, float(np.ptp(deviation)), float(level), harmonics, phase, amplitudes)


def _integrated(deviation: Track, step: float) -> Track:
    return 2 * np.pi * step * np.concatenate([[0.0], np.cumsum((deviation[1:] + deviation[:-1]) / 2)])


def _demodulated(
    x: NDArray[np.float32], rate: float, base: float, phase: Track, hop: int, size: int, top: int
) -> NDArray[np.complex128]:
    """Complex amplitudes of the harmonics, (top, frames), in frames of 0.1 s around every 50 ms."""
    n = len(x)
    at = np.arange(n)
    turning = np.exp(-1j * (2 * np.pi * base * at / rate + np.interp(at, np.arange(len(phase)) * hop, phase)))
    window = np.hanning(size + 2)[1:-1]
    window /= window.sum()
    out = np.empty((top, len(phase)), np.complex128)

    def framed(row: NDArray[np.inexact]) -> NDArray[np.inexact]:
        padded = np.pad(row, (size // 2, size + hop))
        return np.asarray(np.lib.stride_tricks.sliding_window_view(padded, size)[::hop][: len(phase)] @ window)

    inside = np.maximum(framed(np.ones(n)), 0.05)  # at either end a part of the window only
    y = x.astype(np.complex128)
    for h in range(top):
        y = y * turning
        out[h] = 2 * framed(y) / inside
    return out


def _means(rows: NDArray[np.complex128], width: float) -> NDArray[np.complex128]:
    """Means of (tones, n) under about a Gaussian of so many frames; moments count by how little lies there beside each tone."""
    left = np.square(np.abs(rows))
    smooth = rows
    for _ in range(ROUNDS):
        left = uniform_filter1d(left, 5, axis=1, mode="nearest")
        weight = 1 / (left + np.percentile(left, 5, axis=1, keepdims=True) + 1e-30) ** WEIGHT_POWER
        weight = np.maximum(weight / weight.max(axis=1, keepdims=True), 1e-9)  # what a running sum can hold beside the largest
        smooth = _eased(weight * rows, width) / (_eased(weight, width) + 1e-30)
        left = np.square(np.abs(rows - smooth))
    return smooth


def _eased(rows: NDArray[np.inexact], width: float) -> NDArray[np.inexact]:
    """Three moving means of (tones, n), which make about a Gaussian of that standard deviation."""
    size = round(np.sqrt(4 * width**2 + 1)) // 2 * 2 + 1
    for _ in range(3):
        rows = uniform_filter1d(rows, size, axis=1, mode="nearest")
    return rows


@numba.njit(cache=True, nogil=True, fastmath=True)
def _sounded(out, start, hop, mains_turn, phase, real, imag):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """The hum of one channel from sample `start` on into `out`, (n,); amplitudes (harmonics, points) stand every `hop`."""
    points = phase.shape[0]
    for i in range(out.shape[0]):
        at = (start + i) / hop
        k = min(int(at), points - 1)
        after = min(k + 1, points - 1)
        part = min(at - k, 1.0)
        angle = mains_turn * (start + i) + phase[k] * (1.0 - part) + phase[after] * part
        turn_re, turn_im = math.cos(angle), math.sin(angle)
        wave_re, wave_im, total = 1.0, 0.0, 0.0
        for h in range(real.shape[0]):
            wave_re, wave_im = wave_re * turn_re - wave_im * turn_im, wave_re * turn_im + wave_im * turn_re
            re = real[h, k] * (1.0 - part) + real[h, after] * part
            im = imag[h, k] * (1.0 - part) + imag[h, after] * part
            total += re * wave_re - im * wave_im
        out[i] = total


class HumTaken:
    """Takes a hum away: its harmonics with their phases are subtracted, so that nothing rings and nothing else changes."""

    reach = 0

    def __init__(self, hum: Hum, rate: int, *, share: float = 1.0) -> None:
        self._hum, self._rate, self._share = hum, rate, share
        by = low_by(rate)
        self._hop = round(STEP_S * rate / by) * by

    def hum(self, start: int, stop: int) -> Signal:
        """The hum itself: (channels, n)."""
        out = np.empty((len(self._hum.amplitudes), stop - start))
        turn = 2 * np.pi * self._hum.mains / self._rate
        top = max(self._hum.harmonics, default=0)
        for row, rows in zip(out, self._hum.amplitudes, strict=True):
            real, imag = np.ascontiguousarray(rows[:top].real), np.ascontiguousarray(rows[:top].imag)
            _sounded(row, start, float(self._hop), turn, self._hum.phase, real, imag)
        return out

    def treated(self, cell: Near) -> Signal:
        """The cell's own stretch, (channels, n)."""
        x = cell.sound[:, cell.first : cell.last]
        return (x - self._share * self.hum(cell.start, cell.stop)).astype(np.float32)
