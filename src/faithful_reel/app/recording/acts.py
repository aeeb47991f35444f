"""The act that takes a line to the microphone."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PyQt6.QtWidgets import QWidget

from faithful_reel.app.actions import Act, Menu
from faithful_reel.app.desks import DeskName, Desks
from faithful_reel.app.editing.presenter import Editing
from faithful_reel.app.recording.dialog import RecordDialog
from faithful_reel.app.recording.over import OverPresenter
from faithful_reel.app.recording.presenter import RecordPresenter
from faithful_reel.app.recording.recorder import Recorder
from faithful_reel.app.settings import Settings
from faithful_reel.app.theme import Theme


@dataclass
class RecordingActs:
    """What the user can do to record at the desk."""

    presenter: RecordPresenter
    over: OverPresenter
    editing: Editing
    desks: Desks
    settings: Settings
    window: QWidget
    theme: Callable[[], Theme]
    inputs: Callable[[], Sequence[str]]

    @property
    def acts(self) -> Sequence[Act[RecordingActs]]:
        """The table below."""
        return ACTS

    def record(self) -> None:
        """Record the line at hand; at the Proof desk the sentences of the words that are chosen."""
        self.presenter.transport.stop()
        if self._begin():
            self.dialog(self.presenter).exec()

    def record_over(self) -> None:
        """Record what is marked anew, or the word at the cursor."""
        self.over.transport.stop()
        if self.over.begin():
            self.dialog(self.over).exec()

    def dialog(self, presenter: Recorder) -> RecordDialog:
        """What is wanted at the microphone."""

        def chosen(name: str) -> None:
            self.settings.setValue("record/input", name)

        return RecordDialog(self.window, presenter, self.theme(), self.inputs(), chosen)

    def _begin(self) -> bool:
        presenter = self.presenter
        if self.desks.current is DeskName.SPLICE and (pickup := presenter.splice.pickup()) is not None:
            presenter.pickups.choose(pickup.id)
        if self.desks.current is DeskName.PROOF:
            first, last = self.editing.words()
            return presenter.begin_words(range(first, last + 1) if first >= 0 else range(0))
        return presenter.begin()


ACTS: tuple[Act[RecordingActs], ...] = (
    Act(
        "record.line", Menu.SPLICE, "Record here…", "Ctrl+Alt+R",
        "Record the line at hand, or the sentences of the chosen words, from the sound input", RecordingActs.record, apart=True,
    ),
    Act(
        "record.over", Menu.EDIT, "Record over what is marked…", "Ctrl+Alt+Shift+R",
        "Record any stretch anew, hear it in its place, and lay it over; the word at the cursor where nothing is marked",
        RecordingActs.record_over, desk=DeskName.PROOF, apart=True,
    ),
)  # fmt: skip
