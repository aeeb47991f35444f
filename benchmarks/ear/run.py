"""How much the ear finds: recall and false findings by kind, on recordings whose errors are known.

`python benchmarks/ear/run.py` (or `./reel bench --only ear`) runs all.  Chapters 1 to 3 of both voices served for
tuning; 4 to 6, and the real readings, are held out; 7 and 8 were written when all was done, and what was missed or false in
them was never listed.

`--again 2` takes further readings of the same chapters, in which only repeats and false starts were planted: the others hold
too few of them to tell 95 from 97 in a hundred.  The first two such of chapters 1 to 3 served for tuning.
"""

from __future__ import annotations

import argparse
import sys
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))

from readings import altered, readings
from scoring import Score
from voices import BUILD, CHAPTERS, VOICES, made

from faithful_reel.core.audio.files import read_mono
from faithful_reel.core.collate.proofing import Proof, proofed
from faithful_reel.core.hear.ears import installed_ears
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.text.manuscript import read_script
from faithful_reel.core.units import EAR_RATE

TUNING = range(1, 4)
SPLITS = {"tuning": TUNING, "held": range(4, 7), "fresh": range(7, 9), "all": CHAPTERS}


def edge_errors(proof: Proof, truth: dict) -> tuple[list[float], list[float]]:
    """Milliseconds between found and true edges of words read right: (where no pause helps, beside a pause)."""
    times = {i: (a, b) for i, a, b in truth["words"]}
    close, free = [], []
    for i, (a, b) in times.items():
        placed = proof.placed[i]
        if placed is None:
            continue
        before, after = times.get(i - 1), times.get(i + 1)
        for mine, true, gap in (
            (placed.start, a, a - before[1] if before else 1.0),
            (placed.stop, b, after[0] - b if after else 1.0),
        ):
            (close if gap < 0.03 else free).append(1000 * abs(mine / EAR_RATE - true))
    return close, free


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--split", choices=SPLITS, default="all")
    parser.add_argument(
        "--again", type=int, default=0, help="the how manieth further reading, with repeats and false starts only"
    )
    parser.add_argument("--voice", choices=(*VOICES, "real"))
    parser.add_argument("--list", action="store_true", help="name what was missed and what was false")
    parser.add_argument(
        "--remember", action="store_true", help="keep what the ears heard for the next run; speeds mean nothing then"
    )
    chosen = parser.parse_args()
    memory = Memory(BUILD / "heard.sqlite" if chosen.remember else None)
    ears = installed_ears()
    numbers = SPLITS[chosen.split]
    for voice in VOICES:
        if chosen.voice and voice != chosen.voice:
            continue
        score, close, free, seconds, spent = Score(), [], [], 0.0, 0.0
        for number in numbers:
            sound, script, truth = made(voice, number, again=chosen.again)
            x, chapter = read_mono(sound, EAR_RATE), read_script(script)
            start = time.perf_counter()
            proof = proofed(x, chapter, ears, memory=memory)
            spent += time.perf_counter() - start
            seconds += len(x) / EAR_RATE
            score.add(sound.stem, truth["plants"], proof.findings, len(chapter.words))
            a, b = edge_errors(proof, truth)
            close += a
            free += b
        print(f"--- {voice}, chapters {numbers[0]} to {numbers[-1]}: {seconds / 60:.1f} min at {seconds / spent:.1f} x")
        print(score.told())
        for name, errors in (("where words touch", close), ("beside a pause", free)):
            print(
                f"word edges {name}: median {np.median(errors):.1f} ms, 90th percentile {np.percentile(errors, 90):.1f} ms of {len(errors)}"
            )
        if chosen.list:
            print(*("missed " + m for m in score.missed), *("false  " + w for w in score.wrong), sep="\n")
        sys.stdout.flush()
    if not chosen.again and chosen.voice in (None, "real") and chosen.split in ("held", "all"):
        score, seconds, spent = Score(), 0.0, 0.0
        found = readings(ears)
        for seed in range(8):
            x, chapter, plants = altered(found, seed)
            start = time.perf_counter()
            proof = proofed(x, chapter, ears, memory=memory)
            spent += time.perf_counter() - start
            seconds += len(x) / EAR_RATE
            score.add(f"real-{seed}", plants, proof.findings, len(chapter.words))
        print(f"--- {len(found)} real readings, altered eight times: {seconds / 60:.1f} min at {seconds / spent:.1f} x")
        print(score.told())
        if chosen.list:
            print(*("missed " + m for m in score.missed), *("false  " + w for w in score.wrong), sep="\n")
    return 0


if __name__ == "__main__":
    sys.exit(main())
