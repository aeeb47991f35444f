"""One pass over the sound: RMS, peak, true peak, BS.1770 loudness, noise floor, head and tail."""

from __future__ import annotations

import math
from dataclasses import asdict, dataclass

import numba
import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.errors import SignalError
from faithful_reel.core.units import SILENT_DB, Signal, decibels

QUIET_WINDOWS = 4

# ITU-R BS.1770-4 annex 2, table: the 48-tap, four-phase interpolating filter (from memory, checked in the tests
# against an oversampled sine); phases 2 and 3 mirror 1 and 0.
_PHASE_0 = [
    0.0017089843750, 0.0109863281250, -0.0196533203125, 0.0332031250000, -0.0594482421875, 0.1373291015625,
    0.9721679687500, -0.1022949218750, 0.0476074218750, -0.0266113281250, 0.0148925781250, -0.0083007812500,
]  # fmt: skip
_PHASE_1 = [
    -0.0291748046875, 0.0292968750000, -0.0517578125000, 0.0891113281250, -0.1665039062500, 0.4650878906250,
    0.7797851562500, -0.2003173828125, 0.1015625000000, -0.0582275390625, 0.0330810546875, -0.0189208984375,
]  # fmt: skip
_TRUE_PEAK = np.array([_PHASE_0, _PHASE_1, _PHASE_1[::-1], _PHASE_0[::-1]])
_TAPS = 12


def k_weighting(rate: int) -> NDArray[np.float64]:
    """The two biquads of ITU-R BS.1770-4 annex 1, (2, 5): b0 b1 b2 a1 a2, re-derived for `rate`.

    The tabulated 48 kHz filters come from an analogue high shelf and high pass; their parameters (from memory) give
    the printed coefficients at 48 kHz, which a test holds.
    """
    f0, gain_db, q = 1681.974450955533, 3.999843853973347, 0.7071752369554196
    k = math.tan(math.pi * f0 / rate)
    vh = 10 ** (gain_db / 20)
    vb = vh**0.4996667741545416
    a0 = 1 + k / q + k * k
    shelf = [(vh + vb * k / q + k * k) / a0, 2 * (k * k - vh) / a0, (vh - vb * k / q + k * k) / a0,
             2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0]  # fmt: skip
    f0, q = 38.13547087602444, 0.5003270373238773
    k = math.tan(math.pi * f0 / rate)
    a0 = 1 + k / q + k * k
    high_pass = [1.0, -2.0, 1.0, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0]
    return np.array([shelf, high_pass])


