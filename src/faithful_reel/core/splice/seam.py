"""The seam of a join in figures, and what natural word boundaries nearby measure."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.audio.roomtone import FRAME_S, frame_levels, levels_of_frames, quiet_threshold
from faithful_reel.core.splice.odds import AROUND_S as AROUND_S_ODDS
from faithful_reel.core.splice.odds import logit
from faithful_reel.core.splice.pitch import VOICED_S, heights_of
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


class Ease(StrEnum):
    """What a join is worth, in one word."""

    UNNOTICEABLE = "unnoticeable"
    LISTEN = "listen"
    REDO = "redo"


FIGURES = ("level", "tone", "pitch", "floor", "click", "rhythm", "odds")
"""What a join is judged by, in the order in which it is told."""
USUAL, ODD, BEYOND = 75.0, 95.0, 99.5
"""A join is unnoticeable whose odds lie no higher than those of three natural boundaries in four, and none of whose figures
stands out of 95 in a hundred; it is to be redone where its odds or two figures lie beyond all natural ones (own choice)."""
FEWEST_NATURAL = 8
MOST_NATURAL = 48
"""So many natural boundaries of a kind are measured at most, the nearest ones."""


@dataclass(frozen=True, slots=True)
class Boundary:
    """A place between two words, and whether somebody pauses there."""

    at: int
    in_pause: bool


@dataclass(frozen=True, slots=True)
class NaturalSeams:
    """What natural boundaries of a reading measure: (boundaries, figures) of those in pauses, and of those where words touch."""

    pause: NDArray[np.float64]
    touch: NDArray[np.float64]

    def of(self, *, in_pause: bool) -> NDArray[np.float64]:
        """Those of a kind."""
        return self.pause if in_pause else self.touch


@dataclass(frozen=True, slots=True)
class JudgedSeam:
    """A join in figures, each with its percentile among natural boundaries of the same kind, and one word for all.

    `figures` and `percentiles` are in the order of `FIGURES`; percentiles are empty where there are too few boundaries to tell.
    """

    at: int
    in_pause: bool
    figures: tuple[float, ...]
    percentiles: tuple[float, ...]
    ease: Ease

    def as_json(self) -> dict[str, object]:
        """As documented in docs/headless.md."""
        told: dict[str, object] = {k: round(v, 2) for k, v in zip(FIGURES, self.figures, strict=True)}
        told["percentiles"] = {k: round(v) for k, v in zip(FIGURES, self.percentiles, strict=False)}
        return told | {"kind": "pause" if self.in_pause else "speech", "word": self.ease.value}

    @property
    def worst(self) -> float:
        """How much it stands out: to put the worst first."""
        if not self.percentiles:
            return 50.0
        return max(self.percentiles[-1], *(p - 10 for p in self.percentiles[:-1]))


def figures_at(x: Signal, at: int, rate: int, *, in_pause: bool) -> NDArray[np.float64]:
    """The seven figures of a boundary at sample `at` of (n,) audio, as sizes: the smaller, the smoother."""
    seam = seam_at(x, at, rate)
    around = round(AROUND_S_ODDS * rate)
    left, right = (np.zeros(around, np.float64) for _ in range(2))
    before, after = x[max(0, at - around) : at], x[at : at + around]
    left[around - len(before) :] = before
    right[: len(after)] = after
    odds = logit(left, right, rate, in_pause=in_pause)
    rhythm = float(np.log2(max(pause_at(x, at, rate), 0.02))) if in_pause else 0.0
    values = seam.level_step_db, seam.tone_step_db, _pitch_step(x, at, rate), seam.floor_step_db
    return np.array([*map(abs, values), max(seam.click_db, -20.0), rhythm, odds])


def pauses_there(x: Signal, at: int, rate: int) -> bool:
    """Whether nobody speaks at a boundary in (n,) audio, by the levels around it."""
    return pause_at(x, at, rate) >= LEAST_PAUSE_S


LEAST_PAUSE_S = 0.06


def pause_at(x: Signal, at: int, rate: int) -> float:
    """How long, in seconds, the quiet is that a place of (n,) audio lies in; 0 where somebody speaks."""
    near, size = round(AROUND_S * rate), round(0.01 * rate)
    first = max(0, at - near)
    levels = levels_of_frames(np.asarray(x[first : at + near]), size)
    if len(levels) < 8:
        return 0.0
    quiet = levels < quiet_threshold(levels)
    middle = min(len(quiet) - 1, (at - first) // size)
    if not quiet[middle]:
        return 0.0
    loud = np.flatnonzero(~quiet)
    before, after = loud[loud < middle], loud[loud > middle]
    return float((after[0] if len(after) else len(quiet)) - (before[-1] + 1 if len(before) else 0)) * size / rate


def _pitch_step(x: Signal, at: int, rate: int) -> float:
    """Semitones between the voice last before a boundary and first after it; 0 where either side is not voiced nearby."""
    size, hop = round(VOICED_S * rate), round(0.02 * rate)
    heights = []
    for way in (-1, 1):
        for k in range(10):
            first = at - size - k * hop if way < 0 else at + k * hop
            if first < 0 or first + size > len(x):
                break
            if (height := float(heights_of(np.asarray(x[first : first + size], np.float64)[None], rate)[0])) > 0:
                heights.append(height)
                break
    return float(12 * np.log2(heights[1] / heights[0])) if len(heights) == 2 else 0.0


def natural_seams(x: Signal, boundaries: Sequence[Boundary], rate: int) -> NaturalSeams:
    """Measure untouched boundaries of (n,) audio: the beginning of the figures that a join is held against."""
    rows: dict[bool, list[NDArray[np.float64]]] = {True: [], False: []}
    for b in boundaries:
        if len(rows[b.in_pause]) < MOST_NATURAL:
            rows[b.in_pause].append(figures_at(x, b.at, rate, in_pause=b.in_pause))
    return NaturalSeams(*(np.array(rows[k]).reshape(-1, len(FIGURES)) for k in (True, False)))


def judged_seam(x: Signal, at: int, rate: int, natural: NaturalSeams, *, in_pause: bool) -> JudgedSeam:
    """Hold the join at sample `at` of (n,) audio against natural boundaries of its kind."""
    figures = figures_at(x, at, rate, in_pause=in_pause)
    table = natural.of(in_pause=in_pause)
    shown = tuple(float(v) for v in figures)
    if len(table) < FEWEST_NATURAL:
        return JudgedSeam(at, in_pause, shown, (), Ease.LISTEN)
    own, usual = figures.copy(), table.copy()
    middle = np.median(table[:, RHYTHM])
    own[RHYTHM], usual[:, RHYTHM] = abs(own[RHYTHM] - middle), np.abs(usual[:, RHYTHM] - middle)
    percentiles = 100.0 * ((usual < own - 1e-9).sum(axis=0) + 0.5 * (np.abs(usual - own) <= 1e-9).sum(axis=0)) / len(usual)
    return JudgedSeam(at, in_pause, shown, tuple(percentiles.tolist()), _ease(percentiles))


RHYTHM = FIGURES.index("rhythm")


def _ease(percentiles: NDArray[np.float64]) -> Ease:
    others, odds = percentiles[:-1], percentiles[-1]
    if odds > BEYOND or (others > BEYOND).sum() >= 2:
        return Ease.REDO
    return Ease.UNNOTICEABLE if odds <= USUAL and others.max() <= ODD else Ease.LISTEN
