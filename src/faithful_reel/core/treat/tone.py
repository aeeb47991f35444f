"""Tone: cuts, shelves, bells and a curve as one filter without a shift in phase; towards another reading's balance."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy import fft
from scipy.signal import freqz_sos

from faithful_reel.core.audio.voice import Voice
from faithful_reel.core.jobs import Watch
from faithful_reel.core.treat.cells import Near, Sound, mixed, over_cells
from faithful_reel.core.treat.filters import section
from faithful_reel.core.units import Signal, ratio, samples

HALF_S = 0.1
"""The filter reaches so far to either side: it holds a low cut at 80 Hz to 0.1 dB from 30 Hz on."""
THIRDS_HZ = tuple(1000.0 * 2 ** (k / 3) for k in range(-10, 10))
"""Middles of third octaves from 100 Hz to 8 kHz (IEC 61260-1, base two)."""
MOST_TOWARDS_DB = 4.0
PLAIN_DB = 1e-3


@dataclass(frozen=True, slots=True)
class Bell:
    """A dip or a rise of so many dB around a frequency."""

    hz: float
    gain_db: float
    q: float = 1.0


@dataclass(frozen=True, slots=True)
class ToneSettings:
    """A tone: a cut at 0 Hz is none, a shelf or a bell of 0 dB neither; `curve` holds (Hz, dB), straight in octaves between."""

    low_cut_hz: float = 0.0
    high_cut_hz: float = 0.0
    low_shelf_hz: float = 120.0
    low_shelf_db: float = 0.0
    high_shelf_hz: float = 8000.0
    high_shelf_db: float = 0.0
    bells: tuple[Bell, ...] = ()
    curve: tuple[tuple[float, float], ...] = ()

    def response_db(self, hz: NDArray[np.float64], rate: int) -> NDArray[np.float64]:
        """The gain in dB at some frequencies, (n,); cuts at or over half of the rate are none."""
        top = 0.49 * rate
        sections = []
        if 0 < self.low_cut_hz < top:
            sections.append(section("low cut", self.low_cut_hz, rate))
        if 0 < self.high_cut_hz < top:
            sections.append(section("high cut", self.high_cut_hz, rate))
        if self.low_shelf_db and self.low_shelf_hz < top:
            sections.append(section("low shelf", self.low_shelf_hz, rate, gain_db=self.low_shelf_db))
        if self.high_shelf_db and self.high_shelf_hz < top:
            sections.append(section("high shelf", self.high_shelf_hz, rate, gain_db=self.high_shelf_db))
        sections += [section("bell", b.hz, rate, gain_db=b.gain_db, q=b.q) for b in self.bells if b.gain_db and b.hz < top]
        out = np.zeros(len(hz))
        if sections:
            _, response = freqz_sos(np.array(sections), worN=hz, fs=rate)
            out += 20 * np.log10(np.abs(response) + 1e-8)
        if self.curve:
            points = sorted(self.curve)
            out += np.interp(np.log2(np.maximum(hz, 10)), np.log2([f for f, _ in points]), [g for _, g in points])
        return out


class ToneShaped:
    """A tone, without a shift in phase: what it takes away is the difference and nothing else.

    A linear-phase filter by the window method (Oppenheim and Schafer, Discrete-time signal processing, chapter 7; from memory),
    put back by its half.  `offset` (channels,) is taken off first, `gain_db` comes last.
    """

    def __init__(
        self,
        settings: ToneSettings,
        rate: int,
        *,
        more_db: NDArray[np.float64] | None = None,
        offset: NDArray[np.float64] | None = None,
        gain_db: float = 0.0,
    ) -> None:
        half = samples(HALF_S, rate)
        size = fft.next_fast_len(8 * half, real=True)
        hz = np.fft.rfftfreq(size, 1 / rate)
        wanted = settings.response_db(np.asarray(hz, np.float64), rate)
        if more_db is not None:
            wanted = wanted + np.interp(np.log2(np.maximum(hz, 10)), np.log2(THIRDS_HZ), more_db)
        self._plain = bool(np.max(np.abs(wanted)) < PLAIN_DB)
        impulse = np.fft.irfft(10 ** (wanted / 20), size)
        self._taps = np.concatenate([impulse[-half:], impulse[: half + 1]]) * np.hanning(2 * half + 3)[1:-1]
        self._offset = offset
        self._gain = ratio(gain_db)
        self.reach = 0 if self._plain else half

    def treated(self, cell: Near) -> Signal:
        """The cell's own stretch, (channels, n)."""
        x = cell.sound.astype(np.float64)
        if self._offset is not None:
            x = x - self._offset[:, None]
        if self._plain:
            return (x[:, cell.first : cell.last] * self._gain).astype(np.float32)
        half = len(self._taps) // 2
        size = fft.next_fast_len(x.shape[1] + 2 * half, real=True)
        y = fft.irfft(fft.rfft(x, size) * fft.rfft(self._taps, size), size)
        return (y[:, cell.first + half : cell.last + half] * self._gain).astype(np.float32)


def balance(sound: Sound, voice: Voice, watch: Watch | None = None) -> NDArray[np.float64]:
    """The long-term spectrum of the speech less that of the pauses, in third octaves from 100 Hz, dB about their mean: (20,)."""
    rate = sound.rate
    size = fft.next_fast_len(samples(0.09, rate), real=True)
    hz = np.fft.rfftfreq(size, 1 / rate)
    window = np.hanning(size)
    edges = np.array([THIRDS_HZ[0] * 2 ** (-1 / 6), *(f * 2 ** (1 / 6) for f in THIRDS_HZ)])
    bands = np.array([(hz >= a) & (hz < b) for a, b in pairwise(edges)], np.float64)

    def of_cell(cell: Near) -> NDArray[np.float64]:
        out = np.zeros((2, len(THIRDS_HZ) + 1))
        x = mixed(cell.sound[:, cell.first : cell.last])
        for at in range(0, len(x) - size, size // 2):
            frame = min(len(voice.speaks) - 1, (cell.start + at + size // 2) // voice.size)
            power = np.square(np.abs(np.fft.rfft(x[at : at + size] * window)))
            row = 0 if frame >= 0 and voice.speaks[frame] else 1
            out[row, :-1] += bands @ power
            out[row, -1] += 1
        return np.asarray(out)

    total = np.sum(list(over_cells(sound, 0, of_cell, watch, "measuring the tone")), axis=0)
    means = total[:, :-1] / np.maximum(total[:, -1:], 1)
    clean = np.maximum(means[0] - means[1], 0.05 * means[0])
    levels = 10 * np.log10(clean + 1e-16)
    return np.asarray(levels - levels.mean())


def towards(own: ArrayLike, wanted: ArrayLike, *, most_db: float = MOST_TOWARDS_DB) -> NDArray[np.float64]:
    """The correction that brings one balance to another, smoothed over neighbouring bands and bounded: (20,) dB.

    Own bounds: 4 dB, a quarter, a half and a quarter of three bands.
    """
    off = np.asarray(wanted, np.float64) - np.asarray(own, np.float64)
    smooth = np.convolve(np.pad(off, 1, "edge"), [0.25, 0.5, 0.25], "valid")
    return np.asarray(np.clip(smooth, -most_db, most_db))
