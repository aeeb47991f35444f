"""The cases: a line is taken out of a reading, spoiled, altered, and comes back in a pickup recording among slates and chatter."""

from __future__ import annotations

import random
import subprocess
import sys
import tempfile
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path

import numpy as np
import soundfile
import soxr
from scipy.signal import fftconvolve, firwin2

HERE = Path(__file__).parent
sys.path[:0] = [str(HERE)]

from material import Material, materials  # noqa: E402

from faithful_reel.core.audio.roomtone import find_room_tone  # noqa: E402
from faithful_reel.core.audio.tempo import Tempo  # noqa: E402
from faithful_reel.core.reel.reel import Lane, Reel, RoomTone  # noqa: E402
from faithful_reel.core.reel.render import Renderer  # noqa: E402
from faithful_reel.core.text.spoken import plain  # noqa: E402

WAYS = ("whole", "misread", "skipped")
CONDITIONS = ("level", "tilt", "noisy take", "noisy chapter", "room", "pace", "other take", "all")
A_LINE = 6
"""Conditions that a line is tried in."""
LINES = {"two_ci": 14, "audio.": 12, "sense_": 4, "piper-1": 8, "piper-2": 7, "flite-1": 8, "flite-2": 7}
CHATTER = (
    "Sorry, once more.", "Hang on, there was a car.", "Let me try that again.", "Was that all right?", "Next one.",
    "I think that one was better.",
)  # fmt: skip


@dataclass(frozen=True)
class Case:
    """What is done: positions are words of the reading; decibels and seconds."""

    number: int
    material: str
    line: range
    way: str
    condition: str
    spoiled: range
    level_db: float = 0.0
    tilt_db: float = 0.0
    take_noise_db: float = 0.0
    chapter_noise_db: float = 0.0
    room_s: float = 0.0
    pace: float = 1.0
    other_take: bool = False
    slate: bool = False
    restart: bool = False
    second: bool = False
    held_out: bool = False
    around: int = 0
    """Words read before the line and after it, as in a run of words in the middle of speech."""


