"""The lists beside the galley in the real window: offcuts, shelf, markers, sweep, other places, versions; what goes out and in."""

from __future__ import annotations

import csv
from dataclasses import replace
from pathlib import Path

import numpy as np
import opentimelineio as otio
import pytest
import soundfile
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QInputDialog
from support.hands import CTRL, FIRST, LEFT, NONE, RATE, at_proof, drag_over, editing, reel, start
from support.hearing import STEP, WORD
from support.jobs import HeldJobs
from support.sounds import noise

from faithful_reel.app.asking import Asking
from faithful_reel.app.editing.lanes import LaneWork
from faithful_reel.app.editing.list_pane import DRAGGED, ListPane
from faithful_reel.app.widgets.loupe.handles import Hold, grips_of
from faithful_reel.core.book.commands import EditReel
from faithful_reel.core.book.house import HouseShelf
from faithful_reel.core.collate.findings import Decision
from faithful_reel.core.reel.commands import CutAndClose
from faithful_reel.core.reel.look import lane_look
from faithful_reel.core.reel.reel import Piece
from faithful_reel.core.reel.render import Row
from faithful_reel.core.treat.redraw import redrawn
from faithful_reel.core.units import Span
from faithful_reel.core.work.timeline import still_heard


@pytest.fixture
def desk(opened, monkeypatch, tmp_path):
    """The window at the Proof desk, its first chapter heard; the house's shelf is empty."""
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    return at_proof(opened)


def notice(desk):
    return desk.window.notice.text()


def pane(desk):
    shown = desk.window.proof_panel.side.currentWidget()
    assert isinstance(shown, ListPane)
    return shown


def cells(desk):
    view = pane(desk).view
    return [[view.item(r, c).text() for c in range(view.columnCount())] for r in range(view.rowCount())]


def choose(desk, row):
    view = pane(desk).view
    QTest.mouseClick(view.viewport(), LEFT, NONE, view.visualItemRect(view.item(row, 0)).center())


def push(desk, words):
    desk.press(next(b for b in pane(desk).buttons if b.text() == words))
    desk.idle()


def cut(desk, first, last):
    editing(desk).select_words(first, last)
    desk.do("edit.cut_close")


# --- offcuts ----------------------------------------------------------------------------------------------------------


def test_offcuts_are_listed_searched_heard_and_put_back(desk):
    whole = reel(desk)
    cut(desk, 20, 22)
    cut(desk, 40, 41)
    desk.do("list.offcuts")
    desk.idle()
    words = desk.window.bench.text(desk.bookstate.chapters[0]).words
    said = [" ".join(w.text for w in words[a:b]) for a, b in ((40, 42), (20, 23))]
    assert [row[0] for row in cells(desk)] == said
    assert [row[2] for row in cells(desk)] == [f"{((n - 1) * STEP + WORD) / 44_100:.2f} s" for n in (2, 3)]
    assert [row[1] for row in cells(desk)] == [desk.window.bench.time(start(n), 0) for n in (38, 20)]
    assert all("Take out" in row[3] for row in cells(desk))
    pane(desk).search.setText(words[21].text)
    assert [row[0] for row in cells(desk)] == said[1:]
    pane(desk).search.setText("nothing like it")
    assert pane(desk).view.empty == "Nothing like that."
    pane(desk).search.setText("")
    choose(desk, 1)
    push(desk, "Hear")
    assert desk.window.parts.player.playing or desk.window.parts.transport._playing is not None
    push(desk, "Put back")
    assert cells(desk)[1][5] == "is back"
    push(desk, "Put back")
    assert "already" in notice(desk)
    choose(desk, 0)
    push(desk, "Put back")
    assert reel(desk) == whole or len(reel(desk)) == len(whole)
    rendered = desk.window.bench.render_here(reel(desk))(start(19), start(44))
    np.testing.assert_array_equal(rendered, desk.window.bench.render_here(whole)(start(19), start(44)))
    desk.do("edit.undo")
    assert cells(desk)[0][5] == ""


def test_an_undone_cut_is_no_offcut_any_more_and_one_of_before_a_restart_is(desk):
    cut(desk, 20, 22)
    desk.do("list.offcuts")
    desk.idle()
    assert len(cells(desk)) == 1
    desk.do("edit.undo")
    desk.idle()
    assert cells(desk) == []
    assert "Nothing was cut" in pane(desk).view.empty
    desk.do("edit.redo")
    desk.reopen()
    desk.do("list.offcuts")
    desk.idle()
    assert len(cells(desk)) == 1


def test_what_is_copied_from_a_list_is_pasted_anywhere(desk):
    cut(desk, 20, 22)
    desk.do("list.offcuts")
    desk.idle()
    choose(desk, 0)
    push(desk, "Copy")
    before = len(reel(desk))
    desk.window.parts.editing.let_go()
    desk.window.transport.go_to(start(10))
    desk.do("edit.paste")
    assert len(reel(desk)) == before + 2 * STEP + WORD


