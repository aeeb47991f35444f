"""Low cut and noise reduction, block by block."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray
from scipy import fft
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
def _shape(spectra, noise, past, gains, floor, attack, release):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Weigh (frames, bins) spectra in place.  past: (2, bins) of the frames before, over the print; gains: (bins,).

    Gains go quickly up, so that onsets stay whole, and slowly down, so that tails do.
    """
    frames, bins = spectra.shape
    smooth = np.empty(bins + 4, np.float32)
    for t in range(frames):
        for k in range(bins):
            value = spectra[t, k]
            above = (value.real * value.real + value.imag * value.imag) / noise[k]
            smooth[k + 2] = past[0, k] + past[1, k] + above
            past[0, k] = past[1, k]
            past[1, k] = above
        smooth[0] = smooth[1] = smooth[2]
        smooth[bins + 2] = smooth[bins + 3] = smooth[bins + 1]
        for k in range(bins):
            mean = (smooth[k] + smooth[k + 1] + smooth[k + 2] + smooth[k + 3] + smooth[k + 4]) * np.float32(1 / 15)
            wanted = min(max((mean - np.float32(2.0)) * np.float32(0.25), floor), np.float32(1.0))
            g = gains[k]
            g += (attack if wanted > g else release) * (wanted - g)
            gains[k] = g
            spectra[t, k] *= g


class NoiseReduction:
    """Spectral reduction by a noise print: bins that do not rise over it are lowered by `depth_db`, never to nothing.

    Own design on common ground (short-time spectral attenuation): Hann analysis and synthesis at 75 % overlap; the
    a-posteriori signal-to-noise ratio is averaged over 5 bins and 3 frames before the gain is read from it, which
    keeps single noise bins from flickering.  Output lags input by `FRAME` samples; `flush` gives the rest.
    """

    def __init__(self, print_: NDArray[np.float64], channels: int = 1, *, depth_db: float = 12.0) -> None:
        self._print = np.maximum(print_, 1e-16).astype(np.float32)
        self._channels = channels
        self._floor = np.float32(10 ** (-depth_db / 20))
        self._window = np.hanning(FRAME + 1)[:-1].astype(np.float32)
        self._in = np.zeros((channels, FRAME - HOP), np.float32)
        self._out = np.zeros((channels, FRAME - HOP), np.float32)
        self._gain = np.full((channels, FRAME // 2 + 1), self._floor, np.float32)
        self._past = np.ones((channels, 2, FRAME // 2 + 1), np.float32)
        self._skip = FRAME - HOP
        self._fed = self._given = 0

    def feed(self, x: Signal) -> Signal:
        """The next block, (channels, n); gives what is finished, which lags."""
        return self.synthesised(self.analysed(x))

    def flush(self) -> Signal:
        """The last samples: as many as were fed in all."""
        left = self._fed - self._given
        return self.feed(np.zeros((self._channels, 2 * FRAME), np.float32))[:, :left]

    def analysed(self, x: Signal) -> NDArray[np.complex64]:
        """First half of `feed`: the weighed spectra, (channels, frames, bins), that the next block completes."""
        self._fed += x.shape[-1]
        self._in = np.concatenate([self._in, x.astype(np.float32, copy=False)], axis=-1)
        count = max(0, (self._in.shape[-1] - FRAME) // HOP + 1)
        spectra = np.empty((self._channels, count, FRAME // 2 + 1), np.complex64)
        for c in range(self._channels if count else 0):
            frames = np.lib.stride_tricks.sliding_window_view(self._in[c], FRAME)[::HOP][:count]
            spectra[c] = fft.rfft(frames * self._window, axis=-1)
            _shape(spectra[c], self._print, self._past[c], self._gain[c], self._floor, np.float32(0.75), np.float32(0.28))
        self._in = self._in[:, count * HOP :]
        return spectra

    def synthesised(self, spectra: NDArray[np.complex64]) -> Signal:
        """Second half of `feed`: back to sound, overlapped and added."""
        used = spectra.shape[1] * HOP
        result = np.zeros((self._channels, used), np.float32)
        for c in range(self._channels if used else 0):
            shaped = fft.irfft(spectra[c], n=FRAME, axis=-1) * (self._window / np.float32(1.5))
            buffer = np.zeros(used + FRAME - HOP, np.float32)
            buffer[: FRAME - HOP] = self._out[c]
            for part in range(FRAME // HOP):  # frames that do not overlap are added in one go
                rows = shaped[part :: FRAME // HOP].reshape(-1)
                buffer[part * HOP : part * HOP + rows.size] += rows
            result[c] = buffer[:used]
            self._out[c] = buffer[used:]
        drop = min(self._skip, used)
        self._skip -= drop
        self._given += used - drop
        return result[:, drop:]


def noise_print(x: Signal) -> NDArray[np.float64]:
    """Mean power spectrum of a stretch of room tone, (n,), in `FRAME`-sample Hann frames: (FRAME // 2 + 1,)."""
    if len(x) < FRAME:
        x = np.pad(x, (0, FRAME - len(x)), mode="wrap")
    frames = np.lib.stride_tricks.sliding_window_view(x.astype(np.float64), FRAME)[::HOP]
    return np.asarray(np.mean(np.abs(np.fft.rfft(frames * np.hanning(FRAME + 1)[:-1], axis=-1)) ** 2, axis=0))
