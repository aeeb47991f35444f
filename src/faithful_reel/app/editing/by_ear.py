"""Hearing what is marked, what was just made, and how it was before.  No Qt."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from faithful_reel.app.editing.presenter import Editing
from faithful_reel.app.editing.shaping import Shaping
from faithful_reel.app.settings import Settings, number, text
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.reel.changes import changed_span
from faithful_reel.core.reel.reel import Lane, Piece, Reel, most_of
from faithful_reel.core.units import Span
from faithful_reel.core.work.hearing import own_samples
from faithful_reel.core.work.timeline import lane_with

AROUND_S = 1.5
LEAST_AROUND_S, MOST_AROUND_S = 0.2, 10.0
WHOLE_S = 10.0
"""What was made is heard whole where it lasts no longer; of longer ones its beginning and its end, one after the other."""
AT_ONCE, GO_ON, NEXT, SPAN_LEAD = "at_once", "go_on", "next", "span_lead"
SETTINGS = {
    AT_ONCE: ("Every edit is heard at once.", "Edits are heard when you ask for it."),
    GO_ON: ("After an edit the sound goes on from its place.", "An edit stops the sound."),
    NEXT: ("A decision plays the next finding.", "A decision shows the next finding, and does not play it."),
    SPAN_LEAD: ("What is marked is heard with the lead-in.", "What is marked is heard alone."),
}
"""What can be switched, and what is told then."""
USUAL = {AT_ONCE: "on", GO_ON: "off", NEXT: "on", SPAN_LEAD: "off"}


@dataclass(frozen=True, slots=True)
class Made:
    """What the last step made of a chapter's reel: how it was before, and where it sounds otherwise now; None for nowhere."""

    chapter: str
    before: Reel
    after: Reel
    span: Span | None