def test_nothing_acts_on_a_list_that_is_not_open(desk):
    before = reel(desk)
    for act in (
        "offcut.back",
        "shelf.paste",
        "marker.here",
        "version.swap",
        "sweep.make",
        "elsewhere.mend",
        "list.hear",
        "list.remove",
    ):
        desk.do(act)
        assert "Open" in notice(desk), act
    assert reel(desk) is before


# --- markers ----------------------------------------------------------------------------------------------------------


def test_markers_are_listed_described_moved_looped_and_written(desk, monkeypatch, tmp_path):
    for word in (50, 10):
        desk.window.transport.go_to(start(word))
        desk.do("edit.mark")
    desk.do("list.markers")
    assert [row[1] for row in cells(desk)] == [editing(desk).time(start(w)) for w in (10, 50)]
    choose(desk, 0)
    monkeypatch.setattr(Asking, "description", lambda *_: ("the <b>tide</b>", "red", "again"))
    push(desk, "Describe…")
    assert cells(desk)[0] == ["the <b>tide</b>", editing(desk).time(start(10)), "again"]
    assert reel(desk).markers[0].color == "red"
    desk.window.transport.go_to(start(12))
    choose(desk, 0)
    push(desk, "To the cursor")
    assert reel(desk).markers[0].at == start(12)
    choose(desk, 0)
    push(desk, "Loop to the next")
    assert (editing(desk).span.start, editing(desk).span.stop) == (start(12), start(50))
    assert desk.window.transport.looping
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(tmp_path / "m"), "CSV (*.csv)"))
    push(desk, "Write the list…")
    with (tmp_path / "m.csv").open(newline="") as file:
        assert [r["name"] for r in csv.DictReader(file)] == ["the <b>tide</b>", "Marker 1"]
    desk.window.transport.stop()  # else it plays on from there
    choose(desk, 1)
    push(desk, "Go there")
    assert desk.window.transport.spot == start(50)
    push(desk, "Remove")
    assert len(reel(desk).markers) == 1


# --- sweep ------------------------------------------------------------------------------------------------------------


def gaps(desk, where):
    """Make pauses of a second after some words."""
    for word in sorted(where, reverse=True):
        desk.window.parts.editing.let_go()
        desk.window.transport.go_to(start(word) + WORD + 600)
        desk.do("edit.pause")


def test_a_sweep_shows_every_change_leaves_out_what_is_unchecked_and_is_one_step(desk, monkeypatch):
    monkeypatch.setattr(QInputDialog, "getDouble", lambda *_a, **_k: (1.0, True))
    gaps(desk, (5, 14, 23))
    before = reel(desk)
    desk.do("list.sweep")
    desk.idle()
    rows = cells(desk)
    assert [r[0] for r in rows] == ["pause"] * 3
    going = editing(desk).going
    assert len(going) == 3
    assert list(desk.window.loupe.going) == [(s.start, s.stop) for s in going]
    choose(desk, 1)
    view = pane(desk).view
    view.setFocus()
    desk.window.transport.stop()
    QTest.keyClick(view, Qt.Key.Key_Space)  # the box, not the sound
    assert not desk.window.parts.player.playing
    assert len(editing(desk).going) == 2
    push(desk, "Make the changes")
    assert len(before) - len(reel(desk)) == sum(len(s) for s in (going[0], going[2]))
    assert desk.window.bench.session.can_undo() == "Sweep: 2 pauses"
    assert len(cells(desk)) == 1  # that which was left out
    desk.do("edit.undo")
    assert reel(desk) == before
    desk.idle()
    for leave in ("list.sweep", "proof.names", "list.markers"):  # nothing is crossed out once the list is closed
        assert desk.window.loupe.going, leave
        desk.do(leave)
        assert desk.window.loupe.going == [], leave
        if leave != "list.sweep":
            desk.do("list.sweep")
            desk.idle()
        else:
            desk.do(leave)
            desk.idle()


def test_settings_of_a_sweep_are_kept_and_what_is_marked_bounds_it(desk, monkeypatch):
    monkeypatch.setattr(QInputDialog, "getDouble", lambda *_a, **_k: (1.0, True))
    gaps(desk, (5, 14))
    desk.do("list.sweep")
    desk.idle()
    assert len(cells(desk)) == 2
    editing(desk).select(0, start(10))
    desk.idle()
    assert len(cells(desk)) == 1
    editing(desk).let_go()
    pane(desk).settings.numbers["least_s"].setValue(3.0)
    desk.idle()
    assert cells(desk) == []
    desk.reopen()
    desk.do("list.sweep")
    desk.idle()
    assert pane(desk).settings.numbers["least_s"].value() == 3.0


