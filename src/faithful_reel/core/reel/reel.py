"""The reel: lanes of pieces and room tone, with joins between them.  Frozen values; no sound is touched here."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from itertools import accumulate
from typing import Literal

from faithful_reel.core.errors import EditRefused
from faithful_reel.core.units import Span

Shape = Literal["equal_power", "equal_gain"]


@dataclass(frozen=True, slots=True)
class Join:
    """How a segment begins: a crossfade of `length` samples, centred on the boundary, so that no time is used up."""

    length: int = 441
    shape: Shape = "equal_power"


SOFT = Join(441, "equal_power")
LIKE = Join(882, "equal_gain")


@dataclass(frozen=True, slots=True)
class Piece:
    """A stretch of one recording; `join` is how it takes over from what stands before it."""

    recording: str
    start: int
    stop: int
    gain_db: float = 0.0
    join: Join = SOFT
    take: str = ""
    kind: Literal["piece"] = "piece"

    def __len__(self) -> int:
        return self.stop - self.start


@dataclass(frozen=True, slots=True)
class RoomTone:
    """Room tone of any length, woven from a stretch of a recording; no recording: a soft made hiss."""

    recording: str
    start: int
    stop: int
    length: int
    gain_db: float = 0.0
    join: Join = LIKE
    seed: int = 1
    offset: int = 0
    kind: Literal["room_tone"] = "room_tone"

    def __len__(self) -> int:
        return self.length


Segment = Piece | RoomTone


def _part(segment: Segment, start: int, stop: int) -> Segment:
    """Samples `start` to `stop` of a segment; what begins inside keeps its join only at the segment's own start."""
    join = segment.join if start == 0 else SOFT
    if isinstance(segment, Piece):
        return replace(segment, start=segment.start + start, stop=segment.start + stop, join=join)
    return replace(segment, length=stop - start, offset=segment.offset + start, join=join)


def runs_on(first: Segment, second: Segment) -> bool:
    """Whether the second is the very sound that follows the first, at the same gain: together they are one piece."""
    return (
        isinstance(first, Piece)
        and isinstance(second, Piece)
        and (first.recording, first.stop, first.gain_db, first.take)
        == (second.recording, second.start, second.gain_db, second.take)
    )


@dataclass(frozen=True, slots=True)
class Lane:
    """One voice or one music part, segments end to end."""

    name: str
    segments: tuple[Segment, ...]

    def __len__(self) -> int:
        return sum(len(s) for s in self.segments)

    def starts(self) -> list[int]:
        """Where every segment starts, and after the last the lane's length."""
        return [0, *accumulate(len(s) for s in self.segments)]

    def index_at(self, position: int) -> int:
        """The segment that holds a position."""
        return max(0, min(len(self.segments) - 1, bisect_right(self.starts(), position) - 1))

    def between(self, span: Span, starts: list[int] | None = None) -> tuple[Segment, ...]:
        """The segments of a stretch, cut at its ends; those that lie inside are the same objects.

        `starts` is what `starts()` gives, for who asks often.
        """
        starts = self.starts() if starts is None else starts
        if span.stop <= span.start or not self.segments:
            return ()
        first = max(0, bisect_right(starts, span.start) - 1)
        last = min(len(self.segments), bisect_left(starts, span.stop))
        found = list(self.segments[first:last])
        if not found:
            return ()
        if starts[last] > span.stop:
            found[-1] = _part(found[-1], 0, span.stop - starts[last - 1])
        if starts[first] < span.start:
            found[0] = _part(found[0], span.start - starts[first], len(found[0]))
        return tuple(found)

    def replaced(self, span: Span, middle: tuple[Segment, ...], after: Join | None = None) -> Lane:
        """Put `middle` in the place of `span`; `after` is how what follows takes over.

        |  a  |  b  |   ->   | a | m | b|
            ^^^^

        Raises
        ------
        EditRefused
            The stretch is not in the lane.
        """
        starts = self.starts()
        if not 0 <= span.start <= span.stop <= starts[-1]:
            raise EditRefused(f"The stretch {span.start} to {span.stop} is not in this chapter, which has {starts[-1]} samples.")
        left = self.between(Span(0, span.start), starts)
        right = self.between(Span(span.stop, starts[-1]), starts)
        if right and after is not None:
            right = (replace(right[0], join=after), *right[1:])
        return Lane(self.name, (*left, *(s for s in middle if len(s)), *right))

    def mapped(self, span: Span, change: Callable[[Segment], Segment]) -> Lane:
        """Change the segments of a stretch; those that straddle its ends are split there."""
        return self.replaced(span, tuple(change(s) for s in self.between(span)))


@dataclass(frozen=True, slots=True)
class Reel:
    """What a chapter will sound like: lanes of equal length, in step."""

    lanes: tuple[Lane, ...]

    def __len__(self) -> int:
        return max((len(lane) for lane in self.lanes), default=0)

    def with_lane(self, index: int, lane: Lane) -> Reel:
        """The reel with one lane exchanged."""
        return Reel((*self.lanes[:index], lane, *self.lanes[index + 1 :]))


def reel_of(recording: str, length: int, *, lane: str = "voice") -> Reel:
    """One whole recording as a reel."""
    return Reel((Lane(lane, (Piece(recording, 0, length),)),))


def split_reel(reel: Reel, at: int) -> tuple[Reel, Reel]:
    """A reel in two, before and after a position.

    |  a  |  b  |   ->   |  a | and | a|  b  |
         ^

    Raises
    ------
    EditRefused
        One side would be empty.
    """
    if not 0 < at < len(reel):
        raise EditRefused("There is no sound on one side of this place.")
    first, second = (
        Reel(tuple(Lane(lane.name, lane.between(span)) for lane in reel.lanes)) for span in (Span(0, at), Span(at, len(reel)))
    )
    return first, second


def joined_reels(reels: Sequence[Reel]) -> Reel:
    """Reels end to end, lane by lane; all need the same lanes.

    Raises
    ------
    EditRefused
        Their lanes have different names.
    """
    lanes = {tuple(lane.name for lane in reel.lanes) for reel in reels}
    if len(lanes) != 1:
        raise EditRefused("These chapters have different lanes and can not be joined.")
    names = lanes.pop()
    return Reel(tuple(Lane(name, tuple(s for r in reels for s in r.lanes[k].segments)) for k, name in enumerate(names)))


def recordings_of(reel: Reel) -> list[str]:
    """The recordings that are heard in the first lane, each once."""
    return list(dict.fromkeys(s.recording for s in reel.lanes[0].segments if s.recording)) if reel.lanes else []


def places_of(reel: Reel, recording: str, span: Span) -> list[Span]:
    """Where a stretch of a recording is heard in the reel, in reel time, in order; empty where it was cut."""
    found: list[Span] = []
    for lane in reel.lanes:
        for segment, at in zip(lane.segments, lane.starts(), strict=False):
            if isinstance(segment, Piece) and segment.recording == recording:
                first, last = max(span.start, segment.start), min(span.stop, segment.stop)
                if last > first or (span.start == span.stop and segment.start <= span.start < segment.stop):
                    found.append(Span(at + first - segment.start, at + last - segment.start))
    return sorted(found)


def source_at(reel: Reel, position: int, lane: int = 0) -> tuple[str, int] | None:
    """The recording and the position in it that is heard at a reel position; None in room tone."""
    row = reel.lanes[lane]
    if not row.segments or not 0 <= position < len(row):
        return None
    index = row.index_at(position)
    segment = row.segments[index]
    if isinstance(segment, RoomTone):
        return None
    return segment.recording, segment.start + position - row.starts()[index]
