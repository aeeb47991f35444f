"""Room echo: how long the room answers, measured from the falls of the voice, and its late part lowered."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray
from scipy.signal import butter, sosfiltfilt

from faithful_reel.core.jobs import Watch
from faithful_reel.core.treat.cells import Near, Sound, mixed, over_cells
from faithful_reel.core.treat.noise import FIRST, INTEGRAL, gains_into, priors_into
from faithful_reel.core.treat.spectral import Powers, Spectra, frame_of, hop_of, weighed
from faithful_reel.core.units import Signal, samples

OCTAVES_HZ = (500.0, 1000.0, 2000.0, 4000.0)
FRAME_S = 0.01
LEAST_FALL_DB, LEAST_FALL_S, FROM_TOP_DB, OVER_FLOOR_DB, SKIP_S, LEAST_R = 10.0, 0.09, 25.0, 6.0, 0.03, 0.93
SLOPE, OFFSET_S = 1.58, -0.16
"""From the median of the falls to the time of reverberation: they read too short in a long echo, and something in a dry room."""
LEAST_RT_S, FEWEST_FALLS, FEWEST_BANDS, LEAST_SPEECH_S, UNDER_LOUD_DB = 0.22, 3, 2, 5.0, 30.0
WEIGHTS = ((250.0, 1.05), (1000.0, 1.0), (3000.0, 0.85), (8000.0, 0.6))
"""The time of reverberation in a band beside that of the whole, as rooms have it."""
LATE_FRAMES, SHARE, SMOOTH = 4, 0.3, 0.5
FLOOR_DB = 10.0
OVER = 2.0
"""The late part is taken for so many times what it is: what is heard of it goes farther down, the early sound hardly."""
REACH_S = 1.5


@dataclass(frozen=True, slots=True)
class Reverberation:
    """The time in seconds in which the room's answer falls by 60 dB, from how many falls of the voice; `why` says why it can not
    be helped, and is empty where it can.
    """

    rt_s: float
    falls: int
    why: str = ""


def reverberation(sound: Sound, watch: Watch | None = None) -> Reverberation:
    """How long the room answers, from the falls of the voice in four octaves.

    Own method: lines through the falls of levels of 10 ms that start near the top and end over the floor; their median.
    """
    rate = sound.rate
    size = samples(FRAME_S, rate)
    bands = [
        butter(3, (hz / np.sqrt(2), min(hz * np.sqrt(2), 0.47 * rate)), "bandpass", fs=rate, output="sos") for hz in OCTAVES_HZ
    ]

    def of_cell(cell: Near) -> NDArray[np.float64]:
        first = -(-cell.start // size) * size - cell.at
        count = max(0, (cell.last - first) // size)
        rows = []
        x = mixed(cell.sound)
        for sos in bands:
            y = sosfiltfilt(sos, x) if len(x) > 200 else x
            part = np.square(y[first : first + count * size]).reshape(count, size)
            rows.append(part.mean(axis=1))
        return np.array(rows)

    powers = np.concatenate(list(over_cells(sound, samples(0.1, rate), of_cell, watch, "listening to the room")), axis=1)
    levels = 10 * np.log10(powers + 1e-16)
    whole = 10 * np.log10(powers.sum(axis=0) + 1e-16)
    if not len(whole):
        return Reverberation(0.0, 0, "there is no sound")
    speech_s = float(np.count_nonzero(whole > np.percentile(whole, 95) - UNDER_LOUD_DB)) * FRAME_S
    if speech_s < LEAST_SPEECH_S:
        return Reverberation(
            0.0, 0, f"there are only {speech_s:.1f} s of speech to measure the room by: at least {LEAST_SPEECH_S:g}"
        )
    falls = [_falls(row) for row in levels]
    bands_enough = sum(len(found) >= FEWEST_FALLS for found in falls)
    every = [rt for found in falls for rt in found]
    if bands_enough < FEWEST_BANDS:
        return Reverberation(0.0, len(every), "the voice falls off too seldom to measure the room by")
    rt = SLOPE * float(np.median(every)) + OFFSET_S
    if rt < LEAST_RT_S:
        return Reverberation(rt, len(every), f"the room answers for {max(rt, 0):.2f} s only: that is dry enough")
    return Reverberation(rt, len(every))


def _falls(levels: NDArray[np.float64]) -> list[float]:
    """Reverberation times by the falls in (frames,) levels in dB."""
    top, floor = float(np.percentile(levels, 98)), float(np.percentile(levels, 5))
    smooth = np.convolve(levels, np.ones(3) / 3, "same")
    skip, least = round(SKIP_S / FRAME_S), round(LEAST_FALL_S / FRAME_S)
    found, start = [], 0
    falling = np.concatenate([np.diff(smooth) < 0.3, [False]])
    for t in range(len(smooth)):
        if falling[t]:
            continue
        first, last = start + skip, t + 1
        start = t + 1
        inside = np.flatnonzero(smooth[first:last] < floor + OVER_FLOOR_DB)
        last = first + int(inside[0]) if len(inside) else last
        part = levels[first:last]
        if len(part) < least or levels[first - skip] < top - FROM_TOP_DB or part[0] - part[-1] < LEAST_FALL_DB:
            continue
        at = np.arange(len(part)) * FRAME_S
        slope = float(np.polyfit(at, part, 1)[0])
        if slope < 0 and np.corrcoef(at, part)[0, 1] < -LEAST_R:
            found.append(-60.0 / slope)
    return found


@numba.njit(cache=True, nogil=True, fastmath=True)
def _late(power, decay, out):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Late reverberant power of (frames, bins) into `out` (Habets, Gannot and Cohen 2009, equation 19; from memory)."""
    frames, bins = power.shape
    smooth = np.empty_like(power)
    for t in range(frames):
        for k in range(bins):
            smooth[t, k] = power[t, k] if t == 0 else SMOOTH * smooth[t - 1, k] + (1 - SMOOTH) * power[t, k]
            if t < LATE_FRAMES:
                out[t, k] = decay[k] * smooth[0, k]
            else:
                out[t, k] = decay[k] * ((1 - SHARE) * out[t - LATE_FRAMES, k] + SHARE * smooth[t - LATE_FRAMES, k])


