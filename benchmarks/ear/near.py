"""Near words: what narrators take for one another, in a row of tokens; and the few that differ by one phone.

Every change is of a row of tokens into another one, so that it serves in both directions: the voice reads what is not written, or
the manuscript says what was not read.
"""

from __future__ import annotations

import random
import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

from planting import Plant, Sentence, _kept_case

from faithful_reel.core.collate.links import collated
from faithful_reel.core.collate.places import _merges, _without_stops
from faithful_reel.core.hear.pronounce import _dictionary, common_words, is_word, phone_distance, phones_of, phones_read
from faithful_reel.core.text.spoken import plain
from faithful_reel.core.text.words import Chapter

THIS = ("this", "that", "these", "those")
SMALL = {
    "in": "on into", "on": "in upon", "into": "in to", "at": "in by", "of": "for", "for": "of", "to": "into", "from": "for",
    "with": "without", "by": "at", "and": "but", "but": "and", "or": "and", "as": "so", "if": "when", "when": "if", "up": "out",
    "out": "up", "over": "under", "before": "after", "upon": "on", "so": "and", "which": "that", "who": "which", "then": "there",
    "there": "then", "not": "now", "any": "many", "no": "any", "all": "always", "some": "any",
}  # fmt: skip
PERSONS = {
    "he": "she they", "she": "he", "they": "he we", "we": "they", "it": "he this", "his": "her their", "her": "his", "him": "them",
    "them": "him", "its": "his", "their": "his", "our": "their", "my": "his",
}  # fmt: skip
TENSES = {
    "is": "was", "was": "is were", "are": "were", "were": "are was", "has": "had", "had": "has", "have": "had", "do": "did", "did": "do",
    "does": "did", "come": "came", "came": "come", "run": "ran", "ran": "run", "see": "saw", "saw": "see", "give": "gave", "gave": "give",
    "go": "went", "went": "go", "take": "took", "took": "take", "know": "knew", "knew": "know", "make": "made", "made": "make",
    "sit": "sat", "sat": "sit", "stand": "stood", "stood": "stand", "hold": "held", "held": "hold", "keep": "kept", "kept": "keep",
    "say": "said", "said": "say", "will": "would", "would": "will", "can": "could", "could": "can", "shall": "should", "may": "might",
    "might": "may", "begin": "began", "began": "begin", "lie": "lay", "lay": "lie", "find": "found", "found": "find",
}  # fmt: skip
SHORTENED = {
    ("do", "not"): "don't", ("did", "not"): "didn't", ("could", "not"): "couldn't", ("would", "not"): "wouldn't", ("had", "not"): "hadn't",
    ("was", "not"): "wasn't", ("is", "not"): "isn't", ("were", "not"): "weren't", ("it", "is"): "it's", ("i", "will"): "I'll",
    ("i", "am"): "I'm", ("he", "had"): "he'd", ("she", "had"): "she'd", ("they", "had"): "they'd", ("i", "have"): "I've",
    ("that", "is"): "that's", ("there", "is"): "there's", ("will", "not"): "won't", ("can", "not"): "can't", ("it", "was"): "'twas",
}  # fmt: skip
OLD = {"thee": "thy", "thy": "thee", "thou": "thee", "thine": "thy"}
DROPPED = frozenset("the a an that and to of in so then very quite just had it all".split())
NATURAL = {
    "number": 10, "tense": 10, "article": 10, "this": 5, "small": 12, "person": 6, "contraction": 6, "swapped": 8, "other": 8,
    "dropped": 13, "put in": 12,
}  # fmt: skip
"""How often each kind is drawn at the natural rate (from memory of what proofers list; no count was published that we know)."""
HARD = {"number": 4, "old": 2, "phone": 4}
"""The hard ones: singular for plural, thee and thy, words one phone apart."""
NONE: dict[str, int] = {}
RATES = {"natural": (36, NATURAL), "hard": (10, HARD), "clean": (0, NONE)}
"""One change in how many words, and of which kinds."""
SPACING = 6
"""Words between two changes, at least."""
LEAST = 0.3
"""Edit distance of phones under which two words sound the same."""


@dataclass(frozen=True, slots=True)
class Change:
    """`count` tokens from a place on become `tokens`."""

    kind: str
    count: int
    tokens: tuple[str, ...]


