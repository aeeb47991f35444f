"""Edit commands: frozen orders that map a reel to a new reel.  They are what the journal stores.

`apply` raises `EditRefused` where an order does not fit, and changes nothing then.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.reel import LIKE, SOFT, Join, Lane, Piece, Reel, RoomTone, Segment, runs_on
from faithful_reel.core.units import Span


@dataclass(frozen=True, slots=True)
class ToneSource:
    """The stretch of room tone that fills are woven from."""

    recording: str
    start: int
    stop: int

    def filling(self, length: int, seed: int) -> RoomTone:
        """`length` samples of it."""
        return RoomTone(self.recording, self.start, self.stop, length, seed=seed)


def _checked(reel: Reel, start: int, stop: int) -> Span:
    if not 0 <= start < stop <= len(reel):
        raise EditRefused(f"The stretch {start} to {stop} is empty or not in this chapter, which has {len(reel)} samples.")
    return Span(start, stop)


@dataclass(frozen=True, slots=True)
class CutAndClose:
    """Take a stretch out of all lanes; what follows moves up.

    |  a  |  b  |   ->   | a | b|
        ^^^^
    """

    start: int
    stop: int
    join: Join = SOFT
    kind: Literal["cut_and_close"] = "cut_and_close"

    def apply(self, reel: Reel) -> Reel:
        """The reel without the stretch."""
        span = _checked(reel, self.start, self.stop)
        if len(span) == len(reel):
            raise EditRefused("This would cut the whole chapter away. Choose a shorter stretch.")
        return Reel(tuple(lane.replaced(_within(lane, span), (), self.join) for lane in reel.lanes))


@dataclass(frozen=True, slots=True)
class CutAndFill:
    """Lay room tone over a stretch of one lane; nothing moves.

    |  a  |  b  |   ->   | a |tone|b|
        ^^^^
    """

    start: int
    stop: int
    tone: ToneSource
    lane: int = 0
    kind: Literal["cut_and_fill"] = "cut_and_fill"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the stretch silenced on its lane."""
        span = _checked(reel, self.start, self.stop)
        lane = reel.lanes[self.lane]
        return reel.with_lane(
            self.lane, lane.replaced(_within(lane, span), (self.tone.filling(len(span), 1 + span.start % 9973),), SOFT)
        )


@dataclass(frozen=True, slots=True)
class SplitAt:
    """Cut a piece in two without any change to the sound.

    |  a     |   ->   | a |  a' |
        ^
    """

    at: int
    lane: int = 0
    kind: Literal["split"] = "split"

    def apply(self, reel: Reel) -> Reel:
        """The reel with a boundary at `at`; its join has no crossfade since the sound runs on."""
        if not 0 < self.at < len(reel):
            raise EditRefused("There is nothing to split here. Choose a place inside the chapter.")
        lane = reel.lanes[self.lane]
        return reel.with_lane(self.lane, lane.replaced(Span(self.at, self.at), (), Join(0, "equal_gain")))


@dataclass(frozen=True, slots=True)
class MoveJoin:
    """Move the boundary before segment `index` by `by` samples: one side gives what the other takes.

    |  a  |  b  |   ->   |  a    |b |
          ^ ->
    """

    index: int
    by: int
    lane: int = 0
    kind: Literal["move_join"] = "move_join"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the boundary moved; its length stays."""
        lane = reel.lanes[self.lane]
        if not 0 < self.index < len(lane.segments):
            raise EditRefused("There is no join here.")
        left, right = lane.segments[self.index - 1], lane.segments[self.index]
        if len(left) + self.by < 1 or len(right) - self.by < 1:
            raise EditRefused("The join can not be moved past the end of its piece.")
        moved = (_grown(left, 0, self.by), _grown(right, -self.by, 0))
        if any(isinstance(s, Piece) and s.start < 0 for s in moved):
            raise EditRefused("The recording does not reach any further.")
        segments = (*lane.segments[: self.index - 1], *moved, *lane.segments[self.index + 1 :])
        return reel.with_lane(self.lane, Lane(lane.name, segments))


def _grown(segment: Segment, before: int, after: int) -> Segment:
    if isinstance(segment, Piece):
        return replace(segment, start=segment.start - before, stop=segment.stop + after)
    return replace(segment, length=segment.length + before + after, offset=segment.offset - before)


@dataclass(frozen=True, slots=True)
class SetGain:
    """Set the gain of a stretch of one lane."""

    start: int
    stop: int
    gain_db: float
    lane: int = 0
    kind: Literal["set_gain"] = "set_gain"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the stretch at its new gain."""
        if not -60 <= self.gain_db <= 24:
            raise EditRefused(f"A gain of {self.gain_db:g} dB is outside -60 to 24 dB.")
        span = _checked(reel, self.start, self.stop)
        lane = reel.lanes[self.lane]
        changed = lane.mapped(_within(lane, span), lambda segment: replace(segment, gain_db=self.gain_db))
        return reel.with_lane(self.lane, changed)


