"""Editing in the real window, by mouse and by keys: one span over words and sound, and what is done with it."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QInputDialog, QMessageBox
from support.hands import ALT, FIRST, LEFT, NONE, SHIFT, at_proof, drag, editing, reel, start
from support.hearing import STEP, WORD

from faithful_reel.app.asking import Asking
from faithful_reel.app.editing import acts as edit_acts
from faithful_reel.app.editing.cutting import Cutting
from faithful_reel.app.editing.lane_dialog import LanesAsked
from faithful_reel.core.reel.look import lane_look
from faithful_reel.core.reel.reel import Piece, RoomTone, source_at
from faithful_reel.core.reel.render import Row
from faithful_reel.core.times import TimeFormat
from faithful_reel.core.units import Span
from faithful_reel.core.work.editing import lane_told


@pytest.fixture
def desk(opened):
    """The window at the Proof desk, its first chapter heard, the loupe on word 10."""
    return at_proof(opened)


def labels(desk):
    store = desk.window.bench.session.store
    return store.step(store.head).label


# --- one span ---------------------------------------------------------------------------------------------------------


def test_words_that_are_marked_are_marked_in_the_loupe_and_the_other_way_round(desk):
    window = desk.window
    desk.click_word(10)
    assert editing(desk).spans == ()
    desk.click_word(12, shift=True)
    wanted = Span(start(10), start(12) + WORD)
    assert editing(desk).span == wanted
    assert window.loupe.stretch == (wanted.start, wanted.stop)
    assert window.galley.spans == [(wanted.start, wanted.stop)]
    drag(window.loupe, start(11) + 300, start(13) + 300, ALT)
    one = window.loupe.samples_per_pixel
    assert window.loupe.stretch == pytest.approx((start(11) + 300, start(13) + 300), abs=one + 1)
    assert window.galley.selection == (11, 12)
    desk.click_word(20)
    assert window.loupe.stretch == (-1, -1)
    assert window.galley.spans == []


def test_edges_snap_to_words_unless_alt_is_held_and_are_dragged_again(desk):
    loupe = desk.window.loupe
    near = round(5 * loupe.samples_per_pixel)
    drag(loupe, start(9), start(11) + near)
    assert loupe.stretch[1] == start(11)
    drag(loupe, start(11), start(12) - near)  # the edge is taken hold of
    assert loupe.stretch[1] == start(12)
    begins = loupe.stretch[0]
    drag(loupe, start(12), start(13) + near, ALT)
    assert loupe.stretch == pytest.approx((begins, start(13) + near), abs=loupe.samples_per_pixel + 1)
    QTest.mouseClick(loupe, LEFT, SHIFT, QPoint(round(loupe._x(start(14))), 40))
    assert loupe.stretch == (begins, start(14))
    QTest.keyClick(loupe, Qt.Key.Key_Escape)
    assert editing(desk).spans == ()


def test_jumps_go_to_places_and_with_shift_mark_up_to_them(desk):
    window = desk.window
    desk.click_word(10)
    desk.do("go.word_next")
    assert window.transport.spot == start(10) + WORD
    desk.do("go.word_next")
    assert window.transport.spot == start(11)
    desk.do("span.word_next")
    desk.do("span.word_next")
    assert editing(desk).span == Span(start(11), start(12))
    desk.do("span.word_before")
    assert editing(desk).span == Span(start(11), start(11) + WORD)
    desk.do("go.finding_next")
    assert window.transport.spot in {s.start for s in map(window.parts.proof.span, desk.bookstate.chapters[0].findings) if s}
    desk.do("go.join_next")
    assert "no join after" in window.notice.text()


def test_letters_jump_on_the_page_and_are_typed_in_fields(desk, qtbot):
    desk.click_word(10)
    with qtbot.waitActive(desk.window):
        desk.window.activateWindow()
    before = desk.window.transport.spot
    QTest.keyClick(desk.window.galley, Qt.Key.Key_K)
    assert desk.window.transport.spot > before
    at = desk.window.transport.spot
    desk.do("proof.search")
    QTest.keyClicks(desk.window.panels["proof"].search.wanted, "kxj")
    assert desk.window.panels["proof"].search.wanted.text() == "kxj"
    assert desk.window.transport.spot == at


def test_edges_are_nudged_by_every_unit(desk):
    desk.click_word(10)
    desk.do("span.word")
    ed = editing(desk)
    assert ed.span == Span(start(10), start(10) + WORD)
    desk.do("span.start_earlier")
    assert ed.span.start == start(10) - 44
    desk.do("span.unit")
    desk.do("span.end_later")
    assert ed.span.stop == start(10) + WORD + 1
    desk.do("span.unit")
    desk.do("span.end_later")
    assert ed.span.stop == start(11)
    desk.do("span.unit")
    desk.do("span.start_later")
    assert start(10) < ed.span.start < start(10) + 5000
    assert desk.window.loupe.stretch == (ed.span.start, ed.span.stop)


def test_times_are_typed_and_shown_in_any_format(desk, monkeypatch):
    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: ("0:12 to 0:13.5", True))
    desk.do("span.typed")
    assert editing(desk).span == Span(12 * 44_100, round(13.5 * 44_100))
    monkeypatch.setattr(QInputDialog, "getItem", lambda *a, **k: (TimeFormat.TIMECODE_25.value, True))
    desk.do("view.times")
    assert editing(desk).time(12 * 44_100) == "00:00:12:00"
    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: ("00:00:02:00 to later", True))
    desk.do("span.typed")
    assert "is no stretch of this chapter" in desk.window.notice.text()
    assert editing(desk).span.start == 12 * 44_100
    desk.reopen()
    assert desk.window.bench.times is TimeFormat.TIMECODE_25


# --- what is done -----------------------------------------------------------------------------------------------------


def test_several_spans_are_taken_out_in_one_step_and_come_back_with_one_undo(desk):
    before = reel(desk)
    desk.click_word(10)
    desk.do("span.word")
    desk.do("span.another")
    desk.click_word(14)
    desk.click_word(15, shift=True)
    desk.do("edit.cut_close")
    assert len(reel(desk)) == len(before) - WORD - (STEP + WORD)
    assert labels(desk).startswith("Take out: ")
    assert editing(desk).spans == ()
    desk.do("edit.undo")
    assert reel(desk) == before


def test_fill_pause_keep_and_silence(desk, monkeypatch):
    before = reel(desk)
    desk.click_word(10)
    desk.click_word(11, shift=True)
    desk.do("edit.cut_fill")
    assert len(reel(desk)) == len(before)
    assert isinstance(reel(desk).lanes[0].segments[1], RoomTone)
    monkeypatch.setattr(QInputDialog, "getDouble", lambda *a, **k: (0.5, True))
    desk.click_word(20)
    desk.do("edit.pause")
    assert len(reel(desk)) == len(before) + 22_050
    desk.click_word(22)
    desk.click_word(23, shift=True)
    desk.do("edit.silence")
    assert len(reel(desk)) == len(before) + 22_050
    desk.click_word(24)
    desk.click_word(25, shift=True)
    desk.do("edit.keep_only")
    assert len(reel(desk)) == STEP + WORD
    for _ in range(4):
        desk.do("edit.undo")
    assert reel(desk) == before


def test_cut_copy_paste_move_and_duplicate(desk):
    before = len(reel(desk))
    desk.click_word(10)
    desk.click_word(11, shift=True)
    desk.do("edit.copy")
    words = [w.text for w in desk.window.bench.text(desk.bookstate.chapters[0]).words]
    assert QApplication.clipboard().text() == f"{words[10]} {words[11]}"
    assert len(reel(desk)) == before
    desk.click_word(15)
    desk.do("edit.paste")
    assert len(reel(desk)) == before + STEP + WORD
    pasted = reel(desk).lanes[0].segments[1]
    assert (pasted.start, pasted.stop) == (start(10), start(11) + WORD)
    desk.do("edit.undo")
    desk.click_word(15)
    desk.do("edit.move_here")
    assert len(reel(desk)) == before
    assert [(s.start, s.stop) for s in reel(desk).lanes[0].segments] == [
        (0, start(10)), (start(11) + WORD, start(15)), (start(10), start(11) + WORD), (start(15), before)
    ]  # fmt: skip
    desk.do("edit.undo")
    desk.click_word(13)
    desk.do("span.word")
    desk.do("edit.duplicate")
    assert len(reel(desk)) == before + WORD
    desk.do("edit.undo")
    desk.click_word(13)
    desk.do("span.word")
    desk.do("edit.cut")
    assert len(reel(desk)) == before - WORD
    desk.click_word(20)
    desk.do("span.word")
    desk.do("edit.paste_over")
    assert len(reel(desk)) == before - WORD


def test_moving_earlier_takes_out_what_was_copied_and_nothing_else(desk):
    before = len(reel(desk))
    desk.click_word(15)
    desk.do("span.word")
    desk.do("edit.copy")
    desk.click_word(10)
    desk.do("edit.move_here")
    assert [(s.start, s.stop) for s in reel(desk).lanes[0].segments] == [
        (0, start(10)), (start(15), start(15) + WORD), (start(10), start(15)), (start(15) + WORD, before)
    ]  # fmt: skip
    desk.do("edit.move_here")
    assert "Copy what is to be moved first" in desk.window.notice.text()


def test_what_was_changed_since_it_was_copied_is_not_moved(desk):
    desk.click_word(15)
    desk.do("span.word")
    desk.do("edit.copy")
    desk.click_word(15)
    desk.do("edit.cut_close")
    after = reel(desk)
    desk.click_word(10)
    desk.do("edit.move_here")
    assert reel(desk) == after
    assert "no longer where it was" in desk.window.notice.text()


def test_sound_is_pasted_into_another_chapter(desk):
    desk.click_word(10)
    desk.do("span.word")
    desk.do("edit.copy")
    source = desk.bookstate.chapters[0].reel.lanes[0].segments[0].recording
    desk.do("view.next_chapter")
    desk.window.transport.spot = 50_000
    before = desk.bookstate.chapters[1].reel
    desk.do("edit.paste")
    after = desk.bookstate.chapters[1].reel
    assert len(after) == len(before) + WORD
    assert after.lanes[0].segments[1].recording == source
    assert reel(desk) == desk.bookstate.chapters[0].reel


def test_splitting_at_every_word_names_the_pieces_and_changes_no_sample(desk, monkeypatch):
    bench = desk.window.bench
    before = bench.render_here(reel(desk))(start(8), start(16))
    desk.click_word(10)
    desk.click_word(12, shift=True)
    monkeypatch.setattr(QInputDialog, "getItem", lambda *a, **k: ("every word", True))
    desk.do("edit.split_every")
    words = [w.text for w in bench.text(desk.bookstate.chapters[0]).words]
    assert [s.name for s in reel(desk).lanes[0].segments] == ["", *words[10:13]]
    assert reel(desk).lanes[0].starts()[1] == start(10) - 441
    assert (bench.render_here(reel(desk))(start(8), start(16)) == before).all()


def test_fades_joins_gain_and_markers(desk):
    desk.click_word(10)
    desk.do("span.word")
    desk.do("edit.fade_in")
    piece = reel(desk).lanes[0].segments[1]
    assert isinstance(piece, Piece)
    assert (piece.start, piece.fade_in.length) == (start(10), WORD)
    desk.click_word(14)
    desk.do("span.word")
    desk.do("edit.cut_close")
    desk.do("edit.crossfade")
    bar = desk.window.bar
    bar.fields[0].setValue(40.0)
    QTest.keyClick(bar.fields[0], Qt.Key.Key_Return)
    bar.shut()
    assert reel(desk).lanes[0].segments[2].join.length == 1764
    desk.click_word(12)
    desk.click_word(16, shift=True)
    desk.do("edit.soften")
    assert reel(desk).lanes[0].segments[2].join.length == 2205
    desk.click_word(12)
    desk.click_word(16, shift=True)
    desk.do("edit.set_back")
    assert reel(desk).lanes[0].segments[2].join.length == 441
    desk.click_word(20)
    desk.do("edit.louder")
    desk.click_word(20)
    desk.do("edit.louder")
    assert max(s.gain_db for s in reel(desk).lanes[0].segments) == 2.0
    desk.window.transport.stop()
    desk.window.transport.spot = 30_000
    desk.do("edit.mark")
    desk.do("edit.mark")
    assert [m.name for m in reel(desk).markers] == ["Marker 1", "Marker 2"]
    desk.window.transport.spot = 0
    desk.do("go.marker_next")
    assert desk.window.transport.spot == 30_000


def test_what_would_follow_is_heard_before_it_is_done(desk, qtbot):
    before = reel(desk)
    desk.click_word(10)
    desk.click_word(11, shift=True)
    desk.do("edit.as_if_out")
    player = desk.window.parts.player
    qtbot.waitUntil(lambda: player.playing)
    assert not desk.window.transport.plays_chapter
    assert reel(desk) == before
    assert editing(desk).span is not None
    desk.do("edit.cut_close")
    assert len(reel(desk)) < len(before)


def test_without_a_mark_and_without_a_word_nothing_is_done(desk):
    desk.window.transport.go_to(1000)
    before = reel(desk)
    for act in ("cut_close", "cut_fill", "keep_only", "copy", "louder", "as_if_out", "duplicate", "soften"):
        desk.do(f"edit.{act}")
        assert "Nothing is marked" in desk.window.notice.text()
        desk.window.notice.setText("")
    desk.do("edit.paste")
    assert "Nothing was copied yet" in desk.window.notice.text()
    assert reel(desk) == before


def test_rows_are_copied_from_a_table_though_copying_has_an_act(desk, qtbot):
    desk.do("view.intake")
    table = desk.window.panels["intake"].recordings
    with qtbot.waitActive(desk.window):
        desk.window.activateWindow()
    table.setFocus()
    QTest.mouseClick(table.viewport(), LEFT, NONE, table.visualItemRect(table.item(0, 0)).center())
    QTest.keyClick(table, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    assert "chapter-1" in QApplication.clipboard().text()


# --- lanes ------------------------------------------------------------------------------------------------------------


@pytest.fixture
def lanes(desk, monkeypatch):
    """The same chapter with another voice from 12 s and music from 8 s on."""
    hashes = [r.hash for r in desk.bookstate.recordings]
    for at, recording, name in ((12, hashes[1], "clerk"), (8, hashes[2], "music")):
        desk.window.transport.spot = at * 44_100
        asked = LanesAsked((recording,), name == "music", apart=False, name=name)
        monkeypatch.setattr(edit_acts, "ask_for_lanes", lambda *_, asked=asked: asked)
        desk.do("lane.add")
    desk.idle()
    assert [k.name for k in reel(desk).lanes] == ["voice", "clerk", "music"]
    return desk


def test_lanes_stay_in_step_through_cuts_and_pauses(lanes, monkeypatch):
    def below(word):
        return [
            source_at(reel(lanes), editing(lanes).bench.tokens(lanes.bookstate.chapters[0]).starts[word].item(), k)
            for k in range(3)
        ]

    before = below(40)
    answering(monkeypatch, "Go on all the same")
    lanes.click_word(20)
    lanes.click_word(22, shift=True)
    lanes.do("edit.cut_close")
    monkeypatch.setattr(QInputDialog, "getDouble", lambda *a, **k: (1.25, True))
    lanes.click_word(26)
    lanes.do("edit.pause")
    lanes.do("edit.undo")
    lanes.do("edit.redo")
    assert below(40) == before


def test_silence_acts_on_the_lane_in_hand_only(lanes):
    lanes.do("lane.next")
    lanes.do("lane.next")
    assert "lane clerk" in lanes.window.notice.text()
    before = reel(lanes)
    lanes.click_word(20)
    lanes.click_word(22, shift=True)
    lanes.do("edit.silence")
    after = reel(lanes)
    assert (after.lanes[0], after.lanes[2]) == (before.lanes[0], before.lanes[2])
    assert len(after.lanes[1]) == len(before.lanes[1])
    assert "room_tone" in {s.kind for s in after.lanes[1].segments}


def test_an_unlinked_lane_tells_how_far_it_is_out_of_step_and_is_brought_back(lanes, monkeypatch):
    answering(monkeypatch, "Go on all the same")
    for _ in range(3):
        lanes.do("lane.next")
    lanes.do("lane.link")
    lanes.do("lane.next")
    lanes.click_word(20)
    lanes.do("span.word")
    lanes.do("edit.cut_close")
    music = reel(lanes).lanes[2]
    assert (music.linked, music.late) == (False, WORD)
    assert "0.355 s late" in lane_told(music, 44_100)
    for _ in range(3):
        lanes.do("lane.next")
    lanes.do("lane.step")
    assert reel(lanes).lanes[2].late == 0
    lanes.do("lane.remove")
    assert [k.name for k in reel(lanes).lanes] == ["voice", "clerk"]


def test_music_gives_way_to_the_words_by_a_line_that_can_be_edited(lanes, monkeypatch):
    answers = lambda *a, **k: (14.0 if "softer" in a[2] else 0.2, True)  # noqa: E731
    monkeypatch.setattr(QInputDialog, "getDouble", answers)
    lanes.do("lane.give_way")
    assert "Choose a lane first" in lanes.window.notice.text()
    lanes.do("lane.next")
    lanes.do("lane.give_way")
    assert "choose a music lane" in lanes.window.notice.text()
    lanes.do("lane.next")
    lanes.do("lane.next")
    lanes.do("lane.give_way")
    look = lane_look(Row(reel(lanes).lanes[2]), 0, len(reel(lanes)))
    assert {round(gain) for at, gain in look.points if FIRST - 10_000 <= at <= start(60)} == {-14}
    assert look.points[:2] == ((FIRST - round(0.8 * 44_100), 0.0), (FIRST - round(0.2 * 44_100), -14.0))
    lanes.window.transport.spot = start(20)
    lanes.do("edit.point_up")
    assert (start(20), pytest.approx(-13.9)) in lane_look(Row(reel(lanes).lanes[2]), 0, len(reel(lanes))).points
    lanes.do("edit.drop_point")
    assert start(20) not in dict(lane_look(Row(reel(lanes).lanes[2]), 0, len(reel(lanes))).points)


def test_mute_solo_level_and_order(lanes, monkeypatch):
    lanes.do("lane.next")
    lanes.do("lane.next")
    lanes.do("lane.mute")
    assert [k.muted for k in reel(lanes).lanes] == [False, True, False]
    lanes.do("lane.mute")
    lanes.do("lane.solo")
    assert reel(lanes).lanes[1].solo
    monkeypatch.setattr(QInputDialog, "getDouble", lambda *a, **k: (-3.0, True))
    lanes.do("lane.level")
    lanes.do("lane.pan")
    assert (reel(lanes).lanes[1].gain_db, reel(lanes).lanes[1].pan) == (-3.0, -0.03)
    lanes.do("lane.down")
    assert [k.name for k in reel(lanes).lanes] == ["voice", "music", "clerk"]
    lanes.do("lane.down")
    assert "can not go any further" in lanes.window.notice.text()
    monkeypatch.setattr(Asking, "description", lambda *_: ("voice", "red", "soft"))
    lanes.do("lane.name")
    assert "a name of its own" in lanes.window.notice.text()
    monkeypatch.setattr(Asking, "description", lambda *_: ("Clerk", "red", "soft"))
    lanes.do("lane.name")
    assert (reel(lanes).lanes[2].name, reel(lanes).lanes[2].color, reel(lanes).lanes[2].note) == ("Clerk", "red", "soft")


def test_the_loupe_fills_the_window_with_all_lanes_and_gives_the_page_back(lanes):
    window = lanes.window
    assert window.loupe.shown == [0]
    lanes.do("view.grow")
    QApplication.processEvents()
    assert window.loupe.shown == [0, 1, 2]
    assert window.loupe.hasFocus()
    assert not window.galley.isVisible()
    lanes.do("proof.next")
    lanes.do("proof.stet")
    assert "so that no finding is seen" in window.notice.text()
    QTest.mouseClick(window.loupe, LEFT, NONE, QPoint(8, round(window.loupe._words_h) + 4))
    assert editing(lanes).lane == 0
    for _ in range(2):
        window.loupe.grab()
    lanes.do("view.spectrum")
    window.loupe.grab()
    lanes.do("view.grow")
    assert window.galley.isVisible()


def answering(monkeypatch, words):
    """Whoever is asked about another voice answers so; what was told is kept."""
    told = []

    def answer(box):
        told.append(box.informativeText())
        next(b for b in box.buttons() if b.text() == words).click()

    monkeypatch.setattr(QMessageBox, "exec", answer)
    return told


def speaking(desk):
    """A word over which the other voice speaks, and one over which it does not."""
    ed = editing(desk)
    found = {}
    for word in range(12, 120):
        ed.select_words(word, word)
        if ed.span is not None:
            found.setdefault(asks(desk), word)
    ed.let_go()
    return found[True], found[False]


def asks(lanes):
    """Whether it is asked before what is marked goes; it stays."""
    bench, asked = lanes.window.bench, []
    answer, bench.ask = bench.ask, lambda *question: asked.append(question) or question[-1][-1]
    if Cutting(editing(lanes)).take_out():
        bench.undo()
    bench.ask = answer
    return bool(asked)


@pytest.mark.parametrize("answer", ["Go on all the same", "Silence on this lane only", "Leave it"])
def test_another_voice_that_speaks_there_is_asked_about(lanes, monkeypatch, answer):
    spoken, quiet = speaking(lanes)
    told = answering(monkeypatch, answer)
    before = reel(lanes)
    lanes.click_word(spoken)
    lanes.do("span.word")
    span = editing(lanes).span
    lanes.do("edit.cut_close")
    assert told
    assert told[0].startswith("clerk: sound (0.")
    after = reel(lanes)
    if answer.startswith("Go on"):
        assert len(after.lanes[1]) == len(before.lanes[1]) - len(span)
    else:
        assert after.lanes[1] == before.lanes[1]
        assert len(after) == len(before)
        assert (after == before) == (answer == "Leave it")
    lanes.click_word(quiet)
    lanes.do("span.word")
    lanes.do("edit.cut_close")
    assert len(told) == 1


def test_what_is_muted_is_said_at_the_top_and_asked_about_before_it_is_mastered(lanes, monkeypatch):
    window = lanes.window
    assert not window.unheard.isVisible()
    lanes.do("lane.next")
    lanes.do("lane.next")
    lanes.do("lane.mute")
    assert window.unheard.text() == "not heard: clerk"
    assert window.unheard.isVisible()
    told = answering(monkeypatch, "Leave it")
    lanes.do("master.this")
    lanes.do("master.all")
    assert told == ["Chapter One: Low Water: clerk"] * 2
    assert not window.jobs.running
    lanes.do("lane.mute")
    lanes.do("lane.solo")
    assert window.unheard.text() == "not heard: voice, music"
    lanes.do("lane.solo")
    assert not window.unheard.isVisible()
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *a, **k: "")
    lanes.do("release.write")
    assert len(told) == 2


def test_a_lane_in_hand_that_is_undone_is_no_longer_in_hand(lanes):
    for _ in range(3):
        lanes.do("lane.next")
    assert editing(lanes).lane == 2
    lanes.do("edit.undo")
    assert [k.name for k in reel(lanes).lanes] == ["voice", "clerk"]
    assert (editing(lanes).lane, lanes.window.loupe.lane) == (-1, -1)
    lanes.click_word(20)
    lanes.do("span.word")
    lanes.do("edit.cut_fill")
    assert labels(lanes).startswith("Fill with room tone")
