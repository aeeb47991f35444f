"""The book on disk: one folder, one SQLite database, the journal of every command."""

from __future__ import annotations

import contextlib
import fcntl
import getpass
import hashlib
import json
import os
import platform
import re
import shutil
import sqlite3
import time
import zlib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any, Self

from pydantic import TypeAdapter, ValidationError

from faithful_reel.core.book.commands import KINDS, BookCommand
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.errors import AppError, BookDamaged, StoreProblem
from faithful_reel.core.files import address, shown
from faithful_reel.core.reel.reel import Reel

APPLICATION_ID = 0x4652454C  # "FREL"
SUFFIX = ".reelbook"
DATABASE = "book.sqlite"
HEARD = "cache/heard.sqlite"
"""What the ears made of the book's sound, by content; can be made again."""
STATE_EVERY = 50
MOST_HELD = 400
"""Books that undo and redo find in memory; older ones are read from disk."""
MOST_UNPACKED = 1 << 29
"""A larger value is no content of a book."""
SUBFOLDERS = ("recordings", "decoded", "cache", "masters", "backups")
_LEFTOVER = re.compile(r"\.[0-9a-f]{32}\.(?:part.*|sqlite)|.*\.part[0-9a-f]{32}|\.master-.*")
"""What an interrupted run leaves: nobody else writes here while we hold the lock."""
_BUSY = {sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED, sqlite3.SQLITE_PROTOCOL}
_CLOSED_TO_US = {sqlite3.SQLITE_READONLY, sqlite3.SQLITE_PERM, sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_AUTH}
_DISK = {sqlite3.SQLITE_IOERR, sqlite3.SQLITE_FULL, sqlite3.SQLITE_NOLFS, sqlite3.SQLITE_NOMEM}
_NONSENSE = (ValueError, TypeError, LookupError, ArithmeticError, AttributeError, RecursionError, AssertionError)
"""What reading or replaying a journal raises when it is not as we wrote it."""
BACKUP_NAME = re.compile(r"book-(\d{8}-\d{6})(?:-\d+)?\.sqlite")

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


@lru_cache(maxsize=64)
def _adapter(kind: Any) -> TypeAdapter[Any]:
    return TypeAdapter(kind)


def ready(kind: type) -> None:
    """Make what writes a kind of command or value before it is needed: beside the work, since it takes 10 ms."""
    _adapter(kind)


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


@dataclass(frozen=True, slots=True)
class Packed:
    """A large value ready to be kept: its key and its JSON, packed."""

    key: str
    kind: str
    body: bytes


def packed(kind: type, value: Any) -> Packed:
    """Make a value ready to be kept; needs no database, so that it can be done beside the work."""
    raw = _adapter(kind).dump_json(value)
    return Packed(_key(raw), kind.__name__, zlib.compress(raw, 1))


def _key(raw: bytes) -> str:
    return hashlib.sha256(raw).hexdigest()[:32]


class Packing:
    """Stands for `BookStore.put` where there is no store: gives the keys and collects what is to be kept."""

    def __init__(self) -> None:
        self.rows: list[Packed] = []

    def __call__(self, kind: type, value: Any) -> str:
        """The value's key."""
        row = packed(kind, value)
        self.rows.append(row)
        return row.key


def told(folder: Path, problem: sqlite3.Error) -> StoreProblem:
    """What an error of SQLite means for the user: a book that must wait, one that can only be read, a disk, or damage."""
    full = getattr(problem, "sqlite_errorcode", 0) or 0
    code = full & 0xFF
    name = shown(folder)
    if code in _BUSY:
        return StoreProblem(f"{name} is in use by another program just now. Wait a moment and try again.")
    if code in _CLOSED_TO_US:
        return StoreProblem(f"{name} can not be written to: it is read-only ({problem}). Copy it to a folder of your own.")
    if code in _DISK and full != sqlite3.SQLITE_IOERR_SHORT_READ:
        return StoreProblem(f"The disk of {name} does not answer ({problem}). Check it and make room, then try again.")
    return damaged(folder, str(problem))


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


def backups(folder: Path) -> list[Path]:
    """The backups of a book, the newest first; files of other names are none."""
    try:
        found = [p for p in (folder / "backups").iterdir() if BACKUP_NAME.fullmatch(p.name) and p.is_file()]
    except OSError:
        return []
    return sorted(found, key=lambda p: p.stem, reverse=True)


