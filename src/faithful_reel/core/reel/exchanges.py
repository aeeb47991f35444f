"""What stands where on a lane, and what a step exchanged: the sound that went, that came, and that only moved."""

from __future__ import annotations

from bisect import bisect_left, bisect_right, insort
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import accumulate, pairwise
from operator import is_
from typing import NamedTuple

from faithful_reel.core.reel.reel import Lane, Piece, Reel, Rest, RoomTone, Segment, part, played
from faithful_reel.core.units import Span

Sound = tuple[str, int, int]
"""A stretch of a recording: its hash, from, to."""


def sounds_of(segments: Iterable[Segment]) -> list[Sound]:
    """The stretches of recordings that some segments are made of, room tone apart."""
    return [(s.recording, s.start, s.stop) for s in segments if isinstance(s, Piece)]


Key = tuple[object, ...]
_NOTHING: Key = ("",)
_REST = -1 << 62
"""Where in itself a rest begins: they are all alike."""


class Atom(NamedTuple):
    """A stretch of one sound on a lane: which, from where in it, where on the lane, how long."""

    key: Key
    origin: int
    at: int
    length: int


def atoms(segments: Sequence[Segment], at: int) -> Iterator[Atom]:
    """What sounds on a stretch of a lane that begins at a place; rests are all alike."""
    for s in segments:
        yield Atom(key_of(s), _REST if isinstance(s, Rest) else s.origin, at, len(s))
        at += len(s)


def key_of(s: Segment) -> Key:
    """Which sound a segment is a stretch of."""
    if isinstance(s, RoomTone):
        return s.recording, s.start, s.stop, s.seed
    return (s.recording,)


@dataclass(frozen=True, slots=True)
class Exchange:
    """A stretch of a lane before a step, and what stands in its place after it."""

    old: Span
    new: Span

    @property
    def by(self) -> int:
        """How much longer it became."""
        return len(self.new) - len(self.old)


def exchanges(before: Lane, after: Lane) -> list[Exchange]:
    """Where a lane differs after a step: what is the same sound, in the same order, stayed; all else was exchanged."""
    old, now = before.segments, after.segments
    if old is now:
        return []
    first = same_objects(old, now, len(old), len(now))
    last = same_objects(old[::-1], now[::-1], len(old) - first, len(now) - first)
    starts, ends = before.starts(), after.starts()
    o0, o1, n0, n1 = starts[first], starts[len(old) - last], ends[first], ends[len(now) - last]
    stayed = _stayed(list(atoms(old[first : len(old) - last], o0)), list(atoms(now[first : len(now) - last], n0)))
    found: list[Exchange] = []
    for (a, b, length), (c, d, _) in pairwise([(n0, o0, 0), *stayed, (n1, o1, 0)]):
        exchange = Exchange(Span(b + length, d), Span(a + length, c))
        if len(exchange.old) or len(exchange.new):
            found.append(exchange)
    return [e for e in found if e.by or not (_rests(before, e.old) and _rests(after, e.new))]


def _rests(lane: Lane, span: Span) -> bool:
    return all(isinstance(s, Rest) for s in lane.between(span))


def same_objects(a: Sequence[Segment], b: Sequence[Segment], most_a: int, most_b: int) -> int:
    """How many segments two rows begin with that are the same objects."""
    low, high = 0, min(most_a, most_b)
    while low < high:
        middle = (low + high + 1) // 2
        if all(map(is_, a[low:middle], b[low:middle])):
            low = middle
        else:
            high = middle - 1
    return low


def _stayed(old: Sequence[Atom], now: Sequence[Atom]) -> list[tuple[int, int, int]]:
    """(place now, place before, length) of what is heard in the same order as before, in that order; the longest first."""
    rows: dict[Key, list[Atom]] = {}
    for atom in sorted(old, key=lambda a: a.origin):
        if atom.key != _NOTHING:
            rows.setdefault(atom.key, []).append(atom)
    origins = {key: [a.origin for a in row] for key, row in rows.items()}
    reached = {key: list(accumulate((a.origin + a.length for a in row), max)) for key, row in rows.items()}
    found = []
    for n in now:
        if n.key not in rows:
            continue
        first, last = bisect_right(reached[n.key], n.origin), bisect_left(origins[n.key], n.origin + n.length)
        for o in rows[n.key][first:last]:
            start, stop = max(o.origin, n.origin), min(o.origin + o.length, n.origin + n.length)
            if stop > start:
                found.append((n.at + start - n.origin, o.at + start - o.origin, stop - start))
    kept: list[tuple[int, int, int]] = []
    for row in sorted(found, key=lambda r: (-r[2], abs(r[0] - r[1]))):
        k = bisect_left(kept, row)
        after_last = k == 0 or (kept[k - 1][0] + kept[k - 1][2] <= row[0] and kept[k - 1][1] + kept[k - 1][2] <= row[1])
        before_next = k == len(kept) or (row[0] + row[2] <= kept[k][0] and row[1] + row[2] <= kept[k][1])
        if after_last and before_next:
            insort(kept, row)
    return kept


