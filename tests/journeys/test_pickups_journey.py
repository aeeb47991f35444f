"""Twelve lines go out in two rounds, come back from the booth, and are in the book: by mouse and keys, in the real window."""

from __future__ import annotations

import csv

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QDialog, QFileDialog

from faithful_reel.app.desks import DeskName
from faithful_reel.app.recording.dialog import RecordDialog
from faithful_reel.app.recording.recorder import Stage
from faithful_reel.app.widgets.parts import ROLE
from faithful_reel.core.audio.encode import write_audio
from faithful_reel.core.book.keeping import verified
from faithful_reel.core.book.pickups import placed_span
from faithful_reel.core.collate.findings import Decision, Kind
from faithful_reel.core.pickups.ledger import DONE, State
from faithful_reel.core.standins.booth import BoothSettings, lines_of_sheet, performed, voices_of
from faithful_reel.core.units import BOOK_RATE

WANTED = (Kind.MISREAD, Kind.NAME, Kind.SKIPPED)
A_CHAPTER = 4


def ask_for(opened, chapter):
    """Decide findings of a chapter as pickups, each by its key, until so many lines are asked for."""
    window = opened.window
    window.desks.show(DeskName.PROOF)
    window.bench.open_chapter(chapter)
    proof = window.parts.proof
    for finding in [f for f in opened.bookstate.chapter(chapter).findings if f.kind in WANTED and f.confidence >= 0.5]:
        if sum(p.chapter == chapter for p in opened.bookstate.pickups) == A_CHAPTER:
            return
        proof.choose(finding.id, chapter)
        opened.keys("P")
        assert next(f for f in opened.bookstate.chapter(chapter).findings if f.id == finding.id).decision is Decision.PICKUP


def send(opened, monkeypatch, folder):
    """Send what is to be sent into a folder; the rows of its table."""
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(folder), "New folder (*)"))
    monkeypatch.setattr(QDialog, "exec", lambda _self: 1)
    opened.do("pickups.send")
    opened.idle()
    written = {p.suffix for p in folder.iterdir() if p.is_file()}
    assert written >= {".pdf", ".html", ".docx", ".xlsx", ".csv"}
    with next(folder.glob("*.csv")).open(encoding="utf-8-sig", newline="") as file:
        return list(csv.DictReader(file))


def read_in_booth(demo, lines, path, seed):
    """The booth reads lines; what it gives back."""
    made = performed(lines, voices_of(demo), BoothSettings(seed=seed, takes=(2, 2), shuffled=True))
    assert not made.unsaid
    write_audio(path, [made.sound[None]], BOOK_RATE)
    return path


def receive(opened, monkeypatch, *paths):
    """Receive recordings by the menu."""
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_a, **_k: ([str(p) for p in paths], ""))
    opened.do("pickups.receive")
    opened.idle()


def pickup_of(opened, words):
    """The line that holds some words."""
    return next(p for p in opened.bookstate.pickups if words in p.line)


def choose_line(opened, pickup):
    """Click a line of the ledger."""
    ledger = opened.window.panels["pickups"].ledger
    item = next(ledger.item(k) for k in range(ledger.count()) if ledger.item(k).data(ROLE).key == pickup.id)
    ledger.scrollToItem(item)
    QTest.mouseClick(ledger.viewport(), Qt.MouseButton.LeftButton, pos=ledger.visualItemRect(item).center())
    QApplication.processEvents()
    assert opened.window.parts.pickups.current == pickup.id


