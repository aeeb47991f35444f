"""The docket's side of the Proof desk: what is shown of it, the card, the list."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from faithful_reel.app.proof.card import Card
from faithful_reel.app.proof.docket import Docket, Key, kind_words
from faithful_reel.app.proof.presenter import ProofPresenter, Sieve
from faithful_reel.app.theme import scale_of_letters
from faithful_reel.app.widgets.parts import ActButton, Check, Choice, label
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.collate.findings import Decision, Kind
from faithful_reel.core.memo import Seen

LEAST_LIST = 96
"""Pixels, as drawn: two rows."""


class DocketSide(QWidget):
    """Shows the docket as the presenter has it."""

    def __init__(self, presenter: ProofPresenter) -> None:
        super().__init__()
        self.setObjectName("side")
        self._presenter = presenter
        self._seen, self._fate = Seen(), Seen()
        self.count = label("Docket", "heading")
        self.unfold = Check("folded")
        self.unfold.setToolTip("Show what the ear is not sure of, and kinds that are switched off (D)")
        self.unfold.toggled.connect(self._unfolded)
        head = QHBoxLayout()
        head.addWidget(self.count)
        head.addStretch()
        head.addWidget(self.unfold)
        self.kinds, self.decisions, self.order = Choice(), Choice(), Choice()
        self.sure, self.scope = Choice(), Choice()
        sieve = QGridLayout()
        sieve.setSpacing(4)
        rows: list[tuple[Choice, str, list[tuple[str, object]]]] = [
            (self.kinds, "Kind of finding", [("all kinds", None), *((kind_words(k), k) for k in Kind)]),
            (self.decisions, "Decision", [("all states", None), *((d.value, d) for d in Decision)]),
            (self.scope, "Chapters", [("chapter", False), ("book", True)]),
            (self.order, "Order", [("as read", False), ("by doubt", True)]),
            (self.sure, "How sure", [("any", 0.0), ("over 0.5", 0.5), ("over 0.8", 0.8), ("over 0.9", 0.9)]),
        ]
        for place, (combo, name, entries) in enumerate(rows):
            for text, key in entries:
                combo.addItem(text, key)
            combo.setAccessibleName(name)
            combo.setToolTip(f"{name}: which findings the docket shows, and how")
            combo.setMinimumContentsLength(4)
            combo.setSizeAdjustPolicy(Choice.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            combo.activated.connect(self._filtered)
            sieve.addWidget(combo, place // 3, place % 3)
        self.card = Card(presenter)
        self.list = Docket()
        self.list.setMinimumHeight(round(LEAST_LIST * scale_of_letters()))
        self.list.chosen.connect(presenter.choose)
        self.list.several.connect(self._rows_selected)
        self.empty = label("", "quiet", wrap=True)
        self.empty.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.hear = ActButton("Hear this chapter", "proof.hear")
        blank = QWidget()
        blank_box = QVBoxLayout(blank)
        blank_box.setContentsMargins(4, 4, 4, 4)
        blank_box.addWidget(self.empty)
        blank_box.addWidget(self.hear, 0, Qt.AlignmentFlag.AlignLeft)
        blank_box.addStretch()
        self.stack = QStackedWidget()
        self.stack.addWidget(self.list)
        self.stack.addWidget(blank)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 8)
        column.addLayout(head)
        column.addLayout(sieve)
        column.addWidget(self.stack, 1)
        column.addWidget(self.card)  # under the list: what stands under the mouse stays there when a finding is taken in hand
        kept = self.card.sizePolicy()
        kept.setRetainSizeWhenHidden(True)
        self.card.setSizePolicy(kept)

    def refresh(self) -> None:
        """Show what changed: all of it, or the card where only the sound did."""
        presenter = self._presenter
        bench, chapter = presenter.bench, presenter.bench.chapter
        state = (chapter.id, chapter.recording, chapter.hearing, chapter.id in presenter.hearing_now) if chapter else ()
        findings = bench.findings(chapter) if chapter else ()
        others = tuple(map(id, (c.findings for c in bench.book.chapters))) if presenter.sieve.whole_book else ()
        fate = self._fate.changed(chapter.reel if chapter else None, bench.book.pickups)
        docket = (presenter.current, presenter.show_doubtful, presenter.sieve, presenter.off, len(presenter.selected))
        sound = presenter.sound_told()
        if self._seen.changed(findings, state, *docket, hash(others), sound, bench.lessons(), bench.times.name):
            self._refresh(chapter)
        elif chapter is not None and fate:
            self.card.refresh()

    def _refresh(self, chapter: ChapterState | None) -> None:
        presenter = self._presenter
        rows = presenter.rows()
        chapters = presenter.bench.book.chapters
        numbers = {c.id: f"{n}." for n, c in enumerate(chapters, 1)} if presenter.sieve.whole_book else {}
        open_ = sum(f.decision is Decision.OPEN for _, f in rows)
        self.count.setText(f"Docket   {open_} open of {len(rows)}" if rows else "Docket")
        folded = presenter.folded()
        self.unfold.blockSignals(True)
        self.unfold.setChecked(presenter.show_doubtful)
        self.unfold.setText(f"{folded} folded" if folded else "folded")
        self.unfold.setVisible(bool(folded) or presenter.show_doubtful)
        self.unfold.blockSignals(False)
        times = presenter.bench.book.rate, presenter.bench.times
        at_hand = presenter.bench.chapter_id, presenter.current
        self.list.show_rows(rows, numbers, times, at_hand, presenter.selected, presenter.sound_told())
        self.card.refresh()
        self.stack.setCurrentIndex(0 if rows else 1)
        self.empty.setText(self._why_empty(chapter))
        unheard = chapter is not None and bool(chapter.recording) and not chapter.hearing
        self.hear.setVisible(unheard and chapter is not None and chapter.id not in presenter.hearing_now)

    def _why_empty(self, chapter: ChapterState | None) -> str:
        if chapter is None:
            return "No chapter is open."
        if chapter.id in self._presenter.hearing_now:
            return "The chapter is being heard. The findings come here when it is done; you can go on working."
        if not chapter.recording:
            return "This chapter has no recording yet. Pair one with it at Intake."
        if not chapter.hearing:
            return (
                "This chapter was not heard yet. The ear recognises it without looking at the manuscript, then collates the two."
            )
        if self._presenter.sieve.narrow:
            return "No finding of this kind and decision. Choose all kinds and all states to see the others."
        return "No finding in this chapter: it was read as it is written."

    def _filtered(self) -> None:
        self._presenter.show_only(
            Sieve(
                self.kinds.currentData(),
                self.decisions.currentData(),
                bool(self.order.currentData()),
                float(self.sure.currentData()),
                bool(self.scope.currentData()),
            )
        )

    def _unfolded(self, shown: bool) -> None:  # noqa: FBT001 - Qt calls it so
        self._presenter.unfold(shown=shown)

    def _rows_selected(self, keys: list[Key]) -> None:
        if len(keys) > 1:
            self._presenter.select(keys)
        elif self._presenter.selected:
            self._presenter.select(())
