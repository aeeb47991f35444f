"""Mastering what is hard: soft sentences under DC, rumble and noise, loud rooms, gates, dead channels, half files.

The chapter is the demo's second, of which every word's place is known; each input failed before the voice was followed in bands.
"""

from __future__ import annotations

import itertools
import json
import os
import resource
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import soundfile

from faithful_reel.core.audio.voice import speaking
from faithful_reel.core.errors import FileProblem, SignalError
from faithful_reel.core.master import mastering
from faithful_reel.core.measure.levels import Meter, figures_of
from faithful_reel.core.measure.profile import load_profile, verdicts
from faithful_reel.core.reel.reel import reel_of
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.release.chapter_file import master_file
from faithful_reel.core.release.check import checked_file, file_meter
from faithful_reel.core.units import Span

RATE = 44_100
RETAIL, BROADCAST = load_profile("retail"), load_profile("broadcast")


@pytest.fixture(scope="module")
def chapter(demo):
    """26 s of narration from before its first word, and where every word of them is, in seconds of it."""
    x, _ = soundfile.read(demo / "chapter-2.flac", dtype="float32")
    words = json.loads((demo / "truth.json").read_text())["chapter-2"]["words"]
    start = words[0][1] - 3.0
    spoken = [(a - start, b - start) for _, a, b in words if b < start + 25.5]
    return x[round(start * RATE) : round((spoken[-1][1] + 1.2 + start) * RATE)], spoken


def white(x, db, seed=1):
    return (np.random.default_rng(seed).standard_normal(x.shape) * 10 ** (db / 20)).astype(np.float32)


def softened(x, spoken, words, db=-16.0):
    """The first and the last words softer, in a room that is the same everywhere."""
    gain = np.ones(len(x), np.float32)
    for a, b in ((spoken[0][0] - 0.1, spoken[words - 1][1] + 0.1), (spoken[-words][0] - 0.1, spoken[-1][1] + 0.3)):
        gain[round(a * RATE) : round(b * RATE)] = 10 ** (db / 20)
    room = np.resize(x[round(0.2 * RATE) : round(2.7 * RATE)], len(x))
    return gain * x + np.sqrt(1 - gain**2) * room


def tone(hz, db, x):
    return (10 ** (db / 20) * np.sqrt(2) * np.sin(2 * np.pi * hz * np.arange(len(x)) / RATE)).astype(np.float32)


SPOILS = {
    "1 % DC": lambda x: x + np.float32(0.01),
    "5 % DC": lambda x: x + np.float32(0.05),
    "14 Hz rumble": lambda x: x + tone(14, -40, x),
    "white noise": lambda x: x + white(x, -45),
    "hum": lambda x: x + tone(100, -46, x),
    "nothing": lambda x: x,
}


def mastered(tmp_path, x, profile=RETAIL, suffix=".wav", rate=RATE):
    soundfile.write(tmp_path / "in.wav", x, rate, subtype="FLOAT")
    made = master_file(tmp_path / "in.wav", profile, tmp_path / f"out{suffix}")
    figures, found = checked_file(tmp_path / f"out{suffix}", profile)
    return made, figures, (*found, made.words)


@pytest.mark.parametrize("spoil", SPOILS)
def test_no_word_is_cut_off(tmp_path, chapter, spoil):
    x, spoken = chapter
    made, figures, found = mastered(tmp_path, SPOILS[spoil](softened(x, spoken, 6)))
    assert [v for v in found if not v.passed] == []
    # what was kept, first to last, against where the words are known to be
    kept = figures.seconds - figures.head_s - figures.tail_s
    assert kept >= spoken[-1][1] - spoken[0][0] - 0.15
    assert made.before.head_s <= spoken[0][0] + 0.05
    # and the first word sounds in the finished file: its level stands over the head's
    y, _ = soundfile.read(tmp_path / "out.wav")
    head = round(figures.head_s * RATE)
    first = y[head : head + round((spoken[0][1] - spoken[0][0]) * RATE)]
    assert np.sqrt(np.mean(first**2)) > 2 * np.sqrt(np.mean(y[: round(0.4 * RATE)] ** 2))


