"""Taking out, putting in, splitting what is marked.  No Qt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import partial

from faithful_reel.app.editing.presenter import Editing
from faithful_reel.core.book.commands import EditReels
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import CutAndClose, Paste, ReelCommand, SplitMany
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.reel.timing import LINKED
from faithful_reel.core.units import Span, samples
from faithful_reel.core.work.editing import (
    BEFORE_ONSET_S,
    Beside,
    Copied,
    Stop,
    beside,
    content_for,
    copy_of,
    eased,
    filled,
    kept_only,
    lane_words,
    onset_beside,
    paused,
    taken_out,
)


class Cutting:
    """What is done with the time of a chapter."""

    def __init__(self, editing: Editing) -> None:
        self.editing, self.bench, self.transport = editing, editing.bench, editing.transport
        self.copied: Copied | None = None

    def take_out(self) -> bool:
        """Take what is marked out and close up, on all linked lanes."""
        work = self.editing.work()
        if work is None:
            return False
        chapter, reel, spans = work
        said, edits = self.editing.said(spans), self._taken_out(chapter, reel, spans)
        at = min(s.start for s in spans)
        done = self.editing.do(chapter, lambda: edits, "Take out", said)
        if done:
            self.transport.put(at)
        return done

    def _taken_out(self, chapter: ChapterState, reel: Reel, spans: Sequence[Span]) -> list[ReelCommand]:
        """The edits that take stretches out; word cuts are eased, where that is wanted."""
        if not self.editing.easing:
            return taken_out(spans, self.editing.lane)
        lane = replace(reel.lanes[max(0, self.editing.lane)], muted=False, solo=False)
        render = self.bench.render_here(Reel((lane,)))
        better = eased(spans, self.bench.tokens(chapter), render, len(lane), self.bench.book.rate)
        return taken_out(better, self.editing.lane, set(better) - set(spans))

    def beside(self) -> list[Beside]:
        """Whose sound would go too if what is marked were taken out of all linked lanes."""
        work = self.editing.work(need=False)
        if work is None or len(work[1].lanes) < 2:
            return []
        _, reel, spans = work
        rate = self.bench.book.rate
        found = beside(reel, spans, self.editing.lane, partial(self.bench.columns, reel), rate)
        tokens = self.bench.tokens(work[0]).heard()
        return [replace(b, words=lane_words(tokens, spans, b.lane)) for b in found]

    def fill(self) -> bool:
        """Lay room tone over what is marked; nothing moves."""
        work = self.editing.work()
        if work is None:
            return False
        chapter, reel, spans = work
        lanes = self.editing.lanes(reel)
        return self.editing.do(
            chapter, lambda: filled(self.bench.book, chapter, spans, lanes), "Fill with room tone", self.editing.said(spans)
        )

    def silence(self) -> bool:
        """Lay room tone over what is marked on one lane: that at hand, or the first."""
        work = self.editing.work()
        if work is None:
            return False
        chapter, _, spans = work
        lane = max(0, self.editing.lane)
        return self.editing.do(
            chapter, lambda: filled(self.bench.book, chapter, spans, [lane]), "Silence", self.editing.said(spans)
        )

    def pause(self, seconds: float) -> bool:
        """Put a pause in at the cursor, or in the place of what is marked."""
        work = self.editing.work(need=False)
        if work is None:
            return False
        chapter, reel, spans = work
        length = samples(seconds, self.bench.book.rate)
        at = spans[-1].start if spans else min(self.transport.spot, len(reel))

        def edits() -> list[ReelCommand]:
            gone = taken_out(spans[-1:], self.editing.lane) if spans else []
            return [*gone, paused(self.bench.book, chapter, at, length, max(0, self.editing.lane))]

        return self.editing.do(chapter, edits, f"Insert a pause of {seconds:g} s")

    def keep_only(self) -> bool:
        """Take all out but what is marked."""
        work = self.editing.work()
        if work is None:
            return False
        chapter, reel, spans = work
        return self.editing.do(chapter, lambda: kept_only(reel, spans, self.editing.lane), "Keep only", self.editing.said(spans))

    def copy(self) -> str:
        """Keep what is marked to be pasted; its words, for the clipboard."""
        work = self.editing.work()
        if work is None:
            return ""
        chapter, reel, spans = work
        words = self.editing.text_of(spans[-1])
        self.copied = copy_of(chapter, spans[-1], self.editing.lanes(reel), words)
        seconds = len(spans[-1]) / self.bench.book.rate
        self.bench.tell(f"Copied: {words or f'{seconds:.2f} s of sound'}.")
        return words

    def paste(self, *, keep_time: bool = False) -> bool:
        """Put what was copied in at the cursor, or over what is marked; with `keep_time` nothing moves."""
        work, copied = self.editing.work(need=False), self.copied
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

        done = self.editing.do(chapter, edits, "Paste", copied.words or f"{length / self.bench.book.rate:.2f} s")
        if done:
            self.transport.put(over.start)
        return done

    def move_here(self) -> bool:
        """Take what was copied out where it was, and put it in at the cursor: one step."""
        copied, found = self.copied, self.editing.found()
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
        work = self.editing.work()
        if work is None:
            return False
        chapter, reel, spans = work
        span = spans[-1]
        content = copy_of(chapter, span, self.editing.lanes(reel), "").content
        return self.editing.do(chapter, lambda: [Paste(span.stop, span.stop, content)], "Duplicate", self.editing.said([span]))

    def split(self) -> bool:
        """Cut pieces in two at both ends of what is marked, or at the cursor, on the lane at hand or on all."""
        work = self.editing.work(need=False)
        if work is None:
            return False
        chapter, reel, spans = work
        places = tuple(at for s in spans for at in (s.start, s.stop) if 0 < at < len(reel)) or (self.transport.spot,)
        lanes = self.editing.lanes(reel)
        if all(at in reel.lanes[k].starts() for k in lanes for at in places):
            self.bench.tell("Pieces meet here already.")
            return False
        return self.editing.do(chapter, lambda: [SplitMany(places, (), tuple(lanes))], "Split")

    def split_at_every(self, kind: Stop) -> bool:
        """Cut at every word, sentence, pause or onset of what is marked, 10 ms before it; pieces get the names of their words."""
        work = self.editing.work()
        if work is None:
            return False
        chapter, reel, spans = work
        before = samples(BEFORE_ONSET_S, self.bench.book.rate)
        stops = self.editing.stops(chapter)
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
        names = tuple(self.editing.said([Span(a, max(a, b))]) for a, b in zip(places, ends, strict=True))
        return self.editing.do(
            chapter, lambda: [SplitMany(tuple(places), names, tuple(self.editing.lanes(reel)))], f"Split at every {kind.value}"
        )

    def hear_as_if(self, *, fill: bool = False) -> None:
        """Hear the lead-in and what would follow, as if what is marked were taken out, or filled; nothing is done yet."""
        work = self.editing.work()
        if work is None:
            return
        chapter, reel, spans = work
        try:
            for edit in (
                filled(self.bench.book, chapter, spans, self.editing.lanes(reel))
                if fill
                else self._taken_out(chapter, reel, spans)
            ):
                reel = edit.apply(reel)
        except EditRefused as problem:
            self.bench.tell(str(problem))
            return
        rate, at = self.bench.book.rate, min(s.start for s in spans)
        lead, after = round(max(1.0, self.transport.lead_s) * rate), 2 * rate + (sum(map(len, spans)) if fill else 0)
        self.transport.hear_reel(reel, max(0, at - lead), min(len(reel), at + after))