@numba.njit(cache=True, nogil=True)
def _feed(x, coefficients, filter_state, history, phases, bin_size, quiet_size, carry, sums):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """One channel of one block.  Returns completed 100 ms K-weighted bins and completed quiet bins.

    carry: [k_sum, k_count, p_sum, p_count, zeros in this quiet bin]; sums: [sum of squares, peak, true peak].
    """
    n = x.size
    k_bins = np.empty(n // bin_size + 2)
    q_bins = np.empty(n // quiet_size + 2)
    k_n = 0
    q_n = 0
    b0, b1, b2, a1, a2 = coefficients[0]
    c0, c1, c2, d1, d2 = coefficients[1]
    s1, s2, t1, t2 = filter_state
    total, peak, true_peak = sums
    k_sum, k_count, p_sum, p_count, zeros = carry
    taps = phases.shape[1]
    heard = np.empty(n + taps)  # the samples before this block, then the block
    heard[:taps] = history
    heard[taps:] = x
    first = 0
    while first < n:
        stop = min(n, first + bin_size - int(k_count), first + quiet_size - int(p_count))
        for i in range(first, stop):
            v = heard[i + taps]
            y = b0 * v + s1
            s1 = b1 * v - a1 * y + s2
            s2 = b2 * v - a2 * y
            z = c0 * y + t1
            t1 = c1 * y - d1 * z + t2
            t2 = c2 * y - d2 * z
            k_sum += z * z
            total += v * v
            p_sum += v * v
            if v == 0.0:
                zeros += 1
            magnitude = abs(v)
            peak = max(peak, magnitude)
            # only where a neighbour comes near the greatest value can interpolation exceed it
            near = 0.45 * true_peak
            if magnitude > near or abs(heard[i + 6]) > near or abs(heard[i + 7]) > near:
                for p in range(phases.shape[0]):
                    acc = 0.0
                    for j in range(taps):
                        acc += phases[p, j] * heard[i + taps - j]
                    true_peak = max(true_peak, abs(acc))
        k_count += stop - first
        p_count += stop - first
        first = stop
        if k_count >= bin_size:
            k_bins[k_n] = k_sum
            k_n += 1
            k_sum = k_count = 0.0
        if p_count >= quiet_size:
            q_bins[q_n] = -1.0 if zeros > 0.5 * quiet_size else p_sum
            q_n += 1
            p_sum = p_count = zeros = 0.0
    history[:] = heard[n:]
    filter_state[0], filter_state[1], filter_state[2], filter_state[3] = s1, s2, t1, t2
    sums[0], sums[1], sums[2] = total, peak, true_peak
    carry[0], carry[1], carry[2], carry[3], carry[4] = k_sum, k_count, p_sum, p_count, zeros
    return k_bins[:k_n], q_bins[:q_n]


@dataclass(frozen=True, slots=True)
class Figures:
    """What a delivery is judged by.  RMS is plain: a full-scale sine reads -3.01 dB."""

    rms_db: float
    peak_db: float
    true_peak_db: float
    lufs: float
    noise_floor_db: float
    head_s: float
    tail_s: float
    seconds: float
    rate: int
    channels: int
    codec: str = ""
    bit_rate: int = 0
    cbr: bool | None = None

    def as_json(self) -> dict[str, object]:
        """Plain values, rounded for reading."""
        return {k: round(v, 3) if isinstance(v, float) else v for k, v in asdict(self).items()}


class Meter:
    """Measures a stream fed block by block; the figures do not depend on how it was cut into blocks."""

    def __init__(self, rate: int, channels: int = 1) -> None:
        self.rate, self.channels, self.frames = rate, channels, 0
        self._coefficients = k_weighting(rate)
        self._bin, self._quiet = round(0.1 * rate), round(0.05 * rate)
        self._filters = np.zeros((channels, 4))
        self._history = np.zeros((channels, _TAPS))
        self._carry = np.zeros((channels, 5))
        self._sums = np.zeros((channels, 3))
        self._k: list[list[NDArray[np.float64]]] = [[] for _ in range(channels)]
        self._q: list[list[NDArray[np.float64]]] = [[] for _ in range(channels)]

    def feed(self, x: Signal) -> None:
        """Take the next block, (n,) or (channels, n).

        Raises
        ------
        SignalError
            The block holds NaN or infinity.
        """
        x = np.atleast_2d(x)
        if x.shape[0] != self.channels:
            raise ValueError(f"expected {self.channels} channels, got {x.shape[0]}")
        if not np.isfinite(x).all():
            raise SignalError("This audio holds values that are not numbers. Export it again.")
        self.frames += x.shape[1]
        for c in range(self.channels):
            k, q = _feed(
                np.ascontiguousarray(x[c]), self._coefficients, self._filters[c], self._history[c], _TRUE_PEAK,
                self._bin, self._quiet, self._carry[c], self._sums[c],
            )  # fmt: skip
            self._k[c].append(k)
            self._q[c].append(q)

    def figures(self) -> Figures:
        """All figures of what was fed.

        Raises
        ------
        SignalError
            Nothing was fed.
        """
        if not self.frames:
            raise SignalError("This audio is empty and has no level.")
        power = self._sums[:, 0].sum() / (self.frames * self.channels)
        quiet = np.stack([np.concatenate(q) for q in self._q])
        head, tail = self._head_tail(quiet)
        return Figures(
            rms_db=decibels(math.sqrt(power)),
            peak_db=decibels(float(self._sums[:, 1].max())),
            true_peak_db=decibels(float(max(self._sums[:, 2].max(), self._sums[:, 1].max()))),
            lufs=self.loudness(),
            noise_floor_db=self._noise_floor(quiet),
            head_s=head,
            tail_s=tail,
            seconds=self.frames / self.rate,
            rate=self.rate,
            channels=self.channels,
        )

    def loudness(self) -> float:
        """Gated loudness in LUFS: ITU-R BS.1770-4 annex 1, equations 3 to 7 (all channels weigh 1.0)."""
        bins = np.stack([np.concatenate(k) for k in self._k]).sum(axis=0)
        if len(bins) < 4:
            return SILENT_DB
        power = np.convolve(bins, np.ones(4), "valid") / (4 * self._bin)
        return _gated(power)

    def _noise_floor(self, quiet: NDArray[np.float64]) -> float:
        """RMS of the quietest half-second windows that hold no digital silence (common practice).

        Windows of ten 50 ms bins step by one bin; the four quietest that do not overlap
        and lie within 1 dB of the quietest are averaged.
        Where the sound is shorter than a window, the RMS of all of it.
        """
        bins = np.where((quiet < 0).any(axis=0), np.inf, quiet.sum(axis=0)) / (self._quiet * self.channels)
        if len(bins) < 10:
            finite = bins[np.isfinite(bins)]
            return decibels(math.sqrt(float(finite.mean()))) if len(finite) else SILENT_DB
        table = np.lib.stride_tricks.sliding_window_view(bins, 10)
        windows = table.mean(axis=1)
        chosen: list[float] = []
        for _ in range(QUIET_WINDOWS):
            at = int(windows.argmin())
            if not np.isfinite(windows[at]) or (chosen and windows[at] > 1.26 * chosen[0]):
                break  # more than 1 dB over the quietest: a breath or the edge of a word
            chosen.append(float(windows[at]))
            windows[max(0, at - 9) : at + 10] = np.inf
        return decibels(math.sqrt(float(np.mean(chosen)))) if chosen else SILENT_DB

    def _head_tail(self, quiet: NDArray[np.float64]) -> tuple[float, float]:
        """Seconds before the first and after the last 50 ms bin that speaks.

        A bin speaks when it is 12 dB over the noise floor and not more than 30 dB under the whole RMS (own rule).
        """
        power = np.clip(quiet, 0, None).sum(axis=0) / (self._quiet * self.channels)
        whole = self._sums[:, 0].sum() / (self.frames * self.channels)
        floor = self._noise_floor(quiet)
        limit = max(whole * 10**-3.0, 10 ** ((floor + 12) / 10) if floor > SILENT_DB else 0.0)
        loud = np.flatnonzero(power > min(limit, whole * 10**-0.6))
        if not len(loud):
            return self.frames / self.rate, self.frames / self.rate
        size = self._quiet / self.rate
        return float(loud[0] * size), float(max(0.0, self.frames / self.rate - (loud[-1] + 1) * size))


def _gated(power: NDArray[np.float64]) -> float:
    """BS.1770-4 equations 5 to 7: absolute gate at -70 LUFS, relative at -10 LU."""
    loud = power[power > 10 ** ((-70 + 0.691) / 10)]
    if not len(loud):
        return SILENT_DB
    loud = loud[loud > loud.mean() / 10]
    return float(-0.691 + 10 * np.log10(loud.mean()))


def rms_db(x: Signal) -> float:
    """Plain RMS of a stretch in dB; `SILENT_DB` for silence or nothing."""
    return decibels(float(np.sqrt(np.mean(np.square(x, dtype=np.float64))))) if len(x) else SILENT_DB


def figures_of(x: Signal, rate: int) -> Figures:
    """Figures of a whole (n,) or (channels, n) array."""
    meter = Meter(rate, np.atleast_2d(x).shape[0])
    meter.feed(x)
    return meter.figures()
