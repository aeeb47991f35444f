"""Times as people write them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_reel.core.times import TimeFormat, time_of, time_text

RATE = 44_100


@pytest.mark.parametrize(
    ("seconds", "shown", "text"),
    [
        (0, TimeFormat.CLOCK, "0:00:00.000"),
        (3761.25, TimeFormat.CLOCK, "1:02:41.250"),
        (1.5, TimeFormat.SAMPLES, "66150"),
        (3761.25, TimeFormat.TIMECODE_25, "01:02:41:06"),
        (3761.25, TimeFormat.TIMECODE_24, "01:02:41:06"),
        (3761.5, TimeFormat.TIMECODE_30, "01:02:41:15"),
    ],
)
def test_shown(seconds, shown, text):
    assert time_text(round(seconds * RATE), RATE, shown) == text


@pytest.mark.published(
    "SMPTE ST 12-1, drop-frame: frame 1800 is 00:01:00;02, frame 17982 is 00:10:00;00, an hour is 107,892 frames (from memory)"
)
@pytest.mark.parametrize(("frame", "text"), [(0, "00:00:00;00"), (1799, "00:00:59;29"), (1800, "00:01:00;02"), (3597, "00:01:59;29"),
                                             (3598, "00:02:00;02"), (17_981, "00:09:59;29"), (17_982, "00:10:00;00"), (107_892, "01:00:00;00")])  # fmt: skip
def test_drop_frames(frame, text):
    at = -int(-frame * 1001 * RATE // 30_000)  # the first sample of the frame
    assert time_text(at, RATE, TimeFormat.TIMECODE_2997) == text
    assert time_of(text, RATE, TimeFormat.TIMECODE_2997) == at


@given(st.integers(0, 10 * 3600 * 30), st.sampled_from([f for f in TimeFormat if "TIMECODE" in f.name]))
def test_timecode_is_read_as_it_is_written(frame, shown):
    speed = {24: 24.0, 25: 25.0, 2997: 30_000 / 1001, 30: 30.0}[int(shown.name.rsplit("_", 1)[1])]
    at = round(frame / speed * RATE) + 1
    written = time_text(at, RATE, shown)
    found = time_of(written, RATE, shown)
    assert found is not None
    assert 0 <= at - found <= RATE / speed
    assert time_text(found, RATE, shown) == written


@given(st.integers(0, 36 * 3600 * RATE))
def test_clock_and_samples_are_read_as_they_are_written(at):
    assert time_of(time_text(at, RATE, TimeFormat.SAMPLES), RATE, TimeFormat.SAMPLES) == at
    assert abs(time_of(time_text(at, RATE), RATE) - at) <= RATE / 2000 + 1


@pytest.mark.parametrize(
    ("written", "seconds"), [("62", 62), ("1:02", 62), ("1:02.5", 62.5), (" 0:01:02,5 ", 62.5), ("1:00:00", 3600)]
)
def test_written_by_hand(written, seconds):
    assert time_of(written, RATE) == round(seconds * RATE)


@pytest.mark.parametrize("written", ["", "soon", "1:2:3:4:5", "-3", "1e9", "9" * 400, "٣٣", "²", "00:01:00;00", "00:00:00:31"])
def test_what_is_no_time(written):
    assert time_of(written, RATE, TimeFormat.TIMECODE_2997) is None
    if ";" not in written:
        assert time_of(written, RATE, TimeFormat.SAMPLES) is None
