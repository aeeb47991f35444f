"""The Splice desk: the lines at the left; of the one at hand original above, take below, result between; its joins in figures."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from faithful_reel.app.splice.presenter import SWITCHES, SplicePresenter
from faithful_reel.app.theme import Theme, scale_of_letters
from faithful_reel.app.widgets.flow import Flow
from faithful_reel.app.widgets.line_list import LineList, ListedLine
from faithful_reel.app.widgets.parts import ActButton, Check, Choice, Desk, Scrolled, label, rule
from faithful_reel.app.widgets.tables import Table
from faithful_reel.app.widgets.trio import Trio, TrioBoundary
from faithful_reel.core.pickups.ledger import DONE, Pickup, State, shown
from faithful_reel.core.splice.boundaries import Boundary
from faithful_reel.core.splice.profile import Profile
from faithful_reel.core.splice.seam import FIGURES, Ease, JudgedSeam
from faithful_reel.core.work.splicing import LEAST_PITCH, InPlace, LineWord, Preview

SHOWN_PROPOSALS = 4
LIST_W, BAR = 250, 12
"""Pixels: how wide the lists are at least, and how high the bar under a long line."""
IN_WORDS = {
    State.SPLICED: "The take is in: this is how it stands in the chapter. Hear it in context, then pass it.",
    State.HEARD: "The take is in, and the ears heard the line as it is written. Hear it in context, then pass it.",
    State.PASSED: "The take is in, and passed.",
}
WITHOUT_PLACE = {
    State.SPLICED: "This take was put in, but it is no longer in the reel.",
    State.HEARD: "This take was put in, but it is no longer in the reel.",
    State.PASSED: "This take was put in and passed, but it is no longer in the reel.",
    State.DROPPED: "This line is not wanted any more. Decide its finding as Pickup again to use the take.",
}
NAMED = {"odds": "noticed"}
UNITS = {"level": "dB", "tone": "dB", "pitch": "st", "floor": "dB", "click": "dB", "rhythm": "s", "odds": ""}
TIPS = {
    "level": "The step of level from one side to the other",
    "tone": "How far the third-octaves of the voice differ from one side to the other",
    "pitch": "The step of the voice's pitch, in semitones",
    "floor": "The step of the noise floor",
    "click": "How far the sharpest moment stands over those around it",
    "rhythm": "The length of the pause",
    "odds": "How likely a detector is to notice it: under 0 it would rather take it for no join",
}
NO_JOINS = "Joins of the chapter at hand stand here, the one that stands out most first."


class SplicePanel(Desk):
    """Middle and right of the Splice desk."""

    def __init__(self, presenter: SplicePresenter) -> None:
        super().__init__()
        self.setObjectName("desk")
        self._presenter = presenter
        self._theme: Theme | None = None
        self.rows = LineList("Pickups with a take")
        self.rows.itemSelectionChanged.connect(self._row_chosen)
        self.rows.menu_acts = (
            "splice.hear_before", "splice.hear_after", "splice.hear_context", "splice.place", "splice.take_out",
            "splice.hear_again", "splice.pass",
        )  # fmt: skip
        self.joins = LineList("Joins of this chapter, the one that stands out most first")
        self.joins.setToolTip(
            "Which figure stands over how many of the natural boundaries. Enter or a double click shows a join in the close view."
        )
        self.joins.itemActivated.connect(self._join_chosen)
        self.which = Choice()
        self.which.addItems(["Lines with a take", "Joins of this chapter"])
        self.which.setAccessibleName("What the list shows")
        self.which.setToolTip("Lines that can be put in, or the joins of the chapter with their figures")
        self.which.activated.connect(self._listed)
        self.lists = QStackedWidget()
        self.lists.addWidget(self.rows)
        self.lists.addWidget(self.joins)
        self.no_joins = label(NO_JOINS, "quiet", wrap=True)
        self.trio = Trio()
        self.trio.boundary_clicked.connect(self._boundary_clicked)
        self.trio.boundary_dragged.connect(self._boundary_dragged)
        self.across = Scrolled(self.trio)
        self.across.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.across.setMinimumHeight(self.trio.minimumHeight() + BAR)
        self.entering, self.leaving = Choice(), Choice()
        for combo, name in ((self.entering, "Boundary where the take begins"), (self.leaving, "Boundary where the take ends")):
            combo.setAccessibleName(name)
            combo.setToolTip(name + ", best first, with the length of the pause there")
            combo.setMinimumWidth(240)
            combo.activated.connect(self._proposals_chosen)
        self.matches = {name: Check(name) for name in SWITCHES}
        for name, check in self.matches.items():
            check.setToolTip(SWITCHES[name])
            check.setChecked(getattr(presenter.switches, name))
            check.toggled.connect(partial(self._switched, name))
        self.session = label("", "quiet", wrap=True)
        buttons = {
            "hear": (
                ActButton("Before", "splice.hear_before"), ActButton("After", "splice.hear_after"),
                ActButton("In context", "splice.hear_context"), ActButton("Take", "splice.hear_take"),
                ActButton("Begins", "splice.hear_in"), ActButton("Ends", "splice.hear_out"),
            ),
            "do": (
                ActButton("Put the take in", "splice.place"), ActButton("Take out", "splice.take_out"),
                ActButton("Check by ear", "splice.hear_again"), ActButton("Pass", "splice.pass"),
                ActButton("All of the chapter", "splice.place_chapter"),
            ),
        }  # fmt: skip
        self.hear_before, self.hear_after, self.hear_context, self.hear_take, self.hear_in, self.hear_out = buttons["hear"]
        self.place, self.out, self.again, self.passed, self.all = buttons["do"]
        self.seam = Table(["Seam", *(NAMED.get(f, f) for f in FIGURES), "judged"], "The joins in figures", sortable=False)
        self.seam.columns(stretch=len(FIGURES) + 1)
        upright = self.seam.verticalHeader()
        if upright is not None:
            upright.setDefaultSectionSize(round(23 * scale_of_letters()))
        self.seam.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.hint = label("", "quiet", wrap=True)
        self._lay_out(buttons)

    def _lay_out(self, buttons: dict[str, tuple[ActButton, ...]]) -> None:
        self.before = QWidget()
        grid = QGridLayout(self.before)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.addWidget(label("begins", "quiet"), 0, 0)
        grid.addWidget(self.entering, 0, 1)
        grid.addWidget(label("ends", "quiet"), 0, 2)
        grid.addWidget(self.leaving, 0, 3)
        grid.setColumnStretch(4, 1)
        self.matching = QWidget()
        flow = Flow(self.matching)
        flow.addWidget(label("match", "quiet"))
        for check in self.matches.values():
            flow.addWidget(check)
        rows = []
        for name, told in (("hear", "hear"), ("do", "")):
            row = QWidget()
            line = Flow(row)
            if told:
                line.addWidget(label(told, "quiet"))
            for one in buttons[name]:
                line.addWidget(one)
            rows.append(row)
        right = QWidget()
        box = QVBoxLayout(right)
        box.setContentsMargins(16, 0, 0, 0)
        box.addWidget(self.across, 1)
        box.addWidget(self.before)
        box.addWidget(self.matching)
        box.addWidget(self.session)
        box.addWidget(self.seam)
        box.addWidget(self.hint)
        box.addWidget(rule())
        for row in rows:
            box.addWidget(row)
        left = QWidget()
        left.setMinimumWidth(round(LIST_W * scale_of_letters()))
        side = QVBoxLayout(left)
        side.setContentsMargins(0, 0, 0, 0)
        side.addWidget(self.which)
        side.addWidget(self.lists, 1)
        side.addWidget(self.no_joins)
        self.split = QSplitter(Qt.Orientation.Horizontal)
        self.split.addWidget(left)
        self.split.addWidget(right)
        self.split.setStretchFactor(0, 2)
        self.split.setStretchFactor(1, 5)
        self.split.setChildrenCollapsible(False)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(24, 16, 24, 12)
        head = QHBoxLayout()
        head.addWidget(label("Splice", "title"))
        head.addStretch()
        self.count = QLabel()
        self.count.setObjectName("quiet")
        head.addWidget(self.count)
        whole.addLayout(head)
        whole.addWidget(self.split, 1)

    def set_theme(self, theme: Theme) -> None:
        """Colour the strips."""
        self._theme = theme
        self.trio.set_theme(theme)
        self.rows.set_theme(theme)
        self.joins.set_theme(theme)

    def take_keys(self) -> None:
        """As `Desk`."""
        self.rows.setFocus()

    def refresh(self) -> None:
        """Show the pickup at hand."""
        presenter = self._presenter
        presenter.look()
        rows = presenter.rows()
        pickup = presenter.pickup()
        self.rows.fill([self._line(p) for p in rows])
        presenter.show_line()
        waiting = sum(p.state in (State.IN, State.CHOSEN) for p in rows)
        self.count.setText(f"{waiting} to put in, {sum(p.state in DONE for p in rows)} put in" if rows else "")
        if pickup:
            self.rows.choose_quietly(pickup.id)
        planned = presenter.planned if pickup and presenter.planned and presenter.planned.pickup.id == pickup.id else None
        previews = planned.previews if planned else ()
        placed = presenter.in_place()
        told = "" if placed is None or pickup is None else _wrong(pickup) or IN_WORDS[pickup.state]
        failed = presenter.failure if planned is None and placed is None and pickup and not presenter.busy else ""
        self.hint.setText(presenter.problem or told or failed)
        self.hint.setVisible(bool(self.hint.text()))
        self._fill_proposals(previews)
        self._fill_seams(presenter.seams)
        self._fill_matches(previews[0] if previews else None)
        self._show_trio(pickup, previews, placed)
        self._fill_joins()
        now = presenter.current_plan() is not None
        done = pickup is not None and pickup.state in DONE
        self.place.setEnabled(now)
        self.out.setEnabled(done)
        self.again.setEnabled(done)
        self.passed.setEnabled(pickup is not None and pickup.state in (State.SPLICED, State.HEARD))
        self.all.setEnabled(waiting > 0)
        self.hear_before.setEnabled(now)
        for widget in (self.hear_after, self.hear_context, self.hear_in, self.hear_out):
            widget.setEnabled(now or placed is not None)
        self.hear_take.setEnabled(pickup is not None)
        for check in self.matches.values():
            check.setEnabled(pickup is not None and not done)
        for row in (self.before, self.matching):  # what is in is moved by its joins
            row.setVisible(not done)

    def _line(self, pickup: Pickup) -> ListedLine:
        book = self._presenter.bench.book
        under = f"{book.chapter(pickup.chapter).title.split(':')[0]} · {self._presenter.bench.time(pickup.start, 0)}"
        mark = "not as written" if pickup.told and pickup.state in DONE else shown(pickup.state)
        return ListedLine(pickup.id, pickup.line, under, mark, urgent=bool(pickup.told))

    def _fill_proposals(self, previews: tuple[Preview, ...]) -> None:
        for combo, preview, entering in (
            (self.entering, previews[0] if previews else None, True),
            (self.leaving, previews[-1] if previews else None, False),
        ):
            combo.blockSignals(True)
            combo.clear()
            words = [w.text for w in preview.words] if preview else []
            ranked = (preview.plan.entering if entering else preview.plan.leaving) if preview else ()
            chosen = (preview.plan.chosen_in if entering else preview.plan.chosen_out) if preview else None
            for rank, boundary in enumerate(ranked):
                combo.addItem(f"{rank + 1}.  {_between(words, boundary)}", rank)
                if boundary is chosen:
                    combo.setCurrentIndex(rank)
            combo.setEnabled(bool(ranked))
            combo.blockSignals(False)

    def _fill_matches(self, preview: Preview | None) -> None:
        """Each switch with what it does."""
        for name, check in self.matches.items():
            check.setText(_amount(name, preview) if preview else name)
            on = getattr(self._presenter.switches, name)
            if check.isChecked() != on:  # by its key
                check.blockSignals(True)
                check.setChecked(on)
                check.blockSignals(False)
        session = self._presenter.session
        self.session.setText(_session(session) if session else "")
        self.session.setVisible(session is not None)

    def _fill_seams(self, seams: tuple[JudgedSeam, ...]) -> None:
        names = ["where it begins", "where it ends"]
        if len(seams) > 2:
            names = ["where it begins", *(f"between takes {k}" for k in range(1, len(seams) - 1)), "where it ends"]
        rows = [(name, *_figures(seam), seam.ease.value) for name, seam in zip(names, seams, strict=False)]
        self.seam.fill(rows)
        self.seam.setToolTip("Each figure with its percentile among natural boundaries of the same kind in this reading")
        for column, name in enumerate(FIGURES, 1):
            item = self.seam.horizontalHeaderItem(column)
            if item is not None:
                item.setToolTip(TIPS[name])
        across, upright = self.seam.horizontalHeader(), self.seam.verticalHeader()
        if across is not None and upright is not None:  # as many rows as there are, whatever the letters' size
            self.seam.setFixedHeight(across.sizeHint().height() + max(2, len(rows)) * upright.defaultSectionSize() + 2)

    def _fill_joins(self) -> None:
        shown = self.lists.currentWidget() is self.joins
        if shown:
            self._presenter.look_at_joins()
        joins = self._presenter.joins or []
        self.joins.fill(
            [
                ListedLine(
                    f"{j.lane}/{j.seam.at}",
                    f"{j.left} | {j.right}",
                    f"{self._presenter.bench.time(j.seam.at, 0)}{_most(j.seam)}",
                    j.seam.ease.value,
                    urgent=j.seam.ease is Ease.REDO,
                )
                for j in joins
            ]
        )
        self.no_joins.setVisible(shown and not joins)

    def _show_trio(self, pickup: Pickup | None, previews: tuple[Preview, ...], placed: InPlace | None) -> None:
        columns = self._presenter.columns()
        if pickup is None:
            self.trio.set_content((), (), None, "No pickup has a take yet. Receive a pickup recording at the Pickups desk.")
        elif placed is not None and columns is not None:
            self.trio.set_content(placed.words, (), columns, "")
        elif not previews or columns is None:
            waits = "The splice is being planned." if self._presenter.busy else self._presenter.problem or self._presenter.failure
            self.trio.set_content((), (), None, WITHOUT_PLACE.get(pickup.state, waits))
        else:
            self.trio.set_content(_words(previews), tuple(_boundaries(previews)), columns, "")

    def show_position(self, position: int) -> None:
        """Where the result is being heard."""
        self.trio.set_playhead(position)

    # --- what the user does ---------------------------------------------------------------------------------------

    def _row_chosen(self) -> None:
        if self.rows.key and self.rows.key != getattr(self._presenter.pickup(), "id", ""):
            self._presenter.choose(self.rows.key)

    def _listed(self, index: int) -> None:
        self.lists.setCurrentIndex(index)
        self._fill_joins()

    def _join_chosen(self) -> None:
        if self.joins.key:
            self._presenter.go_to_join(int(self.joins.key.split("/")[1]))

    def _proposals_chosen(self) -> None:
        self._presenter.choose_boundaries(self.entering.currentIndex(), self.leaving.currentIndex())

    def _boundary_clicked(self, entering: bool, index: int) -> None:  # noqa: FBT001 - Qt calls it so
        (self.entering if entering else self.leaving).setCurrentIndex(index)
        self._proposals_chosen()
        at = self.trio.place_of(entering=entering)
        if at >= 0:
            self.across.ensureVisible(at, 0, 80, 0)

    def _boundary_dragged(self, entering: bool, by: int) -> None:  # noqa: FBT001 - Qt calls it so
        self._presenter.nudge(by, entering=entering)

    def _switched(self, name: str, on: bool) -> None:  # noqa: FBT001 - Qt calls it so
        self._presenter.switch(name, on=on)


def _wrong(pickup: Pickup) -> str:
    """What the ears heard wrong in it."""
    return f"Heard again as it stands, it is not as written: {pickup.told}." if pickup.told else ""


def _words(previews: tuple[Preview, ...]) -> tuple[LineWord, ...]:
    """The words of a line with what each part gives: where it comes from a take, in the last part's reel."""
    rows = list(previews[-1].words)
    for preview in previews[:-1]:
        for k, word in enumerate(preview.words):
            if word.from_take and not rows[k].from_take:
                rows[k] = rows[k]._replace(from_take=True)
    return tuple(rows)


