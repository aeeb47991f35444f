"""The book on disk: one folder, one SQLite database, the journal of every command."""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import json
import os
import sqlite3
import time
import uuid
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any, Self

import numpy as np
import soundfile
from pydantic import TypeAdapter, ValidationError

from faithful_reel.core.audio.files import audio_info, mono_blocks
from faithful_reel.core.audio.overview import Overview, overview_of
from faithful_reel.core.audio.roomtone import find_room_tone
from faithful_reel.core.book.commands import KINDS, BookCommand
from faithful_reel.core.book.model import Book, Recording
from faithful_reel.core.errors import StoreProblem
from faithful_reel.core.jobs import Unwatched, Watch
from faithful_reel.core.measure.levels import Meter
from faithful_reel.core.reel.commands import ToneSource
from faithful_reel.core.units import Signal

APPLICATION_ID = 0x4652454C  # "FREL"
SUFFIX = ".reelbook"
SNAPSHOT_EVERY = 100
TONE_SEARCH_S = 60

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
)


@lru_cache(maxsize=64)
def _adapter(kind: Any) -> TypeAdapter[Any]:
    return TypeAdapter(kind)


@dataclass(frozen=True, slots=True)
class Step:
    """One entry of the journal."""

    id: int
    parent: int
    at: str
    chapter: str
    label: str


