"""Clipping: told by the pile of samples at one level, redrawn over it by what the sound around is made of."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from faithful_reel.core.jobs import Unwatched, Watch, at_once, watched
from faithful_reel.core.treat.cells import WORKERS, Sound, near, over_cells
from faithful_reel.core.treat.places import Patch, Place
from faithful_reel.core.units import SILENT_DB, Signal, decibels, samples

FINE = 1 << 17
"""Levels that are counted, from the largest sample down to its opposite."""
LOWEST, BINS, TOP, LOWER, FIT = 0.3, 70, 3, 18, (0.35, 0.92)
"""The histogram runs from 0.3 of the largest to it by 1 %; its upper part is fitted by a straight line in the logarithm."""
LEAST_Z, LEAST_RATIO, SURER, FEWEST_BINS = 4.0, 2.0, 0.3, 8
FLAT, LEAST_FLAT, LEAST_TOPS, TOP_S = 0.002, 6, 3, 0.001
"""So many samples within the last 0.2 %, in so many tops that lie more than a millisecond apart, are flat tops however few."""
LONGEST_S, GAP_S = 2.0, 0.03
"""Clipped samples nearer to one another than the second are redrawn together, of longer stretches so much at a time."""
FRAME_S, OVERLAP = 0.032, 4
STAGES, FALL, FIRST_SHARE, INNER, MOMENTUM = 12, 0.55, 0.1, 5, 0.9
NEAR_BINS, NEAR_FRAMES = 3, 7
MOST_OVER_DB = 18.0
"""What is redrawn stands at most so much over the level at which it was cut off."""
MOST_SHARE = 0.4
"""With more clipped samples than this in a stretch there is too little left to draw from (own measure)."""


@dataclass(frozen=True, slots=True)
class Pile:
    """A level at which one polarity of a channel was cut off: `level` from which samples pile up, how surely in deviations."""

    channel: int
    sign: int
    level: float
    z: float


def piles(sound: Sound, watch: Watch | None = None) -> list[Pile]:
    """The levels at which a sound was clipped, also where it was made softer afterwards: for each channel and polarity.

    The counts of levels fall off evenly towards the largest one; where the last three bins hold more than that, and the line
    through those under them is well left, the sound was cut off there.  Softly limited sound, and such as was filtered after it
    was clipped, has no pile and is not found.

    Own rule, after the idea of Deng and others (2011, from memory) that a histogram shows clipping.
    """
    counts = np.zeros((sound.channels, FINE), np.int64)
    peaks = over_cells(sound, 0, lambda cell: float(np.max(np.abs(cell.sound), initial=0.0)), watch, "looking for clipping")
    top = 1.001 * max(peaks, default=0.0)  # floating point holds more than full scale
    if not top:
        return []

    def counted(cell):  # type: ignore[no-untyped-def]
        x = cell.sound[:, cell.first : cell.last]
        at = np.clip(((x.astype(np.float64) / top + 1.0) * (FINE / 2)).astype(np.int64), 0, FINE - 1)
        return [np.bincount(row, minlength=FINE) for row in at]

    for rows in over_cells(sound, 0, counted, watch, "looking for clipping"):
        for c, row in enumerate(rows):
            counts[c] += row
    levels = ((np.arange(FINE) + 0.5) * (2 / FINE) - 1.0) * top
    found = []
    for c, row in enumerate(counts):
        if not row.sum():
            continue
        mean = float(row @ levels) / float(row.sum())
        for sign in (1, -1):
            pile = _pile(np.asarray(sign * (levels - mean), np.float64), row)
            if pile is not None:
                found.append(Pile(c, sign, mean + sign * pile[0], float(pile[1])))
    tops = np.zeros(len(found), np.int64)

    def counted_tops(cell):  # type: ignore[no-untyped-def]
        x = cell.sound[:, cell.first : cell.last]
        over = [np.flatnonzero(pile.sign * x[pile.channel] >= pile.sign * pile.level) for pile in found]
        return [1 + np.count_nonzero(np.diff(at) > samples(TOP_S, sound.rate)) if len(at) else 0 for at in over]

    for row in over_cells(sound, 0, counted_tops, watch, "looking for clipping") if found else ():
        tops += row
    return [pile for pile, count in zip(found, tops, strict=True) if count >= LEAST_TOPS]


def _pile(levels: NDArray[np.float64], counts: NDArray[np.int64]) -> tuple[float, float] | None:
    """From which level on the samples of a polarity pile up, and its z; None where they do not."""
    there = (counts > 0) & (levels > 0)
    if not there.any():
        return None
    largest = float(levels[there].max() * (1 + 1 / FINE))
    if largest < 1e-3:
        return None
    share = levels / largest
    bins = np.floor((share - LOWEST) / (1 - LOWEST) * BINS).astype(np.int64)
    inside = (bins >= 0) & (bins < BINS)
    histogram = np.bincount(bins[inside], weights=counts[inside].astype(np.float64), minlength=BINS).astype(np.float64)
    middle = LOWEST + (np.arange(BINS) + 0.5) * (1 - LOWEST) / BINS
    below = np.array([_line(middle, histogram, k) for k in range(BINS + 1)])
    best: tuple[float, float] | None = None
    flat = float(counts[there & (share >= 1 - FLAT)].sum())
    expected = float(np.exp(below[BINS] @ (1.0, 1.0))) * FLAT / (1 - LOWEST) * BINS
    if flat >= LEAST_FLAT and flat >= LEAST_RATIO**2 * (expected + 0.5):
        best = (1 - FLAT) * largest, (flat - expected) / float(np.sqrt(expected + 4))
    for last in range(BINS, BINS - LOWER, -1):  # what was encoded afterwards piles up lower, under a few stray peaks
        for width, least, z_least in ((TOP, LEAST_RATIO, LEAST_Z), (1, 1.5 * LEAST_RATIO, 1.5 * LEAST_Z)):
            first = last - width
            start, slope = below[first]
            expected = float(np.exp(start + slope * middle[first:last]).sum())
            seen = float(histogram[first:last].sum())
            z = (seen - expected) / float(np.sqrt(expected + 4))
            surely = z_least + SURER * (BINS - last)
            if z >= surely and seen >= least * (expected + 0.5) and (best is None or z > best[1]):
                best = float((middle[first] - 0.5 * (1 - LOWEST) / BINS) * largest), z
    return best


def _line(middle: NDArray[np.float64], histogram: NDArray[np.float64], until: int) -> NDArray[np.float64]:
    """Start and slope of the line through the logarithm of the counts under bin `until`: (2,)."""
    fit = (middle >= FIT[0]) & (middle < FIT[1]) & (histogram > 0) & (np.arange(BINS) < until - 1)
    if np.count_nonzero(fit) < FEWEST_BINS:
        return np.array([np.inf, 0.0])
    slope, start = np.polyfit(middle[fit], np.log(histogram[fit]), 1, w=np.sqrt(histogram[fit]))
    return np.array([start, slope])


def clipped_places(sound: Sound, found: Sequence[Pile], watch: Watch | None = None) -> list[Place]:
    """Where samples reach the levels of piles, by stretches of samples that lie near one another."""
    gap, longest = samples(GAP_S, sound.rate), samples(LONGEST_S, sound.rate)

    def of_cell(cell):  # type: ignore[no-untyped-def]
        x = cell.sound[:, cell.first : cell.last]
        return cell.start + np.flatnonzero(_clipped(x, found).any(axis=0))

    places: list[Place] = []
    for at in over_cells(sound, 0, of_cell, watch, "looking for clipping"):
        for run in np.split(at, np.flatnonzero(np.diff(at) > 1) + 1) if len(at) else ():
            start, stop = int(run[0]), int(run[-1]) + 1
            if places and start - places[-1].stop <= gap and stop - places[-1].start <= longest:
                places[-1] = places[-1].with_(Place(start, stop, "clipping", SILENT_DB, 1.0))
            else:
                places.append(Place(start, stop, "clipping", SILENT_DB, 1.0))
    return places


def _clipped(x: Signal, found: Sequence[Pile]) -> NDArray[np.bool_]:
    """Which samples of (channels, n) stand at or over a pile."""
    out = np.zeros(x.shape, bool)
    for pile in found:
        out[pile.channel] |= pile.sign * x[pile.channel] >= pile.sign * pile.level
    return out


def unclipped(x: Signal, clipped: NDArray[np.bool_], rate: int, *, most_over_db: float = MOST_OVER_DB) -> NDArray[np.float64]:
    """(n,) sound with its clipped samples drawn anew, no smaller than they are; all others as they are.

    References
    ----------
    Siedenburg, Kowalski and Dörfler, "Audio declipping with social sparsity", ICASSP 2014: iterative shrinkage by the energy of
    a neighbourhood (persistent empirical Wiener), with a hinge on what was clipped.
    """
    y = np.asarray(x, np.float64)
    scale = float(np.max(np.abs(y))) or 1.0
    given = (y / scale).astype(np.float32)
    frame = fft.next_fast_len(samples(FRAME_S, rate) // OVERLAP * OVERLAP, real=True) // OVERLAP * OVERLAP
    hop = frame // OVERLAP
    window = np.sqrt(np.hanning(frame + 1)[:-1] / (OVERLAP / 2)).astype(np.float32)  # a tight frame: analysis and synthesis alike
    pad = frame
    padded = np.pad(given, (pad, pad + (-len(given)) % hop))
    mask = np.pad(clipped, (pad, len(padded) - len(given) - pad))
    sign = np.where(mask, np.sign(padded), 0).astype(np.float32)
    starts = np.arange(0, len(padded) - frame + 1, hop)

    def analysed(signal: NDArray[np.float32]) -> NDArray[np.complex64]:
        return fft.rfft(np.lib.stride_tricks.sliding_window_view(signal, frame)[starts] * window, axis=-1)

    def synthesised(table: NDArray[np.complex64]) -> NDArray[np.float32]:
        rows = fft.irfft(table, n=frame, axis=-1) * window
        out = np.zeros(len(padded), np.float32)
        for part in range(OVERLAP):
            block = rows[part::OVERLAP].reshape(-1)
            out[part * hop : part * hop + block.size] += block
        return out

    table = analysed(padded)
    last = table.copy()
    least = FIRST_SHARE * float(np.max(np.abs(table)))
    for _ in range(STAGES):
        for _ in range(INNER):
            moved = table + MOMENTUM * (table - last)
            now = synthesised(moved)
            wrong = padded - now
            wrong = np.where(mask, np.where(wrong * sign > 0, wrong, 0), wrong)  # a clipped sample may only be larger
            moved += analysed(wrong)
            last, table = table, _shrunk(moved, least)
        least *= FALL
    drawn = synthesised(table)[pad : pad + len(given)].astype(np.float64) * scale
    out = y.copy()
    side = np.sign(y)
    bound = np.abs(y) * 10 ** (most_over_db / 20)
    out[clipped] = (side * np.clip(side * drawn, np.abs(y), bound))[clipped]
    return out


def _shrunk(table: NDArray[np.complex64], least: float) -> NDArray[np.complex64]:
    """Coefficients weighed by max(0, 1 - least² / E), E the mean energy of the neighbourhood of each."""
    energy = table.real**2 + table.imag**2
    for axis, width in ((0, NEAR_FRAMES), (1, NEAR_BINS)):
        half = width // 2
        wide = np.pad(energy, [(half + 1, half) if k == axis else (0, 0) for k in range(2)])
        sums = np.cumsum(wide, axis=axis, dtype=np.float64)
        upper, lower = (np.take(sums, range(a, a + energy.shape[axis]), axis=axis) for a in (width, 0))
        energy = (upper - lower).astype(np.float32) / np.float32(width)
    kept = np.maximum(0, 1 - np.float32(least**2) / (energy + np.float32(1e-20))).astype(np.float32)
    return np.asarray(table * kept, np.complex64)


def clipping_redrawn(
    sound: Sound,
    found: Sequence[Pile],
    places: Sequence[Place],
    *,
    most_over_db: float = MOST_OVER_DB,
    watch: Watch | None = None,
) -> tuple[list[Patch], list[Place], float]:
    """What stands in the place of clipped stretches, the places where too much is missing, and the peak in dB that comes out."""
    around = samples(3 * FRAME_S, sound.rate)

    def drawn(place: Place) -> Patch | None:
        here = near(sound, place.start, place.stop, around)
        mask = _clipped(here.sound, found)
        if mask.mean(axis=1).max() > MOST_SHARE:
            return None
        rows = [
            unclipped(x, m, sound.rate, most_over_db=most_over_db) if m.any() else x
            for x, m in zip(here.sound, mask, strict=True)
        ]
        return Patch(place.start, np.asarray(rows, np.float32)[:, here.first : here.last])

    results = watched(at_once(drawn, places, WORKERS), watch or Unwatched(), len(places))
    pairs = list(zip(places, results, strict=True))
    patches = [patch for _, patch in pairs if patch is not None]
    peak = max((float(np.max(np.abs(patch.sound))) for patch in patches), default=0.0)
    return patches, [place for place, patch in pairs if patch is None], decibels(peak)
