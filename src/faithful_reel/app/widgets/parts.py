"""Small widgets that several desks use."""

from __future__ import annotations

import html
from typing import TYPE_CHECKING, Protocol

from PyQt6.QtCore import QEvent, QSize, Qt
from PyQt6.QtGui import QAction, QKeyEvent, QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QCheckBox, QComboBox, QFrame, QLabel, QPushButton, QScrollArea, QWidget

from faithful_reel.app.theme import Theme

ROLE = Qt.ItemDataRole.UserRole


class Desk(QWidget):
    """What every desk can do."""

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        raise NotImplementedError

    def refresh(self) -> None:
        """Show the book as it is."""
        raise NotImplementedError

    def take_keys(self) -> None:
        """Give the keys to what is worked with at the desk, not to a filter or a field above it."""
        raise NotImplementedError

    def why_not(self, name: str, *, finding: bool, by_key: bool, focus: QWidget | None) -> str:
        """Why an act `name` on its page, or on the finding at hand, can not be done now; empty where it can."""
        del name, finding, by_key, focus
        return ""


class SidePane(QWidget):
    """A list that can stand in the docket's place."""

    def take_keys(self) -> None:
        """Give the keys to what is worked with in it."""
        raise NotImplementedError

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""


class Apart(QWidget):
    """Holds a widget whose inside is laid out apart: a label that changes in it does not have the whole window laid out anew."""

    def __init__(self, inside: QWidget) -> None:
        super().__init__()
        inside.setParent(self)
        self._inside = inside

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # noqa: N802 - Qt's name
        """The inside takes all of it."""
        super().resizeEvent(event)
        self._inside.setGeometry(self.rect())

    def sizeHint(self) -> QSize:  # noqa: N802 - Qt's name
        """As the inside."""
        return self._inside.sizeHint()

    def minimumSizeHint(self) -> QSize:  # noqa: N802 - Qt's name
        """As the inside."""
        return self._inside.minimumSizeHint()


class Scrolled(QScrollArea):
    """Holds a widget that is scrolled where there is less room than it needs, so that nothing in it is cut off."""

    def __init__(self, inside: QWidget, *, upright_only: bool = False) -> None:
        super().__init__()
        self.setObjectName("desk")
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setWidgetResizable(True)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setWidget(inside)
        if upright_only:
            self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)

    def minimumSizeHint(self) -> QSize:  # noqa: N802 - Qt's name
        """As small as it must be."""
        inside = self.widget()
        upright = self.horizontalScrollBarPolicy() is Qt.ScrollBarPolicy.ScrollBarAlwaysOff
        width = inside.minimumSizeHint().width() if upright and inside is not None else 100
        return QSize(width, 60)


class OneLine(QLabel):
    """A label that takes what room there is; what does not fit is left out, and stands in its tooltip."""

    def __init__(self) -> None:
        super().__init__()
        self.setTextFormat(Qt.TextFormat.PlainText)

    def minimumSizeHint(self) -> QSize:  # noqa: N802 - Qt's name
        """It may be cut off wherever there is no room."""
        return QSize(0, super().minimumSizeHint().height())

    def paintEvent(self, _event: QPaintEvent | None) -> None:  # noqa: N802 - Qt's name
        """As much as fits."""
        painter = QPainter(self)
        text = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
        painter.drawText(self.rect(), self.alignment(), text)


def label(text: str = "", name: str = "", *, wrap: bool = False) -> QLabel:
    """A label of a kind that the style sheet knows."""
    made = QLabel(text)
    made.setObjectName(name)
    made.setWordWrap(wrap)
    made.setTextFormat(Qt.TextFormat.PlainText)
    return made


def tip(text: str) -> str:
    """A tooltip that shows a text from outside as it stands: Qt would take one that looks like it for rich text."""
    return f"<p>{html.escape(text)}</p>" if "<" in text else text


PRESSES = frozenset({Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Enter})
_Base = QWidget if TYPE_CHECKING else object


class Pressed(_Base):  # type: ignore[misc, valid-type]  # a mixin: Qt's classes can not be mixed with one another
    """Takes the keys that press it for itself, whatever acts have them: Space and Enter; a box letters as well."""

    letters = False

    def event(self, event: QEvent | None) -> bool:
        """What is accepted here does not go to the acts."""
        if event is not None and event.type() is QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent):
            plain = not event.modifiers() & ~(Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.KeypadModifier)
            if plain and (event.key() in PRESSES or (self.letters and bool(event.text().strip()))):
                event.accept()
                return True
        return bool(super().event(event))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802 - Qt's name
        """Enter does what Space does."""
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.press()
        else:
            super().keyPressEvent(event)

    def press(self) -> None:
        """As a click."""
        raise NotImplementedError


class Button(Pressed, QPushButton):
    """A push button."""

    def press(self) -> None:
        """As a click."""
        self.click()


class Check(Pressed, QCheckBox):
    """A box to check."""

    def press(self) -> None:
        """As a click."""
        self.click()


class Choice(Pressed, QComboBox):
    """A box to choose in."""

    letters = True

    def press(self) -> None:
        """Open the list."""
        self.showPopup()


def button(text: str, name: str = "", tip: str = "") -> Button:
    """A push button."""
    made = Button(text)
    made.setObjectName(name)
    made.setToolTip(tip)
    made.setAccessibleName(text)
    return made


class ActSource(Protocol):
    """Gives the action of an act, and what is to be said of it; see `faithful_reel.app.actions.Actions`."""

    def __getitem__(self, act_id: str) -> QAction: ...
    def tip(self, act_id: str) -> str: ...
    def key(self, act_id: str) -> str: ...


class ActButton(Button):
    """A button that does an act: its tooltip is the act's, with the key as it is now."""

    def __init__(self, text: str, act: str, name: str = "") -> None:
        super().__init__(text)
        self.act = act
        self.setObjectName(name)
        self.setAccessibleName(text.rstrip("…"))

    def bind(self, acts: ActSource) -> None:
        """Do the act when it is pressed."""
        self.clicked.connect(acts[self.act].trigger)
        self.follow(acts)

    def follow(self, acts: ActSource) -> None:
        """Show the act's key as it is now."""
        self.setToolTip(acts.tip(self.act))


class KeyButton(ActButton):
    """A button of an act that is done by its key all the time: it shows the key."""

    def __init__(self, text: str, act: str, name: str = "") -> None:
        super().__init__(text, act, name)
        self._words = text

    def follow(self, acts: ActSource) -> None:
        """Show the act's key as it is now."""
        super().follow(acts)
        key = acts.key(self.act)
        self.setText(f"{self._words}  {key}" if key else self._words)


def rule(*, upright: bool = False) -> QFrame:
    """A hairline."""
    made = QFrame()
    made.setObjectName("upright" if upright else "rule")
    return made
