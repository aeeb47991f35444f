"""Two states of one reel: where they differ, and where in one of them the sound is that is heard somewhere in the other."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Sequence

from faithful_reel.core.reel.exchanges import exchanges, key_of, same_objects
from faithful_reel.core.reel.reel import Lane, Reel, Rest, Segment
from faithful_reel.core.units import Span


def changed_span(before: Reel, after: Reel) -> Span | None:
    """Where a reel sounds otherwise than before, in its time now; empty where something was taken out, None where it does not.

    |  a  |  b  |   ->   | a | b|    gives the join
        ^^^^                 ^

    What is set for a whole lane, as its level, is no place.
    """
    was = {lane.id: lane for lane in before.lanes}
    found = [
        span
        for lane in after.lanes
        if lane.id in was and lane.segments is not was[lane.id].segments and (span := _changed(was[lane.id], lane)) is not None
    ]
    return Span(min(s.start for s in found), max(s.stop for s in found)) if found else None


def _changed(before: Lane, after: Lane) -> Span | None:
    a, b = before.segments, after.segments
    first = same_objects(a, b, len(a), len(b))
    last = same_objects(a[::-1], b[::-1], len(a) - first, len(b) - first)
    start, (stop_a, stop_b) = after.starts()[first], (before.starts()[len(a) - last], after.starts()[len(b) - last])
    a, b = a[first : len(a) - last], b[first : len(b) - last]
    length_a, length_b = stop_a - start, stop_b - start
    same = _alike(a, b, back=False)
    if same == length_a == length_b:
        return None
    rest = min(_alike(a[::-1], b[::-1], back=True), length_a - same, length_b - same)
    return Span(start + same, stop_b - rest)


def _alike(a: Sequence[Segment], b: Sequence[Segment], *, back: bool) -> int:
    """How many samples of the same sound two rows of segments begin with; `back`: rows that were turned round."""
    found = i = j = in_a = in_b = 0
    while i < len(a) and j < len(b):
        first, second = a[i], b[j]
        begin = in_a == in_b == 0
        if begin and (first is second or first == second):
            found, i, j = found + len(first), i + 1, j + 1
            continue
        if not _same_sound(first, in_a, second, in_b, back=back) or (begin and not back and first.join != second.join):
            break
        common = min(len(first) - in_a, len(second) - in_b)
        found, in_a, in_b = found + common, in_a + common, in_b + common
        ends = in_a == len(first), in_b == len(second)
        if back and all(ends) and first.join != second.join:
            break
        i, in_a = (i + 1, 0) if ends[0] else (i, in_a)
        j, in_b = (j + 1, 0) if ends[1] else (j, in_b)
    return found


def _same_sound(first: Segment, in_first: int, second: Segment, in_second: int, *, back: bool) -> bool:
    """Whether two segments are one sound from so many samples after their beginnings on, or with `back` before their ends."""
    if isinstance(first, Rest) or isinstance(second, Rest):
        return isinstance(first, Rest) and isinstance(second, Rest)
    set_alike = [(s.gain_db, s.line, s.fade_in, s.fade_out) for s in (first, second)]
    if key_of(first) != key_of(second) or set_alike[0] != set_alike[1]:
        return False
    if back:
        return first.origin + len(first) - in_first == second.origin + len(second) - in_second
    return first.origin + in_first == second.origin + in_second


class Between:
    """Between two states of a reel: where in the other one the sound is that is heard at a time of this one.

    It goes by the first voice that is in both and keeps the chapter's time.  Inside of what was exchanged the two are begun
    together, and the shorter one waits at its end.
    """

    def __init__(self, one: Reel, other: Reel) -> None:
        self.one, self.other = one, other
        lanes = {lane.id: lane for lane in other.lanes}
        both = sorted((lane for lane in one.lanes if lane.id in lanes), key=lambda k: (not k.linked, k.music))
        self._rows = exchanges(both[0], lanes[both[0].id]) if both else []

    def there(self, at: int) -> int:
        """A time of the one as a time of the other."""
        return self._mapped(at, [(e.old, e.new) for e in self._rows], len(self.other))

    def here(self, at: int) -> int:
        """A time of the other as a time of the one."""
        return self._mapped(at, [(e.new, e.old) for e in self._rows], len(self.one))

    @staticmethod
    def _mapped(at: int, rows: Sequence[tuple[Span, Span]], length: int) -> int:
        shift = 0
        for old, new in rows:
            if at < old.start:
                break
            if at < old.stop:
                return new.start + min(at - old.start, len(new))
            shift = new.stop - old.stop
        return min(max(0, at + shift), length)


def joins_within(lane: Lane, span: Span) -> range:
    """The numbers of the segments that begin within a span, its ends included; the first of a lane follows no other."""
    starts = lane.starts()
    first, last = max(1, bisect_left(starts, span.start)), bisect_right(starts, span.stop)
    return range(first, min(len(lane.segments), last))
