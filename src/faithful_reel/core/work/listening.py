"""What of a chapter was really listened to, kept in recording time, so that no edit moves it."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Sequence
from itertools import islice

from faithful_reel.core.reel.reel import Piece, Reel
from faithful_reel.core.units import Span

Listened = tuple[tuple[str, int, int], ...]
"""(recording, start, stop), sorted, none touching another."""
AROUND_JOIN_S = 1.0
"""A new join is to be heard again with this much on both sides."""


def merged(rows: Iterable[tuple[str, int, int]]) -> Listened:
    """Stretches joined where they touch."""
    out: list[tuple[str, int, int]] = []
    for recording, start, stop in sorted(r for r in rows if r[2] > r[1]):
        if out and out[-1][0] == recording and start <= out[-1][2]:
            out[-1] = (recording, out[-1][1], max(out[-1][2], stop))
        else:
            out.append((recording, start, stop))
    return tuple(out)


def without(rows: Listened, gone: Listened) -> Listened:
    """Stretches less others."""
    out: list[tuple[str, int, int]] = []
    for recording, start, stop in rows:
        at = start
        for other, a, b in islice(gone, max(0, bisect_right(gone, (recording, start)) - 1), None):
            if (other, a) >= (recording, stop):
                break
            if other == recording and b > at:
                if a > at:
                    out.append((recording, at, a))
                at = b
        if at < stop:
            out.append((recording, at, stop))
    return merged(out)


def sources(reel: Reel, span: Span) -> Listened:
    """The stretches of recordings that are heard in a stretch of the reel; room tone is none."""
    return merged(
        (segment.recording, segment.start, segment.stop)
        for lane in reel.lanes
        for segment in lane.between(span)
        if isinstance(segment, Piece)
    )


def _joins(reel: Reel) -> set[tuple[object, ...]]:
    """Every join by what meets in it and at which gains."""
    found: set[tuple[object, ...]] = set()
    for lane in reel.lanes:
        for a, b in zip(lane.segments, lane.segments[1:], strict=False):
            left = (a.recording, a.stop, a.gain_db) if isinstance(a, Piece) else (a.recording, len(a))
            right = (b.recording, b.start, b.gain_db) if isinstance(b, Piece) else (b.recording, len(b))
            found.add((left, right))
    return found


def after_edit(listened: Listened, before: Reel, after: Reel, rate: int) -> Listened:
    """What still counts as listened to after an edit: the surroundings of joins that were not there before do not."""
    if before is after or not listened:
        return listened
    known = _joins(before)
    around = round(AROUND_JOIN_S * rate)
    gone: list[tuple[str, int, int]] = []
    for lane in after.lanes:
        starts = lane.starts()
        for k in range(1, len(lane.segments)):
            pair = Reel((type(lane)(lane.name, lane.segments[k - 1 : k + 1]),))
            if not _joins(pair) <= known:
                gone += sources(after, Span(max(0, starts[k] - around), min(starts[-1], starts[k] + around)))
    return without(listened, merged(gone))


def unheard(reel: Reel, listened: Listened) -> list[Span]:
    """The stretches of the reel, in order and in reel time, that were not listened to yet; room tone needs no ear."""
    heard: dict[str, list[tuple[int, int]]] = {}
    for recording, a, b in listened:
        heard.setdefault(recording, []).append((a, b))
    found: list[tuple[int, int]] = []
    for lane in reel.lanes:
        if heard.keys().isdisjoint(lane.recordings) and all([isinstance(s, Piece) for s in lane.segments]):  # noqa: C419 - faster
            found.append((0, len(lane)))
            continue
        for segment, begins in zip(lane.segments, lane.starts(), strict=False):
            if not isinstance(segment, Piece):
                continue
            at, stop, shift = segment.start, segment.stop, begins - segment.start
            rows = heard.get(segment.recording, [])
            for a, b in rows[max(0, bisect_right(rows, (at, at)) - 1) :] if rows else ():
                if a >= stop:
                    break
                if a > at:
                    found.append((at + shift, a + shift))
                at = max(at, b)
            if at < stop and found and found[-1][1] == at + shift:
                found[-1] = found[-1][0], stop + shift
            elif at < stop:
                found.append((at + shift, stop + shift))
    joined: list[Span] = []
    first, last = -1, -1
    for start, end in sorted(found):
        if start <= last:
            last = max(last, end)
        else:
            joined += [Span(first, last)] if last >= 0 else []
            first, last = start, end
    return [*joined, Span(first, last)] if last >= 0 else joined


def share(reel: Reel, left: Sequence[Span]) -> float:
    """How much of a reel was listened to, 0 to 1, given what was not."""
    return 1 - sum(len(s) for s in left) / max(1, len(reel))
