"""Planning the splice of a pickup into a chapter's reel as it stands."""

from __future__ import annotations

import hashlib
import itertools
import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from functools import partial
from pathlib import Path
from typing import NamedTuple

import numpy as np

from faithful_reel.core.audio.sources import Source, with_sounds
from faithful_reel.core.audio.tempo import Tempo
from faithful_reel.core.book.model import Book, ChapterState, Recording, Stretch
from faithful_reel.core.book.pickups import Splice, SpliceTakes, placed_span, take_name
from faithful_reel.core.book.recordings import kept_sound
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.jobs import Unwatched, Watch
from faithful_reel.core.pickups.ledger import WAITING, Part, Pickup, Placed, Take
from faithful_reel.core.pickups.placing import CONTEXT_S, spoken_and_side, take_side
from faithful_reel.core.pickups.takes import Row, changed_tokens
from faithful_reel.core.reel.commands import ReplaceByTake, ToneSource
from faithful_reel.core.reel.reel import Lane, Piece, Reel, RoomTone
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.splice.alike import with_same_edges
from faithful_reel.core.splice.boundaries import Side
from faithful_reel.core.splice.match import Amounts, Switches, matched
from faithful_reel.core.splice.pitch import raised
from faithful_reel.core.splice.place import BEST, Choice, Plan, planned_splice
from faithful_reel.core.splice.profile import Figures, Profile, Spoken, figures_of, profile_of
from faithful_reel.core.splice.seam import Ease, NaturalSeams
from faithful_reel.core.units import Signal, Span, ratio
from faithful_reel.core.work.mending import lane_tone, tone_of
from faithful_reel.core.work.seams import natural_of, seam_in
from faithful_reel.core.work.timeline import Hearing, lane_with, tokens_of, voice_tokens

EDGE_S = 0.25
NEAR_ROWS = 40
FEW_PAIRS, LEAST_PACED_S = 5, 1.2
"""Pace is told by so many pairs of neighbouring words, and so much time, at least."""
FEW_LINES, MOST_OWN_DB = 3, 1.5
"""From so many lines on a session's profile stands for all of them; a line's own level may change it by so much."""
LEAST_PACE, MOST_PACE = 0.025, 0.08
"""Pace is matched from this difference on, and by no more (measured: less is not heard, more is)."""
NEAR_WORDS = 10
"""A join is looked for so many words away from those that change at most."""
FEW_BEFORE, MOST_FIGURED = 15, 40
"""A longer line is measured on so many of its words, from a few before those that change on."""
FEWEST_RUNS = 4
LEAST_PITCH, MOST_PITCH = 0.15, 1.0
"""Semitones from which on, and up to which, pitch is matched (own choice)."""

Edges = tuple[int, int]


class LineWord(NamedTuple):
    """A word of the line in the three sounds that stand under each other, (start, stop) each; None where it is not heard.

    `from_take` says which sound the result has it from.
    """

    text: str
    original: Edges | None
    result: Edges | None
    take: Edges | None
    from_take: bool


@dataclass(frozen=True, slots=True)
class MatchedTake:
    """A take's sound brought to the chapter's, (n,), as a recording of its own: `id` names it, `start` is where in the take's
    recording it begins, `pace` how many times as fast it was read.  Its gain is not in it.
    """

    id: str
    sound: Signal
    start: int
    pace: float
    amounts: Amounts
    switches: Switches

    def position(self, at: int) -> int:
        """A position of the take's recording in this one."""
        return round((at - self.start) * self.pace)

    def back(self, at: int) -> int:
        """A position of this one in the take's recording."""
        return round(at / self.pace) + self.start

    def span(self, span: Span | None) -> Span | None:
        """A stretch of the take's recording in this one."""
        return Span(self.position(span.start), self.position(span.stop)) if span is not None else None


