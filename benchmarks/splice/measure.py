"""What a splice is worth beside the reading as it was: words, ends, level, third-octaves, floor, pauses, clicks."""

from __future__ import annotations

import sys
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
import soundfile

HERE = Path(__file__).parent
sys.path[:0] = [str(HERE)]

from cases import Case, Made, materials_once  # noqa: E402
from fit import natural  # noqa: E402

from faithful_reel.core.splice.seam import seam_at  # noqa: E402

LIMITS = {"pause_ms": 40.0, "end_ms": 40.0, "level_db": 1.0, "third_db": 2.0, "floor_db": 2.0, "click_over_db": 0.0}
CENTRES = 1000 * 2 ** (np.arange(-10, 10) / 3)


@dataclass(frozen=True)
class Measured:
    """All of one case; NaN where it can not be told, as the floor of a line without a pause."""

    pause_ms: float
    end_ms: float
    level_db: float
    third_db: float
    third_worst_db: float
    floor_db: float
    click_over_db: float

    def failed(self) -> list[str]:
        """The limits that are not kept."""
        return [name for name, most in LIMITS.items() if not np.isnan(v := getattr(self, name)) and abs(v) > most and v > -1e9]


def third_octaves(x: np.ndarray, rate: int) -> np.ndarray:
    """Levels in dB of the third-octaves from 100 Hz to 8 kHz that the rate holds."""
    power = np.abs(np.fft.rfft(x.astype(np.float64))) ** 2 / max(1, len(x))
    hz = np.fft.rfftfreq(len(x), 1 / rate)
    return np.array(
        [
            10 * np.log10(power[(hz >= c * 2 ** (-1 / 6)) & (hz < c * 2 ** (1 / 6))].sum() + 1e-12)
            for c in CENTRES
            if c * 2 ** (1 / 6) < 0.45 * rate
        ]
    )


def level(x: np.ndarray) -> float:
    return float(10 * np.log10(np.mean(np.square(x, dtype=np.float64)) + 1e-12))


