"""The galley: manuscript lines with their strips of sound, words above the sound they belong to."""

from __future__ import annotations

import time
from bisect import bisect_left, bisect_right
from collections import OrderedDict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import NamedTuple, overload

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPoint, QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import (
    QFontMetricsF,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QResizeEvent,
)
from PyQt6.QtWidgets import QAbstractScrollArea, QWidget

from faithful_reel.app.theme import DAY, Theme, control_font, reading_font
from faithful_reel.app.widgets.turns import own_turn

LEFT, RIGHT = 78.0, 132.0
TEXT_H, STRIP_H, GAP_H = 31.0, 30.0, 19.0
LINE_H = TEXT_H + STRIP_H + GAP_H
SPACE = 7.0
OTHER_H = 7.0
FEW_CELLS = 400
"""A chapter with fewer words is set at once."""
SLICE_S = 0.012
PAINT_S = 0.005
"""How long a turn draws lines anew; what is left then comes in the next."""
LOWEST, TALLEST, WIDEST = 0.6, 3.0, 600.0
CACHE = 80
Columns = Callable[[NDArray[np.float64]], NDArray[np.float32]]


class Cell(NamedTuple):
    """One word to set: `start` and `stop` are samples, -1 where it is not heard; `word` is -1 for heard-only words."""

    text: str
    word: int
    start: int
    stop: int
    extra: bool = False
    paragraph: int = 0
    heading: bool = False
    italic: bool = False


@dataclass(frozen=True, slots=True, eq=False)
class Cells(Sequence[Cell]):
    """The words of a page as columns; a cell is made when it is asked for."""

    texts: Sequence[str]
    words: NDArray[np.int64]
    starts: NDArray[np.int64]
    stops: NDArray[np.int64]
    paragraphs: NDArray[np.int64]
    headings: NDArray[np.int64]
    italics: NDArray[np.int64]

    @classmethod
    def of(cls, cells: Iterable[Cell]) -> Cells:
        """From cells one by one."""
        texts, words, starts, stops, _, *styles = zip(*cells, strict=True) if (cells := list(cells)) else ((),) * 8
        return cls(texts, *(np.array(column, np.int64) for column in (words, starts, stops, *styles)))

    def __len__(self) -> int:
        return len(self.texts)

    @overload
    def __getitem__(self, index: int) -> Cell: ...
    @overload
    def __getitem__(self, index: slice) -> list[Cell]: ...
    def __getitem__(self, index: int | slice) -> Cell | list[Cell]:
        if isinstance(index, slice):
            return [self[i] for i in range(*index.indices(len(self)))]
        word = int(self.words[index])
        start, stop, paragraph = int(self.starts[index]), int(self.stops[index]), int(self.paragraphs[index])
        heading, italic = bool(self.headings[index]), bool(self.italics[index])
        return Cell(self.texts[index], word, start, stop, word < 0, paragraph, heading, italic)


@dataclass(frozen=True, slots=True)
class Mark:
    """A finding as it is drawn: over written words `first` to `last`, or at samples `start` to `stop` where it has none."""

    id: str
    kind: str
    first: int
    count: int
    start: int
    stop: int
    note: str
    decision: str
    doubtful: bool = False


@dataclass(frozen=True, slots=True)
class Other:
    """Another reading of written words `first` to `first + count`, in samples of the recording; drawn under their line."""

    id: str
    first: int
    count: int
    start: int
    stop: int


@dataclass(frozen=True, slots=True)
class GalleyContent:
    """All that a galley shows."""

    cells: Cells = field(default_factory=partial(Cells.of, ()))
    marks: tuple[Mark, ...] = ()
    joins: tuple[int, ...] = ()
    length: int = 0
    rate: int = 44_100
    pages: tuple[tuple[int, int], ...] = ()
    """(word, page) where a page of the manuscript begins."""
    breaks: frozenset[int] = frozenset()
    """Paragraphs with which a new scene begins."""
    others: tuple[Other, ...] = ()
    """Other readings of lines, in order of their first word."""
    other_columns: Columns | None = None
    """The sound of the recording that they are in."""
    under: Callable[[int, int], object] | None = None
    """What sounds between two samples, as a value that is equal where the sound is: a strip is drawn anew when it changes."""


@dataclass(slots=True, eq=False)
class _Line:
    """A set line.  Its cells count from `first`, its times from `at`, so that an edit before it only moves these two."""

    first: int = 0
    at: int = 0
    cells: list[tuple[int, float, float]] = field(default_factory=list)  # (cell, left, right)
    xs: list[float] = field(default_factory=list)
    ts: list[float] = field(default_factory=list)
    heading: bool = False

    def x_of(self, position: float) -> float:
        return float(np.interp(position - self.at, self.ts, self.xs)) if self.ts else LEFT

    def t_of(self, x: float) -> float:
        return float(np.interp(x, self.xs, self.ts)) + self.at if self.ts else -1.0

    def placed(self) -> list[tuple[int, float, float]]:
        """(cell, left, right) of its cells."""
        return [(self.first + k, a, b) for k, a, b in self.cells]


class _Measures:
    """What paragraphs are set by: the start of the next word after every cell, the right edge, fonts, widths of words."""

    def __init__(self, following: NDArray[np.int64], right: float) -> None:
        self.following, self.right = following, right
        self.metrics = tuple(QFontMetricsF(f) for f in (reading_font(18), reading_font(22, strong=True), control_font(13)))
        self.widths: dict[tuple[str, int], float] = {}


