"""From raw narration to a checked chapter file, in the real window, by mouse and keys."""

from __future__ import annotations

import json

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from faithful_reel.app.desks import DeskName
from faithful_reel.core.book.pickups import placed_span
from faithful_reel.core.collate.findings import Decision, Kind
from faithful_reel.core.measure.profile import load_profile
from faithful_reel.core.pickups.ledger import State
from faithful_reel.core.release.check import checked_file
from faithful_reel.core.splice.seam import Ease

DECISIONS = {
    Kind.MISREAD: "P", Kind.SKIPPED: "P", Kind.ADDED: "M", Kind.REPEATED: "M", Kind.FALSE_START: "M", Kind.PAUSE: "M", Kind.NOISE: "M", Kind.LEVEL: "S",
    Kind.OTHER: "S",
}  # fmt: skip


@pytest.mark.slow
def test_from_raw_chapter_to_released_file(remembering, demo, tmp_path):
    opened, window = remembering, remembering.window
    truth = json.loads((demo / "truth.json").read_text())["chapter-1"]["planted"]

    # proof a chapter
    assert window.desk_buttons["proof"].isChecked()
    opened.press(window.panels["proof"].docket.hear)
    assert window.parts.proof.hearing_now == {"c1"}
    opened.idle()
    docket = window.parts.proof.docket()
    assert {f.kind for f in docket} >= {
        Kind.MISREAD,
        Kind.SKIPPED,
        Kind.ADDED,
        Kind.REPEATED,
        Kind.FALSE_START,
        Kind.PAUSE,
        Kind.NOISE,
        Kind.LEVEL,
    }
    assert len(docket) >= 0.8 * len(truth)
    raw_length = len(opened.bookstate.chapters[0].reel)

    # decide findings, one after another, by keys alone
    opened.keys("N")
    for _ in range(len(docket)):
        opened.keys(DECISIONS[window.parts.proof.finding().kind])
    chapter = opened.bookstate.chapters[0]
    assert all(f.decision is not Decision.OPEN for f in window.parts.proof.docket())
    assert len(chapter.reel) < raw_length - 10 * 44_100  # three lines, a false start and a pause are out
    lines = [p.line for p in opened.bookstate.pickups]
    assert "“Write that down.”" in lines
    assert window.desk_buttons["pickups"].text() == f"Pickups {len(lines)}"

    # take one back and do it again
    before = opened.bookstate
    opened.do("edit.undo")
    assert opened.bookstate != before
    opened.do("edit.redo")
    assert opened.bookstate == before

    # the pickup recording comes in and is sorted
    window.parts.pickups.receive(demo / "pickups-1.flac")
    opened.idle()
    assert {p.line for p in opened.bookstate.pickups if p.takes} >= {
        "“Write that down.”",
        "By nine o’clock the whole town had come down to look.",
    }

    # look at a seam and place the takes
    opened.press(window.desk_buttons["splice"])
    panel = window.panels["splice"]
    opened.idle()
    planned = window.parts.splice.current_plan()
    assert planned is not None
    assert panel.seam.rowCount() == 2
    assert panel.entering.count() >= 1
    assert all(s.ease is not Ease.REDO for s in window.parts.splice.seams)
    waiting = len([p for p in window.parts.splice.rows() if p.state is State.IN])
    for _ in range(waiting):
        pickup = window.parts.splice.pickup()
        opened.idle()
        opened.press(panel.place)
        assert opened.bookstate.pickup(pickup.id).state is State.SPLICED
        assert placed_span(opened.bookstate.chapters[0].reel, pickup.id) is not None
        opened.idle()
        assert opened.bookstate.pickup(pickup.id).state is State.HEARD, opened.bookstate.pickup(pickup.id).told
        opened.press(panel.passed)
        assert opened.bookstate.pickup(pickup.id).state is State.PASSED

    # close and open: nothing is lost, the history is still there
    state, steps = opened.bookstate, len(window.bench.session.store.history())
    opened.reopen()
    window = opened.window
    assert opened.bookstate == state
    assert len(window.bench.session.store.history()) == steps
    opened.do("edit.undo")
    assert opened.bookstate != state
    opened.do("edit.redo")
    assert opened.bookstate == state

    # master, release, check
    opened.press(window.desk_buttons["master"])
    opened.press(window.panels["master"].one)
    opened.idle()
    master = opened.bookstate.chapters[0].master
    assert master.passed
    assert window.parts.mastering.state(opened.bookstate.chapters[0]) == "passes"
    window.desks.show(DeskName.RELEASE)
    window.parts.releasing.release(tmp_path / "out")
    opened.idle()
    files = sorted(p.name for p in (tmp_path / "out").iterdir())
    assert files == ["01 Chapter One - Low Water.mp3", "report.html"]
    figures, found = checked_file(tmp_path / "out" / files[0], load_profile("retail"))
    assert all(v.passed for v in found)
    assert figures.seconds < 100 - 15
    assert window.panels["release"].files.rowCount() == len(found)


