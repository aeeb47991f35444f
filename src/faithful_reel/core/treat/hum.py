"""Hum: the mains and its harmonics, followed as they drift, and taken away without ringing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d, uniform_filter1d
from scipy.signal import resample_poly

from faithful_reel.core.jobs import Watch
from faithful_reel.core.treat.cells import Near, Sound, over_cells
from faithful_reel.core.units import Signal

MAINS = (50.0, 60.0)
LOW_RATE, HARMONICS, TOP_HZ = 2200, 16, 1000.0
WINDOW_S, HOP_S, GRID_HZ, RANGE_HZ = 2.0, 0.5, 0.02, 1.0
BESIDE_HZ = 6.0
STEP_PENALTY = 1.2
"""Of a change of 0.02 Hz in half a second, in units of the score."""
LEAST_SCORE = 0.17
"""The mean over harmonics and windows stands so far over that of frequencies at which no mains runs (own measure)."""
FRAME_S, STEP_S = 0.1, 0.05
WIDTHS_S = (0.5, 1.5, 5.0, 15.0)
"""Standard deviations of the window over which a harmonic's amplitude is found: longer ones where it stands still."""
WEIGHT_POWER, ROUNDS, REFINED = 1.5, 3, 8
LEAST_OVER_DB = 3.0
"""A harmonic that does not stand so far over what is beside it in the pauses is left alone."""
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
    mono = low.mean(axis=0)
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
    by = max(1, sound.rate // LOW_RATE)
    reach = 64 * by

    def of_cell(cell: Near) -> NDArray[np.float32]:
        skip = (-cell.at) % by  # the grid begins at the sound's first sample
        y = resample_poly(cell.sound[:, skip:], 1, by, axis=1)
        first = -(-cell.start // by) - (cell.at + skip) // by
        last = -(-cell.stop // by) - (cell.at + skip) // by
        return np.asarray(y[:, first:last], np.float32)

    parts = list(over_cells(sound, reach, of_cell, watch, "looking for hum"))
    return np.concatenate(parts, axis=1), sound.rate / by


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
    return out, hz[keep]


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


def _viterbi(score: Track) -> tuple[Track, NDArray[np.intp]]:
    """The best sums at the end, (states,), and where each state came from, (windows, states)."""
    count, states = score.shape
    reach = 6
    moves = np.arange(-reach, reach + 1)
    cost = STEP_PENALTY * np.abs(moves) / reach
    total, back = score[0].copy(), np.zeros((count, states), np.intp)
    for t in range(1, count):
        wide = np.pad(total, reach, constant_values=-1e9)
        table = np.lib.stride_tricks.sliding_window_view(wide, 2 * reach + 1) - cost
        best = np.argmax(table, axis=1)
        back[t] = np.clip(np.arange(states) + moves[best], 0, states - 1)
        total = table[np.arange(states), best] + score[t]
    return total, back


def _amplitudes(low: NDArray[np.float32], rate: float, base: float, track: Track) -> Hum | None:
    """Amplitudes of the harmonics along a track of frequencies, which is made finer by their phases."""
    n = low.shape[1]
    hop, size = round(STEP_S * rate), round(FRAME_S * rate)
    count = n // hop + 1
    times = np.arange(count) * hop / rate
    windows = np.arange(len(track)) * round(HOP_S * rate) / rate + WINDOW_S / 2
    deviation = gaussian_filter1d(np.interp(times, windows, track) - base, 0.5 / STEP_S, mode="nearest")
    step = hop / rate
    top = min(HARMONICS, int(min(TOP_HZ, 0.45 * rate) / (base + RANGE_HZ)))
    quiet_power = np.square(np.pad(low, ((0, 0), (0, hop * count - n)))).mean(axis=0).reshape(count, hop).mean(axis=1)
    for _ in range(REFINED):  # the phases that are left make the track finer
        phase = _integrated(deviation, step)
        demodulated = _demodulated(low.mean(axis=0), rate, base, phase, hop, size, top)
        smooth = np.array([_mean(row, REFINE_S / STEP_S) for row in demodulated])
        weight = np.arange(1, top + 1)[:, None] ** 2 * np.square(np.abs(smooth))
        turn = np.angle(smooth[:, 1:] * np.conj(smooth[:, :-1])) / np.arange(1, top + 1)[:, None]
        weight = np.minimum(weight[:, 1:], weight[:, :-1]) + 1e-30
        slope = (turn * weight).sum(axis=0) / weight.sum(axis=0) / (2 * np.pi * step)
        slope = np.clip(gaussian_filter1d(slope, SLOPE_S / STEP_S, mode="nearest"), -0.2, 0.2)
        deviation += np.concatenate([slope[:1], (slope[1:] + slope[:-1]) / 2, slope[-1:]])
    phase = _integrated(deviation, step)
    quiet = quiet_power <= np.quantile(quiet_power[quiet_power > 0], QUIET) if np.any(quiet_power > 0) else quiet_power > 0
    channels = [_demodulated(x, rate, base, phase, hop, size, top) for x in low]
    chosen: list[NDArray[np.complex128]] = []
    kept = np.zeros(top, bool)
    for rows in channels:
        best, least = np.zeros_like(rows), np.inf
        for width in WIDTHS_S:
            smooth = np.array([_mean(row, width / STEP_S) for row in rows])
            left = float(np.sum(np.square(np.abs(rows - smooth))[:, quiet]))
            if left < 1.12 * least:  # of windows that do about as well the longest: it takes least of a voice along
                best, least = smooth, min(left, least)
        beside = np.median(np.square(np.abs(rows - best))[:, quiet], axis=1) + 1e-30
        kept |= np.square(np.abs(best))[:, quiet].mean(axis=1) > beside * 10 ** (LEAST_OVER_DB / 10)
        chosen.append(best)
    if not kept.any():
        return None
    amplitudes = np.array(chosen) * kept[None, :, None]
    level = 10 * np.log10(np.mean(np.sum(np.square(np.abs(amplitudes)), axis=1) / 2) + 1e-20)
    harmonics = tuple(int(h) + 1 for h in np.flatnonzero(kept))
    mains = base + float(deviation.mean())
    return Hum(base, float(np.ptp(deviation)), float(level), harmonics, phase, amplitudes) if mains else None


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
    y = x.astype(np.complex128)
    for h in range(top):
        y = y * turning
        padded = np.pad(y, (size // 2, size + hop))
        frames = np.lib.stride_tricks.sliding_window_view(padded, size)[::hop][: len(phase)]
        out[h] = 2 * frames @ window
    return out


def _mean(row: NDArray[np.complex128], width: float) -> NDArray[np.complex128]:
    """Mean of (n,) under a Gaussian of so many frames, in which moments count by how little lies there beside the tone."""
    left = np.square(np.abs(row))
    smooth = row
    for _ in range(ROUNDS):
        left = uniform_filter1d(left, 5, mode="nearest")
        weight = 1 / (left + np.percentile(left, 5) + 1e-30) ** WEIGHT_POWER
        weight /= weight.max()
        total = gaussian_filter1d(weight, width, mode="nearest", truncate=3) + 1e-30
        parts = [gaussian_filter1d(weight * part, width, mode="nearest", truncate=3) for part in (row.real, row.imag)]
        smooth = (parts[0] + 1j * parts[1]) / total
        left = np.square(np.abs(row - smooth))
    return smooth


class HumTaken:
    """Takes a hum away: its harmonics with their phases are subtracted, so that nothing rings and nothing else changes."""

    reach = 0

    def __init__(self, hum: Hum, rate: int, *, share: float = 1.0) -> None:
        self._hum, self._rate, self._share = hum, rate, share
        by = max(1, rate // LOW_RATE)
        self._hop = round(STEP_S * rate / by) * by

    def hum(self, start: int, stop: int) -> Signal:
        """The hum itself: (channels, n)."""
        at = np.arange(start, stop, dtype=np.float64)
        places = np.arange(len(self._hum.phase)) * float(self._hop)
        first, last = (int(np.clip(p // self._hop, 0, len(places) - 1)) for p in (start - self._hop, stop + 2 * self._hop))
        near = slice(first, last + 1)
        turn = np.exp(1j * (2 * np.pi * self._hum.mains * at / self._rate + np.interp(at, places[near], self._hum.phase[near])))
        out = np.zeros((len(self._hum.amplitudes), len(at)))
        wave = np.ones(len(at), np.complex128)
        for h in range(1, max(self._hum.harmonics, default=0) + 1):
            wave *= turn
            if h not in self._hum.harmonics:
                continue
            for c, rows in enumerate(self._hum.amplitudes):
                row = rows[h - 1]
                real, imag = (np.interp(at, places[near], part[near]) for part in (row.real, row.imag))
                out[c] += real * wave.real - imag * wave.imag
        return out

    def treated(self, cell: Near) -> Signal:
        """The cell's own stretch, (channels, n)."""
        x = cell.sound[:, cell.first : cell.last]
        return (x - self._share * self.hum(cell.start, cell.stop)).astype(np.float32)
