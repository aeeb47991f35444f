"""The span and what is done with it, wherever it is drawn.  No Qt."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from enum import Enum

from faithful_reel.app.settings import Settings, text
from faithful_reel.app.transport.presenter import Transport
from faithful_reel.app.workbench import Observed
from faithful_reel.core.book.commands import EditReel, EditReels
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.memo import Memo
from faithful_reel.core.reel.commands import (
    ChangeGain,
    CutAndClose,
    MoveJoin,
    NamePiece,
    Paste,
    PutMarker,
    ReelCommand,
    RemoveMarkers,
    SetFade,
    SetJoin,
    SetJoins,
    SplitAt,
    SplitMany,
)
from faithful_reel.core.reel.reel import SOFT, Fade, Join, Marker, Reel
from faithful_reel.core.reel.timing import LINKED
from faithful_reel.core.times import TimeFormat, time_of, time_text
from faithful_reel.core.units import Span, samples
from faithful_reel.core.work.editing import (
    BEFORE_ONSET_S,
    SNAPPED,
    Copied,
    Stop,
    Stops,
    content_for,
    copy_of,
    filled,
    kept_only,
    onset_beside,
    paused,
    quietest,
    stops_of,
    taken_out,
    words_between,
)
from faithful_reel.core.work.timeline import Token, span_of, word_at

SNAP_REACH_S = 0.06
LEAST_SPAN = 1
SOFTENED = Join(2205, "equal_power")
"""A join that is softened: 50 ms, where the pieces have as much."""


class Unit(Enum):
    """By how much an edge is nudged."""

    WORD = "a word"
    VALLEY = "a valley"
    MILLISECOND = "1 ms"
    SAMPLE = "one sample"


class Reach(Enum):
    """How far a span is stretched at once."""

    PIECE = "piece"
    SENTENCE = "sentence"
    CHAPTER = "chapter"


class Editing(Observed):
    """One span for the whole window, over words and sound at once; several where the user wants them.

    What acts does so on the span, or at the cursor (`transport.spot`) where there is none.
    """

    def __init__(self, transport: Transport, settings: Settings) -> None:
        super().__init__()
        self.transport, self.bench, self._settings = transport, transport.bench, settings
        self.span: Span | None = None
        """The span at hand."""
        self._kept: tuple[Span, ...] = ()
        self.lane = LINKED
        """The lane that the span is on; `LINKED` for all of them."""
        self.unit = Unit.MILLISECOND
        self.snapping = frozenset(Stop(k) for k in text(settings, "edit/snap", _words(SNAPPED)).split(",") if k)
        known = text(settings, "edit/times", TimeFormat.CLOCK.name)
        self.times = TimeFormat[known] if known in TimeFormat.__members__ else TimeFormat.CLOCK
        self.copied: Copied | None = None
        self._stops: Memo[Stops] = Memo()
        self._of: tuple[str, Reel | None] = ("", None)
        self._anchor = -1
        self.bench.listen(self._bench_changed)

    def _bench_changed(self) -> None:
        """Another chapter, or another reel, is in hand: what was marked may be elsewhere now."""
        chapter = self.bench.chapter
        now = (chapter.id, chapter.reel) if chapter else ("", None)
        if now[0] != self._of[0] or now[1] is not self._of[1]:
            self._of, self._anchor = now, -1
            length = len(now[1]) if now[1] is not None else 0
            lanes = len(now[1].lanes) if now[1] is not None else 0
            if self.lane >= lanes:
                self.lane = LINKED
            self.let_go()
            self.transport.spot = min(self.transport.spot, max(0, length - 1))

    # --- what is marked -------------------------------------------------------------------------------------------

    @property
    def spans(self) -> tuple[Span, ...]:
        """All that is marked, in the order that it was; the one at hand is the last."""
        return self._kept if self.span is None else (*self._kept, self.span)

    def select(self, start: int, stop: int, *, lane: int | None = None) -> None:
        """Mark a stretch, in reel time; an empty one takes the mark away."""
        found = self._found()
        if found is None:
            return
        start, stop = (min(max(0, at), len(found[1])) for at in sorted((start, stop)))
        span = Span(start, stop) if stop > start else None
        self.lane = self.lane if lane is None else lane
        if span != self.span:
            self.span = span
            self.changed()

    def select_words(self, first: int, last: int) -> None:
        """Mark the sound of written words."""
        chapter = self.bench.chapter
        span = span_of(self.bench.tokens(chapter), first, last) if chapter and first >= 0 else None
        if span is not None:
            self.select(span.start, span.stop)

    def add(self) -> None:
        """Keep what is marked, and begin another span beside it."""
        if self.span is None:
            self.bench.tell("Nothing is marked yet. Drag over words or sound, or hold Shift and jump.")
            return
        self._kept, self.span, self._anchor = self.spans, None, -1
        kept = len(self._kept)
        self.bench.tell(f"{kept} span{'s are' if kept > 1 else ' is'} kept; mark another.")
        self.changed()

    def clear(self) -> None:
        """Mark nothing at hand; spans that were kept stay."""
        self._anchor = -1
        if self.span is not None:
            self.span = None
            self.changed()

    def let_go(self) -> None:
        """Mark nothing at all."""
        self._anchor, marked = -1, self.spans
        self.span, self._kept = None, ()
        if marked:
            self.changed()

    def marked(self) -> tuple[Span, ...]:
        """What acts work on: the spans, each once."""
        return tuple(dict.fromkeys(self.spans))

    @property
    def on_words(self) -> bool:
        """Whether what is marked is written words from the first to the last, and not just any sound."""
        chapter, (first, last) = self.bench.chapter, self.words()
        return chapter is not None and first >= 0 and span_of(self.bench.tokens(chapter), first, last) == self.span

    def words(self) -> tuple[int, int]:
        """The written words under the span at hand; (-1, -1) for none."""
        chapter = self.bench.chapter
        if chapter is None or self.span is None:
            return -1, -1
        return words_between(self.bench.tokens(chapter), self.span)

    def text_of(self, span: Span) -> str:
        """The written words of a stretch."""
        chapter = self.bench.chapter
        first, last = words_between(self.bench.tokens(chapter), span) if chapter else (-1, -1)
        return " ".join(w.text for w in self.bench.text(chapter).words[first : last + 1]) if chapter and first >= 0 else ""

    def select_word(self) -> None:
        """Mark the word at the cursor."""
        word = self._word_at(self.transport.spot)
        if word is None:
            self.bench.tell("No word is heard at the cursor.")
        else:
            self.select(word.start, word.stop)

    def _word_at(self, position: int) -> Token | None:
        chapter = self.bench.chapter
        tokens = self.bench.tokens(chapter) if chapter else ()
        return next((t for t in tokens if t.start <= position < t.stop), None)

    def select_sentence(self) -> None:
        """Mark the sentence at the cursor."""
        chapter = self.bench.chapter
        if chapter is None:
            return
        under = word_at(self.bench.tokens(chapter), self.transport.spot)
        sentence = next((s for s in self.bench.text(chapter).sentences() if s.start <= under < s.stop), None)
        if sentence is None:
            self.bench.tell("No sentence is heard at the cursor.")
            return
        self.select_words(sentence.start, sentence.stop - 1)

    def select_all(self) -> None:
        """Mark the whole chapter."""
        found = self._found()
        if found is not None:
            self.let_go()
            self.select(0, len(found[1]))

    def select_times(self, first: str, last: str) -> bool:
        """Mark from one written time to another; whether they were times."""
        rate = self.bench.book.rate
        start, stop = (time_of(t, rate, self.times) for t in (first, last))
        found = self._found()
        if found is None or start is None or stop is None or not 0 <= start < stop <= len(found[1]):
            self.bench.tell(f"“{first}” to “{last}” is no stretch of this chapter. Write times like {self.time(rate * 61)}.")
            return False
        self.select(start, stop)
        self.transport.go_to(start, look=True)
        return True

    def time(self, position: int) -> str:
        """A position as times are shown."""
        return time_text(position, self.bench.book.rate, self.times)

    def show_times(self, shown: TimeFormat) -> None:
        """Show times so, now and from now on."""
        self.times = shown
        self._settings.setValue("edit/times", shown.name)
        self.changed()

    def stretch_to(self, reach: Reach, *, end: bool) -> None:
        """Mark from the cursor to the end, or the start, of a piece, a sentence or the chapter."""
        found = self._found()
        if found is None:
            return
        chapter, reel = found
        at = self.transport.spot
        if reach is Reach.CHAPTER:
            other = len(reel) if end else 0
        elif reach is Reach.PIECE:
            lane = reel.lanes[max(0, self.lane)]
            index = lane.index_at(at)
            other = lane.starts()[index + end]
        else:
            stops = self.stops(chapter)
            beside = stops.beside(Stop.SENTENCE, at if end else at + 1, 1 if end else -1)
            other = beside if beside is not None else len(reel) if end else 0
        self.select(at, other)

    # --- where edges may go ---------------------------------------------------------------------------------------

    def stops(self, chapter: ChapterState) -> Stops:
        """The places that keys jump to and edges snap to."""
        tokens, written = self.bench.tokens(chapter), self.bench.text(chapter)
        parts = (chapter.reel, tokens, written, chapter.findings)
        return self._stops.of(chapter.id, parts, lambda: stops_of(chapter, written, tokens, self.bench.book.rate))

    def jump(self, kind: Stop, way: int, *, extend: bool = False) -> None:
        """Go to the next place of a kind, or the one before; with `extend` the span follows."""
        found = self._found()
        if found is None:
            self.bench.tell("This chapter has no recording yet. Pair one with it at Intake.")
            return
        chapter, reel = found
        at = self.transport.spot
        if kind is Stop.ONSET:
            to = onset_beside(self.bench.columns(reel), at, len(reel), self.bench.book.rate, way)
        else:
            to = self.stops(chapter).beside(kind, at, way)
        if to is None:
            self.bench.tell(f"There is no {kind.value} {'after' if way > 0 else 'before'} the cursor.")
            return
        self.go(min(to, len(reel) - 1), extend=extend)

    def go(self, position: int, *, extend: bool = False) -> None:
        """Put the cursor at a position; with `extend` the span reaches from where it was begun to there."""
        if extend:
            if self._anchor < 0:
                span = self.span
                at = self.transport.spot
                self._anchor = (span.stop if at <= span.start else span.start) if span else at
            self.select(self._anchor, position)
        else:
            self._anchor = -1
        self.transport.go_to(position)

    def nudge(self, way: int, *, end: bool) -> None:
        """Move one edge of the span by the unit that is set."""
        found, span = self._found(), self.span
        if found is None or span is None:
            self.bench.tell("Nothing is marked whose edge could be moved.")
            return
        at = span.stop if end else span.start
        to = self._nudged(found, at, way)
        start, stop = (span.start, to) if end else (to, span.stop)
        if stop - start < LEAST_SPAN or start < 0 or stop > len(found[1]):
            self.bench.tell("The edge can not go any further.")
            return
        self.select(start, stop)
        self.transport.bring(to)

    def _nudged(self, found: tuple[ChapterState, Reel], at: int, way: int) -> int:
        chapter, reel = found
        rate = self.bench.book.rate
        if self.unit is Unit.SAMPLE:
            return at + way
        if self.unit is Unit.MILLISECOND:
            return at + way * max(1, round(rate / 1000))
        if self.unit is Unit.WORD:
            to = self.stops(chapter).beside(Stop.WORD, at, way)
            return at if to is None else to
        return quietest(self.bench.render_here(reel), at + way * round(0.05 * rate), len(reel), rate)

    def next_unit(self) -> None:
        """Nudge by the next unit from now on."""
        units = list(Unit)
        self.unit = units[(units.index(self.unit) + 1) % len(units)]
        self.bench.tell(f"Edges are nudged by {self.unit.value}.")
        self.changed()

    def snap(self, kind: Stop) -> None:
        """Let edges snap to a kind of place, or no longer; kept."""
        self.snapping = self.snapping ^ {kind}
        self._settings.setValue("edit/snap", _words(sorted(self.snapping, key=lambda k: k.value)))
        self.changed()

    def snapped(self, position: int, *, reach: int | None = None) -> int:
        """Where a dragged edge comes to stand; within `reach` samples of where the hand is."""
        found = self._found()
        if found is None or not self.snapping:
            return position
        reach = samples(SNAP_REACH_S, self.bench.book.rate) if reach is None else reach
        near = self.stops(found[0]).nearest(self.snapping - {Stop.ONSET}, position, reach)
        return position if near is None else near

    def to_valley(self) -> None:
        """Move both edges of the span into the quietest moments nearby, or the cursor where nothing is marked."""
        found, span = self._found(), self.span
        if found is None:
            return
        render, rate, length = self.bench.render_here(found[1]), self.bench.book.rate, len(found[1])
        if span is None:
            self.go(quietest(render, self.transport.spot, length, rate))
            return
        start, stop = (quietest(render, at, length, rate) for at in (span.start, span.stop))
        if start < stop:
            self.select(start, stop)

    # --- what is done ---------------------------------------------------------------------------------------------

    def _found(self) -> tuple[ChapterState, Reel] | None:
        chapter = self.bench.chapter
        return (chapter, chapter.reel) if chapter is not None and chapter.reel is not None else None

    def ready(self, *, need: bool = False, join: bool = False) -> bool:
        """Whether there is something to work on, before anything is asked; what is missing is told.

        With `need` something must be marked or a word be at the cursor, with `join` there must be a join.
        """
        if self._work(need=need) is None:
            return False
        if join and self.join_near() is None:
            self.bench.tell("There is no join in this chapter yet.")
            return False
        return True

    def _work(self, *, need: bool = True) -> tuple[ChapterState, Reel, tuple[Span, ...]] | None:
        """The chapter, its reel, and the spans to work on: what is marked, else the word at the cursor."""
        found = self._found()
        if found is None:
            self.bench.tell("This chapter has no recording yet. Pair one with it at Intake.")
            return None
        spans = self.marked()
        if not spans and need:
            word = self._word_at(self.transport.spot)
            if word is None:
                self.bench.tell("Nothing is marked, and no word is heard at the cursor. Drag over words or sound.")
                return None
            spans = (Span(word.start, word.stop),)
        return (*found, spans)

    def _do(self, chapter: ChapterState, make: Callable[[], Sequence[ReelCommand]], label: str, words: str = "") -> bool:
        """Carry out edits as one step; the cursor stays where the first of them was."""
        try:
            edits = list(make())
        except EditRefused as problem:
            self.bench.tell(str(problem))
            return False
        self.transport.stop()
        shown = f"{label}: {words}" if words else label
        return self.bench.do(EditReels(tuple((chapter.id, edit) for edit in edits), shown))

    def _words(self, spans: Sequence[Span]) -> str:
        said = " … ".join(filter(None, map(self.text_of, spans)))
        return said if len(said) <= LONGEST_LABEL else said[: LONGEST_LABEL - 2].rsplit(" ", 1)[0] + " …"

    def _lanes(self, reel: Reel) -> list[int]:
        """The lanes that the span is on."""
        return [self.lane] if self.lane >= 0 else [k for k, lane in enumerate(reel.lanes) if lane.linked]

    def take_out(self) -> bool:
        """Take what is marked out and close up, on all linked lanes."""
        work = self._work()
        if work is None:
            return False
        chapter, _, spans = work
        at = min(s.start for s in spans)
        done = self._do(chapter, lambda: taken_out(spans, self.lane), "Take out", self._words(spans))
        if done:
            self.transport.put(at)
        return done

    def fill(self) -> bool:
        """Lay room tone over what is marked; nothing moves."""
        work = self._work()
        if work is None:
            return False
        chapter, reel, spans = work
        lanes = self._lanes(reel)
        return self._do(
            chapter, lambda: filled(self.bench.book, chapter, spans, lanes), "Fill with room tone", self._words(spans)
        )

    def silence(self) -> bool:
        """Lay room tone over what is marked on one lane: that at hand, or the first."""
        work = self._work()
        if work is None:
            return False
        chapter, _, spans = work
        lane = max(0, self.lane)
        return self._do(chapter, lambda: filled(self.bench.book, chapter, spans, [lane]), "Silence", self._words(spans))

    def pause(self, seconds: float) -> bool:
        """Put a pause in at the cursor, or in the place of what is marked."""
        work = self._work(need=False)
        if work is None:
            return False
        chapter, reel, spans = work
        length = samples(seconds, self.bench.book.rate)
        at = spans[-1].start if spans else min(self.transport.spot, len(reel))

        def edits() -> list[ReelCommand]:
            gone = taken_out(spans[-1:], self.lane) if spans else []
            return [*gone, paused(self.bench.book, chapter, at, length, max(0, self.lane))]

        return self._do(chapter, edits, f"Insert a pause of {seconds:g} s")

    def keep_only(self) -> bool:
        """Take all out but what is marked."""
        work = self._work()
        if work is None:
            return False
        chapter, reel, spans = work
        return self._do(chapter, lambda: kept_only(reel, spans, self.lane), "Keep only", self._words(spans))

    def copy(self) -> str:
        """Keep what is marked to be pasted; its words, for the clipboard."""
        work = self._work()
        if work is None:
            return ""
        chapter, reel, spans = work
        words = self.text_of(spans[-1])
        self.copied = copy_of(chapter, spans[-1], self._lanes(reel), words)
        seconds = len(spans[-1]) / self.bench.book.rate
        self.bench.tell(f"Copied: {words or f'{seconds:.2f} s of sound'}.")
        return words

    def cut(self) -> str:
        """Copy what is marked and take it out."""
        before, words = self.copied, self.copy()
        if self.copied is not before:
            self._kept = ()
            self.take_out()
        return words

    def paste(self, *, keep_time: bool = False) -> bool:
        """Put what was copied in at the cursor, or over what is marked; with `keep_time` nothing moves."""
        work, copied = self._work(need=False), self.copied
        if work is None:
            return False
        if copied is None:
            self.bench.tell("Nothing was copied yet. Mark something and copy it first.")
            return False
        chapter, reel, spans = work
        over = spans[-1] if spans else Span(self.transport.spot, self.transport.spot)
        length = sum(len(s) for s in copied.content[0][1])

        def edits() -> list[ReelCommand]:
            return [Paste(over.start, over.stop, content_for(reel, copied.content), keep_time)]

        done = self._do(chapter, edits, "Paste", copied.words or f"{length / self.bench.book.rate:.2f} s")
        if done:
            self.transport.put(over.start)
        return done

    def move_here(self) -> bool:
        """Take what was copied out where it was, and put it in at the cursor: one step."""
        copied, found = self.copied, self._found()
        if copied is None or found is None:
            self.bench.tell("Copy what is to be moved first, then put the cursor where it goes.")
            return False
        chapter, reel = found
        at, span = self.transport.spot, copied.span
        source = next((c for c in self.bench.book.chapters if c.id == copied.chapter), None)
        there = source.reel if source else None
        lanes = [lane for lane, _ in copied.content]
        try:
            still = there is not None and copy_of(source, span, lanes, "").content == copied.content if source else False
        except EditRefused:
            still = False
        if not still or (copied.chapter == chapter.id and span.start < at < span.stop):
            self.bench.tell("What was copied is no longer where it was. Copy it again.")
            return False
        take = copied.chapter, CutAndClose(span.start, span.stop, lane=LINKED if len(lanes) > 1 else lanes[0])
        try:
            put = chapter.id, Paste(at, at, content_for(reel, copied.content))
        except EditRefused as problem:
            self.bench.tell(str(problem))
            return False
        same, later = copied.chapter == chapter.id, at >= span.stop
        edits = (put, take) if not same or later else (take, put)
        if same and not later:  # what is put in earlier moves what is to be taken out
            length = len(span)
            edits = (put, (take[0], CutAndClose(span.start + length, span.stop + length, lane=take[1].lane)))
        self.transport.stop()
        done = self.bench.do(EditReels(edits, f"Move: {copied.words}" if copied.words else "Move sound"))
        if done:
            self.copied = None
        return done

    def duplicate(self) -> bool:
        """Put what is marked in once more, after itself."""
        work = self._work()
        if work is None:
            return False
        chapter, reel, spans = work
        span = spans[-1]
        content = copy_of(chapter, span, self._lanes(reel), "").content
        return self._do(chapter, lambda: [Paste(span.stop, span.stop, content)], "Duplicate", self._words([span]))

    # --- pieces, joins, gain --------------------------------------------------------------------------------------

    def split(self) -> bool:
        """Cut pieces in two at both ends of what is marked, or at the cursor, on the lane at hand or on all."""
        work = self._work(need=False)
        if work is None:
            return False
        chapter, reel, spans = work
        places = tuple(at for s in spans for at in (s.start, s.stop) if 0 < at < len(reel)) or (self.transport.spot,)
        if len(places) == 1 and len(reel.lanes) == 1:
            return self._do(chapter, lambda: [SplitAt(places[0])], "Split")
        return self._do(chapter, lambda: [SplitMany(places, (), tuple(self._lanes(reel)))], "Split")

    def split_at_every(self, kind: Stop) -> bool:
        """Cut at every word, sentence, pause or onset of what is marked, 10 ms before it; pieces get the names of their words."""
        work = self._work()
        if work is None:
            return False
        chapter, reel, spans = work
        before = samples(BEFORE_ONSET_S, self.bench.book.rate)
        stops = self.stops(chapter)
        places: list[int] = []
        for span in spans:
            at: int | None = span.start - 1
            while at is not None and at < span.stop:
                if kind is Stop.ONSET:
                    at = onset_beside(self.bench.columns(reel), at, len(reel), self.bench.book.rate, 1)
                else:
                    at = stops.beside(kind, at, 1)
                if at is not None and at < span.stop:
                    places.append(max(0, at - (before if kind in (Stop.WORD, Stop.SENTENCE) else 0)))
        if kind is Stop.WORD:  # where words begin, not where they end
            starts = set(self.bench.tokens(chapter).starts.tolist())
            places = [at for at in places if at + before in starts]
        places = sorted({at for at in places if at < len(reel)})
        if not places:
            self.bench.tell(f"No {kind.value} is in what is marked.")
            return False
        ends = [*places[1:], max(s.stop for s in spans)]
        names = tuple(self._words([Span(a, max(a, b))]) for a, b in zip(places, ends, strict=True))
        return self._do(
            chapter, lambda: [SplitMany(tuple(places), names, tuple(self._lanes(reel)))], f"Split at every {kind.value}"
        )

    def louder(self, by_db: float) -> bool:
        """Make what is marked louder, or softer."""
        work = self._work()
        if work is None:
            return False
        chapter, reel, spans = work
        edits = [ChangeGain(s.start, s.stop, by_db, k) for s in spans for k in self._lanes(reel)]
        return self._do(chapter, lambda: edits, f"{by_db:+g} dB", self._words(spans))

    def piece_at(self, position: int) -> tuple[int, int] | None:
        """(lane, index) of the piece at a position on the lane at hand; None where there is none."""
        found = self._found()
        lane = max(0, self.lane)
        if found is None or position >= len(found[1].lanes[lane]):
            return None
        return lane, found[1].lanes[lane].index_at(position)

    def fade(self, seconds: float, *, at_start: bool, bend: float = 0.0) -> bool:
        """Fade the piece at the cursor in or out over so many seconds; over what is marked where something is."""
        work = self._work(need=False)
        if work is None:
            return False
        chapter, reel, spans = work
        length = len(spans[-1]) if spans else samples(seconds, self.bench.book.rate)
        at = (spans[-1].start if at_start else spans[-1].stop - 1) if spans else self.transport.spot
        piece = self.piece_at(at)
        if piece is None:
            self.bench.tell("There is no piece at the cursor.")
            return False
        lane, index = piece
        edits: list[ReelCommand] = []
        if spans:  # the fade is of what is marked: a piece of its own begins or ends there
            edge = spans[-1].start if at_start else spans[-1].stop
            if 0 < edge < len(reel.lanes[lane]) and edge not in reel.lanes[lane].starts():
                edits.append(SplitAt(edge, lane))
                index += at_start
        edits.append(SetFade(index, Fade(length, bend), at_start, lane))
        return self._do(chapter, lambda: edits, "Fade in" if at_start else "Fade out", self._words(spans))

    def join_near(self) -> tuple[int, int] | None:
        """(lane, index) of the join nearest to the cursor on the lane at hand; None where there is none."""
        found = self._found()
        lane = max(0, self.lane)
        starts = found[1].lanes[lane].starts()[1:-1] if found else []
        if not starts:
            return None
        return lane, 1 + min(range(len(starts)), key=lambda k: abs(starts[k] - self.transport.spot))

    def set_join(self, length_s: float, shape: str, bend: float = 0.0) -> bool:
        """Set the crossfade of the join nearest to the cursor."""
        found, near = self._found(), self.join_near()
        if found is None or near is None:
            self.bench.tell("There is no join in this chapter yet.")
            return False
        lane, index = near
        join = Join(samples(length_s, self.bench.book.rate), "equal_gain" if shape == "equal_gain" else "equal_power", bend)
        return self._do(found[0], lambda: [SetJoin(index, join, lane)], "Set a crossfade")

    def move_join(self, by_s: float) -> bool:
        """Move the join nearest to the cursor; one side gives what the other takes."""
        found, near = self._found(), self.join_near()
        if found is None or near is None:
            self.bench.tell("There is no join in this chapter yet.")
            return False
        lane, index = near
        by = samples(by_s, self.bench.book.rate)
        return self._do(found[0], lambda: [MoveJoin(index, by, lane)], "Move a join")

    def joins(self, *, soften: bool) -> bool:
        """Soften all joins in what is marked, or set them back."""
        work = self._work()
        if work is None:
            return False
        chapter, _, spans = work
        join = SOFTENED if soften else SOFT
        edits = [SetJoins(s.start, s.stop, join, self.lane) for s in spans]
        return self._do(chapter, lambda: edits, "Soften all joins" if soften else "Set all joins back", self._words(spans))

    def name_piece(self, name: str) -> bool:
        """Name the piece at the cursor."""
        found, piece = self._found(), self.piece_at(self.transport.spot)
        if found is None or piece is None:
            self.bench.tell("There is no piece at the cursor.")
            return False
        lane, index = piece
        segment = found[1].lanes[lane].segments[index]
        return self._do(found[0], lambda: [NamePiece(index, name, segment.color, segment.note, lane)], "Name a piece")

    # --- markers --------------------------------------------------------------------------------------------------

    def mark(self, name: str = "") -> bool:
        """Drop a marker: where sound is being heard, else at the cursor."""
        found = self._found()
        if found is None:
            self.bench.tell("This chapter has no recording yet. Pair one with it at Intake.")
            return False
        chapter, reel = found
        at = self.transport.player.position if self.transport.plays_chapter else self.transport.spot
        taken = {m.id for m in reel.markers}
        own = next(f"m{k}" for k in range(1, len(taken) + 2) if f"m{k}" not in taken)
        return self.bench.do(EditReel(chapter.id, PutMarker(Marker(own, min(at, len(reel)), name or f"Marker {own[1:]}"))))

    def change_marker(self, marker: Marker) -> bool:
        """Name, note, colour or move a marker."""
        found = self._found()
        return found is not None and self.bench.do(EditReel(found[0].id, PutMarker(marker)))

    def remove_markers(self, ids: Sequence[str]) -> bool:
        """Take markers away."""
        found = self._found()
        return found is not None and self.bench.do(EditReel(found[0].id, RemoveMarkers(tuple(ids))))

    # --- hear as if -----------------------------------------------------------------------------------------------

    def hear_as_if(self, *, fill: bool = False) -> None:
        """Hear the lead-in and what would follow, as if what is marked were taken out, or filled; nothing is done yet."""
        work = self._work()
        if work is None:
            return
        chapter, reel, spans = work
        try:
            for edit in filled(self.bench.book, chapter, spans, self._lanes(reel)) if fill else taken_out(spans, self.lane):
                reel = edit.apply(reel)
        except EditRefused as problem:
            self.bench.tell(str(problem))
            return
        rate, at = self.bench.book.rate, min(s.start for s in spans)
        lead, after = round(max(1.0, self.transport.lead_s) * rate), 2 * rate + (sum(map(len, spans)) if fill else 0)
        self.transport.hear_reel(reel, max(0, at - lead), min(len(reel), at + after))


LONGEST_LABEL = 40


def _words(kinds: Sequence[Stop]) -> str:
    return ",".join(k.value for k in kinds)
