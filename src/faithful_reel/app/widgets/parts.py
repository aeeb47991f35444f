"""Small widgets that several desks use."""

from __future__ import annotations

import html
from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRect, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPalette, QPen, QPolygonF, QResizeEvent
from PyQt6.QtWidgets import (
    QFrame,
    QLabel,
    QPushButton,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from faithful_reel.app.theme import DAY, Theme, control_font, reading_font
from faithful_reel.app.widgets.galley import draw_decision
from faithful_reel.core.units import SILENT_DB

ROLE = Qt.ItemDataRole.UserRole


class Desk(QWidget):
    """What every desk can do."""

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        raise NotImplementedError

    def refresh(self) -> None:
        """Show the book as it is."""
        raise NotImplementedError


class Apart(QWidget):
    """Holds a widget whose inside is laid out apart: a label that changes in it does not have the whole window laid out anew."""

    def __init__(self, inside: QWidget) -> None:
        super().__init__()
        inside.setParent(self)
        self._inside = inside

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # noqa: N802 - Qt's name
        """The inside takes all of it."""
        super().resizeEvent(event)
        self._inside.setGeometry(self.rect())

    def sizeHint(self) -> QSize:  # noqa: N802 - Qt's name
        """As the inside."""
        return self._inside.sizeHint()

    def minimumSizeHint(self) -> QSize:  # noqa: N802 - Qt's name
        """As the inside."""
        return self._inside.minimumSizeHint()


class OneLine(QLabel):
    """A label that takes what room there is; what does not fit is left out, and stands in its tooltip."""

    def __init__(self) -> None:
        super().__init__()
        self.setTextFormat(Qt.TextFormat.PlainText)

    def minimumSizeHint(self) -> QSize:  # noqa: N802 - Qt's name
        """It may be cut off wherever there is no room."""
        return QSize(0, super().minimumSizeHint().height())

    def paintEvent(self, _event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """As much as fits."""
        painter = QPainter(self)
        text = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
        painter.drawText(self.rect(), self.alignment(), text)


def label(text: str = "", name: str = "", *, wrap: bool = False) -> QLabel:
    """A label of a kind that the style sheet knows."""
    made = QLabel(text)
    made.setObjectName(name)
    made.setWordWrap(wrap)
    made.setTextFormat(Qt.TextFormat.PlainText)
    return made


def tip(text: str) -> str:
    """A tooltip that shows a text from outside as it stands: Qt would take one that looks like it for rich text."""
    return f"<p>{html.escape(text)}</p>" if "<" in text else text


def button(text: str, name: str = "", tip: str = "") -> QPushButton:
    """A push button."""
    made = QPushButton(text)
    made.setObjectName(name)
    made.setToolTip(tip)
    made.setAccessibleName(text)
    return made


def rule(*, upright: bool = False) -> QFrame:
    """A hairline."""
    made = QFrame()
    made.setObjectName("upright" if upright else "rule")
    return made


class Table(QTableWidget):
    """A table that says what belongs in it while it is empty."""

    empty = ""

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


def table(headers: Sequence[str], name: str) -> Table:
    """A plain table without a frame, rows chosen whole."""
    made = Table(0, len(headers))
    made.setAccessibleName(name)
    made.setHorizontalHeaderLabels(list(headers))
    made.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
    made.setSelectionMode(QTableWidget.SelectionMode.SingleSelection)
    made.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
    made.setShowGrid(False)
    made.setWordWrap(False)
    upright, across = made.verticalHeader(), made.horizontalHeader()
    if upright is not None and across is not None:
        upright.setVisible(False)
        upright.setDefaultSectionSize(30)
        across.setHighlightSections(False)
        across.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
    return made


def fill(
    view: QTableWidget,
    rows: Sequence[Sequence[str]],
    *,
    keys: Sequence[str] = (),
    colors: dict[tuple[int, int], QColor] | None = None,
) -> None:
    """Put rows of text into a table; keys go into the first column's user data; the chosen row stays chosen."""
    row = view.currentRow()
    chosen = view.item(row, 0)
    before = chosen.data(ROLE) if chosen else None
    view.blockSignals(True)
    view.setRowCount(len(rows))
    for r, cells in enumerate(rows):
        for c, text in enumerate(cells):
            item = QTableWidgetItem(text)
            item.setToolTip(tip(text))
            if c == 0 and keys:
                item.setData(ROLE, keys[r])
            if colors and (r, c) in colors:
                item.setForeground(colors[r, c])
            view.setItem(r, c, item)
    if isinstance(before, str) and before in keys:
        view.selectRow(list(keys).index(before))
    view.blockSignals(False)


class RowDelegate(QStyledItemDelegate):
    """Paints docket rows: (decision, kind, written, heard, time, confidence)."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.theme = DAY

    def sizeHint(self, _option: QStyleOptionViewItem, _index: object) -> QSize:  # noqa: N802 - Qt's name
        """Two lines of text."""
        return QSize(200, 46)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: object) -> None:
        """One row."""
        if painter is None:
            return
        decision, kind, main, time, sure = index.data(ROLE)  # type: ignore[attr-defined]
        rect = QRectF(option.rect)
        painter.save()
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(rect, self.theme.color("chosen"))
        painter.fillRect(QRectF(rect.left() + 12, rect.bottom() - 1, rect.width() - 24, 1), self.theme.color("hairline"))
        draw_decision(painter, QPointF(rect.left() + 18, rect.top() + 15), decision, self.theme)
        painter.setFont(reading_font(15))
        painter.setPen(self.theme.color("ink"))
        width = int(rect.width() - 46)
        text = painter.fontMetrics().elidedText(main, Qt.TextElideMode.ElideRight, width)
        painter.drawText(QRectF(rect.left() + 34, rect.top() + 3, width, 23), Qt.AlignmentFlag.AlignVCenter, text)
        painter.setFont(control_font(11, figures=True))
        painter.setPen(self.theme.color("quiet"))
        painter.drawText(
            QRectF(rect.left() + 34, rect.top() + 25, width, 16), Qt.AlignmentFlag.AlignVCenter, f"{kind}  ·  {time}"
        )
        painter.drawText(
            QRectF(rect.left() + 34, rect.top() + 25, width, 16),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            sure,
        )
        painter.restore()


class ContentsDelegate(QStyledItemDelegate):
    """Paints the contents: number and title, a bar of what is decided, what is left."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.theme = DAY

    def sizeHint(self, _option: QStyleOptionViewItem, _index: object) -> QSize:  # noqa: N802 - Qt's name
        """Title and bar."""
        return QSize(150, 76)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: object) -> None:
        """One chapter."""
        if painter is None:
            return
        title, share, state = index.data(ROLE)  # type: ignore[attr-defined]
        rect = QRectF(option.rect)
        painter.save()
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(rect, self.theme.color("chosen"))
        painter.setFont(reading_font(15))
        painter.setPen(self.theme.color("ink"))
        number, _, name = title.partition(": ")
        for row, line in enumerate((number, name)):
            text = painter.fontMetrics().elidedText(line, Qt.TextElideMode.ElideRight, int(rect.width() - 24))
            painter.drawText(
                QRectF(rect.left() + 12, rect.top() + 5 + 20 * row, rect.width() - 24, 20), Qt.AlignmentFlag.AlignVCenter, text
            )
        bar = QRectF(rect.left() + 12, rect.top() + 51, rect.width() - 24, 4)
        painter.fillRect(bar, self.theme.color("hairline"))
        painter.fillRect(QRectF(bar.left(), bar.top(), bar.width() * share, bar.height()), self.theme.color("quiet"))
        painter.setFont(control_font(11))
        painter.setPen(self.theme.color("quiet"))
        painter.drawText(QRectF(rect.left() + 12, rect.top() + 57, rect.width() - 24, 16), Qt.AlignmentFlag.AlignVCenter, state)
        painter.restore()


class Meter(QWidget):
    """Level of what is heard, with the peak latched until it is clicked."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Level meter; click to forget the latched peak")
        self.setToolTip("Level and latched peak. Click to forget the peak.")
        self.setFixedSize(190, 26)
        self._theme = DAY
        self._rms = self._peak = SILENT_DB
        self.latched = SILENT_DB

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        self._theme = theme
        self.update()

    def set_level(self, rms_db: float, peak_db: float) -> None:
        """Show a level; the greatest peak stays."""
        self._rms, self._peak = rms_db, peak_db
        self.latched = max(self.latched, peak_db)
        self.update()

    def mousePressEvent(self, _event: object) -> None:  # noqa: N802 - Qt's name
        """Forget the latched peak."""
        self.latched = SILENT_DB
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """A ruled line with a pointer, as on a letter scale: -60 to 0 dB."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        width = self.width() - 78
        y = 17.0
        painter.setPen(QPen(self._theme.color("quiet"), 1))
        painter.drawLine(QPointF(4, y), QPointF(4 + width, y))
        for db in range(-60, 1, 10):
            x = 4 + width * (db + 60) / 60
            painter.drawLine(QPointF(x, y), QPointF(x, y - (6 if db in (-60, -30, 0) else 3)))
        x = 4 + width * max(0.0, min(1.0, (self._rms + 60) / 60))
        painter.fillRect(QRectF(4, y + 2, x - 4, 4), self._theme.color("quiet"))
        x = 4 + width * max(0.0, min(1.0, (self._peak + 60) / 60))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self._theme.color("ink"))
        painter.drawPolygon(QPolygonF([QPointF(x - 4, y - 9), QPointF(x + 4, y - 9), QPointF(x, y - 2)]))
        painter.setFont(control_font(12, figures=True))
        painter.setPen(self._theme.color("red" if self.latched > -3 else "ink"))
        text = "peak —" if self.latched <= SILENT_DB else f"peak {self.latched:.1f}".replace("-", "−")
        painter.drawText(QRect(self.width() - 68, 0, 66, 26), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, text)


