"""The Pickups desk: the ledger, and the takes of the line at hand."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QHeaderView, QLineEdit, QVBoxLayout

from faithful_reel.app.pickups.presenter import PickupsPresenter
from faithful_reel.app.theme import Theme
from faithful_reel.app.widgets.parts import ROLE, Desk, button, fill, label, table
from faithful_reel.core.reel.reel import Lane, Piece, Reel
from faithful_reel.core.units import clock


class PickupsPanel(Desk):
    """Rounds go out and come in here."""

    send_wanted = pyqtSignal()
    receive_wanted = pyqtSignal()
    hear = pyqtSignal(object, int, int)

    def __init__(self, presenter: PickupsPresenter) -> None:
        super().__init__()
        self.setObjectName("desk")
        self._presenter = presenter
        self._theme: Theme | None = None
        self.ledger = table(["Line to read again", "Chapter", "Heard instead", "State", "Takes"], "Ledger of pickups")
        self.ledger.itemSelectionChanged.connect(self._chosen)
        self.takes = table(["Take", "Heard", "Length", "Departs", "Chosen"], "Takes of this line")
        self.takes.doubleClicked.connect(self._hear_take)
        send = button("Write the call sheet…", tip="All lines to send, as CSV")
        send.clicked.connect(self.send_wanted)
        receive = button("Receive a pickup recording…", tip="Find which stretch of it reads which line")
        receive.clicked.connect(self.receive_wanted)
        head = QHBoxLayout()
        head.addWidget(label("Pickups", "title"))
        head.addStretch()
        head.addWidget(send)
        head.addWidget(receive)
        self.hint = label("", "quiet", wrap=True)
        self.line = label("", "reading", wrap=True)
        self._note_of = "", ""
        self.note = QLineEdit()
        self.note.setAccessibleName("Note for the narrator")
        self.note.setPlaceholderText("what the narrator is to mind; it stands on the call sheet")
        self.note.setToolTip("A note on this line; it stands on the call sheet")
        self.note.editingFinished.connect(self._noted)
        self.hear_original = button("Hear the original", tip="The line as the chapter has it")
        self.hear_original.clicked.connect(self._hear_original)
        self.hear_take = button("Hear the take", tip="The take in the chosen row")
        self.hear_take.clicked.connect(self._hear_take)
        self.choose = button("Choose this take")
        self.choose.clicked.connect(self._choose)
        row = QHBoxLayout()
        for widget in (self.hear_original, self.hear_take, self.choose):
            row.addWidget(widget)
        row.addStretch()
        box = QVBoxLayout(self)
        box.setContentsMargins(24, 16, 24, 12)
        box.addLayout(head)
        box.addWidget(self.hint)
        box.addWidget(self.ledger, 3)
        box.addWidget(self.line)
        box.addWidget(self.note)
        box.addWidget(self.takes, 2)
        box.addLayout(row)
        for view, stretch in ((self.ledger, 0), (self.takes, 1)):
            across = view.horizontalHeader()
            if across is not None:
                across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
                across.setSectionResizeMode(stretch, QHeaderView.ResizeMode.Stretch)

    def set_theme(self, theme: Theme) -> None:
        """Colours of the states."""
        self._theme = theme

    def refresh(self) -> None:
        """Show the ledger."""
        presenter = self._presenter
        book = presenter.bench.book
        rows = presenter.rows()
        titles = {c.id: c.title.split(":")[0] for c in book.chapters}
        fill(
            self.ledger,
            [(p.line, titles.get(p.chapter, ""), p.heard, p.state.value, str(len(p.takes)) if p.takes else "") for p in rows],
            keys=[p.id for p in rows],
        )
        if rows and presenter.pickup() is None:
            presenter.current = rows[0].id
        for row, entry in enumerate(rows):
            if entry.id == presenter.current:
                self.ledger.blockSignals(True)
                self.ledger.selectRow(row)
                self.ledger.blockSignals(False)
        pickup = presenter.pickup()
        stages = {
            "to send": ("to send",),
            "out": ("sent",),
            "in": ("in", "chosen"),
            "spliced": ("spliced", "passed"),
            "dropped": ("dropped",),
        }
        numbers = {name: sum(p.state.value in states for p in rows) for name, states in stages.items()}
        counts = ", ".join(f"{number} {name}" for name, number in numbers.items() if number or name != "dropped")
        self.hint.setText(counts if rows else "Decide a finding as Pickup at the Proof desk, and its line stands here.")
        self.line.setText(pickup.line if pickup else "")
        self.note.setEnabled(pickup is not None)
        known = (pickup.id, pickup.note) if pickup else ("", "")
        if self._note_of != known:  # not while it is being written
            self._note_of = known
            self.note.setText(known[1])
        takes = pickup.takes if pickup else ()
        fill(
            self.takes,
            [
                (
                    str(i),
                    t.heard,
                    clock((t.stop - t.start) / book.rate)[3:],
                    ("no word", "1 word")[t.departures] if t.departures < 2 else f"{t.departures} words",
                    ("chosen" if pickup and pickup.state.value != "in" else "proposed")
                    if pickup and i - 1 == pickup.chosen
                    else "",
                )
                for i, t in enumerate(takes, 1)
            ],
            keys=[str(i) for i in range(len(takes))],
        )
        if pickup and takes and self.takes.currentRow() < 0:
            self.takes.selectRow(max(0, pickup.chosen))
        self.hear_original.setEnabled(pickup is not None)
        for widget in (self.hear_take, self.choose):
            widget.setEnabled(bool(takes))

    def _chosen(self) -> None:
        item = self.ledger.item(self.ledger.currentRow(), 0)
        if item is not None and item.data(ROLE) != self._presenter.current:
            self._presenter.choose(str(item.data(ROLE)))

    def _noted(self) -> None:
        pickup = self._presenter.pickup()
        if pickup is not None and pickup.id == self._note_of[0]:
            self._presenter.note(self.note.text())

    def _choose(self) -> None:
        if self.takes.currentRow() >= 0:
            self._presenter.choose_take(self.takes.currentRow())

    def _hear_take(self) -> None:
        pickup, row = self._presenter.pickup(), self.takes.currentRow()
        if pickup and 0 <= row < len(pickup.takes):
            take = pickup.takes[row]
            lead = self._presenter.bench.book.rate // 3
            start = max(0, take.start - lead)
            self.hear.emit(Reel((Lane("take", (Piece(take.recording, start, take.stop + lead),)),)), 0, take.stop + lead - start)

    def _hear_original(self) -> None:
        pickup = self._presenter.pickup()
        if pickup:
            chapter = self._presenter.bench.book.chapter(pickup.chapter)
            rate = self._presenter.bench.book.rate
            start, stop = max(0, pickup.start - 2 * rate), pickup.stop + 2 * rate
            self.hear.emit(Reel((Lane("original", (Piece(chapter.recording, start, stop),)),)), 0, stop - start)