@dataclass(slots=True)
class _Block:
    """The lines of one paragraph: cells `first` to `stop`."""

    first: int
    stop: int
    lines: list[_Line] = field(default_factory=list)


def draw_sound(
    painter: QPainter, found: NDArray[np.float32], x: float, y: float, height: float, theme: Theme, scale: float, color: str = ""
) -> None:
    """Paint (2, width) minima and maxima, at `scale` device pixels a column, in a strip.

    Heights are compressed by a power of 0.6 so that a quiet word is still seen.
    """
    width = found.shape[1]
    rows = max(1, round(height * scale))
    if not width:
        return
    shaped = np.sign(found) * np.abs(found) ** np.float32(0.6)
    half = rows / 2
    top = np.clip(np.round(half - shaped[1] * half), 0, rows - 1)
    bottom = np.clip(np.round(half - shaped[0] * half), 1, rows)
    bottom = np.maximum(bottom, top + 1)
    index = np.arange(rows)[:, None]
    mask = (index >= top) & (index < bottom)
    pixels = np.ascontiguousarray(mask).view(np.uint8)
    image = QImage(pixels.tobytes(), width, rows, width, QImage.Format.Format_Indexed8)
    image.setColorTable([0, theme.color(color or "wave").rgba()])
    image.setDevicePixelRatio(scale)
    painter.drawImage(QPointF(x, y), image)


