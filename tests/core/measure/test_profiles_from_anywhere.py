"""Profiles of wrong types, absurd values, endless depth: one clear line, and never one that masters nonsense."""

from __future__ import annotations

import json

import pytest

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.measure.profile import load_profile

GOOD = {
    "name": "own",
    "rms_db": [-23, -18],
    "peak_db": -3,
    "noise_floor_db": -60,
    "rates": [44100],
    "channels": [1],
    "codecs": ["wav"],
    "target_rms_db": -20,
    "make_head_s": 0.75,
    "make_tail_s": 2.5,
}


def test_the_good_one_loads(tmp_path):
    (tmp_path / "p.json").write_text(json.dumps(GOOD))
    assert load_profile(str(tmp_path / "p.json")).rms_db == (-23.0, -18.0)


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"rms_db": [-18, -23]}, "lower number"),
        ({"rms_db": [-23]}, "two numbers"),
        ({"rms_db": "loud"}, "two numbers"),
        ({"rms_db": [1, float("nan")]}, "rms_db must be"),
        ({"peak_db": "loud"}, "peak_db must be"),
        ({"peak_db": True}, "peak_db must be"),
        ({"peak_db": 12}, "peak_db must be"),
        ({"target_rms_db": 1e308}, "target_rms_db"),
        ({"target_rms_db": float("inf")}, "target_rms_db"),
        ({"make_head_s": 1e9}, "make_head_s"),
        ({"make_tail_s": -5}, "make_tail_s"),
        ({"rates": [-1]}, "rates"),
        ({"rates": 44100}, "rates"),
        ({"rates": [44100.5]}, "rates"),
        ({"channels": [0]}, "channels"),
        ({"codecs": None}, "codecs"),
        ({"codecs": [1]}, "codecs"),
        ({"name": 5}, "name"),
        ({"name": "x" * 5000}, "name"),
        ({"bit_rate": -1}, "bit_rate"),
        ({"longest_s": 0}, "longest_s"),
    ],
)
def test_a_value_that_makes_no_sense_is_named(tmp_path, change, says):
    (tmp_path / "p.json").write_text(json.dumps({**GOOD, **change}))
    with pytest.raises(FileProblem, match=says) as caught:
        load_profile(str(tmp_path / "p.json"))
    assert len(str(caught.value)) < 300


@pytest.mark.parametrize("field", sorted(set(GOOD) - {"rms_db", "peak_db", "noise_floor_db"}))
def test_a_field_that_must_be_there_is_missed(tmp_path, field):
    (tmp_path / "p.json").write_text(json.dumps({k: v for k, v in GOOD.items() if k != field}))
    with pytest.raises(FileProblem, match=field):
        load_profile(str(tmp_path / "p.json"))


@pytest.mark.parametrize(
    "text",
    [
        "[" * 200_000,
        '{"a":' * 50_000 + "1" + "}" * 50_000,
        "[]",
        '"x"',
        "5",
        '{"target_rms_db":' + "9" * 10_000 + "}",
        "\x00",
        "",
    ],
)
def test_what_is_no_profile_is_one_line(tmp_path, text):
    (tmp_path / "p.json").write_text(text)
    with pytest.raises(FileProblem, match="not a readable profile") as caught:
        load_profile(str(tmp_path / "p.json"))
    assert "\n" not in str(caught.value)


def test_a_folder_and_a_huge_file_are_no_profiles(tmp_path):
    (tmp_path / "p.json").write_text(json.dumps(GOOD | {"note": "x" * (1 << 20)}))
    for path in (tmp_path / "p.json", tmp_path):
        with pytest.raises(FileProblem):
            load_profile(str(path))
