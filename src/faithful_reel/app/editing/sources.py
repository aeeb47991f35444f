"""Lists of sound from elsewhere: the shelf, and other places where the same words are said.  No Qt."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import replace
from pathlib import Path

from faithful_reel.app.editing.pages import NO_LINE, Described, Line, Page, new_id
from faithful_reel.app.editing.presenter import Editing
from faithful_reel.app.workbench import Instead
from faithful_reel.core.audio.files import read_mono
from faithful_reel.core.audio.sources import FileSources
from faithful_reel.core.book.commands import AddRecording
from faithful_reel.core.book.house import Housed, HouseShelf
from faithful_reel.core.book.kept import DescribeShelved, PutOnShelf, TakeOffShelf
from faithful_reel.core.book.model import ChapterState, Recording, Shelved
from faithful_reel.core.book.recordings import decode, path_of, received
from faithful_reel.core.errors import AppError
from faithful_reel.core.jobs import Part, Watch
from faithful_reel.core.reel.commands import Paste
from faithful_reel.core.reel.cutting import EDITION
from faithful_reel.core.reel.reel import Lane, Piece, Reel
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Signal, Span
from faithful_reel.core.work.editing import Copied
from faithful_reel.core.work.elsewhere import Elsewhere, mended_from, places_elsewhere, ranked
from faithful_reel.core.work.timeline import Hearing

BOOK, HOUSE = "this book", "the house"

KEEP_TIME = "Keep the time"


class ShelfPage(Page):
    """Sounds kept for reuse: those of the book, and those of the house, which all books have."""

    title = "Shelf"
    heads = ("name", "length", "of", "note")
    widths = (0, 62, 74, 84)
    buttons = (
        ("Hear", "list.hear"), ("Paste at the cursor", "shelf.paste"), ("Keep what is marked…", "shelf.keep"),
        ("Keep for the house…", "shelf.house"), ("Sound files…", "shelf.files"), ("Describe…", "list.describe"),
        ("Take off", "list.remove"),
    )  # fmt: skip
    told = "Drag a line to the loupe to put it in there, and sound files in here. The house's are copied into the book."

    def __init__(self, editing: Editing, house: HouseShelf) -> None:
        super().__init__(editing)
        self.house = house

    @property
    def empty(self) -> str:
        """As `Page`."""
        return "The shelf is empty. Mark a stretch and keep it, or drag sound files here."

    def lines(self) -> Sequence[Line]:
        """As `Page`."""
        rate = self.bench.book.rate
        return [
            *(Line(s.id, (s.name, f"{len(s) / rate:.2f} s", BOOK, s.note), s.color) for s in self.bench.book.shelf),
            *(Line(h.id, (h.name, f"{h.length / h.rate:.2f} s", HOUSE, h.note), h.color) for h in self.house.items()),
        ]

    def item(self) -> Shelved | Housed | None:
        """The one at hand."""
        both: list[Shelved | Housed] = [*self.bench.book.shelf, *self.house.items()]
        found = next((i for i in both if i.id == self.key), None)
        if found is None:
            self.bench.tell(NO_LINE)
        return found

    def marked(self) -> tuple[str, Copied] | None:
        """What would be kept, and what it might be called."""
        work = self.editing.work()
        if work is None:
            return None
        chapter, reel, spans = work
        lane = self.editing.need_lane(reel)
        if lane is None:
            return None
        words = self.editing.text_of(spans[-1])
        span = Span(spans[-1].start, min(spans[-1].stop, len(reel.lanes[lane])))
        if not len(span):
            self.bench.tell("This lane has no sound in what is marked.")
            return None
        return words[:60], Copied(chapter.id, (span,), words, ((lane, reel.lanes[lane].between(span)),))

    def keep(self, copied: Copied, said: Described, *, house: bool) -> None:
        """Put a stretch on the shelf of the book, or write it to that of the house."""
        segments = copied.content[0][1]
        if not house:
            if self.bench.do(PutOnShelf(Shelved(new_id(), said.name, segments, said.color, said.note))):
                self.bench.report(f"“{said.name}” is on the shelf of this book.")
            return
        renderer, rate = self.bench.renderer(Reel((Lane("shelf", segments),))), self.bench.book.rate

        def write(watch: Watch) -> Housed:
            watch.tick(0.0, said.name)
            return self.house.put(said.name, renderer.blocks(), rate, color=said.color, note=said.note)

        self.bench.jobs.start(f"Shelf: {said.name}", write, done=self._housed, stopped=self.bench.stopped)

    def _housed(self, item: Housed) -> None:
        self.bench.report(f"“{item.name}” is on the shelf of the house.")
        self.changed()

    def hear(self) -> None:
        """As `Page`."""
        item = self.item()
        if isinstance(item, Shelved):
            self.hear_content(((0, item.segments),))
        elif item is not None:
            path, rate = self.house.sound(item.id), self.bench.book.rate

            def read(watch: Watch) -> Signal:
                watch.tick(0.0, item.name)
                return read_mono(path, rate)

            self.bench.jobs.start(f"Hear {item.name}", read, done=self._play, stopped=self.bench.stopped, quiet=True)

    def _play(self, x: Signal) -> None:
        self.transport.hear_sound(lambda a, b: x[a:b], 0, len(x))

    def copy(self) -> Copied | None:
        """As `Page`; a sound of the house must be pasted, so that it is copied into the book."""
        item = self.item()
        if isinstance(item, Shelved):
            return Copied("", (), item.name, ((0, item.segments),))
        if item is not None:
            self.bench.tell(f"“{item.name}” belongs to the house: paste it, then it is copied into this book.")
        return None

    def paste(self, at: int | None = None, lane: int | None = None) -> None:
        """Put the sound at hand in: at the cursor or over what is marked, or at a place where it was dropped."""
        item, work = self.item(), self.editing.work(need=False)
        if item is None or work is None:
            return
        chapter, reel, spans = work
        over = spans[-1] if spans and at is None else Span(*[min(self.transport.spot if at is None else at, len(reel))] * 2)
        to = self.editing.need_lane(reel) if lane is None else lane
        if to is None:
            return
        if isinstance(item, Shelved):
            self._put(chapter, over, reel.lanes[to].id, item.name, item.segments)
            return
        lane_id = reel.lanes[to].id
        folder, rate, path = self.bench.session.store.folder, self.bench.book.rate, self.house.sound(item.id)

        def bring(watch: Watch) -> Recording:
            return replace(received(folder, path, rate, watch), name=f"{item.name}.flac")

        def brought(recording: Recording) -> None:
            if all(r.hash != recording.hash for r in self.bench.book.recordings) and not self.bench.do(AddRecording(recording)):
                return
            there = next((c for c in self.bench.book.chapters if c.id == chapter.id), None)
            if there is None or there.reel is not reel:  # other sound may stand there by now
                self.bench.warn(f"“{item.name}” is in the book now, but the chapter was changed meanwhile. Paste it again.")
                return
            self._put(there, over, lane_id, item.name, (Piece(recording.hash, 0, recording.length, name=item.name),))

        self.bench.jobs.start(f"Bring in {item.name}", bring, done=brought, stopped=self.bench.stopped)

    def _put(self, chapter: ChapterState, over: Span, lane: str, name: str, segments: tuple[object, ...]) -> None:
        edit = Paste(over.start, over.stop, ((lane, segments),), edition=EDITION)  # type: ignore[arg-type]  # segments as they are kept
        if self.editing.do(chapter, lambda: [edit], "Paste from the shelf", name, meant=frozenset({lane})):
            self.transport.put(over.start)

    def take_files(self, paths: Sequence[Path]) -> None:
        """Copy sound files into the book and put them on its shelf."""
        folder, rate = self.bench.session.store.folder, self.bench.book.rate

        def bring(watch: Watch) -> tuple[list[Recording], list[str]]:
            found: list[Recording] = []
            problems: list[str] = []
            for number, path in enumerate(paths):
                try:
                    found.append(received(folder, path, rate, Part(watch, number / len(paths), (number + 1) / len(paths))))
                except AppError as problem:
                    problems.append(str(problem))
            return found, problems

        self.bench.jobs.start("Sound files for the shelf", bring, done=self._shelve, stopped=self.bench.stopped)

    def _shelve(self, made: tuple[list[Recording], list[str]]) -> None:
        for recording in made[0]:
            known = any(r.hash == recording.hash for r in self.bench.book.recordings)
            if known or self.bench.do(AddRecording(recording)):
                segments = (Piece(recording.hash, 0, recording.length),)
                self.bench.do(PutOnShelf(Shelved(new_id(), Path(recording.name).stem or recording.name, segments)))
        for problem in made[1]:
            self.bench.tell(problem)

    def description(self) -> Described | None:
        """As `Page`."""
        item = self.item()
        return Described(item.name, item.color, item.note) if item is not None else None

    def describe(self, said: Described) -> None:
        """As `Page`."""
        item = self.item()
        if isinstance(item, Shelved):
            self.bench.do(DescribeShelved(item.id, said.name, said.color, said.note))
        elif item is not None:
            self._house(lambda: self.house.describe(item.id, said.name, said.color, said.note))

    def remove(self) -> None:
        """As `Page`."""
        item = self.item()
        if isinstance(item, Shelved):
            self.bench.do(TakeOffShelf(item.id))
        elif item is not None:
            self._house(lambda: self.house.remove(item.id))
            self.bench.report(f"“{item.name}” was taken off; its file lies in {self.house.folder / 'removed'}.")

    def _house(self, act: Callable[[], None]) -> None:
        try:
            act()
        except AppError as problem:
            self.bench.warn(str(problem))
        self.changed()


class ElsewherePage(Page):
    """Other places where the same reader says what is marked, the likest first."""

    title = "From another place"
    heads = ("where it is said", "chapter", "how like it is")
    widths = (0, 84, 128)
    buttons = (
        ("Hear", "list.hear"),
        ("Hear in place", "elsewhere.as_if"),
        ("Mend with it", "elsewhere.mend"),
        ("Look again", "elsewhere.find"),
    )
    told = "The likest first: by the words around it, tone, level and length. The level is set to that of the speech around it."

    def __init__(self, editing: Editing) -> None:
        super().__init__(editing)
        self.words, self.span, self._chapter = "", Span(0, 0), ""
        self._reel: Reel | None = None
        self._places: list[Elsewhere] = []
        self._lane = 0
        self.busy = False

    @property
    def empty(self) -> str:
        """As `Page`."""
        if self.busy:
            return f"Listening for “{self.words}” elsewhere."
        if self.words:
            return f"“{self.words}” is said by this reader nowhere else in the chapters that were heard."
        return "Mark words, then look for them elsewhere."

    def find(self) -> None:
        """Look for what is marked, or the word at the cursor, in all chapters that were heard."""
        work = self.editing.work()
        if work is None:
            return
        chapter, reel, spans = work
        words = self.editing.words() if self.editing.span is not None else (-1, -1)
        if words[0] < 0:
            token = self.editing.word_at(spans[-1].start)
            words = (token.word, token.word) if token is not None and token.word >= 0 else (-1, -1)
        if words[0] < 0:
            self.bench.tell("What is marked holds no written word. Mark the words that are to be mended.")
            return
        book, folder, read = self.bench.book, self.bench.session.store.folder, self.bench.reader()
        lane = next((t.lane for t in self.bench.tokens(chapter) if t.word == words[0]), 0)  # whose words they are
        hearing = self.bench.hearing(chapter)
        voices = (r for r, _ in hearing.voices if r in reel.lanes[lane].recordings) if hearing else iter(())
        own = chapter.recording in reel.lanes[lane].recordings
        voice = chapter.recording if own else next(voices, chapter.recording)
        span, renderer = spans[-1], self.bench.renderer(Reel((replace(reel.lanes[lane], muted=False, solo=False),)))
        text = self.bench.text(chapter)
        self.words = " ".join(w.text for w in text.words[words[0] : words[1] + 1])
        self.span, self._chapter, self._reel, self._places, self.busy = span, chapter.id, reel, [], True
        self._lane = lane

        def contents(other: ChapterState) -> tuple[Chapter, Hearing | None]:
            return read(Chapter, other.text), read(Hearing, other.hearing) if other.hearing else None

        def look(watch: Watch) -> list[Elsewhere]:
            watch.tick(0.0, "reading")
            places = places_elsewhere(book, chapter, words, contents, voice)
            for recording in dict.fromkeys(p.recording for p in places):
                decode(folder, book, book.recording(recording))
            with closing(FileSources(lambda r: path_of(folder, book.recording(r), book.rate))) as sound:
                return ranked(places, renderer.render, span, len(reel), sound, book.rate, watch)

        self.bench.jobs.start(f"Look for “{self.words}” elsewhere", look, done=self._found, stopped=self._stopped)
        self.changed()

    def _found(self, places: list[Elsewhere]) -> None:
        self.busy, self._places = False, places
        self.changed()

    def _stopped(self, why: BaseException) -> None:
        self.busy = False
        self.bench.stopped(why)
        self.changed()

    def lines(self) -> Sequence[Line]:
        """As `Page`."""
        return [Line(f"{p.chapter} {p.first}", (p.around, p.title, p.told)) for p in self._places]

    def place(self) -> Elsewhere | None:
        """The one at hand."""
        found = next((p for p in self._places if f"{p.chapter} {p.first}" == self.key), None)
        if found is None:
            self.bench.tell(NO_LINE)
        return found

    def hear(self) -> None:
        """Hear the place with a little of what is around it."""
        place = self.place()
        if place is not None:
            around = round(0.6 * self.bench.book.rate)
            length = self.bench.book.recording(place.recording).length
            self.hear_content(
                ((0, (Piece(place.recording, max(0, place.start - around), min(length, place.stop + around), place.gain_db),)),)
            )

    def copy(self) -> Copied | None:
        """As `Page`."""
        place = self.place()
        if place is None:
            return None
        piece = Piece(place.recording, place.start, place.stop, place.gain_db, name=self.words)
        return Copied("", (), self.words, ((self._lane, (piece,)),))

    def _here(self) -> tuple[ChapterState, Reel] | None:
        """The chapter, where it is as it was when the places were looked for."""
        found = self.editing.found()
        if found is None or found[0].id != self._chapter or found[1] is not self._reel:
            self.bench.tell("The chapter has changed since. Mark the words again and look again.")
            return None
        return found

    def hear_as_if(self) -> None:
        """Hear the lead-in and what would follow, as if it were mended with the place at hand."""
        place, here = self.place(), self._here()
        if place is None or here is None:
            return
        reel = here[1]
        for edit in mended_from(place, self.span, self._lane, self.words):
            reel = edit.apply(reel)
        rate, at = self.bench.book.rate, self.span.start
        first = max(0, at - round(max(1.0, self.transport.lead_s) * rate))
        self.transport.hear_reel(reel, first, min(len(reel), at + place.stop - place.start + 2 * rate))

    def _mend_in_its_time(self) -> bool:
        return self.mend(keep_time=True)

    def mend(self, *, keep_time: bool = False) -> bool:
        """Put the place at hand where the words are."""
        place, here = self.place(), self._here()
        if place is None or here is None:
            return False
        edits = mended_from(place, self.span, self._lane, self.words)
        if keep_time:
            edits = [replace(e, keep_time=True) if isinstance(e, Paste) else e for e in edits]
        own = here[1].lanes[self._lane].id
        instead = None if keep_time else Instead(KEEP_TIME, self._mend_in_its_time)
        done = self.editing.do(
            here[0], lambda: edits, "Mend from another place", self.words, meant=frozenset({own}), instead=instead
        )
        if done:
            self._places, self._reel = [], None
            self.transport.put(self.span.start)
            self.changed()
        return done
