"""Findings of somebody else: a proof-listener's list, each line placed by its words and time, doubles joined with what is known.

Own rules all: what a list's columns are called, how near a time must be, when a place is sure.
"""

from __future__ import annotations

import re
from bisect import bisect_left
from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

from faithful_reel.core.book.commands import TakeFindings
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.findings import READING, Evidence, Finding, Kind
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import shown
from faithful_reel.core.jobs import Watch
from faithful_reel.core.text.spoken import plain, sound_key
from faithful_reel.core.text.tables import Table
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.times import time_of
from faithful_reel.core.units import Span, samples
from faithful_reel.core.work.deciding import noted_at
from faithful_reel.core.work.elsewhere import Read
from faithful_reel.core.work.timeline import Tokens, finding_spans, tokens_of

COLUMNS: dict[str, str] = {
    "chapter": "chapter|chap|ch|file|file name|filename|track|section|audio file|chapter file|part",
    "page": "page|pg|p|pp|page number|page no|ms page|pdf page|script page",
    "time": "time|timecode|time code|time stamp|timestamp|tc|at|position|start|start time|time in|in|audio time",
    "written": "as written|written|text|script|manuscript|manuscript text|as printed|printed|should be|should read|correct|"
    "correct text|expected|original|original text|script text|reads in script|as scripted",
    "heard": "as heard|heard|as read|read|said|as said|spoken|as spoken|narrator said|what was read|what was said|recorded|"
    "as recorded|misread|is read as|audio",
    "remark": "remark|remarks|note|notes|comment|comments|issue|issues|description|problem|reason|details|error|correction|"
    "what is wrong|instruction|instructions",
    "kind": "kind|type|category|error type|type of error|class|kind of error|issue type",
    "who": "who|by|said by|listener|proofer|proof listener|prooflistener|proofreader|initials|from|found by|reported by",
    "line": "the line|line|sentence|context|full line|full sentence|read this line",
}
"""What the columns of lists are called (common practice), by what they hold."""
_NAMES = {name: column for column, names in COLUMNS.items() for name in names.split("|")}
_HEADING = re.compile(
    r"(chapter|chap\.?|part|track)\s+\w.{0,80}$|(prologue|epilogue|introduction|(opening|closing) credits)\b.{0,40}$"
)
_NUMBERED_HEADING = re.compile(
    r"(chapter|chap\.?|part|track)\s+(\d{1,3}|[ivxlc]+|one|two|three|four|five|six|seven|eight|nine|ten|eleven|twelve|\w+teen|"
    r"(twenty|thirty|forty|fifty)([- ]\w+)?)\b.{0,40}$|(prologue|epilogue)$"
)
NUMBERED = frozenset({"chapter", "chap", "ch", "track", "file", "part", "section"})
"""What a chapter's number is called by."""
TELLING = frozenset({"written", "heard", "remark", "line"})
HEAD_ROWS = 12
"""The row that names the columns stands among so many."""
NEAR_S, FAR_S, HERE_S = 8.0, 90.0, 2.0
"""So far a time may be from words that it tells of; so far where a chapter was edited since; so near that it is this one."""
APART_S = 3.0
"""Of two places that a time may mean the nearer one is meant where it is nearer by so much."""
FEW_WORDS = 4
"""So many words that stand in one place of the book only are that place."""
DISTINCT = 3
"""Lines of so many words that stand in one place tell how far the list's times are off."""
MOST_SPOTS = 40
LIKE = 0.6
SOUND_S = 0.5
"""How long a finding is that only has a time."""
_DOTS = re.compile(r"\.\.\.|…")
LEFT_OUT = frozenset({"missing", "omitted", "[missing]", "(missing)", "not read"})
NOTHING = frozenset({"", "-", "–", "—", "n/a", "none", "nothing"}) | LEFT_OUT
"""What is written in a cell where nothing is to be said, or was not."""
_HOW = (
    (Kind.NAME, r"pronounc|pronunc|\bname\b"),
    (Kind.REPEATED, r"repeat|twice|double read|stutter"),
    (Kind.FALSE_START, r"false start|restart"),
)
_KINDS = (
    (Kind.PAUSE, r"\bpauses?\b|\bgap\b|pacing"),
    (Kind.LEVEL, r"\blevel\b|volume|too loud|too soft|too quiet"),
    (Kind.NOISE, r"noise|\bclicks?\b|\bpops?\b|plosive|breath|mouth|bump|rustl|\bhum\b|sibilan|page turn|\bclip"),
    *_HOW,
    (Kind.SKIPPED, r"skip|missing|omit|left out|dropped"),
    (Kind.ADDED, r"\badd|extra|insert"),
    (Kind.MISREAD, r"misread|mis-read|wrong word|substitut|reads? as"),
)
"""What lists call the kinds; of words that are given both as written and as heard a remark only says how they part."""


