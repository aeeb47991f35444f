"""The quick check, what is learned from decisions, and the queue of chapters, in the real window."""

from __future__ import annotations

import threading
from types import SimpleNamespace

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QPushButton

from faithful_reel.app.proof import presenter as presenter_module
from faithful_reel.app.workbench import Early
from faithful_reel.core.book.commands import PlaceHearing
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.errors import FileProblem, SignalError
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.work.hearing import HeardChapter
from faithful_reel.core.work.timeline import Hearing


def made_hearing(window, chapter, doubts):
    """A chapter with word k at second k/2, and a misread at each of the given words, so sure."""
    words = window.bench.text(chapter).words
    hop = window.bench.book.rate // 2
    heard = tuple(Heard(w.text, i * hop, i * hop + hop // 2, 1.0) for i, w in enumerate(words))
    placed = tuple(Placed(h.start, h.stop, 1.0) for h in heard)
    links = tuple((i, i + 1, i, i + 1, True) for i in range(len(words)))
    found = tuple(
        Finding(f"f{n}", Kind.MISREAD, words[w].text, said, w, 1, w * hop, w * hop + hop // 2, sure)
        for n, (w, said, sure) in enumerate(doubts)
    )
    return Hearing(heard, placed, links), found


@pytest.fixture
def quick(opened):
    """Chapter one with a sure finding and four doubts, and the run through them."""
    window = opened.window
    chapter = window.bench.chapter
    doubts = ((10, "bell", 0.9), (20, "bell", 0.12), (30, "gate", 0.22), (40, "lamp", 0.06), (50, "rope", 0.2))
    made, found = made_hearing(window, chapter, doubts)
    key = window.bench.session.store.put(Hearing, made)
    window.bench.do(PlaceHearing(chapter.id, key, found))
    opened.do("view.proof")
    return window.actions_._acts["quick.start"][1]


def finding(opened, name):
    return opened.window.bench.chapter.finding(name)


def test_doubts_are_settled_by_keys_alone_the_loudest_first(opened, quick, monkeypatch):
    begun = []
    play = opened.window.parts.transport.play_from
    monkeypatch.setattr(
        opened.window.parts.transport, "play_from", lambda a, b=None, **k: begun.append((a, b)) or play(a, b, **k)
    )
    rate = opened.window.bench.book.rate
    opened.window.galley.setFocus()
    QTest.keyClick(opened.window.galley, Qt.Key.Key_Q, Qt.KeyboardModifier.ShiftModifier)
    assert quick.pane.isVisible()
    assert quick.quick.finding().id == "f2"
    assert begun == [(round(14.3 * rate), round(15.95 * rate))]  # 0.7 s before and after
    assert quick.pane.heard.text() == "gate"
    assert quick.pane.accessibleDescription().startswith("Doubt 1 of 4. Written: ")
    assert quick.pane.written.text() == opened.window.bench.text(opened.window.bench.chapter).words[30].text
    QTest.keyClick(quick.pane, Qt.Key.Key_1)
    assert finding(opened, "f2").kept
    assert finding(opened, "f2").decision is Decision.OPEN
    assert quick.quick.finding().id == "f4"
    assert len(begun) == 2  # the next sounds at once
    QTest.keyClick(quick.pane, Qt.Key.Key_2)
    assert finding(opened, "f4").decision is Decision.STET
    QTest.keyClick(quick.pane, Qt.Key.Key_4)  # later
    assert quick.quick.finding().id == "f3"
    QTest.keyClick(quick.pane, Qt.Key.Key_2)
    assert quick.quick.finding().id == "f1"  # what was left for later comes at the end
    QTest.keyClick(quick.pane, Qt.Key.Key_2)
    assert quick.quick.finding() is None
    assert "1 kept, 3 passed" in quick.pane.told.text()
    assert quick.quick.counts() == (1, 3, 0)
    assert [f.id for f in opened.window.parts.proof.docket() if f.decision is Decision.OPEN] == ["f0", "f2"]


def test_what_is_undone_comes_back_and_is_heard_again(opened, quick):
    opened.do("quick.start")
    opened.do("quick.pass")
    opened.do("quick.keep")
    assert quick.quick.finding().id == "f1"
    opened.do("edit.undo")
    assert quick.quick.finding().id == "f4"
    assert opened.window.parts.player.playing
    opened.do("edit.undo")
    assert quick.quick.finding().id == "f2"
    assert quick.quick.counts() == (0, 0, 4)
    opened.do("edit.redo")
    assert finding(opened, "f2").decision is Decision.STET


def test_a_doubt_that_was_passed_can_be_kept_after_all(opened, quick):
    opened.do("quick.start")
    opened.do("quick.pass")
    opened.do("quick.back")
    assert quick.quick.finding().id == "f2"
    opened.do("quick.keep")
    assert finding(opened, "f2").kept
    assert finding(opened, "f2").decision is Decision.OPEN


def test_a_chapter_that_is_heard_meanwhile_is_gone_through_anew(opened, quick):
    """Names of findings are given anew: what is settled is what stands there and sounds."""
    window = opened.window
    opened.do("quick.start")
    opened.do("quick.later")
    made, found = made_hearing(window, window.bench.chapter, ((60, "hat", 0.1), (70, "cup", 0.2)))
    made = Hearing(made.heard[:-1], made.placed, made.links[:-1])  # another one
    window.bench.do(PlaceHearing(window.bench.chapter_id, window.bench.session.store.put(Hearing, made), found))
    assert {key[1] for key in quick.quick.queue} == {"f0", "f1"}
    assert quick.pane.heard.text() == quick.quick.finding().heard
    assert quick.pane.heard.text() in ("hat", "cup")


def test_nothing_is_settled_while_a_chapter_is_heard_for_the_first_time(opened):
    chapter = opened.window.bench.chapter
    made, found = made_hearing(opened.window, chapter, ((20, "bell", 0.12),))
    opened.window.bench.early[chapter.id] = Early(chapter.text, chapter.recording, HeardChapter(made, found))
    opened.do("view.proof")
    opened.do("quick.start")
    assert opened.window.actions_._acts["quick.start"][1].quick.queue == ()


def test_it_goes_on_where_it_was_left_even_after_the_book_was_closed(opened, quick):
    opened.do("quick.start")
    opened.do("quick.pass")
    opened.do("quick.later")
    left = quick.quick.finding().id
    opened.press(next(b for b in quick.pane.findChildren(QPushButton) if b.text() == "Docket"))
    assert not quick.pane.isVisible()
    assert not opened.window.parts.player.playing
    opened.do("quick.start")
    assert quick.quick.finding().id == left
    opened.reopen()
    again = opened.window.actions_._acts["quick.start"][1]
    opened.do("quick.start")
    assert again.quick.counts() == (0, 0, 3)


def test_no_doubt_is_settled_that_is_not_seen(opened, quick):
    told = []
    opened.window.bench.tell = opened.window.bench.warn = opened.window.bench.report = told.append
    for act in ("quick.keep", "quick.pass", "quick.later", "quick.back", "quick.again"):
        opened.do(act)
    assert len(told) == 5
    opened.do("quick.start")
    opened.do("learned.show")  # another list stands where the doubts were
    opened.do("quick.keep")
    assert len(told) == 6
    assert not any(f.kept or f.decision is not Decision.OPEN for f in opened.window.bench.chapter.findings)


def test_order_scope_and_what_is_around_are_remembered(opened, quick):
    opened.do("quick.start")
    pane = quick.pane
    pane.order.setCurrentIndex(1)
    pane.order.activated.emit(1)
    assert quick.quick.finding().id == "f1"
    pane.around.setValue(1.5)
    pane.scope.setCurrentIndex(1)
    pane.scope.activated.emit(1)
    opened.reopen()
    again = opened.window.actions_._acts["quick.start"][1].quick
    assert (again.as_read, again.whole_book, again.around_s) == (True, True, 1.5)


def test_a_run_through_the_book_opens_each_chapter(opened, quick):
    window = opened.window
    second = window.bench.book.chapters[1]
    made, found = made_hearing(window, second, ((15, "oars", 0.23),))
    window.bench.do(PlaceHearing(second.id, window.bench.session.store.put(Hearing, made), found))
    quick.quick.set_scope(whole_book=True)
    opened.do("quick.start")
    assert window.bench.chapter_id == second.id
    assert quick.pane.heard.text() == "oars"
    opened.do("quick.pass")
    assert window.bench.chapter_id == window.bench.book.chapters[0].id
    assert quick.quick.finding().id == "f2"


def test_nothing_in_doubt_says_so(opened):
    opened.do("view.proof")
    opened.do("quick.start")
    pane = opened.window.actions_._acts["quick.start"][1].pane
    assert "Nothing is in doubt in this chapter" in pane.told.text()
    assert not pane.card.isVisible()


def test_a_doubt_whose_sound_was_cut_is_not_asked(opened, quick):
    opened.window.parts.editing.select(round(14.9 * 44_100), 16 * 44_100)
    opened.do("edit.cut_close")
    opened.do("quick.start")
    assert "f2" not in [key[1] for key in quick.quick.queue]


def test_a_finding_whose_sound_was_cut_is_told_as_gone(opened, quick):
    docket = opened.window.panels["proof"].docket.list

    def said():
        return [docket.rows.index(k).data(Qt.ItemDataRole.AccessibleTextRole) for k in range(docket.rows.rowCount())]

    opened.do("proof.doubtful")
    assert not any("gone" in text for text in said())
    opened.window.parts.editing.select(round(14.9 * 44_100), 16 * 44_100)  # the sound of f2
    opened.do("edit.cut_close")
    assert [k for k, text in enumerate(said()) if text.endswith("its sound is gone")] == [2]
    assert docket.rows.keys()[2][1] == "f2"
    opened.do("edit.undo")
    assert not any("gone" in text for text in said())


def test_the_doubt_at_hand_is_marked_on_the_page_though_it_is_folded(opened, quick):
    opened.do("quick.start")
    drawn = {m.id for marks in opened.window.galley.drawing.marks_at.values() for m in marks}
    assert "f2" in drawn
    assert "f1" not in drawn


# --- what is learned ----------------------------------------------------------------------------------------------


def five_alike(opened):
    """Six doubts of the same two words, of which five are passed."""
    window = opened.window
    chapter = window.bench.chapter
    words = [k for k, w in enumerate(window.bench.text(chapter).words) if w.text == "the"][:6]
    made, found = made_hearing(window, chapter, [(k, "a", 0.45) for k in words])
    window.bench.do(PlaceHearing(chapter.id, window.bench.session.store.put(Hearing, made), found))
    opened.do("view.proof")
    return found


def test_a_finding_that_was_passed_five_times_sinks_and_is_never_hidden(opened):
    five_alike(opened)
    proof = opened.window.parts.proof
    for n in range(5):
        proof.choose(f"f{n}")
        opened.do("proof.stet")
    last = opened.window.bench.findings(opened.window.bench.chapter)[-1]
    assert 0.05 < last.confidence < 0.35
    assert "45 % by the ear alone" in last.evidence.learned
    assert "passed 5 times" in last.evidence.learned
    assert not proof.is_folded(last)  # what the ear shows stays in sight
    assert last in proof.docket()
    assert opened.window.bench.chapter.finding("f5").confidence == 0.45  # what the book keeps is the ear's own


def test_what_was_learned_is_listed_and_forgotten_and_undone(opened):
    five_alike(opened)
    for n in range(5):
        opened.window.parts.proof.choose(f"f{n}")
        opened.do("proof.stet")
    opened.do("learned.show")
    pane = opened.window.actions_._acts["learned.show"][1].learned
    assert pane.view.item(0, 0).text() == "“a” for “the”"
    assert pane.view.item(0, 1).text() == "passed 5 times"
    assert pane.view.item(0, 2).text() == "less sure"
    opened.do("learned.forget_all")
    assert pane.view.rowCount() == 0
    assert opened.window.bench.findings(opened.window.bench.chapter)[-1].confidence == 0.45
    opened.reopen()
    assert opened.window.bench.lessons() == ()
    opened.do("edit.undo")
    assert [one.told for one in opened.window.bench.lessons()] == ["passed 5 times"]


def test_an_accepted_name_is_listed_and_forgotten(opened):
    window = opened.window
    chapter = window.bench.chapter
    made, found = made_hearing(window, chapter, ((20, "Tara", 0.9), (40, "bell", 0.9)))
    window.bench.do(PlaceHearing(chapter.id, window.bench.session.store.put(Hearing, made), found))
    opened.do("view.proof")
    window.parts.proof.choose("f0")
    opened.do("proof.accept")
    assert finding(opened, "f0").decision is Decision.STET
    opened.do("learned.show")
    pane = window.actions_._acts["learned.show"][1].learned
    assert pane.view.item(0, 1).text() == "accepted"
    opened.do("learned.forget")
    assert pane.view.rowCount() == 0
    assert window.bench.book.accepted == ()
    assert finding(opened, "f0").decision is Decision.OPEN
    assert finding(opened, "f0").note == ""
    opened.do("edit.undo")  # one step
    assert finding(opened, "f0").decision is Decision.STET


def test_a_name_that_another_accepted_reading_covers_stays_let_stand():
    from faithful_reel.core.book.commands import AcceptReading, Forget
    from faithful_reel.core.book.model import Book, ChapterState

    row = Finding("f1", Kind.MISREAD, "Tarrow", "Tara", 1, 1, 0, 9, 0.9)
    book = Book(chapters=(ChapterState("c1", "one", "t", findings=(row,)),))
    book = AcceptReading("Tarrow", "Taro").apply(AcceptReading("Tarrow", "Tara").apply(book))
    book = Forget(names=(("tarrow", "Taro"),)).apply(book)
    assert book.chapters[0].findings[0].decision is Decision.STET
    book = Forget(names=(("tarrow", "Tara"),)).apply(book)
    assert book.chapters[0].findings[0].decision is Decision.OPEN


def test_what_a_lesson_brought_up_is_counted_and_reported(opened, tmp_path):
    window = opened.window
    chapter = window.bench.chapter
    words = [k for k, w in enumerate(window.bench.text(chapter).words) if w.text == "the"][:7]
    made, found = made_hearing(window, chapter, [(k, "a", 0.9) for k in words[:6]] + [(words[6], "a", 0.2)])
    window.bench.do(PlaceHearing(chapter.id, window.bench.session.store.put(Hearing, made), found))
    opened.do("view.proof")
    proof = window.parts.proof
    for n in range(6):
        proof.choose(f"f{n}")
        opened.do("proof.pickup")
    assert [f.id for f in proof.docket() if f.decision is Decision.OPEN] == ["f6"]
    assert window.desk_buttons["proof"].text() == "Proof 1"
    proof.report(tmp_path / "r.csv", whole=False)
    opened.idle()
    assert len((tmp_path / "r.csv").read_text().strip().splitlines()) == 8


# --- the queue ----------------------------------------------------------------------------------------------------


@pytest.fixture
def heard_quickly(monkeypatch):
    """Hearing that gives a made hearing once `free` is set; what is named in `fails` can not be heard, `order` tells what was begun."""
    told = SimpleNamespace(fails=set(), order=[], free=threading.Event())
    told.free.set()

    def heard(_book, chapter, text, _sound, _ears, watch, _early=None, _memory=None):
        told.order.append(chapter.id)
        watch.tick(0.3, "listening")
        while not told.free.wait(0.01):
            watch.tick(0.3, "listening")
        if chapter.id in told.fails:
            raise SignalError("Nobody speaks in this recording.")
        placed = tuple(Placed(k * 100, k * 100 + 90, 1.0) for k in range(len(text.words)))
        return HeardChapter(Hearing((), placed, ()), ())

    monkeypatch.setattr("faithful_reel.app.proof.presenter.heard_voices", heard)
    return told


def queue_of(opened):
    return opened.window.actions_._acts["queue.book"][1]


def wait_for(opened, what, timeout=20_000):
    opened.qtbot.waitUntil(lambda: bool(what()), timeout=timeout)
    QApplication.processEvents()


def test_the_whole_book_is_heard_in_order_and_told(opened, heard_quickly, monkeypatch):
    told = []
    opened.window.bench.tell = opened.window.bench.warn = opened.window.bench.report = told.append
    monkeypatch.setattr(type(opened.window), "tell", lambda _self, text: told.append(text))
    opened.do("queue.book")
    acts = queue_of(opened)
    assert acts.pane.isVisible()
    ids = [c.id for c in opened.bookstate.chapters if c.recording]
    assert acts.queue.at == ids[0]
    assert acts.queue.seconds_left() > 0
    wait_for(opened, lambda: all(c.hearing for c in opened.bookstate.chapters if c.recording))
    wait_for(opened, lambda: not acts.queue.at)
    assert heard_quickly.order == ids
    assert f"The book is heard: {len(ids)} chapters." in told
    opened.do("queue.book")
    assert "heard already" in told[-1]


def test_a_queue_of_which_not_all_could_be_heard_says_so(opened, heard_quickly, monkeypatch):
    told, works = [], iter((True, False, False))
    heard = presenter_module.heard_voices

    def some(*args, **more):
        if not next(works):
            raise FileProblem("The recording is damaged.")
        return heard(*args, **more)

    monkeypatch.setattr(presenter_module, "heard_voices", some)
    monkeypatch.setattr(type(opened.window), "tell", lambda _self, text: told.append(text))
    opened.window.bench.tell = opened.window.bench.warn = opened.window.bench.report = told.append
    opened.do("queue.book")
    wait_for(opened, lambda: any("book is" in text for text in told))
    assert "The book is not all heard: 1 chapter was, 2 could not be." in told
    assert sum("damaged" in text for text in told) == 2


def test_the_queue_is_paused_reordered_and_gone_on_with_after_a_restart(opened, heard_quickly):
    heard_quickly.free.clear()
    opened.do("queue.book")
    acts = queue_of(opened)
    first, second, *_, last = [c.id for c in opened.bookstate.chapters if c.recording]
    opened.do("queue.pause")
    wait_for(opened, lambda: not acts.queue.at)
    assert acts.queue.paused
    assert acts.queue.waiting[:2] == [first, second]
    acts.pane.refresh()
    acts.pane.choose(last)
    opened.do("queue.next")
    assert acts.queue.waiting[0] == last
    acts.pane.choose(second)
    opened.do("queue.out")
    assert second not in acts.queue.waiting
    opened.reopen()
    acts = queue_of(opened)
    assert acts.queue.paused
    assert acts.queue.waiting[0] == last
    assert second not in acts.queue.waiting
    heard_quickly.order.clear()
    heard_quickly.free.set()
    opened.do("queue.go_on")
    wait_for(opened, lambda: opened.bookstate.chapter(first).hearing)
    assert heard_quickly.order[0] == last
    assert not opened.bookstate.chapter(second).hearing


def test_what_was_broken_off_by_closing_goes_on_by_itself(opened, heard_quickly):
    heard_quickly.free.clear()
    opened.do("queue.book")
    wait_for(opened, lambda: heard_quickly.order)
    opened.close()
    heard_quickly.free.set()
    opened.reopen()  # waits until the jobs of the new window are done
    wait_for(opened, lambda: all(c.hearing for c in opened.bookstate.chapters if c.recording))


def test_a_chapter_that_can_not_be_heard_does_not_hold_up_the_others(opened, heard_quickly):
    ids = [c.id for c in opened.bookstate.chapters if c.recording]
    heard_quickly.fails.add(ids[1])
    told = []
    opened.window.bench.tell = opened.window.bench.warn = opened.window.bench.report = told.append
    opened.do("queue.book")
    wait_for(opened, lambda: opened.bookstate.chapter(ids[-1]).hearing)
    assert heard_quickly.order == ids
    assert not opened.bookstate.chapter(ids[1]).hearing
    assert any("Nobody speaks" in t for t in told)


def test_the_button_beside_the_title_pauses_the_queue(opened, heard_quickly):
    heard_quickly.free.clear()
    opened.do("queue.book")
    acts = queue_of(opened)
    wait_for(opened, lambda: heard_quickly.order)
    first = acts.queue.at
    opened.press(opened.window.job_row.cancel)
    wait_for(opened, lambda: not acts.queue.at)
    assert acts.queue.paused
    assert acts.queue.waiting[0] == first
    assert not opened.bookstate.chapter(first).hearing


def test_a_paused_chapter_keeps_its_place_and_no_half_hearing(opened, heard_quickly):
    heard_quickly.free.clear()
    opened.do("queue.book")
    acts = queue_of(opened)
    opened.do("queue.pause")
    wait_for(opened, lambda: not acts.queue.at)
    assert all(not c.hearing for c in opened.bookstate.chapters)
    assert opened.window.parts.proof.hearing_now == set()


# --- a page before it is heard ------------------------------------------------------------------------------------


def test_a_chapter_that_was_not_heard_stands_by_estimate_and_nothing_is_cut_by_it(opened):
    window = opened.window
    opened.do("view.proof")
    opened.qtbot.waitUntil(lambda: window.bench.estimate(window.bench.chapter) is not None, timeout=20_000)
    panel = window.panels["proof"]
    panel.refresh()
    assert panel.estimate.isVisible()
    content = panel.galley.content
    assert all(strip.color == "pale" for strip in content.strips)
    assert (content.cells.starts >= 0).mean() > 0.95
    opened.click_word(20, double=True)  # it can be listened to
    assert window.parts.player.playing
    window.parts.transport.stop()
    told = []
    window.bench.tell = window.bench.warn = window.bench.report = told.append
    before = window.bench.chapter.reel
    opened.click_word(20)
    opened.click_word(24, shift=True)
    assert "by estimate only" in told[-1]
    opened.do("edit.cut_close")
    assert window.bench.chapter.reel is before
    assert window.bench.chapter.hearing == ""  # it is no hearing, and is not kept as one
    assert window.bench.hearing(window.bench.chapter) is None


def test_the_estimate_goes_once_the_chapter_is_heard(opened):
    window = opened.window
    opened.do("view.proof")
    chapter = window.bench.chapter
    opened.qtbot.waitUntil(lambda: window.bench.estimate(chapter) is not None, timeout=20_000)
    made, found = made_hearing(window, chapter, ())
    window.bench.do(PlaceHearing(chapter.id, window.bench.session.store.put(Hearing, made), found))
    assert window.bench.estimate(window.bench.chapter) is None
    assert not window.panels["proof"].estimate.isVisible()
    assert window.panels["proof"].galley.content.strips[0].color != "pale"
