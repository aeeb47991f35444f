"""Two copies of a book, changed apart from each other: what somebody else's has more than the one here, chapter by chapter."""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, fields, is_dataclass, replace
from enum import StrEnum
from pathlib import Path
from typing import Any

from faithful_reel.core.book.commands import (
    EDITION,
    AcceptReading,
    Decide,
    NoteFinding,
    NoteName,
    PlaceHearing,
    Settle,
    SignOff,
    TakeFindings,
    TakeOver,
)
from faithful_reel.core.book.kept import DescribeChapter, PutOnShelf, TakeReel
from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.book.past import line_to
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.collate.findings import BY_HAND, Decision, Finding, by_hand
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import shown
from faithful_reel.core.jobs import Watch
from faithful_reel.core.pickups.ledger import Pickup, Round, State
from faithful_reel.core.pickups.ledger import shown as state_words
from faithful_reel.core.reel.reel import Reel, recordings_of

MOST_TOLD = 12
"""Of a chapter's steps so many are told by their names."""


class What(StrEnum):
    """What a difference is of; what stands in one chapter of one kind is taken over as one step."""

    DECISION = "decision"
    NOTE = "note"
    FINDING = "finding"
    PICKUP = "pickup"
    EDITS = "edits"
    HEARING = "hearing"
    NAMES = "names"
    SHELF = "shelf"
    OTHER = "other"


@dataclass(frozen=True, slots=True)
class Difference:
    """One thing that the other copy has more, or otherwise.

    `here` and `there` say how it stands in each; `clash` that both were changed since they parted.  `why` says why it can not be
    """

    chapter: str
    what: What
    id: str
    words: str
    here: str
    there: str
    clash: bool
    take: TakeOver
    why: str = ""
    told: tuple[str, ...] = ()

    @property
    def key(self) -> str:
        """By what it is known in a list."""
        return f"{self.chapter} {self.what.value} {self.id}"


@dataclass(frozen=True, slots=True)
class Copies:
    """The book as it was when the two copies parted, the other copy, and the names of its steps since: (chapter, label)."""

    base: Book
    there: Book
    steps: tuple[tuple[str, str], ...]
    step: int
    """The step of the book here at which they parted."""
    changed: frozenset[str] = frozenset()
    """The chapters that are not as they were."""


def parted(here: Path, head: int, there: Path, name: str, watch: Watch) -> Copies:
    """Where two books parted that were one; `there` is a folder of its own, which is opened and may be changed.

    Raises
    ------
    FileProblem
        They have no step in common.
    StoreProblem, BookDamaged
        One of them can not be read.
    """
    watch.tick(0.0, "reading the journals")
    mine = line_to(here, head)
    with BookStore(there) as store:
        theirs = line_to(there, store.head)
        common = 0
        for one, other in zip(mine, theirs, strict=False):
            if one[2:] != other[2:]:  # when, its name, its kind, what it does, of which chapter
                break
            common += 1
        if not common:
            raise FileProblem(
                f"{name} was not made from this book: the two have no step in common. Open it as a book of its own."
            )
        watch.tick(0.3, "going back to where they parted")
        session = Session(store)
        book = session.book
        base = session.state(theirs[common - 1][0])
    watch.tick(0.8, "comparing")
    before = {c.id: c for c in base.chapters}
    changed = frozenset(c.id for c in book.chapters if c != before.get(c.id))
    return Copies(base, book, tuple((row[6], row[3]) for row in theirs[common:]), mine[common - 1][0], changed)


# --- what is different ------------------------------------------------------------------------------------------------


