"""Decisions as commands: what deciding one finding, or several, does to the book; findings by hand."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from faithful_reel.core.book.commands import EDITION, BookCommand, Decide, DecideSeveral, EditReel
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.findings import BY_HAND, Decision, Evidence, Finding, Kind
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.pickups.ledger import DONE, State
from faithful_reel.core.reel.commands import ReelCommand
from faithful_reel.core.reel.exchanges import Sound
from faithful_reel.core.reel.reel import Piece
from faithful_reel.core.text.spoken import plain
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Span
from faithful_reel.core.work.editing import PAUSE_S
from faithful_reel.core.work.mending import by_hand, finding_span, mending_edit, pickup_for, restoring_edits
from faithful_reel.core.work.roughcut import Looks, mending_edits
from faithful_reel.core.work.timeline import Hearing, Tokens, lane_with, span_of, tokens_of


@dataclass(frozen=True, slots=True)
class Decided:
    """A decision that can be carried out: the command, whether it brings sound back, and why some of it does not.

    `marked` tells of findings that are to be mended without any change of the sound, why.
    """

    command: BookCommand
    restores: bool = False
    refused: tuple[str, ...] = ()
    marked: tuple[str, ...] = ()


def likeness(finding: Finding, text: Chapter, headings: frozenset[int]) -> tuple[str, ...]:
    """What findings have in common that are settled together: their kind, and what is written and heard, or which flaw it is.

    Of a heading that is not read, whatever its words are, that it is one; `headings` are the paragraphs that are headings.
    """
    words = text.words[finding.word_index : finding.word_index + finding.word_count]
    if finding.kind is Kind.SKIPPED and words and all(w.paragraph in headings for w in words):
        return finding.kind.value, "a heading"
    if finding.evidence.flaw:
        return finding.kind.value, finding.evidence.flaw
    return finding.kind.value, plain(finding.written), plain(finding.heard)


def deciding(
    book: Book,
    chapter: ChapterState,
    text: Chapter,
    hearing: Hearing | None,
    findings: Sequence[Finding],
    decision: Decision,
    note: str = "",
    looks: Looks | None = None,
) -> Decided:
    """What decides findings of one chapter, in one step.

    A mend is carried out on the reel where the sound that is there allows it, else it is only marked.  Taking a mend
    back, by whatever other decision, brings its sound back where it can be.  A pickup asks for the clause with what it needs
    around it.
    `looks` as in `rough_cut`.
    """
    if decision is Decision.MEND:
        if len(findings) == 1 and findings[0].decision is not Decision.MEND:
            command = _mending(book, chapter, text, hearing, findings[0], note, looks)
            return Decided(command, marked=(by_hand(findings[0]),) if isinstance(command, Decide) else ())
        texts = [w.text for w in text.words]
        fresh = [f for f in findings if f.decision is not Decision.MEND]
        edits, mended = mending_edits(book, chapter, texts, hearing, fresh, looks)
        ids = tuple(f.id for f in findings)
        command = DecideSeveral(chapter.id, (Decide(chapter.id, ids, decision, note, edition=EDITION),), edits)
        return Decided(command, marked=tuple(by_hand(f) for f in fresh if f.id not in mended))
    edits, refused = _restoring(book, chapter, findings)
    if decision is Decision.PICKUP:
        pauses = pauses_of(hearing, book.rate)
        lines = {f.id: pickup_for(chapter, text, f, pauses) for f in findings}
        rows = tuple(Decide(chapter.id, (f.id,), decision, note, lines[f.id], EDITION) for f in findings)
    else:
        rows = (Decide(chapter.id, tuple(f.id for f in findings), decision, note, None, EDITION),)
    single = len(findings) == 1 and not edits
    return Decided(rows[0] if single else DecideSeveral(chapter.id, rows, edits), bool(edits), refused)


def pauses_of(hearing: Hearing | None, rate: int) -> frozenset[int]:
    """The words before which the reader pauses."""
    if hearing is None:
        return frozenset()
    starts, stops = hearing.words
    gaps = (starts[1:] - stops[:-1] >= PAUSE_S * rate) & (starts[1:] >= 0) & (stops[:-1] >= 0)
    return frozenset((np.flatnonzero(gaps) + 1).tolist())


def _mending(
    book: Book,
    chapter: ChapterState,
    text: Chapter,
    hearing: Hearing | None,
    finding: Finding,
    note: str,
    looks: Looks | None,
) -> BookCommand:
    columns = looks(chapter.reel) if looks and chapter.reel else None
    tokens = tokens_of(book, chapter, [w.text for w in text.words], hearing)
    edit = mending_edit(book, chapter, tokens, finding, columns)
    if edit is not None:
        return EditReel(chapter.id, edit, (finding.id,), EDITION)
    return Decide(chapter.id, (finding.id,), Decision.MEND, note, edition=EDITION)


def _restoring(book: Book, chapter: ChapterState, findings: Sequence[Finding]) -> tuple[tuple[ReelCommand, ...], tuple[str, ...]]:
    """The edits that take back what mending these findings did, and why some of them can not be taken back."""
    edits: list[ReelCommand] = []
    refused: list[str] = []
    state = chapter
    for finding in findings:
        if finding.decision is not Decision.MEND:
            continue
        try:
            made = restoring_edits(book, state, finding)
            reel = state.reel
            for edit in made:
                reel = edit.apply(reel) if reel is not None else None
        except EditRefused as problem:
            refused.append(str(problem))
            continue
        edits += made
        opened = tuple(replace(f, decision=Decision.OPEN) if f.id == finding.id else f for f in state.findings)
        state = replace(state, reel=reel, findings=opened)
    return tuple(edits), tuple(refused)


def fate(book: Book, chapter: ChapterState, finding: Finding) -> str:
    """What became of a finding's sound, in words; empty where it is heard as it was."""
    pickup = next((p for p in book.pickups if p.chapter == chapter.id and finding.id in p.findings), None)
    if pickup is not None and pickup.state in DONE:
        return "Read again: the take is in" + (", and passed." if pickup.state is State.PASSED else ".")
    if finding.stop > finding.start and chapter.reel is not None and finding_span(chapter, finding) is None:
        return "Gone: its sound was cut or replaced."
    return ""


