"""Commands on the ledger: what is asked for, what went out and came in, what is put into the reel and taken out of it.

`apply` raises `EditRefused` where an order does not fit, and changes nothing then.
"""

from __future__ import annotations

from collections.abc import Container
from dataclasses import dataclass, replace
from typing import ClassVar

from faithful_reel.core.book.model import Book, Recording
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.pickups.ledger import (
    DONE,
    WAITING,
    Part,
    Pickup,
    Placed,
    Round,
    State,
    Take,
    Unmatched,
    Want,
)
from faithful_reel.core.reel.commands import ReplaceByTake
from faithful_reel.core.reel.cutting import whole_at
from faithful_reel.core.reel.reel import SOFT, Lane, Piece, Reel, Segment, played
from faithful_reel.core.reel.timing import exchanged, seed_at, together
from faithful_reel.core.units import Span


def is_in(book: Book, pickup: Pickup) -> bool:
    """Whether a line's take stands in the reel of its chapter: not whether it was put in once."""
    if pickup.state not in DONE:
        return False
    reel = next((c.reel for c in (*book.chapters, *book.left_out) if c.id == pickup.chapter), None)
    names = {take_name(pickup.id, k) for k in range(max(1, len(pickup.placed)))}
    pieces = (s for lane in reel.lanes for s in lane.segments if isinstance(s, Piece)) if reel is not None else ()
    return any(s.take in names or any(p.take in names for p, _ in played(s, 0) if s.of) for s in pieces)


def settled(book: Book) -> Book:
    """A book as its reels say it: a line whose take is gone from the reel is not in, whatever was done with it once, and waits
    to be put in again.  Lines of chapters that are left out are not shown.
    """
    there = {c.id for c in book.chapters}
    rows = tuple(p if p.state not in DONE or is_in(book, p) else _waiting(p) for p in book.pickups if p.chapter in there)
    same = len(rows) == len(book.pickups) and all(a is b for a, b in zip(rows, book.pickups, strict=True))
    return book if same else replace(book, pickups=rows)


def _waiting(p: Pickup) -> Pickup:
    state = State.CHOSEN if p.takes else State.SENT if p.round else State.TO_SEND
    return replace(p, state=state, placed=(), told="")


@dataclass(frozen=True, slots=True)
class AddPickups:
    """Ask for lines that no finding asks for."""

    pickups: tuple[Pickup, ...]
    label: ClassVar[str] = "Ask for a line"

    @property
    def chapter(self) -> str:
        """The chapter of the first."""
        return self.pickups[0].chapter if self.pickups else ""

    def apply(self, book: Book) -> Book:
        """The book with the lines in its ledger; one that waits there already is not asked for twice."""
        for asked in self.pickups:
            book.chapter(asked.chapter)
            if any(p.chapter == asked.chapter and p.words == asked.words and p.state in WAITING for p in book.pickups):
                raise EditRefused("This line is in the ledger already.")
            if any(p.id == asked.id for p in book.pickups):
                raise EditRefused("There is a pickup of this name already.")
            book = replace(book, pickups=(*book.pickups, asked))
        return book


@dataclass(frozen=True, slots=True)
class NotePickup:
    """Write what the narrator is to mind beside the words of a line."""

    pickup: str
    note: str
    label: ClassVar[str] = "Write a note for the narrator"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the note."""
        return book.with_pickup(self.pickup, lambda p: replace(p, note=self.note.strip()))


@dataclass(frozen=True, slots=True)
class ChangePickups:
    """Change several lines at once: what is wanted, the note, or how far they are; None is left as it is."""

    pickups: tuple[str, ...]
    want: Want | None = None
    note: str | None = None
    state: State | None = None
    chapter: ClassVar[str] = ""

    @property
    def label(self) -> str:
        """The step's name."""
        match self.state:
            case State.DROPPED:
                return "Drop pickups"
            case State.TO_SEND:
                return "Ask again"
            case None:
                return "Say what is wanted"
            case _:
                return "Change pickups"

    def apply(self, book: Book) -> Book:
        """The book with the lines changed."""
        if not self.pickups:
            raise EditRefused("No line is chosen.")
        for name in self.pickups:
            gone = book.pickup(name).state in DONE and not is_in(book, book.pickup(name))
            book = book.with_pickup(name, lambda p, gone=gone: self._changed(_waiting(p) if gone else p))  # type: ignore[misc]
        return book

    def _changed(self, p: Pickup) -> Pickup:
        state = p.state if self.state is None else self.state
        if state is not p.state and p.state in DONE:
            raise EditRefused(f"The take of “{p.line}” is in. Take it out first.")
        if state not in (p.state, State.DROPPED, State.TO_SEND):
            raise EditRefused("A line can be dropped or asked for again by hand; all else follows from what is done with it.")
        return replace(
            p,
            state=state,
            want=p.want if self.want is None else self.want,
            note=p.note if self.note is None else self.note.strip(),
        )


