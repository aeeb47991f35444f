"""Every edit down to its segments: which pieces there are afterwards, with which joins, gains and tones, on every lane."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import soundfile
from support.sounds import noise

from faithful_reel.core.audio.sources import FileSources
from faithful_reel.core.errors import EditRefused, FileProblem
from faithful_reel.core.reel.commands import (
    LIKE,
    SOFT,
    CutAndClose,
    CutAndFill,
    MoveJoin,
    PutBackSound,
    ReplaceByTake,
    SetFade,
    SetGain,
    SplitAt,
    ToneSource,
)
from faithful_reel.core.reel.gains import crossfade
from faithful_reel.core.reel.picture import reel_columns
from faithful_reel.core.reel.reel import (
    RUNS_ON,
    Fade,
    Join,
    Lane,
    Piece,
    Reel,
    Rest,
    RoomTone,
    joined_reels,
    places_of,
    recordings_of,
    reel_of,
    runs_on,
    source_at,
    split_reel,
)
from faithful_reel.core.reel.render import GRAIN, Renderer
from faithful_reel.core.units import Span

TONE = ToneSource("b", 1000, 20_000)
HARD = Join(0, "equal_power")
VOICE = Lane("voice", (Piece("a", 0, 1000), Piece("a", 1500, 3000, -2.0, LIKE), RoomTone("b", 0, 90, 500, seed=4, offset=7)))
MUSIC = Lane("music", (Piece("m", 0, 3000),))
TWO = Reel((VOICE, MUSIC))
"""3000 samples on two lanes: a | a' | tone, and m."""


def segments(reel, lane=0):
    return reel.lanes[lane].segments


def test_a_cut_inside_a_piece_keeps_its_gain_and_joins_softly():
    assert segments(CutAndClose(1200, 1300).apply(TWO)) == (
        Piece("a", 0, 1000),
        Piece("a", 1500, 1700, -2.0, LIKE),
        Piece("a", 1800, 3000, -2.0, SOFT),
        VOICE.segments[2],
    )
    assert segments(CutAndClose(1200, 1300, HARD).apply(TWO))[2].join == HARD


def test_a_cut_closes_every_lane_by_as_much():
    cut = CutAndClose(1200, 2600).apply(TWO)
    assert segments(cut, 1) == (Piece("m", 0, 1200), Piece("m", 2600, 3000))
    assert [len(lane) for lane in cut.lanes] == [1600, 1600]
    assert segments(cut)[2] == RoomTone("b", 0, 90, 400, seed=4, offset=107, join=SOFT)


def test_a_cut_at_a_boundary_leaves_no_empty_piece():
    cut = CutAndClose(1000, 2500).apply(TWO)
    assert segments(cut) == (Piece("a", 0, 1000), RoomTone("b", 0, 90, 500, seed=4, offset=7, join=SOFT))
    head = CutAndClose(0, 1000).apply(TWO)
    assert segments(head)[0] == Piece("a", 1500, 3000, -2.0, SOFT)
    tail = CutAndClose(2500, 3000).apply(TWO)
    assert segments(tail) == VOICE.segments[:2]


def test_a_cut_of_a_shorter_lane_takes_what_it_has():
    short = Reel((VOICE, Lane("music", (Piece("m", 0, 1100),))))
    cut = CutAndClose(1000, 2000).apply(short)
    assert segments(cut, 1) == (Piece("m", 0, 1000),)
    beyond = CutAndClose(2000, 2500).apply(short)
    assert segments(beyond, 1) == (Piece("m", 0, 1100),)


def test_a_fill_lies_on_its_lane_alone():
    filled = CutAndFill(500, 1200, TONE).apply(TWO)
    assert segments(filled) == (
        Piece("a", 0, 500),
        RoomTone("b", 1000, 20_000, 700, seed=501),
        Piece("a", 1700, 3000, -2.0, SOFT),
        VOICE.segments[2],
    )
    assert segments(filled, 1) == MUSIC.segments
    music = CutAndFill(500, 1200, TONE, lane=1).apply(TWO)
    assert segments(music) == VOICE.segments
    assert [type(s) for s in segments(music, 1)] == [Piece, RoomTone, Piece]


