"""Edit commands against a plain list of samples; the renderer against itself in other blocks."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule
from support.sounds import noise

from faithful_reel.core.audio.overview import overview_of
from faithful_reel.core.audio.sources import FileSources
from faithful_reel.core.errors import EditRefused, FileProblem
from faithful_reel.core.reel.commands import CutAndClose, CutAndFill, MoveJoin, ReplaceByTake, SetGain, SplitAt, ToneSource
from faithful_reel.core.reel.gains import crossfade
from faithful_reel.core.reel.picture import reel_columns
from faithful_reel.core.reel.reel import Join, Lane, Piece, Reel, RoomTone, places_of, reel_of, source_at
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.units import Span

LENGTH = 30_000
SOUNDS = {"a": noise(seconds=LENGTH / 44_100 + 0.001, rms_db=-20)[:LENGTH], "b": noise(seconds=1, rms_db=-26, seed=2)}
TONE = ToneSource("b", 1000, 20_000)
HARD = Join(0, "equal_power")


def source(recording, start, stop):
    x = SOUNDS[recording]
    out = np.zeros(stop - start, np.float32)
    lo, hi = max(0, start), min(len(x), stop)
    if hi > lo:
        out[lo - start : hi - start] = x[lo:hi]
    return out


def rendered(reel):
    return Renderer(reel, source).render(0, len(reel))


def test_a_whole_recording_renders_as_it_is():
    assert np.array_equal(rendered(reel_of("a", LENGTH)), SOUNDS["a"])


def test_a_hard_cut_takes_out_exactly_its_samples():
    reel = CutAndClose(5000, 9000, HARD).apply(reel_of("a", LENGTH))
    assert np.array_equal(rendered(reel), np.delete(SOUNDS["a"], slice(5000, 9000)))


def test_a_soft_cut_differs_only_around_the_join():
    reel = CutAndClose(5000, 9000).apply(reel_of("a", LENGTH))
    plain = np.delete(SOUNDS["a"], slice(5000, 9000))
    differs = np.flatnonzero(rendered(reel) != plain)
    assert len(differs)
    assert differs.min() >= 5000 - 221
    assert differs.max() < 5000 + 221


def test_a_split_does_not_change_a_sample():
    reel = SplitAt(12_345).apply(reel_of("a", LENGTH))
    assert len(reel.lanes[0].segments) == 2
    assert np.array_equal(rendered(reel), SOUNDS["a"])


def test_gain_acts_on_its_stretch_only():
    reel = SetGain(8000, 16_000, -6.0).apply(reel_of("a", LENGTH))
    y = rendered(reel)
    assert np.allclose(y[8300:15_700], SOUNDS["a"][8300:15_700] * 10 ** (-6 / 20), atol=1e-7)
    assert np.array_equal(y[:7700], SOUNDS["a"][:7700])
    assert np.array_equal(y[16_300:], SOUNDS["a"][16_300:])


def test_fill_keeps_the_time_and_lays_tone_of_the_same_level():
    reel = CutAndFill(6000, 26_000, TONE).apply(reel_of("a", LENGTH))
    y = rendered(reel)
    assert len(y) == LENGTH
    assert np.array_equal(y[:5500], SOUNDS["a"][:5500])
    assert 20 * np.log10(np.std(y[7000:25_000])) == pytest.approx(-26, abs=0.5)
    assert np.abs(np.diff(np.flatnonzero(y[7000:25_000] == 0))).size == 0  # no digital silence


def test_moving_a_join_gives_one_side_what_the_other_loses():
    reel = CutAndClose(10_000, 14_000, HARD).apply(reel_of("a", LENGTH))
    moved = MoveJoin(1, 500).apply(reel)
    assert len(moved) == len(reel)
    left, right = moved.lanes[0].segments
    assert (left.stop, right.start) == (10_500, 14_500)
    with pytest.raises(EditRefused):
        MoveJoin(1, 10**6).apply(reel)
    with pytest.raises(EditRefused):
        MoveJoin(5, 1).apply(reel)


def test_a_take_replaces_words_and_other_lanes_stay_in_step():
    second = Lane("other", (Piece("b", 0, LENGTH),))
    reel = Reel((reel_of("a", LENGTH).lanes[0], second))
    longer = ReplaceByTake(10_000, 12_000, "b", 0, 5000, 3.0, TONE, HARD, HARD).apply(reel)
    assert [len(lane) for lane in longer.lanes] == [LENGTH + 3000] * 2
    shorter = ReplaceByTake(10_000, 15_000, "b", 0, 2000, 0.0, TONE, HARD, HARD).apply(reel)
    assert [len(lane) for lane in shorter.lanes] == [LENGTH - 3000] * 2
    # what stood after the stretch on the other lane still stands with what stood after it on this one
    assert source_at(longer, 20_000, 0) == ("a", 17_000)
    assert source_at(longer, 20_000, 1) == ("b", 17_000)


@pytest.mark.parametrize(
    "command",
    [CutAndClose(5, 5), CutAndClose(-1, 9), CutAndClose(0, LENGTH), CutAndClose(0, LENGTH + 1), CutAndFill(9, 3, TONE), SplitAt(0), SplitAt(LENGTH),
     SetGain(0, 10, 99.0), ReplaceByTake(0, 10, "b", 7, 7, 0.0, TONE)],
)  # fmt: skip
def test_impossible_commands_are_refused_and_change_nothing(command):
    reel = reel_of("a", LENGTH)
    with pytest.raises(EditRefused):
        command.apply(reel)
    assert reel == reel_of("a", LENGTH)


@pytest.mark.parametrize("bend", [0.0, -1.5, 2.0])
@pytest.mark.parametrize("shape", ["equal_power", "equal_gain"])
def test_crossfade_shapes(shape, bend):
    at = (np.arange(1000) + 0.5) / 1000
    rising, falling = (crossfade(at, Join(1000, shape, bend), rising=up) for up in (True, False))
    total = rising**2 + falling**2 if shape == "equal_power" else rising + falling
    assert np.allclose(total, 1.0)


def test_room_tone_has_even_power_and_does_not_repeat_at_once():
    reel = Reel((Lane("tone", (RoomTone("b", 0, 44_100, 200_000),)),))
    y = rendered(reel)
    levels = [20 * np.log10(np.std(y[at : at + 8820])) for at in range(0, 190_000, 8820)]
    assert np.ptp(levels) < 1.0
    assert not np.array_equal(y[:20_000], y[20_000:40_000])


def test_tone_without_a_recording_is_soft_and_never_silent():
    y = rendered(Reel((Lane("tone", (RoomTone("", 0, 0, 50_000),)),)))
    assert 20 * np.log10(np.std(y)) == pytest.approx(-72, abs=1)


def test_places_follow_the_cuts():
    reel = CutAndClose(5000, 9000).apply(reel_of("a", LENGTH))
    assert places_of(reel, "a", Span(4000, 10_000)) == [Span(4000, 5000), Span(5000, 6000)]
    assert places_of(reel, "a", Span(6000, 7000)) == []
    assert places_of(reel, "a", Span(12_000, 12_500)) == [Span(8000, 8500)]
    assert source_at(reel, 5000) == ("a", 9000)


def test_the_picture_shows_the_reel():
    reel = SetGain(0, 15_000, -20.0).apply(reel_of("a", LENGTH))
    pyramids = {name: overview_of([x]) for name, x in SOUNDS.items()}
    found = reel_columns(reel, pyramids.get, np.linspace(0, LENGTH, 61))
    assert found[1, 5:25].max() < 0.2 * found[1, 35:55].min()
    assert reel_columns(reel, lambda _: None, np.linspace(0, 100, 5)).shape == (2, 4)


COMMANDS = st.one_of(
    st.builds(lambda a, n: CutAndClose(a, a + n), st.integers(0, 25_000), st.integers(1, 3000)),
    st.builds(lambda a, n: CutAndFill(a, a + n, TONE), st.integers(0, 25_000), st.integers(1, 4000)),
    st.builds(SplitAt, st.integers(0, 30_000)),
    st.builds(lambda a, n, g: SetGain(a, a + n, g), st.integers(0, 25_000), st.integers(1, 4000), st.floats(-12, 6)),
    st.builds(MoveJoin, st.integers(0, 6), st.integers(-800, 800)),
    st.builds(
        lambda a, n, t, m: ReplaceByTake(a, a + n, "b", t, t + m, 1.5, TONE),
        st.integers(0, 25_000),
        st.integers(1, 3000),
        st.integers(0, 30_000),
        st.integers(1, 4000),
    ),
)


@settings(max_examples=60, deadline=None)
@given(st.lists(COMMANDS, max_size=8), st.lists(st.integers(1, 4000), min_size=1, max_size=6))
def test_any_edited_reel_renders_the_same_in_any_blocks(commands, sizes):
    reel = reel_of("a", LENGTH)
    for command in commands:
        try:
            reel = command.apply(reel)
        except EditRefused:
            continue
    whole = rendered(reel)
    renderer = Renderer(reel, source)
    parts, at, turn = [], 0, 0
    while at < len(reel):
        stop = min(len(reel), at + sizes[turn % len(sizes)])
        parts.append(renderer.render(at, stop))
        at, turn = stop, turn + 1
    assert np.array_equal(np.concatenate(parts), whole)
    assert np.isfinite(whole).all()


class HardEdits(RuleBasedStateMachine):
    """Commands with hard joins, against the same done to a plain array."""

    def __init__(self):
        super().__init__()
        self.reel = reel_of("a", LENGTH)
        self.plain = SOUNDS["a"].copy()

    @rule(a=st.integers(0, LENGTH), n=st.integers(1, 2000))
    def cut(self, a, n):
        if a + n < len(self.plain):
            self.reel = CutAndClose(a, a + n, HARD).apply(self.reel)
            self.plain = np.delete(self.plain, slice(a, a + n))

    @rule(at=st.integers(1, LENGTH))
    def split(self, at):
        if at < len(self.plain):
            self.reel = SplitAt(at).apply(self.reel)

    @rule(a=st.integers(0, LENGTH), n=st.integers(1, 2000), t=st.integers(0, 20_000), m=st.integers(1, 3000))
    def take(self, a, n, t, m):
        if a + n < len(self.plain):
            self.reel = ReplaceByTake(a, a + n, "b", t, t + m, 0.0, TONE, HARD, HARD).apply(self.reel)
            self.plain = np.concatenate([self.plain[:a], SOUNDS["b"][t : t + m], self.plain[a + n :]])

    @invariant()
    def same_samples(self):
        assert np.array_equal(rendered(hardened(self.reel)), self.plain)


def hardened(reel):
    """Cutting a segment gives its rest a soft join: make all hard for the comparison."""
    from dataclasses import replace

    return Reel(tuple(Lane(lane.name, tuple(replace(s, join=HARD) for s in lane.segments)) for lane in reel.lanes))


TestHardEdits = HardEdits.TestCase
TestHardEdits.settings = settings(max_examples=25, stateful_step_count=12, deadline=None)


@pytest.mark.parametrize("name", ["a.mp3", "a.ogg"])
def test_what_can_not_be_sought_in_is_rendered_as_it_decodes(tmp_path, name):
    """An MP3's decoder needs the frames before: reading it from the middle gives other samples for a while."""
    rng = np.random.default_rng(5)
    soundfile.write(tmp_path / name, (0.2 * rng.standard_normal(200_000)).astype(np.float32), 44_100)
    whole, _ = soundfile.read(tmp_path / name, dtype="float32")
    files = FileSources(lambda _: tmp_path / name)
    for start in (150_000, 0, 99_999, 150_500):
        assert np.array_equal(files("a", start, start + 3000), whole[start : start + 3000])
    files.close()


def test_a_missing_file_is_one_clear_message(tmp_path):
    with pytest.raises(FileProblem, match="missing"):
        FileSources(lambda _: tmp_path / "gone.wav")("a", 0, 10)
