"""The Intake desk."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QHeaderView, QVBoxLayout

from faithful_reel.app.intake.presenter import IntakePresenter, health
from faithful_reel.app.theme import Theme
from faithful_reel.app.widgets.parts import Desk, button, fill, label, table
from faithful_reel.core.units import clock

MANUSCRIPTS = (".txt", ".docx")


def decibel(value: float) -> str:
    """A level for people."""
    return f"{value:.1f} dB".replace("-", "−")


class IntakePanel(Desk):
    """Chapters beside recordings, with a health line for each recording; files can be dropped on it."""

    manuscript_wanted = pyqtSignal()
    recordings_wanted = pyqtSignal()

    def __init__(self, presenter: IntakePresenter) -> None:
        super().__init__()
        self.setObjectName("desk")
        self.setAcceptDrops(True)
        self._presenter = presenter
        self.chapters = table(["Chapter", "Words", "Read by"], "Chapters of the manuscript")
        self.recordings = table(
            ["Recording", "Length", "Rate", "Channels", "Peak", "Noise floor", "Room tone", "Health"], "Recordings"
        )
        self.bring_manuscript = button("Bring in a manuscript…", tip="Chapters from a TXT or DOCX file")
        self.bring_recordings = button("Bring in recordings…", tip="Copied into the book once, never changed")
        self.bring_manuscript.clicked.connect(self.manuscript_wanted)
        self.bring_recordings.clicked.connect(self.recordings_wanted)
        row = QHBoxLayout()
        row.addWidget(label("Intake", "title"))
        row.addStretch()
        row.addWidget(self.bring_manuscript)
        row.addWidget(self.bring_recordings)
        self.hint = label("", "quiet", wrap=True)
        box = QVBoxLayout(self)
        box.setContentsMargins(24, 16, 24, 12)
        box.addLayout(row)
        box.addWidget(self.hint)
        box.addWidget(label("Manuscript", "heading"))
        box.addWidget(self.chapters, 3)
        box.addWidget(label("Recordings", "heading"))
        box.addWidget(self.recordings, 2)
        for view, stretch in ((self.chapters, 0), (self.recordings, 7)):
            across = view.horizontalHeader()
            if across is not None:
                across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
                across.setSectionResizeMode(stretch, QHeaderView.ResizeMode.Stretch)

    def set_theme(self, theme: Theme) -> None:
        """Nothing of its own to colour."""

    def refresh(self) -> None:
        """Show the book as it is."""
        bench = self._presenter.bench
        book = bench.book
        fill(
            self.chapters,
            [(c.title, str(len(bench.text(c).words)), "") for c in book.chapters],
            keys=[c.id for c in book.chapters],
        )
        for row, chapter in enumerate(book.chapters):
            combo = QComboBox()
            combo.setAccessibleName(f"Recording of {chapter.title}")
            combo.addItem("no recording yet", "")
            for recording in book.recordings:
                combo.addItem(recording.name, recording.hash)
            combo.setCurrentIndex(max(0, combo.findData(chapter.recording)))
            combo.setProperty("chapter", chapter.id)
            combo.setMinimumWidth(220)
            combo.activated.connect(self._paired)
            self.chapters.setCellWidget(row, 2, combo)
        rows = [
            (
                r.name,
                clock(r.length / book.rate),
                f"{r.rate} Hz",
                "mono" if r.channels == 1 else str(r.channels),
                decibel(r.peak_db),
                decibel(r.noise_floor_db),
                f"{(r.tone.stop - r.tone.start) / book.rate:.1f} s" if r.tone else "none",
                health(r),
            )
            for r in book.recordings
        ]
        fill(self.recordings, rows, keys=[r.hash for r in book.recordings])
        if not book.chapters:
            self.hint.setText("This book is empty. Bring in the manuscript first, then the recordings; or drop the files here.")
        elif not book.recordings:
            self.hint.setText("Bring in the narrator's recordings, or drop them here.")
        else:
            unpaired = sum(not c.recording for c in book.chapters)
            self.hint.setText(f"{unpaired} chapters have no recording yet." if unpaired else "Every chapter has its recording.")

    def _paired(self) -> None:
        combo = self.sender()
        if isinstance(combo, QComboBox) and combo.currentData():
            self._presenter.pair(str(combo.property("chapter")), str(combo.currentData()))

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:  # noqa: N802 - Qt's name
        """Files are welcome."""
        data = event.mimeData() if event else None
        if event and data and data.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:  # noqa: N802 - Qt's name
        """Manuscripts and recordings by what they are called."""
        data = event.mimeData() if event else None
        if event is None or data is None:
            return
        paths = [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()]
        event.acceptProposedAction()
        for path in paths:
            if path.suffix.lower() in MANUSCRIPTS:
                self._presenter.bring_manuscript(path)
        sounds = [p for p in paths if p.suffix.lower() not in MANUSCRIPTS]
        if sounds:
            self._presenter.bring_recordings(sounds)
