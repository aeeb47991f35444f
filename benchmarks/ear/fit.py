"""Fit the weights of `core/collate/places.py` on the tuning chapters, and print them; also how they do on readings left out.

Of the readings in which only repeats and false starts were planted, only words too many count: the others would be false
ones that no real one stands beside.

Run it, look at the cross-validated figures, and copy what it prints: the weights are data, changed on purpose only.
"""

from __future__ import annotations

import itertools
import sys
from pathlib import Path

import numpy as np
from scipy.optimize import minimize

sys.path.insert(0, str(Path(__file__).parent))

from run import TUNING
from scoring import WORDS
from voices import BUILD, VOICES, made

from faithful_reel.core.audio.files import ear_sound
from faithful_reel.core.collate.findings import AGAIN, Difference
from faithful_reel.core.collate.proofing import first_pass, read_again
from faithful_reel.core.hear.aligner import Aligner
from faithful_reel.core.hear.ears import Ears, installed_ears
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.text.manuscript import read_script

PENALTY = 0.35
"""Of the squared weights, the first one's left out."""
FURTHER = 2
"""Further readings of each chapter, with repeats and false starts only."""
OFTEN = 0.2
"""What a real departure counts in the readings that repeat five times as much as the others."""
BY_HAND = {"breath": -7.0, "elided": -0.8, "strange_name": -0.6, "line": 0.5, "same_sound": -4.0}
"""Nobody breathes in the tuning chapters so that an ear makes a word of it; swallowed T and D hardly stand in them, nor lines read
again that have no margin, nor other words of the very same sound; an invented name is one that no ear knows, so that it is
doubted more than the known ones."""


def real(d: Difference, plants: list[dict], exact: set[tuple[int, int]]) -> bool | None:
    """Whether a departure stands on something that was planted; None where it is beside it, or in a line read twice.

    A departure that tells of a repeat less well than another, which has its words exactly (`exact`), is neither.
    """
    again = _again(d)
    beside = False
    for plant in plants:
        a, b = plant["word_index"], plant["word_index"] + plant["word_count"]
        if plant["kind"] not in WORDS:
            near = d.written.start <= b + 1 + plant["word_count"] and d.written.stop >= a - 1
            if near and again and (d.written == range(a, b) or (a, b) not in exact):
                return True
        else:
            loose = int(not d.written or a == b)  # of a word more or less it is not said before or after which one
            near = d.written.start <= b + 1 and d.written.stop >= a - 1
            if d.written.start < b + loose and d.written.stop > a - loose:
                return True if len(d.written) <= max(1, b - a) else None  # of wider ones it is not said what is real in them
        beside |= near
    return None if beside else False


def _again(d: Difference) -> bool:
    return d.kind in AGAIN or (not d.written and len(d.heard) > 2)


def gathered(ears: Ears) -> tuple[list[dict[str, float]], list[bool], list[int], list[float]]:
    """Features of every departure in the tuning chapters, whether it is real, the reading it is of, and how much it counts."""
    features, labels, groups, counts = [], [], [], []
    for group, (voice, number, again) in enumerate(itertools.product(VOICES, TUNING, range(FURTHER + 1))):
        sound, script, truth = made(voice, number, again=again)
        x, chapter = ear_sound(sound), read_script(script)
        with Memory(BUILD / "heard.sqlite") as memory, Aligner(memory) as aligner:
            first = first_pass(x, chapter, ears.first, Unwatched(), memory=memory)
            readings = read_again(x, chapter, first, ears, aligner, Unwatched(), memory)
            every = [j for reading in readings for p in reading.places for j in p.departures]
            exact = {(j.difference.written.start, j.difference.written.stop) for j in every if _again(j.difference)}
            for judged in every:
                label = real(judged.difference, truth["plants"], exact)
                if label is not None and not (again and judged.difference.written and judged.difference.kind not in AGAIN):
                    features.append(dict(judged.features))
                    labels.append(label)
                    groups.append(group // (FURTHER + 1))
                    counts.append(OFTEN if again and label else 1.0)
        print(f"{voice} {number}: {len(labels)} departures so far", file=sys.stderr, flush=True)
    return features, labels, groups, counts


def fitted(x: np.ndarray, y: np.ndarray, counts: np.ndarray) -> np.ndarray:
    """Weights of a penalised logistic regression; the first column is one."""

    def loss(w: np.ndarray) -> tuple[float, np.ndarray]:
        z, own = x @ w, np.r_[0, w[1:]]
        slope = x.T @ (counts * (1 / (1 + np.exp(-z)) - y)) + 2 * PENALTY * own
        return float(np.sum(counts * (np.logaddexp(0, z) - y * z)) + PENALTY * np.sum(own**2)), slope

    return minimize(loss, np.zeros(x.shape[1]), jac=True).x


def main() -> int:
    found, labels, groups, often = gathered(installed_ears())
    names = list(found[0])
    x, y, g, c = np.array([[f[n] for n in names] for f in found]), np.array(labels, float), np.array(groups), np.array(often)
    sure = np.zeros(len(y))
    for group in set(groups):
        out = g == group
        sure[out] = 1 / (1 + np.exp(-x[out] @ fitted(x[~out], y[~out], c[~out])))
    loss = -np.average(y * np.log(sure + 1e-9) + (1 - y) * np.log(1 - sure + 1e-9), weights=c)
    print(f"{len(y)} departures, {np.average(y, weights=c):.0%} real; cross-validated log loss {loss:.3f}")
    for tenth in range(10):
        inside = np.minimum((sure * 10).astype(int), 9) == tenth
        if inside.any():
            print(f"  said {tenth / 10:.1f} to {(tenth + 1) / 10:.1f}: {y[inside].mean():.2f} real of {inside.sum()}")
    weights = dict(zip(names, np.round(fitted(x, y, c), 2).tolist(), strict=True)) | BY_HAND
    print("WEIGHTS =", weights)
    return 0


if __name__ == "__main__":
    sys.exit(main())
