"""Recordings in the book's folder: copied in once, verified, looked at, never written to; found again when lost."""

from __future__ import annotations

import contextlib
import hashlib
import json
import logging
import os
import zipfile
import zlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
import soxr

from faithful_reel.core.audio.files import BLOCK, SUFFIXES, audio_info, blocks, channels_of, downmixed, mono_blocks, see_numbers
from faithful_reel.core.audio.overview import BASE, Overview, overview_of
from faithful_reel.core.audio.pcm import PcmWriter
from faithful_reel.core.audio.wholeness import shortfall
from faithful_reel.core.book.condition import AT_DESK
from faithful_reel.core.book.model import Book, Recording, Stretch
from faithful_reel.core.errors import FileProblem, StoreProblem
from faithful_reel.core.files import beside, from_json, hash_of, plain, shown, why
from faithful_reel.core.jobs import Part, Unwatched, Watch
from faithful_reel.core.measure.health import HealthMeter
from faithful_reel.core.measure.levels import Meter
from faithful_reel.core.reel.commands import ToneSource
from faithful_reel.core.units import Signal

MOST_SEARCHED = 20_000
_LOG = logging.getLogger(__name__)


def path_of(folder: Path, recording: Recording, rate: int) -> Path:
    """The file to read a recording's sound from: as received, or decoded at the book's rate."""
    if recording.rate == rate and recording.suffix in (".wav", ".flac") and not recording.parts and not recording.mix:
        return folder / "recordings" / recording.stored
    return folder / "decoded" / plain(f"{recording.file or recording.hash}.flac")


def decode(folder: Path, book: Book, recording: Recording) -> None:
    """Make the decoded copy where it is needed and missing.

    Raises
    ------
    FileProblem, StoreProblem
        The recording, or one that it is made from, is missing or damaged; the copy can not be written.
    """
    path = path_of(folder, recording, book.rate)
    if path.parent.name != "decoded":
        if path.is_file():
            return
    elif path.is_file():
        if _is_whole_copy(folder, path):
            return
        _LOG.info("the decoded copy of %s is not as it was made: it is made again", recording.name)
    if not recording.parts and not (folder / "recordings" / recording.stored).is_file():
        raise FileProblem(f"The recording {recording.name} is missing from the book. Find it again at Intake.")
    part = beside(path)
    try:
        with PcmWriter(part, book.rate, 1, "PCM_24", "FLAC") as file:
            for x in _sound(folder, book, recording):
                file.write(x)
        digest = hash_of(part)
        part.replace(path)
        _keep_note(_note_of(folder, path), [*_stamp(path), digest])
    except (soundfile.LibsndfileError, OSError) as problem:
        raise StoreProblem(
            f"{recording.name} could not be decoded into the book{why(problem)}. Make room and try again."
        ) from problem
    finally:
        part.unlink(missing_ok=True)


def _note_of(folder: Path, copy: Path) -> Path:
    return folder / "cache" / f"{copy.stem}.whole.json"


def _is_whole_copy(folder: Path, copy: Path) -> bool:
    """Whether a decoded copy is as it was made: by its size and time of change, where those differ by its hash."""
    note = _note_of(folder, copy)
    try:
        *stamp, digest = from_json(note.read_text(encoding="utf-8"))
        if stamp == _stamp(copy):
            return True
        whole = bool(hash_of(copy) == digest)
    except (OSError, ValueError, TypeError):
        return False
    if whole:  # the book was moved or copied
        _keep_note(note, [*_stamp(copy), digest])
    return whole


def _keep_note(note: Path, value: object) -> None:
    """Remember something that can be found out again; where it can not be written it is not remembered."""
    part = beside(note)
    try:
        part.write_text(json.dumps(value), encoding="utf-8")
        part.replace(note)
    except OSError:
        part.unlink(missing_ok=True)


