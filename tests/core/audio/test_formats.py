"""Recordings in every format, made by FFmpeg's program, which is another encoder than any of ours; hostile and mutated ones."""

from __future__ import annotations

import contextlib
import random
import shutil
import subprocess
import time

import numpy as np
import pytest
import soundfile
from support.mutation import mutated
from support.sounds import sine

from faithful_reel.core.audio.files import SUFFIXES, audio_info, blocks, read_mono
from faithful_reel.core.errors import AppError, FileProblem

pytestmark = pytest.mark.skipif(not shutil.which("ffmpeg"), reason="ffmpeg is not installed")
SECONDS = 3.1

# (file, codec options, rate, channels, depth, how many samples the length may differ)
FORMATS = [
    ("u8.wav", ["-c:a", "pcm_u8"], 44_100, 1, "8-bit", 0),
    ("s16.wav", ["-c:a", "pcm_s16le"], 44_100, 2, "16-bit", 0),
    ("s24.wav", ["-c:a", "pcm_s24le"], 96_000, 1, "24-bit", 0),
    ("s32.wav", ["-c:a", "pcm_s32le"], 48_000, 2, "32-bit", 0),
    ("float.wav", ["-c:a", "pcm_f32le"], 192_000, 1, "32-bit float", 0),
    ("six.wav", ["-c:a", "pcm_s16le"], 48_000, 6, "16-bit", 0),
    ("rf64.wav", ["-c:a", "pcm_s24le", "-rf64", "always"], 48_000, 2, "24-bit", 0),
    ("broadcast.wav", ["-c:a", "pcm_s24le", "-write_bext", "1", "-metadata", "description=x"], 48_000, 1, "24-bit", 0),
    ("sixtyfour.w64", ["-c:a", "pcm_s16le"], 44_100, 2, "16-bit", 0),
    ("big.aiff", ["-c:a", "pcm_s16be"], 44_100, 2, "16-bit", 0),
    ("deep.aif", ["-c:a", "pcm_s24be"], 48_000, 1, "24-bit", 0),
    ("plain.caf", ["-c:a", "pcm_s16le"], 44_100, 2, "16-bit", 0),
    ("lossless.caf", ["-c:a", "alac"], 44_100, 2, "", 0),
    ("a.flac", ["-c:a", "flac", "-sample_fmt", "s16"], 48_000, 2, "16-bit", 0),
    ("constant.mp3", ["-c:a", "libmp3lame", "-b:a", "192k"], 44_100, 1, "", 0),
    ("variable.mp3", ["-c:a", "libmp3lame", "-q:a", "3"], 48_000, 2, "", 0),
    ("aac.m4a", ["-c:a", "aac", "-b:a", "192k"], 44_100, 2, "", 1024),
    ("aac.mp4", ["-c:a", "aac", "-b:a", "192k"], 48_000, 1, "", 1024),
    ("bare.aac", ["-c:a", "aac", "-b:a", "192k"], 44_100, 1, "", 3072),
    ("lossless.m4a", ["-c:a", "alac"], 44_100, 2, "", 0),
    ("vorbis.ogg", ["-c:a", "libvorbis", "-q:a", "6"], 44_100, 2, "", 0),
    ("a.opus", ["-c:a", "libopus", "-b:a", "128k"], 48_000, 2, "", 0),
    ("opus.ogg", ["-c:a", "libopus", "-b:a", "96k"], 48_000, 1, "", 0),
    ("in.mka", ["-c:a", "flac"], 44_100, 1, "", 0),
]


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    folder = tmp_path_factory.mktemp("sound")
    for name, options, rate, channels, _, _ in FORMATS:
        x = np.stack([sine(440, seconds=SECONDS, db=-20, rate=rate)] * channels)
        raw = np.ascontiguousarray(x.T, np.float32).tobytes()
        command = ["ffmpeg", "-v", "error", "-y", "-f", "f32le", "-ar", str(rate), "-ac", str(channels), "-i", "-", *options]
        subprocess.run([*command, "-ar", str(rate), str(folder / name)], input=raw, check=True, capture_output=True)
    return folder


@pytest.mark.parametrize(("name", "rate", "channels", "depth"), [(f[0], f[2], f[3], f[4]) for f in FORMATS])
def test_the_header_is_read(made, name, rate, channels, depth):
    info = audio_info(made / name)
    assert (info.rate, info.channels) == (rate, channels)
    assert info.seconds == pytest.approx(SECONDS, abs=0.08)
    if depth:
        assert info.depth == depth


