"""Breaths: found in the pauses, softened, shortened, or covered by the room; never a word."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy import fft
from scipy.ndimage import maximum_filter1d
from scipy.signal import resample_poly

from faithful_reel.core.jobs import Unwatched, Watch, at_once, watched
from faithful_reel.core.treat.cells import WORKERS, Near, Sound, mixed, near, over_cells
from faithful_reel.core.treat.places import Patch, Place
from faithful_reel.core.units import Signal, Span, ratio, samples

WORK_RATE = 16_000
"""Rate at least at which breaths are looked for."""
FRAME_S, HOP_S, REACH_S = 0.025, 0.01, 3.0
LOW_HZ, HIGH_HZ = 200.0, 8000.0
QUIETEST, SUBTRACTED = 8.0, 1.5
"""So many hundredths of the frames around are the room; so many times their spectrum is taken off before anything is asked."""
OVER_FLOOR_DB, UNDER_TOP_DB, PITCH, CENTROID_HZ, SIBILANT_DB, FLATNESS_DB = 3.0, 12.0, 0.6, (600.0, 4600.0), 4.0, -5.5
LEAST_S, MOST_S, DIP_DB, DIP_S, GAP_FRAMES = 0.12, 0.9, 4.0, 0.15, 3
LEAST_PAUSE_S = 0.42
"""In a shorter pause there is no time to breathe: what is heard there belongs to a stop."""
DIP_OVER_DB, DEEP_DB = 6.0, 14.0
"""On both sides it falls off to within 6 dB of the room, or by 14: the breath of an h does not."""
EDGE_S = 0.02
BETWEEN_S = 0.45
"""A breath in a longer pause is one between sentences (own rule)."""
How = Literal["softer", "shorter", "room"]


def found_breaths(sound: Sound, watch: Watch | None = None) -> list[Place]:
    """The breaths of a sound: `level_db` is the loudest 25 ms of each.

    Own rule, each threshold as measured: unvoiced, in the middle of the spectrum, even across it, over the room and well under
    the voice, after a dip.
    """
    by = max(1, sound.rate // WORK_RATE)

    def of_cell(cell: Near) -> list[Place]:
        skip = (-cell.at) % by
        x = mixed(cell.sound[:, skip:]).astype(np.float32)
        x = x if by == 1 else resample_poly(x, 1, by)
        found = _breaths_in(x, (cell.at + skip) // by, sound.rate / by)
        placed = [replace(p, start=p.start * by, stop=min(p.stop * by, sound.frames)) for p in found]
        return [p for p in placed if cell.start <= p.start < cell.stop]

    parts = over_cells(sound, samples(REACH_S, sound.rate), of_cell, watch, "looking for breaths")
    found: list[Place] = []
    for part in parts:
        found += [place for place in part if not found or place.start >= found[-1].stop]  # the next cell may see one again
    return found


def _breaths_in(x: Signal, at: int, exact_rate: float) -> list[Place]:
    """The breaths of (n,) sound that begins at sample `at`, counted from the start of the whole."""
    rate = round(exact_rate)
    hop, size = samples(HOP_S, rate), samples(FRAME_S, rate)
    first = -(-at // hop) * hop - at
    if len(x) < first + 40 * hop + size:
        return []
    frames = np.lib.stride_tricks.sliding_window_view(x[first:], size)[::hop]
    padded = fft.next_fast_len(2 * size, real=True)
    spectra = fft.rfft(frames * np.hanning(size).astype(np.float32), padded, axis=-1)
    power = spectra.real**2 + spectra.imag**2
    hz = np.fft.rfftfreq(padded, 1 / rate)
    power[:, hz < LOW_HZ] = 0
    scale = 2 / (padded * float(np.sum(np.square(np.hanning(size)))))
    whole = power.sum(axis=1)
    sounding = whole > 1e-14 * size
    if np.count_nonzero(sounding) < 20:
        return []
    room = power[sounding & (whole <= np.percentile(whole[sounding], QUIETEST))].mean(axis=0)
    clean = np.maximum(power - SUBTRACTED * room, 1e-4 * room + 1e-16)
    levels = 10 * np.log10(whole * scale + 1e-16)
    floor, top = 10 * float(np.log10(room.sum() * scale + 1e-16)), float(np.percentile(levels[sounding], 95))
    inside = (hz >= LOW_HZ) & (hz < min(HIGH_HZ, 0.49 * rate))
    band = clean[:, inside]
    total = band.sum(axis=1) + 1e-20
    centroid = (band @ hz[inside]) / total
    middle, sibilant = clean[:, (hz >= 1000) & (hz < 4500)], clean[:, (hz >= 4500) & (hz < 8000)]
    hiss = (
        10 * np.log10((sibilant.mean(axis=1) + 1e-20) / (middle.mean(axis=1) + 1e-20)) if sibilant.size else -np.ones(len(clean))
    )
    edges = np.arange(500, min(4500, 0.45 * rate), 500)
    flat = [
        np.mean(np.log(clean[:, (hz >= a) & (hz < b)] + 1e-20), axis=1)
        - np.log(clean[:, (hz >= a) & (hz < b)].mean(axis=1) + 1e-20)
        for a, b in pairwise(edges)
    ]
    flatness = 10 / np.log(10) * np.mean(flat, axis=0)
    out = (
        (levels > floor + OVER_FLOOR_DB)
        & (levels < top - UNDER_TOP_DB)
        & (centroid > CENTROID_HZ[0])
        & (centroid < CENTROID_HZ[1])
        & (hiss < SIBILANT_DB)
        & (flatness > FLATNESS_DB)
    )
    pitch = np.zeros(len(levels))
    asked = np.flatnonzero(maximum_filter1d(out, 2 * GAP_FRAMES + 3))
    again = fft.irfft(clean[asked], axis=-1)
    lags = slice(samples(0.0025, rate), samples(0.0125, rate))
    taper = fft.irfft(np.square(np.abs(fft.rfft(np.hanning(size), padded))))
    pitch[asked] = (again[:, lags] / (taper[lags] / taper[0])).max(axis=1) / (again[:, 0] + 1e-20)
    out &= pitch < PITCH
    voiced = (levels > top - 20) & (pitch >= PITCH)
    loud = levels > top - 20
    places: list[Place] = []
    marks = np.flatnonzero(np.diff(np.concatenate([[False], out, [False]]))).reshape(-1, 2).tolist()
    joined: list[list[int]] = []
    for a, b in marks:
        if joined and a - joined[-1][1] <= GAP_FRAMES and not voiced[joined[-1][1] : a].any():
            joined[-1][1] = b
        else:
            joined.append([a, b])
    dip = round(DIP_S / HOP_S)
    for a, b in joined:
        if not LEAST_S <= (b - a) * HOP_S <= MOST_S:
            continue
        peak = float(levels[a:b].max())
        before, after = levels[max(0, a - dip) : a + 2], levels[b - 2 : b + dip]
        if max(before.min(), after.min()) > min(peak - DIP_DB, max(floor + DIP_OVER_DB, peak - DEEP_DB)):
            continue
        before_it, after_it = np.flatnonzero(loud[: max(0, a - 1)]), np.flatnonzero(loud[b + 1 :])
        pause = (after_it[0] + b + 1 if len(after_it) else len(loud)) - (before_it[-1] + 1 if len(before_it) else 0)
        if pause * HOP_S < LEAST_PAUSE_S:
            continue
        if voiced[max(0, a - 2) : b + 2].any() or (levels[a:b] > top - UNDER_TOP_DB).any():
            continue
        sure = float(1 / (1 + np.exp(-0.25 * (peak - floor - OVER_FLOOR_DB))))
        start, stop = at + first + a * hop, at + first + (b - 1) * hop + size
        places.append(Place(start, min(stop, at + len(x)), "breath", peak, sure))
    return places


def is_between_sentences(place: Place, speaks: Sequence[Span], rate: int) -> bool:
    """Whether a breath lies in a pause as between sentences, not inside of one."""
    before = max((span.stop for span in speaks if span.stop <= place.start + samples(0.05, rate)), default=0)
    after = min((span.start for span in speaks if span.start >= place.stop - samples(0.05, rate)), default=1 << 62)
    return after - before >= samples(BETWEEN_S, rate)


def breaths_softened(
    sound: Sound,
    places: Sequence[Place],
    *,
    how: How = "softer",
    by_db: float = 10.0,
    room: Signal | None = None,
    watch: Watch | None = None,
) -> list[Patch]:
    """What stands in the place of breaths, with edges of 20 ms; the time stays as it is.

    `softer` by `by_db`; `shorter`: the first half becomes room; `room`: all of it does.  `room` is room tone of the same
    recording, (channels, n), as long as it has.
    """
    edge = samples(EDGE_S, sound.rate)

    def softened(place: Place) -> Patch:
        here = near(sound, place.start, place.stop, 0)
        x = here.sound.astype(np.float64)
        n = x.shape[1]
        ease = min(edge, n // 3)
        ramp = np.ones(n)
        ramp[:ease] = 0.5 - 0.5 * np.cos(np.pi * (np.arange(ease) + 0.5) / max(1, ease))
        ramp[n - ease :] = ramp[:ease][::-1]
        if how == "softer" or room is None or room.shape[1] < edge:
            return Patch(place.start, (x * (1 - ramp * (1 - ratio(-by_db)))).astype(np.float32))
        if how == "shorter":
            ramp[n // 2 :] = np.clip(1 - (np.arange(n - n // 2)) / max(1, 2 * ease), 0, 1)
        tone = _woven(room, n, place.start)
        return Patch(place.start, (x * np.sqrt(1 - ramp**2) + tone * ramp).astype(np.float32))

    return list(watched(at_once(softened, places, WORKERS), watch or Unwatched(), len(places)))


def _woven(room: Signal, length: int, seed: int) -> NDArray[np.float64]:
    """Room tone of a length out of a shorter or longer stretch, beginning anywhere in it, crossfaded where it begins anew."""
    n = room.shape[1]
    at = (seed * 2_654_435_761) % max(1, n)
    out = np.zeros((room.shape[0], length))
    fade = min(n // 4, 2048)
    if n >= length + fade:
        start = at % (n - length + 1)
        return np.asarray(room[:, start : start + length], np.float64)
    window = np.ones(n)
    ramp = np.sin(np.pi / 2 * (np.arange(fade) + 0.5) / max(1, fade))
    window[:fade], window[n - fade :] = ramp, ramp[::-1]
    for start in range(-(at % n), length, n - fade):
        a, b = max(0, start), min(length, start + n)
        if b > a:
            out[:, a:b] += room[:, a - start : b - start] * window[a - start : b - start]
    return out
