"""A recipe laid on a file: the finished file, what was taken away, and what every step did, in figures."""

from __future__ import annotations

import contextlib
from collections.abc import Generator, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from faithful_reel.core.audio.encode import SUFFIXES, AudioWriter
from faithful_reel.core.audio.files import AudioInfo, blocks, full_range_info, see_numbers
from faithful_reel.core.audio.raw import RawFile
from faithful_reel.core.errors import FileProblem, SignalError
from faithful_reel.core.files import refuse_over, same_file, shown
from faithful_reel.core.jobs import Part, Unwatched, Watch
from faithful_reel.core.treat.cells import CELL, Sound
from faithful_reel.core.treat.chain import Done, Kept, taken_db, treated
from faithful_reel.core.treat.recipe import Recipe
from faithful_reel.core.units import Signal, decibels, ratio

FULL_DB = -0.1
"""What would stand over full scale is made softer as a whole, down to this."""


@dataclass(frozen=True, slots=True)
class TreatedFile:
    """What became of a file: its steps; `lowered_db` by how much all was made softer so that nothing is clipped; levels in dB."""

    recipe: str
    rate: int
    seconds: float
    steps: tuple[Done, ...]
    lowered_db: float
    peak_before_db: float
    peak_db: float
    taken_db: float

    def as_json(self) -> dict[str, Any]:
        """As documented in docs/headless.md."""
        return {
            "recipe": self.recipe,
            "audio_seconds": round(self.seconds, 3),
            "peak_before_db": round(self.peak_before_db, 2),
            "peak_db": round(self.peak_db, 2),
            "lowered_db": round(self.lowered_db, 2),
            "taken_away_db": round(self.taken_db, 1),
            "steps": [_step(step, self.rate) for step in self.steps],
        }


def _step(step: Done, rate: int) -> dict[str, Any]:
    return {
        "do": step.do,
        "rested": step.rested,
        "done": not step.why,
        "why_not": step.why,
        "figures": step.figures,
        "gain_db": round(step.gain_db, 2),
        "taken_away_db": round(step.taken_db, 1),
        "places": [
            {
                "kind": place.kind,
                "start": round(place.start / rate, 5),
                "end": round(place.stop / rate, 5),
                "before_db": round(place.before_db, 1),
                "after_db": round(place.after_db, 1),
                "confidence": round(place.sure, 3),
            }
            for place in step.touched
        ],
    }


def treat_file(
    source: Path, recipe: Recipe, out: Path, *, taken_away: Path | None = None, watch: Watch | None = None
) -> TreatedFile:
    """Lay a recipe on an audio file.  Rate, channels and length stay.

    Raises
    ------
    FileProblem, SignalError, Cancelled
        The source can not be read, or the result can not be written; nothing is left behind then.
    """
    watch = watch or Unwatched()
    info = full_range_info(source)
    if info.channels not in (1, 2):
        raise FileProblem(f"{shown(source)} has {info.channels} channels. Export it with one or two.")
    targets = [path for path in (out, taken_away) if path is not None]
    for path in targets:
        if path.suffix.lower() not in SUFFIXES:
            raise FileProblem(f"{shown(path)}: files of this kind are not written. Use .wav, .flac or .mp3.")
        if not path.parent.is_dir():
            raise FileProblem(f"The folder for {shown(path)} is not there. Make it first.")
        refuse_over(path, source)
    if taken_away is not None and same_file(out, taken_away):
        raise FileProblem("The result and what was taken away need names of their own.")
    with RawFile(out.parent, info.channels) as held:
        for _ in held.write(_whole(source, info, Part(watch, 0.0, 0.05))):
            pass
        if not held.frames:
            raise SignalError(f"{shown(source)} is empty. Choose another file.")
        before = Kept(held, info.rate)
        with treated(before, recipe, out.parent, Part(watch, 0.05, 0.9)) as made:
            peaks = [_peak(sound) for sound in (before, made.sound)]
            lowered = min(0.0, FULL_DB - decibels(peaks[1])) if peaks[1] > 1 else 0.0
            gain, whole_gain = np.float32(ratio(lowered)), np.float32(ratio(made.gain_db + lowered))
            with contextlib.ExitStack() as writers:
                wide = [path.suffix.lower() == ".wav" and (path is taken_away or "float" in info.depth) for path in targets]
                files = [
                    writers.enter_context(AudioWriter(path, info.rate, info.channels, bits=32 if float_ else 24))
                    for path, float_ in zip(targets, wide, strict=True)
                ]
                for at in range(0, before.frames, CELL):
                    stop = min(before.frames, at + CELL)
                    y = made.sound.read(at, stop) * gain
                    away = before.read(at, stop) * whole_gain - y
                    for file, x in zip(files, (y, away), strict=False):
                        file.write(x)
                    watch.tick(0.9 + 0.1 * stop / before.frames, "writing")
            return TreatedFile(
                recipe.name,
                info.rate,
                info.seconds,
                made.done,
                abs(lowered),
                decibels(peaks[0]),
                decibels(peaks[1]) + lowered,
                taken_db(before, made.sound, made.gain_db),
            )


def _whole(source: Path, info: AudioInfo, watch: Watch) -> Generator[Signal]:
    seen = 0
    for x in blocks(source):
        see_numbers(x, source)
        seen += x.shape[-1]
        watch.tick(min(1.0, seen / max(1, info.frames)), "reading")
        yield np.atleast_2d(x)


def _peak(sound: Sound) -> float:
    parts: Iterator[float] = (
        float(np.max(np.abs(sound.read(at, min(sound.frames, at + CELL))))) for at in range(0, sound.frames, CELL)
    )
    return max(parts, default=0.0)
