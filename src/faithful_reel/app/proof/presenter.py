"""What happens at the Proof desk."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from faithful_reel.app.proof.listening import Listening
from faithful_reel.app.workbench import Early, Observed, Workbench
from faithful_reel.core.audio.files import ear_sound
from faithful_reel.core.book.commands import (
    EDITION,
    AcceptReading,
    AddFinding,
    Decide,
    DecideSeveral,
    EditReel,
    NoteFinding,
    PlaceHearing,
    SignOff,
)
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.book.store import HEARD, Packed, packed, ready, reel_key
from faithful_reel.core.collate.findings import Decision, Evidence, Finding, Kind, is_shown
from faithful_reel.core.collate.proofing import Proof, in_rate, proofed
from faithful_reel.core.errors import AppError
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.jobs import Watch
from faithful_reel.core.pickups.ledger import DONE, State
from faithful_reel.core.reel.commands import CutAndClose, CutAndFill, MoveJoin, ReelCommand, SetGain, SplitAt
from faithful_reel.core.reel.reel import Piece, source_at
from faithful_reel.core.text.spoken import plain
from faithful_reel.core.units import EAR_RATE, Span, clock, samples
from faithful_reel.core.work.mending import finding_span, mending_edit, pickup_for, restoring_edits, tone_of
from faithful_reel.core.work.readings import Retake, better_retake, retakes_of, swapped
from faithful_reel.core.work.reporting import report_rows, write_report
from faithful_reel.core.work.roughcut import Looks, mending_edits, rough_cut
from faithful_reel.core.work.timeline import Hearing, hearing_of, span_of


class ProofPresenter(Observed):
    """Hearing a chapter, walking its findings, deciding them."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self._takes: tuple[object, tuple[Retake, ...]] = None, ()
        self._sign_keys: dict[str, tuple[object, str, str]] = {}
        self.current = ""
        self.selected: tuple[tuple[str, str], ...] = ()
        self.show_doubtful = False
        self.kind = self.decision = ""
        self.by_doubt = self.whole_book = False
        self.least = 0.0
        self.off: frozenset[str] = frozenset()
        self.hearing_now: set[str] = set()
        self.listening = Listening(bench)
        self.listening.listen(self.changed)

    # --- the docket -----------------------------------------------------------------------------------------------

    def rows(self) -> list[tuple[str, Finding]]:
        """(chapter, finding) of all that is shown, in reading order or the doubtful first."""
        chapters = self.bench.book.chapters if self.whole_book else [c for c in (self.bench.chapter,) if c]
        rows = [(c.id, f) for c in chapters for f in self.bench.findings(c) if self._is_wanted(f)]
        return sorted(rows, key=lambda row: row[1].confidence) if self.by_doubt else rows

    def _is_wanted(self, f: Finding) -> bool:
        return (
            (self.show_doubtful or not self.is_folded(f))
            and f.confidence >= self.least
            and self.kind in ("", f.kind.value)
            and self.decision in ("", f.decision.value)
        )

    def is_folded(self, f: Finding) -> bool:
        """Whether a finding is folded away: the ear is not sure of it, or its kind of flaw is switched off."""
        return f.decision is Decision.OPEN and (not is_shown(f) or f.evidence.flaw in self.off)

    def docket(self) -> list[Finding]:
        """The findings that are shown, without their chapters."""
        return [f for _, f in self.rows()]

    def show_only(
        self, *, kind: str = "", decision: str = "", by_doubt: bool = False, least: float = 0.0, whole_book: bool = False
    ) -> None:
        """Show findings of one kind or decision only, empty for all, and only those at least so sure.

        `by_doubt` puts the least sure first, `whole_book` shows those of all chapters.
        """
        self.kind, self.decision, self.by_doubt = kind, decision, by_doubt
        self.least, self.whole_book = least, whole_book
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
        self.current, self.selected = finding_id, ()
        if chapter and chapter != self.bench.chapter_id:
            self.bench.open_chapter(chapter)
        self.changed()

    def select(self, keys: Sequence[tuple[str, str]]) -> None:
        """Take several (chapter, finding) in hand, to be decided at once."""
        self.selected = tuple(keys)
        self.changed()

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
        """Where a finding is heard now."""
        chapter = self.bench.chapter
        return finding_span(chapter, finding) if chapter else None

    def decide(self, decision: Decision, note: str = "") -> bool:
        """Decide the finding at hand, or all that are selected, and move on to the next open one.

        A mend is carried out on the reel where the sound that is there allows it; else it is only marked.
        """
        if len(self.selected) > 1:
            return self._decide_several(decision, note)
        chapter, finding = self.bench.chapter, self.finding()
        if chapter is None or finding is None:
            self.bench.tell("No finding is at hand. Choose one in the docket first (N).")
            return False
        rows = self.rows()
        following = next((row for row in rows[self._at(rows, -1) + 1 :] if row[1].decision is Decision.OPEN), None)
        if all(f.id != finding.id for f in chapter.findings):
            self.bench.tell("The ear is still listening. Decide when the chapter has been heard.")
            return False
        if decision is finding.decision:
            self.bench.tell(
                "This finding is open already." if decision is Decision.OPEN else f"This is decided already: {decision.value}."
            )
            return False
        if decision is Decision.MEND:
            looks = self._looks(chapter)
            columns = looks(chapter.reel) if looks and chapter.reel else None
            edit = mending_edit(self.bench.book, chapter, self.bench.tokens(chapter), finding, columns)
            if edit is not None:
                done = self.bench.do(EditReel(chapter.id, edit, (finding.id,), EDITION))
            else:
                done = self.bench.do(Decide(chapter.id, (finding.id,), decision, note, edition=EDITION))
        else:
            pickup = pickup_for(chapter, self.bench.text(chapter), finding) if decision is Decision.PICKUP else None
            decided = Decide(chapter.id, (finding.id,), decision, note, pickup, EDITION)
            edits = self._restoring(chapter, [finding])
            done = self.bench.do(DecideSeveral(chapter.id, (decided,), edits) if edits else decided)
            if done and edits:
                self.bench.tell("The sound that mending had taken is back.")
        if done and following:
            self.choose(following[1].id, following[0])
        return done

    def _restoring(self, chapter: ChapterState, findings: Sequence[Finding]) -> tuple[ReelCommand, ...]:
        """The edits that take back what mending these findings did; says so where that can not be."""
        edits: list[ReelCommand] = []
        state = chapter
        for finding in findings:
            if finding.decision is not Decision.MEND:
                continue
            try:
                made = restoring_edits(self.bench.book, state, finding)
                reel = state.reel
                for edit in made:
                    reel = edit.apply(reel) if reel is not None else None
            except AppError as problem:
                self.bench.tell(f"The decision is taken back, but not the edit. {problem}")
                continue
            edits += made
            state = replace(state, reel=reel)
            state = replace(
                state, findings=tuple(replace(f, decision=Decision.OPEN) if f.id == finding.id else f for f in state.findings)
            )
        return tuple(edits)

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
            findings = [f for f in chapter.findings if f.id in ids]
            if not findings:
                self.bench.tell("The ear is still listening. Decide when the chapter has been heard.")
                return False
            text = self.bench.text(chapter)
            edits: tuple[ReelCommand, ...] = ()
            if decision is Decision.MEND:
                texts = [w.text for w in text.words]
                heard = self.bench.hearing(chapter)
                fresh = [f for f in findings if f.decision is not Decision.MEND]
                edits, _ = mending_edits(self.bench.book, chapter, texts, heard, fresh, self._looks(chapter))
            else:
                edits = self._restoring(chapter, findings)
            if decision is Decision.PICKUP:
                decided = tuple(
                    Decide(chapter_id, (f.id,), decision, note, pickup_for(chapter, text, f), EDITION) for f in findings
                )
            else:
                decided = (Decide(chapter_id, tuple(f.id for f in findings), decision, note, edition=EDITION),)
            done = self.bench.do(DecideSeveral(chapter_id, decided, edits)) and done
        last = max((i for i, (c, f) in enumerate(rows) if (c, f.id) in self.selected), default=-1)
        following = next(((c, f) for c, f in rows[last + 1 :] if f.decision is Decision.OPEN), None)
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

    def fate(self, finding: Finding) -> str:
        """What became of a finding's sound, in words; empty where it is heard as it was."""
        chapter = self.bench.chapter
        if chapter is None:
            return ""
        pickup = next((p for p in self.bench.book.pickups if p.chapter == chapter.id and finding.id in p.findings), None)
        if pickup is not None and pickup.state in DONE:
            return "Read again: the take is in" + (", and passed." if pickup.state is State.PASSED else ".")
        if finding.stop > finding.start and chapter.reel is not None and finding_span(chapter, finding) is None:
            return "Gone: its sound was cut or replaced."
        return ""

    def accept(self) -> bool:
        """The name at hand is read rightly: accepted for the whole book."""
        finding = self.finding()
        if finding is None or finding.kind is not Kind.MISREAD or finding.word_count != 1:
            self.bench.tell("Choose a misread of a single word first: only a name can be accepted for the whole book.")
            return False
        before = self._open_count()
        rows = self.rows()
        following = next((row for row in rows[self._at(rows, -1) + 1 :] if row[1].decision is Decision.OPEN), None)
        if not self.bench.do(AcceptReading(finding.written, finding.heard)):
            return False
        count = before - self._open_count()
        self.bench.tell(f"“{finding.written}” read as “{finding.heard}” is accepted for the whole book: {count} findings.")
        if following:
            self.choose(following[1].id, following[0])
        return True

    def _open_count(self) -> int:
        return sum(f.decision is Decision.OPEN for c in self.bench.book.chapters for f in c.findings)

    def report(self, path: Path, *, whole: bool) -> None:
        """Write the report of this chapter, or of the whole book, beside the work."""
        book, chapter = self.bench.book, self.bench.chapter
        if chapter is None:
            return
        rows = report_rows(book, book.chapters if whole else (chapter,), self.bench.text, self.is_folded)
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
            self.bench.tell("There is nothing to cut: this book has no chapters yet.")
            return False
        try:
            heard, text = self.bench.hearing(chapter), self.bench.text(chapter)
            command, hearing = rough_cut(self.bench.book, chapter, text, heard, self._looks(chapter))
        except AppError as problem:
            self.bench.tell(str(problem))
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
        if self._takes[0] is not findings:
            self._takes = findings, retakes_of(self.bench.text(chapter), findings)
        return self._takes[1]

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
            self.bench.tell(str(problem))
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
        span = span_of(self.bench.tokens(chapter), first_word, last_word)
        return self._noted(chapter, kind, range(first_word, last_word + 1), span, note)

    def note_sound(self, kind: Kind, span: Span, note: str) -> bool:
        """A finding by hand on a stretch of sound: it is told at the written word that is heard there or next."""
        chapter = self.bench.chapter
        if chapter is None or chapter.reel is None:
            return False
        heard = self.bench.tokens(chapter).heard()
        after = next((t.word for t in heard if t.word >= 0 and t.stop > span.start), 0)
        return self._noted(chapter, kind, range(after, after), span, note)

    def _noted(self, chapter: ChapterState, kind: Kind, written: range, span: Span | None, note: str) -> bool:
        words = self.bench.text(chapter).words
        source = source_at(chapter.reel, span.start) if span and chapter.reel else None
        start = source[1] if source and source[0] == chapter.recording else 0
        number = next(n for n in itertools.count(1) if all(f.id != f"h{n:04d}" for f in chapter.findings))
        finding = Finding(
            id=f"h{number:04d}",
            kind=kind,
            written=" ".join(words[i].text for i in written),
            heard="",
            word_index=written.start,
            word_count=len(written),
            start=start,
            stop=start + (len(span) if span else 0),
            confidence=1.0,
            evidence=Evidence(note="noted by hand"),
            note=note,
        )
        return self.bench.do(AddFinding(chapter.id, finding))

    def word_at(self, position: int) -> int:
        """The written word that is heard at a position of the reel, or was heard last before it; -1 for none."""
        chapter = self.bench.chapter
        if chapter is None:
            return -1
        heard = self.bench.tokens(chapter).heard()
        words = heard.words[: int(np.searchsorted(heard.starts, position, side="right"))]
        written = words[words >= 0]
        return int(written[-1]) if len(written) else -1

    # --- proofed --------------------------------------------------------------------------------------------------

    def proofed(self, chapter: ChapterState) -> str:
        """Whether a chapter is signed off: empty, "signed off" or "changed since"."""
        if not chapter.signed or chapter.reel is None:
            return ""
        return "signed off" if chapter.signed == self._sign_key(chapter) else "changed since"

    def _sign_key(self, chapter: ChapterState) -> str:
        known = self._sign_keys.get(chapter.id)
        if known is None or known[0] is not chapter.reel or known[1] != chapter.text:
            key = f"{reel_key(chapter.reel)} {chapter.text}" if chapter.reel is not None else ""
            known = self._sign_keys[chapter.id] = (chapter.reel, chapter.text, key)
        return known[2]

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
        open_ = sum(f.decision is Decision.OPEN and not self.is_folded(f) for f in chapter.findings)
        left = sum(map(len, self.listening.unheard(chapter)))
        rest = [f"{open_} findings open"] if open_ else []
        rest += [f"{clock(left / self.bench.book.rate)[:-4]} not listened to"] if left > self.bench.book.rate else []
        self.bench.tell(f"{chapter.title} is signed off" + (f", with {' and '.join(rest)}." if rest else "."))
        return True

    def next_unheard(self, position: int) -> int:
        """Where the next stretch begins that was not listened to, from a position on and round the end; -1 for none."""
        chapter = self.bench.chapter
        left = [s for s in self.listening.unheard(chapter) if len(s) > self.bench.book.rate // 5] if chapter else []
        ahead = [s for s in left if s.stop > position]
        return max(position, ahead[0].start) if ahead else left[0].start if left else -1

    # --- edits on the galley --------------------------------------------------------------------------------------

    def _selected(self, first_word: int, last_word: int) -> tuple[ChapterState, Span] | None:
        chapter = self.bench.chapter
        if chapter is None or chapter.reel is None:
            self.bench.tell("This chapter has no recording yet. Pair one with it at Intake.")
            return None
        if first_word < 0:
            self.bench.tell("Select the words first: click on the page, then Shift+click.")
            return None
        span = span_of(self.bench.tokens(chapter), first_word, last_word)
        if span is None:
            self.bench.tell("These words are not heard in the reel, so there is no sound to work on.")
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
        if chapter is None:
            self.bench.tell("There is nothing to split: this book has no chapters yet.")
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
        stretch = self._own_stretch(chapter)
        length = self.bench.book.recording(chapter.recording).length
        memory, language = self.bench.session.store.folder / HEARD, self.bench.book.language

        so_far: list[Early] = []  # handed from the job's thread to this one

        def early(proof: Proof) -> None:
            proof = in_rate(proof, rate, Span(0, length), offset=stretch.start if stretch else 0)
            so_far[:] = [Early(chapter.text, chapter.recording, hearing_of(proof), proof.findings)]

        def job(watch: Watch) -> tuple[tuple[Finding, ...], Hearing, Packed]:
            watch.tick(0.0, "waking the ear")
            found = ears.all(language)
            watch.tick(0.0, "listening")
            with Memory(memory) as remembered:
                x = ear_sound(path)
                x = x[stretch.start : stretch.stop] if stretch else x
                proof = proofed(x, text, found, watch, early, remembered)
                proof = in_rate(proof, rate, Span(0, length), offset=stretch.start if stretch else 0)
            hearing = hearing_of(proof)
            ready(PlaceHearing)
            return proof.findings, hearing, packed(Hearing, hearing)

        def progress(_fraction: float, _note: str) -> None:
            if so_far:
                self.bench.early[chapter_id] = so_far.pop()
                self.bench.changed()

        def done(made: tuple[tuple[Finding, ...], Hearing, Packed]) -> None:
            self.hearing_now.discard(chapter_id)
            self.bench.early.pop(chapter_id, None)
            self._heard(chapter, *made)

        def stopped(why: BaseException) -> None:
            self.hearing_now.discard(chapter_id)
            self.bench.early.pop(chapter_id, None)
            self.changed()
            self.bench.stopped(why)

        self.hearing_now.add(chapter_id)
        self.bench.jobs.start(f"Hear {chapter.title}", job, done=done, stopped=stopped, progress=progress)
        self.changed()

    def _own_stretch(self, chapter: ChapterState) -> Span | None:
        """What of its recording a chapter hears, at the ear's rate, where other chapters are read by the same one; else None."""
        book = self.bench.book
        shared = any(c.recording == chapter.recording and c.id != chapter.id for c in book.chapters)
        pieces = chapter.reel.lanes[0].segments if chapter.reel is not None else ()
        own = [s for s in pieces if isinstance(s, Piece) and s.recording == chapter.recording and not s.take]
        if not shared or not own:
            return None
        first, last = min(s.start for s in own), max(s.stop for s in own)
        return Span(first * EAR_RATE // book.rate, -(-last * EAR_RATE // book.rate))

    def _heard(self, chapter: ChapterState, findings: tuple[Finding, ...], hearing: Hearing, kept: Packed) -> None:
        """Keep a proof, unless the chapter was paired anew meanwhile."""
        now = next((c for c in self.bench.book.chapters if c.id == chapter.id), None)
        if now is None or now.recording != chapter.recording or now.text != chapter.text:
            self.changed()
            return
        if not self.bench.keep([kept]):
            return
        self.bench.keep_hearing(kept.key, hearing)
        self.bench.do(PlaceHearing(chapter.id, kept.key, findings, EDITION))
