"""Setting the lines of a page: words are given their places by width and time.  No Qt: widths come from a function."""

from __future__ import annotations

import time
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from enum import IntEnum
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from faithful_reel.app.widgets.galley.content import Cell, Cells, GalleyContent
from faithful_reel.core.collate.findings import Kind
from faithful_reel.core.work.page import Mark

FEW_CELLS = 400
"""A chapter with fewer words is set at once."""
LOWEST, TALLEST, WIDEST = 0.6, 3.0, 600.0
LEAST_WIDE = 80.0
"""Pixels a second: with less the words' own widths decide."""
ON_WORDS = frozenset({Kind.MISREAD, Kind.SKIPPED, Kind.NAME, Kind.OTHER, None})
ON_EXTRA = frozenset({Kind.ADDED, Kind.REPEATED, Kind.FALSE_START})


class Face(IntEnum):
    """Which letters a word is set in, as far as they differ in width."""

    TEXT = 0
    HEADING = 1
    EXTRA = 2


Widths = Callable[[str, Face], float]


SEVERAL = 0.6
"""How high each strip is beside a single one, where a line has several."""


@dataclass(frozen=True)
class Measures:
    """Sizes on the page in pixels, at a scale that follows the letters.

    `tall` is how high a strip is, times the usual; `wide` how many pixels a second takes at least, 0: as the words fall.
    """

    scale: float = 1.0
    tall: float = 1.0
    wide: float = 0.0
    strips: int = 1

    @cached_property
    def left(self) -> float:
        """Where lines begin."""
        return 78.0 * self.scale

    @cached_property
    def right(self) -> float:
        """Width of the margin for notes."""
        return 132.0 * (1 + self.scale) / 2

    @cached_property
    def text_h(self) -> float:
        """Height of a line's words."""
        return 31.0 * self.scale

    @cached_property
    def strip_h(self) -> float:
        """Height of one strip; of several each is less high."""
        return 30.0 * self.tall * (1.0 if self.strips == 1 else SEVERAL)

    @cached_property
    def sound_h(self) -> float:
        """Height of all strips of a line."""
        return self.strips * self.strip_h + (self.strips - 1) * self.between

    between = 3.0
    space = 7.0
    top = 14.0
    foot = 26.0

    @cached_property
    def gap_h(self) -> float:
        """What is left free under the strips."""
        return 19.0 * self.scale

    @cached_property
    def line_h(self) -> float:
        """Height of a line with its strips."""
        return self.text_h + self.sound_h + self.gap_h

    def strip_top(self, strip: int) -> float:
        """Where a strip begins, from the top of its line."""
        return self.text_h + strip * (self.strip_h + self.between)

    def zoomed(self, *, tall: float, wide: float) -> Measures:
        """With other strips, within bounds."""
        wide = min(WIDEST, max(0.0, wide))
        return replace(self, tall=min(TALLEST, max(LOWEST, tall)), wide=wide if wide >= LEAST_WIDE else 0.0)


@dataclass(slots=True, eq=False)
class Line:
    """A set line.  Its cells count from `first`, its times from `at`, so that an edit before it only moves these two.

    A word that is wider than a line goes on over several: `parts` holds which of its letters stand here, by its cell, and
    `continues` says that the first one began on an earlier line.
    """

    first: int = 0
    at: int = 0
    cells: list[tuple[int, float, float]] = field(default_factory=list)  # (cell, left, right)
    xs: list[float] = field(default_factory=list)
    ts: list[float] = field(default_factory=list)
    heading: bool = False
    parts: dict[int, slice] = field(default_factory=dict)
    continues: bool = False

    def x_of(self, position: float) -> float:
        """Where a sample stands; the line's ends for those beyond them."""
        return _between(position - self.at, self.ts, self.xs) if self.ts else self.cells[0][1] if self.cells else 0.0

    def t_of(self, x: float) -> float:
        """The sample that stands at a place; -1 where nothing is heard."""
        return _between(x, self.xs, self.ts) + self.at if self.ts else -1.0

    def placed(self) -> list[tuple[int, float, float]]:
        """(cell, left, right) of its cells."""
        return [(self.first + k, a, b) for k, a, b in self.cells]

    def letters(self, cell: int, text: str) -> str:
        """What of a word's text stands in this line."""
        return text[self.parts[cell - self.first]] if self.parts and cell - self.first in self.parts else text

    @property
    def stop(self) -> int:
        """The cell after its last."""
        return self.first + len(self.cells)


