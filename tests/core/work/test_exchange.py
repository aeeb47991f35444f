"""A reel as OpenTimelineIO and back: the identical reel, and a timeline that the library itself understands."""

from __future__ import annotations

import json

import opentimelineio as otio
import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from faithful_reel.core.book.model import Book, Recording
from faithful_reel.core.errors import AppError, EditRefused, FileProblem
from faithful_reel.core.reel.commands import CutAndClose, CutAndFill, DrawLine, InsertPause, SetFade, SetGain, SplitAt
from faithful_reel.core.reel.reel import Fade, Join, Lane, Marker, Piece, Reel, Rest, ToneSource
from faithful_reel.core.work.exchange import read_timeline, reel_from, timeline_of, write_timeline

RATE = 48_000
TONE = ToneSource("r", 100, 5000)
BOOK = Book(
    rate=RATE,
    recordings=tuple(Recording(h, f"{h} chapter.wav", ".wav", RATE, 1, 90_000, -3.0, -60.0, -20.0, None) for h in ("r", "s")),
)
MEDIA = {r.hash: (r.name, f"recordings/{r.hash}.wav", r.length) for r in BOOK.recordings}
PLAIN = Reel(
    (
        Lane("Nell", (Piece("r", 0, 40_000), Piece("r", 50_000, 90_000, gain_db=-2.5, name="the “tide”"))),
        Lane("Clerk", (Rest(9000), Piece("s", 10, 30_000, join=Join(900, "equal_gain", 1.5))), gain_db=-3, pan=0.25, tone=TONE),
        Lane("sea", (Piece("s", 0, 70_000, fade_in=Fade(5000, 1.0)),), music=True, muted=True, color="blue", note="soft"),
    ),
    (Marker("m1", 12_345, "here", "red", "look"), Marker("m2", 0)),
)


def through(reel, tmp_path):
    path = tmp_path / "a.otio"
    write_timeline(timeline_of(reel, "One", RATE, MEDIA), path)
    return reel_from(read_timeline(path), BOOK)


def test_a_reel_comes_back_as_it_was(tmp_path):
    assert through(PLAIN, tmp_path) == PLAIN


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@example([(0, 5117, 1), (5, 341, 5621)])  # a gain of more digits than the library writes
@given(st.lists(st.tuples(st.integers(0, 6), st.integers(1, 60_000), st.integers(1, 9000)), max_size=8))
def test_any_edited_reel_comes_back_as_it_was(tmp_path, edits):
    reel = PLAIN
    for kind, at, length in edits:
        edit = (
            CutAndClose(at, at + length), CutAndFill(at, at + length, TONE), InsertPause(at, length, TONE), SplitAt(at, 0),
            SetGain(at, at + length, -1.5), DrawLine(at, at + length, ((at, -6.0),), 0), SetFade(0, Fade(min(length, 900), -1.0), True, 0),
        )[kind]  # fmt: skip
        try:
            reel = edit.apply(reel)
        except EditRefused:
            continue
    assert through(reel, tmp_path) == reel


@pytest.mark.published("OpenTimelineIO 0.18: the library's own reading of tracks, ranges and transitions")
def test_the_library_sees_the_same_timeline(tmp_path):
    path = tmp_path / "a.otio"
    write_timeline(timeline_of(PLAIN, "One", RATE, MEDIA), path)
    found = otio.adapters.read_from_file(str(path))
    assert [t.name for t in found.audio_tracks()] == ["Nell", "Clerk", "sea"]
    assert found.duration().to_seconds() == len(PLAIN) / RATE
    voice = found.audio_tracks()[0]
    clips = [c for c in voice if isinstance(c, otio.schema.Clip)]
    assert clips[1].name == "the “tide”"
    assert clips[1].media_reference.target_url == "recordings/r.wav"
    assert clips[1].source_range.start_time.value == 50_000
    assert voice.range_of_child(clips[1]).start_time.value == 40_000
    (join,) = [c for c in voice if isinstance(c, otio.schema.Transition)]
    assert (join.in_offset.value, join.out_offset.value) == (220, 220)
    assert [type(c).__name__ for c in found.audio_tracks()[1]] == ["Gap", "Clip"]
    marker = found.tracks.markers[0]
    assert (marker.name, marker.marked_range.start_time.value, marker.comment) == ("here", 12_345, "look")
    assert not found.audio_tracks()[2].enabled


