"""Mastering: finished files within their limits, and nothing left behind when it fails."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import soundfile
from support.sounds import noise, speech_like

from faithful_reel.core.errors import AppError, Cancelled, FileProblem, SignalError
from faithful_reel.core.jobs import FlagWatch
from faithful_reel.core.measure.profile import load_profile
from faithful_reel.core.release.chapter_file import master_file
from faithful_reel.core.release.check import checked_file, file_figures

RETAIL = load_profile("retail")


def raw(path, *, level=-26.0, floor=-64.0, seconds=20, rate=44_100, channels=1):
    x = np.concatenate(
        [noise(seconds=4, rms_db=floor, rate=rate), speech_like(seconds=seconds, rms_db=level, floor_db=floor, rate=rate)]
    )
    soundfile.write(path, np.stack([x] * channels, axis=1), rate, subtype="PCM_24")
    return path


@pytest.mark.parametrize("suffix", [".wav", ".flac", ".mp3"])
@pytest.mark.parametrize(("level", "floor"), [(-34.0, -72.0), (-26.0, -62.0), (-16.0, -66.0)])
def test_any_usual_raw_recording_passes_the_retail_profile(tmp_path, suffix, level, floor):
    out = tmp_path / f"out{suffix}"
    master_file(raw(tmp_path / "raw.wav", level=level, floor=floor), RETAIL, out)
    _, found = checked_file(out, RETAIL)
    assert [v for v in found if not v.passed] == []


def test_the_voice_keeps_its_length(tmp_path):
    source = raw(tmp_path / "raw.wav")
    made = master_file(source, RETAIL, tmp_path / "out.wav")
    assert made.after.head_s == pytest.approx(0.75, abs=0.06)
    speech = made.before.seconds - made.before.head_s - made.before.tail_s
    assert made.after.seconds - made.after.head_s - made.after.tail_s == pytest.approx(speech, abs=0.15)


def test_head_and_tail_are_room_tone_not_silence(tmp_path):
    master_file(raw(tmp_path / "raw.wav"), RETAIL, tmp_path / "out.wav")
    x, rate = soundfile.read(tmp_path / "out.wav")
    for part in (x[: rate // 2], x[-2 * rate :]):
        assert -90 < 20 * np.log10(np.std(part)) < -60
        assert (part == 0).mean() < 0.05


def test_stereo_and_other_rates(tmp_path):
    master_file(raw(tmp_path / "raw.wav", rate=48_000, channels=2), RETAIL, tmp_path / "out.flac")
    figures, found = checked_file(tmp_path / "out.flac", RETAIL)
    assert (figures.rate, figures.channels) == (44_100, 2)
    assert all(v.passed for v in found)


def test_chapters_come_out_alike(tmp_path):
    levels = []
    for k, level in enumerate((-34.0, -28.0, -20.0)):
        out = tmp_path / f"{k}.wav"
        master_file(raw(tmp_path / f"raw{k}.wav", level=level, floor=-75), RETAIL, out)
        levels.append(file_figures(out).rms_db)
    assert np.ptp(levels) < 1.5


def test_the_broadcast_profile(tmp_path):
    profile = load_profile("broadcast")
    master_file(raw(tmp_path / "raw.wav"), profile, tmp_path / "out.wav")
    figures, _ = checked_file(tmp_path / "out.wav", profile)
    assert figures.true_peak_db <= -1.0


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda p: soundfile.write(p, np.zeros(44_100 * 3), 44_100), "silent"),
        (lambda p: soundfile.write(p, np.zeros((8000, 2)), 8000), "8000 Hz"),
        (lambda p: soundfile.write(p, np.zeros((44_100, 6)), 44_100), "6 channels"),
        (lambda p: soundfile.write(p, np.zeros(0), 44_100), "zero samples"),
        (lambda p: p.write_bytes(b"no sound"), "not audio"),
    ],
)
def test_unusable_input_is_one_line_and_leaves_nothing(tmp_path, make, message):
    source = tmp_path / "raw.wav"
    make(source)
    with pytest.raises(AppError, match=message):
        master_file(source, RETAIL, tmp_path / "out.mp3")
    assert [p.name for p in tmp_path.iterdir()] == ["raw.wav"]


def test_the_source_is_never_overwritten(tmp_path):
    source = raw(tmp_path / "raw.wav", seconds=4)
    before = source.read_bytes()
    with pytest.raises(FileProblem, match="source itself"):
        master_file(source, RETAIL, source)
    assert source.read_bytes() == before


@pytest.mark.parametrize("after", [0.0, 0.3, 0.7, 0.9])
def test_cancel_leaves_nothing(tmp_path, after):
    source = raw(tmp_path / "raw.wav", seconds=10)
    seen = [0.0]
    watch = FlagWatch(lambda done, _: seen.__setitem__(0, done), lambda: seen[0] >= after)
    with pytest.raises(Cancelled):
        master_file(source, RETAIL, tmp_path / "out.mp3", watch=watch)
    assert [p.name for p in tmp_path.iterdir()] == ["raw.wav"]


def test_a_cut_recording_is_refused(tmp_path, demo):
    (tmp_path / "cut.flac").write_bytes((demo / "chapter-2.flac").read_bytes()[:900_000])
    with pytest.raises(AppError, match="damaged or cut short"):
        master_file(tmp_path / "cut.flac", RETAIL, tmp_path / "out.wav")
    assert [p.name for p in tmp_path.iterdir()] == ["cut.flac"]


def test_the_check_reads_by_another_decoder(tmp_path, monkeypatch):
    from faithful_reel.core.release import check

    used = []
    real = check.blocks
    monkeypatch.setattr(check, "blocks", lambda path, *, by: used.append((path.suffix, by)) or real(path, by=by))
    for suffix in (".wav", ".flac", ".mp3"):
        master_file(raw(tmp_path / "raw.wav", seconds=3), RETAIL, tmp_path / f"out{suffix}")
        check.file_figures(tmp_path / f"out{suffix}")
    assert set(used) == {(".wav", "av"), (".flac", "av"), (".mp3", "soundfile")}


def test_silence_has_nothing_to_master(tmp_path):
    soundfile.write(tmp_path / "a.wav", np.zeros(88_200), 44_100)
    with pytest.raises(SignalError):
        master_file(tmp_path / "a.wav", RETAIL, tmp_path / "b.wav")


@pytest.mark.parametrize("dc", [0.0, 0.02, -0.05])
@pytest.mark.parametrize("cut", ["in room tone", "within a word"])
def test_neither_end_clicks_nor_any_join_within(tmp_path, dc, cut):
    """A recording with DC, or one that begins and ends in the middle of a word, gets ends as even as its pauses."""
    source = raw(tmp_path / "raw.wav", seconds=12)
    x, rate = soundfile.read(source, dtype="float32")
    x = x[5 * rate : 13 * rate] if cut == "within a word" else x
    soundfile.write(source, x + np.float32(dc), rate, subtype="FLOAT")
    made = master_file(source, replace(RETAIL, noise_floor_db=None), tmp_path / "out.wav")
    y, rate = soundfile.read(tmp_path / "out.wav", dtype="float32")
    edge, step = round(0.05 * rate), np.abs(np.diff(y, 2))
    usual = np.percentile(step[: round(0.4 * rate)], 99.9)
    assert step[:edge].max() <= 3 * usual
    assert step[-edge:].max() <= 3 * usual
    assert np.abs(y[:3]).max() <= 3 * np.abs(y[: round(0.4 * rate)]).std() + 1e-4  # no jump out of nothing
    assert np.abs(y[-3:]).max() <= 3 * np.abs(y[-round(0.4 * rate) :]).std() + 1e-4
    assert abs(float(y.mean())) < 1e-3
    assert made.after.peak_db <= RETAIL.peak_db
