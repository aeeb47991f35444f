"""The line at the microphone: large, with what stands before it, the level, and the takes so far."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from functools import partial
from html import escape

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QMessageBox, QVBoxLayout, QWidget

from faithful_reel.app.recording.presenter import LIMIT_DB, RecordPresenter, Stage
from faithful_reel.app.theme import Theme
from faithful_reel.app.widgets.flow import Flow
from faithful_reel.app.widgets.meters import Meter
from faithful_reel.app.widgets.parts import Choice, button, label, rule
from faithful_reel.app.widgets.tables import Table
from faithful_reel.core.units import SILENT_DB

TICK_MS = 50
LEADS_S = (0.0, 1.0, 2.0, 3.0, 5.0, 8.0)
SIMULATED = "There is no sound input here: the stand-in booth reads the line, a simulation and no narrator."
LIMIT = f"Peaks stay at or under {LIMIT_DB:.0f} dB.".replace("-", "\N{MINUS SIGN}")
EMPTY = "Nothing was recorded yet. Record plays the reading before the line, begins by itself and stops after it."


class RecordDialog(QDialog):
    """Records the line at hand until a take is kept."""

    def __init__(
        self,
        parent: QWidget | None,
        presenter: RecordPresenter,
        theme: Theme,
        inputs: Sequence[str],
        chosen: Callable[[str], None],
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Record a line")
        self._presenter, self._chosen = presenter, chosen
        self._rows: list[tuple[str, ...]] = []
        self.before = label("", "quiet", wrap=True)
        self.line = label("", "large", wrap=True)
        self.line.setAccessibleName("The line")
        self.line.setTextFormat(Qt.TextFormat.RichText)
        self.about = label("", "quiet", wrap=True)
        self.stage = label("", "title")
        self.stage.setAccessibleName("How far it is")
        self.told = label("", "problem", wrap=True)
        self.notice = label(SIMULATED, "quiet", wrap=True)
        self.input = Choice()
        self.input.setAccessibleName("Sound input")
        self.input.setToolTip("Where the sound comes from")
        for name in inputs or [presenter.microphone.name]:
            self.input.addItem(name)
        self.input.setCurrentIndex(max(0, self.input.findText(presenter.microphone.name)))
        self.input.setEnabled(bool(inputs))
        self.input.activated.connect(self._input_chosen)
        self.lead = Choice()
        self.lead.setAccessibleName("The reading before")
        self.lead.setToolTip("How much of the reading before the line is played first")
        for seconds in LEADS_S:
            self.lead.addItem(f"{seconds:g} s before it" if seconds else "at once", seconds)
        self.lead.setCurrentIndex(max(0, self.lead.findData(presenter.lead_s)))
        self.lead.activated.connect(self._lead_chosen)
        self.meter = Meter()
        self.meter.set_theme(theme)
        self.takes = Table(["Take", "Length", "Peak", "Level"], "Takes that were recorded")
        self.takes.columns(stretch=3)
        self.takes.empty = EMPTY
        self.check = button("Check the level", tip="Listen without recording")
        self.record = button("Record", tip="Play the reading before the line, then record it")
        self.stop = button("Stop", tip="Stop; what was recorded so far is a take")
        self.hear = button("Hear", tip="Hear the take in the chosen row")
        self.drop = button("Throw away", tip="Forget the take in the chosen row")
        self.keep = button("Keep the takes", tip="The takes go into the ledger at this line, judged as those of any recording")
        self.put_in = button("Keep and put in", tip="As Keep the takes; then the best of them is put in at once")
        self.shut = button("Close", tip="Back to the desk")
        self._lay_out()
        for made, what in (
            (self.check, presenter.check_level),
            (self.record, presenter.record),
            (self.stop, presenter.stop),
            (self.hear, lambda: presenter.hear(self._row)),
            (self.drop, lambda: presenter.drop(self._row)),
            (self.keep, lambda: self._keep(splice=False)),
            (self.put_in, lambda: self._keep(splice=True)),
            (self.shut, self.reject),
        ):
            made.clicked.connect(partial(self._do, what))
        self.record.setDefault(True)
        self._timer = QTimer(self)
        self._timer.setInterval(TICK_MS)
        self._timer.timeout.connect(partial(self._do, presenter.tick))
        self._timer.start()
        self.refresh()
        self.record.setFocus()

    def _lay_out(self) -> None:
        box = QVBoxLayout(self)
        box.setContentsMargins(24, 18, 24, 16)
        box.setSpacing(8)
        for widget in (self.about, self.before, self.line, rule()):
            box.addWidget(widget)
        chosen = QWidget()
        row = QHBoxLayout(chosen)
        row.setContentsMargins(0, 0, 0, 0)
        for widget in (label("from", "quiet"), self.input, label("begin", "quiet"), self.lead):
            row.addWidget(widget)
        row.addStretch()
        box.addWidget(chosen)
        level = QHBoxLayout()
        level.addWidget(self.meter)
        level.addWidget(label(LIMIT, "quiet"))
        level.addStretch()
        level.addWidget(self.stage)
        box.addLayout(level)
        box.addWidget(self.takes, 1)
        box.addWidget(self.told)
        box.addWidget(self.notice)
        for buttons in (
            (self.check, self.record, self.stop, self.hear, self.drop),
            (self.keep, self.put_in, self.shut),
        ):
            held = QWidget()
            flow = Flow(held)
            for made in buttons:
                flow.addWidget(made)
            box.addWidget(held)
        self.resize(720, 560)

    @property
    def _row(self) -> int:
        """The take in the chosen row, else the last."""
        return int(self.takes.key) if self.takes.key else len(self._presenter.takes) - 1

    def _do(self, what: Callable[[], object], *_given: object) -> None:
        what()
        self.refresh()

    def refresh(self) -> None:
        """Show how far it is."""
        presenter, pickup = self._presenter, self._presenter.pickup()
        self.line.setText(_marked(pickup.line, presenter.to_mind()) if pickup else "")
        self.before.setText(presenter.before())
        self.before.setVisible(bool(self.before.text()))
        self.about.setText(presenter.about())
        self.about.setVisible(bool(self.about.text()))
        self.notice.setVisible(presenter.microphone.simulated)
        self.told.setText(presenter.told)
        self.told.setVisible(bool(presenter.told))
        stage = presenter.stage
        self.stage.setText(stage.value + (f" {presenter.recorded_s:.1f} s" if stage is Stage.RECORDING else ""))
        listening = stage in (Stage.CHECKING, Stage.RECORDING)
        self.meter.set_level(presenter.rms_db if listening else SILENT_DB, presenter.level_db if listening else SILENT_DB)
        at = self._row
        rows: list[tuple[str, ...]] = [
            (
                f"take {k + 1}",
                f"{len(t.sound) / presenter.bench.book.rate:.1f} s",
                f"{t.peak_db:.1f} dB".replace("-", "\N{MINUS SIGN}"),
                "too loud: move back or turn it down" if t.too_loud else "good",
            )
            for k, t in enumerate(presenter.takes)
        ]
        if rows != self._rows:
            more = len(rows) > len(self._rows)
            self._rows = rows
            self.takes.fill(rows, keys=[str(k) for k in range(len(rows))])
            self.takes.choose_quietly(str(len(rows) - 1 if more else min(at, len(rows) - 1)))
        busy = stage in (Stage.LEAD, Stage.CHECKING, Stage.RECORDING)
        self.stop.setEnabled(busy)
        for made in (self.hear, self.drop, self.keep, self.put_in):
            made.setEnabled(bool(rows) and not busy)
        for made in (self.check, self.record):
            made.setEnabled(not busy)

    def _lead_chosen(self, _index: int) -> None:
        self._presenter.set_lead(float(self.lead.currentData()))

    def _input_chosen(self, _index: int) -> None:
        self._chosen(self.input.currentText())
        self._presenter.use_input()

    def _keep(self, *, splice: bool) -> None:
        if self._presenter.keep(splice=splice):
            self.accept()

    def reject(self) -> None:
        """Close; takes that were not kept are asked for."""
        presenter = self._presenter
        presenter.stop()
        if presenter.takes:
            asked = QMessageBox.StandardButton
            told = f"{len(presenter.takes)} recorded but not kept. Keep what was recorded?"
            answer = QMessageBox.question(self, "Record a line", told, asked.Yes | asked.No | asked.Cancel)
            if answer == asked.Cancel:
                return
            if answer == asked.Yes:
                self._keep(splice=False)
                return
            presenter.throw_away()
        super().reject()

    def done(self, result: int) -> None:
        """Stop listening, whatever way it closes."""
        self._timer.stop()
        self._presenter.stop()
        super().done(result)


def _marked(line: str, marked: Collection[int]) -> str:
    """A line with a rule under the words to mind, as rich text."""
    return " ".join(f"<u>{escape(t)}</u>" if k in marked else escape(t) for k, t in enumerate(line.split()))
