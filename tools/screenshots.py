"""Take the pictures in docs/screenshots from a fresh demo book: heard, decided, spliced, mastered, released."""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import QEventLoop, QTimer

from faithful_reel.app.desks import DeskName
from faithful_reel.app.editing.cutting import Cutting
from faithful_reel.app.editing.lanes import LaneWork
from faithful_reel.app.editing.list_acts import ListActs
from faithful_reel.app.editing.pages import Described
from faithful_reel.app.editing.shaping import Shaping
from faithful_reel.app.main import application
from faithful_reel.app.recording.acts import RecordingActs
from faithful_reel.app.recording.recorder import Stage
from faithful_reel.app.splice.panel import SplicePanel
from faithful_reel.app.window import Window
from faithful_reel.app.wiring import open_window, user_settings
from faithful_reel.core.book.demo import TWO_VOICES, demo_files, make_demo_book
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


def two_voices(window: Window, out: Path) -> None:
    """The chapter for two voices: the lists beside the galley, and the loupe that fills the window with all lanes."""
    window.bench.open_chapter(TWO_VOICES)
    window.parts.proof.hear_chapter(TWO_VOICES)
    idle(window)
    editing, rate = window.parts.editing, window.bench.book.rate
    run, lanes, cutting = window.actions_.run, LaneWork(editing), Cutting(editing)

    def shot(name: str) -> None:
        window.transport.stop()
        window.strip.clear()
        idle(window)
        window.grab().save(str(out / f"{name}.png"))

    for first, last in ((2, 4), (30, 31)):
        editing.select_words(first, last)
        cutting.silence()
        window.transport.stop()
    editing.let_go()
    for word, name in ((6, "tide"), (46, "the clerk speaks"), (98, "hear again")):
        token = next(t for t in window.bench.tokens(window.bench.chapter) if t.word == word)  # type: ignore[arg-type]
        window.transport.go_to(token.start)
        Shaping(editing).mark(name)
    for name, words in (("the lamp", (40, 44)), ("cat", (150, 155))):
        editing.select_words(*words)
        lists = window.actions_._acts["list.shelf"][1]
        assert isinstance(lists, ListActs)
        marked = lists.shelf.marked()
        assert marked is not None
        lists.shelf.keep(marked[1], Described(name, "blue", "a good reading"), house=False)
    editing.let_go()
    window.transport.look_at(round(13 * rate), spot=round(12 * rate), span_s=6.0)
    for name in ("offcuts", "shelf", "pieces", "sweep"):
        run(f"list.{name}")
        idle(window)
        if name == "sweep":
            row = window.parts.editing.going[0]
            window.transport.look_at(row.start, spot=row.start, span_s=9.0)
        shot(name)
        run(f"list.{name}")
    editing.select_words(6, 6)
    run("elsewhere.find")
    shot("elsewhere")
    run("list.elsewhere")
    editing.choose_lane(2)
    lanes.give_way(14.0, 0.2)
    editing.choose_lane(LINKED)
    editing.let_go()
    span = next(t for t in window.bench.tokens(window.bench.chapter) if t.word == 49)  # type: ignore[arg-type]
    window.transport.look_at(span.start, spot=span.start, span_s=16.0)
    window.grow_loupe()
    window.loupe.set_levels({0: -8.2, 1: -9.6, 2: -21.0})
    window.loupe.set_levels({0: -60.0, 1: -12.0, 2: -24.0})
    shot("lanes")
    run("view.spectrum")
    shot("spectrum")
    run("view.spectrum")
    window.grow_loupe()


def recorded(window: Window, out: Path) -> None:
    """A line at the microphone, after two takes of it."""
    acts = window.actions_._acts["record.line"][1]
    assert isinstance(acts, RecordingActs)
    assert acts.presenter.begin()
    dialog = acts.dialog(acts.presenter)
    dialog.resize(900, 660)
    dialog.show()
    for _ in range(2):
        dialog.record.click()
        while acts.presenter.stage is not Stage.DONE:
            wait(100)
    wait(200)
    dialog.grab().save(str(out / "recording.png"))
    acts.presenter.throw_away()
    dialog.done(0)


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
            window.transport.stop()
            window.desks.show(DeskName(desk))
            wait(1000)  # the galley paints its lines in turns: on a busy machine 200 ms left some of them blank
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
        window.actions_.run("quick.start")
        shot("proof", "quick-check")
        window.actions_.run("quick.start")
        for finding in [f for f in proof.docket() if f.decision is Decision.OPEN]:
            proof.choose(finding.id)
            proof.decide(Decision.MEND if finding.kind in MENDED else Decision.PICKUP)
        pickups, splice = window.parts.pickups, window.parts.splice
        pickups.receive(demo_files() / "pickups-1.flac")
        idle(window)
        pickups.choose(next(p.id for p in window.bench.book.pickups if len(p.takes) > 1))
        idle(window)
        shot("pickups")
        recorded(window, out)
        window.desks.show(DeskName.SPLICE)
        idle(window)
        shot("splice")
        splice.place_all()
        idle(window)
        idle(window)
        panel = window.findChild(SplicePanel)
        panel.which.setCurrentIndex(1)
        panel.which.activated.emit(1)
        idle(window)
        shot("splice", "joins")
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
        two_voices(window, out)
        window.close()
        app.processEvents()
    return 0


if __name__ == "__main__":
    sys.exit(main())
