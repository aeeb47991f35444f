"""Where every word of a chapter is heard in its reel as it stands now."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.links import Link
from faithful_reel.core.collate.proofing import Placed, Proof
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.reel.reel import Piece, Reel
from faithful_reel.core.units import Span


@dataclass(frozen=True, slots=True)
class Hearing:
    """What was heard of a chapter, kept in the book by its content; positions in samples of the recording.

    `links` are (written start, stop, heard start, stop, same).
    """

    heard: tuple[Heard, ...]
    placed: tuple[Placed | None, ...]
    links: tuple[tuple[int, int, int, int, bool], ...]

    def link_rows(self) -> list[Link]:
        """The links as values of the collation."""
        return [Link(range(a, b), range(c, d), same) for a, b, c, d, same in self.links]


def hearing_of(proof: Proof) -> Hearing:
    """What the book keeps of a proof."""
    rows = tuple((k.written.start, k.written.stop, k.heard.start, k.heard.stop, k.same) for k in proof.links)
    return Hearing(proof.heard, proof.placed, rows)


@dataclass(frozen=True, slots=True)
class Token:
    """One thing on the galley, in the order it is heard: a written word, or heard words that are not written.

    `start` and `stop` are reel positions, both -1 for a written word that is not heard in the reel.
    """

    text: str
    word: int
    start: int
    stop: int
    extra: bool = False


class _Map:
    """From recording time to reel time, for one recording of a reel."""

    def __init__(self, reel: Reel, recording: str) -> None:
        self._rows: list[tuple[int, int, int]] = []
        lane = reel.lanes[0]
        for segment, at in zip(lane.segments, lane.starts(), strict=False):
            if isinstance(segment, Piece) and segment.recording == recording:
                self._rows.append((segment.start, segment.stop, at))
        self._rows.sort()
        self._starts = [row[0] for row in self._rows]

    def place(self, start: int, stop: int) -> tuple[int, int] | None:
        """Where the middle of a stretch, and as much of it as is there, is heard."""
        middle = (start + stop) // 2
        index = bisect_left(self._starts, middle + 1) - 1
        if index < 0:
            return None
        first, last, at = self._rows[index]
        if not first <= middle < last:
            return None
        return at + max(start, first) - first, at + min(stop, last) - first


def tokens_of(book: Book, chapter: ChapterState, texts: Sequence[str], hearing: Hearing | None) -> tuple[Token, ...]:
    """The galley of a chapter.  Without a hearing every word stands unplaced."""
    if hearing is None or chapter.reel is None:
        return tuple(Token(text, i, -1, -1) for i, text in enumerate(texts))
    reel = chapter.reel
    own = _Map(reel, chapter.recording)
    placed: list[tuple[int, int] | None] = [own.place(p.start, p.stop) if p else None for p in hearing.placed]
    for pickup in book.pickups:
        if pickup.chapter != chapter.id or not 0 <= pickup.chosen < len(pickup.takes):
            continue
        take = pickup.takes[pickup.chosen]
        theirs = _Map(reel, take.recording)
        for offset, (start, stop) in enumerate(take.words):
            index = pickup.first_word + offset
            if start >= 0 and index < len(placed) and placed[index] is None:
                placed[index] = theirs.place(start, stop)
    tokens: list[Token] = []
    linked = {j for a, b, c, d, _ in hearing.links if b > a for j in range(c, d)}
    extras = [(own.place(h.start, h.stop), h.text) for j, h in enumerate(hearing.heard) if j not in linked]
    for index, (text, place) in enumerate(zip(texts, placed, strict=True)):
        tokens.append(Token(text, index, *(place or (-1, -1))))
    ghosts = [Token(text, -1, place[0], place[1], extra=True) for place, text in extras if place]
    return _woven(tokens, ghosts)


def _woven(tokens: list[Token], ghosts: list[Token]) -> tuple[Token, ...]:
    """Put heard-only words before the first written word that starts after them."""
    result: list[Token] = []
    rest = sorted(ghosts, key=lambda g: g.start)
    for token in tokens:
        if token.start >= 0:
            while rest and rest[0].start < token.start:
                result.append(rest.pop(0))
        result.append(token)
    return (*result, *rest)


def span_of(tokens: Sequence[Token], first_word: int, last_word: int) -> Span | None:
    """The reel stretch that speaks written words `first_word` to `last_word`; None where none of them is heard."""
    spoken = [t for t in tokens if first_word <= t.word <= last_word and t.start >= 0]
    return Span(min(t.start for t in spoken), max(t.stop for t in spoken)) if spoken else None
