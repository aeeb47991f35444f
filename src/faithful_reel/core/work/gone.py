"""Whose sound a step takes away beside that of the lane it was meant for: the one gate that every edit passes.

It looks at the reels before and after, not at the commands, so that no act can go around it.
"""

from __future__ import annotations

from bisect import bisect_left, insort
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from faithful_reel.core.book.commands import BookCommand, DecideSeveral, EditReel, EditReels, RoughCut, SwapTake
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.book.pickups import PlaceSplice, SpliceTakes, TakeOut
from faithful_reel.core.collate.findings import Finding
from faithful_reel.core.reel.commands import Paste, ReelCommand
from faithful_reel.core.reel.exchanges import Exchange, Sound, exchanges, heard_in, sounds_of
from faithful_reel.core.reel.reel import Lane, Reel
from faithful_reel.core.reel.timing import LINKED
from faithful_reel.core.units import Span
from faithful_reel.core.work.mending import Columns
from faithful_reel.core.work.timeline import Tokens, lane_with

LEAST_S, QUIETEST, LOUD, STANDS_OUT_DB = 0.05, 1e-3, 0.02, 12.0
"""Less sound of another voice is not asked about; a peak under the second is nothing, and one over the third always something:
where a lane never rests, nothing stands out of it (own rules)."""
EDITS = (DecideSeveral, EditReel, EditReels, PlaceSplice, RoughCut, SpliceTakes, SwapTake, TakeOut)
"""Commands that change a chapter's reel for the sake of some of its sound; others exchange it as a whole, by their name."""


@dataclass(frozen=True, slots=True)
class Going:
    """Sound of a lane that a step takes away: where, in the reel before it, for how long something sounds there, its words."""

    chapter: str
    lane: str
    name: str
    music: bool
    spans: tuple[Span, ...]
    samples: int
    words: str = ""

    @property
    def length(self) -> int:
        """How many samples of the lane go, sounding or not."""
        return sum(map(len, self.spans))

    def told(self, rate: int) -> str:
        """As a line of a question."""
        return f"{self.name}: {self.words or 'sound'} ({max(self.samples, 1) / rate:.2f} s)"


def going(
    before: Book,
    after: Book,
    columns: Callable[[ChapterState, int], Columns],
    tokens: Callable[[ChapterState], Tokens],
    meant: Collection[str] = (),
    *,
    music: bool | None = None,
) -> list[Going]:
    """What a step takes away from the lanes of all chapters it changes; sound that it only moves is not told.

    Of the lanes that it is `meant` for nothing is told either, and with `music` only of music, or only of voices.

    `columns(chapter, lane)` gives (2, n) minima and maxima between n + 1 positions of the chapter's reel before the step,
    `tokens(chapter)` its words.  Something sounds where the peak of 10 ms is 12 dB over what is usual in the quiet of the lane,
    within half a minute; words count in any case, also on a lane that is muted.
    """
    old = {c.id: c for c in before.chapters}
    pairs = [
        (known, known.reel, c.reel)
        for c in after.chapters
        if c.reel is not None and (known := old.get(c.id)) is not None and known.reel is not None and known.reel is not c.reel
    ]
    rows = [(chapter, was, now, _exchanged(was, now)) for chapter, was, now in pairs]
    came = Came((now, changed) for _, _, now, changed in rows)
    found: list[Going] = []
    for chapter, was, _, changed in rows:
        for number, lane in enumerate(was.lanes):
            if lane.id in meant or (music is not None and lane.music is not music):
                continue
            spans = _lost(lane, changed.get(lane.id, ()), came)
            if not spans:
                continue
            sounding = _sounding(columns(chapter, number), spans, len(lane), before.rate)
            words = "" if lane.music else lane_words(tokens(chapter), spans, number)
            if words or sounding > LEAST_S * before.rate:
                found.append(Going(chapter.id, lane.id, lane.name, lane.music, tuple(spans), sounding, words))
    return found