def differences(here: Book, copies: Copies, name: str) -> list[Difference]:
    """What the other copy has more than the book here, in the order of its chapters; what is the same in both is left out."""
    found: list[Difference] = []
    mine = {c.id: c for c in here.chapters}
    before = {c.id: c for c in copies.base.chapters}
    for chapter in copies.there.chapters:
        own, was = mine.get(chapter.id), before.get(chapter.id)
        if chapter.id not in copies.changed:
            continue
        if own is None or was is None:
            if chapter != own:
                why = "This chapter is not in the book here." if own is None else "This chapter is new in both."
                found.append(_other(chapter, "chapter", chapter.title, "", "changed there", why))
            continue
        found += _Chapter(here, copies, name, own, was, chapter).differences()
    found += [d for c in copies.there.chapters if c.id in mine for d in _pickups(here, copies, c)]
    order = {c.id: k for k, c in enumerate(copies.there.chapters)}
    found.sort(key=lambda d: (order.get(d.chapter, -1), list(What).index(d.what)))
    return [*found, *_of_book(here, copies)]


def _other(chapter: ChapterState, name: str, words: str, here: str, there: str, why: str) -> Difference:
    """Something that is told, and that has to be done by hand."""
    return Difference(chapter.id, What.OTHER, name, words, here, there, clash=False, take=TakeOver(chapter.id, words), why=why)


