"""Where the narrator speaks: cutting a recording into chunks at its pauses."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from faithful_reel.core.audio.roomtone import FRAME_S, frame_levels, quiet_runs, quiet_threshold
from faithful_reel.core.units import Signal, Span

PAUSE_S = 0.24
SHORTEST_S = 4.0
LONGEST_S = 11.0
EDGE_S = 0.12
"""Quiet kept on either side of a chunk's speech."""


@dataclass(frozen=True, slots=True)
class Chunk:
    """A stretch that is recognised in one call."""

    span: Span


def chunks_of(x: Signal, rate: int) -> list[Chunk]:
    """Cut (n,) audio into chunks of about 4 to 11 s that start and end in pauses.

    Quiet longer than twice `EDGE_S` between chunks belongs to none of them.  Where nobody pauses for
    `LONGEST_S`, the cut is made at the quietest moment of the last third.
    """
    levels = frame_levels(x, rate)
    size = round(FRAME_S * rate)
    threshold = quiet_threshold(levels)
    loud = levels[levels > -120]
    if not len(loud) or float(np.percentile(loud, 98)) < -55 or float(np.percentile(loud, 98) - np.percentile(loud, 5)) < 8:
        return []
    quiet = quiet_runs(levels, threshold, round(PAUSE_S / FRAME_S))
    speech: list[tuple[int, int]] = []
    at = 0
    for start, stop in [*quiet, (len(levels), len(levels))]:
        if start > at:
            speech.append((at, start))
        at = stop
    speech = [s for s in speech if s[1] - s[0] >= 3]  # shorter than 60 ms is a click, not a word
    edge, shortest, longest = (round(s / FRAME_S) for s in (EDGE_S, SHORTEST_S, LONGEST_S))
    merged: list[list[int]] = []
    for start, stop in speech:
        if (
            merged
            and stop - merged[-1][0] <= longest
            and (merged[-1][1] - merged[-1][0] < shortest or start - merged[-1][1] < 40)
            and start - merged[-1][1] < 100
        ):
            merged[-1][1] = stop
        else:
            merged.append([start, stop])
    result: list[Chunk] = []
    for start, stop in merged:
        at = start
        while stop - at > longest:
            third = at + 2 * longest // 3
            cut = third + int(np.argmin(levels[third : at + longest]))
            result.append(_chunk(at, cut, edge, size, len(x)))
            at = cut
        result.append(_chunk(at, stop, edge, size, len(x)))
    return result


def _chunk(start: int, stop: int, edge: int, size: int, length: int) -> Chunk:
    return Chunk(Span(max(0, (start - edge) * size), min(length, (stop + edge) * size)))
