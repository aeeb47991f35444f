"""A chapter brought to a delivery profile: head and tail, low cut, noise, level, compression, limiting."""

from __future__ import annotations

import math
import tempfile
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.audio.encode import AudioWriter
from faithful_reel.core.audio.files import BLOCK
from faithful_reel.core.audio.roomtone import FRAME_S, find_room_tone, frame_levels, quiet_threshold
from faithful_reel.core.errors import SignalError
from faithful_reel.core.jobs import Part, Unwatched, Watch, ahead
from faithful_reel.core.measure.levels import Figures, Meter
from faithful_reel.core.measure.profile import Profile
from faithful_reel.core.reel.commands import ToneSource
from faithful_reel.core.reel.reel import LIKE, Lane, Reel, RoomTone
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.treat.dynamics import Compressor, Limiter
from faithful_reel.core.treat.filters import LowCut, NoiseReduction, noise_print
from faithful_reel.core.units import SILENT_DB, Signal, Span

MOST_REDUCTION_DB = 24.0
FLOOR_MARGIN_DB = 2.0
MP3_HEADROOM_DB = 0.6
"""An MP3 decodes with peaks a little over those that went in."""
TONE_WINDOW_S = 45.0


@dataclass(frozen=True, slots=True)
class Settings:
    """What mastering may do; stored with the result."""

    low_cut_hz: float = 80.0
    compression: float = 2.5
    threshold_db: float = -20.0
    reduce_noise: bool = True


@dataclass(frozen=True, slots=True)
class Mastered:
    """What was done to a chapter: figures before and after (of the sound that was encoded), and the steps in words."""

    before: Figures
    after: Figures
    steps: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Survey:
    """One pass over a rendered reel: figures, RMS after the low cut, where speech starts and ends, and room tone."""

    figures: Figures
    level_db: float
    speech: Span
    tone: Span | None


class _RawFile:
    """A raw float32 file of interleaved samples: written block by block, read as the source of a reel."""

    def __init__(self, path: Path, channels: int) -> None:
        self.path, self.channels = path, channels
        self.frames = 0
        self.energy = 0.0

    def write(self, parts: Iterable[Signal]) -> Iterator[Signal]:
        """Write all (channels, n) blocks, handing each on."""
        with self.path.open("wb") as file:
            for x in parts:
                file.write(np.ascontiguousarray(x.T, dtype=np.float32).tobytes())
                self.frames += x.shape[1]
                self.energy += _energy(x)
                yield x

    def blocks(self, *, every: int = 1) -> Iterator[Signal]:
        """All blocks, or every nth."""
        size = BLOCK * self.channels * 4
        with self.path.open("rb") as file:
            while data := file.read(size):
                yield np.frombuffer(data, np.float32).reshape(-1, self.channels).T
                file.seek(size * (every - 1), 1)

    def __call__(self, recording: str, start: int, stop: int) -> Signal:
        """Samples `start` to `stop`, zeros outside of the file."""
        del recording
        out = np.zeros((self.channels, stop - start), np.float32)
        first, last = max(0, start), min(self.frames, stop)
        if last > first:
            with self.path.open("rb") as file:
                file.seek(first * self.channels * 4)
                data = file.read((last - first) * self.channels * 4)
            out[:, first - start : last - start] = np.frombuffer(data, np.float32).reshape(-1, self.channels).T
        return out

    @property
    def level_db(self) -> float:
        """RMS of what was written."""
        return 10 * math.log10(self.energy / max(1, self.frames * self.channels) + 1e-20)


def _energy(x: Signal) -> float:
    return float(np.einsum("ij,ij->", x, x, dtype=np.float64))


