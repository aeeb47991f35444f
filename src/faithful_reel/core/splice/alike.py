"""The same words in two readings, brought to the same edges: what is compared of them is then the same sounds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numba
import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.splice.boundaries import bands_of
from faithful_reel.core.splice.profile import Spoken
from faithful_reel.core.units import Span

FRAME_S, HOP_S = 0.02, 0.008
AROUND_S, REACH_S = 0.1, 0.15
"""So much before the first and after the last of the words is looked at; so far their edges may be told differently."""
ASIDE_DB = 1.5
"""What a step costs that goes on in one reading alone (own choice)."""
LEAST_FRAMES = 8


def with_same_edges(chapter: Spoken, take: Spoken, rate: int) -> Spoken:
    """The take with the words that both read where the chapter's sounds of them are.

    Runs of words are laid over one another frame by frame (dynamic time warping, Sakoe and Chiba, IEEE Trans. ASSP 26, 1978),
    their levels in bands counted from each band's mean, so that level and tone do not matter.
    """
    words = list(take.words)
    for run in _runs(chapter.words, take.words):
        mine, theirs = ([s for s in side.words[run.start : run.stop] if s is not None] for side in (chapter, take))
        for k, span in zip(run, _laid_over(chapter, mine, take, theirs, rate), strict=True):
            words[k] = span
    return replace(take, words=tuple(words))


def _laid_over(chapter: Spoken, mine: Sequence[Span], take: Spoken, theirs: Sequence[Span], rate: int) -> Sequence[Span]:
    """Where words of the chapter are in the take, which tells the same words at `theirs`."""
    hop, frame, pad = round(HOP_S * rate), round(FRAME_S * rate), round(AROUND_S * rate)
    sides = (chapter, mine), (take, theirs)
    lows = [max(side.offset, spans[0].start - pad) for side, spans in sides]
    highs = [min(side.offset + len(side.sound), spans[-1].stop + pad) for side, spans in sides]

    def looks(k: int) -> NDArray[np.float64]:
        side = sides[k][0]
        return _even(bands_of(side.sound[lows[k] - side.offset : highs[k] - side.offset], frame, hop, rate))

    one, other = looks(0), looks(1)
    if min(len(one), len(other)) < LEAST_FRAMES:
        return theirs
    edges, told = (
        np.maximum.accumulate([low, *(e for s in spans for e in (s.start, s.stop)), high])
        for (_, spans), low, high in zip(sides, lows, highs, strict=True)
    )
    middle = (np.interp(lows[0] + hop * np.arange(len(one)), edges, told) - lows[1]) / hop
    path = _path(one, other, middle, REACH_S / HOP_S, ASIDE_DB)
    if not len(path):
        return theirs

    def there(at: int) -> int:
        return round(lows[1] + hop * float(np.interp((at - lows[0]) / hop, np.arange(len(path)), path)))

    found: list[Span] = []
    for word, said in zip(mine, theirs, strict=True):
        a, b = there(word.start), there(word.stop)
        a, b = (a, b) if b > a else (said.start, said.stop)
        least = found[-1].start if found else a  # where one stays as it was told, the next may lie before it
        found.append(Span(max(a, least), max(b, least + 1)))
    return found


def _runs(one: Sequence[Span | None], other: Sequence[Span | None]) -> list[range]:
    """Runs of tokens that both sides have, in their order."""
    runs: list[range] = []
    first = 0
    count = min(len(one), len(other))
    for k in range(count + 1):
        if k < count and one[k] is not None and other[k] is not None:
            continue
        if k > first:
            runs.append(range(first, k))
        first = k + 1
    return runs


def _even(rows: NDArray[np.float64]) -> NDArray[np.float64]:
    """Bands counted from their means, what is hardly over the ground of each left out."""
    if not len(rows):
        return rows
    rows = np.maximum(rows, np.percentile(rows, 8, axis=0) + 4.0)
    return np.asarray(rows - rows.mean(axis=0))


@numba.njit(cache=True, nogil=True)
def _path(one, other, middle, reach, aside):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Where every frame of one lies in the other, at most `reach` frames from `middle`; empty where there is no way."""
    n, m = len(one), len(other)
    width = int(2 * reach) + 3
    cost = np.full((n, width), 1e18)
    back = np.zeros((n, width), np.int8)
    first = np.empty(n, np.int64)
    for i in range(n):
        first[i] = int(middle[i] - reach)
        for w in range(width):
            j = first[i] + w
            if j < 0 or j >= m:
                continue
            apart = np.abs(one[i] - other[j]).mean()
            best, way = 1e18, 0
            if i == 0:
                best = 0.1 * abs(j - middle[0])
            else:
                v = j - 1 - first[i - 1]
                if 0 <= v < width and cost[i - 1, v] < best:
                    best, way = cost[i - 1, v], 1
                v = j - first[i - 1]
                if 0 <= v < width and cost[i - 1, v] + aside < best:
                    best, way = cost[i - 1, v] + aside, 2
            if w > 0 and cost[i, w - 1] + aside - apart < best and cost[i, w - 1] < 1e17:
                best, way = cost[i, w - 1] + aside, 3
            if best < 1e17:
                cost[i, w] = best + (apart if way != 3 else 0.0)
                back[i, w] = way
    found = np.zeros(n)
    counts = np.zeros(n)
    i = n - 1
    w = 0
    least = 1e18
    for v in range(width):
        j = first[i] + v
        if cost[i, v] < 1e17 and cost[i, v] + 0.1 * abs(j - middle[i]) < least:
            least, w = cost[i, v] + 0.1 * abs(j - middle[i]), v
    if least >= 1e17:
        return np.zeros(0)
    while True:
        j = first[i] + w
        found[i] += j
        counts[i] += 1
        way = back[i, w]
        if way == 3:
            w -= 1
        elif i == 0:
            break
        elif way == 1:
            w = j - 1 - first[i - 1]
            i -= 1
        else:
            w = j - first[i - 1]
            i -= 1
    return found / np.maximum(counts, 1)
