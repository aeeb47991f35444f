"""Commands that take sound out, put sound in, and split.

`apply` raises `EditRefused` where an order does not fit, and changes nothing then.
"""

from __future__ import annotations

import itertools
from bisect import bisect_left, bisect_right
from dataclasses import dataclass, replace
from typing import Literal

from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.bounds import join_within, segment_within
from faithful_reel.core.reel.reel import (
    RUNS_ON,
    SOFT,
    Join,
    Lane,
    LaneRef,
    Piece,
    Reel,
    Rest,
    RoomTone,
    Segment,
    ToneSource,
    part,
    runs_on,
)
from faithful_reel.core.reel.timing import (
    LINKED,
    checked,
    exchanged,
    followed,
    lane_at,
    moved,
    moved_markers,
    seed_at,
    together,
    with_lateness,
    with_lateness_as_once,
    within,
)
from faithful_reel.core.units import Span


@dataclass(frozen=True, slots=True)
class CutAndClose:
    """Take a stretch out of all linked lanes, or of one that is not linked; what follows moves up.

    |  a  |  b  |   ->   | a | b|
        ^^^^
    """

    start: int
    stop: int
    join: Join = SOFT
    kind: Literal["cut_and_close"] = "cut_and_close"
    lane: LaneRef = LINKED

    def apply(self, reel: Reel) -> Reel:
        """The reel without the stretch."""
        span = checked(reel, self.start, self.stop)
        if len(span) == len(reel):
            raise EditRefused("This would cut the whole chapter away. Choose a shorter stretch.")
        gone = together(reel, self.lane)
        if not gone:
            raise EditRefused("No lane of this chapter is linked. Choose the lane to cut.")
        lanes = [lane.replaced(within(lane, span), (), self.join) if k in gone else lane for k, lane in enumerate(reel.lanes)]
        alone = not reel.lanes[gone[0]].linked
        markers = reel.markers if alone else moved_markers(reel.markers, span, -len(span))
        return Reel(with_lateness(lanes, gone, -len(span)), markers)


