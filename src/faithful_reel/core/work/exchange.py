"""A reel as OpenTimelineIO, and back: lanes, pieces, gains, fades, joins, markers."""

from __future__ import annotations

from collections.abc import Container, Mapping
from dataclasses import replace
from itertools import count
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import opentimelineio as otio
from opentimelineio.opentime import RationalTime, TimeRange
from pydantic import ValidationError

from faithful_reel.core.book.model import Book
from faithful_reel.core.book.packing import adapter
from faithful_reel.core.errors import EditRefused, FileProblem
from faithful_reel.core.files import beside, content_of, from_json, shown, why
from faithful_reel.core.jobs import Watch
from faithful_reel.core.reel.bounds import lane_within, segment_within
from faithful_reel.core.reel.reel import Join, Lane, Marker, Piece, Reel, Rest, RoomTone, Segment

OWN = "faithful_reel"
"""The key of what this program keeps in an object's metadata: all of it that the format has no word for."""
SUFFIX = ".otio"
LARGEST = 64 << 20
LONGEST = 1 << 40
"""No time is longer, in samples."""
_BAD = (otio.exceptions.OTIOError, ValueError, TypeError, RuntimeError, LookupError, AttributeError, ArithmeticError)
"""What the library raises for what is no timeline."""


def timeline_of(reel: Reel, name: str, rate: int, media: Mapping[str, tuple[str, str, int]]) -> otio.schema.Timeline:
    """A reel as a timeline: a track of kind Audio for each lane, a clip for each piece.

    Room tone is a clip of a generator, a rest a gap, a crossfade a transition of half its length to either side.  `media` gives
    for each recording its name, the address of its file, and its length in samples.  Gains, fades and all else that the format
    has no word for stand in the metadata under `faithful_reel`.
    """
    timeline = otio.schema.Timeline(name=name)
    timeline.metadata[OWN] = {"rate": rate, "version": 1}
    for lane in reel.lanes:
        track = otio.schema.Track(name=lane.name, kind=otio.schema.TrackKind.Audio)
        track.metadata[OWN] = _plain(Lane, replace(lane, segments=()))
        track.enabled = not lane.muted
        for index, segment in enumerate(lane.segments):
            room = _shown(segment, lane.segments[index - 1]) // 2 if index else 0
            if room > 0 and not isinstance(segment, Rest) and not isinstance(lane.segments[index - 1], Rest):
                at = RationalTime(room, rate)
                kind = otio.schema.TransitionTypes.SMPTE_Dissolve
                track.append(otio.schema.Transition(name="crossfade", transition_type=kind, in_offset=at, out_offset=at))
            track.append(_item(segment, rate, media))
        timeline.tracks.append(track)
    for marker in reel.markers:
        at = TimeRange(RationalTime(marker.at, rate), RationalTime(0, rate))
        made = otio.schema.Marker(name=marker.name or "marker", marked_range=at, comment=marker.note)
        made.metadata[OWN] = _plain(Marker, marker)
        timeline.tracks.markers.append(made)
    return timeline


def _item(segment: Segment, rate: int, media: Mapping[str, tuple[str, str, int]]) -> Any:
    length = RationalTime(len(segment), rate)
    if isinstance(segment, Rest):
        made = otio.schema.Gap(name=segment.name, source_range=TimeRange(RationalTime(0, rate), length))
    elif isinstance(segment, Piece):
        name, address, whole = media.get(segment.recording, (segment.recording, "", segment.stop))
        reference = otio.schema.ExternalReference(
            target_url=address, available_range=TimeRange(RationalTime(0, rate), RationalTime(whole, rate))
        )
        source = TimeRange(RationalTime(segment.start, rate), length)
        made = otio.schema.Clip(name=segment.name or name, media_reference=reference, source_range=source)
    else:
        reference = otio.schema.GeneratorReference(name="room tone", generator_kind="room_tone")
        source = TimeRange(RationalTime(segment.offset, rate), length)
        made = otio.schema.Clip(name=segment.name or "room tone", media_reference=reference, source_range=source)
    made.metadata[OWN] = _plain(Segment, segment)
    return made


