"""Mending a word from another place: where the same reader says the same words, and which place is likest."""

from __future__ import annotations

import unicodedata
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.jobs import Unwatched, Watch
from faithful_reel.core.reel.commands import Paste, ReelCommand
from faithful_reel.core.reel.cutting import EDITION
from faithful_reel.core.reel.reel import LaneRef, Piece
from faithful_reel.core.splice.place import level_match
from faithful_reel.core.splice.seam import seam_at
from faithful_reel.core.text.spoken import plain
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Signal, Span, ratio
from faithful_reel.core.work.timeline import Hearing

MOST_MEASURED = 40
"""So many places, the likest by their words, are listened to."""
UNNAMED = "the reader is not named"
AROUND_S = 1.5
EDGE_S = 0.03
"""Taken with a word on either side, where its neighbours leave that."""
Sound = Callable[[str, int, int], Signal]
"""Samples (n,) of a recording between two positions at the book's rate."""


@dataclass(frozen=True, slots=True)
class Elsewhere:
    """One place where the words are said: its chapter, its written words and those around them, and where in which recording.

    `unlike` is how far it is from the place that is mended, see `ranked`; `gain_db` by how much its level is changed there.
    """

    chapter: str
    title: str
    first: int
    count: int
    around: str
    recording: str
    start: int
    stop: int
    unlike: float = 0.0
    gain_db: float = 0.0
    told: str = ""


def same_reader(book: Book, one: str, other: str) -> bool | None:
    """Whether two recordings are read by the same narrator, as they or the book name them; None where nobody is named.

    Two that are heard on different lanes of a chapter are two voices.
    """
    if one == other:
        return True
    first, second = (book.recording(r).narrator or book.narrator for r in (one, other))
    for c in book.chapters:
        lanes = [lane.recordings for lane in c.reel.lanes if not lane.music] if c.reel is not None else []
        if any(one in a and other in b and a is not b for a in lanes for b in lanes):
            return False
    return first == second if first or second else None


def same_word(here: Chapter, one: int, there: Chapter, other: int) -> bool:
    """Whether two written words are one: Polish is not polish, nor résumé resume.  A sentence's first capital says nothing."""
    a, b = (unicodedata.normalize("NFC", text.words[k].text) for text, k in ((here, one), (there, other)))
    if plain(a) != plain(b) or marks_of(a) != marks_of(b):
        return False
    free = any(k == 0 or text.words[k].sentence != text.words[k - 1].sentence for text, k in ((here, one), (there, other)))
    return free or _capital(a) == _capital(b) or a.isupper() or b.isupper()


def marks_of(text: str) -> str:
    """The accents of a word, in their order."""
    return "".join(c for c in unicodedata.normalize("NFD", text) if unicodedata.combining(c))


def _capital(text: str) -> bool:
    return next((c.isupper() for c in text if c.isalpha()), False)


Read = Callable[[ChapterState], tuple[Chapter, Hearing | None]]
"""Gives the text of a chapter and what was heard of it."""


def places_elsewhere(book: Book, chapter: ChapterState, words: tuple[int, int], read: Read, recording: str) -> list[Elsewhere]:
    """Every place of the book, but the one at hand, where the same reader was heard to say some words as they are written.

    `recording` is that of the voice whose words they are.  Those whose neighbours and place in the sentence are alike come first.
    """
    here, _ = read(chapter)
    wanted = [plain(w.text) for w in here.words[words[0] : words[1] + 1]]
    if not wanted or not all(wanted):
        return []
    found: list[Elsewhere] = []
    for other in book.chapters:
        text, hearing = read(other) if other.recording and other.hearing else (here, None)
        if hearing is None:
            continue
        plains = [plain(w.text) for w in text.words]
        firsts = [
            k
            for k in range(len(plains) - len(wanted) + 1)
            if plains[k : k + len(wanted)] == wanted
            and all(same_word(here, words[0] + n, text, k + n) for n in range(len(wanted)))
        ]
        for voice, heard in ((other.recording, hearing), *hearing.voices):
            reader = same_reader(book, recording, voice)
            if reader is False:
                continue
            said = _read_as_written(heard)
            for first in firsts:
                place = range(first, first + len(wanted))
                if said.issuperset(place) and (other.id != chapter.id or first != words[0]):
                    unlike = _unlike_words(here, words, text, (first, place[-1])) + (0.0 if other.id == chapter.id else 0.5)
                    around = " ".join(w.text for w in text.words[max(0, first - 3) : place.stop + 3])
                    start, stop = _edges(heard, place, round(EDGE_S * book.rate))
                    row = Elsewhere(other.id, other.title, first, len(wanted), around, voice, start, stop, unlike)
                    found.append(row if reader else replace(row, unlike=unlike + 1, told=UNNAMED))
    return sorted(found, key=lambda p: p.unlike)


