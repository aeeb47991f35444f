"""What a step is called in the history: what was done, and to which words."""

from __future__ import annotations

from faithful_reel.core.book.commands import (
    AcceptReading,
    AddFinding,
    BookCommand,
    Decide,
    DecideSeveral,
    EditReel,
    NoteFinding,
    Settle,
    SwapTake,
)
from faithful_reel.core.book.kept import PutPrint, PutRedrawn
from faithful_reel.core.book.model import Book
from faithful_reel.core.book.pickups import ChooseTake, NotePickup, PassPickup, PlaceSplice
from faithful_reel.core.collate.findings import Finding

LONGEST = 40


def step_label(command: BookCommand, before: Book) -> str:
    """The name of a step, for the book as it is before it: “Stet: green”, “Mend: had gone out”."""
    words = _words(command, before)
    name = "Mend" if isinstance(command, EditReel) and command.findings else command.label
    return f"{name}: {shortened(words)}" if words else name


def shortened(words: str) -> str:
    """As many words as a row has room for."""
    words = " ".join(words.split())
    return words if len(words) <= LONGEST else words[: LONGEST - 1].rsplit(" ", 1)[0] + " …"


def _words(command: BookCommand, before: Book) -> str:
    match command:
        case Decide() | EditReel() if command.findings:
            return _of_findings(before, command.chapter, command.findings)
        case DecideSeveral():
            ids = tuple(f for d in command.decided for f in d.findings)
            return _of_findings(before, command.chapter, ids) if len(ids) == 1 else ""
        case NoteFinding() | Settle():
            return _of_findings(before, command.chapter, (command.finding,))
        case AddFinding() | SwapTake():
            return _of(command.finding)
        case PutPrint() | PutRedrawn():
            return command.words
        case AcceptReading():
            return command.written
        case PlaceSplice() | PassPickup() | ChooseTake() | NotePickup():
            return next((p.line for p in before.pickups if p.id == command.pickup), "")
    return ""


def _of_findings(book: Book, chapter: str, ids: tuple[str, ...]) -> str:
    found = [f for c in book.chapters if c.id == chapter for f in c.findings if f.id in ids]
    return ", ".join(filter(None, map(_of, found)))


def _of(f: Finding) -> str:
    return f.written or f.heard or f.evidence.flaw or f.kind.value.replace("_", " ")
