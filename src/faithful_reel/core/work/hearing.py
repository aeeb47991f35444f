"""Hearing a chapter of a book: which stretch of its recording, by which ears, into what the book keeps."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

from faithful_reel.core.audio.files import ear_sound
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.clicks import clicks_in
from faithful_reel.core.collate.findings import Finding, Kind
from faithful_reel.core.collate.proofing import Placed, Proof, in_rate, proofed
from faithful_reel.core.errors import SignalError
from faithful_reel.core.hear.ears import Ears
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.jobs import Part, Watch
from faithful_reel.core.reel.reel import Piece, most_of
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import EAR_RATE, Span
from faithful_reel.core.work.timeline import Hearing, finding_spans, hearing_of, voice_tokens


@dataclass(frozen=True, slots=True)
class HeardChapter:
    """What the ears made of a chapter: positions in samples of its recording at the book's rate."""

    hearing: Hearing
    findings: tuple[Finding, ...]


def own_stretch(book: Book, chapter: ChapterState) -> Span | None:
    """What of its recording a chapter hears, at the ear's rate, where other chapters are read by the same one; else None."""
    span = own_samples(book, chapter)
    whole = span == Span(0, book.recording(chapter.recording).length)
    return None if whole else Span(span.start * EAR_RATE // book.rate, -(-span.stop * EAR_RATE // book.rate))


def own_samples(book: Book, chapter: ChapterState) -> Span:
    """What of its recording a chapter hears: all of it, unless other chapters are read by the same one."""
    shared = any(c.recording == chapter.recording and c.id != chapter.id for c in book.chapters)
    pieces = [s for lane in chapter.reel.lanes for s in lane.segments] if chapter.reel is not None else []
    own = [s for s in pieces if isinstance(s, Piece) and s.recording == chapter.recording and not s.take]
    if not shared or not own:
        return Span(0, book.recording(chapter.recording).length)
    return Span(min(s.start for s in own), max(s.stop for s in own))


def heard_chapter(
    book: Book,
    chapter: ChapterState,
    text: Chapter,
    sound: Path,
    ears: Ears,
    watch: Watch,
    early: Callable[[HeardChapter], None] | None = None,
    memory: Memory | None = None,
) -> HeardChapter:
    """Hear a chapter and collate it with its text.

    `sound` is the file of its recording; `early` is told what was heard so far, in the job's own thread; `memory` as in
    `proofed`.

    Raises
    ------
    SignalError
        Nobody speaks in the recording.
    """
    stretch = own_stretch(book, chapter)
    length = book.recording(chapter.recording).length

    def kept(proof: Proof) -> HeardChapter:
        proof = in_rate(proof, book.rate, Span(0, length), offset=stretch.start if stretch else 0)
        return HeardChapter(hearing_of(proof), proof.findings)

    x = ear_sound(sound)
    x = x[stretch.start : stretch.stop] if stretch else x
    clicks = partial(clicks_in, sound, within=stretch)
    return kept(proofed(x, text, ears, watch, (lambda proof: early(kept(proof))) if early else None, memory, clicks))


def other_voices(chapter: ChapterState) -> list[str]:
    """The recordings of a chapter's other voices: what each lane but music and its own is mostly made of."""
    found: list[str] = []
    for lane in chapter.reel.lanes if chapter.reel is not None else ():
        most = most_of(lane)
        if most and not lane.music and chapter.recording not in lane.recordings and most not in found:
            found.append(most)
    return found


def heard_voices(
    book: Book,
    chapter: ChapterState,
    text: Chapter,
    sound: Callable[[str], Path],
    ears: Ears,
    watch: Watch,
    early: Callable[[HeardChapter], None] | None = None,
    memory: Memory | None = None,
) -> HeardChapter:
    """Hear all voices of a chapter, each collated with its own words.

    First every voice is heard against what those before it did not read as it is written; that tells whose each word is; then
    every voice is collated with its own.  A pause in which another voice speaks is no finding.  `sound` gives the file of a
    recording; `early` is told of the first voice.

    Raises
    ------
    SignalError
        Nobody speaks in the chapter's own recording.
    """
    others = other_voices(chapter)
    steps = 2 * len(others) + 1
    first = heard_chapter(book, chapter, text, sound(chapter.recording), ears, Part(watch, 0.0, 1 / steps), early, memory)
    if not others:
        return first
    every = range(len(text.words))

    def heard(recording: str, words: Sequence[int], step: int) -> HeardChapter | None:
        own = replace(text, words=tuple(text.words[k] for k in words))
        part = Part(watch, step / steps, (step + 1) / steps)
        state = replace(chapter, recording=recording)
        try:
            made = heard_chapter(book, state, own, sound(recording), ears, part, None, memory)
        except SignalError:  # a lane of noises, or of nothing
            return None
        number = recordings.index(recording)
        findings = tuple(_renumbered(f, words, number, recording) for f in made.findings)
        return HeardChapter(_among(made.hearing, words, len(text.words)), findings)

    recordings = [chapter.recording, *others]
    read = [as_written(first.hearing)]
    for step, recording in enumerate(others, 1):
        left = [k for k in every if all(k not in r for r in read)]
        made = heard(recording, left, step) if left else None
        read.append(as_written(made.hearing) if made is not None else set())
    owners = owners_of(text, read)
    voices: list[HeardChapter] = []
    for number, recording in enumerate(recordings):
        own = [k for k in every if owners[k] == number]
        again = heard(recording, own, min(steps - 1, len(others) + 1 + number)) if own else None
        voices.append(again or HeardChapter(Hearing((), (None,) * len(text.words), ()), ()))
    hearing = replace(voices[0].hearing, voices=tuple((r, v.hearing) for r, v in zip(others, voices[1:], strict=True)))
    return HeardChapter(hearing, _without_answers(chapter, [f for v in voices for f in v.findings], hearing))


def owners_of(text: Chapter, read: Sequence[set[int]]) -> list[int]:
    """Which voice each written word is of, by its number; `read` are the words that each voice was heard to read as written.

    Words that nobody was heard to read lie between two that somebody was: where both are of one voice they are of that, else
    they are divided where a sentence begins; all that is left is of the first voice.
    """
    owners = [next((n for n, words in enumerate(read) if k in words), -1) for k in range(len(text.words))]
    at = 0
    while at < len(owners):
        if owners[at] >= 0:
            at += 1
            continue
        stop = next((k for k in range(at, len(owners)) if owners[k] >= 0), len(owners))
        left, right = (owners[at - 1] if at else -1), (owners[stop] if stop < len(owners) else -1)
        left, right = (left if left >= 0 else max(right, 0)), (right if right >= 0 else max(left, 0))
        turn = next((k for k in range(at, stop) if k and text.words[k].sentence != text.words[k - 1].sentence), stop)
        if stop < len(owners) and turn == stop and text.words[stop].sentence == text.words[stop - 1].sentence and left != right:
            turn = at if at and text.words[at].sentence != text.words[at - 1].sentence else stop
        owners[at:stop] = [left if k < turn else right for k in range(at, stop)]
        at = stop
    return owners


def as_written(hearing: Hearing) -> set[int]:
    """The written words that were heard as they are written."""
    return {w for a, b, _, _, same in hearing.links if same for w in range(a, b)}


def _among(hearing: Hearing, words: Sequence[int], count: int) -> Hearing:
    """What was heard against some words of a text, by their numbers in all of it."""
    placed: list[Placed | None] = [None] * count
    for k, place in zip(words, hearing.placed, strict=True):
        placed[k] = place
    links: list[tuple[int, int, int, int, bool]] = []
    for a, b, c, d, same in hearing.links:
        runs = _runs_of(words[a:b])
        if not runs:
            at = words[a] if a < len(words) else count
            links.append((at, at, c, d, same))
        for first, last, (low, high) in runs:  # what was heard is shared out where the words do not follow one another
            shared = (c + (d - c) * low // (b - a), c + (d - c) * high // (b - a))
            links.append((first, last + 1, *shared, same))
    return Hearing(hearing.heard, tuple(placed), tuple(links))


def _runs_of(words: Sequence[int]) -> list[tuple[int, int, tuple[int, int]]]:
    """Runs of numbers that follow one another: (first, last, which of those given)."""
    found: list[tuple[int, int, tuple[int, int]]] = []
    for k, word in enumerate(words):
        if found and word == found[-1][1] + 1:
            found[-1] = found[-1][0], word, (found[-1][2][0], k + 1)
        else:
            found.append((word, word, (k, k + 1)))
    return found


def _renumbered(finding: Finding, words: Sequence[int], number: int, recording: str) -> Finding:
    """A finding of one voice by the numbers of the whole text."""
    first = words[min(finding.word_index, len(words) - 1)]
    count = finding.word_count
    if count:
        last = words[min(finding.word_index + count, len(words)) - 1]
        count = last + 1 - first
    name = f"v{number}-{finding.id}" if number else finding.id
    return replace(finding, id=name, word_index=first, word_count=count, recording=recording if number else "")


def _without_answers(chapter: ChapterState, findings: Sequence[Finding], hearing: Hearing) -> tuple[Finding, ...]:
    """Findings without the pauses in which another voice speaks, in reading order."""
    if chapter.reel is None:
        return tuple(findings)
    texts = [""] * len(hearing.placed)
    spoken = {
        recording: voice_tokens(chapter, texts, recording, heard).heard()
        for recording, heard in ((chapter.recording, hearing), *hearing.voices)
    }

    def answered(finding: Finding, span: Span | None) -> bool:
        others = (t for r, t in spoken.items() if r != (finding.recording or chapter.recording))
        return (
            finding.kind is Kind.PAUSE
            and span is not None
            and any(bool(((t.starts < span.stop) & (t.stops > span.start)).any()) for t in others)
        )

    kept = [f for f, span in zip(findings, finding_spans(chapter, findings), strict=True) if not answered(f, span)]
    return tuple(sorted(kept, key=lambda f: (f.word_index, f.start)))
