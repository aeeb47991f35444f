"""How a pickup recording differs from the chapter: level, tone, floor, echo and pace, measured on words that both read."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import cache

import numpy as np
from numpy.typing import NDArray
from scipy.fft import rfft

from faithful_reel.core.audio.voice import VoiceBands
from faithful_reel.core.splice.pitch import word_heights
from faithful_reel.core.units import Signal, Span

BANDS = 24
LOW_HZ, HIGH_HZ = 90.0, 12_000.0
FRAME_S, HOP_S = 0.0256, 0.0064
OVER_FLOOR_DB = 6.0
"""A band of a word counts where it stands so far over its floor."""
MOST_TONE_DB, MOST_LEVEL_DB = 9.0, 24.0
ONE_WORD_DB, ONE_LEVEL_DB, WIDE = 2.0, 1.0, 1.5
"""How much a band of one word, and its level, differ from take to take, and how many times farther off other words are than their
spread says (measured)."""
PRIOR_DB = 4.0
"""How much a band usually differs between two sessions: what is known less well than that is taken for less (own choice)."""
LEAST_QUIET_S = 0.2
QUIET_S = 0.15
"""Beside a voice so much is not taken for the room's own floor."""
DECAY_S, DECAY_STEPS = 0.02, 12
"""After a word that a pause follows its decay is looked at in steps of 20 ms."""
LEAST_PAUSE_S = 0.2
BLOCK = 256
GROUND_DB = 3.0
FEWEST_VOICED, OCTAVE_OFF = 4, 9.0
"""So many words tell the height of a voice at least; semitones from which on one was told an octave off."""
Bands = NDArray[np.float64]


def erb_edges(rate: int, count: int = BANDS) -> NDArray[np.float64]:
    """Edges in Hz, (count + 1,), of bands even on the ERB-rate scale 21.4 log10(1 + 0.00437 f) (Glasberg and Moore, 1990)."""
    top = min(HIGH_HZ, 0.45 * rate)
    low, high = (21.4 * np.log10(1 + 0.00437 * f) for f in (LOW_HZ, top))
    return np.asarray((10 ** (np.linspace(low, high, count + 1) / 21.4) - 1) / 0.00437)


@dataclass(frozen=True, slots=True)
class Spoken:
    """A stretch of sound, (n,), that begins at `offset`, with where the words of a line are; None for one that is not heard.

    `others` are words around the line, or of other lines, of the same session; `room` is a longer stretch, (m,), in which its
    floor is looked for where nobody pauses in `sound`.
    """

    sound: Signal
    offset: int
    words: tuple[Span | None, ...]
    others: tuple[Span, ...] = ()
    room: Signal = field(default_factory=lambda: np.zeros(0, np.float32))


@dataclass(frozen=True, slots=True)
class Figures:
    """What one side of a line measures: its words in bands, (words, bands) in dB, NaN where it can not be told.

    `others` is the same of the words around; `floor` is the power spectrum (bins,) of the frames in which nobody speaks; `decay`
    what `decays` gives; `heights` are the words' in semitones, (words,), and `other_heights` those of the words around.
    """

    bands: Bands
    others: Bands
    floor: NDArray[np.float64]
    floor_bands: Bands
    decay: Bands
    heights: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    other_heights: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))


@dataclass(frozen=True, slots=True)
class Profile:
    """What would turn a take's sound into the chapter's: dB to add in level, and in every band; and the floors.

    `pace` is how many times as fast as the chapter the takes are read; `spread` the standard error of every band; `echo` how
    many dB more the takes fall after a word than the chapter, at 60 to 200 ms (less than nothing: there is more echo in them);
    `pitch` how many semitones higher the chapter's words are, and `pitch_range` how far its own lie from their middle.
    """

    level_db: float
    tone_db: tuple[float, ...]
    spread_db: tuple[float, ...]
    pace: float
    echo_db: float
    lines: int = 1
    pitch: float = 0.0
    pitch_range: float = 0.0


