"""The ear: what was said, found without the manuscript, and how well a given text fits the same sound."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from faithful_reel.core.hear.pauses import Chunk
from faithful_reel.core.hear.weights import Weights
from faithful_reel.core.jobs import Unwatched, Watch
from faithful_reel.core.units import EAR_RATE, Signal, Span

THREADS = 2
WINDOW = 3000
"""Frames of 10 ms in the recogniser's window of 30 s."""


@dataclass(frozen=True, slots=True)
class Heard:
    """A heard word; `start` and `stop` are samples of the recording at the ear's or the book's rate."""

    text: str
    start: int
    stop: int
    confidence: float
    witness: str = "first"


class Ear:
    """A recogniser: int8 on the CPU, temperature 0, beam 1, never prompted.

    `hear` and `judge` may be called from any thread.
    """

    def __init__(self, weights: Weights, *, witness: str = "first") -> None:
        from faster_whisper import WhisperModel
        from faster_whisper.tokenizer import Tokenizer
        from tqdm import tqdm

        tqdm.monitor_interval = 0  # WORKAROUND: the recogniser makes progress bars, each of which wants a thread for ever

        self.weights, self.witness = weights, witness
        self._model = WhisperModel(
            str(weights.folder), device="cpu", compute_type="int8", cpu_threads=1, num_workers=THREADS, local_files_only=True
        )
        multilingual = self._model.model.is_multilingual
        self._tokenizer = Tokenizer(
            self._model.hf_tokenizer,
            multilingual,
            task="transcribe" if multilingual else None,
            language="en" if multilingual else None,
        )

    def hear_chunk(self, x: Signal, chunk: Chunk) -> list[Heard]:
        """Recognise one chunk of a recording at 16 kHz; times are the recogniser's own, good to about 0.1 s."""
        segments, _ = self._model.transcribe(
            np.ascontiguousarray(x[chunk.span.start : chunk.span.stop], dtype=np.float32),
            language="en",
            beam_size=1,
            temperature=0.0,
            word_timestamps=True,
            condition_on_previous_text=False,
            no_speech_threshold=None,
            log_prob_threshold=None,
            compression_ratio_threshold=None,
            vad_filter=False,
        )
        heard = []
        for segment in segments:
            for word in segment.words or ():
                text = word.word.strip()
                if text:
                    start = chunk.span.start + round(word.start * EAR_RATE)
                    stop = max(start + 1, chunk.span.start + round(word.end * EAR_RATE))
                    heard.append(
                        Heard(
                            text,
                            min(start, chunk.span.stop - 1),
                            min(stop, chunk.span.stop),
                            float(word.probability),
                            self.witness,
                        )
                    )
        return heard

    def hear(self, x: Signal, chunks: Sequence[Chunk], watch: Watch | None = None) -> Iterator[list[Heard]]:
        """Recognise all chunks, in order, two at a time; ticks `watch` after each."""
        watch = watch or Unwatched()
        with ThreadPoolExecutor(THREADS, thread_name_prefix="ear") as pool:
            futures = [pool.submit(self.hear_chunk, x, chunk) for chunk in chunks]
            try:
                for done, future in enumerate(futures, 1):
                    yield future.result()
                    watch.tick(done / len(futures), "listening")
            finally:
                for future in futures:
                    future.cancel()

    def judge(
        self, x: Signal, span: Span, texts_of: Callable[[list[str] | None], Sequence[str]], *, listening: bool
    ) -> list[float]:
        """Log probability (nats) of texts given the sound of `span`: the recogniser as witness, and as second ear.

        All texts are forced through the decoder over the same seconds, so that the difference of two of them says
        which one the sound, and the ear's sense of language, bear out.  The sound is encoded once for all of it.

        Parameters
        ----------
        texts_of : callable
            Given what this ear hears in the span, as tokens (None unless `listening`), returns the texts to score.
        listening : bool
            Whether to recognise the span first.
        """
        audio = np.ascontiguousarray(x[span.start : span.stop], dtype=np.float32)
        features = self._model.feature_extractor(audio)[..., :-1]
        frames = min(features.shape[-1], WINDOW)
        padded = np.full((features.shape[0], WINDOW), features.min(), np.float32)  # what the extractor gives for silence
        padded[:, :frames] = features[:, :frames]
        encoded = self._model.encode(padded)
        heard = None
        if listening:
            prompt = [*self._tokenizer.sot_sequence, self._tokenizer.no_timestamps]
            result = self._model.model.generate(encoded, [prompt], beam_size=1, sampling_temperature=0.0, max_length=224)[0]
            tokens = [t for t in result.sequences_ids[0] if t < self._tokenizer.eot]
            heard = self._tokenizer.decode(tokens).split()
        scores: list[float] = []
        for text in texts_of(heard):
            tokens = self._tokenizer.encode(" " + text.strip()) or [self._tokenizer.eot]
            forced = self._model.model.align(encoded, self._tokenizer.sot_sequence, [tokens], frames)[0]
            scores.append(sum(math.log(max(p, 1e-12)) for p in forced.text_token_probs))
        return scores
