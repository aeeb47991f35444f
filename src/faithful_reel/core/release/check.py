"""The independent check: reads a finished file by another decoder than the one on the encoder's side."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from faithful_reel.core.audio.files import audio_info, blocks
from faithful_reel.core.audio.wholeness import mpeg_frames, shortfall
from faithful_reel.core.jobs import Unwatched, Watch, ahead
from faithful_reel.core.measure.levels import Figures, Meter
from faithful_reel.core.measure.profile import Profile, Verdict, verdicts


def file_meter(path: Path, watch: Watch | None = None) -> Meter:
    """Measure any audio file as a retailer's intake would.

    Raises
    ------
    FileProblem, SignalError
        The file can not be read, or holds no sound.
    """
    watch = watch or Unwatched()
    info = audio_info(path)
    reader = "soundfile" if info.codec == "mp3" else "av"
    meter = Meter(info.rate, info.channels)
    for x in ahead(blocks(path, by=reader)):
        meter.feed(x)
        watch.tick(min(1.0, meter.frames / info.frames), "checking")
    return meter


def file_figures(path: Path, watch: Watch | None = None) -> Figures:
    """Figures of any audio file, with its kind and bit rate.  Raises as `file_meter`."""
    figures = file_meter(path, watch).figures()
    codec = audio_info(path).codec
    codec = {"wavex": "wav", "rf64": "wav", "w64": "wav"}.get(codec, codec)
    frames = mpeg_frames(path) if codec == "mp3" else None
    if frames:
        return replace(figures, codec=codec, bit_rate=frames.bit_rate, cbr=frames.constant)
    return replace(figures, codec=codec, bit_rate=round(path.stat().st_size * 8 / figures.seconds))


def checked_file(path: Path, profile: Profile, watch: Watch | None = None) -> tuple[Figures, tuple[Verdict, ...]]:
    """Figures and verdicts of one file; also whether it holds all the sound that its header promises."""
    figures = file_figures(path, watch)
    cut = shortfall(path)
    there = f"{cut.found_s:.1f} of {cut.promised_s:.1f} s" if cut and cut.promised_s else "breaks off" if cut else "whole"
    whole = Verdict("whole", "all that its header promises", there, cut is None)
    return figures, (*verdicts(figures, profile), whole)


def file_report(path: Path, figures: Figures, found: tuple[Verdict, ...]) -> dict[str, object]:
    """One entry of the JSON that `master` and `check` print; see docs/headless.md."""
    return {
        "path": str(path),
        "figures": figures.as_json(),
        "verdicts": [v.as_json() for v in found],
        "pass": all(v.passed for v in found),
    }
