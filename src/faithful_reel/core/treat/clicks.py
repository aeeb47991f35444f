"""Clicks, mouth clicks and crackle: what no side of the sound leads to, told from a voice and drawn anew."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray
from scipy.linalg import cho_factor, cho_solve, toeplitz
from scipy.signal import lfilter

from faithful_reel.core.jobs import Unwatched, Watch, at_once, watched
from faithful_reel.core.treat.cells import WORKERS, Near, Sound, near, over_cells
from faithful_reel.core.treat.places import Patch, Place
from faithful_reel.core.treat.prediction import Rows, autocorrelations, predictors, two_sided
from faithful_reel.core.treat.redraw import predictor_of
from faithful_reel.core.units import Signal, samples

HIGH_ORDER, LOW_ORDER, WIDE_RATE = 48, 32, 32_000
"""Coefficients of the prediction over and up to 32 kHz."""
HOP_S, BLOCK_S = 0.0125, 0.00025
SCALES = ((0, 4), (1, 5), (5, 8), (12, 20))
"""A click is looked for as a single sample (0) and in the mean of so many blocks of 0.25 ms; so many blocks on either side are
its own and no reference."""
MIDDLE_S, FAR_S = 0.008, 0.030
"""It is held against what lies up to 8 ms and from there up to 30 ms on either side: a voice's pulses come again within that
time."""
LEAST_CONTRAST_DB, MOST_CONTRAST_DB, LOW_CONTRAST_DB = 3.0, 40.0, -10.0
WEIGHTS: dict[bool, tuple[float, ...]] = {
    False: (
        0.0994, 0.0601, 0.0684, 0.0387, 0.0525, 0.0150, 0.0645, 0.0129, 0.0834, 0.0499, 0.0521, 0.0263, 0.0262, 0.0130, 0.0541,
        0.0046, -0.0659, -9.2777,
    ),
    True: (
        0.2222, 0.1188, 0.1291, 0.0446, 0.0295, -0.0171, -0.0178, -0.0214, 0.1437, 0.0932, 0.0681, 0.0283, 0.0134, -0.0234,
        -0.0435, -0.0311, -0.0770, -10.2296,
    ),
}  # fmt: skip
"""Of the score, for clicks and for crackle: eight contrasts by two predictions, level under the loud, constant; fitted to planted
clicks and clean readings by `benchmarks/treat/fit.py`."""
EXTENT_DB, LONGEST_S, EDGE_S = 6.0, 0.007, 0.0003
AROUND_S, NARROW_S, ROUNDS = 0.03, 0.0012, 10
SMOOTH_NARROW_S, SMOOTH_S = 0.0001, 0.0007
ACCEPTED = 2.0
"""A click is drawn anew where what would be taken away has so many times the variance that the drawing is unsure of."""
GROUP_S = 0.5
ENDS_S = 0.002
"""A sound that is cut off begins and ends with a step, which is no click."""


def _order(rate: int) -> int:
    return HIGH_ORDER if rate > WIDE_RATE else LOW_ORDER


@dataclass(frozen=True)
class _Traces:
    """A channel of a cell: the blocks of `size` samples that may click, their contrasts (candidates, 16), levels in dB."""

    contrasts: Rows
    candidates: NDArray[np.intp]
    under: Rows
    residual: Signal
    size: int


def traces(x: Signal, rate: int, *, crackle: bool) -> _Traces:
    """The contrasts of the two-sided residual of (n,) sound, by which clicks are told.

    The prediction of the window itself tells single samples best; that of the windows beside it is not spoilt by a wide click.
    The residual A(1/z) A(z) x / ||a|| is a matched filter for an impulse in an autoregressive signal.

    References
    ----------
    Vaseghi, Advanced digital signal processing and noise reduction, chapter on impulsive noise (from memory).
    """
    order, hop, size = _order(rate), samples(HOP_S, rate), max(2, samples(BLOCK_S, rate))
    lags = autocorrelations(x, 2 * hop, hop, order)
    count = len(lags)
    rows = np.arange(count)
    beside = lags[np.clip(rows - 2, 0, count - 1)] + lags[np.clip(rows + 2, 0, count - 1)]
    padded = np.pad(np.asarray(x, np.float32), order, "edge")
    blocks = len(x) // size
    found = np.empty((2 * len(SCALES), blocks))
    residual = np.empty(len(x), np.float32)
    for half, r in enumerate((lags, beside)):
        a, errors = np.empty_like(r), np.empty(count)
        predictors(r, a, errors)
        two_sided(padded, a, hop, residual)
        square = np.square(residual[: blocks * size]).reshape(blocks, size)
        peak, power = square.max(axis=1), square.mean(axis=1)
        for k, (width, _) in enumerate(SCALES):
            means = np.convolve(power, np.ones(width) / width, "same") if width else peak
            found[half * len(SCALES) + k] = 10 * np.log10(means + 1e-16)
    middle, far = samples(MIDDLE_S, rate) // size, samples(FAR_S, rate) // size
    near = np.array([own for _, own in SCALES] * 2)
    out = np.zeros(blocks, np.bool_)
    _scanned(found, near, middle, crackle, out)
    candidates = np.flatnonzero(out)
    contrasts = np.empty((len(candidates), 4 * len(SCALES)))
    _contrasts(found, candidates, near, middle, far, crackle, contrasts)
    power = np.square(np.asarray(x[: blocks * size], np.float64)).reshape(blocks, size).mean(axis=1)
    wide = max(1, samples(0.02, rate) // size)
    level = 10 * np.log10(np.convolve(power, np.ones(wide) / wide, "same") + 1e-16)
    return _Traces(np.clip(contrasts, LOW_CONTRAST_DB, MOST_CONTRAST_DB), candidates, level[candidates], residual, size)


@numba.njit(cache=True, nogil=True)
def _side(row, first, last, third):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """The greatest value of a row from `first` to `last`; where `third`, of the maxima of 1 ms the third greatest."""
    first, last = max(0, first), min(len(row), last)
    a = b = c = -200.0
    step = 4 if third else 1
    at = first
    while at < last:
        most = row[at]
        for k in range(at + 1, min(last, at + step)):
            most = max(most, row[k])
        if most > a:
            a, b, c = most, a, b
        elif most > b:
            b, c = most, b
        elif most > c:
            c = most
        at += step
    return c if third else a


@numba.njit(cache=True, nogil=True)
def _contrast(row, at, near, far, third):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """How far a block stands over what lies from `near` to `far` on either side."""
    return row[at] - max(_side(row, at - far, at - near + 1, third), _side(row, at + near, at + far + 1, third))


@numba.njit(cache=True, nogil=True)
def _scanned(rows, near, middle, third, out):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Mark the blocks that are the greatest around in any of (rows, blocks), and stand out a little."""
    for r in range(rows.shape[0]):
        row = rows[r]
        for at in range(len(row)):
            greatest = True
            for by in range(1, near[r] + 1):
                if (at >= by and row[at - by] > row[at]) or (at + by < len(row) and row[at + by] > row[at]):
                    greatest = False
                    break
            if greatest and not out[at] and _contrast(row, at, near[r], middle, third) > LEAST_CONTRAST_DB:
                out[at] = True


