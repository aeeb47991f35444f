"""Repeats that every ear tidied away: words that last too long, held against their phones said twice."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from faithful_reel.core.collate.links import Link
from faithful_reel.core.hear.pronounce import phones_of
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.text.spoken import spoken_forms
from faithful_reel.core.units import EAR_RATE, Span

TOO_LONG = 1.5
"""Times its expected length that a word, with the gap before it, must last to be looked at."""
SPARE_S = 0.08
PAUSE_S = 0.12
CONTEXT = 1
MOST_WORDS = 3
EDGE = EAR_RATE // 20
HOPELESS_NATS = -10.0
"""Where the word alone, said twice, fits so much worse, nothing longer is tried."""
LAST = 1.45
"""How much longer the last word before a pause is by nature (from memory)."""
LEAST_NATS = 25.0
PER_NAT = 0.035


@dataclass(frozen=True, slots=True)
class Tidied:
    """Heard words `words` that were said twice though every ear wrote them once, and how sure that is."""

    words: range
    confidence: float
    margin: float


def expected_s(word: Heard) -> float:
    """How long a word lasts at an even pace: 45 ms and 75 ms a phone (from memory, only compared with its like)."""
    phones = sum(len(phones_of(w)) for w in spoken_forms(word.text)[0])
    return 0.045 + 0.075 * phones


def tidied(
    heard: Sequence[Heard],
    owner: Sequence[int],
    links: Sequence[Link],
    fit: Callable[[Span, Sequence[str]], float | None],
    at_once: Callable[[Callable[[int], Tidied | None], Sequence[int]], Sequence[Tidied | None]],
) -> list[Tidied]:
    """Look at every word that lasts implausibly long for a repeat that no ear wrote down.

    Parameters
    ----------
    heard, owner : sequences
        Heard words with aligned edges, and the chunk of each.
    links : sequence of Link
        Only words that are read as written are looked at.
    fit : callable
        Acoustic log likelihood of words over a span; see `Aligner.fit`.
    at_once : callable
        Maps a function over the places, several at a time.
    """
    lasting = np.array([(h.stop - h.start) / EAR_RATE for h in heard])
    wanted = np.array([expected_s(h) for h in heard])
    if not len(heard):
        return []
    pace = float(np.median(lasting / wanted))
    same = {j for link in links if link.same for j in link.heard}
    odd = []
    for j in range(len(heard)):
        last = j + 1 == len(heard) or heard[j + 1].start - heard[j].stop > PAUSE_S * EAR_RATE
        usual = pace * wanted[j] * (LAST if last else 1.0)
        if j in same and lasting[j] - usual > SPARE_S and lasting[j] > TOO_LONG * usual:
            odd.append(j)

    def look(j: int) -> Tidied | None:
        lo, hi = j, j + 1
        while lo > 0 and owner[lo - 1] == owner[j] and j - lo < CONTEXT + MOST_WORDS - 1:
            lo -= 1
        while hi < len(heard) and owner[hi] == owner[j] and hi - j <= CONTEXT:
            hi += 1
        span = Span(max(0, heard[lo].start - EDGE), heard[hi - 1].stop + EDGE)
        texts = [h.text for h in heard[lo:hi]]
        once, alone = fit(span, texts), fit(span, [*texts[: j + 1 - lo], *texts[j - lo :]])
        if once is None or alone is None or alone - once < HOPELESS_NATS:
            return None
        best = alone - once, range(j, j + 1)
        for start, stop in ((j - 1, j + 1), (j, j + 2), (j - 2, j + 1)):
            if start >= lo and stop <= hi:
                twice = fit(span, [*texts[: stop - lo], *texts[start - lo :]])
                if twice is not None and twice - once > best[0]:
                    best = twice - once, range(start, stop)
        if best[0] < LEAST_NATS:
            return None
        return Tidied(best[1], round(1 / (1 + math.exp(-PER_NAT * (best[0] - 2 * LEAST_NATS))), 3), round(best[0], 1))

    found: list[Tidied] = []
    for one in at_once(look, odd):
        if one and not (found and found[-1].words.stop > one.words.start):
            found.append(one)
    return found
