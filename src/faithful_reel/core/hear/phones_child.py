"""The helper that fits phones to sound: pocketsphinx keeps Python's lock."""

from __future__ import annotations

from typing import Any

from faithful_reel.core.hear.helper import serve

_WIDE = 1e-300
"""The beams that a fit is looked for in.  In those that the decoder is made with, every sixth text finds a wrong way, or none;
a grammar read in beams of 1e-100 is read another way in every sixteenth chunk."""
_SETTINGS = {"bestpath": False, "loglevel": "FATAL", "beam": _WIDE, "pbeam": _WIDE, "wbeam": _WIDE}
JUMP = 1e-3
"""Likelihood of a grammar's jumps, before the decoder's own weight for such: on the tuning chapters one chunk in eleven takes
one, and four in ten of them rightly.  They are weighed afterwards."""
Segments = list[tuple[str, int, int, float]]
"""Word, first frame, last frame, acoustic score as a likelihood."""


class Fitter:
    """Answers questions about sound, each the same way whatever was asked before."""

    def __init__(self) -> None:
        self._decoders: dict[bool, Any] = {}  # 30 MB each

    def answer(self, asked: tuple[str, bytes, list[tuple[str, str]], Any]) -> Segments | None:
        """Segments of a text or a grammar forced onto 16-bit mono at 16 kHz; None where it does not fit at all.

        Asked are the task, the sound, and pairs of a word and its phones.  "edges" and "fit" force these words, one after
        another; of "fit" the scores of two texts can be compared.  "read" takes the likeliest way through a grammar of
        them: (states, start, final, arcs, skips, jumps).
        """
        task, audio, words, grammar = asked
        comparing = task == "fit"
        if comparing not in self._decoders:
            self._decoders[comparing] = _decoder(comparing=comparing)
        decoder = self._decoders[comparing]
        for word, phones in words:
            if decoder.lookup_word(word) is None:
                decoder.add_word(word, phones or "AH", True)
        decoder.reinit_feat()  # else it goes on with the noise and the mean spectrum of what it was given last
        try:
            if task == "read":
                _, start, final, arcs, skips, jumps = grammar
                ways = [(a, b, 1.0, word) for a, b, word in arcs]
                free = [(a, b, 1.0) for a, b in skips] + [(a, b, JUMP) for a, b in jumps]
                decoder.add_fsg("read", decoder.create_fsg("read", start, final, [*ways, *free]))
                decoder.activate_search("read")
            else:
                decoder.set_align_text(" ".join(word for word, _ in words))
            decoder.start_utt()
            decoder.process_raw(audio, False, True)
            decoder.end_utt()
        except RuntimeError:
            return None
        return [(s.word, s.start_frame, s.end_frame, s.ascore) for s in decoder.seg() or ()]


def _decoder(*, comparing: bool) -> Any:
    from pocketsphinx import Decoder, get_model_path

    return Decoder(
        hmm=get_model_path("en-us/en-us"),
        dict=get_model_path("en-us/cmudict-en-us.dict"),
        lm=None,
        compallsen=comparing,  # only then can the scores of two texts be compared
        **_SETTINGS,
    )


if __name__ == "__main__":
    serve(Fitter().answer)
