"""The Proof desk: the galley, and beside it the docket or the names."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QAbstractSpinBox,
    QComboBox,
    QGridLayout,
    QLineEdit,
    QPlainTextEdit,
    QSplitter,
    QStackedWidget,
    QTextEdit,
    QVBoxLayout,
    QWidget,
)

from faithful_reel.app.places import Places
from faithful_reel.app.proof.names_pane import NamesPane
from faithful_reel.app.proof.names_presenter import NamesPresenter
from faithful_reel.app.proof.note_row import NoteRow
from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.proof.search_row import SearchRow
from faithful_reel.app.proof.side import DocketSide
from faithful_reel.app.theme import Theme, scale_of_letters
from faithful_reel.app.widgets.galley import Cells, Galley, GalleyContent, PagePlace, Strip
from faithful_reel.app.widgets.parts import Apart, Desk, Scrolled, SidePane, label
from faithful_reel.app.workbench import Workbench
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.memo import Memo, Seen
from faithful_reel.core.reel.reel import Reel, recordings_of
from faithful_reel.core.reel.render import heard_lanes
from faithful_reel.core.units import Span
from faithful_reel.core.work.page import others_of, strips_of
from faithful_reel.core.work.splicing import placed_joins

LEAST_SIDE, NAMES_WIDTH = 300, 400
MOST_SCALE, MOST_SIDE = 1.7, 1.2
"""However large the letters are, the docket and a list are not wider than so many times the usual: the page needs room too."""
ESTIMATE = "By estimate, from the lengths of words and the pauses, until the chapter is heard (Ctrl+E)"
BAR = 14
"""Pixels of a scroll bar."""
TYPED_IN = QLineEdit | QComboBox | QAbstractSpinBox | QAbstractItemView | QTextEdit | QPlainTextEdit


class ProofPanel(Desk):
    """Middle and right of the Proof desk."""

    def __init__(self, presenter: ProofPresenter, names: NamesPresenter, places: Places) -> None:
        super().__init__()
        self.setObjectName("desk")
        self._presenter, self._places = presenter, places
        self._chapter = ""
        self._seen, self._unheard = Seen(), Seen()
        self._cells: Memo[Cells] = Memo()
        self.names = NamesPane(names)
        self.names.left.connect(self.toggle_names)
        self.galley = Galley()
        self.galley.mark_clicked.connect(self._mark_clicked)
        self.search = SearchRow(presenter, self.galley)
        self.note = NoteRow(presenter, self.galley)
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.estimate = label(ESTIMATE, "overpage")
        self.estimate.setMinimumWidth(1)  # the page is as wide as it was
        self.estimate.hide()
        over = QGridLayout()  # over the foot of the page, which stays where it is
        over.addWidget(self.galley, 0, 0)
        over.addWidget(self.estimate, 0, 0, Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignLeft)
        column.addWidget(self.search)
        column.addLayout(over, 1)
        column.addWidget(self.note)
        self.docket = DocketSide(presenter)
        self.docket.card.left.connect(self.galley.setFocus)
        self.side = QStackedWidget()
        self.side.addWidget(Scrolled(self.docket, upright_only=True))
        self.side.addWidget(self.names)
        beside = Apart(self.side)
        least = round(LEAST_SIDE * min(MOST_SCALE, scale_of_letters())) + BAR
        beside.setMinimumWidth(least)
        self.across = QSplitter(Qt.Orientation.Horizontal)
        self.across.setObjectName("proof")
        self.across.setHandleWidth(1)
        self.across.setChildrenCollapsible(False)
        self.across.addWidget(page)
        self.across.addWidget(beside)
        self.across.setStretchFactor(0, 1)
        self.across.setSizes([800, least + 14])
        self._docket_width = 0
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(self.across)

    @property
    def list(self) -> QWidget:
        """The docket's list."""
        return self.docket.list

    @property
    def names_shown(self) -> bool:
        """Whether the names stand in the docket's place."""
        return self.side.currentWidget() is self.names

    def toggle_names(self) -> None:
        """The names in the docket's place, or the docket again."""
        self.toggle_side(self.names)

    def add_side(self, pane: SidePane) -> None:
        """One more list that can stand in the docket's place."""
        self.side.addWidget(pane)

    def toggle_side(self, pane: SidePane) -> None:
        """A list in the docket's place, or the docket again, each as wide as it was."""
        shown = self.side.currentWidget() is not pane
        page, beside = self.across.sizes()
        if not self._docket_width:
            self._docket_width = beside
        wanted = max(round(NAMES_WIDTH * min(MOST_SIDE, scale_of_letters())), beside) if shown else self._docket_width
        self._docket_width = self._docket_width if shown else 0
        if shown:
            self.side.setCurrentWidget(pane)
        else:
            self.side.setCurrentIndex(0)
        self.across.setSizes([page + beside - wanted, wanted])
        pane.take_keys() if shown else self.galley.setFocus()

    def why_not(self, name: str, *, finding: bool, by_key: bool, focus: QWidget | None) -> str:
        """Nothing acts on a finding that is not seen, nor by a key that is pressed in a field or list elsewhere."""
        if finding and self.names_shown:
            return "The names stand where the docket was, so that no finding is seen. Close them first (Ctrl+Shift+W)."
        if finding and self.side.currentIndex() != 0:
            return "A list stands where the docket was, so that no finding is seen. Close it first (Docket, in its head)."
        if by_key and isinstance(focus, TYPED_IN) and focus is not self.docket.list:
            return f"The key of “{name}” works on the page and in the docket. Click there first, or use the menu."
        return ""

    def take_finding_on(self, word: int) -> bool:
        """Take the finding on a written word in hand, that which is there already first; whether there is one."""
        presenter = self._presenter
        there = [f for f in presenter.docket() if f.word_index <= word < f.word_index + max(1, f.word_count)] if word >= 0 else []
        if there and presenter.current not in {f.id for f in there}:
            presenter.choose(there[0].id)
        return bool(there) and self.side.currentIndex() == 0

    def _mark_clicked(self, mark: str) -> None:
        """Take the finding of a mark in hand; that of a take, the finding that asked for it."""
        pickup = next((p for p in self._presenter.bench.book.pickups if p.id == mark), None)
        wanted = mark if pickup is None else next(iter(pickup.findings), "")
        if wanted:
            self._presenter.choose(wanted)

    def set_theme(self, theme: Theme) -> None:
        """Colour the galley and the docket."""
        self.docket.list.delegate.theme = theme
        self.docket.card.take_measures()
        for pane in self.side.findChildren(SidePane):
            pane.set_theme(theme)
        self.galley.set_theme(theme)
        self.docket.list.viewport().update()  # type: ignore[union-attr]

    # --- the page -------------------------------------------------------------------------------------------------

    def keep_place(self) -> None:
        """Remember where the reader is in the chapter that is shown."""
        if self._chapter:
            at = self.galley.place
            self._places.keep(self._chapter, (at.word, at.offset, at.cursor))

    def take_keys(self) -> None:
        """As `Desk`."""
        self.galley.setFocus()

    def refresh(self) -> None:
        """Show the chapter at hand."""
        presenter = self._presenter
        bench, chapter = presenter.bench, presenter.bench.chapter
        self.names.refresh()
        self.docket.refresh()
        if chapter is None:
            self.galley.set_content(GalleyContent())
            self.galley.set_empty_text("This book has no chapters yet. Bring in the manuscript at Intake.")
            self._chapter = ""
            self._seen.forget()
            return
        drawn, guess = self._drawn(chapter.reel), bench.estimate(chapter)
        self.estimate.setVisible(guess is not None)
        if self._seen.changed(chapter, bench.early.get(chapter.id), presenter.off, bench.book.pickups, drawn, guess):
            same = self._chapter == chapter.id
            if not same:
                self.keep_place()
            self._chapter = chapter.id
            self.galley.set_content(self._content(chapter, drawn), keep_place=same)
            if not same and (kept := self._places.kept(chapter.id)):
                self.galley.go_to_place(PagePlace(int(kept[0]), kept[1], int(kept[2])))
        self.galley.set_show_doubtful(shown=presenter.show_doubtful)
        left = presenter.listening.unheard(chapter)
        if self._unheard.changed(left, chapter.hearing):
            self.galley.set_unheard([(s.start, s.stop) for s in left] if chapter.hearing else None)
        if presenter.current != self.galley.current_mark:
            self.galley.set_current_mark(presenter.current)

    def _drawn(self, reel: Reel | None) -> tuple[bool, ...]:
        """Which of a reel's recordings have a picture."""
        return tuple(self._presenter.bench.overview(r) is not None for r in recordings_of(reel)) if reel else ()

    def _content(self, chapter: ChapterState, drawn: tuple[bool, ...]) -> GalleyContent:
        presenter = self._presenter
        bench = presenter.bench
        text, tokens, styles = bench.text(chapter), bench.page_tokens(chapter), presenter.styles(chapter)

        def cells() -> Cells:
            at = tokens.words
            paragraphs, headings, italics = styles.paragraphs[at], styles.headings[at], styles.italics[at]
            return Cells(tokens.texts, at, tokens.starts, tokens.stops, paragraphs, headings, italics)

        set_ = self._cells.of(chapter.id, (tokens, styles), cells)
        marks, breaks, reel = presenter.marks(chapter), frozenset(text.breaks), chapter.reel
        if reel is None:
            return GalleyContent(
                set_, marks, rate=bench.book.rate, time=bench.time, pages=styles.pages, breaks=breaks, lines=styles.lines
            )
        paler = bench.estimate(chapter) is not None
        strips = tuple(_strip(bench, reel, k, drawn, paler=paler) for k in strips_of(reel))
        drawing = bench.overview(chapter.recording)
        return GalleyContent(
            set_,
            marks,
            strips,
            len(reel),
            bench.book.rate,
            bench.time,
            styles.pages,
            breaks,
            styles.lines,
            others_of(presenter.takes(chapter)),
            drawing.columns if drawing else None,
        )


def _strip(bench: Workbench, reel: Reel, index: int, drawn: object, *, paler: bool) -> Strip:
    """The strip of one lane: paler where it is not heard or its words stand by estimate, in its colour where it has one."""
    lane = reel.lanes[index]
    starts = lane.starts()
    color = "pale" if paler else lane.color if lane in heard_lanes(reel) else "quiet"

    def under(start: int, stop: int) -> object:
        return drawn, color, lane.between(Span(start, stop), starts)

    return Strip(lane.name, bench.columns(reel, index), placed_joins(reel, index), color, under)
