"""The loupe: the spot under the cursor, as close as single samples; waveform or spectrogram."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QFocusEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QWheelEvent,
)
from PyQt6.QtWidgets import QWidget

from faithful_reel.app.theme import DAY, Theme, control_font, reading_font, scale_of_letters
from faithful_reel.app.widgets.galley import Columns, draw_sound
from faithful_reel.app.widgets.told import tell_reader
from faithful_reel.app.widgets.turns import own_turn
from faithful_reel.core.units import Signal, clock

WORDS_H, RULER_H = 20.0, 16.0
NEAREST, FARTHEST_S = 60, 90.0
SAMPLES_BELOW = 64.0
SPECTRUM_LONGEST_S = 30.0
LEAST_DRAG, GRIP_PX, SNAP_PX = 4, 5, 8
"""Pixels: a shorter way is a click; so near is on an edge; so near an edge snaps."""


class LoupeWord(Protocol):
    """A word's text and edges, in samples."""

    @property
    def text(self) -> str: ...
    @property
    def start(self) -> int: ...
    @property
    def stop(self) -> int: ...


class LoupeWords(Protocol):
    """Words in the order of time, with their starts as a column."""

    @property
    def starts(self) -> NDArray[np.int64]: ...
    def __getitem__(self, index: int, /) -> LoupeWord: ...


@dataclass(frozen=True, slots=True, eq=False)
class LoupeContent:
    """What a loupe shows: the sound's columns, its samples, its spectrogram; `tone_level` is the amplitude of its room tone."""

    columns: Columns | None = None
    render: Callable[[int, int], Signal] | None = None
    spectrum: Callable[[Signal, int], NDArray[np.float32]] | None = None
    length: int = 0
    rate: int = 44_100
    words: LoupeWords | None = None
    joins: tuple[int, ...] = ()
    tone_level: float | None = None


