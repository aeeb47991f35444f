"""Pauses by ear: where they are, what of them is quiet, and the edits that make them shorter or longer."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.collate.flaws import USUAL, Gap, Place, habits, place_after
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import CutAndClose, LengthenPause, ToneSource
from faithful_reel.core.reel.timing import LINKED
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import EAR_RATE, Span, samples
from faithful_reel.core.work.mending import SILENCE, Columns
from faithful_reel.core.work.timeline import Tokens

STEP_S = 0.005
LEAST_S = 0.08
"""A shorter gap is no pause (own rule)."""
REACH_S = 2.0
"""So far before the cursor a pause is looked for: who stops the sound does it after what was heard (own rule)."""
EDGE_S, AIR_S = 0.06, 0.03
"""Beside a word, where its own sound may reach; and what stays on either side of a breath (own rules)."""
QUIETEST_S, STANDS_OUT = 0.04, 2.5
"""What is 8 dB over the quietest moment of its pause is no part of its quiet: a breath, a click, a word's end."""
LOUDEST = 0.02
"""Where it is not known how loud the room is, what is louder than this, 34 dB under full scale, is no quiet (own rule)."""
LEAST_CUT_S = 0.01
BY_LEVEL_S, RISE_DB, QUIET_SHARE = 12.0, 12.0, 20.0
"""Where nothing was heard yet: so far around, 12 dB over what is usual in the quiet there, which is the lowest fifth."""


@dataclass(frozen=True, slots=True)
class Pause:
    """What lies between two words, the written word before it (-1: not known), the kind of place, and the voice before it."""

    span: Span
    word: int
    place: Place
    lane: int = LINKED


def pauses_of(text: Chapter, tokens: Tokens, within: Span | None = None) -> list[Pause]:
    """What lies between heard words of all voices together, in their order; all of it, or what reaches into a stretch."""
    heard = tokens.heard()
    reached = np.maximum.accumulate(heard.stops) if len(heard) else heard.stops
    gap = heard.starts[1:] > reached[:-1]
    if within is not None:
        gap &= (heard.starts[1:] >= within.start) & (reached[:-1] <= within.stop)
    found: list[Pause] = []
    for k in np.flatnonzero(gap).tolist():
        before, after = int(heard.words[k]), int(heard.words[k + 1])
        place = place_after(text, before) if before >= 0 and after == before + 1 else Place.RETAKE
        found.append(Pause(Span(int(reached[k]), int(heard.starts[k + 1])), before, place, heard[int(k)].lane))
    return found


