"""Recording at the desk: the microphone, how a take begins and ends, and that nothing that was read is lost."""

from __future__ import annotations

from dataclasses import replace
from types import SimpleNamespace

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QSettings
from PyQt6.QtWidgets import QMessageBox
from support.hands import drag_over
from support.hearing import lay_hearing
from support.jobs import HeldJobs

from faithful_reel.app.pickups import presenter as pickups_module
from faithful_reel.app.pickups.presenter import PickupsPresenter
from faithful_reel.app.recording import over as over_module
from faithful_reel.app.recording import recorder as recorder_module
from faithful_reel.app.recording.dialog import RecordDialog, _marked
from faithful_reel.app.recording.microphone import Cue, DeviceMicrophone, StandInMicrophone
from faithful_reel.app.recording.over import OverPresenter
from faithful_reel.app.recording.presenter import RecordPresenter
from faithful_reel.app.recording.recorder import Stage
from faithful_reel.app.theme import THEMES
from faithful_reel.core.audio.files import read_mono
from faithful_reel.core.book.pickups import ChangePickups
from faithful_reel.core.collate.findings import Decision
from faithful_reel.core.errors import BookDamaged, FileProblem
from faithful_reel.core.pickups.judging import Leftover
from faithful_reel.core.pickups.ledger import State, Take
from faithful_reel.core.standins.booth import one_take
from faithful_reel.core.work.receiving import Received

RATE = 44_100


class Fed:
    """A microphone that hears what a test feeds it."""

    name, simulated = "fed", False

    def __init__(self):
        self.problem, self.opened, self.coming, self.closed = "", [], [], 0

    def open(self, cue):
        self.opened.append((cue.line, cue.take, cue.lead_s))

    def pull(self):
        return self.coming.pop(0) if self.coming else np.zeros(0, np.float32)

    def close(self):
        self.closed += 1


class Sound:
    """The transport, as far as it is asked."""

    def __init__(self):
        self.playing, self.heard = False, []

    def hear_sound(self, render, start, stop, *, loop=False, speed=None):
        self.heard.append((start, stop, loop, speed))
        self.playing = True

    def stop(self):
        self.playing = False


def voice(seconds, db=-20.0):
    x = np.random.default_rng(round(1000 * seconds)).standard_normal(round(seconds * RATE))
    return (x / np.abs(x).max() * 10 ** (db / 20)).astype(np.float32)


def room(seconds, db=-70.0):
    return voice(seconds, db)


@pytest.fixture
def desk(opened, monkeypatch, tmp_path):
    """A recording desk on a heard chapter, with a line at hand, jobs that wait, and a microphone that is fed."""
    window = opened.window
    bench = window.bench
    lay_hearing(bench)
    told = []
    bench.tell = bench.warn = bench.report = told.append
    held = HeldJobs()
    bench.jobs = held
    monkeypatch.setattr(window.parts.splice, "place_soon", lambda name: told.append(f"placed {name}"))
    settings = QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat)
    fed, sound = Fed(), Sound()
    record = RecordPresenter(window.parts.pickups, window.parts.splice, sound, lambda: fed, settings)
    assert record.begin_words(range(12, 13))
    yield SimpleNamespace(
        record=record, bench=bench, told=told, held=held, fed=fed, sound=sound, settings=settings, window=window
    )
    bench.jobs = window.jobs


def read_line(desk, sounds):
    """Record once: the reading before it has ended, then these sounds come."""
    assert desk.record.record()
    desk.sound.playing = False
    desk.record.tick()
    assert desk.record.stage is Stage.RECORDING
    for x in sounds:
        desk.fed.coming.append(x)
        desk.record.tick()
        if desk.record.stage is not Stage.RECORDING:
            return


