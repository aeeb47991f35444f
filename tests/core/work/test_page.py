"""What stands on the page beside the words."""

from __future__ import annotations

from dataclasses import replace

import pytest
from support.chapters import LENGTH, TONE, made, place

from faithful_reel.core.collate.findings import Decision, Evidence, Finding, Kind
from faithful_reel.core.pickups.ledger import Pickup, State
from faithful_reel.core.reel.commands import CutAndClose, ReplaceByTake
from faithful_reel.core.text.words import Chapter, Word, chapter_of
from faithful_reel.core.units import Span
from faithful_reel.core.work.page import Mark, Other, margin_note, marks_of, others_of, styles_of
from faithful_reel.core.work.readings import Retake


def found(name, kind=Kind.MISREAD, slot=5, word=5, count=1, heard="great", **more):
    return Finding(name, kind, "line", heard, word, count, place(slot), place(slot) + LENGTH, 0.9, **more)


def open_ones(_finding):
    return False


# --- styles -----------------------------------------------------------------------------------------------------------


def test_styles_are_one_row_a_word_and_a_last_one_for_words_that_are_only_heard():
    text = chapter_of("x", ["Chapter One", "Low Water", "The tide went out.", "It came back."])
    words = tuple(replace(w, italic=i == 5, page=3 if i < 6 else 4) for i, w in enumerate(text.words))
    styles = styles_of(Chapter(text.title, words, ()))
    assert styles.paragraphs.tolist() == [0, 0, 1, 1, 2, 2, 2, 2, 3, 3, 3, 0]
    assert styles.headings.tolist() == [1, 1, 1, 1, 0, 0, 0, 0, 0, 0, 0, 0]
    assert styles.italics.tolist() == [0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0]
    assert styles.pages == ((0, 3), (6, 4))


def test_pages_are_told_where_they_begin_and_nowhere_else():
    words = tuple(Word(str(i), 0, 0, page=p) for i, p in enumerate([0, 0, 7, 7, 8, 8, 9]))
    assert styles_of(Chapter("x", words, ())).pages == ((2, 7), (4, 8), (6, 9))


@pytest.mark.parametrize(
    ("first", "headings"),
    [
        ("Chapter One", 2),
        ("Chapter One of the eight longest ones here", 8),
        ("Chapter One of the eight longest ones here indeed", 0),
        ("He left.", 0),
        ("“He left”", 0),
        ("Is it late?", 0),
        ("Run!", 0),
    ],
)
def test_a_heading_is_short_and_no_sentence(first, headings):
    styles = styles_of(chapter_of("x", [first, "The tide went out that night."]))
    assert int(styles.headings.sum()) == headings


def test_only_the_first_two_paragraphs_can_be_headings():
    styles = styles_of(chapter_of("x", ["One", "Low Water", "Third", "The tide went out that night."]))
    assert styles.headings.tolist()[:4] == [1, 1, 1, 0]


# --- marks ------------------------------------------------------------------------------------------------------------


def test_a_finding_is_marked_where_it_is_heard():
    book, chapter, _ = made()
    wanted = found("f1", decision=Decision.STET)
    cut = replace(chapter, reel=CutAndClose(0, 1000).apply(chapter.reel))
    [mark] = marks_of(book, cut, (wanted,), open_ones)
    assert mark == Mark(
        "f1", Kind.MISREAD, 5, 1, place(5) - 1000, place(5) + LENGTH - 1000, "great", Decision.STET, doubtful=False
    )
    [folded] = marks_of(book, cut, (wanted,), lambda f: f.id == "f1")
    assert folded.doubtful


def test_what_was_cut_is_not_marked_but_a_skipped_word_is():
    book, chapter, _ = made()
    cut = replace(chapter, reel=CutAndClose(place(4), place(7)).apply(chapter.reel))
    skipped = replace(found("f2", Kind.SKIPPED, heard=""), start=place(5), stop=place(5))
    marks = marks_of(book, cut, (found("f1"), skipped), open_ones)
    assert [(m.id, m.start, m.stop) for m in marks] == [("f2", -1, -1)]
    unheard = marks_of(book, replace(chapter, reel=None), (found("f1"),), open_ones)
    assert [(m.id, m.start) for m in unheard] == [("f1", -1)]


@pytest.mark.parametrize(
    ("state", "is_in"), [(State.SPLICED, True), (State.PASSED, True), (State.CHOSEN, False), (State.DROPPED, False)]
)
def test_a_take_that_is_in_stands_for_its_findings(state, is_in):
    book, chapter, _ = made()
    edit = ReplaceByTake(place(4), place(6), "r2", 1000, 50_000, 0.0, TONE, take="p")
    chapter = replace(chapter, reel=edit.apply(chapter.reel))
    pickup = Pickup("p", "c1", ("f1",), "A line", "x", 4, 2, place(4), place(6), state=state)
    book = replace(book, chapters=(chapter,), pickups=(pickup, replace(pickup, id="q", chapter="c2")))
    marks = marks_of(book, chapter, (found("f1", slot=9, word=9),), open_ones)
    if is_in:
        [mark] = marks
        assert (mark.id, mark.kind, mark.first, mark.count) == ("p", None, 4, 2)
        assert (mark.start, mark.stop) == (place(4), place(4) + 49_000)
        assert mark.note == {State.SPLICED: "put in", State.PASSED: "passed"}[state]
        assert mark.decision is Decision.PICKUP
    else:
        assert [m.id for m in marks] == ["f1"]


@pytest.mark.parametrize(
    ("finding", "told"),
    [
        (found("f", Kind.MISREAD), "great"),
        (found("f", Kind.ADDED, heard="well"), "well"),
        (found("f", Kind.SKIPPED), "not read"),
        (found("f", Kind.REPEATED), "read twice"),
        (found("f", Kind.FALSE_START), "false start"),
        (found("f", Kind.NAME), "spoken unlike"),
        (found("f", Kind.PAUSE), "pause"),
        (found("f", Kind.NOISE), "noise"),
        (found("f", Kind.NOISE, evidence=Evidence(flaw="plosive")), "plosive"),
        (found("f", Kind.LEVEL, evidence=Evidence(flaw="breath")), "breath"),
        (found("f", Kind.OTHER), "note"),
        (found("f", Kind.OTHER, note="softer"), "softer"),
    ],
)
def test_every_kind_has_its_word_in_the_margin(finding, told):
    assert margin_note(finding) == told


def test_other_readings_stand_in_order_of_their_words():
    rows = [
        Retake("b", range(9, 12), ("x",), Span(5, 9), "x", complete=True, flaws=0),
        Retake("a", range(2, 4), ("y",), Span(50, 90), "y", complete=True, flaws=0),
    ]
    assert others_of(rows) == (Other("a", 2, 2, 50, 90), Other("b", 9, 3, 5, 9))
