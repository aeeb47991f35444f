"""One finished chapter file from any audio file: what `master` does."""

from __future__ import annotations

import tempfile
from pathlib import Path

import soundfile
import soxr

from faithful_reel.core.audio.files import blocks, full_range_info
from faithful_reel.core.audio.pcm import PcmWriter
from faithful_reel.core.audio.sources import FileSources
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import refuse_over, shown, why
from faithful_reel.core.jobs import Watch
from faithful_reel.core.master.mastering import Mastered, Settings, master_reel
from faithful_reel.core.measure.profile import Profile
from faithful_reel.core.reel.reel import reel_of
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.release.check import file_meter


def master_file(
    source: Path, profile: Profile, out: Path, *, settings: Settings | None = None, watch: Watch | None = None
) -> Mastered:
    """Master an audio file to a profile.  Rate and channels stay, unless the profile asks for another rate.

    Raises
    ------
    FileProblem, SignalError
        The source can not be read or can never pass; nothing is left behind.
    """
    info = full_range_info(source)
    if info.channels not in (1, 2):
        raise FileProblem(f"{source.name} has {info.channels} channels. Export it with one or two.")
    if out.suffix.lower() not in (".wav", ".flac", ".mp3"):
        raise FileProblem(f"{out.name}: files of this kind are not written. Use .wav, .flac or .mp3.")
    if not out.parent.is_dir():
        raise FileProblem(f"The folder for {out.name} is not there. Make it first.")
    refuse_over(out, source)
    rate = info.rate if not profile.rates or info.rate in profile.rates else profile.rates[0]
    with tempfile.TemporaryFile(dir=out.parent) as held:  # without a name: it is gone however we end
        path = source
        frames = info.frames
        if rate != info.rate or info.codec not in ("wav", "wavex", "flac", "rf64", "w64", "aiff"):
            path = Path(f"/proc/self/fd/{held.fileno()}")
            try:
                frames = _decoded(source, rate, path, info.rate, info.channels)
            except (soundfile.LibsndfileError, OSError) as problem:
                raise FileProblem(
                    f"{shown(source)} could not be decoded beside {shown(out)}{why(problem)}. Make room and try again."
                ) from problem
        files = FileSources(lambda _: path, channels=info.channels)
        try:
            renderer = Renderer(reel_of("source", frames), files)
            return master_reel(renderer, rate, info.channels, profile, out, settings=settings, checked=file_meter, watch=watch)
        finally:
            files.close()


def _decoded(source: Path, rate: int, path: Path, from_rate: int, channels: int) -> int:
    frames = 0
    stream = soxr.ResampleStream(from_rate, rate, channels, dtype="float32", quality="VHQ") if rate != from_rate else None
    with PcmWriter(path, rate, channels, "FLOAT", "RF64") as file:
        for x in blocks(source):
            y = stream.resample_chunk(x.T.copy()) if stream else x.T
            file.write(y)
            frames += len(y)
        if stream:
            y = stream.resample_chunk(x.T[:0].copy(), last=True)
            file.write(y)
            frames += len(y)
    return frames
