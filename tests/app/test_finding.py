"""Finding places, sifting the docket and writing reports, in the real window."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from faithful_reel.core.book.commands import PlaceHearing
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.text.spoken import plain
from faithful_reel.core.work.timeline import Hearing


@pytest.fixture
def desk(opened):
    """Chapter one with a made hearing: word k at second k/2, and four findings."""
    window = opened.window
    chapter = window.bench.chapter
    words = window.bench.text(chapter).words
    hop = window.bench.book.rate // 2
    heard = [Heard(w.text, i * hop, i * hop + hop // 2, 1.0) for i, w in enumerate(words)]
    heard[30] = Heard("walrus", heard[30].start, heard[30].stop, 1.0)
    placed = tuple(Placed(h.start, h.stop, 1.0) for h in heard)
    links = tuple((i, i + 1, i, i + 1, i != 30) for i in range(len(words)))
    kinds = (Kind.MISREAD, Kind.SKIPPED, Kind.MISREAD, Kind.PAUSE)
    found = tuple(
        Finding(f"f{n}", kind, words[w].text, "", w, 1, w * hop, w * hop + 999, sure)
        for n, (kind, w, sure) in enumerate(zip(kinds, (10, 30, 50, 70), (0.9, 0.6, 0.7, 0.8), strict=True))
    )
    key = window.bench.session.store.put(Hearing, Hearing(tuple(heard), placed, links))
    window.bench.do(PlaceHearing(chapter.id, key, found))
    opened.do("view.proof")
    return window.panels["proof"]


def search(opened, desk, text, *, times=1):
    opened.do("proof.search")
    desk.search.wanted.setText(text)
    for _ in range(times):
        QTest.keyClick(desk.search.wanted, Qt.Key.Key_Return)


def words_of(opened):
    return [w.text for w in opened.window.bench.text(opened.window.bench.chapter).words]


def test_the_next_place_of_a_word_and_round_the_end(opened, desk):
    words = words_of(opened)
    places = [i for i, w in enumerate(words) if plain(w).startswith("the")]
    search(opened, desk, "The")
    assert desk.galley.cursor_word == places[0]
    QTest.keyClick(desk.search.wanted, Qt.Key.Key_Return)
    assert desk.galley.cursor_word == next(p for p in places if p > places[0])
    for _ in range(len(words)):
        if desk.galley.cursor_word == places[-1]:
            break
        QTest.keyClick(desk.search.wanted, Qt.Key.Key_Return)
    QTest.keyClick(desk.search.wanted, Qt.Key.Key_Return)
    assert desk.galley.cursor_word == places[0]
    assert desk.search.found.text() == ""


def test_several_words_the_last_only_begun(opened, desk):
    words = words_of(opened)
    wanted = f"{words[60]} {words[61]} {words[62][:2]}"
    search(opened, desk, wanted.upper())
    assert desk.galley.cursor_word == 60
    search(opened, desk, "zebra crossing")
    assert desk.search.found.text() == "not in this chapter"
    assert desk.galley.cursor_word == 60


def test_what_was_heard_is_found_where_it_was_read(opened, desk):
    search(opened, desk, "walrus")
    assert desk.search.found.text() == "not in this chapter"
    desk.search.in_heard.setChecked(True)
    search(opened, desk, "walrus")
    assert desk.galley.cursor_word == 30


def test_a_page_and_a_time(opened, desk):
    page = opened.window.bench.text(opened.window.bench.chapter).words[0].page
    search(opened, desk, f"p {page}")
    assert desk.galley.cursor_word == 0
    search(opened, desk, "0:00:25")
    assert opened.window.transport.spot == 25 * opened.window.bench.book.rate
    search(opened, desk, "9:00:00")
    assert "does not last that long" in opened.window.notice.text()
    QTest.keyClick(desk.search.wanted, Qt.Key.Key_Escape)
    assert not desk.search.isVisible()


def shown(desk):
    keys = desk.list.rows.keys()
    return [finding for _, finding in keys]


def choose(combo, text):
    combo.setCurrentIndex(combo.findText(text))
    combo.activated.emit(combo.currentIndex())


def test_the_docket_is_sifted_by_kind_decision_and_doubt(opened, desk):
    assert shown(desk) == ["f0", "f1", "f2", "f3"]
    choose(desk.docket.kinds, "misread")
    assert shown(desk) == ["f0", "f2"]
    choose(desk.docket.order, "by doubt")
    assert shown(desk) == ["f2", "f0"]
    choose(desk.docket.kinds, "all kinds")
    assert shown(desk) == ["f1", "f2", "f3", "f0"]
    choose(desk.docket.decisions, "open")
    opened.window.parts.proof.choose("f1")
    opened.keys("s")  # a decided one leaves the list, and the next is at hand
    assert shown(desk) == ["f2", "f3", "f0"]
    assert opened.window.parts.proof.current == "f2"
    choose(desk.docket.decisions, "pickup")
    assert shown(desk) == []
    assert "Choose all kinds" in desk.docket.empty.text()
    assert opened.bookstate.chapters[0].finding("f1").decision is Decision.STET


@pytest.mark.parametrize("suffix", [".pdf", ".html", ".xlsx", ".csv"])
def test_a_report_is_written(opened, desk, tmp_path, monkeypatch, suffix):
    out = tmp_path / f"report{suffix}"
    monkeypatch.setattr("PyQt6.QtWidgets.QInputDialog.getItem", lambda *_args, **_more: ("the whole book", True))
    monkeypatch.setattr("PyQt6.QtWidgets.QFileDialog.getSaveFileName", lambda *_: (str(out), ""))
    opened.do("proof.report")
    opened.idle()
    assert out.stat().st_size > 300
    assert f"The report is in report{suffix}" in opened.window.notice.text()


def test_a_rough_cut_is_one_step(opened, desk):
    before = opened.bookstate
    opened.do("proof.rough")  # the made chapter holds one pause only, too short to be shortened
    assert "nothing to cut" in opened.window.notice.text()
    chapter = before.chapters[0]
    repeat = Finding("r", Kind.REPEATED, "", "walrus", 30, 0, chapter.findings[1].start, chapter.findings[1].stop + 9000, 0.9)
    opened.window.bench.do(PlaceHearing(chapter.id, chapter.hearing, (*chapter.findings, repeat)))
    length = len(opened.bookstate.chapters[0].reel)
    opened.do("proof.rough")
    assert "Rough cut: 1 places" in opened.window.notice.text()
    assert len(opened.bookstate.chapters[0].reel) < length
    assert opened.bookstate.chapters[0].finding("r").decision is Decision.MEND
    opened.do("edit.undo")
    assert len(opened.bookstate.chapters[0].reel) == length
