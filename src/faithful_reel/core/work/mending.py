"""What a decision does: the edit that mends a finding, and the line that a pickup asks for."""

from __future__ import annotations

from collections.abc import Callable, Container, Sequence

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.collate.flaws import Flaw
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.pickups.ledger import Pickup
from faithful_reel.core.pickups.lines import line_around
from faithful_reel.core.reel.commands import ChangeGain, CutAndClose, CutAndFill, PutBackSound, ReelCommand, ToneSource
from faithful_reel.core.reel.reel import LaneRef, Piece, most_of
from faithful_reel.core.reel.timing import LINKED
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Span, ratio
from faithful_reel.core.work.timeline import Token, finding_spans, lane_with

Columns = Callable[[NDArray[np.float64]], NDArray[np.float32]]
KEEP_PAUSE_S = 0.45
LEAD_S = 0.06
ONSET_S, REACH_S = 0.01, 0.15
"""Left before an onset, so that the consonant is whole (common practice); how far before it a quiet moment is looked for."""
LOOK_S = 2.0
"""How far before an onset it is looked where a breath begins."""
BREATH, SILENCE = 2.0, 0.001
"""How much higher the wave stands where somebody breathes than where a pause is quietest (6 dB); and what is quiet anyway."""
LEAST_PAUSE_S = 0.1
"""Left on either side of a pause that is shortened (common practice)."""
_LEVELLED = frozenset({Flaw.BREATH.value, Flaw.JUMP.value})
_IN_WORDS = frozenset({Flaw.PLOSIVE.value, Flaw.HUM.value})
"""Noises that are under words: room tone would take the words away."""


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


def lane_tone(book: Book, chapter: ChapterState, lane: int) -> ToneSource | None:
    """The room tone that fills a lane: its own, the chapter's, or that of the recording it is mostly made of; music has none."""
    assert chapter.reel is not None
    row = chapter.reel.lanes[lane]
    if row.tone is not None or row.music:
        return row.tone
    if lane == lane_with(chapter.reel, chapter.recording):
        return tone_of(book, chapter)
    most = most_of(row)
    return next((r.tone for r in book.recordings if r.hash == most), None)


TONE_CREST = 3.0
"""How far room tone's samples reach over its level (own rule): where the loupe draws it."""


def tone_level(book: Book, chapter: ChapterState) -> float | None:
    """The amplitude that a chapter's room tone stays under, full scale 1.0; None where nothing is recorded."""
    if not chapter.recording:
        return None
    return TONE_CREST * ratio(book.recording(chapter.recording).noise_floor_db)


def before_onset(columns: Columns, stop: int, start: int, rate: int) -> int:
    """Where to cut in the pause between a word that stops and the next that starts: the quietest 15 ms shortly before the onset.

    `columns` gives for (m + 1,) positions the minima and maxima between them, (2, m).  Where it is quiet nowhere shortly
    before the onset, the next word's breath is there: then shortly before that.
    """
    edge, step = round(ONSET_S * rate), max(1, round(0.005 * rate))
    first, last = max(stop + edge, start - round(LOOK_S * rate)), start - edge
    if last - first < 4 * step:
        return (first + last) // 2
    peaks = np.abs(columns(np.arange(first, last, step, dtype=np.float64))).max(axis=0)
    heights = np.convolve(peaks, np.ones(3) / 3, "valid")
    at = first + np.round((np.arange(len(heights)) + 1.5) * step).astype(np.int64)
    calm = at[heights <= BREATH * max(SILENCE, heights.min())]
    onset = start if calm[-1] >= start - round(REACH_S * rate) else int(calm[-1])
    near = (at >= min(onset - round(REACH_S * rate), at[-1])) & (at <= onset)
    return int(at[near & (heights <= heights[near].min())][-1])


