"""The demo book: brought in from its files as an editor would."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
import sqlite3
from pathlib import Path

from faithful_reel.core.book.commands import AddChapters, AddRecording, EditReels, NameNarrator, PairRecording, SetDetails
from faithful_reel.core.book.condition import LOCK, SUBFOLDERS, held_open
from faithful_reel.core.book.recordings import received
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.errors import FileProblem, StoreProblem
from faithful_reel.core.files import DATABASE, address, beside, shown, why
from faithful_reel.core.reel.commands import AddLane, DressLane
from faithful_reel.core.reel.reel import Lane, Piece, Rest
from faithful_reel.core.text.manuscript import read_manuscript
from faithful_reel.core.text.words import Chapter

NARRATOR, SECOND = "Edmund Sallis", "Mara Corrow"
MUSIC_LEAD_S = 4.0
TWO_VOICES = "c4"
"""The chapter that two narrators read in turn, with music under it."""
MADE = "made by the demo"
FILES_VARIABLE = "FAITHFUL_REEL_DEMO"


def is_demo_book(folder: Path) -> bool:
    """Whether a book was made by the demo, and by nothing else."""
    try:
        with contextlib.closing(sqlite3.connect(address(folder / DATABASE, read_only=True), uri=True)) as db:
            return bool(db.execute("SELECT 1 FROM meta WHERE key = ? AND value = 'true'", (f"note {MADE}",)).fetchone())
    except sqlite3.Error:
        return False


_OF_A_BOOK = re.compile(
    rf"{DATABASE}(-wal|-shm)?|{LOCK}|{'|'.join(SUBFOLDERS)}|backups/(book|damaged)-[-\d]+\.sqlite(-wal|-shm)?"
    r"|(recordings|decoded)/[0-9a-f]{64}(\.\w+)?|cache/[^/]+|masters/[^/]+\.(wav|flac|mp3)"
)
"""What the program itself makes in a book's folder."""


def remove_demo_book(folder: Path) -> None:
    """Take a demo book away, so that a new one can be made.

    Raises
    ------
    StoreProblem
        It was not made by the demo, somebody has it open, or it holds files that are not of a book; nothing is removed.
    """
    if folder.is_symlink() or not is_demo_book(folder):
        raise StoreProblem(f"{shown(folder)} was not made by the demo, so it was not replaced. Choose another folder.")
    with held_open(folder):
        for path in folder.rglob("*"):
            name = os.fsdecode(path.relative_to(folder))
            if path.is_symlink() or not _OF_A_BOOK.fullmatch(name):
                raise StoreProblem(f"{shown(folder)} holds {shown(path)}, which the demo did not make. Move it away first.")
        shutil.rmtree(folder)


def demo_files() -> Path:
    """The folder with the demo book's files: of the installed package, of the checkout, or named by an environment variable.

    Raises
    ------
    FileProblem
        They are not there.
    """
    named = os.environ.get(FILES_VARIABLE)
    here = Path(__file__).resolve()
    known = [here.parents[2] / "demo_book", *(parent / "demo" / "book" for parent in here.parents)]
    for folder in [Path(named)] if named else known:
        if (folder / "truth.json").is_file():
            return folder
    raise FileProblem("The demo book's files are not here. Install the program again, or use ./reel demo in a checkout.")


def make_demo_book(folder: Path, files: Path, *, two_voices: bool = True) -> None:
    """Make a book of the manuscript and the raw chapters, the last of them with two voices; nothing is heard or decided yet.

    Made beside and renamed, so that a half-made demo book is never opened; one that somebody else made meanwhile stands.

    Raises
    ------
    StoreProblem
        It can not be made there.
    """
    manuscript = read_manuscript(files / "manuscript.docx")
    truth = json.loads((files / "truth.json").read_text(encoding="utf-8"))
    part = beside(folder)
    folder.parent.mkdir(parents=True, exist_ok=True)
    try:
        with BookStore(part, create=True) as store:
            session = Session(store)
            store.note(MADE, True)
            session.do(SetDetails(manuscript.title, manuscript.author, NARRATOR))
            rows, aside = (
                tuple((f"{mark}{i}", c.title, store.put(Chapter, c)) for i, c in enumerate(chapters, 1))
                for mark, chapters in (("c", manuscript.chapters), ("x", manuscript.left_out))
            )
            session.do(AddChapters(rows, aside))
            for number in range(1, len(manuscript.chapters) + 1):
                recording = received(part, files / truth[f"chapter-{number}"]["recording"], session.book.rate)
                session.do(AddRecording(recording))
                session.do(PairRecording(f"c{number}", recording.hash))
            if two_voices:
                _add_two_voices(session, part, files)
        try:
            part.rename(folder)
        except OSError as problem:
            if not is_demo_book(folder):  # which somebody else made meanwhile
                raise StoreProblem(
                    f"The demo book {shown(folder)} could not be made{why(problem)}. Choose another folder."
                ) from problem
    finally:
        shutil.rmtree(part, ignore_errors=True)


def _add_two_voices(session: Session, folder: Path, files: Path) -> None:
    """A chapter whose two narrators have a lane each, and music of the sea, which begins with the reading."""
    rate = session.book.rate
    text = read_manuscript(files / "two-voices.txt").chapters[0]
    narrator, clerk, sea = (received(folder, files / f"two-voices-{name}.flac", rate) for name in ("narrator", "clerk", "sea"))
    session.do(AddChapters(((TWO_VOICES, text.title, session.store.put(Chapter, text)),)))
    for recording in (narrator, clerk, sea):
        session.do(AddRecording(recording))
    session.do(PairRecording(TWO_VOICES, narrator.hash))
    session.do(NameNarrator(narrator.hash, NARRATOR))
    session.do(NameNarrator(clerk.hash, SECOND))
    begins = _words_begin(files) - round(MUSIC_LEAD_S * rate)
    voice = Lane("clerk", (Piece(clerk.hash, 0, clerk.length),), color="red", tone=clerk.tone)
    music = Lane("sea", (Rest(begins), Piece(sea.hash, 0, sea.length)), music=True, color="blue")
    lanes = (AddLane(voice), AddLane(music), DressLane(0, "narrator", "", "", False))
    session.do(EditReels(tuple((TWO_VOICES, edit) for edit in lanes), "Bring in the second voice and the music"))


def _words_begin(files: Path) -> int:
    """Where the first written word is read, in samples."""
    truth = json.loads((files / "two-voices.json").read_text(encoding="utf-8"))
    return int(min(row[2] for row in truth["words"]) * truth["rate"])
