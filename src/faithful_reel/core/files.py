"""Names and places of files: what may not be written over, what a half-written file is called, how SQLite is told a path."""

from __future__ import annotations

import hashlib
import json
import os
import stat
import uuid
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any
from urllib.parse import quote

from faithful_reel.core.errors import BookDamaged, FileProblem, StoreProblem
from faithful_reel.core.jobs import Unwatched, Watch

DATABASE = "book.sqlite"
"""What makes a folder a book."""
LONGEST_NAME = 255
"""Bytes of a file name (Linux, limits.h: NAME_MAX)."""


def beside(target: Path, suffix: str = "") -> Path:
    """Where a file is written until it is whole, to be renamed to `target`: in the same folder.

    Nobody can guess its name.  It is hidden and short, so that it fits wherever `target` does.
    """
    return target.with_name(f".{uuid.uuid4().hex}.part{suffix}")


def encodable(text: str) -> str:
    """A text that any file can hold: what is no character is marked, and NUL, which ends texts in many formats, is left out."""
    return text.replace("\0", "").encode("utf-8", "replace").decode()


def shown(path: Path) -> str:
    """A file's name for people and for the book: bytes that are no UTF-8 are marked."""
    return path.name.encode("utf-8", "surrogateescape").decode("utf-8", "replace")


def why(problem: BaseException | None) -> str:
    """What the system says is the matter, in brackets, without a half-written file's name; empty where it says nothing."""
    told = getattr(problem, "strerror", None) or getattr(problem, "error_string", None) or ""
    told = told or ("" if problem is None or isinstance(problem, OSError) else str(problem))
    return f" ({told.strip('. ')})" if told else ""


def shortened(text: str, most: int) -> str:
    """A text cut to at most so many bytes of UTF-8, never inside a character."""
    raw = os.fsencode(text)
    return text if len(raw) <= most else raw[:most].decode("utf-8", "ignore")


def named(path: Path, suffix: str) -> Path:
    """A path with another suffix, its stem shortened where the name would be too long."""
    return path.with_name(shortened(path.stem, LONGEST_NAME - len(os.fsencode(suffix))) + suffix)


def address(path: Path, *, read_only: bool = False) -> str:
    """A path as an address for SQLite; `?`, `#`, `%` and bytes that are no text keep their meaning.

    References
    ----------
    RFC 3986, section 2.1 (percent-encoding).
    """
    return f"file:{quote(os.fsencode(path.absolute()))}{'?mode=ro' if read_only else ''}"


def plain(name: str) -> str:
    """A name that a book's database holds for one of its files.

    Raises
    ------
    BookDamaged
        It would lead elsewhere.
    """
    if not name or "/" in name or "\0" in name or name.startswith(".") or len(os.fsencode(name)) > LONGEST_NAME:
        raise BookDamaged(f"The book names a file that can not be one of its own ({name[:40]!r}). Restore it from a backup.")
    return name


def harmless(cell: str) -> str:
    """A cell of a CSV table that no spreadsheet takes for a formula.

    References
    ----------
    OWASP, CSV injection: cells that begin with = + - @, tabulator or carriage return are told apart by an apostrophe.
    """
    return f"'{cell}" if cell.startswith(("=", "+", "-", "@", "\t", "\r")) else cell


def printable(text: str) -> str:
    """Without the characters that no document can hold: control characters, and halves of pairs that stand alone."""
    return "".join(
        c for c in text if c in "\t\n" or (ord(c) >= 32 and not 0xD800 <= ord(c) <= 0xDFFF and ord(c) not in {0xFFFE, 0xFFFF})
    )


def temporary_folder() -> TemporaryDirectory[str]:
    """A folder of one's own that goes with what holds it.

    Raises
    ------
    StoreProblem
        There is no room for one.
    """
    try:
        return TemporaryDirectory(prefix="faithful-reel-", ignore_cleanup_errors=True)
    except OSError as problem:
        raise StoreProblem(f"No temporary folder can be made ({problem.strerror}). Make room and try again.") from problem


def content_of(path: Path, most: int) -> bytes:
    """All bytes of an ordinary file; a pipe or a device, which may go on without end, is not waited for.

    Raises
    ------
    FileProblem
        It is not there, is no ordinary file, or is longer than `most`.
    """
    try:
        with os.fdopen(os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC), "rb") as file:
            found = os.fstat(file.fileno())
            if not stat.S_ISREG(found.st_mode):
                raise FileProblem(f"{shown(path)} is no ordinary file. Give a file that holds what is to be read.")
            if found.st_size > most:
                raise FileProblem(f"{shown(path)} is too large for what it should be ({found.st_size >> 20} MB). Check the file.")
            return file.read(most)
    except OSError as problem:
        raise FileProblem(f"{shown(path)} can not be read ({problem.strerror}). Check the name and the folder.") from problem


def from_json(text: str | bytes) -> Any:
    """The value of a JSON text that anybody may have changed.  ValueError where it is none, or nested too deep to be read."""
    try:
        return json.loads(text)
    except RecursionError as problem:
        raise ValueError("it is nested too deep") from problem


def hash_of(path: Path, watch: Watch | None = None, done: float = 0.0) -> str:
    """SHA-256 of a file's bytes; ticks `watch` all along, so that it can be stopped in the middle of a long file."""
    watch = watch or Unwatched()
    digest = hashlib.sha256()
    with path.open("rb") as file:
        while part := file.read(1 << 20):
            digest.update(part)
            watch.tick(done, f"checking {path.name[:12]}")
    return digest.hexdigest()


def is_folder(path: Path) -> bool:
    """Whether a folder is there; what can not be looked at, or has a name that no file can have, is none."""
    try:
        return path.is_dir()
    except OSError:
        return False


def same_file(a: Path, b: Path) -> bool:
    """Whether two paths lead to the same file by any spelling, hard link or symbolic link."""
    try:
        if a.samefile(b):
            return True
    except OSError:
        pass  # one of them is not there: then only their spellings can agree
    return os.path.realpath(a) == os.path.realpath(b)


def refuse_over(out: Path, *read: Path) -> None:
    """See that a file to be written is none of those that are read, and lies in none of the folders that are read, nor in a book.

    Raises
    ------
    FileProblem
        It is, or it is something else than an ordinary file.
    """
    folders = Path(os.path.realpath(out)).parents
    for source in read:
        if same_file(out, source):
            raise FileProblem(f"{shown(out)} is the source itself. Give the result another name.")
        if source.is_dir() and Path(os.path.realpath(source)) in folders:
            raise FileProblem(f"{shown(out)} would lie inside of {shown(source)}. Choose a place outside of it.")
    if book := next((folder for folder in folders if (folder / DATABASE).is_file()), None):
        raise FileProblem(f"{shown(out)} would lie inside of the book {shown(book)}. Choose a place outside of it.")
    try:
        mode = out.stat().st_mode
    except OSError:
        return
    if not stat.S_ISREG(mode):
        raise FileProblem(f"{shown(out)} is there already and is no ordinary file. Give the result another name.")
