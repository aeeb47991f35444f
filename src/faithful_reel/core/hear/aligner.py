"""Word edges: forced alignment of short chunks to the words that were heard in them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from faithful_reel.core.audio.roomtone import frame_levels
from faithful_reel.core.hear.pronounce import phones_of
from faithful_reel.core.units import EAR_RATE, Signal, Span

FRAME = EAR_RATE // 100
CENTRE = 205
"""Samples from a frame's index to the middle of its 25.6 ms window, where its edge really lies."""
REFINE_S = 0.02
"""An edge beside a pause is moved to where the energy leaves the floor, at most this far."""
_SETTINGS = {"bestpath": False, "loglevel": "FATAL"}


@dataclass(frozen=True, slots=True)
class Aligned:
    """Edges of one spoken word in samples of the recording at 16 kHz, and its acoustic score per frame."""

    start: int
    stop: int
    score: float


@lru_cache(maxsize=4096)
def _seen(word: str) -> tuple[str, str]:
    return "w" + "".join(c if c.isalpha() else "_" for c in word), " ".join(phones_of(word))


class Aligner:
    """Wraps one pocketsphinx decoder; not for use by two threads at once."""

    def __init__(self) -> None:
        from pocketsphinx import Decoder, get_model_path

        self._decoder = Decoder(
            hmm=get_model_path("en-us/en-us"), dict=get_model_path("en-us/cmudict-en-us.dict"), lm=None, **_SETTINGS
        )
        self._log_base = math.log(1.0001)

    def align(self, x: Signal, span: Span, words: Sequence[str]) -> tuple[list[Aligned], float] | None:
        """Place `words`, plain and in order, in `span` of a recording at 16 kHz.

        Returns the edges of every word and the total acoustic score in thousands of the decoder's log units, or None
        where the words do not fit the sound at all.
        """
        decoder = self._decoder
        for word in words:
            if decoder.lookup_word(word) is None:
                decoder.add_word(word, " ".join(phones_of(word)) or "AH", True)
        audio = (np.clip(x[span.start : span.stop], -1, 1) * 32767).astype(np.int16)
        try:
            decoder.set_align_text(" ".join(words))
            decoder.start_utt()
            decoder.process_raw(audio.tobytes(), False, True)
            decoder.end_utt()
        except RuntimeError:
            return None
        placed: list[Aligned] = []
        total = 0.0
        for segment in decoder.seg() or ():
            score = math.log(max(segment.ascore, 1e-300)) / self._log_base
            total += score
            if segment.word.startswith(("<", "[", "+")):
                continue
            start = span.start + segment.start_frame * FRAME + CENTRE
            stop = span.start + (segment.end_frame + 1) * FRAME + CENTRE
            frames = max(1, segment.end_frame + 1 - segment.start_frame)
            placed.append(Aligned(min(start, span.stop - 1), min(max(stop, start + 1), span.stop), score / frames))
        if len(placed) != len(words):
            return None
        return placed, total / 1000


def refined(x: Signal, placed: Sequence[Aligned]) -> list[Aligned]:
    """Move edges that face a pause to where the energy crosses half way (in dB) from floor to word, at most `REFINE_S`."""
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
    levels = frame_levels(x[lo:hi], round(step / 0.02)) if hi - lo >= 4 * step else np.zeros(0)
    if len(levels) < 4 or levels.max() - levels.min() < 10:
        return at
    limit = (levels.max() + levels.min()) / 2 - 4
    loud = np.flatnonzero(levels > limit)
    found = lo + int(loud[0] if rising else loud[-1] + 1) * step
    return int(np.clip(found, at - reach, at + reach))