@pytest.mark.parametrize("spoil", ["14 Hz rumble", "5 % DC"])
def test_dc_and_rumble_bring_no_more_reduction(tmp_path, chapter, spoil):
    x, _ = chapter

    def depth(y):
        steps = mastered(tmp_path, y)[0].steps
        return next((float(s.split()[-2]) for s in steps if s.startswith("noise reduced")), 0.0)

    assert depth(SPOILS[spoil](x)) <= depth(x) + 1.5


@pytest.mark.parametrize("db", [-50.0, -44.0])
def test_a_loud_room_is_reduced_in_the_pauses_too(tmp_path, chapter, db):
    x, _ = chapter
    _, figures, found = mastered(tmp_path, x + white(x, db))
    assert [v for v in found if not v.passed] == []
    assert figures.pause_floor_db <= -60
    assert abs(figures.pause_floor_db - figures.noise_floor_db) < 4  # the head is no quieter world than the pauses


def test_a_room_that_can_not_be_reduced_fails_and_does_not_pass(tmp_path, chapter):
    x, _ = chapter
    _, figures, found = mastered(tmp_path, x + white(x, -30))
    assert figures.pause_floor_db > -60
    assert "pause_floor" in {v.rule for v in found if not v.passed}


def test_a_quiet_head_over_a_loud_room_does_not_pass(chapter):
    x, _ = chapter
    loud = x / np.abs(x).max() * 0.7 + white(x, -38)
    loud[: 2 * RATE] = white(loud[: 2 * RATE], -75)
    found = {v.rule: v.passed for v in verdicts(figures_of(loud, RATE), RETAIL)}
    assert found["noise_floor"]
    assert not found["pause_floor"]


def test_sound_without_any_pause_has_a_floor_all_the_same(chapter):
    """Were there no pause to judge, a loud room could pass: then the quietest moments are judged."""
    x, _ = chapter
    y = x + white(x, -20)
    y[: 12 * RATE] = white(y[: 12 * RATE], -75)
    assert figures_of(y, RATE).pause_floor_db > -30


@pytest.mark.parametrize(("silence_s", "dead"), [(0.02, False), (0.06, True), (0.4, True)], ids=["20 ms", "60 ms", "400 ms"])
def test_digital_silence_is_a_verdict(chapter, silence_s, dead):
    x, spoken = chapter
    y = x.copy()
    gap = next(i for i in range(len(spoken) - 1) if spoken[i + 1][0] - spoken[i][1] > 0.5)
    at = round((spoken[gap][1] + 0.05) * RATE)
    y[at : at + round(silence_s * RATE)] = 0
    assert (figures_of(y, RATE).dead_s > 0) is dead
    assert next(v for v in verdicts(figures_of(y, RATE), RETAIL) if v.rule == "dead_silence").passed is not dead


