"""Plosives: bursts of air under the voice, tamed there and then, the low voice left."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d, median_filter, minimum_filter1d
from scipy.signal import butter, resample_poly, sosfiltfilt

from faithful_reel.core.jobs import Unwatched, Watch, at_once, watched
from faithful_reel.core.treat.cells import WORKERS, Near, Sound, mixed, near, over_cells
from faithful_reel.core.treat.decimation import MEAN_OF, decimated
from faithful_reel.core.treat.places import Patch, Place
from faithful_reel.core.units import Signal, samples

LOW_RATE = 1000
"""Rate, about, at which what lies under the voice is worked on."""
BURST_HZ, VOICE_HZ, UNDER_HZ, LOW_HZ = (12.0, 45.0), (62.0, 180.0), 70.0, 160.0
FRAME_S, SMOOTH_S, REACH_S = 0.005, 0.05, 0.6
OVER_MEDIAN_DB, UNDER_LOUD_DB, UNDER_VOICE_DB, RISE_DB, RISE_S, LONGEST_S = 12.0, 10.0, -2.0, 8.0, 0.08, 0.45
BEFORE_S, AFTER_S, EDGE_S = 0.03, 0.05, 0.03
OWN_S, OWN_PERCENTILE = 1.5, 60.0


@dataclass(frozen=True)
class LowLevels:
    """Powers of what lies low, every 5 ms: in the burst's band, the low voice's, under 70 Hz, from there to 160, and of all."""

    rate: int
    burst: NDArray[np.float64]
    voice: NDArray[np.float64]
    under: NDArray[np.float64]
    low: NDArray[np.float64]
    whole: NDArray[np.float64]

    def db(self, row: NDArray[np.float64]) -> NDArray[np.float64]:
        """Powers (frames,) in dB."""
        return 10 * np.log10(row + 1e-16)


def _decimated(x: Signal, rate: int) -> tuple[NDArray[np.float64], int]:
    """(n,) sound at about `LOW_RATE`, and by how much it was decimated."""
    by = max(1, rate // LOW_RATE)
    by = by // MEAN_OF * MEAN_OF if by >= MEAN_OF else by
    return decimated(x[None], by)[0], by


def _split(y: NDArray[np.float64], low_rate: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """What lies under 70 Hz, and from there to 160, without a shift in phase: two (n,); their sum is all under 160."""
    below = sosfiltfilt(butter(2, UNDER_HZ, fs=low_rate, output="sos"), y)
    all_low = sosfiltfilt(butter(3, LOW_HZ, fs=low_rate, output="sos"), y)
    return below, all_low - below


def _smoothed(x: NDArray[np.float64], low_rate: float) -> NDArray[np.float64]:
    width = max(1, round(SMOOTH_S * low_rate))
    return np.convolve(np.square(x), np.hanning(width + 2)[1:-1] / np.hanning(width + 2)[1:-1].sum(), "same")


def low_levels(sound: Sound, watch: Watch | None = None) -> LowLevels:
    """One pass over a sound; its channels are mixed."""
    rate = sound.rate
    frame = samples(FRAME_S, rate)

    def of_cell(cell: Near) -> NDArray[np.float64]:
        at = np.arange(-(-cell.start // frame) * frame, cell.stop, frame) - cell.at
        x = mixed(cell.sound)
        if len(x) < rate // 2:
            x = np.pad(x, (0, rate // 2 - len(x)))
        y, by = _decimated(x, rate)
        low_rate = rate / by
        bands = [sosfiltfilt(butter(2, hz, "bandpass", fs=low_rate, output="sos"), y) for hz in (BURST_HZ, VOICE_HZ)]
        rows = [_smoothed(b, low_rate) for b in (*bands, *_split(y, low_rate))]
        places = np.arange(len(y)) * by
        sums = np.concatenate([[0.0], np.cumsum(np.square(x))])
        first, last = (np.clip(at + s * 2 * frame, 0, len(x)) for s in (-1, 1))
        whole = (sums[last] - sums[first]) / np.maximum(last - first, 1)
        return np.array([*(np.interp(at, places, row) for row in rows), whole])

    table = np.concatenate(list(over_cells(sound, samples(REACH_S, rate), of_cell, watch, "looking for plosives")), axis=1)
    return LowLevels(rate, *table)


def found_plosives(levels: LowLevels, *, sensitivity_db: float = 0.0) -> list[Place]:
    """Bursts under the voice: far over what usually lies there, sudden, short, and no low voice.

    Own rule; each threshold as measured.  `level_db` is the burst's greatest power between 12 and 45 Hz.
    """
    burst, voice, whole = levels.db(levels.burst), levels.db(levels.voice), levels.db(levels.whole)
    if not len(burst):
        return []
    loud = float(np.percentile(whole, 95))
    usual = median_filter(burst, round(2 * OWN_S / FRAME_S) | 1, mode="nearest")
    rise = burst - minimum_filter1d(burst, round(RISE_S / FRAME_S), origin=round(RISE_S / FRAME_S) // 2 - 1)
    least = np.maximum(usual + OVER_MEDIAN_DB, loud - UNDER_LOUD_DB) - sensitivity_db
    out = (burst > least) & (burst > voice - UNDER_VOICE_DB)
    rising = maximum_filter1d(rise, 5) >= RISE_DB
    frame = samples(FRAME_S, levels.rate)
    places = []
    edges = np.flatnonzero(np.diff(np.concatenate([[False], out, [False]])))
    for a, b in edges.reshape(-1, 2):
        if (b - a) * FRAME_S > LONGEST_S or not rising[max(0, a - 8) : b].any():
            continue
        peak = float(burst[a:b].max())
        over = peak - float(least[a:b].min())
        places.append(Place(int(a) * frame, int(b) * frame, "plosive", peak, float(1 / (1 + np.exp(-0.4 * over)))))
    return places


def plosives_tamed(sound: Sound, places: Sequence[Place], levels: LowLevels, watch: Watch | None = None) -> list[Patch]:
    """What stands in the place of bursts: what lies under 160 Hz brought down to what usually lies there, with soft edges.

    Zero-phase: what stays is in step with the rest.
    """
    rate = sound.rate
    frame, before, after, reach = (samples(s, rate) for s in (FRAME_S, BEFORE_S, AFTER_S, REACH_S))
    speaks = levels.whole > np.percentile(levels.whole, 95) / 10**3

    def own(row: NDArray[np.float64], place: Place) -> float:
        middle, wide = (place.start + place.stop) // 2 // frame, round(OWN_S / FRAME_S)
        around = slice(max(0, middle - wide), middle + wide)
        there = speaks[around].copy()
        first = max(0, middle - wide)
        there[max(0, (place.start - before) // frame - first) : (place.stop + after) // frame + 1 - first] = False
        values = row[around][there]
        return float(np.percentile(values, OWN_PERCENTILE)) if len(values) else float(np.percentile(row, 30))

    def tamed(place: Place) -> Patch:
        start, stop = max(0, place.start - before), min(sound.frames, place.stop + after)
        here = near(sound, start, stop, reach)
        length = here.last - here.first
        edge = min(samples(EDGE_S, rate), length // 2)
        window = np.ones(length)
        ramp = 0.5 - 0.5 * np.cos(np.pi * (np.arange(edge) + 0.5) / max(1, edge))
        window[:edge], window[length - edge :] = ramp, ramp[::-1]
        out = np.array(here.sound[:, here.first : here.last], np.float64)
        low, by = _decimated(mixed(here.sound), rate)
        gains = [
            np.sqrt(np.minimum(1.0, own(row, place) / (_smoothed(band, rate / by) + 1e-16)))
            for band, row in zip(_split(low, rate / by), (levels.under, levels.low), strict=True)
        ]
        for c, x in enumerate(here.sound):
            y, _ = _decimated(x, rate)
            removed = np.sum([(1 - gain) * band for gain, band in zip(gains, _split(y, rate / by), strict=True)], axis=0)
            back = resample_poly(removed, by, 1)[here.first : here.last]
            out[c, : len(back)] -= back * window[: len(back)]
        return Patch(start, out.astype(np.float32))

    return list(watched(at_once(tamed, _apart(places, before + after), WORKERS), watch or Unwatched(), len(places)))


def _apart(places: Sequence[Place], gap: int) -> list[Place]:
    """Places, those as one that stand so near to one another that what is done to them would overlap."""
    out: list[Place] = []
    for place in sorted(places):
        if out and place.start - out[-1].stop < gap:
            out[-1] = out[-1].with_(place)
        else:
            out.append(place)
    return out
