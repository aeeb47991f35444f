"""Names and words of the book where they are spoken: one after another to the ear, and compared by their sound."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.findings import Evidence, Finding, Kind
from faithful_reel.core.collate.names import BookWord
from faithful_reel.core.hear.likeness import FEWEST, ODD_TIMES, cepstra, odd_ones, unlikeness
from faithful_reel.core.jobs import Unwatched, Watch
from faithful_reel.core.reel.reel import Lane, Piece, Reel, Segment
from faithful_reel.core.units import EAR_RATE, Signal
from faithful_reel.core.work.mending import tone_of
from faithful_reel.core.work.timeline import Hearing

AROUND_S, BETWEEN_S = 0.35, 0.4
MOST_PLACES = 40


@dataclass(frozen=True, slots=True)
class Spoken:
    """One place of a word: where it stands, where it is in its recording at the book's rate, what was heard there."""

    chapter: str
    word: int
    recording: str
    start: int
    stop: int
    heard: str


def spoken_places(chapters: Mapping[str, tuple[ChapterState, Hearing | None]], places: Iterable[tuple[str, int]]) -> list[Spoken]:
    """The places of a word that are heard, in the order given; those in chapters that were not heard yet are left out."""
    heard_at: dict[str, dict[int, str]] = {}
    found = []
    for chapter_id, word in places:
        chapter, hearing = chapters.get(chapter_id, (None, None))
        if chapter is None or hearing is None or word >= len(hearing.placed):
            continue
        placed = hearing.placed[word]
        if placed is None:
            continue
        if chapter_id not in heard_at:
            heard_at[chapter_id] = {
                i: " ".join(h.text for h in hearing.heard[c:d]) for a, b, c, d, _ in hearing.links for i in range(a, b)
            }
        said = heard_at[chapter_id].get(word, "")
        found.append(Spoken(chapter_id, word, chapter.recording, placed.start, placed.stop, said))
    return found


def medley(book: Book, spoken: Sequence[Spoken]) -> Reel:
    """A reel that lets hear places one after another, each with a little of what stands around it."""
    around = round(AROUND_S * book.rate)
    segments: list[Segment] = []
    for one in spoken[:MOST_PLACES]:
        length = book.recording(one.recording).length
        if segments:
            tone = tone_of(book, book.chapter(one.chapter))
            segments.append(tone.filling(round(BETWEEN_S * book.rate), seed=len(segments)))
        segments.append(Piece(one.recording, max(0, one.start - around), min(length, one.stop + around)))
    return Reel((Lane("voice", tuple(segments)),))


def odd_names(
    words: Sequence[BookWord],
    spoken_of: Callable[[BookWord], Sequence[Spoken]],
    ear_sound_of: Callable[[str], Signal],
    rate: int,
    watch: Watch | None = None,
) -> list[tuple[str, Finding]]:
    """Findings on words that are spoken unlike their other places: (chapter, finding), ids still to be given.

    Parameters
    ----------
    words : sequence of BookWord
        Those with fewer places than three that were heard can not be compared.
    spoken_of : callable
        Where a word is heard.
    ear_sound_of : callable
        A recording's sound at 16 kHz; every recording is asked for once.
    rate : int, Hz
        The book's rate.
    """
    watch = watch or Unwatched()
    rows = [(word, list(spoken_of(word))) for word in words]
    rows = [(word, places) for word, places in rows if len(places) >= FEWEST]
    shapes: dict[Spoken, NDArray[np.float32]] = {}
    recordings = sorted({p.recording for _, places in rows for p in places})
    for done, recording in enumerate(recordings):
        x = ear_sound_of(recording)
        for _, places in rows:
            for p in places:
                if p.recording == recording:
                    shapes[p] = cepstra(x[round(p.start * EAR_RATE / rate) : round(p.stop * EAR_RATE / rate)])
        watch.tick((done + 1) / (len(recordings) + 1), "listening to names")
    found = []
    for word, places in rows:
        for index, times in odd_ones(unlikeness([shapes[p] for p in places])):
            p = places[index]
            note = f"spoken unlike the {len(places) - 1} other places of “{word.text}” ({times:.1f} times the usual distance)"
            sure = round(min(0.9, 0.5 + 0.6 * (times - ODD_TIMES)), 3)
            finding = Finding("", Kind.NAME, word.text, p.heard, p.word, 1, p.start, p.stop, sure, Evidence(note=note))
            found.append((p.chapter, finding))
    watch.tick(1.0, "done")
    return found


def numbered(book: Book, rows: Iterable[tuple[str, Finding]]) -> list[tuple[str, Finding]]:
    """The findings with ids that their chapters have not used."""
    taken = {c.id: {f.id for f in c.findings} for c in book.chapters}
    out = []
    for chapter, finding in rows:
        name = next(n for k in itertools.count(1) if (n := f"n{k:04d}") not in taken[chapter])
        taken[chapter].add(name)
        out.append((chapter, replace(finding, id=name)))
    return out
