"""Edits from a file of steps, on audio files and on chapters of a book, through the shell."""

from __future__ import annotations

import json
import subprocess
import sys

import numpy as np
import pytest
import soundfile
from support.sounds import DEMO

from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.errors import AppError, FileProblem
from faithful_reel.core.reel.commands import CutAndClose, DrawLine, SetFade
from faithful_reel.core.reel.reel import Fade, Join
from faithful_reel.core.work.steps import KINDS, edit_file, steps_in

RATE = 44_100
HARD = {"length": 0, "shape": "equal_power"}


def steps(folder, *rows):
    path = folder / "steps.json"
    path.write_text(json.dumps(list(rows)))
    return path


@pytest.fixture
def sound(tmp_path):
    """Three seconds of stereo noise."""
    x = (np.random.default_rng(3).uniform(-0.5, 0.5, (3 * RATE, 2))).astype(np.float32)
    soundfile.write(tmp_path / "in.wav", x, RATE, subtype="FLOAT")
    return tmp_path / "in.wav", x


def test_steps_are_read_with_times_and_samples(tmp_path):
    path = steps(
        tmp_path,
        {"kind": "cut_and_close", "start": "0:01.5", "stop": 70_000, "join": HARD},
        {"kind": "set_fade", "index": 0, "fade": {"length": 900, "bend": 1}},
        {"kind": "draw_line", "start": 0, "stop": "2", "points": [[100, -6]]},
    )
    assert steps_in(path, RATE) == (
        CutAndClose(66_150, 70_000, Join(0)), SetFade(0, Fade(900, 1.0)), DrawLine(0, 88_200, ((100, -6.0),))
    )  # fmt: skip
    assert len(KINDS) == 30


@pytest.mark.parametrize(
    ("rows", "told"),
    [
        ("{", "could not be read as JSON"),
        ("[]", "no list of steps"),
        ('{"kind": "split"}', "no list of steps"),
        ('[{"kind": "cut"}]', "step 1: “kind” is none of add_lane"),
        ('[{"kind": "split", "at": 5}, 7]', "step 2: “kind” is none of"),
        ('[{"kind": "split"}]', "step 1: at: Field required"),
        ('[{"kind": "split", "at": 5, "lain": 1}]', "step 1: “lain” means nothing here"),
        ('[{"kind": "set_fade", "index": 0, "fade": {"duration": 5}}]', "“duration” means nothing here"),
        ('[{"kind": "split", "at": "soon"}]', "step 1, at: “soon” is no time"),
        ('[{"kind": "split", "at": 5.5}]', "step 1: at:"),
        ('[{"kind": "set_fade", "index": 0, "fade": {"length": 5, "bend": NaN}}]', "NaN is no number"),
        ('[{"kind": "set_gain", "start": 0, "stop": 5, "gain_db": 1e999}]', "1e999 is no number"),
        ('[{"kind": "set_gain", "start": 0, "stop": 5, "gain_db": -Infinity}]', "-Infinity is no number"),
        (f'[{{"kind": "insert_pause", "at": 0, "length": {2**63}, "tone": null}}]', "a number of 19 digits is no place"),
        (f'[{{"kind": "insert_pause", "at": 0, "length": 1{"0" * 400}, "tone": null}}]', "a number of 401 digits"),
        (f'[{{"kind": "split", "at": "{"9" * 400}"}}]', "is no time"),
        ('[{"kind": "add_lane", "lane": {"name": "x", "segments": [{"kind": "rest", "length": -5}]}}]', "a length of -5 is none"),
        ('[{"kind": "dress_lane", "lane": 0, "name": "\\ud800"}]', "holds what is no character"),
        ('[{"kind": "split", "\\ud800": 1}]', "holds what is no character"),
    ],
)
def test_what_is_wrong_with_a_step_is_told_with_its_number(tmp_path, rows, told):
    path = tmp_path / "steps.json"
    path.write_text(rows)
    with pytest.raises(FileProblem, match=r"steps\.json") as caught:
        steps_in(path, RATE)
    assert told in str(caught.value)


def test_an_audio_file_is_edited_into_another_one_with_its_channels(tmp_path, sound):
    source, x = sound
    before = source.read_bytes()
    path = steps(
        tmp_path,
        {"kind": "cut_and_close", "start": 10_000, "stop": 20_000, "join": HARD},
        {"kind": "set_gain", "start": 50_000, "stop": 60_000, "gain_db": -6},
    )
    made = edit_file(source, path, tmp_path / "out.wav")
    y, rate = soundfile.read(tmp_path / "out.wav", dtype="float32")
    assert (rate, y.shape, made["steps"]) == (RATE, (3 * RATE - 10_000, 2), 2)
    wanted = np.delete(x, slice(10_000, 20_000), axis=0)
    assert np.allclose(y[:40_000], wanted[:40_000], atol=2**-22)
    assert np.allclose(y[51_000:59_000], wanted[51_000:59_000] * 10 ** (-6 / 20), atol=2**-22)
    assert source.read_bytes() == before


