"""The acts of hearing the whole book."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

from faithful_reel.app.actions import Act, Menu
from faithful_reel.app.desks import DeskName, Desks
from faithful_reel.app.proof.hearing_queue import HearingQueue
from faithful_reel.app.proof.panel import ProofPanel
from faithful_reel.app.proof.queue_pane import QueuePane

AT, WITHIN = DeskName.PROOF, "Hearing the book"
FIRST = 10_000
"""More places than any queue has."""


@dataclass
class QueueActs:
    """What the user can do with the queue of chapters."""

    queue: HearingQueue
    panel: ProofPanel
    desks: Desks

    def __post_init__(self) -> None:
        self.pane = QueuePane(self.queue)
        self.panel.add_side(self.pane)
        self.pane.left.connect(self.show)

    @property
    def acts(self) -> Sequence[Act[QueueActs]]:
        """The table below."""
        return ACTS

    def show(self) -> None:
        """The queue in the docket's place, or the docket again."""
        self.desks.show(AT)
        self.panel.toggle_side(self.pane)

    def book(self) -> None:
        """Hear all that is not heard, in reading order."""
        self._hear("")

    def from_here(self) -> None:
        """The chapter at hand first."""
        self._hear(self.queue.bench.chapter_id)

    def _hear(self, first: str) -> None:
        if self.queue.hear_book(first) and self.panel.side.currentWidget() is not self.pane:
            self.show()

    def pause(self) -> None:
        """Stop for now."""
        self.queue.pause()

    def go_on(self) -> None:
        """Go on."""
        self.queue.go_on()

    def move(self, by: int) -> None:
        """The chapter at hand earlier or later."""
        if chapter := self._chosen():
            self.queue.move(chapter, by)
            self.pane.choose(chapter)

    def add(self) -> None:
        """The chapter at hand is heard as well."""
        if chapter := self._chosen():
            self.queue.add(chapter)

    def out(self) -> None:
        """Not the chapter at hand."""
        if chapter := self._chosen():
            self.queue.take_out(chapter)

    def _chosen(self) -> str:
        if not self.pane.chosen:
            self.queue.bench.tell("Choose a chapter in the list of the book's hearing first (Ctrl+Shift+H).")
        return self.pane.chosen


A, C = QueueActs, Menu.CHAPTER
ACTS: tuple[Act[QueueActs], ...] = (
    Act("queue.book", C, "Hear the whole book", "Ctrl+Shift+U", "All chapters that are not heard yet, in reading order", A.book),
    Act("queue.from_here", C, "Hear the book, this chapter first", "", "Then the others in reading order", A.from_here, within=WITHIN),
    Act("queue.show", C, "Chapters to be heard", "Ctrl+Shift+H", "The order in which they are heard, and the time left", A.show, within=WITHIN),
    Act("queue.pause", C, "Pause hearing the book", "", "What was heard is remembered", A.pause, within=WITHIN, apart=True),
    Act("queue.go_on", C, "Go on hearing the book", "", "Where it was paused", A.go_on, within=WITHIN),
    Act("queue.up", C, "Hear the chapter earlier", "", "One place, in the list of chapters to be heard", partial(A.move, by=-1), AT, within=WITHIN, apart=True),
    Act("queue.down", C, "Hear the chapter later", "", "One place, in the list of chapters to be heard", partial(A.move, by=1), AT, within=WITHIN),
    Act("queue.next", C, "Hear the chapter next", "", "Before all others that wait", partial(A.move, by=-FIRST), AT, within=WITHIN),
    Act("queue.add", C, "Hear the chapter as well", "", "After those that wait; one that was heard is heard again", A.add, AT, within=WITHIN),
    Act("queue.out", C, "Take the chapter out", "", "It is not heard now; one that is being heard is stopped", A.out, AT, within=WITHIN),
)  # fmt: skip
