"""The loupe with the chapter at hand in it."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from faithful_reel.app.editing.presenter import Editing
from faithful_reel.app.settings import Settings, number, text
from faithful_reel.app.transport.presenter import Transport
from faithful_reel.app.widgets.loupe import Loupe, LoupeContent, LoupeLane
from faithful_reel.app.widgets.loupe.content import Spectrum
from faithful_reel.core.measure.picture import Scale, SpectrumLook, spectrogram
from faithful_reel.core.memo import Seen
from faithful_reel.core.reel.look import lane_look
from faithful_reel.core.reel.reel import Reel, recordings_of
from faithful_reel.core.reel.render import Row, heard_lanes
from faithful_reel.core.times import TimeFormat
from faithful_reel.core.units import Signal, decibels
from faithful_reel.core.work.editing import lane_told
from faithful_reel.core.work.mending import tone_level

METERED_S = 0.05
FRAMES = (256, 512, 1024, 2048, 4096)
"""Windows of the spectrogram, in samples: quicker to finer."""
TOPS_HZ = (5000.0, 10_000.0, 20_000.0)
DEPTHS_DB = (50.0, 65.0, 80.0, 100.0)
"""How deep it shows: less is more contrast."""


class CloseView(Loupe):
    """Follows the transport; shows the chapter's sound, and what is marked in it."""

    def __init__(self, transport: Transport, editing: Editing, settings: Settings) -> None:
        super().__init__()
        self._transport, self._editing, self._settings = transport, editing, settings
        scale = text(settings, "spectrum/scale", Scale.VOICE.name)
        self.look = SpectrumLook(
            Scale[scale] if scale in Scale.__members__ else Scale.VOICE,
            number(settings, "spectrum/top", TOPS_HZ[-1], TOPS_HZ[0], TOPS_HZ[-1]),
            number(settings, "spectrum/depth", 80.0, DEPTHS_DB[0], DEPTHS_DB[-1]),
            round(number(settings, "spectrum/frame", 1024, FRAMES[0], FRAMES[-1])),
        )
        self._shown = Seen()
        self.snap = editing.snapped
        self.clicked.connect(transport.go_to)
        self.span_wanted.connect(editing.draw)
        self.none_wanted.connect(editing.clear)
        self.let_go.connect(editing.let_go)
        self.lane_wanted.connect(editing.choose_lane)
        editing.listen(self._marked)

    def _marked(self) -> None:
        self.set_spans([(s.start, s.stop) for s in self._editing.spans], self._editing.shown_lane)
        self.set_lane(self._editing.lane)
        self.set_going([(s.start, s.stop) for s in self._editing.going])

    def show_position(self, position: int, *, follow: bool) -> None:
        """As the transport tells its views; while the chapter plays each lane's level is shown."""
        self.set_playhead(position, follow=follow)
        lanes = self._content.lanes
        if self._transport.plays_chapter and self._transport.playing and len(lanes) > 1:
            edges = np.array([position, position + round(METERED_S * self._content.rate)], np.float64)
            heard = {k: lane for k, lane in enumerate(lanes) if not lane.silent and not lane.hidden}
            self.set_levels({k: decibels(float(np.abs(lane.columns(edges)).max())) for k, lane in heard.items()})

    def set_look(self, look: SpectrumLook) -> None:
        """Draw the spectrogram otherwise, now and from now on."""
        self.look = look
        for key, value in (("scale", look.scale.name), ("top", look.top_hz), ("depth", look.deepest_db), ("frame", look.frame)):
            self._settings.setValue(f"spectrum/{key}", value)
        self._shown.forget()
        self.refresh()

    def refresh(self) -> None:
        """Show the chapter's sound as it is now."""
        bench = self._transport.bench
        chapter = bench.chapter
        reel = chapter.reel if chapter else None
        drawn = tuple(bench.overview(r) is not None for r in recordings_of(reel)) if reel else ()
        times = bench.times
        if not self._shown.changed(reel, chapter.hearing if chapter else "", drawn, chapter.id if chapter else "", times.name):
            return
        if chapter is None or reel is None:
            self.set_content(LoupeContent(rate=bench.book.rate))
            return
        words = bench.tokens(chapter).heard()
        self.set_content(
            LoupeContent(
                tuple(self._lane(reel, k) for k in range(len(reel.lanes))),
                self._spectrum(),
                len(reel),
                bench.book.rate,
                words,
                tone_level(bench.book, chapter),
                bench.time,
                None if bench.times is TimeFormat.CLOCK else bench.time,
                tuple((m.at, m.name, m.color) for m in reel.markers),
            )
        )
        if len(words) and self._transport.spot == 0:
            self._transport.spot = words[0].start
            self.look_at(words[0].start + bench.book.rate)

    def _lane(self, reel: Reel, index: int) -> LoupeLane:
        bench, lane = self._transport.bench, reel.lanes[index]
        alone = replace(lane, muted=False, solo=False)
        return LoupeLane(
            lane.name,
            bench.columns(reel, index),
            bench.render_here(Reel((alone,))),
            partial(lane_look, Row(lane)),
            "muted" if lane.muted else "" if lane in heard_lanes(reel) else "others are heard alone",
            lane_told(lane, bench.book.rate),
            lane.color,
            lane.hidden,
        )

    def _spectrum(self) -> Spectrum:
        look, rate = self.look, self._transport.bench.book.rate

        def shades(x: Signal, width: int, height: int) -> NDArray[np.float32]:
            return spectrogram(x, width, height=height, rate=rate, look=look)

        return Spectrum(shades, look.share_of)
