"""Repeats that recognisers tidy away: a chunk decoded by a grammar of its own words in which any stretch may be said again."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from faithful_reel.core.hear.grammar import Arc, Grammar, traced
from faithful_reel.core.hear.pronounce import phones_of
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.text.spoken import plain, spoken_forms
from faithful_reel.core.units import Span

BACK, AHEAD = 3, 6
"""Words that may be said again from within the chunk; and of what comes after it, before it is broken off."""
MOST_FORMS = 4
GRAMMAR = "grammar"
"""Who heard what was read by the grammar, among the ears."""

Read = Callable[[Span, Grammar], list[tuple[str, int, int]] | None]
"""Decodes a stretch by a grammar: plain words with their edges in samples."""
Way = tuple[int, int, Sequence[str]]
"""What may be said in the place of written words [start, stop)."""


@dataclass(frozen=True, slots=True)
class SaidAgain:
    """A chunk as the grammar reads it, and the written stretches, counted in the chunk's text, that are said more than once."""

    words: tuple[Heard, ...]
    stretches: tuple[tuple[int, int], ...]


def said_again(
    before: Sequence[str], text: Sequence[str], after: Sequence[str], ways: Iterable[Way], sound: Span, read: Read
) -> SaidAgain | None:
    """Read a chunk by the grammar of its text; None where nothing in it is said again.

    Parameters
    ----------
    before, text, after : sequence of str
        The written words of the chunk, and those around it: it may begin with the last ones before it once more, and
        end in a beginning of what comes after it.
    ways : iterable
        What else may be said at places of the text: what the ears heard there.
    sound, read :
        Where the chunk is, and what decodes it.
    """
    before, after = before[-BACK:], after[:AHEAD]
    tokens = [*before, *text, *after]
    start, final = len(before), len(before) + len(text)
    arcs: list[Arc] = []
    said: list[str] = []  # of every arc the token that begins with it, else nothing
    skips: list[tuple[int, int]] = []
    states = len(tokens) + 1

    def lay(at: int, to: int, row: Sequence[str]) -> None:
        """Tokens one after another from state to state, each in any of its spoken forms."""
        nonlocal states
        for k, token in enumerate(row):
            stop = to if k + 1 == len(row) else states
            states += stop == states
            forms = [[w for w in map(plain, form) if phones_of(w)] for form in spoken_forms(token)[:MOST_FORMS]]
            for form in forms:
                here = at
                for n, word in enumerate(form):
                    there = stop if n + 1 == len(form) else states
                    states += there == states
                    arcs.append(Arc(here, there, word))
                    said.append("" if n else token)
                    here = there
                if not form:
                    skips.append((at, stop))
            at = stop
        if not row:
            skips.append((at, to))

    for k, token in enumerate(tokens):
        lay(k, k + 1, [token])
    for lo, hi, row in ways:
        lay(start + lo, start + hi, row)
    numbers = [k for k, token in enumerate(tokens) if any(c.isdigit() for c in token)]  # they have more forms than we know

    def free(lo: int, hi: int) -> bool:
        return not any(lo <= k + 1 and k <= hi for k in numbers)

    jumps = [(k, k - n) for k in range(1, final + 1) for n in range(1, BACK + 1) if k >= max(n, start) and free(k - n, k)]
    jumps += [(k, final) for k in range(final + 1, len(tokens) + 1) if free(final, k)]
    grammar = Grammar(states, start, final, tuple(arcs), tuple(skips), tuple(jumps))
    rows = read(sound, grammar) if text else None
    steps = traced(grammar, [word for word, _, _ in rows]) if rows else None
    stretches = [(max(0, s.jump[1] - start), min(len(text), s.jump[0] - start)) for s in steps or () if s.jump]
    if rows is None or steps is None or not stretches:
        return None
    words: list[Heard] = []
    for step in steps:
        if step.arc is None:
            continue
        _, first, last = rows[step.word]
        if said[step.arc]:
            words.append(Heard(said[step.arc], first, last, 0.5, GRAMMAR))
        else:
            words[-1] = Heard(words[-1].text, words[-1].start, last, 0.5, GRAMMAR)
    return SaidAgain(tuple(words), tuple(stretches))
