"""Commands that shape sound where it is: gain, gain lines, fades, joins, names of pieces.

`apply` raises `EditRefused` where an order does not fit, and changes nothing then.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.bounds import fade_within, gain_within, join_within
from faithful_reel.core.reel.gains import line_at, line_within
from faithful_reel.core.reel.reel import (
    NO_FADE,
    OFF_DB,
    SOFT,
    Fade,
    Join,
    Lane,
    LaneRef,
    Points,
    Reel,
    Rest,
    Segment,
)
from faithful_reel.core.reel.timing import LINKED, checked, lane_at, together, within
from faithful_reel.core.units import Span

_SAME_DB = 1e-9


@dataclass(frozen=True, slots=True)
class SetGain:
    """Set the gain of a stretch of one lane."""

    start: int
    stop: int
    gain_db: float
    lane: LaneRef = 0
    kind: Literal["set_gain"] = "set_gain"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the stretch at its new gain."""
        gain_db = gain_within(self.gain_db)
        return _mapped(reel, self.lane, self.start, self.stop, lambda s: _at_gain(s, gain_db))


@dataclass(frozen=True, slots=True)
class ChangeGain:
    """Make a stretch of one lane louder or softer by so much."""

    start: int
    stop: int
    by_db: float
    lane: LaneRef = 0
    kind: Literal["change_gain"] = "change_gain"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the stretch at other gains."""
        return _mapped(reel, self.lane, self.start, self.stop, lambda s: _at_gain(s, gain_within(s.gain_db + self.by_db)))


def _at_gain(segment: Segment, gain_db: float) -> Segment:
    return segment if isinstance(segment, Rest) else replace(segment, gain_db=gain_db)


def _mapped(reel: Reel, ref: LaneRef, start: int, stop: int, change: Callable[[Segment], Segment]) -> Reel:
    span = checked(reel, start, stop)
    lane = lane_at(reel, ref)
    return reel.with_lane(ref, lane.mapped(within(lane, span), change))


@dataclass(frozen=True, slots=True)
class DrawLine:
    """Draw the gain line of a stretch of one lane anew: points of (reel position, dB); outside of the stretch it stays as it was.

    Where no point stands at its beginning the line is there what it was, and after its end always, so that no step is heard.
    """

    start: int
    stop: int
    points: Points
    lane: LaneRef = 0
    kind: Literal["draw_line"] = "draw_line"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the line."""
        span = checked(reel, self.start, self.stop)
        if any(not self.start <= at < self.stop for at, _ in self.points):
            raise EditRefused("A point of a gain line lies outside of its stretch.")
        drawn = sorted((at, gain_within(gain_db, OFF_DB)) for at, gain_db in dict(self.points).items())
        lane = lane_at(reel, self.lane)
        starts, segments = lane.starts(), list(lane.segments)
        touched = _touched(lane, starts, within(lane, span))
        if not touched:
            raise EditRefused("This lane has no sound here.")
        for at, index in ((span.start, touched[0]), (span.stop, touched[-1])):
            if at not in dict(drawn):
                segment = segments[index]
                drawn.append((at, line_at(segment.line, at - starts[index] + segment.origin)))
        line = tuple(sorted(drawn))
        for index in touched:
            segments[index] = _redrawn(segments[index], starts[index], span, line)
        return reel.with_lane(self.lane, replace(lane, segments=tuple(segments)))


def _touched(lane: Lane, starts: list[int], span: Span) -> range:
    """The segments that hold some of a span."""
    return range(lane.index_at(span.start), bisect_left(starts, span.stop)) if len(span) else range(0)


def _redrawn(segment: Segment, begins: int, span: Span, line: Points) -> Segment:
    """A segment that begins at a reel position, with a stretch of its line as in `line`, which counts in reel time."""
    if isinstance(segment, Rest):
        return segment
    shift = segment.origin - begins
    first, last = max(span.start, begins), min(span.stop, begins + len(segment))
    lo, hi, old = first + shift, last + shift, segment.line
    i, j = bisect_left(old, (lo,)), bisect_right(old, (hi, float("inf")))
    before, after = old[: max(0, i - 1)], old[j + 1 :]
    points = dict((*old[len(before) : i], *old[j : j + 1]))
    if first == span.start:
        points[lo - 1] = line_at(old, lo - 1)
    if last == span.stop:
        points[hi + 1] = line_at(old, hi + 1)
    points |= {lo: line_at(line, first), hi: line_at(line, last)}
    points |= {at + shift: gain_db for at, gain_db in line_within(line, first, last)}
    drawn = (*before, *sorted(points.items()), *after)
    return replace(segment, line=_plain(drawn, len(before), len(before) + len(points)))


