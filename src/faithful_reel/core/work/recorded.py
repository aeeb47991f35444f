"""Sound that was recorded over a stretch of a chapter: what of it is the reading, how loud it stands there, how it is put in."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from faithful_reel.core.audio.roomtone import FRAME_S
from faithful_reel.core.audio.sources import Source
from faithful_reel.core.audio.voice import VoiceBands, runs
from faithful_reel.core.reel.commands import Paste
from faithful_reel.core.reel.cutting import EDITION
from faithful_reel.core.reel.reel import Piece, Reel
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.splice.place import level_match
from faithful_reel.core.units import SILENT_DB, Signal, Span, decibels, samples

EARLY_S = 1.0
"""Who begins so long before the lead-in ends is early; what sounds before that is not the reading."""
BEFORE_S, AFTER_S = 0.04, 0.08
"""The range begins so long before the first onset, and ends so long after the last sound (own choice)."""
TOGETHER_S = 0.3
UNDER_DB = 30.0
AROUND_S = 4.0
PEAK_DB = -0.5
"""No take is made so loud that its peaks would go over this."""
LEAST_S = 0.02


def reading_in(x: Signal, rate: int, begun: int) -> Span:
    """What of a capture, (n,) at `rate`, is the reading: a little before its first onset to a little after its last sound.

    `begun` is where the lead-in ended.  What sounded before that, and not up to `EARLY_S` before it or later, is left out: a
    cough while the lead-in was heard.  An early entry is whole.  Where nobody speaks all from `begun` on.
    """
    bands = VoiceBands(rate)
    bands.feed(np.asarray(x, np.float32)[None])
    voice = bands.voice()
    speaks = voice.speaks
    if not speaks.any() and len(voice.levels) and voice.levels.max() > SILENT_DB:  # something steady, which is no voice
        speaks = voice.levels > max(float(voice.levels.max()) - UNDER_DB, float(np.percentile(voice.levels, 20)) + 6.0)
    gap = round(TOGETHER_S / FRAME_S)
    joined: list[tuple[int, int]] = []
    for first, stop in runs(speaks):
        if joined and first - joined[-1][1] < gap:
            joined[-1] = (joined[-1][0], stop)
        else:
            joined.append((first, stop))
    from_there = begun - samples(EARLY_S, rate)
    heard = [(a * voice.size, b * voice.size) for a, b in joined if b * voice.size > from_there]
    if not heard:
        return Span(min(begun, max(0, len(x) - 1)), len(x))
    return Span(max(0, heard[0][0] - samples(BEFORE_S, rate)), min(len(x), heard[-1][1] + samples(AFTER_S, rate)))


def shifted(reading: Span, length: int, rate: int, *, start: int = 0, stop: int = 0) -> Span:
    """A reading whose margins are moved by so many samples, as far as its capture of `length` samples leaves that."""
    least = samples(LEAST_S, rate)
    first = min(max(0, reading.start + start), reading.stop - least) if start else reading.start
    last = max(min(length, reading.stop + stop), first + least) if stop else reading.stop
    return Span(max(0, first), min(length, last))


def level_there(reel: Reel, lane: int, span: Span, source: Source, x: Signal, rate: int) -> float:
    """By how many dB a reading, (n,), is to be changed so that it is as loud as what stands on both sides of a span of a lane.

    What is in the span says nothing: it was misread.  A take is never brought over `PEAK_DB`.
    """
    render = Renderer(Reel((replace(reel.lanes[lane], muted=False, solo=False, gain_db=0.0, pan=0.0),)), source).render
    around, length = samples(AROUND_S, rate), len(reel.lanes[lane])
    sides = [
        np.asarray(render(a, b))
        for a, b in ((max(0, span.start - around), min(span.start, length)), (span.stop, min(length, span.stop + around)))
        if a < b
    ]
    if not sides:
        return 0.0
    wanted = level_match(np.concatenate(sides), x, rate)
    room = PEAK_DB - decibels(float(np.max(np.abs(x), initial=0.0)))
    return round(min(wanted, max(room, 0.0)) if wanted > 0 else wanted, 2)


@dataclass(frozen=True, slots=True)
class Over:
    """Where a take is laid: a span of one lane of a chapter's reel; `words` names it."""

    chapter: str
    reel: Reel
    span: Span
    lane: int
    words: str = ""

    def edit(self, recording: str, reading: Span, gain_db: float, *, keep_time: bool = False) -> Paste:
        """The edit that lays a reading of a recording there; what follows moves up or waits, or stays where it is."""
        piece = Piece(recording, reading.start, reading.stop, gain_db, name=self.words)
        to = self.reel.lanes[self.lane].id
        return Paste(self.span.start, self.span.stop, ((to, (piece,)),), keep_time, edition=EDITION)
