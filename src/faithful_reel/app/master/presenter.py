"""What happens at the Master desk."""

from __future__ import annotations

from faithful_reel.app.workbench import Observed, Workbench
from faithful_reel.core.book.commands import SetMaster
from faithful_reel.core.book.model import ChapterState, Master
from faithful_reel.core.book.store import reel_key
from faithful_reel.core.files import plain
from faithful_reel.core.jobs import Watch
from faithful_reel.core.master.mastering import master_reel
from faithful_reel.core.measure.profile import load_profile
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.release.check import checked_file, file_meter
from faithful_reel.core.units import Span


class MasterPresenter(Observed):
    """Mastering chapters and showing how they stand."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self.profile = "retail"
        self.suffix = ".mp3"
        self.working: set[str] = set()
        self._keys: dict[str, tuple[Reel, str]] = {}

    def state(self, chapter: ChapterState) -> str:
        """One of "no sound", "working", "to do", "out of date", "fails" or "passes"."""
        if chapter.id in self.working:
            return "working"
        if chapter.reel is None:
            return "no sound"
        if chapter.master is None:
            return "to do"
        if chapter.master.reel_key != self._key(chapter.id, chapter.reel) or chapter.master.profile != self.profile:
            return "out of date"
        return "passes" if chapter.master.passed else "fails"

    def _key(self, chapter_id: str, reel: Reel) -> str:
        """The reel's key, worked out once for every reel."""
        known = self._keys.get(chapter_id)
        if known is None or known[0] is not reel:
            known = self._keys[chapter_id] = (reel, reel_key(reel))
        return known[1]

    def master(self, chapter_id: str) -> None:
        """Master a chapter beside the work."""
        chapter = self.bench.book.chapter(chapter_id)
        if chapter.reel is None:
            self.bench.tell(f"{chapter.title} has no recording yet. Pair one with it at Intake.")
            return
        if chapter_id in self.working:
            self.bench.tell(f"{chapter.title} is being mastered already.")
            return
        reel, rate, named = chapter.reel, self.bench.book.rate, self.profile  # the job is for the profile as it is now
        profile = load_profile(named)
        renderer = self.bench.renderer(reel)
        known = self._known(chapter)
        key = reel_key(reel)
        name = plain(f"{chapter.id}-{key[:8]}{self.suffix}")
        out = self.bench.session.store.folder / "masters" / name

        def job(watch: Watch) -> Master:
            made = master_reel(renderer, rate, 1, profile, out, checked=file_meter, words=known, watch=watch)
            figures, found = checked_file(out, profile)
            rows = tuple((v.rule, v.limit, str(v.value), v.passed) for v in (*found, made.words))
            return Master(name, named, key, made.steps, {k: v for k, v in figures.as_json().items()}, rows)

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

    def _known(self, chapter: ChapterState) -> Span | None:
        """From the first to the last word that was heard in a chapter's reel: never trimmed, however softly it is read."""
        if self.bench.hearing(chapter) is None:
            return None
        heard = self.bench.tokens(chapter).heard()
        return Span(int(heard.starts.min()), int(heard.stops.max())) if len(heard) else None

    def master_all(self) -> None:
        """Master every chapter that needs it."""
        due = [c for c in self.bench.book.chapters if self.state(c) in ("to do", "out of date", "fails")]
        if not due:
            self.bench.tell("No chapter needs to be mastered: every master is up to date, or there is no sound yet.")
        for chapter in due:
            self.master(chapter.id)
