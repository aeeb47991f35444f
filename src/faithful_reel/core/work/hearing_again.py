"""Hearing what a splice or an edit gave: the stretch of the reel as it now stands, by the ears, held against the manuscript."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
import soxr

from faithful_reel.core.book.commands import gives_way
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.book.packing import reel_key
from faithful_reel.core.collate.findings import AGAIN, READING, SHOWN, Decision, Evidence, Finding, Kind
from faithful_reel.core.collate.proofing import proofed
from faithful_reel.core.errors import EditRefused, SignalError
from faithful_reel.core.hear.ears import Ears
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.jobs import Part, Watch
from faithful_reel.core.pickups.judging import in_words
from faithful_reel.core.reel.exchanges import covered, uncovered
from faithful_reel.core.reel.reel import Lane, Piece, Reel
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import EAR_RATE, Span
from faithful_reel.core.work.hearing import as_written, owners_of
from faithful_reel.core.work.seams import lane_sound
from faithful_reel.core.work.timeline import Hearing, Token, Tokens, finding_spans, lane_with, tokens_of

AROUND_WORDS, EDGE_S = 6, 0.3
"""So many words are heard with the line on either side, and so much sound beyond them."""
STANDS = "heard as the chapter stands now"
SILENT = "nothing is heard there as the chapter stands now"


@dataclass(frozen=True, slots=True)
class HeardSo:
    """How a line sounds now: what is wrong, in a few words each; nothing where it is as written."""

    wrong: tuple[str, ...]
    findings: tuple[Finding, ...] = ()

    @property
    def right(self) -> bool:
        """Whether it is as written."""
        return not self.wrong


@dataclass(frozen=True, slots=True)
class AsItStands:
    """What the changed stretches of a chapter sound like now.

    `findings` are in samples of the recordings that are heard there, `places` tells how many were heard, and `gone` how many open
    findings have lost their sound.
    """

    findings: tuple[Finding, ...]
    places: int
    gone: int


@dataclass(frozen=True, slots=True)
class _Stretch:
    """A stretch of one lane, heard: samples of the reel from `start` on; what was found there, by the chapter's words."""

    lane: int
    start: int
    findings: tuple[Finding, ...]