def test_a_sweep_of_a_chapter_that_was_not_heard_goes_by_level_and_says_what_it_lacks(desk):
    desk.window.bench.open_chapter("c2")
    desk.do("list.sweep")
    desk.idle()
    assert "go by the words: hear this chapter first" in pane(desk).view.empty
    assert {row[0] for row in cells(desk)} == {"pause"}  # by level
    push(desk, "None")
    push(desk, "Make the changes")
    assert "nothing to change" in notice(desk)
    push(desk, "All")
    before = len(desk.bookstate.chapters[1].reel)
    push(desk, "Make the changes")
    assert len(desk.bookstate.chapters[1].reel) < before


# --- the shelf --------------------------------------------------------------------------------------------------------


def test_the_shelf_of_the_book_keeps_a_stretch_which_is_pasted_and_dragged(desk, monkeypatch):
    monkeypatch.setattr(Asking, "description", lambda *_: ("good word", "blue", "from one"))
    editing(desk).select_words(20, 20)
    desk.do("shelf.keep")
    assert cells(desk) == [["good word", f"{WORD / 44_100:.2f} s", "this book", "from one"]]
    desk.window.bench.open_chapter("c2")
    desk.idle()
    other = desk.bookstate.chapters[1].reel
    desk.window.transport.go_to(44_100)
    choose(desk, 0)
    push(desk, "Paste at the cursor")
    assert len(desk.bookstate.chapters[1].reel) == len(other) + WORD
    loupe = desk.window.loupe
    data = QMimeData()
    data.setData(DRAGGED, f"Shelf\n{desk.bookstate.shelf[0].id}".encode())
    loupe.look_at(3 * 44_100, span_s=4.0)
    QApplication.processEvents()
    where = QPointF(loupe.width() / 2, loupe.height() / 2)
    loupe.dropEvent(QDropEvent(where, Qt.DropAction.CopyAction, data, LEFT, NONE))
    dropped = desk.bookstate.chapters[1].reel
    assert len(dropped) == len(other) + 2 * WORD
    assert 3 * 44_100 in [pytest.approx(s, abs=200) for s in dropped.lanes[0].starts()]
    desk.do("edit.undo")
    desk.do("edit.undo")
    assert desk.bookstate.chapters[1].reel == other
    choose(desk, 0)
    push(desk, "Take off")
    assert desk.bookstate.shelf == ()
    desk.do("edit.undo")
    assert len(desk.bookstate.shelf) == 1


def test_the_shelf_of_the_house_is_there_in_every_book_and_is_copied_in_when_used(desk, monkeypatch, tmp_path):
    shelf = HouseShelf(tmp_path / "house")
    desk.window.actions_._acts["list.shelf"][1].shelf.house = shelf
    shelf.put("music", [noise(seconds=1.5, rms_db=-30, rate=48_000)], 48_000, note="of the house")
    desk.do("list.shelf")
    assert cells(desk) == [["music", "1.50 s", "the house", "of the house"]]
    before, known = reel(desk), len(desk.bookstate.recordings)
    desk.window.parts.editing.let_go()
    desk.window.transport.go_to(start(10))
    choose(desk, 0)
    push(desk, "Hear")
    push(desk, "Paste at the cursor")
    assert len(desk.bookstate.recordings) == known + 1
    assert len(reel(desk)) - len(before) == pytest.approx(1.5 * 44_100, abs=2)
    push(desk, "Paste at the cursor")
    assert len(desk.bookstate.recordings) == known + 1  # it is known already
    monkeypatch.setattr(Asking, "description", lambda *_: ("tone", "", ""))
    editing(desk).select_words(40, 42)
    desk.do("shelf.house")
    desk.idle()
    assert {i.name for i in shelf.items()} == {"music", "tone"}
    choose(desk, 0)
    push(desk, "Take off")
    assert [i.name for i in shelf.items()] == ["tone"]
    assert (tmp_path / "house" / "removed").is_dir()


def test_a_sound_that_is_copied_in_goes_over_nothing_that_came_meanwhile(desk, tmp_path):
    page = desk.window.actions_._acts["list.shelf"][1].shelf
    page.house = HouseShelf(tmp_path / "house")
    page.house.put("music", [noise(seconds=1.5, rms_db=-30)], 44_100)
    bench, held = desk.window.bench, HeldJobs()
    desk.do("list.shelf")
    editing(desk).select_words(10, 12)
    choose(desk, 0)
    bench.jobs, jobs = held, bench.jobs
    page.paste()
    assert bench.do(EditReel("c1", CutAndClose(100, 50_000)))  # what is marked is other sound by now
    before, known = reel(desk), len(desk.bookstate.recordings)
    held.finish("Bring in")
    bench.jobs = jobs
    assert reel(desk) is before
    assert len(desk.bookstate.recordings) == known + 1
    assert "changed meanwhile. Paste it again" in desk.window.notice.text()


