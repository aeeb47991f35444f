"""How long the interface thread is ever held while a chapter is recognised: prints its figures as JSON.

A timer of 5 ms runs in the real window, first while nothing else does, then while a long chapter is heard and its early
findings come onto the page; held is what lies between two beats, less the timer's own 5 ms.  Beside it a bare process does
nothing but sleep for 5 ms again and again: how much longer it slept is what the machine itself holds.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
import numpy as np
from PyQt6.QtCore import QEventLoop, QObject, Qt, QTimer

from faithful_reel.app.desks import DeskName
from faithful_reel.app.main import application
from faithful_reel.app.wiring import open_window, user_settings
from faithful_reel.core.book.commands import AddChapters, AddRecording, PairRecording
from faithful_reel.core.book.recordings import received
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.text.manuscript import read_script
from faithful_reel.core.text.words import Chapter

BEAT_MS = 5
SECONDS = 150


class Beats(QObject):
    """Notes when the timer beats."""

    def __init__(self) -> None:
        super().__init__()
        self.at: list[float] = []
        self.timer = QTimer(self)
        self.timer.setTimerType(Qt.TimerType.PreciseTimer)
        self.timer.timeout.connect(self.beat)

    def beat(self) -> None:
        """One beat."""
        self.at.append(time.perf_counter())

    def held_ms(self, seconds: float, going: QObject | None = None) -> np.ndarray:
        """Beat for a while, or until the jobs of a window are done; how long the thread was held between beats."""
        self.at.clear()
        self.timer.start(BEAT_MS)
        loop = QEventLoop()
        QTimer.singleShot(round(1000 * seconds), loop.quit)
        if going is not None:
            watch = QTimer(self)
            watch.timeout.connect(lambda: going.jobs.running or loop.quit())
            watch.start(200)
        loop.exec()
        self.timer.stop()
        return np.maximum(0.0, 1000 * np.diff(self.at) - BEAT_MS)


BARE = """
import sys, threading, time
worst = 0.0
asked = threading.Thread(target=sys.stdin.read, daemon=True)
asked.start()
while asked.is_alive():
    begun = time.perf_counter()
    time.sleep(0.005)
    worst = max(worst, 1000 * (time.perf_counter() - begun) - 5)
print(worst)
"""


def main() -> None:
    """Measure."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "long.reelbook"
        with BookStore(folder, create=True) as store:  # the whole text as one chapter
            session = Session(store)
            recording = received(folder, Path(sys.argv[1]), session.book.rate, Unwatched())
            session.do(AddChapters((("c1", "Chapter", store.put(Chapter, read_script(Path(sys.argv[2])))),)))
            session.do(AddRecording(recording))
            session.do(PairRecording("c1", recording.hash))
        app = application()  # kept: without it there is no window
        window = open_window(folder, user_settings(Path(name) / "settings.ini"), simulated_sound=True)
        window.resize(1280, 800)
        window.show()
        window.desks.show(DeskName.PROOF)
        book = window.bench.book
        beats = Beats()
        window.parts.keeping.wake_ears()  # as it does shortly after it opens
        beats.held_ms(20, window)
        idle = beats.held_ms(8)
        bare = subprocess.Popen([sys.executable, "-c", BARE], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        window.parts.proof.hear_chapter(book.chapters[0].id)
        held = beats.held_ms(SECONDS, window)
        machine = float(bare.communicate()[0])
        worst = beats.at[int(held.argmax())] - beats.at[0]
        words = len(window.bench.text(window.bench.chapter).words)
        findings = len(window.bench.findings(window.bench.chapter))
        window.close()
        app.processEvents()
        figures = {
            "worst_ms": float(held.max()),
            "p99_ms": float(np.percentile(held, 99)),
            "beats": len(held),
            "worst_at_s": worst,
            "bare_ms": machine,
        }
        lines = Path("/proc/self/status").read_text().splitlines()
        peak = int(next(s for s in lines if s.startswith("VmHWM")).split()[1]) / 1024
        print(json.dumps(figures | {"idle_ms": float(idle.max()), "words": words, "findings": findings, "peak_mb": peak}))


if __name__ == "__main__":
    main()