@dataclass(frozen=True, slots=True)
class Preview:
    """A splice before it is done: the plan, the reel it would give, both stretches of sound, and what was matched.

    `part` is the number of the line's part, where its words come from several takes; `figures` is what both sides measure.
    """

    plan: Plan
    reel: Reel
    original: Span
    take: Span
    words: tuple[LineWord, ...]
    """Original and result in the reel as it is and as it would be, the take in its recording."""
    matched: MatchedTake
    profile: Profile
    figures: tuple[Figures, Figures, float]
    rate: int
    part: int = 0
    pace_range: float = 0.0
    """By what share the reader's own pace goes up and down in lines as long."""

    @property
    def lane(self) -> int:
        """The number of the lane that it goes to."""
        return self.reel.index(self.plan.command.lane)

    @property
    def joins(self) -> tuple[int, int]:
        """Where the take begins and ends in the reel that it would give."""
        command = self.plan.command
        return command.start, command.start + command.take_stop - command.take_start

    def as_json(self) -> dict[str, object]:
        """As documented in docs/headless.md."""
        command, made, amounts, rate = self.plan.command, self.matched, self.matched.amounts, self.rate
        taken = [(made.start + at / made.pace) / rate for at in (command.take_start, command.take_stop)]
        told = {k: v for k, v in asdict(amounts).items() if k != "pace"}
        return {
            "join_in": round(self.joins[0] / rate, 4),
            "join_out": round(self.joins[1] / rate, 4),
            "replaced": [round(command.start / rate, 4), round(command.stop / rate, 4)],
            "taken": [round(at, 4) for at in taken],
            "in_pause": [self.plan.chosen_in.in_pause, self.plan.chosen_out.in_pause],
            "crossfades": [round(j.length / rate, 4) for j in (command.join_in, command.join_out)],
            "matched": told
            | {
                "pace": made.pace,
                "pace_heard": self.profile.pace,
                "echo_apart_db": self.profile.echo_db,
                "pitch_apart": self.profile.pitch,
            },
        }

    def source(self, others: Source) -> Source:
        """Reads the matched take from memory, all else from `others`."""
        return with_sounds(others, {self.matched.id: self.matched.sound})

    def placed(self, recording: str, number: int, count: int) -> Placed:
        """What of a line of `count` tokens stands in the reel from take `number`, whose matched sound is kept as a recording."""
        edges = dict(enumerate(w.take for w in self.words))
        made = self.matched
        words = tuple((made.position(t[0]), made.position(t[1])) if (t := edges.get(k)) else (-1, -1) for k in range(count))
        return Placed(recording, words, number)


@dataclass(frozen=True, slots=True)
class LineInReel:
    """A pickup's line as it is heard in the reel: on which lane, its words and what is around, and which must change."""

    lane: int
    spoken: Spoken
    side: Side
    changed: range
    near: range
    """The words of a long line that are looked at: those beside what must change."""
    words: tuple[Span | None, ...]
    """Where every word is."""


