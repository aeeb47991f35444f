"""Made pickup sessions with a known truth: is every take at the right line, the best one proposed, and nothing invented?

Two made voices read lines of the benchmark's prose in the stand-in booth: slates, chatter, restarts, slips, lines that nobody asked
for, one to four takes, any order, other levels and rooms.  The truth's best take is the last whole one of a line, unless an earlier
one is as good by its words (the program may then propose either).  Prints a line a session and the figures as JSON on the last line.
"""

from __future__ import annotations

import argparse
import json
import random
import subprocess
import sys
import tempfile
import time
from functools import cached_property
from pathlib import Path

import numpy as np
import soundfile
import soxr

HERE = Path(__file__).parent
ROOT = HERE.parent.parent
PROSE = ROOT / "benchmarks" / "ear"
KEPT = ROOT / "build" / "splice" / "sessions"
"""What the voices read is kept: they say nothing twice alike."""

from faithful_reel.core.audio.files import read_mono  # noqa: E402
from faithful_reel.core.hear.ears import installed_ears  # noqa: E402
from faithful_reel.core.hear.memory import Memory  # noqa: E402
from faithful_reel.core.jobs import Unwatched  # noqa: E402
from faithful_reel.core.pickups.judging import Session, session_of  # noqa: E402
from faithful_reel.core.standins.booth import BoothSettings, InstalledVoice, Performance, SaidThere, performed  # noqa: E402
from faithful_reel.core.text.manuscript import read_script  # noqa: E402
from faithful_reel.core.units import BOOK_RATE, EAR_RATE  # noqa: E402

SESSIONS = 60
SIZES = (5, 40)
LEAST_SHARED = 0.5
"""A take is at a place where they share so much of the shorter."""


class Flite:
    """Says anything by flite's "slt"."""

    @cached_property
    def _known(self) -> dict[tuple[str, int], np.ndarray]:
        return {}

    def said(self, text: str, take: int) -> np.ndarray:
        key = text, take % 3
        if key not in self._known:
            with tempfile.TemporaryDirectory() as folder:
                out = Path(folder) / "said.wav"
                stretch = 1.08 + 0.03 * (take % 3)
                subprocess.run(
                    ["flite", "-voice", "slt", "--setf", f"duration_stretch={stretch}", "-t", text, "-o", str(out)],
                    check=True, capture_output=True,
                )  # fmt: skip
                x, rate = soundfile.read(out, dtype="float32")
            self._known[key] = np.asarray(soxr.resample(x, rate, BOOK_RATE, quality="VHQ"), np.float32)
        return self._known[key]


def sentences() -> list[str]:
    """Sentences of the prose that are 4 to 24 words long."""
    found = []
    for number in range(1, 9):
        script = read_script(PROSE / f"prose-{number}.txt")
        found += [" ".join(script.words[k].text for k in s) for s in script.sentences() if 4 <= len(s) <= 24]
    return found


