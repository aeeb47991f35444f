"""What the program says, in one line of fixed height: nothing moves when something is said.  The last ones can be read again."""

from __future__ import annotations

import time
from collections import deque
from enum import Enum

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from faithful_reel.app.widgets.parts import OneLine, button, label, tip

MOST_KEPT = 60


class Said(Enum):
    """What kind of message it is: its sign, what it is called, and the style that it has."""

    NEWS = ("·", "Note", "quiet")
    DONE = ("✓", "Done", "good")
    PROBLEM = ("!", "Problem", "problem")


class MessageStrip(QWidget):
    """The last message with its sign, until the next one comes; a button opens those before it."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("strip")
        self.kept: deque[tuple[str, Said, str]] = deque(maxlen=MOST_KEPT)
        self.sign = label("", "quiet")
        self.sign.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.notice = OneLine()
        self.notice.setAccessibleName("Message")
        self.notice.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.again = button("Messages", tip="Read the last messages again")
        self.again.setObjectName("plain")
        self.again.clicked.connect(self.show_last)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 0, 10, 0)
        row.setSpacing(8)
        row.addWidget(self.sign)
        row.addWidget(self.notice, 1)
        row.addWidget(self.again)

    def sizeHint(self) -> QSize:  # noqa: N802 - Qt's name
        """As high as its button, whatever is said."""
        return QSize(super().sizeHint().width(), self.again.sizeHint().height())

    def say(self, text: str, kind: Said) -> None:
        """Show a message in the place of the last one."""
        self.kept.append((time.strftime("%H:%M:%S"), kind, text))
        sign, name, style = kind.value
        self.sign.setText(sign)
        self.notice.setText(text)
        self.notice.setToolTip(tip(text))
        for made, wanted in ((self.sign, style), (self.notice, "problem" if kind is Said.PROBLEM else "")):
            if made.objectName() != wanted:
                made.setObjectName(wanted)
                made.setStyleSheet("")  # the window's style is taken anew for its name
        self.notice.setAccessibleDescription(f"{name}: {text}")

    def clear(self) -> None:
        """Nothing is said; what was can still be read again."""
        self.sign.setText("")
        self.notice.setText("")

    def show_last(self) -> None:
        """The last messages in a list, the newest first."""
        dialog = QDialog(self)
        dialog.setWindowTitle("Messages")
        dialog.resize(640, 380)
        rows = QListWidget()
        rows.setObjectName("books")
        rows.setAccessibleName("Messages")
        rows.setWordWrap(True)
        for at, kind, text in reversed(self.kept):
            item = QListWidgetItem(f"{at}  {kind.value[0]}  {text}")
            item.setData(Qt.ItemDataRole.AccessibleTextRole, f"{at}, {kind.value[1]}: {text}")
            rows.addItem(item)
        if not self.kept:
            rows.addItem("Nothing was said yet.")
        rows.setCurrentRow(0)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(dialog.reject)
        box = QVBoxLayout(dialog)
        box.addWidget(rows, 1)
        box.addWidget(buttons)
        dialog.exec()
        dialog.deleteLater()
