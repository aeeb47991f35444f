"""The acts of the Splice desk: hearing a splice, moving its ends, putting it in, taking it out, passing it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

from faithful_reel.app.actions import Act, Menu
from faithful_reel.app.desks import DeskName
from faithful_reel.app.splice.presenter import AROUND_S, SWITCHES, SplicePresenter
from faithful_reel.app.transport.presenter import Transport
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.units import samples

AT = DeskName.SPLICE
CONTEXT_S, NUDGE_S = 3.0, 0.001
NOTHING = "There is no splice to hear. Choose a line that has a take."


@dataclass
class SpliceActs:
    """What the user can do at the Splice desk."""

    presenter: SplicePresenter
    transport: Transport
    heard: tuple[str, str, int, int] = ("", "", 0, 0)
    """Of which line which of before, after and take was begun last, and from where to where."""

    @property
    def acts(self) -> Sequence[Act[SpliceActs]]:
        """The table below."""
        return ACTS

    def _hear(self, found: tuple[Renderer, int, int] | None, *, loop: bool = False) -> None:
        if found is not None:
            self.transport.hear_sound(found[0].render, found[1], found[2], loop=loop)
        else:
            self.presenter.bench.tell(NOTHING)

    def _begin(self, which: str, start: int, stop: int) -> int:
        """Where to begin: while another of the three is heard, at the same word."""
        pickup = self.presenter.pickup()
        line, heard, first, last = self.heard
        self.heard = pickup.id if pickup is not None else "", which, start, stop
        at = self.transport.player.position
        if line != self.heard[0] or heard == which or not self.transport.playing or not first <= at < last:
            return start
        there = self.presenter.same_place(heard, at, which)
        return start if there is None else max(start, min(stop - 1, there))

    def hear_before(self) -> None:
        """The line as it is."""
        found = self.presenter.before()
        if found is not None:
            reel, start, stop = found
            self.transport.hear_reel(reel, self._begin("before", start, stop), stop)
        else:
            self.presenter.bench.tell(NOTHING)

    def hear_after(self) -> None:
        """The line as it would be."""
        found = self.presenter.after(AROUND_S)
        if found is not None:
            renderer, start, stop = found
            self.transport.hear_sound(renderer.render, self._begin("after", start, stop), stop)
        else:
            self.presenter.bench.tell(NOTHING)

    def hear_context(self) -> None:
        """The line as it would be, with what stands around it."""
        self._hear(self.presenter.after(CONTEXT_S))

    def hear_take(self) -> None:
        """The take alone."""
        found = self.presenter.take()
        if found is not None:
            reel, start, stop = found
            self.transport.hear_reel(reel, self._begin("take", start, stop), stop)
        else:
            self.presenter.bench.tell(NOTHING)

    def hear_in(self) -> None:
        """The first join over and over."""
        self._hear(self.presenter.join(entering=True), loop=True)

    def hear_out(self) -> None:
        """The last join over and over."""
        self._hear(self.presenter.join(entering=False), loop=True)

    def switch(self, name: str) -> None:
        """Match something or leave it, and hear the line so."""
        planned = self.presenter.current_plan()
        if planned is None:
            self.presenter.bench.tell("No splice is planned that could be matched otherwise.")
            return
        self.presenter.planned_anew = planned.pickup.id, self.hear_after
        self.presenter.switch(name, on=not getattr(self.presenter.switches, name))

    def place(self) -> None:
        """Put the take in."""
        self.transport.stop()
        self.presenter.place()

    def place_chapter(self) -> None:
        """Put all of the chapter in."""
        self.transport.stop()
        self.presenter.place_all(self.presenter.bench.chapter_id)

    def place_book(self) -> None:
        """Put all of the book in."""
        self.transport.stop()
        self.presenter.place_all()

    def take_out(self) -> None:
        """Take it out again."""
        self.transport.stop()
        self.presenter.take_out()

    def hear_again(self) -> None:
        """Have the ears hear it."""
        self.presenter.hear_again()

    def passed(self) -> None:
        """It is good."""
        self.presenter.pass_()

    def next_line(self) -> None:
        """The next line."""
        self.presenter.step(1)

    def line_before(self) -> None:
        """The line before."""
        self.presenter.step(-1)

    def in_next(self) -> None:
        """Another place to begin."""
        self.presenter.other_proposal(1, entering=True)

    def in_better(self) -> None:
        """The better place to begin."""
        self.presenter.other_proposal(-1, entering=True)

    def out_next(self) -> None:
        """Another place to end."""
        self.presenter.other_proposal(1, entering=False)

    def out_better(self) -> None:
        """The better place to end."""
        self.presenter.other_proposal(-1, entering=False)

    def _nudge(self, way: int, *, entering: bool, fine: bool = False) -> None:
        by = 1 if fine else max(1, samples(NUDGE_S, self.presenter.bench.book.rate))
        self.presenter.nudge(way * by, entering=entering)

    def valley(self, *, way: int, entering: bool) -> None:
        """An end at the next quiet place."""
        self.presenter.nudge_to_valley(way, entering=entering)

    def in_later(self) -> None:
        """Begin later."""
        self._nudge(1, entering=True)

    def in_earlier(self) -> None:
        """Begin earlier."""
        self._nudge(-1, entering=True)

    def out_later(self) -> None:
        """End later."""
        self._nudge(1, entering=False)

    def out_earlier(self) -> None:
        """End earlier."""
        self._nudge(-1, entering=False)

    def in_later_fine(self) -> None:
        """Begin a sample later."""
        self._nudge(1, entering=True, fine=True)

    def in_earlier_fine(self) -> None:
        """Begin a sample earlier."""
        self._nudge(-1, entering=True, fine=True)

    def out_later_fine(self) -> None:
        """End a sample later."""
        self._nudge(1, entering=False, fine=True)

    def out_earlier_fine(self) -> None:
        """End a sample earlier."""
        self._nudge(-1, entering=False, fine=True)


A, S = SpliceActs, Menu.SPLICE
ENDS, HEAR, MATCH = "Move the ends", "Hear the splice", "Match or leave"
KEYS = {"level": "L", "tone": "T", "room": "R", "echo": "E", "breath": "B", "pace": "P", "pitch": "H"}
ACTS: tuple[Act[SpliceActs], ...] = (
    Act("splice.place", S, "Put the take in", "Ctrl+Return", "Splice the take at the chosen boundaries", A.place, AT, apart=True),
    Act("splice.place_chapter", S, "Put in all of this chapter", "Ctrl+Shift+F8", "All chosen takes of the chapter in one step; the doubtful ones are left", A.place_chapter, AT),
    Act("splice.place_book", S, "Put in all of the book", "", "All chosen takes of the book in one step; the doubtful ones are left", A.place_book, AT),
    Act("splice.take_out", S, "Take it out again", "Ctrl+Backspace", "What was there before comes back", A.take_out, AT),
    Act("splice.hear_again", S, "Check by ear", "F11", "The ears hear the line as it stands in the chapter", A.hear_again, AT),
    Act("splice.pass", S, "Pass", "Ctrl+Shift+Return", "The splice was heard and is good", A.passed, AT),
    Act("splice.next", S, "Next line with a take", "Ctrl+F7", "Take the next line in hand", A.next_line, AT),
    Act("splice.before", S, "Line with a take before", "Ctrl+Shift+F7", "Take the line before in hand", A.line_before, AT),
    Act("splice.hear_before", S, "Hear before", "Ctrl+Alt+1", "The line as the chapter has it now", A.hear_before, AT, within=HEAR),
    Act("splice.hear_after", S, "Hear after", "Ctrl+Alt+2", "The line with the take in it", A.hear_after, AT, within=HEAR),
    Act("splice.hear_context", S, "Hear in context", "Ctrl+Alt+3", "With three seconds on either side", A.hear_context, AT, within=HEAR),
    Act("splice.hear_take", S, "Hear the take alone", "F5", "As loud as the chapter", A.hear_take, AT, within=HEAR),
    Act("splice.hear_in", S, "Hear where it begins", "F3", "The first join, over and over", A.hear_in, AT, within=HEAR),
    Act("splice.hear_out", S, "Hear where it ends", "F4", "The last join, over and over", A.hear_out, AT, within=HEAR),
    Act("splice.in_next", S, "Begin at the next proposal", "F7", "The next best place for the take to begin", A.in_next, AT, within=ENDS),
    Act("splice.in_better", S, "Begin at the better proposal", "Shift+F7", "The better place for the take to begin", A.in_better, AT, within=ENDS),
    Act("splice.out_next", S, "End at the next proposal", "F8", "The next best place for the take to end", A.out_next, AT, within=ENDS),
    Act("splice.out_better", S, "End at the better proposal", "Shift+F8", "The better place for the take to end", A.out_better, AT, within=ENDS),
    Act("splice.in_later", S, "Begin 1 ms later", "F9", "Move the join where the take begins", A.in_later, AT, within=ENDS, apart=True),
    Act("splice.in_earlier", S, "Begin 1 ms earlier", "Shift+F9", "Move the join where the take begins", A.in_earlier, AT, within=ENDS),
    Act("splice.out_later", S, "End 1 ms later", "F12", "Move the join where the take ends", A.out_later, AT, within=ENDS),
    Act("splice.out_earlier", S, "End 1 ms earlier", "Shift+F12", "Move the join where the take ends", A.out_earlier, AT, within=ENDS),
    Act("splice.in_later_fine", S, "Begin one sample later", "Ctrl+F9", "Move the join where the take begins", A.in_later_fine, AT, within=ENDS),
    Act("splice.in_earlier_fine", S, "Begin one sample earlier", "Ctrl+Shift+F9", "Move the join where the take begins", A.in_earlier_fine, AT, within=ENDS),
    Act("splice.out_later_fine", S, "End one sample later", "Ctrl+F12", "Move the join where the take ends", A.out_later_fine, AT, within=ENDS),
    Act("splice.out_earlier_fine", S, "End one sample earlier", "Ctrl+Shift+F12", "Move the join where the take ends", A.out_earlier_fine, AT, within=ENDS),
    Act("splice.in_valley", S, "Begin at the next quiet place", "Alt+F9", "Move the join where the take begins", partial(A.valley, way=1, entering=True), AT, within=ENDS, apart=True),
    Act("splice.in_valley_before", S, "Begin at the quiet place before", "Alt+Shift+F9", "Move the join where the take begins", partial(A.valley, way=-1, entering=True), AT, within=ENDS),
    Act("splice.out_valley", S, "End at the next quiet place", "Alt+F12", "Move the join where the take ends", partial(A.valley, way=1, entering=False), AT, within=ENDS),
    Act("splice.out_valley_before", S, "End at the quiet place before", "Alt+Shift+F12", "Move the join where the take ends", partial(A.valley, way=-1, entering=False), AT, within=ENDS),
    *(
        Act(f"splice.match_{name}", S, name.capitalize(), f"Alt+Shift+{KEYS[name]}", f"{told}, or not; and hear the line so", partial(A.switch, name=name), AT, within=MATCH)
        for name, told in SWITCHES.items()
    ),
)  # fmt: skip
