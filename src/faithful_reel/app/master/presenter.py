"""What happens at the Master desk."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from faithful_reel.app.workbench import Observed, Workbench
from faithful_reel.core.book.commands import SetMaster
from faithful_reel.core.book.model import ChapterState, Master
from faithful_reel.core.errors import AppError
from faithful_reel.core.jobs import Watch
from faithful_reel.core.measure.profile import limits_key, load_profile
from faithful_reel.core.memo import Memo
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.units import Signal
from faithful_reel.core.work.mastering import (
    DUE,
    MASTERS,
    MasterState,
    at_mastered_level,
    known_words,
    master_file,
    master_renderer,
    master_state,
    mastered,
    unheard_lanes,
)

__all__ = ["DUE", "MasterPresenter", "MasterState"]
SUFFIXES = (".mp3", ".wav", ".flac")
NOT_MASTERED = "This chapter was not mastered yet, so there is nothing to compare."


def _limits_of(profile: str) -> str:
    try:
        return limits_key(load_profile(profile))
    except AppError:  # told where it is used
        return "none"


class MasterPresenter(Observed):
    """Mastering chapters and showing how they stand."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self.profile = "retail"
        self.suffix = SUFFIXES[0]
        self.working: set[str] = set()
        self._keys: Memo[str] = Memo()

    def state(self, chapter: ChapterState) -> MasterState:
        """How a chapter's master stands."""
        if chapter.id in self.working:
            return MasterState.WORKING
        return master_state(chapter, self.profile, self._limits, lambda: self.bench.reel_key(chapter))

    @property
    def _limits(self) -> str:
        """The key of the limits that the profile sets; none where it can not be read."""
        return self._keys.of(self.profile, (), lambda: _limits_of(self.profile))

    def use_profile(self, name: str) -> None:
        """Hold the chapters against another profile."""
        self.profile = name
        self.bench.changed()

    def master_at_hand(self) -> None:
        """Master the chapter at hand."""
        if self.bench.chapter:
            self.master(self.bench.chapter.id)
        else:
            self.bench.tell("There is nothing to master: this book has no chapters yet.")

    def master(self, chapter_id: str) -> None:
        """Master a chapter beside the work, to the profile as it is now."""
        chapter = self.bench.book.chapter(chapter_id)
        if chapter.reel is None:
            self.bench.tell(f"{chapter.title} has no recording yet. Pair one with it at Intake.")
            return
        if chapter_id in self.working:
            self.bench.tell(f"{chapter.title} is being mastered already.")
            return
        rate, profile, key = self.bench.book.rate, self.profile, self.bench.reel_key(chapter)
        renderer = self.bench.renderer(chapter.reel)
        words = known_words(self.bench.tokens(chapter), chapter.reel)
        self._keys = Memo()  # a profile's file may have changed since
        out = self.bench.session.store.folder / MASTERS / master_file(chapter.id, key, self._limits, self.suffix)

        def job(watch: Watch) -> Master:
            return mastered(renderer, rate, profile, key, out, words=words, watch=watch)

        def done(master: Master) -> None:
            self.working.discard(chapter_id)
            if any(c.id == chapter_id for c in self.bench.book.chapters):
                self.bench.do(SetMaster(chapter_id, master))

        def stopped(why: BaseException) -> None:
            self.working.discard(chapter_id)
            self.changed()
            self.bench.stopped(why)

        self.working.add(chapter_id)
        self.bench.jobs.start(f"Master {chapter.title}", job, done=done, stopped=stopped)
        self.changed()

    def left_unheard(self, chapters: Iterable[ChapterState]) -> list[str]:
        """Which lanes of chapters are not heard and would be missing: “Chapter One: clerk”."""
        found = ((c.title, unheard_lanes(c.reel)) for c in chapters)
        return [f"{title}: {', '.join(names)}" for title, names in found if names]

    def due(self) -> list[ChapterState]:
        """The chapters whose master is missing or out of date."""
        return [c for c in self.bench.book.chapters if self.state(c) in DUE]

    def master_all(self) -> None:
        """Master every chapter that needs it."""
        due = self.due()
        if not due:
            self.bench.tell("No chapter needs to be mastered: every master is up to date, or there is no sound yet.")
        for chapter in due:
            self.master(chapter.id)

    # --- hearing --------------------------------------------------------------------------------------------------

    def unmastered(self) -> tuple[Callable[[int, int], Signal], int] | None:
        """The chapter at hand as it is, as loud as its master, and its length; None where it has no master."""
        chapter = self.bench.chapter
        if chapter is None or chapter.master is None or chapter.reel is None:
            self.bench.tell(NOT_MASTERED)
            return None
        return at_mastered_level(self.bench.renderer(chapter.reel).render, self.bench.book, chapter), len(chapter.reel)

    def mastered(self) -> Renderer | None:
        """The master of the chapter at hand; None where there is none, told where its file is gone."""
        chapter = self.bench.chapter
        if chapter is None or chapter.master is None:
            self.bench.tell(NOT_MASTERED)
            return None
        try:
            return master_renderer(self.bench.session.store.folder, chapter.master, self.bench.book.rate)
        except AppError as problem:
            self.bench.warn(str(problem))
            return None
