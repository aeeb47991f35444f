"""Gain over time: lines, fades, crossfades.  One place, for what is heard and what is drawn."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from typing import Any

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.reel.reel import NO_FADE, OFF_DB, Fade, Join, Points, Rest, Segment, follows
from faithful_reel.core.units import ratio

Gains = NDArray[np.float64]
_SAME = 1e-6


def line_at(line: Points, position: int) -> float:
    """A gain line at one position, in dB; 0 where there is none."""
    if not line:
        return 0.0
    k = bisect_right(line, (position, float("inf")))
    if k == 0 or k == len(line):
        return line[min(k, len(line) - 1)][1]
    (a, low), (b, high) = line[k - 1], line[k]
    return low + (high - low) * (position - a) / (b - a)


def line_within(line: Points, first: float, last: float, *, beside: int = 0) -> Points:
    """The points of a gain line from one position to another, both included, and so many `beside` them on either side."""
    return line[max(0, bisect_left(line, (first,)) - beside) : bisect_right(line, (last, float("inf"))) + beside]


def line_gains(line: Points, positions: NDArray[np.floating[Any]]) -> Gains:
    """A gain line at (n,) rising positions, as (n,) ratios; nothing at or under `OFF_DB`."""
    if not line or not len(positions):
        return np.ones(len(positions))
    xs, levels = np.array(line_within(line, positions[0], positions[-1], beside=1), dtype=np.float64).T
    found = np.interp(positions, xs, levels)
    return np.where(found > OFF_DB, 10.0 ** (found / 20.0), 0.0)


def fade_gains(fade: Fade, inside: NDArray[np.floating[Any]]) -> Gains:
    """A fade at (n,) samples from the segment's end that it belongs to, as (n,) ratios; nothing outside of the segment."""
    if not fade.length:
        return np.ones(len(inside))
    at = np.clip((inside + fade.past + 0.5) / fade.length, 0.0, 1.0)
    return np.asarray(at ** (2.0**fade.bend), dtype=np.float64)


def crossfade(at: NDArray[np.floating[Any]], join: Join, *, rising: bool = True) -> Gains:
    """One side of a crossfade at (n,) places 0 to 1 of it, as (n,) ratios.

    A quarter of a sine for equal power (the squares of both sides add up to 1), a line for equal gain (they themselves do).
    """
    bent = at ** (2.0**join.bend) if join.bend else at
    bent = bent if rising else 1 - bent
    return np.asarray(np.sin(0.5 * np.pi * bent) if join.shape == "equal_power" else bent, dtype=np.float64)


def segment_gains(segment: Segment, inside: NDArray[np.floating[Any]]) -> Gains:
    """A segment's own gain, line and fades at (n,) samples from its start, as (n,) ratios; joins are not in it."""
    if isinstance(segment, Rest):
        return np.zeros(len(inside))
    found = np.full(len(inside), ratio(segment.gain_db))
    if segment.line:
        found *= line_gains(segment.line, inside + segment.origin)
    if segment.fade_in.length:
        found *= fade_gains(segment.fade_in, inside)
    if segment.fade_out.length:
        found *= fade_gains(segment.fade_out, len(segment) - 1 - inside)
    return found


def seamless(before: Segment, after: Segment) -> bool:
    """Whether sound runs on over a boundary as if there were none: the same sound, at the same gain there."""
    if not follows(before, after):
        return False
    if (before.gain_db, before.line) == (after.gain_db, after.line) and _unfaded(before, after):
        return True
    here = segment_gains(before, np.array([float(len(before))])), segment_gains(after, np.zeros(1))
    return bool(np.allclose(*here, rtol=_SAME, atol=_SAME))


def _unfaded(before: Segment, after: Segment) -> bool:
    return before.fade_in == before.fade_out == after.fade_in == after.fade_out == NO_FADE
