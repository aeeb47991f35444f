"""Is a cut heard?  A detector tries to tell the program's joins at word edges from natural boundaries of the same readings.

Readings that registry packages carry are cut at word edges: words taken out and closed up, laid over with room tone, and pauses
put in between words.  The detector is a logistic regression on what a join could give away, measured on either side of it (own
choice, after what the literature on splice detection looks at): step of level, of floor, of third-octaves, spectral flux, click,
step of pitch and of periodicity: what tells a join, not what tells a loud place from a quiet one.  It is trained on some stretches of the readings and asked on others, never on its own; the
area under the curve (AUC) is 0.5 where it can only guess, and told beside that of shuffled labels.
"""

from __future__ import annotations

import itertools
import json
import random
import sys
from pathlib import Path

import numpy as np
from scipy.optimize import minimize
from scipy.stats import rankdata

HERE = Path(__file__).parent
sys.path[:0] = [str(HERE / "ear"), str(HERE.parent / "tests")]

from readings import Reading, readings  # noqa: E402

from faithful_reel.core.audio.roomtone import find_room_tone  # noqa: E402
from faithful_reel.core.hear.ears import installed_ears  # noqa: E402
from faithful_reel.core.reel.commands import CutAndClose, CutAndFill, InsertPause  # noqa: E402
from faithful_reel.core.reel.reel import Join, Reel, ToneSource, reel_of  # noqa: E402
from faithful_reel.core.reel.render import Renderer  # noqa: E402
from faithful_reel.core.splice.meeting import met  # noqa: E402
from faithful_reel.core.splice.seam import seam_at  # noqa: E402
from faithful_reel.core.units import EAR_RATE as RATE  # noqa: E402
from faithful_reel.core.units import Span  # noqa: E402

FOLDS, CUTS, PAUSE = 6, 320, round(0.35 * RATE)
LEAST_PAUSE = round(0.12 * RATE)
KINDS = (
    "edges of words", "ends before pauses", "onsets after pauses", "close up", "close up, not eased", "fill, where it begins",
    "fill, where it ends", "pause, where it begins", "pause, where it ends",
)  # fmt: skip
"""Natural boundaries, and the joins that are held against them: close up against the first, the others against those alike."""
BANDS = np.geomspace(100, 7500, 19)


def near(x: np.ndarray, at: int, size: int) -> tuple[np.ndarray, np.ndarray]:
    """`size` samples on either side of a place."""
    padded = np.pad(x.astype(np.float64), size)
    at += size
    return padded[at - size : at], padded[at : at + size]


def bands(frame: np.ndarray) -> np.ndarray:
    """Third-octave levels of a frame, in dB."""
    power = np.abs(np.fft.rfft(frame * np.hanning(len(frame)))) ** 2
    hz = np.fft.rfftfreq(len(frame), 1 / RATE)
    edges = np.searchsorted(hz, BANDS)
    return np.array([10 * np.log10(power[a : max(a + 1, b)].mean() + 1e-9) for a, b in itertools.pairwise(edges)])


