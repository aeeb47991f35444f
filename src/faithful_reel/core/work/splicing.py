"""Planning the splice of a pickup into a chapter's reel as it stands."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.pickups.ledger import Pickup, Take
from faithful_reel.core.pickups.placing import CONTEXT_S, Spliced, line_side, measured, take_side
from faithful_reel.core.pickups.takes import changed_tokens
from faithful_reel.core.reel.commands import ReplaceByTake
from faithful_reel.core.reel.reel import Lane, Piece, Reel, places_of
from faithful_reel.core.reel.render import Renderer, Source
from faithful_reel.core.splice.boundaries import Side
from faithful_reel.core.splice.place import Plan, planned_splice
from faithful_reel.core.splice.seam import Seam, natural_seam, seam_at
from faithful_reel.core.units import Signal, Span
from faithful_reel.core.work.mending import tone_of
from faithful_reel.core.work.timeline import Hearing, lane_with, voice_tokens

EDGE_S = 0.25


Stretch = tuple[int, int]


class LineWord(NamedTuple):
    """A word of the line in the three sounds that stand under each other, (start, stop) each; None where it is not heard.

    `from_take` says which sound the result has it from.
    """

    text: str
    original: Stretch | None
    result: Stretch | None
    take: Stretch | None
    from_take: bool


@dataclass(frozen=True, slots=True)
class Preview:
    """A splice before it is done: the plan, the reel it would give, its seams, and both stretches of sound."""

    plan: Plan
    reel: Reel
    made: Spliced
    original: Span
    take: Span
    words: tuple[LineWord, ...]
    """Original and result in the reel as it is and as it would be, the take in its recording."""


def take_gaps(take: Take, rate: int) -> tuple[Span | None, ...]:
    """The gaps before every token of a take's line and after its last; the outer ones reach `EDGE_S`.

    For takes that were received by an earlier version, which did not keep what is heard around them.
    """
    edge = round(EDGE_S * rate)
    gaps: list[Span | None] = []
    for token in range(len(take.words) + 1):
        left = take.words[token - 1] if token else (-1, take.start - edge)
        right = take.words[token] if token < len(take.words) else (take.stop + edge, -1)
        known = (token == 0 or left[0] >= 0) and (token == len(take.words) or right[0] >= 0)
        gaps.append(Span(max(0, left[1]), max(0, left[1], right[0])) if known else None)
    return tuple(gaps)


def preview_splice(
    book: Book,
    chapter: ChapterState,
    pickup: Pickup,
    hearing: Hearing,
    render: Callable[[int, int], Signal],
    render_of: Callable[[Reel], Renderer],
    *,
    choose: tuple[int, int] = (0, 0),
    match_level: bool = True,
) -> Preview:
    """Plan a pickup's chosen take into its chapter and measure what it would give; `render` gives (n,) of the reel as it is.

    Raises
    ------
    EditRefused
        There is no chosen take, the line is no longer in the reel, or no boundary fits.
    """
    if not 0 <= pickup.chosen < len(pickup.takes):
        raise EditRefused("No take is chosen for this line. Choose one at the Pickups desk.")
    reel = chapter.reel
    if reel is None:
        raise EditRefused("This chapter has no recording.")
    take = pickup.takes[pickup.chosen]
    span = range(pickup.first_word, pickup.first_word + pickup.word_count)
    links = hearing.link_rows()
    spoken = [hearing.heard[j] for link in links if link.written and link.written.start in span for j in link.heard]
    if not spoken:
        raise EditRefused("This line was not heard in the chapter, so there is no place to put it. Cut or split by hand.")

    def place(gap: Span) -> Span | None:
        found = places_of(reel, chapter.recording, gap)
        return Span(found[0].start, found[-1].stop) if found else None

    whole = place(Span(min(h.start for h in spoken), max(h.stop for h in spoken)))
    if whole is None:
        raise EditRefused("This line was cut out of the reel. Undo that first, or splice by hand.")
    reach = round(CONTEXT_S * book.rate)
    lo, hi = max(0, whole.start - reach), min(len(reel), whole.stop + reach)
    original = line_side(render(lo, hi), lo, links, hearing.heard, span, place)
    theirs_side, take_span = _take_side(pickup.line, take, render_of(reel).source, book.rate)
    plan = planned_splice(
        original,
        theirs_side,
        changed_tokens(links, span),
        book.rate,
        recording=take.recording,
        tone=tone_of(book, chapter),
        take_id=pickup.id,
        match_level=match_level,
        choose=choose,
    )
    _refuse_taking_words(chapter, hearing, plan.command)
    after = plan.command.apply(reel)
    edges = [(a.stop + b.start) // 2 for a, b in zip(hearing.heard, hearing.heard[1:], strict=False)]
    natural = [
        p for p in (place(Span(e, e)) for e in edges if spoken[0].start - 8 * book.rate < e < spoken[0].start) if p is not None
    ]
    made = measured(
        after,
        plan,
        render_of(after),
        [p.start for p in natural if p.start < plan.command.start - book.rate // 10][-8:],
        book.rate,
    )
    return Preview(plan, after, made, Span(lo, hi), take_span, _line_words(pickup, take, hearing, plan, place))


def _refuse_taking_words(chapter: ChapterState, hearing: Hearing, command: ReplaceByTake) -> None:
    """A take that is shorter takes time away from all linked lanes: not while another voice speaks there.

    Raises
    ------
    EditRefused
        It would take words of another voice away.
    """
    lost = (command.stop - command.start) - (command.take_stop - command.take_start)
    assert chapter.reel is not None
    for recording, heard in hearing.voices if lost > 0 else ():
        lane = chapter.reel.lanes[lane_with(chapter.reel, recording)]
        spoken = voice_tokens(chapter, [""] * len(heard.placed), recording, heard).heard()
        inside = (spoken.starts < command.stop) & (spoken.stops > command.stop - lost)
        if lane.linked and inside.any():
            raise EditRefused(
                f"The take is shorter, and words of {lane.name} would go with the time that is lost. "
                "Insert a pause behind the line first, or unlink the lane."
            )


def _take_side(line: str, take: Take, source: Source, rate: int) -> tuple[Side, Span]:
    """The take's side of a splice, and the stretch of its recording that it was read from."""
    edge = round(0.5 * rate)
    span = Span(max(0, take.start - edge), take.stop + edge)
    sound = Renderer(Reel((Lane("take", (Piece(take.recording, span.start, span.stop),)),)), source).render(0, len(span))
    if take.said:
        said = [Heard(text, start, stop, 1.0) for text, start, stop in take.said]
        return take_side(sound, span.start, line.split(), said, range(*take.own)), span
    gaps = take_gaps(take, rate)
    return Side(sound, span.start, gaps, gaps), span


