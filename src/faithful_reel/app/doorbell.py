"""One window a book: whoever starts the program on a book that is open rings, and its window comes forward."""

from __future__ import annotations

import contextlib
import os
import socket
import struct
from pathlib import Path

from PyQt6.QtCore import QObject, QSocketNotifier, pyqtSignal

from faithful_reel.core.book.condition import LOCK

ANSWER, WAIT_S = b"coming", 5.0


def _bell(folder: Path) -> str:
    """Where a book's window listens: a name without a file (unix(7), abstract), the same by whatever path the book is reached."""
    lock = (folder / LOCK).lstat()
    return f"\0faithful-reel {os.getuid()} {lock.st_dev} {lock.st_ino}"


class Doorbell(QObject):
    """Listens for others who would open the same book; `rung` each time."""

    rung = pyqtSignal()

    def __init__(self, folder: Path, parent: QObject) -> None:
        super().__init__(parent)
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET | socket.SOCK_NONBLOCK)
        with contextlib.suppress(OSError):  # without it a second start says that the book is open, and no more
            self._socket.bind(_bell(folder))
            self._socket.listen(4)
        self._notifier = QSocketNotifier(self._socket.fileno(), QSocketNotifier.Type.Read, self)  # type: ignore[call-overload]  # PyQt6 takes a number
        self._notifier.activated.connect(self._asked)

    def _asked(self) -> None:
        with contextlib.suppress(OSError):
            with self._socket.accept()[0] as visitor:
                _, user, _ = struct.unpack("3i", visitor.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12))
                if user != os.getuid():
                    return
                visitor.send(ANSWER)
            self.rung.emit()

    def close(self) -> None:
        """Listen no longer."""
        self._notifier.setEnabled(False)
        self._socket.close()


def ring(folder: Path) -> bool:
    """Ask the window that has a book open to come forward; whether it does."""
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as bell:
            bell.settimeout(WAIT_S)
            bell.connect(_bell(folder))
            return bell.recv(len(ANSWER)) == ANSWER
    except OSError:
        return False