def test_sound_files_are_dropped_on_the_shelf_and_bad_ones_are_told(desk, tmp_path):
    good, bad = tmp_path / "sea & wind.wav", tmp_path / "bad.wav"
    soundfile.write(good, noise(seconds=1, rms_db=-30), 44_100)
    bad.write_bytes(b"no sound")
    desk.do("list.shelf")
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(p)) for p in (good, bad)])
    view = pane(desk).view
    view.dropEvent(QDropEvent(QPointF(20, 20), Qt.DropAction.CopyAction, data, LEFT, NONE))
    desk.idle()
    assert [r[0] for r in cells(desk)] == ["sea & wind"]
    assert "bad.wav" in notice(desk)
    assert good.read_bytes()


# --- other places, versions, prints -----------------------------------------------------------------------------------


def test_a_word_is_mended_from_another_place_of_the_same_reader(desk):
    words = [w.text.strip(".,“”?!").lower() for w in desk.window.bench.text(desk.bookstate.chapters[0]).words]
    first = next(k for k, w in enumerate(words) if words.count(w) > 2 and k > 5)
    desk.click_word(first)
    before = reel(desk)
    desk.do("elsewhere.find")
    desk.idle()
    assert len(cells(desk)) == words.count(words[first]) - 1
    choose(desk, 0)
    push(desk, "Hear")
    push(desk, "Hear in place")
    assert reel(desk) is before
    push(desk, "Mend with it")
    assert any(isinstance(s, Piece) and s.name.strip(".,“”?!").lower() == words[first] for s in reel(desk).lanes[0].segments)
    assert desk.window.bench.session.can_undo().startswith("Mend from another place")
    desk.do("edit.undo")
    assert reel(desk) == before
    desk.do("elsewhere.find")
    desk.idle()
    choose(desk, 0)
    cut(desk, 60, 61)
    push(desk, "Mend with it")
    assert "changed since" in notice(desk)


def test_what_is_said_once_is_told(desk):
    words = [w.text.strip(".,“”?!").lower() for w in desk.window.bench.text(desk.bookstate.chapters[0]).words]
    desk.click_word(next(k for k, w in enumerate(words) if words.count(w) == 1))
    desk.do("elsewhere.find")
    desk.idle()
    assert cells(desk) == []
    assert "nowhere else" in pane(desk).view.empty


def test_a_version_is_kept_compared_and_swapped(desk, monkeypatch):
    monkeypatch.setattr(QInputDialog, "getText", lambda *_a, **_k: ("as it came", True))
    first = reel(desk)
    desk.do("version.keep")
    assert cells(desk)[0][0] == "as it came (as it is now)"
    cut(desk, 20, 22)
    second = reel(desk)
    editing(desk).select_words(40, 42)
    choose(desk, 0)
    played = []
    monkeypatch.setattr(desk.window.parts.player, "play", lambda render, a, b, *_r, **_k: played.append((a, b)))
    push(desk, "Hear at the cursor")
    push(desk, "Hear now")
    assert played[0][0] - played[1][0] == 2 * STEP + WORD  # the same words, where each has them
    push(desk, "Swap in")
    assert reel(desk) == first
    assert [v.name for v in desk.bookstate.chapters[0].versions] == ["as it came", "before “as it came”"]
    choose(desk, 1)
    push(desk, "Swap in")
    assert reel(desk) == second
    monkeypatch.setattr(Asking, "description", lambda *_: ("old", "", "n"))
    choose(desk, 0)
    push(desk, "Describe…")
    push(desk, "Drop")
    assert [v.name for v in desk.bookstate.chapters[0].versions] == ["before “as it came”"]


