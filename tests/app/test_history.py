"""The history pane, backups, archives and restoring, in the window."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QMessageBox

from faithful_reel.app.main import opened_or_restored
from faithful_reel.core.book.commands import EditReel, RenameChapter, SetDetails
from faithful_reel.core.book.keeping import backed_up, backups
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.errors import StoreProblem
from faithful_reel.core.reel.commands import CutAndClose


def texts(pane):
    model = pane.model
    return [str(model.data(model.index(r, 0), Qt.ItemDataRole.DisplayRole)) for r in range(model.rowCount())]


@pytest.fixture
def pane(opened):
    bench = opened.window.bench
    first, second = bench.book.chapters[:2]
    bench.do(EditReel(first.id, CutAndClose(1000, 2000)))
    bench.do(EditReel(second.id, CutAndClose(1000, 2000)))
    opened.do("edit.history")
    return opened.window.history


def test_steps_are_listed_the_latest_first_and_one_can_go_back_and_forward(opened, pane, qtmodeltester):
    qtmodeltester.check(pane.model)
    assert texts(pane)[:2] == ["Cut and close", "Cut and close"]
    assert texts(pane)[-1] == "The book was made"
    later = opened.bookstate
    pane.view.selectRow(2)
    opened.press(pane.go)
    assert opened.bookstate.chapters[0].reel == opened.bookstate.chapters[0].reel
    assert len(opened.bookstate.chapters[0].reel) == len(later.chapters[0].reel) + 1000
    assert texts(pane)[:2] == ["Cut and close", "Cut and close"]  # still there, to go forward to
    pane.view.selectRow(0)
    QTest.keyClick(pane.view, Qt.Key.Key_Return)
    assert opened.bookstate == later


def test_only_the_steps_of_one_chapter(opened, pane):
    second = opened.bookstate.chapters[1]
    pane.chapters.setCurrentIndex(pane.chapters.findData(second.id))
    pane.chapters.activated.emit(pane.chapters.currentIndex())
    assert texts(pane)[0] == "Cut and close"
    assert texts(pane).count("Cut and close") == 1
    opened.window.bench.do(RenameChapter(second.id, "Two"))
    assert texts(pane)[0] == "Rename the chapter"


def test_the_way_that_was_left_can_be_gone_to_again_also_after_closing(opened, pane):
    bench = opened.window.bench
    left = bench.book
    opened.do("edit.undo")
    opened.do("edit.undo")
    bench.do(SetDetails("Another way", "", ""))
    assert any("another way from here: Cut and close … 2 steps" in t for t in texts(pane))
    opened.reopen()
    opened.do("edit.history")
    pane = opened.window.history
    row = next(i for i, t in enumerate(texts(pane)) if "another way" in t)
    pane.view.selectRow(row)
    opened.press(pane.go)
    assert opened.bookstate == left
    assert any("another way from here: Change the book's details" in t for t in texts(pane))


def test_an_edit_adds_one_row_and_the_model_keeps_its_word(opened, pane, qtmodeltester):
    before = texts(pane)
    opened.window.bench.do(SetDetails("x", "", ""))
    assert texts(pane) == ["Change the book's details", *before]
    opened.do("edit.undo")
    opened.window.bench.do(SetDetails("y", "", ""))
    assert "Change the book's details" in texts(pane)[0]
    qtmodeltester.check(pane.model)


# --- keeping ------------------------------------------------------------------------------------------------------


def test_a_backup_is_written_beside_the_work_only_where_something_moved(opened):
    folder = opened.window.bench.session.store.folder
    opened.window.parts.keeping.back_up()
    opened.idle()
    assert backups(folder) == []
    opened.window.bench.do(SetDetails("x", "", ""))
    opened.window.parts.keeping.back_up()
    opened.idle()
    assert len(backups(folder)) == 1


def test_a_book_is_exported_and_unpacked(opened, tmp_path, monkeypatch):
    out = tmp_path / "whole.reelarchive"
    monkeypatch.setattr("PyQt6.QtWidgets.QFileDialog.getSaveFileName", lambda *_: (str(out), ""))
    opened.do("book.archive")
    opened.idle()
    assert "The whole book is in whole.reelarchive" in opened.window.notice.text()
    started = []
    monkeypatch.setattr("PyQt6.QtWidgets.QFileDialog.getOpenFileName", lambda *_: (str(out), ""))
    monkeypatch.setattr("PyQt6.QtWidgets.QFileDialog.getSaveFileName", lambda *_: (str(tmp_path / "again.reelbook"), ""))
    monkeypatch.setattr(opened.window.parts.keeping, "_open_beside", lambda path, create: started.append((path.name, create)))
    opened.do("book.unpack")
    opened.idle()
    assert started == [("again.reelbook", False)]
    with BookStore(tmp_path / "again.reelbook") as store:
        assert Session(store).book == opened.bookstate


def test_a_damaged_book_offers_its_backup(opened, monkeypatch):
    opened.window.bench.do(SetDetails("Before the damage", "", ""))
    opened.close()
    backed_up(opened.book)
    (opened.book / "book.sqlite").write_bytes(b"\1" * 9000)
    asked = []

    def answer(box):
        asked.append(box.text())
        return QMessageBox.StandardButton.Yes

    monkeypatch.setattr("faithful_reel.app.main.QMessageBox.exec", answer)
    made = opened_or_restored(opened.book, opened._open)
    assert made is not None
    opened.window = made
    assert "damaged" in asked[0]
    assert "a whole backup with" in asked[0]
    assert opened.bookstate.title == "Before the damage"
    assert list(opened.book.glob("damaged-*.sqlite"))


def test_a_damaged_book_without_a_backup_and_a_refusal_are_one_message(opened, monkeypatch):
    opened.close()
    for old in (opened.book / "backups").iterdir():
        old.unlink()
    (opened.book / "book.sqlite").write_bytes(b"\1" * 9000)
    with pytest.raises(StoreProblem, match="damaged"):
        opened_or_restored(opened.book, opened._open)


def test_a_crash_is_told_at_the_next_opening_with_nothing_lost(opened):
    store = opened.window.bench.session.store
    opened.window.bench.do(SetDetails("Before the crash", "", ""))
    lock = (store.folder / "book.lock").read_bytes()
    opened.close()
    (opened.book / "book.lock").write_bytes(lock)  # as a killed process leaves it
    opened.window = opened._open()
    assert "was not closed the last time" in opened.window.notice.text()
    assert opened.bookstate.title == "Before the crash"
