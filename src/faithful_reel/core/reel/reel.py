"""The reel: lanes of pieces, room tone and rests, with joins between them.  Frozen values; no sound is touched here."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import accumulate, count
from typing import ClassVar, Literal

from faithful_reel.core.errors import EditRefused
from faithful_reel.core.units import Span

Shape = Literal["equal_power", "equal_gain"]
LaneRef = int | str
"""A lane as a command names it: by its id, or by its number in the reel as the command finds it."""
Points = tuple[tuple[int, float], ...]
"""A gain line: (position in the segment's own source, dB), rising; straight in dB between two, level beyond the ends."""
OFF_DB = -96.0
"""A gain line at or under this lets nothing through."""
MOST_BEND = 3.0


@dataclass(frozen=True, slots=True)
class Join:
    """How a segment begins: a crossfade of `length` samples, centred on the boundary, so that no time is used up.

    `bend` shifts the change towards its end (above 0) or its beginning (below 0).
    """

    length: int = 441
    shape: Shape = "equal_power"
    bend: float = 0.0


SOFT = Join(441, "equal_power")
LIKE = Join(882, "equal_gain")
RUNS_ON = Join(0, "equal_gain")
"""At a split: nothing is crossfaded while the sound runs on; where it no longer does, it is softened."""


@dataclass(frozen=True, slots=True)
class Fade:
    """A fade of `length` samples at one end of a segment, straight at `bend` 0; above that it stays low longer, below less long.

    `past` samples of it lie beyond the segment's end, where the segment was cut inside of its fade.
    """

    length: int = 0
    bend: float = 0.0
    past: int = 0


NO_FADE = Fade()


@dataclass(frozen=True, slots=True)
class ToneSource:
    """The stretch of room tone that fills are woven from."""

    recording: str
    start: int
    stop: int

    def filling(self, length: int, seed: int) -> RoomTone:
        """`length` samples of it."""
        return RoomTone(self.recording, self.start, self.stop, length, seed=seed)


@dataclass(frozen=True, slots=True)
class Piece:
    """A stretch of one recording; `join` is how it takes over from what stands before it.

    One that was printed knows what it was printed of: `of` are the segments, flat, of which the first begins at `of_start` of
    its recording.
    """

    recording: str
    start: int
    stop: int
    gain_db: float = 0.0
    join: Join = SOFT
    take: str = ""
    kind: Literal["piece"] = "piece"
    fade_in: Fade = NO_FADE
    fade_out: Fade = NO_FADE
    line: Points = ()
    name: str = ""
    color: str = ""
    note: str = ""
    of: tuple[Segment, ...] = ()
    of_start: int = 0

    def __len__(self) -> int:
        return self.stop - self.start

    @property
    def origin(self) -> int:
        """The position in its source that its first sample has, which its gain line counts by."""
        return self.start


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
    fade_in: Fade = NO_FADE
    fade_out: Fade = NO_FADE
    line: Points = ()
    name: str = ""
    color: str = ""
    note: str = ""

    def __len__(self) -> int:
        return self.length

    @property
    def origin(self) -> int:
        """The position in the woven tone that its first sample has."""
        return self.offset


@dataclass(frozen=True, slots=True)
class Rest:
    """Nothing sounds on this lane: for music and second voices, under which the first lane's room goes on."""

    length: int
    join: Join = SOFT
    kind: Literal["rest"] = "rest"
    name: str = ""
    color: str = ""
    note: str = ""
    recording: ClassVar[str] = ""
    gain_db: ClassVar[float] = 0.0
    line: ClassVar[Points] = ()
    fade_in: ClassVar[Fade] = NO_FADE
    fade_out: ClassVar[Fade] = NO_FADE
    origin: ClassVar[int] = 0

    def __len__(self) -> int:
        return self.length


Segment = Piece | RoomTone | Rest


def played(piece: Piece, at: int) -> Iterator[tuple[Piece, int]]:
    """The stretches of recordings that a piece which begins at a place plays, and where: its own, and what it was printed of."""
    yield piece, at
    begins = piece.of_start
    for segment in piece.of:
        first, last = max(begins, piece.start), min(begins + len(segment), piece.stop)
        if last > first and isinstance(segment, Piece):
            start = segment.start + first - begins
            yield replace(segment, start=start, stop=start + last - first), at + first - piece.start
        begins += len(segment)


def printed_of(segments: Iterable[Segment]) -> tuple[Segment, ...]:
    """What a print of some segments is of: those that were printed themselves as what they were of."""
    found: list[Segment] = []
    for segment in segments:
        if not isinstance(segment, Piece) or not segment.of:
            found.append(segment)
            continue
        begins = segment.of_start
        for inner in segment.of:
            first, last = max(begins, segment.start), min(begins + len(inner), segment.stop)
            if last > first:
                found.append(part(inner, first - begins, last - begins))
            begins += len(inner)
    return tuple(found)


def part(segment: Segment, start: int, stop: int) -> Segment:
    """Samples `start` to `stop` of a segment, sounding as they did; what begins inside keeps its join only at its own start."""
    join = segment.join if start == 0 else SOFT
    if isinstance(segment, Rest):
        return replace(segment, length=stop - start, join=join)
    fade_in, fade_out = _past(segment.fade_in, start), _past(segment.fade_out, len(segment) - stop)
    if isinstance(segment, Piece):
        start, stop = segment.start + start, segment.start + stop
        return replace(segment, start=start, stop=stop, join=join, fade_in=fade_in, fade_out=fade_out)
    offset = segment.offset + start
    return replace(segment, length=stop - start, offset=offset, join=join, fade_in=fade_in, fade_out=fade_out)


def _past(fade: Fade, by: int) -> Fade:
    """What is left of a fade after `by` samples of it were cut off.

    One that begins right where the segment now ends is kept with nothing of it inside: the sound runs on into it.
    """
    if not by or not fade.length:
        return fade
    past = fade.past + by
    return replace(fade, past=past) if past <= fade.length else NO_FADE


def follows(before: Segment, after: Segment) -> bool:
    """Whether two segments are two stretches of the very same sound, one after the other."""
    if isinstance(before, Piece) and isinstance(after, Piece):
        return (before.recording, before.stop) == (after.recording, after.start)
    if isinstance(before, RoomTone) and isinstance(after, RoomTone):
        whole = (before.recording, before.start, before.stop, before.seed, before.offset + before.length)
        return whole == (after.recording, after.start, after.stop, after.seed, after.offset)
    return isinstance(before, Rest) and isinstance(after, Rest)


def runs_on(first: Segment, second: Segment) -> bool:
    """Whether the second is the very sound that follows the first, at the same gain: together they are one piece."""
    return (
        isinstance(first, Piece)
        and isinstance(second, Piece)
        and follows(first, second)
        and (first.gain_db, first.take, first.line, first.fade_out, second.fade_in)
        == (second.gain_db, second.take, second.line, NO_FADE, NO_FADE)
    )


@dataclass(frozen=True, slots=True)
class Replacement:
    """What comes in the place of a stretch of a lane; `after` is how what follows takes over, None for as it did."""

    span: Span
    middle: tuple[Segment, ...] = ()
    after: Join | None = None


@dataclass(frozen=True)  # no slots: where its segments start is worked out once
class Lane:
    """One voice or one music part, segments end to end.

    A linked lane gains and loses time together with the others that are linked; `late` is how many samples later than they
    its sound has come since it was not.  `pan` is -1 for left to 1 for right, and acts in stereo only.
    """

    name: str
    segments: tuple[Segment, ...]
    music: bool = False
    color: str = ""
    note: str = ""
    hidden: bool = False
    gain_db: float = 0.0
    muted: bool = False
    solo: bool = False
    pan: float = 0.0
    linked: bool = True
    late: int = 0
    tone: ToneSource | None = None
    id: str = ""
    """What it is known by in its chapter, whatever its name and place; a reel gives one to a lane that has none."""

    def __len__(self) -> int:
        return self._starts[-1]

    @cached_property
    def _starts(self) -> list[int]:
        lengths = [s.stop - s.start if isinstance(s, Piece) else s.length for s in self.segments]  # faster than `len`
        return [0, *accumulate(lengths)]

    @cached_property
    def longest_join(self) -> int:
        """The longest crossfade that one of its joins may have, in samples."""
        return max([s.join.length or SOFT.length for s in self.segments[1:]], default=0)

    @cached_property
    def recordings(self) -> tuple[str, ...]:
        """The recordings that are heard on it, each once; those that something was printed of as well."""
        pieces = (p for s in self.segments for p in (s, *(s.of if isinstance(s, Piece) else ())))
        return tuple(dict.fromkeys(p.recording for p in pieces if p.recording))

    def starts(self) -> list[int]:
        """Where every segment starts, and after the last the lane's length; not to be changed."""
        return self._starts

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
            found[-1] = part(found[-1], 0, span.stop - starts[last - 1])
        if starts[first] < span.start:
            found[0] = part(found[0], span.start - starts[first], len(found[0]))
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
        return self.replaced_all([Replacement(span, middle, after)])

    def replaced_all(self, rows: Sequence[Replacement]) -> Lane:
        """Put something in the place of several stretches, given in their order; each is a place of the lane as it was.

        Raises
        ------
        EditRefused
            One of them is not in the lane, or they are not in order.
        """
        starts, at, after = self.starts(), 0, None
        found: list[Segment] = []
        begins = [0]
        for row in [*rows, None]:
            span = row.span if row is not None else Span(starts[-1], starts[-1])
            if not at <= span.start <= span.stop <= starts[-1]:
                raise EditRefused(f"The stretch {span.start} to {span.stop} is not in this chapter of {starts[-1]} samples.")
            kept = self.between(Span(at, span.start), starts)
            if kept:
                by = begins[-1] - at
                inside = starts[bisect_right(starts, at) : bisect_left(starts, span.start)]
                begins += [*([begin + by for begin in inside] if by else inside), span.start + by]
                found += kept if after is None else (replace(kept[0], join=after), *kept[1:])
            if row is not None:
                middle = [s for s in row.middle if len(s)]
                found += middle
                begins += list(accumulate(map(len, middle), initial=begins[-1]))[1:]
                after = row.after if kept or middle or after is None else after  # of cuts that touch the first is made last
                at = span.stop
        lane = replace(self, segments=tuple(found))
        lane.__dict__["_starts"] = begins  # known already: to count them again would take as long as the rest
        return lane

    def mapped(self, span: Span, change: Callable[[Segment], Segment]) -> Lane:
        """Change the segments of a stretch; those that straddle its ends are split there."""
        return self.replaced(span, tuple(change(s) for s in self.between(span)))

    def filling(self, length: int, seed: int) -> Segment:
        """What stands where this lane waits for the others: its own room tone, else nothing."""
        return self.tone.filling(length, seed) if self.tone is not None else Rest(length)


@dataclass(frozen=True, slots=True)
class Marker:
    """A place in a chapter, in reel time, that somebody wants to find again."""

    id: str
    at: int
    name: str = ""
    color: str = ""
    note: str = ""


@dataclass(frozen=True, slots=True)
class Reel:
    """What a chapter will sound like: lanes of equal length, in step."""

    lanes: tuple[Lane, ...]
    markers: tuple[Marker, ...] = ()

    def __post_init__(self) -> None:
        """Give every lane an id of its own: those that have none, or one that stands before them, the first that is free.

        A marker that would stand beyond the end stands at it.
        """
        end = len(self) if self.markers else 0
        if any(m.at > end for m in self.markers):
            object.__setattr__(self, "markers", tuple(replace(m, at=min(m.at, end)) for m in self.markers))
        ids = [lane.id for lane in self.lanes]
        if "" not in ids and len(set(ids)) == len(ids):
            return
        lanes: list[Lane] = []
        for k, lane in enumerate(self.lanes):
            if not lane.id or lane.id in ids[:k]:
                ids[k] = next(free for n in count(1) if (free := f"l{n}") not in ids)
                lane = replace(lane, id=ids[k])  # noqa: PLW2901
            lanes.append(lane)
        object.__setattr__(self, "lanes", tuple(lanes))

    def __len__(self) -> int:
        return max((len(lane) for lane in self.lanes), default=0)

    def index(self, ref: LaneRef) -> int:
        """The number of a lane.

        Raises
        ------
        EditRefused
            There is no such lane.
        """
        if isinstance(ref, int):
            if not 0 <= ref < len(self.lanes):
                raise EditRefused(f"This chapter has {len(self.lanes)} lanes, and none of the number {ref + 1}.")
            return ref
        found = next((k for k, lane in enumerate(self.lanes) if lane.id == ref), None)
        if found is None:
            raise EditRefused("The lane that this was meant for is no longer in the chapter.")
        return found

    def with_lane(self, ref: LaneRef, lane: Lane) -> Reel:
        """The reel with one lane exchanged."""
        index = self.index(ref)
        return replace(self, lanes=(*self.lanes[:index], lane, *self.lanes[index + 1 :]))


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
        Reel(
            tuple(replace(lane, segments=lane.between(span)) for lane in reel.lanes),
            tuple(replace(m, at=m.at - span.start) for m in reel.markers if span.start <= m.at < span.stop),
        )
        for span in (Span(0, at), Span(at, len(reel)))
    )
    return first, second


