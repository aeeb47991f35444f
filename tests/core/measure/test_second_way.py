"""Figures computed a second, slow way; every limit and every shortcoming at its edge."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.signal import lfilter
from support.sounds import noise, sine, speech_like

from faithful_reel.core.errors import SignalError
from faithful_reel.core.measure.health import Health, HealthMeter, shortcomings
from faithful_reel.core.measure.levels import Figures, Meter, figures_of, k_weighting, rms_db
from faithful_reel.core.measure.picture import Scale, SpectrumLook, spectrogram
from faithful_reel.core.measure.profile import load_profile, verdicts
from faithful_reel.core.units import Span

RATE = 44_100


def weighted(x, rate=RATE):
    """K-weighted channels, by SciPy's filter."""
    for b0, b1, b2, a1, a2 in k_weighting(rate):
        x = lfilter([b0, b1, b2], [1, a1, a2], x)
    return x


def block_powers(x, seconds, rate=RATE):
    """Mean powers, summed over channels, of windows that step by a tenth of a second."""
    y, hop, size = weighted(np.atleast_2d(x).astype(np.float64), rate), round(0.1 * rate), round(seconds * rate)
    return np.array([np.square(y[:, at : at + size]).mean(axis=1).sum() for at in range(0, y.shape[1] - size + 1, hop)])


def lufs(power):
    return -0.691 + 10 * np.log10(power)


@pytest.fixture(scope="module")
def reading():
    rng = np.random.default_rng(1)
    parts = [speech_like(seconds=4, seed=i) * 10 ** (rng.uniform(-25, 0) / 20) for i in range(6)]
    return np.concatenate([noise(seconds=2, rms_db=-75), *parts])


@pytest.mark.parametrize("channels", [1, 2])
def test_loudness_by_blocks_and_gates(reading, channels):
    x = np.stack([reading, 0.5 * reading])[:channels]
    power = block_powers(x, 0.4)
    loud = power[lufs(power) > -70]
    gated = loud[lufs(loud) > lufs(loud.mean()) - 10]
    assert figures_of(x, RATE).lufs == pytest.approx(lufs(gated.mean()), abs=0.01)


def test_loudness_range_by_blocks_and_gates(reading):
    power = block_powers(reading, 3.0)
    loud = power[lufs(power) > -70]
    gated = loud[lufs(loud) > lufs(loud.mean()) - 20]
    low, high = np.percentile(lufs(gated), [10, 95])
    assert figures_of(reading, RATE).range_lu == pytest.approx(high - low, abs=0.01)
    assert high - low > 3


def test_what_is_too_short_or_too_soft_has_no_range():
    assert figures_of(speech_like(seconds=2.9), RATE).range_lu == 0.0
    assert figures_of(noise(seconds=5, rms_db=-90), RATE).range_lu == 0.0
    assert figures_of(np.zeros(5 * RATE, np.float32), RATE).lufs == -200


def test_surround_channels_weigh_more_in_the_range_as_in_the_loudness():
    x = np.zeros((5, 8 * RATE), np.float32)
    x[0, : 4 * RATE] = sine(1000, seconds=4, db=-20)
    x[3, 4 * RATE :] = sine(1000, seconds=4, db=-20)
    one, more = figures_of(x[:1], RATE), figures_of(x, RATE)
    assert more.lufs > one.lufs
    assert more.range_lu == pytest.approx(10 * np.log10(1.41), abs=0.2)


def test_the_floor_is_the_mean_of_the_quietest_half_seconds():
    parts = [noise(seconds=1, rms_db=db, seed=i) for i, db in enumerate([-50, -62, -40, -61.5, -30, -70, -20])]
    x = np.concatenate(parts)
    assert figures_of(x, RATE).noise_floor_db == pytest.approx(-70, abs=0.3)  # the others are more than 1 dB over it
    alike = np.concatenate([noise(seconds=1, rms_db=db, seed=i) for i, db in enumerate([-60, -30, -59.5, -30, -59.2, -30, -50])])
    expected = 10 * np.log10(np.mean([10**-6.0, 10**-6.0, 10**-5.95, 10**-5.95]))
    assert figures_of(alike, RATE).noise_floor_db == pytest.approx(expected, abs=0.35)
    assert figures_of(noise(seconds=0.3, rms_db=-40), RATE).noise_floor_db == pytest.approx(-40, abs=0.3)