@dataclass(frozen=True, slots=True)
class CutAndFill:
    """Lay room tone over a stretch of one lane, or nothing where there is none; nothing moves.

    |  a  |  b  |   ->   | a |tone|b|
        ^^^^
    """

    start: int
    stop: int
    tone: ToneSource | None
    lane: LaneRef = 0
    kind: Literal["cut_and_fill"] = "cut_and_fill"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the stretch silenced on its lane."""
        span = checked(reel, self.start, self.stop)
        lane = lane_at(reel, self.lane)
        own = within(lane, span)
        return reel.with_lane(self.lane, lane.replaced(own, (self.laid(lane, len(own)),), SOFT))

    def laid(self, lane: Lane, length: int) -> Segment:
        """What is laid over so many samples of its lane."""
        return _filling(lane, self.tone, length, self.start)


def _filling(lane: Lane, tone: ToneSource | None, length: int, at: int) -> Segment:
    return tone.filling(length, seed_at(at)) if tone is not None else lane.filling(length, seed_at(at))


@dataclass(frozen=True, slots=True)
class InsertPause:
    """Let everything wait for a moment: room tone on the lane at hand, each other linked lane's own or nothing.

    |  a  |  b  |   ->   |  a|tone|  |  b  |
         ^
    """

    at: int
    length: int
    tone: ToneSource | None
    lane: LaneRef = 0
    kind: Literal["insert_pause"] = "insert_pause"

    def apply(self, reel: Reel) -> Reel:
        """The reel, longer by the pause."""
        if not 0 <= self.at <= len(reel) or self.length < 1:
            raise EditRefused("A pause of this length can not be put in here.")
        lane = lane_at(reel, self.lane)
        fill = _filling(lane, self.tone, self.length, self.at)
        return exchanged(reel, self.lane, Span(self.at, self.at), (fill,), after=SOFT)


@dataclass(frozen=True, slots=True)
class LengthenPause:
    """As `InsertPause`, where room tone or nothing is laid already: there is more of it, in one piece.

    |  a  |tone|  b  |   ->   |  a  |tone    |  b  |
            ^
    """

    at: int
    length: int
    tone: ToneSource | None
    lane: LaneRef = 0
    kind: Literal["lengthen_pause"] = "lengthen_pause"

    def apply(self, reel: Reel) -> Reel:
        """The reel, longer by the length."""
        if not 0 <= self.at <= len(reel) or self.length < 1:
            raise EditRefused("A pause can not be made longer by this here.")
        own, lanes = reel.index(self.lane), list(reel.lanes)
        with_it = together(reel, own)
        for k in with_it:
            if k == own or self.at < len(lanes[k]):
                lanes[k] = _waiting(lanes[k], self.at, self.length, self.tone if k == own else lanes[k].tone)
        alone = not reel.lanes[own].linked
        markers = reel.markers if alone else moved_markers(reel.markers, Span(self.at, self.at), self.length)
        return Reel(with_lateness(lanes, with_it, self.length), markers)


def _waiting(lane: Lane, at: int, length: int, tone: ToneSource | None) -> Lane:
    """A lane that waits at a place: what is laid there becomes longer, else its filling is put in."""
    starts = lane.starts()
    k = bisect_left(starts, at) - 1  # the segment that ends there, or holds the place
    laid = lane.segments[k] if 0 <= k < len(lane.segments) else None
    if isinstance(laid, Rest if tone is None else RoomTone) and (tone is None or _woven(laid) == _woven(tone)):
        return replace(lane, segments=(*lane.segments[:k], grown(laid, 0, length), *lane.segments[k + 1 :]))
    return lane.replaced(Span(at, at), (_filling(lane, tone, length, at),), SOFT)


def _woven(laid: Segment | ToneSource) -> tuple[str, int, int]:
    """What room tone is woven from."""
    return ("", 0, 0) if isinstance(laid, Rest) else (laid.recording, laid.start, laid.stop)


@dataclass(frozen=True, slots=True)
class Slide:
    """Let a stretch of one lane come earlier or later: room tone fills what it leaves, and it lies over what comes next.

    |  a  | s |  b  |   ->   |  a  |tone| s | b |
          ^^^^^ ->

    Nothing else moves; markers in it go with it where it is on the first voice.
    """

    start: int
    stop: int
    by: int
    tone: ToneSource | None
    lane: LaneRef = 0
    kind: Literal["slide"] = "slide"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the stretch where it is now."""
        lane = lane_at(reel, self.lane)
        whole = Span(min(self.start, self.start + self.by), max(self.stop, self.stop + self.by))
        if not self.by or self.start >= self.stop or whole.start < 0 or whole.stop > len(lane):
            raise EditRefused("What is marked can not go any further.")
        content = lane.between(Span(self.start, self.stop))
        over = Span(self.start, whole.stop) if self.by > 0 else Span(whole.start, self.stop)
        left = self.start if self.by > 0 else whole.start + len(self)
        slid = _waiting(lane.replaced(over, content, SOFT), left, abs(self.by), self.tone)
        leads = next((k for k in reel.lanes if k.linked and not k.music), lane)
        inside = [m for m in reel.markers if self.start <= m.at < self.stop and leads is lane]
        markers = tuple(replace(m, at=m.at + self.by) if m in inside else m for m in reel.markers)
        return replace(reel.with_lane(self.lane, slid), markers=markers)

    def __len__(self) -> int:
        return self.stop - self.start


@dataclass(frozen=True, slots=True)
class SplitAt:
    """Cut a piece in two without any change to the sound.

    |  a     |   ->   | a |  a' |
        ^
    """

    at: int
    lane: LaneRef = 0
    kind: Literal["split"] = "split"

    def apply(self, reel: Reel) -> Reel:
        """The reel with a boundary at `at`; its join has no crossfade since the sound runs on."""
        if not 0 < self.at < len(reel):
            raise EditRefused("There is nothing to split here. Choose a place inside the chapter.")
        lane = lane_at(reel, self.lane)
        return reel.with_lane(self.lane, lane.replaced(Span(self.at, self.at), (), RUNS_ON) if self.at < len(lane) else lane)


