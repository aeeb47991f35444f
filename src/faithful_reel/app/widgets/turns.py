"""Turns of the event loop: what is laid out and painted one after another lets keys and clicks come in between."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, QTimer

OWN_TURN_MS = 1
"""At 0 a timer is one more event of the turn that starts it."""


def own_turn(parent: QObject, work: Callable[[], object]) -> QTimer:
    """A timer that, when it is started, does some work once in the next turn."""
    timer = QTimer(parent)
    timer.setSingleShot(True)
    timer.setInterval(OWN_TURN_MS)
    timer.timeout.connect(work)
    return timer
