"""The names and words of the book: found, heard one after another, compared by sound, their pronunciation noted."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from faithful_reel.app.workbench import Observed, Workbench
from faithful_reel.core.audio.files import ear_sound
from faithful_reel.core.book.commands import AddFindings, NoteName
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.findings import Finding, Kind
from faithful_reel.core.collate.names import BookWord, name_key, names_of
from faithful_reel.core.jobs import Watch
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.work.names import Spoken, medley, numbered, odd_names, spoken_places
from faithful_reel.core.work.timeline import Hearing

Chapters = dict[str, tuple[ChapterState, Chapter, Hearing | None]]


@dataclass(frozen=True, slots=True)
class Row:
    """A word of the list: how often it stands in the book, is heard, sounds odd; what was heard for it; how to say it."""

    word: BookWord
    spoken: tuple[Spoken, ...]
    odd: int
    heard: tuple[str, ...]
    say: str


class NamesPresenter(Observed):
    """The list of names and words, found beside the work."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self._found: tuple[tuple[BookWord, tuple[Spoken, ...]], ...] = ()
        self._of: object = None
        self.busy = False

    def _key(self) -> object:
        return tuple((c.id, c.text, c.hearing) for c in self.bench.book.chapters)

    def look(self) -> None:
        """Find the words and where they are heard, unless that is known already."""
        if self._of == self._key() or self.busy:
            return
        key, read, book = self._key(), self.bench.reader(), self.bench.book

        def job(watch: Watch) -> tuple[object, tuple[tuple[BookWord, tuple[Spoken, ...]], ...]]:
            chapters = _chapters(book, read, watch)
            words = names_of((c, text) for c, (_, text, _) in chapters.items())
            heard = {c: (state, hearing) for c, (state, _, hearing) in chapters.items()}
            return key, tuple((w, tuple(spoken_places(heard, w.places))) for w in words)

        self.busy = True
        self.bench.jobs.start("Look for names", job, done=self._looked, stopped=self._stopped)
        self.changed()

    def _looked(self, found: tuple[object, tuple[tuple[BookWord, tuple[Spoken, ...]], ...]]) -> None:
        self.busy = False
        self._of, self._found = found
        self.changed()

    def _stopped(self, why: BaseException) -> None:
        self.busy = False
        self.changed()
        self.bench.stopped(why)

    def rows(self) -> list[Row]:
        """The list as it stands."""
        say = dict(self.bench.book.say)
        odd: dict[tuple[str, int], Finding] = {
            (c.id, f.word_index): f for c in self.bench.book.chapters for f in c.findings if f.kind is Kind.NAME
        }
        return [
            Row(
                word,
                spoken,
                sum((s.chapter, s.word) in odd for s in spoken),
                tuple(dict.fromkeys(name_key(s.heard) for s in spoken if s.heard)),
                say.get(word.key, ""),
            )
            for word, spoken in self._found
        ]

    def note(self, key: str, say: str) -> bool:
        """Note how a word is to be spoken; it goes on the call sheet with every line that holds it."""
        if dict(self.bench.book.say).get(key, "") == say.strip():
            return False
        return self.bench.do(NoteName(key, say))

    def reel_of(self, spoken: Sequence[Spoken]) -> Reel:
        """Places one after another."""
        return medley(self.bench.book, spoken)

    def elsewhere(self, chapter: str, word: int, play: Callable[[Reel], None]) -> None:
        """Find the other places of a written word and let them be heard one after another."""
        state = self.bench.book.chapter(chapter)
        key = name_key(self.bench.text(state).words[word].text)
        read, book = self.bench.reader(), self.bench.book

        def job(watch: Watch) -> list[Spoken]:
            chapters = _chapters(book, read, watch)
            places = [
                (c, i)
                for c, (_, text, _) in chapters.items()
                for i, w in enumerate(text.words)
                if name_key(w.text) == key and (c, i) != (chapter, word)
            ]
            return spoken_places({c: (s, h) for c, (s, _, h) in chapters.items()}, places)

        def done(spoken: list[Spoken]) -> None:
            if not spoken:
                self.bench.tell(f"“{key}” is heard nowhere else in the book.")
                return
            self.bench.tell(f"“{key}” at {len(spoken)} other places, one after another.")
            play(medley(self.bench.book, spoken))

        self.bench.jobs.start("Look for the word", job, done=done, stopped=self.bench.stopped)

    def compare(self) -> None:
        """Compare by sound how every name is spoken; those unlike their other places become findings."""
        if self.busy:
            return
        words = [w for w, _ in self._found]
        spoken, rate, path_of = dict(self._found), self.bench.book.rate, self.bench.path_of
        paths = {r.hash: path_of(r.hash) for r in self.bench.book.recordings}

        def job(watch: Watch) -> list[tuple[str, Finding]]:
            return odd_names(words, spoken.__getitem__, lambda r: ear_sound(paths[r]), rate, watch)

        def done(found: list[tuple[str, Finding]]) -> None:
            self.busy = False
            there = {(c.id, f.kind, f.word_index) for c in self.bench.book.chapters for f in c.findings}
            fresh = [(c, f) for c, f in found if (c, f.kind, f.word_index) not in there]
            if fresh:
                self.bench.do(AddFindings(tuple(numbered(self.bench.book, fresh))))
            self.bench.tell(
                f"{len(fresh)} places sound unlike the others of their name; they are findings now."
                if fresh
                else "Every name sounds alike wherever it is spoken."
            )
            self.changed()

        self.busy = True
        self.bench.jobs.start("Compare names", job, done=done, stopped=self._stopped)
        self.changed()


def _chapters(book: Book, read: Callable[[type, str], object], watch: Watch) -> Chapters:
    found: Chapters = {}
    for done, chapter in enumerate(book.chapters, 1):
        text = read(Chapter, chapter.text)
        hearing = read(Hearing, chapter.hearing) if chapter.hearing else None
        assert isinstance(text, Chapter)
        assert hearing is None or isinstance(hearing, Hearing)
        found[chapter.id] = chapter, text, hearing
        watch.tick(done / len(book.chapters), "reading")
    return found
