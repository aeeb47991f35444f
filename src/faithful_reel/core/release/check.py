"""The independent check: reads a finished file by another decoder than the one on the encoder's side."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from faithful_reel.core.audio.files import audio_info, blocks
from faithful_reel.core.jobs import Unwatched, Watch, ahead
from faithful_reel.core.measure.levels import Figures, Meter
from faithful_reel.core.measure.profile import Profile, Verdict, verdicts

WRITTEN_BY = {".mp3": "av", ".m4a": "av", ".m4b": "av", ".wav": "soundfile", ".flac": "soundfile"}
"""Which library writes files of a kind; the check reads by the other."""


def file_figures(path: Path, watch: Watch | None = None) -> Figures:
    """Measure any audio file as a retailer's intake would.

    Raises
    ------
    FileProblem, SignalError
        The file can not be read, or holds no sound.
    """
    watch = watch or Unwatched()
    info = audio_info(path)
    reader = "soundfile" if WRITTEN_BY.get(path.suffix.lower()) == "av" and path.suffix.lower() == ".mp3" else "av"
    meter = Meter(info.rate, info.channels)
    for x in ahead(blocks(path, by=reader)):
        meter.feed(x)
        watch.tick(min(1.0, meter.frames / info.frames), "checking")
    figures = meter.figures()
    codec = {"wavex": "wav", "rf64": "wav", "w64": "wav"}.get(info.codec, info.codec)
    bit_rate, constant = _bit_rate(path, figures) if codec == "mp3" else (round(path.stat().st_size * 8 / figures.seconds), None)
    return replace(figures, codec=codec, bit_rate=bit_rate, cbr=constant)


def _bit_rate(path: Path, figures: Figures) -> tuple[int, bool]:
    from mutagen import MutagenError
    from mutagen.mp3 import MP3, BitrateMode

    try:
        info: Any = MP3(path).info
    except MutagenError:
        return round(path.stat().st_size * 8 / figures.seconds), False
    if info is None:
        return round(path.stat().st_size * 8 / figures.seconds), False
    return int(info.bitrate), info.bitrate_mode == BitrateMode.CBR


def checked_file(path: Path, profile: Profile, watch: Watch | None = None) -> tuple[Figures, tuple[Verdict, ...]]:
    """Figures and verdicts of one file."""
    figures = file_figures(path, watch)
    return figures, verdicts(figures, profile)


def file_report(path: Path, figures: Figures, found: tuple[Verdict, ...]) -> dict[str, object]:
    """One entry of the JSON that `master` and `check` print; see docs/headless.md."""
    return {
        "path": str(path),
        "figures": figures.as_json(),
        "verdicts": [v.as_json() for v in found],
        "pass": all(v.passed for v in found),
    }
