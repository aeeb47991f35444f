"""Taking in a pickup recording: copied, heard, and each of its stretches matched to the line that it reads."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from faithful_reel.core.apart import apart
from faithful_reel.core.audio.files import read_mono
from faithful_reel.core.book.model import Book, Recording
from faithful_reel.core.book.recordings import decode, path_of, received
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.hear.recogniser import Ear, passing
from faithful_reel.core.jobs import Part, Watch
from faithful_reel.core.pickups.ledger import Pickup, Take
from faithful_reel.core.pickups.placing import heard_in, takes_of
from faithful_reel.core.units import EAR_RATE

EarOf = Callable[[], Ear]
"""Loads the ear when it is needed."""


@dataclass(frozen=True, slots=True)
class Received:
    """A pickup recording in the book's folder, and for every line that it reads (pickup, takes, the proposed one)."""

    recording: Recording
    matched: tuple[tuple[str, tuple[Take, ...], int], ...]


def received_takes(folder: Path, book: Book, path: Path, waiting: Sequence[Pickup], ear_of: EarOf, watch: Watch) -> Received:
    """Copy a pickup recording into a book's folder and find which stretch reads which of the waiting lines.

    Raises
    ------
    FileProblem
        It can not be read, or none of the lines was heard in it.
    """
    recording = apart(received, folder, path, book.rate, path=path, watch=Part(watch, 0.0, 0.2))
    decode(folder, book, recording)
    sound = path_of(folder, recording, book.rate)
    matched = matched_takes(sound, recording.hash, book.rate, waiting, ear_of(), Part(watch, 0.2, 1.0))
    if not matched:
        raise FileProblem(f"None of the waiting lines was heard in {path.name}. Check that this is the right recording.")
    return Received(recording, matched)


def matched_takes(
    sound: Path, recording: str, rate: int, waiting: Sequence[Pickup], ear: Ear, watch: Watch
) -> tuple[tuple[str, tuple[Take, ...], int], ...]:
    """(pickup, takes, the proposed one) of every waiting line that is heard in a file."""
    with passing(ear):
        heard = heard_in(read_mono(sound, EAR_RATE), rate, ear, watch)
    found = tuple((p.id, *takes_of(p.line, heard, recording)) for p in waiting)
    return tuple(row for row in found if row[1])
