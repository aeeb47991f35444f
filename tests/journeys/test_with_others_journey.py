"""With the narrator at the desk, a proof-listener's list and a second editor's copy: by keys alone, and by mouse alone.

What each brings is undone and done again; at the end the book is opened anew and is the same.
"""

from __future__ import annotations

import csv
import shutil

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QKeySequence
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QApplication, QDialog, QFileDialog, QInputDialog, QMenu
from support.app import DemoWindow
from support.hands import CTRL, LEFT, NONE, RATE, drag_over, start
from support.hearing import lay_hearing

from faithful_reel.app.recording.recorder import Stage
from faithful_reel.core.book.keeping import archived
from faithful_reel.core.collate.findings import Decision

READ_S = 60_000


class Editor:
    """One that acts by `act`, which takes one step, and looks whether it can be undone."""

    def __init__(self, desk):
        self.desk, self.window = desk, desk.window
        self.bench, self.editing = desk.window.bench, desk.window.parts.editing

    def did(self, act, *, steps=1):
        self.window.transport.stop()
        before, count = self.bench.book, self.bench.session.store.count()
        act()
        self.desk.idle()
        after = self.bench.book
        assert self.bench.session.store.count() == count + steps
        for _ in range(steps):
            self.window.actions_.run("edit.undo")
        assert self.bench.book == before
        for _ in range(steps):
            self.window.actions_.run("edit.redo")
        assert self.bench.book == after
        self.desk.idle()
        return before, after

    @property
    def pane(self):
        return self.window.proof_panel.side.currentWidget()

    def reopened(self):
        kept = self.bench.book
        self.desk.reopen()
        assert self.desk.window.bench.book == kept


@pytest.fixture
def desk(opened, qtbot, monkeypatch, tmp_path):
    """A heard chapter; a list of its findings; and the copy of a second editor, who decided, noted, marked and cut."""
    bench = opened.window.bench
    lay_hearing(bench)
    words = [w.text for w in bench.text(bench.chapter).words]
    with (tmp_path / "maras list.csv").open("w", newline="") as file:
        table = csv.writer(file)
        table.writerow(["remark", "as heard", "chapter", "as written"])
        table.writerow(["", "other", "1", words[10]])  # the ear found it too
        table.writerow(["sounds tired", "", "1", " ".join(words[20:26])])
        table.writerow(["", "a", "1", "the"])  # in many places
    (tmp_path / "second").mkdir()
    opened.close()
    second = DemoWindow(qtbot, tmp_path / "second", opened.book)
    proof = second.window.parts.proof
    proof.choose("f3", "c1")
    assert proof.decide(Decision.STET)
    proof.choose("f1", "c1")
    assert proof.write_note("say it again")
    second.window.parts.editing.select_words(50, 51)
    second.do("edit.cut_close")
    second.idle()
    second.close()
    archived(second.book, tmp_path / "second reader.reelarchive")
    shutil.rmtree(tmp_path / "second")
    opened.window = opened._open()
    opened.do("view.proof")
    opened.do("edit.ease")
    chosen = {"list": tmp_path / "maras list.csv", "archive": tmp_path / "second reader.reelarchive"}

    def asked(_parent, title, *_):
        return str(chosen["list" if "list" in title else "archive"]), ""

    monkeypatch.setattr(QFileDialog, "getOpenFileName", asked)
    monkeypatch.setattr(QInputDialog, "getText", lambda *_a, **_k: ("Mara", True))
    return opened


def at_the_desk(desk, monkeypatch, drive):
    """The window of the microphone is driven while it is open."""

    def opened_window(dialog):
        dialog.show()
        drive(dialog)
        assert not dialog.isVisible()
        return 1

    monkeypatch.setattr(QDialog, "exec", opened_window)


