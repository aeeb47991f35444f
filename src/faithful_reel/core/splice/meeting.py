"""Where two ends of a cut meet best: both edges are looked for together, so that what follows goes on as what was cut began."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.units import Signal, Span

REACH_S, STEP_S, FRAME_S = 0.05, 0.002, 0.02
OVER, LOUD, WAY = 1.5, 0.02, 0.5
"""How the join itself counts beside what it stands for; a dB of loudness; the whole way. Found on real readings."""
SLIDE_S = 0.006
"""So far the second edge slides, so that waves go on where they were."""
BANDS_HZ = np.geomspace(100, 7500, 15)
LEAST_LEVEL_DB = -90.0


def met(render: Callable[[int, int], Signal], span: Span, length: int, rate: int) -> Span:
    """The edges of a stretch that is to be taken out, moved by at most 50 ms to where the sound on both sides is alike.

    Of all pairs of places near the two edges that is taken where what stands before the first is most like what stands before
    the second, what stands after the first like what stands after the second, and the two sides of the join like one another, by
    third-octaves of 20 ms; a louder place and a longer way count against it (own rule; that candidates on both sides are judged
    together is after what was measured of joins where words touch).  Then the second edge slides by up to 6 ms to where the
    waves agree.  `render` gives samples of the reel, (n,).
    """
    reach, step, frame = round(REACH_S * rate), max(1, round(STEP_S * rate)), round(FRAME_S * rate)
    reach = min(reach, len(span) // 3)
    if len(span) < 4 * frame:
        return span
    offsets = np.arange(-reach, reach + 1, step)

    def around(first: int, last: int) -> Signal:
        x = np.zeros(last - first)
        low, high = max(0, first), min(length, last)
        if high > low:
            x[low - first : high - first] = render(low, high)
        return x

    before, after = (shapes_at(around, at, offsets, frame, rate) for at in (span.start, span.stop))
    pairs = places_apart(before[0], after[0]) + places_apart(before[1], after[1]) + OVER * places_apart(before[0], after[1])
    loud = np.maximum(before[0].max(axis=1)[:, None], after[1].max(axis=1)[None, :])
    way = (np.abs(offsets)[:, None] + np.abs(offsets)[None, :]) / reach
    cost = pairs / 3 + LOUD * (loud - loud.min()) + WAY * way
    cost[span.start + offsets < 0] = np.inf
    cost[:, span.stop + offsets > length] = np.inf
    i, j = np.unravel_index(int(cost.argmin()), cost.shape)
    start, stop = int(span.start + offsets[i]), int(span.stop + offsets[j])
    return Span(start, stop + _slide(render, start, stop, length, rate))


def shapes_at(
    around: Callable[[int, int], Signal], at: int, offsets: NDArray[np.int64], frame: int, rate: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Third-octave levels in dB, (places, bands), of the frames before and after places around a position.

    `around` gives samples, zeros outside of the sound.
    """
    x = np.asarray(around(at + int(offsets[0]) - frame, at + int(offsets[-1]) + frame), np.float64)
    frames = np.lib.stride_tricks.sliding_window_view(x, frame)
    starts = offsets - offsets[0]
    power = np.abs(np.fft.rfft(frames[np.concatenate([starts, starts + frame])] * np.hanning(frame), axis=1)) ** 2
    edges = np.searchsorted(np.fft.rfftfreq(frame, 1 / rate), BANDS_HZ)
    sums = np.concatenate([np.zeros((len(power), 1)), np.cumsum(power, axis=1)], axis=1)
    lasts = np.minimum(np.maximum(edges[1:], edges[:-1] + 1), power.shape[1])
    firsts = np.minimum(edges[:-1], lasts - 1)
    levels = 10 * np.log10((sums[:, lasts] - sums[:, firsts]) / (lasts - firsts) / frame + 10 ** (LEAST_LEVEL_DB / 10))
    return levels[: len(starts)], levels[len(starts) :]


def places_apart(one: NDArray[np.float64], other: NDArray[np.float64]) -> NDArray[np.float64]:
    """The mean difference of every pair of rows, (rows of one, rows of the other), in dB."""
    return np.asarray(np.abs(one[:, None, :] - other[None, :, :]).mean(axis=2))


def _slide(render: Callable[[int, int], Signal], start: int, stop: int, length: int, rate: int) -> int:
    """How far the second edge slides so that the waves around it are those around the first."""
    half, most = round(0.008 * rate), round(SLIDE_S * rate)
    if start < half or stop + half + most > length or stop - half - most < 0:
        return 0
    here = np.asarray(render(start - half, start + half), np.float64)
    there = np.asarray(render(stop - half - most, stop + half + most), np.float64)
    windows = np.lib.stride_tricks.sliding_window_view(there, 2 * half)
    norms = np.sqrt(np.sum(np.square(windows), axis=1) * np.sum(np.square(here))) + 1e-12
    likeness = windows @ here / norms - 0.05 * np.abs(np.arange(-most, most + 1)) / most
    best = int(likeness.argmax())
    return best - most if likeness[best] > 0.4 else 0
