"""What a decision does: the edit that mends a finding, and the line that a pickup asks for."""

from __future__ import annotations

from collections.abc import Sequence

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.book.timeline import Token, finding_spans
from faithful_reel.core.collate.findings import Finding, Kind
from faithful_reel.core.pickups.ledger import Pickup
from faithful_reel.core.reel.commands import CutAndClose, CutAndFill, ReelCommand, ToneSource
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Span

KEEP_PAUSE_S = 0.45
LEAD_S = 0.06


def finding_span(chapter: ChapterState, finding: Finding) -> Span | None:
    """Where a finding is heard in the reel as it stands; None where that was cut."""
    return finding_spans(chapter, (finding,))[0]


def tone_of(book: Book, chapter: ChapterState) -> ToneSource:
    """The room tone that fills a chapter's gaps: its own recording's, else a soft made one."""
    if chapter.recording:
        tone = book.recording(chapter.recording).tone
        if tone is not None:
            return tone
    return ToneSource("", 0, 0)


def mending_edit(book: Book, chapter: ChapterState, tokens: Sequence[Token], finding: Finding) -> ReelCommand | None:
    """The edit that mends a finding from the sound that is there; None where only the hand or a pickup can.

    Extra words are cut with the pause that follows them, so that the pause before stays; a long pause is cut down to
    twice `KEEP_PAUSE_S`; a noise in a pause is laid over with room tone.
    """
    span = finding_span(chapter, finding)
    if span is None:
        return None
    if finding.kind in (Kind.ADDED, Kind.REPEATED, Kind.FALSE_START):
        before = max((t.stop for t in tokens if 0 <= t.start < span.start and t.stop <= span.start + book.rate // 50), default=0)
        after = min((t.start for t in tokens if t.start >= span.stop - book.rate // 50), default=-1)
        if after < 0:
            return None
        lead = max(0, min(round(LEAD_S * book.rate), (span.start - before) // 2, (after - span.stop) // 2))
        return CutAndClose(span.start - lead, after - lead) if after > span.start else None
    if finding.kind is Kind.PAUSE:
        keep = round(KEEP_PAUSE_S * book.rate)
        return CutAndClose(span.start + keep, span.stop - keep) if len(span) > 2 * keep else None
    if finding.kind is Kind.NOISE:
        room = round(0.02 * book.rate)
        return CutAndFill(max(0, span.start - room), span.stop + room, tone_of(book, chapter))
    return None


def pickup_for(chapter: ChapterState, text: Chapter, finding: Finding) -> Pickup:
    """The whole sentence that a finding stands in, as a line for the narrator to read again."""
    last = finding.word_index + max(1, finding.word_count) - 1
    sentences = [s for s in text.sentences() if s.start <= last and s.stop > finding.word_index] or [
        range(finding.word_index, last + 1)
    ]
    first, stop = sentences[0].start, sentences[-1].stop
    return Pickup(
        id=f"{chapter.id}-{first}-{finding.id}",
        chapter=chapter.id,
        findings=(finding.id,),
        line=" ".join(w.text for w in text.words[first:stop]),
        heard=finding.heard,
        first_word=first,
        word_count=stop - first,
        start=finding.start,
        stop=finding.stop,
    )