def test_digital_silence_is_told_and_where_it_is_only_short_not():
    x = noise(seconds=6, rms_db=-60)
    x[RATE : 3 * RATE] += speech_like(seconds=2)
    x[4 * RATE : 5 * RATE] = 0
    found = figures_of(x, RATE)
    assert found.dead_s == pytest.approx(1.0, abs=0.05)
    assert found.noise_floor_db == pytest.approx(-60, abs=0.5)  # no floor of -200 dB
    short = noise(seconds=6, rms_db=-60)
    short[4 * RATE : 4 * RATE + round(0.04 * RATE)] = 0
    assert figures_of(short, RATE).dead_s == 0
    head = noise(seconds=6, rms_db=-60)
    head[: round(0.09 * RATE)] = 0  # as encoders pad
    assert figures_of(head, RATE).dead_s == 0
    head[: round(0.5 * RATE)] = 0
    assert figures_of(head, RATE).dead_s == pytest.approx(0.5, abs=0.05)


def test_a_dead_channel_is_counted_and_does_not_lower_the_floor():
    x = np.stack([speech_like(seconds=5), np.zeros(5 * RATE, np.float32)])
    found = figures_of(x, RATE)
    assert found.dead_channels == 1
    assert found.noise_floor_db == pytest.approx(figures_of(x[0], RATE).noise_floor_db, abs=0.01)
    assert found.rms_db == pytest.approx(figures_of(x[0], RATE).rms_db - 3.01, abs=0.01)  # over the whole file
    assert figures_of(np.zeros((2, RATE), np.float32), RATE).dead_channels == 0


def test_levels_alone_are_the_same_levels():
    x = speech_like(seconds=4)
    quick = Meter(RATE, only_levels=True)
    for part in np.array_split(x, 7):
        quick.feed(part)
    whole = figures_of(x, RATE)
    assert quick.levels() == pytest.approx((whole.rms_db, whole.lufs), abs=1e-6)


def test_figures_say_what_was_fed():
    found = figures_of(np.stack([speech_like(seconds=3)] * 2), RATE)
    assert (found.seconds, found.rate, found.channels) == (3.0, RATE, 2)
    assert found.as_json()["lufs"] == round(found.lufs, 3)
    with pytest.raises(ValueError, match="expected 1 channels, got 2"):
        Meter(RATE).feed(np.zeros((2, 5), np.float32))
    with pytest.raises(SignalError, match="not numbers"):
        Meter(RATE).feed(np.array([np.nan]))


def test_what_nobody_speaks_in_is_all_head():
    quiet = figures_of(noise(seconds=3, rms_db=-70), RATE)
    if quiet.head_s == quiet.seconds:
        assert quiet.tail_s == quiet.seconds
    x = np.concatenate([noise(seconds=1, rms_db=-70), speech_like(seconds=4), noise(seconds=2, rms_db=-70)])
    found = figures_of(x, RATE)
    assert found.head_s + found.tail_s < found.seconds


def test_rms_of_a_stretch():
    assert rms_db(sine(1000, seconds=1, db=-10)) == pytest.approx(-13.01, abs=0.01)
    assert rms_db(np.zeros(0, np.float32)) == -200
    assert rms_db(np.zeros(9, np.float32)) == -200


# --- verdicts ---------------------------------------------------------------------------------------------------------

GOOD = Figures(-20, -3.2, -3.1, -19, -63, 0.75, 2.5, 600, 44_100, 1, "mp3", 192_000, cbr=True, pause_floor_db=-61)


def told(**change):
    return {v.rule: v for v in verdicts(replace(GOOD, **change), load_profile("retail"))}


