"""The health of recordings, on made sounds whose faults are known."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile
from support.sounds import RATE, noise, sine, speech_like

from faithful_reel.core.book.recordings import examined
from faithful_reel.core.measure.health import HealthMeter, shortcomings


def health_of(x, rate=RATE, block=10_000):
    x = np.atleast_2d(x).astype(np.float32)
    meter = HealthMeter(rate, x.shape[0])
    for at in range(0, x.shape[1], block):
        meter.feed(x[:, at : at + block])
    return meter.health(), meter


def raw(*, seconds=12.0, floor_db=-66.0, rate=RATE):
    return np.concatenate(
        [noise(seconds=5, rms_db=floor_db, rate=rate), speech_like(seconds=seconds, floor_db=floor_db, rate=rate)]
    )


def test_a_sound_recording_misses_nothing():
    found, _ = health_of(raw())
    assert shortcomings(found, rate=RATE, peak_db=-6, rms_db=-20, noise_floor_db=-66) == []
    assert found.clipped == 0
    assert found.hum_hz == 0


@pytest.mark.parametrize("block", [997, 10_000, 10**6])
def test_clipped_samples_are_counted_where_they_are(block):
    x = raw()
    x[200_000:200_007] = 1.0
    x[300_000:300_005] = -1.0
    x[400_000] = 1.0  # one sample at full scale is no flat top
    found, _ = health_of(x, block=block)
    assert found.places == ((200_000, 7), (300_000, 5))
    assert found.clipped == 12
    assert "12 clipped samples" in shortcomings(found, rate=RATE, peak_db=0, rms_db=-20, noise_floor_db=-66)


def test_a_ceiling_under_full_scale_shows_as_flat_tops():
    x = np.clip(4 * raw(), -0.7, 0.7)
    found, _ = health_of(x)
    assert found.clipped > 100
    assert all(abs(abs(x[a]) - 0.7) < 1e-6 for a, _ in found.places)


def test_a_loud_low_tone_is_not_clipped():
    x = np.round(sine(50, seconds=3, db=-3) * 32767) / 32768  # its tops stand still for several samples of 16 bit
    assert health_of(x)[0].clipped == 0


def test_clipping_in_one_channel_is_found():
    x = np.stack([raw(), raw()])
    x[1, 100_000:100_010] = 1.0
    assert health_of(x)[0].places == ((100_000, 10),)


def test_dc_is_measured():
    found, _ = health_of(raw() + 0.02)
    assert found.dc == pytest.approx(0.02, abs=2e-4)
    assert "DC of 2.0 % of full scale" in shortcomings(found, rate=RATE, peak_db=-6, rms_db=-20, noise_floor_db=-66)


@pytest.mark.parametrize("hz", [50.0, 60.0, 59.4])
@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_hum_is_named_by_its_frequency_and_level(hz, rate):
    x = raw(rate=rate, floor_db=-72)
    t = np.arange(len(x)) / rate
    hum = 10 ** (-60 / 20) * np.sqrt(2) * (np.sin(2 * np.pi * hz * t) + 0.5 * np.sin(2 * np.pi * 3 * hz * t))
    found, _ = health_of(x + hum.astype(np.float32), rate)
    assert found.hum_hz == pytest.approx(hz, abs=0.2)
    assert found.hum_db == pytest.approx(-60 + 10 * np.log10(1.25), abs=1.0)
    assert any("hum at" in m for m in shortcomings(found, rate=rate, peak_db=-6, rms_db=-20, noise_floor_db=-62))


def test_room_tone_and_speech_are_found_anywhere():
    x = np.concatenate([speech_like(seconds=12), noise(seconds=8, rms_db=-65, seed=5), speech_like(seconds=12, seed=9)])
    found, meter = health_of(x)
    tone = meter.tone()
    assert tone is not None
    assert 10.5 * RATE <= tone.start < tone.stop <= 21 * RATE
    assert found.tone_s > 7
    assert 0.3 < found.speech < 0.6  # 0.7 s of every 1.2 s, in 24 of 32 s
    assert found.finished_s < found.seconds - 5


def test_the_limits_that_are_missed_are_named():
    found, _ = health_of(noise(seconds=3, rms_db=-20))
    missed = shortcomings(found, rate=22_050, peak_db=-3, rms_db=-20, noise_floor_db=-48)
    assert any("22050 Hz, under the 44100 Hz" in m for m in missed)
    assert any("−48 dB is hard to mend" in m for m in missed)
    assert any("room tone" in m for m in missed)
    assert any("-" not in m.replace("re-", "") for m in missed)


def test_silence_and_the_shortest_sounds():
    for n in (1, 100, RATE):
        found, meter = health_of(np.zeros(n))
        assert found.clipped == 0
        assert meter.tone() is None
    assert health_of(np.ones(50))[0].clipped == 50


def test_a_file_is_examined_at_its_own_rate(tmp_path):
    x = np.stack([raw(rate=96_000), raw(rate=96_000)])
    x[0, 96_000:96_010] = 1.0
    soundfile.write(tmp_path / "a.wav", x.T, 96_000, subtype="PCM_24")
    made = examined(tmp_path / "a.wav", 44_100)
    assert (made.rate, made.channels, made.health.depth, made.health.codec) == (96_000, 2, "24-bit", "wav")
    assert made.health.places == ((96_000, 10),)
    assert made.length == pytest.approx(x.shape[1] * 44_100 / 96_000, abs=2)
    assert made.tone.stop <= made.length
