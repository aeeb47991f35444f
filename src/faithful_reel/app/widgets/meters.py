"""Figures as pictures: the level of what is heard, the evenness of the chapters."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRect, QRectF, Qt
from PyQt6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from faithful_reel.app.theme import DAY, Theme, control_font, scale_of_letters
from faithful_reel.app.widgets.parts import Pressed
from faithful_reel.app.widgets.told import tell_reader
from faithful_reel.core.units import SILENT_DB


class Meter(Pressed, QWidget):
    """Level of what is heard, with the peak latched until it is clicked, or Space or Enter is pressed on it."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Level meter; click or Space forgets the latched peak")
        self.setToolTip("Level and latched peak. Click, or Space here, to forget the peak.")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        k = scale_of_letters()
        self.setFixedSize(round(122 + 68 * k), round(26 * max(1.0, k)))
        self._theme = DAY
        self._rms = self._peak = SILENT_DB
        self.latched = SILENT_DB
        self._read_out()

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        self._theme = theme
        self.update()

    def set_level(self, rms_db: float, peak_db: float) -> None:
        """Show a level; the greatest peak stays."""
        self._rms, self._peak = rms_db, peak_db
        if peak_db > self.latched:
            self.latched = peak_db
            self._read_out()
        self.update()

    def forget(self) -> None:
        """Forget the latched peak."""
        self.latched = SILENT_DB
        self._read_out()
        self.update()

    def _read_out(self) -> None:
        tell_reader(self, self.peak_text)

    @property
    def peak_text(self) -> str:
        """The latched peak in words."""
        return "peak —" if self.latched <= SILENT_DB else f"peak {self.latched:.1f}".replace("-", "−")

    def mousePressEvent(self, _event: object) -> None:  # noqa: N802 - Qt's name
        """Forget the latched peak."""
        self.forget()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802 - Qt's name
        """Space and Enter do what a click does."""
        if event is not None and event.key() == Qt.Key.Key_Space:
            self.press()
        else:
            super().keyPressEvent(event)

    def press(self) -> None:
        """As a click."""
        self.forget()

    def paintEvent(self, _event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """A ruled line with a pointer, as on a letter scale: -60 to 0 dB."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        room = round(68 * scale_of_letters())
        width = self.width() - room - 10
        y = self.height() / 2 + 4
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
        box = QRect(self.width() - room, 0, room - 2, self.height())
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, self.peak_text)
        if self.hasFocus():
            painter.setPen(QPen(self._theme.color("ink"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))


class EvennessPlot(QWidget):
    """One figure of every chapter against its limits, in order: a column of dots a reader takes in at a glance."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Evenness of the chapters' level")
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setMinimumHeight(round(100 * scale_of_letters()))
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
        told = [f"{name}: {_db(before)} as recorded, {_db(after)} mastered" for name, before, after in rows]
        tell_reader(self, f"Limits {limits[0]:g} to {limits[1]:g} dB RMS. " + "; ".join(told))
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """Limits as a band, before as an open ring, after as a full dot."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        k = scale_of_letters()
        area = QRectF(64 * k, 12, self.width() - 64 * k - 20, self.height() - 14 - 30 * k)
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
                QRectF(0, y(db) - 9 * k, 56 * k, 18 * k),
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
                QRectF(x - area.width() / count / 2, area.bottom() + 8, area.width() / count, 18 * k),
                Qt.AlignmentFlag.AlignCenter,
                text,
            )
        if self.hasFocus():
            painter.setPen(QPen(self._theme.color("quiet"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))


def _db(value: float | None) -> str:
    return "not known" if value is None else f"{value:.1f} dB"
