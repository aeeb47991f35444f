"""Every state of a book's file ends in a name: open, read-only, wait, newer, foreign, or damaged with its whole backups."""

from __future__ import annotations

import json
import shutil
import sqlite3
import subprocess
import sys

import pytest
from support.torn import healthy_book, spoiled, state

from faithful_reel.core.book.commands import SetDetails
from faithful_reel.core.book.condition import whole_backups
from faithful_reel.core.book.keeping import backed_up, restored, verified
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore, Contents
from faithful_reel.core.errors import BookDamaged, StoreProblem
from faithful_reel.core.text.words import Chapter

TORN = 150


@pytest.fixture(scope="module")
def whole(tmp_path_factory):
    return healthy_book(tmp_path_factory.mktemp("whole") / "b.reelbook")


def test_torn_and_flipped_books_end_in_a_named_state(whole, tmp_path):
    ends = {}
    for seed in range(TORN):
        way = spoiled(whole, tmp_path / "b.reelbook", seed)
        ends.setdefault(way, set()).add(state(tmp_path / "b.reelbook"))
    assert set(ends) >= {"cut", "bit", "head", "cycle", "row", "value", "empty"}
    assert set().union(*ends.values()) >= {"open", "damaged"}
    assert ends["empty"] == {"damaged"}
    assert "damaged" in ends["cycle"] & ends["zeros"] & ends["row"]


def test_a_healthy_book_is_open(whole, tmp_path):
    shutil.copytree(whole, tmp_path / "b.reelbook")
    assert state(tmp_path / "b.reelbook") == "open"
    assert verified(tmp_path / "b.reelbook").problems == ()


def test_what_is_damaged_names_its_whole_backups(whole, tmp_path):
    book = shutil.copytree(whole, tmp_path / "b.reelbook")
    first = whole_backups(book)[0]
    (book / "backups" / "book-20991231-235959.sqlite").write_bytes(b"torn")
    (book / "backups" / "notes about the book.sqlite").write_bytes(b"a stray name")
    (book / "book.sqlite").write_bytes(b"")
    with pytest.raises(BookDamaged, match=rf"1 of its backups is whole, the newest step at {first.at}"):
        BookStore(book)
    assert [b.path for b in whole_backups(book)] == [first.path]
    restored(book, first.path)
    assert state(book) == "open"


def test_a_value_with_a_flipped_bit_is_not_taken_for_what_was_kept(whole, tmp_path):
    import zlib

    book = shutil.copytree(whole, tmp_path / "b.reelbook")
    with BookStore(book) as store:
        key = Session(store).book.chapters[0].text
    db = sqlite3.connect(book / "book.sqlite")
    body = zlib.decompress(db.execute("SELECT body FROM contents WHERE key = ?", (key,)).fetchone()[0])
    db.execute("UPDATE contents SET body = ? WHERE key = ?", (zlib.compress(body.replace(b"Some", b"Same")), key))
    db.commit()
    db.close()
    with BookStore(book) as store, pytest.raises(BookDamaged, match="not as it was kept"):
        store.get(Chapter, key)
    contents = Contents(book)
    with pytest.raises(BookDamaged):
        contents.get(Chapter, key)
    contents.close()


def test_a_lock_held_elsewhere_is_to_wait_not_damage(whole, tmp_path, monkeypatch):
    book = shutil.copytree(whole, tmp_path / "b.reelbook")
    db = sqlite3.connect(book / "book.sqlite", isolation_level=None)
    db.execute("PRAGMA journal_mode = DELETE")
    db.execute("BEGIN EXCLUSIVE")
    real = sqlite3.connect
    monkeypatch.setattr("faithful_reel.core.book.store.sqlite3.connect", lambda *a, **k: real(*a, **k | {"timeout": 0.05}))
    assert state(book) == "wait"
    with pytest.raises(StoreProblem):
        restored(book, whole_backups(book)[0].path / "none")
    db.execute("ROLLBACK")
    db.close()
    assert state(book) == "open"


