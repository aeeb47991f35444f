"""Where edges go, and what is done with a span."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest

from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.book.pickups import TakeOut, is_in
from faithful_reel.core.collate.findings import Finding, Kind
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.pickups.ledger import Pickup, State
from faithful_reel.core.pickups.ledger import Placed as PutIn
from faithful_reel.core.reel.commands import CutAndClose, CutAndFill, Paste
from faithful_reel.core.reel.reel import Lane, Marker, Piece, Reel, Rest, ToneSource, printed_of
from faithful_reel.core.text.words import Chapter, Word
from faithful_reel.core.units import Span
from faithful_reel.core.work.editing import (
    Stop,
    as_copy,
    content_for,
    copy_of,
    filled,
    kept_only,
    moved_to,
    onset_beside,
    paused,
    quietest,
    stops_of,
    taken_out,
    words_between,
)
from faithful_reel.core.work.mending import lane_tone
from faithful_reel.core.work.timeline import Hearing, Tokens, tokens_of

RATE = 1000
TONE, OWN = ToneSource("r", 0, 200), ToneSource("s", 5, 90)


def recording(name, tone):
    return Recording(name, name, ".wav", RATE, 1, 4000, -3.0, -60.0, -20.0, tone)


def made():
    words = tuple(Word(w, sentence=i >= 2, paragraph=0) for i, w in enumerate(("One", "two", "Three", "four")))
    starts, stops = np.array([100, 300, 900, 1100]), np.array([250, 420, 1050, 1300])
    tokens = Tokens([w.text for w in words], np.arange(4), starts, stops)
    lanes = (
        Lane("voice", (Piece("r", 0, 500), Piece("r", 500, 2000))),
        Lane("other", (Piece("s", 0, 1500),)),
        Lane("music", (Piece("m", 0, 800),), music=True),
        Lane("own", (Piece("m", 0, 800),), tone=OWN),
    )
    reel = Reel(lanes, (Marker("m1", 700), Marker("m2", 40)))
    findings = (Finding("f1", Kind.MISREAD, "two", "to", 1, 1, 300, 420, 0.9),)
    chapter = ChapterState("c1", "One", "t", "r", "h", findings, reel)
    book = Book(rate=RATE, chapters=(chapter,), recordings=(recording("r", TONE), recording("s", OWN)))
    return book, chapter, Chapter("One", words), tokens


def test_places_of_every_kind_are_found_either_way():
    _, chapter, text, tokens = made()
    stops = stops_of(chapter, text, tokens, RATE)
    assert stops.rows[Stop.WORD] == (100, 250, 300, 420, 900, 1050, 1100, 1300)
    assert stops.rows[Stop.SENTENCE] == (100, 900)
    assert stops.rows[Stop.PAUSE] == (420,)  # 0.48 s; the others are shorter than a quarter of a second
    assert stops.rows[Stop.JOIN] == (500,)
    assert stops.rows[Stop.MARKER] == (40, 700)
    assert stops.rows[Stop.FINDING] == (300,)
    assert stops.beside(Stop.SENTENCE, 100, 1) == 900
    assert stops.beside(Stop.SENTENCE, 100, -1) is None
    assert stops.beside(Stop.SENTENCE, 101, -1) == 100
    assert stops.beside(Stop.MARKER, 700, 1) is None


@pytest.mark.parametrize(
    ("at", "reach", "found"), [(103, 10, 100), (96, 10, 100), (111, 10, None), (250, 0, 250), (699, 5, 700), (276, 25, 300)]
)
def test_the_nearest_place_within_reach(at, reach, found):
    _, chapter, text, tokens = made()
    assert stops_of(chapter, text, tokens, RATE).nearest({Stop.WORD, Stop.MARKER}, at, reach) == found


def test_a_valley_is_the_quietest_moment_within_thirty_milliseconds():
    rate = 44_100
    x = np.full(rate, 0.1)
    x[20_000:20_200] = 0.001  # 453 samples beside where it is looked for
    x[30_000:30_200] = 0.0  # too far
    at = quietest(lambda a, b: x[a:b], 20_500, rate, rate)
    assert 20_000 <= at - 88 <= at + 88 <= 20_200
    assert quietest(lambda a, b: x[a:b], 0, 10, rate) == 0


def test_an_onset_is_a_rise_out_of_quiet_found_ten_milliseconds_early():
    rate = 44_100
    x = np.full(10 * rate, 0.001)
    for at in (2 * rate, 5 * rate):
        x[at : at + rate] = 0.5
    x[6 * rate + 400 : 6 * rate + 4000] = 0.4  # 10 ms after the sound before: no onset

    def columns(edges):
        return np.array([[x[int(a) : int(b)].min() for a, b in itertools.pairwise(edges)],
                         [x[int(a) : int(b)].max() for a, b in itertools.pairwise(edges)]])  # fmt: skip

    found = onset_beside(columns, 0, len(x), rate, 1)
    assert found == pytest.approx(2 * rate - 441, abs=0.006 * rate)
    assert onset_beside(columns, found, len(x), rate, 1) == pytest.approx(5 * rate - 441, abs=0.006 * rate)
    assert onset_beside(columns, 9 * rate, len(x), rate, -1) == pytest.approx(5 * rate - 441, abs=0.006 * rate)
    assert onset_beside(columns, 6 * rate, len(x), rate, 1) is None


@pytest.mark.parametrize(
    ("span", "words"),
    [((100, 420), (0, 1)), ((180, 420), (1, 1)), ((160, 420), (0, 1)), ((430, 890), (-1, -1)), ((0, 2000), (0, 3)), ((300, 360), (-1, -1)), ((300, 361), (1, 1))],
)  # fmt: skip
def test_words_of_which_more_than_half_is_in_a_span(span, words):
    _, _, _, tokens = made()
    assert words_between(tokens, Span(*span)) == words


def test_several_stretches_are_taken_out_the_last_first_and_those_that_touch_as_one():
    assert taken_out([Span(10, 20), Span(50, 60), Span(20, 30), Span(5, 5)]) == [CutAndClose(50, 60), CutAndClose(10, 30)]


def test_each_lane_is_filled_with_its_own_tone_and_music_with_nothing():
    book, chapter, _, _ = made()
    assert [lane_tone(book, chapter, k) for k in range(4)] == [TONE, OWN, None, OWN]
    assert filled(book, chapter, [Span(10, 20)], [0, 2]) == [CutAndFill(10, 20, TONE, 0), CutAndFill(10, 20, None, 2)]
    done = filled(book, chapter, [Span(10, 20)], [2])[0].apply(chapter.reel)
    assert done.lanes[2].segments[1] == Rest(10)
    assert paused(book, chapter, 7, 30, 1).tone == OWN


def test_all_but_some_stretches_go():
    _, chapter, _, _ = made()
    edits = kept_only(chapter.reel, [Span(100, 200), Span(300, 400)])
    reel = chapter.reel
    for edit in edits:
        reel = edit.apply(reel)
    assert [(s.start, s.stop) for s in reel.lanes[0].segments] == [(100, 200), (300, 400)]
    for everything in ([Span(0, 2000)], []):
        with pytest.raises(EditRefused, match="all of the chapter"):
            kept_only(chapter.reel, everything)


def chapter_of(*lanes):
    return ChapterState("other", "Other", "t", reel=Reel(lanes))


def test_what_was_copied_goes_to_the_lanes_of_its_names_or_its_kind_and_nothing_is_left_out_unsaid():
    _, chapter, _, _ = made()
    names = [(lane.name, lane.music) for lane in chapter.reel.lanes]
    voices = [lane.id for lane in chapter.reel.lanes if not lane.music][:2]
    copied = copy_of(chapter, [Span(100, 400), Span(10, 20)], voices, "One two")
    assert [sum(map(len, segments)) for _, segments in copied.content] == [310, 310]
    assert content_for(chapter, copied, None) == copied.content
    turned = chapter_of(*(replace(lane, id="") for lane in chapter.reel.lanes[::-1]))
    by_name = {lane.name: lane.id for lane in turned.reel.lanes}
    assert [k for k, _ in content_for(turned, copied, 0)] == [by_name[name] for name, _ in copied.lanes]
    music = Lane("sea", (Piece("r", 0, 500),), music=True)
    alone = chapter_of(music, Lane("reader", (Piece("r", 0, 500),)))
    with pytest.raises(EditRefused, match="sound of"):
        content_for(alone, copied, None)
    one = copy_of(chapter, [Span(100, 400)], voices[:1], "One")
    assert [k for k, _ in content_for(alone, one, None)] == ["l2"]
    assert [k for k, _ in content_for(alone, one, 0)] == ["l1"]
    assert names[0] in copied.lanes


def test_a_copy_of_a_take_is_not_that_take_but_what_was_moved_is():
    book, chapter, _, _ = made()
    take = replace(chapter.reel.lanes[0].segments[0], take="p1")
    content = (("l1", (take,)),)
    there = replace(book, chapters=(replace(chapter, reel=Reel((Lane("voice", (take,)),))),))
    assert as_copy(content, there)[0][1][0].take == ""
    assert as_copy(content, book) == content


def heard_words(chapter, hearing, book):
    texts = [f"w{k}" for k in range(len(hearing.placed))]
    return {t.text: (t.start, t.word) for t in tokens_of(book, chapter, texts, hearing) if t.start >= 0}


def hearing_of_words(count):
    placed = tuple(Placed(100 + 300 * k, 300 + 300 * k, 0.9) for k in range(count))
    heard = tuple(Heard(f"w{k}", p.start, p.stop, 0.9) for k, p in enumerate(placed))
    return Hearing(heard, placed, tuple((k, k + 1, k, k + 1, True) for k in range(count)))


def printed(reel, span, name="print"):
    piece = Piece(name, 50, 50 + len(span), of=printed_of(reel.lanes[0].between(span)), of_start=50)
    return Paste(span.start, span.stop, (("l1", (piece,)),), keep_time=True).apply(reel)


def test_a_print_keeps_its_words_where_they_are_also_printed_again_and_cut():
    hearing = hearing_of_words(6)
    reel = CutAndFill(650, 750, TONE).apply(Reel((Lane("voice", (Piece("r", 0, 2000),)),)))
    chapter = ChapterState("c1", "One", "t", "r", "h", (), reel)
    book = Book(rate=RATE, chapters=(chapter,), recordings=(recording("r", TONE),))
    before = heard_words(chapter, hearing, book)
    once = replace(chapter, reel=printed(reel, Span(380, 1150)))
    assert heard_words(once, hearing, book) == before
    twice = replace(chapter, reel=printed(once.reel, Span(600, 1400), "again"))
    assert heard_words(twice, hearing, book) == before
    cut = replace(chapter, reel=CutAndClose(700, 900).apply(twice.reel))
    same = replace(chapter, reel=CutAndClose(700, 900).apply(reel))
    assert heard_words(cut, hearing, book) == heard_words(same, hearing, book)
    gone = replace(chapter, reel=CutAndClose(380, 1000).apply(twice.reel))
    assert set(before) - set(heard_words(gone, hearing, book)) == {"w1", "w2"}


def test_a_print_of_a_take_is_still_that_take_to_the_ledger_but_can_not_be_taken_out_alone():
    line = Pickup("p", "c1", (), "w1 w2", "", 1, 2, 0, 9, state=State.SPLICED, placed=(PutIn("k", ()),))
    taken = Reel((Lane("voice", (Piece("r", 0, 400), Piece("k", 0, 500, take="p"), Piece("r", 900, 2000))),))
    chapter = ChapterState("c1", "One", "t", "r", "h", (), printed(taken, Span(300, 1000)))
    book = Book(rate=RATE, chapters=(chapter,), pickups=(line,))
    assert is_in(book, line)
    with pytest.raises(EditRefused, match="printed with what is around it"):
        TakeOut("p", edition=2).apply(book)


def test_a_word_that_was_moved_stands_where_it_is_heard_now_and_its_place_is_named():
    hearing = hearing_of_words(6)
    chapter = ChapterState("c1", "One", "t", "r", "h", (), Reel((Lane("voice", (Piece("r", 0, 2000),)),)))
    book = Book(rate=RATE, chapters=(chapter,), recordings=(recording("r", TONE),))
    word = copy_of(chapter, [Span(380, 650)], ["l1"], "w1")
    reel = chapter.reel
    for _, edit in moved_to(book, chapter, word, chapter, 1560, 0):
        reel = edit.apply(reel)
    tokens = list(tokens_of(book, replace(chapter, reel=reel), [f"w{k}" for k in range(6)], hearing))
    assert [(t.text, t.word, t.start >= 0) for t in tokens] == [
        ("w0", 0, True), ("w1", 1, False), ("w2", 2, True), ("w3", 3, True), ("w4", 4, True), ("w1", -1, True), ("w5", 5, True),
    ]  # fmt: skip
    starts = [t.start for t in tokens if t.start >= 0]
    assert starts == sorted(starts)
