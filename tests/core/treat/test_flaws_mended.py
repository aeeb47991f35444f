"""Clicks, clipping, bursts, harsh s and breaths planted on the demo voice: found, mended, and nothing else touched."""

from __future__ import annotations

import itertools
import json

import numpy as np
import pytest
import soundfile
from support.flaws import band, clicked, gain, held, level, popped, whole
from support.sounds import DEMO, RATE, noise

from faithful_reel.core.treat.breaths import breaths_softened, found_breaths, is_between_sentences
from faithful_reel.core.treat.clicks import clicks_redrawn, found_clicks
from faithful_reel.core.treat.clipping import clipped_places, clipping_redrawn, piles
from faithful_reel.core.treat.places import Patched, Place
from faithful_reel.core.treat.plosives import found_plosives, low_levels, plosives_tamed
from faithful_reel.core.treat.sibilance import found_sibilance, is_harsh, sibilance_softened, sibilant_levels, sibilants
from faithful_reel.core.units import Span


@pytest.fixture(scope="module")
def voice():
    """Half a minute of a demo chapter in which nothing was planted, and the words in it in samples."""
    x, _ = soundfile.read(DEMO / "chapter-2.flac", dtype="float32", start=40 * RATE, frames=30 * RATE)
    words = json.loads((DEMO / "truth.json").read_text())["chapter-2"]["words"]
    return x, [(round((a - 40) * RATE), round((b - 40) * RATE)) for _, a, b in words if a > 40.2 and b < 69.8]


def redrawn(x):
    done = clicks_redrawn(held(x), found_clicks(held(x)))
    return whole(held(x), Patched([patch for _, patch in done])), [place for place, _ in done]


