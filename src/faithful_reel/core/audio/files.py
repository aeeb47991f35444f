"""Opening and decoding audio files, block by block."""

from __future__ import annotations

import mmap
import os
import re
import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import av
import av.error
import numpy as np
import soundfile
import soxr
from av.container import InputContainer

from faithful_reel.core.audio.channels import MOST_COMPARED, ChannelMeter, Channels
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.jobs import Unwatched, Watch
from faithful_reel.core.units import EAR_RATE, Signal

BLOCK = 1 << 16
SUFFIXES = (
    ".wav", ".flac", ".mp3", ".m4a", ".aif", ".aiff", ".ogg", ".opus", ".caf", ".aac", ".mp4", ".m4b", ".w64", ".rf64", ".bwf",
    ".oga", ".mka", ".webm", ".wma",
)  # fmt: skip
"""What is offered in dialogs; a file is opened by what it is, not by its name."""
_AV_DAMAGE = (av.error.FFmpegError, OSError, AttributeError, ValueError, OverflowError)
"""What PyAV raises for damaged files; a stream without a usable codec has no `rate`."""
_CONTAINERS = "aac,aiff,asf,caf,flac,matroska,mov,mp3,ogg,w64,wav,webm"
"""FFmpeg's names of the containers that are read."""
MAX_RATE = 384_000
MOST_CHANNELS = 64
LEAST_RATE = 16_000


@dataclass(frozen=True, slots=True)
class AudioInfo:
    """What the header of an audio file says; `frames` are samples per channel."""

    path: Path
    rate: int
    channels: int
    frames: int
    codec: str
    subtype: str

    @property
    def depth(self) -> str:
        """The samples' depth in words: "24-bit", "32-bit float"; empty for lossy codecs."""
        wide = re.search(r"(\d+)", self.subtype)
        if self.subtype in ("FLOAT", "DOUBLE"):
            return "32-bit float" if self.subtype == "FLOAT" else "64-bit float"
        return f"{wide[1]}-bit" if wide and self.subtype.startswith(("PCM", "ALAC")) else ""

    @property
    def seconds(self) -> float:
        """Length in seconds."""
        return self.frames / self.rate


def audio_info(path: Path) -> AudioInfo:
    """Look at the header.

    Raises
    ------
    FileProblem
        The file is missing, holds no audio that we read, or holds no sound at all.
    """
    if not path.is_file():
        raise FileProblem(f"The recording {path.name} is not there. Check the name and the folder.")
    if path.stat().st_size == 0:
        raise FileProblem(f"{path.name} is empty. Copy the recording again.")
    try:
        info = _av_info(path) if _decoder(path) == "av" else _soundfile_info(path)
    except OSError as problem:
        raise FileProblem(f"{path.name} can not be read ({problem.strerror}). Check the file and the disk.") from problem
    if info.frames <= 0:
        raise FileProblem(f"{path.name} holds no sound (zero samples). Copy or record it again.")
    if not 1 <= info.channels <= MOST_CHANNELS:
        raise FileProblem(f"{path.name} claims to have {info.channels} channels. The file is damaged.")
    if not 1 <= info.rate <= MAX_RATE:
        raise FileProblem(f"{path.name} claims a rate of {info.rate} Hz. The file is damaged.")
    return info


def _decoder(path: Path) -> str:
    """Which library reads a file best, by its first bytes: "soundfile" or "av"."""
    with path.open("rb") as file:
        head = file.read(64)
    if head[:4] in (b"RIFF", b"RF64", b"FORM", b"fLaC", b"RIFX") or head[:4] == b"riff":
        return "soundfile"
    if head[:4] == b"OggS":
        return "av" if b"OpusHead" in head else "soundfile"
    if head[:3] == b"ID3" or (len(head) > 1 and head[0] == 0xFF and head[1] & 0xE6 == 0xE2):  # MPEG audio, layer III
        return "soundfile"
    return "av"


def _soundfile_info(path: Path) -> AudioInfo:
    try:
        info = soundfile.info(os.fsencode(path))
    except soundfile.LibsndfileError as problem:
        raise FileProblem(
            f"{path.name} is not audio that can be read ({problem.error_string.strip()}) Export it again as WAV or FLAC."
        ) from problem
    return AudioInfo(
        path, int(info.samplerate), int(info.channels), int(info.frames), str(info.format).lower(), str(info.subtype)
    )


