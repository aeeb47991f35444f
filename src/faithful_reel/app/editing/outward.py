"""What goes out of a chapter and comes into it: sound with cue markers, word times, timelines, prints.  No Qt."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

from faithful_reel.app.editing.pages import new_id, now
from faithful_reel.app.editing.presenter import Editing
from faithful_reel.core.apart import apart
from faithful_reel.core.audio.sources import FileSources
from faithful_reel.core.book.kept import KeepVersion, PutPrint, PutRedrawn, TakeReel
from faithful_reel.core.book.model import Recording, Stretch
from faithful_reel.core.book.recordings import adopted, forget_made, kept_sound, path_of, received
from faithful_reel.core.errors import AppError
from faithful_reel.core.files import refuse_over
from faithful_reel.core.jobs import Part, Watch
from faithful_reel.core.reel.commands import Paste
from faithful_reel.core.reel.reel import LIKE, Piece, Reel, printed_of
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.treat.redraw import LONGEST_S, redrawn
from faithful_reel.core.units import Span
from faithful_reel.core.work.editing import beyond_joins
from faithful_reel.core.work.exchange import reel_of_timeline, timeline_of, write_timeline
from faithful_reel.core.work.exporting import file_name, written_markers, written_pieces, written_span, written_words

MARGIN_S = 0.25
NONE = Stretch("", 0, 0)
"""What sound is made of that is no recording's."""


