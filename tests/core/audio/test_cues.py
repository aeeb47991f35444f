"""Cue markers with names, read back by libraries of others: wavinfo for WAV, FFmpeg for FLAC and MP3."""

from __future__ import annotations

import av
import numpy as np
import pytest
import soundfile
from wavinfo import WavInfoReader

from faithful_reel.core.audio.cues import Cue, write_cues
from faithful_reel.core.audio.encode import write_audio
from faithful_reel.core.errors import FileProblem

RATE = 44_100
CUES = (Cue(22_050, "the tide", 4410), Cue(0, "Nell: “how far?”"), Cue(66_150, "odd"), Cue(66_150, "at the same place"))


def made(path, seconds=3):
    x = np.random.default_rng(1).uniform(-0.1, 0.1, seconds * RATE).astype(np.float32)
    write_audio(path, [x], RATE)
    return x


@pytest.mark.published("RIFF (Microsoft and IBM, 1991): cue points and associated data; read back by wavinfo")
def test_wav_markers_are_read_back_by_another_library(tmp_path):
    path = tmp_path / "a.wav"
    made(path)
    before = soundfile.read(path, dtype="int32")[0]
    write_cues(path, CUES, RATE, 3 * RATE)
    cues = WavInfoReader(str(path), info_encoding="utf-8").cues
    found = _read(cues)
    assert found == [
        (0, "Nell: “how far?”", None),
        (22_050, "the tide", 4410),
        (66_150, "odd", None),
        (66_150, "at the same place", None),
    ]
    np.testing.assert_array_equal(soundfile.read(path, dtype="int32")[0], before)


def _read(cues):
    found = []
    for cue in cues.cues:
        labels = [x.text for x in cues.labels if x.name == cue.name]
        ranges = [x.length for x in cues.ranges if x.name == cue.name]
        found.append((cue.sample_offset, labels[0], ranges[0] if ranges else None))
    return found


def test_the_size_in_the_head_counts_the_markers(tmp_path):
    for name in ("x", "xy"):  # odd and even lengths
        path = tmp_path / f"{name}.wav"
        made(path)
        write_cues(path, [Cue(5, name)], RATE, 3 * RATE)
        head = path.read_bytes()[4:8]
        assert int.from_bytes(head, "little") == path.stat().st_size - 8
        assert path.stat().st_size % 2 == 0


@pytest.mark.parametrize("suffix", [".flac", ".mp3"])
@pytest.mark.published("FFmpeg reads chapters of Vorbis comments and of the ID3v2 chapter frame addendum")
def test_chapters_of_flac_and_mp3_are_read_back_by_ffmpeg(tmp_path, suffix):
    path = tmp_path / f"a{suffix}"
    made(path)
    write_cues(path, CUES[:3], RATE, 3 * RATE)
    with av.open(str(path)) as file:
        chapters = sorted((float(c["start"] * c["time_base"]), c["metadata"]["title"]) for c in file.chapters())
    assert [t for _, t in chapters] == ["Nell: “how far?”", "the tide", "odd"]
    assert [s for s, _ in chapters] == pytest.approx([0.0, 0.5, 1.5], abs=0.001)


@pytest.mark.parametrize("suffix", [".flac", ".mp3"])
def test_hundreds_of_markers_are_all_there(tmp_path, suffix):
    """One more than the tables of contents of an MP3 file may have entries, and many more."""
    for count in (256, 700):
        path = tmp_path / f"{count}{suffix}"
        made(path)
        write_cues(path, [Cue(k * 100, f"cue {k}") for k in range(count)], RATE, 3 * RATE)
        with av.open(str(path)) as file:
            assert sorted(c["metadata"]["title"] for c in file.chapters()) == sorted(f"cue {k}" for k in range(count))


def test_more_markers_than_a_file_can_hold_are_told_and_none_is_left_out_unseen(tmp_path):
    path = tmp_path / "a.wav"
    made(path)
    before = path.read_bytes()
    with pytest.raises(FileProblem, match="10001 were to be written"):
        write_cues(path, [Cue(k, "x") for k in range(10_001)], RATE, 3 * RATE)
    assert path.read_bytes() == before


@pytest.mark.parametrize("suffix", [".wav", ".flac", ".mp3"])
def test_names_that_are_no_text_are_marked(tmp_path, suffix):
    path = tmp_path / f"a{suffix}"
    x = made(path)
    write_cues(path, [Cue(5, "a\0b\ud800c")], RATE, 3 * RATE)
    assert b"ab?c" in path.read_bytes() or "ab?c".encode("utf-16-le") in path.read_bytes()
    with av.open(str(path)) as file:  # the sound is whole
        assert sum(f.samples for f in file.decode(audio=0)) >= len(x)


def test_no_markers_change_nothing_and_other_files_are_refused(tmp_path):
    path = tmp_path / "a.wav"
    made(path)
    before = path.read_bytes()
    write_cues(path, (), RATE, 3 * RATE)
    assert path.read_bytes() == before
    other = tmp_path / "a.ogg"
    other.write_bytes(b"x")
    with pytest.raises(FileProblem, match=r"a\.ogg can hold no cue"):
        write_cues(other, CUES, RATE, 10)
    torn = tmp_path / "b.wav"
    torn.write_bytes(b"RIFX" + before[4:])
    with pytest.raises(FileProblem, match="no RIFF"):
        write_cues(torn, CUES, RATE, 10)
    assert torn.read_bytes() == b"RIFX" + before[4:]
    with pytest.raises(FileProblem, match=r"gone\.wav"):
        write_cues(tmp_path / "gone.wav", CUES, RATE, 10)
