"""The card of the finding at hand: written and heard, how sure, the evidence, the decisions."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QLineEdit, QWidget

from faithful_reel.app.proof.docket import kind_words
from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.widgets.parts import ActButton, label, tip
from faithful_reel.core.collate.findings import Decision, Finding

WITNESS = (
    (60, "clearly for what was heard"),
    (20, "for what was heard"),
    (-20, "for neither"),
    (-1e9, "for what is written"),
)
"""Above how many nats what is said of the phones' fit."""


class Card(QFrame):
    """One finding, or how many are selected."""

    left = pyqtSignal()
    """The note was written: back to the page."""

    def __init__(self, presenter: ProofPresenter) -> None:
        super().__init__()
        self.setObjectName("card")
        self._presenter = presenter
        self._remark_of = "", ""
        grid = self._grid = QGridLayout(self)
        grid.setContentsMargins(12, 9, 12, 10)
        grid.setVerticalSpacing(3)
        self.kind = label("", "quiet")
        self.written = label("", "reading", wrap=True)
        self.heard = label("", "reading", wrap=True)
        self.why = label("", "quiet", wrap=True)
        self._written_name, self._heard_name = label("written", "quiet"), label("heard", "quiet")
        grid.addWidget(self.kind, 0, 0, 1, 2)
        grid.addWidget(self._written_name, 1, 0, Qt.AlignmentFlag.AlignTop)
        grid.addWidget(self.written, 1, 1)
        grid.addWidget(self._heard_name, 2, 0, Qt.AlignmentFlag.AlignTop)
        grid.addWidget(self.heard, 2, 1)
        grid.addWidget(self.why, 3, 0, 1, 2)
        self.swap = ActButton("Swap the take", "proof.swap")
        grid.addWidget(self.swap, 4, 0, 1, 2)
        row = self._row = QHBoxLayout()
        row.setSpacing(5)
        self.listen = ActButton("Listen", "proof.listen")
        row.addWidget(self.listen)
        row.addStretch()
        self.decisions: dict[Decision, ActButton] = {}
        for decision in (Decision.STET, Decision.MEND, Decision.PICKUP):
            made = ActButton(decision.value.capitalize(), f"proof.{decision.value}", decision.value)
            made.setCheckable(True)
            row.addWidget(made)
            self.decisions[decision] = made
        grid.addLayout(row, 5, 0, 1, 2)
        self.remark = QLineEdit()
        self.remark.setAccessibleName("Note on the finding")
        self.remark.setPlaceholderText("note for the narrator (E)")
        self.remark.setToolTip("What is to be said of this finding; it goes out with the pickup (E)")
        self.remark.editingFinished.connect(self._remarked)
        self.remark.returnPressed.connect(self.left)
        grid.addWidget(self.remark, 6, 0, 1, 2)
        grid.setColumnStretch(1, 1)

    def take_measures(self) -> None:
        """Be as wide as it is when it is seen: room is kept for it before it is seen first."""
        for inside in self.findChildren(QWidget):
            inside.ensurePolished()
        for layout in (self._row, self._grid):  # they remember how wide the buttons were without their style
            layout.invalidate()
        self.updateGeometry()

    def write(self) -> None:
        """Write on the line for the note."""
        self.remark.setFocus()
        self.remark.selectAll()

    def _remarked(self) -> None:
        finding = self._presenter.finding()
        if finding is not None and finding.id == self._remark_of[0]:
            self._presenter.write_note(self.remark.text())

    def refresh(self) -> None:
        """Show the finding at hand."""
        f = self._presenter.finding()
        self.setVisible(f is not None)
        if f is None:
            return
        several = len(self._presenter.selected)
        for widget in (self.written, self._written_name, self.heard, self._heard_name, self.swap, self.remark):
            widget.setVisible(several < 2)
        for decision, made in self.decisions.items():
            made.setChecked(several < 2 and f.decision is decision)
        if several > 1:
            self.kind.setText(f"{several} findings, decided at once")
            self.why.setText("")
        else:
            self._show(f)

    def _show(self, f: Finding) -> None:
        decided = "" if f.decision is Decision.OPEN else f.decision.value
        self.kind.setText(f"{f.evidence.flaw or kind_words(f.kind)}   {100 * f.confidence:.0f} % sure   {decided}")
        for widget, name, text in ((self.written, self._written_name, f.written), (self.heard, self._heard_name, f.heard)):
            widget.setText(_shortened(text))
            widget.setToolTip(tip(text))
            widget.setVisible(bool(text))
            name.setVisible(bool(text))
        take = self._presenter.take_note(f)
        self.why.setText("\n".join(filter(None, (self._presenter.fate(f), take, evidence_words(f)))))
        if self._remark_of != (f.id, f.note):  # not while it is being written
            self._remark_of = f.id, f.note
            self.remark.setText(f.note)
            self.remark.setCursorPosition(0)
        self.swap.setVisible(bool(take))


def _shortened(text: str) -> str:
    return text if len(text) < 90 else text[:60].rsplit(" ", 1)[0] + " … " + text[-20:].split(" ", 1)[-1]


def evidence_words(f: Finding) -> str:
    """Why a finding is believed, in words."""
    e = f.evidence
    parts = [f"said by {', '.join(f.by)}"] if f.by else []
    parts += [e.learned] if e.learned else []
    if e.note:
        parts.append(e.note)
    parts += [
        f"{name} ear: “{said}”" if said else f"{name} ear: nothing there"
        for name, said in (("second", e.second), ("third", e.third))
        if said is not None
    ]
    if e.witness is not None:
        parts.append("the sound itself speaks " + next(words for least, words in WITNESS if e.witness > least))
    return "; ".join(parts)
