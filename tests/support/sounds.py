"""Made sounds of known figures."""

from __future__ import annotations

from pathlib import Path

import numpy as np

RATE = 44_100
DEMO = Path(__file__).parents[2] / "demo" / "book"


def sine(hz: float, *, seconds: float, db: float = 0.0, rate: int = RATE) -> np.ndarray:
    """A sine whose peak is `db` against full scale."""
    t = np.arange(round(seconds * rate)) / rate
    return (10 ** (db / 20) * np.sin(2 * np.pi * hz * t)).astype(np.float32)


def noise(*, seconds: float, rms_db: float, seed: int = 1, rate: int = RATE) -> np.ndarray:
    """White noise of a given RMS."""
    x = np.random.default_rng(seed).standard_normal(round(seconds * rate))
    return (x / np.sqrt(np.mean(x**2)) * 10 ** (rms_db / 20)).astype(np.float32)


def speech_like(*, seconds: float, rms_db: float = -22.0, floor_db: float = -65.0, seed: int = 3, rate: int = RATE) -> np.ndarray:
    """Bursts of harmonics with pauses between, over a quiet floor: 0.7 s of voice, 0.5 s of pause."""
    rng = np.random.default_rng(seed)
    n = round(seconds * rate)
    t = np.arange(n) / rate
    voice = sum(np.sin(2 * np.pi * 120 * k * t + k) / k for k in range(1, 20))
    gate = ((t % 1.2) > 0.5).astype(float)
    gate[: min(rate // 2, n // 4)] = 0
    gate[-min(rate, n // 4) :] = 0
    smooth = np.convolve(gate, np.hanning(882) / np.hanning(882).sum(), "same")
    x = voice * smooth * (1 + 0.2 * rng.standard_normal(n))
    x *= 10 ** (rms_db / 20) / np.sqrt(np.mean(x**2))
    return (x + 10 ** (floor_db / 20) * rng.standard_normal(n)).astype(np.float32)
