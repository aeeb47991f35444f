"""Gain, fades, joins, names, markers.  No Qt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from faithful_reel.app.editing.presenter import Editing
from faithful_reel.core.book.commands import EditReel
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.reel.changes import joins_within
from faithful_reel.core.reel.commands import (
    ChangeGain,
    DrawLine,
    MoveEdge,
    MoveJoin,
    NamePiece,
    PutMarker,
    ReelCommand,
    RemoveMarkers,
    SetFade,
    SetJoin,
    SetJoins,
    SplitAt,
)
from faithful_reel.core.reel.gains import line_at
from faithful_reel.core.reel.look import line_points
from faithful_reel.core.reel.reel import SOFT, Fade, Join, Marker, Reel, Shape
from faithful_reel.core.units import samples

SOFTENED = Join(2205, "equal_power")
"""A join that is softened: 50 ms, where the pieces have as much."""
POINT_REACH_S = 0.25
"""A new point of a gain line bends it so far on either side, where no other is nearer."""


class Shaping:
    """What is done with the sound where it is."""

    def __init__(self, editing: Editing) -> None:
        self.editing, self.bench, self.transport = editing, editing.bench, editing.transport

    def louder(self, by_db: float) -> bool:
        """Make what is marked louder, or softer."""
        work = self.editing.work()
        if work is None:
            return False
        chapter, reel, spans = work
        edits = [ChangeGain(s.start, s.stop, by_db, k) for s in spans for k in self.editing.lanes(reel)]
        return self.editing.do(chapter, lambda: edits, f"{by_db:+g} dB", self.editing.said(spans))

    def piece_at(self, position: int) -> tuple[int, int] | None:
        """(lane, index) of the piece at a position on the lane that is meant; None where there is none, or no lane is clear."""
        found = self.editing.found()
        lane = self.editing.own_lane(found[1]) if found is not None else None
        if found is None or lane is None or position >= len(found[1].lanes[lane]):
            return None
        return lane, found[1].lanes[lane].index_at(position)

    def fade(self, seconds: float, *, at_start: bool, bend: float = 0.0) -> bool:
        """Fade the piece at the cursor in or out over so many seconds; over what is marked where something is."""
        work = self.editing.work(need=False)
        if work is None:
            return False
        chapter, reel, spans = work
        length = len(spans[-1]) if spans else samples(seconds, self.bench.book.rate)
        at = (spans[-1].start if at_start else spans[-1].stop - 1) if spans else self.transport.spot
        piece = self.piece_at(at)
        if piece is None:
            self.no_piece()
            return False
        lane, index = piece
        edits: list[ReelCommand] = []
        if spans:  # the fade is of what is marked: a piece of its own begins or ends there
            edge = spans[-1].start if at_start else spans[-1].stop
            if 0 < edge < len(reel.lanes[lane]) and edge not in reel.lanes[lane].starts():
                edits.append(SplitAt(edge, lane))
                index += at_start
        edits.append(SetFade(index, Fade(length, bend), at_start, lane))
        return self.editing.do(chapter, lambda: edits, "Fade in" if at_start else "Fade out", self.editing.said(spans))

    def join_near(self) -> tuple[int, int] | None:
        """(lane, index) of the join nearest to the cursor, on the lane in hand or else on any; None where there is none."""
        found = self.editing.found()
        if found is None:
            return None
        reel, at = found[1], self.transport.spot
        lanes = [self.editing.lane] if self.editing.lane >= 0 else [k for k, lane in enumerate(reel.lanes) if not lane.hidden]
        joins = [(abs(start - at), k, n) for k in lanes for n, start in enumerate(reel.lanes[k].starts()[1:-1], 1)]
        return min(joins)[1:] if joins else None

    def no_piece(self) -> None:
        """Tell why there is no piece to act on."""
        found = self.editing.found()
        if found is None or self.editing.need_lane(found[1]) is not None:
            self.bench.tell("There is no piece at the cursor.")

    def joins_meant(self) -> tuple[str, Join] | None:
        """All joins that are marked, else that nearest to the cursor: in words, and how the first is; None, and told, without."""
        found = self.editing.found()
        rows = self._joins(found[1]) if found is not None else []
        if found is None or not rows:
            self.bench.tell(
                "There is no join in this chapter yet." if not self.editing.spans else "No join is in what is marked."
            )
            return None
        lane, index = rows[0]
        join = found[1].lanes[lane].segments[index].join
        at = self.editing.time(found[1].lanes[lane].starts()[index])
        return (f"{len(rows)} joins that are marked, from {at} on" if len(rows) > 1 else f"Join at {at}"), join

    def _joins(self, reel: Reel) -> list[tuple[int, int]]:
        """(lane, index) of the joins that are meant; a split, where the sound runs on, is none of several."""
        spans = self.editing.marked()
        if not spans:
            near = self.join_near()
            return [near] if near is not None else []
        lanes = self.editing.lanes(reel)
        rows = dict.fromkeys((k, n) for k in lanes for s in spans for n in joins_within(reel.lanes[k], s))
        return [(k, n) for k, n in rows if reel.lanes[k].segments[n].join.length]

    def set_joins(self, length_s: float, shape: Shape, bend: float = 0.0) -> bool:
        """Set the crossfade of all joins that are meant; what is marked stays marked."""
        found, spans = self.editing.found(), self.editing.marked()
        rows = self._joins(found[1]) if found is not None else []
        if found is None or not rows:
            self.bench.tell("There is no join in this chapter yet." if not spans else "No join is in what is marked.")
            return False
        join = Join(samples(length_s, self.bench.book.rate), shape, bend)
        label = "Set a crossfade" if len(rows) == 1 else f"Set {len(rows)} crossfades"
        done = self.editing.do(found[0], lambda: [SetJoin(index, join, lane) for lane, index in rows], label)
        if done:
            self.editing.mark_again(spans)
        return done

    def move_join(self, by_s: float) -> bool:
        """Move the join nearest to the cursor; one side gives what the other takes."""
        found, near = self.editing.found(), self.join_near()
        if found is None or near is None:
            self.bench.tell("There is no join in this chapter yet.")
            return False
        lane, index = near
        by = samples(by_s, self.bench.book.rate)
        return self.editing.do(found[0], lambda: [MoveJoin(index, by, lane)], "Move a join")

    def joins(self, *, soften: bool) -> bool:
        """Soften all joins in what is marked, or set them back."""
        work = self.editing.work()
        if work is None:
            return False
        chapter, _, spans = work
        join = SOFTENED if soften else SOFT
        edits = [SetJoins(s.start, s.stop, join, self.editing.lane) for s in spans]
        label = "Soften all joins" if soften else "Set all joins back"
        return self.editing.do(chapter, lambda: edits, label, self.editing.said(spans))

    def piece_description(self) -> tuple[str, str, str] | None:
        """The name, colour and note of the piece at the cursor; None, and told, where there is none."""
        found, piece = self.editing.found(), self.piece_at(self.transport.spot)
        if found is None or piece is None:
            self.no_piece()
            return None
        segment = found[1].lanes[piece[0]].segments[piece[1]]
        return segment.name, segment.color, segment.note

    def name_piece(self, name: str, color: str = "", note: str = "") -> bool:
        """Give the piece at the cursor a name, a colour and a note."""
        found, piece = self.editing.found(), self.piece_at(self.transport.spot)
        if found is None or piece is None:
            self.no_piece()
            return False
        lane, index = piece
        return self.editing.do(found[0], lambda: [NamePiece(index, name, color, note, lane)], "Name a piece", name.strip())

    def points(self, lane: int) -> tuple[tuple[int, float], ...]:
        """The points of a lane's gain line, in reel time."""
        found = self.editing.found()
        return line_points(found[1].lanes[lane]) if found else ()

    def put_point(self, by_db: float = 0.0) -> bool:
        """Put a point on the gain line at the cursor, `by_db` from where the line is; the point that is there is moved."""
        found = self.editing.found()
        piece = self.piece_at(self.transport.spot)
        if found is None or piece is None:
            self.bench.tell("There is no sound at the cursor.")
            return False
        chapter, reel = found
        lane, index = piece
        at, row = self.transport.spot, reel.lanes[lane]
        known = dict(self.points(lane))
        before = max((p for p in known if p < at), default=-1)
        after = min((p for p in known if p > at), default=len(row))
        near = samples(POINT_REACH_S, self.bench.book.rate)
        start, stop = max(before, at - near, 0), min(after, at + near, len(row))
        segment, begins = row.segments[index], row.starts()[index]
        level = line_at(segment.line, at - begins + segment.origin) + by_db
        label = "Move a gain point" if at in known else "Add a gain point"
        return self.editing.do(chapter, lambda: [DrawLine(start, max(stop, at + 1), ((at, level),), lane)], label)

    def move_point(self, lane: int, at: int, to: int, gain_db: float) -> bool:
        """Move a point of a lane's gain line, not past its neighbours; `gain_db` is where it is let go."""
        found = self.editing.found()
        if found is None:
            return False
        chapter, reel = found
        row, places = reel.lanes[lane], [p for p, _ in self.points(lane)]
        before = max((p for p in places if p < at), default=-1)
        after = min((p for p in places if p > at), default=len(row))
        to = min(max(to, before + 1), after - 1, len(row) - 1)
        segment = row.segments[row.index_at(to)]
        start, stop = max(0, before), min(after, len(row))
        edit = DrawLine(start, max(stop, to + 1), ((to, gain_db - segment.gain_db),), lane)
        return self.editing.do(chapter, lambda: [edit], "Move a gain point")

    def put_point_at(self, lane: int, at: int, by_db: float = 0.0) -> bool:
        """Put a point on a lane's gain line, where the line is."""
        self.editing.choose_lane(lane)
        self.transport.put(at)
        return self.put_point(by_db)

    def drop_point_at(self, lane: int, at: int) -> bool:
        """Take a point of a lane's gain line away."""
        self.editing.choose_lane(lane)
        self.transport.put(at)
        return self.drop_point()

    def _index(self, lane: int, at: int) -> tuple[ChapterState, Reel, int] | None:
        """The segment of a lane that begins at a position, or the last one, which ends there."""
        found = self.editing.found()
        if found is None:
            return None
        starts = found[1].lanes[lane].starts()
        return (*found, starts.index(at)) if at in starts else None

    def drag_join(self, lane: int, at: int, to: int, *, carried: bool) -> bool:
        """Move the join at a position: one side gives what the other takes; or what follows is carried along."""
        found = self._index(lane, at)
        if found is None or to == at:
            return False
        chapter, reel, index = found
        if not carried:
            return self.editing.do(chapter, lambda: [MoveJoin(index, to - at, lane)], "Move a join")
        segment = reel.lanes[lane].segments[index - 1]
        length = self.bench.book.recording(segment.recording).length if segment.recording else 1 << 62
        edit = MoveEdge(index - 1, to - at, lane=lane, length=length)
        return self.editing.do(chapter, lambda: [edit], "Move an edge")

    def drag_crossfade(self, lane: int, at: int, length: int, bend: float) -> bool:
        """Make the crossfade at a position longer or shorter, and bend it."""
        found = self._index(lane, at)
        if found is None:
            return False
        chapter, reel, index = found
        join = replace(reel.lanes[lane].segments[index].join, length=length, bend=bend)
        return self.editing.do(chapter, lambda: [SetJoin(index, join, lane)], "Set a crossfade")

    def drag_fade(self, lane: int, at: int, length: int, bend: float, *, at_start: bool) -> bool:
        """Let the piece that begins, or ends, at a position fade so long, and bend that."""
        found = self._index(lane, at)
        if found is None:
            return False
        chapter, reel, index = found
        index -= 0 if at_start else 1
        length = min(length, len(reel.lanes[lane].segments[index]))
        edit = SetFade(index, Fade(length, bend if length else 0.0), at_start, lane)
        return self.editing.do(chapter, lambda: [edit], "Fade in" if at_start else "Fade out")

    def drop_point(self) -> bool:
        """Take the point of the gain line that is nearest to the cursor away."""
        work = self.editing.work(need=False)
        lane = self.editing.need_lane(work[1]) if work is not None else None
        if work is None or lane is None:
            return False
        points = [p for p, _ in self.points(lane)]
        if not points:
            self.bench.tell("This lane has no point on its gain line.")
            return False
        chapter, reel, _ = work
        at = min(points, key=lambda p: abs(p - self.transport.spot))
        row = reel.lanes[lane]
        before = max((p for p in points if p < at), default=0)
        after = min((p for p in points if p > at), default=len(row))
        return self.editing.do(chapter, lambda: [DrawLine(before, max(after, before + 1), (), lane)], "Remove a gain point")

    def flatten(self) -> bool:
        """Take the gain line of what is marked away."""
        work = self.editing.work()
        if work is None:
            return False
        chapter, reel, spans = work
        edits = [
            DrawLine(s.start, min(s.stop, len(reel.lanes[k])), ((s.start, 0.0), (min(s.stop, len(reel.lanes[k])) - 1, 0.0)), k)
            for s in spans for k in self.editing.lanes(reel) if s.start < len(reel.lanes[k])
        ]  # fmt: skip
        return self.editing.do(chapter, lambda: edits, "Flatten the gain line", self.editing.said(spans))

    def mark(self, name: str = "") -> Marker | None:
        """Drop a marker: where sound is being heard, else at the cursor; None where it could not be."""
        found = self.editing.found()
        if found is None:
            self.bench.tell("This chapter has no recording yet. Pair one with it at Intake.")
            return None
        chapter, reel = found
        at = self.transport.player.position if self.transport.plays_chapter else self.transport.spot
        taken = {m.id for m in reel.markers}
        own = next(f"m{k}" for k in range(1, len(taken) + 2) if f"m{k}" not in taken)
        marker = Marker(own, min(at, len(reel)), name or f"Marker {own[1:]}")
        return marker if self.bench.do(EditReel(chapter.id, PutMarker(marker))) else None

    def marker_near(self) -> Marker | None:
        """The marker nearest to the cursor; None, and told, where there is none."""
        found = self.editing.found()
        near = min(found[1].markers if found is not None else (), key=lambda m: abs(m.at - self.transport.spot), default=None)
        if near is None:
            self.bench.tell("No markers in this chapter yet. Drop one while you listen (Sound, Drop a marker).")
        return near

    def name_marker(self, own: str, name: str) -> bool:
        """Name a marker of the chapter at hand, wherever it is by now."""
        found = self.editing.found()
        marker = next((m for m in found[1].markers if m.id == own), None) if found is not None else None
        return marker is not None and self.change_marker(replace(marker, name=name))

    def change_marker(self, marker: Marker) -> bool:
        """Name, note, colour or move a marker."""
        found = self.editing.found()
        return found is not None and self.bench.do(EditReel(found[0].id, PutMarker(marker)))

    def remove_markers(self, ids: Sequence[str]) -> bool:
        """Take markers away."""
        found = self.editing.found()
        return found is not None and self.bench.do(EditReel(found[0].id, RemoveMarkers(tuple(ids))))
