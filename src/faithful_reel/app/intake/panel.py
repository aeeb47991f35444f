"""The Intake desk."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import (
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from faithful_reel.app.intake.dialogs import ReimportDialog
from faithful_reel.app.intake.picture import RecordingPicture
from faithful_reel.app.intake.presenter import IntakePresenter, Way, health, missed_by
from faithful_reel.app.theme import DAY, Theme
from faithful_reel.app.widgets.parts import ActButton, Choice, Desk, button, label
from faithful_reel.app.widgets.tables import Table
from faithful_reel.core.book.model import Recording
from faithful_reel.core.units import SILENT_DB, Span
from faithful_reel.core.work.revising import Reimport


def decibel(value: float) -> str:
    """A level for people."""
    if value <= SILENT_DB:
        return "silent"
    return f"{round(value, 1) + 0.0:.1f} dB".replace("-", "−")


ON_A_CHAPTER = (
    ("Rename…", "intake.rename"),
    ("Split…", "intake.split"),
    ("Join", "intake.join"),
    ("↑", "intake.earlier"),
    ("↓", "intake.later"),
    ("Leave out", "intake.leave_out"),
    ("Hear", "intake.hear_chapter"),
)
"""What can be done with the chapter that is chosen."""


class IntakePanel(Desk):
    """Chapters beside recordings, with the health of the recording at hand; files can be dropped on it."""

    def __init__(self, presenter: IntakePresenter) -> None:
        super().__init__()
        self.setObjectName("desk")
        self.setAcceptDrops(True)
        self._presenter = presenter
        self._theme = DAY
        presenter.review = self._review
        self.bring_manuscript = ActButton("Bring in a manuscript…", "intake.manuscript")
        self.bring_recordings = ActButton("Bring in recordings…", "intake.recordings")
        self.by_ear = ActButton("Pair by ear", "intake.pair")
        row = QHBoxLayout()
        row.addWidget(label("Intake", "title"))
        self.hint = label("", "quiet", wrap=True)
        row.addWidget(self.hint, 1)
        for made in (self.bring_manuscript, self.bring_recordings, self.by_ear):
            row.addWidget(made)
        across = QSplitter(Qt.Orientation.Horizontal)
        across.setHandleWidth(1)
        across.addWidget(self._manuscript())
        across.addWidget(self._sounds())
        across.setSizes([560, 540])
        box = QVBoxLayout(self)
        box.setContentsMargins(24, 12, 24, 8)
        box.addLayout(row)
        box.addWidget(across, 1)

    # --- building -------------------------------------------------------------------------------------------------

    def _manuscript(self) -> QWidget:
        self.chapters = Table(["Chapter", "Words", "Finished", "Read by"], "Chapters of the manuscript", sortable=False)
        self.chapters.empty = "Drop the manuscript here: DOCX, EPUB, ODT, RTF, PDF, HTML, Markdown or text."
        self.chapters.columns(stretch=0)
        self.chapters.menu_acts = tuple(act for _, act in ON_A_CHAPTER)
        self.aside = Table(["Left out: not read aloud", "Words"], "Parts of the manuscript that are left out")
        self.aside.columns(stretch=0)
        self.aside.menu_acts = ("intake.put_back",)
        self.aside.setMaximumHeight(112)
        row = QHBoxLayout()
        row.setSpacing(4)
        self.acts = [ActButton(text, act) for text, act in ON_A_CHAPTER]
        for made in self.acts:
            row.addWidget(made)
        row.addStretch()
        self.back = ActButton("Put back", "intake.put_back")
        below = QHBoxLayout()
        below.addStretch()
        below.addWidget(self.back)
        side = QWidget()
        box = QVBoxLayout(side)
        box.setContentsMargins(0, 0, 12, 0)
        box.addWidget(self.chapters, 1)
        box.addLayout(row)
        box.addWidget(self.aside)
        box.addLayout(below)
        return side

    def _sounds(self) -> QWidget:
        self.recordings = Table(["Recording", "Length", "Health"], "Recordings")
        self.recordings.setSelectionMode(Table.SelectionMode.ExtendedSelection)
        self.recordings.empty = "Drop the narrator's recordings here, as many as you like, in any format."
        self.recordings.setMinimumHeight(96)
        self.recordings.columns(stretch=2)
        self.recordings.menu_acts = (
            "intake.hear", "intake.hear_clipped", "intake.hear_tone", "intake.make_one", "intake.search", "intake.replace",
        )  # fmt: skip
        self.recordings.currentItemChanged.connect(self._recording_chosen)
        self.incoming = Table(["Coming in", ""], "Files that are being brought in, or were refused", sortable=False)
        self.incoming.columns(stretch=1)
        self.incoming.setMaximumHeight(122)
        self.stop = button("Stop", tip="Stop bringing in what is not in yet")
        self.stop.clicked.connect(self._presenter.cancel_all)
        self.forget = button("Clear", tip="Take the refused files off the list")
        self.forget.clicked.connect(self._presenter.forget_refused)
        self.make_one = ActButton("Make one of these", "intake.make_one")
        self.search = ActButton("Look in a folder…", "intake.search")
        self.replace = ActButton("Choose the file…", "intake.replace")
        row = QHBoxLayout()
        for words, act in (
            ("Hear it", "intake.hear"),
            ("First clipped place", "intake.hear_clipped"),
            ("Room tone", "intake.hear_tone"),
        ):
            row.addWidget(ActButton(words, act))
        for made in (self.make_one, self.search, self.replace):
            row.addWidget(made)
        row.addStretch()
        row.addWidget(self.forget)
        row.addWidget(self.stop)
        side = QWidget()
        box = QVBoxLayout(side)
        box.setContentsMargins(12, 0, 0, 0)
        box.addWidget(self.recordings, 1)
        box.addWidget(self.incoming)
        box.addLayout(row)
        box.addWidget(self._card())
        return side

    def _card(self) -> QWidget:
        self.card = QWidget()
        self.verdict = label("", wrap=True)
        self.remedies = label("", "quiet", wrap=True)
        self.remedies.setAccessibleName("What to do")
        self.picture = RecordingPicture()
        self.narrator = QLineEdit()
        self.narrator.setAccessibleName("Narrator of this recording")
        self.narrator.setPlaceholderText("who reads here")
        self.narrator.editingFinished.connect(self._narrator_named)
        names = ("came as", "peak", "clipped", "DC", "noise floor", "hum", "room tone", "speech", "finished")
        self.figures = {name: label("") for name in names}
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(2)
        for index, (name, value) in enumerate(self.figures.items()):
            value.setAccessibleName(name)
            grid.addWidget(label(name, "quiet"), index % 5, 2 * (index // 5))
            grid.addWidget(value, index % 5, 2 * (index // 5) + 1)
        grid.addWidget(label("narrator", "quiet"), 4, 2)
        grid.addWidget(self.narrator, 4, 3)
        grid.setColumnStretch(1, 1)
        grid.setColumnStretch(3, 1)
        box = QVBoxLayout(self.card)
        box.setContentsMargins(0, 4, 0, 0)
        box.addWidget(self.verdict)
        box.addWidget(self.remedies)
        box.addWidget(self.picture)
        box.addLayout(grid)
        return self.card

    # --- showing --------------------------------------------------------------------------------------------------

    def set_theme(self, theme: Theme) -> None:
        """Colour the picture and the verdicts."""
        self._theme = theme
        self.picture.set_theme(theme)
        if self.isVisible():
            self.refresh()

    def take_keys(self) -> None:
        """As `Desk`."""
        (self.chapters if self.chapters.rowCount() else self.bring_manuscript).setFocus()

    def refresh(self) -> None:
        """Show the book as it is."""
        bench, presenter = self._presenter.bench, self._presenter
        book = bench.book
        rows = [
            (c.title, f"{bench.word_count(c):,}", bench.time_of_seconds(presenter.finished_s(c)), "") for c in book.chapters
        ]  # fmt: skip
        self.chapters.fill(rows, keys=[c.id for c in book.chapters])
        for row, chapter in enumerate(book.chapters):
            combo = Choice()
            combo.setAccessibleName(f"Recording of {chapter.title}")
            combo.setToolTip("Which recording reads this chapter")
            combo.addItem("no recording yet", "")
            for recording in book.brought:
                combo.addItem(recording.name, recording.hash)
            combo.setCurrentIndex(max(0, combo.findData(chapter.recording)))
            combo.setProperty("chapter", chapter.id)
            combo.setMinimumWidth(132)
            combo.setMaximumWidth(230)
            combo.activated.connect(self._paired)
            self.chapters.setCellWidget(row, 3, combo)
        self.chapters.doItemsLayout()  # at once: a list that has no place yet would be drawn over the first row
        self.aside.fill([(c.title, f"{bench.word_count(c):,}") for c in book.left_out], keys=[c.id for c in book.left_out])
        self.aside.setVisible(bool(book.left_out))
        self.back.setVisible(bool(book.left_out))
        for made in self.acts:
            made.setEnabled(bool(book.chapters))
        self._show_recordings()
        self._show_card(presenter.recording())
        self.by_ear.setEnabled(not presenter.pairing and bool(book.chapters) and bool(book.brought))
        unpaired = sum(not c.recording for c in book.chapters)
        if presenter.pairing:
            self.hint.setText("Listening to samples of the recordings …")
        elif presenter.faults:
            self.hint.setText(f"{len(presenter.faults)} recordings are missing or changed: look for them, or choose their files.")
        elif not book.chapters:
            self.hint.setText("This book is empty. Bring in the manuscript first, then the recordings; or drop the files here.")
        elif not book.brought:
            self.hint.setText("Bring in the narrator's recordings, or drop them here.")
        else:
            self.hint.setText(f"{unpaired} chapters have no recording yet." if unpaired else "Every chapter has its recording.")

    def _show_recordings(self) -> None:
        presenter = self._presenter
        book = presenter.bench.book
        rows, colors, shown = [], {}, presenter.recordings()
        for row, r in enumerate(shown):
            verdict = health(r, presenter.faults.get(r.hash))
            rows.append((r.name, presenter.bench.time(r.length, 0), verdict))
            if r.hash in presenter.faults or (r.health is not None and (r.health.clipped or r.health.cut_short)):
                colors[row, 2] = self._theme.color("red")
        self.recordings.fill(rows, keys=[r.hash for r in shown], colors=colors)
        queue = presenter.queue
        self.incoming.fill([(i.path.name, i.note or i.state.value) for i in queue])
        self.incoming.setVisible(bool(queue))
        self.stop.setVisible(any(i.state is not Way.REFUSED for i in queue))
        self.forget.setVisible(any(i.state is Way.REFUSED for i in queue))
        self.search.setVisible(bool(presenter.faults))
        at = presenter.recording()
        self.replace.setVisible(at is not None and at.hash in presenter.faults)
        self.make_one.setVisible(len(book.brought) > 1)

    def _show_card(self, recording: Recording | None) -> None:
        self.card.setVisible(recording is not None)
        if recording is None:
            return
        presenter = self._presenter
        book, found = presenter.bench.book, recording.health
        fault = presenter.faults.get(recording.hash)
        verdict = health(recording, fault)
        self.verdict.setText(f"{recording.name}: {verdict}")
        self.remedies.setText("" if fault else "\n".join(m.remedy for m in missed_by(recording)))
        self.remedies.setVisible(bool(self.remedies.text()))
        rate = book.rate
        tone = Span(recording.tone.start, recording.tone.stop) if recording.tone else None
        channels = {1: "mono", 2: "stereo"}.get(recording.channels, f"{recording.channels} channels")
        depth = f", {found.depth}" if found and found.depth else f", {found.codec}" if found else ""
        values = {
            "came as": f"{recording.rate / 1000:g} kHz{depth}, {channels}",
            "peak": decibel(recording.peak_db),
            "noise floor": decibel(recording.noise_floor_db),
            "clipped": "" if found is None else f"{found.clipped} samples" if found.clipped else "none",
            "DC": "" if found is None else f"{100 * found.dc:.2f} %",
            "hum": "" if found is None else f"{found.hum_hz:.0f} Hz, {decibel(found.hum_db)}" if found.hum_hz else "none",
            "room tone": "none"
            if tone is None
            else f"{(tone.stop - tone.start) / rate:.1f} s at {presenter.bench.time(tone.start, 0)}",
            "speech": "" if found is None else f"{100 * found.speech:.0f} % of the time",
            "finished": "" if found is None else f"about {presenter.bench.time_of_seconds(found.finished_s)}",
        }
        for name, value in values.items():
            self.figures[name].setText(value)
        if found and found.clipped and found.places:
            first = found.places[0][0] / recording.rate
            self.figures["clipped"].setText(f"{found.clipped} samples, first at {presenter.bench.time_of_seconds(first)}")
        if not self.narrator.hasFocus():
            self.narrator.setText(recording.narrator or book.narrator)
        drawn = None if fault else presenter.bench.overview(recording.hash)
        self.picture.set_content(
            drawn.columns if drawn else None,
            recording.length,
            rate,
            tone=None if recording.parts else tone,
            times=partial(presenter.bench.time, digits=0),
            clipped_s=tuple(a / recording.rate for a, _ in found.places) if found else (),
            note="no sound: the file is missing" if fault else "being drawn …",
        )

    # --- acts -----------------------------------------------------------------------------------------------------

    def _recording_chosen(self) -> None:
        if chosen := self.recordings.key:
            self._presenter.choose(chosen)

    def _narrator_named(self) -> None:
        recording = self._presenter.recording()
        if recording is not None and self.narrator.text().strip() != (recording.narrator or self._presenter.bench.book.narrator):
            self._presenter.name_narrator(recording.hash, self.narrator.text())

    def _paired(self) -> None:
        combo = self.sender()
        if isinstance(combo, Choice):
            self._presenter.pair(str(combo.property("chapter")), str(combo.currentData() or ""))

    def _review(self, found: Reimport, name: str) -> None:
        if ReimportDialog(found, name, self).exec() == QDialog.DialogCode.Accepted:
            self._presenter.take_over(found.command)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:  # noqa: N802 - Qt's name
        """Files and folders are welcome."""
        data = event.mimeData() if event else None
        if event and data and data.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:  # noqa: N802 - Qt's name
        """Manuscripts and recordings, many at once."""
        data = event.mimeData() if event else None
        if event is None or data is None:
            return
        event.acceptProposedAction()
        self._presenter.bring([Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()])

    def sizeHint(self) -> QSize:  # noqa: N802 - Qt's name
        """Room for both sides."""
        return QSize(1000, 560)
