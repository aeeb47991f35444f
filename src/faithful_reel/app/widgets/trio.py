"""Three strips under one another: original, result and take, with their words standing above each other."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from faithful_reel.app.theme import DAY, Theme, control_font, reading_font, scale_of_letters
from faithful_reel.app.widgets.galley import Columns, draw_sound
from faithful_reel.app.widgets.told import tell_reader
from faithful_reel.core.work.splicing import LineWord

LEFT = 78.0
STRIP_H, HIGHEST_STRIP = 46.0, 84.0
WORDS_H = 30.0
GAP = 15.0
RIGHT = 24


@dataclass(frozen=True, slots=True)
class TrioBoundary:
    """A proposed boundary in the original and in the take, and its rank; 0 is the chosen one."""

    original: int
    take: int
    entering: bool
    rank: int
    index: int


class Trio(QWidget):
    """Every word has one column; each strip is stretched so that its word fills it.  A long line is wider than the view."""

    boundary_clicked = pyqtSignal(bool, int)
    boundary_dragged = pyqtSignal(bool, int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Original, result and take, word by word")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip(
            "Left and right try the proposals where the take begins, with Shift where it ends; or click one. "
            "The chosen one can be drawn along."
        )
        self._scale = scale_of_letters()
        self._words_h, self._left = WORDS_H * self._scale, LEFT * self._scale
        self.setMinimumHeight(round(self._words_h + 3 * STRIP_H + 3 * GAP + 10))
        self._theme = DAY
        self._words: tuple[LineWord, ...] = ()
        self._boundaries: tuple[TrioBoundary, ...] = ()
        self._columns: tuple[Columns, Columns, Columns] | None = None
        self._playhead = -1
        self._spots: list[tuple[QPointF, TrioBoundary]] = []
        self._empty = ""
        self._widths: list[float] = []
        self._held: TrioBoundary | None = None
        self._dragged_to = 0.0

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        self._theme = theme
        self.update()

    def set_content(
        self,
        words: tuple[LineWord, ...],
        boundaries: tuple[TrioBoundary, ...],
        columns: tuple[Columns, Columns, Columns] | None,
        empty: str,
    ) -> None:
        """Show a splice; `empty` is what stands here where there is none."""
        self._words, self._boundaries, self._columns, self._empty = words, boundaries, columns, empty
        self._widths = [QFontMetricsF(reading_font(16)).horizontalAdvance(w.text) + 14 for w in words]
        self.setMinimumWidth(round(self._left + sum(self._widths) + RIGHT) if words else 0)
        self._read_out()
        self.update()

    def _read_out(self) -> None:
        """Tell assistive technology what is shown."""
        if not self._words:
            tell_reader(self, self._empty)
            return
        line = " ".join(w.text for w in self._words)
        taken = " ".join(w.text for w in self._words if w.from_take)
        chosen = [self._told(b) for b in self._boundaries if b.rank == 0]
        tell_reader(self, ". ".join(filter(None, (line, f"from the take: {taken}" if taken else "", *chosen))))

    def _told(self, boundary: TrioBoundary) -> str:
        name = "begins" if boundary.entering else "ends"
        others = sum(b.entering is boundary.entering for b in self._boundaries)
        return f"the take {name} at proposal {boundary.index + 1} of {others}"

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802 - Qt's name
        """Left and right try the proposals where the take begins, with Shift where it ends."""
        if event is None or event.key() not in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            super().keyPressEvent(event)
            return
        entering = not event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        mine = sorted((b for b in self._boundaries if b.entering is entering), key=lambda b: b.original)
        at = next((i for i, b in enumerate(mine) if b.rank == 0), -1)
        to = at + (1 if event.key() == Qt.Key.Key_Right else -1)
        if at >= 0 and 0 <= to < len(mine):
            self.boundary_clicked.emit(entering, mine[to].index)

    def focusInEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802 - Qt's name
        """A frame tells where the keys go."""
        super().focusInEvent(event)
        self.update()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802 - Qt's name
        """The frame goes."""
        super().focusOutEvent(event)
        self.update()

    def place_of(self, *, entering: bool) -> int:
        """Where the chosen boundary stands, in pixels from the left; -1 where there is none."""
        chosen = next((b for b in self._boundaries if b.entering is entering and b.rank == 0), None)
        at, ts = self._knots(0, self._xs()) if self._words else ([], [])
        return round(float(np.interp(chosen.original, ts, at))) if chosen and at else -1

    def set_playhead(self, position: int) -> None:
        """Where the result is being heard."""
        self._playhead = position
        self.update()

    @property
    def _strip_h(self) -> float:
        """How high a strip is: as much as there is room for."""
        room = (self.height() - self._words_h - 3 * GAP - 10) / 3
        return min(HIGHEST_STRIP, max(STRIP_H, room))

    def _xs(self) -> list[tuple[float, float]]:
        """Left and right of every word's column."""
        widths = self._widths
        room = self.width() - self._left - RIGHT
        scale = min(1.7, max(1.0, room / max(1.0, sum(widths))))
        xs, x = [], self._left
        for width in widths:
            xs.append((x, x + width * scale))
            x += width * scale
        return xs

    def _knots(self, row: int, xs: Sequence[tuple[float, float]]) -> tuple[list[float], list[float]]:
        at, ts = [], []
        last = -1.0
        for word, (a, b) in zip(self._words, xs, strict=True):
            span = (word.original, word.result, word.take)[row]
            if span is not None and span[0] >= last:
                at += [a + 3, b - 3]
                ts += [float(span[0]), float(max(span))]
                last = float(max(span))
        if at:  # a quarter of a second on either side
            at = [at[0] - 12, *at, at[-1] + 12]
            ts = [ts[0] - 11_025, *ts, ts[-1] + 11_025]
        return at, ts

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """A click on a proposal chooses it."""
        if event is None:
            return
        for spot, boundary in self._spots:
            if abs(spot.x() - event.position().x()) < 7 and abs(spot.y() - event.position().y()) < 9:
                if boundary.rank == 0:
                    self._held, self._dragged_to = boundary, event.position().x()
                else:
                    self.boundary_clicked.emit(boundary.entering, boundary.index)
                return

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """The chosen boundary goes with the mouse."""
        if event is not None and self._held is not None:
            self._dragged_to = event.position().x()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """Where it is let go it stays."""
        held, self._held = self._held, None
        if event is None or held is None:
            return
        at, ts = self._knots(0, self._xs())
        by = round(float(np.interp(event.position().x(), at, ts))) - held.original if at else 0
        if by:
            self.boundary_dragged.emit(held.entering, by)
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """Words on top, then the three strips; the replaced words stand on the light of the take."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), self._theme.color("page"))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._spots = []
        if self.hasFocus():
            painter.setPen(QPen(self._theme.color("quiet"), 1))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        if not self._words:
            painter.setFont(reading_font(16))
            painter.setPen(self._theme.color("quiet"))
            painter.drawText(
                QRectF(self.rect()).adjusted(40, 20, -40, -20),
                Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                self._empty,
            )
            return
        xs = self._xs()
        scale = self.devicePixelRatioF()
        for word, (a, b) in zip(self._words, xs, strict=True):
            if word.from_take:
                painter.fillRect(
                    QRectF(a, 2, b - a, self._words_h + 2 * (self._strip_h + GAP) - GAP), self._theme.color("chosen")
                )
            painter.setFont(reading_font(16))
            painter.setPen(self._theme.color("ink"))
            painter.drawText(QRectF(a, 0, b - a, self._words_h), Qt.AlignmentFlag.AlignCenter, word.text)
        for row, name in enumerate(("original", "result", "take")):
            y = self._words_h + row * (self._strip_h + GAP)
            painter.setFont(control_font(12, strong=row == 1))
            painter.setPen(self._theme.color("ink" if row == 1 else "quiet"))
            painter.drawText(
                QRectF(0, y, self._left - 12, self._strip_h), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, name
            )
            at, ts = self._knots(row, xs)
            if not at or self._columns is None:
                continue
            columns = self._columns[row]
            painter.fillRect(QRectF(at[0], y, at[-1] - at[0], self._strip_h), self._theme.color("strip"))
            edges: NDArray[np.float64] = np.interp(np.linspace(at[0], at[-1], round((at[-1] - at[0]) * scale) + 1), at, ts)
            draw_sound(painter, columns(np.maximum(edges, 0)), at[0], y, self._strip_h, self._theme, scale)
            if row != 1:
                self._paint_boundaries(painter, row, y, at, ts)
            elif self._playhead >= 0 and ts[0] <= self._playhead <= ts[-1]:
                x = float(np.interp(self._playhead, ts, at))
                painter.setPen(QPen(self._theme.color("ink"), 1.4))
                painter.drawLine(QPointF(x, y), QPointF(x, y + self._strip_h))

    def _paint_boundaries(self, painter: QPainter, row: int, y: float, at: list[float], ts: list[float]) -> None:
        for boundary in sorted(self._boundaries, key=lambda b: -b.rank):
            x = float(np.interp(boundary.original if row == 0 else boundary.take, ts, at))
            if boundary is self._held:
                x = min(max(self._dragged_to, at[0]), at[-1])
            chosen = boundary.rank == 0
            pen = QPen(self._theme.color("ink" if chosen else "quiet"), 1.8 if chosen else 1)
            if not chosen:
                pen.setDashPattern([2, 3])
            painter.setPen(pen)
            painter.drawLine(QPointF(x, y - 2), QPointF(x, y + self._strip_h + 2))
            spot = QPointF(x, y + self._strip_h + 8 if row == 0 else y - 7)
            painter.setBrush(self._theme.color("ink" if chosen else "page"))
            reach = 5.0 if boundary.entering else -5.0
            painter.drawPolygon(QPolygonF([spot + QPointF(-reach, -4), spot + QPointF(reach, 0), spot + QPointF(-reach, 4)]))
            self._spots.append((spot, boundary))
