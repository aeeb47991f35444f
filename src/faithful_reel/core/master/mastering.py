"""A chapter brought to a delivery profile: head and tail, low cut, noise, level, compression, limiting."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.audio.encode import AudioWriter
from faithful_reel.core.audio.raw import RawFile
from faithful_reel.core.audio.roomtone import FRAME_S
from faithful_reel.core.audio.voice import SOUND_DB, Voice, runs
from faithful_reel.core.errors import SignalError
from faithful_reel.core.jobs import Part, Unwatched, Watch, ahead
from faithful_reel.core.measure.levels import Figures, Meter
from faithful_reel.core.measure.profile import Profile, Verdict, verdicts
from faithful_reel.core.reel.reel import LIKE, Lane, Piece, Reel, RoomTone
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.treat.cells import treated_cells
from faithful_reel.core.treat.dynamics import Compressor, Limiter
from faithful_reel.core.treat.filters import LowCut
from faithful_reel.core.treat.noise import NoiseReduced, room_noise
from faithful_reel.core.units import SILENT_DB, Signal, Span, clock

MOST_REDUCTION_DB = 30.0
FLOOR_MARGIN_DB = 2.0
MP3_HEADROOM_DB = 0.6
"""An MP3 decodes with peaks a little over those that went in."""
LEAST_SPEECH_S = 1.0
"""With less than this there is nothing to set a level by."""
LEAD_S, TRAIL_S = 0.15, 0.35
"""Kept before the first sound of a voice and after the last: a soft consonant, the room's answer."""
ROOM_NEAR_S = 10.0
"""The usual level of the room at an end is that of the pauses so near to it."""
RMS_OVER_LUFS = 1.0
"""Speech without long pauses reads so much more in LUFS than in plain RMS (own measure)."""
RMS_MARGIN_DB = 0.4
"""How far inside of its window the plain RMS is kept."""
MISSED_DB = 0.3
TONE_S, SHORTEST_TONE_S, LONGEST_TONE_S = 0.4, 0.1, 8.0
LEAST_UNDER_DB = 30.0
"""A short quiet stretch that does not stand so far under the voice is no room tone."""
MOST_OFF_S = 0.25
"""A head or tail is made at most so much longer or shorter to be found as long as it should be."""
PRINT_S = 2.0
WARM_S = 4.0
OVER_ROOM_DB, AROUND_S = 6.0, 8.0
LOST_DB, LOST_FRAMES = 18.0, 6
"""A stretch of speech of 120 ms and more that came out so much fainter than all the rest is a lost one (own rule)."""


@dataclass(frozen=True, slots=True)
class Settings:
    """What mastering may do; stored with the result."""

    low_cut_hz: float = 80.0
    compression: float = 2.5
    threshold_db: float = -20.0
    reduce_noise: bool = True


@dataclass(frozen=True, slots=True)
class Mastered:
    """What was done to a chapter: figures before and after (of the finished file), and the steps in words.

    `words` is the verdict on whether all that was spoken is in the finished file; `already` whether the source passed
    the profile before anything was done.
    """

    before: Figures
    after: Figures
    steps: tuple[str, ...]
    words: Verdict
    already: bool = False


@dataclass(frozen=True, slots=True)
class Survey:
    """One pass over a rendered reel: figures as it is and after the low cut, and where in it somebody speaks."""

    figures: Figures
    cut: Figures
    voice: Voice
    speech: Span


@dataclass(frozen=True, slots=True)
class _Tone:
    """Where a head's or tail's room tone is taken from; no length: it is made, at `gain_db` over the usual hiss."""

    start: int
    stop: int
    gain_db: float = 0.0

    def woven(self, length: int, seed: int) -> RoomTone:
        source = "reel" if self.stop > self.start else ""
        return RoomTone(source, self.start, self.stop, length, gain_db=self.gain_db, join=LIKE, seed=seed)


