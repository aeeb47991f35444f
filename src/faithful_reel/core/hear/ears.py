"""The ears that are installed, loaded together."""

from __future__ import annotations

import ctypes
from dataclasses import dataclass
from pathlib import Path

from faithful_reel.core.errors import EarMissing
from faithful_reel.core.hear.recogniser import Ear
from faithful_reel.core.hear.third_ear import ThirdEar
from faithful_reel.core.hear.weights import find_first_ear, find_second_ear, find_third_ear

_TRIM_THRESHOLD, _MMAP_THRESHOLD, _ARENA_MAX = -1, -3, -8
"""Of glibc's malloc.h."""


ENGLISH = "en"
LANGUAGES = tuple("en de fr es it pt nl sv da no fi pl cs hu ro el tr ru uk ja ko zh".split())
"""Codes of the languages that can be chosen (ISO 639-1)."""


@dataclass(frozen=True, slots=True)
class Ears:
    """The first ear hears everything, and first; the others, where they are installed, hear it again.

    `second` is the larger one, whose reading the differences are weighed against; `third` is of another make.  In other
    languages than English the multilingual ear hears alone: neither the third ear nor the phones know them.
    """

    first: Ear
    second: Ear | None = None
    third: ThirdEar | None = None
    language: str = ENGLISH


def _calm_allocator() -> None:
    """Have the C library give memory back: else every thread keeps what its largest chunk took."""
    libc = ctypes.CDLL(None)
    if hasattr(libc, "mallopt"):
        for option, value in ((_ARENA_MAX, 2), (_TRIM_THRESHOLD, 1 << 25), (_MMAP_THRESHOLD, 1 << 22)):
            libc.mallopt(option, value)


def give_back() -> None:
    """Give what lies free between memory that is used back to the system, too."""
    libc = ctypes.CDLL(None)
    if hasattr(libc, "malloc_trim"):
        libc.malloc_trim(0)


def installed_ears(own: Path | None = None, *, only_first: bool = False, language: str = ENGLISH) -> Ears:
    """Load the ears; `own` is the user's model folder for the first one, `language` a code of `LANGUAGES`.

    Raises
    ------
    EarMissing
        There is no first ear, or for another language than English no multilingual one.
    """
    _calm_allocator()
    if language not in LANGUAGES:
        raise EarMissing(f"No ear knows the language {language}. Choose one of: {', '.join(LANGUAGES)}.")
    if language != ENGLISH:
        weights = find_first_ear(own) if own else find_second_ear()
        if weights is None:
            raise EarMissing("The multilingual ear is not installed, so only English can be heard. Install it, or choose an ear.")
        return Ears(Ear(weights, language=language), language=language)
    if only_first:
        return Ears(Ear(find_first_ear(own)))
    weights, other = find_second_ear(), find_third_ear()
    second = Ear(weights, witness="second") if weights else None
    if second is not None:
        second.rest()  # it comes after the first one, and both at once take 160 MB more
    return Ears(Ear(find_first_ear(own)), second, ThirdEar(other) if other else None)
