"""Noise reduction block by block: the noise is followed through the pauses, gains come from a log-spectral estimator."""

from __future__ import annotations

import math

import numba
import numpy as np
from numpy.typing import NDArray
from scipy import fft
from scipy.special import exp1

from faithful_reel.core.units import Signal

FRAME = 2048
HOP = 512
WINDOW = np.hanning(FRAME + 1)[:-1].astype(np.float32)
BINS = FRAME // 2 + 1
Spectra = NDArray[np.complex64]

SMOOTHING = 0.97
"""Weight of the last frame in the decision-directed estimate (Ephraim and Malah 1984 use 0.98)."""
LEAST_PRIOR = 10 ** (-25 / 10)
MOST_ABSENT = 0.995
SURELY_ABSENT = 2.0
"""Where no voice is likely around, a bin up to so much over the noise is noise."""
OVER = 10 ** (1.0 / 10)
"""The noise is taken for 1 dB more than it is: a room that drifts between two pauses leaves no musical noise (own measure)."""
LOCAL_BINS, GLOBAL_BINS = 1, 15
LOW_SNR_DB, HIGH_SNR_DB = -10.0, -2.5
"""Between these the prior signal-to-noise ratio makes a voice likely (Cohen 2002: -10 and -5)."""

_TABLE_LOW, _TABLE_STEP, _TABLE_SIZE = -6.0, 0.02, 501
_INTEGRAL = np.exp(0.5 * exp1(10.0 ** (_TABLE_LOW + _TABLE_STEP * np.arange(_TABLE_SIZE)))).astype(np.float32)
"""exp(E1(v) / 2) over log10 v: the factor of the log-spectral estimator (Ephraim and Malah 1985, equation 20)."""


@numba.njit(cache=True, nogil=True, fastmath=True)
def _likely(x, low, high):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """How likely a voice is by a smoothed prior, 0 to 1 over a logarithmic ramp (Cohen 2002, equation 26)."""
    if x <= low:
        return 0.0
    if x >= high:
        return 1.0
    return math.log(x / low) / math.log(high / low)