@dataclass(frozen=True, slots=True)
class Said:
    """One line of a list as it stands there: its number in the file, counted from 1, and what its columns say."""

    number: int
    chapter: str = ""
    page: str = ""
    time: str = ""
    written: str = ""
    heard: str = ""
    remark: str = ""
    kind: str = ""
    who: str = ""
    line: str = ""
    ditto: bool = False
    """Whether its chapter is that of a line before it."""


@dataclass(frozen=True, slots=True)
class Spot:
    """A place that a line may mean: written words of a chapter, `start` and `stop` where they are heard in its reel.

    `off_s` is how far the line's time is from it, None where it tells none; `double` the finding that says the same there.
    """

    chapter: str
    first: int
    count: int
    start: int
    stop: int
    off_s: float | None = None
    double: str = ""


@dataclass(frozen=True, slots=True)
class Placed:
    """A line, the places that it may mean, the likeliest first, and whether the first is meant for sure; `why` tells it."""

    said: Said
    spots: tuple[Spot, ...]
    sure: bool
    why: str


# --- what stands in the list ------------------------------------------------------------------------------------------


def lines_of(tables: Sequence[Table], path: Path) -> list[Said]:
    """The lines of a list, whatever the order of its columns; the chapter of a line that names none is that of the line before.

    A table that names no columns goes on with those of the table before it; what can not be told apart so is a remark, since no
    line is left out.  Rows over the one that names the columns are a title.

    Raises
    ------
    FileProblem
        No row names columns that tell what is wrong.
    """
    heads = [next(((k, own) for k, row in enumerate(t[:HEAD_ROWS]) if (own := _heads(row))), None) for t in tables]
    if not any(heads):
        raise FileProblem(
            f"{shown(path)} has no row that names its columns. Name them, in any order, for example: "
            "chapter, page, time, as written, as heard, remark."
        )
    found: list[Said] = []
    number, width = 0, 0
    before: dict[str, int] = {}
    for table, named in zip(tables, heads, strict=True):
        columns = named[1] if named else before if len(table[0]) == width else {}
        first = named[0] + 1 if named else 0
        chapter = ""
        for k, row in enumerate(table):
            number += 1
            if k < first:
                continue
            if _names_a_chapter(row, columns):
                chapter = row[0]
                continue
            said = _said(number, row, columns)
            ditto = not said.chapter and bool(chapter)
            chapter = said.chapter or chapter
            if said.written or said.heard or said.remark or said.time or said.line or said.kind:
                found.append(replace(said, chapter=chapter, ditto=ditto))
        if named:
            before, width = named[1], len(table[0])
    return found


def _names_a_chapter(row: Sequence[str], columns: dict[str, int]) -> bool:
    """Whether a row is a line across the table that names a chapter: one cell alone, or the same in all of them."""
    merged = len(row) > 1 and row.count(row[0]) == len(row)
    if not merged and any(row[1:]):
        return False
    first = next((column for column, at in columns.items() if at == 0), "")
    heading = _NUMBERED_HEADING if first in TELLING and not merged else _HEADING
    return first != "remark" and bool(heading.match(row[0].casefold()))


def _said(number: int, row: Sequence[str], columns: dict[str, int]) -> Said:
    if not columns:
        return Said(number, remark=" | ".join(filter(None, row)))
    told: dict[str, Any] = {column: row[at] for column, at in columns.items() if at < len(row)}
    if told.get("heard", "").casefold() in LEFT_OUT and not told.get("kind"):
        told["kind"] = "skipped"
    told |= {column: "" for column, text in told.items() if text.casefold() in NOTHING}
    return Said(number, **told)


def _heads(row: Sequence[str]) -> dict[str, int]:
    """Where which column is, where a row names some that tell of findings; empty where it does not."""
    found: dict[str, int] = {}
    for at, cell in enumerate(row):
        name = _NAMES.get(re.sub(r"[^a-z ]+", " ", cell.casefold()).strip())
        if name is not None and name not in found:
            found[name] = at
    return found if len(found) > 1 and TELLING & found.keys() else {}