@numba.njit(cache=True, nogil=True)
def _contrasts(rows, candidates, near, middle, far, third, out):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """The contrasts of (rows, blocks) at some blocks or 0.5 ms beside them, the greatest, into (candidates, 2 * rows)."""
    for c in range(len(candidates)):
        for r in range(rows.shape[0]):
            for far_one in range(2):
                best = -200.0
                for at in range(max(0, candidates[c] - 2), min(rows.shape[1], candidates[c] + 3)):
                    a, b = (middle, far) if far_one else (near[r], middle)
                    best = max(best, _contrast(rows[r], at, a, b, third))
                out[c, 2 * r + far_one] = best


def design(trace: _Traces, loud_db: float) -> Rows:
    """What the score weighs, for every candidate: (candidates, 18)."""
    under = np.clip(trace.under - loud_db, -60.0, 10.0)
    return np.column_stack([trace.contrasts, under, np.ones(len(under))])


def found_clicks(
    sound: Sound, *, crackle: bool = False, sensitivity: float = 0.0, loud_db: float = -20.0, watch: Watch | None = None
) -> list[Place]:
    """The clicks of a sound, or its crackle, in any channel.

    Parameters
    ----------
    sensitivity : float
        Is added to the score, in its own units: 1 finds about half as many again.
    loud_db : float
        The level of the voice.
    """
    rate = sound.rate
    reach = samples(2 * FAR_S + 4 * HOP_S, rate)
    weights, ends = np.array(WEIGHTS[crackle]), samples(ENDS_S, rate)

    def of_cell(cell: Near) -> list[Place]:
        found: dict[int, Place] = {}
        for x in cell.sound:
            if len(x) < 8 * samples(HOP_S, rate) or not np.any(x):
                continue
            trace = traces(x - np.mean(x), rate, crackle=crackle)
            scores = design(trace, loud_db) @ weights + sensitivity
            for block, score in zip(trace.candidates.tolist(), scores.tolist(), strict=True):
                start, stop = _extent(trace, block)
                if cell.at + start < ends or cell.at + stop > sound.frames - ends:
                    continue
                if score > 0 and cell.first <= block * trace.size < cell.last:
                    sure = float(1 / (1 + np.exp(-score)))
                    peak = float(20 * np.log10(np.max(np.abs(x[start:stop])) + 1e-10))
                    key = (cell.at + start) // samples(0.001, rate)
                    place = Place(cell.at + start, cell.at + stop, "crackle" if crackle else "click", peak, sure)
                    if key not in found or found[key].sure < sure:
                        found[key] = place
        return sorted(found.values())

    places: list[Place] = []
    for part in over_cells(sound, reach, of_cell, watch, "looking for clicks"):
        for place in part:
            if places and place.start <= places[-1].stop + samples(EDGE_S, rate):
                if place.stop - places[-1].start <= samples(LONGEST_S, rate):
                    places[-1] = places[-1].with_(place)
                continue
            places.append(place)
    return places


