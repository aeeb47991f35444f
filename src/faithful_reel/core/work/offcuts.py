"""Offcuts: all that was ever cut from a chapter, found in its journal, and where it goes back to."""

from __future__ import annotations

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
        for lane in range(len(before.lanes)):
            for span in _gone(before, after, lane):
                if len(span) >= LEAST_S * change.after.rate:
                    gone.setdefault(span, []).append(lane)
        found += [_offcut(change, n, before, after, span, lanes) for n, (span, lanes) in enumerate(sorted(gone.items()))]
    return found[::-1]


def _reel(book: Book, chapter: str) -> Reel | None:
    return next((c.reel for c in book.chapters if c.id == chapter), None)


def _gone(before: Reel, after: Reel, lane: int) -> list[Span]:
    """Stretches of a lane whose sound is heard nowhere in the reel any more, those that touch as one."""
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
        for a, b in _uncovered(after, segment):
            span = Span(at + a - segment.start, at + b - segment.start)
            if spans and spans[-1].stop == span.start:
                spans[-1] = Span(spans[-1].start, span.stop)
            else:
                spans.append(span)
    return spans


def _uncovered(reel: Reel, piece: Piece) -> list[tuple[int, int]]:
    """The stretches of a piece's recording, within it, that no piece of a reel has."""
    return uncovered(reel, piece.recording, piece.start, piece.stop)


def uncovered(reel: Reel, recording: str, start: int, stop: int) -> list[tuple[int, int]]:
    """What of a stretch of a recording is heard nowhere in a reel."""
    there = sorted(
        (max(s.start, start), min(s.stop, stop))
        for lane in reel.lanes
        for s in lane.segments
        if isinstance(s, Piece) and s.recording == recording and s.start < stop and s.stop > start
    )
    left: list[tuple[int, int]] = []
    at = start
    for a, b in there:
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


def is_back(offcut: Offcut, reel: Reel) -> bool:
    """Whether all of its sound is heard in the reel again."""
    return not any(uncovered(reel, *sound) for sound in offcut.sounds())


def put_back(offcut: Offcut, reel: Reel) -> list[ReelCommand]:
    """The edits that put an offcut back where it was, wherever that place is now.

    It goes between the sounds that stood on its both sides, or the nearest to them that are still there; where it was laid over
    or replaced, and nothing else came there since, it takes the place of that again.

    Raises
    ------
    EditRefused
        It is back already, or its lane is gone.
    """
    if is_back(offcut, reel):
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


def words_of(book: Book, chapter: ChapterState, text: Chapter, heard: Sequence[Heard], sounds: Sequence[Sound]) -> str:
    """The words in stretches of recordings: as they were heard in the chapter's own, as they are written in a take."""
    said: list[str] = []
    for recording, start, stop in sounds:
        if recording == chapter.recording:
            said += [h.text for h in heard if start <= (h.start + h.stop) // 2 < stop]
        for pickup in book.pickups:
            if pickup.chapter == chapter.id:
                for take in pickup.takes:
                    if take.recording == recording:
                        said += [
                            text.words[pickup.first_word + k].text
                            for k, (a, b) in enumerate(take.words)
                            if start <= (a + b) // 2 < stop and pickup.first_word + k < len(text.words)
                        ]
    return " ".join(said)
