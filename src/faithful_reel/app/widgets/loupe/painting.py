"""What lies on the sound in the loupe: words, pieces, joins, fades, gain lines, markers, names, the ruler."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from faithful_reel.app.theme import control_font, over_sound, reading_font, scale_of_letters
from faithful_reel.app.widgets.loupe.content import Scene
from faithful_reel.app.widgets.loupe.waves import SPECTRUM_LONGEST_S, Waves
from faithful_reel.core.reel.look import LaneLook

LEAST_EDGES = 22.0
"""Pixels a second: from farther the edges of words would only be in the way."""
NAME_ROOM, CURVE_ROOM = 40.0, 6.0
"""Pixels that a name and a curve need."""
TICKS_S = (0.0005, 0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 60, 120, 300, 600)
TICKS_HZ = (500, 1000, 2000, 5000, 10_000, 20_000)
Spans = Sequence[tuple[int, int]]


def paint(painter: QPainter, scene: Scene, waves: Waves, spans: Spans, going: Spans, span_lane: int = -1) -> dict[int, float]:
    """Words and their edges above, the lanes below, times at the foot; how wide each lane's name is.

    What is marked is on one lane, or below 0 on all of them.
    """
    theme = scene.theme
    painter.fillRect(QRectF(0, 0, scene.width, scene.height), theme.color("page"))
    painter.fillRect(QRectF(0, 0, scene.width, 1), theme.color("hairline"))
    widths: dict[int, float] = {}
    for index in scene.shown:
        _paint_lane(painter, scene, waves, index, spans if span_lane in (-1, index) else (), going)
        if len(scene.content.lanes) > 1:
            widths[index] = _paint_name(painter, scene, index)
    if scene.shown[:1] == (0,) and not scene.spectrum:
        _paint_tone(painter, scene)
    if scene.content.words is not None:
        _paint_words(painter, scene)
    _paint_markers(painter, scene)
    _paint_ruler(painter, scene)
    return widths


def _paint_lane(painter: QPainter, scene: Scene, waves: Waves, index: int, spans: Spans, going: Spans) -> None:
    """One lane's sound, with what lies on it."""
    top, height = scene.top_of(index), scene.lane_h
    painter.fillRect(QRectF(0, top, scene.width, height), scene.theme.color("strip"))
    on_top = scene.spectrum and scene.span / scene.content.rate <= SPECTRUM_LONGEST_S
    if not on_top:
        _paint_spans(painter, scene, spans, top, height)
    waves.paint(painter, scene, index)
    if on_top:
        painter.setCompositionMode(over_sound(scene.theme))
        _paint_spans(painter, scene, spans, top, height)
        painter.setCompositionMode(QPainter.CompositionMode.CompositionMode_SourceOver)
        _paint_frequencies(painter, scene, top, height)
    look = scene.content.lanes[index].look(int(scene.first), int(scene.first + scene.span) + 1)
    _paint_look(painter, scene, index, look)
    pen = QPen(scene.theme.color("red"), 1.4)
    for start, stop in going:
        a, b = scene.x(start), scene.x(stop)
        if b > 0 and a < scene.width:
            painter.setPen(pen)
            painter.drawLine(QPointF(a, top + height / 2), QPointF(b, top + height / 2))
            painter.drawLine(QPointF(a, top + 3), QPointF(a, top + height - 3))
            painter.drawLine(QPointF(b, top + 3), QPointF(b, top + height - 3))


def _paint_spans(painter: QPainter, scene: Scene, spans: Spans, top: float, height: float) -> None:
    for start, stop in spans:
        a, b = scene.x(start), scene.x(stop)
        painter.fillRect(QRectF(a, top, b - a, height), scene.theme.color("lit"))