class EchoReduced:
    """Lowers the late part of the room's answer, by band, at most by `floor_db`.

    References
    ----------
    Late spectral variance: Habets, Gannot and Cohen, "Late reverberant spectral variance estimation based on a statistical
    model", IEEE Signal Processing Letters 16 (2009); the gains as in `NoiseReduced`.
    """

    def __init__(self, rt_s: float, rate: int, *, floor_db: float = FLOOR_DB, share: float = 1.0) -> None:
        self._rate, self._floor, self._share = rate, np.float32(10 ** (-floor_db / 20)), np.float32(share)
        hz = np.fft.rfftfreq(frame_of(rate), 1 / rate)
        weight = np.interp(np.log(np.maximum(hz, 50)), np.log([f for f, _ in WEIGHTS]), [w for _, w in WEIGHTS])
        delta = 3 * np.log(10) / (rt_s * weight)
        self._decay = np.exp(-2 * delta * LATE_FRAMES * hop_of(rate) / rate).astype(np.float32)
        self.reach = frame_of(rate) + samples(REACH_S, rate)

    def gains(self, spectra: Spectra, channel: int, centres: NDArray[np.int64]) -> Powers:
        """The gain of every bin of every frame, (frames, bins)."""
        del channel, centres
        power = (spectra.real**2 + spectra.imag**2).astype(np.float32)
        late = np.empty_like(power)
        _late(power, self._decay, late)
        post = np.minimum(power / (np.float32(OVER) * late + np.float32(1e-12)), np.float32(1e8))
        priors = np.zeros_like(post)
        priors_into(post, priors, INTEGRAL, FIRST, True)
        priors_into(post, priors, INTEGRAL, FIRST, False)
        out, likely = np.empty_like(post), np.zeros(len(post), np.float32)
        gains_into(post, priors, np.full_like(post, self._floor), np.ones(len(post), np.float32), out, likely, INTEGRAL, FIRST)
        return out

    def treated(self, cell: Near) -> Signal:
        """The cell's own stretch, (channels, n)."""
        made = weighed(cell, self._rate, self.gains)
        if self._share == 1:
            return made
        return self._share * made + (1 - self._share) * cell.sound[:, cell.first : cell.last]
