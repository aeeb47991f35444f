"""Hard recordings, made from the demo's second chapter, of which every word's place is known."""

from __future__ import annotations

import itertools
import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import soundfile

RATE = 44_100
Sound = np.ndarray
Words = list[tuple[float, float]]


def chapter(demo: Path, name: str = "chapter-2") -> tuple[Sound, Words]:
    """The sound, and (start, stop) in seconds of every word in it."""
    x, _ = soundfile.read(demo / f"{name}.flac", dtype="float32")
    words = json.loads((demo / "truth.json").read_text())[name]["words"]
    return x, sorted((a, b) for _, a, b in words)


def white(n: int, db: float, seed: int = 1) -> Sound:
    """White noise of a level."""
    return (np.random.default_rng(seed).standard_normal(n) * 10 ** (db / 20)).astype(np.float32)


def hum(n: int, hz: float, db: float) -> Sound:
    """A sine of a level."""
    return (10 ** (db / 20) * np.sqrt(2) * np.sin(2 * np.pi * hz * np.arange(n) / RATE)).astype(np.float32)


def softened(x: Sound, words: Words, count: int = 7, db: float = -16.0) -> Sound:
    """The first and the last words softer, the room as before."""
    gain = np.ones(len(x), np.float32)
    for a, b in ((words[0][0] - 0.1, words[count - 1][1] + 0.1), (words[-count][0] - 0.1, words[-1][1] + 0.3)):
        gain[round(a * RATE) : round(b * RATE)] = 10 ** (db / 20)
    room = np.resize(x[round(2 * RATE) : round(8 * RATE)], len(x))
    return gain * x + np.sqrt(1 - gain**2) * room


def sparse(x: Sound, words: Words) -> Sound:
    """Two seconds of room more in every pause."""
    room, parts, last = x[2 * RATE : 4 * RATE], [], 0
    for (_, a), (b, _) in itertools.pairwise(words):
        if b - a > 0.3:
            cut = round((a + b) / 2 * RATE)
            parts += [x[last:cut], np.roll(room, 997 * len(parts))]
            last = cut
    return np.concatenate([*parts, x[last:]])


def gated(x: Sound, words: Words) -> Sound:
    """Digital silence in every pause."""
    out = np.zeros_like(x)
    for a, b in words:
        lo, hi = round((a - 0.05) * RATE), round((b + 0.05) * RATE)
        out[lo:hi] = x[lo:hi]
    return out


def faded(x: Sound, words: Words, seconds: float = 0.2) -> Sound:
    """Faded out right behind the last word, then its room goes on for 2.8 s."""
    stop = round((words[-1][1] + 0.05) * RATE)
    out = x[: stop + round(2.8 * RATE)].copy()
    room = x[round(2 * RATE) : round(8 * RATE)]
    fade = np.clip(1 - np.arange(len(out) - stop) / (seconds * RATE), 0, 1).astype(np.float32)
    out[stop:] = out[stop:] * fade + np.resize(room, len(out) - stop) * np.sqrt(1 - fade**2)
    return out