def frame_of(rate: int) -> tuple[int, int]:
    """Frame and hop in samples, both even."""
    return 2 * round(FRAME_S * rate / 2), 2 * round(HOP_S * rate / 2)


def spectra_of(x: Signal, rate: int) -> NDArray[np.float32]:
    """Power spectra of Hann frames of (n,) audio, (frames, bins): the mean power of a sinusoid is told as it is."""
    return np.concatenate(list(_blocks(_at_least(x, rate), rate)))


def _at_least(x: Signal, rate: int) -> Signal:
    """(n,) audio, with silence after it where it is shorter than a frame."""
    return np.pad(x, (0, max(0, frame_of(rate)[0] - len(x))))


def _blocks(x: Signal, rate: int) -> Iterator[NDArray[np.float32]]:
    """The same some frames at a time, which stay in the processor's cache."""
    frame, hop = frame_of(rate)
    rows = np.lib.stride_tricks.sliding_window_view(np.asarray(x, np.float32), frame)[::hop]
    window = np.hanning(frame + 1)[:-1].astype(np.float32)
    for first in range(0, len(rows), BLOCK):
        yield as_power(rfft(rows[first : first + BLOCK] * window, axis=1), window)


def as_power(spectra: NDArray[np.complex64], window: Signal) -> NDArray[np.float32]:
    """(frames, bins) spectra under a window, (frame,), as powers of the sinusoids in them."""
    power = np.square(spectra.real)
    power += np.square(spectra.imag)
    power *= np.float32(2.0 / (len(window) * float(np.sum(np.square(window, dtype=np.float64)))))
    return power


def in_bands(power: NDArray[np.floating], rate: int) -> Bands:
    """(..., bins) power spectra as (..., BANDS) powers."""
    return np.asarray(power @ _band_table(rate).astype(power.dtype), np.float64)


@cache
def _band_table(rate: int) -> NDArray[np.float64]:
    """Which bins of a frame belong to which band, (bins, BANDS) of ones and zeros."""
    hz = np.fft.rfftfreq(frame_of(rate)[0], 1 / rate)
    edges = np.searchsorted(hz, erb_edges(rate))
    bins = np.arange(len(hz))[:, None]
    return np.asarray((bins >= edges[:-1]) & (bins < np.maximum(edges[1:], edges[:-1] + 1)), np.float64)


