"""The Master desk: every chapter's figures against the profile."""

from __future__ import annotations

from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from faithful_reel.app.master.presenter import DUE, MasterPresenter, MasterState
from faithful_reel.app.theme import DAY, Theme
from faithful_reel.app.widgets.meters import EvennessPlot
from faithful_reel.app.widgets.parts import ActButton, Choice, Desk, label
from faithful_reel.app.widgets.tables import Table
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

SIGNS = {MasterState.PASSES: "✓ ", MasterState.FAILS: "✕ "}
COLORS = {MasterState.PASSES: "good", MasterState.FAILS: "red"}


def _told(master: Master) -> str:
    """What was done to a chapter, and every rule that it fails."""
    failing = [
        f"{rule.replace('_', ' ')} {value} (asked {limit})" for rule, limit, value, passed in master.verdicts if not passed
    ]
    fails = f"Fails: {'; '.join(failing)}.\n" if failing else ""
    return fails + "Done: " + "; ".join(master.steps)


class MasterPanel(Desk):
    """Table, plot, and what was done to the chapter in hand."""

    def __init__(self, presenter: MasterPresenter) -> None:
        super().__init__()
        self.setObjectName("desk")
        self._presenter = presenter
        self._theme = DAY
        self.table = Table(["Chapter", *(name for _, name, _ in COLUMNS), "Verdict"], "Chapters against the profile")
        self.table.itemSelectionChanged.connect(self._chosen)
        self.table.columns(stretch=0)
        self.table.menu_acts = ("master.this", "master.hear_before", "master.hear_after")
        self.profile, self.format = Choice(), Choice()
        self.profile.setAccessibleName("Delivery profile")
        self.profile.addItems(profile_names())
        self.profile.setCurrentText(presenter.profile)
        self.profile.activated.connect(self._profile_chosen)
        self.format.setAccessibleName("Format of the finished files")
        self.format.addItems(list(FORMATS))
        self.format.activated.connect(self._format_chosen)
        self.one, self.all = ActButton("Master this chapter", "master.this"), ActButton("Master all", "master.all")
        head = QHBoxLayout()
        head.addWidget(label("Master", "title"))
        head.addStretch()
        for widget in (label("profile", "quiet"), self.profile, self.format, self.one, self.all):
            head.addWidget(widget)
        self.plot = EvennessPlot()
        self.steps = label("", "quiet", wrap=True)
        self.before, self.after = (
            ActButton("Hear unmastered", "master.hear_before"),
            ActButton("Hear the master", "master.hear_after"),
        )
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

    def take_keys(self) -> None:
        """As `Desk`."""
        self.table.setFocus()

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
            cells.append(SIGNS.get(state, "") + state.value)
            colors[r, len(COLUMNS) + 1] = self._theme.color(COLORS.get(state, "quiet"))
            rows.append(cells)
            before = book.recording(chapter.recording).rms_db if chapter.recording else None
            after = master.figures.get("rms_db") if master else None
            dots.append((chapter.title.split(":")[0], before, float(after) if isinstance(after, float | int) else None))
        self.table.fill(rows, keys=[c.id for c in book.chapters], colors=colors)
        at_hand = presenter.bench.chapter
        if at_hand:
            self.table.choose_quietly(at_hand.id)
        self.plot.set_rows(dots, load_profile(presenter.profile).rms_db or (-25.0, -21.0))
        self.steps.setText(_told(at_hand.master) if at_hand and at_hand.master else "Nothing was done to this chapter yet.")
        self.one.setEnabled(
            at_hand is not None and at_hand.reel is not None and presenter.state(at_hand) is not MasterState.WORKING
        )
        self.all.setEnabled(any(presenter.state(c) in DUE for c in book.chapters))
        for widget in (self.before, self.after):
            widget.setEnabled(at_hand is not None and at_hand.master is not None)

    def _chosen(self) -> None:
        if self.table.key:
            self._presenter.bench.open_chapter(self.table.key)

    def _profile_chosen(self) -> None:
        self._presenter.use_profile(self.profile.currentText())

    def _format_chosen(self) -> None:
        self._presenter.suffix = FORMATS[self.format.currentText()]
