"""A list that stands beside the galley, in the docket's place: its lines, a search, its buttons."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QByteArray, QEvent, QMimeData, Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDragMoveEvent, QDropEvent, QKeyEvent, QShowEvent
from PyQt6.QtWidgets import (
    QAbstractButton,
    QDoubleSpinBox,
    QFormLayout,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from faithful_reel.app.editing.pages import Line, Page
from faithful_reel.app.editing.sweeping import LIMITS, SweepPage
from faithful_reel.app.theme import DAY, Theme, scale_of_letters
from faithful_reel.app.widgets.flow import Flow
from faithful_reel.app.widgets.parts import ActButton, ActSource, Check, Choice, Scrolled, SidePane, button, label
from faithful_reel.app.widgets.tables import ROW_H, Table
from faithful_reel.core.work.sweep import Doing, Sweeping

LEAST_ROWS = 5
DRAGGED = "application/x-faithful-reel-line"
"""What a line of a list is dragged as: the list's title and the line's key."""


class ListTable(Table):
    """A table whose lines may have a box, can be dragged out, and take sound files."""

    checked = pyqtSignal(str, bool)
    files_dropped = pyqtSignal(list)
    entered = pyqtSignal()

    def __init__(self, page: Page) -> None:
        super().__init__(page.heads, page.title)
        self._page = page
        self.setDragEnabled(True)
        self.setAcceptDrops(True)
        self.setDragDropMode(Table.DragDropMode.DragDrop)
        self.itemActivated.connect(self.entered)
        self.itemChanged.connect(self._changed)

    def show_lines(self, lines: list[Line], theme: Theme) -> None:
        """Put the lines in, with their boxes and colours."""
        self.fill([line.cells for line in lines], keys=[line.key for line in lines])
        known = {line.key: line for line in lines}
        self.blockSignals(True)
        for row in range(self.rowCount()):
            item, line = self.item(row, 0), known[self.key_at(row)]
            if item is None:
                continue
            if line.color:
                item.setData(Qt.ItemDataRole.DecorationRole, theme.color_of(line.color, "wave"))
            if line.checked is not None:
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                item.setCheckState(Qt.CheckState.Checked if line.checked else Qt.CheckState.Unchecked)
        self.blockSignals(False)

    def _changed(self, item: QTableWidgetItem) -> None:
        if item.column() == 0 and item.flags() & Qt.ItemFlag.ItemIsUserCheckable:
            self.checked.emit(self.key_at(item.row()), item.checkState() is Qt.CheckState.Checked)

    def event(self, event: QEvent | None) -> bool:
        """Space belongs to the boxes while the table has the keys, Enter to the line."""
        if isinstance(event, QKeyEvent) and event.type() is QEvent.Type.ShortcutOverride and not event.modifiers():
            item = self.item(self.currentRow(), 0)
            boxed = item is not None and bool(item.flags() & Qt.ItemFlag.ItemIsUserCheckable)
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) or (event.key() == Qt.Key.Key_Space and boxed):
                event.accept()
                return True
        return bool(super().event(event))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802 - Qt's name
        """Space turns the box of the line at hand."""
        item = self.item(self.currentRow(), 0)
        boxed = item is not None and bool(item.flags() & Qt.ItemFlag.ItemIsUserCheckable)
        if event is not None and event.key() == Qt.Key.Key_Space and item is not None and boxed:
            on = item.checkState() is Qt.CheckState.Checked
            item.setCheckState(Qt.CheckState.Unchecked if on else Qt.CheckState.Checked)
        else:
            super().keyPressEvent(event)

    def mimeData(self, items: object) -> QMimeData:  # noqa: N802 - Qt's name
        """The line at hand, for who knows our lists."""
        del items
        made = QMimeData()
        made.setData(DRAGGED, QByteArray(f"{self._page.title}\n{self.key}".encode()))
        return made

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:  # noqa: N802 - Qt's name
        """Sound files are taken."""
        _take_files(event)

    def dragMoveEvent(self, event: QDragMoveEvent | None) -> None:  # noqa: N802 - Qt's name
        """Sound files are taken."""
        _take_files(event)

    def dropEvent(self, event: QDropEvent | None) -> None:  # noqa: N802 - Qt's name
        """Sound files are taken."""
        if _take_files(event) and event is not None:
            data = event.mimeData()
            self.files_dropped.emit([Path(u.toLocalFile()) for u in data.urls()] if data is not None else [])


def _take_files(event: QDragEnterEvent | QDragMoveEvent | QDropEvent | None) -> bool:
    data = event.mimeData() if event is not None else None
    files = data is not None and any(u.isLocalFile() for u in data.urls())
    if event is not None:
        event.acceptProposedAction() if files else event.ignore()
    return files


class ListPane(SidePane):
    """One list with its name, a way back to the docket, a search, buttons, and what there is to know."""

    left = pyqtSignal()
    files_dropped = pyqtSignal(list)

    def __init__(self, page: Page) -> None:
        super().__init__()
        self.setObjectName("side")
        self.page = page
        self._theme = DAY
        self._lines: list[Line] = []
        self._filling = False
        self.view = ListTable(page)
        self.view.menu_acts = tuple(act for _, act in page.buttons)
        self._set_widths()
        self.view.itemSelectionChanged.connect(self._row_taken)
        self.view.checked.connect(self._checked)
        self.view.files_dropped.connect(self.files_dropped)
        self.search = QLineEdit()
        self.search.setAccessibleName(f"Search the list {page.title}")
        self.search.setPlaceholderText("search")
        self.search.setClearButtonEnabled(True)
        for inside in self.search.findChildren(QAbstractButton):
            inside.setAccessibleName("Clear the search")
        self.search.textChanged.connect(self.refresh)
        back = button("Docket", tip="Back to the findings")
        back.clicked.connect(self.left)
        head = QHBoxLayout()
        head.addWidget(label(page.title, "heading"))
        head.addWidget(self.search, 1)
        head.addWidget(back)
        acts = QWidget()
        flow = Flow(acts)
        self.buttons = [ActButton(words, act, "strong" if k == 0 else "") for k, (words, act) in enumerate(page.buttons)]
        for made in self.buttons:
            flow.addWidget(made)
        self.told = label(page.told, "quiet", wrap=True)
        self.view.setMinimumHeight(round(LEAST_ROWS * ROW_H * scale_of_letters()))
        body = QWidget()
        body.setObjectName("side")
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.addWidget(Scrolled(body, upright_only=True))
        box = QVBoxLayout(body)
        box.setContentsMargins(12, 10, 12, 8)
        box.addLayout(head)
        if isinstance(page, SweepPage):
            self.settings = SweepRow(page)
            box.addWidget(self.settings)
        box.addWidget(self.view, 1)
        box.addWidget(acts)
        box.addWidget(self.told)
        page.listen(self.refresh)

    def bind(self, acts: ActSource) -> None:
        """Enter and a double click do the list's own act."""
        self.view.entered.connect(acts[self.page.enter].trigger)

    def _set_widths(self) -> None:
        """One column takes the room that is left, the others are as wide as what usually stands in them, and can be dragged."""
        across = self.view.horizontalHeader()
        if across is not None:
            for column, width in enumerate(self.page.widths):
                if width:
                    across.resizeSection(column, round(width * scale_of_letters()))
                else:
                    across.setSectionResizeMode(column, QHeaderView.ResizeMode.Stretch)

    def take_keys(self) -> None:
        """To the list."""
        self.view.setFocus()

    def set_theme(self, theme: Theme) -> None:
        """Draw colours in another theme."""
        self._theme = theme
        self._lines = []
        self.refresh()

    def showEvent(self, event: QShowEvent | None) -> None:  # noqa: N802 - Qt's name
        """The list is made when it is first looked at."""
        super().showEvent(event)
        self.refresh()

    def refresh(self) -> None:
        """Show the list as it stands; costs nothing while it is closed."""
        if not self.isVisible():
            return
        self.page.look()
        wanted = self.search.text().casefold().split()
        lines = [line for line in self.page.lines() if all(any(w in cell.casefold() for cell in line.cells) for w in wanted)]
        self.view.empty = "Nothing like that." if wanted and self.page.lines() else self.page.empty
        if lines != self._lines:
            self._lines, self._filling = lines, True
            self.view.show_lines(lines, self._theme)
            self._filling = False
        self.view.viewport().update()  # type: ignore[union-attr]
        if lines and not self.view.key:
            self.view.selectRow(0)
        self._chosen()

    def _checked(self, key: str, on: bool) -> None:  # noqa: FBT001 - as Qt calls it
        self.page.check(key, on=on)

    def _chosen(self) -> None:
        self.page.key = self.view.key
        self.told.setText(self.page.about() or self.page.told)

    def _row_taken(self) -> None:
        """The user took another line in hand, and not what the list is made of."""
        self._chosen()
        if self.view.key and self.view.hasFocus() and not self._filling:
            self.page.choose()