class ByEar:
    """Lets hear what is at hand, and what a step made of it."""

    def __init__(self, editing: Editing, shaping: Shaping, settings: Settings) -> None:
        self.editing, self.shaping, self.bench, self.transport = editing, shaping, editing.bench, editing.transport
        self._settings = settings
        self.on = {name: text(settings, f"listen/{name}", USUAL[name]) == "on" for name in SETTINGS}
        self.around_s = number(settings, "listen/around", AROUND_S, LEAST_AROUND_S, MOST_AROUND_S)
        self._made: Made | None = None
        self._moves = 0
        self._next = 0
        self._heard: Sequence[Span] = ()
        self.then: Callable[[], None] | None = None
        """Lets hear what comes next once the step is taken, unless what that made is heard."""
        self.now: bool | None = None
        """Whether what is made now is heard at once whatever is set, or (False) only later; None: as it is set."""
        self.bench.session.listen(self._stepped, first=True)

    def switch(self, name: str) -> None:
        """Turn a setting on, or off; kept."""
        self.on[name] = not self.on[name]
        self._settings.setValue(f"listen/{name}", "on" if self.on[name] else "off")
        self.bench.tell(SETTINGS[name][0 if self.on[name] else 1])
        self.editing.changed()

    def set_around(self, seconds: float) -> None:
        """How much before and after a join is heard; kept."""
        self.around_s = min(MOST_AROUND_S, max(LEAST_AROUND_S, seconds))
        self._settings.setValue("listen/around", self.around_s)

    # --- what a step made -----------------------------------------------------------------------------------------

    def _stepped(self, before: Book, after: Book) -> None:
        """A step was taken, or taken back: what it changed of the sound at hand is what is heard next."""
        chapter, was = (next((c for c in book.chapters if c.id == self.bench.chapter_id), None) for book in (after, before))
        span = None
        if chapter is not None and was is not None and chapter.reel is not was.reel and chapter.reel and was.reel:
            span = changed_span(was.reel, chapter.reel)
            self._made, self._moves, self._heard = Made(chapter.id, was.reel, chapter.reel, span), self.transport.moves, ()
        went_on, self.transport.went_on = self.transport.went_on, False
        if span is not None and self.now is not False:
            if self.on[GO_ON] and went_on:
                self.transport.play_from(span.start - round(self.around_s * after.rate))
                return
            if self.now or (self.on[AT_ONCE] and self.bench.stepping):
                self.hear_join()
                return
        if self.then is not None and self.bench.stepping:
            self.then()

    def places(self) -> list[Span]:
        """What is to be heard of the last step, else of the join nearest to the cursor; none where there is none."""
        found = self.editing.found()
        if found is None:
            return []
        reel, made = found[1], self._made
        around = round(self.around_s * self.bench.book.rate)
        if made is not None and made.after is reel and self._moves == self.transport.moves:
            span = made.span
            if span is not None:
                ends = [span] if len(span) <= WHOLE_S * self.bench.book.rate else [Span(at, at) for at in (span.start, span.stop)]
                return [Span(max(0, s.start - around), min(len(reel), s.stop + around)) for s in ends]
        near = self.shaping.join_near()
        if near is None:
            return []
        at = reel.lanes[near[0]].starts()[near[1]]
        return [Span(max(0, at - around), min(len(reel), at + around))]

    def hear_join(self) -> None:
        """Hear what the last step made, or the join nearest to the cursor; of a long one each press the next of its ends."""
        self._hear(None, "")

    def _hear(self, instead: Reel | None, told: str) -> None:
        places = self.places()
        if not places:
            self.bench.tell("There is no join in this chapter yet.")
            return
        self._next = (self._next + 1) % len(places) if places == self._heard else 0
        self._heard = places
        self.transport.hear(places[self._next].start, places[self._next].stop, instead=instead, told=told)

    def hear_marked(self) -> None:
        """Hear what is marked once, with Loop again and again; where nothing is the sentence at the cursor."""
        spans = self.editing.spans
        span = spans[-1] if spans else self.editing.sentence()
        if span is None:
            self.bench.tell("Nothing is marked, and no sentence is heard at the cursor.")
            return
        lead = round(self.transport.lead_s * self.bench.book.rate) if self.on[SPAN_LEAD] else 0
        self.transport.hear(span.start - lead, span.stop)

    # --- as it was ------------------------------------------------------------------------------------------------

    def as_it_was(self) -> None:
        """The same words as they were before the last step of this chapter, and back; where nothing sounds its place so."""
        found = self.editing.found()
        if found is None:
            self.bench.tell("This chapter has no recording yet. Pair one with it at Intake.")
            return
        before = self._before(*found)
        if before is None:
            self.bench.tell("This chapter was not changed yet, as far as is at hand. Choose a step in the History (Ctrl+H).")
        else:
            self._turn(before, "as it was")

    def _before(self, chapter: ChapterState, reel: Reel) -> Reel | None:
        made = self._made
        if made is not None and made.chapter == chapter.id and made.after is reel:
            return made.before
        return self.bench.session.reel_before(chapter.id)

    def as_received(self) -> None:
        """The same words as they were recorded, and back."""
        found = self.editing.found()
        chapter = found[0] if found is not None else None
        if found is None or chapter is None or not chapter.recording:
            self.bench.tell("This chapter has no recording yet. Pair one with it at Intake.")
            return
        self._turn(self._received(*found), "as received")

    def _received(self, chapter: ChapterState, reel: Reel) -> Reel:
        """A reel of the same voices, each its whole recording."""
        main = lane_with(reel, chapter.recording)
        lanes: list[Lane] = []
        for k, lane in enumerate(reel.lanes):
            recording = chapter.recording if k == main else most_of(lane)
            if lane.music or not recording:
                continue
            whole = Span(0, self.bench.book.recording(recording).length)
            own = own_samples(self.bench.book, chapter) if k == main else whole
            alone = replace(lane, segments=(Piece(recording, own.start, own.stop),), gain_db=0.0, muted=False, solo=False)
            lanes.insert(0 if k == main else len(lanes), alone)
        return Reel(tuple(lanes))

    def as_at(self, step: int) -> None:
        """The same words as they were at a step of the history, and back."""
        found = self.editing.found()
        then = self.bench.session.state(step)
        was = next((c.reel for c in then.chapters if c.id == found[0].id), None) if found is not None else None
        if found is None or was is None:
            self.bench.tell("This chapter had no sound at that step.")
        else:
            self._turn(was, "as at that step")

    def _turn(self, other: Reel, told: str) -> None:
        transport = self.transport
        if transport.instead is not None and transport.playing:
            transport.turn(None)
        elif transport.plays_chapter:
            transport.turn(other, told)
        elif self.places():
            self._hear(other, told)
        else:
            around = round(self.around_s * self.bench.book.rate)
            transport.hear(transport.spot - around, transport.spot + around, instead=other, told=told)
