"""The sides of a splice: the line as it is heard in the reel, and as a take reads it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.audio.voice import VoiceBands
from faithful_reel.core.pickups.ledger import Take
from faithful_reel.core.pickups.takes import Row, gaps_of
from faithful_reel.core.splice.boundaries import Side
from faithful_reel.core.splice.profile import Spoken
from faithful_reel.core.units import Signal, Span

CONTEXT_S = 4.0
"""So much on either side of a line is looked at: its floor, its words."""
AROUND_TAKE_S = 0.6
LEAST_GAP_S, LEAST_SPOKEN, MOSTLY = 0.06, 0.15, 0.7


def spoken_and_side(
    sound: Signal, offset: int, rows: Sequence[Row], tokens: range, bounds: Span, rate: int
) -> tuple[Spoken, Side]:
    """A line in sound, (n,), that begins at `offset`, for measuring and for joining; of its words those in the sound."""
    voice = VoiceBands(rate)
    voice.feed(np.atleast_2d(np.asarray(sound, np.float32)))
    speaks = voice.voice().speaks
    spoken = [_spoken(span, speaks, voice.size, offset) for _, span in rows]
    if sum(spoken) >= MOSTLY * len(rows):  # else it can not be told where somebody speaks
        rows = [row for row, there in zip(rows, spoken, strict=True) if there]

    def cleared(gap: Span | None) -> Span | None:
        return _cleared(gap, speaks, voice.size, offset, round(LEAST_GAP_S * rate)) if gap is not None else None

    entering, leaving = (tuple(map(cleared, gaps)) for gaps in gaps_of(rows, tokens, bounds))
    inside = [(word, span) for word, span in rows if offset <= span.start and span.stop <= offset + len(sound)]
    place = {word: span for word, span in inside if word >= 0}
    words = tuple(place.get(k) for k in tokens)
    others = tuple(s for w, s in inside if w not in tokens)
    return Spoken(sound, offset, words, others), Side(sound, offset, entering, leaving, words)


def _spoken(span: Span, speaks: NDArray[np.bool_], size: int, offset: int) -> bool:
    """Whether somebody speaks where a word was placed: one that was placed in a pause is somewhere else."""
    inner = speaks[max(0, (span.start - offset) // size) : max(0, -(-(span.stop - offset) // size))]
    return not len(inner) or float(inner.mean()) >= LEAST_SPOKEN


def _cleared(gap: Span, speaks: NDArray[np.bool_], size: int, offset: int, least: int) -> Span:
    """A gap without the sound of a voice that runs on into it: there a word's edge was told too early or too late."""
    if len(gap) < 2 * least:
        return gap
    first, last = (gap.start - offset) // size, (gap.stop - offset) // size
    inner = speaks[max(0, first) : max(0, last)]
    quiet = np.flatnonzero(~inner)
    if first < 0 or not len(quiet):
        return gap
    start = gap.start if quiet[0] <= 1 else offset + (first + int(quiet[0])) * size
    stop = gap.stop if len(inner) - 1 - quiet[-1] <= 1 else offset + (first + int(quiet[-1]) + 1) * size
    return Span(start, stop) if stop - start >= least else gap


def take_rows(take: Take) -> list[Row]:
    """What is heard of a take, in the order of time: the line's tokens by their number, words that are not the line's by -1."""
    own = [(k, Span(a, b)) for k, (a, b) in enumerate(take.words) if a >= 0]
    said = [Span(a, max(a, b)) for _, a, b in take.said]
    extra = [(-1, s) for s in said if not any(o.start <= (s.start + s.stop) // 2 < o.stop for _, o in own)]
    return sorted([*own, *extra], key=lambda row: (row[1].start, row[1].stop))


def take_bounds(take: Take, rate: int) -> Span:
    """How far before and after a take there is nothing else: where somebody speaks again, at most `AROUND_TAKE_S` away."""
    reach = round(AROUND_TAKE_S * rate)
    low, high = take.clear if take.clear != (0, 0) else (take.start - reach, take.stop + reach)
    return Span(max(0, low, take.start - reach), max(take.stop, min(high, take.stop + reach)))


def take_side(source: Callable[[int, int], Signal], take: Take, rate: int, near: range | None = None) -> tuple[Spoken, Side]:
    """A take in its recording, of which `source` gives samples, (n,), from one position to another.

    Of a long one only the words `near`, counted in the line, with what is around them.
    """
    bounds, reach = take_bounds(take, rate), round(CONTEXT_S * rate)
    some = [s for k, s in enumerate(take.words) if s[0] >= 0 and (near is None or k in near)] or [(take.start, take.stop)]
    first = max(bounds.start, some[0][0] - reach)
    last = min(bounds.stop, max(s[1] for s in some) + reach)
    room = source(first - reach, last + reach)
    tokens = range(len(take.words))
    spoken, side = spoken_and_side(room[reach : len(room) - reach], first, take_rows(take), tokens, bounds, rate)
    return replace(spoken, room=room), side
