"""What happens at the Proof desk."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from faithful_reel.app.transport.listening import Listening
from faithful_reel.app.workbench import Early, Observed, Workbench
from faithful_reel.core.book.commands import (
    EDITION,
    AcceptReading,
    AddFinding,
    Forget,
    NoteFinding,
    PlaceAsItStands,
    PlaceHearing,
    SignOff,
)
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.book.packing import Packed, packed, ready
from faithful_reel.core.book.store import HEARD
from faithful_reel.core.collate.findings import Decision, Finding, Kind, is_shown
from faithful_reel.core.collate.learning import Lesson, forgetting
from faithful_reel.core.collate.names import Accepted
from faithful_reel.core.errors import AppError
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.jobs import Job, Watch
from faithful_reel.core.memo import Memo
from faithful_reel.core.units import Span
from faithful_reel.core.work.deciding import (
    deciding,
    fate,
    following_open,
    likeness,
    noted_on_sound,
    noted_on_words,
    open_count,
)
from faithful_reel.core.work.hearing import HeardChapter, heard_voices
from faithful_reel.core.work.hearing_again import AsItStands, heard_as_it_stands, needs_again
from faithful_reel.core.work.mending import finding_span
from faithful_reel.core.work.page import Mark, Styles, headings_of, marks_of, styles_of
from faithful_reel.core.work.readings import Retake, better_retake, retakes_of, swapped
from faithful_reel.core.work.reporting import report_rows, write_report
from faithful_reel.core.work.roughcut import Looks, rough_cut
from faithful_reel.core.work.search import Place, found
from faithful_reel.core.work.timeline import Hearing, finding_spans, still_heard, word_at

GONE, STILL = "gone", "still heard"
"""What is told of the sound of a finding."""


@dataclass(frozen=True, slots=True)
class Sieve:
    """Which findings the docket shows, and how: of one kind or decision only, and only those at least so sure.

    `by_doubt` puts the least sure first, `whole_book` shows those of all chapters.
    """

    kind: Kind | None = None
    decision: Decision | None = None
    by_doubt: bool = False
    least: float = 0.0
    whole_book: bool = False

    @property
    def narrow(self) -> bool:
        """Whether it leaves anything out."""
        return bool(self.kind or self.decision or self.least)


class ProofPresenter(Observed):
    """Hearing a chapter, walking its findings, deciding them."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self._takes: Memo[tuple[Retake, ...]] = Memo()
        self._styles: Memo[Styles] = Memo()
        self._spans: Memo[list[Span | None]] = Memo()
        self.current = ""
        self._of = bench.chapter_id
        self.selected: tuple[tuple[str, str], ...] = ()
        self.show_doubtful = False
        self.sieve = Sieve()
        self.off: frozenset[str] = frozenset()
        self.hearing_now: set[str] = set()
        self._hearings: dict[str, Any] = {}
        self.ended: list[Callable[[str, BaseException | None], None]] = []
        """Told when a chapter's hearing is over, and why, where it was not heard to its end."""
        self.going: list[Callable[[str, float], None]] = []
        """Told how far a chapter is heard, 0 to 1."""
        self.listening = Listening(bench)
        self.listening.listen(self.changed)
        bench.listen(self._bench_changed)

    def _bench_changed(self) -> None:
        if self.bench.chapter_id != self._of:  # the chapter was changed elsewhere: none of its findings is at hand
            self._of, self.current, self.selected = self.bench.chapter_id, "", ()

    # --- the docket -----------------------------------------------------------------------------------------------

    def rows(self) -> list[tuple[str, Finding]]:
        """(chapter, finding) of all that is shown, in reading order or the doubtful first."""
        chapters = self.bench.book.chapters if self.sieve.whole_book else [c for c in (self.bench.chapter,) if c]
        rows = [(c.id, f) for c in chapters for f in self.bench.findings(c) if self._is_wanted(f)]
        return sorted(rows, key=lambda row: row[1].confidence) if self.sieve.by_doubt else rows

    def _is_wanted(self, f: Finding) -> bool:
        sieve = self.sieve
        return (
            (self.show_doubtful or not self.is_folded(f))
            and f.confidence >= sieve.least
            and sieve.kind in (None, f.kind)
            and sieve.decision in (None, f.decision)
        )

    def is_folded(self, f: Finding) -> bool:
        """Whether a finding is folded away: the ear is not sure of it, or its kind of flaw is switched off."""
        return f.decision is Decision.OPEN and (not is_shown(f) or f.evidence.flaw in self.off)

    def docket(self) -> list[Finding]:
        """The findings that are shown, without their chapters."""
        return [f for _, f in self.rows()]

    def show_only(self, sieve: Sieve) -> None:
        """Show these findings only."""
        self.sieve = sieve
        self.changed()

    def unfold(self, *, shown: bool) -> None:
        """Show findings that are folded away, or fold them again."""
        self.show_doubtful = shown
        self.changed()

    def switch_off(self, flaws: frozenset[str]) -> None:
        """Fold flaws of these kinds away, whatever their confidence; nothing is dropped."""
        self.off = flaws
        self.bench.changed()

    def folded(self) -> int:
        """How many findings of the chapter at hand are folded away."""
        chapter = self.bench.chapter
        return sum(map(self.is_folded, self.bench.findings(chapter))) if chapter else 0

    def finding(self) -> Finding | None:
        """The finding at hand."""
        return next((f for c, f in self.rows() if f.id == self.current and c == self.bench.chapter_id), None)

    def choose(self, finding_id: str, chapter: str = "") -> None:
        """Take a finding in hand, and its chapter with it."""
        self.current, self._of, self.selected = finding_id, chapter or self.bench.chapter_id, ()
        if chapter and chapter != self.bench.chapter_id:
            self.bench.open_chapter(chapter)
        self.changed()

    def select(self, keys: Sequence[tuple[str, str]]) -> None:
        """Take several (chapter, finding) in hand, to be decided at once."""
        self.selected = tuple(keys)
        self.changed()

    def take_alike(self) -> bool:
        """Take all open findings of the book in hand that are like the one at hand, to be decided at once."""
        chapter, finding = self.bench.chapter, self.finding()
        if chapter is None or finding is None:
            self.bench.tell("No finding is at hand. Choose one in the docket first (N).")
            return False
        wanted = self._likeness(chapter, finding)
        alike = [
            (c.id, f.id)
            for c in self.bench.book.chapters
            for f in self.bench.findings(c)
            if f.decision is Decision.OPEN and not self.is_folded(f) and self._likeness(c, f) == wanted
        ]
        if len(alike) < 2:
            self.bench.tell("No other open finding of this book is like this one.")
            return False
        if len({c for c, _ in alike}) > 1 and not self.sieve.whole_book:
            self.sieve = replace(self.sieve, whole_book=True)
        self.selected = tuple(alike)
        self.changed()
        self.bench.tell(f"{len(alike)} open findings are alike ({': '.join(filter(None, wanted))}). Decide them at once.")
        return True

    def _likeness(self, chapter: ChapterState, finding: Finding) -> tuple[str, ...]:
        text = self.bench.text(chapter)
        return likeness(finding, text, headings_of(text))

    def _at(self, rows: Sequence[tuple[str, Finding]], missing: int) -> int:
        here = (self.bench.chapter_id, self.current)
        return next((i for i, (c, f) in enumerate(rows) if (c, f.id) == here), missing)

    def step(self, by: int) -> None:
        """Go to the next or the previous finding."""
        rows = self.rows()
        if rows:
            at = self._at(rows, -1 if by > 0 else len(rows))
            chapter, finding = rows[min(len(rows) - 1, max(0, at + by))]
            self.choose(finding.id, chapter)
        else:
            self.bench.tell("The docket shows no finding here.")

    def span(self, finding: Finding) -> Span | None:
        """Where a finding of the chapter at hand is heard now."""
        chapter = self.bench.chapter
        if chapter is None:
            return None
        known = next((k for k, f in enumerate(self.bench.findings(chapter)) if f is finding), -1)
        return self._spans_of(chapter)[known] if known >= 0 else finding_span(chapter, finding)

    def following(self) -> Finding | None:
        """The open finding of the chapter at hand that a decision of one would take in hand next."""
        if len(self.selected) > 1 or self.finding() is None:
            return None
        rows = self.rows()
        found = following_open(rows, self._at(rows, -1))
        return found[1] if found is not None and found[0] == self.bench.chapter_id else None

    def decide(self, decision: Decision, note: str = "") -> bool:
        """Decide the finding at hand, or all that are selected, and move on to the next open one."""
        if len(self.selected) > 1:
            return self._decide_several(decision, note)
        chapter, finding = self.bench.chapter, self.finding()
        if chapter is None or finding is None:
            self.bench.tell("No finding is at hand. Choose one in the docket first (N).")
            return False
        rows = self.rows()
        following = following_open(rows, self._at(rows, -1))
        if decision is finding.decision and any(f.id == finding.id for f in chapter.findings):
            self.bench.tell(
                "This finding is open already." if decision is Decision.OPEN else f"This is decided already: {decision.value}."
            )
            return False
        done = self._decide_in(chapter, [finding], decision, note)
        if done and following:
            self.choose(following[1].id, following[0])
        return done

    def _decide_in(self, chapter: ChapterState, findings: Sequence[Finding], decision: Decision, note: str) -> bool:
        """Decide findings of one chapter in one step; says what it could not bring back."""
        known = {f.id for f in chapter.findings}
        if not findings or any(f.id not in known for f in findings):
            self.bench.tell("The ear is still listening. Decide when the chapter has been heard.")
            return False
        text, hearing = self.bench.text(chapter), self.bench.hearing(chapter)
        made = deciding(self.bench.book, chapter, text, hearing, findings, decision, note, self._looks(chapter))
        for why in made.refused:
            self.bench.tell(f"The decision is taken back, but not the edit. {why}")
        done = self.bench.do(made.command)
        if done and made.restores and not made.refused:
            self.bench.tell("The sound that mending had taken is back.")
        if done and made.marked:
            count = len(made.marked)
            told = "Marked to be mended" if count == 1 else f"{count} findings are marked only"
            self.bench.tell(f"{told}; the sound is as it was. {made.marked[0]}")
        return done

    def _looks(self, chapter: ChapterState) -> Looks | None:
        """What the chapter's reel looks like after any edit, once its recording was looked at."""
        return self.bench.columns if self.bench.overview(chapter.recording) else None

    def _decide_several(self, decision: Decision, note: str) -> bool:
        """One step for every chapter that has some of the selected findings."""
        rows = self.rows()
        done = True
        for chapter_id in dict.fromkeys(c for c, _ in self.selected):
            chapter = self.bench.book.chapter(chapter_id)
            ids = {f for c, f in self.selected if c == chapter_id}
            done = self._decide_in(chapter, [f for f in chapter.findings if f.id in ids], decision, note) and done
        last = max((i for i, (c, f) in enumerate(rows) if (c, f.id) in self.selected), default=-1)
        following = following_open(rows, last)
        self.selected = ()
        if following:
            self.choose(following[1].id, following[0])
        return done

    def write_note(self, text: str) -> bool:
        """Write what is to be said of the finding at hand; its pickup carries it to the narrator."""
        chapter, finding = self.bench.chapter, self.finding()
        if chapter is None or finding is None or text.strip() == finding.note:
            return False
        return self.bench.do(NoteFinding(chapter.id, finding.id, text))

    def sound_told(self) -> frozenset[tuple[tuple[str, str], str]]:
        """What is to be told of the sound of findings that are shown: that it was taken out, or is heard although mended."""
        chapters = self.bench.book.chapters if self.sieve.whole_book else [c for c in (self.bench.chapter,) if c]
        rows = ((c, zip(self.bench.findings(c), self._spans_of(c), strict=True)) for c in chapters if c.reel is not None)
        told = (
            ((c.id, f.id), GONE if span is None and f.stop > f.start else STILL if still_heard(f, span) else "")
            for c, pairs in rows
            for f, span in pairs
        )
        return frozenset(row for row in told if row[1])

    def _spans_of(self, chapter: ChapterState) -> list[Span | None]:
        """Where the findings of a chapter are heard in its reel."""
        findings = self.bench.findings(chapter)
        return self._spans.of(chapter.id, (chapter.reel, findings), lambda: finding_spans(chapter, findings))

    def fate(self, finding: Finding) -> str:
        """What became of a finding's sound, in words; empty where it is heard as it was."""
        chapter = self.bench.chapter
        return fate(self.bench.book, chapter, finding) if chapter else ""

    def accept(self) -> bool:
        """The name at hand is read rightly: accepted for the whole book."""
        finding = self.finding()
        if finding is None or finding.kind is not Kind.MISREAD or finding.word_count != 1:
            self.bench.tell("Choose a misread of a single word first: only a name can be accepted for the whole book.")
            return False
        before = open_count(self.bench.book.chapters)
        rows = self.rows()
        following = following_open(rows, self._at(rows, -1))
        if not self.bench.do(AcceptReading(finding.written, finding.heard)):
            return False
        count = before - open_count(self.bench.book.chapters)
        self.bench.report(f"“{finding.written}” read as “{finding.heard}” is accepted for the whole book: {count} findings.")
        if following:
            self.choose(following[1].id, following[0])
        return True

    def forget(self, lessons: Sequence[Lesson], names: Accepted = ()) -> bool:
        """Let lessons count no more, and readings of names be accepted no more."""
        if not lessons and not names:
            self.bench.tell("Nothing was learned yet, so there is nothing to forget.")
            return False
        done = self.bench.do(Forget(forgetting(lessons, self.bench.book.forgotten), tuple(names)))
        if done:
            words = [*(one.words for one in lessons), *(f"“{heard}” for “{name}”" for name, heard in names)]
            what = words[0] if len(words) == 1 else f"{len(words)} lessons"
            self.bench.tell(f"Forgotten: {what}. What is decided from now on counts anew.")
        return done

    def report(self, path: Path, *, whole: bool) -> None:
        """Write the report of this chapter, or of the whole book, beside the work."""
        book, chapter = self.bench.book, self.bench.chapter
        if chapter is None:
            return
        chapters = [replace(c, findings=self.bench.findings(c)) for c in (book.chapters if whole else (chapter,))]
        rows = report_rows(book, chapters, self.bench.text, self.is_folded, self.bench.times)
        title = f"{book.title}: proof report" + ("" if whole else f", {chapter.title}")

        def job(watch: Watch) -> Path:
            watch.tick(0.0, "writing")
            write_report(rows, title, path)
            return path

        self.bench.jobs.start(f"Write {path.name}", job, done=self._reported, stopped=self.bench.stopped)

    def _reported(self, path: Path) -> None:
        self.bench.report(f"The report is in {path.name}.")

    # --- finding places -------------------------------------------------------------------------------------------

    def find(self, wanted: str, after: int, *, back: bool = False, heard: bool = False) -> Place:
        """Where what was typed stands in the chapter at hand; see `core.work.search.found`."""
        chapter = self.bench.chapter
        if chapter is None:
            return Place()
        text, hearing = self.bench.text(chapter), self.bench.hearing(chapter)
        return found(wanted, text, hearing, self.bench.book.rate, after=after, back=back, heard=heard)

    def rough_cut(self) -> bool:
        """Cut the chapter at hand down to its last complete readings, in one step."""
        chapter = self.bench.chapter
        if chapter is None:
            self.bench.tell("There is nothing to cut: this book has no chapters yet.")
            return False
        try:
            heard, text = self.bench.hearing(chapter), self.bench.text(chapter)
            command, hearing = rough_cut(self.bench.book, chapter, text, heard, self._looks(chapter))
        except AppError as problem:
            self.bench.warn(str(problem))
            return False
        before = len(chapter.reel) if chapter.reel else 0
        if command.swapped:
            row = packed(Hearing, hearing)
            if not self.bench.keep([row]):
                return False
            command = replace(command, hearing=row.key)
        if not self.bench.do(command):
            return False
        after = self.bench.book.chapter(chapter.id).reel
        gone = (before - len(after or ())) / self.bench.book.rate
        self.bench.tell(f"Rough cut: {len(command.edits)} places, {gone:.1f} s shorter. One step back brings all of it back.")
        return True

    def takes(self, chapter: ChapterState) -> tuple[Retake, ...]:
        """The other readings that a chapter's recording holds."""
        findings = self.bench.findings(chapter)
        return self._takes.of(chapter.id, (findings,), lambda: retakes_of(self.bench.text(chapter), findings))

    def styles(self, chapter: ChapterState) -> Styles:
        """How the words of a chapter are set."""
        text = self.bench.text(chapter)
        return self._styles.of(chapter.id, (text,), lambda: styles_of(text))

    def marks(self, chapter: ChapterState) -> tuple[Mark, ...]:
        """What is marked on a chapter's page."""
        findings = self.bench.findings(chapter)
        return marks_of(self.bench.book, chapter, findings, self.is_folded, self._spans_of(chapter))

    def take_note(self, finding: Finding) -> str:
        """What is to be said of a finding that is another reading of a line; empty for any other."""
        chapter = self.bench.chapter
        take = next((t for t in self.takes(chapter) if t.finding == finding.id), None) if chapter else None
        if chapter is None or take is None:
            return ""
        better = better_retake(self.bench.text(chapter), chapter.findings, finding.id)
        return f"Another reading of the line: {take.verdict}." + (" Better than the one that is kept." if better else "")

    def swap_take(self, finding_id: str = "") -> bool:
        """Put another reading in the place of the one that is kept: the finding at hand, or the one named."""
        chapter, finding = self.bench.chapter, self.finding()
        wanted = finding_id or (finding.id if finding else "")
        if chapter is None or not wanted:
            self.bench.tell("Choose a repeat or a false start first: that is the other reading.")
            return False
        try:
            command, hearing = swapped(self.bench.book, chapter, self.bench.text(chapter), self.bench.hearing(chapter), wanted)
        except AppError as problem:
            self.bench.warn(str(problem))
            return False
        row = packed(Hearing, hearing)
        done = self.bench.keep([row]) and self.bench.do(replace(command, hearing=row.key))
        if done:
            self.bench.tell("The other reading is in. The same key swaps them back.")
        return done

    def note_finding(self, kind: Kind, first_word: int, last_word: int, note: str) -> bool:
        """A finding by hand on written words."""
        chapter = self.bench.chapter
        if chapter is None or chapter.reel is None:
            return False
        text, tokens = self.bench.text(chapter), self.bench.tokens(chapter)
        return self.bench.do(AddFinding(chapter.id, noted_on_words(chapter, text, tokens, kind, first_word, last_word, note)))

    def note_sound(self, kind: Kind, span: Span, note: str, lane: int | None = None) -> bool:
        """A finding by hand on a stretch of sound, of a lane where that is known."""
        chapter = self.bench.chapter
        if chapter is None or chapter.reel is None:
            return False
        text, tokens = self.bench.text(chapter), self.bench.tokens(chapter)
        return self.bench.do(AddFinding(chapter.id, noted_on_sound(chapter, text, tokens, kind, span, note, lane)))

    def word_at(self, position: int) -> int:
        """The written word that is heard at a position of the reel, or was heard last before it; -1 for none."""
        chapter = self.bench.chapter
        return word_at(self.bench.tokens(chapter), position) if chapter else -1

    def words(self, first: int, last: int) -> str:
        """Written words of the chapter at hand, as text."""
        chapter = self.bench.chapter
        return " ".join(w.text for w in self.bench.text(chapter).words[first : last + 1]) if chapter else ""

    # --- proofed --------------------------------------------------------------------------------------------------

    def proofed(self, chapter: ChapterState) -> str:
        """Whether a chapter is signed off: empty, "signed off" or "changed since"."""
        if not chapter.signed or chapter.reel is None:
            return ""
        return "signed off" if chapter.signed == self._sign_key(chapter) else "changed since"

    def _sign_key(self, chapter: ChapterState) -> str:
        return f"{self.bench.reel_key(chapter)} {chapter.text}"

    def sign_off(self) -> bool:
        """Sign the chapter at hand off as it is, or take that back; says what was left open or unheard."""
        chapter = self.bench.chapter
        if chapter is None or chapter.reel is None:
            self.bench.tell("There is nothing to sign off: this chapter has no recording yet.")
            return False
        if self.proofed(chapter) == "signed off":
            return self.bench.do(SignOff(chapter.id, ""))
        if not self.bench.do(SignOff(chapter.id, self._sign_key(chapter))):
            return False
        open_ = sum(f.decision is Decision.OPEN and not self.is_folded(f) for f in self.bench.findings(chapter))
        left = sum(map(len, self.listening.unheard(chapter)))
        rest = [f"{open_} findings open"] if open_ else []
        rest += [f"{self.bench.time(left, 0)} not listened to"] if left > self.bench.book.rate else []
        self.bench.tell(f"{chapter.title} is signed off" + (f", with {' and '.join(rest)}." if rest else "."))
        return True

    def next_unheard(self, position: int) -> int:
        """Where the next stretch begins that was not listened to, from a position on and round the end; -1 for none."""
        chapter = self.bench.chapter
        left = [s for s in self.listening.unheard(chapter) if len(s) > self.bench.book.rate // 5] if chapter else []
        ahead = [s for s in left if s.stop > position]
        return max(position, ahead[0].start) if ahead else left[0].start if left else -1

    # --- hearing --------------------------------------------------------------------------------------------------

    def hear_chapter(self, chapter_id: str) -> None:
        """Proof a chapter beside the work."""
        chapter = self.bench.book.chapter(chapter_id)
        if not chapter.recording:
            self.bench.tell(f"{chapter.title} has no recording yet. Pair one with it at Intake.")
            return
        if chapter_id in self.hearing_now:
            return
        book, text = self.bench.book, self.bench.text(chapter)
        ears, paths = self.bench.ears, {r.hash: self.bench.path_of(r.hash) for r in book.recordings}
        sound = paths.__getitem__
        memory = self.bench.session.store.folder / HEARD
        so_far: list[HeardChapter] = []  # handed from the job's thread to this one

        def early(heard: HeardChapter) -> None:
            so_far[:] = [heard]

        def job(watch: Watch) -> tuple[HeardChapter, Packed]:
            watch.tick(0.0, "waking the ear")
            found_ears = ears.all(book.language)
            watch.tick(0.0, "listening")
            with Memory(memory) as remembered:
                made = heard_voices(book, chapter, text, sound, found_ears, watch, early, remembered)
            ready(PlaceHearing)
            return made, packed(Hearing, made.hearing)

        def progress(_fraction: float, _note: str) -> None:
            if so_far:
                self.bench.early[chapter_id] = Early(chapter.text, chapter.recording, so_far.pop())
                self.bench.changed()

        def done(made: tuple[HeardChapter, Packed]) -> None:
            self._heard(chapter, *made)

        self._hear(chapter_id, f"Hear {chapter.title}", job, done, progress)

    def _hear(
        self,
        chapter_id: str,
        name: str,
        job: Job[Any],
        made: Callable[[Any], None],
        progress: Callable[[float, str], None] | None = None,
    ) -> None:
        """Start hearing a chapter, and tell when it is over."""

        def over(why: BaseException | None) -> None:
            for told in self.ended:
                told(chapter_id, why)

        def going(fraction: float, note: str) -> None:
            for told in self.going:
                told(chapter_id, fraction)
            if progress is not None:
                progress(fraction, note)

        def not_hearing() -> None:
            self.hearing_now.discard(chapter_id)
            self._hearings.pop(chapter_id, None)
            self.bench.early.pop(chapter_id, None)

        def done(found: Any) -> None:
            not_hearing()
            made(found)
            over(None)

        def stopped(why: BaseException) -> None:
            not_hearing()
            self.changed()
            over(why)
            self.bench.stopped(why)

        self.hearing_now.add(chapter_id)
        self._hearings[chapter_id] = self.bench.jobs.start(name, job, done=done, stopped=stopped, progress=going)
        self.changed()

    def hear(self, chapter_id: str) -> None:
        """Hear a chapter, or only what was changed in one that was heard."""
        if needs_again(self.bench.book.chapter(chapter_id)):
            self.hear_changed(chapter_id)
        else:
            self.hear_chapter(chapter_id)

    def hear_changed(self, chapter_id: str) -> None:
        """Hear a chapter as it stands: only what was changed since it was heard."""
        chapter = self.bench.book.chapter(chapter_id)
        hearing, reel = self.bench.hearing(chapter), chapter.reel
        if hearing is None or reel is None or not chapter.hearing:
            self.bench.tell(f"{chapter.title} was not heard yet. Hear all of it first (Ctrl+E).")
            return
        if chapter_id in self.hearing_now:
            return
        if not needs_again(chapter):
            self.bench.tell("Nothing was cut or put in since the chapter was heard, so there is nothing to hear again.")
            return
        book, text, ears, opened = self.bench.book, self.bench.text(chapter), self.bench.ears, self.bench.rendering()
        memory = self.bench.session.store.folder / HEARD

        def job(watch: Watch) -> AsItStands:
            watch.tick(0.0, "waking the ear")
            found_ears = ears.all(book.language)
            with Memory(memory) as remembered, opened() as render_of:
                return heard_as_it_stands(book, chapter, text, hearing, render_of, found_ears, watch, remembered)

        def made(found: AsItStands) -> None:
            self._stands(chapter, found)

        self._hear(chapter_id, f"Hear what was changed in {chapter.title}", job, made)

    def _stands(self, chapter: ChapterState, found: AsItStands) -> None:
        """Keep what a chapter sounds like where it was changed, unless it was changed again meanwhile."""
        now = next((c for c in self.bench.book.chapters if c.id == chapter.id), None)
        if now is None or now.reel is not chapter.reel or now.hearing != chapter.hearing or now.reel is None:
            self.bench.tell(f"{chapter.title} was changed while it was heard. Hear what was changed again.")
            return
        if not self.bench.do(PlaceAsItStands(chapter.id, self.bench.reel_key(now), found.findings)):
            return
        places, count = found.places, len(found.findings)
        told = f"{places} place{'s' if places > 1 else ''} heard as the chapter stands: "
        told += f"{count} finding{'s' if count > 1 else ''}." if count else "as written."
        gone = f" {found.gone} open finding{'s are' if found.gone > 1 else ' is'} gone with the sound." if found.gone else ""
        self.bench.tell(told + gone)

    def stop_hearing(self, chapter_id: str) -> None:
        """Stop hearing a chapter; what was heard of it is remembered."""
        if (job := self._hearings.get(chapter_id)) is not None:
            job.cancel()

    def _heard(self, chapter: ChapterState, made: HeardChapter, kept: Packed) -> None:
        """Keep a proof, unless the chapter was paired anew meanwhile."""
        now = next((c for c in self.bench.book.chapters if c.id == chapter.id), None)
        if now is None or now.recording != chapter.recording or now.text != chapter.text:
            self.changed()
            return
        if not self.bench.keep([kept]):
            return
        self.bench.keep_hearing(kept.key, made.hearing)
        self.bench.do(PlaceHearing(chapter.id, kept.key, made.findings, EDITION))