def mending_edit(
    book: Book, chapter: ChapterState, tokens: Sequence[Token], finding: Finding, columns: Columns | None = None
) -> ReelCommand | None:
    """The edit that mends a finding from the sound that is there; None where only the hand or a pickup can.

    Extra words are cut with the pause that follows them, so that the pause before stays; a long pause is cut down to
    what is usual with this reader, where that is known, else to twice `KEEP_PAUSE_S`; a noise in a pause, but none in a
    word, is laid over with room tone; a breath or a sentence that sticks out is brought to the usual level.  Where it is
    known what the reel looks like (`columns` as in `before_onset`: of (m + 1,) positions), both ends of a cut go to the
    quietest moment nearby, so that no breath is cut in two.
    """
    span = finding_span(chapter, finding)
    if span is None or chapter.reel is None or not len(span):  # of what has no length in a recording nothing can be taken
        return None
    lane = lane_with(chapter.reel, finding.recording or chapter.recording)
    row = chapter.reel.lanes[lane]
    where: LaneRef = LINKED if row.linked else row.id
    if finding.kind in (Kind.ADDED, Kind.REPEATED, Kind.FALSE_START):
        before = max((t.stop for t in tokens if 0 <= t.start < span.start and t.stop <= span.start + book.rate // 50), default=0)
        after = min((t.start for t in tokens if t.start >= span.stop - book.rate // 50), default=-1)
        if after < 0:
            return None
        if after <= span.start:
            return None
        lead = max(0, min(round(LEAD_S * book.rate), (span.start - before) // 2, (after - span.stop) // 2))
        start, stop = span.start - lead, after - lead
        if columns is not None and lead:
            start = before_onset(columns, before, span.start, book.rate)
            joins = [at for at in row.starts() if span.stop <= at < after]
            stop = joins[-1] if joins else before_onset(columns, span.stop, after, book.rate)  # two cuts that meet leave one join
        others = [t for t in tokens if t.lane != lane and t.start < stop and t.stop > start and t.start >= 0]
        if others and row.linked:  # closing up would take another voice's words away
            return CutAndFill(start, min(stop, span.stop + lead), lane_tone(book, chapter, lane), row.id)
        return CutAndClose(start, stop, lane=where)
    if finding.kind is Kind.PAUSE:
        usual = finding.evidence.usual
        keep = round((KEEP_PAUSE_S if usual is None else max(LEAST_PAUSE_S, usual / 2)) * book.rate)
        return CutAndClose(span.start + keep, span.stop - keep, lane=where) if len(span) > 2 * keep else None
    if finding.evidence.flaw in _LEVELLED and finding.evidence.usual is not None:
        return ChangeGain(span.start, span.stop, finding.evidence.usual, row.id)
    if finding.kind is Kind.NOISE and finding.evidence.flaw not in _IN_WORDS:
        room = round(0.02 * book.rate)
        least = room // 4
        if any(t.start >= 0 and t.lane == lane and min(t.stop, span.stop) - max(t.start, span.start) > least for t in tokens):
            return None  # room tone would take a part of the word away
        return CutAndFill(max(0, span.start - room), span.stop + room, lane_tone(book, chapter, lane), row.id)
    return None


def by_hand(finding: Finding) -> str:
    """Why nothing of the sound changes where a finding is marked to be mended and there is no edit for it, in a sentence."""
    what = finding.evidence.flaw
    if what == Flaw.HUM.value:
        return "A hum lies under all the words: cutting can not take it out. It is to be cleaned before the chapter is mastered."
    if finding.kind is Kind.NOISE:
        return f"The {what or 'noise'} lies in a word: room tone would take the word away. Have it read again, or let it stand."
    if finding.kind in (Kind.MISREAD, Kind.SKIPPED, Kind.NAME):
        return "What is written was not read: only words from elsewhere, or a pickup, can mend it."
    return "Mend it by hand: cut, fill, or change its level."


def restoring_edits(book: Book, chapter: ChapterState, finding: Finding) -> tuple[ReelCommand, ...]:
    """The edits that bring back the sound that mending a finding took out, laid over or changed in level.

    Empty where nothing of it is missing.  What other findings that are still mended took beside it stays out.

    Raises
    ------
    EditRefused
        Other edits lie where it was.
    """
    if chapter.reel is None:
        return ()
    recording = finding.recording or chapter.recording
    lane = lane_with(chapter.reel, recording)
    if finding.evidence.flaw in _LEVELLED:
        span = finding_span(chapter, finding)
        by_db = finding.evidence.usual or 0.0
        return (ChangeGain(span.start, span.stop, -by_db, lane),) if span and by_db else ()
    others = [
        g for g in chapter.findings if g.id != finding.id and g.decision is Decision.MEND and g.recording == finding.recording
    ]
    edits: list[ReelCommand] = []
    found = 0
    for at, hole, filled, gain_db in _holes(book, chapter, recording, lane):
        if hole.stop <= finding.start or hole.start >= max(finding.stop, finding.start + 1):
            continue
        first = max((g.stop for g in others if hole.start < g.stop <= finding.start), default=hole.start)
        last = min((g.start for g in others if finding.stop <= g.start < hole.stop), default=hole.stop)
        if last <= first:  # all of it was taken by others
            continue
        if filled not in (0, len(hole)):
            raise EditRefused("Other sound lies where this was cut out. Go back before it in the History instead.")
        offset, over = (first - hole.start, last - first) if filled else (0, 0)
        tone = lane_tone(book, chapter, lane) or tone_of(book, chapter)
        edits.append(PutBackSound(at + offset, recording, first, last, gain_db, tone, over, lane=lane))
        found += 1
    if not found and finding.stop > finding.start and finding_span(chapter, finding) is None:
        raise EditRefused("Other sound lies where this was cut out. Go back before it in the History instead.")
    return tuple(reversed(edits))  # from the end, so that the places before stay where they are


def _holes(book: Book, chapter: ChapterState, recording: str, at_lane: int) -> list[tuple[int, Span, int, float]]:
    """Where a recording was cut on its lane: (place in the reel, what is missing, length of the tone that lies there, gain).

    What is missing before its first piece begins where the chapter before it ends that has the same recording.
    """
    assert chapter.reel is not None
    lane = chapter.reel.lanes[at_lane]
    found: list[tuple[int, Span, int, float]] = []
    before: tuple[int, int, float] | None = None  # (end in the recording, end in the reel, gain)
    filled = 0
    for segment, at in zip(lane.segments, lane.starts(), strict=False):
        if not isinstance(segment, Piece):
            filled += len(segment)
            continue
        if segment.recording == recording and not segment.take:
            if before is None and segment.start > 0 and not at:
                others = [row for c in book.chapters if c.reel is not None and c.id != chapter.id for row in c.reel.lanes]
                ends = (p.stop for o in others for p in o.segments if isinstance(p, Piece) and p.recording == recording)
                found.append(
                    (0, Span(max((e for e in ends if e <= segment.start), default=0), segment.start), 0, segment.gain_db)
                )
            elif before is not None and segment.start > before[0]:
                found.append((before[1], Span(before[0], segment.start), filled, before[2]))
            before = segment.stop, at + len(segment), segment.gain_db
        else:
            before = None
        filled = 0
    return found


def pickup_for(chapter: ChapterState, text: Chapter, finding: Finding, pauses: Container[int] = ()) -> Pickup:
    """The clause that a finding stands in, with what it needs around it, as a line for the narrator to read again.

    `pauses` as in `line_around`.
    """
    line = line_around(text, finding.word_index, finding.word_index + max(1, finding.word_count), pauses)
    first, stop = line.start, line.stop
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
        note=finding.note,
    )
