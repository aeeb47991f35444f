"""The Pickups desk: the ledger, and the takes of the line at hand."""

from __future__ import annotations

from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout

from faithful_reel.app.pickups.presenter import PickupsPresenter
from faithful_reel.app.theme import Theme
from faithful_reel.app.widgets.parts import ActButton, Desk, label
from faithful_reel.app.widgets.tables import Table
from faithful_reel.core.pickups.ledger import State
from faithful_reel.core.units import clock

STAGES = {
    "to send": (State.TO_SEND,),
    "out": (State.SENT,),
    "in": (State.IN, State.CHOSEN),
    "spliced": (State.SPLICED, State.PASSED),
    "dropped": (State.DROPPED,),
}
"""What is counted over the ledger."""


class PickupsPanel(Desk):
    """Rounds go out and come in here."""

    def __init__(self, presenter: PickupsPresenter) -> None:
        super().__init__()
        self.setObjectName("desk")
        self._presenter = presenter
        self._theme: Theme | None = None
        self.ledger = Table(["Line to read again", "Chapter", "Heard instead", "State", "Takes"], "Ledger of pickups")
        self.ledger.columns(stretch=0)
        self.ledger.menu_acts = ("pickups.hear_original",)
        self.ledger.itemSelectionChanged.connect(self._chosen)
        self.takes = Table(["Take", "Heard", "Length", "Departs", "Chosen"], "Takes of this line")
        self.takes.columns(stretch=1)
        self.takes.menu_acts = ("pickups.hear_take", "pickups.choose")
        self.hear_take = ActButton("Hear the take", "pickups.hear_take")
        self.takes.doubleClicked.connect(self.hear_take.click)
        send, receive = (
            ActButton("Write the call sheet…", "pickups.send"),
            ActButton("Receive a pickup recording…", "pickups.receive"),
        )
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
        self.hear_original = ActButton("Hear the original", "pickups.hear_original")
        self.choose = ActButton("Choose this take", "pickups.choose")
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

    def set_theme(self, theme: Theme) -> None:
        """Colours of the states."""
        self._theme = theme

    def refresh(self) -> None:
        """Show the ledger."""
        presenter = self._presenter
        book = presenter.bench.book
        rows = presenter.rows()
        titles = {c.id: c.title.split(":")[0] for c in book.chapters}
        self.ledger.fill(
            [(p.line, titles.get(p.chapter, ""), p.heard, p.state.value, str(len(p.takes)) if p.takes else "") for p in rows],
            keys=[p.id for p in rows],
        )
        if rows and presenter.pickup() is None:
            presenter.current = rows[0].id
        self.ledger.choose_quietly(presenter.current)
        pickup = presenter.pickup()
        numbers = {name: sum(p.state in states for p in rows) for name, states in STAGES.items()}
        counts = ", ".join(f"{number} {name}" for name, number in numbers.items() if number or name != "dropped")
        self.hint.setText(counts if rows else "Decide a finding as Pickup at the Proof desk, and its line stands here.")
        self.line.setText(pickup.line if pickup else "")
        self.note.setEnabled(pickup is not None)
        known = (pickup.id, pickup.note) if pickup else ("", "")
        if self._note_of != known:  # not while it is being written
            self._note_of = known
            self.note.setText(known[1])
        takes = pickup.takes if pickup else ()
        self.takes.fill(
            [
                (
                    str(i),
                    t.heard,
                    clock((t.stop - t.start) / book.rate)[3:],
                    ("no word", "1 word")[t.departures] if t.departures < 2 else f"{t.departures} words",
                    ("chosen" if pickup and pickup.state is not State.IN else "proposed")
                    if pickup and i - 1 == pickup.chosen
                    else "",
                )
                for i, t in enumerate(takes, 1)
            ],
            keys=[str(i) for i in range(len(takes))],
        )
        if pickup and takes and self.takes.currentRow() < 0:
            self.takes.choose(str(max(0, pickup.chosen)))
        self.hear_original.setEnabled(pickup is not None)
        for widget in (self.hear_take, self.choose):
            widget.setEnabled(bool(takes))

    @property
    def take(self) -> int:
        """The number of the take in the chosen row; -1 where there is none."""
        return int(self.takes.key) if self.takes.key else -1

    def _chosen(self) -> None:
        if self.ledger.key and self.ledger.key != self._presenter.current:
            self._presenter.choose(self.ledger.key)

    def _noted(self) -> None:
        pickup = self._presenter.pickup()
        if pickup is not None and pickup.id == self._note_of[0]:
            self._presenter.note(self.note.text())
