"""Flaws of the sound that are no departure from the text: pauses, noises, clipped words."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence

import numpy as np

from faithful_reel.core.audio.roomtone import frame_levels
from faithful_reel.core.collate.findings import Evidence, Finding, Kind
from faithful_reel.core.collate.links import Link
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.units import EAR_RATE, Signal

LONG_PAUSE_S = 2.2
LONGEST_NOISE_S = 0.5


def flaws_of(x: Signal, words: Sequence[Heard], links: Sequence[Link]) -> list[Finding]:
    """Pauses that are too long, noises in pauses, clipped words."""
    heard = sorted(words, key=lambda h: h.start)
    written_at = _written_positions(words, links)
    flaws: list[Finding] = []

    def flaw(kind: Kind, start: int, stop: int, confidence: float, note: str) -> None:
        index = written_at(start)
        flaws.append(Finding("", kind, "", "", index, 0, start, stop, confidence, Evidence(note=note)))

    size = EAR_RATE // 200
    levels = frame_levels(x, EAR_RATE // 4)  # 5 ms frames
    usual = [b.start - a.stop for a, b in itertools.pairwise(heard) if b.start - a.stop > 0.25 * EAR_RATE]
    limit = max(LONG_PAUSE_S, 2.5 * float(np.median(usual)) / EAR_RATE if usual else 0.0)
    floor = float(np.percentile(levels, 5)) if len(levels) else -100.0
    margin = round(0.09 * EAR_RATE)
    for a, b in itertools.pairwise(heard):
        gap = b.start - a.stop
        inside = levels[(a.stop + margin) // size : (b.start - margin) // size]
        if gap > limit * EAR_RATE and np.mean(inside > max(floor + 15, -52.0)) < 0.15:
            flaw(
                Kind.PAUSE,
                a.stop,
                b.start,
                0.9,
                f"{gap / EAR_RATE:.1f} s of pause; the reader's usual one is {np.median(usual) / EAR_RATE:.1f} s",
            )
        first = (a.stop + margin) // size
        loud = np.flatnonzero(inside > max(floor + 24, -42.0))
        long = (loud[-1] - loud[0]) * 0.005 if len(loud) else 0.0
        if len(loud) and len(inside) >= 6 and long < LONGEST_NOISE_S:  # what lasts longer is speech that no ear made out
            peak = float(inside[loud].max())
            what = "a click" if long < 0.03 else "a noise"
            flaw(
                Kind.NOISE,
                int(first + loud[0]) * size,
                int(first + loud[-1] + 1) * size,
                0.75,
                f"{what} in a pause, {peak:.0f} dB",
            )
    return flaws + _clipped(x, flaw_at=written_at)


def _clipped(x: Signal, *, flaw_at: Callable[[int], int]) -> list[Finding]:
    """Runs at one and the same greatest level, near full scale: a word that was cut off by the converter."""
    step = 60 * EAR_RATE  # a minute at a time: an hour's copy would be 230 MB
    near = np.concatenate([at + np.flatnonzero(np.abs(x[at : at + step]) > 0.93) for at in range(0, max(1, len(x)), step)])
    if len(near) < 8:
        return []
    found: list[Finding] = []
    start = previous = int(near[0])
    count = 0
    for at in [*near.tolist(), len(x) + EAR_RATE]:
        if at - previous > EAR_RATE // 2:
            if count >= 6:
                note = f"{count} samples at full scale"
                found.append(Finding("", Kind.LEVEL, "", "", flaw_at(start), 0, start, previous + 1, 0.85, Evidence(note=note)))
            start, count = at, 0
        previous = at
        count += 1
    return found


def _written_positions(heard: Sequence[Heard], links: Sequence[Link]) -> Callable[[int], int]:
    starts, indices = [], []
    for link in links:
        if link.written and link.heard:
            starts.append(heard[link.heard.start].start)
            indices.append(link.written.start)

    def at(position: int) -> int:
        k = int(np.searchsorted(starts, position))
        return indices[min(k, len(indices) - 1)] if indices else 0

    return at
