"""Where the words of a chapter that nobody has heard yet may be spoken: by their lengths and the pauses in the sound.

No recogniser is asked, so that the page is there at once.  Pauses are laid on the boundaries of the text by dynamic programming:
how long the words between two pauses should last is held against how long somebody speaks there, and the length of each pause
against what stands at the boundary (own method; the usual lengths of pauses are from memory).
"""

from __future__ import annotations

import itertools
import re
from dataclasses import replace

import numba
import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.audio.overview import Overview
from faithful_reel.core.audio.roomtone import quiet_runs, quiet_threshold
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Span

FRAME_S = 0.02
PAUSE_S = 0.16
"""From here on quiet is a pause, and not the closure of a consonant."""
USUAL_S = (0.12, 0.3, 0.6, 0.95)
"""How long a reader usually pauses inside of a clause, after it, after a sentence, after a paragraph."""
SPREAD = 0.55
"""Spread of the logarithm of those lengths."""
AT_ALL = (3.5, 0.7, 0.1, 0.05)
"""What a pause costs at such a boundary, beside its length."""
PASSED_OVER = (0.0, 0.4, 3.0, 6.0)
"""What it costs where there is no pause at such a boundary."""
UNSURE_S, UNSURE = 0.12, 0.22
"""Words last as long as they should but for so many seconds, and so much of it."""
REACH, BAND = 60, 150
"""Words between two pauses at most; and how far from where it should be a pause is looked for, in words."""
FEWEST, MOST = 1.0, 6.0
"""Words a second of speech that can be; outside of that the recording reads another text, or not all of this."""
_CLAUSE = re.compile(r"[,;:—–-][\"'”’)]*$")


def estimated(peaks: NDArray[np.float64], frame: int, chapter: Chapter) -> tuple[Placed | None, ...]:
    """Where each word may be spoken: one place a word, none at all where the sound can not be a reading of the text.

    Parameters
    ----------
    peaks : (frames,) array
        The peak level of successive frames of `FRAME_S`, in dB.
    frame : int
        Samples of a frame: places are in samples.
    chapter : Chapter
        The written words.
    """
    nothing = (None,) * len(chapter.words)
    runs = _speech(peaks)
    spoken = sum(map(len, runs)) * FRAME_S
    if not chapter.words or not runs or not FEWEST <= len(chapter.words) / spoken <= MOST:
        return nothing
    weights = np.array([_weight(w.text) for w in chapter.words])
    lasts = np.concatenate([[0.0], np.cumsum(weights / weights.sum() * spoken)])
    lengths = np.array([len(r) for r in runs], np.float64) * FRAME_S
    pauses = np.array([b.start - a.stop for a, b in itertools.pairwise(runs)], np.float64) * FRAME_S
    bounds = _laid(lasts, lengths, pauses, _kinds(chapter), *map(np.array, (USUAL_S, AT_ALL, PASSED_OVER)))
    placed: list[Placed | None] = list(nothing)
    for run, first, stop in zip(runs, [0, *bounds], [*bounds, len(chapter.words)], strict=True):
        total = max(1e-9, lasts[stop] - lasts[first])
        edges = run.start + (lasts[first : stop + 1] - lasts[first]) / total * len(run)
        for k, (a, b) in enumerate(itertools.pairwise(edges)):
            placed[first + k] = Placed(round(a * frame), max(round(a * frame) + 1, round(b * frame)), 0.0)
    return tuple(placed)


def estimated_in(drawn: Overview, stretch: Span, rate: int, chapter: Chapter) -> tuple[Placed | None, ...]:
    """As `estimated`, of a stretch of a recording by its picture; places are samples of the recording at `rate`."""
    frame = round(FRAME_S * rate)
    columns = drawn.columns(np.arange(stretch.start, stretch.stop, frame, dtype=np.float64))
    peaks = 20 * np.log10(np.maximum(np.abs(columns).max(axis=0).astype(np.float64), 1e-10))
    found = estimated(peaks, frame, chapter)
    return tuple(p and replace(p, start=p.start + stretch.start, stop=p.stop + stretch.start) for p in found)


