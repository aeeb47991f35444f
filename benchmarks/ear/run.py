"""How much the ear finds: recall and false findings by kind, on recordings whose errors are known.

`python benchmarks/ear/run.py` (or `./reel bench --only ear`) runs all.  Chapters 1 to 3 of both voices served for
tuning; 4 to 6, and the real readings, are held out, the weights at least: what was missed or false in the first sixteen
alterations of the real ones was looked at, in the others never; 7 and 8 were written when all was done, and what was
missed or false in them was never listed.

`--again 2` takes further readings of the same chapters, in which only repeats and false starts were planted: the others hold
too few of them to tell 95 from 97 in a hundred.  The first two such of chapters 1 to 3 served for tuning.

`--rate near` is what narrators do: near words about once in 36 words, none, and hard ones at one in ten (`near.py`); of the real
readings the manuscript is altered, of the voices the reading.  The real readings served for fitting with a text left out at a time
(`fit.py`); their figures there are of texts that the weights had seen.
"""

from __future__ import annotations

import argparse
import math
import sys
import time
from collections import defaultdict
from collections.abc import Iterable
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))

from readings import SOURCES, UNSEEN, altered, near_altered, readings
from scoring import Score
from variants import VARIANTS, variant
from voices import BUILD, CHAPTERS, TOUCHING_S, VOICES, made

from faithful_reel.core.audio.files import read_mono
from faithful_reel.core.collate.proofing import Proof, proofed
from faithful_reel.core.hear.ears import Ears, installed_ears
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.text.manuscript import read_script
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import EAR_RATE, Signal

TUNING = range(1, 4)
ALTERED = 32
"""Ways in which the real readings are altered: eight hold only 23 repeats, too few to tell 95 from 97 in a hundred."""
SEEDS = {"clean": 1, "natural": 12, "hard": 4}
"""How often the manuscript of the real readings is altered, by rate."""
HELD = range(4, 9)
"""Chapters with near words that nothing was fitted on; 7 and 8 were never listed."""
SPLITS = {"tuning": TUNING, "held": range(4, 7), "fresh": range(7, 9), "all": CHAPTERS}


def edge_errors(proof: Proof, truth: dict) -> dict[str, list[float]]:
    """Milliseconds between found and true edges of words read right.

    Where words touch the first voice leaves 70 ms (median) to neither, in which the sound changes early or late; then it is
    also said how far an edge lies outside of those.
    """
    times = {i: (a, b) for i, a, b in truth["words"]}
    errors: dict[str, list[float]] = {
        "outside, where words touch": [],
        "from the middle, where words touch": [],
        "beside a pause": [],
    }
    outside, middle, free = errors.values()
    for i, (start, stop) in times.items():
        placed = proof.placed[i]
        if placed is None:
            continue
        before, after = times.get(i - 1), times.get(i + 1)
        for mine, true, lo, hi in (
            (placed.start / EAR_RATE, start, before[1] if before else 0.0, start),
            (placed.stop / EAR_RATE, stop, stop, after[0] if after else math.inf),
        ):
            if hi - lo < TOUCHING_S:
                outside.append(1000 * max(0.0, lo - mine, mine - hi))
                middle.append(1000 * abs(mine - (lo + hi) / 2))
            else:
                free.append(1000 * abs(mine - true))
    return errors


