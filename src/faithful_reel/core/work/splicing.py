"""Planning the splice of a pickup into a chapter's reel as it stands."""

from __future__ import annotations

import hashlib
import itertools
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, replace
from typing import NamedTuple

import numpy as np

from faithful_reel.core.audio.tempo import Tempo
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.pickups.ledger import Pickup, Take
from faithful_reel.core.pickups.placing import CONTEXT_S, Spliced, measured, spoken_and_side, take_side
from faithful_reel.core.pickups.takes import Row, changed_tokens
from faithful_reel.core.reel.commands import ReplaceByTake, ToneSource
from faithful_reel.core.reel.reel import Lane, Piece, Reel, RoomTone, places_of
from faithful_reel.core.reel.render import Renderer, Source
from faithful_reel.core.splice.boundaries import Side
from faithful_reel.core.splice.match import Amounts, Switches, matched
from faithful_reel.core.splice.place import BEST, Choice, Plan, planned_splice
from faithful_reel.core.splice.profile import Figures, Profile, Spoken, figures_of, profile_of
from faithful_reel.core.splice.seam import Seam, natural_seam, seam_at
from faithful_reel.core.units import Signal, Span, ratio
from faithful_reel.core.work.mending import lane_tone, tone_of
from faithful_reel.core.work.timeline import Hearing, lane_with, tokens_of, voice_tokens

EDGE_S = 0.25
FEW_PAIRS, LEAST_PACED_S = 5, 1.2
"""Pace is told by so many pairs of neighbouring words, and so much time, at least."""
FEW_LINES, MOST_OWN_DB = 3, 1.5
"""From so many lines on a session's profile stands for all of them; a line's own level may change it by so much."""
LEAST_PACE, MOST_PACE = 0.025, 0.08
"""Pace is matched from this difference on, and by no more (measured: less is not heard, more is)."""

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
class MatchedTake:
    """A take's sound brought to the chapter's, (n,), as a recording of its own: `id` names it, `start` is where in the take's
    recording it begins, `pace` how many times as fast it was read.  Its gain is not in it."""

    id: str
    sound: Signal
    start: int
    pace: float
    amounts: Amounts
    switches: Switches

    def position(self, at: int) -> int:
        """A position of the take's recording in this one."""
        return round((at - self.start) * self.pace)

    def span(self, span: Span | None) -> Span | None:
        """A stretch of the take's recording in this one."""
        return Span(self.position(span.start), self.position(span.stop)) if span is not None else None


@dataclass(frozen=True, slots=True)
class Preview:
    """A splice before it is done: the plan, the reel it would give, its seams, both stretches of sound, and what was matched."""

    plan: Plan
    reel: Reel
    made: Spliced
    original: Span
    take: Span
    words: tuple[LineWord, ...]
    """Original and result in the reel as it is and as it would be, the take in its recording."""
    matched: MatchedTake
    profile: Profile

    def as_json(self) -> dict[str, object]:
        """As documented in docs/headless.md."""
        command, made, amounts, rate = self.plan.command, self.matched, self.matched.amounts, self.made.rate
        taken = [(made.start + at / made.pace) / rate for at in (command.take_start, command.take_stop)]
        told = {k: v for k, v in asdict(amounts).items() if k != "pace"}
        return self.made.as_json() | {
            "taken": [round(at, 4) for at in taken],
            "in_pause": [self.plan.chosen_in.in_pause, self.plan.chosen_out.in_pause],
            "matched": told | {"pace": made.pace, "pace_heard": self.profile.pace, "echo_apart_db": self.profile.echo_db},
        }

    def source(self, others: Source) -> Source:
        """Reads the matched take from memory, all else from `others`."""
        return with_sound(others, self.matched.id, self.matched.sound)


def with_sound(others: Source, name: str, sound: Signal) -> Source:
    """Reads one recording from memory, (n,), all else from `others`."""

    def read(recording: str, start: int, stop: int) -> Signal:
        if recording != name:
            return others(recording, start, stop)
        out = np.zeros(max(0, stop - start), np.float32)
        first, last = max(0, start), min(len(sound), stop)
        if last > first:
            out[first - start : last - start] = sound[first:last]
        return out

    return read


@dataclass(frozen=True, slots=True)
class LineInReel:
    """A pickup's line as it is heard in the reel: on which lane, its words and what is around, and which must change."""

    lane: int
    spoken: Spoken
    side: Side
    changed: range


