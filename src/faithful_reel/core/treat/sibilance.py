"""Sibilance: what stands over this reader's own s, and no more; nothing else is dulled."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft
from scipy.signal import fftconvolve, firwin

from faithful_reel.core.jobs import Unwatched, Watch, at_once, watched
from faithful_reel.core.treat.cells import WORKERS, Near, Sound, near, over_cells
from faithful_reel.core.treat.places import Patch, Place
from faithful_reel.core.units import samples

SPLIT_HZ, TOP_HZ = 4000.0, 10_000.0
"""Sibilance sits between 5 and 9 kHz (common practice); it is worked on from 4 kHz up, and measured up to 10."""
VOWEL_HZ = (300.0, 3000.0)
HOP_S, FRAME_S = 0.005, 0.01
LEAST_SHARE_DB, UNDER_TOP_DB, SHORTEST_S, GAP_FRAMES = -2.0, 30.0, 0.03, 2
OVER_OWN_DB, UNDER_VOWELS_DB = 1.0, 10.7
"""An s may stand 1 dB over the reader's usual one, and never nearer than 10.7 dB to the loud vowels: where every s is harsh,
the usual one is no measure (as measured)."""
HARSH_DB = -3.0
"""In clean readings nine s of ten stay farther under the loud vowels than this (own measure, twelve readings: -3.5 to -10.6)."""
SHARE, MOST_DB = 1.0, 14.0
"""Of what stands over, so much is taken, at most so many dB."""
FEWEST = 4
TAPS_S = 0.004


@dataclass(frozen=True)
class SibilantLevels:
    """Every 5 ms, powers (frames,): of what an s is made of, and of what a vowel is."""

    rate: int
    sibilant: NDArray[np.float64]
    vowel: NDArray[np.float64]

    @property
    def hop(self) -> int:
        """Samples from one to the next."""
        return samples(HOP_S, self.rate)


def sibilant_levels(sound: Sound, watch: Watch | None = None) -> SibilantLevels:
    """One pass over a sound; powers of its channels are added."""
    rate = sound.rate
    hop, size = samples(HOP_S, rate), samples(FRAME_S, rate)
    window = np.hanning(size).astype(np.float32)
    hz = np.fft.rfftfreq(size, 1 / rate)
    bands = np.stack([(hz >= SPLIT_HZ) & (hz < TOP_HZ), (hz >= VOWEL_HZ[0]) & (hz < VOWEL_HZ[1])]).astype(np.float32)
    scale = 2.0 / (size * float(np.sum(np.square(window))))

    def of_cell(cell: Near) -> NDArray[np.float64]:
        starts = np.arange(-(-cell.start // hop) * hop, cell.stop, hop) - cell.at - size // 2
        x = np.pad(cell.sound, ((0, 0), (size, size)))
        rows = np.zeros((2, len(starts)))
        for channel in x:
            frames = np.lib.stride_tricks.sliding_window_view(channel, size)[starts + size]
            spectra = fft.rfft(frames * window, axis=-1)
            rows += bands @ (spectra.real**2 + spectra.imag**2).T * scale
        return rows

    table = np.concatenate(list(over_cells(sound, size, of_cell, watch, "looking for sibilance")), axis=1)
    return SibilantLevels(rate, *table)


def sibilants(levels: SibilantLevels) -> list[tuple[int, int]]:
    """Half-open runs of frames in which an s is spoken: as loud up there as a vowel is below, and longer than 30 ms."""
    up, low = 10 * np.log10(levels.sibilant + 1e-16), 10 * np.log10(levels.vowel + 1e-16)
    if not len(up):
        return []
    out = (up - low > LEAST_SHARE_DB) & (up > up.max() - UNDER_TOP_DB)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], out, [False]]))).reshape(-1, 2).tolist()
    joined: list[list[int]] = []
    for a, b in edges:
        if joined and a - joined[-1][1] <= GAP_FRAMES:
            joined[-1][1] = b
        else:
            joined.append([a, b])
    return [(a, b) for a, b in joined if (b - a) * HOP_S >= SHORTEST_S]


def usual_and_most(levels: SibilantLevels) -> tuple[float, float] | None:
    """The level of the reader's usual s, and that over which one stands out, in dB; None with too few of them."""
    up, low = 10 * np.log10(levels.sibilant + 1e-16), 10 * np.log10(levels.vowel + 1e-16)
    tops = [float(up[a:b].max()) for a, b in sibilants(levels)]
    if len(tops) < FEWEST:
        return None
    usual = float(np.median(tops))
    return usual, min(usual + OVER_OWN_DB, float(np.percentile(low, 95)) - UNDER_VOWELS_DB)


