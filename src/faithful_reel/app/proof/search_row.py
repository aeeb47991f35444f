"""The line for words to find, above the page."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import QApplication, QHBoxLayout, QLineEdit, QWidget

from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.widgets.galley import Galley
from faithful_reel.app.widgets.parts import Check, button, label


class SearchRow(QWidget):
    """Words, a page or a time, found in the chapter at hand."""

    time_wanted = pyqtSignal(int)

    def __init__(self, presenter: ProofPresenter, galley: Galley) -> None:
        super().__init__()
        self.setObjectName("foot")
        self._presenter, self._galley = presenter, galley
        self.wanted = QLineEdit()
        self.wanted.setAccessibleName("Find words")
        self.wanted.setPlaceholderText("find words; p 12 goes to a page, 0:03:20 to a time")
        self.in_heard = Check("in what was heard")
        self.before, self.after = (
            button("Before", tip="The place before (Shift+Enter)"),
            button("Next", tip="The next place (Enter)"),
        )
        self.found = label("", "quiet")
        done = button("Done", tip="Close (Esc)")
        self.wanted.returnPressed.connect(self._find_by_enter)
        self.before.clicked.connect(self._find_before)
        self.after.clicked.connect(self._find_next)
        done.clicked.connect(self.shut)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 4, 16, 4)
        for widget in (self.wanted, self.in_heard, self.before, self.after, self.found, done):
            row.addWidget(widget, 1 if widget is self.wanted else 0)
        context = Qt.ShortcutContext.WidgetWithChildrenShortcut
        QShortcut(QKeySequence(Qt.Key.Key_Escape), self, self.shut, context=context)
        self.hide()

    def open(self) -> None:
        """Ask for words."""
        self.show()
        self.wanted.setFocus()
        self.wanted.selectAll()

    def shut(self) -> None:
        """Back to the page."""
        self.hide()
        self._galley.setFocus()

    def _find_by_enter(self) -> None:
        back = bool(QApplication.keyboardModifiers() & Qt.KeyboardModifier.ShiftModifier)
        self._find(back=back)

    def _find_next(self) -> None:
        self._find(back=False)

    def _find_before(self) -> None:
        self._find(back=True)

    def _find(self, *, back: bool) -> None:
        heard = self.in_heard.isChecked()
        place = self._presenter.find(self.wanted.text(), self._galley.cursor_word, back=back, heard=heard)
        self.found.setText("" if place.word >= 0 or place.position >= 0 else "not in this chapter")
        if place.position >= 0:
            self.time_wanted.emit(place.position)
        elif place.word >= 0:
            self._galley.go_to_word(place.word)