def kind_of(said: Said) -> Kind:
    """What a line tells of: by its own word for it, else by its remark, else by which of its words are given."""
    both = bool(said.written and said.heard)
    for text, known in ((said.kind, _KINDS), (said.remark, _HOW if both else _KINDS)):
        for kind, pattern in known:
            if text and re.search(pattern, text.casefold()):
                return kind
    if both:
        lead, trail = _alike(said)
        written, heard = len(_words(said.written)) - lead - trail, len(_words(said.heard)) - lead - trail
        return Kind.SKIPPED if heard <= 0 < written else Kind.ADDED if written <= 0 < heard else Kind.MISREAD
    return Kind.ADDED if said.heard else Kind.OTHER


def _alike(said: Said) -> tuple[int, int]:
    """How many of the first, and of the last, words of a line are the same as written and as heard."""
    written, heard = _words(said.written), _words(said.heard)
    least = min(len(written), len(heard))
    if written == heard:
        return 0, 0
    lead = next((k for k in range(least) if written[k] != heard[k]), least)
    trail = next((k for k in range(least - lead) if written[-1 - k] != heard[-1 - k]), least - lead)
    return lead, trail


def seconds_of(said: Said, rate: int, length: int) -> float | None:
    """The time of a line in seconds: of a stretch its beginning; None where it has none.

    A spreadsheet takes minutes and seconds for hours and minutes: what would be after the end of `length` samples is read so.
    """
    text = re.split(r"\s*(?:–|—|-|to)\s*", said.time.strip(), maxsplit=1)[0]
    text = re.sub(r"(\d)\s*h(?:ou)?(?:rs?)?\s*", r"\1:", text.casefold())
    text = re.sub(r"(\d)\s*m(?:in\w*)?\.?\s*(?=\d)", r"\1:", text)
    text = re.sub(r"(\d)\s*m(?:in\w*)?\.?$", r"\1:00", text)
    text = re.sub(r"(\d)\s*s(?:ec\w*)?\.?$", r"\1", text).strip(" :")
    at = time_of(text, rate) if text else None
    if at is None:
        return None
    hours = re.fullmatch(r"(\d{1,3}):(\d\d):00", text)
    if at > length > 0 and hours:
        return 60.0 * int(hours[1]) + int(hours[2])
    if at > length > 0 and text.isdecimal() and int(text) <= length:  # a list that counts samples
        return int(text) / rate
    return at / rate


# --- where it is ------------------------------------------------------------------------------------------------------


