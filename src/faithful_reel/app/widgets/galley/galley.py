"""The galley: the page worked by mouse and keys."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QPoint, QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QContextMenuEvent, QFocusEvent, QGuiApplication, QKeyEvent, QKeySequence, QMouseEvent
from PyQt6.QtWidgets import QWidget

from faithful_reel.app.widgets.galley.content import GalleyContent
from faithful_reel.app.widgets.galley.marks import MOST_NOTES, note_top
from faithful_reel.app.widgets.galley.view import Page
from faithful_reel.app.widgets.told import tell_reader
from faithful_reel.core.work.page import Mark

MOST_READ = 40
"""Words of a line that are read out."""


class Galley(Page):
    """Arrows walk the words, Home and End the line, with Ctrl the chapter; Shift selects; Enter plays; Esc lets go."""

    word_clicked = pyqtSignal(int, int)  # cell, sample
    word_activated = pyqtSignal(int)  # sample
    selection_changed = pyqtSignal(int, int)  # first and last written word of what is marked, -1 for none
    let_go = pyqtSignal()
    mark_clicked = pyqtSignal(str)
    menu_wanted = pyqtSignal(QPoint)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("galley")
        self.setAccessibleName("Galley: the chapter's words with their sound")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._anchor = -1

    @property
    def selection(self) -> tuple[int, int]:
        """First and last selected written word; (-1, -1) for none."""
        return self._selection

    @property
    def selected_text(self) -> str:
        """The selected words."""
        first, last = self._selection
        cells = self.content.cells
        return " ".join(t for t, w in zip(cells.texts, cells.words.tolist(), strict=True) if first <= w <= last and w >= 0)

    def show_selection(self, first: int, last: int, spans: Sequence[tuple[int, int]]) -> None:
        """Show what is marked in the whole window: its words, and its stretches of sound."""
        at = self.cursor_word
        words = (first, last) if first >= 0 else (at, at)
        if self._selection != words:
            self._selection = words
            self.refresh()
        self.set_spans(spans)

    def set_content(self, content: GalleyContent, *, keep_place: bool = False) -> None:
        """As the page does; the selection's other end is forgotten with the chapter."""
        if not keep_place:
            self._anchor = -1
        super().set_content(content, keep_place=keep_place)
        self._read_out()

    def set_current_mark(self, mark_id: str) -> None:
        """As the page does, and told to who does not see it."""
        super().set_current_mark(mark_id)
        self._read_out()

    def go_to_word(self, word: int) -> None:
        """Put the cursor on a written word and bring it into view."""
        cell = self.setting.cell_of(word)
        if cell >= 0:
            self._go(cell, extend=False)

    # --- the mouse ------------------------------------------------------------------------------------------------

    def _hit(self, point: QPointF) -> tuple[int, int]:
        """(cell, sample) at a point; (-1, -1) off the text."""
        number = self.line_under(point.y())
        nearest = self.setting.nearest(number, point.x()) if 0 <= number < self.lines else None
        if nearest is None:
            return -1, -1
        index = nearest[0]
        start = int(self.content.cells.starts[index])
        on_strip = point.y() - self.y_of(number) > self.setting.measures.text_h
        return index, int(self.setting.lines[number].t_of(point.x())) if on_strip or start < 0 else start

    def _note_at(self, point: QPointF) -> Mark | None:
        number = self.line_under(point.y())
        m, y = self.setting.measures, point.y() - self.y_of(number)
        notes = self.drawing.notes.get(number, [])[:MOST_NOTES]
        return next((k for row, k in enumerate(notes) if note_top(row, m) <= y < note_top(row + 1, m)), None)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """A click puts the cursor on a word, on a margin note its finding in hand; Shift extends the selection.

        The right button moves the cursor, too, unless it is on what is selected.
        """
        if event is None:
            return
        self.setFocus()
        port = self.viewport()
        if port and event.position().x() > port.width() - self.setting.measures.right:
            mark = self._note_at(event.position())
            if mark:
                self.mark_clicked.emit(mark.id)
                return
        index, position = self._hit(event.position())
        if index < 0:
            return
        word = int(self.content.cells.words[index])
        if event.button() is Qt.MouseButton.RightButton and self._selection[0] <= word <= self._selection[1]:
            return
        extend = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier) and self._anchor >= 0
        if not extend:
            self._anchor = index
        self._select(self._anchor, index, marking=extend)
        self._cursor = index
        self.word_clicked.emit(index, position)
        self._read_out()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802 - Qt's name
        """Dragging selects words."""
        if event is None or not event.buttons() & Qt.MouseButton.LeftButton or self._anchor < 0:
            return
        index, _ = self._hit(event.position())
        if index >= 0 and (index != self._anchor or self._spans):
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

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:  # noqa: N802 - Qt's name
        """The menu at the mouse, or by its key at the cursor."""
        if event is None:
            return
        point = event.globalPos()
        if event.reason() is QContextMenuEvent.Reason.Keyboard:
            port, rect = self.viewport(), self.word_rect(self.cursor_word)
            point = port.mapToGlobal(rect.bottomLeft().toPoint()) if port else point
        self.menu_wanted.emit(point)

    # --- the keys -------------------------------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802 - Qt's name
        """As the class says; Ctrl+A selects the chapter, Ctrl+C copies the selected words."""
        if event is None:
            return
        if not len(self.content.cells):
            super().keyPressEvent(event)
        elif event.matches(QKeySequence.StandardKey.SelectAll):
            self._anchor = 0
            self._select(0, len(self.content.cells) - 1)
        elif event.matches(QKeySequence.StandardKey.Copy):
            self._copy()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and not event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier:
            start = int(self.content.cells.starts[max(0, self._cursor)])
            if start >= 0:
                self.word_activated.emit(start)
        elif event.key() == Qt.Key.Key_Escape and (self._selection[0] != self._selection[1] or self._spans):
            self._select(max(0, self._cursor), max(0, self._cursor), marking=False)
            self.let_go.emit()
        else:
            target = self._target(event)
            if target is None:
                super().keyPressEvent(event)
            else:
                self._go(target, extend=bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))

    def _target(self, event: QKeyEvent) -> int | None:
        """The cell that a key goes to; None for a key that goes nowhere."""
        at, last = max(0, self._cursor), len(self.content.cells) - 1
        whole = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if event.modifiers() & Qt.KeyboardModifier.AltModifier:
            return None
        line = self.setting.lines[self.setting.line_of[at]]
        port = self.viewport()
        rows = max(1, int((port.height() if port else 0) // self.line_height) - 1)
        match event.key():
            case Qt.Key.Key_Left if not whole:
                return max(0, at - 1)
            case Qt.Key.Key_Right if not whole:
                return min(last, at + 1)
            case Qt.Key.Key_Up if not whole:
                return self._above_or_below(at, -1)
            case Qt.Key.Key_Down if not whole:
                return self._above_or_below(at, 1)
            case Qt.Key.Key_PageUp if not whole:
                return self._above_or_below(at, -rows)
            case Qt.Key.Key_PageDown if not whole:
                return self._above_or_below(at, rows)
            case Qt.Key.Key_Home:
                return 0 if whole else line.first
            case Qt.Key.Key_End:
                return last if whole else line.stop - 1
        return None

    def _above_or_below(self, cell: int, rows: int) -> int:
        line = min(self.lines - 1, max(0, self.setting.line_of[cell] + rows))
        own = self.setting.lines[self.setting.line_of[cell]]
        x = own.cells[cell - own.first][1]
        return min(self.setting.lines[line].placed(), key=lambda c: abs(c[1] - x))[0]

    def _go(self, target: int, *, extend: bool) -> None:
        """Put the cursor on a cell; what was selected stays selected up to it with `extend`."""
        if not extend:
            self._anchor = target
        elif self._anchor < 0:
            self._anchor = max(0, self._cursor)
        self._select(self._anchor, target, marking=extend)
        self._cursor = target
        self.show_line(self.setting.line_of[target])
        self.word_clicked.emit(target, int(self.content.cells.starts[target]))
        self._read_out()

    def _select(self, a: int, b: int, *, marking: bool = True) -> None:
        """Select from one cell to another; where nothing is to be marked, only the word at the cursor is at hand."""
        words = [w for w in self.content.cells.words[min(a, b) : max(a, b) + 1].tolist() if w >= 0]
        self._selection = (min(words), max(words)) if words else (-1, -1)
        self.selection_changed.emit(*(self._selection if marking else (-1, -1)))
        self.refresh()

    def _copy(self) -> None:
        board = QGuiApplication.clipboard()
        if board is not None and self.selected_text:
            board.setText(self.selected_text)

    def focusInEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802 - Qt's name
        """Who comes by the keyboard finds the cursor: where there is none yet, on the first word in sight."""
        super().focusInEvent(event)
        if self._cursor < 0 and self.setting.lines:
            top = min(self.lines - 1, max(0, self.line_under(self.line_height / 2)))
            self._cursor = self._anchor = self.setting.lines[top].first
        self._read_out()
        self.refresh()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802 - Qt's name
        """The frame goes."""
        super().focusOutEvent(event)
        self.refresh()

    # --- for who does not see it ----------------------------------------------------------------------------------

    def _read_out(self) -> None:
        """Tell assistive technology the line, the word and the finding at hand."""
        cells = self.content.cells
        if not 0 <= self._cursor < len(cells):
            tell_reader(self, "" if self.setting.lines else self._empty)
            return
        number = self.setting.line_of[self._cursor]
        line, cell = self.setting.lines[number], cells[self._cursor]
        row = " ".join(cells.texts[line.first : min(line.stop, line.first + MOST_READ)])
        heard = f"heard at {self.content.time(cell.start)}" if cell.start >= 0 else "not heard"
        told = [f"{cell.text}, {heard}", *(_said(k) for k in self.drawing.marks_at.get(number, ())), f"Line {number + 1}: {row}"]
        tell_reader(self, ". ".join(told))


def _said(mark: Mark) -> str:
    kind = mark.kind.value.replace("_", " ") if mark.kind else "take"
    return f"{kind}, {mark.note}, {mark.decision.value}"
