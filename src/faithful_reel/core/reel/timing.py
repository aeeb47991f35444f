"""Time in a reel: one lane is changed, those that are linked with it follow, and markers stay with their sound."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.reel import SOFT, Join, Lane, LaneRef, Marker, Reel, Segment
from faithful_reel.core.units import Span

LINKED = -1
"""Stands for all lanes that are linked, where a command names a lane."""


def checked(reel: Reel, start: int, stop: int) -> Span:
    """A stretch that is not empty and lies in the reel.

    Raises
    ------
    EditRefused
        It does not.
    """
    if not 0 <= start < stop <= len(reel):
        raise EditRefused(f"The stretch {start} to {stop} is empty or not in this chapter, which has {len(reel)} samples.")
    return Span(start, stop)


def lane_at(reel: Reel, ref: LaneRef) -> Lane:
    """One of a reel's lanes.

    Raises
    ------
    EditRefused
        There is no such lane.
    """
    return reel.lanes[reel.index(ref)]


def within(lane: Lane, span: Span) -> Span:
    """The part of a span that a shorter lane has."""
    return Span(min(span.start, len(lane)), min(span.stop, len(lane)))


def seed_at(position: int) -> int:
    """How room tone that is laid at a place is woven."""
    return 1 + position % 9973


def together(reel: Reel, ref: LaneRef) -> list[int]:
    """The lanes that gain and lose time with one of them, itself included; with `LINKED` all that are linked."""
    if ref != LINKED and not lane_at(reel, ref).linked:
        return [reel.index(ref)]
    return [k for k, lane in enumerate(reel.lanes) if lane.linked]


def exchanged(
    reel: Reel, ref: LaneRef, span: Span, middle: tuple[Segment, ...], *, after: Join | None = None, like: Span | None = None
) -> Reel:
    """Put `middle` in the place of a stretch of one lane; where it is longer or shorter, what follows on linked lanes moves.

    |  a        |      | a | middle | a |
        ^^^^       ->
    |  b        |      |  b   |gap|  b  |

    `like` is the stretch of the other lanes that goes or after which the gap comes; else the end of the stretch.

    Raises
    ------
    EditRefused
        The stretch is not in the lane.
    """
    lane = lane_at(reel, ref)
    own = within(lane, span)
    changed = lane.replaced(own, _reaching(lane, span, middle), after)
    return followed(reel, ref, changed, span, sum(len(s) for s in middle) - len(span), like=like)


def _reaching(lane: Lane, span: Span, middle: tuple[Segment, ...]) -> tuple[Segment, ...]:
    """With what fills the way from the end of a shorter lane."""
    gap = span.start - len(lane)
    return (lane.filling(gap, seed_at(len(lane))), *middle) if gap > 0 and middle else middle


def followed(reel: Reel, ref: LaneRef, changed: Lane, span: Span, by: int, *, like: Span | None = None) -> Reel:
    """A reel with one lane changed, which is `by` samples longer now at the end of `span`: the other linked lanes follow."""
    lanes, index = list(reel.lanes), reel.index(ref)
    lanes[index] = changed
    with_it = together(reel, index)
    for k in with_it:
        if k != index:
            lanes[k] = moved(lanes[k], like or span, by)
    return replace(reel, lanes=with_lateness(lanes, with_it, by), markers=_with_markers(reel, with_it, span, by))


def moved(lane: Lane, span: Span, by: int) -> Lane:
    """A lane that gains or loses time at the end of a span: what goes is the end of it, what comes is its filling."""
    if by < 0:
        return lane.replaced(within(lane, Span(span.stop + by, span.stop)), (), SOFT)
    if by > 0 and span.stop < len(lane):
        return lane.replaced(Span(span.stop, span.stop), (lane.filling(by, seed_at(span.start)),), SOFT)
    return lane


def with_lateness(lanes: Sequence[Lane], with_it: Sequence[int], by: int) -> tuple[Lane, ...]:
    """Lanes that know how far out of step they are, after those `with_it` became `by` samples longer."""
    if not by:
        return tuple(lanes)
    step = by if any(lanes[k].linked for k in with_it) else 0
    return tuple(
        lane if lane.linked else replace(lane, late=lane.late + (by if k in with_it else 0) - step)
        for k, lane in enumerate(lanes)
    )


def with_lateness_as_once(lanes: Sequence[Lane], with_it: Sequence[int], by: int) -> tuple[Lane, ...]:
    """As `with_lateness`, for pastes that journals hold from before lanes that are not linked were told apart from the others."""
    if by and (len(with_it) > 1 or lanes[with_it[0]].linked):
        return tuple(lane if lane.linked else replace(lane, late=lane.late - by) for lane in lanes)
    return with_lateness(lanes, with_it, by)


def _with_markers(reel: Reel, with_it: Sequence[int], span: Span, by: int) -> tuple[Marker, ...]:
    """Markers where their sound is now; those of what went stand where it was.  A lane that is not linked moves none."""
    if not by or not reel.markers or (len(with_it) == 1 and not reel.lanes[with_it[0]].linked):
        return reel.markers
    return moved_markers(reel.markers, span, by)


def moved_markers(markers: tuple[Marker, ...], span: Span, by: int) -> tuple[Marker, ...]:
    """Markers after the end of a span came `by` samples later."""
    end = span.stop + by
    return tuple(replace(m, at=m.at + by if m.at >= span.stop else min(m.at, max(span.start, end))) for m in markers)
