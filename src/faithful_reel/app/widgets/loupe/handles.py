"""What can be taken hold of on a lane: gain points, joins, crossfades, fades; and what dragging it comes to."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

from faithful_reel.app.widgets.loupe.content import Scene
from faithful_reel.core.reel.reel import MOST_BEND

REACH = 6.0
"""Pixels: so near is on it."""
LEAST_HEIGHT = 44.0
"""A lane lower than this has no grips."""
GRIP_TOP, FADE_TOP = 5.0, 24.0
APART = 7.0
"""Pixels that the grips of fades stand inside of their pieces, so that the two at a join are told apart."""
BEND_PX = 30.0
"""So far up or down bends a curve by 1."""


class Hold(Enum):
    """Kinds of grips."""

    POINT = "point"
    JOIN = "join"
    CROSSFADE = "crossfade"
    FADE_IN = "fade in"
    FADE_OUT = "fade out"


@dataclass(frozen=True, slots=True)
class Grip:
    """One grip: of what, where its thing stands in the reel, where it is drawn; `value` is a gain in dB, or a bend."""

    hold: Hold
    lane: int
    at: int
    x: float
    y: float
    value: float = 0.0


@dataclass(frozen=True, slots=True)
class Dragged:
    """Where a grip was dragged to: a position or a length in samples, and a gain or a bend."""

    grip: Grip
    to: int
    value: float
    carried: bool = False
    """Whether what follows a join is carried along."""

    def told(self, rate: int) -> str:
        """For who drags."""
        match self.grip.hold:
            case Hold.POINT:
                return f"{self.value:+.1f} dB"
            case Hold.JOIN:
                what = "edge" if self.carried else "join"
                return f"{what} {1000 * (self.to - self.grip.at) / rate:+.1f} ms"
            case Hold.CROSSFADE:
                return f"crossfade {1000 * self.to / rate:.0f} ms, bend {self.value:+.1f}"
            case _:
                return f"{self.grip.hold.value} {self.to / rate:.3f} s, bend {self.value:+.1f}"


def grips_of(scene: Scene, index: int) -> list[Grip]:
    """The grips of a lane, those that are taken first come first."""
    if scene.lane_h < LEAST_HEIGHT:
        return []
    look = scene.content.lanes[index].look(int(scene.first), int(scene.first + scene.span) + 1)
    top, foot = scene.top_of(index), scene.top_of(index) + scene.lane_h
    found = [Grip(Hold.POINT, index, at, scene.x(at), scene.y_of(db, index), db) for at, db in look.points]
    for at, length in look.joins:
        found.append(Grip(Hold.JOIN, index, at, scene.x(at), foot - 4))
        found.append(Grip(Hold.CROSSFADE, index, at, scene.x(at) + scene.x(length / 2) - scene.x(0), top + GRIP_TOP))
    for fade in look.fades:
        hold = Hold.FADE_IN if fade.at_start else Hold.FADE_OUT
        end = fade.at + fade.length if fade.at_start else fade.at - fade.length
        found.append(Grip(hold, index, fade.at, scene.x(end) + (APART if fade.at_start else -APART), top + FADE_TOP, fade.bend))
    return [g for g in found if -REACH <= g.x <= scene.width + REACH]


def grip_at(scene: Scene, x: float, y: float) -> Grip | None:
    """The grip that is under the mouse."""
    index = scene.lane_at(y)
    if index < 0:
        return None
    near = [g for g in grips_of(scene, index) if abs(g.x - x) <= REACH and abs(g.y - y) <= REACH]
    return min(near, key=lambda g: (g.hold is not Hold.POINT, abs(g.x - x)), default=None)


def dragged(scene: Scene, grip: Grip, x: float, y: float, *, carried: bool) -> Dragged:
    """What dragging a grip to a place comes to."""
    at = scene.at(x)
    bend = max(-MOST_BEND, min(MOST_BEND, round(grip.value + (y - grip.y) / BEND_PX, 1)))
    match grip.hold:
        case Hold.POINT:
            return Dragged(grip, at, scene.gain_at(y, grip.lane))
        case Hold.JOIN:
            return Dragged(grip, at, 0.0, carried)
        case Hold.CROSSFADE:
            return Dragged(grip, 2 * abs(at - grip.at), bend)
        case Hold.FADE_IN:
            return Dragged(grip, max(0, scene.at(x - APART) - grip.at), bend)
        case Hold.FADE_OUT:
            return Dragged(grip, max(0, grip.at - scene.at(x + APART)), bend)
