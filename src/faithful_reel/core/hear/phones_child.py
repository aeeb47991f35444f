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
Spelt = list[tuple[str, str]]
"""Words and their phones."""
Segments = list[tuple[str, int, int, float]]
"""Word, first frame, last frame, acoustic score as a likelihood."""
Arcs = list[tuple[int, int, float] | tuple[int, int, float, str]]
"""From state, to state, likelihood, and the word; without a word for a step that says nothing."""


class Fitter:
    """Answers questions about sound, each the same way whatever was asked before."""

    def __init__(self) -> None:
        self._decoder: Any = None

    def answer(self, asked: tuple[str, bytes, Any, Any]) -> Segments | list[list[float] | None] | None:
        """What a question about 16-bit mono at 16 kHz comes to.

        Asked are the task, the sound, and what is forced onto it.  "edges": words, one after another.  "read": words, and
        a grammar of them (states, start, final, arcs, skips, jumps), of which the likeliest way is taken.  Both give
        segments, or None where nothing fits.  "fits": several texts; gives the likelihoods of each one's segments.
        """
        task, audio, words, grammar = asked
        if task == "fits":
            return self._fits(audio, words)
        if task == "edges":
            return self._alone(audio, words)
        _, start, final, arcs, skips, jumps = grammar
        ways: Arcs = [(a, b, 1.0, word) for a, b, word in arcs]
        ways += [(a, b, 1.0) for a, b in skips]
        ways += [(a, b, JUMP) for a, b in jumps]
        return self._forced(audio, words, ways, [final], start)[0]

    def _fits(self, audio: bytes, texts: list[Spelt]) -> list[list[float] | None]:
        """Likelihoods of every text's segments; none at all of one that falls behind; None of one that does not fit.

        The decoder counts from the best of what it looks at in every frame.  So all texts are ways through one grammar,
        and of one search the best way to the end of each is taken: then their scores can be compared.
        """
        found: list[list[float] | None] = [None] * len(texts)
        asked = [k for k, text in enumerate(texts) if text]
        while asked:
            arcs, ends = _beside_each_other([texts[k] for k in asked])
            words = [pair for k in asked for pair in texts[k]]
            for k, rows in zip(asked, self._forced(audio, words, arcs, ends), strict=True):
                found[k] = None if rows is None else [likelihood for *_, likelihood in rows]
            behind = [k for k in asked if found[k] is None]
            for k in behind:
                if self._alone(audio, texts[k]) is not None:
                    found[k] = []
            if all(found[k] is not None for k in behind):
                break
            asked = [k for k in asked if found[k] is not None]  # it may have driven the others out, and then come to no end
        return found

    def _alone(self, audio: bytes, words: Spelt) -> Segments | None:
        arcs, ends = _beside_each_other([words])
        return self._forced(audio, words, arcs, ends)[0]

    def _forced(self, audio: bytes, words: Spelt, arcs: Arcs, ends: list[int], start: int = 0) -> list[Segments | None]:
        """The likeliest way from a state to each of several others; None where there is none."""
        decoder = self._decoder = self._decoder or _decoder()
        for word, phones in words:
            if decoder.lookup_word(word) is None:
                decoder.add_word(word, phones or "AH", True)
        decoder.reinit_feat()  # else it goes on with the noise and the mean spectrum of what it was given last
        try:
            ways = decoder.create_fsg("ways", start, ends[0], arcs)
            decoder.add_fsg("ways", ways)
            decoder.activate_search("ways")
            decoder.start_utt()
            decoder.process_raw(audio, False, True)
            decoder.end_utt()
        except RuntimeError:
            return [None] * len(ends)
        found: list[Segments | None] = []
        for end in ends:
            ways.set_final_state(end)
            found.append([(s.word, s.start_frame, s.end_frame, s.ascore) for s in decoder.seg() or ()] or None)
        return found


def _beside_each_other(texts: list[Spelt]) -> tuple[Arcs, list[int]]:
    """Arcs of a grammar in which all texts begin in state 0, and the state in which each ends."""
    arcs: Arcs = []
    ends: list[int] = []
    for text in texts:
        at = 0
        for word, _ in text:
            arcs.append((at, len(arcs) + 1, 1.0, word))
            at = len(arcs)
        ends.append(at)
    return arcs, ends


def _decoder() -> Any:
    from pocketsphinx import Decoder, get_model_path

    return Decoder(hmm=get_model_path("en-us/en-us"), dict=get_model_path("en-us/cmudict-en-us.dict"), lm=None, **_SETTINGS)


if __name__ == "__main__":
    serve(Fitter().answer)
