"""Mastering a chapter of a book: how it stands, the file, and how both sound beside each other."""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum
from pathlib import Path

import numpy as np

from faithful_reel.core.audio.sources import FileSources
from faithful_reel.core.book.model import Book, ChapterState, Master
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import hash_of, plain
from faithful_reel.core.jobs import Watch
from faithful_reel.core.master.mastering import master_reel
from faithful_reel.core.measure.profile import limits_key, load_profile
from faithful_reel.core.reel.reel import Lane, Piece, Reel
from faithful_reel.core.reel.render import Renderer, heard_lanes
from faithful_reel.core.release.check import checked_file, file_meter
from faithful_reel.core.units import Signal, Span, ratio
from faithful_reel.core.work.timeline import Tokens

MASTERS = "masters"


class MasterState(StrEnum):
    """How a chapter's master stands."""

    NO_SOUND = "no sound"
    WORKING = "working"
    TO_DO = "to do"
    OUT_OF_DATE = "out of date"
    FAILS = "fails"
    PASSES = "passes"


DUE = frozenset({MasterState.TO_DO, MasterState.OUT_OF_DATE, MasterState.FAILS})
"""States in which mastering all chapters takes one in hand."""
CURRENT = frozenset({MasterState.FAILS, MasterState.PASSES})
"""States in which the master is of the reel and the profile as they are."""


def unheard_lanes(reel: Reel | None) -> list[str]:
    """The lanes of a reel that are not heard, and so are not in a master either: muted, or others are heard alone."""
    heard = heard_lanes(reel) if reel is not None else []
    return [lane.name for lane in reel.lanes if lane not in heard] if reel is not None else []


def master_state(chapter: ChapterState, profile: str, limits: str, key: Callable[[], str]) -> MasterState:
    """How a chapter's master stands, for a profile and the key of its limits; `key` gives that of its reel as it is, where it has
    to be known.
    """
    if chapter.reel is None:
        return MasterState.NO_SOUND
    if chapter.master is None:
        return MasterState.TO_DO
    other = chapter.master.profile != profile or chapter.master.limits not in ("", limits)
    if other or chapter.master.reel_key != key():
        return MasterState.OUT_OF_DATE
    return MasterState.PASSES if chapter.master.passed else MasterState.FAILS


def known_words(tokens: Tokens, reel: Reel) -> Span | None:
    """From the first to the last word or music that is heard in a chapter's reel: never trimmed, however soft it is."""
    heard = tokens.heard()
    ends = [int(heard.starts.min()), int(heard.stops.max())] if len(heard) else []
    for lane in heard_lanes(reel):
        if lane.music:
            sounding = [(at, at + len(s)) for s, at in zip(lane.segments, lane.starts(), strict=False) if isinstance(s, Piece)]
            ends += [at for piece in sounding for at in piece]
    return Span(min(ends), max(ends)) if ends else None


def mastered(renderer: Renderer, rate: int, profile: str, key: str, out: Path, *, words: Span | None, watch: Watch) -> Master:
    """Master a reel to a file, and check that by what it holds.  `key` is the reel's, `words` as in `known_words`.

    Raises
    ------
    FileProblem, SignalError
        It can not be mastered to this profile, or not written; nothing is left behind.
    """
    limits = load_profile(profile)
    made = master_reel(renderer, rate, 1, limits, out, checked=file_meter, words=words, watch=watch)
    figures, found = checked_file(out, limits)
    rows = tuple((v.rule, v.limit, str(v.value), v.passed) for v in (*found, made.words))
    return Master(out.name, profile, key, made.steps, dict(figures.as_json()), rows, limits_key(limits), hash_of(out))


def master_file(chapter: str, key: str, limits: str, suffix: str) -> str:
    """What a master is called: another one for another reel or other limits, so that none is written over by one of these."""
    return plain(f"{chapter}-{key[:8]}-{limits}{suffix}")


def at_mastered_level(render: Callable[[int, int], Signal], book: Book, chapter: ChapterState) -> Callable[[int, int], Signal]:
    """The unmastered sound, (n,), as loud as the master: what a fair comparison needs.  Clipped at full scale."""
    raw = book.recording(chapter.recording).rms_db
    rms = chapter.master.figures.get("rms_db") if chapter.master else None
    gain = np.float32(ratio(float(rms) - raw) if isinstance(rms, float | int) else 1.0)

    def louder(start: int, stop: int) -> Signal:
        return np.asarray(np.clip(render(start, stop) * gain, -1, 1), np.float32)

    return louder


def master_renderer(folder: Path, master: Master, rate: int) -> Renderer:
    """The sound of a chapter's master.

    Raises
    ------
    FileProblem
        Its file is no longer there.
    """
    path = folder / MASTERS / master.stored
    if not path.is_file():
        raise FileProblem(f"The master {path.name} is no longer there. Master the chapter again.")
    if master.digest and hash_of(path) != master.digest:
        raise FileProblem(f"The master {path.name} is not the file that was checked. Master the chapter again.")
    seconds = master.figures.get("seconds")
    length = round(float(seconds) * rate) if isinstance(seconds, float | int) else 0
    return Renderer(Reel((Lane("master", (Piece("master", 0, length),)),)), FileSources(lambda _: path))
