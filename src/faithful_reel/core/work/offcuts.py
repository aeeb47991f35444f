"""Offcuts: all that was ever cut from a chapter, found in its journal, and where it goes back to."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.book.past import Change
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.reel.commands import Paste, ReelCommand
from faithful_reel.core.reel.cutting import Content, copied
from faithful_reel.core.reel.reel import RUNS_ON, Lane, Piece, Reel
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Span

LEAST_S = 0.005
"""Shorter ends, which go when a join is moved, are no offcuts (own rule)."""
NEIGHBOURS = 64
"""So many pieces on either side are remembered as the place where an offcut was."""

Sound = tuple[str, int, int]
"""A stretch of a recording: its hash, from, to."""


@dataclass(frozen=True, slots=True)
class Offcut:
    """Sound that was heard in a chapter before a step and no longer after it.

    `span` is where it was in the reel before the step, `content` what was there on the lanes that lost it (`lanes` are their
    names).  `before` and `after` are the pieces that stood beside it on the first of them, the nearest first; `instead` is how
    much stood between those after the step.
    """

    id: str
    step: int
    at: str
    label: str
    span: Span
    content: Content
    lanes: tuple[str, ...]
    before: tuple[Sound, ...]
    after: tuple[Sound, ...]
    instead: int

    def sounds(self) -> list[Sound]:
        """The stretches of recordings that it is made of."""
        return [(s.recording, s.start, s.stop) for _, segments in self.content for s in segments if isinstance(s, Piece)]


def offcuts_of(steps: Iterable[Change], chapter: str) -> list[Offcut]:
    """What the steps cut from one chapter, the latest first."""
    found: list[Offcut] = []
    for change in steps:
        before, after = (_reel(book, chapter) for book in (change.before, change.after))
        if before is None or after is None or before is after:
            continue
        gone: dict[Span, list[int]] = {}
        there = covered(_with_others(change, chapter, after))
        for lane in range(len(before.lanes)):
            for span in _gone(before, after, lane, there):
                if len(span) >= LEAST_S * change.after.rate:
                    gone.setdefault(span, []).append(lane)
        found += [_offcut(change, n, before, after, span, lanes) for n, (span, lanes) in enumerate(sorted(gone.items()))]
    return found[::-1]


def _reel(book: Book, chapter: str) -> Reel | None:
    return next((c.reel for c in book.chapters if c.id == chapter), None)


def _with_others(change: Change, chapter: str, after: Reel) -> Reel:
    """A reel with the lanes of the other chapters that the step changed: what went to one of them was moved, not cut."""
    old = {c.id: c.reel for c in change.before.chapters}
    changed = (c.reel for c in change.after.chapters if c.id != chapter and c.reel is not None and old.get(c.id) is not c.reel)
    return Reel((*after.lanes, *(lane for reel in changed for lane in reel.lanes)))


def _gone(before: Reel, after: Reel, lane: int, there: Covered) -> list[Span]:
    """Stretches of a lane whose sound is heard nowhere any more, those that touch as one."""
    row = before.lanes[lane]
    now = after.lanes[lane].segments if lane < len(after.lanes) else ()
    old = row.segments
    if old is now:
        return []
    first = 0
    while first < min(len(old), len(now)) and old[first] is now[first]:
        first += 1
    last = len(old)
    while last > first and len(now) - (len(old) - last) > first and old[last - 1] is now[len(now) - (len(old) - last) - 1]:
        last -= 1
    starts = row.starts()
    spans: list[Span] = []
    for segment, at in zip(old[first:last], starts[first:last], strict=True):
        if not isinstance(segment, Piece):
            continue
        for a, b in uncovered(there, (segment.recording, segment.start, segment.stop)):
            span = Span(at + a - segment.start, at + b - segment.start)
            if spans and spans[-1].stop == span.start:
                spans[-1] = Span(spans[-1].start, span.stop)
            else:
                spans.append(span)
    return spans


Covered = dict[str, list[tuple[int, int]]]
"""What of every recording is heard in a reel: stretches in order that do not touch."""


def covered(reel: Reel) -> Covered:
    """What is heard in a reel."""
    rows: Covered = {}
    for lane in reel.lanes:
        for segment in lane.segments:
            if isinstance(segment, Piece):
                rows.setdefault(segment.recording, []).append((segment.start, segment.stop))
    for recording, row in rows.items():
        joined: list[tuple[int, int]] = []
        for start, stop in sorted(row):
            if joined and start <= joined[-1][1]:
                joined[-1] = joined[-1][0], max(joined[-1][1], stop)
            else:
                joined.append((start, stop))
        rows[recording] = joined
    return rows


def uncovered(there: Covered, sound: Sound) -> list[tuple[int, int]]:
    """What of a stretch of a recording is not heard where what is heard is `there`."""
    recording, at, stop = sound
    row = there.get(recording, [])
    left: list[tuple[int, int]] = []
    for a, b in row[max(0, bisect_left(row, (at,)) - 1) :]:
        if a >= stop:
            break
        if a > at:
            left.append((at, a))
        at = max(at, b)
    return [*left, (at, stop)] if at < stop else left


def _offcut(change: Change, number: int, before: Reel, after: Reel, span: Span, lanes: Sequence[int]) -> Offcut:
    row = before.lanes[lanes[0]]
    beside = [_pieces(row, Span(0, span.start))[::-1], _pieces(row, Span(span.stop, len(row)))]
    ahead, behind = (tuple(side[:NEIGHBOURS]) for side in beside)
    between = _between(after, after.lanes[min(lanes[0], len(after.lanes) - 1)], ahead, behind)
    return Offcut(
        f"{change.step}-{number}",
        change.step,
        change.at,
        change.label,
        span,
        copied(before, span, tuple(lanes)),
        tuple(before.lanes[k].name for k in lanes),
        ahead,
        behind,
        len(between) if between is not None else 0,
    )


def _pieces(lane: Lane, span: Span) -> list[Sound]:
    return [(s.recording, s.start, s.stop) for s in lane.between(span) if isinstance(s, Piece)]


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


def put_back(offcut: Offcut, reel: Reel) -> list[ReelCommand]:
    """The edits that put an offcut back where it was, wherever that place is now.

    It goes between the sounds that stood on its both sides, or the nearest to them that are still there; where it was laid over
    or replaced, and nothing else came there since, it takes the place of that again.

    Raises
    ------
    EditRefused
        It is back already, or its lane is gone.
    """
    if is_back(offcut, covered(reel)):
        raise EditRefused("This sound is in the chapter again already.")
    names = [lane.name for lane in reel.lanes]
    content = tuple(
        (names.index(name), segments) for name, (_, segments) in zip(offcut.lanes, offcut.content, strict=True) if name in names
    )
    if not content:
        raise EditRefused(
            f"The lane {offcut.lanes[0]} is no longer in this chapter. Copy the sound and paste it where it belongs."
        )
    between = _between(reel, reel.lanes[content[0][0]], offcut.before, offcut.after)
    at = between.start if between is not None else min(offcut.span.start, len(reel))
    over = len(between) if between is not None and len(between) == offcut.instead else 0
    same = over == len(offcut.span)
    return [Paste(at, at + over, content, keep_time=same, join_in=RUNS_ON, join_out=RUNS_ON)]


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
