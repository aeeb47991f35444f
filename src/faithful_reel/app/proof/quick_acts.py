"""The acts of the quick check and of what was learned."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from faithful_reel.app.actions import Act, Menu, On
from faithful_reel.app.desks import DeskName, Desks
from faithful_reel.app.proof.learned_pane import LearnedPane
from faithful_reel.app.proof.panel import ProofPanel
from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.proof.quick_check import QuickCheck
from faithful_reel.app.proof.quick_pane import QuickPane

AT, WITHIN = DeskName.PROOF, "Quick check"


@dataclass
class QuickActs:
    """What the user can do in the quick check, and with what was learned."""

    presenter: ProofPresenter
    quick: QuickCheck
    panel: ProofPanel
    desks: Desks

    def __post_init__(self) -> None:
        self.bench = self.presenter.bench
        self.pane, self.learned = QuickPane(self.quick), LearnedPane(self.presenter)
        for pane in (self.pane, self.learned):
            self.panel.add_side(pane)
        self.pane.left.connect(self.leave)
        self.learned.left.connect(self.show_learned)

    @property
    def acts(self) -> Sequence[Act[QuickActs]]:
        """The table below."""
        return ACTS

    @property
    def _seen(self) -> bool:
        return self.panel.side.currentWidget() is self.pane

    def start(self) -> None:
        """Start the run, or leave it."""
        if not self._seen:
            self.panel.toggle_side(self.pane)
            self.quick.start()
            self.pane.refresh()
        elif self.quick.running or not self.quick.start():
            self.leave()

    def leave(self) -> None:
        """Back to the docket."""
        self.quick.stop()
        if self._seen:
            self.panel.toggle_side(self.pane)

    def _in_run(self) -> bool:
        """Whether a run is seen; says what to do where it is not."""
        seen = self._seen and self.quick.running
        if not seen:
            self.bench.tell("No quick check is going on. Start it first (Shift+Q).")
        return seen

    def keep(self) -> None:
        """It is there."""
        if self._in_run():
            self.quick.settle(kept=True)

    def let_pass(self) -> None:
        """It is nothing."""
        if self._in_run():
            self.quick.settle(kept=False)

    def again(self) -> None:
        """Once more."""
        if self._in_run():
            self.quick.again()

    def later(self) -> None:
        """The next one, this one later."""
        if self._in_run():
            self.quick.step(1)

    def back(self) -> None:
        """The one before."""
        if self._in_run():
            self.quick.step(-1)

    def show_learned(self) -> None:
        """What was learned in the docket's place, or the docket again."""
        self.desks.show(AT)
        self.quick.running = False
        self.panel.toggle_side(self.learned)

    def forget(self) -> None:
        """Forget the lesson at hand."""
        lessons, names = self.learned.chosen() if self.panel.side.currentWidget() is self.learned else ((), ())
        if not lessons and not names:
            self.bench.tell("Choose a line of what was learned first (Ctrl+Shift+Y).")
        else:
            self.presenter.forget(lessons, names)

    def forget_all(self) -> None:
        """Forget all lessons."""
        self.presenter.forget(self.bench.lessons(), self.bench.book.accepted)


A, P = QuickActs, Menu.PROOF
ACTS: tuple[Act[QuickActs], ...] = (
    Act("quick.start", P, "Quick check", "Shift+Q", "Hear what the ear is not sure of, one after another; again: leave it", A.start, AT, On.PAGE, within=WITHIN),
    Act("quick.keep", P, "Keep the doubt", "1", "It is there: it stands in the docket from now on; the next plays", A.keep, AT, On.PAGE, within=WITHIN),
    Act("quick.pass", P, "Pass the doubt", "2", "It is nothing, or may stand; the next plays", A.let_pass, AT, On.PAGE, within=WITHIN),
    Act("quick.again", P, "Hear the doubt again", "3", "Once more, with what is around it", A.again, AT, On.PAGE, within=WITHIN),
    Act("quick.later", P, "Leave the doubt for later", "4", "On to the next; this one comes at the end", A.later, AT, On.PAGE, within=WITHIN),
    Act("quick.back", P, "Back to the doubt before", "5", "Also where it is settled: it can be undone", A.back, AT, On.PAGE, within=WITHIN),
    Act("learned.show", P, "What was learned", "Ctrl+Shift+Y", "What this book's decisions changed of how sure the ear is", A.show_learned, within=WITHIN, apart=True),
    Act("learned.forget", P, "Forget a lesson", "", "The line at hand counts no more", A.forget, AT, within=WITHIN),
    Act("learned.forget_all", P, "Forget all lessons", "", "The ear's own sureness again, for all of the book", A.forget_all, AT, within=WITHIN),
)  # fmt: skip
