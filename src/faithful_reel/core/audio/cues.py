"""Cue markers with names in sound files: RIFF `cue ` and `LIST adtl` in WAV, chapter marks in FLAC and MP3."""

from __future__ import annotations

import os
import struct
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from mutagen import MutagenError
from mutagen.flac import FLAC
from mutagen.id3 import CHAP, CTOC, ID3, TIT2, CTOCFlags, Encoding, ID3NoHeaderError

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import encodable, why

MOST_CUES = 10_000
MOST_CHILDREN = 255
"""ID3v2 Chapter Frame Addendum 1.0, 3.2: the entry count of a table of contents is one byte."""
_RIFF, _WORD = b"RIFF", 4


@dataclass(frozen=True, slots=True)
class Cue:
    """A named place in a file, in samples at the file's rate; `length` over 0 for a stretch."""

    at: int
    name: str
    length: int = 0


def write_cues(path: Path, cues: Sequence[Cue], rate: int, length: int) -> None:
    """Put cue markers into a WAV, FLAC or MP3 file that was just written; `length` is the file's, in samples.

    WAV gets the chunks `cue ` and `LIST` of type `adtl` with a `labl` for every name and an `ltxt` for every stretch, texts
    in UTF-8; FLAC the comments CHAPTER001 and CHAPTER001NAME; MP3 frames CHAP and CTOC.

    Raises
    ------
    FileProblem
        The file can not be written, is none of these, or there are more than 10,000 markers.

    References
    ----------
    Microsoft and IBM, Multimedia Programming Interface and Data Specifications 1.0 (1991), Waveform Audio File Format: cue
    points and associated data chunk.  ID3v2 Chapter Frame Addendum 1.0.  Chapter comments: common practice in Vorbis comments.
    """
    cues = [replace(c, name=encodable(c.name)) for c in sorted(cues, key=lambda c: c.at)]
    if not cues:
        return
    if len(cues) > MOST_CUES:
        raise FileProblem(f"{path.name} can hold {MOST_CUES} cue markers; {len(cues)} were to be written. Choose fewer kinds.")
    try:
        match path.suffix.lower():
            case ".wav":
                _append(path, _chunks(cues))
            case ".flac":
                _to_flac(path, cues, rate)
            case ".mp3":
                _to_mp3(path, cues, rate, length)
            case other:
                raise FileProblem(f"{path.name} can hold no cue markers ({other}). Write WAV, FLAC or MP3.")
    except (OSError, MutagenError, struct.error) as problem:
        raise FileProblem(
            f"The cue markers could not be written to {path.name}{why(problem)}. Make room and try again."
        ) from problem


def _chunks(cues: Sequence[Cue]) -> bytes:
    points = struct.pack("<I", len(cues))
    labels = b"adtl"
    for number, cue in enumerate(cues, 1):
        points += struct.pack("<II4sIII", number, cue.at, b"data", 0, 0, cue.at)
        labels += _chunk(b"labl", struct.pack("<I", number) + cue.name.encode() + b"\0")
        if cue.length:
            labels += _chunk(b"ltxt", struct.pack("<II4sHHHH", number, cue.length, b"rgn ", 0, 0, 0, 0))
    return _chunk(b"cue ", points) + _chunk(b"LIST", labels)


def _chunk(name: bytes, body: bytes) -> bytes:
    return name + struct.pack("<I", len(body)) + body + b"\0" * (len(body) % 2)


def _append(path: Path, chunks: bytes) -> None:
    """Put chunks behind the last one of a RIFF file, and count them in its size."""
    with path.open("r+b") as file:
        head = file.read(12)
        if head[:4] != _RIFF or head[8:] != b"WAVE":
            raise FileProblem(f"{path.name} is no RIFF file: no markers can be put into it.")
        end = file.seek(0, os.SEEK_END)
        pad = b"\0" * (end % 2)
        size = end + len(pad) + len(chunks) - 8
        if size >= 1 << 32:
            raise FileProblem(f"{path.name} would be longer than a WAV file can be (4 GB). Write FLAC instead.")
        file.write(pad + chunks)
        file.seek(_WORD)
        file.write(struct.pack("<I", size))


def _to_flac(path: Path, cues: Sequence[Cue], rate: int) -> None:
    file = FLAC(path)
    for number, cue in enumerate(cues, 1):
        ms = round(1000 * cue.at / rate)
        at = f"{ms // 3_600_000:02d}:{ms // 60_000 % 60:02d}:{ms // 1000 % 60:02d}.{ms % 1000:03d}"
        file[f"CHAPTER{number:03d}"] = at
        file[f"CHAPTER{number:03d}NAME"] = cue.name
    file.save()


def _to_mp3(path: Path, cues: Sequence[Cue], rate: int, length: int) -> None:
    try:
        tags = ID3(path)
    except ID3NoHeaderError:
        tags = ID3()
    names = [f"c{number}" for number in range(1, len(cues) + 1)]
    listed, level = names, 0
    while len(listed) > MOST_CHILDREN:  # a table counts its entries in one byte: more are a table of tables
        parts = [listed[k : k + MOST_CHILDREN] for k in range(0, len(listed), MOST_CHILDREN)]
        level, listed = level + 1, [f"toc{level}.{k}" for k in range(len(parts))]
        for name, part in zip(listed, parts, strict=True):
            tags.add(CTOC(element_id=name, flags=CTOCFlags.ORDERED, child_element_ids=part, sub_frames=[]))
    flags = CTOCFlags.TOP_LEVEL | CTOCFlags.ORDERED
    tags.add(
        CTOC(element_id="toc", flags=flags, child_element_ids=listed, sub_frames=[TIT2(encoding=Encoding.UTF8, text=["Cues"])])
    )
    ends = [c.at + c.length if c.length else after for c, after in zip(cues, [*(c.at for c in cues[1:]), length], strict=True)]
    for name, cue, end in zip(names, cues, ends, strict=True):
        start_ms, end_ms = round(1000 * cue.at / rate), round(1000 * max(cue.at, end) / rate)
        title = [TIT2(encoding=Encoding.UTF8, text=[cue.name])]
        tags.add(CHAP(element_id=name, start_time=start_ms, end_time=end_ms, sub_frames=title))
    tags.save(path)
