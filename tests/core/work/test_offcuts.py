"""All that was ever cut is found in the journal, and goes back to where it was."""

from __future__ import annotations

import random

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_reel.core.book.commands import AddChapters, AddRecording, EditReel, EditReels, PairRecording
from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.book.past import Change, changes
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.errors import AppError, EditRefused
from faithful_reel.core.reel.commands import (
    CutAndClose,
    CutAndFill,
    InsertPause,
    MoveJoin,
    Paste,
    PutMarker,
    ReplaceByTake,
    SplitAt,
)
from faithful_reel.core.reel.exchanges import covered
from faithful_reel.core.reel.reel import Lane, Marker, Piece, Reel, Rest, RoomTone, ToneSource
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.units import Span
from faithful_reel.core.work.editing import copy_of
from faithful_reel.core.work.offcuts import Said, is_back, offcuts_of, put_back

RATE = 1000
LENGTH = 8000
SOUNDS = {name: np.random.default_rng(k).uniform(-1, 1, LENGTH).astype(np.float32) for k, name in enumerate("rstn")}
TONE = ToneSource("n", 100, 5000)


def recording(name):
    return Recording(name, name, ".wav", RATE, 1, LENGTH, -3.0, -60.0, -20.0, TONE)


def source(name, start, stop):
    x = np.zeros(stop - start, np.float32)
    first, last = max(0, start), min(LENGTH, stop)
    x[first - start : last - start] = SOUNDS[name][first:last]
    return x


def sound(reel):
    return Renderer(reel, source).render(0, len(reel))


def book_of(*lanes):
    chapter = ChapterState("c1", "One", "t", "r", "", (), Reel(lanes))
    return Book(
        rate=RATE, chapters=(chapter, ChapterState("c2", "Two", "t", "s", "", (), Reel((Lane("voice", (Piece("s", 0, 900),)),))))
    )


class Desk:
    """A book whose steps are kept as a journal keeps them."""

    def __init__(self, *lanes):
        self.book = book_of(*lanes)
        self.steps = []

    def do(self, *edits, chapter="c1"):
        before = self.book
        self.book = EditReels(tuple((chapter, e) for e in edits), "Some step").apply(before)
        self.steps.append(Change(len(self.steps) + 1, "2026-01-05T10:00:00", "Some step", before, self.book))

    @property
    def reel(self):
        return self.book.chapters[0].reel

    @property
    def offcuts(self):
        return offcuts_of(self.steps, "c1")


def two_lanes():
    return Lane("voice", (Piece("r", 0, 6000),)), Lane("clerk", (Rest(500), Piece("s", 0, 5000)))


def test_what_is_cut_is_listed_the_latest_first_with_when_and_by_what():
    desk = Desk(*two_lanes())
    desk.do(CutAndClose(1000, 1200))
    desk.do(CutAndFill(3000, 3100, TONE, 0))
    desk.do(InsertPause(200, 50, TONE))
    fill, cut = desk.offcuts
    assert (fill.step, fill.label, fill.lanes, fill.sounds()) == (2, "Some step", ("voice",), [("r", 3200, 3300)])
    assert (cut.step, cut.lanes, cut.sounds()) == (1, ("voice", "clerk"), [("r", 1000, 1200), ("s", 500, 700)])
    assert cut.span == Span(1000, 1200)
    assert offcuts_of(desk.steps, "c2") == []


def test_an_offcut_goes_back_to_the_sample_also_after_later_cuts_moved_its_place():
    desk = Desk(*two_lanes())
    whole = sound(desk.reel)
    desk.do(CutAndClose(2000, 2200))
    once = desk.offcuts[0]
    desk.do(*put_back(once, desk.reel))
    assert is_back(once, covered(desk.reel.lanes))
    np.testing.assert_array_equal(sound(desk.reel), whole)
    desk.do(CutAndClose(2000, 2200))
    again = desk.offcuts[0]
    desk.do(CutAndClose(100, 400))  # its place is 300 earlier now
    desk.do(CutAndClose(1500, 1900))  # and what stood just before and behind it is gone
    desk.do(*put_back(again, desk.reel))
    back = [s for s in desk.reel.lanes[0].segments if isinstance(s, Piece) and s.start == 2000]
    assert [(s.start, s.stop) for s in back] == [(2000, 2200)]
    assert desk.reel.lanes[0].starts()[desk.reel.lanes[0].segments.index(back[0])] == 1500
    assert len(desk.reel.lanes[0]) == len(desk.reel.lanes[1]) + 500