def line_in_reel(
    book: Book,
    chapter: ChapterState,
    pickup: Pickup,
    hearing: Hearing,
    render: Callable[[Reel], Renderer],
    part: range | None = None,
) -> LineInReel:
    """Where a pickup's line stands now; `part` are the words that must change, where that is known.

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
    changed = part if part is not None else _changed(chapter, pickup, hearing, span, lane)
    near = range(max(0, changed.start - NEAR_WORDS), changed.stop + NEAR_WORDS)
    close = [t for t in mine if t.word - span.start in near] or mine
    lo, hi = max(0, min(t.start for t in close) - reach), min(len(reel), max(t.stop for t in close) + reach)
    sound = np.atleast_2d(render(Reel((reel.lanes[lane],))).render(lo, hi)).mean(axis=0)
    rows = _in_reading_order([r for r in rows if r[0] in span or (r[1].stop > lo and r[1].start < hi)])
    spoken_words, side = spoken_and_side(sound, lo, rows, span, Span(0, len(reel)), book.rate)
    places = dict(rows)
    unread = tuple(s if k not in changed or len(changed) == len(span) else None for k, s in enumerate(spoken_words.words))
    words = tuple(places.get(k) for k in span)
    return LineInReel(lane, replace(spoken_words, words=unread), side, changed, near, words)


def _in_reading_order(rows: Sequence[Row]) -> list[Row]:
    """Rows without written words that come out of turn, such as those of a line that was moved."""
    out: list[Row] = []
    for word, span in rows:
        late = word >= 0 and any(w > word for w, _ in out[-NEAR_ROWS:])
        out.append((-1 if late else word, span))
    return out


def _changed(chapter: ChapterState, pickup: Pickup, hearing: Hearing, span: range, lane: int) -> range:
    """The words of a line that must come from the take: those not heard as written and of its findings; all, where none."""
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
    near = range(max(0, line.changed.start - FEW_BEFORE), max(0, line.changed.start - FEW_BEFORE) + MOST_FIGURED)
    mine, theirs = (figures_of(_only(side, near, rate), rate) for side in (line.spoken, take))
    return mine, theirs, _pace(line.spoken.words, take.words, rate)


def _only(side: Spoken, near: range, rate: int) -> Spoken:
    """One side of a long line with some of its words alone, and what is around those."""
    some = [s for k, s in enumerate(side.words) if s is not None and k in near]
    if len(side.words) <= len(near) or not some:
        return side
    reach = round(CONTEXT_S * rate)
    first, last = (max(0, some[0].start - reach - side.offset), max(s.stop for s in some) + reach - side.offset)
    words = tuple(s if k in near else None for k, s in enumerate(side.words))
    others = tuple(s for s in side.others if first + side.offset <= s.start and s.stop <= last + side.offset)
    return Spoken(side.sound[first:last], side.offset + first, words, others, side.room)


def _pace(chapter: Sequence[Span | None], take: Sequence[Span | None], rate: int) -> float:
    """By the onsets of words that follow one another in both readings; 0 where there are too few (word lengths mislead)."""
    apart = [(0, 0)]
    for (a, b), (c, d) in itertools.pairwise(zip(chapter, take, strict=False)):
        if a is not None and b is not None and c is not None and d is not None:
            apart.append((c.start - a.start, d.start - b.start))
    theirs = sum(t for _, t in apart)
    enough = len(apart) > FEW_PAIRS and theirs > LEAST_PACED_S * rate
    return sum(c for c, _ in apart) / theirs if enough else 0.0


def own_pace(hearing: Hearing, count: int) -> float:
    """By what share a reader's pace goes up and down in runs of so many words; 0 where there are too few.

    Half of the way from the tenth to the ninetieth percentile of letters a second, pauses left out.
    """
    letters = np.array([len(h.text) for h in hearing.heard])
    times = np.array([h.stop - h.start for h in hearing.heard], float)
    if len(letters) < FEWEST_RUNS * count:
        return 0.0
    ones = np.ones(count)
    pace = np.log(np.convolve(letters, ones, "valid") / np.maximum(np.convolve(times, ones, "valid"), 1))
    return round(float(np.subtract(*np.percentile(pace, [90, 10]))) / 2, 3)


def combined(session: Profile | None, own: Profile) -> Profile:
    """A session's profile with at most half of what a line's own level differs from it, where the session has lines enough."""
    if session is None or session.lines < FEW_LINES:
        return own
    more = float(np.clip((own.level_db - session.level_db) / 2, -MOST_OWN_DB, MOST_OWN_DB))
    return replace(session, level_db=round(session.level_db + more, 2))


def matched_take(
    take: Spoken,
    figures: tuple[Figures, Figures, float],
    profile: Profile,
    rate: int,
    switches: Switches,
    tone: Callable[[], Signal],
) -> MatchedTake:
    """A take's sound, (n,), as if it had been read with the chapter; its gain is left to its piece."""
    y, amounts = matched(take, figures[1], figures[0], profile, rate, switches, tone)
    pace = _bounded(profile.pace) if switches.pace else 1.0
    y = (y * np.float32(ratio(-amounts.level_db))).astype(np.float32)
    pitch = float(np.clip(profile.pitch, -MOST_PITCH, MOST_PITCH)) if switches.pitch else 0.0
    if abs(pitch) >= LEAST_PITCH:
        y = raised(y, rate, pitch)
        amounts = replace(amounts, pitch=round(pitch, 2))
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
    mixed: Signal = np.atleast_2d(Renderer(Reel((Lane("tone", (segment,)),)), source).render(0, length)).mean(axis=0)
    return mixed


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
    part: int = 0,
) -> Preview:
    """Plan a pickup's chosen take, or a part of its line, into its chapter.

    Raises
    ------
    EditRefused
        There is no chosen take, the line is no longer in the reel, or no boundary fits.
    """
    if not 0 <= pickup.chosen < len(pickup.takes):
        raise EditRefused("No take is chosen for this line. Choose one at the Pickups desk.")
    if chapter.reel is None:
        raise EditRefused("This chapter has no recording.")
    rate, reel = book.rate, chapter.reel
    parts = pickup.parts or (Part(pickup.chosen, 0, pickup.word_count),)
    take = pickup.takes[parts[part].take]
    own = range(parts[part].first, parts[part].stop) if pickup.parts else None
    beside = [0, *(p.stop for p in parts[:part])], [*(p.first for p in parts[part + 1 :]), pickup.word_count]
    line = line_in_reel(book, chapter, pickup, hearing, render_of, own)
    source = render_of(reel).source
    spoken, side = take_side(partial(_mono_of, source, take.recording), take, rate, line.near)
    spoken = with_same_edges(line.spoken, spoken, rate)
    figures = line_figures(line, spoken, rate)
    profile = combined(session, profile_of([figures]))
    tone = lane_tone(book, chapter, line.lane)
    made = matched_take(spoken, figures, profile, rate, switches or Switches(), partial(_woven, tone, len(spoken.sound), source))
    gain_db = made.amounts.level_db
    theirs = Side(
        made.sound * np.float32(ratio(gain_db)),
        0,
        tuple(map(made.span, side.entering)),
        tuple(map(made.span, side.leaving)),
        tuple(map(made.span, spoken.words)),
    )
    plan = planned_splice(
        replace(line.side, words=line.spoken.words),
        theirs,
        line.changed,
        rate,
        recording=made.id,
        tone=tone or tone_of(book, chapter),
        take_id=take_name(pickup.id, part),
        gain_db=gain_db,
        choice=choice,
        lane=reel.lanes[line.lane].id,
        pace=profile.pace / made.pace,
        one_breath=made.switches.breath,
        within=range(max(beside[0]), min(beside[1])),
    )
    _refuse_taking_words(chapter, hearing, plan.command)
    lo = line.spoken.offset
    return Preview(
        plan,
        plan.command.apply(reel),
        Span(lo, lo + len(line.spoken.sound)),
        Span(take.start, take.stop),
        _line_words(pickup, take, line.words, plan, made),
        made,
        profile,
        figures,
        rate,
        part,
        own_pace(hearing, pickup.word_count),
    )


