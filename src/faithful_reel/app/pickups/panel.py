"""The Pickups desk: the ledger, and of the line at hand the original and every take."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from faithful_reel.app.pickups.presenter import FILTERS, ORDERS, OVERDUE, PickupsPresenter
from faithful_reel.app.theme import Theme
from faithful_reel.app.widgets.flow import Flow
from faithful_reel.app.widgets.line_list import LineList, ListedLine
from faithful_reel.app.widgets.parts import ActButton, Choice, Desk, Scrolled, label, rule
from faithful_reel.app.widgets.tables import Table
from faithful_reel.app.widgets.takes_view import TakeRow, TakesView
from faithful_reel.core.pickups.ledger import DONE, Pickup, State, Take, Want, shown
from faithful_reel.core.work.asking import words_to_mind

NOTHING = "Decide a finding as Pickup at the Proof desk, and its line stands here."
NONE_SO = "No line is so. Change the search or what is shown."
NO_TAKES = "No take yet. Send the line out, and receive what comes back."


class PickupsPanel(Desk):
    """Rounds go out and come in here."""

    def __init__(self, presenter: PickupsPresenter) -> None:
        super().__init__()
        self.setObjectName("desk")
        self._presenter = presenter
        self._theme: Theme | None = None
        self.search = QLineEdit()
        self.search.setPlaceholderText("search the lines")
        self.search.setAccessibleName("Search the ledger")
        self.search.setToolTip("Words of the line, of what was heard, of the note, or a state")
        self.search.textChanged.connect(self._filtered)
        self.only = Choice()
        for name in (*FILTERS, OVERDUE):
            self.only.addItem(name)
        self.only.setAccessibleName("Which lines are shown")
        self.only.setToolTip("Show only lines that are so far")
        self.only.activated.connect(self._filtered)
        self.of_chapter = Choice()
        self.of_chapter.setAccessibleName("Lines of which chapter")
        self.of_chapter.setToolTip("Show only lines of one chapter")
        self.of_chapter.activated.connect(self._filtered)
        self.order = Choice()
        for name in ORDERS:
            self.order.addItem(name)
        self.order.setAccessibleName("In which order")
        self.order.setToolTip("How the lines are put together; each group tells how far it is")
        self.order.activated.connect(self._filtered)
        self.ledger = LineList("Ledger of pickups", several=True)
        self.ledger.menu_acts = (
            "pickups.hear_original", "pickups.join", "pickups.split", "pickups.ask_again", "pickups.drop",
        )  # fmt: skip
        self.ledger.itemSelectionChanged.connect(self._chosen)
        self.hint = label("", "quiet", wrap=True)
        self.line = label("", "reading", wrap=True)
        self.about = label("", "quiet", wrap=True)
        self.want = Choice()
        for want in Want:
            self.want.addItem(want.value, want)
        self.want.setAccessibleName("What is wanted")
        self.want.setToolTip("What the narrator should watch for; it stands on the call sheet")
        self.want.activated.connect(self._wanted)
        self._note_of = "", ""
        self.note = QLineEdit()
        self.note.setAccessibleName("Note for the narrator")
        self.note.setPlaceholderText("what the narrator should watch for; it stands on the call sheet")
        self.note.setToolTip("A note on the lines that are chosen; it stands on the call sheet")
        self.note.editingFinished.connect(self._noted)
        self.takes = TakesView()
        self.takes.row_chosen.connect(self._take_chosen)
        self.takes.row_used.connect(self._take_used)
        self.takes.row_heard.connect(self._take_heard)
        self.left = Table(["Heard", "Length", "Where"], "What fits no line")
        self.left.columns(stretch=0)
        self.left.menu_acts = ("pickups.hear_left", "pickups.give")
        self.left.empty = "Everything that was said in the pickup recordings is at its line."
        self.which = Choice()
        self.which.addItems(["Takes", "What fits no line"])
        self.which.setAccessibleName("Takes, or what fits no line")
        self.which.setToolTip("Takes of this line, or what was said and fits no line")
        self.which.activated.connect(self._listed)
        self.hear_original = ActButton("Hear the original", "pickups.hear_original")
        self.hear_take = ActButton("Hear the take", "pickups.hear_take")
        self.choose = ActButton("Use this take", "pickups.choose")
        self.from_here = ActButton("From this word on", "pickups.from_here")
        self.drop_take = ActButton("Not this line", "pickups.drop_take")
        self.hear_left = ActButton("Hear it", "pickups.hear_left")
        self.give = ActButton("Give it to the line", "pickups.give")
        self._lay_out()

    def _lay_out(self) -> None:
        head = QHBoxLayout()
        head.addWidget(label("Pickups", "title"))
        head.addWidget(self.hint, 1)
        head.addWidget(ActButton("Send a round…", "pickups.send"))
        head.addWidget(ActButton("Record here…", "record.line"))
        head.addWidget(ActButton("Receive a pickup recording…", "pickups.receive"))
        left = QWidget()
        side = QVBoxLayout(left)
        side.setContentsMargins(0, 0, 0, 0)
        over_list = QHBoxLayout()
        over_list.addWidget(self.search, 1)
        over_list.addWidget(self.order)
        side.addLayout(over_list)
        filters = QHBoxLayout()
        filters.addWidget(self.only, 1)
        filters.addWidget(self.of_chapter, 1)
        side.addLayout(filters)
        side.addWidget(self.ledger, 1)
        self.stack = QStackedWidget()
        over_takes = Scrolled(self.takes)
        self.takes.follow(over_takes)
        self.stack.addWidget(over_takes)
        self.stack.addWidget(self.left)
        wanted = QHBoxLayout()
        wanted.addWidget(label("wanted", "quiet"))
        wanted.addWidget(self.want)
        wanted.addWidget(self.note, 1)
        self._buttons = QStackedWidget()
        for row in (
            (self.hear_original, self.hear_take, self.choose, self.from_here, self.drop_take),
            (self.hear_left, self.give),
        ):
            one = QWidget()
            flow = Flow(one)
            for widget in row:
                flow.addWidget(widget)
            self._buttons.addWidget(one)
        self._buttons.setMaximumHeight(70)
        right = QWidget()
        box = QVBoxLayout(right)
        box.setContentsMargins(16, 0, 0, 0)
        box.addWidget(self.line)
        box.addWidget(self.about)
        box.addLayout(wanted)
        box.addWidget(rule())
        over = QHBoxLayout()
        over.addWidget(self.which)
        over.addStretch()
        box.addLayout(over)
        box.addWidget(self.stack, 1)
        box.addWidget(self._buttons)
        self.split = QSplitter(Qt.Orientation.Horizontal)
        self.split.addWidget(left)
        self.split.addWidget(right)
        self.split.setStretchFactor(0, 2)
        self.split.setStretchFactor(1, 3)
        self.split.setChildrenCollapsible(False)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(24, 16, 24, 12)
        whole.addLayout(head)
        whole.addWidget(self.split, 1)

    def set_theme(self, theme: Theme) -> None:
        """Colours of the states."""
        self._theme = theme
        self.ledger.set_theme(theme)
        self.takes.set_theme(theme)

    def take_keys(self) -> None:
        """As `Desk`."""
        self.ledger.setFocus()

    def refresh(self) -> None:
        """Show the ledger."""
        presenter = self._presenter
        book = presenter.bench.book
        titles = {c.id: c.title.split(":")[0] for c in book.chapters}
        self._fill_chapters(titles)
        lines: list[ListedLine] = []
        shown: list[Pickup] = []
        for title, mine in presenter.groups():
            lines.append(ListedLine("", title))
            lines += [self._line(p, titles) for p in mine]
            shown += mine
        self.ledger.fill(lines)
        if shown and presenter.pickup() not in shown:
            presenter.take_up(shown[0])
        self.ledger.choose_quietly(presenter.current)
        pickup = presenter.pickup() if shown else None
        self.hint.setText(presenter.counted() if book.pickups else "")
        self.which.setItemText(1, f"What fits no line ({len(presenter.unmatched)})")
        self._show_line(pickup, empty=NOTHING if not book.pickups else NONE_SO)
        self._show_takes(pickup)
        self._show_left()
        presenter.show_line()

    def _fill_chapters(self, titles: dict[str, str]) -> None:
        known = [("every chapter", ""), *((title, name) for name, title in titles.items())]
        if [(self.of_chapter.itemText(k), self.of_chapter.itemData(k)) for k in range(self.of_chapter.count())] != known:
            self.of_chapter.clear()
            for title, name in known:
                self.of_chapter.addItem(title, name)
        self.of_chapter.setCurrentIndex(max(0, self.of_chapter.findData(self._presenter.of_chapter)))

    def _line(self, p: Pickup, titles: dict[str, str]) -> ListedLine:
        takes = {0: "", 1: "1 take"}.get(len(p.takes), f"{len(p.takes)} takes")
        heard = f"heard “{said}”" if (said := self._presenter.heard(p)) else ""
        under = " · ".join(filter(None, (titles.get(p.chapter, ""), self._presenter.bench.time(p.start, 0), heard, takes)))
        overdue = self._presenter.overdue(p)
        mark = "overdue" if overdue else "not as written" if p.told and p.state in DONE else shown(p.state)
        return ListedLine(p.id, p.line, under, mark, urgent=overdue or bool(p.told), faint=p.state is State.DROPPED)

    def _show_line(self, pickup: Pickup | None, empty: str) -> None:
        self.line.setText(pickup.line if pickup else empty)
        about = ""
        if pickup is not None:
            parts = [self._presenter.where(pickup)]
            parts += [f"heard “{said}”"] if (said := self._presenter.heard(pickup)) else []
            parts += [shown(pickup.state)]
            parts += [f"heard again: {pickup.told}"] if pickup.told else []
            about = " · ".join(parts)
        self.about.setText(about)
        self.note.setEnabled(pickup is not None)
        self.want.setEnabled(pickup is not None)
        if pickup is not None:
            self.want.setCurrentIndex(list(Want).index(pickup.want))
        known = (pickup.id, pickup.note) if pickup else ("", "")
        if self._note_of != known:  # not while it is being written
            self._note_of = known
            self.note.setText(known[1])

    def _show_takes(self, pickup: Pickup | None) -> None:
        presenter = self._presenter
        rows: list[TakeRow] = []
        marked: frozenset[int] = frozenset()
        if pickup is not None:
            strips = presenter.strips(pickup)
            first = len(strips) - len(pickup.takes)
            owners = presenter.owners(pickup)
            marked = words_to_mind(presenter.bench.book.chapter(pickup.chapter), pickup)
            for number, (words, columns) in enumerate(strips):
                take = number - first
                if take < 0:
                    said = f"heard “{instead}”" if (instead := presenter.heard(pickup)) else "as recorded"
                    rows.append(TakeRow("original", words, columns, said if pickup.takes else f"{said} · no take yet"))
                    continue
                chosen = take in owners and pickup.chosen >= 0
                owned = frozenset(k for k, t in enumerate(owners) if t == take) if pickup.parts else frozenset()
                told = self._judgement(pickup, take)
                rows.append(TakeRow(f"take {take + 1}", words, columns, told, owned, chosen))
            at = first + presenter.take_at
        else:
            at = 0
        tokens = pickup.line.split() if pickup is not None and rows else ()
        self.takes.set_content(tokens, marked, rows, at, "" if pickup is None else NO_TAKES)
        takes = pickup.takes if pickup else ()
        self.hear_original.setEnabled(pickup is not None)
        done = pickup is not None and pickup.state in DONE
        self.hear_take.setEnabled(bool(takes))
        for widget in (self.choose, self.drop_take):
            widget.setEnabled(bool(takes) and not done)
        self.from_here.setEnabled(len(takes) > 1 and not done)

    def _judgement(self, pickup: Pickup, number: int) -> str:
        take: Take = pickup.takes[number]
        length = f"{(take.stop - take.start) / self._presenter.bench.book.rate:.1f} s"
        told = ", ".join(take.remarks) or "as written, clean"
        if pickup.state is State.IN and number == pickup.chosen:
            return f"{length} · {told} · proposed: {self._presenter.why(pickup)}"
        return f"{length} · {told}"

    def _show_left(self) -> None:
        presenter = self._presenter
        rate = presenter.bench.book.rate
        names = {r.hash: r.name for r in presenter.bench.book.recordings}
        rows = [
            (u.heard, f"{(u.stop - u.start) / rate:.1f} s", f"{names.get(u.recording, '')} {presenter.bench.time(u.start, 0)}")
            for u in presenter.unmatched
        ]
        self.left.fill(rows, keys=[str(k) for k in range(len(rows))])
        for widget in (self.hear_left, self.give):
            widget.setEnabled(bool(rows))

    @property
    def take(self) -> int:
        """The number of the take that the keys are on; -1 where there is none."""
        pickup = self._presenter.pickup()
        return self._presenter.take_at if pickup is not None and pickup.takes else -1

    @property
    def stretch(self) -> int:
        """The number of the stretch that fits no line in the chosen row; -1 where there is none."""
        return int(self.left.key) if self.left.key else -1

    # --- what the user does ---------------------------------------------------------------------------------------

    def _chosen(self) -> None:
        if self.ledger.key:
            self._presenter.choose(self.ledger.key, self.ledger.chosen_keys())

    def _filtered(self) -> None:
        self._presenter.search, self._presenter.order = self.search.text(), self.order.currentText()
        self._presenter.only = self.only.currentText()
        self._presenter.of_chapter = str(self.of_chapter.currentData() or "")
        self._presenter.changed()

    def _wanted(self, index: int) -> None:
        self._presenter.want(list(Want)[index])

    def _noted(self) -> None:
        pickup = self._presenter.pickup()
        if pickup is not None and pickup.id == self._note_of[0] and self.note.text() != self._note_of[1]:
            self._presenter.note(self.note.text())

    def _take_row(self, row: int) -> int:
        pickup = self._presenter.pickup()
        first = len(self._presenter.strips(pickup)) - len(pickup.takes) if pickup is not None else 0
        return row - first

    def _take_chosen(self, row: int) -> None:
        self._presenter.take_at = max(0, self._take_row(row))

    def _take_used(self, row: int) -> None:
        if self._take_row(row) >= 0:
            self.choose.click()

    def _take_heard(self, row: int) -> None:
        (self.hear_take if self._take_row(row) >= 0 else self.hear_original).click()

    def _listed(self, index: int) -> None:
        self.stack.setCurrentIndex(index)
        self._buttons.setCurrentIndex(index)