def test_every_rule_of_the_retail_profile_says_its_limit_and_what_it_found():
    found = told()
    assert {rule: (v.limit, v.value) for rule, v in found.items()} == {
        "rms": ("-23 to -18 dB", -20),
        "peak": ("at most -3 dB", -3.2),
        "noise_floor": ("at most -60 dB", -63),
        "pause_floor": ("at most -60 dB", -61),
        "dead_silence": ("none", "none"),
        "head": ("0.5 to 1 s", 0.75),
        "tail": ("1 to 5 s", 2.5),
        "length": ("at most 7200 s", 600),
        "rate": ("44100 Hz", 44_100),
        "channels": ("1 or 2", 1),
        "codec": ("mp3 or wav or flac", "mp3"),
        "bit_rate": ("at least 192 kbit/s", 192_000),
        "constant_bit_rate": ("constant", "constant"),
    }
    assert found["rms"].as_json() == {"rule": "rms", "limit": "-23 to -18 dB", "value": -20, "pass": True}


@pytest.mark.parametrize(
    ("change", "rule", "value"),
    [
        ({"dead_s": 0.06}, "dead_silence", "0.06 s"),
        ({"pause_floor_db": -59.99}, "pause_floor", -59.99),
        ({"head_s": 0.449}, "head", 0.45),
        ({"head_s": 1.051}, "head", 1.05),
        ({"tail_s": 0.949}, "tail", 0.95),
        ({"tail_s": 5.051}, "tail", 5.05),
        ({"dead_channels": 1, "channels": 2}, "channels", "2, 1 of them dead"),
        ({"cbr": None}, "constant_bit_rate", "variable"),
        ({"bit_rate": 191_999}, "bit_rate", 191_999),
    ],
)
def test_what_is_just_outside_fails_with_its_figure(change, rule, value):
    found = told(**change)
    assert [r for r, v in found.items() if not v.passed] == [rule]
    assert found[rule].value == value


@pytest.mark.parametrize(
    "change", [{"head_s": 0.45}, {"head_s": 1.05}, {"tail_s": 0.95}, {"tail_s": 5.05}, {"pause_floor_db": -60.0}]
)
def test_what_is_just_inside_passes(change):
    assert all(v.passed for v in told(**change).values())


def test_rules_that_do_not_apply_are_not_asked():
    assert {"bit_rate", "constant_bit_rate"} & set(told(codec="wav")) == set()
    assert "codec" not in told(codec="")
    lax = replace(
        load_profile("retail"), rates=(), channels=(), codecs=(), noise_floor_db=None, longest_s=None, rms_db=None, cbr=False
    )
    rules = [v.rule for v in verdicts(GOOD, lax)]
    assert rules == ["peak", "head", "tail", "bit_rate"]


# --- health -----------------------------------------------------------------------------------------------------------

SOUND = Health("24-bit", "wav", 60.0, 0, (), 0.0, 0.0, -200.0, 3.0, 0.6, 55.0)


