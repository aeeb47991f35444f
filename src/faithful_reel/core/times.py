"""Times as people write them: hours to milliseconds, samples, or timecode; read back in any of these."""

from __future__ import annotations

import re
from enum import Enum
from fractions import Fraction


class TimeFormat(Enum):
    """How times are shown."""

    CLOCK = "hours, minutes, seconds"
    SAMPLES = "samples"
    TIMECODE_24 = "timecode at 24 frames"
    TIMECODE_25 = "timecode at 25 frames"
    TIMECODE_2997 = "timecode at 29.97 frames, drop-frame"
    TIMECODE_30 = "timecode at 30 frames"


_FRAMES = {
    TimeFormat.TIMECODE_24: (24, Fraction(24)),
    TimeFormat.TIMECODE_25: (25, Fraction(25)),
    TimeFormat.TIMECODE_2997: (30, Fraction(30_000, 1001)),
    TimeFormat.TIMECODE_30: (30, Fraction(30)),
}
_DROPPED_A_MINUTE = 2
_WRITTEN = re.compile(r"(?:(?:(\d{1,9}):)?(\d{1,9}):)?(\d{1,9}(?:[.,]\d{0,30})?)", re.ASCII)
_TIMECODE = re.compile(r"(\d{1,9}):(\d\d):(\d\d)[:;](\d\d)", re.ASCII)
_SAMPLES = re.compile(r"\d{1,15}", re.ASCII)


def time_text(position: int, rate: int, shown: TimeFormat = TimeFormat.CLOCK, digits: int = 3) -> str:
    """A position in samples at `rate` as it is shown: 0:12:41.250, 33548250, 00:12:41:06.

    Of a clock so many `digits` of the second are shown, at most three; what is shown has passed.

    Timecode counts whole frames.  At 29.97 it drops the numbers 0 and 1 of every minute but each tenth, so that it keeps
    up with the clock (SMPTE ST 12-1, drop-frame; from memory).
    """
    if shown is TimeFormat.SAMPLES:
        return str(position)
    if shown is TimeFormat.CLOCK:
        ms = round(1000 * position / rate)
        whole = f"{ms // 3_600_000}:{ms // 60_000 % 60:02d}:{ms // 1000 % 60:02d}"
        return f"{whole}.{f'{ms % 1000:03d}'[:digits]}" if digits else whole
    count, speed = _FRAMES[shown]
    frames = int(Fraction(position, rate) * speed)
    drops = shown is TimeFormat.TIMECODE_2997
    if drops:
        frames = _numbered(frames, count)
    at = frames // count
    return f"{at // 3600:02d}:{at // 60 % 60:02d}:{at % 60:02d}{';' if drops else ':'}{frames % count:02d}"


def _numbered(frames: int, count: int) -> int:
    """The number that the drop-frame count gives a frame."""
    a_minute = 60 * count - _DROPPED_A_MINUTE
    ten = 10 * a_minute + _DROPPED_A_MINUTE
    tens, rest = divmod(frames, ten)
    dropped = 9 * _DROPPED_A_MINUTE * tens
    if rest >= 60 * count:
        dropped += _DROPPED_A_MINUTE * (1 + (rest - 60 * count) // a_minute)
    return frames + dropped


def time_of(written: str, rate: int, shown: TimeFormat = TimeFormat.CLOCK) -> int | None:
    """The position that somebody wrote: as a clock (1:02.5, 0:12:41.250), as timecode, as samples; None for none of these.

    A bare number is samples where samples are shown, else seconds.
    """
    text = written.strip()
    code = _TIMECODE.fullmatch(text)
    if code:
        return _position(code, rate, shown)
    if shown is TimeFormat.SAMPLES and _SAMPLES.fullmatch(text):
        return int(text)
    found = _WRITTEN.fullmatch(text)
    if not found:
        return None
    hours, minutes, seconds = found.groups()
    return round((int(hours or 0) * 3600 + int(minutes or 0) * 60 + float(seconds.replace(",", "."))) * rate)


def _position(code: re.Match[str], rate: int, shown: TimeFormat) -> int | None:
    count, speed = _FRAMES.get(shown, _FRAMES[TimeFormat.TIMECODE_25])
    hours, minutes, seconds, frame = map(int, code.groups())
    if frame >= count:
        return None
    frames = (hours * 3600 + minutes * 60 + seconds) * count + frame
    if shown is TimeFormat.TIMECODE_2997:
        whole = hours * 60 + minutes
        if not seconds and frame < _DROPPED_A_MINUTE and minutes % 10:
            return None  # a number that is dropped
        frames -= _DROPPED_A_MINUTE * (whole - whole // 10)
    return -int(-Fraction(frames) / speed * rate // 1)
