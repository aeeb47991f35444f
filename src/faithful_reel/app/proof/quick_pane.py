"""The quick check in the docket's place: the doubt at hand in large letters, keep or pass, how far the run is."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QDoubleSpinBox, QFrame, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from faithful_reel.app.proof.card import evidence_words
from faithful_reel.app.proof.docket import kind_words
from faithful_reel.app.proof.quick_check import MOST_AROUND_S, QuickCheck
from faithful_reel.app.widgets.flow import Flow
from faithful_reel.app.widgets.parts import ActButton, Choice, KeyButton, Scrolled, SidePane, button, label
from faithful_reel.app.widgets.told import tell_reader

NOTHING = "nothing"
"""Stands where nothing was heard, or nothing is written."""


class QuickPane(SidePane):
    """Shows a `QuickCheck`."""

    left = pyqtSignal()

    def __init__(self, quick: QuickCheck) -> None:
        super().__init__()
        self.setObjectName("side")
        self.setAccessibleName("Quick check")
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self._quick = quick
        back = button("Docket", tip="Leave the quick check; what was settled stays settled, and it goes on where it was left")
        back.clicked.connect(self.left)
        self.count = label("", "quiet")
        head = QHBoxLayout()
        head.addWidget(label("Quick check", "heading"))
        head.addWidget(self.count, 1)
        head.addWidget(back)
        self.kind = label("", "quiet", wrap=True)
        self.before, self.after = label("", "quiet", wrap=True), label("", "quiet", wrap=True)
        self.written, self.heard = label("", "large", wrap=True), label("", "large", wrap=True)
        self.why = label("", "quiet", wrap=True)
        self.card = QFrame()
        self.card.setObjectName("card")
        grid = QGridLayout(self.card)
        grid.setContentsMargins(12, 10, 12, 12)
        grid.setVerticalSpacing(5)
        grid.addWidget(self.kind, 0, 0, 1, 2)
        grid.addWidget(self.before, 1, 0, 1, 2)
        for row, name, words in ((2, "written", self.written), (3, "heard", self.heard)):
            grid.addWidget(label(name, "quiet"), row, 0, Qt.AlignmentFlag.AlignVCenter)
            grid.addWidget(words, row, 1)
        grid.addWidget(self.after, 4, 0, 1, 2)
        grid.addWidget(self.why, 5, 0, 1, 2)
        grid.setColumnStretch(1, 1)
        acts = QWidget()
        flow = Flow(acts)
        for words_, act, name in (
            ("Keep", "quick.keep", "strong"),
            ("Pass", "quick.pass", "strong"),
            ("Again", "quick.again", ""),
            ("Later", "quick.later", ""),
            ("Back", "quick.back", ""),
        ):
            flow.addWidget(KeyButton(words_, act, name))
        self.acts = acts
        self.start = ActButton("Start", "quick.start", "strong")
        self.order, self.scope = Choice(), Choice()
        for choice, name, entries in (
            (self.order, "Order", (("loudest doubt first", False), ("as read", True))),
            (self.scope, "Chapters", (("this chapter", False), ("the book", True))),
        ):
            for text, key in entries:
                choice.addItem(text, key)
            choice.setAccessibleName(f"{name} of the quick check")
            choice.setToolTip(f"{name}: through what, and what comes first")
        self.order.setCurrentIndex(int(quick.as_read))
        self.scope.setCurrentIndex(int(quick.whole_book))
        self.around = QDoubleSpinBox()
        self.around.setRange(0.0, MOST_AROUND_S)
        self.around.setSingleStep(0.1)
        self.around.setDecimals(1)
        self.around.setSuffix(" s around")
        self.around.setValue(quick.around_s)
        self.around.setKeyboardTracking(False)
        self.around.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.PlusMinus)
        self.around.setAccessibleName("Seconds heard before and after a doubt")
        self.around.setToolTip("So much is heard before a doubt and after it; how fast is set at the foot of the window")
        self.order.activated.connect(self._ordered)
        self.scope.activated.connect(self._scoped)
        self.around.valueChanged.connect(quick.set_around)
        settings = QWidget()
        row_of = Flow(settings)
        for widget in (self.order, self.scope, self.around):
            row_of.addWidget(widget)
        self.told = label("", "quiet", wrap=True)
        body = QWidget()
        body.setObjectName("side")
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.addWidget(Scrolled(body, upright_only=True))
        box = QVBoxLayout(body)
        box.setContentsMargins(12, 10, 12, 8)
        box.addLayout(head)
        box.addWidget(settings)
        box.addWidget(self.card)
        box.addWidget(acts)
        box.addWidget(self.told)
        box.addWidget(self.start, 0, Qt.AlignmentFlag.AlignLeft)
        box.addStretch()
        quick.listen(self.refresh)
        quick.bench.listen(self.refresh)

    def take_keys(self) -> None:
        """The letters work wherever no field has them: the pane itself takes them."""
        self.setFocus()

    def showEvent(self, event: QShowEvent | None) -> None:  # noqa: N802 - Qt's name
        """It is filled when it is first looked at."""
        super().showEvent(event)
        self.refresh()

    def refresh(self) -> None:
        """Show the doubt at hand."""
        if not self.isVisible():
            return
        quick = self._quick
        shown = quick.shown()
        self.card.setVisible(shown is not None)
        self.acts.setVisible(shown is not None)
        self.start.setVisible(not quick.running)
        kept, passed, left = quick.counts()
        total = kept + passed + left
        self.count.setText(f"{total - left} of {total} settled" if total else "")
        self.told.setText("" if shown else self._why_none(kept, passed, left))
        self.told.setVisible(shown is None)
        if shown is None:
            tell_reader(self, self.told.text())
            return
        f = shown.finding
        at = quick.bench.time(f.start, 1)
        settled = "   kept" if f.kept else f"   {f.decision.value}" if f.decision.value != "open" else ""
        self.kind.setText(f"{f.evidence.flaw or kind_words(f.kind)}   {100 * f.confidence:.0f} % sure   {at}{settled}")
        self.before.setText(f"… {shown.before}" if shown.before else "")
        self.after.setText(f"{shown.after} …" if shown.after else "")
        self.written.setText(shown.written or NOTHING)
        self.heard.setText(f.heard or (NOTHING if not f.evidence.flaw else f.evidence.flaw))
        self.why.setText(evidence_words(f))
        where = f"{total - left + 1} of {total}"
        tell_reader(self, f"Doubt {where}. Written: {shown.written or NOTHING}. Heard: {self.heard.text()}.{settled}")

    def _why_none(self, kept: int, passed: int, left: int) -> str:
        where = "the book" if self._quick.whole_book else "this chapter"
        if kept + passed and not left:
            return f"Through: {kept} kept, {passed} passed. What was kept stands in the docket; undo brings each of them back."
        if self._quick.running or not self._quick.queue:
            return f"Nothing is in doubt in {where}. Doubts are what the ear is not sure of; they stand folded in the docket."
        return f"{left} doubts of {where} are left. It goes on where it was left."

    def _ordered(self) -> None:
        self._quick.set_order(as_read=bool(self.order.currentData()))

    def _scoped(self) -> None:
        self._quick.set_scope(whole_book=bool(self.scope.currentData()))
