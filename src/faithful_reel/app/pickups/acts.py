"""The acts of the Pickups desk: asking, sending, receiving, hearing and choosing takes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from faithful_reel.app.actions import Act, Menu
from faithful_reel.app.asking import SOUNDS, Asking, with_suffix
from faithful_reel.app.desks import DeskName
from faithful_reel.app.pickups.panel import PickupsPanel
from faithful_reel.app.pickups.presenter import PickupsPresenter
from faithful_reel.app.pickups.send_dialog import ask_for_round
from faithful_reel.app.settings import Settings
from faithful_reel.app.transport.presenter import Transport

AT = DeskName.PICKUPS


@dataclass
class PickupsActs:
    """What the user can do at the Pickups desk."""

    presenter: PickupsPresenter
    panel: PickupsPanel
    transport: Transport
    ask: Asking
    settings: Settings

    @property
    def acts(self) -> Sequence[Act[PickupsActs]]:
        """The table below."""
        return ACTS

    def receive(self) -> None:
        """Receive a pickup recording, or several."""
        for path in self.ask.several("Receive pickup recordings", SOUNDS):
            self.presenter.receive(path)

    def send(self) -> None:
        """Write the call sheet and its clips, and send the round."""
        found = self.presenter.next_round()
        if found is None:
            return
        count = len(found.round.pickups)
        asked = ask_for_round(self.ask.parent, self.settings, found.round.number, count, self.presenter.today())
        if asked is None:
            return
        kinds = "Zip archive (*.zip)" if asked.sending.as_zip else "New folder (*)"
        name = f"round-{found.round.number}" + (".zip" if asked.sending.as_zip else "")
        if target := self.ask.new_file(f"Write round {found.round.number}", name, kinds):
            path = with_suffix(target[0], ".zip") if asked.sending.as_zip else target[0]
            self.presenter.send(path, asked.sending, asked.due, asked.to, asked.note)

    def hear_original(self) -> None:
        """The line as the chapter has it."""
        if (reel := self.presenter.original()) is not None:
            self.transport.hear_reel(reel)

    def hear_take(self) -> None:
        """The take at hand."""
        if (reel := self.presenter.take_reel(self.panel.take)) is not None:
            self.transport.hear_reel(reel)

    def choose(self) -> None:
        """Use the take at hand."""
        if self.panel.take < 0 or not self.presenter.choose_take(self.panel.take):
            self.presenter.bench.tell("Choose a take first.")

    def from_here(self) -> None:
        """Words of two takes."""
        self.presenter.from_here(self.panel.takes.word, self.panel.take)

    def drop_take(self) -> None:
        """It reads another line."""
        if self.panel.take < 0 or not self.presenter.drop_take(self.panel.take):
            self.presenter.bench.tell("Choose a take first.")

    def hear_left(self) -> None:
        """A stretch that fits no line."""
        if (reel := self.presenter.unmatched_reel(self.panel.stretch)) is not None:
            self.transport.hear_reel(reel)
        else:
            self.presenter.bench.tell("Choose a stretch that fits no line first.")

    def give(self) -> None:
        """Give it to the line."""
        self.presenter.give(self.panel.stretch)

    def join(self) -> None:
        """Read lines in one go."""
        self.presenter.join()

    def widen(self) -> None:
        """The whole sentence."""
        self.presenter.widen()

    def split(self) -> None:
        """Read a line in parts."""
        self.presenter.split()

    def ask_again(self) -> None:
        """Send it again."""
        self.presenter.ask_again()

    def drop(self) -> None:
        """It is not wanted."""
        self.presenter.drop()


A, B = PickupsActs, Menu.SPLICE
LINE = "Lines and takes"
ACTS: tuple[Act[PickupsActs], ...] = (
    Act("pickups.send", B, "Send a round…", "Ctrl+Shift+L", "Write the call sheet of all lines to send, and of those that did not come back", A.send),
    Act("pickups.receive", B, "Receive a pickup recording…", "Ctrl+Shift+P", "Find which stretch of it reads which line", A.receive),
    Act("pickups.hear_original", B, "Hear the original", "Ctrl+F3", "The line as the chapter has it", A.hear_original, AT, apart=True, within=LINE),
    Act("pickups.hear_take", B, "Hear the take", "Ctrl+F5", "The take at hand", A.hear_take, AT, within=LINE),
    Act("pickups.choose", B, "Use this take", "Ctrl+F8", "Use the take at hand", A.choose, AT, within=LINE),
    Act("pickups.from_here", B, "From this word on", "Ctrl+Shift+F3", "Take the words from the chosen one on from the take at hand", A.from_here, AT, within=LINE),
    Act("pickups.drop_take", B, "Not this line", "Shift+F5", "The take at hand reads another line", A.drop_take, AT, within=LINE),
    Act("pickups.hear_left", B, "Hear what fits no line", "Shift+F3", "The stretch in the chosen row", A.hear_left, AT, within=LINE),
    Act("pickups.give", B, "Give it to the line", "Shift+F4", "The stretch in the chosen row becomes a take of the line at hand", A.give, AT, within=LINE),
    Act("pickups.join", B, "Join lines", "Ctrl+F11", "Read the chosen lines in one go; of one line those that are near it", A.join, AT, apart=True, within=LINE),
    Act("pickups.widen", B, "Read more of the sentence", "Ctrl+Alt+F11", "Read the whole sentence that the line is of; of a whole one the sentence before it too", A.widen, AT, within=LINE),
    Act("pickups.split", B, "Split the line", "Ctrl+Shift+F11", "Read the line as one line a sentence", A.split, AT, within=LINE),
    Act("pickups.ask_again", B, "Ask again", "Shift+F11", "The chosen lines go out with the next round", A.ask_again, AT, within=LINE),
    Act("pickups.drop", B, "Drop", "Ctrl+Shift+F5", "The chosen lines are not wanted any more", A.drop, AT, within=LINE),
)  # fmt: skip
