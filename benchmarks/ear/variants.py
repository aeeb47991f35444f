"""The same reading as others record it: in a room, faster, another height of voice, compressed, quiet."""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

import numpy as np
import soxr

HERE = Path(__file__).parent
sys.path[:0] = [str(HERE.parent / "splice")]

from cases import in_room, paced  # noqa: E402

from faithful_reel.core.audio.encode import write_audio  # noqa: E402
from faithful_reel.core.audio.files import read_mono  # noqa: E402
from faithful_reel.core.units import EAR_RATE, Signal  # noqa: E402

VARIANTS = ("dry", "echo", "fast", "height", "mp3", "quiet")
ECHO_S, FLOOR_DB = 0.45, -50.0
FASTER, HIGHER = 1.12, 1.05
KBITS, CODED_RATE = 64, 44_100
QUIET_DB = -36.0
SPEECH_DB = -22.0


def variant(x: Signal, name: str) -> Signal:
    """A reading, (n,) at 16 kHz, as one of `VARIANTS`."""
    rng = np.random.default_rng(5)
    if name == "dry":
        return x
    if name == "echo":
        y = in_room(_levelled(x, SPEECH_DB), EAR_RATE, ECHO_S, rng)
        return y + (rng.standard_normal(len(y)) * 10 ** (FLOOR_DB / 20)).astype(np.float32)
    if name == "fast":
        return paced(x, EAR_RATE, FASTER)
    if name == "height":
        higher = soxr.resample(x, EAR_RATE * HIGHER, EAR_RATE, quality="VHQ")
        return paced(np.asarray(higher, np.float32), EAR_RATE, 1 / HIGHER)
    if name == "mp3":
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "coded.mp3"
            write_audio(
                path, [np.asarray(soxr.resample(x, EAR_RATE, CODED_RATE, quality="VHQ"), np.float32)], CODED_RATE, kbits=KBITS
            )
            return read_mono(path, EAR_RATE)
    if name == "quiet":
        return _levelled(x, QUIET_DB)
    raise ValueError(f"no such variant: {name}")


def _levelled(x: Signal, db: float) -> Signal:
    """With speech at a level: RMS of what is within 30 dB of its loudest tenth of a second."""
    frames = x[: len(x) // 1600 * 1600].reshape(-1, 1600)
    power = np.mean(np.square(frames, dtype=np.float64), axis=1)
    speech = power[power > power.max() * 1e-3].mean()
    return np.asarray(x * np.float32(10 ** (db / 20) / np.sqrt(speech)), np.float32)
