"""The acts of the Pickups desk: sending, receiving, hearing and choosing takes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from faithful_reel.app.actions import Act, Menu
from faithful_reel.app.asking import SOUNDS, Asking, with_suffix
from faithful_reel.app.desks import DeskName
from faithful_reel.app.pickups.panel import PickupsPanel
from faithful_reel.app.pickups.presenter import PickupsPresenter
from faithful_reel.app.transport.presenter import Transport

AT = DeskName.PICKUPS


@dataclass
class PickupsActs:
    """What the user can do at the Pickups desk."""

    presenter: PickupsPresenter
    panel: PickupsPanel
    transport: Transport
    ask: Asking

    @property
    def acts(self) -> Sequence[Act[PickupsActs]]:
        """The table below."""
        return ACTS

    def receive(self) -> None:
        """Receive a pickup recording."""
        if path := self.ask.file("Receive a pickup recording", SOUNDS):
            self.presenter.receive(path)

    def send(self) -> None:
        """Write the call sheet."""
        if asked := self.ask.new_file("Write the call sheet", "call-sheet.csv", "Table (*.csv)"):
            self.presenter.send(with_suffix(asked[0], ".csv"))

    def hear_original(self) -> None:
        """The line as the chapter has it."""
        if (reel := self.presenter.original()) is not None:
            self.transport.hear_reel(reel)

    def hear_take(self) -> None:
        """The take in the chosen row."""
        if (reel := self.presenter.take_reel(self.panel.take)) is not None:
            self.transport.hear_reel(reel)

    def choose(self) -> None:
        """Use the take in the chosen row."""
        if self.panel.take < 0 or not self.presenter.choose_take(self.panel.take):
            self.presenter.bench.tell("Choose a take in the lower table first.")


A, B = PickupsActs, Menu.SPLICE
ACTS: tuple[Act[PickupsActs], ...] = (
    Act("pickups.send", B, "Write the call sheet…", "Ctrl+Shift+L", "All lines to send, as CSV", A.send),
    Act("pickups.receive", B, "Receive a pickup recording…", "Ctrl+Shift+P", "Find which stretch of it reads which line", A.receive),
    Act("pickups.hear_original", B, "Hear the original", "", "The line as the chapter has it", A.hear_original, AT, apart=True),
    Act("pickups.hear_take", B, "Hear the take", "", "The take in the chosen row", A.hear_take, AT),
    Act("pickups.choose", B, "Choose this take", "", "Use the take in the chosen row", A.choose, AT),
)  # fmt: skip
