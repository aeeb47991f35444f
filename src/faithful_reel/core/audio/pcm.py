"""WAV and FLAC that are whole, or an error: libsndfile does not tell what it could not write when it closes a file."""

from __future__ import annotations

import os
from pathlib import Path
from types import TracebackType
from typing import Self

import soundfile

from faithful_reel.core.units import Signal

BUFFER, LAST = 1 << 18, 4096
NO_SUM = bytes(16)


class _Remembering:
    """A file for libsndfile, which asks for one from C and can not be told why something failed: the first failure is kept."""

    def __init__(self, path: Path) -> None:
        self._file = path.open("w+b", buffering=BUFFER)
        self.problem: OSError | None = None

    def write(self, data: bytes) -> int:
        try:
            return self._file.write(data)
        except OSError as problem:
            self.problem = self.problem or problem
            return 0

    def seek(self, at: int, whence: int = os.SEEK_SET) -> int:
        try:
            return self._file.seek(at, whence)
        except OSError as problem:  # what waits is written first
            self.problem = self.problem or problem
            return -1

    def tell(self) -> int:
        return self._file.tell()

    def close(self) -> None:
        """Bring all of it to the disk."""
        try:
            if self.problem is None and not self._file.closed:
                self._file.flush()
                os.fsync(self._file.fileno())
        except OSError as problem:
            self.problem = problem
        finally:
            try:
                self._file.close()
            except OSError as problem:
                self.problem = self.problem or problem


class PcmWriter:
    """Writes (n,) or (n, channels) blocks to a file of linear samples, WAV, RF64 or FLAC.

    `finish` raises OSError where the file is not whole: a write failed, or what is read back is shorter than what was written.
    Used as a context it finishes the file at the end of a block that went well.

    Raises
    ------
    OSError, soundfile.LibsndfileError
        It can not be opened or written.
    """

    def __init__(self, path: Path, rate: int, channels: int, subtype: str, kind: str) -> None:
        self._path, self._frames = path, 0
        self._kept = _Remembering(path)
        try:
            self._file = soundfile.SoundFile(self._kept, "w", rate, channels, subtype, format=kind)
        except soundfile.LibsndfileError:
            self._kept.close()
            raise

    def write(self, data: Signal) -> None:
        """Append a block."""
        if self._kept.problem is None:
            try:
                self._file.write(data)
            except (soundfile.LibsndfileError, AssertionError) as problem:  # it asserts that all was taken
                raise self._kept.problem or OSError(f"{self._path.name} could not be written") from problem
        if self._kept.problem is not None:
            raise self._kept.problem
        self._frames += len(data)

    def finish(self) -> None:
        """Close the file and read it back."""
        self.close()
        if self._kept.problem is not None:
            raise self._kept.problem
        with soundfile.SoundFile(os.fsencode(self._path)) as back:
            last = min(LAST, self._frames)
            whole = back.frames == self._frames and back.seek(self._frames - last) == self._frames - last
            whole = whole and len(back.read(last)) == last
        if whole and back.format == "FLAC":
            with self._path.open("rb") as file:  # STREAMINFO ends with the sum of all samples (RFC 9639, 8.2)
                whole = file.read(42)[26:] != NO_SUM
        if not whole:
            raise OSError(f"{self._path.name} is shorter than what was written")

    def close(self) -> None:
        """Close the file as it is."""
        try:
            self._file.close()
        finally:
            self._kept.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None) -> None:
        if kind is None:
            self.finish()
        else:
            self.close()
