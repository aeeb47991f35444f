"""What happens at the Pickups desk."""

from __future__ import annotations

from pathlib import Path

from faithful_reel.app.workbench import Observed, Workbench
from faithful_reel.core.book.commands import EDITION, AddRecording
from faithful_reel.core.book.pickups import ChooseTake, MarkSent, NotePickup, ReceiveTakes
from faithful_reel.core.errors import AppError
from faithful_reel.core.jobs import Watch
from faithful_reel.core.pickups.ledger import WAITING, Pickup, State, Unmatched, write_call_sheet
from faithful_reel.core.reel.reel import Lane, Piece, Reel
from faithful_reel.core.units import samples
from faithful_reel.core.work.receiving import Received, received_takes

AROUND_S, LEAD_S = 2.0, 1 / 3


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
        try:
            write_call_sheet(path, due, titles, self.bench.book.rate, self.bench.book.say)
        except AppError as problem:
            self.bench.tell(str(problem))
            return False
        return self.bench.do(MarkSent(tuple(p.id for p in due)))

    def receive(self, path: Path) -> None:
        """Take in a pickup recording and find which stretch reads which line."""
        waiting = [p for p in self.rows() if p.state in WAITING]
        if not waiting:
            self.bench.tell("No pickup is waiting for a take. Decide findings as pickups at the Proof desk first.")
            return
        folder, book, ears = self.bench.session.store.folder, self.bench.book, self.bench.ears

        def job(watch: Watch) -> Received:
            return received_takes(folder, book, path, waiting, lambda: ears.all(book.language), watch)

        self.bench.jobs.start(f"Sort {path.name}", job, done=self._received, stopped=self.bench.stopped)

    def _received(self, found: Received) -> None:
        recording = found.recording
        if any(r.hash == recording.hash for r in self.bench.book.recordings):
            self.bench.tell(f"{recording.name} is in the book already: only takes that were not found before come to the ledger.")
        elif not self.bench.do(AddRecording(recording)):
            return
        there = {p.id for p in self.bench.book.pickups}
        left = tuple(Unmatched(recording.hash, u.start, u.stop, u.heard) for u in found.left)
        self.bench.do(ReceiveTakes(recording.hash, tuple(row for row in found.matched if row[0] in there), EDITION, left))

    def original(self) -> Reel | None:
        """The line at hand as the chapter's recording has it, with a little around it."""
        pickup = self.pickup()
        if pickup is None:
            self.bench.tell("No line is at hand. Decide a finding as Pickup first.")
            return None
        recording, rate = self.bench.book.chapter(pickup.chapter).recording, self.bench.book.rate
        around = samples(AROUND_S, rate)
        return Reel((Lane("original", (Piece(recording, max(0, pickup.start - around), pickup.stop + around),)),))

    def take_reel(self, number: int) -> Reel | None:
        """A take of the line at hand, with a little around it; None where there is none of that number."""
        pickup = self.pickup()
        if pickup is None or not 0 <= number < len(pickup.takes):
            self.bench.tell("This line has no take yet. Receive a pickup recording first.")
            return None
        take, lead = pickup.takes[number], samples(LEAD_S, self.bench.book.rate)
        return Reel((Lane("take", (Piece(take.recording, max(0, take.start - lead), take.stop + lead),)),))

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