@dataclass(frozen=True, slots=True)
class JoinLines:
    """Ask for several lines as one that is good to read."""

    pickups: tuple[str, ...]
    line: Pickup
    label: ClassVar[str] = "Join lines"

    @property
    def chapter(self) -> str:
        """Whose lines they are."""
        return self.line.chapter

    def apply(self, book: Book) -> Book:
        """The book with one line in their place, that asks for what all of them asked for."""
        gone = [book.pickup(name) for name in self.pickups]
        if len(gone) < 2:
            raise EditRefused("Choose two lines or more to join.")
        if any(p.state is not State.TO_SEND or p.takes for p in gone):
            raise EditRefused("Only lines that have not gone out can be joined.")
        rest = [p for p in book.pickups if p not in gone]
        if any(p.id == self.line.id for p in rest) or any(p.chapter != self.line.chapter for p in gone):
            raise EditRefused("Lines of one chapter can be joined.")
        at = book.pickups.index(gone[0])
        before = [p for p in book.pickups[:at] if p not in gone]
        return replace(book, pickups=(*before, self.line, *(p for p in rest if p not in before)))


@dataclass(frozen=True, slots=True)
class SplitLine:
    """Ask for a line as several again."""

    pickup: str
    lines: tuple[Pickup, ...]
    label: ClassVar[str] = "Split a line"

    @property
    def chapter(self) -> str:
        """Whose lines they are."""
        return self.lines[0].chapter if self.lines else ""

    def apply(self, book: Book) -> Book:
        """The book with several lines in the place of one."""
        whole = book.pickup(self.pickup)
        if whole.state is not State.TO_SEND or whole.takes:
            raise EditRefused("Only a line that has not gone out can be split.")
        if len(self.lines) < 2:
            raise EditRefused("There is nothing to split in this line.")
        at = book.pickups.index(whole)
        rest = {p.id for p in book.pickups if p is not whole}
        if rest & {p.id for p in self.lines}:
            raise EditRefused("There is a pickup of this name already.")
        return replace(book, pickups=(*book.pickups[:at], *self.lines, *book.pickups[at + 1 :]))


@dataclass(frozen=True, slots=True)
class WidenLine:
    """Ask for more of the text around a line."""

    pickup: str
    line: Pickup
    label: ClassVar[str] = "Make a line longer"

    @property
    def chapter(self) -> str:
        """Whose line it is."""
        return self.line.chapter

    def apply(self, book: Book) -> Book:
        """The book with the longer line."""
        before = book.pickup(self.pickup)
        if before.state is not State.TO_SEND or before.takes:
            raise EditRefused("Only a line that has not gone out can be made longer.")
        if self.line.id != before.id or self.line.chapter != before.chapter:
            raise EditRefused("This is another line.")
        return book.with_pickup(self.pickup, lambda p: replace(self.line, findings=p.findings, note=p.note, want=p.want))


@dataclass(frozen=True, slots=True)
class MarkSent:
    """The call sheet went out: every pickup to send is sent."""

    pickups: tuple[str, ...]
    label: ClassVar[str] = "Send pickups"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the pickups sent."""
        for pickup in self.pickups:
            book = book.with_pickup(pickup, lambda p: replace(p, state=State.SENT))
        return book


@dataclass(frozen=True, slots=True)
class SendRound:
    """A round goes out: its lines are sent."""

    round: Round
    label: ClassVar[str] = "Send a round"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the round, and its lines sent with it."""
        if not self.round.pickups:
            raise EditRefused("There is nothing to send.")
        if any(r.number == self.round.number for r in book.rounds):
            raise EditRefused(f"Round {self.round.number} went out already.")
        for name in self.round.pickups:
            if book.pickup(name).state not in (State.TO_SEND, State.SENT):
                raise EditRefused("A line of this round has come in already.")
            book = book.with_pickup(name, lambda p: replace(p, state=State.SENT, round=self.round.number))
        return replace(book, rounds=(*book.rounds, self.round))