def test_what_was_mended_is_told_as_heard_where_a_version_without_the_mend_is_swapped_in(desk, monkeypatch):
    monkeypatch.setattr(QInputDialog, "getText", lambda *_a, **_k: ("as it came", True))
    desk.do("version.keep")
    proof, key = desk.window.parts.proof, ("c1", "f2")
    proof.choose("f2", "c1")
    assert proof.decide(Decision.MEND)
    assert (key, "gone") in proof.sound_told()
    finding = desk.bookstate.chapters[0].finding("f2")
    length = finding.stop - finding.start
    assert [still_heard(finding, Span(0, n)) for n in (0, length // 2, length)] == [False, False, True]  # edges of it may stay
    choose(desk, 0)
    push(desk, "Swap in")
    assert (key, "still heard") in proof.sound_told()
    docket = desk.window.panels["proof"].list.rows
    row = docket.keys().index(key)
    assert docket.data(docket.index(row), Qt.ItemDataRole.AccessibleTextRole).endswith("mend, its sound is still heard")
    desk.press(desk.window.desk_buttons["release"])
    assert "1 finding that is to be mended can still be heard" in desk.window.panels["release"].missing.text()
    desk.do("edit.undo")
    assert (key, "gone") in proof.sound_told()
    assert "still be heard" not in desk.window.panels["release"].missing.text()


def test_a_print_sounds_as_what_it_is_of_and_that_can_be_gone_back_to(desk):
    editing(desk).select_words(20, 24)
    desk.do("edit.softer")
    editing(desk).select_words(20, 24)
    before, span = reel(desk), editing(desk).span
    bench, steps = desk.window.bench, desk.window.bench.session.store.count()
    page = list(bench.tokens(bench.chapter))
    desk.do("edit.print")
    desk.idle()
    after = reel(desk)
    assert list(bench.tokens(bench.chapter)) == page  # every word is where it was
    assert bench.session.store.count() == steps + 1
    inside = [s for s in after.lanes[0].segments if s.name.startswith("print of")]
    assert len(inside) == 1
    assert len(span) <= len(inside[0]) <= len(span) + 4 * 1000  # no crossfade is cut in two
    render = desk.window.bench.render_here
    np.testing.assert_allclose(render(after)(start(18), start(27)), render(before)(start(18), start(27)), atol=2e-7)
    assert desk.bookstate.chapters[0].versions[-1].reel == before


def test_a_marked_click_is_drawn_anew_and_nothing_else_is_touched(desk):
    bench = desk.window.bench
    editing(desk).select(start(20) + 5000, start(20) + 5132, drawn=reel(desk).lanes[0].id)  # 3 ms
    gap, before = editing(desk).span, reel(desk)
    page = list(bench.tokens(bench.chapter))
    sounds = bench.render_here(before)(start(18), start(23))
    desk.window.transport.stop()
    desk.do("edit.redraw")
    desk.idle()
    after = reel(desk)
    assert len(after) == len(before)
    assert list(bench.tokens(bench.chapter)) == page
    now = bench.render_here(after)(start(18), start(23))
    first, last = gap.start - start(18), gap.stop - start(18)
    outside = np.r_[0:first, last : len(now)]
    np.testing.assert_allclose(now[outside], sounds[outside], atol=2e-6)  # 24 bits, and a crossfade of the same sound
    np.testing.assert_allclose(now[first:last], redrawn(sounds, first, last, RATE)[first:last], atol=2e-3)
    assert np.abs(now[first:last] - sounds[first:last]).max() > 1e-4
    assert desk.window.transport.playing  # heard at once
    assert (editing(desk).span.start, editing(desk).span.stop) == (gap.start, gap.stop)
    made = bench.book.recordings[-1]
    assert made not in bench.book.brought  # no recording that came in
    assert bench.session.can_undo().startswith("Redraw")
    desk.do("edit.undo")
    assert reel(desk) == before
    desk.do("edit.redo")
    assert reel(desk) == after
    desk.reopen()
    assert np.array_equal(desk.window.bench.render_here(reel(desk))(start(18), start(23)), now)


def test_what_can_not_be_drawn_anew_is_told_and_left(desk, monkeypatch):
    steps = desk.window.bench.session.store.count()
    editing(desk).let_go()
    desk.do("edit.redraw")
    assert "Mark what is to be drawn anew" in notice(desk)
    editing(desk).select_words(20, 21)
    desk.do("edit.redraw")
    assert "at most 20 ms" in notice(desk)
    editing(desk).select(start(20), start(20) + 100)
    held = HeldJobs()
    monkeypatch.setattr(desk.window.bench, "jobs", held)
    desk.do("edit.redraw")
    desk.window.transport.go_to(start(40))
    desk.do("edit.mark")  # another reel by now
    held.finish("Redraw")
    assert "changed meanwhile" in notice(desk)
    assert desk.window.bench.session.store.count() == steps + 1
    assert not list((desk.book / "cache").glob("made-*"))


# --- out and in -------------------------------------------------------------------------------------------------------


def test_what_is_marked_is_written_with_its_markers_and_the_words_with_their_times(desk, monkeypatch, tmp_path):
    desk.window.transport.go_to(start(21))
    desk.do("edit.mark")
    editing(desk).select_words(20, 24)
    span = editing(desk).span
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(tmp_path / "out"), "FLAC (*.flac)"))
    desk.do("export.span")
    desk.idle()
    x, _ = soundfile.read(tmp_path / "out.flac", dtype="float32")
    np.testing.assert_allclose(x, desk.window.bench.render_here(reel(desk))(span.start, span.stop), atol=2e-7)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(tmp_path / "words"), "vtt (*.vtt)"))
    desk.do("export.words")
    assert (tmp_path / "words.vtt").read_text().count("-->") == len(desk.window.bench.tokens(desk.bookstate.chapters[0]).heard())
    monkeypatch.setattr(QInputDialog, "getItem", lambda *_a, **_k: ("WAV", True))
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_a, **_k: str(tmp_path))
    editing(desk).let_go()
    desk.do("export.pieces")
    desk.idle()
    assert sorted(p.name for p in tmp_path.glob("0*.wav")) == ["001.wav"]
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(tmp_path / "no" / "x.wav"), "WAV (*.wav)"))
    desk.do("export.span")
    desk.idle()
    assert "x.wav" in notice(desk)


