"""Placing a take: the ranked boundaries, the pair of them that is used, and the command that does it."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from faithful_reel.core.audio.roomtone import frame_levels, quiet_threshold
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import ReplaceByTake, ToneSource
from faithful_reel.core.reel.reel import Join, LaneRef, Shape
from faithful_reel.core.splice.boundaries import Boundary, Pair, Side, best_pair
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


@dataclass(frozen=True, slots=True)
class Choice:
    """Which of the ranked proposals to use where the take begins and ends, and how many samples each end is moved by hand.

    (0, 0) takes the best pair.
    """

    entering: int = 0
    leaving: int = 0
    moved_in: int = 0
    moved_out: int = 0


BEST = Choice()


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
    gain_db: float = 0.0,
    choice: Choice = BEST,
    lane: LaneRef = 0,
    pace: float = 1.0,
    one_breath: bool = True,
    within: range | None = None,
) -> Plan:
    """Plan to put a take in for the words that changed.

    Parameters
    ----------
    original, take : Side
        Both with gaps before every token of the line and after its last; the take's sound as it will be heard, its gain in it.
    changed : range
        Tokens of the line that must come from the take.
    gain_db : float
        The gain that the take's piece gets.
    choice : Choice
        Which proposals to use.
    pace : float
        How many times as fast the take is still read.
    one_breath : bool
        Whether a pause that is joined keeps one breath, where there is one on either side.
    within : range, optional
        Tokens that the take may bring beside those that changed: the others come from other takes.  All where it is not given.

    Raises
    ------
    EditRefused
        No boundary fits.
    """
    count = len(original.entering) - 1
    pair = Pair(original, take, rate, pace, one_breath=one_breath)
    free = within if within is not None else range(count)
    entering = pair.ranked(range(free.start, changed.start + 1), entering=True, nearest=changed.start)
    leaving = pair.ranked(range(changed.stop, free.stop + 1), entering=False, nearest=changed.stop)
    if (choice.entering, choice.leaving) == (0, 0):
        first, last = best_pair(entering, leaving)
    elif choice.entering < len(entering) and choice.leaving < len(leaving):
        first, last = entering[choice.entering], leaving[choice.leaving]
    else:
        raise EditRefused("There is no such boundary to choose.")
    begin, end = _moved(first, choice.moved_in), _moved(last, choice.moved_out)
    if end.take <= begin.take or end.original < begin.original:
        raise EditRefused("These two boundaries leave nothing of the take. Choose another pair.")
    command = ReplaceByTake(
        start=begin.original,
        stop=max(end.original, begin.original + 1),
        recording=recording,
        take_start=begin.take,
        take_stop=end.take,
        gain_db=gain_db,
        tone=tone,
        join_in=Join(begin.crossfade, _shape(begin)),
        join_out=Join(end.crossfade, _shape(end)),
        take=take_id,
        lane=lane,
    )
    return Plan(tuple(entering), tuple(leaving), first, last, gain_db, command)


def _shape(boundary: Boundary) -> Shape:
    return "equal_gain" if boundary.like else "equal_power"


def _moved(boundary: Boundary, by: int) -> Boundary:
    """A boundary moved by hand: one side gives what the other takes."""
    return replace(boundary, original=boundary.original + by, take=boundary.take + by) if by else boundary
