"""`faithful-reel treat`: the file, what was taken away, figures as documented, and nothing left where it can not be."""

from __future__ import annotations

import json
import subprocess
import sys

import numpy as np
import pytest
import soundfile
from support.flaws import clicked, level
from support.sounds import RATE, speech_like

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.treat import recipe as r
from faithful_reel.core.work.treating import treat_file


def call(*args):
    done = subprocess.run(
        [sys.executable, "-m", "faithful_reel", "treat", *map(str, args)], capture_output=True, text=True, check=False
    )
    return done.returncode, done.stdout, done.stderr


@pytest.fixture
def source(tmp_path):
    x = clicked(speech_like(seconds=6, floor_db=-48), [(30_000, 0.5), (100_000, 0.02)])
    path = tmp_path / "raw.wav"
    soundfile.write(path, np.stack([x, 0.95 * x]).T, RATE, subtype="PCM_24")
    return path


def test_the_documented_shape_and_the_files(source, tmp_path):
    out, away = tmp_path / "b.flac", tmp_path / "away.wav"
    code, told, err = call(source, "--do", "clicks,noise", "--out", out, "--taken-away", away, "--json")
    assert (code, err) == (0, "")
    made = json.loads(told)
    assert set(made) == {"recipe", "audio_seconds", "peak_before_db", "peak_db", "lowered_db", "taken_away_db", "steps"}
    clicks, noise_step = made["steps"]
    assert set(clicks) == {"do", "rested", "done", "why_not", "figures", "gain_db", "taken_away_db", "places"}
    assert set(clicks["places"][0]) == {"kind", "start", "end", "before_db", "after_db", "confidence"}
    assert any(abs(p["start"] - 30_000 / RATE) < 0.01 for p in clicks["places"])
    assert noise_step["figures"]["room_db"] == pytest.approx(-48, abs=1.5)
    before, after, taken = (soundfile.read(p, always_2d=True)[0] for p in (source, out, away))
    assert before.shape == after.shape == taken.shape
    assert soundfile.info(str(out)).samplerate == RATE
    assert np.max(np.abs(before * 10 ** (-made["lowered_db"] / 20) - after - taken)) < 1e-6
    assert level(taken) == pytest.approx(made["taken_away_db"], abs=0.2)


def test_a_recipe_from_a_file_and_in_words(source, tmp_path):
    mine = tmp_path / "mine.json"
    mine.write_text(json.dumps(r.Recipe("mine", (r.Noise(depth_db=6), r.Tone(rested=True))).as_json()))
    code, told, _ = call(source, "--recipe", mine, "--out", tmp_path / "b.wav")
    assert code == 0
    assert "noise: room_db" in told
    assert "tone: it rests" in told


def test_what_would_be_clipped_is_made_softer(source, tmp_path):
    made = treat_file(source, r.Recipe("x", (r.Tone(low_shelf_db=18, low_shelf_hz=2000),)), tmp_path / "b.wav")
    x, _ = soundfile.read(tmp_path / "b.wav")
    assert made.lowered_db > 0
    assert 20 * np.log10(np.max(np.abs(x))) == pytest.approx(-0.1, abs=0.02)


@pytest.mark.parametrize("spelt", ["same", "link", "hard", "recipe", "away"])
def test_nothing_that_is_read_is_written_over(source, tmp_path, spelt):
    kept = source.read_bytes()
    mine = tmp_path / "mine.json"
    mine.write_text(json.dumps(r.recipe_doing("clicks").as_json()))
    out = {"same": source, "link": tmp_path / "l.wav", "hard": tmp_path / "h.wav"}.get(spelt, tmp_path / "o.wav")
    if spelt == "link":
        out.symlink_to(source)
    if spelt == "hard":
        out.hardlink_to(source)
    extra = ["--taken-away", {"away": out, "recipe": mine}[spelt]] if spelt in {"away", "recipe"} else []
    code, told, err = call(source, "--recipe", mine, "--out", out, *extra)
    assert code == 2
    assert told == ""
    assert err.count("\n") == 1
    assert source.read_bytes() == kept
    assert json.loads(mine.read_text())["name"] == "clicks"


@pytest.mark.parametrize(
    ("args", "said"),
    [
        (["--out", "b.wav"], "one of the two"),
        (["--do", "clicks", "--recipe", "tidy", "--out", "b.wav"], "one of the two"),
        (["--do", "clicks", "--out", "b.ogg"], "are not written"),
        (["--do", "clicks", "--out", "none/b.wav"], "folder"),
    ],
)
def test_wrong_calls_are_one_clear_line(source, tmp_path, args, said):
    args = [str(tmp_path / a) if a.endswith((".wav", ".ogg")) else a for a in args]
    code, told, err = call(source, *args)
    assert (code, told) == (2, "")
    assert said in err
    assert err.count("\n") == 1
    assert sorted(p.name for p in tmp_path.iterdir()) == ["raw.wav"]


def test_bad_sources_leave_nothing(tmp_path):
    empty, torn, wrong = tmp_path / "e.wav", tmp_path / "t.wav", tmp_path / "n.wav"
    soundfile.write(wrong, np.array([0.1, np.nan, 0.1]), RATE, subtype="FLOAT")
    soundfile.write(empty, np.zeros(0), RATE)
    torn.write_bytes(b"RIFF....WAVE")
    for path in (empty, torn, wrong, tmp_path / "none.wav"):
        with pytest.raises(Exception, match=path.name):
            treat_file(path, r.recipe_doing("clicks"), tmp_path / "o.wav")
    assert sorted(p.name for p in tmp_path.iterdir()) == ["e.wav", "n.wav", "t.wav"]


def test_a_folder_that_takes_nothing_is_said(source, tmp_path, monkeypatch):
    folder = tmp_path / "full"
    folder.mkdir()

    def fails(*_):
        raise FileProblem("There is no room to work in the folder full (No space left on device). Make room and try again.")

    monkeypatch.setattr("faithful_reel.core.treat.chain.RawFile", fails)
    with pytest.raises(FileProblem, match="no room"):
        treat_file(source, r.recipe_doing("noise"), folder / "o.wav")
    assert not list(folder.iterdir())