def changed_words(reel: Reel, tokens: Tokens, lanes: Sequence[int]) -> list[tuple[int, range]]:
    """(lane, words): the written words beside every change of a lane, and those that were cut there; what is near is together.

    `lanes` has the number of the lane that each written word belongs to.
    """
    found: list[tuple[int, range]] = []
    heard = [t for t in tokens.heard() if t.word >= 0]
    for number, lane in enumerate(reel.lanes):
        own = [t for t in heard if t.lane == number]
        if lane.music or not own:
            continue
        middles = [(t.start + t.stop) // 2 for t in own]
        starts = lane.starts()
        for at in (starts[k] for k in range(1, len(lane.segments)) if _is_changed(lane, k)):
            k = bisect_left(middles, at)
            beside = [own[n].word for n in (k - 1, k) if 0 <= n < len(own)]
            found.append((number, range(min(beside), max(beside) + 1)))
        belong = [k for k, owner in enumerate(lanes) if owner == number]
        first, last = own[0].word, own[-1].word
        found += [(number, range(belong[0], first + 1))] if belong[0] < first else []  # the beginning or the end is gone
        found += [(number, range(last, belong[-1] + 1))] if belong[-1] > last else []
    merged: list[tuple[int, range]] = []
    for number, words in sorted(found, key=lambda row: (row[0], row[1].start)):
        before = merged[-1][1] if merged and merged[-1][0] == number else None
        if before is not None and words.start <= before.stop + AROUND_WORDS:
            merged[-1] = number, range(before.start, max(before.stop, words.stop))
        else:
            merged.append((number, words))
    return sorted(merged, key=lambda row: row[1].start)


def _lanes(chapter: ChapterState, text: Chapter, hearing: Hearing, tokens: Tokens) -> list[int]:
    """The lane of each written word: where it is heard, else that of the voice whose word it is."""
    assert chapter.reel is not None
    voices = [(chapter.recording, hearing), *hearing.voices]
    lanes = [lane_with(chapter.reel, recording) for recording, _ in voices]
    found = [lanes[voice] for voice in owners_of(text, [as_written(heard) for _, heard in voices])]
    for t in tokens.heard():
        if t.word >= 0:
            found[t.word] = t.lane
    return found


def _is_changed(lane: Lane, index: int) -> bool:
    """Whether a segment does not go on where the one before it stops."""
    before, after = lane.segments[index - 1], lane.segments[index]
    if isinstance(before, Piece) and isinstance(after, Piece):
        return before.recording != after.recording or before.stop != after.start
    return isinstance(before, Piece) or isinstance(after, Piece)


def needs_again(chapter: ChapterState) -> bool:
    """Whether a chapter was changed since it was heard, and not heard as it stands now."""
    reel = chapter.reel
    if reel is None or not chapter.hearing:
        return False
    changed = any(_is_changed(lane, k) for lane in reel.lanes if not lane.music for k in range(1, len(lane.segments)))
    return (changed or bool(chapter.heard_as)) and chapter.heard_as != reel_key(reel)


def heard_as_it_stands(
    book: Book,
    chapter: ChapterState,
    text: Chapter,
    hearing: Hearing,
    render_of: Callable[[Reel], Renderer],
    ears: Ears,
    watch: Watch,
    memory: Memory | None = None,
) -> AsItStands:
    """Hear what was changed in a chapter, and only that: the words beside its joins.

    Raises
    ------
    EditRefused
        The chapter has no sound.
    """
    reel = chapter.reel
    if reel is None:
        raise EditRefused("This chapter has no sound to hear.")
    tokens = tokens_of(book, chapter, [w.text for w in text.words], hearing)
    lanes = _lanes(chapter, text, hearing, tokens)
    changed = changed_words(reel, tokens, lanes)
    found: list[Finding] = []
    for n, (lane, words) in enumerate(changed):
        part = Part(watch, n / len(changed), (n + 1) / len(changed))
        own = [k for k in range(len(text.words)) if lanes[k] == lane]
        try:
            stretch = _heard(book, reel, tokens, text, words, lane, own, render_of, ears, part, memory)
        except SignalError:
            stretch = _silent(tokens, text, [k for k in words if lanes[k] == lane], lane)
        found += [_in_recording(book, chapter, reel, stretch, f) for f in stretch.findings]
    rows = list(zip(chapter.findings, finding_spans(chapter, chapter.findings), strict=True))
    gone = sum(f.decision is Decision.OPEN and f.stop > f.start and span is None for f, span in rows)
    there = covered(reel.lanes)
    known = [
        (f, len(span) == f.stop - f.start and not uncovered(there, (f.recording or chapter.recording, f.start, f.stop)))
        for f, span in rows
        if span is not None and f.decision is not Decision.MEND and not gives_way(f)
    ]
    return AsItStands(tuple(f for f in found if not any(_told(f, k, whole=w) for k, w in known)), len(changed), gone)


def _told(f: Finding, known: Finding, *, whole: bool) -> bool:
    """Whether what a finding tells is told already by one that is still heard and not said to be mended.

    It is told with the same words; or of the same sound, where that is whole: an ear that hears a departure anew may write it
    otherwise, but what was cut in the middle is another one.
    """
    if (f.kind, f.word_index, f.word_count, f.heard) == (known.kind, known.word_index, known.word_count, known.heard):
        return True
    if not whole or f.recording != known.recording or (f.kind in AGAIN) != (known.kind in AGAIN) or known.kind not in READING:
        return False
    shared = min(f.stop, known.stop) - max(f.start, known.start)
    words = range(min(f.word_index, known.word_index), max(f.word_index + f.word_count, known.word_index + known.word_count))
    alike = len(words) <= max(f.word_count, known.word_count) + 1
    return alike and 2 * shared > max(f.stop - f.start, known.stop - known.start) > 0


def _silent(tokens: Tokens, text: Chapter, words: Sequence[int], lane: int) -> _Stretch:
    """A stretch in which nothing is heard: its words are not read."""
    first = next(t for t in tokens if t.word in words and t.start >= 0)
    written = " ".join(text.words[k].text for k in words)
    gone = Finding("", Kind.SKIPPED, written, "", words[0], len(words), 0, 0, 1.0, Evidence(note=SILENT))
    return _Stretch(lane, first.start, (gone,))


def _in_recording(book: Book, chapter: ChapterState, reel: Reel, stretch: _Stretch, f: Finding) -> Finding:
    """A finding of a stretch with its place in the recording that most of it is heard of.

    What lies in another piece is left out: it would be told as gone, since the recording does not go on over a join.
    """
    first, stop = (min(len(reel) - 1, stretch.start + round(p * book.rate / EAR_RATE)) for p in (f.start, f.stop))
    row = reel.lanes[stretch.lane]
    pieces = [(s, at) for s, at in zip(row.segments, row.starts(), strict=False) if isinstance(s, Piece)]
    piece, at = max(
        pieces, key=lambda p: (min(stop, p[1] + len(p[0])) - max(first, p[1]), p[1])
    )  # or the nearest, from room tone
    low = min(max(first, at), at + len(piece) - 1)
    start = piece.start + low - at
    return replace(
        f,
        start=start,
        stop=start + max(0, min(stop, at + len(piece)) - low),
        recording="" if piece.recording == chapter.recording else piece.recording,
        evidence=replace(f.evidence, note=f.evidence.note or STANDS),
    )


def heard_again(
    book: Book,
    chapter: ChapterState,
    text: Chapter,
    hearing: Hearing,
    words: range,
    render_of: Callable[[Reel], Renderer],
    ears: Ears,
    watch: Watch,
    memory: Memory | None = None,
) -> HeardSo:
    """Hear written words `words` of a chapter in its reel as it stands.

    Raises
    ------
    EditRefused
        They are not heard in the reel.
    """
    reel = chapter.reel
    tokens = tokens_of(book, chapter, [w.text for w in text.words], hearing)
    if reel is None or not any(t.word in words and t.start >= 0 for t in tokens):
        raise EditRefused("This line is not heard in the chapter.")
    lanes = _lanes(chapter, text, hearing, tokens)
    lane = next(t.lane for t in tokens if t.word in words and t.start >= 0)
    own = [k for k in range(len(text.words)) if lanes[k] == lane]
    try:
        stretch = _heard(book, reel, tokens, text, words, lane, own, render_of, ears, watch, memory)
    except SignalError:
        return HeardSo(("nothing is heard there",))
    return HeardSo(tuple(map(in_words, stretch.findings)), stretch.findings)


def _heard(
    book: Book,
    reel: Reel,
    tokens: Tokens,
    text: Chapter,
    words: range,
    lane: int,
    own: Sequence[int],
    render_of: Callable[[Reel], Renderer],
    ears: Ears,
    watch: Watch,
    memory: Memory | None,
) -> _Stretch:
    """What is found on some words of a lane, heard with those around them up to pauses; `own` are the words of its voice.

    Raises
    ------
    SignalError
        Nobody speaks there.
    """
    at = bisect_left(own, words.start), bisect_left(own, words.stop)
    placed = {t.word: t for t in tokens if t.word >= 0 and t.start >= 0 and t.lane == lane}
    spoken = [placed[k] for k in own[at[0] : at[1]] if k in placed]
    first, stop = at
    while first > max(0, at[0] - AROUND_WORDS) and _goes_on(
        placed.get(own[first - 1]), placed.get(own[first], spoken[0]), book.rate
    ):
        first -= 1
    while stop < min(len(own), at[1] + AROUND_WORDS) and _goes_on(
        placed.get(own[stop - 1], spoken[-1]), placed.get(own[stop]), book.rate
    ):
        stop += 1
    edge = round(EDGE_S * book.rate)
    spoken = [placed[k] for k in own[first:stop] if k in placed]
    start, end = max(0, min(t.start for t in spoken) - edge), min(len(reel), max(t.stop for t in spoken) + edge)
    x = lane_sound(reel, lane, render_of, start, end)
    heard = np.asarray(soxr.resample(x, book.rate, EAR_RATE, quality="HQ"), np.float32)
    read = own[first:stop]
    proof = proofed(heard, Chapter(text.title, tuple(text.words[k] for k in read)), ears, watch, memory=memory)
    mine = range(at[0] - first, at[1] - first)
    inside = set(read)
    others = [
        Span(t.start - start, t.stop - start) for k, t in placed.items() if k not in inside and t.stop > start and t.start < end
    ]
    found = tuple(
        replace(f, word_index=read[min(f.word_index, len(read) - 1)] + max(0, f.word_index - len(read) + 1))
        for f in proof.findings
        if f.kind in READING and f.confidence >= SHOWN and _within(f, mine) and not _of_others(f, others, book.rate)
    )
    return _Stretch(lane, start, found)


def _goes_on(before: Token | None, after: Token | None, rate: int) -> bool:
    """Whether a word is spoken after another one, as it is written."""
    return before is not None and after is not None and before.stop <= after.start + rate // 10


def _of_others(f: Finding, others: Sequence[Span], rate: int) -> bool:
    """Whether what was heard beside the written words is words of the neighbours, which the stretch only reaches into."""
    if f.word_count and f.kind not in AGAIN:
        return False
    own = Span(round(f.start * rate / EAR_RATE), round(f.stop * rate / EAR_RATE))
    return 2 * sum(map(own.overlap, others)) > len(own)


def _within(f: Finding, words: range) -> bool:
    """Whether a finding is of the line: on its words, or between two of them; what is said at its ends was there before."""
    if f.word_count and f.kind not in AGAIN:
        return any(k in words for k in range(f.word_index, f.word_index + f.word_count))
    return words.start <= f.word_index < words.stop if f.kind in AGAIN else words.start < f.word_index < words.stop