def _boundaries(previews: tuple[Preview, ...]) -> Iterator[TrioBoundary]:
    """The best proposals at either end, the chosen one last."""
    first, last = previews[0], previews[-1]
    for entering, preview, ranked, chosen, command_at in (
        (True, first, first.plan.entering, first.plan.chosen_in, first.plan.command.start),
        (False, last, last.plan.leaving, last.plan.chosen_out, last.plan.command.stop),
    ):
        made = preview.matched
        for rank, b in enumerate(ranked[:SHOWN_PROPOSALS]):
            if b is not chosen:
                yield TrioBoundary(b.original, made.back(b.take), entering, rank + 1, rank)
        moved = command_at - chosen.original
        yield TrioBoundary(chosen.original + moved, made.back(chosen.take + moved), entering, 0, ranked.index(chosen))


def _between(words: list[str], boundary: Boundary) -> str:
    left = words[boundary.token - 1] if boundary.token else "…"
    right = words[boundary.token] if boundary.token < len(words) else "…"
    return f"{left} | {right}   " + (f"{boundary.gap_s * 1000:.0f} ms pause" if boundary.in_pause else "no pause")


def _most(seam: JudgedSeam) -> str:
    """The figure that stands out most among natural boundaries."""
    if not seam.percentiles:
        return ""
    k = max(range(len(FIGURES)), key=lambda k: seam.percentiles[k])
    return f" · {FIGURES[k]} over {seam.percentiles[k]:.0f} %"


