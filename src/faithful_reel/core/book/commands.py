"""Commands on the book: frozen orders with `apply(book) -> book`.  They are what the journal stores.

`apply` raises `EditRefused` where an order does not fit, and changes nothing then.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import partial
from itertools import groupby
from operator import itemgetter
from typing import ClassVar

from faithful_reel.core.book.kept import (
    DescribeChapter,
    DescribeShelved,
    DescribeVersion,
    DropVersion,
    KeepVersion,
    PutOnShelf,
    PutPrint,
    PutRedrawn,
    SwapVersion,
    TakeOffShelf,
    TakeReel,
)
from faithful_reel.core.book.model import Book, ChapterState, Master, Recording, Version
from faithful_reel.core.book.pickups import (
    AddPickups,
    ChangePickups,
    ChooseParts,
    ChooseTake,
    DropTake,
    GiveTake,
    HeardAgain,
    JoinLines,
    MarkSent,
    NotePickup,
    PassPickup,
    PlaceSplice,
    ReceiveTakes,
    SendRound,
    SpliceTakes,
    SplitLine,
    TakeOut,
    WidenLine,
)
from faithful_reel.core.collate.findings import BY_HAND, Decision, Finding, by_hand
from faithful_reel.core.collate.learning import Forgotten
from faithful_reel.core.collate.names import ACCEPTED, Accepted, is_accepted, name_key
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.hear.ears import LANGUAGES
from faithful_reel.core.pickups.ledger import DONE, WAITING, Pickup, Round, State, Unmatched
from faithful_reel.core.reel.commands import ReelCommand
from faithful_reel.core.reel.reel import Marker, joined_reels, reel_of, split_reel
from faithful_reel.core.reel.several import edited

STANDING = "e"
"""What the ids of findings begin with that were heard in a chapter as it stands."""
EDITION = 2
"""How commands are understood that are given now.

What a command does must stay as it was for the steps that journals hold already: those have no edition, and are understood
as the first.
"""


@dataclass(frozen=True, slots=True)
class SetDetails:
    """Name the book, its author and its narrator."""

    title: str
    author: str
    narrator: str
    label: ClassVar[str] = "Change the book's details"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book under its names."""
        return replace(book, title=self.title, author=self.author, narrator=self.narrator)


@dataclass(frozen=True, slots=True)
class SetLanguage:
    """Say in which language the book is read."""

    language: str
    label: ClassVar[str] = "Set the book's language"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book in the language; what was heard stays until it is heard again."""
        if self.language not in LANGUAGES:
            raise EditRefused(f"No ear knows the language {self.language}.")
        return replace(book, language=self.language)


@dataclass(frozen=True, slots=True)
class AddChapters:
    """Take in a manuscript: (id, title, key of the text) of every chapter; a book without a name takes its title and author."""

    chapters: tuple[tuple[str, str, str], ...]
    left_out: tuple[tuple[str, str, str], ...] = ()
    title: str = ""
    author: str = ""
    label: ClassVar[str] = "Bring in the manuscript"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the chapters after those it has, and beside them what is not read aloud."""
        there = {c.id for c in (*book.chapters, *book.left_out)}
        fresh, aside = (
            tuple(ChapterState(i, title, key) for i, title, key in rows if i not in there)
            for rows in (self.chapters, self.left_out)
        )
        named = self.title if self.title and book.title == Book().title else book.title
        author = book.author or self.author
        return replace(book, title=named, author=author, chapters=book.chapters + fresh, left_out=book.left_out + aside)


@dataclass(frozen=True, slots=True)
class RenameChapter:
    """Give a chapter another title."""

    chapter: str
    title: str
    label: ClassVar[str] = "Rename the chapter"

    def apply(self, book: Book) -> Book:
        """The book with the title."""
        if not self.title.strip():
            raise EditRefused("A chapter needs a title.")
        return book.with_chapter(self.chapter, lambda c: replace(c, title=self.title.strip(), released=""))


@dataclass(frozen=True, slots=True)
class LeaveOut:
    """A chapter is not read aloud; all work on it is kept."""

    chapter: str
    label: ClassVar[str] = "Leave the chapter out"

    def apply(self, book: Book) -> Book:
        """The book with the chapter aside."""
        aside = book.chapter(self.chapter)
        rest = tuple(c for c in book.chapters if c is not aside)
        return replace(book, chapters=rest, left_out=(*book.left_out, aside))


@dataclass(frozen=True, slots=True)
class PutBack:
    """What was left out is read aloud after all, as chapter number `index` from 0."""

    chapter: str
    index: int
    label: ClassVar[str] = "Put the chapter back"

    def apply(self, book: Book) -> Book:
        """The book with the chapter in its place."""
        back = next((c for c in book.left_out if c.id == self.chapter), None)
        if back is None:
            raise EditRefused("This part of the manuscript is no longer left out.")
        at = min(max(0, self.index), len(book.chapters))
        rest = tuple(c for c in book.left_out if c is not back)
        return replace(book, chapters=(*book.chapters[:at], back, *book.chapters[at:]), left_out=rest)


