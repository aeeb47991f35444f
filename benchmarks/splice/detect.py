"""Can a join be found?  Detectors try to tell the splices from natural boundaries of the same kind, in the same readings.

Features are measured in a window around the place; a detector is trained on all readings but one and asked about that one, three
kinds of it: logistic regression, a support vector machine with a radial kernel, gradient-boosted trees.  The first set of
features is what a join could give away and a splicer can mind: steps of level, floor and third-octaves, flux, click.  The second
holds what the splicer never looks at: cepstra and their change, the residue of linear prediction, pitch and periodicity, zero
crossings, centroid, kurtosis, phase.  The area under the curve (AUC) is 0.5 where a detector can only guess.
"""

from __future__ import annotations

import itertools
import sys
import warnings
from collections.abc import Callable
from pathlib import Path

import numpy as np
from scipy.fft import dct
from scipy.linalg import solve_toeplitz
from scipy.signal import lfilter
from sklearn.ensemble import GradientBoostingClassifier
from sklearn.linear_model import LogisticRegression
from sklearn.metrics import roc_auc_score
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import StandardScaler
from sklearn.svm import SVC

sys.path[:0] = [str(Path(__file__).parent)]

KINDS: dict[str, Callable[[], object]] = {
    "logistic": lambda: LogisticRegression(C=0.1, max_iter=2000, class_weight="balanced"),
    "kernel": lambda: SVC(C=0.5, gamma="scale", class_weight="balanced"),
    "trees": lambda: GradientBoostingClassifier(n_estimators=60, max_depth=2, subsample=0.7, random_state=1),
}


def _sides(x: np.ndarray, at: int, size: int) -> tuple[np.ndarray, np.ndarray]:
    padded = np.pad(x[max(0, at - size) : at + size].astype(np.float64), (max(0, size - at), max(0, at + size - len(x))))
    return padded[:size], padded[size : 2 * size]


def _bands(frame: np.ndarray, rate: int, count: int = 18) -> np.ndarray:
    power = np.abs(np.fft.rfft(frame * np.hanning(len(frame)))) ** 2 / max(1, len(frame))
    hz = np.fft.rfftfreq(len(frame), 1 / rate)
    edges = np.searchsorted(hz, np.geomspace(100, min(7500, 0.45 * rate), count + 1))
    return np.array([10 * np.log10(power[a : max(a + 1, b)].mean() + 1e-10) for a, b in itertools.pairwise(edges)])


def _db(x: np.ndarray) -> float:
    return float(10 * np.log10(np.mean(np.square(x)) + 1e-10))


