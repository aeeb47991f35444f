"""A sound card that plays nothing but keeps real time, for machines without one."""

from __future__ import annotations

import time
from collections.abc import Callable


class SimulatedCard:
    """Takes samples and "plays" them at the pace of a clock, with a buffer as a real card has."""

    name = "simulated sound card"
    simulated = True
    device = ""

    def __init__(self, rate: int, *, clock: Callable[[], float] = time.monotonic, buffer_s: float = 0.5) -> None:
        self.rate, self._clock = rate, clock
        self._room = round(buffer_s * rate)
        self._pushed = self._played = 0
        self._since: float | None = None

    def begin(self) -> None:
        """Empty the buffer and start the clock."""
        self._pushed = self._played = 0
        self._since = self._clock()

    def push(self, block: object, count: int) -> int:
        """Offer `count` samples; how many were taken."""
        del block
        taken = min(count, self._room - (self._pushed - self.played()))
        self._pushed += max(0, taken)
        return max(0, taken)

    def take_back(self, keep: int) -> int:
        """Let go of what is to come, but for `keep` samples; how many were let go."""
        gone = max(0, self._pushed - self.played() - keep)
        self._pushed -= gone
        return gone

    def played(self) -> int:
        """Samples played since `begin`; stands still where the buffer ran dry."""
        if self._since is not None:
            now = self._clock()
            due = self._played + int((now - self._since) * self.rate)
            if due >= self._pushed:
                due = self._pushed
                self._since = now
                self._played = due
            return due
        return self._played

    def halt(self) -> None:
        """Stop at once."""
        self._played = self.played()
        self._since = None

    def close(self) -> None:
        """Nothing to let go of."""