@dataclass(frozen=True, slots=True)
class MoveChapter:
    """Give a chapter another place in the order of reading."""

    chapter: str
    by: int
    label: ClassVar[str] = "Move the chapter"

    def apply(self, book: Book) -> Book:
        """The book in the new order."""
        moved = book.chapter(self.chapter)
        order = [c for c in book.chapters if c is not moved]
        order.insert(min(max(0, book.chapters.index(moved) + self.by), len(order)), moved)
        return replace(book, chapters=tuple(order))


@dataclass(frozen=True, slots=True)
class SplitChapter:
    """Split a chapter before a word, and its reel at `cut`; findings and pickups go with their words."""

    chapter: str
    at: int
    cut: int
    texts: tuple[str, str]
    titles: tuple[str, str]
    hearings: tuple[str, str] = ("", "")
    edition: int = 1
    label: ClassVar[str] = "Split the chapter"

    def apply(self, book: Book) -> Book:
        """The book with two chapters in the place of one."""
        old = book.chapter(self.chapter)
        ids = {c.id for c in (*book.chapters, *book.left_out)}
        second_id = next(name for k in range(2, 10_000) if (name := f"{old.id}.{k}") not in ids)
        reels = (None, None) if old.reel is None else split_reel(old.reel, self.cut)
        early = tuple(f for f in old.findings if f.word_index < self.at)
        if self.edition > 1:  # what runs over the split ends at it
            early = tuple(replace(f, word_count=min(f.word_count, self.at - f.word_index)) for f in early)
        late = tuple(replace(f, word_index=f.word_index - self.at) for f in old.findings if f.word_index >= self.at)
        first = ChapterState(old.id, self.titles[0], self.texts[0], old.recording, self.hearings[0], early, reels[0])
        second = ChapterState(second_id, self.titles[1], self.texts[1], old.recording, self.hearings[1], late, reels[1])
        kept = tuple(replace(v, name=f"{v.name} (before the split)") for v in old.versions)
        first = replace(first, color=old.color, note=old.note, versions=kept)
        second = replace(second, color=old.color)
        pickups = tuple(
            replace(p, chapter=second_id, first_word=p.first_word - self.at)
            if p.chapter == old.id and p.first_word >= self.at
            else p
            for p in book.pickups
        )
        chapters = tuple(n for c in book.chapters for n in ((first, second) if c is old else (c,)))
        return replace(book, chapters=chapters, pickups=pickups)


@dataclass(frozen=True, slots=True)
class JoinChapters:
    """Join a chapter with the one after it, which has its first word at `at` of the new text."""

    chapter: str
    second: str
    text: str
    hearing: str
    at: int
    edition: int = 1
    label: ClassVar[str] = "Join two chapters"

    def apply(self, book: Book) -> Book:
        """The book with one chapter in the place of two."""
        first, second = book.chapter(self.chapter), book.chapter(self.second)
        names = _own_names(first.findings, second.findings) if self.edition > 1 else {}
        late = tuple(replace(f, id=names.get(f.id, f.id), word_index=f.word_index + self.at) for f in second.findings)
        reels = [c.reel for c in (first, second) if c.reel is not None]
        joined = ChapterState(
            first.id,
            first.title,
            self.text,
            first.recording or second.recording,
            self.hearing,
            first.findings + late,
            joined_reels(reels, self.edition) if reels else None,
            color=first.color,
            note="\n".join(filter(None, (first.note, second.note))),
            versions=first.versions + second.versions,
        )
        pickups = tuple(
            replace(
                p,
                chapter=first.id,
                first_word=p.first_word + self.at,
                findings=tuple(names.get(f, f) for f in p.findings),
            )
            if p.chapter == second.id
            else p
            for p in book.pickups
        )
        chapters = tuple(joined if c is first else c for c in book.chapters if c is not second)
        return replace(book, chapters=chapters, pickups=pickups)


def _own_names(findings: Iterable[Finding], more: Iterable[Finding]) -> dict[str, str]:
    """New ids for those of some findings that others have already."""
    taken, more = {f.id for f in findings}, list(more)
    every = taken | {f.id for f in more}
    names: dict[str, str] = {}
    for finding in more:
        if finding.id in taken:
            names[finding.id] = next(n for k in itertools.count(2) if (n := f"{finding.id}-{k}") not in every)
            every.add(names[finding.id])
    return names


@dataclass(frozen=True, slots=True)
class Revised:
    """One chapter of a corrected manuscript; a new one has no `chapter`."""

    chapter: str
    text: str
    title: str
    hearing: str
    findings: tuple[Finding, ...]
    pickups: tuple[Pickup, ...]


