"""The pieces of a lane in a row: what each is, where it is from, how it takes over, what was cut beside it."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from faithful_reel.core.book.model import Book
from faithful_reel.core.reel.exchanges import Sound
from faithful_reel.core.reel.reel import Join, Lane, Piece, Rest, Segment
from faithful_reel.core.units import Span
from faithful_reel.core.work.timeline import Tokens

MOST_WORDS = 6
"""Of a piece that has no name so many of its first words are told."""


@dataclass(frozen=True, slots=True)
class Row:
    """One piece: which of its lane it is, where it stands, in words what it is and where it is from; how it takes over, and what
    of its recording was cut before and after it, in seconds with the words that were heard there.
    """

    index: int
    span: Span
    name: str
    source: str
    start: int
    gain_db: float
    join: Join | None
    cut_before: tuple[float, str]
    cut_after: tuple[float, str]


def pieces_of(book: Book, lane: Lane, number: int, tokens: Tokens, said: Callable[[Sequence[Sound]], str]) -> list[Row]:
    """The pieces of a lane, in their order; `number` is the lane's, `said` gives the words of stretches of recordings."""
    heard = tokens.heard()
    own = [k for k in range(len(heard)) if heard.lanes is None or heard.lanes[k] == number]
    middles = [int(heard.starts[k] + heard.stops[k]) // 2 for k in own]
    names = {r.hash: r.name for r in book.recordings}
    lengths = {r.hash: r.length for r in book.recordings}
    starts, found = lane.starts(), []
    for k, segment in enumerate(lane.segments):
        span = Span(starts[k], starts[k + 1])
        words = [heard.texts[own[i]] for i in range(bisect_left(middles, span.start), bisect_left(middles, span.stop))]
        told = " ".join(words[:MOST_WORDS]) + (" …" if len(words) > MOST_WORDS else "")
        before = lane.segments[k - 1] if k else None
        after = lane.segments[k + 1] if k + 1 < len(lane.segments) else None
        found.append(
            Row(
                k,
                span,
                segment.name or (told if isinstance(segment, Piece) else "rest" if isinstance(segment, Rest) else "room tone"),
                names.get(segment.recording, ""),
                segment.start if isinstance(segment, Piece) else 0,
                segment.gain_db,
                segment.join if k else None,
                _cut(_gap(before, segment, lengths), book.rate, said),
                _cut(_gap(segment, after, lengths), book.rate, said),
            )
        )
    return found


def _gap(first: Segment | None, second: Segment | None, lengths: dict[str, int]) -> Sound | None:
    """What of a recording lies between two pieces and is not heard there; at the ends of a lane what lies before or after it."""
    if isinstance(first, Piece) and isinstance(second, Piece):
        if first.recording == second.recording and first.stop < second.start:
            return first.recording, first.stop, second.start
        return None
    if first is None and isinstance(second, Piece) and second.start > 0:
        return second.recording, 0, second.start
    if second is None and isinstance(first, Piece) and first.stop < lengths.get(first.recording, 0):
        return first.recording, first.stop, lengths[first.recording]
    return None


def _cut(sound: Sound | None, rate: int, said: Callable[[Sequence[Sound]], str]) -> tuple[float, str]:
    return ((sound[2] - sound[1]) / rate, said([sound])) if sound is not None else (0.0, "")
