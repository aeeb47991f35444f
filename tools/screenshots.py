"""Take the pictures in docs/screenshots from a fresh demo book: heard, decided, spliced, mastered, released."""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import QEventLoop, QTimer

from faithful_reel.app.desks import DeskName
from faithful_reel.app.editing.lanes import LaneWork
from faithful_reel.app.main import application
from faithful_reel.app.window import Window
from faithful_reel.app.wiring import open_window, user_settings
from faithful_reel.core.book.demo import demo_files, make_demo_book
from faithful_reel.core.collate.findings import Decision, Kind
from faithful_reel.core.reel.timing import LINKED

ROOT = Path(__file__).parent.parent
MENDED = (Kind.ADDED, Kind.REPEATED, Kind.FALSE_START, Kind.PAUSE, Kind.NOISE)


def wait(milliseconds: int) -> None:
    """Let the window work for a while."""
    loop = QEventLoop()
    QTimer.singleShot(milliseconds, loop.quit)
    loop.exec()


def idle(window: Window) -> None:
    """Wait until no job runs."""
    while window.jobs.running:
        wait(50)
    wait(150)


def lanes(window: Window) -> None:
    """A second voice and a music part beside the chapter, in the loupe that fills the window."""
    editing, recordings = window.parts.editing, window.bench.book.recordings
    work = LaneWork(editing)
    for at, recording, name in ((14, 1, "second voice"), (8, 2, "music")):
        window.transport.spot = at * window.bench.book.rate
        work.add_lane(recordings[recording].hash, name, music=name == "music")
    editing.choose_lane(2)
    work.give_way(14.0)
    editing.choose_lane(LINKED)
    editing.select_words(22, 25)
    idle(window)
    span = editing.span
    assert span is not None
    window.transport.look_at(span.start, spot=span.start, span_s=9.0)
    window.notice.hide()
    window.grow_loupe()


def main() -> int:
    """Walk through the demo and save a picture of every desk."""
    out = Path(sys.argv[1]) if len(sys.argv) > 1 else ROOT / "docs" / "screenshots"
    out.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "demo.reelbook"
        make_demo_book(folder, demo_files())
        app = application()
        window = open_window(folder, user_settings(Path(name) / "settings.ini"), simulated_sound=True)
        window.resize(1280, 800)
        window.show()
        idle(window)

        def shot(desk: str, file: str = "") -> None:
            window.desks.show(DeskName(desk))
            wait(200)
            window.grab().save(str(out / f"{file or desk}.png"))

        shot("intake")
        window.parts.proof.hear_chapter("c1")
        idle(window)
        proof = window.parts.proof
        for finding in proof.docket()[:8]:
            proof.choose(finding.id)
            kind = finding.kind
            proof.decide(Decision.MEND if kind in MENDED else Decision.STET if kind is Kind.LEVEL else Decision.PICKUP)
        shot("proof")
        for finding in [f for f in proof.docket() if f.decision is Decision.OPEN]:
            proof.choose(finding.id)
            proof.decide(Decision.MEND if finding.kind in MENDED else Decision.PICKUP)
        window.parts.pickups.receive(demo_files() / "pickups-1.flac")
        idle(window)
        shot("pickups")
        shot("splice")
        for pickup in window.parts.splice.rows():
            window.parts.splice.choose(pickup.id)
            window.parts.splice.place()
        window.parts.mastering.master_all()
        idle(window)
        shot("master")
        window.parts.releasing.release(Path(name) / "out")
        idle(window)
        shot("release")
        window.parts.proof.choose(window.parts.proof.docket()[3].id)
        window.show_history()
        shot("proof", "history")
        window.show_history()
        window.actions_.run("proof.names")
        idle(window)
        shot("proof", "names")
        window.actions_.run("proof.names")
        window.set_theme("night")
        shot("proof", "night")
        window.set_theme("day")
        lanes(window)
        wait(200)
        window.grab().save(str(out / "lanes.png"))
        window.close()
        app.processEvents()
    return 0


if __name__ == "__main__":
    sys.exit(main())
