"""Hearing the whole book: one chapter after another, in an order that can be changed, paused, and gone on with later.  No Qt."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

from faithful_reel.app.places import Places
from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.workbench import Observed
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.errors import Cancelled
from faithful_reel.core.memo import Memo
from faithful_reel.core.work.hearing_again import needs_again
from faithful_reel.core.work.whole_book import to_hear

USUAL_PACE = 5.0
"""How many times as fast as it is read a chapter is heard, until that was measured."""


@dataclass(frozen=True, slots=True)
class Row:
    """A chapter of the book as the queue has it: its length in seconds, how far it is heard (0 to 1), and that in words."""

    chapter: str
    title: str
    seconds: float
    share: float
    state: str


class HearingQueue(Observed):
    """The chapters that are to be heard, in order.  What was heard of one that is paused is remembered."""

    def __init__(self, proof: ProofPresenter, places: Places, told: Callable[[str], None]) -> None:
        super().__init__()
        self._proof, self._places, self._told = proof, places, told
        self.bench = proof.bench
        known = {c.id for c in self.bench.book.chapters}
        self.waiting = [c for c in places.queue if c in known]
        self.paused = places.queue_paused
        self._at, self._fraction, self._since = "", 0.0, 0.0
        self._heard_s, self._spent_s, self._count, self._failed = 0.0, 0.0, 0, 0
        self._dropped = ""
        self._again: Memo[bool] = Memo()
        proof.ended.append(self._ended)
        proof.going.append(self._going)

    # --- what stands there ----------------------------------------------------------------------------------------

    @property
    def at(self) -> str:
        """The chapter that is being heard; empty where none is."""
        return self._at

    def rows(self) -> list[Row]:
        """The chapter that is being heard, those that wait in their order, then all others in reading order."""
        chapters = {c.id: c for c in self.bench.book.chapters}
        order = [c for c in dict.fromkeys((*filter(None, (self._at,)), *self.waiting)) if c in chapters]
        rest = [c for c in chapters if c not in order]
        return [self._row(chapters[c]) for c in (*order, *rest)]

    def _row(self, chapter: ChapterState) -> Row:
        seconds = self._seconds(chapter)
        if chapter.id in self._proof.hearing_now:
            share = self._fraction if chapter.id == self._at else 0.0
            return Row(chapter.id, chapter.title, seconds, share, "being heard")
        if chapter.id in self.waiting:
            place = self.waiting.index(chapter.id) + 1
            return Row(chapter.id, chapter.title, seconds, 0.0, "paused" if self.paused else f"waits, number {place}")
        if not chapter.recording:
            return Row(chapter.id, chapter.title, 0.0, 0.0, "no recording")
        state = "changed since" if self._is_changed(chapter) else "heard" if chapter.hearing else "not heard"
        return Row(chapter.id, chapter.title, seconds, float(bool(chapter.hearing)), state)

    def _is_changed(self, chapter: ChapterState) -> bool:
        return self._again.of(chapter.id, (chapter,), lambda: needs_again(chapter))

    def _seconds(self, chapter: ChapterState) -> float:
        length = next((r.length for r in self.bench.book.recordings if r.hash == chapter.recording), 0)
        return length / self.bench.book.rate

    def seconds_left(self) -> float:
        """Time left for all that waits, by the pace of what was heard so far."""
        chapters = {c.id: c for c in self.bench.book.chapters}
        waiting = sum(self._seconds(chapters[c]) for c in self.waiting if c in chapters)
        now = chapters.get(self._at)
        mine = self._seconds(now) if now else 0.0
        spent = time.monotonic() - self._since if now else 0.0
        heard, took = self._heard_s + mine * self._fraction, self._spent_s + spent
        pace = heard / took if took > 1 and heard > mine * 0.05 else USUAL_PACE
        return (waiting + mine * (1 - self._fraction)) / max(pace, 0.1)

    def told(self) -> str:
        """How the queue stands, in words."""
        left = len(self.waiting) + bool(self._at)
        if not left:
            missing = sum(bool(c.recording) and (not c.hearing or self._is_changed(c)) for c in self.bench.book.chapters)
            if not missing:
                return "Every chapter that has a recording is heard."
            return f"{missing} chapter{'s are' if missing > 1 else ' is'} not heard, or changed since."
        name = f"{left} chapter{'s' if left > 1 else ''} left"
        if self.paused:
            return f"{name}. Paused; what was heard is remembered."
        return f"{name}, about {self.bench.time_of_seconds(self.seconds_left())}."

    # --- what is done ---------------------------------------------------------------------------------------------

    def hear_book(self, first: str = "") -> bool:
        """Hear all chapters that are not heard, in reading order; `first` comes first.  Whether there are any."""
        wanted = [c.id for c in to_hear(self.bench.book) if c.id != self._at]
        wanted.sort(key=lambda c: c != first)
        if not wanted and not self._at:
            self.bench.tell("Every chapter that has a recording is heard already. Hear one again with “Hear this chapter”.")
            return False
        self.waiting, self.paused = wanted, False
        self._count, self._failed = (self._count, self._failed) if self._at else (0, 0)
        self._go_on()
        return True

    def pause(self) -> None:
        """Stop for now; the chapter at hand comes first when it goes on."""
        if self.paused or not (self._at or self.waiting):
            return
        if self._at:
            self._proof.stop_hearing(self._at)  # what was stopped waits again, see `_ended`
        else:
            self.paused = True
            self._kept()

    def go_on(self) -> None:
        """Go on where it was paused, or broken off when the book was closed."""
        if not self.waiting:
            self.bench.tell("No chapter waits to be heard.")
            return
        self.paused = False
        self._go_on()

    def resume(self) -> None:
        """The book was opened again: what was broken off goes on, unless it was paused."""
        if self.waiting and not self.paused:
            count = len(self.waiting)
            self.bench.tell(f"Hearing the book goes on where it was broken off: {count} chapter{'s' if count > 1 else ''} left.")
            self._go_on()

    def move(self, chapter: str, by: int) -> None:
        """Have a waiting chapter heard earlier or later; `by` may be any number of places."""
        if chapter not in self.waiting:
            self.bench.tell("Only a chapter that waits can be moved.")
            return
        at = self.waiting.index(chapter)
        self.waiting.remove(chapter)
        self.waiting.insert(min(max(0, at + by), len(self.waiting)), chapter)
        self._kept()

    def add(self, chapter: str) -> None:
        """Have a chapter heard, or heard again, after those that wait."""
        state = self.bench.book.chapter(chapter)
        if not state.recording:
            self.bench.tell(f"{state.title} has no recording yet. Pair one with it at Intake.")
        elif chapter not in self.waiting and chapter != self._at:
            self.waiting.append(chapter)
            self._go_on()

    def take_out(self, chapter: str) -> None:
        """Do not hear a waiting chapter after all, or stop hearing the one at hand and go on with the next."""
        if chapter == self._at:
            self._dropped = chapter
            self._proof.stop_hearing(chapter)
        elif chapter in self.waiting:
            self.waiting.remove(chapter)
            self._kept()

    def _go_on(self) -> None:
        if not (self.paused or self._at):
            known = {c.id: c for c in self.bench.book.chapters}
            self.waiting = [c for c in self.waiting if c in known and known[c].recording]
            while self.waiting and not self._at:
                self._at, self._fraction, self._since = self.waiting.pop(0), 0.0, time.monotonic()
                self._proof.hear(self._at)
                if self._at not in self._proof.hearing_now:  # it could not be begun, and that was told
                    self._at = ""
        self._kept()

    def _kept(self) -> None:
        """Write it into the settings, so that it goes on after the book was closed, and show it."""
        going = [self._at] if self._at else []
        self._places.keep_queue([*going, *self.waiting], paused=self.paused)
        self.changed()

    def _going(self, chapter: str, fraction: float) -> None:
        if chapter == self._at:
            self._fraction = fraction
            self.changed()

    def _ended(self, chapter: str, why: BaseException | None) -> None:
        """A chapter's hearing is over, whoever asked for it."""
        if chapter != self._at:
            if why is None and chapter in self.waiting:
                self.waiting.remove(chapter)
                self._kept()
            return
        if why is None:
            state = next((c for c in self.bench.book.chapters if c.id == chapter), None)
            self._heard_s += self._seconds(state) if state else 0.0
            self._spent_s += time.monotonic() - self._since
            self._count += 1
        elif isinstance(why, Cancelled) and not self.paused and self._dropped != chapter:  # by the button beside the title
            self.waiting.insert(0, chapter)
            self.paused = True
        elif not isinstance(why, Cancelled):
            self._failed += 1
        self._at, self._fraction, self._dropped = "", 0.0, ""
        self._go_on()
        if not self._at and not self.waiting and (self._count or self._failed):
            chapters = f"{self._count} chapter{'' if self._count == 1 else 's'}"
            part = f"The book is not all heard: {chapters} {'was' if self._count == 1 else 'were'}, {self._failed} could not be."
            self._told(part if self._failed else f"The book is heard: {chapters}.")
            self._count = self._failed = 0
