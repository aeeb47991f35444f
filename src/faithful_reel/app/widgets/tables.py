"""Tables: rows chosen whole, sorted by a click on a heading, copied, with a menu by right click and by key."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from PyQt6.QtCore import QEvent, QRectF, Qt
from PyQt6.QtGui import (
    QAction,
    QColor,
    QContextMenuEvent,
    QFocusEvent,
    QGuiApplication,
    QKeyEvent,
    QKeySequence,
    QPainter,
    QPaintEvent,
    QPalette,
    QPen,
)
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QMenu, QTableView, QTableWidget, QTableWidgetItem

from faithful_reel.app.settings import Settings, keep_rows, rows
from faithful_reel.app.theme import reading_font, scale_of_letters
from faithful_reel.app.widgets.parts import ROLE, ActSource, tip

ROW_H = 30
_NUMBER = re.compile(r"\d+(?:\.\d+)?")
_PLACE = ROLE + 7
"""Where a row stands when nothing is sorted."""


def natural(text: str) -> tuple[tuple[int, float, str], ...]:
    """What texts are sorted by: their numbers as numbers, a minus counted where it leads, all else without regard to case."""
    text = text.replace("−", "-").replace(",", "")
    parts: list[tuple[int, float, str]] = []
    at = 0
    for match in _NUMBER.finditer(text):
        before = text[at : match.start()]
        sign = -1.0 if before == "-" and not at else 1.0
        if before and sign > 0:
            parts.append((1, 0.0, before.casefold()))
        parts.append((0, sign * float(match[0]), ""))
        at = match.end()
    return (*parts, (1, 0.0, text[at:].casefold()))


class Entry(QTableWidgetItem):
    """A cell that knows how it is sorted."""

    def __lt__(self, other: QTableWidgetItem) -> bool:
        return natural(self.text()) < natural(other.text())


def copied(view: QAbstractItemView) -> str:
    """The selected rows of a table or list as text, tabs between their cells; all of its columns that are seen."""
    model, chosen = view.model(), view.selectionModel()
    if model is None or chosen is None:
        return ""
    table = view if isinstance(view, QTableView) else None
    columns = [c for c in range(model.columnCount()) if table is None or not table.isColumnHidden(c)]
    numbers = sorted({index.row() for index in chosen.selectedIndexes()})
    return "\n".join("\t".join(str(model.index(r, c).data() or "").strip() for c in columns) for r in numbers)


_BaseView = QAbstractItemView if TYPE_CHECKING else object
_Base = QTableView if TYPE_CHECKING else object


COPY = QKeySequence.StandardKey.Copy


class RowMenu(_BaseView):  # type: ignore[misc, valid-type]  # a mixin: Qt's classes can not be mixed with one another
    """A menu by right click and by key, with acts and a way to copy the rows; Ctrl+C copies them, Home and End go to the ends."""

    menu_acts: tuple[str, ...] = ()
    _acts: ActSource | None = None

    def bind(self, acts: ActSource) -> None:
        """Where the acts of its menu come from."""
        self._acts = acts

    def copy_rows(self) -> None:
        """Put the selected rows on the clipboard."""
        board = QGuiApplication.clipboard()
        if board is not None:
            board.setText(copied(self))

    def row_menu(self) -> QMenu:
        """What can be done with the rows."""
        menu = QMenu(self)
        for act in self.menu_acts:
            if self._acts is not None:
                menu.addAction(self._acts[act])
        if self.menu_acts:
            menu.addSeparator()
        copy = QAction("Copy the rows", menu)
        copy.triggered.connect(self.copy_rows)
        menu.addAction(copy)
        return menu

    def event(self, event: QEvent | None) -> bool:
        """The key that copies belongs to the rows while they have the keys."""
        if isinstance(event, QKeyEvent) and event.type() is QEvent.Type.ShortcutOverride and event.matches(COPY):
            event.accept()
            return True
        return bool(super().event(event))

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:  # noqa: N802 - Qt's name
        """The menu of the row under the mouse, or by its key of the row at hand."""
        if event is None:
            return
        point, port = event.globalPos(), self.viewport()
        if event.reason() is QContextMenuEvent.Reason.Keyboard and port is not None:
            point = port.mapToGlobal(self.visualRect(self.currentIndex()).bottomLeft())
        self.row_menu().exec(point)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802 - Qt's name
        """As the class says."""
        if event is None:
            return
        model = self.model()
        if event.matches(COPY):
            self.copy_rows()
        elif event.key() in (Qt.Key.Key_Home, Qt.Key.Key_End) and not event.modifiers() and model is not None:
            if model.rowCount():
                self.setCurrentIndex(model.index(0 if event.key() == Qt.Key.Key_Home else model.rowCount() - 1, 0))
        else:
            super().keyPressEvent(event)


class Rows(RowMenu, _Base):  # type: ignore[misc, valid-type]  # a mixin: Qt's classes can not be mixed with one another
    """What every table of the window has in common; see the module."""

    def prepare(self, name: str) -> None:
        """Without a frame, rows chosen whole; Tab leaves it."""
        self.setAccessibleName(name)
        self.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QTableView.SelectionMode.SingleSelection)
        self.setEditTriggers(QTableView.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.setTabKeyNavigation(False)
        upright, across = self.verticalHeader(), self.horizontalHeader()
        if upright is not None and across is not None:
            upright.setVisible(False)
            upright.setDefaultSectionSize(round(ROW_H * scale_of_letters()))
            across.setHighlightSections(False)
            across.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)

    def focusInEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802 - Qt's name
        """Who comes by the keyboard finds a row chosen."""
        super().focusInEvent(event)
        model = self.model()
        if model is not None and model.rowCount() and not self.currentIndex().isValid():
            self.setCurrentIndex(model.index(0, 0))

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """A frame tells where the keys go."""
        super().paintEvent(event)
        port = self.viewport()
        if port is not None and self.hasFocus():
            painter = QPainter(port)
            painter.setPen(QPen(self.palette().color(QPalette.ColorRole.Text), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(port.rect().adjusted(0, 0, -1, -1))


class RowView(Rows, QTableView):
    """A table of a model."""


class Table(Rows, QTableWidget):
    """A table of texts that says what belongs in it while it is empty."""

    def __init__(self, headers: Sequence[str], name: str, *, sortable: bool = True) -> None:
        super().__init__(0, len(headers))
        self.setObjectName(name)
        self.setHorizontalHeaderLabels(list(headers))
        self.prepare(name)
        self.empty = ""
        across = self.horizontalHeader()
        self._sortable = sortable
        if sortable and across is not None:
            across.setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
            across.setSortIndicatorClearable(True)
            across.setSectionsClickable(True)
            across.setSortIndicatorShown(True)
            across.sortIndicatorChanged.connect(self._sorted)

    def columns(self, *, stretch: int) -> None:
        """As wide as what stands in them, one takes the rest."""
        across = self.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            across.setSectionResizeMode(stretch, QHeaderView.ResizeMode.Stretch)

    def fill(
        self,
        rows_: Sequence[Sequence[str]],
        *,
        keys: Sequence[str] = (),
        colors: Mapping[tuple[int, int], QColor] | None = None,
    ) -> None:
        """Put rows of text in; keys go into the first column; the chosen rows stay chosen, and what is sorted stays so."""
        chosen = set(self.chosen_keys())
        at = self.key_at(self.currentRow())
        self.blockSignals(True)
        self.setRowCount(len(rows_))
        for r, cells in enumerate(rows_):
            for c, text in enumerate(cells):
                item = Entry(text)
                item.setToolTip(tip(text))
                item.setData(_PLACE, r)
                if c == 0 and keys:
                    item.setData(ROLE, keys[r])
                if colors and (r, c) in colors:
                    item.setForeground(colors[r, c])
                self.setItem(r, c, item)
        across = self.horizontalHeader()
        if self._sortable and across is not None and across.sortIndicatorSection() >= 0:
            self.sortItems(across.sortIndicatorSection(), across.sortIndicatorOrder())
        if at in keys and len(chosen) < 2:
            self.choose(at)
        elif chosen:
            model = self.selectionModel()
            for r in range(self.rowCount()):
                if model is not None and self.key_at(r) in chosen:
                    model.select(self.model().index(r, 0), model.SelectionFlag.Select | model.SelectionFlag.Rows)  # type: ignore[union-attr]
        self.blockSignals(False)

    def _sorted(self, section: int, order: Qt.SortOrder) -> None:
        at = self.key_at(self.currentRow())
        if section >= 0:
            self.sortItems(section, order)
        else:
            self._as_filled()
        if at:
            self.blockSignals(True)
            self.choose(at)
            self.blockSignals(False)

    def _as_filled(self) -> None:
        """The rows in the order in which they came."""
        places = [self.item(r, 0) for r in range(self.rowCount())]
        order = sorted(range(len(places)), key=lambda r: places[r].data(_PLACE) if places[r] else r)  # type: ignore[union-attr]
        taken = [[self.takeItem(r, c) for c in range(self.columnCount())] for r in range(self.rowCount())]
        for row, source in enumerate(order):
            for column, item in enumerate(taken[source]):
                if item is not None:
                    self.setItem(row, column, item)

    def key_at(self, row: int) -> str:
        """The key of a row; empty where it has none."""
        item = self.item(row, 0)
        found = item.data(ROLE) if item is not None else None
        return found if isinstance(found, str) else ""

    @property
    def key(self) -> str:
        """The key of the row at hand."""
        return self.key_at(self.currentRow())

    def chosen_keys(self) -> list[str]:
        """The keys of the selected rows, from the top."""
        model = self.selectionModel()
        numbers = sorted({index.row() for index in model.selectedIndexes()}) if model else []
        return [k for r in numbers if (k := self.key_at(r))]

    def choose(self, key: str) -> None:
        """Choose the row with a key."""
        for r in range(self.rowCount()):
            if self.key_at(r) == key:
                self.setCurrentCell(r, max(0, self.currentColumn()))
                return

    def choose_quietly(self, key: str) -> None:
        """Choose the row with a key without telling anybody."""
        self.blockSignals(True)
        self.choose(key)
        self.blockSignals(False)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """The rows, or what to do to have some."""
        super().paintEvent(event)
        port = self.viewport()
        if port is not None and self.empty and not self.rowCount():
            painter = QPainter(port)
            painter.setFont(reading_font(16))
            painter.setPen(self.palette().color(QPalette.ColorRole.PlaceholderText))
            box = QRectF(port.rect()).adjusted(24, 24, -24, -24)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.empty)


def keep_widths(views: Sequence[QAbstractItemView], settings: Settings) -> None:
    """Remember how wide the columns of tables are that the user may drag."""
    kept = rows(settings, "view/columns")
    for view in views:
        across = view.horizontalHeader() if isinstance(view, QTableView) else None
        if across is not None and view.objectName() and not across.isHidden():
            free = range(across.count())
            kept[view.objectName()] = [float(across.sectionSize(k)) for k in free]
    keep_rows(settings, "view/columns", kept)


def give_widths(views: Sequence[QAbstractItemView], settings: Settings) -> None:
    """Make columns as wide as they were, where they may be dragged."""
    kept = rows(settings, "view/columns")
    for view in views:
        across = view.horizontalHeader() if isinstance(view, QTableView) else None
        sizes = kept.get(view.objectName(), [])
        if across is None or len(sizes) != across.count():
            continue
        for k, size in enumerate(sizes):
            if across.sectionResizeMode(k) is QHeaderView.ResizeMode.Interactive and size >= across.minimumSectionSize():
                across.resizeSection(k, round(size))
