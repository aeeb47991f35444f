"""What the ears made of every stretch of sound, kept by content: what was heard once is not heard again."""

from __future__ import annotations

import contextlib
import hashlib
import json
import sqlite3
import threading
from collections.abc import Callable, Iterable
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import numpy as np

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import address, from_json
from faithful_reel.core.units import Signal, Span

FORMAT = "1"
"""Goes up with any change of how the ears hear, so that what they made before is not taken for it."""


def key_of(x: Signal, span: Span, *how: str) -> str:
    """Names what is made of a stretch of sound, (n,), its neighbours left out, in a certain way."""
    digest = hashlib.sha256("".join(f"{part}\0" for part in (FORMAT, *how, "")).encode())
    digest.update(np.ascontiguousarray(x[span.start : span.stop], np.float32).tobytes())
    return digest.hexdigest()


class Memory:
    """A file of answers by their questions' hashes; without a path nothing is remembered.  Any thread may ask.

    It can be deleted at any time.  A damaged file is begun anew; where it can not be written the ears just hear.
    Use it as a context manager, or call `close`.
    """

    def __init__(self, path: Path | None = None) -> None:
        self._lock = threading.Lock()
        self._db: sqlite3.Connection | None = None
        if path is None:
            return
        for _ in range(2):
            try:
                self._db = self._opened(path)
            except sqlite3.DatabaseError:
                for name in (path, *(path.with_name(path.name + end) for end in ("-wal", "-shm"))):
                    name.unlink(missing_ok=True)
            else:
                return

    @staticmethod
    def _opened(path: Path) -> sqlite3.Connection:
        path.parent.mkdir(parents=True, exist_ok=True)
        db = sqlite3.connect(path, check_same_thread=False, isolation_level=None, timeout=5)
        try:
            db.execute("PRAGMA journal_mode=WAL")
            db.execute("PRAGMA synchronous=OFF")  # what is lost in a crash is heard again
            db.execute("CREATE TABLE IF NOT EXISTS answers (question TEXT PRIMARY KEY, answer TEXT NOT NULL) WITHOUT ROWID")
            db.execute("SELECT count(*) FROM (SELECT 1 FROM answers LIMIT 1)").fetchone()
        except sqlite3.DatabaseError:
            db.close()
            raise
        return db

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the file."""
        with self._lock:
            if self._db is not None:
                self._db.close()
            self._db = None

    def recalled(self, x: Signal, span: Span, how: Iterable[str], make: Callable[[], Any]) -> Any:
        """The answer to a question about a stretch of sound, (n,), as JSON values; `make` gives it the first time."""
        if self._db is None:
            return make()
        key = key_of(x, span, *how)
        with self._lock:
            found = self._asked("SELECT answer FROM answers WHERE question = ?", (key,))
        if found:
            with contextlib.suppress(ValueError, TypeError):  # a damaged answer is asked for again
                return from_json(found[0][0])
        answer = make()
        with self._lock:
            self._asked("INSERT OR REPLACE INTO answers VALUES (?, ?)", (key, json.dumps(answer)))
        return answer

    def _asked(self, sql: str, values: tuple[str, ...]) -> list[tuple[Any, ...]]:
        try:
            return self._db.execute(sql, values).fetchall() if self._db is not None else []
        except sqlite3.DatabaseError:
            return []


def memory_in(path: Path | None) -> Memory:
    """A memory in a file that the user named: a new one, or one that a memory made.

    Raises
    ------
    FileProblem
        Something else is in the file, or it is damaged; it is left as it is.
    """
    if path is not None and path.exists():
        if not path.is_file():
            raise FileProblem(f"{path.name} is no ordinary file. Choose another name for --heard.")
        try:
            with contextlib.closing(sqlite3.connect(address(path, read_only=True), uri=True)) as db:
                tables = [name for (name,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        except sqlite3.DatabaseError:
            tables = []
        if tables != ["answers"]:
            raise FileProblem(f"{path.name} is no file in which hearings are kept. Choose another name for --heard.")
    return Memory(path)