def test_what_another_program_made_or_changed_is_taken_over(tmp_path):
    timeline = timeline_of(PLAIN, "One", RATE, MEDIA)
    clip = timeline.audio_tracks()[0][2]
    clip.source_range = otio.opentime.TimeRange(
        otio.opentime.RationalTime(51_000, RATE), otio.opentime.RationalTime(20_000, RATE)
    )
    timeline.tracks.markers[0].marked_range = otio.opentime.TimeRange(
        otio.opentime.RationalTime(1, 4), otio.opentime.RationalTime(0, 4)
    )
    reel = reel_from(timeline, BOOK)
    assert (reel.lanes[0].segments[1].start, reel.lanes[0].segments[1].stop, reel.lanes[0].segments[1].gain_db) == (
        51_000,
        71_000,
        -2.5,
    )
    assert reel.markers[0].at == RATE // 4
    bare = otio.schema.Timeline(name="x")
    track = otio.schema.Track(name="A1", kind=otio.schema.TrackKind.Audio)
    time, span = otio.opentime.RationalTime, otio.opentime.TimeRange
    reference = otio.schema.ExternalReference(target_url="file:///media/s%20chapter.wav".replace("%20", " "))
    track.append(otio.schema.Gap(source_range=span(time(0, 25), time(25, 25))))
    track.append(otio.schema.Clip("words", reference, span(time(0, 25), time(10, 25))))
    track.append(otio.schema.Transition("", "SMPTE_Dissolve", time(1, 25), time(1, 25)))
    track.append(otio.schema.Clip("more", reference, span(time(12, 25), time(10, 25))))
    bare.tracks.append(track)
    (lane,) = reel_from(bare, BOOK).lanes
    assert [len(s) for s in lane.segments] == [RATE, 19_200, 19_200]
    assert lane.segments[1].recording == "s"
    assert lane.segments[2].join.length == 2 * RATE // 25
    assert lane.segments[2].name == "more"


def foreign(address="file:///media/s%20chapter.wav", **clip):
    """One clip of 2 s from 0.5 s on, as another program writes it; on a track without a range."""
    time, span = otio.opentime.RationalTime, otio.opentime.TimeRange
    made = otio.schema.Clip("words", otio.schema.ExternalReference(target_url=address), span(time(12, 24), time(24, 24)), **clip)
    timeline = otio.schema.Timeline(name="x")
    track = otio.schema.Track(name="A1", kind=otio.schema.TrackKind.Audio)
    track.append(made)
    timeline.tracks.append(track)
    return timeline


@pytest.mark.parametrize(
    "effect",
    [otio.schema.LinearTimeWarp(time_scalar=1.5), otio.schema.FreezeFrame(), otio.schema.LinearTimeWarp(time_scalar=-1.0)],
)
def test_what_is_played_at_another_speed_is_refused_by_name(effect):
    with pytest.raises(EditRefused, match="“words” is played at another speed"):
        reel_from(foreign(effects=[effect]), BOOK)
    assert len(reel_from(foreign(effects=[otio.schema.LinearTimeWarp(time_scalar=1.0)]), BOOK)) == RATE