def whole_backups(folder: Path, most: int = 3) -> list[Backup]:
    """The newest backups that are whole, each looked at."""
    found = []
    for path in backups(folder)[: 2 * most]:
        try:
            with contextlib.closing(sqlite3.connect(address(path, read_only=True), uri=True)) as db:
                if db.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok":
                    continue
                if int(db.execute("PRAGMA application_id").fetchone()[0]) != APPLICATION_ID:
                    continue
                steps, at = db.execute("SELECT count(*), coalesce(max(at), '') FROM steps WHERE id > 0").fetchone()
        except (sqlite3.Error, *_NONSENSE):
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
    StoreProblem
        Somebody has it open, or the folder can not be written to.
    """
    try:
        handle = os.open(folder / "book.lock", os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW, 0o644)
    except OSError as problem:
        raise StoreProblem(f"{shown(folder)} can not be written to ({problem.strerror}).") from problem
    try:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as problem:
            raise StoreProblem(f"{shown(folder)} is open in another window. Close it there first.") from problem
        yield
    finally:
        os.close(handle)


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
        except _NONSENSE as problem:
            self._let_go()
            raise damaged(folder, "it is not as this program writes it") from problem
        except StoreProblem:
            self._let_go()
            raise
        self._sweep()

    def _locked(self) -> int:
        try:
            handle = os.open(self.folder / "book.lock", os.O_RDWR | os.O_CREAT, 0o644)
        except OSError as problem:
            raise StoreProblem(
                f"{self.folder.name} can not be written to ({problem.strerror}). Copy it to a folder of your own."
            ) from problem
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as problem:
            holder = os.read(handle, 400).decode(errors="replace").partition("\n")[0].strip() or "another program"
            os.close(handle)
            raise StoreProblem(f"{self.folder.name} is open already: {holder}. Close it there first.") from problem
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
        except _NONSENSE as problem:
            raise damaged(self.folder, "the step that it stands at is no number") from problem

    def append(self, command: BookCommand, after: Book) -> int:
        """Write a command behind the head and make it the head.  On return it is on disk."""
        kind: Any = type(command)
        body = _adapter(kind).dump_json(command).decode()
        with self._writing() as db:
            parent = self.head
            at = time.strftime("%Y-%m-%dT%H:%M:%S")
            row = (parent, at, command.chapter, command.label, type(command).__name__, body, self.name)
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
        body = zlib.compress(_adapter(Book).dump_json(replace(book, chapters=())), 1)
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
        """One entry of the journal."""
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
        except (AppError, *_NONSENSE) as problem:
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
        book: Book = self._read(Book, _unpacked(body))
        chapters = []
        for key in keys.split():
            chapter: ChapterState = self.get(ChapterState, key)
            self._kept.setdefault(chapter.id, (chapter, key))
            chapters.append(chapter)
        return replace(book, chapters=tuple(chapters))

    def _read(self, kind: type, body: str | bytes) -> Any:
        try:
            return _adapter(kind).validate_json(body)
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
        except _NONSENSE as problem:
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
        body = _unpacked(rows[0][0])
        if _key(body) != key:
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
        """A value kept by `BookStore.put`."""
        try:
            row = self._db.execute("SELECT body FROM contents WHERE key = ?", (key,)).fetchone()
            if row is None:
                raise BookDamaged("A part of the book is missing from its database. Restore it from a backup.")
            body = _unpacked(row[0])
            if _key(body) != key:
                raise ValueError("not as it was kept")
            return _adapter(kind).validate_json(body)
        except (sqlite3.Error, *_NONSENSE) as problem:
            raise BookDamaged("The book's database can not be read. Restore it from a backup.") from problem

    def close(self) -> None:
        """Let go of the database."""
        self._db.close()


class Session:
    """The open book and its journal; alone holds the current book.  What a command changes shows only when it is on disk."""

    def __init__(self, store: BookStore) -> None:
        self.store = store
        self._states: dict[int, Book] = {}
        self._listeners: list[Callable[[Book, Book], None]] = []
        self._opened_at = store.head
        self.book = store.book_at(store.head)
        self._states[store.head] = self.book

    def listen(self, listener: Callable[[Book, Book], None]) -> None:
        """Call `listener(before, after)` after every change."""
        self._listeners.append(listener)

    def do(self, command: BookCommand) -> None:
        """Carry out a command: apply, write, show.  If it raises, nothing has changed."""
        after = command.apply(self.book)
        step = self.store.append(command, after)
        self._hold(step, after)
        self._become(after)

    def _hold(self, step: int, book: Book) -> None:
        self._states[step] = book
        if len(self._states) > MOST_HELD:
            self._states.pop(next(iter(self._states)))

    def can_undo(self) -> str:
        """What undo would take back; empty where there is nothing."""
        head = self.store.head
        return self.store.step(head).label if head > 0 else ""

    def can_redo(self) -> str:
        """What redo would do again; empty where there is nothing."""
        following = self.store.following(self.store.head)
        return self.store.step(following).label if following else ""

    def undo(self) -> str:
        """Go back one step; its label, empty where there is none."""
        label = self.can_undo()
        if label:
            self.go_to(self.store.step(self.store.head).parent)
        return label

    def redo(self) -> str:
        """Go forward one step; its label, empty where there is none."""
        label = self.can_redo()
        if label:
            self.go_to(self.store.following(self.store.head))
        return label

    def go_to(self, step: int) -> None:
        """Stand at any step of the journal."""
        book = self._states.get(step)
        if book is None:
            book = self.store.book_at(step)
            self._hold(step, book)
        self.store.go_to(step)
        self._become(book)

    def close(self) -> None:
        """Keep the book's state where it moved since it was opened, and let go of it."""
        if self.store.head != self._opened_at:
            with contextlib.suppress(StoreProblem):  # a shortcut only: every step is on disk already
                self.store.keep_state(self.book)
        self.store.close()

    def _become(self, after: Book) -> None:
        before, self.book = self.book, after
        for listener in self._listeners:
            listener(before, after)


def _unpacked(body: bytes) -> bytes:
    try:
        unpacking = zlib.decompressobj()
        raw = unpacking.decompress(body, MOST_UNPACKED)
        if not unpacking.eof:
            raise ValueError("it does not end")
    except (zlib.error, *_NONSENSE) as problem:
        raise BookDamaged("A part of the book's database is damaged. Restore it from a backup.") from problem
    return raw


def user_name() -> str:
    """Who sits here, for the journal and the lock."""
    try:
        return getpass.getuser()
    except (OSError, KeyError, ImportError):  # no entry for this user, as in a bare container
        return "somebody"


def reel_key(reel: Reel) -> str:
    """A short hash of a reel, to tell whether something was made of the reel as it stands."""
    return hashlib.sha256(repr(json_of(Reel, reel)).encode()).hexdigest()[:16]


def json_of(kind: type, value: Any) -> Any:
    """A value as plain JSON data, for reports."""
    return json.loads(_adapter(kind).dump_json(value))
