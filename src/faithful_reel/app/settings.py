"""What the user chose, read so that a file that was changed by hand or damaged does no harm.  No Qt."""

from __future__ import annotations

import math
from typing import Protocol


class Settings(Protocol):
    """Keeps values by name; see QSettings."""

    def value(self, key: str, default: object = None) -> object: ...


def number(settings: Settings, key: str, usual: float, least: float, most: float) -> float:
    """A number from `least` to `most`; the usual one where there is none that can be one."""
    try:
        found = float(str(settings.value(key, usual)))
    except ValueError:
        return usual
    return found if math.isfinite(found) and least <= found <= most else usual


def text(settings: Settings, key: str, usual: str = "") -> str:
    """A text; the usual one where there is none."""
    found = settings.value(key, usual)
    return found if isinstance(found, str) else usual