@dataclass(frozen=True, slots=True)
class ReviseChapters:
    """Take over a corrected manuscript: the work on words that stayed stays."""

    chapters: tuple[Revised, ...]
    label: ClassVar[str] = "Accept a corrected manuscript"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the new texts; new chapters come last."""
        changed = {r.chapter: r for r in self.chapters if r.chapter}
        ids = {c.id for c in (*book.chapters, *book.left_out)}
        for chapter in changed.keys() - ids:
            book.chapter(chapter)
        chapters, left_out = (
            tuple(
                replace(c, text=r.text, title=r.title, hearing=r.hearing, findings=r.findings) if (r := changed.get(c.id)) else c
                for c in row
            )
            for row in (book.chapters, book.left_out)
        )
        fresh = tuple(
            ChapterState(f"c{len(ids) + n}-{r.text[:6]}", r.title, r.text)
            for n, r in enumerate((r for r in self.chapters if not r.chapter), 1)
        )
        kept = {p.id: p for r in self.chapters for p in r.pickups}
        pickups = tuple(kept.get(p.id, p) for p in book.pickups if p.chapter not in changed or p.id in kept)
        return replace(book, chapters=chapters + fresh, left_out=left_out, pickups=pickups)


@dataclass(frozen=True, slots=True)
class AddRecording:
    """Take in a recording whose bytes are in the book already."""

    recording: Recording
    label: ClassVar[str] = "Bring in a recording"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the recording; one that is there already is not added twice."""
        if any(r.hash == self.recording.hash for r in book.recordings):
            return book
        return replace(book, recordings=(*book.recordings, self.recording))


@dataclass(frozen=True, slots=True)
class RelinkRecording:
    """Another file stands in for a recording that was lost; its place in reels and findings stays."""

    recording: Recording
    label: ClassVar[str] = "Relink a recording"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the entry replaced."""
        book.recording(self.recording.hash)
        changed = tuple(self.recording if r.hash == self.recording.hash else r for r in book.recordings)
        return replace(book, recordings=changed)


@dataclass(frozen=True, slots=True)
class PairByEar:
    """Pair several chapters at once with the recordings that were heard to read them, some of them made of stretches."""

    recordings: tuple[Recording, ...]
    pairs: tuple[tuple[str, str], ...]
    label: ClassVar[str] = "Pair by ear"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the pairs."""
        for recording in self.recordings:
            book = AddRecording(recording).apply(book)
        for chapter, reader in self.pairs:
            book = PairRecording(chapter, reader).apply(book)
        return book


