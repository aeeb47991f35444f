"""The acts of the Splice desk: hearing a splice, putting it in, passing it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from faithful_reel.app.actions import Act, Menu
from faithful_reel.app.desks import DeskName
from faithful_reel.app.splice.presenter import SplicePresenter
from faithful_reel.app.transport.presenter import Transport
from faithful_reel.core.reel.reel import Reel

AT = DeskName.SPLICE
AROUND_S, CONTEXT_S = 0.6, 3.0


@dataclass
class SpliceActs:
    """What the user can do at the Splice desk."""

    presenter: SplicePresenter
    transport: Transport

    @property
    def acts(self) -> Sequence[Act[SpliceActs]]:
        """The table below."""
        return ACTS

    def _hear(self, found: tuple[Reel, int, int] | None) -> None:
        if found is not None:
            self.transport.hear_reel(*found)
        else:
            self.presenter.bench.tell("There is no splice to hear. Choose a line that has a take.")

    def hear_before(self) -> None:
        """The line as it is."""
        self._hear(self.presenter.before())

    def hear_after(self) -> None:
        """The line as it would be."""
        self._hear(self.presenter.after(AROUND_S))

    def hear_context(self) -> None:
        """The line as it would be, with what stands around it."""
        self._hear(self.presenter.after(CONTEXT_S))

    def place(self) -> None:
        """Put the take in."""
        self.transport.stop()
        self.presenter.place()

    def passed(self) -> None:
        """It is good."""
        self.presenter.pass_()


A, S = SpliceActs, Menu.SPLICE
ACTS: tuple[Act[SpliceActs], ...] = (
    Act("splice.place", S, "Put the take in", "Ctrl+Return", "Splice the take at the chosen boundaries", A.place, AT, apart=True),
    Act("splice.pass", S, "Pass", "Ctrl+Shift+Return", "The splice was heard and is good", A.passed, AT),
    Act("splice.hear_before", S, "Hear before", "Ctrl+Alt+1", "The line as the chapter has it now", A.hear_before, AT, apart=True),
    Act("splice.hear_after", S, "Hear after", "Ctrl+Alt+2", "The line with the take in it", A.hear_after, AT),
    Act("splice.hear_context", S, "Hear in context", "Ctrl+Alt+3", "With three seconds on either side", A.hear_context, AT),
)  # fmt: skip
