"""Commands on lanes as a whole, and on markers.

`apply` raises `EditRefused` where an order does not fit, and changes nothing then.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.bounds import lane_within
from faithful_reel.core.reel.reel import SOFT, Lane, LaneRef, Marker, Reel, ToneSource
from faithful_reel.core.reel.timing import lane_at, seed_at
from faithful_reel.core.units import Span


@dataclass(frozen=True, slots=True)
class AddLane:
    """Bring another voice or a music part in, beside the lanes that are there."""

    lane: Lane
    at: int = -1
    """Its place among the lanes; the last where it is -1."""
    kind: Literal["add_lane"] = "add_lane"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the lane."""
        at = len(reel.lanes) if self.at < 0 else self.at
        if not self.lane.name.strip() or self.lane.name in {lane.name for lane in reel.lanes}:
            raise EditRefused(f"Every lane needs a name of its own; “{self.lane.name}” is none or is taken.")
        if at > len(reel.lanes):
            raise EditRefused("There is no such place among the lanes.")
        return replace(reel, lanes=(*reel.lanes[:at], lane_within(self.lane), *reel.lanes[at:]))


@dataclass(frozen=True, slots=True)
class RemoveLane:
    """Take a lane out; its recordings stay in the book."""

    lane: LaneRef
    kind: Literal["remove_lane"] = "remove_lane"

    def apply(self, reel: Reel) -> Reel:
        """The reel without the lane."""
        index = reel.index(self.lane)
        if len(reel.lanes) == 1:
            raise EditRefused("A chapter needs a lane. Bring another one in before this one goes.")
        return replace(reel, lanes=(*reel.lanes[:index], *reel.lanes[index + 1 :]))


@dataclass(frozen=True, slots=True)
class OrderLanes:
    """Put the lanes in another order: `order` holds the number that each had before."""

    order: tuple[int, ...]
    kind: Literal["order_lanes"] = "order_lanes"

    def apply(self, reel: Reel) -> Reel:
        """The reel with its lanes in order."""
        if sorted(self.order) != list(range(len(reel.lanes))):
            raise EditRefused("This order leaves a lane out, or names one twice.")
        return replace(reel, lanes=tuple(reel.lanes[k] for k in self.order))


@dataclass(frozen=True, slots=True)
class DressLane:
    """Name a lane, colour it, write a note, hide it from view.  None of this is heard."""

    lane: LaneRef
    name: str
    color: str = ""
    note: str = ""
    hidden: bool = False
    kind: Literal["dress_lane"] = "dress_lane"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the lane so."""
        lane = lane_at(reel, self.lane)
        others = {other.name for other in reel.lanes if other is not lane}
        if not self.name.strip() or self.name.strip() in others:
            raise EditRefused(f"Every lane needs a name of its own; “{self.name}” is none or is taken.")
        dressed = replace(lane, name=self.name.strip(), color=self.color, note=self.note.strip(), hidden=self.hidden)
        return reel.with_lane(self.lane, dressed)


@dataclass(frozen=True, slots=True)
class MixLane:
    """Set a lane's level and place, mute it, or let it be heard alone."""

    lane: LaneRef
    gain_db: float = 0.0
    pan: float = 0.0
    muted: bool = False
    solo: bool = False
    kind: Literal["mix_lane"] = "mix_lane"

    def apply(self, reel: Reel) -> Reel:
        """The reel mixed so."""
        lane = lane_at(reel, self.lane)
        mixed = replace(lane, gain_db=self.gain_db, pan=self.pan, muted=self.muted, solo=self.solo)
        return reel.with_lane(self.lane, lane_within(mixed))


@dataclass(frozen=True, slots=True)
class LinkLane:
    """Let a lane gain and lose time with the others, or not."""

    lane: LaneRef
    linked: bool
    kind: Literal["link_lane"] = "link_lane"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the lane linked, or not; how far it is out of step is still known."""
        return reel.with_lane(self.lane, replace(lane_at(reel, self.lane), linked=self.linked))


@dataclass(frozen=True, slots=True)
class BringIntoStep:
    """Bring a lane that is out of step back into it, from a place on: what is too much goes, what is missing is waited for."""

    lane: LaneRef
    at: int
    kind: Literal["bring_into_step"] = "bring_into_step"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the lane in step."""
        lane = lane_at(reel, self.lane)
        if not lane.late:
            raise EditRefused("This lane is in step.")
        if not 0 <= self.at <= len(lane) or self.at + lane.late > len(lane):
            raise EditRefused("There is not enough of this lane here to bring it into step. Choose an earlier place.")
        if lane.late > 0:
            changed = lane.replaced(Span(self.at, self.at + lane.late), (), SOFT)
        else:
            changed = lane.replaced(Span(self.at, self.at), (lane.filling(-lane.late, seed_at(self.at)),), SOFT)
        return reel.with_lane(self.lane, replace(changed, late=0))


@dataclass(frozen=True, slots=True)
class SetLaneTone:
    """Say what a lane waits with: its own room tone, or nothing."""

    lane: LaneRef
    tone: ToneSource | None
    kind: Literal["set_lane_tone"] = "set_lane_tone"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the lane's tone."""
        return reel.with_lane(self.lane, replace(lane_at(reel, self.lane), tone=self.tone))


@dataclass(frozen=True, slots=True)
class PutMarker:
    """Set a marker, or change or move the one of the same id."""

    marker: Marker
    kind: Literal["put_marker"] = "put_marker"

    def apply(self, reel: Reel) -> Reel:
        """The reel with the marker, all of them in order."""
        if not 0 <= self.marker.at <= len(reel):
            raise EditRefused("A marker lies inside of its chapter.")
        others = tuple(m for m in reel.markers if m.id != self.marker.id)
        return replace(reel, markers=tuple(sorted((*others, self.marker), key=lambda m: (m.at, m.id))))


@dataclass(frozen=True, slots=True)
class RemoveMarkers:
    """Take markers away."""

    ids: tuple[str, ...]
    kind: Literal["remove_markers"] = "remove_markers"

    def apply(self, reel: Reel) -> Reel:
        """The reel without them."""
        kept = tuple(m for m in reel.markers if m.id not in self.ids)
        if len(kept) == len(reel.markers):
            raise EditRefused("This marker is no longer there.")
        return replace(reel, markers=kept)
