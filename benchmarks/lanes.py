"""Editing at size: every command on a two-hour reel of 5,000 pieces on three lanes, and frames of the loupe that shows them."""

from __future__ import annotations

import json
import os
import random
import time

os.environ["QT_QPA_PLATFORM"] = "offscreen"
import numpy as np
from PyQt6.QtGui import QPixmap

from faithful_reel.app.main import application, calm_collector
from faithful_reel.app.widgets.loupe import Loupe, LoupeContent, LoupeLane
from faithful_reel.core.audio.overview import overview_of
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import (
    ChangeGain,
    CutAndClose,
    CutAndFill,
    DrawLine,
    InsertPause,
    MixLane,
    MoveEdge,
    MoveJoin,
    Paste,
    PutMarker,
    ReplaceByTake,
    SetFade,
    SetGain,
    SetJoins,
    SplitAt,
    SplitMany,
    ToneSource,
)
from faithful_reel.core.reel.cutting import copied
from faithful_reel.core.reel.look import lane_look
from faithful_reel.core.reel.picture import reel_columns
from faithful_reel.core.reel.reel import Fade, Join, Lane, Marker, Piece, Reel
from faithful_reel.core.reel.render import Row
from faithful_reel.core.units import Span

RATE, PIECES = 44_100, 5_000
LENGTH = 2 * 3600 * RATE
TONE = ToneSource("a", 0, 44_100)
rng = random.Random(1)


def lane(name: str, recording: str) -> Lane:
    """A lane of pieces, some of them with fades and lines."""
    each = LENGTH // (PIECES // 3)
    pieces = []
    for k in range(PIECES // 3):
        line = ((k * each + 100, -3.0), (k * each + each // 2, 0.0)) if k % 3 == 0 else ()
        pieces.append(Piece(recording, k * each, (k + 1) * each, fade_in=Fade(2000 if k % 5 == 0 else 0), line=line))
    return Lane(name, tuple(pieces), tone=TONE)


reel = Reel(tuple(lane(*names) for names in (("voice", "a"), ("other", "b"), ("music", "m"))))


def commands(reel: Reel) -> dict[str, object]:
    """One of each, somewhere."""
    at = rng.randrange(RATE, len(reel) - 20 * RATE)
    index = rng.randrange(1, len(reel.lanes[0].segments) - 1)
    places = tuple(sorted(at + rng.randrange(10 * RATE) for _ in range(30)))
    return {
        "take out": CutAndClose(at, at + 9000),
        "fill": CutAndFill(at, at + 9000, TONE, 1),
        "pause": InsertPause(at, 9000, TONE),
        "split": SplitAt(at),
        "split at 30 places": SplitMany(places, (), (0, 1, 2)),
        "move a join": MoveJoin(index, 50),
        "move an edge": MoveEdge(index, 50),
        "a take": ReplaceByTake(at, at + 9000, "b", 5, 12_000, 0.0, TONE),
        "paste": Paste(at, at, copied(reel, Span(5000, 200_000), (0, 1, 2))),
        "gain": SetGain(at, at + 90_000, -3.0),
        "louder": ChangeGain(at, at + 90_000, 0.1),
        "line": DrawLine(at, at + 400_000, ((at + 100_000, -6.0),), 2),
        "fade": SetFade(index, Fade(500)),
        "all joins": SetJoins(at, at + 20 * RATE, Join(900)),
        "mix": MixLane(2, -3.0),
        "marker": PutMarker(Marker(f"m{at}", at)),
    }


calm_collector()  # as the window does
times: dict[str, list[float]] = {}
for _ in range(40):
    for name, command in commands(reel).items():
        begun = time.perf_counter()
        try:
            after = command.apply(reel)  # type: ignore[attr-defined]
        except EditRefused:  # the piece that was drawn by lot is too short
            continue
        times.setdefault(name, []).append(1000 * (time.perf_counter() - begun))
        reel = after if name not in ("mix", "all joins", "split at 30 places") else reel
medians = {name: sorted(row)[len(row) // 2] for name, row in times.items()}
slowest = max(medians, key=lambda name: medians[name])
worst = max(max(row) for row in times.values())
begun = time.perf_counter()
for _ in range(20):
    for row in reel.lanes:
        sum(map(len, row.segments))
bare = 1000 * (time.perf_counter() - begun) / 20

app = application()
noise = np.random.default_rng(1).standard_normal(RATE * 20).astype(np.float32) * 0.1
overview = overview_of(noise for _ in range(LENGTH // len(noise) + 1))


def shown(index: int) -> LoupeLane:
    """A lane as the loupe shows it."""
    row = Row(reel.lanes[index])
    return LoupeLane(
        row.lane.name,
        lambda edges: reel_columns(reel, lambda _: overview, edges, lane=index, starts=row.starts),
        lambda a, b: noise[: b - a],
        lambda a, b: lane_look(row, a, b),
    )


loupe = Loupe()
loupe.resize(1280, 640)
loupe.set_content(LoupeContent(tuple(shown(k) for k in range(3)), None, len(reel), RATE, None, 0.001))
loupe.show()
app.processEvents()
picture = QPixmap(loupe.size())
frames: dict[str, list[float]] = {"drag": [], "zoom": [], "scroll": []}
loupe.look_at(LENGTH // 2, span_s=6)
loupe.render(picture)
for k in range(120):
    kind = ("drag", "zoom", "scroll")[k % 3]
    begun = time.perf_counter()
    if kind == "drag":
        loupe.set_spans([(LENGTH // 2 - 1000 * k, LENGTH // 2 + 1000 * k)])
    elif kind == "zoom":
        loupe.zoom(1.3 if k % 2 else 0.7)
    else:
        loupe.look_at(LENGTH // 2 + 20_000 * k)
    loupe.render(picture)
    frames[kind].append(1000 * (time.perf_counter() - begun))
blank = QPixmap(1280, 640)
begun = time.perf_counter()
for _ in range(20):
    blank.fill(0xFFFFFF)
filled = 1000 * (time.perf_counter() - begun) / 20
middle = {kind: sorted(row)[len(row) // 2] for kind, row in frames.items()}
print(
    json.dumps(
        {
            "command_ms": medians[slowest],
            "slowest": slowest,
            "command_worst_ms": worst,
            "bare_ms": bare,
            "frame_ms": max(middle.values()),
            "frames": middle,
            "frame_worst_ms": max(max(row) for row in frames.values()),
            "blank_ms": filled,
            "lanes": len(loupe.shown),
        }
    )
)