def _line_words(
    pickup: Pickup, take: Take, hearing: Hearing, plan: Plan, place: Callable[[Span], Span | None]
) -> tuple[LineWord, ...]:
    """Where the words of a line would be heard: those between the boundaries from the take, what follows moved along."""
    command = plan.command
    inside = range(plan.chosen_in.token, plan.chosen_out.token)
    ahead = command.start - command.take_start
    shift = (command.take_stop - command.take_start) - (command.stop - command.start)
    words = []
    for offset, text in enumerate(pickup.line.split()):
        index = pickup.first_word + offset
        placed = hearing.placed[index] if index < len(hearing.placed) else None
        found = place(Span(placed.start, placed.stop)) if placed else None
        original = (found.start, found.stop) if found else None
        theirs = take.words[offset] if offset < len(take.words) and take.words[offset][0] >= 0 else None
        from_take = offset in inside
        moved = shift if original and original[0] >= command.stop - 1 else 0
        heard, by = (theirs, ahead) if from_take else (original, moved)
        words.append(LineWord(text, original, (heard[0] + by, heard[1] + by) if heard else None, theirs, from_take))
    return tuple(words)


@dataclass(frozen=True, slots=True)
class InPlace:
    """A take that is in: where it stands in the reel, its seams there, and every word of the line in all three sounds."""

    span: Span
    seam_in: Seam
    seam_out: Seam
    natural: Seam | None
    words: tuple[LineWord, ...]
    """The original in the chapter's recording, the result in the reel, the take in its recording."""


