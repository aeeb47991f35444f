"""What the channels of a recording have to do with each other, and how they are mixed to one without losing any of it.

The mean of two channels is silent where one is turned against the other, hollow where the sound comes to one later, and soft
where one holds little.  It is taken where it keeps what the better channel has; else what does.

References
----------
Knapp and Carter, "The generalized correlation method for estimation of time delay", IEEE Trans. ASSP 24 (1976): the lag of the
whitened cross-spectrum.  Third-octave bands: IEC 61260-1.  Limits: own rules.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray
from scipy.fft import rfft

from faithful_reel.core.units import Signal

SIZE, FINER, MOST_COMPARED = 8192, 8, 8
LOWEST_HZ, HIGHEST_HZ = 80.0, 12_000.0
DEAD_DB, SOFTER_DB, ONE_ONLY_DB = 40.0, 6.0, 10.0
MOSTLY = 0.5
"""So much of a channel's energy comes while the other is softer by `ONE_ONLY_DB`, where they alternate."""
OWN_S, OWN_UNDER_DB, LOUD = 1.0, 25.0, 95
"""A channel holds what another does not where it is louder by `ONE_ONLY_DB` for so long, and no farther under the other's loud
frames (percentile): what would be lost is more than noise.
"""
AGAINST = 0.5
"""Channels of which more than this is the same, by energy, are alike, or of opposite sign."""
ALIKE = 0.2
"""Least peak of the whitened correlation (1 for the same sound) between channels that hold the same."""
LATEST_S, LATE_S, AS_GOOD = 0.005, 0.000_04, 0.8
"""A lag is looked for up to the first; it is none under the second, or where it brings less than this share of what they have in
common into phase.
"""
MOST_LOSS_DB, HEARD_DB, SAME = 0.5, 50.0, 0.9
"""A mix is at most so far under the better channel in every third-octave that holds something; where nothing is odd, in those in
which they are the same to so much, since the rest is noise.
"""
ROOM = 0.99


class Odd(StrEnum):
    """What is wrong with a channel beside the better one."""

    NOTHING = ""
    DEAD = "dead"
    SOFTER = "softer"
    TURNED = "turned"
    LATE = "late"
    ALTERNATING = "alternating"
    DIFFERENT = "different"


@dataclass(frozen=True, slots=True)
class Channels:
    """How the channels were found: what is odd in plain words, empty where nothing is; the weights of a mix to one, empty for the
    plain mean; and what that mix is.
    """

    odd: Odd = Odd.NOTHING
    told: str = ""
    weights: tuple[float, ...] = ()
    mix: str = ""

    @property
    def fit(self) -> bool:
        """Whether a finished file may be so: what two microphones or music make of two channels is no fault."""
        return self.odd in (Odd.NOTHING, Odd.DIFFERENT)

    @property
    def words(self) -> str:
        """What is odd, and how the channels are mixed."""
        return f"{self.told}: {self.mix}" if self.told else ""


ORDINALS = ("first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth")