@dataclass
class _Text:
    """What is known of a chapter: its words as they are compared, where they are heard, and its findings."""

    chapter: ChapterState
    text: Chapter
    tokens: Tokens
    heard: bool
    words: list[str] = field(default_factory=list)
    at: dict[str, list[int]] = field(default_factory=lambda: defaultdict(list))
    starts: list[int] = field(default_factory=list)
    stops: list[int] = field(default_factory=list)
    told: dict[int, list[Finding]] = field(default_factory=lambda: defaultdict(list))
    shifts: list[tuple[float, float]] = field(default_factory=list)
    """Of lines whose words stand in one place: their times, and how far from them these words are now, in seconds."""

    def __post_init__(self) -> None:
        """Work out what is looked up."""
        self.words = [sound_key(plain(w.text)) for w in self.text.words]
        for k, word in enumerate(self.words):
            self.at[word].append(k)
        self.starts, self.stops = [-1] * len(self.words), [-1] * len(self.words)
        for t in self.tokens:
            if t.word >= 0:
                self.starts[t.word], self.stops[t.word] = t.start, t.stop
        for f in self.chapter.findings:
            for k in range(f.word_index, f.word_index + max(1, f.word_count)):
                self.told[k].append(f)

    @property
    def length(self) -> int:
        """Samples of its reel."""
        return len(self.chapter.reel) if self.chapter.reel is not None else 0

    def seconds(self, said: Said, rate: int) -> tuple[float | None, bool]:
        """Where a line's time is in the reel as it stands, and whether that can be relied on.

        A chapter that was edited since has moved: lines whose words stand in one place tell by how much.  Between two that
        agree a time is right.
        """
        told = seconds_of(said, rate, self.length)
        if told is None or not self.shifts:
            return told, False
        self.shifts.sort()
        after = bisect_left(self.shifts, (told, -1e9))
        beside = self.shifts[max(0, after - 1) : after + 1]
        nearest = min(beside, key=lambda row: abs(row[0] - told))
        agree = len(beside) == 2 and abs(beside[0][1] - beside[1][1]) <= HERE_S
        moved = sum(off for _, off in beside) / 2 if agree else nearest[1]
        return max(0.0, told + moved), agree

    def span(self, first: int, count: int) -> Span:
        """Where words are heard; those that are not stand between what is heard before and after them."""
        inside = [k for k in range(first, first + count) if self.starts[k] >= 0]
        if inside:
            return Span(min(self.starts[k] for k in inside), max(self.stops[k] for k in inside))
        before = next((self.stops[k] for k in range(first - 1, -1, -1) if self.stops[k] >= 0), 0)
        after = next((self.starts[k] for k in range(first + count, len(self.starts)) if self.starts[k] >= 0), before)
        return Span(before, max(before, after))

    def word_at(self, position: int) -> int:
        """The word that is heard at a position or after it."""
        heard = [(start, k) for k, start in enumerate(self.starts) if start >= 0]
        if not heard:
            return 0
        index = bisect_left(heard, (position, -1))
        before = heard[index - 1][1] if index and self.stops[heard[index - 1][1]] > position else -1
        return before if before >= 0 else heard[min(index, len(heard) - 1)][1]

    def places(self, wanted: Sequence[str]) -> list[tuple[int, int]]:
        """Where words stand just so, (first, count)."""
        n = len(wanted)
        return [(k, n) for k in self.at.get(wanted[0], ()) if tuple(self.words[k : k + n]) == tuple(wanted)] if n else []

    def nearly(self, wanted: Sequence[str]) -> list[tuple[int, int]]:
        """Where most of some words stand in their order, (first, count)."""
        n = len(wanted)
        votes: dict[int, set[int]] = defaultdict(set)
        exact: dict[int, int] = defaultdict(int)
        for j, word in enumerate(wanted):
            for k in self.at.get(word, ()):
                exact[k - j] += 1
                for slack in (-1, 0, 1):
                    votes[k - j + slack].add(j)
        most = max(map(len, votes.values()), default=0)
        if n < DISTINCT or most < max(2, LIKE * n):
            return []
        found: list[tuple[int, int]] = []
        for first in sorted((first for first, own in votes.items() if len(own) == most), key=lambda k: (-exact[k], k)):
            at = max(0, first)
            if at < len(self.words) and all(abs(at - known) > 2 for known, _ in found):
                found.append((at, min(n, len(self.words) - at)))
        return found


def _text_of(book: Book, chapter: ChapterState, contents: Read) -> _Text:
    text, hearing = contents(chapter)
    return _Text(chapter, text, tokens_of(book, chapter, [w.text for w in text.words], hearing), hearing is not None)


def placed(
    book: Book,
    lines: Sequence[Said],
    contents: Read,
    watch: Watch,
) -> list[Placed]:
    """The place of every line of a list, or those that it may mean."""
    texts = []
    for k, chapter in enumerate(book.chapters):
        watch.tick(0.5 * k / len(book.chapters), chapter.title)
        texts.append(_text_of(book, chapter, contents))
    for said in lines:
        wanted = _words(said.written)
        named = _named(said.chapter, texts) or texts
        places = [(t, first) for t in named for first, _ in t.places(wanted)] if len(wanted) >= DISTINCT else []
        if len(places) == 1:
            (known, first), told = places[0], seconds_of(said, book.rate, places[0][0].length)
            if told is not None and known.starts[first] >= 0:
                known.shifts.append((told, known.starts[first] / book.rate - told))
    found = []
    for k, said in enumerate(lines):
        watch.tick(0.5 + 0.5 * k / max(1, len(lines)), f"line {said.number}")
        found.append(_placed(book, said, texts))
    return found


