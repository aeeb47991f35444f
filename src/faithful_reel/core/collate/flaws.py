"""Flaws of the sound that are no departure from the text: which there are, from where on, and those of pace and level."""

from __future__ import annotations

import itertools
import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.collate.findings import Evidence, Finding, Kind
from faithful_reel.core.collate.links import Link
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import EAR_RATE

Levels = NDArray[np.float64]


class Flaw(StrEnum):
    """What a finding of the sound is, closer than its kind; each can be switched off."""

    LONG_PAUSE = "long pause"
    SHORT_PAUSE = "short pause"
    CLICK = "click"
    THUMP = "thump"
    NOISE = "noise"
    BREATH = "breath"
    PLOSIVE = "plosive"
    CLIPPED = "clipped"
    HUM = "hum"
    JUMP = "level jump"
    MARK = "retake mark"


KIND = {
    Flaw.LONG_PAUSE: Kind.PAUSE,
    Flaw.SHORT_PAUSE: Kind.PAUSE,
    Flaw.CLIPPED: Kind.LEVEL,
    Flaw.JUMP: Kind.LEVEL,
}
"""The kind that a flaw's finding is of; the others are noises."""


class Place(StrEnum):
    """Where in the text a pause stands."""

    WITHIN = "within a sentence"
    CLAUSE = "at a comma"
    SENTENCE = "between sentences"
    PARAGRAPH = "between paragraphs"
    SCENE = "at a scene break"
    RETAKE = "beside a retake"


@dataclass(frozen=True, slots=True)
class Limits:
    """From where on a peculiarity is a flaw: all thresholds in one place.  Own rules, tuned by ear on common practice.

    Pauses are judged by the reader's own habit at that kind of place: one is long where it lasts `long_times` the
    usual, `long_spreads` usual deviations more than it, and at least the place's `long_s`; it is short where it lasts
    less than `short_times` the usual and than `short_s`.  Levels are in dB, of noises above the floor around them, of
    breaths, plosives and sentences above what is usual with this reader.
    """

    long_s: tuple[float, ...] = (0.75, 1.1, 1.7, 2.2, 4.5, 3.0)
    """By `Place`."""
    usual_s: tuple[float, ...] = (0.15, 0.35, 0.6, 0.9, 1.8, 1.2)
    """By `Place`: what is taken for the habit where it can not be seen, stretched to the reader's pace."""
    long_times: float = 2.2
    long_spreads: float = 5.0
    short_times: float = 0.35
    short_s: float = 0.16
    noise_db: float = 24.0
    quietest_noise_db: float = -42.0
    click_s: float = 0.03
    longest_noise_s: float = 0.5
    breath_db: float = 9.0
    loud_breath_db: float = -14.0
    """Against the voice."""
    plosive_db: float = 9.0
    hum_db: float = -65.0
    jump_db: float = 4.5
    jump_spreads: float = 4.0


USUAL = Limits()
FEWEST = 6
"""Pauses of one kind that must be there before they are taken for a habit."""
_CLAUSE = re.compile(r"[,;:–—-][\"'”’)\]]*$|^[–—-]+$")
EDGE_S = 0.09
"""Beside a word, where its own sound may reach."""


def flaw(what: Flaw, word: int, start: int, stop: int, sure: float, note: str, usual: float | None = None) -> Finding:
    """A finding of a flaw; `usual` is what is normal there: seconds of a pause, dB that a level must be changed by."""
    kind = KIND.get(what, Kind.NOISE)
    confidence = round(min(0.95, max(0.05, sure)), 3)
    note = re.sub(r"(?<!\w)-(?=\d)", "−", note)
    return Finding("", kind, "", "", word, 0, start, stop, confidence, Evidence(note=note, flaw=what.value, usual=usual))


@dataclass(frozen=True, slots=True)
class Gap:
    """What lies between two successive heard words, in samples; `word` is the written one it is told at."""

    start: int
    stop: int
    word: int
    place: Place

    @property
    def seconds(self) -> float:
        """How long it lasts."""
        return (self.stop - self.start) / EAR_RATE


