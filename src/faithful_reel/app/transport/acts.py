"""The acts of listening, and of the loupe."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import TypeVar

from faithful_reel.app.actions import Act, Menu
from faithful_reel.app.transport.close_view import DEPTHS_DB, FRAMES, TOPS_HZ, CloseView
from faithful_reel.app.transport.presenter import VOLUME_STEP_DB, Transport
from faithful_reel.app.widgets.parts import ActSource
from faithful_reel.core.measure.picture import Scale, SpectrumLook


@dataclass
class TransportActs:
    """What the user can do with the sound, wherever it is."""

    transport: Transport
    loupe: CloseView

    @property
    def acts(self) -> Sequence[Act[TransportActs]]:
        """The table below."""
        return ACTS

    def bind(self, acts: ActSource) -> None:
        """Whose checks follow the transport."""
        self._bound = acts
        self.transport.listen(self._follow)

    def _follow(self) -> None:
        self._bound["play.loop"].setChecked(self.transport.looping)

    def toggle(self) -> None:
        """Play, or stop."""
        self.transport.toggle()

    def back(self) -> None:
        """Again from a little earlier."""
        self.transport.back()

    def loop(self) -> None:
        """Again and again, or once."""
        self.transport.set_looping(on=not self.transport.looping)

    def faster(self) -> None:
        """A step faster."""
        self.transport.step_speed(1)

    def slower(self) -> None:
        """A step slower."""
        self.transport.step_speed(-1)

    def shuttle_on(self) -> None:
        """Forward, a step faster with every press."""
        self.transport.shuttle(1)

    def shuttle_back(self) -> None:
        """Backward, a step faster with every press."""
        self.transport.shuttle(-1)

    def louder(self) -> None:
        """Louder in the ear."""
        self.transport.set_volume(self.transport.player.volume_db + VOLUME_STEP_DB)

    def softer(self) -> None:
        """Softer in the ear."""
        self.transport.set_volume(self.transport.player.volume_db - VOLUME_STEP_DB)

    def spectrum(self) -> None:
        """Frequencies, or the waveform again."""
        self.loupe.set_spectrum(shown=not self.loupe.spectrum)

    def scale(self) -> None:
        """The next layout of frequencies."""
        look = self.loupe.look
        scales = list(Scale)
        scale = scales[(scales.index(look.scale) + 1) % len(scales)]
        self._draw(replace(look, scale=scale), f"Frequencies are laid out {scale.value}.")

    def window(self, by: int) -> None:
        """Finer in pitch, or quicker in time."""
        frame = _beside(FRAMES, self.loupe.look.frame, by)
        self._draw(replace(self.loupe.look, frame=frame), f"The window of the spectrogram is {frame} samples.")

    def contrast(self, by: int) -> None:
        """More contrast, or less."""
        depth = _beside(DEPTHS_DB, self.loupe.look.deepest_db, by)
        self._draw(replace(self.loupe.look, deepest_db=depth), f"The spectrogram shows {depth:.0f} dB.")

    def top(self) -> None:
        """The next highest frequency."""
        now = self.loupe.look.top_hz
        top_hz = next((hz for hz in TOPS_HZ if hz > now), TOPS_HZ[0])
        self._draw(replace(self.loupe.look, top_hz=top_hz), f"The spectrogram shows 0 to {top_hz / 1000:g} kHz.")

    def _draw(self, look: SpectrumLook, told: str) -> None:
        self.loupe.set_look(look)
        if not self.loupe.spectrum:
            self._bound["view.spectrum"].trigger()
        self.transport.bench.tell(told)

    def higher(self) -> None:
        """Higher waves."""
        self.loupe.heighten(1.5)

    def lower(self) -> None:
        """Lower waves."""
        self.loupe.heighten(1 / 1.5)

    def to_span(self) -> None:
        """What is marked, or what was looked at before."""
        if not self.loupe.look_at_span():
            self.transport.bench.tell("Nothing is marked that could be looked at.")

    def to_whole(self) -> None:
        """The chapter, or what was looked at before."""
        self.loupe.look_at_whole()

    def closer(self) -> None:
        """Look closer."""
        self.loupe.zoom(0.6)

    def farther(self) -> None:
        """Look from farther."""
        self.loupe.zoom(1 / 0.6)


N = TypeVar("N", int, float)


def _beside(row: Sequence[N], now: N, by: int) -> N:
    """The next of a row, or the one before; the ends stay."""
    at = min(range(len(row)), key=lambda k: abs(row[k] - now))
    return row[min(len(row) - 1, max(0, at + by))]


A, L, V = TransportActs, Menu.LISTEN, Menu.VIEW
ACTS: tuple[Act[TransportActs], ...] = (
    Act("play.toggle", L, "Play or stop", "Space", "Play from the cursor, or stop", A.toggle),
    Act("play.back", L, "Back by the lead-in", "Backspace", "Play again from a little earlier", A.back),
    Act("play.loop", L, "Loop", "L", "Play the stretch again and again", A.loop, checkable=True),
    Act("play.faster", L, "Faster", "]", "Up to 2.5 times; the pitch stays", A.faster, apart=True),
    Act("play.slower", L, "Slower", "[", "Down to 0.75 times; the pitch stays", A.slower),
    Act("play.shuttle_on", L, "Shuttle on", ".", "Forward, faster with every press; the other key slows down and turns round", A.shuttle_on),
    Act("play.shuttle_back", L, "Shuttle back", ",", "Backward, faster with every press", A.shuttle_back),
    Act("play.louder", L, "Louder", "Ctrl+Shift+Up", "2 dB, only for listening", A.louder, apart=True),
    Act("play.softer", L, "Softer", "Ctrl+Shift+Down", "2 dB, only for listening", A.softer),
    Act("view.spectrum", V, "Spectrogram in the loupe", "Ctrl+Shift+S", "Frequencies instead of the waveform", A.spectrum, checkable=True, apart=True),
    Act("view.spectrum_scale", V, "Frequency scale", "", "For the voice, even, by octaves", A.scale, within="Spectrogram"),
    Act("view.spectrum_top", V, "Highest frequency", "", "5, 10 or 20 kHz", A.top, within="Spectrogram"),
    Act("view.spectrum_more", V, "More contrast", "", "Less depth is shown", partial(A.contrast, by=-1), within="Spectrogram"),
    Act("view.spectrum_less", V, "Less contrast", "", "More depth is shown", partial(A.contrast, by=1), within="Spectrogram"),
    Act("view.spectrum_finer", V, "Finer in pitch", "", "A longer window", partial(A.window, by=1), within="Spectrogram"),
    Act("view.spectrum_quicker", V, "Quicker in time", "", "A shorter window", partial(A.window, by=-1), within="Spectrogram"),
    Act("view.to_span", V, "Look at the span, and back", "I", "What is marked fills the loupe, its loudest moment as high as the lane; again: what was looked at before", A.to_span, within="Loupe"),
    Act("view.whole", V, "Look at the chapter, and back", "Shift+W", "All of it fills the loupe; again: what was looked at before", A.to_whole, within="Loupe"),
    Act("view.wave_higher", V, "Higher waves", "Ctrl+Alt++", "In the loupe", A.higher, within="Loupe"),
    Act("view.wave_lower", V, "Lower waves", "Ctrl+Alt+-", "In the loupe", A.lower, within="Loupe"),
    Act("view.closer", V, "Loupe closer", "Ctrl++", "Look closer", A.closer, within="Loupe"),
    Act("view.farther", V, "Loupe farther", "Ctrl+-", "Look from farther", A.farther, within="Loupe"),
)  # fmt: skip
