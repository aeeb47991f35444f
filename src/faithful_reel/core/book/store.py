"""The book on disk: one folder, one SQLite database, the journal of every command."""

from __future__ import annotations

import contextlib
import fcntl
import getpass
import json
import os
import platform
import re
import shutil
import sqlite3
import time
import zlib
from collections.abc import Iterable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any, Self

from pydantic import ValidationError

from faithful_reel.core.book.commands import BookCommand
from faithful_reel.core.book.condition import APPLICATION_ID, AT_DESK, SUBFOLDERS, damaged, lock_file, look_for_book
from faithful_reel.core.book.journal import Journal, told
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.book.packing import NONSENSE, Packed, adapter, packed
from faithful_reel.core.errors import BookDamaged, BookInUse, EditRefused, StoreProblem
from faithful_reel.core.files import DATABASE, address, shown

HEARD = "cache/heard.sqlite"
"""What the ears made of the book's sound, by content; can be made again."""
STATE_EVERY = 50
_LEFTOVER = re.compile(r"\.[0-9a-f]{32}\.(?:part.*|sqlite)|.*\.part[0-9a-f]{32}|\.master-.*")
"""What an interrupted run leaves: nobody else writes here while we hold the lock."""
_MIGRATIONS: tuple[str, ...] = (
    """
    CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
    CREATE TABLE steps (
        id INTEGER PRIMARY KEY, parent INTEGER NOT NULL, next INTEGER NOT NULL DEFAULT 0, at TEXT NOT NULL,
        chapter TEXT NOT NULL, label TEXT NOT NULL, kind TEXT NOT NULL, body TEXT NOT NULL
    );
    CREATE TABLE contents (key TEXT PRIMARY KEY, kind TEXT NOT NULL, body BLOB NOT NULL) WITHOUT ROWID;
    CREATE TABLE snapshots (step INTEGER PRIMARY KEY, body BLOB NOT NULL);
    INSERT INTO steps (id, parent, at, chapter, label, kind, body) VALUES (0, -1, '', '', 'The book was made', '', '');
    INSERT INTO meta VALUES ('head', '0');
    """,
    # 2: who took a step; states of the book whose chapters stand apart in `contents`, so that keeping one costs no more
    # than what changed.  The old snapshots were a shortcut only: the journal makes the states anew.
    """
    ALTER TABLE steps ADD COLUMN name TEXT NOT NULL DEFAULT '';
    CREATE INDEX steps_by_parent ON steps (parent);
    DROP TABLE snapshots;
    CREATE TABLE states (step INTEGER PRIMARY KEY, body BLOB NOT NULL, chapters TEXT NOT NULL);
    """,
)


