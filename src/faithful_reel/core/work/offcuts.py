"""Offcuts: all that was ever cut from a chapter, found in its journal, and where it goes back to."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from itertools import accumulate, islice, pairwise, takewhile

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.book.past import Change
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.reel.commands import Paste, PutMarker, ReelCommand
from faithful_reel.core.reel.cutting import EDITION, Content, content_length, copied
from faithful_reel.core.reel.exchanges import (
    Covered,
    Exchange,
    Playing,
    Sound,
    covered,
    exchanges,
    flat,
    key_of,
    segments_after,
    segments_before,
    sounds_of,
    uncovered,
)
from faithful_reel.core.reel.reel import RUNS_ON, Lane, Marker, Piece, Reel, Rest, Segment
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Span

LEAST_S = 0.005
"""Shorter ends, which go when a join is moved, are no offcuts (own rule)."""
Unheard = Callable[[Sound], list[tuple[int, int]]]
"""What of a sound is heard nowhere any more."""
NEIGHBOURS = 64
"""So many pieces on either side are remembered as the place where an offcut was."""


@dataclass(frozen=True, slots=True)
class Offcut:
    """Sound that was heard in a chapter before a step and no longer after it.

    `span` is where it was in the reel before the step, `content` what was there on the lanes that lost it, then on those that
    lost only their room tone with it; `lanes` are the names of the former.  `before` and `after` are the pieces that stood
    beside it on the first of them, the nearest first, and `room` is how much room tone or rest lay between it and those.
    `instead` is what the step left there on those lanes: nothing where it was closed up.  `markers` are those that stood in
    it, counted from its start.
    """

    id: str
    step: int
    at: str
    label: str
    span: Span
    content: Content
    lanes: tuple[str, ...]
    before: tuple[Piece, ...]
    after: tuple[Piece, ...]
    instead: Content
    markers: tuple[Marker, ...] = ()
    room: tuple[int, int] = (0, 0)

    def sounds(self) -> list[Sound]:
        """The stretches of recordings that it is made of."""
        return [sound for _, segments in self.content for sound in sounds_of(segments)]


def offcuts_of(steps: Iterable[Change], chapter: str) -> list[Offcut]:
    """What the steps cut from one chapter, the latest first."""
    found: list[Offcut] = []
    heard = Playing()
    for change in steps:
        before, after = (_reel(book, chapter) for book in (change.before, change.after))
        if before is not None and after is not None and before is not after:
            heard.follow(before)
            heard.follow(after)
            found += _cut_by(change, before, after, partial(_unheard, heard, covered(_elsewhere(change, chapter))))
    return found[::-1]


def _reel(book: Book, chapter: str) -> Reel | None:
    return next((c.reel for c in book.chapters if c.id == chapter), None)


def _elsewhere(change: Change, chapter: str) -> Iterator[Lane]:
    """The lanes of the other chapters that a step changed: what went to one of them was moved, not cut."""
    old = {c.id: c.reel for c in change.before.chapters}
    for c in change.after.chapters:
        if c.id != chapter and c.reel is not None and old.get(c.id) is not c.reel:
            yield from c.reel.lanes


def _unheard(heard: Playing, elsewhere: Covered, sound: Sound) -> list[tuple[int, int]]:
    """What of a sound is heard nowhere."""
    return [part for a, b in heard.uncovered(sound) for part in uncovered(elsewhere, (sound[0], a, b))]


def _cut_by(change: Change, before: Reel, after: Reel, unheard: Unheard) -> list[Offcut]:
    """What one step cut: the exchanges of all lanes that lost sound, those that belong together as one."""
    now = {lane.id: lane for lane in after.lanes}
    rows = {lane.id: exchanges(lane, now[lane.id]) if lane.id in now else [_all_of(lane)] for lane in before.lanes}
    lanes = {lane.id: lane for lane in before.lanes}
    rows = {name: _apart(lanes[name], now[name], row, rows) if name in now else row for name, row in rows.items()}
    losing = [
        (e.old.start, e.old.stop, e.by, e.old.stop == len(lanes[name]))
        for name, row in rows.items()
        for e in row
        if len(e.old) and sounds_of(lanes[name].between(e.old))
    ]
    if not losing:
        return []
    found: list[Offcut] = []
    for span, by in _together(losing):
        gone = [lane for lane in before.lanes if _lost(lane, rows[lane.id], span, unheard) >= LEAST_S * change.after.rate]
        if gone:
            silent = [
                lane
                for lane in before.lanes
                if lane not in gone and not sounds_of(lane.between(span)) and any(_covers(e, span, by) for e in rows[lane.id])
            ]
            found.append(_offcut(change, len(found), before, now, rows, span, by, gone, silent))
    return found


def _apart(before: Lane, after: Lane, row: Sequence[Exchange], rows: dict[str, list[Exchange]]) -> list[Exchange]:
    """The exchanges of a lane; where its rests hide which of several stretches went, by what went from the others."""
    found: list[Exchange] = []
    for e in row:
        hidden = any(isinstance(s, Rest) for s in after.between(e.new))
        ways = (_as_there(before, after, e, other) for other in rows.values() if other is not row and hidden)
        split = next(filter(None, ways), [])
        found += split or [e]
    return found


def _as_there(before: Lane, after: Lane, e: Exchange, other: Sequence[Exchange]) -> list[Exchange]:
    """An exchange as several that another lane had inside of it, where that is the same; empty where it is not."""
    ends = e.old.stop == len(before)  # then a longer lane lost more than this one had
    closed = [o.old for o in other if not len(o.new) and e.old.start <= o.old.start < e.old.stop]
    inside = [Span(o.start, min(o.stop, e.old.stop)) for o in closed if o.stop <= e.old.stop or ends]
    if len(inside) < 2 or -sum(map(len, inside)) != e.by:
        return []
    edges = [e.old.start, *(at for o in inside for at in (o.start, o.stop)), e.old.stop]
    kept = [s for a, b in zip(edges[::2], edges[1::2], strict=True) for s in before.between(Span(a, b))]
    if list(flat(kept, 0)) != list(flat(after.between(e.new), 0)):
        return []
    gone = accumulate([0, *map(len, inside)])
    places = [o.start - e.old.start + e.new.start - by for o, by in zip(inside, gone, strict=False)]
    return [Exchange(o, Span(at, at)) for o, at in zip(inside, places, strict=True)]


def _all_of(lane: Lane) -> Exchange:
    return Exchange(Span(0, len(lane)), Span(0, 0))


def _pieces(segments: Iterable[Segment]) -> Iterator[Piece]:
    return (s for s in segments if isinstance(s, Piece))


def _silence(segments: Iterable[Segment]) -> int:
    """How many samples of room tone or rest some segments begin with."""
    return sum(map(len, takewhile(lambda s: not isinstance(s, Piece), segments)))


def _together(losing: Sequence[tuple[int, int, int, bool]]) -> list[tuple[Span, int]]:
    """Stretches of different lanes, (start, stop, how much longer it became, whether the lane ends with it), that lie over one
    another and became longer by as much, as one; a lane that ends sooner than the others lost what it had of it.
    """
    found: list[tuple[Span, int]] = []
    for by in dict.fromkeys(row[2] for row in losing if not row[3]):
        spans: list[Span] = []
        for start, stop, _, _ in sorted(row for row in losing if row[2] == by and not row[3]):
            _joined(spans, Span(start, stop))
        found += [(span, by) for span in spans]
    ends: list[Span] = []
    for start, stop, by, _ in sorted((row for row in losing if row[3]), key=lambda row: (row[0], -row[1])):
        under = any(span.start <= start and stop <= span.stop for span, _ in found)
        if not under and not any(span.start <= start and stop <= span.stop for span in ends):
            ends.append(Span(start, stop))
            found.append((ends[-1], by))
    return sorted(found, key=lambda row: row[0].start)


def _joined(spans: list[Span], span: Span) -> None:
    """Take a stretch into rising ones, with the last of them where it lies over it."""
    if spans and span.start < spans[-1].stop:
        spans[-1] = Span(spans[-1].start, max(spans[-1].stop, span.stop))
    else:
        spans.append(span)


def _covers(e: Exchange, span: Span, by: int) -> bool:
    """Whether a lane without sound changed as a stretch did: where its rests went can not be told closer."""
    return e.by == by and e.old.start <= span.start and e.old.stop >= span.stop


def _lost(lane: Lane, row: Sequence[Exchange], span: Span, unheard: Unheard) -> int:
    """For how many samples of a stretch a lane lost sound that is heard nowhere any more."""
    inside = [e.old for e in row if e.old.start >= span.start and e.old.stop <= span.stop]
    return sum(b - a for old in inside for sound in sounds_of(lane.between(old)) for a, b in unheard(sound))


def _offcut(
    change: Change,
    number: int,
    before: Reel,
    now: dict[str, Lane],
    rows: dict[str, list[Exchange]],
    span: Span,
    by: int,
    gone: Sequence[Lane],
    silent: Sequence[Lane],
) -> Offcut:
    first = gone[0]
    ids = [lane.id for lane in (*gone, *silent)]
    place = span.start + sum(e.by for e in rows[first.id] if e.old.stop <= span.start and e.old.start < span.start)
    stands = Span(place, place + max(0, len(span) + by))
    there = tuple((k, now[k].between(stands)) for k in ids if k in now) if len(stands) else ()
    whole = len(there) == len(ids) and content_length(there) == len(stands)
    return Offcut(
        f"{change.step}-{number}",
        change.step,
        change.at,
        change.label,
        span,
        copied(before, span, tuple(ids)),
        tuple(lane.name for lane in gone),
        tuple(islice(_pieces(segments_before(first, span.start)), NEIGHBOURS)),
        tuple(islice(_pieces(segments_after(first, span.stop)), NEIGHBOURS)),
        there if whole else (),
        tuple(replace(m, at=m.at - span.start) for m in before.markers if span.start <= m.at < span.stop and by < 0),
        (
            _silence(segments_before(first, span.start)),
            _silence(segments_after(first, span.stop)),
        ),
    )


def _between(reel: Reel, lane: Lane, ahead: Sequence[Sound], behind: Sequence[Sound]) -> Span | None:
    """From the end of the nearest sound of `ahead` that is still there to the start of that of `behind`; None for neither."""
    rows = [
        (s.recording, s.start, s.stop, at) for s, at in zip(lane.segments, lane.starts(), strict=False) if isinstance(s, Piece)
    ]
    start = next((p for sound in ahead if (p := _end_of(rows, sound)) is not None), None)
    stop = next((p for sound in behind if (p := _start_of(rows, sound)) is not None), None)
    if start is None and stop is None:
        return None
    start = min(start, len(reel)) if start is not None else stop
    stop = stop if stop is not None else start
    assert start is not None
    assert stop is not None
    return Span(start, max(start, stop))


def _end_of(rows: Sequence[tuple[str, int, int, int]], sound: Sound) -> int | None:
    """Where the last that is left of a sound ends."""
    recording, start, stop = sound
    found = [(min(b, stop), at + min(b, stop) - a) for r, a, b, at in rows if r == recording and a < stop and b > start]
    return max(found)[1] if found else None


def _start_of(rows: Sequence[tuple[str, int, int, int]], sound: Sound) -> int | None:
    """Where the first that is left of a sound starts."""
    recording, start, stop = sound
    found = [(max(a, start), at + max(a, start) - a) for r, a, b, at in rows if r == recording and a < stop and b > start]
    return min(found)[1] if found else None


def is_back(offcut: Offcut, there: Covered) -> bool:
    """Whether all of its sound is heard again where what is heard is `there`."""
    return not any(uncovered(there, sound) for sound in offcut.sounds())


# --- putting it back ----------------------------------------------------------------------------------------------------


def put_back(offcut: Offcut, reel: Reel) -> list[ReelCommand]:
    """The edits that put an offcut back where it was, as long as it was, wherever that place is now; nothing else goes.

    Where what the step left in its place still stands there, it takes that place again.  Else every stretch that is not heard
    goes between the sounds that stood on its both sides, or the nearest to them that are still there: over its own filling
    where that is left, else beside what is there.

    Raises
    ------
    EditRefused
        It is back already, or its lane is gone.
    """
    lanes = {lane.id: lane for lane in reel.lanes}
    content = tuple((k, segments) for k, segments in offcut.content if k in lanes)
    heard = covered(reel.lanes)
    losing = [str(k) for k, segments in content if sounds_of(segments)]
    if not losing:
        raise EditRefused(
            f"The lane {offcut.lanes[0]} is no longer in this chapter. Copy the sound and paste it where it belongs."
        )
    rows = {k: Lane("", segments) for k, segments in content}
    left = _as_left(offcut, reel.lanes[reel.index(losing[0])])
    if is_back(offcut, heard) and not left:
        raise EditRefused("This sound is in the chapter again already.")
    stayed = covered(Lane("", segments) for _, segments in offcut.instead)
    wholly = left or all(
        uncovered(heard, sound) == uncovered(stayed, sound) for k in losing for sound in sounds_of(rows[k].segments)
    )
    near = _place_of(offcut, reel, rows[losing[0]], losing[0], Span(0, len(offcut.span)))
    stands = _standing(offcut.instead, reel, near) if wholly and len(content) == len(offcut.content) else None
    if stands is not None:
        return [_pasted(stands, content, same=len(stands) == len(offcut.span)), *_marked(offcut, stands.start, reel)]
    edits: list[ReelCommand] = []
    whole = wholly and not offcut.instead  # then the room tone beside its words comes back as well
    parts = [Span(0, len(offcut.span))] if whole else _missing([rows[k] for k in losing], heard, len(offcut.span))
    for part in parts:
        own = tuple(
            (k, row.between(part))
            for k, row in rows.items()
            if k not in losing or any(uncovered(heard, sound) for sound in sounds_of(row.between(part)))
        )
        instead = tuple((k, Lane("", s).between(part)) for k, s in offcut.instead if k in dict(own))
        fitting = content_length(offcut.instead) == len(offcut.span) and len(instead) == len(own)
        at = _place_of(offcut, reel, rows[losing[0]], losing[0], part)
        over = _standing(instead, reel, at) if fitting else None
        if over is None:
            over = _silent_at(reel, [str(k) for k, _ in own], at, len(part)) if offcut.instead else None
            over = over or Span(at, at)
        edit = _pasted(over, own, same=len(over) > 0)
        edits += [edit, *(_marked(offcut, over.start, reel) if not len(over) and not edits else ())]
        reel = edit.apply(reel)
    return edits


def _as_left(offcut: Offcut, lane: Lane) -> bool:
    """Whether a lane is as it was where this was closed up or filled: nothing of it is back, even if it is heard elsewhere."""
    if not offcut.before or not offcut.after:
        return False
    between = sum(offcut.room) + content_length(offcut.instead)
    before, after = offcut.before[0], offcut.after[0]
    beside = [(before.recording, before.stop), (after.recording, after.start)]
    pieces = [(s, at) for s, at in zip(lane.segments, lane.starts(), strict=False) if isinstance(s, Piece)]
    return any(
        [(a.recording, a.stop), (b.recording, b.start)] == beside and at == begins + len(a) + between
        for (a, begins), (b, at) in pairwise(pieces)
    )


def _pasted(span: Span, content: Content, *, same: bool) -> Paste:
    return Paste(span.start, span.stop, content, keep_time=same, join_in=RUNS_ON, join_out=RUNS_ON, edition=EDITION)


def _marked(offcut: Offcut, at: int, reel: Reel) -> list[ReelCommand]:
    """Its markers where they stood in it, those that are still there."""
    there = {m.id: m for m in reel.markers}
    return [PutMarker(replace(there[m.id], at=at + m.at)) for m in offcut.markers if m.id in there]


def _missing(rows: Sequence[Lane], heard: Covered, length: int) -> list[Span]:
    """The stretches of an offcut in which some sound of its lanes is not heard, those that touch as one."""
    spans = []
    for row in rows:
        for segment, at in zip(row.segments, row.starts(), strict=False):
            for sound in sounds_of([segment]):
                spans += [Span(at + a - sound[1], at + b - sound[1]) for a, b in uncovered(heard, sound)]
    found: list[Span] = []
    for span in sorted(spans):
        if found and span.start <= found[-1].stop:
            found[-1] = Span(found[-1].start, max(found[-1].stop, span.stop))
        else:
            found.append(span)
    return [Span(s.start, min(s.stop, length)) for s in found]


def _standing(content: Content, reel: Reel, near: int) -> Span | None:
    """Where exactly this stands in a reel, on all its lanes at once, the nearest to a place; None where it does not."""
    length = content_length(content)
    if not length:
        return None
    first = content[0][1][0]
    lane = reel.lanes[reel.index(content[0][0])]
    wanted = [list(flat(row, 0)) for _, row in content]
    found: list[Span] = []
    for s, at in zip(lane.segments, lane.starts(), strict=False):
        if key_of(s) != key_of(first):
            continue
        begins = at + first.origin - s.origin if not isinstance(s, Rest) else max(at, min(near, at + len(s) - len(first)))
        if not at <= begins < at + len(s):
            continue
        span = Span(begins, begins + length)
        rows = (reel.lanes[reel.index(k)].between(span) for k, _ in content)
        if all(list(flat(row, 0)) == known for row, known in zip(rows, wanted, strict=True)):
            found.append(span)
    return min(found, key=lambda span: abs(span.start - near), default=None)


def _silent_at(reel: Reel, lanes: Sequence[str], at: int, length: int) -> Span | None:
    """A stretch from a place on in which some lanes have room tone or nothing; None where one of them has sound."""
    span = Span(at, at + length)
    rows = [reel.lanes[reel.index(k)] for k in lanes]
    free = all(span.stop <= len(row) and not sounds_of(row.between(span)) for row in rows)
    return span if free else None


def _place_of(offcut: Offcut, reel: Reel, row: Lane, lane: str, part: Span) -> int:
    """Where a stretch of an offcut goes, by what stood beside it; after all that was spoken before it."""
    ahead = [*sounds_of(row.between(Span(0, part.start)))[::-1], *sounds_of(offcut.before)]
    behind = [*sounds_of(row.between(Span(part.stop, len(row)))), *sounds_of(offcut.after)]
    there = reel.lanes[reel.index(lane)]
    between = _between(reel, there, ahead, behind)
    if between is None:
        return min(offcut.span.start + part.start, len(reel))
    recording, start, _ = sounds_of(row.between(part))[0]
    at, reached = between.start, between.start
    for s in there.between(between):
        reached += len(s)
        if isinstance(s, Piece) and s.recording == recording and s.stop <= start:
            at = reached
    if at > 0 and ahead and _ends_at(there, at, ahead[0]):
        own = _silence(segments_before(row, part.start)) if part.start else offcut.room[0]
        return at + min(_silence(segments_after(there, at)), own)
    beside = behind and _begins_at(there, between.stop, behind[0]) and not sounds_of(there.between(Span(at, between.stop)))
    if behind and (beside or at == between.start == between.stop):
        at = between.stop
        room = _silence(segments_after(row, part.stop)) if part.stop < len(row) else offcut.room[1]
        return at - min(_silence(segments_before(there, at)), room)
    return at


def _ends_at(lane: Lane, at: int, sound: Sound) -> bool:
    """Whether a sound ends at a place of a lane."""
    before = sounds_of(lane.between(Span(max(0, at - 1), at)))
    return bool(before) and (before[0][0], before[0][2]) == (sound[0], sound[2])


def _begins_at(lane: Lane, at: int, sound: Sound) -> bool:
    """Whether a sound begins at a place of a lane."""
    after = sounds_of(lane.between(Span(at, min(len(lane), at + 1))))
    return bool(after) and (after[0][0], after[0][1]) == (sound[0], sound[1])


class Said:
    """The words of a chapter's recordings, to be asked for by their sound: as heard in its own, as written in a take."""

    def __init__(self, book: Book, chapter: ChapterState, text: Chapter, heard: Sequence[Heard]) -> None:
        rows: dict[str, list[tuple[int, str]]] = {chapter.recording: [((h.start + h.stop) // 2, h.text) for h in heard]}
        for pickup in book.pickups:
            if pickup.chapter != chapter.id:
                continue
            written = text.words[pickup.first_word :]
            for take in pickup.takes:
                said = [((a + b) // 2, word.text) for (a, b), word in zip(take.words, written, strict=False)]
                rows.setdefault(take.recording, []).extend(said)
        self._rows = {recording: sorted(row) for recording, row in rows.items()}

    def words(self, sounds: Sequence[Sound]) -> str:
        """The words of which more than half is in some stretches of recordings, in their order."""
        said: list[str] = []
        for recording, start, stop in sounds:
            row = self._rows.get(recording, [])
            said += [text for _, text in row[bisect_left(row, (start,)) : bisect_left(row, (stop,))]]
        return " ".join(said)