@pytest.mark.parametrize(("name", "rate", "channels", "slack"), [(f[0], f[2], f[3], f[5]) for f in FORMATS])
def test_length_and_level_are_right(made, name, rate, channels, slack):
    x = np.concatenate(list(blocks(made / name)), axis=1)
    assert x.shape[0] == channels
    assert abs(x.shape[1] - round(SECONDS * rate)) <= slack
    # what FFmpeg's own program decodes of it: its MP3 encoder, for one, writes 0.26 dB less than it was given
    command = ["ffmpeg", "-v", "error", "-i", str(made / name), "-f", "f32le", "-"]
    reference = np.frombuffer(subprocess.run(command, check=True, capture_output=True).stdout, np.float32).reshape(-1, channels).T
    for ours, theirs in zip(x, reference, strict=True):
        level, wanted = (10 * np.log10(np.mean(y[rate // 2 : -rate // 2].astype(np.float64) ** 2)) for y in (ours, theirs))
        assert level == pytest.approx(wanted, abs=0.02)
        assert level == pytest.approx(-23.01, abs=0.3)


@pytest.mark.parametrize("name", [f[0] for f in FORMATS])
def test_all_come_out_at_the_books_rate_in_mono(made, name):
    x = read_mono(made / name, 44_100)
    assert abs(len(x) - round(SECONDS * 44_100)) <= 3100
    spectrum = np.abs(np.fft.rfft(x[22_050:66_150] * np.hanning(44_100)))
    assert np.argmax(spectrum) == 440


@pytest.mark.parametrize("name", ["s16.wav", "a.flac", "aac.m4a", "a.opus", "plain.caf"])
def test_a_wrong_extension_does_not_matter(made, tmp_path, name):
    """Recorders and mail programs give sound files all kinds of names; what they are is in their first bytes."""
    for suffix in (".mp3", ".wav", ".dat"):
        path = tmp_path / f"x{suffix}"
        shutil.copy(made / name, path)
        assert audio_info(path).seconds == pytest.approx(SECONDS, abs=0.08)


def test_every_format_of_the_trade_is_offered():
    wanted = {".wav", ".aiff", ".aif", ".flac", ".mp3", ".m4a", ".mp4", ".aac", ".ogg", ".opus", ".caf", ".w64"}
    assert wanted <= set(SUFFIXES)


def test_a_film_without_sound_and_other_files_are_told(made, tmp_path):
    for name, data in (
        ("text.wav", b"no sound"),
        ("page.mp3", b"<html>" * 400),
        ("zip.flac", b"PK\x03\x04" + bytes(400)),
        ("noise.m4a", random.Random(1).randbytes(4000)),
    ):
        (tmp_path / name).write_bytes(data)
        with pytest.raises(FileProblem, match=name) as caught:
            read_mono(tmp_path / name, 44_100)
        assert "\n" not in str(caught.value)


@pytest.mark.slow
@pytest.mark.parametrize(
    "name", ["s16.wav", "rf64.wav", "big.aiff", "a.flac", "constant.mp3", "aac.m4a", "vorbis.ogg", "a.opus", "plain.caf"]
)
def test_mutated_recordings_are_read_or_refused(made, tmp_path, name):
    """Two seconds each.  What is read is as long as its header says, and never endless."""
    raw = (made / name).read_bytes()
    rng = random.Random(name)
    until = time.monotonic() + 2
    tried = 0
    while time.monotonic() < until:
        path = tmp_path / name
        path.write_bytes(mutated(raw, rng, heads=True))
        tried += 1
        with contextlib.suppress(AppError):  # anything else would be a traceback for the user
            seen = 0
            for x in blocks(path):
                assert x.ndim == 2
                seen += x.shape[1]
                assert seen < 40_000_000
    assert tried > 5


@pytest.mark.parametrize("block", [1152, 10_000, 1 << 16])
@pytest.mark.parametrize("name", ["constant.mp3", "variable.mp3", "vorbis.ogg"])
def test_reading_in_blocks_is_reading_the_whole(made, name, block):
    whole, _ = soundfile.read(made / name, dtype="float32", always_2d=True)
    assert np.array_equal(np.concatenate(list(blocks(made / name, block=block)), axis=1), whole.T)


def test_soundfile_and_ffmpeg_agree_on_a_lossless_file(made):
    x, _ = soundfile.read(made / "s24.wav", dtype="float32", always_2d=True)
    assert np.array_equal(np.concatenate(list(blocks(made / "s24.wav", by="av")), axis=1), x.T)
