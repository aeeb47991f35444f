"""Loudness, its range, true peak and plain levels against the signals and tables of the standards, and against other programs."""

from __future__ import annotations

import re
import subprocess
from importlib.metadata import version

import numpy as np
import pytest
import soundfile
from scipy.signal import resample_poly
from support.sounds import noise, sine, speech_like

from faithful_reel.core.measure.levels import _TRUE_PEAK, figures_of

RATE = 48_000


def stereo(*parts: tuple[float, float]) -> np.ndarray:
    """A sine of 1 kHz in both channels: (dB, seconds) one after another."""
    mono = np.concatenate([sine(1000, seconds=s, db=db, rate=RATE) for db, s in parts])
    return np.stack([mono, mono])


@pytest.mark.published("EBU Tech 3342, table 1, signals 1 to 4 (from memory): loudness range within 1 LU")
@pytest.mark.parametrize(
    ("parts", "range_lu"),
    [
        ([(-20, 20), (-30, 20)], 10.0),
        ([(-20, 20), (-15, 20)], 5.0),
        ([(-40, 20), (-20, 20)], 20.0),
        ([(-50, 20), (-35, 20), (-20, 20), (-35, 20), (-50, 20)], 15.0),
    ],
)
def test_the_loudness_range_of_the_ebu_signals(parts, range_lu):
    assert figures_of(stereo(*parts), RATE).range_lu == pytest.approx(range_lu, abs=1.0)


@pytest.mark.published("EBU Tech 3341, table 1, signals 15 to 19 (from memory): true peak within +0.2 and -0.4 dB")
@pytest.mark.parametrize(
    ("divisor", "degrees", "amplitude", "dbtp"),
    [(4, 0, 0.5, -6.0), (4, 45, 0.5, -6.0), (6, 60, 0.5, -6.0), (8, 67.5, 0.5, -6.0), (4, 45, 1.41, 3.0)],
)
def test_the_true_peak_of_the_ebu_signals(divisor, degrees, amplitude, dbtp):
    t = np.arange(RATE)
    fade = np.minimum(1, np.minimum(t, t[::-1]) / 4800)  # whole periods, faded: an edge is a click with a peak of its own
    x = amplitude * np.sin(2 * np.pi * t / divisor + np.radians(degrees)) * fade
    assert -0.4 <= figures_of(x.astype(np.float32), RATE).true_peak_db - dbtp <= 0.2


@pytest.mark.published("ITU-R BS.1770-4, annex 2: four-fold oversampling through 48 taps")
def test_the_interpolation_passes_what_is_heard_and_holds_back_its_images():
    assert _TRUE_PEAK.shape == (4, 12)
    whole = _TRUE_PEAK.T.ravel()  # the 48 taps of one filter at four times the rate
    at = np.fft.rfftfreq(1 << 14, 1 / (4 * RATE))
    gain = 20 * np.log10(np.abs(np.fft.rfft(whole, 1 << 14)) / 4 + 1e-12)
    assert np.abs(gain[at < 16_000]).max() < 0.7
    assert gain[at > 30_000].max() < -30


@pytest.mark.published("SciPy 1.17, signal.resample_poly: 64-fold oversampling as the true peak")
@pytest.mark.parametrize("seed", range(4))
def test_the_true_peak_of_noise_is_that_of_a_finer_interpolation(seed):
    x = noise(seconds=1, rms_db=-14, seed=seed, rate=RATE)
    x = np.convolve(x, np.hanning(9) / np.hanning(9).sum(), "same").astype(np.float32)  # nothing near half the rate
    finest = 20 * np.log10(np.abs(resample_poly(x.astype(np.float64), 64, 1, window=("kaiser", 12.0))).max())
    assert figures_of(x, RATE).true_peak_db == pytest.approx(finest, abs=0.15)


@pytest.mark.published("FFmpeg, filter ebur128: loudness and its range")
def test_loudness_and_range_agree_with_ffmpeg(tmp_path):
    rng = np.random.default_rng(5)
    x = np.concatenate([10 ** (rng.uniform(-12, 0) / 20) * speech_like(seconds=6, seed=i, rate=RATE) for i in range(10)])
    x *= np.float32(0.5 / np.abs(x).max())
    soundfile.write(tmp_path / "a.wav", x, RATE, subtype="FLOAT")
    command = ["ffmpeg", "-hide_banner", "-i", tmp_path / "a.wav", "-filter_complex", "ebur128=peak=true", "-f", "null", "-"]
    told = subprocess.run(command, capture_output=True, text=True, check=True).stderr.rsplit("Summary:", 1)[1]
    read = {k: float(v) for k, v in re.findall(r"(I|LRA|Peak):\s+(-?[\d.]+)", told)}
    ours = figures_of(x, RATE)
    assert ours.lufs == pytest.approx(read["I"], abs=0.1)
    assert -0.4 <= ours.true_peak_db - read["Peak"] <= 0.2  # as EBU Tech 3341 asks of any meter
    assert ours.range_lu == pytest.approx(read["LRA"], abs=0.5)


@pytest.mark.published("FFmpeg, filter astats: RMS and peak level")
def test_rms_and_peak_agree_with_ffmpeg(tmp_path):
    x = speech_like(seconds=5, rate=RATE)
    soundfile.write(tmp_path / "a.wav", x, RATE, subtype="FLOAT")
    command = ["ffmpeg", "-hide_banner", "-i", tmp_path / "a.wav", "-af", "astats", "-f", "null", "-"]
    told = subprocess.run(command, capture_output=True, text=True, check=True).stderr.rsplit("Overall", 1)[1]
    peak, rms = (float(re.search(rf"{name} level dB: (-?[\d.]+)", told)[1]) for name in ("Peak", "RMS"))
    ours = figures_of(x, RATE)
    assert (ours.peak_db, ours.rms_db) == pytest.approx((peak, rms), abs=0.01)


@pytest.mark.published("pyloudnorm 0.2: integrated loudness")
@pytest.mark.parametrize("rate", [44_100, 48_000])
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_loudness_agrees_with_pyloudnorm(rate, seed):
    import pyloudnorm

    assert version("pyloudnorm").startswith("0.2")
    x = speech_like(seconds=20, seed=seed, rate=rate)
    reference = pyloudnorm.Meter(rate).integrated_loudness(x.astype(np.float64))
    assert figures_of(x, rate).lufs == pytest.approx(reference, abs=0.1)