@dataclass(frozen=True, slots=True)
class ReceiveTakes:
    """Takes that were found in a pickup recording: (pickup, takes, the proposed one) of each line."""

    recording: str
    found: tuple[tuple[str, tuple[Take, ...], int], ...]
    edition: int = 1
    left: tuple[Unmatched, ...] = ()
    label: ClassVar[str] = "Receive takes"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the takes beside those that came before; takes that are there already do not come twice."""
        there = {(u.recording, u.start) for u in book.unmatched}
        new = tuple(u for u in self.left if (u.recording, u.start) not in there)
        book = replace(book, unmatched=(*book.unmatched, *new)) if new else book
        if self.edition > 1:
            for pickup, takes, best in self.found:
                book = book.with_pickup(pickup, lambda p, takes=takes, best=best: _received(p, takes, best))  # type: ignore[misc]
            return book
        for pickup, takes, best in self.found:
            book = book.with_pickup(
                pickup,
                lambda p, takes=takes, best=best: replace(p, takes=p.takes + takes, chosen=len(p.takes) + best, state=State.IN),  # type: ignore[misc]
            )
        return book


def _received(pickup: Pickup, takes: tuple[Take, ...], best: int) -> Pickup:
    """A pickup with more takes.

    The editor's own choice stays; what was only proposed gives way to a take that departs no more from the line.
    """

    def known(take: Take) -> bool:
        return any(t.recording == take.recording and t.start < take.stop and take.start < t.stop for t in pickup.takes)

    new = tuple(t for t in takes if not known(t))
    if not new:
        return pickup
    every = pickup.takes + new
    now = pickup.takes[pickup.chosen] if 0 <= pickup.chosen < len(pickup.takes) else None
    if pickup.state is State.CHOSEN and now is not None:
        return replace(pickup, takes=every)
    proposed = takes[best] if takes[best] in new else min(reversed(new), key=lambda t: t.departures)
    better = now is None or proposed.departures <= now.departures
    return replace(pickup, takes=every, chosen=every.index(proposed) if better else pickup.chosen, state=State.IN)


@dataclass(frozen=True, slots=True)
class GiveTake:
    """Give a line a take by hand: a stretch that fitted none."""

    pickup: str
    take: Take
    label: ClassVar[str] = "Give a line a take"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the take at the line, chosen."""
        p = book.pickup(self.pickup)
        if is_in(book, p):
            raise EditRefused("The take of this line is in. Take it out first.")
        t = self.take
        left = tuple(u for u in book.unmatched if u.recording != t.recording or not (u.start < t.stop and t.start < u.stop))
        book = replace(book, unmatched=left)
        return book.with_pickup(
            self.pickup, lambda p: replace(p, takes=(*p.takes, t), chosen=len(p.takes), parts=(), state=State.CHOSEN)
        )


@dataclass(frozen=True, slots=True)
class DropTake:
    """Take a take away from a line that it does not read; it fits none then."""

    pickup: str
    take: int
    label: ClassVar[str] = "Drop a take"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book without the take at the line; the stretch is among those that fit none."""
        p = book.pickup(self.pickup)
        if is_in(book, p):
            raise EditRefused("The take of this line is in. Take it out first.")
        if not 0 <= self.take < len(p.takes):
            raise EditRefused("There is no such take.")
        t = p.takes[self.take]
        kept = p.takes[: self.take] + p.takes[self.take + 1 :]
        chosen = -1 if not kept else min(p.chosen - (p.chosen > self.take), len(kept) - 1)
        state = State.SENT if p.round else State.TO_SEND
        if kept:  # another one stands in for the chosen: that is nobody's choice yet
            state = State.IN if p.chosen == self.take and p.state is State.CHOSEN else p.state
        book = replace(book, unmatched=(*book.unmatched, Unmatched(t.recording, t.start, t.stop, t.heard)))
        return book.with_pickup(self.pickup, lambda p: replace(p, takes=kept, chosen=chosen, parts=(), state=state))


@dataclass(frozen=True, slots=True)
class ChooseTake:
    """Choose a take of a pickup."""

    pickup: str
    take: int
    label: ClassVar[str] = "Choose a take"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the choice."""
        if is_in(book, book.pickup(self.pickup)):
            raise EditRefused("The take of this line is in. Take it out first.")
        if not 0 <= self.take < len(book.pickup(self.pickup).takes):
            raise EditRefused("There is no such take.")
        return book.with_pickup(self.pickup, lambda p: replace(p, chosen=self.take, parts=(), state=State.CHOSEN))