def joined_reels(reels: Sequence[Reel], edition: int = 2) -> Reel:
    """Reels end to end, lane by lane; all need the same lanes.  What a lane's level differs by goes to its segments.

    `edition` 1 is how journals hold it from before levels and all markers were kept.

    Raises
    ------
    EditRefused
        Their lanes have different names, or are muted, heard alone, placed or linked otherwise.
    """
    lanes = {tuple(lane.name for lane in reel.lanes) for reel in reels}
    if len(lanes) != 1:
        raise EditRefused("These chapters have different lanes and can not be joined.")
    if edition > 1:
        first = reels[0]
        unlike = {k.name for reel in reels for k, own in zip(reel.lanes, first.lanes, strict=True) if _mixed(k) != _mixed(own)}
        if unlike:
            raise EditRefused(
                f"{', '.join(sorted(unlike))} is muted, heard alone, placed or linked otherwise in one of these chapters. "
                "Make the lanes alike first."
            )
        reels = [replace(reel, lanes=tuple(map(_levelled, reel.lanes, first.lanes))) for reel in reels]
    lasting = [_rested(reel) for reel in reels[:-1]] + list(reels[-1:])
    markers: dict[str, Marker] = {}
    at = 0
    for number, reel in enumerate(reels):
        for marker in reel.markers:
            free = (
                f"{marker.id}-{number}" if edition == 1 else next(n for k in count(1) if (n := f"{marker.id}-{k}") not in markers)
            )
            own = marker.id if marker.id not in markers else free
            markers[own] = replace(marker, id=own, at=marker.at + at)
        at += len(reel)
    return Reel(
        tuple(
            replace(lane, segments=tuple(s for r in lasting for s in r.lanes[k].segments))
            for k, lane in enumerate(reels[0].lanes)
        ),
        tuple(markers.values()),
    )