def _extent(trace: _Traces, block: int) -> tuple[int, int]:
    """From where to where, in samples, the residual stands out around a block."""
    size = trace.size
    reach = round(LONGEST_S / BLOCK_S)
    first, last = max(0, block - reach), min(len(trace.residual) // size, block + reach + 1)
    power = np.square(trace.residual[first * size : last * size]).reshape(-1, size).mean(axis=1)
    at = block - first
    peak = max(range(max(0, at - 2), min(len(power), at + 3)), key=lambda k: power[k])
    usual = float(np.median(power)) + 1e-16
    least = max(usual * 10 ** (EXTENT_DB / 10), power[peak] * 10 ** (-30.0 / 10))
    left = right = peak
    longest = reach // 2
    while left > max(0, peak - longest) and power[max(0, left - 2) : left].max() > least:
        left -= 1
    while right < min(len(power) - 1, peak + longest) and power[right + 1 : right + 3].max() > least:
        right += 1
    return (first + left) * size, (first + right + 1) * size


def unclicked(x: Signal, first: int, last: int, rate: int) -> Rows | None:
    """Samples `first` to `last` of (n,) sound without the click in them, or None where what is there may as well be the voice.

    The click is taken for noise of a variance of its own at every sample, which is found along with the sound under it by
    expectation and maximisation: where nothing was added, the sound stays as it is.

    References
    ----------
    The autoregressive posterior as in Godsill and Rayner, Digital audio restoration (1998), chapter 5 (from memory); the
    variances, their smoothing and the test are own.
    """
    around, length = samples(AROUND_S, rate), last - first
    start, stop = max(0, first - around), min(len(x), last + around)
    around_it = np.asarray(x[start:stop], np.float64)
    mean = float(np.mean(around_it))
    around_it -= mean
    a, b = first - start, last - start
    order = min(2 * _order(rate), max(a, len(around_it) - b) // 3)
    sides = [side for side in (around_it[:a], around_it[b:]) if len(side) > order]
    if order < 8:
        return None
    filtered = predictor_of(sides, order)
    errors = np.concatenate([lfilter(filtered, [1.0], side)[order:] for side in sides])
    variance = float(np.mean(np.square(errors))) + 1e-16
    lags = np.correlate(filtered, filtered, "full")[order:]
    row = np.zeros(length)
    row[: min(length, order + 1)] = lags[:length]
    precision = toeplitz(row) / variance
    known = around_it.copy()
    known[a:b] = 0.0
    ahead = lfilter(filtered, [1.0], known[: b + order])[a:]
    ahead = np.pad(ahead, (0, length + order - len(ahead)))
    pull = np.correlate(ahead, filtered, "valid") / variance
    wide = samples(SMOOTH_NARROW_S if length <= samples(NARROW_S, rate) else SMOOTH_S, rate) // 2
    kernel = np.hanning(2 * wide + 3)[1:-1]
    kernel /= kernel.sum()
    there = around_it[a:b]
    drawn, spread = _posterior(precision, -pull, np.full(length, 1e-9 / variance))
    for _ in range(ROUNDS - 1):
        added = np.convolve(np.pad(np.square(there - drawn) + spread, wide, "edge"), kernel, "valid") + 1e-14
        drawn, spread = _posterior(precision, there / added - pull, 1 / added)
    if np.sum(np.square(there - drawn)) < ACCEPTED * np.sum(spread):
        return None
    drawn += mean
    if np.max(np.abs(drawn)) > max(1.0, float(np.max(np.abs(x[first:last])))):  # what was cut off at full scale is no click
        return None
    return drawn


def _posterior(precision: Rows, pull: Rows, own: Rows) -> tuple[Rows, Rows]:
    """Mean (n,) and variances (n,) of a Gaussian by its precision (n, n), with `own` (n,) added to the diagonal."""
    table = precision.copy()
    table[np.diag_indices_from(table)] += own + 1e-12 * precision[0, 0]
    factor = cho_factor(table, lower=True)
    inverse = cho_solve(factor, np.eye(len(pull)))
    return inverse @ pull, np.diag(inverse)


def clicks_redrawn(sound: Sound, places: Sequence[Place], watch: Watch | None = None) -> list[tuple[Place, Patch]]:
    """The places that could be drawn anew, each with what was drawn.

    What lies beside another click is drawn from what was drawn there.
    """
    rate = sound.rate
    groups: list[list[Place]] = []
    for place in sorted(places):
        beside = groups and place.start - groups[-1][-1].stop < samples(AROUND_S, rate)
        if beside and place.stop - groups[-1][0].start < samples(GROUP_S, rate):
            groups[-1].append(place)
        else:
            groups.append([place])
    edge, around = samples(EDGE_S, rate), samples(2 * AROUND_S, rate)

    def drawn(group: list[Place]) -> list[tuple[Place, Patch]]:
        here = near(sound, group[0].start, group[-1].stop, around)
        out = np.array(here.sound, np.float32)
        done = []
        for place in group:
            first, last = max(0, place.start - edge - here.at), min(out.shape[1], place.stop + edge - here.at)
            new = [unclicked(x, first, last, rate) for x in out]
            if all(part is None for part in new):
                continue
            for x, part in zip(out, new, strict=True):
                if part is not None:
                    x[first:last] = part
            done.append((place, Patch(here.at + first, out[:, first:last].copy())))
        return done

    rows = watched(at_once(drawn, groups, WORKERS), watch or Unwatched(), len(groups))
    return [pair for group in rows for pair in group]
