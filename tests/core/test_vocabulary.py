"""Units, jobs, release names and the report."""

from __future__ import annotations

import threading
from pathlib import Path

import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st
from support.sounds import speech_like

from faithful_reel.core.audio.encode import write_audio
from faithful_reel.core.errors import Cancelled, FileProblem
from faithful_reel.core.jobs import FlagWatch, Part, Unwatched, ahead
from faithful_reel.core.measure.profile import load_profile
from faithful_reel.core.release.package import Entry, file_name, release_chapters
from faithful_reel.core.units import Span, clock, decibels, ratio, samples, seconds


@given(st.floats(-120, 24))
def test_decibels_and_ratios_are_each_others_inverse(db):
    assert decibels(ratio(db)) == pytest.approx(db, abs=1e-9)


@given(st.integers(0, 10**9), st.sampled_from([16_000, 44_100, 48_000]))
def test_seconds_round_trip(position, rate):
    assert samples(seconds(position, rate), rate) == position


@pytest.mark.parametrize(("time_s", "text"), [(0, "0:00:00.000"), (59.9996, "0:01:00.000"), (3723.5, "1:02:03.500")])
def test_clock(time_s, text):
    assert clock(time_s) == text


@given(*(st.integers(0, 100) for _ in range(4)))
def test_overlap_counts_common_samples(a, n, b, m):
    left, right = Span(a, a + n), Span(b, b + m)
    assert left.overlap(right) == len(set(range(a, a + n)) & set(range(b, b + m))) == right.overlap(left)


def test_a_span_does_not_end_before_it_starts():
    with pytest.raises(ValueError, match="before it starts"):
        Span(5, 4)


def test_parts_of_a_job_map_to_the_whole():
    seen = []
    watch = FlagWatch(lambda done, note: seen.append((round(done, 3), note)), lambda: False)
    inner = Part(Part(watch, 0.5, 1.0), 0.0, 0.5)
    inner.tick(0.0, "a")
    inner.tick(1.0, "b")
    assert seen == [(0.5, "a"), (0.75, "b")]


def test_a_cancelled_watch_raises():
    with pytest.raises(Cancelled):
        FlagWatch(lambda *_: None, lambda: True).tick(0.1)


@given(st.lists(st.integers(), max_size=30), st.integers(1, 5))
def test_ahead_gives_what_it_was_given(values, depth):
    assert list(ahead(iter(values), depth)) == values


def test_ahead_hands_on_what_fails_and_works_in_another_thread():
    threads = []

    def parts():
        threads.append(threading.current_thread())
        yield 1
        raise FileProblem("cut short")

    stream = ahead(parts())
    assert next(stream) == 1
    with pytest.raises(FileProblem):
        next(stream)
    assert threads[0] is not threading.current_thread()


def test_ahead_ends_its_thread_when_it_is_left():
    def endless():
        while True:
            yield 0

    stream = ahead(endless())
    next(stream)
    stream.close()  # the autouse fixture fails the test if the thread lives on


@pytest.mark.parametrize(
    ("title", "name"),
    [
        ("Chapter One: Low Water", "01 Chapter One - Low Water.mp3"),
        ("A/B\\C", "01 A - B - C.mp3"),
        ("???", "01 Chapter.mp3"),
        ("x" * 300, "01 " + "x" * 100 + ".mp3"),
    ],
)
def test_file_names_are_safe(title, name):
    assert file_name(1, title, ".mp3") == name


@given(st.text(max_size=60))
def test_no_title_leaves_its_folder(title):
    name = file_name(3, title, ".mp3")
    assert "/" not in name
    assert name.startswith("03 ")
    assert "\0" not in name


def test_a_release_that_fails_leaves_no_half_file(tmp_path, monkeypatch):
    write_audio(tmp_path / "one.mp3", [speech_like(seconds=3)], 44_100)
    from faithful_reel.core.release import package

    def broken(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(package, "write_tags", broken)
    with pytest.raises(FileProblem, match="No space left"):
        release_chapters([Entry("c1", tmp_path / "one.mp3", "One")], tmp_path / "out", {}, load_profile("retail"), Unwatched())
    assert list((tmp_path / "out").iterdir()) == []


def test_a_report_that_can_not_be_written_is_told_and_the_old_one_stays(tmp_path, monkeypatch):
    write_audio(tmp_path / "one.wav", [speech_like(seconds=3)], 44_100)
    out = tmp_path / "out"
    out.mkdir()
    (out / "report.html").write_text("before")
    write = Path.write_text

    def full(path, *args, **more):
        if path.parent == out:
            write(path, "half")
            raise OSError(28, "No space left on device")
        return write(path, *args, **more)

    monkeypatch.setattr(Path, "write_text", full)
    with pytest.raises(FileProblem, match="The report could not be written"):
        release_chapters([Entry("c1", tmp_path / "one.wav", "One")], out, {}, load_profile("retail"), Unwatched())
    assert {p.name: p.read_bytes() for p in out.iterdir() if p.suffix == ".html"} == {"report.html": b"before"}
    assert not [p for p in out.iterdir() if "part" in p.name]


def test_a_release_tags_checks_and_reports(tmp_path):
    soundfile.write(tmp_path / "raw.wav", speech_like(seconds=3), 44_100)
    write_audio(tmp_path / "one.mp3", [speech_like(seconds=3)], 44_100)
    done = release_chapters(
        [Entry("c1", tmp_path / "one.mp3", "One <b>")],
        tmp_path / "out",
        {"album": "Book & Co"},
        load_profile("retail"),
        Unwatched(),
    )
    assert done[0].path.name == "01 One b.mp3"
    report = (tmp_path / "out" / "report.html").read_text()
    assert "Book &amp; Co" in report
    assert "FAIL" in report  # three seconds of raw bursts pass nothing much
    assert not done[0].passed
