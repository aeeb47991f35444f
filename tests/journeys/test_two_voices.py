"""A chapter of two voices with music, edited in the real window by mouse and keys: what this program is for."""

from __future__ import annotations

import json
import shutil

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QInputDialog, QMessageBox
from support.app import DemoWindow

from faithful_reel.app.editing.list_pane import ListPane
from faithful_reel.core.book.store import HEARD
from faithful_reel.core.collate.findings import Kind
from faithful_reel.core.files import hash_of
from faithful_reel.core.reel.exchanges import covered, uncovered
from faithful_reel.core.reel.look import lane_look
from faithful_reel.core.reel.reel import Piece, RoomTone
from faithful_reel.core.reel.render import Row

LEFT, NONE = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
CTRL, ALT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.AltModifier


class Desk(DemoWindow):
    """The window on the two-voice chapter, and hands that edit in it."""

    @property
    def chapter(self):
        return self.bookstate.chapters[-1]

    @property
    def reel(self):
        return self.chapter.reel

    def drag(self, start, stop):
        """Drag over sound in the loupe, from one position to another, without snapping."""
        loupe = self.window.loupe
        loupe.look_at((start + stop) // 2, span_s=1.4 * (stop - start) / 44_100)
        QApplication.processEvents()
        points = [QPoint(round(loupe._x(at)), loupe.height() // 2) for at in (start, (start + stop) / 2, stop)]
        QTest.mousePress(loupe, LEFT, NONE, points[0])
        for point in points[1:]:
            where, free = QPointF(point), LEFT
            move = QMouseEvent(QMouseEvent.Type.MouseMove, where, loupe.mapToGlobal(where), free, free, ALT)
            QApplication.sendEvent(loupe, move)
        QTest.mouseRelease(loupe, LEFT, NONE, points[-1])

    def key(self, key, modifier=NONE):
        """A key on the page."""
        self.window.activateWindow()
        self.window.galley.setFocus()
        QTest.keyClick(self.window.galley, key, modifier)
        QApplication.processEvents()

    def list(self):
        """The list that is open."""
        pane = self.window.proof_panel.side.currentWidget()
        assert isinstance(pane, ListPane)
        return pane

    def row(self, words):
        """Click on the line of the open list that holds some words."""
        view = self.list().view
        for r in range(view.rowCount()):
            if words in view.item(r, 0).text() or words in view.item(r, 1).text():
                QTest.mouseClick(view.viewport(), LEFT, NONE, view.visualItemRect(view.item(r, 0)).center())
                return
        pytest.fail(f"{words} is not in {[view.item(r, 0).text() for r in range(view.rowCount())]}")

    def push(self, words):
        """Click a button of the open list."""
        self.press(next(b for b in self.list().buttons if b.text() == words))
        self.idle()


def recordings_as_they_came(desk):
    folder = desk.window.bench.session.store.folder / "recordings"
    return all(hash_of(folder / r.stored) == r.hash for r in desk.bookstate.recordings)


@pytest.mark.slow
def test_a_chapter_of_two_voices_with_music_is_edited(qtbot, tmp_path, whole_demo_book, both_voices, demo, monkeypatch):
    truth = json.loads((demo / "two-voices.json").read_text())
    planted = {p["kind"]: p for p in truth["planted"]}
    desk = Desk(qtbot, tmp_path, whole_demo_book)
    shutil.copyfile(both_voices[-1], desk.book / HEARD)  # heard before: it takes a moment now
    try:
        _edit(desk, truth, planted, monkeypatch)
    finally:
        desk.close()


def _edit(desk, truth, planted, monkeypatch):
    rate, questions = 44_100, []

    def answer(box):
        questions.append(box.informativeText())
        next(b for b in box.buttons() if b.text() == "Go on all the same").click()

    monkeypatch.setattr(QMessageBox, "exec", answer)
    window = desk.window
    contents = window.contents
    QTest.mouseClick(contents.viewport(), LEFT, NONE, contents.visualItemRect(contents.item(3)).center())
    desk.do("view.proof")
    assert window.bench.chapter.title == "Chapter Four: The Two Ledgers"
    desk.key(Qt.Key.Key_E, CTRL)  # hear this chapter
    desk.idle()
    start_reel = desk.reel
    tokens = window.bench.tokens(desk.chapter)
    assert {t.lane for t in tokens if t.word >= 0} == {0, 1}

    # the talk before the reading begins is taken out; the clerk's words in it are told and asked about
    begins = min(t.start for t in tokens if t.word == 0)
    desk.drag(round(1.8 * rate), begins - round(0.3 * rate))
    desk.key(Qt.Key.Key_Delete)
    assert "clerk: Ready when you are." in questions[-1]
    gone = len(start_reel) - len(desk.reel)
    assert gone == pytest.approx(begins - 2.1 * rate, abs=0.15 * rate)
    before_pause = desk.reel

    # a pause is closed on both lanes
    window.parts.editing.let_go()
    desk.key(Qt.Key.Key_7, CTRL | ALT)
    desk.idle()
    desk.row("of them.”")
    long_pause = window.parts.editing.going
    assert long_pause, "what would go is not drawn"
    desk.push("Make the changes")
    closed = len(before_pause) - len(desk.reel)
    assert closed > 2 * rate
    assert [len(lane) for lane in desk.reel.lanes[:2]] == [len(lane) - closed for lane in before_pause.lanes[:2]]
    pause = next(f for f in desk.chapter.findings if f.kind is Kind.PAUSE)
    assert pause.decision.value == "mend"
    desk.key(Qt.Key.Key_7, CTRL | ALT)  # the docket again

    # one voice's cough is silenced under the other's words
    cough = planted["cough"]["start"] * rate - gone - closed, planted["cough"]["end"] * rate - gone - closed
    for _ in range(2):
        desk.key(Qt.Key.Key_T, CTRL)
    assert window.parts.editing.lane == 1
    before = desk.reel
    desk.drag(round(cough[0]) - 900, round(cough[1]) + 900)
    desk.key(Qt.Key.Key_Delete, CTRL)
    assert desk.reel.lanes[0] is before.lanes[0]
    under = desk.reel.lanes[1].segments[desk.reel.lanes[1].index_at(round(sum(cough) / 2))]
    assert isinstance(under, RoomTone)
    voice = window.bench.renderer(desk.reel).render(round(cough[0]), round(cough[1]))
    assert 10 * np.log10(np.mean(np.square(voice[: rate // 3]))) > -45  # the narrator's words still sound there

    # a word is mended from another place
    for _ in range(2):
        desk.key(Qt.Key.Key_T, CTRL)  # the music, then all lanes
    misread = planted["misread"]["word_index"]
    desk.click_word(misread)
    desk.key(Qt.Key.Key_W, CTRL | ALT)
    desk.idle()
    view = desk.list().view
    assert view.rowCount() >= 2
    assert "tide" in view.item(0, 0).text().lower()
    QTest.mouseClick(view.viewport(), LEFT, NONE, view.visualItemRect(view.item(0, 0)).center())
    narrator = desk.bookstate.recordings[-3].hash
    asked = len(questions)
    desk.push("Mend with it")
    assert len(questions) == asked  # nobody else speaks there
    named = [s for s in desk.reel.lanes[0].segments if isinstance(s, Piece) and s.name == "tide,"]
    assert [s.recording for s in named] == [narrator]
    place = next(p for p in truth["words"] if p[2] * rate < (named[0].start + named[0].stop) / 2 < p[3] * rate)
    assert window.bench.text(desk.chapter).words[place[0]].text.strip(",") == "tide"

    # music gives way
    for _ in range(3):
        desk.key(Qt.Key.Key_T, CTRL)
    assert window.parts.editing.lane == 2
    monkeypatch.setattr(QInputDialog, "getDouble", lambda *a, **_: (12.0 if "softer" in a[2] else 0.2, True))
    desk.do("lane.give_way")
    look = lane_look(Row(desk.reel.lanes[2]), 0, len(desk.reel))
    first = min(t.start for t in window.bench.tokens(desk.chapter) if t.word == 0)
    levels = dict(look.points)
    assert levels[first - round(0.2 * rate)] == -12.0

    # what is played is what is written
    span = first, first + 5 * rate
    played = window.bench.render_here(desk.reel)(*span)
    np.testing.assert_array_equal(played, window.bench.renderer(desk.reel).render(*span))
    assert recordings_as_they_came(desk)
    edited = desk.reel

    # a day later an offcut is put back where it was
    desk.reopen()
    window = desk.window
    window.bench.open_chapter("c4")
    desk.do("view.proof")
    assert desk.reel == edited
    desk.key(Qt.Key.Key_4, CTRL | ALT)
    desk.idle()
    desk.row("Is it")
    offcut = window.proof_panel.side.currentWidget().page.offcut()
    desk.push("Put back")
    assert len(desk.reel) == len(edited) + gone
    there = covered(desk.reel.lanes)
    assert not any(uncovered(there, sound) for sound in offcut.sounds())
    says = [t.text for t in window.bench.tokens(desk.chapter).heard() if t.start < first + gone]
    assert says[:3] == ["Is", "it", "running?"]
    assert "Ready" in says

    # and all of it can be undone, step by step, to the very first
    while desk.reel != start_reel:
        assert window.bench.undo()
    assert desk.chapter.hearing