def near_words(ears: Ears, *, listed: bool, only: str) -> None:
    """Near words at a natural rate, hard ones, and none: real readings as every variant, both voices, chapters that were held out."""
    memory = Memory(BUILD / "heard.sqlite")
    natural: dict[str, Score] = defaultdict(Score)

    def told(name: str, rate: str, rows: Iterable[tuple[str, Signal, Chapter, list[dict]]], kind: str, *, names: bool) -> None:
        score = Score()
        for reading, sound, chapter, plants in rows:
            findings = proofed(sound, chapter, ears, memory=memory).findings
            score.add(reading, plants, findings, len(chapter.words))
            if rate == "natural":
                natural[kind].add("", plants, findings, len(chapter.words))
        print(f"--- {name}, {rate}: {score.in_short()}", flush=True)
        if names:
            print(*("missed " + m for m in score.missed), *("false  " + w for w in score.wrong), sep="\n")

    for kind, sources, more in (("real readings", SOURCES, 1), ("real readings never learned from", UNSEEN, 2)):
        found = readings(ears, sources)
        for how in VARIANTS:
            sound = variant(near_altered(found, 0, "clean")[0], how)
            for rate, seeds in SEEDS.items():
                if rate == "hard" and how not in ("dry", "echo"):
                    continue
                seeded = range(seeds * (more if rate != "clean" else 1))
                rows = ((f"real-{how}-{seed}", sound, *near_altered(found, seed, rate)[1:]) for seed in seeded)
                told(f"{kind}, {how}", rate, rows, kind, names=listed and more == 1)
    plan = [("natural", HELD, "dry"), ("hard", range(4, 6), "dry"), *(("natural", range(4, 6), how) for how in VARIANTS[1:])]
    for voice in (v for v in VOICES if only in ("", v)):
        for rate, numbers, how in plan:
            files = [made(voice, number, rate=rate) for number in numbers]
            rows = (
                (sound.stem, variant(read_mono(sound, EAR_RATE), how), read_script(script), truth["plants"])
                for sound, script, truth in files
            )
            told(f"{voice}, {how}", rate, rows, "voices", names=False)
    for name, score in natural.items():
        print(f"--- how sure, and how often real, at the natural rate: {name}", score.plotted(), sep="\n", flush=True)


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
    parser.add_argument(
        "--rate", choices=("near", "planted", "all"), default="all", help="near words, errors as planted first, or both"
    )
    chosen = parser.parse_args()
    if chosen.rate in ("near", "all"):
        near_words(installed_ears(), listed=chosen.list, only="" if chosen.voice is None else chosen.voice)
    if chosen.rate == "near":
        return 0
    memory = Memory(BUILD / "heard.sqlite" if chosen.remember else None)
    ears = installed_ears()
    numbers = SPLITS[chosen.split]
    for voice in VOICES:
        if chosen.voice and voice != chosen.voice:
            continue
        score, edges, seconds, spent = Score(), defaultdict(list), 0.0, 0.0
        for number in numbers:
            sound, script, truth = made(voice, number, again=chosen.again)
            x, chapter = read_mono(sound, EAR_RATE), read_script(script)
            start = time.perf_counter()
            proof = proofed(x, chapter, ears, memory=memory)
            spent += time.perf_counter() - start
            seconds += len(x) / EAR_RATE
            score.add(sound.stem, truth["plants"], proof.findings, len(chapter.words))
            for where, errors in edge_errors(proof, truth).items():
                edges[where] += errors
        print(f"--- {voice}, chapters {numbers[0]} to {numbers[-1]}: {seconds / 60:.1f} min at {seconds / spent:.1f} x")
        print(score.told())
        for where, errors in edges.items():
            print(f"word edges {where}: median {np.median(errors):.1f} ms, ", end="")
            print(f"90th percentile {np.percentile(errors, 90):.1f} ms of {len(errors)}")
        if chosen.list:
            print(*("missed " + m for m in score.missed), *("false  " + w for w in score.wrong), sep="\n")
        sys.stdout.flush()
    if not chosen.again and chosen.voice in (None, "real") and chosen.split in ("held", "all"):
        score, seconds, spent = Score(), 0.0, 0.0
        found = readings(ears)
        for seed in range(ALTERED):
            x, chapter, plants = altered(found, seed)
            start = time.perf_counter()
            proof = proofed(x, chapter, ears, memory=memory)
            spent += time.perf_counter() - start
            seconds += len(x) / EAR_RATE
            score.add(f"real-{seed}", plants, proof.findings, len(chapter.words))
        print(f"--- {len(found)} real readings, altered {ALTERED} times: {seconds / 60:.1f} min at {seconds / spent:.1f} x")
        print(score.told())
        if chosen.list:
            print(*("missed " + m for m in score.missed), *("false  " + w for w in score.wrong), sep="\n")
    return 0


if __name__ == "__main__":
    sys.exit(main())