def change(tokens: Sequence[str], at: int, kind: str, rng: random.Random) -> Change | None:
    """A change of a kind at a token, where there is one that can be heard."""
    found = _change(tokens, at, kind, rng)
    if found is None or not 0 < at < len(tokens) - max(1, found.count):
        return None
    old = tokens[at : at + found.count]
    if any(re.search(r"[^\w'’]", t) for t in old[:-1]):
        return None
    following = tokens[at + found.count]
    a, b = phones_read(old), phones_read(found.tokens)
    if old and found.tokens:
        heard_alike = phone_distance(a, b) < LEAST or _without_stops(a) == _without_stops(b)
        if heard_alike or _merges(a, b, phones_read([following])[:1]):
            return None
    near_by = [plain(t) for t in (*tokens[max(0, at - 2) : at], *tokens[at + found.count : at + found.count + 2])]
    if any(plain(t) in near_by for t in (found.tokens or old)) and kind != "swapped":
        return None  # a repeat, or one that can not be told from its neighbour
    around = [*tokens[max(0, at - 3) : at]], [*tokens[at + found.count : at + found.count + 3]]
    if all(link.same for link in collated([*around[0], *old, *around[1]], [*around[0], *found.tokens, *around[1]])):
        return None
    return found


def _change(tokens: Sequence[str], at: int, kind: str, rng: random.Random) -> Change | None:
    token = tokens[at]
    word = plain(token)
    if not re.fullmatch(r"[\w'’]+\W*", token) or not word:
        return None
    bare = re.fullmatch(r"[\w'’]+", token) is not None

    def one(options: Sequence[str]) -> Change | None:
        known = [o for o in options if o and o != word and is_word(o)]
        return Change(kind, 1, (_kept_case(rng.choice(known), token),)) if known else None

    if kind == "number":
        return one(_numbers(word)) if token[0].islower() else None
    if kind == "tense":
        return one(TENSES.get(word, "").split() or _tenses(word)) if token[0].islower() else None
    if kind == "article":
        options = {
            "the": ["an" if plain(tokens[at + 1])[:1] in "aeiou" else "a"] if at + 1 < len(tokens) else [],
            "a": ["the"],
            "an": ["the"],
        }
        return one(options.get(word, []))
    if kind == "this":
        return one([w for w in THIS if w != word]) if word in THIS else None
    if kind in ("small", "person", "old"):
        return one({"small": SMALL, "person": PERSONS, "old": OLD}[kind].get(word, "").split())
    if kind == "contraction":
        return _contracted(tokens, at)
    if kind == "phone":
        return one(_neighbours(word)) if token[0].islower() else None
    if kind == "other":
        from planting import CHANGES

        return one([CHANGES.get(word, "")])
    if kind == "swapped":
        following = tokens[at + 1] if at + 1 < len(tokens) else ""
        own = bare and re.fullmatch(r"[a-z]+", following) and token.islower() and following != word
        return Change(kind, 2, (following, token)) if own else None
    if kind == "dropped":
        return Change(kind, 1, ()) if bare and token.islower() and word in DROPPED else None
    if kind == "put in":
        fits = at and re.search(r"\w$", tokens[at - 1]) and token.islower()
        return Change(kind, 0, (rng.choice([w for w in sorted(DROPPED) if w != "an" or word[:1] in "aeiou"]),)) if fits else None
    raise ValueError(f"no such kind: {kind}")


def _numbers(word: str) -> list[str]:
    if (
        not word.isalpha()
        or len(word) < 3
        or word in common_words()
        or word.endswith(("ed", "ing", "ly", "ous", "ss", "us", "is"))
    ):
        return []
    if word.endswith("s"):
        return [word[:-1]]
    return [
        word + "es" if word.endswith(("x", "ch", "sh")) else word[:-1] + "ies" if re.search("[^aeiou]y$", word) else word + "s"
    ]


def _tenses(word: str) -> list[str]:
    if not word.isalpha() or len(word) < 5:
        return []
    if word.endswith("ed"):
        return [w for w in (word[:-2] + "s", word[:-1] + "s", word[:-2], word[:-1], word[:-2] + "ing") if is_word(w)][:3]
    return [word[:-3] + "ed"] if word.endswith("ing") else []


