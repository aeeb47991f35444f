"""Where every word of a chapter is heard in its reel as it stands now."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import accumulate
from operator import attrgetter
from typing import NamedTuple, overload

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.findings import AGAIN, Decision, Finding, Kind
from faithful_reel.core.collate.links import Link
from faithful_reel.core.collate.proofing import Placed, Proof
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.pickups.ledger import Pickup
from faithful_reel.core.reel.reel import Piece, Reel, played
from faithful_reel.core.units import Span

Places = NDArray[np.int64]


@dataclass(frozen=True)
class Hearing:
    """What was heard of a chapter, kept in the book by its content; positions in samples of the recording.

    `links` are (written start, stop, heard start, stop, same).  `voices` are the chapter's other voices: the recording of each,
    and what was heard of it against the same words.
    """

    heard: tuple[Heard, ...]
    placed: tuple[Placed | None, ...]
    links: tuple[tuple[int, int, int, int, bool], ...]
    voices: tuple[tuple[str, Hearing], ...] = ()

    def link_rows(self) -> list[Link]:
        """The links as values of the collation."""
        return [Link(range(a, b), range(c, d), same) for a, b, c, d, same in self.links]

    @cached_property
    def words(self) -> tuple[Places, Places]:
        """Where every written word is heard in the recording: starts and stops, -1 where it is not."""
        starts = np.array([p.start if p else -1 for p in self.placed], np.int64)
        return starts, np.array([p.stop if p else -1 for p in self.placed], np.int64)

    @cached_property
    def extras(self) -> tuple[Heard, ...]:
        """What was heard and is not written."""
        linked = {j for a, b, c, d, _ in self.links if b > a for j in range(c, d)}
        return tuple(h for j, h in enumerate(self.heard) if j not in linked)


def hearing_of(proof: Proof) -> Hearing:
    """What the book keeps of a proof."""
    rows = tuple((k.written.start, k.written.stop, k.heard.start, k.heard.stop, k.same) for k in proof.links)
    return Hearing(proof.heard, proof.placed, rows)


class Token(NamedTuple):
    """One thing on the galley, in the order it is heard: a written word, or heard words that are not written.

    `start` and `stop` are reel positions, both -1 for a written word that is not heard in the reel; `lane` is whose voice it is.
    """

    text: str
    word: int
    start: int
    stop: int
    extra: bool = False
    lane: int = 0


@dataclass(frozen=True, slots=True, eq=False)
class Tokens(Sequence[Token]):
    """The galley of a chapter as columns; a token is made when it is asked for."""

    texts: Sequence[str]
    words: Places
    starts: Places
    stops: Places
    lanes: Places | None = None
    """Whose voice each is of; None where there is one."""

    def __len__(self) -> int:
        return len(self.texts)

    @overload
    def __getitem__(self, index: int) -> Token: ...
    @overload
    def __getitem__(self, index: slice) -> list[Token]: ...
    def __getitem__(self, index: int | slice) -> Token | list[Token]:
        if isinstance(index, slice):
            lanes = None if self.lanes is None else self.lanes[index]
            return list(Tokens(self.texts[index], self.words[index], self.starts[index], self.stops[index], lanes))
        word = int(self.words[index])
        lane = 0 if self.lanes is None else int(self.lanes[index])
        return Token(self.texts[index], word, int(self.starts[index]), int(self.stops[index]), word < 0, lane)

    def heard(self) -> Tokens:
        """Those that are heard, in the order of time."""
        order = np.argsort(self.starts, kind="stable")
        order = order[np.searchsorted(self.starts[order], 0) :]
        texts = [self.texts[i] for i in order.tolist()]
        lanes = None if self.lanes is None else self.lanes[order]
        return Tokens(texts, self.words[order], self.starts[order], self.stops[order], lanes)

    def __iter__(self) -> Iterator[Token]:
        words, starts, stops = self.words.tolist(), self.starts.tolist(), self.stops.tolist()
        lanes = [0] * len(self) if self.lanes is None else self.lanes.tolist()
        return map(Token._make, zip(self.texts, words, starts, stops, (self.words < 0).tolist(), lanes, strict=True))


def lane_with(reel: Reel, recording: str) -> int:
    """The first lane that plays a recording; the first of all where none does."""
    plays = (k for k, lane in enumerate(reel.lanes) if recording in lane.recordings)
    return next(plays, 0)


class _Map:
    """From recording time to reel time, for one recording of a reel."""

    def __init__(self, reel: Reel, recording: str) -> None:
        lane = reel.lanes[lane_with(reel, recording)]
        rows = sorted(
            (piece.start, piece.stop, place)
            for segment, at in zip(lane.segments, lane.starts(), strict=False)
            if isinstance(segment, Piece) and (segment.of or segment.recording == recording)
            for piece, place in played(segment, at)
            if piece.recording == recording
        )
        rows = _running_on(rows)
        table = np.array(rows, np.int64).reshape(-1, 3)
        self._first, self._last, self._at = table[:, 0], table[:, 1], table[:, 2]
        self._rows = rows
        self._reached = list(accumulate((row[1] for row in rows), max))  # how far the rows up to each one reach

    def places(self, starts: Places, stops: Places) -> tuple[Places, Places]:
        """Where the middles of stretches, and as much of them as is there, are heard; -1 for those that are not."""
        if not len(self._first):
            return np.full(len(starts), -1), np.full(len(starts), -1)
        middle = (starts + stops) // 2
        index = np.searchsorted(self._first, middle, side="right") - 1
        row = np.maximum(index, 0)
        first, last, at = self._first[row], self._last[row], self._at[row]
        there = (starts >= 0) & (index >= 0) & (middle < last)
        begin, end = at + np.maximum(starts, first) - first, at + np.minimum(stops, last) - first
        return np.where(there, begin, -1), np.where(there, end, -1)

    def span(self, start: int, stop: int) -> Span | None:
        """From the first to the last place where a stretch is heard; None where less than half of it is.

        What is left of a word whose sound was cut or replaced is no longer that word.
        """
        first = bisect_right(self._reached, start)
        found = [
            (at + max(start, a) - a, at + min(stop, b) - a)
            for a, b, at in self._rows[first : bisect_left(self._rows, (max(stop, start + 1),))]
            if b > start and (min(stop, b) > max(start, a) or start == stop)
        ]
        left = sum(b - a for a, b in found)
        return Span(min(found)[0], max(found)[1]) if found and 2 * left >= stop - start else None


def finding_spans(chapter: ChapterState, findings: Iterable[Finding]) -> list[Span | None]:
    """Where findings are heard in the reel as it stands; None for those that were cut."""
    if chapter.reel is None:
        return [None for _ in findings]
    maps: dict[str, _Map] = {}
    spans: list[Span | None] = []
    for f in findings:
        recording = f.recording or chapter.recording
        known = maps.get(recording)
        if known is None:
            known = maps[recording] = _Map(chapter.reel, recording)
        spans.append(known.span(f.start, f.stop))
    return spans


TAKEN_OUT = AGAIN | {Kind.ADDED}
"""What is mended by taking sound out."""
STILL_THERE = 0.8
"""How much of a finding's sound is there again where it is heard (own rule)."""


