"""Taking out, putting in, splitting what is marked.  No Qt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from faithful_reel.app.editing.presenter import WHICH_LANE, Editing
from faithful_reel.app.workbench import Instead
from faithful_reel.core.book.commands import EditReels
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import Paste, ReelCommand, SplitMany
from faithful_reel.core.reel.cutting import EDITION
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.reel.several import edited
from faithful_reel.core.units import Span, samples
from faithful_reel.core.work.editing import (
    BEFORE_ONSET_S,
    Copied,
    Stop,
    as_copy,
    content_for,
    copy_of,
    eased,
    filled,
    kept_only,
    moved_to,
    onset_beside,
    paused,
    taken_out,
)

SILENCE = "Silence on this lane only"


class Cutting:
    """What is done with the time of a chapter."""

    def __init__(self, editing: Editing) -> None:
        self.editing, self.bench, self.transport = editing, editing.bench, editing.transport
        self.copied: Copied | None = None

    def take_out(self) -> bool:
        """Take what is marked out and close up, on all linked lanes."""
        return self._took_out() is not None

    def _took_out(self) -> tuple[ChapterState, tuple[Span, ...]] | None:
        """The chapter as it was, and the stretches that were taken out of it; None where none were."""
        work = self.editing.work()
        if work is None:
            return None
        chapter, reel, spans = work
        said, going = self.editing.said(spans), self._eased(chapter, reel, spans)
        edits = taken_out(going, self.editing.lane, set(going) - set(spans))
        instead = Instead(SILENCE, self.silence) if len(reel.lanes) > 1 else None
        if not self.editing.do(chapter, lambda: edits, "Take out", said, meant=self.editing.meant(reel), instead=instead):
            return None
        self.transport.put(min(s.start for s in spans))
        return chapter, going

    def _eased(self, chapter: ChapterState, reel: Reel, spans: Sequence[Span]) -> tuple[Span, ...]:
        """What is really taken out where stretches are marked: word cuts are eased, where that is wanted."""
        own = self.editing.own_lane(reel) if self.editing.easing else None
        if own is None:
            return tuple(spans)
        lane = replace(reel.lanes[own], muted=False, solo=False)
        return tuple(
            eased(spans, self.bench.tokens(chapter), self.bench.render_here(Reel((lane,))), len(lane), self.bench.book.rate)
        )

    def fill(self) -> bool:
        """Lay room tone over what is marked; nothing moves.  On the lane that is meant, else on all voices."""
        work = self.editing.work()
        if work is None:
            return False
        chapter, reel, spans = work
        return self.editing.do(
            chapter,
            lambda: filled(self.bench.book, chapter, spans, self._to_fill(reel)),
            "Fill with room tone",
            self.editing.said(spans),
            meant=self.editing.meant(reel),
        )

    def _to_fill(self, reel: Reel) -> list[int]:
        own = self.editing.own_lane(reel)
        return [own] if own is not None else [k for k in self.editing.lanes(reel) if not reel.lanes[k].music]

    def silence(self) -> bool:
        """Lay room tone over what is marked on one lane."""
        work = self.editing.work()
        lane = self.editing.need_lane(work[1]) if work is not None else None
        if work is None or lane is None:
            return False
        chapter, _, spans = work
        return self.editing.do(
            chapter, lambda: filled(self.bench.book, chapter, spans, [lane]), "Silence", self.editing.said(spans)
        )

    def pause(self, seconds: float) -> bool:
        """Put a pause in at the cursor, or in the place of what is marked."""
        work = self.editing.work(need=False)
        if work is None:
            return False
        chapter, reel, spans = work
        length, in_hand = samples(seconds, self.bench.book.rate), self.editing.lane
        at = spans[-1].start if spans else min(self.transport.spot, len(reel))
        linked = [k for k, lane in enumerate(reel.lanes) if lane.linked]
        own = self.editing.own_lane(reel)
        lane = in_hand if in_hand >= 0 else own if own in linked else linked[0] if linked else None
        if lane is None:
            self.bench.tell(WHICH_LANE)
            return False

        def edits() -> list[ReelCommand]:
            gone = taken_out(spans[-1:], in_hand) if spans else []
            return [*gone, paused(self.bench.book, chapter, at, length, lane)]

        return self.editing.do(chapter, edits, f"Insert a pause of {seconds:g} s", meant=self.editing.meant(reel))

    def keep_only(self) -> bool:
        """Take all out but what is marked."""
        work = self.editing.work()
        if work is None:
            return False
        chapter, reel, spans = work
        return self.editing.do(
            chapter,
            lambda: kept_only(reel, spans, self.editing.lane),
            "Keep only",
            self.editing.said(spans),
            meant=self.editing.meant(reel) if len(reel.lanes) > 1 else None,
        )

    def copy(self) -> str:
        """Keep what is marked to be pasted, all of it end to end; its words, for the clipboard."""
        work = self.editing.work()
        if work is None:
            return ""
        return self._copied(work[0], work[1], tuple(sorted(work[2])))

    def _copied(self, chapter: ChapterState, reel: Reel, spans: tuple[Span, ...]) -> str:
        words = " … ".join(filter(None, map(self.editing.text_of, spans)))
        lanes = self.editing.lanes(reel)
        try:
            self.copied = copy_of(chapter, spans, [reel.lanes[k].id for k in lanes], words)
        except EditRefused as problem:
            self.bench.warn(str(problem))
            return ""
        seconds = sum(map(len, spans)) / self.bench.book.rate
        self.bench.report(f"Copied: {words or f'{seconds:.2f} s of sound'}.")
        return words

    def cut(self) -> str:
        """Take what is marked out, and keep just what went, to be pasted; its words, for the clipboard."""
        work = self.editing.work()
        words = " ".join(filter(None, map(self.editing.text_of, work[2]))) if work is not None else ""
        lanes = [work[1].lanes[k].id for k in self.editing.lanes(work[1])] if work is not None else []
        went = self._took_out()
        if went is None:
            return ""
        self.copied = copy_of(went[0], tuple(sorted(went[1])), lanes, words)
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
            content = content_for(chapter, copied, self.editing.own_lane(reel))
            return [Paste(over.start, over.stop, as_copy(content, self.bench.book), keep_time, edition=EDITION)]

        said = copied.words or f"{length / self.bench.book.rate:.2f} s"
        done = self.editing.do(chapter, edits, "Paste", said, meant=self.editing.meant(reel) if spans else None)
        if done:
            self.transport.put(over.start)
        return done

    def move_here(self) -> bool:
        """Take what was copied out where it was, and put it in at the cursor: one step."""
        copied, found = self.copied, self.editing.found()
        if copied is None or found is None:
            self.bench.tell("Copy what is to be moved first, then put the cursor where it goes.")
            return False
        chapter = found[0]
        source = next((c for c in self.bench.book.chapters if c.id == copied.chapter), None)
        try:
            edits = moved_to(self.bench.book, source, copied, chapter, self.transport.spot, self.editing.own_lane(found[1]))
        except EditRefused as problem:
            self.bench.warn(str(problem))
            return False
        self.transport.stop()
        label = f"Move: {copied.words}" if copied.words else "Move sound"
        done = self.bench.do(EditReels(tuple(edits), label), meant=frozenset(str(k) for k, _ in copied.content))
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

        def edits() -> list[ReelCommand]:
            copied = copy_of(chapter, (span,), [reel.lanes[k].id for k in self.editing.lanes(reel)], "")
            return [Paste(span.stop, span.stop, as_copy(copied.content, self.bench.book), edition=EDITION)]

        return self.editing.do(chapter, edits, "Duplicate", self.editing.said([span]))

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
                    at = onset_beside(self.editing.looks(reel), at, len(reel), self.bench.book.rate, 1)
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
            reel = edited(
                reel,
                filled(self.bench.book, chapter, spans, self._to_fill(reel))
                if fill
                else taken_out(self._eased(chapter, reel, spans), self.editing.lane),
            )
        except EditRefused as problem:
            self.bench.warn(str(problem))
            return
        rate, at = self.bench.book.rate, min(s.start for s in spans)
        lead, after = round(max(1.0, self.transport.lead_s) * rate), 2 * rate + (sum(map(len, spans)) if fill else 0)
        self.transport.hear_reel(reel, max(0, at - lead), min(len(reel), at + after))
