"""The helper that fits phones to sound: pocketsphinx keeps Python's lock."""

from __future__ import annotations

from typing import Any

from faithful_reel.core.hear.helper import serve

_WIDE, _NARROW = 1e-300, 1e-60
"""The beams that a text is fitted in: in those that the decoder is made with, every sixth finds a wrong way, or none.  And those
that a grammar is read in, which only proposes."""
_OF_TASK: dict[str, dict[str, object]] = {
    "edges": {"beam": _WIDE},
    "fit": {"beam": _WIDE, "compallsen": True},  # only then can the scores of two texts be compared
    "read": {"beam": _NARROW, "topn": 2, "pl_window": 5},  # with the same repeats on the tuning chapters, three times as fast
}


JUMP = 1e-3
"""Likelihood of a grammar's jumps, before the decoder's own weight for such: on the tuning chapters one chunk in fifteen
takes one, and four in ten of them rightly.  They are weighed afterwards."""
Segments = list[tuple[str, int, int, float]]
"""Word, first frame, last frame, acoustic score as a likelihood."""


class Fitter:
    """Answers questions about sound, each the same way whatever was asked before."""

    def __init__(self) -> None:
        self._decoders: dict[str, Any] = {}  # 30 MB each

    def answer(self, asked: tuple[str, bytes, list[tuple[str, str]], Any]) -> Segments | None:
        """Segments of a text or a grammar forced onto 16-bit mono at 16 kHz; None where it does not fit at all.

        Asked are the task, the sound, and pairs of a word and its phones.  "edges" and "fit" force these words, one after
        another; of "fit" the scores of two texts can be compared.  "read" takes the likeliest way through a grammar of
        them: (states, start, final, arcs, skips, jumps).
        """
        task, audio, words, grammar = asked
        if task not in self._decoders:
            self._decoders[task] = _decoder(**_OF_TASK[task])
        decoder = self._decoders[task]
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


def _decoder(*, beam: object, **more: object) -> Any:
    from pocketsphinx import Decoder, get_model_path

    hmm, words = (get_model_path(name) for name in ("en-us/en-us", "en-us/cmudict-en-us.dict"))
    beams = {"beam": beam, "pbeam": beam, "wbeam": beam}
    return Decoder(hmm=hmm, dict=words, lm=None, bestpath=False, loglevel="FATAL", **beams, **more)


if __name__ == "__main__":
    serve(Fitter().answer)