@lru_cache(maxsize=32)
def natural_clicks(name: str) -> tuple[float, float]:
    """The greatest that natural boundaries measure: in pauses, and where words touch."""
    m = next(m for m in materials_once() if m.name == name)
    found: tuple[list[float], list[float]] = ([], [])
    for at, in_pause in natural(m):
        for k in (-2, -1, 0, 1, 2):  # within 3 ms it is chance
            found[not in_pause].append(seam_at(m.sound, at + k * m.rate // 150, m.rate).click_db)
    return tuple(float(np.max(f)) if len(f) >= 5 else 6.0 for f in found)  # type: ignore[return-value]


def measured(case: Case, made: Made, out: Path, told: dict) -> Measured:
    """Hold a result against the truth."""
    rate, truth = made.rate, made.truth
    result, _ = soundfile.read(out, dtype="float32")
    chapter_length = soundfile.info(made.chapter).frames
    later = len(truth) - chapter_length
    start, stop = (round(at * rate) for at in told["replaced"])
    join_in, join_out = (round(told[k] * rate) for k in ("join_in", "join_out"))
    taken = [at * rate * made.pace for at in told["taken"]]
    pieces = truth[start : stop + later]
    spliced = result[join_in:join_out]
    pause = end = float("nan")
    edges = np.array([e for _, a, b in made.words for e in (a, b)])

    def beside(at: float) -> float:
        """How far, in ms, a place of the truth is from a pause or the edge of a word."""
        for (_, _, left), (_, right, _) in zip(made.words, made.words[1:], strict=False):
            if left <= at <= right and right - left >= 0.04 * rate:
                return 0.0
        return float(np.min(np.abs(edges - at)) / rate * 1000)

    inside = (start, stop + later)
    if made.takes:
        at, first = min(made.takes, key=lambda t: abs(t[0] - taken[0]))
        begin, finish = (first + (t - at) for t in taken)
        pause = (
            max(
                _pause_apart(made, start, begin, round(0.02 * rate), takes_over=False),
                _pause_apart(made, finish, stop + later, round(0.02 * rate), takes_over=True),
            )
            / rate
            * 1000
        )
        pieces = truth[max(0, round(begin)) : round(finish)]
        inside = (round(begin), round(finish))
    end = max(beside(start), beside(stop + later))
    speaks = np.zeros(len(truth), bool)
    for a, b in ((a, b) for _, a, b in made.words):
        speaks[a:b] = True
    apart = third_octaves(spliced, rate) - third_octaves(pieces, rate)
    step = level(spliced) - level(pieces)
    if len(spliced) and len(pieces):  # per second of words: the pauses' lengths do not count
        step += 10 * np.log10(len(spliced) / len(pieces))
    apart += 10 * np.log10(len(spliced) / max(1, len(pieces)))
    floor = _floor(result, truth, speaks, inside, (join_in, join_out), rate)
    joins = []
    for where, in_pause in zip((join_in, join_out), told["in_pause"], strict=True):
        joins.append(seam_at(result, where, rate).click_db - natural_clicks(case.material)[0 if in_pause else 1])
    return Measured(pause, end, step, float(np.abs(apart).mean()), float(np.abs(apart).max()), floor, max(0.0, *joins))


def _pause_apart(made: Made, left: float, right: float, slack: int, *, takes_over: bool) -> float:
    """How many samples longer or shorter the gap at a join is than it was.

    The sound before it ends at `left` of the truth, that after it begins at `right`; the take's, whose time runs at its own pace, is
    that before it where `takes_over`.
    """
    ends = [k for k, (_, _, b) in enumerate(made.words) if b <= left + slack]
    starts = [k for k, (_, a, _) in enumerate(made.words) if a >= right - slack]
    if not ends or not starts or ends[-1] + 1 != starts[0]:  # inside of a word, or words lost or doubled
        return abs(right - left)
    before, after = made.words[ends[-1]], made.words[starts[0]]
    scale = (1 / made.pace, 1.0) if takes_over else (1.0, 1 / made.pace)
    gap = (left - before[2]) * scale[0] + (after[1] - right) * scale[1]
    return abs(gap - (after[1] - before[2]))


def _floor(
    result: np.ndarray,
    truth: np.ndarray,
    speaks: np.ndarray,
    inside: tuple[int, int],
    joined: tuple[int, int],
    rate: int,
) -> float:
    """How far the pauses of the spliced stretch stand over those around it, in dB, by the middles of pauses of 0.15 s and more."""
    edges = np.flatnonzero(np.diff(np.concatenate([[True], speaks, [True]]).astype(np.int8)))
    margin = round(0.06 * rate)
    own, around = [], []
    for a, b in edges.reshape(-1, 2):
        first, last = a + margin, b - margin
        low, high = max(first, inside[0]), min(last, inside[1])
        if high - low > 0.04 * rate:
            scale = (joined[1] - joined[0]) / max(1, inside[1] - inside[0])
            x = result[round(joined[0] + (low - inside[0]) * scale) : round(joined[0] + (high - inside[0]) * scale)]
            own.append(_quiet(x, rate))
        for lo, hi in ((first, min(last, inside[0])), (max(first, inside[1]), last)):
            if hi - lo > 0.04 * rate and abs(lo - inside[0]) < 5 * rate + (inside[1] - inside[0]):
                around.append(_quiet(truth[lo:hi], rate))
    if not own or not around:
        return float("nan")
    apart = float(np.median(own) - np.median(around))
    return apart if min(own) < min(around) or max(own) > max(around) else 0.0


def _quiet(x: np.ndarray, rate: int) -> float:
    size = round(0.02 * rate)
    frames = x[: len(x) // size * size].reshape(-1, size)
    return float(np.median(10 * np.log10(np.mean(np.square(frames, dtype=np.float64), axis=1) + 1e-12)))