def _sound(folder: Path, book: Book, recording: Recording) -> Iterator[Signal]:
    """A recording's sound as mono blocks at the book's rate, without its decoded copy."""
    if not recording.parts:
        yield from mono_blocks(folder / "recordings" / recording.stored, book.rate, recording.mix)
        return
    for part in recording.parts:
        source = book.recording(part.recording)
        decode(folder, book, source)
        with soundfile.SoundFile(os.fsencode(path_of(folder, source, book.rate))) as file:
            file.seek(part.start)
            left = part.stop - part.start
            while left > 0 and len(x := file.read(min(BLOCK, left), dtype="float32", always_2d=True)):
                left -= len(x)
                yield downmixed(np.ascontiguousarray(x.T))


def overview(folder: Path, book: Book, recording: Recording) -> Overview:
    """The overview pyramid, from the cache or made anew."""
    path = folder / "cache" / plain(f"{recording.file or recording.hash}.npz")
    if path.is_file():
        found = _kept_overview(path, recording.length)
        if found is not None:
            return found
        _LOG.info("the overview of %s is damaged: it is made again", recording.name)
    decode(folder, book, recording)
    made = overview_of(mono_blocks(path_of(folder, recording, book.rate), book.rate))
    part = beside(path, ".npz")
    levels: dict[str, Any] = {f"level{k}": level for k, level in enumerate(made.levels)}
    try:
        np.savez(part, length=made.length, **levels)
        part.replace(path)
    except OSError:  # a shortcut only: the disk is full, or the folder can not be written to
        part.unlink(missing_ok=True)
    return made