def _placed(book: Book, said: Said, texts: Sequence[_Text]) -> Placed:
    named = _named(said.chapter, texts)
    wanted = _words(said.written)
    spots = _by_words(book, said, named or texts, wanted)
    elsewhere = _by_words(book, said, [t for t in texts if t not in named], wanted) if named and wanted else ()
    if not spots and elsewhere:
        return Placed(said, elsewhere, sure=False, why="these words stand in another chapter than the list says")
    known = {t.chapter.id: t for t in texts}
    if spots:
        relied = lambda spot: known[spot.chapter].seconds(said, book.rate)[1]  # noqa: E731
        sure, why = _judged(said, spots, wanted, relied, named=bool(named) or len(texts) == 1)
        near = spots[0].off_s is not None and spots[0].off_s <= NEAR_S
        if sure and said.ditto and elsewhere and not near and not spots[0].double:
            sure, why = False, "the list does not repeat its chapter here, and these words stand in another one as well"
    else:
        spots = _by_words(book, said, named or texts, wanted, nearly=True)
        if spots:
            near = spots[0].off_s is not None and spots[0].off_s <= NEAR_S
            sure, why = near and len(spots) == 1, "most of its words stand here" + (", at its time" if near else "")
        else:
            spots, sure, why = _without_words(book, said, named or (texts if len(texts) == 1 else ()), wanted)
    unheard = [s for s in spots if not known[s.chapter].heard and s.off_s is None]
    if unheard:
        return Placed(said, (), sure=False, why=f"{known[unheard[0].chapter].chapter.title} was not heard yet: hear it first")
    return Placed(said, spots[:MOST_SPOTS], sure, why)


@lru_cache(maxsize=65_536)
def _words(text: str) -> tuple[str, ...]:
    """The words of a cell as they are compared; of what is left out with dots in between the longer part."""
    parts = [tuple(sound_key(word) for w in re.split(r"[\s—–/]+", part) if (word := plain(w))) for part in _DOTS.split(text)]
    return max(parts, key=len, default=())


def _named(name: str, texts: Sequence[_Text]) -> list[_Text]:
    """The chapters that a list may mean by a name: its title, a part of it, or its number."""
    wanted = plain(Path(name).stem if re.search(r"\.\w{2,4}$", name) else name)
    if not wanted:
        return []
    titles = [plain(t.chapter.title.replace(":", " ")) for t in texts]
    same = [t for t, title in zip(texts, titles, strict=True) if title and (title == wanted or " ".join(title.split()) == wanted)]
    if same:
        return same
    number = re.search(r"(?<!\d)0*(\d{1,3})(?!\d)", wanted)
    if number and 1 <= int(number[1]) <= len(texts) and not any(number[1] in title.split() for title in titles):
        words = {w for w in re.split(r"\W+", wanted) if w.isalpha()} - NUMBERED
        if not words or words & set(titles[int(number[1]) - 1].split()):
            return [texts[int(number[1]) - 1]]
    tokens = set(re.split(r"\W+", wanted)) - {""}
    inside = [t for t, title in zip(texts, titles, strict=True) if tokens and tokens <= set(re.split(r"\W+", title))]
    return inside or [t for t, title in zip(texts, titles, strict=True) if title and title in wanted]


def _by_words(book: Book, said: Said, texts: Sequence[_Text], wanted: Sequence[str], *, nearly: bool = False) -> tuple[Spot, ...]:
    """The places where a line's words stand, the likeliest first; with `nearly` where most of them do."""
    found = []
    lead, trail = _alike(said) if not nearly else (0, 0)
    for known in texts:
        seconds, _ = known.seconds(said, book.rate)
        line = known.places(_words(said.line)) if said.line else []
        places = (known.nearly if nearly else known.places)(wanted) if wanted else line if not said.heard else []
        within = [(a, n) for a, n in places if any(b <= a < b + m for b, m in line)]
        for whole, length in within or places:
            first, count = (whole + lead, length - lead - trail) if wanted else (whole, length)
            span = known.span(first, count)
            off = abs(span.start / book.rate - seconds) if seconds is not None and known.length else None
            found.append(Spot(known.chapter.id, first, count, span.start, span.stop, off, _double(said, known, first, count)))
    pages = {t.chapter.id: t for t in texts}
    page = int(digits[0]) if (digits := re.findall(r"\d+", said.page)) else 0

    def unlikely(spot: Spot) -> tuple[float, ...]:
        text = pages[spot.chapter].text
        other_page = bool(page) and text.words[spot.first].page not in (0, page)
        far = spot.off_s if spot.off_s is not None else 0.0
        return (far > NEAR_S, other_page, not spot.double, far)

    return tuple(sorted(found, key=unlikely))


