"""Planting errors in a reading: what is read aloud where it departs from the page, and the list of what was planted."""

from __future__ import annotations

import random
import re
from collections.abc import Mapping
from dataclasses import dataclass, field

from faithful_reel.core.hear.pronounce import is_word, phone_distance, phones_of
from faithful_reel.core.text.spoken import plain, spoken_forms
from faithful_reel.core.text.words import Chapter

SWAPS = """a the|the a|the that|this that|that this|these those|those these|was is|is was|were are|are were|had has|has had|
in on|on in|at by|to at|of in|into to|from for|with without|over under|up down|out off|and but|but and|or and|he she|she he|
his her|her his|him them|they we|it this|who which|when as|would could|could would|should might|might must|can could|
never ever|always often|only just|very quite|too so|before after|after before|here there|there here|then when|now then|
one two|two three|three four|first last|last first|nine five|left right|small little|little small|large big|old cold|
said asked|asked said|told said|looked turned|came went|went came|took gave|held had|sat stood|stood sat|put took|knew thought|
thought taught|walked worked|heard had|ran rang|door floor|floor door|water weather|hand head|hands heads|face place|room boat|
boat road|road boat|house horse|light night|night light|morning evening|evening morning|window widow|wall hall|table stable|
letter ladder|box books|clock lock|clocks locks|stairs chairs|town down|sea sky|hill mill|people person|woman women|man men|
child children|boy girl|girl boy|day way|hour house|hours days|year day|years days|minute moment|moment minute|back front|
bag back|coat boat|feet feed|shoes shows|rope road|stone store|wood wool|long strong|short sharp|low slow|dark black|black dark|
white wide|green grey|wet west|dry high|quick thick|slowly softly|quickly quietly|quietly quickly|well will|whole old|open over"""
ADDED = "very just then and so the that now quite only really still even all again well some always".split()
CHANGES = {pair.split()[0]: pair.split()[1] for pair in SWAPS.replace("\n", "").split("|")}
SHARES = {
    "misread": 0.44,
    "skipped": 0.16,
    "added": 0.12,
    "repeated": 0.14,
    "false_start": 0.10,
    "take": 0.04,  # a whole sentence read again
}
AGAIN = {"repeated": 0.8, "false_start": 0.2}
"""For readings in which nothing else goes wrong."""
SPACING = 9
"""Words between two planted errors, at least."""


@dataclass(frozen=True, slots=True)
class Plant:
    """One planted error; word positions in the chapter as printed.  For an added word the position is where it stands."""

    kind: str
    word_index: int
    word_count: int
    written: str
    heard: str


@dataclass(slots=True)
class Sentence:
    """A sentence as it is to be read: tokens with the printed word each one speaks (None: it speaks none)."""

    tokens: list[str]
    of: list[int | None]
    paragraph: bool = False
    times: int = 1
    broken_off: int = 0  # words read before it is broken off and begun again
    exact: list[bool] = field(default_factory=list)


def bare(token: str) -> str:
    """A token without the quotes around it."""
    return re.sub(r'["“”]', "", token)


def inflected(word: str, rng: random.Random) -> str | None:
    """The same word with another ending, where that is a plain one."""
    if len(word) < 4 or not word.isalpha() or not word.islower():
        return None
    if word.endswith("ing"):
        return word[:-3] + "ed" if len(word) > 6 else None
    if word.endswith("ed") and len(word) > 5:
        return rng.choice([word[:-2] + "ing", word[:-1] if word[-3] in "eu" else word[:-2]])
    if word.endswith("s") and not word.endswith(("ss", "us", "is")):
        return word[:-1]
    return None


def _kept_case(new: str, old: str) -> str:
    head = re.match(r"\W*", old)
    tail = re.search(r"\W*$", old)
    word = re.sub(r"^\W+|\W+$", "", old)
    return (head.group() if head else "") + (new.capitalize() if word[:1].isupper() else new) + (tail.group() if tail else "")