def test_the_sentences_of_words_become_a_line_and_the_same_words_the_same_line(desk):
    lines = desk.bench.book.pickups
    assert len(lines) == 1
    words = desk.bench.text(desk.bench.book.chapters[0]).words
    assert lines[0].line == " ".join(w.text for w in words[lines[0].first_word : lines[0].words.stop])
    assert 12 in lines[0].words
    assert desk.record.begin_words(range(12, 14))
    assert desk.bench.book.pickups == lines
    assert not desk.record.begin_words(range(0))
    assert "Choose the words" in desk.told[-1]


def test_the_reading_before_plays_at_its_own_speed_and_recording_begins_where_the_line_does(desk):
    line = desk.bench.book.pickups[0]
    assert desk.record.record()
    start = next(t.start for t in desk.bench.tokens(desk.bench.book.chapters[0]) if t.word == line.first_word)
    assert desk.sound.heard == [(start - 3 * RATE, start, False, 1.0)]
    assert desk.record.stage is Stage.LEAD
    desk.record.tick()
    assert desk.record.stage is Stage.LEAD  # it still plays
    assert desk.fed.opened == [(line.line, 0, 3.0)]  # it listens already
    desk.fed.coming.append(room(2.9))
    desk.record.tick()
    desk.sound.playing = False
    desk.record.tick()
    assert desk.record.stage is Stage.RECORDING
    assert desk.record.recorded_s == 0.0


def test_it_stops_by_itself_after_the_line_and_not_in_its_pauses(desk):
    line = desk.bench.book.pickups[0]
    half = 0.3 * len(line.line.split())
    parts = [room(0.5), voice(half), room(0.8), voice(half), room(0.6), room(0.8), room(5.0)]
    read_line(desk, parts)
    assert desk.record.stage is Stage.DONE
    take = desk.record.takes[0]
    heard = np.concatenate(parts[:6])
    assert np.array_equal(take.sound, heard)  # every sample of it, in order
    assert take.peak_db == pytest.approx(-20, abs=0.1)
    assert not take.too_loud
    assert desk.fed.closed


def test_somebody_who_never_speaks_is_not_waited_for_without_end(desk):
    read_line(desk, [room(1.0)] * 200)
    assert desk.record.stage is Stage.DONE
    words = len(desk.bench.book.pickups[0].line.split())
    assert len(desk.record.takes[0].sound) / RATE < 2 * max(1.0, 0.45 * words) + 4 + 2


def test_a_take_that_is_too_loud_says_so(desk):
    read_line(desk, [voice(9.0, -3.0), room(2.0)])
    assert desk.record.takes[0].too_loud


def test_a_loud_room_does_not_keep_it_from_stopping(desk):
    read_line(desk, [room(0.5, -42.0), voice(9.0, -14.0), *[room(0.5, -42.0)] * 4, room(60.0, -42.0)])
    assert desk.record.stage is Stage.DONE
    assert len(desk.record.takes[0].sound) < 13 * RATE


def test_a_microphone_that_fails_is_told_and_what_was_recorded_stays(desk):
    assert desk.record.record()
    desk.sound.playing = False
    desk.record.tick()
    desk.fed.coming.append(voice(1.0))
    desk.record.tick()
    desk.fed.problem = "Nothing can be recorded from fed."
    desk.record.tick()
    assert desk.record.told == desk.fed.problem
    assert [len(t.sound) for t in desk.record.takes] == [RATE]


def test_the_level_is_checked_without_a_take(desk):
    desk.record.check_level()
    desk.fed.coming.append(voice(0.2, -9.0))
    desk.record.tick()
    assert desk.record.level_db == pytest.approx(-9, abs=0.1)
    desk.record.stop()
    assert desk.record.takes == []


