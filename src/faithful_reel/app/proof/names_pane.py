"""The pane of names and words: a list to hear, compare and note pronunciations in."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QHBoxLayout, QHeaderView, QTableWidgetItem, QVBoxLayout

from faithful_reel.app.proof.names_presenter import NamesPresenter, Row
from faithful_reel.app.widgets.parts import SidePane, button, label
from faithful_reel.app.widgets.tables import Table

HEADERS = ["word", "kind", "places", "heard as", "say"]
SAY = 4


class NamesPane(SidePane):
    """Lists the words; the last column is written in by the editor.  Stands in the docket's place while it is open."""

    hear_wanted = pyqtSignal(object)
    place_wanted = pyqtSignal(str, int)
    left = pyqtSignal()

    def __init__(self, presenter: NamesPresenter) -> None:
        super().__init__()
        self.setObjectName("side")
        self._presenter = presenter
        self._rows: list[Row] = []
        self._next: dict[str, int] = {}
        self.view = Table(HEADERS, "Names and words of the book")
        self.view.setEditTriggers(Table.EditTrigger.DoubleClicked | Table.EditTrigger.EditKeyPressed)
        self.view.empty = "Looking for the names and words of the book."
        self.view.itemChanged.connect(self._edited)
        across = self.view.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(3, QHeaderView.ResizeMode.Stretch)
            for column, width in ((0, 84), (1, 56), (2, 58), (SAY, 84)):
                across.resizeSection(column, width)
        self.hear = button("Hear all places", tip="Every place of the word, one after another")
        self.go = button("Next place", tip="Go to the next place of the word in the manuscript")
        self.compare = button("Compare by sound", tip="Places spoken unlike the others of their name become findings")
        self.hear.clicked.connect(self._hear)
        self.go.clicked.connect(self._go)
        self.compare.clicked.connect(presenter.compare)
        row = QHBoxLayout()
        for widget in (self.hear, self.go, self.compare):
            row.addWidget(widget)
        row.addStretch()
        back = button("Docket", tip="Back to the findings (Ctrl+Shift+W)")
        back.clicked.connect(self.left)
        head = QHBoxLayout()
        head.addWidget(label("Names and words", "heading"))
        head.addStretch()
        head.addWidget(back)
        box = QVBoxLayout(self)
        box.setContentsMargins(12, 10, 12, 8)
        box.addLayout(head)
        box.addLayout(row)
        box.addWidget(self.view, 1)
        told = "Write under “say” how a name is spoken: it goes on the call sheet with every line that holds it."
        box.addWidget(label(told, "quiet", wrap=True))
        presenter.listen(self.refresh)

    def take_keys(self) -> None:
        """To the list."""
        self.view.setFocus()

    def showEvent(self, event: QShowEvent | None) -> None:  # noqa: N802 - Qt's name
        """The list is made when it is first looked at."""
        super().showEvent(event)
        self.refresh()

    def refresh(self) -> None:
        """Show the list as it stands; costs nothing while the pane is closed."""
        if not self.isVisible():
            return
        self._presenter.look()
        rows = self._presenter.rows()
        self.compare.setEnabled(not self._presenter.busy and bool(rows))
        self.view.empty = (
            "Looking for the names and words of the book."
            if self._presenter.busy
            else "No names yet. Bring in the manuscript at Intake; what is heard shows when chapters were heard."
        )
        if rows == self._rows:
            self.view.viewport().update()  # type: ignore[union-attr]
            return
        self._rows = rows
        cells = []
        for r in rows:
            places = f"{len(r.spoken)} of {len(r.word.places)}"
            heard = ", ".join(r.heard[:6]) + (f"  ·  {r.odd} unlike" if r.odd else "")
            cells.append((r.word.text, r.word.why.value, places, heard, r.say))
        self.view.fill(cells, keys=[r.word.key for r in rows])
        self.view.blockSignals(True)
        for number in range(len(rows)):
            for column in range(SAY):
                item = self.view.item(number, column)
                if item is not None:
                    item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEditable)
        self.view.blockSignals(False)
        if rows and not self.view.key:
            self.view.selectRow(0)

    def _row(self) -> Row | None:
        key = self.view.key
        return next((r for r in self._rows if r.word.key == key), None)

    def _edited(self, item: QTableWidgetItem) -> None:
        if item.column() == SAY:
            self._presenter.note(self.view.key_at(item.row()), item.text())

    def _hear(self) -> None:
        row = self._row()
        if row is not None and row.spoken:
            self.hear_wanted.emit(self._presenter.reel_of(row.spoken))
        elif row is not None:
            self._presenter.bench.tell(f"“{row.word.text}” was not heard yet. Hear its chapters first.")

    def _go(self) -> None:
        row = self._row()
        if row is not None:
            at = self._next.get(row.word.key, -1) + 1
            self._next[row.word.key] = at % len(row.word.places)
            self.place_wanted.emit(*row.word.places[at % len(row.word.places)])
