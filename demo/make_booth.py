"""Make the prepared takes of the stand-in booth: the demo's lines that a narrator is asked to read again, slates and talk.

Run it after `make_demo.py`, with the same development dependencies.  The same seed and the same pinned packages give the same files.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import numpy as np
import soundfile
import soxr

HERE = Path(__file__).parent
sys.path[:0] = [str(HERE)]

from make_demo import RATE, Booth  # noqa: E402

from faithful_reel.core.standins.booth import PREPARED, TALK, trimmed, words_of  # noqa: E402
from faithful_reel.core.text.manuscript import read_script  # noqa: E402

KEPT_RATE = 22_050
TAKES, SLATES = 2, 24
ASKED = frozenset({"misread", "skipped", "added"})
ALSO = ("Nobody had seen the bottom of the harbour before.",)
"""Lines that are asked for though nothing is planted in them, where the chapters have them."""


def lines() -> list[str]:
    """The sentences that something is planted in."""
    truth = json.loads((HERE / "book" / "truth.json").read_text())
    found: list[str] = []
    for number in (1, 2, 3):
        chapter = read_script(HERE / "book" / f"chapter-{number}.txt")
        planted = {p["word_index"] for p in truth[f"chapter-{number}"]["planted"] if p["kind"] in ASKED and "word_index" in p}
        for sentence in chapter.sentences():
            text = " ".join(chapter.words[k].text for k in sentence)
            if planted & set(sentence) or text in ALSO:
                found.append(text)
    return found


def main() -> None:
    """Say everything and write it."""
    parts: list[np.ndarray] = []
    places: dict[str, list[list[int]]] = {}
    at = 0
    texts = [(line, TAKES) for line in lines()]
    texts += [(f"Pickup {k}.", 1) for k in range(1, SLATES + 1)] + [(t, 1) for t in TALK]
    for number, (text, count) in enumerate(texts):
        for take in range(count):
            booth = Booth(4000 + 10 * number + take)
            said, _ = booth.spoken(text.replace("“", "").replace("”", ""), pace=1.14 + 0.04 * take)
            x = soxr.resample(trimmed(said.astype(np.float32)), RATE, KEPT_RATE, quality="VHQ")
            x = np.clip(x * (0.25 / np.max(np.abs(x))), -1, 1)
            parts += [x, np.zeros(KEPT_RATE // 10)]
            scale = RATE / KEPT_RATE
            places.setdefault(words_of(text), []).append([round(at * scale), round((at + len(x)) * scale)])
            at += len(x) + KEPT_RATE // 10
    soundfile.write(HERE / "book" / f"{PREPARED}.flac", np.concatenate(parts), KEPT_RATE, subtype="PCM_16")
    (HERE / "book" / f"{PREPARED}.json").write_text(json.dumps(places, ensure_ascii=False, indent=0))
    print(len(places), "texts", round(at / KEPT_RATE), "s")


if __name__ == "__main__":
    main()
