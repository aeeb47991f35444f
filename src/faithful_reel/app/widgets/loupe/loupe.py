"""The widget of the loupe: what is seen, and what the mouse and the keys do with it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPoint, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QContextMenuEvent,
    QDragEnterEvent,
    QDragMoveEvent,
    QDropEvent,
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QWheelEvent,
)
from PyQt6.QtWidgets import QWidget

from faithful_reel.app.theme import DAY, Theme, control_font, scale_of_letters
from faithful_reel.app.widgets.loupe.content import LEAST_LANE, LoupeContent, LoupeWord, LoupeWords, Scene
from faithful_reel.app.widgets.loupe.handles import Dragged, Grip, Hold, dragged, grip_at, grips_of
from faithful_reel.app.widgets.loupe.painting import paint
from faithful_reel.app.widgets.loupe.waves import Waves
from faithful_reel.app.widgets.told import tell_reader
from faithful_reel.app.widgets.turns import own_turn

WORDS_H, RULER_H = 20.0, 16.0
NEAREST = 60
LEAST_DRAG, GRIP_PX, SNAP_PX = 4, 5, 8
"""Pixels: a shorter way is a click; so near is on an edge; so near an edge snaps."""
MOST_TALLER, FULL = 32.0, 0.95
METER_W, METER_FLOOR_DB = 96.0, -60.0
FLAG_PX = 9
"""Pixels: so near is on a marker's flag."""
NEAR_LINE_PX = 5.0


@dataclass(frozen=True, slots=True)
class Under:
    """Where a menu is wanted: on the screen, in the sound, on which lane (-1: none); what the mouse itself is on."""

    point: QPoint
    at: int
    lane: int
    on_name: bool = False
    on_marker: bool = False
    hold: Hold | None = None


