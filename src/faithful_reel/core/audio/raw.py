"""Sound on its way from one stage to the next, in a file that has no name."""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Generator, Iterator
from pathlib import Path
from typing import Self

import numpy as np

from faithful_reel.core.audio.files import BLOCK
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import shown
from faithful_reel.core.units import Signal


class RawFile:
    """Interleaved float32 samples in a file without a name, which is gone however we end: written in order, read anywhere.

    Read by any number of threads.
    """

    def __init__(self, folder: Path, channels: int) -> None:
        self.channels = channels
        self.frames = 0
        self._folder = folder
        try:
            self._file = tempfile.TemporaryFile(dir=folder)  # noqa: SIM115 - closed by whoever made it
        except OSError as problem:
            raise _no_room(folder, problem) from problem

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        with contextlib.suppress(OSError):  # what did not fit is still to be written
            self._file.close()

    def write(self, parts: Generator[Signal]) -> Iterator[Signal]:
        """Write all (channels, n) blocks, handing each on.  FileProblem where there is no room."""
        with contextlib.closing(parts):  # whatever happens, so that nothing waits for its next block
            for x in parts:
                try:
                    self._file.write(np.ascontiguousarray(x.T, dtype=np.float32).tobytes())
                    self._file.flush()
                except OSError as problem:
                    raise _no_room(self._folder, problem) from problem
                self.frames += x.shape[1]
                yield x

    def blocks(self, *, every: int = 1) -> Iterator[Signal]:
        """All blocks, or every nth."""
        for first in range(0, self.frames, BLOCK * every):
            yield self("", first, min(self.frames, first + BLOCK))

    def __call__(self, recording: str, start: int, stop: int) -> Signal:
        """Samples `start` to `stop`, zeros outside of the file: (channels, n) float32."""
        del recording
        out = np.zeros((self.channels, stop - start), np.float32)
        first, last = max(0, start), min(self.frames, stop)
        if last > first:
            data = os.pread(self._file.fileno(), (last - first) * self.channels * 4, first * self.channels * 4)
            out[:, first - start : last - start] = np.frombuffer(data, np.float32).reshape(-1, self.channels).T
        return out


def _no_room(folder: Path, problem: OSError) -> FileProblem:
    return FileProblem(
        f"There is no room to work in the folder {shown(folder.absolute())} ({problem.strerror}). Make room and try again."
    )
