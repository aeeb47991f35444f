"""What an editor does with a span of a chapter: where its edges may go, and the commands that carry it out."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Container, Iterable, Sequence
from dataclasses import dataclass, replace
from enum import Enum
from itertools import count

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import CutAndClose, CutAndFill, InsertPause, Paste, PutMarker, ReelCommand, RemoveMarkers
from faithful_reel.core.reel.cutting import EDITION, Content, copied
from faithful_reel.core.reel.exchanges import sounds_of
from faithful_reel.core.reel.gains import line_at
from faithful_reel.core.reel.reel import LIKE, SOFT, Join, Lane, LaneRef, Piece, Points, Reel, Rest, Segment
from faithful_reel.core.reel.render import Row
from faithful_reel.core.reel.timing import LINKED
from faithful_reel.core.splice.meeting import met
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Signal, Span
from faithful_reel.core.work.mending import Columns, lane_tone
from faithful_reel.core.work.timeline import Tokens, finding_spans

PAUSE_S = 0.25
"""A gap between two words that is jumped to as a pause (common practice)."""
BEFORE_ONSET_S = 0.01
"""Left in front of an onset, so that the consonant is whole (common practice)."""
VALLEY_S, VALLEY_WINDOW_S = 0.03, 0.004
FALL_S, RISE_S, STAYS_S = 0.6, 1.2, 2.0
"""How long music takes to fall and to rise, and how long a pause is in which it does not."""
ONSET_WINDOW_S, ONSET_DB, QUIET_S = 0.005, 12.0, 0.05


def loudest(voices: Sequence[Columns], edges: NDArray[np.float64]) -> NDArray[np.float32]:
    """The minima and maxima, (2, n), of all voices between n + 1 reel positions: a pause is quiet on all of them."""
    found = np.array([columns(edges) for columns in voices])
    return np.stack([found[:, 0].min(axis=0), found[:, 1].max(axis=0)])


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


# --- commands ---------------------------------------------------------------------------------------------------------


MET = Join(529, "equal_gain")
"""12 ms: where the sound on both sides is alike, as `eased` sees to it."""


def eased(spans: Sequence[Span], tokens: Tokens, render: Callable[[int, int], Signal], length: int, rate: int) -> list[Span]:
    """Stretches, those from word to word moved to where their ends meet best (`splice.meeting.met`); others as they are.

    `render` gives samples of the lane at hand, (n,).
    """
    starts, stops = set(tokens.starts.tolist()), set(tokens.stops.tolist())
    return [met(render, s, length, rate) if s.start in starts and s.stop in stops else s for s in spans]


def taken_out(spans: Sequence[Span], lane: LaneRef = LINKED, like: Container[Span] = ()) -> list[ReelCommand]:
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
    """What was copied, from where, to be pasted in any chapter of the book.

    `content` names the lanes that it came from, by their ids in that chapter; `lanes` tell the name of each and whether it is
    music.  No chapter: it came from elsewhere, and is of one lane.
    """

    chapter: str
    spans: tuple[Span, ...]
    words: str
    content: Content
    lanes: tuple[tuple[str, bool], ...] = ()


def copy_of(chapter: ChapterState, spans: Sequence[Span], lanes: Sequence[str], words: str) -> Copied:
    """Stretches of some lanes, end to end."""
    reel = chapter.reel
    assert reel is not None
    rows = [dict(copied(reel, span, tuple(lanes))) for span in spans]
    content = tuple((k, tuple(s for row in rows for s in row[k])) for k in lanes)
    told = tuple((lane.name, lane.music) for lane in (reel.lanes[reel.index(k)] for k in lanes))
    return Copied(chapter.id, tuple(spans), words, content, told)


def content_for(chapter: ChapterState, copied: Copied, own: int | None) -> Content:
    """What was copied, for the lanes of a chapter.

    In the chapter that it came from it goes to its own lanes.  In another one a voice goes to the lane of its name, or to the
    only voice; sound of one lane goes to `own`, the lane that is meant, where that is known.

    Raises
    ------
    EditRefused
        A lane of it that sounds has none here: nothing of it is left out unsaid.
    """
    reel = chapter.reel
    assert reel is not None
    if chapter.id == copied.chapter:
        for k, _ in copied.content:
            reel.index(k)
        return copied.content
    if len(copied.content) == 1 and own is not None:
        return ((reel.lanes[own].id, copied.content[0][1]),)
    if not copied.lanes:
        raise EditRefused("It is not clear which lane this goes to. Take the lane in hand that it is for.")
    kept: list[tuple[LaneRef, tuple[Segment, ...]]] = []
    for (_, segments), (name, music) in zip(copied.content, copied.lanes, strict=True):
        same = [lane.id for lane in reel.lanes if lane.name.casefold() == name.casefold() and lane.music == music]
        alike = same or [lane.id for lane in reel.lanes if lane.music == music]
        if len(alike) == 1 and alike[0] not in {k for k, _ in kept}:
            kept.append((alike[0], segments))
        elif sounds_of(segments):
            raise EditRefused(
                f"It is not clear which lane of “{chapter.title}” the sound of {name} goes to. "
                f"Name a lane there {name}, or copy one lane and take the lane in hand that it is for."
            )
    return tuple(kept)


def as_copy(content: Content, book: Book) -> Content:
    """What was copied, as sound of its own: what is of a take that still stands in the book is not that take once more."""
    there = {
        s.take
        for c in book.chapters
        if c.reel is not None
        for lane in c.reel.lanes
        for s in lane.segments
        if isinstance(s, Piece)
    }
    return tuple(
        (k, tuple(replace(s, take="") if isinstance(s, Piece) and s.take in there else s for s in segments))
        for k, segments in content
    )


def moved_to(
    book: Book, source: ChapterState | None, copied: Copied, chapter: ChapterState, at: int, own: int | None
) -> list[tuple[str, ReelCommand]]:
    """The edits that take what was copied out where it was and put it in at a place of a chapter, its markers with it.

    Of all linked lanes the time goes with it; of some of them only their sound, and their own room tone stays in its place.

    Raises
    ------
    EditRefused
        It is no longer where it was, the place lies in it, or a lane of it has none there.
    """
    here, there = chapter.reel, source.reel if source is not None else None
    assert here is not None
    lanes = [str(k) for k, _ in copied.content]
    try:
        still = source is not None and there is not None and copy_of(source, copied.spans, lanes, "").content == copied.content
    except EditRefused:
        still = False
    if (
        not still
        or source is None
        or there is None
        or (source.id == chapter.id and any(s.start < at < s.stop for s in copied.spans))
    ):
        raise EditRefused("What was copied is no longer where it was. Copy it again.")
    with_it = {lane.id for lane in there.lanes if lane.linked}
    alone = [k for k in lanes if k not in with_it]
    if with_it <= set(lanes):
        take: list[ReelCommand] = [*taken_out(copied.spans), *(edit for k in alone for edit in taken_out(copied.spans, k))]
    else:
        take = filled(book, source, copied.spans, [there.index(k) for k in lanes])
    put = Paste(at, at, content_for(chapter, copied, own), edition=EDITION)
    markers = [
        (m, at + sum(len(s) for s in copied.spans[:k]) + m.at - span.start)
        for k, span in enumerate(copied.spans)
        for m in there.markers
        if span.start <= m.at < span.stop and with_it <= set(lanes)
    ]
    if source.id != chapter.id:
        out = [(source.id, RemoveMarkers((m.id,))) for m, _ in markers]
        taken = {m.id for m in here.markers}
        fresh = (n for k in count(1) if (n := f"m{k}") not in taken)
        into = [(chapter.id, PutMarker(replace(m, id=next(fresh), at=to))) for m, to in markers]
        return [*out, *((source.id, e) for e in take), (chapter.id, put), *into]
    shift = sum(len(s) for s in copied.spans if s.stop <= at) if with_it <= set(lanes) else 0
    put = replace(put, start=at - shift, stop=at - shift)
    back = [(chapter.id, PutMarker(replace(m, at=to - shift))) for m, to in markers]
    return [*((source.id, e) for e in take), (chapter.id, put), *back]