def _plain(kind: Any, value: Any) -> str:
    """A value as a text: the format's own numbers are not written to their last digit."""
    return str(adapter(kind).dump_json(value).decode())


def write_timeline(timeline: otio.schema.Timeline, path: Path) -> None:
    """Write a timeline as JSON, beside its target first.

    Raises
    ------
    FileProblem
        The file can not be written.
    """
    part = beside(path)
    try:
        part.write_text(otio.adapters.write_to_string(timeline, "otio_json"), encoding="utf-8")
        part.replace(path)
    except (OSError, otio.exceptions.OTIOError) as problem:
        raise FileProblem(f"{path.name} could not be written{why(problem)}. Choose another folder.") from problem
    finally:
        part.unlink(missing_ok=True)


def read_timeline(path: Path) -> otio.schema.Timeline:
    """The timeline of a file.

    Raises
    ------
    FileProblem
        The file can not be read, or holds no timeline.
    """
    try:
        text = content_of(path, LARGEST).decode()
    except UnicodeDecodeError as problem:
        raise FileProblem(f"{shown(path)} could not be read as a timeline. Export it as OpenTimelineIO again.") from problem
    try:
        from_json(text)  # the library ends the process where a file is nested without end
        found = otio.adapters.read_from_string(text, "otio_json")
    except _BAD as problem:
        raise FileProblem(f"{shown(path)} could not be read as a timeline ({problem}). Export it again.") from problem
    if not isinstance(found, otio.schema.Timeline):
        raise FileProblem(f"{shown(path)} holds a {type(found).__name__}, not a timeline.")
    return found


def reel_of_timeline(path: Path, book: Book, watch: Watch) -> Reel:
    """As `reel_from` of `read_timeline`, as work that is watched: of a foreign file, apart."""
    watch.tick(0.0, "reading")
    return reel_from(read_timeline(path), book)


def reel_from(timeline: otio.schema.Timeline, book: Book) -> Reel:
    """The reel that a timeline tells of, made of the book's recordings.

    What this program wrote is taken from the metadata where it still agrees with the clips; clips of other programs are found by
    the hash or the name of their file, and their transitions become crossfades.

    Raises
    ------
    EditRefused
        A clip's recording is not in the book, its times are none, or nothing in it can be played.
    """
    try:
        return _reel(timeline, book)
    except (ValueError, ArithmeticError, otio.exceptions.OTIOError) as problem:  # times that are no numbers, or beyond all bounds
        raise EditRefused(f"This timeline holds times that can not be played ({problem}).") from problem


def _reel(timeline: otio.schema.Timeline, book: Book) -> Reel:
    lanes: list[Lane] = []
    for track in timeline.tracks:
        if not isinstance(track, otio.schema.Track) or track.kind != otio.schema.TrackKind.Audio:
            continue
        segments: list[Segment] = []
        join: Join | None = None
        played = _trimmed(track, timeline.tracks.source_range)  # held by a name: its clips go with it
        for item in played:
            if isinstance(item, otio.schema.Transition):
                join = Join(_samples(item.in_offset + item.out_offset, book.rate), "equal_power")
                continue
            made = _segment(item, book)
            if join is not None and (not segments or join.length != _shown(made, segments[-1])):
                made = replace(made, join=join)
            join = None
            if len(made):
                segments.append(made)
        if segments:
            dressed = _lane(track, {lane.name for lane in lanes})
            lanes.append(lane_within(replace(dressed, segments=tuple(map(segment_within, segments)))))
    if not lanes:
        raise EditRefused("This timeline has no track of sound with a clip in it.")
    markers = [_marker(m, number, book.rate) for number, m in enumerate(timeline.tracks.markers, 1)]
    length = max(map(len, lanes))
    kept = tuple({m.id: m for m in markers if 0 <= m.at <= length}.values())
    return Reel(tuple(lanes), kept)