def test_a_split_keeps_the_sound_and_the_other_lane():
    split = SplitAt(1200).apply(TWO)
    assert segments(split)[1:3] == (Piece("a", 1500, 1700, -2.0, LIKE), Piece("a", 1700, 3000, -2.0, RUNS_ON))
    assert segments(split, 1) == MUSIC.segments
    assert [len(s) for s in segments(SplitAt(1200, lane=1).apply(TWO), 1)] == [1200, 1800]
    for at in (0, 3000, -1, 3001):
        with pytest.raises(EditRefused, match="nothing to split"):
            SplitAt(at).apply(TWO)


@pytest.mark.parametrize("by", [-300, 300])
def test_a_join_moves_to_the_last_sample_and_no_further(by):
    moved = MoveJoin(1, by).apply(TWO)
    assert segments(moved)[:2] == (Piece("a", 0, 1000 + by), Piece("a", 1500 + by, 3000, -2.0, LIKE))
    assert segments(moved)[2] == VOICE.segments[2]
    assert segments(moved, 1) == MUSIC.segments
    MoveJoin(1, 1499).apply(TWO)
    MoveJoin(1, -999).apply(TWO)
    for far in (1500, -1000):
        with pytest.raises(EditRefused, match="past the end"):
            MoveJoin(1, far).apply(TWO)
    for index in (0, 3, -1):
        with pytest.raises(EditRefused, match="no join"):
            MoveJoin(index, 1).apply(TWO)


def test_a_join_beside_room_tone_makes_the_tone_longer_where_it_lies():
    moved = MoveJoin(2, -100).apply(TWO)
    assert segments(moved)[1:] == (Piece("a", 1500, 2900, -2.0, LIKE), RoomTone("b", 0, 90, 600, seed=4, offset=-93))
    back = MoveJoin(2, 100).apply(TWO)
    assert segments(back)[2] == RoomTone("b", 0, 90, 400, seed=4, offset=107)


def test_a_join_does_not_move_before_the_recordings_first_sample():
    reel = Reel((Lane("voice", (Piece("a", 5000, 6000), Piece("b", 100, 900))),))
    assert segments(MoveJoin(1, -100).apply(reel))[1].start == 0
    with pytest.raises(EditRefused, match="does not reach"):
        MoveJoin(1, -101).apply(reel)


def test_gain_within_its_bounds_on_one_lane():
    set_ = SetGain(900, 1100, -60.0).apply(TWO)
    assert [(len(s), s.gain_db) for s in segments(set_)] == [(900, 0.0), (100, -60.0), (100, -60.0), (1400, -2.0), (500, 0.0)]
    assert segments(set_, 1) == MUSIC.segments
    assert segments(SetGain(0, 3000, 24.0, lane=1).apply(TWO), 1) == (Piece("m", 0, 3000, 24.0),)
    for wrong in (-60.1, 24.1):
        with pytest.raises(EditRefused, match="outside"):
            SetGain(0, 10, wrong).apply(TWO)


def test_a_take_goes_in_with_its_joins_and_the_other_lane_rests_or_waits_with_its_own_tone():
    longer = ReplaceByTake(1000, 1400, "t", 50, 1050, 3.0, TONE, HARD, LIKE, take="p").apply(TWO)
    assert segments(longer)[1:3] == (Piece("t", 50, 1050, 3.0, HARD, "p"), Piece("a", 1900, 3000, -2.0, LIKE))
    assert segments(longer, 1) == (
        Piece("m", 0, 1400),
        Rest(600),
        Piece("m", 1400, 3000, join=SOFT),
    )
    assert {len(lane) for lane in longer.lanes} == {3600}
    own = Reel((VOICE, replace(MUSIC, tone=ToneSource("m", 5, 70))))
    longer = ReplaceByTake(1000, 1400, "t", 50, 1050, 3.0, TONE).apply(own)
    assert segments(longer, 1)[1] == RoomTone("m", 5, 70, 600, seed=1001)


def test_a_shorter_take_takes_its_difference_out_of_the_other_lane_at_its_end():
    shorter = ReplaceByTake(1000, 1400, "t", 0, 100, 0.0, TONE).apply(TWO)
    assert segments(shorter, 1) == (Piece("m", 0, 1100), Piece("m", 1400, 3000, join=SOFT))
    same = ReplaceByTake(1000, 1400, "t", 0, 400, 0.0, TONE).apply(TWO)
    assert segments(same, 1) == MUSIC.segments
    at_the_end = ReplaceByTake(2500, 3000, "t", 0, 900, 0.0, TONE).apply(TWO)
    assert segments(at_the_end, 1) == MUSIC.segments  # nothing follows that would have to move
    on_music = ReplaceByTake(1000, 1400, "t", 0, 100, 0.0, TONE, lane=1).apply(TWO)
    assert [s.recording for s in segments(on_music, 1)] == ["m", "t", "m"]
    assert len(on_music.lanes[0]) == 2700


