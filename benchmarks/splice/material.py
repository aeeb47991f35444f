"""Readings of six voices with the edges of their words: what registry packages carry, the demo voice, and a second made voice.

The made voices read chapters of their own twice, so that there is another take of every sentence.  All are made once and kept in
build/splice.
"""

from __future__ import annotations

import json
import random
import sys
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import soundfile

HERE = Path(__file__).parent
ROOT = HERE.parent.parent
BUILD = ROOT / "build" / "splice"
sys.path[:0] = [str(ROOT / "benchmarks" / "ear"), str(ROOT / "demo"), str(ROOT / "tests")]

from readings import SOURCES  # noqa: E402
from support.carried import carried  # noqa: E402
from voices import Flite  # noqa: E402

from faithful_reel.core.audio.files import ear_sound  # noqa: E402
from faithful_reel.core.collate.proofing import proofed  # noqa: E402
from faithful_reel.core.hear.ears import installed_ears  # noqa: E402
from faithful_reel.core.hear.memory import Memory  # noqa: E402
from faithful_reel.core.text.manuscript import read_script  # noqa: E402
from faithful_reel.core.text.words import chapter_of  # noqa: E402
from faithful_reel.core.units import EAR_RATE  # noqa: E402

RATE = 44_100
SENTENCES = 15
"""Sentences that a made voice reads."""


@dataclass(frozen=True)
class Material:
    """A reading: sound at its own rate, what is written, and the edges of every word; `again` is another take of it."""

    name: str
    voice: str
    sound: np.ndarray
    rate: int
    words: tuple[tuple[str, int, int], ...]
    lines: tuple[range, ...]
    """Sentences, or phrases between pauses where a reading has long ones."""
    again: Material | None = None


def _lines(words: list[tuple[str, int, int]], rate: int) -> tuple[range, ...]:
    """Phrases of 4 to 16 words that end at a stop or at a pause."""
    lines: list[range] = []
    first = 0
    for k, (text, _, stop) in enumerate(words):
        gap = words[k + 1][1] - stop if k + 1 < len(words) else rate
        size = k + 1 - first
        ends = text.rstrip("\"'”’")[-1:] in ".!?:;" or (size >= 4 and text.endswith(",") and gap > 0.12 * rate) or size >= 16
        if ends and size >= 4:
            lines.append(range(first, k + 1))
        if ends:
            first = k + 1
    return tuple(lines)


def _carried() -> list[Material]:
    ears = installed_ears(None, language="en")
    found: list[Material] = []
    memory = Memory(BUILD / "heard.sqlite")
    joined: list[tuple[str, np.ndarray, int, list[tuple[str, int, int]]]] = []
    for requirement, name, text in SOURCES:
        paths = {p.name: p for p in carried(requirement, *(n for r, n, _ in SOURCES if r == requirement))}
        if name not in paths:
            print(f"left out: {name} could not be fetched from {requirement}", file=sys.stderr)
            continue
        x, rate = soundfile.read(paths[name], dtype="float32", always_2d=True)
        x = x.mean(axis=1)
        x *= np.float32(0.35 / np.max(np.abs(x)))
        proof = proofed(ear_sound(paths[name]), chapter_of(name, [text]), ears, memory=memory)
        words = [
            (t, p.start * rate // EAR_RATE, p.stop * rate // EAR_RATE)
            for t, p in zip(text.split(), proof.placed, strict=True)
            if p is not None
        ]
        joined.append((name, x, rate, words))
    by_voice: dict[str, list[tuple[str, np.ndarray, int, list[tuple[str, int, int]]]]] = {}
    for row in joined:
        by_voice.setdefault(row[0][:6], []).append(row)
    for voice, rows in by_voice.items():  # the short ones of one voice, one after another
        at, parts, words = 0, [], []
        for _, x, _, here in rows:
            parts.append(x)
            words += [(t, a + at, b + at) for t, a, b in here]
            at += len(x)
        rate = rows[0][2]
        found.append(Material(voice, voice, np.concatenate(parts), rate, tuple(words), _lines(words, rate)))
    return found


def _made(voice: str, number: int) -> Material:
    """Two readings of the beginning of a chapter by a made voice."""
    BUILD.mkdir(parents=True, exist_ok=True)
    name = f"{voice}-{number}"
    sounds = [BUILD / f"{name}-{k}.flac" for k in (1, 2)]
    truth = BUILD / f"{name}.json"
    if not truth.is_file():
        from make_demo import Booth

        script = read_script(ROOT / "benchmarks" / "ear" / f"prose-{number}.txt")
        told = []
        for take, path in enumerate(sounds):
            seed = 7000 + 10 * number + take
            booth = Booth(seed) if voice == "piper" else Flite(seed)
            rng = random.Random(number)
            parts, words, at = [np.zeros(int(0.9 * RATE))], [], int(0.9 * RATE)
            for sentence in script.sentences()[2 : 2 + SENTENCES]:
                tokens = [script.words[k].text for k in sentence]
                text = " ".join(t.strip('“”"') for t in tokens)
                pace = {} if voice == "piper" else {"pace": 1.1 if not take else 1.16}
                said, _, edges = booth.closely(text, **pace)
                lead = max(0, edges[0][1] - int(0.05 * RATE))
                part = said[lead : edges[-1][2] + int(0.1 * RATE)].copy()
                part *= 10 ** (-24 / 20) / np.sqrt(np.mean(np.square(part)))
                fade = int(0.012 * RATE)
                part[:fade] *= np.linspace(0, 1, fade)
                part[-fade:] *= np.linspace(1, 0, fade)
                words += [(t, int(a - lead + at), int(b - lead + at)) for t, (_, a, b) in zip(tokens, edges, strict=True)]
                gap = int(rng.uniform(0.35, 0.7) * RATE)
                parts += [part, np.zeros(gap)]
                at += part.size + gap
            parts.append(np.zeros(RATE))
            x = booth.room(np.concatenate(parts))
            soundfile.write(path, x + booth.tone(x.size, -62.0), RATE, subtype="PCM_24")
            told.append(words)
        truth.write_text(json.dumps(told))
    both = []
    for path, words in zip(sounds, json.loads(truth.read_text()), strict=True):
        x, _ = soundfile.read(path, dtype="float32")
        rows = [(t, a, b) for t, a, b in words]
        both.append(Material(name, voice, x, RATE, tuple(rows), _lines(rows, RATE)))
    return replace(both[0], again=both[1])


def materials() -> list[Material]:
    """All readings that could be had."""
    return [*_carried(), *(_made(voice, number) for voice in ("piper", "flite") for number in (1, 2))]


if __name__ == "__main__":
    for m in materials():
        print(
            m.name,
            m.rate,
            round(len(m.sound) / m.rate, 1),
            "s",
            len(m.words),
            "words",
            len(m.lines),
            "lines",
            m.again is not None,
        )
