"""What playing does: the spot, the speed, the lead-in, the loop, the shuttle.  No Qt."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from faithful_reel.app.rendering import Rendering, Turn
from faithful_reel.app.settings import Settings, number
from faithful_reel.app.transport.listening import Listening
from faithful_reel.app.workbench import Observed, Workbench
from faithful_reel.core.audio.tempo import FASTEST, SLOWEST
from faithful_reel.core.book.model import ChapterState
from faithful_reel.core.reel.changes import Between
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.units import Span

SPEEDS = (0.75, 0.9, 1.0, 1.1, 1.25, 1.5, 1.75, 2.0, 2.25, 2.5)
LEADS_S = (0.0, 1.0, 2.0, 3.0)
SHUTTLE = (-2.5, -1.5, -1.0, 0.0, 1.0, 1.5, 2.5)
"""Speeds that the shuttle goes through, backwards under zero."""
SOFTEST_DB, VOLUME_STEP_DB = -40.0, 2.0
REST_S = 0.4
"""Between two times that a stretch is heard in a loop."""


class Player(Protocol):
    """Plays sound; see `faithful_reel.app.sound.Player`."""

    volume_db: float

    @property
    def playing(self) -> bool: ...
    @property
    def position(self) -> int: ...
    def play(
        self,
        render: Rendering,
        start: int,
        stop: int,
        rate: int,
        *,
        speed: float = 1.0,
        loop: bool = False,
        backwards: bool = False,
        rest: int = 0,
        shown: Callable[[int], int] = int,
    ) -> None: ...
    def turn(self, turn: Turn) -> None: ...
    def stop(self) -> None: ...
    def use_device(self, device: str) -> None: ...


class TransportView(Protocol):
    """What shows the sound close up."""

    def show_position(self, position: int, *, follow: bool) -> None: ...
    def look_at(self, position: int, *, span_s: float | None = None) -> None: ...
    def bring(self, position: int) -> None: ...


class Transport(Observed):
    """Plays the chapter at hand, or any other reel that a desk lets hear.  Listeners hear of every change but the position."""

    def __init__(self, bench: Workbench, player: Player, settings: Settings, listened: Listening) -> None:
        super().__init__()
        self.bench, self.player, self.listened = bench, player, listened
        self._settings = settings
        self.spot = 0
        self.lead_s = number(settings, "listen/lead", 2.0, 0.0, 60.0)
        self.speed = min(SPEEDS, key=lambda speed: abs(speed - number(settings, "listen/speed", 1.0, SLOWEST, FASTEST)))
        self.looping = False
        self.player.volume_db = number(settings, "listen/volume", 0.0, SOFTEST_DB, 0.0)
        self.views: list[TransportView] = []
        self.elsewhere: list[Callable[[int], None]] = []
        """Told the position where another reel than that of the chapter is heard."""
        self._playing: Reel | None = None
        self._shuttle = 0.0
        self._stretch = Span(0, 0)
        self.aside = False
        """Whether what plays leaves the cursor where it is."""
        self.instead: Reel | None = None
        """The other state of the chapter's reel that is heard in its place."""
        self.told = ""
        """What that state is, in words."""
        self.went_on = False
        """Whether the chapter was playing when the sound was last stopped, but by its own key."""
        self.moves = 0
        """How often the user took the cursor elsewhere."""
        self._chapter = bench.chapter_id
        bench.listen(self._bench_changed)

    def _bench_changed(self) -> None:
        if self.bench.chapter_id != self._chapter:
            self._chapter = self.bench.chapter_id
            self.player.stop()
            self.spot = 0

    # --- playing --------------------------------------------------------------------------------------------------

    @property
    def playing(self) -> bool:
        """Whether sound is going out."""
        return self.player.playing

    @property
    def plays_chapter(self) -> bool:
        """Whether what sounds is the chapter at hand."""
        found = self._reel()
        return self.playing and found is not None and self._playing is found[1]

    def _reel(self) -> tuple[ChapterState, Reel] | None:
        chapter = self.bench.chapter
        return (chapter, chapter.reel) if chapter and chapter.reel else None

    def play_from(self, position: int, stop: int | None = None, *, lead: bool = False) -> None:
        """Play the chapter at hand from a position, with `lead` from a little before it."""
        self._play(position - (round(self.lead_s * self.bench.book.rate) if lead else 0), stop, self.speed)

    def _play(self, position: int, stop: int | None, speed: float) -> None:
        found = self._reel()
        if found is None:
            self.bench.tell("There is nothing to play: this chapter has no recording yet.")
            return
        chapter, reel = found
        start = min(max(0, position), len(reel))
        self._began(reel)
        render, rate, backwards = self.bench.renderer(reel).render, self.bench.book.rate, speed < 0
        last = len(reel) if stop is None else min(stop, len(reel))
        if backwards:
            self.player.play(render, 0, start, rate, speed=-speed, backwards=True)
            return
        self._stretch = Span(start, max(start, last))
        self.player.play(render, start, last, rate, speed=speed, loop=self.looping)
        self.listened.begin(chapter.id, reel, start)

    def _began(self, reel: Reel | None, *, aside: bool = False, instead: Reel | None = None, told: str = "") -> None:
        """What plays from now on; what played before is over."""
        self.player.stop()
        self._playing, self.aside, self.went_on = reel, aside, False
        self.instead, self.told = instead, told

    def hear(self, start: int, stop: int, *, instead: Reel | None = None, told: str = "") -> None:
        """Hear a stretch of the chapter at hand once, with Loop again and again after a rest; the cursor stays where it is.

        With `instead` another state of its reel is heard, at the same words; `told` says which.
        """
        found = self._reel()
        if found is None:
            return
        chapter, reel = found
        self._began(reel, aside=True, instead=instead, told=told)
        self._stretch = Span(min(max(0, start), len(reel)), min(stop, len(reel)))
        turn, rate = self._turn(reel, instead), self.bench.book.rate
        rest = round(REST_S * rate)
        self.player.play(
            turn.render, turn.start, turn.stop, rate, speed=self.speed, loop=self.looping, rest=rest, shown=turn.shown
        )
        if instead is None:
            self.listened.begin(chapter.id, reel, self._stretch.start)

    def turn(self, instead: Reel | None, told: str = "") -> None:
        """Go on, without a gap, with the same words of another state of the chapter's reel; with None as it is now."""
        found = self._reel()
        if found is None or not self.plays_chapter or self._shuttle < 0:
            return
        chapter, reel = found
        self.listened.end()
        self.instead, self.told = instead, told
        self.player.turn(self._turn(reel, instead))
        if instead is None:
            self.listened.begin(chapter.id, reel, self.player.position)
        self.changed()

    def _turn(self, reel: Reel, instead: Reel | None) -> Turn:
        start, stop = self._stretch.start, self._stretch.stop
        if instead is None:
            return Turn(self.bench.renderer(reel).render, int, int, start, stop)
        between = Between(reel, instead)
        first, last = between.there(start), between.there(stop)
        return Turn(self.bench.renderer(instead).render, between.there, between.here, first, max(first + 1, last))

    def hear_reel(self, reel: Reel, start: int = 0, stop: int | None = None) -> None:
        """Play any reel, at the speed that is set."""
        self._began(reel)
        stop = len(reel) if stop is None else stop
        self.player.play(self.bench.renderer(reel).render, start, stop, self.bench.book.rate, speed=self.speed, loop=self.looping)

    def hear_sound(self, render: Rendering, start: int, stop: int, *, loop: bool = False, speed: float | None = None) -> None:
        """Play sound that is no reel of the book; `loop` over and over and `speed` as given, whatever is set."""
        self._began(None)
        self.player.play(render, start, stop, self.bench.book.rate, speed=speed or self.speed, loop=loop)

    def toggle(self) -> None:
        """Play from the spot, or stop there."""
        self.moves += 1
        if not self.player.playing:
            self.play_from(self.spot)
            return
        of_chapter, at = self.plays_chapter, self.player.position
        self.stop()
        self.went_on = False
        if of_chapter:
            self.spot = at
            self.show(at, follow=False)

    def stop(self) -> None:
        """Stop the sound."""
        if self.playing:
            self.went_on = self.plays_chapter and not self.aside
        self.player.stop()

    def back(self) -> None:
        """Play again from a little earlier."""
        self.moves += 1
        self.play_from(self.player.position if self.player.playing else self.spot, lead=True)

    def shuttle(self, by: int) -> None:
        """A step faster forward, or backward; from standing still at the usual speed."""
        now = self._shuttle if self.player.playing else 0.0
        self._shuttle = SHUTTLE[min(len(SHUTTLE) - 1, max(0, SHUTTLE.index(now) + by))]
        at = self.player.position if self.player.playing else self.spot
        wanted = self._shuttle
        self.player.stop()
        self.spot = at
        self._shuttle = wanted  # stopping forgets it
        if wanted:
            self._play(at, None, wanted)

    # --- where ----------------------------------------------------------------------------------------------------

    def go_to(self, position: int, *, look: bool = False) -> None:
        """Put the cursor at a position; while playing, go on from there.  `look` brings it to the middle of the loupe.

        What plays beside the cursor stops: who goes elsewhere has heard enough of it.
        """
        self.moves += 1
        if self.aside:
            self.player.stop()
        self.spot = position
        if self.player.playing:
            self.play_from(position)
        else:
            self.show(position, follow=True)
        if look:
            for view in self.views:
                view.look_at(position)

    def look_at(self, position: int, *, spot: int, span_s: float) -> None:
        """Show a stretch close up and put the cursor at its beginning, without playing."""
        self.spot = spot
        for view in self.views:
            view.look_at(position, span_s=span_s)
        self.show(spot, follow=False)

    def put(self, position: int) -> None:
        """Put the cursor at a position and show it, without playing."""
        self.spot = position
        self.show(position, follow=True)

    def bring(self, position: int) -> None:
        """Bring a position into view, leaving the cursor where it is."""
        for view in self.views:
            view.bring(position)

    def show(self, position: int, *, follow: bool) -> None:
        """Show a position of the chapter at hand."""
        for view in self.views:
            view.show_position(position, follow=follow)

    def moved(self, position: int) -> None:
        """The player came so far."""
        if self.plays_chapter:
            if self._shuttle >= 0 and self.instead is None:
                self.listened.reach(position)
            if not self.aside:
                self.spot = position
            self.show(position, follow=not self.aside)  # what is worked on stays in view while it is heard
        else:
            for told in self.elsewhere:
                told(position)

    def state_changed(self) -> None:
        """The player started or stopped."""
        if not self.player.playing:
            self._shuttle = 0.0
            self.listened.end()
            self.instead, self.told = None, ""
            if self.aside:
                self.aside = False
                self.show(self.spot, follow=True)
        self.changed()

    # --- how ------------------------------------------------------------------------------------------------------

    def set_speed(self, speed: float) -> None:
        """Play at another speed, now and from now on; the pitch stays."""
        self.speed = min(SPEEDS, key=lambda known: abs(known - speed))
        self._settings.setValue("listen/speed", self.speed)
        if self.plays_chapter and self.aside:
            self.hear(self._stretch.start, self._stretch.stop, instead=self.instead, told=self.told)
        elif self.plays_chapter:
            self.play_from(self.player.position)
        self.changed()

    def step_speed(self, by: int) -> None:
        """A step faster or slower."""
        self.set_speed(SPEEDS[min(len(SPEEDS) - 1, max(0, SPEEDS.index(self.speed) + by))])

    def set_lead(self, seconds: float) -> None:
        """How long before a spot the sound starts."""
        self.lead_s = seconds
        self._settings.setValue("listen/lead", seconds)
        self.changed()

    def set_looping(self, *, on: bool) -> None:
        """Play stretches again and again."""
        self.looping = on
        self.changed()

    def choose_device(self, device: str) -> None:
        """Play on another sound device, now and from now on; an empty one is the system's usual."""
        self.player.stop()
        self.player.use_device(device)
        self._settings.setValue("listen/device", device)
        self.changed()

    def set_volume(self, volume_db: float) -> None:
        """How loud it plays, under what the sound itself is; nothing but the listening changes."""
        if not SOFTEST_DB <= volume_db <= 0.0:
            self.bench.tell("It plays as loud as the sound is." if volume_db > 0 else "It can not be played any softer.")
        self.player.volume_db = min(0.0, max(SOFTEST_DB, volume_db))
        self._settings.setValue("listen/volume", self.player.volume_db)
        self.changed()