def test_nothing_is_written_over_a_recording_nor_into_the_book(desk, monkeypatch):
    folder = desk.window.bench.session.store.folder
    recording = folder / "recordings" / desk.bookstate.recordings[0].stored
    before, names = recording.read_bytes(), sorted(folder.rglob("*"))
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(recording), "FLAC (*.flac)"))
    desk.do("export.span")
    desk.idle()
    assert "would lie inside" in notice(desk)
    monkeypatch.setattr(QInputDialog, "getItem", lambda *_a, **_k: ("WAV", True))
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_a, **_k: str(folder / "recordings"))
    for act, suffix in (("export.pieces", ""), ("export.words", ".srt"), ("export.timeline", ".otio"), ("marker.export", ".csv")):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, suffix=suffix, **_k: (str(folder / f"x{suffix}"), ""))
        desk.window.notice.setText("")
        desk.do(act)
        desk.idle()
        assert "would lie inside" in notice(desk), act
    assert recording.read_bytes() == before
    assert [
        p for p in sorted(folder.rglob("*")) if p not in names and p.suffix in (".wav", ".srt", ".otio", ".csv", ".flac")
    ] == []


def test_a_colour_that_nobody_knows_is_drawn_as_usual(desk, monkeypatch):
    """A book, a list of steps or a timeline may name any: the window must not fall over it."""
    odd = "no such colour"
    monkeypatch.setattr(Asking, "description", lambda *_: ("x", odd, ""))
    desk.do("edit.mark")
    desk.do("list.markers")
    choose(desk, 0)
    push(desk, "Describe…")
    desk.do("edit.name_piece")
    desk.do("lane.name")
    desk.do("chapter.describe")
    assert reel(desk).lanes[0].color == reel(desk).markers[0].color == desk.bookstate.chapters[0].color == odd
    desk.do("view.grow")
    for theme in ("night", "day"):
        desk.window.set_theme(theme)
        assert not desk.window.grab().isNull()


def test_a_reel_goes_out_as_a_timeline_and_comes_back_as_a_version(desk, monkeypatch, tmp_path):
    cut(desk, 20, 22)
    path = tmp_path / "reel.otio"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(path), "OpenTimelineIO (*.otio)"))
    desk.do("export.timeline")
    timeline = otio.adapters.read_from_file(str(path))
    clips = [c for c in timeline.audio_tracks()[0] if isinstance(c, otio.schema.Clip)]
    assert all(Path(QUrl(c.media_reference.target_url).toLocalFile()).is_file() for c in clips)
    edited = reel(desk)
    cut(desk, 40, 41)
    later = reel(desk)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(path), ""))
    desk.do("import.timeline")
    desk.idle()
    assert reel(desk) == edited
    assert desk.bookstate.chapters[0].versions[-1].reel == later
    path.write_text("{")
    desk.do("import.timeline")
    desk.idle()
    assert "reel.otio" in notice(desk)
    assert reel(desk) == edited


# --- grips of the loupe -----------------------------------------------------------------------------------------------


def grip(desk, hold, at=None):
    loupe = desk.window.loupe
    QApplication.processEvents()
    return next(g for g in grips_of(loupe._scene, 0) if g.hold is hold and (at is None or g.at == at))


def move(desk, held, dx, dy=0.0, modifier=NONE):
    points = [QPoint(round(held.x + share * dx), round(held.y + share * dy)) for share in (0.0, 0.5, 1.0)]
    drag_over(desk.window.loupe, points, modifier)


def test_joins_fades_and_crossfades_are_dragged_each_one_step(desk):
    cut(desk, 20, 22)
    desk.window.loupe.look_at(start(20), span_s=2.0)
    at = reel(desk).lanes[0].starts()[1]
    each = desk.window.loupe.samples_per_pixel
    whole = len(reel(desk))
    move(desk, grip(desk, Hold.JOIN), 20)
    assert reel(desk).lanes[0].starts()[1] - at == pytest.approx(20 * each, abs=each)
    assert len(reel(desk)) == whole  # one side gives what the other takes
    desk.do("edit.undo")
    move(desk, grip(desk, Hold.JOIN), 20, modifier=CTRL)
    assert len(reel(desk)) - whole == pytest.approx(20 * each, abs=each)  # uncovered, and what follows is carried along
    desk.do("edit.undo")
    move(desk, grip(desk, Hold.CROSSFADE), 30)
    assert reel(desk).lanes[0].segments[1].join.length == pytest.approx(2 * 30 * each + 441, abs=3 * each)
    move(desk, grip(desk, Hold.FADE_IN, at), 40, 30.0)
    fade = reel(desk).lanes[0].segments[1].fade_in
    assert fade.length == pytest.approx(40 * each, abs=each)
    assert fade.bend == 1.0
    move(desk, grip(desk, Hold.FADE_OUT, at), -40)
    assert reel(desk).lanes[0].segments[0].fade_out.length == pytest.approx(40 * each, abs=each)