def test_what_was_laid_over_goes_back_in_the_place_of_what_covers_it():
    desk = Desk(*two_lanes())
    whole = sound(desk.reel)
    desk.do(CutAndFill(3000, 3100, TONE, 1))
    desk.do(InsertPause(200, 70, TONE))
    desk.do(*put_back(desk.offcuts[0], desk.reel))
    desk.do(CutAndClose(200, 270))
    np.testing.assert_array_equal(sound(desk.reel)[800:], whole[800:])


def test_what_came_to_its_place_since_is_not_covered():
    desk = Desk(*two_lanes())
    desk.do(CutAndClose(2000, 2200))
    other = copy_of(desk.book.chapters[1], [Span(0, 300)], ["l1"], "").content
    desk.do(Paste(2000, 2000, other))
    desk.do(*put_back(desk.offcuts[0], desk.reel))
    there = [(s.recording, s.start, s.stop) for s in desk.reel.lanes[0].segments if isinstance(s, Piece)]
    assert ("s", 0, 300) in there
    assert is_back(desk.offcuts[0], covered(desk.reel.lanes))


def test_what_is_back_or_has_no_lane_any_more_is_refused():
    desk = Desk(*two_lanes())
    desk.do(CutAndFill(3000, 3100, TONE, 1))
    cut = desk.offcuts[0]
    with pytest.raises(EditRefused, match="clerk is no longer"):
        put_back(cut, Reel((desk.reel.lanes[0],)))
    desk.do(*put_back(cut, desk.reel))
    with pytest.raises(EditRefused, match="already"):
        put_back(cut, desk.reel)


def test_what_only_moves_or_is_heard_elsewhere_is_no_offcut_nor_are_slivers():
    desk = Desk(Lane("voice", (Piece("r", 0, 2000), Piece("r", 3000, 5000))))
    desk.do(SplitAt(500, 0))
    desk.do(MoveJoin(2, -3, 0))
    copied = copy_of(desk.book.chapters[0], [Span(100, 400)], ["l1"], "").content
    desk.do(Paste(1200, 1200, copied), CutAndClose(100, 400))
    assert desk.offcuts == []


def voices():
    """Two voices that both speak all the time, the second with room tone of its own."""
    return Lane("voice", (Piece("r", 0, 6000),)), Lane("clerk", (Piece("s", 0, 6000),), tone=TONE)


def heard_on(reel, lane):
    """Which sample of which recording is heard at every place of a lane; (\"\", 0) where none is."""
    row = []
    for s in reel.lanes[lane].segments:
        row += [(s.recording, k) for k in range(s.start, s.stop)] if isinstance(s, Piece) else [("", 0)] * len(s)
    return row


def test_only_what_the_step_laid_over_comes_back_and_older_room_tone_stays():
    desk = Desk(*voices())
    desk.do(CutAndFill(1000, 2000, TONE, 0))
    older = desk.reel
    desk.do(CutAndFill(1500, 3000, TONE, 0))
    desk.do(*put_back(desk.offcuts[0], desk.reel))
    for lane in (0, 1):
        assert heard_on(desk.reel, lane) == heard_on(older, lane)
    np.testing.assert_array_equal(sound(desk.reel), sound(older))


def test_two_fills_that_overlap_go_back_in_any_order():
    desk = Desk(*voices())
    whole = desk.reel
    desk.do(CutAndFill(1000, 2000, TONE, 0))
    desk.do(CutAndFill(1500, 3000, TONE, 0))
    later, first = desk.offcuts
    desk.do(*put_back(first, desk.reel))
    assert heard_on(desk.reel, 0)[1000:2000] == heard_on(whole, 0)[1000:2000]
    desk.do(*put_back(later, desk.reel))
    for lane in (0, 1):
        assert heard_on(desk.reel, lane) == heard_on(whole, lane)