@dataclass(frozen=True, slots=True)
class ChooseParts:
    """Take a line's words from several of its takes."""

    pickup: str
    parts: tuple[Part, ...]
    label: ClassVar[str] = "Choose words from takes"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the choice."""
        p = book.pickup(self.pickup)
        if is_in(book, p):
            raise EditRefused("The take of this line is in. Take it out first.")
        reach = 0
        for part in self.parts:
            if not (0 <= part.take < len(p.takes) and part.first == reach < part.stop):
                raise EditRefused("These parts do not make up the line.")
            reach = part.stop
        if reach != p.word_count or len(self.parts) < 2:
            raise EditRefused("These parts do not make up the line.")
        return book.with_pickup(
            self.pickup, lambda p: replace(p, parts=self.parts, chosen=self.parts[0].take, state=State.CHOSEN)
        )


@dataclass(frozen=True, slots=True)
class PlaceSplice:
    """Put a pickup's take into its chapter's reel."""

    chapter: str
    pickup: str
    edit: ReplaceByTake
    label: ClassVar[str] = "Splice a pickup"

    def apply(self, book: Book) -> Book:
        """The book with the take in the reel."""
        if is_in(book, book.pickup(self.pickup)):
            raise EditRefused("This pickup is spliced already. Undo that first.")
        book = book.with_chapter(self.chapter, lambda c: replace(c, reel=self.edit.apply(_reel(c.reel))))
        return book.with_pickup(self.pickup, lambda p: replace(p, state=State.SPLICED))


def _reel(reel: Reel | None) -> Reel:
    if reel is None:
        raise EditRefused("This chapter has no recording yet. Pair one with it at Intake.")
    return reel


@dataclass(frozen=True, slots=True)
class Splice:
    """How a line is put in: the edits, in their order, and what each puts where; `recordings` are the matched takes."""

    pickup: str
    edits: tuple[ReplaceByTake, ...]
    placed: tuple[Placed, ...]
    recordings: tuple[Recording, ...] = ()


@dataclass(frozen=True, slots=True)
class SpliceTakes:
    """Put the takes of one or many lines into the reels of their chapters, as one step."""

    splices: tuple[Splice, ...]

    @property
    def label(self) -> str:
        """The step's name."""
        return "Splice a pickup" if len(self.splices) == 1 else f"Splice {len(self.splices)} pickups"

    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the takes in."""
        if not self.splices:
            raise EditRefused("There is nothing to put in.")
        for splice in self.splices:
            book = _spliced(book, splice)
        return book


def _spliced(book: Book, splice: Splice) -> Book:
    p = book.pickup(splice.pickup)
    if is_in(book, p):
        raise EditRefused("This pickup is spliced already. Take it out, or undo that first.")
    known = {r.hash for r in book.recordings}
    fresh = tuple(r for r in splice.recordings if r.hash not in known)
    reel = _reel(book.chapter(p.chapter).reel)
    placed: list[Placed] = []
    for edit, put in zip(splice.edits, splice.placed, strict=True):
        span = Span(edit.start, edit.stop)
        before = tuple(lane.between(span) for lane in reel.lanes)
        lane = reel.index(edit.lane)
        own, ids = reel.lanes[lane], tuple(k.id for k in reel.lanes)
        index = own.starts().index(span.stop) if span.stop in own.starts() else -1
        after = own.segments[index].join if 0 <= index < len(own.segments) else SOFT
        reel = edit.apply(reel)
        placed.append(replace(put, lane=lane, before=before, after=after, ids=ids, length=edit.take_stop - edit.take_start))
    book = replace(book, recordings=(*book.recordings, *fresh))
    book = book.with_chapter(p.chapter, lambda c: replace(c, reel=reel))
    return book.with_pickup(p.id, lambda p: replace(p, state=State.SPLICED, placed=tuple(placed)))


@dataclass(frozen=True, slots=True)
class TakeOut:
    """Take a spliced line out of the reel again: what is left of its take goes, and what was in its place comes back, once."""

    pickup: str
    edition: int = 1
    label: ClassVar[str] = "Take a pickup out"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the line as it was before it was put in."""
        p = book.pickup(self.pickup)
        if p.state not in DONE:
            raise EditRefused("This line is not in the reel.")
        reel = _reel(book.chapter(p.chapter).reel)
        over = next((o for o in book.pickups if o.id != p.id and _lies_over(o, p.id) and _stands(book, o, {p.id})), None)
        if over is not None:
            raise EditRefused(f"“{over.line}” was put in over it. Take that one out first.")
        if not p.placed:
            raise EditRefused("This line was put in by an earlier version. Go back before it in the History instead.")
        if self.edition > 1:
            reel = without_take(reel, p)
        else:
            for number in reversed(range(len(p.placed))):
                reel = without_placed(reel, p, number)
        state = State.CHOSEN if p.takes else State.TO_SEND
        book = book.with_chapter(p.chapter, lambda c: replace(c, reel=reel))
        return book.with_pickup(p.id, lambda p: replace(p, state=state, placed=()))


