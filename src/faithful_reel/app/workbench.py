"""What all desks share: the open book, the chapter at hand, its galley, its sound.  No Qt."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.audio.overview import Overview
from faithful_reel.core.audio.sources import FileSources
from faithful_reel.core.book.commands import BookCommand
from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.book.packing import Packed, reel_key
from faithful_reel.core.book.pickups import settled
from faithful_reel.core.book.recordings import decode, overview, path_of
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import Contents
from faithful_reel.core.collate.findings import Finding
from faithful_reel.core.collate.learning import Lesson, Tally, lessons_of, tally, weighed
from faithful_reel.core.errors import AppError, Cancelled
from faithful_reel.core.hear.ears import Ears, installed_ears
from faithful_reel.core.jobs import Job, Watch
from faithful_reel.core.memo import Memo
from faithful_reel.core.reel.picture import reel_columns
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.times import TimeFormat, time_text
from faithful_reel.core.units import Signal
from faithful_reel.core.work.estimate import estimated_in
from faithful_reel.core.work.gone import EDITS, Going, going, others
from faithful_reel.core.work.gone import meant as meant_for
from faithful_reel.core.work.hearing import HeardChapter, own_samples
from faithful_reel.core.work.timeline import Hearing, Tokens, tokens_of

T = TypeVar("T")
RenderOf = Callable[[Reel], Renderer]
"""Gives the renderer of a reel."""


GO_ON, LEAVE = "Go on all the same", "Leave it"


@dataclass(frozen=True, slots=True)
class Instead:
    """What may be done in the place of a step that would take another voice's sound away: its name, and what does it."""

    name: str
    do: Callable[[], bool]


class LeftAlone(Exception):
    """The user was asked, and does not want the step."""


class Gate:
    """Looks at what a step takes away before it is written, and asks about other voices."""

    def __init__(self, bench: Workbench, command: BookCommand, meant: frozenset[str], instead: Instead | None) -> None:
        self._bench, self._command, self._meant, self._instead = bench, command, meant, instead
        self.answer = GO_ON

    def __call__(self, before: Book, after: Book) -> None:
        """As `Session.do` calls it; raises `LeftAlone` where the step is not to be taken."""
        asked = others(self.goes(before, after, music=False), self._meant)
        if not asked:
            return
        bench = self._bench
        bench.asked_about = tuple(asked)
        choices = (GO_ON, *((self._instead.name,) if self._instead else ()), LEAVE)
        words = "Another voice sounds here, and would go too."
        self.answer = bench.ask(self._command.label, words, [g.told(before.rate) for g in asked], choices)
        if self.answer != GO_ON:
            raise LeftAlone

    def goes(self, before: Book, after: Book, *, music: bool) -> list[Going]:
        """What goes of voices, or of music, beside the lanes that the step is meant for."""
        if not isinstance(self._command, EDITS):
            return []
        bench = self._bench
        columns = lambda c, k: bench.columns(_reel(c), k)  # noqa: E731
        return going(before, after, columns, lambda c: bench.tokens(c).heard(), self._meant, music=music)


def _reel(chapter: ChapterState) -> Reel:
    assert chapter.reel is not None
    return chapter.reel


def _leave_it(_title: str, _words: str, _told: Sequence[str], choices: tuple[str, ...]) -> str:
    """The answer where nobody can be asked."""
    return choices[-1]


class JobRunner(Protocol):
    """Starts long work; see `faithful_reel.app.jobs.Jobs`."""

    def start(
        self,
        name: str,
        job: Job[Any],
        *,
        done: Callable[[Any], None],
        stopped: Callable[[BaseException], None],
        progress: Callable[[float, str], None] | None = None,
        quiet: bool = False,
    ) -> Any: ...


class Observed:
    """Something that tells its listeners when it changed."""

    def __init__(self) -> None:
        self._listeners: list[Callable[[], None]] = []

    def listen(self, listener: Callable[[], None]) -> None:
        """Call `listener` after every change."""
        self._listeners.append(listener)

    def changed(self) -> None:
        """Tell all listeners."""
        for listener in self._listeners:
            listener()


class Hearers:
    """The recognisers, loaded once, by whichever job needs them first."""

    def __init__(self, own: Path | None = None) -> None:
        self._own = own
        self._lock = threading.Lock()
        self._ears: dict[str, Ears] = {}

    def all(self, language: str) -> Ears:
        """The ears for a language that are installed; raises `EarMissing` where there is none."""
        with self._lock:
            if language not in self._ears:
                self._ears[language] = installed_ears(self._own, language=language)
            return self._ears[language]


@dataclass(frozen=True, slots=True)
class Early:
    """What the first ear has made of a text and a recording so far."""

    text: str
    recording: str
    heard: HeardChapter


