"""Acts work on what is seen, or say why not; the window fits, closes soon, and opens whatever its settings say."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import threading
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QRect, QSettings, QSize, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
from support.app import DemoWindow
from support.hearing import STEP, lay_hearing

from faithful_reel.app.acts import every_act
from faithful_reel.app.asking import Asking
from faithful_reel.app.desks import DeskName
from faithful_reel.app.editing.cutting import Cutting
from faithful_reel.app.jobs import Jobs
from faithful_reel.app.places import recent_books, remember_book
from faithful_reel.app.settings import number, text
from faithful_reel.app.splice.panel import SplicePanel
from faithful_reel.app.widgets.parts import tip
from faithful_reel.app.window import Window
from faithful_reel.core.book.commands import EDITION, RenameChapter, SetDetails
from faithful_reel.core.book.pickups import PlaceSplice, ReceiveTakes
from faithful_reel.core.book.recordings import decode, overview, path_of
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.collate.findings import Decision
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.pickups.ledger import State, Take
from faithful_reel.core.reel.commands import ReplaceByTake, ToneSource


@pytest.fixture
def heard(opened):
    lay_hearing(opened.window.bench)
    opened.window.activateWindow()
    return opened


def decisions(window):
    return [f.decision.value for f in window.bookstate.chapters[0].findings]


def told(window):
    return window.window.notice.text()


def press(widget, key, modifier=Qt.KeyboardModifier.NoModifier):
    widget.setFocus()
    QTest.keyClick(widget, key, modifier)


# --- what is not seen ---------------------------------------------------------------------------------------------


@pytest.mark.parametrize("desk", ["intake", "pickups", "splice", "master", "release"])
def test_acts_of_the_proof_desk_say_where_they_work(heard, desk):
    heard.do("proof.next")
    heard.do(f"view.{desk}")
    before = heard.window.bench.session.store.head
    for act in sorted(a.id for a in every_act() if a.desk is DeskName.PROOF and a.id != "proof.search"):
        heard.window.notice.setText("")
        heard.do(act)
        assert "works at the Proof desk (Ctrl+2)" in told(heard), act
    assert heard.window.bench.session.store.head == before


def test_with_the_names_open_no_finding_is_decided_unseen(heard):
    heard.do("proof.next")
    heard.do("proof.names")
    for act in ("proof.mend", "proof.stet", "proof.pickup", "proof.reopen", "proof.swap", "proof.accept"):
        heard.do(act)
        assert "Close them first" in told(heard)
    assert decisions(heard) == ["open"] * 5
    heard.do("proof.names")
    heard.do("proof.stet")
    assert decisions(heard)[0] == "stet"


@pytest.mark.parametrize("where", ["contents", "kinds", "wanted"])
@pytest.mark.parametrize("key", ["Alt+Left", "Ctrl+Down", "Ctrl+B", "Del", "S", "M"])
def test_keys_of_the_page_do_nothing_from_lists_filters_and_fields(heard, where, key):
    from PyQt6.QtGui import QKeySequence

    panel = heard.window.panels["proof"]
    heard.do("proof.next")
    heard.click_word(20)
    if where == "wanted":
        heard.do("proof.search")
        panel.search.wanted.setText("some words")
    widget = {"contents": heard.window.contents, "kinds": panel.docket.kinds, "wanted": panel.search.wanted}[where]
    before = heard.window.bench.session.store.head
    combination = QKeySequence(key)[0]
    press(widget, combination.key(), combination.keyboardModifiers())
    assert heard.window.bench.session.store.head == before
    assert decisions(heard) == ["open"] * 5


def test_the_menu_works_whatever_has_the_focus(heard):
    heard.do("proof.next")
    heard.window.contents.setFocus()
    heard.do("proof.stet")
    assert decisions(heard)[0] == "stet"


@pytest.mark.parametrize("act", [a.id for a in every_act() if a.id.split(".")[0] in ("proof", "edit", "splice", "master", "play") and a.id not in ("proof.ear", "proof.language", "proof.report", "proof.flaws", "proof.search", "proof.names", "edit.history", "play.faster", "play.slower", "play.softer", "play.loop", "proof.doubtful", "edit.undo", "edit.redo")])  # fmt: skip
def test_no_act_of_an_empty_book_rests_in_silence(qtbot, tmp_path, demo_book, act):
    window = DemoWindow(qtbot, tmp_path, demo_book.with_name("new.reelbook"), create=True)
    try:
        home = next(a.desk for a in every_act() if a.id == act) or ("master" if act.startswith("master") else "proof")
        window.do(f"view.{home}")
        window.window.notice.setText("")
        window.do(act)
        window.idle()
        assert told(window), act
    finally:
        window.close()


def test_deciding_what_is_decided_says_so(heard):
    heard.do("proof.next")
    heard.do("proof.reopen")
    assert "open already" in told(heard)
    heard.do("proof.stet")
    heard.window.parts.proof.choose("f1")
    heard.do("proof.stet")
    assert "decided already: stet" in told(heard)


# --- mended, noted, put in ----------------------------------------------------------------------------------------


def test_reopening_after_a_mend_brings_the_sound_back_as_one_step(heard):
    window = heard.window
    before = len(heard.bookstate.chapters[0].reel)
    window.parts.proof.choose("f2")
    heard.do("proof.mend")
    assert len(heard.bookstate.chapters[0].reel) < before
    window.parts.proof.choose("f2")
    heard.do("proof.reopen")
    assert len(heard.bookstate.chapters[0].reel) == before
    assert decisions(heard)[1] == "open"
    assert "is back" in told(heard)
    heard.do("edit.undo")
    assert (len(heard.bookstate.chapters[0].reel) < before, decisions(heard)[1]) == (True, "mend")


def test_a_note_is_written_with_the_keyboard_and_goes_to_the_narrator(heard, tmp_path):
    panel = heard.window.panels["proof"]
    heard.window.parts.proof.choose("f1")
    heard.keys("E")
    assert panel.docket.card.remark.hasFocus()
    QTest.keyClicks(panel.docket.card.remark, "slower, please")
    QTest.keyClick(panel.docket.card.remark, Qt.Key.Key_Return)
    assert heard.window.galley.hasFocus()
    assert heard.bookstate.chapters[0].finding("f1").note == "slower, please"
    heard.keys("P")
    assert heard.bookstate.pickups[0].note == "slower, please"
    assert len(heard.bookstate.chapters[0].findings) == 5  # no second finding was made of it
    pickups = heard.window.panels["pickups"]
    heard.do("view.pickups")
    assert pickups.note.text() == "slower, please"
    pickups.note.setFocus()
    pickups.note.setText("faster")
    heard.window.galley.setFocus()
    QTest.keyClick(pickups.note, Qt.Key.Key_Return)
    assert heard.bookstate.pickups[0].note == "faster"
    heard.window.parts.pickups.send(tmp_path / "round")
    heard.idle()
    assert "faster" in (tmp_path / "round" / "call-sheet.csv").read_text(encoding="utf-8-sig")
    heard.do("edit.undo")
    heard.do("edit.undo")
    assert heard.bookstate.pickups[0].note == "slower, please"


def put_in(heard):
    """Splice a made take over the sentence of the first finding."""
    window = heard.window
    window.parts.proof.choose("f1")
    heard.do("proof.pickup")
    pickup = heard.bookstate.pickups[0]
    chapter = heard.bookstate.chapters[0]
    first = window.bench.hearing(chapter).placed[pickup.first_word].start
    last = window.bench.hearing(chapter).placed[pickup.first_word + pickup.word_count - 1].stop
    other = heard.bookstate.chapters[1].recording
    words = tuple((500_000 + STEP * k, 500_000 + STEP * k + STEP - 2000) for k in range(pickup.word_count))
    take = Take(other, words[0][0], words[-1][1], 0, pickup.line, words)
    window.bench.do(ReceiveTakes(other, ((pickup.id, (take,), 0),), EDITION))
    edit = ReplaceByTake(
        first - 3000, last + 3000, other, words[0][0] - 3000, words[-1][1] + 3000, 0.0, ToneSource("", 0, 0), take=pickup.id
    )
    window.bench.do(PlaceSplice("c1", pickup.id, edit))
    heard.idle()
    return pickup


def test_what_is_in_is_seen_as_in_with_its_seam(heard):
    window = heard.window
    pickup = put_in(heard)
    marks = {m.id: m for m in window.galley.content.marks}
    assert "f1" not in marks  # the misread is no longer on the page
    assert (marks[pickup.id].kind, marks[pickup.id].note) == (None, "put in")
    window.parts.proof.choose("f1")
    assert "the take is in" in window.panels["proof"].docket.card.why.text()
    heard.do("view.splice")
    panel = window.panels["splice"]
    window.parts.splice.choose(pickup.id)
    heard.idle()
    assert len(panel.trio._words) == pickup.word_count
    assert panel.seam.rowCount() >= 2
    assert "dB" in panel.seam.item(0, 1).text()
    assert "The take is in" in panel.hint.text()
    assert panel.hear_context.isEnabled()
    assert panel.passed.isEnabled()
    heard.do("splice.pass")
    assert heard.bookstate.pickups[0].state is State.PASSED
    assert len(panel.trio._words) == pickup.word_count
    heard.do("splice.place")
    assert "in already" in told(heard)


def test_a_finding_whose_sound_was_cut_is_told_as_gone(heard):
    window = heard.window
    window.parts.editing.select_words(9, 11)
    Cutting(window.parts.editing).take_out()
    window.parts.proof.choose("f1")
    assert "f1" not in {m.id for m in window.galley.content.marks}
    assert "Gone" in window.panels["proof"].docket.card.why.text()
    heard.do("edit.undo")
    assert "f1" in {m.id for m in window.galley.content.marks}
    assert "Gone" not in window.panels["proof"].docket.card.why.text()


# --- the window ---------------------------------------------------------------------------------------------------


def test_a_window_with_its_title_bar_fits_on_a_small_screen(heard, monkeypatch):
    class Small:
        def availableGeometry(self):
            return QRect(0, 0, 1280, 800)

    monkeypatch.setattr(Window, "screen", lambda _self: Small())
    assert heard.window._fitting(QSize(1280, 800)).height() <= 800 - 30
    assert heard.window._fitting(QSize(5000, 5000)).width() <= 1280
    heard.window.resize(heard.window._fitting(QSize(1280, 800)))
    QApplication.processEvents()
    assert heard.window.height() <= 770
    foot = heard.window.parts.foot.play
    assert foot.mapTo(heard.window, foot.rect().bottomLeft()).y() < heard.window.height()


BAD_SETTINGS = {
    "listen/lead": "xyz",
    "listen/speed": "nan",
    "view/tall": "-1e300",
    "view/wide": "inf",
    "view/size": "big",
    "view/theme": "@Invalid()",
    "view/desk": "nowhere",
    "proof/off": ",,,",
    "keys/proof.stet": "no such key",
    "files/folder": "/no/such/folder",
    "hear/ear": "/no/such/ear",
}


def test_a_window_opens_whatever_its_settings_say(qtbot, tmp_path, demo_book):
    settings = QSettings(str(tmp_path / "settings.ini"), QSettings.Format.IniFormat)
    for key, value in BAD_SETTINGS.items():
        settings.setValue(key, value)
    settings.sync()
    window = DemoWindow(qtbot, tmp_path, demo_book)
    try:
        window.do("play.faster")
        window.do("view.proof")
        assert window.window.isVisible()
        assert (window.window.transport.lead_s, window.window._tall) == (2.0, 1.0)
    finally:
        window.close()


@pytest.mark.parametrize(
    ("value", "found"),
    [("xyz", 2.0), ("nan", 2.0), ("inf", 2.0), ("-1", 2.0), ("1e9", 2.0), (None, 2.0), ("3.5", 3.5), (1, 1.0), ([1], 2.0)],
)
def test_a_number_that_is_none_is_the_usual_one(value, found):
    class Kept:
        def value(self, _key, _default=None):
            return value

    assert number(Kept(), "k", 2.0, 0.0, 60.0) == found
    assert isinstance(text(Kept(), "k", "usual"), str)


def test_stray_names_among_the_backups_do_no_harm(opened):
    opened.close()
    shelf = opened.book / "backups"
    for name in ("book-old.sqlite", "book-.sqlite", "notes.txt", "book-20260101-000000.sqlite.part"):
        (shelf / name).write_bytes(b"x")
    (shelf / "book-20260101-000000.sqlite").mkdir()
    opened.reopen()
    opened.window.parts.keeping.back_up()
    opened.window.bench.do(SetDetails("x", "", ""))
    opened.window.parts.keeping.back_up()
    opened.idle()
    assert (shelf / "notes.txt").read_bytes() == b"x"


def test_a_recording_that_is_missing_under_the_spectrogram_is_told_not_a_crash(heard):
    window = heard.window
    recording = heard.bookstate.recordings[0]
    path = path_of(heard.book, recording, 44_100)
    window.bench._sources.close()
    path.rename(path.with_suffix(".gone"))
    heard.do("view.spectrum")
    window.loupe.look_at(900_000, span_s=2.0)
    window.loupe.repaint()
    window.loupe.grab()
    assert "missing" in told(heard)
    path.with_suffix(".gone").rename(path)


@pytest.mark.parametrize("title", ["<b>Bold</b> & <img src=x>", "<h1>Loud</h1>"])
def test_titles_are_never_rich_text(opened, title):
    opened.window.bench.do(SetDetails(title, "", ""))
    opened.window.bench.do(RenameChapter("c1", title))
    assert opened.window.book_title.textFormat() == Qt.TextFormat.PlainText
    assert opened.window.book_title.text() == title
    assert "<b>" not in opened.window.book_title.toolTip()
    assert "<img" not in opened.window.contents.item(0).toolTip()
    assert tip("plain & simple") == "plain & simple"


# --- closing ------------------------------------------------------------------------------------------------------


def test_closing_does_not_wait_for_work_that_does_not_stop(qtbot):
    jobs, go_on = Jobs(), threading.Event()
    ended = []
    jobs.start("Deaf", lambda _watch: go_on.wait(20), done=ended.append, stopped=ended.append)
    qtbot.waitUntil(lambda: bool(jobs.running) and jobs.at_work)
    began = time.monotonic()
    jobs.close(wait_s=0.2)
    assert jobs.at_work  # it goes on, and nobody waited for its end
    assert time.monotonic() - began < 15
    go_on.set()
    qtbot.waitUntil(lambda: not jobs.at_work)
    QApplication.processEvents()
    assert ended == []  # and nothing of it is delivered


RUN = """
import os, sys, signal, threading
from pathlib import Path
from PyQt6.QtCore import QTimer
from faithful_reel.app import main
from faithful_reel.app.wiring import user_settings
folder = Path(sys.argv[1])
real = main.open_window
def opened(book, _settings, **more):
    window = real(book, user_settings(folder.parent / "s.ini"), simulated_sound=True)
    def busy():
        window.jobs.start("Deaf", lambda watch: threading.Event().wait(60), done=print, stopped=print)
        window.bench.do(__import__("faithful_reel.core.book.commands", fromlist=["x"]).SetDetails("kept", "", ""))
        print("ready", flush=True)
    QTimer.singleShot(300, busy)
    return window