def test_all_that_was_filled_comes_back_also_what_another_lane_has():
    voice = Lane("voice", (Piece("r", 0, 3000), Piece("s", 700, 900), Piece("r", 3000, 6000)))
    desk = Desk(voice, Lane("clerk", (Piece("s", 0, 5000),)))
    whole = desk.reel
    desk.do(CutAndFill(2500, 3100, TONE, 0))
    desk.do(*put_back(desk.offcuts[0], desk.reel))
    for lane in (0, 1):
        assert heard_on(desk.reel, lane) == heard_on(whole, lane)


def test_of_two_cuts_into_one_pause_each_goes_back_to_its_own_side():
    for turn in (1, -1):
        desk = Desk(Lane("voice", (Piece("r", 0, 1000), RoomTone("n", 100, 900, 290), Piece("r", 1290, 6000))))
        whole = desk.reel
        desk.do(CutAndClose(1271, 1664), CutAndClose(802, 1115))
        for cut in desk.offcuts[::turn]:
            desk.do(*put_back(cut, desk.reel))
        assert heard_on(desk.reel, 0) == heard_on(whole, 0)


def test_a_pause_that_was_put_in_beside_it_stays():
    for at in (1000, 2000):
        desk = Desk(*voices())
        desk.do(CutAndFill(1000, 2000, TONE, 0))
        desk.do(InsertPause(at, 300, TONE, 0))
        before = heard_on(desk.reel, 1)
        desk.do(*put_back(desk.offcuts[0], desk.reel))
        assert heard_on(desk.reel, 1) == before
        row = heard_on(desk.reel, 0)
        assert len(row) == 6300
        assert row.count(("", 0)) == 300
        assert [k for _, k in row if _] == list(range(6000))


def test_cuts_beside_each_other_go_back_in_any_order():
    for turn in (0, 1):
        desk = Desk(*voices())
        whole = desk.reel
        desk.do(CutAndClose(1000, 2000))
        desk.do(CutAndClose(1000, 2000))
        for cut in desk.offcuts if turn else desk.offcuts[::-1]:
            desk.do(*put_back(cut, desk.reel))
        for lane in (0, 1):
            assert heard_on(desk.reel, lane) == heard_on(whole, lane)


def test_a_cut_through_two_lanes_is_one_offcut_whatever_lies_on_them():
    desk = Desk(*voices())
    desk.do(CutAndFill(1500, 2500, TONE, 1))
    older = desk.reel
    desk.do(CutAndClose(1000, 3000))
    cut, _ = desk.offcuts
    assert (cut.span, cut.lanes) == (Span(1000, 3000), ("voice", "clerk"))
    desk.do(*put_back(cut, desk.reel))
    for lane in (0, 1):
        assert heard_on(desk.reel, lane) == heard_on(older, lane)
    np.testing.assert_array_equal(sound(desk.reel), sound(older))


def test_a_take_that_was_put_in_gives_its_place_back_on_all_lanes():
    for length in (700, 1300):
        desk = Desk(*voices())
        whole = desk.reel
        desk.do(ReplaceByTake(1000, 2000, "t", 0, length, 0.0, TONE, lane=0))
        (cut,) = desk.offcuts
        desk.do(CutAndClose(100, 400))
        desk.do(*put_back(cut, desk.reel))
        for lane in (0, 1):
            assert heard_on(desk.reel, lane) == [*heard_on(whole, lane)[:100], *heard_on(whole, lane)[400:]]


def test_what_is_partly_back_is_not_doubled():
    desk = Desk(*voices())
    whole = desk.reel
    desk.do(CutAndClose(1000, 2000))
    cut = desk.offcuts[0]
    half = copy_of(ChapterState("c", "", "", reel=whole), [Span(1000, 1400)], ["l1", "l2"], "").content
    desk.do(Paste(1000, 1000, half))
    desk.do(*put_back(cut, desk.reel))
    for lane in (0, 1):
        assert heard_on(desk.reel, lane) == heard_on(whole, lane)


