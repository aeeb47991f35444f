"""A made book of so many hours, opened and edited on disk and in the window: prints its figures as JSON.

Two chapters, 9,500 words, 150 findings and 400 steps an hour: at 20 hours 40 chapters, 190,000 words, 3,000 findings,
8,000 steps.
"""

from __future__ import annotations

import json
import os
import pathlib
import random
import sqlite3
import sys
import tempfile
import time

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
import numpy as np
from PyQt6.QtCore import QSettings, QTimer
from PyQt6.QtWidgets import QApplication

from faithful_reel.app.main import calm_collector
from faithful_reel.app.theme import load_fonts
from faithful_reel.app.widgets.turns import OWN_TURN_MS
from faithful_reel.app.wiring import open_window
from faithful_reel.core.audio.overview import overview_of
from faithful_reel.core.book.commands import AddChapters, AddRecording, Decide, EditReel, PairRecording, PlaceHearing
from faithful_reel.core.book.model import Recording
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.collate.findings import Decision, Finding, Kind
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.reel.commands import CutAndClose, CutAndFill, SetGain, ToneSource
from faithful_reel.core.text.words import Chapter, chapter_of
from faithful_reel.core.work.timeline import Hearing

RATE = 44_100
WORDS, FINDINGS, EDITS = 4750, 75, 200  # a chapter of half an hour


