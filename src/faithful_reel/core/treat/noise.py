"""The room's noise, taken from the pauses and lowered evenly, the voice left: a log-spectral estimator that looks both ways."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray
from scipy import fft
from scipy.special import exp1

from faithful_reel.core.jobs import Unwatched, Watch, watched
from faithful_reel.core.treat.cells import Near, Sound
from faithful_reel.core.treat.spectral import Powers, Spectra, frame_of, hop_of, weighed, window_of
from faithful_reel.core.units import Signal, Span, ratio, samples

SMOOTHING = 0.96
"""Weight of the neighbouring frame in the decision-directed estimate (Ephraim and Malah 1984 use 0.98)."""
LEAST_PRIOR = 10 ** (-25 / 10)
MOST_ABSENT = 0.995
LOCAL_BINS, GLOBAL_BINS = 1, 15
LOW_SNR_DB, HIGH_SNR_DB = -10.0, -2.5
"""Between these the prior signal-to-noise ratio makes a voice likely (Cohen 2002: -10 and -5)."""
WARM_S = 0.6
"""So much on either side is looked at; 0.26 s make no difference to the whole file (as measured)."""
NEAR_S, EASED = 0.08, 5
"""Nearer than this to a voice the estimator decides; elsewhere the gain is the floor, eased in over so many frames."""
LIKELY = 0.5
MOST_DEPTH_DB = 30.0
PRINT_S = 2.0

_TABLE_SHIFT, _TABLE_LOW, _TABLE_HIGH = 17, -20, 7
"""The table of the estimator's factor is read by the upper bits of a number: 64 steps an octave from 2^-20 to 2^7."""


def _table() -> NDArray[np.float32]:
    """exp(E1(v) / 2), the factor of the log-spectral estimator (Ephraim and Malah 1985, equation 20)."""
    first = np.array([2.0**_TABLE_LOW], np.float32).view(np.int32)[0] >> _TABLE_SHIFT
    last = np.array([2.0**_TABLE_HIGH], np.float32).view(np.int32)[0] >> _TABLE_SHIFT
    bits = ((np.arange(first, last + 1) << _TABLE_SHIFT) + (1 << (_TABLE_SHIFT - 1))).astype(np.int32)
    return np.exp(0.5 * exp1(bits.view(np.float32).astype(np.float64))).astype(np.float32)


INTEGRAL = _table()
FIRST = int(np.array([2.0**_TABLE_LOW], np.float32).view(np.int32)[0] >> _TABLE_SHIFT)


@numba.njit(cache=True, nogil=True, fastmath=True)
def _likely(x, low, high):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """How likely a voice is by a smoothed prior, 0 to 1 over a logarithmic ramp (Cohen 2002, equation 26)."""
    if x <= low:
        return 0.0
    if x >= high:
        return 1.0
    return math.log(x / low) / math.log(high / low)


@numba.njit(cache=True, nogil=True, fastmath=True)
def _factor(v, table, first):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """The estimator's factor for a number, out of the table."""
    k = (np.float32(v).view(np.int32) >> 17) - first
    k = max(k, 0)
    return table[k] if k < table.shape[0] else np.float32(1.0)


