"""Work on foreign files in a process of its own: it may die, be cancelled or fail, and we go on."""

from __future__ import annotations

import os
import signal
import time
from pathlib import Path

import pytest

from faithful_reel.core.apart import apart
from faithful_reel.core.errors import Cancelled, FileProblem
from faithful_reel.core.jobs import FlagWatch, Unwatched


def twice(number, watch):
    watch.tick(0.5, "half way")
    return 2 * number


def dies(how, _watch):
    os.kill(os.getpid(), how)
    time.sleep(30)


def refuses(name, _watch):
    raise FileProblem(f"{name} is no good.")


def goes_on(folder, watch):
    part = folder / "half.part"
    part.write_text("half")
    try:
        for _ in range(6000):
            time.sleep(0.01)
            watch.tick(0.1, "working")
    finally:
        part.unlink()


def test_what_it_gives_comes_back_with_its_progress():
    seen = []
    watch = FlagWatch(lambda done, note: seen.append((done, note)), lambda: False)
    assert apart(twice, 21, path=Path("a.wav"), watch=watch) == 42
    assert seen


@pytest.mark.parametrize("how", [signal.SIGSEGV, signal.SIGKILL, signal.SIGABRT])
def test_a_decoder_that_dies_is_one_clear_line(how):
    with pytest.raises(FileProblem, match=r"evil\.mka can not be read: the decoder broke down on it") as caught:
        apart(dies, how, path=Path("x/evil.mka"), watch=Unwatched())
    assert "\n" not in str(caught.value)


def test_its_own_problem_is_told_as_it_is():
    with pytest.raises(FileProblem, match=r"a\.wav is no good\."):
        apart(refuses, "a.wav", path=Path("a.wav"), watch=Unwatched())


def test_cancelled_it_clears_away_what_it_had_begun(tmp_path):
    watch = FlagWatch(lambda *_: None, (tmp_path / "half.part").exists)
    with pytest.raises(Cancelled):
        apart(goes_on, tmp_path, path=Path("a.wav"), watch=watch)
    deadline = time.monotonic() + 10
    while (tmp_path / "half.part").exists() and time.monotonic() < deadline:
        time.sleep(0.01)
    assert list(tmp_path.iterdir()) == []


def test_eight_channels_and_more_are_read_by_both_decoders(tmp_path):
    """They crashed the process: PyAV's planar frames end at eight."""
    import numpy as np
    import soundfile

    from faithful_reel.core.audio.files import blocks

    for channels in (7, 8, 9, 33):
        x = np.random.default_rng(channels).standard_normal((3000, channels)).astype(np.float32) * 0.1
        soundfile.write(tmp_path / "a.wav", x, 44_100, subtype="FLOAT")
        for by in ("av", "soundfile"):
            assert np.array_equal(np.concatenate(list(blocks(tmp_path / "a.wav", by=by)), axis=1), x.T)


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("a.m3u8", "#EXTM3U\n#EXTINF:2,\nreal.wav\n"),
        ("a.wav", "ffconcat version 1.0\nfile real.wav\n"),
        ("a.pls", "[playlist]\nFile1=real.wav\n"),
    ],
)
def test_a_list_of_files_is_no_recording(tmp_path, name, text):
    import soundfile
    from support.sounds import noise

    from faithful_reel.core.audio.files import audio_info

    soundfile.write(tmp_path / "real.wav", noise(seconds=1, rms_db=-30), 44_100)
    (tmp_path / name).write_text(text)
    with pytest.raises(FileProblem, match="not audio"):
        audio_info(tmp_path / name)
