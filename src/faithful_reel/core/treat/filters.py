"""Low cut and noise reduction, block by block."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray
from scipy import fft
from scipy.ndimage import uniform_filter1d
from scipy.signal import butter, sosfilt

from faithful_reel.core.units import Signal

FRAME = 2048
HOP = 512


class LowCut:
    """Second-order Butterworth high pass; keeps its state between blocks.  Near 80 Hz is common practice."""

    def __init__(self, rate: int, channels: int = 1, *, cutoff_hz: float = 80.0) -> None:
        self._sos = butter(2, cutoff_hz, "highpass", fs=rate, output="sos")
        self._state = np.zeros((self._sos.shape[0], channels, 2))

    def feed(self, x: Signal) -> Signal:
        """The next block, (channels, n)."""
        y, self._state = sosfilt(self._sos, x, axis=-1, zi=self._state)
        return y.astype(np.float32)


@numba.njit(cache=True, nogil=True)
def _recursive_gains(wanted, state, floor, attack, release):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Smooth gains over time: quick up so that onsets stay whole, slow down so that tails do."""
    frames, bins = wanted.shape
    for t in range(frames):
        for k in range(bins):
            g = state[k]
            target = max(wanted[t, k], floor)
            step = attack if target > g else release
            g += step * (target - g)
            state[k] = g
            wanted[t, k] = g


class NoiseReduction:
    """Spectral reduction by a noise print: bins that do not rise over it are lowered by `depth_db`, never to nothing.

    Own design on common ground (short-time spectral attenuation): Hann analysis and synthesis at 75 % overlap; the
    a-posteriori signal-to-noise ratio is averaged over 5 bins and 3 frames before the gain is read from it, which
    keeps single noise bins from flickering.  Output lags input by `FRAME` samples; `flush` gives the rest.
    """

    def __init__(self, print_: NDArray[np.float64], channels: int = 1, *, depth_db: float = 12.0) -> None:
        self._print = np.maximum(print_, 1e-16).astype(np.float32)
        self._channels = channels
        self._floor = 10 ** (-depth_db / 20)
        self._window = np.hanning(FRAME + 1)[:-1].astype(np.float32)
        self._in = np.zeros((channels, FRAME - HOP), np.float32)
        self._out = np.zeros((channels, FRAME - HOP), np.float32)
        self._gain = np.full((channels, FRAME // 2 + 1), self._floor, np.float32)
        self._past = np.ones((channels, 2, FRAME // 2 + 1), np.float32)
        self._skip = FRAME - HOP
        self._fed = self._given = 0

    def feed(self, x: Signal) -> Signal:
        """The next block, (channels, n); gives what is finished, which lags."""
        self._fed += x.shape[-1]
        return self._emit(self._process(x))

    def flush(self) -> Signal:
        """The last samples: as many as were fed in all."""
        return self._emit(self._process(np.zeros((self._channels, 2 * FRAME), np.float32)))

    def _emit(self, y: Signal) -> Signal:
        drop = min(self._skip, y.shape[-1])
        self._skip -= drop
        y = y[:, drop:][:, : max(0, self._fed - self._given)]
        self._given += y.shape[-1]
        return y.astype(np.float32)

    def _process(self, x: Signal) -> Signal:
        data = np.concatenate([self._in, x.astype(np.float32, copy=False)], axis=-1)
        count = max(0, (data.shape[-1] - FRAME) // HOP + 1)
        if not count:
            self._in = data
            return np.zeros((self._channels, 0), np.float32)
        used = count * HOP
        result = np.zeros((self._channels, used), np.float32)
        for c in range(self._channels):
            frames = np.lib.stride_tricks.sliding_window_view(data[c], FRAME)[::HOP][:count]
            spectra = fft.rfft(frames * self._window, axis=-1, workers=2)
            power = spectra.real**2 + spectra.imag**2
            above = power / self._print
            rows = np.concatenate([self._past[c], above])
            self._past[c] = rows[-2:]
            smooth = (rows[2:] + rows[1:-1] + rows[:-2]) / 3
            smooth = uniform_filter1d(smooth, 5, axis=1, mode="nearest")
            wanted = np.clip((smooth - 2.0) / 4.0, 0.0, 1.0)
            _recursive_gains(wanted, self._gain[c], self._floor, 0.75, 0.28)
            shaped = fft.irfft(spectra * wanted, n=FRAME, axis=-1, workers=2) * (self._window / 1.5)
            buffer = np.zeros(used + FRAME - HOP, np.float32)
            buffer[: FRAME - HOP] = self._out[c]
            for part in range(FRAME // HOP):  # frames that do not overlap are added in one go
                rows_ = shaped[part :: FRAME // HOP]
                at = part * HOP
                span = buffer[at : at + len(rows_) * FRAME]
                span += rows_.reshape(-1)[: span.size]
                missing = rows_.reshape(-1)[span.size :]
                if missing.size:
                    raise AssertionError("overlap-add ran past its buffer")
            result[c] = buffer[:used]
            self._out[c] = buffer[used:]
        self._in = data[:, used:]
        return result


def noise_print(x: Signal) -> NDArray[np.float64]:
    """Mean power spectrum of a stretch of room tone, (n,), in `FRAME`-sample Hann frames: (FRAME // 2 + 1,)."""
    if len(x) < FRAME:
        x = np.pad(x, (0, FRAME - len(x)), mode="wrap")
    frames = np.lib.stride_tricks.sliding_window_view(x.astype(np.float64), FRAME)[::HOP]
    return np.asarray(np.mean(np.abs(np.fft.rfft(frames * np.hanning(FRAME + 1)[:-1], axis=-1)) ** 2, axis=0))
