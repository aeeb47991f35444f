"""What stands on a chapter's page beside its words: styles, page numbers, marks of findings, other readings."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from operator import attrgetter

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.book.pickups import placed_span
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.pickups.ledger import DONE, shown
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Span
from faithful_reel.core.work.readings import Retake
from faithful_reel.core.work.timeline import finding_spans

LONGEST_HEADING = 8
HEADINGS_AMONG = 2
"""A heading is one of the first two paragraphs, short, and does not end as a sentence does (own rule)."""


@dataclass(frozen=True, slots=True)
class Mark:
    """A finding as it is drawn: over `count` written words from `first`, or at samples `start` to `stop` where it has none.

    Without a kind it is a take that was read again and is in.
    """

    id: str
    kind: Kind | None
    first: int
    count: int
    start: int
    stop: int
    note: str
    decision: Decision
    doubtful: bool = False


@dataclass(frozen=True, slots=True)
class Other:
    """Another reading of `count` written words from `first`, in samples of the recording; drawn under their line."""

    id: str
    first: int
    count: int
    start: int
    stop: int


@dataclass(frozen=True, slots=True, eq=False)
class Styles:
    """How the words of a chapter are set.

    `paragraphs`, `headings` and `italics` are (n + 1,) integer arrays: one entry a written word, and a last one for
    heard-only words, whose number is -1.  `pages` are (word, page) where a page of the manuscript begins, `lines` the words
    that begin a line within their paragraph.
    """

    paragraphs: NDArray[np.int64]
    headings: NDArray[np.int64]
    italics: NDArray[np.int64]
    pages: tuple[tuple[int, int], ...]
    lines: frozenset[int]


def styles_of(text: Chapter) -> Styles:
    """The styles of a chapter's words."""
    headings = headings_of(text)
    rows = [*((w.paragraph, w.paragraph in headings, w.italic) for w in text.words), (0, False, False)]
    paragraphs, heads, italics = np.array(rows, np.int64).T
    pages = [w.page for w in text.words]
    begins = tuple((i, p) for i, p in enumerate(pages) if p and (not i or p != pages[i - 1]))
    return Styles(paragraphs, heads, italics, begins, frozenset(i for i, w in enumerate(text.words) if w.line))


def headings_of(text: Chapter) -> frozenset[int]:
    """The paragraphs of a chapter that are headings."""
    return frozenset(_headings(text))


def _headings(text: Chapter) -> Iterator[int]:
    for number, paragraph in enumerate(text.paragraphs()[:HEADINGS_AMONG]):
        if len(paragraph) <= LONGEST_HEADING and not text.words[paragraph.stop - 1].text.endswith((".", "!", "?", "”")):
            yield number


def marks_of(
    book: Book,
    chapter: ChapterState,
    findings: Sequence[Finding],
    folded: Callable[[Finding], bool],
    spans: Sequence[Span | None] | None = None,
) -> tuple[Mark, ...]:
    """The marks of a chapter: takes that are in, and findings whose sound is still there; `spans` as in `finding_spans`."""
    mine = [p for p in book.pickups if p.chapter == chapter.id and p.state in DONE]
    again = {f for p in mine for f in p.findings}
    marks = []
    for p in mine:
        found = placed_span(chapter.reel, p.id) if chapter.reel else None
        if found is not None:
            at = found[1]
            note = shown(p.state)
            marks.append(Mark(p.id, None, p.first_word, p.word_count, at.start, at.stop, note, Decision.PICKUP))
    for f, span in zip(findings, finding_spans(chapter, findings) if spans is None else spans, strict=True):
        gone = span is None and f.stop > f.start and bool(chapter.reel)
        if gone or f.id in again:
            continue
        start, stop = (span.start, span.stop) if span else (-1, -1)
        marks.append(Mark(f.id, f.kind, f.word_index, f.word_count, start, stop, margin_note(f), f.decision, folded(f)))
    return tuple(marks)


def margin_note(f: Finding) -> str:
    """What stands in the margin beside a finding."""
    match f.kind:
        case Kind.MISREAD | Kind.ADDED:
            return f.heard
        case Kind.SKIPPED:
            return "not read"
        case Kind.REPEATED:
            return "read twice"
        case Kind.FALSE_START:
            return "false start"
        case Kind.PAUSE | Kind.NOISE | Kind.LEVEL:
            return f.evidence.flaw or f.kind.value
        case Kind.NAME:
            return "spoken unlike"
        case Kind.OTHER:
            return f.note or "note"


def others_of(takes: Sequence[Retake]) -> tuple[Other, ...]:
    """Other readings of lines, in order of their first word."""
    found = [Other(t.finding, t.words.start, len(t.words), t.span.start, t.span.stop) for t in takes]
    return tuple(sorted(found, key=attrgetter("first")))


def strips_of(reel: Reel) -> list[int]:
    """The lanes whose sound stands under the lines: those that are not hidden; the first where all are."""
    return [k for k, lane in enumerate(reel.lanes) if not lane.hidden] or [0]