@dataclass(frozen=True, slots=True)
class SplitMany:
    """Cut at many places of some lanes at once; the piece that begins at a place may get a name.

    |  a             |   ->   | a | a' | a" |
        ^    ^
    """

    places: tuple[int, ...]
    names: tuple[str, ...] = ()
    lanes: tuple[LaneRef, ...] = (0,)
    kind: Literal["split_many"] = "split_many"

    def apply(self, reel: Reel) -> Reel:
        """The reel with its boundaries; the sound is the same."""
        length = len(reel)
        if not self.places or not all(0 <= at < length for at in self.places):
            raise EditRefused("There is nothing to split here. Choose places inside the chapter.")
        names = dict(zip(self.places, self.names, strict=False))
        for index in self.lanes:
            reel = reel.with_lane(index, _split_at_all(lane_at(reel, index), sorted(set(self.places)), names))
        return reel


def _split_at_all(lane: Lane, places: list[int], names: dict[int, str]) -> Lane:
    """A lane cut at many places, in one pass."""
    starts = lane.starts()
    inside: dict[int, list[int]] = {}
    for at in places:
        if at < starts[-1]:
            index = bisect_right(starts, at) - 1
            inside.setdefault(index, []).extend([at] if at > starts[index] else [])
    found: list[Segment] = []
    done = 0
    for index in sorted(inside):
        found += lane.segments[done:index]
        segment, begins, ends = lane.segments[index], starts[index], starts[index + 1]
        for first, last in itertools.pairwise((begins, *inside[index], ends)):
            piece = part(segment, first - begins, last - begins) if inside[index] else segment
            piece = replace(piece, join=RUNS_ON) if first > begins else piece
            found.append(replace(piece, name=names[first]) if names.get(first) else piece)
        done = index + 1
    return replace(lane, segments=(*found, *lane.segments[done:]))


@dataclass(frozen=True, slots=True)
class MoveJoin:
    """Move the boundary before segment `index` by `by` samples: one side gives what the other takes.

    |  a  |  b  |   ->   |  a    |b |
          ^ ->
    """

    index: int
    by: int
    lane: LaneRef = 0
    kind: Literal["move_join"] = "move_join"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the boundary moved; its length stays."""
        lane = lane_at(reel, self.lane)
        if not 0 < self.index < len(lane.segments):
            raise EditRefused("There is no join here.")
        left, right = lane.segments[self.index - 1], lane.segments[self.index]
        if len(left) + self.by < 1 or len(right) - self.by < 1:
            raise EditRefused("The join can not be moved past the end of its piece.")
        given = (grown(left, 0, self.by), grown(right, -self.by, 0))
        segments = (*lane.segments[: self.index - 1], *given, *lane.segments[self.index + 1 :])
        return reel.with_lane(self.lane, replace(lane, segments=segments))


def grown(segment: Segment, before: int, after: int) -> Segment:
    """A segment that reaches further, or less far, into what its recording holds on either side.

    Raises
    ------
    EditRefused
        The recording does not begin so early.
    """
    if isinstance(segment, Rest):
        return replace(segment, length=segment.length + before + after)
    fade_in = replace(segment.fade_in, past=max(0, segment.fade_in.past - max(0, before)))
    fade_out = replace(segment.fade_out, past=max(0, segment.fade_out.past - max(0, after)))
    if isinstance(segment, RoomTone):
        length = segment.length + before + after
        return replace(segment, length=length, offset=segment.offset - before, fade_in=fade_in, fade_out=fade_out)
    if segment.start - before < 0:
        raise EditRefused("The recording does not reach any further.")
    return replace(segment, start=segment.start - before, stop=segment.stop + after, fade_in=fade_in, fade_out=fade_out)


@dataclass(frozen=True, slots=True)
class MoveEdge:
    """Uncover, or cover, what a piece's recording holds at its start or its end; what follows is carried along on linked lanes.

    |  a  |  b  |   ->   |  a      |  b  |
          ^ -> (the end of a)
    """

    index: int
    by: int
    at_start: bool = False
    lane: LaneRef = 0
    length: int = 1 << 62
    """How long the piece's recording is; it does not reach beyond."""
    kind: Literal["move_edge"] = "move_edge"

    def apply(self, reel: Reel) -> Reel:
        """The reel, longer or shorter by as much."""
        lane = lane_at(reel, self.lane)
        if not 0 <= self.index < len(lane.segments):
            raise EditRefused("There is no piece here.")
        segment, starts = lane.segments[self.index], lane.starts()
        change = -self.by if self.at_start else self.by
        if len(segment) + change < 1:
            raise EditRefused("An edge can not be moved past the other one.")
        changed = grown(segment, change, 0) if self.at_start else grown(segment, 0, change)
        if isinstance(changed, Piece) and changed.stop > self.length:
            raise EditRefused("The recording does not reach any further.")
        segments = (*lane.segments[: self.index], changed, *lane.segments[self.index + 1 :])
        at = starts[self.index] if self.at_start else starts[self.index + 1]
        span = Span(at, at) if change > 0 else Span(at, at - change) if self.at_start else Span(at + change, at)
        return followed(reel, self.lane, replace(lane, segments=segments), span, change)