@pytest.mark.parametrize(
    "address", ["s%20chapter.wav", "file:///a/s%20chapter.wav", r"D:\\sea\\s chapter.wav", r"..\s%20chapter.wav"]
)
def test_a_recording_is_found_by_any_way_to_write_its_file(address):
    (lane,) = reel_from(foreign(address), BOOK).lanes
    assert lane.segments == (Piece("s", RATE // 2, RATE // 2 + RATE, name="words"),)


def test_a_clip_that_is_switched_off_is_silent_and_a_track_is_trimmed():
    timeline = foreign()
    clip, track = timeline.audio_tracks()[0][0], timeline.audio_tracks()[0]
    track.append(clip.deepcopy())
    clip.enabled = False
    (lane,) = reel_from(timeline, BOOK).lanes
    assert lane.segments == (Rest(RATE, name="words"), Piece("s", RATE // 2, RATE // 2 + RATE, name="words"))
    time, span = otio.opentime.RationalTime, otio.opentime.TimeRange
    for holder in (track, timeline.tracks):
        track.source_range = timeline.tracks.source_range = None
        holder.source_range = span(time(18, 24), time(12, 24))
        (lane,) = reel_from(timeline, BOOK).lanes
        assert lane.segments == (Rest(RATE // 4, name="words"), Piece("s", RATE // 2, RATE // 2 + RATE // 4, name="words"))


@pytest.mark.parametrize(
    ("text", "told"),
    [("[" * 200_000, "nested too deep"), ('{"children": [' * 4_000, "nested too deep"), ("", "could not be read"), ("{", "could not be read"), ("[]", "a.otio"), ('{"OTIO_SCHEMA": "Clip.2", "name": "x"}', "could not be read"), ('{"OTIO_SCHEMA": "Nothing.1"}', "not a timeline")],
)  # fmt: skip
def test_what_is_no_timeline_is_told(tmp_path, text, told):
    path = tmp_path / "a.otio"
    path.write_text(text)
    with pytest.raises(FileProblem, match=told):
        read_timeline(path)
    with pytest.raises(FileProblem, match=r"gone\.otio"):
        read_timeline(tmp_path / "gone.otio")


@pytest.mark.parametrize(("field", "value"), [("rate", 0), ("value", float("nan")), ("value", float("inf")), ("value", 1e300)])
@pytest.mark.parametrize("part", ["start_time", "duration"])
def test_times_that_are_none_are_told(tmp_path, part, field, value):
    path = tmp_path / "a.otio"
    write_timeline(timeline_of(PLAIN, "One", RATE, MEDIA), path)
    body = json.loads(path.read_text())
    body["tracks"]["children"][0]["children"][0]["source_range"][part][field] = value
    path.write_text(json.dumps(body))
    with pytest.raises(EditRefused, match="times that can not be played"):
        reel_from(read_timeline(path), BOOK)


def test_lanes_of_one_name_are_told_apart():
    timeline = timeline_of(PLAIN, "One", RATE, MEDIA)
    for track in timeline.tracks:
        track.name = "Nell"
    assert [lane.name for lane in reel_from(timeline, BOOK).lanes] == ["Nell", "Nell 2", "Nell 3"]


def test_a_clip_whose_recording_is_not_in_the_book_is_told():
    other = Book(rate=RATE)
    with pytest.raises(EditRefused, match="no recording of this book"):
        reel_from(timeline_of(PLAIN, "One", RATE, MEDIA), other)
    with pytest.raises(EditRefused, match="no track of sound"):
        reel_from(otio.schema.Timeline(name="x"), BOOK)


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.data())
def test_any_damage_to_the_file_is_told_and_never_played(tmp_path, data):
    path = tmp_path / "a.otio"
    write_timeline(timeline_of(PLAIN, "One", RATE, MEDIA), path)
    raw = bytearray(path.read_bytes())
    for _ in range(data.draw(st.integers(1, 12))):
        raw[data.draw(st.integers(0, len(raw) - 1))] = data.draw(st.integers(32, 126))
    path.write_bytes(raw)
    try:
        reel = reel_from(read_timeline(path), BOOK)
    except AppError:
        return
    assert all(len(s) > 0 for lane in reel.lanes for s in lane.segments)