def _kept_overview(path: Path, length: int) -> Overview | None:
    """An overview from the cache; None for one that is damaged or of another length."""
    try:
        with path.open("rb") as raw, np.load(raw) as file:  # by name it would leave a damaged one open
            levels = tuple(np.asarray(file[f"level{k}"], np.float32) for k in range(len(file.files) - 1))
            found = Overview(int(file["length"]), levels)
    except (OSError, ValueError, TypeError, LookupError, EOFError, zipfile.BadZipFile, zlib.error, NotImplementedError):
        return None
    whole = found.length == length and levels and all(x.ndim == 2 and x.shape[0] == 2 for x in levels)
    return found if whole and levels[0].shape[1] == -(-length // BASE) else None


def left_at_desk(folder: Path) -> list[Path]:
    """Recordings made at the desk that did not come into the book, as when its window was closed meanwhile; by name."""
    try:
        return sorted(p for p in (folder / AT_DESK).glob("*.wav") if p.is_file())
    except OSError:
        return []


def strays(folder: Path, book: Book, named: Callable[[str], bool]) -> list[Path]:
    """Files among a book's recordings that no step of it names, by name: received, and refused or broken off afterwards.

    `named` tells whether any step names one; only those that the book does not hold now are asked for.
    """
    try:
        there = sorted(p for p in (folder / "recordings").iterdir() if p.is_file() and not p.name.startswith("."))
    except OSError:
        return []
    held = {r.stored for r in book.recordings}
    return [p for p in there if p.name not in held and not named(p.stem)]


def received(folder: Path, source: Path, rate: int, watch: Watch | None = None) -> Recording:
    """Copy a recording into the book's folder, verify the copy by its hash, make it read-only, and look at its health.

    Needs no database, so that it can run beside the work; the book learns of it by `AddRecording`.

    Raises
    ------
    FileProblem, StoreProblem
        The source can not be read, or the copy could not be made; nothing is left behind.
    """
    watch = watch or Unwatched()
    audio_info(source)
    suffix = source.suffix.lower() if source.suffix.lower() in SUFFIXES else ""  # known by what it is, not by its name
    part = beside(folder / "recordings" / "new", suffix)
    try:
        digest = hashlib.sha256()
        size = max(1, source.stat().st_size)
        copied = 0
        with source.open("rb") as file, part.open("xb") as out:
            while data := file.read(1 << 20):
                digest.update(data)
                out.write(data)
                copied += len(data)
                watch.tick(0.2 * copied / size, "copying")
            out.flush()
            os.fsync(out.fileno())
        name = digest.hexdigest()
        if hash_of(part) != name:
            raise StoreProblem(f"The copy of {source.name} differs from it. Check the disk and try again.")
        try:
            made = replace(_examined(part, rate, watch, 0.2), hash=name, name=shown(source), size=copied)
        except FileProblem as problem:  # told of the copy, by a name that nobody knows
            raise FileProblem(str(problem).replace(part.name, shown(source))) from problem
        part.chmod(0o444)
        part.replace(folder / "recordings" / f"{name}{suffix}")
    except OSError as problem:
        raise StoreProblem(
            f"{source.name} could not be copied into the book ({problem.strerror}). Make room and try again."
        ) from problem
    finally:
        part.unlink(missing_ok=True)
    return replace(made, tone=replace(made.tone, recording=name) if made.tone else None)


HIGHEST = 0.98


def kept_sound(folder: Path, x: Signal, rate: int, name: str, of: Stretch, how: str) -> tuple[Recording, float]:
    """Keep sound that was made of a stretch of a recording, (n,) at the book's rate, as a recording of its own.

    It is written into the book's `cache` first; `adopted` takes it to the recordings, where as every recording it is never
    changed.  Also gives the dB that it was lowered by (0 or less), so that its peaks fit.

    Raises
    ------
    StoreProblem
        It can not be written; nothing is left behind.
    """
    peak = float(np.max(np.abs(x), initial=0.0))
    scale = min(1.0, HIGHEST / peak) if peak > 0 else 1.0
    part = beside(folder / "cache" / "made", ".flac")
    try:
        with PcmWriter(part, rate, 1, "PCM_24", "FLAC") as file:
            file.write(np.asarray(x * np.float32(scale), np.float32))
        digest = hash_of(part)
        made = replace(examined(part, rate), hash=digest, name=name, size=part.stat().st_size, made=of, how=how)
        part.replace(folder / "cache" / f"made-{digest}.flac")
    except (soundfile.LibsndfileError, OSError) as problem:
        raise StoreProblem(f"“{name}” could not be written into the book{why(problem)}. Make room and try again.") from problem
    finally:
        part.unlink(missing_ok=True)
    return replace(made, tone=replace(made.tone, recording=digest) if made.tone else None), float(20 * np.log10(scale))


def adopted(folder: Path, recording: Recording) -> None:
    """Take sound that `kept_sound` made to the book's recordings.

    Raises
    ------
    StoreProblem
        It is not there any more, or can not be moved.
    """
    there = folder / "recordings" / recording.stored
    waiting = folder / "cache" / f"made-{recording.hash}.flac"
    try:
        if there.is_file():
            waiting.unlink(missing_ok=True)
            return
        waiting.chmod(0o444)
        waiting.replace(there)
    except OSError as problem:
        raise StoreProblem(f"“{recording.name}” could not be kept in the book ({problem.strerror}). Try again.") from problem


def forget_made(folder: Path, hashes: Sequence[str] | None = None) -> None:
    """Take away what `kept_sound` made and no line uses, all or some of it; nothing that a book holds."""
    names = [f"made-{h}.flac" for h in hashes] if hashes is not None else ["made-*.flac"]
    for path in (p for name in names for p in (folder / "cache").glob(name)):
        path.unlink(missing_ok=True)


def examined(path: Path, rate: int, watch: Watch | None = None) -> Recording:
    """Look at a recording's health where it lies; `hash` is left empty.  Raises as `received`."""
    return _examined(path, rate, watch or Unwatched(), 0.0)


def _examined(path: Path, rate: int, watch: Watch, done: float) -> Recording:
    """Decode and measure: at the file's own rate what came, mixed down at the book's rate what will be worked on."""
    info = audio_info(path)
    compared = done + 0.4 * (1 - done) if info.channels > 1 else done
    channels = channels_of(path, Part(watch, done, compared))
    done = compared
    look = HealthMeter(info.rate, info.channels)
    meter = Meter(rate)
    stream = soxr.ResampleStream(info.rate, rate, 1, dtype="float32", quality="VHQ") if info.rate != rate else None
    length = 0
    for x in blocks(path):
        see_numbers(x, path)
        mono = downmixed(x, channels.weights)
        look.feed(x, mono)
        mono = stream.resample_chunk(mono) if stream else mono
        if len(mono):
            meter.feed(mono)
            length += len(mono)
        watch.tick(done + (1 - done) * min(1.0, look.frames / max(1, info.frames)), "measuring")
    if stream is not None and len(tail := stream.resample_chunk(np.zeros(0, np.float32), last=True)):
        meter.feed(tail)
        length += len(tail)
    if not length:
        raise FileProblem(f"{path.name} holds no sound (zero samples). Copy or record it again.")
    figures = meter.figures()
    tone = look.tone()
    cut = shortfall(path)
    return Recording(
        hash="",
        name=path.name,
        suffix=path.suffix.lower() if path.suffix.lower() in SUFFIXES else "",
        rate=info.rate,
        channels=info.channels,
        length=length,
        peak_db=round(figures.peak_db, 2),
        noise_floor_db=round(figures.noise_floor_db, 2),
        rms_db=round(figures.rms_db, 2),
        tone=ToneSource("", tone.start * rate // info.rate, tone.stop * rate // info.rate) if tone else None,
        size=path.stat().st_size,
        health=look.health(depth=info.depth, codec=info.codec, cut_short=cut.what if cut else "", channels=channels.words),
        mix=channels.weights,
    )


def joined(book: Book, parts: tuple[Stretch, ...], name: str) -> Recording:
    """A recording made of stretches of others, end to end; it is known by the hash of that list.

    Its figures are those of the worst part; its room tone that of the first part that has some.
    """
    sources = [book.recording(p.recording) for p in parts]
    listed = "\n".join(f"{p.recording} {p.start} {p.stop}" for p in parts)
    own = hashlib.sha256(listed.encode()).hexdigest()
    length = sum(p.stop - p.start for p in parts)
    weights = [10 ** (s.rms_db / 10) * (p.stop - p.start) for s, p in zip(sources, parts, strict=True)]
    return Recording(
        hash=own,
        name=name,
        suffix=".flac",
        rate=book.rate,
        channels=1,
        length=length,
        peak_db=max(s.peak_db for s in sources),
        noise_floor_db=max(s.noise_floor_db for s in sources),
        rms_db=round(float(10 * np.log10(sum(weights) / length + 1e-20)), 2),
        tone=next((s.tone for s in sources if s.tone), None),
        narrator=next((s.narrator for s in sources if s.narrator), ""),
        parts=parts,
    )


class FaultKind(StrEnum):
    """What is wrong with a recording's file."""

    MISSING = "missing"
    CHANGED = "changed"


@dataclass(frozen=True, slots=True)
class Fault:
    """A recording that is not as it was received."""

    recording: str
    name: str
    kind: FaultKind


def faults(folder: Path, book: Book, *, hashes: bool = False, watch: Watch | None = None) -> list[Fault]:
    """Recordings that are missing or changed.

    At a glance by their sizes; with `hashes` every byte is read.
    """
    watch = watch or Unwatched()
    found = []
    for index, recording in enumerate(book.recordings):
        done = index / len(book.recordings)
        watch.tick(done, f"checking {recording.name}")
        if recording.parts:
            continue
        path = folder / "recordings" / recording.stored
        if not path.is_file():
            found.append(Fault(recording.hash, recording.name, FaultKind.MISSING))
        elif (recording.size and path.stat().st_size != recording.size) or (
            hashes and hash_of(path, watch, done) != (recording.file or recording.hash)
        ):
            found.append(Fault(recording.hash, recording.name, FaultKind.CHANGED))
    return found


def touched_faults(folder: Path, book: Book, watch: Watch | None = None) -> list[Fault]:
    """Recordings that are missing or changed, reading only those that were touched since they were last found whole.

    What was found whole is remembered by size and time of change in `cache`, so that opening a book again costs nothing.
    """
    notes = folder / "cache" / "whole.json"
    whole: dict[str, list[int]] = {}
    with contextlib.suppress(OSError, ValueError, TypeError):
        whole = dict(from_json(notes.read_text(encoding="utf-8")))
    stamps = {r.hash: _stamp(folder / "recordings" / r.stored) for r in book.recordings if not r.parts}
    touched = tuple(r for r in book.recordings if not r.parts and (not stamps[r.hash] or whole.get(r.hash) != stamps[r.hash]))
    found = faults(folder, replace(book, recordings=touched), hashes=True, watch=watch)
    wrong = {f.recording for f in found}
    _keep_note(notes, {k: v for k, v in stamps.items() if v and k not in wrong})
    return found


def _stamp(path: Path) -> list[int]:
    """A file's size and time of change; empty where it is not there."""
    try:
        found = path.stat()
    except OSError:
        return []
    return [found.st_size, found.st_mtime_ns]


def found_again(folder: Path, book: Book, search: Path, watch: Watch | None = None) -> list[str]:
    """Look in a folder and below for files that are, by hash, the recordings that are missing or changed; copy them back.

    Returns the hashes of those that are whole again.
    """
    watch = watch or Unwatched()
    wanted = {f.recording for f in faults(folder, book)}
    sizes: dict[int, list[Recording]] = {}
    for recording in (r for r in book.recordings if r.hash in wanted):
        sizes.setdefault(recording.size, []).append(recording)
    restored: list[str] = []
    for count, path in enumerate(p for p in sorted(search.rglob("*")) if p.is_file()):
        if count > MOST_SEARCHED or not wanted:
            break
        watch.tick(min(0.99, count / 1000), f"looking at {path.name}")
        with contextlib.suppress(OSError):
            candidates = [*sizes.get(path.stat().st_size, []), *sizes.get(0, [])]
            digest = hash_of(path) if candidates else ""
            for recording in candidates:
                if recording.hash in wanted and digest == (recording.file or recording.hash):
                    put_back(folder, recording, path)
                    wanted.discard(recording.hash)
                    restored.append(recording.hash)
    return restored


def put_back(folder: Path, recording: Recording, source: Path) -> None:
    """Copy the very same bytes back to where a recording was.

    Raises
    ------
    StoreProblem
        They are other bytes, or can not be copied.
    """
    target = folder / "recordings" / recording.stored
    copy = beside(target)
    try:
        with source.open("rb") as file, copy.open("xb") as out:
            while part := file.read(1 << 20):
                out.write(part)
            out.flush()
            os.fsync(out.fileno())
        if hash_of(copy) != (recording.file or recording.hash):
            raise StoreProblem(f"{source.name} is not the recording {recording.name}: its bytes differ.")
        copy.chmod(0o444)
        copy.replace(target)
    except OSError as problem:
        raise StoreProblem(f"{source.name} could not be copied into the book ({problem.strerror}).") from problem
    finally:
        copy.unlink(missing_ok=True)


def stand_in(folder: Path, recording: Recording, source: Path, rate: int, watch: Watch | None = None) -> Recording:
    """Take another file for a recording that is lost, by the editor's word: its entry with the file's own hash.

    Raises
    ------
    FileProblem
        The file is not as long as the recording was, so that no edit would be where it belongs.
    """
    new = received(folder, source, rate, watch)
    if abs(new.length - recording.length) > rate // 100:
        raise FileProblem(
            f"{source.name} lasts {new.length / rate:.2f} s, but {recording.name} lasted {recording.length / rate:.2f} s. "
            "Choose the file with the same recording."
        )
    tone = replace(new.tone, recording=recording.hash) if new.tone else None
    return replace(new, hash=recording.hash, name=source.name, file=new.hash, length=recording.length, tone=tone)