def test_a_book_that_is_open_is_never_restored_over(whole, tmp_path):
    book = shutil.copytree(whole, tmp_path / "b.reelbook")
    backup = whole_backups(book)[0].path
    with BookStore(book) as store:
        session = Session(store)
        with pytest.raises(StoreProblem, match="open in another window"):
            restored(book, backup)
        session.do(SetDetails("still here", "", ""))
    with BookStore(book) as store:
        assert Session(store).book.title == "still here"


def test_a_folder_that_is_read_only_is_told_so(whole, tmp_path):
    """As another user than root, who may write everywhere."""
    book = shutil.copytree(whole, tmp_path / "b.reelbook")
    for path in (book, *book.rglob("*")):
        path.chmod(0o555 if path.is_dir() else 0o444)
    (book / "book.lock").chmod(0o666)
    for parent in (tmp_path, *tmp_path.parents[:3]):
        parent.chmod(0o755)
    code = (
        "import os, sys\n"
        "from faithful_reel.core.book.store import BookStore\n"
        "from pathlib import Path\n"
        "if os.geteuid() == 0: os.setuid(65534)\n"
        "try: Path(sys.argv[1], 'probe').touch(); print('writable all the same'); sys.exit()\n"
        "except OSError: pass\n"
        "try: BookStore(Path(sys.argv[1]))\n"
        "except Exception as why: print(type(why).__name__, why)\n"
    )
    done = subprocess.run([sys.executable, "-c", code, str(book)], capture_output=True, text=True, check=False)
    for path in (book, *book.rglob("*")):
        path.chmod(0o755)
    if done.stdout.startswith("writable"):
        pytest.skip("this machine lets every user write everywhere")
    assert done.stdout.startswith("StoreProblem")
    assert "read-only" in done.stdout or "can not be written to" in done.stdout


@pytest.mark.parametrize(
    ("code", "kind", "says"),
    [
        (sqlite3.SQLITE_READONLY_DIRECTORY, StoreProblem, "read-only"),
        (sqlite3.SQLITE_CANTOPEN, StoreProblem, "read-only"),
        (sqlite3.SQLITE_BUSY_SNAPSHOT, StoreProblem, "in use by another program"),
        (sqlite3.SQLITE_LOCKED, StoreProblem, "in use by another program"),
        (sqlite3.SQLITE_FULL, StoreProblem, "disk"),
        (sqlite3.SQLITE_IOERR_READ, StoreProblem, "disk"),
        (sqlite3.SQLITE_IOERR_SHORT_READ, BookDamaged, "1 of its backups is whole"),
        (sqlite3.SQLITE_CORRUPT, BookDamaged, "1 of its backups is whole"),
        (sqlite3.SQLITE_NOTADB, BookDamaged, "1 of its backups is whole"),
    ],
)
def test_every_error_of_the_database_is_told_as_what_it_means(whole, tmp_path, monkeypatch, code, kind, says):
    book = shutil.copytree(whole, tmp_path / "b.reelbook")

    def refused(self, *, create):
        problem = sqlite3.OperationalError("as SQLite says it")
        problem.sqlite_errorcode = code
        raise problem

    monkeypatch.setattr(BookStore, "_prepare", refused)
    with pytest.raises(StoreProblem, match=says) as caught:
        BookStore(book)
    assert type(caught.value) is kind
    monkeypatch.undo()
    assert state(book) == "open"  # and the lock was let go


def test_restoring_twice_in_a_second_keeps_both(whole, tmp_path):
    book = shutil.copytree(whole, tmp_path / "b.reelbook")
    backup = backed_up(book)
    again = backed_up(book)
    assert backup != again
    kept = set()
    for content in (b"first damage", b"second damage"):
        (book / "book.sqlite").write_bytes(content)
        (book / "book.sqlite-wal").write_bytes(content + b" log")
        kept.add(restored(book, again))
    assert {p.read_bytes() for p in kept} == {b"first damage", b"second damage"}
    assert {p.with_name(p.name + "-wal").read_bytes() for p in kept} == {b"first damage log", b"second damage log"}
    assert not (book / "book.sqlite-wal").exists()
    assert state(book) == "open"


