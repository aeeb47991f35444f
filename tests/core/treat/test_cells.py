"""Treated sound hangs on what lies around alone: neither on blocks nor on where one begins to ask."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from support.flaws import held, whole
from support.sounds import RATE, noise, sine, speech_like

from faithful_reel.core.errors import Cancelled
from faithful_reel.core.jobs import FlagWatch
from faithful_reel.core.treat import cells
from faithful_reel.core.treat.cells import Streamed, grid, near, over_cells
from faithful_reel.core.treat.echo import EchoReduced
from faithful_reel.core.treat.hum import Hum, HumTaken
from faithful_reel.core.treat.noise import NoiseReduced, room_noise
from faithful_reel.core.treat.places import Patch, Patched
from faithful_reel.core.treat.tone import ToneSettings, ToneShaped
from faithful_reel.core.units import Span

SOUND = np.stack([speech_like(seconds=2, floor_db=-50), noise(seconds=2, rms_db=-30)])


def treatments():
    amplitudes = np.full((2, 3, 45), 0.01 + 0.005j)
    return {
        "noise": NoiseReduced(room_noise(held(SOUND), [Span(0, 9000)]), [Span(20_000, 50_000)]),
        "echo": EchoReduced(0.5, RATE),
        "hum": HumTaken(Hum(50.0, 0.1, -40.0, (1, 3), np.linspace(0, 2, 45), amplitudes), RATE),
        "tone": ToneShaped(ToneSettings(low_cut_hz=80, high_shelf_db=3), RATE),
        "patches": Patched([Patch(8100, SOUND[:, :300]), Patch(16_300, SOUND[:, 500:700])], -2.0),
    }


@pytest.mark.parametrize("name", ["noise", "echo", "hum", "tone", "patches"])
@settings(max_examples=6, deadline=None)
@given(sizes=st.lists(st.integers(700, 40_000), min_size=1, max_size=4))
def test_blocks_of_any_size_give_the_same_samples(name, sizes):
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(cells, "CELL", 16_384)
        treatment = treatments()[name]
        at_once = whole(held(SOUND), treatment)
        streamed, parts, at, turn = Streamed(treatment, 2), [], 0, 0
        while at < SOUND.shape[1]:
            parts.append(streamed.feed(SOUND[:, at : at + sizes[turn % len(sizes)]]))
            at, turn = at + sizes[turn % len(sizes)], turn + 1
            assert at - sum(p.shape[1] for p in parts) <= streamed.lag + max(sizes)
        parts.append(streamed.flush())
    assert np.array_equal(np.concatenate(parts, axis=1), at_once)
    assert at_once.shape == SOUND.shape


@pytest.mark.parametrize("name", ["noise", "echo", "tone"])
def test_cells_meet_without_a_seam(monkeypatch, name):
    """With other cells nearly the same comes out: what is looked at on either side is enough."""
    large = whole(held(SOUND), treatments()[name])
    monkeypatch.setattr(cells, "CELL", 16_384)
    small = whole(held(SOUND), treatments()[name])
    assert np.max(np.abs(large - small)) < 2e-3 * np.max(np.abs(large))


@given(st.integers(0, 10**6), st.integers(0, 10**6))
def test_the_grid_covers_a_stretch_once(a, b):
    rows = list(grid(min(a, b), max(a, b)))
    assert [x for row in rows for x in row][1:-1:2] == [x for row in rows for x in row][2::2]
    assert sum(stop - start for start, stop in rows) == abs(a - b)
    assert all(start // cells.CELL == (stop - 1) // cells.CELL for start, stop in rows)


def test_what_lies_around_ends_where_the_sound_does():
    here = near(held(SOUND), 10, 100, 50)
    assert (here.at, here.first, here.last, here.start, here.stop) == (0, 10, 100, 10, 100)
    assert here.sound.shape[1] == 150


def test_a_cancelled_pass_ends():
    asked = iter([False, True])
    watch = FlagWatch(lambda _done, _note: None, lambda: next(asked))
    with pytest.raises(Cancelled):
        list(over_cells(held(np.zeros(3 * cells.CELL)), 0, lambda cell: cell.start, watch))


def test_a_failure_in_a_cell_is_told():
    def fails(_cell):
        raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        list(over_cells(held(sine(100, seconds=1)), 0, fails))
