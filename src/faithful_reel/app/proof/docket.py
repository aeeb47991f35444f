"""The docket: the findings of a chapter, or of the book, one a row."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from PyQt6.QtCore import QAbstractListModel, QItemSelection, QItemSelectionModel, QModelIndex, Qt, pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QApplication, QListView, QWidget

from faithful_reel.app.widgets.delegates import RowDelegate
from faithful_reel.app.widgets.parts import ROLE
from faithful_reel.app.widgets.tables import RowMenu
from faithful_reel.core.collate.findings import Finding, Kind, by_hand
from faithful_reel.core.times import TimeFormat, time_text

DECIDING = (
    "proof.listen",
    "proof.stet",
    "proof.mend",
    "proof.pickup",
    "proof.swap",
    "proof.reopen",
    "proof.accept",
    "proof.remark",
)
FEW_ROWS = 8
Key = tuple[str, str]
"""A chapter and a finding in it."""
Times = tuple[int, TimeFormat]
"""The rate of positions, and how they are told."""
Told = frozenset[tuple[Key, str]]
"""What is told of the sound of some findings."""


def kind_words(kind: Kind) -> str:
    """A kind of finding as it is written on the screen."""
    return kind.value.replace("_", " ")


def finding_line(f: Finding) -> str:
    """A finding in one line."""
    if f.written and f.heard and f.kind is Kind.MISREAD:
        return f"{f.written} → {f.heard}"
    own = f.note if by_hand(f) else ""  # of a finding by hand the note is all there is
    return f.written or f.heard or own or f.evidence.note or f.note


class DocketModel(QAbstractListModel):
    """Rows of (chapter, finding); what a row shows is made when it is asked for."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._rows: Sequence[tuple[str, Finding]] = ()
        self._numbers: Mapping[str, str] = {}
        self._sound: dict[Key, str] = {}
        self._times: Times = 1, TimeFormat.CLOCK

    def show(
        self,
        rows: Sequence[tuple[str, Finding]],
        numbers: Mapping[str, str],
        times: Times,
        sound: Told = frozenset(),
    ) -> None:
        """Show these.

        `numbers` are what stands before the times of a chapter's findings, `times` is how those are told; `sound` is what is
        told of the sound of some.
        """
        before, alike = self._rows, numbers == self._numbers and times == self._times and dict(sound) == self._sound
        same = len(rows) == len(before)
        if not same:
            self.beginResetModel()
        self._rows, self._numbers, self._times, self._sound = rows, numbers, times, dict(sound)
        if not same:
            self.endResetModel()
            return
        other = [i for i, (a, b) in enumerate(zip(before, rows, strict=True)) if a[1] is not b[1] or a[0] != b[0]]
        if not alike or len(other) > FEW_ROWS:
            self.dataChanged.emit(self.index(0), self.index(len(rows) - 1))
        else:
            for i in other:  # each for itself: only these are painted anew
                self.dataChanged.emit(self.index(i), self.index(i))

    def keys(self) -> list[Key]:
        """What is in the rows."""
        return [(chapter, f.id) for chapter, f in self._rows]

    def rowCount(self, parent: QModelIndex | None = None) -> int:  # noqa: N802 - Qt's name
        """How many findings there are."""
        return 0 if parent is not None and parent.isValid() else len(self._rows)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """What the delegate paints, and what a screen reader says."""
        chapter, f = self._rows[index.row()]
        kind = f.evidence.flaw or kind_words(f.kind)
        if role == ROLE:
            where = " ".join(filter(None, (self._numbers.get(chapter, ""), time_text(f.start, *self._times, digits=1))))
            told = self._sound.get((chapter, f.id)) or ", ".join(f.by) or f"{100 * f.confidence:.0f} % sure"
            return f.decision, kind, finding_line(f) or kind, where, told
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            told = f", its sound is {sound}" if (sound := self._sound.get((chapter, f.id))) else ""
            told += f", said by {', '.join(f.by)}" if f.by else ""
            return f"{kind}: {finding_line(f)}, {f.decision.value}{told}"
        return None


class Docket(RowMenu, QListView):
    """The list itself.  Tells what the user chooses in it; what is chosen from outside it does not tell."""

    chosen = pyqtSignal(str, str)
    several = pyqtSignal(list)

    def __init__(self) -> None:
        super().__init__()
        self.rows = DocketModel(self)
        self.setModel(self.rows)
        self.setAccessibleName("Findings in reading order")
        self.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.setUniformItemSizes(True)
        self.delegate = RowDelegate(self)
        self.setItemDelegate(self.delegate)
        self.setSelectionMode(QListView.SelectionMode.ExtendedSelection)
        self.menu_acts = DECIDING
        self.setToolTip("Shift or Ctrl and a click, or Shift and the arrows, select several to be decided at once")

    def show_rows(
        self,
        rows: Sequence[tuple[str, Finding]],
        numbers: Mapping[str, str],
        times: Times,
        current: Key,
        selected: Sequence[Key] = (),
        sound: Told = frozenset(),
    ) -> None:
        """Show findings as in `DocketModel.show`, with one of them in hand, or several."""
        self.blockSignals(True)
        self.rows.show(rows, numbers, times, sound)
        places = {key: row for row, key in enumerate(self.rows.keys())}
        chosen = QItemSelection()
        for key in selected or (current,):
            if key in places:
                index = self.rows.index(places[key])
                chosen.select(index, index)
        if (marked := self.selectionModel()) is not None:
            if not selected and current in places:
                marked.setCurrentIndex(self.rows.index(places[current]), QItemSelectionModel.SelectionFlag.NoUpdate)
            marked.select(chosen, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        self.blockSignals(False)

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # noqa: N802 - Qt's name
        """The row at hand stays in view when the card under the list grows."""
        super().resizeEvent(event)
        if self.currentIndex().isValid():
            self.scrollTo(self.currentIndex())

    def dataChanged(self, first: QModelIndex, last: QModelIndex, _roles: Iterable[int] = ()) -> None:  # noqa: N802 - Qt's name
        """Only these rows are painted anew; Qt's own would paint the list whole."""
        for row in range(first.row(), last.row() + 1):
            self.update(self.rows.index(row))

    def currentChanged(self, current: QModelIndex, previous: QModelIndex) -> None:  # noqa: N802 - Qt's name
        """Another row is at hand."""
        super().currentChanged(current, previous)
        adding = QApplication.keyboardModifiers() & (Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.ControlModifier)
        if current.isValid() and not adding:
            chapter, finding = self.rows.keys()[current.row()]
            self.chosen.emit(finding, chapter)

    def selectionChanged(self, selected: QItemSelection, deselected: QItemSelection) -> None:  # noqa: N802 - Qt's name
        """Other rows are selected."""
        super().selectionChanged(selected, deselected)
        keys = self.rows.keys()
        self.several.emit([keys[index.row()] for index in self.selectedIndexes()])
