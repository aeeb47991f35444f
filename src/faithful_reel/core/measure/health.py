"""The health of a recording as it came: what a listener can not mend is found before the work begins."""

from __future__ import annotations

import heapq
import math
from dataclasses import dataclass
from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.audio.roomtone import FRAME_S, LOUDEST_DB, quiet_runs, quiet_threshold, room_tone_frames
from faithful_reel.core.units import Signal, Span, decibels

FULL_SCALE = 10 ** (-0.1 / 20)
FULL_RUN, FLAT_RUN = 3, 4
MOST_PLACES = 50
HUM_WINDOW_S = 1.5
HUM_WINDOWS = 12
HUM_PROMINENCE_DB = 12.0
LONGEST_PAUSE_S = 1.5
"""Longer pauses are cut to this when the finished length is estimated.  Own rule."""
GAP_S = 0.3
TONE_S = 0.4

LEAST_DELIVERY_RATE = 44_100
LOUDEST_FLOOR_DB, HARD_FLOOR_DB = -60.0, -50.0
GREATEST_DC = 0.005
SOFTEST_DB, USUAL_DB = -32.0, -20.0
"""RMS while somebody speaks: under the first it was recorded too softly (own rule); the second is usual (common practice)."""
LEAST_SPEECH = 0.05
LEAST_TONE_S = 1.0
LOUDEST_HUM_DB = -66.0


@dataclass(frozen=True, slots=True)
class Health:
    """What was measured of a recording at its own rate.

    `cut_short` says what is wrong where the file holds less than it promises; empty for a whole one.
    `clipped` are the samples in flat tops; `places` where they are, (start, length) in samples of the recording's own
    rate, the first fifty.  `dc` is the greatest mean of a channel, full scale 1.  `hum_hz` is 0 where no hum stands
    out.  `tone_s` is all room tone that was found, `speech` the share of time in which somebody speaks, `finished_s`
    the estimated length when long pauses are cut.
    """

    depth: str
    codec: str
    seconds: float
    clipped: int
    places: tuple[tuple[int, int], ...]
    dc: float
    hum_hz: float
    hum_db: float
    tone_s: float
    speech: float
    finished_s: float
    cut_short: str = ""
    channels: str = ""
    """What is odd in how the channels go together, and how they are mixed to one; empty where nothing is."""


