"""Lines to be read again: which are near one another, which round they go out with, what did not come back."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.book.pickups import AddPickups, JoinLines, SendRound, SplitLine, WidenLine
from faithful_reel.core.collate.findings import Finding
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.pickups.ledger import DONE, READY, Pickup, Round, State, Want
from faithful_reel.core.pickups.lines import line_around
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.work.timeline import Hearing, Tokens, span_of

NEAR_WORDS, LONGEST_WORDS = 12, 60
"""Lines so few words apart are read in one go, up to so many words in all (own choice)."""


def in_reading_order(book: Book, pickups: Sequence[Pickup] | None = None) -> list[Pickup]:
    """Pickups as the book is read."""
    order = {c.id: k for k, c in enumerate(book.chapters)}
    rows = book.pickups if pickups is None else pickups
    return sorted(rows, key=lambda p: (order.get(p.chapter, len(order)), p.first_word))


def to_send(book: Book) -> list[Pickup]:
    """What goes out with the next round: lines that were never sent, and those that did not come back."""
    return [p for p in in_reading_order(book) if p.state is State.TO_SEND or (p.state is State.SENT and not p.takes)]


def is_overdue(book: Book, pickup: Pickup, today: date) -> bool:
    """Whether a line is out and should have come back."""
    if pickup.state is not State.SENT or pickup.takes:
        return False
    due = next((r.due for r in book.rounds if r.number == pickup.round), "")
    try:
        return bool(due) and date.fromisoformat(due) < today
    except ValueError:
        return False


def next_round(book: Book, *, sent: str = "", due: str = "", to: str = "", note: str = "") -> SendRound:
    """The next round, of all that is to be sent.

    Raises
    ------
    EditRefused
        There is nothing to send.
    """
    lines = to_send(book)
    if not lines:
        raise EditRefused("There is nothing to send: every line is out, in or done.")
    number = max((r.number for r in book.rounds), default=0) + 1
    return SendRound(Round(number, tuple(p.id for p in lines), sent, due, to, note))


@dataclass(frozen=True, slots=True)
class Counts:
    """How many lines are how far."""

    to_send: int = 0
    out: int = 0
    overdue: int = 0
    ready: int = 0
    done: int = 0
    passed: int = 0
    dropped: int = 0

    def in_words(self) -> str:
        """As a line of text, without what there is none of."""
        out = f"{self.out} out" + (f" ({self.overdue} overdue)" if self.overdue else "")
        rows = (
            (self.to_send, f"{self.to_send} to send"),
            (self.out, out),
            (self.ready, f"{self.ready} to put in"),
            (self.done, f"{self.done} put in"),
            (self.passed, f"{self.passed} passed"),
            (self.dropped, f"{self.dropped} dropped"),
        )
        return ", ".join(text for number, text in rows if number)


def counts(book: Book, pickups: Sequence[Pickup], today: date) -> Counts:
    """Count some lines."""
    states = [p.state for p in pickups]
    return Counts(
        states.count(State.TO_SEND),
        states.count(State.SENT),
        sum(is_overdue(book, p, today) for p in pickups),
        sum(s in READY for s in states),
        sum(s in DONE and s is not State.PASSED for s in states),
        states.count(State.PASSED),
        states.count(State.DROPPED),
    )


# --- joining and splitting ------------------------------------------------------------------------------------------


def near_lines(book: Book) -> list[tuple[Pickup, ...]]:
    """Lines that have not gone out and are so near one another that they are better read in one go."""
    waiting = [p for p in in_reading_order(book) if p.state is State.TO_SEND and not p.takes]
    groups: list[list[Pickup]] = []
    for p in waiting:
        last = groups[-1] if groups else []
        near = bool(last) and last[-1].chapter == p.chapter and p.first_word - last[-1].words.stop <= NEAR_WORDS
        if near and p.words.stop - last[0].first_word <= LONGEST_WORDS:
            last.append(p)
        else:
            groups.append([p])
    return [tuple(g) for g in groups if len(g) > 1]


def joined_line(text: Chapter, lines: Sequence[Pickup]) -> JoinLines:
    """Some lines of a chapter as one: from the beginning of the first one to the end of the last one.

    Raises
    ------
    EditRefused
        They are not of one chapter, or there are too few.
    """
    if len(lines) < 2 or len({p.chapter for p in lines}) > 1:
        raise EditRefused("Choose two lines or more of one chapter to join.")
    ordered = sorted(lines, key=lambda p: p.first_word)
    first, last = ordered[0].first_word, max(p.words.stop for p in ordered)
    words = text.words[first:last]
    heard = "; ".join(dict.fromkeys(filter(None, (p.heard for p in ordered))))
    wants = {p.want for p in ordered}
    line = replace(
        ordered[0],
        findings=tuple(dict.fromkeys(f for p in ordered for f in p.findings)),
        line=" ".join(w.text for w in words),
        heard=heard,
        first_word=first,
        word_count=last - first,
        start=min(p.start for p in ordered),
        stop=max(p.stop for p in ordered),
        note="; ".join(dict.fromkeys(filter(None, (p.note for p in ordered)))),
        want=wants.pop() if len(wants) == 1 else Want.WORDS,
    )
    return JoinLines(tuple(p.id for p in ordered), line)


def widened_line(text: Chapter, pickup: Pickup) -> WidenLine:
    """A line as the whole sentences that it stands in; where it is that already, with the sentence before it.

    Raises
    ------
    EditRefused
        There is no more to read.
    """
    sentences = text.sentences()
    own = [k for k, s in enumerate(sentences) if s.start < pickup.words.stop and s.stop > pickup.first_word]
    if not own:
        raise EditRefused("The words of this line are not in the manuscript any more.")
    first, stop = sentences[own[0]].start, sentences[own[-1]].stop
    if range(first, stop) == pickup.words:
        if not own[0]:
            raise EditRefused("This line begins with the chapter. Join it with the one after it instead.")
        first = sentences[own[0] - 1].start
    line = " ".join(w.text for w in text.words[first:stop])
    return WidenLine(pickup.id, replace(pickup, line=line, first_word=first, word_count=stop - first))


def heard_instead(chapter: ChapterState, pickup: Pickup) -> str:
    """What was heard in the place of a line's words, of all findings that ask for it."""
    own = [f.heard for f in chapter.findings if f.id in pickup.findings and f.heard]
    return "; ".join(dict.fromkeys(own)) or pickup.heard