def in_place(
    book: Book, chapter: ChapterState, pickup: Pickup, hearing: Hearing, render_of: Callable[[Reel], Renderer]
) -> InPlace | None:
    """How a spliced pickup stands in the reel as it is now; None where its take is no longer there."""
    reel = chapter.reel
    span = piece_of(reel, pickup.id) if reel else None
    if reel is None or span is None or not 0 <= pickup.chosen < len(pickup.takes):
        return None
    take = pickup.takes[pickup.chosen]
    lane = reel.lanes[0]
    piece = next(s for s in lane.segments if isinstance(s, Piece) and s.take == pickup.id)
    words = []
    for offset, text in enumerate(pickup.line.split()):
        index = pickup.first_word + offset
        placed = hearing.placed[index] if index < len(hearing.placed) else None
        theirs = take.words[offset] if offset < len(take.words) and take.words[offset][0] >= 0 else None
        middle = sum(theirs) // 2 if theirs else -1
        result: tuple[int, int] | None = None
        inside = theirs is not None and piece.start <= middle < piece.stop
        if theirs and inside:
            result = theirs[0] - piece.start + span.start, theirs[1] - piece.start + span.start
        elif placed and (found := places_of(reel, chapter.recording, Span(placed.start, placed.stop))):
            result = found[0].start, found[-1].stop
        words.append(LineWord(text, (placed.start, placed.stop) if placed else None, result, theirs, inside))
    rate = book.rate
    start, stop = max(0, span.start - 4 * rate), min(len(reel), span.stop + 4 * rate)
    x = np.atleast_2d(render_of(reel).render(start, stop)).mean(axis=0)
    edges = [(a.stop + b.start) // 2 for a, b in itertools.pairwise(hearing.heard)]
    near = [p.start for e in edges if (found := places_of(reel, chapter.recording, Span(e, e))) for p in found[:1]]
    near = [at - start for at in near if start + rate // 2 < at < span.start - rate // 10][-8:]
    return InPlace(
        span, seam_at(x, span.start - start, rate), seam_at(x, span.stop - start, rate), natural_seam(x, near, rate), tuple(words)
    )


def recording_reel(book: Book, recording: str) -> Reel:
    """A whole recording of a book as a reel."""
    return Reel((Lane("original", (Piece(recording, 0, book.recording(recording).length),)),))


def take_reel(book: Book, take: Take) -> Reel:
    """The recording that a take is in, as a reel: as far as it is known to last, in books of which it was lost to its end."""
    known = next((r.length for r in book.recordings if r.hash == take.recording), take.stop + round(EDGE_S * book.rate))
    return Reel((Lane("take", (Piece(take.recording, 0, known),)),))


def placed_joins(reel: Reel, index: int = 0) -> tuple[int, ...]:
    """Where pieces meet on a lane, leaving out splits without a crossfade."""
    lane = reel.lanes[index]
    starts = lane.starts()
    return tuple(starts[i] for i in range(1, len(lane.segments)) if lane.segments[i].join.length > 0)


def piece_of(reel: Reel, pickup: str) -> Span | None:
    """Where a spliced pickup's take stands in the reel."""
    lane = reel.lanes[0]
    for segment, at in zip(lane.segments, lane.starts(), strict=False):
        if isinstance(segment, Piece) and segment.take == pickup:
            return Span(at, at + len(segment))
    return None