def _stands(book: Book, pickup: Pickup, seen: set[str]) -> bool:
    """Whether a line is in, or under another one that is."""
    if is_in(book, pickup):
        return True
    seen = seen | {pickup.id}
    above = (o for o in book.pickups if o.state in DONE and o.id not in seen and _lies_over(o, pickup.id))
    return pickup.state in DONE and any(_stands(book, o, seen) for o in above)


def _lies_over(other: Pickup, name: str) -> bool:
    """Whether another line took the place of sound of this one."""
    own = {name, *(f"{name}#{k}" for k in range(1, 9))}
    return any(isinstance(s, Piece) and s.take in own for put in other.placed for lane in put.before for s in lane)


def take_name(pickup: str, number: int) -> str:
    """How the pieces of a line's parts are marked in the reel: the first by the line's own name."""
    return pickup if not number else f"{pickup}#{number}"


def placed_span(reel: Reel, pickup: str, number: int = 0) -> tuple[int, Span] | None:
    """The lane and the stretch in which a part of a line stands in a reel; None where it is no longer there.

    Where words of it were copied or moved elsewhere it is where most of it stands; room tone inside it is of it, and so is
    what was put there instead of words of it.
    """
    found: list[tuple[int, Span]] = []
    for index, lane in enumerate(reel.lanes):
        before, others = None, 0
        for segment, at in zip(lane.segments, lane.starts(), strict=False):
            if not isinstance(segment, Piece):
                continue
            if segment.take != take_name(pickup, number):
                others += len(segment)
                continue
            start = at
            if before is not None and segment.recording == before.recording and 2 * (segment.start - before.stop) >= others:
                start = found.pop()[1].start
            found.append((index, Span(start, at + len(segment))))
            before, others = segment, 0
    return max(found, key=lambda f: (len(f[1]), -f[1].start), default=None)


def _reach(reel: Reel, name: str) -> tuple[int, Span] | None:
    """The lane that holds pieces of a name, and the stretch from the first to the last of them."""
    for index, lane in enumerate(reel.lanes):
        found = [
            (at, at + len(s))
            for s, at in zip(lane.segments, lane.starts(), strict=False)
            if isinstance(s, Piece) and s.take == name
        ]
        if found:
            return index, Span(found[0][0], found[-1][1])
    return None


@dataclass(frozen=True, slots=True)
class _Group:
    """Pieces of a take that stand side by side on a lane, where from in the take."""

    lane: int
    span: Span
    first: int


def _groups(reel: Reel, names: Container[str]) -> list[_Group]:
    """Where the pieces of a take stand; those that touch as one, as are those between which some of it was laid over."""
    found: list[_Group] = []
    for index, lane in enumerate(reel.lanes):
        before: Piece | None = None
        for segment, at in zip(lane.segments, lane.starts(), strict=False):
            if not isinstance(segment, Piece) or segment.take not in names:
                before = before if not isinstance(segment, Piece) else None
                continue
            end, last = at + len(segment), found[-1] if found else None
            if before is not None and last is not None and last.lane == index:
                gap = at - last.span.stop
                if not gap or (segment.recording, segment.start) == (before.recording, before.stop + gap):
                    found[-1] = replace(last, span=Span(last.span.start, end))
                    before = segment
                    continue
            found.append(_Group(index, Span(at, end), segment.start))
            before = segment
    return found


def without_take(reel: Reel, pickup: Pickup) -> Reel:
    """A reel in which what is left of a line's take is gone, and what it took the place of is back, once, where most of it is.

    What of it was moved elsewhere goes there for itself: time closes up where nothing else sounds, else room tone comes.

    Raises
    ------
    EditRefused
        Nothing of the take is there.
    """
    parts = [k for k in range(len(pickup.placed)) if _groups(reel, {take_name(pickup.id, k)})]
    if not parts:
        raise EditRefused(
            "Its take is no longer in the reel by itself: it was cut, or printed with what is around it. Go back in the "
            "History, or swap to the version from before the print."
        )
    for number in reversed(parts):
        name, put = {take_name(pickup.id, number)}, pickup.placed[number]
        while len(groups := _groups(reel, name)) > 1:
            home = max(groups, key=lambda g: (len(g.span), -g.span.start))
            reel = _without_group(reel, next(g for g in reversed(groups) if g is not home))
        whole = put.length in (0, len(groups[0].span))
        reel = _brought_back(reel, put, groups[0].lane, groups[0].span, others=whole)
    return reel


