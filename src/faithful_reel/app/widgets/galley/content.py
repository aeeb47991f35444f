"""What a galley shows.  No Qt."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import NamedTuple, overload

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.work.page import Mark, Other

Columns = Callable[[NDArray[np.float64]], NDArray[np.float32]]
"""Of (width + 1,) rising positions the (2, width) minima and maxima of the sound between each two."""


class Cell(NamedTuple):
    """One word to set: `start` and `stop` are samples, -1 where it is not heard; `word` is -1 for heard-only words."""

    text: str
    word: int
    start: int
    stop: int
    extra: bool = False
    paragraph: int = 0
    heading: bool = False
    italic: bool = False


@dataclass(frozen=True, slots=True, eq=False)
class Cells(Sequence[Cell]):
    """The words of a page as columns of n entries; a cell is made when it is asked for."""

    texts: Sequence[str]
    words: NDArray[np.int64]
    starts: NDArray[np.int64]
    stops: NDArray[np.int64]
    paragraphs: NDArray[np.int64]
    headings: NDArray[np.int64]
    italics: NDArray[np.int64]

    @classmethod
    def of(cls, cells: Iterable[Cell]) -> Cells:
        """From cells one by one."""
        texts, words, starts, stops, _, *styles = zip(*cells, strict=True) if (cells := list(cells)) else ((),) * 8
        return cls(texts, *(np.array(column, np.int64) for column in (words, starts, stops, *styles)))

    def __len__(self) -> int:
        return len(self.texts)

    @overload
    def __getitem__(self, index: int) -> Cell: ...
    @overload
    def __getitem__(self, index: slice) -> list[Cell]: ...
    def __getitem__(self, index: int | slice) -> Cell | list[Cell]:
        if isinstance(index, slice):
            return [self[i] for i in range(*index.indices(len(self)))]
        word = int(self.words[index])
        start, stop, paragraph = int(self.starts[index]), int(self.stops[index]), int(self.paragraphs[index])
        heading, italic = bool(self.headings[index]), bool(self.italics[index])
        return Cell(self.texts[index], word, start, stop, word < 0, paragraph, heading, italic)


@dataclass(frozen=True, slots=True, eq=False)
class Strip:
    """The sound of one lane, drawn under every line."""

    name: str
    columns: Columns
    joins: tuple[int, ...] = ()
    color: str = ""
    """The theme's role that it is drawn in; empty for the usual one."""
    under: Callable[[int, int], object] | None = None
    """What sounds between two samples, as a value that is equal where the sound is: a strip is drawn anew when it changes."""


@dataclass(frozen=True, slots=True)
class GalleyContent:
    """All that a galley shows."""

    cells: Cells = field(default_factory=partial(Cells.of, ()))
    marks: tuple[Mark, ...] = ()
    strips: tuple[Strip, ...] = ()
    """From the top; the words' times are those of the first."""
    length: int = 0
    rate: int = 44_100
    time: Callable[[int], str] = str
    """How a position is told."""
    pages: tuple[tuple[int, int], ...] = ()
    """(word, page) where a page of the manuscript begins."""
    breaks: frozenset[int] = frozenset()
    """Paragraphs with which a new scene begins."""
    lines: frozenset[int] = frozenset()
    """Words that begin a line within their paragraph, as in verse."""
    others: tuple[Other, ...] = ()
    """Other readings of lines, in order of their first word."""
    other_columns: Columns | None = None
    """The sound of the recording that they are in."""
