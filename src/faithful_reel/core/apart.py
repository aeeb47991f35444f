"""Work on foreign files in a process of its own: a decoder that dies takes nothing along.

The process ends with us, however we end: its line is closed then, and its next report fails.
"""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from multiprocessing.connection import Connection, Pipe
from pathlib import Path
from typing import Any, TypeVar

from faithful_reel.core.errors import AppError, Cancelled, FileProblem
from faithful_reel.core.files import shown
from faithful_reel.core.jobs import Watch

T = TypeVar("T")
LOOK_S, GRACE_S = 0.1, 1.0


class _Told:
    """Reports through the line to the process that asked."""

    def __init__(self, line: Connection) -> None:
        self._line = line

    def tick(self, done: float, note: str = "") -> None:
        """Report; ends the work where nobody listens any more."""
        try:
            self._line.send(("tick", (done, note)))
        except OSError as why:
            raise Cancelled from why


def apart(work: Callable[..., T], *args: Any, path: Path, watch: Watch) -> T:
    """Run `work(*args, watch)`, a function of a module, in a process of its own, and give what it returns.

    `path` is the file that it reads, for the message.

    Raises
    ------
    FileProblem
        The process died: the file is such that it can not be read safely.
    AppError, Cancelled
        As `work` does.
    """
    mine, theirs = Pipe()
    process = subprocess.Popen(
        [sys.executable, "-m", "faithful_reel.core.apart", str(theirs.fileno())],
        stdin=subprocess.DEVNULL,
        pass_fds=[theirs.fileno()],
    )
    theirs.close()
    done, note = 0.0, ""
    try:
        mine.send((work, args))
        while True:
            watch.tick(done, note)
            if not mine.poll(LOOK_S):
                continue
            what, value = mine.recv()
            if what == "tick":
                done, note = value
            elif what == "done":
                result: T = value
                return result
            else:
                raise value
    except (EOFError, OSError) as why:
        raise FileProblem(
            f"{shown(path)} can not be read: the decoder broke down on it. Nothing else is harmed; export the file again."
        ) from why
    finally:
        mine.close()  # its next report fails, and it clears away what it had begun
        try:
            process.wait(GRACE_S)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()


def _serve(line: Connection) -> None:
    work, args = line.recv()
    try:
        told = "done", work(*args, _Told(line))
    except (AppError, Cancelled) as why:
        told = "problem", why
    line.send(told)


if __name__ == "__main__":
    _serve(Connection(int(sys.argv[1])))
