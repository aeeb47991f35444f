"""What a loupe shows, and where it stands on it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from faithful_reel.app.theme import Theme
from faithful_reel.app.widgets.galley import Columns
from faithful_reel.core.reel.look import LaneLook
from faithful_reel.core.units import Signal

LEAST_LANE, GAP = 48.0, 3.0
"""Pixels: a lane that is still seen, what lies between two."""
HIGHEST_DB, LOWEST_DB = 12.0, -30.0


class LoupeWord(Protocol):
    """A word's text and edges, in samples."""

    @property
    def text(self) -> str: ...
    @property
    def start(self) -> int: ...
    @property
    def stop(self) -> int: ...


class LoupeWords(Protocol):
    """Words in the order of time, with their starts as a column."""

    @property
    def starts(self) -> NDArray[np.int64]: ...
    def __getitem__(self, index: int, /) -> LoupeWord: ...


@dataclass(frozen=True, slots=True, eq=False)
class LoupeLane:
    """One lane: its columns, its samples, and what is drawn on them between two positions."""

    name: str
    columns: Columns
    render: Callable[[int, int], Signal]
    look: Callable[[int, int], LaneLook]
    silent: str = ""
    """Why it is not heard: muted, or others are heard alone; empty where it is."""
    told: str = ""
    """What else there is to say of it: its level, that it is not linked, how far it is out of step."""
    color: str = ""
    """The theme's role that it is drawn in; empty for the usual one."""
    hidden: bool = False


@dataclass(frozen=True, slots=True, eq=False)
class Spectrum:
    """A spectrogram: shades 0 to 1 of (n,) audio, (height, width); and where a frequency stands, from 0 at the foot to 1."""

    shades: Callable[[Signal, int, int], NDArray[np.float32]]
    height_of: Callable[[float], float]


@dataclass(frozen=True, slots=True, eq=False)
class LoupeContent:
    """What a loupe shows: lanes, a spectrogram of them; `tone_level` is the amplitude of the first one's room tone."""

    lanes: tuple[LoupeLane, ...] = ()
    spectrum: Spectrum | None = None
    length: int = 0
    rate: int = 44_100
    words: LoupeWords | None = None
    tone_level: float | None = None
    time: Callable[[int], str] = str
    """How a position is told."""
    short_time: Callable[[int, int], str] | None = None
    """How it is told on the ruler, with so many digits of the second; None: by minutes and seconds."""
    markers: tuple[tuple[int, str, str], ...] = ()
    """(position, name, the theme's role of its colour)."""


@dataclass(frozen=True, slots=True)
class Scene:
    """A stretch of a chapter on a widget: what lies where, in pixels as drawn."""

    content: LoupeContent
    theme: Theme
    first: float
    span: float
    width: int
    height: int
    words_h: float
    ruler_h: float
    shown: tuple[int, ...]
    lane: int
    scale: float
    """Device pixels of a pixel."""
    taller: float = 1.0
    """How much higher the wave stands than it is."""
    spectrum: bool = False

    @property
    def samples_per_pixel(self) -> float:
        """How close it looks."""
        return self.span / max(1, self.width)

    def x(self, position: float) -> float:
        """Where a position stands."""
        return (position - self.first) / self.span * self.width

    def at(self, x: float) -> int:
        """The position that stands somewhere."""
        return int(np.clip(round(self.first + x / max(1, self.width) * self.span), 0, self.content.length))

    @property
    def lane_h(self) -> float:
        """Height of one lane."""
        count = max(1, len(self.shown))
        return (self.height - self.words_h - self.ruler_h - GAP * (count - 1)) / count

    def top_of(self, index: int) -> float:
        """Where a lane that is shown begins."""
        return self.words_h + self.shown.index(index) * (self.lane_h + GAP)

    def lane_at(self, y: float) -> int:
        """The lane that stands somewhere; -1 for none."""
        for index in self.shown:
            top = self.top_of(index)
            if top <= y < top + self.lane_h:
                return index
        return -1

    def y_of(self, gain_db: float, index: int) -> float:
        """Where a gain stands on a lane: +12 dB at its top, −30 dB and less at its foot."""
        share = (HIGHEST_DB - max(LOWEST_DB, min(HIGHEST_DB, gain_db))) / (HIGHEST_DB - LOWEST_DB)
        return self.top_of(index) + self.lane_h * share

    def gain_at(self, y: float, index: int) -> float:
        """The gain that stands somewhere on a lane, in steps of 0.1 dB."""
        share = min(1.0, max(0.0, (y - self.top_of(index)) / max(1.0, self.lane_h)))
        return round(HIGHEST_DB - share * (HIGHEST_DB - LOWEST_DB), 1)