def preview_parts(
    book: Book,
    chapter: ChapterState,
    pickup: Pickup,
    hearing: Hearing,
    render_of: Callable[[Reel], Renderer],
    *,
    choices: Sequence[Choice] = (),
    switches: Switches | None = None,
    session: Profile | None = None,
) -> tuple[Preview, ...]:
    """Plan a pickup, one take or the several that its words come from, each into the reel that the one before it gives.

    Raises
    ------
    EditRefused
        As `preview_splice`, or one take of the line would go over another one.
    """
    found: list[Preview] = []
    for part in range(max(1, len(pickup.parts))):
        choice = choices[part] if part < len(choices) else BEST
        rendering = _with_all(found, render_of)
        made = preview_splice(
            book, chapter, pickup, hearing, rendering, choice=choice, switches=switches, session=session, part=part
        )
        found.append(made)
        put = made.placed(made.matched.id, pickup.parts[part].take if pickup.parts else pickup.chosen, pickup.word_count)
        pickup = replace(pickup, placed=(*pickup.placed, put))
        chapter = replace(chapter, reel=made.reel)
        book = replace(
            book,
            pickups=tuple(pickup if p.id == pickup.id else p for p in book.pickups),
            chapters=tuple(chapter if c.id == chapter.id else c for c in book.chapters),
        )
    reel = found[-1].reel
    if any(placed_span(reel, pickup.id, k) is None for k in range(len(found))):
        raise EditRefused(
            "One of the takes that this line is made of would go over another one. Choose another word to change at."
        )
    return tuple(found)


def _with_all(previews: Sequence[Preview], render_of: Callable[[Reel], Renderer]) -> Callable[[Reel], Renderer]:
    def rendering(reel: Reel) -> Renderer:
        source = render_of(reel).source
        for made in previews:
            source = made.source(source)
        return Renderer(reel, source)

    return rendering


def splice_of(pickup: Pickup, previews: Sequence[Preview], kept: Sequence[tuple[Recording, float]]) -> Splice:
    """How a planned line is put in, its matched takes being kept as recordings: (recording, dB that it was lowered by)."""
    edits, placed = [], []
    for made, (recording, lowered_db) in zip(previews, kept, strict=True):
        command = made.plan.command
        edits.append(replace(command, recording=recording.hash, gain_db=round(command.gain_db - lowered_db, 4)))
        number = pickup.parts[made.part].take if pickup.parts else pickup.chosen
        placed.append(made.placed(recording.hash, number, pickup.word_count))
    return Splice(pickup.id, tuple(edits), tuple(placed), tuple(r for r, _ in kept))


