"""The queue of chapters to be heard, in the docket's place."""

from __future__ import annotations

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QHBoxLayout, QHeaderView, QVBoxLayout, QWidget

from faithful_reel.app.proof.hearing_queue import HearingQueue, Row
from faithful_reel.app.widgets.flow import Flow
from faithful_reel.app.widgets.parts import ActButton, SidePane, button, label
from faithful_reel.app.widgets.tables import Table

HEADERS = ["chapter", "length", "state"]
TICK_MS = 1000
"""How often the time left is told anew."""


class QueuePane(SidePane):
    """Lists all chapters: the one that is being heard, those that wait, and the others."""

    left = pyqtSignal()

    def __init__(self, queue: HearingQueue) -> None:
        super().__init__()
        self.setObjectName("side")
        self._queue = queue
        self._rows: list[tuple[str, str, str]] = []
        self.view = Table(HEADERS, "Chapters to be heard, in order")
        self.view.menu_acts = ("queue.up", "queue.down", "queue.next", "queue.add", "queue.out")
        self.view.empty = "This book has no chapters yet. Bring in the manuscript at Intake."
        across = self.view.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            across.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        back = button("Docket", tip="Back to the findings; hearing goes on")
        back.clicked.connect(self.left)
        head = QHBoxLayout()
        head.addWidget(label("Hearing the book", "heading"))
        head.addStretch()
        head.addWidget(back)
        acts = QWidget()
        flow = Flow(acts)
        self.buttons = {
            act: ActButton(words, act, "strong" if act == "queue.book" else "")
            for words, act in (
                ("Hear the book", "queue.book"),
                ("Pause", "queue.pause"),
                ("Go on", "queue.go_on"),
                ("Earlier", "queue.up"),
                ("Later", "queue.down"),
                ("Next", "queue.next"),
                ("Add", "queue.add"),
                ("Take out", "queue.out"),
            )
        }
        for made in self.buttons.values():
            flow.addWidget(made)
        self.told = label("", "quiet", wrap=True)
        box = QVBoxLayout(self)
        box.setContentsMargins(12, 10, 12, 8)
        box.addLayout(head)
        box.addWidget(self.told)
        box.addWidget(acts)
        box.addWidget(self.view, 1)
        about = "One chapter is heard at a time; the findings of each come in as they are made, and you can work on any of them."
        box.addWidget(label(about, "quiet", wrap=True))
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.refresh)
        queue.listen(self.refresh)
        queue.bench.listen(self.refresh)

    def take_keys(self) -> None:
        """To the list."""
        self.view.setFocus()

    def showEvent(self, event: QShowEvent | None) -> None:  # noqa: N802 - Qt's name
        """The list is made when it is first looked at."""
        super().showEvent(event)
        self._timer.start(TICK_MS)
        self.refresh()

    @property
    def chosen(self) -> str:
        """The chapter at hand in the list."""
        return str(self.view.key or "") if self.isVisible() else ""

    def choose(self, chapter: str) -> None:
        """Take a chapter of the list in hand."""
        for row in range(self.view.rowCount()):
            if self.view.key_at(row) == chapter:
                self.view.selectRow(row)

    def refresh(self) -> None:
        """Show the queue as it stands; costs nothing while it is closed."""
        if not self.isVisible():
            self._timer.stop()
            return
        queue = self._queue
        rows = queue.rows()
        cells = [(r.title, queue.bench.time_of_seconds(r.seconds) if r.seconds else "", _state(r)) for r in rows]
        if cells != self._rows:
            self._rows = cells
            self.view.fill(cells, keys=[r.chapter for r in rows])
            if rows and not self.view.key:
                self.view.selectRow(0)
        self.told.setText(queue.told())
        going, waiting = bool(queue.at), bool(queue.waiting)
        self.buttons["queue.pause"].setEnabled(not queue.paused and (going or waiting))
        self.buttons["queue.go_on"].setEnabled(queue.paused and waiting)


def _state(row: Row) -> str:
    return f"{row.state}, {100 * row.share:.0f} %" if 0 < row.share < 1 else row.state
