"""The loupe with the chapter at hand in it."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

from faithful_reel.app.editing.presenter import Editing
from faithful_reel.app.transport.presenter import Transport
from faithful_reel.app.widgets.loupe import Loupe, LoupeContent, LoupeLane
from faithful_reel.core.measure.picture import spectrogram
from faithful_reel.core.memo import Seen
from faithful_reel.core.reel.look import lane_look
from faithful_reel.core.reel.reel import Reel, recordings_of
from faithful_reel.core.reel.render import Row, heard_lanes
from faithful_reel.core.work.editing import lane_told
from faithful_reel.core.work.mending import tone_level


class CloseView(Loupe):
    """Follows the transport; shows the chapter's sound, and what is marked in it."""

    def __init__(self, transport: Transport, editing: Editing) -> None:
        super().__init__()
        self._transport, self._editing = transport, editing
        self._shown = Seen()
        self.snap = editing.snapped
        self.clicked.connect(transport.go_to)
        self.span_wanted.connect(editing.select)
        self.none_wanted.connect(editing.clear)
        self.let_go.connect(editing.let_go)
        self.lane_wanted.connect(editing.choose_lane)
        editing.listen(self._marked)

    def _marked(self) -> None:
        self.set_spans([(s.start, s.stop) for s in self._editing.spans])
        self.set_lane(self._editing.lane)
        self.set_going([(s.start, s.stop) for s in self._editing.going])

    def show_position(self, position: int, *, follow: bool) -> None:
        """As the transport tells its views."""
        self.set_playhead(position, follow=follow)

    def refresh(self) -> None:
        """Show the chapter's sound as it is now."""
        bench = self._transport.bench
        chapter = bench.chapter
        reel = chapter.reel if chapter else None
        drawn = tuple(bench.overview(r) is not None for r in recordings_of(reel)) if reel else ()
        times = self._editing.times
        if not self._shown.changed(reel, chapter.hearing if chapter else "", drawn, chapter.id if chapter else "", times.name):
            return
        if chapter is None or reel is None:
            self.set_content(LoupeContent(rate=bench.book.rate))
            return
        words = bench.tokens(chapter).heard()
        self.set_content(
            LoupeContent(
                tuple(self._lane(reel, k) for k in range(len(reel.lanes))),
                spectrogram,
                len(reel),
                bench.book.rate,
                words,
                tone_level(bench.book, chapter),
                tuple((m.at, m.name) for m in reel.markers),
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
        )
