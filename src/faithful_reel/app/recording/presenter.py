"""What happens when a line is recorded at the desk: the reading before it plays, recording begins by itself, and stops after it.

No Qt.  Who shows it calls `tick` some twenty times a second.
"""

from __future__ import annotations

import contextlib
import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from pathlib import Path

import numpy as np

from faithful_reel.app.pickups.presenter import PickupsPresenter
from faithful_reel.app.recording.microphone import Microphone
from faithful_reel.app.settings import Settings, number
from faithful_reel.app.splice.presenter import SplicePresenter
from faithful_reel.app.transport.presenter import Transport
from faithful_reel.core.audio.encode import write_audio
from faithful_reel.core.book.condition import AT_DESK
from faithful_reel.core.book.pickups import ChooseTake
from faithful_reel.core.errors import AppError, StoreProblem
from faithful_reel.core.files import plain, shown
from faithful_reel.core.pickups.ledger import DONE, Pickup, Take, Want
from faithful_reel.core.units import SILENT_DB, Signal, decibels
from faithful_reel.core.work.asking import asked_by_hand, heard_instead, sentence_before, words_to_mind
from faithful_reel.core.work.receiving import Received
from faithful_reel.core.work.timeline import span_of

LIMIT_DB = -12.0
"""Peaks stay at or under it while recording (common practice)."""
QUIET_S, LEAST_SPEECH_S, UNDER_DB, FAINT_DB, FRAME_S = 1.3, 0.4, 30.0, -55.0, 0.02
"""After so long a quiet, at most so far under the loudest, the line is read; before so much speech, or while nothing is louder
than that, it has not begun (own choice).
"""
SPARE, SPARE_S, WORD_S = 2.0, 4.0, 0.45
"""It stops by itself after so many times as long as so many words take, and a while (own choice)."""
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
    """A take that was recorded and is not kept yet: (n,) at the book's rate, its peak in dB, and the file it is safe in."""

    sound: Signal
    peak_db: float
    file: Path | None = None

    @property
    def too_loud(self) -> bool:
        """Whether it went over the limit."""
        return self.peak_db > LIMIT_DB


