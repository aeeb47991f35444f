"""The ledger of pickups and the call sheet that the narrator receives."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from faithful_reel.core.collate.names import name_key
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import beside, harmless


class State(StrEnum):
    """How far a pickup has come."""

    TO_SEND = "to send"
    SENT = "sent"
    IN = "in"
    CHOSEN = "chosen"
    SPLICED = "spliced"
    PASSED = "passed"
    DROPPED = "dropped"
    """It had gone out, and is not wanted any more; its takes are kept."""


WAITING = frozenset({State.TO_SEND, State.SENT, State.IN, State.CHOSEN})
"""States in which a pickup can still receive takes, and be put in."""
DONE = frozenset({State.SPLICED, State.PASSED})


@dataclass(frozen=True, slots=True)
class Take:
    """One reading of a pickup's line in a pickup recording; positions in samples at the book's rate.

    `words` holds (start, stop) of every token of the line, (-1, -1) for one that was not read.  `said` are the words
    that were heard, (text, start, stop), with the one before and the one after the take, which belong to something
    else; `own` is the half-open range of those that are the take's.  `part`
    tells that it reads only some of the line, `remarks` what else is to be said against it, `clear` how far the quiet reaches
    before it and after it.  Empty in books of earlier versions.
    """

    recording: str
    start: int
    stop: int
    departures: int
    heard: str
    words: tuple[tuple[int, int], ...] = ()
    said: tuple[tuple[str, int, int], ...] = ()
    own: tuple[int, int] = (0, 0)
    part: bool = False
    remarks: tuple[str, ...] = ()
    clear: tuple[int, int] = (0, 0)


@dataclass(frozen=True, slots=True)
class Pickup:
    """One line that the narrator is to read again.

    `first_word` and `word_count` say where the line stands, `note` what is wanted beside the words as written.
    """

    id: str
    chapter: str
    findings: tuple[str, ...]
    line: str
    heard: str
    first_word: int
    word_count: int
    start: int
    stop: int
    state: State = State.TO_SEND
    takes: tuple[Take, ...] = ()
    chosen: int = -1
    note: str = ""


def call_sheet(pickups: Sequence[Pickup], titles: dict[str, str], rate: int, say: Sequence[tuple[str, str]] = ()) -> str:
    """The call sheet as CSV: number, chapter, time, the line, what was heard instead, how its names are spoken, the note.

    `say` are pairs of a name and how it is to be spoken; those that the line holds are written beside it.
    """
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["number", "chapter", "time", "read this line", "what was heard", "how to say it", "note"])
    for number, pickup in enumerate(pickups, 1):
        minutes, seconds = divmod(pickup.start / rate, 60)
        here = {name_key(w) for w in pickup.line.split()}
        spoken = "; ".join(f"{name}: {how}" for name, how in say if name in here)
        time = f"{int(minutes)}:{seconds:04.1f}"
        told = (titles.get(pickup.chapter, ""), time, pickup.line, pickup.heard, spoken, pickup.note)
        writer.writerow([number, *map(harmless, told)])
    return out.getvalue()


def write_call_sheet(
    path: Path, pickups: Sequence[Pickup], titles: dict[str, str], rate: int, say: Sequence[tuple[str, str]] = ()
) -> None:
    """Write the call sheet as CSV, beside and renamed.

    Raises
    ------
    FileProblem
        It can not be written there; what was there before stays.
    """
    part = beside(path)
    try:
        part.write_text(call_sheet(pickups, titles, rate, say), encoding="utf-8")
        part.replace(path)
    except OSError as problem:
        told = f"The call sheet {path.name} could not be written ({problem.strerror}). Choose another folder."
        raise FileProblem(told) from problem
    finally:
        part.unlink(missing_ok=True)
