"""Splices that must not be found: lines are taken out, altered and spliced back by `faithful-reel splice`, and measured.

    python benchmarks/splice/run.py                        the part that may be looked at while tuning
    python benchmarks/splice/run.py --part held            the part that never is
    python benchmarks/splice/run.py --without level        with a match switched off

Prints a line a case, then every figure as JSON on the last line.  What was done is kept in build/splice/done, so that a run that was
broken off goes on where it stopped; `--afresh` begins anew.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import random
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict
from pathlib import Path

import numpy as np
import soundfile

HERE = Path(__file__).parent
ROOT = HERE.parent.parent
sys.path[:0] = [str(HERE)]

from cases import Case, Made, all_cases, made, materials_once  # noqa: E402
from detect import areas, minded, unminded  # noqa: E402
from fit import natural  # noqa: E402
from material import BUILD  # noqa: E402
from measure import LIMITS, measured  # noqa: E402

OWN_FLOOR = 8
"""Natural boundaries of a chapter whose floor was altered that the detector is shown."""
MATCHES = ("level", "tone", "room", "echo")
KINDS = ("pause", "touch")


def shell(*args: str) -> dict:
    """What a command of the program prints as JSON."""
    command = [sys.executable, "-m", "faithful_reel", *args, "--json", "--heard", str(BUILD / "heard-cases.sqlite")]
    done = subprocess.run(command, capture_output=True, text=True, check=False, cwd=ROOT)
    if done.returncode:
        raise RuntimeError(done.stderr.strip().splitlines()[-1] if done.stderr.strip() else "stopped")
    return dict(json.loads(done.stdout.strip().splitlines()[-1]))


def wrong_words(audio: Path, script: Path, around: range) -> set[tuple[str, int]]:
    """(heard, word) of what the ears do not hear as written around a line."""
    found = shell("proof", "--audio", str(audio), "--script", str(script))["findings"]
    own = [f for f in found if f["word_count"] or f["heard"]]
    return {(f["heard"], f["word_index"]) for f in own if f["word_index"] in around}


def tried(case: Case, folder: Path, without: tuple[str, ...]) -> dict:
    """One case: its figures, and what a detector may look at."""
    m: Made = made(case, folder)
    out = folder / "out.wav"
    begun = time.perf_counter()
    left = [w for name in without for w in ("--without", name)]
    try:
        told = shell(
            "splice", "--audio", str(m.chapter), "--script", str(m.script), "--pickup", str(m.pickup), "--line", m.line,
            "--out", str(out), *left,
        )  # fmt: skip
    except RuntimeError as problem:
        return {"refused": str(problem)}
    figures = measured(case, m, out, told)
    around = range(case.line.start - 2, case.line.stop + 2)
    lost: set[tuple[str, int]] = set()
    if not without and (wrong := wrong_words(out, m.script, around)):  # a word that is doubtful in the reading itself is no loss
        truth = folder / "truth.wav"
        soundfile.write(truth, m.truth, m.rate, subtype="FLOAT")
        lost = wrong - wrong_words(truth, m.script, around)
    x, _ = soundfile.read(out, dtype="float32", always_2d=True)
    x = x.mean(axis=1)
    joins = []
    for key, in_pause in zip(("join_in", "join_out"), told["in_pause"], strict=True):
        at = round(told[key] * m.rate)
        joins.append((KINDS[not in_pause], minded(x, at, m.rate), unminded(x, at, m.rate)))
    nature = []
    if case.chapter_noise_db:
        rng = random.Random(case.number)
        own = natural(next(r for r in materials_once() if r.name == case.material))
        for at, in_pause in rng.sample(own, min(OWN_FLOOR, len(own))):
            nature.append((KINDS[not in_pause], minded(m.truth, at, m.rate), unminded(m.truth, at, m.rate)))
    return {
        "seconds": time.perf_counter() - begun,
        "figures": asdict(figures),
        "failed": figures.failed() + (["words"] if lost else []),
        "words": sorted(lost),
        "joins": joins,
        "natural": nature,
        "in_pause": told["in_pause"],
        "matched": told["matched"],
    }


def told_in_words(case: Case, row: dict) -> str:
    """A case in a line."""
    head = f"{case.number:3d} {case.material:7s} {case.way:8s} {case.condition:13s} {'R' if case.restart else ' '}"
    if "refused" in row:
        return f"{head} REFUSED {row['refused']}"
    q = row["figures"]
    where = "".join("P" if p else "t" for p in row["in_pause"])
    return (
        f"{head} pause {q['pause_ms']:6.1f} end {q['end_ms']:5.1f} level {q['level_db']:+5.2f} third {q['third_db']:4.2f}/{q['third_worst_db']:4.1f}"
        f" floor {q['floor_db']:+5.1f} click {q['click_over_db']:4.1f} {where} {row['failed']} {row['words'] or ''} {row['seconds']:.0f} s"
    )


def detected(cases: list[Case], rows: dict[int, dict]) -> dict[str, dict[str, dict[str, float]]]:
    """AUC by kind of join, set of features and kind of detector."""
    labelled: dict[str, list[tuple[list[float], list[float], int, str]]] = {k: [] for k in KINDS}
    names = set()
    for case in cases:
        row = rows[case.number]
        for kind, first, second in row.get("joins", ()):
            labelled[kind].append((first, second, 1, case.material))
            names.add(case.material)
        for kind, first, second in row.get("natural", ()):
            labelled[kind].append((first, second, 0, case.material))
    for m in materials_once():
        if m.name in names:
            for at, in_pause in natural(m):
                labelled[KINDS[not in_pause]].append((minded(m.sound, at, m.rate), unminded(m.sound, at, m.rate), 0, m.name))
    told: dict[str, dict[str, dict[str, float]]] = {}
    for kind, found in labelled.items():
        labels, readings = np.array([r[2] for r in found]), np.array([r[3] for r in found])
        sets = {"minded": 0, "unminded": 1}
        told[kind] = {n: areas(np.nan_to_num(np.array([r[k] for r in found])), labels, readings) for n, k in sets.items()}
        told[kind]["count"] = {"joins": int(labels.sum()), "natural": int((1 - labels).sum())}
    return told


def shares(cases: list[Case], rows: dict[int, dict]) -> dict[str, float]:
    """The share of cases inside of every limit, of all that were tried."""
    found = [rows[c.number] for c in cases]
    told = {name: float(np.mean(["refused" not in r and name not in r["failed"] for r in found])) for name in (*LIMITS, "words")}
    told["all"] = float(np.mean(["refused" not in r and not r["failed"] for r in found]))
    told["third_mean_db"] = float(np.mean([r["figures"]["third_db"] for r in found if "figures" in r]))
    told["refused"] = float(np.mean(["refused" in r for r in found]))
    told["cases"] = len(found)
    return {k: round(v, 4) for k, v in told.items()}


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--part", choices=("tuned", "held", "all"), default="tuned")
    parser.add_argument("--without", action="append", choices=MATCHES, default=[])
    parser.add_argument("--every", type=int, default=1, help="only every so many cases")
    parser.add_argument("--workers", type=int, default=2)
    parser.add_argument("--afresh", action="store_true")
    asked = parser.parse_args()
    cases = [c for c in all_cases() if asked.part == "all" or c.held_out == (asked.part == "held")][:: asked.every]
    without = tuple(sorted(asked.without))
    core = sorted((ROOT / "src" / "faithful_reel" / "core").rglob("*.py"))
    version = hashlib.sha256(b"".join(p.read_bytes() for p in core)).hexdigest()[:12]
    kept = BUILD / "done" / f"{version}{''.join('-' + w for w in without)}"
    kept.mkdir(parents=True, exist_ok=True)
    materials_once()

    def one(case: Case) -> dict:
        path = kept / f"{case.number}.json"
        if path.is_file() and not asked.afresh:
            return dict(json.loads(path.read_text()))
        folder = BUILD / "work" / f"{case.number}{''.join('-' + w for w in without)}"
        row = tried(case, folder, without)
        for name in ("chapter.wav", "pickup.wav", "out.wav", "truth.wav"):
            (folder / name).unlink(missing_ok=True)
        path.write_text(json.dumps(row))
        print(told_in_words(case, row), flush=True)
        return row

    with ThreadPoolExecutor(asked.workers) as pool:
        rows = dict(zip([c.number for c in cases], pool.map(one, cases), strict=True))
    by = {
        condition: shares(mine, rows)["all"]
        for condition in dict.fromkeys(c.condition for c in cases)
        if (mine := [c for c in cases if c.condition == condition])
    }
    voices = {v: shares([c for c in cases if c.material == v], rows)["all"] for v in dict.fromkeys(c.material for c in cases)}
    print(json.dumps({"part": asked.part, "without": without, "shares": shares(cases, rows), "by condition": by, "by reading": voices, "auc": detected(cases, rows)}))  # fmt: skip
    return 0


if __name__ == "__main__":
    sys.exit(main())
