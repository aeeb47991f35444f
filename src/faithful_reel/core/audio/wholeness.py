"""Whether a file holds all the sound that it says it holds: headers against bytes, frame by frame for MP3.

Decoders are lenient: half a WAV or MP3 plays as a shorter recording, and nobody is told.
"""

from __future__ import annotations

import mmap
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from faithful_reel.core.audio.files import audio_info
from faithful_reel.core.errors import FileProblem

LEAST_MISSING_S = 0.01
MOST_CHUNKS = 1000
MOST_GARBAGE = 1 << 16
"""So many bytes that are no frame may stand between two frames of an MP3."""

_KBITS = {
    (3, 3): (0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448),
    (3, 2): (0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384),
    (3, 1): (0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320),
    (2, 3): (0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256),
    (2, 2): (0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160),
    (2, 1): (0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160),
}
"""Bit rates in kbit/s by (version, layer bits) and index: ISO/IEC 11172-3, 2.4.2.3, and 13818-3 (from memory)."""
_RATES = {3: (44_100, 48_000, 32_000), 2: (22_050, 24_000, 16_000), 0: (11_025, 12_000, 8_000)}


@dataclass(frozen=True, slots=True)
class MpegFrames:
    """What the frames of an MP3 say: how many there are, their mean bit rate in bit/s, whether that is constant.

    `promised` are the frames that an information header counts, 0 where there is none; `whole` is false where the last
    frame is broken off.
    """

    count: int
    bit_rate: int
    constant: bool
    promised: int
    whole: bool
    seconds_each: float