class Loupe(QWidget):
    """A close, evenly spaced view of one stretch.  Wheel scrolls, Ctrl+wheel or +/- zooms, a click moves the cursor.

    Dragging marks a span of sound, whose edges can be dragged again; Shift and a click stretch it; a click takes it away.
    Dragged edges snap to the places that `snap` knows, unless Alt is held.
    """

    clicked = pyqtSignal(int)
    span_wanted = pyqtSignal(int, int)
    none_wanted = pyqtSignal()
    let_go = pyqtSignal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("loupe")
        self.setAccessibleName("Loupe: the sound close up")
        scale = scale_of_letters()
        self._words_h, self._ruler_h = WORDS_H * scale, RULER_H * scale
        self.setMinimumHeight(round(82 + 36 * scale))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip(
            "Wheel: along the sound. Ctrl+wheel, + and −: closer and farther. "
            "Click or arrows: move here. Drag or Shift+arrows: mark; drag an edge to move it, with Alt without snapping."
        )
        self._theme = DAY
        self._columns: Columns | None = None
        self._render: Callable[[int, int], Signal] | None = None
        self._spectrum_of: Callable[[Signal, int], NDArray[np.float32]] | None = None
        self._length, self._rate = 0, 44_100
        self._words: LoupeWords | None = None
        self._joins: tuple[int, ...] = ()
        self._tone_level: float | None = None
        self._centre, self._span = 0.0, 4.0 * 44_100
        self._playhead = -1
        self.spectrum = False
        self._image_key: tuple[float, float, int, int] | None = None
        self._image: QImage | None = None
        self._picture: QPixmap | None = None  # all but the playhead, at the size that it was drawn for
        self._paint_timer = own_turn(self, self.update)
        self._pressed = -1  # the end of what is dragged that stays
        self._dragging = False
        self.snap: Callable[..., int] = _unsnapped
        self.spans: list[tuple[int, int]] = []
        self.setMouseTracking(True)

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        self._theme = theme
        self._image_key = None
        self._redraw()

    def set_content(self, content: LoupeContent) -> None:
        """Show a chapter's sound."""
        self._columns, self._render, self._spectrum_of = content.columns, content.render, content.spectrum
        self._length, self._rate, self._words = content.length, content.rate, content.words
        self._joins, self._tone_level = content.joins, content.tone_level
        self._centre = min(self._centre, float(content.length))
        self._image_key = None
        self._redraw()

    @property
    def stretch(self) -> tuple[int, int]:
        """The span at hand; (-1, -1) for none."""
        return self.spans[-1] if self.spans else (-1, -1)

    def set_spans(self, spans: Sequence[tuple[int, int]]) -> None:
        """Show what is marked; the last is the one at hand."""
        if self.spans != list(spans):
            self.spans = list(spans)
            self._redraw()
            self._read_out()

    def bring(self, position: int) -> None:
        """Bring a position into view, where it is not."""
        if not self._from() <= position <= self._from() + self._span:
            self.look_at(position)

    def look_at(self, position: int, *, span_s: float | None = None) -> None:
        """Bring a position to the middle."""
        if span_s is not None:
            self._span = max(NEAREST, span_s * self._rate)
        self._centre = float(position)
        self._redraw()

    def set_playhead(self, position: int, *, follow: bool) -> None:
        """Show where sound is being heard."""
        self._playhead = position
        if follow and not self._from() + 0.05 * self._span <= position <= self._from() + 0.9 * self._span:
            self._centre = position + 0.4 * self._span
            self._redraw()
        self.update()

    def set_spectrum(self, *, shown: bool) -> None:
        """Spectrogram instead of waveform."""
        self.spectrum = shown
        self._image_key = None
        self._redraw()

    def zoom(self, factor: float) -> None:
        """Closer (under 1) or farther (over 1)."""
        self._span = float(np.clip(self._span * factor, NEAREST, FARTHEST_S * self._rate))
        self._redraw()

    @property
    def samples_per_pixel(self) -> float:
        """How close it looks."""
        return self._span / max(1, self.width())

    def _from(self) -> float:
        latest = max(0.0, self._length - self._span)
        return min(latest, max(0.0, self._centre - self._span / 2))

    def _x(self, position: float) -> float:
        return (position - self._from()) / self._span * self.width()

    def _redraw(self) -> None:
        self._picture = None
        self._paint_timer.start()

    # --- events ---------------------------------------------------------------------------------------------------

    def wheelEvent(self, event: QWheelEvent | None) -> None:  # noqa: N802 - Qt's name
        """Scroll, or zoom with Ctrl."""
        if event is None:
            return
        steps = event.angleDelta().y() / 120
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            under = self._from() + event.position().x() / max(1, self.width()) * self._span
            before = self._span
            self.zoom(0.8**steps)
            self._centre = under + (self._centre - under) * self._span / before
        else:
            self._centre = float(np.clip(self._centre - steps * 0.15 * self._span, 0, self._length))
        self._redraw()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """A click says where; near an edge of what is marked it takes hold of the edge, with Shift it stretches the span."""
        if event is None or not self._length or event.button() is not Qt.MouseButton.LeftButton:
            return
        self.setFocus()
        at, edge = self._position(event), self._edge_near(event)
        self._dragging = edge is not None
        if edge is not None:
            self._pressed = self.stretch[0] if edge == self.stretch[1] else self.stretch[1]
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            first, last = self.stretch if self.spans else (max(0, self._playhead),) * 2
            self._pressed = last if abs(at - first) < abs(at - last) else first
            self._drag_to(at, event)
        else:
            self._pressed = at
            self.none_wanted.emit()
            self.clicked.emit(at)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """Dragging marks a span, or moves an edge of it."""
        if event is None:
            return
        if not event.buttons() & Qt.MouseButton.LeftButton or self._pressed < 0:
            near = self._edge_near(event) is not None
            self.setCursor(Qt.CursorShape.SizeHorCursor if near else Qt.CursorShape.ArrowCursor)
            return
        at = self._position(event)
        if self._dragging or abs(self._x(at) - self._x(self._pressed)) >= LEAST_DRAG:
            self._dragging = True
            self._drag_to(at, event)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """What is dragged is let go."""
        self._pressed, self._dragging = -1, False
        if event is not None:
            event.accept()

    def _drag_to(self, at: int, event: QMouseEvent) -> None:
        free = event.modifiers() & Qt.KeyboardModifier.AltModifier
        to = at if free else self.snap(at, reach=round(SNAP_PX * self.samples_per_pixel))
        self.span_wanted.emit(min(to, self._pressed), max(to, self._pressed))

    def _edge_near(self, event: QMouseEvent) -> int | None:
        """The edge of what is marked that the mouse is on."""
        x = event.position().x()
        edges = [e for e in self.stretch if e >= 0 and abs(self._x(e) - x) <= GRIP_PX]
        return min(edges, key=lambda e: abs(self._x(e) - x), default=None)

    def _position(self, event: QMouseEvent) -> int:
        position = round(self._from() + event.position().x() / max(1, self.width()) * self._span)
        return int(np.clip(position, 0, self._length))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802 - Qt's name
        """Arrows move the cursor a twentieth of the view, with Shift they mark; PgUp and PgDn scroll; + and − zoom.

        Home and End go to the chapter's ends, Esc takes the mark away.
        """
        if event is None:
            return
        key, held = Qt.Key(event.key()), event.modifiers()
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(0.7)
        elif key is Qt.Key.Key_Minus:
            self.zoom(1 / 0.7)
        elif key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown) and self._length and not held & Qt.KeyboardModifier.ControlModifier:
            way = 1 if key is Qt.Key.Key_PageDown else -1
            self._centre = float(np.clip(self._centre + way * 0.8 * self._span, 0, self._length))
            self._redraw()
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right) and self._length and not held & Qt.KeyboardModifier.AltModifier:
            way = 1 if key is Qt.Key.Key_Right else -1
            self._step(way * self._span / 20, mark=bool(held & Qt.KeyboardModifier.ShiftModifier))
        elif key in (Qt.Key.Key_Home, Qt.Key.Key_End) and self._length:
            self._go(0 if key is Qt.Key.Key_Home else self._length - 1)
        elif key is Qt.Key.Key_Escape and self.spans:
            self.let_go.emit()
        else:
            super().keyPressEvent(event)
        self._read_out()

    def _step(self, by: float, *, mark: bool) -> None:
        """Move the cursor, or with `mark` the end of what is marked that lies under it."""
        before = max(0, self._playhead)
        at = int(np.clip(round(before + by), 0, self._length - 1))
        if mark:
            first, last = self.stretch if self.stretch[0] >= 0 else (before, before)
            first, last = (at, last) if before == first and (before != last or by < 0) else (first, at)
            self.span_wanted.emit(min(first, last), max(first, last))
        self._go(at)

    def _go(self, position: int) -> None:
        self.clicked.emit(position)
        if not self._from() <= position <= self._from() + self._span:
            self.look_at(position)

    def focusInEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802 - Qt's name
        """A frame tells where the keys go."""
        super().focusInEvent(event)
        self._read_out()
        self.update()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802 - Qt's name
        """The frame goes."""
        super().focusOutEvent(event)
        self.update()

    def _read_out(self) -> None:
        """Tell assistive technology what is shown."""
        if not self._length:
            tell_reader(self, "No sound here yet")
            return
        rate, first = self._rate, self._from()
        told = [f"{clock(first / rate)} to {clock(min(self._length, first + self._span) / rate)}"]
        if self._playhead >= 0:
            told.append(f"cursor at {clock(self._playhead / rate)}")
            word = self._word_at(self._playhead)
            told += [f"word {word.text}"] if word else []
        if self.stretch[0] >= 0:
            told.append(f"marked {clock(self.stretch[0] / rate)} to {clock(self.stretch[1] / rate)}")
        tell_reader(self, ", ".join(told))

    def _word_at(self, position: int) -> LoupeWord | None:
        if self._words is None:
            return None
        index = int(np.searchsorted(self._words.starts, position, side="right")) - 1
        word = self._words[index] if index >= 0 else None
        return word if word is not None and word.stop > position else None

    # --- painting -------------------------------------------------------------------------------------------------

    def paintEvent(self, _event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """The picture is kept; the playhead goes over it."""
        scale = self.devicePixelRatioF()
        size = self.size() * scale
        if self._picture is None or self._picture.size() != size:
            self._picture = QPixmap(size)
            self._picture.setDevicePixelRatio(scale)
            with QPainter(self._picture) as painter:
                self._paint(painter)
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._picture)
        if self._playhead >= 0 and self._length:
            x = self._x(self._playhead)
            painter.setPen(QPen(self._theme.color("ink"), 1.4))
            painter.drawLine(QPointF(x, self._words_h), QPointF(x, self.height() - self._ruler_h))
        if self.hasFocus():
            painter.setPen(QPen(self._theme.color("quiet"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))

    def _paint(self, painter: QPainter) -> None:
        """Words and their edges above, the sound below, times at the foot."""
        painter.fillRect(self.rect(), self._theme.color("page"))
        painter.fillRect(QRectF(0, 0, self.width(), 1), self._theme.color("hairline"))
        if not self._length:
            painter.setPen(self._theme.color("quiet"))
            painter.setFont(control_font(12))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Loupe: no sound here yet")
            return
        top, height = self._words_h, self.height() - self._words_h - self._ruler_h
        painter.fillRect(QRectF(0, top, self.width(), height), self._theme.color("strip"))
        for start, stop in self.spans:
            a, b = self._x(start), self._x(stop)
            painter.fillRect(QRectF(a, top, b - a, height), self._theme.color("lit"))
        if self.spectrum and self._span <= SPECTRUM_LONGEST_S * self._rate:
            self._paint_spectrum(painter, top, height)
        elif self.samples_per_pixel < SAMPLES_BELOW:
            self._paint_samples(painter, top, height)
        elif self._columns is not None:
            scale = self.devicePixelRatioF()
            edges = np.linspace(self._from(), self._from() + self._span, round(self.width() * scale) + 1)
            inside = np.clip(edges, 0, self._length)
            draw_sound(painter, self._columns(inside), 0, top, height, self._theme, scale)
        self._paint_tone(painter, top, height)
        self._paint_words(painter, top, height)
        self._paint_ruler(painter, top + height)

    def _paint_samples(self, painter: QPainter, top: float, height: float) -> None:
        if self._render is None:
            return
        start, stop = max(0, int(self._from()) - 1), min(self._length, int(self._from() + self._span) + 2)
        if stop <= start:
            return
        x = self._render(start, stop)
        shaped = np.sign(x) * np.abs(x) ** 0.6
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(self._theme.color("wave"), 1.2))
        points = [QPointF(self._x(start + i), top + height / 2 * (1 - float(v))) for i, v in enumerate(shaped)]
        painter.drawPolyline(QPolygonF(points))
        if self.samples_per_pixel < 0.2:
            painter.setBrush(self._theme.color("wave"))
            for point in points:
                painter.drawEllipse(point, 1.8, 1.8)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, on=False)

    def _paint_spectrum(self, painter: QPainter, top: float, height: float) -> None:
        if self._render is None or self._spectrum_of is None:
            return
        key = (self._from(), self._span, self.width(), int(height))
        if key != self._image_key:
            start, stop = int(self._from()), int(self._from() + self._span)
            inside = self._render(max(0, start), min(self._length, max(stop, 1)))
            x = np.zeros(stop - start, np.float32)
            at = max(0, -start)
            x[at : at + len(inside)] = inside[: len(x) - at]
            shade = self._spectrum_of(x, self.width())
            ink, paper = self._theme.color("ink"), self._theme.color("strip")
            ramp = np.array([[_mixed(paper, ink, i / 255)] for i in range(256)], np.uint32)[:, 0]
            pixels = np.ascontiguousarray(ramp[(np.clip(shade, 0, 1) * 255).astype(np.uint8)])
            self._image = QImage(
                pixels.tobytes(), pixels.shape[1], pixels.shape[0], pixels.shape[1] * 4, QImage.Format.Format_RGB32
            ).copy()
            self._image_key = key
        if self._image is not None:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(QRectF(0, top, self.width(), height), self._image)

    def _paint_tone(self, painter: QPainter, top: float, height: float) -> None:
        if self._tone_level is None or self.spectrum:
            return
        pen = QPen(self._theme.color("quiet"), 1)
        pen.setDashPattern([2, 5])
        painter.setPen(pen)
        reach = height / 2 * self._tone_level**0.6
        for y in (top + height / 2 - reach, top + height / 2 + reach):
            painter.drawLine(QPointF(0, y), QPointF(self.width(), y))

    def _paint_words(self, painter: QPainter, top: float, height: float) -> None:
        start, stop = self._from(), self._from() + self._span
        painter.setFont(reading_font(14))
        dots = QPen(self._theme.color("quiet"), 1)
        dots.setDashPattern([1, 3])
        wide = self.width() / self._span * self._rate > 45
        first, last = np.searchsorted(self._words.starts, (start, stop), side="right").tolist() if self._words else (0, 0)
        for index in range(max(0, first - 1), last):
            assert self._words is not None
            word = self._words[index]
            if word.stop < start:
                continue
            a, b = self._x(word.start), self._x(word.stop)
            painter.setPen(dots)
            painter.drawLine(QPointF(a, 2), QPointF(a, top + height))
            painter.drawLine(QPointF(b, top - 4), QPointF(b, top + height))
            if wide and b - a > painter.fontMetrics().horizontalAdvance(word.text):
                painter.setPen(self._theme.color("ink"))
                painter.drawText(
                    QRectF(a + 3, 0, max(60.0, b - a), self._words_h),
                    Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
                    word.text,
                )
        painter.setPen(QPen(self._theme.color("ink"), 1.6))
        for at in self._joins:
            if start <= at <= stop:
                x = self._x(at)
                painter.drawLine(QPointF(x, top), QPointF(x, top + height))
                painter.drawLine(QPointF(x - 6, top + height), QPointF(x, top + height - 7))
                painter.drawLine(QPointF(x, top + height - 7), QPointF(x + 6, top + height))

    def _paint_ruler(self, painter: QPainter, y: float) -> None:
        seconds = self._span / self._rate
        step = next(
            s
            for s in (0.0005, 0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 60)
            if s >= seconds / 9 or s == 60
        )
        painter.setFont(control_font(10.5, figures=True))
        painter.setPen(self._theme.color("quiet"))
        at = np.ceil(max(0.0, self._from()) / self._rate / step) * step
        digits = 4 if step < 0.01 else 2 if step < 1 else 0
        while at * self._rate < min(self._length, self._from() + self._span):
            x = self._x(at * self._rate)
            painter.drawLine(QPointF(x, y), QPointF(x, y + 4))
            painter.drawText(
                QPointF(x + 3, y + 12 * scale_of_letters()), f"{int(at // 60)}:{at % 60:0{3 + digits if digits else 2}.{digits}f}"
            )
            at += step


def _unsnapped(position: int, *, reach: int) -> int:  # noqa: ARG001 - nothing is known to snap to
    return position


def _mixed(paper: QColor, ink: QColor, share: float) -> int:
    channels = (
        round(p + (i - p) * share)
        for p, i in ((paper.red(), ink.red()), (paper.green(), ink.green()), (paper.blue(), ink.blue()))
    )
    r, g, b = channels
    return 0xFF000000 | r << 16 | g << 8 | b