def test_sound_of_another_file_is_put_in_at_the_same_rate_only(tmp_path, sound):
    source, _ = sound
    other = np.full(RATE, 0.25, np.float32)
    soundfile.write(tmp_path / "other.wav", other, RATE)
    soundfile.write(tmp_path / "wrong.wav", other, 48_000)
    piece = {"kind": "piece", "start": 0, "stop": 20_000}
    for name in ("other.wav", "wrong.wav", "none.wav"):
        paste = {"kind": "paste", "start": 5000, "stop": 5000, "content": [[0, [{**piece, "recording": name}]]]}
        path = steps(tmp_path, paste)
        if name == "other.wav":
            edit_file(source, path, tmp_path / "out.wav")
            y, _ = soundfile.read(tmp_path / "out.wav")
            assert np.allclose(y[6000:24_000], 0.25, atol=1e-4)
            with pytest.raises(AppError):
                edit_file(source, path, tmp_path / "other.wav")
        else:
            with pytest.raises(FileProblem, match=name):
                edit_file(source, path, tmp_path / "no.wav")
    assert not (tmp_path / "no.wav").exists()
    assert np.allclose(soundfile.read(tmp_path / "other.wav")[0], 0.25, atol=1e-4)


@pytest.mark.parametrize(
    ("piece", "told"),
    [({"start": 0, "stop": 10**9}, "beyond its end"), ({"start": 9, "stop": 9}, "nothing to paste"), ({"start": 0, "stop": 50, "line": [[9, 0], [5, -3]]}, "runs backwards"),
     ({"start": 0, "stop": 50, "gain_db": 900}, "outside"), ({"start": 0, "stop": 50, "line": [[9, 900]]}, "outside"),
     ({"start": 0, "stop": 50, "fade_in": {"length": 50, "past": -60}}, "longer than its piece"), ({"start": 0, "stop": 50, "join": {"bend": 9}}, "shape"),
     ({"start": 0, "stop": 500, "fade_out": {"length": 50, "past": -6}}, "longer than its piece"),
     ({"start": 0, "stop": 50, "recording": "a\0b"}, "no file beside"), ({"start": 0, "stop": 50, "recording": "two\nlines?#"}, "no file beside"),
     ({"start": 0, "stop": 50, "recording": "../audio.wav"}, "no file beside")],
)  # fmt: skip
def test_what_a_recording_does_not_hold_is_not_played(tmp_path, sound, piece, told):
    source, _ = sound
    paste = {"kind": "paste", "start": 5, "stop": 5, "content": [[0, [{"kind": "piece", "recording": "audio", **piece}]]]}
    with pytest.raises(AppError, match=told):
        edit_file(source, steps(tmp_path, paste), tmp_path / "out.wav")
    assert not (tmp_path / "out.wav").exists()


def test_a_result_that_never_ends_is_refused_before_it_is_begun(tmp_path, sound):
    source, _ = sound
    with pytest.raises(AppError, match="longer than any chapter"):
        edit_file(
            source, steps(tmp_path, {"kind": "insert_pause", "at": 5, "length": 10**11, "tone": None}), tmp_path / "out.wav"
        )
    assert not (tmp_path / "out.wav").exists()


def shell(*args):
    done = subprocess.run(
        [sys.executable, "-m", "faithful_reel", "edit", *map(str, args)], capture_output=True, text=True, check=False
    )
    return done.returncode, done.stdout, done.stderr


@pytest.mark.slow
def test_the_shell_edits_a_chapter_as_one_step_or_says_in_one_line_why_not(tmp_path, demo_book):
    import shutil

    book = tmp_path / "b.reelbook"
    shutil.copytree(demo_book, book)
    good = steps(
        tmp_path, {"kind": "cut_and_close", "start": "1", "stop": "2.5"}, {"kind": "put_marker", "marker": {"id": "m1", "at": 5}}
    )
    code, out, err = shell(book, "--do", good, "--chapter", "2", "--json")
    assert (code, err) == (0, "")
    assert json.loads(out)["seconds_before"] - json.loads(out)["seconds_after"] == pytest.approx(1.5, abs=0.002)
    with BookStore(book) as store:
        session = Session(store)
        assert session.can_undo() == "Edit by steps.json"
        assert [m.id for m in session.book.chapters[1].reel.markers] == ["m1"]
        head = store.head
    (tmp_path / "f").mkdir()
    foreign = steps(
        tmp_path / "f",
        {
            "kind": "paste",
            "start": 5,
            "stop": 5,
            "content": [[0, [{"kind": "piece", "recording": "x.wav", "start": 0, "stop": 9}]]],
        },
    )
    good = good.rename(tmp_path / "good.json")
    late = steps(tmp_path, {"kind": "split", "at": 9}, {"kind": "split", "at": "9:00:00"})
    for args, told in (
        ((book, "--do", late), "Step 2 (split)"),
        ((book, "--do", good, "--chapter", "9"), "no chapter with a recording"),
        ((book, "--do", foreign), "which is not there"),
        ((book, "--do", good, "--out", tmp_path / "x.wav"), "Leave --out away"),
        ((DEMO / "chapter-1.flac", "--do", good), "--out FILE"),
        ((tmp_path / "none.wav", "--do", good, "--out", tmp_path / "x.wav"), "none.wav"),
        ((DEMO / "chapter-1.flac", "--do", late, "--out", tmp_path / "x.wav"), "Step 2 (split)"),
    ):
        code, out, err = shell(*args)
        assert (code, out) == (2, ""), args
        assert err.count("\n") == 1
        assert told in err
    with BookStore(book) as store:
        assert store.head == head
    assert not (tmp_path / "x.wav").exists()
