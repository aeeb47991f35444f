"""How the rows of the docket and of the contents are painted."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from faithful_reel.app.theme import DAY, Theme, control_font, reading_font, scale_of_letters
from faithful_reel.app.widgets.galley import draw_decision
from faithful_reel.app.widgets.parts import ROLE


class RowDelegate(QStyledItemDelegate):
    """Paints docket rows: (decision, kind, the words, time, how sure)."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.theme = DAY

    def sizeHint(self, _option: QStyleOptionViewItem, _index: object) -> QSize:  # noqa: N802 - Qt's name
        """Two lines of text."""
        return QSize(200, round(46 * scale_of_letters()))

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: object) -> None:
        """One row."""
        if painter is None:
            return
        decision, kind, main, time, sure = index.data(ROLE)  # type: ignore[attr-defined]
        rect, k = QRectF(option.rect), scale_of_letters()
        painter.save()
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(rect, self.theme.color("chosen"))
        painter.fillRect(QRectF(rect.left() + 12, rect.bottom() - 1, rect.width() - 24, 1), self.theme.color("hairline"))
        draw_decision(painter, QPointF(rect.left() + 18, rect.top() + 15 * k), decision, self.theme)
        painter.setFont(reading_font(15))
        painter.setPen(self.theme.color("ink"))
        width = int(rect.width() - 46)
        text = painter.fontMetrics().elidedText(main, Qt.TextElideMode.ElideRight, width)
        painter.drawText(QRectF(rect.left() + 34, rect.top() + 3 * k, width, 23 * k), Qt.AlignmentFlag.AlignVCenter, text)
        painter.setFont(control_font(11, figures=True))
        painter.setPen(self.theme.color("quiet"))
        foot = QRectF(rect.left() + 34, rect.top() + 25 * k, width, 16 * k)
        left = int(width - painter.fontMetrics().horizontalAdvance(sure) - 8)
        told = painter.fontMetrics().elidedText(f"{kind}  ·  {time}", Qt.TextElideMode.ElideRight, left)
        painter.drawText(foot, Qt.AlignmentFlag.AlignVCenter, told)
        painter.drawText(foot, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, sure)
        paint_focus(painter, option, self.theme)
        painter.restore()


def paint_focus(painter: QPainter, option: QStyleOptionViewItem, theme: Theme) -> None:
    """A frame around the row that the keys work on."""
    if option.state & QStyle.StateFlag.State_HasFocus:
        painter.setPen(QPen(theme.color("ink"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(option.rect).adjusted(0.5, 0.5, -1.5, -1.5))


class ContentsDelegate(QStyledItemDelegate):
    """Paints the contents: number and title, a bar of what is decided, what is left."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.theme = DAY

    def sizeHint(self, _option: QStyleOptionViewItem, _index: object) -> QSize:  # noqa: N802 - Qt's name
        """Title and bar."""
        return QSize(150, round(76 * scale_of_letters()))

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: object) -> None:
        """One chapter."""
        if painter is None:
            return
        title, share, state, color, _note = index.data(ROLE)  # type: ignore[attr-defined]
        rect, k = QRectF(option.rect), scale_of_letters()
        painter.save()
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(rect, self.theme.color("chosen"))
        if color:
            painter.fillRect(QRectF(rect.left() + 4, rect.top() + 9 * k, 4, 34 * k), self.theme.color_of(color, "wave"))
        painter.setFont(reading_font(15))
        painter.setPen(self.theme.color("ink"))
        width = rect.width() - 24
        number, _, name = title.partition(": ")
        for row, line in enumerate((number, name)):
            text = painter.fontMetrics().elidedText(line, Qt.TextElideMode.ElideRight, int(width))
            box = QRectF(rect.left() + 12, rect.top() + (5 + 20 * row) * k, width, 20 * k)
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, text)
        bar = QRectF(rect.left() + 12, rect.top() + 51 * k, width, 4)
        painter.fillRect(bar, self.theme.color("hairline"))
        painter.fillRect(QRectF(bar.left(), bar.top(), bar.width() * share, bar.height()), self.theme.color("quiet"))
        painter.setFont(control_font(11))
        painter.setPen(self.theme.color("quiet"))
        told = painter.fontMetrics().elidedText(state, Qt.TextElideMode.ElideRight, int(width))
        painter.drawText(QRectF(rect.left() + 12, rect.top() + 57 * k, width, 16 * k), Qt.AlignmentFlag.AlignVCenter, told)
        paint_focus(painter, option, self.theme)
        painter.restore()
