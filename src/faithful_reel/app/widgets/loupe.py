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

from faithful_reel.app.theme import DAY, Theme, control_font, over_sound, reading_font, scale_of_letters
from faithful_reel.app.widgets.galley import Columns, draw_sound
from faithful_reel.app.widgets.told import tell_reader
from faithful_reel.app.widgets.turns import own_turn
from faithful_reel.core.reel.look import LaneLook
from faithful_reel.core.units import Signal, clock

WORDS_H, RULER_H = 20.0, 16.0
NEAREST, FARTHEST_S = 60, 90.0
SAMPLES_BELOW, LINE_BELOW = 64.0, 4.0
"""Samples a pixel: nearer, the samples themselves are looked at; and drawn as a line."""
SPECTRUM_LONGEST_S = 30.0
LEAST_LANE, GAP, NAME_ROOM, CURVE_ROOM = 48.0, 3.0, 40.0, 6.0
"""Pixels: a lane that is still seen, what lies between two, what a name and a curve need."""
HIGHEST_DB, LOWEST_DB = 12.0, -30.0
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
class LoupeLane:
    """One lane: its columns, its samples, and what is drawn on them between two positions."""

    name: str
    columns: Columns
    render: Callable[[int, int], Signal]
    look: Callable[[int, int], LaneLook]
    silent: str = ""
    """Why it is not heard: muted, or others are heard alone; empty where it is."""
    told: str = ""
    """What else there is to say of it: its level, that it is not linked, how far it is out of step."""


@dataclass(frozen=True, slots=True, eq=False)
class LoupeContent:
    """What a loupe shows: lanes, a spectrogram of them; `tone_level` is the amplitude of the first one's room tone."""

    lanes: tuple[LoupeLane, ...] = ()
    spectrum: Callable[[Signal, int], NDArray[np.float32]] | None = None
    length: int = 0
    rate: int = 44_100
    words: LoupeWords | None = None
    tone_level: float | None = None
    markers: tuple[tuple[int, str], ...] = ()


