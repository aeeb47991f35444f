"""The Intake desk, driven by mouse, keys and dropped files."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QTimer, QUrl
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QInputDialog
from support.app import DemoWindow
from support.manuscripts import AUTHOR, TITLE, make_docx, make_epub3
from support.sounds import RATE, noise, sine, speech_like

from faithful_reel.app.asking import Asking
from faithful_reel.app.intake.dialogs import ReimportDialog, SplitDialog
from faithful_reel.core.book.commands import AddRecording, EditReel, PairRecording
from faithful_reel.core.book.recordings import received
from faithful_reel.core.reel.commands import CutAndClose
from faithful_reel.core.text.words import Chapter


@pytest.fixture
def empty(qtbot, tmp_path):
    window = DemoWindow(qtbot, tmp_path, tmp_path / "New.reelbook", create=True)
    yield window
    window.close()


@pytest.fixture
def desk(opened):
    opened.do("view.intake")
    return opened.window.panels["intake"]


def drop(panel, paths) -> bool:
    """Drag files over the desk and let go."""
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(p)) for p in paths])
    buttons, keys = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    enter = QDragEnterEvent(QPoint(200, 200), Qt.DropAction.CopyAction, data, buttons, keys)
    QApplication.sendEvent(panel, enter)
    if enter.isAccepted():
        QApplication.sendEvent(panel, QDropEvent(QPointF(200, 200), Qt.DropAction.CopyAction, data, buttons, keys))
    return enter.isAccepted()


def act(panel, name):
    """The button of an act."""
    return next(b for b in panel.acts if b.act == name)


def row_of(view, text) -> int:
    return next(r for r in range(view.rowCount()) if view.item(r, 0).text() == text)


def click(view, row) -> None:
    QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=view.visualItemRect(view.item(row, 0)).center())


def sound(path, *, seconds=6.0, clipped=False):
    x = np.concatenate([noise(seconds=2, rms_db=-66), speech_like(seconds=seconds)])
    if clipped:
        x[100_000:100_020] = 1.0
    soundfile.write(path, x, RATE)
    return path


def test_an_empty_book_says_what_to_do(empty):
    panel = empty.window.panels["intake"]
    assert empty.window.stack.currentWidget().widget() is panel
    assert "Bring in the manuscript first" in panel.hint.text()
    assert not panel.by_ear.isEnabled()
    assert not panel.card.isVisible()
    assert not act(panel, "intake.rename").isEnabled()
    panel.grab()  # with the notes in the empty tables


def test_many_files_dropped_at_once_good_and_bad(empty, tmp_path, demo):
    panel = empty.window.panels["intake"]
    folder = tmp_path / "from the narrator"
    folder.mkdir()
    sound(folder / "ch 1.wav")
    sound(folder / "ch 2.flac", clipped=True)
    (folder / "notes.wav").write_bytes(b"no sound at all")
    (folder / "cut.flac").write_bytes((demo / "chapter-2.flac").read_bytes()[:90_000])
    make_docx(folder / "book.docx")
    assert drop(panel, [folder])  # a whole folder
    assert panel.incoming.isVisible()
    empty.idle()
    book = empty.bookstate
    assert [c.title for c in book.chapters] == [
        "Chapter One: The Ferry",
        "Chapter Two: The Ledger",
        "Chapter Three: The Crossing",
    ]
    assert [c.title for c in book.left_out] == ["Front matter", "Notes"]
    assert (book.title, book.author) == (TITLE, AUTHOR)
    assert empty.window.book_title.text() == TITLE
    assert sorted(r.name for r in book.recordings) == ["ch 1.wav", "ch 2.flac"]
    assert {book.recording(c.recording).name for c in book.chapters if c.recording} == {"ch 1.wav", "ch 2.flac"}
    refused = {panel.incoming.item(r, 0).text(): panel.incoming.item(r, 1).text() for r in range(panel.incoming.rowCount())}
    assert set(refused) == {"notes.wav", "cut.flac"}
    assert "damaged or cut short" in refused["cut.flac"]
    assert all(text.startswith(name) for name, text in refused.items())
    assert [p.name for p in (empty.window.bench.session.store.folder / "recordings").iterdir() if p.name.startswith(".")] == []
    row = row_of(panel.recordings, "ch 2.flac")
    assert panel.recordings.item(row, 2).text() == "20 clipped samples"
    click(panel.recordings, row)
    assert panel.figures["clipped"].text().startswith("20 samples, first at 0:00:02")
    assert panel.figures["came as"].text() == "44.1 kHz, 16-bit, mono"
    empty.press(panel.forget)
    assert not panel.incoming.isVisible()


def test_nothing_but_files_may_be_dropped(empty):
    data = QMimeData()
    data.setText("words")
    enter = QDragEnterEvent(
        QPoint(9, 9), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    enter.ignore()
    QApplication.sendEvent(empty.window.panels["intake"], enter)
    assert not enter.isAccepted()


def test_bringing_in_can_be_stopped_and_leaves_nothing(empty, tmp_path):
    panel = empty.window.panels["intake"]
    paths = [sound(tmp_path / f"{n}.wav", seconds=25) for n in range(8)]
    drop(panel, paths)
    empty.press(panel.stop)
    empty.idle()
    assert empty.window.parts.intake.queue == []
    left = {p.stem for p in (empty.window.bench.session.store.folder / "recordings").iterdir()}
    assert left == {r.hash for r in empty.bookstate.recordings}
    assert len(left) < 8


def test_the_same_recording_is_not_taken_twice(empty, tmp_path):
    panel = empty.window.panels["intake"]
    path = sound(tmp_path / "one.wav")
    for _ in range(2):
        drop(panel, [path])
        empty.idle()
    assert len(empty.bookstate.recordings) == 1
    assert "in the book already" in empty.window.notice.text()


# --- chapters by hand ---------------------------------------------------------------------------------------------


def answer(opened, kind, act):
    """Do `act` to the dialog of a kind as soon as it opens."""
    timer = QTimer(opened.window)

    def look() -> None:
        dialog = QApplication.activeModalWidget()
        if isinstance(dialog, kind):
            timer.stop()
            act(dialog)

    timer.timeout.connect(look)
    timer.start(50)


def test_a_chapter_is_renamed_moved_left_out_and_put_back(opened, desk):
    click(desk.chapters, 1)

    def rename(dialog):
        assert dialog.width() > dialog.fontMetrics().horizontalAdvance(dialog.windowTitle()) + 100
        dialog.setTextValue("The Visitor at Dusk")
        dialog.accept()

    answer(opened, QInputDialog, rename)
    opened.press(act(desk, "intake.rename"))
    assert desk.chapters.item(1, 0).text() == "The Visitor at Dusk"
    opened.press(act(desk, "intake.earlier"))
    assert [desk.chapters.item(r, 0).text() for r in range(2)] == ["The Visitor at Dusk", "Chapter One: Low Water"]
    places = {c.y() for c in desk.chapters.findChildren(QComboBox)}
    act(desk, "intake.leave_out").click()  # and nothing that waits has happened yet
    assert all(c.x() >= desk.chapters.columnViewportPosition(3) for c in desk.chapters.findChildren(QComboBox))
    assert {c.y() for c in desk.chapters.findChildren(QComboBox)} <= places
    assert desk.chapters.rowCount() == 2
    click(desk.aside, row_of(desk.aside, "The Visitor at Dusk"))
    opened.press(desk.back)
    assert desk.chapters.rowCount() == 3
    for _ in range(4):
        opened.do("edit.undo")
    assert [c.title for c in opened.bookstate.chapters][1] == "Chapter Two: The Visitor"


def test_a_chapter_is_split_and_joined_by_keys(empty, tmp_path):
    make_docx(tmp_path / "book.docx")
    desk = empty.window.panels["intake"]
    drop(desk, [tmp_path / "book.docx"])
    empty.idle()
    click(desk.chapters, 0)

    def choose(dialog):
        QTest.keyClick(dialog.list, Qt.Key.Key_Down)
        QTest.keyClick(dialog.list, Qt.Key.Key_Return)

    answer(empty, SplitDialog, choose)
    empty.press(act(desk, "intake.split"))
    assert len(empty.bookstate.chapters) == 4
    words = [empty.window.bench.text(c).text for c in empty.bookstate.chapters[:2]]
    assert words[1].startswith("“You’re late,”")
    click(desk.chapters, 0)
    empty.press(act(desk, "intake.join"))
    assert len(empty.bookstate.chapters) == 3
    click(desk.chapters, 2)
    empty.press(act(desk, "intake.join"))
    assert "no chapter after this one" in empty.window.notice.text()


def test_a_chapter_that_was_not_heard_is_not_split_blindly(opened, desk):
    click(desk.chapters, 0)
    answer(opened, SplitDialog, SplitDialog.accept)
    opened.press(act(desk, "intake.split"))
    assert "Hear the chapter first" in opened.window.notice.text()
    assert len(opened.bookstate.chapters) == 3


def test_a_corrected_manuscript_is_shown_and_taken_over(opened, desk, demo, tmp_path):
    text = (demo / "manuscript.txt").read_text(encoding="utf-8")
    first = opened.window.bench.text(opened.bookstate.chapters[0]).words[20].text
    corrected = text.replace(f" {first} ", f" {first} indeed ", 1)
    (tmp_path / "corrected.txt").write_text(corrected, encoding="utf-8")
    shown = []

    def look(dialog):
        shown.extend(dialog.changes.item(0, c).text() for c in range(3))
        dialog.accept()

    answer(opened, ReimportDialog, look)
    drop(desk, [tmp_path / "corrected.txt"])
    opened.idle()
    assert shown[0] == "Chapter One: Low Water"
    assert shown[2] == "indeed"
    assert "indeed" in [w.text for w in opened.window.bench.text(opened.bookstate.chapters[0]).words]
    drop(desk, [tmp_path / "corrected.txt"])
    opened.idle()
    assert "changes nothing" in opened.window.notice.text()


def test_chapters_changed_while_a_manuscript_is_read_are_left_alone(opened, desk, tmp_path):
    make_epub3(tmp_path / "another.epub")
    drop(desk, [tmp_path / "another.epub"])
    opened.window.parts.intake.rename(opened.bookstate.chapters[0].id, "Changed meanwhile")
    opened.idle()
    assert "were changed while another.epub was read" in opened.window.notice.text()
    assert opened.bookstate.chapters[0].title == "Changed meanwhile"


def test_a_bad_manuscript_is_one_message(opened, desk, tmp_path):
    (tmp_path / "bad.docx").write_bytes(b"PK nothing")
    before = opened.bookstate
    drop(desk, [tmp_path / "bad.docx"])
    opened.idle()
    assert opened.window.notice.text().startswith("bad.docx is damaged")
    assert opened.bookstate is before


def test_a_corrected_manuscript_can_be_refused(opened, desk, tmp_path):
    make_epub3(tmp_path / "another.epub")
    before = opened.bookstate
    refused = []
    answer(opened, ReimportDialog, lambda dialog: (refused.append(dialog), dialog.reject()))
    drop(desk, [tmp_path / "another.epub"])
    opened.idle()
    assert len(refused) == 1
    assert opened.bookstate is before


# --- pairing ------------------------------------------------------------------------------------------------------


def test_pairing_by_hand_and_apart(opened, desk):
    combo = desk.chapters.cellWidget(0, 3)
    assert isinstance(combo, QComboBox)
    combo.setFocus()
    QTest.keyClick(combo, Qt.Key.Key_Home)
    combo.activated.emit(combo.currentIndex())
    assert opened.bookstate.chapters[0].recording == ""
    assert opened.bookstate.chapters[0].reel is None
    assert "1 chapters have no recording" in desk.hint.text()
    opened.do("edit.undo")
    assert opened.bookstate.chapters[0].recording


@pytest.mark.slow
def test_pairing_by_ear_whatever_the_files_are_called(empty, tmp_path, demo):
    panel = empty.window.panels["intake"]
    one, two, three = (soundfile.read(demo / f"chapter-{n}.flac", dtype="float32")[0] for n in (1, 2, 3))
    half = len(one) // 2
    for name, x in (("tuesday.flac", np.concatenate([two, three])), ("b.flac", one[:half]), ("a.flac", one[half:])):
        soundfile.write(tmp_path / name, x, RATE)
    drop(panel, [demo / "manuscript.docx", *(tmp_path / n for n in ("tuesday.flac", "b.flac", "a.flac"))])
    empty.idle()
    assert all(not c.recording for c in empty.bookstate.chapters)
    empty.press(panel.by_ear)
    assert "Listening" in panel.hint.text()
    empty.idle()
    book = empty.bookstate
    names = {r.hash: r.name for r in book.recordings}
    parts = [[names[p.recording] for p in book.recording(c.recording).parts] for c in book.chapters]
    assert parts == [["b.flac", "a.flac"], ["tuesday.flac"], ["tuesday.flac"]]
    lengths = [book.recording(c.recording).length for c in book.chapters]
    assert lengths[0] == len(one)
    assert lengths[1] + lengths[2] == len(two) + len(three)
    assert "Paired 3 chapters by ear" in empty.window.notice.text()
    empty.do("edit.undo")  # one step
    assert all(not c.recording for c in empty.bookstate.chapters)
    empty.do("edit.redo")
    empty.window.bench.open_chapter(book.chapters[1].id)
    empty.idle()
    reel = empty.window.bench.chapter.reel
    x = empty.window.bench.render_here(reel)(0, RATE)
    assert np.array_equal(x, two[:RATE])  # it sounds as the stretch of the file does


def test_several_files_are_made_one_by_hand(empty, tmp_path):
    panel = empty.window.panels["intake"]
    drop(panel, [sound(tmp_path / "first.wav"), sound(tmp_path / "second.wav", seconds=7)])
    empty.idle()
    empty.press(panel.make_one)
    assert "Choose two or more" in empty.window.notice.text()
    panel.recordings.selectAll()
    empty.press(panel.make_one)
    made = empty.bookstate.recordings[-1]
    assert len(made.parts) == 2
    assert made.length == sum(r.length for r in empty.bookstate.recordings[:2])


def test_a_chapter_that_one_part_reads_is_read_by_the_whole_or_it_is_told(opened):
    """Else Intake says that all is well while the chapter's second half is in no chapter."""
    bench, intake = opened.window.bench, opened.window.parts.intake
    first, second = bench.book.chapters[0], bench.book.recordings[-1].hash
    bench.do(PairRecording(first.id, ""))
    bench.do(PairRecording(first.id, first.recording))
    for chapter in bench.book.chapters[1:]:
        bench.do(PairRecording(chapter.id, ""))
    assert intake.make_one([first.recording, second])
    joined = bench.book.recordings[-1]
    assert bench.book.chapters[0].recording == joined.hash
    assert len(bench.book.chapters[0].reel) == joined.length
    border, name = joined.parts[0].stop - joined.parts[0].start, bench.book.recording(second).name
    assert [(m.at, m.name) for m in bench.book.chapters[0].reel.markers] == [(border, f"{name} begins")]
    bench.do(PairRecording(first.id, joined.hash))
    assert not bench.book.chapters[0].reel.markers  # as journals hold it from before
    bench.do(PairRecording(first.id, first.recording))
    cut = EditReel(first.id, CutAndClose(100, 5000))
    bench.do(cut)
    assert intake.make_one([second, first.recording])
    assert bench.book.chapters[0].recording == first.recording  # its work stays
    assert f"{first.title} is still read by" in opened.window.notice.text()


