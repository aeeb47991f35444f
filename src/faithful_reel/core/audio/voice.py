"""Where somebody speaks: levels in bands of the voice, a floor that is followed in each, and hysteresis.

DC, rumble and hum lie outside of the bands or stand still in them, so that they neither hide a soft word nor pass for one.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from faithful_reel.core.audio.roomtone import FRAME_S
from faithful_reel.core.units import Signal, Span

EDGES_HZ = (125.0, 500.0, 1500.0, 4000.0, 9000.0)
"""Four bands: voicing, vowels, consonants, sibilants.  The lowest begins above what a 20 ms Hann frame smears DC to."""
SMOOTH = 5
FLOOR_S = 2.0
"""The floor of a band is the least level within so much on either side."""
SPREAD_DB = (1.0, 0.6, 0.4, 0.3)
"""Standard deviation of 100 ms of even noise in every band: the narrower, the greater (by chi-square, and measured)."""
BIAS = 2.2
"""The least of many stretches of noise lies so many deviations under their mean."""
SEED_DB, SEED_SPREADS = 4.0, 4.0
EDGE_DB, EDGE_SPREADS = 3.0, 3.0
"""A band speaks at so many dB and deviations over its floor; from there outwards it goes on down to the second pair."""
REACH_FRAMES = 10
"""As far outwards at most: a soft onset or ending, not a room that is a little louder here than there."""
SURE_DB, UNDER_DB = 8.0, 30.0
"""A floor stands no farther over the quietest fifth of the whole than the first, or lies the second under the loud parts:
music or a held vowel is no room, however even; and where a gate took the pauses down, the room of an end is one."""
EVEN_DB, EVEN_FRAMES = 5.0, 25
"""At both ends, room is what stays within so much of the half second that was seen last, in every band."""
DEEPEST_DB = 55.0
"""Under the loud parts by more than this nothing is heard beside them."""
SEED_FRAMES, GAP_FRAMES = 4, 6
PAUSE_FRAMES, QUIET_FRAMES, EDGE_FRAMES = 15, 10, 2
WITHOUT_PAUSE_S, EVERY_FRAMES = 10.0, 250
SOUND_DB = -120.0
"""Under this a frame is digital silence."""


def smoothed(power: NDArray[np.float64], frames: int = SMOOTH) -> NDArray[np.float64]:
    """Moving mean over an odd number of frames of (..., n) powers; at the ends over those that are there."""
    kernel = np.ones(frames)
    weight = np.convolve(np.ones(power.shape[-1]), kernel, "same")
    rows = np.atleast_2d(power)
    return np.asarray(np.stack([np.convolve(r, kernel, "same")[: len(r)] for r in rows]) / weight).reshape(power.shape)


def runs(mask: NDArray[np.bool_], shortest: int = 1) -> list[tuple[int, int]]:
    """Half-open runs of True in (n,) that are at least `shortest` long."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], mask, [False]])))
    return [(int(a), int(b)) for a, b in edges.reshape(-1, 2) if b - a >= shortest]


@dataclass(frozen=True, slots=True)
class Voice:
    """What was found in frames of `size` samples: `speaks` (n,) where somebody does, `levels` (n,) plain RMS in dB."""

    size: int
    speaks: NDArray[np.bool_]
    levels: NDArray[np.float64]

    @property
    def span(self) -> Span | None:
        """From the first to the last frame that speaks, in samples; None where nobody does."""
        loud = np.flatnonzero(self.speaks)
        return Span(int(loud[0]) * self.size, (int(loud[-1]) + 1) * self.size) if len(loud) else None

    @property
    def seconds(self) -> float:
        """How long somebody speaks."""
        return float(np.count_nonzero(self.speaks)) * FRAME_S

    def pauses(self, shortest: int = PAUSE_FRAMES) -> list[tuple[int, int]]:
        """Half-open runs of frames between the first word and the last in which nobody speaks."""
        loud = np.flatnonzero(self.speaks)
        if not len(loud):
            return []
        first, last = int(loud[0]), int(loud[-1])
        return [(a + first, b + first) for a, b in runs(~self.speaks[first:last], shortest)]

    def pause_levels(self) -> NDArray[np.float64]:
        """Level in dB of the quietest 0.2 s of every pause of 0.3 s and more, away from its edges: (pauses,).

        Pauses of digital silence are left out: they say nothing of the room.  Where there is no pause in more than ten
        seconds, something sounds all the time: then the quietest 0.2 s of every five seconds are judged.
        """
        power = 10 ** (self.levels / 10)
        found = []
        stretches = self.pauses()
        if not stretches and len(self.levels) * FRAME_S > WITHOUT_PAUSE_S:
            stretches = [(a, a + EVERY_FRAMES) for a in range(0, len(self.levels) - EVERY_FRAMES, EVERY_FRAMES)]
        for a, b in stretches:
            inner = power[a + EDGE_FRAMES : b - EDGE_FRAMES]
            inner = inner[inner > 10 ** (SOUND_DB / 10)]
            if len(inner) >= QUIET_FRAMES:
                found.append(np.convolve(inner, np.ones(QUIET_FRAMES) / QUIET_FRAMES, "valid").min())
        return np.asarray(10 * np.log10(np.array(found) + 1e-20))


