"""The Intake desk."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QInputDialog,
    QLineEdit,
    QSplitter,
    QTableWidget,
    QVBoxLayout,
    QWidget,
)

from faithful_reel.app.intake.dialogs import ReimportDialog, SplitDialog
from faithful_reel.app.intake.picture import RecordingPicture
from faithful_reel.app.intake.presenter import IntakePresenter, health
from faithful_reel.app.theme import DAY, Theme
from faithful_reel.app.widgets.parts import ROLE, Desk, button, fill, label, table
from faithful_reel.core.book.model import Recording
from faithful_reel.core.units import SILENT_DB, Span, clock
from faithful_reel.core.work.revising import Reimport


def decibel(value: float) -> str:
    """A level for people."""
    if value <= SILENT_DB:
        return "silent"
    return f"{round(value, 1) + 0.0:.1f} dB".replace("-", "−")


class IntakePanel(Desk):
    """Chapters beside recordings, with the health of the recording at hand; files can be dropped on it."""

    manuscript_wanted = pyqtSignal()
    recordings_wanted = pyqtSignal()
    search_wanted = pyqtSignal()
    replacement_wanted = pyqtSignal(str)

    def __init__(self, presenter: IntakePresenter) -> None:
        super().__init__()
        self.setObjectName("desk")
        self.setAcceptDrops(True)
        self._presenter = presenter
        self._theme = DAY
        presenter.review = self._review
        self.bring_manuscript = button("Bring in a manuscript…", tip="DOCX, EPUB, ODT, RTF, PDF, HTML, Markdown or text")
        self.bring_recordings = button("Bring in recordings…", tip="Copied into the book once, never changed")
        self.by_ear = button("Pair by ear", tip="Hear samples of the recordings and find which chapter each one reads")
        self.bring_manuscript.clicked.connect(self.manuscript_wanted)
        self.bring_recordings.clicked.connect(self.recordings_wanted)
        self.by_ear.clicked.connect(presenter.pair_by_ear)
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
        self.chapters = table(["Chapter", "Words", "Finished", "Read by"], "Chapters of the manuscript")
        self.chapters.empty = "Drop the manuscript here: DOCX, EPUB, ODT, RTF, PDF, HTML, Markdown or text."
        _columns(self.chapters, stretch=0)
        self.aside = table(["Left out: not read aloud", "Words"], "Parts of the manuscript that are left out")
        _columns(self.aside, stretch=0)
        self.aside.setMaximumHeight(112)
        self.acts: dict[str, object] = {}
        row = QHBoxLayout()
        row.setSpacing(4)
        for name, text, tip, slot in (
            ("rename", "Rename…", "Give the chapter another title", self._rename),
            ("split", "Split…", "Make two chapters of it", self._split),
            ("join", "Join", "Join it with the chapter below", self._join),
            ("earlier", "↑", "Read it before the chapter above", self._earlier),
            ("later", "↓", "Read it after the chapter below", self._later),
            ("leave_out", "Leave out", "It is not read aloud; work on it is kept", self._leave_out),
        ):
            made = button(text, tip=tip)
            made.setAccessibleName(f"{tip}: {name.replace('_', ' ')}")
            made.clicked.connect(slot)
            row.addWidget(made)
            self.acts[name] = made
        row.addStretch()
        self.back = button("Put back", tip="Read the chosen part aloud after all")
        self.back.clicked.connect(self._put_back)
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
        self.recordings = table(["Recording", "Length", "Health"], "Recordings")
        self.recordings.setSelectionMode(QTableWidget.SelectionMode.ExtendedSelection)
        self.recordings.empty = "Drop the narrator's recordings here, as many as you like, in any format."
        self.recordings.setMinimumHeight(96)
        _columns(self.recordings, stretch=2)
        self.recordings.currentItemChanged.connect(self._recording_chosen)
        self.incoming = table(["Coming in", ""], "Files that are being brought in, or were refused")
        _columns(self.incoming, stretch=1)
        self.incoming.setMaximumHeight(122)
        self.stop = button("Stop", tip="Stop bringing in what is not in yet")
        self.stop.clicked.connect(self._presenter.cancel_all)
        self.forget = button("Clear", tip="Take the refused files off the list")
        self.forget.clicked.connect(self._presenter.forget_refused)
        self.make_one = button("Make one of these", tip="Several files that together read one chapter, in this order")
        self.make_one.clicked.connect(self._make_one)
        self.search = button("Look in a folder…", tip="Find lost recordings by their bytes, whatever they are called now")
        self.search.clicked.connect(self.search_wanted)
        self.replace = button("Choose the file…", tip="Say yourself which file is the lost recording")
        self.replace.clicked.connect(self._replace)
        row = QHBoxLayout()
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
        self.verdict.setMinimumHeight(36)
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

    def refresh(self) -> None:
        """Show the book as it is."""
        bench, presenter = self._presenter.bench, self._presenter
        book = bench.book
        rows = [
            (c.title, f"{bench.word_count(c):,}", clock(presenter.finished_s(c))[:-4], "") for c in book.chapters
        ]  # fmt: skip
        fill(self.chapters, rows, keys=[c.id for c in book.chapters])
        for row, chapter in enumerate(book.chapters):
            combo = QComboBox()
            combo.setAccessibleName(f"Recording of {chapter.title}")
            combo.setToolTip("Which recording reads this chapter")
            combo.addItem("no recording yet", "")
            for recording in book.recordings:
                combo.addItem(recording.name, recording.hash)
            combo.setCurrentIndex(max(0, combo.findData(chapter.recording)))
            combo.setProperty("chapter", chapter.id)
            combo.setMinimumWidth(132)
            combo.setMaximumWidth(230)
            combo.activated.connect(self._paired)
            self.chapters.setCellWidget(row, 3, combo)
        fill(self.aside, [(c.title, f"{bench.word_count(c):,}") for c in book.left_out], keys=[c.id for c in book.left_out])
        self.aside.setVisible(bool(book.left_out))
        self.back.setVisible(bool(book.left_out))
        for made in self.acts.values():
            made.setEnabled(bool(book.chapters))  # type: ignore[attr-defined]
        self._show_recordings()
        self._show_card(presenter.recording())
        self.by_ear.setEnabled(not presenter.pairing and bool(book.chapters) and bool(book.recordings))
        unpaired = sum(not c.recording for c in book.chapters)
        if presenter.pairing:
            self.hint.setText("Listening to samples of the recordings …")
        elif presenter.faults:
            self.hint.setText(f"{len(presenter.faults)} recordings are missing or changed: look for them, or choose their files.")
        elif not book.chapters:
            self.hint.setText("This book is empty. Bring in the manuscript first, then the recordings; or drop the files here.")
        elif not book.recordings:
            self.hint.setText("Bring in the narrator's recordings, or drop them here.")
        else:
            self.hint.setText(f"{unpaired} chapters have no recording yet." if unpaired else "Every chapter has its recording.")

    def _show_recordings(self) -> None:
        presenter = self._presenter
        book = presenter.bench.book
        rows, colors = [], {}
        for row, r in enumerate(book.recordings):
            verdict = health(r, presenter.faults.get(r.hash, ""))
            rows.append((r.name, clock(r.length / book.rate)[:-4], verdict))
            if r.hash in presenter.faults or (r.health is not None and (r.health.clipped or r.health.cut_short)):
                colors[row, 2] = QColor(self._theme.pencil("pickup"))
        fill(self.recordings, rows, keys=[r.hash for r in book.recordings], colors=colors)
        queue = presenter.queue
        fill(self.incoming, [(i.path.name, i.note or i.state) for i in queue])
        self.incoming.setVisible(bool(queue))
        self.stop.setVisible(any(i.state != "refused" for i in queue))
        self.forget.setVisible(any(i.state == "refused" for i in queue))
        self.search.setVisible(bool(presenter.faults))
        at = presenter.recording()
        self.replace.setVisible(at is not None and at.hash in presenter.faults)
        self.make_one.setVisible(len(book.recordings) > 1)

    def _show_card(self, recording: Recording | None) -> None:
        self.card.setVisible(recording is not None)
        if recording is None:
            return
        presenter = self._presenter
        book, found = presenter.bench.book, recording.health
        fault = presenter.faults.get(recording.hash, "")
        verdict = health(recording, fault)
        self.verdict.setText(f"{recording.name}: {verdict}")
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
            else f"{(tone.stop - tone.start) / rate:.1f} s at {clock(tone.start / rate)[:-4]}",
            "speech": "" if found is None else f"{100 * found.speech:.0f} % of the time",
            "finished": "" if found is None else f"about {clock(found.finished_s)[:-4]}",
        }
        for name, value in values.items():
            self.figures[name].setText(value)
        if found and found.clipped and found.places:
            first = found.places[0][0] / recording.rate
            self.figures["clipped"].setText(f"{found.clipped} samples, first at {clock(first)[:-4]}")
        if not self.narrator.hasFocus():
            self.narrator.setText(recording.narrator or book.narrator)
        drawn = None if fault else presenter.bench.overview(recording.hash)
        self.picture.set_content(
            drawn.columns if drawn else None,
            recording.length,
            rate,
            tone=None if recording.parts else tone,
            clipped_s=tuple(a / recording.rate for a, _ in found.places) if found else (),
            note="no sound: the file is missing" if fault else "being drawn …",
        )

    # --- acts -----------------------------------------------------------------------------------------------------

    def _chosen(self, view: QTableWidget) -> str:
        item = view.item(view.currentRow(), 0)
        return str(item.data(ROLE)) if item is not None else ""

    def _rename(self) -> None:
        chapter = self._chosen(self.chapters)
        if chapter:
            title = self._presenter.bench.book.chapter(chapter).title
            text, taken = QInputDialog.getText(self, "Rename the chapter", "Title:", text=title)
            if taken:
                self._presenter.rename(chapter, text)

    def _split(self) -> None:
        chapter = self._chosen(self.chapters)
        if chapter:
            dialog = SplitDialog(self._presenter.bench.text(self._presenter.bench.book.chapter(chapter)), self)
            if dialog.exec() == QDialog.DialogCode.Accepted and dialog.at:
                self._presenter.split(chapter, dialog.at)

    def _join(self) -> None:
        if chapter := self._chosen(self.chapters):
            self._presenter.join(chapter)

    def _earlier(self) -> None:
        if chapter := self._chosen(self.chapters):
            self._presenter.move(chapter, -1)

    def _later(self) -> None:
        if chapter := self._chosen(self.chapters):
            self._presenter.move(chapter, 1)

    def _leave_out(self) -> None:
        if chapter := self._chosen(self.chapters):
            self._presenter.leave_out(chapter)

    def _put_back(self) -> None:
        if chapter := self._chosen(self.aside) or str(getattr(self.aside.item(0, 0), "data", str)(ROLE)):
            self._presenter.put_back(chapter)

    def _make_one(self) -> None:
        model = self.recordings.selectionModel()
        rows = sorted(i.row() for i in model.selectedRows()) if model else []
        items = [self.recordings.item(r, 0) for r in rows]
        self._presenter.make_one([str(i.data(ROLE)) for i in items if i is not None])

    def _replace(self) -> None:
        recording = self._presenter.recording()
        if recording is not None:
            self.replacement_wanted.emit(recording.hash)

    def _recording_chosen(self) -> None:
        if chosen := self._chosen(self.recordings):
            self._presenter.choose(chosen)

    def _narrator_named(self) -> None:
        recording = self._presenter.recording()
        if recording is not None and self.narrator.text().strip() != (recording.narrator or self._presenter.bench.book.narrator):
            self._presenter.name_narrator(recording.hash, self.narrator.text())

    def _paired(self) -> None:
        combo = self.sender()
        if isinstance(combo, QComboBox):
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


def _columns(view: QTableWidget, *, stretch: int) -> None:
    across = view.horizontalHeader()
    if across is not None:
        across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        across.setSectionResizeMode(stretch, QHeaderView.ResizeMode.Stretch)