def _av_opened(path: Path) -> InputContainer:
    """Open a file by FFmpeg's libraries: only as one of the kinds that hold sound themselves, never as a list of other files."""
    return av.open(f"file:{path.absolute()}", options={"format_whitelist": _CONTAINERS, "protocol_whitelist": "file"})


def _av_info(path: Path) -> AudioInfo:
    try:
        with _av_opened(path) as container:
            if not container.streams.audio:
                raise FileProblem(f"{path.name} holds no audio. Choose the recording itself.")
            stream = container.streams.audio[0]
            length = (
                float(stream.duration * stream.time_base)
                if stream.duration and stream.time_base
                else (container.duration or 0) / 1e6
            )
            codec = stream.codec_context.name
            wide = re.fullmatch(r"pcm_[suf](\d+)[bl]e", codec)
            subtype = "" if not wide else "FLOAT" if codec.startswith("pcm_f") else f"PCM_{wide[1]}"
            return AudioInfo(path, stream.rate, stream.channels, round(length * stream.rate), codec, subtype)
    except _AV_DAMAGE as problem:
        raise FileProblem(f"{path.name} is not audio that can be read. Export it again as WAV or FLAC.") from problem


class _OneWay(soundfile.SoundFile):  # type: ignore[misc]  # untyped base
    """Read from front to end.

    WORKAROUND: soundfile 0.14 seeks to where it stands after every read, which in an MP3 throws the decoder's bit
    reservoir away: the first hundredths of a second of every block were wrong by up to the full level.
    """

    def seekable(self) -> bool:
        """So that it does not."""
        return False


def blocks(path: Path, *, by: str = "", block: int = BLOCK) -> Iterator[Signal]:
    """Decode a file as float32 blocks of shape (channels, n), full scale 1.0.

    `by` forces the decoder, "soundfile" or "av": the independent check reads with the one that did not write.

    Raises
    ------
    FileProblem
        The file ends early or is damaged.
    """
    info = audio_info(path)
    if (by or _decoder(path)) == "av":
        yield from _av_blocks(path, info)
        return
    seen = 0
    try:
        with _OneWay(os.fsencode(path)) as file:
            while True:
                data = file.read(block, dtype="float32", always_2d=True)
                if not len(data):
                    break
                seen += len(data)
                yield np.ascontiguousarray(data.T)
    except soundfile.LibsndfileError as problem:
        raise FileProblem(_cut_short(path, seen, info)) from problem
    if seen < info.frames and info.codec != "mp3":
        raise FileProblem(_cut_short(path, seen, info))


def _cut_short(path: Path, seen: int, info: AudioInfo) -> str:
    return f"{path.name} is damaged or cut short: {seen / info.rate:.1f} of {info.seconds:.1f} s could be read. Copy it again."


def _av_blocks(path: Path, info: AudioInfo) -> Iterator[Signal]:
    left = info.frames if _decoder(path) == "av" else None
    try:
        with _av_opened(path) as container:
            # WORKAROUND: PyAV 18.1 crashes the process on planar frames of eight channels and more; packed ones are safe
            resampler = av.AudioResampler(format="flt")
            held: list[Signal] = []
            count = 0
            for frame in container.decode(audio=0):
                for out in resampler.resample(frame):
                    data = np.asarray(out.to_ndarray(), np.float32).reshape(-1, info.channels)
                    if left is not None:  # AAC decodes a few samples longer than the file says
                        data = data[:left]
                        left -= len(data)
                    held.append(data)
                    count += len(data)
                if count >= BLOCK:
                    yield np.ascontiguousarray(np.concatenate(held).T)
                    held, count = [], 0
            if count:
                yield np.ascontiguousarray(np.concatenate(held).T)
    except _AV_DAMAGE as problem:
        raise FileProblem(f"{path.name} is damaged or cut short. Copy it again.") from problem


def downmixed(x: Signal, weights: Sequence[float] = ()) -> Signal:
    """A (channels, n) block mixed to (n,) float32: by so much of each channel, else their mean."""
    mixed: Signal = x[0] if x.shape[0] == 1 else x.mean(axis=0, dtype=np.float32)
    if weights and len(weights) == min(x.shape[0], MOST_COMPARED):
        mixed = np.asarray(weights, np.float32) @ x[: len(weights)]
    return mixed


