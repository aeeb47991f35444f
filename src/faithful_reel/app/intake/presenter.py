"""What happens at the Intake desk."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from enum import Enum, StrEnum
from pathlib import Path

from faithful_reel.app.transport.presenter import Transport
from faithful_reel.app.workbench import Observed, Workbench
from faithful_reel.core.apart import apart
from faithful_reel.core.book.commands import (
    EDITION,
    AddChapters,
    AddRecording,
    BookCommand,
    LeaveOut,
    MoveChapter,
    NameNarrator,
    PairRecording,
    PutBack,
    RelinkRecording,
    RenameChapter,
    ReviseChapters,
)
from faithful_reel.core.book.making import chapter_named_by, chapters_command
from faithful_reel.core.book.model import Book, ChapterState, Recording, Stretch
from faithful_reel.core.book.packing import Packed, Packing
from faithful_reel.core.book.recordings import (
    Fault,
    FaultKind,
    faults,
    found_again,
    joined,
    put_back,
    received,
    stand_in,
    strays,
    touched_faults,
)
from faithful_reel.core.book.store import Contents
from faithful_reel.core.collate.pairing import Passage
from faithful_reel.core.errors import AppError, Cancelled
from faithful_reel.core.files import shown
from faithful_reel.core.jobs import Part, Watch
from faithful_reel.core.measure.health import Missed, missed_limits
from faithful_reel.core.reel.reel import Lane, Piece, Reel, reel_of
from faithful_reel.core.text.manuscript import SUFFIXES, read_apart
from faithful_reel.core.text.words import Chapter, finished_s
from faithful_reel.core.units import Span
from faithful_reel.core.work.pairing import paired_by_ear, passages_of, unread
from faithful_reel.core.work.revising import Reimport, join_chapters, reimport, split_chapter
from faithful_reel.core.work.timeline import Hearing


class Way(StrEnum):
    """How far a file is on its way into the book."""

    WAITING = "waiting"
    BUSY = "busy"
    REFUSED = "refused"


class Heard(Enum):
    """What of a recording is heard."""

    WHOLE = "all of it"
    CLIPPED = "its first clipped place"
    TONE = "its room tone"


BEGINNING_S = 12.0
"""So much of a chapter's beginning is heard."""
NO_CHAPTER = "Choose a chapter in the table first."
FAULTS = {FaultKind.MISSING: "missing from the book", FaultKind.CHANGED: "not as it was received"}


def health(recording: Recording, fault: FaultKind | None = None) -> str:
    """The plain verdict of a recording: what limits it misses, or that it is sound."""
    if fault:
        return FAULTS[fault]
    if recording.parts:
        return f"made of {len(recording.parts)} stretches"
    if recording.health is None:
        return "good" if recording.tone else "no room tone found"
    return "; ".join(m.told for m in missed_by(recording)) or "good"


def missed_by(recording: Recording) -> list[Missed]:
    """The limits that a recording misses, and what to do about each."""
    if recording.health is None:
        return []
    return missed_limits(
        recording.health,
        rate=recording.rate,
        peak_db=recording.peak_db,
        rms_db=recording.rms_db,
        noise_floor_db=recording.noise_floor_db,
    )


@dataclass(slots=True)
class Incoming:
    """A file on its way into the book, or one that could not be taken."""

    path: Path
    state: Way = Way.WAITING
    note: str = ""
    job: object = None


@dataclass(frozen=True, slots=True)
class ReadManuscript:
    """A manuscript that was read for a book: what to keep, and the command that takes it in, or what it changes."""

    name: str
    book: Book
    rows: list[Packed]
    found: AddChapters | Reimport


