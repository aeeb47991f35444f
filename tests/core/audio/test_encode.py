"""MP3 encoded in stretches: the joints must not be there, for the ear or for a decoder."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import av
import numpy as np
import pytest

from faithful_reel.core.audio import encode
from faithful_reel.core.audio.encode import MP3_FRAME, STRETCH_FRAMES, write_audio
from faithful_reel.core.audio.files import blocks
from faithful_reel.core.errors import FileProblem

RATE = 44_100
JOINT = STRETCH_FRAMES * MP3_FRAME


def speech_like(seconds: float, channels: int = 1) -> np.ndarray:
    """Noise whose colour and level change a few times a second, (channels, n) float32."""
    random = np.random.default_rng(3)
    n = round(seconds * RATE)
    x = np.cumsum(random.standard_normal((channels, n)), axis=1)
    x -= np.apply_along_axis(lambda row: np.convolve(row, np.ones(64) / 64, "same"), 1, x)
    corners = np.arange(0, n + 4410, 4410)
    slow = np.interp(np.arange(n), corners, random.uniform(0.02, 1.0, len(corners)))
    return (0.3 * x * slow / np.abs(x).max()).astype(np.float32)


def written(path: Path, x: np.ndarray, block: int = 50_000) -> Path:
    write_audio(path, (x[:, i : i + block] for i in range(0, x.shape[1], block)), RATE, channels=x.shape[0])
    return path


def decoded(path: Path, by: str) -> np.ndarray:
    return np.concatenate(list(blocks(path, by=by)), axis=1)


def in_one_go(path: Path, x: np.ndarray) -> Path:
    """The yardstick: FFmpeg's own muxing of one run of the same encoder."""
    with av.open(str(path), "w", format="mp3") as container:
        stream = container.add_stream("libmp3lame", rate=RATE, options={"compression_level": "7", "reservoir": "0"})
        stream.layout, stream.bit_rate = "mono", 192_000
        frame = av.AudioFrame.from_ndarray(x, format="fltp", layout="mono")
        frame.sample_rate, frame.pts = RATE, 0
        for packet in [*stream.encode(frame), *stream.encode(None)]:
            container.mux(packet)
    return path


def mp3_frames(path: Path) -> list[bytes]:
    """All frames after the tags (ISO/IEC 11172-3, 2.4.1.3: 11 bits of sync, then the header)."""
    data = path.read_bytes()
    at = data.index(b"\xff\xfb")
    frames = []
    while at + 4 <= len(data):
        assert data[at : at + 2] == b"\xff\xfb"
        assert data[at + 2] >> 2 == 0b1011_00, "192 kbit/s at 44.1 kHz"
        size = 144 * 192_000 // RATE + (data[at + 2] >> 1 & 1)
        frames.append(data[at : at + size])
        at += size
    return frames


@pytest.mark.parametrize("seconds", [0.01, 26.0, JOINT / RATE, (JOINT + 4 * MP3_FRAME) / RATE, 61.3])
def test_length_is_kept_to_the_sample_by_both_decoders(tmp_path: Path, seconds: float) -> None:
    x = speech_like(seconds)
    path = written(tmp_path / "a.mp3", x)
    for by in ("soundfile", "av"):
        y = decoded(path, by)
        assert y.shape == x.shape
        if seconds > 1:
            error = y - x
            assert 10 * np.log10(np.mean(error**2) / np.mean(x**2)) < -20


def test_joints_are_as_good_as_the_rest(tmp_path: Path) -> None:
    x = speech_like(61.3)
    joined = decoded(written(tmp_path / "joined.mp3", x), "soundfile")
    whole = decoded(in_one_go(tmp_path / "whole.mp3", x), "soundfile")
    assert joined.shape == whole.shape
    window = 3 * MP3_FRAME
    for joint in (JOINT, 2 * JOINT):
        for at in range(joint - 2 * window, joint + 2 * window, window // 2):
            place = np.s_[:, at : at + window]
            power = np.mean(x[place] ** 2)
            ours, theirs = np.mean((joined[place] - x[place]) ** 2), np.mean((whole[place] - x[place]) ** 2)
            assert 10 * np.log10(ours / power) < 10 * np.log10(theirs / power) + 0.5


def test_every_frame_stands_for_itself_at_a_constant_rate(tmp_path: Path) -> None:
    frames = mp3_frames(written(tmp_path / "a.mp3", speech_like(61.3)))
    assert len(frames) == len(mp3_frames(in_one_go(tmp_path / "whole.mp3", speech_like(61.3))))
    assert b"Info" in frames[0]
    sounding = frames[1:]
    # side information begins after the 4 header bytes (no CRC) with 9 bits of main_data_begin (ISO/IEC 11172-3, 2.4.1.7)
    assert all(f[4] == 0 and f[5] < 0x80 for f in sounding)
    assert int.from_bytes(frames[0][frames[0].index(b"Info") + 8 :][:4]) == len(sounding)


def test_two_channels(tmp_path: Path) -> None:
    x = speech_like(40.0, channels=2)
    y = decoded(written(tmp_path / "a.mp3", x), "soundfile")
    assert y.shape == x.shape
    table = np.corrcoef(np.concatenate([x, y]))
    assert table[0, 2] > 0.98
    assert table[1, 3] > 0.98
    assert abs(table[0, 3]) < 0.1


def test_a_problem_in_the_middle_leaves_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    encoded, turns = encode._Mp3._encoded, []

    def failing(*args: Any) -> Any:
        turns.append(1)
        if len(turns) == 2:
            raise OSError(28, "No space left on device")
        return encoded(*args)

    monkeypatch.setattr(encode._Mp3, "_encoded", failing)
    with pytest.raises(FileProblem, match=r"a.mp3 .*disk full"):
        written(tmp_path / "a.mp3", speech_like(61.3))
    assert len(turns) >= 2
    assert list(tmp_path.iterdir()) == []
