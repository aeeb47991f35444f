"""Learn the odds that a boundary is a join (`core/splice/odds.py`), and print what to write there.

Natural boundaries of the readings against the same places with the other side altered in level, tone and floor and a few
milliseconds off.  Only readings that the benchmark may be tuned on; each is also asked by a detector that never saw it.
"""

from __future__ import annotations

import random
import sys
from pathlib import Path

import numpy as np
from scipy.optimize import minimize
from sklearn.metrics import roc_auc_score

HERE = Path(__file__).parent
sys.path[:0] = [str(HERE)]

from cases import noised, tilted  # noqa: E402
from material import Material, materials  # noqa: E402

from faithful_reel.core.splice.boundaries import Pair, Side  # noqa: E402
from faithful_reel.core.splice.odds import AROUND_S, features  # noqa: E402
from faithful_reel.core.units import Span  # noqa: E402


def natural(m: Material) -> list[tuple[int, bool]]:
    """(place, whether in a pause) of the boundaries between words, where the splicer itself would cut."""
    gaps = (None, *(Span(a[2], max(a[2], b[1])) for a, b in zip(m.words, m.words[1:], strict=False)), None)
    side = Side(m.sound, 0, gaps, gaps, tuple(Span(a, b) for _, a, b in m.words))
    pair = Pair(side, side, m.rate)
    found = [b for way in (True, False) for k in range(1, len(m.words)) for b in pair.ranked([k], entering=way, nearest=k)]
    # between words alone: what the splicer proposes inside of them is no natural boundary
    inside = [(a + round(0.04 * m.rate), b - round(0.04 * m.rate)) for _, a, b in m.words]
    return [(b.original, b.in_pause) for b in found if b.in_pause or not any(a < b.original < stop for a, stop in inside)]


def rows_of(m: Material, rng: random.Random) -> list[tuple[np.ndarray, int, bool, str]]:
    """(features, whether a join, whether in a pause, reading)."""
    noise = np.random.default_rng(rng.randrange(1 << 30))
    size = round(AROUND_S * m.rate)
    altered = [
        tilted(noised(m, m.sound, db, noise) if db else m.sound, m.rate, tilt) * np.float32(10 ** (level / 20))
        for level, tilt, db in (
            (3, 0, 0),
            (-4, 0, 0),
            (0, 4, 0),
            (0, -4, 0),
            (0, 0, 6),
            (0, 0, 12),
            (2, 3, 4),
            (-2, -2, 8),
            (0, 0, 0),
        )
    ]
    found = []
    for at, in_pause in natural(m):
        if at < size + 2000 or at + size + 2000 > len(m.sound):
            continue
        found.append((features(m.sound[at - size : at], m.sound[at : at + size], m.rate), 0, in_pause, m.name))
        other = rng.choice(altered)
        off = round(rng.choice([0, -1, 1]) * rng.uniform(0.004, 0.03) * m.rate)
        found.append((features(m.sound[at - size : at], other[at + off : at + off + size], m.rate), 1, in_pause, m.name))
    return found


def fitted(x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray, float]:
    """Mean, spread, weights and constant of a logistic regression."""
    mean, spread = x.mean(axis=0), x.std(axis=0) + 1e-9
    z, sign = (x - mean) / spread, 2 * y - 1

    def loss(w: np.ndarray) -> float:
        return float(np.mean(np.logaddexp(0, -sign * (z @ w[:-1] + w[-1]))) + 0.01 * np.sum(w[:-1] ** 2))

    w = minimize(loss, np.zeros(x.shape[1] + 1), method="L-BFGS-B").x
    return mean, spread, w[:-1], float(w[-1])


def main() -> None:
    """Fit both kinds and print them."""
    rng = random.Random(7)
    rows = [row for m in materials() if not m.name.endswith("-2") for row in rows_of(m, rng)]
    for name, in_pause in (("PAUSE", True), ("TOUCH", False)):
        mine = [r for r in rows if r[2] is in_pause]
        x, y, reading = np.array([r[0] for r in mine]), np.array([r[1] for r in mine]), np.array([r[3] for r in mine])
        scores = np.zeros(len(y))
        for left_out in set(reading):
            test = reading == left_out
            mean, spread, w, c = fitted(x[~test], y[~test])
            scores[test] = (x[test] - mean) / spread @ w + c
        print(f"# {len(y)} boundaries, area under the curve on readings left out {roc_auc_score(y, scores):.3f}")
        mean, spread, w, c = fitted(x, y)
        print(f"{name} = (")
        for row in (mean, spread, w):
            print("    (" + ", ".join(f"{v:.3f}" for v in row) + "),")
        print(f"    {c:.3f},\n)")


if __name__ == "__main__":
    main()