class BookStore(Journal):
    """One open book.  All calls from one thread.

    Raises
    ------
    StoreProblem
        From any call: the folder is missing or read-only, the disk is full, the database is newer than this program,
        or somebody else has the book open.
    BookDamaged
        The database is damaged; a backup may be restored.
    """

    def __init__(self, folder: Path, *, create: bool = False, name: str = "") -> None:
        self.folder, self.name, self.unread = folder, name or user_name(), []
        self._kept: dict[str, tuple[ChapterState, str]] = {}
        if create:
            if folder.exists() and any(folder.iterdir()):
                raise StoreProblem(f"{folder.name} is there already. Choose another name for the new book.")
            try:
                for sub in SUBFOLDERS:
                    (folder / sub).mkdir(parents=True, exist_ok=True)
            except OSError as problem:
                raise StoreProblem(
                    f"The folder {folder.name} can not be made here ({problem.strerror}). Choose another place."
                ) from problem
        else:
            look_for_book(folder)
            if not os.access(folder, os.W_OK | os.X_OK) or not os.access(folder / DATABASE, os.W_OK):
                raise StoreProblem(f"{shown(folder)} can not be written to: it is read-only. Copy it to a folder of your own.")
        self.crashed = False
        self.lost_steps = 0
        self._lock = self._locked()
        try:
            self._db = sqlite3.connect(folder / DATABASE, isolation_level=None)
        except sqlite3.Error as problem:
            self._unlock()
            raise StoreProblem(f"The database of {folder.name} can not be opened ({problem}). Check the disk.") from problem
        try:
            self._prepare(create=create)
        except sqlite3.Error as problem:
            self._let_go()
            raise told(folder, problem, self._damaged) from problem
        except NONSENSE as problem:
            self._let_go()
            raise self._damaged("it is not as this program writes it") from problem
        except StoreProblem:
            self._let_go()
            raise
        self._sweep()

    def _locked(self) -> int:
        handle = lock_file(self.folder)
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as problem:
            holder = os.read(handle, 400).decode(errors="replace").partition("\n")[0].strip() or "another program"
            os.close(handle)
            raise BookInUse(f"{self.folder.name} is open already: {holder}. Close it there first.") from problem
        left = os.read(handle, 400).decode(errors="replace")
        self.crashed = bool(left)  # who held it let go without closing: the process was killed
        last = re.search(r"\nstep (\d{1,15})\Z", left)
        self._acknowledged = int(last[1]) if last else 0
        os.ftruncate(handle, 0)
        who = f"by {self.name} on {platform.node()}, process {os.getpid()}, since {time.strftime('%Y-%m-%d %H:%M')}"
        self._who = who.encode("utf-8", "replace")[:300]
        os.pwrite(handle, self._who, 0)
        return handle

    def _acknowledge(self, step: int) -> None:
        """Note beside the database which step was saved last, so that a write-ahead log that is gone is noticed."""
        with contextlib.suppress(OSError):
            os.pwrite(self._lock, f"\nstep {step}".encode(), len(self._who))

    def _sweep(self) -> None:
        """Clear away what an interrupted run left half-written."""
        for folder in (self.folder, *(self.folder / sub for sub in (*SUBFOLDERS, AT_DESK))):
            with contextlib.suppress(OSError):
                for path in folder.iterdir():
                    if _LEFTOVER.fullmatch(path.name):
                        with contextlib.suppress(OSError):
                            shutil.rmtree(path) if path.is_dir() and not path.is_symlink() else path.unlink()

    def _unlock(self) -> None:
        with contextlib.suppress(OSError):
            os.ftruncate(self._lock, 0)
        os.close(self._lock)
        self._lock = -1

    def _let_go(self) -> None:
        self._db.close()
        self._unlock()

    def _prepare(self, *, create: bool) -> None:
        db = self._db
        version = int(db.execute("PRAGMA user_version").fetchone()[0])
        if version == 0 and not create:
            raise sqlite3.DatabaseError("it is empty")
        if version == 0:
            db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        elif int(db.execute("PRAGMA application_id").fetchone()[0]) != APPLICATION_ID:
            raise StoreProblem(f"The database of {self.folder.name} belongs to another program. It was not touched.")
        if version > len(_MIGRATIONS):
            raise StoreProblem(f"{self.folder.name} was made by a newer version of this program. Update to open it.")
        db.execute("PRAGMA journal_mode = WAL")
        db.execute("PRAGMA synchronous = FULL")
        if problems := self.integrity():
            raise sqlite3.DatabaseError(problems[0])
        for number in range(version, len(_MIGRATIONS)):
            db.executescript(f"BEGIN IMMEDIATE;{_MIGRATIONS[number]}PRAGMA user_version = {number + 1};COMMIT;")
        if astray := self.astray():
            raise sqlite3.DatabaseError(astray)
        self.lost_steps = max(0, self._acknowledged - int(self._one("SELECT max(id) FROM steps")[0]))

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Fold the write-ahead log into the database and let go of the book; harmless where that was done already."""
        if self._lock < 0:
            return
        with contextlib.suppress(sqlite3.Error):
            self._db.execute("PRAGMA busy_timeout = 200")  # a job may still read: then the log is folded in the next time
            self._db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        self._let_go()

    @contextlib.contextmanager
    def _writing(self) -> Iterator[sqlite3.Connection]:
        try:
            self._db.execute("BEGIN IMMEDIATE")
            try:
                yield self._db
                self._db.execute("COMMIT")
            except BaseException:
                with contextlib.suppress(sqlite3.Error):
                    self._db.execute("ROLLBACK")
                raise
        except (sqlite3.Error, BookDamaged) as problem:
            raise StoreProblem(
                f"The step could not be saved in {self.folder.name} ({problem}). Nothing was changed; make room and try again."
            ) from problem

    # --- the journal ----------------------------------------------------------------------------------------------

    def append(self, command: BookCommand, after: Book, label: str = "") -> int:
        """Write a command behind the head and make it the head, called `label` or as the command is.  On return it is on disk."""
        kind: Any = type(command)
        body = _readable(kind, command)
        with self._writing() as db:
            parent = self.head
            at = time.strftime("%Y-%m-%dT%H:%M:%S")
            row = (parent, at, command.chapter, label or command.label, type(command).__name__, body, self.name)
            step = int(
                db.execute(
                    "INSERT INTO steps (parent, at, chapter, label, kind, body, name) VALUES (?, ?, ?, ?, ?, ?, ?)", row
                ).lastrowid
                or 0
            )
            db.execute("UPDATE steps SET next = ? WHERE id = ?", (step, parent))
            db.execute("UPDATE meta SET value = ? WHERE key = 'head'", (str(step),))
            kept = self._keep_state(db, step, after) if step % STATE_EVERY == 0 else {}
        self._kept |= kept
        self._acknowledge(step)
        return step

    def keep_state(self, book: Book) -> None:
        """Keep the whole book as it stands at the head, so that it opens quickly."""
        with self._writing() as db:
            kept = self._keep_state(db, self.head, book)
        self._kept |= kept

    def mend_states(self, book: Book) -> None:
        """Exchange kept states that could not be read for that of the book as it stands at the head."""
        if self.unread:
            with contextlib.suppress(StoreProblem):  # they are a shortcut only
                with self._writing() as db:
                    db.executemany("DELETE FROM states WHERE step = ?", [(step,) for step in self.unread])
                self.keep_state(book)
            self.unread = []

    def _keep_state(self, db: sqlite3.Connection, step: int, book: Book) -> dict[str, tuple[ChapterState, str]]:
        """Keep the book at a step: chapters that did not change since the last time cost nothing.

        Gives the chapters that were kept, by their ids, with their keys: they are kept once this is committed, not sooner.
        """
        now: dict[str, tuple[ChapterState, str]] = {}
        for chapter in book.chapters:
            kept = self._kept.get(chapter.id)
            now[chapter.id] = kept if kept and kept[0] is chapter else (chapter, _keep(db, packed(ChapterState, chapter)))
        body = zlib.compress(adapter(Book).dump_json(replace(book, chapters=())), 1)
        db.execute("INSERT OR REPLACE INTO states VALUES (?, ?, ?)", (step, body, " ".join(key for _, key in now.values())))
        return now

    def _chapter(self, key: str) -> ChapterState:
        chapter = super()._chapter(key)
        self._kept.setdefault(chapter.id, (chapter, key))
        return chapter

    def _damaged(self, why: str) -> BookDamaged:
        return damaged(self.folder, why)

    def go_to(self, step: int) -> None:
        """Make another step the head; on return that is on disk.  Redo leads back to it from all steps before it."""
        with self._writing() as db:
            head = self.head
            db.execute("UPDATE meta SET value = ? WHERE key = 'head'", (str(step),))
            if step not in (self.step(head).parent, self.following(head)):
                db.execute(
                    """WITH RECURSIVE up(id, parent) AS (SELECT id, parent FROM steps WHERE id = ?
                        UNION ALL SELECT s.id, s.parent FROM up JOIN steps s ON s.id = up.parent AND s.id < up.id)
                    UPDATE steps SET next = up.id FROM up WHERE steps.id = up.parent AND steps.next != up.id""",
                    (step,),
                )

    # --- notes ----------------------------------------------------------------------------------------------------

    def note(self, key: str, value: Any) -> None:
        """Keep a small fact that is no step of the work, as JSON; on return it is on disk."""
        with self._writing() as db:
            db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (f"note {key}", json.dumps(value)))

    def noted(self, key: str) -> Any:
        """What was kept by `note`; None where there is nothing."""
        rows = self._all("SELECT value FROM meta WHERE key = ?", f"note {key}")
        try:
            return json.loads(rows[0][0]) if rows else None
        except NONSENSE as problem:
            raise damaged(self.folder, "a note can not be read") from problem

    # --- contents -------------------------------------------------------------------------------------------------

    def put(self, kind: type, value: Any) -> str:
        """Keep a large value by its hash; on return it is on disk."""
        row = packed(kind, value)
        self.put_all([row])
        return row.key

    def put_all(self, rows: Iterable[Packed]) -> None:
        """Keep values that were packed elsewhere; on return they are on disk, all or none."""
        with self._writing() as db:
            for row in rows:
                _keep(db, row)


def _readable(kind: Any, command: BookCommand) -> str:
    """A command as JSON, read back: what can not be read would make a book that can not be opened."""
    body: bytes = adapter(kind).dump_json(command)
    try:
        back = adapter(kind).validate_json(body)
    except ValidationError as problem:
        raise EditRefused("This step holds a value that is no number, so it was not taken.") from problem
    if back != command:
        raise EditRefused("This step would not be read as it was written, so it was not taken.")
    return body.decode()


def _keep(db: sqlite3.Connection, row: Packed) -> str:
    db.execute("INSERT OR IGNORE INTO contents VALUES (?, ?, ?)", (row.key, row.kind, row.body))
    return row.key


class Contents(Journal):
    """Reads a book's large values from another thread than the one that has it open."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder, sqlite3.connect(address(folder / DATABASE, read_only=True), uri=True))

    def close(self) -> None:
        """Let go of the database."""
        self._db.close()


def user_name() -> str:
    """Who sits here, for the journal and the lock."""
    try:
        return getpass.getuser()
    except (OSError, KeyError, ImportError):  # no entry for this user, as in a bare container
        return "somebody"