@dataclass(frozen=True, slots=True)
class NameNarrator:
    """Say who reads a recording."""

    recording: str
    narrator: str
    label: ClassVar[str] = "Name the narrator"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the name."""
        named = replace(book.recording(self.recording), narrator=self.narrator.strip())
        return replace(book, recordings=tuple(named if r.hash == self.recording else r for r in book.recordings))


def _borders(book: Book, recording: Recording) -> tuple[Marker, ...]:
    """A marker for each place where the next file of a recording begins that was made of several."""
    ends = itertools.accumulate(p.stop - p.start for p in recording.parts[:-1])
    return tuple(
        Marker(f"m{k}", at, f"{book.recording(part.recording).name} begins")
        for k, (at, part) in enumerate(zip(ends, recording.parts[1:], strict=True), 1)
    )


@dataclass(frozen=True, slots=True)
class PairRecording:
    """Say which recording reads a chapter; the chapter's reel starts as the whole of it.  An empty one: none does.

    From edition 2 on a marker stands wherever two files meet that were made into one recording.
    """

    chapter: str
    recording: str
    edition: int = 1
    label: ClassVar[str] = "Pair a recording with a chapter"

    def apply(self, book: Book) -> Book:
        """The book with the pair; edits of another pairing are left behind in the history."""
        reel = reel_of(self.recording, book.recording(self.recording).length) if self.recording else None
        if reel is not None and self.edition > 1:
            reel = replace(reel, markers=_borders(book, book.recording(self.recording)))
        return book.with_chapter(
            self.chapter,
            lambda c: replace(c, recording=self.recording, hearing="", findings=(), reel=reel, master=None),
        )


@dataclass(frozen=True, slots=True)
class PlaceHearing:
    """Lay what was heard, and the findings that follow, on a chapter; decisions made by hand are kept."""

    chapter: str
    hearing: str
    findings: tuple[Finding, ...]
    edition: int = 1
    label: ClassVar[str] = "Hear the chapter"

    def apply(self, book: Book) -> Book:
        """The book with the findings in reading order."""
        if self.edition > 1:
            kept = _with_kept(self.findings, book.chapter(self.chapter).findings)
            findings = _with_accepted(kept, book.accepted)
            return book.with_chapter(self.chapter, lambda c: replace(c, hearing=self.hearing, findings=findings, heard_as=""))
        before = {(f.kind, f.word_index, f.word_count, f.heard): f for f in book.chapter(self.chapter).findings}
        kept = []
        for finding in self.findings:
            old = before.pop((finding.kind, finding.word_index, finding.word_count, finding.heard), None)
            kept.append(replace(finding, decision=old.decision, note=old.note) if old else finding)
        taken = {f.id for f in kept}
        free = (name for n in itertools.count(1) if (name := f"k{n:04d}") not in taken)
        kept += [  # what the editor noted or decided stays, whether the ear hears it again or not
            replace(old, id=next(free)) if old.id in taken else old
            for old in before.values()
            if by_hand(old) or old.decision is not Decision.OPEN or old.note
        ]
        kept.sort(key=lambda f: (f.start, f.word_index))
        findings = _with_accepted(kept, book.accepted)
        return book.with_chapter(self.chapter, lambda c: replace(c, hearing=self.hearing, findings=findings))


@dataclass(frozen=True, slots=True)
class PlaceAsItStands:
    """Findings of all changed stretches of a chapter, heard as the reel with this key stands."""

    chapter: str
    key: str
    findings: tuple[Finding, ...]
    label: ClassVar[str] = "Hear what was changed"

    def apply(self, book: Book) -> Book:
        """The book with the findings; what an earlier such hearing found and nobody touched gives way."""
        before = book.chapter(self.chapter).findings
        taken = {f.id for f in before}
        free = (name for n in itertools.count(1) if (name := f"{STANDING}{n:04d}") not in taken)
        fresh = [replace(f, id=next(free)) for f in self.findings]
        findings = tuple(sorted((*(f for f in before if not gives_way(f)), *fresh), key=lambda f: (f.start, f.word_index)))
        return book.with_chapter(self.chapter, lambda c: replace(c, findings=findings, heard_as=self.key))


def gives_way(finding: Finding) -> bool:
    """Whether a finding was heard in a chapter as it stood, and nobody decided, noted or kept it."""
    touched = finding.decision is not Decision.OPEN or finding.note or finding.kept or finding.by
    return finding.id.startswith(STANDING) and not touched


def _with_kept(heard: Iterable[Finding], before: Iterable[Finding]) -> list[Finding]:
    """Findings of a new hearing, in reading order, with what the editor noted and decided of those there were.

    One that is heard again where it was keeps its name, so that its pickup still knows it; of several that are alike each
    goes with the nearest.  What is not heard again stays where it was decided or noted.
    """
    left: dict[tuple[object, ...], list[Finding]] = {}
    for old in before:
        left.setdefault((old.kind, old.word_index, old.word_count, old.heard), []).append(old)
    same: list[tuple[Finding, Finding | None]] = []
    for finding in heard:
        alike = left.get((finding.kind, finding.word_index, finding.word_count, finding.heard), [])
        nearest = min(alike, key=lambda old: abs(old.start - finding.start), default=None)
        if nearest is not None:
            alike.remove(nearest)
        same.append((finding, nearest))
    rest = [old for alike in left.values() for old in alike]
    stays = [
        old
        for old in rest
        if by_hand(old) or old.decision is not Decision.OPEN or old.note or old.kept or old.by or old.id.startswith(STANDING)
    ]
    taken = {old.id for _, old in same if old} | {old.id for old in stays}
    free = (name for n in itertools.count(1) if (name := f"k{n:04d}") not in taken)
    kept = [
        replace(finding, id=old.id, decision=old.decision, note=old.note, kept=old.kept, by=old.by)
        if old
        else finding
        if finding.id not in taken
        else replace(finding, id=next(free))
        for finding, old in same
    ]
    return sorted((*kept, *stays), key=lambda f: (f.start, f.word_index))


def _with_accepted(findings: Iterable[Finding], accepted: Accepted) -> tuple[Finding, ...]:
    """Open findings on names whose reading was accepted for the book are let stand; the others are the same objects."""
    return tuple(
        replace(f, decision=Decision.STET, note=f.note or ACCEPTED)
        if f.decision is Decision.OPEN and is_accepted(f, accepted)
        else f
        for f in findings
    )


@dataclass(frozen=True, slots=True)
class AcceptReading:
    """A name is read rightly though the ear writes it otherwise: accepted once for the whole book."""

    written: str
    heard: str
    label: ClassVar[str] = "Accept a name for the book"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with every open finding on that reading let stand, now and after each hearing."""
        pair = (name_key(self.written), self.heard)
        if not all(pair):
            raise EditRefused("Only a word that was heard otherwise can be accepted for the book.")
        accepted = tuple(dict.fromkeys((*book.accepted, pair)))
        chapters = []
        for chapter in book.chapters:
            findings = _with_accepted(chapter.findings, accepted)
            same = all(a is b for a, b in zip(findings, chapter.findings, strict=True))
            chapters.append(chapter if same else replace(chapter, findings=findings))
        return replace(book, accepted=accepted, chapters=tuple(chapters))


@dataclass(frozen=True, slots=True)
class NoteName:
    """How a name or word of the book is to be spoken; empty takes the note back."""

    word: str
    say: str
    label: ClassVar[str] = "Note how a name is spoken"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the note."""
        rest = tuple(row for row in book.say if row[0] != self.word)
        say = self.say.strip()
        return replace(book, say=tuple(sorted((*rest, (self.word, say)))) if say else rest)


@dataclass(frozen=True, slots=True)
class AddFindings:
    """Findings in several chapters, of one search."""

    rows: tuple[tuple[str, Finding], ...]
    label: ClassVar[str] = "Compare how names are spoken"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the findings in reading order; one that is there already is not added twice."""
        for chapter, finding in self.rows:
            there = {(f.kind, f.word_index) for f in book.chapter(chapter).findings}
            if (finding.kind, finding.word_index) not in there:
                book = AddFinding(chapter, finding).apply(book)
        return book