@dataclass(frozen=True, slots=True)
class Overlap:
    """Draw two pieces over one another by `by` samples, with a crossfade of all of it.

    |   a  |  b   |   ->   |  a >< b  |
           <--
    """

    index: int
    by: int
    shape: Literal["equal_power", "equal_gain"] = "equal_power"
    bend: float = 0.0
    lane: LaneRef = 0
    kind: Literal["overlap"] = "overlap"

    def apply(self, reel: Reel) -> Reel:
        """The reel, shorter by the overlap."""
        lane = lane_at(reel, self.lane)
        if not 0 < self.index < len(lane.segments) or self.by < 1:
            raise EditRefused("There are no two pieces to overlap here.")
        left, right, at = lane.segments[self.index - 1], lane.segments[self.index], lane.starts()[self.index]
        join = join_within(Join(self.by, self.shape, self.bend))
        first = self.by // 2
        if len(left) <= self.by or len(right) <= self.by:
            raise EditRefused("Two pieces can not overlap by more than the shorter one.")
        right = replace(grown(right, first - self.by, 0), join=join)
        segments = (*lane.segments[: self.index - 1], grown(left, 0, -first), right, *lane.segments[self.index + 1 :])
        span = Span(at - first, at - first + self.by)
        return followed(reel, self.lane, replace(lane, segments=segments), span, -self.by)


@dataclass(frozen=True, slots=True)
class ReplaceByTake:
    """Put a stretch of another recording in the place of a stretch of one lane; linked lanes stay in step.

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
    lane: LaneRef = 0
    kind: Literal["replace_by_take"] = "replace_by_take"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the take in place; it is longer or shorter by the difference."""
        span = checked(reel, self.start, self.stop)
        if self.take_stop <= self.take_start or self.take_start < 0:
            raise EditRefused("The take is empty. Choose another one.")
        piece = Piece(self.recording, self.take_start, self.take_stop, self.gain_db, self.join_in, self.take)
        return exchanged(reel, self.lane, span, (piece,), after=self.join_out)


