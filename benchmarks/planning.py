"""A line of half a minute at the Splice desk, in the real window: how soon its splice is planned, shown, and put in.

A chapter is a demo chapter over and over, its words where the demo's truth says; a line is as many of them as take 30 s, with one word
misread in it, and one of which every word must change; the take is the same, softer.  Yardsticks of the same run: spectra of the two sounds
that a plan looks at, and painting the desk anew.
"""

from __future__ import annotations

import json
import os
import statistics
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
import soundfile
from PyQt6.QtTest import QTest

from faithful_reel.app.main import application, calm_collector
from faithful_reel.app.splice.panel import SplicePanel
from faithful_reel.app.wiring import open_window, user_settings
from faithful_reel.core.audio.sources import FileSources
from faithful_reel.core.book.commands import AddChapters, AddRecording, PairRecording, PlaceHearing
from faithful_reel.core.book.pickups import AddPickups, ReceiveTakes
from faithful_reel.core.book.recordings import received
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.pickups.ledger import Pickup, Take
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.splice.profile import spectra_of
from faithful_reel.core.text.words import Chapter, chapter_of
from faithful_reel.core.work.splicing import preview_parts
from faithful_reel.core.work.timeline import Hearing

RATE, LINE_S, ROUNDS, LINES = 44_100, 30, 14, 18
DEMO = Path(__file__).parent.parent / "demo" / "book"


def made(folder: Path) -> None:
    """A book of one chapter, with lines of half a minute, each with a take."""
    sound, _ = soundfile.read(DEMO / "chapter-2.flac", dtype="float32")
    own = [(a, b) for _, a, b in json.loads((DEMO / "truth.json").read_text())["chapter-2"]["words"]]
    soundfile.write(folder / "long.wav", np.tile(sound, ROUNDS), RATE, subtype="PCM_16")
    soundfile.write(folder / "takes.wav", np.tile(0.6 * sound, ROUNDS), RATE, subtype="PCM_16")
    places = [
        (round(a * RATE) + k * len(sound), round(b * RATE) + k * len(sound)) for k in range(ROUNDS) for a, b in own
    ]  # fmt: skip
    text = chapter_of("One", [" ".join(["word"] * len(own))] * ROUNDS)
    heard = tuple(Heard("word", a, b, 0.9) for a, b in places)
    size = next(n for n in range(1, len(places)) if places[5 + n][1] - places[5][0] > LINE_S * RATE)
    firsts = [5 + k * (len(places) - size - 10) // LINES for k in range(LINES)]
    misread = {first + size // 2 for first in firsts[::2]}
    links = tuple((k, k + 1, k, k + 1, k not in misread) for k in range(len(places)))
    hearing = Hearing(heard, tuple(Placed(a, b, 0.9) for a, b in places), links)
    with BookStore(folder / "b.reelbook", create=True) as store:
        session = Session(store)
        session.do(AddChapters((("c1", "One", store.put(Chapter, text)),)))
        chapter, takes = (received(folder / "b.reelbook", folder / name, RATE) for name in ("long.wav", "takes.wav"))
        for entry in (chapter, takes):
            session.do(AddRecording(entry))
        session.do(PairRecording("c1", chapter.hash))
        session.do(PlaceHearing("c1", store.put(Hearing, hearing), ()))
        lines, found = [], []
        for k, first in enumerate(firsts):
            words = tuple(places[first : first + size])
            line = Pickup(f"p{k}", "c1", (), " ".join(["word"] * size), "", first, size, words[0][0], words[-1][1])
            lines.append(line)
            found.append(
                (line.id, (Take(takes.hash, words[0][0], words[-1][1], 0, line.line, words, clear=(RATE // 2, RATE // 2)),), 0)
            )
        session.do(AddPickups(tuple(lines)))
        session.do(ReceiveTakes(takes.hash, tuple(found), 2))


def main() -> int:
    """Measure, and print as JSON."""
    with tempfile.TemporaryDirectory() as name:
        made(Path(name))
        app = application()
        calm_collector()
        window = open_window(Path(name) / "b.reelbook", user_settings(Path(name) / "s.ini"), simulated_sound=True)
        window.resize(1280, 800)
        window.show()
        QTest.qWaitForWindowExposed(window)

        def wait(done=lambda: not window.jobs.running) -> None:
            while not done():
                app.processEvents()
                time.sleep(0.0005)

        wait()
        bench, splice = window.bench, window.parts.splice
        splice.hear_again = lambda *_a, **_k: True  # the ears are measured elsewhere
        window.actions_.run("view.splice")
        panel = window.findChild(SplicePanel)
        wait()
        wait(lambda: splice.current_plan() is not None)
        wait()
        times = {}

        def took(name: str, begun: float) -> None:
            times.setdefault(name, []).append(1000 * (time.perf_counter() - begun))

        paths = {r.hash: bench.path_of(r.hash) for r in bench.book.recordings}
        files = FileSources(paths.__getitem__)
        for k in range(2, LINES):
            kind = "_whole" if k % 2 else ""
            pickup, chapter = bench.book.pickup(f"p{k}"), bench.book.chapter("c1")
            hearing = bench.hearing(chapter)
            begun = time.perf_counter()
            preview_parts(bench.book, chapter, pickup, hearing, lambda reel: Renderer(reel, files), session=splice.session)
            took(f"planned{kind}", begun)
            sound = np.random.default_rng(1).standard_normal(pickup.stop - pickup.start).astype(np.float32)
            begun = time.perf_counter()
            spectra_of(sound, RATE)
            spectra_of(sound, RATE)
            took("bare", begun)
            begun = time.perf_counter()
            splice.choose(pickup.id)
            longest = 0.0
            while splice.current_plan() is None:
                now = time.perf_counter()
                app.processEvents()
                longest = max(longest, time.perf_counter() - now)
                time.sleep(0.0005)
            panel.trio.repaint()
            took(f"shown{kind}", begun)
            times.setdefault("held", []).append(1000 * longest)
            wait()
            begun = time.perf_counter()
            window.actions_.run("splice.place")
            app.processEvents()
            panel.repaint()
            took("put_in", begun)
            wait()
            begun = time.perf_counter()
            panel.repaint()
            took("repaint", begun)
        window.close_now()
    told = {f"{k}_ms": round(statistics.median(v), 1) for k, v in times.items()}
    print(json.dumps(told | {f"{k}_worst_ms": round(max(v), 1) for k, v in times.items()} | {"seconds": LINE_S}))
    return 0


if __name__ == "__main__":
    sys.exit(main())
