"""Word edges, and how well a text fits the sound: forced alignment of short stretches, in helper processes."""

from __future__ import annotations

import math
import queue
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from types import TracebackType
from typing import Any, Self

import numpy as np

from faithful_reel.core.audio.roomtone import levels_of_frames
from faithful_reel.core.hear.grammar import Grammar
from faithful_reel.core.hear.helper import Helper
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.hear.pronounce import phones_of
from faithful_reel.core.text.spoken import plain, spoken_forms
from faithful_reel.core.units import EAR_RATE, Signal, Span

FRAME = EAR_RATE // 100
CENTRE = 205
"""Samples from a frame's index to the middle of its 25.6 ms window, where its edge really lies."""
REFINE_S = 0.02
"""An edge beside a pause is moved to where the energy leaves the floor, at most this far."""
HELPERS = 2
Fitted = tuple[str, int, int, float]
"""A word, its first and last frame, its acoustic likelihood."""
BEHIND = 690.0
"""Nats by which a text is worse that the decoder drops beside another one: its beams are 1e-300 wide."""
_SHIFT = 1024
"""The decoder's scores are shifted right by ten bits."""


@dataclass(frozen=True, slots=True)
class Aligned:
    """Edges of one spoken word in samples of the recording at 16 kHz, and its acoustic score per frame."""

    start: int
    stop: int
    score: float


class Aligner:
    """Two helper processes that are started when they are first needed; may be asked by any thread, about one recording.

    Use it as a context manager, or call `close`.
    """

    def __init__(self, memory: Memory | None = None) -> None:
        self._memory = memory or Memory()
        self._helpers = [Helper("faithful_reel.core.hear.phones_child") for _ in range(HELPERS)]
        self._free: queue.SimpleQueue[Helper] = queue.SimpleQueue()
        for helper in self._helpers:
            self._free.put(helper)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        """End the helpers."""
        for helper in self._helpers:
            helper.rest()

    def _asked(self, request: object) -> Any:
        helper = self._free.get()
        try:
            return helper.ask(request)
        finally:
            self._free.put(helper)

    def _answered(self, x: Signal, span: Span, task: str, words: object, how: Iterable[str], grammar: object = ()) -> Any:
        """What a helper answers about a stretch, or once answered; see `Fitter.answer`."""

        def made() -> Any:
            audio = (np.clip(x[span.start : span.stop], -1, 1) * 32767).astype(np.int16).tobytes()
            return self._asked((task, audio, words, grammar))

        return self._memory.recalled(x, span, ("phones in wide beams", task, *how, repr(grammar)), made)

    def _fitted(
        self, x: Signal, span: Span, words: Iterable[str], task: str, grammar: tuple[object, ...] = ()
    ) -> list[Fitted] | None:
        spelt = [_spelt(word) for word in words]
        rows = self._answered(x, span, task, spelt, (part for pair in spelt for part in pair), grammar)
        return None if rows is None else [(word, first, last, likelihood) for word, first, last, likelihood in rows]

    def align(self, x: Signal, span: Span, words: Sequence[str]) -> list[Aligned] | None:
        """Place `words`, plain and in order, in `span` of (n,) audio at 16 kHz; None where they do not fit at all."""
        placed: list[Aligned] = []
        for _, first, last, likelihood in _spoken(self._fitted(x, span, words, "edges") or ()):
            start, stop = _edges(span, first, last)
            placed.append(Aligned(start, stop, _nats(likelihood) / max(1, last + 1 - first)))
        return placed if len(placed) == len(words) else None

    def edges(self, x: Signal, span: Span, spoken: Iterable[tuple[int, Sequence[str]]]) -> dict[int, Span]:
        """Where tokens, by number and with their spoken words, are said in `span` of (n,) audio; none where they do not fit.

        Edges that face a pause lie where its energy says so, see `refined`.
        """
        pairs = [(plain(word), token) for token, words in spoken for word in words if phones_of(word)]
        placed = self.align(x, span, [word for word, _ in pairs]) if pairs else None
        found: dict[int, Span] = {}
        for (_, token), word in zip(pairs, refined(x, placed) if placed else (), strict=False):
            found[token] = Span(found[token].start if token in found else word.start, word.stop)
        return found

    def read(self, x: Signal, span: Span, grammar: Grammar) -> list[tuple[str, int, int]] | None:
        """The likeliest way through a grammar of plain words in `span` of (n,) audio; None where none fits.

        What is said, with edges in samples.
        """
        rows = tuple((a.start, a.stop, a.word) for a in grammar.arcs)
        how = grammar.states, grammar.start, grammar.final, rows, grammar.skips, grammar.jumps
        found = self._fitted(x, span, dict.fromkeys(a.word for a in grammar.arcs), "read", how)
        return None if found is None else [(re.sub(r"\(\d+\)$", "", w), *_edges(span, a, b)) for w, a, b, _ in _spoken(found)]

    def fits(self, x: Signal, span: Span, texts: Sequence[Sequence[str]]) -> list[float | None]:
        """Acoustic log likelihoods, in nats, of several texts by their phones alone; None of one that does not fit at all.

        Of `span` of (n,) audio at 16 kHz.  Only their differences mean something, and only those of one call.  A text that
        falls behind the others on the way is told to be worse than the best by `BEHIND`.
        """
        spelt = [[_spelt(plain(w)) for token in text for w in spoken_forms(token)[0] if phones_of(w)] for text in texts]
        span = Span(span.start, max(span.start, min(span.stop, len(x))))
        if len(span) < 10 * FRAME:
            return [None] * len(texts)
        how = (part for text in spelt for part in ("", *(part for pair in text for part in pair)))
        found = self._answered(x, span, "fits", spelt, how)
        scores = [sum(map(_nats, likelihoods)) if likelihoods else None for likelihoods in found]
        best = max((score for score in scores if score is not None), default=0.0)
        return [best - BEHIND if found[k] == [] else score for k, score in enumerate(scores)]


