"""Where to join: ranked proposals of boundaries between words, in the original and in the take."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from faithful_reel.core.audio.roomtone import levels_of_frames
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.units import Signal, Span

LEAD_S = 0.012
"""Left before an onset, so that the consonant is whole (about 10 ms, common practice)."""
FAR_S = 0.12
"""How far from a word the cut lies at most, where there is a pause."""


@dataclass(frozen=True, slots=True)
class Side:
    """One of the two sounds: (n,) audio that starts at `offset`, and the gaps before each token of the line and after the last.

    `entering[k]` reaches from the last word kept before token k to whatever is heard next, `leaving[k]` from whatever
    was heard last to token k; None where the words beside it were not heard.  All positions are samples of the whole
    recording or reel.
    """

    sound: Signal
    offset: int
    entering: tuple[Span | None, ...]
    leaving: tuple[Span | None, ...]

    def level(self, start: int, stop: int) -> float:
        """RMS in dB of a stretch."""
        x = self.sound[max(0, start - self.offset) : max(0, stop - self.offset)]
        return float(10 * np.log10(np.mean(np.square(x, dtype=np.float64)) + 1e-12)) if len(x) else -120.0


@dataclass(frozen=True, slots=True)
class Boundary:
    """One proposal: the cut before token `token`, at `original` in one and `take` in the other sound.

    `score` is a cost in dB-like units, least is best; `crossfade` a length in samples; `gap_s` the shorter pause.
    """

    token: int
    original: int
    take: int
    score: float
    crossfade: int
    gap_s: float


def ranked_boundaries(
    original: Side, take: Side, tokens: Sequence[int], rate: int, *, entering: bool, nearest: int
) -> list[Boundary]:
    """All usable boundaries before the tokens in `tokens`, best first.

    Parameters
    ----------
    original, take : Side
        The two sounds; their gaps are counted alike.
    tokens : sequence of int
        Candidate positions in the line, 0 to the number of its tokens.
    entering : bool
        Whether the take begins here (else it ends here).
    nearest : int
        The position that replaces no more words than must be; others cost a little for each word.
    """
    found: list[Boundary] = []
    for token in tokens:
        a, b = (original.entering[token], take.entering[token]) if entering else (original.leaving[token], take.leaving[token])
        if a is None or b is None:
            continue
        gap = min(len(a), len(b)) / rate
        if gap >= 0.045:
            # the same distance from the word on both sides, so that the pause keeps its length
            distance = round(min(max(LEAD_S, gap / 2), FAR_S) * rate)
            cut_a, cut_b = (a.stop - distance, b.stop - distance) if entering else (a.start + distance, b.start + distance)
            crossfade = min(round(0.02 * rate), max(64, distance))
        else:
            cut_a, cut_b = _valley(original, a, rate), _valley(take, b, rate)
            crossfade = round(0.008 * rate)
        half = round(0.006 * rate)
        depth = max(original.level(cut_a - half, cut_a + half), take.level(cut_b - half, cut_b + half))
        speech = max(original.level(a.start - round(0.3 * rate), a.stop + round(0.3 * rate)), -60.0)
        score = (depth - speech) - 40 * min(gap, 0.25) + 1.5 * abs(token - nearest)
        found.append(Boundary(token, cut_a, cut_b, round(score, 2), crossfade // 2 * 2, round(gap, 4)))
    return sorted(found, key=lambda boundary: boundary.score)


def _valley(side: Side, gap: Span, rate: int) -> int:
    """The quietest 4 ms within 35 ms of a boundary where words run into each other."""
    reach, size = round(0.035 * rate), round(0.004 * rate)
    middle = (gap.start + gap.stop) // 2
    start = max(side.offset, min(gap.start, middle - reach))
    x = side.sound[start - side.offset : max(gap.stop, middle + reach) - side.offset]
    levels = levels_of_frames(x, size)
    if not len(levels):
        return middle
    return start + int(levels.argmin()) * size + size // 2


def best_pair(entering: Sequence[Boundary], leaving: Sequence[Boundary]) -> tuple[Boundary, Boundary]:
    """The best entering and leaving boundaries that leave some of the take between them.

    Raises
    ------
    EditRefused
        No two boundaries fit together.
    """
    pairs = [
        (a.score + b.score, i, j)
        for i, a in enumerate(entering)
        for j, b in enumerate(leaving)
        if b.take > a.take and b.original >= a.original and b.token >= a.token
    ]
    if not pairs:
        raise EditRefused(
            "No place was found where this take could be joined. Take a longer line that holds the words around it."
        )
    _, i, j = min(pairs)
    return entering[i], leaving[j]
