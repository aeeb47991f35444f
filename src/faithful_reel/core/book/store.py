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
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Self

from pydantic import ValidationError

from faithful_reel.core.book.commands import KINDS, BookCommand
from faithful_reel.core.book.condition import APPLICATION_ID, DATABASE, NONSENSE, damaged, lock_file, look_for_book, told
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.book.packing import Packed, adapter, key_of, packed, unpacked_body
from faithful_reel.core.errors import AppError, BookDamaged, BookInUse, StoreProblem
from faithful_reel.core.files import address, shown

HEARD = "cache/heard.sqlite"
"""What the ears made of the book's sound, by content; can be made again."""
STATE_EVERY = 50
SUBFOLDERS = ("recordings", "decoded", "cache", "masters", "backups")
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


@dataclass(frozen=True, slots=True)
class Step:
    """One entry of the journal: what was done, when and by whom.  `ways` counts the steps that were taken from here."""

    id: int
    parent: int
    at: str
    chapter: str
    label: str
    name: str = ""
    ways: int = 0


_STEP = "id, parent, at, chapter, label, name, (SELECT count(*) FROM steps c WHERE c.parent = steps.id)"


class BookStore:
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
        self.folder, self.name = folder, name or user_name()
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
            raise told(folder, problem) from problem
        except NONSENSE as problem:
            self._let_go()
            raise damaged(folder, "it is not as this program writes it") from problem
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
        for folder in (self.folder, *(self.folder / sub for sub in SUBFOLDERS)):
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
        if astray := self._astray():
            raise sqlite3.DatabaseError(astray)
        self.lost_steps = max(0, self._acknowledged - int(self._one("SELECT max(id) FROM steps")[0]))

    def _astray(self) -> str:
        """What is wrong with the order of the journal; empty where a step comes after its parent and the head is there."""
        if self._one("SELECT count(*) FROM steps WHERE id = ?", self.head)[0] != 1:
            return "the step that it stands at is missing"
        wrong = "typeof(parent) != 'integer' OR typeof(next) != 'integer' OR parent >= id OR (next != 0 AND next <= id)"
        if self._one(f"SELECT count(*) FROM steps WHERE id > 0 AND ({wrong})")[0]:
            return "its steps are out of order"
        return ""

    def _all(self, query: str, *values: object) -> list[Any]:
        """All rows of a query; what SQLite can not do is told as what it means."""
        try:
            return self._db.execute(query, values).fetchall()
        except sqlite3.ProgrammingError:
            raise
        except sqlite3.Error as problem:
            raise told(self.folder, problem) from problem

    def _one(self, query: str, *values: object) -> Any:
        """The first row of a query, one that must be there."""
        rows = self._all(query, *values)
        if not rows:
            raise damaged(self.folder, "an entry that every book has is missing")
        return rows[0]

    def integrity(self) -> list[str]:
        """What SQLite finds wrong with the database; empty where it is whole."""
        return [str(row[0]) for row in self._all("PRAGMA quick_check(5)") if row[0] != "ok"]

    def count(self) -> int:
        """How many steps the journal holds, on all branches."""
        return int(self._one("SELECT count(*) FROM steps WHERE id > 0")[0])

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

    @property
    def head(self) -> int:
        """The step that the book stands at."""
        value = self._one("SELECT value FROM meta WHERE key = 'head'")[0]
        try:
            return int(value)
        except NONSENSE as problem:
            raise damaged(self.folder, "the step that it stands at is no number") from problem

    def append(self, command: BookCommand, after: Book, label: str = "") -> int:
        """Write a command behind the head and make it the head, called `label` or as the command is.  On return it is on disk."""
        kind: Any = type(command)
        body = adapter(kind).dump_json(command).decode()
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
            if step % STATE_EVERY == 0:
                self._keep_state(db, step, after)
        self._acknowledge(step)
        return step

    def keep_state(self, book: Book) -> None:
        """Keep the whole book as it stands at the head, so that it opens quickly."""
        with self._writing() as db:
            self._keep_state(db, self.head, book)

    def _keep_state(self, db: sqlite3.Connection, step: int, book: Book) -> None:
        """Keep the book at a step: chapters that did not change since the last time cost nothing."""
        keys = []
        for chapter in book.chapters:
            kept = self._kept.get(chapter.id)
            if kept is None or kept[0] is not chapter:
                kept = chapter, _keep(db, packed(ChapterState, chapter))
                self._kept[chapter.id] = kept
            keys.append(kept[1])
        body = zlib.compress(adapter(Book).dump_json(replace(book, chapters=())), 1)
        db.execute("INSERT OR REPLACE INTO states VALUES (?, ?, ?)", (step, body, " ".join(keys)))

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

    def step(self, step: int) -> Step:
        """One entry of the journal.

        Raises
        ------
        StoreProblem
            There is no such step, or it can not be read.
        """
        rows = self._all(f"SELECT {_STEP} FROM steps WHERE id = ?", step)
        if not rows:
            raise StoreProblem(f"Step {step} is not in the journal of {self.folder.name}.")
        return Step(*rows[0])

    def following(self, step: int) -> int:
        """The step that was last taken from here; 0 where there is none."""
        return int(self._one("SELECT next FROM steps WHERE id = ?", step)[0])

    def history(self) -> list[Step]:
        """The steps that lead to the head, and those that redo would take, in order."""
        rows: dict[int, Step] = {}
        for way in ("parent", "next"):
            query = f"""WITH RECURSIVE line(id, beside) AS (SELECT id, {way} FROM steps WHERE id = ?
                    UNION ALL SELECT s.id, s.{way} FROM line l JOIN steps s ON s.id = l.beside AND l.beside > 0)
                SELECT {_STEP} FROM steps WHERE id > 0 AND id IN (SELECT id FROM line)"""
            rows |= {row[0]: Step(*row) for row in self._all(query, self.head)}
        return [rows[k] for k in sorted(rows)]

    def ways_from(self, step: int) -> list[tuple[Step, Step, int]]:
        """The ways that were taken from a step: (first step, last step, how many) of each, the latest first."""
        found = []
        for (first,) in self._all("SELECT id FROM steps WHERE parent = ? ORDER BY id DESC", step):
            line = self._one(
                """WITH RECURSIVE line(id, next) AS (SELECT id, next FROM steps WHERE id = ?
                    UNION ALL SELECT s.id, s.next FROM line l JOIN steps s ON s.id = l.next AND l.next > 0)
                SELECT max(id), count(*) FROM line""",
                first,
            )
            found.append((self.step(first), self.step(int(line[0])), int(line[1])))
        return found

    def book_at(self, step: int, *, afresh: bool = False) -> Book:
        """Rebuild the book as it was at a step: the nearest state before it, and the commands since.

        `afresh` replays the journal from its beginning.
        """
        try:
            return self._replayed(step, afresh=afresh)
        except StoreProblem:
            raise
        except (AppError, *NONSENSE) as problem:
            raise damaged(self.folder, "its journal can not be replayed") from problem

    def _replayed(self, step: int, *, afresh: bool) -> Book:
        chain: list[tuple[str, str]] = []
        book = Book()
        at = step
        while at > 0:
            kept = [] if afresh else self._all("SELECT body, chapters FROM states WHERE step = ?", at)
            if kept:
                book = self._state(*kept[0])
                break
            entries = self._all("SELECT parent, kind, body FROM steps WHERE id = ?", at)
            if not entries or int(entries[0][0]) >= at:
                raise damaged(self.folder, f"step {at} is missing from its journal")
            chain.append((entries[0][1], entries[0][2]))
            at = int(entries[0][0])
        for kind, body in reversed(chain):
            if kind not in KINDS:
                raise StoreProblem(
                    f"{self.folder.name} holds a step that this version does not know ({kind}). Update to open it."
                )
            command: BookCommand = self._read(KINDS[kind], body)
            book = command.apply(book)
        return book

    def _state(self, body: bytes, keys: str) -> Book:
        book: Book = self._read(Book, unpacked_body(body))
        chapters = []
        for key in keys.split():
            chapter: ChapterState = self.get(ChapterState, key)
            self._kept.setdefault(chapter.id, (chapter, key))
            chapters.append(chapter)
        return replace(book, chapters=tuple(chapters))

    def _read(self, kind: type, body: str | bytes) -> Any:
        try:
            return adapter(kind).validate_json(body)
        except ValidationError as problem:
            raise damaged(self.folder, "an entry of its journal can not be read") from problem

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

    def get(self, kind: type, key: str) -> Any:
        """Read a value kept by `put`."""
        return self._read(kind, self._body(key))

    def word_count(self, key: str) -> int:
        """How many words a kept chapter text has, without making all of them: in its JSON each begins an object."""
        return self._body(key).count(b'{"text":')

    def _body(self, key: str) -> bytes:
        rows = self._all("SELECT body FROM contents WHERE key = ?", key)
        if not rows:
            raise damaged(self.folder, "a part of it is missing")
        body = unpacked_body(rows[0][0])
        if key_of(body) != key:
            raise damaged(self.folder, "a part of it is not as it was kept")
        return body


