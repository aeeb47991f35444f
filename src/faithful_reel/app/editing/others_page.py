"""Somebody else's list of findings, each line at the place that it means, before it is taken in.  No Qt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from faithful_reel.app.editing.pages import NO_LINE, Line, Page
from faithful_reel.app.editing.presenter import Editing
from faithful_reel.core.apart import apart
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.files import printable, shown
from faithful_reel.core.jobs import Part, Watch
from faithful_reel.core.text.tables import tables_of
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Span
from faithful_reel.core.work.elsewhere import Read
from faithful_reel.core.work.others import Placed, Said, Spot, here, kind_of, lines_of, placed, taken
from faithful_reel.core.work.timeline import Hearing

AROUND_S = 1.0
LONGEST, LONG = 60, 300
AGAIN = "The list is being placed anew, since the book was changed. Try again in a moment."


@dataclass(frozen=True, slots=True)
class _Row:
    """A line of the list: its places, which of them is meant, whether it is to be taken in, and whether the editor said so."""

    placed: Placed
    at: int = 0
    wanted: bool = False
    by_hand: bool = False

    @property
    def spot(self) -> Spot | None:
        """The place that is meant."""
        return self.placed.spots[self.at] if self.at < len(self.placed.spots) else None


class OthersPage(Page):
    """The lines of a list that was brought in; those that are not sure stand first, left out until they are said to be."""

    title = "Findings of others"
    heads = ("what it says", "where", "how it is known")
    widths = (0, 76, 150)
    buttons = (
        ("Take in", "others.take"), ("Hear", "list.hear"), ("Next place", "others.next"), ("It is here", "others.here"),
        ("Leave out", "list.remove"), ("Bring in a list…", "others.bring"),
    )  # fmt: skip
    told = "Lines whose place is not sure stand first. Go through the places that one may mean, or mark its words: it is here."

    def __init__(self, editing: Editing) -> None:
        super().__init__(editing)
        self.name = self.who = ""
        self._rows: dict[str, _Row] = {}
        self._of: tuple[object, ...] = ()
        self.busy = False

    @property
    def empty(self) -> str:
        """As `Page`."""
        if self.busy:
            return f"Reading {self.name}."
        if self.name:
            return f"All lines of {self.name} are taken in or left out."
        return (
            "No list is brought in. A list is a table (CSV, XLSX, DOCX, ODT) whose first row names its columns: "
            "chapter, page, time, as written, as heard, remark, in any order."
        )

    # --- bringing in ----------------------------------------------------------------------------------------------

    def bring(self, path: Path, who: str) -> None:
        """Read a list beside the work and place its lines; `who` said so where the list does not tell it."""
        self.name, self.who, self.busy, self._rows = shown(path), printable(who.strip()) or shown(path.with_suffix("")), True, {}
        state, book, contents = self._state(), self.bench.book, self._reader()

        def read(watch: Watch) -> list[Placed]:
            lines = lines_of(apart(tables_of, path, path=path, watch=Part(watch, 0.0, 0.5)), path)
            return placed(book, lines, contents, Part(watch, 0.5, 1.0))

        def came(rows: list[Placed]) -> None:
            self.busy, self._of = False, state
            self._rows = {str(row.said.number): _Row(row, wanted=row.sure) for row in rows}
            unsure = sum(not row.sure for row in rows)
            asked = f"; {unsure} {'is' if unsure == 1 else 'are'} not sure, and asked about first" if unsure else ""
            self.bench.report(f"{len(rows)} lines in {self.name}: {len(rows) - unsure} placed{asked}.")
            self.changed()

        self.bench.jobs.start(f"Read {self.name}", read, done=came, stopped=self._stopped)
        self.changed()

    def _stopped(self, why: BaseException) -> None:
        self.busy = False
        self.name = self.name if self._rows else ""
        self.bench.stopped(why)
        self.changed()

    def _state(self) -> tuple[object, ...]:
        """What the places were looked for in."""
        return tuple((c.id, c.reel, c.text, c.hearing, c.findings, c.recording) for c in self.bench.book.chapters)

    def _fresh(self) -> bool:
        now = self._state()
        return len(now) == len(self._of) and all(
            a is b
            for one, other in zip(now, self._of, strict=True)
            for a, b in zip(one, other, strict=True)  # type: ignore[call-overload]
        )

    def _reader(self) -> Read:
        read = self.bench.reader()

        def contents(chapter: ChapterState) -> tuple[Chapter, Hearing | None]:
            return read(Chapter, chapter.text), read(Hearing, chapter.hearing) if chapter.hearing else None

        return contents

    def look(self) -> None:
        """As `Page`: after a change of the book the lines that are left are placed anew; what the editor said stays."""
        if self.busy or not self._rows or self._fresh():
            return
        self.busy = True
        state, book, contents, before = self._state(), self.bench.book, self._reader(), dict(self._rows)

        def again(watch: Watch) -> list[_Row]:
            rows = placed(book, [row.placed.said for row in before.values()], contents, watch)
            found = []
            for old, new in zip(before.values(), rows, strict=True):
                spot, made = old.spot, _Row(new, wanted=new.sure and (old.wanted or not old.placed.sure))
                if old.by_hand and spot is not None and spot.count and any(c.id == spot.chapter for c in book.chapters):
                    words = range(spot.first, spot.first + spot.count)
                    own = here(book, book.chapter(spot.chapter), new.said, words, contents)
                    made = _Row(replace(new, spots=(own, *new.spots)), wanted=old.wanted, by_hand=True)
                found.append(made)
            return found

        def came(rows: list[_Row]) -> None:
            self.busy, self._of = False, state
            kept = {str(row.placed.said.number): row for row in rows}
            self._rows = {key: kept[key] for key in self._rows if key in kept}
            self.changed()

        self.bench.jobs.start(f"Place {self.name} anew", again, done=came, stopped=self._stopped, quiet=True)

    # --- the lines ------------------------------------------------------------------------------------------------

    def lines(self) -> Sequence[Line]:
        """As `Page`."""
        rows = sorted(self._rows.items(), key=lambda row: (row[1].placed.sure or row[1].by_hand, self._order(row[1])))
        return [
            Line(key, (says(row.placed.said), self._where(row), self._how(row)), checked=row.wanted if row.spot else False)
            for key, row in rows
        ]

    def _order(self, row: _Row) -> tuple[int, int, int]:
        spot = row.spot
        order = next((k for k, c in enumerate(self.bench.book.chapters) if spot and c.id == spot.chapter), -1)
        return order, spot.start if spot else 0, row.placed.said.number

    def _where(self, row: _Row) -> str:
        spot = row.spot
        number = next((k for k, c in enumerate(self.bench.book.chapters, 1) if spot and c.id == spot.chapter), 0)
        return f"{number}. {self.bench.time(spot.start, 0)}" if spot is not None and number else "nowhere"

    def _how(self, row: _Row) -> str:
        spot, many = row.spot, len(row.placed.spots)
        if row.by_hand:
            told = "by hand"
        else:
            told = row.placed.why
            if not row.placed.sure and many > 1:
                told = f"{row.at + 1} of {many}: {told}"
        return f"{told}; stands there already" if spot is not None and spot.double else told

    def about(self) -> str:
        """As `Page`: all that the line at hand says, and how its place is known."""
        row = self._rows.get(self.key)
        if row is None:
            return ""
        said, spot = row.placed.said, row.spot
        named = f"chapter {said.chapter}" if said.chapter.isdecimal() else said.chapter
        beside = ", ".join(filter(None, (said.who, named, f"page {said.page}" if said.page else "", said.time)))
        chapter = next((c.title for c in self.bench.book.chapters if spot and c.id == spot.chapter), "")
        place = f"{chapter}, {self.bench.time(spot.start, 0)}" if spot is not None else "No place"
        return f"Line {said.number}{f' ({beside})' if beside else ''}: {says(said, LONG)}. {place}: {self._how(row)}."

    def row(self) -> _Row | None:
        """The line at hand."""
        found = self._rows.get(self.key)
        if found is None:
            self.bench.tell(NO_LINE)
        return found

    def check(self, key: str, *, on: bool) -> None:
        """As `Page`: it is taken in, at the place that is shown; a line without a place can not be."""
        row = self._rows.get(key)
        if row is None:
            return
        if on and row.spot is None:
            self.bench.tell(f"This line has no place yet: {row.placed.why}. Mark its words, then say that it is here.")
        self._rows[key] = replace(row, wanted=on and row.spot is not None, by_hand=row.by_hand or (on and not row.placed.sure))
        self.changed()

    def choose(self) -> None:
        """As `Page`."""
        self.go()

    def go(self) -> None:
        """As `Page`: the place that is meant."""
        row = self._rows.get(self.key)
        if row is not None and row.spot is not None:
            self._go(row.spot)

    def _go(self, spot: Spot) -> None:
        if not any(c.id == spot.chapter for c in self.bench.book.chapters):
            return
        self.bench.open_chapter(spot.chapter)
        if spot.count and spot.stop > spot.start:
            self.editing.select(spot.start, spot.stop, words=True)
        self.transport.go_to(spot.start, look=True)

    def hear(self) -> None:
        """As `Page`."""
        row = self.row()
        if row is None:
            return
        if row.spot is None:
            self.bench.tell(f"This line has no place yet: {row.placed.why}.")
            return
        self._go(row.spot)
        around = round(AROUND_S * self.bench.book.rate)
        self.transport.hear(row.spot.start - around, row.spot.stop + around)

    def next_place(self) -> None:
        """The next place that the line at hand may mean."""
        row = self.row()
        if row is None:
            return
        if len(row.placed.spots) < 2:
            self.bench.tell("There is no other place that this line may mean. Mark its words, then say that it is here.")
            return
        at = (row.at + 1) % len(row.placed.spots)
        self._rows[self.key] = replace(row, at=at, wanted=False, by_hand=False)
        self.changed()
        self.go()

    def is_here(self) -> bool:
        """The line at hand means the words or the sound that is marked, else the word at the cursor."""
        row, chapter = self.row(), self.bench.chapter
        if row is None or chapter is None or chapter.reel is None:
            return False
        first, last = self.editing.words()
        span = self.editing.span
        word = self.editing.word_at(self.transport.spot)
        place: range | Span
        if first >= 0:
            place = range(first, last + 1)
        elif span is not None:
            place = span
        elif word is not None and word.word >= 0:
            place = range(word.word, word.word + 1)
        else:
            place = Span(self.transport.spot, self.transport.spot)
        spot = here(self.bench.book, chapter, row.placed.said, place, self._at_hand)
        spots = (spot, *(s for s in row.placed.spots if (s.chapter, s.first, s.count) != (spot.chapter, spot.first, spot.count)))
        self._rows[self.key] = _Row(replace(row.placed, spots=spots), wanted=True, by_hand=True)
        self.changed()
        return True

    def _at_hand(self, chapter: ChapterState) -> tuple[Chapter, Hearing | None]:
        return self.bench.text(chapter), self.bench.hearing(chapter)

    def remove(self) -> None:
        """As `Page`: the line is left out."""
        if self.row() is not None:
            del self._rows[self.key]
            self.changed()

    def take_in(self) -> bool:
        """Take all lines in that are marked, as one step; the others stay in the list."""
        if self._rows and (self.busy or not self._fresh()):
            self.bench.tell(AGAIN)
            self.look()
            return False
        rows = [(key, row.placed.said, row.spot) for key, row in self._rows.items() if row.wanted and row.spot is not None]
        if not rows:
            self.bench.tell("No line is marked to be taken in." if self._rows else self.empty)
            return False
        step = taken(self.bench.book, [(said, spot) for _, said, spot in rows if spot], self.who, self.name, self._at_hand)
        if not self.bench.do(step):
            return False
        for key, _, _ in rows:
            del self._rows[key]
        joined = f", {len(step.joined)} stood there already and say now who said so too" if step.joined else ""
        left = f"; {len(self._rows)} lines are left" if self._rows else ""
        new = len(step.added)
        self.bench.report(f"{new} new finding{'' if new == 1 else 's'} from {self.name}{joined}{left}.")
        self.changed()
        return True


def says(said: Said, most: int = LONGEST) -> str:
    """What a line says, in a few words."""
    words = " → ".join(filter(None, (said.written or said.line, said.heard))) if said.written or said.line else ""
    words = words or (f"added: {said.heard}" if said.heard else "")
    told = " · ".join(filter(None, (words, said.remark or said.kind))) or kind_of(said).value
    return told if len(told) <= most else told[: most - 1] + "…"
