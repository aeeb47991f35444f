"""A window at the Proof desk, places of the laid hearing, and a mouse that is held and moved over a widget."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from support.hearing import STEP, lay_hearing

FIRST, RATE = 441_000, 44_100
LEFT = Qt.MouseButton.LeftButton
NONE, SHIFT, CTRL, ALT = (
    Qt.KeyboardModifier.NoModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.AltModifier,
)


def start(word):
    """Where a word of the laid hearing begins, before the added word at 30."""
    return FIRST + STEP * word


def at_proof(opened):
    """The window at the Proof desk, its first chapter heard, the loupe on word 10."""
    lay_hearing(opened.window.bench)
    opened.do("view.proof")
    opened.do("edit.ease")  # edges stay where the laid words begin and end
    opened.window.loupe.look_at(start(10), span_s=4.0)
    return opened


def editing(desk):
    return desk.window.parts.editing


def reel(desk):
    return desk.bookstate.chapters[0].reel


def move(widget, point, held=NONE):
    """Move the mouse with its left button down."""
    place = QPointF(point)
    event = QMouseEvent(QEvent.Type.MouseMove, place, widget.mapToGlobal(place), LEFT, LEFT, held)
    QApplication.sendEvent(widget, event)


def drag_over(widget, points: Sequence[QPoint], held=NONE):
    """Press at the first of some points, move over the others, let go at the last."""
    QTest.mousePress(widget, LEFT, held, points[0])
    for point in points[1:]:
        move(widget, point, held)
    QTest.mouseRelease(widget, LEFT, held, points[-1])


def drag(loupe, first, last, held=NONE):
    """Drag in the loupe from one sample to another."""
    y = loupe.height() // 2
    drag_over(loupe, [QPoint(round(loupe._x(at)), y) for at in (first, (first + last) / 2, last)], held)
