"""The acts of the Master desk: mastering, and hearing before and after."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from faithful_reel.app.actions import Act, Menu
from faithful_reel.app.asking import Asking
from faithful_reel.app.desks import DeskName
from faithful_reel.app.master.presenter import MasterPresenter
from faithful_reel.app.transport.presenter import Transport
from faithful_reel.core.book.model import ChapterState

AT = DeskName.MASTER
BACK_S = 9
"""How much later the master has what the chapter has, at most: hearing it begins so much earlier."""


@dataclass
class MasterActs:
    """What the user can do at the Master desk."""

    presenter: MasterPresenter
    transport: Transport
    ask: Asking

    @property
    def acts(self) -> Sequence[Act[MasterActs]]:
        """The table below."""
        return ACTS

    def this(self) -> None:
        """Master the chapter at hand."""
        chapter = self.presenter.bench.chapter
        if self._sure([chapter] if chapter else []):
            self.presenter.master_at_hand()

    def every(self) -> None:
        """Master all that is due."""
        if self._sure(self.presenter.due()):
            self.presenter.master_all()

    def _sure(self, chapters: Sequence[ChapterState]) -> bool:
        """Whether a master without the lanes that are not heard is meant."""
        return self.ask.all_the_same("Master", self.presenter.left_unheard(chapters))

    def hear_before(self) -> None:
        """Unmastered, as loud as the master."""
        if found := self.presenter.unmastered():
            render, length = found
            self.transport.hear_sound(render, self.transport.spot, length)

    def hear_after(self) -> None:
        """The finished file."""
        renderer = self.presenter.mastered()
        if renderer is not None:
            back = BACK_S * self.presenter.bench.book.rate
            start = min(max(0, self.transport.spot - back), len(renderer) // 2)
            self.transport.hear_sound(renderer.render, start, len(renderer))


A, M = MasterActs, Menu.MASTER
ACTS: tuple[Act[MasterActs], ...] = (
    Act("master.this", M, "Master this chapter", "Ctrl+M", "Bring the chapter to the profile", A.this),
    Act("master.all", M, "Master all chapters", "Ctrl+Alt+M", "Every chapter whose master is missing or out of date", A.every),
    Act("master.hear_before", M, "Hear unmastered", "", "As loud as the master, so that the two can be compared", A.hear_before, AT, apart=True),
    Act("master.hear_after", M, "Hear the master", "", "The finished file", A.hear_after, AT),
)  # fmt: skip
