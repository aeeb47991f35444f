"""A chapter brought to a delivery profile: head and tail, low cut, noise, level, compression, limiting."""

from __future__ import annotations

import math
import tempfile
from collections.abc import Callable, Iterator
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
    """One pass over a rendered reel: figures, where speech starts and ends, and a stretch of room tone."""

    figures: Figures
    speech: Span
    tone: Span | None


def surveyed(renderer: Renderer, rate: int, channels: int, watch: Watch) -> Survey:
    """Measure a reel and find its speech and its room tone.

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
    for part in ahead(renderer.blocks(block=block)):
        x = np.atleast_2d(part)
        meter.feed(x)
        levels.append(frame_levels(x[0] if channels == 1 else x.mean(axis=0), rate))
        watch.tick(min(1.0, meter.frames / len(renderer)), "measuring")
    figures = meter.figures()
    if figures.rms_db < -90:
        raise SignalError("This audio is silent, so there is nothing to master. Choose another file.")
    frames = np.concatenate(levels)
    size = round(FRAME_S * rate)
    loud = np.flatnonzero(frames > quiet_threshold(frames))
    loud = _without_specks(loud)
    speech = Span(int(loud[0]) * size, min(len(renderer), (int(loud[-1]) + 1) * size)) if len(loud) else Span(0, len(renderer))
    tone = _tone_span(renderer, rate, frames)
    return Survey(figures, speech, tone)


def _without_specks(loud: NDArray[np.intp]) -> NDArray[np.intp]:
    """Leave out loud frames at the very ends that stand alone: a click is not speech."""
    runs = np.split(loud, np.flatnonzero(np.diff(loud) > 2) + 1)
    long = [run for run in runs if len(run) >= 4]
    return np.concatenate(long) if long else loud


def _tone_span(renderer: Renderer, rate: int, frames: NDArray[np.float64]) -> Span | None:
    """Look for room tone around the quietest second of the reel, then at its start."""
    size = round(FRAME_S * rate)
    window = 50
    if len(frames) <= window:
        return None
    power = np.convolve(np.where(frames < -120, 1e6, 10 ** (frames / 10)), np.ones(window) / window, "valid")
    centre = int(power.argmin()) * size
    half = round(TONE_WINDOW_S * rate / 2)
    start, stop = max(0, centre - half), min(len(renderer), centre + half)
    x = np.atleast_2d(renderer.render(start, stop)).mean(axis=0)
    found = find_room_tone(x, rate)
    return Span(found.start + start, found.stop + start) if found else None


class _Rendered:
    """A renderer as the source of another reel, so that head and tail can be laid around a chapter."""

    def __init__(self, renderer: Renderer) -> None:
        self._renderer = renderer

    def __call__(self, recording: str, start: int, stop: int) -> Signal:
        del recording
        first, last = max(0, start), min(len(self._renderer), stop)
        x = self._renderer.render(first, max(first, last))
        out = np.zeros((*x.shape[:-1], max(0, stop - start)), np.float32)
        out[..., first - start : first - start + x.shape[-1]] = x
        return out


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
    settings: Settings | None = None,
    checked: Callable[[Path], Figures] | None = None,
    watch: Watch | None = None,
) -> Mastered:
    """Master a reel to `out`, block by block, in bounded memory.

    The clean stage (low cut, noise reduction) goes to a temporary file beside `out`; level, compression and limiting
    follow from there.  Where `checked` finds the finished file's peak over the limit (an encoder adds a little), the
    ceiling is lowered by the excess and the last stage is done again.

    Raises
    ------
    SignalError, FileProblem, Cancelled
        Nothing is left behind then.
    """
    settings = settings or Settings()
    watch = watch or Unwatched()
    survey = surveyed(renderer, rate, channels, Part(watch, 0.0, 0.25))
    trimmed = Renderer(
        with_head_and_tail(len(renderer), survey, rate, head_s=profile.make_head_s, tail_s=profile.make_tail_s),
        _Rendered(renderer),
    )
    tone = "the room tone" if survey.tone else "made tone"
    steps = [f"head of {profile.make_head_s:g} s and tail of {profile.make_tail_s:g} s of {tone}"]
    depth = _reduction_needed(survey.figures, profile) if settings.reduce_noise else 0.0
    with tempfile.TemporaryDirectory(prefix=".master-", dir=out.parent if out.parent.is_dir() else None) as folder:
        clean = Path(folder) / "clean.f32"
        for attempt in range(2):
            figures = _cleaned(trimmed, rate, channels, survey, depth, settings, clean, Part(watch, 0.25, 0.6))
            result, steps_made = _levelled(clean, rate, channels, figures, profile, settings, out, checked, Part(watch, 0.6, 1.0))
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
    steps.append(f"low cut at {settings.low_cut_hz:g} Hz")
    if depth > 0:
        steps.append(f"noise reduced by at most {depth:.1f} dB")
    return Mastered(survey.figures, result, (*steps, *steps_made))


def _reduction_needed(figures: Figures, profile: Profile) -> float:
    """How far the noise floor must come down so that it passes once the voice is brought to its level."""
    if profile.noise_floor_db is None or figures.noise_floor_db <= SILENT_DB:
        return 0.0
    lift = profile.target_rms_db - figures.rms_db + 4.0  # compression brings the quiet up by 3 to 4 dB
    excess = figures.noise_floor_db + lift - (profile.noise_floor_db - FLOOR_MARGIN_DB)
    return min(MOST_REDUCTION_DB, excess) if excess > 0 else 0.0


def _cleaned(
    renderer: Renderer, rate: int, channels: int, survey: Survey, depth: float, settings: Settings, clean: Path, watch: Watch
) -> Figures:
    """Low cut and noise reduction into a raw float file; figures of what was written."""
    cut = LowCut(rate, channels, cutoff_hz=settings.low_cut_hz)
    reduction = None
    if depth > 0:
        # the print is taken from the head, which is woven of the chapter's room tone, after the same low cut
        length = min(len(renderer), round(0.6 * rate))
        if survey.tone:
            tone = RoomTone("reel", survey.tone.start, survey.tone.stop, 3 * rate, seed=5)
            woven = Renderer(Reel((Lane("tone", (tone,)),)), renderer.source).render(0, 3 * rate)
        else:
            woven = renderer.render(0, length)
        filtered = LowCut(rate, channels, cutoff_hz=settings.low_cut_hz).feed(np.atleast_2d(woven))
        reduction = NoiseReduction(noise_print(filtered.mean(axis=0)[round(0.1 * rate) :]), channels, depth_db=depth)
    meter = Meter(rate, channels)
    with clean.open("wb") as file:

        def put(y: Signal) -> None:
            meter.feed(y)
            file.write(np.ascontiguousarray(y.T, dtype=np.float32).tobytes())

        done = 0
        for y in ahead(cut.feed(np.atleast_2d(x)) for x in renderer.blocks()):
            put(reduction.feed(y) if reduction else y)
            done += y.shape[-1]
            watch.tick(done / len(renderer), "cleaning")
        if reduction:
            put(reduction.flush())
    return meter.figures()


def _raw_blocks(path: Path, channels: int) -> Iterator[Signal]:
    with path.open("rb") as file:
        while data := file.read(BLOCK * channels * 4):
            yield np.frombuffer(data, np.float32).reshape(-1, channels).T


_BINS = np.linspace(0.0, 8.0, 16_001)


def _gain_for(heights: NDArray[np.float64], target_db: float, ceiling_db: float) -> float:
    """The gain that brings a histogram of sample heights to an RMS when everything over the ceiling is cut off.

    A limiter takes away a little more than a cut does: the rest is found by limiting.
    """
    centres = (_BINS[1:] + _BINS[:-1]) / 2
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


def _levelled(
    clean: Path,
    rate: int,
    channels: int,
    figures: Figures,
    profile: Profile,
    settings: Settings,
    out: Path,
    checked: Callable[[Path], Figures] | None,
    watch: Watch,
) -> tuple[Figures, tuple[str, ...]]:
    """Gain to the usual level, compression, gain to the target, limiting, encoding."""
    lead_db = profile.target_rms_db - figures.rms_db

    def compressed() -> Iterator[Signal]:
        compressor = Compressor(rate, threshold_db=settings.threshold_db, compression=settings.compression)
        for x in _raw_blocks(clean, channels):
            yield compressor.feed(x, gain_db=lead_db)

    heights = np.zeros(_BINS.size - 1)
    pressed = clean.with_name("pressed.f32")
    total = 0
    with pressed.open("wb") as file:
        for x in ahead(compressed()):
            heights += np.histogram(np.abs(x[:, ::4]), _BINS)[0]  # every fourth sample tells as much
            file.write(np.ascontiguousarray(x.T).tobytes())
            total += x.shape[1]
            watch.tick(0.0, "levelling")
    ceiling = (profile.peak_db if profile.peak_db is not None else -1.0) - 0.15
    if profile.true_peak_db is not None:
        ceiling = min(ceiling, profile.true_peak_db - 0.5)
    if out.suffix.lower() == ".mp3":
        ceiling -= MP3_HEADROOM_DB

    def limited() -> Iterator[Signal]:
        limiter = Limiter(rate, channels, ceiling_db=ceiling)
        gain = np.float32(10 ** (trim_db / 20))
        for x in ahead(_raw_blocks(pressed, channels)):
            y = limiter.feed(x * gain)
            if y.shape[-1]:
                yield y
        yield limiter.flush()

    trim_db = _gain_for(heights, profile.target_rms_db, ceiling)
    energy = count = 0.0
    for y in limited():  # what the limiter really takes away is found without encoding anything
        energy += float(np.einsum("ij,ij->", y, y, dtype=np.float64))
        count += y.size
        watch.tick(0.2, "levelling")
    trim_db += 1.6 * (profile.target_rms_db - 10 * math.log10(energy / count))
    for attempt in range(3):
        meter = Meter(rate, channels)
        with AudioWriter(out, rate, channels, bits=24, kbits=192) as writer:
            for y in limited():
                meter.feed(y)
                writer.write(y)
                watch.tick(0.3 + 0.7 * min(1.0, meter.frames / total), "writing")
        result = meter.figures()
        found = checked(out) if checked else result
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
        f"compression {settings.compression:g}:1 over {settings.threshold_db:g} dB",
        f"peaks limited to {ceiling:.2f} dB",
    )
    return found, steps
