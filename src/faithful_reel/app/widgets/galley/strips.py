"""The sound under the words: strips, the joins on them, other readings below."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QImage, QPainter, QPen

from faithful_reel.app.theme import Theme
from faithful_reel.app.widgets.galley.content import Columns, Strip
from faithful_reel.app.widgets.galley.setting import Line, Measures
from faithful_reel.core.work.page import Other

OTHER_H = 7.0
MOST_OTHERS = 2
POWER = np.float32(0.6)
"""Heights are compressed so that a quiet word is still seen."""


def draw_sound(
    painter: QPainter, found: NDArray[np.float32], x: float, y: float, height: float, theme: Theme, scale: float, color: str = ""
) -> None:
    """Paint (2, width) minima and maxima, at `scale` device pixels a column, in a strip."""
    width = found.shape[1]
    rows = max(1, round(height * scale))
    if not width:
        return
    shaped = np.sign(found) * np.abs(found) ** POWER
    half = rows / 2
    top = np.clip(np.round(half - shaped[1] * half), 0, rows - 1).astype(np.int16)
    bottom = np.clip(np.round(half - shaped[0] * half), 1, rows).astype(np.int16)
    bottom = np.maximum(bottom, top + 1)
    index = np.arange(rows, dtype=np.int16)[:, None]
    pixels = ((index >= top) & (index < bottom)) * np.uint32(theme.color_of(color, "wave").rgba())
    image = QImage(memoryview(pixels).cast("B"), width, rows, 4 * width, QImage.Format.Format_ARGB32_Premultiplied)  # type: ignore[call-overload]
    image.setDevicePixelRatio(scale)
    painter.drawImage(QPointF(x, y), image)


def draw_strip(painter: QPainter, strip: Strip, line: Line, top: float, measures: Measures, theme: Theme, scale: float) -> None:
    """One lane's sound under a line, with the joins on it."""
    if not line.ts:
        return
    left, right = line.xs[0], line.xs[-1]
    painter.fillRect(QRectF(left, top, right - left, measures.strip_h), theme.color("strip"))
    columns = max(1, round((right - left) * scale))
    if right > left:
        edges = line.at + np.interp(np.linspace(left, right, columns + 1), line.xs, line.ts)
        draw_sound(painter, strip.columns(edges), left, top, measures.strip_h, theme, scale, strip.color)
    painter.setPen(QPen(theme.color("ink"), 1.2))
    first, last = line.at + line.ts[0], line.at + line.ts[-1]
    foot = top + measures.strip_h
    for at in strip.joins[bisect_right(strip.joins, first) : bisect_right(strip.joins, last)]:
        x = line.x_of(at)
        painter.drawLine(QPointF(x - 4, foot + 1), QPointF(x, foot - 4))
        painter.drawLine(QPointF(x, foot - 4), QPointF(x + 4, foot + 1))


def others_in(line: Line, written: Sequence[int], others: Sequence[Other]) -> list[Other]:
    """The other readings of a line's words."""
    if not others or not line.cells:
        return []
    words = [w for w in written[line.first : line.stop] if w >= 0]
    if not words:
        return []
    return [o for o in others if o.first <= words[-1] and o.first + o.count > words[0]][:MOST_OTHERS]


def draw_others(
    painter: QPainter,
    others: Sequence[Other],
    line: Line,
    written: Sequence[int],
    columns: Columns | None,
    measures: Measures,
    theme: Theme,
    scale: float,
) -> None:
    """A quiet strip under the line for every other reading, below the words that it reads."""
    for row, other in enumerate(others):
        inside = range(other.first, other.first + other.count)
        here = [(written[i], a, b) for i, a, b in line.placed() if written[i] in inside]
        if not here:
            continue
        left, right = here[0][1], here[-1][2]
        y = measures.text_h + measures.sound_h + 3 + 8 * row
        begin = other.start + (other.stop - other.start) * (here[0][0] - other.first) / other.count
        end = other.start + (other.stop - other.start) * (here[-1][0] + 1 - other.first) / other.count
        painter.fillRect(QRectF(left, y, right - left, OTHER_H), theme.color("strip"))
        width = round((right - left) * scale)
        if columns is not None and width > 0:
            draw_sound(painter, columns(np.linspace(begin, end, width + 1)), left, y, OTHER_H, theme, scale, "quiet")
