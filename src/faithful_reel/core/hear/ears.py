"""The ears that are installed, loaded together."""

from __future__ import annotations

import ctypes
from dataclasses import dataclass
from pathlib import Path

from faithful_reel.core.hear.recogniser import Ear
from faithful_reel.core.hear.third_ear import ThirdEar
from faithful_reel.core.hear.weights import find_first_ear, find_second_ear, find_third_ear

_TRIM_THRESHOLD, _MMAP_THRESHOLD, _ARENA_MAX = -1, -3, -8
"""Of glibc's malloc.h."""


@dataclass(frozen=True, slots=True)
class Ears:
    """The first ear hears everything, and first; the others, where they are installed, hear it again.

    `second` is the larger one, whose reading the differences are weighed against; `third` is of another make.
    """

    first: Ear
    second: Ear | None = None
    third: ThirdEar | None = None


def _calm_allocator() -> None:
    """Have the C library give memory back: else every thread keeps what its largest chunk took (902 MB against 561)."""
    libc = ctypes.CDLL(None)
    if hasattr(libc, "mallopt"):
        for option, value in ((_ARENA_MAX, 2), (_TRIM_THRESHOLD, 1 << 16), (_MMAP_THRESHOLD, 1 << 22)):
            libc.mallopt(option, value)


def installed_ears(own: Path | None = None, *, only_first: bool = False) -> Ears:
    """Load the ears; `own` is the user's model folder for the first one.

    Raises
    ------
    EarMissing
        There is no first ear.
    """
    _calm_allocator()
    first = Ear(find_first_ear(own))
    if only_first:
        return Ears(first)
    second, third = find_second_ear(), find_third_ear()
    return Ears(first, Ear(second, witness="second") if second else None, ThirdEar(third) if third else None)