def _frame(data: mmap.mmap, at: int) -> tuple[int, int, int, int] | None:
    """(bytes, bit rate, samples, rate) of the frame whose header stands at a position; None where none does."""
    if at + 4 > len(data):
        return None
    head = struct.unpack_from(">I", data, at)[0]
    version, layer = head >> 19 & 3, head >> 17 & 3
    index, rate_index = head >> 12 & 15, head >> 10 & 3
    if head >> 21 != 0x7FF or version == 1 or layer == 0 or index in (0, 15) or rate_index == 3:
        return None
    rate = _RATES[version][rate_index]
    kbits = _KBITS[(3 if version == 3 else 2, layer)][index]
    padding = head >> 9 & 1
    if layer == 3:  # layer I
        return (12_000 * kbits // rate + padding) * 4, 1000 * kbits, 384, rate
    samples = 576 if layer == 1 and version != 3 else 1152
    return samples // 8 * 1000 * kbits // rate + padding, 1000 * kbits, samples, rate


def mpeg_frames(path: Path) -> MpegFrames | None:
    """Walk through the frames of an MP3; None where the file holds none.

    References
    ----------
    ISO/IEC 11172-3, 2.4.1.3 and 2.4.2.3 (frame header); the information header is common practice of encoders.
    """
    with path.open("rb") as file:
        if not path.stat().st_size:
            return None
        with mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
            return _walked(data)


def _walked(data: mmap.mmap) -> MpegFrames | None:
    at, end = 0, len(data)
    while data[at : at + 3] == b"ID3" and at + 10 <= end:
        size = 0
        for byte in data[at + 6 : at + 10]:
            size = size << 7 | byte & 0x7F
        at += 10 + size + (10 if data[at + 5] & 0x10 else 0)
    if data[end - 128 : end - 125] == b"TAG":
        end -= 128
    count = total = promised = samples = rate = 0
    least, most = 1 << 31, 0
    whole = True
    while at + 4 <= end:
        frame = _frame(data, at)
        if frame is None:
            found = _next_frame(data, at + 1, min(end, at + MOST_GARBAGE))
            if found < 0:
                whole = whole and (count == 0 or _is_tag(data[at : at + 8]) or not any(data[at : min(end, at + 4096)]))
                break
            at = found
            continue
        size, bit_rate, samples, rate = frame
        if not count and not promised and (told := _information(data[at : at + size])) >= 0:
            promised = told
            at += size
            continue
        if at + size > end:
            whole = False
            break
        count += 1
        total += bit_rate
        least, most = min(least, bit_rate), max(most, bit_rate)
        at += size
    if not count:
        return None
    return MpegFrames(count, total // count, least == most, promised, whole, samples / rate)


def _next_frame(data: mmap.mmap, at: int, end: int) -> int:
    """Where two frames in a row begin next; -1 where none do."""
    while (at := data.find(b"\xff", at, end)) >= 0:
        frame = _frame(data, at)
        if frame is not None and (at + frame[0] >= len(data) - 4 or _frame(data, at + frame[0]) is not None):
            return at
        at += 1
    return -1


def _is_tag(head: bytes) -> bool:
    return head.startswith((b"APETAGEX", b"LYRICSBE", b"TAG"))


def _information(frame: bytes) -> int:
    """How many frames the information header counts; 0 where it does not say, -1 where the frame is an ordinary one."""
    for name in (b"Xing", b"Info"):
        place = frame.find(name, 0, 64)
        if place >= 0:
            flags, frames = struct.unpack_from(">II", frame.ljust(place + 12, b"\0"), place + 4)
            return int(frames) if flags & 1 else 0
    place = frame.find(b"VBRI", 0, 64)
    return int(struct.unpack_from(">I", frame.ljust(place + 18, b"\0"), place + 14)[0]) if place >= 0 else -1


@dataclass(frozen=True, slots=True)
class Shortfall:
    """A file holds less than it says, or breaks off; `promised_s` is 0 where only its end tells."""

    name: str
    found_s: float
    promised_s: float

    @property
    def what(self) -> str:
        """What is wrong, with both lengths where they are known."""
        there = f"{self.found_s:.1f} s are there"
        if self.promised_s:
            return f"cut short: its header promises {self.promised_s:.1f} s, {there}"
        return f"broken off: {there}, its end is missing"

    def __str__(self) -> str:
        return f"{self.name} is {self.what}. Copy it again."


def shortfall(path: Path) -> Shortfall | None:
    """Whether a file is cut short; None for a whole one, and for kinds that do not tell.

    Raises
    ------
    FileProblem
        As `audio_info`.
    """
    info = audio_info(path)
    try:
        if info.codec == "mp3":
            frames = mpeg_frames(path)
            if frames is None:
                return None
            found = frames.count * frames.seconds_each
            promised = frames.promised * frames.seconds_each
            if promised > found + 2 * frames.seconds_each:
                return Shortfall(path.name, found, promised)
            return None if frames.whole else Shortfall(path.name, found, 0.0)
        with path.open("rb") as file:
            head = file.read(12)
        if head[:4] in (b"RIFF", b"RF64", b"RIFX"):
            promised_bytes, there, byte_rate = _wave(path, ">" if head[:4] == b"RIFX" else "<")
        elif head[:4] == b"FORM":
            promised_bytes, there, byte_rate = _aiff(path)
        elif head[:4] == b"OggS":
            return None if _ends(path) else Shortfall(path.name, info.seconds, 0.0)
        else:
            return None
    except (OSError, struct.error) as problem:
        raise FileProblem(f"{path.name} can not be read. Check the file and the disk.") from problem
    if byte_rate and promised_bytes - there > LEAST_MISSING_S * byte_rate:
        return Shortfall(path.name, there / byte_rate, promised_bytes / byte_rate)
    return None


def _chunks(path: Path, order: str) -> Iterator[tuple[bytes, int, int, bytes]]:
    """(name, position of the body, size, the body's first bytes) of the chunks of a RIFF or IFF file."""
    size_of = path.stat().st_size
    at = 12
    with path.open("rb") as file:
        for _ in range(MOST_CHUNKS):
            file.seek(at)
            head = file.read(8)
            if len(head) < 8:
                return
            size = struct.unpack(order + "I", head[4:])[0]
            yield head[:4], at + 8, size, file.read(min(size, 64))
            at += 8 + size + size % 2
            if at >= size_of:
                return


def _wave(path: Path, order: str) -> tuple[int, int, int]:
    """(promised bytes of sound, bytes that are there, bytes a second); zeros where the header does not say."""
    length, byte_rate = path.stat().st_size, 0
    large = 0
    for name, at, size, body in _chunks(path, order):
        if name == b"ds64" and len(body) >= 16:
            large = struct.unpack_from("<Q", body, 8)[0]
        elif name == b"fmt " and len(body) >= 12:
            byte_rate = struct.unpack_from(order + "I", body, 8)[0]
        elif name == b"data":
            promised = large if size == 0xFFFFFFFF else size
            return promised, length - at, byte_rate
    return 0, 0, 0


def _aiff(path: Path) -> tuple[int, int, int]:
    length, byte_rate = path.stat().st_size, 0
    for name, at, size, body in _chunks(path, ">"):
        if name == b"COMM" and len(body) >= 18:
            channels, bits = struct.unpack_from(">H", body, 0)[0], struct.unpack_from(">H", body, 6)[0]
            exponent, mantissa = struct.unpack_from(">HQ", body, 8)
            rate = mantissa * 2.0 ** ((exponent & 0x7FFF) - 16_383 - 63)
            byte_rate = round(channels * -(-bits // 8) * rate)
        elif name == b"SSND":
            return size - 8, length - at - 8, byte_rate
    return 0, 0, 0


def _ends(path: Path) -> bool:
    """Whether the last page of an Ogg stream is marked as its last (RFC 3533, section 6)."""
    with path.open("rb") as file:
        file.seek(max(0, path.stat().st_size - (1 << 17)))
        tail = file.read()
    last = tail.rfind(b"OggS")
    return last >= 0 and last + 6 <= len(tail) and bool(tail[last + 5] & 4)