def split_line(chapter: ChapterState, text: Chapter, pickup: Pickup) -> SplitLine:
    """A line of several sentences as one line a sentence; those in which nothing is to be mended are left out.

    Raises
    ------
    EditRefused
        It is one sentence.
    """
    sentences = [s for s in text.sentences() if s.start < pickup.words.stop and s.stop > pickup.first_word]
    own = [f for f in chapter.findings if f.id in pickup.findings]
    lines = []
    for sentence in sentences:
        mine = [f for f in own if sentence.start <= f.word_index < sentence.stop]
        if own and not mine:
            continue
        lines.append(
            replace(
                pickup,
                id=f"{pickup.id}-{sentence.start}",
                findings=tuple(f.id for f in mine),
                line=" ".join(text.words[k].text for k in sentence),
                heard=" ".join(f.heard for f in mine) if mine else pickup.heard,
                first_word=sentence.start,
                word_count=len(sentence),
                start=min((f.start for f in mine), default=pickup.start),
                stop=max((f.stop for f in mine), default=pickup.stop),
            )
        )
    if len(lines) < 2:
        raise EditRefused("This line is one sentence: there is nothing to split.")
    return SplitLine(pickup.id, tuple(lines))


def asked_by_hand(book: Book, chapter: ChapterState, text: Chapter, tokens: Tokens, words: range, note: str) -> AddPickups:
    """Some words with what they need around them, see `line_around`, as a line that no finding asks for."""
    asked = line_around(text, words.start, words.stop)
    first, stop = asked.start, asked.stop
    span = span_of(tokens, first, stop - 1)
    taken = {p.id for p in book.pickups}
    name = next(n for k in itertools.count(1) if (n := f"{chapter.id}-{first}-asked-{k}") not in taken)
    line = Pickup(
        id=name,
        chapter=chapter.id,
        findings=(),
        line=" ".join(w.text for w in text.words[first:stop]),
        heard="",
        first_word=first,
        word_count=stop - first,
        start=span.start if span else 0,
        stop=span.stop if span else 0,
        note=note,
    )
    return AddPickups((line,))


# --- what stands on a sheet -----------------------------------------------------------------------------------------


def words_to_mind(chapter: ChapterState, pickup: Pickup) -> frozenset[int]:
    """The tokens of a line, counted in it, that its findings are on."""
    own = [f for f in chapter.findings if f.id in pickup.findings]
    marked = {k - pickup.first_word for f in own for k in _on(f)}
    return frozenset(k for k in marked if 0 <= k < pickup.word_count)


def _on(f: Finding) -> range:
    return range(f.word_index, f.word_index + max(1, f.word_count))


def sentence_before(text: Chapter, pickup: Pickup) -> str:
    """What stands before a line, for the tone of voice: its own sentence up to it, else the one before; empty at the start."""
    first = pickup.first_word
    before = [range(s.start, min(s.stop, first)) for s in text.sentences() if s.start < first]
    return " ".join(text.words[k].text for k in before[-1]) if before else ""


def page_of(text: Chapter, pickup: Pickup) -> int:
    """The page of the manuscript that a line begins on; 0 where it has no pages."""
    return text.words[pickup.first_word].page if pickup.first_word < len(text.words) else 0


def time_of(hearing: Hearing | None, pickup: Pickup) -> int:
    """Where in the chapter's recording a line is, in samples."""
    placed = hearing.placed[pickup.first_word] if hearing and pickup.first_word < len(hearing.placed) else None
    return placed.start if placed is not None else pickup.start