def _signed(value: float, unit: str) -> str:
    return f"{value:+.1f} {unit}".replace("-", "−")


def _amount(name: str, preview: Preview) -> str:
    """A switch with what it does, or would do."""
    amounts, profile = preview.matched.amounts, preview.profile
    match name:
        case "level":
            return f"level {_signed(amounts.level_db, 'dB')}"
        case "tone":
            return f"tone to {amounts.tone_db:.1f} dB"
        case "room":
            return f"room {_signed(amounts.room_db, 'dB')}"
        case "echo":
            return f"echo {_signed(amounts.echo_db, 'dB')}" if abs(amounts.echo_db) >= 0.1 else "echo"
        case "pace":
            percent = (profile.pace - 1) * 100
            if abs(percent) < 2.5:
                return "pace"
            told = f"pace: {abs(percent):.0f} % {'faster' if percent > 0 else 'slower'}"
            return told + _proposed(abs(profile.pace - 1), preview.pace_range)
        case "pitch":
            if abs(profile.pitch) < LEAST_PITCH:
                return "pitch"
            told = f"pitch: {abs(profile.pitch):.1f} st {'lower' if profile.pitch > 0 else 'higher'}"
            return told + _proposed(abs(profile.pitch), profile.pitch_range)
        case _:
            return name