@pytest.mark.slow
def test_twelve_lines_in_two_rounds(remembering, demo, tmp_path, monkeypatch):
    opened = remembering
    for chapter in ("c1", "c2", "c3"):
        opened.window.bench.open_chapter(chapter)
        opened.window.parts.proof.hear_chapter(chapter)
        opened.idle()

    # the first round: two chapters; the last of its lines does not come back
    ask_for(opened, "c1")
    ask_for(opened, "c2")
    rows = send(opened, monkeypatch, tmp_path / "round-1")
    lines = lines_of_sheet(next((tmp_path / "round-1").glob("*.xlsx")))
    assert [r["read this line"] for r in rows] == lines
    assert len(lines) == 2 * A_CHAPTER
    assert all(p.state is State.SENT and p.round == 1 for p in opened.bookstate.pickups)
    late, kept_back = pickup_of(opened, "as if this were no more"), pickup_of(opened, "Write that down")
    back = [line for line in lines if line not in (late.line, kept_back.line)]
    receive(opened, monkeypatch, read_in_booth(demo, back, tmp_path / "back-1.wav", 3))
    state = {p.line: p for p in opened.bookstate.pickups}
    assert all(state[line].state is State.IN and len(state[line].takes) >= 2 for line in back)
    assert not opened.bookstate.pickup(late.id).takes

    # the book is closed and opened; what did not come back goes out with the second round
    before = opened.bookstate
    opened.reopen()
    assert opened.bookstate == before
    ask_for(opened, "c3")
    rows = send(opened, monkeypatch, tmp_path / "round-2")
    assert {r["read this line"] for r in rows} >= {late.line}
    assert len(opened.bookstate.pickups) == 3 * A_CHAPTER
    assert opened.bookstate.pickup(late.id).round == 2
    again = [line for line in lines_of_sheet(next((tmp_path / "round-2").glob("*.csv"))) if line != kept_back.line]
    assert len(again) == A_CHAPTER + 1
    receive(opened, monkeypatch, read_in_booth(demo, again, tmp_path / "back-2.wav", 4))
    assert sum(p.state is State.IN for p in opened.bookstate.pickups) == 3 * A_CHAPTER - 1

    # one take is chosen by hand: down to another row, Enter
    opened.press(opened.window.desk_buttons["pickups"])
    window, panel = opened.window, opened.window.panels["pickups"]
    children = pickup_of(opened, "Children ran out")
    choose_line(opened, children)
    other = 1 - min(1, children.chosen)
    panel.takes.setFocus()
    while panel.take != other:
        QTest.keyClick(panel.takes, Qt.Key.Key_Down if panel.take < other else Qt.Key.Key_Up)
    QTest.keyClick(panel.takes, Qt.Key.Key_Return)
    children = opened.bookstate.pickup(children.id)
    assert (children.chosen, children.state) == (other, State.CHOSEN)

    # one line takes its words from two takes
    bottles = pickup_of(opened, "green bottles")
    choose_line(opened, bottles)
    first = bottles.chosen
    panel.takes.setFocus()
    while panel.take != 1 - first:
        QTest.keyClick(panel.takes, Qt.Key.Key_Down if panel.take < 1 - first else Qt.Key.Key_Up)
    beside = bottles.word_count // 2
    while panel.takes.word != beside:
        QTest.keyClick(panel.takes, Qt.Key.Key_Right if panel.takes.word < beside else Qt.Key.Key_Left)
    opened.press(panel.from_here)
    bottles = opened.bookstate.pickup(bottles.id)
    assert [(p.take, p.first, p.stop) for p in bottles.parts] == [
        (first, 0, beside),
        (1 - first, beside, bottles.word_count),
    ]

    # one is recorded at the desk: the reading before it plays, it stops by itself, and is put in at once
    choose_line(opened, kept_back)

    def at_the_desk(dialog):
        assert isinstance(dialog, RecordDialog)
        dialog.show()
        assert "stand-in booth" in dialog.notice.text()
        assert dialog.notice.isVisible()
        QTest.mouseClick(dialog.record, Qt.MouseButton.LeftButton)
        assert window.transport.playing
        opened.qtbot.waitUntil(lambda: dialog._presenter.stage is Stage.DONE, timeout=60_000)
        assert dialog.takes.rowCount() == 1
        QTest.mouseClick(dialog.keeps[-1][0], Qt.MouseButton.LeftButton)
        assert not dialog.isVisible()
        return 1

    monkeypatch.setattr(QDialog, "exec", at_the_desk)
    opened.do("record.line")
    opened.qtbot.waitUntil(
        lambda: not window.jobs.running and opened.bookstate.pickup(kept_back.id).state in DONE, timeout=120_000
    )
    opened.idle()
    monkeypatch.setattr(QDialog, "exec", lambda _self: 1)

    # all that can be put in is, the rest one by one by eye
    opened.press(window.desk_buttons["splice"])
    splice = window.parts.splice
    opened.do("splice.place_book")
    opened.idle()
    for pickup in [p for p in splice.rows() if p.state not in DONE]:
        splice.choose(pickup.id)
        opened.idle()
        opened.press(window.panels["splice"].place)
        opened.idle()
    for pickup in opened.bookstate.pickups:
        assert pickup.state in DONE, pickup.line
        assert placed_span(opened.bookstate.chapter(pickup.chapter).reel, pickup.id) is not None
    assert placed_span(opened.bookstate.chapter("c1").reel, bottles.id, 1) is not None

    # one is moved afterwards, by a millisecond; its join moves, and nothing else
    splice.choose(children.id)
    opened.idle()
    before, reel = splice.in_place(), opened.bookstate.chapter("c1").reel
    opened.do("splice.in_later")
    opened.idle()
    now = opened.bookstate.chapter("c1").reel
    assert now != reel
    assert splice.in_place().joins[0] - before.joins[0] == round(0.001 * BOOK_RATE)
    assert splice.in_place().joins[-1] == before.joins[-1]
    assert len(now) == len(reel)

    # one is taken out: what was there comes back; and goes in again
    ships = pickup_of(opened, "the ships are counted")
    splice.choose(ships.id)
    opened.idle()
    opened.press(window.panels["splice"].out)
    opened.idle()
    assert opened.bookstate.pickup(ships.id).state not in DONE
    assert placed_span(opened.bookstate.chapter("c2").reel, ships.id) is None
    opened.press(window.panels["splice"].place)
    opened.idle()
    assert opened.bookstate.pickup(ships.id).state in DONE

    # the book is closed on the way
    before = opened.bookstate
    opened.reopen()
    assert opened.bookstate == before
    window, splice = opened.window, opened.window.parts.splice

    # all are heard again as they stand, and passed
    splice.hear_again(tuple(p.id for p in opened.bookstate.pickups))
    opened.idle()
    told = {p.line: p.told for p in opened.bookstate.pickups if p.told}
    assert sum(p.state is State.HEARD for p in opened.bookstate.pickups) >= 3 * A_CHAPTER - 2, told
    window.desks.show(DeskName.SPLICE)
    for pickup in opened.bookstate.pickups:
        splice.choose(pickup.id)
        opened.idle()
        opened.press(window.panels["splice"].passed)
    assert {p.state for p in opened.bookstate.pickups} == {State.PASSED}
    for chapter in ("c1", "c2", "c3"):
        mine = [f for p in opened.bookstate.pickups if p.chapter == chapter for f in p.findings]
        decided = {f.id: f.decision for f in opened.bookstate.chapter(chapter).findings}
        assert all(decided[f] is Decision.PICKUP for f in mine)
    book = opened.book
    opened.close()
    assert verified(book).sound
