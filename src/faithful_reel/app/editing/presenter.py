"""The span and what is done with it, wherever it is drawn.  No Qt."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from enum import Enum
from functools import partial

import numpy as np

from faithful_reel.app.settings import Settings, text
from faithful_reel.app.transport.presenter import Transport
from faithful_reel.app.workbench import LEAVE, Instead, Observed
from faithful_reel.core.book.commands import EditReels
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.memo import Memo
from faithful_reel.core.reel.commands import (
    ReelCommand,
)
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.reel.timing import LINKED
from faithful_reel.core.times import TimeFormat, time_of
from faithful_reel.core.units import Span, decibels, samples
from faithful_reel.core.work.editing import (
    SNAPPED,
    Copied,
    Stop,
    Stops,
    loudest,
    onset_beside,
    quietest,
    stops_of,
    words_between,
)
from faithful_reel.core.work.mending import Columns
from faithful_reel.core.work.pauses import BY_LEVEL_S, REACH_S, Pause, pause_near, pauses_of, stretches_by_level
from faithful_reel.core.work.timeline import Token, span_of, word_at

SNAP_REACH_S = 0.06
LEAST_SPAN = 1
WHICH_LANE = (
    "It is not clear which lane is meant. Draw over its sound in the loupe, click on its name there, "
    "or take the next lane in hand (Sound, Lane)."
)
LONGEST_LABEL = 40
QUIET_DB = -70.0


class Unit(Enum):
    """By how much an edge is nudged."""

    WORD = "a word"
    VALLEY = "a valley"
    MILLISECOND = "1 ms"
    SAMPLE = "one sample"


class Reach(Enum):
    """How far a span is stretched at once."""

    WORD = "word"
    SENTENCE = "sentence"
    PAUSE = "pause"
    PIECE = "piece"
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
        self._lane = ""
        """The id of the lane in hand; empty for all of them."""
        self._drawn = ""
        """The id of the lane that the span was drawn on; empty where it was not drawn on one."""
        self._by_words = False
        self.unit = Unit.MILLISECOND
        self.easing = text(settings, "edit/ease", "on") == "on"
        """Whether word cuts are eased: their edges go to where the ends meet best."""
        self.snapping = frozenset(Stop(k) for k in text(settings, "edit/snap", _words(SNAPPED)).split(",") if k)
        known = text(settings, "edit/times", TimeFormat.CLOCK.name)
        self.bench.times = TimeFormat[known] if known in TimeFormat.__members__ else TimeFormat.CLOCK
        self.copied: Copied | None = None
        self._stops: Memo[Stops] = Memo()
        self._of: tuple[str, Reel | None] = ("", None)
        self._anchor = -1
        self.going: tuple[Span, ...] = ()
        """What would be taken out, were a sweep made: crossed out in the loupe."""
        self.bench.listen(self._bench_changed)

    def _bench_changed(self) -> None:
        """Another chapter, or another reel, is in hand: what was marked may be elsewhere now."""
        chapter = self.bench.chapter
        now = (chapter.id, chapter.reel) if chapter else ("", None)
        if now[0] != self._of[0] or now[1] is not self._of[1]:
            self._of, self._anchor = now, -1
            length = len(now[1]) if now[1] is not None else 0
            gone = bool(self._lane) and self._lane not in {lane.id for lane in (now[1].lanes if now[1] is not None else ())}
            self._lane = "" if gone else self._lane
            if gone and not self.spans:
                self.changed()
            self.let_go()
            self.transport.spot = min(self.transport.spot, max(0, length - 1))

    @property
    def spans(self) -> tuple[Span, ...]:
        """All that is marked, in the order that it was; the one at hand is the last."""
        return self._kept if self.span is None else (*self._kept, self.span)

    @property
    def lane(self) -> int:
        """The number of the lane in hand; `LINKED` for all of them."""
        found = self.found()
        lanes = found[1].lanes if found is not None and self._lane else ()
        return next((k for k, lane in enumerate(lanes) if lane.id == self._lane), LINKED)

    def own_lane(self, reel: Reel) -> int | None:
        """The lane that an act on one lane is for: the one in hand; the only one, music apart; that which the span was drawn on;
        that whose words are marked, or stand at the cursor.  None where that is not clear.
        """
        voices = [k for k, lane in enumerate(reel.lanes) if not lane.music]
        if self.lane >= 0:
            return self.lane
        drawn = next((k for k, lane in enumerate(reel.lanes) if self.span is not None and lane.id == self._drawn), None)
        if drawn is not None:
            return drawn
        if len(reel.lanes) == 1 or len(voices) == 1:
            return voices[0] if voices else 0
        spoken = set(self._spoken_at(self.marked()))
        clear = (self._by_words or not self.spans) and len(spoken) == 1
        return spoken.pop() if clear else None

    def _spoken_at(self, spans: Sequence[Span]) -> list[int]:
        """The lanes whose words are for the most part in some spans; without any, that of the word at the cursor."""
        chapter = self.bench.chapter
        if chapter is None:
            return []
        if not spans:
            word = self.word_at(self.transport.spot)
            return [word.lane] if word is not None else []
        tokens = self.bench.tokens(chapter)
        middles = (tokens.starts + tokens.stops) // 2
        inside = np.zeros(len(tokens), bool)
        for span in spans:
            inside |= (tokens.starts >= 0) & (middles >= span.start) & (middles < span.stop)
        if tokens.lanes is None:
            return [0] if inside.any() else []
        return [int(lane) for lane in np.unique(tokens.lanes[inside])]

    @property
    def shown_lane(self) -> int:
        """The number of the lane that what is marked is on, as far as that is clear; else `LINKED`, for all of them."""
        found = self.found()
        own = self.own_lane(found[1]) if found is not None and self.spans and len(found[1].lanes) > 1 else None
        return self.lane if own is None else own

    def looks(self, reel: Reel) -> Columns:
        """What the lane that is meant looks like, else all voices together."""
        own = self.own_lane(reel)
        return self.bench.columns(reel, own) if own is not None else self.voices(reel)

    def need_lane(self, reel: Reel) -> int | None:
        """As `own_lane`; where it is not clear which lane is meant it is asked once, and that lane is in hand from then on.

        None, and told, where the user leaves it open: nothing is to be done then.
        """
        lane = self.own_lane(reel)
        if lane is None:
            names = [f"{k + 1} {row.name}" for k, row in enumerate(reel.lanes)]
            told = [f"{name}: {_sounds(self.bench.columns(reel, k), self._at())}" for k, name in enumerate(names)]
            answer = self.bench.ask("Which lane?", "It is not clear which lane is meant.", told, (*names, LEAVE))
            if answer in names:
                lane = names.index(answer)
                self.choose_lane(lane)
            else:
                self.bench.tell(WHICH_LANE)
        return lane

    def _at(self) -> Span:
        """What is marked, else half a second around the cursor."""
        near = self.bench.book.rate // 4
        return self.span or Span(max(0, self.transport.spot - near), self.transport.spot + near)

    def meant(self, reel: Reel) -> frozenset[str]:
        """The ids of the lanes that are marked, as far as that is clear: what goes from others is asked about."""
        lane = self.own_lane(reel)
        return frozenset() if lane is None else frozenset({reel.lanes[lane].id})

    def choose_lane(self, lane: int) -> None:
        """Take a lane in hand; `LINKED` for all of them."""
        found = self.found()
        if found is not None and -1 <= lane < len(found[1].lanes) and lane != self.lane:
            self._lane = found[1].lanes[lane].id if lane >= 0 else ""
            name = "all linked lanes" if lane < 0 else f"the lane {found[1].lanes[lane].name}"
            self.bench.tell(f"What is marked is on {name}.")
            self.changed()

    def draw(self, start: int, stop: int, lane: int) -> None:
        """Mark a stretch by hand on one of the lanes; below 0 its edge is moved, on whichever it is."""
        found = self.found()
        if found is not None and 0 <= lane < len(found[1].lanes):
            self.select(start, stop, drawn=found[1].lanes[lane].id)
        else:
            self.select(start, stop, drawn=self._drawn)

    def select(self, start: int, stop: int, *, drawn: str = "", words: bool = False) -> None:
        """Mark a stretch, in reel time; an empty one takes the mark away.

        `drawn` is the lane that it was drawn on by hand, `words` whether it was marked by its words.
        """
        found = self.found()
        if found is None:
            return
        start, stop = (min(max(0, at), len(found[1])) for at in sorted((start, stop)))
        span = Span(start, stop) if stop > start else None
        before, self._drawn, self._by_words = (self.span, self._drawn, self._by_words), drawn, words
        self.span = span
        if before != (span, drawn, words):
            self.changed()

    def select_words(self, first: int, last: int) -> None:
        """Mark the sound of written words."""
        chapter = self.bench.chapter
        span = span_of(self.bench.tokens(chapter), first, last) if chapter and first >= 0 else None
        if span is not None:
            self.select(span.start, span.stop, words=True)
        elif chapter is not None and first >= 0 and self.bench.estimate(chapter) is not None:
            self.bench.tell(
                "These words stand by estimate only. Hear the chapter first (Ctrl+E), or mark its sound in the loupe."
            )

    def add(self) -> None:
        """Keep what is marked, and begin another span beside it."""
        if self.span is None:
            self.bench.tell("Nothing is marked yet. Drag over words or sound, or hold Shift and jump.")
            return
        self._kept, self.span, self._anchor = self.spans, None, -1
        kept = len(self._kept)
        self.bench.tell(f"{kept} span{'s are' if kept > 1 else ' is'} kept; mark another.")
        self.changed()

    def show_going(self, spans: Sequence[Span]) -> None:
        """Show what would be taken out."""
        if self.going != tuple(spans):
            self.going = tuple(spans)
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

    def mark_again(self, spans: Sequence[Span]) -> None:
        """Mark what was marked before a step that moved nothing."""
        if spans:
            self._kept, self.span = tuple(spans[:-1]), spans[-1]
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
        word = self.word_at(self.transport.spot)
        if word is None:
            self.bench.tell("No word is heard at the cursor.")
        else:
            self.select(word.start, word.stop, words=True)

    def word_at(self, position: int) -> Token | None:
        """The word that is heard at a position, rather that of the lane in hand."""
        chapter = self.bench.chapter
        if chapter is None:
            return None
        tokens = self.bench.tokens(chapter)
        found = [tokens[int(k)] for k in np.flatnonzero((tokens.starts <= position) & (tokens.stops > position))]
        return next((t for t in found if t.lane == self.lane), found[0] if found else None)

    def select_sentence(self) -> None:
        """Mark the sentence at the cursor."""
        span = self.sentence()
        if span is None:
            self.bench.tell("No sentence is heard at the cursor.")
        else:
            self.select(span.start, span.stop, words=True)

    def select_all(self) -> None:
        """Mark the whole chapter."""
        found = self.found()
        if found is not None:
            self.let_go()
            self.select(0, len(found[1]))

    def select_times(self, first: str, last: str) -> bool:
        """Mark from one written time to another; whether they were times."""
        rate = self.bench.book.rate
        start, stop = (time_of(t, rate, self.bench.times) for t in (first, last))
        found = self.found()
        if found is None or start is None or stop is None or not 0 <= start < stop <= len(found[1]):
            self.bench.tell(f"“{first}” to “{last}” is no stretch of this chapter. Write times like {self.time(rate * 61)}.")
            return False
        self.select(start, stop)
        self.transport.go_to(start, look=True)
        return True

    def time(self, position: int) -> str:
        """A position as times are shown."""
        return self.bench.time(position)

    def show_times(self, shown: TimeFormat) -> None:
        """Show times so, now and from now on."""
        self.bench.times = shown
        self._settings.setValue("edit/times", shown.name)
        self.changed()
        self.bench.changed()

    def stretch_to(self, reach: Reach, *, end: bool) -> bool:
        """Mark from the cursor to the end, or from the start, of what it stands in; told where there is nothing between."""
        whole, at = self.reached(reach), self.transport.spot
        if whole is None:
            return False
        start, stop = (at, whole.stop) if end else (whole.start, at)
        if not start < stop or not whole.start <= at <= whole.stop:
            self.bench.tell(f"There is nothing between the cursor and the {'end' if end else 'start'} of the {reach.value}.")
            return False
        self.select(start, stop, words=reach in (Reach.WORD, Reach.SENTENCE))
        return True

    def reached(self, reach: Reach) -> Span | None:
        """The word, the sentence, the pause, the piece or the chapter at the cursor; None, and told, where there is none."""
        found = self.found()
        if found is None:
            self.bench.tell("This chapter has no recording yet. Pair one with it at Intake.")
            return None
        chapter, reel = found
        at = self.transport.spot
        match reach:
            case Reach.CHAPTER:
                return Span(0, len(reel))
            case Reach.PIECE:
                own = self.need_lane(reel)
                if own is None:
                    return None
                lane, whole = reel.lanes[own], None
                if at < len(lane):
                    index = lane.index_at(at)
                    whole = Span(lane.starts()[index], lane.starts()[index + 1])
            case Reach.PAUSE:
                pause = pause_near(self.pauses(chapter, reel, Span(at, at)), at, self.bench.book.rate)
                whole = pause.span if pause is not None else None
            case Reach.WORD:
                word = self.word_at(at)
                whole = Span(word.start, word.stop) if word is not None else None
            case Reach.SENTENCE:
                whole = self.sentence()
        if whole is None:
            self.bench.tell(f"No {reach.value} is {'' if reach is Reach.PAUSE else 'heard '}at the cursor.")
        return whole

    def sentence(self) -> Span | None:
        """The sound of the sentence at the cursor, or of that before it; None where none is heard."""
        chapter = self.bench.chapter
        if chapter is None:
            return None
        tokens = self.bench.tokens(chapter)
        under = word_at(tokens, self.transport.spot)
        sentence = next((s for s in self.bench.text(chapter).sentences() if s.start <= under < s.stop), None)
        return span_of(tokens, sentence.start, sentence.stop - 1) if sentence is not None else None

    def pauses(self, chapter: ChapterState, reel: Reel, span: Span) -> list[Pause]:
        """The pauses of a stretch, which may be empty, and around it: by the words, where none were heard yet by level."""
        tokens, written, rate = self.bench.tokens(chapter), self.bench.text(chapter), self.bench.book.rate
        heard = len(tokens.heard()) > 0
        around = round((REACH_S if heard else BY_LEVEL_S) * rate)
        near = Span(max(0, span.start - around), min(len(reel), span.stop + around))
        return pauses_of(written, tokens, near) if heard else stretches_by_level(self.voices(reel), near, rate)

    def voices(self, reel: Reel) -> Columns:
        """What all voices together look like."""
        return partial(loudest, [self.bench.columns(reel, k) for k, lane in enumerate(reel.lanes) if not lane.music])

    def stops(self, chapter: ChapterState) -> Stops:
        """The places that keys jump to and edges snap to."""
        tokens, written = self.bench.tokens(chapter), self.bench.text(chapter)
        parts = (chapter.reel, tokens, written, chapter.findings)
        return self._stops.of(chapter.id, parts, lambda: stops_of(chapter, written, tokens, self.bench.book.rate))

    def jump(self, kind: Stop, way: int, *, extend: bool = False) -> None:
        """Go to the next place of a kind, or the one before; with `extend` the span follows."""
        found = self.found()
        if found is None:
            self.bench.tell("This chapter has no recording yet. Pair one with it at Intake.")
            return
        chapter, reel = found
        at = self.transport.spot
        if kind is Stop.ONSET:
            to = onset_beside(self.looks(reel), at, len(reel), self.bench.book.rate, way)
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
        found, span = self.found(), self.span
        if found is None or span is None:
            self.bench.tell("Nothing is marked whose edge could be moved.")
            return
        at = span.stop if end else span.start
        to = self._nudged(found, at, way)
        start, stop = (span.start, to) if end else (to, span.stop)
        if stop - start < LEAST_SPAN or start < 0 or stop > len(found[1]):
            self.bench.tell("The edge can not go any further.")
            return
        self.select(start, stop, drawn=self._drawn, words=self._by_words)
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
        self.bench.tell(f"Edges move by {self.unit.value}.")
        self.changed()

    def ease(self) -> None:
        """Ease word cuts, or no longer; kept."""
        self.easing = not self.easing
        self._settings.setValue("edit/ease", "on" if self.easing else "off")
        self.bench.tell(f"Cuts from word to word are {'eased' if self.easing else 'made where the words begin and end'}.")
        self.changed()

    def snap(self, kind: Stop) -> None:
        """Let edges snap to a kind of place, or no longer; kept."""
        self.snapping = self.snapping ^ {kind}
        self._settings.setValue("edit/snap", _words(sorted(self.snapping, key=lambda k: k.value)))
        self.changed()

    def snapped(self, position: int, *, reach: int | None = None) -> int:
        """Where a dragged edge comes to stand; within `reach` samples of where the hand is."""
        found = self.found()
        if found is None or not self.snapping:
            return position
        reach = samples(SNAP_REACH_S, self.bench.book.rate) if reach is None else reach
        near = self.stops(found[0]).nearest(self.snapping - {Stop.ONSET}, position, reach)
        return position if near is None else near

    def to_valley(self) -> None:
        """Move both edges of the span into the quietest moments nearby, or the cursor where nothing is marked."""
        found, span = self.found(), self.span
        if found is None:
            return
        render, rate, length = self.bench.render_here(found[1]), self.bench.book.rate, len(found[1])
        if span is None:
            self.go(quietest(render, self.transport.spot, length, rate))
            return
        start, stop = (quietest(render, at, length, rate) for at in (span.start, span.stop))
        if start < stop:
            self.select(start, stop, drawn=self._drawn, words=self._by_words)

    def found(self) -> tuple[ChapterState, Reel] | None:
        """The chapter at hand and its reel; None where it has none."""
        chapter = self.bench.chapter
        return (chapter, chapter.reel) if chapter is not None and chapter.reel is not None else None

    def ready(self, *, need: bool = False) -> bool:
        """Whether there is something to work on, before anything is asked; what is missing is told.

        With `need` something must be marked or a word be at the cursor.
        """
        return self.work(need=need) is not None

    def work(self, *, need: bool = True) -> tuple[ChapterState, Reel, tuple[Span, ...]] | None:
        """The chapter, its reel, and the spans to work on: what is marked, else the word at the cursor."""
        found = self.found()
        if found is None:
            self.bench.tell("This chapter has no recording yet. Pair one with it at Intake.")
            return None
        spans = self.marked()
        if not spans and need:
            word = self.word_at(self.transport.spot)
            if word is None:
                self.bench.tell("Nothing is marked, and no word is heard at the cursor. Drag over words or sound.")
                return None
            spans = (Span(word.start, word.stop),)
        return (*found, spans)

    def do(
        self,
        chapter: ChapterState,
        make: Callable[[], Sequence[ReelCommand]],
        label: str,
        words: str = "",
        *,
        meant: frozenset[str] | None = None,
        instead: Instead | None = None,
    ) -> bool:
        """Carry out edits as one step; the cursor stays where the first of them was.

        `meant` and `instead` as `Workbench.do` has them.
        """
        try:
            edits = list(make())
        except EditRefused as problem:
            self.bench.warn(str(problem))
            return False
        self.transport.stop()
        shown = f"{label}: {words}" if words else label
        return self.bench.do(EditReels(tuple((chapter.id, edit) for edit in edits), shown), meant=meant, instead=instead)

    def said(self, spans: Sequence[Span]) -> str:
        """The words of stretches, for the name of a step."""
        said = " … ".join(filter(None, map(self.text_of, spans)))
        return said if len(said) <= LONGEST_LABEL else said[: LONGEST_LABEL - 2].rsplit(" ", 1)[0] + " …"

    def lanes(self, reel: Reel) -> list[int]:
        """The lanes that the span is on."""
        linked = [k for k, lane in enumerate(reel.lanes) if lane.linked]
        return [self.lane] if self.lane >= 0 else linked or list(range(len(reel.lanes)))


def _sounds(columns: Columns, span: Span) -> str:
    """How loud it is somewhere, in words."""
    peak = decibels(float(np.abs(columns(np.array([span.start, span.stop], np.float64))).max()))
    return f"peak {peak:.0f} dB".replace("-", "−") if peak > QUIET_DB else "silent here"


def _words(kinds: Sequence[Stop]) -> str:
    return ",".join(k.value for k in kinds)
