"""The question which recordings come in as lanes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QWidget,
)

from faithful_reel.app.widgets.parts import Choice

VOICE, MUSIC = "another voice", "music"
AFTER, APART = "one after another on one lane", "side by side, a lane for each"


@dataclass(frozen=True, slots=True)
class LanesAsked:
    """Which recordings, as what, how arranged, and what they are called."""

    recordings: tuple[str, ...]
    music: bool
    apart: bool
    name: str


class LaneDialog(QDialog):
    """Recordings to choose from, several at once."""

    def __init__(self, parent: QWidget | None, recordings: Sequence[tuple[str, str]]) -> None:
        super().__init__(parent)
        self.setWindowTitle("Add a lane")
        self.list = QListWidget()
        self.list.setAccessibleName("Recordings")
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        for key, name in recordings:
            item = QListWidgetItem(name)
            item.setData(Qt.ItemDataRole.UserRole, key)
            self.list.addItem(item)
        if recordings:
            self.list.setCurrentRow(0)
        self.kind, self.order, self.name = Choice(), Choice(), QLineEdit()
        self.kind.addItems([VOICE, MUSIC])
        self.order.addItems([AFTER, APART])
        form = QFormLayout(self)
        for words, field in (
            ("From the cursor on", self.list), ("It is", self.kind), ("Several", self.order), ("Name", self.name),
        ):  # fmt: skip
            field.setAccessibleName(words)
            form.addRow(words, field)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        form.addRow(buttons)

    @property
    def asked(self) -> LanesAsked:
        """What was chosen, the recordings from the top."""
        chosen = sorted(self.list.selectedItems(), key=self.list.row)
        keys = tuple(str(item.data(Qt.ItemDataRole.UserRole)) for item in chosen)
        return LanesAsked(keys, self.kind.currentText() == MUSIC, self.order.currentText() == APART, self.name.text())


def ask_for_lanes(parent: QWidget | None, recordings: Sequence[tuple[str, str]]) -> LanesAsked | None:
    """What the user chooses; None where the user thought better of it."""
    dialog = LaneDialog(parent, recordings)
    return dialog.asked if dialog.exec() else None
