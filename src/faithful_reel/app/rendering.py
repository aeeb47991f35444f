"""What sound is played from: a rendering, and another one of the same that may go on in its place."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from faithful_reel.core.units import Signal

Rendering = Callable[[int, int], Signal]
"""The samples between two positions, (n,)."""


@dataclass(frozen=True, slots=True)
class Turn:
    """Another rendering of what is being heard: `there` gives its position for one that is told, `shown` what is told of it.

    It goes up to its `stop`; in a loop it begins anew at its `start`.
    """

    render: Rendering
    there: Callable[[int], int]
    shown: Callable[[int], int]
    start: int
    stop: int