@dataclass(frozen=True, slots=True)
class ReplaceByTake:
    """Put a stretch of another recording in the place of a stretch of one lane; the other lanes stay in step.

    |  a        |   ->   | a | take | a |
        ^^^^
    """

    start: int
    stop: int
    recording: str
    take_start: int
    take_stop: int
    gain_db: float
    tone: ToneSource
    join_in: Join = SOFT
    join_out: Join = SOFT
    take: str = ""
    lane: int = 0
    kind: Literal["replace_by_take"] = "replace_by_take"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the take in place; it is longer or shorter by the difference."""
        span = _checked(reel, self.start, self.stop)
        if self.take_stop <= self.take_start or self.take_start < 0:
            raise EditRefused("The take is empty. Choose another one.")
        piece = Piece(self.recording, self.take_start, self.take_stop, self.gain_db, self.join_in, self.take)
        lanes = []
        for index, lane in enumerate(reel.lanes):
            if index == self.lane:
                lanes.append(lane.replaced(_within(lane, span), (piece,), self.join_out))
                continue
            change = len(piece) - len(span)
            if change < 0:
                lanes.append(lane.replaced(_within(lane, Span(span.stop + change, span.stop)), (), SOFT))
            elif change > 0 and span.stop < len(lane):
                lanes.append(lane.replaced(Span(span.stop, span.stop), (self.tone.filling(change, 1 + span.start % 9973),), SOFT))
            else:
                lanes.append(lane)
        return Reel(tuple(lanes))


@dataclass(frozen=True, slots=True)
class PutBackSound:
    """Put a stretch of a recording in at a place of the first lane; the other lanes get room tone, so that all stay in step.

    |  a  |  b  |   ->   |  a  | back |  b  |
          ^

    Where it runs on from or into the piece beside it, the two are one piece again: the sound is as it was before it was cut.
    With `over`, which is nothing or its own length, it takes the place of what lies there instead, and nothing moves.
    """

    at: int
    recording: str
    start: int
    stop: int
    gain_db: float
    tone: ToneSource
    over: int = 0
    kind: Literal["put_back"] = "put_back"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the stretch in it."""
        fits = 0 <= self.at <= self.at + self.over <= len(reel) and 0 <= self.start < self.stop
        if not fits or self.over not in (0, self.stop - self.start):
            raise EditRefused("This sound can not be put back here.")
        piece = Piece(self.recording, self.start, self.stop, self.gain_db)
        span = Span(self.at, self.at + self.over)
        lanes = []
        for index, lane in enumerate(reel.lanes):
            if index:
                lanes.append(
                    lane.replaced(span, (self.tone.filling(self.stop - self.start, 1 + self.at % 9973),), SOFT)
                    if not self.over and self.at < len(lane)
                    else lane
                )
                continue
            starts = lane.starts()
            left = list(lane.between(Span(0, self.at), starts))
            right = list(lane.between(Span(span.stop, starts[-1]), starts))
            first = left[-1] if left else None
            if isinstance(first, Piece) and runs_on(first, piece):
                left.pop()
                piece = replace(first, stop=piece.stop)
            following = right[0] if right else None
            if isinstance(following, Piece) and runs_on(piece, following):
                right.pop(0)
                piece = replace(piece, stop=following.stop)
            elif right:
                right[0] = replace(right[0], join=SOFT)
            lanes.append(Lane(lane.name, (*left, piece, *right)))
        return Reel(tuple(lanes))


def _within(lane: Lane, span: Span) -> Span:
    """The part of a span that a shorter lane has."""
    return Span(min(span.start, len(lane)), min(span.stop, len(lane)))


ReelCommand = CutAndClose | CutAndFill | SplitAt | MoveJoin | SetGain | ReplaceByTake | PutBackSound
__all__ = [
    "LIKE",
    "SOFT",
    "CutAndClose",
    "CutAndFill",
    "MoveJoin",
    "PutBackSound",
    "ReelCommand",
    "ReplaceByTake",
    "SetGain",
    "SplitAt",
    "ToneSource",
]