def minded(x: np.ndarray, at: int, rate: int) -> list[float]:
    """The first set: what a splicer can mind."""
    found: list[float] = []
    for ms in (5, 20, 60, 150):
        left, right = _sides(x, at, round(ms * rate / 1000))
        found += [abs(_db(left) - _db(right)), float(np.mean(np.abs(_bands(left, rate) - _bands(right, rate))))]
    left, right = _sides(x, at, round(0.1 * rate))
    hop = round(0.005 * rate)
    floors = [np.percentile([np.mean(np.square(s[k : k + hop])) for k in range(0, len(s) - hop, hop)], 15) for s in (left, right)]
    found.append(abs(10 * np.log10((floors[0] + 1e-10) / (floors[1] + 1e-10))))
    size, step = round(0.01 * rate), round(0.005 * rate)
    rows = np.array([_bands(_sides(x, at + k * step, size // 2)[0].repeat(1), rate, 12) for k in range(-16, 17)])
    flux = np.abs(np.diff(rows, axis=0)).mean(axis=1)
    middle = flux[14:18]
    found += [float(middle.max()), float(middle.max() - np.median(flux)), float(middle.mean() / (flux.mean() + 1e-9))]
    bend = np.abs(np.diff(np.concatenate(_sides(x, at, round(0.06 * rate))), 2))
    near = round(0.003 * rate)
    centre = len(bend) // 2
    outer = np.concatenate([bend[: centre - near], bend[centre + near :]])
    found.append(20 * np.log10((bend[centre - near : centre + near].max() + 1e-9) / (np.percentile(outer, 99) + 1e-9)))
    return found


def _cepstra(frame: np.ndarray, rate: int) -> np.ndarray:
    return np.asarray(dct(_bands(frame, rate, 24), norm="ortho")[1:13])


def _pitch(frame: np.ndarray, rate: int) -> tuple[float, float]:
    frame = frame - frame.mean()
    sums = np.fft.irfft(np.abs(np.fft.rfft(frame, 2 * len(frame))) ** 2)[: len(frame)]
    low, high = rate // 350, min(rate // 70, len(sums) - 1)
    if sums[0] <= 0 or high <= low:
        return 0.0, 0.0
    row = sums[low:high] / sums[0]
    return float(row.max()), float(np.log2(low + int(row.argmax())))


def _residue(x: np.ndarray, order: int = 14) -> np.ndarray:
    sums = np.correlate(x, x, "full")[len(x) - 1 : len(x) + order]
    sums[0] = sums[0] * 1.0001 + 1e-9
    a = solve_toeplitz(sums[:-1], sums[1:])
    return np.asarray(lfilter(np.concatenate([[1.0], -a]), [1.0], x))


def unminded(x: np.ndarray, at: int, rate: int) -> list[float]:
    """The second set: what the splicer never looks at."""
    found: list[float] = []
    for ms in (12, 30):
        left, right = _sides(x, at, round(ms * rate / 1000))
        mine, theirs = _cepstra(left, rate), _cepstra(right, rate)
        found += [float(np.linalg.norm(mine - theirs)), float(np.abs(mine - theirs)[6:].mean())]
    step, size = round(0.01 * rate), round(0.02 * rate)
    rows = np.array([_cepstra(_sides(x, at + k * step, size)[0], rate) for k in range(-6, 8)])
    change = np.linalg.norm(np.diff(rows, 2, axis=0), axis=1)
    found += [float(change[5:7].max() / (np.median(change) + 1e-9))]
    both = np.concatenate(_sides(x, at, round(0.04 * rate))) + 1e-7 * np.random.default_rng(at).standard_normal(
        2 * round(0.04 * rate)
    )
    residue = np.abs(_residue(both))
    near, centre = round(0.002 * rate), len(residue) // 2
    found.append(float(np.log(residue[centre - near : centre + near].max() / (np.percentile(residue, 95) + 1e-12))))
    left, right = _sides(x, at, round(0.03 * rate))
    (how, period), (how_next, period_next) = _pitch(left, rate), _pitch(right, rate)
    found += [abs(how - how_next), min(how, how_next) * abs(period - period_next)]
    crossings = [np.mean(np.diff(np.signbit(s))) for s in (left, right)]
    found.append(abs(float(crossings[0]) - float(crossings[1])))
    for s in (left, right):
        found.append(float(np.mean(s**4) / (np.mean(s**2) ** 2 + 1e-20)))
    power = [np.abs(np.fft.rfft(s * np.hanning(len(s)))) ** 2 + 1e-12 for s in (left, right)]
    bins = np.arange(len(power[0]))
    centroids = [float(np.log((p * bins).sum() / p.sum() + 1)) for p in power]
    found.append(abs(centroids[0] - centroids[1]))
    phases = np.angle(np.fft.rfft(both * np.hanning(len(both))))
    found.append(float(np.std(np.diff(np.unwrap(phases))[2:60])))
    found.append(
        abs(float(np.corrcoef(left[::-1][: len(left) // 2], right[: len(left) // 2])[0, 1]))
        if left.std() and right.std()
        else 0.0
    )
    return found


def areas(features: np.ndarray, labels: np.ndarray, readings: np.ndarray) -> dict[str, float]:
    """AUC of every kind of detector, each reading asked by one that never saw it; and of shuffled labels."""
    told: dict[str, float] = {}
    for name, make in KINDS.items():
        told[name] = _area(make, features, labels, readings)
    rng = np.random.default_rng(1)
    told["shuffled"] = _area(KINDS["logistic"], features, rng.permutation(labels), readings)
    return told


def _area(make: Callable[[], object], features: np.ndarray, labels: np.ndarray, readings: np.ndarray) -> float:
    scores = np.full(len(labels), np.nan)
    for name in sorted(set(readings)):
        test = readings == name
        if len(set(labels[~test])) < 2 or not test.any():
            continue
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            model = make_pipeline(StandardScaler(), make()).fit(features[~test], labels[~test])
            found = model.decision_function(features[test])
        scores[test] = found
    known = np.isfinite(scores)
    # every reading by itself: readings are not compared with one another
    parts = [
        (roc_auc_score(labels[m], scores[m]), int(m.sum()))
        for name in set(readings)
        if len(set(labels[m := known & (readings == name)])) == 2
    ]
    return round(float(np.average([a for a, _ in parts], weights=[n for _, n in parts])), 3) if parts else float("nan")