def test_the_narrator_of_a_recording_is_named(opened, desk):
    click(desk.recordings, 1)
    desk.narrator.setFocus()
    desk.narrator.selectAll()
    QTest.keyClicks(desk.narrator, "Second Voice")
    QTest.keyClick(desk.narrator, Qt.Key.Key_Return)
    assert opened.bookstate.recordings[1].narrator == "Second Voice"


# --- lost recordings ----------------------------------------------------------------------------------------------


def test_missing_recordings_are_told_at_opening_and_found_again(opened, demo, tmp_path, monkeypatch):
    opened.close()
    state = [p for p in (opened.book / "recordings").iterdir() if p.suffix == ".flac"]
    for path in state:
        path.unlink()
    for cached in (opened.book / "cache").iterdir():
        cached.unlink()
    opened.window = opened._open()  # and the book still opens
    opened.idle()
    assert "3 of the book's recordings are missing" in opened.window.notice.text()
    opened.do("view.intake")
    desk = opened.window.panels["intake"]
    assert desk.recordings.item(0, 2).text() == "missing from the book"
    opened.do("play.toggle")  # nothing to hear, and no crash
    opened.window.parts.player.stop()
    monkeypatch.setattr("PyQt6.QtWidgets.QFileDialog.getExistingDirectory", lambda *_: str(demo))
    opened.press(desk.search)
    opened.idle()
    assert "3 recordings are whole again" in opened.window.notice.text()
    assert opened.window.parts.intake.faults == {}
    assert not desk.search.isVisible()


