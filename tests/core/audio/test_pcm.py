"""What is written is whole, or told: where writing fails once and goes on, and where nobody says that it failed."""

from __future__ import annotations

import errno
import subprocess
import sys

import numpy as np
import pytest
import soundfile

from faithful_reel.core.audio.pcm import PcmWriter, _Remembering

KINDS = [("WAV", "PCM_24"), ("FLAC", "PCM_24"), ("RF64", "FLOAT")]


def noise(seed=0, n=200_000):
    return np.random.default_rng(seed).uniform(-0.5, 0.5, (n, 1)).astype(np.float32)


@pytest.mark.parametrize(("kind", "subtype"), KINDS)
def test_what_was_written_is_what_is_read(tmp_path, kind, subtype):
    x = noise()
    with PcmWriter(tmp_path / "a", 44_100, 1, subtype, kind) as file:
        for part in np.split(x, 7 * [0] + [50_000, 50_001]):
            file.write(part)
    assert np.allclose(soundfile.read(tmp_path / "a", dtype="float32")[0], x[:, 0], atol=1e-6)


@pytest.mark.parametrize(("kind", "subtype"), KINDS)
@pytest.mark.parametrize("fails", [0, 3, -1])
def test_a_write_that_fails_once_is_told_although_later_ones_succeed(tmp_path, monkeypatch, kind, subtype, fails):
    """As where room is made again while it is written: the file would be as long as it should be, with a hole."""
    writes = []
    plain = _Remembering.write

    def counted(self, data):
        writes.append(len(data))
        return plain(self, data)

    monkeypatch.setattr(_Remembering, "write", counted)
    with PcmWriter(tmp_path / "a", 44_100, 1, subtype, kind) as file:
        file.write(noise())
    failing = fails % len(writes)
    writes.clear()

    class Once:
        def __init__(self, file):
            self._file = file

        def write(self, data):
            if len(writes) - 1 == failing:
                self._file.write(bytes(len(data)))
                raise OSError(errno.ENOSPC, "No space left on device")
            return self._file.write(data)

        def __getattr__(self, name):
            return getattr(self._file, name)

    made = PcmWriter(tmp_path / "b", 44_100, 1, subtype, kind) if failing else None
    if made is None:  # the header is written when it is opened
        monkeypatch.setattr(_Remembering, "__init__", _opened_failing(Once))
        made = PcmWriter(tmp_path / "b", 44_100, 1, subtype, kind)
    else:
        made._kept._file = Once(made._kept._file)
    with pytest.raises(OSError, match="No space left"), made as file:
        file.write(noise())


def _opened_failing(once):
    def opened(self, path):
        self._file, self.problem = once(path.open("w+b")), None

    return opened


@pytest.mark.parametrize(("kind", "subtype"), KINDS)
@pytest.mark.parametrize("lost", [1, 3_000, 300_000])
def test_what_is_lost_without_a_word_is_found_by_reading_it_back(tmp_path, monkeypatch, kind, subtype, lost):
    plain = _Remembering.close

    def cut(self):
        if not self._file.closed:
            self._file.flush()
            self._file.truncate(self._file.seek(0, 2) - lost)
        plain(self)

    monkeypatch.setattr(_Remembering, "close", cut)
    with pytest.raises((OSError, soundfile.LibsndfileError)), PcmWriter(tmp_path / "a", 44_100, 1, subtype, kind) as file:
        file.write(noise())


def test_a_program_that_is_ended_while_it_writes_ends(tmp_path):
    """The library calls us to write, and swallows what is raised there; the signal comes just then."""
    code = """
import os, signal, sys
from pathlib import Path
import numpy as np
from faithful_reel import cli
from faithful_reel.core.audio.pcm import PcmWriter, _Remembering
for number in (signal.SIGTERM, signal.SIGALRM):
    signal.signal(number, cli._ended)
plain = _Remembering.write
def ended(self, data):
    os.kill(os.getpid(), signal.SIGTERM)
    return plain(self, data)
with PcmWriter(Path(sys.argv[1]), 44_100, 1, "PCM_16", "WAV") as file:
    _Remembering.write = ended
    for _ in range(1_000_000):
        file.write(np.zeros((300, 1), np.float32))
"""
    done = subprocess.run(
        [sys.executable, "-c", code, str(tmp_path / "a")], capture_output=True, text=True, timeout=60, check=False
    )
    assert (done.returncode, done.stderr) == (143, "")