main.open_window = opened
sys.exit(main.run_book(folder))
"""


@pytest.mark.slow
@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGINT])
def test_a_signal_closes_the_window_cleanly_whatever_runs(tmp_path, demo_book, number):
    import shutil

    book = shutil.copytree(demo_book, tmp_path / "d.reelbook")
    process = subprocess.Popen([sys.executable, "-c", RUN, str(book)], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    assert process.stdout.readline().strip() == "ready"
    os.kill(process.pid, number)
    _, err = process.communicate(timeout=60)
    assert process.returncode == 0, err
    assert "Traceback" not in err
    assert (book / "book.lock").stat().st_size == 0  # the book was let go of
    with BookStore(book) as store:
        assert not store.crashed
        assert Session(store).book.title == "kept"


# --- what can be made again ---------------------------------------------------------------------------------------


@pytest.fixture
def decoded(tmp_path):
    """A book with one recording at another rate, its decoded copy and its overview."""
    import soundfile
    from support.sounds import speech_like

    from faithful_reel.core.book.commands import AddRecording
    from faithful_reel.core.book.recordings import received

    folder = tmp_path / "b.reelbook"
    soundfile.write(tmp_path / "a.wav", speech_like(seconds=4, rate=48_000), 48_000)
    with BookStore(folder, create=True) as store:
        session = Session(store)
        session.do(AddRecording(received(folder, tmp_path / "a.wav", 44_100)))
        book = session.book
        session.close()
    recording = book.recordings[0]
    decode(folder, book, recording)
    return folder, book, recording, overview(folder, book, recording)


@pytest.mark.parametrize("how", ["cut", "bit", "zeros", "empty", "other"])
def test_a_damaged_decoded_copy_is_made_again_without_a_word(decoded, how, caplog):
    folder, book, recording, _ = decoded
    path = path_of(folder, recording, 44_100)
    whole = path.read_bytes()
    raw = bytearray(whole)
    if how == "bit":
        raw[len(raw) // 2] ^= 4
    path.write_bytes(
        {"cut": whole[:2000], "bit": bytes(raw), "zeros": bytes(len(whole)), "empty": b"", "other": b"fLaC" + whole[90:]}[how]
    )
    with caplog.at_level("INFO", "faithful_reel"):
        decode(folder, book, recording)
    assert path.read_bytes() == whole
    assert "made again" in caplog.text
    caplog.clear()
    os.utime(path)  # a book that was copied has other times, and the same bytes
    stamp = path.stat().st_mtime_ns
    decode(folder, book, recording)
    assert path.stat().st_mtime_ns == stamp
    assert caplog.text == ""


@pytest.mark.parametrize("content", [b"", b"PK\x03\x04", b"\x80\x04garbage", None])
def test_a_damaged_overview_is_made_again_without_a_word(decoded, content):
    folder, book, recording, made = decoded
    (path,) = (folder / "cache").glob("*.npz")
    whole = path.read_bytes()
    path.write_bytes(whole[: len(whole) // 2] + b"\0" * (len(whole) // 2) if content is None else content)
    again = overview(folder, book, recording)
    assert again.length == made.length
    assert all(np.array_equal(a, b) for a, b in zip(again.levels, made.levels, strict=True))
    assert path.stat().st_size > 1000


def test_an_overview_of_another_length_is_not_believed(decoded):
    folder, book, recording, _ = decoded
    longer = replace(recording, length=recording.length + 5000)
    assert overview(folder, replace(book, recordings=(longer,)), longer).length == recording.length
    for name in ("whole.json", "x.whole.json"):
        (folder / "cache" / name).write_text("[1, 2")
    decode(folder, book, recording)


def test_a_decision_kept_by_hand_outlives_the_ears(heard):
    heard.window.parts.proof.choose("f1")
    heard.do("proof.stet")
    assert heard.bookstate.chapters[0].finding("f1").decision is Decision.STET


@pytest.mark.parametrize(
    "kept", ["[" * 100_000, "{}", "9" * 5000, '["/"]' * 9, json.dumps(["x" * 9000, "a\0b", "\ud800", "/none"])]
)
def test_recent_books_and_folders_that_can_not_be_looked_at_are_passed_over(kept, tmp_path):
    settings = QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat)
    settings.setValue("books/recent", kept)
    settings.setValue("files/folder", "y" * 9000)
    assert recent_books(settings) == []
    assert Asking(None, settings)._start() == str(Path.home())
    remember_book(settings, tmp_path)
    assert recent_books(settings) == [tmp_path]


@pytest.mark.parametrize(
    ("problem", "told"), [(EditRefused("This is no longer there."), "no longer there"), (KeyError("x"), "something went wrong")]
)
def test_a_desk_that_can_not_be_shown_locks_nobody_out(opened, monkeypatch, problem, told):
    def broken(_self):
        raise problem

    caught = []
    opened.window.desks.show(DeskName.SPLICE)
    monkeypatch.setattr(SplicePanel, "refresh", broken)
    monkeypatch.setattr(sys, "excepthook", lambda _kind, why, _trace: caught.append(why))
    opened.reopen()
    assert opened.window.desks.current is DeskName.INTAKE
    assert any("The Splice desk can not be shown" in text and told in text for _, _, text in opened.window.strip.kept)
    assert caught == ([] if isinstance(problem, EditRefused) else [problem])
    monkeypatch.undo()
    opened.window.desks.show(DeskName.SPLICE)
    assert opened.window.desks.current is DeskName.SPLICE
