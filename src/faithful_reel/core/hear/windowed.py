"""The recognisers that hear in windows: int8 on the CPU, temperature 0, beam 1, never prompted.

They are run in a helper process, see `ears_child`.
"""

from __future__ import annotations

import threading
from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.errors import EarMissing
from faithful_reel.core.units import EAR_RATE, Signal

Row = tuple[str, int, int, float]
"""A heard word, its first and last sample in the stretch that was asked about, and how sure."""
WINDOW = 3000
"""Frames of 10 ms in the recogniser's full window of 30 s."""
TAIL = 200
"""Frames of quiet after a chunk.  A window cut to the chunk is four times as fast as the full one; without this tail
the recogniser does not notice the end and says the last words again."""
MOST_TOKENS = 8.0
"""Tokens a second; more are a loop."""
FRAME_S = 0.02
"""A frame of the encoder."""
AT_ONCE = 2
"""Threads that may ask together."""
LOOP = 6
"""Tokens in a row that come twice where it may be a loop."""
SQUEEZED = 0.5
"""Share of the tokens said again that take no time in the sound, from which on it is one; then the chunk is heard again in the
full window.  In chapters 1 to 6 of the ears' benchmark nearly all of a loop take none, and of what is read twice none does."""
_WHOLE, _ENCODING = threading.Lock(), threading.Semaphore(AT_ONCE)
"""A full window takes 140 MB more while it is encoded: one at a time, and nothing beside it."""


class Windowed:
    """A recogniser whose model lies in a folder; `AT_ONCE` threads may ask it together.

    Raises
    ------
    EarMissing
        The model can not be loaded.
    """

    def __init__(self, folder: Path, language: str) -> None:
        from faster_whisper import WhisperModel
        from faster_whisper.tokenizer import Tokenizer

        try:
            self._whole = WhisperModel(
                str(folder), device="cpu", compute_type="int8", cpu_threads=1, num_workers=AT_ONCE, local_files_only=True
            )
        except (RuntimeError, ValueError, OSError) as error:
            raise EarMissing(
                f"The ear in the folder {folder.name} can not be loaded ({error}). Choose another folder in the settings."
            ) from error
        self.model: Any = self._whole.model
        multilingual = self.model.is_multilingual
        self.tokenizer = Tokenizer(
            self._whole.hf_tokenizer,
            multilingual,
            task="transcribe" if multilingual else None,
            language=language if multilingual else None,
        )

    def encode(self, features: NDArray[np.float32]) -> Any:
        """The sound, (bands, frames), as the decoder takes it."""
        return self._whole.encode(features)

    def words(self, audio: Signal) -> list[Row]:
        """What is said in at most 30 s of (n,) audio at 16 kHz."""
        features = self._whole.feature_extractor(audio)[..., :-1]
        return _InWindow(self, features, len(audio)).words()


def _looped(tokens: Sequence[int], stamps: NDArray[np.float64]) -> bool:
    """Whether tokens are said again that take no time; `stamps` are where each starts, and the last one ends, in seconds."""
    seen: set[tuple[int, ...]] = set()
    again = np.zeros(len(tokens), bool)
    for k in range(len(tokens) - LOOP + 1):
        run = tuple(tokens[k : k + LOOP])
        again[k : k + LOOP] |= run in seen
        seen.add(run)
    return bool(again.any()) and float(np.mean(np.diff(stamps)[again] < 1.5 * FRAME_S)) >= SQUEEZED


class _InWindow:
    """One stretch of sound, encoded."""

    def __init__(self, ear: Windowed, features: NDArray[np.float32], length: int) -> None:
        self._ear, self._features, self._length = ear, features, length
        self._frames = min(features.shape[-1], WINDOW)
        self._encoded = self._encode(min(WINDOW, self._frames + TAIL))

    def _encode(self, size: int) -> Any:
        size += size % 2
        padded = np.full((self._features.shape[0], size), self._features.min(), np.float32)  # what silence is extracted to
        padded[:, : self._frames] = self._features[:, : self._frames]
        with ExitStack() as alone:
            if size == WINDOW:
                alone.enter_context(_WHOLE)
            for _ in range(AT_ONCE if size == WINDOW else 1):
                alone.enter_context(_ENCODING)
            return self._ear.encode(padded)

    def _tokens(self) -> list[int]:
        tokenizer = self._ear.tokenizer
        prompt = [*tokenizer.sot_sequence, tokenizer.no_timestamps]
        result = self._ear.model.generate(self._encoded, [prompt], beam_size=1, sampling_temperature=0.0, max_length=224)[0]
        return [t for t in result.sequences_ids[0] if t < tokenizer.eot]

    def _placed(self, tokens: list[int]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Seconds at which every token starts, and the last one ends; and how sure each is."""
        forced = self._ear.model.align(self._encoded, self._ear.tokenizer.sot_sequence, [tokens], self._frames)[0]
        stamps = np.full(len(tokens) + 1, self._frames / 100)
        for token, frame in reversed(forced.alignments):
            if token <= len(tokens):
                stamps[token] = frame * FRAME_S
        return stamps, np.array(forced.text_token_probs)

    def words(self) -> list[Row]:
        tokens = self._tokens()
        placed = self._placed(tokens) if 0 < len(tokens) <= MOST_TOKENS * self._frames / 100 + 8 else None
        if tokens and (placed is None or _looped(tokens, placed[0])):
            self._encoded = None  # before its larger one is made
            self._encoded = self._encode(WINDOW)
            tokens = self._tokens()
            placed = self._placed(tokens) if tokens else None
        if placed is None:
            return []
        stamps, probs = placed
        texts, parts = self._ear.tokenizer.split_to_word_tokens([*tokens, self._ear.tokenizer.eot])
        rows: list[Row] = []
        at = 0
        for text, part in zip(texts[:-1], parts[:-1], strict=True):
            start, stop = (round(float(stamps[min(k, len(tokens))]) * EAR_RATE) for k in (at, at + len(part)))
            sure = float(np.mean(probs[at : at + len(part)]))
            at += len(part)
            start = min(max(start, 0), self._length - 1)
            stop = min(max(stop, start + 1), self._length)
            if rows and not text.startswith(" "):
                before, begun, ended, p = rows[-1]
                rows[-1] = before + text.strip(), begun, max(ended, stop), min(p, sure)
            elif text.strip():
                rows.append((text.strip(), start, stop, sure))
        return rows
