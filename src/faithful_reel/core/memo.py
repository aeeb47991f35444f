"""The one way to keep what is worked out: a value stands as long as everything that it was made of does."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import Generic, TypeVar

V = TypeVar("V")
_PLAIN = (str, int, float, frozenset)


class Memo(Generic[V]):
    """One value for every key, with what it was made of.  States are frozen, so another object is another state."""

    def __init__(self) -> None:
        self._kept: dict[Hashable, tuple[tuple[object, ...], V]] = {}

    def of(self, key: Hashable, parts: tuple[object, ...], make: Callable[[], V]) -> V:
        """The value for `key`, made anew where one of the parts is not what it was."""
        known = self._kept.get(key)
        if known is None or not alike(known[0], parts):
            known = self._kept[key] = parts, make()
        return known[1]

    def forget(self) -> None:
        """Keep nothing."""
        self._kept.clear()


class Seen:
    """What was shown last: for who only has to know whether anything changed since."""

    def __init__(self) -> None:
        self._parts: tuple[object, ...] | None = None

    def changed(self, *parts: object) -> bool:
        """Whether one of the parts is not what it was at the last call."""
        before, self._parts = self._parts, parts
        return before is None or not alike(before, parts)

    def forget(self) -> None:
        """Whatever comes next counts as changed."""
        self._parts = None


def alike(before: tuple[object, ...], now: tuple[object, ...]) -> bool:
    """Whether two rows of parts are the same objects, or equal words, numbers and sets; tuples are looked into."""
    return len(before) == len(now) and all(
        a is b
        or (isinstance(a, _PLAIN) and isinstance(b, _PLAIN) and a == b)
        or (isinstance(a, tuple) and isinstance(b, tuple) and len(a) < _SHORT and alike(a, b))
        for a, b in zip(before, now, strict=True)
    )


_SHORT = 64
"""Longer rows are contents, known by being the same object."""