@numba.njit(cache=True, nogil=True, fastmath=True)
def priors_into(post, out, table, first, backward):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Decision-directed a-priori ratios of (frames, bins) a-posteriori ones, from one side; the larger of it and `out` stays."""
    frames, bins = post.shape
    past = np.zeros(bins, np.float32)
    for n in range(frames):
        t = frames - 1 - n if backward else n
        for k in range(bins):
            p = post[t, k]
            prior = np.float32(SMOOTHING) * past[k] + np.float32(1.0 - SMOOTHING) * max(p - np.float32(1.0), np.float32(0.0))
            prior = max(prior, np.float32(LEAST_PRIOR))
            wiener = prior / (np.float32(1.0) + prior)
            gain = min(wiener * _factor(wiener * p, table, first), np.float32(1.0))
            past[k] = gain * gain * p
            out[t, k] = max(out[t, k], prior)


@numba.njit(cache=True, nogil=True, fastmath=True)
def gains_into(post, priors, floors, speaks, out, likely, table, first):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """OM-LSA gains of (frames, bins) into `out`; `likely` (frames,) says how likely a voice is in each frame.

    floors: (frames, bins) least gains.  speaks: (frames,) 1 where a voice was found by other means.
    """
    frames, bins = post.shape
    low, high = 10.0 ** (LOW_SNR_DB / 10.0), 10.0 ** (HIGH_SNR_DB / 10.0)
    smooth = np.empty(bins)
    sums = np.zeros(bins + 1)
    for t in range(frames):
        before, after = max(0, t - 1), min(frames - 1, t + 1)
        for k in range(bins):
            smooth[k] = 0.25 * priors[before, k] + 0.5 * priors[t, k] + 0.25 * priors[after, k]
            sums[k + 1] = sums[k] + smooth[k]
        whole = _likely(sums[bins] / bins, low, high)
        likely[t] = whole
        whole = max(whole, speaks[t])
        for k in range(bins):
            here = whole
            if here > 0.0:
                a = max(0, k - GLOBAL_BINS)
                b = min(bins, k + GLOBAL_BINS + 1)
                here *= _likely((sums[b] - sums[a]) / (b - a), low, high)
            if here > 0.0:
                a = max(0, k - LOCAL_BINS)
                b = min(bins, k + LOCAL_BINS + 1)
                here *= _likely((sums[b] - sums[a]) / (b - a), low, high)
            absent = min(MOST_ABSENT, 1.0 - here)
            prior = priors[t, k]
            wiener = prior / (1.0 + prior)
            v = wiener * post[t, k]
            floor = floors[t, k]
            if absent >= MOST_ABSENT and v < 1.0:
                out[t, k] = floor
                continue
            gain = min(wiener * _factor(v, table, first), 1.0)
            present = 1.0 / (1.0 + absent / (1.0 - absent) * (1.0 + prior) * math.exp(-min(v, 200.0)))
            out[t, k] = max(gain, floor) ** present * floor ** (1.0 - present)


@dataclass(frozen=True)
class RoomNoise:
    """The room's noise through a recording: mean powers (channels, segments, bins) of frames, `step` samples apart."""

    prints: Powers
    step: int
    rate: int

    def at(self, channel: int, centres: NDArray[np.int64]) -> Powers:
        """Interpolated at some samples: (centres, bins)."""
        where = np.clip((centres - self.step / 2) / self.step, 0, self.prints.shape[1] - 1)
        k = np.minimum(where.astype(np.intp), max(0, self.prints.shape[1] - 2))
        part = (where - k)[:, None].astype(np.float32)
        rows = self.prints[channel]
        after = rows[np.minimum(k + 1, len(rows) - 1)]
        return np.asarray(rows[k] * (1 - part) + after * part, np.float32)

    @property
    def usual(self) -> Powers:
        """The geometric mean over time: (channels, bins)."""
        return np.asarray(np.exp(np.mean(np.log(self.prints), axis=1)), np.float32)

    def level_db(self, powers: Powers) -> float:
        """The RMS in dB of a noise of such powers, (bins,), in all channels together."""
        frame = frame_of(self.rate)
        window = window_of(self.rate).astype(np.float64)
        total = 2 * float(np.sum(powers, dtype=np.float64)) / (frame * float(np.sum(window**2)))
        return 10 * float(np.log10(total + 1e-20))


def room_noise(sound: Sound, stretches: Sequence[Span], *, step_s: float = PRINT_S, watch: Watch | None = None) -> RoomNoise:
    """The room's noise from stretches in which nobody speaks, several short ones joined.

    A room that grows louder or softer is followed: what lies between two quiet places is interpolated.
    """
    prints = NoisePrints(sound.frames, sound.channels, samples(step_s, sound.rate), sound.rate)
    longest = sound.rate
    for span in watched(stretches, watch or Unwatched(), len(stretches)):
        for start in range(span.start, span.stop, longest):
            prints.add(sound.read(start, min(span.stop, start + longest)), start)
    return RoomNoise(prints.prints(), prints.step, sound.rate)


