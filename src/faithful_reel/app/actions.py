"""Acts of the user.  Each desk brings its own in one table; menus, keys, tests and scripts go through these."""

from __future__ import annotations

import string
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Any, Generic, Protocol, TypeVar

from PyQt6.QtCore import QEvent, QObject, pyqtSignal, pyqtSlot
from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QWidget

from faithful_reel.app.desks import DeskName
from faithful_reel.app.keys import refused
from faithful_reel.app.settings import Settings, keep_names, names, text

D = TypeVar("D")
LAST_KEPT = 8


class On(Enum):
    """What an act works on, beside the desk that it belongs to: what is not seen is not acted on."""

    ANYTHING = "anything"
    PAGE = "the page"
    """Its key works on the page and in the docket only, not from a field or a list elsewhere."""
    FINDING = "the finding at hand"
    """The docket must be seen as well."""


class Menu(Enum):
    """The menus, in their order."""

    BOOK = "Book"
    EDIT = "Edit"
    SOUND = "Sound"
    GO = "Go"
    CHAPTER = "Chapter"
    PROOF = "Proof"
    SPLICE = "Splice"
    MASTER = "Master"
    LISTEN = "Listen"
    VIEW = "View"
    HELP = "Help"


@dataclass(frozen=True, slots=True)
class Act(Generic[D]):
    """One act of a desk `D`; `key` may be changed by the user and stays changed.  `apart` draws a line above it in its menu."""

    id: str
    menu: Menu
    words: str
    key: str
    tip: str
    do: Callable[[D], object]
    desk: DeskName | None = None
    on: On = On.ANYTHING
    checkable: bool = False
    apart: bool = False
    rank: int = 0
    """Acts of a menu stand by their rank, and those of one rank as they come."""
    within: str = ""
    """The menu inside of its menu that it stands in; empty for the menu itself."""

    @property
    def name(self) -> str:
        """Its words without the dots that announce a question."""
        return self.words.rstrip("…")


class Bound(Protocol):
    """A table of acts and the desk that does them."""

    @property
    def acts(self) -> Sequence[Act[Any]]: ...


class KeyedAction(QAction):
    """An action that knows whether it is done by its key or from the menu."""

    by_key = False

    def event(self, event: QEvent | None) -> bool:
        """A key arrives as an event of its own kind."""
        self.by_key = event is not None and event.type() is QEvent.Type.Shortcut
        try:
            return super().event(event)
        finally:
            self.by_key = False


