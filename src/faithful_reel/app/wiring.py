"""The one place where objects are made and joined."""

from __future__ import annotations

import gc
import subprocess
import sys
import time
from pathlib import Path

from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QWidget

from faithful_reel.app.jobs import Jobs
from faithful_reel.app.sound import Card, DeviceCard, Player
from faithful_reel.app.window import Window
from faithful_reel.app.workbench import Workbench
from faithful_reel.core.book.store import SUFFIX, BookStore, Session
from faithful_reel.core.standins.sound_card import SimulatedCard

CARD_WAIT_S = 3.0
COLLECT_AFTER = 100_000


def user_settings(file: Path | None = None) -> QSettings:
    """What the user chose, from a plain INI file."""
    if file is not None:
        return QSettings(str(file), QSettings.Format.IniFormat)
    return QSettings(QSettings.Format.IniFormat, QSettings.Scope.UserScope, "faithful-reel", "faithful-reel")


def sound_card(rate: int, *, simulated: bool = False) -> Card:
    """The real device where there is one, else the simulated card."""
    if simulated:
        return SimulatedCard(rate)
    card = DeviceCard(rate)
    deadline = time.monotonic() + CARD_WAIT_S
    while card.state() == "waiting" and time.monotonic() < deadline:
        time.sleep(0.02)
    if card.state() == "ready":
        return card
    card.close()
    return SimulatedCard(rate)


def calm_collector() -> None:
    """Leave what is there now alone, and look for cyclic garbage seldom.

    An edit makes thousands of small values: at its default the collector would walk the whole book several times a step,
    30 to 65 ms each time.
    """
    gc.freeze()
    gc.set_threshold(COLLECT_AFTER, 20, 50)


def open_window(folder: Path, settings: QSettings, *, create: bool = False, simulated_sound: bool = False) -> Window:
    """Open a book and make its window.

    Raises
    ------
    StoreProblem
        The book can not be opened.
    """
    session = Session(BookStore(folder, create=create))
    jobs = Jobs()
    bench = Workbench(session, jobs, tell=print)
    player = Player(sound_card(session.book.rate, simulated=simulated_sound))
    window = Window(bench, jobs, player, settings)
    calm_collector()
    jobs.setParent(window)
    player.setParent(window)
    return window


def open_beside(window: QWidget, folder: Path, *, create: bool) -> None:
    """Open another book in a process of its own."""
    del window
    if create and folder.suffix != SUFFIX:
        folder = folder.with_name(folder.name + SUFFIX)
    if create:
        BookStore(folder, create=True).close()
    subprocess.Popen([sys.executable, "-m", "faithful_reel.cli", "open", str(folder)], start_new_session=True)