def test_gain_points_are_set_dragged_and_taken_away_by_the_mouse(desk):
    loupe = desk.window.loupe
    scene = loupe._scene
    x = loupe.width() / 2
    QTest.mouseDClick(loupe, LEFT, NONE, QPoint(round(x), round(scene.y_of(0.0, 0))))
    point = grip(desk, Hold.POINT) if lane_look(Row(reel(desk).lanes[0]), 0, len(reel(desk))).points else None
    if point is None:  # a point on a flat line is no change: it is made by dragging it off the line
        desk.window.transport.go_to(start(10))
        desk.do("edit.point_down")
        point = grip(desk, Hold.POINT, desk.window.transport.spot)
    low = scene.y_of(-9.0, 0) - point.y
    move(desk, point, 12, low)
    points = lane_look(Row(reel(desk).lanes[0]), 0, len(reel(desk))).points
    assert min(g for _, g in points) == pytest.approx(-9.0, abs=0.4)
    held = min(grips_of(loupe._scene, 0), key=lambda g: g.value)
    QTest.mouseDClick(loupe, LEFT, NONE, QPoint(round(held.x), round(held.y)))
    assert min((g for _, g in lane_look(Row(reel(desk).lanes[0]), 0, len(reel(desk))).points), default=0.0) > -9.0


def test_the_span_fills_the_loupe_and_back_and_waves_are_made_higher(desk):
    loupe = desk.window.loupe
    before = loupe._centre, loupe._span
    desk.do("view.to_span")
    assert "Nothing is marked" in notice(desk)
    editing(desk).select_words(20, 24)
    desk.do("view.to_span")
    span = editing(desk).span
    assert loupe._from() < span.start < span.stop < loupe._from() + loupe._span < span.stop + len(span)
    desk.do("view.to_span")
    assert (loupe._centre, loupe._span) == before
    desk.do("view.wave_higher")
    assert loupe.taller == 1.5
    for _ in range(20):
        desk.do("view.wave_higher")
    assert loupe.taller == 32.0
    desk.do("view.wave_lower")
    assert loupe.taller < 32.0