def hearing(rng: random.Random) -> Hearing:
    """A hearing of `WORDS` words, evenly over half an hour."""
    hop = 1800 * RATE // WORDS
    heard = tuple(Heard(f"w{i % 700}", i * hop, i * hop + hop * 4 // 5, rng.random()) for i in range(WORDS))
    placed = tuple(Placed(h.start, h.stop, h.confidence) for h in heard)
    return Hearing(heard, placed, tuple((i, i + 1, i, i + 1, True) for i in range(WORDS)))


def made(folder: pathlib.Path, hours: int) -> None:
    """Make the book."""
    rng = random.Random(7)
    chapters = 2 * hours
    with BookStore(folder, create=True) as store:
        store._db.execute("PRAGMA synchronous = OFF")  # while it is made
        session = Session(store)
        rows = []
        for number in range(chapters):
            paragraphs = [" ".join(f"w{(number + 60 * p + i) % 700}" for i in range(59)) + " end." for p in range(WORDS // 60)]
            rest = WORDS - 60 * (WORDS // 60)
            paragraphs.append(" ".join(["tail"] * rest) or "tail")
            rows.append((f"c{number}", f"Chapter {number + 1}", store.put(Chapter, chapter_of("x", paragraphs))))
        session.do(AddChapters(tuple(rows)))
        heard = store.put(Hearing, hearing(rng))
        for number in range(chapters):
            name = f"r{number}"
            tone = ToneSource(name, 1000, 100_000)
            session.do(AddRecording(Recording(name, f"{number}.wav", ".wav", RATE, 1, 1800 * RATE, -3, -62, -24, tone)))
            session.do(PairRecording(f"c{number}", name))
            hop = 1800 * RATE // WORDS
            found = tuple(
                Finding(f"c{number}f{k}", Kind.MISREAD, "this", "that", w, 1, w * hop, w * hop + 9000, rng.uniform(0.5, 1))
                for k, w in enumerate(sorted(rng.sample(range(WORDS - 5), FINDINGS)))
            )
            session.do(PlaceHearing(f"c{number}", heard, found))
        while store.head < 400 * hours:
            number = rng.randrange(chapters)
            chapter = session.book.chapter(f"c{number}")
            at = rng.randrange(200_000, len(chapter.reel) - 200_000)
            match rng.randrange(5):
                case 0 | 1:
                    finding = rng.choice(chapter.findings)
                    session.do(Decide(chapter.id, (finding.id,), rng.choice([Decision.STET, Decision.MEND])))
                case 2:
                    session.do(EditReel(chapter.id, CutAndClose(at, at + 4000)))
                case 3:
                    session.do(EditReel(chapter.id, CutAndFill(at, at + 8000, ToneSource(f"r{number}", 1000, 100_000))))
                case _:
                    session.do(EditReel(chapter.id, SetGain(at, at + 40_000, -1.0)))
        session.close()


def main() -> None:
    """Make, open, edit."""
    hours = int(sys.argv[1])
    folder = pathlib.Path(tempfile.mkdtemp()) / "b.reelbook"
    made(folder, hours)
    figures: dict[str, float] = {"database_mb": (folder / "book.sqlite").stat().st_size / 2**20}
    t = time.perf_counter()
    session = Session(BookStore(folder))
    figures["open_ms"] = 1000 * (time.perf_counter() - t)
    book = session.book
    figures["words"] = sum(len(session.store.get(Chapter, c.text).words) for c in book.chapters)
    figures["findings"] = sum(len(c.findings) for c in book.chapters)
    figures["steps"] = session.store.count()
    rng = random.Random(9)
    times = []
    for _ in range(200):
        at = rng.randrange(200_000, 1700 * RATE)
        t = time.perf_counter()
        session.do(EditReel("c1", CutAndClose(at, at + 400)))
        times.append(1000 * (time.perf_counter() - t))
    times.sort()
    figures |= {"disk_ms": times[100], "disk_p99_ms": times[197]}
    for _ in range(200):
        session.undo()
    session.close()

    app = QApplication([])
    load_fonts()
    settings = QSettings(str(folder.parent / "s.ini"), QSettings.Format.IniFormat)
    settings.setValue("view/desk", "proof")
    x = np.random.default_rng(1).standard_normal(RATE * 60).astype(np.float32) * 0.1
    drawn = overview_of(x for _ in range(30))
    t = time.perf_counter()
    window = open_window(folder, settings, simulated_sound=True)
    for number in range(2 * hours):
        window.bench._overviews[f"r{number}"] = drawn
    window.resize(1280, 800)
    window.show()
    app.processEvents()
    window.grab()
    figures["window_ms"] = 1000 * (time.perf_counter() - t)
    calm_collector()  # as the program does
    window.bench.open_chapter("c1")
    window.galley.setFocus()
    app.processEvents()
    turns = [t for t in window.findChildren(QTimer) if t.isSingleShot() and t.interval() == OWN_TURN_MS]
    shown, kinds = [], {}
    for turn in range(120):
        at = rng.randrange(200_000, 1700 * RATE)
        finding = window.bench.book.chapter("c1").findings[turn % FINDINGS]
        command = Decide("c1", (finding.id,), Decision.STET) if turn % 2 else EditReel("c1", CutAndClose(at, at + 400))
        t = time.perf_counter()
        window.bench.do(command)
        app.processEvents()
        while any(t.isActive() for t in turns):  # until all that changed is painted
            app.processEvents()
        app.processEvents()
        shown.append(1000 * (time.perf_counter() - t))
        kinds.setdefault(turn % 2, []).append(shown[-1])
    shown.sort()
    figures |= {"shown_ms": shown[60], "shown_p95_ms": shown[113]}
    figures |= {"shown_cut_ms": sorted(kinds[0])[30], "shown_decide_ms": sorted(kinds[1])[30]}
    window.close()
    # the yardstick: one row in a bare SQLite table with the same promises, on the same disk
    db = sqlite3.connect(folder.parent / "bare.sqlite", isolation_level=None)
    db.execute("PRAGMA journal_mode = WAL")
    db.execute("PRAGMA synchronous = FULL")
    db.execute("CREATE TABLE t (x TEXT)")
    bare = []
    for _ in range(200):
        t = time.perf_counter()
        db.execute("INSERT INTO t VALUES ('x')")
        bare.append(1000 * (time.perf_counter() - t))
    figures["yardstick_ms"] = sorted(bare)[100]
    lines = pathlib.Path("/proc/self/status").read_text().splitlines()
    figures["peak_mb"] = int(next(s for s in lines if s.startswith("VmHWM")).split()[1]) / 1024
    print(json.dumps(figures))


if __name__ == "__main__":
    main()
