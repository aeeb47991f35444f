"""Taking in a pickup recording: copied, heard, and each of its stretches matched to the line that it reads."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from faithful_reel.core.apart import apart
from faithful_reel.core.audio.files import read_mono
from faithful_reel.core.book.model import Book, Recording
from faithful_reel.core.book.recordings import decode, path_of, received
from faithful_reel.core.collate.proofing import aligned
from faithful_reel.core.hear.ears import Ears
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.jobs import Part, Watch
from faithful_reel.core.pickups.judging import Leftover, session_of
from faithful_reel.core.pickups.ledger import Pickup, Take, Unmatched
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.units import EAR_RATE
from faithful_reel.core.work.asking import words_to_mind

EDGE_S = 0.15
"""So much is heard around a stretch that is given to a line by hand."""


EarsOf = Callable[[], Ears]
"""Loads the ears when they are needed."""


@dataclass(frozen=True, slots=True)
class Received:
    """A pickup recording in the book's folder, for every line that it reads (pickup, takes, the proposed one), and the rest."""

    recording: Recording
    matched: tuple[tuple[str, tuple[Take, ...], int], ...]
    left: tuple[Leftover, ...] = ()


def received_takes(
    folder: Path,
    book: Book,
    path: Path,
    waiting: Sequence[Pickup],
    ears_of: EarsOf,
    watch: Watch,
    memory: Memory | None = None,
) -> Received:
    """Copy a pickup recording into a book's folder and find which stretch reads which of the waiting lines.

    What was received is kept, with all its stretches, whether a line was heard in it or not.

    Raises
    ------
    FileProblem
        It can not be read.
    """
    recording = apart(received, folder, path, book.rate, path=path, watch=Part(watch, 0.0, 0.2))
    decode(folder, book, recording)
    sound = path_of(folder, recording, book.rate)
    asked, part = [_asked(book, p) for p in waiting], Part(watch, 0.2, 1.0)
    matched, left = matched_takes(sound, recording.hash, book.rate, waiting, ears_of(), part, memory, asked)
    return Received(recording, matched, left)


def _asked(book: Book, pickup: Pickup) -> range:
    """The tokens of a line that it is asked for; empty where it is for no finding."""
    chapter = next((c for c in book.chapters if c.id == pickup.chapter), None)
    words = words_to_mind(chapter, pickup) if chapter is not None else frozenset()
    return range(min(words), max(words) + 1) if words else range(0)


def matched_takes(
    sound: Path,
    recording: str,
    rate: int,
    waiting: Sequence[Pickup],
    ears: Ears,
    watch: Watch,
    memory: Memory | None = None,
    marked: Sequence[range] = (),
) -> tuple[tuple[tuple[str, tuple[Take, ...], int], ...], tuple[Leftover, ...]]:
    """(pickup, takes, the proposed one) of every waiting line that is heard in a file, and what fits no line."""
    found = session_of(read_mono(sound, EAR_RATE), [p.line for p in waiting], ears, recording, rate, watch, memory, marked)
    rows = tuple((p.id, row.takes, row.best) for p, row in zip(waiting, found.lines, strict=True) if row.takes)
    return rows, found.left


def given_take(
    sound: Path, rate: int, line: str, left: Unmatched, ears: Ears, watch: Watch | None = None, memory: Memory | None = None
) -> Take:
    """A stretch that fitted no line as a take of one: the words that the ears find in it are where they find them.

    The others share what lies between by their letters; where none is found all do.

    Raises
    ------
    FileProblem
        The file can not be read.
    """
    whole = read_mono(sound, EAR_RATE)
    lead = round(EDGE_S * EAR_RATE)
    first = max(0, round(left.start * EAR_RATE / rate) - lead)
    x = whole[first : round(left.stop * EAR_RATE / rate) + lead]
    text = chapter_of("line", [line])
    placed = aligned(x, text, ears, watch, memory)

    def at(position: int) -> int:
        return min(left.stop, max(left.start, round((first + position) * rate / EAR_RATE)))

    known = [(at(p.start), at(p.stop)) if p is not None else None for p in placed]
    words = _filled([w.text for w in text.words], known, left.start, left.stop)
    return Take(left.recording, left.start, left.stop, 0, left.heard, words, remarks=("given by hand",))


def _filled(tokens: Sequence[str], known: Sequence[tuple[int, int] | None], start: int, stop: int) -> tuple[tuple[int, int], ...]:
    """Places of all tokens: runs that are not known share what lies between the known ones, by their letters."""
    out: list[tuple[int, int]] = []
    for unread, run in itertools.groupby(range(len(tokens)), key=lambda k: known[k] is None):
        rows = list(run)
        if not unread:
            out += [known[k] or (start, start) for k in rows]
            continue
        low = out[-1][1] if out else start
        high = next((k[0] for k in known[rows[-1] + 1 :] if k is not None), stop)
        sizes = np.cumsum([0, *(len(tokens[k]) for k in rows)])
        edges = low + np.rint((max(low, high) - low) * sizes / max(1, sizes[-1])).astype(int)
        out += [(int(a), int(b)) for a, b in itertools.pairwise(edges)]
    return tuple(out)
