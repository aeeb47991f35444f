"""Pictures of set lines: drawn for a moment of every turn, kept while nothing in them changes."""

from __future__ import annotations

import time
from collections import OrderedDict
from collections.abc import Iterable

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPixmap

from faithful_reel.app.theme import DAY, Theme, control_font, reading_font
from faithful_reel.app.widgets.galley.content import Cell
from faithful_reel.app.widgets.galley.marks import draw_mark, draw_notes
from faithful_reel.app.widgets.galley.setting import Line, Setting
from faithful_reel.app.widgets.galley.strips import draw_others, draw_strip, others_in
from faithful_reel.core.work.page import Mark

PAINT_S = 0.005
"""How long a turn draws lines anew; what is left then comes in the next."""
CACHE = 120


class Lines:
    """Draws the lines of a setting with their marks."""

    def __init__(self, setting: Setting) -> None:
        self._setting = setting
        self.theme: Theme = DAY
        self.show_doubtful = False
        self.current = ""
        """The mark at hand: it is drawn even where it is folded away."""
        self.marks_at: dict[int, list[Mark]] = {}
        self.notes: dict[int, list[Mark]] = {}
        self._pictures: OrderedDict[Line, tuple[object, QPixmap]] = OrderedDict()
        self._earlier: dict[int, QPixmap] = {}  # by the word that a line began with before the lines were set anew
        self._drawn_s = 0.0

    def index_marks(self) -> None:
        """Find the lines of all marks."""
        self.marks_at, self.notes = {}, {}
        setting = self._setting
        for mark in setting.content.marks:
            if mark.doubtful and not (self.show_doubtful or mark.id == self.current):
                continue
            line = setting.line_of_mark(mark)
            if line is None:
                continue
            self.notes.setdefault(line, []).append(mark)
            for number in {line, *(setting.line_of[c] for c in setting.cells_of(mark))}:
                self.marks_at.setdefault(number, []).append(mark)

    # --- pictures -------------------------------------------------------------------------------------------------

    def forget(self) -> None:
        """Draw all anew: another theme, another size, another chapter."""
        self._pictures.clear()
        self._earlier.clear()

    def keep_earlier(self) -> None:
        """The lines are about to be set anew: their pictures stand in for them until there is time."""
        written = self._setting.written
        kept = [(line.first, picture) for line, (_, picture) in self._pictures.items() if line.first < len(written)]
        self._earlier = {written[first]: picture for first, picture in kept}

    def forget_earlier(self) -> None:
        """All that is seen is as it should be."""
        self._earlier.clear()

    def begin_turn(self) -> None:
        """The time that this turn may draw begins."""
        self._drawn_s = 0.0

    def picture(self, number: int, width: int, scale: float) -> tuple[QPixmap | None, bool]:
        """A line's picture, and whether it is as it should be; where there is no time left, the line as it was."""
        setting = self._setting
        line = setting.lines[number]
        key = self._looks(number), width, scale
        found = self._pictures.pop(line, None)
        fresh = found is not None and found[0] == key
        if not fresh and self._drawn_s <= PAINT_S:
            begun = time.perf_counter()
            found, fresh = (key, self.painted(number, width, scale)), True
            self._drawn_s += time.perf_counter() - begun
            while len(self._pictures) >= CACHE:
                self._pictures.popitem(last=False)
        if found is not None:
            self._pictures[line] = found
        return found[1] if found else self._earlier.get(setting.written[line.first]), fresh

    def draw_ahead(self, numbers: Iterable[int], width: int, scale: float) -> bool:
        """Draw lines that may come into view, for one turn; whether all of them are there."""
        self.begin_turn()
        return all(self.picture(number, width, scale)[1] for number in numbers)

    def _looks(self, number: int) -> object:
        """All that a line's picture depends on beside its words, in times that count from the line's own."""
        line, content = self._setting.lines[number], self._setting.content
        marks = [
            (m.id, m.kind, m.first, m.count, m.note, m.decision, m.doubtful, m.start - line.at, m.stop - line.at)
            for m in (*self.marks_at.get(number, ()), *self.notes.get(number, ()))
        ]
        sound: list[object] = []
        for strip in content.strips:
            told = strip.under is not None and line.ts
            sound.append(strip.under(line.at + int(line.ts[0]), line.at + int(line.ts[-1])) if told and strip.under else strip)
        return marks, sound, others_in(line, self._setting.written, content.others)

    def painted(self, number: int, width: int, scale: float) -> QPixmap:
        """A line drawn anew, `width` wide, at `scale` device pixels."""
        setting, measures, theme = self._setting, self._setting.measures, self.theme
        content, line = setting.content, setting.lines[number]
        pixmap = QPixmap(round(width * scale), round(measures.line_h * scale))
        pixmap.setDevicePixelRatio(scale)
        pixmap.fill(Qt.GlobalColor.transparent)
        painter = QPainter(pixmap)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for row, strip in enumerate(content.strips):
            draw_strip(painter, strip, line, measures.strip_top(row), measures, theme, scale)
        others = others_in(line, setting.written, content.others)
        draw_others(painter, others, line, setting.written, content.other_columns, measures, theme, scale)
        for index, a, b in line.placed():
            cell = content.cells[index]
            self._paint_word(painter, cell, line.letters(index, cell.text), a, b)
        for mark in self.marks_at.get(number, ()):
            draw_mark(painter, mark, line, set(setting.cells_of(mark)), measures, theme)
        draw_notes(painter, self.notes.get(number, []), width, measures, theme)
        painter.end()
        return pixmap

    def _paint_word(self, painter: QPainter, cell: Cell, text: str, a: float, b: float) -> None:
        if cell.extra:
            painter.setFont(control_font(13))
            painter.setPen(self.theme.color("quiet"))
        else:
            painter.setFont(reading_font(22, strong=True) if cell.heading else reading_font(18, italic=cell.italic))
            painter.setPen(self.theme.color("ink" if cell.start >= 0 or not self._setting.content.length else "quiet"))
        box = QRectF(a - 2, 0, b - a + 8, self._setting.measures.text_h)
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text)