def keep_matched(folder: Path, book: Book, pickup: Pickup, previews: Sequence[Preview]) -> list[tuple[Recording, float]]:
    """Keep the matched takes of a planned line in a book's folder.

    Raises
    ------
    StoreProblem
        They can not be written.
    """
    kept: list[tuple[Recording, float]] = []
    for made in previews:
        take = pickup.takes[pickup.parts[made.part].take if pickup.parts else pickup.chosen]
        length = round(len(made.matched.sound) / made.matched.pace)
        of = Stretch(take.recording, made.matched.start, made.matched.start + length)
        how = json.dumps({"switches": asdict(made.matched.switches), "amounts": asdict(made.matched.amounts)})
        kept.append(kept_sound(folder, made.matched.sound, book.rate, _named(pickup.line), of, how))
    return kept


def _named(line: str) -> str:
    words = line.split()
    return " ".join(words[:5]) + (" …" if len(words) > 5 else "")


def _refuse_taking_words(chapter: ChapterState, hearing: Hearing, command: ReplaceByTake) -> None:
    """A take that is shorter takes time away from all linked lanes: not while another voice speaks there.

    Raises
    ------
    EditRefused
        It would take words of another voice away.
    """
    lost = (command.stop - command.start) - (command.take_stop - command.take_start)
    assert chapter.reel is not None
    own = chapter.reel.index(command.lane)
    if lost <= 0 or not chapter.reel.lanes[own].linked:
        return
    for recording, heard in ((chapter.recording, hearing), *hearing.voices):
        lane = lane_with(chapter.reel, recording)
        if lane == own:
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
    """A take that is in: where it stands in the reel, its lane, the places of its joins, and every word of the line."""

    span: Span
    lane: int
    joins: tuple[int, ...]
    words: tuple[LineWord, ...]
    """The original in the chapter's recording, the result in the reel, the take in its recording."""


