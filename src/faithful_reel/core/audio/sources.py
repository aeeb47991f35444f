"""Where sound comes from: recordings in files, and sounds that are in no file yet."""

from __future__ import annotations

import os
from collections import OrderedDict
from collections.abc import Callable, Mapping
from pathlib import Path
from tempfile import TemporaryFile

import numpy as np
import soundfile

from faithful_reel.core.audio.files import audio_info, blocks
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.units import Signal

Source = Callable[[str, int, int], Signal]
"""Gives samples `start` to `stop` of a recording as (n,) or (channels, n) float32, zeros outside of it."""

SOUGHT = frozenset({"WAV", "WAVEX", "RF64", "W64", "FLAC", "AIFF", "CAF"})


class FileSources:
    """Reads recordings from files, keeping the last few open; mixed down unless `channels` is 2.

    What can not be sought in to the sample (MP3 and all that libsndfile does not read) is decoded into a temporary
    file first.

    One per thread: a file handle has a position.
    """

    def __init__(self, paths: Callable[[str], Path], *, channels: int = 1, keep: int = 6) -> None:
        self._paths, self._channels, self._keep = paths, channels, keep
        self._open: OrderedDict[str, soundfile.SoundFile] = OrderedDict()

    def __call__(self, recording: str, start: int, stop: int) -> Signal:
        """Samples `start` to `stop`: (n,), or (2, n) of what was opened with two channels.

        Raises
        ------
        FileProblem
            The file is missing, damaged or cut short.
        """
        file = self._open.pop(recording, None)
        if file is None:
            file = _opened(self._paths(recording))
            if len(self._open) >= self._keep:
                self._open.popitem(last=False)[1].close()
        self._open[recording] = file
        out = np.zeros((self._channels, max(0, stop - start)), np.float32)
        first, last = max(0, start), min(stop, file.frames)
        if last > first:
            try:
                if file.tell() != first:
                    file.seek(first)
                data = file.read(last - first, dtype="float32", always_2d=True).T
            except soundfile.LibsndfileError as problem:
                raise FileProblem(self._damaged(recording, first, file)) from problem
            if data.shape[1] < last - first:
                raise FileProblem(self._damaged(recording, first, file))
            if self._channels == 1 and data.shape[0] > 1:
                data = data.mean(axis=0, keepdims=True, dtype=np.float32)
            out[:, first - start : first - start + data.shape[1]] = data
        return out[0] if self._channels == 1 else out

    def _damaged(self, recording: str, at: int, file: soundfile.SoundFile) -> str:
        return f"{self._paths(recording).name} is damaged or cut short near {at / file.samplerate:.1f} s. Copy it again."

    def close(self) -> None:
        """Close all files."""
        while self._open:
            self._open.popitem()[1].close()


def _opened(path: Path) -> soundfile.SoundFile:
    if not path.is_file():
        raise FileProblem(f"The recording {path.name} is missing. Find it again at Intake.")
    try:
        file = soundfile.SoundFile(os.fsencode(path))
        if file.format in SOUGHT:
            return file
        file.close()
    except soundfile.LibsndfileError:
        pass
    return _Decoded(path)


class _Decoded(soundfile.SoundFile):  # type: ignore[misc]  # untyped base
    """A file decoded into a temporary one, which goes when it is closed."""

    def __init__(self, path: Path) -> None:
        info = audio_info(path)
        self._held = TemporaryFile()  # noqa: SIM115 - closed below
        super().__init__(self._held, "w+", info.rate, info.channels, "FLOAT", format="W64")
        for x in blocks(path):
            self.write(x.T)
        self.seek(0)

    def close(self) -> None:
        """Let go of both."""
        super().close()
        self._held.close()


def with_sounds(others: Source, sounds: Mapping[str, Signal]) -> Source:
    """Reads some recordings from memory, (n,) by name, all else from `others`."""

    def read(recording: str, start: int, stop: int) -> Signal:
        if recording not in sounds:
            return others(recording, start, stop)
        sound = sounds[recording]
        out = np.zeros(max(0, stop - start), np.float32)
        first, last = max(0, start), min(len(sound), stop)
        if last > first:
            out[first - start : last - start] = sound[first:last]
        return out

    return read
