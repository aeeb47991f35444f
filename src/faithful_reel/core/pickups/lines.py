"""Which words a narrator reads again: the clause that something is wrong in, with what it needs around it."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Container

from faithful_reel.core.text.words import Chapter

LEAST_WORDS, MOST_WORDS = 10, 25
"""A line is good to read in one go with so many words (own choice, by what editors ask for)."""
_ENDS = ",;:.?!…—–"
_CLOSING = "\"'”’)]»"


def line_around(text: Chapter, first: int, stop: int, pauses: Container[int] = ()) -> range:
    """The words to be read again where those from `first` up to `stop` are wrong.

    A sentence of up to 25 words is read whole.  Of a longer one it is the clauses that hold the words, with those beside them
    until it has 10 words; a clause ends at a comma or the like, and where the reader pauses: `pauses` holds the words before
    which that is.
    """
    sentences = [s for s in text.sentences() if s.start < stop and s.stop > first]
    if not sentences:
        return range(first, stop)
    whole = range(sentences[0].start, sentences[-1].stop)
    if len(whole) <= MOST_WORDS:
        return whole
    inside = [k for k in whole if k > whole.start and (k in pauses or _clause_ends(text.words[k - 1].text))]
    edges = [whole.start, *inside, whole.stop]
    lo, hi = bisect_right(edges, first) - 1, bisect_left(edges, stop)
    while edges[hi] - edges[lo] < LEAST_WORDS:
        ways = [(a, b) for a, b in ((lo - 1, hi), (lo, hi + 1)) if a >= 0 and b < len(edges)]
        fitting = [(edges[b] - edges[a], a, b) for a, b in ways if edges[b] - edges[a] <= MOST_WORDS]
        if not fitting:
            break
        _, lo, hi = min(fitting)
    return range(edges[lo], edges[hi])


def _clause_ends(token: str) -> bool:
    """Whether a clause ends after a token."""
    return token.rstrip(_CLOSING)[-1:] in tuple(_ENDS)