def following_open(rows: Sequence[tuple[str, Finding]], at: int) -> tuple[str, Finding] | None:
    """The next open finding of (chapter, finding) rows behind row `at`; None where there is none."""
    return next((row for row in rows[at + 1 :] if row[1].decision is Decision.OPEN), None)


def noted_on_words(
    chapter: ChapterState, text: Chapter, tokens: Tokens, kind: Kind, first_word: int, last_word: int, note: str
) -> Finding:
    """A finding by hand on written words `first_word` to `last_word`."""
    lane = next((t.lane for t in tokens.heard() if t.word == first_word), None)
    written = range(first_word, last_word + 1)
    return noted_at(chapter, text, kind, written, span_of(tokens, first_word, last_word), note, lane)


def noted_on_sound(
    chapter: ChapterState, text: Chapter, tokens: Tokens, kind: Kind, span: Span, note: str, lane: int | None = None
) -> Finding:
    """A finding by hand on a stretch of the reel, of a lane where that is known: told at the word that is heard there or next."""
    after = next((t.word for t in tokens.heard() if t.word >= 0 and t.stop > span.start), 0)
    return noted_at(chapter, text, kind, range(after, after), span, note, lane)


def _sound_under(chapter: ChapterState, span: Span | None, lane: int | None) -> tuple[str, int, int]:
    """The stretch of a recording that is heard in a span; where room tone lies there, the place in the sound beside it."""
    reel = chapter.reel
    if span is None or reel is None:
        return chapter.recording, 0, 0
    own = lane_with(reel, chapter.recording) if lane is None else lane
    order = [own, *(k for k, row in enumerate(reel.lanes) if k != own and not row.music and lane is None)]
    nearest: list[tuple[int, tuple[str, int, int]]] = []
    for row in (reel.lanes[k] for k in order):
        found: list[Sound] = []
        for piece, at in zip(row.segments, row.starts(), strict=False):
            if not isinstance(piece, Piece):
                continue
            first, last = max(span.start, at), min(span.stop, at + len(piece))
            if first < last:
                found.append((piece.recording, piece.start + first - at, piece.start + last - at))
                continue
            before = at + len(piece) <= span.start
            edge = piece.stop if before else piece.start
            nearest.append((span.start - at - len(piece) if before else at - span.start, (piece.recording, edge, edge)))
        if found:
            recording, start, stop = found[0]
            return recording, start, max([stop, *(b for r, a, b in found[1:] if r == recording and a >= stop)])
    return min(nearest, default=(0, (chapter.recording, 0, 0)))[1]


def noted_at(
    chapter: ChapterState, text: Chapter, kind: Kind, written: range, span: Span | None, note: str, lane: int | None = None
) -> Finding:
    """A finding by hand on written words, whose sound is in a span of the reel, of a lane where that is known."""
    recording, start, stop = _sound_under(chapter, span, lane)
    taken = {f.id for f in chapter.findings}
    return Finding(
        id=next(name for n in itertools.count(1) if (name := f"{BY_HAND}{n:04d}") not in taken),
        kind=kind,
        written=" ".join(text.words[i].text for i in written),
        heard="",
        word_index=written.start,
        word_count=len(written),
        start=start,
        stop=stop,
        recording="" if recording == chapter.recording else recording,
        confidence=1.0,
        evidence=Evidence(note="noted by hand"),
        note=note,
    )


def open_count(chapters: Sequence[ChapterState], folded: Callable[[Finding], bool] | None = None) -> int:
    """How many findings of chapters are open, leaving out those that are folded away."""
    return sum(f.decision is Decision.OPEN and not (folded and folded(f)) for chapter in chapters for f in chapter.findings)
