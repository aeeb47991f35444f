"""What happens at the Release desk."""

from __future__ import annotations

from pathlib import Path

from faithful_reel.app.master.presenter import MasterPresenter
from faithful_reel.app.workbench import Observed, Workbench
from faithful_reel.core.book.commands import MarkReleased, SetDetails
from faithful_reel.core.jobs import Watch
from faithful_reel.core.measure.profile import load_profile
from faithful_reel.core.pickups.ledger import WAITING
from faithful_reel.core.release.package import Entry, Released, release_chapters
from faithful_reel.core.work.mastering import CURRENT, MASTERS, MasterState
from faithful_reel.core.work.timeline import finding_spans, still_heard


class ReleasePresenter(Observed):
    """Details, files and their check."""

    def __init__(self, bench: Workbench, mastering: MasterPresenter) -> None:
        super().__init__()
        self.bench, self.mastering = bench, mastering
        self.released: list[Released] = []
        self.working = False

    def missing(self) -> list[str]:
        """What stands in the way, in words."""
        book = self.bench.book
        states = [(c.title, self.mastering.state(c)) for c in book.chapters]
        found = [f"{title}: master {state.value}" for title, state in states if state is not MasterState.PASSES]
        if not book.author or not book.narrator:
            found.append("author and narrator are not named")
        heard = sum(
            still_heard(f, s) for c in book.chapters for f, s in zip(c.findings, finding_spans(c, c.findings), strict=True)
        )
        if heard:
            found.append(f"{heard} {'finding that is' if heard == 1 else 'findings that are'} to be mended can still be heard")
        waiting = [p for p in book.pickups if p.state in WAITING]
        if waiting:
            found.append("1 pickup is not put in" if len(waiting) == 1 else f"{len(waiting)} pickups are not put in")
        return found

    def set_details(self, title: str, author: str, narrator: str) -> bool:
        """Name the book, its author and narrator."""
        book = self.bench.book
        if (title, author, narrator) == (book.title, book.author, book.narrator):
            return False
        return self.bench.do(SetDetails(title, author, narrator))

    def release(self, out: Path) -> None:
        """Write the finished files of all chapters whose master is current."""
        book = self.bench.book
        folder = self.bench.session.store.folder / MASTERS
        entries = [
            Entry(c.id, folder / c.master.stored, c.title, c.master.digest)
            for c in book.chapters
            if c.master and self.mastering.state(c) in CURRENT
        ]
        if not entries:
            self.bench.tell("No chapter has a current master. Master the chapters first.")
            return
        if self.working:
            return
        tags = {
            "album": book.title,
            "artist": book.author,
            "albumartist": book.author,
            "composer": book.narrator,
            "genre": "Audiobook",
        }
        profile = load_profile(self.mastering.profile)

        def job(watch: Watch) -> list[Released]:
            return release_chapters(entries, out, tags, profile, watch)

        def done(released: list[Released]) -> None:
            self.working = False
            self.released = released
            self.bench.do(MarkReleased(tuple((r.chapter, r.path.name) for r in released)))

        def stopped(why: BaseException) -> None:
            self.working = False
            self.changed()
            self.bench.stopped(why)

        self.working = True
        self.bench.jobs.start("Release", job, done=done, stopped=stopped)
        self.changed()
