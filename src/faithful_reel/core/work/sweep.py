"""A sweep: pauses, breaths and hesitations of a stretch, each with the change that would be made, all made in one step."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import Enum
from functools import partial

import numpy as np

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.collate.flaws import Flaw, Place
from faithful_reel.core.reel.commands import CutAndClose, CutAndFill, ReelCommand, SplitMany
from faithful_reel.core.reel.timing import LINKED
from faithful_reel.core.text.spoken import plain
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Span, decibels, samples
from faithful_reel.core.work.editing import loudest
from faithful_reel.core.work.gone import beside
from faithful_reel.core.work.mending import Columns, finding_span, lane_tone, mending_edit, tone_level
from faithful_reel.core.work.pauses import (
    EDGE_S,
    Pause,
    pauses_of,
    quiet_parts,
    quietest_stretch,
    shorter,
    stretches_by_level,
    usual_lengths,
)
from faithful_reel.core.work.timeline import Hearing, Token, Tokens, finding_spans, lane_with

FILLERS = frozenset({"ah", "eh", "er", "erm", "hm", "hmm", "mhm", "mm", "uh", "uhm", "um", "umm"})
"""Hesitations, as ears write them (from memory)."""
MOSTLY = 0.7
"""So much of a pause is quiet where nothing sounds in it but the room (own rule)."""
BLEED_DB = 18.0
"""What is not so far under a voice's usual peaks may be that voice itself, and not another one in its microphone (own rule)."""
LEAST_CUT_S = 0.03
"""Less is not worth a join (own rule)."""


class Sweeping(Enum):
    """What a sweep looks for."""

    PAUSES = "pauses"
    BREATHS = "breaths"
    FILLERS = "hesitations"
    SILENCES = "silent lanes"
    """Where the voice of a lane is silent and another one speaks."""


class Doing(Enum):
    """What is done with a pause that is too long."""

    CLOSE = "close up"
    FILL = "fill with room tone"
    SPLIT = "only split"


@dataclass(frozen=True, slots=True)
class SweepSettings:
    """How a sweep judges and what it leaves.

    A pause is too long from `least_s` on, where it is longer than `times` what the reader usually makes at that kind of place.
    `keep_s` of it stays at least on both sides (0.1 s, common practice), and `variety` of what it is more than the usual (0 to
    1): at 0 all become alike.  A breath sticks out that is so many dB over the reader's usual one, see the findings; it is
    brought to the usual.  Where pauses are filled, or only split, every one from `least_s` on is: time stays.
    """

    kinds: frozenset[Sweeping] = frozenset({Sweeping.PAUSES, Sweeping.BREATHS, Sweeping.FILLERS})
    least_s: float = 0.5
    keep_s: float = 0.1
    times: float = 1.5
    variety: float = 0.3
    does: Doing = Doing.CLOSE


@dataclass(frozen=True, slots=True)
class Sweep:
    """One change that a sweep would make: what, where, how it is now and becomes; `going` is what goes of the sound.

    `lane` is the number of the lane for whose sake it is made, `other` names what sounds there and would go too: another voice,
    or something that is no pause; `findings` are settled by it.  `less` is how much shorter the chapter becomes.
    """

    id: str
    kind: Sweeping
    span: Span
    words: str
    now: str
    becomes: str
    going: Span
    edits: tuple[ReelCommand, ...]
    lane: int = LINKED
    other: str = ""
    findings: tuple[str, ...] = ()

    @property
    def less(self) -> int:
        """How much shorter the chapter becomes, in samples."""
        return len(self.going) if any(isinstance(e, CutAndClose) for e in self.edits) else 0


