"""What grows with a book: acts on reels of many pieces and books of many steps, in ms, beside a yardstick of the same run.

The yardstick is one pass over all pieces that makes each of them anew, as the plainest act that touches every piece would.
"""

from __future__ import annotations

import json
import pathlib
import random
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from faithful_reel.core.book.commands import AddChapters, AddRecording, EditReel, EditReels, PairRecording
from faithful_reel.core.book.model import Recording
from faithful_reel.core.book.packing import reel_key
from faithful_reel.core.book.past import changes
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.reel.commands import ChangeGain, CutAndClose, CutAndFill, DrawLine, MixLane, Overlap, Paste, ToneSource
from faithful_reel.core.reel.cutting import copied
from faithful_reel.core.reel.reel import Lane, Piece, Reel
from faithful_reel.core.reel.several import edited
from faithful_reel.core.text.words import Chapter, chapter_of
from faithful_reel.core.units import Span
from faithful_reel.core.work.gone import going
from faithful_reel.core.work.offcuts import offcuts_of

RATE, TONE = 44_100, ToneSource("a", 0, 44_100)
POINTS = 2_000


def of_pieces(count: int) -> Reel:
    """Three lanes of so many pieces in all, each of half a second with a gap after it in its recording."""
    each, hop = RATE // 2, RATE
    lanes = [Lane(n, tuple(Piece(r, k * hop, k * hop + each) for k in range(count // 3)), tone=TONE) for n, r in ROWS]
    return Reel((*lanes[:2], replace(lanes[2], segments=lanes[2].segments[: count // 4])))


ROWS = (("voice", "a"), ("other", "b"), ("music", "m"))


def ms(act: Callable[[], object], times: int = 5) -> float:
    """How long an act takes: the median of some."""
    taken = []
    for _ in range(times):
        t = time.perf_counter()
        act()
        taken.append(1000 * (time.perf_counter() - t))
    return statistics.median(taken)


def on_pieces(count: int) -> dict[str, float]:
    """Acts on a reel of so many pieces."""
    rng = random.Random(3)
    reel = of_pieces(count)
    found = {"yardstick": ms(lambda: [replace(s, gain_db=1.0) for lane in reel.lanes for s in lane.segments])}
    with BookStore(pathlib.Path(tempfile.mkdtemp()) / "b.reelbook", create=True) as store:
        session = Session(store)
        session.do(AddChapters((("c1", "One", store.put(Chapter, chapter_of("x", ["one two three"]))),)))
        for _, hash_ in ROWS:
            session.do(AddRecording(Recording(hash_, f"{hash_}.wav", ".wav", RATE, 1, count * RATE, -3, -62, -24, TONE)))
        session.do(PairRecording("c1", "a"))
        session.book = replace(session.book, chapters=(replace(session.book.chapters[0], reel=reel),))

        def cut(many: int) -> Callable[[], object]:
            places = sorted(rng.sample(range(RATE, len(reel) - RATE, RATE // 3), many), reverse=True)
            step = EditReels(tuple(("c1", CutAndClose(at, at + 900)) for at in places), "cuts")
            return lambda: told(step)

        def told(step: EditReels) -> None:
            after = step.apply(session.book)
            going(session.book, after, lambda _c, _k: lambda edges: np.zeros((2, len(edges) - 1), np.float32), lambda _c: ())

        for many in (200, 1_000):
            found[f"{many} cuts"] = ms(cut(many), 3)
    at = len(reel) // 2
    points = tuple((at + k * 40, -1.0 - k % 5) for k in range(POINTS))
    found[f"line of {POINTS} points"] = ms(lambda: DrawLine(at, at + POINTS * 40, points, 0).apply(reel))
    lined = DrawLine(at, at + POINTS * 40, points, 0).apply(reel)
    found["louder under the line"] = ms(lambda: ChangeGain(at, at + POINTS * 40, 0.1).apply(lined))
    long = Reel((Lane("voice", (Piece("a", 0, 600 * RATE),)),))
    drawn = tuple((100 + k * 10_000, -1.0 - k % 5) for k in range(POINTS))
    cut_up = edited(
        DrawLine(0, len(long), drawn, 0).apply(long), [CutAndClose(at, at + 400) for at in range(599 * RATE, RATE, -RATE)]
    )
    again = tuple(p for p in drawn if p[0] < len(cut_up))
    found["line anew over its pieces"] = ms(lambda: DrawLine(0, len(cut_up), again, 0).apply(cut_up))
    found["mix"] = ms(lambda: MixLane(0, -1.0).apply(reel))
    found["overlap"] = ms(lambda: Overlap(len(reel.lanes[0].segments) // 2, 400).apply(reel))
    found["paste"] = ms(lambda: Paste(at, at, copied(reel, Span(5_000, 200_000), (0, 1, 2))).apply(reel))
    found["key"] = ms(lambda: reel_key(reel))
    return found


def of_steps(count: int) -> dict[str, float]:
    """A book of so many steps: its offcuts, and undo after it was opened again."""
    rng = random.Random(4)
    folder = pathlib.Path(tempfile.mkdtemp()) / "b.reelbook"
    with BookStore(folder, create=True) as store:
        store._db.execute("PRAGMA synchronous = OFF")  # while it is made
        session = Session(store)
        session.do(AddChapters((("c1", "One", store.put(Chapter, chapter_of("x", ["one two three"]))),)))
        session.do(AddRecording(Recording("a", "a.wav", ".wav", RATE, 1, 7200 * RATE, -3, -62, -24, TONE)))
        session.do(PairRecording("c1", "a"))
        while store.head < count:
            reel = session.book.chapters[0].reel
            at = rng.randrange(RATE, len(reel) - RATE)
            edit = CutAndClose(at, at + 4_000) if rng.random() < 0.7 else CutAndFill(at, at + 6_000, TONE)
            session.do(EditReel("c1", edit))
        head = store.head
        session.close()
    reel = session.book.chapters[0].reel
    assert reel is not None
    found = {"yardstick": ms(lambda: [replace(s, gain_db=1.0) for lane in reel.lanes for s in lane.segments])}
    found["offcuts"] = ms(lambda: offcuts_of(changes(folder, head), "c1"), 1)
    t = time.perf_counter()
    session = Session(BookStore(folder))
    session.remember()
    found["open"] = 1000 * (time.perf_counter() - t)
    undone = []
    for _ in range(120):
        t = time.perf_counter()
        session.undo()
        undone.append(1000 * (time.perf_counter() - t))
    found |= {"first undo": undone[0], "undo": statistics.median(undone), "slowest undo": max(undone)}
    session.close()
    return found


def main() -> int:
    """Measure, and print as JSON."""
    sizes = [int(n) for n in sys.argv[1:]] or [5_000, 20_000]
    rows = {f"{n} pieces": on_pieces(n) for n in sizes} | {f"{n} steps": of_steps(n) for n in sizes}
    print(json.dumps({k: {name: round(v, 1) for name, v in row.items()} for k, row in rows.items()}))
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
