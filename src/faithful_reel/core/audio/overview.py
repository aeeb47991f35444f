"""Overview pyramids: the least and greatest sample of every bin, at several bin sizes, for drawing."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.units import Signal

BASE = 128
STEP = 4
LEVELS = 6


@dataclass(frozen=True, slots=True)
class Overview:
    """`levels[k]` has shape (2, bins): minima and maxima of bins of `BASE * STEP**k` samples."""

    length: int
    levels: tuple[NDArray[np.float32], ...]

    def columns(self, edges: NDArray[np.float64]) -> NDArray[np.float32]:
        """(2, width) minima and maxima between each two of `width + 1` rising positions, which may be unevenly spaced.

        Columns narrower than `BASE` samples show their bin: draw the samples themselves at that zoom.
        """
        width = len(edges) - 1
        out = np.zeros((2, max(0, width)), np.float32)
        if width <= 0 or not self.levels[0].shape[1]:
            return out
        per_column = max(1.0, float(edges[-1] - edges[0]) / width)
        level = 0
        while level + 1 < len(self.levels) and BASE * STEP ** (level + 1) <= per_column:
            level += 1
        bins, size = self.levels[level], BASE * STEP**level
        count = bins.shape[1]
        first = np.clip(np.floor(edges[:-1] / size).astype(np.intp), 0, count - 1)
        last = np.maximum(first + 1, np.clip(np.ceil(edges[1:] / size).astype(np.intp), 0, count))
        # reduceat takes pairs: every even slot is a column, every odd one what lies between
        pairs = np.empty(2 * width, np.intp)
        pairs[0::2], pairs[1::2] = first, np.minimum(last, count - 1)
        out[0] = np.minimum.reduceat(bins[0], pairs)[0::2]
        out[1] = np.maximum.reduceat(bins[1], pairs)[0::2]
        out[:, (edges[1:] <= 0) | (edges[:-1] >= self.length)] = 0
        return out


def overview_of(parts: Iterable[Signal]) -> Overview:
    """Build the pyramid of a mono stream of blocks."""
    mins: list[NDArray[np.float32]] = []
    maxs: list[NDArray[np.float32]] = []
    rest = np.zeros(0, np.float32)
    length = 0
    for part in parts:
        length += len(part)
        x = np.concatenate([rest, part.astype(np.float32, copy=False)])
        whole = len(x) // BASE * BASE
        if whole:
            table = x[:whole].reshape(-1, BASE)
            mins.append(table.min(axis=1))
            maxs.append(table.max(axis=1))
        rest = x[whole:]
    if len(rest):
        mins.append(rest.min(keepdims=True))
        maxs.append(rest.max(keepdims=True))
    low = np.concatenate(mins) if mins else np.zeros(0, np.float32)
    high = np.concatenate(maxs) if maxs else np.zeros(0, np.float32)
    levels = [np.stack([low, high])]
    for _ in range(LEVELS - 1):
        previous = levels[-1]
        pad = -previous.shape[1] % STEP
        padded = np.pad(previous, ((0, 0), (0, pad)), mode="edge") if previous.shape[1] else previous
        groups = padded.reshape(2, -1, STEP)
        levels.append(np.stack([groups[0].min(axis=1), groups[1].max(axis=1)]))
    return Overview(length, tuple(levels))
