"""Decoding and encoding, against FFmpeg and soundfile."""

from __future__ import annotations

import contextlib
import subprocess

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st
from support.sounds import noise, sine, speech_like

from faithful_reel.core.audio.encode import AudioWriter, write_audio, write_tags
from faithful_reel.core.audio.files import audio_info, blocks, channels_of, read_mono, resampled
from faithful_reel.core.errors import AppError, FileProblem


@pytest.mark.parametrize(
    ("suffix", "subtype"), [(".wav", "PCM_16"), (".wav", "PCM_24"), (".wav", "FLOAT"), (".flac", "PCM_16"), (".aiff", "PCM_16")]
)
def test_lossless_files_decode_to_the_sample(tmp_path, suffix, subtype):
    x = speech_like(seconds=1.5)
    soundfile.write(tmp_path / f"a{suffix}", x, 44_100, subtype=subtype)
    wanted, _ = soundfile.read(tmp_path / f"a{suffix}", dtype="float32")
    assert np.array_equal(read_mono(tmp_path / f"a{suffix}", 44_100), wanted)


@pytest.mark.parametrize("reader", ["soundfile", "av"])
def test_both_decoders_agree_on_flac(tmp_path, reader):
    x = noise(seconds=1, rms_db=-20)
    soundfile.write(tmp_path / "a.flac", x, 44_100, subtype="PCM_24")
    got = np.concatenate(list(blocks(tmp_path / "a.flac", by=reader)), axis=1)
    assert got.shape == (1, len(x))
    assert np.abs(got[0] - x).max() < 2**-22


def test_m4a_made_by_another_encoder(tmp_path):
    soundfile.write(tmp_path / "a.wav", sine(440, seconds=2, db=-12), 44_100)
    subprocess.run(
        ["ffmpeg", "-v", "error", "-i", tmp_path / "a.wav", "-c:a", "aac", "-b:a", "160k", tmp_path / "a.m4a"], check=True
    )
    x = read_mono(tmp_path / "a.m4a", 44_100)
    assert len(x) == pytest.approx(2 * 44_100, abs=32)
    assert 20 * np.log10(np.abs(x[4000:-4000]).max()) == pytest.approx(-12, abs=0.3)


def test_mp3_decodes_to_the_length_that_went_in(tmp_path):
    x = speech_like(seconds=3.3)
    write_audio(tmp_path / "a.mp3", [x], 44_100)
    for reader in ("soundfile", "av"):
        y = np.concatenate(list(blocks(tmp_path / "a.mp3", by=reader)), axis=1)[0]
        assert len(y) == pytest.approx(len(x), abs=1152 if reader == "av" else 0)
    y = np.concatenate(list(blocks(tmp_path / "a.mp3", by="soundfile")), axis=1)[0]
    assert np.corrcoef(x, y)[0, 1] > 0.99


@pytest.mark.parametrize("rate", [16_000, 22_050, 48_000, 96_000])
def test_resampling_keeps_length_level_and_pitch(tmp_path, rate):
    soundfile.write(tmp_path / "a.wav", sine(1000, seconds=2, db=-6, rate=rate), rate)
    x = read_mono(tmp_path / "a.wav", 44_100)
    assert len(x) == pytest.approx(88_200, abs=2)
    inner = x[4000:-4000]
    assert np.abs(inner).max() == pytest.approx(10 ** (-6 / 20), abs=0.002)
    spectrum = np.abs(np.fft.rfft(inner * np.hanning(len(inner))))
    assert spectrum.argmax() * 44_100 / len(inner) == pytest.approx(1000, abs=1)


def test_resampling_leaves_no_alias():
    y = resampled(sine(15_000, seconds=1, rate=48_000), 48_000, 16_000)
    assert 20 * np.log10(np.abs(y[500:-500]).max() + 1e-12) < -90


def test_stereo_is_mixed_down(tmp_path):
    left, right = sine(500, seconds=1, db=-6), np.zeros(44_100, np.float32)
    for name, other, wanted in (("alike", 0.9 * left, 0.95 * left), ("dead", right, left)):
        soundfile.write(tmp_path / f"{name}.wav", np.stack([left, other], axis=1), 44_100, subtype="FLOAT")
        path = tmp_path / f"{name}.wav"
        assert np.allclose(read_mono(path, 44_100, channels_of(path).weights), wanted, atol=1e-6)
        assert np.allclose(read_mono(path, 44_100), (left + other) / 2, atol=1e-6)