def test_what_is_kept_comes_to_the_ledger_and_the_best_is_put_in(desk, monkeypatch):
    read_line(desk, [voice(9.0), room(2.0)])
    read_line(desk, [voice(8.0), room(2.0)])
    mine = [t.sound for t in desk.record.takes]
    line = desk.bench.book.pickups[0]
    asked = []

    def received_takes(folder, book, path, waiting, ears_of, watch, memory):
        asked.append(([p.id for p in waiting], read_mono(path, RATE)))
        recording = replace(book.recordings[0], hash="f" * 64, name=path.name)
        takes = tuple(Take(recording.hash, k * 1000, k * 1000 + 900, 0, line.line, ((0, 1),) * line.word_count) for k in (1, 2))
        return Received(recording, ((line.id, takes, 1),))

    monkeypatch.setattr(pickups_module, "received_takes", received_takes)
    assert desk.record.keep(splice=True)
    assert desk.record.takes == []
    desk.held.finish("Sort")
    names, sound = asked[0]
    assert names == [line.id]
    silence = np.zeros(round(0.8 * RATE), np.float32)
    whole = np.concatenate([y for x in mine for y in (silence, x, silence)])
    assert len(sound) == len(whole)
    assert np.allclose(sound, whole, atol=1e-4)
    now = desk.bench.book.pickups[0]
    assert (len(now.takes), now.takes[now.chosen].start) == (2, 2000)
    assert f"placed {line.id}" in desk.told
    assert not (desk.bench.session.store.folder / "desk").exists()


def test_what_could_not_be_kept_is_still_there(desk, monkeypatch):
    read_line(desk, [voice(9.0), room(2.0)])
    before = list(desk.record.takes)

    def fails(*_args, **_more):
        raise FileProblem("The disk is full.")

    monkeypatch.setattr(pickups_module, "received_takes", fails)
    read_line(desk, [voice(8.0), room(2.0)])
    before = list(desk.record.takes)
    assert desk.record.keep()
    assert desk.record.takes == []
    desk.held.finish("Sort")
    assert "disk is full" in desk.told[-1]
    assert [t.sound for t in desk.record.takes] == [t.sound for t in before]
    [left] = in_folder(desk)  # in a file all the time, and in one alone
    desk.record.drop(0)
    assert in_folder(desk) == [left]  # the other one is in it
    desk.record.throw_away()
    assert not left.exists()


def in_folder(desk):
    """What was recorded at the desk and is not in the book."""
    return sorted((desk.bench.session.store.folder / "desk").glob("*"))


def test_a_take_is_in_a_file_as_soon_as_it_is_recorded(desk, monkeypatch):
    read_line(desk, [voice(9.0), room(2.0)])
    read_line(desk, [voice(8.0), room(2.0)])  # from here on the program may be killed
    second, first = in_folder(desk)
    assert len(read_mono(second, RATE)) == len(desk.record.takes[1].sound) + 2 * round(0.8 * RATE)
    desk.record.drop(0)
    assert not first.exists()
    assert in_folder(desk) == [second]
    assert desk.record.keep()
    [path] = in_folder(desk)
    assert path != second
    desk.record.close()
    assert in_folder(desk) == [path]
    monkeypatch.setattr(recorder_module, "write_audio", lambda *_: (_ for _ in ()).throw(FileProblem("No room is left.")))
    read_line(desk, [voice(9.0), room(2.0)])
    assert desk.record.told == "No room is left."
    assert len(desk.record.takes) == 1


def test_a_window_that_is_closed_while_a_recording_comes_in_loses_nothing(desk, opened):
    read_line(desk, [voice(9.0), room(2.0)])
    sound = desk.record.takes[0].sound
    assert desk.record.keep()
    read_line(desk, [voice(8.0), room(2.0)])  # a second take, which nobody kept
    desk.record.close()
    desk.bench.jobs = desk.window.jobs
    opened.reopen()
    left = sorted((opened.book / "desk").iterdir())
    assert len(left) == 2
    assert any(abs(len(read_mono(p, RATE)) - len(sound) - 1.6 * RATE) < 2 for p in left)
    told = opened.window.strip.notice.text()
    assert "not in the book yet" in told
    assert all(p.name in told for p in left)
    opened.reopen()
    assert sorted((opened.book / "desk").iterdir()) == left


