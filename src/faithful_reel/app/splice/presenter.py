"""What happens at the Splice desk.  No Qt.

Everything is planned and measured beside the work; what is shown is the last plan of the line at hand.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from faithful_reel.app.settings import Settings, text
from faithful_reel.app.workbench import Observed, Workbench
from faithful_reel.core.audio.overview import Overview, overview_of
from faithful_reel.core.book.commands import EditReel
from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.book.pickups import HeardAgain, PassPickup, SpliceTakes, TakeOut
from faithful_reel.core.book.recordings import adopted, forget_made
from faithful_reel.core.errors import AppError
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.jobs import Watch
from faithful_reel.core.memo import Memo, Seen
from faithful_reel.core.pickups.ledger import DONE, READY, WAITING, Pickup, State
from faithful_reel.core.reel.commands import MoveJoin
from faithful_reel.core.reel.picture import reel_columns
from faithful_reel.core.reel.reel import Lane, Piece, Reel
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.splice.boundaries import next_valley
from faithful_reel.core.splice.match import Switches
from faithful_reel.core.splice.place import BEST, Choice
from faithful_reel.core.splice.profile import Profile
from faithful_reel.core.splice.seam import JudgedSeam, NaturalSeams
from faithful_reel.core.units import Span, samples
from faithful_reel.core.work.hearing_again import heard_again
from faithful_reel.core.work.mending import Columns
from faithful_reel.core.work.seams import JoinSeam, chapter_seams, natural_of, seam_in
from faithful_reel.core.work.splicing import (
    Edges,
    InPlace,
    LineWord,
    Many,
    Preview,
    in_place,
    keep_matched,
    planned_many,
    preview_parts,
    recording_reel,
    session_profile,
    splice_of,
    take_reel,
)
from faithful_reel.core.work.timeline import Hearing

SWITCHES = {
    "level": "Bring the take's voice to the level of the chapter's",
    "tone": "Bring the colour of the take's voice to that of the chapter's",
    "room": "Bring the take's floor to the chapter's: what is too much goes, what lacks is laid under",
    "echo": "Let the take ring on after its words no longer than the chapter",
    "breath": "Let a pause that is joined keep one breath, where there is one on either side",
    "pace": "Read the take as fast as the chapter",
    "pitch": "Read the take as high as the chapter",
}
"""What can be matched, and what that does."""
OFF = frozenset({"pace", "pitch"})
"""Off until it is asked for."""
AROUND_S = 0.6
"""Heard on either side of a line."""
RenderOf = Callable[[Reel], Renderer]
LOOP_S, VALLEY_REACH_S = 1.2, 0.5
"""What is heard of a join, on either side."""


@dataclass(frozen=True, slots=True)
class Planned:
    """A line's splice as it was planned: of which state of things, what it gives, and what its matched takes look like."""

    pickup: Pickup
    chapter: ChapterState
    choices: tuple[Choice, ...]
    switches: Switches
    previews: tuple[Preview, ...]
    looks: dict[str, Overview]
    kept: tuple[tuple[Recording, float], ...] | None = None
    """The matched takes as recordings, once they are written."""


