"""Flaws of known place and size, laid on clean readings by a fixed seed."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from scipy.signal import butter, lfilter, sosfiltfilt

from faithful_reel.core.treat.redraw import predictor


@dataclass(frozen=True)
class Planted:
    """A flaw at samples [start, stop): of a kind, at a level in dB, in a `vowel` or a `pause`."""

    start: int
    stop: int
    kind: str
    level: float
    where: str


def residual_level(x: np.ndarray, at: int, rate: int) -> float:
    """RMS of the prediction error of the 25 ms around a sample."""
    half = int(0.0125 * rate)
    part = np.asarray(x[max(0, at - half) : at + half], np.float64)
    order = 48 if rate > 32_000 else 32
    error = lfilter(predictor(part, order), [1.0], part)[order:]
    return float(np.sqrt(np.mean(np.square(error))) + 1e-9)


def click(kind: str, rate: int, rng: np.random.Generator) -> np.ndarray:
    """The shape of a click, RMS 1 over its length."""
    if kind == "single":
        y = np.ones(1)
    elif kind == "short":  # 0.1 to 1 ms: a burst that decays
        n = max(2, int(rng.uniform(0.0001, 0.001) * rate))
        y = rng.standard_normal(n) * np.exp(-2.0 * np.arange(n) / n)
    else:  # a mouth click, 1.5 to 6 ms: one or two ringing cavities
        n = int(rng.uniform(0.0015, 0.006) * rate)
        t = np.arange(n) / rate
        y = np.zeros(n)
        for _ in range(2):
            hz = rng.uniform(900, min(5000, 0.4 * rate))
            begin = int(rng.uniform(0, 0.3) * n)
            ring = np.sin(2 * np.pi * hz * t + rng.uniform(0, 6)) * np.exp(-t / (0.25 * n / rate))
            y[begin:] += ring[: n - begin] * rng.uniform(0.4, 1)
        y += 0.2 * rng.standard_normal(n) * np.exp(-np.arange(n) / (0.15 * n))
        fade = max(2, n // 5)
        y[-fade:] *= np.linspace(1, 0, fade)
    return y / np.sqrt(np.mean(np.square(y))) * (1 if rng.random() < 0.5 else -1)


def with_clicks(reading, levels, seed: int, *, every_s: float = 0.5, kinds=("single", "short", "mouth")):
    """A reading with clicks so many dB (RMS over their length) over the local residual: sound, what was planted."""
    rng = np.random.default_rng(seed)
    x, mask, rate = reading.sound.astype(np.float64), reading.mask(), reading.rate
    y, planted = x.copy(), []
    at = int(0.3 * rate)
    while at < len(x) - int(0.3 * rate):
        around = mask[at - int(0.03 * rate) : at + int(0.03 * rate)]
        own = x[at - int(0.015 * rate) : at + int(0.015 * rate)]
        loud = 10 * np.log10(np.mean(np.square(own)) + 1e-20) > -30
        where = "vowel" if around.all() and loud else "pause" if not around.any() else ""
        if where == "vowel":
            low = np.mean(np.square(sosfiltfilt(butter(4, 2000, fs=rate, output="sos"), own)))
            where = "vowel" if low > 0.7 * np.mean(np.square(own)) else ""
        if not where:
            at += int(0.05 * rate)
            continue
        kind, level = str(rng.choice(kinds)), float(rng.choice(levels))
        shape = click(kind, rate, rng) * residual_level(x, at, rate) * 10 ** (level / 20)
        y[at : at + len(shape)] += shape
        planted.append(Planted(at, at + len(shape), kind, level, where))
        at += int(every_s * rate * rng.uniform(0.7, 1.3))
    return np.clip(y, -1, 1).astype(np.float32), planted


def pop(rate: int, rng: np.random.Generator) -> np.ndarray:
    """A burst of air on the membrane: a sudden swing that rings out between 15 and 60 Hz, with some rumble on it, peak 1."""
    n = int(rng.uniform(0.07, 0.2) * rate)
    t = np.arange(n) / rate
    hz = rng.uniform(18, 45)
    y = np.sin(2 * np.pi * hz * t * (1 - 0.25 * t / t[-1])) * np.exp(-t / (0.35 * t[-1]))
    rumble = sosfiltfilt(butter(2, [20, 110], "bandpass", fs=rate, output="sos"), rng.standard_normal(n))
    y += 0.25 * rumble / np.max(np.abs(rumble)) * np.exp(-t / (0.3 * t[-1]))
    rise = int(0.004 * rate)
    y[:rise] *= np.sin(np.pi / 2 * np.arange(rise) / rise) ** 2
    fade = n // 4
    y[-fade:] *= np.cos(np.pi / 2 * np.arange(fade) / fade) ** 2
    return y / np.max(np.abs(y)) * (1 if rng.random() < 0.5 else -1)


def with_pops(reading, levels, seed: int, *, every_s: float = 2.5):
    """A reading with bursts whose peak stands at so many dB beside that of the speech, where a voice sets in or goes on."""
    rng = np.random.default_rng(seed)
    x, mask, rate = reading.sound.astype(np.float64), reading.mask(), reading.rate
    y, planted, peak = x.copy(), [], np.percentile(np.abs(x), 99.9)
    at = int(0.5 * rate)
    while at < len(x) - int(0.5 * rate):
        if not mask[at : at + int(0.1 * rate)].all():
            at += int(0.05 * rate)
            continue
        level = float(rng.choice(levels))
        shape = pop(rate, rng) * peak * 10 ** (level / 20)
        y[at : at + len(shape)] += shape
        planted.append(Planted(at, at + len(shape), "pop", level, "vowel"))
        at += int(every_s * rate * rng.uniform(0.7, 1.3))
    return y.astype(np.float32), planted


def hum(n: int, rate: int, mains: float, drift_hz: float, seed: int, harmonics: int = 12) -> np.ndarray:
    """Mains with harmonics that fall off, RMS 1; its frequency wanders by `drift_hz` from end to end."""
    rng = np.random.default_rng(seed)
    t = np.arange(n) / rate
    period = rng.uniform(15, 40)
    hz = mains + rng.uniform(-0.1, 0.1) + drift_hz / 2 * np.sin(2 * np.pi * t / period + rng.uniform(0, 6))
    phase = 2 * np.pi * np.cumsum(hz) / rate
    y = sum(rng.uniform(0.3, 1) / h**0.7 * np.sin(h * phase + rng.uniform(0, 6)) for h in range(1, harmonics + 1))
    return y / np.sqrt(np.mean(np.square(y)))


def room(kind: str, n: int, rate: int, seed: int) -> np.ndarray:
    """A room's noise, RMS 1: `pink` that drifts by 6 dB, a `fan` with its hum, or `hiss`."""
    rng = np.random.default_rng(seed)
    spectrum = np.fft.rfft(rng.standard_normal(n))
    hz = np.fft.rfftfreq(n, 1 / rate)
    hz[0] = hz[1]
    if kind == "pink":
        y = np.fft.irfft(spectrum / np.sqrt(np.maximum(hz, 20)), n)
        y *= 10 ** (np.interp(np.arange(n), np.linspace(0, n, 9), 3 * np.sin(np.arange(9) * 1.9 + seed)) / 20)
    elif kind == "fan":
        y = np.fft.irfft(spectrum / (1 + (hz / 250) ** 1.2), n)
        y = y / np.std(y) + 0.5 * hum(n, rate, 50, 0.0, seed, 6)
    else:
        y = np.fft.irfft(spectrum * np.sqrt(np.clip(hz / 3000, 0.05, 1.5)), n)
    return y / np.sqrt(np.mean(np.square(y)))


