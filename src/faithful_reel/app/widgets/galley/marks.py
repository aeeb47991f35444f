"""The marks of proof correction in our own drawing, one drawer for each kind, and the shapes of decisions."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPainterPath, QPen, QPolygonF

from faithful_reel.app.theme import Theme, control_font
from faithful_reel.app.widgets.galley.setting import Line, Measures
from faithful_reel.core.collate.findings import Decision, Kind
from faithful_reel.core.work.page import Mark

MOST_NOTES = 4


@dataclass(frozen=True, slots=True)
class Place:
    """Where a mark is drawn: `left` and `right` of the words it stands on in this line, from `base` up."""

    left: float
    right: float
    base: float
    text_h: float

    @property
    def middle(self) -> float:
        """Halfway along."""
        return (self.left + self.right) / 2


Drawer = Callable[[QPainter, Place], None]


def _path(painter: QPainter, *points: tuple[float, float]) -> None:
    painter.drawPolyline(QPolygonF([QPointF(x, y) for x, y in points]))


def _misread(painter: QPainter, at: Place) -> None:
    """A wavy line under the words."""
    y, x, up = at.base + 2, at.left, True
    path = QPainterPath(QPointF(x, y))
    while x < at.right:
        path.quadTo(QPointF(x + 2.5, y - 4 if up else y + 4), QPointF(x + 5, y))
        x, up = x + 5, not up
    painter.drawPath(path)


def _skipped(painter: QPainter, at: Place) -> None:
    """A rule through words that were not read."""
    y = at.text_h / 2 + 2
    _path(painter, (at.left - 2, y), (at.right + 2, y))


def _added(painter: QPainter, at: Place) -> None:
    """A caret where something was put in."""
    x = at.middle
    _path(painter, (x - 6, at.base + 6), (x, at.base - 1), (x + 6, at.base + 6))


def _opening(painter: QPainter, at: Place) -> None:
    a, foot = at.left - 4, at.base + 3
    _path(painter, (a + 4, 5), (a, 5), (a, foot), (a + 4, foot))


def _repeated(painter: QPainter, at: Place) -> None:
    """Brackets around what was read twice."""
    b, foot = at.right + 4, at.base + 3
    _opening(painter, at)
    _path(painter, (b - 4, 5), (b, 5), (b, foot), (b - 4, foot))


def _false_start(painter: QPainter, at: Place) -> None:
    """A bracket whose end is torn: broken off."""
    b = at.right + 4
    _opening(painter, at)
    _path(painter, (b, 5), (b - 4, 10), (b, 15), (b - 4, 20), (b, at.base + 3))


def _name(painter: QPainter, at: Place) -> None:
    """Struck under twice: look at how it is spoken."""
    for y in (at.base, at.base + 3):
        _path(painter, (at.left, y), (at.right, y))


def _take_in(painter: QPainter, at: Place) -> None:
    """A tray under words that were read again."""
    a, b, y = at.left - 2, at.right + 2, at.base
    _path(painter, (a, y), (a, y + 5), (b, y + 5), (b, y))


def _other(painter: QPainter, at: Place) -> None:
    """A line under the words."""
    _path(painter, (at.left, at.base + 2), (at.right, at.base + 2))


def _pause(painter: QPainter, at: Place) -> None:
    """A slur over the gap."""
    path = QPainterPath(QPointF(at.left + 1, at.base + 2))
    path.cubicTo(QPointF(at.left + 4, at.base - 10), QPointF(at.right - 4, at.base - 10), QPointF(at.right - 1, at.base + 2))
    painter.drawPath(path)


def _noise(painter: QPainter, at: Place) -> None:
    """A small star."""
    for dx, dy in ((0, 5), (4, 3), (4, -3)):
        _path(painter, (at.middle - dx, at.base - 1 - dy), (at.middle + dx, at.base - 1 + dy))


def _level(painter: QPainter, at: Place) -> None:
    """A ledge over the stretch."""
    a, b, y = at.left, max(at.right, at.left + 6), at.text_h - 1
    _path(painter, (a, y + 4), (a, y), (b, y), (b, y + 4))


ON_THE_WORDS: dict[Kind | None, Drawer] = {
    Kind.MISREAD: _misread,
    Kind.SKIPPED: _skipped,
    Kind.ADDED: _added,
    Kind.REPEATED: _repeated,
    Kind.FALSE_START: _false_start,
    Kind.NAME: _name,
    Kind.OTHER: _other,
    None: _take_in,
}
IN_THE_SOUND: dict[Kind | None, Drawer] = {Kind.PAUSE: _pause, Kind.NOISE: _noise, Kind.LEVEL: _level}


def draw_mark(painter: QPainter, mark: Mark, line: Line, cells: set[int], measures: Measures, theme: Theme) -> None:
    """A finding on its words, `cells`, or between its times."""
    pen = QPen(theme.pencil(mark.decision), 1.7)
    pen.setCapStyle(Qt.PenCapStyle.RoundCap)
    pen.setJoinStyle(Qt.PenJoinStyle.MiterJoin)
    if mark.doubtful:
        pen.setStyle(Qt.PenStyle.DotLine)
    painter.setPen(pen)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    base = measures.text_h - 5
    if mark.kind in IN_THE_SOUND:
        if line.ts:
            at = Place(line.x_of(mark.start), line.x_of(mark.stop), base, measures.text_h)
            IN_THE_SOUND[mark.kind](painter, at)
        return
    here = [(a, b) for index, a, b in line.placed() if index in cells]
    if here:
        ON_THE_WORDS[mark.kind](painter, Place(here[0][0], here[-1][1], base, measures.text_h))


def draw_notes(painter: QPainter, marks: list[Mark], width: int, measures: Measures, theme: Theme) -> None:
    """What is said of a line's findings, in its margin."""
    font = control_font(12)
    metrics = QFontMetricsF(font)
    for row, mark in enumerate(marks[:MOST_NOTES]):
        top = note_top(row, measures)
        x = width - measures.right + 20 * measures.scale
        draw_decision(painter, QPointF(x - 9, top + 9 * measures.scale), mark.decision, theme)
        painter.setFont(font)
        painter.setPen(theme.pencil(mark.decision))
        room = measures.right - 26 * measures.scale
        box = QRectF(x, top, room, 18 * measures.scale)
        text = metrics.elidedText(mark.note, Qt.TextElideMode.ElideRight, room)
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text)


def note_top(row: int, measures: Measures) -> float:
    """Where a margin note begins, from the top of its line."""
    return (4 + row * 18) * measures.scale


def draw_decision(painter: QPainter, centre: QPointF, decision: Decision, theme: Theme, size: float = 4.5) -> None:
    """The shape of a decision: pickup a ring, mend a wedge, stet three dots, open a short stroke."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    color = theme.pencil(decision)
    x, y = centre.x(), centre.y()
    painter.setPen(QPen(color, 1.8))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    match decision:
        case Decision.PICKUP:
            painter.drawEllipse(centre, size - 0.5, size - 0.5)
        case Decision.MEND:
            painter.setBrush(color)
            wedge = [QPointF(x - size, y + size - 1), QPointF(x, y - size), QPointF(x + size, y + size - 1)]
            painter.drawPolygon(QPolygonF(wedge))
        case Decision.STET:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(color)
            for dx in (-size, 0.0, size):
                painter.drawEllipse(QPointF(x + dx, y), 1.5, 1.5)
        case Decision.OPEN:
            painter.drawLine(QPointF(x - size + 1, y), QPointF(x + size - 1, y))
