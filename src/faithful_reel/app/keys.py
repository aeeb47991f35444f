"""The keys: which can be given to an act, and those that belong to a part of the window.  No Qt beyond key sequences."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence


@dataclass(frozen=True, slots=True)
class FixedKey:
    """A key of a part of the window, which stays as it is."""

    where: str
    key: str
    what: str


FIXED = (
    FixedKey("Galley", "Left, Right", "The word before or after; with Shift it is selected"),
    FixedKey("Galley", "Up, Down", "The line above or below; with Shift the words up to there are selected"),
    FixedKey("Galley", "PgUp, PgDown", "A page up or down"),
    FixedKey("Galley", "Home, End", "The line's first or last word; with Ctrl the chapter's"),
    FixedKey("Galley", "Enter", "Play from the word"),
    FixedKey("Galley", "Ctrl+A", "Select all words of the chapter"),
    FixedKey("Galley", "Esc", "Mark nothing"),
    FixedKey("Galley", "Menu, Shift+F10", "What can be done with the selected words"),
    FixedKey("Loupe", "Left, Right", "Move the cursor; with Shift mark sound"),
    FixedKey("Loupe", "PgUp, PgDown", "Along the sound"),
    FixedKey("Loupe", "Home, End", "The chapter's beginning or end"),
    FixedKey("Loupe", "+, −", "Closer or farther"),
    FixedKey("Loupe", "Esc", "Take the mark away"),
    FixedKey("Find words", "Enter, Shift+Enter", "The next place, or the one before"),
    FixedKey("Find words", "Esc", "Back to the page"),
    FixedKey("Note a finding", "Enter, Esc", "Keep the finding, or keep nothing"),
    FixedKey("Splice view", "Left, Right", "The proposal before or after, where the take begins; with Shift where it ends"),
    FixedKey("Tables", "Ctrl+C", "Copy the selected rows"),
    FixedKey("Tables", "Home, End", "The first or the last row"),
    FixedKey("Tables", "Menu, Shift+F10", "What can be done with the row"),
    FixedKey("Buttons", "Space, Enter", "Press the button that has the frame"),
    FixedKey("Everywhere", "Tab, Shift+Tab", "The next part of the window, or the one before"),
    FixedKey("Everywhere", "Alt and a letter", "Open a menu; the letter that is underlined chooses in it"),
)
_TAKEN = frozenset(
    {
        Qt.Key.Key_Tab, Qt.Key.Key_Backtab, Qt.Key.Key_Escape, Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Left,
        Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Home, Qt.Key.Key_End, Qt.Key.Key_PageUp,
        Qt.Key.Key_PageDown, Qt.Key.Key_Menu,
    }
)  # fmt: skip
"""These move through the window where nothing is held down with them, or Shift alone."""
_OF_THE_PARTS = ("Ctrl+A", "Shift+F10", "Ctrl+Home", "Ctrl+End")


def refused(text: str) -> str:
    """Why a key can not be given to an act, in words; empty where it can, and for no key at all."""
    if not text.strip():
        return ""
    sequence = QKeySequence(text)
    if sequence.isEmpty() or "Unknown" in sequence.toString() or sequence[0].key() in (Qt.Key(0), Qt.Key.Key_unknown):
        return f"“{text}” is no key."
    if sequence.count() > 1:
        return "One key at a time, with Ctrl, Alt or Shift held down where wanted."
    only = sequence[0]
    held = only.keyboardModifiers()
    if only.key() in (Qt.Key.Key_Control, Qt.Key.Key_Shift, Qt.Key.Key_Alt, Qt.Key.Key_Meta, Qt.Key.Key_AltGr):
        return "A key to go with it is missing."
    if only.key() in _TAKEN and not held & ~(Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.KeypadModifier):
        return f"{sequence.toString()} moves through the window and can not be given away."
    if held == Qt.KeyboardModifier.AltModifier and Qt.Key.Key_A <= only.key() <= Qt.Key.Key_Z:
        return f"{sequence.toString()} may open a menu: Alt and a letter do."
    if any(sequence == QKeySequence(key) for key in _OF_THE_PARTS):
        return f"{sequence.toString()} belongs to the galley, the tables and the fields."
    return ""
