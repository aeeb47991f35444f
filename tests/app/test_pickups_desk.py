"""The Pickups desk by mouse and keys: the ledger, its groups and filters, takes under each other, what fits no line."""

from __future__ import annotations

from dataclasses import replace
from datetime import date
from types import SimpleNamespace

import pytest
from PyQt6.QtCore import QPoint, QSettings, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QDialog, QFileDialog
from support.hearing import lay_hearing
from support.jobs import HeldJobs

from faithful_reel.app.desks import DeskName
from faithful_reel.app.pickups import presenter as pickups_module
from faithful_reel.app.pickups.panel import PickupsPanel
from faithful_reel.app.pickups.presenter import BY_CHAPTER, BY_ROUND, BY_STATE
from faithful_reel.app.pickups.send_dialog import SendDialog
from faithful_reel.app.widgets.parts import ROLE
from faithful_reel.core.book.pickups import AddPickups, ChangePickups, ReceiveTakes, SendRound
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.pickups.ledger import Round, State, Take, Unmatched, Want
from faithful_reel.core.work.asking import asked_by_hand

TODAY = date(2026, 5, 20)
SECOND = 44_100


@pytest.fixture
def desk(opened):
    """The desk of a book of which two chapters are heard, with four lines in the ledger, none sent."""
    window = opened.window
    bench = window.bench
    told = []
    bench.tell = bench.warn = bench.report = told.append
    for chapter, words in (("c1", (12, 40, 60)), ("c2", (20,))):
        lay_hearing(bench, chapter)
        for word in words:
            state = bench.book.chapter(chapter)
            asked = asked_by_hand(bench.book, state, bench.text(state), bench.tokens(state), range(word, word + 1), "too soft")
            assert bench.do(asked)
    held = HeldJobs()
    bench.jobs = held
    presenter = window.parts.pickups
    presenter.today = lambda: TODAY
    window.desks.show(DeskName.PICKUPS)
    panel = window.findChild(PickupsPanel)
    QApplication.processEvents()
    yield SimpleNamespace(window=window, bench=bench, told=told, held=held, p=presenter, panel=panel, opened=opened)
    bench.jobs = window.jobs


def rows_of(panel):
    """What stands in the list: titles, and the lines by their first words."""
    found = []
    for k in range(panel.ledger.count()):
        line = panel.ledger.item(k).data(ROLE)
        found.append(line.main if not line.key else f"- {line.key}")
    return found


def names(desk):
    return [p.id for p in desk.p.rows()]


def line(desk, k=0):
    return desk.p.rows()[k]


def pick(choice, text):
    """Choose an entry of a list as the mouse would."""
    choice.setCurrentText(text)
    choice.activated.emit(choice.currentIndex())


def with_takes(desk, count=3, k=0):
    """Takes come in for a line, of its words at even places."""
    p = line(desk, k)
    size = p.word_count
    takes = []
    for n in range(count):
        at = SECOND * (1 + 20 * n)
        words = tuple((at + 9000 * i, at + 9000 * i + 8000) for i in range(size))
        takes.append(
            Take(
                desk.bench.book.recordings[1].hash,
                at,
                at + 9000 * size,
                n,
                p.line,
                words,
                remarks=("a restart inside",) if n else (),
            )
        )
    left = (Unmatched(desk.bench.book.recordings[1].hash, 200 * SECOND, 203 * SECOND, "something else"),)
    assert desk.bench.do(ReceiveTakes(desk.bench.book.recordings[1].hash, ((p.id, tuple(takes), 0),), 2, left))
    desk.p.choose(p.id)
    QApplication.processEvents()
    return p.id


def test_an_empty_ledger_says_what_to_do(opened):
    window = opened.window
    window.desks.show(DeskName.PICKUPS)
    QApplication.processEvents()
    panel = window.findChild(PickupsPanel)
    assert panel.ledger.count() == 0
    assert "Decide a finding as Pickup" in panel.line.text()
    assert not panel.choose.isEnabled()