def two_rooms(x: Sound, _: Words, db: float = -50.0) -> Sound:
    """A louder room from the middle on."""
    out = x.copy()
    out[len(x) // 2 :] += white(len(x) - len(x) // 2, db)
    return out


def clicked(x: Sound, _: Words) -> Sound:
    """Clicks of 1 to 6 samples at -12 to -17 dBFS, one in a second and a half, in words and in pauses."""
    out, rng = x.copy(), np.random.default_rng(4)
    for n, at in enumerate(clicks_at(len(x))):
        out[at : at + 1 + n % 6] += np.float32(rng.choice([-1, 1]) * 10 ** (rng.uniform(-17, -12) / 20))
    return np.clip(out, -1, 1)


def clicks_at(length: int) -> list[int]:
    """Where `clicked` lays them."""
    rng = np.random.default_rng(5)
    return [round((k + rng.uniform(0, 1)) * 1.5 * RATE) for k in range(1, length // round(1.5 * RATE) - 1)]


def softer(x: Sound, words: Words) -> Sound:
    """A passage of twelve seconds, 8 dB softer."""
    out = x.copy()
    a = round((words[len(words) // 3][0] - 0.1) * RATE)
    out[a : a + 12 * RATE] *= np.float32(10 ** (-8 / 20))
    return out


def half_gated(x: Sound, words: Words) -> Sound:
    """Digital silence in the pauses of the first half."""
    return np.concatenate([gated(x, words)[: len(x) // 2], x[len(x) // 2 :]])


def late_click(x: Sound, words: Words) -> Sound:
    """A click long after the last word, in four seconds of its room."""
    stop = round((words[-1][1] + 0.5) * RATE)
    out = np.concatenate([x[:stop], np.resize(x[round(2 * RATE) : round(8 * RATE)], 4 * RATE)])
    out[stop + round(2.5 * RATE)] += np.float32(0.5)
    return out


def taking_turns(x: Sound, _: Words) -> Sound:
    """What is said goes from one channel to the other every seven seconds."""
    left = (np.arange(len(x)) // (7 * RATE) % 2).astype(np.float32)
    return np.stack([x * left, x * (1 - left)], axis=1)


CASES: dict[str, Callable[[Sound, Words], Sound]] = {
    "as it came": lambda x, _: x,
    "soft ends": softened,
    "soft ends, 1 % DC": lambda x, w: softened(x, w) + np.float32(0.01),
    "soft ends, 5 % DC": lambda x, w: softened(x, w) + np.float32(0.05),
    "soft ends, 14 Hz at -40 dB": lambda x, w: softened(x, w) + hum(len(x), 14, -40),
    "soft ends, white noise at -45 dB": lambda x, w: softened(x, w) + white(len(x), -45),
    "white noise at -38 dB": lambda x, _: x + white(len(x), -38),
    "white noise at -50 dB": lambda x, _: x + white(len(x), -50),
    "5 % DC": lambda x, _: x + np.float32(0.05),
    "14 Hz at -40 dB": lambda x, _: x + hum(len(x), 14, -40),
    "50 Hz hum at -46 dB": lambda x, _: x + hum(len(x), 50, -46) + hum(len(x), 150, -52),
    "floor that drifts by 6 dB": lambda x, _: x + white(len(x), -56) * np.linspace(1, 2, len(x), dtype=np.float32),
    "26 dB too soft": lambda x, _: x * np.float32(0.05),
    "clipped": lambda x, _: np.clip(x * 8, -0.8, 0.8).astype(np.float32),
    "faded over 0.2 s, 2.8 s of room": faded,
    "two rooms": two_rooms,
    "clicks of few samples": clicked,
    "a passage 8 dB softer": softer,
    "at -38 dB": lambda x, _: x * np.float32(10 ** (-16 / 20)),
    "sparse": sparse,
    "digital silence in the pauses": gated,
    "8 bits": lambda x, _: (np.round(x * 127) / 127).astype(np.float32),
    "gated in its first half": half_gated,
    "a click at -6 dB three seconds after the last word": late_click,
    "the second channel 0.4 ms late": lambda x, _: np.stack([x, np.roll(x, round(0.0004 * RATE))], axis=1),
    "one channel, then the other": taking_turns,
    "a dead channel": lambda x, _: np.stack([x, 0 * x], axis=1),
    "channels of opposite sign": lambda x, _: np.stack([x, -x], axis=1),
}
MUST_FAIL = frozenset([
    "digital silence in the pauses", "8 bits", "gated in its first half", "a dead channel", "channels of opposite sign",
    "the second channel 0.4 ms late", "one channel, then the other",
])  # fmt: skip
"""What no mastering can make deliverable: a pass would be wrong."""
