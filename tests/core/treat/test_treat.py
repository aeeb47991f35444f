"""Treatments: what they take away, what they leave, that they do not depend on the blocks."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import butter, sosfreqz
from support.sounds import noise, sine, speech_like

from faithful_reel.core.treat.dynamics import Compressor, Limiter
from faithful_reel.core.treat.filters import LowCut

RATE = 44_100


def level(x):
    return 20 * np.log10(np.sqrt(np.mean(np.square(x, dtype=np.float64))) + 1e-12)


def in_blocks(unit, x, sizes):
    parts, at, turn = [], 0, 0
    while at < x.shape[-1]:
        n = sizes[turn % len(sizes)]
        parts.append(unit.feed(x[:, at : at + n]))
        at, turn = at + n, turn + 1
    if hasattr(unit, "flush"):
        parts.append(unit.flush())
    return np.concatenate(parts, axis=1)


@pytest.mark.parametrize("hz", [40, 80, 200, 1000])
def test_low_cut_follows_butterworth(hz):
    _, wanted = sosfreqz(butter(2, 80, "highpass", fs=RATE, output="sos"), [2 * np.pi * hz / RATE])
    y = LowCut(RATE).feed(sine(hz, seconds=3)[None])[0][RATE:]
    assert level(y) + 3.01 == pytest.approx(20 * np.log10(abs(wanted[0])), abs=0.1)


@settings(max_examples=15, deadline=None)
@given(st.lists(st.integers(1, 9000), min_size=1, max_size=5), st.sampled_from(["cut", "press", "limit"]))
def test_treatments_do_not_depend_on_the_blocks(sizes, which):
    x = (speech_like(seconds=2) * 2)[None]
    make = {
        "cut": lambda: LowCut(RATE), "press": lambda: Compressor(RATE), "limit": lambda: Limiter(RATE),
    }[which]  # fmt: skip
    whole, cut = in_blocks(make(), x, [x.shape[1]]), in_blocks(make(), x, sizes)
    assert whole.shape == cut.shape == x.shape
    assert np.allclose(whole, cut, atol=2e-6)


@pytest.mark.parametrize(("input_db", "output_db"), [(-40, -40), (-30, -30), (-10, -16), (-6, -14.4)])
def test_compressor_ratio(input_db, output_db):
    """2.5:1 over -20 dB: x dB over the threshold come out as x / 2.5 dB over it (definition of the ratio)."""
    x = sine(1000, seconds=4, db=input_db + 3.01)
    y = Compressor(RATE, threshold_db=-20, compression=2.5, knee_db=0.1).feed(x[None])[0]
    assert level(y[2 * RATE :]) == pytest.approx(output_db, abs=0.25)


def test_the_room_does_not_swell_in_a_pause():
    """While the sound is under -40 dB the gain stays: nothing soft is lifted (common practice)."""
    x = np.concatenate([sine(300, seconds=2, db=-4), noise(seconds=4, rms_db=-55)])
    y = Compressor(RATE).feed(x[None])[0]
    early, late = y[round(2.1 * RATE) : round(2.5 * RATE)], y[-RATE:]
    assert level(late) == pytest.approx(level(early), abs=0.3)
    assert level(early) < -55 - 3


def test_compressor_never_lifts():
    x = speech_like(seconds=4) * 3
    y = Compressor(RATE).feed(x[None])[0]
    assert (np.abs(y) <= np.abs(x) + 1e-6).all()


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 10_000), st.floats(-12, -0.5), st.floats(0, 24))
def test_limiter_never_overshoots(seed, ceiling, gain):
    rng = np.random.default_rng(seed)
    x = (rng.standard_normal(8000) * rng.choice([0.01, 1.0], 8000, p=[0.9, 0.1]) * 10 ** (gain / 20)).astype(np.float32)
    limiter = Limiter(RATE, ceiling_db=ceiling)
    y = in_blocks(limiter, x[None], [777])
    assert y.shape[1] == len(x)
    assert np.abs(y).max() <= np.float32(10 ** (ceiling / 20)) * (1 + 1e-6)


def test_limiter_leaves_what_is_under_the_ceiling():
    x = noise(seconds=1, rms_db=-30)
    assert np.allclose(in_blocks(Limiter(RATE, ceiling_db=-3), x[None], [5000])[0], x, atol=1e-7)


def test_channels_are_linked():
    loud, soft = sine(100, seconds=1, db=6), sine(100, seconds=1, db=-20)
    y = in_blocks(Limiter(RATE, 2, ceiling_db=-3), np.stack([loud, soft]), [4000])
    middle = slice(RATE // 4, RATE // 2)
    assert level(y[0, middle]) - level(y[1, middle]) == pytest.approx(26, abs=0.2)


def gains_of(limiter, x):
    """The gain that a limiter gave to every sample of a steady tone of 1, its lag taken out."""
    return in_blocks(limiter, x[None], [4096])[0] / x


def test_the_limiter_holds_its_gain_between_peaks_that_come_within_its_hold():
    """Two peaks 8 ms apart: between them the gain stays, which it would not if it recovered at once."""
    x = np.full(RATE // 2, 0.1, np.float32)
    first, second = RATE // 4, RATE // 4 + round(0.008 * RATE)
    x[[first, second]] = 1.0
    gains = gains_of(Limiter(RATE, ceiling_db=-6), x)
    least = 10 ** (-6 / 20)
    assert gains[first : second + 1] == pytest.approx(np.full(second - first + 1, least), abs=1e-3)
    unheld = gains_of(Limiter(RATE, ceiling_db=-6, hold_s=0.0), x)
    assert unheld[first : second + 1].max() > least * 1.02
    held_until = second + round(0.01 * RATE)
    assert gains[held_until - 40] < least * 1.02
    assert gains[held_until + round(0.1 * RATE)] > 0.8  # and then it recovers
    assert gains[: first - round(0.006 * RATE)] == pytest.approx(np.ones(first - round(0.006 * RATE)), abs=1e-6)


def test_the_limiter_is_down_before_the_peak_and_not_at_once():
    x = np.full(RATE // 2, 0.1, np.float32)
    at = RATE // 4
    x[at] = 1.0
    limiter = Limiter(RATE, ceiling_db=-6)
    gains = gains_of(limiter, x)
    ramp = gains[at - limiter.ahead : at + 1]
    assert (np.diff(ramp) <= 1e-6).all()
    assert np.abs(np.diff(ramp)).max() < 2 * (1 - 10 ** (-6 / 20)) / limiter.ahead  # no step
