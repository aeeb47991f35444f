"""Short stretches drawn anew: against what was there, against a cubic line, and against what published methods must do."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.interpolate import CubicSpline
from scipy.signal import lfilter

from faithful_reel.core.errors import SignalError
from faithful_reel.core.treat.redraw import burg, predictor, redrawn

RATE = 44_100


@pytest.fixture(scope="module")
def voice():
    """The demo's voice, made for this project, and where loud voiced frames of it begin."""
    x = soundfile.read("demo/book/chapter-1.flac", dtype="float32")[0]
    table = x[: len(x) // 1024 * 1024].reshape(-1, 1024)
    level = np.mean(table**2, axis=1)
    crossings = np.mean(np.abs(np.diff(np.sign(table), axis=1)) > 0, axis=1)
    return x, 1024 * np.flatnonzero((level > np.percentile(level, 75)) & (crossings < 0.08))


@pytest.mark.parametrize("method", [predictor, burg])
def test_a_process_of_known_coefficients_is_found(method):
    """Kay, Modern spectral estimation (1988): an autoregressive process, here of order 2 with poles at 0.95, 0.3 of the rate."""
    a = np.array([1.0, -2 * 0.95 * np.cos(2 * np.pi * 0.1), 0.95**2])
    x = lfilter([1.0], a, np.random.default_rng(1).standard_normal(40_000))
    assert method(x, 2) == pytest.approx(a, abs=0.02)
    if method is burg:  # always stable
        assert np.abs(np.roots(burg(np.random.default_rng(2).standard_normal(300), 40))).max() < 1


def gain_db(voice, ms, seed, count=30):
    """How much of the sound was drawn rightly, in dB, in the median; and the same of a cubic line: gaps in vowels."""
    x, places = voice
    rng, length = np.random.default_rng(seed), round(ms * RATE / 1000)
    found = []
    for place in rng.choice(places[(places > 4000) & (places < len(x) - 8000)], count):
        a = int(place + rng.integers(0, 800))
        true = x[a : a + length]
        beside = np.r_[a - 8 : a, a + length : a + length + 8]
        cubic = CubicSpline(beside, x[beside])(np.arange(a, a + length))
        made = redrawn(x[a - 4000 : a + 8000], 4000, 4000 + length, RATE)[4000 : 4000 + length]
        found.append([10 * np.log10(np.sum(true**2) / (np.sum((y - true) ** 2) + 1e-20)) for y in (made, cubic)])
    return np.median(found, axis=0)


@pytest.mark.parametrize(
    ("ms", "least", "over_cubic"), [(0.5, 18, 6), (1, 12, 7), (2, 9, 10), (5, 4, 9), (10, 2.5, 10), (20, 1.5, 15)]
)
def test_gaps_in_vowels_are_drawn_better_than_by_a_line(voice, ms, least, over_cubic):
    made, cubic = gain_db(voice, ms, seed=round(10 * ms))
    assert made > least
    assert made - cubic > over_cubic


@settings(deadline=None, max_examples=40)
@given(st.integers(0, 3000), st.integers(1, 882), st.integers(0, 2**32 - 1), st.sampled_from([16_000, 44_100, 96_000]))
def test_nothing_else_changes_and_what_is_drawn_is_bounded(first, length, seed, rate):
    rng = np.random.default_rng(seed)
    x = (lfilter([1.0], [1, -1.6, 0.9], rng.standard_normal(4000)) * 0.02 + 0.1).astype(np.float32)
    length = min(length, round(0.02 * rate), len(x) - first)
    y = redrawn(x, first, first + length, rate)
    assert np.array_equal(y[:first], x[:first])
    assert np.array_equal(y[first + length :], x[first + length :])
    assert np.isfinite(y).all()
    assert np.abs(y).max() <= 3 * np.abs(x).max()


def test_what_was_in_the_gap_says_nothing(voice):
    x, places = voice
    a = int(places[20])
    near = x[a - 3000 : a + 3000].copy()
    clicked = near.copy()
    clicked[3000:3040] += 0.7
    assert np.array_equal(redrawn(near, 3000, 3040, RATE), redrawn(clicked, 3000, 3040, RATE))


def test_too_long_too_lonely_and_silent_stretches():
    x = np.zeros(4000, np.float32)
    assert not redrawn(x, 1000, 1100, RATE).any()
    with pytest.raises(SignalError, match="23 ms are too long"):
        redrawn(x, 1000, 2000, RATE)
    with pytest.raises(SignalError, match="too little sound"):
        redrawn(x[:100], 30, 60, RATE)
    with pytest.raises(ValueError, match="no stretch"):
        redrawn(x, 10, 10, RATE)