@dataclass(frozen=True, slots=True)
class TakeFindings:
    """Findings of somebody else's list `name`: (chapter, finding) that are new, and (chapter, finding, who, remark) of those that
    say what a finding says that is there.
    """

    added: tuple[tuple[str, Finding], ...]
    joined: tuple[tuple[str, str, str, str], ...]
    name: str
    chapter: ClassVar[str] = ""

    @property
    def label(self) -> str:
        """The step's name."""
        return f"Take in findings: {self.name}"

    def apply(self, book: Book) -> Book:
        """The book with them; a name that is taken meanwhile gives way, and what is joined is shown from now on."""
        if not self.added and not self.joined:
            raise EditRefused("No line of the list is chosen to be taken in.")
        for chapter, finding in self.added:
            taken = {f.id for f in book.chapter(chapter).findings}
            names = (name for n in itertools.count(1) if (name := f"{BY_HAND}{n:04d}") not in taken)
            own = finding if finding.id not in taken else replace(finding, id=next(names))
            book = AddFinding(chapter, own).apply(book)
        for chapter, name, who, remark in self.joined:
            old = book.chapter(chapter).finding(name)
            notes = old.note.split("; ") if old.note else []
            note = old.note if not remark or remark in notes else "; ".join((*notes, remark))
            new = replace(old, by=tuple(dict.fromkeys((*old.by, who))), note=note, kept=True)
            findings = tuple(new if f is old else f for f in book.chapter(chapter).findings)
            book = book.with_chapter(chapter, partial(replace, findings=findings))
        return book


@dataclass(frozen=True, slots=True)
class SignOff:
    """A chapter is proofed: `key` names the reel and the text it was proofed as; an empty one takes that back."""

    chapter: str
    key: str

    @property
    def label(self) -> str:
        """The step's name."""
        return "Sign off the chapter" if self.key else "Take the sign-off back"

    def apply(self, book: Book) -> Book:
        """The book with the chapter signed off."""
        return book.with_chapter(self.chapter, lambda c: replace(c, signed=self.key))


@dataclass(frozen=True, slots=True)
class AddFinding:
    """A finding that the editor made by hand."""

    chapter: str
    finding: Finding
    label: ClassVar[str] = "Note a finding"

    def apply(self, book: Book) -> Book:
        """The book with the finding at its place in reading order."""
        return book.with_chapter(
            self.chapter,
            lambda c: replace(c, findings=tuple(sorted((*c.findings, self.finding), key=lambda f: (f.start, f.word_index)))),
        )


@dataclass(frozen=True, slots=True)
class Decide:
    """Decide one or several findings.  `pickup` is the line to read again, where that is the decision."""

    chapter: str
    findings: tuple[str, ...]
    decision: Decision
    note: str = ""
    pickup: Pickup | None = None
    edition: int = 1

    @property
    def label(self) -> str:
        """The step's name."""
        return {"open": "Reopen", "stet": "Stet", "mend": "Mend", "pickup": "Pickup"}[self.decision.value]

    def apply(self, book: Book) -> Book:
        """The book with the decision; a pickup line that no finding asks for any more leaves the ledger."""
        for finding_id in self.findings:
            book.chapter(self.chapter).finding(finding_id)
        book = book.with_chapter(
            self.chapter,
            lambda c: replace(
                c,
                findings=tuple(
                    replace(f, decision=self.decision, note=self.note or f.note) if f.id in self.findings else f
                    for f in c.findings
                ),
            ),
        )
        if self.edition > 1:
            return replace(book, pickups=self._ledger(book))
        pickups: list[Pickup] = []
        for p in book.pickups:
            if p.chapter != self.chapter or p.state not in (State.TO_SEND, State.SENT):
                pickups.append(p)
                continue
            left = tuple(f for f in p.findings if f not in self.findings)
            if left:
                pickups.append(p if left == p.findings else replace(p, findings=left))
        if self.decision is Decision.PICKUP and self.pickup is not None:
            asked = self.pickup
            same = next(
                (
                    p
                    for p in pickups
                    if p.chapter == asked.chapter and p.first_word == asked.first_word and p.state is State.TO_SEND
                ),
                None,
            )
            if same:
                merged = replace(same, findings=tuple(dict.fromkeys((*same.findings, *self.findings))))
                pickups = [merged if p is same else p for p in pickups]
            else:
                pickups.append(replace(asked, findings=self.findings))
        return replace(book, pickups=tuple(pickups))

    def _ledger(self, book: Book) -> tuple[Pickup, ...]:
        """The pickups after the decision.

        A line that no finding asks for any more leaves the ledger if it never went out; else it is dropped, and its takes
        are kept.  A line that was dropped and is asked for again is what it was.
        """
        pickups: list[Pickup] = []
        for p in book.pickups:
            if p.chapter != self.chapter or p.state not in WAITING or not set(p.findings) & set(self.findings):
                pickups.append(p)
                continue
            left = tuple(f for f in p.findings if f not in self.findings)
            if left:
                pickups.append(replace(p, findings=left))
            elif p.state is not State.TO_SEND:
                pickups.append(replace(p, findings=(), state=State.DROPPED))
        if self.decision is not Decision.PICKUP or self.pickup is None:
            return tuple(pickups)
        asked = replace(self.pickup, note=self.note or self.pickup.note)
        for index, p in enumerate(pickups):
            same_line = p.chapter == asked.chapter and p.first_word == asked.first_word and p.word_count == asked.word_count
            if not same_line or p.state in DONE:
                continue
            findings = tuple(dict.fromkeys((*p.findings, *self.findings)))
            note = "; ".join(dict.fromkeys(filter(None, (p.note, asked.note))))
            state = p.state if p.state is not State.DROPPED else State.IN if p.takes else State.SENT
            pickups[index] = replace(p, findings=findings, note=note, state=state)
            return tuple(pickups)
        names = {p.id for p in pickups}
        free = (name for n in itertools.count(1) if (name := asked.id if n == 1 else f"{asked.id}-{n}") not in names)
        return (*pickups, replace(asked, id=next(free), findings=self.findings))


