"""Writing WAV, FLAC and MP3: beside the target first, then renamed, so that nothing is ever half-written.

Encoding runs in a thread of its own, so that the second core is used while the next block is being made.
"""

from __future__ import annotations

import os
import queue
import threading
from collections.abc import Iterable, Mapping
from fractions import Fraction
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import av
import av.error
import numpy as np
import soundfile

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.units import Signal

SUFFIXES = (".wav", ".flac", ".mp3")
SUBTYPES = {16: "PCM_16", 24: "PCM_24", 32: "FLOAT"}


class AudioWriter:
    """Writes blocks of (n,) or (channels, n) audio; the file appears under its name only when all went well."""

    def __init__(self, path: Path, rate: int, channels: int, *, bits: int = 24, kbits: int = 192) -> None:
        suffix = path.suffix.lower()
        if suffix not in SUFFIXES:
            raise FileProblem(f"{path.name}: files of this kind are not written. Use .wav, .flac or .mp3.")
        if not path.parent.is_dir():
            raise FileProblem(f"The folder {path.parent.name or path.parent} for {path.name} is not there. Make it first.")
        self.path, self.rate, self.channels = path, rate, channels
        self._beside = path.with_name(f".{path.stem}.part{os.getpid()}{suffix}")
        self._sound: soundfile.SoundFile | None = None
        self._at = 0
        try:
            if suffix == ".mp3":
                self._container = av.open(str(self._beside), "w", format="mp3")
                # at 192 kbit/s the fast search costs nothing that can be measured: see docs/decisions
                self._stream = self._container.add_stream("libmp3lame", rate=rate, options={"compression_level": "7"})
                self._stream.layout = "mono" if channels == 1 else "stereo"
                self._stream.bit_rate = kbits * 1000
            else:
                bits = min(bits, 24) if suffix == ".flac" else bits
                self._sound = soundfile.SoundFile(str(self._beside), "w", rate, channels, SUBTYPES[bits])
        except (OSError, soundfile.LibsndfileError, av.error.FFmpegError) as problem:
            self._beside.unlink(missing_ok=True)
            raise FileProblem(f"{path.name} could not be written. Check that the folder can be written to.") from problem

        self._queue: queue.Queue[Signal | None] = queue.Queue(maxsize=4)
        self._problem: BaseException | None = None
        self._thread = threading.Thread(target=self._encode_all, name="encode", daemon=True)
        self._thread.start()

    def write(self, x: Signal) -> None:
        """Append a block."""
        if self._problem is None:
            self._queue.put(np.atleast_2d(x).astype(np.float32))

    def _encode_all(self) -> None:
        while (data := self._queue.get()) is not None:
            if self._problem is None:
                try:
                    self._encode(data)
                except (OSError, soundfile.LibsndfileError, av.error.FFmpegError) as problem:
                    self._problem = problem

    def _encode(self, data: Signal) -> None:
        if self._sound is not None:
            self._sound.write(data.T)
            return
        layout = "mono" if self.channels == 1 else "stereo"
        frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(data), format="fltp", layout=layout)
        frame.sample_rate, frame.pts, frame.time_base = self.rate, self._at, Fraction(1, self.rate)
        self._at += data.shape[1]
        for packet in self._stream.encode(frame):
            self._container.mux(packet)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None) -> None:
        self._queue.put(None)
        self._thread.join()
        try:
            if self._sound is not None:
                self._sound.close()
            else:
                if kind is None and self._problem is None:
                    for packet in self._stream.encode(None):
                        self._container.mux(packet)
                self._container.close()
            if self._problem is not None:
                raise FileProblem(f"{self.path.name} could not be written to the end. Is the disk full?") from self._problem
            if kind is None:
                with self._beside.open("rb") as file:
                    os.fsync(file.fileno())
                self._beside.replace(self.path)
        except (OSError, soundfile.LibsndfileError, av.error.FFmpegError) as problem:
            raise FileProblem(f"{self.path.name} could not be written to the end. Is the disk full?") from problem
        finally:
            self._beside.unlink(missing_ok=True)


def write_audio(path: Path, parts: Iterable[Signal], rate: int, *, channels: int = 1, bits: int = 24, kbits: int = 192) -> None:
    """Write all blocks of `parts` to `path`."""
    with AudioWriter(path, rate, channels, bits=bits, kbits=kbits) as writer:
        for x in parts:
            writer.write(x)


def write_tags(path: Path, tags: Mapping[str, str]) -> None:
    """Put title, artist, album, track and such into an MP3 (ID3v2), FLAC or WAV file.

    Names are those of `mutagen`'s easy tags: title, artist, album, albumartist, tracknumber, genre, date.
    """
    import mutagen
    from mutagen.easyid3 import EasyID3
    from mutagen.id3 import ID3, TALB, TIT2, TPE1, TRCK

    present = {k: v for k, v in tags.items() if v}
    try:
        if path.suffix.lower() == ".wav":
            frames: dict[str, Any] = {"title": TIT2, "artist": TPE1, "album": TALB, "tracknumber": TRCK}
            file: Any = mutagen.File(path)
            if file.tags is None:
                file.add_tags()
            for name, value in present.items():
                if name in frames:
                    file.tags.add(frames[name](encoding=3, text=[value]))
            file.save()
            return
        if path.suffix.lower() == ".mp3":
            ID3().save(path)
            easy = EasyID3(path)
        else:
            easy = mutagen.File(path)
        for name, value in present.items():
            easy[name] = value
        easy.save()
    except mutagen.MutagenError as problem:
        raise FileProblem(f"The tags of {path.name} could not be written.") from problem
