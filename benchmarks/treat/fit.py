"""Fits the score of clicks and of crackle to planted ones and to clean readings, and prints the weights for core/treat/clicks.py."""

from __future__ import annotations

import numpy as np
from flaws import with_clicks
from material import part
from sklearn.linear_model import LogisticRegression

from faithful_reel.core.treat.clicks import design, traces

LEVELS = (15, 20, 25, 30, 35)
FALSE_IN_10_S = {False: 0.4, True: 1.0}


def rows(*, crackle: bool, seeds: int):
    positive, negative, seconds = [], [], 0.0
    for reading in part(held=False):
        trace = traces(reading.sound, reading.rate, crackle=crackle)
        negative.append(design(trace, -20.0))
        seconds += reading.seconds
        for seed in range(seeds):
            levels, every, kinds = (
                ((20, 25), 0.05, ("single", "short")) if crackle else (LEVELS, 0.5, ("single", "short", "mouth"))
            )
            y, planted = with_clicks(reading, levels, seed, every_s=every, kinds=kinds)
            trace = traces(y, reading.rate, crackle=crackle)
            table = design(trace, -20.0)
            for p in planted:
                a, b = p.start // trace.size - 6, p.stop // trace.size + 6
                near = np.flatnonzero((trace.candidates >= a) & (trace.candidates <= b))
                if len(near) and p.level >= 20:
                    positive.append(table[near[np.argmax(table[near, :16].sum(axis=1))]])
    return np.array(positive), np.concatenate(negative), seconds


def main() -> None:
    for crackle in (False, True):
        positive, negative, seconds = rows(crackle=crackle, seeds=2 if crackle else 6)
        table = np.concatenate([positive, negative])[:, :-1]
        mean, spread = table.mean(axis=0), table.std(axis=0)
        model = LogisticRegression(C=0.1, max_iter=3000)
        model.fit((table - mean) / spread, np.r_[np.ones(len(positive)), np.zeros(len(negative))])
        weights = model.coef_[0] / spread
        scores = negative[:, :-1] @ weights
        least = np.sort(scores)[::-1][int(seconds / 10 * FALSE_IN_10_S[crackle])]
        print(crackle, "(" + ", ".join(f"{w:.4f}" for w in (*weights, -least)) + ")")
        print("found", np.mean(positive[:, :-1] @ weights > least))


if __name__ == "__main__":
    main()