class _Chapter:
    """One chapter here, as it was, and there."""

    def __init__(self, here: Book, copies: Copies, name: str, own: ChapterState, was: ChapterState, there: ChapterState) -> None:
        self._here, self._copies, self._name = here, copies, name
        self._own, self._was, self._there = own, was, there
        self._why = ""
        if own.text != there.text:
            self._why = "The manuscript of this chapter is not the same in both."
        elif own.recording != there.recording:
            self._why = "This chapter is paired with another recording there."
        self._matched = _matched(there.findings, own.findings)
        self._earlier = _matched(there.findings, was.findings)

    def differences(self) -> Iterator[Difference]:
        """All of the chapter but its pickups."""
        own, was, there = self._own, self._was, self._there
        if there.text not in (was.text, own.text):
            yield _other(
                there, "text", "the manuscript", "", "revised", "Accept the corrected manuscript at Intake here as well."
            )
        if there.recording not in (was.recording, own.recording):
            yield _other(there, "recording", "the recording", "", "another one", "Pair it at Intake here as well.")
        if there.title not in (was.title, own.title):
            yield _other(there, "title", "the title", own.title, there.title, "Rename the chapter at Intake.")
        if there.hearing not in (was.hearing, own.hearing):
            yield self._hearing()
        yield from self._findings()
        if there.signed not in (was.signed, own.signed):
            words, clash = "signed off" if there.signed else "not signed off", own.signed != was.signed
            yield self._made(
                What.DECISION, "signed", "the chapter", "", words, clash=clash, signed=SignOff(there.id, there.signed)
            )
        if (there.color, there.note) not in ((was.color, was.note), (own.color, own.note)):
            clash = (own.color, own.note) != (was.color, was.note)
            described = DescribeChapter(there.id, there.color, there.note)
            told = there.note or "another colour"
            yield self._made(What.NOTE, "chapter", "the chapter", own.note or "no note", told, clash=clash, described=described)
        yield from self._edits()

    def _made(
        self,
        what: What,
        name: str,
        words: str,
        here: str,
        there: str,
        *,
        clash: bool = False,
        why: str = "",
        **take: object,
    ) -> Difference:
        step = TakeOver(self._there.id, words, **take)  # type: ignore[arg-type]  # its fields
        return Difference(self._there.id, what, name, words, here, there, clash, step, why or self._why)

    def _hearing(self) -> Difference:
        """What was heard there: its findings as the ear made them; what was decided here stays."""
        ears = (f for f in self._there.findings if not by_hand(f))
        bare = tuple(replace(f, decision=Decision.OPEN, note="", kept=False, by=()) for f in ears)
        heard = PlaceHearing(self._there.id, self._there.hearing, bare, EDITION)
        clash = bool(self._own.hearing) and self._own.hearing != self._was.hearing
        here = "heard" if self._own.hearing else "not heard"
        return self._made(
            What.HEARING, "hearing", "what was heard", here, f"heard, {len(bare)} findings", clash=clash, hearing=heard
        )

    def _findings(self) -> Iterator[Difference]:
        there = self._there
        known = {f.id for f in self._own.findings} | {f.id for f in there.findings}
        free = (name for n in itertools.count(1) if (name := f"{BY_HAND}{n:04d}") not in known)
        for f in there.findings:
            was, own = self._earlier.get(f.id), self._matched.get(f.id)
            if was is None and own is None:
                if by_hand(f) or there.hearing == self._was.hearing:
                    yield self._new(f, free)
                elif f.decision is not Decision.OPEN or f.note:
                    why = "This finding is of what was heard there. Take that over first."
                    yield self._made(What.DECISION, f.id, _of(f), "", f.decision.value, clash=False, why=why)
                continue
            before = was or replace(f, decision=Decision.OPEN, note="", kept=False, by=())
            gone = "This finding is not here any more." if own is None else ""
            mine = own or before
            yield from self._said(f, before, mine, gone)

    def _said(self, f: Finding, before: Finding, mine: Finding, gone: str) -> Iterator[Difference]:
        """What was decided, noted and told there of a finding that is here."""
        chapter = self._there.id
        if f.decision not in (before.decision, mine.decision):
            clash = mine.decision is not before.decision
            decide = Decide(chapter, (mine.id,), f.decision, "", self._line_of(f), EDITION)
            yield self._made(
                What.DECISION,
                f.id,
                _of(f),
                mine.decision.value,
                f.decision.value,
                clash=clash,
                why=gone,
                decided=(decide,),
            )
        elif f.kept and not before.kept and not mine.kept:
            settle = Settle(chapter, mine.id, kept=True)
            yield self._made(What.DECISION, f.id, _of(f), "in doubt", "is there", clash=False, why=gone, settled=(settle,))
        if f.note not in (before.note, mine.note):
            note = NoteFinding(chapter, mine.id, f.note)
            theirs, clash = f.note or "no note", mine.note != before.note
            yield self._made(What.NOTE, f.id, _of(f), mine.note or "no note", theirs, clash=clash, why=gone, noted=(note,))
        said = tuple(who for who in f.by if who not in before.by and who not in mine.by)
        if said:
            told = TakeFindings((), tuple((chapter, mine.id, who, "") for who in said), self._name)
            who = f"said by {', '.join(said)}"
            yield self._made(What.NOTE, f"{f.id} by", _of(f), "", who, clash=False, why=gone, told=(told,))

    def _new(self, f: Finding, free: Iterator[str]) -> Difference:
        """A finding that is not here, with what was decided of it."""
        name = f.id if all(f.id != own.id for own in self._own.findings) else next(free)
        made = replace(f, id=name, decision=Decision.OPEN)
        decided: tuple[Decide, ...] = ()
        if f.decision is not Decision.OPEN:
            decided = (Decide(self._there.id, (name,), f.decision, "", self._line_of(f), EDITION),)
        words = f.decision.value if decided else "found"
        return self._made(What.FINDING, f.id, _of(f), "", words, clash=False, found=(made,), decided=decided)

    def _line_of(self, f: Finding) -> Pickup | None:
        """The line that is to be read again for a finding, as it was asked for there."""
        asked = next((p for p in self._copies.there.pickups if p.chapter == self._there.id and f.id in p.findings), None)
        return _fresh(asked) if asked is not None and f.decision is Decision.PICKUP else None

    def _edits(self) -> Iterator[Difference]:
        own, was, there = self._own, self._was, self._there
        rate = self._here.rate
        if there.reel is not None and there.reel not in (was.reel, own.reel):
            clash = own.reel != was.reel
            labels = [label for chapter, label in self._copies.steps if chapter == there.id]
            parted = len(was.reel) if was.reel is not None else 0
            longer = (len(there.reel) - parted) / rate
            name = f"as it was before {self._name}"
            taken = {v.id for v in own.versions}
            kept = next(v for n in itertools.count(1) if (v := f"other-{self._copies.step}-{n}") not in taken)
            reel = TakeReel(there.id, there.reel, "Take over", kept, name)
            told = f"{longer:+.2f} s".replace("-", "\N{MINUS SIGN}") if longer else "as long as it was"
            made = self._made(
                What.EDITS, "reel", "the edits", "edited too" if clash else "not edited", told, clash=clash,
                reel=reel, recordings=_needed(self._here, self._copies.there, there.reel),
            )  # fmt: skip
            yield replace(made, told=tuple(labels[-MOST_TOLD:]))
        ids = {v.id for v in (*own.versions, *was.versions)}
        for version in there.versions:
            if version.id not in ids:
                needed = _needed(self._here, self._copies.there, version.reel)
                yield self._made(
                    What.EDITS, f"version {version.id}", f"the version “{version.name}”", "", "kept", clash=False,
                    versions=(version,), recordings=needed,
                )  # fmt: skip