def test_lines_stand_in_groups_by_what_is_chosen_and_each_tells_how_far_it_is(desk):
    first, second, third, fourth = names(desk)
    assert desk.bench.do(SendRound(Round(1, (first, fourth), "2026-05-01", "2026-05-10", "the narrator")))
    assert rows_of(desk.panel) == [
        "Never sent", f"- {second}", f"- {third}",
        "Round 1 · sent 2026-05-01 · to the narrator · due 2026-05-10 · 0 of 2 back", f"- {first}", f"- {fourth}",
    ]  # fmt: skip
    pick(desk.panel.order, BY_CHAPTER)
    titles = [c.title.split(":")[0] for c in desk.bench.book.chapters]
    got = rows_of(desk.panel)
    assert [r for r in got if r.startswith("- ")] == [f"- {n}" for n in (first, second, third, fourth)]
    assert got[0] == f"{titles[0]} · 2 to send, 1 out (1 overdue)"
    assert got[4].startswith(titles[1])
    pick(desk.panel.order, BY_STATE)
    assert rows_of(desk.panel) == ["to send · 2", f"- {second}", f"- {third}", "sent · 2", f"- {first}", f"- {fourth}"]
    pick(desk.panel.order, BY_ROUND)
    assert rows_of(desk.panel)[0] == "Never sent"


def test_what_is_overdue_is_told_at_its_line_and_can_be_shown_alone(desk):
    first, second, *_ = names(desk)
    assert desk.bench.do(SendRound(Round(1, (first,), "2026-05-01", "2026-05-10", "")))
    assert desk.bench.do(SendRound(Round(2, (second,), "2026-05-11", "2026-05-21", "")))
    marks = {
        panel_line.key: panel_line.mark
        for k in range(desk.panel.ledger.count())
        if (panel_line := desk.panel.ledger.item(k).data(ROLE)).key
    }
    assert (marks[first], marks[second]) == ("overdue", "sent")
    pick(desk.panel.only, "overdue")
    assert [r for r in rows_of(desk.panel) if r.startswith("- ")] == [f"- {first}"]
    desk.p.choose(first)
    assert "round 1 sent 2026-05-01 due 2026-05-10" in desk.panel.about.text()


def test_the_search_looks_in_words_and_notes_and_says_where_nothing_is(desk):
    p = line(desk, 1)
    word = max(p.line.split(), key=len).strip(".,;:")
    QTest.keyClicks(desk.panel.search, word)
    assert f"- {p.id}" in rows_of(desk.panel)
    desk.panel.search.clear()
    QTest.keyClicks(desk.panel.search, "xyzzy")
    assert rows_of(desk.panel) == []
    assert "No line is so" in desk.panel.line.text()
    desk.panel.search.clear()
    assert len(rows_of(desk.panel)) == 5


def test_lines_of_one_chapter(desk):
    pick(desk.panel.of_chapter, desk.panel.of_chapter.itemText(2))
    assert rows_of(desk.panel) == ["Never sent", f"- {names(desk)[3]}"]
    assert desk.panel.hint.text() == "1 to send"


def test_several_lines_are_changed_at_once_and_all_by_one_undo(desk):
    desk.panel.ledger.setFocus()
    rows = [k for k in range(desk.panel.ledger.count()) if desk.panel.ledger.item(k).data(ROLE).key]
    for n, k in enumerate(rows[:3]):
        at = desk.panel.ledger.visualItemRect(desk.panel.ledger.item(k)).center()
        held = Qt.KeyboardModifier.ControlModifier if n else Qt.KeyboardModifier.NoModifier
        QTest.mouseClick(desk.panel.ledger.viewport(), Qt.MouseButton.LeftButton, held, at)
    pick(desk.panel.want, Want.EMPHASIS.value)
    assert [p.want for p in desk.p.rows()].count(Want.EMPHASIS) == 3
    desk.opened.do("pickups.drop")
    assert [p.state for p in desk.p.rows()].count(State.DROPPED) == 3
    desk.opened.do("edit.undo")
    assert [p.state for p in desk.p.rows()].count(State.DROPPED) == 0
    assert [p.want for p in desk.p.rows()].count(Want.EMPHASIS) == 3


def test_near_lines_are_joined_and_split_again(desk):
    before = desk.p.rows()
    first, second, third, _ = before
    assert third.first_word - second.words.stop < 20
    desk.p.choose(first.id)
    desk.opened.do("pickups.join")  # one is chosen: all that are near it
    assert len(desk.p.rows()) == 2
    assert line(desk).words == range(first.first_word, third.words.stop)
    assert desk.p.pickup() == line(desk)
    desk.opened.do("pickups.split")
    assert len(desk.p.rows()) > 3
    assert {w for p in desk.p.rows() if p.chapter == "c1" for w in p.words} == set(range(first.first_word, third.words.stop))
    desk.opened.do("edit.undo")
    desk.opened.do("edit.undo")
    assert desk.p.rows() == before