def all_cases() -> list[Case]:
    """Every case, by a fixed seed."""
    known = {m.name: m for m in materials()}
    cases: list[Case] = []
    for name, count in LINES.items():
        m = known.get(name)
        if m is None:
            continue
        rng = random.Random(name)
        usable = [line for line in m.lines if line.start > 3 and line.stop < len(m.words) - 3]
        chosen = sorted(rng.sample(usable, min(count, len(usable))), key=lambda r: r.start)
        inner = {}
        for k in range(1, len(chosen), 2):  # every other one is a run of words in the middle of speech
            if (run := _run(m, chosen[k], rng)) is not None:
                chosen[k], inner[k] = run, 2
        for k, line in enumerate(chosen):
            conditions = [c for c in CONDITIONS if c != "other take" or m.again]
            for n, condition in enumerate((conditions[k % len(conditions) :] + conditions)[:A_LINE]):
                way = WAYS[(k + n) % 3]
                size = len(line)
                at = rng.randrange(line.start + 1, max(line.start + 2, line.stop - 2))
                spoiled = {
                    "whole": line,
                    "misread": range(at, at + 1),
                    "skipped": range(at, min(line.stop - 1, at + max(1, size // 4))),
                }[way]
                case = Case(
                    len(cases),
                    name,
                    line,
                    way,
                    condition,
                    spoiled,
                    held_out=name.endswith("-2") or k % 4 > 1,
                    around=inner.get(k, 0),
                )
                cases.append(_drawn(case, rng))
    return cases


def _run(m: Material, line: range, rng: random.Random) -> range | None:
    """Three to six words of a line beside which nobody pauses."""
    touch = [m.words[k][1] - m.words[k - 1][2] < 0.05 * m.rate for k in range(line.start + 1, line.stop)]
    inner = [k for k, t in zip(range(line.start + 1, line.stop), touch, strict=True) if t]
    said = " ".join(plain(t) for t, _, _ in m.words)
    runs = [range(a, b) for a in inner for b in inner if 3 <= b - a <= 6]
    runs = [r for r in runs if said.count(" ".join(plain(m.words[k][0]) for k in r)) == 1]  # a line is known by its words
    return rng.choice(runs) if runs else None


def _drawn(case: Case, rng: random.Random) -> Case:
    every = case.condition == "all"
    sign = rng.choice([-1, 1])
    changes: dict[str, object] = {"slate": rng.random() < 0.6, "second": rng.random() < 0.35, "restart": rng.random() < 0.2}
    if case.condition == "level" or every:
        changes["level_db"] = sign * rng.uniform(5, 10)
    if case.condition == "tilt" or every:
        changes["tilt_db"] = rng.choice([-1, 1]) * rng.uniform(3, 6)
    if case.condition == "noisy take":
        changes["take_noise_db"] = rng.uniform(8, 15)
    if case.condition == "noisy chapter":
        changes["chapter_noise_db"] = rng.uniform(8, 15)
    if every:
        changes["take_noise_db"] = rng.uniform(3, 10)
    if case.condition == "room" or every:
        changes["room_s"] = rng.uniform(0.2, 0.3 if every else 0.5)
    if case.condition == "pace":
        changes["pace"] = 1 + sign * rng.uniform(0.05, 0.08)
    if case.condition == "other take":
        changes["other_take"] = True
        changes["level_db"] = sign * rng.uniform(0, 6)
    return replace(case, **changes)  # type: ignore[arg-type]


@dataclass(frozen=True)
class Made:
    """A case as files, and the truth: the reading as it should be, and where the pickup's samples come from."""

    chapter: Path
    script: Path
    pickup: Path
    line: str
    truth: np.ndarray
    rate: int
    words: tuple[tuple[str, int, int], ...]
    line_words: range
    takes: tuple[tuple[int, int], ...]
    """(where a good take begins in the pickup, where its first sample lies in the truth)."""
    pace: float


def noise_like(m: Material, n: int, rng: np.random.Generator) -> np.ndarray:
    """Room tone of the reading, or a soft hiss."""
    tone = find_room_tone(m.sound, m.rate)
    if tone is None:
        return rng.standard_normal(n).astype(np.float32) * np.float32(10 ** (-70 / 20))
    segment = RoomTone("r", tone.start, tone.stop, n, seed=int(rng.integers(1, 1000)))
    return np.asarray(Renderer(Reel((Lane("t", (segment,)),)), lambda _r, a, b: m.sound[a:b]).render(0, n), np.float32)


def tilted(x: np.ndarray, rate: int, db: float) -> np.ndarray:
    """Tilted by so many dB between 100 Hz and 8 kHz, the middle staying."""
    hz = np.geomspace(50, rate / 2 * 0.98, 60)
    gain = np.clip(np.log2(hz / 900) / np.log2(80), -0.5, 0.5) * db
    taps = firwin2(1025, np.concatenate([[0], hz, [rate / 2]]), 10 ** (np.concatenate([gain[:1], gain, gain[-1:]]) / 20), fs=rate)
    return np.asarray(fftconvolve(x, taps, "same"), np.float32)


def in_room(x: np.ndarray, rate: int, seconds: float, rng: np.random.Generator) -> np.ndarray:
    """In another room: a few early reflections and a tail that falls by 60 dB in so many seconds."""
    n = round(1.2 * seconds * rate)
    tail = rng.standard_normal(n) * 10 ** (-3 * np.arange(n) / (seconds * rate))
    tail[: round(0.003 * rate)] = 0
    tail *= 10 ** (-6 / 20) / np.sqrt(np.sum(tail**2)) * np.sqrt(seconds / 0.5)
    tail[0] = 1.0
    return np.asarray(fftconvolve(x, tail)[: len(x)], np.float32)


def paced(x: np.ndarray, rate: int, pace: float) -> np.ndarray:
    """Read faster by a factor, by FFmpeg's filter."""
    tempo = Tempo(rate, pace)
    parts = [tempo.feed(np.ascontiguousarray(x, np.float32)), tempo.flush()]
    return np.concatenate(parts)


@lru_cache(maxsize=64)
def said(text: str, voice: str = "rms") -> np.ndarray:
    """Something said by a voice of its own at 16 kHz: slates and chatter."""
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "said.wav"
        subprocess.run(["flite", "-voice", voice, "-t", text, "-o", str(out)], check=True, capture_output=True)
        x, rate = soundfile.read(out, dtype="float32")
    x = soxr.resample(x, rate, 16_000, quality="VHQ") if rate != 16_000 else x
    return np.asarray(x * (10 ** (-24 / 20) / np.sqrt(np.mean(np.square(x)))), np.float32)


def noised(m: Material, x: np.ndarray, db: float, rng: np.random.Generator) -> np.ndarray:
    """With a floor that stands so many dB higher: hiss with more low end than the room's own."""
    level = 20 * np.log10(np.sqrt(np.mean(np.square(noise_like(m, m.rate, rng)))) + 1e-9)
    hiss = rng.standard_normal(len(x) + 64)
    hiss = np.convolve(hiss, [1.0, 0.6, 0.3, 0.1], "valid")[: len(x)]
    return np.asarray(x + hiss / hiss.std() * 10 ** ((level + db) / 20), np.float32)


def made(case: Case, folder: Path) -> Made:
    """Write a case's files."""
    m = next(m for m in materials_once() if m.name == case.material)
    rng = np.random.default_rng(1000 + case.number)
    rate, words = m.rate, m.words
    truth = m.sound
    if case.chapter_noise_db:
        truth = noised(m, truth, case.chapter_noise_db, rng)
    chapter = _spoiled(m, case, truth, random.Random(case.number))
    source = m.again if case.other_take and m.again else m
    edge = round(0.09 * rate)
    begins, stops = case.line.start - case.around, case.line.stop + case.around
    before = source.words[begins][1] - source.words[begins - 1][2]
    first = source.words[begins][1] - min(edge, max(0, before // 2))
    after = source.words[stops][1] - source.words[stops - 1][2]
    last = source.words[stops - 1][2] + min(edge, max(0, after // 2))
    take = _faded(source.sound[first:last], rate)
    takes: list[tuple[int, int]] = []
    parts: list[np.ndarray] = []
    at = 0

    def add(x: np.ndarray) -> None:
        nonlocal at
        parts.append(np.asarray(x, np.float32))
        at += len(x)

    def voice(text: str) -> np.ndarray:
        return np.asarray(soxr.resample(said(text), 16_000, rate, quality="VHQ"), np.float32)

    add(np.zeros(round(0.9 * rate)))
    if case.slate:
        add(voice(f"Pickup {case.number % 30 + 1}."))
        add(np.zeros(round(0.7 * rate)))
    if case.restart and len(case.line) >= 5:
        stop = source.words[begins + 2][2]
        add(_faded(source.sound[first:stop], rate))
        add(np.zeros(round(0.55 * rate)))
    takes.append((at, first))
    add(take)
    add(np.zeros(round(0.8 * rate)))
    if case.second:
        add(voice(CHATTER[case.number % len(CHATTER)]))
        add(np.zeros(round(0.7 * rate)))
        takes.append((at, first))
        add(take)
    add(np.zeros(round(1.2 * rate)))
    x = np.concatenate(parts)
    x = paced(x, rate, case.pace) if case.pace != 1 else x
    x = in_room(x, rate, case.room_s, rng) if case.room_s else x
    gaps = np.ones(len(x), np.float32)  # the reading brings its own floor along
    for begins, _ in takes:
        a, b = round(begins / case.pace), round((begins + len(take)) / case.pace)
        gaps[a:b] = 0
    x = x + noise_like(m, len(x), rng) * gaps
    x = noised(m, x, case.take_noise_db, rng) if case.take_noise_db else x
    x = tilted(x, rate, case.tilt_db) if case.tilt_db else x
    x = x * np.float32(10 ** (case.level_db / 20))
    peak = float(np.max(np.abs(x)))
    x = x * np.float32(min(1.0, 0.98 / peak))
    folder.mkdir(parents=True, exist_ok=True)
    paths = folder / "chapter.wav", folder / "script.txt", folder / "pickup.wav"
    soundfile.write(paths[0], chapter, rate, subtype="FLOAT")
    paths[1].write_text(" ".join(t for t, _, _ in words), encoding="utf-8")
    soundfile.write(paths[2], x, rate, subtype="FLOAT")
    line = " ".join(words[k][0] for k in case.line)
    return Made(*paths, line, truth, rate, words, case.line, tuple(takes) if not case.other_take else (), case.pace)


@lru_cache(maxsize=1)
def materials_once() -> list[Material]:
    """The readings, read once."""
    return materials()


def _faded(x: np.ndarray, rate: int) -> np.ndarray:
    y, n = x.copy(), round(0.01 * rate)
    y[:n] *= np.linspace(0, 1, n, dtype=np.float32)
    y[-n:] *= np.linspace(1, 0, n, dtype=np.float32)
    return y


def _spoiled(m: Material, case: Case, x: np.ndarray, rng: random.Random) -> np.ndarray:
    """The reading with what was to be spoiled in it: another word read, or words left out."""
    if case.way == "whole":
        return x
    rate = m.rate
    start, stop = m.words[case.spoiled.start][1], m.words[case.spoiled.stop - 1][2]
    n = round(0.006 * rate)
    ramp = np.linspace(0, 1, n, dtype=np.float32)
    middle = np.zeros(0, np.float32)
    if case.way == "misread":
        size = stop - start
        others = [w for k, w in enumerate(m.words) if k not in case.line and 0.7 * size < w[2] - w[1] < 1.5 * size]
        other = rng.choice(others or [m.words[0]])
        middle = x[other[1] : other[2]].copy()
        middle[:n] *= ramp
        middle[-n:] *= ramp[::-1]
    # what follows keeps its place in frames of 20 ms, so that the ears remember it
    stop += (len(middle) - (stop - start)) % round(0.02 * rate)
    left, right = x[:start].copy(), x[stop:].copy()
    left[-n:] *= ramp[::-1]
    right[:n] *= ramp
    return np.concatenate([left, middle, right])


if __name__ == "__main__":
    cases = all_cases()
    print(len(cases), "cases,", sum(c.held_out for c in cases), "never looked at")