def test_a_line_whose_name_leads_elsewhere_is_kept_nowhere_else(desk):
    read_line(desk, [voice(9.0), room(2.0)])
    desk.record._takes["../../out"] = desk.record.takes
    with pytest.raises(BookDamaged, match="can not be one of its own"):
        desk.record._written("../../out", desk.record.takes)
    assert not list(desk.bench.session.store.folder.parent.rglob("*out*.wav"))
    desk.record._takes.pop("../../out")


def test_what_no_ear_knows_stands_under_what_fits_no_line(desk, monkeypatch):
    read_line(desk, [voice(9.0), room(2.0)])

    def received_takes(folder, book, path, *_args):
        recording = replace(book.recordings[0], hash="e" * 64, name=path.name)
        return Received(recording, (), (Leftover(100, 9000, "mumbling"),))

    monkeypatch.setattr(pickups_module, "received_takes", received_takes)
    assert desk.record.keep()
    desk.held.finish("Sort")
    assert [u.heard for u in desk.bench.book.unmatched] == ["mumbling"]
    assert "what fits no line" in desk.told[-1]


def test_a_line_that_is_in_is_not_recorded_over(desk):
    line = desk.bench.book.pickups[0]
    assert desk.bench.do(ChangePickups((line.id,), state=State.DROPPED))
    desk.record.pickups.choose("")
    assert not desk.record.record()
    assert "No line is at hand" in desk.record.told
    assert desk.record.stage is Stage.IDLE


def test_takes_stay_with_their_line(desk):
    read_line(desk, [voice(9.0), room(2.0)])
    assert len(desk.record.takes) == 1
    assert desk.record.begin_words(range(62, 63))
    assert desk.record.takes == []
    assert desk.record.begin_words(range(12, 13))
    assert len(desk.record.takes) == 1


def test_the_window_asks_before_takes_are_thrown_away(desk, monkeypatch, qtbot):
    answers = [QMessageBox.StandardButton.Cancel, QMessageBox.StandardButton.No]
    monkeypatch.setattr(QMessageBox, "question", lambda *_a, **_k: answers.pop(0))
    dialog = RecordDialog(desk.window, desk.record, THEMES["day"], [], lambda _name: None)
    dialog.show()
    read_line(desk, [voice(9.0), room(2.0)])
    dialog.refresh()
    assert dialog.takes.rowCount() == 1
    dialog.reject()
    assert dialog.isVisible()
    assert len(desk.record.takes) == 1
    dialog.reject()
    assert not dialog.isVisible()
    assert desk.record.takes == []
    assert not answers


# --- microphones ------------------------------------------------------------------------------------------------------


def test_the_stand_in_gives_every_sample_once_and_then_the_room():
    now, sound = [0.0], voice(2.0)
    booth = StandInMicrophone(RATE, lambda _cue: sound, clock=lambda: now[0])
    booth.open(Cue("a line"))
    booth._coming.result()
    got = [booth.pull()]
    for seconds in (0.013, 0.3, 1.1, 2.0, 2.6, 4.0):
        now[0] = seconds
        got.append(booth.pull())
    heard = np.concatenate(got)
    assert len(heard) == round(4.0 * RATE)
    assert np.array_equal(heard[: len(sound)], sound)
    last = round(0.4 * RATE)  # nobody speaks there
    assert np.array_equal(heard[len(sound) : len(sound) + 100], sound[len(sound) - last :][:100])
    booth.close()
    assert not len(booth.pull())


def test_a_line_that_the_stand_in_can_not_say_is_told():
    class Dumb:
        def said(self, text, take):
            return None

    booth = StandInMicrophone(RATE, lambda cue: one_take(cue.line, cue.take, [Dumb()], RATE))
    booth.open(Cue("Nobody can say this."))
    with pytest.raises(FileProblem):
        booth._coming.result()
    assert not len(booth.pull())
    assert "no voice that can say" in booth.problem


