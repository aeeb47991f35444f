"""Listening at the Proof desk, in the real window: what was heard, flags and notes while playing, names, sign-off."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QDialog

from faithful_reel.core.book.commands import PlaceHearing
from faithful_reel.core.collate.findings import Decision, Evidence, Finding, Kind
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.work.timeline import Hearing


@pytest.fixture
def desk(opened):
    """Chapters one and two with made hearings: word k at second k/2; misreads, a name and a breath."""
    window = opened.window
    hop = window.bench.book.rate // 2
    for chapter in window.bench.book.chapters[:2]:
        words = window.bench.text(chapter).words
        heard = [Heard(w.text, i * hop, i * hop + hop // 2, 1.0) for i, w in enumerate(words)]
        placed = tuple(Placed(h.start, h.stop, 1.0) for h in heard)
        links = tuple((i, i + 1, i, i + 1, True) for i in range(len(words)))
        name = next(i for i, w in enumerate(words) if w.text.startswith(("Tarrow", "Nell")))
        found = (
            Finding("f1", Kind.MISREAD, words[10].text, "other", 10, 1, 10 * hop, 10 * hop + 999, 0.9),
            Finding("f2", Kind.MISREAD, words[name].text, "taro", name, 1, name * hop, name * hop + 999, 0.6),
            Finding("f3", Kind.NOISE, "", "", 50, 0, 50 * hop, 50 * hop + 999, 0.7, Evidence(flaw="breath", note="a breath")),
            Finding("f4", Kind.MISREAD, words[60].text, "other", 60, 1, 60 * hop, 60 * hop + 999, 0.95),
            Finding("f5", Kind.SKIPPED, words[70].text, "", 70, 1, 70 * hop, 70 * hop, 0.85),
        )
        key = window.bench.session.store.put(Hearing, Hearing(tuple(heard), placed, links))
        window.bench.do(PlaceHearing(chapter.id, key, found))
    opened.do("view.proof")
    return window.panels["proof"]


def chapter(opened):
    return opened.bookstate.chapters[0]


def play(opened, start_s, seconds):
    """Let the sound go out for a while, as the card's clock tells it."""
    window = opened.window
    rate = window.bench.book.rate
    window.transport.play_from(round(start_s * rate))
    opened.qtbot.waitUntil(lambda: window.parts.player.position >= (start_s + seconds) * rate, timeout=20_000)


def test_what_was_played_counts_as_listened_and_stays(opened, desk):
    play(opened, 2.0, 0.6)
    opened.window.parts.player.stop()
    rows = opened.window.parts.proof.listening.listened("c1")
    assert [r[0] for r in rows] == [chapter(opened).recording]
    assert rows[0][1] == 2 * 44_100
    assert 0.6 * 44_100 <= rows[0][2] - rows[0][1] < 3 * 44_100
    before = opened.window.parts.proof.listening.share(chapter(opened))
    assert before > 0
    opened.reopen()
    assert opened.window.parts.proof.listening.listened("c1") == rows
    assert opened.window.parts.proof.listening.share(chapter(opened)) == before
    assert "% listened" in opened.window.contents.item(0).toolTip()


def test_deciding_counts_as_listening_and_u_goes_to_the_rest(opened, desk):
    listening = opened.window.parts.proof.listening
    state = chapter(opened)
    listening.begin("c1", state.reel, 0)
    listening.reach(10 * 44_100)
    listening.end()
    opened.window.transport.spot = 0
    opened.keys("u")
    assert opened.window.transport.spot == 10 * 44_100
    left = sum(map(len, listening.unheard(state)))
    opened.window.parts.proof.choose("f4")
    opened.keys("s")
    assert sum(map(len, listening.unheard(chapter(opened)))) == left - 999
    listening.begin("c1", state.reel, 0)
    listening.reach(len(state.reel))
    listening.end()
    opened.keys("u")
    assert "All of this chapter" in opened.window.notice.text()


def test_a_chapter_is_signed_off_and_what_changes_asks_to_be_heard_again(opened, desk):
    listening = opened.window.parts.proof.listening
    state = chapter(opened)
    listening.begin("c1", state.reel, 0)
    listening.reach(len(state.reel))
    listening.end()
    opened.do("proof.sign")
    assert "signed off, with 5 findings open" in opened.window.notice.text()
    assert opened.window.contents.item(0).toolTip().endswith("signed off · 100 % listened")
    opened.click_word(30)
    opened.do("edit.cut_close")
    assert "changed since" in opened.window.contents.item(0).toolTip()
    assert 0 < sum(map(len, listening.unheard(chapter(opened)))) <= 2 * 44_100
    opened.do("edit.undo")
    assert "signed off" in opened.window.contents.item(0).toolTip()
    opened.do("proof.sign")
    assert chapter(opened).signed == ""


