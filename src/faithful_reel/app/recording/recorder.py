"""What happens at the microphone: the reading before plays, recording begins with it, and stops after what was read.

No Qt.  Who shows it calls `tick` some twenty times a second.
"""

from __future__ import annotations

import contextlib
import itertools
from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from functools import partial
from pathlib import Path

import numpy as np

from faithful_reel.app.recording.microphone import Cue, Microphone
from faithful_reel.app.settings import Settings, number
from faithful_reel.app.transport.presenter import Transport
from faithful_reel.app.workbench import Workbench
from faithful_reel.core.audio.encode import write_audio
from faithful_reel.core.audio.overview import Overview, overview_of
from faithful_reel.core.book.condition import AT_DESK
from faithful_reel.core.errors import AppError, StoreProblem
from faithful_reel.core.files import plain, shown
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.units import SILENT_DB, Signal, Span, decibels, samples
from faithful_reel.core.work.recorded import EARLY_S, reading_in, shifted

LIMIT_DB = -12.0
"""Peaks stay at or under it while recording (common practice)."""
QUIET_S, LEAST_SPEECH_S, UNDER_DB, FAINT_DB, FRAME_S = 1.3, 0.4, 30.0, -55.0, 0.02
"""After so long a quiet (the run-out), at most so far under the loudest, it is read; before so much speech, or while nothing is
louder than that, it has not begun (own choice).
"""
SPARE, SPARE_S = 2.0, 4.0
"""It stops by itself after so many times as long as it takes, and a while (own choice)."""
GAP_S = 0.8
"""Takes that are kept together stand so far apart."""


class Stage(StrEnum):
    """How far a recording is."""

    IDLE = "idle"
    CHECKING = "checking the level"
    LEAD = "the reading before"
    RECORDING = "recording"
    DONE = "recorded"


@dataclass(frozen=True, slots=True)
class Recorded:
    """A take that was recorded and is not kept yet: (n,) at the book's rate, its peak in dB, and the file it is safe in.

    `begun` is where the lead-in ended, `reading` what of the sound is what was read, `look` its picture.
    """

    sound: Signal
    peak_db: float
    begun: int
    reading: Span
    look: Overview
    file: Path | None = None

    @property
    def too_loud(self) -> bool:
        """Whether it went over the limit."""
        return self.peak_db > LIMIT_DB


@dataclass(frozen=True, slots=True)
class Wanted:
    """What is to be read: its name among those that takes are kept for, its words, how long it takes; and where in which reel
    it is heard now, None where that is not known; no end where what is heard there is wrong.
    """

    name: str
    line: str
    usual_s: float
    reel: Reel | None = None
    start: int | None = None
    stop: int | None = None


@dataclass(frozen=True, slots=True)
class Keeping:
    """A way to keep what was recorded: its words and what they mean, and what does it."""

    words: str
    tip: str
    do: Callable[[int], bool]
    """Given the take at hand."""