class SweepRow(QWidget):
    """The settings of a sweep."""

    WORDS = (
        ("least_s", "Pauses from", " s", 0.05, "Shorter pauses are left as they are"),
        ("times", "and at least", " times the usual", 0.1, "Against what the reader usually makes at that kind of place"),
        ("keep_s", "keep on both sides", " s", 0.01, "So much of a pause stays next to the words at least"),
        ("variety", "of what is too long leave", "", 0.05, "0: all become alike; 1: nothing changes"),
    )

    def __init__(self, page: SweepPage) -> None:
        super().__init__()
        self._page = page
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        kinds = QHBoxLayout()
        self.kinds: dict[Sweeping, Check] = {}
        for kind in Sweeping:
            made = self.kinds[kind] = Check(kind.value)
            made.setChecked(kind in page.settings.kinds)
            made.toggled.connect(self._set)
            kinds.addWidget(made)
        kinds.addStretch()
        box.addLayout(kinds)
        self.does = Choice()
        self.does.setAccessibleName("What is done with pauses")
        self.does.setToolTip("Close up: too long ones become shorter. Fill or split: all from the length below on; time stays")
        for doing in Doing:
            self.does.addItem(f"pauses: {doing.value}", doing)
        self.does.setCurrentIndex(list(Doing).index(page.settings.does))
        self.does.activated.connect(self._set)
        box.addWidget(self.does)
        form = QFormLayout()
        form.setContentsMargins(0, 0, 0, 0)
        form.setRowWrapPolicy(QFormLayout.RowWrapPolicy.WrapLongRows)
        self.numbers: dict[str, QDoubleSpinBox] = {}
        for name, words, unit, step, tip in self.WORDS:
            made_number = self.numbers[name] = QDoubleSpinBox()
            _, least, most = LIMITS[name]
            made_number.setRange(least, most)
            made_number.setSingleStep(step)
            made_number.setSuffix(unit)
            made_number.setValue(getattr(page.settings, name))
            made_number.setToolTip(tip)
            made_number.setAccessibleName(words)
            made_number.setKeyboardTracking(False)
            made_number.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.PlusMinus)
            made_number.valueChanged.connect(self._set)
            form.addRow(words, made_number)
        box.addLayout(form)

    def _set(self) -> None:
        kinds = frozenset(k for k, made in self.kinds.items() if made.isChecked())
        numbers = {name: made.value() for name, made in self.numbers.items()}
        self._page.set(kinds=kinds, does=Doing(self.does.currentData()), **numbers)
