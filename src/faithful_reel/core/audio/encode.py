"""Writing WAV, FLAC and MP3: beside the target first, then renamed, so that nothing is ever half-written.

Encoding runs in threads of its own, so that all cores are used while the next block is being made.
"""

from __future__ import annotations

import os
import queue
import threading
from collections import deque
from collections.abc import Iterable, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from fractions import Fraction
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import av
import av.error
import numpy as np
import soundfile

from faithful_reel.core.audio.pcm import PcmWriter
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import beside, why
from faithful_reel.core.units import Signal

SUFFIXES = (".wav", ".flac", ".mp3")
SUBTYPES = {16: "PCM_16", 24: "PCM_24", 32: "FLOAT"}


_PROBLEMS = (OSError, soundfile.LibsndfileError, av.error.FFmpegError)


class _Pcm:
    """WAV and FLAC by libsndfile."""

    def __init__(self, path: Path, rate: int, channels: int, bits: int) -> None:
        kind = path.suffix[1:].upper()
        bits = min(bits, 24) if kind == "FLAC" else bits
        self._file = PcmWriter(path, rate, channels, SUBTYPES[bits], kind)
        self.finish, self.close = self._file.finish, self._file.close

    def write(self, data: Signal) -> None:
        self._file.write(data.T)


MP3_FRAME = 1152
STRETCH_FRAMES = 1000
"""An MP3 is encoded in stretches of 26 s, several at once."""
LEAD_FRAMES = 16
"""Each stretch starts so many frames early, so that filters and masking model have settled where it is used."""
TRAIL_FRAMES = 4
"""The encoder looks ahead by less than this."""


class _Mp3:
    """MP3 by LAME, several stretches at once, joined at frame boundaries.

    Without a bit reservoir each frame stands for itself, so that frames of several encoders can follow each other: see
    docs/decisions.
    """

    def __init__(self, path: Path, rate: int, channels: int, kbits: int) -> None:
        self._rate, self._kbits = rate, kbits
        self._layout = "mono" if channels == 1 else "stereo"
        self._container = av.open(str(path), "w", format="mp3")
        self._stream = self._container.add_stream("libmp3lame", rate=rate)
        self._stream.layout = self._layout
        self._stream.bit_rate = kbits * 1000
        self._workers = max(2, os.cpu_count() or 2)
        self._pool = ThreadPoolExecutor(self._workers, "mp3")
        self._waiting: deque[Future[list[av.Packet[Any]]]] = deque()
        self._parts: list[Signal] = [np.zeros((channels, 0), np.float32)]
        self._held = 0
        self._lead = self._frames = 0

    def write(self, data: Signal) -> None:
        self._parts.append(data)
        self._held += data.shape[1]
        whole = (self._lead + STRETCH_FRAMES + TRAIL_FRAMES) * MP3_FRAME
        while self._held > whole:
            x = np.concatenate(self._parts, axis=1)
            self._submit(x[:, :whole], STRETCH_FRAMES)
            rest = x[:, (self._lead + STRETCH_FRAMES - LEAD_FRAMES) * MP3_FRAME :]
            self._parts, self._held = [rest], rest.shape[1]
            self._lead = LEAD_FRAMES
            whole = (self._lead + STRETCH_FRAMES + TRAIL_FRAMES) * MP3_FRAME

    def _submit(self, x: Signal, frames: int | None) -> None:
        self._waiting.append(self._pool.submit(self._encoded, x, self._lead, frames))
        while len(self._waiting) > self._workers:
            self._mux(self._waiting.popleft().result())

    def _encoded(self, x: Signal, lead: int, frames: int | None) -> list[av.Packet[Any]]:
        """The packets of a stretch without its lead: `frames` of them, or all to the end of the sound."""
        encoder = av.CodecContext.create("libmp3lame", "w")
        encoder.sample_rate, encoder.layout, encoder.format = self._rate, self._layout, "fltp"
        encoder.bit_rate, encoder.time_base = self._kbits * 1000, Fraction(1, self._rate)
        # at 192 kbit/s the fast search costs nothing that can be measured: see docs/decisions
        encoder.options = {"compression_level": "7", "reservoir": "0"}
        frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(x), format="fltp", layout=self._layout)
        frame.sample_rate, frame.pts, frame.time_base = self._rate, 0, Fraction(1, self._rate)
        packets = list(encoder.encode(frame))
        if frames is None:
            packets += encoder.encode(None)
            return packets[lead:]
        return packets[lead : lead + frames]

    def _mux(self, packets: list[av.Packet[Any]]) -> None:
        for packet in packets:
            packet.stream = self._stream
            packet.pts = packet.dts = self._frames * MP3_FRAME
            packet.time_base = Fraction(1, self._rate)
            self._frames += 1
            self._container.mux(packet)

    def finish(self) -> None:
        """Encode what is left."""
        self._submit(np.concatenate(self._parts, axis=1), None)
        while self._waiting:
            self._mux(self._waiting.popleft().result())

    def close(self) -> None:
        self._pool.shutdown(cancel_futures=True)
        self._container.close()


