"""What is to be drawn on the sound of a lane: pieces, joins, fades, the gain line, in reel time."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from dataclasses import dataclass

import numpy as np

from faithful_reel.core.reel.gains import crossfade, fade_gains, line_at, line_within
from faithful_reel.core.reel.reel import Lane, Rest, Segment
from faithful_reel.core.reel.render import Row

CURVE = 25
"""Points that a curve is drawn with."""


@dataclass(frozen=True, slots=True)
class PieceLook:
    """One segment: where it stands, what it is called, whether it is room tone or nothing."""

    start: int
    stop: int
    name: str
    color: str
    kind: str


@dataclass(frozen=True, slots=True)
class Curve:
    """Gains of a fade or of one side of a crossfade, as ratios, evenly spread from `start` to `stop`."""

    start: int
    stop: int
    gains: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class FadeLook:
    """A fade that a segment has or could be given: the end of the segment that it is at, its length in samples, its bend."""

    at: int
    length: int
    bend: float
    at_start: bool


@dataclass(frozen=True, slots=True)
class LaneLook:
    """What is seen of a lane between two positions."""

    pieces: tuple[PieceLook, ...] = ()
    joins: tuple[tuple[int, int], ...] = ()
    """(position, length of the crossfade) of every join that is heard."""
    curves: tuple[Curve, ...] = ()
    line: tuple[tuple[int, float], ...] = ()
    """The gain line in dB, as straight stretches; empty where all of it is 0 dB."""
    points: tuple[tuple[int, float], ...] = ()
    """The points of the line that can be taken hold of."""
    fades: tuple[FadeLook, ...] = ()


def lane_look(row: Row, start: int, stop: int) -> LaneLook:
    """What is to be drawn of a lane from one reel position to another."""
    lane = row.lane
    if not lane.segments or stop <= start:
        return LaneLook()
    pieces: list[PieceLook] = []
    joins: list[tuple[int, int]] = []
    curves: list[Curve] = []
    line: list[tuple[int, float]] = []
    points: list[tuple[int, float]] = []
    fades: list[FadeLook] = []
    first = max(0, bisect_right(row.starts, max(0, start)) - 1)
    for index in range(first, min(len(lane.segments), bisect_left(row.starts, stop))):
        segment, at, end = lane.segments[index], row.starts[index], row.starts[index + 1]
        pieces.append(PieceLook(at, end, segment.name, segment.color, segment.kind))
        length = row.crossfade(index)
        if index and (length or lane.segments[index].join.length):
            joins.append((at, length))
            curves += _crossing(row, index, length)
        curves += _faded(segment, at, end)
        line += [(at, segment.gain_db + line_at(segment.line, segment.origin)), *_inner(segment, at, end)]
        line.append((end, segment.gain_db + line_at(segment.line, segment.origin + len(segment))))
        points += _inner(segment, at, end)
        if not isinstance(segment, Rest):
            fades += [
                FadeLook(at, max(0, segment.fade_in.length - segment.fade_in.past), segment.fade_in.bend, at_start=True),
                FadeLook(end, max(0, segment.fade_out.length - segment.fade_out.past), segment.fade_out.bend, at_start=False),
            ]
    drawn = tuple(line) if any(gain_db for _, gain_db in line) else ()
    return LaneLook(tuple(pieces), tuple(joins), tuple(curves), drawn, tuple(points), tuple(fades))


def line_points(lane: Lane) -> tuple[tuple[int, float], ...]:
    """The points of all of a lane's gain line, in reel time, with the gain of their pieces."""
    rows = zip(lane.segments, lane.starts(), strict=False)
    return tuple(p for segment, at in rows if segment.line for p in _inner(segment, at, at + len(segment)))


def _inner(segment: Segment, at: int, end: int) -> list[tuple[int, float]]:
    """The points of a segment's line that lie on it, in reel time, with its gain."""
    shift = at - segment.origin
    inside = line_within(segment.line, segment.origin, segment.origin + end - at - 1)
    return [(p + shift, segment.gain_db + gain_db) for p, gain_db in inside]


def _faded(segment: Segment, at: int, end: int) -> list[Curve]:
    if isinstance(segment, Rest):
        return []
    found: list[Curve] = []
    for fade, first in ((segment.fade_in, True), (segment.fade_out, False)):
        length = min(len(segment), fade.length - fade.past)
        if length > 0:
            gains = fade_gains(fade, np.linspace(0, length, CURVE))
            shown = gains if first else gains[::-1]
            start = at if first else end - length
            found.append(Curve(start, start + length, tuple(shown.tolist())))
    return found


def _crossing(row: Row, index: int, length: int) -> list[Curve]:
    if not length:
        return []
    at, join = row.starts[index], row.join(index)
    place = np.linspace(0, 1, CURVE)
    span = at - length // 2, at + length // 2
    return [Curve(*span, tuple(crossfade(place, join, rising=up).tolist())) for up in (True, False)]
