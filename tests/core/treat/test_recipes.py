"""Recipes as JSON, and laid on a sound: in order, each step on what comes to it, rested ones not at all."""

from __future__ import annotations

import json
import os
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from support.flaws import clicked, held, level
from support.sounds import noise, speech_like

from faithful_reel.core.errors import Cancelled, FileProblem
from faithful_reel.core.jobs import FlagWatch
from faithful_reel.core.treat import chain
from faithful_reel.core.treat import recipe as r
from faithful_reel.core.treat.chain import treated
from faithful_reel.core.treat.tone import Bell

stretches = st.lists(st.tuples(st.floats(0, 100), st.floats(0, 100)), max_size=2).map(tuple)
common = {"strength": st.sampled_from(["light", "usual", "strong"]), "rested": st.booleans(), "left_out": stretches}
steps = st.one_of(
    st.builds(r.Clicks, **common, sensitivity=st.none() | st.floats(-10, 10)),
    st.builds(r.Breaths, **common, how=st.sampled_from(["softer", "shorter", "room"]), by_db=st.none() | st.floats(0, 40)),
    st.builds(r.Noise, **common, depth_db=st.none() | st.floats(0, 30), passes=st.sampled_from([1, 2]), stretches=stretches),
    st.builds(r.Tone, **common, low_cut_hz=st.floats(0, 1000), bells=st.just((Bell(400, -3.0),)), towards=st.just((0.5,) * 20)),
)
recipes = st.builds(r.Recipe, name=st.text(min_size=1, max_size=20), steps=st.lists(steps, max_size=5).map(tuple))


@given(recipes)
def test_a_recipe_comes_back_from_its_json(recipe):
    again = r.recipe_of(json.dumps(recipe.as_json()))
    assert again == recipe
    assert again.key == recipe.key


@given(recipes)
def test_the_key_is_that_of_what_comes_out(recipe):
    assert replace(recipe, name="another").key == recipe.key
    rested = replace(recipe, steps=(*recipe.steps, r.Echo(rested=True)))
    assert rested.key == recipe.key
    assert replace(recipe, steps=(*recipe.steps, r.Echo())).key != recipe.key


def test_those_that_ship_are_whole():
    assert r.recipe_names() == ["rescue", "tidy", "voice"]
    for name in r.recipe_names():
        assert r.load_recipe(name).name == name
        assert r.load_recipe(name).steps
    assert set(r.STEPS) == {step.do for step in r.recipe_doing(",".join(r.STEPS)).steps}


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("{", "readable"),
        ("[]", "faithful_reel_recipe"),
        ('{"faithful_reel_recipe": 9, "name": "x", "steps": []}', "schema 9"),
        ('{"faithful_reel_recipe": 1, "name": "", "steps": []}', "name"),
        ('{"faithful_reel_recipe": 1, "name": "x", "steps": [{"do": "magic"}]}', "magic"),
        ('{"faithful_reel_recipe": 1, "name": "x", "steps": [{"do": "noise", "depth_db": 90}]}', "depth_db"),
        ('{"faithful_reel_recipe": 1, "name": "x", "steps": [{"do": "noise", "depth_db": NaN}]}', "depth_db"),
        ('{"faithful_reel_recipe": 1, "name": "x", "steps": [{"do": "noise", "dept": 9}]}', "dept"),
        ('{"faithful_reel_recipe": 1, "name": "x", "steps": [{"do": "hum", "mains": 55}]}', "mains"),
        ("[" * 100_000, "readable"),
    ],
)
def test_a_recipe_that_makes_no_sense_is_refused_with_the_reason(text, said):
    with pytest.raises(FileProblem, match=said):
        r.recipe_of(text, "mine.json")


def test_files_that_are_no_recipes(tmp_path):
    for name in ("nope", str(tmp_path / "none.json"), "../voice"):
        with pytest.raises(FileProblem, match="no recipe"):
            r.load_recipe(name)
    big = tmp_path / "big.json"
    big.write_bytes(b" " * (r.MOST_BYTES + 1))
    with pytest.raises(FileProblem, match="too large"):
        r.load_recipe(str(big))
    raw = tmp_path / "raw.json"
    raw.write_bytes(os.urandom(200))
    with pytest.raises(FileProblem, match="readable"):
        r.load_recipe(str(raw))
    with pytest.raises(FileProblem, match="no treatment 'magic'"):
        r.recipe_doing("clicks,magic")
    with pytest.raises(FileProblem, match="no treatment"):
        r.recipe_doing(" , ")


# --- laid on a sound ----------------------------------------------------------------------------------------------


def laid(x, recipe, folder):
    with treated(held(x), recipe, folder) as made:
        return made.sound.read(0, made.sound.frames), made.done


@pytest.fixture(scope="module")
def noisy():
    return speech_like(seconds=6, floor_db=-50)