@pytest.mark.parametrize(("first", "stop"), [(7, 7), (9, 7), (-1, 5)])
def test_an_empty_take_is_refused(first, stop):
    with pytest.raises(EditRefused, match="take is empty"):
        ReplaceByTake(0, 10, "t", first, stop, 0.0, TONE).apply(TWO)


def test_sound_that_runs_on_is_one_piece_again():
    reel = Reel((Lane("voice", (Piece("a", 0, 1000), Piece("a", 1500, 3000))), MUSIC))
    back = PutBackSound(1000, "a", 1000, 1500, 0.0, TONE).apply(reel)
    assert segments(back) == (Piece("a", 0, 3000),)
    assert segments(back, 1) == (
        Piece("m", 0, 1000),
        Rest(500),
        Piece("m", 1000, 3000, join=SOFT),
    )
    left = PutBackSound(1000, "a", 1000, 1400, 0.0, TONE).apply(reel)
    assert segments(left) == (Piece("a", 0, 1400), Piece("a", 1500, 3000, join=SOFT))
    right = PutBackSound(1000, "a", 1100, 1500, 0.0, TONE).apply(reel)
    assert segments(right) == (Piece("a", 0, 1000), Piece("a", 1100, 3000))
    louder = PutBackSound(1000, "a", 1000, 1500, 3.0, TONE).apply(reel)
    assert segments(louder) == (Piece("a", 0, 1000), Piece("a", 1000, 1500, 3.0), Piece("a", 1500, 3000, join=SOFT))


def test_sound_is_put_back_at_either_end():
    reel = Reel((Lane("voice", (Piece("a", 500, 1000),)),))
    assert segments(PutBackSound(0, "a", 0, 500, 0.0, TONE).apply(reel)) == (Piece("a", 0, 1000),)
    assert segments(PutBackSound(500, "a", 1000, 1200, 0.0, TONE).apply(reel)) == (Piece("a", 500, 1200),)


def test_sound_that_lies_over_tone_moves_nothing():
    reel = Reel((Lane("voice", (Piece("a", 0, 1000), RoomTone("b", 0, 90, 500), Piece("a", 1500, 3000))), MUSIC))
    back = PutBackSound(1000, "a", 1000, 1500, 0.0, TONE, over=500).apply(reel)
    assert segments(back) == (Piece("a", 0, 3000),)
    assert segments(back, 1) == MUSIC.segments
    for wrong in (
        PutBackSound(1000, "a", 1000, 1500, 0.0, TONE, over=499),
        PutBackSound(3001, "a", 0, 5, 0.0, TONE),
        PutBackSound(-1, "a", 0, 5, 0.0, TONE),
        PutBackSound(0, "a", 5, 5, 0.0, TONE),
        PutBackSound(2900, "a", 0, 500, 0.0, TONE, over=500),
        PutBackSound(0, "a", -5, 5, 0.0, TONE),
    ):
        with pytest.raises(EditRefused, match="can not be put back"):
            wrong.apply(reel)


@pytest.mark.parametrize(
    ("second", "one"),
    [
        (Piece("a", 10, 20, 1.0, HARD, "t"), True),
        (Piece("a", 11, 20, 1.0, HARD, "t"), False),
        (Piece("b", 10, 20, 1.0, HARD, "t"), False),
        (Piece("a", 10, 20, 1.1, HARD, "t"), False),
        (Piece("a", 10, 20, 1.0, HARD, ""), False),
        (RoomTone("a", 10, 20, 5), False),
    ],
)
def test_what_runs_on(second, one):
    assert runs_on(Piece("a", 0, 10, 1.0, SOFT, "t"), second) is one
    assert runs_on(RoomTone("a", 0, 10, 10), Piece("a", 10, 20)) is False


# --- reels ------------------------------------------------------------------------------------------------------------


