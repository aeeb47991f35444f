"""The written side: manuscript, chapters, words."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace


@dataclass(frozen=True, slots=True)
class Word:
    """One whitespace-separated token of the manuscript.

    `sentence` and `paragraph` count from 0 within the chapter; `page` from 1, 0 where the source has no pages.  `line` tells of
    one that begins a line within its paragraph, as in verse.
    """

    text: str
    sentence: int
    paragraph: int
    page: int = 0
    italic: bool = False
    line: bool = False


@dataclass(frozen=True, slots=True)
class Chapter:
    """A chapter's title and words; the words of its heading are read aloud and come first.

    `breaks` are the paragraphs before which a scene ends.
    """

    title: str
    words: tuple[Word, ...]
    breaks: tuple[int, ...] = ()

    @property
    def text(self) -> str:
        """The chapter as plain text, a blank line between paragraphs."""
        return "\n\n".join(" ".join(self.words[i].text for i in group) for group in self.paragraphs())

    def sentences(self) -> list[range]:
        """Word positions of every sentence, in order."""
        return _runs([w.sentence for w in self.words])

    def paragraphs(self) -> list[range]:
        """Word positions of every paragraph, in order."""
        return _runs([w.paragraph for w in self.words])


@dataclass(frozen=True, slots=True)
class Manuscript:
    """A whole manuscript as chapters; `left_out` is what is not read aloud: front matter, notes and the like."""

    title: str
    author: str
    chapters: tuple[Chapter, ...]
    left_out: tuple[Chapter, ...] = ()


WORDS_AN_HOUR = 9200
"""Of finished narration (common practice)."""


def finished_s(words: int) -> float:
    """How many seconds so many words will last when they are finished."""
    return 3600 * words / WORDS_AN_HOUR


LONGEST_WORD = 1_000
"""Letters: what is longer is no word, and would take for ever to compare."""


def _runs(keys: list[int]) -> list[range]:
    runs, start = [], 0
    for i in range(1, len(keys) + 1):
        if i == len(keys) or keys[i] != keys[start]:
            runs.append(range(start, i))
            start = i
    return runs


_ABBREVIATIONS = frozenset(
    "mr mrs ms dr prof st rev hon capt col gen lt sgt jr sr vs etc e.g i.e no vol fig inc ltd co maj cmdr mme mlle messrs"
    " ave rd ch pp approx dept est".split()
)
_END = re.compile(r"[.!?…][\"'”’)\]]*$")
_INITIAL = re.compile(r"^[\"'“‘(]*[A-Z]\.$")


def ends_sentence(token: str, following: str | None) -> bool:
    """Whether a sentence ends with `token`, given the token after it.

    An abbreviation or an initial does not end one; a closing quote does only where a capital or a quote follows.
    """
    if following is None:
        return True
    if not _END.search(token):
        return False
    bare = token.strip("\"'“”‘’()[]")
    if bare.endswith(".") and (bare[:-1].lower() in _ABBREVIATIONS or _INITIAL.match(token)):
        return False
    opener = following.lstrip("\"'“‘([—–-")
    return not opener or opener[0].isupper() or opener[0].isdigit() or following[0] in '"“‘'


_OPENING = frozenset("«‹„“‘‚¿¡([{")
_MARKS = _OPENING | frozenset("»›”’\"'–—―‒-−…·.,;:!?)]}*")
_DASHES = frozenset("–—―‒-−")


def closed_up(words: Sequence[Word]) -> list[Word]:
    """The words of a paragraph without marks that stand alone: what opens goes to the next word, all else to the one before.

    French and Spanish set a space inside of guillemets, many hands one on both sides of a dash; neither is a word to be read.
    A paragraph of nothing but marks has no words.
    """
    out: list[Word] = []
    ahead, lined = "", False
    for word in words:
        lined = lined or word.line
        if not set(word.text) <= _MARKS:
            out.append(replace(word, text=ahead + word.text, line=lined) if ahead or lined else word)
            ahead, lined = "", False
        elif set(word.text) <= _OPENING or ((not out or word.line) and set(word.text) <= _DASHES):
            ahead += word.text
        elif out and not ahead:
            out[-1] = replace(out[-1], text=out[-1].text + word.text)
        else:
            ahead += word.text if out else ""
    return [*out[:-1], replace(out[-1], text=out[-1].text + ahead)] if out and ahead else out


def chapter_of(title: str, paragraphs: Sequence[Sequence[Word] | str]) -> Chapter:
    """Build a chapter from paragraphs of words whose sentence numbers are not set yet, or of text.

    Of text every whitespace-separated token is a word, whatever it is; of words, marks that stand alone are none.
    """
    words: list[Word] = []
    sentence = 0
    for number, paragraph in enumerate(paragraphs):
        tokens = [Word(t, 0, 0) for t in paragraph.split()] if isinstance(paragraph, str) else closed_up(paragraph)
        for i, word in enumerate(tokens):
            words.append(replace(word, sentence=sentence, paragraph=number, line=word.line and i > 0))
            after = tokens[i + 1].text if i + 1 < len(tokens) else None
            sentence += ends_sentence(word.text, after)
    return Chapter(title, tuple(words))
