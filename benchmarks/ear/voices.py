"""Recordings with known errors, read by two synthetic voices; made once and kept in build/ear.

The first voice is piper's (a development dependency), the second is flite's "slt" (Debian's package of that name, 16 kHz).
"""

from __future__ import annotations

import json
import random
import re
import subprocess
import sys
import tempfile
from dataclasses import asdict
from functools import lru_cache
from pathlib import Path

import numpy as np
import soundfile
import soxr

HERE = Path(__file__).parent
BUILD = HERE.parent.parent / "build" / "ear"
sys.path[:0] = [str(HERE), str(HERE.parent.parent / "demo")]

from make_demo import PAUSE_S, RATE, Booth, Sound, Word, db, touching, word_times  # noqa: E402
from near import RATES, near_planted  # noqa: E402
from planting import AGAIN, SHARES, Sentence, bare, planted  # noqa: E402

from faithful_reel.core.text.manuscript import read_script  # noqa: E402

TOUCHING_S = PAUSE_S
"""The gap from which on words do not touch."""
VOICES = ("piper", "flite")
CHAPTERS = range(1, 9)
ERRORS = 29
"""Errors a chapter and voice: 8 chapters by 2 voices hold about 460."""


class Flite(Booth):
    """The second voice in the same room."""

    def __init__(self, seed: int) -> None:
        self.rng = np.random.default_rng(seed)

    def closely(self, text: str, *, pace: float = 1.1) -> tuple[Sound, list[Word], list[Word]]:
        with tempfile.TemporaryDirectory() as folder:
            out = Path(folder) / "said.wav"
            segments = _flite(text, str(out), pace)
            sound, rate = soundfile.read(out, dtype="float64")
        said, before = [], 0.0
        for name, end in segments:
            if name != "pau":
                said.append((name, round(before * RATE), round(end * RATE)))
            before = end
        words = word_times(text.split(), said, _flite_phones)
        return soxr.resample(sound, rate, RATE, quality="VHQ"), touching(words), words


def _flite(text: str, out: str, pace: float) -> list[tuple[str, float]]:
    command = ["flite", "-voice", "slt", "--setf", f"duration_stretch={pace}", "-psdur", "-t", text, "-o", out]
    printed = subprocess.run(command, check=True, capture_output=True, text=True).stdout
    return [(name, float(end)) for name, end in re.findall(r"(\w+):([\d.]+)", printed)]


@lru_cache(maxsize=8192)
def _flite_phones(word: str) -> list[str]:
    return [name for name, _ in _flite(word, "none", 1.0) if name != "pau"]


def _read(booth: Booth, sentences: list[Sentence], rng: random.Random) -> tuple[Sound, list[tuple[int, float, float]]]:
    """The chapter as read, and (word, start, stop) in seconds of every printed word read as printed."""
    parts: list[Sound] = [np.zeros(int(0.8 * RATE))]
    at = parts[0].size
    times: list[tuple[int, float, float]] = []

    def add(sound: Sound) -> None:
        nonlocal at
        parts.append(sound)
        at += sound.size

    def trimmed(voice: Sound, first: int, last: int) -> Sound:
        part = voice[max(0, first - int(0.05 * RATE)) : last + int(0.1 * RATE)].copy()
        part *= 10 ** (-24 / 20) / 10 ** (db(part) / 20)
        fade = int(0.012 * RATE)
        part[:fade] *= np.linspace(0, 1, fade)
        part[-fade:] *= np.linspace(1, 0, fade)
        return part

    for s in sentences:
        text = " ".join(bare(t) for t in s.tokens)
        if s.paragraph:
            add(np.zeros(int(rng.uniform(0.3, 0.5) * RATE)))
        voice, words, edges = booth.closely(text)
        lead = max(0, words[0][1] - int(0.05 * RATE))
        if s.broken_off:
            last = words[s.broken_off - 1]
            stop = last[2] if rng.random() < 0.5 else last[1] + round(0.7 * (last[2] - last[1]))
            add(trimmed(voice, words[0][1], stop - int(0.1 * RATE)))
            add(np.zeros(int(rng.uniform(0.3, 0.8) * RATE)))
        if s.times > 1:
            add(trimmed(voice, words[0][1], words[-1][2]))
            add(np.zeros(int(rng.uniform(0.6, 1.0) * RATE)))
            voice, words, edges = booth.closely(text)
            lead = max(0, words[0][1] - int(0.05 * RATE))
        for (_, start, stop), of in zip(edges, s.of, strict=True):
            if of is not None:
                times.append((of, (at + start - lead) / RATE, (at + stop - lead) / RATE))
        add(trimmed(voice, words[0][1], words[-1][2]))
        add(np.zeros(int(rng.uniform(0.3, 0.6) * RATE)))
    add(np.zeros(int(1.2 * RATE)))
    sound = booth.room(np.concatenate(parts))
    return sound + booth.tone(sound.size, -62.0), times


def made(voice: str, number: int, *, again: int = 0, rate: str = "") -> tuple[Path, Path, dict]:
    """Sound, script and truth of one chapter read by one voice; made where they are not there yet.

    `again` numbers further readings of it, in which much is said twice and nothing else goes wrong; `rate` is one of `RATES`, for
    one in which near words are read, so many and such.
    """
    BUILD.mkdir(parents=True, exist_ok=True)
    script = HERE / f"prose-{number}.txt"
    name = f"{voice}-{number}-again-{again}" if again else "-".join(filter(None, (voice, str(number), rate)))
    sound, truth = BUILD / f"{name}.flac", BUILD / f"{name}.json"
    if not truth.is_file():
        seed = 1000 * again + 100 * number + VOICES.index(voice) + (10_000 * (1 + list(RATES).index(rate)) if rate else 0)
        rng = random.Random(seed)
        chapter = read_script(script)
        sentences, plants = (
            near_planted(chapter, rng, rate) if rate else planted(chapter, rng, ERRORS, AGAIN if again else SHARES)
        )
        booth = Booth(seed) if voice == "piper" else Flite(seed)
        x, times = _read(booth, sentences, rng)
        soundfile.write(sound, x, RATE, subtype="PCM_16")
        truth.write_text(json.dumps({"plants": [asdict(p) for p in plants], "words": times}))
    return sound, script, json.loads(truth.read_text())


if __name__ == "__main__":
    for v in VOICES:
        for n in CHAPTERS:
            path, _, t = made(v, n)
            print(
                path.name,
                round(soundfile.info(path).duration),
                "s",
                len(t["plants"]),
                "planted",
                len(t["words"]),
                "placed",
                flush=True,
            )
