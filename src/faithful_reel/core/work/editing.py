"""What an editor does with a span of a chapter: where its edges may go, and the commands that carry it out."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Container, Iterable, Sequence
from dataclasses import dataclass
from enum import Enum

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import CutAndClose, CutAndFill, InsertPause, ReelCommand
from faithful_reel.core.reel.cutting import Content, copied
from faithful_reel.core.reel.gains import line_at
from faithful_reel.core.reel.reel import LIKE, SOFT, Join, Lane, Piece, Points, Reel, Rest
from faithful_reel.core.reel.render import Row
from faithful_reel.core.reel.timing import LINKED
from faithful_reel.core.splice.meeting import met
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Signal, Span
from faithful_reel.core.work.mending import lane_tone
from faithful_reel.core.work.timeline import Tokens, finding_spans

PAUSE_S = 0.25
"""A gap between two words that is jumped to as a pause (common practice)."""
BEFORE_ONSET_S = 0.01
"""Left in front of an onset, so that the consonant is whole (common practice)."""
VALLEY_S, VALLEY_WINDOW_S = 0.03, 0.004
FALL_S, RISE_S, STAYS_S = 0.6, 1.2, 2.0
"""How long music takes to fall and to rise, and how long a pause is in which it does not."""
LEAST_BESIDE_S, QUIETEST = 0.05, 1e-3
"""Less of another voice is not asked about; a peak under this is nothing."""
ONSET_WINDOW_S, ONSET_DB, QUIET_S = 0.005, 12.0, 0.05


Columns = Callable[[NDArray[np.float64]], NDArray[np.float32]]


class Stop(Enum):
    """Kinds of places that a key jumps to, and that an edge snaps to."""

    WORD = "word"
    SENTENCE = "sentence"
    PAUSE = "pause"
    ONSET = "onset"
    JOIN = "join"
    MARKER = "marker"
    FINDING = "finding"


SNAPPED = (Stop.WORD, Stop.JOIN, Stop.MARKER)
"""Kinds that edges snap to, beside valleys."""


@dataclass(frozen=True, slots=True)
class Stops:
    """The places of a chapter by their kind, each row rising, in reel time."""

    rows: dict[Stop, tuple[int, ...]]

    def beside(self, kind: Stop, position: int, way: int) -> int | None:
        """The next place of a kind after (`way` 1) or before (-1) a position; None where there is none."""
        row = self.rows[kind]
        k = bisect_right(row, position) if way > 0 else bisect_left(row, position) - 1
        return row[k] if 0 <= k < len(row) else None

    def nearest(self, kinds: Iterable[Stop], position: int, reach: int) -> int | None:
        """The nearest place of some kinds within reach; None where there is none."""
        found = [at for kind in kinds for way in (1, -1) if (at := self.beside(kind, position - way, way)) is not None]
        best = min(found, key=lambda at: abs(at - position), default=None)
        return best if best is not None and abs(best - position) <= reach else None


def stops_of(chapter: ChapterState, text: Chapter, tokens: Tokens, rate: int) -> Stops:
    """The places of a chapter; onsets are asked of its sound, see `onset_beside`."""
    heard = tokens.heard()
    starts, stops = heard.starts, heard.stops
    firsts = {s.start for s in text.sentences()}
    sentences = starts[np.isin(heard.words, list(firsts))]
    gaps = starts[1:] - np.maximum.accumulate(stops)[:-1] if len(starts) else starts
    pauses = np.maximum.accumulate(stops)[:-1][gaps >= PAUSE_S * rate] if len(starts) else starts
    reel = chapter.reel
    joins = {at for lane in reel.lanes for at in lane.starts()[1:-1]} if reel else set()
    findings = {s.start for s in finding_spans(chapter, chapter.findings) if s is not None}
    return Stops(
        {
            Stop.WORD: tuple(sorted({*starts.tolist(), *stops.tolist()})),
            Stop.SENTENCE: tuple(sorted(set(sentences.tolist()))),
            Stop.PAUSE: tuple(sorted(set(pauses.tolist()))),
            Stop.ONSET: (),
            Stop.JOIN: tuple(sorted(joins)),
            Stop.MARKER: tuple(sorted({m.at for m in reel.markers})) if reel else (),
            Stop.FINDING: tuple(sorted(findings)),
        }
    )


def quietest(render: Callable[[int, int], Signal], position: int, length: int, rate: int) -> int:
    """The middle of the quietest 4 ms within 30 ms of a position: the valley to cut in (common practice).

    `render` gives samples between two reel positions, (n,) or (channels, n).
    """
    reach, window = round(VALLEY_S * rate), max(2, round(VALLEY_WINDOW_S * rate))
    first, last = max(0, position - reach), min(length, position + reach)
    if last - first <= window:
        return position
    x = np.asarray(render(first, last), np.float64)
    power = np.square(x if x.ndim == 1 else x.mean(axis=0))
    sums = np.convolve(power, np.ones(window), "valid")
    quiet = np.flatnonzero(sums <= sums.min() * (1 + 1e-9))
    nearest = quiet[np.argmin(np.abs(first + quiet + window // 2 - position))]
    return int(first + nearest + window // 2)


def onset_beside(
    columns: Callable[[NDArray[np.float64]], NDArray[np.float32]], position: int, length: int, rate: int, way: int
) -> int | None:
    """The next onset of sound after (`way` 1) or before (-1) a position: 12 dB out of at least 50 ms of quiet.

    `columns` gives (2, n) minima and maxima between n + 1 reel positions, as the picture of a reel does.  It is looked for
    within half a minute; what is found is 10 ms before the rise.
    """
    step, far = max(1, round(ONSET_WINDOW_S * rate)), 30 * rate
    first, last = (position, min(length, position + far)) if way > 0 else (max(0, position - far), position)
    if last - first < 2 * step:
        return None
    edges = np.arange(first, last + 1, step, dtype=np.float64)
    peaks = np.maximum.reduce(np.abs(columns(edges)))
    rows = max(1, round(QUIET_S / ONSET_WINDOW_S))
    if len(peaks) <= rows:
        return None
    before = np.lib.stride_tricks.sliding_window_view(peaks, rows).max(axis=1)[:-1]
    now = peaks[rows:]
    rises = np.flatnonzero(now > np.maximum(before, 1e-5) * 10 ** (ONSET_DB / 20)) + rows
    places = [int(edges[k]) - round(BEFORE_ONSET_S * rate) for k in rises]
    beyond = [at for at in places if (at > position if way > 0 else at < position)]
    return (beyond[0] if way > 0 else beyond[-1]) if beyond else None


# --- whose words ------------------------------------------------------------------------------------------------------


def words_between(tokens: Tokens, span: Span) -> tuple[int, int]:
    """The first and the last written word of which more than half is heard in a span; (-1, -1) for none."""
    starts, stops = tokens.starts, tokens.stops
    inside = np.minimum(stops, span.stop) - np.maximum(starts, span.start)
    found = tokens.words[(starts >= 0) & (tokens.words >= 0) & (2 * inside > stops - starts)]
    return (int(found.min()), int(found.max())) if len(found) else (-1, -1)


def lane_told(lane: Lane, rate: int) -> str:
    """What is to be said of a lane beside its name: its level and place, that it is not linked, how far it is out of step."""
    side = "left" if lane.pan < 0 else "right"
    told = [f"{lane.gain_db:+.1f} dB"] if lane.gain_db else []
    told += [f"{abs(lane.pan):.0%} {side}"] if lane.pan else []
    told += [] if lane.linked else ["not linked"]
    told += [f"{abs(lane.late) / rate:.3f} s {'late' if lane.late > 0 else 'early'}"] if lane.late else []
    return ", ".join(told)


@dataclass(frozen=True, slots=True)
class Beside:
    """Sound of another voice that would go as well: its lane, how long something sounds there, its words where they are known."""

    lane: int
    name: str
    samples: int
    words: str = ""


def beside(reel: Reel, spans: Sequence[Span], lane: int, columns: Callable[[int], Columns], rate: int) -> list[Beside]:
    """Whose sound goes too where stretches are taken out of all linked lanes, for the sake of the one that they are marked on.

    `columns(lane)` gives (2, n) minima and maxima between n + 1 reel positions.  Something sounds where the peak of 10 ms is
    12 dB over what is usual in the quiet of the lane, within half a minute; music and lanes that are not linked are not asked.
    """
    own = max(0, lane)
    found: list[Beside] = []
    for index, row in enumerate(reel.lanes):
        if index == own or row.music or row.muted or not row.linked or not reel.lanes[own].linked:
            continue
        held = [Span(s.start, min(s.stop, len(row))) for s in spans if s.start < len(row)]
        heard = sum(_sounding(columns(index), span, len(row), rate) for span in held)
        if heard > LEAST_BESIDE_S * rate:
            found.append(Beside(index, row.name, heard))
    return found


def lane_words(tokens: Tokens, spans: Sequence[Span], lane: int) -> str:
    """What one voice says in some stretches, as far as it was heard."""
    said = [t.text for t in tokens if t.lane == lane and any(t.start < s.stop and t.stop > s.start for s in spans)]
    return " ".join(said)


def _sounding(columns: Columns, span: Span, length: int, rate: int) -> int:
    """For how many samples of a span something sounds."""
    step, around = max(1, rate // 100), 15 * rate
    first, last = max(0, span.start - around), min(length, span.stop + around)
    if last - first < step or not len(span):
        return 0
    edges = np.append(np.arange(first, last, step, dtype=np.float64), float(last))
    peaks = np.maximum.reduce(np.abs(columns(edges)))
    sounding = peaks[peaks > 0]
    quiet = float(np.percentile(sounding, 20)) if len(sounding) else 0.0
    inside = (edges[:-1] >= span.start) & (edges[:-1] < span.stop)
    return int(np.count_nonzero(inside & (peaks > max(QUIETEST, quiet * 10 ** (ONSET_DB / 20)))) * step)


# --- commands ---------------------------------------------------------------------------------------------------------


MET = Join(529, "equal_gain")
"""12 ms: where the sound on both sides is alike, as `eased` sees to it."""


def eased(spans: Sequence[Span], tokens: Tokens, render: Callable[[int, int], Signal], length: int, rate: int) -> list[Span]:
    """Stretches, those from word to word moved to where their ends meet best (`splice.meeting.met`); others as they are.

    `render` gives samples of the lane at hand, (n,).
    """
    starts, stops = set(tokens.starts.tolist()), set(tokens.stops.tolist())
    return [met(render, s, length, rate) if s.start in starts and s.stop in stops else s for s in spans]


def taken_out(spans: Sequence[Span], lane: int = LINKED, like: Container[Span] = ()) -> list[ReelCommand]:
    """Several stretches taken out and closed up: the last first, so that none moves another; `like` are those that were eased."""
    return [CutAndClose(s.start, s.stop, MET if s in like else SOFT, lane=lane) for s in reversed(_apart(spans))]


def filled(book: Book, chapter: ChapterState, spans: Sequence[Span], lanes: Sequence[int]) -> list[ReelCommand]:
    """Several stretches laid over with each lane's own room tone, or with nothing on a lane that has none."""
    return [CutAndFill(s.start, s.stop, lane_tone(book, chapter, k), k) for s in _apart(spans) for k in lanes]