def beside(
    reel: Reel, span: Span, own: Collection[str], columns: Sequence[Columns], tokens: Tokens, rate: int, chapter: str = ""
) -> list[Going]:
    """Voices other than `own` whose sound would go too were a stretch taken out of all linked lanes; as `going` tells of it.

    `columns` has a function for every lane: of n + 1 positions of the reel it gives (2, n) minima and maxima.
    """
    found: list[Going] = []
    for number, lane in enumerate(reel.lanes):
        if lane.music or not lane.linked or lane.id in own or span.start >= len(lane):
            continue
        sounding = _sounding(columns[number], [span], len(lane), rate)
        words = lane_words(tokens, [span], number)
        if words or sounding > LEAST_S * rate:
            found.append(Going(chapter, lane.id, lane.name, False, (span,), sounding, words))
    return found


def _exchanged(was: Reel, now: Reel) -> dict[str, list[Exchange]]:
    """What a step exchanged on each lane that stays."""
    old = {lane.id: lane for lane in was.lanes}
    return {lane.id: exchanges(old[lane.id], lane) for lane in now.lanes if lane.id in old}


class Came:
    """All that a step brought into some reels, as often as it came: each stretch of it stands for one that went, once."""

    def __init__(self, rows: Iterable[tuple[Reel, Mapping[str, Sequence[Exchange]]]]) -> None:
        self._rows: dict[str, list[tuple[int, int]]] = {}
        for now, changed in rows:
            for lane in now.lanes:
                whole = (lane.segments,) if lane.id not in changed else (lane.between(e.new) for e in changed[lane.id])
                for recording, start, stop in heard_in(s for part in whole for s in part):
                    insort(self._rows.setdefault(recording, []), (start, stop))
        self._longest = {name: max(b - a for a, b in row) for name, row in self._rows.items()}

    def without(self, sound: Sound) -> list[tuple[int, int]]:
        """What of a stretch of a recording did not come; what did stands for nothing else any more."""
        recording, start, stop = sound
        row = self._rows.get(recording, [])
        first, last = bisect_left(row, (start - self._longest.get(recording, 0),)), bisect_left(row, (stop,))
        left, unused = [(start, stop)], []
        for a, b in row[first:last]:
            parts, at = [], a
            for s, e in left:
                lo, hi = max(s, a), min(e, b)
                if hi <= lo:
                    parts.append((s, e))
                    continue
                parts += [(s, lo)] * (s < lo) + [(hi, e)] * (hi < e)
                unused += [(at, lo)] * (at < lo)
                at = hi
            unused += [(at, b)] * (at < b)
            left = parts
        row[first:last] = sorted(unused)
        return left


def _lost(was: Lane, changed: Iterable[Exchange], came: Came) -> list[Span]:
    """The stretches of a lane whose sound goes, those that touch as one."""
    found: list[Span] = []
    for exchange in changed:
        at = exchange.old.start
        for segment in was.between(exchange.old):
            for _, start, stop in sounds_of([segment]):
                for a, b in came.without((segment.recording, start, stop)):
                    span = Span(at + a - start, at + b - start)
                    if found and found[-1].stop == span.start:
                        span = Span(found.pop().start, span.stop)
                    found.append(span)
            at += len(segment)
    return found


def lane_words(tokens: Tokens, spans: Sequence[Span], lane: int) -> str:
    """What one voice says in some stretches, as far as it was heard."""
    touched = np.zeros(len(tokens), bool)
    for span in spans:
        touched |= (tokens.starts < span.stop) & (tokens.stops > span.start)
    if tokens.lanes is not None:
        touched &= tokens.lanes == lane
    elif lane:
        return ""
    return " ".join(tokens.texts[k] for k in np.flatnonzero(touched).tolist())


def sounds(columns: Columns, span: Span, length: int, rate: int) -> bool:
    """Whether anything sounds in a stretch of a lane of so many samples; `columns` gives (2, n) peaks, as in `going`."""
    return _sounding(columns, [span], length, rate) > 0


