"""The Splice desk by mouse and keys: planning beside the window, ends, matches, putting in, taking out, hearing again."""

from __future__ import annotations

from dataclasses import replace
from types import SimpleNamespace

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QDialog, QFileDialog
from support.hearing import STEP, WORD, lay_hearing
from support.jobs import HeldJobs

from faithful_reel.app.desks import DeskName
from faithful_reel.app.splice import presenter as splice_module
from faithful_reel.app.splice.panel import SplicePanel
from faithful_reel.app.splice.presenter import SWITCHES
from faithful_reel.core.book.commands import EditReel, LeaveOut
from faithful_reel.core.book.pickups import AddPickups, ChooseParts, ChooseTake, ReceiveTakes, placed_span
from faithful_reel.core.errors import EditRefused, StoreProblem
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.pickups.ledger import Part, State, Take
from faithful_reel.core.reel.commands import CutAndClose
from faithful_reel.core.work.asking import asked_by_hand

RATE = 44_100


def take_of(bench, line, first, *, departures=0, remarks=()):
    """A take of a line's words in the second chapter's recording, from a sample on, at the pace of the hearing that was laid."""
    words = tuple((first + STEP * k, first + STEP * k + WORD) for k in range(line.word_count))
    return Take(
        bench.book.recordings[1].hash, first, words[-1][1], departures, line.line, words, remarks=remarks, clear=(RATE // 2, RATE // 2)
    )  # fmt: skip


@pytest.fixture
def desk(opened):
    """The desk with two lines of chapter one whose takes are in, of which the first has two; jobs wait for the test."""
    window = opened.window
    bench = window.bench
    told = []
    bench.tell = bench.warn = bench.report = told.append
    lay_hearing(bench)
    held = HeldJobs()
    bench.jobs = held
    found = []
    proof = window.parts.proof
    proof.choose("f1", "c1")
    opened.keys("P")
    chapter = bench.book.chapter("c1")
    assert bench.do(asked_by_hand(bench.book, chapter, bench.text(chapter), bench.tokens(chapter), range(60, 61), ""))
    for k, line in enumerate(bench.book.pickups):
        takes = [take_of(bench, line, (12 + 25 * k) * RATE), take_of(bench, line, (40 + 20 * k) * RATE)]
        found.append((line.id, tuple(takes[: 2 - k]), 0))
    assert bench.do(ReceiveTakes(bench.book.recordings[1].hash, tuple(found), 2))
    window.bench.open_chapter("c1")
    window.desks.show(DeskName.SPLICE)
    splice = window.parts.splice
    splice.choose(found[0][0])
    panel = window.findChild(SplicePanel)
    heard = []
    transport = window.parts.transport
    transport.hear_sound = lambda _render, start, stop, **how: heard.append(("sound", start, stop, how))
    transport.hear_reel = lambda _reel, start, stop: heard.append(("reel", start, stop))
    desk = SimpleNamespace(
        window=window, bench=bench, told=told, held=held, s=splice, panel=panel, opened=opened, heard=heard,
        first=found[0][0], second=found[1][0],
    )  # fmt: skip
    QApplication.processEvents()
    yield desk
    bench.jobs = window.jobs


def planned(desk):
    """Let the plan be made."""
    while any(h.name == "Compare the session" for h in desk.held.held):
        desk.held.finish("Compare")
    while any(h.name == "Plan the splice" for h in desk.held.held):
        desk.held.finish("Plan")
    while any(h.name == "Keep the matched take" for h in desk.held.held):
        desk.held.finish("Keep")
    QApplication.processEvents()
    return desk.s.current_plan()


def others(desk):
    """Finish whatever else waits, but not the ears."""
    for held in list(desk.held.held):
        if not held.name.startswith("Hear"):
            desk.held.finish(held.name)
    QApplication.processEvents()


def reel(desk):
    return desk.bench.book.chapter("c1").reel


def put_in(desk):
    assert planned(desk) is not None
    desk.opened.press(desk.panel.place)
    assert desk.bench.book.pickup(desk.first).state is State.SPLICED


def test_a_line_is_planned_beside_the_window_and_put_in_as_it_was_shown(desk):
    assert desk.s.busy
    assert not desk.panel.place.isEnabled()
    assert "being planned" in desk.panel.trio._empty
    plan = planned(desk)
    assert desk.panel.place.isEnabled()
    before = reel(desk)
    desk.opened.press(desk.panel.place)
    now = reel(desk)
    assert now is not before
    [put] = desk.bench.book.pickup(desk.first).placed
    command = plan.previews[0].plan.command
    pieces = [p for p in now.lanes[0].segments if getattr(p, "take", "").startswith(desk.first)]
    assert [(p.start, p.stop) for p in pieces] == [(command.take_start, command.take_stop)]
    assert put.recording == pieces[0].recording
    assert desk.bench.path_of(put.recording).is_file()
    desk.opened.do("edit.undo")
    assert reel(desk) == before
    assert desk.bench.book.pickup(desk.first).state is State.IN


def test_a_line_that_is_put_in_the_moment_it_is_shown_is_put_in(desk):
    """The matched take is written after the plan is shown: who is faster loses nothing, and nothing of it comes late."""
    desk.held.finish("Compare")
    while any(h.name == "Plan the splice" for h in desk.held.held):
        desk.held.finish("Plan")
    QApplication.processEvents()
    desk.opened.press(desk.panel.place)
    [put] = desk.bench.book.pickup(desk.first).placed
    assert desk.bench.path_of(put.recording).is_file()
    while any(h.name == "Keep the matched take" for h in desk.held.held):
        desk.held.finish("Keep")
    assert desk.s.planned is None  # what was written late is of a plan that is done
    assert desk.s.in_place() is not None
    assert desk.bench.path_of(put.recording).is_file()


def test_a_matched_take_that_can_not_be_written_is_told(desk, monkeypatch):
    def full(*_args):
        raise StoreProblem("It could not be written into the book. Make room and try again.")

    before = desk.bench.book
    with monkeypatch.context() as disk:
        disk.setattr(splice_module, "keep_matched", full)
        assert planned(desk) is not None
        assert "Make room" in desk.told[-1]
        assert not desk.s.place()
        assert desk.told.count(desk.told[-1]) == 2
        assert desk.bench.book is before
    assert desk.s.place()  # once there is room
    assert desk.bench.book.pickup(desk.first).state is State.SPLICED


def test_a_plan_of_what_was_is_not_put_in(desk):
    assert planned(desk) is not None
    assert desk.bench.do(EditReel("c1", CutAndClose(100_000, 140_000)))
    assert desk.s.current_plan() is None
    assert not desk.s.place()
    assert "goes in as soon as it is" in desk.told[-1]
    assert desk.bench.book.pickup(desk.first).state is not State.SPLICED
    planned(desk)
    put = desk.bench.book.pickup(desk.first)
    assert put.state is State.SPLICED
    assert placed_span(desk.bench.book.chapter("c1").reel, desk.first) is not None  # in the reel as it is, not as it was


def test_of_plans_asked_for_one_after_another_only_the_last_counts(desk):
    assert desk.s.busy
    desk.s.switch("tone", on=False)
    plans = [h for h in desk.held.held if h.name == "Plan the splice"]
    assert len(plans) == 2
    made = [h.job(Unwatched()) for h in plans]
    plans[1].done(made[1])
    plans[0].done(made[0])
    desk.held.held = [h for h in desk.held.held if h not in plans]
    assert not desk.s.current_plan().switches.tone


def test_the_next_best_proposals_by_their_keys_and_by_the_list(desk):
    plan = planned(desk)
    first = plan.previews[0].plan
    assert desk.panel.entering.count() == len(first.entering) > 1
    at = first.entering.index(first.chosen_in)
    desk.opened.do("splice.in_next")
    plan = planned(desk)
    assert plan.previews[0].plan.entering.index(plan.previews[0].plan.chosen_in) == at + 1
    desk.opened.do("splice.in_better")
    assert planned(desk).previews[0].plan.chosen_in == first.chosen_in
    desk.panel.leaving.setCurrentIndex(1)
    desk.panel.leaving.activated.emit(1)
    plan = planned(desk)
    assert plan.previews[-1].plan.leaving.index(plan.previews[-1].plan.chosen_out) == 1


@pytest.mark.parametrize(("act", "by"), [("splice.in_later", 44), ("splice.in_earlier_fine", -1)])
def test_an_end_is_moved_before_it_is_in_and_after(desk, act, by):
    was = planned(desk).previews[0].plan.command
    desk.opened.do(act)
    now = planned(desk).previews[0].plan.command
    assert (now.start - was.start, now.take_start - was.take_start) == (by, by)
    put_in(desk)
    before = desk.s.in_place().joins[0]
    length = len(reel(desk))
    desk.opened.do(act)
    assert desk.s.in_place().joins[0] - before == by
    assert len(reel(desk)) == length
    desk.opened.do("edit.undo")
    assert desk.s.in_place().joins[0] == before


def test_an_end_goes_to_the_next_quiet_place_or_says_that_there_is_none(desk, monkeypatch):
    was = planned(desk).previews[0].plan.command
    desk.opened.do("splice.in_valley")
    now = planned(desk).previews[0].plan.command
    assert RATE // 250 < now.start - was.start < RATE // 2
    monkeypatch.setattr(splice_module, "next_valley", lambda *_: 0)
    desk.opened.do("splice.in_valley_before")
    assert "no quieter place" in desk.told[-1]


@pytest.mark.parametrize("name", SWITCHES)
def test_a_match_is_left_or_made_by_its_key_and_the_line_is_heard_so(desk, name):
    planned(desk)
    was = getattr(desk.s.switches, name)
    desk.opened.do(f"splice.match_{name}")
    assert getattr(desk.s.switches, name) is not was
    assert desk.heard == []
    plan = planned(desk)
    assert getattr(plan.switches, name) is not was
    assert [h[0] for h in desk.heard] == ["sound"]
    assert desk.panel.matches[name].isChecked() is not was
    desk.panel.matches[name].click()
    assert getattr(desk.s.switches, name) is was


def test_matches_are_remembered(desk):
    desk.s.switch("echo", on=False)
    desk.s.switch("pitch", on=True)
    again = type(desk.s)(desk.bench, desk.s._settings)
    assert (again.switches.echo, again.switches.pitch, again.switches.pace) == (False, True, False)


def test_before_after_and_take_go_on_at_the_same_word(desk, monkeypatch):
    plan = planned(desk)
    word = plan.previews[-1].words[4]
    player = desk.window.parts.transport.player
    desk.opened.do("splice.hear_after")
    assert desk.heard[-1][1] < word.result[0]
    monkeypatch.setattr(type(player), "playing", property(lambda _self: True))
    monkeypatch.setattr(type(player), "position", property(lambda _self: sum(word.result) // 2))
    desk.opened.do("splice.hear_before")
    assert desk.heard[-1][1] == pytest.approx(sum(word.original) / 2, abs=50)
    monkeypatch.setattr(type(player), "position", property(lambda _self: sum(word.original) // 2))
    desk.opened.do("splice.hear_take")
    take = desk.s.take()
    assert take[0].lanes[0].segments[0].start + desk.heard[-1][1] == pytest.approx(sum(word.take) / 2, abs=50)
    desk.opened.do("splice.hear_take")  # once more: from its beginning
    assert desk.heard[-1][1] == take[1]


def test_joins_are_heard_over_and_over(desk):
    plan = planned(desk)
    for act, at in (("splice.hear_in", plan.previews[0].joins[0]), ("splice.hear_out", plan.previews[-1].joins[1])):
        desk.opened.do(act)
        _, start, stop, how = desk.heard[-1]
        assert start < at < stop
        assert how["loop"]


def test_what_is_taken_out_leaves_the_reel_as_it_was(desk):
    before = reel(desk)
    put_in(desk)
    desk.opened.press(desk.panel.out)
    assert reel(desk) == before
    assert desk.bench.book.pickup(desk.first).state in (State.IN, State.CHOSEN)
    assert not desk.panel.out.isEnabled()


def test_words_of_two_takes_stand_in_two_pieces(desk):
    line = desk.bench.book.pickup(desk.first)
    assert desk.bench.do(ChooseParts(desk.first, (Part(0, 0, 4), Part(1, 4, line.word_count))))
    plan = planned(desk)
    assert len(plan.previews) == 2
    desk.opened.press(desk.panel.place)
    pieces = [p for p in reel(desk).lanes[0].segments if getattr(p, "take", "").startswith(desk.first)]
    assert len({p.take for p in pieces}) == 2
    assert pieces[0].stop > pieces[0].start
    assert len(desk.bench.book.pickup(desk.first).placed) == 2


def heard(monkeypatch, right, wrong=()):
    monkeypatch.setattr(splice_module, "heard_again", lambda *_a: SimpleNamespace(right=right, wrong=wrong))


def test_what_is_put_in_is_heard_again_and_passed(desk, monkeypatch):
    heard(monkeypatch, right=True)
    put_in(desk)
    desk.held.finish("Hear the splice again")
    assert desk.bench.book.pickup(desk.first).state is State.HEARD
    desk.opened.press(desk.panel.passed)
    assert desk.bench.book.pickup(desk.first).state is State.PASSED
    assert desk.s.pickup().id == desk.second  # the next that waits


def test_a_splice_that_cut_a_word_is_told_at_once(desk, monkeypatch):
    heard(monkeypatch, right=False, wrong=("“tide” is not heard",))
    put_in(desk)
    desk.held.finish("Hear the splice again")
    p = desk.bench.book.pickup(desk.first)
    assert p.state is State.SPLICED
    assert "“tide” is not heard" in p.told
    assert "is not as written where it was put in" in desk.told[-1]
    desk.s.choose(desk.first)
    QApplication.processEvents()
    assert "tide" in desk.panel.hint.text()


def test_what_was_heard_of_something_that_changed_since_is_heard_once_more(desk, monkeypatch):
    heard(monkeypatch, right=True)
    put_in(desk)
    hears = [h for h in desk.held.held if h.name.startswith("Hear")]
    found = hears[0].job(Unwatched())
    assert desk.bench.do(EditReel("c1", CutAndClose(100_000, 140_000)))
    hears[0].done(found)
    assert desk.bench.book.pickup(desk.first).state is State.SPLICED  # not called right by what it was before
    desk.held.held.remove(hears[0])
    desk.held.finish("Hear the splice again")
    assert desk.bench.book.pickup(desk.first).state is State.HEARD


def test_all_takes_of_a_chapter_are_put_in_by_one_act_and_out_by_one_undo(desk, monkeypatch):
    planned(desk)
    before = desk.bench.book
    desk.opened.do("splice.place_chapter")
    desk.held.finish("Splice 2 pickups")
    states = {p.id: p.state for p in desk.bench.book.pickups}
    put = [n for n, s in states.items() if s is State.SPLICED]
    assert f"{len(put)} line" in desk.told[-1] or "Nothing was put in" in desk.told[-1]
    assert len(put) + desk.told[-1].count("left for the eye") >= 1
    if put:
        desk.opened.do("edit.undo")
        assert desk.bench.book.chapter("c1").reel == before.chapter("c1").reel
    assert all(p.state is State.IN for p in desk.bench.book.pickups)


def test_a_doubtful_take_is_left_for_the_eye(desk):
    planned(desk)
    line = desk.bench.book.pickup(desk.first)
    odd = replace(line.takes[0], departures=2, remarks=("“ferry” is missing",))
    book = replace(
        desk.bench.book,
        pickups=tuple(replace(p, takes=(odd, *p.takes[1:])) if p.id == line.id else p for p in desk.bench.book.pickups),
    )
    many = splice_module.planned_many(
        desk.bench.session.store.folder, book, [book.pickup(desk.first)], desk.bench.hearing, desk.bench.renderer, {},
        desk.s.switches, Unwatched(),
    )  # fmt: skip
    assert many.splices == ()
    assert many.left == ((desk.first, "“ferry” is missing"),)


def test_a_book_that_changed_while_many_were_planned_is_let_be(desk):
    planned(desk)
    desk.opened.do("splice.place_book")
    assert desk.bench.do(ChooseTake(desk.first, 1))
    desk.held.finish("Splice 2 pickups")
    assert "none was put in" in desk.told[-1]
    assert all(p.state is not State.SPLICED for p in desk.bench.book.pickups)


def test_a_line_that_can_not_be_placed_says_why(desk, monkeypatch):
    def refuses(*_args, **_how):
        raise EditRefused("No place was found where this take could be joined.")

    monkeypatch.setattr(splice_module, "preview_parts", refuses)
    desk.s.switch("tone", on=False)
    desk.held.held = desk.held.held[-1:]
    assert planned(desk) is None
    assert "No place was found" in desk.panel.hint.text()
    assert not desk.panel.place.isEnabled()
    assert not desk.s.place()
    assert "No place was found" in desk.told[-1]


def test_a_full_disk_puts_nothing_in(desk, monkeypatch):
    planned(desk)
    before = desk.bench.book

    def full(*_args):
        raise StoreProblem("The disk is full.")

    monkeypatch.setattr(splice_module, "adopted", full)
    assert not desk.s.place()
    assert desk.told[-1] == "The disk is full."
    assert desk.bench.book is before


def test_the_list_and_the_keys_go_from_line_to_line(desk):
    assert desk.panel.rows.count() == 2
    desk.opened.do("splice.next")
    assert desk.s.pickup().id == desk.second
    desk.opened.do("splice.before")
    assert desk.s.pickup().id == desk.first
    desk.panel.rows.setFocus()
    QTest.keyClick(desk.panel.rows, Qt.Key.Key_Down)
    QApplication.processEvents()
    assert desk.s.pickup().id == desk.second


def test_joins_of_the_chapter_are_listed_worst_first_and_shown(desk):
    put_in(desk)
    desk.panel.which.setCurrentIndex(1)
    desk.panel.which.activated.emit(1)
    others(desk)
    assert desk.panel.joins.count() >= 2
    odds = [j.seam.worst for j in desk.s.joins]
    assert odds == sorted(odds, reverse=True)
    assert all(np.isfinite(odds))
    desk.panel.joins.setFocus()
    desk.panel.joins.setCurrentRow(0)
    QTest.keyClick(desk.panel.joins, Qt.Key.Key_Return)
    assert desk.window.parts.transport.spot == desk.s.joins[0].seam.at
    assert desk.window.bench.chapter_id == "c1"


def test_matched_takes_of_plans_that_are_not_used_do_not_pile_up(desk):
    def waiting():
        return sorted(p.name for p in (desk.bench.session.store.folder / "cache").glob("made-*.flac"))

    planned(desk)
    assert len(waiting()) == 1
    for name in ("level", "tone", "level", "tone"):
        desk.opened.do(f"splice.match_{name}")
        planned(desk)
        assert len(waiting()) == 1
    desk.opened.press(desk.panel.place)
    [put] = desk.bench.book.pickup(desk.first).placed
    desk.opened.do("splice.next")
    planned(desk)
    assert desk.bench.path_of(put.recording).is_file()
    assert len(waiting()) == 1


def test_who_goes_on_to_another_line_hears_nothing_of_it_for_a_match_of_the_last(desk):
    planned(desk)
    desk.opened.do("splice.match_tone")
    desk.opened.do("splice.next")
    planned(desk)
    assert desk.s.pickup().id == desk.second
    assert desk.heard == []


def test_another_line_is_heard_from_its_own_beginning(desk, monkeypatch):
    planned(desk)
    desk.opened.do("splice.hear_after")
    player = desk.window.parts.transport.player
    at = desk.heard[-1][1] + 1000
    desk.opened.do("splice.next")
    planned(desk)
    monkeypatch.setattr(type(player), "playing", property(lambda _self: True))
    monkeypatch.setattr(type(player), "position", property(lambda _self: at))
    desk.opened.do("splice.hear_before")
    assert desk.heard[-1][1] == desk.s.before()[1]


def test_a_chapter_that_is_left_out_with_its_takes_locks_nothing(desk, opened, monkeypatch, tmp_path):
    chapter = desk.bench.book.chapter("c2")
    assert desk.bench.do(AddPickups((replace(desk.bench.book.pickups[0], id="other", chapter="c2", findings=(), takes=(), chosen=-1,
                                             state=State.TO_SEND, first_word=3),)))  # fmt: skip
    assert desk.bench.do(LeaveOut("c1"))
    opened.window.bench.jobs = opened.window.jobs
    opened.window.desks.show(DeskName.SPLICE)
    opened.reopen()
    assert opened.window.desks.current is DeskName.SPLICE
    assert [c.id for c in opened.bookstate.chapters] == ["c2", "c3"]
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(tmp_path / "round"), "New folder (*)"))
    monkeypatch.setattr(QDialog, "exec", lambda _self: 1)
    opened.do("pickups.send")
    opened.idle()
    sheet = next((tmp_path / "round").glob("*.csv")).read_text(encoding="utf-8-sig")
    assert chapter.title in sheet
    assert "Chapter One" not in sheet
    opened.do("edit.undo")
    opened.do("edit.undo")  # of the sending and of leaving out: its lines and takes are back
    assert [len(p.takes) for p in opened.bookstate.pickups][:2] == [2, 1]
