"""What changed between two versions of a manuscript, word by word, so that work on the words that stayed is kept."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from difflib import SequenceMatcher
from itertools import pairwise

from faithful_reel.core.text.spoken import plain
from faithful_reel.core.text.words import Chapter

LEAST_ALIKE = 0.3


@dataclass(frozen=True, slots=True)
class Change:
    """Words `first` to `stop` of the old text became words `new_first` to `new_stop` of the new one."""

    first: int
    stop: int
    new_first: int
    new_stop: int
    old: str
    new: str


@dataclass(frozen=True, slots=True)
class Revision:
    """`place_of[i]` is where the old word `i` stands in the new text, -1 where it is gone."""

    place_of: tuple[int, ...]
    changes: tuple[Change, ...]

    def span_of(self, first: int, count: int) -> int | None:
        """Where words `first` to `first + count` stand if they all stayed, together; of no word, where the next one stands."""
        places = self.place_of[first : first + count]
        if count and len(places) == count:
            return places[0] if places[0] >= 0 and places == tuple(range(places[0], places[0] + count)) else None
        following = next((p for p in self.place_of[first:] if p >= 0), None)
        return following if following is not None else max(self.place_of, default=-1) + 1


def revision(old: Sequence[str], new: Sequence[str]) -> Revision:
    """Compare two versions of a chapter.  A word that only changed its case or its quotes counts as the same."""
    a, b = [plain(w) or w for w in old], [plain(w) or w for w in new]
    places = [-1] * len(old)
    changes = []
    for tag, i, j, k, m in SequenceMatcher(None, a, b, autojunk=False).get_opcodes():
        if tag == "equal":
            places[i:j] = range(k, m)
        else:
            changes.append(Change(i, j, k, m, " ".join(old[i:j]), " ".join(new[k:m])))
    return Revision(tuple(places), tuple(changes))


def matched(old: Sequence[Chapter], new: Sequence[Chapter]) -> list[int]:
    """For every new chapter the old one that it is a version of, -1 for none: by the share of words in common, in order."""
    bags = [_bag(c) for c in old]
    scores = []
    for n, chapter in enumerate(new):
        bag = _bag(chapter)
        for k, other in enumerate(bags):
            common = sum(min(count, other[word]) for word, count in bag.items() if word in other)
            alike = 2 * common / max(1, sum(bag.values()) + sum(other.values()))
            if alike >= LEAST_ALIKE:
                scores.append((alike, -abs(n - k), n, k))
    found = [-1] * len(new)
    taken: set[int] = set()
    for _, _, n, k in sorted(scores, reverse=True):
        if found[n] < 0 and k not in taken:
            found[n] = k
            taken.add(k)
    return found


def _bag(chapter: Chapter) -> Counter[tuple[str, str]]:
    """Pairs of neighbouring words and how often each stands there: single words are too alike in all chapters."""
    return Counter(pairwise(plain(w.text) for w in chapter.words))


def parts_of(chapter: Chapter, at: int, titles: tuple[str, str]) -> tuple[Chapter, Chapter]:
    """Split a chapter before the word `at`; sentences and paragraphs count anew in the second part."""
    return _part(chapter, 0, at, titles[0]), _part(chapter, at, len(chapter.words), titles[1])


def _part(chapter: Chapter, first: int, stop: int, title: str) -> Chapter:
    words = chapter.words[first:stop]
    if not words:
        raise ValueError("a chapter needs words")
    sentence, paragraph = words[0].sentence, words[0].paragraph
    moved = tuple(replace(w, sentence=w.sentence - sentence, paragraph=w.paragraph - paragraph) for w in words)
    last = words[-1].paragraph
    return Chapter(title, moved, tuple(b - paragraph for b in chapter.breaks if paragraph < b <= last))


def joined_text(first: Chapter, second: Chapter) -> Chapter:
    """Two chapters as one, under the first one's title."""
    sentences = first.words[-1].sentence + 1 if first.words else 0
    paragraphs = first.words[-1].paragraph + 1 if first.words else 0
    moved = tuple(replace(w, sentence=w.sentence + sentences, paragraph=w.paragraph + paragraphs) for w in second.words)
    return Chapter(first.title, first.words + moved, first.breaks + tuple(b + paragraphs for b in second.breaks))