def surveyed(
    renderer: Renderer, rate: int, channels: int, low_cut_hz: float, cut: RawFile, known: Span | None, watch: Watch
) -> Survey:
    """Measure a reel, find its speech, and write it through the low cut to `cut`.

    What lies in `known`, where words were heard, is speech whatever its level.

    Raises
    ------
    SignalError
        The reel is empty or silent, or holds less than a second of speech.
    """
    if not len(renderer):
        raise SignalError("This audio is empty. Choose another file.")
    meter, after = Meter(rate, channels), Meter(rate, channels)
    low_cut = LowCut(rate, channels, cutoff_hz=low_cut_hz)

    def measured() -> Generator[Signal]:
        for part in ahead(renderer.blocks()):
            x = np.atleast_2d(part)
            meter.feed(x)
            watch.tick(min(1.0, meter.frames / len(renderer)), "measuring")
            yield low_cut.feed(x)

    for y in ahead(cut.write(measured())):  # two meters take about as long as each other
        after.feed(y)
    figures = meter.figures()
    if figures.rms_db < -90:
        raise SignalError("This audio is silent, so there is nothing to master. Choose another file.")
    voice = after.voice
    span = voice.span
    if span is None or voice.seconds < LEAST_SPEECH_S:
        raise SignalError(
            f"Only {voice.seconds:.1f} s of speech were found, too little to set a level by. Choose a file with narration."
        )
    speech = Span(min(span.start, known.start), max(span.stop, known.stop)) if known else span
    return Survey(figures, after.figures(), voice, Span(max(0, speech.start), min(len(renderer), speech.stop)))


def _quiet_stretches(voice: Voice, shortest_s: float) -> list[tuple[int, int]]:
    """Half-open runs of frames in which nobody speaks, anywhere, away from the words beside them."""
    inner = [(a + 2, b - 2) for a, b in runs(~voice.speaks & (voice.levels > SOUND_DB), round(shortest_s / FRAME_S) + 4)]
    return [(a, b) for a, b in inner if b > a]


