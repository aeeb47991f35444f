"""One pass over the sound: RMS, peak, true peak, BS.1770 loudness, noise floor, head and tail."""

from __future__ import annotations

import math
from dataclasses import asdict, dataclass

import numba
import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.audio.channels import ChannelMeter
from faithful_reel.core.audio.roomtone import FRAME_S
from faithful_reel.core.audio.voice import Voice, VoiceBands, runs
from faithful_reel.core.errors import SignalError
from faithful_reel.core.units import SILENT_DB, Signal, decibels

QUIET_WINDOWS = 4
LOUD_PAUSES = 90
"""The floor in the pauses is that of the pause which so many in a hundred do not exceed (own rule)."""
ZEROS_S, ZEROS_AT_ENDS_S = 0.05, 0.1
"""Longer runs of nothing but zeros are dead silence; at the ends an encoder pads a little more."""
FAR_UNDER_DB, FAR_UNDER_S = 20.0, 0.3
DEAD_DB = -96.0
"""No microphone is so quiet: the last bit of 16 alone has more (own rule)."""
DEAD_CHANNEL_DB = -90.0

_WEIGHTS: dict[int, tuple[float, ...]] = {
    4: (1, 1, 1, 1.41),
    5: (1, 1, 1, 1.41, 1.41),
    6: (1, 1, 1, 0, 1.41, 1.41),
    8: (1, 1, 1, 0, 1.41, 1.41, 1.41, 1.41),
}
"""ITU-R BS.1770-4 annex 1, table 3, in the channel order of WAVE files: surround channels weigh 1.41, the effects channel
nothing.  Four are taken for left, right, centre and back, and of eight those at the back weigh as much, as FFmpeg has it."""

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
    """The two biquads of the K-weighting, (2, 5): b0 b1 b2 a1 a2, re-derived for `rate` in Hz.

    The tabulated 48 kHz filters come from an analogue high shelf and high pass; their parameters (from memory) give
    the printed coefficients at 48 kHz, which a test holds.

    References
    ----------
    ITU-R BS.1770-4 (2015), annex 1, tables 1 and 2.
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


@numba.njit(cache=True, nogil=True)
def _zeros(x, state, shortest, found):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Runs of at least `shortest` samples in which every channel is zero, into rows (start, length); how many ended.

    state: [position, length of the run that goes on].
    """
    channels, n = x.shape
    at, length = state
    count = 0
    for i in range(n):
        silent = True
        for c in range(channels):
            if x[c, i] != 0.0:
                silent = False
                break
        if silent:
            length += 1
        else:
            if length >= shortest and count < found.shape[0]:
                found[count, 0] = at + i - length
                found[count, 1] = length
                count += 1
            length = 0
    state[0], state[1] = at + n, length
    return count


@dataclass(frozen=True, slots=True)
class Figures:
    """What a delivery is judged by.  RMS is plain: a full-scale sine reads -3.01 dB.

    `noise_floor_db` is that of the quietest windows, `pause_floor_db` that of nine pauses in ten (`SILENT_DB` where there
    are none); `dead_s` are seconds of dead silence, `dead_channels` channels in which nothing is, `range_lu` is the loudness
    range, `odd_channels` says what is odd in how the channels go together, and `channels_fit` whether a delivery may be so.
    """

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
    pause_floor_db: float = SILENT_DB
    dead_s: float = 0.0
    dead_channels: int = 0
    range_lu: float = 0.0
    odd_channels: str = ""
    channels_fit: bool = True

    def as_json(self) -> dict[str, float | int | str | bool | None]:
        """Plain values, rounded for reading."""
        return {k: round(v, 3) if isinstance(v, float) else v for k, v in asdict(self).items()}


SHORT_TERM = 30
"""Tenths of a second."""


