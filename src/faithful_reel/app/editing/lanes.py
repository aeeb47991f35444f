"""The lanes of a chapter.  No Qt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import count

from faithful_reel.app.editing.presenter import Editing
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.reel.commands import (
    AddLane,
    BringIntoStep,
    DrawLine,
    DressLane,
    LinkLane,
    MixLane,
    OrderLanes,
    RemoveLane,
)
from faithful_reel.core.reel.reel import Piece, Reel
from faithful_reel.core.reel.timing import LINKED
from faithful_reel.core.work.editing import gives_way, lane_of

MANY = 2


class LaneWork:
    """What is done with lanes as a whole."""

    def __init__(self, editing: Editing) -> None:
        self.editing, self.bench, self.transport = editing, editing.bench, editing.transport

    def next_lane(self) -> None:
        """The next lane in hand; after the last, all of them."""
        found = self.editing.found()
        count = len(found[1].lanes) if found else 0
        if count < MANY:
            self.bench.tell("This chapter has one lane.")
            return
        self.editing.choose_lane(self.editing.lane + 1 if self.editing.lane + 1 < count else LINKED)

    def lane_at_hand(self) -> tuple[ChapterState, Reel, int] | None:
        """The lane that acts on lanes work on; told where it is not clear which."""
        found = self.editing.found()
        if found is None:
            self.bench.tell("This chapter has no recording yet. Pair one with it at Intake.")
            return None
        chapter, reel = found
        if self.editing.lane < 0 and len(reel.lanes) > 1:
            self.bench.tell("Choose a lane first: click on its name in the loupe, or take the next one in hand (Sound, Lane).")
            return None
        return chapter, reel, max(0, self.editing.lane)

    def add_lane(self, recording: str, name: str, *, music: bool) -> bool:
        """Bring a recording of the book in as another lane, from the cursor on."""
        return self.add_lanes([recording], name, music=music, apart=False)

    def add_lanes(self, recordings: Sequence[str], name: str, *, music: bool, apart: bool) -> bool:
        """Bring recordings of the book in, from the cursor on: `apart` a lane for each, else one after another on one lane."""
        found = self.editing.found()
        if found is None:
            self.bench.tell("This chapter has no recording yet. Pair one with it at Intake.")
            return False
        entries = [self.bench.book.recording(r) for r in recordings]
        if not entries:
            self.bench.tell("No recording was chosen.")
            return False
        at, taken = self.transport.spot, {lane.name for lane in found[1].lanes}
        named = name.strip() or ("music" if music else "voice")
        free = (n for k in count(1) if (n := named if k == 1 else f"{named} {k}") not in taken)
        if apart:
            made = [lane_of(entry, next(free), at, music=music) for entry in entries]
        else:
            first = lane_of(entries[0], next(free), at, music=music)
            made = [replace(first, segments=(*first.segments, *(Piece(e.hash, 0, e.length) for e in entries[1:])))]
        label = "Add a lane" if len(made) == 1 else f"Add {len(made)} lanes"
        return self.editing.do(found[0], lambda: [AddLane(lane) for lane in made], label, named)

    def mix(
        self, *, gain_db: float | None = None, pan: float | None = None, muted: bool | None = None, solo: bool | None = None
    ) -> bool:
        """Set the level, the place, whether it is muted or heard alone, of the lane at hand."""
        at = self.lane_at_hand()
        if at is None:
            return False
        chapter, reel, index = at
        lane = reel.lanes[index]
        made = MixLane(
            index,
            lane.gain_db if gain_db is None else gain_db,
            lane.pan if pan is None else pan,
            lane.muted if muted is None else muted,
            lane.solo if solo is None else solo,
        )
        label = "Mute" if muted else "Unmute" if muted is False else "Hear alone" if solo else "Mix"
        return self.editing.do(chapter, lambda: [made], label, lane.name)

    def describe_lane(self, name: str, color: str, note: str) -> bool:
        """Give the lane at hand another name, colour and note."""
        at = self.lane_at_hand()
        if at is None:
            return False
        chapter, reel, index = at
        edit = DressLane(index, name.strip(), color, note, reel.lanes[index].hidden)
        return self.editing.do(chapter, lambda: [edit], "Describe a lane", name)

    def hide(self) -> bool:
        """Hide the lane at hand, or show it again; it is heard as before."""
        at = self.lane_at_hand()
        if at is None:
            return False
        chapter, reel, index = at
        lane, shown = reel.lanes[index], [k for k, row in enumerate(reel.lanes) if not row.hidden]
        if shown == [index]:
            self.bench.tell("This is the only lane that is shown.")
            return False
        edit = DressLane(index, lane.name, lane.color, lane.note, not lane.hidden)
        return self.editing.do(chapter, lambda: [edit], "Show a lane" if lane.hidden else "Hide a lane", lane.name)

    def show_all(self) -> bool:
        """Show all lanes."""
        found = self.editing.found()
        hidden = [(k, lane) for k, lane in enumerate(found[1].lanes) if lane.hidden] if found else []
        if found is None or not hidden:
            self.bench.tell("No lane is hidden.")
            return False
        edits = [DressLane(k, lane.name, lane.color, lane.note, hidden=False) for k, lane in hidden]
        return self.editing.do(found[0], lambda: edits, "Show all lanes")

    def link(self) -> bool:
        """Let the lane at hand gain and lose time with the others, or no longer."""
        at = self.lane_at_hand()
        if at is None:
            return False
        chapter, reel, index = at
        linked = not reel.lanes[index].linked
        return self.editing.do(chapter, lambda: [LinkLane(index, linked)], "Link" if linked else "Unlink", reel.lanes[index].name)

    def into_step(self) -> bool:
        """Bring the lane at hand back into step, from the cursor on."""
        at = self.lane_at_hand()
        if at is None:
            return False
        chapter, reel, index = at
        return self.editing.do(
            chapter, lambda: [BringIntoStep(index, self.transport.spot)], "Bring into step", reel.lanes[index].name
        )

    def move_lane(self, way: int) -> bool:
        """Put the lane at hand above or below its neighbour."""
        at = self.lane_at_hand()
        if at is None:
            return False
        chapter, reel, index = at
        to = index + way
        if not 0 <= to < len(reel.lanes):
            self.bench.tell("The lane can not go any further.")
            return False
        order = list(range(len(reel.lanes)))
        order[index], order[to] = order[to], order[index]
        done = self.editing.do(chapter, lambda: [OrderLanes(tuple(order))], "Order the lanes")
        if done:
            self.editing.choose_lane(to)
        return done

    def remove_lane(self) -> bool:
        """Take the lane at hand out; its recordings stay in the book."""
        at = self.lane_at_hand()
        if at is None:
            return False
        chapter, reel, index = at
        return self.editing.do(chapter, lambda: [RemoveLane(index)], "Remove a lane", reel.lanes[index].name)

    def give_way(self, by_db: float, lead_s: float = 0.0) -> bool:
        """Let the music lane at hand fall while words are heard, by a gain line that can be edited."""
        at = self.lane_at_hand()
        if at is None:
            return False
        chapter, reel, index = at
        lane = reel.lanes[index]
        points = gives_way(self.bench.tokens(chapter), len(lane), self.bench.book.rate, by_db=by_db, lead_s=lead_s)
        if not lane.music or not points:
            self.bench.tell("Music gives way to words that are heard: choose a music lane of a chapter that was heard.")
            return False
        return self.editing.do(chapter, lambda: [DrawLine(0, len(lane), points, index)], "Music gives way", lane.name)