def is_harsh(levels: SibilantLevels) -> bool:
    """Whether the louder s of a reading come so near to its loud vowels that there is something to soften."""
    up, low = 10 * np.log10(levels.sibilant + 1e-16), 10 * np.log10(levels.vowel + 1e-16)
    tops = [float(up[a:b].max()) for a, b in sibilants(levels)]
    return len(tops) >= FEWEST and float(np.percentile(tops, 90) - np.percentile(low, 95)) > HARSH_DB


def found_sibilance(levels: SibilantLevels, *, most_db: float | None = None) -> list[Place]:
    """Every s that stands over what this reader's may, in a reading that is harsh: `level_db` is its greatest level over 4 kHz.

    `most_db` sets the level over which it does by hand, in any reading.
    """
    bounds = usual_and_most(levels)
    most = most_db if most_db is not None else bounds[1] if bounds and is_harsh(levels) else None
    if most is None:
        return []
    up = 10 * np.log10(levels.sibilant + 1e-16)
    found = []
    for a, b in sibilants(levels):
        top = float(up[a:b].max())
        if top > most:
            found.append(Place(a * levels.hop, b * levels.hop, "sibilance", top, float(1 / (1 + np.exp(-0.7 * (top - most))))))
    return found


def sibilance_softened(
    sound: Sound,
    places: Sequence[Place],
    levels: SibilantLevels,
    *,
    share: float = SHARE,
    most_db: float | None = None,
    lower_db: float = 0.0,
    watch: Watch | None = None,
) -> list[Patch]:
    """What stands in the place of harsh s: what lies over 4 kHz lowered by a share of its excess, moment by moment.

    The band is split by a linear-phase filter that is put back in time, so that nothing else moves.
    """
    bounds = usual_and_most(levels)
    most = most_db if most_db is not None else bounds[1] if bounds else None
    if most is None or not places:
        return []
    most -= lower_db
    rate, hop = sound.rate, levels.hop
    half = samples(TAPS_S, rate) // 2
    high = firwin(2 * half + 1, SPLIT_HZ, fs=rate, pass_zero=False)
    up = 10 * np.log10(levels.sibilant + 1e-16)
    excess = np.clip(share * (up - most), 0.0, MOST_DB)
    inside = np.zeros(len(up))
    for place in places:
        inside[place.start // hop : place.stop // hop] = 1.0
    reduction = np.convolve(excess * inside, np.array([0.25, 0.5, 0.25]), "same")  # eased over 15 ms

    def softened(place: Place) -> Patch:
        start, stop = max(0, place.start - 2 * hop), min(sound.frames, place.stop + 2 * hop)
        here = near(sound, start, stop, half)
        gain = 10 ** (-np.interp(np.arange(start, stop), np.arange(len(up)) * hop, reduction) / 20)
        part = fftconvolve(here.sound.astype(np.float64), high[None], mode="same", axes=-1)[:, here.first : here.last]
        return Patch(start, (here.sound[:, here.first : here.last] - (1 - gain) * part).astype(np.float32))

    return list(watched(at_once(softened, places, WORKERS), watch or Unwatched(), len(places)))
