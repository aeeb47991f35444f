"""Hearing what a splice or an edit gave: the stretch of the reel as it now stands, by the ears, held against the manuscript."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable
from dataclasses import dataclass, replace
from operator import attrgetter

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
from faithful_reel.core.reel.reel import Lane, Piece, Reel
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import EAR_RATE
from faithful_reel.core.work.seams import lane_sound
from faithful_reel.core.work.timeline import Hearing, Tokens, finding_spans, tokens_of

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
    """A stretch of one lane, heard: written words from `first` on, samples of the reel from `start` on."""

    lane: int
    first: int
    start: int
    findings: tuple[Finding, ...]


def changed_words(reel: Reel, tokens: Tokens) -> list[range]:
    """The written words beside every change of a reel, and those that were cut there; what is near is taken together."""
    found: list[range] = []
    heard = [t for t in tokens.heard() if t.word >= 0]
    written = int(tokens.words.max(initial=-1)) + 1
    for number, lane in enumerate(reel.lanes):
        own = [t for t in heard if t.lane == number]
        if lane.music or not own:
            continue
        middles = [(t.start + t.stop) // 2 for t in own]
        starts = lane.starts()
        for at in (starts[k] for k in range(1, len(lane.segments)) if _is_changed(lane, k)):
            k = bisect_left(middles, at)
            beside = [own[n].word for n in (k - 1, k) if 0 <= n < len(own)]
            found.append(range(min(beside), max(beside) + 1))
    if len(reel.lanes) == 1 and heard:  # the beginning or the end is gone
        first, last = heard[0].word, heard[-1].word
        found += [range(first + 1)] if first else []
        found += [range(last, written)] if last < written - 1 else []
    merged: list[range] = []
    for words in sorted(found, key=attrgetter("start")):
        if merged and words.start <= merged[-1].stop + AROUND_WORDS:
            merged[-1] = range(merged[-1].start, max(merged[-1].stop, words.stop))
        else:
            merged.append(words)
    return merged


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
    changed = changed_words(reel, tokens)
    found: list[Finding] = []
    for n, words in enumerate(changed):
        part = Part(watch, n / len(changed), (n + 1) / len(changed))
        try:
            stretch = _heard(book, reel, tokens, text, words, render_of, ears, part, memory)
        except SignalError:
            stretch = _silent(tokens, text, words)
        found += [_in_recording(book, chapter, reel, stretch, f) for f in stretch.findings]
    rows = list(zip(chapter.findings, finding_spans(chapter, chapter.findings), strict=True))
    gone = sum(f.decision is Decision.OPEN and f.stop > f.start and span is None for f, span in rows)
    known = {_what(f) for f, span in rows if span is not None and f.decision is not Decision.MEND and not gives_way(f)}
    return AsItStands(tuple(f for f in found if _what(f) not in known), len(changed), gone)


def _what(f: Finding) -> tuple[object, ...]:
    """What a finding tells.  One that is told already, is still heard and is not said to be mended is not told twice."""
    return f.kind, f.word_index, f.word_count, f.heard


def _silent(tokens: Tokens, text: Chapter, words: range) -> _Stretch:
    """A stretch in which nothing is heard: its words are not read."""
    first = next(t for t in tokens if t.word in words and t.start >= 0)
    written = " ".join(text.words[k].text for k in words)
    gone = Finding("", Kind.SKIPPED, written, "", 0, len(words), 0, 0, 1.0, Evidence(note=SILENT))
    return _Stretch(first.lane, words.start, first.start, (gone,))


def _in_recording(book: Book, chapter: ChapterState, reel: Reel, stretch: _Stretch, f: Finding) -> Finding:
    """A finding of a stretch with its words' numbers in the chapter, and its place in the recording that most of it is heard of.

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
        word_index=f.word_index + stretch.first,
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
    try:
        stretch = _heard(book, reel, tokens, text, words, render_of, ears, watch, memory)
    except SignalError:
        return HeardSo(("nothing is heard there",))
    return HeardSo(tuple(map(in_words, stretch.findings)), stretch.findings)


def _heard(
    book: Book,
    reel: Reel,
    tokens: Tokens,
    text: Chapter,
    words: range,
    render_of: Callable[[Reel], Renderer],
    ears: Ears,
    watch: Watch,
    memory: Memory | None,
) -> _Stretch:
    """What is found on some words of a reel, heard with those around them up to pauses.

    Raises
    ------
    SignalError
        Nobody speaks there.
    """
    own = [t for t in tokens if t.word in words and t.start >= 0]
    lane = own[0].lane
    near = range(max(0, words.start - AROUND_WORDS), min(len(text.words), words.stop + AROUND_WORDS))
    placed = {t.word: t for t in tokens if t.word in near and t.start >= 0 and t.lane == lane}
    first, stop = words.start, words.stop
    while first - 1 in placed and placed[first - 1].stop <= placed.get(first, own[0]).start + book.rate // 10:
        first -= 1
    while stop in placed and placed[stop].start >= placed.get(stop - 1, own[-1]).stop - book.rate // 10:
        stop += 1
    edge = round(EDGE_S * book.rate)
    spoken = [placed[k] for k in range(first, stop) if k in placed]
    start, end = max(0, min(t.start for t in spoken) - edge), min(len(reel), max(t.stop for t in spoken) + edge)
    x = lane_sound(reel, lane, render_of, start, end)
    heard = np.asarray(soxr.resample(x, book.rate, EAR_RATE, quality="HQ"), np.float32)
    proof = proofed(heard, Chapter(text.title, text.words[first:stop]), ears, watch, memory=memory)
    mine = range(words.start - first, words.stop - first)
    found = tuple(f for f in proof.findings if f.kind in READING and f.confidence >= SHOWN and _within(f, mine))
    return _Stretch(lane, first, start, found)


def _within(f: Finding, words: range) -> bool:
    """Whether a finding is of the line: on its words, or between two of them; what is said at its ends was there before."""
    if f.word_count and f.kind not in AGAIN:
        return any(k in words for k in range(f.word_index, f.word_index + f.word_count))
    return words.start <= f.word_index < words.stop if f.kind in AGAIN else words.start < f.word_index < words.stop