def gaps_of(chapter: Chapter, heard: Sequence[Heard], links: Sequence[Link]) -> list[Gap]:
    """The pauses of a reading, with the kind of place in the text that each stands at."""
    written_at: dict[int, int] = {}  # the last written word that a heard one reads
    first_at: dict[int, int] = {}
    for link in links:
        for k, j in enumerate(link.heard):
            if link.written:
                written_at[j] = link.written[min(k, len(link.written) - 1)] if j < link.heard.stop - 1 else link.written.stop - 1
                first_at[j] = link.written[min(k, len(link.written) - 1)]
    order = sorted(range(len(heard)), key=lambda j: heard[j].start)
    gaps: list[Gap] = []
    word = 0
    for a, b in itertools.pairwise(order):
        here, there = written_at.get(a), first_at.get(b)
        if here is not None:
            word = here
        if heard[b].start <= heard[a].stop:
            continue
        place = place_after(chapter, here) if here is not None and there == here + 1 else Place.RETAKE
        gaps.append(Gap(heard[a].stop, heard[b].start, there if there is not None else word, place))
    return gaps


def place_after(chapter: Chapter, word: int) -> Place:
    """What kind of place follows a written word."""
    words = chapter.words
    if word + 1 >= len(words):
        return Place.PARAGRAPH
    before, after = words[word], words[word + 1]
    if before.paragraph != after.paragraph:
        return Place.SCENE if after.paragraph in chapter.breaks else Place.PARAGRAPH
    if before.sentence != after.sentence:
        return Place.SENTENCE
    return Place.CLAUSE if _CLAUSE.search(before.text) or after.text[:1] in "–—(" else Place.WITHIN


def habits(gaps: Sequence[Gap], limits: Limits) -> dict[Place, tuple[float, float]]:
    """(usual length, usual deviation) of the reader's pauses at every kind of place, in seconds.

    The deviation is the median one from the median, times 1.4826 as for a normal distribution.
    """
    known: dict[Place, tuple[float, float]] = {}
    for place in Place:
        own = [g.seconds for g in gaps if g.place is place and (place is not Place.WITHIN or g.seconds > 0.05)]
        if len(own) >= FEWEST:
            middle = float(np.median(own))
            known[place] = middle, max(0.04, 1.4826 * float(np.median(np.abs(np.array(own) - middle))))
    usual = dict(zip(Place, limits.usual_s, strict=True))
    pace = float(np.median([known[p][0] / usual[p] for p in known])) if known else 1.0
    return {p: known.get(p, (pace * usual[p], 0.3 * pace * usual[p])) for p in Place}


