"""The Splice desk: original above, take below, result between."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QHBoxLayout, QHeaderView, QVBoxLayout

from faithful_reel.app.splice.presenter import SplicePresenter
from faithful_reel.app.theme import Theme
from faithful_reel.app.widgets.parts import ROLE, Desk, button, fill, label, table
from faithful_reel.app.widgets.trio import Trio, TrioBoundary
from faithful_reel.core.pickups.ledger import DONE, Pickup, State
from faithful_reel.core.pickups.placing import Spliced
from faithful_reel.core.reel.reel import Lane, Piece, Reel
from faithful_reel.core.splice.boundaries import Boundary
from faithful_reel.core.splice.seam import likeness
from faithful_reel.core.work.splicing import InPlace, Preview, piece_of

SHOWN_PROPOSALS = 4
IN_WORDS = {
    State.SPLICED: "The take is in: this is how it stands in the chapter. Hear it in context, then pass it.",
    State.PASSED: "The take is in, and passed.",
}
WITHOUT_PLACE = {
    State.SPLICED: "This take was put in, but it is no longer in the reel.",
    State.PASSED: "This take was put in and passed, but it is no longer in the reel.",
    State.DROPPED: "This line is not wanted any more. Decide its finding as Pickup again to use the take.",
}


class SplicePanel(Desk):
    """Middle and right of the Splice desk."""

    hear = pyqtSignal(object, int, int)
    place_wanted = pyqtSignal()
    pass_wanted = pyqtSignal()

    def __init__(self, presenter: SplicePresenter) -> None:
        super().__init__()
        self.setObjectName("desk")
        self._presenter = presenter
        self._theme: Theme | None = None
        self.rows = table(["Line", "State"], "Pickups with a take")
        self.rows.setFixedHeight(96)
        self.rows.itemSelectionChanged.connect(self._row_chosen)
        across = self.rows.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            across.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.trio = Trio()
        self.trio.boundary_clicked.connect(self._boundary_clicked)
        self.entering, self.leaving = QComboBox(), QComboBox()
        for combo, name in ((self.entering, "Boundary where the take begins"), (self.leaving, "Boundary where the take ends")):
            combo.setAccessibleName(name)
            combo.setToolTip(name + ", best first")
            combo.setMinimumWidth(250)
            combo.activated.connect(self._proposals_chosen)
        self.match_level = QCheckBox("match the level")
        self.match_level.setChecked(True)
        self.match_level.setToolTip("Bring the take's voice to the level of the chapter's")
        self.match_level.toggled.connect(self._level_matched)
        self.hear_before, self.hear_after, self.hear_context = (
            button("Hear before"),
            button("Hear after"),
            button("Hear in context"),
        )
        self.hear_before.clicked.connect(self._hear_before)
        self.hear_after.clicked.connect(self._hear_after)
        self.hear_context.clicked.connect(self._hear_in_context)
        self.place = button("Put the take in", tip="Splice it at these boundaries (Ctrl+Return)")
        self.place.clicked.connect(self.place_wanted)
        self.passed = button("Pass", tip="It was heard and is good (Ctrl+Shift+Return)")
        self.passed.clicked.connect(self.pass_wanted)
        self.seam = table(["Seam", "Level step", "Floor step", "Tone step", "Click", ""], "The joins in figures")
        rows, across = self.seam.verticalHeader(), self.seam.horizontalHeader()
        if rows is not None and across is not None:
            rows.setDefaultSectionSize(23)
            across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            across.setStretchLastSection(True)
        self.seam.setFixedHeight(100)
        self.hint = label("", "quiet", wrap=True)
        grid = QGridLayout()
        grid.addWidget(label("begins", "quiet"), 0, 0)
        grid.addWidget(self.entering, 0, 1)
        grid.addWidget(label("ends", "quiet"), 0, 2)
        grid.addWidget(self.leaving, 0, 3)
        grid.addWidget(self.match_level, 0, 4)
        grid.setColumnStretch(5, 1)
        row = QHBoxLayout()
        for widget in (self.hear_before, self.hear_after, self.hear_context):
            row.addWidget(widget)
        row.addStretch()
        row.addWidget(self.place)
        row.addWidget(self.passed)
        box = QVBoxLayout(self)
        box.setContentsMargins(24, 16, 24, 12)
        box.addWidget(label("Splice", "title"))
        box.addWidget(self.rows)
        box.addWidget(self.trio, 1)
        box.addLayout(grid)
        box.addWidget(self.seam)
        box.addWidget(self.hint)
        box.addLayout(row)

    def set_theme(self, theme: Theme) -> None:
        """Colour the strips."""
        self._theme = theme
        self.trio.set_theme(theme)

    def refresh(self) -> None:
        """Show the pickup at hand."""
        presenter = self._presenter
        rows = presenter.rows()
        pickup = presenter.pickup()
        fill(self.rows, [(p.line, p.state.value) for p in rows], keys=[p.id for p in rows])
        if pickup:
            self.rows.blockSignals(True)
            self.rows.selectRow(rows.index(pickup))
            self.rows.blockSignals(False)
        preview = presenter.preview()
        placed = presenter.in_place()
        told = "" if placed is None or pickup is None else IN_WORDS[pickup.state]
        self.hint.setText(presenter.problem or told)
        self.hint.setVisible(bool(presenter.problem or told))
        self._fill_proposals(preview)
        self._fill_seam(preview.made if preview else placed)
        self._show_trio(pickup, preview, placed)
        done = pickup is not None and pickup.state in DONE
        self.place.setEnabled(preview is not None)
        self.passed.setEnabled(pickup is not None and pickup.state is State.SPLICED)
        for widget in (self.hear_before, self.hear_after, self.hear_context):
            widget.setEnabled(preview is not None or (done and widget is not self.hear_before))
        self.match_level.setEnabled(preview is not None)

    def _fill_proposals(self, preview: Preview | None) -> None:
        for combo, ranked, chosen in (
            (self.entering, preview.plan.entering if preview else (), preview.plan.chosen_in if preview else None),
            (self.leaving, preview.plan.leaving if preview else (), preview.plan.chosen_out if preview else None),
        ):
            combo.blockSignals(True)
            combo.clear()
            words = [w.text for w in preview.words] if preview else []
            for rank, boundary in enumerate(ranked):
                combo.addItem(f"{rank + 1}.  {_between(words, boundary)}", rank)
                if boundary is chosen:
                    combo.setCurrentIndex(rank)
            combo.setEnabled(bool(ranked))
            combo.blockSignals(False)

    def _fill_seam(self, made: Spliced | InPlace | None) -> None:
        rows = []
        if made:
            natural = made.natural
            for name, seam in (
                ("where it begins", made.seam_in),
                ("where it ends", made.seam_out),
                ("natural here, at most", natural),
            ):
                if seam is None:
                    continue
                within = "" if seam is natural or natural is None else likeness(seam, natural).value
                rows.append(
                    (
                        name,
                        *(
                            f"{v:+.1f} dB".replace("-", "−")
                            for v in (seam.level_step_db, seam.floor_step_db, seam.tone_step_db, seam.click_db)
                        ),
                        within,
                    )
                )
        fill(self.seam, rows)

    def _show_trio(self, pickup: Pickup | None, preview: Preview | None, placed: InPlace | None) -> None:
        bench = self._presenter.bench
        if pickup is None:
            self.trio.set_content(
                (), (), (None, None, None), "No pickup has a take yet. Receive a pickup recording at the Pickups desk."
            )
            return
        chapter = bench.book.chapter(pickup.chapter)
        if placed is not None and chapter.reel is not None:
            known = bench.book.recording(chapter.recording)
            as_came = Reel((Lane("original", (Piece(known.hash, 0, known.length),)),))
            end = max((word.take[1] for word in placed.words if word.take), default=0)
            as_read = Reel((Lane("take", (Piece(pickup.takes[pickup.chosen].recording, 0, end + 10 * bench.book.rate),)),))
            self.trio.set_content(
                placed.words,
                (),
                (bench.columns(as_came), bench.columns(chapter.reel), bench.columns(as_read)),
                "",
            )
            return
        if preview is None:
            self.trio.set_content((), (), (None, None, None), WITHOUT_PLACE.get(pickup.state, self._presenter.problem))
            return
        plan = preview.plan
        boundaries = []
        for entering, ranked, chosen in ((True, plan.entering, plan.chosen_in), (False, plan.leaving, plan.chosen_out)):
            boundaries += [
                TrioBoundary(b.original, b.take, entering, 0 if b is chosen else i + 1, i)
                for i, b in enumerate(ranked[:SHOWN_PROPOSALS])
                if b is not chosen
            ]
            boundaries.append(TrioBoundary(chosen.original, chosen.take, entering, 0, ranked.index(chosen)))
        take_recording = pickup.takes[pickup.chosen].recording
        length = preview.take.stop + bench.book.rate
        take_reel = Reel((Lane("take", (Piece(take_recording, 0, length),)),))
        assert chapter.reel is not None
        columns = (bench.columns(chapter.reel), bench.columns(preview.reel), bench.columns(take_reel))
        self.trio.set_content(preview.words, tuple(boundaries), columns, "")

    # --- what the user does ---------------------------------------------------------------------------------------

    def _row_chosen(self) -> None:
        item = self.rows.item(self.rows.currentRow(), 0)
        if item is not None:
            self._presenter.choose(str(item.data(ROLE)))

    def _proposals_chosen(self) -> None:
        self._presenter.choose_boundaries(self.entering.currentIndex(), self.leaving.currentIndex())

    def _boundary_clicked(self, entering: bool, index: int) -> None:  # noqa: FBT001 - Qt calls it so
        (self.entering if entering else self.leaving).setCurrentIndex(index)
        self._proposals_chosen()

    def _level_matched(self, on: bool) -> None:  # noqa: FBT001 - Qt calls it so
        self._presenter.set_match_level(on=on)

    def _hear_before(self) -> None:
        preview, pickup = self._presenter.preview(), self._presenter.pickup()
        if preview and pickup:
            reel = self._presenter.bench.book.chapter(pickup.chapter).reel
            self.hear.emit(reel, preview.original.start, preview.original.stop)

    def _hear_after(self) -> None:
        self._hear_result(0.6)

    def _hear_in_context(self) -> None:
        self._hear_result(3.0)

    def _hear_result(self, around_s: float) -> None:
        preview, pickup = self._presenter.preview(), self._presenter.pickup()
        rate = self._presenter.bench.book.rate
        around = round(around_s * rate)
        if preview:
            self.hear.emit(
                preview.reel, max(0, preview.made.join_in - around), min(len(preview.reel), preview.made.join_out + around)
            )
        elif pickup:
            reel = self._presenter.bench.book.chapter(pickup.chapter).reel
            span = piece_of(reel, pickup.id) if reel else None
            if reel and span:
                self.hear.emit(reel, max(0, span.start - around), min(len(reel), span.stop + around))


def _between(words: list[str], boundary: Boundary) -> str:
    left = words[boundary.token - 1] if boundary.token else "…"
    right = words[boundary.token] if boundary.token < len(words) else "…"
    return f"{left} | {right}   {boundary.gap_s * 1000:.0f} ms pause"