def surveyed(renderer: Renderer, rate: int, channels: int, low_cut_hz: float, cut: _RawFile, watch: Watch) -> Survey:
    """Measure a reel, find its speech and its room tone, and write it through the low cut to `cut`.

    Raises
    ------
    SignalError
        The reel is empty or silent.
    """
    if not len(renderer):
        raise SignalError("This audio is empty. Choose another file.")
    meter = Meter(rate, channels)
    levels: list[NDArray[np.float64]] = []
    block = round(FRAME_S * rate) * 64
    low_cut = LowCut(rate, channels, cutoff_hz=low_cut_hz)

    def measured() -> Iterator[Signal]:
        for part in ahead(renderer.blocks(block=block)):
            x = np.atleast_2d(part)
            meter.feed(x)
            levels.append(frame_levels(x[0] if channels == 1 else x.mean(axis=0), rate))
            watch.tick(min(1.0, meter.frames / len(renderer)), "measuring")
            yield low_cut.feed(x)

    for _ in cut.write(measured()):
        pass
    figures = meter.figures()
    if figures.rms_db < -90:
        raise SignalError("This audio is silent, so there is nothing to master. Choose another file.")
    frames = np.concatenate(levels)
    size = round(FRAME_S * rate)
    loud = np.flatnonzero(frames > quiet_threshold(frames))
    loud = _without_specks(loud)
    speech = Span(int(loud[0]) * size, min(len(renderer), (int(loud[-1]) + 1) * size)) if len(loud) else Span(0, len(renderer))
    return Survey(figures, cut.level_db, speech, _tone_span(cut, rate, frames))


def _without_specks(loud: NDArray[np.intp]) -> NDArray[np.intp]:
    """Leave out loud frames at the very ends that stand alone: a click is not speech."""
    runs = np.split(loud, np.flatnonzero(np.diff(loud) > 2) + 1)
    long = [run for run in runs if len(run) >= 4]
    return np.concatenate(long) if long else loud


def _tone_span(cut: _RawFile, rate: int, frames: NDArray[np.float64]) -> Span | None:
    """Look for room tone around the quietest second of the reel, then at its start."""
    size = round(FRAME_S * rate)
    window = 50
    if len(frames) <= window:
        return None
    power = np.convolve(np.where(frames < -120, 1e6, 10 ** (frames / 10)), np.ones(window) / window, "valid")
    centre = int(power.argmin()) * size
    half = round(TONE_WINDOW_S * rate / 2)
    start, stop = max(0, centre - half), min(cut.frames, centre + half)
    x = cut("", start, stop).mean(axis=0)
    found = find_room_tone(x, rate)
    return Span(found.start + start, found.stop + start) if found else None


def with_head_and_tail(length: int, survey: Survey, rate: int, *, head_s: float, tail_s: float) -> Reel:
    """The chapter from a breath before its first word to its last, between stretches of its own room tone.

    |tone| chapter's speech |  tone  |
    """
    from faithful_reel.core.reel.reel import Piece

    lead = min(round(0.1 * rate), survey.speech.start, round(head_s * rate) - 1)
    trail = min(round(0.35 * rate), length - survey.speech.stop)
    tone = survey.tone
    source = ToneSource("reel", tone.start, tone.stop) if tone else ToneSource("", 0, 0)
    head = RoomTone(source.recording, source.start, source.stop, max(1, round(head_s * rate) - lead), join=LIKE, seed=11)
    tail = RoomTone(source.recording, source.start, source.stop, max(1, round(tail_s * rate) - trail), join=LIKE, seed=12)
    speech = Piece("reel", survey.speech.start - lead, survey.speech.stop + trail, join=LIKE)
    return Reel((Lane("voice", (head, speech, tail)),))