def line_in_reel(
    book: Book, chapter: ChapterState, pickup: Pickup, hearing: Hearing, render: Callable[[Reel], Renderer]
) -> LineInReel:
    """Where a pickup's line stands now.

    Raises
    ------
    EditRefused
        It is not heard in the reel.
    """
    reel = chapter.reel
    if reel is None:
        raise EditRefused("This chapter has no recording.")
    span = range(pickup.first_word, pickup.first_word + pickup.word_count)
    tokens = tokens_of(book, chapter, [""] * len(hearing.placed), hearing)
    mine = [t for t in tokens.heard() if t.word in span]
    if not mine:
        spoken = any(a in span for a, b, c, d, _ in hearing.links if b > a and d > c)
        raise EditRefused(
            "This line was cut out of the reel. Undo that first, or splice by hand."
            if spoken
            else "This line was not heard in the chapter, so there is no place to put it. Cut or split by hand."
        )
    lane = max({t.lane for t in mine}, key=lambda k: sum(t.lane == k for t in mine))
    mine = [t for t in mine if t.lane == lane]
    rows: list[Row] = [(t.word, Span(t.start, t.stop)) for t in tokens.heard() if t.lane == lane]
    reach = round(CONTEXT_S * book.rate)
    lo, hi = max(0, min(t.start for t in mine) - reach), min(len(reel), max(t.stop for t in mine) + reach)
    sound = np.atleast_2d(render(Reel((reel.lanes[lane],))).render(lo, hi)).mean(axis=0)
    near = _in_reading_order([r for r in rows if r[1].stop > lo and r[1].start < hi])
    spoken_words, side = spoken_and_side(sound, lo, near, span, Span(0, len(reel)), book.rate)
    changed = _changed(chapter, pickup, hearing, span, lane)
    unread = tuple(s if k not in changed or len(changed) == len(span) else None for k, s in enumerate(spoken_words.words))
    return LineInReel(lane, replace(spoken_words, words=unread), side, changed)


def _in_reading_order(rows: Sequence[Row]) -> list[Row]:
    """Rows without written words that come out of turn, such as those of a line that was moved."""
    out: list[Row] = []
    for row in rows:
        if row[0] >= 0 and any(w > row[0] for w, _ in out[-40:]):
            row = (-1, row[1])
        out.append(row)
    return out


def _changed(chapter: ChapterState, pickup: Pickup, hearing: Hearing, span: range, lane: int) -> range:
    """The words of a line that must come from the take: those not heard as written, and those of its findings; all, where none."""
    voice = hearing
    assert chapter.reel is not None
    for recording, heard in hearing.voices:
        if lane_with(chapter.reel, recording) == lane:
            voice = heard
    links = voice.link_rows()
    own = [f for f in chapter.findings if f.id in pickup.findings and f.word_count]
    wanted = {k - span.start for f in own for k in range(f.word_index, f.word_index + f.word_count) if k in span}
    whole = changed_tokens(links, span)
    different = any(not k.same and (set(k.written) & set(span)) for k in links) or len(whole) < len(span)
    if different:
        wanted |= set(whole)
    return range(min(wanted), max(wanted) + 1) if wanted else range(len(span))


def line_figures(line: LineInReel, take: Spoken, rate: int) -> tuple[Figures, Figures, float]:
    """What both sides of a line measure, and how many times as fast as the chapter the take is read."""
    return figures_of(line.spoken, rate), figures_of(take, rate), _pace(line.spoken.words, take.words, rate)


def _pace(chapter: Sequence[Span | None], take: Sequence[Span | None], rate: int) -> float:
    """By the onsets of words that follow one another in both readings; 0 where there are too few (word lengths mislead)."""
    apart = [(0, 0)]
    for (a, b), (c, d) in itertools.pairwise(zip(chapter, take, strict=False)):
        if a is not None and b is not None and c is not None and d is not None:
            apart.append((c.start - a.start, d.start - b.start))
    theirs = sum(t for _, t in apart)
    enough = len(apart) > FEW_PAIRS and theirs > LEAST_PACED_S * rate
    return sum(c for c, _ in apart) / theirs if enough else 0.0


def combined(session: Profile | None, own: Profile) -> Profile:
    """A session's profile with at most half of what a line's own level differs from it, where the session has lines enough."""
    if session is None or session.lines < FEW_LINES:
        return own
    more = float(np.clip((own.level_db - session.level_db) / 2, -MOST_OWN_DB, MOST_OWN_DB))
    return replace(session, level_db=round(session.level_db + more, 2))


def matched_take(
    line: LineInReel,
    take: Spoken,
    figures: tuple[Figures, Figures, float],
    profile: Profile,
    rate: int,
    switches: Switches,
    tone: Signal,
) -> MatchedTake:
    """A take's sound as if it had been read with the chapter; its gain is left to its piece."""
    y, amounts = matched(take, figures[1], figures[0], profile, rate, switches, tone)
    pace = _bounded(profile.pace) if switches.pace else 1.0
    y = (y * np.float32(ratio(-amounts.level_db))).astype(np.float32)
    if pace != 1.0:
        tempo = Tempo(rate, 1 / pace)
        y = np.concatenate([tempo.feed(y), tempo.flush()]).astype(np.float32)
        amounts = replace(amounts, pace=round(pace, 4))
    name = "matched-" + hashlib.sha256(y.tobytes()).hexdigest()
    return MatchedTake(name, y, take.offset, pace, amounts, switches)


def _bounded(pace: float) -> float:
    return float(np.clip(pace, 1 - MOST_PACE, 1 + MOST_PACE)) if abs(pace - 1) >= LEAST_PACE else 1.0


