"""A grammar of words: ways through a chunk's sound that a decoder may take."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Arc:
    """A word between two states."""

    start: int
    stop: int
    word: str


@dataclass(frozen=True, slots=True)
class Grammar:
    """States from 0 to `states`, arcs with words, and steps without a word: `skips` are free, `jumps` cost something."""

    states: int
    start: int
    final: int
    arcs: tuple[Arc, ...]
    skips: tuple[tuple[int, int], ...]
    jumps: tuple[tuple[int, int], ...]


@dataclass(frozen=True, slots=True)
class _Reached:
    """A state that was reached: by how many jumps, from where, and by which arc or jump."""

    jumps: int
    before: _Reached | None = None
    arc: int | None = None
    jump: tuple[int, int] | None = None


@dataclass(frozen=True, slots=True)
class Step:
    """One step of a way: arc `arc` spoken by word number `word`, or the jump `jump`."""

    arc: int | None
    word: int
    jump: tuple[int, int] | None = None


def traced(grammar: Grammar, words: Sequence[str]) -> list[Step] | None:
    """The way through a grammar that speaks `words` with the fewest jumps; None where there is none."""
    by_word: dict[str, list[int]] = {}
    for k, arc in enumerate(grammar.arcs):
        by_word.setdefault(arc.word, []).append(k)
    at = _closed(grammar, {grammar.start: _Reached(0)})
    for word in words:
        after: dict[int, _Reached] = {}
        for k in by_word.get(word, ()):
            arc = grammar.arcs[k]
            if arc.start in at and (arc.stop not in after or at[arc.start].jumps < after[arc.stop].jumps):
                after[arc.stop] = _Reached(at[arc.start].jumps, at[arc.start], arc=k)
        at = _closed(grammar, after)
    reached = at.get(grammar.final)
    steps: list[Step] = []
    spoken = len(words)
    while reached is not None:
        if reached.arc is not None:
            spoken -= 1
            steps.append(Step(reached.arc, spoken))
        elif reached.jump is not None:
            steps.append(Step(None, spoken, reached.jump))
        reached = reached.before
    return steps[::-1] if grammar.final in at else None


def _closed(grammar: Grammar, at: dict[int, _Reached]) -> dict[int, _Reached]:
    """The states that can be reached from some without a word."""
    changed = bool(at)
    while changed:
        changed = False
        for steps, cost in ((grammar.skips, 0), (grammar.jumps, 1)):
            for step in steps:
                start, stop = step
                if start in at and (stop not in at or at[start].jumps + cost < at[stop].jumps):
                    at[stop] = _Reached(at[start].jumps + cost, at[start], jump=step if cost else None)
                    changed = True
    return at
