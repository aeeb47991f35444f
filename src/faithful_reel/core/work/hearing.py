"""Hearing a chapter of a book: which stretch of its recording, by which ears, into what the book keeps."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from faithful_reel.core.audio.files import ear_sound
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.findings import Finding
from faithful_reel.core.collate.proofing import Proof, in_rate, proofed
from faithful_reel.core.hear.ears import Ears
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.jobs import Watch
from faithful_reel.core.reel.reel import Piece
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import EAR_RATE, Span
from faithful_reel.core.work.timeline import Hearing, hearing_of


@dataclass(frozen=True, slots=True)
class HeardChapter:
    """What the ears made of a chapter: positions in samples of its recording at the book's rate."""

    hearing: Hearing
    findings: tuple[Finding, ...]


def own_stretch(book: Book, chapter: ChapterState) -> Span | None:
    """What of its recording a chapter hears, at the ear's rate, where other chapters are read by the same one; else None."""
    shared = any(c.recording == chapter.recording and c.id != chapter.id for c in book.chapters)
    pieces = chapter.reel.lanes[0].segments if chapter.reel is not None else ()
    own = [s for s in pieces if isinstance(s, Piece) and s.recording == chapter.recording and not s.take]
    if not shared or not own:
        return None
    first, last = min(s.start for s in own), max(s.stop for s in own)
    return Span(first * EAR_RATE // book.rate, -(-last * EAR_RATE // book.rate))


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
    return kept(proofed(x, text, ears, watch, (lambda proof: early(kept(proof))) if early else None, memory))
