"""A row over the foot of the window that asks for a few values: no dialog, so that everything else can go on."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import QDoubleSpinBox, QHBoxLayout, QLineEdit, QWidget

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
    """Asks for values until it is closed: each Enter does it with what stands there."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("foot")
        self._done: Callable[[tuple[Answer, ...]], object] = _nothing
        self._closed: Callable[[], object] = _nothing_more
        self._stays = False
        self._back_to: QWidget | None = None
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
        closed: Callable[[], object] | None = None,
        back_to: QWidget | None = None,
    ) -> None:
        """Ask; `done` gets what stands in the fields, and may give the words of another title; `stays` leaves the row open."""
        self._done, self._stays, self._closed, self._back_to = done, stays, closed or _nothing_more, back_to
        self.title.setText(title)
        self.do.setText(do)
        self.do.setAccessibleName(do)
        while (old := self._row.takeAt(0)) is not None:
            widget = old.widget()
            if widget is not None:
                widget.deleteLater()
        self.fields = [_field(field) for field in fields]
        for field, made in zip(fields, self.fields, strict=True):
            made.setAccessibleName(f"{title}: {field.words}")
            named = label(field.words, "quiet")
            named.setBuddy(made)
            self._row.addWidget(named)
            self._row.addWidget(made)
        self.show()
        if self.fields:
            self.fields[0].setFocus(Qt.FocusReason.ShortcutFocusReason)
            first = self.fields[0]
            if isinstance(first, QDoubleSpinBox | QLineEdit):
                first.selectAll()

    def values(self) -> tuple[Answer, ...]:
        """What stands in the fields."""
        return tuple(_value(field) for field in self.fields)

    def _do(self) -> None:
        for field in self.fields:
            if isinstance(field, QDoubleSpinBox):
                field.interpretText()
        told = self._done(self.values())
        if isinstance(told, str):
            self.title.setText(told)
        if not self._stays:
            self.shut()

    def shut(self) -> None:
        """Close the row, and give the keys back."""
        if self.isVisible():
            self.hide()
            closed, self._closed = self._closed, _nothing_more
            closed()
            if self._back_to is not None:
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


def _nothing_more() -> None:
    """Nothing is to be done after it."""