def _of(f: Finding) -> str:
    """What a finding is of, in a few words."""
    words = " → ".join(filter(None, (f.written, f.heard)))
    return words or f.note or f.evidence.flaw or f.kind.value.replace("_", " ")


def _alike(one: Finding, other: Finding) -> bool:
    same = (one.kind, one.word_index, one.word_count, one.heard, one.recording)
    near = abs(one.start - other.start) < 2000
    return same == (other.kind, other.word_index, other.word_count, other.heard, other.recording) and near


def _matched(theirs: Sequence[Finding], mine: Sequence[Finding]) -> dict[str, Finding]:
    """Which finding of one copy is which of another's: that of the same name where it is alike, else the one that is."""
    by_id = {f.id: f for f in mine}
    by_place: dict[int, list[Finding]] = defaultdict(list)
    for f in mine:
        by_place[f.word_index].append(f)
    found: dict[str, Finding] = {}
    for f in theirs:
        own = by_id.get(f.id)
        if own is None or not _alike(f, own):
            own = next((m for m in by_place[f.word_index] if _alike(f, m)), None)
        if own is not None:
            found[f.id] = own
    return found


def _fresh(pickup: Pickup) -> Pickup:
    """A line as it is first asked for."""
    return replace(pickup, state=State.TO_SEND, takes=(), chosen=-1, round=0, parts=(), placed=(), told="", findings=())


def _targets(here: Book, copies: Copies) -> dict[str, str]:
    """What the lines of the other copy are called here: as there, but where another line has that name, or the line another."""
    mine = {p.id: p for p in here.pickups}
    places = {(p.chapter, p.words): p.id for p in reversed(here.pickups)}
    taken = mine.keys() | {p.id for p in copies.there.pickups}
    found = {}
    for p in copies.there.pickups:
        own = mine.get(p.id)
        if own is not None and (own.chapter, own.words) == (p.chapter, p.words):
            found[p.id] = p.id
        elif (p.chapter, p.words) in places:
            found[p.id] = places[p.chapter, p.words]
        else:
            found[p.id] = p.id if own is None else next(n for k in itertools.count(2) if (n := f"{p.id}-{k}") not in taken)
    return found