class Galley(QAbstractScrollArea):
    """The page.  Knows no book: it is given cells, marks and a function that draws sound."""

    word_clicked = pyqtSignal(int, int)  # cell, sample
    word_activated = pyqtSignal(int)  # sample
    selection_changed = pyqtSignal(int, int)  # first and last written word, -1 for none
    mark_clicked = pyqtSignal(str)
    menu_wanted = pyqtSignal(QPoint)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("galley")
        self.setAccessibleName("Galley: the chapter's words with their sound")
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumWidth(420)
        self._theme = DAY
        self._content = GalleyContent()
        self._columns: Columns | None = None
        self._lines: list[_Line] = []
        self._line_of: list[int] = []
        self._starts: list[float] = []
        self._marks_at: dict[int, list[Mark]] = {}
        self._notes: dict[int, list[Mark]] = {}
        self._blocks: list[_Block] = []
        self._written: list[int] = []
        self._extra: list[int] = []
        self._pixmaps: OrderedDict[_Line, tuple[object, QPixmap]] = OrderedDict()
        self._playhead = -1
        self._lit = -1
        self._cursor = -1
        self._anchor = -1
        self._selection = (-1, -1)
        self._current = ""
        self._show_doubtful = False
        self._empty = "Nothing to show yet."
        self._laid_width = 0
        self._measures = _Measures(np.zeros(0, np.int64), 0.0)
        self._strip_h, self._line_h = STRIP_H, LINE_H
        self._wide = 0.0
        self._unheard: list[tuple[int, int]] | None = None
        self._stale: list[_Block] = []
        self._held = -1, -1
        self._stale_timer = QTimer(self)
        self._stale_timer.timeout.connect(self._set_some)
        self._earlier: dict[int, QPixmap] = {}  # by the word that a line began with before the lines were set anew
        self._drawn_s = 0.0  # how long this turn has drawn lines anew
        self._paint_timer = own_turn(self, self._paint_all)

    # --- content --------------------------------------------------------------------------------------------------

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        self._theme = theme
        self._redraw()

    def set_content(self, content: GalleyContent, columns: Columns | None, *, keep_place: bool = False) -> None:
        """Show a chapter; `keep_place` keeps the scroll position."""
        bar = self.verticalScrollBar()
        place = bar.value() if bar and keep_place else 0
        before, self._content, self._columns = self._content, content, columns
        self._lit = self._playhead = -1 if not keep_place else self._playhead
        self._cursor = self._cursor if keep_place and self._cursor < len(content.cells) else -1
        if not keep_place:
            self._selection = (-1, -1)
            self._pixmaps.clear()  # of another chapter
        self._lay_out(before if keep_place else None)
        if bar:
            bar.setValue(place)

    def set_zoom(self, *, tall: float, wide: float) -> None:
        """How high the strips are, times the usual, and how many pixels a second takes at least; 0: as the words fall."""
        tall, wide = min(TALLEST, max(LOWEST, tall)), min(WIDEST, max(0.0, wide))
        if (STRIP_H * tall, wide) == (self._strip_h, self._wide):
            return
        top = self._top_cell()
        self._strip_h, self._wide = STRIP_H * tall, wide
        self._line_h = TEXT_H + self._strip_h + GAP_H
        self._pixmaps.clear()
        self._lay_out()
        bar = self.verticalScrollBar()
        if bar and 0 <= top < len(self._line_of):
            bar.setValue(int(self._line_of[top] * self._line_h))

    @property
    def line_height(self) -> float:
        """Height of a line with its strip."""
        return self._line_h

    def set_unheard(self, spans: Sequence[tuple[int, int]] | None) -> None:
        """What was not listened to yet, in order; lines without any get a hairline in the margin.  None: do not tell."""
        found = None if spans is None else list(spans)
        if found != self._unheard:
            self._unheard = found
            self._refresh()

    def _is_heard(self, line: _Line) -> bool:
        if self._unheard is None or not line.ts:
            return False
        start, stop = line.at + line.ts[0], line.at + line.ts[-1]
        at = max(0, bisect_right(self._unheard, (start, start)) - 1)
        tolerated = self._content.rate // 5
        return all(
            min(b, stop) - max(a, start) < tolerated for a, b in self._unheard[at : bisect_right(self._unheard, (stop, stop))]
        )

    def set_empty_text(self, text: str) -> None:
        """What stands on an empty page."""
        self._empty = text
        self._refresh()

    def set_show_doubtful(self, *, shown: bool) -> None:
        """Draw findings that are folded away as well."""
        if shown != self._show_doubtful:
            self._show_doubtful = shown
            self._index_marks()
            self._refresh()

    def set_current_mark(self, mark_id: str) -> None:
        """Show which finding is at hand, and bring it into view."""
        self._current = mark_id
        for mark in self._content.marks:
            if mark.id == mark_id:
                line = self._line_of_mark(mark)
                if line is not None:
                    self._show_line(line)
        self._refresh()

    @property
    def current_mark(self) -> str:
        """Which finding is at hand."""
        return self._current

    @property
    def lines(self) -> int:
        """How many lines are set."""
        return len(self._lines)

    @property
    def selection(self) -> tuple[int, int]:
        """First and last selected written word; (-1, -1) for none."""
        return self._selection

    @property
    def cursor_word(self) -> int:
        """The written word at the cursor, or before it; -1 before the first."""
        return self._written[self._cursor] if 0 <= self._cursor < len(self._written) else -1

    def go_to_word(self, word: int) -> None:
        """Put the cursor on a written word and bring it into view."""
        index = bisect_left(self._written, word)
        if index < len(self._written):
            self._cursor = self._anchor = index
            self._select(index, index)
            self._show_line(self._line_of[index])
            self.word_clicked.emit(index, int(self._content.cells.starts[index]))

    def _redraw(self) -> None:
        self._pixmaps.clear()
        self._earlier.clear()
        self._refresh()

    def _refresh(self) -> None:
        self._paint_timer.start()

    def _paint_all(self) -> None:
        port = self.viewport()
        if port:
            port.update()

    # --- layout ---------------------------------------------------------------------------------------------------

    def _lay_out(self, before: GalleyContent | None = None) -> None:
        """Set the lines; where the content `before` is given, only the paragraphs that changed since."""
        if before is not None and before.cells is self._content.cells and before.length == self._content.length:
            self._index_marks()
            self._refresh()
            return
        pictures = [(line.first, picture) for line, (_, picture) in self._pixmaps.items() if line.first < len(self._written)]
        self._earlier = {self._written[first]: picture for first, picture in pictures}
        port = self.viewport()
        width = port.width() if port else 600
        cells = self._content.cells
        blocks = [_Block(a, b) for a, b in _blocks_of(cells)]
        old = self._blocks if before is not None and width == self._laid_width else []
        self._laid_width = width
        shift = self._content.length - before.length if before is not None else 0
        head, tail = _same_ends(before.cells, cells, shift) if before is not None and old else (0, 0)
        moved = len(cells) - len(before.cells) if before is not None else 0
        by_first = {block.first: block for block in old}
        stale = {id(block) for block in self._stale}
        self._stale = []
        alike = _same_texts(before.cells, cells, old, blocks) if old and before is not None else {}
        first_cell, last_cell = self._shown_cells() if old else (0, 0)
        self._measures = _Measures(_following_starts(cells.starts, self._content.length), width - RIGHT)
        for block in blocks:
            # a block's last gap reaches to the next start, so the one before a change is set anew as well
            kept = by_first.get(block.first) if block.stop < head else None
            if kept is not None and kept.stop == block.stop:
                block.lines = kept.lines
                self._stale += [block] * (id(kept) in stale)
                continue
            kept = by_first.get(block.first - moved) if block.first >= len(cells) - tail and block.first > 0 else None
            if kept is not None and kept.stop == block.stop - moved:
                block.lines = kept.lines
                for line in block.lines:
                    line.first += moved
                    line.at += shift
                self._stale += [block] * (id(kept) in stale)
                continue
            kept = alike.get(block.first)
            shown = kept is None or (kept.first <= last_cell and kept.stop > first_cell)
            if kept is None or shown or len(cells) < FEW_CELLS:
                self._set(block)
                continue
            block.lines = kept.lines  # as they stood, until there is time to set them anew
            for line in block.lines:
                line.first += block.first - kept.first
            self._stale.append(block)
        self._blocks = blocks
        self._stale_timer.start(0) if self._stale else self._stale_timer.stop()
        self._held = -1, -1
        self._gather()

    def _shown_cells(self) -> tuple[int, int]:
        """The first and the last cell in sight, and a page on either side."""
        bar, port = self.verticalScrollBar(), self.viewport()
        top, height = (bar.value(), port.height()) if bar and port else (0, 0)
        last = len(self._lines) - 1
        if last < 0:
            return 0, 0
        first, stop = (min(last, max(0, int(y // self._line_h))) for y in (top - height, top + 2 * height))
        return self._lines[first].first, self._lines[stop].first + len(self._lines[stop].cells)

    def _set_some(self) -> None:
        """Set paragraphs anew whose words only moved in time, for a moment; what stands at the top stays there."""
        bar = self.verticalScrollBar()
        moved = not bar or bar.value() != self._held[1]
        top = self._top_cell() if moved else self._held[0]  # the same word through all turns, unless the page is scrolled
        begun, offset = time.perf_counter(), bar.value() % self._line_h if bar else 0.0
        while self._stale and time.perf_counter() - begun < SLICE_S:
            block = self._stale.pop(0)
            block.lines = []
            self._set(block)
        if not self._stale:
            self._stale_timer.stop()
        self._gather()
        if bar and 0 <= top < len(self._line_of):
            bar.setValue(round(self._line_of[top] * self._line_h + offset))
            self._held = top, bar.value()

    def finish(self) -> None:
        """Set at once what is still to be set."""
        while self._stale:
            self._set_some()

    def _gather(self) -> None:
        """The lines of all paragraphs, and what is looked up in them."""
        cells, port = self._content.cells, self.viewport()
        self._lines = [line for block in self._blocks for line in block.lines]
        self._line_of = [number for number, line in enumerate(self._lines) for _ in line.cells]
        last = 0.0
        self._starts = [last := max(last, line.at + line.ts[0] if line.ts else -1.0) for line in self._lines]
        written = cells.words
        self._extra = np.flatnonzero(written < 0).tolist()
        self._written = np.maximum.accumulate(written).tolist() if len(cells) else []
        self._index_marks()
        bar = self.verticalScrollBar()
        if bar and port:
            bar.setRange(0, max(0, int(len(self._lines) * self._line_h + 40 - port.height())))
            bar.setSingleStep(int(self._line_h / 2))
            bar.setPageStep(port.height())
        self._refresh()

    def _set(self, block: _Block) -> None:
        """Set the lines of one paragraph."""
        cells, rate, pps = self._content.cells, self._content.rate, self._wide
        m = self._measures
        following, right, metrics, widths = m.following, m.right, m.metrics, m.widths

        def wide(cell: Cell) -> float:
            kind = 1 if cell.heading else 2 if cell.extra else 0
            key = (cell.text, kind)
            if key not in widths:
                widths[key] = metrics[kind].horizontalAdvance(cell.text)
            spoken = pps * (cell.stop - cell.start) / rate if cell.start >= 0 else 0.0
            return max(widths[key], spoken)

        line = _Line(block.first)
        x = LEFT + (22.0 if block.first and not cells[block.first].heading else 0.0)
        stop = 0
        for index in range(block.first, block.stop):
            cell = cells[index]
            size = wide(cell)
            if line.cells and x + size > right:
                self._close(block, line, x, right, float(following[index - 1]), stop)
                line = _Line(index)
                x = LEFT
            line.heading = line.heading or cell.heading
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
                stop = cell.stop
            line.cells.append((index - line.first, x, x + size))
            gap = max(0.0, float(following[index] - stop) / rate) if cell.stop >= 0 else 0.0
            x += size + SPACE + min(max(84.0, 0.6 * pps), max(0.0, gap - 0.08) * max(48.0, pps))
        if line.cells:
            self._close(block, line, x, right, float(following[block.stop - 1]), stop)

    def _close(self, block: _Block, line: _Line, x: float, right: float, following: float, stop: int) -> None:
        if line.ts and following > stop:
            end = min(max(x, line.xs[-1] + 8), right + 30)
            line.xs.append(max(end, line.xs[-1]))
            line.ts.append(max(following - line.at, line.ts[-1]))
        block.lines.append(line)

    def _index_marks(self) -> None:
        self._marks_at, self._notes = {}, {}
        for mark in self._content.marks:
            if mark.doubtful and not self._show_doubtful:
                continue
            line = self._line_of_mark(mark)
            if line is None:
                continue
            self._notes.setdefault(line, []).append(mark)
            for number in {line, *(self._line_of[c] for c in self._cells_of(mark))}:
                self._marks_at.setdefault(number, []).append(mark)

    def _cells_of(self, mark: Mark) -> list[int]:
        """The cells that a mark stands on: written words, or the extra heard ones within its time."""
        cells = self._content.cells
        if mark.kind in ("misread", "skipped", "name", "other", "take") and mark.count:
            first, stop = bisect_left(self._written, mark.first), bisect_left(self._written, mark.first + mark.count)
            return [i for i in range(first, stop) if cells.words[i] >= 0]
        if mark.kind in ("added", "repeated", "false_start"):
            return [i for i in self._extra if 0 <= cells.starts[i] < mark.stop and cells.stops[i] > mark.start]
        return []

    def _line_of_mark(self, mark: Mark) -> int | None:
        cells = self._cells_of(mark)
        if cells:
            return self._line_of[cells[0]]
        if mark.start >= 0 and self._lines:
            return self._line_at(mark.start)
        found = bisect_left(self._written, mark.first)
        return self._line_of[found] if found < len(self._line_of) else None

    def _line_at(self, position: float) -> int:
        return max(0, bisect_right(self._starts, position) - 1)

    # --- place ----------------------------------------------------------------------------------------------------

    def set_playhead(self, position: int, *, follow: bool = False) -> None:
        """Show where sound is being heard; the word there is lit."""
        lit = self._cell_at(position)
        line = self._line_at(position) if position >= 0 and self._lines else -1
        if follow and line >= 0:
            self._show_line(line)
        before = self._playhead
        self._playhead, self._lit = position, lit
        port = self.viewport()
        if port and self._lines:
            for number in {self._line_at(before) if before >= 0 else -1, line} - {-1}:
                port.update(0, int(self._y(number)) - 2, port.width(), int(self._line_h) + 4)

    @property
    def lit_word(self) -> int:
        """The written word that is lit, -1 for none."""
        return self._content.cells[self._lit].word if 0 <= self._lit < len(self._content.cells) else -1

    def _cell_at(self, position: int) -> int:
        if position < 0 or not self._lines:
            return -1
        for index, _, _ in self._lines[self._line_at(position)].placed():
            cell = self._content.cells[index]
            if cell.start <= position < cell.stop:
                return index
        return -1

    def _y(self, line: int) -> float:
        bar = self.verticalScrollBar()
        return 14 + line * self._line_h - (bar.value() if bar else 0)

    def _show_line(self, line: int) -> None:
        bar, port = self.verticalScrollBar(), self.viewport()
        if not bar or not port:
            return
        y = 14 + line * self._line_h
        if y < bar.value() + self._line_h * 0.5:
            bar.setValue(int(y - self._line_h))
        elif y + self._line_h > bar.value() + port.height() - self._line_h * 0.5:
            bar.setValue(int(y + 2 * self._line_h - port.height()))

    def word_rect(self, word: int) -> QRectF:
        """Where a written word stands in the viewport; empty where it is not set."""
        index = bisect_left(self._written, word)
        if word >= 0 and index < len(self._written) and self._content.cells[index].word == word:
            number = self._line_of[index]
            line = self._lines[number]
            _, a, b = line.cells[index - line.first]
            return QRectF(a, self._y(number), b - a, TEXT_H)
        return QRectF()

    def _hit(self, point: QPointF) -> tuple[int, int]:
        """(cell, sample) at a point; (-1, -1) off the text."""
        bar = self.verticalScrollBar()
        number = int((point.y() + (bar.value() if bar else 0) - 14) // self._line_h)
        if not 0 <= number < len(self._lines):
            return -1, -1
        line = self._lines[number]
        nearest = min(
            line.cells,
            key=lambda c: 0 if c[1] <= point.x() <= c[2] else min(abs(point.x() - c[1]), abs(point.x() - c[2])),
            default=None,
        )
        if nearest is None:
            return -1, -1
        index = line.first + nearest[0]
        cell = self._content.cells[index]
        on_strip = point.y() - self._y(number) > TEXT_H
        position = int(line.t_of(point.x())) if on_strip or cell.start < 0 else cell.start
        return index, position

    # --- events ---------------------------------------------------------------------------------------------------

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # noqa: N802 - Qt's name
        """Set the lines anew where the width changed."""
        super().resizeEvent(event)
        port = self.viewport()
        if port and port.width() != self._laid_width:
            top = self._top_cell()
            self._lay_out()
            bar = self.verticalScrollBar()
            if bar and 0 <= top < len(self._line_of):
                bar.setValue(int(self._line_of[top] * self._line_h))
        else:
            bar = self.verticalScrollBar()
            if bar and port:
                bar.setRange(0, max(0, int(len(self._lines) * self._line_h + 40 - port.height())))
                bar.setPageStep(port.height())

    def _top_cell(self) -> int:
        bar = self.verticalScrollBar()
        line = int((bar.value() if bar else 0) // self._line_h)
        return self._lines[line].first if 0 <= line < len(self._lines) else -1

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """A click puts the cursor on a word, on a margin note its finding in hand; Shift extends the selection."""
        if event is None:
            return
        self.setFocus()
        if event.button() is Qt.MouseButton.RightButton:
            self.menu_wanted.emit(event.globalPosition().toPoint())
            return
        port = self.viewport()
        if port and event.position().x() > port.width() - RIGHT:
            mark = self._note_at(event.position())
            if mark:
                self.mark_clicked.emit(mark.id)
                return
        index, position = self._hit(event.position())
        if index < 0:
            return
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier and self._anchor >= 0:
            self._select(self._anchor, index)
        else:
            self._anchor = index
            self._select(index, index)
        self._cursor = index
        self.word_clicked.emit(index, position)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """Dragging selects words."""
        if event is None or not event.buttons() & Qt.MouseButton.LeftButton or self._anchor < 0:
            return
        index, _ = self._hit(event.position())
        if index >= 0:
            self._select(self._anchor, index)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """The press did the work."""
        if event is not None:
            event.accept()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """A double click plays from the word."""
        if event is None:
            return
        index, position = self._hit(event.position())
        if index >= 0 and position >= 0:
            self.word_activated.emit(position)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802 - Qt's name
        """Arrows move the cursor from word to word and line to line; with Shift they select."""
        if event is None:
            return
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()), 0)
        rows = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()), 0)
        if not (step or rows) or not len(self._content.cells):
            super().keyPressEvent(event)
            return
        at = max(0, self._cursor)
        target = min(len(self._content.cells) - 1, max(0, at + step)) if step else self._above_or_below(at, rows)
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._anchor = self._anchor if self._anchor >= 0 else at
            self._select(self._anchor, target)
        else:
            self._anchor = target
            self._select(target, target)
        self._cursor = target
        self._show_line(self._line_of[target])
        self.word_clicked.emit(target, self._content.cells[target].start)

    def _above_or_below(self, cell: int, rows: int) -> int:
        line = min(len(self._lines) - 1, max(0, self._line_of[cell] + rows))
        own = self._lines[self._line_of[cell]]
        x = own.cells[cell - own.first][1]
        return min(self._lines[line].placed(), key=lambda c: abs(c[1] - x))[0]

    def _select(self, a: int, b: int) -> None:
        words = [c.word for c in self._content.cells[min(a, b) : max(a, b) + 1] if c.word >= 0]
        self._selection = (min(words), max(words)) if words else (-1, -1)
        self.selection_changed.emit(*self._selection)
        self._refresh()

    def _note_at(self, point: QPointF) -> Mark | None:
        bar = self.verticalScrollBar()
        number = int((point.y() + (bar.value() if bar else 0) - 14) // self._line_h)
        notes = self._notes.get(number, [])
        row = int((point.y() - self._y(number) - 4) // 18)
        return notes[row] if 0 <= row < len(notes) else None

    # --- painting -------------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """Lines come from a cache, or are drawn anew, for a moment: what is left stays as it was for this turn.

        Light, selection and playhead are laid under and over them.
        """
        port = self.viewport()
        if port is None or event is None:
            return
        painter = QPainter(port)
        painter.fillRect(event.rect(), self._theme.color("page"))
        if not self._lines:
            painter.setFont(reading_font(17))
            painter.setPen(self._theme.color("quiet"))
            box = QRectF(60, 40, port.width() - 120, port.height() - 80)
            painter.drawText(
                box, Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap, self._empty
            )
            return
        bar = self.verticalScrollBar()
        top = bar.value() if bar else 0
        first = max(0, int((top + event.rect().top() - 14) // self._line_h))
        last = min(len(self._lines) - 1, int((top + event.rect().bottom() - 14) // self._line_h))
        self._drawn_s = 0.0
        for number in range(first, last + 1):
            y = self._y(number)
            self._paint_under(painter, number, y)
            picture = self._pixmap(number)
            if picture is not None:
                painter.drawPixmap(QPointF(0, y), picture)
            self._paint_over(painter, number, y)
        if event.rect().contains(port.rect()) and not self._paint_timer.isActive():  # all of it is as it should be
            self._earlier.clear()

    def _paint_under(self, painter: QPainter, number: int, y: float) -> None:
        current = next((m for m in self._marks_at.get(number, []) if m.id == self._current), None)
        if current:
            cells = set(self._cells_of(current))
            for index, a, b in self._lines[number].placed():
                if index in cells:
                    painter.fillRect(QRectF(a - 3, y, b - a + 6, TEXT_H + self._strip_h), self._theme.color("chosen"))
        line = self._lines[number]
        self._paint_time(painter, line, y)
        self._paint_place(painter, line, y)
        first, last = self._selection
        for index, a, b in self._touched(line, first, last):
            word = int(self._content.cells.words[index])
            if first <= word <= last and word >= 0 and first != last:
                painter.fillRect(QRectF(a - 3, y + 3, b - a + 6, TEXT_H - 4), self._theme.color("chosen"))
            if index == self._lit:
                painter.fillRect(QRectF(a - 3, y + 3, b - a + 6, TEXT_H - 4), self._theme.color("lit"))
            if index == self._cursor and self.hasFocus():
                painter.setPen(QPen(self._theme.color("ink"), 1))
                painter.drawLine(QPointF(a, y + TEXT_H - 2), QPointF(b, y + TEXT_H - 2))

    def _touched(self, line: _Line, first: int, last: int) -> list[tuple[int, float, float]]:
        """The cells of a line, where the selection, the light or the cursor is on it; most lines have none of them."""
        end = line.first + len(line.cells)
        selected = first != last and self._written[line.first] <= last and self._written[end - 1] >= first
        if selected or line.first <= self._lit < end or line.first <= self._cursor < end:
            return line.placed()
        return []

    def _paint_over(self, painter: QPainter, number: int, y: float) -> None:
        if self._playhead >= 0 and self._line_at(self._playhead) == number:
            x = self._lines[number].x_of(self._playhead)
            painter.setPen(QPen(self._theme.color("ink"), 1.4))
            painter.drawLine(QPointF(x, y + TEXT_H - 2), QPointF(x, y + TEXT_H + self._strip_h + 3))
            painter.setBrush(self._theme.color("ink"))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.drawEllipse(QPointF(x, y + TEXT_H + self._strip_h + 4), 2.6, 2.6)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, on=False)

    def _paint_time(self, painter: QPainter, line: _Line, y: float) -> None:
        if line.ts:
            painter.setFont(control_font(11, figures=True))
            painter.setPen(self._theme.color("quiet"))
            seconds = (line.at + line.ts[0]) / self._content.rate
            text = f"{int(seconds // 3600)}:{int(seconds // 60) % 60:02d}:{seconds % 60:04.1f}"
            box = QRectF(0, y + TEXT_H, LEFT - 14, self._strip_h)
            painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)
            if self._is_heard(line):
                painter.fillRect(QRectF(LEFT - 9, y + TEXT_H, 2, self._strip_h), self._theme.color("quiet"))

    def _paint_place(self, painter: QPainter, line: _Line, y: float) -> None:
        """Where a page begins, its number in the margin; where a scene ends, three dots under the line."""
        content = self._content
        first, last = self._written[line.first], self._written[line.first + len(line.cells) - 1]
        begins = bisect_left(content.pages, (first,))
        if begins < len(content.pages) and content.pages[begins][0] <= last:
            painter.setFont(control_font(11, figures=True))
            painter.setPen(self._theme.color("quiet"))
            box = QRectF(0, y + 2, LEFT - 14, TEXT_H - 4)
            painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"p. {content.pages[begins][1]}")
        after = line.first + len(line.cells)
        paragraphs = content.cells.paragraphs
        if after < len(paragraphs) and paragraphs[after] != paragraphs[after - 1] and int(paragraphs[after]) in content.breaks:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(self._theme.color("quiet"))
            for k in (-1, 0, 1):
                painter.drawEllipse(QPointF(LEFT + 60 + 14 * k, y + self._line_h - 8), 1.6, 1.6)

    def _pixmap(self, number: int) -> QPixmap | None:
        """A line's picture; where there is no time to draw it anew, the line as it was, and the page is painted again."""
        line = self._lines[number]
        key = self._looks(number)
        found = self._pixmaps.pop(line, None)
        if found is None or found[0] != key:
            if self._drawn_s > PAINT_S:
                self._refresh()
            else:
                begun = time.perf_counter()
                found = (key, self._painted(number))
                self._drawn_s += time.perf_counter() - begun
                while len(self._pixmaps) >= CACHE:
                    self._pixmaps.popitem(last=False)
        if found is not None:
            self._pixmaps[line] = found
        return found[1] if found else self._earlier.get(self._written[line.first])

    def _looks(self, number: int) -> object:
        """All that a line's picture depends on beside its words, in times that count from the line's own."""
        line, content = self._lines[number], self._content
        marks = [
            (m.id, m.kind, m.first, m.count, m.note, m.decision, m.doubtful, m.start - line.at, m.stop - line.at)
            for m in (*self._marks_at.get(number, ()), *self._notes.get(number, ()))
        ]
        sound: object = self._columns
        if line.ts and content.under is not None:
            sound = content.under(line.at + int(line.ts[0]), line.at + int(line.ts[-1]))
        return marks, sound, self._others_of(line), self.devicePixelRatioF()

    def _others_of(self, line: _Line) -> list[Other]:
        """The other readings of a line's words."""
        others = self._content.others
        if not others or not line.cells:
            return []
        words = [w for w in self._written[line.first : line.first + len(line.cells)] if w >= 0]
        if not words:
            return []
        return [o for o in others if o.first <= words[-1] and o.first + o.count > words[0]][:2]

    def _paint_others(self, painter: QPainter, line: _Line, scale: float) -> None:
        """A quiet strip under the line for every other reading, below the words that it reads."""
        for row, other in enumerate(self._others_of(line)):
            inside = range(other.first, other.first + other.count)
            here = [(self._written[i], a, b) for i, a, b in line.placed() if self._written[i] in inside]
            if not here:
                continue
            left, right, y = here[0][1], here[-1][2], TEXT_H + self._strip_h + 3 + 8 * row
            begin = other.start + (other.stop - other.start) * (here[0][0] - other.first) / other.count
            end = other.start + (other.stop - other.start) * (here[-1][0] + 1 - other.first) / other.count
            painter.fillRect(QRectF(left, y, right - left, OTHER_H), self._theme.color("strip"))
            columns = round((right - left) * scale)
            if self._content.other_columns is not None and columns > 0:
                found = self._content.other_columns(np.linspace(begin, end, columns + 1))
                draw_sound(painter, found, left, y, OTHER_H, self._theme, scale, "quiet")

    def _painted(self, number: int) -> QPixmap:
        scale = self.devicePixelRatioF()
        port = self.viewport()
        width = port.width() if port else 600
        pixmap = QPixmap(round(width * scale), round(self._line_h * scale))
        pixmap.setDevicePixelRatio(scale)
        pixmap.fill(Qt.GlobalColor.transparent)
        line = self._lines[number]
        painter = QPainter(pixmap)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if line.ts:
            left, right = line.xs[0], line.xs[-1]
            painter.fillRect(QRectF(left, TEXT_H, right - left, self._strip_h), self._theme.color("strip"))
            columns = max(1, round((right - left) * scale))
            if self._columns is not None and right > left:
                edges = line.at + np.interp(np.linspace(left, right, columns + 1), line.xs, line.ts)
                draw_sound(painter, self._columns(edges), left, TEXT_H, self._strip_h, self._theme, scale)
            self._paint_joins(painter, line)
        self._paint_others(painter, line, scale)
        for index, a, b in line.placed():
            self._paint_word(painter, self._content.cells[index], a, b)
        for mark in self._marks_at.get(number, []):
            self._paint_mark(painter, number, mark)
        self._paint_notes(painter, number, width)
        painter.end()
        return pixmap

    def _paint_joins(self, painter: QPainter, line: _Line) -> None:
        painter.setPen(QPen(self._theme.color("ink"), 1.2))
        joins = self._content.joins
        first, last = line.at + line.ts[0], line.at + line.ts[-1]
        for at in joins[bisect_right(joins, first) : bisect_right(joins, last)]:
            if first < at <= last:
                x = line.x_of(at)
                painter.drawLine(QPointF(x - 4, TEXT_H + self._strip_h + 1), QPointF(x, TEXT_H + self._strip_h - 4))
                painter.drawLine(QPointF(x, TEXT_H + self._strip_h - 4), QPointF(x + 4, TEXT_H + self._strip_h + 1))

    def _paint_word(self, painter: QPainter, cell: Cell, a: float, b: float) -> None:
        if cell.extra:
            painter.setFont(control_font(13))
            painter.setPen(self._theme.color("quiet"))
        else:
            painter.setFont(reading_font(22, strong=True) if cell.heading else reading_font(18, italic=cell.italic))
            painter.setPen(self._theme.color("ink" if cell.start >= 0 or not self._content.length else "quiet"))
        painter.drawText(
            QRectF(a - 2, 0, b - a + 8, TEXT_H), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, cell.text
        )

    def _paint_mark(self, painter: QPainter, number: int, mark: Mark) -> None:
        line = self._lines[number]
        cells = set(self._cells_of(mark))
        here = [(a, b) for index, a, b in line.placed() if index in cells]
        pen = QPen(self._theme.pencil(mark.decision), 1.7)
        pen.setCapStyle(Qt.PenCapStyle.RoundCap)
        if mark.doubtful:
            pen.setStyle(Qt.PenStyle.DotLine)
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        base = TEXT_H - 5
        if mark.kind == "misread" and here:
            painter.drawPath(_wave(here[0][0], here[-1][1], base + 2))
        elif mark.kind == "skipped" and here:
            painter.drawLine(QPointF(here[0][0] - 2, TEXT_H / 2 + 2), QPointF(here[-1][1] + 2, TEXT_H / 2 + 2))
        elif mark.kind == "added" and here:
            x = (here[0][0] + here[-1][1]) / 2
            painter.drawPolyline(QPolygonF([QPointF(x - 6, base + 6), QPointF(x, base - 1), QPointF(x + 6, base + 6)]))
        elif mark.kind in ("repeated", "false_start") and here:
            a, b = here[0][0] - 4, here[-1][1] + 4
            painter.drawPolyline(QPolygonF([QPointF(a + 4, 5), QPointF(a, 5), QPointF(a, base + 3), QPointF(a + 4, base + 3)]))
            if mark.kind == "repeated":
                painter.drawPolyline(
                    QPolygonF([QPointF(b - 4, 5), QPointF(b, 5), QPointF(b, base + 3), QPointF(b - 4, base + 3)])
                )
            else:  # broken off: the bracket's end is torn
                torn = [QPointF(b, 5), QPointF(b - 4, 10), QPointF(b, 15), QPointF(b - 4, 20), QPointF(b, base + 3)]
                painter.drawPolyline(QPolygonF(torn))
        elif mark.kind == "name" and here:  # struck under twice: look at how it is spoken
            for dy in (0, 3):
                painter.drawLine(QPointF(here[0][0], base + dy), QPointF(here[-1][1], base + dy))
        elif mark.kind == "take" and here:  # set in: a tray under the words that were read again
            a, b = here[0][0] - 2, here[-1][1] + 2
            painter.drawPolyline(QPolygonF([QPointF(a, base), QPointF(a, base + 5), QPointF(b, base + 5), QPointF(b, base)]))
        elif mark.kind == "other" and here:
            painter.drawLine(QPointF(here[0][0], base + 2), QPointF(here[-1][1], base + 2))
        elif mark.kind == "pause" and line.ts:
            a, b = line.x_of(mark.start), line.x_of(mark.stop)
            path = QPainterPath(QPointF(a + 1, base + 2))
            path.cubicTo(QPointF(a + 4, base - 10), QPointF(b - 4, base - 10), QPointF(b - 1, base + 2))
            painter.drawPath(path)
        elif mark.kind == "noise" and line.ts:
            x = line.x_of((mark.start + mark.stop) / 2)
            for dx, dy in ((0, 5), (4, 3), (4, -3)):
                painter.drawLine(QPointF(x - dx, base - 1 - dy), QPointF(x + dx, base - 1 + dy))
        elif mark.kind == "level" and line.ts:
            a, b = line.x_of(mark.start), line.x_of(mark.stop)
            painter.drawLine(QPointF(a, TEXT_H - 1), QPointF(max(b, a + 6), TEXT_H - 1))
            painter.drawLine(QPointF(a, TEXT_H - 1), QPointF(a, TEXT_H + 3))
            painter.drawLine(QPointF(max(b, a + 6), TEXT_H - 1), QPointF(max(b, a + 6), TEXT_H + 3))

    def _paint_notes(self, painter: QPainter, number: int, width: int) -> None:
        font = control_font(12)
        metrics = QFontMetricsF(font)
        for row, mark in enumerate(self._notes.get(number, [])[:4]):
            y = 4 + row * 18
            x = width - RIGHT + 20
            draw_decision(painter, QPointF(x - 9, y + 9), mark.decision, self._theme)
            painter.setFont(font)
            painter.setPen(self._theme.pencil(mark.decision))
            painter.drawText(QPointF(x, y + 13), metrics.elidedText(mark.note, Qt.TextElideMode.ElideRight, RIGHT - 26))


def _wave(a: float, b: float, y: float) -> QPainterPath:
    path = QPainterPath(QPointF(a, y))
    x, up = a, True
    while x < b:
        path.quadTo(QPointF(x + 2.5, y - 4 if up else y + 4), QPointF(x + 5, y))
        x, up = x + 5, not up
    return path


def draw_decision(painter: QPainter, centre: QPointF, decision: str, theme: Theme, size: float = 4.5) -> None:
    """The shape of a decision: pickup a ring, mend a wedge, stet three dots, open a short stroke."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    color = theme.pencil(decision)
    x, y = centre.x(), centre.y()
    painter.setPen(QPen(color, 1.8))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if decision == "pickup":
        painter.drawEllipse(centre, size - 0.5, size - 0.5)
    elif decision == "mend":
        painter.setBrush(color)
        painter.drawPolygon(QPolygonF([QPointF(x - size, y + size - 1), QPointF(x, y - size), QPointF(x + size, y + size - 1)]))
    elif decision == "stet":
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color)
        for dx in (-size, 0.0, size):
            painter.drawEllipse(QPointF(x + dx, y), 1.5, 1.5)
    else:
        painter.drawLine(QPointF(x - size + 1, y), QPointF(x + size - 1, y))


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


def _same_texts(old: Cells, new: Cells, before: Sequence[_Block], now: Sequence[_Block]) -> dict[int, _Block]:
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