def _sounding(columns: Columns, spans: Sequence[Span], length: int, rate: int) -> int:
    """For how many samples of some spans, which rise and do not overlap, something sounds."""
    step, around = max(1, rate // 100), 15 * rate
    spans = [s for s in spans if _peak(columns, s, length) > QUIETEST]
    near: list[tuple[int, int, list[Span]]] = []
    for span in (Span(s.start, min(s.stop, length)) for s in spans if s.start < min(s.stop, length)):
        first, last = max(0, span.start - around), min(length, span.stop + around)
        if near and first <= near[-1][1]:
            near[-1] = (near[-1][0], last, [*near[-1][2], span])
        elif last - first >= step:
            near.append((first, last, [span]))
    return sum(_sounding_near(columns, *row, step, around) for row in near)


def _peak(columns: Columns, span: Span, length: int) -> float:
    """The highest sample of a span, as far as the lane reaches."""
    ends = np.array([span.start, min(span.stop, length)], np.float64)
    return float(np.abs(columns(ends)).max()) if ends[0] < ends[1] else 0.0


def _sounding_near(columns: Columns, first: int, last: int, spans: Sequence[Span], step: int, around: int) -> int:
    """For how many samples of some spans something sounds, by what is usual `around` each of them, from `first` to `last`."""
    ends = np.array([at for span in spans for at in (span.start, span.stop)])
    edges = np.sort(np.concatenate([np.arange(first, last, step, dtype=np.float64), [last], ends]))
    edges = edges[np.diff(edges, prepend=-1.0) > 0]
    peaks, widths = np.maximum.reduce(np.abs(columns(edges))), np.diff(edges)
    found = 0.0
    for span, (a, b) in zip(spans, np.searchsorted(edges, ends).reshape(-1, 2).tolist(), strict=True):
        usual = peaks[np.searchsorted(edges, span.start - around) : np.searchsorted(edges, span.stop + around)]
        heard = usual[usual > 0]
        quiet = float(np.percentile(heard, 20)) if len(heard) else 0.0
        stands_out = max(QUIETEST, min(LOUD, quiet * 10 ** (STANDS_OUT_DB / 20)))
        found += float(widths[a:b][peaks[a:b] > stands_out].sum())
    return int(found)


def meant(command: BookCommand, book: Book) -> frozenset[str]:
    """The lanes that a command was given for, by its edits and by the findings that it mends; empty where neither says it."""
    found: set[str] = set()
    for chapter, edit in _edits(command, book):
        reel = next((c.reel for c in book.chapters if c.id == chapter), None)
        if reel is not None:
            found |= {
                reel.lanes[reel.index(ref)].id for ref in _lanes(edit) if ref in range(len(reel.lanes)) or isinstance(ref, str)
            }
    for chapter, findings in _findings(command):
        state = next((c for c in book.chapters if c.id == chapter), None)
        if state is not None and state.reel is not None:
            found |= {_lane_of(state, state.reel, f) for f in state.findings if f.id in findings}
    return frozenset(found)


def _lane_of(chapter: ChapterState, reel: Reel, finding: Finding) -> str:
    return reel.lanes[lane_with(reel, finding.recording or chapter.recording)].id


def _edits(command: BookCommand, book: Book) -> Iterator[tuple[str, ReelCommand]]:
    match command:
        case EditReel() | PlaceSplice():
            yield command.chapter, command.edit
        case EditReels():
            yield from command.edits
        case RoughCut() | DecideSeveral() | SwapTake():
            yield from ((command.chapter, edit) for edit in command.edits)
        case SpliceTakes():
            for splice in command.splices:
                yield from ((book.pickup(splice.pickup).chapter, edit) for edit in splice.edits)
        case _:
            return


def _lanes(edit: ReelCommand) -> Iterable[int | str]:
    if isinstance(edit, Paste):
        return [ref for ref, _ in edit.content]
    ref = getattr(edit, "lane", LINKED)
    return [ref] if isinstance(ref, str) or (isinstance(ref, int) and ref != LINKED) else []


def _findings(command: BookCommand) -> Iterator[tuple[str, Collection[str]]]:
    match command:
        case EditReel() | RoughCut():
            yield command.chapter, command.findings
        case EditReels():
            yield from ((chapter, (finding,)) for chapter, finding in command.mended)
        case DecideSeveral():
            yield from ((command.chapter, d.findings) for d in command.decided)
        case _:
            return


def others(rows: Sequence[Going], meant_for: Collection[str]) -> list[Going]:
    """Those that are to be asked about: voices for whose sake the step was not given.

    Where it is not said whose sake it is for, it is that of the voice that loses most, in each chapter.
    """
    voices = [g for g in rows if not g.music]
    asked = [g for g in voices if g.lane not in meant_for]
    if meant_for:
        return asked
    spared = {
        max((g for g in asked if g.chapter == c), key=lambda g: g.samples, default=None) for c in {g.chapter for g in asked}
    }
    return [g for g in asked if g not in spared]
