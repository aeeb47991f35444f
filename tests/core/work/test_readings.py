"""Readings of a line: found, judged, swapped, and swapped back."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.collate.findings import Decision, Evidence, Finding, Kind
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.reel.reel import reel_of
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.work.readings import better_retake, retakes_of, swapped
from faithful_reel.core.work.timeline import Hearing, tokens_of

RATE = 44_100
WORD, PAUSE = 12_000, 30_000
TEXT = chapter_of("x", ["One came. The boat was late. Nobody spoke."])
READ = "One came. The boat was late. The boat was late. Nobody spoke.".split()


def spoken():
    at, heard = RATE, []
    for text in READ:
        heard.append(Heard(text, at, at + WORD, 0.9))
        at += WORD + (PAUSE if text.endswith(".") else 500)
    return heard, at + RATE


def finding(kind, index, count, start, stop, name="f0001", heard="The boat was late.", confidence=0.9):
    return Finding(name, kind, "", heard, index, count, start, stop, confidence)


@pytest.fixture
def state():
    heard, length = spoken()
    rows = [(i, i + 1, j, j + 1, True) for i, j in zip(range(8), [0, 1, 6, 7, 8, 9, 10, 11], strict=True)]
    placed = tuple(Placed(heard[j].start, heard[j].stop, 0.9) for _, _, j, _, _ in rows)
    hearing = Hearing(tuple(heard), placed, tuple(rows))
    other = finding(Kind.REPEATED, 2, 4, heard[2].start, heard[5].stop)
    chapter = ChapterState("c", "One", "t", "r", "h", (other,), reel_of("r", length))
    book = Book(recordings=(Recording("r", "r", ".wav", RATE, 1, length, 0, 0, 0, None),), chapters=(chapter,))
    return book, chapter, hearing


def heard_at(book, chapter, hearing):
    """(text, recording position) of every written word in the order of the reel."""
    tokens = tokens_of(book, chapter, [w.text for w in TEXT.words], hearing)
    return [(t.text, t.start) for t in tokens.heard() if not t.extra]


def test_takes_are_judged(state):
    _, chapter, _ = state
    (take,) = retakes_of(TEXT, chapter.findings)
    assert take.good
    assert take.verdict == "complete and as written"
    short = replace(chapter.findings[0], word_count=2, heard="The boat", kind=Kind.FALSE_START)
    wrong = replace(chapter.findings[0], heard="The boat was lame.")
    noise = finding(Kind.NOISE, 2, 0, chapter.findings[0].start + 10, chapter.findings[0].start + 200, "f0002")
    assert retakes_of(TEXT, [short])[0].verdict == "broken off"
    assert retakes_of(TEXT, [wrong])[0].verdict == "1 word departs"
    assert retakes_of(TEXT, [chapter.findings[0], noise])[0].verdict == "1 noise"


def test_a_reading_unlike_its_neighbours_is_not_good(state):
    _, chapter, _ = state
    soft = replace(chapter.findings[0], evidence=Evidence(level_db=-6.0, pace=1.5))
    (take,) = retakes_of(TEXT, [soft])
    assert take.verdict == "6 dB softer, faster"
    assert not take.good
    alike = replace(chapter.findings[0], evidence=Evidence(level_db=3.0, pace=0.8))
    assert retakes_of(TEXT, [alike])[0].good


def test_slips_of_one_word_and_doubtful_ones_are_no_takes(state):
    _, chapter, _ = state
    one = replace(chapter.findings[0], word_count=1, heard="The")
    doubtful = replace(chapter.findings[0], confidence=0.2)
    assert retakes_of(TEXT, [one, doubtful]) == ()


def test_the_last_reading_is_kept_unless_it_is_worse(state):
    _, chapter, _ = state
    assert not better_retake(TEXT, chapter.findings, "f0001")
    misread = finding(Kind.MISREAD, 5, 1, 0, 1, "f0002", "lame.")
    assert better_retake(TEXT, [*chapter.findings, misread], "f0001")


def test_a_swap_puts_the_other_reading_in_and_leaves_no_second_one(state):
    book, chapter, hearing = state
    command, anew = swapped(book, chapter, TEXT, hearing, "f0001")
    after = replace(command, hearing="h2").apply(book).chapter("c")
    texts = [t for t, _ in heard_at(book, after, anew)]
    assert texts == [w.text for w in TEXT.words]
    boat = next(i for i, w in enumerate(TEXT.words) if w.text == "boat")
    assert anew.placed[boat] == Placed(hearing.heard[3].start, hearing.heard[3].stop, 0.9)
    tokens = tokens_of(book, after, [w.text for w in TEXT.words], anew)
    assert not any(t.extra for t in tokens)  # neither reading is heard twice
    assert after.findings[0].start == hearing.heard[6].start
    assert after.hearing == "h2"
    assert len(chapter.reel) - len(after.reel) >= 4 * WORD


def test_swapped_twice_is_the_first_reading_again(state):
    book, chapter, hearing = state
    command, anew = swapped(book, chapter, TEXT, hearing, "f0001")
    once = replace(command, hearing="h2").apply(book)
    command, back = swapped(once, once.chapter("c"), TEXT, anew, "f0001")
    twice = replace(command, hearing="h3").apply(once).chapter("c")
    assert back.placed == hearing.placed
    assert [t for t, _ in heard_at(book, twice, back)] == [w.text for w in TEXT.words]
    starts = np.diff([s for _, s in heard_at(book, twice, back)])
    assert (starts > 0).all()


def test_what_is_no_take_is_refused(state):
    book, chapter, hearing = state
    with pytest.raises(EditRefused, match="no other reading"):
        swapped(book, chapter, TEXT, hearing, "f9999")
    with pytest.raises(EditRefused, match="no other reading"):
        swapped(book, chapter, TEXT, None, "f0001")


def test_hearing_again_keeps_what_the_editor_noted_and_decided(state):
    from faithful_reel.core.book.commands import PlaceHearing

    book, _, _ = state
    noted = finding(Kind.OTHER, 0, 1, 10, 20, "h0001", "")
    decided = replace(finding(Kind.MISREAD, 5, 1, 900, 990, "f0002", "lame."), decision=Decision.STET)
    dropped = finding(Kind.MISREAD, 6, 1, 990, 1000, "f0003", "Anybody")
    book = book.with_chapter("c", lambda c: replace(c, findings=(noted, decided, dropped)))
    fresh = finding(Kind.MISREAD, 1, 1, 50, 60, "f0002", "went")
    kept = PlaceHearing("c", "h2", (fresh,)).apply(book).chapter("c").findings
    assert [(f.heard, f.decision.value) for f in kept] == [("", "open"), ("went", "open"), ("lame.", "stet")]
    assert len({f.id for f in kept}) == 3