def _between(value: float, xs: Sequence[float], ys: Sequence[float]) -> float:
    """Linear interpolation between rising knots."""
    if value <= xs[0]:
        return float(ys[0])
    if value >= xs[-1]:
        return float(ys[-1])
    k = bisect_right(xs, value)
    a, b = xs[k - 1], xs[k]
    return float(ys[k - 1] + (ys[k] - ys[k - 1]) * (value - a) / (b - a))


@dataclass(slots=True)
class Block:
    """The lines of one paragraph: cells `first` to `stop`."""

    first: int
    stop: int
    lines: list[Line] = field(default_factory=list)


class Setting:
    """The lines of a page.  After a change only the paragraphs that changed are set anew; those that moved in time wait."""

    def __init__(self, width_of: Widths) -> None:
        self.content = GalleyContent()
        self.measures = Measures()
        self.width = 0
        self.lines: list[Line] = []
        self.line_of: list[int] = []
        self.starts: list[float] = []
        self.written: list[int] = []
        self.stale: list[Block] = []
        self._blocks: list[Block] = []
        self._extra: list[int] = []
        self._following: NDArray[np.int64] = np.zeros(0, np.int64)
        self._width_of = width_of
        self._widths: dict[tuple[str, Face], float] = {}

    def use_widths(self, width_of: Widths) -> None:
        """Letters of another size: all is to be set anew."""
        self._width_of = width_of
        self._widths = {}
        self.forget()

    def forget(self) -> None:
        """Nothing of what is set is kept: another chapter."""
        self._blocks = []

    def set(self, content: GalleyContent, width: int, measures: Measures, shown: tuple[int, int] = (0, 0)) -> bool:
        """Set a page; `shown` are the first and the last cell in sight.  Whether any line may have moved."""
        same = width == self.width and measures == self.measures and content.lines == self.content.lines
        before, self.content, self.measures, self.width = self.content, content, measures, width
        if same and self._blocks and before.cells is content.cells and before.length == content.length:
            return False
        cells = content.cells
        self._following = _following_starts(cells.starts, content.length)
        blocks = [Block(a, b) for a, b in _blocks_of(cells)]
        if same and self._blocks:
            self._set_changed(blocks, before, shown)
        else:
            self.stale = []
            for block in blocks:
                self._set(block)
        self._blocks = blocks
        self._gather()
        return True

    def _set_changed(self, blocks: list[Block], before: GalleyContent, shown: tuple[int, int]) -> None:
        """Keep the lines of paragraphs that are as they were, or only moved; set the others."""
        cells, old = self.content.cells, self._blocks
        shift = self.content.length - before.length
        head, tail = _same_ends(before.cells, cells, shift)
        moved = len(cells) - len(before.cells)
        by_first = {block.first: block for block in old}
        waiting = {id(block) for block in self.stale}
        alike = _same_texts(before.cells, cells, old, blocks)
        self.stale = []
        for block in blocks:
            # a block's last gap reaches to the next start, so the one before a change is set anew as well
            kept = by_first.get(block.first) if block.stop < head else None
            if kept is not None and kept.stop == block.stop:
                block.lines = kept.lines
                self.stale += [block] * (id(kept) in waiting)
                continue
            kept = by_first.get(block.first - moved) if block.first >= len(cells) - tail and block.first > 0 else None
            if kept is not None and kept.stop == block.stop - moved:
                block.lines = kept.lines
                for line in block.lines:
                    line.first += moved
                    line.at += shift
                self.stale += [block] * (id(kept) in waiting)
                continue
            kept = alike.get(block.first)
            if kept is None or (kept.first <= shown[1] and kept.stop > shown[0]) or len(cells) < FEW_CELLS:
                self._set(block)
                continue
            block.lines = kept.lines  # as they stood, until there is time to set them anew
            for line in block.lines:
                line.first += block.first - kept.first
            self.stale.append(block)

    def set_some(self, budget_s: float) -> None:
        """Set paragraphs that wait, for a moment."""
        begun = time.perf_counter()
        while self.stale and time.perf_counter() - begun < budget_s:
            block = self.stale.pop(0)
            block.lines = []
            self._set(block)
        self._gather()

    def _gather(self) -> None:
        """The lines of all paragraphs, and what is looked up in them."""
        written = self.content.cells.words
        self.lines = [line for block in self._blocks for line in block.lines]
        self.line_of = [n for n, line in enumerate(self.lines) for _ in line.cells[1 if line.continues else 0 :]]
        last = 0.0
        self.starts = [last := max(last, line.at + line.ts[0] if line.ts else -1.0) for line in self.lines]
        self._extra = np.flatnonzero(written < 0).tolist()
        self.written = np.maximum.accumulate(written).tolist() if len(written) else []

    # --- one paragraph --------------------------------------------------------------------------------------------

    def _set(self, block: Block) -> None:
        """Set the lines of one paragraph."""
        m, cells, rate, widths = self.measures, self.content.cells, self.content.rate, self._widths
        following = self._following[block.first : block.stop].tolist()
        left, right, space, pps = m.left, self.width - m.right, m.space, m.wide
        widest, per_second = max(84.0, 0.6 * pps), max(48.0, pps)
        heading, extra, plain, breaks = Face.HEADING, Face.EXTRA, Face.TEXT, self.content.lines
        line = Line(block.first)
        indent = 22.0 * m.scale
        x = left + (indent if block.first and not cells[block.first].heading else 0.0)
        stop = 0
        for index in range(block.first, block.stop):
            cell = cells[index]
            heard = cell.start >= 0
            face = heading if cell.heading else extra if cell.extra else plain
            size = widths.get((cell.text, face))
            if size is None:
                size = widths[cell.text, face] = self._width_of(cell.text, face)
            if pps and heard:
                size = max(size, pps * (cell.stop - cell.start) / rate)
            verse = cell.word in breaks and not cell.extra
            if line.cells and (verse or x + size > right):
                self._close(block, line, x, following[index - 1 - block.first], stop)
                line = Line(index)
                x = left + (indent if verse else 0.0)
            line.heading = line.heading or cell.heading
            if x + size > right:
                line, x = self._set_long(block, line, x, cell)
            else:
                x = self._place(line, cell, index, x, size)
            stop = cell.stop if heard else stop
            gap = (following[index - block.first] - stop) / rate if cell.stop >= 0 else 0.0
            x += space + (min(widest, (gap - 0.08) * per_second) if gap > 0.08 else 0.0)
        if line.cells:
            self._close(block, line, x, following[-1], stop)

    def _place(self, line: Line, cell: Cell, index: int, x: float, size: float) -> float:
        """Put a word on a line; where it ends."""
        if cell.start >= 0:
            if not line.ts:
                if not index and cell.start > 0:  # the head of the chapter, before the first word
                    line.xs.append(x)
                    line.ts.append(0.0)
                    x += 26.0
                else:
                    line.at = cell.start
            start = max(float(cell.start) - line.at, line.ts[-1] if line.ts else 0.0)
            line.xs += [x, x + size]
            line.ts += [start, max(start, float(cell.stop) - line.at)]
        line.cells.append((index - line.first, x, x + size))
        return x + size

    def _set_long(self, block: Block, line: Line, x: float, cell: Cell) -> tuple[Line, float]:
        """A word that no line can hold, over as many as it takes; the line that its end stands on, and where that is."""
        index = line.first + len(line.cells)
        face = Face.HEADING if cell.heading else Face.EXTRA if cell.extra else Face.TEXT
        right, at, per_letter = self.width - self.measures.right, 0, (cell.stop - cell.start) / max(1, len(cell.text))
        while True:
            count = self._letters(cell.text[at:], face, max(0.0, right - x))
            room = max(1.0, right - x)
            size = room if count == len(cell.text) else min(max(self._width_of(cell.text[at : at + count], face), 1.0), room)
            line.parts[index - line.first] = slice(at, at + count)
            first, stop = (round(cell.start + per_letter * k) for k in (at, at + count))
            part = cell._replace(start=first, stop=stop) if cell.start >= 0 else cell
            x = self._place(line, part, index, x, size)
            at += count
            if at >= len(cell.text):
                return line, x
            block.lines.append(line)
            line, x = Line(index, continues=True, heading=cell.heading), self.measures.left

    def _letters(self, text: str, face: Face, room: float) -> int:
        """How many letters of a word fit, at least one."""
        fits = bisect_right(range(1, len(text) + 1), room, key=lambda n: self._width_of(text[:n], face))
        return max(1, fits)

    def _close(self, block: Block, line: Line, x: float, following: float, stop: int) -> None:
        if line.ts and following > stop:
            end = min(max(x, line.xs[-1] + 8), self.width - self.measures.right + 30)
            line.xs.append(max(end, line.xs[-1]))
            line.ts.append(max(following - line.at, line.ts[-1]))
        block.lines.append(line)

    # --- places ---------------------------------------------------------------------------------------------------

    def line_at(self, position: float) -> int:
        """The line in which a sample is heard."""
        return max(0, bisect_right(self.starts, position) - 1)

    def cell_at(self, position: int) -> int:
        """The word that is heard at a sample; -1 in a pause."""
        if position < 0 or not self.lines:
            return -1
        cells = self.content.cells
        line = self.lines[self.line_at(position)]
        return next((i for i in range(line.first, line.stop) if cells.starts[i] <= position < cells.stops[i]), -1)

    def cell_of(self, word: int) -> int:
        """The cell of a written word; -1 where it is not on the page."""
        index = bisect_left(self.written, word) if word >= 0 else len(self.written)
        return index if index < len(self.written) and self.content.cells.words[index] == word else -1

    def nearest(self, line: int, x: float) -> tuple[int, float, float] | None:
        """(cell, left, right) of the word in a line that is nearest to a place."""
        row = self.lines[line].placed()
        return min(row, key=lambda c: 0 if c[1] <= x <= c[2] else min(abs(x - c[1]), abs(x - c[2])), default=None)

    def cells_of(self, mark: Mark) -> list[int]:
        """The cells that a mark stands on: written words, or the extra heard ones within its time."""
        cells = self.content.cells
        if mark.kind in ON_WORDS and mark.count:
            first, stop = bisect_left(self.written, mark.first), bisect_left(self.written, mark.first + mark.count)
            return [i for i in range(first, stop) if cells.words[i] >= 0]
        if mark.kind in ON_EXTRA:
            return [i for i in self._extra if 0 <= cells.starts[i] < mark.stop and cells.stops[i] > mark.start]
        return []

    def line_of_mark(self, mark: Mark) -> int | None:
        """The line beside which a mark's note stands."""
        cells = self.cells_of(mark)
        if cells:
            return self.line_of[cells[0]]
        if mark.start >= 0 and self.lines:
            return self.line_at(mark.start)
        found = bisect_left(self.written, mark.first)
        return self.line_of[found] if found < len(self.line_of) else None