class AudioWriter:
    """Writes blocks of (n,) or (channels, n) audio; the file appears under its name only when all went well."""

    def __init__(self, path: Path, rate: int, channels: int, *, bits: int = 24, kbits: int = 192) -> None:
        suffix = path.suffix.lower()
        if suffix not in SUFFIXES:
            raise FileProblem(f"{path.name}: files of this kind are not written. Use .wav, .flac or .mp3.")
        if not path.parent.is_dir():
            raise FileProblem(f"The folder {path.parent.name or path.parent} for {path.name} is not there. Make it first.")
        self.path = path
        self._beside = beside(path, suffix)
        self._sink: _Pcm | _Mp3
        try:
            if suffix == ".mp3":
                self._sink = _Mp3(self._beside, rate, channels, kbits)
            else:
                self._sink = _Pcm(self._beside, rate, channels, bits)
        except _PROBLEMS as problem:
            self._beside.unlink(missing_ok=True)
            raise FileProblem(
                f"{path.name} could not be written{why(problem)}. Check that the folder can be written to."
            ) from problem

        self._queue: queue.Queue[Signal | None] = queue.Queue(maxsize=4)
        self._problem: BaseException | None = None
        self._thread = threading.Thread(target=self._write_all, name="encode", daemon=True)
        self._thread.start()

    def write(self, x: Signal) -> None:
        """Append a block.

        Raises
        ------
        FileProblem
            NaN or infinity is in it: in whole numbers that would be a crack, or silence.
        """
        if not np.isfinite(x).all():
            raise FileProblem(
                f"{self.path.name} was not written: what it is made of holds values that are not numbers. Export that again."
            )
        if self._problem is None:
            self._queue.put(np.atleast_2d(x).astype(np.float32))

    def _write_all(self) -> None:
        while (data := self._queue.get()) is not None:
            if self._problem is None:
                try:
                    self._sink.write(data)
                except _PROBLEMS as problem:
                    self._problem = problem

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None) -> None:
        self._queue.put(None)
        self._thread.join()
        try:
            try:
                if kind is None and self._problem is None:
                    self._sink.finish()
            finally:
                self._sink.close()
            if self._problem is not None:
                raise _cut_short(self.path, self._problem) from self._problem
            if kind is None:
                with self._beside.open("rb") as file:
                    os.fsync(file.fileno())
                self._beside.replace(self.path)
        except _PROBLEMS as problem:
            raise _cut_short(self.path, problem) from problem
        finally:
            self._beside.unlink(missing_ok=True)


def _cut_short(path: Path, problem: BaseException | None) -> FileProblem:
    return FileProblem(f"{path.name} could not be written to the end{why(problem)}. Is the disk full?")


def write_audio(path: Path, parts: Iterable[Signal], rate: int, *, channels: int = 1, bits: int = 24, kbits: int = 192) -> None:
    """Write all blocks of `parts` to `path`."""
    with AudioWriter(path, rate, channels, bits=bits, kbits=kbits) as writer:
        for x in parts:
            writer.write(x)


def write_tags(path: Path, tags: Mapping[str, str]) -> None:
    """Put title, artist, album, track and such into an MP3 (ID3v2), FLAC or WAV file.

    Names are those of `mutagen`'s easy tags: title, artist, album, albumartist, tracknumber, genre, date.

    Raises
    ------
    FileProblem
        They can not be written.
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
