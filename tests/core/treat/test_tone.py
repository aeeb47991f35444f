"""Tone: the printed formulas, no shift in phase, and a bounded match towards another balance."""

from __future__ import annotations

import numpy as np
import pytest
from pyloudnorm.iirfilter import IIRfilter
from scipy.signal import butter, freqz_sos
from support.flaws import held, level, whole
from support.sounds import RATE, noise, sine, speech_like

from faithful_reel.core.treat.filters import section
from faithful_reel.core.treat.pauses import voice_of
from faithful_reel.core.treat.tone import Bell, ToneSettings, ToneShaped, balance, towards

KINDS = {"low shelf": "low_shelf", "high shelf": "high_shelf", "bell": "peaking", "low cut": "high_pass", "high cut": "low_pass"}


@pytest.mark.published("Cookbook formulae for audio equalizer biquad filter coefficients (W3C note), by pyloudnorm's own filters")
@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize(("hz", "gain", "q"), [(120, 4.0, 0.7), (1000, -6.0, 1.4), (8000, 2.0, 0.5)])
def test_sections_are_those_of_the_cookbook(kind, hz, gain, q):
    other = IIRfilter(gain, q, hz, RATE, KINDS[kind])
    assert np.allclose(section(kind, hz, RATE, gain_db=gain, q=q), np.concatenate([other.b, other.a]), atol=1e-12)


@pytest.mark.published("Butterworth polynomials, scipy.signal.butter")
@pytest.mark.parametrize(("kind", "name"), [("low cut", "highpass"), ("high cut", "lowpass")])
def test_cuts_are_butterworth(kind, name):
    assert np.allclose(section(kind, 300, RATE), butter(2, 300, name, fs=RATE, output="sos")[0], atol=1e-9)


@pytest.mark.parametrize("hz", [0, RATE / 2, -5])
def test_a_section_outside_of_the_spectrum_is_our_mistake(hz):
    with pytest.raises(ValueError, match="at a rate of"):
        section("bell", hz, RATE, gain_db=3)


def test_the_whole_tone_has_the_gain_of_its_sections_and_no_phase():
    settings = ToneSettings(
        low_cut_hz=80, low_shelf_db=4, high_shelf_db=2, bells=(Bell(450, -3, 1),), curve=((100, 0), (3000, 1))
    )
    x = np.zeros((1, RATE), np.float32)
    x[0, RATE // 2] = 1
    spectrum = np.fft.rfft(np.roll(whole(held(x), ToneShaped(settings, RATE))[0], -RATE // 2))
    hz = np.array([60, 80, 120, 450, 1000, 8000, 12_000])
    rows = [
        section("low cut", 80, RATE),
        section("low shelf", 120, RATE, gain_db=4),
        section("high shelf", 8000, RATE, gain_db=2),
    ]
    _, wanted = freqz_sos(np.array([*rows, section("bell", 450, RATE, gain_db=-3, q=1)]), worN=hz, fs=RATE)
    curve = np.interp(np.log2(hz), np.log2([100, 3000]), [0, 1])
    assert np.allclose(20 * np.log10(np.abs(spectrum[hz])), 20 * np.log10(np.abs(wanted)) + curve, atol=0.1)
    assert np.max(np.abs(np.angle(spectrum[hz]))) < 0.01


def test_what_a_low_cut_takes_from_a_voice_is_next_to_nothing():
    """A cut that shifts the phase would leave -10 dB of the voice in it."""
    x = speech_like(seconds=6, floor_db=-90)
    taken = x - whole(held(x), ToneShaped(ToneSettings(low_cut_hz=60), RATE))[0]
    assert level(taken) - level(x) < -30


def test_cuts_and_bells_over_half_of_a_low_rate_are_none():
    x = noise(seconds=1, rms_db=-20, rate=8000)
    settings = ToneSettings(high_cut_hz=12_000, high_shelf_hz=9000, high_shelf_db=6, bells=(Bell(5000, 9, 1),))
    assert np.array_equal(whole(held(x, 8000), ToneShaped(settings, 8000))[0], x)


def test_dc_goes_and_the_level_is_set():
    x = sine(300, seconds=1, db=-12) + np.float32(0.1)
    y = whole(held(x), ToneShaped(ToneSettings(), RATE, offset=np.array([0.1]), gain_db=3))[0]
    assert abs(np.mean(y)) < 1e-4
    assert 20 * np.log10(np.max(np.abs(y))) == pytest.approx(-9, abs=0.01)


def test_a_darker_reading_is_brought_towards_another_within_bounds():
    x = speech_like(seconds=8)
    dull = whole(held(x), ToneShaped(ToneSettings(high_shelf_hz=3000, high_shelf_db=-3), RATE))
    own, wanted = (balance(held(y), voice_of(held(y))) for y in (dull, x))
    by = towards(own, wanted)
    assert by[-1] - by[4] == pytest.approx(3, abs=0.7)
    after = whole(held(dull), ToneShaped(ToneSettings(), RATE, more_db=by))
    again = balance(held(after), voice_of(held(after)))
    assert np.max(np.abs(again - wanted)) < 0.5 * np.max(np.abs(own - wanted))
    assert np.max(np.abs(towards(own, own + 30 * (np.arange(20) % 2)))) <= 4.0