def test_what_is_far_under_its_own_floor_is_dead(chapter):
    x, _ = chapter
    y = x.copy()
    y[: RATE // 2] *= 0.02  # 34 dB softer than the room everywhere else
    assert figures_of(y, RATE).dead_s == pytest.approx(0.5, abs=0.05)
    assert figures_of(x, RATE).dead_s == 0


@pytest.mark.parametrize("gain", [0.05, 0.3, 1.0, 6.0])
def test_the_broadcast_profile_is_met(tmp_path, chapter, gain):
    x, _ = chapter
    _, figures, found = mastered(tmp_path, np.clip(gain * x, -0.9, 0.9), BROADCAST)
    assert [v for v in found if not v.passed] == []
    said = subprocess.run(
        ["ffmpeg", "-hide_banner", "-nostats", "-i", tmp_path / "out.wav", "-af", "ebur128", "-f", "null", "-"],
        capture_output=True,
        text=True,
        check=True,
    ).stderr
    loudness = float(said.rsplit("I:", 1)[1].split()[0])
    assert loudness == pytest.approx(-23.0, abs=0.5)  # EBU R 128, by FFmpeg's meter
    assert figures.lufs == pytest.approx(loudness, abs=0.1)


def test_dense_and_sparse_chapters_of_one_reader_are_as_loud(tmp_path, chapter):
    """Pauses of two seconds between all sentences: plain RMS falls, the voice must not."""
    x, spoken = chapter
    parts, last = [], 0
    rng = np.random.default_rng(4)
    room = x[round(0.2 * RATE) : round(2.4 * RATE)]
    for (_, a), (b, _) in itertools.pairwise(spoken):
        if b - a > 0.3:
            cut = round((a + b) / 2 * RATE)
            parts += [x[last:cut], np.roll(room, int(rng.integers(len(room))))]
            last = cut
    sparse = np.concatenate([*parts, x[last:]])
    dense = mastered(tmp_path, x)[1]
    wide = mastered(tmp_path, sparse)[1]
    assert len(sparse) > 1.3 * len(x)
    assert wide.lufs == pytest.approx(dense.lufs, abs=0.5)
    assert wide.rms_db < dense.rms_db - 0.5


def test_a_dead_channel_is_told_and_says_nothing_of_the_floor(tmp_path, chapter):
    x, _ = chapter
    _, figures, found = mastered(tmp_path, np.stack([x, 0 * x], axis=1))
    assert figures.dead_channels == 1
    assert -90 < figures.noise_floor_db < -60
    assert [v.value for v in found if not v.passed] == ["2, 1 of them dead"]


@pytest.mark.parametrize("make", [lambda x, s: x[: round(2 * RATE)], lambda x, s: x[round(2.8 * RATE) : round(3.6 * RATE)]])
def test_less_than_a_second_of_speech_is_refused_not_lifted(tmp_path, chapter, make):
    x, spoken = chapter
    soundfile.write(tmp_path / "in.wav", make(x, spoken), RATE)
    with pytest.raises(SignalError, match="s of speech"):
        master_file(tmp_path / "in.wav", RETAIL, tmp_path / "out.wav")
    assert [p.name for p in tmp_path.iterdir()] == ["in.wav"]


def test_a_file_that_passes_already_is_told_as_such(tmp_path, chapter):
    x, _ = chapter
    first, _, _ = mastered(tmp_path, x)
    assert not first.already
    assert master_file(tmp_path / "out.wav", RETAIL, tmp_path / "again.wav").already
    done = subprocess.run(
        [sys.executable, "-m", "faithful_reel", "master", tmp_path / "out.wav", "--out", tmp_path / "more.wav", "--json"],
        capture_output=True,
        text=True,
        check=False,
    )
    assert "passes this profile already" in done.stderr
    assert json.loads(done.stdout)["files"][0]["already_passed"] is True


@pytest.mark.parametrize("rate", [22_050, 48_000, 96_000])
@pytest.mark.parametrize("suffix", [".mp3", ".flac"])
def test_head_and_tail_are_right_at_every_rate(tmp_path, chapter, rate, suffix):
    import soxr

    x, _ = chapter
    _, figures, found = mastered(tmp_path, soxr.resample(x, RATE, rate), suffix=suffix, rate=rate)
    assert [v for v in found if not v.passed] == []
    assert figures.head_s == pytest.approx(0.75, abs=0.2)


def test_words_that_the_hearing_knows_are_never_trimmed(tmp_path, chapter):
    """A first word at the level of the room itself: no ear for levels finds it, the hearing did."""
    x, spoken = chapter
    room = x[: round(1.5 * RATE)]
    y = np.concatenate([room, x])
    known = Span(round(0.6 * RATE), round((spoken[-1][1] + 1.5) * RATE))

    def source(_name, start, stop):
        return np.pad(y, (0, 10 * RATE))[start:stop].astype(np.float32)

    for words in (None, known):
        made = mastering.master_reel(
            Renderer(reel_of("x", len(y)), source), RATE, 1, RETAIL, tmp_path / "out.wav", checked=file_meter, words=words
        )
        kept = made.after.seconds - RETAIL.make_head_s - RETAIL.make_tail_s
        assert (kept >= len(known) / RATE - 0.05) is (words is not None)


def two_rooms(x, db):
    """A louder room from the middle on."""
    return np.concatenate([x[: len(x) // 2], x[len(x) // 2 :] + white(x[len(x) // 2 :], db)])


@pytest.mark.parametrize("db", [-56, -50, -46])
def test_a_second_room_that_is_cleaned_is_no_lost_speech(tmp_path, chapter, db):
    made, _, found = mastered(tmp_path, two_rooms(chapter[0], db))
    assert made.words.passed, made.words.value
    assert [v for v in found if not v.passed] == []


@pytest.mark.parametrize(("db", "word"), [(-120, 4), (-50, 4), (-50, -6), (-46, -6)])
def test_a_lost_stretch_is_told(tmp_path, chapter, monkeypatch, db, word):
    """Were a sentence to be taken out by noise reduction, the finished file would say so; in a louder second room as well."""
    x, spoken = chapter
    x = two_rooms(x, db)
    real = mastering._pressed

    def forgetful(trimmed, rate, reduction, lead_db, settings, pressed, watch):
        loudness = real(trimmed, rate, reduction, lead_db, settings, pressed, watch)
        os.pwrite(
            pressed._file.fileno(),
            np.zeros(RATE, np.float32).tobytes(),
            4 * round((spoken[word][0] - spoken[0][0] + 0.75) * RATE),
        )
        return loudness

    monkeypatch.setattr(mastering, "_pressed", forgetful)
    made, _, _ = mastered(tmp_path, x)
    assert not made.words.passed
    assert "lost near" in str(made.words.value)


def test_noise_alone_and_a_held_tone_are_no_speech():
    rng = np.random.default_rng(2)
    assert figures_of(white(np.zeros(20 * RATE), -50), RATE).head_s == pytest.approx(20)
    assert not speaking(rng.gamma(20, 1e-6, (4, 900)), np.full(900, -50.0)).any()


def faded(x, seconds=0.2):
    ramp = np.ones(len(x), np.float32)
    ramp[-round(seconds * RATE) :] = np.linspace(1, 0, round(seconds * RATE))
    return x * ramp


def between(chapter, head, tail):
    """The narration from just before its first word to just after its last, between a head and a tail."""
    x, spoken = chapter
    return np.concatenate([head, x[round((spoken[0][0] - 0.1) * RATE) : round((spoken[-1][1] + 0.1) * RATE)], tail])


def room_of(chapter, seconds, up_db=0.0):
    return np.resize(chapter[0][round(0.2 * RATE) : round(2.7 * RATE)], round(seconds * RATE)) * 10 ** (up_db / 20)


@pytest.mark.parametrize("up_db", [0, 6, 12])
@pytest.mark.parametrize("softer_db", [0, -30])
def test_a_steady_tail_is_a_tail_also_where_the_pauses_are_quieter(chapter, up_db, softer_db):
    x, spoken = chapter
    gain = np.ones(len(x), np.float32)
    for (_, a), (b, _) in itertools.pairwise(spoken):
        if b - a > 0.25:  # a gate took the pauses down
            gain[round((a + 0.1) * RATE) : round((b - 0.05) * RATE)] = 10 ** (softer_db / 20)
    figures = figures_of(between((x * gain, spoken), room_of(chapter, 0.75), room_of(chapter, 2.8, up_db)), RATE)
    assert figures.head_s == pytest.approx(0.8, abs=0.1)
    assert figures.tail_s == pytest.approx(2.8, abs=0.15)


@pytest.mark.parametrize("zeros_s", [0, 3])
def test_a_fade_at_the_end_is_no_speech(tmp_path, chapter, zeros_s):
    zeros = np.zeros(zeros_s * RATE, np.float32)
    made, figures, found = mastered(
        tmp_path, between(chapter, room_of(chapter, 1), np.concatenate([faded(room_of(chapter, 2)), zeros]))
    )
    assert made.before.tail_s == pytest.approx(2 + zeros_s, abs=0.15)
    assert [v for v in found if not v.passed] == []
    assert figures.tail_s == pytest.approx(RETAIL.make_tail_s, abs=0.1)


@pytest.mark.parametrize("db", [-12, -20, -28])
@pytest.mark.parametrize("up_db", [0, 8])
def test_a_soft_last_word_is_no_room_however_loud_the_tail(chapter, db, up_db):
    x, spoken = chapter
    gain = np.ones(len(x), np.float32)
    gain[round((spoken[-3][0] - 0.05) * RATE) : round((spoken[-1][1] + 0.3) * RATE)] = 10 ** (db / 20)
    y = gain * x + np.sqrt(1 - gain**2) * room_of(chapter, len(x) / RATE)[: len(x)]
    figures = figures_of(between((y, spoken), room_of(chapter, 1), room_of(chapter, 2, up_db)), RATE)
    assert figures.tail_s < 2.25


@pytest.mark.parametrize(("louder_db", "first"), [(6, True), (6, False), (10, True)])
def test_of_two_rooms_every_end_gets_its_own(tmp_path, chapter, louder_db, first):
    part = between(chapter, room_of(chapter, 1), room_of(chapter, 2))
    other = part + white(part, -62 + louder_db)
    _, figures, found = mastered(tmp_path, np.concatenate([other, part] if first else [part, other]))
    assert [v for v in found if not v.passed] == []
    assert figures.head_s == pytest.approx(RETAIL.make_head_s, abs=0.1)
    assert figures.tail_s == pytest.approx(RETAIL.make_tail_s, abs=0.1)


def test_music_before_the_voice_is_kept(chapter):
    """A drone of five seconds far over the room: even, but no room."""
    x, _ = chapter
    drone = sum(tone(hz, -30, np.zeros(5 * RATE)) for hz in (220, 277, 330))
    meter = Meter(RATE)
    meter.feed(np.concatenate([x[:RATE], drone.astype(np.float32) + np.resize(x[: 2 * RATE], 5 * RATE), x])[None])
    span = meter.voice.span
    assert span is not None
    assert span.start / RATE == pytest.approx(1.0, abs=0.25)
    meter = Meter(RATE)  # and where it begins with the file there is no onset to tell it by
    meter.feed(np.concatenate([drone.astype(np.float32) + np.resize(x[: 2 * RATE], 5 * RATE), x])[None])
    assert meter.voice.span.start < 0.1 * RATE


@pytest.mark.published("ITU-R BS.1770-4, annex 1, table 3: surround channels weigh 1.41 (1.5 dB), the effects channel nothing")
@pytest.mark.parametrize("channels", [1, 2, 4, 5, 6, 8])
def test_channel_weights_agree_with_ffmpeg(tmp_path, channels):
    x = np.stack([0.05 * tone(500 + 37 * c, -3 - c, np.zeros(6 * RATE)) for c in range(channels)])
    soundfile.write(tmp_path / "a.wav", x.T, RATE, subtype="FLOAT")
    call = ["ffmpeg", "-hide_banner", "-nostats", "-i", tmp_path / "a.wav", "-af", "ebur128", "-f", "null", "-"]
    said = subprocess.run(call, capture_output=True, text=True, check=True).stderr
    assert figures_of(x, RATE).lufs == pytest.approx(float(said.rsplit("I:", 1)[1].split()[0]), abs=0.1)


@pytest.mark.parametrize("rate", [RATE, 32_000])  # 32 kHz: decoded to another rate before anything else
@pytest.mark.parametrize("room", [0, 100_000, 1_500_000])
def test_a_full_disk_is_one_message_and_leaves_nothing(tmp_path, chapter, room, rate, monkeypatch):
    """Files may grow no longer than `room` bytes (getrlimit(2), RLIMIT_FSIZE), as on a disk that is full."""
    monkeypatch.chdir(tmp_path)
    source, out = tmp_path / "in.wav", Path("out.wav")
    soundfile.write(source, chapter[0][: 20 * rate], rate, "PCM_24")
    before = source.read_bytes()
    soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (room, hard))
    try:
        with pytest.raises(FileProblem, match="Make room") as told:
            master_file(source, RETAIL, out)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))
    assert (tmp_path.name if rate == RATE else "out.wav") in str(told.value)
    assert [p.name for p in tmp_path.iterdir()] == ["in.wav"]
    assert source.read_bytes() == before