def test_keys_go_through_takes_and_words_and_choose(desk):
    name = with_takes(desk)
    takes = desk.panel.takes
    takes.setFocus()
    assert "proposed" in takes._rows[1].told
    assert takes._rows[2].told.endswith("a restart inside")
    QTest.keyClick(takes, Qt.Key.Key_Down)
    QTest.keyClick(takes, Qt.Key.Key_Return)
    p = desk.bench.book.pickup(name)
    assert (p.chosen, p.state) == (1, State.CHOSEN)
    word = takes.word
    QTest.keyClick(takes, Qt.Key.Key_Right)
    assert takes.word == word + 1
    QTest.keyClick(takes, Qt.Key.Key_Down)
    desk.opened.do("pickups.from_here")
    p = desk.bench.book.pickup(name)
    assert [(part.take, part.first, part.stop) for part in p.parts] == [(1, 0, word + 1), (2, word + 1, p.word_count)]
    desk.opened.do("edit.undo")
    assert desk.bench.book.pickup(name).parts == ()


def test_the_word_at_hand_is_brought_into_view(desk):
    with_takes(desk, count=5)
    takes = desk.panel.takes
    takes.setMinimumWidth(4000)
    QApplication.processEvents()
    bar = takes.parentWidget().parentWidget().horizontalScrollBar()
    takes.setFocus()
    for _ in range(len(takes._texts)):
        QTest.keyClick(takes, Qt.Key.Key_Right)
    assert takes.word == len(takes._texts) - 1
    last = takes._xs()[-1]
    visible = range(bar.value(), bar.value() + takes.parentWidget().width() + 1)
    assert round(sum(last) / 2) in visible
    bar.setValue(bar.minimum())  # by hand: what is shown anew stays where it was scrolled to
    desk.p.changed()
    QApplication.processEvents()
    assert bar.value() == bar.minimum()


def test_a_take_is_used_by_a_click_and_the_button(desk):
    name = with_takes(desk)
    takes = desk.panel.takes
    y = next(y for y in range(takes.height()) if takes._row_at(y) == 3)
    QTest.mouseClick(takes, Qt.MouseButton.LeftButton, pos=QPoint(200, y + 5))
    assert desk.p.take_at == 2
    desk.opened.press(desk.panel.choose)
    assert desk.bench.book.pickup(name).chosen == 2


def test_a_take_that_reads_another_line_goes_to_what_fits_none_and_nobody_chose_what_is_left(desk):
    name = with_takes(desk)
    assert desk.p.choose_take(1)
    desk.p.take_at = 1
    desk.opened.do("pickups.drop_take")
    p = desk.bench.book.pickup(name)
    assert len(p.takes) == 2
    assert p.state is State.IN
    assert len(desk.p.unmatched) == 2
    desk.opened.do("edit.undo")
    p = desk.bench.book.pickup(name)
    assert (len(p.takes), p.chosen, p.state) == (3, 1, State.CHOSEN)


def given(monkeypatch, fails=False):
    def given_take(sound, rate, text, left, ears, watch, memory):
        if fails:
            raise FileProblem("The recording can not be read.")
        size = (left.stop - left.start) // len(text.split())
        words = tuple((left.start + size * k, left.start + size * (k + 1)) for k in range(len(text.split())))
        return Take(left.recording, left.start, left.stop, 0, left.heard, words, remarks=("given by hand",))

    monkeypatch.setattr(pickups_module, "given_take", given_take)
    monkeypatch.setattr(pickups_module, "decode", lambda *_: None)


def to_left(desk):
    pick(desk.panel.which, desk.panel.which.itemText(1))
    desk.panel.left.selectRow(0)
    QApplication.processEvents()


def test_a_stretch_that_fits_no_line_is_given_to_one(desk, monkeypatch):
    given(monkeypatch)
    with_takes(desk)
    desk.p.choose(names(desk)[1])
    to_left(desk)
    assert desk.panel.which.itemText(1) == "What fits no line (1)"
    desk.opened.press(desk.panel.give)
    desk.opened.press(desk.panel.give)  # once more while it is being looked at
    desk.held.finish("Find")
    p = desk.bench.book.pickup(names(desk)[1])
    assert (len(p.takes), p.chosen, p.state) == (1, 0, State.CHOSEN)
    assert p.takes[0].remarks == ("given by hand",)
    assert desk.p.unmatched == ()
    desk.held.finish("Find")
    assert "has gone to a line already" in desk.told[-1]
    assert len(desk.bench.book.pickup(p.id).takes) == 1
    desk.opened.do("edit.undo")
    assert len(desk.p.unmatched) == 1


