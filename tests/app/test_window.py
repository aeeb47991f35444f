"""Presenters with held jobs, and the window's desks on the demo book without the recogniser."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
import soundfile
from PyQt6.QtCore import QEvent, QMimeData, QObject, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QDialog, QTableWidget
from support.app import DemoWindow
from support.editing import editing_of
from support.hearing import lay_retake
from support.jobs import HeldJobs
from support.sounds import speech_like

from faithful_reel.app.acts import every_act
from faithful_reel.app.editing.cutting import Cutting
from faithful_reel.app.editing.shaping import Shaping
from faithful_reel.app.intake.presenter import IntakePresenter, health
from faithful_reel.app.jobs_row import _left
from faithful_reel.app.keys import FIXED
from faithful_reel.app.master.presenter import MasterPresenter
from faithful_reel.app.pickups.presenter import PickupsPresenter
from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.release.presenter import ReleasePresenter
from faithful_reel.app.workbench import Early, Workbench
from faithful_reel.core.book.commands import PlaceHearing
from faithful_reel.core.book.house import HouseShelf
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.pickups.ledger import State, Take
from faithful_reel.core.work.hearing import HeardChapter
from faithful_reel.core.work.receiving import Received
from faithful_reel.core.work.timeline import Hearing


@pytest.fixture
def bench(tmp_path, demo_book):
    import shutil

    shutil.copytree(demo_book, tmp_path / "d.reelbook")
    told = []
    made = Workbench(Session(BookStore(tmp_path / "d.reelbook")), HeldJobs(), tell=told.append)
    made.told = told
    yield made
    made.close()


def heard(bench, chapter_id="c1"):
    """Lay a made hearing on a chapter: every word 0.4 s, one repeat, two misreads, a pause."""
    chapter = bench.book.chapter(chapter_id)
    words = bench.text(chapter).words
    step, at = 17_640, 441_000
    placed, said, links = [], [], []
    for i, word in enumerate(words):
        if i == 30:
            said.append(Heard("again", at, at + step - 2000, 0.9))
            links.append((30, 30, 30, 31, False))
            at += step
        placed.append(Placed(at, at + step - 2000, 0.9))
        said.append(Heard(word.text, at, at + step - 2000, 0.9))
        links.append((i, i + 1, len(said) - 1, len(said), True))
        at += step
    key = bench.session.store.put(Hearing, Hearing(tuple(said), tuple(placed), tuple(links)))
    findings = (
        Finding("f1", Kind.MISREAD, words[10].text, "other", 10, 1, placed[10].start, placed[10].stop, 0.9),
        Finding("f2", Kind.REPEATED, "", "again", 30, 0, said[30].start, said[30].stop, 0.9),
        Finding("f3", Kind.SKIPPED, words[40].text, "", 40, 1, placed[40].start, placed[40].start, 0.2),
        Finding("f4", Kind.MISREAD, words[60].text, "other", 60, 1, placed[60].start, placed[60].stop, 0.8),
    )
    bench.do(PlaceHearing(chapter_id, key, findings))


def test_what_the_first_ear_found_is_shown_while_it_listens_but_not_decided(bench):
    chapter = bench.book.chapter("c1")
    words = bench.text(chapter).words
    placed = (Placed(1000, 2000, 0.9), *[None] * (len(words) - 1))
    early = Finding("f1", Kind.MISREAD, words[0].text, "other", 0, 1, 1000, 2000, 0.9)
    hearing = Hearing((Heard("other", 1000, 2000, 0.9),), placed, ((0, 1, 0, 1, False),))
    bench.early["c1"] = Early(chapter.text, chapter.recording, HeardChapter(hearing, (early,)))
    proof = ProofPresenter(bench)
    assert [f.id for f in proof.docket()] == ["f1"]
    assert bench.tokens(chapter)[0].start == 1000
    proof.choose("f1")
    assert not proof.decide(Decision.STET)
    assert "still listening" in bench.told[-1]
    bench.early["c1"] = Early("an earlier text", chapter.recording, HeardChapter(hearing, (early,)))  # revised meanwhile
    assert proof.docket() == []
    assert bench.tokens(chapter)[0].start == -1


def test_a_take_is_swapped_and_swapped_back(bench):
    heard(bench)
    sentence, take = lay_retake(bench)
    proof = ProofPresenter(bench)
    proof.choose("f9")
    assert "complete and as written" in proof.take_note(take)
    before = bench.book.chapter("c1").reel
    assert proof.swap_take()
    chapter = bench.book.chapter("c1")
    assert chapter.reel != before
    assert bench.hearing(chapter).placed[sentence.start].start == take.start
    tokens = bench.tokens(chapter)
    assert all(t.start >= 0 for t in tokens if t.word in sentence)
    bench.undo()
    assert bench.book.chapter("c1").reel == before
    proof.choose("")
    assert not proof.swap_take()


def test_doubtful_findings_are_folded(bench):
    heard(bench)
    proof = ProofPresenter(bench)
    assert [f.id for f in proof.docket()] == ["f1", "f2", "f4"]
    assert proof.folded() == 1
    proof.show_doubtful = True
    assert [f.id for f in proof.docket()] == ["f1", "f2", "f3", "f4"]


def test_deciding_moves_on_to_the_next_open_finding(bench):
    heard(bench)
    proof = ProofPresenter(bench)
    proof.step(1)
    assert proof.current == "f1"
    assert proof.decide(Decision.STET)
    assert proof.current == "f2"
    assert proof.decide(Decision.MEND)
    assert proof.current == "f4"
    assert proof.decide(Decision.PICKUP)
    assert bench.book.pickups[0].findings == ("f4",)
    proof.step(-1)
    assert proof.current == "f2"
    assert not ProofPresenter(bench).decide(Decision.STET)


def test_mending_a_repeat_cuts_it_and_its_pause(bench):
    heard(bench)
    before = len(bench.book.chapters[0].reel)
    proof = ProofPresenter(bench)
    proof.choose("f2")
    proof.decide(Decision.MEND)
    assert before - len(bench.book.chapters[0].reel) == pytest.approx(17_640, abs=10)
    assert not any(t.extra for t in bench.tokens(bench.book.chapters[0]))
    bench.undo()
    assert len(bench.book.chapters[0].reel) == before
    assert any(t.extra for t in bench.tokens(bench.book.chapters[0]))


def test_edits_on_words_and_a_finding_by_hand(bench):
    heard(bench)
    proof, editing = ProofPresenter(bench), editing_of(bench)
    cutting, shaping = Cutting(editing), Shaping(editing)
    length = len(bench.book.chapters[0].reel)
    editing.easing = False  # edges stay where the laid words begin and end
    editing.select_words(50, 52)
    assert cutting.fill()
    assert len(bench.book.chapters[0].reel) == length
    editing.select_words(60, 61)
    assert shaping.louder(-3.0)
    editing.select_words(70, 74)
    assert cutting.take_out()
    assert len(bench.book.chapters[0].reel) == length - (5 * 17_640 - 2000)
    assert [t.word for t in bench.tokens(bench.book.chapters[0]) if t.start < 0] == [50, 51, 52, 70, 71, 72, 73, 74]
    assert proof.note_finding(Kind.OTHER, 80, 81, "too loud")
    assert any(f.note == "too loud" and f.word_index == 80 for f in bench.book.chapters[0].findings)
    joins = [s.stop for s in bench.book.chapters[0].reel.lanes[0].segments if s.kind == "piece"]
    editing.transport.spot = 0
    assert shaping.move_join(0.005)
    moved = [s.stop for s in bench.book.chapters[0].reel.lanes[0].segments if s.kind == "piece"]
    assert moved[0] - joins[0] == 220
    assert moved[1:] == joins[1:]
    assert not shaping.move_join(-1000.0)
    editing.clear()
    assert not cutting.take_out()
    editing.transport.spot = 10**9
    assert not cutting.split()
    assert bench.told


def test_a_hearing_for_a_chapter_that_was_paired_anew_is_dropped(bench):
    heard(bench)
    proof = ProofPresenter(bench)
    proof.hear_chapter("c2")
    assert proof.hearing_now == {"c2"}
    bench.jobs.cancel("Hear")
    assert proof.hearing_now == set()
    assert bench.told == []
    proof.hear_chapter("c2")
    held = bench.jobs.held[-1]
    other = bench.book.recordings[0].hash
    IntakePresenter(bench).pair("c2", other)
    head = bench.session.store.head

    held.done((None, None))
    assert bench.session.store.head == head


def test_a_problem_of_a_job_is_told_and_a_bug_is_loud(bench):
    proof = ProofPresenter(bench)
    proof.hear_chapter("c1")
    bench.jobs.held[-1].stopped(FileProblem("The recording is gone."))
    assert bench.told == ["The recording is gone."]
    proof.hear_chapter("c1")
    with pytest.raises(ZeroDivisionError):
        bench.jobs.held[-1].stopped(ZeroDivisionError())


def test_intake_pairs_by_number_and_refuses_bad_files(bench, tmp_path):
    intake = IntakePresenter(bench)
    soundfile.write(tmp_path / "ch 2.wav", speech_like(seconds=4), 44_100)
    (tmp_path / "bad.wav").write_bytes(b"no")
    intake.bring_recordings([tmp_path / "ch 2.wav", tmp_path / "bad.wav"])
    bench.jobs.finish("Bring in")
    bench.jobs.finish("Bring in")
    assert [(i.path.name, i.state) for i in intake.queue] == [("bad.wav", "refused")]
    assert intake.queue[0].note.startswith("bad.wav is not audio")
    assert bench.book.recordings[-1].name == "ch 2.wav"
    assert bench.book.chapters[1].recording != bench.book.recordings[-1].hash  # it had one already
    assert intake.pair("c2", bench.book.recordings[-1].hash)
    intake.bring_manuscript(tmp_path / "nothing.txt")
    bench.jobs.finish("Read")
    assert "nothing.txt is not there" in bench.told[-1]
    assert health(bench.book.recordings[0]) == "846 clipped samples"


def test_mastering_and_releasing_with_held_jobs(bench, tmp_path):
    mastering = MasterPresenter(bench)
    releasing = ReleasePresenter(bench, mastering)
    assert mastering.state(bench.book.chapters[0]) == "to do"
    releasing.release(tmp_path / "out")
    assert "Master the chapters first" in bench.told[-1]
    mastering.suffix = ".flac"
    mastering.master("c1")
    assert mastering.state(bench.book.chapters[0]) == "working"
    bench.jobs.finish("Master")
    assert mastering.state(bench.book.chapters[0]) == "passes"
    heard(bench)
    editing = editing_of(bench)
    editing.select_words(20, 21)
    assert Cutting(editing).take_out()
    assert mastering.state(bench.book.chapters[0]) == "out of date"
    assert any("out of date" in m for m in releasing.missing())
    bench.undo()
    releasing.release(tmp_path / "out")
    bench.jobs.finish("Release")
    assert releasing.released[0].passed
    assert (tmp_path / "out" / "report.html").read_text().count("FAIL") == 0
    assert releasing.set_details("New", "Someone", "Reader")
    assert not releasing.set_details("New", "Someone", "Reader")


def test_what_is_released_is_the_very_file_that_was_checked(bench, tmp_path):
    """Mastered for one profile, then for another, then undone: the file that the book tells of is still there as it was."""
    mastering = MasterPresenter(bench)
    releasing = ReleasePresenter(bench, mastering)
    mastering.suffix = ".wav"
    mastering.master("c1")
    bench.jobs.finish("Master")
    first = bench.book.chapter("c1").master
    mastering.use_profile("broadcast")
    mastering.master("c1")
    bench.jobs.finish("Master")
    assert bench.book.chapter("c1").master.file != first.file
    bench.undo()
    mastering.use_profile("retail")
    assert mastering.state(bench.book.chapter("c1")) == "passes"
    releasing.release(tmp_path / "out")
    bench.jobs.finish("Release")
    assert releasing.released[0].passed
    path = bench.session.store.folder / "masters" / first.file
    path.write_bytes(path.read_bytes()[:-2] + b"\1\1")
    releasing.released = []
    releasing.release(tmp_path / "again")
    bench.jobs.finish("Release")
    assert "not the file that was checked" in bench.told[-1]
    assert releasing.released == []
    assert list((tmp_path / "again").iterdir()) == []


def test_a_master_is_recorded_under_the_profile_it_was_made_for(bench):
    """The profile at hand may be another one by the time the work is done."""
    mastering = MasterPresenter(bench)
    mastering.suffix = ".wav"
    mastering.master("c2")
    mastering.profile = "broadcast"
    bench.jobs.finish("Master")
    made = bench.book.chapter("c2").master
    assert made.profile == "retail"
    assert {v[0] for v in made.verdicts} >= {"rms", "pause_floor", "words", "whole"}
    assert made.passed
    assert mastering.state(bench.book.chapter("c2")) == "out of date"


def test_lines_whose_take_was_chosen_still_receive_takes_and_keep_their_choice(bench, monkeypatch):
    from faithful_reel.app.pickups import presenter

    heard(bench)
    proof, pickups = ProofPresenter(bench), PickupsPresenter(bench)
    proof.choose("f1")
    proof.decide(Decision.PICKUP)
    line = bench.book.pickups[0]
    own = bench.book.recordings[0]

    def take(start):
        return Take(own.hash, start, start + 900, 0, line.line)

    asked = []

    def received_takes(folder, book, path, waiting, ears_of, watch, memory):
        asked.append([p.id for p in waiting])
        return Received(own, ((line.id, (take(1000 * len(asked)),), 0), ("gone", (take(9),), 0)))

    monkeypatch.setattr(presenter, "received_takes", received_takes)
    pickups.receive(Path("first.wav"))
    bench.jobs.finish("Sort")
    pickups.choose(line.id)
    assert pickups.choose_take(0)
    assert bench.book.pickups[0].state is State.CHOSEN
    pickups.receive(Path("second.wav"))
    bench.jobs.finish("Sort")
    assert asked == [[line.id], [line.id]]
    after = bench.book.pickups[0]
    assert (len(after.takes), after.chosen, after.state) == (2, 0, State.CHOSEN)
    assert "in the book already" in bench.told[-1]


def test_pickups_tell_when_there_is_nothing_to_do(bench, tmp_path):
    pickups = PickupsPresenter(bench)
    pickups.receive(Path("nothing.wav"))
    assert "No pickup is waiting" in bench.told[-1]
    assert not pickups.send(tmp_path / "sheet.csv")
    heard(bench)
    proof = ProofPresenter(bench)
    proof.choose("f1")
    proof.decide(Decision.PICKUP)
    assert pickups.send(tmp_path / "round")
    bench.jobs.finish("Write round")
    assert bench.book.pickups[0].line in (tmp_path / "round" / "call-sheet.csv").read_text(encoding="utf-8-sig")
    assert bench.book.pickups[0].state is State.SENT
    assert bench.book.rounds[0].pickups == (bench.book.pickups[0].id,)
    assert "Round 1 with 1 line is in round" in bench.told[-1]
    assert pickups.send(tmp_path / "no" / "round")  # what did not come back is asked for again
    bench.jobs.finish("Write round")
    assert "could not be written" in bench.told[-1]
    assert len(bench.book.rounds) == 1


# --- the window ---------------------------------------------------------------------------------------------------


def test_every_desk_shows_and_is_reached_by_mouse_and_key(opened):
    window = opened.window
    for number, (name, button) in enumerate(window.desk_buttons.items(), 1):
        opened.press(button)
        assert window.stack.currentWidget() is window.pages[name]
        window.actions_.run("view.intake")
        QTest.keyClick(window, getattr(Qt.Key, f"Key_{number}"), Qt.KeyboardModifier.ControlModifier)
        assert window.stack.currentWidget() is window.pages[name]


def test_every_control_has_an_accessible_name(opened):
    from PyQt6.QtWidgets import QAbstractButton, QLineEdit

    nameless = [
        w.metaObject().className()
        for kind in (QAbstractButton, QComboBox, QLineEdit, QTableWidget)
        for w in opened.window.findChildren(kind)
        if not (
            w.accessibleName()
            or getattr(w, "text", str)()
            or w.objectName().startswith("qt_")
            or "Corner" in w.metaObject().className()
        )
    ]
    assert nameless == []


def test_contents_take_another_chapter(opened):
    window = opened.window
    rect = window.contents.visualItemRect(window.contents.item(2))
    QTest.mouseClick(window.contents.viewport(), Qt.MouseButton.LeftButton, pos=rect.center())
    assert window.bench.chapter_id == "c3"
    opened.do("view.previous_chapter")
    assert window.bench.chapter_id == "c2"


def test_settings_are_remembered(opened):
    opened.do("view.night")
    opened.do("view.master")
    opened.do("play.faster")
    opened.reopen()
    window = opened.window
    assert window.actions_["view.night"].isChecked()
    assert window.stack.currentWidget() is window.pages["master"]
    assert window.transport.speed == 1.1


DEEP = "[" * 200_000


@pytest.mark.parametrize(
    "value", [DEEP, '{"a": [1e999]}', "[" + "9" * 400 + "]", '{"docket": [1e300, -1, 0]}', "\ud800", "{"], ids="abcdef"
)
def test_settings_and_shelves_of_anything_open_a_window(opened, value):
    """Every key that the window keeps, and a sound of the house shelf, set to what no program writes."""
    settings = opened.window.settings
    opened.do("view.next_chapter")
    opened.close()
    shelf = opened.folder / "shelf"
    shelf.mkdir()
    rows = {"name": "door", "rate": 0, "length": 5, "color": "", "note": ""}
    for number, text in enumerate((value, json.dumps(rows), json.dumps(rows | {"rate": 44_100, "length": 10**400}))):
        (shelf / f"{number:032x}.json").write_text(text, encoding="utf-8", errors="replace")
        (shelf / f"{number:032x}.flac").write_bytes(b"")
    keys = {*settings.allKeys(), "view/columns", "view/size", "books/recent", "sweep/kinds", "record/lead"}
    assert any(k.endswith("/places") for k in keys)
    for key in keys:
        far = key.endswith("/places") and value.startswith("{")
        settings.setValue(key, '{"c1": [1e8, 1e9, -1e9], "c2": [1e8, -1, 5]}' if far else value)
    settings.setValue("shelf/house", str(shelf))
    settings.sync()
    opened.reopen()
    assert opened.window.bench.chapter is not None
    opened.do("list.shelf")
    assert HouseShelf(shelf).items() == []  # a sound of no rate is left out
    opened.do("view.next_chapter")
    assert opened.window.galley.isVisible()


def test_without_a_device_the_window_says_so(opened):
    device = opened.window.parts.foot.device
    assert device.currentText() == "simulated sound"
    assert "no sound device here" in device.toolTip()


def test_decisions_by_the_cards_buttons_and_undo_by_menu(opened):
    window = opened.window
    heard(window.bench)
    opened.do("proof.next")
    card = window.panels["proof"]
    assert card.docket.card.written.text() == window.parts.proof.finding().written
    opened.press(card.docket.card.decisions["stet"])
    assert opened.bookstate.chapters[0].finding("f1").decision is Decision.STET
    assert window.actions_["edit.undo"].text().replace("&", "").startswith("Undo: Stet: ")
    opened.do("edit.undo")
    assert opened.bookstate.chapters[0].finding("f1").decision is Decision.OPEN
    assert window.actions_["edit.redo"].text().replace("&", "").startswith("Redo: Stet: ")


class LaidOut(QObject):
    """Counts how often a widget is asked to lay itself out."""

    def __init__(self, widget):
        super().__init__()
        self.count = 0
        widget.installEventFilter(self)

    def eventFilter(self, _watched, event):
        self.count += event.type() == QEvent.Type.LayoutRequest
        return False


def test_the_docket_is_laid_out_without_the_rest_of_the_window(opened):
    desk = opened.window.panels["proof"]
    inside, outside = LaidOut(desk.list.parent().parent()), LaidOut(desk)
    desk.docket.count.setText("Docket with a longer name")
    opened.qtbot.waitUntil(lambda: inside.count == 1)
    assert outside.count == 0
    assert desk.docket.count.width() >= desk.docket.count.sizeHint().width()


def test_a_long_title_gives_way_to_the_work_that_goes_on(opened):
    window = opened.window
    width = window.minimumSizeHint().width()
    window.book_title.setText("A title that goes on and on, " * 12)
    window.job_row.show()
    opened.qtbot.wait(20)
    assert window.minimumSizeHint().width() <= max(width, 1000)
    assert window.job_row.cancel.width() >= window.job_row.cancel.sizeHint().width()
    assert window.desk_buttons["release"].geometry().right() <= window.width()


def test_how_long_work_takes_is_told_in_minutes_where_it_is_long():
    assert [_left(s) for s in (0.2, 40, 90, 91, 3423)] == [
        "about 1 s left", "about 40 s left", "about 90 s left", "about 2 min left", "about 57 min left"
    ]  # fmt: skip


def test_selected_words_are_cut_by_the_delete_key(opened):
    window = opened.window
    heard(window.bench)
    before = len(opened.bookstate.chapters[0].reel)
    opened.click_word(20)
    opened.click_word(24, shift=True)
    assert window.galley.selection == (20, 24)
    window.activateWindow()
    opened.do("edit.cut_close")
    assert len(opened.bookstate.chapters[0].reel) < before
    assert window.parts.foot.saved.text().startswith("step saved")


def test_the_keys_are_shown(opened, monkeypatch):
    shown = []
    monkeypatch.setattr(QDialog, "exec", lambda dialog: shown.append(dialog.findChild(QTableWidget).rowCount()) or 0)
    opened.do("help.keys")
    assert shown == [len(every_act()) + len(FIXED)]


def test_files_are_dropped_on_intake(qtbot, tmp_path, demo, demo_book):
    made = DemoWindow(qtbot, tmp_path, tmp_path / "new.reelbook", create=True)
    window = made.window
    assert window.stack.currentWidget() is window.pages["intake"]
    assert "empty" in window.panels["intake"].hint.text()
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(demo / n)) for n in ("manuscript.docx", "chapter-2.flac", "chapter-1.flac")])
    event = QDropEvent(QPointF(50, 50), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
    window.panels["intake"].dropEvent(event)
    made.idle()
    names = {r.hash: r.name for r in made.bookstate.recordings}
    assert [names.get(c.recording) for c in made.bookstate.chapters] == ["chapter-1.flac", "chapter-2.flac", None]
    assert window.panels["intake"].chapters.rowCount() == 3
    made.close()


def test_a_problem_is_told_above_the_desk(opened):
    opened.window.parts.intake.bring_manuscript(Path("/nowhere/book.docx"))
    opened.idle()
    assert opened.window.notice.isVisible()
    assert "book.docx" in opened.window.notice.text()


def test_the_loupe_shows_the_chapter_and_its_words(opened):
    window = opened.window
    heard(window.bench)
    assert len(window.loupe._words) == len(window.bench.tokens(window.bench.chapter))
    opened.do("view.closer")
    opened.do("view.spectrum")
    assert window.loupe.spectrum


def test_another_ear_can_be_chosen_and_is_remembered(opened, monkeypatch, tmp_path):
    from PyQt6.QtWidgets import QFileDialog

    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(tmp_path))
    opened.do("proof.ear")
    opened.reopen()
    opened.do("proof.hear")
    opened.idle()
    assert "model.bin" in opened.window.notice.text()  # the folder is empty: it says so
    assert opened.window.parts.proof.hearing_now == set()
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: "")
    opened.do("proof.ear")
    assert opened.window.settings.value("hear/ear") == ""


def test_a_step_elsewhere_leaves_the_cursor_alone(opened):
    window = opened.window
    heard(window.bench)
    opened.do("proof.next")
    opened.click_word(50)
    at = window.transport.spot
    assert Shaping(window.parts.editing).louder(-2.0)
    assert window.transport.spot == at


def test_the_splice_desk_without_takes_offers_nothing(opened):
    window = opened.window
    opened.do("view.splice")
    panel = window.panels["splice"]
    assert not panel.place.isEnabled()
    assert panel.rows.count() == 0
    opened.do("splice.place")
    assert opened.bookstate.pickups == ()


def test_keys_of_one_desk_rest_at_the_others(opened):
    heard(opened.window.bench)
    opened.do("proof.next")
    opened.do("view.master")
    opened.do("proof.stet")
    opened.do("edit.cut_close")
    assert opened.bookstate.chapters[0].finding("f1").decision is Decision.OPEN
    opened.do("view.proof")
    opened.do("proof.stet")
    assert opened.bookstate.chapters[0].finding("f1").decision is Decision.STET


def test_the_docket_is_no_wider_than_its_pane_before_any_finding_was_at_hand(opened):
    panel = opened.window.proof_panel
    opened.do("view.proof")
    QApplication.processEvents()
    assert not panel.docket.card.isVisible()
    assert panel.docket.width() <= panel.side.width()
