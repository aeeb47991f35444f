"""The foot of the window: play, speed, lead-in, loop, position, level, volume and the sound device."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QSizePolicy, QSlider, QWidget

from faithful_reel.app.sound import Player, devices
from faithful_reel.app.theme import Theme, scale_of_letters
from faithful_reel.app.transport.presenter import LEADS_S, SOFTEST_DB, SPEEDS, Transport
from faithful_reel.app.widgets.meters import Meter
from faithful_reel.app.widgets.parts import ActButton, Choice, OneLine, label
from faithful_reel.app.widgets.told import tell_reader

SIMULATED = "simulated sound"


class TransportBar(QWidget):
    """Shows and sets how the sound plays."""

    def __init__(self, transport: Transport, player: Player) -> None:
        super().__init__()
        self.setObjectName("foot")
        self._transport, self._player = transport, player
        self.play = ActButton("Play", "play.toggle")
        self.play.setMinimumWidth(round(64 * scale_of_letters()))
        self.speed = Choice()
        self.speed.setAccessibleName("Speed")
        for value in SPEEDS:
            self.speed.addItem(f"{value:.2f} ×", value)
        self.speed.activated.connect(self._speed_chosen)
        self.lead = Choice()
        self.lead.setAccessibleName("Lead-in")
        self.lead.setToolTip("How long before a place the sound starts")
        for seconds in LEADS_S:
            self.lead.addItem(f"lead-in {seconds:g} s", seconds)
        self.lead.activated.connect(self._lead_chosen)
        self.loop = ActButton("Loop", "play.loop")
        self.loop.setCheckable(True)
        self.time = QLabel("0:00:00.000")
        self.time.setAccessibleName("Position")
        self.time.setMinimumWidth(round(92 * scale_of_letters()))
        self.which = label("", "problem")
        self.which.setAccessibleName("What is heard")
        self.meter = Meter()
        self.volume = QSlider(Qt.Orientation.Horizontal)
        self.volume.setRange(round(SOFTEST_DB), 0)
        self.volume.setPageStep(6)
        self.volume.setFixedWidth(72)
        self.volume.setAccessibleName("Volume")
        self.volume.valueChanged.connect(self._volume_set)
        self.device = Choice()
        self.device.setAccessibleName("Sound device")
        self.device.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.device.setMinimumWidth(60)
        self.device.setMaximumWidth(round(220 * scale_of_letters()))
        self.device.activated.connect(self._device_chosen)
        self.saved = OneLine()
        self.saved.setObjectName("quiet")
        self.saved.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 5, 16, 5)
        row.setSpacing(8)
        for widget in (self.play, self.speed, self.lead, self.loop, self.time, self.which, self.meter):
            row.addWidget(widget)
        row.addSpacing(10)
        row.addWidget(self.volume)
        row.addWidget(self.device, 2)
        row.addStretch(1)
        row.addWidget(self.saved, 1)
        transport.listen(self.refresh)
        player.level.connect(self.meter.set_level)
        self.show_devices()
        self.refresh()

    def set_theme(self, theme: Theme) -> None:
        """Colour the meter."""
        self.meter.set_theme(theme)

    def refresh(self) -> None:
        """Show how it plays."""
        transport = self._transport
        words = "Stop" if transport.playing else "Play"
        self.play.setText(words)
        self.play.setAccessibleName(words)
        self.speed.setCurrentIndex(SPEEDS.index(transport.speed))
        self.lead.setCurrentIndex(max(0, self.lead.findData(transport.lead_s)))
        self.loop.setChecked(transport.looping)
        if transport.told != self.which.text():
            self.which.setText(transport.told)
            tell_reader(self.which, transport.told or "as it is now")
        self.which.setVisible(bool(transport.told))
        volume = round(self._player.volume_db)
        self.volume.blockSignals(True)
        self.volume.setValue(volume)
        self.volume.blockSignals(False)
        self.volume.setToolTip(f"Volume {volume} dB; only for listening, nothing in the book changes".replace("-", "−"))

    def show_time(self, position: int) -> None:
        """A position in the sound that plays."""
        self.time.setText(self._transport.bench.time(position))

    def show_position(self, position: int, *, follow: bool) -> None:
        """As the transport tells its views."""
        del follow
        self.show_time(position)

    def bring(self, position: int) -> None:
        """Nothing is seen close up in the foot."""

    def look_at(self, position: int, *, span_s: float | None = None) -> None:
        """The foot has no close view."""

    def show_saved(self, text: str) -> None:
        """What is on disk."""
        self.saved.setText(text)

    def show_devices(self) -> None:
        """The sound devices that there are, and the one that plays."""
        self.device.clear()
        card = self._player.card
        if card.simulated:
            self.device.addItem(SIMULATED, "")
        else:
            self.device.addItem("usual sound device", "")
            for name in devices():
                self.device.addItem(name, name)
        self.device.setCurrentIndex(max(0, self.device.findData(card.device)))
        none = "There is no sound device here: a simulated one keeps time, and nothing is heard"
        self.device.setToolTip(none if card.simulated else "Where the sound goes")
        self.device.setEnabled(self.device.count() > 1)

    def _speed_chosen(self) -> None:
        self._transport.set_speed(float(self.speed.currentData()))

    def _lead_chosen(self) -> None:
        self._transport.set_lead(float(self.lead.currentData()))

    def _volume_set(self, value: int) -> None:
        self._transport.set_volume(float(value))

    def _device_chosen(self) -> None:
        self._transport.choose_device(str(self.device.currentData()))
        self.show_devices()