class EvennessPlot(QWidget):
    """One figure of every chapter against its limits, in order: a column of dots a reader takes in at a glance."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Evenness of the chapters' level")
        self.setMinimumHeight(150)
        self._theme = DAY
        self._rows: list[tuple[str, float | None, float | None]] = []
        self._limits = (-23.0, -18.0)

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        self._theme = theme
        self.update()

    def set_rows(self, rows: list[tuple[str, float | None, float | None]], limits: tuple[float, float]) -> None:
        """(name, before, after) in dB RMS of every chapter, and the limits."""
        self._rows, self._limits = rows, limits
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """Limits as a band, before as an open ring, after as a full dot."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = QRectF(64, 12, self.width() - 84, self.height() - 44)
        low, high = -36.0, -12.0

        def y(db: float) -> float:
            return area.bottom() - (max(low, min(high, db)) - low) / (high - low) * area.height()

        painter.fillRect(
            QRectF(area.left(), y(self._limits[1]), area.width(), y(self._limits[0]) - y(self._limits[1])),
            self._theme.color("strip"),
        )
        painter.setFont(control_font(11, figures=True))
        for db in (*self._limits, -30.0):
            painter.setPen(QPen(self._theme.color("hairline"), 1))
            painter.drawLine(QPointF(area.left(), y(db)), QPointF(area.right(), y(db)))
            painter.setPen(self._theme.color("quiet"))
            painter.drawText(
                QRectF(0, y(db) - 9, 56, 18),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                f"{db:g} dB".replace("-", "−"),
            )
        count = max(1, len(self._rows))
        for i, (name, before, after) in enumerate(self._rows):
            x = area.left() + area.width() * (i + 0.5) / count
            if before is not None and after is not None:
                painter.setPen(QPen(self._theme.color("quiet"), 1))
                painter.drawLine(QPointF(x, y(before)), QPointF(x, y(after)))
            if before is not None:
                painter.setPen(QPen(self._theme.color("quiet"), 1.6))
                painter.setBrush(self._theme.color("page"))
                painter.drawEllipse(QPointF(x, y(before)), 4, 4)
            if after is not None:
                good = self._limits[0] <= after <= self._limits[1]
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(self._theme.color("ink" if good else "red"))
                painter.drawEllipse(QPointF(x, y(after)), 4.5, 4.5)
            painter.setPen(self._theme.color("quiet"))
            text = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, int(area.width() / count - 8))
            painter.drawText(
                QRectF(x - area.width() / count / 2, area.bottom() + 8, area.width() / count, 18),
                Qt.AlignmentFlag.AlignCenter,
                text,
            )
