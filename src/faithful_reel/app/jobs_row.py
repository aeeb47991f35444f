"""The work that goes on, beside the title: the page stays where it is when work begins and ends."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QProgressBar, QWidget

from faithful_reel.app.jobs import Jobs, Running
from faithful_reel.app.widgets.parts import OneLine, button, label, tip


class JobsRow(QWidget):
    """The first of the jobs that somebody waits for, with its progress, time left and cancel."""

    ended = pyqtSignal(str)
    """A job that somebody waited for is over."""

    def __init__(self, jobs: Jobs) -> None:
        super().__init__()
        self._jobs = jobs
        self._shown: list[Running] = []
        row = QHBoxLayout(self)
        row.setContentsMargins(24, 0, 16, 3)
        row.setSpacing(10)
        self.name = OneLine()
        self.name.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setFixedWidth(90)
        self.bar.setAccessibleName("Progress")
        self.left = label("", "quiet")
        self.cancel = button("Cancel", tip="Stop this work; nothing is lost")
        self.cancel.clicked.connect(self._cancel)
        row.addWidget(self.name, 1)
        row.addWidget(self.bar)
        row.addWidget(self.left)
        row.addWidget(self.cancel)
        self.hide()
        jobs.changed.connect(self.refresh)

    @property
    def percent(self) -> int:
        """How far the work is; -1 where nothing goes on."""
        seen = self._jobs.seen
        return round(100 * sum(r.fraction for r in seen) / len(seen)) if seen else -1

    def refresh(self) -> None:
        """Show how it goes."""
        seen = self._jobs.seen
        self.setVisible(bool(seen))
        for running in self._shown:
            if running not in seen and not running.cancelled():
                self.ended.emit(running.name)
        self._shown = seen
        if not seen:
            return
        first = seen[0]
        more = f"   and {len(seen) - 1} more" if len(seen) > 1 else ""
        name = f"{first.name}: {first.note}{more}" if first.note else first.name + more
        self.name.setText(name)
        self.name.setToolTip(tip(name))
        self.bar.setValue(round(1000 * first.fraction))
        left = first.seconds_left()
        self.left.setText("" if left is None else _left(left))

    def _cancel(self) -> None:
        if self._jobs.seen:
            self._jobs.seen[0].cancel()


def _left(seconds: float) -> str:
    if seconds > 90:
        return f"about {round(seconds / 60)} min left"
    return f"about {max(1, round(seconds))} s left"
