"""The quick check: doubts of the ear heard one after another, each kept or passed by a key.  No Qt."""

from __future__ import annotations

from dataclasses import dataclass

from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.settings import Settings, number, text
from faithful_reel.app.transport.presenter import Transport
from faithful_reel.app.workbench import Observed
from faithful_reel.core.book.commands import Settle
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.collate.findings import Decision, Finding, is_doubt
from faithful_reel.core.work.timeline import finding_spans

AROUND_S, MOST_AROUND_S = 0.7, 5.0
"""So much is heard before a doubt and after it, unless it is set otherwise."""
CONTEXT = 6
"""Written words that are shown on either side of a doubt."""
Key = tuple[str, str]
"""A chapter and a finding in it."""


@dataclass(frozen=True, slots=True)
class Shown:
    """The doubt at hand as it stands on its page: the words before it, itself as written and as heard, the words after it."""

    finding: Finding
    before: str
    written: str
    after: str


class QuickCheck(Observed):
    """A run through doubts.  Where it was left it goes on; what is undone comes back to be heard again."""

    def __init__(self, proof: ProofPresenter, transport: Transport, settings: Settings) -> None:
        super().__init__()
        self._proof, self._transport, self._settings = proof, transport, settings
        self.bench = proof.bench
        self.around_s = number(settings, "quick/around", AROUND_S, 0.0, MOST_AROUND_S)
        self.as_read = text(settings, "quick/order") == "as read"
        self.whole_book = text(settings, "quick/scope") == "book"
        self.running = False
        self.queue: tuple[Key, ...] = ()
        self.at = 0
        self._settled: frozenset[Key] = frozenset()
        self._heard: tuple[str, ...] = ()
        self.bench.listen(self._bench_changed)

    # --- the run --------------------------------------------------------------------------------------------------

    def start(self) -> bool:
        """Go through what is in doubt now, from where it was left; whether there is anything."""
        here = self.queue[self.at] if self.at < len(self.queue) else None
        self.queue = tuple(self._doubts())
        self.at = self.queue.index(here) if here in self.queue else 0
        self._settled = frozenset()
        self._heard = self._hearings()
        self.running = bool(self.queue)
        self._show()
        return self.running

    def stop(self) -> None:
        """Leave it for now; what was settled stays settled."""
        self.running = False
        self._transport.stop()
        self.changed()

    def _chapters(self) -> list[ChapterState]:
        """Those that the run goes through: while a chapter is being heard its findings have no names yet that stay."""
        wanted = self.bench.book.chapters if self.whole_book else (self.bench.chapter,)
        return [c for c in wanted if c is not None and c.hearing]

    def _hearings(self) -> tuple[str, ...]:
        """What the findings of the run were heard in."""
        own = {chapter for chapter, _ in self.queue}
        return tuple(c.hearing for c in self.bench.book.chapters if c.id in own)

    def _doubts(self) -> list[Key]:
        bench, off = self.bench, self._proof.off
        rows = []
        for c in self._chapters():
            doubts = [f for f in bench.findings(c) if is_doubt(f) and f.evidence.flaw not in off]
            rows += [(c.id, f) for f, span in zip(doubts, finding_spans(c, doubts), strict=True) if span is not None]
        if not self.as_read:
            rows.sort(key=lambda row: -row[1].confidence)
        return [(chapter, f.id) for chapter, f in rows]

    def set_order(self, *, as_read: bool) -> None:
        """In reading order, or the loudest doubt first."""
        self.as_read = as_read
        self._settings.setValue("quick/order", "as read" if as_read else "by doubt")
        self._anew()

    def set_scope(self, *, whole_book: bool) -> None:
        """Through all chapters, or the one at hand."""
        self.whole_book = whole_book
        self._settings.setValue("quick/scope", "book" if whole_book else "chapter")
        self._anew()

    def set_around(self, seconds: float) -> None:
        """How much is heard before a doubt and after it."""
        self.around_s = min(MOST_AROUND_S, max(0.0, seconds))
        self._settings.setValue("quick/around", self.around_s)

    def _anew(self) -> None:
        self.queue, self.at = (), 0
        if self.running:
            self.start()
        else:
            self.changed()

    # --- the doubt at hand ----------------------------------------------------------------------------------------

    def finding(self) -> Finding | None:
        """The doubt at hand; None where the run is through, or none is going on."""
        if not self.running or self.at >= len(self.queue):
            return None
        return self._found(self.queue[self.at])

    def _found(self, key: Key) -> Finding | None:
        chapter = next((c for c in self.bench.book.chapters if c.id == key[0]), None)
        return next((f for f in self.bench.findings(chapter) if f.id == key[1]), None) if chapter is not None else None

    def shown(self) -> Shown | None:
        """The doubt at hand with its words."""
        f, chapter = self.finding(), self.bench.chapter
        if f is None or chapter is None or chapter.id != self.queue[self.at][0]:
            return None
        words = [w.text for w in self.bench.text(chapter).words]
        first, stop = f.word_index, f.word_index + f.word_count
        before, after = words[max(0, first - CONTEXT) : first], words[stop : stop + CONTEXT]
        return Shown(f, " ".join(before), f.written, " ".join(after))

    def counts(self) -> tuple[int, int, int]:
        """How many of the run are kept, passed, and left."""
        found = [self._found(key) for key in self.queue]
        kept = sum(f is not None and f.kept and f.decision is Decision.OPEN for f in found)
        passed = sum(f is not None and f.decision is not Decision.OPEN for f in found)
        return kept, passed, sum(f is not None for f in found) - kept - passed

    def _is_settled(self, key: Key) -> bool:
        f = self._found(key)
        return f is None or f.kept or f.decision is not Decision.OPEN

    # --- what is done ---------------------------------------------------------------------------------------------

    def settle(self, *, kept: bool) -> bool:
        """Keep the doubt at hand as real, or pass it; the next plays at once."""
        f = self.finding()
        if f is None:
            self.bench.tell("No doubt is at hand. Start the quick check first (Shift+Q).")
            return False
        chapter = self.queue[self.at][0]
        self._settled |= {self.queue[self.at]}
        if not self.bench.do(Settle(chapter, f.id, kept)):
            self._settled -= {self.queue[self.at]}
            return False
        self.step(1)
        return True

    def step(self, by: int) -> None:
        """Go on to the next doubt that is not settled, or back to the one before, settled or not."""
        at = self.at + by
        while by > 0 and at < len(self.queue) and self._is_settled(self.queue[at]):
            at += 1
        if by > 0 and at >= len(self.queue):  # those that were left for later
            at = next((k for k, key in enumerate(self.queue) if not self._is_settled(key)), len(self.queue))
        self.at = max(0, at)
        self._show()

    def again(self) -> None:
        """Hear the doubt at hand once more."""
        f, chapter = self.finding(), self.bench.chapter
        span = finding_spans(chapter, (f,))[0] if f is not None and chapter is not None else None
        if span is None:
            self.bench.tell("This doubt is no longer heard in the reel." if f else "No doubt is at hand.")
            return
        around = round(self.around_s * self.bench.book.rate)
        self._transport.play_from(max(0, span.start - around), span.stop + around)

    def _show(self) -> None:
        f = self.finding()
        if f is None:
            self._transport.stop()
            self.changed()
            return
        self.bench.open_chapter(self.queue[self.at][0])
        self._proof.choose(f.id)
        self.changed()
        self.again()

    def _bench_changed(self) -> None:
        """What was settled and is undone comes back; where a chapter was heard meanwhile the names of its findings are others."""
        if not self.running:
            return
        if self._hearings() != self._heard:
            self._transport.stop()
            self.start()
            return
        back = [key for key in self._settled if not self._is_settled(key) and key in self.queue]
        if back:
            self._settled -= set(back)
            self.at = min(self.queue.index(key) for key in back)
            self._show()
