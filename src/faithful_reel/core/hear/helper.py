"""Helper processes: what takes much memory or keeps Python's lock works beside us, and gives all back when it ends.

A helper is a module of ours that calls `serve`.  It ends with us, however we end: then its lines are closed.
"""

from __future__ import annotations

import ctypes
import os
import queue
import subprocess
import sys
import threading
import weakref
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from multiprocessing.connection import Connection, Pipe
from typing import Any

from faithful_reel.core.errors import EarMissing

LESS_URGENT = 10
"""Steps of niceness: with helpers on all cores the interface would wait for its turn."""


@dataclass(frozen=True, slots=True)
class _Running:
    process: subprocess.Popen[bytes]
    lines: list[Connection]
    free: queue.SimpleQueue[Connection]


class Helper:
    """One helper process, started when it is first asked; may be asked by any thread, by `lines` of them at once."""

    def __init__(self, module: str, lines: int = 1) -> None:
        self._module, self._count = module, lines
        self._lock = threading.Lock()
        self._now: _Running | None = None
        self._end: Callable[[], object] = _nothing
        self._users = 0

    def ask(self, request: object) -> Any:
        """The helper's answer.

        Raises
        ------
        EarMissing
            It can not answer, and says why; or it has ended unexpectedly.
        """
        running = self._running()
        line = running.free.get()
        try:
            line.send(request)
            why, answer = line.recv()
        except (OSError, EOFError) as error:
            with self._lock:
                if self._now is running:
                    self._end()
                    self._now = None
            raise EarMissing("The helper that listens ended unexpectedly. Try again.") from error
        finally:
            running.free.put(line)
        if why:
            raise EarMissing(why)
        return answer

    @contextmanager
    def busy(self) -> Iterator[None]:
        """Hold the helper while a pass goes on, so that another job's `rest` does not end it."""
        with self._lock:
            self._users += 1
        try:
            yield
        finally:
            with self._lock:
                self._users -= 1

    def rest(self) -> None:
        """End the process until it is asked again; not while a pass goes on."""
        with self._lock:
            if not self._users:
                self._end()
                self._now = None

    def _running(self) -> _Running:
        with self._lock:
            if self._now is None:
                ends = [Pipe() for _ in range(self._count)]
                theirs = [end.fileno() for _, end in ends]
                process = subprocess.Popen(
                    [sys.executable, "-m", self._module, *map(str, theirs)], stdin=subprocess.DEVNULL, pass_fds=theirs
                )
                free: queue.SimpleQueue[Connection] = queue.SimpleQueue()
                for mine, end in ends:
                    end.close()
                    free.put(mine)
                self._now = _Running(process, [mine for mine, _ in ends], free)
                self._end = weakref.finalize(self, _ended, self._now)
            return self._now


def _nothing() -> None:
    """There is no process to end."""


def _ended(running: _Running) -> None:
    running.process.kill()
    running.process.wait()
    for line in running.lines:
        line.close()


def give_back() -> None:
    """Give what lies free between memory that is used back to the system, too."""
    libc = ctypes.CDLL(None)
    if hasattr(libc, "malloc_trim"):
        libc.malloc_trim(0)


def serve(answer: Callable[[Any], Any]) -> None:
    """In the helper: answer on all lines at once until the first is closed.  `EarMissing` is told, all else ends it."""

    def on(line: Connection) -> None:
        with line:
            while True:
                try:
                    request = line.recv()
                except (EOFError, ConnectionResetError):
                    return
                try:
                    told = "", answer(request)
                except EarMissing as why:
                    told = str(why), None
                try:
                    line.send(told)
                except OSError:  # nobody waits for it any more
                    return

    os.nice(LESS_URGENT)
    lines = [Connection(int(fd)) for fd in sys.argv[1:]]
    for line in lines[1:]:
        threading.Thread(target=on, args=(line,), daemon=True).start()
    on(lines[0])
