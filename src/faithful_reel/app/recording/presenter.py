"""A line at the microphone: its takes go into the ledger, and the best of them may be put in at once.  No Qt."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from faithful_reel.app.pickups.presenter import PickupsPresenter
from faithful_reel.app.recording.microphone import Microphone
from faithful_reel.app.recording.recorder import Keeping, Recorder, Wanted
from faithful_reel.app.settings import Settings
from faithful_reel.app.splice.presenter import SplicePresenter
from faithful_reel.app.transport.presenter import Transport
from faithful_reel.core.book.pickups import ChooseTake
from faithful_reel.core.pickups.ledger import DONE, Pickup, Take, Want
from faithful_reel.core.work.asking import asked_by_hand, heard_instead, sentence_before, words_to_mind
from faithful_reel.core.work.receiving import Received
from faithful_reel.core.work.timeline import span_of

WORD_S = 0.45
"""How long a word takes (own choice)."""


class RecordPresenter(Recorder):
    """Records a line, again and again, until a take is kept."""

    title = "Record a line"

    def __init__(
        self,
        pickups: PickupsPresenter,
        splice: SplicePresenter,
        transport: Transport,
        microphone: Callable[[], Microphone],
        settings: Settings,
    ) -> None:
        super().__init__(pickups.bench, transport, microphone, settings)
        self.pickups, self.splice = pickups, splice

    def pickup(self) -> Pickup | None:
        """The line at hand."""
        return self.pickups.pickup()

    def begin_words(self, words: range) -> bool:
        """Take the whole sentences that some words of the chapter at hand stand in to the microphone."""
        chapter = self.bench.chapter
        if chapter is None or not words:
            self.tell("Choose the words that are to be recorded first.")
            return False
        asked = asked_by_hand(
            self.bench.book, chapter, self.bench.text(chapter), self.bench.tokens(chapter), words, "recorded at the desk"
        )
        line = asked.pickups[0]
        there = next((p for p in self.bench.book.pickups if (p.chapter, p.words) == (line.chapter, line.words)), None)
        if there is None and not self.bench.do(asked):
            return False
        self.pickups.choose((there or line).id)
        return self.begin()

    def _of_ledger(self) -> Pickup | None:
        pickup = self.pickup()
        if pickup is None:
            self.tell("No line is at hand to be recorded. Choose one at the Pickups desk.")
        elif pickup.state in DONE:
            self.tell("The take of this line is in. Take it out first.")
            return None
        return pickup

    def wanted(self) -> Wanted | None:
        """As `Recorder`."""
        pickup = self._of_ledger()
        if pickup is None:
            return None
        chapter, words = self.bench.book.chapter(pickup.chapter), pickup.words
        span = span_of(self.bench.tokens(chapter), words.start, words.stop - 1) if self.bench.hearing(chapter) else None
        usual_s = max(1.0, WORD_S * len(pickup.line.split()))
        return Wanted(pickup.id, pickup.line, usual_s, chapter.reel, span.start if span is not None else None)

    def line(self) -> str:
        """As `Recorder`."""
        pickup = self.pickup()
        return pickup.line if pickup is not None else ""

    def to_mind(self) -> frozenset[int]:
        """As `Recorder`."""
        pickup = self.pickup()
        return words_to_mind(self.bench.book.chapter(pickup.chapter), pickup) if pickup is not None else frozenset()

    def before(self) -> str:
        """As `Recorder`: the sentence before the line."""
        pickup = self.pickup()
        return sentence_before(self.bench.text(self.bench.book.chapter(pickup.chapter)), pickup) if pickup is not None else ""

    def about(self) -> str:
        """As `Recorder`."""
        pickup = self.pickup()
        if pickup is None:
            return ""
        parts = [self.bench.book.chapter(pickup.chapter).title]
        parts += [f"heard “{said}”"] if (said := heard_instead(self.bench.book.chapter(pickup.chapter), pickup)) else []
        parts += [pickup.want.value] if pickup.want is not Want.WORDS else []
        return " · ".join([*parts, *filter(None, [pickup.note])])

    def keepings(self) -> Sequence[Keeping]:
        """As `Recorder`."""
        return (
            Keeping(
                "Keep the takes",
                "The takes go into the ledger at this line, judged as those of any recording",
                lambda _take: self.keep(),
            ),
            Keeping(
                "Keep and put in",
                "As Keep the takes; then the best of them is put in at once",
                lambda _take: self.keep(splice=True),
            ),
        )

    def keep(self, *, splice: bool = False) -> bool:
        """Take what was recorded into the book as takes of the line; with `splice` put the best of it in as well."""
        pickup = self._of_ledger()
        held = self._held() if pickup is not None else None
        if pickup is None or held is None:
            return False
        kept, path = held

        def came(found: Received) -> None:
            self.pickups.received(found)
            if any(r.hash == found.recording.hash for r in self.bench.book.recordings):
                self._let_go(kept)
            new = next((row for row in found.matched if row[0] == pickup.id), None)
            if new is None:
                self.bench.tell("The line was not heard in what was recorded. It stands under what fits no line.")
            elif splice:
                self._put_in(pickup.id, new[1][new[2]])

        def stopped(why: BaseException) -> None:
            self._give_back(pickup.id, kept)
            self.bench.stopped(why)

        self.pickups.receive_own(path, pickup, came, stopped)
        return True

    def _put_in(self, name: str, take: Take) -> None:
        """Use a take that came in, whatever was chosen before, and put it in."""
        pickup = self.bench.book.pickup(name)
        number = next((k for k, t in enumerate(pickup.takes) if (t.recording, t.start) == (take.recording, take.start)), -1)
        if number < 0 or (pickup.chosen != number and not self.bench.do(ChooseTake(name, number))):
            return
        self.splice.place_soon(name)
