"""The whole book heard by one act, doubts settled by keys alone, one taken back, what was learned listed and forgotten."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from faithful_reel.core.collate.findings import READING, Decision, is_doubt


@pytest.mark.slow
def test_a_book_is_heard_and_its_doubts_are_settled_by_keys(remembering):
    opened, window = remembering, remembering.window
    bench, proof = window.bench, window.parts.proof
    quick = window.actions_._acts["quick.start"][1]
    queue = window.actions_._acts["queue.book"][1].queue

    # the first look: no chapter was heard, and every page has its sound by estimate
    opened.do("view.proof")
    opened.qtbot.waitUntil(lambda: bench.estimate(bench.chapter) is not None, timeout=60_000)
    assert window.panels["proof"].estimate.isVisible()

    # all of it by one key; the first chapter is worked on while the others are heard
    window.activateWindow()
    QTest.keyClick(window.galley, Qt.Key.Key_U, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    first = bench.book.chapters[0].id
    opened.qtbot.waitUntil(lambda: bool(bench.book.chapter(first).hearing), timeout=300_000)
    QApplication.processEvents()
    assert not window.panels["proof"].estimate.isVisible()
    proof.step(1)
    opened.qtbot.waitUntil(lambda: not queue.at and not queue.waiting, timeout=600_000)
    opened.idle()
    heard = [c for c in bench.book.chapters if c.recording]
    assert all(c.hearing for c in heard)

    # every doubt of the book, by keys alone
    quick.quick.set_scope(whole_book=True)
    doubts = [(c.id, f.id) for c in heard for f in c.findings if is_doubt(f)]
    assert doubts
    window.galley.setFocus()
    QTest.keyClick(window.galley, Qt.Key.Key_Q, Qt.KeyboardModifier.ShiftModifier)
    assert sorted(quick.quick.queue) == sorted(doubts)
    settled = []
    while (f := quick.quick.finding()) is not None:
        assert window.parts.player.playing  # each sounds at once
        assert quick.pane.heard.text()
        settled.append((bench.chapter_id, f.id))
        QTest.keyClick(quick.pane, Qt.Key.Key_1 if len(settled) % 3 == 1 else Qt.Key.Key_2)
    assert sorted(settled) == sorted(doubts)
    kept, passed, left = quick.quick.counts()
    assert (kept + passed, left) == (len(doubts), 0)
    assert kept == -(-len(doubts) // 3)

    # one is taken back, and comes again
    QTest.keyClick(quick.pane, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert quick.quick.counts()[2] == 1
    assert (bench.chapter_id, quick.quick.finding().id) == settled[-1]
    QTest.keyClick(quick.pane, Qt.Key.Key_1)
    assert bench.book.chapter(settled[-1][0]).finding(settled[-1][1]).kept

    # what stays in the docket is what was kept, beside what the ear was sure of
    QTest.keyClick(quick.pane, Qt.Key.Key_Q, Qt.KeyboardModifier.ShiftModifier)
    assert not any(is_doubt(f) for c in bench.book.chapters for f in c.findings)

    # deciding more of the same teaches, is listed, and is forgotten
    for chapter in heard:
        bench.open_chapter(chapter.id)
        for f in bench.book.chapter(chapter.id).findings:
            if f.decision is Decision.OPEN and f.kind in READING:
                proof.choose(f.id)
                opened.keys("S")
    lessons = bench.lessons()
    assert lessons
    QTest.keyClick(window.galley, Qt.Key.Key_Y, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    listed = window.actions_._acts["learned.show"][1].learned.view
    assert [listed.item(row, 1).text() for row in range(listed.rowCount())] == [one.told for one in lessons]
    opened.do("learned.forget")
    assert len(bench.lessons()) == len(lessons) - 1
    opened.do("learned.forget_all")
    assert bench.lessons() == ()
    opened.reopen()
    assert opened.window.bench.lessons() == ()
