"""An editor's hour by keys alone, and another by mouse alone: hear, compare, pauses, from here, edges, slides, dead air, pieces.

After every act the step is undone and done again; at the end the book is opened anew and is the same.
"""

from __future__ import annotations

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QContextMenuEvent, QKeySequence
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QMenu
from support.hands import ALT, CTRL, LEFT, NONE, drag, start
from support.hearing import STEP, WORD, lay_hearing

from faithful_reel.app.editing.cutting import Cutting
from faithful_reel.app.editing.list_pane import ListPane
from faithful_reel.core.reel.reel import RoomTone


@pytest.fixture
def desk(opened):
    """The first chapter at the Proof desk, with pauses after words 10 and 27."""
    lay_hearing(opened.window.bench)
    opened.do("view.proof")
    opened.do("edit.ease")  # edges stay where the laid words begin and end
    for word in (27, 10):
        opened.window.transport.go_to(start(word) + WORD + (STEP - WORD) // 2)
        Cutting(opened.window.parts.editing).pause(0.6)
        opened.window.transport.stop()
    return opened


class Editor:
    """One that acts, and looks after every act whether it can be undone."""

    def __init__(self, desk):
        self.desk, self.window = desk, desk.window
        self.transport, self.editing = desk.window.transport, desk.window.parts.editing

    @property
    def reel(self):
        return self.window.bench.chapter.reel

    def did(self, act, *, heard=True):
        """Do an act that takes one step, and is heard; undo it, and do it again."""
        self.transport.stop()
        QTest.qWait(260)  # no key is held
        before, steps = self.reel, self.window.bench.session.store.count()
        act()
        after = self.reel
        assert self.window.bench.session.store.count() == steps + 1
        assert after != before
        assert self.transport.playing or not heard
        self.transport.stop()
        self.window.actions_.run("edit.undo")
        assert self.reel == before
        self.window.actions_.run("edit.redo")
        assert self.reel == after
        return before, after

    def reopened(self):
        """The book as it is opened anew."""
        kept = self.reel
        self.desk.reopen()
        assert self.desk.window.bench.chapter.reel == kept


def test_by_keys_alone(desk):
    editor, window = Editor(desk), desk.window

    def key(text):
        """A key where the keys go now, else on the page."""
        made = QKeySequence(text)[0]
        target = QApplication.focusWidget() or window.galley
        QTest.keyClick(target, made.key(), made.keyboardModifiers())

    window.activateWindow()
    window.galley.setFocus()
    QTest.keyClick(window.galley, Qt.Key.Key_Home, CTRL)
    while editor.transport.spot < start(10):
        key("Right")
    editor.did(lambda: key("Ctrl+,"))  # 5: the pause just heard
    editor.did(lambda: key("Ctrl+."))
    key("Shift+U")
    assert editor.editing.span is not None
    key("Esc")
    for _ in range(10):
        key("Right")
    word = editor.transport.spot
    editor.did(lambda: key("Shift+F3") if editor.transport.spot > word else key("F3"))  # 6: out to the end of the word
    key("F11")  # 2: hear it again
    assert editor.transport.playing
    key("Shift+B")  # 3: as it was
    assert editor.transport.instead is not None
    key("Shift+B")
    assert editor.transport.instead is None
    key("Space")
    editor.did(lambda: key("Alt+Right"))  # 7
    editor.did(lambda: key("Ctrl+F12"))
    for _ in range(3):
        key("Right")
    key("Ctrl+J")
    editor.did(lambda: key("Shift+O"))  # 8
    key("Ctrl+Alt+7")  # 10
    desk.idle()
    pane = window.proof_panel.side.currentWidget()
    assert isinstance(pane, ListPane)
    QTest.keyClick(pane.settings.does, Qt.Key.Key_Down)
    pane.settings.does.activated.emit(pane.settings.does.currentIndex())
    desk.idle()
    window.parts.editing.let_go()
    pane.settings.numbers["least_s"].setValue(0.4)
    desk.idle()
    tones = sum(isinstance(s, RoomTone) for s in editor.reel.lanes[0].segments)
    make = next(b for b in pane.buttons if b.text() == "Make the changes")
    make.setFocus(Qt.FocusReason.TabFocusReason)
    editor.did(lambda: QTest.keyClick(make, Qt.Key.Key_Space))
    assert sum(isinstance(s, RoomTone) for s in editor.reel.lanes[0].segments) >= tones
    pane.view.setFocus()
    key("Shift+P")  # 15
    pane = window.proof_panel.side.currentWidget()
    assert pane.page.title == "Pieces and joins"
    pane.view.setFocus()
    QTest.keyClick(pane.view, Qt.Key.Key_Down)
    span = editor.editing.span
    assert span.start in editor.reel.lanes[0].starts()
    key("Ctrl+Alt+Y")
    assert editor.transport.playing
    editor.transport.stop()
    editor.reopened()


def test_by_mouse_alone(desk, monkeypatch):
    editor, window = Editor(desk), desk.window
    loupe, wanted = window.loupe, []

    def chosen(menu, *_):
        """The act of that name in a menu or in one inside of it is clicked."""
        rows = [a for m in (menu, *(a.menu() for a in menu.actions() if a.menu())) for a in m.actions()]
        next(a for a in rows if a.text().replace("&", "") == wanted[-1]).trigger()

    monkeypatch.setattr(QMenu, "exec", chosen)

    def menu(at, act, lane_foot=False):
        """A right click in the loupe, and an act of its menu."""
        wanted.append(act)
        y = loupe.height() - round(loupe._ruler_h) - 5 if lane_foot else loupe.height() // 2
        point = QPoint(round(loupe._x(at)), y)
        QApplication.sendEvent(loupe, QContextMenuEvent(QContextMenuEvent.Reason.Mouse, point, loupe.mapToGlobal(point)))

    loupe.look_at(start(10), span_s=4.0)
    pause = start(10) + WORD + 9000
    editor.did(lambda: menu(pause, "Pause shorter"))  # 5
    loupe.look_at(start(8), span_s=2.0)
    editor.did(lambda: menu(start(8) + WORD // 2, "Take out to the end of the sentence"))  # 6
    join = start(8) + WORD // 2
    loupe.look_at(join, span_s=2.0)
    join = min(editor.reel.lanes[0].starts(), key=lambda at: abs(at - join))
    editor.did(lambda: menu(join, "Join later", lane_foot=True))  # 7
    at = min(editor.reel.lanes[0].starts(), key=lambda a: abs(a - join))
    menu(at, "Hear the join", lane_foot=True)  # 2
    assert editor.transport.playing
    menu(at, "As it was, and back", lane_foot=True)  # 3
    assert editor.transport.instead is not None
    desk.press(window.parts.foot.play)
    assert not editor.transport.playing
    word = next(t for t in window.bench.tokens(window.bench.chapter).heard() if t.start > at + 3 * STEP)
    loupe.look_at(word.start, span_s=1.0)
    drag(loupe, word.start, word.stop, ALT)
    span = editor.editing.span
    gap = STEP - WORD
    editor.did(lambda: drag(loupe, span.start + 3000, span.start + 3000 + gap // 2, CTRL))  # 8
    editor.editing.let_go()
    window.actions_["list.sweep"].trigger()  # from its menu
    desk.idle()
    pane = window.proof_panel.side.currentWidget()
    pane.settings.does.setCurrentIndex(1)  # 10
    pane.settings.does.activated.emit(1)
    desk.idle()
    editor.did(lambda: desk.press(next(b for b in pane.buttons if b.text() == "Make the changes")))
    window.actions_["list.pieces"].trigger()
    pane = window.proof_panel.side.currentWidget()
    QTest.mouseClick(pane.view.viewport(), LEFT, NONE, pane.view.visualItemRect(pane.view.item(1, 0)).center())  # 15
    assert editor.editing.span.start == editor.reel.lanes[0].starts()[1]
    editor.reopened()
