"""Finding room tone: the longest quiet, even stretch of a recording."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.units import Signal, Span

FRAME_S = 0.02
LONGEST_S = 8.0
LOUDEST_DB = -40.0
"""What is louder is no room tone, however even, unless it stands far under the voice: then the room itself is loud."""
UNDER_VOICE_DB = 14.0
SKIP_S = 0.5
"""The first moments often hold a mouse click or a chair (common practice)."""


def frame_levels(x: Signal, rate: int) -> NDArray[np.float64]:
    """RMS in dB of successive 20 ms frames: of (n,) audio, full scale 1.0, a (frames,) array."""
    return levels_of_frames(x, round(FRAME_S * rate))


def levels_of_frames(x: Signal, size: int) -> NDArray[np.float64]:
    """RMS in dB of successive frames of `size` samples: of (n,) audio a (n // size,) array; -200 dB for digital silence."""
    count = len(x) // size
    if not count:
        return np.zeros(0)
    table = x[: count * size].reshape(count, size)
    power = np.einsum("ij,ij->i", table, table, dtype=np.float64) / size
    return np.asarray(10 * np.log10(power + 1e-20))


def quiet_threshold(levels: NDArray[np.float64]) -> float:
    """The level in dB under which a frame counts as nobody speaking; `levels` are (frames,), in dB.

    The floor is the 10th percentile of the frames that are not digital silence, speech the 90th; the threshold
    stands a third of the way up, at least 6 dB and at most 15 dB above the floor.  Own rule.
    """
    sound = levels[levels > -120]
    if not len(sound):
        return -120.0
    floor, speech = np.percentile(sound, [10, 90])
    return float(floor + np.clip((speech - floor) / 3, 6.0, 15.0))


def quiet_runs(levels: NDArray[np.float64], threshold: float, shortest: int) -> list[tuple[int, int]]:
    """Runs of at least `shortest` of (frames,) levels under the threshold, as half-open frame ranges."""
    quiet = np.concatenate([[False], levels < threshold, [False]])
    edges = np.flatnonzero(quiet[1:] != quiet[:-1])
    return [(int(a), int(b)) for a, b in edges.reshape(-1, 2) if b - a >= shortest]


def room_tone_frames(levels: NDArray[np.float64]) -> tuple[int, int] | None:
    """The best stretch of room tone among (frames,) levels of 20 ms each, 0.4 to 8 s, as a half-open range of frames, or None.

    Of all quiet runs the one with the best length and evenness; runs that hold digital silence are left out.
    """
    skip = int(SKIP_S / FRAME_S)
    best, best_score = None, -np.inf
    if not len(levels):
        return None
    quietest = float(levels.min())
    loudest = max(LOUDEST_DB, float(np.percentile(levels, 90)) - UNDER_VOICE_DB)
    for start, stop in quiet_runs(levels, quiet_threshold(levels), round(0.4 / FRAME_S)):
        first = start + skip if start < skip and stop - start > 2 * skip else start
        first, last = first + 2, stop - 3
        run = levels[first:last]
        if len(run) < 10 or run.min() < -120 or run.mean() > loudest:
            continue
        last = min(last, first + round(LONGEST_S / FRAME_S))
        run = levels[first:last]
        score = min(len(run) * FRAME_S, 5.0) - 0.6 * float(run.std()) - 0.15 * float(run.mean() - quietest)
        if score > best_score:
            best, best_score = (first, last), score
    return best


def find_room_tone(x: Signal, rate: int) -> Span | None:
    """The best stretch of room tone in (n,) audio, in samples, or None."""
    size = round(FRAME_S * rate)
    found = room_tone_frames(frame_levels(x, rate))
    return Span(found[0] * size, found[1] * size) if found else None