def test_by_keys_alone(desk, monkeypatch):
    editor, window = Editor(desk), desk.window

    def key(text, at=None):
        """A key where the keys go now, else on the page."""
        made = QKeySequence(text)[0]
        QTest.keyClick(at or QApplication.focusWidget() or window.galley, made.key(), made.keyboardModifiers())

    window.activateWindow()
    window.galley.setFocus()
    QTest.keyClick(window.galley, Qt.Key.Key_Home, CTRL)
    while window.transport.spot < start(12):
        key("Right")
    key("Ctrl+J")
    span = editor.editing.span

    def drive(dialog):
        key("Space", dialog.record)
        assert window.transport.playing  # the reading before, while the microphone listens
        desk.qtbot.waitUntil(lambda: dialog._presenter.stage is Stage.DONE, timeout=READ_S)
        before = dialog._presenter.takes[0].reading
        key("Up", dialog.stops)  # a margin, by its field
        assert dialog._presenter.takes[0].reading.stop > before.stop
        key("Space", dialog.in_place)
        assert window.transport.playing
        key("Space", dialog.keeps[0][0])

    at_the_desk(desk, monkeypatch, drive)
    before, after = editor.did(lambda: key("Ctrl+Alt+Shift+R"), steps=2)  # 18: the recording comes in, then it is laid over
    monkeypatch.setattr(QDialog, "exec", lambda _self: 1)
    reels = [book.chapter("c1").reel for book in (before, after)]
    assert len(after.recordings) == len(before.recordings) + 1
    laid = next(s for s in reels[1].lanes[0].segments if s.recording not in reels[0].lanes[0].recordings)
    assert reels[1].lanes[0].starts()[reels[1].lanes[0].segments.index(laid)] == span.start
    window.activateWindow()
    QTest.qWaitForWindowActive(window)
    window.galley.setFocus()
    key("Ctrl+F12")  # its margins can still be shifted: an edge of the piece, what follows carried along
    shifted = next(s for s in window.bench.chapter.reel.lanes[0].segments if s.recording == laid.recording)
    assert (shifted.start, shifted.stop) != (laid.start, laid.stop)
    window.actions_.run("edit.undo")
    assert window.bench.chapter.reel == reels[1]

    key("Ctrl+Shift+F")  # 19
    desk.idle()
    page = editor.pane.page
    assert [line.checked for line in page.lines()] == [False, True, True]
    editor.pane.view.setFocus()
    key("Home")
    key("Ctrl+Alt+X")  # the next place that the first may mean
    assert page.row().at == 1
    key("Ctrl+Alt+Return")  # it is this one
    _, after = editor.did(lambda: key("Ctrl+Alt+A"))
    said = [f for f in after.chapter("c1").findings if f.by]
    assert {f.by for f in said} == {("Mara",)}
    assert len(said) == 3
    assert "f1" in {f.id for f in said}  # that of the ear, once
    assert editor.pane.view.rowCount() == 0

    key("Ctrl+Alt+Z")  # 21
    desk.idle()
    rows = editor.pane.page.rows()
    assert {(row.what.value, row.clash) for row in rows} == {("decision", False), ("note", False), ("edits", True)}
    editor.pane.view.setFocus()
    _, after = editor.did(lambda: key("Ctrl+Alt+E"), steps=2)
    told = {f.id: f for f in after.chapter("c1").findings}
    assert (told["f3"].decision, told["f1"].note) == (Decision.STET, "say it again")
    assert editor.pane.view.rowCount() == 1  # the edits: both were cut since
    key("Space")  # all the same
    ours = window.bench.chapter.reel
    _, after = editor.did(lambda: key("Ctrl+Alt+E"))
    assert after.chapter("c1").reel != ours
    assert ours in [v.reel for v in after.chapter("c1").versions]
    editor.reopened()


def test_by_mouse_alone(desk, monkeypatch):
    editor, window = Editor(desk), desk.window
    wanted = []

    def chosen(menu, *_):
        rows = [a for m in (menu, *(a.menu() for a in menu.actions() if a.menu())) for a in m.actions()]
        next(a for a in rows if a.text().replace("&", "") == wanted[-1]).trigger()

    monkeypatch.setattr(QMenu, "exec", chosen)

    def click(button: QAbstractButton):
        QTest.mouseClick(button, LEFT, NONE)

    def push(words):
        click(next(b for b in editor.pane.buttons if b.text() == words))

    def line(row, *, box=False):
        """A click on a line of the list, or on its box."""
        view = editor.pane.view
        rect = view.visualItemRect(view.item(row, 0))
        QTest.mouseClick(view.viewport(), LEFT, NONE, QPoint(rect.left() + 10, rect.center().y()) if box else rect.center())

    def drive(dialog):
        click(dialog.record)
        desk.qtbot.waitUntil(lambda: dialog._presenter.stage is Stage.DONE, timeout=READ_S)
        strip, take = dialog.strip, dialog._presenter.takes[0]
        x = lambda at: QPoint(round(at / len(take.sound) * strip.width()), 20)  # noqa: E731
        drag_over(strip, [x(take.reading.start), x(take.reading.start - RATE // 10), x(take.reading.start - RATE // 4)])
        assert dialog._presenter.takes[0].reading.start < take.reading.start
        click(dialog.in_place)
        click(dialog.keeps[0][0])

    at_the_desk(desk, monkeypatch, drive)
    desk.click_word(14, double=True)
    editor.did(window.actions_["record.over"].trigger, steps=2)  # 18, from its menu
    monkeypatch.setattr(QDialog, "exec", lambda _self: 1)

    window.actions_["others.bring"].trigger()  # 19
    desk.idle()
    line(0)
    desk.click_word(31)
    desk.click_word(31, double=True)
    push("It is here")
    assert editor.pane.page.row().spot.first == 31
    line(1, box=True)
    _, after = editor.did(lambda: push("Take in"))
    assert len([f for f in after.chapter("c1").findings if f.by]) == 2
    assert editor.pane.view.rowCount() == 1
    line(0)
    push("Leave out")

    window.actions_["copies.compare"].trigger()  # 21
    desk.idle()
    edits = next(k for k, row in enumerate(editor.pane.page.rows()) if row.what.value == "edits")
    line(edits)
    push("Leave out")
    editor.did(lambda: push("Take over"), steps=2)
    assert editor.pane.view.rowCount() == 0
    editor.reopened()
