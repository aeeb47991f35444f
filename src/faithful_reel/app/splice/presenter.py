"""What happens at the Splice desk."""

from __future__ import annotations

from faithful_reel.app.workbench import Observed, Workbench
from faithful_reel.core.book.commands import PassPickup, PlaceSplice
from faithful_reel.core.errors import AppError
from faithful_reel.core.memo import Memo
from faithful_reel.core.pickups.ledger import DONE, WAITING, Pickup, State
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.reel.render import FileSources, Renderer
from faithful_reel.core.units import Span, samples
from faithful_reel.core.work.mending import Columns
from faithful_reel.core.work.splicing import InPlace, Preview, in_place, piece_of, preview_splice, recording_reel, take_reel


class SplicePresenter(Observed):
    """Planning a splice, hearing it, placing it, passing it."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self.current = ""
        self.choice = (0, 0)
        self.match_level = True
        self.problem = ""
        self._previews: Memo[Preview] = Memo()
        self._in_place: Memo[InPlace | None] = Memo()
        self._sources = FileSources(bench.path_of)

    def rows(self) -> list[Pickup]:
        """The pickups that have a take, in reading order."""
        order = {c.id: i for i, c in enumerate(self.bench.book.chapters)}
        ready = [p for p in self.bench.book.pickups if p.takes]
        return sorted(ready, key=lambda p: (order.get(p.chapter, 0), p.first_word))

    def pickup(self) -> Pickup | None:
        """The pickup at hand: the chosen one, else the first that is not placed."""
        rows = self.rows()
        return next(
            (p for p in rows if p.id == self.current),
            next((p for p in rows if p.state in (State.IN, State.CHOSEN)), rows[0] if rows else None),
        )

    def choose(self, pickup_id: str) -> None:
        """Take a pickup in hand."""
        self.current = pickup_id
        self.choice = (0, 0)
        pickup = self.pickup()
        if pickup:
            self.bench.open_chapter(pickup.chapter)
        self.changed()

    def choose_boundaries(self, entering: int, leaving: int) -> None:
        """Try other proposals; (0, 0) is the best pair."""
        self.choice = (entering, leaving)
        self.changed()

    def set_match_level(self, *, on: bool) -> None:
        """Match the take's level to the chapter's, or leave it."""
        self.match_level = on
        self.changed()

    def _renderer(self, reel: Reel) -> Renderer:
        return Renderer(reel, self._sources)

    def preview(self) -> Preview | None:
        """The splice as it would be now; None, with `problem` told, where it can not be done or is done."""
        pickup = self.pickup()
        self.problem = ""
        if pickup is None or pickup.state not in WAITING:
            return None
        chapter = self.bench.book.chapter(pickup.chapter)
        hearing = self.bench.hearing(chapter)
        if chapter.reel is None or hearing is None:
            self.problem = "This chapter was not heard yet. Hear it at the Proof desk first."
            return None
        reel = chapter.reel

        def planned() -> Preview:
            return preview_splice(
                self.bench.book,
                chapter,
                pickup,
                hearing,
                self._renderer(reel).render,
                self._renderer,
                choose=self.choice,
                match_level=self.match_level,
            )

        try:
            return self._previews.of("", (pickup, chapter, *self.choice, self.match_level), planned)
        except AppError as problem:
            self.problem = str(problem)
            return None

    def in_place(self) -> InPlace | None:
        """How the take at hand stands in the reel, where it is in."""
        pickup = self.pickup()
        if pickup is None or pickup.state not in DONE:
            return None
        chapter = self.bench.book.chapter(pickup.chapter)
        hearing = self.bench.hearing(chapter)
        if hearing is None:
            return None
        try:
            return self._in_place.of(
                "", (pickup, chapter.reel), lambda: in_place(self.bench.book, chapter, pickup, hearing, self._renderer)
            )
        except AppError as problem:
            self.problem = str(problem)
            return None

    def before(self) -> tuple[Reel, int, int] | None:
        """The line as the chapter has it: a reel and the stretch to hear; None where there is no splice to be made."""
        preview, pickup = self.preview(), self.pickup()
        reel = self.bench.book.chapter(pickup.chapter).reel if pickup else None
        return (reel, preview.original.start, preview.original.stop) if preview and reel else None

    def after(self, around_s: float) -> tuple[Reel, int, int] | None:
        """The line as it would be, or is, with so much on either side."""
        preview, pickup = self.preview(), self.pickup()
        around = samples(around_s, self.bench.book.rate)
        if preview:
            reel, span = preview.reel, Span(preview.made.join_in, preview.made.join_out)
        else:
            found = self.bench.book.chapter(pickup.chapter).reel if pickup else None
            placed = piece_of(found, pickup.id) if found and pickup else None
            if found is None or placed is None:
                return None
            reel, span = found, placed
        return reel, max(0, span.start - around), min(len(reel), span.stop + around)

    def columns(self) -> tuple[Columns, Columns, Columns] | None:
        """What the original, the result and the take look like; None where no splice is shown."""
        pickup = self.pickup()
        if pickup is None:
            return None
        chapter, preview, placed = self.bench.book.chapter(pickup.chapter), self.preview(), self.in_place()
        if chapter.reel is None or (preview is None and placed is None):
            return None
        take = self.bench.columns(take_reel(self.bench.book, pickup.takes[pickup.chosen]))
        if preview is not None:
            return self.bench.columns(chapter.reel), self.bench.columns(preview.reel), take
        return self.bench.columns(recording_reel(self.bench.book, chapter.recording)), self.bench.columns(chapter.reel), take

    def place(self) -> bool:
        """Put the take in."""
        pickup, preview = self.pickup(), self.preview()
        if pickup is None or preview is None:
            done = pickup is not None and pickup.state in DONE
            self.bench.tell("This take is in already." if done else self.problem or "No pickup has a take to put in.")
            return False
        self.current = pickup.id
        return self.bench.do(PlaceSplice(pickup.chapter, pickup.id, preview.plan.command))

    def pass_(self) -> bool:
        """The splice was heard and is good; go on to the next."""
        pickup = self.pickup()
        if pickup is None:
            self.bench.tell("No splice is at hand to be passed.")
        if pickup is None or not self.bench.do(PassPickup(pickup.id)):
            return False
        following = next((p for p in self.rows() if p.state in (State.IN, State.CHOSEN)), None)
        if following:
            self.choose(following.id)
        return True

    def close(self) -> None:
        """Let go of the files."""
        self._sources.close()
