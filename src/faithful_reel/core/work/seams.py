"""The joins of a chapter in figures, each held against natural boundaries of the same reading."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.jobs import Unwatched, Watch
from faithful_reel.core.reel.reel import Lane, Piece, Reel, RoomTone
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.splice.seam import MOST_NATURAL, Boundary, JudgedSeam, NaturalSeams, figures_at, judged_seam, pauses_there
from faithful_reel.core.units import Signal
from faithful_reel.core.work.timeline import Hearing, Token, Tokens, tokens_of

AROUND_S = 3.2
"""So much around a boundary is rendered to measure it."""

RenderOf = Callable[[Reel], Renderer]


def lane_sound(reel: Reel, lane: int, render_of: RenderOf, start: int, stop: int) -> Signal:
    """A stretch of one lane alone, mixed down: (n,)."""
    mixed: Signal = np.atleast_2d(render_of(Reel((reel.lanes[lane],))).render(max(0, start), stop)).mean(axis=0)
    return mixed


def natural_boundaries(reel: Reel, tokens: Tokens, lane: int, rate: int) -> list[Boundary]:
    """Places between two words that follow one another in one piece: in the middle of a pause, or where they touch."""
    own = [t for t in tokens.heard() if t.lane == lane]
    row = reel.lanes[lane]
    starts = np.array(row.starts())
    found: list[Boundary] = []
    for a, b in itertools.pairwise(own):
        gap = b.start - a.stop
        index = row.index_at(a.start)
        apart = starts[np.searchsorted(starts, a.start + 1) :]
        joined = len(apart) and apart[0] < b.stop and _is_join(row, int(np.searchsorted(starts, apart[0])))
        if gap < 0 or gap > 2 * rate or joined or not isinstance(row.segments[index], Piece):
            continue
        found.append(Boundary(a.stop + gap // 2, gap >= 0.06 * rate))
    return found


def _is_join(lane: Lane, index: int) -> bool:
    return 0 < index < len(lane.segments) and lane.segments[index].join.length > 0


def natural_of(
    book: Book, chapter: ChapterState, hearing: Hearing, lane: int, render_of: RenderOf, watch: Watch | None = None
) -> NaturalSeams:
    """What natural boundaries of a chapter's lane measure, evenly over the chapter."""
    watch = watch or Unwatched()
    reel = chapter.reel
    assert reel is not None
    tokens = tokens_of(book, chapter, [""] * len(hearing.placed), hearing)
    places = natural_boundaries(reel, tokens, lane, book.rate)
    around = round(AROUND_S * book.rate)
    rows: dict[bool, list[np.ndarray]] = {True: [], False: []}
    for in_pause in (True, False):
        mine = [b for b in places if b.in_pause is in_pause]
        chosen = mine[:: max(1, len(mine) // MOST_NATURAL)][:MOST_NATURAL]
        for k, b in enumerate(chosen):
            first = max(0, b.at - around)
            x = lane_sound(reel, lane, render_of, first, b.at + around)
            rows[in_pause].append(figures_at(x, b.at - first, book.rate, in_pause=in_pause))
            watch.tick((k + (len(chosen) if not in_pause else 0)) / max(1, 2 * len(chosen)), "measuring natural boundaries")
    return NaturalSeams(*(np.array(rows[k]).reshape(-1, 7) for k in (True, False)))


def seam_in(reel: Reel, lane: int, at: int, natural: NaturalSeams, render_of: RenderOf, rate: int) -> JudgedSeam:
    """A join of a reel beside natural boundaries of its kind; its place is told in the reel."""
    around = round(AROUND_S * rate)
    first = max(0, at - around)
    x = lane_sound(reel, lane, render_of, first, min(len(reel), at + around))
    made = judged_seam(x, at - first, rate, natural, in_pause=pauses_there(x, at - first, rate))
    return JudgedSeam(at, made.in_pause, made.figures, made.percentiles, made.ease)


@dataclass(frozen=True, slots=True)
class JoinSeam:
    """A join of a chapter: its lane, which segment it is before, the words on both sides, and what it measures."""

    lane: int
    index: int
    left: str
    right: str
    seam: JudgedSeam


def joins_heard(reel: Reel) -> list[tuple[int, int, int]]:
    """(lane, segment, place) of the joins where one sound takes over from another; where room tone meets room tone is none."""
    found = []
    for k, lane in enumerate(reel.lanes):
        if lane.music:
            continue
        starts = lane.starts()
        for i in range(1, len(lane.segments)):
            before, after = lane.segments[i - 1], lane.segments[i]
            voiced = isinstance(before, Piece) or isinstance(after, Piece)
            sounds = isinstance(before, Piece | RoomTone) and isinstance(after, Piece | RoomTone)
            if after.join.length > 0 and voiced and sounds:
                found.append((k, i, starts[i]))
    return found


def chapter_seams(
    book: Book,
    chapter: ChapterState,
    texts: list[str],
    hearing: Hearing,
    natural: Callable[[int], NaturalSeams],
    render_of: RenderOf,
    watch: Watch | None = None,
) -> list[JoinSeam]:
    """All joins of a chapter, worst first; `natural` gives what natural boundaries of a lane measure."""
    watch = watch or Unwatched()
    reel = chapter.reel
    if reel is None:
        return []
    tokens = tokens_of(book, chapter, texts, hearing)
    joins = joins_heard(reel)
    found = []
    for done, (lane, index, at) in enumerate(joins):
        left, right = _beside([t for t in tokens.heard() if t.lane == lane], at)
        found.append(JoinSeam(lane, index, left, right, seam_in(reel, lane, at, natural(lane), render_of, book.rate)))
        watch.tick((done + 1) / len(joins), "measuring joins")
    return sorted(found, key=lambda j: -j.seam.worst)


def _beside(tokens: list[Token], at: int) -> tuple[str, str]:
    middles = [(t.start + t.stop) // 2 for t in tokens]
    k = int(np.searchsorted(middles, at)) if middles else 0
    return (tokens[k - 1].text if k else ""), (tokens[k].text if k < len(tokens) else "")