def test_a_recording_changed_without_a_change_of_size_is_told_at_opening(opened):
    path = opened.window.bench.session.store.folder / "recordings" / opened.bookstate.recordings[1].stored
    opened.idle()
    opened.close()
    raw = bytearray(path.read_bytes())
    raw[-500] ^= 1
    path.chmod(0o644)
    path.write_bytes(raw)
    opened.window = opened._open()
    opened.idle()
    assert "chapter-2.flac (changed)" in opened.window.notice.text()
    opened.do("view.intake")
    desk = opened.window.panels["intake"]
    assert desk.recordings.item(1, 2).text() == "not as it was received"


def test_another_file_is_chosen_for_a_lost_recording(opened, demo, tmp_path, monkeypatch):
    opened.do("view.intake")
    desk = opened.window.panels["intake"]
    lost = opened.bookstate.recordings[0]
    (opened.window.bench.session.store.folder / "recordings" / lost.stored).unlink()
    opened.window.parts.intake.look_for_faults()
    opened.window.refresh()
    click(desk.recordings, 0)
    x, rate = soundfile.read(demo / lost.name)
    soundfile.write(tmp_path / "again.wav", x, rate, subtype="PCM_24")
    monkeypatch.setattr("PyQt6.QtWidgets.QFileDialog.getOpenFileName", lambda *_: (str(tmp_path / "again.wav"), ""))
    opened.press(desk.replace)
    opened.idle()
    assert opened.window.parts.intake.faults == {}
    assert opened.bookstate.recordings[0].hash == lost.hash
    assert opened.bookstate.recordings[0].name == "again.wav"
    chapter = opened.bookstate.chapters[0]
    assert len(opened.window.bench.render_here(chapter.reel)(0, 1000)) == 1000


