"""Compression and look-ahead limiting, channels linked, block by block."""

from __future__ import annotations

import numba
import numpy as np

from faithful_reel.core.units import Signal, ratio

STEP = 8
"""The compressor's gain is computed every 8 samples and runs straight in between."""


@numba.njit(cache=True, nogil=True)
def _compress(x, state, threshold_db, slope, knee_db, attack, release, hold_db):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """In place.  state: [mean square, reduction in dB, gain, gain step, samples to the next gain]."""
    channels, n = x.shape
    level, reduction, gain, change, left = state
    for i in range(n):
        power = 0.0
        for c in range(channels):
            power += float(x[c, i]) * float(x[c, i])
        level += 0.004 * (power / channels - level)  # mean square over about 6 ms
        if left <= 0.0:
            height = 10.0 * np.log10(level + 1e-12)
            over = height - threshold_db
            if over <= -knee_db / 2:
                wanted = 0.0
            elif over < knee_db / 2:
                wanted = slope * (over + knee_db / 2) ** 2 / (2 * knee_db)
            else:
                wanted = slope * over
            if wanted > reduction:
                reduction += attack * (wanted - reduction)
            elif height > hold_db:  # in a pause it stays, so that the room does not swell there
                reduction += release * (wanted - reduction)
            change = (10.0 ** (-reduction / 20.0) - gain) / STEP
            left = STEP
        gain += change
        left -= 1.0
        for c in range(channels):
            x[c, i] *= gain
    state[0], state[1], state[2], state[3], state[4] = level, reduction, gain, change, left


class Compressor:
    """Feed-forward compressor with a soft knee on the mean-square level.

    While the sound is softer than `hold_db`, the gain stays as it is.  It only ever lowers; it starts lowered by
    `lowered_db`.

    References
    ----------
    Threshold about -20 dB, 2:1 to 3:1, slow release of about 1 s, nothing under -40 dB lifted: common practice.
    """

    def __init__(
        self,
        rate: int,
        *,
        threshold_db: float = -20.0,
        compression: float = 2.5,
        knee_db: float = 6.0,
        attack_s: float = 0.01,
        release_s: float = 1.0,
        hold_db: float = -40.0,
        lowered_db: float = 0.0,
    ) -> None:
        self._threshold, self._slope, self._knee = threshold_db, 1 - 1 / compression, knee_db
        self._hold = hold_db
        self._attack = 1 - np.exp(-STEP / (attack_s * rate))
        self._release = 1 - np.exp(-STEP / (release_s * rate))
        self._state = np.array([0.0, lowered_db, ratio(-lowered_db), 0.0, 0.0])

    @property
    def lowered_db(self) -> float:
        """By how much it lowers now."""
        return float(self._state[1])

    def feed(self, x: Signal, *, gain_db: float = 0.0) -> Signal:
        """The next block, (channels, n), after `gain_db`; returns a new array."""
        y = x * np.float32(ratio(gain_db))
        _compress(y, self._state, self._threshold, self._slope, self._knee, self._attack, self._release, self._hold)
        return y


@numba.njit(cache=True, nogil=True)
def _limit(x, out, ring, gains, queue, state, ceiling, ahead, hold, release):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Delay by `ahead`; the gain is the box mean, over `ahead`, of the least gain wanted in `ahead + hold` samples.

    state: [write position, queue head, queue length, sum of the box, recovering gain]
    """
    channels, n = x.shape
    window = ahead + hold
    at = int(state[0])
    head = int(state[1])
    length = int(state[2])
    total = state[3]
    slow = state[4]
    size = queue.shape[0]
    slot = at % ahead
    for i in range(n):
        peak = 0.0
        for c in range(channels):
            peak = max(peak, abs(float(x[c, i])))
        wanted = ceiling / peak if peak > ceiling else 1.0
        last = head + length - 1
        if last >= size:
            last -= size
        while length and queue[last, 1] >= wanted:
            length -= 1
            last = last - 1 if last else size - 1
        last = last + 1 if last + 1 < size else 0
        queue[last, 0] = at
        queue[last, 1] = wanted
        length += 1
        while queue[head, 0] <= at - window:
            head = head + 1 if head + 1 < size else 0
            length -= 1
        least = queue[head, 1]
        slow = least if least < slow else slow + release * (least - slow)
        total += slow - gains[slot]
        gains[slot] = slow
        g = min(total / ahead, 1.0)
        for c in range(channels):
            # rounding to float32 may add half a unit in the last place: hold the ceiling exactly
            out[c, i] = min(max(ring[c, slot] * g, -ceiling), ceiling)
            ring[c, slot] = x[c, i]
        at += 1
        slot = slot + 1 if slot + 1 < ahead else 0
    state[0] = at
    state[1] = head
    state[2] = length
    state[3] = total
    state[4] = slow


class Limiter:
    """Look-ahead peak limiter that can not overshoot; hold 10 ms (common practice).  Lags by `ahead` samples."""

    def __init__(
        self,
        rate: int,
        channels: int = 1,
        *,
        ceiling_db: float = -3.3,
        ahead_s: float = 0.004,
        hold_s: float = 0.01,
        release_s: float = 0.08,
    ) -> None:
        self._ceiling = float(np.nextafter(np.float32(ratio(ceiling_db)), np.float32(0)))
        self.ahead = max(2, round(ahead_s * rate))
        self._hold = round(hold_s * rate)
        self._release = 1 - np.exp(-1 / (release_s * rate))
        self._ring = np.zeros((channels, self.ahead))
        self._gains = np.ones(self.ahead)
        self._queue = np.zeros((self.ahead + self._hold + 4, 2))
        self._state = np.array([0.0, 0.0, 0.0, float(self.ahead), 1.0])
        self._channels, self._skip = channels, self.ahead

    def feed(self, x: Signal) -> Signal:
        """The next block, (channels, n); what comes out lags by `ahead` samples."""
        data = np.ascontiguousarray(x, dtype=np.float32)
        out = np.empty_like(data)
        _limit(data, out, self._ring, self._gains, self._queue, self._state, self._ceiling, self.ahead, self._hold, self._release)
        drop = min(self._skip, out.shape[-1])
        self._skip -= drop
        return out[:, drop:]

    def flush(self) -> Signal:
        """The last `ahead` samples, (channels, n)."""
        return self.feed(np.zeros((self._channels, self.ahead)))
