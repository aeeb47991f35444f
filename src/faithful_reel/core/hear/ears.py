"""The ears that are installed, loaded together."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from faithful_reel.core.errors import EarMissing
from faithful_reel.core.hear.helper import Helper
from faithful_reel.core.hear.recogniser import THREADS, Ear
from faithful_reel.core.hear.weights import Weights, find_first_ear, find_second_ear, find_third_ear

CHILD = "faithful_reel.core.hear.ears_child"
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
    third: Ear | None = None
    language: str = ENGLISH


def ear_of(weights: Weights, witness: str = "first", language: str = ENGLISH) -> Ear:
    """An ear that hears in windows, in a helper process of its own."""
    return Ear(weights, Helper(CHILD, THREADS), witness, language=language)


def installed_ears(own: Path | None = None, *, only_first: bool = False, language: str = ENGLISH) -> Ears:
    """The ears, loaded when they first hear: `own` is the user's model folder for the first, `language` one of `LANGUAGES`.

    Raises
    ------
    EarMissing
        There is no first ear, or for another language than English no multilingual one.
    """
    if language not in LANGUAGES:
        raise EarMissing(f"No ear knows the language {language}. Choose one of: {', '.join(LANGUAGES)}.")
    if language != ENGLISH:
        weights = find_first_ear(own) if own else find_second_ear()
        if weights is None:
            raise EarMissing("The multilingual ear is not installed, so only English can be heard. Install it, or choose an ear.")
        return Ears(ear_of(weights, language=language), language=language)
    if only_first:
        return Ears(ear_of(find_first_ear(own)))
    weights, other = find_second_ear(), find_third_ear()
    helper = Helper(CHILD, THREADS)
    return Ears(
        ear_of(find_first_ear(own)),
        Ear(weights, helper, "second") if weights else None,
        Ear(other, helper, "third", windowed=False) if other else None,
    )