def quiet_frames(side: Spoken, rate: int) -> NDArray[np.bool_]:
    """Which frames of a side, (frames,) as of `spectra_of`, lie in no word, where nobody speaks, and beside neither."""
    frame, hop = frame_of(rate)
    x = side.sound
    bands = VoiceBands(rate)
    bands.feed(np.atleast_2d(x))
    voice = bands.voice()
    count = max(1, (max(len(x), frame) - frame) // hop + 1)
    if not len(voice.speaks):
        return np.ones(count, bool)
    reach = round(QUIET_S * rate / voice.size)
    near = np.convolve(voice.speaks, np.ones(2 * reach + 1), "same") > 0
    for span in (*side.words, *side.others):
        if span is not None:
            first, last = (span.start - side.offset) // voice.size, (span.stop - side.offset) // voice.size
            near[max(0, first - reach // 2) : max(0, last + reach)] = True
    silent = voice.levels < -110
    at = np.minimum((np.arange(count) * hop + frame // 2) // voice.size, len(near) - 1)
    return np.asarray(~near[at] & ~silent[at])


def figures_of(side: Spoken, rate: int) -> Figures:
    """Measure one side of a line."""
    quiet = quiet_frames(side, rate)
    some, kept = [], []
    for k, power in enumerate(_blocks(_at_least(side.sound, rate), rate)):
        some.append(in_bands(power, rate))
        kept.append(power[quiet[k * BLOCK : k * BLOCK + len(power)]])
    bands, rows = np.concatenate(some), np.concatenate(kept)
    if len(rows) < LEAST_QUIET_S / HOP_S and len(side.room):
        rows = _quiet_spectra(side.room, rate)
    if len(rows) >= 4:
        loud = rows.sum(axis=1)
        floor = rows[loud <= 2 * np.median(loud)].mean(axis=0, dtype=np.float64)
    else:  # nobody pauses: the quietest frames
        power = spectra_of(side.sound, rate)
        loud = power.sum(axis=1)
        floor = power[loud <= np.percentile(loud, 5)].mean(axis=0, dtype=np.float64)
    floor_bands = in_bands(floor, rate)
    words = word_levels(side.words, side.offset, bands, floor_bands, rate)
    others = word_levels(side.others, side.offset, bands, floor_bands, rate)
    heights = [word_heights(spans, side.sound, side.offset, rate) for spans in (side.words, side.others)]
    return Figures(words, others, floor, floor_bands, decays(side, bands, floor_bands, rate), *heights)


def _quiet_spectra(x: Signal, rate: int) -> NDArray[np.float32]:
    """Power spectra of the frames of (n,) audio in which nobody speaks, (frames, bins)."""
    frame, hop = frame_of(rate)
    x = _at_least(x, rate)
    rows = np.lib.stride_tricks.sliding_window_view(np.asarray(x, np.float32), frame)[::hop]
    window = np.hanning(frame + 1)[:-1].astype(np.float32)
    return as_power(rfft(rows[quiet_frames(Spoken(x, 0, ()), rate)] * window, axis=1), window)


def word_levels(words: Sequence[Span | None], offset: int, bands: Bands, floor: Bands, rate: int) -> Bands:
    """Levels of words in dB in every band, (words, BANDS), the floor taken out; NaN where they do not stand over it.

    `bands` are those of frames of a sound that begins at `offset`.
    """
    return np.array([_word(span, offset, bands, floor, rate) for span in words]).reshape(-1, BANDS)


def _word(span: Span | None, offset: int, bands: Bands, floor: Bands, rate: int) -> Bands:
    frame, hop = frame_of(rate)
    if span is None:
        return np.full(BANDS, np.nan)
    first = max(0, (span.start - offset) // hop)
    last = min(len(bands), max(first + 1, (span.stop - offset - frame) // hop + 1))
    if first >= last:
        return np.full(BANDS, np.nan)
    mean = bands[first:last].mean(axis=0)
    out = np.full(BANDS, np.nan)
    over = mean > floor * 10 ** (OVER_FLOOR_DB / 10)
    out[over] = 10 * np.log10(mean[over] - floor[over])
    return out


def decays(side: Spoken, bands: Bands, floor: Bands, rate: int) -> Bands:
    """(words, DECAY_STEPS + 1): level in dB at steps after each word that a pause follows, against its last tenth of a second.

    The last one is where the floor is too near for a level to be told.
    """
    _, hop = frame_of(rate)
    starts = sorted(s.start for s in (*side.words, *side.others) if s is not None)
    step = round(DECAY_S * rate / hop)
    total, ground = bands[:, 4:].sum(axis=1), floor[4:].sum() * 10 ** (GROUND_DB / 10)
    out = np.full((len(side.words), DECAY_STEPS + 1), np.nan)
    for k, span in enumerate(side.words):
        if span is None:
            continue
        after = next((s for s in starts if s >= span.stop), side.offset + len(side.sound))
        at = (span.stop - side.offset) // hop
        before = total[max(0, at - round(0.1 * rate / hop)) : max(0, at)]
        if after - span.stop >= LEAST_PAUSE_S * rate and len(before) and at + DECAY_STEPS * step < len(total):
            falls = total[at : at + DECAY_STEPS * step].reshape(DECAY_STEPS, step).mean(axis=1)
            out[k] = 10 * np.log10(np.append(falls, ground) / (before.max() + 1e-30) + 1e-9)
    return out


def echo_apart(chapter: Bands, take: Bands) -> float:
    """How much farther, in dB, the chapter falls after words than the take does after the same; 0 where there are none such.

    Less than nothing: the take has more echo.
    """
    both = min(len(chapter), len(take))
    one, other = chapter[:both], take[:both]
    ground = np.maximum(one[:, -1:], other[:, -1:])
    apart = (np.maximum(one, ground) - np.maximum(other, ground))[:, 3:10].mean(axis=1)
    apart = apart[np.isfinite(apart)]
    return float(np.median(apart)) if len(apart) else 0.0


def profile_of(pairs: Sequence[tuple[Figures, Figures, float]]) -> Profile:
    """One profile of a session: (chapter's figures, take's figures, pace) of every line.

    Words that both sides read are compared one by one, which says most; where there are few the mean of all words around helps.
    Medians, and what is uncertain is taken for less.
    """
    rows = [_shared(chapter.bands, take.bands) for chapter, take, _ in pairs]
    apart = np.concatenate([c - t for c, t in rows])
    tone, se = (
        _middle(apart - np.nanmedian(apart, axis=1)[:, None], ONE_WORD_DB)
        if len(apart)
        else (np.zeros(BANDS), np.full(BANDS, np.inf))
    )
    wide = _widely(pairs)
    if wide is not None:
        tone, se = _weighed((tone, se), wide)
    tone = np.where(np.isfinite(tone), tone, 0.0) * PRIOR_DB**2 / (PRIOR_DB**2 + np.minimum(se, 1e3) ** 2)
    tone = np.convolve(np.pad(tone, 1, "edge"), [0.2, 0.6, 0.2], "valid")
    tone = np.clip(tone, -MOST_TONE_DB, MOST_TONE_DB)
    levels = np.concatenate([_loud(c) - _loud(t + tone) for c, t in rows])[:, None]
    level, level_se = _middle(levels, ONE_LEVEL_DB) if len(levels) else (np.zeros(1), np.full(1, np.inf))
    around = [_loud(words + k * tone) for k, words in enumerate(_all_words(pairs))]
    around = [a[np.isfinite(a)] for a in around]
    if min(map(len, around)) >= 2:
        error = np.hypot(*(np.std(a) / np.sqrt(len(a)) for a in around))
        level, _ = _weighed(
            (level, level_se), (np.array([np.mean(around[0]) - np.mean(around[1])]), np.array([WIDE * max(error, 0.5)]))
        )
    paces = [p for _, _, p in pairs if p > 0]
    pitch, pitch_range = _pitch_apart(pairs)
    return Profile(
        round(float(np.clip(np.nan_to_num(level[0]), -MOST_LEVEL_DB, MOST_LEVEL_DB)), 2),
        tuple(np.round(tone, 2).tolist()),
        tuple(np.round(np.minimum(se, 99.0), 2).tolist()),
        round(float(np.median(paces)), 4) if paces else 1.0,
        round(float(np.median([echo_apart(c.decay, t.decay) for c, t, _ in pairs])), 2) if pairs else 0.0,
        len(pairs),
        pitch,
        pitch_range,
    )


def _pitch_apart(pairs: Sequence[tuple[Figures, Figures, float]]) -> tuple[float, float]:
    """By how many semitones the chapter's words are higher than the same of the takes, and how far its own lie from their middle.

    0 where fewer than four are voiced in both; a word that is told an octave off is left out.
    """
    rows = [np.stack([h[: min(map(len, (c.heights, t.heights)))] for h in (c.heights, t.heights)]) for c, t, _ in pairs]
    both = np.concatenate(rows, axis=1) if rows else np.zeros((2, 0))
    apart = (both[0] - both[1])[np.isfinite(both).all(axis=0)]
    apart = apart[np.abs(apart) < OCTAVE_OFF]
    own = np.concatenate([np.concatenate([c.heights, c.other_heights]) for c, _, _ in pairs]) if pairs else np.zeros(0)
    own = own[np.isfinite(own)]
    if len(apart) < FEWEST_VOICED:
        return 0.0, 0.0
    own = own[np.abs(own - np.median(own)) < OCTAVE_OFF]
    spread = float(np.subtract(*np.percentile(own, [90, 10]))) / 2
    return round(float(np.median(apart)), 2), round(spread, 2)


def level_apart(chapter: Bands, take: Bands) -> float:
    """How many dB the chapter's words are louder than the same of the take, together; words that differ oddly are left out.

    0 where too few are known.
    """
    mine, theirs = map(_loud, _shared(chapter, take))
    if len(mine) < 2:
        return 0.0
    apart = mine - theirs
    kept = np.abs(apart - np.median(apart)) <= max(2.0, 2.0 * float(np.median(np.abs(apart - np.median(apart)))))
    return float(10 * np.log10(np.sum(10 ** (mine[kept] / 10)) / np.sum(10 ** (theirs[kept] / 10))))


def _shared(chapter: Bands, take: Bands) -> tuple[Bands, Bands]:
    """The words that both sides read, where enough bands of them stand over both floors."""
    both = min(len(chapter), len(take))
    a, b = chapter[:both], take[:both]
    known = np.isfinite(a + b).sum(axis=1) >= BANDS // 3
    mask = np.isfinite(a[known] + b[known])
    return np.where(mask, a[known], np.nan), np.where(mask, b[known], np.nan)


def _loud(bands: Bands) -> Bands:
    """Levels of words over all their bands, in dB; NaN where none is known."""
    level = 10 * np.log10(np.nansum(10 ** (bands / 10), axis=1) + 1e-30)
    return np.where(np.isfinite(bands).any(axis=1), level, np.nan)


def _middle(rows: Bands, one: float) -> tuple[Bands, Bands]:
    """Median of every column, and its standard error, by the median deviation; NaN are left out, one alone errs by `one`."""
    count = np.isfinite(rows).sum(axis=0)
    enough = count >= 1
    middle = np.full(rows.shape[1], np.nan)
    error = np.full(rows.shape[1], np.inf)
    if enough.any():
        some = rows[:, enough]
        middle[enough] = np.nanmedian(some, axis=0)
        spread = 1.4826 * np.nanmedian(np.abs(some - middle[enough]), axis=0)
        least = np.where(count[enough] < 2, one, 0.5)
        error[enough] = 1.25 * np.maximum(spread, least) / np.sqrt(count[enough])
    return middle, error


def _widely(pairs: Sequence[tuple[Figures, Figures, float]]) -> tuple[Bands, Bands] | None:
    """Tone by the means over all words of both sides, with its error."""
    sides = [s[np.isfinite(s).sum(axis=1) >= BANDS // 3] for s in _all_words(pairs)]
    if min(map(len, sides)) < 2:
        return None
    shapes = [s - np.nanmedian(s, axis=1)[:, None] for s in sides]
    counts = [np.isfinite(s).sum(axis=0) for s in shapes]
    enough = np.minimum(*counts) >= 2
    middle, error = np.full(BANDS, np.nan), np.full(BANDS, np.inf)
    some = [s[:, enough] for s in shapes]
    middle[enough] = np.nanmean(some[0], axis=0) - np.nanmean(some[1], axis=0)
    spread = [np.nanstd(s, axis=0) / np.sqrt(np.isfinite(s).sum(axis=0)) for s in some]
    error[enough] = WIDE * np.maximum(np.hypot(*spread), 0.7)
    return middle, error


def _all_words(pairs: Sequence[tuple[Figures, Figures, float]]) -> tuple[Bands, Bands]:
    """All words of both sides, those around the lines too."""
    chapter = [np.concatenate([c.bands, c.others]) for c, _, _ in pairs]
    take = [np.concatenate([t.bands, t.others]) for _, t, _ in pairs]
    return np.concatenate(chapter), np.concatenate(take)


def _weighed(one: tuple[Bands, Bands], other: tuple[Bands, Bands]) -> tuple[Bands, Bands]:
    """Two estimates with their errors, taken together by their precision."""
    weights = [np.where(np.isfinite(m) & np.isfinite(e), 1 / np.maximum(e, 1e-3) ** 2, 0.0) for m, e in (one, other)]
    total = weights[0] + weights[1]
    safe = np.where(total > 0, total, 1.0)
    mean = (np.nan_to_num(one[0]) * weights[0] + np.nan_to_num(other[0]) * weights[1]) / safe
    return mean, np.where(total > 0, 1 / np.sqrt(safe), np.inf)
