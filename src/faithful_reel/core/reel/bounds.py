"""What values of a reel can be played: whatever comes from outside of the program is held against this before it is."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import pairwise

from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.exchanges import same_objects
from faithful_reel.core.reel.reel import MOST_BEND, OFF_DB, Fade, Join, Lane, Piece, Reel, Rest, RoomTone, Segment, ToneSource

LEAST_GAIN_DB, MOST_GAIN_DB = -60.0, 24.0
LONGEST = 1 << 33
"""Samples: a day at 96 kHz."""


def gain_within(gain_db: float, least: float = LEAST_GAIN_DB) -> float:
    """A gain within bounds; no number is within none.

    Raises
    ------
    EditRefused
        It is not.
    """
    if not least <= gain_db <= MOST_GAIN_DB:
        raise EditRefused(f"A gain of {gain_db:g} dB is outside {least:g} to {MOST_GAIN_DB:g} dB.")
    return gain_db


def fade_within(fade: Fade, length: int) -> Fade:
    """A fade that a segment of a length can have.

    Raises
    ------
    EditRefused
        It is longer, or bent further than can be.
    """
    if not (0 <= fade.length - fade.past <= length and 0 <= fade.past <= fade.length and abs(fade.bend) <= MOST_BEND):
        raise EditRefused("A fade can not be longer than its piece, nor bent further than 3.")
    return fade


def join_within(join: Join) -> Join:
    """A join that can be made.

    Raises
    ------
    EditRefused
        Its length or its bend can not be.
    """
    if not (join.length >= 0 and abs(join.bend) <= MOST_BEND):
        raise EditRefused("A crossfade of this length or shape can not be made.")
    return join


def segment_within(segment: Segment) -> Segment:
    """A segment that can be played.

    Raises
    ------
    EditRefused
        It is empty, or its gain, line, fades or join can not be.
    """
    join_within(segment.join)
    if len(segment) < 1:
        raise EditRefused("A piece is empty.")
    if isinstance(segment, Rest):
        return segment
    gain_within(segment.gain_db, OFF_DB)
    for _, gain_db in segment.line:
        gain_within(gain_db, OFF_DB)
    if any(a >= b for (a, _), (b, _) in pairwise(segment.line)):
        raise EditRefused("A gain line runs backwards.")
    for fade in (segment.fade_in, segment.fade_out):
        fade_within(fade, max(len(segment), fade.length))  # a piece that was cut inside of its fade is shorter than it
    return segment


def lane_within(lane: Lane) -> Lane:
    """A lane that can be played.

    Raises
    ------
    EditRefused
        Its level, its place, its room tone, or one of its segments, can not be.
    """
    _set_within(lane)
    for segment in lane.segments:
        segment_within(segment)
    return lane


def _set_within(lane: Lane) -> None:
    gain_within(lane.gain_db)
    if not -1 <= lane.pan <= 1:
        raise EditRefused("A lane has its place between -1, left, and 1, right.")
    if lane.tone is not None and lane.tone.recording and not 0 <= lane.tone.start < lane.tone.stop:
        raise EditRefused(f"The room tone of the lane {lane.name} is no stretch of sound.")


def reel_within(reel: Reel, before: Reel | None, lengths: Mapping[str, int]) -> Reel:
    """A reel that plays only what its recordings hold, by their lengths in samples; what it has from `before` is not looked at.

    Raises
    ------
    EditRefused
        It does not, one of its values can not be, it never ends, or no lane is linked any more.
    """
    if len(reel) > LONGEST:
        raise EditRefused("The result would last longer than any chapter can.")
    if before is not None and not any(k.linked for k in reel.lanes) and any(k.linked for k in before.lanes):
        raise EditRefused("One lane at least stays linked: the chapter's time is that of the linked lanes.")
    known = {lane.id: lane for lane in before.lanes} if before is not None else {}
    for lane in reel.lanes:
        was = known.get(lane.id)
        if was is lane:
            continue
        _set_within(lane)
        if lane.tone is not None:
            _held(lane, lane.tone, lengths)
        old, now = was.segments if was is not None else (), lane.segments
        first = same_objects(old, now, len(old), len(now))
        last = same_objects(old[::-1], now[::-1], len(old) - first, len(now) - first)
        seen = set(map(id, old[first : len(old) - last]))
        for segment in now[first : len(now) - last]:
            if id(segment) not in seen:
                segment_within(segment)
                if not isinstance(segment, Rest):
                    _held(lane, segment, lengths)
    return reel


def _held(lane: Lane, played: Piece | RoomTone | ToneSource, lengths: Mapping[str, int]) -> None:
    """Refuse what its recording does not hold; made room tone has none."""
    if not played.recording and not isinstance(played, Piece):
        return
    if played.recording not in lengths:
        raise EditRefused(f"The lane {lane.name} would play “{played.recording[:12]}”, which is not there.")
    if not 0 <= played.start < played.stop <= lengths[played.recording]:
        raise EditRefused(
            f"The lane {lane.name} would play {played.recording[:12]} from {played.start} to {played.stop}, beyond its end."
        )