def test_a_word_is_flagged_and_noted_while_the_sound_goes_on(opened, desk):
    play(opened, 5.1, 0.3)
    opened.keys("g")
    assert opened.window.parts.player.playing
    flagged = chapter(opened).finding("h0001")
    assert flagged.kind is Kind.OTHER
    assert 10 <= flagged.word_index <= 14
    opened.keys("f")
    assert desk.note.isVisible()
    assert opened.window.parts.player.playing
    desk.note.kind.setCurrentIndex(desk.note.kind.findData(Kind.PAUSE))
    QTest.keyClicks(desk.note.text, "too long? p s m")
    QTest.keyClick(desk.note.text, Qt.Key.Key_Return)
    assert opened.window.parts.player.playing
    assert not desk.note.isVisible()
    noted = chapter(opened).finding("h0002")
    assert (noted.kind, noted.note, noted.word_count) == (Kind.PAUSE, "too long? p s m", 1)
    opened.window.parts.player.stop()


def test_a_note_on_selected_words_and_escape_keeps_nothing(opened, desk):
    opened.click_word(5)
    opened.click_word(8, shift=True)
    opened.keys("f")
    QTest.keyClick(desk.note.text, Qt.Key.Key_Escape)
    assert not desk.note.isVisible()
    opened.keys("f")
    QTest.keyClick(desk.note.text, Qt.Key.Key_Return)
    assert chapter(opened).finding("h0001").word_count == 4


def test_a_note_on_a_stretch_of_sound_marked_in_the_loupe(opened, desk):
    window = opened.window
    window.loupe.look_at(20 * 44_100, span_s=4.0)
    y = window.loupe.height() // 2
    QTest.mousePress(window.loupe, Qt.MouseButton.LeftButton, pos=QPoint(300, y))
    QTest.mouseMove(window.loupe, QPoint(340, y))
    QTest.mouseMove(window.loupe, QPoint(400, y))
    QTest.mouseRelease(window.loupe, Qt.MouseButton.LeftButton, pos=QPoint(400, y))
    start, stop = window.loupe.stretch
    assert stop - start == pytest.approx(100 * window.loupe.samples_per_pixel, rel=0.05)
    opened.do("proof.note")
    QTest.keyClicks(desk.note.text, "chair")
    QTest.keyClick(desk.note.text, Qt.Key.Key_Return)
    noted = chapter(opened).finding("h0001")
    assert (noted.kind, noted.start, noted.stop, noted.word_count) == (Kind.NOISE, start, stop, 0)
    QTest.mouseClick(window.loupe, Qt.MouseButton.LeftButton, pos=QPoint(500, y))
    assert window.loupe.stretch == (-1, -1)


def rows(desk):
    return desk.list.rows.keys()


def choose(combo, text):
    combo.setCurrentIndex(combo.findText(text))
    combo.activated.emit(combo.currentIndex())


def test_the_docket_of_the_whole_book_and_by_how_sure(opened, desk):
    choose(desk.docket.scope, "book")
    assert rows(desk) == [(c.id, f.id) for c in opened.bookstate.chapters for f in c.findings]
    assert len(rows(desk)) == 10
    choose(desk.docket.sure, "over 0.8")
    assert rows(desk) == [(c, f) for c in ("c1", "c2") for f in ("f1", "f4", "f5")]
    desk.list.setCurrentIndex(desk.list.rows.index(4))
    assert opened.window.bench.chapter_id == "c2"
    assert opened.window.parts.proof.finding().id == "f4"
    opened.window.bench.open_chapter("c1")
    opened.window.parts.proof.choose("f5", "c1")
    opened.keys("s")  # the next open one is in the next chapter
    assert (opened.window.bench.chapter_id, opened.window.parts.proof.current) == ("c2", "f1")


