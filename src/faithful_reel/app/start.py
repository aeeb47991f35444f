"""Before a book is open: the books that were open before, a new one, or the demo."""

from __future__ import annotations

from collections.abc import Sequence
from enum import Enum
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from faithful_reel.app.widgets.parts import ROLE, button, label, tip


class Wanted(Enum):
    """What is to be opened where no recent book is."""

    NONE = "none"
    NEW = "new"
    OTHER = "other"
    DEMO = "demo"


class RecentBooks(QDialog):
    """A list of books; Enter opens the one at hand.  `first` adds what is offered when the program starts."""

    def __init__(self, books: Sequence[Path], parent: QWidget | None = None, *, first: bool = False) -> None:
        super().__init__(parent)
        self.setWindowTitle("Faithful Reel" if first else "Recent books")
        self.resize(620, 420)
        self.wanted = Wanted.NONE
        self.list = QListWidget()
        self.list.setObjectName("books")
        self.list.setAccessibleName("Recent books")
        for path in books:
            item = QListWidgetItem(f"{path.stem}\n{path.parent}")
            item.setData(ROLE, str(path))
            item.setToolTip(tip(str(path)))
            self.list.addItem(item)
        self.list.setCurrentRow(0)
        self.list.itemActivated.connect(self.accept)
        box = QVBoxLayout(self)
        box.addWidget(label("Recent books" if books else "No book was open before.", "heading"))
        box.addWidget(self.list, 1)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        open_ = buttons.addButton("Open", QDialogButtonBox.ButtonRole.AcceptRole)
        if open_ is not None:
            open_.setEnabled(bool(books))
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        if first:
            row = QHBoxLayout()
            self.others: dict[Wanted, QWidget] = {}
            for wanted, text, told in (
                (Wanted.NEW, "New book…", "Make a new book in a folder"),
                (Wanted.OTHER, "Another book…", "Open a book from its folder"),
                (Wanted.DEMO, "The demo book", "A small invented book to try everything on"),
            ):
                made = button(text, tip=told)
                made.setProperty("wanted", wanted)
                made.clicked.connect(self._other)
                row.addWidget(made)
                self.others[wanted] = made
            row.addStretch()
            box.addLayout(row)
        box.addWidget(buttons)
        if not books and first:
            self.others[Wanted.DEMO].setFocus(Qt.FocusReason.OtherFocusReason)

    @property
    def chosen(self) -> Path | None:
        """The book at hand."""
        item = self.list.currentItem()
        return Path(str(item.data(ROLE))) if item is not None else None

    def _other(self) -> None:
        sender = self.sender()
        if sender is not None:
            self.wanted = Wanted(sender.property("wanted"))
            self.accept()