def _speech(peaks: NDArray[np.float64]) -> list[Span]:
    """Where somebody speaks, in frames, with the pauses in between."""
    threshold = quiet_threshold(peaks)
    pauses = quiet_runs(peaks, threshold, round(PAUSE_S / FRAME_S))
    cuts = [0, *(k for pause in pauses for k in pause), len(peaks)]
    found = [Span(a, b) for a, b in zip(cuts[::2], cuts[1::2], strict=True)]
    return [s for s in found if len(s) * FRAME_S >= 0.06]


def _weight(token: str) -> float:
    """How long a word lasts beside others: by its letters, of which figures count several."""
    letters = sum(4.0 if c.isdigit() else 1.0 for c in token if c.isalnum())
    return letters + 1.5 if letters else 0.01


def _kinds(chapter: Chapter) -> NDArray[np.int64]:
    """What ends at every boundary, before the first word and after the last one too: 1 a clause, 2 a sentence, 3 a paragraph."""
    words = chapter.words
    kinds = np.zeros(len(words) + 1, np.int64)
    for k, (a, b) in enumerate(itertools.pairwise(words), 1):
        kinds[k] = 3 if a.paragraph != b.paragraph else 2 if a.sentence != b.sentence else int(bool(_CLAUSE.search(a.text)))
    kinds[0] = kinds[-1] = 3
    return kinds


def _laid(
    lasts: NDArray[np.float64],
    lengths: NDArray[np.float64],
    pauses: NDArray[np.float64],
    kinds: NDArray[np.int64],
    usual: NDArray[np.float64],
    at_all: NDArray[np.float64],
    passed: NDArray[np.float64],
) -> list[int]:
    """The boundary that every pause stands at, rising: the least cost of all ways."""
    if not len(pauses):
        return []
    spoken = np.cumsum(lengths)[:-1]
    middles = np.searchsorted(lasts, spoken)
    over = np.concatenate([[0.0], np.cumsum(passed[kinds])])
    at = np.log(np.maximum(pauses, 1e-3)[:, None] / usual[None, :]) / SPREAD
    stands = 0.5 * np.square(at) + at_all[None, :]
    stands[:, 3] = np.where(at[:, 3] > 0, at_all[3], stands[:, 3])  # no pause is too long for the end of a paragraph
    stands[:, 2] = np.where(at[:, 2] > 0, 0.25 * np.square(at[:, 2]) + at_all[2], stands[:, 2])
    found: NDArray[np.int64] = _ways(lasts, lengths, middles, over, stands, kinds)
    return [int(j) for j in found]


@numba.njit(cache=True, nogil=True)
def _ways(lasts, lengths, middles, over, stands, kinds):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    words, count = lasts.size - 1, middles.size
    width = 2 * BAND + 1
    cost = np.full((count, width), 1e18)
    back = np.full((count, width), -1, np.int64)
    for k in range(count):
        low = max(0, middles[k] - BAND)
        before = max(0, middles[k - 1] - BAND) if k else 0
        for j in range(low, min(words, middles[k] + BAND) + 1):
            own = stands[k, kinds[j]]
            first = max(0, j - REACH)
            best, way = 1e18, -1
            if k == 0:
                apart = lengths[0] - lasts[j]
                best = (apart / (UNSURE_S + UNSURE * lengths[0])) ** 2 + over[max(j, 1)] - over[1]
            else:
                for i in range(max(first, before), min(j, before + width - 1) + 1):
                    earlier = cost[k - 1, i - before]
                    if earlier >= 1e18:
                        continue
                    apart = lengths[k] - (lasts[j] - lasts[i])
                    here = earlier + (apart / (UNSURE_S + UNSURE * lengths[k])) ** 2 + over[max(j, i + 1)] - over[i + 1]
                    if here < best:
                        best, way = here, i
            cost[k, j - low] = best + own
            back[k, j - low] = way
    low = max(0, middles[count - 1] - BAND)
    best, at = 1e18, min(words, middles[count - 1])
    for j in range(low, min(words, middles[count - 1] + BAND) + 1):
        apart = lengths[count] - (lasts[words] - lasts[j])
        here = (
            cost[count - 1, j - low] + (apart / (UNSURE_S + UNSURE * lengths[count])) ** 2 + over[words] - over[min(words, j + 1)]
        )
        if here < best:
            best, at = here, j
    found = np.zeros(count, np.int64)
    for k in range(count - 1, -1, -1):
        found[k] = at
        low = max(0, middles[k] - BAND)
        way = back[k, at - low]
        at = way if way >= 0 else at
    return found