class NoiseReduced:
    """Lowers the room's noise to one even level and leaves a voice that stands over it.

    Optimally modified log-spectral amplitude with the decision-directed prior taken from both sides.  Own are the bounds, that
    the noise is taken from the pauses, and that the least gain is such that what is left is level while the room drifts.

    Parameters
    ----------
    noise : RoomNoise
    speaks : sequence of Span
        Where somebody speaks; farther from it than 80 ms, and where the estimator agrees, all is room.
    depth_db : float
        By how much the usual noise is lowered, at most 30.
    share : float
        How much of the treated sound is heard, the rest untreated, 0 to 1.

    References
    ----------
    Cohen, "Optimal speech enhancement under signal presence uncertainty using log-spectral amplitude estimator", IEEE Signal
    Processing Letters 9 (2002); Ephraim and Malah, IEEE Transactions on Acoustics, Speech and Signal Processing 32 (1984)
    and 33 (1985).
    """

    def __init__(self, noise: RoomNoise, speaks: Sequence[Span], *, depth_db: float = 12.0, share: float = 1.0) -> None:
        self._noise, self._share = noise, np.float32(share)
        self._starts = np.array([span.start for span in speaks], np.int64)
        self._stops = np.array([span.stop for span in speaks], np.int64)
        self._target = noise.usual * np.float32(10 ** (-min(depth_db, MOST_DEPTH_DB) / 10))
        self._least = np.float32(ratio(-MOST_DEPTH_DB))
        self.reach = frame_of(noise.rate) + samples(WARM_S, noise.rate)

    def _near_voice(self, centres: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Whether a voice was found within 80 ms of some samples."""
        if not len(self._starts):
            return np.zeros(len(centres), bool)
        wide = samples(NEAR_S, self._noise.rate)
        k = np.searchsorted(self._starts, centres + wide, side="right") - 1
        return (k >= 0) & (self._stops[np.maximum(k, 0)] > centres - wide)

    def gains(self, spectra: Spectra, channel: int, centres: NDArray[np.int64]) -> Powers:
        """The gain of every bin of every frame, (frames, bins), of spectra as large around some samples."""
        noise = np.maximum(self._noise.at(channel, centres), np.float32(1e-16))
        post = np.minimum((spectra.real**2 + spectra.imag**2) / noise, np.float32(1e8)).astype(np.float32)
        priors = np.zeros_like(post)
        priors_into(post, priors, INTEGRAL, FIRST, True)
        priors_into(post, priors, INTEGRAL, FIRST, False)
        floors = np.clip(np.sqrt(self._target[channel] / noise), self._least, np.float32(1.0))
        near = self._near_voice(centres)
        out = np.empty_like(post)
        likely = np.zeros(len(post), np.float32)
        gains_into(post, priors, floors, np.zeros(len(post), np.float32), out, likely, INTEGRAL, FIRST)
        voice = near | (likely > LIKELY)
        eased = np.convolve(np.pad(voice, EASED // 2, "edge"), np.ones(EASED) / EASED, "valid").astype(np.float32)
        out[eased < 0.01] = floors[eased < 0.01]
        between = (eased >= 0.01) & (eased < 0.99)
        share = eased[between, None]
        out[between] = out[between] ** share * floors[between] ** (1 - share)
        return out

    def treated(self, cell: Near) -> Signal:
        """The cell's own stretch, (channels, n)."""
        made = weighed(cell, self._noise.rate, self.gains)
        if self._share == 1:
            return made
        return self._share * made + (1 - self._share) * cell.sound[:, cell.first : cell.last]


class NoisePrints:
    """Prints of the noise through a chapter: one for every `step` samples, from the quiet stretches there or nearby."""

    def __init__(self, length: int, channels: int, step: int, rate: int) -> None:
        self.step = step
        self._hop, self._frame = hop_of(rate), frame_of(rate)
        self._window = window_of(rate)
        count = max(1, -(-length // step))
        self._sums = np.zeros((channels, count, self._frame // 2 + 1))
        self._counts = np.zeros(count)

    def add(self, x: Signal, at: int) -> None:
        """Take a quiet stretch, (channels, n), that begins at sample `at`; one shorter than a frame is repeated."""
        if x.shape[1] < self._frame:
            x = np.pad(x, ((0, 0), (0, self._frame - x.shape[1])), mode="wrap")
        starts = np.arange(0, x.shape[1] - self._frame + 1, self._hop)
        frames = np.lib.stride_tricks.sliding_window_view(x, self._frame, axis=-1)[:, starts]
        power = np.abs(fft.rfft(frames * self._window, axis=-1)) ** 2
        segments = np.minimum((starts + at + self._frame // 2) // self.step, len(self._counts) - 1)
        for segment in np.unique(segments):
            here = segments == segment
            self._sums[:, segment] += power[:, here].sum(axis=1)
            self._counts[segment] += np.count_nonzero(here)

    def prints(self) -> Powers:
        """(channels, segments, bins) mean powers; what no quiet stretch reached is taken from both sides.

        Each is averaged with its neighbours by how much they hold, so that a short pause does not make a rough print.
        """
        known = np.flatnonzero(self._counts)
        if not len(known):
            return np.full(self._sums.shape, 1e-16, np.float32)
        kernel = np.array([0.5, 1.0, 0.5])
        out = np.empty(self._sums.shape, np.float32)
        weights = np.convolve(self._counts, kernel, "same")[: len(self._counts)] if len(self._counts) > 2 else self._counts
        there = np.flatnonzero(weights)
        place = np.arange(len(weights))
        for c, sums in enumerate(self._sums):
            if len(self._counts) > 2:
                padded = np.pad(sums, ((1, 1), (0, 0)))
                sums = 0.5 * padded[:-2] + padded[1:-1] + 0.5 * padded[2:]  # noqa: PLW2901 - the smoothed ones
            means = sums[there] / weights[there, None]
            after = np.minimum(np.searchsorted(there, place), len(there) - 1)
            before = np.maximum(after - (there[after] > place), 0)
            gap = np.maximum(there[after] - there[before], 1)
            part = np.clip((place - there[before]) / gap, 0, 1)[:, None]
            out[c] = means[before] * (1 - part) + means[after] * part
        return np.maximum(out, np.float32(1e-16))