@dataclass(frozen=True, slots=True)
class Settle:
    """Say of a finding that the ear was not sure of whether it is there: kept it is shown from now on, passed it is let stand."""

    chapter: str
    finding: str
    kept: bool

    @property
    def label(self) -> str:
        """The step's name."""
        return "Keep" if self.kept else "Pass"

    def apply(self, book: Book) -> Book:
        """The book with the doubt settled."""
        if book.chapter(self.chapter).finding(self.finding).decision not in (Decision.OPEN, Decision.STET):
            raise EditRefused("This finding is to be mended or read again. Reopen it in the docket first (O).")
        decision = Decision.OPEN if self.kept else Decision.STET

        def settled(f: Finding) -> Finding:
            return replace(f, kept=self.kept, decision=decision) if f.id == self.finding else f

        return book.with_chapter(self.chapter, lambda c: replace(c, findings=tuple(map(settled, c.findings))))


@dataclass(frozen=True, slots=True)
class Forget:
    """Lessons are forgotten, (lesson, passed, real), as of the decisions they were drawn from; later ones count anew.

    Readings of `names`, (name, heard), are accepted no more: findings that were let stand by them alone are open again.
    """

    lessons: tuple[Forgotten, ...] = ()
    names: Accepted = ()
    label: ClassVar[str] = "Forget what was learned"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book without them."""
        kept = {row[0]: row for row in (*book.forgotten, *self.lessons)}
        accepted = tuple(p for p in book.accepted if p not in self.names)

        def reopened(f: Finding) -> Finding:
            own = f.decision is Decision.STET and f.note == ACCEPTED
            own = own and is_accepted(f, self.names) and not is_accepted(f, accepted)
            return replace(f, decision=Decision.OPEN, note="") if own else f

        chapters = book.chapters
        if self.names:
            chapters = tuple(replace(c, findings=tuple(map(reopened, c.findings))) for c in chapters)
        return replace(book, forgotten=tuple(kept.values()), accepted=accepted, chapters=chapters)


@dataclass(frozen=True, slots=True)
class NoteFinding:
    """Write what is to be said of a finding; the pickup that asks for its line carries it to the narrator."""

    chapter: str
    finding: str
    note: str
    label: ClassVar[str] = "Write a note"

    def apply(self, book: Book) -> Book:
        """The book with the note."""
        before = book.chapter(self.chapter).finding(self.finding).note
        note = self.note.strip()
        book = book.with_chapter(
            self.chapter,
            lambda c: replace(c, findings=tuple(replace(f, note=note) if f.id == self.finding else f for f in c.findings)),
        )
        pickups = tuple(
            replace(p, note=_exchanged(p.note, before, note))
            if p.chapter == self.chapter and self.finding in p.findings and p.state in WAITING
            else p
            for p in book.pickups
        )
        return replace(book, pickups=pickups)


def _exchanged(notes: str, before: str, now: str) -> str:
    """Notes of several findings, joined, with one of them exchanged."""
    rest = [n for n in notes.split("; ") if n and n != before] if before not in ("", notes) else [] if before else [notes]
    return "; ".join(dict.fromkeys(filter(None, (*rest, now))))


REEL_STEPS = {
    "cut_and_close": "Cut and close",
    "cut_and_fill": "Cut and fill with room tone",
    "insert_pause": "Insert a pause",
    "split": "Split",
    "split_many": "Split at many places",
    "move_join": "Move a join",
    "move_edge": "Move an edge",
    "overlap": "Overlap two pieces",
    "replace_by_take": "Replace by a take",
    "put_back": "Put sound back",
    "paste": "Paste",
    "set_gain": "Set the gain",
    "change_gain": "Change the gain",
    "draw_line": "Draw the gain line",
    "set_fade": "Fade",
    "set_join": "Set a crossfade",
    "lengthen_pause": "Longer pause",
    "slide": "Slide",
    "set_joins": "Set all joins",
    "name_piece": "Name a piece",
    "add_lane": "Add a lane",
    "remove_lane": "Remove a lane",
    "order_lanes": "Order the lanes",
    "dress_lane": "Name a lane",
    "mix_lane": "Mix a lane",
    "link_lane": "Link or unlink a lane",
    "bring_into_step": "Bring a lane into step",
    "set_lane_tone": "Set a lane's room tone",
    "put_marker": "Set a marker",
    "remove_markers": "Remove markers",
}
"""What an edit of a reel is called in the history."""


def _edited(book: Book, chapter: str, edits: Iterable[ReelCommand]) -> Book:
    """A book with some edits of one chapter's reel."""
    reel = book.chapter(chapter).reel
    if reel is None:
        raise EditRefused("This chapter has no recording yet. Pair one with it at Intake.")
    changed = edited(reel, edits)
    return book.with_chapter(chapter, lambda c: replace(c, reel=changed))


