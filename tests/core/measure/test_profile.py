"""Profiles and verdicts."""

from __future__ import annotations

import json
from dataclasses import replace

import pytest

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.measure.levels import Figures
from faithful_reel.core.measure.profile import load_profile, profile_names, verdicts

GOOD = Figures(-20, -3.2, -3.1, -19, -63, 0.75, 2.5, 600, 44_100, 1, "mp3", 192_000, cbr=True)


def failing(**change):
    return [v.rule for v in verdicts(replace(GOOD, **change), load_profile("retail")) if not v.passed]


def test_good_figures_pass_the_retail_profile():
    assert failing() == []


@pytest.mark.published("Submission requirements of audiobook retailers, from memory")
@pytest.mark.parametrize(
    ("change", "rule"),
    [
        ({"rms_db": -23.01}, "rms"),
        ({"rms_db": -17.99}, "rms"),
        ({"peak_db": -2.99}, "peak"),
        ({"noise_floor_db": -59.9}, "noise_floor"),
        ({"head_s": 0.3}, "head"),
        ({"tail_s": 6.0}, "tail"),
        ({"seconds": 7201}, "length"),
        ({"rate": 48_000}, "rate"),
        ({"channels": 6}, "channels"),
        ({"codec": "ogg"}, "codec"),
        ({"bit_rate": 128_000}, "bit_rate"),
        ({"cbr": False}, "constant_bit_rate"),
    ],
)
def test_each_limit_fails_alone(change, rule):
    assert failing(**change) == [rule]


@pytest.mark.published("Submission requirements of audiobook retailers, from memory")
@pytest.mark.parametrize(
    "change", [{"rms_db": -23.0}, {"rms_db": -18.0}, {"peak_db": -3.0}, {"noise_floor_db": -60.0}, {"seconds": 7200}]
)
def test_limits_themselves_pass(change):
    assert failing(**change) == []


def test_every_shipped_profile_loads():
    assert {load_profile(name).name for name in profile_names()} == {"retail", "broadcast"}


@pytest.mark.parametrize("content", ["", "[]", "{}", '{"name": 3', '{"name": "x", "rates": 5}'])
def test_a_broken_profile_is_refused(tmp_path, content):
    path = tmp_path / "own.json"
    path.write_text(content)
    with pytest.raises(FileProblem, match=r"own\.json"):
        load_profile(str(path))


def test_own_profile_and_unknown_name(tmp_path):
    fields = {
        "name": "own",
        "rms_db": [-30, -20],
        "rates": [48000],
        "channels": [2],
        "codecs": ["wav"],
        "target_rms_db": -25,
        "make_head_s": 1,
        "make_tail_s": 1,
    }
    (tmp_path / "own.json").write_text(json.dumps(fields))
    assert load_profile(str(tmp_path / "own.json")).rms_db == (-30, -20)
    with pytest.raises(FileProblem, match="retail"):
        load_profile("nothing")


@pytest.mark.published("EBU R 128: -23 LUFS within 0.5 LU, true peak at most -1 dBTP")
@pytest.mark.parametrize(
    ("lufs", "true_peak", "passes"),
    [(-23.5, -1, True), (-22.5, -1, True), (-23.6, -1, False), (-22.4, -1, False), (-23, -0.9, False)],
)
def test_the_broadcast_profile_asks_what_r128_asks(lufs, true_peak, passes):
    found = verdicts(replace(GOOD, lufs=lufs, true_peak_db=true_peak), load_profile("broadcast"))
    assert all(v.passed for v in found) == passes
