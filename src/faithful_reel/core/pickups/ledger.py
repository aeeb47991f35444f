"""The ledger of pickups and the call sheet that the narrator receives."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from faithful_reel.core.reel.reel import SOFT, Join, Segment


class State(StrEnum):
    """How far a pickup has come."""

    TO_SEND = "to send"
    SENT = "sent"
    IN = "in"
    CHOSEN = "chosen"
    SPLICED = "spliced"
    HEARD = "heard"
    """Spliced, and the ears heard the line as it is written."""
    PASSED = "passed"
    DROPPED = "dropped"
    """It had gone out, and is not wanted any more; its takes are kept."""


WAITING = frozenset({State.TO_SEND, State.SENT, State.IN, State.CHOSEN})
"""States in which a pickup can still receive takes, and be put in."""
READY = frozenset({State.IN, State.CHOSEN})
"""States in which it has a take that can be put in."""
DONE = frozenset({State.SPLICED, State.HEARD, State.PASSED})


_SHOWN = {State.IN: "received", State.SPLICED: "put in", State.HEARD: "put in and checked"}


def shown(state: State) -> str:
    """A state as people read it: `in` and `spliced` are words of the file."""
    return _SHOWN.get(state, state.value)


class Want(StrEnum):
    """What the narrator is to mind in a line, beside reading what is written."""

    WORDS = "words"
    EMPHASIS = "emphasis"
    NAME = "name"
    TONE = "tone"
    PACE = "pace"
    SOUND = "sound"
    """The words were right: a noise lay on them, or they were too soft or too loud."""


@dataclass(frozen=True, slots=True)
class Take:
    """One reading of a pickup's line in a pickup recording; positions in samples at the book's rate.

    `words` holds (start, stop) of every token of the line, (-1, -1) for one that was not read.  `said` are the words
    that were heard, (text, start, stop), with the one before and the one after the take, which belong to something
    else; `own` is the half-open range of those that are the take's.  `part`
    tells that it reads only some of the line, `remarks` what else is to be said against it, `clear` how far the quiet reaches
    before it and after it.  Empty in books of earlier versions.
    """

    recording: str
    start: int
    stop: int
    departures: int
    heard: str
    words: tuple[tuple[int, int], ...] = ()
    said: tuple[tuple[str, int, int], ...] = ()
    own: tuple[int, int] = (0, 0)
    part: bool = False
    remarks: tuple[str, ...] = ()
    clear: tuple[int, int] = (0, 0)


@dataclass(frozen=True, slots=True)
class Part:
    """Tokens `first` up to `stop` of a line, which are taken from one of its takes."""

    take: int
    first: int
    stop: int


@dataclass(frozen=True, slots=True)
class Placed:
    """What of a line stands in the reel from a take: its recording there, and (start, stop) of each token in it, -1 where none.

    `take` is the take's number, `lane` the number of the lane where it was put, `before` what every lane held in its place,
    `after` how what follows took over.  `ids` are those of the lanes then and `length` how long it was; none where it
    was put in before that was kept.
    """

    recording: str
    words: tuple[tuple[int, int], ...]
    take: int = -1
    lane: int = 0
    before: tuple[tuple[Segment, ...], ...] = ()
    after: Join = SOFT
    ids: tuple[str, ...] = ()
    length: int = 0


@dataclass(frozen=True, slots=True)
class Pickup:
    """One line that the narrator is to read again.

    `first_word` and `word_count` say where the line stands, `want` and `note` what is wanted beside the words as written.
    `parts` tell from which takes its words come, where from several; `round` is the last one that it went out with, `placed`
    what of it is in the reel.
    """

    id: str
    chapter: str
    findings: tuple[str, ...]
    line: str
    heard: str
    first_word: int
    word_count: int
    start: int
    stop: int
    state: State = State.TO_SEND
    takes: tuple[Take, ...] = ()
    chosen: int = -1
    note: str = ""
    want: Want = Want.WORDS
    round: int = 0
    parts: tuple[Part, ...] = ()
    placed: tuple[Placed, ...] = ()
    told: str = ""
    """What was heard wrong in it as it stands in the reel; empty where nothing was, or it was not heard yet."""

    @property
    def words(self) -> range:
        """The words of the chapter that it reads."""
        return range(self.first_word, self.first_word + self.word_count)


@dataclass(frozen=True, slots=True)
class Round:
    """Pickups that went out together: to whom, when, and by when they are to be back (ISO 8601 dates, empty where not said)."""

    number: int
    pickups: tuple[str, ...]
    sent: str = ""
    due: str = ""
    to: str = ""
    note: str = ""


@dataclass(frozen=True, slots=True)
class Unmatched:
    """A stretch of a pickup recording that fits no line, in samples at the book's rate, and what was heard in it."""

    recording: str
    start: int
    stop: int
    heard: str
