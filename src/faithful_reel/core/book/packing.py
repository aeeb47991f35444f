"""Values as the book keeps them: JSON, packed, known by its hash."""

from __future__ import annotations

import hashlib
import json
import zlib
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

from pydantic import TypeAdapter

from faithful_reel.core.errors import BookDamaged
from faithful_reel.core.reel.reel import Reel, Segment

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
    bare = replace(reel, lanes=tuple(replace(lane, segments=()) for lane in reel.lanes), markers=())
    value = _heard(json_of(Reel, bare))
    for row, lane in zip(value["lanes"], reel.lanes, strict=True):
        row["segments"] = _written(lane.segments)
    return hashlib.sha256(repr(value).encode()).hexdigest()[:16]


class _Written(str):
    """What is its own `repr`."""

    __slots__ = ()

    def __repr__(self) -> str:
        return str(self)


_WRITTEN: dict[int, tuple[Segment, _Written]] = {}
"""How segments stand in keys, by their `id`; each is held, so that no other one gets it.  An edit makes few anew."""
MOST_WRITTEN = 50_000


def _written(segments: tuple[Segment, ...]) -> list[_Written]:
    """What is heard of some segments, as it stands in a key."""
    known = [_WRITTEN.get(id(s)) for s in segments]
    fresh = tuple(s for s, row in zip(segments, known, strict=True) if row is None)
    rows = json_of(tuple[Segment, ...], fresh) if fresh else []
    made = {id(s): (s, _Written(repr(_heard(row)))) for s, row in zip(fresh, rows, strict=True)}
    if len(_WRITTEN) > MOST_WRITTEN:
        _WRITTEN.clear()
    _WRITTEN.update(made)
    return [row[1] if row is not None else made[id(s)][1] for s, row in zip(segments, known, strict=True)]


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
