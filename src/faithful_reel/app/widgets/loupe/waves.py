"""The sound of a lane as a picture, kept as long as it holds: what is scrolled is moved, and only what is new is drawn."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QPen, QPixmap, QPolygonF

from faithful_reel.app.widgets.galley import draw_sound
from faithful_reel.app.widgets.loupe.content import LoupeLane, Scene

SAMPLES_BELOW, LINE_BELOW, DOTS_BELOW = 64.0, 4.0, 0.2
"""Samples a pixel: nearer, the samples themselves are looked at; drawn as a line; and each as a dot."""
SPECTRUM_LONGEST_S = 30.0


@dataclass(slots=True)
class _Kept:
    """A picture of a lane, and what it is of: its first column counts from the chapter's beginning."""

    lane: LoupeLane
    look: tuple[object, ...]
    column: int
    pixmap: QPixmap


class Waves:
    """The pictures of all lanes."""

    def __init__(self) -> None:
        self._kept: dict[int, _Kept] = {}
        self._spectra: dict[int, tuple[object, LoupeLane, QImage]] = {}

    def forget(self) -> None:
        """Draw all anew."""
        self._kept.clear()
        self._spectra.clear()

    def paint(self, painter: QPainter, scene: Scene, index: int) -> None:
        """The sound of one lane."""
        lane, top, height = scene.content.lanes[index], scene.top_of(index), scene.lane_h
        seconds = scene.span / scene.content.rate
        if scene.spectrum and scene.content.spectrum is not None and seconds <= SPECTRUM_LONGEST_S:
            self._paint_spectrum(painter, scene, index)
        elif scene.samples_per_pixel <= LINE_BELOW:
            _paint_line(painter, scene, lane, top, height)
        else:
            self._paint_wave(painter, scene, index)

    def _paint_wave(self, painter: QPainter, scene: Scene, index: int) -> None:
        """Columns on a grid that counts from the chapter's beginning, so that a picture can be moved along."""
        lane, scale = scene.content.lanes[index], scene.scale
        each = scene.samples_per_pixel / scale
        first, count = math.floor(scene.first / each), round(scene.width * scale) + 2
        rows = max(1, round(scene.lane_h * scale))
        look = (each, count, rows, scene.theme.name, scene.taller)
        kept = self._kept.get(index)
        if kept is None or kept.lane is not lane or kept.look != look or kept.column != first:
            known = kept if kept is not None and kept.lane is lane and kept.look == look else None
            kept = self._kept[index] = _Kept(lane, look, first, self._moved(scene, lane, known, first, count, rows, each))
        painter.drawPixmap(
            QPointF((kept.column * each - scene.first) / scene.samples_per_pixel, scene.top_of(index)), kept.pixmap
        )

    @staticmethod
    def _moved(scene: Scene, lane: LoupeLane, known: _Kept | None, first: int, count: int, rows: int, each: float) -> QPixmap:
        """The picture from column `first` on: what is known of it is moved, the rest is drawn."""
        pixmap = QPixmap(count, rows)
        pixmap.fill(Qt.GlobalColor.transparent)
        pixmap.setDevicePixelRatio(scene.scale)
        start, stop = 0, count
        painter = QPainter(pixmap)
        if known is not None and abs(first - known.column) < count:
            by = first - known.column
            painter.drawPixmap(QPointF(-by / scene.scale, 0), known.pixmap)
            start, stop = (count - by, count) if by > 0 else (0, -by)
        _draw_columns(painter, scene, lane, first + start, stop - start, start, each)
        painter.end()
        return pixmap

    def _paint_spectrum(self, painter: QPainter, scene: Scene, index: int) -> None:
        spectrum, lane = scene.content.spectrum, scene.content.lanes[index]
        assert spectrum is not None
        top, height = scene.top_of(index), scene.lane_h
        key = (scene.first, scene.span, scene.width, int(height), scene.theme.name)
        known = self._spectra.get(index)
        if known is None or known[0] != key or known[1] is not lane:
            start, stop = int(scene.first), int(scene.first + scene.span)
            inside = lane.render(max(0, start), min(scene.content.length, max(stop, 1)))
            x = np.zeros(stop - start, np.float32)
            at = max(0, -start)
            x[at : at + len(inside)] = inside[: len(x) - at]
            shade = spectrum.shades(x, scene.width, max(32, int(height)))
            ink, paper = scene.theme.color("ink"), scene.theme.color("strip")
            ramp = np.array([_mixed(paper, ink, i / 255) for i in range(256)], np.uint32)
            pixels = np.ascontiguousarray(ramp[(np.clip(shade, 0, 1) * 255).astype(np.uint8)])
            rows, columns = pixels.shape
            image = QImage(pixels.tobytes(), columns, rows, columns * 4, QImage.Format.Format_RGB32).copy()
            known = self._spectra[index] = key, lane, image
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(QRectF(0, top, scene.width, height), known[2])


def _draw_columns(painter: QPainter, scene: Scene, lane: LoupeLane, column: int, count: int, at: int, each: float) -> None:
    """`count` columns from one on, drawn from device pixel `at` on."""
    if count <= 0:
        return
    length, taller = scene.content.length, np.float32(scene.taller)
    edges = (column + np.arange(count + 1)) * each
    if each * scene.scale >= SAMPLES_BELOW:
        found = lane.columns(np.clip(edges, 0, length))
    else:  # so close that the samples themselves are looked at
        start, stop = max(0, int(edges[0])), min(length, int(edges[-1]) + 1)
        if stop <= start:
            return
        x = lane.render(start, stop)
        index = np.clip(edges[:-1].astype(np.int64) - start, 0, len(x) - 1)
        found = np.stack([np.minimum.reduceat(x, index), np.maximum.reduceat(x, index)])
        found[:, (edges[:-1] >= length) | (edges[1:] <= 0)] = 0
    color = "quiet" if lane.silent else lane.color
    draw_sound(painter, found * taller, at / scene.scale, 0, scene.lane_h, scene.theme, scene.scale, color)


def _paint_line(painter: QPainter, scene: Scene, lane: LoupeLane, top: float, height: float) -> None:
    """Samples as a line; very close, each as a dot."""
    start = max(0, int(scene.first) - 1)
    stop = min(scene.content.length, int(scene.first + scene.span) + 2)
    if stop <= start:
        return
    x = np.clip(lane.render(start, stop) * scene.taller, -1, 1)
    shaped = np.sign(x) * np.abs(x) ** 0.6
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(scene.theme.color_of("quiet" if lane.silent else lane.color, "wave"), 1.2))
    points = [QPointF(scene.x(start + i), top + height / 2 * (1 - float(v))) for i, v in enumerate(shaped)]
    painter.drawPolyline(QPolygonF(points))
    if scene.samples_per_pixel < DOTS_BELOW:
        painter.setBrush(scene.theme.color_of(lane.color, "wave"))
        for point in points:
            painter.drawEllipse(point, 1.8, 1.8)
        painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, on=False)


def _mixed(paper: QColor, ink: QColor, share: float) -> int:
    r, g, b = (
        round(p + (i - p) * share)
        for p, i in ((paper.red(), ink.red()), (paper.green(), ink.green()), (paper.blue(), ink.blue()))
    )
    return 0xFF000000 | r << 16 | g << 8 | b
