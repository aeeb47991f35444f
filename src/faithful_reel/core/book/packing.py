"""Values as the book keeps them: JSON, packed, known by its hash."""

from __future__ import annotations

import hashlib
import json
import zlib
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from pydantic import TypeAdapter

from faithful_reel.core.errors import BookDamaged
from faithful_reel.core.reel.reel import Reel

MOST_UNPACKED = 1 << 29
"""A larger value is no content of a book."""


NONSENSE = (ValueError, TypeError, LookupError, ArithmeticError, AttributeError, RecursionError, AssertionError)
"""What reading or replaying a journal raises when it is not as we wrote it."""


@lru_cache(maxsize=64)
def adapter(kind: Any) -> TypeAdapter[Any]:
    """What reads and writes values of a kind; made once, since that takes 10 ms."""
    return TypeAdapter(kind)


def ready(kind: type) -> None:
    """Make what writes a kind of command or value before it is needed: beside the work, since it takes 10 ms."""
    adapter(kind)


@dataclass(frozen=True, slots=True)
class Packed:
    """A large value ready to be kept: its key and its JSON, packed."""

    key: str
    kind: str
    body: bytes


def packed(kind: type, value: Any) -> Packed:
    """Make a value ready to be kept; needs no database, so that it can be done beside the work."""
    raw = adapter(kind).dump_json(value)
    return Packed(key_of(raw), kind.__name__, zlib.compress(raw, 1))


def key_of(raw: bytes) -> str:
    """The key of a value by its bytes."""
    return hashlib.sha256(raw).hexdigest()[:32]


class Packing:
    """Stands for `BookStore.put` where there is no store: gives the keys and collects what is to be kept."""

    def __init__(self) -> None:
        self.rows: list[Packed] = []

    def __call__(self, kind: type, value: Any) -> str:
        """The value's key."""
        row = packed(kind, value)
        self.rows.append(row)
        return row.key


def unpacked_body(body: bytes) -> bytes:
    """The JSON of a packed value.

    Raises
    ------
    BookDamaged
        It is not packed as we pack, or larger than any content of a book.
    """
    try:
        unpacking = zlib.decompressobj()
        raw = unpacking.decompress(body, MOST_UNPACKED)
        if not unpacking.eof:
            raise ValueError("it does not end")
    except (zlib.error, *NONSENSE) as problem:
        raise BookDamaged("A part of the book's database is damaged. Restore it from a backup.") from problem
    return raw


def reel_key(reel: Reel) -> str:
    """A short hash of what is heard of a reel, to tell whether something was made of the reel as it stands."""
    return hashlib.sha256(repr(_heard(json_of(Reel, reel))).encode()).hexdigest()[:16]


_UNSEEN: dict[str, object] = {
    "bend": 0.0,
    "fade_in": {"length": 0, "bend": 0.0, "past": 0},
    "fade_out": {"length": 0, "bend": 0.0, "past": 0},
    "line": [],
    "music": False,
    "muted": False,
    "solo": False,
    "pan": 0.0,
    "linked": True,
    "late": 0,
    "tone": None,
}
"""What reels can have since keys are kept, and how it stands where it changes nothing: then the key is as it always was."""
_SILENT = frozenset({"color", "note", "hidden", "markers", "id", "of", "of_start"})
"""What is never heard."""


def _heard(value: Any) -> Any:
    """JSON of a reel, without what is not heard or as if it were not there."""
    if isinstance(value, list):
        return [_heard(v) for v in value]
    if not isinstance(value, dict):
        return value
    segment, lane = "kind" in value, "segments" in value
    unseen = {**_UNSEEN, **({"name": value.get("name")} if segment else {}), **({"gain_db": 0.0} if lane else {})}
    return {k: _heard(v) for k, v in value.items() if k not in _SILENT and not (k in unseen and v == unseen[k])}


def json_of(kind: type, value: Any) -> Any:
    """A value as plain JSON data, for reports."""
    return json.loads(adapter(kind).dump_json(value))
