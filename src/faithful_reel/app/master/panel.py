"""The Master desk: every chapter's figures against the profile."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QHeaderView, QVBoxLayout

from faithful_reel.app.master.presenter import MasterPresenter
from faithful_reel.app.theme import DAY, Theme
from faithful_reel.app.widgets.parts import ROLE, Desk, EvennessPlot, button, fill, label, table
from faithful_reel.core.book.model import Master
from faithful_reel.core.measure.profile import load_profile, profile_names

FORMATS = {"MP3, 192 kbit/s constant": ".mp3", "FLAC, 24 bit": ".flac", "WAV, 24 bit": ".wav"}
COLUMNS = (
    ("rms_db", "RMS", "rms"),
    ("peak_db", "Peak", "peak"),
    ("true_peak_db", "True peak", "true_peak"),
    ("lufs", "Loudness", "loudness"),
    ("noise_floor_db", "Noise floor", "noise_floor"),
    ("pause_floor_db", "Pauses", "pause_floor"),
    ("head_s", "Head", "head"),
    ("tail_s", "Tail", "tail"),
)


def _told(master: Master) -> str:
    """What was done to a chapter, and every rule that it fails."""
    failing = [
        f"{rule.replace('_', ' ')} {value} (asked {limit})" for rule, limit, value, passed in master.verdicts if not passed
    ]
    fails = f"Fails: {'; '.join(failing)}.\n" if failing else ""
    return fails + "Done: " + "; ".join(master.steps)


class MasterPanel(Desk):
    """Table, plot, and what was done to the chapter in hand."""

    hear_before = pyqtSignal()
    hear_after = pyqtSignal()
    chapter_chosen = pyqtSignal(str)

    def __init__(self, presenter: MasterPresenter) -> None:
        super().__init__()
        self.setObjectName("desk")
        self._presenter = presenter
        self._theme = DAY
        self.table = table(["Chapter", *(name for _, name, _ in COLUMNS), "Verdict"], "Chapters against the profile")
        self.table.itemSelectionChanged.connect(self._chosen)
        across = self.table.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            across.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.profile, self.format = QComboBox(), QComboBox()
        self.profile.setAccessibleName("Delivery profile")
        self.profile.addItems(profile_names())
        self.profile.setCurrentText(presenter.profile)
        self.profile.activated.connect(self._profile_chosen)
        self.format.setAccessibleName("Format of the finished files")
        self.format.addItems(list(FORMATS))
        self.format.activated.connect(self._format_chosen)
        self.one, self.all = (
            button("Master this chapter", tip="Ctrl+M"),
            button("Master all", tip="Every chapter whose master is missing or out of date"),
        )
        self.one.clicked.connect(self._master_one)
        self.all.clicked.connect(presenter.master_all)
        head = QHBoxLayout()
        head.addWidget(label("Master", "title"))
        head.addStretch()
        for widget in (label("profile", "quiet"), self.profile, self.format, self.one, self.all):
            head.addWidget(widget)
        self.plot = EvennessPlot()
        self.steps = label("", "quiet", wrap=True)
        self.before, self.after = (
            button("Hear before", tip="At the loudness of the master, so that the louder does not win"),
            button("Hear after"),
        )
        self.before.clicked.connect(self.hear_before)
        self.after.clicked.connect(self.hear_after)
        row = QHBoxLayout()
        row.addWidget(self.before)
        row.addWidget(self.after)
        row.addWidget(label("at equal loudness", "quiet"))
        row.addStretch()
        box = QVBoxLayout(self)
        box.setContentsMargins(24, 16, 24, 12)
        box.addLayout(head)
        box.addWidget(self.table, 2)
        box.addWidget(label("Evenness over the book: RMS as recorded (ring) and mastered (dot), the limits as a band", "quiet"))
        box.addWidget(self.plot, 2)
        box.addWidget(self.steps)
        box.addLayout(row)

    def set_theme(self, theme: Theme) -> None:
        """Colour plot and verdicts."""
        self._theme = theme
        self.plot.set_theme(theme)
        self.refresh()

    def refresh(self) -> None:
        """Show all chapters."""
        presenter = self._presenter
        book = presenter.bench.book
        rows: list[list[str]] = []
        colors: dict[tuple[int, int], QColor] = {}
        dots: list[tuple[str, float | None, float | None]] = []
        for r, chapter in enumerate(book.chapters):
            state = presenter.state(chapter)
            master = chapter.master
            failing = {v[0] for v in master.verdicts if not v[3]} if master else set()
            cells = [chapter.title]
            for c, (key, _, rule) in enumerate(COLUMNS, 1):
                value = master.figures.get(key) if master else None
                unit = "s" if key.endswith("_s") else "LUFS" if key == "lufs" else "dB"
                text = f"{value:.1f} {unit}".replace("-", "−") if isinstance(value, float | int) else "–"
                cells.append(text + ("  ✕" if rule in failing else ""))
                if rule in failing:
                    colors[r, c] = self._theme.color("red")
            mark = {"passes": "✓ passes", "fails": "✕ fails"}.get(state, state)
            cells.append(mark)
            colors[r, len(COLUMNS) + 1] = self._theme.color({"passes": "good", "fails": "red"}.get(state, "quiet"))
            rows.append(cells)
            before = book.recording(chapter.recording).rms_db if chapter.recording else None
            after = master.figures.get("rms_db") if master else None
            dots.append((chapter.title.split(":")[0], before, float(after) if isinstance(after, float | int) else None))
        fill(self.table, rows, keys=[c.id for c in book.chapters], colors=colors)
        at_hand = presenter.bench.chapter
        for r, entry in enumerate(book.chapters):
            if at_hand and entry.id == at_hand.id:
                self.table.blockSignals(True)
                self.table.selectRow(r)
                self.table.blockSignals(False)
        self.plot.set_rows(dots, load_profile(presenter.profile).rms_db or (-25.0, -21.0))
        self.steps.setText(_told(at_hand.master) if at_hand and at_hand.master else "Nothing was done to this chapter yet.")
        self.one.setEnabled(at_hand is not None and at_hand.reel is not None and presenter.state(at_hand) != "working")
        self.all.setEnabled(any(presenter.state(c) in ("to do", "out of date", "fails") for c in book.chapters))
        for widget in (self.before, self.after):
            widget.setEnabled(at_hand is not None and at_hand.master is not None)

    def _chosen(self) -> None:
        item = self.table.item(self.table.currentRow(), 0)
        if item is not None:
            self.chapter_chosen.emit(str(item.data(ROLE)))

    def _profile_chosen(self) -> None:
        self._presenter.profile = self.profile.currentText()
        self._presenter.bench.changed()

    def _format_chosen(self) -> None:
        self._presenter.suffix = FORMATS[self.format.currentText()]

    def _master_one(self) -> None:
        chapter = self._presenter.bench.chapter
        if chapter:
            self._presenter.master(chapter.id)