def _pickups(here: Book, copies: Copies, chapter: ChapterState) -> Iterator[Difference]:
    """The lines of a chapter that the other copy has more, or that have come farther there."""
    own = next(c for c in here.chapters if c.id == chapter.id)
    why = "The manuscript of this chapter is not the same in both." if own.text != chapter.text else ""
    mine = {p.id: p for p in here.pickups}
    before = {p.id: p for p in copies.base.pickups}
    targets = _targets(here, copies)
    for there in (p for p in copies.there.pickups if p.chapter == chapter.id):
        was, target = before.get(there.id), targets[there.id]
        if there == was:
            continue
        same = mine.get(target)
        findings = same.findings if same is not None else tuple(f for f in there.findings if any(g.id == f for g in own.findings))
        number, rounds = _round(here, copies, there.round, targets)
        made = replace(there, id=target, findings=findings, round=number)
        asked = any(f.id in there.findings and f.decision is Decision.PICKUP for f in own.findings)
        comes_with_its_decision = same is None and there.findings and not asked and _fresh(there) == replace(there, findings=())
        if made == same or comes_with_its_decision:
            continue
        clash = same is not None and same != was and replace(same, findings=()) != (replace(was, findings=()) if was else None)
        take = TakeOver(
            chapter.id, there.line, pickups=(made,), rounds=rounds,
            recordings=_needed(here, copies.there, made),
        )  # fmt: skip
        yield Difference(
            chapter.id, What.PICKUP, there.id, there.line, _pickup_words(same) if same else "", _pickup_words(there), clash, take,
            why,
        )  # fmt: skip


def _round(here: Book, copies: Copies, number: int, targets: dict[str, str]) -> tuple[int, tuple[Round, ...]]:
    """The number that a round of the other copy has here, and it where it is not here; one whose number is taken gets another."""
    sent = next((r for r in copies.there.rounds if r.number == number), None)
    if sent is None or sent in copies.base.rounds:
        return number, ()
    mapped = replace(sent, pickups=tuple(targets.get(p, p) for p in sent.pickups))
    own = next((r for r in here.rounds if replace(r, number=number) == mapped), None)
    if own is not None:  # it came with another line of it, or is the same in both
        return own.number, ()
    free = number if all(r.number != number for r in here.rounds) else number + max(r.number for r in here.rounds)
    return free, (replace(mapped, number=free),)


def _pickup_words(pickup: Pickup) -> str:
    takes = len(pickup.takes)
    told = (state_words(pickup.state), f"{takes} take{'' if takes == 1 else 's'}" if takes else "", pickup.note)
    return ", ".join(filter(None, told))


def _of_book(here: Book, copies: Copies) -> Iterator[Difference]:
    """What is different in the book itself, beside its chapters."""
    base, there = copies.base, copies.there

    def made(
        what: What, key: str, words: str, mine: str, theirs: str, *, clash: bool = False, why: str = "", **take: object
    ) -> Difference:
        step = TakeOver("", words, **take)  # type: ignore[arg-type]  # its fields
        return Difference("", what, key, words, mine, theirs, clash, step, why)

    say, was = dict(here.say), dict(base.say)
    for word, how in there.say:
        if how not in (was.get(word), say.get(word)):
            clash = say.get(word) != was.get(word)
            yield made(
                What.NAMES,
                f"say {word}",
                f"how “{word}” is said",
                say.get(word, ""),
                how,
                clash=clash,
                names=(NoteName(word, how),),
            )
    for written, heard in there.accepted:
        if (written, heard) not in base.accepted and (written, heard) not in here.accepted:
            accepted = (AcceptReading(written, heard),)
            yield made(What.NAMES, f"{written} {heard}", f"“{heard}” for the name “{written}”", "", "accepted", accepted=accepted)
    ids = {s.id for s in (*base.shelf, *here.shelf)}
    for item in there.shelf:
        if item.id not in ids:
            needed = _needed(here, there, item)
            yield made(What.SHELF, item.id, f"“{item.name}”", "", "on the shelf", shelved=(PutOnShelf(item),), recordings=needed)
    lost = tuple(u for u in there.unmatched if u not in base.unmatched and u not in here.unmatched)
    for k, stretch in enumerate(lost):
        words = f"what fits no line: {stretch.heard[:40]}"
        yield made(
            What.PICKUP, f"unmatched {k}", words, "", "received", unmatched=(stretch,), recordings=_needed(here, there, stretch)
        )
    for field, what in (("title", "title"), ("author", "author"), ("narrator", "narrator"), ("language", "language")):
        mine, old, theirs = (getattr(b, field) for b in (here, base, there))
        if theirs not in (old, mine):
            yield made(What.OTHER, field, f"the book's {what}", mine, theirs, why="Change it at Intake.")
    order, old_order = [c.id for c in there.chapters], [c.id for c in base.chapters]
    if order != old_order and order != [c.id for c in here.chapters]:
        yield made(What.OTHER, "order", "the chapters", "", "in another order, or others", why="Change them at Intake.")
    played = {r.hash for r in base.recordings} | {r.hash for r in here.recordings}
    used = {h for c in there.chapters for h in ([c.recording] if c.recording else [])}
    for recording in there.brought:
        if recording.hash not in played and recording.hash in used:
            yield made(
                What.OTHER, recording.hash, f"the recording {recording.name}", "", "brought in", why="Bring it in at Intake."
            )


