"""An uncaught exception: the work is on disk already; say what happened, offer the report, go on."""

from __future__ import annotations

import contextlib
import logging
import sys
import threading
import time
import traceback
from collections.abc import Callable, Iterator
from logging.handlers import RotatingFileHandler
from pathlib import Path
from types import TracebackType

import platformdirs

from faithful_reel.core.errors import AppError


def report_folder() -> Path:
    """Where crash reports are kept."""
    return Path(platformdirs.user_log_dir("faithful-reel"))


def write_report(text: str) -> Path | None:
    """Keep a report; None where even that can not be written."""
    folder = report_folder()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / f"crash-{time.strftime('%Y%m%d-%H%M%S')}.txt"
        path.write_text(text, encoding="utf-8")
    except OSError:
        return None
    return path


def keep_log() -> None:
    """Write what the program notes for itself into `log.txt` beside the crash reports, half a megabyte at most."""
    try:
        report_folder().mkdir(parents=True, exist_ok=True)
        handler = RotatingFileHandler(
            report_folder() / "log.txt", maxBytes=1 << 18, backupCount=1, encoding="utf-8", errors="replace"
        )
    except OSError:
        return
    handler.setFormatter(logging.Formatter("%(asctime)s %(name)s: %(message)s"))
    log = logging.getLogger("faithful_reel")
    log.addHandler(handler)
    log.setLevel(logging.INFO)


@contextlib.contextmanager
def or_else(instead: Callable[[str], object]) -> Iterator[None]:
    """Where something goes wrong in the block, go on with something else, told why; faults of the program are reported too."""
    try:
        yield
    except AppError as problem:
        instead(str(problem))
    except Exception as problem:  # noqa: BLE001 - reported, as all that nobody catches
        sys.excepthook(type(problem), problem, problem.__traceback__)
        instead("something went wrong in it.")


class CrashHandler:
    """Takes `sys.excepthook` before the application is made: without it an exception in a slot ends the process."""

    def __init__(self, show: Callable[[str, str], None]) -> None:
        self._show = show
        self._showing = False

    def install(self) -> None:
        """Take over; exceptions of threads come here too."""
        sys.excepthook = self.caught
        threading.excepthook = self._in_thread

    def _in_thread(self, args: threading.ExceptHookArgs) -> None:
        if args.exc_value is not None:
            self.caught(args.exc_type, args.exc_value, args.exc_traceback)

    def caught(self, kind: type[BaseException], value: BaseException, trace: TracebackType | None) -> None:
        """Write the report, tell the user in plain words."""
        text = "".join(traceback.format_exception(kind, value, trace))
        sys.stderr.write(text)
        if issubclass(kind, KeyboardInterrupt):
            sys.exit(130)
        path = write_report(text)
        if self._showing or threading.current_thread() is not threading.main_thread():
            return
        self._showing = True
        try:
            where = f"A report was written to {path.name} in the program's log folder." if path else "No report could be written."
            message = (
                "Something in the program went wrong. Nothing is lost: every step up to now is saved in the book. "
                f"You can go on; if it happens again, close the book and open it anew.\n\n{where}"
            )
            self._show(message, text)
        finally:
            self._showing = False