class Loupe(QWidget):
    """A close, evenly spaced view of one stretch, from the whole chapter down to single samples.

    Wheel scrolls, Ctrl+wheel or +/- zooms, Alt+wheel makes the waves higher, a click moves the cursor.  Dragging marks a span of
    sound, whose edges can be dragged again; Shift and a click stretch it; a click takes it away.  Dragged edges snap to the
    places that `snap` knows, unless Alt is held.  On the lane under the mouse stand grips: of gain points, joins, crossfades and
    fades; a double click on the gain line sets a point, on a point takes it away.
    """

    clicked = pyqtSignal(int)
    span_wanted = pyqtSignal(int, int, int)
    none_wanted = pyqtSignal()
    let_go = pyqtSignal()
    lane_wanted = pyqtSignal(int)
    dropped = pyqtSignal(str, int, int)
    """What was dragged here, the position and the lane where it was let go."""
    dragged = pyqtSignal(object)
    """A grip was let go: a `Dragged`."""
    point_wanted = pyqtSignal(int, int)
    """A point of the gain line, on a lane at a position."""
    point_unwanted = pyqtSignal(int, int)
    menu_wanted = pyqtSignal(object)
    """A menu is wanted: an `Under`."""
    slid = pyqtSignal(int)
    """What is marked was dragged by so many samples."""
    dropped_as = ""
    """The kind of data that is taken when something is dropped."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("loupe")
        self.setAccessibleName("Loupe: the sound close up")
        scale = scale_of_letters()
        self._words_h, self._ruler_h = WORDS_H * scale, RULER_H * scale
        self.setMinimumHeight(round(82 + 36 * scale))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip(
            "Wheel: along the sound. Ctrl+wheel, + and −: closer and farther; Alt+wheel: higher waves. "
            "Click or arrows: move here. Drag or Shift+arrows: mark; drag an edge to move it, with Alt without snapping; "
            "Ctrl and drag what is marked: slide it, Esc brings it back. "
            "Grips on a lane: gain points, joins (Ctrl carries what follows), crossfades, fades."
        )
        self._theme = DAY
        self._content = LoupeContent()
        self.lane = -1  # the lane at hand; -1 for all of them
        self._on = -1  # that on which a span is being drawn; -1 where its edge is moved
        self._centre, self._span = 0.0, 4.0 * 44_100
        self._playhead = -1
        self.spectrum = False
        self.taller = 1.0
        self._waves = Waves()
        self._picture: QPixmap | None = None  # all but the playhead, at the size that it was drawn for
        self._paint_timer = own_turn(self, self.update)
        self._pressed = -1  # the end of what is dragged that stays
        self._dragging = False
        self._held: Dragged | None = None
        self._grip: Grip | None = None
        self._sliding: tuple[int, int] | None = None  # where what is marked was taken hold of, and how far it was dragged
        self._hovered = -1
        self.snap: Callable[..., int] = _unsnapped
        self.spans: list[tuple[int, int]] = []
        self.span_lane = -1
        self.going: list[tuple[int, int]] = []
        self.levels: dict[int, tuple[float, float]] = {}
        """Of each lane that has a meter: its peak now, and the highest since it was last clicked, in dB."""
        self._names_w: dict[int, float] = {}
        self._before: tuple[float, float, float] | None = None  # what was looked at before the span was, and how high
        self._before_whole: tuple[float, float, float] | None = None
        self.setMouseTracking(True)
        self.setAcceptDrops(True)

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        self._theme = theme
        self._waves.forget()
        self._redraw()

    def set_content(self, content: LoupeContent) -> None:
        """Show a chapter's sound."""
        self._content = content
        self.lane = min(self.lane, len(content.lanes) - 1)
        self._centre = min(self._centre, float(content.length))
        self.levels = {k: v for k, v in self.levels.items() if k < len(content.lanes)}
        self._grip = self._held = None
        self._redraw()
        self._read_out()

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
        """The lanes that there is room for: all that are not hidden, else that at hand."""
        there = [k for k, lane in enumerate(self._content.lanes) if not lane.hidden] or [0][: len(self._content.lanes)]
        room = self.height() - self._words_h - self._ruler_h
        if len(there) < 2 or room >= len(there) * LEAST_LANE * scale_of_letters():
            return there
        return [self.lane if self.lane in there else there[0]]

    @property
    def _scene(self) -> Scene:
        return Scene(
            self._content,
            self._theme,
            self._from(),
            self._span,
            self.width(),
            self.height(),
            self._words_h,
            self._ruler_h,
            tuple(self.shown),
            self.lane,
            self.devicePixelRatioF(),
            self.taller,
            self.spectrum,
        )

    @property
    def several(self) -> bool:
        """Whether there is more than one lane."""
        return len(self._content.lanes) > 1

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

    def set_spans(self, spans: Sequence[tuple[int, int]], lane: int = -1) -> None:
        """Show what is marked, on a lane or below 0 on all of them; the last is the one at hand."""
        if self.spans != list(spans) or self.span_lane != lane:
            self.spans, self.span_lane = list(spans), lane
            self._redraw()
            self._read_out()

    def set_going(self, spans: Sequence[tuple[int, int]]) -> None:
        """Show what would be taken out."""
        if self.going != list(spans):
            self.going = list(spans)
            self._redraw()

    def set_levels(self, levels: dict[int, float]) -> None:
        """Show how loud each lane is now, in dB; the highest is latched until it is clicked."""
        for lane, now in levels.items():
            self.levels[lane] = now, max(now, self.levels.get(lane, (now, now))[1])
        self.update()

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

    def look_at_span(self) -> bool:
        """Look at what is marked, with a little around it, its loudest moment as high as the lane; again: as it was before.

        Whether there is something marked.
        """
        if self._before is not None and self.spans and self._looks_at_span():
            (self._centre, self._span, self.taller), self._before = self._before, None
        elif self.spans:
            first, last = self.stretch
            self._before = self._centre, self._span, self.taller
            self._centre, self._span = (first + last) / 2, max(NEAREST, 1.25 * (last - first))
            edges = np.array([first, last], np.float64)
            loudest = max((float(np.abs(self._content.lanes[k].columns(edges)).max()) for k in self.shown), default=0.0)
            self.taller = float(np.clip(FULL / loudest, 1.0, MOST_TALLER)) if loudest > 0 else 1.0
        else:
            return False
        self._redraw()
        return True

    def look_at_whole(self) -> None:
        """Look at the whole chapter; again: at what was looked at before."""
        whole = self._length / 2, float(max(NEAREST, self._length)), 1.0
        now = self._centre, self._span, self.taller
        if now == whole and self._before_whole is not None:
            (self._centre, self._span, self.taller), self._before_whole = self._before_whole, None
        else:
            self._before_whole = now
            self._centre, self._span, self.taller = whole
        self._redraw()

    def _looks_at_span(self) -> bool:
        first, last = self.stretch
        return self._centre == (first + last) / 2 and self._span == max(NEAREST, 1.25 * (last - first))

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
        self._redraw()

    def zoom(self, factor: float) -> None:
        """Closer (under 1) or farther (over 1), up to the whole chapter."""
        self._span = float(np.clip(self._span * factor, NEAREST, max(NEAREST, self._length)))
        self._redraw()

    def heighten(self, factor: float) -> None:
        """Draw the waves higher (over 1), or lower, never lower than they are."""
        self.taller = float(np.clip(self.taller * factor, 1.0, MOST_TALLER))
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
        """Scroll; zoom with Ctrl; higher waves with Alt."""
        if event is None:
            return
        turned = event.angleDelta()
        steps = (turned.y() or turned.x()) / 120  # with Alt some desktops turn the wheel sideways
        if event.modifiers() & Qt.KeyboardModifier.AltModifier:
            self.heighten(1.25**steps)
        elif event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            under = self._from() + event.position().x() / max(1, self.width()) * self._span
            before = self._span
            self.zoom(0.8**steps)
            self._centre = under + (self._centre - under) * self._span / before
        else:
            self._centre = float(np.clip(self._from() + self._span / 2 - steps * 0.15 * self._span, 0, self._length))
        self._redraw()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """A click says where; on a grip it takes hold of it; near an edge of what is marked it takes hold of the edge."""
        if event is None or not self._length or event.button() is not Qt.MouseButton.LeftButton:
            return
        self.setFocus()
        x, y = event.position().x(), event.position().y()
        metered = self._meter_at(x, y)
        if metered >= 0:
            now = self.levels[metered][0]
            self.levels[metered] = now, now
            self.update()
            return
        named = self._name_at(x, y)
        if named >= 0:
            self.lane_wanted.emit(-1 if named == self.lane else named)
            return
        self._grip = grip_at(self._scene, x, y)
        if self._grip is not None:
            return
        at, edge, self._on = self._position(event), self._edge_near(event), -1
        if edge is None and event.modifiers() & Qt.KeyboardModifier.ControlModifier and self.stretch[0] <= at < self.stretch[1]:
            self._sliding = at, 0
            return
        self._dragging = edge is not None
        if edge is not None:
            self._pressed = self.stretch[0] if edge == self.stretch[1] else self.stretch[1]
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            first, last = self.stretch if self.spans else (max(0, self._playhead),) * 2
            self._pressed = last if abs(at - first) < abs(at - last) else first
            self._drag_to(at, event)
        else:
            self._pressed, self._on = at, self._scene.lane_at(y)
            self.none_wanted.emit()
            self.clicked.emit(at)

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:  # noqa: N802 - Qt's name
        """The menu of what lies under the mouse, or by its key at the cursor."""
        if event is None or not self._length:
            return
        if event.reason() is QContextMenuEvent.Reason.Keyboard:
            at = max(0, self._playhead)
            marked = bool(self.spans) and not any(first <= at < last for first, last in self.spans)
            at = self.spans[-1][0] if marked else at  # the menu of what is marked, wherever the cursor is
            point = self.mapToGlobal(QPoint(round(min(max(0.0, self._x(at)), self.width())), round(self._words_h)))
            self.menu_wanted.emit(Under(point, at, self.span_lane if self.spans else self.lane))
            return
        scene, x, y = self._scene, float(event.x()), float(event.y())
        named = self._name_at(x, y)
        grip = grip_at(scene, x, y)
        flags = (at for at, _, _ in self._content.markers if abs(scene.x(at) - x) <= FLAG_PX)
        flag = next(flags, -1) if abs(y - self._words_h) <= FLAG_PX else -1
        at = flag if flag >= 0 else grip.at if grip is not None else scene.at(x)
        lane = named if named >= 0 else scene.lane_at(y)
        self.menu_wanted.emit(Under(event.globalPos(), at, lane, named >= 0, flag >= 0, grip.hold if grip is not None else None))

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """On the gain line a point is set, on a point it is taken away."""
        if event is None or not self._length:
            return
        scene, x, y = self._scene, event.position().x(), event.position().y()
        index, grip = scene.lane_at(y), grip_at(scene, x, y)
        if grip is not None and grip.hold is Hold.POINT:
            self.point_unwanted.emit(grip.lane, grip.at)
        elif index >= 0 and abs(self._line_y(scene, index, scene.at(x)) - y) <= NEAR_LINE_PX:
            self.point_wanted.emit(index, scene.at(x))
        self._grip = None

    @staticmethod
    def _line_y(scene: Scene, index: int, at: int) -> float:
        """Where the gain line of a lane stands at a position."""
        line = scene.content.lanes[index].look(at, at + 1).line
        gain_db = float(np.interp(at, [p for p, _ in line], [g for _, g in line])) if line else 0.0
        return scene.y_of(gain_db, index)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """Dragging marks a span, moves an edge of it, or a grip."""
        if event is None:
            return
        x, y = event.position().x(), event.position().y()
        if self._grip is not None and event.buttons() & Qt.MouseButton.LeftButton:
            held = event.modifiers()
            carried = bool(held & Qt.KeyboardModifier.ControlModifier)
            found = dragged(self._scene, self._grip, x, y, carried=carried)
            self._held = found if abs(x - self._grip.x) + abs(y - self._grip.y) >= LEAST_DRAG or self._held else None
            self.update()
            return
        if self._sliding is not None and event.buttons() & Qt.MouseButton.LeftButton:
            begun, moved = self._sliding[0], self._position(event) - self._sliding[0]
            far = abs(self._x(begun + moved) - self._x(begun)) >= LEAST_DRAG or self._sliding[1]
            self._sliding = begun, moved if far else 0
            self.update()
            return
        if not event.buttons() & Qt.MouseButton.LeftButton or self._pressed < 0:
            self._hover(event)
            return
        at = self._position(event)
        if self._dragging or abs(self._x(at) - self._x(self._pressed)) >= LEAST_DRAG:
            self._dragging = True
            self._drag_to(at, event)

    def _hover(self, event: QMouseEvent) -> None:
        scene, x, y = self._scene, event.position().x(), event.position().y()
        lane = scene.lane_at(y) if self._length else -1
        if lane != self._hovered:
            self._hovered = lane
            self.update()
        grip = grip_at(scene, x, y) if self._length else None
        shape = Qt.CursorShape.ArrowCursor
        if grip is not None:
            shape = Qt.CursorShape.SizeAllCursor if grip.hold is Hold.POINT else Qt.CursorShape.SplitHCursor
        elif self._edge_near(event) is not None:
            shape = Qt.CursorShape.SizeHorCursor
        self.setCursor(shape)

    def leaveEvent(self, event: object) -> None:  # noqa: N802 - Qt's name
        """The grips go."""
        del event
        self._hovered = -1
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """What is dragged is let go."""
        held, self._held, self._grip = self._held, None, None
        slid, self._sliding = self._sliding, None
        self._pressed, self._dragging = -1, False
        if slid is not None and slid[1]:
            self.slid.emit(slid[1])
            self.update()
        if held is not None:
            self.dragged.emit(held)
            self.update()
        if event is not None:
            event.accept()

    def _drag_to(self, at: int, event: QMouseEvent) -> None:
        free = event.modifiers() & Qt.KeyboardModifier.AltModifier
        to = at if free else self.snap(at, reach=round(SNAP_PX * self.samples_per_pixel))
        self.span_wanted.emit(min(to, self._pressed), max(to, self._pressed), self._on)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:  # noqa: N802 - Qt's name
        """Lines of our lists are taken."""
        self._may_drop(event)

    def dragMoveEvent(self, event: QDragMoveEvent | None) -> None:  # noqa: N802 - Qt's name
        """Lines of our lists are taken."""
        self._may_drop(event)

    def dropEvent(self, event: QDropEvent | None) -> None:  # noqa: N802 - Qt's name
        """It goes where it was let go."""
        if event is None or not self._may_drop(event):
            return
        data = event.mimeData()
        told = bytes(data.data(self.dropped_as).data()).decode("utf-8", "replace") if data is not None else ""
        scene = self._scene
        self.dropped.emit(told, scene.at(event.position().x()), max(0, scene.lane_at(event.position().y())))

    def _may_drop(self, event: QDragEnterEvent | QDragMoveEvent | QDropEvent | None) -> bool:
        data = event.mimeData() if event is not None else None
        ours = bool(self._length and self.dropped_as) and data is not None and data.hasFormat(self.dropped_as)
        if event is not None:
            event.acceptProposedAction() if ours else event.ignore()
        return ours

    def _name_at(self, x: float, y: float) -> int:
        """The lane whose name the mouse is on; -1 for none."""
        scene = self._scene
        index = scene.lane_at(y) if len(self._content.lanes) > 1 else -1
        on = index >= 0 and y < scene.top_of(index) + 15 * scale_of_letters() and x < self._names_w.get(index, 0.0)
        return index if on else -1

    def _edge_near(self, event: QMouseEvent) -> int | None:
        """The edge of what is marked that the mouse is on."""
        x = event.position().x()
        edges = [e for e in self.stretch if e >= 0 and abs(self._x(e) - x) <= GRIP_PX]
        return min(edges, key=lambda e: abs(self._x(e) - x), default=None)

    def _position(self, event: QMouseEvent) -> int:
        return self._scene.at(event.position().x())

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
            self._centre = float(np.clip(self._from() + self._span / 2 + way * 0.8 * self._span, 0, self._length))
            self._redraw()
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right) and self._length and not held & Qt.KeyboardModifier.AltModifier:
            way = 1 if key is Qt.Key.Key_Right else -1
            self._step(way * self._span / 20, mark=bool(held & Qt.KeyboardModifier.ShiftModifier))
        elif key in (Qt.Key.Key_Home, Qt.Key.Key_End) and self._length:
            self._go(0 if key is Qt.Key.Key_Home else self._length - 1)
        elif key is Qt.Key.Key_Escape and (self._held is not None or self._sliding is not None):
            self._held = self._grip = self._sliding = None
            self.update()
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
            self.span_wanted.emit(min(first, last), max(first, last), -1)
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
        time, first = self._content.time, self._from()
        told = [f"{time(round(first))} to {time(min(self._length, round(first + self._span)))}"]
        if self._playhead >= 0:
            told.append(f"cursor at {time(self._playhead)}")
            word = self._word_at(self._playhead)
            told += [f"word {word.text}"] if word else []
        lanes = self._content.lanes
        if len(lanes) > 1:
            told.append(f"lane {lanes[self.lane].name}" if self.lane >= 0 else f"all {len(lanes)} lanes")
            hidden = [lane.name for lane in lanes if lane.hidden]
            told += [f"hidden: {', '.join(hidden)}"] if hidden else []
        if self.stretch[0] >= 0:
            on = f" on {lanes[self.span_lane].name}" if 0 <= self.span_lane < len(lanes) and len(lanes) > 1 else ""
            told.append(f"marked {time(self.stretch[0])} to {time(self.stretch[1])}{on}")
        tell_reader(self, ", ".join(told))

    def _word_at(self, position: int) -> LoupeWord | None:
        if self._words is None:
            return None
        index = int(np.searchsorted(self._words.starts, position, side="right")) - 1
        word = self._words[index] if index >= 0 else None
        return word if word is not None and word.stop > position else None

    # --- painting -------------------------------------------------------------------------------------------------

    def paintEvent(self, _event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """The picture is kept; the playhead, the grips and the meters go over it."""
        scale, scene = self.devicePixelRatioF(), self._scene
        size = self.size() * scale
        if self._picture is None or self._picture.size() != size:
            self._picture = QPixmap(size)
            self._picture.setDevicePixelRatio(scale)
            with QPainter(self._picture) as painter:
                self._paint(painter, scene)
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._picture)
        if self._length:
            self._paint_over(painter, scene)
        if self.hasFocus():
            painter.setPen(QPen(self._theme.color("quiet"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))

    def _paint(self, painter: QPainter, scene: Scene) -> None:
        if self._length:
            self._names_w = paint(painter, scene, self._waves, self.spans, self.going, self.span_lane)
            return
        painter.fillRect(self.rect(), self._theme.color("page"))
        painter.fillRect(QRectF(0, 0, self.width(), 1), self._theme.color("hairline"))
        painter.setPen(self._theme.color("quiet"))
        painter.setFont(control_font(12))
        painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Loupe: no sound here yet")

    def _paint_over(self, painter: QPainter, scene: Scene) -> None:
        if self._playhead >= 0:
            x = self._x(self._playhead)
            painter.setPen(QPen(self._theme.color("ink"), 1.4))
            painter.drawLine(QPointF(x, self._words_h), QPointF(x, self.height() - self._ruler_h))
        for index in scene.shown:
            if index in self.levels:
                self._paint_meter(painter, scene, index)
        painter.setPen(QPen(self._theme.color("ink"), 1.2))
        painter.setBrush(self._theme.color("page"))
        for grip in grips_of(scene, self._hovered) if self._hovered in scene.shown else ():
            if grip.hold in (Hold.CROSSFADE, Hold.FADE_IN, Hold.FADE_OUT):
                painter.drawRect(QRectF(grip.x - 3, grip.y - 3, 6, 6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if self._held is not None:
            self._paint_held(painter, scene, self._held)
        if self._sliding is not None and self._sliding[1]:
            self._paint_sliding(painter, scene, self._sliding[1])

    def _paint_sliding(self, painter: QPainter, scene: Scene, by: int) -> None:
        """Where what is marked would be let go, and how far that is."""
        first, last = self.stretch
        foot = self.height() - self._ruler_h
        painter.setPen(QPen(self._theme.color("red"), 1.4))
        for at in (first + by, last + by):
            painter.drawLine(QPointF(scene.x(at), self._words_h), QPointF(scene.x(at), foot))
        self._paint_told(painter, f"slide {1000 * by / self._rate:+.0f} ms", scene.x(last + by), (self._words_h + foot) / 2)

    def _paint_told(self, painter: QPainter, told: str, x: float, y: float) -> None:
        """A few words beside what is dragged."""
        painter.setFont(control_font(11.5, strong=True, figures=True))
        width, height = painter.fontMetrics().horizontalAdvance(told) + 12, 18 * scale_of_letters()
        box = QRectF(min(max(0.0, x + 8), self.width() - width), y - height / 2, width, height)
        painter.fillRect(box, self._theme.color("chosen"))
        painter.setPen(self._theme.color("ink"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, told)

    def _paint_held(self, painter: QPainter, scene: Scene, held: Dragged) -> None:
        """Where a grip would be let go, and what it comes to."""
        grip, top = held.grip, scene.top_of(held.grip.lane)
        sides = {
            Hold.POINT: (held.to,), Hold.JOIN: (held.to,), Hold.CROSSFADE: (grip.at - held.to // 2, grip.at + held.to // 2),
            Hold.FADE_IN: (grip.at + held.to,), Hold.FADE_OUT: (grip.at - held.to,),
        }[grip.hold]  # fmt: skip
        painter.setPen(QPen(self._theme.color("red"), 1.4))
        for at in sides:
            painter.drawLine(QPointF(scene.x(at), top), QPointF(scene.x(at), top + scene.lane_h))
        if grip.hold is Hold.POINT:
            painter.drawEllipse(QPointF(scene.x(held.to), scene.y_of(held.value, grip.lane)), 4, 4)
        self._paint_told(painter, held.told(self._rate), scene.x(sides[-1]), top + scene.lane_h / 2)

    def _meter_box(self, scene: Scene, index: int) -> QRectF:
        """Where a lane's meter is: behind its name."""
        left = self._names_w.get(index, 0.0) + 10
        return QRectF(left, scene.top_of(index) + 3 * scale_of_letters(), METER_W, 9 * scale_of_letters())

    def _meter_at(self, x: float, y: float) -> int:
        """The lane whose meter is under the mouse; -1 for none."""
        scene = self._scene
        for index in scene.shown:
            if index in self.levels and self._meter_box(scene, index).adjusted(0, -3, 64, 3).contains(QPointF(x, y)):
                return index
        return -1

    def _paint_meter(self, painter: QPainter, scene: Scene, index: int) -> None:
        """A row of blocks up to the peak now, a tick where it was highest, and that in figures."""
        box, (now, highest) = self._meter_box(scene, index), self.levels[index]
        painter.fillRect(box.adjusted(-4, -3, 58 * scale_of_letters(), 3), self._theme.color("page"))

        def share(db: float) -> float:
            return min(1.0, max(0.0, (db - METER_FLOOR_DB) / -METER_FLOOR_DB))

        each = box.width() / 20
        for block in range(int(share(now) * 20)):
            painter.fillRect(QRectF(box.left() + block * each, box.top(), each - 1.5, box.height()), self._theme.color("good"))
        over = highest >= -0.05
        painter.setPen(QPen(self._theme.color("red" if over else "ink"), 2))
        x = box.left() + share(highest) * box.width()
        painter.drawLine(QPointF(x, box.top() - 1), QPointF(x, box.bottom() + 1))
        painter.setFont(control_font(10.5, figures=True))
        told = f"{highest:.1f}" if highest > METER_FLOOR_DB else "—"
        painter.drawText(QPointF(box.right() + 6, box.bottom()), told)


def _unsnapped(position: int, *, reach: int) -> int:  # noqa: ARG001 - nothing is known to snap to
    return position
