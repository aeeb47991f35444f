"""A child process that fits phones to sound: pocketsphinx keeps Python's lock, so it works beside us, not among us.

Run as `python -m faithful_reel.core.hear.phones_child`: pickled requests on standard input, pickled answers on standard
output, until the input ends.  It imports nothing else of ours.
"""

from __future__ import annotations

import pickle
import sys
from typing import Any

_SETTINGS = {"bestpath": False, "loglevel": "FATAL"}


def _decoder(*, comparing: bool) -> Any:
    from pocketsphinx import Decoder, get_model_path

    return Decoder(
        hmm=get_model_path("en-us/en-us"),
        dict=get_model_path("en-us/cmudict-en-us.dict"),
        lm=None,
        compallsen=comparing,  # only then can the scores of two texts be compared
        **_SETTINGS,
    )


def fitted(decoder: Any, audio: bytes, words: list[tuple[str, str]]) -> list[tuple[str, int, int, float]] | None:
    """Segments (word, first frame, last frame, acoustic score as a likelihood) of a text forced onto sound.

    `audio` is 16-bit mono at 16 kHz, `words` are pairs of a word and its phones.  None where they do not fit at all.
    """
    for word, phones in words:
        if decoder.lookup_word(word) is None:
            decoder.add_word(word, phones or "AH", True)
    try:
        decoder.set_align_text(" ".join(word for word, _ in words))
        decoder.start_utt()
        decoder.process_raw(audio, False, True)
        decoder.end_utt()
    except RuntimeError:
        return None
    return [(s.word, s.start_frame, s.end_frame, s.ascore) for s in decoder.seg() or ()]


def main() -> None:
    """Answer until nobody asks."""
    decoder: Any = None
    made_for: bool | None = None
    out = sys.stdout.buffer
    while True:
        try:
            comparing, audio, words = pickle.load(sys.stdin.buffer)  # noqa: S301 - our own parent's question
        except EOFError:
            return
        if comparing is not made_for:  # one at a time: each takes 30 MB
            decoder = None
            decoder, made_for = _decoder(comparing=comparing), comparing
        pickle.dump(fitted(decoder, audio, words), out)
        out.flush()


if __name__ == "__main__":
    main()
