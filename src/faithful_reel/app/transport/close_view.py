"""The loupe with the chapter at hand in it."""

from __future__ import annotations

from faithful_reel.app.editing.presenter import Editing
from faithful_reel.app.transport.presenter import Transport
from faithful_reel.app.widgets.loupe import Loupe, LoupeContent
from faithful_reel.core.measure.picture import spectrogram
from faithful_reel.core.memo import Seen
from faithful_reel.core.reel.reel import recordings_of
from faithful_reel.core.work.mending import tone_level
from faithful_reel.core.work.splicing import placed_joins


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
        editing.listen(self._marked)

    def _marked(self) -> None:
        self.set_spans([(s.start, s.stop) for s in self._editing.spans])

    def show_position(self, position: int, *, follow: bool) -> None:
        """As the transport tells its views."""
        self.set_playhead(position, follow=follow)

    def refresh(self) -> None:
        """Show the chapter's sound as it is now."""
        bench = self._transport.bench
        chapter = bench.chapter
        reel = chapter.reel if chapter else None
        drawn = tuple(bench.overview(r) is not None for r in recordings_of(reel)) if reel else ()
        if not self._shown.changed(reel, chapter.hearing if chapter else "", drawn, chapter.id if chapter else ""):
            return
        if chapter is None or reel is None:
            self.set_content(LoupeContent(rate=bench.book.rate))
            return
        words = bench.tokens(chapter).heard()
        self.set_content(
            LoupeContent(
                bench.columns(reel),
                bench.render_here(reel),
                spectrogram,
                len(reel),
                bench.book.rate,
                words,
                placed_joins(reel),
                tone_level(bench.book, chapter),
            )
        )
        if len(words) and self._transport.spot == 0:
            self._transport.spot = words[0].start
            self.look_at(words[0].start + bench.book.rate)
