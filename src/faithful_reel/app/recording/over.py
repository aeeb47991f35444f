"""What is marked at the microphone: any stretch of a lane is recorded anew, heard in its place, and laid over it.  No Qt."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

from faithful_reel.app.editing.pages import new_id
from faithful_reel.app.editing.presenter import Editing
from faithful_reel.app.editing.sources import KEEP_TIME
from faithful_reel.app.recording.microphone import Microphone
from faithful_reel.app.recording.recorder import Keeping, Recorded, Recorder, Wanted
from faithful_reel.app.settings import Settings, text
from faithful_reel.app.workbench import Instead
from faithful_reel.core.audio.sources import FileSources, Source, with_sounds
from faithful_reel.core.book.commands import AddRecording
from faithful_reel.core.book.kept import PutOnShelf
from faithful_reel.core.book.model import Recording, Shelved
from faithful_reel.core.book.recordings import path_of, received
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.jobs import Watch
from faithful_reel.core.reel.reel import Piece
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.units import Span
from faithful_reel.core.work.editing import words_between
from faithful_reel.core.work.recorded import Over, level_there

AT_HAND = "the take at hand"
"""What stands for the recording of a take that is in none yet."""
WORDS_BEFORE, WORDS_AFTER = 14, 8
LEAST_LEAD_S = 1.0
CHANGED, LEFT = "The chapter was changed meanwhile.", "The take was not laid over."
ON_THE_SHELF = "What was recorded is on the shelf of this book (list Shelf): paste it where it belongs."


@dataclass(frozen=True, slots=True)
class _Place:
    """A span that is recorded over, and what of the page stands there."""

    over: Over
    title: str
    before: str
    line: str
    after: str


class OverPresenter(Recorder):
    """Records over what is marked, until a take is kept: then it lies there, and what was there is in the offcuts."""

    title = "Record over what is marked"
    in_place = True

    def __init__(self, editing: Editing, microphone: Callable[[], Microphone], settings: Settings) -> None:
        super().__init__(editing.bench, editing.transport, microphone, settings)
        self.editing = editing
        self.level_as_around = text(settings, "record/level", "on") == "on"
        self._place: _Place | None = None

    def begin(self) -> bool:
        """Take what is marked, or the word at the cursor, to the microphone."""
        work = self.editing.work()
        lane = self.editing.need_lane(work[1]) if work is not None else None
        if work is None or lane is None:
            return False
        chapter, reel, spans = work
        if len(spans) > 1:
            self.tell("Several spans are marked. Mark the one that is to be recorded.")
            return False
        span, tokens = spans[0], self.bench.tokens(chapter)
        words = [w.text for w in self.bench.text(chapter).words]
        first, last = words_between(tokens, span)
        if first < 0:  # between two words
            before = [t.word for t in tokens.heard() if t.stop <= span.start and t.word >= 0]
            first = (max(before) if before else -1) + 1
            last = first - 1
        line = " ".join(words[first : last + 1])
        over = Over(chapter.id, reel, span, lane, self.editing.said(spans))
        beside = words[max(0, first - WORDS_BEFORE) : first], words[last + 1 : last + 1 + WORDS_AFTER]
        self._place = _Place(over, chapter.title, " ".join(beside[0]), line, " ".join(beside[1]))
        return super().begin()

    def wanted(self) -> Wanted | None:
        """As `Recorder`."""
        place = self._place
        if place is None:
            self.tell("Nothing is marked that could be recorded.")
            return None
        span, rate = place.over.span, self.bench.book.rate
        name = f"{place.over.chapter}-{span.start}-{span.stop}"
        return Wanted(name, place.line, len(span) / rate, place.over.reel, span.start, span.stop)

    def line(self) -> str:
        """As `Recorder`."""
        return (self._place.line or "(no words of the manuscript stand here)") if self._place is not None else ""

    def before(self) -> str:
        """As `Recorder`."""
        return self._place.before if self._place is not None else ""

    def after(self) -> str:
        """As `Recorder`."""
        return self._place.after if self._place is not None else ""

    def about(self) -> str:
        """As `Recorder`."""
        if self._place is None:
            return ""
        over, rate = self._place.over, self.bench.book.rate
        parts = [self._place.title, self.bench.time(over.span.start), f"{len(over.span) / rate:.2f} s"]
        return " · ".join([*parts, over.reel.lanes[over.lane].name] if len(over.reel.lanes) > 1 else parts)

    def set_level_as_around(self, on: bool) -> None:  # noqa: FBT001 - as Qt calls it
        """Bring takes to the level of what stands on both sides, or leave them as they were recorded."""
        self.level_as_around = on
        self._settings.setValue("record/level", "on" if on else "off")

    def _gain_db(self, take: Recorded, over: Over) -> float:
        if not self.level_as_around:
            return 0.0
        x = take.sound[take.reading.start : take.reading.stop]
        return level_there(over.reel, over.lane, over.span, self._source(take), x, self.bench.book.rate)

    def _source(self, take: Recorded) -> Source:
        """The sounds of the book and the take at hand."""
        folder, rate = self.bench.session.store.folder, self.bench.book.rate
        paths = {r.hash: path_of(folder, r, rate) for r in self.bench.book.recordings}
        return with_sounds(FileSources(paths.__getitem__), {AT_HAND: take.sound})

    def hear_in_place(self, take: int) -> None:
        """Hear the reading before, the take where it would stand, and the run-out."""
        if not 0 <= take < len(self.takes) or self._place is None:
            self.tell("Nothing was recorded yet.")
            return
        row, over, rate = self.takes[take], self._place.over, self.bench.book.rate
        try:
            reel = over.edit(AT_HAND, row.reading, self._gain_db(row, over)).apply(over.reel)
        except EditRefused as problem:
            self.tell(str(problem))
            return
        first = max(0, over.span.start - round(max(LEAST_LEAD_S, self.lead_s) * rate))
        last = min(len(reel), over.span.start + len(row.reading) + round(max(LEAST_LEAD_S, self.run_out_s) * rate))
        self.transport.hear_sound(Renderer(reel, self._source(row)).render, first, last, speed=1.0)

    def keepings(self) -> Sequence[Keeping]:
        """As `Recorder`."""
        return (
            Keeping(
                "Lay it over",
                "Lay the take in the chosen row over it; what follows moves up or waits. All takes come into the book",
                self.keep,
            ),
        )

    def keep(self, take: int = -1) -> bool:
        """Take what was recorded into the book and lay a take, the last where none is told, over what was marked."""
        place, held = self._place, self._held()
        if place is None or held is None:
            return False
        kept, path = held
        at = self.placed(kept)[take]
        chosen, name, over = kept[take], self._of, place.over
        reading = Span(at + chosen.reading.start, at + chosen.reading.stop)
        gain_db = self._gain_db(chosen, over)
        folder, rate = self.bench.session.store.folder, self.bench.book.rate

        def bring(watch: Watch) -> Recording:
            return received(folder, path, rate, watch)

        def brought(recording: Recording) -> None:
            if not self.bench.do(AddRecording(recording)):
                self._give_back(name, kept)
                return
            self._let_go(kept)
            self._lay(over, recording, reading, gain_db)

        def stopped(why: BaseException) -> None:
            self._give_back(name, kept)
            self.bench.stopped(why)

        self.bench.jobs.start(f"Bring in {path.name}", bring, done=brought, stopped=stopped)
        return True

    def _lay(self, over: Over, recording: Recording, reading: Span, gain_db: float) -> None:
        chapter = next((c for c in self.bench.book.chapters if c.id == over.chapter), None)
        if chapter is None or chapter.reel is not over.reel:  # other sound may stand there by now
            self._shelve(over, recording, reading, gain_db, CHANGED)
            return
        own = frozenset({over.reel.lanes[over.lane].id})

        def lay(*, keep_time: bool) -> bool:
            edit = over.edit(recording.hash, reading, gain_db, keep_time=keep_time)
            instead = None if keep_time or len(reading) > len(over.span) else Instead(KEEP_TIME, partial(lay, keep_time=True))
            return self.editing.do(chapter, lambda: [edit], "Record over", over.words, meant=own, instead=instead)

        if lay(keep_time=False):
            self.transport.put(over.span.start)
        else:
            self._shelve(over, recording, reading, gain_db, LEFT)

    def _shelve(self, over: Over, recording: Recording, reading: Span, gain_db: float, why: str) -> None:
        """A take that does not lie in its place is on the shelf of the book, so that it can be pasted."""
        segments = (Piece(recording.hash, reading.start, reading.stop, gain_db, name=over.words),)
        if self.bench.do(PutOnShelf(Shelved(new_id(), over.words or recording.name, segments, note="recorded at the desk"))):
            self.bench.warn(f"{why} {ON_THE_SHELF}")