def _without_group(reel: Reel, group: _Group) -> Reel:
    lane, span = reel.lanes[group.lane], group.span
    others = [k for k in together(reel, group.lane) if k != group.lane]
    if any(isinstance(s, Piece) for k in others for s in reel.lanes[k].between(span)):
        return reel.with_lane(group.lane, lane.replaced(span, (lane.filling(len(span), seed_at(span.start)),), SOFT))
    return exchanged(reel, group.lane, span, (), after=SOFT)


def without_placed(reel: Reel, pickup: Pickup, number: int) -> Reel:
    """A reel in which what a part of a line took the place of is back, as steps of the first edition did it.

    Raises
    ------
    EditRefused
        The part is no longer there.
    """
    found, put = _reach(reel, take_name(pickup.id, number)), pickup.placed[number]
    if found is None or found[0] >= len(put.before):
        raise EditRefused("Its take is no longer in the reel, so there is nothing to bring back. Go back in the History instead.")
    index, span = found
    return _brought_back(reel, replace(put, ids=()), index, span, put.before[index])


def _brought_back(
    reel: Reel, put: Placed, index: int, span: Span, own: tuple[Segment, ...] | None = None, *, others: bool = True
) -> Reel:
    """A reel in which what a stretch of a lane took the place of is back, `own` or what its lane had there; with `others` also
    what went from the other lanes with it, where it is as it was left.
    """
    rows = dict(zip(put.ids, put.before, strict=False)) or {
        lane.id: row for lane, row in zip(reel.lanes, put.before, strict=False)
    }
    own = put.before[put.lane] if own is None else own
    back = exchanged(reel, index, span, own)
    length = sum(map(len, own))
    first = own[0].join if own else SOFT
    lane_back = whole_at(whole_at(back.lanes[index], span.start + length, put.after), span.start, first)
    back = back.with_lane(index, lane_back)
    for k, lane in enumerate(reel.lanes):  # what went from, or came to, the other lanes with it, where that is as it was left
        if k == index or lane.id not in rows or not (lane.linked and reel.lanes[index].linked):
            continue
        before = rows[lane.id]
        back = back.with_lane(k, whole_at(back.lanes[k], span.start + length))
        if sum(map(len, before)) != length or len(span) >= length or not others:
            continue
        if lane.between(span) == _cut(before, len(span)):
            same = back.lanes[k].replaced(Span(span.start, span.start + length), before)
            back = back.with_lane(k, whole_at(whole_at(same, span.start + length), span.start))
    return back


def _cut(segments: tuple[Segment, ...], length: int) -> tuple[Segment, ...]:
    """The first samples of some segments."""
    lane = Lane("", segments)
    return lane.between(Span(0, length))


@dataclass(frozen=True, slots=True)
class PassPickup:
    """The splice was heard and is good."""

    pickup: str
    label: ClassVar[str] = "Pass a pickup"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the pickup passed."""
        if book.pickup(self.pickup).state not in (State.SPLICED, State.HEARD):
            raise EditRefused("Only a pickup that is spliced can pass.")
        return book.with_pickup(self.pickup, lambda p: replace(p, state=State.PASSED))


@dataclass(frozen=True, slots=True)
class HeardAgain:
    """Lines that were put in were heard as they stand now: those that are right, and those that are not, with what is wrong."""

    right: tuple[str, ...]
    wrong: tuple[tuple[str, str], ...] = ()
    label: ClassVar[str] = "Check by ear"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with what was found out; what is no longer spliced is left as it is."""
        for name in self.right:
            book = book.with_pickup(name, _heard)
        for name, told in self.wrong:
            book = book.with_pickup(
                name,
                lambda p, told=told: replace(p, state=State.SPLICED, told=told) if p.state in DONE else p,  # type: ignore[misc]
            )
        return book


def _heard(p: Pickup) -> Pickup:
    """A line that was heard as it is written; one that was passed stays passed."""
    if p.state not in DONE:
        return p
    return replace(p, state=State.HEARD if p.state is State.SPLICED else p.state, told="")