def test_a_reel_in_two_and_together_again():
    first, second = split_reel(TWO, 1200)
    assert segments(first) == (Piece("a", 0, 1000), Piece("a", 1500, 1700, -2.0, LIKE))
    assert segments(second) == (Piece("a", 1700, 3000, -2.0, SOFT), VOICE.segments[2])
    assert (segments(first, 1), segments(second, 1)) == ((Piece("m", 0, 1200),), (Piece("m", 1200, 3000),))
    whole = joined_reels([first, second])
    assert [lane.name for lane in whole.lanes] == ["voice", "music"]
    assert len(whole) == 3000
    for at in (0, 3000):
        with pytest.raises(EditRefused, match="no sound on one side"):
            split_reel(TWO, at)
    with pytest.raises(EditRefused, match="different lanes"):
        joined_reels([first, reel_of("a", 5)])


def test_positions_and_recordings():
    assert [VOICE.index_at(p) for p in (-5, 0, 999, 1000, 2499, 2500, 2999, 9999)] == [0, 0, 0, 1, 1, 2, 2, 2]
    assert source_at(TWO, 999) == ("a", 999)
    assert source_at(TWO, 1000) == ("a", 1500)
    assert source_at(TWO, 2500) is None
    assert source_at(TWO, 3000) is None
    assert source_at(TWO, -1) is None
    assert source_at(TWO, 2999, 1) == ("m", 2999)
    assert recordings_of(TWO) == ["a", "b", "m"]
    assert recordings_of(Reel(())) == []
    assert len(Reel(())) == 0
    assert source_at(Reel((Lane("x", ()),)), 0) is None


def test_places_are_all_pieces_that_hold_some_of_it_in_order():
    reel = Reel((Lane("voice", (Piece("a", 500, 900), Piece("b", 0, 50), Piece("a", 100, 600))),))
    assert places_of(reel, "a", Span(550, 800)) == [Span(50, 300), Span(900, 950)]
    assert places_of(reel, "a", Span(900, 950)) == []
    assert places_of(reel, "a", Span(500, 500)) == [Span(0, 0), Span(850, 850)]
    assert places_of(reel, "a", Span(600, 600)) == [Span(100, 100)]
    assert places_of(reel, "b", Span(0, 9)) == [Span(400, 409)]


def test_a_stretch_is_cut_at_its_ends():
    assert VOICE.between(Span(900, 1100)) == (Piece("a", 900, 1000), Piece("a", 1500, 1600, -2.0, LIKE))
    assert VOICE.between(Span(1000, 2500)) == VOICE.segments[1:2]
    assert VOICE.between(Span(1000, 2500))[0] is VOICE.segments[1]
    assert VOICE.between(Span(5, 5)) == ()
    assert VOICE.between(Span(3000, 4000)) == ()
    assert Lane("x", ()).between(Span(0, 5)) == ()
    with pytest.raises(EditRefused, match="not in this chapter"):
        VOICE.replaced(Span(2990, 3001), ())


# --- rendering --------------------------------------------------------------------------------------------------------


def ones(_recording, start, stop):
    return np.ones(stop - start, np.float32)


def test_lanes_are_added_up():
    both = Renderer(Reel((Lane("a", (Piece("a", 0, 10),)), Lane("b", (Piece("b", 0, 10, -6.0),)))), ones).render(2, 5)
    assert both == pytest.approx(np.full(3, 1 + 10 ** (-6 / 20)), abs=1e-6)
    assert Renderer(Reel(()), ones).render(0, 4).tolist() == [0.0] * 4


def test_an_equal_gain_crossfade_of_the_same_level_is_level_and_an_equal_power_one_swells():
    def reel(join):
        return Reel((Lane("v", (Piece("a", 0, 1000), Piece("b", 0, 1000, join=join))),))

    level = Renderer(reel(Join(200, "equal_gain")), ones).render(0, 2000)
    assert level == pytest.approx(np.ones(2000), abs=1e-6)
    swelling = Renderer(reel(Join(200, "equal_power")), ones).render(0, 2000)
    assert swelling.max() == pytest.approx(2**0.5, abs=1e-3)
    assert np.flatnonzero(swelling > 1 + 1e-6).tolist() == list(range(900, 1100))
    hard = Renderer(reel(Join(0)), ones).render(0, 2000)
    assert hard == pytest.approx(np.ones(2000), abs=1e-6)


