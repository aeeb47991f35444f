"""Files that we write, read by second libraries; files and figures of formats as they are published."""

from __future__ import annotations

import json
import subprocess
import wave

import numpy as np
import pytest
import tinytag
from scipy.io import wavfile
from support.sounds import sine

from faithful_reel.core.audio.encode import write_audio, write_tags
from faithful_reel.core.audio.files import audio_info, read_mono
from faithful_reel.core.files import hash_of

RATE = 44_100
TAGS = {"title": "Low Water – “the first”", "artist": "Imre Oakshott", "album": "The Ferry Ledger", "tracknumber": "3/12"}


@pytest.fixture(params=[".wav", ".flac", ".mp3"])
def tagged(request, tmp_path):
    """A chapter of one second with tags."""
    path = tmp_path / f"chapter{request.param}"
    write_audio(path, [sine(440, seconds=1, db=-20)[None]], RATE)
    write_tags(path, TAGS)
    return path


@pytest.mark.published("ID3v2.4 and Vorbis comments, read by tinytag 2.3")
def test_tags_are_read_by_a_second_library(tagged):
    seen = tinytag.TinyTag.get(tagged)
    assert (seen.title, seen.artist, seen.album, seen.track) == (*list(TAGS.values())[:3], 3)
    assert (seen.samplerate, seen.channels) == (RATE, 1)
    assert seen.duration == pytest.approx(1, abs=0.06)  # MP3 comes in whole frames, with the encoder's delay


@pytest.mark.published("RIFF WAVE, read by scipy.io.wavfile")
@pytest.mark.parametrize(("bits", "full"), [(16, 2**15), (24, 2**31)])
@pytest.mark.parametrize("channels", [1, 2])
def test_waves_are_read_by_a_second_library_to_the_bit(tmp_path, bits, full, channels):
    x = np.stack([sine(440 * (c + 1), seconds=0.5, db=-6) for c in range(channels)])
    write_audio(tmp_path / "a.wav", [x[:, :5000], x[:, 5000:]], RATE, channels=channels, bits=bits)
    rate, theirs = wavfile.read(tmp_path / "a.wav")
    assert (rate, theirs.reshape(len(theirs), -1).shape) == (RATE, (x.shape[1], channels))
    assert theirs.reshape(len(theirs), -1).T / full == pytest.approx(x, abs=1.6 / 2 ** (bits - 1))  # rounding and dither


@pytest.mark.published("RIFF WAVE, written by Python's wave module")
@pytest.mark.parametrize("width", [1, 2, 3, 4])
def test_waves_of_another_writer_are_read_to_the_bit(tmp_path, width):
    steps = np.arange(-(2 ** (8 * width - 1)), 2 ** (8 * width - 1), max(1, 2 ** (8 * width - 1) // 1000), dtype=np.int64)
    raw = (
        (steps + 128).astype(np.uint8).tobytes()
        if width == 1
        else b"".join(int(v).to_bytes(width, "little", signed=True) for v in steps)
    )
    with wave.open(str(tmp_path / "a.wav"), "wb") as file:
        file.setnchannels(1)
        file.setsampwidth(width)
        file.setframerate(RATE)
        file.writeframes(raw)
    assert read_mono(tmp_path / "a.wav", RATE) == pytest.approx(steps / 2 ** (8 * width - 1), abs=1e-7)


@pytest.mark.published("ISO/IEC 11172-3, 2.4.1.3: the header of an audio frame")
def test_every_frame_of_a_delivered_mp3_says_the_asked_bit_rate(tmp_path):
    write_audio(tmp_path / "a.mp3", [sine(440, seconds=2, db=-20)[None]], RATE, kbits=192)
    data = (tmp_path / "a.mp3").read_bytes()
    at = data.index(b"\xff\xfb")
    frames = 0
    while at + 4 <= len(data):
        head = int.from_bytes(data[at : at + 4], "big")
        assert head >> 21 == 0x7FF  # syncword
        assert (head >> 19 & 3, head >> 17 & 3) == (3, 1)  # version 1, layer III
        assert (head >> 12 & 15, head >> 10 & 3) == (11, 0)  # 192 kbit/s, 44.1 kHz
        assert head >> 6 & 3 == 3  # one channel
        at += 144 * 192_000 // RATE + (head >> 9 & 1)  # a frame's length, and its padding
        frames += 1
    assert frames >= 2 * RATE / 1152


@pytest.mark.published("FFmpeg, ffprobe: what a finished file is")
def test_finished_files_are_what_we_say_they_are(tagged):
    command = ["ffprobe", "-v", "error", "-show_format", "-show_streams", "-of", "json", tagged]
    told = json.loads(subprocess.run(command, capture_output=True, check=True).stdout)
    stream, info = told["streams"][0], audio_info(tagged)
    assert (int(stream["sample_rate"]), stream["channels"]) == (info.rate, info.channels)
    assert float(told["format"]["duration"]) == pytest.approx(info.frames / info.rate, abs=0.06)


@pytest.mark.published("FIPS 180-4, SHA-256 of 'abc' and of a million times 'a' (appendix B.1 and B.3 of FIPS 180-2)")
def test_recordings_are_known_by_their_published_hash(tmp_path):
    (tmp_path / "abc").write_bytes(b"abc")
    (tmp_path / "million").write_bytes(b"a" * 1_000_000)
    assert hash_of(tmp_path / "abc") == "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"
    assert hash_of(tmp_path / "million") == "cdc76e5c9914fb9281a1c7e284d73e67f1809a48a497200e046d39ccc7112cd0"