def places_for(words):
    """A place in the middle of every sixth word, and in the pause before some."""
    return [((a + b) // 2, ms) for (a, b), ms in zip(words[3:-3:6], (0.02, 0.5, 1, 3, 0.3, 2, 0.02, 4) * 3, strict=False)]


def test_clicks_in_words_are_found_and_redrawn_and_nothing_else_is_touched(voice):
    x, words = voice
    planted = places_for(words)
    y = clicked(x, planted)
    after, _ = redrawn(y)
    better = [gain(y[at - 90 : at + 270], after[0, at - 90 : at + 270], x[at - 90 : at + 270]) for at, _ in planted]
    assert np.mean(np.array(better) > 3) >= 0.85
    assert np.median(better) > 8
    assert min(better) > -3
    away = np.ones(len(x), bool)
    for at, _ in planted:
        away[at - 400 : at + 600] = False
    assert np.array_equal(after[0][away], y[away])


@pytest.mark.parametrize("offset", [0.0, 0.05])
def test_a_clean_voice_is_left_to_the_sample_whatever_its_dc(voice, offset):
    x = voice[0] + np.float32(offset)
    after, places = redrawn(x)
    assert not places
    assert np.array_equal(after[0], x)


def test_a_click_of_one_channel_leaves_the_other_alone(voice):
    x, words = voice
    at = (words[10][0] + words[10][1]) // 2
    both = np.stack([clicked(x, [(at, 0.5)]), x * np.float32(0.7)])
    done = clicks_redrawn(held(both), found_clicks(held(both)))
    after = whole(held(both), Patched([patch for _, patch in done]))
    assert gain(both[0, at - 90 : at + 270], after[0, at - 90 : at + 270], x[at - 90 : at + 270]) > 3
    assert np.array_equal(after[1], both[1])


def test_crackle_is_found_in_its_own_pass(voice):
    x, _ = voice
    rng = np.random.default_rng(4)
    at = np.arange(2 * RATE, 8 * RATE, RATE // 18) + rng.integers(0, 800, 108)
    y = x.copy()
    for k in at:
        y[k] += 0.15 * rng.choice([-1, 1])
    places = found_clicks(held(y), crackle=True)
    found = [any(p.start - 44 <= k < p.stop + 44 for p in places) for k in at]
    assert np.mean(found) > 0.75
    assert len(found_clicks(held(x), crackle=True)) <= 9


def test_what_was_cut_off_at_full_scale_is_no_click(voice):
    y = np.clip(8 * voice[0], -1, 1)
    after, _ = redrawn(y)
    assert np.max(np.abs(after)) <= 1.0


def test_a_step_at_either_end_is_no_click(voice):
    """A file cut out of a sound begins in mid-wave."""
    x = voice[0][5 * RATE + 777 : 12 * RATE]
    assert not [p for p in found_clicks(held(x)) if p.start < 200 or p.stop > len(x) - 200]


# --- clipping -----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("over", [6, 10])
@pytest.mark.parametrize("softer", [1.0, 0.3])
def test_clipping_is_told_by_its_pile_and_redrawn(voice, over, softer):
    x = voice[0][: 8 * RATE]
    top = np.max(np.abs(x)) / 10 ** (over / 20)
    y = softer * np.clip(x, -top, top)
    found = piles(held(y))
    assert {p.sign for p in found} == {1, -1}
    assert all(abs(abs(p.level) / (softer * top) - 1) < 0.035 for p in found)
    patches, left, peak_db = clipping_redrawn(held(y), found, clipped_places(held(y), found))
    assert not left
    after = whole(held(y), Patched(patches))[0] / softer
    cut = np.abs(y) >= softer * top * 0.9999
    assert gain(y[cut] / softer, after[cut], x[cut]) > 5
    under = np.abs(y) < softer * top * 0.96
    assert np.allclose(after[under] * softer, y[under], atol=1e-6)
    assert (np.abs(after[cut]) * softer >= np.abs(y[cut]) - 1e-6).all()
    assert 20 * np.log10(np.max(np.abs(after)) * softer) == pytest.approx(peak_db, abs=0.01)


def test_one_polarity_alone(voice):
    x = voice[0][: 8 * RATE]
    top = np.max(x) / 2
    assert {p.sign for p in piles(held(np.minimum(x, top)))} == {1}


@pytest.mark.parametrize("made", ["as it is", "louder", "over full scale", "DC", "noise"])
def test_what_was_not_clipped_has_no_pile(voice, made):
    x = voice[0]
    y = {"as it is": x, "louder": 1.9 * x, "over full scale": 40 * x, "DC": x + 0.1, "noise": noise(seconds=5, rms_db=-20)}[made]
    assert not piles(held(y))


def test_where_too_little_is_left_it_is_told(voice):
    x = voice[0][: 6 * RATE]
    y = np.clip(x * 1000, -0.5, 0.5)
    found = piles(held(y))
    patches, left, _ = clipping_redrawn(held(y), found, clipped_places(held(y), found))
    assert found
    assert left
    assert not any(patch.start == place.start for patch in patches for place in left)


# --- bursts, s, breaths -------------------------------------------------------------------------------------------


def test_bursts_are_tamed_under_the_voice_alone(voice):
    x, words = voice
    y, at = x.copy(), [words[k][0] for k in (5, 20, 40)]
    n, peak = RATE // 7, np.percentile(np.abs(x), 99.9)
    for k, a in enumerate(at):
        y[a : a + n] += (0.8 * peak * popped(n, k)).astype(np.float32)
    levels = low_levels(held(y))
    places = found_plosives(levels)
    assert [any(p.start < a + n and p.stop > a for p in places) for a in at] == [True] * 3
    assert all(any(p.start < a + n and p.stop > a for a in at) for p in places)
    after = whole(held(y), Patched(plosives_tamed(held(y), places, levels)))[0]
    for a in at:
        s = slice(a, a + n)
        low = [band(z, 0, 150)[s] for z in (y, after, x)]
        assert gain(*low) > 10
        assert abs(level(band(after, 160, 12_000)[s]) - level(band(y, 160, 12_000)[s])) < 0.5


def test_a_low_voice_without_bursts_is_left_alone(voice):
    """An octave down: what lies at 55 Hz is its voice."""
    x = np.interp(np.arange(len(voice[0])) / 2, np.arange(len(voice[0])), voice[0])
    assert not found_plosives(low_levels(held(x)))


def harsh(x, runs, hop, db):
    y, high = x.astype(np.float64), x - band(x, 0, 4000)
    for a, b in runs:
        lo, hi = a * hop, b * hop
        ramp = np.clip(np.minimum(np.arange(hi - lo), np.arange(hi - lo)[::-1]) / 400, 0, 1)
        y[lo:hi] += (10 ** (db / 20) - 1) * ramp * high[lo:hi]
    return y.astype(np.float32)


def test_harsh_s_come_down_and_nothing_else_is_dulled(voice):
    x, _ = voice
    levels = sibilant_levels(held(x))
    runs = sibilants(levels)
    assert len(runs) >= 8
    assert not is_harsh(levels)
    assert not found_sibilance(levels)
    y = harsh(x, runs, levels.hop, 12)
    now = sibilant_levels(held(y))
    after = whole(held(y), Patched(sibilance_softened(held(y), found_sibilance(now), now)))[0]
    tops = [a + int(np.argmax(now.sibilant[a:b])) for a, b in runs]
    rows = [10 * np.log10(sibilant_levels(held(z)).sibilant[tops] + 1e-16) for z in (x, y, after)]
    assert 1 - np.sum(rows[2] - rows[0]) / np.sum(rows[1] - rows[0]) > 0.5
    away = np.ones(len(x), bool)
    for a, b in runs:
        away[(a - 4) * levels.hop : (b + 4) * levels.hop] = False
    assert np.array_equal(after[away], y[away])


def breathed(x, words):
    """Breaths in three pauses: sound, where they are."""
    gaps = [(b, c) for (_, b), (c, _) in itertools.pairwise(words) if c - b > 0.5 * RATE]
    gaps = [(b, c) for b, c in gaps if level(x[b + 4000 : c - 2000]) < -50][:3]
    y, rng, at = x.copy(), np.random.default_rng(7), []
    for b, c in gaps:
        n = round(0.3 * RATE)
        start = (b + c - n) // 2
        raw = band(rng.standard_normal(n), 700, 3800) * np.sin(np.pi * np.arange(n) / n)
        y[start : start + n] += (raw / np.std(raw) * 10 ** (-38 / 20)).astype(np.float32)
        at.append((start, start + n))
    return y, at


@pytest.mark.parametrize("how", ["softer", "shorter", "room"])
def test_breaths_are_found_and_never_a_word(voice, how):
    x, words = voice
    y, at = breathed(x, words)
    assert len(at) >= 2
    places = found_breaths(held(y))
    assert all(any(p.start < b and p.stop > a for p in places) for a, b in at)
    assert not [p for p in places if any(min(p.stop, b) - max(p.start, a) > 0.03 * RATE for a, b in words)]
    room = y[None, at[0][0] - 3000 : at[0][0] - 500]
    after = whole(held(y), Patched(breaths_softened(held(y), places, how=how, by_db=12, room=room)))[0]
    a, b = at[0]
    quarter = (b - a) // 4
    down = level(y[a + quarter : a + 2 * quarter]) - level(after[a + quarter : a + 2 * quarter])
    assert down > 9
    assert np.max(np.abs(after[a:b])) > 1e-5  # never digital silence
    away = np.ones(len(x), bool)
    for p in places:
        away[p.start : p.stop] = False
    assert np.array_equal(after[away], y[away])


def test_a_breath_between_sentences_is_told_from_one_inside():
    speaks = [Span(0, RATE), Span(2 * RATE, 3 * RATE), Span(round(3.3 * RATE), 5 * RATE)]
    assert is_between_sentences(Place(round(1.3 * RATE), round(1.7 * RATE), "breath", -40, 1), speaks, RATE)
    assert not is_between_sentences(Place(round(3.05 * RATE), round(3.25 * RATE), "breath", -40, 1), speaks, RATE)


def test_channels_that_are_turned_against_each_other_hide_nothing(voice):
    x, words = voice
    y, at = breathed(x, words)
    n, a = RATE // 7, words[20][0]
    y[a : a + n] += (0.8 * np.percentile(np.abs(x), 99.9) * popped(n, 1)).astype(np.float32)
    both = held(np.stack([y, -y]))
    assert any(p.start < a + n and p.stop > a for p in found_plosives(low_levels(both)))
    assert all(any(p.start < stop and p.stop > start for p in found_breaths(both)) for start, stop in at)