def master_reel(
    renderer: Renderer,
    rate: int,
    channels: int,
    profile: Profile,
    out: Path,
    *,
    checked: Callable[[Path], Figures],
    settings: Settings | None = None,
    watch: Watch | None = None,
) -> Mastered:
    """Master a reel to `out`, block by block, in bounded memory.

    The reel after the low cut goes to a temporary file beside `out`; from there, with head and tail, noise reduction and
    compression, to a second one; limiting and encoding follow.  Where `checked`, which measures the finished file, finds
    a peak over the limit (an encoder adds a little), the ceiling is lowered and the last stage is done again.

    Raises
    ------
    SignalError, FileProblem, Cancelled
        Nothing is left behind then.
    """
    settings = settings or Settings()
    watch = watch or Unwatched()
    with tempfile.TemporaryDirectory(prefix=".master-", dir=out.parent if out.parent.is_dir() else None) as folder:
        cut = _RawFile(Path(folder) / "cut.f32", channels)
        survey = surveyed(renderer, rate, channels, settings.low_cut_hz, cut, Part(watch, 0.0, 0.2))
        trimmed = Renderer(
            with_head_and_tail(cut.frames, survey, rate, head_s=profile.make_head_s, tail_s=profile.make_tail_s), cut
        )
        depth = _reduction_needed(survey.figures, profile) if settings.reduce_noise else 0.0
        for attempt in range(2):
            pressed = _RawFile(Path(folder) / "pressed.f32", channels)
            lead_db = profile.target_rms_db - survey.level_db
            reduction = _reduction(trimmed, rate, channels, survey, depth) if depth > 0 else None
            heights = _pressed(trimmed, rate, reduction, lead_db, settings, pressed, Part(watch, 0.2, 0.4))
            result, steps_made = _levelled(pressed, rate, heights, lead_db, profile, out, checked, Part(watch, 0.4, 1.0))
            limit = profile.noise_floor_db
            if (
                attempt
                or limit is None
                or result.noise_floor_db <= limit - 0.5
                or not settings.reduce_noise
                or depth >= MOST_REDUCTION_DB
            ):
                break
            depth = min(MOST_REDUCTION_DB, depth + result.noise_floor_db - limit + FLOOR_MARGIN_DB)
    tone = "the room tone" if survey.tone else "made tone"
    steps = [f"head of {profile.make_head_s:g} s and tail of {profile.make_tail_s:g} s of {tone}"]
    steps.append(f"low cut at {settings.low_cut_hz:g} Hz")
    if depth > 0:
        steps.append(f"noise reduced by at most {depth:.1f} dB")
    steps.append(f"compression {settings.compression:g}:1 over {settings.threshold_db:g} dB")
    return Mastered(survey.figures, result, (*steps, *steps_made))


def _reduction_needed(figures: Figures, profile: Profile) -> float:
    """How far the noise floor must come down so that it passes once the voice is brought to its level."""
    if profile.noise_floor_db is None or figures.noise_floor_db <= SILENT_DB:
        return 0.0
    lift = profile.target_rms_db - figures.rms_db + 4.0  # compression brings the quiet up by 3 to 4 dB
    excess = figures.noise_floor_db + lift - (profile.noise_floor_db - FLOOR_MARGIN_DB)
    return min(MOST_REDUCTION_DB, excess) if excess > 0 else 0.0


def _reduction(trimmed: Renderer, rate: int, channels: int, survey: Survey, depth: float) -> NoiseReduction:
    """Noise reduction whose print is taken from woven room tone, or from the head where none was found."""
    if survey.tone:
        tone = RoomTone("reel", survey.tone.start, survey.tone.stop, 3 * rate, seed=5)
        woven = Renderer(Reel((Lane("tone", (tone,)),)), trimmed.source).render(0, 3 * rate)
    else:
        woven = trimmed.render(0, min(len(trimmed), round(0.6 * rate)))
    return NoiseReduction(noise_print(np.atleast_2d(woven).mean(axis=0)), channels, depth_db=depth)


_BIN = 1 / 2000
_BINS = 16_000


def _gain_for(heights: NDArray[np.float64], target_db: float, ceiling_db: float) -> float:
    """The gain that brings a histogram of sample heights to an RMS when everything over the ceiling is cut off.

    A limiter takes away a little more than a cut does: the rest is found by limiting.
    """
    centres = (np.arange(_BINS) + 0.5) * _BIN
    ceiling = 10 ** (ceiling_db / 20)
    low, high = -60.0, 60.0
    for _ in range(40):
        middle = (low + high) / 2
        power = float(np.sum(heights * np.minimum(centres * 10 ** (middle / 20), ceiling) ** 2) / heights.sum())
        if 10 * math.log10(power + 1e-20) < target_db:
            low = middle
        else:
            high = middle
    return low