def test_markers_come_back_with_their_sound():
    desk = Desk(*voices())
    desk.do(PutMarker(Marker("m1", 1300, "door")), PutMarker(Marker("m2", 2500)))
    whole = desk.reel
    desk.do(CutAndClose(1000, 2000))
    desk.do(*put_back(desk.offcuts[0], desk.reel))
    assert desk.reel.markers == whole.markers


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 10_000))
def test_nothing_that_was_heard_once_is_missing_from_the_list(seed):
    """Whatever is done: each sample of the first reel is heard now, or is in an offcut (5 ms and more)."""
    rng = random.Random(seed)
    desk = Desk(Lane("voice", (Piece("r", 0, 6000),)), Lane("clerk", (Piece("s", 0, 6000),)))
    for _ in range(rng.randint(1, 8)):
        reel = desk.reel
        a = rng.randrange(len(reel) - 10)
        b = min(len(reel), a + rng.randint(8, 900))
        edit = rng.choice([CutAndClose(a, b), CutAndFill(a, b, TONE, rng.randint(0, 1)), InsertPause(a, 40, TONE)])
        try:
            desk.do(edit)
        except EditRefused:
            continue
        if rng.random() < 0.3 and desk.offcuts:
            cut = rng.choice(desk.offcuts)
            if not is_back(cut, covered(desk.reel.lanes)):
                desk.do(*put_back(cut, desk.reel))
                assert is_back(cut, covered(desk.reel.lanes))
    known = np.zeros((2, 6000), bool)
    heard = [(s.recording, s.start, s.stop) for lane in desk.reel.lanes for s in lane.segments if isinstance(s, Piece)]
    for name, start, stop in [*heard, *(sound for cut in desk.offcuts for sound in cut.sounds())]:
        known["rs".index(name), start:stop] = True
    missing = np.diff(np.flatnonzero(np.diff(np.pad(~known, ((0, 0), (1, 1))).astype(np.int8).ravel())))[::2]
    assert (missing < 5).all()


def test_the_journal_tells_the_same_when_the_book_is_opened_again(tmp_path):
    store = BookStore(tmp_path / "b.reelbook", create=True)
    session = Session(store)
    session.do(AddChapters((("c1", "One", "t"),)))
    session.do(AddRecording(recording("r")))
    session.do(AddRecording(recording("n")))
    session.do(PairRecording("c1", "r"))
    rate = session.book.rate
    session.do(EditReel("c1", CutAndClose(1000, 2000)))
    session.do(EditReel("c1", CutAndFill(3000, 4000, TONE)))
    live = offcuts_of(changes(store.folder, store.head), "c1")
    assert [c.sounds() for c in live] == [[("r", 4000, 5000)], [("r", 1000, 2000)]]
    head, book = store.head, session.book
    session.do(EditReel("c1", CutAndClose(5000, 6000)))
    assert [c.step for c in changes(store.folder, store.head, head, book)] == [head + 1]
    session.undo()
    assert [c.sounds() for c in offcuts_of(changes(store.folder, store.head), "c1")] == [c.sounds() for c in live]
    assert len(list(changes(store.folder, store.head, 99, book))) == head
    session.close()
    assert [c.sounds() for c in offcuts_of(changes(tmp_path / "b.reelbook", head), "c1")] == [c.sounds() for c in live]
    assert rate == 44_100


def test_a_journal_that_can_not_be_read_is_told(tmp_path):
    (tmp_path / "b.reelbook").mkdir()
    with pytest.raises(AppError, match=r"b\.reelbook"):
        list(changes(tmp_path / "b.reelbook", 3))


def test_the_words_of_an_offcut():
    from support.chapters import TEXT, made

    book, chapter, hearing = made()
    heard = hearing.heard
    said = Said(book, chapter, TEXT, heard)
    assert said.words([("r1", heard[1].start, heard[3].stop)]) == "tide went out."
    assert said.words([("r1", heard[3].start, heard[3].stop), ("r1", 0, heard[0].stop)]) == "out. The"
    assert said.words([("r2", 0, 10**6)]) == ""


def test_what_a_step_moves_to_another_chapter_was_not_cut():
    desk = Desk(*two_lanes())
    before = desk.book
    content = copy_of(before.chapters[0], [Span(4000, 4300)], ["l1"], "").content
    edits = (("c2", Paste(100, 100, content)), ("c1", CutAndClose(4000, 4300)))
    desk.book = EditReels(edits, "Move").apply(before)
    desk.steps.append(Change(1, "2026-01-05T10:00:00", "Move", before, desk.book))
    assert [c.lanes for c in desk.offcuts] == [("clerk",)]  # the other lane's sound went, and is told
