"""Pairing chapters with the recordings that read them, by what an ear heard in samples of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from faithful_reel.core.book.commands import PairByEar
from faithful_reel.core.book.making import passages_in
from faithful_reel.core.book.model import Book, Recording, Stretch
from faithful_reel.core.book.recordings import joined
from faithful_reel.core.collate.pairing import Finder, Passage
from faithful_reel.core.hear.recogniser import Ear, passing
from faithful_reel.core.jobs import Part, Watch
from faithful_reel.core.text.words import Chapter

SURE = 0.34
"""What a passage must reach to be paired without being asked (own rule)."""


@dataclass(frozen=True, slots=True)
class Paired:
    """What was found: the command, which may hold no pair, and how many stretches were too unsure."""

    command: PairByEar
    unsure: int


def unread(book: Book) -> list[Recording]:
    """The recordings that read no chapter and hold no take."""
    used = {c.recording for c in book.chapters} | {t.recording for p in book.pickups for t in p.takes}
    used |= {p.recording for r in book.recordings if r.hash in used for p in r.parts}
    return [r for r in book.brought if r.hash not in used and not r.parts]


def passages_of(
    recordings: Sequence[Recording],
    texts: Sequence[Chapter],
    rate: int,
    decoded: Callable[[Recording], Path],
    ear: Ear,
    watch: Watch,
) -> list[Passage]:
    """Hear samples of recordings and find which chapters they read."""
    finder = Finder(texts)
    found: list[Passage] = []
    with passing(ear):
        for index, recording in enumerate(recordings):
            part = Part(watch, index / len(recordings), (index + 1) / len(recordings))
            part.tick(0.0, recording.name)
            found += passages_in(decoded(recording), recording, rate, finder, ear, part)
    return found


def paired_by_ear(book: Book, found: Sequence[Passage]) -> Paired:
    """Pair every chapter that has no recording with the passages that read it; several become one recording."""
    made: list[Recording] = []
    pairs: list[tuple[str, str]] = []
    unsure = 0
    for number, chapter in enumerate(book.chapters):
        mine = sorted((p for p in found if p.chapter == number), key=lambda p: p.first_word)
        unsure += sum(p.sure < SURE for p in mine)
        mine = [p for p in mine if p.sure >= SURE]
        if not mine or chapter.recording:
            continue
        sources = [book.recording(p.recording) for p in mine]
        if len(mine) == 1 and (mine[0].start, mine[0].stop) == (0, sources[0].length):
            pairs.append((chapter.id, mine[0].recording))
            continue
        parts = tuple(Stretch(p.recording, p.start, p.stop) for p in mine)
        recording = joined(book, parts, f"{' + '.join(Path(s.name).stem for s in sources)} ({chapter.title})")
        made.append(recording)
        pairs.append((chapter.id, recording.hash))
    return Paired(PairByEar(tuple(made), tuple(pairs)), unsure)