def flat(segments: Sequence[Segment], at: int) -> Iterator[Atom]:
    """The atoms of some segments, those that run on as one."""
    last: Atom | None = None
    for atom in atoms(segments, at):
        if (
            last is not None
            and atom.key == last.key
            and atom.origin == (last.origin + last.length if last.key != _NOTHING else 0)
        ):
            last = last._replace(length=last.length + atom.length)
            continue
        if last is not None:
            yield last
        last = atom
    if last is not None:
        yield last


Covered = dict[str, list[tuple[int, int]]]
"""What of every recording is heard in a reel: stretches in order that do not touch."""


def covered(lanes: Iterable[Lane]) -> Covered:
    """What is heard on some lanes."""
    rows: Covered = {}
    for lane in lanes:
        for recording, start, stop in heard_in(lane.segments):
            rows.setdefault(recording, []).append((start, stop))
    for recording, row in rows.items():
        joined: list[tuple[int, int]] = []
        for start, stop in sorted(row):
            if joined and start <= joined[-1][1]:
                joined[-1] = joined[-1][0], max(joined[-1][1], stop)
            else:
                joined.append((start, stop))
        rows[recording] = joined
    return rows


def uncovered(there: Covered, sound: Sound) -> list[tuple[int, int]]:
    """What of a stretch of a recording is not heard where what is heard is `there`."""
    recording, at, stop = sound
    row = there.get(recording, [])
    left: list[tuple[int, int]] = []
    for a, b in row[max(0, bisect_left(row, (at,)) - 1) :]:
        if a >= stop:
            break
        if a > at:
            left.append((at, a))
        at = max(at, b)
    return [*left, (at, stop)] if at < stop else left


class Playing:
    """What is heard in a reel, followed from one step to the next: only what a step changed is looked at."""

    def __init__(self) -> None:
        self._lanes: dict[str, tuple[Segment, ...]] = {}
        self._rows: dict[str, list[tuple[int, int]]] = {}
        self._longest: dict[str, int] = {}

    def follow(self, reel: Reel) -> None:
        """Stand at another reel."""
        lanes = {lane.id: lane.segments for lane in reel.lanes}
        for name in self._lanes | lanes:
            old, now = self._lanes.get(name, ()), lanes.get(name, ())
            if old is now:
                continue
            first = same_objects(old, now, len(old), len(now))
            last = same_objects(old[::-1], now[::-1], len(old) - first, len(now) - first)
            for recording, start, stop in heard_in(now[first : len(now) - last]):
                insort(self._rows.setdefault(recording, []), (start, stop))
                self._longest[recording] = max(self._longest.get(recording, 0), stop - start)
            for recording, start, stop in heard_in(old[first : len(old) - last]):
                row = self._rows[recording]
                del row[bisect_left(row, (start, stop))]
                if stop - start == self._longest[recording]:
                    self._longest[recording] = max((b - a for a, b in row), default=0)
        self._lanes = lanes

    def uncovered(self, sound: Sound) -> list[tuple[int, int]]:
        """What of a stretch of a recording is not heard."""
        recording, at, stop = sound
        row = self._rows.get(recording, [])
        left: list[tuple[int, int]] = []
        for a, b in row[bisect_left(row, (at - self._longest.get(recording, 0),)) : bisect_left(row, (stop,))]:
            if b > at:
                left += [(at, a)] if a > at else []
                at = b
        return [*left, (at, stop)] if at < stop else left


def heard_in(segments: Iterable[Segment]) -> Iterator[Sound]:
    """The stretches of recordings that some segments play, those that something was printed of as well."""
    for segment in segments:
        if isinstance(segment, Piece):
            yield segment.recording, segment.start, segment.stop
            if segment.of:
                yield from ((p.recording, p.start, p.stop) for p, _ in played(segment, 0) if p is not segment)


def segments_before(lane: Lane, at: int) -> Iterator[Segment]:
    """The segments before a place, the nearest first; one that holds the place up to it."""
    starts = lane.starts()
    index = bisect_left(starts, at) - 1
    for k in range(min(index, len(lane.segments) - 1), -1, -1):
        yield part(lane.segments[k], 0, at - starts[k]) if starts[k + 1] > at else lane.segments[k]


def segments_after(lane: Lane, at: int) -> Iterator[Segment]:
    """The segments after a place, the nearest first; one that holds the place from it on."""
    starts = lane.starts()
    for k in range(max(0, bisect_right(starts, at) - 1), len(lane.segments)):
        yield part(lane.segments[k], at - starts[k], starts[k + 1] - starts[k]) if starts[k] < at else lane.segments[k]
