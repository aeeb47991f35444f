"""What was really listened to: follows the sound while it plays, and tells what of a chapter no ear has had yet."""

from __future__ import annotations

from faithful_reel.app.workbench import Observed, Workbench
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.findings import Decision
from faithful_reel.core.errors import AppError
from faithful_reel.core.memo import Memo
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.units import Span
from faithful_reel.core.work.listening import Listened, after_edit, merged, share, sources, unheard


class Listening(Observed):
    """Keeps, in the book, which stretches of every chapter were played to the editor."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        self._known: dict[str, Listened] = {}
        self._left: Memo[tuple[list[Span], float]] = Memo()
        self._now: tuple[str, Reel, int, int] | None = None
        bench.session.listen(self._book_changed)

    def begin(self, chapter: str, reel: Reel, position: int) -> None:
        """Sound of a chapter's reel starts to play."""
        self.end()
        self._now = chapter, reel, position, position

    def reach(self, position: int) -> None:
        """It has been heard up to here."""
        if self._now is not None:
            chapter, reel, start, at = self._now
            if position >= at:
                self._now = chapter, reel, start, position
            else:  # a loop began anew
                self.end()
                self._now = chapter, reel, position, position

    def end(self) -> None:
        """It stopped: what was heard is kept."""
        if self._now is None:
            return
        chapter, reel, start, at = self._now
        self._now = None
        if at > start:
            self._keep(chapter, merged((*self.listened(chapter), *sources(reel, Span(start, at)))))

    def listened(self, chapter: str) -> Listened:
        """What was listened to, in recording time."""
        if chapter not in self._known:
            rows = self._bench.session.store.noted(f"listened {chapter}") or []
            self._known[chapter] = merged((str(r), int(a), int(b)) for r, a, b in rows)
        return self._known[chapter]

    def _keep(self, chapter: str, rows: Listened) -> None:
        if rows != self.listened(chapter):
            self._known[chapter] = rows
            try:
                self._bench.session.store.note(f"listened {chapter}", rows)
            except AppError as problem:  # the disk is full: what was heard is known until the book is closed
                self._bench.warn(str(problem))
            self.changed()

    def unheard(self, chapter: ChapterState) -> list[Span]:
        """What of a chapter's reel was neither listened to nor decided, in reel time."""
        return self._unheard(chapter.reel, chapter)[0] if chapter.reel is not None else []

    def share(self, chapter: ChapterState) -> float:
        """How much of a chapter was listened to or decided, 0 to 1."""
        return self._unheard(chapter.reel, chapter)[1] if chapter.reel is not None else 0.0

    def _unheard(self, reel: Reel, chapter: ChapterState) -> tuple[list[Span], float]:
        """What was neither listened to nor decided, and the share of the rest."""
        rows = self.listened(chapter.id)

        def found() -> tuple[list[Span], float]:
            settled = (f for f in chapter.findings if f.decision is not Decision.OPEN)
            decided = [(f.recording or chapter.recording, f.start, f.stop) for f in settled]
            left = unheard(reel, merged((*rows, *decided)))
            return left, share(reel, left)

        return self._left.of(chapter.id, (reel, rows, chapter.findings), found)

    def _book_changed(self, before: Book, after: Book) -> None:
        was = {c.id: c for c in before.chapters}
        for chapter in after.chapters:
            old = was.get(chapter.id)
            if old is None or old.reel is None or chapter.reel is None or old.reel is chapter.reel:
                continue
            rows = self.listened(chapter.id)
            if rows:
                self._keep(chapter.id, after_edit(rows, old.reel, chapter.reel, after.rate))
