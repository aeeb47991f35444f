"""Sound recorded over a stretch: what of it is the reading, at which level it stands, and that nothing else is touched."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_reel.core.reel.reel import Lane, Piece, Reel
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.units import Span
from faithful_reel.core.work.recorded import Over, level_there, reading_in, shifted

RATE = 44_100


def speech(seconds, level_db=-20.0, seed=1):
    """Noise in syllables: bursts of 160 ms with dips between them, (n,)."""
    rng = np.random.default_rng(seed)
    t = np.arange(round(seconds * RATE)) / RATE
    x = rng.standard_normal(len(t)) * (0.15 + np.abs(np.sin(np.pi * t / 0.16)))
    return (x / np.sqrt(np.mean(x**2)) * 10 ** (level_db / 20)).astype(np.float32)


def room(seconds, level_db=-66.0, seed=2):
    return (np.random.default_rng(seed).standard_normal(round(seconds * RATE)) * 10 ** (level_db / 20)).astype(np.float32)


def test_an_early_entry_is_whole_and_the_last_sound_is_in_it():
    early = np.concatenate([room(2.6), speech(1.5), room(0.5, seed=4), speech(0.6, -38, seed=5), room(1.3, seed=6)])
    reading = reading_in(early, RATE, round(3.0 * RATE))  # the lead-in ended 0.4 s after the entry
    assert 2.3 * RATE < reading.start <= 2.6 * RATE
    assert 5.2 * RATE <= reading.stop < 5.5 * RATE  # a soft last word is in


def test_a_cough_in_the_lead_in_is_not_the_reading():
    x = np.concatenate([room(0.5), speech(0.3, -25), room(2.2, seed=3), speech(1.0), room(1.3, seed=4)])
    reading = reading_in(x, RATE, round(3.0 * RATE))
    assert 2.7 * RATE < reading.start <= 3.0 * RATE


def test_where_nobody_speaks_all_after_the_lead_in_is_the_reading():
    x = room(4.0)
    assert reading_in(x, RATE, 3 * RATE).stop == len(x)
    silent = np.zeros(RATE, np.float32)
    assert reading_in(silent, RATE, 1000) == Span(1000, RATE)
    assert reading_in(np.zeros(5, np.float32), RATE, 5) == Span(4, 5)


@pytest.mark.parametrize("offset", [0.02, -0.05])
def test_dc_and_rumble_are_no_reading(offset):
    t = np.arange(round(6.0 * RATE)) / RATE
    x = np.concatenate([room(3.0), speech(1.0), room(2.0, seed=4)])
    x = (x + offset + 0.01 * np.sin(2 * np.pi * 25 * t)).astype(np.float32)
    reading = reading_in(x, RATE, round(2.8 * RATE))
    assert 2.7 * RATE < reading.start <= 3.0 * RATE
    assert 4.0 * RATE <= reading.stop < 4.4 * RATE


@given(st.integers(-90_000, 90_000), st.integers(-90_000, 90_000), st.integers(0, 40_000), st.integers(900, 40_000))
def test_shifted_margins_stay_in_the_capture_and_in_order(start, stop, first, length):
    whole = 100_000
    reading = shifted(Span(first, first + length), whole, RATE, start=start, stop=stop)
    assert 0 <= reading.start < reading.stop <= whole
    if not start:
        assert reading.start == first
    if not stop and not start:
        assert reading.stop == first + length


def reel_of(*sounds):
    """A reel of two lanes and what gives their sounds."""
    book = {"nell": np.concatenate(sounds), "clerk": room(60, seed=9)}
    length = len(book["nell"])
    lanes = (Lane("Nell", (Piece("nell", 0, length),), gain_db=-6.0), Lane("Clerk", (Piece("clerk", 0, length),)))
    return Reel(lanes), lambda name, a, b: book[name][a:b]


def test_the_level_is_that_of_both_sides_and_never_that_of_the_misread():
    reel, source = reel_of(speech(5, -23), speech(2, -5, seed=7), speech(5, -23, seed=8))
    span = Span(5 * RATE, 7 * RATE)
    gain = level_there(reel, 0, span, source, speech(2, -33, seed=11), RATE)
    assert gain == pytest.approx(10.0, abs=0.7)
    assert level_there(reel, 0, span, source, speech(2, -13, seed=11), RATE) == pytest.approx(-10.0, abs=0.7)


def test_no_take_is_made_so_loud_that_it_clips():
    reel, source = reel_of(speech(5, -9), speech(2, -9), speech(5, -9))
    take = speech(2, -20, seed=11)
    take[1000] = 0.9
    assert level_there(reel, 0, Span(5 * RATE, 7 * RATE), source, take, RATE) <= 0.5


def test_what_is_laid_over_stands_there_and_all_around_stays():
    reel, source = reel_of(speech(3, -20), speech(2, -20, seed=7), speech(3, -20, seed=8))
    span = Span(3 * RATE, 5 * RATE)
    take = speech(4, -20, seed=12)
    known = lambda name, a, b: take[a:b] if name == "take" else source(name, a, b)  # noqa: E731
    over = Over("c1", reel, span, 0, "the words")
    reading = Span(RATE, RATE + round(2.5 * RATE))
    after = over.edit("take", reading, 0.0).apply(reel)
    assert len(after) == len(reel) + RATE // 2
    kept = over.edit("take", reading, 0.0, keep_time=True).apply(reel)
    assert len(kept) == len(reel)
    solo = lambda r: Renderer(Reel((r.lanes[0],)), known)  # noqa: E731
    edge = 2000  # a join
    before, now = solo(reel), solo(after)
    gain = np.float32(10 ** (-6 / 20))
    np.testing.assert_allclose(now.render(0, span.start - edge), before.render(0, span.start - edge), atol=1e-6)
    np.testing.assert_allclose(
        now.render(span.start + edge, span.start + len(reading) - edge),
        gain * take[reading.start + edge : reading.stop - edge],
        atol=1e-6,
    )
    rest = span.start + len(reading)
    np.testing.assert_allclose(now.render(rest + edge, len(after)), before.render(span.stop + edge, len(reel)), atol=1e-6)
