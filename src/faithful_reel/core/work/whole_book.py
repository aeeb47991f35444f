"""Hearing all of a book: which chapters it needs, and each of them kept as soon as it is heard."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from faithful_reel.core.audio.sources import FileSources
from faithful_reel.core.book.commands import EDITION, BookCommand, PlaceAsItStands, PlaceHearing
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.book.packing import packed, reel_key
from faithful_reel.core.book.recordings import decode, path_of
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import HEARD
from faithful_reel.core.errors import AppError
from faithful_reel.core.hear.ears import Ears
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.jobs import Part, Watch
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.work.hearing import heard_voices
from faithful_reel.core.work.hearing_again import heard_as_it_stands, needs_again
from faithful_reel.core.work.timeline import Hearing


@dataclass(frozen=True, slots=True)
class ChapterHeard:
    """What came of hearing a chapter: how many findings, or why it could not be heard."""

    chapter: ChapterState
    problem: str = ""


def to_hear(book: Book) -> list[ChapterState]:
    """The chapters, in reading order, that were not heard since their recording was paired, or were changed since."""
    return [c for c in book.chapters if c.recording and (not c.hearing or needs_again(c))]


def hear_book(
    session: Session, chapters: Sequence[str], ears: Ears, watch: Watch, told: Callable[[ChapterHeard], None]
) -> list[ChapterHeard]:
    """Hear chapters of a book one after another; each is in the journal before the next begins, and `told` then.

    A chapter that can not be heard is told with the reason, and the others are heard all the same.

    Raises
    ------
    Cancelled
        The watch stopped it; what was heard until then is kept.
    """
    lengths = [session.book.recording(session.book.chapter(c).recording).length for c in chapters]
    whole, at = max(1, sum(lengths)), 0
    found: list[ChapterHeard] = []
    folder = session.store.folder
    with Memory(folder / HEARD) as memory:
        for chapter_id, length in zip(chapters, lengths, strict=True):
            book, chapter = session.book, session.book.chapter(chapter_id)
            part = Part(watch, at / whole, (at + length) / whole)
            at += length

            def sound(recording: str, book: Book = book) -> Path:
                entry = book.recording(recording)
                decode(folder, book, entry)
                return path_of(folder, entry, book.rate)

            try:
                command = _command(session, chapter, sound, ears, part, memory)
            except AppError as problem:
                result = ChapterHeard(chapter, str(problem))
            else:
                session.do(command)
                result = ChapterHeard(session.book.chapter(chapter_id))
            found.append(result)
            told(result)
    return found


def _command(
    session: Session, chapter: ChapterState, sound: Callable[[str], Path], ears: Ears, watch: Watch, memory: Memory
) -> BookCommand:
    """Hear a chapter, or what was changed in one that was heard; what lays it on the book."""
    book, text = session.book, session.store.get(Chapter, chapter.text)
    if chapter.hearing and chapter.reel is not None and needs_again(chapter):
        hearing = session.store.get(Hearing, chapter.hearing)
        with closing(FileSources(sound)) as files:
            render_of = partial(_renderer, files)
            made = heard_as_it_stands(book, chapter, text, hearing, render_of, ears, watch, memory)
        return PlaceAsItStands(chapter.id, reel_key(chapter.reel), made.findings)
    heard = heard_voices(book, chapter, text, sound, ears, watch, None, memory)
    row = packed(Hearing, heard.hearing)
    session.store.put_all([row])
    return PlaceHearing(chapter.id, row.key, heard.findings, EDITION)


def _renderer(files: FileSources, reel: Reel) -> Renderer:
    return Renderer(reel, files)
