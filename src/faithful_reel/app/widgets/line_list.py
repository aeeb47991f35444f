"""Lines from the manuscript in a list, each with what is to be said of it under it, where wanted in groups with titles."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QListWidget, QListWidgetItem, QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from faithful_reel.app.theme import DAY, Theme, control_font, reading_font, scale_of_letters
from faithful_reel.app.widgets.delegates import paint_focus
from faithful_reel.app.widgets.parts import ROLE, tip
from faithful_reel.app.widgets.tables import RowMenu

TITLE_H, LINE_H = 26, 48


@dataclass(frozen=True, slots=True)
class ListedLine:
    """A line as it stands in the list; a title has no key.  `mark` is said at its end, `urgent` in red."""

    key: str
    main: str
    under: str = ""
    mark: str = ""
    urgent: bool = False
    faint: bool = False


class LineDelegate(QStyledItemDelegate):
    """Paints the lines and the titles of their groups."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.theme = DAY

    def sizeHint(self, _option: QStyleOptionViewItem, index: object) -> QSize:  # noqa: N802 - Qt's name
        """A title is one line of text, a line two."""
        line = index.data(ROLE)  # type: ignore[attr-defined]
        return QSize(200, round((LINE_H if line.key else TITLE_H) * scale_of_letters()))

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: object) -> None:
        """One row."""
        if painter is None:
            return
        line: ListedLine = index.data(ROLE)  # type: ignore[attr-defined]
        rect, k, theme = QRectF(option.rect), scale_of_letters(), self.theme
        painter.save()
        if not line.key:
            painter.setFont(control_font(11, strong=True))
            painter.setPen(theme.color("quiet"))
            told = painter.fontMetrics().elidedText(line.main, Qt.TextElideMode.ElideRight, int(rect.width() - 20))
            painter.drawText(rect.adjusted(10, 4, -10, 0), Qt.AlignmentFlag.AlignVCenter, told)
            painter.restore()
            return
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(rect, theme.color("chosen"))
        painter.fillRect(QRectF(rect.left() + 10, rect.bottom() - 1, rect.width() - 20, 1), theme.color("hairline"))
        width = int(rect.width() - 20)
        painter.setFont(reading_font(15))
        painter.setPen(theme.color("quiet" if line.faint else "ink"))
        text = painter.fontMetrics().elidedText(line.main, Qt.TextElideMode.ElideRight, width)
        painter.drawText(QRectF(rect.left() + 10, rect.top() + 3 * k, width, 23 * k), Qt.AlignmentFlag.AlignVCenter, text)
        painter.setFont(control_font(11, figures=True))
        foot = QRectF(rect.left() + 10, rect.top() + 26 * k, width, 17 * k)
        painter.setPen(theme.color("red" if line.urgent else "ink"))
        painter.drawText(foot, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, line.mark)
        left = int(width - painter.fontMetrics().horizontalAdvance(line.mark) - 10)
        painter.setPen(theme.color("quiet"))
        under = painter.fontMetrics().elidedText(line.under, Qt.TextElideMode.ElideRight, left)
        painter.drawText(foot, Qt.AlignmentFlag.AlignVCenter, under)
        paint_focus(painter, option, theme)
        painter.restore()


class LineList(RowMenu, QListWidget):
    """Lines that can be chosen, one or several; titles can not."""

    def __init__(self, name: str, *, several: bool = False) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setObjectName("ledger")
        if several:
            self.setSelectionMode(QListWidget.SelectionMode.ExtendedSelection)
        self.setUniformItemSizes(False)
        self._delegate = LineDelegate(self)
        self.setItemDelegate(self._delegate)
        self.empty = ""
        self._lines: list[ListedLine] = []

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        self._delegate.theme = theme
        self.viewport().update()  # type: ignore[union-attr]

    def fill(self, lines: Sequence[ListedLine]) -> None:
        """Show lines and titles; what is chosen stays chosen."""
        if list(lines) == self._lines:
            return
        keys = [line.key for line in lines]
        same = keys == [line.key for line in self._lines]
        chosen, at = set(self.chosen_keys()), self.key
        self._lines = list(lines)
        self.blockSignals(True)
        if not same:
            self.clear()
            for _ in lines:
                self.addItem(QListWidgetItem())
        for row, line in enumerate(lines):
            item = self.item(row)
            if item is None or (same and item.data(ROLE) == line):
                continue
            item.setData(ROLE, line)
            told = ", ".join(filter(None, (line.main, line.under, line.mark)))
            item.setData(Qt.ItemDataRole.AccessibleTextRole, told)
            item.setText(told)
            item.setToolTip(tip(line.main))
            if not line.key:
                item.setFlags(Qt.ItemFlag.NoItemFlags)
        if not same:
            for row, line in enumerate(lines):
                item = self.item(row)
                if item is not None and line.key in chosen:
                    item.setSelected(True)
            self._go(at)
        self.blockSignals(False)

    def _go(self, key: str) -> None:
        for row, line in enumerate(self._lines):
            if line.key and line.key == key:
                model = self.selectionModel()
                if model is not None:
                    self.setCurrentRow(row, model.SelectionFlag.NoUpdate)
                return

    @property
    def key(self) -> str:
        """The line that the keys are on."""
        row = self.currentRow()
        return self._lines[row].key if 0 <= row < len(self._lines) else ""

    def chosen_keys(self) -> tuple[str, ...]:
        """The lines that are chosen, from the top."""
        rows = sorted(self.row(item) for item in self.selectedItems())
        return tuple(self._lines[r].key for r in rows if r < len(self._lines) and self._lines[r].key)

    def choose_quietly(self, key: str) -> None:
        """Choose one line without telling anybody; where it is among several that are chosen, they stay so."""
        self.blockSignals(True)
        for row, line in enumerate(self._lines):
            if line.key and line.key == key and (self.key != key or key not in self.chosen_keys()):
                self.setCurrentRow(row)
                title = self.item(row - 1) if row and not self._lines[row - 1].key else None
                if title is not None:  # the first of a group is shown with its title
                    self.scrollToItem(title)
        self.blockSignals(False)
