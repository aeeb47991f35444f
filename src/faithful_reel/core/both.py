"""The same work on two things at once, for what NumPy and SciPy do without holding the interpreter."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

A = TypeVar("A")
B = TypeVar("B")


def both(work: Callable[[A], B], one: A, other: A) -> tuple[B, B]:
    """What the work gives for each, done side by side; what it raises is raised."""
    with ThreadPoolExecutor(1) as pool:
        waiting = pool.submit(work, other)
        return work(one), waiting.result()