def still_heard(finding: Finding, span: Span | None) -> bool:
    """Whether what is said to be mended is heard all the same: it was only marked, or an earlier version was swapped in."""
    there = span is not None and len(span) > STILL_THERE * (finding.stop - finding.start)
    return there and finding.decision is Decision.MEND and finding.kind in TAKEN_OUT


def _running_on(rows: Sequence[tuple[int, int, int]]) -> list[tuple[int, int, int]]:
    """Stretches, (from, to, where in the reel), in order; those that run on, where a piece was split, as one."""
    found: list[tuple[int, int, int]] = []
    for start, stop, at in rows:
        if found and found[-1][1] == start and found[-1][2] + start - found[-1][0] == at:
            found[-1] = found[-1][0], stop, found[-1][2]
        else:
            found.append((start, stop, at))
    return found


def tokens_of(book: Book, chapter: ChapterState, texts: Sequence[str], hearing: Hearing | None) -> Tokens:
    """The galley of a chapter, each word where its voice says it.  Without a hearing every word stands unplaced."""
    count = np.arange(len(texts))
    if hearing is None or chapter.reel is None:
        return Tokens(texts, count, np.full(len(texts), -1), np.full(len(texts), -1))
    if len(texts) != len(hearing.placed):
        raise ValueError(f"{len(texts)} words, but {len(hearing.placed)} were looked for")
    reel = chapter.reel
    own = _Map(reel, chapter.recording)
    starts, stops = own.places(*hearing.words)
    taken_on: list[tuple[Places, int]] = []
    for pickup in book.pickups:
        if pickup.chapter != chapter.id:
            continue
        for recording, edges in _put_in(pickup):
            spoken = np.array(edges[: max(0, len(starts) - pickup.first_word)], np.int64).reshape(-1, 2)
            theirs = _Map(reel, recording).places(spoken[:, 0], spoken[:, 1])
            words = pickup.first_word + np.arange(len(spoken))
            free = (starts[words] < 0) & (theirs[0] >= 0)
            starts[words[free]], stops[words[free]] = theirs[0][free], theirs[1][free]
            if len(reel.lanes) > 1:
                taken_on.append((words[free], lane_with(reel, recording)))
    first = lane_with(reel, chapter.recording)
    ghosts = _ghosts(hearing, own, first)
    lanes = np.full(len(texts), first) if hearing.voices or first else None
    for words, lane in taken_on:
        if lanes is not None:
            lanes[words] = lane
    for recording, heard in hearing.voices:
        lane = lane_with(reel, recording)
        if len(heard.placed) == len(texts) and recording in reel.lanes[lane].recordings:
            other = _Map(reel, recording)
            theirs = other.places(*heard.words)
            free = (starts < 0) & (theirs[0] >= 0)
            starts[free], stops[free] = theirs[0][free], theirs[1][free]
            assert lanes is not None
            lanes[free] = lane
            ghosts += _ghosts(heard, other, lane)
    ghosts += _moved(texts, starts, stops, lanes)
    return _woven(Tokens(texts, count, starts, stops, lanes), ghosts)


