"""Edit commands from a file of steps: for a shell, for tests, for whoever edits by program."""

from __future__ import annotations

import json
import math
from dataclasses import fields
from pathlib import Path
from typing import Any, get_args

import numpy as np
from pydantic import ValidationError

from faithful_reel.core.audio.encode import write_audio
from faithful_reel.core.audio.files import full_range_info
from faithful_reel.core.audio.sources import FileSources
from faithful_reel.core.book.commands import EditReels
from faithful_reel.core.book.packing import adapter
from faithful_reel.core.book.session import Session
from faithful_reel.core.errors import EditRefused, FileProblem
from faithful_reel.core.files import content_of, refuse_over, shown
from faithful_reel.core.jobs import Unwatched, Watch
from faithful_reel.core.reel.bounds import reel_within
from faithful_reel.core.reel.commands import ReelCommand
from faithful_reel.core.reel.reel import Reel, recordings_of, reel_of
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.times import time_of

KINDS: dict[str, type] = {str(next(f.default for f in fields(k) if f.name == "kind")): k for k in get_args(ReelCommand)}
TIMES = frozenset({"start", "stop", "at", "length", "by", "take_start", "take_stop"})
"""Fields that may be written as times ("0:01:02.5") instead of samples."""
LARGEST = 64 << 20
"""Bytes of a list of steps; a thousand cuts have a thousandth of it."""
FARTHEST = 1 << 40
"""No place of a sound is a larger number (own rule)."""
OWN = "audio"
"""What the file that is edited is called in steps that name a recording."""


def steps_in(path: Path, rate: int) -> tuple[ReelCommand, ...]:
    """The commands that a JSON file lists, in their order: [{"kind": "cut_and_close", "start": "0:12.5", "stop": 600000}, …].

    Raises
    ------
    FileProblem
        It is no such list; which step is wrong is told.
    """
    try:
        rows = json.loads(content_of(path, LARGEST), parse_constant=_refused, parse_float=_finite)
    except (ValueError, RecursionError) as problem:
        raise FileProblem(f"{shown(path)} could not be read as JSON ({problem}).") from problem
    if not isinstance(rows, list) or not rows:
        raise FileProblem(f'{shown(path)} is no list of steps. Write [{{"kind": …}}, …].')
    return tuple(_step(row, f"{shown(path)}, step {number}", rate) for number, row in enumerate(rows, 1))


def _refused(name: str) -> float:
    raise ValueError(f"{name} is no number")


def _finite(written: str) -> float:
    return float(written) if math.isfinite(float(written)) else _refused(written)


def _step(row: Any, where: str, rate: int) -> ReelCommand:
    kind = row.get("kind") if isinstance(row, dict) else None
    if not isinstance(kind, str) or kind not in KINDS:
        raise FileProblem(f"{where}: “kind” is none of {', '.join(sorted(KINDS))}.")
    _see_sane(row, where)
    given = {key: _sample(value, f"{where}, {key}", rate) if key in TIMES else value for key, value in row.items()}
    try:
        made = adapter(KINDS[kind]).validate_python(given)
    except ValidationError as problem:
        first = problem.errors()[0]
        raise FileProblem(f"{where}: {'.'.join(map(str, first['loc']))}: {first['msg']}.") from problem
    lost = _unknown(given, json.loads(adapter(KINDS[kind]).dump_json(made)))
    if lost:
        raise FileProblem(f"{where}: “{lost}” means nothing here.")
    command: ReelCommand = made
    return command


def _see_sane(value: Any, where: str) -> None:
    """Refuse numbers that no sound reaches, lengths under 0, and texts that are no characters, wherever in a step they stand."""
    match value:
        case dict():
            for key, inner in value.items():
                _see_sane(key, where)
                if key == "length" and isinstance(inner, int) and inner < 0:
                    raise FileProblem(f"{where}: a length of {inner} is none. Write samples from 0 on.")
                _see_sane(inner, where)
        case list():
            for inner in value:
                _see_sane(inner, where)
        case str() if any("\ud800" <= c <= "\udfff" for c in value):
            raise FileProblem(f"{where}: {value!r} holds what is no character. Write it in UTF-8.")
        case int() if abs(value) > FARTHEST:
            raise FileProblem(f"{where}: a number of {len(str(abs(value)))} digits is no place, length or count of sound.")