@numba.njit(cache=True, nogil=True)
def _flat(x, full, full_run, flat_run, state, at, found):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Flat tops of one channel of one block, into `found` rows (start, length, magnitude); how many.

    state: [last value, run length, start of the run].
    """
    last, run, start = state
    count = 0
    for i in range(x.size):
        v = x[i]
        same = (v == last and abs(v) > 0.1) or (v >= full and last >= full) or (v <= -full and last <= -full)
        if same:
            run += 1
        else:
            if (run >= flat_run or (run >= full_run and abs(last) >= full)) and count < found.shape[0]:
                found[count, 0] = start
                found[count, 1] = run
                found[count, 2] = abs(last)
                count += 1
            run = 1
            start = at + i
        last = v
    state[0], state[1], state[2] = last, run, start
    return count


class HealthMeter:
    """Looks at a recording block by block: (channels, n) at its own rate, and what is worked on of it for levels and hum."""

    def __init__(self, rate: int, channels: int) -> None:
        self.rate, self.channels, self.frames = rate, channels, 0
        self._states = np.zeros((channels, 3))
        self._sums = np.zeros(channels)
        self._peak = 0.0
        self._tops: list[tuple[int, int, float]] = []
        self._found = np.zeros((4096, 3))
        self._size = round(FRAME_S * rate)
        self._rest = np.zeros(0, np.float32)
        self._levels: list[NDArray[np.float64]] = []
        self._window = round(HUM_WINDOW_S * rate)
        self._hold = np.zeros(0, np.float32)
        self._quietest: list[tuple[float, int, NDArray[np.float64]]] = []
        self._taper = np.hanning(self._window).astype(np.float32)

    def feed(self, x: Signal, mono: Signal | None = None) -> None:
        """Take the next block, (channels, n) float32, and what is worked on of it, (n,): else the mean of its channels."""
        n = x.shape[-1]
        self._peak = max(self._peak, float(np.max(np.abs(x)))) if n else self._peak
        for c in range(self.channels):
            self._sums[c] += float(np.sum(x[c], dtype=np.float64))
            count = _flat(np.ascontiguousarray(x[c]), FULL_SCALE, FULL_RUN, FLAT_RUN, self._states[c], self.frames, self._found)
            self._tops += [(int(a), int(b), float(m)) for a, b, m in self._found[:count]]
        if len(self._tops) > 200_000:
            loudest = max(m for *_, m in self._tops)
            self._tops = [t for t in self._tops if t[2] > loudest * FULL_SCALE][:200_000]
        self.frames += n
        mono = x.mean(axis=0, dtype=np.float32) if mono is None else mono
        self._level(mono)
        self._hum(mono)

    def _level(self, mono: Signal) -> None:
        mono = np.concatenate([self._rest, mono])
        whole = len(mono) // self._size * self._size
        table = mono[:whole].reshape(-1, self._size)
        power = np.einsum("ij,ij->i", table, table, dtype=np.float64) / self._size
        self._levels.append(10 * np.log10(power + 1e-20))
        self._rest = mono[whole:].copy()

    def _hum(self, mono: Signal) -> None:
        """Keep the spectra of the quietest windows."""
        hold = np.concatenate([self._hold, mono])
        hop = self._window // 2
        at = 0
        while at + self._window <= len(hold):
            piece = hold[at : at + self._window]
            power = float(np.dot(piece, piece)) / self._window
            worst = -self._quietest[0][0] if len(self._quietest) == HUM_WINDOWS else np.inf
            if 1e-12 < power < worst:
                spectrum = np.abs(np.fft.rfft(piece * self._taper)[: int(1000 * HUM_WINDOW_S)]) ** 2
                entry = (-power, -self.frames - at, spectrum)
                (heapq.heappushpop if len(self._quietest) == HUM_WINDOWS else heapq.heappush)(self._quietest, entry)
            at += hop
        self._hold = hold[at:].copy()

    @property
    def levels(self) -> NDArray[np.float64]:
        """RMS in dB of successive 20 ms frames of the mix."""
        return np.concatenate(self._levels) if self._levels else np.zeros(0)

    def tone(self) -> Span | None:
        """The best stretch of room tone of the whole recording, in samples of its own rate."""
        found = room_tone_frames(self.levels)
        return Span(found[0] * self._size, found[1] * self._size) if found else None

    def health(self, *, depth: str = "", codec: str = "", cut_short: str = "", channels: str = "") -> Health:
        """What was found."""
        for c in range(self.channels):  # a flat top at the very end
            last, run, start = self._states[c]
            if run >= FULL_RUN and abs(last) >= FULL_SCALE:
                self._tops.append((int(start), int(run), float(abs(last))))
        tops = sorted({(a, n) for a, n, m in self._tops if m >= FULL_SCALE})
        below = sorted({(a, n) for a, n, m in self._tops if FULL_SCALE > m >= self._peak * FULL_SCALE})
        if len(below) >= 3:  # a ceiling under full scale shows as several equal tops
            tops = sorted({*tops, *below})
        levels = self.levels
        seconds = self.frames / self.rate
        threshold = quiet_threshold(levels) if len(levels) else 0.0
        pauses = quiet_runs(levels, threshold, round(GAP_S / FRAME_S))
        quiet_s = sum(b - a for a, b in pauses) * FRAME_S
        cut_s = sum(max(0.0, (b - a) * FRAME_S - LONGEST_PAUSE_S) for a, b in pauses)
        tones = [b - a for a, b in quiet_runs(levels, threshold, round(TONE_S / FRAME_S)) if levels[a:b].max() < LOUDEST_DB]
        hum_hz, hum_db = self._hum_found(threshold)
        return Health(
            depth=depth,
            codec=codec,
            cut_short=cut_short,
            channels=channels,
            seconds=round(seconds, 3),
            clipped=sum(n for _, n in tops),
            places=tuple(tops[:MOST_PLACES]),
            dc=round(float(np.max(np.abs(self._sums))) / max(1, self.frames), 6),
            hum_hz=round(float(hum_hz), 1),
            hum_db=round(float(hum_db), 1),
            tone_s=round(float(sum(tones) * FRAME_S), 1),
            speech=round(max(0.0, 1 - quiet_s / seconds), 3) if seconds else 0.0,
            finished_s=round(float(max(0.0, seconds - cut_s)), 1),
        )

    def _hum_found(self, threshold: float) -> tuple[float, float]:
        """Frequency and level in dB RMS of the mains hum in the quietest windows; (0, silent) where none stands out.

        Looked for at 45 to 65 Hz, with its second and third harmonic as witnesses: the one with the greatest sum of
        levels above their surroundings.  Own rule.
        """
        spectra = [s for power, _, s in self._quietest if 10 * math.log10(-power) < threshold + 3]
        if not spectra:
            return 0.0, -200.0
        power = np.median(spectra, axis=0)
        level = 10 * np.log10(power + 1e-20)
        bins = 1 / HUM_WINDOW_S

        def above(hz: float) -> float:
            k = round(hz / bins)
            around = np.r_[level[max(0, k - 12) : k - 3], level[k + 4 : k + 13]]
            return float(level[k - 1 : k + 2].max() - np.median(around))

        found = [(sum(max(0.0, above(n * hz)) for n in (1, 2, 3)), hz) for hz in np.arange(45, 65, bins / 2)]
        _, hz = max(found)
        strongest = max((above(n * hz), n) for n in (1, 2, 3))
        if strongest[0] < HUM_PROMINENCE_DB:
            return 0.0, -200.0
        n = strongest[1]
        k = int(round(n * hz / bins) - 1 + np.argmax(level[round(n * hz / bins) - 1 : round(n * hz / bins) + 2]))
        a, b, c = level[k - 1 : k + 2]
        exact = (k + 0.5 * (a - c) / (a - 2 * b + c)) * bins / n if a - 2 * b + c else k * bins / n
        spread = float(np.sum(self._taper.astype(np.float64) ** 2)) * self._window / 2
        harmonics = [round(m * exact / bins) for m in range(1, 9)]
        total = sum(float(np.sum(power[j - 2 : j + 3])) for j in harmonics)
        return exact, decibels(math.sqrt(total / spread))


class Missed(NamedTuple):
    """A limit that a recording misses, in plain words with its figure, and what to do about it."""

    told: str
    remedy: str


def shortcomings(health: Health, *, rate: int, peak_db: float, rms_db: float, noise_floor_db: float) -> list[str]:
    """The limits that a recording misses, each in plain words with its figure; empty where it is sound.  See `missed_limits`."""
    rows = missed_limits(health, rate=rate, peak_db=peak_db, rms_db=rms_db, noise_floor_db=noise_floor_db)
    return [row.told for row in rows]


def missed_limits(health: Health, *, rate: int, peak_db: float, rms_db: float, noise_floor_db: float) -> list[Missed]:
    """The limits that a recording misses, with what to do about each; empty where it is sound.

    They are 44.1 kHz for delivery, a noise floor of at most -60 dB RMS, no clipping, enough room tone to fill with, and a level
    from which the usual one can be reached: what lifts the voice lifts the room.

    References
    ----------
    Submission requirements of audiobook retailers, from memory; clipping and room tone: common practice.
    """
    found: list[Missed] = []

    def miss(told: str, remedy: str) -> None:
        found.append(Missed(told.replace("-", "−") if "dB" in told else told, remedy))

    if health.cut_short:
        found.append(Missed(health.cut_short, "Ask for the file again; what is there can be worked on meanwhile."))
    if health.channels:
        found.append(Missed(health.channels, "Hear a minute of it. If a voice is missing, ask for each channel as a file."))
    if rate < LEAST_DELIVERY_RATE:
        told = f"recorded at {rate} Hz, under the {LEAST_DELIVERY_RATE} Hz that retailers ask for"
        found.append(Missed(told, "Ask whether it was recorded higher; what is missing above can not be made."))
    if health.clipped:
        found.append(
            Missed(f"{health.clipped} clipped samples", "Hear the first place. What is distorted is read again as a pickup.")
        )
    elif peak_db > -0.1:
        found.append(Missed("touches full scale", "Hear the loudest words; ask for 6 dB less at the microphone next time."))
    if noise_floor_db > HARD_FLOOR_DB:
        miss(
            f"noise floor of {noise_floor_db:.0f} dB is hard to mend (limit -60 dB)",
            "Hear its room tone, and ask for a new recording in a quieter room before any work is done.",
        )
    elif noise_floor_db > LOUDEST_FLOOR_DB:
        miss(
            f"noise floor of {noise_floor_db:.1f} dB needs noise reduction (limit -60 dB)",
            "Mastering reduces it. Hear its room tone: a fan or a fridge is better switched off for the rest.",
        )
    voice_db = rms_db - 10 * math.log10(max(health.speech, LEAST_SPEECH))  # a voice that is silent for long is not soft
    if voice_db < SOFTEST_DB and health.speech >= LEAST_SPEECH:
        lifted = noise_floor_db + USUAL_DB - voice_db
        miss(
            f"the voice is soft, {voice_db:.0f} dB: at {USUAL_DB:.0f} dB its noise floor is {lifted:.0f} dB (limit -60 dB)",
            f"Ask for {USUAL_DB - voice_db:.0f} dB more at the microphone next time; mastering lifts voice and room together.",
        )
    if health.dc > GREATEST_DC:
        told = f"DC of {100 * health.dc:.1f} % of full scale"
        found.append(Missed(told, "Mastering takes it away; tell the narrator that the converter has a fault."))
    if health.hum_hz and health.hum_db > LOUDEST_HUM_DB:
        miss(
            f"hum at {health.hum_hz:.0f} Hz, {health.hum_db:.0f} dB",
            "Hear its room tone. Ask for another cable or socket before the rest is recorded.",
        )
    if health.tone_s < LEAST_TONE_S:
        told = f"only {health.tone_s:.1f} s of room tone found"
        found.append(Missed(told, "Ask for half a minute of the silent room, and bring it in; else fills are made softly."))
    if health.speech < LEAST_SPEECH:
        found.append(Missed("nobody speaks in it", "Hear it: it may be room tone, or the wrong file."))
    return found