def _needed(here: Book, there: Book, *values: object) -> tuple[Recording, ...]:
    """The recordings that some values play and that are not in the book here, with those that they were made of."""
    known, theirs = {r.hash for r in here.recordings}, {r.hash: r for r in there.recordings}
    wanted = list(dict.fromkeys(h for value in values for h in _hashes(value)))
    found: dict[str, Recording] = {}
    while wanted:
        name = wanted.pop(0)
        recording = theirs.get(name)
        if recording is None or name in known or name in found:
            continue
        found[name] = recording
        wanted += [p.recording for p in recording.parts] + ([recording.made.recording] if recording.made else [])
        wanted += [recording.tone.recording] if recording.tone else []
    return tuple(r for r in there.recordings if r.hash in found)


def _hashes(value: object) -> Iterator[str]:
    """The recordings that a value names, wherever in it."""
    if isinstance(value, Reel):
        yield from recordings_of(value)
    if isinstance(value, (tuple, list)):
        for one in value:
            yield from _hashes(one)
    elif is_dataclass(value):
        for field in fields(value):
            own = getattr(value, field.name)
            if field.name == "recording" and isinstance(own, str) and own:
                yield own
            else:
                yield from _hashes(own)


# --- taken over -------------------------------------------------------------------------------------------------------


def steps_of(rows: Iterable[Difference], name: str) -> list[TakeOver]:
    """The steps that take differences over: one for each chapter and each kind of thing, in the order that they build on."""
    order = (
        What.HEARING, What.FINDING, What.DECISION, What.NOTE, What.PICKUP, What.EDITS, What.NAMES, What.SHELF,
    )  # fmt: skip
    groups: dict[tuple[str, What], list[Difference]] = defaultdict(list)
    for row in rows:
        if not row.why:
            groups[row.chapter, row.what].append(row)
    chapters = list(dict.fromkeys(chapter for chapter, _ in groups))
    found = []
    for chapter in chapters:
        for what in order:
            own = groups.get((chapter, what))
            if own:
                found.append(_together(chapter, what, own, name))
    return found


def _together(chapter: str, what: What, rows: Sequence[Difference], name: str) -> TakeOver:
    count = len(rows)
    told = rows[0].words if count == 1 else f"{count} {what.value}s" if not what.value.endswith("s") else f"{count} {what.value}"
    parts: dict[str, Any] = {}
    for field in fields(TakeOver)[2:]:
        own = [getattr(row.take, field.name) for row in rows]
        if isinstance(own[0], tuple):
            parts[field.name] = tuple(
                one for k, values in enumerate(own) for one in values if one not in itertools.chain(*own[:k])
            )
        else:
            parts[field.name] = next((one for one in own if one is not None), None)
    return TakeOver(chapter, f"{told}, from {name}", **parts)


def archive_name(path: Path) -> str:
    """What an archive is called in steps."""
    return shown(path.with_suffix(""))
