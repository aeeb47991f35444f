"""What happens at the Pickups desk.  No Qt."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from functools import partial
from pathlib import Path

from faithful_reel.app.workbench import Observed, Workbench
from faithful_reel.core.audio.sources import FileSources
from faithful_reel.core.book.commands import EDITION, AddRecording, BookCommand
from faithful_reel.core.book.pickups import (
    ChangePickups,
    ChooseParts,
    ChooseTake,
    DropTake,
    GiveTake,
    NotePickup,
    ReceiveTakes,
    SendRound,
)
from faithful_reel.core.book.recordings import decode, path_of
from faithful_reel.core.book.store import HEARD
from faithful_reel.core.errors import AppError
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.jobs import Watch
from faithful_reel.core.memo import Seen
from faithful_reel.core.pickups.judging import proposed
from faithful_reel.core.pickups.ledger import (
    DONE,
    READY,
    WAITING,
    Part,
    Pickup,
    Round,
    State,
    Take,
    Unmatched,
    Want,
)
from faithful_reel.core.reel.reel import Lane, Piece, Reel
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.units import samples
from faithful_reel.core.work.asking import (
    counts,
    heard_instead,
    in_reading_order,
    is_overdue,
    joined_line,
    near_lines,
    next_round,
    page_of,
    split_line,
    widened_line,
)
from faithful_reel.core.work.mending import Columns
from faithful_reel.core.work.receiving import Received, given_take, received_takes
from faithful_reel.core.work.sending import SayNumber, Sending, write_round
from faithful_reel.core.work.splicing import recording_reel, take_reel

AROUND_S, LEAD_S = 2.0, 1 / 3
FILTERS: dict[str, Callable[[Pickup], bool]] = {
    "all lines": lambda _: True,
    "to send": lambda p: p.state is State.TO_SEND,
    "out": lambda p: p.state is State.SENT,
    "to put in": lambda p: p.state in READY,
    "put in": lambda p: p.state in DONE and p.state is not State.PASSED,
    "passed": lambda p: p.state is State.PASSED,
    "dropped": lambda p: p.state is State.DROPPED,
}
OVERDUE = "overdue"
BY_ROUND, BY_CHAPTER, BY_STATE = "by round", "by chapter", "by how far it is"
ORDERS = (BY_ROUND, BY_CHAPTER, BY_STATE)
Group = tuple[str, list[Pickup]]


class PickupsPresenter(Observed):
    """The ledger: asking, sending, receiving, choosing."""

    def __init__(self, bench: Workbench, today: Callable[[], date] = date.today) -> None:
        super().__init__()
        self.bench, self.today = bench, today
        self.current = ""
        self.chosen: tuple[str, ...] = ()
        """Lines that are chosen together."""
        self.take_at = 0
        """Which take of the line at hand the keys are on."""
        self.only, self.of_chapter, self.search, self.order = "all lines", "", "", BY_ROUND
        self.shows: Callable[[int], None] | None = None
        self._shown = Seen()
        self.say_number: SayNumber | None = None

    # --- lines ----------------------------------------------------------------------------------------------------

    def rows(self) -> list[Pickup]:
        """All pickups in reading order of the book."""
        return in_reading_order(self.bench.book)

    def shown(self) -> list[Pickup]:
        """The pickups that the search and the filters leave, in reading order."""
        wanted = self.search.casefold().split()
        book, today = self.bench.book, self.today()

        def fits(p: Pickup) -> bool:
            if self.of_chapter and p.chapter != self.of_chapter:
                return False
            if self.only == OVERDUE and not is_overdue(book, p, today):
                return False
            if self.only in FILTERS and not FILTERS[self.only](p):
                return False
            text = f"{p.line} {p.heard} {p.note} {p.state.value} {p.want.value}".casefold()
            return all(w in text for w in wanted)

        return [p for p in self.rows() if fits(p)]

    def groups(self) -> list[Group]:
        """The lines that are shown, by what they are in order of: with how many there are, and how far those are."""
        shown, book = self.shown(), self.bench.book
        if self.order == BY_CHAPTER:
            mine = {c: [p for p in shown if p.chapter == c.id] for c in book.chapters}
            return [(f"{c.title.split(':')[0]} · {self._counted(rows)}", rows) for c, rows in mine.items() if rows]
        if self.order == BY_STATE:
            states = {s: [p for p in shown if p.state is s] for s in State}
            return [(f"{s.value} · {len(rows)}", rows) for s, rows in states.items() if rows]
        rounds = {r.number: r for r in book.rounds}
        numbers = sorted({p.round for p in shown}, key=lambda n: (n != 0, n))
        by_round = [(n, [p for p in shown if p.round == n]) for n in numbers]
        return [(self._round_title(rounds.get(n), rows, n), rows) for n, rows in by_round]

    def _round_title(self, found: Round | None, lines: list[Pickup], number: int) -> str:
        if found is None:
            return "Never sent" if not number else f"Round {number}"
        back = sum(p.state not in (State.TO_SEND, State.SENT) for p in lines)
        parts = [f"Round {number}"]
        parts += [f"sent {found.sent}"] if found.sent else []
        parts += [f"to {found.to}"] if found.to else []
        parts += [f"due {found.due}"] if found.due else []
        return " · ".join([*parts, f"{back} of {len(lines)} back"])

    def counted(self) -> str:
        """How many lines are how far, of those of the chapter that is shown, else of the book."""
        return self._counted([p for p in self.rows() if self.of_chapter in ("", p.chapter)])

    def _counted(self, lines: list[Pickup]) -> str:
        return counts(self.bench.book, lines, self.today()).in_words()

    def where(self, pickup: Pickup) -> str:
        """Chapter, page and time of a line, and with which round it went out, when, to whom and until when."""
        book = self.bench.book
        chapter = book.chapter(pickup.chapter)
        page = page_of(self.bench.text(chapter), pickup)
        parts = [chapter.title.split(":")[0], f"page {page}" if page else "", self.bench.time(pickup.start, 0)]
        if sent := next((r for r in book.rounds if r.number == pickup.round), None):
            told = (("sent", sent.sent), ("to", sent.to), ("due", sent.due))
            parts.append(" ".join([f"round {sent.number}", *(f"{word} {value}" for word, value in told if value)]))
        return " · ".join(filter(None, parts))

    def overdue(self, pickup: Pickup) -> bool:
        """Whether a line should have come back."""
        return is_overdue(self.bench.book, pickup, self.today())

    def pickup(self) -> Pickup | None:
        """The pickup at hand."""
        return next((p for p in self.bench.book.pickups if p.id == self.current), None)

    def choose(self, pickup_id: str, others: tuple[str, ...] = ()) -> None:
        """Take a pickup in hand, and others chosen with it."""
        if (pickup_id, others) == (self.current, self.chosen):
            return
        pickup = next((p for p in self.bench.book.pickups if p.id == pickup_id), None)
        if pickup is not None and pickup_id != self.current:
            self.take_up(pickup)
        self.current, self.chosen = pickup_id, others
        self.changed()

    def take_up(self, pickup: Pickup) -> None:
        """Begin with a line: the keys are on the take that is chosen."""
        self.current, self.take_at = pickup.id, max(0, pickup.chosen)

    def at_hand(self) -> tuple[str, ...]:
        """The lines that are chosen, else the one at hand."""
        known = {p.id for p in self.bench.book.pickups}
        chosen = tuple(n for n in self.chosen if n in known)
        return chosen or ((self.current,) if self.current in known else ())

    def show_line(self) -> None:
        """Bring the line at hand into the close view, once."""
        pickup = self.pickup()
        if pickup is None or self.shows is None or not self._shown.changed(pickup.id):
            return
        chapter = self.bench.book.chapter(pickup.chapter)
        if self.bench.hearing(chapter) is None:
            return
        self.bench.open_chapter(pickup.chapter)
        own = [t for t in self.bench.tokens(chapter) if t.word in pickup.words and t.start >= 0]
        if own:
            self.shows(own[0].start)

    # --- asking ---------------------------------------------------------------------------------------------------

    def _do(self, make: Callable[[], BookCommand]) -> bool:
        try:
            command = make()
        except AppError as problem:
            self.bench.warn(str(problem))
            return False
        return self.bench.do(command)

    def drop(self) -> bool:
        """The chosen lines are not wanted any more."""
        return self._do(lambda: ChangePickups(self.at_hand(), state=State.DROPPED))

    def ask_again(self) -> bool:
        """The chosen lines are to be sent again."""
        return self._do(lambda: ChangePickups(self.at_hand(), state=State.TO_SEND))

    def want(self, want: Want) -> bool:
        """Say what is wanted of the chosen lines."""
        mine = [p for p in self.bench.book.pickups if p.id in self.at_hand()]
        if all(p.want is want for p in mine):
            return False
        return self._do(lambda: ChangePickups(self.at_hand(), want=want))

    def note(self, text: str) -> bool:
        """Write what the narrator is to mind beside the words of the chosen lines."""
        pickup = self.pickup()
        if pickup is None or (len(self.at_hand()) == 1 and text.strip() == pickup.note):
            return False
        if len(self.at_hand()) > 1:
            return self._do(lambda: ChangePickups(self.at_hand(), note=text))
        return self.bench.do(NotePickup(pickup.id, text))

    def join(self) -> bool:
        """Read the chosen lines in one go; where one is chosen, those that are near it."""
        names = self.at_hand()
        if len(names) == 1:
            names = next((tuple(p.id for p in g) for g in near_lines(self.bench.book) if names[0] in [p.id for p in g]), names)
        mine = [p for p in self.bench.book.pickups if p.id in names]
        if not mine:
            self.bench.tell("No line is at hand.")
            return False
        text = self.bench.text(self.bench.book.chapter(mine[0].chapter))
        if self._do(lambda: joined_line(text, mine)):
            self.choose(min(mine, key=lambda p: p.first_word).id)
            return True
        return False

    def widen(self) -> bool:
        """Have the whole sentence of the line at hand read, or the one before it as well."""
        pickup = self.pickup()
        if pickup is None:
            self.bench.tell("No line is at hand.")
            return False
        text = self.bench.text(self.bench.book.chapter(pickup.chapter))
        return self._do(lambda: widened_line(text, pickup))

    def heard(self, pickup: Pickup) -> str:
        """What was heard in the place of a line's words."""
        return heard_instead(self.bench.book.chapter(pickup.chapter), pickup)

    def split(self) -> bool:
        """Read the line at hand as one line a sentence."""
        pickup = self.pickup()
        if pickup is None:
            self.bench.tell("No line is at hand.")
            return False
        chapter = self.bench.book.chapter(pickup.chapter)
        return self._do(lambda: split_line(chapter, self.bench.text(chapter), pickup))

    def next_round(self, due: str = "", to: str = "", note: str = "") -> SendRound | None:
        """The round that would go out now; None, and why, where there is nothing to send."""
        try:
            return next_round(self.bench.book, sent=self.today().isoformat(), due=due, to=to, note=note)
        except AppError as problem:
            self.bench.warn(str(problem))
            return None

    def send(self, path: Path, sending: Sending | None = None, due: str = "", to: str = "", note: str = "") -> bool:
        """Write the call sheet of the next round, with its clips, and send it once that is done."""
        command = self.next_round(due, to, note)
        if command is None:
            return False
        bench, book = self.bench, self.bench.book
        chapters = {p.chapter: book.chapter(p.chapter) for p in book.pickups if p.id in command.round.pickups}
        texts = {name: bench.text(c) for name, c in chapters.items()}
        hearings = {name: bench.hearing(c) for name, c in chapters.items()}
        paths = {r.hash: bench.path_of(r.hash) for r in book.recordings}

        def write(watch: Watch) -> tuple[SendRound, str]:
            files = FileSources(paths.__getitem__)
            try:
                write_round(
                    path, book, command.round, lambda c: texts[c.id], lambda c: hearings[c.id],
                    lambda reel: Renderer(reel, files), sending, watch, self.say_number,
                )  # fmt: skip
            finally:
                files.close()
            return command, path.name

        bench.jobs.start(f"Write round {command.round.number}", write, done=self._written, stopped=bench.stopped)
        return True

    def _written(self, made: tuple[SendRound, str]) -> None:
        command, name = made
        if self.bench.do(command):
            count = len(command.round.pickups)
            self.bench.report(f"Round {command.round.number} with {count} {'line' if count == 1 else 'lines'} is in {name}.")

    # --- receiving ------------------------------------------------------------------------------------------------

    def receive(self, path: Path) -> None:
        """Take in a pickup recording and find which stretch reads which line."""
        waiting = [p for p in self.rows() if p.state in WAITING]
        if not waiting:
            self.bench.tell("No pickup is waiting for a take. Decide findings as pickups at the Proof desk first.")
            return
        self._sort(path, waiting, done=self.received, stopped=self.bench.stopped)

    def receive_own(
        self, path: Path, pickup: Pickup, done: Callable[[Received], None], stopped: Callable[[BaseException], None]
    ) -> None:
        """Take in what was recorded for one line."""
        self._sort(path, [pickup], done=done, stopped=stopped)

    def _sort(
        self,
        path: Path,
        waiting: list[Pickup],
        *,
        done: Callable[[Received], None],
        stopped: Callable[[BaseException], None],
    ) -> None:
        folder, book, ears = self.bench.session.store.folder, self.bench.book, self.bench.ears

        def job(watch: Watch) -> Received:
            with Memory(folder / HEARD) as memory:
                every = partial(ears.all, book.language)
                return received_takes(folder, book, path, waiting, every, watch, memory)

        self.bench.jobs.start(f"Sort {path.name}", job, done=done, stopped=stopped)

    def received(self, found: Received) -> None:
        """Bring what was found in a pickup recording into the ledger."""
        recording = found.recording
        if any(r.hash == recording.hash for r in self.bench.book.recordings):
            self.bench.tell(f"{recording.name} is in the book already: only takes that were not found before come to the ledger.")
        elif not self.bench.do(AddRecording(recording)):
            return
        if not found.matched:
            kept = len(found.left)
            told = (
                "Its stretch is" if kept == 1 else f"Its {kept} stretches are" if kept else "It is kept in the book; nothing is"
            )
            self.bench.tell(f"None of the waiting lines was heard in {recording.name}. {told} among what fits no line.")
        there = {p.id for p in self.bench.book.pickups}
        left = tuple(Unmatched(recording.hash, u.start, u.stop, u.heard) for u in found.left)
        self.bench.do(ReceiveTakes(recording.hash, tuple(row for row in found.matched if row[0] in there), EDITION, left))

    @property
    def unmatched(self) -> tuple[Unmatched, ...]:
        """Stretches of pickup recordings that fit no line."""
        return self.bench.book.unmatched

    def give(self, number: int) -> bool:
        """Give a stretch that fits no line to the line at hand, as a take, once its words are found in it."""
        pickup = self.pickup()
        if pickup is None or not 0 <= number < len(self.unmatched):
            self.bench.tell("Choose a line, and a stretch that fits none.")
            return False
        left, bench, ears = self.unmatched[number], self.bench, self.bench.ears
        folder, book, name = bench.session.store.folder, bench.book, pickup.id
        recording = book.recording(left.recording)

        def job(watch: Watch) -> Take:
            decode(folder, book, recording)
            sound = path_of(folder, recording, book.rate)
            with Memory(folder / HEARD) as memory:
                return given_take(sound, book.rate, pickup.line, left, ears.all(book.language), watch, memory)

        def done(take: Take) -> None:
            if left in self.unmatched:
                bench.do(GiveTake(name, take))
            else:
                bench.tell("This stretch has gone to a line already.")

        bench.jobs.start("Find the words in it", job, done=done, stopped=bench.stopped)
        return True

    def unmatched_reel(self, number: int) -> Reel | None:
        """A stretch that fits no line, with a little around it."""
        if not 0 <= number < len(self.unmatched):
            return None
        u, lead = self.unmatched[number], samples(LEAD_S, self.bench.book.rate)
        return Reel((Lane("stretch", (Piece(u.recording, max(0, u.start - lead), u.stop + lead),)),))

    # --- takes ----------------------------------------------------------------------------------------------------

    def original(self) -> Reel | None:
        """The line at hand as the chapter's recording has it, with a little around it."""
        pickup = self.pickup()
        if pickup is None:
            self.bench.tell("No line is at hand. Decide a finding as Pickup first.")
            return None
        recording, rate = self.bench.book.chapter(pickup.chapter).recording, self.bench.book.rate
        around = samples(AROUND_S, rate)
        return Reel((Lane("original", (Piece(recording, max(0, pickup.start - around), pickup.stop + around),)),))

    def take_reel(self, number: int) -> Reel | None:
        """A take of the line at hand, with a little around it; None where there is none of that number."""
        pickup = self.pickup()
        if pickup is None or not 0 <= number < len(pickup.takes):
            self.bench.tell("This line has no take yet. Receive a pickup recording first.")
            return None
        take, lead = pickup.takes[number], samples(LEAD_S, self.bench.book.rate)
        return Reel((Lane("take", (Piece(take.recording, max(0, take.start - lead), take.stop + lead),)),))

    def choose_take(self, take: int) -> bool:
        """Choose a take of the pickup at hand."""
        pickup = self.pickup()
        return pickup is not None and self.bench.do(ChooseTake(pickup.id, take))

    def drop_take(self, take: int) -> bool:
        """A take does not read this line."""
        pickup = self.pickup()
        return pickup is not None and self.bench.do(DropTake(pickup.id, take))

    def owners(self, pickup: Pickup) -> list[int]:
        """Which take each token of a line comes from; -1 where none is chosen."""
        count = pickup.word_count
        if not pickup.parts:
            return [pickup.chosen] * count
        found = [-1] * count
        for part in pickup.parts:
            found[part.first : part.stop] = [part.take] * (part.stop - part.first)
        return found

    def from_here(self, word: int, take: int) -> bool:
        """Take the words of a line from one of its takes from a word on."""
        pickup = self.pickup()
        if pickup is None or not 0 <= take < len(pickup.takes) or not 0 <= word < pickup.word_count:
            self.bench.tell("Choose a word in one of the takes first.")
            return False
        owners = [*self.owners(pickup)[:word], *([take] * (pickup.word_count - word))]
        if len(set(owners)) == 1:
            return self.bench.do(ChooseTake(pickup.id, take))
        parts: list[Part] = []
        for k, owner in enumerate(owners):
            if parts and parts[-1].take == owner:
                parts[-1] = Part(owner, parts[-1].first, k + 1)
            else:
                parts.append(Part(owner, k, k + 1))
        return self.bench.do(ChooseParts(pickup.id, tuple(parts)))

    def why(self, pickup: Pickup) -> str:
        """Why a take is proposed."""
        return proposed(pickup.takes)[1]

    def strips(self, pickup: Pickup) -> list[tuple[tuple[tuple[int, int] | None, ...], Columns]]:
        """Where the words of a line are in the original and in every take, and what each looks like."""
        chapter = self.bench.book.chapter(pickup.chapter)
        hearing = self.bench.hearing(chapter)
        placed = hearing.placed[pickup.first_word : pickup.words.stop] if hearing else ()
        rows: list[tuple[tuple[tuple[int, int] | None, ...], Columns]] = []
        if chapter.recording and placed:
            own = tuple((p.start, p.stop) if p else None for p in placed)
            rows.append((own, self.bench.columns(recording_reel(self.bench.book, chapter.recording))))
        for take in pickup.takes:
            theirs = tuple((a, b) if a >= 0 else None for a, b in take.words)
            rows.append((theirs, self.bench.columns(take_reel(self.bench.book, take))))
        return rows
