"""The picture of a recording: all of it in one strip, with its room tone, its clipped places and its limits."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from faithful_reel.app.theme import DAY, Theme, control_font
from faithful_reel.app.widgets.galley import Columns, draw_sound
from faithful_reel.app.widgets.told import tell_reader
from faithful_reel.core.units import Span

TOP, FOOT = 16.0, 30.0


class RecordingPicture(QWidget):
    """Draws what it is given: the sound's columns, where the room tone lies, where samples are clipped."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(96)
        self.setAccessibleName("Picture of the recording")
        self._theme = DAY
        self._columns: Columns | None = None
        self._length, self._rate = 0, 44_100
        self._tone: Span | None = None
        self._clipped: NDArray[np.float64] = np.zeros(0)
        self._note = ""
        self._times: Callable[[int], str] = str

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        self._theme = theme
        self.update()

    def set_content(
        self,
        columns: Callable[[NDArray[np.float64]], NDArray[np.float32]] | None,
        length: int,
        rate: int,
        *,
        tone: Span | None,
        times: Callable[[int], str],
        clipped_s: tuple[float, ...] = (),
        note: str = "",
    ) -> None:
        """Show a recording; without columns the note says why there is no picture yet.  `times` tells a position."""
        self._columns, self._length, self._rate, self._tone, self._note = columns, length, rate, tone, note
        self._clipped, self._times = np.array(clipped_s, np.float64), times
        said = [note] if columns is None else [times(length), f"{len(clipped_s)} clipped places"]
        said += [f"room tone at {times(tone.start)}"] if tone else []
        tell_reader(self, ", ".join(said))
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """The strip, below it the room tone's brace and the time, above it a tick for every clipped place."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        width, height = self.width(), self.height() - TOP - FOOT
        painter.fillRect(QRectF(0, TOP, width, height), self._theme.color("strip"))
        painter.setFont(control_font(11, figures=True))
        if self._columns is None or not self._length:
            painter.setPen(self._theme.color("quiet"))
            painter.drawText(QRectF(0, TOP, width, height), Qt.AlignmentFlag.AlignCenter, self._note)
            return
        scale = self.devicePixelRatioF()
        edges = np.linspace(0, self._length, max(2, round(width * scale)) + 1)
        draw_sound(painter, self._columns(edges), 0, TOP, height, self._theme, scale)
        per_second = width * self._rate / self._length
        painter.setPen(QPen(self._theme.color("red"), 1.6))
        for x in np.unique(np.round(self._clipped * per_second)):
            painter.drawPolyline(QPolygonF([QPointF(x - 4, 3), QPointF(x, 11), QPointF(x + 4, 3)]))
        if self._tone is not None:
            a, b = (p * width / self._length for p in (self._tone.start, self._tone.stop))
            b = max(b, a + 6)
            y = TOP + height + 4
            painter.setPen(QPen(self._theme.color("ink"), 1.4))
            painter.drawPolyline(QPolygonF([QPointF(a, y), QPointF(a, y + 4), QPointF(b, y + 4), QPointF(b, y)]))
            painter.setPen(self._theme.color("quiet"))
            text = f"room tone {self._times(self._tone.start)}"
            room = painter.fontMetrics().horizontalAdvance(text)
            painter.drawText(QPointF(min(max(0.0, a), width - room - 60), y + 18), text)
        painter.setPen(self._theme.color("quiet"))
        box = QRectF(width - 120, TOP + height + 8, 120, 16)
        painter.drawText(box, Qt.AlignmentFlag.AlignRight, self._times(self._length))
