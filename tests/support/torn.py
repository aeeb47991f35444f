"""Books whose database was torn, cut, or has flipped bits, and what opening one comes to."""

from __future__ import annotations

import random
import shutil
import sqlite3
from pathlib import Path

from faithful_reel.core.book.commands import AddChapters, AddRecording, EditReel, PairRecording, SetDetails
from faithful_reel.core.book.keeping import backed_up
from faithful_reel.core.book.model import Recording
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.errors import BookDamaged, StoreProblem
from faithful_reel.core.reel.commands import CutAndClose, SetGain, ToneSource
from faithful_reel.core.text.words import Chapter, chapter_of

TABLES = ("meta", "steps", "contents", "states")


def healthy_book(folder: Path, steps: int = 120) -> Path:
    """A closed book with edits, states and one backup."""
    with BookStore(folder, create=True) as store:
        session = Session(store)
        session.do(AddChapters((("c1", "One", store.put(Chapter, chapter_of("One", ["Some words to read."]))),)))
        session.do(
            AddRecording(Recording("ab" * 32, "one.wav", ".wav", 44_100, 1, 9_000_000, -3.0, -62.0, -24.0, ToneSource("r", 0, 9)))
        )
        session.do(PairRecording("c1", "ab" * 32))
        rng = random.Random(5)
        for k in range(steps):
            at = rng.randrange(1000, 8_000_000)
            session.do(EditReel("c1", CutAndClose(at, at + 700) if k % 2 else SetGain(at, at + 500, -1.0)))
            if k % 17 == 0:
                session.undo()
                session.do(SetDetails(f"title {k}", "a", "n"))
        session.close()
    backed_up(folder)
    return folder


def spoiled(whole: Path, folder: Path, seed: int) -> str:
    """Copy a book and spoil the copy's database in one of many ways; what was done."""
    shutil.rmtree(folder, ignore_errors=True)
    shutil.copytree(whole, folder)
    database = folder / "book.sqlite"
    rng = random.Random(seed)
    raw = bytearray(database.read_bytes())
    way = rng.choice(("cut", "bit", "bits", "page", "zeros", "swap", "head", "cycle", "row", "value", "empty", "longer", "wal"))
    match way:
        case "cut":
            database.write_bytes(raw[: rng.randrange(len(raw))])
        case "bit" | "bits":
            for _ in range(1 if way == "bit" else rng.randrange(2, 200)):
                raw[rng.randrange(len(raw))] ^= 1 << rng.randrange(8)
            database.write_bytes(raw)
        case "page" | "zeros":
            at = rng.randrange(len(raw) // 4096) * 4096
            raw[at : at + 4096] = rng.randbytes(4096) if way == "page" else bytes(4096)
            database.write_bytes(raw)
        case "swap":
            a, b = (rng.randrange(len(raw) // 4096) * 4096 for _ in range(2))
            raw[a : a + 4096], raw[b : b + 4096] = raw[b : b + 4096], raw[a : a + 4096]
            database.write_bytes(raw)
        case "empty":
            database.write_bytes(b"")
        case "longer":
            database.write_bytes(bytes(raw) + rng.randbytes(rng.randrange(1, 9000)))
        case "wal":
            (folder / "book.sqlite-wal").write_bytes(rng.randbytes(rng.randrange(1, 20_000)))
        case _:
            _by_query(database, way, rng)
    return way


def _by_query(database: Path, way: str, rng: random.Random) -> None:
    db = sqlite3.connect(database)
    step = rng.randrange(1, 100)
    match way:
        case "head":
            value = rng.choice((None, "", "x", "99999", "-3", "1e3", "00", "9" * 400))
            if value is None:
                db.execute("DELETE FROM meta WHERE key = 'head'")
            else:
                db.execute("UPDATE meta SET value = ? WHERE key = 'head'", (value,))
        case "cycle":
            column = rng.choice(("parent", "next"))
            db.execute(f"UPDATE steps SET {column} = ? WHERE id = ?", (rng.choice((step, step + 5, max(1, step - 3), -7)), step))
        case "row":
            table = rng.choice(TABLES)
            db.execute(
                f"DELETE FROM {table} WHERE rowid IN (SELECT rowid FROM {table} LIMIT 3)"
                if table in ("steps", "states")
                else f"DELETE FROM {table}"
            )
        case _:
            body = rng.choice((b"\xff\xfe", "{}", "[", '{"chapter": "../../x"}', "null", "1" * 5000, "[" * 3000))
            table, column = rng.choice(
                (("steps", "body"), ("steps", "kind"), ("contents", "body"), ("states", "body"), ("states", "chapters"))
            )
            db.execute(f"UPDATE {table} SET {column} = ?", (body,))
    db.commit()
    db.close()


def state(folder: Path) -> str:
    """What opening a book comes to: "open", or the first words of what the user is told.

    Anything else than an error with one clear sentence is raised.
    """
    try:
        with BookStore(folder) as store:
            session = Session(store)
            store.history()
            store.ways_from(0)
            session.undo()
            session.redo()
            return "open"
    except BookDamaged as problem:
        said = str(problem)
        assert "is damaged" in said or "Restore it from a backup" in said, said
        assert "\n" not in said
        return "damaged"
    except StoreProblem as problem:
        said = str(problem)
        for words, name in (
            ("read-only", "read-only"),
            ("in use", "wait"),
            ("another program", "foreign"),
            ("newer version", "newer"),
            ("does not know", "newer"),
        ):
            if words in said:
                return name
        raise
