"""The Intake desk's questions: what a corrected manuscript changes, and where a chapter is to be split."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from faithful_reel.app.widgets.parts import ROLE, label
from faithful_reel.app.widgets.tables import Table
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.work.revising import Reimport, decided

MOST_SHOWN = 2000


def shortened(words: str, most: int = 60) -> str:
    """Words for one line of a table."""
    return words if len(words) <= most else words[: most - 1].rsplit(" ", 1)[0] + " …"


def reimport_rows(found: Reimport) -> list[tuple[str, str, str]]:
    """(chapter, what stood there, what stands there now) of every change."""
    rows = []
    for chapter in found.chapters:
        if not chapter.chapter:
            rows.append((chapter.title, "", "a new chapter"))
        rows += [(chapter.title, shortened(c.old) or "–", shortened(c.new) or "–") for c in chapter.changes]
    rows += [(title, "is not in this manuscript", "stays in the book as it is") for title in found.gone]
    return rows


def reimport_summary(found: Reimport) -> str:
    """What taking it over does to the work that was done."""
    kept = sum(c.kept for c in found.chapters)
    fallen = [f for c in found.chapters for f in c.fallen]
    pickups = sum(len(c.fallen_pickups) for c in found.chapters)
    changes = sum(len(c.changes) for c in found.chapters)
    parts = [f"{changes} places changed.", f"{kept} findings keep their places and decisions."]
    if fallen:
        parts.append(f"{len(fallen)} findings fall away with their words, {decided(tuple(fallen))} of them decided.")
    if pickups:
        parts.append(f"{pickups} pickups leave the ledger, since their lines changed.")
    return " ".join(parts) + " All of it can be undone."


class ReimportDialog(QDialog):
    """What a corrected manuscript changes, before it is taken over."""

    def __init__(self, found: Reimport, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Corrected manuscript")
        self.resize(820, 520)
        self.changes = Table(["Chapter", "In the book", f"In {name}"], "Changes", sortable=False)
        rows = reimport_rows(found)
        self.changes.fill(rows[:MOST_SHOWN])
        self.changes.resizeColumnsToContents()
        across = self.changes.horizontalHeader()
        if across is not None:
            across.setStretchLastSection(True)
        self.buttons = QDialogButtonBox()
        self.buttons.addButton("Accept", QDialogButtonBox.ButtonRole.AcceptRole)
        self.buttons.addButton("Leave the book as it is", QDialogButtonBox.ButtonRole.RejectRole)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        box = QVBoxLayout(self)
        box.addWidget(label(reimport_summary(found), wrap=True))
        box.addWidget(self.changes, 1)
        if len(rows) > MOST_SHOWN:
            box.addWidget(label(f"and {len(rows) - MOST_SHOWN} more", "quiet"))
        box.addWidget(self.buttons)


class SplitDialog(QDialog):
    """Choose the paragraph or sentence with which the second part of a chapter begins."""

    def __init__(self, chapter: Chapter, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Split the chapter")
        self.resize(640, 520)
        self.list = QListWidget()
        self.list.setAccessibleName("Sentences")
        paragraphs = {p.start for p in chapter.paragraphs()}
        for sentence in chapter.sentences():
            if sentence.start == 0:
                continue
            text = shortened(" ".join(chapter.words[i].text for i in sentence), 90)
            item = QListWidgetItem(text if sentence.start in paragraphs else "        " + text)
            item.setData(ROLE, sentence.start)
            self.list.addItem(item)
        buttons = QDialogButtonBox()
        self.take = buttons.addButton("Split before this", QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.addButton(QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        self.list.itemActivated.connect(self.accept)
        box = QVBoxLayout(self)
        box.addWidget(label("The second part begins with:", "heading"))
        box.addWidget(self.list, 1)
        box.addWidget(buttons)
        if self.list.count():
            self.list.setCurrentRow(0)

    @property
    def at(self) -> int:
        """The word before which to split; 0 where none is chosen."""
        item = self.list.currentItem()
        return int(item.data(ROLE)) if item is not None else 0

    def keyPressEvent(self, event: object) -> None:  # noqa: N802 - Qt's name
        """Enter splits."""
        if getattr(event, "key", int)() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.accept()
        else:
            super().keyPressEvent(event)  # type: ignore[arg-type]
