"""What happens at the Proof desk."""

from __future__ import annotations

import itertools
from dataclasses import replace
from pathlib import Path

from faithful_reel.app.workbench import Early, Observed, Workbench
from faithful_reel.core.audio.files import ear_sound
from faithful_reel.core.book.commands import AddFinding, Decide, EditReel, PlaceHearing
from faithful_reel.core.book.mending import finding_span, mending_edit, pickup_for, tone_of
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.book.reporting import report_rows, write_report
from faithful_reel.core.book.roughcut import rough_cut
from faithful_reel.core.book.takes import Take, better_take, swapped, takes_of
from faithful_reel.core.book.timeline import Hearing, hearing_of, span_of
from faithful_reel.core.collate.findings import Decision, Evidence, Finding, Kind
from faithful_reel.core.collate.proofing import SHOWN, Proof, in_rate, proofed
from faithful_reel.core.errors import AppError
from faithful_reel.core.jobs import Watch
from faithful_reel.core.reel.commands import CutAndClose, CutAndFill, MoveJoin, SetGain, SplitAt
from faithful_reel.core.reel.reel import source_at
from faithful_reel.core.text.spoken import plain
from faithful_reel.core.units import Span, samples


class ProofPresenter(Observed):
    """Hearing a chapter, walking its findings, deciding them."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self._takes: tuple[object, tuple[Take, ...]] = None, ()
        self.current = ""
        self.show_doubtful = False
        self.kind = self.decision = ""
        self.by_doubt = False
        self.hearing_now: set[str] = set()

    # --- the docket -----------------------------------------------------------------------------------------------

    def docket(self) -> list[Finding]:
        """The findings that are shown: those of the wanted kind and decision, in reading order or the doubtful first."""
        chapter = self.bench.chapter
        if chapter is None:
            return []
        rows = [
            f
            for f in self.bench.findings(chapter)
            if (self.show_doubtful or f.confidence >= SHOWN or f.decision is not Decision.OPEN)
            and self.kind in ("", f.kind.value)
            and self.decision in ("", f.decision.value)
        ]
        return sorted(rows, key=lambda f: f.confidence) if self.by_doubt else rows

    def show_only(self, *, kind: str = "", decision: str = "", by_doubt: bool = False) -> None:
        """Show findings of one kind or decision only, empty for all; `by_doubt` puts the least sure first."""
        self.kind, self.decision, self.by_doubt = kind, decision, by_doubt
        self.changed()

    def folded(self) -> int:
        """How many doubtful findings are folded away."""
        chapter = self.bench.chapter
        return sum(f.confidence < SHOWN and f.decision is Decision.OPEN for f in self.bench.findings(chapter)) if chapter else 0

    def finding(self) -> Finding | None:
        """The finding at hand."""
        return next((f for f in self.docket() if f.id == self.current), None)

    def choose(self, finding_id: str) -> None:
        """Take a finding in hand."""
        self.current = finding_id
        self.changed()

    def step(self, by: int) -> None:
        """Go to the next or the previous finding."""
        docket = self.docket()
        if not docket:
            return
        at = next((i for i, f in enumerate(docket) if f.id == self.current), -1 if by > 0 else len(docket))
        self.choose(docket[min(len(docket) - 1, max(0, at + by))].id)

    def span(self, finding: Finding) -> Span | None:
        """Where a finding is heard now."""
        chapter = self.bench.chapter
        return finding_span(chapter, finding) if chapter else None

    def decide(self, decision: Decision, note: str = "") -> bool:
        """Decide the finding at hand and move on to the next open one.

        A mend is carried out on the reel where the sound that is there allows it; else it is only marked.
        """
        chapter, finding = self.bench.chapter, self.finding()
        if chapter is None or finding is None:
            return False
        docket = self.docket()
        at = next((i for i, f in enumerate(docket) if f.id == finding.id), -1)
        following = next((f.id for f in docket[at + 1 :] if f.decision is Decision.OPEN), "")
        if all(f.id != finding.id for f in chapter.findings):
            self.bench.tell("The ear is still listening. Decide when the chapter has been heard.")
            return False
        if decision is Decision.MEND:
            edit = mending_edit(self.bench.book, chapter, self.bench.tokens(chapter), finding)
            if edit is not None:
                done = self.bench.do(EditReel(chapter.id, edit, (finding.id,)))
            else:
                done = self.bench.do(Decide(chapter.id, (finding.id,), decision, note))
        else:
            pickup = pickup_for(chapter, self.bench.text(chapter), finding) if decision is Decision.PICKUP else None
            done = self.bench.do(Decide(chapter.id, (finding.id,), decision, note, pickup))
        if done and following:
            self.choose(following)
        return done

    def report(self, path: Path, *, whole: bool) -> None:
        """Write the report of this chapter, or of the whole book, beside the work."""
        book, chapter = self.bench.book, self.bench.chapter
        if chapter is None:
            return
        rows = report_rows(book, book.chapters if whole else (chapter,), self.bench.text)
        title = f"{book.title}: proof report" + ("" if whole else f", {chapter.title}")

        def job(watch: Watch) -> Path:
            watch.tick(0.0, "writing")
            write_report(rows, title, path)
            return path

        self.bench.jobs.start(f"Write {path.name}", job, done=self._reported, stopped=self.bench.stopped)

    def _reported(self, path: Path) -> None:
        self.bench.tell(f"The report is in {path.name}.")

    # --- finding places -------------------------------------------------------------------------------------------

    def find(self, wanted: str, after: int, *, back: bool = False, heard: bool = False) -> int:
        """The next place where words stand, or were heard, as a written word's number; -1 where there is none.

        Searched from behind word `after`, round the end; the last of the wanted words may be a beginning only.
        """
        chapter = self.bench.chapter
        words = [plain(w) for w in wanted.split() if plain(w)]
        if chapter is None or not words:
            return -1
        if heard:
            hearing = self.bench.hearing(chapter)
            texts = [plain(h.text) for h in hearing.heard] if hearing else []
        else:
            texts = [plain(w.text) for w in self.bench.text(chapter).words]
        n = len(words)
        places = [
            i for i in range(len(texts) - n + 1) if texts[i : i + n - 1] == words[:-1] and texts[i + n - 1].startswith(words[-1])
        ]
        if heard and hearing:
            written = {j: a + min(j - c, b - a - 1) for a, b, c, d, _ in hearing.links if b > a for j in range(c, d)}
            before = 0
            numbers = []
            for j in range(len(texts)):  # a word that is not written counts as at the written one before it
                before = written.get(j, before)
                numbers.append(before)
            places = [numbers[i] for i in places]
        if back:
            return next((p for p in reversed(places) if p < after), places[-1] if places else -1)
        return next((p for p in places if p > after), places[0] if places else -1)

    def page_start(self, page: int) -> int:
        """The first word of a page of the manuscript in this chapter; -1 where it has none."""
        chapter = self.bench.chapter
        words = self.bench.text(chapter).words if chapter else ()
        return next((i for i, w in enumerate(words) if w.page == page), -1)

    def rough_cut(self) -> bool:
        """Cut the chapter at hand down to its last complete readings, in one step."""
        chapter = self.bench.chapter
        if chapter is None:
            return False
        texts = [w.text for w in self.bench.text(chapter).words]
        try:
            command = rough_cut(self.bench.book, chapter, texts, self.bench.hearing(chapter))
        except AppError as problem:
            self.bench.tell(str(problem))
            return False
        before = len(chapter.reel) if chapter.reel else 0
        if not self.bench.do(command):
            return False
        after = self.bench.book.chapter(chapter.id).reel
        gone = (before - len(after or ())) / self.bench.book.rate
        self.bench.tell(f"Rough cut: {len(command.edits)} places, {gone:.1f} s shorter. One step back brings all of it back.")
        return True

    def takes(self, chapter: ChapterState) -> tuple[Take, ...]:
        """The other readings that a chapter's recording holds."""
        findings = self.bench.findings(chapter)
        if self._takes[0] is not findings:
            self._takes = findings, takes_of(self.bench.text(chapter), findings)
        return self._takes[1]

    def take_note(self, finding: Finding) -> str:
        """What is to be said of a finding that is another reading of a line; empty for any other."""
        chapter = self.bench.chapter
        take = next((t for t in self.takes(chapter) if t.finding == finding.id), None) if chapter else None
        if chapter is None or take is None:
            return ""
        better = better_take(self.bench.text(chapter), chapter.findings, finding.id)
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
            self.bench.tell(str(problem))
            return False
        done = self.bench.do(replace(command, hearing=self.bench.session.store.put(Hearing, hearing)))
        if done:
            self.bench.tell("The other reading is in. The same key swaps them back.")
        return done

    def note_finding(self, kind: Kind, first_word: int, last_word: int, note: str) -> bool:
        """A finding by hand on written words."""
        chapter = self.bench.chapter
        if chapter is None or chapter.reel is None:
            return False
        words = self.bench.text(chapter).words
        span = span_of(self.bench.tokens(chapter), first_word, last_word)
        source = source_at(chapter.reel, span.start) if span else None
        start = source[1] if source and source[0] == chapter.recording else 0
        number = next(n for n in itertools.count(1) if all(f.id != f"h{n:04d}" for f in chapter.findings))
        finding = Finding(
            id=f"h{number:04d}",
            kind=kind,
            written=" ".join(w.text for w in words[first_word : last_word + 1]),
            heard="",
            word_index=first_word,
            word_count=last_word - first_word + 1,
            start=start,
            stop=start + (len(span) if span else 0),
            confidence=1.0,
            evidence=Evidence(note="noted by hand"),
            note=note,
        )
        return self.bench.do(AddFinding(chapter.id, finding))

    # --- edits on the galley --------------------------------------------------------------------------------------

    def _selected(self, first_word: int, last_word: int) -> tuple[ChapterState, Span] | None:
        chapter = self.bench.chapter
        if chapter is None or chapter.reel is None or first_word < 0:
            return None
        span = span_of(self.bench.tokens(chapter), first_word, last_word)
        return (chapter, span) if span else None

    def cut_and_close(self, first_word: int, last_word: int) -> bool:
        """Take words out of the reel; what follows moves up."""
        found = self._selected(first_word, last_word)
        return found is not None and self.bench.do(EditReel(found[0].id, CutAndClose(found[1].start, found[1].stop)))

    def cut_and_fill(self, first_word: int, last_word: int) -> bool:
        """Lay room tone over words; nothing moves."""
        found = self._selected(first_word, last_word)
        if not found:
            return False
        chapter, span = found
        return self.bench.do(EditReel(chapter.id, CutAndFill(span.start, span.stop, tone_of(self.bench.book, chapter))))

    def set_gain(self, first_word: int, last_word: int, gain_db: float) -> bool:
        """Set the gain of words."""
        found = self._selected(first_word, last_word)
        return found is not None and self.bench.do(EditReel(found[0].id, SetGain(found[1].start, found[1].stop, gain_db)))

    def split(self, position: int) -> bool:
        """Cut the piece in two at a position."""
        chapter = self.bench.chapter
        return chapter is not None and self.bench.do(EditReel(chapter.id, SplitAt(position)))

    def move_join(self, position: int, by_s: float) -> bool:
        """Move the join nearest to a position; one side gives what the other takes."""
        chapter = self.bench.chapter
        if chapter is None or chapter.reel is None or len(chapter.reel.lanes[0].segments) < 2:
            self.bench.tell("There is no join in this chapter yet.")
            return False
        starts = chapter.reel.lanes[0].starts()[1:-1]
        nearest = min(range(len(starts)), key=lambda i: abs(starts[i] - position))
        return self.bench.do(EditReel(chapter.id, MoveJoin(nearest + 1, samples(by_s, self.bench.book.rate))))

    # --- hearing --------------------------------------------------------------------------------------------------

    def hear_chapter(self, chapter_id: str) -> None:
        """Proof a chapter beside the work."""
        chapter = self.bench.book.chapter(chapter_id)
        if not chapter.recording:
            self.bench.tell(f"{chapter.title} has no recording yet. Pair one with it at Intake.")
            return
        if chapter_id in self.hearing_now:
            return
        text = self.bench.text(chapter)
        path, rate, ears = self.bench.path_of(chapter.recording), self.bench.book.rate, self.bench.ears
        length = self.bench.book.recording(chapter.recording).length

        so_far: list[Proof] = []  # handed from the job's thread to this one

        def early(proof: Proof) -> None:
            so_far[:] = [in_rate(proof, rate, Span(0, length))]

        def job(watch: Watch) -> Proof:
            watch.tick(0.0, "waking the ear")
            found = ears.all()
            watch.tick(0.0, "listening")
            return in_rate(proofed(ear_sound(path), text, found, watch, early), rate, Span(0, length))

        def progress(_fraction: float, _note: str) -> None:
            if so_far:
                proof = so_far.pop()
                self.bench.early[chapter_id] = Early(chapter.text, chapter.recording, hearing_of(proof), proof.findings)
                self.bench.changed()

        def done(proof: Proof) -> None:
            self.hearing_now.discard(chapter_id)
            self.bench.early.pop(chapter_id, None)
            self._heard(chapter, proof)

        def stopped(why: BaseException) -> None:
            self.hearing_now.discard(chapter_id)
            self.bench.early.pop(chapter_id, None)
            self.changed()
            self.bench.stopped(why)

        self.hearing_now.add(chapter_id)
        self.bench.jobs.start(f"Hear {chapter.title}", job, done=done, stopped=stopped, progress=progress)
        self.changed()

    def _heard(self, chapter: ChapterState, proof: Proof) -> None:
        """Keep a proof, unless the chapter was paired anew meanwhile."""
        now = next((c for c in self.bench.book.chapters if c.id == chapter.id), None)
        if now is None or now.recording != chapter.recording or now.text != chapter.text:
            self.changed()
            return
        key = self.bench.session.store.put(Hearing, hearing_of(proof))
        self.bench.do(PlaceHearing(chapter.id, key, proof.findings))
