"""Making a book from a manuscript and recordings: chapters, pairs, and which recording reads what."""

from __future__ import annotations

import hashlib
import re
import shutil
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

from faithful_reel.core.audio.sources import FileSources
from faithful_reel.core.book.commands import EDITION, AddChapters, AddRecording, PairRecording, SetDetails
from faithful_reel.core.book.condition import SUFFIX
from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.book.recordings import received
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.collate.pairing import Finder, Passage, passages, sampled
from faithful_reel.core.errors import AppError
from faithful_reel.core.files import encodable, shortened
from faithful_reel.core.hear.recogniser import Ear
from faithful_reel.core.jobs import Part, Unwatched, Watch
from faithful_reel.core.text.manuscript import read_manuscript
from faithful_reel.core.text.words import Chapter, Manuscript

LONGEST_TITLE = 400
"""In bytes."""


def chapters_command(manuscript: Manuscript, put: Callable[[type, object], str]) -> AddChapters:
    """The command that takes in a manuscript's chapters, and beside them what is not read aloud."""

    def rows(chapters: Sequence[Chapter], mark: str) -> tuple[tuple[str, str, str], ...]:
        keys = [put(Chapter, c) for c in chapters]
        return tuple(
            (f"{mark}{number}-{hashlib.sha256(key.encode()).hexdigest()[:6]}", chapter.title, key)
            for number, (chapter, key) in enumerate(zip(chapters, keys, strict=True), 1)
        )

    title, author = (
        shortened(encodable(" ".join(text.split())), LONGEST_TITLE) for text in (manuscript.title, manuscript.author)
    )
    return AddChapters(rows(manuscript.chapters, "c"), rows(manuscript.left_out, "x"), title, author)


def chapter_named_by(book: Book, recording: Recording) -> ChapterState | None:
    """The chapter that a recording's name points to: a lone number in it that counts a chapter without a recording."""
    numbers = re.findall(r"\d+", Path(recording.name).stem)
    if len(numbers) != 1 or "pickup" in recording.name.lower():
        return None
    index = int(numbers[0]) - 1
    return book.chapters[index] if 0 <= index < len(book.chapters) and not book.chapters[index].recording else None


def passages_in(path: Path, recording: Recording, rate: int, finder: Finder, ear: Ear, watch: Watch) -> tuple[Passage, ...]:
    """Hear samples of a recording, whose sound at the book's rate is in `path`, and say which chapters it reads."""
    sources = FileSources(lambda _: path)
    sound = partial(sources, recording.hash)
    try:
        samples = sampled(sound, recording.length, rate, ear, watch)
        return passages(recording.hash, samples, recording.length, rate, finder, sound)
    finally:
        sources.close()


def make_book(
    folder: Path,
    manuscript: Path | None,
    recordings: Sequence[Path],
    *,
    title: str = "",
    author: str = "",
    narrator: str = "",
    watch: Watch | None = None,
) -> tuple[Path, list[str]]:
    """Make a book and bring in what is given; its folder, and a line for every recording that was refused.

    Raises
    ------
    FileProblem, StoreProblem
        The manuscript can not be read, or the book can not be made; nothing is left behind.
    """
    watch = watch or Unwatched()
    folder = folder if folder.suffix == SUFFIX else folder.with_name(folder.name + SUFFIX)
    text = read_manuscript(manuscript) if manuscript else None
    there = folder.exists()
    refused: list[str] = []
    whole = False
    try:
        with BookStore(folder, create=True) as store:
            session = Session(store)
            if text is not None:
                session.do(chapters_command(text, store.put))
            named = title or (text.title if text else ""), author or (text.author if text else "")
            if any((*named, narrator)):
                session.do(SetDetails(named[0] or session.book.title, named[1], narrator))
            for index, path in enumerate(recordings):
                part = Part(watch, index / len(recordings), (index + 1) / len(recordings))
                try:
                    recording = received(folder, path, session.book.rate, part)
                except AppError as problem:
                    refused.append(str(problem))
                    continue
                session.do(AddRecording(recording))
                chapter = chapter_named_by(session.book, recording)
                if chapter is not None:
                    session.do(PairRecording(chapter.id, recording.hash, EDITION))
            session.close()
            whole = True
    finally:
        if not whole and not there:
            shutil.rmtree(folder, ignore_errors=True)
    return folder, refused
