"""From a key to the sound: the acts that are done all day, on a chapter of 2 hours, 5,000 pieces and 3 lanes.

The yardstick of the same run: rendering the first block bare.
"""

from __future__ import annotations

import json
import random
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from desk import RATE, made, settled
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from faithful_reel.app.main import application, calm_collector
from faithful_reel.app.window import Window
from faithful_reel.app.wiring import open_window, user_settings
from faithful_reel.core.book.commands import EditReel
from faithful_reel.core.collate.findings import Decision
from faithful_reel.core.reel.commands import MixLane
from faithful_reel.core.standins.sound_card import SimulatedCard

TIMES = 15
NONE, SHIFT, CTRL, ALT = (
    Qt.KeyboardModifier.NoModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.AltModifier,
)
KEYS: dict[str, tuple[Qt.Key, Qt.KeyboardModifier]] = {
    "decide a finding": (Qt.Key.Key_S, NONE),
    "take out": (Qt.Key.Key_Delete, NONE),
    "hear the join": (Qt.Key.Key_F11, NONE),
    "as it was": (Qt.Key.Key_B, SHIFT),
    "pause shorter": (Qt.Key.Key_Comma, CTRL),
    "to the end of the sentence": (Qt.Key.Key_F4, NONE),
    "fill": (Qt.Key.Key_Delete, SHIFT),
    "move a join": (Qt.Key.Key_Right, ALT),
    "hear what is marked": (Qt.Key.Key_Space, SHIFT),
}


def main() -> int:
    """Measure, and print as JSON."""
    rng = random.Random(5)
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
        window.bench.ask = lambda _title, _words, _told, answers: answers[0]
        window.bench.do(
            EditReel("c1", MixLane(1, -60.0))
        )  # who speaks there as well is asked about: that takes as long as it takes
        window.actions_.run("view.proof")
        window.parts.editing.choose_lane(0)
        window.parts.proof.unfold(shown=True)
        pushed: list[float] = []
        push = SimulatedCard.push
        SimulatedCard.push = lambda self, block, count: (pushed.append(time.perf_counter()), push(self, block, count))[1]  # type: ignore[method-assign]

        def to_sound(key: Qt.Key, held: Qt.KeyboardModifier) -> float:
            """Milliseconds from a key to the first sound that it makes."""
            settled(window)
            window.galley.setFocus()
            time.sleep(0.25)  # no key is held down
            pushed.clear()
            begun = time.perf_counter()
            QTest.keyClick(window.galley, key, held)
            while not pushed and time.perf_counter() - begun < 2:
                app.processEvents()
            return 1000 * (pushed[0] - begun) if pushed else 2000.0

        times: dict[str, list[float]] = {}
        for _ in range(TIMES):
            for act, (key, held) in KEYS.items():
                _ready(window, act, rng)
                times.setdefault(act, []).append(to_sound(key, held))
        window.transport.stop()
        chapter = window.bench.chapter
        assert chapter is not None
        assert chapter.reel is not None
        render: Callable[[int, int], object] = window.bench.render_here(chapter.reel)
        bare = []
        for _ in range(10):
            at = rng.randrange(10 * RATE, len(chapter.reel) - 30 * RATE)
            begun = time.perf_counter()
            render(at, at + 2048)
            bare.append(1000 * (time.perf_counter() - begun))
        window.close_now()
    middle = {act: sorted(row)[len(row) // 2] for act, row in times.items()}
    slowest = max(middle, key=lambda act: middle[act])
    print(
        json.dumps(
            {
                "slowest": slowest,
                "slowest_ms": middle[slowest],
                "middle_ms": middle,
                "worst_ms": {a: max(r) for a, r in times.items()},
                "block_ms": sorted(bare)[len(bare) // 2],
            }
        )
    )
    return 0


def _ready(window: Window, act: str, rng: random.Random) -> None:
    """What an editor has at hand before the key."""
    editing, transport = window.parts.editing, window.transport
    transport.stop()
    if act == "as it was":
        window.actions_.run("ear.join")
        QTest.qWait(100)
        return
    if act == "hear the join":
        return
    editing.let_go()
    word = rng.randrange(200, 13_000)
    if act == "decide a finding":
        still_open = [f for f in window.parts.proof.docket()[:20] if f.decision is Decision.OPEN]
        window.parts.proof.choose(rng.choice(still_open).id)
    else:
        editing.select_words(word, word)
        span = editing.span
        if span is not None:
            transport.go_to(span.start + 100, look=True)
    if act in ("pause shorter", "to the end of the sentence", "move a join"):
        editing.let_go()


if __name__ == "__main__":
    sys.exit(main())
