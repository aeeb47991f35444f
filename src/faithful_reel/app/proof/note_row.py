"""The line for a finding by hand, under the page; the sound goes on playing while it is written."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QWidget

from faithful_reel.app.proof.docket import kind_words
from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.widgets.parts import Choice, button, label
from faithful_reel.core.collate.findings import Kind
from faithful_reel.core.units import Span


class NoteRow(QWidget):
    """What kind of finding it is, and a note, on words or on a stretch of sound."""

    def __init__(self, presenter: ProofPresenter, back_to: QWidget) -> None:
        super().__init__()
        self.setObjectName("foot")
        self._presenter, self._back_to = presenter, back_to
        self._words: tuple[int, int] | None = None
        self._sound: Span | None = None
        self._lane: int | None = None
        self.kind = Choice()
        self.kind.setAccessibleName("Kind of finding")
        for kind in Kind:
            self.kind.addItem(kind_words(kind), kind)
        self.where = label("", "quiet")
        self.text = QLineEdit()
        self.text.setAccessibleName("Note")
        self.text.setPlaceholderText("what is wrong here; may be empty")
        keep, drop = button("Note it", tip="Keep the finding (Enter)"), button("Cancel", tip="Keep nothing (Esc)")
        self.text.returnPressed.connect(self._note)
        keep.clicked.connect(self._note)
        drop.clicked.connect(self.shut)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 4, 16, 4)
        for widget in (self.where, self.kind, self.text, keep, drop):
            row.addWidget(widget, 1 if widget is self.text else 0)
        context = Qt.ShortcutContext.WidgetWithChildrenShortcut
        QShortcut(QKeySequence(Qt.Key.Key_Escape), self, self.shut, context=context)
        self.hide()

    def open(
        self, where: str, *, words: tuple[int, int] | None = None, sound: Span | None = None, lane: int | None = None
    ) -> None:
        """Ask for a finding on words, or on a stretch of sound, of a lane where that is known."""
        self._words, self._sound, self._lane = words, sound, lane
        self.kind.setCurrentIndex(self.kind.findData(Kind.MISREAD if words else Kind.NOISE))
        self.where.setText(where)
        self.text.clear()
        self.show()
        self.text.setFocus()

    def shut(self) -> None:
        """Back to the page."""
        self.hide()
        self._back_to.setFocus()

    def _note(self) -> None:
        kind = Kind(self.kind.currentData())
        if self._words is not None:
            self._presenter.note_finding(kind, *self._words, self.text.text())
        elif self._sound is not None:
            self._presenter.note_sound(kind, self._sound, self.text.text(), self._lane)
        self.shut()
