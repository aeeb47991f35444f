"""What a book was at every step of its journal, for who looks back from another thread than the one that has it open."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from faithful_reel.core.book.commands import KINDS
from faithful_reel.core.book.condition import damaged
from faithful_reel.core.book.model import Book
from faithful_reel.core.book.packing import NONSENSE, adapter
from faithful_reel.core.errors import AppError
from faithful_reel.core.files import DATABASE, address


@dataclass(frozen=True, slots=True)
class Change:
    """One step that was taken: its number, when (local time, ISO 8601), its name, and the book before and after it."""

    step: int
    at: str
    label: str
    before: Book
    after: Book


def changes(folder: Path, head: int, since: int = 0, book: Book | None = None) -> Iterator[Change]:
    """The steps that lead to `head`, in order; those after step `since`, at which the book was `book`.

    Where `since` does not lead to `head` all are given, from an empty book on.

    Raises
    ------
    BookDamaged
        The journal can not be read.
    """
    try:
        chain = line_to(folder, head)
        known = next((k for k, row in enumerate(chain) if row[0] == since), None) if book is not None else None
        before = book if known is not None and book is not None else Book()
        for step, _, at, label, kind, body, _ in chain if known is None else chain[known + 1 :]:
            command: Any = adapter(KINDS[kind]).validate_json(body)
            after: Book = command.apply(before)
            yield Change(step, at, label, before, after)
            before = after
    except (sqlite3.Error, AppError, *NONSENSE) as problem:
        raise damaged(folder, "its journal can not be replayed") from problem


def line_to(folder: Path, head: int) -> list[tuple[int, int, str, str, str, str, str]]:
    """The steps that lead to `head`, in order: (id, parent, when, name, kind, what it does, of which chapter)."""
    with closing(sqlite3.connect(address(folder / DATABASE, read_only=True), uri=True)) as db:
        rows = db.execute(
            """WITH RECURSIVE line(id, parent) AS (SELECT id, parent FROM steps WHERE id = ?
                UNION ALL SELECT s.id, s.parent FROM line l JOIN steps s ON s.id = l.parent AND s.id < l.id)
            SELECT s.id, s.parent, s.at, s.label, s.kind, s.body, s.chapter FROM steps s JOIN line USING (id)
            WHERE s.id > 0 ORDER BY s.id""",
            (head,),
        )
        return rows.fetchall()
