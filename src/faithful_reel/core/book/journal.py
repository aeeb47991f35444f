"""Reading a book's journal: its steps, the states of the book that are kept, the large values beside them."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from faithful_reel.core.book.commands import KINDS, BookCommand
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.book.packing import NONSENSE, adapter, key_of, unpacked_body
from faithful_reel.core.errors import AppError, BookDamaged, StoreProblem
from faithful_reel.core.files import shown

_BUSY = {sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED, sqlite3.SQLITE_PROTOCOL}
_CLOSED_TO_US = {sqlite3.SQLITE_READONLY, sqlite3.SQLITE_PERM, sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_AUTH}
_DISK = {sqlite3.SQLITE_IOERR, sqlite3.SQLITE_FULL, sqlite3.SQLITE_NOLFS, sqlite3.SQLITE_NOMEM}


def told(folder: Path, problem: sqlite3.Error, damaged: Callable[[str], StoreProblem]) -> StoreProblem:
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
    return damaged(str(problem))


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


class Journal:
    """What a database holds, by an open connection to it; never writes.

    Raises
    ------
    StoreProblem
        From any call: the disk does not answer, or the database is newer than this program.
    BookDamaged
        It is not as this program writes it.
    """

    def __init__(self, folder: Path, db: sqlite3.Connection) -> None:
        self.folder, self._db = folder, db
        self.unread: list[int] = []
        """Steps whose kept state could not be read, so that the book was made from before it."""

    def _damaged(self, why: str) -> BookDamaged:
        return BookDamaged(f"The database of {shown(self.folder)} is damaged ({why}). Restore it from a backup.")

    def _all(self, query: str, *values: object) -> list[Any]:
        """All rows of a query; what SQLite can not do is told as what it means."""
        try:
            return self._db.execute(query, values).fetchall()
        except sqlite3.ProgrammingError:
            raise
        except sqlite3.Error as problem:
            raise told(self.folder, problem, self._damaged) from problem

    def _one(self, query: str, *values: object) -> Any:
        """The first row of a query, one that must be there."""
        rows = self._all(query, *values)
        if not rows:
            raise self._damaged("an entry that every book has is missing")
        return rows[0]

    def names(self, text: str) -> bool:
        """Whether any step that was ever taken, undone ones too, names something."""
        return bool(self._one("SELECT count(*) FROM (SELECT 1 FROM steps WHERE instr(body, ?) LIMIT 1)", text)[0])

    def astray(self) -> str:
        """What is wrong with the order of the journal; empty where a step comes after its parent and the head is there."""
        if self._one("SELECT count(*) FROM steps WHERE id = ?", self.head)[0] != 1:
            return "the step that it stands at is missing"
        wrong = "typeof(parent) != 'integer' OR typeof(next) != 'integer' OR parent >= id OR (next != 0 AND next <= id)"
        if self._one(f"SELECT count(*) FROM steps WHERE id > 0 AND ({wrong})")[0]:
            return "its steps are out of order"
        return ""

    def integrity(self) -> list[str]:
        """What SQLite finds wrong with the database; empty where it is whole."""
        return [str(row[0]) for row in self._all("PRAGMA quick_check(5)") if row[0] != "ok"]

    def count(self) -> int:
        """How many steps the journal holds, on all branches."""
        return int(self._one("SELECT count(*) FROM steps WHERE id > 0")[0])

    @property
    def head(self) -> int:
        """The step that the book stands at."""
        value = self._one("SELECT value FROM meta WHERE key = 'head'")[0]
        try:
            return int(value)
        except NONSENSE as problem:
            raise self._damaged("the step that it stands at is no number") from problem

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
        """Rebuild the book as it was at a step: the nearest state before it that can be read, and the commands since.

        `afresh` replays the journal from its beginning.
        """
        book = Book()
        for _, book in self.books_to(step, afresh=afresh):  # noqa: B007  the last is wanted
            pass
        return book

    def books_to(self, step: int, *, ahead: int = 0, afresh: bool = False) -> Iterator[tuple[int, Book]]:
        """The books on the way to a step, each with its step: from the nearest state on that is kept `ahead` steps before it."""
        try:
            yield from self._replayed(step, ahead, afresh=afresh)
        except StoreProblem:
            raise
        except (AppError, *NONSENSE) as problem:
            raise self._damaged("its journal can not be replayed") from problem

    def _replayed(self, step: int, ahead: int, *, afresh: bool) -> Iterator[tuple[int, Book]]:
        chain: list[tuple[int, str, str]] = []
        book = Book()
        at = step
        while at > 0:
            kept = None if afresh or len(chain) < ahead else self._kept_state(at)
            if kept is not None:
                book = kept
                break
            entries = self._all("SELECT parent, kind, body FROM steps WHERE id = ?", at)
            if not entries or int(entries[0][0]) >= at:
                raise self._damaged(f"step {at} is missing from its journal")
            chain.append((at, entries[0][1], entries[0][2]))
            at = int(entries[0][0])
        yield at, book
        for number, kind, body in reversed(chain):
            if kind not in KINDS:
                raise StoreProblem(
                    f"{self.folder.name} holds a step that this version does not know ({kind}). Update to open it."
                )
            command: BookCommand = self._read(KINDS[kind], body)
            book = command.apply(book)
            yield number, book

    def _kept_state(self, step: int) -> Book | None:
        """The book as it was kept at a step; None where it was not, or can not be read: the steps before it lead there too."""
        rows = self._all("SELECT body, chapters FROM states WHERE step = ?", step)
        try:
            return self._state(*rows[0]) if rows else None
        except (BookDamaged, *NONSENSE):
            self.unread.append(step)
            return None

    def _state(self, body: bytes, keys: str) -> Book:
        book: Book = self._read(Book, unpacked_body(body))
        return replace(book, chapters=tuple(self._chapter(key) for key in keys.split()))

    def _chapter(self, key: str) -> ChapterState:
        """A chapter of a kept state."""
        chapter: ChapterState = self.get(ChapterState, key)
        return chapter

    def _read(self, kind: type, body: str | bytes) -> Any:
        try:
            return adapter(kind).validate_json(body)
        except ValidationError as problem:
            raise self._damaged("an entry of its journal can not be read") from problem

    def get(self, kind: type, key: str) -> Any:
        """Read a value kept by `put`."""
        return self._read(kind, self.body(key))

    def word_count(self, key: str) -> int:
        """How many words a kept chapter text has, without making all of them: in its JSON each begins an object."""
        return self.body(key).count(b'{"text":')

    def body(self, key: str) -> bytes:
        """The JSON of a value kept by its hash."""
        rows = self._all("SELECT body FROM contents WHERE key = ?", key)
        if not rows:
            raise self._damaged("a part of it is missing")
        body = unpacked_body(rows[0][0])
        if key_of(body) != key:
            raise self._damaged("a part of it is not as it was kept")
        return body
