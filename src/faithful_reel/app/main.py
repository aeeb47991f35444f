"""Starting the window."""

from __future__ import annotations

import contextlib
import gc
import os
import signal
import socket
import sys
import time
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from typing import NoReturn, TypeVar

import platformdirs
from PyQt6.QtCore import QObject, QSocketNotifier, Qt, QTimer
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication, QMessageBox

from faithful_reel.app.asking import Asking, with_suffix
from faithful_reel.app.crash import CrashHandler, keep_log
from faithful_reel.app.desktop import ID
from faithful_reel.app.doorbell import Doorbell, ring
from faithful_reel.app.places import recent_books
from faithful_reel.app.start import RecentBooks, Wanted
from faithful_reel.app.theme import ASSETS, THEMES, letters_of, load_fonts, style_sheet
from faithful_reel.app.wiring import open_window, user_settings
from faithful_reel.core.book.condition import SUFFIX, look_for_book, whole_backups
from faithful_reel.core.book.demo import demo_files, make_demo_book, remove_demo_book
from faithful_reel.core.book.keeping import ARCHIVE_SUFFIX, restored, unpacked
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.errors import AppError, BookDamaged, BookInUse, StoreProblem
from faithful_reel.core.files import DATABASE, shown

SWITCH_S = 0.001
"""How long a job may go on in Python while the interface waits for its turn."""
COLLECT_AFTER = 100_000
LISTENS_S = 5.0
"""A window that was started a moment ago answers within this."""
T = TypeVar("T")


def _show_crash(message: str, details: str) -> None:
    box = QMessageBox(QMessageBox.Icon.Warning, "Faithful Reel", message)
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.setDetailedText(details)
    box.exec()


def application() -> QApplication:
    """The Qt application, with our fonts and the crash handler in place."""
    os.environ.setdefault("QT_LOGGING_RULES", "qt.multimedia.symbolsresolver=false")  # it misses libraries that we do not use
    CrashHandler(_show_crash).install()
    sys.setswitchinterval(SWITCH_S)
    made = QApplication.instance()
    app = made if isinstance(made, QApplication) else QApplication(sys.argv[:1])
    app.setApplicationName("Faithful Reel")
    app.setDesktopFileName(ID)
    app.setWindowIcon(QIcon(str(ASSETS / "desktop" / "icons" / "scalable.svg")))
    load_fonts()
    app.setFont(letters_of(app.font()))
    app.setStyle("Fusion")
    return app


def calm_collector() -> None:
    """Look for cyclic garbage seldom, and leave what is there now alone: for a process that has one window and no more.

    An edit makes thousands of small values: at its default the collector would walk the whole book several times a step,
    30 to 65 ms each time.
    """
    gc.freeze()
    gc.set_threshold(COLLECT_AFTER, 20, 50)


def opened_or_restored(folder: Path, opening: Callable[[], T]) -> T:
    """Open a book; where its database is damaged, offer its latest backup and open that.

    Raises
    ------
    StoreProblem
        The book can not be opened, or it is damaged and there is no backup, or the user does not want it.
    """
    try:
        return opening()
    except BookDamaged as problem:
        for backup in whole_backups(folder):
            text = (
                f"{problem}\n\nThere is a whole backup with {backup.steps} steps, the newest of {backup.at}. Restore it?\n"
                "The damaged database is kept beside it; recordings are not touched."
            )
            box = QMessageBox(
                QMessageBox.Icon.Question,
                "Faithful Reel",
                text,
                QMessageBox.StandardButton.Yes | QMessageBox.StandardButton.No,
            )
            box.setTextFormat(Qt.TextFormat.PlainText)
            if box.exec() != QMessageBox.StandardButton.Yes:
                break
            try:
                restored(folder, backup.path)
                return opening()
            except StoreProblem:
                continue  # that one is damaged as well: offer the one before it
        raise


class Ending(QObject):
    """Ends the event loop at a signal, after `close`: Python learns of one only when it has its turn, which a socket gives it."""

    def __init__(self) -> None:
        super().__init__()
        self.close: Callable[[], object] = _nothing_open
        self._mine, self._theirs = socket.socketpair()
        for end in (self._mine, self._theirs):
            end.setblocking(False)
        signal.set_wakeup_fd(self._theirs.fileno())
        self._notifier = QSocketNotifier(self._mine.fileno(), QSocketNotifier.Type.Read, self)  # type: ignore[call-overload]  # PyQt6 takes a number
        self._notifier.activated.connect(self._woken)
        self._wanted = False
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, self)

    def __call__(self, _number: int, _frame: object) -> None:
        """The signal's handler."""
        self._wanted = True

    def _woken(self) -> None:
        with contextlib.suppress(OSError):
            self._mine.recv(64)
        if self._wanted:
            self._wanted = False
            self.close()
            QApplication.exit()  # whatever dialog is open; `quit` does nothing before the window is there

    def stop(self) -> None:
        """Listen no longer."""
        signal.set_wakeup_fd(-1)
        self._notifier.setEnabled(False)
        self._mine.close()
        self._theirs.close()


