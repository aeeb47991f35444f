"""How segments take over from one another, against a slow second rendering; lanes, markers, and what is drawn of them."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_reel.core.book.packing import reel_key
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import (
    AddLane,
    BringIntoStep,
    CutAndClose,
    CutAndFill,
    DrawLine,
    DressLane,
    InsertPause,
    LinkLane,
    MixLane,
    MoveEdge,
    NamePiece,
    OrderLanes,
    Overlap,
    Paste,
    PutMarker,
    RemoveLane,
    RemoveMarkers,
    SetFade,
    SetGain,
    SetJoin,
    SetJoins,
    SetLaneTone,
    SplitAt,
    SplitMany,
    ToneSource,
)
from faithful_reel.core.reel.gains import crossfade, fade_gains, line_at, line_gains
from faithful_reel.core.reel.look import lane_look
from faithful_reel.core.reel.reel import (
    LIKE,
    RUNS_ON,
    SOFT,
    Fade,
    Join,
    Lane,
    Marker,
    Piece,
    Reel,
    Rest,
    RoomTone,
    joined_reels,
    split_reel,
)
from faithful_reel.core.reel.render import Renderer, Row, heard_lanes

N = 4000
X = {name: np.random.default_rng(k).uniform(-1, 1, 2 * N).astype(np.float32) for k, name in enumerate("abm")}
TONE = ToneSource("b", 5, 900)
OLD = Reel(
    (
        Lane(
            "voice", (Piece("a", 0, 1000), Piece("a", 1500, 3000, -2.0, LIKE, "p1"), RoomTone("b", 0, 90, 500, seed=4, offset=7))
        ),
        Lane("music", (Piece("m", 0, 3000),)),
    )
)


def source(recording, start, stop):
    x = X[recording]
    out = np.zeros(stop - start, np.float32)
    first, last = max(0, start), min(stop, len(x))
    out[first - start : last - start] = x[first:last]
    return out


def rendered(reel):
    return Renderer(reel, source).render(0, len(reel))


def slowly(segments):
    """A lane sample by sample: (recording, start, stop, gain, join) of pieces, each heard into its neighbours' crossfades."""
    starts = [0]
    for s in segments:
        starts.append(starts[-1] + s[2] - s[1])
    lengths = [
        0,
        *(
            min(segments[k][4].length, starts[k] - starts[k - 1], starts[k + 1] - starts[k]) // 2 * 2
            for k in range(1, len(segments))
        ),
        0,
    ]
    out = np.zeros(starts[-1])
    for k, (recording, start, _, gain, join) in enumerate(segments):
        after = segments[k + 1][4] if k + 1 < len(segments) else join
        for n in range(starts[k] - lengths[k] // 2, starts[k + 1] + lengths[k + 1] // 2):
            weight = 1.0
            for length, at, how, up in ((lengths[k], starts[k], join, True), (lengths[k + 1], starts[k + 1], after, False)):
                place = (n - (at - length // 2) + 0.5) / length if length else None
                if place is not None and 0 < place < 1:
                    bent = place**2.0**how.bend
                    bent = bent if up else 1 - bent
                    weight *= np.sin(np.pi / 2 * bent) if how.shape == "equal_power" else bent
            if 0 <= start + n - starts[k] < 2 * N:
                out[n] += X[recording][start + n - starts[k]] * gain * weight
    return out


JOINS = st.builds(Join, st.integers(0, 900), st.sampled_from(["equal_power", "equal_gain"]), st.sampled_from([0.0, -1.0, 1.5]))
PIECES = st.tuples(st.sampled_from("ab"), st.integers(0, N), st.integers(2, 500), st.sampled_from([1.0, 0.5]), JOINS)


@settings(max_examples=40, deadline=None)
@given(st.lists(PIECES, min_size=1, max_size=5))
def test_crossfades_are_those_of_a_slow_second_rendering(pieces):
    rows = [(r, a, a + n, g, j) for r, a, n, g, j in pieces]
    if any(x[0] == y[0] and x[2] == y[1] for x, y in itertools.pairwise(rows)) or any(r[4] == RUNS_ON for r in rows):
        return  # sound that runs on has rules of its own, below
    lane = Lane("voice", tuple(Piece(r, a, b, 20 * np.log10(g), j) for r, a, b, g, j in rows))
    assert np.allclose(rendered(Reel((lane,))), slowly(rows), atol=2e-6)


@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.tuples(st.integers(0, 3500), st.integers(1, 400)), max_size=3),
    st.lists(st.integers(1, 3000), min_size=1, max_size=8),
    st.integers(0, 2500), st.integers(50, 800), st.sampled_from([Join(1200), Join(300, "equal_gain", 1.0)]),
)  # fmt: skip
def test_no_split_changes_a_sample_even_inside_of_crossfades_and_fades(cuts, places, drawn, wide, join):
    reel = Reel((Lane("voice", (Piece("a", 0, N),)),))
    for start, n in cuts:
        if start + n < len(reel):
            reel = CutAndClose(start, start + n, join).apply(reel)
    reel = DrawLine(drawn, min(len(reel), drawn + wide), ((drawn, -6.0),)).apply(reel)
    reel = SetFade(0, Fade(min(700, len(reel.lanes[0].segments[0])), 0.7)).apply(reel)
    last = len(reel.lanes[0].segments) - 1
    reel = SetFade(last, Fade(min(500, len(reel.lanes[0].segments[last])), -1.0), at_start=False).apply(reel)
    before = rendered(reel)
    inside = tuple(at for at in places if at < len(reel))
    if inside:
        assert np.allclose(rendered(SplitMany(inside).apply(reel)), before, atol=1e-6)


def test_a_split_that_becomes_an_edge_is_softened_and_never_a_hard_cut():
    reel = SplitAt(2000).apply(Reel((Lane("voice", (Piece("a", 0, N),)),)))
    assert reel.lanes[0].segments[1].join == RUNS_ON
    louder = SetGain(2000, N, 6.0).apply(reel)
    soft = rendered(louder)
    assert np.allclose(soft[:1779], X["a"][:1779])
    middle = soft[1999] / X["a"][1999]
    assert 1.0 < middle < 10**0.3  # on its way from one gain to the other
    moved = MoveEdge(1, -300, at_start=True).apply(reel)
    hard = replace(
        moved,
        lanes=(
            replace(moved.lanes[0], segments=(moved.lanes[0].segments[0], replace(moved.lanes[0].segments[1], join=Join(0)))),
        ),
    )
    assert not np.allclose(rendered(moved), rendered(hard))


def test_an_overlap_is_both_pieces_over_one_another():
    reel = Reel((Lane("voice", (Piece("a", 0, 1000), Piece("b", 500, 1500))),))
    over = Overlap(1, 200, "equal_gain").apply(reel)
    assert len(over) == 1800
    at = (np.arange(200) + 0.5) / 200
    mixed = X["a"][800:1000] * (1 - at) + X["b"][500:700] * at
    x = rendered(over)
    assert np.allclose(x[800:1000], mixed, atol=1e-6)
    assert np.array_equal(x[:800], X["a"][:800])
    assert np.array_equal(x[1000:], X["b"][700:1500])
    with pytest.raises(EditRefused, match="shorter one"):
        Overlap(1, 1000).apply(reel)


@pytest.mark.parametrize("shape", ["equal_power", "equal_gain"])
def test_a_bent_crossfade_keeps_its_sum(shape):
    at = np.linspace(0, 1, 101)
    up, down = (crossfade(at, Join(100, shape, 2.0), rising=r) for r in (True, False))
    assert np.allclose(up**2 + down**2 if shape == "equal_power" else up + down, 1)
    assert up[50] < crossfade(at, Join(100, shape))[50]


def test_fades_and_lines_at_their_ends():
    assert fade_gains(Fade(4), np.arange(-1.0, 5.0)).tolist() == [0, 0.125, 0.375, 0.625, 0.875, 1]
    assert fade_gains(Fade(4, 1.0), np.array([1.5])).tolist() == [0.25]
    assert fade_gains(Fade(4, 0.0, 2), np.array([0.0])).tolist() == [0.625]
    line = ((10, -6.0), (20, 0.0))
    assert [line_at(line, p) for p in (0, 10, 15, 20, 99)] == [-6, -6, -3, 0, 0]
    assert line_at((), 7) == 0
    assert line_gains(((0, -96.0), (10, 0.0)), np.array([0.0, 10.0])).tolist() == [0, 1]


def test_drawn_lines_leave_the_rest_as_it_was_and_flat_ones_leave_nothing():
    reel = Reel((Lane("voice", (Piece("a", 100, 1100), Piece("a", 2000, 3000))),))
    drawn = DrawLine(500, 1500, ((700, -12.0),)).apply(reel)
    x = rendered(drawn)
    plain = rendered(reel)
    assert np.array_equal(x[:500], plain[:500])
    assert np.array_equal(x[1501:], plain[1501:])
    assert x[700] == pytest.approx(plain[700] * 10 ** (-12 / 20), rel=1e-5)
    flat = DrawLine(0, 2000, ((0, 0.0), (1999, 0.0))).apply(drawn)
    assert [s.line for s in flat.lanes[0].segments] == [(), ()]
    for wrong in (((2000, -3.0),), ((600, 25.0),), ((600, -97.0),)):
        with pytest.raises(EditRefused):
            DrawLine(500, 1500, wrong).apply(reel)


def test_joins_are_set_one_by_one_or_all_in_a_stretch_but_not_where_sound_runs_on():
    reel = SplitAt(500).apply(OLD)
    assert SetJoin(2, Join(99)).apply(reel).lanes[0].segments[2].join == Join(99)
    soft = SetJoins(0, 3000, Join(2000)).apply(reel)
    assert [s.join.length for s in soft.lanes[0].segments] == [441, 0, 2000, 2000]
    assert [s.join.length for s in SetJoins(0, 1000, Join(7)).apply(reel).lanes[0].segments] == [441, 0, 7, 882]
    for wrong in (SetJoin(0, SOFT), SetJoin(9, SOFT), SetJoin(1, Join(-1)), SetJoins(0, 10, Join(5, "equal_gain", 4.0))):
        with pytest.raises(EditRefused):
            wrong.apply(reel)


@pytest.mark.parametrize(
    "wrong",
    [SetFade(9, Fade(5)), SetFade(0, Fade(1001)), SetFade(0, Fade(5, 3.5)), SetFade(0, Fade(5, float("nan"))), SetJoin(1, Join(5, bend=float("nan"))), SetGain(0, 5, float("nan")), MixLane(0, pan=float("nan")), Overlap(1, 50, bend=9.0), AddLane(Lane("x", (Piece("a", 0, 9, 99.0),))), AddLane(Lane("x", (Rest(0),))), Paste(0, 0, ((0, (Piece("a", 0, 9, line=((3, 0.0), (3, 1.0))),)),)), NamePiece(9, "x"), MoveEdge(9, 5), MoveEdge(0, -1000), MoveEdge(0, 9, length=1004),
     MoveEdge(0, -5, at_start=True), InsertPause(-1, 5, TONE), InsertPause(5, 0, TONE), Paste(0, 0, ()), Paste(0, 0, ((0, (Rest(5),)), (1, (Rest(6),)))),
     Paste(9, 5, ((0, (Rest(5),)),)), SplitMany(()), SplitMany((3000,)), CutAndFill(0, 5, None, 7), RemoveLane(5), OrderLanes((0, 0)), OrderLanes((0,)),
     DressLane(0, " "), DressLane(0, "music"), MixLane(0, 25.0), MixLane(0, 0.0, 1.1), BringIntoStep(0, 0), AddLane(Lane("voice", ())), AddLane(Lane("x", ()), 9),
     PutMarker(Marker("m", 3001)), RemoveMarkers(("m",)), Overlap(0, 5), DrawLine(5, 9, (), 3), LinkLane(4, linked=True), SetLaneTone(7, None)],
)  # fmt: skip
def test_what_does_not_fit_is_refused_and_changes_nothing(wrong):
    with pytest.raises(EditRefused):
        wrong.apply(OLD)


def test_a_lane_alone_can_not_be_removed_and_lanes_are_heard_as_they_are_mixed():
    with pytest.raises(EditRefused, match="needs a lane"):
        RemoveLane(0).apply(RemoveLane(1).apply(OLD))
    names = lambda reel: [lane.name for lane in heard_lanes(reel)]  # noqa: E731
    assert names(MixLane(1, muted=True).apply(OLD)) == ["voice"]
    assert names(MixLane(1, solo=True).apply(OLD)) == ["music"]
    assert names(MixLane(1, muted=True, solo=True).apply(OLD)) == ["voice"]
    x = rendered(MixLane(1, -6.0).apply(OLD)) - rendered(RemoveLane(1).apply(OLD))
    assert np.allclose(x, X["m"][:3000] * 10**-0.3, atol=1e-6)


def test_a_lane_has_its_place_in_stereo_only():
    two = lambda r, a, b: np.stack([source(r, a, b)] * 2)  # noqa: E731
    x = Renderer(Reel((Lane("v", (Piece("a", 0, 100),), pan=-0.25),)), two).render(0, 100)
    assert np.allclose(x, np.stack([X["a"][:100], 0.75 * X["a"][:100]]))
    assert np.array_equal(rendered(Reel((Lane("v", (Piece("a", 0, 100),), pan=-0.25),))), X["a"][:100])


def test_markers_stay_with_their_sound():
    reel = Reel((Lane("v", (Piece("a", 0, 1000),)),), (Marker("m1", 100), Marker("m2", 300), Marker("m3", 600)))
    places = lambda r: [m.at for m in r.markers]  # noqa: E731
    assert places(CutAndClose(200, 400).apply(reel)) == [100, 200, 400]
    assert places(InsertPause(300, 50, TONE).apply(reel)) == [100, 350, 650]
    assert places(CutAndFill(200, 400, TONE).apply(reel)) == [100, 300, 600]
    alone = Reel((*reel.lanes, Lane("w", (Piece("b", 0, 1000),), linked=False)), reel.markers)
    assert places(CutAndClose(200, 400, lane=1).apply(alone)) == [100, 300, 600]
    first, second = split_reel(reel, 300)
    assert (places(first), places(second)) == ([100], [0, 300])
    both = joined_reels([reel, reel])
    assert places(both) == [100, 300, 600, 1100, 1300, 1600]
    assert len({m.id for m in both.markers}) == 6
    moved = PutMarker(Marker("m3", 50, "here")).apply(reel)
    assert [(m.id, m.at) for m in moved.markers] == [("m3", 50), ("m1", 100), ("m2", 300)]
    assert places(RemoveMarkers(("m1", "m2")).apply(reel)) == [600]


def test_lanes_of_other_lengths_begin_together_in_the_next_chapter():
    short = Reel((Lane("v", (Piece("a", 0, 1000),)), Lane("w", (Piece("b", 0, 400),))))
    both = joined_reels([short, short])
    assert both.lanes[1].starts()[2] == 1000
    assert both.lanes[1].segments[1] == Rest(600)


def test_keys_of_reels_are_what_they_always_were_and_follow_what_is_heard():
    """The two keys were made by the version before lanes had levels; masters in books hold such keys."""
    assert reel_key(OLD) == "9fb18cd7ff444db1"
    edited = OLD
    for command in (SplitAt(300), SplitAt(1000), CutAndFill(100, 200, TONE), SetGain(500, 700, -3.0), CutAndClose(1200, 1300)):
        edited = command.apply(edited)
    assert reel_key(edited) == "565b6ac0d835a5e5"
    unheard = (NamePiece(0, "x", "red", "a note"), DressLane(1, "music", "blue", "n", hidden=True), PutMarker(Marker("m", 5)))
    assert all(reel_key(command.apply(OLD)) == reel_key(OLD) for command in unheard)
    heard = (
        MixLane(1, -1.0),
        MixLane(1, muted=True),
        MixLane(1, solo=True),
        MixLane(1, pan=0.5),
        SetFade(0, Fade(5)),
        DrawLine(5, 50, ((9, -1.0),)),
    )
    assert len({reel_key(command.apply(OLD)) for command in heard} | {reel_key(OLD)}) == 1 + len(heard)


def test_what_is_drawn_of_a_lane():
    reel = SetFade(0, Fade(100)).apply(DrawLine(200, 600, ((400, -6.0),)).apply(NamePiece(0, "the tide").apply(OLD)))
    look = lane_look(Row(reel.lanes[0]), 0, 3000)
    assert [(p.start, p.stop, p.name, p.kind) for p in look.pieces] == [
        (0, 1000, "the tide", "piece"), (1000, 2500, "", "piece"), (2500, 3000, "", "room_tone")
    ]  # fmt: skip
    assert look.joins == ((1000, 882), (2500, 500 // 2 * 2)) or look.joins == ((1000, 882), (2500, 500))
    assert (look.curves[0].start, look.curves[0].stop) == (0, 100)
    assert (400, -6.0) in look.points
    assert (400, -6.0) in look.line
    assert lane_look(Row(OLD.lanes[1]), 0, 3000).line == ()
    assert [p.start for p in lane_look(Row(reel.lanes[0]), 1200, 1300).pieces] == [1000]
    assert lane_look(Row(Lane("x", ())), 0, 10).pieces == ()


def test_a_take_in_one_channel_among_stereo_is_heard_whatever_range_is_asked_for():
    """A range that begins inside of the take once gave only what followed it."""
    one = np.linspace(0.1, 0.2, 9_000, dtype=np.float32)

    def source(recording, start, stop):
        x = one[start:stop] if recording == "take" else np.full((2, stop - start), 0.5, np.float32)
        return np.pad(x, (0, stop - start - len(x))) if x.ndim == 1 else x

    hard = Join(0)
    pieces = Piece("r", 0, 4_000), Piece("take", 100, 5_100, join=hard), Piece("r", 4_000, 9_000, join=hard)
    renderer = Renderer(Reel((Lane("voice", pieces),)), source)
    whole = renderer.render(0, 14_000)
    assert whole.shape == (2, 14_000)
    for start, stop in ((6_000, 12_000), (4_000, 9_500), (0, 6_000), (8_000, 14_000)):
        assert np.array_equal(renderer.render(start, stop), whole[:, start:stop])
    assert np.allclose(whole[0, 5_000:8_000], one[1_100:4_100], atol=1e-6)