def _pressed(
    trimmed: Renderer,
    rate: int,
    reduction: NoiseReduction | None,
    lead_db: float,
    settings: Settings,
    pressed: _RawFile,
    watch: Watch,
) -> NDArray[np.float64]:
    """Noise reduction, gain to the usual level and compression into `pressed`; a histogram of its sample heights."""
    compressor = Compressor(rate, threshold_db=settings.threshold_db, compression=settings.compression)

    def cleaned() -> Iterator[Signal]:
        given = map(np.atleast_2d, trimmed.blocks())
        if not reduction:
            yield from ahead(given)
            return
        for spectra in ahead(map(reduction.analysed, given)):  # its two halves take about as long as each other
            yield reduction.synthesised(spectra)
        yield reduction.flush()

    heights = np.zeros(_BINS)
    for x in pressed.write(compressor.feed(y, gain_db=lead_db) for y in cleaned()):
        sampled = np.abs(x[:, ::4]).ravel()  # every fourth sample tells as much
        heights += np.bincount(np.minimum(sampled / _BIN, _BINS - 1).astype(np.int64), minlength=_BINS)
        watch.tick(pressed.frames / len(trimmed), "cleaning")
    return heights


def _levelled(
    pressed: _RawFile,
    rate: int,
    heights: NDArray[np.float64],
    lead_db: float,
    profile: Profile,
    out: Path,
    checked: Callable[[Path], Figures],
    watch: Watch,
) -> tuple[Figures, tuple[str, ...]]:
    """Gain to the target, limiting, encoding."""
    channels = pressed.channels
    ceiling = (profile.peak_db if profile.peak_db is not None else -1.0) - 0.15
    if profile.true_peak_db is not None:
        ceiling = min(ceiling, profile.true_peak_db - 0.5)
    if out.suffix.lower() == ".mp3":
        ceiling -= MP3_HEADROOM_DB

    def limited(*, every: int = 1) -> Iterator[Signal]:
        limiter = Limiter(rate, channels, ceiling_db=ceiling)
        gain = np.float32(10 ** (trim_db / 20))
        for x in ahead(pressed.blocks(every=every)):
            y = limiter.feed(x * gain)
            if y.shape[-1]:
                yield y
        yield limiter.flush()

    trim_db = _gain_for(heights, profile.target_rms_db, ceiling)
    energy = count = 0.0
    every = 1 + min(3, pressed.frames // (300 * rate))  # of a long chapter, some blocks tell enough
    for y in limited(every=every):  # what the limiter really takes away is found without encoding anything
        energy += _energy(y)
        count += y.size
        watch.tick(0.0, "levelling")
    trim_db += 1.6 * (profile.target_rms_db - 10 * math.log10(energy / count))
    for attempt in range(3):
        written = 0
        with AudioWriter(out, rate, channels, bits=24, kbits=192) as writer:
            for y in limited():
                writer.write(y)
                written += y.shape[1]
                watch.tick(0.1 + 0.9 * min(1.0, written / pressed.frames), "writing")
        found = checked(out)
        # should the level still be off, or an encoder's peak be over the limit, the last stage is done again
        missed = profile.target_rms_db - found.rms_db
        over = found.peak_db - profile.peak_db if profile.peak_db is not None else -1.0
        if profile.true_peak_db is not None:
            over = max(over, found.true_peak_db - profile.true_peak_db)
        if attempt == 2 or (abs(missed) < 1.0 and over <= -0.02):
            break
        trim_db += missed if abs(missed) >= 1.0 else 0.0
        ceiling -= over + 0.1 if over > -0.02 else 0.0
    steps = (
        f"gain {lead_db + trim_db:+.1f} dB to {profile.target_rms_db:g} dB RMS",
        f"peaks limited to {ceiling:.2f} dB",
    )
    return found, steps
