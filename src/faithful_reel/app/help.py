"""The acts of the Help menu: the keys, a page for each desk, about."""

from __future__ import annotations

from collections.abc import Sequence
from importlib import resources

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeySequence
from PyQt6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QHBoxLayout,
    QKeySequenceEdit,
    QLineEdit,
    QMessageBox,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from faithful_reel import __version__
from faithful_reel.app.actions import Act, Actions, Menu
from faithful_reel.app.desks import DeskName, Desks
from faithful_reel.app.keys import FIXED, refused
from faithful_reel.app.theme import scale_of_letters
from faithful_reel.app.widgets.parts import button, label
from faithful_reel.app.widgets.tables import Table


class KeysDialog(QDialog):
    """All keys, searched; those of acts can be changed, and stay changed."""

    def __init__(self, actions: Actions, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._actions = actions
        self._clash = ""
        self.setWindowTitle("Keys")
        scale = scale_of_letters()
        self.resize(round(860 * scale), round(560 * min(scale, 1.3)))
        self.search = QLineEdit()
        self.search.setAccessibleName("Search the keys")
        self.search.setPlaceholderText("search acts, keys and what they do")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._sift)
        self.view = Table(["Act", "Key", "Where", "What it does"], "Keys")
        self.view.empty = "Nothing like that. Try another word."
        self.view.columns(stretch=3)
        self.view.itemSelectionChanged.connect(self._row_chosen)
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
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(self.reject)
        box = QVBoxLayout(self)
        box.addWidget(self.search)
        box.addWidget(self.view, 1)
        box.addLayout(row)
        box.addWidget(self.told)
        box.addWidget(buttons)
        self._sift()
        self.search.setFocus()

    def _rows(self) -> list[tuple[str, tuple[str, str, str, str]]]:
        acts = [
            (act.id, (act.name, self._actions.key(act.id), act.desk.words if act.desk else "everywhere", act.tip))
            for act in self._actions.all()
        ]
        return acts + [("", ("", f.key, f.where, f.what)) for f in FIXED]

    def _sift(self) -> None:
        wanted = self.search.text().casefold().split()
        rows = [(k, row) for k, row in self._rows() if all(word in " ".join(row).casefold() for word in wanted)]
        self.view.fill([row for _, row in rows], keys=[k for k, _ in rows])
        self.view.resizeColumnsToContents()
        if rows and not self.view.key:
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
        for widget in (self.key, self.none, self.usual):
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
        changed = bool(self.act) and self._wanted() != self._actions[self.act].shortcut().toString()
        self.told.setText(why)
        self.set.setEnabled(changed and not why and bool(self._wanted()))
        self.swap.setEnabled(bool(self._clash))

    def _give(self, key: str) -> None:
        self._actions.set_key(self.act, key)
        self._sift()

    def _set(self) -> None:
        self._give(self._wanted())

    def _swap(self) -> None:
        other, before = self._clash, self._actions[self.act].shortcut().toString()
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

    def __init__(self, desks: Desks) -> None:
        self._desks = desks
        self.window: QWidget | None = None
        self.actions: Actions | None = None

    @property
    def acts(self) -> Sequence[Act[Help]]:
        """The table below."""
        return ACTS

    def keys(self) -> None:
        """All keys."""
        if self.actions is not None:
            KeysDialog(self.actions, self.window).exec()

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
    Act("help.keys", H, "Keys…", "F1", "All acts and their keys", A.keys),
    Act("help.about", H, "About", "", "Version and licences", A.about, apart=True),
)  # fmt: skip