def mono_blocks(path: Path, rate: int, weights: Sequence[float] = ()) -> Iterator[Signal]:
    """Decode, mix down as `downmixed` does, and resample on the way: (n,) float32 blocks at `rate`."""
    info = audio_info(path)
    if info.rate == rate:
        for x in blocks(path):
            yield downmixed(x, weights)
        return
    stream = soxr.ResampleStream(info.rate, rate, 1, dtype="float32", quality="VHQ")
    for x in blocks(path):
        y = stream.resample_chunk(downmixed(x, weights))
        if len(y):
            yield y
    tail = stream.resample_chunk(np.zeros(0, np.float32), last=True)
    if len(tail):
        yield tail


def see_numbers(x: Signal, path: Path) -> None:
    """See that audio of any shape from a file is finite.

    Parameters
    ----------
    x : (n,) or (channels, n)
        Samples, full scale 1.
    path : Path
        The file they are of, or go to.

    Raises
    ------
    FileProblem
        NaN or infinity is in it.
    """
    if not np.isfinite(x).all():
        raise FileProblem(f"{path.name} holds values that are not numbers. Export it again.")


def channels_of(path: Path, watch: Watch | None = None) -> Channels:
    """How the channels of a file go together; its `weights` mix them so that nothing is lost.  Raises as `read_mono`.

    What was found is remembered, until the file changes.
    """
    info, watch = audio_info(path), watch or Unwatched()
    if info.channels < 2:
        return Channels()
    found = path.stat()
    key = path, found.st_size, found.st_mtime_ns
    if key not in _channels:
        meter, done = ChannelMeter(info.rate, info.channels), 0
        for x in blocks(path):
            see_numbers(x, path)
            meter.feed(x)
            done += x.shape[-1]
            watch.tick(min(1.0, done / max(1, info.frames)), "comparing channels")
        _channels[key] = meter.found()
    return _channels[key]


_channels: dict[tuple[Path, int, int], Channels] = {}


def read_mono(path: Path, rate: int, weights: Sequence[float] = ()) -> Signal:
    """A whole file as (n,) float32 at `rate`, mixed down as `downmixed` does.

    Raises
    ------
    FileProblem
        As `blocks`; also for NaN or infinite samples.
    """
    parts = list(mono_blocks(path, rate, weights))
    x = np.concatenate(parts) if parts else np.zeros(0, np.float32)
    see_numbers(x, path)
    return x


def full_range_info(path: Path) -> AudioInfo:
    """Look at the header, and refuse what was recorded at a rate too low for any delivery or for the ear.

    Raises
    ------
    FileProblem
        As `audio_info`; also for a rate under `LEAST_RATE`.
    """
    info = audio_info(path)
    if info.rate < LEAST_RATE:
        raise FileProblem(f"{path.name} was recorded at {info.rate} Hz, too low to be used. Ask for the original recording.")
    return info


def ear_sound_of(path: Path) -> Signal:
    """As `ear_sound`, (n,) at 16 kHz, of a file that is in no book: mixed down as its channels ask for."""
    return ear_sound(path, channels_of(path).weights)


def ear_sound(path: Path, weights: Sequence[float] = ()) -> Signal:
    """A whole recording as the ear takes it: (n,) float32 at 16 kHz, read-only, mapped from a temporary file; mixed down as
    `downmixed` does.

    Twenty hours would not fit into memory.

    Raises
    ------
    FileProblem
        As `full_range_info` and `read_mono`, or there is no room for the temporary file.
    """
    full_range_info(path)
    with tempfile.TemporaryFile(prefix="faithful-reel-ear-") as file:
        size = 0
        for block in mono_blocks(path, EAR_RATE, weights):
            see_numbers(block, path)
            size += file.write(np.ascontiguousarray(block, np.float32).tobytes())
        if not size:
            return np.zeros(0, np.float32)
        file.flush()
        mapped = mmap.mmap(file.fileno(), size, access=mmap.ACCESS_READ)  # keeps the file after its name is gone
    return np.frombuffer(mapped, np.float32)


def let_go(x: Signal) -> None:
    """Give back the memory that mapped sound, (n,), was read into; it is read again when it is asked for."""
    base: object = x
    while isinstance(base, np.ndarray):
        base = base.base
    if isinstance(base, memoryview):
        base = base.obj
    if isinstance(base, mmap.mmap):
        base.madvise(mmap.MADV_DONTNEED)


def resampled(x: Signal, rate: int, to: int) -> Signal:
    """(n,) audio at another rate, by soxr's very high quality; unchanged where the rates agree."""
    if rate == to:
        return x
    y: Signal = soxr.resample(x, rate, to, quality="VHQ")
    return y
