"""Where somebody speaks, and the pauses between, as treatments need them."""

from __future__ import annotations

from collections.abc import Iterator

from faithful_reel.core.audio.roomtone import FRAME_S
from faithful_reel.core.audio.voice import SOUND_DB, Voice, VoiceBands, runs
from faithful_reel.core.jobs import Watch
from faithful_reel.core.treat.cells import Near, Sound, over_cells
from faithful_reel.core.units import Signal, Span

SHORTEST_S, EDGE_FRAMES = 0.06, 2


def voice_of(sound: Sound, watch: Watch | None = None) -> Voice:
    """Where somebody speaks, in one pass."""
    bands = VoiceBands(sound.rate, sound.channels)

    def own(cell: Near) -> Signal:
        return cell.sound[:, cell.first : cell.last]

    cells: Iterator[Signal] = over_cells(sound, 0, own, watch, "looking for pauses")
    for x in cells:
        bands.feed(x)
    return bands.voice()


def spans_of(voice: Voice) -> tuple[list[Span], list[Span]]:
    """Where somebody speaks, and the pauses away from the words beside them that are not digital silence."""
    speaks = [Span(a * voice.size, b * voice.size) for a, b in runs(voice.speaks)]
    shortest = round(SHORTEST_S / FRAME_S) + 2 * EDGE_FRAMES
    quiet = runs(~voice.speaks & (voice.levels > SOUND_DB), shortest)
    return speaks, [Span((a + EDGE_FRAMES) * voice.size, (b - EDGE_FRAMES) * voice.size) for a, b in quiet]
