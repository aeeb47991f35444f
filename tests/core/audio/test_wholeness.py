"""Files that hold less than they promise, and what an MP3's frames say."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys

import numpy as np
import pytest
import soundfile
from support.sounds import noise, speech_like

from faithful_reel.core.audio.files import audio_info
from faithful_reel.core.audio.wholeness import mpeg_frames, shortfall
from faithful_reel.core.book.recordings import examined
from faithful_reel.core.measure.health import shortcomings
from faithful_reel.core.measure.profile import load_profile
from faithful_reel.core.release.check import checked_file

RETAIL = load_profile("retail")


def made(path, *options, seconds=8):
    soundfile.write(path.with_suffix(".src.wav"), noise(seconds=seconds, rms_db=-30), 44_100, subtype="FLOAT")
    subprocess.run(["ffmpeg", "-v", "error", "-y", "-i", path.with_suffix(".src.wav"), *options, path], check=True)
    path.with_suffix(".src.wav").unlink()
    return path


def halved(path, share=0.5):
    raw = path.read_bytes()
    path.write_bytes(raw[: int(share * len(raw))])
    return path


KINDS = {
    "wav": ("a.wav", "-c:a", "pcm_s24le"),
    "rf64": ("a.wav", "-c:a", "pcm_s16le", "-rf64", "always"),
    "aiff": ("a.aiff", "-c:a", "pcm_s16be"),
    "mp3 with its header": ("a.mp3", "-b:a", "192k"),
    "mp3 vbr": ("a.mp3", "-q:a", "4"),
    "ogg": ("a.ogg",),
    "opus": ("a.opus",),
}


@pytest.mark.parametrize("kind", KINDS)
def test_a_whole_file_is_whole_and_half_of_it_is_told(tmp_path, kind):
    name, *options = KINDS[kind]
    path = made(tmp_path / name, *options)
    assert shortfall(path) is None
    cut = shortfall(halved(path))
    assert cut is not None
    assert "Copy it again" in str(cut)
    assert "\n" not in str(cut)
    if cut.promised_s:
        assert cut.promised_s == pytest.approx(8.0, abs=0.1)
        assert cut.found_s < 5.5


def test_both_lengths_are_told(tmp_path):
    path = halved(made(tmp_path / "a.wav"))
    assert str(shortfall(path)) == "a.wav is cut short: its header promises 8.0 s, 4.0 s are there. Copy it again."


def test_a_wav_whose_header_was_never_finished_is_not_called_cut(tmp_path):
    path = made(tmp_path / "a.wav")
    raw = bytearray(path.read_bytes())
    at = raw.find(b"data") + 4
    raw[at : at + 4] = b"\xff\xff\xff\xff"  # as a recorder leaves it that writes to a pipe
    path.write_bytes(raw)
    assert audio_info(path).frames > 0
    assert shortfall(path) is None


@pytest.mark.parametrize("header", ["1", "0"])
def test_constant_bit_rate_is_read_from_the_frames(tmp_path, header):
    path = made(tmp_path / "a.mp3", "-b:a", "192k", "-write_xing", header)
    frames = mpeg_frames(path)
    assert frames is not None
    assert (frames.bit_rate, frames.constant, frames.whole) == (192_000, True, True)
    assert bool(frames.promised) is (header == "1")
    figures, _ = checked_file(path, RETAIL)
    assert (figures.bit_rate, figures.cbr) == (192_000, True)


def test_variable_bit_rate_is_told_from_constant(tmp_path):
    soundfile.write(tmp_path / "s.wav", np.concatenate([speech_like(seconds=4), noise(seconds=4, rms_db=-10)]), 44_100)
    subprocess.run(["ffmpeg", "-v", "error", "-i", tmp_path / "s.wav", "-q:a", "5", tmp_path / "a.mp3"], check=True)
    frames = mpeg_frames(tmp_path / "a.mp3")
    assert frames is not None
    assert not frames.constant
    assert checked_file(tmp_path / "a.mp3", RETAIL)[0].cbr is False


def test_an_mp3_that_ends_between_two_frames_is_told_by_its_header(tmp_path):
    path = made(tmp_path / "a.mp3", "-b:a", "192k")
    raw = path.read_bytes()
    for stop in range(len(raw) // 2, len(raw) // 2 + 1300):
        path.write_bytes(raw[:stop])
        if mpeg_frames(path).whole:
            break
    assert mpeg_frames(path).whole
    cut = shortfall(path)
    assert cut is not None
    assert cut.promised_s == pytest.approx(8.0, abs=0.1)
    assert cut.found_s == pytest.approx(4.0, abs=0.2)


@pytest.mark.parametrize("seconds", [0.2, 0.5, 1.0])
def test_a_short_file_has_its_own_bit_rate(tmp_path, seconds):
    """By size over length a short one with tags reads anything."""
    path = made(tmp_path / "a.mp3", "-b:a", "192k", seconds=seconds)
    assert checked_file(path, RETAIL)[0].bit_rate == 192_000


@pytest.mark.parametrize(
    ("rate", "kbits"), [(44_100, 320), (48_000, 128), (22_050, 64), (24_000, 160), (16_000, 32), (11_025, 32)]
)
def test_frames_of_all_versions_add_up(tmp_path, rate, kbits):
    path = made(tmp_path / "a.mp3", "-ar", str(rate), "-b:a", f"{kbits}k")
    frames = mpeg_frames(path)
    assert frames is not None
    assert frames.bit_rate == 1000 * kbits
    assert frames.count * frames.seconds_each == pytest.approx(8.0, abs=0.2)
    assert frames.whole


def test_tags_and_garbage_around_the_frames_are_no_fault(tmp_path):
    path = made(tmp_path / "a.mp3", "-b:a", "192k", "-write_id3v1", "1", "-metadata", "title=x")
    raw = path.read_bytes()
    before = mpeg_frames(path)
    path.write_bytes(raw[: -len(raw) // 2] + raw[-len(raw) // 2 :] if before is None else raw)
    assert before is not None
    assert before.whole
    path.write_bytes(raw + b"\0" * 3000)
    assert shortfall(path) is None


@pytest.mark.parametrize("content", [b"", b"ID3", b"\xff\xfb", b"\xff" * 5000, b"ID3\x03\0\0\x7f\x7f\x7f\x7f", b"x" * 90_000])
def test_what_is_no_mp3_has_no_frames(tmp_path, content):
    (tmp_path / "a.mp3").write_bytes(content)
    found = mpeg_frames(tmp_path / "a.mp3")
    assert found is None or found.count < 3


def test_intake_and_check_do_not_take_half_a_file_for_a_whole_one(tmp_path):
    path = halved(made(tmp_path / "a.wav"))
    health = examined(path, 44_100).health
    assert health is not None
    assert (
        "its header promises 8.0 s, 4.0 s are there"
        in shortcomings(health, rate=44_100, peak_db=-20, rms_db=-20, noise_floor_db=-70)[0]
    )
    whole = next(v for v in checked_file(path, RETAIL)[1] if v.rule == "whole")
    assert (whole.passed, whole.value) == (False, "4.0 of 8.0 s")


def test_a_master_of_half_a_file_does_not_pass(tmp_path, demo):
    subprocess.run(["ffmpeg", "-v", "error", "-i", demo / "chapter-2.flac", tmp_path / "a.wav"], check=True)
    shutil.copy(tmp_path / "a.wav", tmp_path / "whole.wav")
    halved(tmp_path / "a.wav", 0.4)
    for name, code in (("a.wav", 1), ("whole.wav", 0)):
        done = subprocess.run(
            [sys.executable, "-m", "faithful_reel", "master", tmp_path / name, "--out", tmp_path / "out.wav", "--json"],
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == code, done.stdout
        assert ("its header promises 87.0 s" in done.stderr) is (code == 1)
        rules = {v["rule"]: v["pass"] for v in json.loads(done.stdout)["files"][0]["verdicts"]}
        assert rules.get("source", True) is (code == 0)
