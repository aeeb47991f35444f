"""The ears: what was said, found without the manuscript.  The recognisers themselves work in helper processes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from faithful_reel.core.hear.helper import Helper
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.hear.pauses import Chunk
from faithful_reel.core.hear.weights import Weights
from faithful_reel.core.jobs import Unwatched, Watch, at_once
from faithful_reel.core.text.spoken import plain
from faithful_reel.core.units import Signal, Span

WAY = 2
"""Goes up with any change of how a recogniser hears, so that what it heard before is not taken for it."""
THREADS = 2
"""Chunks that are heard at once."""


@dataclass(frozen=True, slots=True)
class Heard:
    """A heard word; `start` and `stop` are samples of the recording at the ear's or the book's rate."""

    text: str
    start: int
    stop: int
    confidence: float
    witness: str = "first"


class Ear:
    """A recogniser that works in a helper process, which several ears may share.

    Parameters
    ----------
    weights : Weights
        The model; its hash and the language are the ear's `key`.
    helper : Helper
        A process of `ears_child`.
    windowed : bool
        Whether the model is of the make that hears in windows, else of the one that takes sound of any length.
    """

    def __init__(self, weights: Weights, helper: Helper, witness: str, *, language: str = "en", windowed: bool = True) -> None:
        self.weights, self.witness, self._helper = weights, witness, helper
        self.key = f"{weights.sha256} {language} {WAY}"
        self._recipe = str(weights.folder), language, windowed

    def busy(self) -> AbstractContextManager[None]:
        """Hold the ear while a pass goes on, so that another job's `rest` does not take it away."""
        return self._helper.busy()

    def rest(self) -> None:
        """Give back the memory that the ear takes until the next pass; not while one goes on."""
        self._helper.rest()

    def words(self, x: Signal, span: Span) -> list[Heard]:
        """What is said in a stretch of (n,) audio at 16 kHz, at most 30 s of it."""
        audio = np.ascontiguousarray(x[span.start : span.stop], dtype=np.float32)
        rows: list[Any] = self._helper.ask((self._recipe, audio))
        return [Heard(text, span.start + start, span.start + stop, sure, self.witness) for text, start, stop, sure in rows]


@contextmanager
def passing(*ears: Ear) -> Iterator[None]:
    """A pass by some ears: they are held while it goes on, and give back what they took when it ends, however it ends."""
    with ExitStack() as stack:
        for ear in ears:
            stack.callback(ear.rest)
        for ear in ears:
            stack.enter_context(ear.busy())
        yield


def words_in(ear: Ear, x: Signal, span: Span, memory: Memory) -> list[Heard]:
    """What an ear hears in a stretch of (n,) audio, or what it heard there before."""

    def made() -> list[tuple[str, int, int, float]]:
        return [(w.text, w.start - span.start, w.stop - span.start, w.confidence) for w in ear.words(x, span)]

    rows = memory.recalled(x, span, ("words", ear.key), made)
    heard = [Heard(text, a + span.start, b + span.start, sure, ear.witness) for text, a, b, sure in rows]
    return [part for word in heard for part in _singly(word)]


def _singly(word: Heard) -> list[Heard]:
    """A word said twice that an ear writes as one ("hand-hand"), as the two it is."""
    parts = word.text.split("-")
    if len(parts) < 2 or not parts[0] or len({plain(p) for p in parts}) > 1:
        return [word]
    cuts = [word.start + (word.stop - word.start) * k // len(parts) for k in range(len(parts) + 1)]
    return [replace(word, text=part, start=cuts[k], stop=cuts[k + 1]) for k, part in enumerate(parts)]


def hear(
    ear: Ear, x: Signal, chunks: Sequence[Chunk], watch: Watch | None = None, memory: Memory | None = None
) -> Iterator[list[Heard]]:
    """Recognise all chunks of (n,) audio at 16 kHz, in order, two at a time; ticks `watch` after each."""
    watch, memory = watch or Unwatched(), memory or Memory()

    def words(chunk: Chunk) -> list[Heard]:
        return words_in(ear, x, chunk.span, memory)

    with ear.busy():
        for done, heard in enumerate(at_once(words, chunks, THREADS), 1):
            yield heard
            watch.tick(done / len(chunks), "listening")