def _following_starts(starts: NDArray[np.int64], length: int) -> NDArray[np.int64]:
    """For every cell the start of the next one that is heard, or the end of the chapter."""
    count = len(starts)
    heard = np.where(starts >= 0, np.arange(count), count)
    following = np.append(np.minimum.accumulate(heard[::-1])[::-1][1:], count) if count else heard
    return np.append(starts, length)[following]


def _blocks_of(columns: Cells) -> list[tuple[int, int]]:
    """The paragraphs as ranges of cells, each with the heard-only words that stand in it."""
    count = len(columns.words)
    if not count:
        return []
    written = np.maximum.accumulate(np.where(columns.words >= 0, np.arange(count), 0))
    firsts = [0, *(np.flatnonzero(np.diff(columns.paragraphs[written])) + 1).tolist()]
    return list(zip(firsts, [*firsts[1:], count], strict=True))


def _same_texts(old: Cells, new: Cells, before: Sequence[Block], now: Sequence[Block]) -> dict[int, Block]:
    """The old block of every new one that holds the same words in the same styles, by the new one's first cell."""
    if len(before) != len(now):
        return {}
    return {
        b.first: a
        for a, b in zip(before, now, strict=True)
        if a.stop - a.first == b.stop - b.first
        and old.texts[a.first : a.stop] == new.texts[b.first : b.stop]
        and np.array_equal(old.words[a.first : a.stop], new.words[b.first : b.stop])
    }


def _same_ends(old: Cells, new: Cells, shift: int) -> tuple[int, int]:
    """How many cells at the beginning are the same, and how many at the end are but for a shift in time."""
    most = min(len(old.words), len(new.words))

    def differing(a: Cells, b: Cells, by: int, ends: slice) -> NDArray[np.bool_]:
        moved = np.where(a.starts[ends] >= 0, by, 0)
        times = (a.starts[ends] + moved != b.starts[ends]) | (a.stops[ends] + moved != b.stops[ends])
        return np.asarray(times | (a.words[ends] != b.words[ends]) | (a.paragraphs[ends] != b.paragraphs[ends]))

    unlike = np.flatnonzero(differing(old, new, 0, slice(most)))
    head = int(unlike[0]) if len(unlike) else most
    if old.texts[:head] != new.texts[:head]:
        head = 0
    if head == len(old.words) == len(new.words) and not shift:
        return head + 1, 0
    if not most - head:
        return head, 0
    unlike = np.flatnonzero(differing(old, new, shift, slice(-(most - head), None)))
    tail = most - head - 1 - int(unlike[-1]) if len(unlike) else most - head
    return head, tail if not tail or old.texts[-tail:] == new.texts[-tail:] else 0