def test_the_spectrogram_is_drawn_as_chosen_and_stays_so(desk):
    picture = desk.window.loupe.grab().toImage()
    for act in ("view.spectrum_scale", "view.spectrum_top", "view.spectrum_more", "view.spectrum_finer"):
        desk.do(act)
        now = desk.window.loupe.grab().toImage()
        assert now != picture, act
        picture = now
    look = desk.window.loupe.look
    desk.reopen()
    assert desk.window.loupe.look == look
    desk.do("view.spectrum_quicker")
    assert desk.window.loupe.look == replace(look, frame=look.frame // 2)


# --- lanes in the loupe and on the page -------------------------------------------------------------------------------


@pytest.fixture
def voices(desk):
    """A second voice and music beside the first chapter, the loupe filling the window."""
    work = LaneWork(editing(desk))
    recordings = desk.bookstate.recordings
    desk.window.transport.spot = 0
    work.add_lanes([recordings[1].hash], "clerk", music=False, apart=True)
    work.add_lanes([recordings[2].hash, recordings[1].hash], "sea", music=True, apart=False)
    desk.do("view.grow")
    desk.idle()
    return desk


def test_several_recordings_come_in_side_by_side_or_one_after_another(voices):
    work = LaneWork(editing(voices))
    hashes = [r.hash for r in voices.bookstate.recordings]
    assert [s.recording for s in reel(voices).lanes[2].segments if s.recording] == [hashes[2], hashes[1]]
    assert work.add_lanes(hashes[:2], "clerk", music=False, apart=True)
    assert [lane.name for lane in reel(voices).lanes] == ["voice", "clerk", "sea", "clerk 2", "clerk 3"]
    assert not work.add_lanes([], "x", music=False, apart=True)


def test_the_page_shows_a_strip_for_each_lane_that_is_not_hidden(voices):
    content = voices.window.galley.setting.content
    assert [s.name for s in content.strips] == ["voice", "clerk", "sea"]
    for _ in range(2):
        voices.do("lane.next")
    voices.do("lane.hide")
    assert [s.name for s in voices.window.galley.setting.content.strips] == ["voice", "sea"]
    assert voices.window.loupe.shown == [0, 2]
    assert "hidden: clerk" in voices.window.loupe.accessibleDescription()
    voices.do("lane.mute")
    assert voices.window.galley.setting.content.strips[0].color == ""
    voices.do("lane.show_all")
    assert [(s.name, s.color) for s in voices.window.galley.setting.content.strips] == [
        ("voice", ""),
        ("clerk", "quiet"),
        ("sea", ""),
    ]


def test_the_meter_of_a_lane_latches_its_peak_until_it_is_clicked(voices):
    loupe = voices.window.loupe
    loupe.set_levels({0: -12.0, 1: -40.0})
    loupe.set_levels({0: -30.0, 1: -35.0})
    assert loupe.levels == {0: (-30.0, -12.0), 1: (-35.0, -35.0)}
    loupe.grab()
    box = loupe._meter_box(loupe._scene, 0)
    before = voices.window.transport.spot
    QTest.mouseClick(loupe, LEFT, NONE, box.center().toPoint())
    assert loupe.levels[0] == (-30.0, -30.0)
    assert voices.window.transport.spot == before  # a click on a meter moves nothing


def test_levels_are_told_while_the_chapter_plays(voices, monkeypatch):
    loupe, transport = voices.window.loupe, voices.window.transport
    monkeypatch.setattr(type(transport), "playing", True)
    monkeypatch.setattr(type(transport), "plays_chapter", True)
    loupe.show_position(FIRST + 20 * STEP, follow=False)
    x = voices.window.bench.render_here(reel(voices).__class__((reel(voices).lanes[1],)))(
        FIRST + 20 * STEP, FIRST + 20 * STEP + 2205
    )
    assert set(loupe.levels) == {0, 1, 2}
    assert loupe.levels[1][0] == pytest.approx(20 * np.log10(np.abs(x).max()), abs=1.5)


# --- pieces and joins -------------------------------------------------------------------------------------------------


def test_pieces_are_listed_with_where_they_are_from_and_choosing_one_marks_it(desk, qtbot):
    words = [w.text for w in desk.window.bench.text(desk.bookstate.chapters[0]).words]
    cut(desk, 10, 12)
    desk.window.transport.stop()
    desk.do("list.pieces")
    rows = cells(desk)
    assert len(rows) == 2
    assert rows[1][0].startswith(" ".join(words[13:15]))
    assert rows[1][4].endswith(desk.window.bench.time(start(13), 0))
    assert rows[1][3] == "10 ms, equal power"
    gone = (2 * STEP + WORD) / 44_100
    assert rows[0][7] == rows[1][6] == f"{gone:.2f} s {' '.join(words[10:13])}"
    desk.idle()
    pane(desk).view.setFocus()
    choose(desk, 1)
    span = editing(desk).span
    assert (span.start, span.stop) == (start(10), len(reel(desk)))
    push(desk, "Hear its join")
    transport = desk.window.transport
    assert transport.playing
    assert transport._stretch.start == start(10) - 44_100
    transport.stop()
    monkey = Asking.description
    try:
        Asking.description = lambda *_a: ("the storm", "blue", "")
        push(desk, "Describe…")
    finally:
        Asking.description = monkey
    assert reel(desk).lanes[0].segments[1].name == "the storm"
    assert cells(desk)[1][0] == "the storm"
    desk.idle()
    assert cells(desk)[1][3].count(",") == 2  # and how easily it is found, measured by itself
    cut(desk, 5, 6)  # another piece stands there now: nothing is told of it until it is measured
    assert [row[3] for row in cells(desk)[1:]] == ["10 ms, equal power"] * 2
    push(desk, "Measure the joins")
    assert [row[3].count(",") for row in cells(desk)[1:]] == [2, 2]


def test_findings_that_are_alike_are_taken_in_hand_together_and_settled_in_one_act(desk):
    from faithful_reel.core.book.commands import EDITION, PlaceHearing
    from faithful_reel.core.collate.findings import Finding, Kind

    bench, proof = desk.window.bench, desk.window.parts.proof
    chapter = bench.book.chapters[0]
    text = bench.text(chapter)
    heading = text.paragraphs()[0]
    skipped = [Finding(f"h{k}", Kind.SKIPPED, text.words[k].text, "", k, 1, 0, 0, 0.9) for k in list(heading)[:2]]
    other = [Finding(f"b{k}", Kind.SKIPPED, text.words[k].text, "", k, 1, 0, 0, 0.9) for k in (20, 25)]
    bench.do(PlaceHearing(chapter.id, chapter.hearing, (*skipped, *other), EDITION))
    proof.choose("h0")
    desk.do("proof.alike")
    assert [f for _, f in proof.selected] == [f.id for f in skipped]
    assert "2 open findings are alike (skipped: a heading)" in notice(desk)
    steps = bench.session.store.count()
    desk.do("proof.stet")
    assert bench.session.store.count() == steps + 1
    decided = {f.id: f.decision for f in bench.book.chapters[0].findings}
    assert [decided[f.id] for f in (*skipped, *other)] == [Decision.STET] * 2 + [Decision.OPEN] * 2
    proof.choose("b20")
    desk.do("proof.alike")
    assert "No other open finding" in notice(desk)
