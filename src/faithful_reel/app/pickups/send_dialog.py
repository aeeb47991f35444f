"""What goes out with a round: by when it is to be back, to whom it goes, and in which formats."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

from PyQt6.QtCore import QDate
from PyQt6.QtWidgets import QDateEdit, QDialog, QDialogButtonBox, QFormLayout, QLineEdit, QWidget

from faithful_reel.app.settings import Settings, text
from faithful_reel.app.widgets.flow import Flow
from faithful_reel.app.widgets.parts import Check, Choice, label
from faithful_reel.core.pickups.sheets import FORMATS
from faithful_reel.core.work.sending import Sending

CLIPS = {"as WAV": ".wav", "as MP3": ".mp3", "as FLAC": ".flac", "none": ""}
USUAL_DAYS = 7


@dataclass(frozen=True, slots=True)
class Asked:
    """What was asked for."""

    sending: Sending
    due: str
    to: str
    note: str


class SendDialog(QDialog):
    """Asks how a round goes out; what was chosen is remembered."""

    def __init__(self, parent: QWidget | None, settings: Settings, number: int, count: int, today: date) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"Send round {number}")
        self._settings = settings
        lines = "1 line goes out." if count == 1 else f"{count} lines go out."
        self.due = QDateEdit()
        self.due.setCalendarPopup(True)
        self.due.setDisplayFormat("yyyy-MM-dd")
        day = today + timedelta(days=USUAL_DAYS)
        self.due.setDate(QDate(day.year, day.month, day.day))
        self.to = QLineEdit(text(settings, "send/to"))
        self.note = QLineEdit()
        known = set(text(settings, "send/formats", ",".join(FORMATS)).split(","))
        self.formats = {suffix: Check(suffix[1:].upper()) for suffix in FORMATS}
        for suffix, check in self.formats.items():
            check.setChecked(suffix in known)
            check.setToolTip(f"Write the call sheet as {suffix[1:].upper()}")
        self.clips = Choice()
        for words, suffix in CLIPS.items():
            self.clips.addItem(words, suffix)
        self.clips.setCurrentIndex(max(0, self.clips.findData(text(settings, "send/clips", ".wav"))))
        self.long_clip = self._check("all clips in one file as well, silence between them", "long", "on")
        self.spoken = self._check("in that file the number of each clip before it, said by the stand-in voice", "spoken", "off")
        self.with_sounds = self._check("one web page with all clips in it", "page", "off")
        self.as_zip = self._check("all in one zip", "zip", "off")
        form = QFormLayout(self)
        form.addRow(label(lines, "quiet"))
        formats = QWidget()
        row = Flow(formats)
        for check in self.formats.values():
            row.addWidget(check)
        for words, field in (("Due", self.due), ("To", self.to), ("Note", self.note), ("Clips", self.clips)):
            field.setAccessibleName(words)
        form.addRow("Due", self.due)
        form.addRow("To", self.to)
        form.addRow("Note", self.note)
        form.addRow("Call sheet", formats)
        form.addRow("Clips", self.clips)
        for check in (self.long_clip, self.spoken, self.with_sounds, self.as_zip):
            form.addRow("", check)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        form.addRow(buttons)

    def _check(self, words: str, name: str, usual: str) -> Check:
        made = Check(words)
        made.setChecked(text(self._settings, f"send/{name}", usual) == "on")
        made.setToolTip(words[0].upper() + words[1:])
        return made

    def asked(self) -> Asked:
        """What was chosen; kept for the next time."""
        formats = tuple(suffix for suffix, check in self.formats.items() if check.isChecked())
        clips = str(self.clips.currentData() or "")
        for name, check in (("long", self.long_clip), ("spoken", self.spoken), ("page", self.with_sounds), ("zip", self.as_zip)):
            self._settings.setValue(f"send/{name}", "on" if check.isChecked() else "off")
        self._settings.setValue("send/formats", ",".join(formats))
        self._settings.setValue("send/clips", clips)
        self._settings.setValue("send/to", self.to.text().strip())
        sending = Sending(
            formats or FORMATS[:1],
            clips,
            self.long_clip.isChecked(),
            self.as_zip.isChecked(),
            self.with_sounds.isChecked(),
            self.spoken.isChecked(),
        )
        due = self.due.date()
        return Asked(
            sending, f"{due.year():04d}-{due.month():02d}-{due.day():02d}", self.to.text().strip(), self.note.text().strip()
        )


def ask_for_round(parent: QWidget | None, settings: Settings, number: int, count: int, today: date) -> Asked | None:
    """How a round goes out; None where the user thought better of it."""
    dialog = SendDialog(parent, settings, number, count, today)
    return dialog.asked() if dialog.exec() else None