def test_a_chapter_text_is_what_the_store_keeps(opened):
    chapter = opened.bookstate.chapters[0]
    assert opened.window.bench.session.store.get(Chapter, chapter.text).title == chapter.title


def test_a_quiet_file_is_silent_and_says_so(empty, tmp_path):
    panel = empty.window.panels["intake"]
    soundfile.write(tmp_path / "quiet.wav", np.zeros(RATE), RATE)
    soundfile.write(tmp_path / "tone.wav", sine(440, seconds=1, db=-3), RATE)
    drop(panel, [tmp_path / "quiet.wav"])
    empty.idle()
    assert panel.figures["peak"].text() == "silent"
    assert "nobody speaks" in panel.verdict.text()


def test_recordings_that_the_book_does_not_know_are_told_listed_brought_in_or_removed(opened, tmp_path, monkeypatch):
    """As they are left where sorting was broken off; one whose step was undone is known, and stays."""
    folder = opened.book / "recordings"
    for k in range(3):
        soundfile.write(tmp_path / f"{k}.wav", speech_like(seconds=3, seed=k), 44_100)
    kept, first, second = (received(opened.book, tmp_path / f"{k}.wav", 44_100) for k in range(3))
    assert opened.window.bench.do(AddRecording(kept))
    opened.do("edit.undo")
    answers, asked = [], []

    def choose(_self, _title, _words, told, _answers):
        asked.append(told)
        return answers.pop(0)

    monkeypatch.setattr(Asking, "choose", choose)
    opened.reopen()
    assert "2 recordings were received and are used by no step" in " ".join(text for _, _, text in opened.window.strip.kept)
    answers += ["Bring them in", "Remove them", "Leave it"]
    opened.do("intake.strays")
    opened.idle()
    assert {first.hash, second.hash} <= {r.hash for r in opened.bookstate.recordings}
    opened.do("intake.strays")
    assert "known to it" in opened.window.strip.notice.text()
    soundfile.write(tmp_path / "3.wav", speech_like(seconds=2, seed=9), 44_100)
    third = received(opened.book, tmp_path / "3.wav", 44_100)
    opened.do("intake.strays")
    assert len(asked) == 1  # it may be at work just now
    opened.reopen()
    opened.do("intake.strays")
    assert not (folder / third.stored).exists()
    assert (folder / kept.stored).exists()
    opened.window.actions_._acts["intake.strays"][1].presenter.remove_strays(
        [folder / kept.stored]
    )  # known by a step since it was listed
    assert (folder / kept.stored).exists()
    assert len(asked) == 2
    assert asked[1][0].startswith(third.hash[:12])


