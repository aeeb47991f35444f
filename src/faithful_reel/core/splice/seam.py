"""The seam of a join in figures, and what natural word boundaries nearby measure."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import asdict, dataclass

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.audio.roomtone import frame_levels, quiet_threshold
from faithful_reel.core.units import Signal

AROUND_S = 0.9
_BANDS_HZ = np.geomspace(125, 8000, 19)


@dataclass(frozen=True, slots=True)
class Seam:
    """How a boundary differs from one side to the other; all in dB, smaller is smoother.

    level_step_db : speech level after minus before; floor_step_db : the same of the quiet moments;
    tone_step_db : mean difference of third-octave levels once the level is taken out;
    click_db : how far the sharpest change of slope within 3 ms stands over that of the 60 ms around it.
    """

    level_step_db: float
    floor_step_db: float
    tone_step_db: float
    click_db: float

    def as_json(self) -> dict[str, float]:
        """Rounded for reading."""
        return {k: round(v, 2) for k, v in asdict(self).items()}


def seam_at(x: Signal, at: int, rate: int) -> Seam:
    """Measure the boundary at sample `at` of (n,) audio."""
    reach = round(AROUND_S * rate)
    before, after = x[max(0, at - reach) : at], x[at : at + reach]
    levels = frame_levels(np.concatenate([before, after]), rate)
    threshold = quiet_threshold(levels)
    left, right = frame_levels(before, rate), frame_levels(after, rate)
    tone = 0.0
    bands = [_bands(side, rate, threshold) for side in (before, after)]
    if bands[0] is not None and bands[1] is not None:
        difference = bands[1] - bands[0]
        tone = float(np.mean(np.abs(difference - np.median(difference))))
    return Seam(
        _step(left[left >= threshold], right[right >= threshold]),
        _step(left[left < threshold], right[right < threshold]),
        tone,
        _click(x, at, rate),
    )


def _step(left: NDArray[np.float64], right: NDArray[np.float64]) -> float:
    if not len(left) or not len(right):
        return 0.0
    return float(_power_mean(right) - _power_mean(left))


def _power_mean(levels: NDArray[np.float64]) -> float:
    return float(10 * np.log10(np.mean(10 ** (levels / 10)) + 1e-12))


def _bands(x: Signal, rate: int, threshold: float) -> NDArray[np.float64] | None:
    """Third-octave levels in dB of the frames that speak; None where none does."""
    size = round(0.02 * rate)
    count = len(x) // size
    if not count:
        return None
    frames = x[: count * size].reshape(count, size)
    loud = frames[frame_levels(x, rate)[:count] >= threshold]
    if len(loud) < 5:
        return None
    power = np.mean(np.abs(np.fft.rfft(loud * np.hanning(size), axis=1)) ** 2, axis=0)
    edges = np.searchsorted(np.fft.rfftfreq(size, 1 / rate), _BANDS_HZ)
    return np.array([10 * np.log10(power[a : max(a + 1, b)].mean() + 1e-12) for a, b in itertools.pairwise(edges)])


def _click(x: Signal, at: int, rate: int) -> float:
    near, around = round(0.003 * rate), round(0.06 * rate)
    stretch = x[max(0, at - around) : at + around].astype(np.float64)
    if len(stretch) < 8:
        return 0.0
    bend = np.abs(np.diff(stretch, 2))
    middle = min(at, around)
    inner = bend[max(0, middle - near) : middle + near]
    outer = np.concatenate([bend[: max(0, middle - near)], bend[middle + near :]])
    if not len(inner) or not len(outer):
        return 0.0
    return float(20 * np.log10((inner.max() + 1e-9) / (np.percentile(outer, 99) + 1e-9)))


def natural_seam(x: Signal, boundaries: Sequence[int], rate: int) -> Seam | None:
    """The greatest figures of untouched boundaries: what a join may measure and still go unnoticed."""
    seams = [seam_at(x, at, rate) for at in boundaries]
    if not seams:
        return None
    return Seam(
        max(abs(s.level_step_db) for s in seams),
        max(abs(s.floor_step_db) for s in seams),
        max(s.tone_step_db for s in seams),
        max(s.click_db for s in seams),
    )