def pause_flaws(gaps: Sequence[Gap], spoken: Levels, floor: Levels, limits: Limits = USUAL) -> list[Finding]:
    """Pauses unlike the reader's own habit at that kind of place.

    Parameters
    ----------
    gaps : sequence of Gap
        All of the chapter's.
    spoken, floor : (n,) arrays
        The sound's level and the floor around it in dB, every 5 ms: a gap in which something loud goes on for long is
        speech that no ear made out, not a pause.
    limits : Limits
        Thresholds.
    """
    usual = habits(gaps, limits)
    found: list[Finding] = []
    frame = EAR_RATE // 200
    for gap in gaps:
        middle, spread = usual[gap.place]
        longest = max(
            limits.long_s[list(Place).index(gap.place)], limits.long_times * middle, middle + limits.long_spreads * spread
        )
        told = f"{gap.seconds:.1f} s of pause {gap.place.value}; the reader's usual one is {middle:.1f} s"
        if gap.seconds > 0.8 * longest:
            edge = round(EDGE_S * 200)
            inside = slice(gap.start // frame + edge, gap.stop // frame - edge)
            if np.mean(spoken[inside] > np.maximum(floor[inside] + 15, -52)) < 0.15:
                sure = 0.55 + 0.7 * (gap.seconds / longest - 1)
                found.append(flaw(Flaw.LONG_PAUSE, gap.word, gap.start, gap.stop, sure, told, round(middle, 3)))
        elif (
            gap.place in (Place.SENTENCE, Place.PARAGRAPH, Place.SCENE)
            and gap.seconds < limits.short_times * middle
            and gap.seconds < min(limits.short_s, middle - 3 * spread)
        ):
            told = f"only {gap.seconds:.2f} s of pause {gap.place.value}; the reader's usual one is {middle:.1f} s"
            sure = 0.65 - 0.25 * gap.seconds / limits.short_s
            found.append(flaw(Flaw.SHORT_PAUSE, gap.word, gap.start, gap.stop, sure, told, round(middle, 3)))
    return found


def level_flaws(
    chapter: Chapter, heard: Sequence[Heard], links: Sequence[Link], spoken: Levels, limits: Limits = USUAL
) -> list[Finding]:
    """Sentences that are louder or softer than those around them.

    `spoken` is the level of the sound in dB every 5 ms, (n,).  A sentence's level is the median of its words' levels.  It is
    held against the median of the three sentences before and the three after it; shorter ones than 1 s of speech are left
    out.  A passage of several sentences is held against up to six on either side, and told where it is unlike both.
    """
    sentence_of = {i: n for n, s in enumerate(chapter.sentences()) for i in s}
    rows: dict[int, list[int]] = {}
    for link in links:
        if link.written and link.same:
            rows.setdefault(sentence_of[link.written.start], []).extend(link.heard)
    frame = EAR_RATE // 200
    sentences: list[tuple[int, int, int, float]] = []
    for n in sorted(rows):
        words = [heard[j] for j in rows[n]]
        own = [10 ** (spoken[w.start // frame : w.stop // frame] / 10) for w in words]
        own = [power for power in own if len(power)]
        if sum(map(len, own)) >= 200:
            start, stop = min(w.start for w in words), max(w.stop for w in words)
            sentences.append((n, start, stop, float(np.median([10 * np.log10(power.mean() + 1e-20) for power in own]))))
    levels = np.array([s[3] for s in sentences])
    if len(levels) < FEWEST:
        return []
    firsts = [s.start for s in chapter.sentences()]
    found: list[Finding] = []
    for k, stop, by, over in _passages(levels, limits):
        begins, ends = sentences[k][1], sentences[stop - 1][2]
        note = f"{stop - k} sentences {abs(by):.1f} dB {'louder' if by > 0 else 'softer'} than those before and after them"
        found.append(flaw(Flaw.JUMP, firsts[sentences[k][0]], begins, ends, 0.55 + 0.4 * (over - 1), note, round(-by, 1)))
        levels[k:stop] -= by  # so that those beside it are not unlike it
    off = np.array([levels[k] - np.median(np.r_[levels[max(0, k - 3) : k], levels[k + 1 : k + 4]]) for k in range(len(levels))])
    spread = 1.4826 * float(np.median(np.abs(off - np.median(off))))
    least = max(limits.jump_db, limits.jump_spreads * spread)
    found += [
        flaw(
            Flaw.JUMP,
            firsts[n],
            start,
            stop,
            0.55 + 0.4 * (abs(by) / least - 1),
            f"{abs(by):.1f} dB {'louder' if by > 0 else 'softer'} than the sentences around it",
            round(-float(by), 1),
        )
        for (n, start, stop, _), by in zip(sentences, off.tolist(), strict=True)
        if abs(by) > 0.85 * least
    ]
    return found


PASSAGE, BESIDE = 12, 6
"""A passage has so many sentences at most, and is held against so many on either side (own rules)."""


def _passages(levels: Levels, limits: Limits) -> list[tuple[int, int, float, float]]:
    """Runs of sentences that are louder or softer than those on both sides: (first, stop, dB, how many times the least).

    `levels` has a level for each sentence, (n,).  What a run usually differs from what is beside it is counted for each length;
    of runs that overlap the one whose sentences fit best is told.
    """
    found: list[tuple[int, int, float, float]] = []
    for size in range(2, min(PASSAGE, len(levels) // 2) + 1):
        firsts = range(2, len(levels) - size - 1)
        if len(firsts) < FEWEST:
            break
        own = np.array([np.median(levels[k : k + size]) for k in firsts])
        before = own - [np.median(levels[max(0, k - BESIDE) : k]) for k in firsts]
        after = own - [np.median(levels[k + size : k + size + BESIDE]) for k in firsts]
        usual = 1.4826 * float(np.median(np.abs(np.concatenate([before, after]))))
        least = max(limits.jump_db, limits.jump_spreads * usual)
        by = np.where(before * after > 0, np.where(np.abs(before) < np.abs(after), before, after), 0.0)
        found += [(k, k + size, float(d), abs(float(d)) / least) for k, d in zip(firsts, by, strict=True) if abs(d) > least]
    kept: list[tuple[int, int, float, float]] = []
    for row in sorted(found, key=lambda r: (-_fits(levels, *r[:3]), r[0])):
        if all(row[1] <= k[0] or row[0] >= k[1] for k in kept):
            kept.append(row)
    return sorted(kept)


def _fits(levels: Levels, first: int, stop: int, by: float) -> float:
    """How much more the sentences of a run are louder, or softer, than half of what all of it is: less for each that is not."""
    own = levels[first:stop]
    beside = float(np.median(own)) - by
    return float(np.sum(np.sign(by) * (own - beside) - abs(by) / 2))