def missed(*, rate=44_100, peak_db=-6.0, rms_db=-22.0, noise_floor_db=-66.0, **change):
    return shortcomings(replace(SOUND, **change), rate=rate, peak_db=peak_db, rms_db=rms_db, noise_floor_db=noise_floor_db)


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({}, []),
        ({"rate": 44_099}, ["recorded at 44099 Hz, under the 44100 Hz that retailers ask for"]),
        ({"clipped": 3}, ["3 clipped samples"]),
        ({"clipped": 3, "peak_db": 0.0}, ["3 clipped samples"]),
        ({"peak_db": -0.05}, ["touches full scale"]),
        ({"peak_db": -0.1}, []),
        ({"noise_floor_db": -60.0}, []),
        ({"noise_floor_db": -59.9}, ["noise floor of −59.9 dB needs noise reduction (limit −60 dB)"]),
        ({"noise_floor_db": -50.0}, ["noise floor of −50.0 dB needs noise reduction (limit −60 dB)"]),
        ({"noise_floor_db": -49.0}, ["noise floor of −49 dB is hard to mend (limit −60 dB)"]),
        ({"rms_db": -34.2}, []),
        ({"rms_db": -38.0}, ["the voice is soft, −36 dB: at −20 dB its noise floor is −50 dB (limit −60 dB)"]),
        ({"rms_db": -38.0, "speech": 0.2}, []),  # a second voice, which waits most of the time
        ({"rms_db": -90.0, "speech": 0.0}, ["nobody speaks in it"]),
        ({"dc": 0.005}, []),
        ({"dc": 0.006}, ["DC of 0.6 % of full scale"]),
        ({"hum_hz": 50.0, "hum_db": -66.0}, []),
        ({"hum_hz": 50.0, "hum_db": -65.0}, ["hum at 50 Hz, −65 dB"]),
        ({"hum_hz": 0.0, "hum_db": -20.0}, []),
        ({"tone_s": 1.0}, []),
        ({"tone_s": 0.9}, ["only 0.9 s of room tone found"]),
        ({"speech": 0.05}, []),
        ({"speech": 0.04}, ["nobody speaks in it"]),
        ({"cut_short": "breaks off"}, ["breaks off"]),
    ],
)
def test_a_shortcoming_begins_at_its_limit(change, says):
    assert missed(**change) == says


def health_of(x, *, rate=RATE, block=7000, **more):
    x = np.atleast_2d(x).astype(np.float32)
    meter = HealthMeter(rate, x.shape[0])
    for at in range(0, x.shape[1], block):
        meter.feed(x[:, at : at + block])
    return meter.health(**more), meter


def test_health_carries_what_it_was_told():
    found, _ = health_of(speech_like(seconds=3), depth="16-bit", codec="flac", cut_short="breaks off")
    assert (found.depth, found.codec, found.cut_short, found.seconds) == ("16-bit", "flac", "breaks off", 3.0)


@pytest.mark.parametrize(
    ("run", "value", "clipped"),
    [(2, 1.0, 0), (3, 1.0, 3), (3, -1.0, 3), (3, 0.9888, 3), (3, 0.9885, 0), (4, 1.0, 4)],
)
def test_a_flat_top_is_three_samples_near_full_scale(run, value, clipped):
    x = 0.2 * speech_like(seconds=2)
    x[30_000 : 30_000 + run] = value
    found, _ = health_of(x)
    assert found.clipped == clipped
    assert found.places == (((30_000, run),) if clipped else ())


def test_the_very_last_samples_count():
    x = 0.2 * speech_like(seconds=1)
    x[-3:] = 1.0
    assert health_of(x)[0].places == ((RATE - 3, 3),)


def test_many_places_are_counted_and_the_first_fifty_told():
    x = 0.2 * speech_like(seconds=4)
    for k in range(70):
        x[1000 + 2000 * k : 1004 + 2000 * k] = 1.0
    found, _ = health_of(x)
    assert found.clipped == 280
    assert found.places == tuple((1000 + 2000 * k, 4) for k in range(50))


def test_the_greatest_dc_of_any_channel():
    x = np.stack([noise(seconds=1, rms_db=-30), noise(seconds=1, rms_db=-30, seed=2) - 0.02])
    assert health_of(x)[0].dc == pytest.approx(0.02, abs=1e-3)