def _spelt(word: str) -> tuple[str, str]:
    return word, " ".join(phones_of(word))


def _spoken(rows: Sequence[Fitted]) -> list[Fitted]:
    """Those that are words, not pauses or noises or steps of a grammar."""
    return [row for row in rows if not row[0].startswith(("<", "[", "+", "("))]


def _edges(span: Span, first: int, last: int) -> tuple[int, int]:
    """Samples of a word's frames."""
    start, stop = (span.start + frame * FRAME + CENTRE for frame in (first, last + 1))
    start = min(start, span.stop - 1)
    return start, min(max(stop, start + 1), span.stop)


def _nats(likelihood: float) -> float:
    return math.log(max(likelihood, 1e-300)) * _SHIFT


def refined(x: Signal, placed: Sequence[Aligned]) -> list[Aligned]:
    """Move edges in (n,) audio that face a pause to where its energy crosses half way (in dB) from floor to word.

    At most by `REFINE_S`.
    """
    reach = int(REFINE_S * EAR_RATE)
    step = EAR_RATE // 500
    out = list(placed)
    for index, word in enumerate(placed):
        before = placed[index - 1].stop if index else 0
        after = placed[index + 1].start if index + 1 < len(placed) else len(x)
        start, stop = word.start, word.stop
        if start - before > 0.06 * EAR_RATE:
            start = _crossing(x, start, reach, step, rising=True)
        if after - stop > 0.06 * EAR_RATE:
            stop = _crossing(x, stop, reach, step, rising=False)
        if stop > start:
            out[index] = Aligned(start, stop, word.score)
    return out


def _crossing(x: Signal, at: int, reach: int, step: int, *, rising: bool) -> int:
    lo, hi = max(0, at - 2 * reach), min(len(x), at + 2 * reach)
    levels = levels_of_frames(x[lo:hi], step) if hi - lo >= 4 * step else np.zeros(0)
    if len(levels) < 4 or levels.max() - levels.min() < 10:
        return at
    limit = (levels.max() + levels.min()) / 2 - 4
    loud = np.flatnonzero(levels > limit)
    found = lo + int(loud[0] if rising else loud[-1] + 1) * step
    return int(np.clip(found, at - reach, at + reach))