def test_a_crossfade_is_no_longer_than_the_shorter_neighbour():
    reel = Reel((Lane("v", (Piece("a", 0, 1000), Piece("b", 0, 41, join=Join(441)), Piece("c", 0, 1000, join=Join(441)))),))
    y = Renderer(reel, ones).render(0, len(reel))
    assert np.flatnonzero(y > 1 + 1e-6).tolist() == [*range(980, 1020), *range(1021, 1061)]
    assert y.min() >= 1 - 1e-6


def test_two_stretches_of_the_same_sound_do_not_swell():
    reel = Reel((Lane("v", (Piece("a", 0, 1000, -1.0), Piece("a", 1000, 2000, -1.0, Join(200, "equal_power")))),))
    assert Renderer(reel, ones).render(0, 2000) == pytest.approx(np.full(2000, 10 ** (-1 / 20)), abs=1e-6)


def test_tone_is_the_same_whatever_is_asked_for_and_differs_by_its_seed():
    x = noise(seconds=1, rms_db=-60)

    def source(_recording, start, stop):
        return x[start:stop]

    def tone(**more):
        reel = Reel((Lane("v", (RoomTone("b", 1000, 20_000, 40_000, **more),)),))
        return Renderer(reel, source)

    whole = tone().render(0, 40_000)
    assert np.array_equal(np.concatenate(list(tone().blocks(block=777))), whole)
    assert np.array_equal(tone().render(12_345, 12_400), whole[12_345:12_400])
    assert not np.array_equal(tone(seed=2).render(0, 40_000), whole)
    assert np.array_equal(tone(offset=500).render(0, 1000), whole[500:1500])
    assert np.std(whole[GRAIN:]) == pytest.approx(np.std(x), rel=0.05)
    empty = Renderer(Reel((Lane("v", (RoomTone("b", 5, 6, 100),)),)), source).render(0, 100)
    assert not empty.any()


def test_blocks_of_a_range():
    renderer = Renderer(reel_of("a", 1000), lambda _r, a, b: np.arange(a, b, dtype=np.float32))
    assert [len(b) for b in renderer.blocks(block=300)] == [300, 300, 300, 100]
    assert np.concatenate(list(renderer.blocks(250, 777, 100))).tolist() == list(map(float, range(250, 777)))


def test_fades_begin_and_end_where_they_should():
    at = np.array([0.0, 0.5, 1.0])
    assert crossfade(at, Join(10, "equal_power")) == pytest.approx([0, 2**-0.5, 1])
    assert crossfade(at, Join(10, "equal_gain")) == pytest.approx([0, 0.5, 1])


# --- files ------------------------------------------------------------------------------------------------------------


def test_files_are_mixed_down_or_kept_in_two_channels_with_nothing_beyond_their_ends(tmp_path):
    x = np.stack([np.linspace(-0.5, 0.5, 100), np.linspace(0.5, 0.1, 100)], axis=1).astype(np.float32)
    soundfile.write(tmp_path / "a.wav", x, 44_100, subtype="FLOAT")
    mono, both = FileSources(lambda _: tmp_path / "a.wav"), FileSources(lambda _: tmp_path / "a.wav", channels=2)
    try:
        assert mono("a", 10, 20) == pytest.approx(x[10:20].mean(axis=1), abs=1e-6)
        assert mono("a", 5, 9) == pytest.approx(x[5:9].mean(axis=1), abs=1e-6)  # backwards as well
        assert both("a", -3, 2).tolist() == np.pad(x[:2].T, ((0, 0), (3, 0))).tolist()
        assert both("a", 98, 103).tolist() == np.pad(x[98:].T, ((0, 0), (0, 3))).tolist()
        assert mono("a", 200, 204).tolist() == [0.0] * 4
        assert mono("a", 9, 5).tolist() == []
    finally:
        mono.close()
        both.close()


def test_few_files_are_held_open_at_once(tmp_path):
    for name in "abcd":
        soundfile.write(tmp_path / f"{name}.wav", np.full(10, ord(name) / 1000), 44_100, subtype="FLOAT")
    asked = []

    def path_of(name):
        asked.append(name)
        return tmp_path / f"{name}.wav"

    sources = FileSources(path_of, keep=2)
    try:
        for name in "abacadab":
            assert sources(name, 0, 3) == pytest.approx(np.full(3, ord(name) / 1000), abs=1e-6)
            assert len(sources._open) <= 2
        assert asked == ["a", "b", "c", "d", "b"]  # the one used last stays
    finally:
        sources.close()
    assert not sources._open