def _nothing_open() -> None:
    """No window is to be closed yet."""


@cache
def running() -> tuple[QApplication, Ending]:
    """The application of this process, held here since it ends with the last name that holds it; and what ends it at a signal."""
    return application(), Ending()


def rung(folder: Path) -> bool:
    """Whether the window of a book came forward; one that has just been started gets time to listen."""
    until = time.monotonic() + LISTENS_S
    while not (heard := ring(folder)) and time.monotonic() < until:
        time.sleep(0.2)
    return heard


def run_book(folder: Path) -> NoReturn:
    """Open the window on a book, stay until it is closed, and end the process."""
    with contextlib.suppress(BookDamaged):  # told in the window, with its backups
        look_for_book(folder)
    app, ending = running()
    keep_log()
    try:
        window = opened_or_restored(folder, lambda: open_window(folder, user_settings()))
    except BookInUse:
        if not rung(folder):
            raise
        sys.stderr.write(f"{shown(folder)} is open already: its window comes forward.\n")
        sys.exit(0)
    calm_collector()
    window.show()
    QTimer.singleShot(1500, window.parts.keeping.wake_ears)
    ending.close, bell = window.close_now, Doorbell(folder, window)
    bell.rung.connect(window.come_forward)
    if os.environ.get("FAITHFUL_REEL_QUIT_AFTER"):  # for scripts that only look whether the window comes up
        QTimer.singleShot(int(os.environ["FAITHFUL_REEL_QUIT_AFTER"]), window.close_now)
    code = app.exec()
    ending.stop()
    bell.close()
    # the book is closed.  A job that was asked to stop and does not would hold the process, and threads of the recognisers'
    # libraries may abort it; what a job leaves half-done is cleared away at the next opening
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)


@contextlib.contextmanager
def shown_in_a_box() -> Iterator[None]:
    """For who was not started from a terminal: what keeps the window from opening is told in one of its own."""
    try:
        yield
    except AppError as problem:
        running()
        _tell(problem)
        raise


def _tell(problem: AppError) -> None:
    box = QMessageBox(QMessageBox.Icon.Warning, "Faithful Reel", str(problem))
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.exec()


def run_path(path: Path) -> NoReturn:
    """Open the window on what the desktop hands over: a book's folder, its database, or an archive to be unpacked first."""
    if path.name == DATABASE and path.is_file():
        run_book(path.absolute().parent)
    if path.suffix == ARCHIVE_SUFFIX and path.is_file():
        running()
        asking = Asking(None, user_settings())
        proposed = str(path.absolute().with_suffix(SUFFIX))
        asked = asking.new_file("Unpack the book as", proposed, f"Books (*{SUFFIX})")
        if asked is None:
            sys.exit(0)
        run_book(unpacked(path, with_suffix(asked[0], SUFFIX)))
    run_book(path)


def run_start() -> NoReturn:
    """Open the window on one of the books that were open before, another one, a new one, or the demo."""
    running()
    settings = user_settings()
    asking = Asking(None, settings)
    while True:
        dialog = RecentBooks(recent_books(settings), first=True)
        dialog.setStyleSheet(style_sheet(THEMES["day"]))
        if not dialog.exec():
            sys.exit(0)
        try:
            match dialog.wanted:
                case Wanted.DEMO:
                    run_demo(None, fresh=False)
                case Wanted.NEW:
                    asked = asking.new_file("New book", f"Untitled{SUFFIX}", f"Books (*{SUFFIX})")
                    folder = with_suffix(asked[0], SUFFIX) if asked else None
                    if folder is not None:
                        BookStore(folder, create=True).close()
                case Wanted.OTHER:
                    folder = asking.folder(f"Open a book (a folder NAME{SUFFIX})")
                case Wanted.NONE:
                    folder = dialog.chosen
            if folder is not None:
                run_book(folder)
        except AppError as problem:  # then another one may be chosen
            _tell(problem)


def run_demo(folder: Path | None, *, fresh: bool) -> NoReturn:
    """Open the window on the demo book, which is made where it is not there yet."""
    folder = folder or Path(platformdirs.user_data_dir("faithful-reel")) / "demo.reelbook"
    if fresh and folder.exists():
        remove_demo_book(folder)
    if not folder.exists():
        sys.stderr.write("Making the demo book …\n")
        make_demo_book(folder, demo_files())
    run_book(folder)