def kept_only(reel: Reel, spans: Sequence[Span], lane: int = LINKED) -> list[ReelCommand]:
    """All but some stretches taken out.

    Raises
    ------
    EditRefused
        That is the whole reel.
    """
    kept = _apart(spans)
    bounds = [0, *(at for s in kept for at in (s.start, s.stop)), len(reel)]
    gone = [Span(a, b) for a, b in zip(bounds[::2], bounds[1::2], strict=True) if b > a]
    if not gone or not kept:
        raise EditRefused("This is all of the chapter. Choose a shorter stretch to keep.")
    return taken_out(gone, lane)


def paused(book: Book, chapter: ChapterState, at: int, length: int, lane: int = 0) -> ReelCommand:
    """A pause of so many samples at a place."""
    return InsertPause(at, length, lane_tone(book, chapter, lane), lane)


def _apart(spans: Sequence[Span]) -> list[Span]:
    """Stretches in order, those that touch as one."""
    found: list[Span] = []
    for span in sorted(s for s in spans if len(s)):
        if found and span.start <= found[-1].stop:
            found[-1] = Span(found[-1].start, max(found[-1].stop, span.stop))
        else:
            found.append(span)
    return found


def lane_of(recording: Recording, name: str, at: int, *, music: bool) -> Lane:
    """A recording as a lane that begins at a place of the chapter."""
    wait = (Rest(at),) if at > 0 else ()
    return Lane(name, (*wait, Piece(recording.hash, 0, recording.length)), music=music, tone=None if music else recording.tone)