def _judged(
    said: Said, spots: tuple[Spot, ...], wanted: Sequence[str], relied: Callable[[Spot], bool], *, named: bool
) -> tuple[bool, str]:
    """Whether the first of some places is meant for sure, and why; `relied` tells whether the time can be relied on there."""
    first, rest = spots[0], spots[1:]
    near = [s for s in spots if s.off_s is not None and s.off_s <= NEAR_S]
    own = first.double and not any(s.double for s in (near if first in near else spots) if s is not first)
    if not rest:
        if first.off_s is None:
            known = named or len(wanted) >= FEW_WORDS or bool(first.double)
            return known, "by its words" if known else "a single place, but the list does not say in which chapter"
        if first.off_s <= NEAR_S:
            return True, "by its words and time"
        if first.off_s <= FAR_S and (named or len(wanted) >= FEW_WORDS):
            return True, f"by its words; its time is {first.off_s:.0f} s off"
        return False, "its time is far from where these words stand"
    if own and (first in near or first.off_s is None) and (named or said.heard):
        return True, "by its words, and the ear's finding"
    if first in near and named and relied(first):
        others = [s.off_s for s in near if s is not first and s.off_s is not None]
        if not others:
            return True, "by its words and time"
        if first.off_s is not None and first.off_s <= HERE_S and min(others) >= first.off_s + APART_S:
            return True, "by its words and the nearest time"
    return False, f"{len(spots)} places say these words" + (f", {len(near)} near this time" if near else "")


def _without_words(book: Book, said: Said, texts: Sequence[_Text], wanted: Sequence[str]) -> tuple[tuple[Spot, ...], bool, str]:
    """The place of a line whose words stand nowhere: by what was heard, by its time, by its page."""
    missing = "these words stand nowhere in the manuscript" if wanted else ""
    if len(texts) != 1:
        return (), False, missing or "neither its words nor its chapter are known"
    known = texts[0]
    seconds, _ = known.seconds(said, book.rate)
    heard = _words(said.heard)
    if heard:
        ears = [
            (f, span)
            for f, span in zip(known.chapter.findings, finding_spans(known.chapter, known.chapter.findings), strict=True)
            if span is not None and _words(f.heard) == heard
        ]
        spots = tuple(
            Spot(
                known.chapter.id, f.word_index, f.word_count, span.start, span.stop,
                abs(span.start / book.rate - seconds) if seconds is not None else None, f.id,
            )
            for f, span in ears
        )  # fmt: skip
        spots = tuple(sorted(spots, key=lambda s: s.off_s if s.off_s is not None else 0.0))
        if spots and (spots[0].off_s is None or spots[0].off_s <= NEAR_S):
            single = len([s for s in spots if s.off_s is None or s.off_s <= NEAR_S]) == 1
            return spots, single, "by what was heard" if single else f"it was heard in {len(spots)} places"
    line = known.places(_words(said.line)) if said.line else []
    if len(line) == 1 and not wanted:  # what was added stands somewhere in its line
        span = known.span(*line[0])
        off = abs(span.start / book.rate - seconds) if seconds is not None else None
        near = off is None or off <= NEAR_S
        return (Spot(known.chapter.id, line[0][0], 0, span.start, span.stop, off),), near, "by its line"
    if seconds is not None and known.length:
        at = samples(seconds, book.rate)
        if at >= known.length:
            return (), False, f"{known.chapter.title} ends before this time"
        word = known.word_at(at)
        stop = min(known.length, at + samples(SOUND_S, book.rate))
        spot = Spot(known.chapter.id, word, 0, at, stop, 0.0, _double_sound(book, said, known, at))
        return (spot,), not wanted, missing or "by its time"
    page = int(digits[0]) if (digits := re.findall(r"\d+", said.page)) else 0
    word = next((k for k, w in enumerate(known.text.words) if page and w.page == page), -1)
    if word >= 0:
        span = known.span(word, 1)
        return (Spot(known.chapter.id, word, 0, span.start, span.start),), False, missing or "only its page is known"
    return (), False, missing or "it has neither words nor a time"


def _double(said: Said, known: _Text, first: int, count: int) -> str:
    """The finding of a chapter that says the same of the same words; empty where there is none."""
    kind, heard = kind_of(said), _words(heard_of(said))
    near = {f.id: f for k in range(first, first + count + 1) for f in known.told.get(k, ())}
    for f in near.values():
        own = range(f.word_index, f.word_index + f.word_count)
        touches = own.start < first + count and first < own.stop if own else first <= own.start <= first + count
        if not touches:
            continue
        same = own == range(first, first + count)
        if heard and f.heard:
            alike = _words(f.heard) == heard or (same and bool(set(_words(f.heard)) & set(heard)))
        else:  # what is said of other words, or of another kind, is something else
            alike = f.kind is kind or (same and {f.kind, kind} <= READING | {Kind.NAME, Kind.OTHER})
        if alike and (f.kind in READING) == (kind in READING or kind in (Kind.NAME, Kind.OTHER)):
            return f.id
    return ""


