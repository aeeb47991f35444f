"""A take as it was recorded: its sound, where the lead-in ended, and what of it was read, whose two margins can be dragged."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from faithful_reel.app.theme import DAY, Theme, control_font, scale_of_letters
from faithful_reel.app.widgets.galley.strips import draw_sound
from faithful_reel.app.widgets.told import tell_reader
from faithful_reel.core.audio.overview import Overview
from faithful_reel.core.units import Span

HEIGHT, TOLD_H, REACH_PX = 64, 18, 8


class TakeStrip(QWidget):
    """Shows one take; emits by how many samples the start, and the stop, of what was read are to move."""

    shifted = pyqtSignal(int, int)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("The take")
        self.setToolTip("Drag the two margins of what was read; what is pale is not used")
        self.setFixedHeight(round(HEIGHT + TOLD_H * scale_of_letters()))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMouseTracking(True)
        self._theme = DAY
        self._look: Overview | None = None
        self._begun, self._reading = 0, Span(0, 0)
        self._held = ""

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        self._theme = theme
        self.update()

    def set_take(self, look: Overview | None, begun: int, reading: Span, told: str) -> None:
        """Show a take, or none; `told` says it in words."""
        self._look, self._begun, self._reading = look, begun, reading
        tell_reader(self, told)
        self.update()

    def _x(self, position: int) -> float:
        return position / max(1, self._look.length if self._look else 1) * self.width()

    def _under(self, x: float) -> str:
        """The margin near a place: `start`, `stop`, or none."""
        far = {"start": abs(x - self._x(self._reading.start)), "stop": abs(x - self._x(self._reading.stop))}
        near = min(far, key=lambda name: far[name])
        return near if self._look is not None and far[near] <= REACH_PX else ""

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """Take a margin in hand."""
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self._held = self._under(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """Move what is in hand."""
        if event is None or self._look is None:
            return
        if not self._held:
            over = self._under(event.position().x())
            self.setCursor(Qt.CursorShape.SizeHorCursor if over else Qt.CursorShape.ArrowCursor)
            return
        to = round(event.position().x() / max(1, self.width()) * self._look.length)
        if self._held == "start":
            self.shifted.emit(to - self._reading.start, 0)
        else:
            self.shifted.emit(0, to - self._reading.stop)

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """Let it go."""
        self._held = ""

    def paintEvent(self, _event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """The sound, pale where it is not used, with the lead-in's end as a line of dots."""
        painter, theme = QPainter(self), self._theme
        painter.fillRect(self.rect(), theme.color("page"))
        if self._look is None:
            return
        scale, width = self.devicePixelRatioF(), self.width()
        first, last = self._x(self._reading.start), self._x(self._reading.stop)
        painter.fillRect(QRectF(first, 0, last - first, HEIGHT), theme.color("strip"))
        edges = np.linspace(0, self._look.length, round(width * scale) + 1)
        draw_sound(painter, self._look.columns(edges), 0, 0, HEIGHT, theme, scale)
        veil = theme.color("page")
        veil.setAlphaF(0.65)
        painter.fillRect(QRectF(0, 0, first, HEIGHT), veil)
        painter.fillRect(QRectF(last, 0, width - last, HEIGHT), veil)
        painter.setPen(QPen(theme.color("ink"), 1.4))
        for x in (first, last):
            painter.drawLine(round(x), 0, round(x), HEIGHT)
        painter.setFont(control_font(11))
        if self._begun:
            painter.setPen(QPen(theme.color("quiet"), 1, Qt.PenStyle.DotLine))
            at = round(self._x(self._begun))
            painter.drawLine(at, 0, at, HEIGHT)
            painter.setPen(theme.color("quiet"))
            box = QRectF(0, HEIGHT, max(at - 4, 0), self.height() - HEIGHT)
            painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, "lead-in")