def gives_way(tokens: Tokens, length: int, rate: int, *, by_db: float, lead_s: float = 0.0) -> Points:
    """The gain line of a music lane that falls while words are heard and rises after them, in reel time.

    It is down when the first word begins and while pauses are shorter than two seconds (common practice: opening music falls as
    the voice enters).  With `lead_s` it is down so long before the voice comes in, and stays as long after it; below 0 later.
    """
    heard = tokens.heard()
    stretches = _apart(
        [Span(a, b + round(STAYS_S * rate)) for a, b in zip(heard.starts.tolist(), heard.stops.tolist(), strict=True)]
    )
    fall, rise, stays, lead = (round(s * rate) for s in (FALL_S, RISE_S, STAYS_S, lead_s))
    points: dict[int, float] = {}
    for span in stretches:
        down, up = max(0, span.start - lead), span.stop - stays + lead
        points |= {
            max(0, down - fall): 0.0 if down > fall else -by_db,
            down: -by_db,
            max(down, up): -by_db,
            max(down, up) + rise: 0.0,
        }
    line = tuple(sorted(points.items()))
    kept = tuple(p for p in line if p[0] < length)
    return (*kept, (length - 1, line_at(line, length - 1))) if 0 < len(kept) < len(line) else kept


def beyond_joins(lane: Lane, span: Span) -> Span:
    """A span whose edges are moved outward until no crossfade reaches them, nor would one of its own reach another's."""
    if not len(span):
        return span
    row, own = Row(lane), LIKE.length // 2
    start, stop = span.start, span.stop
    reaches = [
        (row.starts[k] - row.crossfade(k) // 2 - own, row.starts[k] + row.crossfade(k) // 2 + own)
        for k in range(1, len(lane.segments))
        if row.crossfade(k)
    ]
    for first, last in reversed(reaches):
        start = first if first < start < last else start
    for first, last in reaches:
        stop = last if first < stop < last else stop
    return Span(max(0, start), min(len(lane), stop))


@dataclass(frozen=True, slots=True)
class Copied:
    """What was copied, from where, to be pasted in any chapter of the book."""

    chapter: str
    span: Span
    words: str
    content: Content


def copy_of(chapter: ChapterState, span: Span, lanes: Sequence[int], words: str) -> Copied:
    """A stretch of some lanes."""
    assert chapter.reel is not None
    return Copied(chapter.id, span, words, copied(chapter.reel, span, tuple(lanes)))


def content_for(reel: Reel, content: Content) -> Content:
    """What was copied, for a reel that may have fewer lanes: those that it has not are left out.

    Raises
    ------
    EditRefused
        None of its lanes is there.
    """
    kept = tuple((lane, segments) for lane, segments in content if lane < len(reel.lanes))
    if not kept:
        raise EditRefused("This chapter has none of the lanes that were copied.")
    return kept
