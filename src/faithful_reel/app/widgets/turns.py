"""Turns of the event loop: what is laid out and painted one after another lets keys and clicks come in between."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, QTimer

OWN_TURN_MS = 1
"""At 0 a timer is one more event of the turn that starts it."""
IDLE_MS, REST_MS = 8, 60
"""After so long without a start it is nobody's turn: between two frames of scrolling, and after a change of the page."""


def own_turn(parent: QObject, work: Callable[[], object], after_ms: int = OWN_TURN_MS) -> QTimer:
    """A timer that does some work once: in the turn after it is started, or after a while without another start."""
    timer = QTimer(parent)
    timer.setSingleShot(True)
    timer.setInterval(after_ms)
    timer.timeout.connect(work)
    return timer
