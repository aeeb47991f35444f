"""The Proof desk: the galley, and the docket with the card at hand."""

from __future__ import annotations

import re
from operator import attrgetter

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import (
    QApplication,
    QCheckBox,
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from faithful_reel.app.proof.docket import NAMES, Docket, Key
from faithful_reel.app.proof.names_pane import NamesPane
from faithful_reel.app.proof.names_presenter import NamesPresenter
from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.theme import Theme
from faithful_reel.app.widgets.galley import Cells, Galley, GalleyContent, Mark, Other
from faithful_reel.app.widgets.parts import Apart, Desk, button, label, rule, tip
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.pickups.ledger import DONE
from faithful_reel.core.reel.reel import recordings_of
from faithful_reel.core.units import Span, samples
from faithful_reel.core.work.splicing import piece_of, placed_joins
from faithful_reel.core.work.timeline import finding_spans

DOCKET_WIDTH, NAMES_WIDTH = 304, 400


def margin_note(f: Finding) -> str:
    """What stands in the galley's margin."""
    return {
        "misread": f.heard,
        "skipped": "not read",
        "added": f.heard,
        "repeated": "read twice",
        "false_start": "false start",
        "pause": f.evidence.flaw or "pause",
        "noise": f.evidence.flaw or "noise",
        "level": f.evidence.flaw or "level",
        "name": "spoken unlike",
    }.get(f.kind.value, f.note or "note")


class ProofPanel(Desk):
    """Middle and right of the Proof desk."""

    hear_wanted = pyqtSignal()
    listen_wanted = pyqtSignal()
    swap_wanted = pyqtSignal()
    decided = pyqtSignal(str)
    time_wanted = pyqtSignal(int)

    def __init__(self, presenter: ProofPresenter, names: NamesPresenter) -> None:
        super().__init__()
        self.setObjectName("desk")
        self._presenter = presenter
        self.names = NamesPane(names)
        self.names.left.connect(self.toggle_names)
        self.galley = Galley()
        self.galley.mark_clicked.connect(self._mark_clicked)
        page = QVBoxLayout()
        page.setSpacing(0)
        page.addWidget(self._search_row())
        page.addWidget(self.galley, 1)
        page.addWidget(self._note_row())
        box = QHBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(0)
        box.addLayout(page, 1)
        box.addWidget(rule(upright=True))
        self.side = QStackedWidget()
        self.side.addWidget(self._docket())
        self.side.addWidget(self.names)
        self._beside = Apart(self.side)
        self._beside.setFixedWidth(DOCKET_WIDTH)
        box.addWidget(self._beside)
        self._shown: object = None
        self._styles: tuple[object, NDArray[np.int64]] = None, np.zeros((0, 3), np.int64)
        self._set: tuple[object, Cells] = None, Cells.of(())
        self._pages: tuple[tuple[int, int], ...] = ()
        self._theme: Theme | None = None
        self._listed: tuple[object, object] = None, None
        self._noted: tuple[tuple[int, int] | None, Span | None] = None, None
        self._remark_of = "", ""
        self._unheard: object = None
        self._fate_of: tuple[object, object] = None, None

    @property
    def names_shown(self) -> bool:
        """Whether the names stand in the docket's place."""
        return self.side.currentWidget() is self.names

    def toggle_names(self) -> None:
        """The names in the docket's place, or the docket again."""
        shown = not self.names_shown
        self.side.setCurrentIndex(1 if shown else 0)
        self._beside.setFixedWidth(NAMES_WIDTH if shown else DOCKET_WIDTH)
        (self.names.view if shown else self.galley).setFocus()

    def _search_row(self) -> QWidget:
        self.search = QWidget()
        self.search.setObjectName("foot")
        self.wanted = QLineEdit()
        self.wanted.setAccessibleName("Find words")
        self.wanted.setPlaceholderText("find words; p 12 goes to a page, 0:03:20 to a time")
        self.in_heard = QCheckBox("in what was heard")
        before, after = button("Before", tip="The place before (Shift+Enter)"), button("Next", tip="The next place (Enter)")
        self.found = label("", "quiet")
        done = button("Done", tip="Close (Esc)")
        self.wanted.returnPressed.connect(self._find_by_enter)
        before.clicked.connect(self._find_before)
        after.clicked.connect(self._find_next)
        done.clicked.connect(self.close_search)
        row = QHBoxLayout(self.search)
        row.setContentsMargins(16, 4, 16, 4)
        for widget in (self.wanted, self.in_heard, before, after, self.found, done):
            row.addWidget(widget, 1 if widget is self.wanted else 0)
        QShortcut(
            QKeySequence(Qt.Key.Key_Escape), self.search, self.close_search, context=Qt.ShortcutContext.WidgetWithChildrenShortcut
        )
        self.search.hide()
        return self.search

    def open_search(self) -> None:
        """Show the line for words to find."""
        self.search.show()
        self.wanted.setFocus()
        self.wanted.selectAll()

    def close_search(self) -> None:
        """Back to the page."""
        self.search.hide()
        self.galley.setFocus()

    def _find_by_enter(self) -> None:
        back = bool(QApplication.keyboardModifiers() & Qt.KeyboardModifier.ShiftModifier)
        (self._find_before if back else self._find_next)()

    def _find_next(self) -> None:
        self._find(back=False)

    def _find_before(self) -> None:
        self._find(back=True)

    def _find(self, *, back: bool) -> None:
        text = self.wanted.text().strip()
        if match := re.fullmatch(r"p(?:age|\.)?\s*(\d+)", text, re.IGNORECASE):
            word = self._presenter.page_start(int(match[1]))
        elif match := re.fullmatch(r"(?:(\d+):)?(\d{1,2}):(\d{2}(?:\.\d+)?)", text):
            seconds = 3600 * int(match[1] or 0) + 60 * int(match[2]) + float(match[3])
            self.time_wanted.emit(samples(seconds, self._presenter.bench.book.rate))
            self.found.setText("")
            return
        else:
            word = self._presenter.find(text, self.galley.cursor_word, back=back, heard=self.in_heard.isChecked())
        self.found.setText("" if word >= 0 else "not in this chapter")
        if word >= 0:
            self.galley.go_to_word(word)

    def _note_row(self) -> QWidget:
        self.noting = QWidget()
        self.noting.setObjectName("foot")
        self.note_kind = QComboBox()
        self.note_kind.setAccessibleName("Kind of finding")
        for kind in Kind:
            self.note_kind.addItem(NAMES.get(kind.value, kind.value), kind.value)
        self.note_where = label("", "quiet")
        self.note_text = QLineEdit()
        self.note_text.setAccessibleName("Note")
        self.note_text.setPlaceholderText("what is wrong here; may be empty")
        keep, drop = button("Note it", tip="Keep the finding (Enter)"), button("Cancel", tip="Keep nothing (Esc)")
        self.note_text.returnPressed.connect(self._note)
        keep.clicked.connect(self._note)
        drop.clicked.connect(self.close_note)
        row = QHBoxLayout(self.noting)
        row.setContentsMargins(16, 4, 16, 4)
        for widget in (self.note_where, self.note_kind, self.note_text, keep, drop):
            row.addWidget(widget, 1 if widget is self.note_text else 0)
        QShortcut(
            QKeySequence(Qt.Key.Key_Escape), self.noting, self.close_note, context=Qt.ShortcutContext.WidgetWithChildrenShortcut
        )
        self.noting.hide()
        return self.noting

    def open_note(self, where: str, words: tuple[int, int] | None, sound: Span | None) -> None:
        """Ask for a finding by hand on words, or on a stretch of sound; the sound goes on playing."""
        self._noted = words, sound
        self.note_kind.setCurrentIndex(self.note_kind.findData((Kind.MISREAD if words else Kind.NOISE).value))
        self.note_where.setText(where)
        self.note_text.clear()
        self.noting.show()
        self.note_text.setFocus()

    def close_note(self) -> None:
        """Back to the page."""
        self.noting.hide()
        self.galley.setFocus()

    def _note(self) -> None:
        kind, (words, sound) = Kind(self.note_kind.currentData()), self._noted
        if words is not None:
            self._presenter.note_finding(kind, *words, self.note_text.text())
        elif sound is not None:
            self._presenter.note_sound(kind, sound, self.note_text.text())
        self.close_note()

    def _mark_clicked(self, mark: str) -> None:
        """Take the finding of a mark in hand; that of a take, the finding that asked for it."""
        pickup = next((p for p in self._presenter.bench.book.pickups if p.id == mark), None)
        wanted = mark if pickup is None else next(iter(pickup.findings), "")
        if wanted:
            self._presenter.choose(wanted)

    def open_remark(self) -> None:
        """Write on the card's line for the note."""
        self.remark.setFocus()
        self.remark.selectAll()

    def back_to_page(self) -> None:
        """The keys work on the page again."""
        self.galley.setFocus()

    def _remarked(self) -> None:
        finding = self._presenter.finding()
        if finding is not None and finding.id == self._remark_of[0]:
            self._presenter.write_note(self.remark.text())

    def _docket(self) -> QWidget:
        side = QWidget()
        side.setObjectName("side")
        self.count = label("Docket", "heading")
        self.unfold = QCheckBox("folded")
        self.unfold.setToolTip("Show what the ear is not sure of, and kinds that are switched off (D)")
        self.unfold.toggled.connect(self._unfolded)
        head = QHBoxLayout()
        head.addWidget(self.count)
        head.addStretch()
        head.addWidget(self.unfold)
        self.kinds, self.decisions, self.order = QComboBox(), QComboBox(), QComboBox()
        self.sure, self.scope = QComboBox(), QComboBox()
        for combo, name, rows in (
            (self.kinds, "Kind of finding", [("all kinds", ""), *((NAMES.get(k.value, k.value), k.value) for k in Kind)]),
            (self.decisions, "Decision", [("all states", ""), *((d.value, d.value) for d in Decision)]),
            (self.sure, "How sure", [("any", 0.0), ("over 0.5", 0.5), ("over 0.8", 0.8), ("over 0.9", 0.9)]),
            (self.order, "Order", [("as read", False), ("by doubt", True)]),
            (self.scope, "Chapters", [("chapter", False), ("book", True)]),
        ):
            for text, key in rows:
                combo.addItem(text, key)
            combo.setAccessibleName(name)
            combo.setToolTip(f"{name}: which findings the docket shows, and how")
            combo.setMinimumContentsLength(5)
            combo.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            combo.activated.connect(self._filtered)
        sieve = QGridLayout()
        sieve.setSpacing(4)
        for place, combo in enumerate((self.kinds, self.decisions, self.scope, self.order, self.sure)):
            sieve.addWidget(combo, place // 3, place % 3)
        self.card = self._card()
        self.list = Docket()
        self.list.chosen.connect(self._presenter.choose)
        self.list.several.connect(self._rows_selected)
        self.empty = label("", "quiet", wrap=True)
        self.empty.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.hear_button = button("Hear this chapter", tip="Recognise the chapter and collate it with the manuscript (Ctrl+E)")
        self.hear_button.clicked.connect(self.hear_wanted)
        blank = QWidget()
        blank_box = QVBoxLayout(blank)
        blank_box.setContentsMargins(4, 4, 4, 4)
        blank_box.addWidget(self.empty)
        blank_box.addWidget(self.hear_button, 0, Qt.AlignmentFlag.AlignLeft)
        blank_box.addStretch()
        self.stack = QStackedWidget()
        self.stack.addWidget(self.list)
        self.stack.addWidget(blank)
        column = QVBoxLayout(side)
        column.setContentsMargins(12, 10, 12, 8)
        column.addLayout(head)
        column.addLayout(sieve)
        column.addWidget(self.card)
        column.addWidget(self.stack, 1)
        return side

    def _card(self) -> QFrame:
        card = QFrame()
        card.setObjectName("card")
        grid = QGridLayout(card)
        grid.setContentsMargins(12, 9, 12, 10)
        grid.setVerticalSpacing(3)
        self.kind = label("", "quiet")
        self.written = label("", "reading", wrap=True)
        self.heard = label("", "reading", wrap=True)
        self.why = label("", "quiet", wrap=True)
        self._written_name, self._heard_name = label("written", "quiet"), label("heard", "quiet")
        grid.addWidget(self.kind, 0, 0, 1, 2)
        grid.addWidget(self._written_name, 1, 0, Qt.AlignmentFlag.AlignTop)
        grid.addWidget(self.written, 1, 1)
        grid.addWidget(self._heard_name, 2, 0, Qt.AlignmentFlag.AlignTop)
        grid.addWidget(self.heard, 2, 1)
        grid.addWidget(self.why, 3, 0, 1, 2)
        self.remark = QLineEdit()
        self.remark.setAccessibleName("Note on the finding")
        self.remark.setPlaceholderText("note for the narrator (E)")
        self.remark.setToolTip("What is to be said of this finding; it goes out with the pickup (E)")
        self.remark.editingFinished.connect(self._remarked)
        self.remark.returnPressed.connect(self.back_to_page)
        grid.addWidget(self.remark, 6, 0, 1, 2)
        grid.setColumnStretch(1, 1)
        row = QHBoxLayout()
        row.setSpacing(5)
        self.listen_button = button("Listen", tip="Hear it with its lead-in (H)")
        self.listen_button.clicked.connect(self.listen_wanted)
        row.addWidget(self.listen_button)
        self.swap_button = button("Swap the take", tip="Put this reading of the line in the place of the one that is kept (T)")
        self.swap_button.clicked.connect(self.swap_wanted)
        grid.addWidget(self.swap_button, 4, 0, 1, 2)
        row.addStretch()
        self.decide_buttons = {}
        for name, told in (
            ("stet", "Let it stand (S)"),
            ("mend", "Repair it from the sound that is there (M)"),
            ("pickup", "Have the line read again (P)"),
        ):
            made = button(name.capitalize(), name, told)
            made.setProperty("decision", name)
            made.clicked.connect(self._decide)
            row.addWidget(made)
            self.decide_buttons[name] = made
        grid.addLayout(row, 5, 0, 1, 2)
        return card

    def set_theme(self, theme: Theme) -> None:
        """Colour the galley and the docket."""
        self._theme = theme
        self.list.delegate.theme = theme
        self.galley.set_theme(theme)
        self.list.viewport().update()  # type: ignore[union-attr]

    def refresh(self) -> None:
        """Show the chapter at hand."""
        bench = self._presenter.bench
        chapter = bench.chapter
        presenter = self._presenter
        self.names.refresh()
        state = (chapter.id, chapter.recording, chapter.hearing, chapter.id in presenter.hearing_now) if chapter else ()
        sieve = (
            *(presenter.current, presenter.show_doubtful, presenter.kind, presenter.decision, presenter.by_doubt),
            *(presenter.least, presenter.whole_book, presenter.off, len(presenter.selected)),
        )
        findings = self._presenter.bench.findings(chapter) if chapter else ()
        others = tuple(c.findings for c in bench.book.chapters) if presenter.whole_book else ()
        if self._listed[0] is not findings or self._listed[1] != (state, sieve, tuple(map(id, others))):
            self._listed = findings, (state, sieve, tuple(map(id, others)))
            self._refresh_docket(chapter)
        elif chapter is not None and (self._fate_of[0] is not chapter.reel or self._fate_of[1] is not bench.book.pickups):
            self._refresh_card(presenter.finding())
        self._fate_of = (chapter.reel if chapter else None), bench.book.pickups
        if chapter is None:
            self.galley.set_content(GalleyContent(), None)
            self.galley.set_empty_text("This book has no chapters yet. Bring in the manuscript at Intake.")
            self._shown = None
            return
        key = (
            chapter,
            bench.early.get(chapter.id),
            presenter.off,
            bench.book.pickups,
            tuple(bench.overview(r) is not None for r in (recordings_of(chapter.reel) if chapter.reel else ())),
        )
        if key != self._shown:
            same_chapter = isinstance(self._shown, tuple) and self._shown[0].id == chapter.id
            self._shown = key
            columns = bench.columns(chapter.reel) if chapter.reel is not None else None
            self.galley.set_content(self._content(chapter), columns, keep_place=same_chapter)
        self.galley.set_show_doubtful(shown=self._presenter.show_doubtful)
        left = presenter.listening.unheard(chapter)
        if left is not self._unheard:
            self._unheard = left
            self.galley.set_unheard([(s.start, s.stop) for s in left] if chapter.hearing else None)
        if self._presenter.current != self.galley.current_mark:
            self.galley.set_current_mark(self._presenter.current)

    def _content(self, chapter: ChapterState) -> GalleyContent:
        bench = self._presenter.bench
        text = bench.text(chapter)
        if self._styles[0] is not text:
            headings = set()
            for number, paragraph in enumerate(text.paragraphs()[:2]):
                if len(paragraph) <= 8 and not text.words[paragraph.stop - 1].text.endswith((".", "!", "?", "”")):
                    headings.add(number)
            # the last row is the style of heard-only words, whose number is -1
            styles = [*((w.paragraph, w.paragraph in headings, w.italic) for w in text.words), (0, False, False)]
            self._styles = text, np.array(styles, np.int64)
            pages = [w.page for w in text.words]
            self._pages = tuple((i, p) for i, p in enumerate(pages) if p and (not i or p != pages[i - 1]))
        tokens = bench.tokens(chapter)
        if self._set[0] is not tokens:
            paragraphs, heads, italics = self._styles[1][tokens.words].T
            self._set = tokens, Cells(tokens.texts, tokens.words, tokens.starts, tokens.stops, paragraphs, heads, italics)
        cells = self._set[1]
        marks = []
        findings = self._presenter.bench.findings(chapter)
        done = {f for p in bench.book.pickups if p.chapter == chapter.id and p.state in DONE for f in p.findings}
        for p in bench.book.pickups:  # what was read again and is in is seen as such
            span = piece_of(chapter.reel, p.id) if chapter.reel and p.chapter == chapter.id and p.state in DONE else None
            if span is not None:
                marks.append(
                    Mark(p.id, "take", p.first_word, p.word_count, span.start, span.stop, f"take in, {p.state.value}", "pickup")
                )
        for f, span in zip(findings, finding_spans(chapter, findings), strict=True):
            gone = span is None and f.stop > f.start and bool(chapter.reel)
            if not gone and f.id not in done:
                start, stop = (span.start, span.stop) if span else (-1, -1)
                doubtful = self._presenter.is_folded(f)
                marks.append(
                    Mark(f.id, f.kind.value, f.word_index, f.word_count, start, stop, margin_note(f), f.decision.value, doubtful)
                )
        reel = chapter.reel
        if reel is None:
            return GalleyContent(cells, tuple(marks), rate=bench.book.rate, pages=self._pages, breaks=frozenset(text.breaks))
        lanes = [(lane, lane.starts()) for lane in reel.lanes]
        drawn = tuple(bench.overview(r) is not None for r in (recordings_of(chapter.reel) if chapter.reel else ()))

        def under(start: int, stop: int) -> object:
            return drawn, [lane.between(Span(start, stop), starts) for lane, starts in lanes]

        others = [
            Other(t.finding, t.words.start, len(t.words), t.span.start, t.span.stop) for t in self._presenter.takes(chapter)
        ]
        drawing = bench.overview(chapter.recording)
        return GalleyContent(
            cells,
            tuple(marks),
            placed_joins(reel),
            len(reel),
            bench.book.rate,
            self._pages,
            frozenset(text.breaks),
            tuple(sorted(others, key=attrgetter("first"))),
            drawing.columns if drawing else None,
            under,
        )

    def _refresh_docket(self, chapter: ChapterState | None) -> None:
        presenter = self._presenter
        rows = presenter.rows()
        docket = [f for _, f in rows]
        numbers = {c.id: f"{n}." for n, c in enumerate(presenter.bench.book.chapters, 1)} if presenter.whole_book else {}
        open_ = sum(f.decision is Decision.OPEN for f in docket)
        self.count.setText(f"Docket   {open_} open of {len(docket)}" if docket else "Docket")
        self.unfold.blockSignals(True)
        self.unfold.setChecked(presenter.show_doubtful)
        folded = presenter.folded()
        self.unfold.setText(f"{folded} folded" if folded else "folded")
        self.unfold.setVisible(bool(folded) or presenter.show_doubtful)
        self.unfold.blockSignals(False)
        at_hand = presenter.bench.chapter_id, presenter.current
        self.list.show_rows(rows, numbers, presenter.bench.book.rate, at_hand, presenter.selected)
        self._refresh_card(presenter.finding())
        self.stack.setCurrentIndex(0 if docket else 1)
        if chapter is None:
            self.empty.setText("No chapter is open.")
        elif chapter.id in presenter.hearing_now:
            self.empty.setText("The chapter is being heard. The findings come here when it is done; you can go on working.")
        elif not chapter.recording:
            self.empty.setText("This chapter has no recording yet. Pair one with it at Intake.")
        elif not chapter.hearing:
            self.empty.setText(
                "This chapter was not heard yet. The ear recognises it without looking at the manuscript, then collates the two."
            )
        elif presenter.kind or presenter.decision or presenter.least:
            self.empty.setText("No finding of this kind and decision. Choose all kinds and all states to see the others.")
        else:
            self.empty.setText("No finding in this chapter: it was read as it is written.")
        self.hear_button.setVisible(
            chapter is not None and bool(chapter.recording) and not chapter.hearing and chapter.id not in presenter.hearing_now
        )

    def _refresh_card(self, f: Finding | None) -> None:
        self.card.setVisible(f is not None)
        if f is None:
            return
        several = len(self._presenter.selected)
        if several > 1:
            self.kind.setText(f"{several} findings, decided at once")
            for widget in (self.written, self._written_name, self.heard, self._heard_name, self.swap_button):
                widget.hide()
            self.why.setText("")
            self.remark.hide()
            for made in self.decide_buttons.values():
                made.setChecked(False)
            return
        decided = "" if f.decision is Decision.OPEN else f.decision.value
        self.kind.setText(
            f"{f.evidence.flaw or NAMES.get(f.kind.value, f.kind.value)}   {100 * f.confidence:.0f} % sure   {decided}"
        )
        for widget, name, text in ((self.written, self._written_name, f.written), (self.heard, self._heard_name, f.heard)):
            widget.setText(_shortened(text))
            widget.setToolTip(tip(text))
            widget.setVisible(bool(text))
            name.setVisible(bool(text))
        take = self._presenter.take_note(f)
        self.why.setText("\n".join(filter(None, (self._presenter.fate(f), take, _evidence(f)))))
        if self._remark_of != (f.id, f.note):  # not while it is being written
            self._remark_of = f.id, f.note
            self.remark.setText(f.note)
            self.remark.setCursorPosition(0)
        self.remark.show()
        self.swap_button.setVisible(bool(take))
        for decision, made in self.decide_buttons.items():
            made.setCheckable(True)
            made.setChecked(f.decision.value == decision)

    def _decide(self) -> None:
        sender = self.sender()
        if sender is not None:
            self.decided.emit(str(sender.property("decision")))

    def _filtered(self) -> None:
        self._presenter.show_only(
            kind=str(self.kinds.currentData()),
            decision=str(self.decisions.currentData()),
            by_doubt=bool(self.order.currentData()),
            least=float(self.sure.currentData()),
            whole_book=bool(self.scope.currentData()),
        )

    def _unfolded(self, shown: bool) -> None:  # noqa: FBT001 - Qt calls it so
        self._presenter.show_doubtful = shown
        self._presenter.changed()

    def _rows_selected(self, keys: list[Key]) -> None:
        if len(keys) > 1:
            self._presenter.select(keys)
        elif self._presenter.selected:
            self._presenter.select(())


def _shortened(text: str) -> str:
    return text if len(text) < 90 else text[:60].rsplit(" ", 1)[0] + " … " + text[-20:].split(" ", 1)[-1]


WITNESS = (
    (60, "clearly for what was heard"),
    (20, "for what was heard"),
    (-20, "for neither"),
    (-1e9, "for what is written"),
)
"""Above how many nats what is said of the phones' fit."""


def _evidence(f: Finding) -> str:
    e = f.evidence
    parts = []
    if e.note:
        parts.append(e.note)
    parts += [
        f"{name} ear: “{said}”" if said else f"{name} ear: nothing there"
        for name, said in (("second", e.second), ("third", e.third))
        if said is not None
    ]
    if e.witness is not None:
        parts.append("the sound itself speaks " + next(words for least, words in WITNESS if e.witness > least))
    return "; ".join(parts)
