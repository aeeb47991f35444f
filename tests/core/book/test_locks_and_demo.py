"""What a book's lock may lead to is never touched, and a demo book goes only where the demo made it and nobody has it open."""

from __future__ import annotations

import os
import shutil

import pytest

from faithful_reel.core.book.condition import held_open
from faithful_reel.core.book.demo import remove_demo_book
from faithful_reel.core.book.keeping import archived, backed_up, restored, verified
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.errors import BookInUse, StoreProblem


@pytest.fixture
def book(tmp_path):
    BookStore(tmp_path / "a.reelbook", create=True).close()
    return tmp_path / "a.reelbook"


@pytest.mark.parametrize("kind", ["link", "dangling link", "hard link", "folder", "fifo"])
def test_a_lock_that_leads_elsewhere_is_told_and_what_it_leads_to_stays(book, tmp_path, kind):
    lock, other = book / "book.lock", tmp_path / "diary.txt"
    other.write_text("dear diary")
    lock.unlink()
    match kind:
        case "link":
            lock.symlink_to(other)
        case "dangling link":
            lock.symlink_to(tmp_path / "nothing")
        case "hard link":
            os.link(other, lock)
        case "folder":
            lock.mkdir()
        case "fifo":
            os.mkfifo(lock)
    for opening in (lambda: BookStore(book), lambda: held_open(book).__enter__()):
        with pytest.raises(StoreProblem, match=r"book\.lock in a\.reelbook is a link"):
            opening()
    assert other.read_text() == "dear diary"
    assert not (tmp_path / "nothing").exists()


def test_a_demo_book_that_nobody_has_open_goes(tmp_path, demo_book):
    shutil.copytree(demo_book, tmp_path / "demo.reelbook")
    remove_demo_book(tmp_path / "demo.reelbook")
    assert not (tmp_path / "demo.reelbook").exists()


def test_a_demo_book_that_is_open_in_another_window_stays(tmp_path, demo_book):
    folder = tmp_path / "demo.reelbook"
    shutil.copytree(demo_book, folder)
    with BookStore(folder) as store:
        before = sorted(folder.rglob("*"))
        with pytest.raises(BookInUse, match="open"):
            remove_demo_book(folder)
        assert sorted(folder.rglob("*")) == before
        assert store.count() > 0


@pytest.mark.parametrize(
    "name", ["notes.txt", "masters/my own.txt", "recordings/session.wav", "cache/sub/file", "backups/mine.sqlite"]
)
def test_a_demo_book_with_files_of_the_user_in_it_stays(tmp_path, demo_book, name):
    folder = tmp_path / "demo.reelbook"
    shutil.copytree(demo_book, folder)
    (folder / name).parent.mkdir(exist_ok=True)
    (folder / name).write_text("mine")
    with pytest.raises(StoreProblem, match="which the demo did not make"):
        remove_demo_book(folder)
    assert (folder / name).read_text() == "mine"
    assert (folder / "book.sqlite").is_file()


def test_a_demo_book_that_is_a_link_or_holds_one_stays(tmp_path, demo_book):
    folder, elsewhere = tmp_path / "demo.reelbook", tmp_path / "elsewhere"
    shutil.copytree(demo_book, folder)
    (tmp_path / "link.reelbook").symlink_to(folder)
    with pytest.raises(StoreProblem, match="not made by the demo"):
        remove_demo_book(tmp_path / "link.reelbook")
    shutil.move(folder / "masters", elsewhere)
    (elsewhere / "one.mp3").write_text("finished")
    (folder / "masters").symlink_to(elsewhere)
    with pytest.raises(StoreProblem, match="which the demo did not make"):
        remove_demo_book(folder)
    assert (elsewhere / "one.mp3").read_text() == "finished"


def _linked(path, elsewhere):
    """Put a link in the place of a file or folder, which lies elsewhere from then on."""
    elsewhere.parent.mkdir(parents=True, exist_ok=True)
    path.rename(elsewhere)
    path.symlink_to(elsewhere)


def test_nothing_of_a_book_is_reached_through_a_link(tmp_path, demo_book):
    whole, elsewhere = tmp_path / "b.reelbook", tmp_path / "elsewhere"
    shutil.copytree(demo_book, whole)
    with BookStore(whole):
        pass
    backed_up(whole)
    (whole / "masters" / "c1.mp3").write_text("finished")
    (whole / "desk").mkdir(exist_ok=True)
    (whole / "desk" / "at-the-desk.wav").write_text("a take")
    for place in ("masters", "recordings", "decoded", "cache", "backups", "desk"):
        (whole / place / f".{'0' * 32}.part").write_text("would be swept")
    names = [p.relative_to(whole) for p in sorted(whole.rglob("*")) if p.name != "book.lock"]
    assert len(names) > 20
    for name in (*names, None):
        folder, there = tmp_path / "c.reelbook", elsewhere / "x"
        shutil.copytree(whole, folder)
        for each in [name] if name else [p.relative_to(folder) for p in folder.iterdir()]:
            _linked(folder / each, there / each)
        before = {p: p.read_bytes() for p in there.rglob("*") if p.is_file()}
        for act in (BookStore, verified, lambda f: archived(f, tmp_path / "a.reelarchive"), lambda f: restored(f, f)):
            with pytest.raises(StoreProblem, match="is a link"):
                act(folder)
        assert {p: p.read_bytes() for p in there.rglob("*") if p.is_file()} == before
        assert not (tmp_path / "a.reelarchive").exists()
        shutil.rmtree(folder)
        shutil.rmtree(elsewhere)


def test_a_book_that_the_demo_did_not_make_stays(book):
    with pytest.raises(StoreProblem, match="not made by the demo"):
        remove_demo_book(book)
    assert (book / "book.sqlite").is_file()