def _other(token: str, rng: random.Random) -> str | None:
    """Another word in place of this one; never one that sounds the same."""
    word = plain(token)
    options = [new for new in (CHANGES.get(word), inflected(word, rng)) if new]
    if not options:
        return None
    new = rng.choice(options)
    if not is_word(new) or phone_distance(phones_of(new), phones_of(word)) < 0.3:
        return None
    return _kept_case(new, token)


def planted(
    chapter: Chapter, rng: random.Random, count: int, shares: Mapping[str, float] = SHARES
) -> tuple[list[Sentence], list[Plant]]:
    """About `count` errors in a chapter: sentences to be read, and what was planted in them, in reading order."""
    plants: dict[int, Plant] = {}
    sentences = []
    paragraphs = {p.start for p in chapter.paragraphs()}
    for span in chapter.sentences():
        tokens = [chapter.words[i].text for i in span]
        sentences.append(Sentence(tokens, list(span), span.start in paragraphs))
    wanted = [kind for kind, share in shares.items() for _ in range(max(1, round(share * count)))]
    rng.shuffle(wanted)
    taken: list[int] = []
    for kind in wanted:
        for _ in range(400):
            sentence = rng.choice(sentences)
            at = rng.randrange(len(sentence.of))
            word = sentence.of[at]
            if word is None or sentence.times > 1 or sentence.broken_off or any(abs(word - t) < SPACING for t in taken):
                continue
            plant = _one(kind, sentence, at, rng)
            if plant:
                taken += range(plant.word_index, plant.word_index + max(1, plant.word_count))
                plants[plant.word_index] = plant
                break
    return sentences, [plants[k] for k in sorted(plants)]


def _one(kind: str, s: Sentence, at: int, rng: random.Random) -> Plant | None:
    """Plant one error of a kind at token `at` of a sentence, where it can stand there."""
    word, token = s.of[at], s.tokens[at]
    assert word is not None
    if kind == "misread":
        new = _other(token, rng)
        if new is None:
            return None
        s.tokens[at] = new
        return Plant("misread", word, 1, token, new)
    if kind == "skipped":
        run = rng.choice([1, 1, 1, 1, 2, 3])
        here = s.of[at : at + run]
        if at == 0 or at + run >= len(s.tokens) or None in here or any(re.search(r"\W$", t) for t in s.tokens[at : at + run]):
            return None
        written = " ".join(s.tokens[at : at + run])
        if not any(spoken_forms(t)[0] for t in s.tokens[at : at + run]) or plain(s.tokens[at - 1]) == plain(s.tokens[at + run]):
            return None
        if plain(s.tokens[at + run]) == plain(s.tokens[at]) or plain(s.tokens[at - 1]) == plain(s.tokens[at + run - 1]):
            return None
        del s.tokens[at : at + run], s.of[at : at + run]
        return Plant("skipped", word, run, written, "")
    if kind == "added":
        new = rng.choice(ADDED)
        if at == 0 or re.search(r"\W$", s.tokens[at - 1]) or new in (plain(token), plain(s.tokens[at - 1])) or token[0] == '"':
            return None
        s.tokens.insert(at, new)
        s.of.insert(at, None)
        return Plant("added", word, 0, "", new)
    if kind == "repeated":
        run = rng.choice([1, 1, 1, 2, 2, 3])
        here = s.tokens[at : at + run]
        if len(here) < run or at + run >= len(s.tokens) or None in s.of[at : at + run]:
            return None
        if any(re.search(r"\W$", t) or not t.isascii() or not t.replace("'", "").isalpha() for t in here):
            return None
        comma = rng.random() < 0.5
        first = [*here[:-1], here[-1] + ("," if comma else "")]
        s.tokens[at:at] = first
        s.of[at:at] = [None] * run
        return Plant("repeated", word, run, " ".join(here), " ".join(first))
    start = s.of[0]
    if start is None or len(s.tokens) < 6 or None in s.of:
        return None
    if kind == "false_start":
        s.broken_off = rng.randint(2, min(6, len(s.tokens) - 2))
        return Plant("false_start", start, s.broken_off, " ".join(s.tokens[: s.broken_off]), " ".join(s.tokens[: s.broken_off]))
    s.times = 2
    return Plant("take", start, len(s.tokens), " ".join(s.tokens), " ".join(s.tokens))