def usual_lengths(pauses: Sequence[Pause], rate: int) -> dict[Place, float]:
    """How long the reader usually pauses at each kind of place, in seconds."""
    rows = [Gap(p.span.start * EAR_RATE // rate, p.span.stop * EAR_RATE // rate, p.word, p.place) for p in pauses]
    return {place: habit for place, (habit, _) in habits(rows, USUAL).items()}


def pauses_by_level(columns: Columns, position: int, length: int, rate: int) -> list[Pause]:
    """The pauses around a place whose words are not known: where nothing stands out of the quiet.

    `columns` gives for (m + 1,) positions the (2, m) minima and maxima between them.
    """
    around = round(BY_LEVEL_S * rate)
    first, last = max(0, position - around), min(length, position + around)
    peaks, edges = _peaks(columns, Span(first, last), rate)
    sounding = peaks[peaks > 0]
    if not len(sounding):
        return []
    quiet = float(np.percentile(sounding, QUIET_SHARE))
    rows = _runs(peaks <= max(SILENCE, quiet * 10 ** (RISE_DB / 20)), round(LEAST_S / STEP_S))
    return [Pause(Span(int(edges[a]), int(edges[b])), -1, Place.RETAKE) for a, b in rows]


def stretches_by_level(columns: Columns, within: Span, rate: int) -> list[Pause]:
    """As `pauses_by_level`, of a whole stretch; what is quiet is judged for each quarter of a minute by what is around it.

    `columns` gives for (m + 1,) positions the (2, m) minima and maxima between them.
    """
    found: list[Pause] = []
    each = round(2 * BY_LEVEL_S * rate)
    for first in range(within.start, within.stop, each):
        reached = found[-1].span.stop if found else within.start - 1
        for pause in pauses_by_level(columns, min(first + each // 2, within.stop), within.stop, rate):
            if pause.span.start > reached:
                found.append(pause)
            elif found and pause.span.stop > reached:  # it goes on where the one before was cut off
                found[-1] = replace(pause, span=Span(found[-1].span.start, pause.span.stop))
    return found


def pause_near(pauses: Sequence[Pause], position: int, rate: int) -> Pause | None:
    """The pause at a place, else the nearest, rather that before it than that after it; None where there is none nearby."""

    def away(pause: Pause) -> int:
        if pause.span.start <= position <= pause.span.stop:
            return 0
        return position - pause.span.stop if position > pause.span.stop else 3 * (pause.span.start - position)

    long = [p for p in pauses if len(p.span) >= LEAST_S * rate]
    found = min(long, key=away, default=None)
    return found if found is not None and away(found) <= REACH_S * rate else None


def pauses_in(pauses: Sequence[Pause], span: Span, rate: int) -> list[Pause]:
    """The pauses of a stretch; of one that lies inside of a pause that one."""
    whole = [p for p in pauses if span.start <= p.span.start and p.span.stop <= span.stop and len(p.span) >= LEAST_S * rate]
    return whole or [p for p in pauses if p.span.start <= span.start and span.stop <= p.span.stop]


def quiet_parts(columns: Columns, span: Span, rate: int, tone: float | None = None) -> list[Span]:
    """What of a pause is quiet, away from its words and from what else sounds in it, as a breath; in order.

    `columns` gives for (m + 1,) positions the (2, m) minima and maxima between them, full scale 1; `tone` is the amplitude that
    the room's tone stays under, where it is known: a pause that is all breath has no quiet.
    """
    peaks, edges = _peaks(columns, span, rate)
    if not len(peaks):
        return []
    width = min(len(peaks), round(QUIETEST_S / STEP_S))
    least = float(np.convolve(peaks, np.full(width, 1 / width), "valid").min())
    most = STANDS_OUT * min(least, LOUDEST if tone is None else tone)
    loud = peaks > max(SILENCE, most)
    air, edge = round(AIR_S / STEP_S), round(EDGE_S / STEP_S)
    loud = np.convolve(loud, np.ones(2 * air + 1), "same") > 0
    loud[:edge] = loud[len(loud) - edge :] = True
    return [Span(int(edges[a]), int(edges[b])) for a, b in _runs(~loud, 1)]


def _peaks(columns: Columns, span: Span, rate: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The peaks of every 5 ms of a stretch, (n,), and the n + 1 edges between them."""
    edges = np.arange(span.start, span.stop + 1, max(1, round(STEP_S * rate)), dtype=np.float64)
    if len(edges) < 2:
        return np.zeros(0), edges
    return np.maximum.reduce(np.abs(columns(edges))).astype(np.float64), edges


def _runs(which: NDArray[np.bool_], least: int) -> list[tuple[int, int]]:
    """The (first, after the last) of runs of True that are at least so long."""
    turns = np.flatnonzero(np.diff(np.concatenate([[False], which, [False]]).astype(np.int8))).tolist()
    return [(a, b) for a, b in zip(turns[::2], turns[1::2], strict=True) if b - a >= least]


def shorter(columns: Columns, span: Span, by: int, rate: int, tone: float | None = None) -> list[Span]:
    """What goes of a pause that is to be shorter by so many samples: its quiet, out of the longest part first.

    Less goes where there is less; nothing where it is not worth a join.  `columns` gives for (m + 1,) positions the (2, m)
    minima and maxima between them.
    """
    found: list[Span] = []
    for part in sorted(quiet_parts(columns, span, rate, tone), key=len, reverse=True):
        going = quietest_stretch(columns, part, min(by - sum(map(len, found)), len(part)), 0, rate)
        if going is not None and len(going) >= LEAST_CUT_S * rate:
            found.append(going)
        if sum(map(len, found)) >= by:
            break
    return sorted(found)


def quietest_stretch(columns: Columns, span: Span, length: int, keep: int, rate: int) -> Span | None:
    """The quietest stretch of a length inside of a pause, `keep` away from its ends; None where it does not fit.

    So a breath stays whole where there is room beside it.  `columns` gives for (m + 1,) positions the (2, m) minima and
    maxima between them; the energy of a stretch is that of the peaks of 5 ms.
    """
    first, last, step = span.start + keep, span.stop - keep, max(1, round(STEP_S * rate))
    if length <= 0 or last - first < length:
        return None
    edges = np.arange(first, last + 1, step, dtype=np.float64)
    rows = length // step
    if len(edges) - 1 <= rows or rows < 1:
        middle = (first + last - length) // 2
        return Span(middle, middle + length)
    peaks = np.maximum.reduce(np.abs(columns(edges))).astype(np.float64)
    sums = np.concatenate([[0.0], np.cumsum(np.square(peaks))])
    energy = sums[rows:] - sums[:-rows]
    edge_peaks = np.square(np.concatenate([peaks, peaks[-1:]]))
    energy = energy + 8 * (edge_peaks[: len(energy)] + edge_peaks[rows : rows + len(energy)])  # the join itself in the quiet
    least = np.flatnonzero(energy <= energy.min() * 1.02 + 1e-12)
    at = int(edges[least[np.argmin(np.abs(least - (len(energy) - 1) / 2))]])
    return Span(at, min(at + length, last))


@dataclass(frozen=True, slots=True)
class Pacing:
    """What pauses are changed by: what all voices look like, the room tone that comes, on which lane, the tone's amplitude."""

    columns: Columns
    tone: ToneSource | None
    lane: int
    rate: int
    level: float | None = None


def changed_pauses(rows: Sequence[tuple[Pause, int]], how: Pacing) -> list[CutAndClose | LengthenPause]:
    """The edits that make pauses longer or, below 0, shorter by so many samples each, the last first.

    What goes comes out of the quietest part, what comes is room tone in the middle of it; breaths and their air stay.

    Raises
    ------
    EditRefused
        None of them has anything quiet that could go.
    """
    edits: list[CutAndClose | LengthenPause] = []
    for pause, by in sorted(rows, key=lambda row: row[0].span.start, reverse=True):
        if by < 0:
            going = shorter(how.columns, pause.span, -by, how.rate, how.level)
            edits += [CutAndClose(s.start, s.stop) for s in reversed(going)]
        elif by > 0:
            edits.append(LengthenPause(_middle(pause, how), by, how.tone, how.lane))
    if not edits:
        raise EditRefused(
            "Nothing quiet is left in this pause that could go: what is there is a breath, or belongs to its words."
        )
    return edits


def moved_by(edits: Sequence[CutAndClose | LengthenPause], position: int) -> int:
    """Where a place is after `changed_pauses`, which makes the last of its edits first."""
    cuts = (e for e in edits if isinstance(e, CutAndClose))
    gone = sum(min(e.stop, position) - e.start for e in cuts if e.start < position)
    return position - gone + sum(e.length for e in edits if isinstance(e, LengthenPause) and e.at < position)


def _middle(pause: Pause, how: Pacing) -> int:
    """Where room tone comes into a pause: the middle of its longest quiet part, else its own."""
    part = max(quiet_parts(how.columns, pause.span, how.rate, how.level), key=len, default=pause.span)
    return (part.start + part.stop) // 2


def in_proportion(pauses: Sequence[Pause], by: int) -> list[tuple[Pause, int]]:
    """Pauses with what each changes by, where the longest changes by so many samples and the others as much for their length."""
    longest = max((len(p.span) for p in pauses), default=0)
    return [(p, round(by * len(p.span) / longest)) for p in pauses]


def to_usual(pauses: Sequence[Pause], usual: dict[Place, float], rate: int) -> list[tuple[Pause, int]]:
    """Pauses with what each changes by to be as this reader usually makes them at such a place."""
    return [
        (p, samples(usual[p.place], rate) - len(p.span))
        for p in pauses
        if p.place is not Place.RETAKE and abs(samples(usual[p.place], rate) - len(p.span)) >= LEAST_CUT_S * rate
    ]