def _paint_frequencies(painter: QPainter, scene: Scene, top: float, height: float) -> None:
    spectrum = scene.content.spectrum
    assert spectrum is not None
    painter.setFont(control_font(10, figures=True))
    painter.setPen(scene.theme.color("quiet"))
    room, last = 13 * scale_of_letters(), top + 2 * height
    for hz in TICKS_HZ:
        share = spectrum.height_of(hz)
        y = top + height * (1 - share)
        if 0 < share <= 1 and last - y >= room and y - top >= 4:
            last = y
            painter.drawLine(QPointF(scene.width - 6, y), QPointF(scene.width, y))
            told = f"{hz / 1000:g} kHz"
            box = QRectF(scene.width - 70, y - room / 2, 60, room)
            painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, told)


def _paint_name(painter: QPainter, scene: Scene, index: int) -> float:
    lane, theme = scene.content.lanes[index], scene.theme
    told = ", ".join(filter(None, (lane.name, lane.silent, lane.told)))
    painter.setFont(control_font(11))
    width, height = painter.fontMetrics().horizontalAdvance(told) + 16, 15 * scale_of_letters()
    top = scene.top_of(index)
    painter.fillRect(QRectF(0, top, width, height), theme.color("chosen" if scene.lane in (-1, index) else "page"))
    painter.fillRect(QRectF(0, top, 5, height), theme.color_of(lane.color, "wave"))
    painter.setPen(theme.color("ink"))
    painter.drawText(QRectF(10, top, width, height), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, told)
    return width


def _paint_look(painter: QPainter, scene: Scene, index: int, look: LaneLook) -> None:
    """Pieces with their names, joins, fades and crossfades as they will be, the gain line with its points."""
    theme, top, height = scene.theme, scene.top_of(index), scene.lane_h
    ink, quiet, foot = theme.color("ink"), theme.color("quiet"), top + height
    painter.setFont(control_font(10.5))
    for piece in look.pieces:
        a, b = scene.x(piece.start), scene.x(piece.stop)
        if piece.kind == "room_tone":
            hatch = QPen(quiet, 1)
            hatch.setDashPattern([1, 4])
            painter.setPen(hatch)
            painter.drawLine(QPointF(max(0.0, a), foot - 3), QPointF(min(float(scene.width), b), foot - 3))
        if piece.color:
            painter.fillRect(
                QRectF(max(0.0, a) + 1, foot - 3, max(1.0, min(float(scene.width), b) - max(0.0, a) - 2), 3),
                theme.color_of(piece.color, "wave"),
            )
        if piece.name and b - max(0.0, a) > NAME_ROOM:
            painter.setPen(quiet)
            room = QRectF(max(0.0, a) + 4, foot - 17 * scale_of_letters(), b - max(0.0, a) - 8, 15 * scale_of_letters())
            shown = painter.fontMetrics().elidedText(piece.name, Qt.TextElideMode.ElideRight, int(room.width()))
            painter.drawText(room, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, shown)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(ink, 1))
    for curve in look.curves:
        a, b = scene.x(curve.start), scene.x(curve.stop)
        if b - a >= CURVE_ROOM:
            step = (b - a) / (len(curve.gains) - 1)
            painter.drawPolyline(QPolygonF([QPointF(a + k * step, foot - g * height) for k, g in enumerate(curve.gains)]))
    painter.setPen(QPen(theme.color("blue"), 1.2))
    if look.line:
        painter.drawPolyline(QPolygonF([QPointF(scene.x(at), scene.y_of(gain_db, index)) for at, gain_db in look.line]))
        painter.setBrush(theme.color("page"))
        for at, gain_db in look.points:
            painter.drawEllipse(QPointF(scene.x(at), scene.y_of(gain_db, index)), 3, 3)
        painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, on=False)
    painter.setPen(QPen(ink, 1.6))
    for at, _ in look.joins:
        x = scene.x(at)
        painter.drawLine(QPointF(x, top), QPointF(x, foot))
        painter.drawLine(QPointF(x - 6, foot), QPointF(x, foot - 7))
        painter.drawLine(QPointF(x, foot - 7), QPointF(x + 6, foot))


