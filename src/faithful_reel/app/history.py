"""The history pane: every step of the book, and the ways that were left."""

from __future__ import annotations

import time
from dataclasses import dataclass

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFont
from PyQt6.QtWidgets import QDockWidget, QHBoxLayout, QHeaderView, QVBoxLayout, QWidget

from faithful_reel.app.theme import DAY, Theme
from faithful_reel.app.widgets.parts import ActButton, Choice, label
from faithful_reel.app.widgets.tables import RowView
from faithful_reel.app.workbench import Workbench
from faithful_reel.core.book.journal import Step

HEADERS = ("Step", "Chapter", "When", "Who")


@dataclass(frozen=True, slots=True)
class Row:
    """One row: a step, or another way that begins after it, which leads to `step`."""

    step: Step
    text: str
    undone: bool = False
    way: bool = False


class HistoryModel(QAbstractTableModel):
    """The latest steps first.  Steps after the one that the book stands at can be gone forward to."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        self._rows: list[Row] = []
        self._titles: dict[str, str] = {}
        self._chapter = ""
        self._state: tuple[int, int, str] = (-1, -1, "")
        self.head = 0
        self.theme: Theme = DAY

    def show_chapter(self, chapter: str) -> None:
        """Only the steps of one chapter; an empty one: all."""
        self._chapter = chapter
        self.refresh()

    def refresh(self) -> None:
        """Read the journal anew where it moved."""
        store = self._bench.session.store
        head, count = store.head, store.count()
        if (head, count, self._chapter) == self._state:
            return
        book = self._bench.book
        titles = {c.id: c.title for c in (*book.chapters, *book.left_out)}
        before = self._state
        if self._rows and before[2] == self._chapter and count == before[1] + 1 and head == count:
            step = store.step(head)
            if step.parent == before[0] and not any(r.undone for r in self._rows[:1]):  # one step more on the same line
                self._state, self._titles, self.head = (head, count, self._chapter), titles, head
                if not self._chapter or step.chapter == self._chapter:
                    self.beginInsertRows(QModelIndex(), 0, 0)
                    self._rows.insert(0, Row(step, step.label))
                    self.endInsertRows()
                self.dataChanged.emit(self.index(0, 0), self.index(min(1, len(self._rows) - 1), len(HEADERS) - 1))
                return
        self.beginResetModel()
        self._state, self._titles, self.head = (head, count, self._chapter), titles, head
        line = store.history()
        on_line = {s.id for s in line}
        rows: list[Row] = []
        passed = True
        for step in (store.step(0), *line):
            shown = not self._chapter or step.chapter == self._chapter or step.id == 0
            if shown:
                rows.append(Row(step, step.label, undone=not passed))
            if step.ways > 1:
                for first, last, number in store.ways_from(step.id):
                    if first.id not in on_line:
                        text = f"another way from here: {first.label}" + (f" … {number} steps" if number > 1 else "")
                        rows.append(Row(last, text, undone=True, way=True))
            if step.id == head:
                passed = False
        self._rows = rows[::-1]
        self.endResetModel()

    def row_of_head(self) -> int:
        """Where the book stands."""
        return next((i for i, r in enumerate(self._rows) if r.step.id == self.head and not r.way), -1)

    def step_at(self, row: int) -> int:
        """The step to go to; -1 where there is none."""
        return self._rows[row].step.id if 0 <= row < len(self._rows) else -1

    def rowCount(self, parent: QModelIndex | None = None) -> int:  # noqa: N802 - Qt's name
        """Qt's."""
        return 0 if parent is not None and parent.isValid() else len(self._rows)

    def columnCount(self, parent: QModelIndex | None = None) -> int:  # noqa: N802 - Qt's name
        """Qt's."""
        return 0 if parent is not None and parent.isValid() else len(HEADERS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> object:  # noqa: N802 - Qt's name
        """Qt's."""
        if role == Qt.ItemDataRole.DisplayRole and orientation is Qt.Orientation.Horizontal:
            return HEADERS[section]
        return None

    def data(self, index: QModelIndex, role: int = 0) -> object:
        """Qt's."""
        if not index.isValid():
            return None
        row = self._rows[index.row()]
        step = row.step
        if role == Qt.ItemDataRole.ToolTipRole:
            return f"{row.text}\n{step.at.replace('T', '  ')}  {step.name}".strip()
        if role == Qt.ItemDataRole.DisplayRole:
            cells = ("    " + row.text if row.way else row.text, self._titles.get(step.chapter, ""), _when(step.at), step.name)
            return cells[index.column()]
        if role == Qt.ItemDataRole.FontRole and step.id == self.head and not row.way:
            font = QFont()
            font.setBold(True)
            return font
        if role == Qt.ItemDataRole.ForegroundRole and row.undone:
            return QColor(self.theme.color("quiet"))
        return None


def _when(at: str) -> str:
    return at[11:] if at[:10] == time.strftime("%Y-%m-%d") else at[:10]


class HistoryPane(QDockWidget):
    """Lists the steps; Enter or a double click goes to one, back or forward."""

    wanted = pyqtSignal(int)

    def __init__(self, bench: Workbench, parent: QWidget) -> None:
        super().__init__("History", parent)
        self.setObjectName("history")
        self.setAllowedAreas(Qt.DockWidgetArea.LeftDockWidgetArea | Qt.DockWidgetArea.RightDockWidgetArea)
        self._bench = bench
        self.model = HistoryModel(bench)
        self.view = RowView()
        self.view.menu_acts = ("edit.go_to_step", "ear.as_at")
        self.view.setObjectName("Steps of this book")
        self.model.setParent(self.view)  # it goes with the view, not before it
        self.view.setModel(self.model)
        self.view.prepare("Steps of this book")
        across = self.view.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
            for column, width in ((1, 104), (2, 68), (3, 44)):
                across.resizeSection(column, width)
        self.chapters = Choice()
        self.chapters.setAccessibleName("Whose steps")
        self.chapters.activated.connect(self._chapter_chosen)
        self.go = ActButton("Go to this step", "edit.go_to_step")
        self.view.activated.connect(self.go_to_step)
        row = QHBoxLayout()
        row.addWidget(self.chapters, 1)
        row.addWidget(self.go)
        inside = QWidget()
        inside.setObjectName("desk")
        box = QVBoxLayout(inside)
        box.setContentsMargins(12, 8, 12, 8)
        box.addLayout(row)
        box.addWidget(self.view, 1)
        told = "Nothing is ever lost: going back and doing something else keeps the way that was left."
        box.addWidget(label(told, "quiet", wrap=True))
        self.setWidget(inside)
        self.setMinimumWidth(380)
        self.visibilityChanged.connect(self._shown)

    def set_theme(self, theme: Theme) -> None:
        """Colour the steps that are undone."""
        self.model.theme = theme

    def refresh(self) -> None:
        """Show the journal as it stands; costs nothing while the pane is closed."""
        if not self.isVisible():
            return
        book = self._bench.book
        wanted = [("All steps", ""), *((c.title, c.id) for c in (*book.chapters, *book.left_out))]
        if [(self.chapters.itemText(i), self.chapters.itemData(i)) for i in range(self.chapters.count())] != wanted:
            chosen = self.chapters.currentData()
            self.chapters.clear()
            for title, key in wanted:
                self.chapters.addItem(title, key)
            self.chapters.setCurrentIndex(max(0, self.chapters.findData(chosen)))
        self.model.refresh()
        at = self.model.row_of_head()
        if at >= 0:
            self.view.selectRow(at)

    def _shown(self, _visible: bool) -> None:  # noqa: FBT001 - Qt calls it so
        self.refresh()

    def _chapter_chosen(self) -> None:
        self.model.show_chapter(str(self.chapters.currentData() or ""))

    @property
    def chosen(self) -> int:
        """The step in the chosen row; -1 for none."""
        return self.model.step_at(self.view.currentIndex().row())

    def go_to_step(self) -> None:
        """Stand at the step in the chosen row."""
        step = self.chosen
        if step >= 0 and step != self.model.head:
            self.wanted.emit(step)