def voiced(frame: np.ndarray) -> tuple[float, float]:
    """How periodic a frame is, and its period in octaves, from its autocorrelation between 70 and 350 Hz."""
    frame = frame - frame.mean()
    spectrum = np.abs(np.fft.rfft(frame, 2 * len(frame))) ** 2
    sums = np.fft.irfft(spectrum)[: len(frame)]
    lags = slice(RATE // 350, min(RATE // 70, len(sums) - 1))
    if sums[0] <= 0:
        return 0.0, 0.0
    row = sums[lags] / sums[0]
    return float(row.max()), float(np.log2(lags.start + int(row.argmax())))


def features(x: np.ndarray, at: int) -> list[float]:
    """What a join could give away."""
    found: list[float] = []
    for ms in (5, 20, 60):
        left, right = near(x, at, round(ms * RATE / 1000))
        levels = [10 * np.log10(np.mean(np.square(s)) + 1e-9) for s in (left, right)]
        shapes = [bands(s) if len(s) >= 256 else np.zeros(1) for s in (left, right)]
        found += [abs(levels[0] - levels[1]), float(np.mean(np.abs(shapes[0] - shapes[1])))]
    left, right = near(x, at, round(0.05 * RATE))
    floors = [np.percentile([np.mean(np.square(s[k : k + 80])) for k in range(0, len(s) - 80, 40)], 15) for s in (left, right)]
    found.append(abs(10 * np.log10((floors[0] + 1e-9) / (floors[1] + 1e-9))))
    frames = [x[max(0, at + k) : max(0, at + k) + 160] for k in range(-480, 480, 80)]
    shapes = np.array([bands(np.pad(f, (0, 160 - len(f)))) for f in frames])
    flux = np.abs(np.diff(shapes, axis=0)).mean(axis=1)
    found += [float(flux[5:7].max()), float(flux[5:7].max() - np.median(flux))]
    left, right = near(x, at, round(0.03 * RATE))
    (how, period), (how_next, period_next) = voiced(left), voiced(right)
    both = min(how, how_next)
    found += [abs(how - how_next), both * abs(period - period_next)]
    found.append(seam_at(x.astype(np.float32), at, RATE).click_db)
    return found


def auc(scores: np.ndarray, labels: np.ndarray) -> float:
    """The share of pairs that are told apart; that of Mann and Whitney."""
    ranks, ones = rankdata(scores), int(labels.sum())
    return float((ranks[labels == 1].sum() - ones * (ones + 1) / 2) / (ones * (len(labels) - ones)))


def detected(rows: np.ndarray, labels: np.ndarray, groups: np.ndarray) -> float:
    """The AUC of the detector on stretches that it was not trained on."""
    scores = np.zeros(len(rows))
    for fold in range(FOLDS):
        test = groups % FOLDS == fold
        train = ~test
        if not test.any() or len(set(labels[train])) < 2:
            continue
        middle, spread = rows[train].mean(axis=0), rows[train].std(axis=0) + 1e-9
        x, y = (rows - middle) / spread, 2 * labels - 1
        weight = np.where(labels[train] == 1, 0.5 / labels[train].mean(), 0.5 / (1 - labels[train].mean()))

        def loss(
            w: np.ndarray, x: np.ndarray = x, y: np.ndarray = y, train: np.ndarray = train, weight: np.ndarray = weight
        ) -> float:
            margins = y[train] * (x[train] @ w[:-1] + w[-1])
            return float(np.mean(weight * np.logaddexp(0, -margins)) + 0.01 * np.sum(w[:-1] ** 2))

        w = minimize(loss, np.zeros(rows.shape[1] + 1), method="L-BFGS-B").x
        scores[test] = x[test] @ w[:-1] + w[-1]
        scores[test] -= scores[test].mean()  # folds are not compared with one another
    return auc(scores, labels)


def edges(reading: Reading) -> list[tuple[int, int]]:
    """(start, stop) of the words of a reading."""
    return [(p.start, p.stop) for p in reading.placed if p is not None]


def joins_of(reading: Reading, number: int, rng: random.Random, count: int) -> dict[str, list[tuple[list[float], int]]]:
    """Features of the program's joins in a reading and of its natural boundaries, each with the stretch that it lies in."""
    x, words = reading.sound, edges(reading)
    tone = find_room_tone(x, RATE)
    source = ToneSource("r", tone.start, tone.stop) if tone else ToneSource("", 0, 0)
    whole = reel_of("r", len(x))

    def rendered(reel: Reel) -> np.ndarray:
        return Renderer(reel, lambda _r, a, b: near_zero(x, a, b)).render(0, len(reel))

    found: dict[str, list[tuple[list[float], int]]] = {k: [] for k in KINDS}
    for (_, stop), (start, _) in itertools.pairwise(words):
        group = 100 * number + stop // (3 * RATE)
        found["edges of words"] += [(features(x, at), group) for at in {start, stop}]
        if start - stop >= LEAST_PAUSE:
            found["ends before pauses"].append((features(x, stop), group))
            found["onsets after pauses"].append((features(x, start), group))

    def met_there(start: int, stop: int) -> Span:
        return met(lambda a, b: near_zero(x, a, b), Span(start, stop), len(x), RATE)

    for _ in range(count):
        k = rng.randrange(1, len(words) - 4)
        span, group = rng.randint(1, 3), 100 * number + words[k][0] // (3 * RATE)
        start, stop = words[k][0], words[k + span - 1][1]
        closed = CutAndClose(start, stop).apply(whole)
        found["close up, not eased"].append((features(rendered(closed), start), group))
        better = met_there(start, stop)
        eased = CutAndClose(better.start, better.stop, Join(round(0.012 * RATE), "equal_gain")).apply(whole)
        found["close up"].append((features(rendered(eased), better.start), group))
        filled = rendered(CutAndFill(start, stop, source, 0).apply(whole))
        found["fill, where it begins"].append((features(filled, start), group))
        found["fill, where it ends"].append((features(filled, stop), group))
        paused = rendered(InsertPause(start, PAUSE, source).apply(whole))
        found["pause, where it begins"].append((features(paused, start), group))
        found["pause, where it ends"].append((features(paused, start + PAUSE), group))
    return found


def near_zero(x: np.ndarray, start: int, stop: int) -> np.ndarray:
    """A stretch of (n,) samples, zeros outside."""
    out = np.zeros(stop - start, np.float32)
    first, last = max(0, start), min(len(x), stop)
    if last > first:
        out[first - start : last - start] = x[first:last]
    return out


def main() -> int:
    """Measure, and print the areas as JSON."""
    rng = random.Random(5)
    known = readings(installed_ears(None, language="en"))
    total = sum(len(edges(r)) for r in known)
    found: dict[str, list[tuple[list[float], int]]] = {}
    for number, reading in enumerate(known):
        count = round(CUTS * len(edges(reading)) / total)
        if len(edges(reading)) < 8:
            continue
        for kind, rows in joins_of(reading, number, rng, count).items():
            found.setdefault(kind, []).extend(rows)
    areas: dict[str, float] = {}
    for kind in KINDS[3:]:
        natural = KINDS[0] if kind.startswith("close") else KINDS[1] if "begins" in kind else KINDS[2]
        rows = np.array([f for f, _ in found[natural] + found[kind]])
        labels = np.array([0] * len(found[natural]) + [1] * len(found[kind]))
        groups = np.array([g for _, g in found[natural] + found[kind]])
        areas[kind] = round(detected(rows, labels, groups), 3)
        areas[f"{kind}, shuffled"] = round(detected(rows, np.random.default_rng(1).permutation(labels), groups), 3)
    counts = {kind: len(rows) for kind, rows in found.items()}
    print(json.dumps({"auc": areas, "rows": counts, "readings": len(known)}))
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
