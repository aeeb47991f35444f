"""What a reel looks like: minima and maxima of any columns of it, from the overviews of its recordings."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.audio.overview import Overview
from faithful_reel.core.reel.gains import segment_gains
from faithful_reel.core.reel.reel import Piece, Reel, RoomTone
from faithful_reel.core.units import ratio


def reel_columns(
    reel: Reel,
    overview: Callable[[str], Overview | None],
    edges: NDArray[np.float64],
    *,
    lane: int = 0,
    starts: list[int] | None = None,
) -> NDArray[np.float32]:
    """(2, width) minima and maxima of a lane between each two of `width + 1` rising reel positions.

    `starts` is what the lane's `starts()` gives, for who asks often.  Crossfades are drawn as hard changes: they are
    shorter than a column at the zooms this is used for.
    """
    width = len(edges) - 1
    out = np.zeros((2, max(0, width)), np.float32)
    row = reel.lanes[lane]
    starts = row.starts() if starts is None else starts
    first = max(0, min(len(row.segments) - 1, bisect_right(starts, int(edges[0])) - 1))
    for index in range(first, len(row.segments)):
        if starts[index] >= edges[-1]:
            break
        segment = row.segments[index]
        pyramid = overview(segment.recording) if segment.recording else None
        if pyramid is None:
            continue
        a = int(np.searchsorted(edges[1:], starts[index], side="right"))
        b = int(np.searchsorted(edges[:-1], starts[index + 1], side="left"))
        if b <= a:
            continue
        local = np.clip(edges[a : b + 1], starts[index], starts[index + 1]) - starts[index]
        if isinstance(segment, Piece):
            found = pyramid.columns(local + segment.start)
        elif isinstance(segment, RoomTone):  # any stretch of its source looks like it
            span = max(1, segment.stop - segment.start)
            offset = segment.start + (segment.offset % span)
            found = pyramid.columns(
                np.minimum(local * min(1.0, (segment.stop - offset) / max(1.0, local[-1])) + offset, segment.stop)
            )
        else:
            continue
        found = found * (segment_gains(segment, 0.5 * (local[:-1] + local[1:])) * ratio(row.gain_db)).astype(np.float32)
        out[0, a:b] = np.minimum(out[0, a:b], found[0])
        out[1, a:b] = np.maximum(out[1, a:b], found[1])
    return out