class Workbench(Observed):
    """The open book and everything derived from it, kept as long as it holds."""

    def __init__(self, session: Session, jobs: JobRunner, *, tell: Callable[[str], None]) -> None:
        super().__init__()
        self.session, self.jobs, self.tell = session, jobs, tell
        self.report = self.warn = tell
        """Say that something was done, and what went wrong; `tell` is for all else."""
        self.ask: Callable[[str, str, Sequence[str], tuple[str, ...]], str] = _leave_it
        """Asks whether a step is to take other voices' sound away: (title, words, whose, answers); the last answer leaves it."""
        self.asked_about: tuple[Going, ...] = ()
        """What was asked about last."""
        self.times = TimeFormat.CLOCK
        """How times are shown, wherever they are."""
        self.stepping = False
        """Whether a step is being taken, and not gone to."""
        self.ears = Hearers()
        self.chapter_id = session.book.chapters[0].id if session.book.chapters else ""
        self._settled: Memo[Book] = Memo()
        self._texts: Memo[Chapter] = Memo()
        self._spellings: Memo[list[str]] = Memo()
        self._counts: Memo[int] = Memo()
        self._hearings: Memo[Hearing] = Memo()
        self._tokens: Memo[Tokens] = Memo()
        self._pages: Memo[Tokens] = Memo()
        self._estimates: dict[tuple[str, str, str], Hearing] = {}
        self._estimating: set[tuple[str, str, str]] = set()
        self._keys: Memo[str] = Memo()
        self._tallies: Memo[Tally] = Memo()
        self._lessons: Memo[tuple[Lesson, ...]] = Memo()
        self._weighed: Memo[tuple[Finding, ...]] = Memo()
        self.early: dict[str, Early] = {}  # of chapters that are being heard
        self._overviews: dict[str, Overview] = {}
        self._wanted: set[str] = set()
        self.lost: set[str] = set()
        self._told: set[str] = set()
        self._sources = FileSources(self.path_of)
        session.listen(self._book_changed)

    # --- the book -------------------------------------------------------------------------------------------------

    @property
    def book(self) -> Book:
        """The book as it stands, its lines as the reels have them."""
        raw = self.session.book
        return self._settled.of(0, (raw.chapters, raw.left_out, raw.pickups, raw), lambda: settled(raw))

    @property
    def chapter(self) -> ChapterState | None:
        """The chapter at hand."""
        return next((c for c in self.book.chapters if c.id == self.chapter_id), None)

    def do(self, command: BookCommand, *, meant: frozenset[str] | None = None, instead: Instead | None = None) -> bool:
        """Carry out a command; tell what is wrong where it is refused.  Whether it was done, or something else in its place.

        Where it would take another voice's sound away than that of the lanes it is `meant` for, it is asked first; as
        `gone.meant` says it where None is given, and where that is not known an empty set is.  `instead` may be chosen then.
        """
        gate = Gate(self, command, meant_for(command, self.book) if meant is None else meant, instead)
        outer, self.stepping, before = self.stepping, True, self.session.book
        try:
            self.session.do(command, may=gate)
        except LeftAlone:
            return gate.answer == (instead.name if instead else "") and instead is not None and instead.do()
        except AppError as problem:
            self.warn(str(problem))
            return False
        finally:
            self.stepping = outer
        music = gate.goes(before, self.session.book, music=True)
        if music:
            seconds = sum(g.length for g in music) / self.book.rate
            names = ", ".join(dict.fromkeys(g.name for g in music))
            self.tell(f"{names} was cut with it, {seconds:.2f} s. Undo brings it back.")
        return True

    def keep(self, rows: Iterable[Packed]) -> bool:
        """Keep large values that a command will name; tell what is wrong where that can not be.  Whether it was done."""
        try:
            self.session.store.put_all(rows)
        except AppError as problem:
            self.warn(str(problem))
            return False
        return True

    def undo(self) -> str:
        """Go back one step; what was undone."""
        return self._stepped(self.session.undo) or ""

    def redo(self) -> str:
        """Go forward one step; what was done again."""
        return self._stepped(self.session.redo) or ""

    def go_to(self, step: int) -> None:
        """Stand at a step of the history."""
        self._stepped(lambda: self.session.go_to(step))

    def _stepped(self, move: Callable[[], T]) -> T | None:
        try:
            return move()
        except AppError as problem:
            self.warn(str(problem))
            return None

    def open_chapter(self, chapter_id: str) -> None:
        """Take another chapter in hand."""
        if chapter_id != self.chapter_id and any(c.id == chapter_id for c in self.book.chapters):
            self.chapter_id = chapter_id
            self.changed()

    def _book_changed(self, _before: Book, after: Book) -> None:
        if not any(c.id == self.chapter_id for c in after.chapters):
            self.chapter_id = after.chapters[0].id if after.chapters else ""
        self.changed()

    def time(self, position: int, digits: int = 3) -> str:
        """A position, or a length, in samples as times are shown; of a clock with so many digits of the second."""
        return time_text(position, self.book.rate, self.times, digits)

    def time_of_seconds(self, seconds: float) -> str:
        """Whole seconds as times are shown."""
        return self.time(round(seconds * self.book.rate), 0)

    # --- contents -------------------------------------------------------------------------------------------------

    def text(self, chapter: ChapterState) -> Chapter:
        """A chapter's written words."""
        return self._texts.of(chapter.text, (), lambda: self.session.store.get(Chapter, chapter.text))

    def word_count(self, chapter: ChapterState) -> int:
        """How many words a chapter has."""
        return self._counts.of(chapter.text, (), lambda: self.session.store.word_count(chapter.text))

    def hearing(self, chapter: ChapterState) -> Hearing | None:
        """What was heard of a chapter, while it is being heard so far; None before."""
        if not chapter.hearing:
            early = self._early(chapter)
            return early.heard.hearing if early else None
        return self._hearings.of(chapter.hearing, (), lambda: self.session.store.get(Hearing, chapter.hearing))

    def keep_hearing(self, key: str, hearing: Hearing) -> None:
        """Have a hearing that was just kept at hand, so that it need not be read."""
        self._hearings.of(key, (), lambda: hearing)

    def reel_key(self, chapter: ChapterState) -> str:
        """The key of a chapter's reel, by which it is known whether it changed; empty where there is none."""
        reel = chapter.reel
        return self._keys.of(chapter.id, (reel,), lambda: reel_key(reel)) if reel is not None else ""

    def findings(self, chapter: ChapterState) -> tuple[Finding, ...]:
        """The findings of a chapter, weighed by what was learned; while it is being heard first, of what was heard so far."""
        early = None if chapter.hearing else self._early(chapter)
        found = early.heard.findings if early else chapter.findings
        lessons, narrator = self.lessons(), self._narrator(chapter)
        return self._weighed.of(chapter.id, (found, lessons, narrator), lambda: weighed(found, narrator, lessons))

    def lessons(self) -> tuple[Lesson, ...]:
        """What the decisions of this book teach."""
        chapters = self.book.chapters
        tallies = tuple(self._tally(c) for c in chapters)
        return self._lessons.of(0, (*tallies, self.book.forgotten), lambda: lessons_of(tallies, self.book.forgotten))

    def _tally(self, chapter: ChapterState) -> Tally:
        narrator = self._narrator(chapter)
        return self._tallies.of(chapter.id, (chapter.findings, narrator), lambda: tally(chapter.findings, narrator))

    def _narrator(self, chapter: ChapterState) -> str:
        """Who reads a chapter: as its recording says, else the book's narrator."""
        own = next((r.narrator for r in self.book.recordings if r.hash == chapter.recording), "")
        return own or self.book.narrator

    def _early(self, chapter: ChapterState) -> Early | None:
        """What was heard so far, unless the chapter was paired or revised meanwhile."""
        early = self.early.get(chapter.id)
        return early if early and (early.text, early.recording) == (chapter.text, chapter.recording) else None

    def tokens(self, chapter: ChapterState) -> Tokens:
        """The galley of a chapter as its reel stands."""
        hearing, written = self.hearing(chapter), self.text(chapter)
        spelt = self._spellings.of(chapter.id, (written,), lambda: [w.text for w in written.words])
        key = (chapter.reel, chapter.recording, hearing, written, self.book.pickups)
        return self._tokens.of(chapter.id, key, lambda: tokens_of(self.book, chapter, spelt, hearing))

    def estimate(self, chapter: ChapterState) -> Hearing | None:
        """Where the words of a chapter that was not heard may stand, as if it had been; None while that is not known.

        It is made beside the work, once the sound is drawn, and is never kept in the book.
        """
        if chapter.reel is None or not chapter.recording or self.hearing(chapter) is not None:
            return None
        key = chapter.id, chapter.text, chapter.recording
        found = self._estimates.get(key)
        drawn = self.overview(chapter.recording)
        if found is None and drawn is not None and key not in self._estimating:
            self._estimating.add(key)
            text, stretch, rate = self.text(chapter), own_samples(self.book, chapter), self.book.rate

            def make(watch: Watch) -> Hearing:
                watch.tick(0.0, "looking for pauses")
                return Hearing((), estimated_in(drawn, stretch, rate, text), ())

            def made(hearing: Hearing) -> None:
                self._estimates[key] = hearing
                self.changed()

            self.jobs.start(f"Estimate {chapter.title}", make, done=made, stopped=self.stopped, quiet=True)
        return found if found is not None and any(found.placed) else None

    def page_tokens(self, chapter: ChapterState) -> Tokens:
        """The galley of a chapter to look at and to listen by: by estimate where it was not heard.  Nothing is edited by it."""
        guess = self.estimate(chapter)
        if guess is None:
            return self.tokens(chapter)
        written = self.text(chapter)
        make = lambda: tokens_of(self.book, chapter, [w.text for w in written.words], guess)  # noqa: E731
        return self._pages.of(chapter.id, (chapter.reel, guess, written), make)

    def reader(self) -> Callable[[type, str], Any]:
        """Reads contents of the book, for use in one other thread."""
        folder = self.session.store.folder

        def read(kind: type, key: str) -> Any:
            with closing(Contents(folder)) as contents:
                return contents.get(kind, key)

        return read

    # --- sound ----------------------------------------------------------------------------------------------------

    def path_of(self, recording: str) -> Path:
        """The file that a recording's sound is read from."""
        return path_of(self.session.store.folder, self.book.recording(recording), self.book.rate)

    def renderer(self, reel: Reel) -> Renderer:
        """A renderer with files of its own, for use in one other thread."""
        paths = {r.hash: path_of(self.session.store.folder, r, self.book.rate) for r in self.book.recordings}
        return Renderer(reel, FileSources(paths.__getitem__))

    def rendering(self) -> Callable[[], AbstractContextManager[RenderOf]]:
        """Opens the files of the book as it stands, for use in one other thread, and gives renderers that share them."""
        folder = self.session.store.folder
        paths = {r.hash: path_of(folder, r, self.book.rate) for r in self.book.recordings}

        @contextmanager
        def opened() -> Iterator[RenderOf]:
            with closing(FileSources(paths.__getitem__)) as files:
                yield lambda reel: Renderer(reel, files)

        return opened

    def render_here(self, reel: Reel) -> Callable[[int, int], Signal]:
        """A rendering for the interface thread."""
        render = Renderer(reel, self._sources).render

        def heard(start: int, stop: int) -> Signal:
            try:
                return render(start, stop)
            except AppError as problem:  # the picture stays empty there; what is wrong is told once
                if str(problem) not in self._told:
                    self._told.add(str(problem))
                    self.warn(str(problem))
                return np.zeros(stop - start, np.float32)

        return heard

    def columns(self, reel: Reel, lane: int = 0) -> Callable[[NDArray[np.float64]], NDArray[np.float32]]:
        """What a lane of a reel looks like."""
        starts: list[int] = []

        def columns(edges: NDArray[np.float64]) -> NDArray[np.float32]:
            if not starts:
                starts.extend(reel.lanes[lane].starts())
            return reel_columns(reel, self.overview, edges, lane=lane, starts=starts)

        return columns

    def overview(self, recording: str) -> Overview | None:
        """A recording's overview; while there is none yet it is made beside the work."""
        found = self._overviews.get(recording)
        if found is None and recording not in self._wanted | self.lost and any(r.hash == recording for r in self.book.recordings):
            self._wanted.add(recording)
            entry = self.book.recording(recording)
            folder, book = self.session.store.folder, self.book

            def make(watch: Watch) -> tuple[Recording, Overview]:
                watch.tick(0.0, "drawing")
                decode(folder, book, entry)
                return entry, overview(folder, book, entry)

            self.jobs.start(f"Draw {entry.name}", make, done=self._overview_made, stopped=self.stopped, quiet=True)
        return found

    def _overview_made(self, made: tuple[Recording, Overview]) -> None:
        self._overviews[made[0].hash] = made[1]
        self.changed()

    def decoder(self) -> Callable[[Recording], Path]:
        """Gives the file of a recording's sound at the book's rate, made where it is missing; for use in another thread."""
        folder, book = self.session.store.folder, self.book

        def decoded(recording: Recording) -> Path:
            decode(folder, book, recording)
            return path_of(folder, recording, book.rate)

        return decoded

    def forget_sounds(self, recordings: Iterable[str]) -> None:
        """Files of these recordings were exchanged: open and draw them anew."""
        for recording in recordings:
            self._overviews.pop(recording, None)
            self._wanted.discard(recording)
        self._sources.close()
        self.changed()

    def stopped(self, why: BaseException) -> None:
        """What every job's end without a result comes to: silence for a cancel, a message for a problem, else our bug."""
        match why:
            case Cancelled():
                pass
            case AppError():
                self.warn(str(why))
            case _:
                raise why

    def close(self) -> None:
        """Let go of all files and of the book."""
        self._sources.close()
        self.session.close()