@dataclass(frozen=True, slots=True)
class EditReel:
    """Carry out an edit on a chapter's reel; where it mends findings, they are marked so."""

    chapter: str
    edit: ReelCommand
    findings: tuple[str, ...] = ()
    edition: int = 1

    @property
    def label(self) -> str:
        """The step's name."""
        return REEL_STEPS[self.edit.kind]

    def apply(self, book: Book) -> Book:
        """The book with the edit."""
        book = _edited(book, self.chapter, (self.edit,))
        if self.findings:
            book = Decide(self.chapter, self.findings, Decision.MEND, edition=self.edition).apply(book)
        return book


@dataclass(frozen=True, slots=True)
class EditReels:
    """Several edits as one step, of one chapter or of several: (chapter, edit) in their order, under a name of its own.

    `mended` are findings that they settle: (chapter, finding).
    """

    edits: tuple[tuple[str, ReelCommand], ...]
    label: str
    mended: tuple[tuple[str, str], ...] = ()
    edition: int = EDITION

    @property
    def chapter(self) -> str:
        """The chapter that the last edit is of."""
        return self.edits[-1][0] if self.edits else ""

    def apply(self, book: Book) -> Book:
        """The book with all edits."""
        if not self.edits:
            raise EditRefused("There is nothing to do here.")
        for chapter, rows in groupby(self.edits, key=itemgetter(0)):
            book = _edited(book, chapter, (edit for _, edit in rows))
        for chapter in dict.fromkeys(c for c, _ in self.mended):
            findings = tuple(f for c, f in self.mended if c == chapter)
            book = Decide(chapter, findings, Decision.MEND, edition=self.edition).apply(book)
        return book


@dataclass(frozen=True, slots=True)
class RoughCut:
    """Several edits of a chapter's reel as one step, and the findings that they mend.

    Where better readings were put in the place of those that were kept, `hearing` is linked to them, and `swapped` are
    the findings that tell of the other readings now.
    """

    chapter: str
    edits: tuple[ReelCommand, ...]
    findings: tuple[str, ...]
    hearing: str = ""
    swapped: tuple[Finding, ...] = ()
    edition: int = 1
    label: ClassVar[str] = "Rough cut"

    def apply(self, book: Book) -> Book:
        """The book with all edits."""
        book = _edited(book, self.chapter, self.edits) if self.edits else book
        if self.swapped:
            book = book.with_chapter(self.chapter, lambda c: _with_others(c, self.hearing, self.swapped))
        return Decide(self.chapter, self.findings, Decision.MEND, edition=self.edition).apply(book)


def _with_others(chapter: ChapterState, hearing: str, others: Iterable[Finding]) -> ChapterState:
    """A chapter with what was heard linked anew, and findings on the other readings exchanged."""
    changed = {f.id: f for f in others}
    findings = sorted((changed.get(f.id, f) for f in chapter.findings), key=lambda f: (f.start, f.word_index))
    return replace(chapter, hearing=hearing, findings=tuple(findings))


@dataclass(frozen=True, slots=True)
class DecideSeveral:
    """Several findings of a chapter decided as one step; `edits` mend those that the sound that is there can mend."""

    chapter: str
    decided: tuple[Decide, ...]
    edits: tuple[ReelCommand, ...] = ()

    @property
    def label(self) -> str:
        """The step's name."""
        count = sum(len(d.findings) for d in self.decided)
        name = self.decided[0].label if self.decided else "Decide"
        return name if count == 1 else f"{name} {count} findings"

    def apply(self, book: Book) -> Book:
        """The book with all decisions."""
        book = _edited(book, self.chapter, self.edits) if self.edits else book
        for decide in self.decided:
            book = decide.apply(book)
        return book


@dataclass(frozen=True, slots=True)
class SwapTake:
    """Another reading of a line in the place of the one that was kept, which becomes the other one."""

    chapter: str
    edits: tuple[ReelCommand, ...]
    hearing: str
    finding: Finding
    label: ClassVar[str] = "Swap the take"

    def apply(self, book: Book) -> Book:
        """The book with the edits, what was heard linked to the new reading, and the finding on the old one."""
        book = _edited(book, self.chapter, self.edits) if self.edits else book
        return book.with_chapter(self.chapter, lambda c: _with_others(c, self.hearing, (self.finding,)))


