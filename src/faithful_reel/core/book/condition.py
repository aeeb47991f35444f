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
SUBFOLDERS = ("recordings", "decoded", "cache", "masters", "backups")
AT_DESK = "desk"
"""Where a recording that is made at the desk lies until it is in the book; made when it is needed."""
BACKUP_NAME = re.compile(r"book-(?:(?P<number>\d{6})-)?(?P<day>\d{8})-\d{6}(?:-\d+)?\.sqlite")
"""Backups are counted, since a clock may be set back; earlier versions told them apart by local time alone."""


def backups(folder: Path) -> list[Path]:
    """The backups of a book, the newest first; files of other names are none.

    By their number; those of earlier versions come after them, by the newest step that they hold.
    """
    try:
        found = [p for p in (folder / "backups").iterdir() if BACKUP_NAME.fullmatch(p.name) and p.is_file()]
    except OSError:
        return []
    return sorted(found, key=lambda p: (number := backup_number(p), 0 if number else _newest_step(p), p.stem), reverse=True)


def backup_number(path: Path) -> int:
    """Which backup of its book one is, from 1 on; 0 for one of an earlier version."""
    found = BACKUP_NAME.fullmatch(path.name)
    return int(found["number"] or 0) if found else 0


def _newest_step(path: Path) -> int:
    try:
        with contextlib.closing(sqlite3.connect(address(path, read_only=True), uri=True)) as db:
            return int(db.execute("SELECT coalesce(max(id), 0) FROM steps").fetchone()[0])
    except (sqlite3.Error, *NONSENSE):
        return 0


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
                steps = db.execute("SELECT count(*) FROM steps WHERE id > 0").fetchone()[0]
                at = (db.execute("SELECT at FROM steps WHERE id > 0 ORDER BY id DESC LIMIT 1").fetchone() or [""])[0]
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
        It is not, or links are in it.
    BookDamaged
        Its database is missing, but there are backups of it.
    """
    if not folder.is_dir():
        raise StoreProblem(f"The book {folder.name} is not there. Check the name and the folder.")
    see_own(folder)
    if not (folder / DATABASE).is_file():
        if backups(folder):
            raise damaged(folder, "the database is missing")
        raise StoreProblem(f"{folder.name} is not a book: it holds no {DATABASE}. Choose a folder that ends in {SUFFIX}.")


def see_own(folder: Path) -> None:
    """See that all of a book lies in its folder: what a link leads to would be written, emptied or cleared away elsewhere.

    Raises
    ------
    StoreProblem
        One of its files or folders is a link.
    """
    own = (*(f"{DATABASE}{tail}" for tail in ("", "-wal", "-shm", "-journal")), LOCK, *SUBFOLDERS, AT_DESK)
    places = [folder / name for name in own]
    for sub in (*SUBFOLDERS, AT_DESK):
        with contextlib.suppress(OSError):
            places += [Path(entry.path) for entry in os.scandir(folder / sub) if entry.is_symlink()]
    links = [os.fsencode(p.relative_to(folder)).decode(errors="replace") for p in places if p.is_symlink()]
    if links:
        more = f", and {len(links) - 1} more of its files and folders are" if len(links) > 1 else ""
        raise StoreProblem(
            f"{links[0]} in {shown(folder)} is a link{more}. Nothing was changed: a book keeps all that is its own in its "
            "folder. Put in its place what it leads to, or take it away."
        )


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
