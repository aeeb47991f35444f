"""Measures against printed values and against other programs."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from support.sounds import noise, sine, speech_like

from faithful_reel.core.errors import SignalError
from faithful_reel.core.measure.levels import Meter, figures_of, k_weighting

BS1770 = pytest.mark.published("ITU-R BS.1770-4, annex 1, tables 1 and 2")
TECH3341 = pytest.mark.published("EBU Tech 3341, table 1, signals 1 to 5")


@BS1770
def test_the_filters_at_48_khz_are_the_printed_ones():
    shelf = [1.53512485958697, -2.69169618940638, 1.19839281085285, -1.69065929318241, 0.73248077421585]
    high_pass = [1.0, -2.0, 1.0, -1.99004745483398, 0.99007225036621]
    assert k_weighting(48_000) == pytest.approx(np.array([shelf, high_pass]), abs=1e-8)


@pytest.mark.published("ITU-R BS.1770-4, annex 1: 0 dBFS, 997 Hz, one channel reads -3.01 LKFS")
@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_a_full_scale_sine_reads_as_printed(rate):
    assert figures_of(sine(997, seconds=5, rate=rate), rate).lufs == pytest.approx(-3.01, abs=0.02)


def stereo(*parts: tuple[float, float]) -> np.ndarray:
    mono = np.concatenate([sine(1000, seconds=s, db=db, rate=48_000) for db, s in parts])
    return np.stack([mono, mono])


@TECH3341
@pytest.mark.parametrize(
    ("parts", "lufs"),
    [
        ([(-23, 20)], -23.0),
        ([(-33, 20)], -33.0),
        ([(-36, 10), (-23, 60), (-36, 10)], -23.0),
        ([(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23.0),
        ([(-26, 20), (-20, 20.1), (-26, 20)], -23.0),
    ],
)
def test_ebu_signals(parts, lufs):
    assert figures_of(stereo(*parts), 48_000).lufs == pytest.approx(lufs, abs=0.1)


def test_plain_rms_convention():
    figures = figures_of(sine(1000, seconds=2), 44_100)
    assert figures.rms_db == pytest.approx(-3.01, abs=0.01)
    assert figures.peak_db == pytest.approx(0.0, abs=0.01)


def test_true_peak_sees_between_the_samples():
    # a quarter-rate sine that starts at 45 degrees has samples at 0.707 only: the true peak is 3.01 dB higher
    x = np.sin(2 * np.pi * 0.25 * np.arange(44_100) + np.pi / 4).astype(np.float32)
    figures = figures_of(x, 44_100)
    assert figures.peak_db == pytest.approx(-3.01, abs=0.01)
    assert figures.true_peak_db == pytest.approx(0.0, abs=0.3)


@pytest.mark.parametrize("floor", [-50.0, -62.0, -75.0])
def test_noise_floor_of_known_noise(floor):
    x = speech_like(seconds=20, floor_db=-120) + noise(seconds=20, rms_db=floor)
    assert figures_of(x, 44_100).noise_floor_db == pytest.approx(floor, abs=0.5)


def test_digital_silence_is_no_noise_floor():
    x = np.concatenate([np.zeros(44_100 * 2, np.float32), noise(seconds=3, rms_db=-40)])
    assert figures_of(x, 44_100).noise_floor_db == pytest.approx(-40, abs=0.5)


def test_head_and_tail():
    quiet = noise(seconds=0.75, rms_db=-66)
    x = np.concatenate([quiet, noise(seconds=5, rms_db=-20, seed=2), noise(seconds=2.5, rms_db=-66, seed=3)])
    figures = figures_of(x, 44_100)
    assert figures.head_s == pytest.approx(0.75, abs=0.06)
    assert figures.tail_s == pytest.approx(2.5, abs=0.06)


@settings(max_examples=25, deadline=None)
@given(st.lists(st.integers(1, 9000), min_size=1, max_size=12))
def test_figures_do_not_depend_on_the_blocks(sizes):
    x = speech_like(seconds=3)
    meter = Meter(44_100)
    at = 0
    for size in [*sizes, len(x)]:
        if at < len(x):
            meter.feed(x[at : at + size])
            at += size
    while at < len(x):
        meter.feed(x[at : at + 5000])
        at += 5000
    whole = figures_of(x, 44_100)
    assert meter.figures().rms_db == pytest.approx(whole.rms_db, abs=1e-9)
    assert meter.figures().lufs == pytest.approx(whole.lufs, abs=1e-6)
    assert meter.figures().noise_floor_db == pytest.approx(whole.noise_floor_db, abs=1e-9)


@pytest.mark.parametrize("bad", [np.array([0.0, np.nan]), np.array([np.inf])])
def test_values_that_are_no_numbers_are_refused(bad):
    with pytest.raises(SignalError):
        figures_of(bad, 44_100)


def test_nothing_has_no_level():
    with pytest.raises(SignalError):
        Meter(44_100).figures()


def test_one_sample_and_silence_have_figures():
    assert figures_of(np.ones(1, np.float32) * 0.5, 44_100).peak_db == pytest.approx(-6.02, abs=0.01)
    assert figures_of(np.zeros(44_100, np.float32), 44_100).rms_db == -200
