"""Time by ear: pauses, what goes from here on, edges, joins and what slides.  No Qt."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from enum import Enum

from faithful_reel.app.editing.cutting import Cutting
from faithful_reel.app.editing.presenter import Editing, Reach
from faithful_reel.app.editing.shaping import Shaping
from faithful_reel.app.settings import Settings, number
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.reel.commands import CutAndClose, LengthenPause, MoveEdge, MoveJoin, ReelCommand, Slide
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.units import Span, samples
from faithful_reel.core.work.gone import sounds
from faithful_reel.core.work.mending import lane_tone, tone_level
from faithful_reel.core.work.pauses import (
    Pacing,
    Pause,
    changed_pauses,
    in_proportion,
    moved_by,
    pause_near,
    pauses_in,
    pauses_of,
    to_usual,
    usual_lengths,
)

STEPS_MS = (1.0, 5.0, 10.0, 20.0, 50.0, 100.0)
"""By how much edges and joins are moved, and what is marked slides."""
PAUSE_STEP_S = 0.05


class Edge(Enum):
    """An edge of the piece at the cursor."""

    START = "start"
    END = "end"


class Timing:
    """What is done with time, a step at a stroke."""

    def __init__(self, editing: Editing, cutting: Cutting, shaping: Shaping, settings: Settings) -> None:
        self.editing, self.cutting, self.shaping = editing, cutting, shaping
        self.bench, self.transport, self._settings = editing.bench, editing.transport, settings
        self.step_ms = min(STEPS_MS, key=lambda ms: abs(ms - number(settings, "edit/step", 10.0, STEPS_MS[0], STEPS_MS[-1])))
        self.pause_step_s = number(settings, "edit/pause_step", PAUSE_STEP_S, 0.01, 1.0)

    @property
    def step(self) -> int:
        """The step of edges, joins and what slides, in samples."""
        return samples(self.step_ms / 1000, self.bench.book.rate)

    def next_step(self) -> None:
        """Take the next step, after the longest the shortest; kept."""
        self.step_ms = STEPS_MS[(STEPS_MS.index(self.step_ms) + 1) % len(STEPS_MS)]
        self._settings.setValue("edit/step", self.step_ms)
        self.bench.tell(f"Edges, joins and what slides move by {self.step_ms:g} ms.")

    def set_pause_step(self, seconds: float) -> None:
        """By how much a stroke changes a pause; kept."""
        self.pause_step_s = seconds
        self._settings.setValue("edit/pause_step", seconds)
        self.bench.tell(f"Pauses change by {1000 * seconds:g} ms.")

    # --- pauses ---------------------------------------------------------------------------------------------------

    def pauses(self) -> tuple[ChapterState, Reel, list[Pause]] | None:
        """The pauses that are meant: those of what is marked, else that at the cursor; told where there are none."""
        found = self.editing.found()
        if found is None:
            self.bench.tell("This chapter has no recording yet. Pair one with it at Intake.")
            return None
        spans, spot, rate = self.editing.marked(), self.transport.spot, self.bench.book.rate
        near = pause_near(self.editing.pauses(*found, Span(spot, spot)), spot, rate) if not spans else None
        marked = (p for span in spans for p in pauses_in(self.editing.pauses(*found, span), span, rate))
        rows = [near] if near is not None else []
        for pause in sorted(marked, key=lambda p: p.span):
            if not rows or pause.span.start >= rows[-1].span.stop:
                rows.append(pause)
        if not rows:
            self.bench.tell("There is no pause in what is marked." if spans else "There is no pause at the cursor.")
            return None
        return (*found, rows)

    def mark_pause(self) -> None:
        """Mark the pause at the cursor."""
        self.editing.let_go()
        found = self.pauses()
        if found is not None:
            span = found[2][0].span
            self.editing.select(span.start, span.stop)
            self.transport.bring(span.start)

    def change_pause(self, way: int) -> bool:
        """Make the pause at the cursor longer or shorter by the step; of several the longest, the others in proportion."""
        return self._change(lambda rows: in_proportion(rows, way * samples(self.pause_step_s, self.bench.book.rate)))

    def usual_pause(self) -> bool:
        """Make the pauses that are meant as long as this reader usually makes them at such a place."""
        found = self.editing.found()
        if found is None or not len(self.bench.tokens(found[0]).heard()):
            self.bench.tell("What is usual is known once this chapter was heard (Ctrl+E).")
            return False
        whole, rate = pauses_of(self.bench.text(found[0]), self.bench.tokens(found[0])), self.bench.book.rate
        usual = usual_lengths(whole, rate)
        return self._change(lambda rows: to_usual(rows, usual, rate), "These pauses are as usual with this reader already.")

    def set_pause(self, seconds: float) -> bool:
        """Make the pause at the cursor so long; of several the longest, the others in proportion."""

        def by(rows: Sequence[Pause]) -> list[tuple[Pause, int]]:
            return in_proportion(rows, samples(seconds, self.bench.book.rate) - max(len(p.span) for p in rows))

        return self._change(by, f"This pause lasts {seconds:g} s already.")

    def pauses_meant(self) -> tuple[str, float] | None:
        """The pauses that are meant, in words, and how many seconds the longest lasts; None, and told, where there is none."""
        found = self.pauses()
        if found is None:
            return None
        rows, at = found[2], self.editing.time(found[2][0].span.start)
        title = f"The longest of {len(rows)} pauses, from {at} on" if len(rows) > 1 else f"The pause at {at}"
        return title, max(len(p.span) for p in rows) / self.bench.book.rate

    def _change(self, by: Callable[[Sequence[Pause]], list[tuple[Pause, int]]], alike: str = "") -> bool:
        found = self.pauses()
        if found is None:
            return False
        chapter, reel, pauses = found
        rows: list[tuple[Pause, int]] = [row for row in by(pauses) if row[1]]
        if not rows:
            self.bench.tell(alike)
            return False
        held, reach = self.editing.shown_lane, max(p.span.stop for p, _ in rows)
        linked = [k for k, lane in enumerate(reel.lanes) if lane.linked and not lane.music and len(lane) >= reach]
        if not linked or (held >= 0 and not reel.lanes[held].linked):
            self.bench.tell(
                "Pauses change on all linked lanes together. Link this lane, or take all linked ones in hand (Sound, Lane)."
            )
            return False
        own, spoken = self.editing.own_lane(reel), [p.lane for p, _ in rows if p.lane in linked]
        lane = own if own in linked else spoken[0] if spoken else linked[0]
        book = self.bench.book
        how = Pacing(self.editing.voices(reel), lane_tone(book, chapter, lane), lane, book.rate, tone_level(book, chapter))
        spans, first, after = self.editing.marked(), rows[0][0].span, sum(by for _, by in rows)
        made: list[CutAndClose | LengthenPause] = []

        def edits() -> Sequence[ReelCommand]:
            made.extend(changed_pauses(rows, how))
            return made

        label = f"{'Longer' if after > 0 else 'Shorter'} pause" + (f"s ({len(rows)})" if len(rows) > 1 else "")
        done = self.editing.do(chapter, edits, label, meant=frozenset(lane.id for lane in reel.lanes if not lane.music))
        if done:
            self.transport.put(first.start)
            moved = [Span(moved_by(made, s.start), moved_by(made, s.stop)) for s in spans]
            self.editing.mark_again([s for s in moved if len(s)])
            self._told(rows, moved_by(made, len(reel)) - len(reel))
        return done

    def _told(self, rows: Sequence[tuple[Pause, int]], total: int) -> None:
        rate = self.bench.book.rate
        if len(rows) == 1:
            now = len(rows[0][0].span) + total
            self.bench.report(
                f"The pause lasts {now / rate:.2f} s now, {abs(total) / rate:.2f} s {'more' if total > 0 else 'less'}."
            )
        else:
            self.bench.report(f"{len(rows)} pauses, {abs(total) / rate:.2f} s {'longer' if total > 0 else 'shorter'} in all.")

    # --- from here ------------------------------------------------------------------------------------------------

    def from_here(self, reach: Reach, *, end: bool, fill: bool) -> bool:
        """Take out, or fill, from the cursor to the end of something, or from its start to the cursor: one step."""
        self.editing.let_go()
        if not self.editing.stretch_to(reach, end=end):
            return False
        done = self.cutting.fill() if fill else self.cutting.take_out()
        if not done:
            self.editing.clear()
        return done

    # --- edges and joins ------------------------------------------------------------------------------------------

    def move_edge(self, edge: Edge, way: int, *, carried: bool) -> bool:
        """Uncover or cover sound at an edge of the piece at the cursor, by the step.

        What follows is carried along with it, or the piece beside it gives as much.
        """
        found, piece = self.editing.found(), self.shaping.piece_at(self.transport.spot)
        if found is None or piece is None:
            self.shaping.no_piece()
            return False
        chapter, reel = found
        lane, index = piece
        row, by = reel.lanes[lane], way * self.step
        if not carried:
            join = index if edge is Edge.START else index + 1
            if not 0 < join < len(row.segments):
                self.bench.tell("No other piece is beside this edge. With what follows carried along it can be moved.")
                return False
            return self._moved(chapter, MoveJoin(join, by, lane), "Move a join", row.starts()[join] + by)
        segment = row.segments[index]
        length = self.bench.book.recording(segment.recording).length if segment.recording else 1 << 62
        edit = MoveEdge(index, by, edge is Edge.START, lane, length)
        return self._moved(
            chapter, edit, "Move an edge", row.starts()[index + (edge is Edge.END)] + (by if edge is Edge.END else 0)
        )

    def _moved(self, chapter: ChapterState, edit: ReelCommand, label: str, at: int) -> bool:
        done = self.editing.do(chapter, lambda: [edit], label)
        if done:
            self.transport.bring(at)
        return done

    def move_join(self, way: int) -> bool:
        """Move the join nearest to the cursor by the step."""
        return self.shaping.move_join(way * self.step_ms / 1000)

    # --- sliding --------------------------------------------------------------------------------------------------

    def slide(self, way: int) -> bool:
        """Let what is marked come earlier or later by the step."""
        return self.slide_by(way * self.step)

    def slide_by(self, by: int) -> bool:
        """Let what is marked come later by so many samples, or earlier; nothing else moves, and no word is lain over."""
        work = self.editing.work()
        if work is None:
            return False
        chapter, reel, spans = work
        if len(spans) > 1:
            self.bench.tell("Several stretches are marked, and one slides at a time. Mark nothing (Edit, Span), then that one.")
            return False
        span, lane = spans[0], self.editing.need_lane(reel)
        if lane is None or not by:
            return False
        onto = Span(span.stop, span.stop + by) if by > 0 else Span(span.start + by, span.start)
        there = self._lain_over(chapter, reel, lane, onto)
        if there:
            self.bench.tell(f"It would lie over {there}. Make room there first, or mark that as well.")
            return False
        tone = lane_tone(self.bench.book, chapter, lane)
        said = self.editing.said([span])
        edit = Slide(span.start, span.stop, by, tone, lane)
        done = self.editing.do(chapter, lambda: [edit], f"Slide {'later' if by > 0 else 'earlier'}", said)
        if done:
            self.editing.select(span.start + by, span.stop + by, drawn=reel.lanes[lane].id)
            self.transport.put(span.start + by)
        return done

    def _lain_over(self, chapter: ChapterState, reel: Reel, lane: int, onto: Span) -> str:
        """What a voice says where something would lie over it; of one that was not heard yet whether it sounds there."""
        words = [t for t in self.bench.tokens(chapter).heard() if t.lane == lane]
        there = next((t for t in words if t.start < onto.stop and t.stop > onto.start), None)
        if there is not None:
            return f"“{there.text}”"
        row = reel.lanes[lane]
        unheard = not words and not row.music and onto.start >= 0 and onto.stop <= len(row)
        return (
            "what sounds there"
            if unheard and sounds(self.bench.columns(reel, lane), onto, len(row), self.bench.book.rate)
            else ""
        )
