"""The seam of a join in figures, and what natural word boundaries nearby measure."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.audio.roomtone import FRAME_S, frame_levels, quiet_threshold
from faithful_reel.core.units import Signal

AROUND_S, SPEECH_S, REACH_S = 0.9, 0.5, 3.0
LEAST_FRAMES = 5
"""How much on either side is compared, and of speech, and how far off that may lie: between sentences a join has only pause
around it."""
_BANDS_HZ = np.geomspace(125, 8000, 19)


@dataclass(frozen=True, slots=True)
class Seam:
    """How a boundary differs from one side to the other; all in dB, smaller is smoother.

    level_step_db : level of the speech that comes next minus that of the speech before; floor_step_db : the same of the quiet
    moments close by; tone_step_db : mean difference of the third-octave levels of that speech once its level is taken out;
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
    reach = round(REACH_S * rate)
    sides = _side(x[max(0, at - reach) : at][::-1], rate), _side(x[at : at + reach], rate)
    near = round(AROUND_S / FRAME_S)
    threshold = quiet_threshold(np.concatenate([levels[:near] for _, levels in sides]))
    speech = [np.flatnonzero(levels >= threshold)[: round(SPEECH_S / FRAME_S)] for _, levels in sides]
    level, tone = 0.0, 0.0
    if min(map(len, speech)) >= LEAST_FRAMES:
        level = _step(*(levels[chosen] for (_, levels), chosen in zip(sides, speech, strict=True)))
        left, right = (_bands(frames[chosen], rate) for (frames, _), chosen in zip(sides, speech, strict=True))
        tone = float(np.mean(np.abs(right - left - np.median(right - left))))
    quiet = (levels[:near][levels[:near] < threshold] for _, levels in sides)
    return Seam(level, _step(*quiet), tone, _click(x, at, rate))


def _side(x: Signal, rate: int) -> tuple[Signal, NDArray[np.float64]]:
    """20 ms frames (frames, samples) of one side, the one at the boundary first, and their levels."""
    size = round(FRAME_S * rate)
    return x[: len(x) // size * size].reshape(-1, size), frame_levels(np.ascontiguousarray(x), rate)


def _step(left: NDArray[np.float64], right: NDArray[np.float64]) -> float:
    if not len(left) or not len(right):
        return 0.0
    return float(_power_mean(right) - _power_mean(left))


def _power_mean(levels: NDArray[np.float64]) -> float:
    return float(10 * np.log10(np.mean(10 ** (levels / 10)) + 1e-12))


def _bands(frames: Signal, rate: int) -> NDArray[np.float64]:
    """Third-octave levels in dB of (frames, samples)."""
    size = frames.shape[1]
    power = np.mean(np.abs(np.fft.rfft(frames * np.hanning(size), axis=1)) ** 2, axis=0)
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


CLOSE = 1.2
"""Up to a fifth over the greatest natural steps is close to them (own rule)."""
LEAST_CLICK_DB = 3.0


class Likeness(StrEnum):
    """How a join stands beside natural boundaries."""

    WITHIN = "within natural"
    CLOSE = "close to natural"
    OUT = "stands out"


def likeness(seam: Seam, natural: Seam) -> Likeness:
    """How a join stands beside the greatest figures of natural boundaries; steps under 1 dB never stand out."""
    steps = [(seam.level_step_db, natural.level_step_db), (seam.floor_step_db, natural.floor_step_db)]
    steps.append((seam.tone_step_db, natural.tone_step_db))
    most = max(abs(own) / max(usual, 1.0) for own, usual in steps)
    if most > CLOSE or seam.click_db > max(natural.click_db, LEAST_CLICK_DB):
        return Likeness.OUT
    return Likeness.WITHIN if most <= 1 else Likeness.CLOSE


def natural_seam(x: Signal, boundaries: Sequence[int], rate: int) -> Seam | None:
    """The greatest figures of untouched boundaries in (n,) audio: what a join may measure and still go unnoticed."""
    seams = [seam_at(x, at, rate) for at in boundaries]
    if not seams:
        return None
    return Seam(
        max(abs(s.level_step_db) for s in seams),
        max(abs(s.floor_step_db) for s in seams),
        max(s.tone_step_db for s in seams),
        max(s.click_db for s in seams),
    )