class Recorder(ABC):
    """Records what is wanted, again and again, until a take is kept; who shows it looks anew at every tick."""

    title = "Record"
    in_place = False
    """Whether a take can be heard in its place before it is kept."""

    def __init__(self, bench: Workbench, transport: Transport, microphone: Callable[[], Microphone], settings: Settings) -> None:
        self.bench, self.transport = bench, transport
        self._microphone_of, self._settings = microphone, settings
        self._microphone: Microphone | None = None
        self.lead_s = number(settings, "record/lead", 3.0, 0.0, 30.0)
        self.run_out_s = number(settings, "record/run_out", QUIET_S, 0.3, 10.0)
        self.stage = Stage.IDLE
        self._takes: dict[str, list[Recorded]] = {}
        self._of = ""
        self.told = ""
        """What was said last; empty while all is well."""
        self.level_db = self.rms_db = SILENT_DB
        """Peak and level of what was heard last."""
        self._parts: list[Signal] = []
        self._begun = 0
        self._wants: Wanted | None = None

    # --- what is wanted -------------------------------------------------------------------------------------------

    @abstractmethod
    def wanted(self) -> Wanted | None:
        """What is to be read; None, and told, where nothing can be recorded now."""

    @abstractmethod
    def line(self) -> str:
        """The words that are to be read."""

    def to_mind(self) -> frozenset[int]:
        """The words of the line that are to be minded, counted in it."""
        return frozenset()

    @abstractmethod
    def before(self) -> str:
        """What is said before it, for the tone of voice."""

    def after(self) -> str:
        """What is said after it."""
        return ""

    @abstractmethod
    def about(self) -> str:
        """Where it is, and what is wanted of it."""

    @abstractmethod
    def keepings(self) -> Sequence[Keeping]:
        """The ways to keep what was recorded, the usual one last."""

    # --- recording ------------------------------------------------------------------------------------------------

    @property
    def microphone(self) -> Microphone:
        """Where the sound comes from; looked for when it is first needed."""
        if self._microphone is None:
            self._microphone = self._microphone_of()
        return self._microphone

    @property
    def takes(self) -> list[Recorded]:
        """What was recorded for it and is not kept yet."""
        return self._takes.setdefault(self._of, [])

    def tell(self, words: str) -> None:
        """Say it here and in the window."""
        self.told = words
        self.bench.tell(words)

    def begin(self) -> bool:
        """Take what is wanted to the microphone; takes that were not kept stay with what they are of."""
        wanted = self.wanted()
        if wanted is None:
            return False
        self._of, self.told = wanted.name, ""
        self.level_db = SILENT_DB
        return True

    @property
    def recorded_s(self) -> float:
        """How much is recorded of the take that goes on, after the lead-in."""
        return max(0, sum(map(len, self._parts)) - self._begun) / self.bench.book.rate

    def use_input(self) -> None:
        """Listen to another input from now on."""
        self.stop()
        self._microphone = None

    def set_lead(self, seconds: float) -> None:
        """Hear so much before it."""
        self.lead_s = seconds
        self._settings.setValue("record/lead", seconds)

    def set_run_out(self, seconds: float) -> None:
        """Go on so long after the last sound; in place, hear so much of what follows."""
        self.run_out_s = seconds
        self._settings.setValue("record/run_out", seconds)

    def check_level(self) -> None:
        """Listen without recording."""
        wanted = self.wanted()
        if wanted is None:
            return
        self.stop()
        self.microphone.open(Cue(wanted.line))
        self.stage = Stage.CHECKING

    def record(self) -> bool:
        """Play the reading before it while the microphone listens already, then record it."""
        wanted = self.wanted()
        if wanted is None:
            return False
        self.stop()
        self.told = ""
        self._wants, self._parts, self._begun = wanted, [], 0
        lead = round(self.lead_s * self.bench.book.rate)
        reel, start, stop = wanted.reel, wanted.start, wanted.stop
        cue = Cue(wanted.line, len(self.takes))
        if reel is not None and start is not None and stop is not None:
            cue = replace(cue, stands=partial(self.bench.renderer(reel).render, start, stop))
        if reel is not None and start and lead:
            first = max(0, start - lead)
            self.microphone.open(replace(cue, lead_s=(start - first) / self.bench.book.rate))
            self.stage = Stage.LEAD
            self.transport.hear_sound(self.bench.renderer(reel).render, first, start, speed=1.0)
        else:
            self.microphone.open(cue)
            self.stage = Stage.RECORDING
        return True

    def tick(self) -> None:
        """Time has gone on."""
        if self.stage in (Stage.IDLE, Stage.DONE):
            return
        if self.microphone.problem:
            self.tell(self.microphone.problem)
            self.stop()
            return
        x = self.microphone.pull()
        if len(x):
            self.level_db = decibels(float(np.max(np.abs(x))))
            self.rms_db = decibels(float(np.sqrt(np.mean(np.square(x, dtype=np.float64)))))
            if self.stage is not Stage.CHECKING:
                self._parts.append(x)
        if self.stage is Stage.LEAD and not self.transport.playing:
            self._begun = sum(map(len, self._parts))
            self.stage = Stage.RECORDING
        elif self.stage is Stage.RECORDING and len(x) and self._is_read():
            self.stop()

    def _is_read(self) -> bool:
        """Whether it was read and nobody speaks since, or it goes on much longer than it should."""
        rate, usual = self.bench.book.rate, self._wants.usual_s if self._wants is not None else 0.0
        x = np.concatenate(self._parts)[max(0, self._begun - samples(EARLY_S, rate)) :]
        if self.recorded_s > SPARE * usual + SPARE_S:
            return True
        size = round(FRAME_S * rate)
        levels = 10 * np.log10(np.mean(np.square(x[: len(x) // size * size].reshape(-1, size), dtype=np.float64), axis=1) + 1e-12)
        if not len(levels) or levels.max() < FAINT_DB:
            return False
        under = min(UNDER_DB, 0.6 * float(levels.max() - np.percentile(levels, 10)))
        loud = np.flatnonzero(levels > levels.max() - under)
        quiet_s = (len(levels) - 1 - int(loud[-1])) * FRAME_S
        enough = len(loud) * FRAME_S >= min(LEAST_SPEECH_S, 0.5 * usual)
        return enough and quiet_s >= self.run_out_s and int(loud[-1] - loud[0]) * FRAME_S > 0.5 * usual

    def stop(self) -> None:
        """Stop what goes on; what was recorded so far is a take."""
        if self.stage is Stage.LEAD:
            self.transport.stop()
            self._begun = sum(map(len, self._parts))
        recorded = self.stage is Stage.RECORDING and bool(self._parts)
        if recorded:
            x = np.concatenate([*self._parts, self.microphone.pull()])
            peak_db, begun = decibels(float(np.max(np.abs(x), initial=0.0))), self._begun
            reading = reading_in(x, self.bench.book.rate, begun)
            self.takes.append(self._safe(Recorded(x, peak_db, begun, reading, overview_of([x]))))
        self.microphone.close()
        self._parts, self._begun = [], 0
        self.level_db = SILENT_DB
        self.stage = Stage.DONE if recorded else Stage.IDLE

    # --- what was recorded ----------------------------------------------------------------------------------------

    def _safe(self, take: Recorded) -> Recorded:
        """A take in a file, before anything else is done with it; where that can not be, it is told and held as it is."""
        try:
            return replace(take, file=self._written(self._of, [take]))
        except AppError as problem:
            self.tell(str(problem))
            return take

    def hear(self, take: int) -> None:
        """Hear what was read of a take."""
        if not 0 <= take < len(self.takes):
            self.tell("Nothing was recorded yet.")
            return
        row = self.takes[take]
        self.transport.hear_sound(lambda a, b: row.sound[None, a:b], row.reading.start, row.reading.stop, speed=1.0)

    def hear_in_place(self, take: int) -> None:
        """Hear a take where it would stand; where that is not known, as it is."""
        self.hear(take)

    def shift(self, take: int, *, start: int = 0, stop: int = 0) -> None:
        """Move the margins of what was read by so many samples."""
        if 0 <= take < len(self.takes):
            row = self.takes[take]
            self.takes[take] = replace(
                row, reading=shifted(row.reading, len(row.sound), self.bench.book.rate, start=start, stop=stop)
            )

    def drop(self, take: int) -> None:
        """Forget a take that was recorded."""
        if 0 <= take < len(self.takes):
            self._let_go([self.takes.pop(take)])

    def _held(self) -> tuple[list[Recorded], Path] | None:
        """The takes out of hand and in one file, from where they go into the book; None, and told, where that can not be."""
        self.stop()
        if not self.takes:
            self.tell("Nothing was recorded yet.")
            return None
        try:
            path = self._written(self._of, self.takes)
        except AppError as problem:
            self.tell(str(problem))
            return None
        held = [replace(take, file=path) for take in self.takes]
        self._let_go(self._takes.pop(self._of))
        self.stage = Stage.IDLE
        return held, path

    def _give_back(self, name: str, held: Sequence[Recorded]) -> None:
        """Takes that could not be kept are in hand again."""
        self._takes[name] = [*held, *self._takes.get(name, [])]

    def placed(self, takes: Sequence[Recorded]) -> list[int]:
        """Where each of some takes that are written together begins in their file."""
        gap = round(GAP_S * self.bench.book.rate)
        ends = list(itertools.accumulate(2 * gap + len(t.sound) for t in takes))
        return [end - gap - len(t.sound) for end, t in zip(ends, takes, strict=True)]

    def _written(self, line: str, takes: Sequence[Recorded]) -> Path:
        """Takes in one file in the book's folder, which outlasts the program.  AppError where there is no room."""
        rate = self.bench.book.rate
        silence = np.zeros((1, round(GAP_S * rate)), np.float32)
        folder = self.bench.session.store.folder / AT_DESK
        try:
            folder.mkdir(exist_ok=True)
        except OSError as problem:
            raise StoreProblem(f"What was recorded can not be kept in {shown(folder)} ({problem.strerror}).") from problem
        names = (plain(f"at-the-desk-{line}{f'-{k}' if k > 1 else ''}.wav") for k in itertools.count(1))
        path = next(p for name in names if not (p := folder / name).exists())
        write_audio(path, [part for t in takes for part in (silence, t.sound[None], silence)], rate)
        return path

    def close(self) -> None:
        """The book is about to be closed: takes that nobody threw away are left in it, and told at the next opening."""
        self.stop()
        for line, takes in self._takes.items():
            if unsafe := [take for take in takes if take.file is None]:
                with contextlib.suppress(AppError):  # there is nobody left to tell
                    self._written(line, unsafe)

    def throw_away(self) -> None:
        """Forget all that was recorded and not kept."""
        self.stop()
        self._let_go(self._takes.pop(self._of, []))
        self.stage = Stage.IDLE

    def _let_go(self, takes: Sequence[Recorded]) -> None:
        """The files of takes that are in the book, in another file, or thrown away; not one that others are in as well."""
        needed = {take.file for row in self._takes.values() for take in row}
        for path in {take.file for take in takes if take.file is not None} - needed:
            with contextlib.suppress(OSError):
                path.unlink()
                path.parent.rmdir()