class RecordPresenter:
    """Records a line, again and again, until a take is kept; who shows it looks anew at every tick."""

    def __init__(
        self,
        pickups: PickupsPresenter,
        splice: SplicePresenter,
        transport: Transport,
        microphone: Callable[[], Microphone],
        settings: Settings,
    ) -> None:
        self.pickups, self.splice, self.transport = pickups, splice, transport
        self.bench = pickups.bench
        self._microphone_of, self._settings = microphone, settings
        self._microphone: Microphone | None = None
        self.lead_s = number(settings, "record/lead", 3.0, 0.0, 30.0)
        self.stage = Stage.IDLE
        self._takes: dict[str, list[Recorded]] = {}
        self._of = ""
        self.told = ""
        """What was said last; empty while all is well."""
        self.level_db = self.rms_db = SILENT_DB
        """Peak and level of what was heard last."""
        self._parts: list[Signal] = []
        self._line = ""

    # --- the line -------------------------------------------------------------------------------------------------

    def pickup(self) -> Pickup | None:
        """The line at hand."""
        return self.pickups.pickup()

    @property
    def microphone(self) -> Microphone:
        """Where the sound comes from; looked for when it is first needed."""
        if self._microphone is None:
            self._microphone = self._microphone_of()
        return self._microphone

    @property
    def takes(self) -> list[Recorded]:
        """What was recorded for the line and is not kept yet."""
        return self._takes.setdefault(self._of, [])

    def tell(self, words: str) -> None:
        """Say it here and in the window."""
        self.told = words
        self.bench.tell(words)

    def begin(self) -> bool:
        """Take the line at hand to the microphone; takes that were not kept stay with their line."""
        pickup = self._wanted()
        if pickup is None:
            return False
        self._of, self.told = pickup.id, ""
        self.level_db = SILENT_DB
        return True

    def begin_words(self, words: range) -> bool:
        """Take the whole sentences that some words of the chapter at hand stand in to the microphone."""
        chapter = self.bench.chapter
        if chapter is None or not words:
            self.tell("Choose the words that are to be recorded first.")
            return False
        asked = asked_by_hand(
            self.bench.book, chapter, self.bench.text(chapter), self.bench.tokens(chapter), words, "recorded at the desk"
        )
        line = asked.pickups[0]
        there = next((p for p in self.bench.book.pickups if (p.chapter, p.words) == (line.chapter, line.words)), None)
        if there is None and not self.bench.do(asked):
            return False
        self.pickups.choose((there or line).id)
        return self.begin()

    def _wanted(self) -> Pickup | None:
        pickup = self.pickup()
        if pickup is None:
            self.tell("No line is at hand to be recorded. Choose one at the Pickups desk.")
        elif pickup.state in DONE:
            self.tell("The take of this line is in. Take it out first.")
            return None
        return pickup

    def to_mind(self) -> frozenset[int]:
        """The words of the line that are to be minded, counted in it."""
        pickup = self.pickup()
        return words_to_mind(self.bench.book.chapter(pickup.chapter), pickup) if pickup is not None else frozenset()

    def before(self) -> str:
        """The sentence before the line, for the tone of voice."""
        pickup = self.pickup()
        return sentence_before(self.bench.text(self.bench.book.chapter(pickup.chapter)), pickup) if pickup is not None else ""

    def about(self) -> str:
        """Where the line is, and what is wanted of it."""
        pickup = self.pickup()
        if pickup is None:
            return ""
        parts = [self.bench.book.chapter(pickup.chapter).title]
        parts += [f"heard “{said}”"] if (said := heard_instead(self.bench.book.chapter(pickup.chapter), pickup)) else []
        parts += [pickup.want.value] if pickup.want is not Want.WORDS else []
        return " · ".join([*parts, *filter(None, [pickup.note])])

    @property
    def recorded_s(self) -> float:
        """How much is recorded of the take that goes on."""
        return sum(map(len, self._parts)) / self.bench.book.rate

    def use_input(self) -> None:
        """Listen to another input from now on."""
        self.stop()
        self._microphone = None

    def set_lead(self, seconds: float) -> None:
        """Hear so much before the line."""
        self.lead_s = seconds
        self._settings.setValue("record/lead", seconds)

    def check_level(self) -> None:
        """Listen without recording."""
        pickup = self._wanted()
        if pickup is None:
            return
        self.stop()
        self.microphone.open(pickup.line, 0)
        self.stage = Stage.CHECKING

    def record(self) -> bool:
        """Play the reading before the line at hand, then record it."""
        pickup = self._wanted()
        if pickup is None:
            return False
        self.stop()
        self.told = ""
        self._line, self._parts = pickup.line, []
        chapter = self.bench.book.chapter(pickup.chapter)
        words = pickup.words
        span = span_of(self.bench.tokens(chapter), words.start, words.stop - 1) if self.bench.hearing(chapter) else None
        lead = round(self.lead_s * self.bench.book.rate)
        if chapter.reel is not None and span is not None and lead and span.start > 0:
            self.stage = Stage.LEAD
            self.microphone.prepare()
            render = self.bench.renderer(chapter.reel).render
            self.transport.hear_sound(render, max(0, span.start - lead), span.start, speed=1.0)
        else:
            self._listen()
        return True

    def _listen(self) -> None:
        self.microphone.open(self._line, len(self.takes))
        self.stage = Stage.RECORDING

    def tick(self) -> None:
        """Time has gone on."""
        if self.stage is Stage.LEAD and not self.transport.playing:
            self._listen()
        if self.stage not in (Stage.CHECKING, Stage.RECORDING):
            return
        if self.microphone.problem:
            self.tell(self.microphone.problem)
            self.stop()
            return
        x = self.microphone.pull()
        if len(x):
            self.level_db = decibels(float(np.max(np.abs(x))))
            self.rms_db = decibels(float(np.sqrt(np.mean(np.square(x, dtype=np.float64)))))
        if self.stage is Stage.RECORDING and len(x):
            self._parts.append(x)
            if self._is_read():
                self.stop()

    def _is_read(self) -> bool:
        """Whether the line was read and nobody speaks since, or it goes on much longer than it should."""
        rate, pickup = self.bench.book.rate, self.pickup()
        x = np.concatenate(self._parts)
        usual = max(1.0, WORD_S * len(self._line.split()))
        if len(x) > (SPARE * usual + SPARE_S) * rate or pickup is None:
            return True
        size = round(FRAME_S * rate)
        levels = 10 * np.log10(np.mean(np.square(x[: len(x) // size * size].reshape(-1, size), dtype=np.float64), axis=1) + 1e-12)
        if not len(levels) or levels.max() < FAINT_DB:
            return False
        under = min(UNDER_DB, 0.6 * float(levels.max() - np.percentile(levels, 10)))
        loud = np.flatnonzero(levels > levels.max() - under)
        quiet_s = (len(levels) - 1 - int(loud[-1])) * FRAME_S
        return len(loud) * FRAME_S >= LEAST_SPEECH_S and quiet_s >= QUIET_S and int(loud[-1] - loud[0]) * FRAME_S > 0.5 * usual

    def stop(self) -> None:
        """Stop what goes on; what was recorded so far is a take."""
        if self.stage is Stage.LEAD:
            self.transport.stop()
        if self.stage is Stage.RECORDING and self._parts:
            x = np.concatenate([*self._parts, self.microphone.pull()])
            self.takes.append(self._safe(Recorded(x, decibels(float(np.max(np.abs(x), initial=0.0))))))
        recorded = self.stage is Stage.RECORDING and bool(self._parts)
        self.microphone.close()
        self._parts = []
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
        """Hear a take that was recorded."""
        if not 0 <= take < len(self.takes):
            self.tell("Nothing was recorded yet.")
            return
        x = self.takes[take].sound
        self.transport.hear_sound(lambda a, b: x[None, a:b], 0, len(x), speed=1.0)

    def drop(self, take: int) -> None:
        """Forget a take that was recorded."""
        if 0 <= take < len(self.takes):
            self._let_go([self.takes.pop(take)])

    def keep(self, *, splice: bool = False) -> bool:
        """Take what was recorded into the book as takes of the line; with `splice` put the best of it in as well."""
        pickup = self._wanted()
        if pickup is None:
            return False
        if not self.takes:
            self.tell("Nothing was recorded yet.")
            return False
        self.stop()
        try:
            path = self._written(pickup.id, self.takes)
        except AppError as problem:
            self.tell(str(problem))
            return False
        name, kept = pickup.id, [replace(take, file=path) for take in self.takes]
        self._let_go(self._takes.pop(pickup.id))

        def came(found: Received) -> None:
            self.pickups.received(found)
            if any(r.hash == found.recording.hash for r in self.bench.book.recordings):
                self._let_go(kept)
            new = next((row for row in found.matched if row[0] == pickup.id), None)
            if new is None:
                self.bench.tell("The line was not heard in what was recorded. It stands under what fits no line.")
            elif splice:
                self._put_in(pickup.id, new[1][new[2]])

        def stopped(why: BaseException) -> None:
            self._takes[name] = [*kept, *self._takes.get(name, [])]
            self.bench.stopped(why)

        self.pickups.receive_own(path, pickup, came, stopped)
        self.stage = Stage.IDLE
        return True

    def _written(self, line: str, takes: Sequence[Recorded]) -> Path:
        """Takes of a line in one file in the book's folder, which outlasts the program.  AppError where there is no room."""
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

    def _put_in(self, name: str, take: Take) -> None:
        """Use a take that came in, whatever was chosen before, and put it in."""
        pickup = self.bench.book.pickup(name)
        number = next((k for k, t in enumerate(pickup.takes) if (t.recording, t.start) == (take.recording, take.start)), -1)
        if number < 0 or (pickup.chosen != number and not self.bench.do(ChooseTake(name, number))):
            return
        self.splice.place_soon(name)

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
