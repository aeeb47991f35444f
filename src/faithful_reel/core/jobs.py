"""Long work: a job is a function that ticks a watcher."""

from __future__ import annotations

import queue
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from itertools import islice
from typing import Protocol, TypeVar

from faithful_reel.core.errors import Cancelled

T = TypeVar("T")
S = TypeVar("S")


class Watch(Protocol):
    """Follows a job and can stop it."""

    def tick(self, done: float, note: str = "") -> None:
        """Report the fraction done, 0 to 1; raises `Cancelled` when the user has stopped the job."""


Job = Callable[[Watch], T]


class Unwatched:
    """Nobody looks on."""

    def tick(self, done: float, note: str = "") -> None:
        """Ignore the report."""


class Part:
    """A share of a longer job: maps 0..1 to `start`..`stop` of the whole."""

    def __init__(self, whole: Watch, start: float, stop: float) -> None:
        self._whole, self._start, self._stop = whole, start, stop

    def tick(self, done: float, note: str = "") -> None:
        """Report to the whole job."""
        self._whole.tick(self._start + done * (self._stop - self._start), note)


class FlagWatch:
    """A watcher that calls `report` and raises when `cancelled()` says so."""

    def __init__(self, report: Callable[[float, str], None], cancelled: Callable[[], bool]) -> None:
        self._report, self._cancelled = report, cancelled

    def tick(self, done: float, note: str = "") -> None:
        """Report, or raise `Cancelled`."""
        if self._cancelled():
            raise Cancelled
        self._report(min(1.0, max(0.0, done)), note)


def watched(rows: Iterable[T], watch: Watch, count: int) -> Iterator[T]:
    """Give some rows, about `count` of them, and report after each; whoever has stopped the job gets no more."""
    for number, row in enumerate(rows, 1):
        yield row
        watch.tick(number / max(1, count))


def ahead(parts: Iterable[T], depth: int = 4) -> Iterator[T]:
    """Make the next parts in another thread while this one works on what it has; what fails there is raised here."""
    waiting: queue.Queue[tuple[T | None, BaseException | None]] = queue.Queue(maxsize=depth)
    left = threading.Event()

    def put(item: tuple[T | None, BaseException | None]) -> None:
        while not left.is_set():
            try:
                waiting.put(item, timeout=0.1)
            except queue.Full:
                continue
            return

    def make() -> None:
        try:
            for part in parts:
                put((part, None))
                if left.is_set():
                    return
        except BaseException as why:  # noqa: BLE001 - handed to the thread that asked
            put((None, why))
        else:
            put((None, StopIteration()))

    thread = threading.Thread(target=make, name="ahead", daemon=True)
    thread.start()
    try:
        while True:
            part, why = waiting.get()
            if isinstance(why, StopIteration):
                return
            if why is not None:
                raise why
            yield part  # type: ignore[misc]  # None only comes with a reason
    finally:
        left.set()
        thread.join()


def at_once(work: Callable[[S], T], items: Iterable[S], workers: int = 3) -> Iterator[T]:
    """The results of `work` for every item, in order, made a few at a time; what is not begun is dropped at the end.

    No more than a few results wait to be taken.
    """
    left = iter(items)
    with ThreadPoolExecutor(workers, thread_name_prefix="at-once") as pool:
        waiting = deque(pool.submit(work, item) for item in islice(left, 2 * workers))
        try:
            while waiting:
                result = waiting.popleft().result()
                waiting.extend(pool.submit(work, item) for item in islice(left, 1))
                yield result
        finally:
            for future in waiting:
                future.cancel()
