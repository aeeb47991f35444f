"""The acts that are done all day, in the real window: hear, try, compare, go on; pauses, edges and what slides."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QMenu
from support.hands import ALT, CTRL, LEFT, NONE, RATE, SHIFT, at_proof, move, reel, start
from support.hearing import STEP, WORD

from faithful_reel.app.editing.cutting import Cutting
from faithful_reel.core.book.commands import EditReel
from faithful_reel.core.reel.commands import AddLane, PutMarker, RemoveLane
from faithful_reel.core.reel.reel import Lane, Marker, Piece, Rest, RoomTone
from faithful_reel.core.standins.sound_card import SimulatedCard
from faithful_reel.core.units import Span

GAP = STEP - WORD


@pytest.fixture
def desk(opened):
    """The window at the Proof desk, its first chapter heard, the loupe on word 10."""
    return at_proof(opened)


@pytest.fixture
def two_lanes(desk):
    """A second voice beside the first, which says nothing that was heard."""
    bench = desk.window.bench
    other = bench.book.recordings[1]
    bench.do(EditReel("c1", AddLane(Lane("clerk", (Piece(other.hash, 0, other.length),)))))
    desk.idle()
    return desk


@pytest.fixture
def heard(monkeypatch):
    """What was pushed to the sound card, block by block."""
    blocks = []
    push = SimulatedCard.push

    def noted(card, block, count):
        taken = push(card, block, count)
        blocks.append(np.array(block[:taken]))
        return taken

    monkeypatch.setattr(SimulatedCard, "push", noted)
    return blocks


REST = round(0.3 * RATE)


def rest(desk):
    """Room tone in the gap after word 10, so that there is a pause."""
    desk.window.transport.go_to(start(10) + WORD + GAP // 2)
    Cutting(desk.window.parts.editing).pause(0.3)
    desk.window.transport.stop()


def press(desk, key, held=NONE):
    """One stroke on the page."""
    galley = desk.window.galley
    galley.setFocus()
    QTest.qWait(260)  # no key is held down
    QTest.keyClick(galley, key, held)


def stretch(desk):
    """What is being heard, from and to, in samples of the chapter."""
    return desk.window.transport._stretch


def test_what_is_marked_is_heard_once_and_the_cursor_stays(desk, qtbot, heard):
    transport = desk.window.transport
    transport.set_looping(on=False)
    desk.click_word(10)
    desk.do("span.word")
    cursor = transport.spot
    press(desk, Qt.Key.Key_Space, SHIFT)
    assert (stretch(desk).start, stretch(desk).stop) == (start(10), start(10) + WORD)
    qtbot.waitUntil(lambda: not transport.playing)
    assert transport.spot == cursor
    expected = desk.window.bench.render_here(reel(desk))(start(10), start(10) + WORD)
    assert (np.concatenate(heard) == expected).all()
    desk.do("ear.span_lead")
    press(desk, Qt.Key.Key_Space, SHIFT)
    assert stretch(desk).start == start(10) - round(transport.lead_s * RATE)
    desk.do("play.toggle")
    desk.do("span.none")
    press(desk, Qt.Key.Key_Space, SHIFT)  # the sentence at the cursor
    sentence = next(s for s in desk.window.bench.text(desk.bookstate.chapters[0]).sentences() if 10 in s)
    assert stretch(desk).stop == start(sentence.stop - 1) + WORD


def test_a_loop_rests_between_and_goes_on(desk, qtbot, heard):
    transport = desk.window.transport
    transport.set_looping(on=True)
    desk.click_word(10)
    desk.do("span.word")
    press(desk, Qt.Key.Key_Space, SHIFT)
    rest = round(0.4 * RATE)
    qtbot.waitUntil(lambda: sum(map(len, heard)) > 2 * WORD + rest, timeout=10_000)
    said = np.concatenate(heard)
    assert (said[WORD : WORD + rest] == 0).all()
    assert (said[WORD + rest : 2 * WORD + rest] == said[:WORD]).all()
    assert transport.playing
    transport.set_looping(on=False)
    desk.do("play.toggle")
    assert start(10) <= transport.spot <= start(10) + WORD  # stopped by its key, the cursor is where that was


def test_what_was_just_made_is_heard_and_once_the_cursor_moved_the_nearest_join(desk, qtbot):
    transport = desk.window.transport
    around = round(1.5 * RATE)
    desk.click_word(20)
    desk.do("span.word")
    press(desk, Qt.Key.Key_Delete)
    assert transport.playing  # at once
    assert (stretch(desk).start, stretch(desk).stop) == (start(20) - around, start(20) + around)
    desk.click_word(40)
    desk.do("span.word")
    desk.do("ear.at_once")
    transport.stop()
    press(desk, Qt.Key.Key_Delete, SHIFT)
    assert not transport.playing
    assert any(isinstance(s, RoomTone) for s in reel(desk).lanes[0].segments)
    press(desk, Qt.Key.Key_F11)
    assert stretch(desk).stop - stretch(desk).start == WORD + 2 * around
    transport.stop()
    transport.go_to(start(18))
    press(desk, Qt.Key.Key_F11)
    assert (stretch(desk).start, stretch(desk).stop) == (start(20) - around, start(20) + around)
    transport.stop()


def test_who_goes_elsewhere_while_a_place_is_heard_has_heard_enough_of_it(desk):
    transport = desk.window.transport
    desk.click_word(20)
    desk.do("span.word")
    desk.do("edit.cut_fill")
    assert transport.playing
    desk.click_word(5)
    assert not transport.playing
    assert transport.spot == start(5)
    transport.play_from(start(5))
    desk.click_word(8)  # what plays on its own goes on from there
    assert transport.playing
    assert not transport.aside
    transport.stop()


def test_of_a_long_piece_each_press_hears_another_end(desk):
    transport = desk.window.transport
    desk.click_word(10)
    desk.click_word(39, shift=True)
    desk.do("edit.cut_fill")
    ends = []
    for _ in range(3):
        ends.append((stretch(desk).start + stretch(desk).stop) // 2)
        press(desk, Qt.Key.Key_F11)
    transport.stop()
    assert ends[0] == ends[2] == start(10)
    assert ends[1] > start(38)


def test_as_it_was_is_heard_without_a_gap_at_the_same_words_and_back(desk, qtbot, heard):
    transport, bench = desk.window.transport, desk.window.bench
    before = reel(desk)
    desk.click_word(20)
    desk.click_word(22, shift=True)
    desk.do("edit.cut_close")
    cut = start(22) + WORD - start(20)
    transport.stop()
    transport.go_to(start(19))
    heard.clear()
    transport.hear(start(19), start(30) - cut)
    qtbot.wait(150)
    desk.do("ear.as_it_was")
    assert transport.instead == before
    qtbot.waitUntil(lambda: transport.player.position > start(19) + RATE // 2, timeout=5000)
    assert transport.plays_chapter
    desk.do("ear.as_it_was")
    assert transport.instead is None
    qtbot.waitUntil(lambda: not transport.playing, timeout=10_000)
    assert transport.spot == start(19)
    desk.do("ear.as_received")
    assert transport.playing
    transport.stop()
    del bench


def test_the_turn_to_another_rendering_takes_over_at_the_same_place(qtbot):
    from faithful_reel.app.rendering import Turn
    from faithful_reel.app.sound import Player

    now = [0.0]
    card, pushed = SimulatedCard(1000, clock=lambda: now[0]), {}
    push, back, count = card.push, card.take_back, [0]

    def noted(block, many):
        taken = push(block, many)
        for k in range(taken):
            pushed[count[0] + k] = float(block[k])
        count[0] += taken
        return taken

    def taken_back(keep):
        gone = back(keep)
        count[0] -= gone
        return gone

    card.push, card.take_back = noted, taken_back
    player = Player(card)
    player.play(lambda a, b: np.arange(a, b, dtype=np.float32), 0, 3000, 1000)
    qtbot.waitUntil(lambda: count[0] == 500)
    now[0] = 0.1  # 100 were played
    shift = 5000  # the same words stand so much later in the other
    player.turn(Turn(lambda a, b: np.arange(a, b, dtype=np.float32), lambda at: at + shift, lambda at: at - shift, shift, 8000))
    qtbot.waitUntil(lambda: count[0] == 600)
    said = [pushed[k] for k in range(600)]
    assert said[:160] == list(range(160))
    assert said[170:] == [shift + k for k in range(170, 600)]  # no sample is missing, none comes twice
    assert all(k < said[k] < k + shift for k in range(160, 170))  # the one takes over from the other
    now[0] = 0.4
    player._tick()
    assert player.position == 400
    player.stop()


def test_a_pause_is_marked_made_shorter_and_longer_and_typed(desk, qtbot):
    transport = desk.window.transport
    rest(desk)
    transport.go_to(start(10) + WORD + GAP // 2)
    press(desk, Qt.Key.Key_U, SHIFT)
    span = desk.window.parts.editing.span
    assert (span.start, span.stop) == (start(10) + WORD, start(11) + REST)
    desk.do("span.none")
    length = len(reel(desk))
    press(desk, Qt.Key.Key_Comma, CTRL)
    assert len(reel(desk)) == length - round(0.05 * RATE)
    assert transport.playing
    assert "0.30 s now, 0.05 s less" in desk.window.notice.text()
    desk.do("edit.undo")
    transport.go_to(start(10) + WORD + GAP // 2)
    press(desk, Qt.Key.Key_Period, CTRL)
    assert len(reel(desk)) == length + round(0.05 * RATE)
    assert transport.playing
    transport.stop()
    transport.go_to(start(10) + WORD + GAP // 2)
    pieces = len(reel(desk).lanes[0].segments)
    press(desk, Qt.Key.Key_Period, CTRL)
    assert len(reel(desk)) == length + 2 * round(0.05 * RATE)
    assert len(reel(desk).lanes[0].segments) == pieces  # the room tone there became longer
    assert any(isinstance(s, RoomTone) for s in reel(desk).lanes[0].segments)
    transport.go_to(start(10) + WORD + GAP // 2)
    press(desk, Qt.Key.Key_T, CTRL | ALT)
    bar = desk.window.bar
    assert bar.isVisible()
    assert bar.fields[0].value() == pytest.approx((GAP + REST) / RATE + 0.1, abs=0.001)
    bar.fields[0].setValue(0.2)
    QTest.keyClick(bar.fields[0], Qt.Key.Key_Return)
    words = desk.window.bench.tokens(desk.bookstate.chapters[0])
    assert words[11].start - words[10].stop == pytest.approx(0.2 * RATE, abs=2)
    assert bar.isVisible()
    QTest.keyClick(bar.fields[0], Qt.Key.Key_Escape)
    assert not bar.isVisible()
    desk.do("edit.undo")
    desk.do("edit.undo")
    desk.do("edit.undo")
    assert len(reel(desk)) == length


def test_from_here_to_the_end_and_from_the_start_is_one_step(desk):
    transport, bench = desk.window.transport, desk.window.bench
    sentence = next(s for s in bench.text(desk.bookstate.chapters[0]).sentences() if 10 in s)
    length = len(reel(desk))
    at = start(10) + WORD // 2
    transport.go_to(at)
    press(desk, Qt.Key.Key_F4)
    stop = start(sentence.stop - 1) + WORD
    assert length - len(reel(desk)) == stop - at
    assert transport.playing
    desk.do("edit.undo")
    transport.go_to(at)
    press(desk, Qt.Key.Key_F3, SHIFT)
    assert length - len(reel(desk)) == at - start(10)
    desk.do("edit.undo")
    transport.go_to(at)
    press(desk, Qt.Key.Key_F3, CTRL)
    assert len(reel(desk)) == length
    tone = next(s for s in reel(desk).lanes[0].segments if isinstance(s, RoomTone))
    assert len(tone) == start(10) + WORD - at
    desk.do("edit.undo")
    assert len(reel(desk).lanes[0].segments) == 1


def test_edges_and_joins_move_by_the_step_alone_or_with_what_follows(desk):
    transport = desk.window.transport
    desk.click_word(20)
    desk.do("span.word")
    desk.do("edit.cut_close")
    length, step = len(reel(desk)), round(0.01 * RATE)
    border = reel(desk).lanes[0].starts()[1]
    transport.go_to(start(18))
    press(desk, Qt.Key.Key_F12)  # the end of the piece at the cursor, later: the next one gives it
    assert (len(reel(desk)), reel(desk).lanes[0].starts()[1]) == (length, border + step)
    press(desk, Qt.Key.Key_F12, CTRL)
    assert (len(reel(desk)), reel(desk).lanes[0].starts()[1]) == (length + step, border + 2 * step)
    press(desk, Qt.Key.Key_F12, CTRL | SHIFT)
    press(desk, Qt.Key.Key_Left, ALT)
    assert (len(reel(desk)), reel(desk).lanes[0].starts()[1]) == (length, border)
    desk.do("edge.step")
    press(desk, Qt.Key.Key_Right, ALT)
    assert reel(desk).lanes[0].starts()[1] == border + 2 * step
    assert stretch(desk).start < border < stretch(desk).stop
    transport.go_to(start(5))
    press(desk, Qt.Key.Key_F9)
    assert "No other piece is beside this edge" in desk.window.notice.text()


def test_a_key_that_is_held_repeats_and_what_it_made_is_heard_when_it_rests(desk, qtbot):
    transport = desk.window.transport
    desk.click_word(20)
    desk.do("span.word")
    desk.do("edit.cut_close")
    transport.stop()
    border, galley = reel(desk).lanes[0].starts()[1], desk.window.galley
    galley.setFocus()
    QTest.qWait(260)
    for _ in range(4):
        QTest.keyClick(galley, Qt.Key.Key_Right, ALT)
        QTest.qWait(30)
    assert reel(desk).lanes[0].starts()[1] == border + 4 * round(0.01 * RATE)
    assert not transport.playing  # it does not rest yet
    qtbot.waitUntil(lambda: transport.playing)
    assert stretch(desk).start < border < stretch(desk).stop


def test_what_is_marked_slides_and_lies_over_no_word(desk, qtbot):
    loupe = desk.window.loupe
    desk.click_word(10)
    desk.do("span.word")
    length, step = len(reel(desk)), round(0.01 * RATE)
    press(desk, Qt.Key.Key_O, SHIFT)
    words = desk.window.bench.tokens(desk.bookstate.chapters[0])
    assert words[10].start == start(10) + step
    assert len(reel(desk)) == length
    assert desk.window.parts.editing.span.start == start(10) + step
    desk.do("edit.undo")
    desk.click_word(10)
    desk.do("span.word")
    loupe.look_at(start(10), span_s=4.0)
    y, a = loupe.height() // 2, round(loupe._x(start(10) + WORD // 2))

    def drag(by, *, esc=False):
        QTest.mousePress(loupe, LEFT, CTRL, QPoint(a, y))
        for x in (a + by // 2, a + by):
            move(loupe, QPoint(x, y), CTRL)
        if esc:
            QTest.keyClick(loupe, Qt.Key.Key_Escape)
        QTest.mouseRelease(loupe, LEFT, CTRL, QPoint(a + by, y))

    drag(2)  # fewer than the few pixels that a drag needs
    drag(30, esc=True)
    assert desk.window.bench.tokens(desk.bookstate.chapters[0])[10].start == start(10)
    drag(10)
    moved = desk.window.bench.tokens(desk.bookstate.chapters[0])[10].start - start(10)
    assert moved == pytest.approx(10 * loupe.samples_per_pixel, abs=loupe.samples_per_pixel)
    desk.window.transport.stop()
    for _ in range(40):
        desk.do("slide.later")
    QTest.qWait(260)
    desk.window.transport.stop()
    assert "It would lie over" in desk.window.notice.text()
    assert all(t.start >= 0 for t in desk.window.bench.tokens(desk.bookstate.chapters[0])[:14])


def test_nothing_slides_over_a_voice_that_was_not_heard_yet_and_one_stretch_at_a_time(two_lanes):
    desk, editing = two_lanes, two_lanes.window.parts.editing
    edges = np.arange(RATE, len(reel(desk).lanes[1]) - RATE, RATE // 10)
    peaks = np.abs(desk.window.bench.columns(reel(desk), 1)(edges.astype(np.float64))).max(axis=0)
    loud, quiet = int(edges[peaks.argmax()]), int(edges[peaks.argmin()])
    for at, slides in ((loud, False), (quiet, True)):
        before = reel(desk)
        editing.draw(at - RATE // 10, at, 1)
        desk.do("slide.later")
        desk.window.transport.stop()
        assert (reel(desk) is not before) is slides
    editing.add()
    editing.draw(start(10), start(11), 1)
    before = reel(desk)
    desk.do("slide.later")
    assert reel(desk) is before
    assert "one slides at a time" in desk.window.notice.text()


def test_pauses_of_several_stretches_change_together_and_stay_marked(desk):
    editing, cutting = desk.window.parts.editing, Cutting(desk.window.parts.editing)
    for word in (20, 10):
        desk.window.transport.go_to(start(word) + WORD + GAP // 2)
        cutting.pause(0.3)
    for first in (start(10), start(20) + REST):
        editing.add() if editing.span else None
        editing.select(first, first + WORD + GAP + REST + 10)
    step = round(0.05 * RATE)
    for strokes in (1, 2):
        desk.do("pause.longer")
        assert [s.length for s in reel(desk).lanes[0].segments if isinstance(s, RoomTone)] == [REST + strokes * step] * 2
        assert [s.start for s in editing.spans] == [start(10), start(20) + REST + strokes * step]
    desk.do("edit.undo")
    assert [s.length for s in reel(desk).lanes[0].segments if isinstance(s, RoomTone)] == [REST + step] * 2
    QTest.qWait(260)
    desk.window.transport.stop()


def test_pauses_change_on_no_lane_that_is_not_linked_nor_on_one_that_ends_before_them(two_lanes):
    desk, editing = two_lanes, two_lanes.window.parts.editing
    rest(desk)
    at = desk.window.transport.spot
    editing.choose_lane(1)
    desk.do("lane.link")
    before = reel(desk)
    desk.window.transport.go_to(at)
    desk.do("pause.longer")
    assert reel(desk) is before
    assert "linked" in desk.window.notice.text()
    desk.do("lane.link")
    lane = reel(desk).lanes[1]
    desk.window.bench.do(EditReel("c1", RemoveLane(1)))
    desk.window.bench.do(EditReel("c1", AddLane(replace(lane, segments=lane.between(Span(0, RATE))))))
    editing.choose_lane(1)
    desk.window.transport.go_to(at)
    long = len(reel(desk))
    desk.do("pause.longer")
    assert len(reel(desk)) == long + round(0.05 * RATE)
    assert len(reel(desk).lanes[1]) == RATE
    QTest.qWait(260)
    desk.window.transport.stop()


def test_after_an_edit_the_sound_goes_on_where_that_is_wanted(desk, qtbot):
    transport = desk.window.transport
    desk.do("ear.go_on")
    desk.click_word(20)
    desk.do("span.word")
    transport.play_from(start(15))
    desk.do("edit.cut_close")
    assert transport.playing
    assert not transport.aside
    assert stretch(desk).stop == len(reel(desk))
    transport.stop()
    transport.went_on = False
    desk.do("edit.undo")
    assert not transport.playing


def test_a_decision_plays_the_next_finding_before_it_is_painted(desk, qtbot):
    transport, proof = desk.window.transport, desk.window.parts.proof
    proof.step(1)
    first = proof.current
    following = proof.following()
    press(desk, Qt.Key.Key_S)
    assert proof.current == following.id != first
    assert transport.playing
    assert stretch(desk).stop == proof.span(proof.finding()).stop + RATE
    desk.do("ear.next")
    transport.stop()
    press(desk, Qt.Key.Key_S)
    assert not transport.playing


def test_the_menu_is_that_of_what_lies_under_the_mouse(desk, monkeypatch):
    shown = []

    def texts(menu):
        """What stands in a menu and in those inside of it."""
        inside = [t for a in menu.actions() if a.menu() for t in texts(a.menu())]
        return [*(a.text().replace("&", "") for a in menu.actions()), *inside]

    monkeypatch.setattr(QMenu, "exec", lambda menu, *_: shown.append(texts(menu)))
    loupe = desk.window.loupe

    def at(position, y=None):
        from PyQt6.QtGui import QContextMenuEvent

        shown.clear()
        point = QPoint(round(loupe._x(position)), loupe.height() // 2 if y is None else y)
        event = QContextMenuEvent(QContextMenuEvent.Reason.Mouse, point, loupe.mapToGlobal(point))
        QApplication.sendEvent(loupe, event)
        return shown[0]

    words = [w.text for w in desk.window.bench.text(desk.bookstate.chapters[0]).words]
    assert f"Word “{words[10]}”" in at(start(10) + WORD // 2)
    assert desk.window.transport.spot == pytest.approx(start(10) + WORD // 2, abs=200)
    rest(desk)
    pause = at(start(10) + WORD + GAP)
    assert f"Pause of {(GAP + REST) / RATE:.2f} s" in pause
    assert "Pause shorter" in pause
    desk.click_word(10)
    desk.do("span.word")
    marked = at(start(10) + WORD // 2)
    assert f"Marked: {words[10]}" in marked
    assert "Take out and close up" in marked
    assert desk.window.parts.editing.span is not None  # it is still marked
    desk.do("edit.cut_close")
    desk.window.transport.stop()
    loupe.look_at(start(10), span_s=4.0)
    assert "Crossfade of the joins…" in at(start(10), loupe.height() - round(loupe._ruler_h) - 5)
    desk.do("span.none")
    desk.window.transport.go_to(start(12))
    desk.do("edit.mark")
    desk.window.bar.shut()
    assert "Take the marker away" in at(start(12), round(loupe._words_h) - 2)
    shown.clear()
    desk.click_word(3)
    QApplication.sendEvent(loupe, _by_key(loupe))
    assert f"Word “{words[3]}”" in shown[0]
    for word in (20, 5):  # the menu of all that is marked, wherever the cursor is: none of it is let go
        desk.window.transport.go_to(start(word) + WORD // 2)
        desk.do("span.word")
        desk.do("span.another")
    desk.window.transport.go_to(start(12))
    shown.clear()
    QApplication.sendEvent(loupe, _by_key(loupe))
    assert any(text.startswith("Marked: ") for text in shown[0])
    assert len(desk.window.parts.editing.spans) == 2


def test_the_menu_of_a_finding_leaves_the_cursor_where_the_mouse_is(desk, monkeypatch):
    monkeypatch.setattr(QMenu, "exec", lambda *_: None)
    galley, proof, transport = desk.window.galley, desk.window.parts.proof, desk.window.transport
    one, other = [f for f in proof.docket() if f.word_count][:2]
    desk.click_word(one.word_index)
    spot = transport.spot + WORD // 2
    proof.choose(other.id)
    transport.put(spot)
    QApplication.sendEvent(galley, _by_key(galley))
    assert (proof.current, transport.spot) == (one.id, spot)


def _by_key(widget):
    from PyQt6.QtGui import QContextMenuEvent

    return QContextMenuEvent(QContextMenuEvent.Reason.Keyboard, QPoint(0, 0), widget.mapToGlobal(QPoint(0, 0)))


def test_a_marker_is_named_while_it_is_dropped_and_the_sound_goes_on(desk, qtbot):
    transport, bar = desk.window.transport, desk.window.bar
    transport.play_from(start(10))
    press(desk, Qt.Key.Key_R)
    assert bar.isVisible()
    QTest.keyClicks(bar.fields[0], "the door creaks")
    assert transport.playing
    QTest.keyClick(bar.fields[0], Qt.Key.Key_Return)
    assert [m.name for m in reel(desk).markers] == ["the door creaks"]
    assert not bar.isVisible()
    assert transport.playing
    transport.stop()
    desk.do("marker.drop")
    assert not reel(desk).markers


def test_joins_of_a_span_are_set_in_a_row_that_stays(desk):
    for word in (12, 16):
        desk.click_word(word)
        desk.do("span.word")
        desk.do("edit.cut_close")
    desk.click_word(8)
    desk.click_word(20, shift=True)
    desk.do("edit.crossfade")
    bar = desk.window.bar
    assert "2 joins" in bar.title.text()
    bar.fields[0].setValue(30.0)
    bar.fields[1].setCurrentIndex(1)
    desk.press(bar.do)
    joins = [s.join for s in reel(desk).lanes[0].segments[1:]]
    assert {(j.length, j.shape) for j in joins} == {(1323, "equal_gain")}
    assert bar.isVisible()
    bar.fields[0].setValue(20.0)
    QTest.keyClick(bar.fields[0], Qt.Key.Key_Return)
    assert {s.join.length for s in reel(desk).lanes[0].segments[1:]} == {882}
    desk.click_word(11)  # nothing is marked any more: another join is meant than those that the row names
    before = reel(desk)
    bar.do.click()
    assert reel(desk) is before
    assert bar.title.text() == f"Join at {desk.window.parts.editing.time(start(12))}"
    assert bar.title.text() in desk.window.notice.text()
    bar.do.click()
    assert [s.join.length for s in reel(desk).lanes[0].segments[1:]] == [882, 882]
    bar.fields[0].setValue(25.0)
    bar.do.click()
    assert [s.join.length for s in reel(desk).lanes[0].segments[1:]] == [1102, 882]
    bar.shut()
    desk.do("edit.undo")
    assert {s.join.length for s in reel(desk).lanes[0].segments[1:]} == {882}


def test_a_typed_pause_is_that_which_the_row_names(desk):
    for word in (10, 20):
        desk.window.transport.go_to(start(word) + WORD + GAP // 2)
        Cutting(desk.window.parts.editing).pause(0.3)
    desk.do("pause.typed")  # that after word 20
    bar, before = desk.window.bar, reel(desk)
    desk.window.transport.go_to(start(10) + WORD + GAP)
    bar.fields[0].setValue(1.0)
    bar.do.click()
    assert reel(desk) is before
    bar.do.click()
    grown = [s.length for s in reel(desk).lanes[0].segments if isinstance(s, RoomTone)]
    assert grown[0] > REST
    assert grown[1] == REST


@pytest.mark.parametrize("elsewhere", ["view.master", "view.next_chapter"])
def test_the_row_closes_where_what_it_asks_about_is_no_longer_at_hand(desk, elsewhere):
    rest(desk)
    bench, bar = desk.window.bench, desk.window.bar
    bench.do(EditReel("c2", PutMarker(Marker("m1", 0, "there"))))
    for act in ("pause.typed", "edit.mark"):
        desk.do(act)
        assert bar.isVisible()
        desk.do(elsewhere)
        assert not bar.isVisible()
        bench.open_chapter("c1")
        desk.do("view.proof")
    assert [m.name for c in desk.bookstate.chapters[:2] for m in c.reel.markers] == ["Marker 1", "there"]


def test_times_are_shown_in_the_chosen_form_everywhere(desk, monkeypatch):
    from PyQt6.QtWidgets import QInputDialog

    monkeypatch.setattr(QInputDialog, "getItem", lambda *a, **k: ("samples", True))
    desk.click_word(10)
    desk.do("view.times")
    window = desk.window
    assert window.parts.foot.time.text() == str(start(10))
    assert str(start(10)) in window.loupe.accessibleDescription() + window.galley.accessibleDescription()
    docket = window.proof_panel.docket.list.rows
    from faithful_reel.app.widgets.parts import ROLE

    first = window.parts.proof.docket()[0]
    assert docket.index(0).data(ROLE)[3] == str(first.start)


def test_where_it_is_not_clear_which_lane_is_meant_it_is_asked_once_and_the_span_shows_its_lane(two_lanes, monkeypatch):
    desk, asked = two_lanes, []
    window, editing = desk.window, desk.window.parts.editing

    def ask(title, _words, told, choices):
        asked.append((title, list(told), choices))
        return choices[1]

    window.bench.ask = ask
    editing.select(start(10), start(10) + WORD)
    assert window.loupe.span_lane == -1
    before = reel(desk)
    desk.do("edit.silence")
    assert [a[0] for a in asked] == ["Which lane?"]
    assert asked[0][1][1].startswith("2 clerk: ")
    assert asked[0][2][-1] == "Leave it"
    assert reel(desk).lanes[0] == before.lanes[0]
    assert any(isinstance(s, RoomTone | Rest) for s in reel(desk).lanes[1].segments)
    editing.select(start(12), start(12) + WORD)
    assert window.loupe.span_lane == 1
    assert "on clerk" in window.loupe.accessibleDescription()
    desk.do("edit.silence")
    assert len(asked) == 1  # the lane that was chosen is in hand
    desk.do("edit.undo")
    window.parts.editing.choose_lane(-1)
    editing.select(start(14), start(14) + WORD)
    window.bench.ask = lambda _title, _words, _told, choices: choices[-1]
    at = reel(desk)
    desk.do("edit.silence")
    assert reel(desk) is at
    editing.draw(start(14), start(14) + WORD, 1)
    assert window.loupe.span_lane == 1


def test_what_sounds_beside_the_cursor_ends_with_its_chapter_and_an_edit_while_it_was_otherwise(desk, qtbot):
    """The other state of a reel must not be heard, nor told, once there is nothing to compare it with."""
    transport, foot = desk.window.transport, desk.window.parts.foot
    desk.click_word(20)
    desk.do("span.word")
    desk.do("edit.cut_close")
    desk.do("ear.as_it_was")
    assert foot.which.text() == "as it was"
    desk.click_word(40)
    desk.do("span.word")
    desk.do("edit.cut_fill")
    assert transport.instead is None
    assert foot.which.text() == ""
    desk.do("ear.as_it_was")
    desk.do("edit.undo")
    assert transport.instead is None
    assert not transport.playing
    desk.do("ear.join")
    desk.do("ear.as_it_was")
    transport.set_speed(1.5)
    assert foot.which.text() == "as it was"
    desk.do("view.next_chapter")
    assert not transport.playing
    assert foot.which.text() == ""
    desk.do("ear.join")
    assert "no join in this chapter" in desk.window.notice.text()
    desk.do("ear.as_it_was")
    assert "was not changed yet" in desk.window.notice.text()
    transport.set_speed(1.0)


def test_as_it_was_finds_the_step_after_a_restart_and_any_step_of_the_history(desk, qtbot):
    before = reel(desk)
    desk.click_word(20)
    desk.do("span.word")
    desk.do("edit.cut_close")
    desk.click_word(40)
    desk.do("span.word")
    desk.do("edit.cut_close")
    middle = len(reel(desk)) + WORD
    desk.reopen()
    transport = desk.window.transport
    desk.do("view.proof")
    desk.do("ear.as_it_was")
    assert len(transport.instead) == middle
    transport.stop()
    desk.do("ear.as_at")
    assert "Open the history first" in desk.window.notice.text()
    desk.do("edit.history")
    history = desk.window.history
    history.view.selectRow(history.model.rowCount() - 1)
    desk.do("ear.as_at")
    assert transport.instead is None or len(transport.instead) == len(before)
    transport.stop()


def test_a_menu_acts_on_what_is_under_the_mouse_and_not_on_what_is_marked_elsewhere(two_lanes, monkeypatch):
    desk, wanted = two_lanes, []
    monkeypatch.setattr(
        QMenu, "exec", lambda menu, *_: next(a for a in menu.actions() if a.text().replace("&", "") == wanted[-1]).trigger()
    )
    desk.window.bench.ask = lambda _title, _words, _told, choices: choices[0]
    loupe, editing = desk.window.loupe, desk.window.parts.editing
    loupe.look_at(start(10), span_s=4.0)
    editing.draw(start(9), start(9) + WORD, 1)  # the clerk's

    def at(position, lane, act):
        from PyQt6.QtGui import QContextMenuEvent

        wanted.append(act)
        scene = loupe._scene
        y = round(scene.top_of(lane) + scene.lane_h / 2) if lane in scene.shown else loupe.height() // 2
        point = QPoint(round(loupe._x(position)), y)
        QApplication.sendEvent(loupe, QContextMenuEvent(QContextMenuEvent.Reason.Mouse, point, loupe.mapToGlobal(point)))

    desk.do("view.grow")
    QApplication.processEvents()
    length = len(reel(desk))
    at(start(11) + WORD // 2, 0, "Take out and fill")
    assert len(reel(desk)) == length
    lanes = reel(desk).lanes
    assert [k for k, lane in enumerate(lanes) if any(isinstance(s, RoomTone | Rest) for s in lane.segments)] == [0]
    tone = next(k for k, s in enumerate(lanes[0].segments) if isinstance(s, RoomTone))
    assert lanes[0].starts()[tone] == start(11)


def test_past_the_end_of_a_shorter_lane_there_is_no_piece(two_lanes):
    window = two_lanes.window
    window.parts.editing.choose_lane(1)
    window.transport.go_to(len(reel(two_lanes)) - 1000)
    assert len(reel(two_lanes).lanes[1]) < len(reel(two_lanes)) - 1000
    before = reel(two_lanes)
    for act in ("here.out_to_piece", "here.fill_from_piece", "edge.end_later_carried", "edit.split"):
        two_lanes.do(act)
        if act != "edit.split":
            assert "piece" in window.notice.text()
            assert reel(two_lanes) is before