class Actions(QObject):
    """The acts as Qt actions; `run(id)` does what the menu would.

    `why_not(act, by_key)` says why an act can not be done now, empty where it can; that is told.
    """

    keys_changed = pyqtSignal()

    def __init__(
        self,
        window: QWidget,
        desks: Iterable[Bound],
        settings: Settings,
        why_not: Callable[[Act[Any], bool], str],
        tell: Callable[[str], None],
    ) -> None:
        super().__init__(window)
        self._settings, self._why_not, self._tell = settings, why_not, tell
        self._actions: dict[str, KeyedAction] = {}
        self._keys: dict[str, QKeySequence] = {}
        self._desk: DeskName | None = None
        self._acts: dict[str, tuple[Act[Any], Bound]] = {act.id: (act, desk) for desk in desks for act in desk.acts}
        self.last = [a for a in names(settings, "acts/last") if a in self._acts]
        """The ids of what was done last, the latest first."""
        self._load_keys()
        letters = mnemonics(self.all())
        for act in self.all():
            action = KeyedAction(letters[act.id], window)
            action.setObjectName(act.id)
            action.setStatusTip(act.tip)
            action.setCheckable(act.checkable)
            action.triggered.connect(self._triggered)
            window.addAction(action)
            self._actions[act.id] = action
            self._tell_key(act.id)
        self._arrange()

    def __getitem__(self, act_id: str) -> QAction:
        return self._actions[act_id]

    def all(self) -> list[Act[Any]]:
        """Every act, menu by menu in their order."""
        return sorted((act for act, _ in self._acts.values()), key=lambda act: (list(Menu).index(act.menu), act.rank))

    def act(self, act_id: str) -> Act[Any]:
        """An act by its id."""
        return self._acts[act_id][0]

    @pyqtSlot()
    def _triggered(self) -> None:
        sender = self.sender()
        if not isinstance(sender, KeyedAction):
            return
        act, desk = self._acts[sender.objectName()]
        why = self._why_not(act, sender.by_key)
        if why:
            if sender.isCheckable():
                sender.setChecked(not sender.isChecked())
            self._tell(why)
        else:
            self._remember(act.id)
            act.do(desk)

    def _remember(self, act_id: str) -> None:
        """What was done last stands first where acts are done by name."""
        if self.last[:1] != [act_id]:
            self.last = [act_id, *(a for a in self.last if a != act_id)][:LAST_KEPT]
            keep_names(self._settings, "acts/last", self.last)

    def run(self, act_id: str) -> None:
        """Do an act as the menu would."""
        self._actions[act_id].trigger()

    def is_on(self, act_id: str) -> bool:
        """Whether a checkable act is checked."""
        return self._actions[act_id].isChecked()

    def say(self, act_id: str, words: str) -> None:
        """Give an act other words for now, under the letter that it has in its menu."""
        action = self._actions[act_id]
        before = action.text()
        letter = before[before.find("&") + 1 :][:1].lower() if "&" in before else ""
        at = words.lower().find(letter) if letter else -1
        action.setText(f"{words[:at]}&{words[at:]}" if at >= 0 else words)

    # --- keys -----------------------------------------------------------------------------------------------------

    def _load_keys(self) -> None:
        """The keys that the user chose, and the usual ones of all other acts, where nobody was given those."""
        chosen = {i for i in self._acts if self._settings.value(f"keys/{i}") is not None}
        usual = {i: act.key for i, (act, _) in self._acts.items()}
        self._keys = {i: QKeySequence(text(self._settings, f"keys/{i}", usual[i])) for i in self._acts}
        for act_id in self._acts:
            if act_id not in chosen and self.holder(usual[act_id], but=act_id) in chosen:
                self._keys[act_id] = QKeySequence()

    def key(self, act_id: str) -> str:
        """An act's key as it is now, as people read it."""
        return self._keys[act_id].toString(QKeySequence.SequenceFormat.NativeText)

    def arrange(self, desk: DeskName) -> None:
        """A key that acts of several desks have is that of the desk at hand."""
        if desk is not self._desk:
            self._desk = desk
            self._arrange()

    def _arrange(self) -> None:
        here = {self._keys[i].toString() for i, (act, _) in self._acts.items() if act.desk in (None, self._desk)}
        for act_id, (act, _) in self._acts.items():
            key = self._keys[act_id]
            elsewhere = act.desk not in (None, self._desk) and (self._desk is None or key.toString() in here)
            shown = QKeySequence() if elsewhere else key
            if self._actions[act_id].shortcut() != shown:
                self._actions[act_id].setShortcut(shown)

    def holder(self, key: str, but: str = "") -> str:
        """The id of another act that has a key where `but` would have it; empty where it is free there.

        Acts of two desks may share one.
        """
        wanted, desk = QKeySequence(key), self._acts[but][0].desk if but else None
        return next(
            (
                i
                for i, k in self._keys.items()
                if i != but and not wanted.isEmpty() and k == wanted and meet(self.act(i).desk, desk)
            ),
            "",
        )

    def keys(self) -> dict[str, str]:
        """The keys of all acts."""
        return {act_id: key.toString() for act_id, key in self._keys.items()}

    def give_keys(self, keys: Mapping[str, str]) -> list[str]:
        """Give acts these keys, and all others their usual ones; what can not be is left out and told, a line each."""
        wrong = [f"“{name}” is no act of this version." for name in keys if name not in self._acts]
        for act_id, (act, _) in self._acts.items():
            wanted = keys.get(act_id, act.key)
            if why := refused(wanted):
                wrong.append(f"“{act.name}” keeps its usual key: {why}")
                wanted = act.key
            self._keys[act_id] = QKeySequence(wanted)
        for act_id, (act, _) in self._acts.items():
            other = self.holder(self._keys[act_id].toString(), but=act_id)
            if other:
                wrong.append(f"“{act.name}” has no key now: {self._keys[act_id].toString()} belongs to “{self.act(other).name}”.")
                self._keys[act_id] = QKeySequence()
        for act_id in self._acts:
            self._settings.setValue(f"keys/{act_id}", self._keys[act_id].toString())
            self._tell_key(act_id)
        self._arrange()
        self.keys_changed.emit()
        return wrong

    def set_key(self, act_id: str, key: str) -> None:
        """Give an act another key, now and from now on."""
        self._keys[act_id] = QKeySequence(key)
        self._arrange()
        self._settings.setValue(f"keys/{act_id}", key)
        self._tell_key(act_id)
        self.keys_changed.emit()

    def _tell_key(self, act_id: str) -> None:
        act, key = self.act(act_id), self.key(act_id)
        self._actions[act_id].setToolTip(f"{act.tip} ({key})" if key else act.tip)

    def tip(self, act_id: str) -> str:
        """What an act does, with its key as it is now: for the button that does it as well."""
        return self._actions[act_id].toolTip()


def meet(one: DeskName | None, other: DeskName | None) -> bool:
    """Whether acts of two desks, or of all of them, can be done at the same time."""
    return one is None or other is None or one is other


_Letter = tuple[Menu, str, str]
"""A letter in a menu, or in one inside of it."""


def mnemonics(acts: Sequence[Act[Any]]) -> dict[str, str]:
    """The words of acts with the letter marked that chooses each in its menu; no menu has a letter twice while there are any."""
    held: dict[_Letter, tuple[Act[Any], int]] = {}  # the act that has a letter of a menu, and where it stands in it
    places = {act.id: list(_preferred(act.words)) for act in acts}

    def give(act: Act[Any], asked: set[_Letter]) -> bool:
        """Give an act the first letter that is free, or that whoever has it can give up for another one."""
        wanted = [((act.menu, act.within, act.words[k].lower()), k) for k in places[act.id]]
        for letter, k in [w for w in wanted if w[0] not in held] + [w for w in wanted if w[0] in held]:
            if letter in asked:
                continue
            asked.add(letter)
            if letter not in held or give(held[letter][0], asked):
                held[letter] = act, k
                return True
        return False

    for act in acts:
        give(act, set())
    at = {act.id: k for act, k in held.values()}
    return {
        act.id: f"{act.words[: at[act.id]]}&{act.words[at[act.id] :]}" if act.id in at else act.words.replace("&", "&&")
        for act in acts
    }


def _preferred(words: str) -> Iterator[int]:
    """The places of letters, those that begin a word first."""
    letters = [k for k, c in enumerate(words) if c in string.ascii_letters]
    yield from (k for k in letters if not k or words[k - 1] == " ")
    yield from letters
