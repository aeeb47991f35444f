"""Noises of a reading: clicks, thumps and other sounds in its pauses, breaths and plosives that stick out, clipping, hum."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from operator import attrgetter

import numpy as np
import scipy  # its parts are loaded when they are first used: 55 MB that need not be there while the ears are at work
from numpy.typing import NDArray

from faithful_reel.core.audio.files import let_go
from faithful_reel.core.audio.roomtone import levels_of_frames
from faithful_reel.core.collate.clicks import Click
from faithful_reel.core.collate.findings import Finding
from faithful_reel.core.collate.flaws import (
    EDGE_S,
    FEWEST,
    USUAL,
    Flaw,
    Gap,
    Levels,
    Limits,
    flaw,
    gaps_of,
    level_flaws,
    pause_flaws,
)
from faithful_reel.core.collate.links import Link
from faithful_reel.core.hear.pronounce import phones_of
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.measure.health import HealthMeter
from faithful_reel.core.text.spoken import spoken_forms
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import EAR_RATE, Signal

FRAME = EAR_RATE // 200
MINUTE = 60 * EAR_RATE
LOW_HZ = 100.0
"""Under it are thumps and the bursts of plosives (about 120 Hz by common practice)."""
STOPS = frozenset("PBTKD")
FLOOR_S = 8.0
"""The floor is looked for in this much sound around a moment: joined recordings have unlike ones."""
HUM_S = 300
CLICK_ROOM = EAR_RATE // 50


def flaws_of(
    x: Signal,
    chapter: Chapter,
    heard: Sequence[Heard],
    links: Sequence[Link],
    limits: Limits = USUAL,
    levels: Levels | None = None,
    clicks: Sequence[Click] = (),
) -> list[Finding]:
    """All flaws of a reading.

    Parameters
    ----------
    x : (n,) float32 array
        The recording at 16 kHz, mono.
    chapter, heard, links
        What is written, the heard words with their edges, and how they belong together.
    limits : Limits
        Thresholds.
    levels : array
        What `levels_of` gives, where it is known already.
    clicks : sequence of Click
        Those of a few samples, found at the recording's own rate.
    """
    levels = levels_of(x) if levels is None else levels
    if not len(levels) or not heard:
        return []
    low = _low_levels(x)[: len(levels)]
    floor = _floor(levels)
    gaps = gaps_of(chapter, heard, links)
    voice = _voice_db(levels, heard)
    clipped = _clipped(x, gaps)
    bursts = [  # a clipped word is full of low sound
        p for p in _plosives(heard, links, low, voice, limits) if all(p.stop < c.start or p.start > c.stop for c in clipped)
    ]
    sounds = _sounds_in(x, gaps, levels, low, floor, voice, limits)
    return [
        *pause_flaws(gaps, levels, floor, limits),
        *level_flaws(chapter, heard, links, levels, limits),
        *sounds,
        *_short_clicks(clicks, heard, links, sounds, clipped),
        *bursts,
        *clipped,
        *_hum(x, heard, limits),
    ]


def levels_of(x: Signal) -> Levels:
    """RMS in dB of successive 5 ms of (n,) audio at 16 kHz, a minute at a time: (n // 80,)."""
    parts = [levels_of_frames(part, FRAME) for part in _minutes(x)]
    return np.concatenate(parts) if parts else np.zeros(0)


def _minutes(x: Signal) -> Iterator[Signal]:
    """The sound a minute at a time; an hour of it is let go of as it goes by."""
    for at in range(0, len(x), MINUTE):
        yield x[at : at + MINUTE]
        let_go(x)


def _low_levels(x: Signal) -> Levels:
    """RMS in dB of what lies under `LOW_HZ`, of successive 5 ms."""
    sos = scipy.signal.butter(4, LOW_HZ, fs=EAR_RATE, output="sos")
    state = np.zeros((len(sos), 2))
    parts = []
    for part in _minutes(x):
        y, state = scipy.signal.sosfilt(sos, part, zi=state)
        parts.append(levels_of_frames(y, FRAME))
    return np.concatenate(parts) if parts else np.zeros(0)


def _floor(levels: Levels) -> Levels:
    """The level that is undercut a twentieth of the time in `FLOOR_S` around every frame."""
    step = 40  # a fifth of a second
    quiet = np.array([np.percentile(levels[k : k + step], 15) for k in range(0, len(levels), step)])
    around = scipy.ndimage.percentile_filter(quiet, 10, size=max(1, round(FLOOR_S / 0.2)), mode="nearest")
    return np.repeat(around, step)[: len(levels)]


def _voice_db(levels: Levels, heard: Sequence[Heard]) -> float:
    """The median level of the heard words."""
    means = [np.mean(10 ** (levels[w.start // FRAME : w.stop // FRAME] / 10)) for w in heard if w.stop - w.start >= 4 * FRAME]
    return float(10 * np.log10(np.median(means) + 1e-20)) if means else -20.0


# --- in pauses ----------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class _Burst:
    """Something that sounds in a pause: frames [start, stop), its greatest level, and what it may be."""

    gap: Gap
    start: int
    stop: int
    level: float
    what: Flaw


def _sounds_in(
    x: Signal, gaps: Sequence[Gap], levels: Levels, low: Levels, floor: Levels, voice: float, limits: Limits
) -> list[Finding]:
    """Noises in pauses, and breaths that are louder than this reader's other ones."""
    bursts = [b for gap in gaps for b in _bursts(x, gap, levels, low, floor, limits)]
    breaths = [b for b in bursts if b.what is Flaw.BREATH]
    usual = float(np.median([b.level for b in breaths])) if len(breaths) >= FEWEST else voice - 30
    found = []
    for b in bursts:
        start, stop = b.start * FRAME, b.stop * FRAME
        if b.what is Flaw.BREATH:
            over = min(b.level - usual - limits.breath_db, b.level - voice - limits.loud_breath_db + 6)
            if over > -3:
                note = f"a breath of {b.level:.0f} dB; the reader's usual one is {usual:.0f} dB"
                found.append(flaw(b.what, b.gap.word, start, stop, 0.55 + 0.06 * over, note, round(usual - b.level, 1)))
        elif b.level > max(floor[b.start] + limits.noise_db, limits.quietest_noise_db):
            found.append(flaw(b.what, b.gap.word, start, stop, 0.75, f"a {b.what.value} in a pause, {b.level:.0f} dB"))
    return found


def _short_clicks(
    clicks: Sequence[Click],
    heard: Sequence[Heard],
    links: Sequence[Link],
    told: Sequence[Finding],
    clipped: Sequence[Finding],
) -> list[Finding]:
    """Clicks of a few samples, in a word or in a pause, apart from those that are told already; those side by side as one.

    A word that is clipped clicks wherever its waves are cut off.
    """
    cut_off = [(h.start, h.stop) for h in heard if any(f.start < h.stop and f.stop > h.start for f in clipped)]
    near = [*((f.start, f.stop) for f in (*told, *clipped)), *cut_off]
    written = sorted((heard[j].start, link.written.start) for link in links if link.written for j in link.heard)
    found: list[Finding] = []
    for click in clicks:
        if any(start - CLICK_ROOM <= click.at < stop + CLICK_ROOM for start, stop in near):
            continue
        inside = any(h.start <= click.at < h.stop for h in heard)
        k = bisect_right(written, (click.at, 1 << 62))
        word = written[min(max(0, k - 1 if inside else k), len(written) - 1)][1] if written else 0
        note = f"a click {'in a word' if inside else 'in a pause'}, {click.peak_db:.0f} dB"
        if found and click.at - found[-1].stop < CLICK_ROOM:
            found[-1] = replace(found[-1], stop=click.at + CLICK_ROOM // 2)
            continue
        found.append(flaw(Flaw.CLICK, word, max(0, click.at - CLICK_ROOM // 2), click.at + CLICK_ROOM // 2, 0.75, note))
    return found


def _bursts(x: Signal, gap: Gap, levels: Levels, low: Levels, floor: Levels, limits: Limits) -> list[_Burst]:
    """What stands out of the floor in one pause, apart from the words' own ends."""
    edge = round(EDGE_S * 200)
    first, last = gap.start // FRAME + edge, gap.stop // FRAME - edge
    if last - first < 6:
        return []
    loud = np.flatnonzero(levels[first:last] > floor[first:last] + 9)
    if not len(loud):
        return []
    runs = np.split(loud, np.flatnonzero(np.diff(loud) > 8) + 1)
    found = []
    for run in runs:
        start, stop = first + int(run[0]), first + int(run[-1]) + 1
        seconds = (stop - start) * 0.005
        level = float(levels[start:stop].max())
        if seconds > limits.longest_noise_s:  # what lasts longer is speech that no ear made out
            continue
        if level > floor[start] + limits.noise_db and np.sum(levels[start:stop] > level - 20) * 0.005 < limits.click_s:
            what = Flaw.CLICK
        elif float(low[start:stop].max()) > level - 3:
            what = Flaw.THUMP
        elif seconds >= 0.1 and _noise_like(x[start * FRAME : stop * FRAME]):
            what = Flaw.BREATH
        else:
            what = Flaw.NOISE
        found.append(_Burst(gap, start, stop, level, what))
    return found


def _noise_like(x: Signal) -> bool:
    """Whether a stretch is breath-like: no pitch, most of its energy between 300 Hz and 5 kHz, no tone."""
    taper = np.hanning(len(x))
    power = np.abs(np.fft.rfft(x * taper, 2 * len(x))) ** 2
    hz = np.fft.rfftfreq(2 * len(x), 1 / EAR_RATE)
    inside = power[(hz > 300) & (hz < 5000)]
    again = np.fft.irfft(power)
    pitch = again[round(EAR_RATE / 400) : round(EAR_RATE / 70)].max() / (again[0] + 1e-20)
    peak = np.convolve(inside, np.ones(9) / 9, "same").max() / (inside.mean() + 1e-20)
    return bool(pitch < 0.5 and inside.sum() > 0.5 * power.sum() and peak < 12)


# --- in words -----------------------------------------------------------------------------------------------------


def _plosives(
    heard: Sequence[Heard], links: Sequence[Link], low: NDArray[np.float64], voice: float, limits: Limits
) -> list[Finding]:
    """Words with a stop whose burst under 100 Hz is far above what such words of this reader have."""
    written = {j: link.written.start for link in links if link.written for j in link.heard}
    rows: list[tuple[int, int, float]] = []
    for j, word in enumerate(heard):
        if any(p[0] in STOPS and p[:2] not in ("TH", "DH") for w in spoken_forms(word.text)[0] for p in phones_of(w)):
            start, stop = max(0, word.start // FRAME - 8), word.stop // FRAME + 2
            part = 10 ** (low[start:stop] / 10)
            if len(part) >= 8:
                smooth = np.convolve(part, np.ones(6) / 6, "valid")
                at = int(smooth.argmax())
                rows.append((j, start + at, 10 * float(np.log10(smooth[at] + 1e-20))))
    if len(rows) < FEWEST:
        return []
    peaks = np.array([r[2] for r in rows])
    usual = float(np.median(peaks))
    spread = 1.4826 * float(np.median(np.abs(peaks - usual)))
    least = max(limits.plosive_db, 4 * spread)
    found: list[Finding] = []
    for j, at, level in rows:
        over = min(level - usual - least, level - voice + 6)
        if over > -1.5:
            note = f"a burst under {LOW_HZ:.0f} Hz, {level - usual:.0f} dB above this reader's usual one"
            burst = flaw(Flaw.PLOSIVE, written.get(j, 0), at * FRAME, (at + 8) * FRAME, 0.6 + 0.05 * over, note)
            if found and burst.start - found[-1].stop < EAR_RATE // 10:  # it reaches into the neighbouring word
                burst = max(found.pop(), burst, key=attrgetter("confidence"))
            found.append(burst)
    return found


def _clipped(x: Signal, gaps: Sequence[Gap]) -> list[Finding]:
    """Runs at one and the same greatest level, near full scale: a word that was cut off by the converter."""
    found_near = [MINUTE * k + np.flatnonzero(np.abs(part) > 0.93) for k, part in enumerate(_minutes(x))]
    near = np.concatenate(found_near) if found_near else np.zeros(0, np.int64)
    if len(near) < 8:
        return []
    starts = [g.stop for g in gaps]
    found: list[Finding] = []
    start = previous = int(near[0])
    count = 0
    for at in [*near.tolist(), len(x) + EAR_RATE]:
        if at - previous > EAR_RATE // 2:
            if count >= 6:
                k = int(np.searchsorted(starts, start, side="right")) - 1
                word = gaps[k].word if k >= 0 else 0
                found.append(flaw(Flaw.CLIPPED, word, start, previous + 1, 0.85, f"{count} samples at full scale"))
            start, count = at, 0
        previous = at
        count += 1
    return found


def _hum(x: Signal, heard: Sequence[Heard], limits: Limits) -> list[Finding]:
    """Mains hum in the quiet of the first minutes, told once, at the beginning."""
    meter = HealthMeter(EAR_RATE, 1)
    for at in range(0, min(len(x), HUM_S * EAR_RATE), MINUTE // 6):
        meter.feed(np.atleast_2d(x[at : at + MINUTE // 6]))
    health = meter.health()
    if not health.hum_hz or health.hum_db <= limits.hum_db:
        return []
    note = f"hum of {health.hum_hz:.0f} Hz at {health.hum_db:.0f} dB all through"
    stop = min(h.start for h in heard)
    return [flaw(Flaw.HUM, 0, 0, max(stop, FRAME), 0.6 + 0.04 * (health.hum_db - limits.hum_db), note)]