def test_a_stretch_stays_where_it_can_not_be_heard_or_its_line_has_gone(desk, monkeypatch):
    given(monkeypatch, fails=True)
    with_takes(desk)
    desk.p.choose(names(desk)[1])
    assert desk.p.give(0)
    desk.held.finish("Find")
    assert "can not be read" in desk.told[-1]
    assert len(desk.p.unmatched) == 1
    given(monkeypatch)
    assert desk.p.give(0)
    assert desk.bench.do(ChangePickups((names(desk)[1],), state=State.DROPPED))
    desk.held.finish("Find")
    assert len(desk.p.unmatched) + sum(len(p.takes) for p in desk.p.rows()) == 4  # nothing is lost


def test_give_without_a_stretch_says_so(desk):
    assert not desk.p.give(0)
    assert "Choose a line, and a stretch" in desk.told[-1]


def test_a_round_is_sent_with_what_was_chosen_and_that_is_remembered(desk, monkeypatch, tmp_path):
    made = []
    monkeypatch.setattr(QDialog, "exec", lambda self: made.append(self) or 1)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(tmp_path / "round"), ""))

    def write_round(path, book, round_, *_args):
        path.mkdir()

    monkeypatch.setattr(pickups_module, "write_round", write_round)
    desk.opened.do("pickups.send")
    assert isinstance(made[0], SendDialog)
    assert desk.bench.book.rounds == ()  # not before it is written
    desk.held.finish("Write round 1")
    [sent] = desk.bench.book.rounds
    assert (sent.number, sent.sent, sent.due) == (1, "2026-05-20", "2026-05-27")
    assert {p.state for p in desk.p.rows()} == {State.SENT}
    assert "Round 1 with 4 lines is in round" in desk.told[-1]


def test_a_round_that_could_not_be_written_is_not_sent(desk, monkeypatch, tmp_path):
    def write_round(*_args):
        raise FileProblem("The disk is full.")

    monkeypatch.setattr(pickups_module, "write_round", write_round)
    assert desk.p.send(tmp_path / "round")
    desk.held.finish("Write")
    assert desk.bench.book.rounds == ()
    assert {p.state for p in desk.p.rows()} == {State.TO_SEND}
    assert "disk is full" in desk.told[-1]


def test_the_send_dialog_remembers(qtbot, tmp_path):
    settings = QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat)
    first = SendDialog(None, settings, 2, 1, TODAY)
    qtbot.addWidget(first)
    for suffix, check in first.formats.items():
        check.setChecked(suffix in {".pdf", ".csv"})
    first.to.setText("the narrator")
    first.as_zip.setChecked(True)
    first.clips.setCurrentText("as MP3")
    asked = first.asked()
    assert (asked.to, asked.due) == ("the narrator", "2026-05-27")
    second = SendDialog(None, settings, 3, 12, TODAY)
    qtbot.addWidget(second)
    assert {s for s, c in second.formats.items() if c.isChecked()} == {".pdf", ".csv"}
    assert second.as_zip.isChecked()
    assert second.clips.currentText() == "as MP3"
    assert second.to.text() == "the narrator"


def test_three_hundred_lines_are_shown_and_searched(desk):
    p = line(desk)
    many = [
        replace(p, id=f"m{c}{k}", chapter=c, first_word=k, word_count=3, note=f"number {c}{k}")
        for c in ("c1", "c2")
        for k in range(150)
    ]
    assert desk.bench.do(AddPickups(tuple(many)))
    QApplication.processEvents()
    assert sum(r.startswith("- ") for r in rows_of(desk.panel)) == 304
    desk.panel.search.setText("number c2149")
    QApplication.processEvents()
    assert rows_of(desk.panel) == ["Never sent", "- mc2149"]
    assert desk.p.pickup().id == "mc2149"


def test_the_first_line_of_a_group_is_shown_with_its_title_and_a_line_without_takes_says_so(desk):
    many = [replace(line(desk), id=f"m{k}", first_word=k, word_count=3) for k in range(80)]
    assert desk.bench.do(AddPickups(tuple(many)))
    desk.p.choose(desk.p.rows()[60].id)
    QApplication.processEvents()
    desk.p.choose(desk.p.rows()[0].id)
    QApplication.processEvents()
    assert desk.panel.ledger.visualItemRect(desk.panel.ledger.item(0)).top() >= 0
    assert desk.panel.takes._rows[0].told.endswith("no take yet")