@pytest.mark.slow
def test_without_an_input_the_device_says_so_and_leaves_nothing_behind(qtbot, monkeypatch):
    monkeypatch.setenv("PULSE_SERVER", "unix:/nonexistent")
    device = DeviceMicrophone(RATE, "nothing of this name")
    device.open(Cue("a line"))
    qtbot.waitUntil(lambda: bool(device.problem) or len(device.pull()) > 0, timeout=20_000)
    child = device._child
    device.close()
    assert child.poll() is not None
    assert not len(device.pull())


def test_no_presenter_is_needed_twice(desk):
    assert isinstance(desk.record.pickups, PickupsPresenter)
    assert desk.record.about().startswith("Chapter One")
    desk.record.set_lead(0.0)
    assert desk.settings.value("record/lead") == 0.0
    assert desk.record.record()
    assert desk.record.stage is Stage.RECORDING  # at once, where no reading before it is wanted
    assert desk.sound.heard == []


def test_words_to_mind_are_marked_and_letters_of_markup_are_letters(desk):
    bench = desk.bench
    desk.window.parts.proof.choose("f1", "c1")
    desk.window.parts.proof.decide(Decision.PICKUP)
    line = next(p for p in bench.book.pickups if p.findings)
    desk.record.pickups.choose(line.id)
    dialog = RecordDialog(desk.window, desk.record, THEMES["day"], [], lambda _name: None)
    try:
        [word] = desk.record.to_mind()
        assert f"<u>{line.line.split()[word]}</u>" in dialog.line.text()
        assert dialog.line.text().count("<u>") == 1
    finally:
        dialog.done(0)
        dialog.deleteLater()
    assert _marked("a <b> & c", {1}) == "a <u>&lt;b&gt;</u> &amp; c"


# --- over what is marked ----------------------------------------------------------------------------------------------


@pytest.fixture
def over(opened, tmp_path):
    """What is marked at a microphone that is fed, with jobs that wait; the lead-in is left out."""
    window = opened.window
    lay_hearing(window.bench)
    told, held, fed = [], HeldJobs(), Fed()
    window.bench.tell = window.bench.warn = window.bench.report = told.append
    window.bench.jobs = held
    settings = QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat)
    made = OverPresenter(window.parts.editing, lambda: fed, settings)
    made.set_lead(0.0)
    yield SimpleNamespace(over=made, bench=window.bench, told=told, held=held, fed=fed, window=window, editing=made.editing)
    window.bench.jobs = window.jobs


def read_over(desk, *sounds):
    """Record what is marked once, from sounds that come one after another."""
    assert desk.over.record()
    for x in sounds:
        desk.fed.coming.append(x)
        desk.over.tick()
    if desk.over.stage is Stage.RECORDING:
        desk.over.stop()


def test_a_part_of_a_sentence_is_recorded_heard_in_place_and_laid_over_as_one_step(over):
    bench, before = over.bench, over.bench.chapter.reel
    over.editing.select_words(12, 14)
    span = over.editing.span
    assert over.over.begin()
    words = [w.text for w in bench.text(bench.chapter).words]
    assert over.over.line() == " ".join(words[12:15])
    assert over.over.before().split() == words[:12]
    assert over.over.after().split() == words[15:23]
    read_over(over, room(0.7), voice(1.5), room(0.6), room(0.9))
    take = over.over.takes[0]
    assert abs(take.reading.start - 0.7 * RATE) < 0.25 * RATE
    assert abs(take.reading.stop - 2.2 * RATE) < 0.35 * RATE
    over.over.hear_in_place(0)  # nothing of the book changes by it
    assert over.window.transport.playing
    assert bench.chapter.reel is before
    over.over.shift(0, start=-2000, stop=3000)
    reading = over.over.takes[0].reading
    assert reading == type(reading)(take.reading.start - 2000, take.reading.stop + 3000)
    gain = over.over._gain_db(over.over.takes[0], over.over._place.over)
    assert over.over.keep(0)
    over.held.finish("Bring in")
    after = bench.chapter.reel
    assert len(after) == len(before) - len(span) + len(reading)
    piece = next(s for s in after.lanes[0].segments if s.recording not in before.lanes[0].recordings)
    assert (len(piece), piece.gain_db) == (len(reading), gain)
    assert piece.name == " ".join(words[12:15])
    read = read_mono(bench.path_of(piece.recording), RATE)[piece.start : piece.stop]
    assert np.allclose(read, take.sound[reading.start : reading.stop], atol=1e-4)
    assert not (bench.session.store.folder / "desk").exists()
    assert bench.undo().startswith("Record over")
    assert bench.chapter.reel == before
    assert any(r.hash == piece.recording for r in bench.book.recordings)  # what was recorded is in the book all the same