def test_rested_steps_leave_every_sample(noisy, tmp_path):
    rested = tuple(kind(rested=True) for kind in r.STEPS.values())
    y, done = laid(noisy, r.Recipe("x", rested), tmp_path)
    assert np.array_equal(y[0], noisy)
    assert {d.why for d in done} == {"it rests"}


def test_a_step_measures_the_sound_as_it_comes_to_it(noisy, tmp_path):
    _, done = laid(noisy, r.Recipe("x", (r.Noise(depth_db=10), r.Noise(depth_db=5))), tmp_path)
    first, second = (d.figures["room_db"] for d in done)
    assert first == pytest.approx(-50, abs=1)
    assert second == pytest.approx(first - 10, abs=1)


def test_two_passes_share_the_depth(noisy, tmp_path):
    y, _ = laid(noisy, r.Recipe("x", (r.Noise(depth_db=12, passes=2),)), tmp_path)
    assert level(y[0, :15_000]) == pytest.approx(-62, abs=1)


def test_the_noise_of_a_marked_stretch(noisy, tmp_path):
    y, done = laid(noisy, r.Recipe("x", (r.Noise(depth_db=10, stretches=((0.0, 0.4),)),)), tmp_path)
    assert done[0].figures["pauses"] == 1
    assert level(y[0, :15_000]) == pytest.approx(-60, abs=1)
    _, done = laid(noisy, r.Recipe("x", (r.Noise(to_db=-50),)), tmp_path)
    assert done[0].why == "the room is as quiet as that already" or done[0].figures["depth_db"] < 1


def test_what_is_left_out_stays_as_it_was(noisy, tmp_path):
    at = [(30_000, 0.5), (100_000, 0.5)]
    y = clicked(noisy, at)
    after, done = laid(y, r.Recipe("x", (r.Clicks(left_out=((29_000 / 44_100, 31_000 / 44_100),)),)), tmp_path)
    assert np.array_equal(after[0, 29_000:31_000], y[29_000:31_000])
    assert not np.array_equal(after[0, 99_000:101_000], y[99_000:101_000])
    assert all(t.after_db < t.before_db + 1 for t in done[0].touched)
    assert done[0].touched[0].start > 31_000


def test_made_softer_after_clipping_and_what_was_taken_away_leaves_that_out(noisy, tmp_path):
    y = np.clip(noisy * 5, -1, 1).astype(np.float32)
    after, done = laid(y, r.Recipe("x", (r.Clipping(peak_db=-1),)), tmp_path)
    assert 20 * np.log10(np.max(np.abs(after))) == pytest.approx(-1, abs=0.05)
    assert done[0].gain_db < -1
    assert done[0].taken_db < level(y) - 3


def test_nothing_to_do_is_said_and_nothing_is_done(tmp_path):
    x = noise(seconds=3, rms_db=-30)
    y, done = laid(x, r.recipe_doing("clipping,plosives,sibilance,breaths,hum,echo,tone"), tmp_path)
    said = {d.do: d.why for d in done}
    assert all(said[name] for name in ("clipping", "plosives", "sibilance", "breaths", "hum", "echo"))
    assert np.allclose(y[0], x, atol=1e-3)


def test_silence_one_sample_and_two_channels_pass_through(tmp_path):
    every = r.recipe_doing(",".join(r.STEPS))
    for x in (np.zeros((1, 50_000)), np.zeros((1, 1)), np.zeros((2, 9000)), np.full((1, 20_000), 0.2)):
        with treated(held(x.astype(np.float32)), every, tmp_path) as made:
            assert made.sound.frames == x.shape[1]
            assert np.isfinite(made.sound.read(0, x.shape[1])).all()
    both = np.stack([speech_like(seconds=4), np.zeros(4 * 44_100)]).astype(np.float32)
    with treated(held(both), r.load_recipe("voice"), tmp_path) as made:
        assert level(made.sound.read(0, both.shape[1])[1]) < -80


def test_a_cancelled_chain_leaves_nothing(noisy, tmp_path):
    calls = iter(range(10_000))
    watch = FlagWatch(lambda _done, _note: None, lambda: next(calls) > 3)
    with pytest.raises(Cancelled):
        treated(held(noisy), r.load_recipe("voice"), tmp_path, watch)
    assert not list(tmp_path.iterdir())


def test_a_second_pass_with_nothing_to_do_leaves_the_first_told(noisy, tmp_path, monkeypatch):
    real, calls = chain.prepared_step, []

    def once(step, sound, watch):
        calls.append(step)
        return real(step, sound, watch) if len(calls) == 1 else chain.Prepared(None, why="quiet already")

    monkeypatch.setattr(chain, "prepared_step", once)
    y, done = laid(noisy, r.Recipe("x", (r.Noise(depth_db=12, passes=2),)), tmp_path)
    assert len(calls) == 2
    assert done[0].why == ""
    assert done[0].taken_db == pytest.approx(level(noisy - y[0]), abs=0.1)