class Loupe(QWidget):
    """A close, evenly spaced view of one stretch.  Wheel scrolls, Ctrl+wheel or +/- zooms, a click moves the cursor.

    Dragging marks a span of sound, whose edges can be dragged again; Shift and a click stretch it; a click takes it away.
    Dragged edges snap to the places that `snap` knows, unless Alt is held.
    """

    clicked = pyqtSignal(int)
    span_wanted = pyqtSignal(int, int)
    none_wanted = pyqtSignal()
    let_go = pyqtSignal()
    lane_wanted = pyqtSignal(int)
    dropped = pyqtSignal(str, int, int)
    """What was dragged here, the position and the lane where it was let go."""
    dropped_as = ""
    """The kind of data that is taken."""

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
        self._content = LoupeContent()
        self.lane = -1  # the lane at hand; -1 for all of them
        self._centre, self._span = 0.0, 4.0 * 44_100
        self._playhead = -1
        self.spectrum = False
        self._images: dict[int, tuple[object, QImage]] = {}  # the spectrogram of each lane, and what it is of
        self._picture: QPixmap | None = None  # all but the playhead, at the size that it was drawn for
        self._paint_timer = own_turn(self, self.update)
        self._pressed = -1  # the end of what is dragged that stays
        self._dragging = False
        self.snap: Callable[..., int] = _unsnapped
        self.spans: list[tuple[int, int]] = []
        self.going: list[tuple[int, int]] = []
        self.setAcceptDrops(True)
        self._names_w: dict[int, float] = {}
        self.setMouseTracking(True)

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        self._theme = theme
        self._images.clear()
        self._redraw()

    def set_content(self, content: LoupeContent) -> None:
        """Show a chapter's sound."""
        self._content = content
        self.lane = min(self.lane, len(content.lanes) - 1)
        self._centre = min(self._centre, float(content.length))
        self._images.clear()
        self._redraw()

    @property
    def _length(self) -> int:
        return self._content.length

    @property
    def _rate(self) -> int:
        return self._content.rate

    @property
    def _words(self) -> LoupeWords | None:
        return self._content.words

    @property
    def shown(self) -> list[int]:
        """The lanes that there is room for: all of them, else that at hand."""
        count = len(self._content.lanes)
        room = self.height() - self._words_h - self._ruler_h
        return list(range(count)) if count and room >= count * LEAST_LANE * scale_of_letters() else [max(0, self.lane)][:count]

    def set_lane(self, lane: int) -> None:
        """Show which lane is at hand; -1 for all of them."""
        if lane != self.lane:
            self.lane = lane
            self._redraw()
            self._read_out()

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

    def set_going(self, spans: Sequence[tuple[int, int]]) -> None:
        """Show what would be taken out."""
        if self.going != list(spans):
            self.going = list(spans)
            self._redraw()

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
        self._images.clear()
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
        named = self._name_under(event)
        if named >= 0:
            self.lane_wanted.emit(-1 if named == self.lane else named)
            return
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

    def _name_under(self, event: QMouseEvent) -> int:
        """The lane whose name the mouse is on; -1 for none."""
        shown, point = self.shown, event.position()
        each = (self.height() - self._words_h - self._ruler_h - GAP * (len(shown) - 1)) / max(1, len(shown))
        for row, index in enumerate(shown if len(self._content.lanes) > 1 else ()):
            y = self._words_h + row * (each + GAP)
            if y <= point.y() < y + 15 * scale_of_letters() and point.x() < self._names_w.get(index, 0.0):
                return index
        return -1

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
        lanes = self._content.lanes
        if len(lanes) > 1:
            told.append(f"lane {lanes[self.lane].name}" if self.lane >= 0 else f"all {len(lanes)} lanes")
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
        shown = self.shown
        each = (height - GAP * (len(shown) - 1)) / max(1, len(shown))
        for row, index in enumerate(shown):
            self._paint_lane(painter, index, top + row * (each + GAP), each)
        if shown[:1] == [0]:
            self._paint_tone(painter, top, each)
        self._paint_words(painter, top, height)
        self._paint_markers(painter, top, height)
        self._paint_ruler(painter, top + height)

    def _paint_lane(self, painter: QPainter, index: int, top: float, height: float) -> None:
        """One lane's sound, with what lies on it."""
        lane = self._content.lanes[index]
        painter.fillRect(QRectF(0, top, self.width(), height), self._theme.color("strip"))
        marked = self.spans if self.lane in (-1, index) else []
        self._paint_spans(painter, marked, top, height)
        if self.spectrum and self._span <= SPECTRUM_LONGEST_S * self._rate:
            self._paint_spectrum(painter, index, top, height)
            painter.setCompositionMode(over_sound(self._theme))
            self._paint_spans(painter, marked, top, height)
            painter.setCompositionMode(QPainter.CompositionMode.CompositionMode_SourceOver)
        elif self.samples_per_pixel < SAMPLES_BELOW:
            self._paint_samples(painter, lane, top, height)
        else:
            scale = self.devicePixelRatioF()
            edges = np.linspace(self._from(), self._from() + self._span, round(self.width() * scale) + 1)
            inside = np.clip(edges, 0, self._length)
            draw_sound(painter, lane.columns(inside), 0, top, height, self._theme, scale, "quiet" if lane.silent else "")
        self._paint_look(painter, lane.look(int(self._from()), int(self._from() + self._span) + 1), top, height)
        if len(self._content.lanes) > 1:
            self._paint_name(painter, index, top)

    def _paint_spans(self, painter: QPainter, spans: Sequence[tuple[int, int]], top: float, height: float) -> None:
        for start, stop in spans:
            a, b = self._x(start), self._x(stop)
            painter.fillRect(QRectF(a, top, b - a, height), self._theme.color("lit"))

    def _paint_name(self, painter: QPainter, index: int, top: float) -> None:
        lane = self._content.lanes[index]
        told = ", ".join(filter(None, (lane.name, lane.silent, lane.told)))
        painter.setFont(control_font(11))
        width, height = painter.fontMetrics().horizontalAdvance(told) + 10, 15 * scale_of_letters()
        self._names_w[index] = width
        painter.fillRect(QRectF(0, top, width, height), self._theme.color("chosen" if self.lane in (-1, index) else "page"))
        painter.setPen(self._theme.color("ink"))
        painter.drawText(QRectF(5, top, width, height), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, told)

    def _paint_look(self, painter: QPainter, look: LaneLook, top: float, height: float) -> None:
        """Pieces with their names, joins, fades and crossfades as they will be, the gain line with its points."""
        ink, quiet, foot = self._theme.color("ink"), self._theme.color("quiet"), top + height
        painter.setFont(control_font(10.5))
        for piece in look.pieces:
            a, b = self._x(piece.start), self._x(piece.stop)
            if piece.kind == "room_tone":
                hatch = QPen(quiet, 1)
                hatch.setDashPattern([1, 4])
                painter.setPen(hatch)
                painter.drawLine(QPointF(max(0.0, a), foot - 3), QPointF(min(float(self.width()), b), foot - 3))
            if piece.name and b - max(0.0, a) > NAME_ROOM:
                painter.setPen(quiet)
                room = QRectF(max(0.0, a) + 4, foot - 16 * scale_of_letters(), b - max(0.0, a) - 8, 15 * scale_of_letters())
                shown = painter.fontMetrics().elidedText(piece.name, Qt.TextElideMode.ElideRight, int(room.width()))
                painter.drawText(room, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, shown)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(ink, 1))
        for curve in look.curves:
            a, b = self._x(curve.start), self._x(curve.stop)
            if b - a >= CURVE_ROOM:
                step = (b - a) / (len(curve.gains) - 1)
                painter.drawPolyline(QPolygonF([QPointF(a + k * step, foot - g * height) for k, g in enumerate(curve.gains)]))
        painter.setPen(QPen(self._theme.color("blue"), 1.2))
        if look.line:
            painter.drawPolyline(QPolygonF([QPointF(self._x(at), self._y_of(db, top, height)) for at, db in look.line]))
            painter.setBrush(self._theme.color("page"))
            for at, gain_db in look.points:
                painter.drawEllipse(QPointF(self._x(at), self._y_of(gain_db, top, height)), 3, 3)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, on=False)
        painter.setPen(QPen(ink, 1.6))
        for at, _ in look.joins:
            x = self._x(at)
            painter.drawLine(QPointF(x, top), QPointF(x, foot))
            painter.drawLine(QPointF(x - 6, foot), QPointF(x, foot - 7))
            painter.drawLine(QPointF(x, foot - 7), QPointF(x + 6, foot))

    @staticmethod
    def _y_of(gain_db: float, top: float, height: float) -> float:
        """Where a gain stands on a lane: +12 dB at its top, −30 dB and less at its foot."""
        return top + height * (HIGHEST_DB - max(LOWEST_DB, min(HIGHEST_DB, gain_db))) / (HIGHEST_DB - LOWEST_DB)

    def _paint_samples(self, painter: QPainter, lane: LoupeLane, top: float, height: float) -> None:
        start, stop = max(0, int(self._from()) - 1), min(self._length, int(self._from() + self._span) + 2)
        if stop <= start:
            return
        x = lane.render(start, stop)
        if self.samples_per_pixel > LINE_BELOW:  # more than a line can show: the reach of what falls on each column
            scale = self.devicePixelRatioF()
            edges = np.linspace(self._from(), self._from() + self._span, round(self.width() * scale) + 1)[:-1]
            at = np.clip(edges.astype(np.int64) - start, 0, len(x) - 1)
            found = np.stack([np.minimum.reduceat(x, at), np.maximum.reduceat(x, at)])
            found[:, edges >= self._length] = 0
            draw_sound(painter, found, 0, top, height, self._theme, scale, "quiet" if lane.silent else "")
            return
        shaped = np.sign(x) * np.abs(x) ** 0.6
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(self._theme.color("quiet" if lane.silent else "wave"), 1.2))
        points = [QPointF(self._x(start + i), top + height / 2 * (1 - float(v))) for i, v in enumerate(shaped)]
        painter.drawPolyline(QPolygonF(points))
        if self.samples_per_pixel < 0.2:
            painter.setBrush(self._theme.color("wave"))
            for point in points:
                painter.drawEllipse(point, 1.8, 1.8)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, on=False)

    def _paint_spectrum(self, painter: QPainter, index: int, top: float, height: float) -> None:
        spectrum = self._content.spectrum
        if spectrum is None:
            return
        key = (self._from(), self._span, self.width(), int(height))
        known = self._images.get(index)
        if known is None or known[0] != key:
            start, stop = int(self._from()), int(self._from() + self._span)
            inside = self._content.lanes[index].render(max(0, start), min(self._length, max(stop, 1)))
            x = np.zeros(stop - start, np.float32)
            at = max(0, -start)
            x[at : at + len(inside)] = inside[: len(x) - at]
            shade = spectrum(x, self.width())
            ink, paper = self._theme.color("ink"), self._theme.color("strip")
            ramp = np.array([[_mixed(paper, ink, i / 255)] for i in range(256)], np.uint32)[:, 0]
            pixels = np.ascontiguousarray(ramp[(np.clip(shade, 0, 1) * 255).astype(np.uint8)])
            image = QImage(
                pixels.tobytes(), pixels.shape[1], pixels.shape[0], pixels.shape[1] * 4, QImage.Format.Format_RGB32
            ).copy()
            known = self._images[index] = key, image
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(QRectF(0, top, self.width(), height), known[1])

    def _paint_markers(self, painter: QPainter, top: float, height: float) -> None:
        """Small flags at the top, with their names."""
        painter.setFont(control_font(10.5))
        for at, name in self._content.markers:
            x = self._x(at)
            if -NAME_ROOM <= x <= self.width():
                painter.setPen(QPen(self._theme.color("ink"), 1))
                painter.drawLine(QPointF(x, top - 6), QPointF(x, top + height))
                flag = QPolygonF([QPointF(x, top - 6), QPointF(x + 8, top - 3), QPointF(x, top)])
                painter.setBrush(self._theme.color("ink"))
                painter.drawPolygon(flag)
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawText(QPointF(x + 4, top + 12 * scale_of_letters()), name)

    def _paint_tone(self, painter: QPainter, top: float, height: float) -> None:
        level = self._content.tone_level
        if level is None or self.spectrum:
            return
        pen = QPen(self._theme.color("quiet"), 1)
        pen.setDashPattern([2, 5])
        painter.setPen(pen)
        reach = height / 2 * level**0.6
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
