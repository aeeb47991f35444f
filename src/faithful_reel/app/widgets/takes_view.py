"""The original and every take of a line under each other, their words standing above one another."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QScrollArea, QWidget

from faithful_reel.app.theme import DAY, Theme, control_font, reading_font, scale_of_letters
from faithful_reel.app.widgets.galley import Columns, draw_sound
from faithful_reel.app.widgets.told import tell_reader

OWN_KEYS = frozenset(
    {
        Qt.Key.Key_Return,
        Qt.Key.Key_Enter,
        Qt.Key.Key_Space,
        Qt.Key.Key_Left,
        Qt.Key.Key_Right,
        Qt.Key.Key_Up,
        Qt.Key.Key_Down,
    }
)
LEFT, RIGHT, WORDS_H, STRIP_H, TOLD_H, GAP = 70.0, 16.0, 30.0, 38.0, 18.0, 6.0


@dataclass(frozen=True, slots=True)
class TakeRow:
    """One strip: its name, where every word of the line is in it, what it looks like, and its judgement in a few words.

    `owned` are the words that the line gets from it; `chosen` tells whether it is the one that is used.
    """

    name: str
    words: tuple[tuple[int, int] | None, ...]
    columns: Columns
    told: str
    owned: frozenset[int] = frozenset()
    chosen: bool = False


class TakesView(QWidget):
    """Up and Down go through the takes, Left and Right through the words; Enter uses the take, Space lets it be heard."""

    row_chosen = pyqtSignal(int)
    row_used = pyqtSignal(int)
    row_heard = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Takes of this line")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip("Up and Down go through the takes, Left and Right through the words. Enter uses a take, Space plays it.")
        self._theme = DAY
        self._texts: tuple[str, ...] = ()
        self._marked: frozenset[int] = frozenset()
        self._rows: tuple[TakeRow, ...] = ()
        self._widths: list[float] = []
        self.at, self.word = 0, 0
        self._empty = ""
        self._area: QScrollArea | None = None

    def follow(self, area: QScrollArea) -> None:
        """Stand in an area that is scrolled: names stay at its left edge, and what the keys are on is brought into it."""
        self._area = area
        bar = area.horizontalScrollBar()
        if bar is not None:
            bar.valueChanged.connect(self._scrolled)

    def _scrolled(self, _at: int) -> None:
        self.update()

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        self._theme = theme
        self.update()

    def set_content(self, texts: Sequence[str], marked: frozenset[int], rows: Sequence[TakeRow], at: int, empty: str) -> None:
        """Show the takes of a line, the keys on one of them; `marked` words are to be minded; `empty` is said where none is."""
        if tuple(texts) != self._texts:
            self.word = min(marked, default=0)
            QTimer.singleShot(0, self._look)  # once it has its new size
        self._texts, self._marked, self._rows, self._empty = tuple(texts), marked, tuple(rows), empty
        self.at = min(max(0, at), max(0, len(rows) - 1))
        self._widths = [QFontMetricsF(reading_font(16)).horizontalAdvance(t) + 14 for t in texts]
        k = scale_of_letters()
        self.setMinimumWidth(round(LEFT * k + sum(self._widths) + RIGHT) if rows else 0)
        self.setMinimumHeight(round(WORDS_H * k + len(rows) * (STRIP_H + (TOLD_H + GAP) * k) + 8) if rows else 90)
        self._read_out()
        self.update()

    def _look(self) -> None:
        xs, k = self._xs(), scale_of_letters()
        if self.word < len(xs):
            height = STRIP_H + (TOLD_H + GAP) * k
            if self._area is not None:
                x, y = round(sum(xs[self.word]) / 2), round(WORDS_H * k + (self.at + 0.5) * height)
                self._area.ensureVisible(x, y, round(LEFT * k) + 60, 60)

    def _read_out(self) -> None:
        if not self._rows:
            tell_reader(self, self._empty)
            return
        row = self._rows[self.at]
        word = self._texts[self.word] if self.word < len(self._texts) else ""
        tell_reader(self, ". ".join(filter(None, (row.name, row.told, f"word {word}" if word else ""))))

    def _go(self, row: int) -> None:
        if self._rows and 0 <= row < len(self._rows):
            self.at = row
            self._read_out()
            self._look()
            self.update()
            self.row_chosen.emit(row)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802 - Qt's name
        """As the class says."""
        if event is None:
            return
        match event.key():
            case Qt.Key.Key_Up:
                self._go(self.at - 1)
            case Qt.Key.Key_Down:
                self._go(self.at + 1)
            case Qt.Key.Key_Left | Qt.Key.Key_Right:
                step = 1 if event.key() == Qt.Key.Key_Right else -1
                self.word = min(max(0, self.word + step), max(0, len(self._texts) - 1))
                self._read_out()
                self._look()
                self.update()
            case Qt.Key.Key_Return | Qt.Key.Key_Enter:
                self.row_used.emit(self.at)
            case Qt.Key.Key_Space:
                self.row_heard.emit(self.at)
            case _:
                super().keyPressEvent(event)

    def event(self, event: QEvent | None) -> bool:
        """Enter, Space and the arrows belong to the takes while they have the keys."""
        asked = isinstance(event, QKeyEvent) and event.type() is QEvent.Type.ShortcutOverride and not event.modifiers()
        if asked and isinstance(event, QKeyEvent) and event.key() in OWN_KEYS and self._rows:
            event.accept()
            return True
        return bool(super().event(event))

    def _row_at(self, y: float) -> int:
        k = scale_of_letters()
        row = int((y - WORDS_H * k) // (STRIP_H + (TOLD_H + GAP) * k)) if y >= WORDS_H * k else -1
        return row if 0 <= row < len(self._rows) else -1

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """A click takes a take in hand, and the word under it."""
        if event is None:
            return
        for k, (a, b) in enumerate(self._xs()):
            if a <= event.position().x() < b:
                self.word = k
        self._go(self._row_at(event.position().y()))

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """A double click plays it."""
        row = self._row_at(event.position().y()) if event is not None else -1
        if row >= 0:
            self.row_heard.emit(row)

    def focusInEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802 - Qt's name
        """A frame tells where the keys go."""
        super().focusInEvent(event)
        self.update()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802 - Qt's name
        """The frame goes."""
        super().focusOutEvent(event)
        self.update()

    def _seen_width(self) -> int:
        view = self._area.viewport() if self._area is not None else None
        return view.width() if view is not None else self.width()

    def _xs(self) -> list[tuple[float, float]]:
        """Left and right of every word's column."""
        left = LEFT * scale_of_letters()
        room = self.width() - left - RIGHT
        scale = min(1.7, max(1.0, room / max(1.0, sum(self._widths))))
        xs, x = [], left
        for width in self._widths:
            xs.append((x, x + width * scale))
            x += width * scale
        return xs

    def paintEvent(self, _event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """The words, and under them the strips, each with its judgement."""
        painter, theme, k = QPainter(self), self._theme, scale_of_letters()
        painter.fillRect(self.rect(), theme.color("page"))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self._rows:
            painter.setFont(reading_font(16))
            painter.setPen(theme.color("quiet"))
            flags = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(QRectF(self.rect()).adjusted(24, 8, -24, -8), flags, self._empty)
            return
        xs = self._xs()
        painter.setFont(reading_font(16))
        for number, (text, (a, b)) in enumerate(zip(self._texts, xs, strict=True)):
            painter.setPen(theme.color("ink"))
            painter.drawText(QRectF(a, 0, b - a, WORDS_H * k), Qt.AlignmentFlag.AlignCenter, text)
            if number in self._marked:  # a rule under the words to mind
                painter.setPen(QPen(theme.color("red"), 1.6))
                painter.drawLine(QPointF(a + 6, WORDS_H * k - 3), QPointF(b - 6, WORDS_H * k - 3))
            if self.hasFocus() and number == self.word:
                painter.setPen(QPen(theme.color("ink"), 1))
                painter.drawRect(QRectF(a + 1, 2, b - a - 2, WORDS_H * k - 5))
        edge, y = float(max(0, -self.x())), WORDS_H * k
        if edge:  # the names stay where they are
            painter.fillRect(QRectF(edge, 0, LEFT * k, y), theme.color("page"))
        for number, row in enumerate(self._rows):
            self._paint_row(painter, row, y, xs, at_hand=number == self.at)
            y += STRIP_H + (TOLD_H + GAP) * k

    def _paint_row(self, painter: QPainter, row: TakeRow, y: float, xs: Sequence[tuple[float, float]], *, at_hand: bool) -> None:
        theme, k, left = self._theme, scale_of_letters(), LEFT * scale_of_letters()
        edge = float(max(0, -self.x()))  # of what is seen
        at: list[float] = []
        ts: list[float] = []
        last = -1.0
        for span, (a, b) in zip(row.words, xs, strict=False):
            if span is not None and span[0] >= last:
                at += [a + 3, b - 3]
                ts += [float(span[0]), float(max(span))]
                last = float(max(span))
        if at_hand:
            painter.fillRect(QRectF(0, y, self.width(), STRIP_H + TOLD_H * k), theme.color("chosen"))
        if at:
            at = [at[0] - 8, *at, at[-1] + 8]
            ts = [ts[0] - 6000, *ts, ts[-1] + 6000]
            scale = self.devicePixelRatioF()
            painter.fillRect(QRectF(at[0], y, at[-1] - at[0], STRIP_H), theme.color("strip"))
            edges = np.interp(np.linspace(at[0], at[-1], round((at[-1] - at[0]) * scale) + 1), at, ts)
            draw_sound(painter, row.columns(np.maximum(edges, 0)), at[0], y, STRIP_H, theme, scale)
        for number, (a, b) in enumerate(xs):
            if number in row.owned:
                painter.fillRect(QRectF(a + 2, y + STRIP_H - 3, b - a - 4, 3), theme.color("ink"))
        painter.setFont(control_font(12, strong=row.chosen))
        painter.setPen(theme.color("ink" if row.chosen or at_hand else "quiet"))
        box = QRectF(edge + 4, y, left - 14, STRIP_H)
        if edge:
            painter.fillRect(QRectF(edge, y, left, STRIP_H), theme.color("chosen" if at_hand else "page"))
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, row.name)
        if row.chosen:  # a pointer beside the one that is used
            tip = QPointF(edge + left - 3, y + STRIP_H / 2)
            painter.setBrush(theme.color("ink"))
            painter.drawPolygon(QPolygonF([tip + QPointF(-6, -4), tip, tip + QPointF(-6, 4)]))
        painter.setFont(control_font(11))
        painter.setPen(theme.color("ink" if at_hand else "quiet"))
        told = painter.fontMetrics().elidedText(
            row.told, Qt.TextElideMode.ElideRight, int(min(self.width(), self._seen_width()) - left - RIGHT)
        )
        painter.drawText(QRectF(edge + left, y + STRIP_H, self.width() - left, TOLD_H * k), Qt.AlignmentFlag.AlignVCenter, told)
        if at_hand and self.hasFocus():
            painter.setPen(QPen(theme.color("ink"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(0.5, y + 0.5, self.width() - 1.5, STRIP_H + TOLD_H * k - 1))
