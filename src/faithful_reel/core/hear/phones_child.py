"""The helper that fits phones to sound: pocketsphinx keeps Python's lock."""

from __future__ import annotations

from typing import Any

from faithful_reel.core.hear.helper import serve

_WIDE = 1e-300
"""The beams that a fit is looked for in.  In those that the decoder is made with, every sixth text finds a wrong way, or none."""
_SETTINGS = {"bestpath": False, "loglevel": "FATAL", "beam": _WIDE, "pbeam": _WIDE, "wbeam": _WIDE}


class Fitter:
    """One decoder at a time: each takes 30 MB."""

    def __init__(self) -> None:
        self._decoder: Any = None
        self._made_for: bool | None = None

    def fitted(self, asked: tuple[bool, bytes, list[tuple[str, str]]]) -> list[tuple[str, int, int, float]] | None:
        """Segments (word, first frame, last frame, acoustic score as a likelihood) of a text forced onto sound.

        Asked are whether scores of two texts are to be compared, 16-bit mono at 16 kHz, and pairs of a word and its
        phones.  None where they do not fit at all.  The same question has the same answer, whatever was asked before.
        """
        comparing, audio, words = asked
        if comparing is not self._made_for:
            self._decoder = None
            self._decoder, self._made_for = _decoder(comparing=comparing), comparing
        decoder = self._decoder
        for word, phones in words:
            if decoder.lookup_word(word) is None:
                decoder.add_word(word, phones or "AH", True)
        decoder.reinit_feat()  # else it goes on with the noise and the mean spectrum of what it was given last
        try:
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
    serve(Fitter().fitted)
