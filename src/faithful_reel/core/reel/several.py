"""Many edits of one reel as one step: what they are one after the other, in one pass over each lane where they allow it."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Sequence
from itertools import groupby, pairwise

from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import ReelCommand
from faithful_reel.core.reel.cutting import CutAndClose, CutAndFill
from faithful_reel.core.reel.reel import SOFT, Reel, Replacement
from faithful_reel.core.reel.timing import lane_at, moved_markers, together, with_lateness, within
from faithful_reel.core.units import Span


def edited(reel: Reel, edits: Iterable[ReelCommand]) -> Reel:
    """The reel after some edits, given in the order in which they are made.

    Cuts that go from the end to the beginning, and fills from the beginning to the end, are made in one pass over each lane:
    none of them moves the place of another, so that all stand at the places of the reel before them.

    Raises
    ------
    EditRefused
        One of them can not be carried out.
    """
    for kind, row in groupby(edits, key=lambda edit: type(edit) if isinstance(edit, CutAndClose | CutAndFill) else None):
        rest = list(row)
        done = None
        with contextlib.suppress(EditRefused):  # then one by one, which tells what is wrong with the first that is refused
            done = _all_cut(reel, rest) if kind is CutAndClose else _all_filled(reel, rest) if kind is CutAndFill else None
        if done is None:
            for edit in rest:
                reel = edit.apply(reel)
        else:
            reel = done
    return reel


def _all_cut(reel: Reel, edits: Sequence[ReelCommand]) -> Reel | None:
    """All cuts at once, where they are of the same lanes, go backwards and leave something; else None."""
    cuts = [e for e in edits if isinstance(e, CutAndClose)]
    first, gone = cuts[0], together(reel, cuts[0].lane)
    backwards = all(c.stop <= before.start for before, c in pairwise(cuts)) and all(0 <= c.start < c.stop for c in cuts)
    left = len(reel) - sum(c.stop - c.start for c in cuts)
    if not gone or not backwards or first.stop > len(reel) or left < 1 or any(c.lane != first.lane for c in cuts):
        return None
    lanes, markers = list(reel.lanes), reel.markers
    for k in gone:
        lane = lanes[k]
        lanes[k] = lane.replaced_all([Replacement(within(lane, Span(c.start, c.stop)), (), c.join) for c in reversed(cuts)])
    if any(reel.lanes[k].linked for k in gone):
        for c in cuts:
            markers = moved_markers(markers, Span(c.start, c.stop), c.start - c.stop)
    return Reel(with_lateness(lanes, gone, left - len(reel)), markers)


def _all_filled(reel: Reel, edits: Sequence[ReelCommand]) -> Reel | None:
    """All fills at once, where those of each lane go forwards; else None."""
    rows: dict[int, list[CutAndFill]] = {}
    for e in edits:
        if isinstance(e, CutAndFill):
            rows.setdefault(reel.index(e.lane), []).append(e)
    for index, fills in rows.items():
        lane = lane_at(reel, index)
        forwards = all(a.stop <= b.start for a, b in pairwise(fills)) and all(0 <= f.start < f.stop <= len(reel) for f in fills)
        if not forwards:
            return None
        laid = [Replacement(own := within(lane, Span(f.start, f.stop)), (f.laid(lane, len(own)),), SOFT) for f in fills]
        reel = reel.with_lane(index, lane.replaced_all(laid))
    return reel