@pytest.mark.slow
def test_a_chapter_is_proofed_by_keyboard_alone(remembering, demo):
    """Nothing but keys, each to the widget that has the focus."""
    opened, window = remembering, remembering.window
    truth = json.loads((demo / "truth.json").read_text())["chapter-3"]["planted"]

    def key(name, modifier=Qt.KeyboardModifier.NoModifier):
        window.activateWindow()
        QTest.keyClick(QApplication.focusWidget() or window, name, modifier)

    ctrl, shift, none = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.NoModifier
    key(Qt.Key.Key_2, ctrl)
    key(Qt.Key.Key_PageDown, ctrl)
    key(Qt.Key.Key_PageDown, ctrl)
    assert window.bench.chapter_id == "c3"
    key(Qt.Key.Key_E, ctrl)
    opened.idle()
    key("N")
    at = window.parts.proof.current
    key("N")
    key("B")
    assert window.parts.proof.current == at
    # hear the first with its lead-in, and write a note while it sounds
    key("H")
    assert window.parts.player.playing
    key("F")
    QTest.keyClicks(QApplication.focusWidget(), "listen again")
    key(Qt.Key.Key_Return)
    assert window.parts.player.playing
    key(Qt.Key.Key_Space)
    assert [f.note for f in opened.bookstate.chapters[2].findings if f.id.startswith("h")] == ["listen again"]
    # find a word, and go on deciding where the docket stood
    key(Qt.Key.Key_F, ctrl)
    QTest.keyClicks(QApplication.focusWidget(), "harbour")
    key(Qt.Key.Key_Return)
    key(Qt.Key.Key_Escape)
    assert "harbour" in window.bench.text(window.bench.chapter).words[window.galley.cursor_word].text
    for _ in window.parts.proof.docket():
        key("B")
    for _ in range(len(window.parts.proof.docket())):
        key(DECISIONS.get(window.parts.proof.finding().kind, "S"))
    chapter = opened.bookstate.chapters[2]
    assert all(f.decision is not Decision.OPEN for f in window.parts.proof.docket())
    # take the last one back, and do it again
    key(Qt.Key.Key_Z, ctrl)
    assert opened.bookstate.chapters[2] != chapter
    key(Qt.Key.Key_Z, ctrl | shift)
    assert opened.bookstate.chapters[2] == chapter
    # listen to some of what is left, and sign the chapter off
    key(Qt.Key.Key_U, none)
    key(Qt.Key.Key_Space)
    opened.qtbot.waitUntil(lambda: window.parts.player.position > window.transport._stretch.start + 20_000, timeout=10_000)
    key(Qt.Key.Key_Space)
    assert window.parts.proof.listening.listened("c3")
    key(Qt.Key.Key_O, ctrl | shift)
    assert window.parts.proof.proofed(opened.bookstate.chapters[2]) == "signed off"
    reading = [p for p in truth if p["kind"] in ("misread", "skipped", "added", "repeated", "false_start")]
    decided = [f for f in chapter.findings if f.decision is not Decision.OPEN]
    for planted in reading:
        start, end = (44_100 * planted[k] for k in ("start", "end"))
        assert any(f.start < end + 13_000 and f.stop > start - 13_000 for f in decided), planted


@pytest.mark.slow
def test_listening_lights_the_word_that_is_heard(remembering):
    opened = remembering
    opened.do("proof.hear")
    opened.idle()
    window = opened.window
    word = 40
    opened.click_word(word, double=True)
    assert window.parts.player.playing
    opened.qtbot.waitUntil(lambda: window.galley.lit_word > word, timeout=8000)
    assert window.parts.foot.meter.latched > -60
    QTest.keyClick(window.galley, Qt.Key.Key_Space)
    assert not window.parts.player.playing
    at = window.transport.spot
    opened.qtbot.wait(120)
    assert window.transport.spot == at
    opened.keys("N")
    opened.keys("H")
    assert window.parts.player.playing
    finding = window.parts.proof.span(window.parts.proof.finding())
    assert window.transport._stretch.start == finding.start - 2 * 44_100
    window.parts.player.stop()


@pytest.mark.slow
def test_cancelling_a_hearing_changes_nothing(opened):
    head = opened.window.bench.session.store.head
    page = opened.window.galley.geometry()
    opened.do("proof.hear")
    opened.qtbot.waitUntil(opened.window.job_row.isVisible, timeout=5000)
    opened.qtbot.waitUntil(lambda: opened.window.job_row.left.text().endswith("left"), timeout=30_000)
    assert opened.window.galley.geometry() == page  # it does not jump
    opened.press(opened.window.job_row.cancel)
    opened.idle()
    assert opened.window.bench.session.store.head == head
    assert opened.window.parts.proof.hearing_now == set()
    assert not opened.window.job_row.isVisible()
    assert opened.window.galley.geometry() == page
