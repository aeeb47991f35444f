"""Jobs that end when the test says so."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from faithful_reel.core.errors import Cancelled
from faithful_reel.core.jobs import Unwatched


@dataclass
class Held:
    """A job that was started and waits for the test."""

    name: str
    job: Callable[..., Any]
    done: Callable[[Any], None]
    stopped: Callable[[BaseException], None]


class HeldJobs:
    """Stands for the real runner: nothing runs until `finish`."""

    def __init__(self) -> None:
        self.held: list[Held] = []

    def start(self, name, job, *, done, stopped, progress=None, quiet=False):
        """Remember the job."""
        held = Held(name, job, done, stopped)
        self.held.append(held)
        return held

    def finish(self, name: str = "") -> None:
        """Run the oldest job whose name begins with `name` to its end, here and now."""
        held = next(h for h in self.held if h.name.startswith(name))
        self.held.remove(held)
        try:
            result = held.job(Unwatched())
        except Exception as why:  # noqa: BLE001 - handed on as the real runner does
            held.stopped(why)
        else:
            held.done(result)

    def cancel(self, name: str = "") -> None:
        """End a job as cancelled."""
        held = next(h for h in self.held if h.name.startswith(name))
        self.held.remove(held)
        held.stopped(Cancelled())
