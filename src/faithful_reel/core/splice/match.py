"""Bringing a take's sound to the chapter's: level, tone, room and echo, each with a switch and within bounds."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, rfft

from faithful_reel.core.splice.profile import (
    BANDS,
    DECAY_S,
    Figures,
    Profile,
    Spoken,
    as_power,
    decays,
    echo_apart,
    erb_edges,
    frame_of,
    in_bands,
    level_apart,
    spectra_of,
    word_levels,
)
from faithful_reel.core.units import Signal

PRIOR = 0.9
"""Weight of the last frame in the decision-directed prior (Ephraim and Malah, 1984; a little less, for onsets)."""
MOST_FLOOR_DB = 30.0
"""So much at most a take's floor is lowered."""
LATE_S = 0.045
"""What comes later than this after a sound is late echo (Lebart, Boucher and Denbigh, 2001, use 50 ms)."""
MOST_ECHO_DB = 14.0
STRENGTHS = (0.2, 0.4, 0.6, 0.8, 1.0, 1.3, 1.7, 2.2, 3.0)
MOST_MORE_DB = 1.5
"""So much the level is corrected at most by what the matched take measures itself."""
MOST_COLOUR_DB, FAINTEST_DB, OTHER_ROOM_DB = 40.0, -110.0, 6.0
"""So much at most a tone is lifted to what the chapter's floor measures; a fainter one is none; one that differs by so
much is not the chapter's own.
"""
LEAST_LACKING = 0.33
"""Room tone is laid under from this share of the chapter's on: half a dB is lacking then."""
LEAST_ECHO_DB = 1.5
"""A difference in echo under this is let be."""


@dataclass(frozen=True, slots=True)
class Switches:
    """What is matched; pace and pitch are off until they are asked for.  `breath` keeps a pause that is joined at one breath."""

    level: bool = True
    tone: bool = True
    room: bool = True
    echo: bool = True
    breath: bool = True
    pace: bool = False
    pitch: bool = False


@dataclass(frozen=True, slots=True)
class Amounts:
    """What was done to a take, in dB: gain, the greatest lift and fall of tone, how far the floor went down or up, echo.

    And how many times slower it was made, and by how many semitones higher.
    """

    level_db: float = 0.0
    tone_db: float = 0.0
    room_db: float = 0.0
    echo_db: float = 0.0
    pace: float = 1.0
    pitch: float = 0.0


def tone_gain(profile: Profile, rate: int) -> NDArray[np.float64]:
    """The tone filter's gain in dB at every bin of a frame, (bins,)."""
    edges = erb_edges(rate)
    centres = np.sqrt(edges[:-1] * edges[1:])
    hz = np.fft.rfftfreq(frame_of(rate)[0], 1 / rate)
    return np.asarray(np.interp(np.log(np.maximum(hz, 20.0)), np.log(centres), profile.tone_db))


