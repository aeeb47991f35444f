"""The page: manuscript lines with their strips of sound, scrolled and painted; it knows no book."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from dataclasses import dataclass, replace

from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer
from PyQt6.QtGui import QFont, QFontMetricsF, QPainter, QPaintEvent, QPen, QResizeEvent
from PyQt6.QtWidgets import QAbstractScrollArea, QWidget

from faithful_reel.app.theme import Theme, control_font, over_sound, reading_font, scale_of_letters
from faithful_reel.app.widgets.galley.content import GalleyContent
from faithful_reel.app.widgets.galley.lines import Lines
from faithful_reel.app.widgets.galley.setting import Face, Line, Measures, Setting, Widths
from faithful_reel.app.widgets.turns import IDLE_MS, REST_MS, own_turn

SLICE_S = 0.012
"""How long a turn sets paragraphs whose words only moved in time."""
LEAST_WIDTH = 320


@dataclass(frozen=True, slots=True)
class PagePlace:
    """Where the reader is: the written word at the top, how far down its line, and the word at the cursor; -1 for none."""

    word: int = -1
    offset: float = 0.0
    cursor: int = -1


def page_fonts() -> tuple[QFont, QFont, QFont]:
    """The letters of text, headings and heard-only words."""
    return reading_font(18), reading_font(22, strong=True), control_font(13)


def _widths() -> Widths:
    metrics = [QFontMetricsF(font) for font in page_fonts()]

    def width_of(text: str, face: Face) -> float:
        return metrics[face].horizontalAdvance(text)

    return width_of


class Page(QAbstractScrollArea):
    """A scrolled page: what is on it, where the reader is, and how it is painted."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setMinimumWidth(LEAST_WIDTH)
        self.setting = Setting(_widths())
        self.setting.measures = Measures(scale_of_letters())
        self.drawing = Lines(self.setting)
        self._playhead = self._lit = self._cursor = -1
        self._selection = (-1, -1)
        self._spans: list[tuple[int, int]] = []
        self._current = ""
        self._empty = "Nothing to show yet."
        self._unheard: list[tuple[int, int]] | None = None
        self._held: tuple[int, float, int] | None = None  # word and offset at the top, and where the bar stood for them
        self._stale_timer = QTimer(self)
        self._stale_timer.timeout.connect(self._set_some)
        self._paint_timer = own_turn(self, self._paint_all)
        self._ahead_timer = own_turn(self, self._draw_ahead, IDLE_MS)

    # --- content --------------------------------------------------------------------------------------------------

    @property
    def content(self) -> GalleyContent:
        """What is shown."""
        return self.setting.content

    @property
    def theme(self) -> Theme:
        """The colours."""
        return self.drawing.theme

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        self.drawing.theme = theme
        self.drawing.forget()
        self.refresh()

    def set_content(self, content: GalleyContent, *, keep_place: bool = False) -> None:
        """Show a chapter; `keep_place` keeps what is in view where it is, whatever changed above."""
        place = self._top_place() if keep_place else None
        if not keep_place:
            self._lit = self._playhead = self._cursor = -1
            self._selection = (-1, -1)
            self._spans = []
            self._held = None
            self.setting.forget()
            self.drawing.forget()
        self._cursor = self._cursor if self._cursor < len(content.cells) else -1
        self._lit = self._lit if self._lit < len(content.cells) else -1
        strips = max(1, len(content.strips))
        self._set_lines(content, replace(self.setting.measures, strips=strips))
        if place is not None:
            self._put_top(*place)
        elif not keep_place:
            self.verticalScrollBar().setValue(0)  # type: ignore[union-attr]

    def set_zoom(self, *, tall: float, wide: float) -> None:
        """How high the strips are, times the usual, and how many pixels a second takes at least; 0: as the words fall."""
        measures = self.setting.measures.zoomed(tall=tall, wide=wide)
        if measures != self.setting.measures:
            self._set_anew(measures)

    def use_letters(self) -> None:
        """Set all anew in the letters of the application, whose size may be another."""
        self.setting.use_widths(_widths())
        self._set_anew(replace(self.setting.measures, scale=scale_of_letters()))

    def _set_anew(self, measures: Measures) -> None:
        place = self._top_place()
        self.drawing.forget()
        self._set_lines(self.content, measures)
        if place is not None:
            self._put_top(*place)

    def set_unheard(self, spans: Sequence[tuple[int, int]] | None) -> None:
        """What was not listened to yet, in order; lines without any get a hairline in the margin.  None: do not tell."""
        found = None if spans is None else list(spans)
        if found != self._unheard:
            self._unheard = found
            self.refresh()

    def set_spans(self, spans: Sequence[tuple[int, int]]) -> None:
        """Draw what is marked, in samples, under the sound of the lines."""
        if self._spans != list(spans):
            self._spans = list(spans)
            self.refresh()

    @property
    def spans(self) -> list[tuple[int, int]]:
        """What is marked, in samples."""
        return self._spans

    def set_empty_text(self, text: str) -> None:
        """What stands on an empty page."""
        self._empty = text
        self.refresh()

    def set_show_doubtful(self, *, shown: bool) -> None:
        """Draw findings that are folded away as well."""
        if shown != self.drawing.show_doubtful:
            self.drawing.show_doubtful = shown
            self.drawing.index_marks()
            self.refresh()

    def set_current_mark(self, mark_id: str) -> None:
        """Show which finding is at hand, and bring it into view."""
        before, self._current = self._current, mark_id
        self.drawing.current = mark_id
        if any(m.doubtful and m.id in (before, mark_id) for m in self.content.marks):
            self.drawing.index_marks()
        for mark in self.content.marks:
            if mark.id == mark_id:
                line = self.setting.line_of_mark(mark)
                if line is not None:
                    self.show_line(line)
        self.refresh()

    @property
    def current_mark(self) -> str:
        """Which finding is at hand."""
        return self._current

    @property
    def lines(self) -> int:
        """How many lines are set."""
        return len(self.setting.lines)

    @property
    def line_height(self) -> float:
        """Height of a line with its strips."""
        return self.setting.measures.line_h

    def refresh(self) -> None:
        """Paint in the next turn."""
        self._paint_timer.start()

    def _paint_all(self) -> None:
        port = self.viewport()
        if port:
            port.update()

    # --- setting --------------------------------------------------------------------------------------------------

    def _set_lines(self, content: GalleyContent, measures: Measures) -> None:
        port = self.viewport()
        self.drawing.keep_earlier()
        if self.setting.set(content, port.width() if port else 600, measures, self._shown_cells()):
            self._stale_timer.start(0) if self.setting.stale else self._stale_timer.stop()
            self._fit_bar()
        self.drawing.index_marks()
        self._ahead_timer.setInterval(REST_MS)
        self.refresh()

    def _fit_bar(self) -> None:
        bar, port, line_h = self.verticalScrollBar(), self.viewport(), self.line_height
        if bar and port:
            bar.setRange(0, max(0, int(self.lines * line_h + self.setting.measures.top + 26 - port.height())))
            bar.setSingleStep(int(line_h / 2))
            bar.setPageStep(port.height())

    def _shown_cells(self) -> tuple[int, int]:
        """The first and the last cell in sight, and a page on either side."""
        bar, port = self.verticalScrollBar(), self.viewport()
        top, height = (bar.value(), port.height()) if bar and port else (0, 0)
        lines = self.setting.lines
        last = len(lines) - 1
        if last < 0:
            return 0, 0
        first, stop = (min(last, max(0, int(y // self.line_height))) for y in (top - height, top + 2 * height))
        return lines[first].first, lines[stop].stop

    def _set_some(self) -> None:
        """Set paragraphs anew whose words only moved in time, for a moment; what stands at the top stays there."""
        place = self._top_place()
        self.setting.set_some(SLICE_S)
        if not self.setting.stale:
            self._stale_timer.stop()
        self._fit_bar()
        self.drawing.index_marks()
        if place is not None:
            self._put_top(*place)
        self.refresh()

    def finish(self) -> None:
        """Set at once what is still to be set."""
        while self.setting.stale:
            self._set_some()

    # --- place ----------------------------------------------------------------------------------------------------

    @property
    def place(self) -> PagePlace:
        """Where the reader is."""
        top = self._top_place()
        cursor = self.cursor_word
        return PagePlace(*top, cursor) if top else PagePlace(cursor=cursor)

    def go_to_place(self, place: PagePlace) -> None:
        """Back to where the reader was."""
        self._cursor = self.setting.cell_of(place.cursor)
        if self.setting.cell_of(place.word) >= 0:
            self._put_top(place.word, place.offset)
        self.refresh()

    def _top_place(self) -> tuple[int, float] | None:
        """The written word at the top and how far down its line; the same through all changes until the page is scrolled."""
        bar = self.verticalScrollBar()
        value = bar.value() if bar else 0
        if self._held is not None and self._held[2] == value:
            return self._held[:2]
        number = int(value // self.line_height)
        if not 0 <= number < self.lines:
            return None
        line, cells = self.setting.lines[number], self.content.cells
        word = next((int(w) for w in cells.words[line.first : line.stop] if w >= 0), self.setting.written[line.first])
        return word, value - number * self.line_height

    def _put_top(self, word: int, offset: float) -> None:
        bar, cell = self.verticalScrollBar(), self.setting.cell_of(word)
        if bar and cell >= 0:
            bar.setValue(round(self.setting.line_of[cell] * self.line_height + min(offset, self.line_height - 1)))
            self._held = word, offset, bar.value()

    @property
    def cursor_word(self) -> int:
        """The written word at the cursor, or before it; -1 before the first."""
        written = self.setting.written
        return written[self._cursor] if 0 <= self._cursor < len(written) else -1

    def set_playhead(self, position: int, *, follow: bool = False) -> None:
        """Show where sound is being heard; the word there is lit."""
        setting = self.setting
        lit = setting.cell_at(position)
        line = setting.line_at(position) if position >= 0 and setting.lines else -1
        if follow and line >= 0:
            self.show_line(line)
        before = self._playhead
        self._playhead, self._lit = position, lit
        port = self.viewport()
        if port and setting.lines:
            for number in {setting.line_at(before) if before >= 0 else -1, line} - {-1}:
                port.update(0, int(self.y_of(number)) - 2, port.width(), int(self.line_height) + 4)

    @property
    def lit_word(self) -> int:
        """The written word that is lit, -1 for none."""
        return int(self.content.cells.words[self._lit]) if 0 <= self._lit < len(self.content.cells) else -1

    def y_of(self, line: int) -> float:
        """Where a line begins in the viewport."""
        bar = self.verticalScrollBar()
        return self.setting.measures.top + line * self.line_height - (bar.value() if bar else 0)

    def line_under(self, y: float) -> int:
        """The number of the line at a height of the viewport, which may be none that is set."""
        return int((y - self.y_of(0)) // self.line_height)

    def show_line(self, line: int) -> None:
        """Bring a line into view."""
        bar, port, line_h = self.verticalScrollBar(), self.viewport(), self.line_height
        if not bar or not port:
            return
        y = self.setting.measures.top + line * line_h
        if y < bar.value() + line_h * 0.5:
            bar.setValue(int(y - line_h))
        elif y + line_h > bar.value() + port.height() - line_h * 0.5:
            bar.setValue(int(y + 2 * line_h - port.height()))

    def word_rect(self, word: int) -> QRectF:
        """Where a written word stands in the viewport; empty where it is not set."""
        cell = self.setting.cell_of(word)
        if cell < 0:
            return QRectF()
        number = self.setting.line_of[cell]
        line = self.setting.lines[number]
        _, a, b = line.cells[cell - line.first]
        return QRectF(a, self.y_of(number), b - a, self.setting.measures.text_h)

    def scrollContentsBy(self, dx: int, dy: int) -> None:  # noqa: N802 - Qt's name
        """What comes next is likely to be asked for soon."""
        self._ahead_timer.setInterval(IDLE_MS)
        super().scrollContentsBy(dx, dy)

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # noqa: N802 - Qt's name
        """Set the lines anew where the width changed; the word at the top stays there."""
        super().resizeEvent(event)
        port = self.viewport()
        if port and port.width() != self.setting.width:
            place = self._top_place()
            self._set_lines(self.content, self.setting.measures)
            if place is not None:
                self._put_top(*place)
        else:
            self._fit_bar()

    # --- painting -------------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """Lines come from a cache, or are drawn anew, for a moment: what is left stays as it was for this turn.

        Light, selection and playhead are laid under and over them.
        """
        port = self.viewport()
        if port is None or event is None:
            return
        painter = QPainter(port)
        painter.fillRect(event.rect(), self.theme.color("page"))
        if not self.setting.lines:
            self._paint_empty(painter, port)
        else:
            first = max(0, self.line_under(event.rect().top()))
            last = min(self.lines - 1, self.line_under(event.rect().bottom()))
            scale, width, whole, line_h = self.devicePixelRatioF(), port.width(), True, self.line_height
            top = self.y_of(0)
            self.drawing.begin_turn()
            for number in range(first, last + 1):
                y = top + number * line_h
                self._paint_under(painter, number, y)
                picture, fresh = self.drawing.picture(number, width, scale)
                whole = whole and fresh
                if picture is not None:
                    painter.drawPixmap(QPointF(0, y), picture)
                self._paint_spans(painter, self.setting.lines[number], y)
                self._paint_over(painter, number, y)
            if not whole:
                self.refresh()
            elif event.rect().contains(port.rect()):  # all of it is as it should be
                self.drawing.forget_earlier()
                self._ahead_timer.start()
        if self.hasFocus():
            painter.setPen(QPen(self.theme.color("quiet"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(port.rect().adjusted(0, 0, -1, -1))

    def _draw_ahead(self) -> None:
        """Draw what comes next when the page is scrolled, while there is time."""
        port = self.viewport()
        if port is None or not self.setting.lines or self._paint_timer.isActive():
            return
        first, last = self.line_under(0), self.line_under(port.height())
        most = last - first + 1
        below = range(max(0, last + 1), min(self.lines, last + 1 + most))
        above = range(min(self.lines, first) - 1, max(-1, first - 1 - most), -1)
        if not self.drawing.draw_ahead([*below, *above], port.width(), self.devicePixelRatioF()):
            self._ahead_timer.start()

    def _paint_empty(self, painter: QPainter, port: QWidget) -> None:
        painter.setFont(reading_font(17))
        painter.setPen(self.theme.color("quiet"))
        box = QRectF(port.rect()).adjusted(60, 40, -60, -40)
        flags = Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap
        painter.drawText(box, flags, self._empty)

    def _paint_under(self, painter: QPainter, number: int, y: float) -> None:
        m, theme, line = self.setting.measures, self.drawing.theme, self.setting.lines[number]
        marks = self.drawing.marks_at.get(number)
        current = next((k for k in marks if k.id == self._current), None) if marks and self._current else None
        if current:
            cells = set(self.setting.cells_of(current))
            for index, a, b in line.placed():
                if index in cells:
                    painter.fillRect(QRectF(a - 3, y, b - a + 6, m.text_h + m.sound_h), theme.color("chosen"))
        self._paint_time(painter, line, y)
        self._paint_place(painter, line, y)
        first, last = self._selection
        for index, a, b in self._touched(line, first, last):
            word = int(self.content.cells.words[index])
            box = QRectF(a - 3, y + 3, b - a + 6, m.text_h - 4)
            if first <= word <= last and word >= 0 and first != last:
                painter.fillRect(box, theme.color("chosen"))
            if index == self._lit:
                painter.fillRect(box, theme.color("lit"))
            if index == self._cursor:
                painter.setPen(QPen(theme.color("ink" if self.hasFocus() else "quiet"), 1.6))
                painter.drawLine(QPointF(a, y + m.text_h - 2), QPointF(b, y + m.text_h - 2))

    def _paint_spans(self, painter: QPainter, line: Line, y: float) -> None:
        """What is marked of a line's sound, over its strip, whose wave stays as it is."""
        if not self._spans or not line.ts:
            return
        m, begins, ends = self.setting.measures, line.at + line.ts[0], line.at + line.ts[-1]
        painter.setCompositionMode(over_sound(self.theme))
        for start, stop in self._spans:
            if start < ends and stop > begins:
                a, b = line.x_of(max(start, begins)), line.x_of(min(stop, ends))
                painter.fillRect(QRectF(a, y + m.text_h, max(1.5, b - a), m.sound_h), self.theme.color("lit"))
        painter.setCompositionMode(QPainter.CompositionMode.CompositionMode_SourceOver)

    def _touched(self, line: Line, first: int, last: int) -> list[tuple[int, float, float]]:
        """The cells of a line, where the selection, the light or the cursor is on it; most lines have none of them."""
        written = self.setting.written
        selected = first != last and written[line.first] <= last and written[line.stop - 1] >= first
        if selected or line.first <= self._lit < line.stop or line.first <= self._cursor < line.stop:
            return line.placed()
        return []

    def _paint_over(self, painter: QPainter, number: int, y: float) -> None:
        if self._playhead < 0 or self.setting.line_at(self._playhead) != number:
            return
        m, x = self.setting.measures, self.setting.lines[number].x_of(self._playhead)
        foot = y + m.text_h + m.sound_h
        painter.setPen(QPen(self.theme.color("ink"), 1.4))
        painter.drawLine(QPointF(x, y + m.text_h - 2), QPointF(x, foot + 3))
        painter.setBrush(self.theme.color("ink"))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.drawEllipse(QPointF(x, foot + 4), 2.6, 2.6)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, on=False)

    def _paint_time(self, painter: QPainter, line: Line, y: float) -> None:
        if not line.ts:
            return
        m, setting = self.setting.measures, self.setting
        painter.setFont(control_font(11, figures=True))
        painter.setPen(self.drawing.theme.color("quiet"))
        seconds = (line.at + line.ts[0]) / setting.content.rate
        text = f"{int(seconds // 3600)}:{int(seconds // 60) % 60:02d}:{seconds % 60:04.1f}"
        box = QRectF(0, y + m.text_h, m.left - 14, m.strip_h)
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)
        for row, strip in enumerate(setting.content.strips[1:], 1):
            box = QRectF(2, y + m.strip_top(row), m.left - 16, m.strip_h)
            told = painter.fontMetrics().elidedText(strip.name, Qt.TextElideMode.ElideRight, int(box.width()))
            painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, told)
        if self._is_heard(line):
            painter.fillRect(QRectF(m.left - 9, y + m.text_h, 2, m.sound_h), self.theme.color("quiet"))

    def _is_heard(self, line: Line) -> bool:
        if self._unheard is None:
            return False
        start, stop = line.at + line.ts[0], line.at + line.ts[-1]
        at = max(0, bisect_right(self._unheard, (start, start)) - 1)
        tolerated = self.content.rate // 5
        near = self._unheard[at : bisect_right(self._unheard, (stop, stop))]
        return all(min(b, stop) - max(a, start) < tolerated for a, b in near)

    def _paint_place(self, painter: QPainter, line: Line, y: float) -> None:
        """Where a page begins, its number in the margin; where a scene ends, three dots under the line."""
        content, m, written = self.setting.content, self.setting.measures, self.setting.written
        begins = bisect_left(content.pages, (written[line.first],)) if content.pages else 0
        here = begins < len(content.pages) and content.pages[begins][0] <= written[line.stop - 1]
        if here and not line.continues:
            painter.setFont(control_font(11, figures=True))
            painter.setPen(self.theme.color("quiet"))
            box = QRectF(0, y + 2, m.left - 14, m.text_h - 4)
            flags = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            painter.drawText(box, flags, f"p. {content.pages[begins][1]}")
        if not content.breaks:
            return
        paragraphs = content.cells.paragraphs
        ends = line.stop < len(paragraphs) and paragraphs[line.stop] != paragraphs[line.stop - 1]
        if ends and int(paragraphs[line.stop]) in content.breaks:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(self.theme.color("quiet"))
            for k in (-1, 0, 1):
                painter.drawEllipse(QPointF(m.left + 60 + 14 * k, y + m.line_h - 8), 1.6, 1.6)
