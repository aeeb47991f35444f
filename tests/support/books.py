"""A small book without sound, to try commands and the store on."""

from __future__ import annotations

from faithful_reel.core.book.model import Recording
from faithful_reel.core.collate.findings import Finding, Kind
from faithful_reel.core.reel.commands import ToneSource

TONE = ToneSource("r1", 0, 1000)
RECORDING = Recording("r1", "one.wav", ".wav", 44_100, 1, 1_000_000, -3.0, -62.0, -24.0, TONE)


def finding(number: int, kind: Kind = Kind.MISREAD) -> Finding:
    return Finding(f"f{number}", kind, "this", "that", number, 1, number * 1000, number * 1000 + 500, 0.9)