def test_takes_of_a_span_stay_with_it_and_the_chosen_one_is_laid(over):
    over.editing.select_words(12, 14)
    assert over.over.begin()
    read_over(over, room(0.5), voice(1.5, -20), room(1.4))
    read_over(over, room(0.5), voice(1.0, -30), room(1.4))
    over.editing.select_words(40, 41)
    assert over.over.begin()
    assert over.over.takes == []
    over.editing.select_words(12, 14)
    assert over.over.begin()
    first = over.over.takes[0]
    assert len(over.over.takes) == 2
    assert over.over.keep(0)
    over.held.finish("Bring in")
    piece = next(s for s in over.bench.chapter.reel.lanes[0].segments if s.name)
    read = read_mono(over.bench.path_of(piece.recording), RATE)
    assert np.allclose(read[piece.start : piece.stop], first.sound[first.reading.start : first.reading.stop], atol=1e-4)
    assert len(read) > 2 * len(first.sound) - RATE  # the other take is in the recording as well


def test_a_chapter_that_changed_meanwhile_is_left_alone_and_the_take_is_on_the_shelf(over):
    over.editing.select_words(12, 14)
    assert over.over.begin()
    read_over(over, room(0.5), voice(1.5), room(1.4))
    assert over.over.keep(0)
    over.editing.select_words(60, 61)
    over.window.actions_.run("edit.cut_close")
    changed = over.bench.chapter.reel
    over.held.finish("Bring in")
    assert over.bench.chapter.reel == changed
    assert "shelf" in over.told[-1]
    [kept] = over.bench.book.shelf
    assert kept.segments[0].recording == over.bench.book.recordings[-1].hash


def test_a_take_that_would_cost_another_voice_and_is_left_is_on_the_shelf(over, monkeypatch):
    over.editing.select_words(12, 14)
    assert over.over.begin()
    read_over(over, room(0.5), voice(1.5), room(1.4))
    monkeypatch.setattr(over.editing, "do", lambda *_a, **_k: False)  # asked, and left
    before = over.bench.chapter.reel
    assert over.over.keep(0)
    over.held.finish("Bring in")
    assert over.bench.chapter.reel is before
    assert [s.segments[0].recording for s in over.bench.book.shelf] == [over.bench.book.recordings[-1].hash]
    assert "not laid over" in over.told[-1]


def test_what_can_not_be_brought_in_is_in_hand_again_and_still_in_its_file(over, monkeypatch):
    over.editing.select_words(12, 14)
    assert over.over.begin()
    read_over(over, room(0.5), voice(1.5), room(1.4))
    monkeypatch.setattr(over_module, "received", lambda *_a: (_ for _ in ()).throw(FileProblem("The disk is full.")))
    before = over.bench.chapter.reel
    assert over.over.keep(0)
    assert over.over.takes == []
    over.held.finish("Bring in")
    assert "disk is full" in over.told[-1]
    assert len(over.over.takes) == 1
    assert over.bench.chapter.reel is before
    assert over.over.takes[0].file.is_file()