def in_place(book: Book, chapter: ChapterState, pickup: Pickup, hearing: Hearing) -> InPlace | None:
    """How a spliced pickup stands in the reel as it is now; None where its take is no longer there."""
    reel = chapter.reel
    parts = [f for k in range(max(1, len(pickup.placed))) if reel and (f := placed_span(reel, pickup.id, k)) is not None]
    if reel is None or not parts or not 0 <= pickup.chosen < len(pickup.takes):
        return None
    tokens = tokens_of(book, chapter, [""] * len(hearing.placed), hearing)
    here = {
        int(w): (int(a), int(b)) for w, a, b in zip(tokens.words, tokens.starts, tokens.stops, strict=True) if w >= 0 and a >= 0
    }
    words = []
    for offset, text in enumerate(pickup.line.split()):
        index = pickup.first_word + offset
        placed = hearing.placed[index] if index < len(hearing.placed) else None
        number = next((p.take for p in pickup.placed if offset < len(p.words) and p.words[offset][0] >= 0), pickup.chosen)
        if pickup.parts:
            number = next((p.take for p in pickup.parts if p.first <= offset < p.stop), number)
        take = pickup.takes[number] if 0 <= number < len(pickup.takes) else pickup.takes[pickup.chosen]
        theirs = take.words[offset] if offset < len(take.words) and take.words[offset][0] >= 0 else None
        result = here.get(index)
        inside = result is not None and any(span.start <= sum(result) // 2 < span.stop for _, span in parts)
        words.append(LineWord(text, (placed.start, placed.stop) if placed else None, result, theirs, inside))
    joins = tuple(dict.fromkeys(at for _, span in parts for at in (span.start, span.stop)))
    whole = Span(min(s.start for _, s in parts), max(s.stop for _, s in parts))
    return InPlace(whole, parts[0][0], joins, tuple(words))


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


def session_profile(
    book: Book,
    recording: str,
    hearing_of: Callable[[ChapterState], Hearing | None],
    render_of: Callable[[Reel], Renderer],
    watch: Watch | None = None,
) -> Profile | None:
    """What all takes of a pickup recording have in common against their chapters; None where no line can be compared."""
    watch = watch or Unwatched()
    pairs = []
    mine = [p for p in book.pickups if p.state in WAITING and any(t.recording == recording for t in p.takes)]
    for done, pickup in enumerate(mine):
        watch.tick(done / len(mine), "comparing the session")
        chapter = next((c for c in book.chapters if c.id == pickup.chapter), None)
        hearing = hearing_of(chapter) if chapter is not None else None
        if chapter is None or chapter.reel is None or hearing is None:
            continue
        chosen = pickup.takes[pickup.chosen] if 0 <= pickup.chosen < len(pickup.takes) else pickup.takes[0]
        take = chosen if chosen.recording == recording else next(t for t in pickup.takes if t.recording == recording)
        source = render_of(chapter.reel).source
        try:
            line = line_in_reel(book, chapter, pickup, hearing, render_of)
        except EditRefused:
            continue
        spoken, _ = take_side(partial(_mono_of, source, take.recording), take, book.rate, line.near)
        pairs.append(line_figures(line, with_same_edges(line.spoken, spoken, book.rate), book.rate))
    return profile_of(pairs) if pairs else None


def _mono_of(source: Source, recording: str, start: int, stop: int) -> Signal:
    mixed: Signal = np.atleast_2d(source(recording, start, stop)).mean(axis=0)
    return mixed


@dataclass(frozen=True, slots=True)
class Many:
    """Takes that are to be put in together, and the lines that are left for the eye: (pickup, why)."""

    splices: tuple[Splice, ...]
    left: tuple[tuple[str, str], ...]


def planned_many(
    folder: Path,
    book: Book,
    pickups: Sequence[Pickup],
    hearing_of: Callable[[ChapterState], Hearing | None],
    render_of: Callable[[Reel], Renderer],
    sessions: Mapping[str, Profile],
    switches: Switches,
    watch: Watch,
) -> Many:
    """Plan the chosen takes of many lines, each into what the ones before it give; the doubtful ones are left out.

    Doubtful is a take that departs from its line or reads only part of it, a line that can not be placed, a join that stands
    out.
    """
    made: list[Splice] = []
    left: list[tuple[str, str]] = []
    sounds: dict[str, Signal] = {}
    naturals: dict[tuple[str, int], NaturalSeams] = {}

    def rendering(reel: Reel) -> Renderer:
        return Renderer(reel, with_sounds(render_of(reel).source, sounds))

    for done, wanted in enumerate(pickups):
        watch.tick(done / len(pickups), f"planning {done + 1} of {len(pickups)}")
        pickup, chapter = book.pickup(wanted.id), book.chapter(wanted.chapter)
        numbers = [p.take for p in pickup.parts] or [pickup.chosen]
        takes = [pickup.takes[k] for k in numbers if 0 <= k < len(pickup.takes)]
        hearing = hearing_of(chapter)
        if not takes or hearing is None or chapter.reel is None:
            left.append((pickup.id, "no take is chosen" if not takes else "its chapter was not heard yet"))
            continue
        if not pickup.parts and (takes[0].departures or takes[0].part):
            left.append((pickup.id, takes[0].remarks[0] if takes[0].remarks else "the take departs from the line"))
            continue
        try:
            session = sessions.get(takes[0].recording)
            previews = preview_parts(book, chapter, pickup, hearing, rendering, switches=switches, session=session)
        except EditRefused as problem:
            left.append((pickup.id, str(problem)))
            continue
        lane = previews[-1].lane
        key = chapter.id, lane
        if key not in naturals:
            naturals[key] = natural_of(book, chapter, hearing, lane, rendering)
        seen = _with_all(previews, rendering)
        seams = [seam_in(previews[-1].reel, lane, at, naturals[key], seen, book.rate) for p in previews for at in p.joins]
        if any(s.ease is Ease.REDO for s in seams):
            left.append((pickup.id, "a join stands out"))
            continue
        kept = keep_matched(folder, book, pickup, previews)
        splice = splice_of(pickup, previews, kept)
        for (recording, lowered_db), preview in zip(kept, previews, strict=True):
            sounds[recording.hash] = preview.matched.sound * np.float32(ratio(lowered_db))
        book = SpliceTakes((splice,)).apply(book)
        made.append(splice)
    return Many(tuple(made), tuple(left))
