"""Names and words of the book that are worth a look: names, rare words, foreign words, with every place they stand at."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache
from typing import NamedTuple

from faithful_reel.core.collate.findings import Finding, Kind, near
from faithful_reel.core.hear.pronounce import common_words, is_word
from faithful_reel.core.text.spoken import plain
from faithful_reel.core.text.words import Chapter

RAREST_LOG10 = -6.3
"""Share of running text, as a power of ten, under which a word is rare; by the language model that pocketsphinx carries."""
TITLES = frozenset("mr mrs ms dr prof st rev capt col gen sir lady lord miss".split())
ACCEPTED = "accepted for the whole book"
"""The note of a finding that is let stand since its name was accepted."""
Accepted = tuple[tuple[str, str], ...]
"""(name as written, plain; what was heard for it) of readings that are right all through the book."""


class Why(StrEnum):
    """Why a word is on the list."""

    NAME = "name"
    RARE = "rare"
    FOREIGN = "foreign"


@dataclass(frozen=True, slots=True)
class BookWord:
    """A word of the list: `key` as compared, `text` as it is written most often, (chapter, word) of every place."""

    key: str
    text: str
    why: Why
    places: tuple[tuple[str, int], ...]


class _At(NamedTuple):
    """One place of a word: capital, first of its sentence, italic."""

    chapter: str
    word: int
    text: str
    capital: bool
    first: bool
    italic: bool


def name_key(token: str) -> str:
    """A token as names are compared: plain, without a genitive's s."""
    word = plain(token)
    for end in ("'s", "’s", "'"):
        if word.endswith(end):
            return word[: -len(end)]
    return word


@lru_cache(maxsize=1)
def _language() -> object:
    from pocketsphinx import LogMath, NGramModel, get_model_path

    return NGramModel(None, LogMath(), get_model_path("en-us/en-us.lm.bin"))


@lru_cache(maxsize=65_536)
def is_rare(word: str) -> bool:
    """Whether a plain word is rare in English, or none at all."""
    model = _language()
    return not is_word(word) or _share_log10(model, word) < RAREST_LOG10


def _share_log10(model: object, word: str) -> float:
    from pocketsphinx import LogMath

    score: int = model.prob([word])  # type: ignore[attr-defined]
    return float(LogMath().log_to_log10(score))


def names_of(chapters: Iterable[tuple[str, Chapter]]) -> list[BookWord]:
    """The book's names, rare and foreign words, those with the most places first.

    A name is a word that stands with a capital everywhere, at least once inside a sentence, and is no ordinary word.
    A foreign word has letters that English has not, or is in italics and in no dictionary.
    """
    rows: dict[str, list[_At]] = {}
    for chapter_id, chapter in chapters:
        firsts = {s.start for s in chapter.sentences()}
        for i, word in enumerate(chapter.words):
            key = name_key(word.text)
            if not key or key.isdigit() or len(key) < 2:
                continue
            bare = word.text.strip("\"“”‘’()[].,;:!?…—–-'")
            capital = bare[:1].isupper() and not bare.isupper()
            rows.setdefault(key, []).append(_At(chapter_id, i, bare, capital, i in firsts, word.italic))
    found: list[BookWord] = []
    for key, places in rows.items():
        why = _why(key, places)
        if why is not None:
            texts = [p.text for p in places]
            text = max(dict.fromkeys(texts), key=texts.count)
            text = text[:-2] if text.endswith(("'s", "’s")) else text
            found.append(BookWord(key, text, why, tuple((p.chapter, p.word) for p in places)))
    order = list(Why)
    return sorted(found, key=lambda w: (order.index(w.why), -len(w.places), w.key))


def _why(key: str, places: Sequence[_At]) -> Why | None:
    if any(not c.isascii() and c.isalpha() for p in places for c in p.text) or (
        any(p.italic for p in places) and not is_word(key)
    ):
        return Why.FOREIGN
    named = all(p.capital for p in places) and any(not p.first for p in places)
    if named and key not in common_words() and key not in TITLES:
        return Why.NAME
    if all(part.isalpha() for part in key.split("'")) and is_rare(key):
        return Why.RARE
    return None


def is_accepted(finding: Finding, accepted: Accepted) -> bool:
    """Whether a misread is the reading of a name that was accepted for the whole book."""
    if finding.kind is not Kind.MISREAD or finding.word_count != 1 or not finding.heard:
        return False
    key, said = name_key(finding.written), finding.heard
    return any(key == written and (name_key(said) == name_key(heard) or near(heard, said)) for written, heard in accepted)
