"""Driving the real window as a user would."""

from __future__ import annotations

import shutil
from pathlib import Path

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QFont
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from faithful_reel.app.theme import letters_of, load_fonts
from faithful_reel.app.wiring import open_window, user_settings


class DemoWindow:
    """One window on one book; `reopen` closes it and opens the book again."""

    def __init__(self, qtbot, folder: Path, book: Path, *, create: bool = False) -> None:
        self.qtbot, self.folder, self.book = qtbot, folder, folder / book.name
        if not create:
            shutil.copytree(book, self.book)
        app = QApplication.instance()
        if not app.property("fonts loaded"):
            load_fonts()
            app.setProperty("fonts loaded", True)
            app.setFont(letters_of(QFont("Inter", 10)))
            app.setStyle("Fusion")
        self.create = create
        self.window = self._open()

    def _open(self):
        settings = user_settings(self.folder / "settings.ini")
        window = open_window(self.book, settings, create=self.create, simulated_sound=True)
        self.create = False
        window.resize(1280, 800)
        window.show()
        self.qtbot.waitExposed(window)
        self.idle(window)
        return window

    def idle(self, window=None, timeout: int = 600_000) -> None:
        """Wait until no job runs: ten lines that the ears hear again take minutes on a busy machine."""
        jobs = (window or self.window).jobs
        self.qtbot.waitUntil(lambda: not jobs.running, timeout=timeout)
        QApplication.processEvents()

    def do(self, act: str) -> None:
        """Do an act as its menu entry would."""
        self.window.actions_.run(act)

    def keys(self, text: str) -> None:
        """Press keys on the galley."""
        self.window.activateWindow()
        self.window.galley.setFocus()
        for key in text:
            QTest.keyClick(self.window.galley, key)

    def press(self, button) -> None:
        """Click a button with the mouse."""
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)

    def click_word(self, word: int, *, double: bool = False, shift: bool = False) -> None:
        """Click on a written word of the galley."""
        galley = self.window.galley
        rect = galley.word_rect(word)
        if not 0 <= rect.center().y() < galley.viewport().height():
            galley.verticalScrollBar().setValue(int(galley.verticalScrollBar().value() + rect.center().y() - 200))
            rect = galley.word_rect(word)
        point = QPoint(int(rect.center().x()), int(rect.center().y()))
        modifier = Qt.KeyboardModifier.ShiftModifier if shift else Qt.KeyboardModifier.NoModifier
        if double:
            QTest.mouseDClick(galley.viewport(), Qt.MouseButton.LeftButton, modifier, point)
        else:
            QTest.mouseClick(galley.viewport(), Qt.MouseButton.LeftButton, modifier, point)

    @property
    def bookstate(self):
        """The book as the window shows it."""
        return self.window.bench.book

    def close(self) -> None:
        """Close the window and let go of the book."""
        if self.window is not None:
            self.window.close_now()
            self.window.deleteLater()
            self.window = None
            QApplication.processEvents()

    def reopen(self) -> None:
        """Close, and open the same book again."""
        self.close()
        self.window = self._open()
