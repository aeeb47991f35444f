"""What happens at the Pickups desk."""

from __future__ import annotations

from pathlib import Path

from faithful_reel.app.workbench import Observed, Workbench
from faithful_reel.core.apart import apart
from faithful_reel.core.audio.files import read_mono
from faithful_reel.core.book.commands import EDITION, AddRecording, ChooseTake, MarkSent, NotePickup, ReceiveTakes
from faithful_reel.core.book.model import Recording
from faithful_reel.core.book.recordings import decode, path_of, received
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import beside
from faithful_reel.core.hear.recogniser import passing
from faithful_reel.core.jobs import Part, Watch
from faithful_reel.core.pickups.ledger import WAITING, Pickup, State, Take, call_sheet
from faithful_reel.core.pickups.placing import heard_in, takes_of
from faithful_reel.core.units import EAR_RATE

Found = tuple[Recording, tuple[tuple[str, tuple[Take, ...], int], ...]]


class PickupsPresenter(Observed):
    """The ledger: sending, receiving, choosing."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self.current = ""

    def rows(self) -> list[Pickup]:
        """All pickups in reading order of the book."""
        order = {c.id: i for i, c in enumerate(self.bench.book.chapters)}
        return sorted(self.bench.book.pickups, key=lambda p: (order.get(p.chapter, 0), p.first_word))

    def pickup(self) -> Pickup | None:
        """The pickup at hand."""
        return next((p for p in self.bench.book.pickups if p.id == self.current), None)

    def choose(self, pickup_id: str) -> None:
        """Take a pickup in hand."""
        self.current = pickup_id
        self.changed()

    def send(self, path: Path) -> bool:
        """Write the call sheet of all that is to send, and mark it sent."""
        due = [p for p in self.rows() if p.state is State.TO_SEND]
        if not due:
            self.bench.tell("There is nothing to send: every pickup is sent already.")
            return False
        titles = {c.id: c.title for c in self.bench.book.chapters}
        part = beside(path)
        try:
            part.write_text(call_sheet(due, titles, self.bench.book.rate, self.bench.book.say), encoding="utf-8")
            part.replace(path)
        except OSError as problem:
            self.bench.tell(f"The call sheet {path.name} could not be written ({problem.strerror}). Choose another folder.")
            return False
        finally:
            part.unlink(missing_ok=True)
        return self.bench.do(MarkSent(tuple(p.id for p in due)))

    def receive(self, path: Path) -> None:
        """Take in a pickup recording and find which stretch reads which line."""
        waiting = [p for p in self.rows() if p.state in WAITING]
        if not waiting:
            self.bench.tell("No pickup is waiting for a take. Decide findings as pickups at the Proof desk first.")
            return
        folder, rate, ears = self.bench.session.store.folder, self.bench.book.rate, self.bench.ears
        book = self.bench.book

        def job(watch: Watch) -> Found:
            recording = apart(received, folder, path, rate, path=path, watch=Part(watch, 0.0, 0.2))
            decode(folder, book, recording)
            x = read_mono(path_of(folder, recording, rate), EAR_RATE)
            ear = ears.all(book.language).first
            with passing(ear):
                heard = heard_in(x, rate, ear, Part(watch, 0.2, 1.0))
            found = tuple((p.id, *takes_of(p.line, heard, recording.hash)) for p in waiting)
            matched = tuple(row for row in found if row[1])
            if not matched:
                raise FileProblem(f"None of the waiting lines was heard in {path.name}. Check that this is the right recording.")
            return recording, matched

        self.bench.jobs.start(f"Sort {path.name}", job, done=self._received, stopped=self.bench.stopped)

    def _received(self, found: Found) -> None:
        recording, rows = found
        if any(r.hash == recording.hash for r in self.bench.book.recordings):
            self.bench.tell(f"{recording.name} is in the book already: only takes that were not found before come to the ledger.")
        elif not self.bench.do(AddRecording(recording)):
            return
        there = {p.id for p in self.bench.book.pickups}
        self.bench.do(ReceiveTakes(recording.hash, tuple(r for r in rows if r[0] in there), EDITION))

    def note(self, text: str) -> bool:
        """Write what the narrator is to mind beside the words of the line at hand."""
        pickup = self.pickup()
        if pickup is None or text.strip() == pickup.note:
            return False
        return self.bench.do(NotePickup(pickup.id, text))

    def choose_take(self, take: int) -> bool:
        """Choose a take of the pickup at hand."""
        pickup = self.pickup()
        return pickup is not None and self.bench.do(ChooseTake(pickup.id, take))