def _moved(texts: Sequence[str], starts: Places, stops: Places, lanes: Places | None) -> list[Token]:
    """Words that were moved away from their place in the text: they are heard where they are now, and no longer there.

    They are those of a lane out of the longest row of words that are heard in the order in which they are written.
    """
    found: list[Token] = []
    for lane in (0,) if lanes is None else np.unique(lanes).tolist():
        words = np.flatnonzero(starts >= 0) if lanes is None else np.flatnonzero((starts >= 0) & (lanes == lane))
        if (np.diff(starts[words]) >= 0).all():
            continue
        for k in np.delete(words, _in_order(starts[words].tolist())).tolist():
            found.append(Token(texts[k], -1, int(starts[k]), int(stops[k]), extra=True, lane=lane))
            starts[k] = stops[k] = -1
    return found


def _in_order(places: Sequence[int]) -> list[int]:
    """The longest row of places that do not fall, as their indices (patience sorting; Schensted 1961, from memory)."""
    heads: list[int] = []
    ends: list[int] = []
    before: list[int] = []
    for index, place in enumerate(places):
        k = bisect_right(heads, place)
        before.append(ends[k - 1] if k else -1)
        heads[k : k + 1], ends[k : k + 1] = [place], [index]
    row: list[int] = []
    at = ends[-1] if ends else -1
    while at >= 0:
        row.append(at)
        at = before[at]
    return row[::-1]


def _put_in(pickup: Pickup) -> list[tuple[str, tuple[tuple[int, int], ...]]]:
    """The recordings that a pickup's words stand in, in the reel, with the edges of each of its tokens there."""
    if pickup.placed:
        return [(p.recording, p.words) for p in pickup.placed]
    if 0 <= pickup.chosen < len(pickup.takes):  # one that was put in by an earlier version
        return [(pickup.takes[pickup.chosen].recording, pickup.takes[pickup.chosen].words)]
    return []


def _ghosts(hearing: Hearing, places: _Map, lane: int) -> list[Token]:
    """What was heard and is not written, where it is still in the reel."""
    extras = hearing.extras
    if not extras:
        return []
    begins, ends = places.places(np.array([h.start for h in extras]), np.array([h.stop for h in extras]))
    rows = zip(extras, begins.tolist(), ends.tolist(), strict=True)
    return [Token(h.text, -1, a, b, extra=True, lane=lane) for h, a, b in rows if a >= 0]


def voice_tokens(chapter: ChapterState, texts: Sequence[str], recording: str, hearing: Hearing) -> Tokens:
    """The words of one voice alone, where they are heard in the reel."""
    if chapter.reel is None or len(hearing.placed) != len(texts):
        nowhere = np.full(len(texts), -1)
        return Tokens(texts, np.arange(len(texts)), nowhere, nowhere)
    places = _Map(chapter.reel, recording)
    starts, stops = places.places(*hearing.words)
    return _woven(Tokens(texts, np.arange(len(texts)), starts, stops), _ghosts(hearing, places, 0))


def _woven(tokens: Tokens, ghosts: list[Token]) -> Tokens:
    """Put heard-only words before the first written word that starts after them."""
    if not ghosts:
        return tokens
    ghosts = sorted(ghosts, key=attrgetter("start"))
    at = np.searchsorted(np.maximum.accumulate(tokens.starts), [g.start for g in ghosts], side="right")
    texts = list(tokens.texts)
    for index, ghost in zip(reversed(at.tolist()), reversed(ghosts), strict=True):
        texts.insert(index, ghost.text)
    return Tokens(
        texts,
        np.insert(tokens.words, at, -1),
        np.insert(tokens.starts, at, [g.start for g in ghosts]),
        np.insert(tokens.stops, at, [g.stop for g in ghosts]),
        None if tokens.lanes is None else np.insert(tokens.lanes, at, [g.lane for g in ghosts]),
    )


def span_of(tokens: Sequence[Token], first_word: int, last_word: int) -> Span | None:
    """The reel stretch that speaks written words `first_word` to `last_word`; None where none of them is heard."""
    spoken = [t for t in tokens if first_word <= t.word <= last_word and t.start >= 0]
    return Span(min(t.start for t in spoken), max(t.stop for t in spoken)) if spoken else None


def word_at(tokens: Tokens, position: int) -> int:
    """The written word that is heard at a position of the reel, or was heard last before it; -1 for none."""
    heard = tokens.heard()
    words = heard.words[: int(np.searchsorted(heard.starts, position, side="right"))]
    written = words[words >= 0]
    return int(written[-1]) if len(written) else -1