def tone_near(voice: Voice, at: int) -> _Tone:
    """Room tone for a head or tail beside sample `at`: a real, even stretch at the level of the room there.

    Of all quiet stretches that which is longest, most even, nearest in level to the usual pause and not far away.  Where
    there is none, as where a gate left digital silence, made tone.
    """
    levels = voice.levels
    stretches = _quiet_stretches(voice, TONE_S)
    if not stretches:
        least = float(np.percentile(levels, 95)) - LEAST_UNDER_DB if len(levels) else SILENT_DB
        stretches = [(a, b) for a, b in _quiet_stretches(voice, SHORTEST_TONE_S) if levels[a:b].max() < least]
    if not stretches:
        return _Tone(0, 0)
    middle, near = at / voice.size, round(ROOM_NEAR_S / FRAME_S)
    beside = [(a, b) for a, b in stretches if a - near < middle < b + near]  # of two rooms in one file the one that is here
    usual = float(np.median(np.concatenate([levels[a:b] for a, b in beside or stretches])))
    longest = round(LONGEST_TONE_S / FRAME_S)
    found: list[tuple[float, int, int]] = []
    for a, b in stretches:
        for first in range(a, max(a + 1, b - longest // 2), longest // 2):  # of a long one several parts
            part = levels[first : min(b, first + longest)]
            kept = _even(part)
            own = part[kept[0] : kept[1]]
            seconds = min(len(own) * FRAME_S, 3.0)
            far = abs((first + kept[0]) * voice.size - at) / (voice.size / FRAME_S)
            score = seconds - 0.8 * float(own.std()) - 0.4 * abs(float(own.mean()) - usual) - 0.01 * min(far, 120.0)
            found.append((score, first + kept[0], first + kept[1]))
    _, start, stop = max(found)
    return _Tone(start * voice.size, stop * voice.size)


def _even(levels: np.ndarray) -> tuple[int, int]:
    """The longest run of frames within 3 dB of their median, so that a breath or click in a pause is not woven in."""
    near = runs(np.abs(levels - np.median(levels)) < 3.0)
    return max(near, key=lambda run: run[1] - run[0]) if near else (0, len(levels))


def _sounding(voice: Voice, at: int, reach: int) -> int:
    """How much of `reach` samples after `at`, or before it where negative, comes before digital silence."""
    first, last = sorted((at // voice.size, -(-(at + reach) // voice.size)))
    levels = voice.levels[first:last][:: 1 if reach > 0 else -1]
    dead = np.flatnonzero(levels <= SOUND_DB)
    return min(abs(reach), int(dead[0]) * voice.size) if len(dead) else abs(reach)


def with_head_and_tail(survey: Survey, length: int, rate: int, *, head_s: float, tail_s: float) -> tuple[Reel, int]:
    """The chapter from shortly before its first word to its last, between stretches of its own room tone.

    |tone| chapter's speech |  tone  |

    Also by how many samples the speech moved; a whole number of frames, so that levels can be compared one by one.
    """
    size = survey.voice.size
    lead = min(round(LEAD_S * rate), survey.speech.start, round(head_s * rate) - 1)
    trail = min(round(TRAIL_S * rate), length - survey.speech.stop)
    lead, trail = _sounding(survey.voice, survey.speech.start, -lead), _sounding(survey.voice, survey.speech.stop, trail)
    start, stop = survey.speech.start - lead, survey.speech.stop + trail
    head = max(1, round(head_s * rate) - lead)
    head += (start - head) % size
    voice = survey.voice
    reel = Reel(
        (
            Lane(
                "voice",
                (
                    tone_near(voice, start).woven(head, 11),
                    Piece("reel", start, stop, join=LIKE),
                    tone_near(voice, stop).woven(max(1, round(tail_s * rate) - trail), 12),
                ),
            ),
        )
    )
    return reel, head - start


def master_reel(
    renderer: Renderer,
    rate: int,
    channels: int,
    profile: Profile,
    out: Path,
    *,
    checked: Callable[[Path], Meter],
    settings: Settings | None = None,
    words: Span | None = None,
    watch: Watch | None = None,
) -> Mastered:
    """Master a reel to `out`, block by block, in bounded memory.

    The reel after the low cut goes to a file without a name beside `out`; from there, with head and tail, noise reduction and
    compression, to a second one; limiting and encoding follow.  The finished file is measured by `checked`; where it
    misses a level, a floor, a head or a tail, that is set anew and done again.

    Parameters
    ----------
    words : Span, optional
        From the first to the last word that is known to be in the reel, in samples: never trimmed.

    Raises
    ------
    SignalError, FileProblem, Cancelled
        Nothing is left behind then.
    """
    settings = settings or Settings()
    watch = watch or Unwatched()
    with RawFile(out.parent, channels) as cut:
        survey = surveyed(renderer, rate, channels, settings.low_cut_hz, cut, words, Part(watch, 0.0, 0.2))
        target = _target(profile)
        depth = _reduction_needed(survey.cut, profile, target) if settings.reduce_noise else 0.0
        head_s, tail_s = profile.make_head_s, profile.make_tail_s
        for attempt in range(3):
            reel, moved = with_head_and_tail(survey, cut.frames, rate, head_s=head_s, tail_s=tail_s)
            trimmed = Renderer(reel, cut)
            lead_db = target - survey.cut.lufs
            reduction = _reduction(_Rendered(trimmed, rate, channels), survey.voice, moved, depth) if depth > 0 else None
            with RawFile(out.parent, channels) as pressed:
                measured = _pressed(trimmed, rate, reduction, lead_db, settings, pressed, Part(watch, 0.2, 0.4))
                meter, steps_made = _levelled(
                    pressed, rate, measured, lead_db, target, profile, out, checked, Part(watch, 0.4, 1.0)
                )
            result = meter.figures()
            wanted = _set_anew(result, profile, settings, depth, head_s, tail_s)
            if attempt == 2 or wanted == (depth, head_s, tail_s):
                break
            depth, head_s, tail_s = wanted
        verdict = _nothing_lost(survey, meter.voice, moved, rate)
    steps = [f"head of {head_s:.2g} s and tail of {tail_s:.2g} s of the room tone", f"low cut at {settings.low_cut_hz:g} Hz"]
    if depth > 0:
        steps.append(f"noise reduced by at most {depth:.1f} dB")
    steps.append(f"compression {settings.compression:g}:1 over {settings.threshold_db:g} dB")
    already = all(v.passed for v in verdicts(survey.figures, profile))
    return Mastered(survey.figures, result, (*steps, *steps_made), verdict, already)


def _target(profile: Profile) -> float:
    """The loudness of the speech to aim at, in LUFS."""
    return sum(profile.lufs) / 2 if profile.lufs else profile.target_rms_db + RMS_OVER_LUFS


def _floor(figures: Figures) -> float:
    return max(figures.noise_floor_db, figures.pause_floor_db)


def _reduction_needed(figures: Figures, profile: Profile, target: float) -> float:
    """How far the noise must come down so that the pauses pass once the voice is brought to its level."""
    if profile.noise_floor_db is None or _floor(figures) <= SILENT_DB:
        return 0.0
    lift = target - figures.lufs + 5.0  # compression and limiting bring the quiet up by 3 to 5 dB
    excess = _floor(figures) + lift - (profile.noise_floor_db - FLOOR_MARGIN_DB)
    return min(MOST_REDUCTION_DB, excess) if excess > 0 else 0.0


def _set_anew(
    result: Figures, profile: Profile, settings: Settings, depth: float, head_s: float, tail_s: float
) -> tuple[float, float, float]:
    """Depth of the noise reduction, head and tail for the next attempt; the same where the finished file is right."""
    limit = profile.noise_floor_db
    floor = _floor(result)
    if limit is not None and settings.reduce_noise and floor > limit - 0.3 and depth < MOST_REDUCTION_DB:
        depth = min(MOST_REDUCTION_DB, depth + floor - limit + FLOOR_MARGIN_DB)
    heads = [
        (profile.head_s, result.head_s, profile.make_head_s, head_s),
        (profile.tail_s, result.tail_s, profile.make_tail_s, tail_s),
    ]
    made = []
    for limits, found, usual, now in heads:
        off = limits is not None and not limits[0] <= found <= limits[1]
        made.append(min(max(now + usual - found, usual - MOST_OFF_S), usual + MOST_OFF_S) if off else now)
    return depth, made[0], made[1]


@dataclass(frozen=True)
class _Rendered:
    """A reel as a sound that treatments read."""

    renderer: Renderer
    rate: int
    channels: int

    @property
    def frames(self) -> int:
        return len(self.renderer)

    def read(self, start: int, stop: int) -> Signal:
        return np.atleast_2d(self.renderer.render(start, stop))


def _reduction(trimmed: _Rendered, voice: Voice, moved: int, depth: float) -> NoiseReduced:
    """Noise reduction whose prints are taken from where nobody speaks; where that is nowhere, from the quietest frames."""
    stretches = _quiet_stretches(voice, 0.06)
    if not stretches:
        sound = voice.levels > SOUND_DB
        quiet = sound & (voice.levels <= np.percentile(voice.levels[sound], 5)) if sound.any() else sound
        stretches = runs(quiet)

    def spans(found: list[tuple[int, int]]) -> list[Span]:
        placed = [(max(0, a * voice.size + moved), min(trimmed.frames, b * voice.size + moved)) for a, b in found]
        return [Span(a, b) for a, b in placed if b > a]

    return NoiseReduced(room_noise(trimmed, spans(stretches)), spans(runs(voice.speaks)), depth_db=depth)


def _pressed(
    trimmed: Renderer,
    rate: int,
    reduction: NoiseReduced | None,
    lead_db: float,
    settings: Settings,
    pressed: RawFile,
    watch: Watch,
) -> float:
    """Noise reduction, gain to the usual level and compression into `pressed`; its loudness in LUFS."""
    strength = {"threshold_db": settings.threshold_db, "compression": settings.compression}
    warm = Compressor(rate, **strength)
    start = len(trimmed.reel.lanes[0].segments[0])
    warm.feed(np.atleast_2d(trimmed.render(start, min(len(trimmed), start + round(WARM_S * rate)))), gain_db=lead_db)
    compressor = Compressor(rate, **strength, lowered_db=warm.lowered_db)  # so that the head is no louder than the pauses

    sound = _Rendered(trimmed, rate, pressed.channels)
    cleaned = treated_cells(sound, reduction) if reduction else ahead(map(np.atleast_2d, trimmed.blocks()))
    meter = Meter(rate, pressed.channels, only_levels=True)
    for x in pressed.write(compressor.feed(y, gain_db=lead_db) for y in cleaned):
        meter.feed(x)
        watch.tick(pressed.frames / len(trimmed), "cleaning")
    return meter.loudness()


def _levelled(
    pressed: RawFile,
    rate: int,
    loudness: float,
    lead_db: float,
    target: float,
    profile: Profile,
    out: Path,
    checked: Callable[[Path], Meter],
    watch: Watch,
) -> tuple[Meter, tuple[str, ...]]:
    """Gain to the target, limiting, encoding; the measures of the finished file."""
    channels = pressed.channels
    ceiling = (profile.peak_db if profile.peak_db is not None else -1.0) - 0.15
    if profile.true_peak_db is not None:
        ceiling = min(ceiling, profile.true_peak_db - 0.5)
    if out.suffix.lower() == ".mp3":
        ceiling -= MP3_HEADROOM_DB

    def limited(*, every: int = 1) -> Iterator[Signal]:
        limiter = Limiter(rate, channels, ceiling_db=ceiling)
        gain = np.float32(10 ** (trim_db / 20))
        for x in ahead(pressed.blocks(every=every)):
            y = limiter.feed(x * gain)
            if y.shape[-1]:
                yield y
        yield limiter.flush()

    trim_db = target - loudness
    every = 1 + min(3, pressed.frames // (300 * rate))  # of a long chapter, some blocks tell enough
    before: tuple[float, float] | None = None
    for _ in range(3):  # what the limiter takes away is found without encoding anything
        meter = Meter(rate, channels, only_levels=True)
        for y in limited(every=every):
            meter.feed(y)
            watch.tick(0.0, "levelling")
        missed = _missed(*meter.levels(), target, profile)
        if abs(missed) < MISSED_DB / 4:
            break
        steep = (trim_db - before[0]) / (before[1] - missed) if before and before[1] != missed else 1.3
        before = trim_db, missed
        trim_db += float(np.clip(steep, 0.8, 4.0)) * missed
    for attempt in range(3):
        written = 0
        with AudioWriter(out, rate, channels, bits=24, kbits=192) as writer:
            for y in limited():
                writer.write(y)
                written += y.shape[1]
                watch.tick(0.1 + 0.9 * min(1.0, written / pressed.frames), "writing")
        result = checked(out)
        found = result.figures()
        # should the level still be off, or an encoder's peak be over the limit, the last stage is done again
        missed = _missed(found.rms_db, found.lufs, target, profile)
        over = found.peak_db - profile.peak_db if profile.peak_db is not None else -1.0
        if profile.true_peak_db is not None:
            over = max(over, found.true_peak_db - profile.true_peak_db)
        if attempt == 2 or (abs(missed) < MISSED_DB and over <= -0.02):
            break
        trim_db += missed if abs(missed) >= MISSED_DB else 0.0
        ceiling -= over + 0.1 if over > -0.02 else 0.0
    steps = (
        f"gain {lead_db + trim_db:+.1f} dB, speech at {found.lufs:.1f} LUFS",
        f"peaks limited to {ceiling:.2f} dB",
    )
    return result, steps


def _missed(rms_db: float, lufs: float, target: float, profile: Profile) -> float:
    """How much louder the sound should be: speech at its target, and the plain RMS, where that counts, inside of its window."""
    missed = target - lufs
    if profile.rms_db is None:
        return missed
    low, high = (limit - rms_db for limit in profile.rms_db)
    return min(max(missed, low + RMS_MARGIN_DB), high - RMS_MARGIN_DB)


def _room_around(levels: NDArray[np.float64]) -> NDArray[np.float64]:
    """What is undercut a twentieth of the time within 8 s of every frame, in dB: the room there, where rooms change in a file."""
    step, reach = round(1 / FRAME_S), round(AROUND_S / FRAME_S)
    found = [np.percentile(levels[max(0, k - reach) : k + step + reach], 5) for k in range(0, len(levels), step)]
    return np.repeat(found, step)[: len(levels)] if found else np.zeros(0)


def _nothing_lost(survey: Survey, after: Voice, moved: int, rate: int) -> Verdict:
    """Whether every stretch of speech of the source stands in the finished file, compared frame by frame."""
    voice = survey.voice
    shift = moved // voice.size
    room = voice.pause_levels()
    usual = float(np.median(room)) + OVER_ROOM_DB if len(room) else SOUND_DB
    over = voice.levels > np.maximum(usual, _room_around(voice.levels) + OVER_ROOM_DB)
    speaks = voice.speaks & over  # what hardly stands over the room, where it is, goes down with it
    frames = np.flatnonzero(speaks) + shift
    inside = (frames >= 0) & (frames < len(after.levels))
    there = np.full(len(frames), SILENT_DB)
    there[inside] = after.levels[frames[inside]]
    change = there - voice.levels[np.flatnonzero(speaks)]
    faint = np.zeros(len(speaks), bool)
    faint[np.flatnonzero(speaks)] = change < np.median(change) - LOST_DB
    lost = runs(faint, LOST_FRAMES)
    at = clock(lost[0][0] * voice.size / rate) if lost else ""
    return Verdict("words", "all of the source's speech", f"lost near {at} of the source" if lost else "whole", not lost)