def _mixed(lane: Lane) -> tuple[bool, bool, float, bool, int]:
    return lane.muted, lane.solo, lane.pan, lane.linked, lane.late


def _levelled(lane: Lane, like: Lane) -> Lane:
    """A lane at the level of another one, sounding as it did."""
    by_db = lane.gain_db - like.gain_db
    if not by_db:
        return lane
    segments = tuple(s if isinstance(s, Rest) else replace(s, gain_db=s.gain_db + by_db) for s in lane.segments)
    return replace(lane, gain_db=like.gain_db, segments=segments)


def _rested(reel: Reel) -> Reel:
    """A reel whose lanes are all as long as the longest: what comes after begins on all of them at once."""
    missing = [len(reel) - len(lane) for lane in reel.lanes]
    return replace(
        reel,
        lanes=tuple(
            replace(lane, segments=(*lane.segments, lane.filling(gap, 1))) if gap else lane
            for lane, gap in zip(reel.lanes, missing, strict=True)
        ),
    )


def recordings_of(reel: Reel) -> list[str]:
    """The recordings that are heard in a reel, each once."""
    return list(dict.fromkeys(r for lane in reel.lanes for r in lane.recordings))


def most_of(lane: Lane) -> str:
    """The recording that most of a lane is made of, takes apart; empty where there is none."""
    lengths: dict[str, int] = {}
    for segment in lane.segments:
        if isinstance(segment, Piece) and not segment.take:
            lengths[segment.recording] = lengths.get(segment.recording, 0) + len(segment)
    return max(lengths, key=lambda r: lengths[r], default="")


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
    if not isinstance(segment, Piece):
        return None
    return segment.recording, segment.start + position - row.starts()[index]
