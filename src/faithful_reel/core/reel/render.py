"""The renderer: any range of a reel, block by block.  The same code plays, measures and exports."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.audio.files import BLOCK
from faithful_reel.core.audio.sources import Source
from faithful_reel.core.reel.gains import crossfade, seamless, segment_gains
from faithful_reel.core.reel.reel import RUNS_ON, SOFT, Join, Lane, Piece, Reel, Rest, RoomTone, follows
from faithful_reel.core.units import Signal, ratio

GRAIN = 11_026
MADE_TONE_DB = -72.0


class Renderer:
    """Renders one reel.  What it gives for a range does not depend on the ranges it was asked for before."""

    def __init__(self, reel: Reel, source: Source) -> None:
        self.reel = reel
        self.source = source
        self._rows = [Row(lane) for lane in heard_lanes(reel)]
        self._tones: dict[tuple[str, int, int], Signal] = {}

    def __len__(self) -> int:
        return len(self.reel)

    def render(self, start: int, stop: int) -> Signal:
        """Samples `start` to `stop` of all lanes mixed: (n,) or (channels, n) float32."""
        mix: Signal | None = None
        for row in self._rows:
            part = self._placed(row.lane, self._lane(row, start, stop))
            mix = part if mix is None else mix + part
        return np.zeros(stop - start, np.float32) if mix is None else mix

    def blocks(self, start: int = 0, stop: int | None = None, block: int = BLOCK) -> Iterator[Signal]:
        """The whole reel, or a range, block by block."""
        stop = len(self) if stop is None else stop
        for at in range(start, stop, block):
            yield self.render(at, min(stop, at + block))

    @staticmethod
    def _placed(lane: Lane, x: Signal) -> Signal:
        """A lane's sound at its level, and in stereo at its place: the other side goes down as far as it is away from it."""
        if lane.gain_db:
            x = x * np.float32(ratio(lane.gain_db))
        if lane.pan and x.ndim > 1:
            x = x * np.array([[min(1.0, 1 - lane.pan)], [min(1.0, 1 + lane.pan)]], np.float32)
        return x

    def _lane(self, row: Row, start: int, stop: int) -> Signal:
        out: Signal = np.zeros(stop - start, np.float32)
        lane, starts, reach = row.lane, row.starts, row.longest // 2
        for index in range(max(0, bisect_right(starts, start - reach) - 1), len(lane.segments)):
            if starts[index] - reach >= stop:
                break
            segment = lane.segments[index]
            first = max(start, starts[index] - row.crossfade(index) // 2)
            last = min(stop, starts[index + 1] + row.crossfade(index + 1) // 2)
            if last <= first or isinstance(segment, Rest):
                continue
            x = self._raw(segment, first - starts[index], last - starts[index])
            inside = np.arange(first - starts[index], last - starts[index], dtype=np.float64)
            gain = (segment_gains(segment, inside) * row.weights(index, first, last)).astype(np.float32)
            if x.ndim > out.ndim:  # what is in one channel so far is in all of them
                out = np.repeat(out[None], x.shape[0], axis=0)
            out[..., first - start : last - start] += (x * gain).astype(np.float32)
        return out

    def _raw(self, segment: Piece | RoomTone, first: int, last: int) -> Signal:
        """A segment's own sound; `first` may be negative and `last` past its end, for crossfades."""
        if isinstance(segment, Piece):
            return self.source(segment.recording, segment.start + first, segment.start + last)
        return self._tone(segment, first + segment.offset, last + segment.offset)

    def _tone(self, tone: RoomTone, first: int, last: int) -> Signal:
        """Weave room tone: half-overlapped grains of the source under a sine window, so that its power is even.

        Every sample is the sum of the same two grains whatever range is asked for.
        """
        key = (tone.recording, tone.start, tone.stop)
        if key not in self._tones:
            if tone.recording:
                self._tones[key] = self.source(*key)
            else:
                made = np.random.default_rng(7).standard_normal(8 * GRAIN) * ratio(MADE_TONE_DB)
                self._tones[key] = made.astype(np.float32)
        x = self._tones[key]
        grain = min(GRAIN, x.shape[-1] // 4 * 2)
        out = np.zeros((*x.shape[:-1], last - first), np.float32)
        if grain < 2:
            return out
        hop = grain // 2
        window = np.sin(np.pi * (np.arange(grain) + 0.5) / grain).astype(np.float32)
        for k in range(first // hop - 1, last // hop + 1):
            offset = _scattered(k, tone.seed) % (x.shape[-1] - grain + 1)
            lo, hi = max(first, k * hop), min(last, k * hop + grain)
            if hi > lo:
                a, b = lo - k * hop, hi - k * hop
                out[..., lo - first : hi - first] += x[..., offset + a : offset + b] * window[a:b]
        return out


def _scattered(k: int, seed: int) -> int:
    """An even, repeatable scatter of integers (the finaliser of splitmix64, Steele et al., 2014)."""
    z = (k * 0x9E3779B97F4A7C15 + seed * 0xBF58476D1CE4E5B9) & 0xFFFFFFFFFFFFFFFF
    z = ((z ^ (z >> 30)) * 0xBF58476D1CE4E5B9) & 0xFFFFFFFFFFFFFFFF
    z = ((z ^ (z >> 27)) * 0x94D049BB133111EB) & 0xFFFFFFFFFFFFFFFF
    return z ^ (z >> 31)


def heard_lanes(reel: Reel) -> list[Lane]:
    """The lanes that are heard: those that are let be heard alone where there are any, else all that are not muted."""
    alone = [lane for lane in reel.lanes if lane.solo and not lane.muted]
    return alone or [lane for lane in reel.lanes if not lane.muted]


class Row:
    """A lane with where its segments start and how they take over from one another.

    Where a piece was split the sound runs on: a crossfade beside it may reach over the split, as if there were none.
    """

    def __init__(self, lane: Lane) -> None:
        self.lane = lane
        self.starts = lane.starts()
        self.longest = lane.longest_join
        self._lengths: dict[int, int] = {}

    def crossfade(self, index: int) -> int:
        """Length, even, of the crossfade before segment `index`: no longer than what runs on on either side."""
        if not 0 < index < len(self.lane.segments):
            return 0
        found = self._lengths.get(index)
        if found is None:
            wanted = self.join(index).length
            at = self.starts[index]
            left = at - self.starts[self._run_start(index - 1, at, wanted)]
            right = self.starts[self._run_stop(index, at, wanted)] - at
            found = self._lengths[index] = min(wanted, left, right) // 2 * 2
        return found

    def join(self, index: int) -> Join:
        """The join before a segment as it is heard: where a split has become an edge, it is softened.

        Two stretches of the very same sound take over with equal gain, which does not swell.
        """
        before, after = self.lane.segments[index - 1], self.lane.segments[index]
        join = SOFT if after.join == RUNS_ON and not seamless(before, after) else after.join
        return replace(join, shape="equal_gain") if follows(before, after) else join

    def _splits(self, index: int) -> bool:
        """Whether the boundary before a segment only splits sound that runs on."""
        segments = self.lane.segments
        return segments[index].join == RUNS_ON and seamless(segments[index - 1], segments[index])

    def _run_start(self, index: int, origin: int, far: int) -> int:
        """The segment in which the sound of segment `index` began, as far before `origin` as that matters."""
        while index > 0 and origin - self.starts[index] < far and self._splits(index):
            index -= 1
        return index

    def _run_stop(self, index: int, origin: int, far: int) -> int:
        """The boundary to which the sound of segment `index` runs on, as far after `origin` as that matters."""
        index += 1
        while index < len(self.lane.segments) and self.starts[index] - origin < far and self._splits(index):
            index += 1
        return index

    def weights(self, index: int, first: int, last: int) -> NDArray[np.float64]:
        """How much of segment `index` is heard between two positions, (last - first,), by the joins on both sides."""
        gain = np.ones(last - first)
        begun = self._run_start(index, self.starts[index], self.longest)
        ended = self._run_stop(index, self.starts[index + 1], self.longest)
        for boundary, rising in ((begun, True), (ended, False)):
            length = self.crossfade(boundary)
            at = self.starts[boundary]
            lo, hi = max(first, at - length // 2), min(last, at + length // 2)
            if hi > lo:
                place = (np.arange(lo, hi) - (at - length // 2) + 0.5) / length
                gain[lo - first : hi - first] *= crossfade(place, self.join(boundary), rising=rising)
        return gain