def sweeps(
    book: Book,
    chapter: ChapterState,
    text: Chapter,
    tokens: Tokens,
    hearing: Hearing | None,
    within: Span,
    settings: SweepSettings,
    columns: Sequence[Columns],
) -> list[Sweep]:
    """What a sweep over a stretch of a chapter would change, in the order of time.

    `columns` give for each lane of its reel (2, n) minima and maxima between n + 1 reel positions.
    """
    reel = chapter.reel
    if reel is None:
        return []
    found: list[Sweep] = []
    if Sweeping.PAUSES in settings.kinds:
        voices = partial(loudest, [c for c, lane in zip(columns, reel.lanes, strict=True) if not lane.music])
        heard = len(tokens.heard()) > 0
        pauses = (
            pauses_of(text, tokens) if heard else _inside(stretches_by_level(voices, within, book.rate), len(reel), book.rate)
        )
        if settings.does is Doing.CLOSE:
            tone = None if heard else tone_level(book, chapter)
            found += _pauses(book, text, pauses, within, settings, voices, tone, heard=heard)
        else:
            found += _dead_air(book, chapter, text, pauses, within, settings, columns)
    if hearing is None:
        return sorted(found, key=lambda s: s.span.start)
    if Sweeping.SILENCES in settings.kinds:
        found += _silences(book, chapter, text, tokens, within, settings, columns)
    if Sweeping.BREATHS in settings.kinds:
        found += _breaths(book, chapter, text, tokens, within, columns)
    if Sweeping.FILLERS in settings.kinds:
        found += _fillers(book, chapter, text, tokens, hearing, within, columns[lane_with(reel, chapter.recording)])
    told: list[Sweep] = []
    for row in sorted(found, key=lambda s: s.span.start):
        own = {reel.lanes[row.lane].id} if row.lane >= 0 else set()
        asked = row.less > 0 and len(columns) > 1
        others = beside(reel, row.going, own, columns, tokens.heard(), book.rate) if asked else []
        name = ", ".join(b.name for b in others)
        told.append(replace(row, other=name or row.other, findings=_touched(chapter, row)))
    return told


def _inside(pauses: Sequence[Pause], length: int, rate: int) -> list[Pause]:
    """Pauses without the chapter's head and tail, which are mastered."""
    least = samples(EDGE_S, rate)
    return [p for p in pauses if p.span.start > least and p.span.stop < length - least]


def _touched(chapter: ChapterState, row: Sweep) -> tuple[str, ...]:
    """The open findings that a change settles."""
    if not row.less and row.kind is not Sweeping.BREATHS:
        return ()
    kinds = {Sweeping.PAUSES: (Kind.PAUSE,), Sweeping.BREATHS: (Kind.NOISE,)}.get(row.kind, (Kind.ADDED,))
    asked = [f for f in chapter.findings if f.kind in kinds and f.decision is Decision.OPEN]
    spans = finding_spans(chapter, asked)
    return tuple(
        f.id
        for f, s in zip(asked, spans, strict=True)
        if s is not None
        and s.start < row.span.stop
        and s.stop > row.span.start
        and (row.kind is not Sweeping.BREATHS or f.evidence.flaw == Flaw.BREATH.value)
        and f.evidence.flaw != Flaw.SHORT_PAUSE.value
    )


def swept(rows: Sequence[Sweep]) -> list[Sweep]:
    """Some changes in the order in which they are made: the last first, so that none moves another; of two that overlap one."""
    kept: list[Sweep] = []
    for row in sorted(rows, key=lambda s: (s.span.start, s.span.stop)):
        if not kept or row.span.start >= kept[-1].span.stop:
            kept.append(row)
    return kept[::-1]


def _pauses(
    book: Book,
    text: Chapter,
    pauses: Sequence[Pause],
    within: Span,
    settings: SweepSettings,
    columns: Columns,
    tone: float | None,
    *,
    heard: bool,
) -> list[Sweep]:
    """Pauses that are too long, by the reader's habit; where no words are known, those from `least_s` on.

    Of those only the room goes, which stays under `tone`: what was taken for a pause may be soft speech.
    """
    rate = book.rate
    usual = usual_lengths(pauses, rate)
    found: list[Sweep] = []
    for pause in pauses:
        span, place = pause.span, pause.place
        if (heard and place is Place.RETAKE) or span.start < within.start or span.stop > within.stop:
            continue
        length, habit = len(span) / rate, usual[place] if heard else settings.least_s
        if length < max(settings.least_s, settings.times * habit if heard else 0.0):
            continue
        leaves = max(2 * settings.keep_s, habit + settings.variety * (length - habit))
        less = samples(length - leaves, rate)
        if less < LEAST_CUT_S * rate:
            continue
        keep = samples(settings.keep_s, rate)
        if heard:
            going = quietest_stretch(columns, span, less, keep, rate)
        else:
            going = max(shorter(columns, Span(span.start + keep, span.stop - keep), less, rate, tone), key=len, default=None)
        if going is None or len(going) < LEAST_CUT_S * rate:
            continue
        found.append(
            Sweep(
                f"pause {span.start}",
                Sweeping.PAUSES,
                span,
                _around(text, pause.word),
                f"{length:.2f} s, usual {habit:.2f} {place.value}" if heard else f"{length:.2f} s",
                f"{length - len(going) / rate:.2f} s",
                going,
                (CutAndClose(going.start, going.stop),),
                pause.lane,
            )
        )
    return found