def matched(
    take: Spoken,
    figures: Figures,
    chapter: Figures,
    profile: Profile,
    rate: int,
    switches: Switches,
    tone: Callable[[], Signal],
) -> tuple[Signal, Amounts]:
    """A take's sound, (n,), as if it had been read with the chapter, and what was done.

    `figures` and `chapter` are both sides' own; `tone` gives (n,) room tone of the chapter to lay under, woven to
    length, empty where there is none; it is asked only where it is needed.

    Notes
    -----
    One pass over short-time spectra: noise over the chapter's floor is lowered to it, and no further, by a decision-directed gain
    in every bin; late echo by spectral subtraction of a delayed, decaying copy (Lebart, Boucher and Denbigh, Acta Acustica 87,
    2001), as strong as brings the decay after words to the chapter's; tone as a smooth gain.  Where the chapter's floor is
    higher room tone, filtered to what is lacking, is laid under: the chapter's own, or where it has none noise.
    """
    x = np.asarray(take.sound, np.float32)
    frame, hop = frame_of(rate)
    window = np.hanning(frame + 1)[:-1].astype(np.float32)
    padded = np.pad(x, (frame, 2 * frame))
    rows = np.lib.stride_tricks.sliding_window_view(padded, frame)[::hop]
    spectra = rfft(rows * window, axis=1)
    power = as_power(spectra, window)
    shape = tone_gain(profile, rate) if switches.tone else np.zeros(power.shape[1])
    level = profile.level_db if switches.level else 0.0
    gain_db = shape + level
    floor, wanted = figures.floor + 1e-16, chapter.floor + 1e-16
    gains = np.ones_like(power)
    room_db = 0.0
    excess = 10 * np.log10(floor / wanted) + gain_db
    if switches.room and len(take.sound):
        least = 10 ** (-np.clip(_smooth(excess), 0.0, MOST_FLOOR_DB) / 20)
        if least.min() < 0.95:
            _lowered(power, floor * 1.12, least, gains)
    echo_db = 0.0
    if switches.echo:
        echo_db = _dried(take, power, gains, figures, chapter, rate)
    more = 0.0
    if switches.level:  # held against the chapter's words once more, as it is now
        heard = in_bands(power * np.square(gains) * np.asarray(10 ** (gain_db / 10), np.float32), rate)
        words = word_levels(take.words, take.offset - frame, heard, in_bands(wanted, rate), rate)
        more = float(np.clip(level_apart(chapter.bands, words), -MOST_MORE_DB, MOST_MORE_DB))
    level, gain_db = level + more, gain_db + more
    spectra *= gains
    spectra *= np.asarray(10 ** (gain_db / 20), np.float32)
    waves = np.asarray(irfft(spectra, n=frame, axis=1), np.float32)
    waves *= window
    y = _overlapped(waves, hop, len(padded))[frame : frame + len(x)] / np.float32(1.5)
    if switches.room:
        residue = floor * np.minimum(1.0, 10 ** (-np.maximum(excess, 0) / 10)) * 10 ** (gain_db / 10)
        lacking = np.sqrt(np.clip(1 - residue / wanted, 0.0, 1.0))
        if lacking.max() > LEAST_LACKING:
            y += _room(tone(), lacking, wanted, len(x), rate)
        speech = slice(BANDS // 8, BANDS)
        room_db = float(
            np.mean(10 * np.log10(in_bands(wanted, rate)[speech] / in_bands(floor * 10 ** (gain_db / 10), rate)[speech]))
        )
    return y.astype(np.float32), Amounts(
        round(level, 2), round(float(np.abs(shape).max()), 1), round(room_db, 1), round(echo_db, 1)
    )


def _room(tone: Signal, lacking: NDArray[np.float64], wanted: NDArray[np.float64], length: int, rate: int) -> Signal:
    """(length,) of room tone whose spectrum is the share of the wanted one that is lacking; noise where there is no tone."""
    count = max(length, 8 * frame_of(rate)[0])  # a spectrum is told by a few frames at least
    x = np.asarray(np.resize(tone, count), np.float32) if len(tone) else np.zeros(count, np.float32)
    if none := level_of(x) < FAINTEST_DB:
        x = np.random.default_rng(length).standard_normal(count).astype(np.float32) * np.float32(1e-3)
    own = spectra_of(x, rate).mean(axis=0, dtype=np.float64)
    apart = np.clip(_smooth(10 * np.log10(wanted / np.maximum(own, 1e-16))), -MOST_FLOOR_DB, MOST_COLOUR_DB)
    if not none and abs(float(apart.mean())) < OTHER_ROOM_DB:
        apart = np.zeros_like(apart)  # it is the chapter's own: as it is, it is found less easily (measured)
    return np.asarray(_filtered(x, _smooth(lacking) * 10 ** (apart / 20), rate)[:length], np.float32)


def level_of(x: Signal) -> float:
    """RMS in dB of (n,) audio."""
    return float(10 * np.log10(np.mean(np.square(x, dtype=np.float64)) + 1e-20)) if len(x) else -200.0


def _smooth(row: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.asarray(np.convolve(np.pad(row, 2, "edge"), np.ones(5) / 5, "valid"))


@numba.njit(cache=True, nogil=True)
def _lowered(power, noise, least, gains):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Multiply gains by what lowers noise to `least` of it where nothing stands over it."""
    frames, bins = power.shape
    for k in range(bins):
        before = 0.0
        for t in range(frames):
            post = power[t, k] / noise[k]
            prior = PRIOR * before + (1 - PRIOR) * max(post - 1.0, 0.0)
            wiener = prior / (1.0 + prior)
            gain = max(wiener, least[k])
            before = gain * gain * post if wiener > least[k] else wiener * wiener * post
            gains[t, k] *= gain


def _dried(
    take: Spoken, power: NDArray[np.float32], gains: NDArray[np.float32], figures: Figures, chapter: Figures, rate: int
) -> float:
    """Take late echo out of gains in place, where the take has more than the chapter; how many dB the decay changed."""
    frame, hop = frame_of(rate)
    heard = power * np.square(gains)
    shifted = Spoken(np.zeros(len(take.sound) + 3 * frame, np.float32), take.offset - frame, take.words, take.others)
    ground = figures.floor_bands

    def apart_with(bands: NDArray[np.float64]) -> float:
        decay = decays(shifted, bands, ground, rate)
        return echo_apart(chapter.decay, decay)

    lacking = apart_with(in_bands(heard, rate))
    if lacking > -LEAST_ECHO_DB:
        return 0.0
    slope = max(30.0, float(-np.polyfit(np.arange(2, 9) * DECAY_S, np.nanmedian(figures.decay, axis=0)[2:9], 1)[0]))
    seconds = float(np.clip(60.0 / slope, 0.12, 0.9))
    delay = max(1, round(LATE_S * rate / hop))
    fall = 10 ** (-6.0 * delay * hop / rate / seconds)
    copy = np.zeros_like(heard)
    copy[delay:] = np.float32(fall) * heard[:-delay]
    for span in take.words:  # words stay as they are: only what rings on after them falls faster
        if span is not None:
            copy[max(0, (span.start - shifted.offset - frame) // hop) : (span.stop - shifted.offset) // hop] = 0.0
    share = copy / np.maximum(heard, np.float32(1e-20))
    best, best_apart, change = None, abs(lacking), 0.0
    for strength in STRENGTHS:
        wet = np.maximum(1 - np.float32(strength) * share, np.float32(10 ** (-MOST_ECHO_DB / 10)))
        apart = apart_with(in_bands(heard * wet, rate))
        if abs(apart) < best_apart:
            best, best_apart, change = wet, abs(apart), lacking - apart
    if best is not None:
        gains *= np.sqrt(best)
    return change


def _overlapped(rows: NDArray[np.float32], hop: int, length: int) -> NDArray[np.float32]:
    """Frames added where they overlap."""
    count, frame = rows.shape
    out = np.zeros((count - 1) * hop + frame, np.float32)
    parts = -(-frame // hop)
    for k in range(parts):  # frames that do not overlap are added in one go
        some = rows[k::parts]
        if not len(some):
            continue
        line = np.zeros((len(some), parts * hop), np.float32)
        line[:, :frame] = some
        flat = line.reshape(-1)
        end = min(len(out), k * hop + flat.size)
        out[k * hop : end] += flat[: end - k * hop]
    return np.pad(out, (0, max(0, length - len(out))))[:length]


def _filtered(x: NDArray[np.float32], gain: NDArray[np.float64], rate: int) -> NDArray[np.float64]:
    """(n,) audio through a filter without phase, given by its gains at the bins of a frame."""
    from scipy.signal import oaconvolve

    taps = np.fft.fftshift(np.fft.irfft(gain)) * np.hanning(frame_of(rate)[0])
    return np.asarray(oaconvolve(x, taps.astype(x.dtype), "same"))
