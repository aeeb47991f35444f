"""The acts that are done all day: hear, try, compare, go on; pauses, edges and what slides."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

from PyQt6.QtCore import QTimer

from faithful_reel.app.actions import Act, Menu, On
from faithful_reel.app.desks import DeskName
from faithful_reel.app.editing.by_ear import AT_ONCE, GO_ON, NEXT, SPAN_LEAD, ByEar
from faithful_reel.app.editing.pacing import Edge, Timing
from faithful_reel.app.editing.presenter import Reach
from faithful_reel.app.history import HistoryPane
from faithful_reel.app.widgets.field_bar import Answer, FieldBar, Number
from faithful_reel.app.widgets.parts import ActSource
from faithful_reel.app.window import Window

RESTS_MS = 220
"""A key that comes again sooner is held down: what it made is heard once it rests."""
AT = DeskName.PROOF


@dataclass
class EarActs:
    """What the user does by ear."""

    ear: ByEar
    timing: Timing
    window: Window

    def __post_init__(self) -> None:
        self.editing, self.transport, self.bench = self.ear.editing, self.ear.transport, self.ear.bench
        self._last = 0.0
        self._resting = QTimer(self.window)
        self._resting.setSingleShot(True)
        self._resting.setInterval(RESTS_MS)
        self._resting.timeout.connect(self.ear.hear_join)
        self.window.loupe.slid.connect(self._slid)

    @property
    def acts(self) -> Sequence[Act[EarActs]]:
        """The table below."""
        return ACTS

    def bind(self, acts: ActSource) -> None:
        """Whose checks follow the settings."""
        self._bound = acts
        self.editing.listen(self._follow)
        self._follow()

    def _follow(self) -> None:
        for name, act in SWITCHES.items():
            self._bound[act].setChecked(self.ear.on[name])

    @property
    def _bar(self) -> FieldBar:
        return self.window.bar

    @property
    def _history(self) -> HistoryPane:
        return self.window.history

    # --- hearing --------------------------------------------------------------------------------------------------

    def marked(self) -> None:
        """What is marked, else the sentence."""
        self.ear.hear_marked()

    def join(self) -> None:
        """What was just made, else the nearest join."""
        self.ear.hear_join()

    def as_it_was(self) -> None:
        """Before the last step, and back."""
        self.ear.as_it_was()

    def as_received(self) -> None:
        """As it was recorded, and back."""
        self.ear.as_received()

    def as_at(self) -> None:
        """As it was at the step that is chosen in the history."""
        step = self._history.chosen
        if not self._history.isVisible() or step < 0:
            self.bench.tell("Open the history first, and choose a step in it (Ctrl+H).")
        else:
            self.ear.as_at(step)

    def around(self) -> None:
        """Ask how much."""
        field = Number("Before and after", self.ear.around_s, 0.2, 10.0, 0.1, "s", 1)
        self._bar.ask("How much of a join is heard", [field], self._set_around, back_to=self.window.galley)

    def _set_around(self, values: tuple[Answer, ...]) -> None:
        self.ear.set_around(float(values[0]))
        self.ear.hear_join()

    def switch(self, name: str) -> None:
        """Turn a setting on, or off."""
        self.ear.switch(name)

    # --- what is heard once its key rests -------------------------------------------------------------------------

    def _made(self, do: Callable[[], bool]) -> None:
        """Do a small step and let hear what it made: at once, or, while its key is held down, when that rests."""
        now = time.monotonic()
        held, self._last = now - self._last < RESTS_MS / 1000, now
        self._resting.stop()
        self.ear.now = not held  # before anything is painted: ears come first
        try:
            done = do()
        finally:
            self.ear.now = None
        if done and held:
            self._resting.start()

    def mark_pause(self) -> None:
        """The one at the cursor."""
        self.timing.mark_pause()

    def pause(self, way: int) -> None:
        """By the step."""
        self._made(partial(self.timing.change_pause, way))

    def usual_pause(self) -> None:
        """As this reader does."""
        self._made(self.timing.usual_pause)

    def typed_pause(self) -> None:
        """Ask how long."""
        meant = self.timing.pauses_meant()
        if meant is not None:
            title, now = meant
            field = Number("Length", now, 0.0, 60.0, 0.05, "s", 3)
            about, back_to = self._pauses_meant, self.window.galley
            self._bar.ask(title, [field], self._set_pause, do="Set it", about=about, back_to=back_to)

    def _pauses_meant(self) -> str | None:
        meant = self.timing.pauses_meant()
        return meant[0] if meant is not None else None

    def _set_pause(self, values: tuple[Answer, ...]) -> None:
        self._made(partial(self.timing.set_pause, float(values[0])))

    def pause_step(self) -> None:
        """Ask by how much."""
        field = Number("Step", 1000 * self.timing.pause_step_s, 10.0, 1000.0, 10.0, "ms")
        self._bar.ask(
            "A stroke changes a pause by",
            [field],
            lambda values: self.timing.set_pause_step(float(values[0]) / 1000),
            do="Set it",
            stays=False,
            back_to=self.window.galley,
        )

    def from_here(self, reach: Reach, *, end: bool, fill: bool) -> None:
        """From the cursor on, or up to it."""
        self._made(partial(self.timing.from_here, reach, end=end, fill=fill))

    def edge(self, edge: Edge, way: int, *, carried: bool) -> None:
        """By the step."""
        self._made(partial(self.timing.move_edge, edge, way, carried=carried))

    def move_join(self, way: int) -> None:
        """By the step."""
        self._made(partial(self.timing.move_join, way))

    def step(self) -> None:
        """The next one."""
        self.timing.next_step()

    def _slid(self, by: int) -> None:
        self._made(partial(self.timing.slide_by, by))

    def slide(self, way: int) -> None:
        """By the step."""
        self._made(partial(self.timing.slide, way))


SWITCHES = {AT_ONCE: "ear.at_once", GO_ON: "ear.go_on", NEXT: "ear.next", SPAN_LEAD: "ear.span_lead"}
A, E, L, S = EarActs, Menu.EDIT, Menu.LISTEN, Menu.SOUND
PAGE = On.PAGE
REACHES = {Reach.WORD: "F3", Reach.SENTENCE: "F4", Reach.PAUSE: "F5", Reach.PIECE: "F7", Reach.CHAPTER: "F8"}
"""A key for each: alone it takes out from the cursor to its end, with Shift from its start; with Ctrl it fills."""


def _from_here() -> list[Act[EarActs]]:
    found: list[Act[EarActs]] = []
    for fill in (False, True):
        for end in (True, False):
            for reach, key in REACHES.items():
                what = "Fill" if fill else "Take out"
                words = f"{what} {'to the end' if end else 'from the start'} of the {reach.value}"
                held = ("Ctrl+" if fill else "") + ("" if end else "Shift+")
                name = f"here.{'fill' if fill else 'out'}_{'to' if end else 'from'}_{reach.value}"
                tip = "From the cursor to there" if end else "From there to the cursor"
                do = partial(A.from_here, reach=reach, end=end, fill=fill)
                found.append(
                    Act(
                        name,
                        E,
                        words,
                        held + key,
                        tip,
                        do,
                        AT,
                        PAGE,
                        rank=1,
                        within="Fill from here" if fill else "Take out from here",
                        apart=reach is Reach.WORD,
                    )
                )
    return found


def _edges() -> list[Act[EarActs]]:
    found: list[Act[EarActs]] = []
    for carried in (False, True):
        for edge, key in ((Edge.START, "F9"), (Edge.END, "F12")):
            for way in (1, -1):
                words = f"{'Edge' if carried else 'Border'}: {edge.value} {'later' if way > 0 else 'earlier'}"
                held = ("Ctrl+" if carried else "") + ("" if way > 0 else "Shift+")
                tip = "Of the piece at the cursor, by the step; " + (
                    "what follows is carried along" if carried else "the piece beside it gives as much"
                )
                name = f"edge.{edge.value}_{'later' if way > 0 else 'earlier'}{'_carried' if carried else ''}"
                do = partial(A.edge, edge=edge, way=way, carried=carried)
                found.append(
                    Act(
                        name,
                        S,
                        words,
                        held + key,
                        tip,
                        do,
                        AT,
                        PAGE,
                        rank=1,
                        within="Edges of the piece",
                        apart=way > 0 and edge is Edge.START and carried,
                    )
                )
    return found


ACTS: tuple[Act[EarActs], ...] = (
    Act("ear.marked", L, "Hear what is marked", "Shift+Space", "Once; with Loop again and again. Where nothing is marked the sentence at the cursor", A.marked, AT, rank=1, apart=True),
    Act("ear.join", L, "Hear the join", "F11", "What the last step made, else the join nearest to the cursor, with a little before and after", A.join, AT, rank=1),
    Act("ear.as_it_was", L, "As it was, and back", "Shift+B", "While a place sounds: the same words before the last step, without a gap; again: as they are", A.as_it_was, AT, rank=1),
    Act("ear.as_received", L, "As received, and back", "Shift+R", "While a place sounds: the same words as they were recorded; again: as they are", A.as_received, AT, rank=1),
    Act("ear.as_at", L, "As at the chosen step, and back", "Shift+H", "While a place sounds: the same words at the step that is chosen in the history; again: as they are", A.as_at, AT, rank=1),
    Act("ear.around", L, "How much of a join is heard…", "", "Seconds before and after it", A.around, AT, rank=1, within="Heard at once", apart=True),
    Act("ear.at_once", L, "Hear every edit at once", "", "Each act on the sound plays what it made by itself", partial(A.switch, name=AT_ONCE), rank=1, within="Heard at once", checkable=True),
    Act("ear.go_on", L, "Go on playing after an edit", "", "Where the chapter was playing it goes on from the place", partial(A.switch, name=GO_ON), rank=1, within="Heard at once", checkable=True),
    Act("ear.next", L, "A decision plays the next finding", "", "As in the quick check", partial(A.switch, name=NEXT), rank=1, within="Heard at once", checkable=True),
    Act("ear.span_lead", L, "What is marked with the lead-in", "", "The lead-in of the foot is heard before it", partial(A.switch, name=SPAN_LEAD), rank=1, within="Heard at once", checkable=True),
    Act("pause.mark", E, "Mark the pause", "Shift+U", "The pause at the cursor, and nothing else", A.mark_pause, AT, PAGE, rank=1, within="Span"),
    Act("pause.shorter", S, "Pause shorter", "Ctrl+,", "That at the cursor, by the step, out of its quietest part; breaths stay. Several that are marked in proportion", partial(A.pause, way=-1), AT, PAGE, rank=1, within="Pauses", apart=True),
    Act("pause.longer", S, "Pause longer", "Ctrl+.", "That at the cursor, by the step, with room tone. Several that are marked in proportion", partial(A.pause, way=1), AT, PAGE, rank=1, within="Pauses"),
    Act("pause.usual", S, "Pause as usual with this reader", "Ctrl+Alt+U", "As long as the reader usually makes it at such a place", A.usual_pause, AT, PAGE, rank=1, within="Pauses"),
    Act("pause.typed", S, "Pause of so many seconds…", "Ctrl+Alt+T", "Typed; of several that are marked the longest, the others in proportion", A.typed_pause, AT, PAGE, rank=1, within="Pauses"),
    Act("pause.step", S, "Step of pauses…", "", "By how much a stroke changes a pause", A.pause_step, AT, rank=1, within="Pauses"),
    *_from_here(),
    *_edges(),
    Act("edit.join_earlier", S, "Join earlier", "Alt+Left", "Move the join nearest to the cursor to the left by the step, and hear it", partial(A.move_join, way=-1), AT, PAGE, rank=1, within="Edges of the piece", apart=True),
    Act("edit.join_later", S, "Join later", "Alt+Right", "Move the join nearest to the cursor to the right by the step, and hear it", partial(A.move_join, way=1), AT, PAGE, rank=1, within="Edges of the piece"),
    Act("edge.step", S, "Step of edges, joins and slides", "Shift+L", "1, 5, 10, 20, 50, 100 ms", A.step, AT, rank=1, within="Edges of the piece"),
    Act("slide.earlier", S, "Slide earlier", "Shift+I", "What is marked, or the word at the cursor, by the step; nothing else moves", partial(A.slide, way=-1), AT, PAGE, rank=1, within="Edges of the piece", apart=True),
    Act("slide.later", S, "Slide later", "Shift+O", "What is marked, or the word at the cursor, by the step; nothing else moves", partial(A.slide, way=1), AT, PAGE, rank=1, within="Edges of the piece"),
)  # fmt: skip
