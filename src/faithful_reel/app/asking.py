"""Questions for files and folders: the last folder is remembered, and a suffix is added where none was typed."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QFormLayout,
    QLineEdit,
    QMessageBox,
    QPlainTextEdit,
    QWidget,
)

from faithful_reel.app.settings import Settings, text
from faithful_reel.app.widgets.parts import Choice
from faithful_reel.core.audio import files
from faithful_reel.core.files import is_folder
from faithful_reel.core.text import manuscript

ALL_THE_SAME, LEAVE = "All the same", "Leave it"
MANUSCRIPTS = f"Manuscripts ({' '.join('*' + s for s in manuscript.SUFFIXES)})"
COLORS = {"none": "", "red": "red", "blue": "blue", "green": "good", "graphite": "graphite"}
"""What colours are called, and the theme's roles of them."""
SOUNDS = f"Sound ({' '.join('*' + s for s in files.SUFFIXES)});;All files (*)"


class Asking:
    """Asks for files in dialogs over a window; None where the user thought better of it."""

    def __init__(self, parent: QWidget | None, settings: Settings) -> None:
        self.parent, self._settings = parent, settings

    def _start(self) -> str:
        folder = text(self._settings, "files/folder", str(Path.home()))
        return folder if is_folder(Path(folder)) else str(Path.home())

    def _kept(self, path: str) -> Path | None:
        if not path:
            return None
        self._settings.setValue("files/folder", str(Path(path).parent))
        return Path(path)

    def file(self, title: str, kinds: str) -> Path | None:
        """A file that is there."""
        return self._kept(QFileDialog.getOpenFileName(self.parent, title, self._start(), kinds)[0])

    def several(self, title: str, kinds: str) -> list[Path]:
        """Files that are there."""
        paths, _ = QFileDialog.getOpenFileNames(self.parent, title, self._start(), kinds)
        if paths:
            self._kept(paths[0])
        return [Path(p) for p in paths]

    def new_file(self, title: str, name: str, kinds: str) -> tuple[Path, str] | None:
        """A file to write, and the kind that was chosen for it; `name` is proposed."""
        proposed = name if Path(name).is_absolute() else f"{self._start()}/{name}"
        path, kind = QFileDialog.getSaveFileName(self.parent, title, proposed, kinds)
        kept = self._kept(path)
        return (kept, kind) if kept else None

    def choose(self, title: str, words: str, told: Sequence[str], answers: Sequence[str]) -> str:
        """Which answer is given to a question; the last one stands for leaving things as they are, as closing does."""
        box = QMessageBox(QMessageBox.Icon.Question, title, words, parent=self.parent)
        box.setTextFormat(Qt.TextFormat.PlainText)
        box.setInformativeText("\n".join(told))
        for answer in answers:
            last = answer == answers[-1]
            box.addButton(answer, QMessageBox.ButtonRole.RejectRole if last else QMessageBox.ButtonRole.AcceptRole)
        box.exec()
        clicked = box.clickedButton()
        return clicked.text() if clicked is not None else answers[-1]

    def all_the_same(self, title: str, missing: Sequence[str]) -> bool:
        """Whether it is to be done although lanes are muted, or others heard alone; nothing is asked where all are heard."""
        if not missing:
            return True
        return (
            self.choose(title, "These lanes are not heard and would be missing:", missing, (ALL_THE_SAME, LEAVE)) == ALL_THE_SAME
        )

    def description(self, title: str, name: str, color: str, note: str) -> tuple[str, str, str] | None:
        """A name, a colour by the theme's roles, and a note."""
        dialog = QDialog(self.parent)
        dialog.setWindowTitle(title)
        named, told = QLineEdit(name), QPlainTextEdit(note)
        told.setTabChangesFocus(True)
        colors = Choice()
        for words, role in COLORS.items():
            colors.addItem(words, role)
        colors.setCurrentIndex(max(0, list(COLORS.values()).index(color) if color in COLORS.values() else 0))
        form = QFormLayout(dialog)
        for words, field in (("Name", named), ("Colour", colors), ("Note", told)):
            field.setAccessibleName(words)
            form.addRow(words, field)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(dialog.accept)
        buttons.rejected.connect(dialog.reject)
        form.addRow(buttons)
        named.selectAll()
        if not dialog.exec():
            return None
        return named.text(), str(colors.currentData()), told.toPlainText()

    def folder(self, title: str) -> Path | None:
        """A folder that is there."""
        path = QFileDialog.getExistingDirectory(self.parent, title, self._start())
        if not path:
            return None
        self._settings.setValue("files/folder", path)
        return Path(path)


def with_suffix(path: Path, suffix: str) -> Path:
    """The path, with a suffix where it has none."""
    return path if path.suffix else path.with_name(path.name + suffix)
