"""A chapter of words with pauses as they are wanted between them, and how its sound looks."""

from __future__ import annotations

import itertools

import numpy as np

from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.reel.commands import ToneSource
from faithful_reel.core.reel.reel import reel_of
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.work.timeline import Hearing
from support.sounds import noise

RATE = 16_000
WORD = 0.3
WORDS = "One two three four. Five six, seven eight. Nine ten eleven twelve. More words are here now."
TEXT = chapter_of("Head", [WORDS])


def made(pauses, *, extras=(), findings=()):
    """A chapter whose words last 0.3 s each, with a pause (seconds) after each of them; `extras` come after a word."""
    count = len(TEXT.words)
    heard, placed, links, at = [], [], [], 1.0
    for k in range(count):
        start, stop = round(at * RATE), round((at + WORD) * RATE)
        links.append((k, k + 1, len(heard), len(heard) + 1, True))
        heard.append(Heard(TEXT.words[k].text, start, stop, 0.9))
        placed.append(Placed(start, stop, 0.9))
        at += WORD + pauses.get(k, 0.1)
        for after, said in extras:
            if after == k:
                links.append((k + 1, k + 1, len(heard), len(heard) + 1, False))
                heard.append(Heard(said, round(at * RATE), round((at + 0.2) * RATE), 0.9))
                at += 0.6
    length = round((at + 1) * RATE)
    chapter = ChapterState("c1", "One", "t", "r", "h", tuple(findings), reel_of("r", length))
    entry = Recording("r", "r", ".wav", RATE, 1, length, -3.0, -60.0, -20.0, ToneSource("r", 0, 9000))
    hearing = Hearing(tuple(heard), tuple(placed), tuple(links))
    x = noise(seconds=length / RATE, rms_db=-70, rate=RATE)[:length].copy()
    for h in heard:
        x[h.start : h.stop] = 0.3
    return Book(rate=RATE, chapters=(chapter,), recordings=(entry,)), chapter, hearing, x


def columns_of(x):
    def columns(edges):
        cut = [x[int(a) : max(int(a) + 1, int(b))] for a, b in itertools.pairwise(edges)]
        return np.array([[c.min() if len(c) else 0 for c in cut], [c.max() if len(c) else 0 for c in cut]], np.float32)

    return columns
