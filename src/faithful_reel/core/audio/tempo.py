"""Faster or slower without a change of pitch, by FFmpeg's `atempo` filter."""

from __future__ import annotations

import av
import av.error
import numpy as np

from faithful_reel.core.units import Signal

SLOWEST, FASTEST = 0.75, 2.5


class Tempo:
    """A mono stream at another speed; unchanged at 1.0."""

    def __init__(self, rate: int, speed: float) -> None:
        if not SLOWEST <= speed <= FASTEST:
            raise ValueError(f"speed must be {SLOWEST} to {FASTEST}, got {speed}")
        self.speed = speed
        self._rate = rate
        self._graph: av.filter.Graph | None = None
        if speed != 1.0:
            graph = av.filter.Graph()
            source = graph.add_abuffer(sample_rate=rate, format="flt", layout="mono")
            tempo = graph.add("atempo", str(speed))
            sink = graph.add("abuffersink")
            source.link_to(tempo)
            tempo.link_to(sink)
            graph.configure()
            self._graph = graph

    def feed(self, x: Signal) -> Signal:
        """The next block, (n,); gives what is finished."""
        if self._graph is None:
            return x
        frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(x[None], dtype=np.float32), format="flt", layout="mono")
        frame.sample_rate = self._rate
        self._graph.push(frame)
        return self._pulled()

    def flush(self) -> Signal:
        """The rest, (n,)."""
        if self._graph is None:
            return np.zeros(0, np.float32)
        self._graph.push(None)
        return self._pulled()

    def _pulled(self) -> Signal:
        assert self._graph is not None
        parts: list[Signal] = []
        while True:
            try:
                parts.append(np.asarray(self._graph.pull().to_ndarray().reshape(-1), np.float32))
            except (av.error.BlockingIOError, av.error.EOFError):
                break
        return np.concatenate(parts) if parts else np.zeros(0, np.float32)