def _double_sound(book: Book, said: Said, known: _Text, at: int) -> str:
    """The flaw of a chapter that is heard within a second of a time; empty where there is none, or another kind."""
    kind = kind_of(said)
    for f, span in zip(known.chapter.findings, finding_spans(known.chapter, known.chapter.findings), strict=True):
        near = span is not None and span.start - book.rate <= at <= span.stop + book.rate
        if near and f.kind not in READING and kind in (f.kind, Kind.OTHER):
            return f.id
    return ""


# --- taken in ---------------------------------------------------------------------------------------------------------


def taken(
    book: Book,
    rows: Sequence[tuple[Said, Spot]],
    who: str,
    name: str,
    contents: Read,
) -> TakeFindings:
    """The step that takes lines in at their places: as new findings, or joined with those that say the same.

    `who` said so where a line does not tell it; `name` is the list's.
    """
    added: dict[str, list[Finding]] = defaultdict(list)
    joined: list[tuple[str, str, str, str]] = []
    known: dict[str, tuple[ChapterState, Chapter, Tokens]] = {}
    for said, spot in rows:
        chapter = book.chapter(spot.chapter)
        if chapter.id not in known:
            text, hearing = contents(chapter)
            known[chapter.id] = chapter, text, tokens_of(book, chapter, [w.text for w in text.words], hearing)
        by, remark = said.who or who, _remark(said)
        if spot.double:
            joined.append((chapter.id, spot.double, by, remark))
            continue
        own = known[chapter.id]
        made = noted_at(
            own[0], own[1], kind_of(said), range(spot.first, spot.first + spot.count), Span(spot.start, spot.stop), remark
        )
        made = replace(made, heard=heard_of(said), kept=True, by=(by,), evidence=Evidence(note=f"line {said.number} of {name}"))
        same = next((f for f in added[chapter.id] if _same(f, made)), None)
        if same is not None:  # two lines say the same
            index = added[chapter.id].index(same)
            both = tuple(dict.fromkeys((*same.by, by)))
            note = "; ".join(dict.fromkeys(filter(None, (same.note, remark))))
            added[chapter.id][index] = replace(same, by=both, note=note)
            continue
        added[chapter.id].append(made)
    return TakeFindings(tuple((c, f) for c, own in added.items() for f in own), tuple(joined), name)


def heard_of(said: Said) -> str:
    """What was heard in the place of the words that are not alike."""
    lead, trail = _alike(said)
    words = said.heard.split()
    return " ".join(words[lead : len(words) - trail]) if len(words) == len(_words(said.heard)) else said.heard


def _same(one: Finding, other: Finding) -> bool:
    place = (one.kind, one.word_index, one.word_count) == (other.kind, other.word_index, other.word_count)
    return place and (one.word_count > 0 or abs(one.start - other.start) < 1000) and _words(one.heard) == _words(other.heard)


def _remark(said: Said) -> str:
    """What a line says beside its words: its remark, and its own word for what it is where that says more."""
    kind = said.kind if said.kind and said.kind.casefold() not in said.remark.casefold() and kind_of(said) is Kind.OTHER else ""
    return ": ".join(filter(None, (kind, said.remark)))


def here(
    book: Book,
    chapter: ChapterState,
    said: Said,
    place: range | Span,
    contents: Read,
) -> Spot:
    """The place that the editor says a line means: written words of a chapter, or a stretch of its reel."""
    known = _text_of(book, chapter, contents)
    words = isinstance(place, range)
    span = known.span(place.start, len(place)) if isinstance(place, range) else place
    first, count = (place.start, len(place)) if words else (known.word_at(span.start), 0)
    seconds, _ = known.seconds(said, book.rate)
    off = abs(span.start / book.rate - seconds) if seconds is not None else None
    double = _double(said, known, first, count) if words else _double_sound(book, said, known, span.start)
    return Spot(chapter.id, first, count, span.start, span.stop, off, double)