@numba.njit(cache=True, nogil=True, fastmath=True)
def _weigh(spectra, prints, at, step, past, recursive, sums, table, depth):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Weigh (frames, bins) spectra in place by OM-LSA gains.

    past: (bins,) the last frame's a-priori term; recursive: (bins,) its smoothed prior.  `at` is the first frame's
    position in units of `step` samples between the (segments, bins) prints.
    """
    frames, bins = spectra.shape
    last = prints.shape[0] - 1
    low, high = 10.0 ** (LOW_SNR_DB / 10.0), 10.0 ** (HIGH_SNR_DB / 10.0)
    gains_floor = 10.0 ** (-depth / 20.0)
    log_floor = math.log(gains_floor)
    post = np.empty(bins)
    for t in range(frames):
        where = min(max((at + t * HOP) / step, 0.0), float(last))
        k0 = int(where)
        k1 = min(k0 + 1, last)
        part = where - k0
        total = 0.0
        for k in range(bins):
            noise = OVER * (prints[k0, k] * (1.0 - part) + prints[k1, k] * part)
            value = spectra[t, k]
            g = (value.real * value.real + value.imag * value.imag) / noise
            post[k] = min(g, 1e8)
            prior = SMOOTHING * past[k] + (1.0 - SMOOTHING) * max(post[k] - 1.0, 0.0)
            recursive[k] = 0.7 * recursive[k] + 0.3 * prior
            total += recursive[k]
        sums[0] = 0.0
        for k in range(bins):
            sums[k + 1] = sums[k] + recursive[k]
        frame_likely = _likely(total / bins, low, high)
        for k in range(bins):
            likely = frame_likely
            if likely > 0.0:
                a = max(0, k - GLOBAL_BINS)
                b = min(bins, k + GLOBAL_BINS + 1)
                likely *= _likely((sums[b] - sums[a]) / (b - a), low, high)
            if likely > 0.0:
                a = max(0, k - LOCAL_BINS)
                b = min(bins, k + LOCAL_BINS + 1)
                likely *= _likely((sums[b] - sums[a]) / (b - a), low, high)
            absent = min(MOST_ABSENT, 1.0 - likely)
            prior = max(SMOOTHING * past[k] + (1.0 - SMOOTHING) * max(post[k] - 1.0, 0.0), LEAST_PRIOR)
            wiener = prior / (1.0 + prior)
            v = wiener * post[k]
            if absent >= MOST_ABSENT and v < SURELY_ABSENT:
                past[k] = wiener * wiener * post[k]
                spectra[t, k] *= gains_floor
                continue
            spot = (math.log10(max(v, 1e-6)) - _TABLE_LOW) / _TABLE_STEP
            factor = table[int(spot)] if spot < table.shape[0] else 1.0
            gain = min(wiener * factor, 1.0)
            present = 1.0 / (1.0 + absent / (1.0 - absent) * (1.0 + prior) * math.exp(-min(v, 200.0)))
            past[k] = gain * gain * post[k]
            weighed = math.exp(present * math.log(max(gain, gains_floor)) + (1.0 - present) * log_floor)
            spectra[t, k] *= weighed


class NoiseReduction:
    """Lowers noise by at most `depth_db`, never to nothing, and leaves a voice that stands over it.

    Optimally modified log-spectral amplitude with the decision-directed prior; Hann analysis and synthesis at 75 % overlap.
    Own are the bounds, and that the noise is not guessed from minima but taken from the pauses, see `NoisePrints`.  Output
    lags input by `FRAME` samples; `flush` gives the rest.

    Parameters
    ----------
    prints : (bins,), (segments, bins) or (channels, segments, bins) float array
        Mean power of the noise's spectrum, as `NoisePrints` gives it; segments are `step` samples apart, between them
        it is interpolated.

    References
    ----------
    Cohen, "Optimal speech enhancement under signal presence uncertainty using log-spectral amplitude estimator", IEEE Signal
    Processing Letters 9 (2002); Ephraim and Malah, IEEE Transactions on Acoustics, Speech and Signal Processing 32 (1984)
    and 33 (1985).
    """

    def __init__(self, prints: NDArray[np.floating], channels: int = 1, *, depth_db: float = 12.0, step: int = 1) -> None:
        self._prints = np.ascontiguousarray(
            np.broadcast_to(
                np.maximum(prints, 1e-16).astype(np.float32).reshape(-1, *np.atleast_2d(prints).shape[-2:]),
                (channels, *np.atleast_2d(prints).shape[-2:]),
            )
        )
        self._channels, self._depth, self._step = channels, float(depth_db), float(step)
        self._in = np.zeros((channels, FRAME - HOP), np.float32)
        self._out = np.zeros((channels, FRAME - HOP), np.float32)
        self._past = np.zeros((channels, BINS))
        self._recursive = np.zeros((channels, BINS))
        self._sums = np.zeros(BINS + 1)
        self._skip = FRAME - HOP
        self._at = HOP - FRAME // 2
        self._fed = self._given = 0

    def feed(self, x: Signal) -> Signal:
        """The next block, (channels, n); gives what is finished, which lags."""
        return self.synthesised(self.analysed(x))

    def flush(self) -> Signal:
        """The last samples: as many as were fed in all."""
        left = self._fed - self._given
        return self.feed(np.zeros((self._channels, 2 * FRAME), np.float32))[:, :left]

    def analysed(self, x: Signal) -> Spectra:
        """First half of `feed`: the weighed spectra, (channels, frames, bins), that the next block completes."""
        self._fed += x.shape[-1]
        self._in = np.concatenate([self._in, x.astype(np.float32, copy=False)], axis=-1)
        count = max(0, (self._in.shape[-1] - FRAME) // HOP + 1)
        spectra = np.empty((self._channels, count, BINS), np.complex64)
        for c in range(self._channels if count else 0):
            frames = np.lib.stride_tricks.sliding_window_view(self._in[c], FRAME)[::HOP][:count]
            spectra[c] = fft.rfft(frames * WINDOW, axis=-1)
            _weigh(
                spectra[c], self._prints[c], self._at, self._step, self._past[c], self._recursive[c], self._sums,
                _INTEGRAL, self._depth,
            )  # fmt: skip
        self._at += count * HOP
        self._in = self._in[:, count * HOP :]
        return spectra

    def synthesised(self, spectra: Spectra) -> Signal:
        """Second half of `feed`: back to sound, overlapped and added."""
        used = spectra.shape[1] * HOP
        result = np.zeros((self._channels, used), np.float32)
        for c in range(self._channels if used else 0):
            shaped = fft.irfft(spectra[c], n=FRAME, axis=-1) * (WINDOW / np.float32(1.5))
            buffer = np.zeros(used + FRAME - HOP, np.float32)
            buffer[: FRAME - HOP] = self._out[c]
            for part in range(FRAME // HOP):  # frames that do not overlap are added in one go
                rows = shaped[part :: FRAME // HOP].reshape(-1)
                buffer[part * HOP : part * HOP + rows.size] += rows
            result[c] = buffer[:used]
            self._out[c] = buffer[used:]
        drop = min(self._skip, used)
        self._skip -= drop
        self._given += used - drop
        return result[:, drop:]


def noise_print(x: Signal) -> NDArray[np.float64]:
    """Mean power spectrum of a stretch of room tone, (n,), in `FRAME`-sample Hann frames: (FRAME // 2 + 1,)."""
    if len(x) < FRAME:
        x = np.pad(x, (0, FRAME - len(x)), mode="wrap")
    frames = np.lib.stride_tricks.sliding_window_view(x.astype(np.float64), FRAME)[::HOP]
    return np.asarray(np.mean(np.abs(np.fft.rfft(frames * WINDOW, axis=-1)) ** 2, axis=0))


class NoisePrints:
    """Prints of the noise through a chapter: one for every `step` samples, from the quiet stretches there or nearby.

    A room that grows louder or softer is followed; what is between two quiet places is interpolated.
    """

    def __init__(self, length: int, channels: int, step: int) -> None:
        self.step = step
        count = max(1, -(-length // step))
        self._sums = np.zeros((channels, count, BINS))
        self._counts = np.zeros(count)

    def add(self, x: Signal, at: int) -> None:
        """Take a quiet stretch, (channels, n), that begins at sample `at`; one shorter than a frame is repeated."""
        if x.shape[1] < FRAME:
            x = np.pad(x, ((0, 0), (0, FRAME - x.shape[1])), mode="wrap")
        starts = np.arange(0, x.shape[1] - FRAME + 1, HOP)
        frames = np.lib.stride_tricks.sliding_window_view(x, FRAME, axis=-1)[:, starts]
        power = np.abs(fft.rfft(frames * WINDOW, axis=-1)) ** 2
        segments = np.minimum((starts + at + FRAME // 2) // self.step, len(self._counts) - 1)
        for segment in np.unique(segments):
            here = segments == segment
            self._sums[:, segment] += power[:, here].sum(axis=1)
            self._counts[segment] += np.count_nonzero(here)

    def prints(self) -> NDArray[np.float32]:
        """(channels, segments, bins) mean powers; what no quiet stretch reached is taken from both sides.

        Each is averaged with its neighbours by how much they hold, so that a short pause does not make a rough print.
        """
        known = np.flatnonzero(self._counts)
        if not len(known):
            return np.full((*self._sums.shape[:2], BINS), 1e-16, np.float32)
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
        return out
