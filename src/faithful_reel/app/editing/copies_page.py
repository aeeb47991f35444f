"""Somebody else's copy of the book, held against the one here; what it has more is taken over or left.  No Qt."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack, closing
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

from faithful_reel.app.editing.pages import NO_LINE, Line, Page
from faithful_reel.app.editing.presenter import Editing
from faithful_reel.core.book.commands import TakeOver
from faithful_reel.core.book.keeping import opened_apart, recordings_from
from faithful_reel.core.book.model import Book
from faithful_reel.core.book.packing import Packed, packed
from faithful_reel.core.book.store import Contents
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import shown, temporary_folder
from faithful_reel.core.jobs import Part, Watch
from faithful_reel.core.work.copies import Copies, Difference, What, archive_name, differences, parted, steps_of
from faithful_reel.core.work.timeline import Hearing

AROUND_S = 1.0
CLASH = "Both were changed since they parted: what is here would be exchanged"


@dataclass(frozen=True, slots=True)
class _Open:
    """The copy that is compared: its archive, what it is called, its database in a folder of its own, and where they parted."""

    archive: Path
    name: str
    held: TemporaryDirectory[str]
    folder: Path
    copies: Copies


class CopiesPage(Page):
    """What another copy has more; only what clashes with what was done here is left out until it is asked for."""

    title = "Another copy"
    heads = ("what", "here", "there")
    widths = (0, 84, 104)
    enter = "list.go"
    buttons = (
        ("Take over", "copies.take"), ("Go there", "list.go"), ("Hear there", "list.hear"), ("All", "copies.all"),
        ("None", "copies.none"), ("Leave out", "list.remove"), ("Compare…", "copies.compare"),
    )  # fmt: skip
    told = "What is of one kind in a chapter is one step. What both have changed (!) is left out until you mark it."

    def __init__(self, editing: Editing) -> None:
        super().__init__(editing)
        self._open: _Open | None = None
        self._rows: list[Difference] = []
        self._of: Book | None = None
        self._left: set[str] = set()
        self._marks: dict[str, bool] = {}
        self.busy = ""

    @property
    def empty(self) -> str:
        """As `Page`."""
        if self.busy:
            return f"Comparing with {self.busy}."
        if self._open is not None:
            return f"{self._open.name} has nothing more than the book here."
        return "No copy is compared. Choose an archive of this book that somebody else has worked on."

    # --- comparing ------------------------------------------------------------------------------------------------

    def compare(self, archive: Path) -> None:
        """Hold the book against an archive of it that came back."""
        self.close()
        self.busy = shown(archive)
        here, head = self.bench.session.store.folder, self.bench.session.store.head

        def read(watch: Watch) -> _Open:
            held = temporary_folder()
            with ExitStack() as given_up:
                given_up.callback(held.cleanup)
                folder = opened_apart(archive, Path(held.name) / "copy.reelbook", Part(watch, 0.0, 0.4))
                copies = parted(here, head, folder, shown(archive), Part(watch, 0.4, 1.0))
                given_up.pop_all()
            return _Open(archive, archive_name(archive), held, folder, copies)

        def came(found: _Open) -> None:
            self.busy = ""
            self._open = found
            rows = self.rows()
            clash = sum(row.clash for row in rows)
            clashing = f"; {clash} clash with what was done here" if clash else ""
            self.bench.report(f"What {found.name} has that is not here: {len(rows)}{clashing}.")
            self.changed()

        self.bench.jobs.start(f"Compare with {self.busy}", read, done=came, stopped=self._stopped)
        self.changed()

    def _stopped(self, why: BaseException) -> None:
        self.busy = ""
        self.bench.stopped(why)
        self.changed()

    def close(self) -> None:
        """Let go of the copy."""
        if self._open is not None:
            self._open.held.cleanup()
        self._open, self._of, self._rows, self._left, self._marks = None, None, [], set(), {}

    def rows(self) -> list[Difference]:
        """What the copy has more than the book as it is now."""
        if self._open is None:
            return []
        if self._of is not self.bench.book:
            self._of = self.bench.book
            self._rows = differences(self._of, self._open.copies, self._open.name)
        return [row for row in self._rows if row.key not in self._left]

    def marked(self, row: Difference) -> bool:
        """Whether a difference is to be taken over: what clashes only where the user said so."""
        return not row.why and self._marks.get(row.key, not row.clash)

    # --- the lines ------------------------------------------------------------------------------------------------

    def lines(self) -> Sequence[Line]:
        """As `Page`."""
        numbers = {c.id: f"{k}. " for k, c in enumerate(self.bench.book.chapters, 1)}
        return [
            Line(
                row.key,
                (
                    f"{numbers.get(row.chapter, '')}{'! ' if row.clash else ''}{row.what.value}: {row.words}",
                    row.here or "–",
                    row.there,
                ),
                color="red" if row.clash else "",
                checked=None if row.why else self.marked(row),
            )
            for row in self.rows()
        ]

    def about(self) -> str:
        """As `Page`."""
        row = self._row()
        if row is None:
            return ""
        chapter = next((c.title for c in self.bench.book.chapters if c.id == row.chapter), "The book")
        told = f" Steps there: {'; '.join(row.told)}." if row.told else ""
        clash = f" {CLASH}{', and kept as a version' if row.what is What.EDITS else ''}." if row.clash else ""
        why = f" {row.why}" if row.why else ""
        return f"{chapter}, {row.what.value}: {row.words}. Here: {row.here or 'nothing'}. There: {row.there}.{clash}{why}{told}"

    def _row(self) -> Difference | None:
        return next((row for row in self.rows() if row.key == self.key), None)

    def row(self) -> Difference | None:
        """The line at hand."""
        found = self._row()
        if found is None:
            self.bench.tell(NO_LINE)
        return found

    def check(self, key: str, *, on: bool) -> None:
        """As `Page`."""
        self._marks[key] = on
        self.changed()

    def mark_all(self, *, on: bool) -> None:
        """Mark all that can be taken over and does not clash, or nothing."""
        self._marks = {row.key: on and not row.clash for row in self.rows()}
        self.changed()

    def go(self) -> None:
        """As `Page`: the chapter, and where in it."""
        row = self.row()
        if row is None or not any(c.id == row.chapter for c in self.bench.book.chapters):
            return
        self.bench.open_chapter(row.chapter)
        token = next(
            (t for t in self.bench.tokens(self.bench.book.chapter(row.chapter)).heard() if self._reaches(row, t.word)), None
        )
        if token is not None:
            self.transport.go_to(token.start, look=True)

    def _reaches(self, row: Difference, word: int) -> bool:
        """Whether a word is the first of what is different."""
        first = [p.first_word for p in row.take.pickups] + [f.word_index for f in row.take.found]
        ids = {f for d in row.take.decided for f in d.findings} | {n.finding for n in row.take.noted}
        chapter = self.bench.book.chapter(row.chapter)
        first += [f.word_index for f in chapter.findings if f.id in ids]
        return bool(first) and word >= min(first)

    def hear(self) -> None:
        """As `Page`: of edits the chapter as it is there, from the cursor on; of all else its place."""
        row = self.row()
        if row is None:
            return
        if row.take.reel is None:
            self.go()
            self.transport.play_from(self.transport.spot, lead=True)
            return
        known = {r.hash for r in self.bench.book.recordings}
        if any(r.hash not in known for r in row.take.recordings):
            self.bench.tell(
                "It plays recordings that are not here yet. Take the edits over to hear them; undo brings back what is here."
            )
            return
        reel = row.take.reel.reel
        self.bench.open_chapter(row.chapter)
        self.transport.hear_reel(reel, min(self.transport.spot, len(reel) - 1))

    def remove(self) -> None:
        """As `Page`: left as it is here."""
        row = self.row()
        if row is not None:
            self._left.add(row.key)
            self.changed()

    # --- taken over -----------------------------------------------------------------------------------------------

    def take_over(self) -> bool:
        """Take all that is marked over; what of a chapter is of one kind as one step."""
        there = self._open
        if self.busy or there is None:
            self.bench.tell(self.empty)
            return False
        rows = [row for row in self.rows() if self.marked(row)]
        steps = steps_of(rows, there.name)
        if not steps:
            self.bench.tell("Nothing is marked to be taken over." if self.rows() else self.empty)
            return False
        recordings = list({r.hash: r for step in steps for r in step.recordings}.values())
        hearings = [(step.chapter, step.hearing.hearing) for step in steps if step.hearing is not None]
        if not recordings and not hearings:
            self._take(steps, [])
            return True
        folder, book = self.bench.session.store.folder, self.bench.book
        words = {chapter: self.bench.word_count(book.chapter(chapter)) for chapter, _ in hearings}
        self.busy = there.name

        def bring(watch: Watch) -> list[Packed]:
            recordings_from(there.archive, recordings, folder, watch)
            found = []
            with closing(Contents(there.folder)) as contents:
                for chapter, key in hearings:
                    hearing: Hearing = contents.get(Hearing, key)
                    if len(hearing.placed) != words[chapter]:
                        raise FileProblem(f"What {there.name} has heard of a chapter does not fit its words. It was not taken.")
                    found.append(packed(Hearing, hearing))
            return found

        def brought(kept: list[Packed]) -> None:
            self.busy = ""
            now = steps_of([row for row in self.rows() if self.marked(row)], there.name)
            if self._open is not there or now != steps:
                self.bench.warn("The book was changed while it was read. Nothing was taken over; look, and try again.")
            else:
                self._take(steps, kept)
            self.changed()

        self.bench.jobs.start(f"Take over from {there.name}", bring, done=brought, stopped=self._stopped)
        return True

    def _take(self, steps: Sequence[TakeOver], kept: Sequence[Packed]) -> None:
        if kept and not self.bench.keep(kept):
            return
        done = 0
        for step in steps:
            if not self.bench.do(step):
                break
            done += 1
        rest = f"; {len(steps) - done} were not" if done < len(steps) else ""
        self.bench.report(f"Taken over in {done} step{'' if done == 1 else 's'}{rest}. Each can be undone by itself.")
        self.changed()
