"""What state a book's file is in: whole, damaged, in use, closed to us; and the backups that are whole."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import re
import sqlite3
import stat
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from faithful_reel.core.book.journal import Journal
from faithful_reel.core.book.packing import NONSENSE
from faithful_reel.core.errors import AppError, BookDamaged, BookInUse, StoreProblem
from faithful_reel.core.files import DATABASE, address, shown

APPLICATION_ID = 0x4652454C  # "FREL"
SUFFIX = ".reelbook"
LOCK = "book.lock"
BACKUP_NAME = re.compile(r"book-(\d{8}-\d{6})(?:-\d+)?\.sqlite")


def backups(folder: Path) -> list[Path]:
    """The backups of a book, the newest first; files of other names are none."""
    try:
        found = [p for p in (folder / "backups").iterdir() if BACKUP_NAME.fullmatch(p.name) and p.is_file()]
    except OSError:
        return []
    return sorted(found, key=lambda p: p.stem, reverse=True)


def lock_file(folder: Path) -> int:
    """A book's lock file, opened; made where it is not there.  What it may lead to elsewhere is never touched.

    Raises
    ------
    StoreProblem
        The folder can not be written to, or the lock is a link or no ordinary file.
    """
    try:
        handle = os.open(folder / LOCK, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, 0o644)
    except OSError as problem:
        if problem.errno in (errno.ELOOP, errno.ENXIO, errno.EISDIR):
            raise _no_lock(folder) from problem
        raise StoreProblem(
            f"{shown(folder)} can not be written to ({problem.strerror}). Copy it to a folder of your own."
        ) from problem
    found = os.fstat(handle)
    if not stat.S_ISREG(found.st_mode) or found.st_nlink > 1:
        os.close(handle)
        raise _no_lock(folder)
    return handle


def _no_lock(folder: Path) -> StoreProblem:
    return StoreProblem(f"{LOCK} in {shown(folder)} is a link or no ordinary file. Nothing was changed; move it away first.")


def damaged(folder: Path, why: str) -> BookDamaged:
    """The error for a damaged book, with the backups that are whole."""
    why = " ".join(why.replace("*** in database main ***", "").split())
    whole = whole_backups(folder)
    rest = (
        f"{len(whole)} of its backups {'is' if len(whole) == 1 else 'are'} whole, the newest step at {whole[0].at}: restore it."
        if whole
        else "It has no whole backup."
    )
    return BookDamaged(f"The database of {shown(folder)} is damaged and can not be opened ({why}). {rest}")


@dataclass(frozen=True, slots=True)
class Backup:
    """A whole backup of a book's database: its file, how many steps it holds, and when the newest of them was taken."""

    path: Path
    steps: int
    at: str


def see_whole(folder: Path, db: sqlite3.Connection) -> None:
    """See that a copy of a book's database leads to a book.

    Raises
    ------
    StoreProblem
        It does not: its journal can not be read, or a value that the book needs is missing.
    """
    journal = Journal(folder, db)
    astray = journal.astray()
    if astray:
        raise StoreProblem(f"This copy of the database of {shown(folder)} is not whole ({astray}).")
    for chapter in journal.book_at(journal.head).chapters:
        for key in filter(None, (chapter.text, chapter.hearing)):
            journal.body(key)


def whole_backups(folder: Path, most: int = 3) -> list[Backup]:
    """The newest backups that are whole: each is read to the book that it holds."""
    found = []
    for path in backups(folder)[: 2 * most]:
        try:
            with contextlib.closing(sqlite3.connect(address(path, read_only=True), uri=True)) as db:
                if db.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok":
                    continue
                if int(db.execute("PRAGMA application_id").fetchone()[0]) != APPLICATION_ID:
                    continue
                steps, at = db.execute("SELECT count(*), coalesce(max(at), '') FROM steps WHERE id > 0").fetchone()
                see_whole(folder, db)
        except (sqlite3.Error, AppError, *NONSENSE):
            continue
        found.append(Backup(path, int(steps), str(at).replace("T", " ") or "the beginning"))
        if len(found) == most:
            break
    return found


def look_for_book(folder: Path) -> None:
    """See whether a folder is a book.

    Raises
    ------
    StoreProblem
        It is not.
    BookDamaged
        Its database is missing, but there are backups of it.
    """
    if not folder.is_dir():
        raise StoreProblem(f"The book {folder.name} is not there. Check the name and the folder.")
    if not (folder / DATABASE).is_file():
        if backups(folder):
            raise damaged(folder, "the database is missing")
        raise StoreProblem(f"{folder.name} is not a book: it holds no {DATABASE}. Choose a folder that ends in {SUFFIX}.")


@contextlib.contextmanager
def held_open(folder: Path) -> Iterator[None]:
    """Hold a book's lock, so that nobody opens it meanwhile.

    Raises
    ------
    BookInUse
        Somebody has it open.
    StoreProblem
        The folder can not be written to.
    """
    handle = lock_file(folder)
    try:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as problem:
            raise BookInUse(f"{shown(folder)} is open in another window. Close it there first.") from problem
        yield
    finally:
        os.close(handle)
