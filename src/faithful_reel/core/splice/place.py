"""Placing a take: boundaries, level match, and the command that does it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from faithful_reel.core.audio.roomtone import frame_levels, quiet_threshold
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import ReplaceByTake, ToneSource
from faithful_reel.core.reel.reel import Join
from faithful_reel.core.splice.boundaries import Boundary, Side, best_pair, ranked_boundaries
from faithful_reel.core.units import Signal

MOST_GAIN_DB = 15.0


@dataclass(frozen=True, slots=True)
class Plan:
    """A splice before it is done: the ranked proposals, the chosen pair, the gain and the command."""

    entering: tuple[Boundary, ...]
    leaving: tuple[Boundary, ...]
    chosen_in: Boundary
    chosen_out: Boundary
    gain_db: float
    command: ReplaceByTake


def speech_level(x: Signal, rate: int) -> float:
    """Level in dB of the voice in (n,) audio.

    The upper quartile of the frames that speak, which one loud or clipped word can not move.
    """
    levels = frame_levels(x, rate)
    if not len(levels):
        return -120.0
    loud = levels[levels >= quiet_threshold(levels)]
    return float(np.percentile(loud if len(loud) else levels, 75))


def level_match(original: Signal, take: Signal, rate: int) -> float:
    """Gain in dB that brings a take's speech, (n,), to the level of an original's, (m,): at most `MOST_GAIN_DB` either way."""
    return round(float(np.clip(speech_level(original, rate) - speech_level(take, rate), -MOST_GAIN_DB, MOST_GAIN_DB)), 2)


def planned_splice(
    original: Side,
    take: Side,
    changed: range,
    rate: int,
    *,
    recording: str,
    tone: ToneSource,
    take_id: str = "",
    match_level: bool = True,
    choose: tuple[int, int] = (0, 0),
) -> Plan:
    """Plan to put a take in for the words that changed.

    Parameters
    ----------
    original, take : Side
        Both with gaps before every token of the line and after its last.
    changed : range
        Tokens of the line that must come from the take.
    choose : (int, int)
        Ranks of the entering and leaving proposals to use; (0, 0) takes the best pair.

    Raises
    ------
    EditRefused
        No boundary fits.
    """
    count = len(original.entering) - 1
    entering = ranked_boundaries(original, take, range(changed.start + 1), rate, entering=True, nearest=changed.start)
    leaving = ranked_boundaries(original, take, range(changed.stop, count + 1), rate, entering=False, nearest=changed.stop)
    if choose == (0, 0):
        first, last = best_pair(entering, leaving)
    elif choose[0] < len(entering) and choose[1] < len(leaving):
        first, last = entering[choose[0]], leaving[choose[1]]
    else:
        raise EditRefused("There is no such boundary to choose.")
    if last.take <= first.take or last.original < first.original:
        raise EditRefused("These two boundaries leave nothing of the take. Choose another pair.")
    gain = level_match(original.sound, take.sound, rate) if match_level else 0.0
    command = ReplaceByTake(
        start=first.original,
        stop=max(last.original, first.original + 1),
        recording=recording,
        take_start=first.take,
        take_stop=last.take,
        gain_db=gain,
        tone=tone,
        join_in=Join(first.crossfade, "equal_power"),
        join_out=Join(last.crossfade, "equal_power"),
        take=take_id,
    )
    return Plan(tuple(entering), tuple(leaving), first, last, gain, command)
