"""Finding a place in a chapter: by its words, written or heard, by its page, or by its time."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from faithful_reel.core.text.spoken import plain
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import samples
from faithful_reel.core.work.timeline import Hearing

_PAGE = re.compile(r"p(?:age|\.)?\s*(\d+)", re.IGNORECASE)
_TIME = re.compile(r"(?:(\d+):)?(\d{1,2}):(\d{2}(?:\.\d+)?)")


@dataclass(frozen=True, slots=True)
class Place:
    """What was found: the number of a written word, or a position in the reel in samples; -1 for what it is not."""

    word: int = -1
    position: int = -1


def found(
    wanted: str, text: Chapter, hearing: Hearing | None, rate: int, *, after: int, back: bool = False, heard: bool = False
) -> Place:
    """Where what was typed stands: `p 12` is a page, `0:03:20` a time, all else words.

    Words are searched from behind word `after`, or with `back` before it, and round the end; with `heard` in what was
    heard.  The last of them may be a beginning only.
    """
    wanted = wanted.strip()
    if page := _PAGE.fullmatch(wanted):
        return Place(page_start(text, int(page[1])))
    if time := _TIME.fullmatch(wanted):
        return Place(position=samples(3600 * int(time[1] or 0) + 60 * int(time[2]) + float(time[3]), rate))
    words = [plain(w) for w in wanted.split() if plain(w)]
    if not words:
        return Place()
    places = _heard_places(words, hearing) if heard else _places(words, [plain(w.text) for w in text.words])
    if back:
        return Place(next((p for p in reversed(places) if p < after), places[-1] if places else -1))
    return Place(next((p for p in places if p > after), places[0] if places else -1))


def page_start(text: Chapter, page: int) -> int:
    """The first word of a page of the manuscript in this chapter; -1 where it has none."""
    return next((i for i, w in enumerate(text.words) if w.page == page), -1)


def _heard_places(words: Sequence[str], hearing: Hearing | None) -> list[int]:
    """Where words were heard, as numbers of written words; one that is not written counts as the written one before it."""
    if hearing is None:
        return []
    written = {j: a + min(j - c, b - a - 1) for a, b, c, d, _ in hearing.links if b > a for j in range(c, d)}
    before = 0
    numbers = []
    for j in range(len(hearing.heard)):
        before = written.get(j, before)
        numbers.append(before)
    return [numbers[i] for i in _places(words, [plain(h.text) for h in hearing.heard])]


def _places(words: Sequence[str], texts: Sequence[str]) -> list[int]:
    n = len(words)
    first = list(words[:-1])
    return [i for i in range(len(texts) - n + 1) if texts[i : i + n - 1] == first and texts[i + n - 1].startswith(words[-1])]