def _woven(tone: ToneSource | None, length: int, source: Source) -> Signal:
    if tone is None:
        return np.zeros(0, np.float32)
    segment = RoomTone(tone.recording, tone.start, tone.stop, length)
    return np.atleast_2d(Renderer(Reel((Lane("tone", (segment,)),)), source).render(0, length)).mean(axis=0)


def preview_splice(
    book: Book,
    chapter: ChapterState,
    pickup: Pickup,
    hearing: Hearing,
    render_of: Callable[[Reel], Renderer],
    *,
    choice: Choice = BEST,
    switches: Switches | None = None,
    session: Profile | None = None,
) -> Preview:
    """Plan a pickup's chosen take into its chapter and measure what it would give.

    Raises
    ------
    EditRefused
        There is no chosen take, the line is no longer in the reel, or no boundary fits.
    """
    if not 0 <= pickup.chosen < len(pickup.takes):
        raise EditRefused("No take is chosen for this line. Choose one at the Pickups desk.")
    if chapter.reel is None:
        raise EditRefused("This chapter has no recording.")
    take, rate, reel = pickup.takes[pickup.chosen], book.rate, chapter.reel
    line = line_in_reel(book, chapter, pickup, hearing, render_of)
    source = render_of(reel).source
    spoken, side = take_side(lambda a, b: np.atleast_2d(source(take.recording, a, b)).mean(axis=0), take, rate)
    figures = line_figures(line, spoken, rate)
    profile = combined(session, profile_of([figures]))
    tone = _woven(lane_tone(book, chapter, line.lane), len(spoken.sound), source)
    made = matched_take(line, spoken, figures, profile, rate, switches or Switches(), tone)
    gain_db = made.amounts.level_db
    theirs = Side(
        made.sound * np.float32(ratio(gain_db)),
        0,
        tuple(map(made.span, side.entering)),
        tuple(map(made.span, side.leaving)),
        tuple(map(made.span, side.words)),
    )
    own = line.side
    plan = planned_splice(
        replace(own, words=line.spoken.words),
        theirs,
        line.changed,
        rate,
        recording=made.id,
        tone=lane_tone(book, chapter, line.lane) or tone_of(book, chapter),
        take_id=pickup.id,
        gain_db=gain_db,
        choice=choice,
        lane=line.lane,
        pace=profile.pace / made.pace,
    )
    _refuse_taking_words(chapter, hearing, plan.command)
    after = plan.command.apply(reel)
    renderer = Renderer(after, with_sound(source, made.id, made.sound))
    places = [s for s in line.spoken.others if s.stop < plan.command.start]
    natural = [(a.stop + b.start) // 2 for a, b in itertools.pairwise(places)]
    natural = [at for at in natural if at < plan.command.start - rate // 10][-8:]
    spliced = measured(after, plan, renderer, natural, rate)
    lo = line.spoken.offset
    words = _line_words(pickup, take, own.words, plan, made)
    shown = Span(lo, lo + len(line.spoken.sound))
    return Preview(plan, after, spliced, shown, Span(take.start, take.stop), words, made, profile)


def _refuse_taking_words(chapter: ChapterState, hearing: Hearing, command: ReplaceByTake) -> None:
    """A take that is shorter takes time away from all linked lanes: not while another voice speaks there.

    Raises
    ------
    EditRefused
        It would take words of another voice away.
    """
    lost = (command.stop - command.start) - (command.take_stop - command.take_start)
    assert chapter.reel is not None
    if lost <= 0 or not chapter.reel.lanes[command.lane].linked:
        return
    for recording, heard in ((chapter.recording, hearing), *hearing.voices):
        lane = lane_with(chapter.reel, recording)
        if lane == command.lane:
            continue
        spoken = voice_tokens(chapter, [""] * len(heard.placed), recording, heard).heard()
        inside = (spoken.starts < command.stop) & (spoken.stops > command.stop - lost)
        if chapter.reel.lanes[lane].linked and inside.any():
            raise EditRefused(
                f"The take is shorter, and words of {chapter.reel.lanes[lane].name} would go with the time that is lost. "
                "Insert a pause behind the line first, or unlink the lane."
            )


def _line_words(
    pickup: Pickup, take: Take, original: Sequence[Span | None], plan: Plan, made: MatchedTake
) -> tuple[LineWord, ...]:
    """Where the words of a line would be heard: those between the boundaries from the take, what follows moved along."""
    command = plan.command
    inside = range(plan.chosen_in.token, plan.chosen_out.token)
    ahead = command.start - command.take_start
    shift = (command.take_stop - command.take_start) - (command.stop - command.start)
    words = []
    for offset, text in enumerate(pickup.line.split()):
        own = original[offset] if offset < len(original) else None
        here = (own.start, own.stop) if own else None
        theirs = take.words[offset] if offset < len(take.words) and take.words[offset][0] >= 0 else None
        from_take = offset in inside
        moved = shift if here and here[0] >= command.stop - 1 else 0
        if from_take:
            result = (made.position(theirs[0]) + ahead, made.position(theirs[1]) + ahead) if theirs else None
        else:
            result = (here[0] + moved, here[1] + moved) if here else None
        words.append(LineWord(text, here, result, theirs, from_take))
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


