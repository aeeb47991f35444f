"""The acts of the Help menu: the keys, a page for each desk, about."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from importlib import resources
from typing import Any

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QHBoxLayout,
    QInputDialog,
    QKeySequenceEdit,
    QLineEdit,
    QMessageBox,
    QPushButton,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from faithful_reel import __version__
from faithful_reel.app.actions import Act, Actions, Menu
from faithful_reel.app.asking import Asking, with_suffix
from faithful_reel.app.desks import DeskName, Desks
from faithful_reel.app.key_sets import USUAL, forget_set, keep_set, kept_set, read_keys, sets, write_keys
from faithful_reel.app.keys import FIXED, refused
from faithful_reel.app.settings import Settings
from faithful_reel.app.theme import scale_of_letters
from faithful_reel.app.widgets.parts import Choice, button, label
from faithful_reel.app.widgets.tables import Table
from faithful_reel.core.errors import AppError


class KeysDialog(QDialog):
    """All acts, searched, done by Enter; their keys can be changed, kept as sets, and written to files."""

    def __init__(self, actions: Actions, ask: Asking, settings: Settings, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._actions, self._ask, self._settings = actions, ask, settings
        self._clash = ""
        self.wanted = ""
        """The act that is to be done once the dialog is closed."""
        self.setWindowTitle("Acts and their keys")
        scale = scale_of_letters()
        self.resize(round(860 * scale), round(560 * min(scale, 1.3)))
        self.search = QLineEdit()
        self.search.setAccessibleName("Search acts and keys")
        self.search.setPlaceholderText("a part of a name, a key, or what it does; Enter does it, the arrows choose another")
        self.search.returnPressed.connect(self._do)
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._sift)
        self.view = Table(["Act", "Key", "Where", "What it does"], "Keys")
        self.view.empty = "Nothing like that. Try another word."
        self.view.columns(stretch=3)
        self.view.itemSelectionChanged.connect(self._row_chosen)
        self.view.activated.connect(self._do)
        self.key = QKeySequenceEdit()
        self.key.setMaximumSequenceLength(1)
        self.key.setAccessibleName("New key")
        self.key.setToolTip("Press the new key here")
        self.key.keySequenceChanged.connect(self._look)
        self.key.installEventFilter(self)
        self.set = button("Set", tip="Give the act this key, now and from now on")
        self.swap = button("Swap", tip="Give the other act the key that this one has now")
        self.none = button("No key", tip="The act is in its menu only")
        self.usual = button("Usual key", tip="The key that it came with")
        self.told = label("", "problem", wrap=True)
        self.set.clicked.connect(self._set)
        self.swap.clicked.connect(self._swap)
        self.none.clicked.connect(self._clear)
        self.usual.clicked.connect(self._reset)
        row = QHBoxLayout()
        self.name = label("", "heading")
        row.addWidget(self.name, 1)
        for widget in (self.key, self.set, self.swap, self.none, self.usual):
            row.addWidget(widget)
        self.do = button("Do it", tip="Close this, and do the act at hand (Enter)")
        self.do.clicked.connect(self._do)
        self.sets = Choice()
        self.sets.setAccessibleName("Set of keys")
        self.sets.setToolTip("Give all acts the keys of a set")
        self.sets.activated.connect(self._set_chosen)
        self.keep = button("Keep as a set…", tip="Keep all keys as they are now under a name")
        self.forget = button("Forget the set", tip="The keys stay as they are")
        self.write = button("Write to a file…", tip="All keys, to be read elsewhere")
        self.read = button("Read from a file…", tip="Keys that were written here or elsewhere")
        self.keep.clicked.connect(self._keep)
        self.forget.clicked.connect(self._forget)
        self.write.clicked.connect(self._write)
        self.read.clicked.connect(self._read)
        close = button("Close")
        close.clicked.connect(self.reject)
        foot = QHBoxLayout()
        for widget in (self.sets, self.keep, self.forget, self.write, self.read):
            foot.addWidget(widget)
        foot.addStretch(1)
        foot.addWidget(self.do)
        foot.addWidget(close)
        box = QVBoxLayout(self)
        box.addWidget(self.search)
        box.addWidget(self.view, 1)
        box.addLayout(row)
        box.addWidget(self.told)
        box.addLayout(foot)
        for pressed in self.findChildren(QPushButton):
            pressed.setAutoDefault(False)
        self.search.installEventFilter(self)
        self._show_sets(USUAL)
        self._sift()
        self.search.setFocus()

    # --- sets and files -------------------------------------------------------------------------------------------

    def _show_sets(self, chosen: str) -> None:
        self.sets.clear()
        self.sets.addItems(sets(self._settings))
        self.sets.setCurrentIndex(max(0, self.sets.findText(chosen)))
        self.forget.setEnabled(self.sets.currentText() != USUAL)

    def _give_all(self, keys: dict[str, str]) -> None:
        wrong = self._actions.give_keys(keys)
        self._sift()
        self.told.setText("\n".join(wrong[:4] + ([f"… and {len(wrong) - 4} more"] if len(wrong) > 4 else [])))

    def _set_chosen(self) -> None:
        name = self.sets.currentText()
        self.forget.setEnabled(name != USUAL)
        self._give_all({} if name == USUAL else kept_set(self._settings, name))

    def _keep(self) -> None:
        name, taken = QInputDialog.getText(self, "Keep as a set", "Name")
        if taken and name.strip() and name.strip() != USUAL:
            keep_set(self._settings, name.strip(), self._actions.keys())
            self._show_sets(name.strip())

    def _forget(self) -> None:
        forget_set(self._settings, self.sets.currentText())
        self._show_sets(USUAL)

    def _write(self) -> None:
        asked = self._ask.new_file("Write the keys", "keys.json", "Keys (*.json)")
        if asked:
            self._try(lambda: write_keys(self._actions.keys(), with_suffix(asked[0], ".json")), "The keys are written.")

    def _read(self) -> None:
        path = self._ask.file("Read keys", "Keys (*.json);;All files (*)")
        if path is not None:
            self._try(lambda: self._give_all(read_keys(path)), "")

    def _try(self, do: Callable[[], object], done: str) -> None:
        try:
            do()
        except AppError as problem:
            self.told.setText(str(problem))
        else:
            if done:
                self.told.setText(done)

    # --- acts -----------------------------------------------------------------------------------------------------

    def _do(self) -> None:
        """Close, and have the act at hand done."""
        if self.act:
            self.wanted = self.act
            self.accept()

    def _rows(self) -> list[tuple[str, tuple[str, str, str, str]]]:
        acts = [
            (act.id, (act.name, self._actions.key(act.id), act.desk.words if act.desk else "everywhere", act.tip))
            for act in sorted(self._actions.all(), key=self._place)
        ]
        return acts + [("", ("", f.key, f.where, f.what)) for f in FIXED]

    def _place(self, act: Act[Any]) -> int:
        """What was done last stands first, and all else as it stands in the menus."""
        last = self._actions.last
        return last.index(act.id) if act.id in last else len(last)

    def _sift(self) -> None:
        wanted = self.search.text().casefold().split()
        rows = [(k, row) for k, row in self._rows() if all(word in " ".join(row).casefold() for word in wanted)]
        if wanted:  # by a part of the name before those by what they do
            rows.sort(key=lambda row: not all(word in row[1][0].casefold() for word in wanted))
        self.view.fill([row for _, row in rows], keys=[k for k, _ in rows])
        self.view.resizeColumnsToContents()
        if rows and (wanted or not self.view.key):
            self.view.selectRow(0)
        self._row_chosen()

    @property
    def act(self) -> str:
        """The id of the act at hand; empty for a key that stays as it is."""
        return self.view.key

    def _row_chosen(self) -> None:
        act = self.act
        self.name.setText(self._actions.act(act).name if act else "This key stays as it is")
        self.key.blockSignals(True)
        self.key.setKeySequence(QKeySequence(self._actions.key(act)) if act else QKeySequence())
        self.key.blockSignals(False)
        for widget in (self.key, self.none, self.usual, self.do):
            widget.setEnabled(bool(act))
        self._look()

    def _wanted(self) -> str:
        return self.key.keySequence().toString()

    def _look(self) -> None:
        """Say what stands against the key that was pressed."""
        why = refused(self._wanted()) if self.act else ""
        self._clash = self._actions.holder(self._wanted(), but=self.act) if self.act and not why else ""
        if self._clash:
            why = f"{self._wanted()} belongs to “{self._actions.act(self._clash).name}”. Swap the two, or press another key."
        changed = bool(self.act) and self._wanted() != QKeySequence(self._actions.key(self.act)).toString()
        self.told.setText(why)
        self.set.setEnabled(changed and not why and bool(self._wanted()))
        self.swap.setEnabled(bool(self._clash))

    def _give(self, key: str) -> None:
        self._actions.set_key(self.act, key)
        self._sift()

    def _set(self) -> None:
        self._give(self._wanted())

    def _swap(self) -> None:
        other, before = self._clash, QKeySequence(self._actions.key(self.act)).toString()
        wanted = self._wanted()
        self._actions.set_key(other, before)
        self._give(wanted)

    def _clear(self) -> None:
        self._give("")

    def _reset(self) -> None:
        usual = self._actions.act(self.act).key
        self.key.setKeySequence(QKeySequence(usual))
        self._look()
        if not self._clash:
            self._give(usual)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:  # noqa: N802 - Qt's name
        """Tab leaves the field for the key: it could not be given away anyhow."""
        pressed = event.key() if isinstance(event, QKeyEvent) and event.type() is QEvent.Type.KeyPress else None
        if watched is self.search and pressed in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            step = 1 if pressed == Qt.Key.Key_Down else -1
            self.view.selectRow(min(self.view.rowCount() - 1, max(0, self.view.currentRow() + step)))
            return True
        if watched is self.key and event is not None and event.type() is QEvent.Type.KeyPress:
            key = event.key()  # type: ignore[attr-defined]
            if key in (Qt.Key.Key_Tab, Qt.Key.Key_Backtab):
                self.focusNextPrevChild(key == Qt.Key.Key_Tab)
                return True
        return super().eventFilter(watched, event)


def page_of(desk: DeskName) -> str:
    """The help page of a desk, in Markdown."""
    return (resources.files("faithful_reel") / "assets" / "help" / f"{desk.value}.md").read_text(encoding="utf-8")


class HelpPage(QDialog):
    """The page of a desk; it may stay open beside the work."""

    def __init__(self, desk: DeskName, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle(f"{desk.words}: help")
        scale = scale_of_letters()
        self.resize(round(560 * scale), round(520 * min(scale, 1.3)))
        self.text = QTextBrowser()
        self.text.setAccessibleName(f"Help on the {desk.words} desk")
        self.text.setMarkdown(page_of(desk))
        self.text.setHtml(self.text.toHtml().replace("font-weight:700", "font-weight:600"))  # the face has no bolder cut
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(self.reject)
        box = QVBoxLayout(self)
        box.addWidget(self.text, 1)
        box.addWidget(buttons)


class Help:
    """Shows the pages of help."""

    def __init__(self, desks: Desks, ask: Asking, settings: Settings) -> None:
        self._desks, self._ask, self._settings = desks, ask, settings
        self.window: QWidget | None = None
        self.actions: Actions | None = None

    @property
    def acts(self) -> Sequence[Act[Help]]:
        """The table below."""
        return ACTS

    def keys(self) -> None:
        """All keys."""
        if self.actions is not None:
            dialog = KeysDialog(self.actions, self._ask, self._settings, self.window)
            dialog.exec()
            if dialog.wanted:
                self.actions.run(dialog.wanted)

    def desk(self) -> None:
        """The page of the desk at hand."""
        HelpPage(self._desks.current, self.window).show()

    def about(self) -> None:
        """Version and licences."""
        text = (
            f"Faithful Reel {__version__}\n\n"
            "Proofs long narration against its manuscript, splices pickups, masters chapter files.\n\n"
            "Free software under the GNU General Public License, version 3. "
            "The typefaces Literata and Inter are under the SIL Open Font License 1.1."
        )
        QMessageBox.about(self.window, "About Faithful Reel", text)


A, H = Help, Menu.HELP
ACTS: tuple[Act[Help], ...] = (
    Act("help.desk", H, "Help on this desk", "Shift+F1", "What is done here, and how", A.desk),
    Act("help.keys", H, "Acts and their keys…", "F1", "Do an act by a part of its name; change its key", A.keys),
    Act("help.about", H, "About", "", "Version and licences", A.about, apart=True),
)  # fmt: skip
