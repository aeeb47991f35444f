"""What the user chose, read so that a file that was changed by hand or damaged does no harm.  No Qt."""

from __future__ import annotations

import json
import math
from typing import Any, Protocol

from faithful_reel.core.files import from_json

MOST = 1e9
"""No place or width that is kept is so much."""


class Settings(Protocol):
    """Keeps values by name; see QSettings."""

    def value(self, key: str, default: Any = None) -> Any: ...
    def setValue(self, key: str, value: Any) -> None: ...  # noqa: N802 - Qt's name


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


def flag(settings: Settings, key: str) -> bool:
    """Whether something is switched on."""
    return text(settings, key) == "on"


def rows(settings: Settings, key: str) -> dict[str, list[float]]:
    """Lists of numbers by name, kept as JSON; what is none is left out."""
    try:
        found = from_json(text(settings, key, "{}"))
    except ValueError:
        return {}
    if not isinstance(found, dict):
        return {}
    return {
        str(name): [float(v) for v in values]
        for name, values in found.items()
        if isinstance(values, list) and all(isinstance(v, int | float) and abs(v) <= MOST for v in values)
    }


def keep_rows(settings: Settings, key: str, values: dict[str, list[float]]) -> None:
    """Keep lists of numbers by name."""
    settings.setValue(key, json.dumps(values))


def names(settings: Settings, key: str) -> list[str]:
    """A list of texts, kept as JSON."""
    try:
        found = from_json(text(settings, key, "[]"))
    except ValueError:
        return []
    return [str(v) for v in found] if isinstance(found, list) else []


def keep_names(settings: Settings, key: str, values: list[str]) -> None:
    """Keep a list of texts."""
    settings.setValue(key, json.dumps(values, ensure_ascii=False))