class IntakePresenter(Observed):
    """Brings in manuscripts and recordings, pairs them, and finds again what was lost."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self.queue: list[Incoming] = []
        self.current = ""
        self.pairing = False
        self.review: Callable[[Reimport, str], None] = self._take_all
        """Shows what a corrected manuscript changes, and takes it over if the editor agrees."""
        self.faults: dict[str, FaultKind] = {}
        self.look_for_faults()
        store = bench.session.store
        self._unknown = strays(store.folder, bench.book, store.names)  # later ones may be at work

    # --- manuscript -----------------------------------------------------------------------------------------------

    def bring(self, paths: Sequence[Path]) -> None:
        """Take in whatever was dropped: manuscripts by their suffix, all else as recordings; folders with all in them."""
        files = [f for p in paths for f in (sorted(p.rglob("*")) if p.is_dir() else [p]) if not f.is_dir()]
        for path in files:
            if path.suffix.lower() in SUFFIXES:
                self.bring_manuscript(path)
        sounds = [p for p in files if p.suffix.lower() not in SUFFIXES and not p.name.startswith(".")]
        if sounds:
            self.bring_recordings(sounds)

    def bring_manuscript(self, path: Path) -> None:
        """Read a manuscript beside the work and take in its chapters; over chapters that are there, as a corrected one."""
        book, folder = self.bench.book, self.bench.session.store.folder

        def job(watch: Watch) -> ReadManuscript:
            watch.tick(0.0, "reading")
            manuscript = apart(read_apart, path, path=path, watch=Part(watch, 0.0, 0.5))
            watch.tick(0.5, "comparing")
            put = Packing()
            if not book.chapters:
                return ReadManuscript(path.name, book, put.rows, chapters_command(manuscript, put))
            contents = Contents(folder)
            try:
                found = reimport(
                    book,
                    lambda c: contents.get(Chapter, c.text),
                    lambda c: contents.get(Hearing, c.hearing) if c.hearing else None,
                    manuscript.chapters,
                    put,
                    watch,
                )
            finally:
                contents.close()
            return ReadManuscript(path.name, book, put.rows, found)

        self.bench.jobs.start(f"Read {path.name}", job, done=self._read, stopped=self.bench.stopped)

    def _read(self, made: ReadManuscript) -> None:
        bench = self.bench
        if made.book.chapters is not bench.book.chapters:
            bench.tell(f"The chapters were changed while {made.name} was read. Bring it in again.")
            return
        if isinstance(made.found, Reimport) and not made.found.command.chapters:
            bench.tell(f"{made.name} changes nothing: all its chapters are in the book as they are.")
            return
        if not bench.keep(made.rows):
            return
        if isinstance(made.found, Reimport):
            self.review(made.found, made.name)
        elif bench.do(made.found):
            for recording in bench.book.brought:
                self._pair_by_name(recording)

    def _pair_by_name(self, recording: Recording) -> None:
        chapter = chapter_named_by(self.bench.book, recording)
        if chapter is not None and not any(c.recording == recording.hash for c in self.bench.book.chapters):
            self.bench.do(PairRecording(chapter.id, recording.hash, EDITION))

    def _take_all(self, found: Reimport, _name: str) -> None:
        self.take_over(found.command)

    def take_over(self, command: ReviseChapters) -> bool:
        """Take over a corrected manuscript."""
        return self.bench.do(command)

    # --- chapters by hand -----------------------------------------------------------------------------------------

    def rename(self, chapter_id: str, title: str) -> bool:
        """Give a chapter another title."""
        return title.strip() != self.bench.book.chapter(chapter_id).title and self.bench.do(RenameChapter(chapter_id, title))

    def move(self, chapter_id: str, by: int) -> bool:
        """Earlier or later in the order of reading."""
        return self.bench.do(MoveChapter(chapter_id, by))

    def leave_out(self, chapter_id: str) -> bool:
        """A chapter is not read aloud."""
        return self.bench.do(LeaveOut(chapter_id))

    def put_back(self, chapter_id: str) -> bool:
        """What was left out is read aloud; front matter at the beginning, all else at the end."""
        index = 0 if chapter_id.startswith("x1-") else len(self.bench.book.chapters)
        return self.bench.do(PutBack(chapter_id, index))

    def split(self, chapter_id: str, at: int) -> bool:
        """Split a chapter before a word; the second part is named after its first words."""
        return self._tried(lambda: self._split_command(chapter_id, at))

    def _split_command(self, chapter_id: str, at: int) -> BookCommand:
        bench = self.bench
        chapter = bench.book.chapter(chapter_id)
        text = bench.text(chapter)
        title = " ".join(w.text for w in text.words[at : at + 5]) or "…"
        titles = chapter.title, title.rstrip(".,;:")
        return split_chapter(bench.book, chapter, text, bench.hearing(chapter), at, titles, bench.session.store.put)

    def join(self, chapter_id: str) -> bool:
        """Join a chapter with the one after it."""
        chapters = self.bench.book.chapters
        at = next((i for i, c in enumerate(chapters) if c.id == chapter_id), -1)
        if not 0 <= at < len(chapters) - 1:
            self.bench.tell("There is no chapter after this one to join it with.")
            return False
        first, second = chapters[at : at + 2]
        texts = self.bench.text(first), self.bench.text(second)
        hearings = self.bench.hearing(first), self.bench.hearing(second)
        return self._tried(lambda: join_chapters(first, second, texts, hearings, self.bench.session.store.put))

    def _tried(self, command: Callable[[], BookCommand]) -> bool:
        try:
            made = command()
        except AppError as problem:
            self.bench.warn(str(problem))
            return False
        return self.bench.do(made)

    def finished_s(self, chapter: ChapterState) -> float:
        """How long a chapter will be when it is finished, by its words."""
        return finished_s(self.bench.word_count(chapter))

    # --- recordings -----------------------------------------------------------------------------------------------

    def bring_recordings(self, paths: Sequence[Path]) -> None:
        """Copy recordings in, beside the work, each on its own: one that is refused stops no other."""
        for path in paths:
            incoming = Incoming(path)
            self.queue.append(incoming)
            _Bringing(self, incoming).start()
        self.changed()

    def cancel_all(self) -> None:
        """Stop bringing in what is not in yet; nothing half-copied stays."""
        for incoming in self.queue:
            cancel = getattr(incoming.job, "cancel", None)
            if cancel is not None:
                cancel()

    def forget_refused(self) -> None:
        """Clear the list of files that could not be taken."""
        self.queue = [i for i in self.queue if i.state is not Way.REFUSED]
        self.changed()

    def taken(self, incoming: Incoming, recording: Recording) -> None:
        """A recording is in the folder: the book learns of it, and pairs it where its name says so plainly."""
        if incoming in self.queue:
            self.queue.remove(incoming)
        if any(r.hash == recording.hash for r in self.bench.book.recordings):
            self.bench.tell(f"{recording.name} is in the book already.")
        elif self.bench.do(AddRecording(recording)):
            self.current = self.current or recording.hash
            self._pair_by_name(recording)
        self.changed()

    def choose(self, recording: str) -> None:
        """Take a recording in hand."""
        if recording != self.current:
            self.current = recording
            self.changed()

    def recording(self) -> Recording | None:
        """The recording at hand."""
        found = [r for r in self.recordings() if r.hash == self.current]
        return found[0] if found else next(iter(self.recordings()), None)

    # --- hearing --------------------------------------------------------------------------------------------------

    def hear(self, transport: Transport, place: Heard) -> None:
        """Hear the recording at hand, or a place of it; what sounds stops where it is asked again."""
        recording = self.recording()
        if recording is None or recording.hash in self.faults:
            self.bench.tell(
                "No recording is at hand." if recording is None else f"{recording.name} can not be heard: it is lost."
            )
            return
        span = self._span(recording, place)
        if span is None:
            return
        if not self.bench.path_of(recording.hash).exists():
            self.bench.tell(f"{recording.name} is still being made ready. Try again in a moment.")
            return
        reel = Reel((Lane("recording", (Piece(recording.hash, span.start, span.stop),)),))
        render = self.bench.renderer(reel).render
        transport.hear_sound(render, 0, len(span), loop=place is Heard.TONE, speed=1.0)

    def _span(self, recording: Recording, place: Heard) -> Span | None:
        rate = self.bench.book.rate
        match place:
            case Heard.CLIPPED:
                if recording.health is None or not recording.health.places:
                    self.bench.tell(f"Nothing of {recording.name} is clipped.")
                    return None
                at = round(recording.health.places[0][0] * rate / recording.rate)
                return Span(max(0, at - rate), min(recording.length, at + 2 * rate))
            case Heard.TONE:
                tone = recording.tone
                if tone is None or tone.recording != recording.hash:
                    self.bench.tell(f"No room tone was found in {recording.name}.")
                    return None
                return Span(tone.start, tone.stop)
        return Span(0, recording.length)

    def hear_chapter(self, transport: Transport, chapter_id: str) -> None:
        """Hear where a chapter begins in its recording: at its first word, as far as that is known."""
        chapter = next((c for c in self.bench.book.chapters if c.id == chapter_id), None)
        if chapter is None or chapter.reel is None:
            self.bench.tell("This chapter has no recording yet. Choose one beside it." if chapter else NO_CHAPTER)
            return
        words = self.bench.page_tokens(chapter).heard()
        at = max(0, words[0].start - self.bench.book.rate // 2) if len(words) else 0
        stop = min(len(chapter.reel), at + round(BEGINNING_S * self.bench.book.rate))
        transport.hear_sound(self.bench.renderer(chapter.reel).render, at, stop, speed=1.0)

    def recordings(self) -> list[Recording]:
        """What is shown: the recordings that came in, and whatever is missing or changed."""
        return [r for r in self.bench.book.recordings if r.made is None or r.hash in self.faults]

    def pair(self, chapter_id: str, recording: str) -> bool:
        """Say which recording reads a chapter; an empty one takes the pair apart."""
        if self.bench.book.chapter(chapter_id).recording == recording:
            return False
        return self.bench.do(PairRecording(chapter_id, recording, EDITION))

    def name_narrator(self, recording: str, name: str) -> bool:
        """Say who reads a recording."""
        if self.bench.book.recording(recording).narrator == name.strip():
            return False
        return self.bench.do(NameNarrator(recording, name))

    def make_one(self, recordings: Sequence[str]) -> bool:
        """Make one recording of several, in this order, and pair it with the chapter that one of them reads, where nothing of
        its work would go; else it is told which chapter goes on with a part of it.
        """
        book = self.bench.book
        if len(recordings) < 2:
            self.bench.tell("Choose two or more recordings first, with Ctrl or Shift held down.")
            return False
        sources = [book.recording(r) for r in recordings]
        parts = tuple(Stretch(r.hash, 0, r.length) for r in sources)
        made = joined(book, parts, " + ".join(Path(r.name).stem for r in sources))
        self.current = made.hash
        readers = [c for c in book.chapters if c.recording in recordings]
        if not self.bench.do(AddRecording(made)):
            return False
        plain = [
            c for c in readers if c.reel and not c.hearing and not c.findings and c.reel == reel_of(c.recording, len(c.reel))
        ]
        if len(readers) == 1 and plain:
            return self.pair(readers[0].id, made.hash)
        for chapter in readers:
            part = book.recording(chapter.recording).name
            self.bench.warn(
                f"{chapter.title} is still read by {part} alone. Pair it with {made.name} in the table if that reads it."
            )
        return True

    # --- pairing by ear -------------------------------------------------------------------------------------------

    def pair_by_ear(self) -> None:
        """Hear samples of the recordings that read no chapter yet, and pair them with the chapters they read."""
        book, bench = self.bench.book, self.bench
        waiting = [r for r in unread(book) if r.hash not in self.faults]
        if not book.chapters or not waiting:
            bench.tell("Every recording reads a chapter already." if book.brought else "Bring in recordings first.")
            return
        texts, ears, decoded = [bench.text(c) for c in book.chapters], bench.ears, bench.decoder()

        def job(watch: Watch) -> list[Passage]:
            return passages_of(waiting, texts, book.rate, decoded, ears.all(book.language).first, watch)

        self.pairing = True
        self.changed()
        bench.jobs.start("Pair by ear", job, done=self._heard, stopped=self._not_heard)

    def _not_heard(self, why: BaseException) -> None:
        self.pairing = False
        self.changed()
        self.bench.stopped(why)

    def _heard(self, found: list[Passage]) -> None:
        self.pairing = False
        paired = paired_by_ear(self.bench.book, found)
        count = len(paired.command.pairs)
        if count:
            self.bench.do(paired.command)
        rest = f" {paired.unsure} stretches were too unsure to be paired." if paired.unsure else ""
        chapters = f"{count} chapter{'s' if count != 1 else ''}"
        told = f"Paired {chapters} by ear; each can be changed in the table." if count else "No chapter was recognised."
        self.bench.tell(told + rest)
        self.changed()

    # --- lost recordings ------------------------------------------------------------------------------------------

    def look_for_faults(self) -> list[Fault]:
        """See which recordings are missing or of another size than they were."""
        found = faults(self.bench.session.store.folder, self.bench.book)
        self.faults = {f.recording: f.kind for f in found}
        self.bench.lost = set(self.faults)
        return found

    def check_touched(self, told: Callable[[], None]) -> None:
        """Read, beside the work, the recordings that were touched since they were last whole; `told` when one is not."""
        folder, book = self.bench.session.store.folder, self.bench.book

        def done(found: list[Fault]) -> None:
            if {f.recording: f.kind for f in found} != self.faults:
                self.faults = {f.recording: f.kind for f in found}
                self.bench.lost = set(self.faults)
                told()
                self.changed()

        def job(watch: Watch) -> list[Fault]:
            return touched_faults(folder, book, watch)

        self.bench.jobs.start("Check recordings", job, done=done, stopped=self.bench.stopped, quiet=True)

    def find_lost(self, search: Path) -> None:
        """Look in a folder and below it for the lost recordings, by their bytes."""
        folder, book = self.bench.session.store.folder, self.bench.book
        self.bench.jobs.start(
            f"Look in {search.name}",
            lambda watch: found_again(folder, book, search, watch),
            done=self._found_again,
            stopped=self.bench.stopped,
        )

    def _found_again(self, found: list[str]) -> None:
        self.look_for_faults()
        left = f" {len(self.faults)} are still lost." if self.faults else ""
        self.bench.tell(
            (f"{len(found)} recordings are whole again." if found else "None of the lost recordings is there.") + left
        )
        self.bench.forget_sounds(found)
        self.changed()

    def strays(self) -> list[Path]:
        """Files among the recordings that no step of the book names, of those that lay there when it was opened."""
        named = self.bench.session.store.names
        return [p for p in self._unknown if p.is_file() and not named(p.stem)]

    def remove_strays(self, paths: Sequence[Path]) -> None:
        """Delete files that the book does not know."""
        known = set(self.strays())
        try:
            for path in known.intersection(paths):
                path.unlink(missing_ok=True)
        except OSError as problem:
            self.bench.warn(f"{shown(path)} could not be removed ({problem.strerror}).")
            return
        self.bench.report(f"{len(paths)} unknown {'recording is' if len(paths) == 1 else 'recordings are'} removed.")

    def replace_lost(self, recording: str, source: Path) -> None:
        """Take a file for a lost recording: the very same bytes if they are, else another file by the editor's word."""
        folder, rate, entry = self.bench.session.store.folder, self.bench.book.rate, self.bench.book.recording(recording)

        def job(watch: Watch) -> Recording | None:
            try:
                put_back(folder, entry, source)
            except AppError:
                return apart(stand_in, folder, entry, source, rate, path=source, watch=watch)
            return None

        self.bench.jobs.start(f"Relink {entry.name}", job, done=self._relinked, stopped=self.bench.stopped)

    def _relinked(self, other: Recording | None) -> None:
        if other is not None:
            entry = self.bench.book.recording(other.hash)
            self.bench.do(RelinkRecording(replace(other, narrator=entry.narrator)))
        self.look_for_faults()
        self.bench.forget_sounds([other.hash] if other else [r.hash for r in self.bench.book.recordings])
        self.changed()


class _Bringing:
    """One file's way into the book."""

    def __init__(self, presenter: IntakePresenter, incoming: Incoming) -> None:
        self._presenter, self._incoming = presenter, incoming

    def start(self) -> None:
        """Begin."""
        bench, path = self._presenter.bench, self._incoming.path
        folder, rate = bench.session.store.folder, bench.book.rate
        self._incoming.job = bench.jobs.start(
            f"Bring in {path.name}",
            lambda watch: apart(received, folder, path, rate, path=path, watch=watch),
            done=self._done,
            stopped=self._stopped,
            progress=self._moved,
            quiet=True,
        )

    def _done(self, recording: Recording) -> None:
        self._presenter.taken(self._incoming, recording)

    def _moved(self, fraction: float, note: str) -> None:
        self._incoming.state, self._incoming.note = Way.BUSY, f"{note} {100 * fraction:.0f} %"
        self._presenter.changed()

    def _stopped(self, why: BaseException) -> None:
        queue = self._presenter.queue
        match why:
            case Cancelled():
                if self._incoming in queue:
                    queue.remove(self._incoming)
            case AppError():
                self._incoming.state, self._incoming.note = Way.REFUSED, str(why)
            case _:
                raise why
        self._presenter.changed()