def test_pauses_and_the_finished_length():
    speech = [noise(seconds=2, rms_db=-20, seed=i) for i in range(3)]
    x = np.concatenate([speech[0], noise(seconds=4, rms_db=-66), speech[1], noise(seconds=1, rms_db=-66, seed=8), speech[2]])
    found, meter = health_of(x)
    assert found.speech == pytest.approx(6 / 11, abs=0.02)
    assert found.finished_s == pytest.approx(11 - (4 - 1.5), abs=0.1)
    assert found.tone_s == pytest.approx(5, abs=0.2)
    tone = meter.tone()
    assert 2 * RATE <= tone.start < tone.stop <= 6 * RATE
    assert tone == Span(tone.start // 882 * 882, tone.stop // 882 * 882)  # whole frames
    assert len(meter.levels) == len(x) // 882
    assert HealthMeter(RATE, 1).health().seconds == 0


def test_hum_under_a_voice_and_none_where_there_is_none():
    t = np.arange(8 * RATE) / RATE
    voice = np.concatenate([noise(seconds=4, rms_db=-72), speech_like(seconds=4, floor_db=-72)])
    assert health_of(voice)[0].hum_hz == 0.0
    assert health_of(voice)[0].hum_db == -200.0
    hum = (10 ** (-58 / 20) * np.sqrt(2) * np.sin(2 * np.pi * 100 * t)).astype(np.float32)  # its second harmonic alone
    found, _ = health_of(voice + hum)
    assert found.hum_hz == pytest.approx(50, abs=0.2)
    assert found.hum_db == pytest.approx(-58, abs=1)


# --- the spectrogram --------------------------------------------------------------------------------------------------


def test_a_tone_is_a_line_at_its_height_and_the_rest_is_dark():
    hz = 2000
    shades = spectrogram(sine(hz, seconds=1, db=-20), 50, height=100)
    assert shades.shape == (100, 50)
    assert shades.dtype == np.float32
    rows = np.linspace(1, 0, 100) ** 2 * 20_000  # the frequency of every row
    lit = rows[(shades > 0.99).any(axis=1)]
    assert lit.size
    assert np.abs(lit - hz).max() < 130  # the distance of two rows there
    assert shades.max() == 1.0
    assert shades[:5].max() == 0.0  # near 20 kHz


@pytest.mark.parametrize("scale", list(Scale))
@pytest.mark.parametrize(("hz", "top"), [(440, 5000.0), (3000, 10_000.0), (8000, 20_000.0)])
def test_a_tone_stands_where_its_frequency_does_on_every_scale(scale, hz, top):
    look = SpectrumLook(scale, top_hz=top, frame=4096)
    shades = spectrogram(sine(hz, seconds=1, db=-20), 20, height=400, look=look)
    row = float(np.mean(np.flatnonzero((shades > 0.99).any(axis=1))))
    assert 1 - row / 399 == pytest.approx(look.share_of(hz), abs=0.01)
    assert look.share_of(1.01 * top) > 1
    assert look.frequencies(100)[0] == pytest.approx(top)


def test_a_longer_window_tells_closer_tones_apart_and_a_shorter_one_quicker_changes():
    both = sine(1000, seconds=1, db=-20) + sine(1060, seconds=1, db=-20)
    even = [spectrogram(both, 5, height=500, look=SpectrumLook(Scale.EVEN, 2000.0, 40.0, f))[:, 2] for f in (512, 4096)]
    between = [shade[round(499 * (1 - 1030 / 2000))] for shade in even]
    assert between[0] > 0.9
    assert between[1] < 0.5
    x = np.concatenate([np.zeros(RATE // 2, np.float32), sine(1000, seconds=0.5, db=-20)])
    edges = [np.flatnonzero(spectrogram(x, 200, look=SpectrumLook(frame=f)).max(axis=0) > 0.3)[0] for f in (256, 4096)]
    assert edges[1] < edges[0] <= 102
    deep = spectrogram(np.concatenate([x, x / 1000]), 40, look=SpectrumLook(deepest_db=50.0))
    assert deep[:, -8:].max() == 0


def test_time_runs_to_the_right_and_the_depth_is_80_db():
    x = np.concatenate([sine(1000, seconds=1, db=-20), sine(1000, seconds=1, db=-60)])
    shades = spectrogram(x, 40)
    first, last = shades[:, :18].max(), shades[:, -18:].max()
    assert first == 1.0
    assert last == pytest.approx(1 - 40 / 80, abs=0.02)


def test_what_is_too_short_is_dark():
    assert not spectrogram(np.ones(1023, np.float32), 7).any()
    assert spectrogram(np.ones(1024, np.float32), 0).shape == (192, 1)
    assert spectrogram(noise(seconds=0.1, rms_db=-20)[:1024], 3).any()
