"""What the book's decisions taught the ear: a list, of which any line can be forgotten."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QHBoxLayout, QHeaderView, QVBoxLayout

from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.widgets.parts import ActButton, SidePane, button, label
from faithful_reel.app.widgets.tables import Table
from faithful_reel.core.collate.learning import Lesson
from faithful_reel.core.collate.names import Accepted
from faithful_reel.core.memo import Seen

HEADERS = ["doubts about", "decided", "now"]


class LearnedPane(SidePane):
    """Lists lessons, the strongest first."""

    left = pyqtSignal()

    def __init__(self, presenter: ProofPresenter) -> None:
        super().__init__()
        self.setObjectName("side")
        self._presenter = presenter
        self._seen = Seen()
        self.view = Table(HEADERS, "What was learned from decisions")
        self.view.menu_acts = ("learned.forget", "learned.forget_all")
        self.view.empty = "Nothing was learned yet. Decide findings, or settle doubts in the quick check (Shift+Q)."
        across = self.view.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            across.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        back = button("Docket", tip="Back to the findings")
        back.clicked.connect(self.left)
        head = QHBoxLayout()
        head.addWidget(label("What was learned", "heading"))
        head.addStretch()
        head.addWidget(back)
        row = QHBoxLayout()
        row.addWidget(ActButton("Forget it", "learned.forget"))
        row.addWidget(ActButton("Forget all", "learned.forget_all"))
        row.addStretch()
        box = QVBoxLayout(self)
        box.setContentsMargins(12, 10, 12, 8)
        box.addLayout(head)
        box.addLayout(row)
        box.addWidget(self.view, 1)
        told = (
            "Open findings like these become more or less sure by what was decided in this book, for the same narrator. "
            "Nothing is hidden by it: what sinks only stands elsewhere in the order of doubt. "
            "The card says what the ear alone made of it."
        )
        box.addWidget(label(told, "quiet", wrap=True))
        presenter.bench.listen(self.refresh)

    def take_keys(self) -> None:
        """To the list."""
        self.view.setFocus()

    def showEvent(self, event: QShowEvent | None) -> None:  # noqa: N802 - Qt's name
        """The list is made when it is first looked at."""
        super().showEvent(event)
        self.refresh()

    def chosen(self) -> tuple[tuple[Lesson, ...], Accepted]:
        """What stands in the line at hand: a lesson, or a reading of a name."""
        bench, key = self._presenter.bench, self.view.key
        return tuple(one for one in bench.lessons() if one.key == key), tuple(p for p in bench.book.accepted if _name(p) == key)

    def refresh(self) -> None:
        """Show the list as it stands; costs nothing while it is closed."""
        bench = self._presenter.bench
        lessons, names = bench.lessons(), bench.book.accepted
        if not self.isVisible() or not self._seen.changed(lessons, names):
            return
        several = len({one.narrator for one in lessons}) > 1
        rows = [
            (f"{one.words}{f' ({one.narrator})' if several else ''}", one.told, "surer" if one.logits > 0 else "less sure")
            for one in lessons
        ]
        rows += [(f"“{heard}” for the name “{name}”", "accepted", "let stand") for name, heard in names]
        self.view.fill(rows, keys=[*(one.key for one in lessons), *map(_name, names)])
        if rows and not self.view.key:
            self.view.selectRow(0)


def _name(pair: tuple[str, str]) -> str:
    """The key of an accepted reading's line."""
    return "\n".join(pair)