def _dead_air(
    book: Book,
    chapter: ChapterState,
    text: Chapter,
    pauses: Sequence[Pause],
    within: Span,
    settings: SweepSettings,
    columns: Sequence[Columns],
) -> list[Sweep]:
    """Every pause from `least_s` on, laid with each voice's room tone, or split off; time stays."""
    reel, rate, keep = chapter.reel, book.rate, samples(settings.keep_s, book.rate)
    assert reel is not None
    voices = [k for k, lane in enumerate(reel.lanes) if not lane.music]
    found: list[Sweep] = []
    for pause in pauses:
        span = Span(pause.span.start + keep, pause.span.stop - keep) if len(pause.span) > 2 * keep else pause.span
        if pause.span.start < within.start or pause.span.stop > within.stop or len(pause.span) < settings.least_s * rate:
            continue
        if settings.does is Doing.FILL:
            tones = [lane_tone(book, chapter, k) for k in voices]
            fills = (CutAndFill(span.start, span.stop, tone, k) for k, tone in zip(voices, tones, strict=True))
            edits: tuple[ReelCommand, ...] = tuple(fills)
            loud = not _is_quiet([columns[k] for k in voices], pause.span, keep, rate, tone_level(book, chapter))
            becomes, going = "filled", span
        else:
            edits, loud = (SplitMany((span.start, span.stop), (), tuple(range(len(reel.lanes)))),), False
            becomes, going = "split off", Span(span.start, span.start)
        name = f"{'fill' if settings.does is Doing.FILL else 'split'} {pause.span.start}"
        told = _around(text, pause.word)
        other = "something" if loud else ""
        length = f"{len(pause.span) / rate:.2f} s"
        found.append(Sweep(name, Sweeping.PAUSES, pause.span, told, length, becomes, going, edits, pause.lane, other))
    return found


def _is_quiet(voices: Sequence[Columns], span: Span, keep: int, rate: int, tone: float | None) -> bool:
    """Whether nothing sounds inside of a pause but the room."""
    parts = quiet_parts(partial(loudest, voices), span, rate, tone)
    return sum(map(len, parts)) >= MOSTLY * (len(span) - 2 * max(keep, samples(EDGE_S, rate)))