def test_nothing_marked_and_several_spans_are_told_and_a_pause_has_no_words(over):
    over.window.transport.go_to(1000)
    assert not over.over.begin()
    assert "Nothing is marked" in over.told[-1]
    over.editing.select(1000, 2000)
    over.editing.add()
    over.editing.select(3000, 4000)
    assert not over.over.begin()
    assert "Several spans" in over.told[-1]
    over.editing.let_go()
    over.editing.select(1000, 2000)
    assert over.over.begin()
    assert over.over.line().startswith("(no words")
    assert over.over.wanted().line == ""
    assert over.over.after().startswith("Chapter One")


def test_a_word_is_short_and_yet_stops_by_itself(over):
    over.editing.select_words(12, 12)
    assert over.over.begin()
    assert over.over.record()
    for x in (room(0.5), voice(0.3), *[room(0.25, -71)] * 12):
        over.fed.coming.append(x)
        over.over.tick()
    assert over.over.stage is Stage.DONE
    assert len(over.over.takes[0].sound) < 2.6 * RATE


def test_keeping_the_time_is_offered_only_where_no_word_would_be_cut_off(over, monkeypatch):
    offered = []
    monkeypatch.setattr(over.editing, "do", lambda *_a, instead, **_k: offered.append(instead is not None))
    for words, seconds in ((3, 0.6), (1, 1.5)):
        over.editing.select_words(12, 11 + words)
        assert over.over.begin()
        read_over(over, room(0.5), voice(seconds), room(1.4))
        assert over.over.keep(0)
        over.held.finish("Bring in")
    assert offered == [True, False]


def test_who_reads_before_the_lead_in_is_over_is_not_waited_for(over):
    over.editing.select_words(12, 12)
    over.over.transport = sound = Sound()
    over.over.set_lead(3.0)
    assert over.over.begin()
    assert over.over.record()
    for x in (room(2.5), voice(0.4), room(0.1, -71)):
        over.fed.coming.append(x)
        over.over.tick()
    assert over.over.stage is Stage.LEAD
    sound.playing = False  # only now is the lead-in over
    for _ in range(6):
        over.fed.coming.append(room(0.3, -71))
        over.over.tick()
    assert over.over.stage is Stage.DONE
    take = over.over.takes[0]
    assert take.begun == pytest.approx(3.3 * RATE, abs=2)  # all that was heard when it was over
    assert take.reading.start <= 2.5 * RATE
    assert take.reading.stop >= 2.9 * RATE


def test_the_window_moves_margins_by_fields_and_by_the_mouse(over):
    over.editing.select_words(12, 14)
    assert over.over.begin()
    read_over(over, room(0.5), voice(1.5), room(1.4))
    dialog = RecordDialog(over.window, over.over, THEMES["night"], [], lambda _name: None)
    dialog.show()
    try:
        first = over.over.takes[0].reading
        dialog.starts.setValue(dialog.starts.value() - 0.05)
        assert abs(first.start - over.over.takes[0].reading.start - 0.05 * RATE) <= 45
        assert over.over.takes[0].reading.stop == first.stop
        strip, length = dialog.strip, len(over.over.takes[0].sound)
        x = lambda at: QPoint(round(at / length * strip.width()), 20)  # noqa: E731
        drag_over(strip, [x(first.stop), x(first.stop + 5000), x(first.stop + 9000)])
        assert abs(over.over.takes[0].reading.stop - first.stop - 9000) < 2 * length / strip.width()
        assert f"{over.over.takes[0].reading.stop / RATE:.2f}" in strip.accessibleDescription()
        dialog.level.setChecked(False)
        assert over.over._gain_db(over.over.takes[0], over.over._place.over) == 0.0
        dialog.run_out.setCurrentIndex(dialog.run_out.findData(2.0))
        dialog.run_out.activated.emit(dialog.run_out.currentIndex())
        assert over.over.run_out_s == 2.0
    finally:
        over.over.throw_away()
        dialog.done(0)
        dialog.deleteLater()
