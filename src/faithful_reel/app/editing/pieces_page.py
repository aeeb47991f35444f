"""The pieces and joins of a lane as a list.  No Qt."""

from __future__ import annotations

from collections.abc import Sequence

from faithful_reel.app.editing.pages import LEAD_S, NO_LINE, TAIL_S, Described, Line, Page
from faithful_reel.app.editing.presenter import Editing
from faithful_reel.app.splice.presenter import SplicePresenter
from faithful_reel.core.memo import Memo
from faithful_reel.core.reel.commands import NamePiece
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.work.offcuts import Said
from faithful_reel.core.work.pieces import Row, pieces_of
from faithful_reel.core.work.seams import joins_heard

AROUND = 1.4
"""How much more than a piece is looked at."""
MOST_MEASURED = 300
"""So many joins are measured without being asked for."""


class PiecesPage(Page):
    """The pieces of the lane in hand, else of the first: choosing one marks and shows it."""

    title = "Pieces and joins"
    heads = ("piece", "at", "length", "join", "from", "gain", "cut before", "cut after")
    widths = (98, 74, 54, 112, 150, 60, 110, 110)
    enter = "list.hear"
    buttons = (
        ("Hear it", "list.hear"), ("Hear its join", "piece.join"), ("Go there", "list.go"), ("Describe…", "list.describe"),
        ("Measure the joins", "piece.measure"),
    )  # fmt: skip
    told = "Of the lane in hand. Choosing a piece marks it. A join is measured against natural boundaries of the same reading."

    def __init__(self, editing: Editing, splicing: SplicePresenter) -> None:
        super().__init__(editing)
        self._splicing = splicing
        self._rows: Memo[list[Row]] = Memo()
        splicing.listen(self.changed)

    @property
    def empty(self) -> str:
        """As `Page`."""
        return "This chapter has no recording yet. Pair one with it at Intake."

    def _lane(self, reel: Reel) -> int:
        own = self.editing.lane
        return own if own >= 0 else next((k for k, lane in enumerate(reel.lanes) if not lane.music), 0)

    def rows(self) -> list[Row]:
        """The pieces."""
        found = self.editing.found()
        if found is None:
            return []
        chapter, reel = found
        book, number = self.bench.book, self._lane(reel)
        tokens, hearing, text = self.bench.tokens(chapter), self.bench.hearing(chapter), self.bench.text(chapter)

        def made() -> list[Row]:
            said = Said(book, chapter, text, hearing.heard if hearing else ())
            return pieces_of(book, reel.lanes[number], number, tokens, said.words)

        return self._rows.of((chapter.id, number), (reel.lanes[number], tokens), made)

    def look(self) -> None:
        """As `Page`: the joins of a chapter that was heard are measured beside the work, where they are not too many."""
        chapter, found = self.bench.chapter, self.editing.found()
        if chapter is not None and chapter.hearing and found is not None and len(joins_heard(found[1])) <= MOST_MEASURED:
            self._splicing.look_at_joins()

    def lines(self) -> Sequence[Line]:
        """As `Page`."""
        found = self.editing.found()
        if found is None:
            return ()
        number, rate = self._lane(found[1]), self.bench.book.rate
        measured = self._splicing.joins if self._splicing.joins_of is found[1] else None
        seams = {(j.lane, j.index): j.seam.ease.value for j in measured or ()}
        segments = found[1].lanes[number].segments
        lines = []
        for row in self.rows():
            join = ""
            if row.join is not None:
                shape = "equal gain" if row.join.shape == "equal_gain" else "equal power"
                told = f"{1000 * row.join.length / rate:.0f} ms, {shape}" if row.join.length else "runs on"
                join = ", ".join(filter(None, (told, seams.get((number, row.index), ""))))
            source = f"{row.source} {self.bench.time(row.start, 0)}".strip() if row.source else ""
            gain = f"{row.gain_db:+.1f} dB".replace("-", "−") if row.gain_db else ""
            cells = (
                row.name, self.bench.time(row.span.start, 1), f"{len(row.span) / rate:.2f} s", join, source, gain,
                _told(row.cut_before), _told(row.cut_after),
            )  # fmt: skip
            lines.append(Line(str(row.index), cells, segments[row.index].color))
        return lines

    def about(self) -> str:
        """As `Page`: all of the line at hand, which is wider than the list."""
        line = next((one for one in self.lines() if one.key == self.key), None)
        told = zip(self.heads[1:], line.cells[1:], strict=True) if line is not None else ()
        return f"{line.cells[0]}: {'; '.join(f'{head} {cell}' for head, cell in told if cell)}." if line is not None else ""

    def row(self) -> Row | None:
        """The piece at hand."""
        found = next((r for r in self.rows() if str(r.index) == self.key), None)
        if found is None:
            self.bench.tell(NO_LINE)
        return found

    def choose(self) -> None:
        """Mark the piece at hand, and show it."""
        row, found = self.row(), self.editing.found()
        if row is None or found is None:
            return
        self.editing.select(row.span.start, row.span.stop, drawn=found[1].lanes[self._lane(found[1])].id)
        if not self.transport.playing:
            seconds = AROUND * len(row.span) / self.bench.book.rate
            self.transport.look_at((row.span.start + row.span.stop) // 2, spot=row.span.start, span_s=seconds)

    def go(self) -> None:
        """As `Page`."""
        row = self.row()
        if row is not None:
            self.transport.go_to(row.span.start, look=True)

    def hear(self) -> None:
        """As `Page`."""
        row = self.row()
        if row is not None:
            self.transport.hear(row.span.start, row.span.stop)

    def hear_join(self) -> None:
        """Hear how the piece at hand takes over."""
        row, rate = self.row(), self.bench.book.rate
        if row is not None:
            self.transport.hear(row.span.start - round(LEAD_S * rate), row.span.start + round(TAIL_S * rate))

    def measure(self) -> None:
        """Measure the joins of the chapter, beside the work."""
        if self.bench.chapter is None or not self.bench.chapter.hearing:
            self.bench.tell("Joins are measured against the reading's natural boundaries. Hear this chapter first (Ctrl+E).")
        else:
            self._splicing.look_at_joins()

    def description(self) -> Described | None:
        """As `Page`."""
        row, found = self.row(), self.editing.found()
        if row is None or found is None:
            return None
        segment = found[1].lanes[self._lane(found[1])].segments[row.index]
        return Described(segment.name, segment.color, segment.note)

    def describe(self, said: Described) -> None:
        """As `Page`."""
        row, found = self.row(), self.editing.found()
        if row is not None and found is not None:
            edit = NamePiece(row.index, said.name, said.color, said.note, self._lane(found[1]))
            self.editing.do(found[0], lambda: [edit], "Name a piece", said.name.strip())


def _told(cut: tuple[float, str]) -> str:
    """What was cut, for a line."""
    seconds, words = cut
    return f"{seconds:.2f} s {words}".strip() if seconds else ""
