"""The acts of listening, and of the loupe."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from faithful_reel.app.actions import Act, Menu
from faithful_reel.app.transport.close_view import CloseView
from faithful_reel.app.transport.presenter import VOLUME_STEP_DB, Transport
from faithful_reel.app.widgets.parts import ActSource


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

    def closer(self) -> None:
        """Look closer."""
        self.loupe.zoom(0.6)

    def farther(self) -> None:
        """Look from farther."""
        self.loupe.zoom(1 / 0.6)


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
    Act("view.closer", V, "Loupe closer", "Ctrl++", "Look closer", A.closer),
    Act("view.farther", V, "Loupe farther", "Ctrl+-", "Look from farther", A.farther),
)  # fmt: skip