def _plain(line: Points, first: int, last: int) -> Points:
    """The same line without those of some points that lie on it anyway; none at all where it is 0 dB throughout."""
    found = list(line[:first])
    for k in range(first, last):
        at, gain_db = line[k]
        around = (*found[-1:], *line[k + 1 : k + 2])
        if not around or abs(line_at(around, at) - gain_db) > _SAME_DB:
            found.append((at, gain_db))
    found += line[last:]
    return () if all(abs(gain_db) <= _SAME_DB for _, gain_db in found) else tuple(found)


@dataclass(frozen=True, slots=True)
class SetFade:
    """Let a piece come up or go down over so many samples; none of them takes the fade away."""

    index: int
    fade: Fade
    at_start: bool = True
    lane: LaneRef = 0
    kind: Literal["set_fade"] = "set_fade"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the fade."""
        lane = lane_at(reel, self.lane)
        segment = _segment(lane, self.index)
        fade = self.fade if self.fade.length else NO_FADE
        if isinstance(segment, Rest):
            raise EditRefused("Nothing sounds here that could be faded.")
        fade_within(fade, len(segment))
        changed = replace(segment, fade_in=fade) if self.at_start else replace(segment, fade_out=fade)
        return reel.with_lane(self.lane, _with(lane, self.index, changed))


@dataclass(frozen=True, slots=True)
class SetJoin:
    """Set how a piece takes over from the one before it."""

    index: int
    join: Join
    lane: LaneRef = 0
    kind: Literal["set_join"] = "set_join"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the join."""
        lane = lane_at(reel, self.lane)
        if not 0 < self.index < len(lane.segments):
            raise EditRefused("There is no join here.")
        join_within(self.join)
        return reel.with_lane(self.lane, _with(lane, self.index, replace(lane.segments[self.index], join=self.join)))


@dataclass(frozen=True, slots=True)
class SetJoins:
    """Make all joins in a stretch alike: soften them, or set them back.  What runs on stays as it is."""

    start: int
    stop: int
    join: Join = SOFT
    lane: LaneRef = LINKED
    kind: Literal["set_joins"] = "set_joins"

    def apply(self, reel: Reel) -> Reel:
        """The reel with its joins changed."""
        span = checked(reel, self.start, self.stop)
        join_within(self.join)
        for index in together(reel, self.lane):
            lane = reel.lanes[index]
            starts = lane.starts()
            inside = range(max(1, bisect_left(starts, span.start)), min(len(lane.segments), bisect_right(starts, span.stop)))
            segments = list(lane.segments)
            for k in inside:
                if segments[k].join.length:
                    segments[k] = replace(segments[k], join=self.join)
            reel = reel.with_lane(index, replace(lane, segments=tuple(segments)))
        return reel


@dataclass(frozen=True, slots=True)
class NamePiece:
    """Give a piece a name, a colour and a note."""

    index: int
    name: str
    color: str = ""
    note: str = ""
    lane: LaneRef = 0
    kind: Literal["name_piece"] = "name_piece"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the piece named."""
        lane = lane_at(reel, self.lane)
        named = replace(_segment(lane, self.index), name=self.name.strip(), color=self.color, note=self.note.strip())
        return reel.with_lane(self.lane, _with(lane, self.index, named))


def _segment(lane: Lane, index: int) -> Segment:
    """One of a lane's segments.

    Raises
    ------
    EditRefused
        There is none of this number.
    """
    if not 0 <= index < len(lane.segments):
        raise EditRefused("There is no piece here.")
    return lane.segments[index]


def _with(lane: Lane, index: int, segment: Segment) -> Lane:
    return replace(lane, segments=(*lane.segments[:index], segment, *lane.segments[index + 1 :]))
