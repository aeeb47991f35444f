"""Two states of a reel: where they differ and where the same sound is, against arrays that name every sample."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.changes import Between, changed_span, joins_within
from faithful_reel.core.reel.commands import (
    ChangeGain,
    CutAndClose,
    CutAndFill,
    InsertPause,
    LengthenPause,
    MoveEdge,
    MoveJoin,
    Paste,
    SetJoin,
    Slide,
    SplitAt,
    SplitMany,
    ToneSource,
)
from faithful_reel.core.reel.cutting import copied
from faithful_reel.core.reel.reel import Join, Lane, Marker, Piece, Reel, Rest, RoomTone, reel_of
from faithful_reel.core.units import Span

LENGTH = 4000
TONE = ToneSource("t", 0, 900)


def named(lane):
    """Each sample of a lane by its place in its recording, with its gain; below 0 for room tone and rests."""
    rows = [
        np.stack([np.arange(s.start, s.stop) if isinstance(s, Piece) else np.full(len(s), -1), np.full(len(s), round(100 * s.gain_db))])
        for s in lane.segments
    ]  # fmt: skip
    return np.concatenate(rows, axis=1)


PLACE, SHORT = st.integers(1, 2500), st.integers(1, 700)
EDITS = st.one_of(
    st.builds(lambda a, n: CutAndClose(a, a + n), PLACE, SHORT),
    st.builds(lambda a, n: CutAndFill(a, a + n, TONE), PLACE, SHORT),
    st.builds(lambda a, n: InsertPause(a, n, TONE), PLACE, SHORT),
    st.builds(lambda a, n: LengthenPause(a, n, TONE), PLACE, SHORT),
    st.builds(lambda a, n: ChangeGain(a, a + n, 1.0, 0), PLACE, SHORT),
    st.builds(lambda a, n, by: Slide(a, a + n, by, TONE), PLACE, SHORT, st.sampled_from([-90, 120])),
    st.builds(SplitAt, PLACE),
)


@given(st.lists(EDITS, max_size=6), EDITS)
def test_outside_of_what_is_told_to_be_changed_every_sample_is_as_it_was(edits, last):
    reel = reel_of("a", LENGTH)
    for edit in edits:
        try:
            reel = edit.apply(reel)
        except EditRefused:
            continue
    try:
        after = last.apply(reel)
    except EditRefused:
        return
    before, now = named(reel.lanes[0]), named(after.lanes[0])
    span = changed_span(reel, after)
    if span is None:
        assert np.array_equal(before, now)
        return
    rest = now.shape[1] - span.stop
    assert np.array_equal(before[:, : span.start], now[:, : span.start])
    assert rest == 0 or np.array_equal(before[:, -rest:], now[:, -rest:])
    between = Between(after, reel)
    single = np.bincount(now[0][now[0] >= 0], minlength=LENGTH) * np.bincount(before[0][before[0] >= 0], minlength=LENGTH) == 1
    if isinstance(last, CutAndClose | InsertPause | LengthenPause):
        for at in range(0, now.shape[1], 97):
            if now[0, at] >= 0 and single[now[0, at]]:
                assert before[0, between.there(at)] == now[0, at]
                assert between.here(between.there(at)) == at


@pytest.mark.parametrize(
    ("edit", "told"),
    [
        (CutAndClose(1000, 1500), Span(1000, 1000)),
        (CutAndFill(1000, 1500, TONE), Span(1000, 1500)),
        (InsertPause(1000, 300, TONE), Span(1000, 1300)),
        (SplitAt(1000), None),  # the sound runs on
        (ChangeGain(1000, 1500, 2.0, 0), Span(1000, 1500)),
        (MoveJoin(1, 50), Span(2000, 2050)),
        (MoveJoin(1, -50), Span(1950, 2000)),
        (SetJoin(1, Join(900)), Span(2000, 2000)),
        (MoveEdge(0, 80), Span(2000, 2080)),
        (Slide(1000, 1500, 40, TONE), Span(1000, 1540)),
    ],
)  # fmt: skip
def test_what_a_step_made_is_told_to_the_sample(edit, told):
    reel = Reel((Lane("voice", (Piece("a", 0, 2000), Piece("a", 3000, 5000))),))
    assert changed_span(reel, edit.apply(reel)) == told


def test_pasted_sound_is_what_was_made_and_a_lane_that_only_waits_is_part_of_it():
    reel = Reel((Lane("voice", (Piece("a", 0, 2000),)), Lane("clerk", (Piece("b", 0, 2000),), tone=TONE)))
    content = copied(reel, Span(100, 400), (0,))
    after = Paste(1000, 1000, content, edition=2).apply(reel)
    assert changed_span(reel, after) == Span(1000, 1300)
    between = Between(after, reel)
    assert (between.there(999), between.there(1300), between.there(2299)) == (999, 1000, 1999)
    assert between.there(1150) == 1000  # what is not there is its place
    assert between.here(1000) == 1300


def test_a_pause_that_is_there_becomes_longer_in_one_piece_on_every_lane():
    reel = Reel(
        (Lane("voice", (Piece("a", 0, 1000), TONE.filling(300, 1), Piece("a", 1000, 2000)), tone=TONE), Lane("sea", (Rest(2300),))),
        (Marker("m1", 1200),),
    )  # fmt: skip
    after = LengthenPause(1100, 200, TONE).apply(reel)
    assert [len(s) for s in after.lanes[0].segments] == [1000, 500, 1000]
    assert [len(s) for s in after.lanes[1].segments] == [2500]
    assert after.markers[0].at == 1400
    other = LengthenPause(1100, 200, ToneSource("u", 0, 900)).apply(reel)  # other room tone is a piece of its own
    assert [len(s) for s in other.lanes[0].segments] == [1000, 100, 200, 200, 1000]


def test_what_slides_keeps_the_length_and_lies_over_what_comes_next():
    reel = Reel(
        (Lane("voice", (Piece("a", 0, 4000),), tone=TONE), Lane("sea", (Piece("m", 0, 4000),), music=True)),
        (Marker("m1", 1100), Marker("m2", 3000)),
    )
    later = Slide(1000, 1500, 200, TONE).apply(reel)
    assert [len(s) for s in later.lanes[0].segments] == [1000, 200, 500, 2300]
    assert isinstance(later.lanes[0].segments[1], RoomTone)
    assert later.lanes[0].segments[3].start == 1700
    assert later.lanes[1] is reel.lanes[1]
    assert [m.at for m in later.markers] == [1300, 3000]
    again = Slide(1200, 1700, 100, TONE).apply(later)
    assert [len(s) for s in again.lanes[0].segments] == [1000, 300, 500, 2200]  # the room tone before it became longer
    back = Slide(1200, 1700, -200, TONE).apply(later)
    assert len(back) == 4000
    assert [(type(s), len(s)) for s in back.lanes[0].segments] == [(Piece, 1000), (Piece, 500), (RoomTone, 200), (Piece, 2300)]
    assert back.markers[0].at == 1100
    with pytest.raises(EditRefused, match="can not go any further"):
        Slide(0, 500, -1, TONE).apply(reel)


def test_joins_of_a_stretch_are_those_that_begin_in_it():
    lane = SplitMany((100, 200, 300)).apply(reel_of("a", 400)).lanes[0]
    assert list(joins_within(lane, Span(100, 299))) == [1, 2]
    assert list(joins_within(lane, Span(0, 400))) == [1, 2, 3]