class ChannelMeter:
    """Compares the channels of (channels, n) blocks; no more than the first eight are looked at."""

    def __init__(self, rate: int, channels: int) -> None:
        self.rate, self.channels = rate, min(channels, MOST_COMPARED)
        bins = SIZE // 2 + 1
        self._cross = np.zeros((self.channels, self.channels, bins), np.complex128)
        self._energy: list[NDArray[np.float64]] = []
        self._rest = np.zeros((self.channels, 0), np.float32)
        self._taper = np.hanning(SIZE).astype(np.float32)
        hz = np.fft.rfftfreq(SIZE, 1 / rate)
        self._hz, self._band = hz, (hz >= LOWEST_HZ) & (hz <= min(HIGHEST_HZ, 0.45 * rate))
        self._peaks, self._sum, self._difference = np.zeros(self.channels), 0.0, 0.0

    def feed(self, x: Signal) -> None:
        """Take the next block."""
        if self.channels < 2 or not x.shape[-1]:
            return
        x = x[: self.channels]
        self._peaks = np.maximum(self._peaks, np.abs(x).max(axis=1))
        self._sum = max(self._sum, float(np.max(np.abs(x.sum(axis=0)))))
        self._difference = max(self._difference, float(np.max(np.abs(x[0] - x[1]))))
        x = np.concatenate([self._rest, x], axis=1)
        whole = x.shape[1] // SIZE
        self._rest = x[:, whole * SIZE :].copy()
        if whole:
            self._take(x[:, : whole * SIZE].reshape(self.channels, whole, SIZE))

    def _take(self, x: Signal) -> None:
        spectra = rfft(x * self._taper, axis=2)
        for i in range(self.channels):
            for j in range(i, self.channels):
                self._cross[i, j] += (spectra[i] * spectra[j].conj()).sum(axis=0)
        band = spectra[:, :, self._band]
        self._energy.append((band.real**2 + band.imag**2).sum(axis=2, dtype=np.float64).T)

    def found(self) -> Channels:
        """What was found."""
        if self.channels < 2:
            return Channels()
        if not self._energy and self._rest.shape[1]:  # shorter than a frame
            self._take(np.pad(self._rest, ((0, 0), (0, SIZE - self._rest.shape[1])))[:, None])
        energy = np.concatenate(self._energy) if self._energy else np.zeros((1, self.channels))
        totals = energy.sum(axis=0)
        if totals.max() <= 0:
            return Channels()
        best = int(np.flatnonzero(totals > 10 ** (-MOST_LOSS_DB / 10) * totals.max())[0])
        found = [(self._odd(energy, best, c), c) for c in range(self.channels) if c != best]
        (odd, told), _ = next((f for f in found if f[0][0]), found[0])
        weights = self._weights(best, {c: o for (o, _), c in found})
        even = np.full(self.channels, 1 / self.channels)
        if np.allclose(weights, even):
            return Channels(odd, told, (), "their mean is worked on")
        if np.count_nonzero(weights) == 1:
            mix = f"the {ORDINALS[best]} alone is worked on"
        elif np.any(weights < 0):
            mix = "it is turned back"
        else:
            mix = "they are added"
        return Channels(odd, told, tuple(float(w) for w in weights), mix)

    def _odd(self, energy: NDArray[np.float64], best: int, other: int) -> tuple[Odd, str]:
        """What is odd in a channel beside the better one, in words."""
        mine, theirs = energy[:, best], energy[:, other]
        name, than = f"the {ORDINALS[other]} channel", f"the {ORDINALS[best]}"
        less = 10 * np.log10(mine.sum() / max(theirs.sum(), 1e-30))
        ratio = 10 ** (ONE_ONLY_DB / 10)
        alone = [a[a > ratio * b].sum() / max(a.sum(), 1e-30) for a, b in ((mine, theirs), (theirs, mine))]
        loud = theirs > 10 ** (-OWN_UNDER_DB / 10) * np.percentile(mine, LOUD)
        own_s = np.count_nonzero(loud & (theirs > ratio * mine)) * SIZE / self.rate
        if min(alone) > MOSTLY and less < DEAD_DB:
            first, second = (ORDINALS[c] for c in sorted((best, other)))
            return Odd.ALTERNATING, f"what is said is in the {first} channel or in the {second}, not in both"
        if own_s >= OWN_S:  # before all else: in hours of sound it weighs nothing
            return Odd.DIFFERENT, f"{name} holds sound that is not in {than}"
        if less >= DEAD_DB:
            return Odd.DEAD, f"{name} is dead"
        peak, late_s = self._alike(best, other)
        if peak < ALIKE and self._common(best, other) > AGAINST:  # a wide sound behind a voice that is in both
            late_s = 0.0
        elif abs(peak) < ALIKE:
            return Odd.DIFFERENT, f"{name} holds another sound than {than}"
        elif peak < 0:
            late = f", and {1000 * abs(late_s):.2f} ms off" if abs(late_s) >= LATE_S else ""
            return Odd.TURNED, f"{name} is turned against {than} (opposite sign){late}"
        if abs(late_s) >= LATE_S:
            order = (ORDINALS[other], ORDINALS[best]) if late_s > 0 else (ORDINALS[best], ORDINALS[other])
            return Odd.LATE, f"the sound comes to the {order[0]} channel {1000 * abs(late_s):.2f} ms later than to the {order[1]}"
        if less >= SOFTER_DB:
            return Odd.SOFTER, f"{name} is {less:.0f} dB softer than {than}"
        return Odd.NOTHING, ""

    def _alike(self, best: int, other: int) -> tuple[float, float]:
        """The greatest whitened correlation, below 0 for opposite signs, and how many seconds the other channel is late."""
        a, b = min(best, other), max(best, other)
        cross = self._cross[a, b] if a == best else self._cross[a, b].conj()
        mine, theirs = self._cross[best, best].real, self._cross[other, other].real
        heard = self._band & (mine > 1e-4 * mine[self._band].max()) & (theirs > 1e-5 * theirs[self._band].max())
        if not heard.any():
            return 0.0, 0.0
        white = np.where(heard, cross / np.sqrt(np.maximum(mine * theirs, 1e-60)), 0)
        lags = np.fft.irfft(white, FINER * SIZE) * FINER * SIZE / (2 * np.count_nonzero(heard))
        reach = round(LATEST_S * self.rate * FINER)
        near = np.concatenate([lags[-reach:], lags[: reach + 1]])
        at = int(np.argmax(np.abs(near)))
        at = at if abs(near[at]) > AS_GOOD * np.abs(white).sum() / np.count_nonzero(heard) else reach  # else it is no delay
        return float(near[at]), (reach - at) / FINER / self.rate

    def _common(self, best: int, other: int) -> float:
        """How far the energy of two channels is the same, from -1 for opposite signs to 1."""
        energy = np.sqrt(self._cross[best, best].real[self._band].sum() * self._cross[other, other].real[self._band].sum())
        return float(self._cross[min(best, other), max(best, other)].real[self._band].sum() / max(energy, 1e-30))

    def _weights(self, best: int, odds: dict[int, Odd]) -> NDArray[np.float64]:
        """The first mix that keeps what the better channel has: the mean, turned back, else it with those that hold more."""
        count = self.channels
        tries = [np.full(count, 1 / count)]
        if count == 2 and Odd.TURNED in odds.values():
            tries.append(np.where(np.arange(count) == best, 0.5, -0.5))
        last = np.array([float(c == best or odds[c] in (Odd.ALTERNATING, Odd.DIFFERENT)) for c in range(count)])
        for c in np.flatnonzero(last).tolist():
            last[c] = -1.0 if self._common(best, c) < -AGAINST else 1.0  # by which they do not cancel out
        if np.count_nonzero(last) > 1:
            pair = self._difference if last.min() < 0 else self._sum
            peak = pair if count == 2 else float(self._peaks[last != 0].sum())
            last *= min(1.0, ROOM / max(peak, 1e-9))
        every = any(odds.values())  # where nothing is odd, what differs is noise
        return next((w for w in tries if self._loss(w, best, every=every) <= MOST_LOSS_DB), last)

    def _loss(self, weights: NDArray[np.float64], best: int, *, every: bool) -> float:
        """By how many dB a mix is under the better channel, in the third-octave where it is most."""
        mixed = np.zeros(len(self._hz))
        for i in range(self.channels):
            mixed += weights[i] ** 2 * self._cross[i, i].real
            for j in range(i + 1, self.channels):
                mixed += 2 * weights[i] * weights[j] * self._cross[i, j].real
        own = self._cross[best, best].real
        losses = []
        centre = 1000.0 * 2 ** (-11 / 3)
        tops = own[self._band].max()
        while centre < HIGHEST_HZ and centre * 2 ** (1 / 6) < 0.5 * self.rate:
            inside = (self._hz >= centre * 2 ** (-1 / 6)) & (self._hz < centre * 2 ** (1 / 6))
            centre *= 2 ** (1 / 3)
            power = float(own[inside].sum())
            if not inside.any() or power <= 10 ** (-HEARD_DB / 10) * tops:
                continue
            if not every and self._same(inside, best) < SAME:
                continue
            losses.append(10 * np.log10(power / max(float(mixed[inside].sum()), 1e-30)))
        return max(losses, default=0.0)

    def _same(self, inside: NDArray[np.bool_], best: int) -> float:
        """How far all channels hold the same in a band, 0 to 1."""
        own = self._cross[best, best][inside].real.sum()
        found = [1.0]
        for c in range(self.channels):
            if c != best:
                a, b = min(best, c), max(best, c)
                theirs = self._cross[c, c][inside].real.sum()
                found.append(abs(self._cross[a, b][inside].sum()) / np.sqrt(max(own * theirs, 1e-60)))
        return float(min(found))