def room_answer(rate: int, rt_s: float, seed: int) -> tuple[np.ndarray, int]:
    """An impulse response: the direct sound, early reflections, and a tail that decays by 60 dB in `rt_s`, sooner in the treble;
    with the sample at which the late part begins (50 ms)."""
    rng = np.random.default_rng(seed)
    n = int(1.3 * rt_s * rate)
    t = np.arange(n) / rate
    tail = np.zeros(n)
    edges = (0, 350, 1000, 3000, 0.49 * rate)
    for (low, high), share in zip(itertools.pairwise(edges), (1.05, 1.0, 0.85, 0.6), strict=False):
        spectrum = np.fft.rfft(rng.standard_normal(n))
        hz = np.fft.rfftfreq(n, 1 / rate)
        spectrum[(hz < low) | (hz >= high)] = 0
        tail += np.fft.irfft(spectrum, n) * 10 ** (-3 * t / (rt_s * share))
    tail[: int(0.004 * rate)] = 0
    h = tail / np.sqrt(np.sum(tail**2)) * 10 ** (np.interp(rt_s, [0.3, 0.5, 0.8], [-3.0, 0.0, 2.0]) / 20)
    h[0] = 1.0
    for _ in range(6):
        h[int(rng.uniform(0.003, 0.03) * rate)] += rng.uniform(-0.25, 0.25)
    return h, int(0.05 * rate)


def breath(rate: int, rng: np.random.Generator) -> np.ndarray:
    """A drawn breath: noise under two or three broad resonances that swells and stops, peak RMS 1."""
    n = int(rng.uniform(0.18, 0.5) * rate)
    source = rng.standard_normal(n)
    y = 0.25 * sosfiltfilt(butter(1, [500, min(6000, 0.45 * rate)], "bandpass", fs=rate, output="sos"), source)
    for low, high in ((600, 1100), (1300, 2200), (2400, 4000)):
        middle = rng.uniform(low, high)
        y += rng.uniform(0.4, 1) * sosfiltfilt(
            butter(1, [middle * 0.8, middle * 1.25], "bandpass", fs=rate, output="sos"), source
        )
    swell = np.sin(np.pi * np.linspace(0, 1, n) ** rng.uniform(1.0, 1.8)) ** rng.uniform(1, 2)
    y *= swell
    return y / np.sqrt(np.mean(np.square(y[n // 3 : 2 * n // 3])))


def with_breaths(reading, levels, seed: int):
    """A reading with breaths in its pauses, so many dB under the speech: sound, what was planted."""
    rng = np.random.default_rng(seed)
    x, mask, rate = reading.sound.astype(np.float64), reading.mask(), reading.rate
    edges = np.flatnonzero(np.diff(np.concatenate([[False], ~mask, [False]]))).reshape(-1, 2)
    y, planted = x.copy(), []
    for a, b in edges:
        shape = breath(rate, rng)
        if b - a < len(shape) + int(0.12 * rate) or rng.random() < 0.3:
            continue
        level = float(rng.choice(levels))
        at = int(rng.integers(a + int(0.06 * rate), b - len(shape) - int(0.05 * rate)))
        y[at : at + len(shape)] += shape * 10 ** ((-20 + level) / 20)
        planted.append(Planted(at, at + len(shape), "breath", level, "pause"))
    return y.astype(np.float32), planted
