"""Hum, noise and echo of known size: measured, lowered, the voice left; what can not be helped is said."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile
from scipy.signal import fftconvolve
from support.flaws import band, held, level, whole
from support.sounds import DEMO, RATE, noise, speech_like

from faithful_reel.core.treat.echo import EchoReduced, reverberation
from faithful_reel.core.treat.hum import HumTaken, found_hum
from faithful_reel.core.treat.noise import NoiseReduced, room_noise
from faithful_reel.core.treat.pauses import spans_of, voice_of
from faithful_reel.core.units import Span


@pytest.fixture(scope="module")
def dry():
    """A demo chapter's voice without its room: what is softer than the voice by far is taken out."""
    x, _ = soundfile.read(DEMO / "chapter-2.flac", dtype="float32", start=40 * RATE, frames=25 * RATE)
    speaks, _ = spans_of(voice_of(held(x)))
    mask = np.zeros(len(x), bool)
    for span in speaks:
        mask[span.start : span.stop] = True
    gate = np.convolve(mask, np.hanning(2000) / np.hanning(2000).sum(), "same")
    return (x * gate).astype(np.float32), mask


def mains(n, hz, drift):
    t = np.arange(n) / RATE
    phase = 2 * np.pi * np.cumsum(hz + 0.05 + drift / 2 * np.sin(2 * np.pi * t / 17)) / RATE
    y = sum(np.sin(h * phase + h) / h**0.7 for h in range(1, 9))
    return 10 ** (-45 / 20) * y / np.std(y)


@pytest.mark.parametrize(("drift", "down"), [(0.0, 25), (0.3, 12)])
@pytest.mark.parametrize("hz", [50, 60])
def test_hum_is_followed_and_taken_away(dry, hz, drift, down):
    x, mask = dry
    y = x + mains(len(x), hz, drift) + noise(seconds=len(x) / RATE, rms_db=-75)
    found = found_hum(held(y))
    assert found is not None
    assert found.mains == hz
    assert set(range(1, 7)) <= set(found.harmonics)
    assert found.level_db == pytest.approx(-45, abs=1.0)
    wrong = whole(held(y), HumTaken(found, RATE))[0] - x
    assert level((y - x)[~mask]) - level(wrong[~mask]) > down
    assert level(wrong[mask]) < level(x[mask]) - 30


def test_no_hum_is_invented_and_a_deep_voice_is_none(dry):
    assert found_hum(held(dry[0])) is None
    assert found_hum(held(speech_like(seconds=20))) is None or found_hum(held(speech_like(seconds=20))).mains == 60
    assert found_hum(held(noise(seconds=20, rms_db=-40))) is None
    assert found_hum(held(noise(seconds=2, rms_db=-40))) is None


def test_a_hum_under_the_room_is_left_alone(dry):
    x = dry[0] + noise(seconds=len(dry[0]) / RATE, rms_db=-30) + 0.05 * mains(len(dry[0]), 50, 0.0)
    assert found_hum(held(x)) is None


@pytest.mark.parametrize("floor", [-45, -55])
def test_noise_comes_down_to_its_target_and_the_voice_stays(dry, floor):
    x, mask = dry
    y = x + noise(seconds=len(x) / RATE, rms_db=floor)
    speaks, pauses = spans_of(voice_of(held(y)))
    room = room_noise(held(y), pauses)
    assert room.level_db(room.usual[0]) == pytest.approx(floor, abs=1.0)
    after = whole(held(y), NoiseReduced(room, speaks, depth_db=floor + 66 - 6 + 6))[0]
    inner = np.convolve(~mask, np.ones(8820), "same") > 8819
    assert level(after[inner]) == pytest.approx(floor - (floor + 66), abs=1.5)
    loud = mask & (np.abs(x) > 0.05)
    assert level((after - x)[loud]) < level(x[loud]) - 18
    assert level((after - x)[mask]) < level((y - x)[mask])  # nearer to the voice than before


def test_a_room_that_grows_louder_is_level_afterwards(dry):
    x, _ = dry
    n = len(x)
    y = x + noise(seconds=n / RATE, rms_db=-50) * np.where(np.arange(n) < n // 2, 1, 2).astype(np.float32)
    speaks, pauses = spans_of(voice_of(held(y)))
    after = whole(held(y), NoiseReduced(room_noise(held(y), pauses), speaks, depth_db=12))[0]
    levels = [
        level(after[p.start + 2000 : p.stop - 2000]) for p in pauses if len(p) > 12_000 and abs(p.start - n // 2) > 2 * RATE
    ]
    assert max(levels) - min(levels) < 3.0


def test_noise_alone_goes_down_by_the_depth_and_what_is_over_the_print_stays():
    x = noise(seconds=6, rms_db=-60)
    room = room_noise(held(x), [Span(0, RATE)])
    for depth in (6.0, 20.0):
        assert level(whole(held(x), NoiseReduced(room, [], depth_db=depth))[0]) == pytest.approx(-60 - depth, abs=0.5)
    loud = noise(seconds=3, rms_db=-20)
    y = whole(held(loud), NoiseReduced(room, [Span(0, len(loud))], depth_db=20))[0]
    assert np.max(np.abs(y - loud)) < 2e-4


@pytest.mark.parametrize("share", [0.0, 0.5])
def test_a_share_of_the_untreated_is_mixed_back(share):
    x = noise(seconds=3, rms_db=-60)
    y = whole(held(x), NoiseReduced(room_noise(held(x), [Span(0, RATE)]), [], depth_db=30, share=share))[0]
    assert level(y) == pytest.approx(-60 + 20 * np.log10(1 - share + share * 10 ** (-30 / 20)), abs=0.3)


def answer(rt):
    """The direct sound and a tail that dies away by 60 dB in `rt`, sooner in the treble, as in furnished rooms."""
    rng, n = np.random.default_rng(3), round(1.2 * rt * RATE)
    h = np.zeros(n)
    for low, high, share in ((0, 1000, 1.0), (1000, 3000, 0.85), (3000, 12_000, 0.6)):
        h += band(rng.standard_normal(n), low, high) * 10 ** (-3 * np.arange(n) / (share * rt * RATE))
    h[:200] = 0
    h *= 1.0 / np.sqrt(np.sum(h**2))
    h[0] = 1
    return h


@pytest.mark.parametrize("rt", [0.5, 0.8])
def test_the_room_is_measured_and_its_late_part_lowered(dry, rt):
    x, h = dry[0], answer(rt)
    y = fftconvolve(x, h)[: len(x)].astype(np.float32)
    found = reverberation(held(y))
    assert not found.why
    assert found.rt_s == pytest.approx(rt, rel=0.15)
    after = whole(held(y), EchoReduced(found.rt_s, RATE))[0]
    early = fftconvolve(x, np.where(np.arange(len(h)) < 0.05 * RATE, h, 0))[: len(x)]
    assert level(after - early) < level(y - early) - 1.0
    assert level(after) > level(y) - 4


@pytest.mark.parametrize(("seconds", "said"), [(3, "of speech"), (25, "dry enough")])
def test_what_needs_no_help_or_can_not_be_helped_is_said(dry, seconds, said):
    assert said in reverberation(held(dry[0][: seconds * RATE])).why
