"""A chapter of a few words, read at even distances."""

from __future__ import annotations

from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.reel.commands import ToneSource
from faithful_reel.core.reel.reel import reel_of
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.work.timeline import Hearing

RATE = 44_100
STEP, LENGTH = 22_050, 14_000  # a word of 0.32 s every half second
TEXT = chapter_of("One", ["The tide went out. A line of green bottles lay there. Nobody spoke."])
TONE = ToneSource("r1", 0, 10_000)


def place(i):
    return 30_000 + STEP * i


def made(*, read=None, takes=()):
    """A chapter read word by word; `read` are the heard words with None where the script has one that was not read."""
    tokens = [w.text for w in TEXT.words]
    read = read or tokens
    heard, placed, links, w = [], [], [], 0
    for slot, word in enumerate(read):
        at = place(slot)
        if word is None:
            placed.append(None)
            links.append((w, w + 1, len(heard), len(heard), False))
            w += 1
            continue
        extra = word.startswith("+")
        heard.append(Heard(word.lstrip("+"), at, at + LENGTH, 0.9))
        if extra:
            links.append((w, w, len(heard) - 1, len(heard), False))
            continue
        placed.append(Placed(at, at + LENGTH, 0.9))
        links.append((w, w + 1, len(heard) - 1, len(heard), word == tokens[w]))
        w += 1
    length = place(len(read)) + RATE
    chapter = ChapterState("c1", "One", "t", "r1", "h", (), reel_of("r1", length))
    recordings = tuple(Recording(h, h, ".wav", RATE, 1, length, -3, -62, -24, TONE if h == "r1" else None) for h in ("r1", "r2"))
    return (
        Book(chapters=(chapter,), recordings=recordings, pickups=takes),
        chapter,
        Hearing(tuple(heard), tuple(placed), tuple(links)),
    )


TOKENS = [w.text for w in TEXT.words]