class Outward:
    """Writes and reads files for the chapter at hand."""

    def __init__(self, editing: Editing) -> None:
        self.editing, self.bench, self.transport = editing, editing.bench, editing.transport

    def name(self, what: str) -> str:
        """What a file might be called; empty, and told, where there is nothing to write."""
        found = self.editing.found()
        if found is None:
            self.bench.tell("This chapter has no recording yet. Pair one with it at Intake.")
            return ""
        return file_name(f"{found[0].title}, {what}" if what else found[0].title) or "chapter"

    def _renderer(self) -> Callable[[Reel], Renderer]:
        """Makes renderers with files of their own, for use in another thread."""
        folder, book = self.bench.session.store.folder, self.bench.book
        paths = {r.hash: path_of(folder, r, book.rate) for r in book.recordings}
        return lambda reel: Renderer(reel, FileSources(paths.__getitem__))

    def _span(self) -> tuple[Reel, Span, list[int]] | None:
        """What is marked, else all of it; the lane at hand, or all that are heard."""
        work = self.editing.work(need=False)
        if work is None:
            return None
        _, reel, spans = work
        lanes = [self.editing.lane] if self.editing.lane >= 0 else []
        return reel, spans[-1] if spans else Span(0, len(reel)), lanes

    def may_write(self, path: Path) -> bool:
        """Whether a file may be written there; told where it may not: never into the book, whose recordings lie there."""
        try:
            refuse_over(path, self.bench.session.store.folder)
        except AppError as problem:
            self.bench.warn(str(problem))
            return False
        return True

    def write_span(self, path: Path) -> None:
        """Write what is marked, or the chapter, to a sound file with its markers."""
        asked = self._span()
        if asked is None or not self.may_write(path):
            return
        reel, span, lanes = asked
        render, rate = self._renderer(), self.bench.book.rate

        def write(watch: Watch) -> str:
            written_span(reel, span, path, render, rate, lanes=lanes, watch=watch)
            return f"{path.name} was written: {len(span) / rate:.2f} s."

        self.bench.jobs.start(f"Write {path.name}", write, done=self.bench.report, stopped=self.bench.stopped)

    def write_pieces(self, folder: Path, suffix: str) -> None:
        """Write each piece of what is marked, on the lane that is meant, to a file of its own."""
        asked = self._span()
        if asked is None or not self.may_write(folder / f"piece{suffix}"):
            return
        reel, span, _ = asked
        lane = self.editing.need_lane(reel)
        if lane is None:
            return
        render, rate = self._renderer(), self.bench.book.rate

        def write(watch: Watch) -> str:
            made = written_pieces(reel, span, lane, folder, suffix, render, rate, watch=watch)
            return f"{len(made)} pieces were written to {folder.name}."

        self.bench.jobs.start("Write the pieces", write, done=self.bench.report, stopped=self.bench.stopped)

    def write_markers(self, path: Path) -> None:
        """Write the chapter's markers, as CSV."""
        found = self.editing.found()
        if found is None or not self.may_write(path):
            return
        try:
            written_markers(found[1], path, self.bench.book.rate, self.bench.times)
        except AppError as problem:
            self.bench.warn(str(problem))
        else:
            self.bench.report(f"{len(found[1].markers)} markers were written to {path.name}.")

    def write_words(self, path: Path) -> None:
        """Write where every word is heard."""
        found = self.editing.found()
        if found is None or not self.may_write(path):
            return
        chapter, reel = found
        try:
            count = written_words(self.bench.tokens(chapter), self.bench.text(chapter), len(reel), self.bench.book.rate, path)
        except AppError as problem:
            self.bench.warn(str(problem))
        else:
            self.bench.report(f"{path.name} was written: {count} words.")

    def write_timeline(self, path: Path) -> None:
        """Write the chapter's reel as OpenTimelineIO."""
        found = self.editing.found()
        if found is None or not self.may_write(path):
            return
        chapter, reel = found
        media = {r.hash: (r.name, self.bench.path_of(r.hash).resolve().as_uri(), r.length) for r in self.bench.book.recordings}
        try:
            write_timeline(timeline_of(reel, chapter.title, self.bench.book.rate, media), path)
        except AppError as problem:
            self.bench.warn(str(problem))
        else:
            self.bench.report(f"{path.name} was written.")

    def read_timeline(self, path: Path) -> None:
        """Put the reel of a timeline in the place of the chapter's, which is kept as a version."""
        chapter, book = self.bench.chapter, self.bench.book
        if chapter is None:
            return

        def done(reel: Reel) -> None:
            self.transport.stop()
            name = f"before {path.name}"
            self.bench.do(TakeReel(chapter.id, reel, f"Bring in {path.name}", new_id(), name, now()))

        def read(watch: Watch) -> Reel:
            return apart(reel_of_timeline, path, book, path=path, watch=watch)

        self.bench.jobs.start(f"Bring in {path.name}", read, done=done, stopped=self.bench.stopped)

    def redraw(self) -> None:
        """Draw what is marked anew from the sound on both sides of it: a click, a pop, a lip; at most 20 ms."""
        work, rate = self.editing.work(need=False), self.bench.book.rate
        if work is None:
            return
        chapter, reel, spans = work
        if not spans:
            self.bench.tell(f"Mark what is to be drawn anew in the loupe: at most {1000 * LONGEST_S:.0f} ms.")
            return
        lane = self.editing.need_lane(reel)
        if lane is None:
            return
        row = reel.lanes[lane]
        gap = Span(spans[-1].start, min(spans[-1].stop, len(row)))
        if not 0 < len(gap) <= round(LONGEST_S * rate):
            length = f"{1000 * len(gap) / rate:.0f} ms are marked" if len(gap) else "This lane has no sound in what is marked"
            self.bench.tell(f"{length}: at most {1000 * LONGEST_S:.0f} ms can be drawn anew. Mark the click alone, close up.")
            return
        edge, margin = LIKE.length, round(MARGIN_S * rate)  # what the joins mix lies beside the gap
        span = beyond_joins(row, Span(max(0, gap.start - edge), min(len(row), gap.stop + edge)))
        whole = Span(max(0, span.start - margin), min(len(row), span.stop + margin))
        render, folder = self._renderer(), self.bench.session.store.folder
        plain = Reel((replace(row, muted=False, solo=False, gain_db=0.0, pan=0.0),))
        words = self.editing.text_of(gap) or self.bench.time(gap.start)
        under = row.segments[row.index_at(gap.start)]
        at = row.starts()[row.index_at(gap.start)]
        of = (
            Stretch(under.recording, under.start + gap.start - at, under.start + gap.stop - at)
            if isinstance(under, Piece)
            else NONE
        )

        def draw(watch: Watch) -> tuple[Recording, float]:
            watch.tick(0.0, words)
            x = render(plain).render(whole.start, whole.stop)
            y = redrawn(x, gap.start - whole.start, gap.stop - whole.start, rate)
            return kept_sound(folder, y, rate, f"redrawn {words}", of, "redrawn")

        def done(made: tuple[Recording, float]) -> None:
            recording, lowered_db = made
            now_there = next((c for c in self.bench.book.chapters if c.id == chapter.id), None)
            if now_there is None or now_there.reel is not reel:
                forget_made(folder, [recording.hash])
                self.bench.tell("The chapter has changed meanwhile. Nothing was drawn anew; try again.")
                return
            first = span.start - whole.start
            sources = printed_of(row.between(span))
            piece = Piece(recording.hash, first, first + len(span), -lowered_db, name="redrawn", of=sources, of_start=first)
            edit = Paste(span.start, span.stop, ((row.id, (piece,)),), keep_time=True, join_in=LIKE, join_out=LIKE)
            self.transport.stop()
            try:
                adopted(folder, recording)
            except AppError as problem:
                self.bench.warn(str(problem))
                return
            if self.bench.do(PutRedrawn(chapter.id, recording, edit, words), meant=frozenset({row.id})):
                self.editing.mark_again(spans)

        self.bench.jobs.start(f"Redraw {words}", draw, done=done, stopped=self.bench.stopped, quiet=True)

    def print_span(self) -> None:
        """Write what is marked into a new recording of the book and put that in its place; the edits are kept as a version."""
        work = self.editing.work()
        if work is None:
            return
        chapter, reel, spans = work
        span, lane = spans[-1], self.editing.need_lane(reel)
        if lane is None:
            return
        row = reel.lanes[lane]
        span = beyond_joins(row, Span(span.start, min(span.stop, len(row))))
        if not len(span):
            self.bench.tell("This lane has no sound in what is marked.")
            return
        render, rate, folder = self._renderer(), self.bench.book.rate, self.bench.session.store.folder
        words = self.editing.text_of(span)
        name = file_name(f"print of {words or chapter.title}") + ".wav"
        plain = Reel((replace(row, muted=False, solo=False, gain_db=0.0, pan=0.0),))
        margin = round(MARGIN_S * rate)  # what is beyond the edges, so that the joins are between the same sound
        whole = Span(max(0, span.start - margin), min(len(row), span.stop + margin))

        def write(watch: Watch) -> Recording:
            with TemporaryDirectory(dir=folder / "cache") as held:
                path = Path(held) / name
                written_span(plain, whole, path, render, rate, bits=32, watch=Part(watch, 0.0, 0.6))
                return received(folder, path, rate, Part(watch, 0.6, 1.0))

        def done(recording: Recording) -> None:
            now_there = next((c for c in self.bench.book.chapters if c.id == chapter.id), None)
            if now_there is None or now_there.reel is not reel:
                self.bench.tell("The chapter has changed while it was printed. Nothing was put in; print it again.")
                return
            first = span.start - whole.start
            piece = Piece(
                recording.hash, first, first + len(span), name=Path(name).stem, of=printed_of(row.between(span)), of_start=first
            )
            edit = Paste(span.start, span.stop, ((row.id, (piece,)),), keep_time=True, join_in=LIKE, join_out=LIKE)
            kept = KeepVersion(chapter.id, new_id(), f"before {Path(name).stem}", "", now())
            self.transport.stop()
            self.bench.do(PutPrint(recording, kept, edit, words))

        self.bench.jobs.start(f"Print {name}", write, done=done, stopped=self.bench.stopped)