def test_a_file_that_breaks_off_is_told_and_not_filled_with_silence(tmp_path):
    path = tmp_path / "long.flac"
    soundfile.write(path, noise(seconds=4, rms_db=-20), 44_100, subtype="PCM_24")
    path.write_bytes(path.read_bytes()[:-100_000])
    sources = FileSources(lambda _: path)
    try:
        with pytest.raises(FileProblem, match=r"long\.flac is damaged or cut short near 3\.\d s"):
            sources("a", 140_000, 176_000)
    finally:
        sources.close()


# --- the picture ------------------------------------------------------------------------------------------------------


class Steps:
    """A recording whose minimum and maximum at every position are known: minus the position, and the position."""

    def columns(self, edges):
        return np.stack([-edges[:-1], edges[1:]]).astype(np.float32)


def columns(reel, edges, **more):
    return reel_columns(reel, lambda name: Steps() if name != "lost" else None, np.array(edges, np.float64), **more).tolist()


def test_columns_are_those_of_the_recordings_in_place_and_gain():
    reel = Reel((Lane("v", (Piece("a", 100, 200), Piece("b", 1000, 1100, 20 * np.log10(0.5)))),))
    assert columns(reel, [0, 50, 100, 150, 200]) == [[-100, -150, -500, -525], [150, 200, 525, 550]]
    assert columns(reel, [90, 110]) == [[-500], [505]]  # both in one column: the outermost of each
    assert columns(reel, [150, 200, 250]) == [[-525, 0], [550, 0]]  # nothing beyond its end
    assert columns(reel, [100, 200]) == [[-500], [550]]
    assert columns(Reel((Lane("v", ()),)), [0, 5, 9]) == [[0, 0], [0, 0]]


def test_columns_of_another_lane_and_of_what_is_lost():
    reel = Reel((Lane("v", (Piece("lost", 0, 50), Piece("a", 0, 50))), Lane("m", (Piece("m", 7, 107),))))
    assert columns(reel, [0, 50, 100]) == [[0, 0], [0, 50]]
    assert columns(reel, [0, 50, 100], lane=1) == [[-7, -57], [57, 107]]


def test_room_tone_looks_like_a_stretch_of_its_source():
    reel = Reel((Lane("v", (RoomTone("a", 500, 600, 1000, -6.0), RoomTone("", 0, 0, 100))),))
    low, high = columns(reel, [0, 250, 500, 1000, 1100])
    half = 10 ** (-6 / 20)
    assert low[:3] == pytest.approx([-500 * half, -525 * half, -550 * half])
    assert high[:3] == pytest.approx([525 * half, 550 * half, 600 * half])
    assert (low[3], high[3]) == (0, 0)  # made hiss has no picture
    later = Reel((Lane("v", (RoomTone("a", 500, 600, 50, offset=130),)),))
    assert columns(later, [0, 25, 50]) == [[-530, -555], [555, 580]]


def test_nothing_is_put_in_for_an_empty_middle():
    assert VOICE.replaced(Span(5, 5), (Piece("x", 3, 3),)).segments[:2] == (Piece("a", 0, 5), Piece("a", 5, 1000))
    assert Reel((VOICE,)).with_lane(0, MUSIC) == Reel((MUSIC,))


@pytest.mark.parametrize("bend", [0.0, 1.0, -1.0])
@pytest.mark.parametrize("beside", [-1, 0, 1])
def test_a_split_at_the_very_start_or_end_of_a_fade_changes_no_sample(bend, beside):
    x = np.random.default_rng(3).uniform(-1, 1, 6000).astype(np.float32)

    def source(_, start, stop):
        return np.pad(x, (500, 500))[start + 500 : stop + 500]

    reel = Reel((Lane("voice", (Piece("a", 0, 3000), Piece("a", 4000, 5000))),))
    reel = SetFade(1, Fade(200, bend), True).apply(SetFade(0, Fade(200, bend), False).apply(reel))
    whole = Renderer(reel, source).render(0, len(reel))
    for at in (2800 + beside, 3200 + beside):
        split = Renderer(SplitAt(at).apply(reel), source).render(0, len(reel))
        np.testing.assert_allclose(split, whole, atol=1e-6)
