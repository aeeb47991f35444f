"""What is wanted at the microphone: large, with what stands before it, the level, and the takes so far."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from functools import partial
from html import escape

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QCheckBox, QDialog, QDoubleSpinBox, QHBoxLayout, QMessageBox, QPushButton, QVBoxLayout, QWidget

from faithful_reel.app.recording.over import OverPresenter
from faithful_reel.app.recording.recorder import LIMIT_DB, Keeping, Recorder, Stage
from faithful_reel.app.theme import Theme
from faithful_reel.app.widgets.flow import Flow
from faithful_reel.app.widgets.meters import Meter
from faithful_reel.app.widgets.parts import Choice, button, label, rule
from faithful_reel.app.widgets.tables import Table
from faithful_reel.app.widgets.take_strip import TakeStrip
from faithful_reel.core.units import SILENT_DB, Span, samples

TICK_MS = 50
LEADS_S = (0.0, 1.0, 2.0, 3.0, 5.0, 8.0)
RUN_OUTS_S = (0.5, 1.0, 1.3, 2.0, 3.0, 5.0)
SIMULATED = "There is no sound input here: the stand-in booth reads the line, a simulation and no narrator."
LIMIT = f"Peaks stay at or under \N{MINUS SIGN}{abs(LIMIT_DB):.0f} dB. It listens from the lead-in on: wear headphones."
EMPTY = "Nothing was recorded yet. Record plays the reading before the line, begins by itself and stops after it."


class RecordDialog(QDialog):
    """Records what is wanted until a take is kept."""

    def __init__(
        self,
        parent: QWidget | None,
        presenter: Recorder,
        theme: Theme,
        inputs: Sequence[str],
        chosen: Callable[[str], None],
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(presenter.title)
        self._presenter, self._chosen = presenter, chosen
        self._rows: list[tuple[str, ...]] = []
        self.before = label("", "quiet", wrap=True)
        self.line = label("", "large", wrap=True)
        self.line.setAccessibleName("The line")
        self.line.setTextFormat(Qt.TextFormat.RichText)
        self.after = label("", "quiet", wrap=True)
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
        self.run_out = Choice()
        self.run_out.setAccessibleName("The run-out")
        self.run_out.setToolTip("How long it goes on after the last sound; in place, how much of what follows is heard")
        for seconds in sorted({*RUN_OUTS_S, presenter.run_out_s}):
            self.run_out.addItem(f"{seconds:g} s after it", seconds)
        self.run_out.setCurrentIndex(self.run_out.findData(presenter.run_out_s))
        self.run_out.activated.connect(self._run_out_chosen)
        self.meter = Meter()
        self.meter.set_theme(theme)
        self.takes = Table(["Take", "Length", "Peak", "Level"], "Takes that were recorded")
        self.takes.columns(stretch=3)
        self.takes.empty = EMPTY
        self.check = button("Check the level", tip="Listen without recording")
        self.record = button("Record", tip="Play the reading before the line, then record it")
        self.stop = button("Stop", tip="Stop; what was recorded so far is a take")
        self.hear = button("Hear", tip="Hear the take in the chosen row")
        self.in_place = button("Hear in place", tip="Hear the reading before, the take where it would stand, and what follows")
        self.strip = TakeStrip()
        self.strip.set_theme(theme)
        self.strip.shifted.connect(self._shifted)
        self.starts, self.stops = (self._margin(*told) for told in (("begins at", "start"), ("ends at", "stop")))
        self.level = QCheckBox("Level as around it")
        self.level.setToolTip("Bring the take to the level of what stands on both sides")
        if isinstance(presenter, OverPresenter):
            self.level.setChecked(presenter.level_as_around)
            self.level.toggled.connect(presenter.set_level_as_around)
        else:
            self.level.hide()
        self.drop = button("Throw away", tip="Forget the take in the chosen row")
        self.keeps = [(button(way.words, tip=way.tip), way) for way in presenter.keepings()]
        self.shut = button("Close", tip="Back to the desk")
        self._lay_out()
        does: list[tuple[QPushButton, Callable[[], object]]] = [
            (self.check, presenter.check_level),
            (self.record, presenter.record),
            (self.stop, presenter.stop),
            (self.hear, lambda: presenter.hear(self._row)),
            (self.in_place, lambda: presenter.hear_in_place(self._row)),
            (self.drop, lambda: presenter.drop(self._row)),
            *((made, partial(self._keep, way)) for made, way in self.keeps),
            (self.shut, self.reject),
        ]
        for made, what in does:
            made.clicked.connect(partial(self._do, what))
        self.record.setDefault(True)
        self._timer = QTimer(self)
        self._timer.setInterval(TICK_MS)
        self._timer.timeout.connect(partial(self._do, presenter.tick))
        self._timer.start()
        self.refresh()
        self.record.setFocus()

    def _margin(self, words: str, edge: str) -> QDoubleSpinBox:
        """A field for where what was read of a take begins, or ends."""
        made = QDoubleSpinBox()
        made.setAccessibleName(f"What was read {words}")
        made.setToolTip(f"What was read {words}, in seconds of the take")
        made.setRange(0.0, 36_000.0)
        made.setDecimals(3)
        made.setSingleStep(0.01)
        made.setSuffix(" s")
        made.setKeyboardTracking(False)
        made.valueChanged.connect(partial(self._margin_set, edge))
        return made

    def _lay_out(self) -> None:
        box = QVBoxLayout(self)
        box.setContentsMargins(24, 18, 24, 16)
        box.setSpacing(8)
        for widget in (self.about, self.before, self.line, self.after, rule()):
            box.addWidget(widget)
        chosen = QWidget()
        row = QHBoxLayout(chosen)
        row.setContentsMargins(0, 0, 0, 0)
        for widget in (
            label("from", "quiet"), self.input, label("begin", "quiet"), self.lead, label("go on", "quiet"), self.run_out,
        ):  # fmt: skip
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
        box.addWidget(self.strip)
        margins = QHBoxLayout()
        for field in (label("What was read begins at", "quiet"), self.starts, label("and ends at", "quiet"), self.stops):
            margins.addWidget(field)
        margins.addStretch()
        margins.addWidget(self.level)
        box.addLayout(margins)
        box.addWidget(self.told)
        box.addWidget(self.notice)
        for buttons in (
            (self.check, self.record, self.stop, self.hear, *([self.in_place] if self._presenter.in_place else []), self.drop),
            (*(made for made, _ in self.keeps), self.shut),
        ):
            held = QWidget()
            flow = Flow(held)
            for made in buttons:
                flow.addWidget(made)
            box.addWidget(held)
        self.resize(760, 660)

    @property
    def _row(self) -> int:
        """The take in the chosen row, else the last."""
        return int(self.takes.key) if self.takes.key else len(self._presenter.takes) - 1

    def _do(self, what: Callable[[], object], *_given: object) -> None:
        what()
        self.refresh()

    def refresh(self) -> None:
        """Show how far it is."""
        presenter = self._presenter
        self.line.setText(_marked(presenter.line(), presenter.to_mind()))
        for held, words in ((self.before, presenter.before()), (self.after, presenter.after()), (self.about, presenter.about())):
            held.setText(words)
            held.setVisible(bool(words))
        self.notice.setVisible(presenter.microphone.simulated)
        self.told.setText(presenter.told)
        self.told.setVisible(bool(presenter.told))
        stage = presenter.stage
        self.stage.setText(stage.value + (f" {presenter.recorded_s:.1f} s" if stage is Stage.RECORDING else ""))
        listening = stage in (Stage.CHECKING, Stage.LEAD, Stage.RECORDING)
        self.meter.set_level(presenter.rms_db if listening else SILENT_DB, presenter.level_db if listening else SILENT_DB)
        at = self._row
        rows: list[tuple[str, ...]] = [
            (
                f"take {k + 1}",
                f"{len(t.reading) / presenter.bench.book.rate:.2f} s",
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
        for made in (self.hear, self.in_place, self.drop, *(made for made, _ in self.keeps)):
            made.setEnabled(bool(rows) and not busy)
        self._show_take()
        for made in (self.check, self.record):
            made.setEnabled(not busy)

    def _show_take(self) -> None:
        """The take in the chosen row, and its margins."""
        takes, at, rate = self._presenter.takes, self._row, self._presenter.bench.book.rate
        take = takes[at] if 0 <= at < len(takes) else None
        for field in (self.starts, self.stops):
            field.setEnabled(take is not None)
        if take is None:
            self.strip.set_take(None, 0, Span(0, 0), "Nothing was recorded yet")
            return
        first, last = take.reading.start / rate, take.reading.stop / rate
        told = f"take {at + 1}, {len(take.sound) / rate:.1f} s, what was read from {first:.2f} to {last:.2f} s"
        self.strip.set_take(take.look, take.begun, take.reading, told)
        for field, value in ((self.starts, first), (self.stops, last)):
            if not field.hasFocus() or abs(field.value() - value) > 0.0006:
                field.blockSignals(True)
                field.setValue(value)
                field.blockSignals(False)

    def _shifted(self, start: int, stop: int) -> None:
        self._presenter.shift(self._row, start=start, stop=stop)
        self.refresh()

    def _margin_set(self, edge: str, seconds: float) -> None:
        takes, at = self._presenter.takes, self._row
        if 0 <= at < len(takes):
            to = samples(seconds, self._presenter.bench.book.rate)
            reading = takes[at].reading
            self._shifted(*((to - reading.start, 0) if edge == "start" else (0, to - reading.stop)))

    def _lead_chosen(self, _index: int) -> None:
        self._presenter.set_lead(float(self.lead.currentData()))

    def _run_out_chosen(self, _index: int) -> None:
        self._presenter.set_run_out(float(self.run_out.currentData()))

    def _input_chosen(self, _index: int) -> None:
        self._chosen(self.input.currentText())
        self._presenter.use_input()

    def _keep(self, way: Keeping) -> None:
        if way.do(self._row):
            self.accept()

    def reject(self) -> None:
        """Close; takes that were not kept are asked for."""
        presenter = self._presenter
        presenter.stop()
        if presenter.takes:
            asked = QMessageBox.StandardButton
            told = f"{len(presenter.takes)} recorded but not kept. Keep what was recorded?"
            answer = QMessageBox.question(self, presenter.title, told, asked.Yes | asked.No | asked.Cancel)
            if answer == asked.Cancel:
                return
            if answer == asked.Yes:
                self._keep(self.keeps[0][1])
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