def _paint_markers(painter: QPainter, scene: Scene) -> None:
    """Small flags at the top, with their names."""
    top, foot = scene.words_h, scene.height - scene.ruler_h
    painter.setFont(control_font(10.5))
    for at, name, color in scene.content.markers:
        x = scene.x(at)
        if -NAME_ROOM <= x <= scene.width:
            shade = scene.theme.color_of(color, "ink")
            painter.setPen(QPen(shade, 1))
            painter.drawLine(QPointF(x, top - 6), QPointF(x, foot))
            painter.setBrush(shade)
            painter.drawPolygon(QPolygonF([QPointF(x, top - 6), QPointF(x + 8, top - 3), QPointF(x, top)]))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawText(QPointF(x + 4, top + 12 * scale_of_letters()), name)


def _paint_tone(painter: QPainter, scene: Scene) -> None:
    level = scene.content.tone_level
    if level is None:
        return
    pen = QPen(scene.theme.color("quiet"), 1)
    pen.setDashPattern([2, 5])
    painter.setPen(pen)
    top, height = scene.top_of(0), scene.lane_h
    reach = height / 2 * min(1.0, level * scene.taller) ** 0.6
    for y in (top + height / 2 - reach, top + height / 2 + reach):
        painter.drawLine(QPointF(0, y), QPointF(scene.width, y))


def _paint_words(painter: QPainter, scene: Scene) -> None:
    words = scene.content.words
    assert words is not None
    start, stop, top, foot = scene.first, scene.first + scene.span, scene.words_h, scene.height - scene.ruler_h
    painter.setFont(reading_font(14))
    dots = QPen(scene.theme.color("quiet"), 1)
    dots.setDashPattern([1, 3])
    px_a_second = scene.width / scene.span * scene.content.rate
    if px_a_second < LEAST_EDGES:
        return
    wide = px_a_second > 45
    first, last = np.searchsorted(words.starts, (start, stop), side="right").tolist()
    for index in range(max(0, first - 1), last):
        word = words[index]
        if word.stop < start:
            continue
        a, b = scene.x(word.start), scene.x(word.stop)
        painter.setPen(dots)
        painter.drawLine(QPointF(a, 2), QPointF(a, foot))
        painter.drawLine(QPointF(b, top - 4), QPointF(b, foot))
        if wide and b - a > painter.fontMetrics().horizontalAdvance(word.text):
            painter.setPen(scene.theme.color("ink"))
            room = QRectF(a + 3, 0, max(60.0, b - a), scene.words_h)
            painter.drawText(room, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, word.text)


def _paint_ruler(painter: QPainter, scene: Scene) -> None:
    y, rate = scene.height - scene.ruler_h, scene.content.rate
    seconds = scene.span / rate
    step = next((s for s in TICKS_S if s >= seconds / 9), TICKS_S[-1])
    painter.setFont(control_font(10.5, figures=True))
    painter.setPen(scene.theme.color("quiet"))
    at = np.ceil(max(0.0, scene.first) / rate / step) * step
    digits = 4 if step < 0.01 else 2 if step < 1 else 0
    while at * rate < min(scene.content.length, scene.first + scene.span):
        x = scene.x(at * rate)
        painter.drawLine(QPointF(x, y), QPointF(x, y + 4))
        own = scene.content.short_time
        by_minutes = f"{int(at // 60)}:{at % 60:0{3 + digits if digits else 2}.{digits}f}"
        told = own(round(at * rate), digits) if own is not None else by_minutes
        painter.drawText(QPointF(x + 3, y + 12 * scale_of_letters()), told)
        at += step
    hidden = [lane.name for lane in scene.content.lanes if lane.hidden]
    if hidden:
        told = f"hidden: {', '.join(hidden)}"
        box = QRectF(scene.width / 2, y, scene.width / 2 - 6, scene.ruler_h)
        room = painter.fontMetrics().horizontalAdvance(told) + 12
        painter.fillRect(QRectF(scene.width - room, y, room, scene.ruler_h), scene.theme.color("page"))
        painter.setPen(scene.theme.color("ink"))
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, told)