def test_several_findings_are_decided_in_one_step(opened, desk):
    steps = opened.window.bench.session.store.count()
    desk.list.setFocus()
    desk.list.setCurrentIndex(desk.list.rows.index(0))
    for _ in range(2):
        QTest.keyClick(desk.list, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    assert "3 findings" in desk.docket.card.kind.text()
    opened.press(desk.docket.card.decisions["stet"])
    assert [f.decision.value for f in chapter(opened).findings] == ["stet", "stet", "stet", "open", "open"]
    assert opened.window.bench.session.store.count() == steps + 1
    assert opened.window.parts.proof.current == "f4"
    opened.do("edit.undo")
    assert {f.decision for f in chapter(opened).findings} == {Decision.OPEN}
    opened.window.parts.proof.select([("c1", "f1"), ("c1", "f4"), ("c2", "f1")])
    opened.do("proof.pickup")
    assert sorted((p.chapter, p.findings) for p in opened.bookstate.pickups) == [
        ("c1", ("f1",)),
        ("c1", ("f4",)),
        ("c2", ("f1",)),
    ]


def test_a_name_is_accepted_once_for_the_book(opened, desk):
    opened.window.parts.proof.choose("f2")
    opened.keys("a")
    assert [c.finding("f2").decision for c in opened.bookstate.chapters[:2]] == [Decision.STET, Decision.STET]
    assert "2 findings" in opened.window.notice.text()
    state = chapter(opened)
    again = Finding(
        "f9", Kind.MISREAD, "Tarrow’s" if "Tarrow" in state.finding("f2").written else "Nell", "taro", 90, 1, 5, 9, 0.8
    )
    opened.window.bench.do(PlaceHearing("c1", state.hearing, (again,)))
    assert chapter(opened).finding("f9").decision is Decision.STET
    opened.window.parts.proof.choose("f5")
    opened.keys("a")
    assert "single word" in opened.window.notice.text()


def test_a_kind_of_flaw_is_switched_off_and_stays_off(opened, desk, monkeypatch):
    def unchecked(dialog):
        from PyQt6.QtWidgets import QCheckBox

        next(b for b in dialog.findChildren(QCheckBox) if b.text() == "breath").setChecked(False)
        return 1

    monkeypatch.setattr(QDialog, "exec", unchecked)
    opened.do("proof.flaws")
    assert ("c1", "f3") not in rows(desk)
    assert desk.docket.unfold.text() == "1 folded"
    assert opened.window.desk_buttons["proof"].text() == "Proof 8"
    opened.reopen()
    desk = opened.window.panels["proof"]
    opened.do("view.proof")
    assert ("c1", "f3") not in rows(desk)
    opened.do("proof.doubtful")
    assert ("c1", "f3") in rows(desk)


def test_names_are_listed_heard_and_noted(opened, desk):
    opened.do("proof.names")
    opened.idle()
    pane = desk.names
    words = [pane.view.item(r, 0).text() for r in range(pane.view.rowCount())]
    assert "Tarrow" in words
    assert "Nell" in words
    row = words.index("Nell")
    pane.view.setCurrentCell(row, 0)
    assert pane.view.item(row, 2).text().split(" of ")[0] != "0"
    opened.press(pane.go)
    assert opened.window.bench.text(opened.window.bench.chapter).words[desk.galley.cursor_word].text.startswith("Nell")
    opened.press(pane.hear)
    assert opened.window.parts.player.playing
    opened.window.parts.player.stop()
    pane.view.item(row, 4).setText("rhymes with bell")
    assert dict(opened.bookstate.say) == {"nell": "rhymes with bell"}
    opened.press(pane.compare)
    opened.idle()
    assert opened.window.notice.text()
    opened.do("proof.names")
    assert desk.side.currentIndex() == 0


def test_the_word_at_the_cursor_is_heard_elsewhere(opened, desk):
    words = opened.window.bench.text(chapter(opened)).words
    opened.click_word(next(i for i, w in enumerate(words) if w.text == "the"))
    opened.keys("w")
    opened.idle()
    assert "other places" in opened.window.notice.text()
    assert opened.window.parts.player.playing
    opened.window.parts.player.stop()


def test_strips_and_lines_are_zoomed_and_stay_so(opened, desk):
    galley = opened.window.galley
    lines, height = galley.lines, galley.line_height
    opened.do("view.taller")
    assert galley.line_height > height
    assert galley.lines == lines
    for _ in range(3):
        opened.do("view.wider")
    assert galley.lines > lines
    wide = galley.lines
    opened.reopen()
    assert opened.window.galley.lines == wide
    assert opened.window.galley.line_height > height
    for _ in range(6):
        opened.do("view.narrower")
    assert opened.window.galley.lines == lines


def test_a_loop_counts_as_listened_and_what_it_jumps_over_does_not(opened, desk):
    listening, state = opened.window.parts.proof.listening, chapter(opened)
    recording = state.recording
    listening.begin("c1", state.reel, 150_000)
    for position in (160_000, 200_000, 100_000, 120_000, 140_000, 100_000, 130_000):  # twice round
        listening.reach(position)
    listening.end()
    assert listening.listened("c1") == ((recording, 100_000, 140_000), (recording, 150_000, 200_000))
    listening.begin("c1", state.reel, 300_000)
    listening.end()  # nothing was heard of it
    listening.reach(400_000)
    assert listening.listened("c1") == ((recording, 100_000, 140_000), (recording, 150_000, 200_000))
    listening.begin("c1", state.reel, 130_000)
    listening.reach(160_000)
    listening.begin("c1", state.reel, 500_000)  # another stretch ends the one before
    listening.end()
    assert listening.listened("c1") == ((recording, 100_000, 200_000),)