def _trimmed(track: Any, whole: TimeRange | None) -> Any:
    """What of a track is played: in its own range, and in that of all tracks."""
    spans = [span for span in (track.source_range, whole) if span is not None]
    if spans:
        track = track.deepcopy()
        track.source_range = None  # else the library counts from it once more
    for span in spans:
        track = otio.algorithms.track_trimmed_to_range(track, span)
    return track


def _shown(segment: Segment, before: Segment) -> int:
    """How long the transition is that a segment's join is written as, in samples: no longer than there is sound for."""
    return 2 * min(segment.join.length // 2, len(segment), len(before))


def _segment(item: Any, book: Book) -> Segment:
    span = item.trimmed_range()
    start, length = _samples(span.start_time, book.rate), _samples(span.duration, book.rate)
    kept = _kept(Segment, item)
    known: Segment | None = kept
    for effect in item.effects:
        if isinstance(effect, otio.schema.TimeEffect) and getattr(effect, "time_scalar", 0.0) != 1.0:
            name = effect.name or type(effect).__name__
            raise EditRefused(
                f"The clip “{item.name}” is played at another speed or stands still ({name}), which this program does not do. "
                "Render it to a file of its own first."
            )
    if isinstance(item, otio.schema.Gap) or not item.enabled:
        return replace(known, length=length) if isinstance(known, Rest) else Rest(length, name=item.name or "")
    if isinstance(known, RoomTone):
        if known.recording:
            book.recording(known.recording)
        return replace(known, length=length, offset=start)
    recording = _recording(item, known, book)
    if isinstance(known, Piece) and known.recording == recording:
        changed = (known.start, known.stop) != (start, start + length)
        return replace(known, start=start, stop=start + length) if changed else known
    return Piece(recording, start, start + length, name=item.name or "")


def _recording(item: Any, known: Segment | None, book: Book) -> str:
    """The recording of a clip: that it was written with, else the one whose file it names."""
    there = {r.hash: r for r in book.recordings}
    if isinstance(known, Piece) and known.recording in there:
        return known.recording
    address = getattr(getattr(item, "media_reference", None), "target_url", "") or ""
    file = address.replace("\\", "/").rsplit("/", 1)[-1]
    names = {file, unquote(file)} - {""}  # addresses write a space as %20
    for recording in book.recordings:
        if recording.name in names or recording.hash in {n.rsplit(".", 1)[0] for n in names}:
            return recording.hash
    raise EditRefused(f"The clip “{item.name}” plays {file or 'no file'}, which is no recording of this book. Bring it in first.")


def _lane(track: Any, taken: Container[str]) -> Lane:
    """A lane without its segments; every lane has a name of its own."""
    kept: Lane | None = _kept(Lane, track)
    given = track.name or "voice"
    name = next(n for k in count(1) if (n := given if k == 1 else f"{given} {k}") not in taken)
    return replace(kept, name=name, muted=not track.enabled) if kept is not None else Lane(name, (), muted=not track.enabled)


def _marker(made: Any, number: int, rate: int) -> Marker:
    kept: Marker | None = _kept(Marker, made)
    at = _samples(made.marked_range.start_time, rate)
    return replace(kept, at=at) if kept is not None else Marker(f"otio-{number}", at, made.name or "", "", made.comment or "")


def _kept(kind: Any, holder: Any) -> Any:
    """What this program kept in an object's metadata; None where there is nothing, or nothing that can be."""
    found = holder.metadata.get(OWN)
    try:
        return adapter(kind).validate_json(found) if isinstance(found, str) else None
    except ValidationError:
        return None


def _samples(time: Any, rate: int) -> int:
    found = round(float(time.rescaled_to(rate).value))
    if abs(found) > LONGEST:
        raise ValueError(f"a time of {found:.3g} samples")
    return found