class BookStore:
    """One open book.  All calls from one thread, except `path_of`, which only names files.

    Raises
    ------
    StoreProblem
        From any call: the folder is missing or read-only, the disk is full, the database is damaged or newer than
        this program, or somebody else has the book open.
    """

    def __init__(self, folder: Path, *, create: bool = False) -> None:
        self.folder = folder
        if create:
            if folder.exists() and any(folder.iterdir()):
                raise StoreProblem(f"{folder.name} is there already. Choose another name for the new book.")
            try:
                for sub in ("recordings", "decoded", "cache", "masters"):
                    (folder / sub).mkdir(parents=True, exist_ok=True)
            except OSError as problem:
                raise StoreProblem(
                    f"The folder {folder.name} can not be made here ({problem.strerror}). Choose another place."
                ) from problem
        elif not (folder / "book.sqlite").is_file():
            raise StoreProblem(f"{folder.name} is not a book: it holds no book.sqlite. Choose a folder that ends in {SUFFIX}.")
        self._lock = self._locked()
        try:
            self._db = sqlite3.connect(folder / "book.sqlite", isolation_level=None)
            self._prepare()
        except sqlite3.DatabaseError as problem:
            self._unlock()
            raise StoreProblem(
                f"The database of {folder.name} can not be opened ({problem}). Restore it from a copy."
            ) from problem
        except StoreProblem:
            self._db.close()
            self._unlock()
            raise

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
            holder = os.read(handle, 200).decode(errors="replace").strip() or "another program"
            os.close(handle)
            raise StoreProblem(f"{self.folder.name} is open already ({holder}). Close it there first.") from problem
        os.ftruncate(handle, 0)
        os.pwrite(handle, f"process {os.getpid()}".encode(), 0)
        return handle

    def _unlock(self) -> None:
        os.ftruncate(self._lock, 0)
        os.close(self._lock)

    def _prepare(self) -> None:
        db = self._db
        version = int(db.execute("PRAGMA user_version").fetchone()[0])
        if version == 0:
            db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        elif int(db.execute("PRAGMA application_id").fetchone()[0]) != APPLICATION_ID:
            raise StoreProblem(f"The database of {self.folder.name} belongs to another program. It was not touched.")
        if version > len(_MIGRATIONS):
            raise StoreProblem(f"{self.folder.name} was made by a newer version of this program. Update to open it.")
        db.execute("PRAGMA journal_mode = WAL")
        db.execute("PRAGMA synchronous = FULL")
        for number in range(version, len(_MIGRATIONS)):
            db.executescript(f"BEGIN IMMEDIATE;{_MIGRATIONS[number]}PRAGMA user_version = {number + 1};COMMIT;")

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Fold the write-ahead log into the database and let go of the book."""
        with contextlib.suppress(sqlite3.Error):
            self._db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        self._db.close()
        self._unlock()

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
        except sqlite3.Error as problem:
            raise StoreProblem(
                f"The step could not be saved in {self.folder.name} ({problem}). Nothing was changed; make room and try again."
            ) from problem

    # --- the journal ----------------------------------------------------------------------------------------------

    @property
    def head(self) -> int:
        """The step that the book stands at."""
        return int(self._db.execute("SELECT value FROM meta WHERE key = 'head'").fetchone()[0])

    def append(self, command: BookCommand, after: Book) -> int:
        """Write a command behind the head and make it the head.  On return it is on disk."""
        kind: Any = type(command)
        body = _adapter(kind).dump_json(command).decode()
        with self._writing() as db:
            parent = self.head
            at = time.strftime("%Y-%m-%dT%H:%M:%S")
            row = (parent, at, command.chapter, command.label, type(command).__name__, body)
            step = int(
                db.execute("INSERT INTO steps (parent, at, chapter, label, kind, body) VALUES (?, ?, ?, ?, ?, ?)", row).lastrowid
                or 0
            )
            db.execute("UPDATE steps SET next = ? WHERE id = ?", (step, parent))
            db.execute("UPDATE meta SET value = ? WHERE key = 'head'", (str(step),))
            if step % SNAPSHOT_EVERY == 0:
                db.execute("INSERT INTO snapshots VALUES (?, ?)", (step, zlib.compress(_adapter(Book).dump_json(after))))
        return step

    def go_to(self, step: int) -> None:
        """Make another step the head; on return that is on disk."""
        with self._writing() as db:
            db.execute("UPDATE meta SET value = ? WHERE key = 'head'", (str(step),))

    def step(self, step: int) -> Step:
        """One entry of the journal."""
        row = self._db.execute("SELECT id, parent, at, chapter, label FROM steps WHERE id = ?", (step,)).fetchone()
        if row is None:
            raise StoreProblem(f"Step {step} is not in the journal of {self.folder.name}.")
        return Step(*row)

    def following(self, step: int) -> int:
        """The step that was last taken from here; 0 where there is none."""
        return int(self._db.execute("SELECT next FROM steps WHERE id = ?", (step,)).fetchone()[0])

    def history(self) -> list[Step]:
        """The steps that lead to the head, and those that redo would take, in order."""
        steps: list[Step] = []
        at = self.head
        while at > 0:
            entry = self.step(at)
            steps.append(entry)
            at = entry.parent
        steps.reverse()
        at = self.following(self.head)
        while at:
            steps.append(self.step(at))
            at = self.following(at)
        return steps

    def book_at(self, step: int) -> Book:
        """Rebuild the book as it was at a step: the nearest snapshot before it, and the commands since."""
        chain: list[tuple[str, str]] = []
        book = Book()
        at = step
        while at > 0:
            row = self._db.execute("SELECT body FROM snapshots WHERE step = ?", (at,)).fetchone()
            if row is not None:
                book = self._read(Book, zlib.decompress(row[0]))
                break
            parent, kind, body = self._db.execute("SELECT parent, kind, body FROM steps WHERE id = ?", (at,)).fetchone()
            chain.append((kind, body))
            at = int(parent)
        for kind, body in reversed(chain):
            if kind not in KINDS:
                raise StoreProblem(
                    f"{self.folder.name} holds a step that this version does not know ({kind}). Update to open it."
                )
            command: BookCommand = self._read(KINDS[kind], body)
            book = command.apply(book)
        return book

    def _read(self, kind: type, body: str | bytes) -> Any:
        try:
            return _adapter(kind).validate_json(body)
        except ValidationError as problem:
            raise StoreProblem(f"The journal of {self.folder.name} is damaged. Restore it from a copy.") from problem

    # --- contents -------------------------------------------------------------------------------------------------

    def put(self, kind: type, value: Any) -> str:
        """Keep a large value by its hash; on return it is on disk."""
        raw = _adapter(kind).dump_json(value)
        key = hashlib.sha256(raw).hexdigest()[:32]
        with self._writing() as db:
            db.execute("INSERT OR IGNORE INTO contents VALUES (?, ?, ?)", (key, kind.__name__, zlib.compress(raw)))
        return key

    def get(self, kind: type, key: str) -> Any:
        """Read a value kept by `put`."""
        row = self._db.execute("SELECT body FROM contents WHERE key = ?", (key,)).fetchone()
        if row is None:
            raise StoreProblem(f"A part of {self.folder.name} is missing from its database. Restore it from a copy.")
        return self._read(kind, zlib.decompress(row[0]))

    # --- recordings -----------------------------------------------------------------------------------------------

    def path_of(self, recording: Recording, rate: int) -> Path:
        """The file to read a recording's sound from: as received, or decoded at the book's rate."""
        received = self.folder / "recordings" / f"{recording.hash}{recording.suffix}"
        if recording.rate == rate and recording.suffix in (".wav", ".flac"):
            return received
        return self.folder / "decoded" / f"{recording.hash}.flac"

    def decode(self, recording: Recording, rate: int) -> None:
        """Make the decoded copy again where it is needed and missing."""
        path = self.path_of(recording, rate)
        if path.is_file():
            return
        received = self.folder / "recordings" / f"{recording.hash}{recording.suffix}"
        beside = path.with_suffix(f".part{os.getpid()}")
        with soundfile.SoundFile(str(beside), "w", rate, 1, "PCM_24", format="FLAC") as file:
            for x in mono_blocks(received, rate):
                file.write(x)
        beside.replace(path)

    def overview(self, recording: Recording, rate: int) -> Overview:
        """The overview pyramid, from the cache or made anew."""
        path = self.folder / "cache" / f"{recording.hash}.npz"
        if path.is_file():
            with contextlib.suppress(OSError, ValueError, KeyError), np.load(path) as file:
                return Overview(int(file["length"]), tuple(file[f"level{k}"] for k in range(len(file.files) - 1)))
        made = overview_of(mono_blocks(self.path_of(recording, rate), rate))
        beside = path.with_suffix(f".part{os.getpid()}.npz")
        levels: dict[str, Any] = {f"level{k}": level for k, level in enumerate(made.levels)}
        np.savez(beside, length=made.length, **levels)
        beside.replace(path)
        return made


def received(folder: Path, source: Path, rate: int, watch: Watch | None = None) -> Recording:
    """Copy a recording into the book's folder, verify the copy by its hash, make it read-only, and look at its health.

    Needs no database, so that it can run beside the work; the book learns of it by `AddRecording`.

    Raises
    ------
    FileProblem, StoreProblem
        The source can not be read, or the copy could not be made; nothing is left behind.
    """
    watch = watch or Unwatched()
    info = audio_info(source)
    suffix = source.suffix.lower()
    beside = folder / "recordings" / f".{uuid.uuid4().hex}.part{suffix}"
    try:
        digest = hashlib.sha256()
        with source.open("rb") as file, beside.open("wb") as out:
            while part := file.read(1 << 20):
                digest.update(part)
                out.write(part)
                watch.tick(0.1, "copying")
            out.flush()
            os.fsync(out.fileno())
        target = folder / "recordings" / f"{digest.hexdigest()}{suffix}"
        if _hash_of(beside) != digest.hexdigest():
            raise StoreProblem(f"The copy of {source.name} differs from it. Check the disk and try again.")
        meter = Meter(rate)
        length = 0
        start: list[Signal] = []
        for x in mono_blocks(beside, rate):
            meter.feed(x)
            if length < TONE_SEARCH_S * rate:
                start.append(x)
            length += len(x)
            watch.tick(0.2 + 0.7 * min(1.0, length / max(1, info.frames * rate / info.rate)), "measuring")
        figures = meter.figures()
        tone = find_room_tone(np.concatenate(start), rate)
        beside.chmod(0o444)
        beside.replace(target)
    except OSError as problem:
        raise StoreProblem(
            f"{source.name} could not be copied into the book ({problem.strerror}). Make room and try again."
        ) from problem
    finally:
        beside.unlink(missing_ok=True)
    name = digest.hexdigest()
    return Recording(
        hash=name,
        name=source.name,
        suffix=suffix,
        rate=info.rate,
        channels=info.channels,
        length=length,
        peak_db=round(figures.peak_db, 2),
        noise_floor_db=round(figures.noise_floor_db, 2),
        rms_db=round(figures.rms_db, 2),
        tone=ToneSource(name, tone.start, tone.stop) if tone else None,
    )


def _hash_of(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


class Session:
    """The open book and its journal; alone holds the current book.  What a command changes shows only when it is on disk."""

    def __init__(self, store: BookStore) -> None:
        self.store = store
        self._states: dict[int, Book] = {}
        self._listeners: list[Callable[[Book, Book], None]] = []
        self.book = store.book_at(store.head)
        self._states[store.head] = self.book

    def listen(self, listener: Callable[[Book, Book], None]) -> None:
        """Call `listener(before, after)` after every change."""
        self._listeners.append(listener)

    def do(self, command: BookCommand) -> None:
        """Carry out a command: apply, write, show.  If it raises, nothing has changed."""
        after = command.apply(self.book)
        step = self.store.append(command, after)
        self._states[step] = after
        self._become(after)

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
            book = self._states[step] = self.store.book_at(step)
        self.store.go_to(step)
        self._become(book)

    def _become(self, after: Book) -> None:
        before, self.book = self.book, after
        for listener in self._listeners:
            listener(before, after)


def json_of(kind: type, value: Any) -> Any:
    """A value as plain JSON data, for reports."""
    return json.loads(_adapter(kind).dump_json(value))
