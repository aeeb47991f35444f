"""The ears: what was said, found without the manuscript, and how well a given text fits the same sound."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.hear.pauses import Chunk
from faithful_reel.core.hear.weights import Weights
from faithful_reel.core.jobs import Unwatched, Watch, at_once
from faithful_reel.core.units import EAR_RATE, Signal, Span

THREADS = 2
WINDOW = 3000
"""Frames of 10 ms in the recogniser's full window of 30 s."""
TAIL = 200
"""Frames of quiet after a chunk.  A window cut to the chunk is four times as fast as the full one; without this tail
the recogniser does not notice the end and says the last words again."""
MOST_TOKENS = 8.0
"""Tokens a second; more are a loop."""
_WHOLE = threading.Lock()
"""A full window takes 140 MB more while it is heard: one at a time."""
LOOP = 6
"""Tokens in a row; where they come twice it may be a loop, so the chunk is heard again in the full window."""


@dataclass(frozen=True, slots=True)
class Heard:
    """A heard word; `start` and `stop` are samples of the recording at the ear's or the book's rate."""

    text: str
    start: int
    stop: int
    confidence: float
    witness: str = "first"


class Listener(Protocol):
    """Any recogniser: `key` names its weights and its language."""

    witness: str
    key: str

    def words(self, x: Signal, span: Span) -> list[Heard]:
        """What is said in a stretch of a recording at 16 kHz."""


def words_in(ear: Listener, x: Signal, span: Span, memory: Memory) -> list[Heard]:
    """What an ear hears in a stretch, or what it heard there before."""

    def made() -> list[tuple[str, int, int, float]]:
        return [(w.text, w.start - span.start, w.stop - span.start, w.confidence) for w in ear.words(x, span)]

    rows = memory.recalled(x, span, ("words", ear.key), made)
    return [Heard(text, a + span.start, b + span.start, sure, ear.witness) for text, a, b, sure in rows]


def hear(
    ear: Ear, x: Signal, chunks: Sequence[Chunk], watch: Watch | None = None, memory: Memory | None = None
) -> Iterator[list[Heard]]:
    """Recognise all chunks, in order, two at a time; ticks `watch` after each."""
    watch, memory = watch or Unwatched(), memory or Memory()

    def words(chunk: Chunk) -> list[Heard]:
        return words_in(ear, x, chunk.span, memory)

    with ear.busy():
        for done, heard in enumerate(at_once(words, chunks, THREADS), 1):
            yield heard
            watch.tick(done / len(chunks), "listening")


class Ear:
    """A recogniser: int8 on the CPU, temperature 0, beam 1, never prompted."""

    def __init__(self, weights: Weights, *, witness: str = "first", language: str = "en") -> None:
        from faster_whisper import WhisperModel
        from faster_whisper.tokenizer import Tokenizer
        from tqdm import tqdm

        tqdm.monitor_interval = 0  # WORKAROUND: the recogniser makes progress bars, each of which wants a thread for ever

        self.weights, self.witness = weights, witness
        self.key = f"{weights.sha256} {language}"
        self._waking = threading.Lock()
        self._users = 0
        self._model = WhisperModel(
            str(weights.folder), device="cpu", compute_type="int8", cpu_threads=1, num_workers=THREADS, local_files_only=True
        )
        multilingual = self._model.model.is_multilingual
        self._tokenizer = Tokenizer(
            self._model.hf_tokenizer,
            multilingual,
            task="transcribe" if multilingual else None,
            language=language if multilingual else None,
        )

    @contextmanager
    def busy(self) -> Iterator[None]:
        """Hold the weights while a pass goes on, so that another job's `rest` does not take them away."""
        with self._waking:
            self._users += 1
            if not self._model.model.model_is_loaded:
                self._model.model.load_model()
        try:
            yield
        finally:
            with self._waking:
                self._users -= 1

    def rest(self) -> None:
        """Let go of the weights until the next pass; not while one goes on."""
        with self._waking:
            if not self._users:
                self._model.model.unload_model()

    def words(self, x: Signal, span: Span) -> list[Heard]:
        """What is said in a stretch of a recording at 16 kHz, at most 30 s of it."""
        audio = np.ascontiguousarray(x[span.start : span.stop], dtype=np.float32)
        return _InWindow(self, self._model.feature_extractor(audio)[..., :-1], span).words()


def _comes_twice(tokens: Sequence[int]) -> bool:
    runs = [tuple(tokens[k : k + LOOP]) for k in range(len(tokens) - LOOP + 1)]
    return len(set(runs)) < len(runs)


class _InWindow:
    """One stretch of sound, encoded."""

    def __init__(self, ear: Ear, features: NDArray[np.float32], span: Span) -> None:
        self._ear, self._features, self._span = ear, features, span
        self._frames = min(features.shape[-1], WINDOW)
        self._encoded = self._encode(min(WINDOW, self._frames + TAIL))

    def _encode(self, size: int) -> Any:
        size += size % 2
        padded = np.full((self._features.shape[0], size), self._features.min(), np.float32)  # what silence is extracted to
        padded[:, : self._frames] = self._features[:, : self._frames]
        return self._ear._model.encode(padded)

    def _tokens(self) -> list[int]:
        tokenizer = self._ear._tokenizer
        prompt = [*tokenizer.sot_sequence, tokenizer.no_timestamps]
        result = self._ear._model.model.generate(self._encoded, [prompt], beam_size=1, sampling_temperature=0.0, max_length=224)[
            0
        ]
        return [t for t in result.sequences_ids[0] if t < tokenizer.eot]

    def words(self) -> list[Heard]:
        tokens = self._tokens()
        if len(tokens) > MOST_TOKENS * self._frames / 100 + 8 or _comes_twice(tokens):
            with _WHOLE:
                self._encoded = self._encode(WINDOW)
                tokens = self._tokens()
        if not tokens:
            return []
        tokenizer, span = self._ear._tokenizer, self._span
        forced = self._ear._model.model.align(self._encoded, tokenizer.sot_sequence, [tokens], self._frames)[0]
        texts, parts = tokenizer.split_to_word_tokens([*tokens, tokenizer.eot])
        stamps = np.full(len(tokens) + 1, self._frames / 50 / 2)  # seconds at which every token starts
        for token, frame in reversed(forced.alignments):
            if token <= len(tokens):
                stamps[token] = frame * 0.02
        heard: list[Heard] = []
        at = 0
        for text, part in zip(texts[:-1], parts[:-1], strict=True):
            start, stop = (span.start + round(float(stamps[min(k, len(tokens))]) * EAR_RATE) for k in (at, at + len(part)))
            sure = float(np.mean(forced.text_token_probs[at : at + len(part)]))
            at += len(part)
            start = min(max(start, span.start), span.stop - 1)
            word = Heard(text.strip(), start, min(max(stop, start + 1), span.stop), sure, self._ear.witness)
            if heard and not text.startswith(" "):
                last = heard[-1]
                word = Heard(
                    last.text + word.text, last.start, max(last.stop, word.stop), min(last.confidence, sure), last.witness
                )
                heard[-1] = word
            elif word.text:
                heard.append(word)
        return heard