def _proposed(apart: float, own: float) -> str:
    return ", proposed" if apart > own > 0 else ""


def _session(profile: Profile) -> str:
    """What a session has in common, in words."""
    level = f"{abs(profile.level_db):.1f} dB {'softer' if profile.level_db > 0 else 'louder'}"
    tone = max(map(abs, profile.tone_db), default=0.0)
    percent = (profile.pace - 1) * 100
    pace = "as fast" if abs(percent) < 2.5 else f"{abs(percent):.0f} % {'faster' if percent > 0 else 'slower'}"
    lines = "1 line" if profile.lines == 1 else f"{profile.lines} lines"
    return f"This session, by {lines}: {level} than the chapters, tone up to {tone:.1f} dB off, {pace}."


def _figures(seam: JudgedSeam) -> list[str]:
    """Every figure with its percentile."""
    cells = []
    for k, name in enumerate(FIGURES):
        value, unit = seam.figures[k], UNITS[name]
        shown = 2**value if name == "rhythm" and seam.in_pause else value
        if name == "rhythm" and not seam.in_pause:
            cells.append("—")
            continue
        percentile = f" · {seam.percentiles[k]:.0f}" if seam.percentiles else ""
        cells.append(f"{shown:.1f}{' ' + unit if unit else ''}{percentile}".replace("-", "−"))
    return cells