class Meter:
    """Measures a stream fed block by block; the figures do not depend on how it was cut into blocks.

    With `only_levels` it gives RMS, peak and loudness alone, in a third of the time: see `levels`.
    """

    def __init__(self, rate: int, channels: int = 1, *, only_levels: bool = False) -> None:
        self.rate, self.channels, self.frames = rate, channels, 0
        self._only_levels = only_levels
        self._coefficients = k_weighting(rate)
        self._bin, self._quiet = round(0.1 * rate), round(0.05 * rate)
        self._filters = np.zeros((channels, 4))
        self._history = np.zeros((channels, _TAPS))
        self._carry = np.zeros((channels, 5))
        self._sums = np.zeros((channels, 3))
        if only_levels:
            self._sums[:, 2] = np.inf  # no sample comes near enough to it to be interpolated
        self._k: list[list[NDArray[np.float64]]] = [[] for _ in range(channels)]
        self._q: list[list[NDArray[np.float64]]] = [[] for _ in range(channels)]
        self._bands = VoiceBands(rate, channels)
        self._together = ChannelMeter(rate, channels)
        self._voice: tuple[int, Voice] | None = None
        self._shortest = max(1, round(ZEROS_S * rate))
        self._zero_state = np.zeros(2, np.int64)
        self._zero_rows = np.zeros((4096, 2), np.int64)
        self._zero_runs: list[tuple[int, int]] = []

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
        if self._only_levels:
            return
        self._bands.feed(x)
        self._together.feed(x)
        count = _zeros(np.ascontiguousarray(x), self._zero_state, self._shortest, self._zero_rows)
        self._zero_runs += [(int(a), int(n)) for a, n in self._zero_rows[:count]]

    def levels(self) -> tuple[float, float]:
        """RMS in dB and gated loudness in LUFS of what was fed."""
        return decibels(math.sqrt(float(self._sums[:, 0].sum()) / max(1, self.frames * self.channels))), self.loudness()

    def figures(self) -> Figures:
        """All figures of what was fed.

        Raises
        ------
        SignalError
            Nothing was fed.
        """
        if not self.frames:
            raise SignalError("This audio is empty and has no level.")
        power = self._sums[:, 0] / self.frames
        live = power > 10 ** (DEAD_CHANNEL_DB / 10)
        live = live if live.any() else np.ones(self.channels, bool)
        quiet = np.stack([np.concatenate(q) for q in self._q])[live]
        voice = self.voice
        pauses = voice.pause_levels()
        span = voice.span
        together = self._together.found()
        return Figures(
            rms_db=decibels(math.sqrt(power.mean())),
            peak_db=decibels(float(self._sums[:, 1].max())),
            true_peak_db=decibels(float(max(self._sums[:, 2].max(), self._sums[:, 1].max()))),
            lufs=self.loudness(),
            noise_floor_db=self._noise_floor(quiet),
            head_s=(span.start if span else self.frames) / self.rate,
            tail_s=(self.frames - min(self.frames, span.stop) if span else self.frames) / self.rate,
            seconds=self.frames / self.rate,
            rate=self.rate,
            channels=self.channels,
            pause_floor_db=float(np.percentile(pauses, LOUD_PAUSES)) if len(pauses) else SILENT_DB,
            dead_s=self._dead(voice, pauses),
            dead_channels=int(np.count_nonzero(~live)),
            range_lu=self.loudness_range(),
            odd_channels=together.told,
            channels_fit=together.fit,
        )

    @property
    def voice(self) -> Voice:
        """Where somebody speaks in what was fed."""
        if self._voice is None or self._voice[0] != self.frames:
            self._voice = self.frames, self._bands.voice()
        return self._voice[1]

    def _dead(self, voice: Voice, pauses: NDArray[np.float64]) -> float:
        """Seconds of dead silence: nothing but zeros, or far under the chapter's own floor."""
        dead = np.zeros(len(voice.levels) + 1, bool)
        ends = round(ZEROS_AT_ENDS_S * self.rate)
        for start, length in (*self._zero_runs, (self.frames - int(self._zero_state[1]), int(self._zero_state[1]))):
            if length > (ends if start == 0 or start + length == self.frames else self._shortest):
                dead[start // voice.size : -(-(start + length) // voice.size)] = True
        own = float(np.median(pauses)) - FAR_UNDER_DB if len(pauses) else SILENT_DB
        for a, b in runs(voice.levels < max(own, DEAD_DB), round(FAR_UNDER_S / FRAME_S)):
            dead[a:b] = True
        return round(float(np.count_nonzero(dead)) * FRAME_S, 2)

    def loudness(self) -> float:
        """Gated loudness in LUFS; `SILENT_DB` where nothing passes the gates.

        References
        ----------
        ITU-R BS.1770-4 (2015), annex 1, equations 3 to 7, table 3.
        """
        weights = np.array(_WEIGHTS.get(self.channels, (1,) * self.channels), np.float64)
        bins = weights @ np.stack([np.concatenate(k) for k in self._k])
        if len(bins) < 4:
            return SILENT_DB
        power = np.convolve(bins, np.ones(4), "valid") / (4 * self._bin)
        return _gated(power)

    def loudness_range(self) -> float:
        """Loudness range in LU: from the 10th to the 95th percentile of the short-term loudness; 0 where nothing passes.

        Windows of 3 s, ten a second; gated at -70 LUFS and at 20 LU under the mean power of what passes that.

        References
        ----------
        EBU Tech 3342 (2016), section 2.
        """
        weights = np.array(_WEIGHTS.get(self.channels, (1,) * self.channels), np.float64)
        bins = weights @ np.stack([np.concatenate(k) for k in self._k])
        if len(bins) < SHORT_TERM:
            return 0.0
        power = np.convolve(bins, np.ones(SHORT_TERM), "valid") / (SHORT_TERM * self._bin)
        loud = power[power > 10 ** ((-70 + 0.691) / 10)]
        loud = loud[loud > loud.mean() / 100] if len(loud) else loud
        if not len(loud):
            return 0.0
        low, high = np.percentile(10 * np.log10(loud), [10, 95])
        return float(high - low)

    def _noise_floor(self, quiet: NDArray[np.float64]) -> float:
        """RMS of the quietest half-second windows that hold no digital silence (common practice).

        Windows of ten 50 ms bins step by one bin; the four quietest that do not overlap
        and lie within 1 dB of the quietest are averaged.
        Where the sound is shorter than a window, the RMS of all of it.
        """
        bins = np.where((quiet < 0).any(axis=0), np.inf, quiet.sum(axis=0)) / (self._quiet * len(quiet))
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


def _gated(power: NDArray[np.float64]) -> float:
    """BS.1770-4 equations 5 to 7: absolute gate at -70 LUFS, relative at -10 LU."""
    loud = power[power > 10 ** ((-70 + 0.691) / 10)]
    if not len(loud):
        return SILENT_DB
    loud = loud[loud > loud.mean() / 10]
    return float(-0.691 + 10 * np.log10(loud.mean()))


def rms_db(x: Signal) -> float:
    """Plain RMS of (n,) audio in dB; `SILENT_DB` for silence or nothing."""
    return decibels(float(np.sqrt(np.mean(np.square(x, dtype=np.float64))))) if len(x) else SILENT_DB


def figures_of(x: Signal, rate: int) -> Figures:
    """Figures of a whole (n,) or (channels, n) array."""
    meter = Meter(rate, np.atleast_2d(x).shape[0])
    meter.feed(x)
    return meter.figures()