def session(number: int, every: list[str], voices: list[object]) -> tuple[list[str], Performance]:
    """The lines that were asked for, and what was read, at the ear's rate."""
    rng = random.Random(number)
    size = round(SIZES[0] * (SIZES[1] / SIZES[0]) ** (number / (SESSIONS - 1)))  # as many small as large, by their ratio
    lines = rng.sample(every, size + 2)
    settings = BoothSettings(
        seed=number,
        takes=(1, rng.choice((1, 2, 2, 3, 4))),
        slates=rng.choice((0.0, 0.5, 1.0)),
        restarts=0.15,
        slips=0.15,
        talk=0.2,
        shuffled=rng.random() < 0.5,
        level_db=rng.uniform(-14, 2),
        floor_db=rng.uniform(-70, -55),
        echo_s=rng.uniform(0.1, 0.4),
        extra=tuple(lines[size:]),
    )
    sound_file, truth = KEPT / f"{number}.flac", KEPT / f"{number}.json"
    if not truth.exists():
        made = performed(lines[:size], [voices[number % len(voices)]], settings)
        KEPT.mkdir(parents=True, exist_ok=True)
        soundfile.write(sound_file, soxr.resample(made.sound, BOOK_RATE, EAR_RATE, quality="HQ"), EAR_RATE, subtype="PCM_24")
        said = [(s.line, s.what, s.start * EAR_RATE // BOOK_RATE, s.stop * EAR_RATE // BOOK_RATE) for s in made.said]
        truth.write_text(json.dumps(said))
    return lines[:size], Performance(read_mono(sound_file, EAR_RATE), [SaidThere(*row) for row in json.loads(truth.read_text())])


def shared(a: tuple[int, int], b: tuple[int, int]) -> float:
    """How much of the shorter two stretches share."""
    return max(0, min(a[1], b[1]) - max(a[0], b[0])) / max(1, min(a[1] - a[0], b[1] - b[0]))


def judged(made: Performance, found: Session) -> dict[str, int]:
    """What of a session is as in the truth."""
    counts = dict.fromkeys(("takes", "right", "lines", "best", "invented", "proposed"), 0)
    for k, line in enumerate(found.lines):
        whole = [(s.start, s.stop) for s in made.said if s.line == k and s.what == "take"]
        parts = [(s.start, s.stop) for s in made.said if s.line == k and s.what in ("slip", "restart")]
        counts["takes"] += len(whole)
        counts["lines"] += bool(whole)
        spans = [(t.start, t.stop) for t in line.takes]
        counts["right"] += sum(any(shared(w, s) >= LEAST_SHARED for s in spans) for w in whole)
        counts["proposed"] += len(spans)
        counts["invented"] += sum(not any(shared(w, s) >= LEAST_SHARED for w in whole + parts) for s in spans)
        if whole and line.best >= 0:
            counts["best"] += any(shared(w, spans[line.best]) >= LEAST_SHARED for w in whole) and not line.takes[line.best].part
    return counts


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", type=int, default=SESSIONS, help="so many of the sessions, spread over all sizes")
    parser.add_argument("--part", type=int, default=0)
    parser.add_argument("--parts", type=int, default=1)
    parser.add_argument("--session", type=int, nargs="+", help="these alone")
    parser.add_argument("--remember", action="store_true", help="keep what was heard for the next run; speeds mean nothing then")
    asked = parser.parse_args()
    every, voices = sentences(), [InstalledVoice(), Flite()]
    ears = installed_ears(None, language="en")
    total: dict[str, int] = {}
    audio = seconds = 0.0
    memory = Memory(KEPT / "heard.sqlite") if asked.remember else None
    spread = sorted({round(k * (SESSIONS - 1) / max(1, asked.only - 1)) for k in range(asked.only)})
    numbers = asked.session or spread
    for number in numbers[asked.part :: asked.parts]:
        lines, made = session(number, every, voices)
        begun = time.perf_counter()
        found = session_of(made.sound, lines, ears, "r", EAR_RATE, Unwatched(), memory)
        took = time.perf_counter() - begun
        counts = judged(made, found)
        total = {k: total.get(k, 0) + v for k, v in counts.items()}
        audio += len(made.sound) / EAR_RATE
        seconds += took
        left = len(found.left)
        print(
            f"{number:2d} {len(lines):2d} lines {len(made.sound) / EAR_RATE:5.0f} s at {len(made.sound) / EAR_RATE / took:4.1f} x {counts} left {left}",
            flush=True,
        )
    print(json.dumps({
        "takes at their line": round(total["right"] / total["takes"], 4), "best as in the truth": round(total["best"] / total["lines"], 4),
        "invented": total["invented"], "takes": total["takes"], "lines": total["lines"], "audio_s": round(audio), "times real time": round(audio / seconds, 2),
    }))  # fmt: skip
    return 0


if __name__ == "__main__":
    sys.exit(main())