class VoiceBands:
    """Takes sound block by block and keeps, for every 20 ms frame, its power in the voice's bands and in all.

    Powers of the channels are added, so that channels of opposite sign do not cancel; channels that stay silent do not
    count.
    """

    def __init__(self, rate: int, channels: int = 1) -> None:
        self.size = max(2, round(FRAME_S * rate))
        self._channels = channels
        window = np.hanning(self.size + 1)[:-1]
        self._window = window.astype(np.float32)
        top = 0.48 * rate
        bins = np.fft.rfftfreq(self.size, 1 / rate)
        edges = [min(e, top) for e in EDGES_HZ]
        self._bands = np.stack([(bins >= a) & (bins < b) for a, b in itertools.pairwise(edges) if b > a]).astype(np.float32)
        self._scale = 2.0 / (self.size * float(np.sum(window**2)))
        self._rest = np.zeros((channels, 0), np.float32)
        self._power: list[NDArray[np.float32]] = []
        self._plain: list[NDArray[np.float64]] = []

    def feed(self, x: Signal) -> None:
        """Take the next block, (channels, n)."""
        x = np.concatenate([self._rest, x], axis=1) if self._rest.shape[1] else x
        count = x.shape[1] // self.size
        self._rest = np.array(x[:, count * self.size :], np.float32)
        if not count:
            return
        table = np.asarray(x[:, : count * self.size], np.float32).reshape(self._channels, count, self.size)
        self._plain.append(np.einsum("cij,cij->ci", table, table, dtype=np.float64) / self.size)
        spectra = fft.rfft(table * self._window, axis=-1)
        power = spectra.real**2 + spectra.imag**2
        self._power.append(np.asarray(power @ self._bands.T * np.float32(self._scale), np.float32))

    def voice(self) -> Voice:
        """Where somebody speaks in what was fed."""
        if not self._plain:
            return Voice(self.size, np.zeros(0, bool), np.zeros(0))
        plain = np.concatenate(self._plain, axis=1)
        live = plain.mean(axis=1) > 1e-9
        live = live if live.any() else np.ones(len(live), bool)
        bands = np.concatenate(self._power, axis=1)[live].mean(axis=0).T.astype(np.float64)
        levels = 10 * np.log10(plain[live].mean(axis=0) + 1e-20)
        return Voice(self.size, speaking(bands, levels), np.asarray(levels))


def speaking(bands: NDArray[np.float64], levels: NDArray[np.float64]) -> NDArray[np.bool_]:
    """The frames in which somebody speaks.

    Parameters
    ----------
    bands : (bands, n) float array
        Power in every band of the voice.
    levels : (n,) float array, dB
        Plain level of the frames; those of digital silence do not tell of the room.

    Returns
    -------
    (n,) bool array
        Runs of at least 80 ms in which a band stands 5 to 8 dB over its floor, with what is 4 to 6 dB over it up to
        0.2 s around them; not what is even and soft at either end.

    Notes
    -----
    Own rule.  The floor is the least 100 ms within two seconds on either side, so that it follows a room that drifts; yet never
    far over the quietest fifth of the whole, so that a held tone is no floor.  A head or tail may be louder than the pauses,
    or fade away: it is known by its evenness.
    """
    from scipy.ndimage import minimum_filter1d

    n = bands.shape[1]
    sound = levels > SOUND_DB
    if n < SMOOTH or not sound.any():
        return np.zeros(n, bool)
    heights = 10 * np.log10(smoothed(bands) + 1e-20)
    width = 2 * round(FLOOR_S / FRAME_S) + 1
    seeds, edges = np.zeros(n, bool), np.zeros(n, bool)
    for row, spread in zip(heights, SPREAD_DB, strict=False):
        low, high = np.percentile(row[sound], [20, 95])
        near = minimum_filter1d(np.where(sound, row, np.inf), width, mode="nearest") + BIAS * spread
        floor = np.maximum(np.minimum(near, max(low + SURE_DB, high - UNDER_DB)), high - DEEPEST_DB)
        seeds |= row > floor + SEED_DB + SEED_SPREADS * spread
        edges |= row > floor + EDGE_DB + EDGE_SPREADS * spread
    out = np.zeros(n, bool)
    begun = runs(seeds & sound, SEED_FRAMES)
    for a, b in runs(~edges):  # short gaps do not end it
        if b - a <= GAP_FRAMES and a and b < n:
            edges[a:b] = True
    around = runs(edges)
    starts = [a for a, _ in around]
    for a, b in begun:
        first, last = around[int(np.searchsorted(starts, a, side="right")) - 1]
        out[max(first, a - REACH_FRAMES) : min(last, b + REACH_FRAMES)] = True
    whole = smoothed(bands.sum(axis=0))
    most = float(np.percentile(whole[sound], 95)) / 10 ** (UNDER_DB / 10)
    first, last = int(np.argmax(sound)), n - int(np.argmax(sound[::-1]))
    heights = heights[:, first:last]
    out[: first + _even_end(heights, most)] = False
    out[last - _even_end(heights[:, ::-1], most) :] = False
    return out


def _even_end(heights: NDArray[np.float64], most: float) -> int:
    """How many of the first frames of (bands, n), in dB, are one even room, or softer than it, as where it is faded in.

    The power of a room is `most` at most.
    """
    from scipy.ndimage import maximum_filter1d, minimum_filter1d

    n = heights.shape[1]
    if n < EVEN_FRAMES:
        return 0
    half = EVEN_FRAMES // 2
    spread = maximum_filter1d(heights, EVEN_FRAMES, axis=1) - minimum_filter1d(heights, EVEN_FRAMES, axis=1)
    even = np.flatnonzero(spread.max(axis=0)[half : n - half] <= EVEN_DB)
    if not len(even):
        return 0
    at = int(even[0])
    level = np.median(heights[:, at : at + EVEN_FRAMES], axis=1)
    if (heights[:, :at] > (level + EVEN_DB)[:, None]).any():
        return 0
    stop = at + EVEN_FRAMES
    while (10 ** (level / 10)).sum() <= most:
        if stop == n or (np.abs(heights[:, stop] - level) > EVEN_DB).any():
            return stop
        stop += 1
        level = np.median(heights[:, stop - EVEN_FRAMES : stop], axis=1)
    return 0