class SplicePresenter(Observed):
    """Planning splices, hearing them, placing them, hearing them again, passing them, taking them out."""

    def __init__(self, bench: Workbench, settings: Settings) -> None:
        super().__init__()
        self.bench, self._settings = bench, settings
        self.current = ""
        self.problem = ""
        self.switches = Switches(**{k: _on(settings, k) for k in SWITCHES})
        self.planned: Planned | None = None
        self.seams: tuple[JudgedSeam, ...] = ()
        self.joins: list[JoinSeam] | None = None
        self.joins_of: Reel | None = None
        """The reel that they are of."""
        """The joins of the chapter at hand, worst first; None before they are measured."""
        self.busy = False
        self._put_in = ""
        """A line that is put in as soon as it is planned."""
        self._many = False
        """Whether many lines are being put in."""
        self._written: tuple[str, ...] = ()
        """The matched takes that were written for plans, of which at most the last is still wanted."""
        self.planned_anew: tuple[str, Callable[[], None]] | None = None
        """A line, and what is called once it is planned again."""
        self._choices: dict[str, tuple[Choice, ...]] = {}
        self._asked: tuple[object, ...] | None = None
        self._ticket = 0
        self._naturals: dict[tuple[str, str, int], NaturalSeams] = {}
        self._sessions: dict[str, Profile] = {}
        self._without_session: set[str] = set()
        self._judged: tuple[object, ...] | None = None
        self._in_place: Memo[InPlace | None] = Memo()
        self._joins_seen = Seen()
        self._shown = Seen()

    # --- lines ----------------------------------------------------------------------------------------------------

    def rows(self) -> list[Pickup]:
        """The pickups that have a take, in reading order."""
        order = {c.id: i for i, c in enumerate(self.bench.book.chapters)}
        ready = [p for p in self.bench.book.pickups if p.takes]
        return sorted(ready, key=lambda p: (order.get(p.chapter, 0), p.first_word))

    def pickup(self) -> Pickup | None:
        """The pickup at hand: the chosen one, else the first that is not placed."""
        rows = self.rows()
        return next(
            (p for p in rows if p.id == self.current),
            next((p for p in rows if p.state in READY), rows[0] if rows else None),
        )

    def choose(self, pickup_id: str) -> None:
        """Take a pickup in hand."""
        self.current = pickup_id
        pickup = self.pickup()
        if pickup:
            self.bench.open_chapter(pickup.chapter)
        self.changed()

    def step(self, by: int) -> None:
        """The next line, or the one before."""
        rows, pickup = self.rows(), self.pickup()
        at = next((k for k, p in enumerate(rows) if pickup is not None and p.id == pickup.id), -1) + by
        if pickup is None or not 0 <= at < len(rows):
            self.bench.tell("No line has a take." if pickup is None else "This is the last line that has a take.")
            return
        self.choose(rows[at].id)

    # --- what is chosen -------------------------------------------------------------------------------------------

    def choices(self, pickup: Pickup) -> tuple[Choice, ...]:
        """What was chosen for the boundaries of every part of a line."""
        count = max(1, len(pickup.parts))
        return (*self._choices.get(pickup.id, ()), *((BEST,) * count))[:count]

    def choose_boundaries(self, entering: int, leaving: int) -> None:
        """Try other proposals for where the line begins and ends; (0, 0) is the best pair."""
        pickup = self.pickup()
        if pickup is None:
            return
        mine = list(self.choices(pickup))
        mine[0] = replace(mine[0], entering=entering, moved_in=0)
        mine[-1] = replace(mine[-1], leaving=leaving, moved_out=0)
        if len(mine) == 1:
            mine[0] = Choice(entering, leaving)
        self._choices[pickup.id] = tuple(mine)
        self.changed()

    def other_proposal(self, by: int, *, entering: bool) -> None:
        """The next best proposal for an end, or the one before."""
        planned = self.current_plan()
        if planned is None:
            self.bench.tell("No splice is planned whose ends could be chosen.")
            return
        first, last = planned.previews[0].plan, planned.previews[-1].plan
        ins, outs = first.entering.index(first.chosen_in), last.leaving.index(last.chosen_out)
        if entering:
            ins = min(len(first.entering) - 1, max(0, ins + by))
        else:
            outs = min(len(last.leaving) - 1, max(0, outs + by))
        self.choose_boundaries(ins, outs)

    def nudge(self, by: int, *, entering: bool) -> bool:
        """Move an end by some samples: of the plan, or of what is in."""
        pickup = self.pickup()
        if pickup is None:
            self.bench.tell("No splice is at hand whose ends could be moved.")
            return False
        if pickup.state in DONE:
            return self._move_placed(pickup, by, entering=entering)
        mine = list(self.choices(pickup))
        if entering:
            mine[0] = replace(mine[0], moved_in=mine[0].moved_in + by)
        else:
            mine[-1] = replace(mine[-1], moved_out=mine[-1].moved_out + by)
        self._choices[pickup.id] = tuple(mine)
        self.changed()
        return True

    def nudge_to_valley(self, way: int, *, entering: bool) -> bool:
        """Move an end to the next quiet place, later (1) or earlier (-1), by what is heard now."""
        found = self._result()
        if found is None:
            self.bench.tell("No splice is at hand whose ends could be moved.")
            return False
        reel, rendering, span = found
        at, rate = span.start if entering else span.stop, self.bench.book.rate
        first, last = max(0, at - samples(VALLEY_REACH_S, rate)), min(len(reel), at + samples(VALLEY_REACH_S, rate))
        renderer = rendering(reel) if rendering else self.bench.renderer(reel)
        by = next_valley(np.atleast_2d(renderer.render(first, last)).mean(axis=0), at - first, way, rate)
        if not by:
            self.bench.tell("There is no quieter place that way within half a second.")
            return False
        return self.nudge(by, entering=entering)

    def _move_placed(self, pickup: Pickup, by: int, *, entering: bool) -> bool:
        placed = self.in_place()
        reel = self.bench.book.chapter(pickup.chapter).reel
        if placed is None or reel is None:
            self.bench.tell("This take is no longer in the reel.")
            return False
        at = placed.joins[0] if entering else placed.joins[-1]
        starts = reel.lanes[placed.lane].starts()
        if at not in starts[1:-1]:
            self.bench.tell("There is no join at this end: the chapter begins or ends here.")
            return False
        return self.bench.do(EditReel(pickup.chapter, MoveJoin(starts.index(at), by, placed.lane)))

    def switch(self, name: str, *, on: bool) -> None:
        """Match something, or leave it; for all takes, and kept."""
        self.switches = replace(self.switches, **{name: on})
        self._settings.setValue(f"splice/{name}", "on" if on else "off")
        self.changed()

    # --- planning -------------------------------------------------------------------------------------------------

    def look(self) -> None:
        """Plan anew where something that the plan was made of changed; what is shown stays until then."""
        pickup = self.pickup()
        self.problem = ""
        if pickup is None or pickup.state not in WAITING:
            self._asked, self.planned = None, None
            self._judge()
            return
        chapter = self.bench.book.chapter(pickup.chapter)
        hearing = self.bench.hearing(chapter)
        if chapter.reel is None or hearing is None:
            self.problem = "This chapter was not heard yet. Hear it at the Proof desk first."
            self._asked, self.planned = None, None
            return
        session = self._session_for(pickup)
        key = (pickup, chapter, self.choices(pickup), self.switches, session)
        if self._asked == key:
            self._judge()
            return
        if self.planned is not None and self.planned.pickup.id != pickup.id:
            self.planned, self.seams = None, ()
        self._asked = key
        self._ticket += 1
        self.bench.jobs.start(
            "Plan the splice",
            self._planning(self._ticket, pickup, chapter, hearing, session),
            done=self._plan_made,
            stopped=self._plan_failed(self._ticket),
            quiet=True,
        )
        self.busy = True

    def _planning(
        self, ticket: int, pickup: Pickup, chapter: ChapterState, hearing: Hearing, session: Profile | None
    ) -> Callable[[Watch], tuple[int, Planned]]:
        book = self.bench.book
        choices, switches, files = self.choices(pickup), self.switches, self.bench.rendering()

        def plan(watch: Watch) -> tuple[int, Planned]:
            watch.tick(0.0, "planning")
            with files() as render_of:
                previews = preview_parts(
                    book, chapter, pickup, hearing, render_of, choices=choices, switches=switches, session=session
                )
            watch.tick(0.5, "planning")
            looks = {p.matched.id: overview_of(iter([p.matched.sound])) for p in previews}
            return ticket, Planned(pickup, chapter, choices, switches, previews, looks)

        return plan

    def _keep(self, planned: Planned) -> None:
        """Write the matched takes of a plan that is shown, so that putting them in is one step."""
        folder, book, ticket = self.bench.session.store.folder, self.bench.book, self._ticket
        before, self._written = self._written, ()

        def keep(_watch: Watch) -> tuple[int, Planned]:
            kept = tuple(keep_matched(folder, book, planned.pickup, planned.previews))
            if not self._many:  # they may be the very ones that are being put in
                forget_made(folder, [h for h in before if h not in {r.hash for r, _ in kept}])
            return ticket, replace(planned, kept=kept)

        self.bench.jobs.start("Keep the matched take", keep, done=self._kept, stopped=self.bench.stopped, quiet=True)

    def _kept(self, made: tuple[int, Planned]) -> None:
        self._written += tuple(r.hash for r, _ in made[1].kept or ())
        if made[0] == self._ticket and self.planned is not None:  # else it was asked otherwise, or put in, since
            self.planned = made[1]

    def _plan_made(self, made: tuple[int, Planned]) -> None:
        if made[0] != self._ticket:  # it was asked otherwise since
            return
        self.busy = False
        self.planned = made[1]
        self._judged, self.seams = None, ()
        wanted, self._put_in = self._put_in, ""
        if made[1].pickup.id == wanted and self.current_plan() is not None:
            self.place()
        else:
            self._keep(made[1])
        self._judge()
        self.changed()
        asked, self.planned_anew = self.planned_anew, None
        if asked is not None and asked[0] == made[1].pickup.id:
            asked[1]()

    def _plan_failed(self, ticket: int) -> Callable[[BaseException], None]:
        def failed(why: BaseException) -> None:
            if ticket != self._ticket:
                return
            self.busy = False
            self.planned, self.seams = None, ()
            self.planned_anew = None
            wanted, self._put_in = self._put_in, ""
            if wanted:
                self.bench.tell(f"The take was not put in. {why}")
            if isinstance(why, AppError):
                self.failure = str(why)
                self.changed()
            else:
                self.bench.stopped(why)

        return failed

    failure = ""
    """Why the line at hand can not be put in."""

    def current_plan(self) -> Planned | None:
        """The plan of the line at hand, where it is of things as they are."""
        planned, pickup = self.planned, self.pickup()
        if planned is None or pickup is None or planned.pickup is not pickup or self.busy:
            return None
        return planned if planned.chapter is self.bench.book.chapter(pickup.chapter) else None

    def _session_for(self, pickup: Pickup) -> Profile | None:
        """The profile of the recording that the chosen take is in, which is made beside the work the first time."""
        if not 0 <= pickup.chosen < len(pickup.takes):
            return None
        recording = pickup.takes[pickup.chosen].recording
        if recording in self._sessions or recording in self._without_session:
            return self._sessions.get(recording)
        self._without_session.add(recording)
        book, files = self.bench.book, self.bench.rendering()
        hearings = {
            c.id: self.bench.hearing(c) for c in book.chapters if any(p.chapter == c.id and p.takes for p in book.pickups)
        }

        def compare(watch: Watch) -> tuple[str, Profile | None]:
            with files() as render_of:
                return recording, session_profile(book, recording, lambda c: hearings.get(c.id), render_of, watch)

        self.bench.jobs.start("Compare the session", compare, done=self._session_made, stopped=self.bench.stopped, quiet=True)
        return None

    def _session_made(self, made: tuple[str, Profile | None]) -> None:
        if made[1] is not None:
            self._sessions[made[0]] = made[1]
            self.changed()

    @property
    def session(self) -> Profile | None:
        """The profile of the session that the take at hand is from, once it is known."""
        pickup = self.pickup()
        if pickup is None or not 0 <= pickup.chosen < len(pickup.takes):
            return None
        return self._sessions.get(pickup.takes[pickup.chosen].recording)

    # --- seams ----------------------------------------------------------------------------------------------------

    def _judge(self) -> None:
        """Measure the joins of what is shown beside natural boundaries of the chapter."""
        pickup = self.pickup()
        if pickup is None:
            return
        chapter = self.bench.book.chapter(pickup.chapter)
        hearing = self.bench.hearing(chapter)
        placed = self.in_place()
        planned = self.current_plan()
        if hearing is None or (planned is None and placed is None):
            return
        previews = planned.previews if planned is not None else ()
        reel = previews[-1].reel if previews else chapter.reel
        places = tuple(at for p in previews for at in p.joins) if previews else placed.joins if placed is not None else ()
        lane = previews[-1].lane if previews else placed.lane if placed is not None else 0
        key: tuple[object, ...] = (pickup.id, id(reel), places)
        if key == self._judged or reel is None:
            return
        self._judged = key
        book, files = self.bench.book, self.bench.rendering()
        name = (chapter.id, chapter.hearing, lane)
        known = self._naturals.get(name)

        def measure(watch: Watch) -> tuple[object, tuple[str, str, int], NaturalSeams, tuple[JudgedSeam, ...]]:
            with files() as render_of:
                natural = known or natural_of(book, chapter, hearing, lane, render_of, watch)

                def seen(of: Reel) -> Renderer:
                    source = render_of(of).source
                    for p in previews:
                        source = p.source(source)
                    return Renderer(of, source)

                inside = [at for at in dict.fromkeys(places) if 0 < at < len(reel)]
                return key, name, natural, tuple(seam_in(reel, lane, at, natural, seen, book.rate) for at in inside)

        self.bench.jobs.start("Measure the joins", measure, done=self._judged_now, stopped=self.bench.stopped, quiet=True)

    def _judged_now(self, made: tuple[object, tuple[str, str, int], NaturalSeams, tuple[JudgedSeam, ...]]) -> None:
        key, name, natural, seams = made
        self._naturals[name] = natural
        if key == self._judged:
            self.seams = seams
            self.changed()

    def look_at_joins(self) -> None:
        """Measure all joins of the chapter at hand, where it changed since."""
        chapter = self.bench.chapter
        hearing = self.bench.hearing(chapter) if chapter else None
        if chapter is None or hearing is None or chapter.reel is None:
            self.joins = None
            return
        if not self._joins_seen.changed(chapter.reel, hearing):
            return
        book, files = self.bench.book, self.bench.rendering()
        texts = [w.text for w in self.bench.text(chapter).words]
        naturals = dict(self._naturals)

        def measure(watch: Watch) -> tuple[ChapterState, list[JoinSeam], dict[tuple[str, str, int], NaturalSeams]]:
            with files() as render_of:

                def natural(lane: int) -> NaturalSeams:
                    name = (chapter.id, chapter.hearing, lane)
                    if name not in naturals:
                        naturals[name] = natural_of(book, chapter, hearing, lane, render_of, watch)
                    return naturals[name]

                return chapter, chapter_seams(book, chapter, texts, hearing, natural, render_of, watch), naturals

        self.bench.jobs.start(
            "Measure the chapter's joins", measure, done=self._joins_made, stopped=self.bench.stopped, quiet=True
        )

    def _joins_made(self, made: tuple[ChapterState, list[JoinSeam], dict[tuple[str, str, int], NaturalSeams]]) -> None:
        chapter, joins, naturals = made
        self._naturals |= naturals
        if chapter is self.bench.chapter:
            self.joins, self.joins_of = joins, chapter.reel
            self.changed()

    def show_line(self) -> None:
        """Bring the line at hand into the close view, once, where it is in the chapter."""
        pickup = self.pickup()
        if pickup is None or self.shows is None:
            return
        chapter = self.bench.book.chapter(pickup.chapter)
        hearing = self.bench.hearing(chapter)
        if hearing is None or not self._shown.changed(pickup.id, self.bench.chapter_id, pickup.state.value):
            return
        if self.bench.chapter_id != pickup.chapter:
            self.bench.open_chapter(pickup.chapter)
        tokens = self.bench.tokens(chapter)
        own = [t for t in tokens if t.word in pickup.words and t.start >= 0]
        if own:
            self.shows(own[0].start)

    def go_to_join(self, at: int) -> None:
        """Show a join of the chapter at hand close up."""
        if self.shows is not None:
            self.shows(at)

    shows: Callable[[int], None] | None = None
    """Shows a place of the chapter at hand close up."""

    # --- what is in -----------------------------------------------------------------------------------------------

    def in_place(self) -> InPlace | None:
        """How the take at hand stands in the reel, where it is in."""
        pickup = self.pickup()
        if pickup is None or pickup.state not in DONE:
            return None
        chapter = self.bench.book.chapter(pickup.chapter)
        hearing = self.bench.hearing(chapter)
        if hearing is None:
            return None
        return self._in_place.of("", (pickup, chapter), lambda: in_place(self.bench.book, chapter, pickup, hearing))

    # --- hearing --------------------------------------------------------------------------------------------------

    def _result(self) -> tuple[Reel, RenderOf | None, Span] | None:
        """The reel with the line in it, how it is rendered where it is only planned, and where the line is."""
        planned, pickup = self.current_plan(), self.pickup()
        if planned is not None:
            previews = planned.previews

            def rendering(reel: Reel) -> Renderer:
                source = self.bench.renderer(reel).source
                for p in previews:
                    source = p.source(source)
                return Renderer(reel, source)

            return previews[-1].reel, rendering, Span(previews[0].joins[0], previews[-1].joins[1])
        placed = self.in_place()
        reel = self.bench.book.chapter(pickup.chapter).reel if pickup else None
        return (reel, None, placed.span) if placed is not None and reel is not None else None

    def before(self) -> tuple[Reel, int, int] | None:
        """The line as the chapter has it: a reel and the stretch to hear; None where there is no splice to be made."""
        planned, pickup = self.current_plan(), self.pickup()
        if planned is None or pickup is None:
            return None
        reel = self.bench.book.chapter(pickup.chapter).reel
        words = [w.original for p in planned.previews for w in p.words if w.original]
        if reel is None or not words:
            return None
        around = samples(AROUND_S, self.bench.book.rate)
        return reel, max(0, min(w[0] for w in words) - around), min(len(reel), max(w[1] for w in words) + around)

    def after(self, around_s: float) -> tuple[Renderer, int, int] | None:
        """The line as it would be, or is, with so much on either side: what renders it, and the stretch."""
        found = self._result()
        if found is None:
            return None
        reel, rendering, span = found
        around = samples(around_s, self.bench.book.rate)
        renderer = rendering(reel) if rendering else self.bench.renderer(reel)
        return renderer, max(0, span.start - around), min(len(reel), span.stop + around)

    def join(self, *, entering: bool) -> tuple[Renderer, int, int] | None:
        """A join, as it would be or is, with a little on either side."""
        found = self._result()
        if found is None:
            return None
        reel, rendering, span = found
        at, around = (span.start if entering else span.stop), samples(LOOP_S, self.bench.book.rate)
        renderer = rendering(reel) if rendering else self.bench.renderer(reel)
        return renderer, max(0, at - around), min(len(reel), at + around)

    def take(self) -> tuple[Reel, int, int] | None:
        """The take alone, as loud as the chapter: a reel, and the stretch to hear."""
        pickup = self.pickup()
        if pickup is None or not 0 <= pickup.chosen < len(pickup.takes):
            return None
        take = pickup.takes[pickup.chosen]
        planned = self.current_plan()
        gain_db = planned.previews[0].plan.gain_db if planned is not None else 0.0
        around = samples(0.3, self.bench.book.rate)
        piece = Piece(take.recording, max(0, take.start - around), take.stop + around, gain_db)
        return Reel((Lane("take", (piece,)),)), 0, len(piece)

    def same_place(self, heard: str, at: int, wanted: str) -> int | None:
        """Where a place of one of `before`, `after` and `take` is in another: in the same word, as far into it."""
        placed, planned, take = self.in_place(), self.current_plan(), self.take()
        words = planned.previews[-1].words if planned is not None else placed.words if placed is not None else ()
        piece = take[0].lanes[0].segments[0] if take is not None else None
        first = piece.start if isinstance(piece, Piece) else 0  # the take's reel begins there

        def place(word: LineWord, which: str) -> Edges | None:
            if which == "take":
                return (word.take[0] - first, word.take[1] - first) if word.take else None
            return word.original if which == "before" else word.result

        for word in words:
            here, there = place(word, heard), place(word, wanted)
            if here is not None and there is not None and at < here[1]:
                share = max(0, at - here[0]) / max(1, here[1] - here[0])
                return there[0] + round((there[1] - there[0]) * share)
        return None

    def columns(self) -> tuple[Columns, Columns, Columns] | None:
        """What the original, the result and the take look like; None where no splice is shown."""
        pickup = self.pickup()
        if pickup is None:
            return None
        planned, placed = self.planned, self.in_place()
        chapter = self.bench.book.chapter(pickup.chapter)
        if chapter.reel is None or not 0 <= pickup.chosen < len(pickup.takes):
            return None
        take = self.bench.columns(take_reel(self.bench.book, pickup.takes[pickup.chosen]))
        if planned is not None and planned.pickup.id == pickup.id:
            reel, looks, lane = planned.previews[-1].reel, planned.looks, planned.previews[-1].lane

            def overview(recording: str) -> Overview | None:
                return looks.get(recording) or self.bench.overview(recording)

            def result(edges: np.ndarray) -> np.ndarray:
                return reel_columns(reel, overview, edges, lane=lane)

            assert planned.chapter.reel is not None
            return self.bench.columns(planned.chapter.reel, lane), result, take
        if placed is None:
            return None
        return (
            self.bench.columns(recording_reel(self.bench.book, chapter.recording)),
            self.bench.columns(chapter.reel, placed.lane),
            take,
        )

    # --- what the user does ---------------------------------------------------------------------------------------

    def place(self) -> bool:
        """Put the take in, and have it heard again."""
        pickup, planned = self.pickup(), self.current_plan()
        if pickup is None or planned is None:
            done = pickup is not None and pickup.state in DONE
            if pickup is not None and not done and self.busy:
                self._put_in = pickup.id
                self.bench.tell("The splice is still being planned. It goes in as soon as it is.")
                return False
            waits = "No pickup has a take to put in."
            self.bench.tell("This take is in already." if done else self.problem or self.failure or waits)
            return False
        self.current = pickup.id
        folder = self.bench.session.store.folder
        try:
            kept = planned.kept or keep_matched(folder, self.bench.book, pickup, planned.previews)  # asked for at once
            for recording, _ in kept:
                adopted(folder, recording)
        except AppError as problem:
            self.bench.warn(str(problem))
            return False
        if not self.bench.do(SpliceTakes((splice_of(pickup, planned.previews, kept),))):
            return False
        self.hear_again((pickup.id,), quiet=True)
        return True

    def place_soon(self, pickup_id: str) -> None:
        """Put a line in as soon as it is planned."""
        self._put_in = pickup_id
        self.choose(pickup_id)
        if self.current_plan() is not None:
            self._put_in = ""
            self.place()
        else:
            self.look()

    def place_all(self, chapter: str = "") -> bool:
        """Put in all chosen takes of a chapter, or of the book, in one step; the doubtful ones are left for the eye."""
        wanted = [p for p in self.rows() if p.state in READY and chapter in ("", p.chapter)]
        if not wanted:
            self.bench.tell("No line waits to be put in.")
            return False
        book, folder, files = self.bench.book, self.bench.session.store.folder, self.bench.rendering()
        hearings = {c.id: self.bench.hearing(c) for c in book.chapters}
        sessions, switches = dict(self._sessions), self.switches

        def plan(watch: Watch) -> tuple[Book, Many]:
            with files() as render_of:
                for recording in {p.takes[p.chosen].recording for p in wanted if 0 <= p.chosen < len(p.takes)} - set(sessions):
                    found = session_profile(book, recording, lambda c: hearings.get(c.id), render_of, watch)
                    if found is not None:
                        sessions[recording] = found
                return book, planned_many(
                    folder, book, wanted, lambda c: hearings.get(c.id), render_of, sessions, switches, watch
                )

        def stopped(why: BaseException) -> None:
            self._many = False
            self.bench.stopped(why)

        self._many = True
        self.bench.jobs.start(f"Splice {len(wanted)} pickups", plan, done=self._all_planned, stopped=stopped)
        return True

    def _all_planned(self, made: tuple[Book, Many]) -> None:
        book, many = made
        self._many = False
        if self.bench.book is not book:
            self.bench.tell("The book was changed while the splices were planned, so none was put in. Do it again.")
            return
        left = f" {len(many.left)} left for the eye: {many.left[0][1]}." if many.left else ""
        if not many.splices:
            self.bench.tell(f"Nothing was put in.{left}")
            return
        try:
            for splice in many.splices:
                for recording in splice.recordings:
                    adopted(self.bench.session.store.folder, recording)
        except AppError as problem:
            self.bench.warn(str(problem))
            return
        if self.bench.do(SpliceTakes(many.splices)):
            count = len(many.splices)
            self.bench.tell(f"{count} {'line was' if count == 1 else 'lines were'} put in.{left}")
            self.current = many.left[0][0] if many.left else self.current
            self.hear_again(tuple(s.pickup for s in many.splices), quiet=True)

    def take_out(self) -> bool:
        """Take the line at hand out again: what was there comes back."""
        pickup = self.pickup()
        if pickup is None or pickup.state not in DONE:
            self.bench.tell("This line is not in the reel.")
            return False
        self.current = pickup.id
        return self.bench.do(TakeOut(pickup.id, edition=2))

    def hear_again(self, pickups: tuple[str, ...] = (), *, quiet: bool = False) -> bool:
        """Have the ears hear lines as they stand now: those given, else the one at hand."""
        at_hand = self.pickup()
        names = pickups or ((at_hand.id,) if at_hand is not None else ())
        book = self.bench.book
        mine = [p for p in book.pickups if p.id in names and p.state in DONE]
        if not mine:
            self.bench.tell("Only a line that is in can be heard again.")
            return False
        hearings = {p.chapter: self.bench.hearing(book.chapter(p.chapter)) for p in mine}
        texts = {p.chapter: self.bench.text(book.chapter(p.chapter)) for p in mine}
        ears, files, memory = self.bench.ears, self.bench.rendering(), self.bench.session.store.folder / "cache" / "heard.sqlite"

        def hear(watch: Watch) -> tuple[Book, tuple[str, ...], tuple[tuple[str, str], ...]]:
            right, wrong = [], []
            with files() as render_of, Memory(memory) as known:
                for k, p in enumerate(mine):
                    watch.tick(k / len(mine), "hearing again")
                    chapter, hearing = book.chapter(p.chapter), hearings[p.chapter]
                    if hearing is None:
                        continue
                    every = ears.all(book.language)
                    try:
                        heard = heard_again(book, chapter, texts[p.chapter], hearing, p.words, render_of, every, watch, known)
                    except AppError as problem:
                        wrong.append((p.id, str(problem)))
                        continue
                    if heard.right:
                        right.append(p.id)
                    else:
                        wrong.append((p.id, "; ".join(heard.wrong)))
            return book, tuple(right), tuple(wrong)

        self.bench.jobs.start("Hear the splice again", hear, done=self._heard_again, stopped=self.bench.stopped, quiet=quiet)
        return True

    def _heard_again(self, made: tuple[Book, tuple[str, ...], tuple[tuple[str, str], ...]]) -> None:
        before, right, wrong = made
        now = self.bench.book

        def stands(name: str) -> bool:
            """Whether it is in as it was heard."""
            old = next((p for p in before.pickups if p.id == name), None)
            new = next((p for p in now.pickups if p.id == name), None)
            same = old is not None and new is not None and new.state in DONE and new.placed == old.placed
            return same and now.chapter(new.chapter).reel is before.chapter(new.chapter).reel if new else False

        missed = tuple(n for n in (*right, *(n for n, _ in wrong)) if not stands(n))
        missed = tuple(p.id for p in now.pickups if p.id in missed and p.state is State.SPLICED)
        right = tuple(n for n in right if stands(n) and now.pickup(n).state is State.SPLICED)
        wrong = tuple((n, told) for n, told in wrong if stands(n))
        if right or wrong:
            self.bench.do(HeardAgain(right, wrong))
        if wrong:
            line = now.pickup(wrong[0][0]).line
            self.bench.tell(f"“{line}” is not as written where it was put in: {wrong[0][1]}.")
        if missed:  # something near it was changed meanwhile: as it stands now it was not heard
            self.hear_again(missed, quiet=True)

    def pass_(self) -> bool:
        """The splice was heard and is good; go on to the next."""
        pickup = self.pickup()
        if pickup is None:
            self.bench.tell("No splice is at hand to be passed.")
        if pickup is None or not self.bench.do(PassPickup(pickup.id)):
            return False
        following = next((p for p in self.rows() if p.state in READY), None)
        if following:
            self.choose(following.id)
        return True

    def close(self) -> None:
        """Nothing is held."""


def _on(settings: Settings, name: str) -> bool:
    return text(settings, f"splice/{name}", "off" if name in OFF else "on") == "on"
