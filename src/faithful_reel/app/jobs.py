"""Long work beside the window: threads, progress, cancel; every callback comes on the interface thread."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor, wait
from typing import Any, TypeVar

from PyQt6.QtCore import QObject, pyqtSignal, pyqtSlot

from faithful_reel.core.errors import Cancelled
from faithful_reel.core.jobs import FlagWatch, Job

T = TypeVar("T")
REPORT_S = 0.1


class Running:
    """A started job: its name, how far it is, and its cancel.  A quiet one is told elsewhere, or nobody waits for it."""

    def __init__(self, name: str, *, quiet: bool = False) -> None:
        self.name, self.quiet = name, quiet
        self.fraction = 0.0
        self.note = ""
        self.since = time.monotonic()
        self._cancelled = threading.Event()

    def cancel(self) -> None:
        """Ask the job to stop; it ends with `Cancelled`."""
        self._cancelled.set()

    def cancelled(self) -> bool:
        """Whether the job was asked to stop."""
        return self._cancelled.is_set()

    def seconds_left(self) -> float | None:
        """Time left at the pace so far; None while nothing can be said."""
        spent = time.monotonic() - self.since
        return spent / self.fraction * (1 - self.fraction) if self.fraction > 0.03 and spent > 1 else None


class Jobs(QObject):
    """Runs jobs in a small pool.  Promises: callbacks on the interface thread, exactly one of `done` and `stopped`."""

    changed = pyqtSignal()
    _arrived = pyqtSignal(object)

    def __init__(self, parent: QObject | None = None, *, workers: int = 2) -> None:
        super().__init__(parent)
        self._pool = ThreadPoolExecutor(workers, thread_name_prefix="job")
        self.running: list[Running] = []
        self._futures: list[Future[None]] = []
        self._closed = False
        self._arrived.connect(self._deliver)  # across threads Qt queues it

    def start(
        self,
        name: str,
        job: Job[T],
        *,
        done: Callable[[T], None],
        stopped: Callable[[BaseException], None],
        progress: Callable[[float, str], None] | None = None,
        quiet: bool = False,
    ) -> Running:
        """Run `job` beside the window."""
        running = Running(name, quiet=quiet)
        self.running.append(running)
        last = [0.0]

        def report(fraction: float, note: str) -> None:
            running.fraction, running.note = fraction, note
            now = time.monotonic()
            if now - last[0] >= REPORT_S or fraction >= 1:
                last[0] = now
                self._arrived.emit((running, "progress", (fraction, note), progress))

        def work() -> None:
            watch = FlagWatch(report, running.cancelled)
            try:
                watch.tick(0.0)
                result = job(watch)
                watch.tick(1.0)
            except BaseException as why:  # noqa: BLE001 - the one place where a job's end is handed over
                self._arrived.emit((running, "stopped", why, stopped))
            else:
                self._arrived.emit((running, "done", result, done))

        self._futures = [f for f in self._futures if not f.done()]
        self._futures.append(self._pool.submit(work))
        self.changed.emit()
        return running

    @pyqtSlot(object)
    def _deliver(self, message: tuple[Running, str, Any, Callable[..., None] | None]) -> None:
        running, what, value, callback = message
        if self._closed:  # the book is closed: a late result has nowhere to go
            return
        if what == "progress":
            self.changed.emit()
            if callback is not None and running in self.running:
                callback(*value)
            return
        if running in self.running:
            self.running.remove(running)
        self.changed.emit()
        if callback is not None:
            callback(value)

    @property
    def seen(self) -> list[Running]:
        """What the user waits for."""
        return [r for r in self.running if not r.quiet]

    def cancel_all(self) -> None:
        """Ask every job to stop."""
        for running in self.running:
            running.cancel()

    def close(self, wait_s: float = 1.0) -> None:
        """Stop everything; nothing is delivered any more.  Waits a moment for what stops at once, not for what does not."""
        self._closed = True
        self.cancel_all()
        self._pool.shutdown(wait=False, cancel_futures=True)
        wait(self._futures, timeout=wait_s)

    @property
    def at_work(self) -> bool:
        """Whether something still goes on, though it was asked to stop."""
        return any(f.running() for f in self._futures)


__all__ = ["Cancelled", "Jobs", "Running"]