def _sample(value: Any, where: str, rate: int) -> Any:
    if not isinstance(value, str):
        return value
    at = time_of(value, rate)
    if at is None:
        raise FileProblem(f"{where}: “{value}” is no time. Write 0:01:02.5, or samples as a number.")
    return at


def _unknown(given: Any, made: Any) -> str:
    """A name in what was given that what was made of it has not; empty where there is none."""
    if isinstance(given, dict) and isinstance(made, dict):
        return next(filter(None, (_unknown(v, made[k]) if k in made else str(k) for k, v in given.items())), "")
    if isinstance(given, list | tuple) and isinstance(made, list):
        return next(filter(None, map(_unknown, given, made)), "")
    return ""


def edited(reel: Reel, steps: tuple[ReelCommand, ...]) -> Reel:
    """A reel after all steps.

    Raises
    ------
    EditRefused
        One of them does not fit; which one is told.
    """
    for number, step in enumerate(steps, 1):
        try:
            reel = step.apply(reel)
        except EditRefused as problem:
            raise EditRefused(f"Step {number} ({step.kind}): {problem}") from problem
    return reel


def edit_file(audio: Path, steps: Path, out: Path, watch: Watch | None = None) -> dict[str, float | int]:
    """Carry out steps on an audio file and write the result, at its rate and with its channels; other files that steps name
    stand beside the file of steps.

    Raises
    ------
    FileProblem, SignalError, EditRefused
        A file can not be used, or a step does not fit; nothing is left behind.
    """
    refuse_over(out, audio, steps)
    info = full_range_info(audio)
    commands = steps_in(steps, info.rate)
    reel = edited(reel_of(OWN, info.frames), commands)
    others = {name: steps.parent / name for name in recordings_of(reel) if name != OWN}
    for name, path in others.items():
        if Path(name).name != name or not name.isprintable():
            raise FileProblem(f"The steps name the recording {name!r}, which is no file beside them.")
        refuse_over(out, path)
        rate = full_range_info(path).rate
        if rate != info.rate:
            raise FileProblem(f"{shown(path)}, which the steps name, is at {rate} Hz, not at {info.rate}. Bring it to that rate.")
    reel_within(reel, None, {OWN: info.frames} | {name: full_range_info(path).frames for name, path in others.items()})
    files = FileSources(lambda name: others.get(name, audio), channels=info.channels)
    watch = watch or Unwatched()
    try:
        renderer = Renderer(reel, files)

        def blocks() -> Any:
            done = 0
            for x in renderer.blocks():
                yield np.atleast_2d(x)
                done += x.shape[-1]
                watch.tick(done / max(1, len(reel)), "writing")

        write_audio(out, blocks(), info.rate, channels=info.channels)
    finally:
        files.close()
    return {
        "steps": len(commands),
        "seconds_before": round(info.frames / info.rate, 3),
        "seconds_after": round(len(reel) / info.rate, 3),
    }


def edit_book(session: Session, chapter: str, steps: Path) -> dict[str, object]:
    """Carry out steps on a chapter of a book, as one step of its history.

    `chapter` is its id, its title, or its number from 1 on.

    Raises
    ------
    FileProblem, EditRefused
        The file of steps is wrong, a step does not fit, or there is no such chapter.
    """
    book = session.book
    found = [c for n, c in enumerate(book.chapters, 1) if chapter in (c.id, c.title, str(n))]
    if len(found) != 1 or found[0].reel is None:
        titles = ", ".join(f"{n} {c.title}" for n, c in enumerate(book.chapters, 1))
        raise EditRefused(f"“{chapter}” is no chapter with a recording. There are: {titles}.")
    commands = steps_in(steps, book.rate)
    after = edited(found[0].reel, commands)
    reel_within(after, None, {r.hash: r.length for r in book.recordings})
    session.do(EditReels(tuple((found[0].id, step) for step in commands), f"Edit by {steps.name}"))
    seconds = round(len(found[0].reel) / book.rate, 3), round(len(after) / book.rate, 3)
    return {"chapter": found[0].id, "steps": len(commands), "seconds_before": seconds[0], "seconds_after": seconds[1]}
