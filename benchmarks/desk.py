"""In the real window on a chapter of 2 hours, 5,000 pieces and 3 lanes: from an act to the painted page, and from the key to sound.

The yardsticks of the same run: painting the page and the loupe anew without any change, and rendering the first block bare.
"""

from __future__ import annotations

import json
import os
import random
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
import soundfile
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from faithful_reel.app.asking import Asking
from faithful_reel.app.main import application, calm_collector
from faithful_reel.app.proof.quick_pane import QuickPane
from faithful_reel.app.wiring import open_window, user_settings
from faithful_reel.core.book.commands import EDITION, AddChapters, AddRecording, PairRecording, PlaceHearing
from faithful_reel.core.book.kept import TakeReel
from faithful_reel.core.book.recordings import received
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.collate.findings import Finding, Kind
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.reel.reel import Lane, Piece, Reel
from faithful_reel.core.standins.sound_card import SimulatedCard
from faithful_reel.core.text.words import Chapter, chapter_of
from faithful_reel.core.work.timeline import Hearing

RATE, PIECES, SECONDS = 44_100, 5000, 7200
rng = random.Random(3)


def made(folder: Path) -> None:
    """The book: a recording of two hours, cut into many pieces, with a word heard every half second."""
    noise = np.random.default_rng(1).standard_normal(RATE * 60).astype(np.float32) * 0.05
    with soundfile.SoundFile(folder / "long.flac", "w", RATE, 1, "PCM_16") as file:
        for _ in range(SECONDS // 60):
            file.write(noise)
    book = folder / "b.reelbook"
    with BookStore(book, create=True) as store:
        session = Session(store)
        words = [f"word{'.' if k % 9 == 8 else ''}" for k in range(2 * SECONDS - 20)]
        text = chapter_of("One", [" ".join(words[k : k + 80]) for k in range(0, len(words), 80)])
        session.do(AddChapters((("c1", "One", store.put(Chapter, text)),)))
        entry = received(book, folder / "long.flac", RATE)
        session.do(AddRecording(entry))
        session.do(PairRecording("c1", entry.hash))
        places = [(RATE * (k + 4) // 2, RATE * (k + 4) // 2 + 15_000) for k in range(len(text.words))]
        heard = tuple(Heard(w.text, a, b, 0.9) for w, (a, b) in zip(text.words, places, strict=True))
        links = tuple((k, k + 1, k, k + 1, True) for k in range(len(heard)))
        hearing = Hearing(heard, tuple(Placed(a, b, 0.9) for a, b in places), links)
        doubts = tuple(
            Finding(f"f{n}", Kind.MISREAD, "word", "ward", k, 1, *places[k], 0.05 + 0.004 * n)
            for n, k in enumerate(range(100, 13_000, 215))
        )
        session.do(PlaceHearing("c1", store.put(Hearing, hearing), doubts, EDITION))
        length = entry.length // PIECES
        lanes = tuple(
            Lane(
                name,
                tuple(Piece(entry.hash, k * length, (k + 1) * length, 0.1 * (k % 2)) for k in range(PIECES)),
                music=name == "sea",
            )
            for name in ("voice", "clerk", "sea")
        )
        session.do(TakeReel("c1", Reel(lanes), "Many pieces", "v", "as it came"))
        session.do(TakeReel("c1", Reel(lanes[:1]), "One lane", "v1", "three lanes"))
        session.do(TakeReel("c1", Reel(lanes), "Three lanes", "v2", "one lane"))


def settled(window: object) -> None:
    """Until nothing waits to be painted."""
    app = QApplication.instance()
    assert app is not None
    for _ in range(200):
        app.processEvents()
        if window.loupe._picture is not None and not window.loupe._paint_timer.isActive():  # type: ignore[attr-defined]
            return


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
        while window.jobs.running:
            app.processEvents()
            time.sleep(0.01)
        window.actions_.run("view.proof")
        editing = window.parts.editing
        editing.easing = False
        Asking.choose = lambda _self, _title, _words, _told, answers: answers[0]  # type: ignore[method-assign]
        painted: dict[str, list[float]] = {}
        for _ in range(25):
            for act in ("edit.cut_close", "edit.cut_fill", "edit.softer", "edit.split", "edit.fade_in", "edit.point_down"):
                word = rng.randrange(200, 13_000)
                editing.let_go()
                editing.select_words(word, word + 3)
                span = editing.span
                if span is None:
                    continue
                window.transport.go_to(span.start, look=True)
                settled(window)
                begun = time.perf_counter()
                window.actions_.run(act)
                window.galley.viewport().repaint()
                settled(window)
                window.loupe.repaint()
                painted.setdefault(act, []).append(1000 * (time.perf_counter() - begun))
        blank = []
        for _ in range(20):
            begun = time.perf_counter()
            window.galley.viewport().repaint()
            window.loupe._redraw()
            settled(window)
            window.loupe.repaint()
            blank.append(1000 * (time.perf_counter() - begun))
        first: list[float] = []
        pushed: list[float] = []
        push = SimulatedCard.push
        SimulatedCard.push = lambda self, block, count: (pushed.append(time.perf_counter()), push(self, block, count))[1]  # type: ignore[method-assign]
        for _ in range(25):
            window.transport.stop()
            window.transport.go_to(rng.randrange(10 * RATE, (SECONDS - 30) * RATE), look=True)
            settled(window)
            pushed.clear()
            window.galley.setFocus()
            begun = time.perf_counter()
            QTest.keyClick(window.galley, Qt.Key.Key_Space)
            while not pushed and time.perf_counter() - begun < 2:
                app.processEvents()
            first.append(1000 * (pushed[0] - begun) if pushed else 2000.0)
        window.transport.stop()
        window.actions_.run("quick.start")
        pane = next(w for w in window.findChildren(QuickPane))
        doubt: list[float] = []
        for n in range(40):
            settled(window)
            pushed.clear()
            begun = time.perf_counter()
            QTest.keyClick(pane, Qt.Key.Key_1 if n % 3 == 0 else Qt.Key.Key_2)
            while not pushed and time.perf_counter() - begun < 2:
                app.processEvents()
            doubt.append(1000 * (pushed[0] - begun) if pushed else 2000.0)
        window.actions_.run("quick.start")
        window.transport.stop()
        chapter = window.bench.chapter
        assert chapter is not None
        assert chapter.reel is not None
        render = window.bench.render_here(chapter.reel)
        bare = []
        for _ in range(10):
            at = rng.randrange(10 * RATE, (SECONDS - 30) * RATE)
            begun = time.perf_counter()
            render(at, at + 4096)
            bare.append(1000 * (time.perf_counter() - begun))
        window.close_now()
    middle = {act: sorted(row)[len(row) // 2] for act, row in painted.items()}
    result = {
        "step_painted_ms": max(middle.values()), "steps": middle, "step_worst_ms": max(map(max, painted.values())),
        "repaint_ms": sorted(blank)[len(blank) // 2], "first_sound_ms": sorted(first)[len(first) // 2], "first_sound_worst_ms": max(first),
        "block_ms": sorted(bare)[len(bare) // 2], "doubt_ms": sorted(doubt)[len(doubt) // 2], "doubt_worst_ms": max(doubt),
    }  # fmt: skip
    print(json.dumps(result))
    return 0


if __name__ == "__main__":
    sys.exit(main())