def _silences(
    book: Book,
    chapter: ChapterState,
    text: Chapter,
    tokens: Tokens,
    within: Span,
    settings: SweepSettings,
    columns: Sequence[Columns],
) -> list[Sweep]:
    """Where the voice of a lane is silent while another one speaks: room tone of its own, on that lane alone."""
    reel, rate, keep = chapter.reel, book.rate, samples(settings.keep_s, book.rate)
    assert reel is not None
    heard = tokens.heard()
    rows: Sequence[Token] = list(heard)
    found: list[Sweep] = []
    for number, lane in enumerate(reel.lanes):
        own = [t for t in rows if t.lane == number]
        others = [t for t in rows if t.lane != number]
        if lane.music or not own:
            continue
        usual = float(np.median([np.abs(columns[number](np.array([t.start, t.stop], np.float64))).max() for t in own]))
        edges = [0, *(at for t in own for at in (t.start, t.stop)), len(lane)]
        for start, stop in zip(edges[::2], edges[1::2], strict=True):
            if stop - start < max(settings.least_s * rate, 2 * keep + 1):
                continue
            span = Span(start + (keep if start else 0), stop - (keep if stop < len(lane) else 0))
            speaks = [t for t in others if t.start < span.stop and t.stop > span.start]
            if not speaks:
                continue
            if span.start < within.start or span.stop > within.stop:
                continue
            peak = float(np.abs(columns[number](np.array([span.start, span.stop], np.float64))).max())
            found.append(
                Sweep(
                    f"silence {number} {start}",
                    Sweeping.SILENCES,
                    span,
                    f"{lane.name}, while {' '.join(t.text for t in speaks[:4])} …",
                    f"{len(span) / rate:.2f} s, peaks at {decibels(peak):.0f} dB".replace("-", "−"),
                    "room tone",
                    span,
                    (CutAndFill(span.start, span.stop, lane_tone(book, chapter, number), number),),
                    number,
                    f"{lane.name} itself" if peak > usual * 10 ** (-BLEED_DB / 20) else "",
                )
            )
    del text
    return found


def _around(text: Chapter, word: int) -> str:
    """Two words on either side of a place after a word."""
    if word < 0:
        return ""
    words = [w.text for w in text.words[max(0, word - 1) : word + 3]]
    at = min(2, word + 1)
    return f"{' '.join(words[:at])} | {' '.join(words[at:])}"


def _breaths(
    book: Book, chapter: ChapterState, text: Chapter, tokens: Tokens, within: Span, columns: Sequence[Columns]
) -> list[Sweep]:
    found: list[Sweep] = []
    assert chapter.reel is not None
    for finding in chapter.findings:
        if finding.evidence.flaw != Flaw.BREATH.value or finding.decision is not Decision.OPEN:
            continue
        span = finding_span(chapter, finding)
        by, lane = finding.evidence.usual, lane_with(chapter.reel, finding.recording or chapter.recording)
        edit = mending_edit(book, chapter, tokens, finding, columns[lane])
        if span is None or by is None or edit is None or span.start < within.start or span.stop > within.stop or not len(span):
            continue
        peak = float(np.abs(columns[lane](np.array([span.start, span.stop], np.float64))).max())
        found.append(
            Sweep(
                f"breath {span.start}",
                Sweeping.BREATHS,
                span,
                _around(text, max(0, finding.word_index - 1)),
                f"peaks at {decibels(peak):.1f} dB",
                f"{by:+.1f} dB",
                Span(span.start, span.start),
                (edit,),
                lane,
            )
        )
    return found


def _fillers(
    book: Book, chapter: ChapterState, text: Chapter, tokens: Tokens, hearing: Hearing, within: Span, columns: Columns
) -> list[Sweep]:
    hesitations = [h for h in hearing.extras if plain(h.text) in FILLERS]
    rows: Sequence[Token] = list(tokens)
    found: list[Sweep] = []
    for h in hesitations:
        finding = Finding("", Kind.ADDED, "", h.text, 0, 0, h.start, h.stop, 1.0)
        span = finding_span(chapter, finding)
        if span is None or span.start < within.start or span.stop > within.stop:
            continue
        edit = mending_edit(book, chapter, rows, finding, columns)
        if not isinstance(edit, CutAndClose):
            continue
        before = max((t.word for t in rows if 0 <= t.start < span.start and t.word >= 0), default=-1)
        found.append(
            Sweep(
                f"filler {span.start}",
                Sweeping.FILLERS,
                Span(edit.start, edit.stop),
                _around(text, before),
                f"“{h.text}”, {(h.stop - h.start) / book.rate:.2f} s",
                "taken out",
                Span(edit.start, edit.stop),
                (edit,),
                lane_with(chapter.reel, chapter.recording) if chapter.reel is not None else LINKED,
            )
        )
    return found


def told(rows: Sequence[Sweep]) -> str:
    """What a sweep did, for the name of its step."""
    counts = [(sum(r.kind is kind for r in rows), kind.value) for kind in Sweeping]
    return ", ".join(f"{n} {name if n > 1 else name.removesuffix('s')}" for n, name in counts if n)