# --- hearing ----------------------------------------------------------------------------------------------------------


def test_a_recording_its_clipped_place_its_room_tone_and_a_chapters_beginning_are_heard(opened, desk):
    transport, presenter = opened.window.transport, opened.window.parts.intake
    player, played = opened.window.parts.player, []
    play = player.play

    def noted(render, start, stop, rate, **how):
        played.append((render, start, stop, how))
        play(render, start, stop, rate, **how)

    player.play = noted
    click(desk.recordings, 0)
    recording = presenter.recording()
    source = opened.window.bench.render_here(opened.bookstate.chapters[0].reel)
    opened.do("intake.hear")
    assert transport.playing
    opened.do("intake.hear")
    assert not transport.playing  # and its files are in no other thread's hands
    assert (played[-1][0](1000, 2000) == source(1000, 2000)).all()
    opened.do("intake.hear_clipped")
    transport.stop()
    at = recording.health.places[0][0]
    assert (played[-1][0](44_100, 45_000) == source(at, at + 900)).all()
    opened.do("intake.hear_tone")
    assert played[-1][3]["loop"]
    assert played[-1][2] == recording.tone.stop - recording.tone.start
    transport.stop()
    assert "read again as a pickup" in desk.remedies.text()
    click(desk.chapters, 0)
    opened.do("intake.hear_chapter")
    assert transport.playing
    transport.stop()