def test_a_write_ahead_log_that_is_gone_is_told(whole, tmp_path):
    book = shutil.copytree(whole, tmp_path / "b.reelbook")
    code = (
        "import os, sys\n"
        "from pathlib import Path\n"
        "from faithful_reel.core.book.session import Session\n"
        "from faithful_reel.core.book.store import BookStore\n"
        "from faithful_reel.core.book.commands import SetDetails\n"
        "session = Session(BookStore(Path(sys.argv[1])))\n"
        "for k in range(3): session.do(SetDetails(f'lost {k}', '', ''))\n"
        "os._exit(9)\n"
    )
    for gone in (False, True):
        assert subprocess.run([sys.executable, "-c", code, str(book)], check=False).returncode == 9
        if gone:
            (book / "book.sqlite-wal").unlink()
        with BookStore(book) as store:
            assert store.crashed
            assert store.lost_steps == (3 if gone else 0)
    with BookStore(book) as store:
        assert (store.crashed, store.lost_steps) == (False, 0)


def test_leftovers_of_an_interrupted_run_are_cleared_away_and_nothing_else(whole, tmp_path):
    book = shutil.copytree(whole, tmp_path / "b.reelbook")
    left = [
        f".{'a1' * 16}.part",
        f"recordings/.{'b2' * 16}.part.wav",
        f"masters/.{'c3' * 16}.part.mp3",
        f"desk/.{'d4' * 16}.part.wav",
    ]
    kept = ["recordings/mine.wav", "backups/notes.txt", ".hidden", "masters/c1.mp3", "desk/mine.wav"]
    (book / "desk").mkdir()
    for name in (*left, *kept):
        (book / name).write_bytes(b"x")
    (book / "masters" / ".master-xyz").mkdir()
    assert state(book) == "open"
    assert [n for n in left if (book / n).exists()] == []
    assert [n for n in kept if not (book / n).exists()] == []
    assert not (book / "masters" / ".master-xyz").exists()


@pytest.mark.parametrize("value", ["../../evil", "a/../../b", "/etc/passwd"])
def test_a_journal_can_not_name_a_file_outside_of_the_book(whole, tmp_path, value):
    book = shutil.copytree(whole, tmp_path / "in" / "b.reelbook")
    db = sqlite3.connect(book / "book.sqlite")
    db.execute("UPDATE steps SET body = replace(body, ?, ?)", ("ab" * 32, value))
    db.execute("DELETE FROM states")
    db.commit()
    db.close()
    before = sorted(tmp_path.iterdir())
    with pytest.raises(BookDamaged, match="not be one of its own"):
        verified(book)
    with BookStore(book) as store:
        from faithful_reel.core.book.recordings import path_of

        recording = Session(store).book.recordings[0]
        with pytest.raises(BookDamaged):
            path_of(book, recording, 44_100)
    assert sorted(tmp_path.iterdir()) == before


def test_the_shell_tells_of_damage_in_one_line(whole, tmp_path):
    book = shutil.copytree(whole, tmp_path / "b.reelbook")
    (book / "book.sqlite").write_bytes(b"\1" * 9000)
    done = subprocess.run(
        [sys.executable, "-m", "faithful_reel", "verify", str(book)], capture_output=True, text=True, check=False
    )
    assert done.returncode == 2
    assert done.stderr.count("\n") == 1
    assert "1 of its backups is whole" in done.stderr
    (book / "book.sqlite").write_bytes((whole / "book.sqlite").read_bytes())
    done = subprocess.run(
        [sys.executable, "-m", "faithful_reel", "verify", str(book), "--json"], capture_output=True, text=True, check=False
    )
    assert json.loads(done.stdout)["problems"] == []
