"""The sweep: a list of changes, each drawn before it is made.  No Qt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import partial

from faithful_reel.app.editing.pages import LEAD_S, NO_LINE, TAIL_S, Line, Page
from faithful_reel.app.editing.presenter import Editing
from faithful_reel.app.settings import Settings, number, text
from faithful_reel.core.book.commands import EditReels
from faithful_reel.core.jobs import Watch
from faithful_reel.core.memo import Seen
from faithful_reel.core.reel.picture import reel_columns
from faithful_reel.core.reel.reel import Reel, recordings_of
from faithful_reel.core.reel.several import edited
from faithful_reel.core.units import Span
from faithful_reel.core.work.sweep import Doing, Sweep, Sweeping, SweepSettings, sweeps, swept, told

LIMITS = {"least_s": (0.5, 0.1, 20.0), "keep_s": (0.1, 0.0, 5.0), "times": (1.5, 1.0, 20.0), "variety": (0.3, 0.0, 1.0)}
"""Of every setting: the usual one, the least, the most."""


class SweepPage(Page):
    """What a sweep over what is marked, or the whole chapter, would change."""

    title = "Sweep"
    heads = ("what", "where", "is", "becomes")
    widths = (78, 0, 130, 76)
    enter = "list.go"
    buttons = (
        ("Make the changes", "sweep.make"), ("Hear as if", "list.hear"), ("Go there", "list.go"),
        ("Leave out / take in", "sweep.check"),
        ("All", "sweep.all"), ("None", "sweep.none"),
    )  # fmt: skip
    told = "Over what is marked, else the chapter. What would go is crossed out in the loupe. All is done in one step."

    def __init__(self, editing: Editing, settings: Settings) -> None:
        super().__init__(editing)
        self._kept = settings
        chosen = set(text(settings, "sweep/kinds", ",".join(k.value for k in SweepSettings().kinds)).split(","))
        known = {name: number(settings, f"sweep/{name}", *limits) for name, limits in LIMITS.items()}
        does = text(settings, "sweep/does", Doing.CLOSE.value)
        kinds = frozenset(k for k in Sweeping if k.value in chosen)
        self.settings = SweepSettings(kinds, **known, does=next((d for d in Doing if d.value == does), Doing.CLOSE))
        self.rows: list[Sweep] = []
        self._off: set[str] = set()
        self._seen = Seen()
        self._of: Reel | None = None
        self.busy = False
        self.open = False
        self._asked = 0

    @property
    def empty(self) -> str:
        """As `Page`."""
        chapter = self.bench.chapter
        if self.busy:
            return "Looking."
        if chapter is None or chapter.reel is None:
            return "This chapter has no recording yet. Pair one with it at Intake."
        if not chapter.hearing:
            return "Nothing by level. Breaths, hesitations and silent lanes go by the words: hear this chapter first."
        return "Nothing here is longer, louder or other than it should be."

    def set(self, **changed: object) -> None:
        """Change settings; kept."""
        self.settings = replace(self.settings, **changed)  # type: ignore[arg-type]  # named and typed by who calls
        for name in LIMITS:
            self._kept.setValue(f"sweep/{name}", getattr(self.settings, name))
        self._kept.setValue("sweep/does", self.settings.does.value)
        self._kept.setValue("sweep/kinds", ",".join(k.value for k in Sweeping if k in self.settings.kinds))
        self.look()
        self.changed()

    def look(self) -> None:
        """Look anew where the chapter, what is marked or a setting changed."""
        found = self.editing.found()
        if found is None:
            self._forget()
            return
        chapter, reel = found
        span = self.editing.span or Span(0, len(reel))
        if not self._seen.changed(chapter, reel, self.settings, span.start, span.stop):
            return
        drawn = {r: self.bench.overview(r) for r in recordings_of(reel)}
        if any(d is None for d in drawn.values()):  # they come beside the work, and tell it
            self._seen.forget()
            self.busy = True
            return
        texts, tokens, hearing, book, settings = (
            self.bench.text(chapter), self.bench.tokens(chapter), self.bench.hearing(chapter), self.bench.book, self.settings,
        )  # fmt: skip
        columns = [partial(reel_columns, reel, drawn.get, lane=k) for k in range(len(reel.lanes))]

        self._asked += 1
        ticket = self._asked

        def sweep(watch: Watch) -> tuple[int, Reel, list[Sweep]]:
            watch.tick(0.0, "sweep")
            return ticket, reel, sweeps(book, chapter, texts, tokens, hearing, span, settings, columns)

        self.busy = True
        self.bench.jobs.start("Sweep", sweep, done=self._swept, stopped=self._stopped, quiet=True)

    def _forget(self) -> None:
        self.rows, self._of, self.busy = [], None, False
        self._seen.forget()
        self.draw()

    def _stopped(self, why: BaseException) -> None:
        self._forget()
        self.bench.stopped(why)

    def _swept(self, made: tuple[int, Reel, list[Sweep]]) -> None:
        found = self.editing.found()
        if made[0] != self._asked or found is None or found[1] is not made[1]:  # it was asked otherwise since
            return
        self._of, self.rows, self.busy = made[1], made[2], False
        self._off = {r.id for r in self.rows if r.other}
        self.draw()
        self.changed()

    def draw(self) -> None:
        """Cross out in the loupe what would go, while the list is open."""
        self.editing.show_going([r.going for r in self.chosen() if len(r.going)] if self.open else ())

    def chosen(self) -> list[Sweep]:
        """The changes that would be made."""
        return [r for r in self.rows if r.id not in self._off]

    def lines(self) -> Sequence[Line]:
        """As `Page`."""
        return [
            Line(
                r.id,
                (r.kind.value.removesuffix("s"), r.words, f"{r.other} sounds here, {r.now}" if r.other else r.now, r.becomes),
                "",
                r.id not in self._off,
            )
            for r in self.rows
        ]

    def row(self) -> Sweep | None:
        """The change at hand."""
        found = next((r for r in self.rows if r.id == self.key), None)
        if found is None:
            self.bench.tell(NO_LINE)
        return found

    def check(self, key: str, *, on: bool) -> None:
        """Take a change in, or leave it out."""
        self._off = self._off - {key} if on else self._off | {key}
        self.draw()
        self.changed()

    def turn(self) -> None:
        """Take the change at hand in where it is left out, and the other way round."""
        row = self.row()
        if row is not None:
            self.check(row.id, on=row.id in self._off)

    def check_all(self, *, on: bool) -> None:
        """Take all in, or leave all out."""
        self._off = set() if on else {r.id for r in self.rows}
        self.draw()
        self.changed()

    def go(self) -> None:
        """As `Page`."""
        row = self.row()
        if row is not None:
            self.transport.go_to(row.span.start, look=True)

    def hear(self) -> None:
        """Hear the change at hand as if it were made."""
        row, found = self.row(), self.editing.found()
        if row is None or found is None or found[1] is not self._of:
            return
        reel, rate = edited(found[1], row.edits), self.bench.book.rate
        stop = row.span.stop - row.less
        self.transport.hear_reel(reel, max(0, row.span.start - round(LEAD_S * rate)), min(len(reel), stop + round(TAIL_S * rate)))

    def make(self) -> bool:
        """Make all changes that are taken in, in one step."""
        found, rows = self.editing.found(), swept(self.chosen())
        if found is None or found[1] is not self._of or not rows:
            self.bench.tell("There is nothing to change. Take changes in, or let the sweep look again.")
            return False
        chapter = found[0]
        edits = tuple((chapter.id, edit) for r in rows for edit in r.edits)
        mended = tuple(dict.fromkeys((chapter.id, f) for r in rows for f in r.findings))
        self.transport.stop()
        done = self.bench.do(EditReels(edits, f"Sweep: {told(rows)}", mended))
        if done:
            self.bench.report(f"Swept: {told(rows)}.")
        return done