@dataclass(frozen=True, slots=True)
class TakeOver:
    """What somebody else's copy of the book has more, of one chapter or, with none, of the book; each part may be empty.

    `found` are findings that are not here, still open; `settled`, `decided`, `noted` and `told` say what was said there of
    findings that are here, `hearing` lays what was heard there, `reel` and `versions` are its edits.  Of `pickups` those that are
    here already are exchanged.  `recordings` are those that any of it plays and that are not here.
    """

    chapter: str
    name: str
    hearing: PlaceHearing | None = None
    found: tuple[Finding, ...] = ()
    settled: tuple[Settle, ...] = ()
    decided: tuple[Decide, ...] = ()
    noted: tuple[NoteFinding, ...] = ()
    told: tuple[TakeFindings, ...] = ()
    signed: SignOff | None = None
    described: DescribeChapter | None = None
    pickups: tuple[Pickup, ...] = ()
    rounds: tuple[Round, ...] = ()
    unmatched: tuple[Unmatched, ...] = ()
    reel: TakeReel | None = None
    versions: tuple[Version, ...] = ()
    names: tuple[NoteName, ...] = ()
    accepted: tuple[AcceptReading, ...] = ()
    shelved: tuple[PutOnShelf, ...] = ()
    recordings: tuple[Recording, ...] = ()

    @property
    def label(self) -> str:
        """The step's name."""
        return f"Take over: {self.name}"

    def apply(self, book: Book) -> Book:
        """The book with all of it."""
        there = {r.hash for r in book.recordings}
        book = replace(book, recordings=(*book.recordings, *(r for r in self.recordings if r.hash not in there)))
        if self.hearing is not None:
            book = self.hearing.apply(book)
        for finding in self.found:
            if any(f.id == finding.id for f in book.chapter(self.chapter).findings):
                raise EditRefused("The chapter was changed since the two books were compared. Compare them again.")
            book = AddFinding(self.chapter, finding).apply(book)
        said: tuple[tuple[BookCommand, ...], ...] = (self.settled, self.decided, self.noted, self.told)
        for step in itertools.chain(*said, self.names, self.accepted, self.shelved):
            book = step.apply(book)
        new = {p.id: p for p in self.pickups}
        kept = tuple(new.pop(p.id, p) for p in book.pickups)
        numbers = {r.number for r in book.rounds}
        book = replace(
            book,
            pickups=(*kept, *new.values()),
            rounds=(*book.rounds, *(r for r in self.rounds if r.number not in numbers)),
            unmatched=(*book.unmatched, *(u for u in self.unmatched if u not in book.unmatched)),
        )
        if self.versions:
            ids = {v.id for v in book.chapter(self.chapter).versions}
            fresh = tuple(v for v in self.versions if v.id not in ids)
            book = book.with_chapter(self.chapter, lambda c: replace(c, versions=(*c.versions, *fresh)))
        for own in (self.reel, self.signed, self.described):
            book = own.apply(book) if own is not None else book
        return book


@dataclass(frozen=True, slots=True)
class SetMaster:
    """A chapter was mastered."""

    chapter: str
    master: Master
    label: ClassVar[str] = "Master the chapter"

    def apply(self, book: Book) -> Book:
        """The book with the master's figures."""
        return book.with_chapter(self.chapter, lambda c: replace(c, master=self.master, released=""))


@dataclass(frozen=True, slots=True)
class MarkReleased:
    """Chapter files were released."""

    files: tuple[tuple[str, str], ...]
    label: ClassVar[str] = "Release"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the names of the released files."""
        for chapter, file in self.files:
            book = book.with_chapter(chapter, lambda c, file=file: replace(c, released=file))  # type: ignore[misc]
        return book


BookCommand = (
    SetDetails
    | SetLanguage
    | AddChapters
    | RenameChapter
    | LeaveOut
    | PutBack
    | MoveChapter
    | SplitChapter
    | JoinChapters
    | ReviseChapters
    | AddRecording
    | RelinkRecording
    | NameNarrator
    | PairByEar
    | PairRecording
    | PlaceHearing
    | AddFinding
    | AddFindings
    | TakeFindings
    | AcceptReading
    | NoteName
    | SignOff
    | DecideSeveral
    | Decide
    | NoteFinding
    | Settle
    | PlaceAsItStands
    | Forget
    | NotePickup
    | EditReel
    | EditReels
    | RoughCut
    | SwapTake
    | TakeOver
    | MarkSent
    | ReceiveTakes
    | ChooseTake
    | PlaceSplice
    | PassPickup
    | AddPickups
    | ChangePickups
    | JoinLines
    | SplitLine
    | WidenLine
    | SendRound
    | GiveTake
    | DropTake
    | ChooseParts
    | SpliceTakes
    | TakeOut
    | HeardAgain
    | SetMaster
    | MarkReleased
    | DescribeChapter
    | KeepVersion
    | PutPrint
    | PutRedrawn
    | DescribeVersion
    | SwapVersion
    | TakeReel
    | DropVersion
    | PutOnShelf
    | DescribeShelved
    | TakeOffShelf
)
KINDS: dict[str, type] = {c.__name__: c for c in BookCommand.__args__}