def _edges(hearing: Hearing, place: range, edge: int) -> tuple[int, int]:
    """Where words begin and end in their recording, with a little around them where their neighbours leave that."""
    starts, stops = hearing.words
    first, last = place[0], place[-1]
    before = int(stops[first - 1]) if first and stops[first - 1] >= 0 else 0
    after = int(starts[last + 1]) if last + 1 < len(starts) and starts[last + 1] >= 0 else 1 << 62
    start, stop = int(starts[first]), int(stops[last])
    return max(start - edge, min(start, (before + start) // 2)), min(stop + edge, max(stop, (stop + after) // 2))


def _read_as_written(hearing: Hearing) -> set[int]:
    """The written words that were heard as they are written, each with its place."""
    same = {w for a, b, _, _, alike in hearing.links if alike for w in range(a, b)}
    return {w for w in same if hearing.placed[w] is not None}


def _unlike_words(here: Chapter, words: tuple[int, int], there: Chapter, place: tuple[int, int]) -> float:
    """How unlike two places are by their words: 1 for another end of the sentence, and up to 1 for each other neighbour."""

    def ends(text: Chapter, at: int) -> str:
        mark = text.words[at].text.rstrip("\"'”’)")[-1:]
        return mark if mark in ".?!,;:" else ""

    def beside(text: Chapter, at: int) -> str:
        return plain(text.words[at].text) if 0 <= at < len(text.words) else ""

    unlike = 0.0 if ends(here, words[1]) == ends(there, place[1]) else 1.0
    for one, other, edge in (
        (beside(here, words[0] - 1), beside(there, place[0] - 1), slice(-1, None)),
        (beside(here, words[1] + 1), beside(there, place[1] + 1), slice(0, 1)),
    ):
        unlike += 0.0 if one == other else 0.5 if one[edge] == other[edge] else 1.0
    return unlike


def ranked(
    places: Sequence[Elsewhere],
    render: Callable[[int, int], Signal],
    span: Span,
    length: int,
    sound: Sound,
    rate: int,
    watch: Watch | None = None,
) -> list[Elsewhere]:
    """Places in the order of how like they would sound where a span of a reel is.

    Each is put in between what is there, at the level that the speech around it is brought to here; at both joins the step of
    tone is measured (`seam_at`).  A place counts as unlike by 1 for every 2 dB of that, for every 12 dB of level, and for a
    length that differs by half (own rule).  `render` gives samples of the reel, (n,).
    """
    watch = watch or Unwatched()
    around = round(AROUND_S * rate)
    left = np.asarray(render(max(0, span.start - around), span.start))
    right = np.asarray(render(span.stop, min(length, span.stop + around)))
    here = np.concatenate([left, np.asarray(render(span.start, span.stop)), right])
    found: list[Elsewhere] = []
    for number, place in enumerate(places[:MOST_MEASURED]):
        watch.tick(number / min(len(places), MOST_MEASURED), place.title)
        first = max(0, place.start - around)
        there = np.asarray(sound(place.recording, first, place.stop + around))
        gain_db = level_match(here, there, rate)
        x = there[place.start - first : place.stop - first] * np.float32(ratio(gain_db))
        whole = np.concatenate([left, x, right])
        tone = max(seam_at(whole, at, rate).tone_step_db for at in (len(left), len(left) + len(x)))
        longer = abs(np.log(max(1, len(x)) / max(1, len(span)))) / np.log(1.5)
        unlike = place.unlike + tone / 2 + abs(gain_db) / 12 + longer
        told = ", ".join(filter(None, (f"tone {tone:.1f} dB, level {gain_db:+.1f} dB, {len(x) / rate:.2f} s", place.told)))
        found.append(replace(place, unlike=round(float(unlike), 3), gain_db=round(gain_db, 1), told=told))
    return [*sorted(found, key=lambda p: p.unlike), *places[MOST_MEASURED:]]


def mended_from(place: Elsewhere, span: Span, lane: LaneRef, words: str) -> list[ReelCommand]:
    """The edit that puts a place's sound where a span is, at the level that it needs; what follows closes up."""
    piece = Piece(place.recording, place.start, place.stop, place.gain_db, name=words)
    return [Paste(span.start, span.stop, ((lane, (piece,)),), edition=EDITION)]