def _contracted(tokens: Sequence[str], at: int) -> Change | None:
    words = tuple(plain(t) for t in tokens[at : at + 2])
    if words in SHORTENED and re.fullmatch(r"\w+", tokens[at]):
        return Change("contraction", 2, (_kept_case(SHORTENED[words], tokens[at]) + re.sub(r"^[\w'’]+", "", tokens[at + 1]),))
    long = {short: pair for pair, short in SHORTENED.items()}.get(tokens[at].replace("’", "'").lower().rstrip(".,;:!?"))
    if long:
        return Change(
            "contraction",
            1,
            (_kept_case(long[0], re.sub(r"\W+$", "", tokens[at])), long[1] + re.sub(r"^[\w'’]+", "", tokens[at])),
        )
    return None


@lru_cache(maxsize=4096)
def _neighbours(word: str) -> list[str]:
    """Words of the dictionary that are one phone away, of ordinary length."""
    own = phones_of(word)
    if len(own) < 2 or not word.isalpha() or not is_word(word):
        return []
    return sorted(w for w in _by_shape(own) if w != word and phone_distance(phones_of(w), own) <= 1.0 and phones_of(w) != own)[
        :40
    ]


def _by_shape(own: tuple[str, ...]) -> set[str]:
    found: set[str] = set()
    index = _index()
    for k in range(len(own)):
        found |= index.get((*own[:k], "*", *own[k + 1 :]), set())
    return found


@lru_cache(maxsize=1)
def _index() -> dict[tuple[str, ...], set[str]]:
    """Ordinary words by their phones with one left open."""
    index: dict[tuple[str, ...], set[str]] = {}
    for word in ordinary_words():
        own = phones_of(word)
        for k in range(len(own)):
            index.setdefault((*own[:k], "*", *own[k + 1 :]), set()).add(word)
    return index


@lru_cache(maxsize=1)
def ordinary_words() -> frozenset[str]:
    """Words that stand in the benchmark's own texts or in lists of frequent ones, so that no rare ones are drawn."""
    from pathlib import Path

    texts = " ".join(p.read_text() for p in sorted(Path(__file__).parent.glob("prose-*.txt")))
    words = {plain(t) for t in re.findall(r"[A-Za-z']+", texts)} | set(common_words()) | set(OLD)
    return frozenset(w for w in words if w.isalpha() and w in _dictionary())


def drawn(tokens: Sequence[str], rng: random.Random, rate: str) -> dict[int, Change]:
    """Changes of a row of tokens by where they stand, at one of `RATES`."""
    one_in, shares = RATES[rate]
    wanted = max(1, round(len(tokens) / one_in)) if one_in else 0
    found: dict[int, Change] = {}
    taken: list[int] = []
    for _ in range(wanted * 60):
        if len(found) >= wanted:
            break
        kind = rng.choices(list(shares), list(shares.values()))[0]
        for _ in range(30):
            at = rng.randrange(1, len(tokens) - 2)
            if any(abs(at - t) < SPACING for t in taken):
                continue
            if (made := change(tokens, at, kind, rng)) is not None:
                found[at] = made
                taken += range(at, at + max(1, made.count))
                break
    return found


def plant_of(at: int, written: Sequence[str], read: Sequence[str]) -> Plant:
    """What a change is to the manuscript: written tokens at a place, and what is read there."""
    what = "misread" if written and read else "skipped" if written else "added"
    return Plant(what, at, len(written), " ".join(written), " ".join(read))


def near_planted(chapter: Chapter, rng: random.Random, rate: str) -> tuple[list[Sentence], list[Plant]]:
    """A chapter as it is read with near words: sentences to be read, and what was planted in them, in reading order."""
    texts = [w.text for w in chapter.words]
    changes = drawn(texts, rng, rate)
    paragraphs = {p.start for p in chapter.paragraphs()}
    sentences, plants = [], []
    for span in chapter.sentences():
        s = Sentence([], [], span.start in paragraphs)
        at = span.start
        while at < span.stop:
            made = changes.get(at)
            if made is None or at + made.count > span.stop:
                s.tokens.append(texts[at])
                s.of.append(at)
                at += 1
                continue
            plants.append(plant_of(at, texts[at : at + made.count], made.tokens))
            s.tokens += made.tokens
            s.of += [None] * len(made.tokens)
            if not made.count:
                s.tokens.append(texts[at])
                s.of.append(at)
            at += max(1, made.count)
        sentences.append(s)
    return sentences, plants