def _keep(db: sqlite3.Connection, row: Packed) -> str:
    db.execute("INSERT OR IGNORE INTO contents VALUES (?, ?, ?)", (row.key, row.kind, row.body))
    return row.key


class Contents:
    """Reads the large values of a book from another thread than the one that has it open."""

    def __init__(self, folder: Path) -> None:
        self._db = sqlite3.connect(address(folder / DATABASE, read_only=True), uri=True)

    def get(self, kind: type, key: str) -> Any:
        """A value kept by `BookStore.put`.

        Raises
        ------
        BookDamaged
            It is not there, or can not be read.
        """
        try:
            row = self._db.execute("SELECT body FROM contents WHERE key = ?", (key,)).fetchone()
            if row is None:
                raise BookDamaged("A part of the book is missing from its database. Restore it from a backup.")
            body = unpacked_body(row[0])
            if key_of(body) != key:
                raise ValueError("not as it was kept")
            return adapter(kind).validate_json(body)
        except (sqlite3.Error, *NONSENSE) as problem:
            raise BookDamaged("The book's database can not be read. Restore it from a backup.") from problem

    def close(self) -> None:
        """Let go of the database."""
        self._db.close()


def user_name() -> str:
    """Who sits here, for the journal and the lock."""
    try:
        return getpass.getuser()
    except (OSError, KeyError, ImportError):  # no entry for this user, as in a bare container
        return "somebody"