@dataclass(frozen=True, slots=True)
class PutBackSound:
    """Put a stretch of a recording in at a place of a lane; linked lanes wait for as long, so that all stay in step.

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
    lane: LaneRef = 0

    def apply(self, reel: Reel) -> Reel:
        """The reel with the stretch in it."""
        lane = lane_at(reel, self.lane)
        fits = 0 <= self.at <= self.at + self.over <= len(lane) and 0 <= self.start < self.stop
        if not fits or self.over not in (0, self.stop - self.start):
            raise EditRefused("This sound can not be put back here.")
        piece = Piece(self.recording, self.start, self.stop, self.gain_db)
        span, starts = Span(self.at, self.at + self.over), lane.starts()
        left = list(lane.between(Span(0, self.at), starts))
        right = list(lane.between(Span(span.stop, starts[-1]), starts))
        first = left[-1] if left else None
        if isinstance(first, Piece) and runs_on(first, piece):
            left.pop()
            piece = replace(first, stop=piece.stop)
        following = right[0] if right else None
        if isinstance(following, Piece) and runs_on(piece, following):
            right.pop(0)
            piece = replace(piece, stop=following.stop, fade_out=following.fade_out)
        elif right:
            right[0] = replace(right[0], join=SOFT)
        back = replace(lane, segments=(*left, piece, *right))
        return followed(reel, self.lane, back, span, self.stop - self.start - self.over)


def whole_at(lane: Lane, at: int, join: Join = SOFT) -> Lane:
    """A lane whose pieces that meet at a place are one again where the second follows the first; else they meet by `join`."""
    starts = lane.starts()
    index = bisect_left(starts, at)
    if not 0 < index < len(lane.segments) or starts[index] != at:
        return lane
    first, second = lane.segments[index - 1 : index + 1]
    if isinstance(first, Piece) and isinstance(second, Piece) and runs_on(first, second):
        middle: tuple[Segment, ...] = (replace(first, stop=second.stop, fade_out=second.fade_out),)
    else:
        middle = (first, replace(second, join=join))
    return replace(lane, segments=(*lane.segments[: index - 1], *middle, *lane.segments[index + 1 :]))


EDITION = 2
"""Of pastes that are given now."""
Content = tuple[tuple[LaneRef, tuple[Segment, ...]], ...]
"""What was copied: the lane and its segments, one for each lane; all of the same length."""


@dataclass(frozen=True, slots=True)
class Paste:
    """Put copied sound in at a place, or over a stretch; linked lanes that nothing is copied to wait, or lose as much.

    |  a     |   ->   | a | copied | a |
        ^

    With `keep_time` it lies over what is there, and nothing moves: what is too long is left off, what is missing is filled.
    """

    start: int
    stop: int
    content: Content
    keep_time: bool = False
    join_in: Join = SOFT
    join_out: Join = SOFT
    kind: Literal["paste"] = "paste"
    edition: int = 1
    """From 2 on lanes that are not linked, where they are pasted to with others, know how far out of step they are."""

    def apply(self, reel: Reel) -> Reel:
        """The reel with the copy in it."""
        length = content_length(self.content)
        if not length or not 0 <= self.start <= self.stop <= len(reel):
            raise EditRefused("There is nothing to paste, or no such place in this chapter.")
        span = Span(self.start, self.stop)
        if self.keep_time and len(span) == 0:
            span = Span(self.start, min(len(reel), self.start + length))
        to = {reel.index(lane): tuple(map(segment_within, segments)) for lane, segments in self.content}
        if self.keep_time:
            for index, segments in to.items():
                lane = reel.lanes[index]
                own = within(lane, span)
                reel = reel.with_lane(index, lane.replaced(own, self._joined(_fitted(lane, segments, own)), self.join_out))
            return reel
        moving = [k for k in range(len(reel.lanes)) if any(k in together(reel, index) for index in to)]
        lanes, by = list(reel.lanes), length - len(span)
        for k in moving:
            lane = lanes[k]
            own = within(lane, span)
            if k in to:
                gap = span.start - len(lane)
                lead = (lane.filling(gap, seed_at(span.start)),) if gap > 0 else ()
                lanes[k] = lane.replaced(own, (*lead, *self._joined(to[k])), self.join_out)
            else:
                lanes[k] = moved(lane, span, by)
        alone = not any(reel.lanes[k].linked for k in moving)
        markers = reel.markers if alone else moved_markers(reel.markers, span, by)
        late = with_lateness if self.edition > 1 else with_lateness_as_once
        return Reel(late(lanes, moving, by), markers)

    def _joined(self, segments: tuple[Segment, ...]) -> tuple[Segment, ...]:
        return (replace(segments[0], join=self.join_in), *segments[1:]) if segments else ()


def content_length(content: Content) -> int:
    """How long what was copied is; 0 where its lanes do not agree."""
    lengths = {sum(len(s) for s in segments) for _, segments in content}
    return lengths.pop() if len(lengths) == 1 else 0


def copied(reel: Reel, span: Span, lanes: tuple[LaneRef, ...]) -> Content:
    """A stretch of some lanes, to be pasted; where a lane ends sooner, its filling."""
    found: list[tuple[LaneRef, tuple[Segment, ...]]] = []
    for index in lanes:
        lane = lane_at(reel, index)
        own = within(lane, span)
        missing = len(span) - len(own)
        rest = (lane.filling(missing, seed_at(span.start)),) if missing else ()
        found.append((index, (*lane.between(own), *rest)))
    return tuple(found)


def _fitted(lane: Lane, segments: tuple[Segment, ...], span: Span) -> tuple[Segment, ...]:
    """Segments as long as a span: cut off, or with the lane's filling after them."""
    row = Lane("", segments)
    have = len(row)
    if have >= len(span):
        return row.between(Span(0, len(span)))
    return (*segments, lane.filling(len(span) - have, seed_at(span.start)))
