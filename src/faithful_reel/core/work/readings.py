"""The readings of a line: what a raw recording holds of it, which reading is kept, and the swap of one for another."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from faithful_reel.core.book.commands import SwapTake
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.findings import AGAIN, SURE, Finding, Kind, near
from faithful_reel.core.collate.links import Link, collated
from faithful_reel.core.collate.proofing import placed_words
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.hear.pronounce import is_word
from faithful_reel.core.reel.commands import CutAndClose, ReelCommand, ReplaceByTake
from faithful_reel.core.reel.timing import LINKED
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Span
from faithful_reel.core.work.mending import LEAD_S, tone_of
from faithful_reel.core.work.timeline import Hearing, finding_spans, lane_with, span_of, tokens_of

LIKE_DB, LIKE_PACE = 4.0, 1.35
"""Within these a reading is like another in level and pace (own rule)."""
FEWEST_WORDS = 2
"""A single word said twice is a slip, not another reading of the line."""


@dataclass(frozen=True)
class Retake:
    """One more reading of a part of a line.

    `finding` tells of it; `words` are the places of the tokens `written` that it reads, `span` is where it is in the
    recording, `complete` whether it reaches from the sentence's first word to its last, `flaws` how many noises and
    clipped words fall in it, `level_db` and `pace` how much louder and how many times as fast it is as the reading that
    is kept, where that is known.
    """

    finding: str
    words: range
    written: tuple[str, ...]
    span: Span
    heard: str
    complete: bool
    flaws: int
    level_db: float = 0.0
    pace: float = 1.0
    judged: int | None = None
    """How many of its words depart by all ears, where they were asked."""

    @cached_property
    def departures(self) -> int:
        """How many of its words are not as written; where only its words are known they are collated when it is asked for."""
        if self.judged is not None:
            return self.judged
        said = self.heard.split()
        return sum(not _right(k, self.written, said) for k in collated(self.written, said))

    @property
    def good(self) -> bool:
        """Complete, as written, clean, and like its neighbours in level and pace."""
        alike = abs(self.level_db) <= LIKE_DB and 1 / LIKE_PACE <= self.pace <= LIKE_PACE
        return self.complete and not self.departures and not self.flaws and alike

    @property
    def verdict(self) -> str:
        """The judgement in words."""
        faults = [] if self.complete else ["broken off"]
        if self.departures:
            faults.append(f"{self.departures} {'word departs' if self.departures == 1 else 'words depart'}")
        if self.flaws:
            faults.append(f"{self.flaws} {'noise' if self.flaws == 1 else 'noises'}")
        if abs(self.level_db) > LIKE_DB:
            faults.append(f"{abs(self.level_db):.0f} dB {'louder' if self.level_db > 0 else 'softer'}")
        if not 1 / LIKE_PACE <= self.pace <= LIKE_PACE:
            faults.append("faster" if self.pace > 1 else "slower")
        return ", ".join(faults) or "complete and as written"


def retakes_of(text: Chapter, findings: Sequence[Finding]) -> tuple[Retake, ...]:
    """Every other reading that was heard, in the order of the recording."""
    takes = []
    sentence_of: dict[int, range] = {}
    for f in findings:
        if f.kind not in AGAIN or f.word_count < FEWEST_WORDS or f.confidence < SURE or f.recording:
            continue
        words = range(f.word_index, f.word_index + f.word_count)
        sentence_of = sentence_of or {i: s for s in text.sentences() for i in s}
        sentence = sentence_of[words.start]
        written = tuple(text.words[i].text for i in words)
        flaws = sum(g.kind in (Kind.NOISE, Kind.LEVEL) and g.start < f.stop and g.stop > f.start for g in findings)
        complete = words.start <= sentence.start and words.stop >= sentence.stop
        level, pace = f.evidence.level_db or 0.0, f.evidence.pace or 1.0
        span, departs = Span(f.start, f.stop), f.evidence.departs
        takes.append(Retake(f.id, words, written, span, f.heard, complete, flaws, level, pace, departs))
    return tuple(takes)


def _right(link: Link, written: Sequence[str], said: Sequence[str]) -> bool:
    """Whether a link is a right reading, or a name that the ear only spells as it can."""
    pairs = zip(link.written, link.heard, strict=False)
    named = len(link.written) == len(link.heard) and all(not is_word(written[i]) and near(written[i], said[j]) for i, j in pairs)
    return link.same or named


def better_retake(text: Chapter, findings: Sequence[Finding], take_id: str) -> bool:
    """Whether another reading of a line should be kept in the place of the last one.

    Of complete readings the last is normally meant (common practice); an earlier one is better only where the last
    departs from the text or has a noise in it, and the earlier one is complete, as written and clean.
    """
    take = next((t for t in retakes_of(text, findings) if t.finding == take_id), None)
    if take is None or not take.good:
        return False
    kept = [f for f in findings if f.confidence >= SURE and f.id != take_id and _spoils(f, take.words)]
    return bool(kept)


def _spoils(finding: Finding, words: range) -> bool:
    if finding.kind in (Kind.MISREAD, Kind.SKIPPED, Kind.ADDED):
        return finding.word_index < words.stop and finding.word_index + max(1, finding.word_count) > words.start
    return False


def swapped(book: Book, chapter: ChapterState, text: Chapter, hearing: Hearing | None, take_id: str) -> tuple[SwapTake, Hearing]:
    """The command that puts another reading in the place of the one that is kept, and what was heard, linked anew.

    The reading that was kept becomes the other one, so that swapping again brings it back.  The command's hearing is
    empty: whoever stores the new one fills it in.

    Raises
    ------
    EditRefused
        There is no such reading, or the words it reads are not in the reel.
    """
    take = next((t for t in retakes_of(text, chapter.findings) if t.finding == take_id), None)
    if take is None or hearing is None or chapter.reel is None:
        raise EditRefused("This finding is no other reading of a line. Choose a repeat or a false start.")
    texts = [w.text for w in text.words]
    here = span_of(tokens_of(book, chapter, texts, hearing), take.words.start, take.words.stop - 1)
    said = [j for j, h in enumerate(hearing.heard) if take.span.start <= h.start < take.span.stop]
    linked = [k for k in hearing.link_rows() if k.written and k.heard and _within(k.written, take.words)]
    if here is None or not said or not linked:
        raise EditRefused("The words of this reading are not in the reel any more. Take the cut back first.")
    lead = round(LEAD_S * book.rate / 2)
    old = Span(hearing.heard[linked[0].heard.start].start, hearing.heard[linked[-1].heard.stop - 1].stop)
    own = finding_spans(chapter, [f for f in chapter.findings if f.id == take_id])[0]
    row = chapter.reel.lanes[lane_with(chapter.reel, chapter.recording)]
    replace_old = ReplaceByTake(
        max(0, here.start - lead),
        min(len(chapter.reel), here.stop + lead),
        chapter.recording,
        max(0, take.span.start - lead),
        take.span.stop + lead,
        0.0,
        tone_of(book, chapter),
        lane=row.id,
    )
    edits: list[ReelCommand] = [replace_old]
    if own is not None and not own.overlap(here):  # still in the reel: it would be heard twice
        stop = max(own.stop, min(here.start, own.stop + book.rate)) if own.stop < here.start else own.stop
        cut = CutAndClose(own.start, stop, lane=LINKED if row.linked else row.id)
        edits = [replace_old, cut] if own.start < here.start else [cut, replace_old]
    anew = _linked_anew(text, hearing, take, said, linked)
    finding = next(f for f in chapter.findings if f.id == take_id)
    other = replace(
        finding,
        start=old.start,
        stop=old.stop,
        heard=" ".join(h.text for h in hearing.heard if old.start <= h.start < old.stop),
        kind=Kind.REPEATED,
        evidence=replace(
            finding.evidence,
            departs=None,
            level_db=None if finding.evidence.level_db is None else -finding.evidence.level_db,
            pace=None if not finding.evidence.pace else round(1 / finding.evidence.pace, 2),
        ),
    )
    return SwapTake(chapter.id, tuple(edits), "", other), anew


def _within(inner: range, outer: range) -> bool:
    return outer.start <= inner.start and inner.stop <= outer.stop


def _linked_anew(text: Chapter, hearing: Hearing, take: Retake, said: Sequence[int], linked: Sequence[Link]) -> Hearing:
    """The hearing with the written words of the take linked to the words of that reading."""
    gone = {(k.written.start, k.heard.start) for k in linked}
    rows = [k for k in hearing.link_rows() if (k.written.start, k.heard.start) not in gone and not _overlaps(k.heard, said)]
    local = collated([text.words[i].text for i in take.words], [hearing.heard[j].text for j in said])
    at, first = take.words.start, said[0]
    rows += [
        Link(range(k.written.start + at, k.written.stop + at), range(k.heard.start + first, k.heard.stop + first), k.same)
        for k in local
        if k.written
    ]
    rows.sort(key=lambda k: (k.written.start, k.written.stop))
    placed = placed_words(text, hearing.heard, rows)
    return Hearing(
        hearing.heard,
        placed,
        tuple((k.written.start, k.written.stop, k.heard.start, k.heard.stop, k.same) for k in rows),
        hearing.voices,
    )


def _overlaps(heard: range, said: Sequence[int]) -> bool:
    return bool(heard) and heard.start <= said[-1] and heard.stop > said[0]
