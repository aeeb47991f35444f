"""A row over the foot of the window that asks for a few values: no dialog, so that everything else can go on."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import QApplication, QDoubleSpinBox, QHBoxLayout, QLineEdit, QWidget

from faithful_reel.app.widgets.parts import Choice, button, label


@dataclass(frozen=True, slots=True)
class Number:
    """A number that is asked for."""

    words: str
    value: float
    least: float
    most: float
    step: float = 1.0
    unit: str = ""
    decimals: int = 0


@dataclass(frozen=True, slots=True)
class Pick:
    """One of some words."""

    words: str
    choices: tuple[str, ...]
    value: str


@dataclass(frozen=True, slots=True)
class Line:
    """A line of text."""

    words: str
    value: str


Field = Number | Pick | Line
Answer = float | str


class FieldBar(QWidget):
    """Asks for values until it is closed: each Enter does it with what stands there.

    Where something else is meant by now than what its title names, that is told first and nothing is done.
    """

    turned = pyqtSignal(str)
    """The title is another now: what it names is what the next Enter works on."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("foot")
        self._done: Callable[[tuple[Answer, ...]], object] = _nothing
        self._about: Callable[[], str | None] | None = None
        self._stays = False
        self._back_to: QWidget | None = None
        self._words: tuple[str, ...] = ()
        self.fields: list[QDoubleSpinBox | Choice | QLineEdit] = []
        self.title = label("", "quiet")
        self.do, self.leave = button("Do it", tip="With these values (Enter)"), button("Close", tip="Close this row (Esc)")
        self.do.clicked.connect(self._do)
        self.leave.clicked.connect(self.shut)
        self._inside = QWidget()
        self._row = QHBoxLayout(self._inside)
        self._row.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 4, 16, 4)
        for widget in (self.title, self._inside, self.do, self.leave):
            row.addWidget(widget)
        row.addStretch(1)
        context = Qt.ShortcutContext.WidgetWithChildrenShortcut
        for key, act in ((Qt.Key.Key_Escape, self.shut), (Qt.Key.Key_Return, self._do), (Qt.Key.Key_Enter, self._do)):
            QShortcut(QKeySequence(key), self, act, context=context)
        self.hide()

    def ask(
        self,
        title: str,
        fields: Sequence[Field],
        done: Callable[[tuple[Answer, ...]], object],
        *,
        do: str = "Do it",
        stays: bool = True,
        about: Callable[[], str | None] | None = None,
        back_to: QWidget | None = None,
    ) -> None:
        """Ask; `done` gets what stands in the fields; `stays` leaves the row open.

        `about` gives the title for what is meant by now, or None, and tells, where nothing is.
        """
        self._done, self._stays, self._about, self._back_to = done, stays, about, back_to
        self.do.setText(do)
        self.do.setAccessibleName(do)
        while (old := self._row.takeAt(0)) is not None:
            widget = old.widget()
            if widget is not None:
                widget.deleteLater()
        self.fields = [_field(field) for field in fields]
        for field, made in zip(fields, self.fields, strict=True):
            named = label(field.words, "quiet")
            named.setBuddy(made)
            self._row.addWidget(named)
            self._row.addWidget(made)
        self._entitle(title, [field.words for field in fields])
        self.show()
        if self.fields:
            self.fields[0].setFocus(Qt.FocusReason.ShortcutFocusReason)
            first = self.fields[0]
            if isinstance(first, QDoubleSpinBox | QLineEdit):
                first.selectAll()

    def _entitle(self, title: str, words: Sequence[str]) -> None:
        self._words = tuple(words)
        self.title.setText(title)
        for name, made in zip(words, self.fields, strict=True):
            made.setAccessibleName(f"{title}: {name}")

    def values(self) -> tuple[Answer, ...]:
        """What stands in the fields."""
        return tuple(_value(field) for field in self.fields)

    def _do(self) -> None:
        for field in self.fields:
            if isinstance(field, QDoubleSpinBox):
                field.interpretText()
        now = self._about() if self._about is not None else self.title.text()
        if now != self.title.text():
            if now is not None:
                self._entitle(now, self._words)
                self.turned.emit(now)
            return
        self._done(self.values())
        if not self._stays:
            self.shut()

    def shut(self) -> None:
        """Close the row, and give the keys back where it had them."""
        focus = QApplication.focusWidget()
        had = focus is not None and self.isAncestorOf(focus)
        self.hide()
        if had and self._back_to is not None:
            self._back_to.setFocus()


def _field(field: Field) -> QDoubleSpinBox | Choice | QLineEdit:
    match field:
        case Number():
            number = QDoubleSpinBox()
            number.setDecimals(field.decimals)
            number.setRange(field.least, field.most)
            number.setSingleStep(field.step)
            number.setSuffix(f" {field.unit}" if field.unit else "")
            number.setValue(field.value)
            return number
        case Pick():
            choice = Choice()
            choice.addItems(field.choices)
            choice.setCurrentIndex(max(0, choice.findText(field.value)))
            return choice
        case Line():
            line = QLineEdit(field.value)
            line.setMinimumWidth(220)
            return line


def _value(field: QDoubleSpinBox | Choice | QLineEdit) -> Answer:
    match field:
        case QDoubleSpinBox():
            return field.value()
        case Choice():
            return field.currentText()
        case _:
            return field.text()


def _nothing(_values: tuple[Answer, ...]) -> None:
    """Nobody asked."""