@pytest.mark.parametrize(
    ("name", "content"),
    [
        ("missing.wav", None),
        ("empty.wav", b""),
        ("text.wav", b"this is no sound at all, only words"),
        ("text.m4a", b"neither is this"),
        ("zeros.flac", bytes(4000)),
    ],
)
def test_bad_files_are_one_clear_line(tmp_path, name, content):
    if content is not None:
        (tmp_path / name).write_bytes(content)
    with pytest.raises(FileProblem) as caught:
        read_mono(tmp_path / name, 44_100)
    assert name in str(caught.value)
    assert "\n" not in str(caught.value)


def test_a_wav_of_no_samples_is_refused(tmp_path):
    soundfile.write(tmp_path / "a.wav", np.zeros(0), 44_100)
    with pytest.raises(FileProblem, match="zero samples"):
        audio_info(tmp_path / "a.wav")


def test_a_cut_flac_is_refused(tmp_path, demo):
    (tmp_path / "cut.flac").write_bytes((demo / "chapter-1.flac").read_bytes()[:400_000])
    with pytest.raises(FileProblem, match="damaged or cut short"):
        read_mono(tmp_path / "cut.flac", 44_100)


def test_values_that_are_no_numbers_are_refused(tmp_path):
    soundfile.write(tmp_path / "a.wav", np.array([0.0, np.nan, 0.1], np.float32), 44_100, subtype="FLOAT")
    with pytest.raises(FileProblem, match="not numbers"):
        read_mono(tmp_path / "a.wav", 44_100)


@settings(max_examples=60, deadline=None)
@given(at=st.integers(0, 30_000), junk=st.binary(min_size=1, max_size=60), suffix=st.sampled_from([".flac", ".wav", ".mp3"]))
def test_damaged_files_are_read_or_refused(tmp_path_factory, at, junk, suffix):
    folder = tmp_path_factory.mktemp("damage")
    path = folder / f"a{suffix}"
    write_audio(path, [noise(seconds=0.4, rms_db=-20)], 44_100, bits=16)
    raw = bytearray(path.read_bytes())
    raw[at % len(raw) : at % len(raw) + len(junk)] = junk
    path.write_bytes(raw)
    with contextlib.suppress(AppError):
        assert read_mono(path, 44_100).dtype == np.float32


# --- writing ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("suffix", [".wav", ".flac", ".mp3"])
def test_a_failed_write_leaves_nothing(tmp_path, suffix):
    def parts():
        yield noise(seconds=0.5, rms_db=-20)
        raise RuntimeError("stop")

    with pytest.raises(RuntimeError):
        write_audio(tmp_path / f"a{suffix}", parts(), 44_100)
    assert list(tmp_path.iterdir()) == []


def test_an_existing_file_survives_a_failed_write(tmp_path):
    (tmp_path / "a.wav").write_bytes(b"before")

    def parts():
        raise RuntimeError("stop")
        yield

    with pytest.raises(RuntimeError):
        write_audio(tmp_path / "a.wav", parts(), 44_100)
    assert (tmp_path / "a.wav").read_bytes() == b"before"


def test_unknown_kinds_and_folders_are_refused(tmp_path):
    with pytest.raises(FileProblem, match=r"a\.xyz"):
        AudioWriter(tmp_path / "a.xyz", 44_100, 1)
    with pytest.raises(FileProblem, match="not there"):
        AudioWriter(tmp_path / "no" / "a.wav", 44_100, 1)


@pytest.mark.parametrize("suffix", [".wav", ".flac", ".mp3"])
def test_tags_are_read_by_ffprobe(tmp_path, suffix):
    path = tmp_path / f"a{suffix}"
    write_audio(path, [noise(seconds=1, rms_db=-20)], 44_100)
    write_tags(path, {"title": "Low Water", "artist": "Ottoline Varrow", "album": "The Tide Clerk", "tracknumber": "1/3"})
    call = ["ffprobe", "-v", "error", "-show_entries", "format_tags", "-of", "default=nw=1", str(path)]
    said = subprocess.run(call, capture_output=True, text=True, check=True).stdout
    for value in ("Low Water", "Ottoline Varrow", "The Tide Clerk"):
        assert value in said
    assert audio_info(path).frames == pytest.approx(44_100, abs=1)


def test_mp3_is_constant_at_192(tmp_path):
    write_audio(tmp_path / "a.mp3", [speech_like(seconds=4)], 44_100)
    call = ["ffprobe", "-v", "error", "-show_entries", "packet=size", "-of", "csv=p=0", str(tmp_path / "a.mp3")]
    sizes = [int(s.strip(",")) for s in subprocess.run(call, capture_output=True, text=True, check=True).stdout.split()]
    # ISO 11172-3: 144 * 192000 / 44100 = 626.94 bytes a frame, so 626 or 627
    assert set(sizes) <= {626, 627}
