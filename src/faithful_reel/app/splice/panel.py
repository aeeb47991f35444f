"""The Splice desk: original above, take below, result between."""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QVBoxLayout

from faithful_reel.app.splice.presenter import SplicePresenter
from faithful_reel.app.theme import Theme, scale_of_letters
from faithful_reel.app.widgets.parts import ActButton, Check, Choice, Desk, Scrolled, label
from faithful_reel.app.widgets.tables import Table
from faithful_reel.app.widgets.trio import Trio, TrioBoundary
from faithful_reel.core.pickups.ledger import DONE, Pickup, State
from faithful_reel.core.pickups.placing import Spliced
from faithful_reel.core.splice.boundaries import Boundary
from faithful_reel.core.splice.seam import likeness
from faithful_reel.core.work.splicing import InPlace, Preview

SHOWN_PROPOSALS = 4
SEAM_ROWS = 3
BAR = 12
"""Pixels of the bar under a long line."""
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

    def __init__(self, presenter: SplicePresenter) -> None:
        super().__init__()
        self.setObjectName("desk")
        self._presenter = presenter
        self._theme: Theme | None = None
        self.rows = Table(["Line", "State"], "Pickups with a take")
        self.rows.setFixedHeight(round(96 * scale_of_letters()))
        self.rows.itemSelectionChanged.connect(self._row_chosen)
        self.rows.columns(stretch=0)
        self.rows.menu_acts = ("splice.hear_before", "splice.hear_after", "splice.hear_context", "splice.place", "splice.pass")
        self.trio = Trio()
        self.trio.boundary_clicked.connect(self._boundary_clicked)
        self.across = Scrolled(self.trio)
        self.across.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.across.setMinimumHeight(self.trio.minimumHeight() + BAR)
        self.entering, self.leaving = Choice(), Choice()
        for combo, name in ((self.entering, "Boundary where the take begins"), (self.leaving, "Boundary where the take ends")):
            combo.setAccessibleName(name)
            combo.setToolTip(name + ", best first")
            combo.setMinimumWidth(250)
            combo.activated.connect(self._proposals_chosen)
        self.match_level = Check("match the level")
        self.match_level.setChecked(True)
        self.match_level.setToolTip("Bring the take's voice to the level of the chapter's")
        self.match_level.toggled.connect(self._level_matched)
        self.hear_before, self.hear_after, self.hear_context = (
            ActButton("Hear before", "splice.hear_before"),
            ActButton("Hear after", "splice.hear_after"),
            ActButton("Hear in context", "splice.hear_context"),
        )
        self.place, self.passed = ActButton("Put the take in", "splice.place"), ActButton("Pass", "splice.pass")
        self.seam = Table(["Seam", "Level step", "Floor step", "Tone step", "Click", ""], "The joins in figures", sortable=False)
        self.seam.columns(stretch=5)
        upright = self.seam.verticalHeader()
        if upright is not None:
            upright.setDefaultSectionSize(round(23 * scale_of_letters()))
        self.seam.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
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
        box.addWidget(self.across, 1)
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
        self.rows.fill([(p.line, p.state.value) for p in rows], keys=[p.id for p in rows])
        if pickup:
            self.rows.choose_quietly(pickup.id)
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
        self.seam.fill(rows)
        across, upright = self.seam.horizontalHeader(), self.seam.verticalHeader()
        if across is not None and upright is not None:  # three rows, whatever the letters' size
            self.seam.setFixedHeight(across.sizeHint().height() + SEAM_ROWS * upright.defaultSectionSize() + 2)

    def _show_trio(self, pickup: Pickup | None, preview: Preview | None, placed: InPlace | None) -> None:
        columns = self._presenter.columns()
        if pickup is None:
            self.trio.set_content((), (), None, "No pickup has a take yet. Receive a pickup recording at the Pickups desk.")
        elif placed is not None and columns is not None:
            self.trio.set_content(placed.words, (), columns, "")
        elif preview is None or columns is None:
            self.trio.set_content((), (), None, WITHOUT_PLACE.get(pickup.state, self._presenter.problem))
        else:
            self.trio.set_content(preview.words, tuple(_boundaries(preview)), columns, "")

    def show_position(self, position: int) -> None:
        """Where the result is being heard."""
        self.trio.set_playhead(position)

    # --- what the user does ---------------------------------------------------------------------------------------

    def _row_chosen(self) -> None:
        if self.rows.key:
            self._presenter.choose(self.rows.key)

    def _proposals_chosen(self) -> None:
        self._presenter.choose_boundaries(self.entering.currentIndex(), self.leaving.currentIndex())

    def _boundary_clicked(self, entering: bool, index: int) -> None:  # noqa: FBT001 - Qt calls it so
        (self.entering if entering else self.leaving).setCurrentIndex(index)
        self._proposals_chosen()
        at = self.trio.place_of(entering=entering)
        if at >= 0:
            self.across.ensureVisible(at, 0, 80, 0)

    def _level_matched(self, on: bool) -> None:  # noqa: FBT001 - Qt calls it so
        self._presenter.set_match_level(on=on)


def _boundaries(preview: Preview) -> Iterator[TrioBoundary]:
    """The best proposals at either end, the chosen one last."""
    plan = preview.plan
    for entering, ranked, chosen in ((True, plan.entering, plan.chosen_in), (False, plan.leaving, plan.chosen_out)):
        for rank, b in enumerate(ranked[:SHOWN_PROPOSALS]):
            if b is not chosen:
                yield TrioBoundary(b.original, b.take, entering, rank + 1, rank)
        yield TrioBoundary(chosen.original, chosen.take, entering, 0, ranked.index(chosen))


def _between(words: list[str], boundary: Boundary) -> str:
    left = words[boundary.token - 1] if boundary.token else "…"
    right = words[boundary.token] if boundary.token < len(words) else "…"
    return f"{left} | {right}   {boundary.gap_s * 1000:.0f} ms pause"
