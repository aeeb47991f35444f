"""Where two ends of a cut meet: alike on both sides, in step with the wave, never far from where they were."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from support.sounds import noise, speech_like

from faithful_reel.core.splice.meeting import met
from faithful_reel.core.units import Span
from faithful_reel.core.work.editing import MET, SOFT, eased, taken_out
from faithful_reel.core.work.timeline import Tokens

RATE = 44_100


def of(x):
    return lambda a, b: x[a:b]


def tone(seconds, hz=150.0):
    t = np.arange(round(seconds * RATE)) / RATE
    return sum(np.sin(2 * np.pi * hz * k * t + k) / k for k in range(1, 8)).astype(np.float32) * 0.1


def step(x, span):
    """How far the wave jumps where the two ends meet, against its usual step."""
    return abs(x[span.stop] - x[span.start - 1]) / np.abs(np.diff(x[span.start - 400 : span.start])).max()


@pytest.mark.parametrize("length", [20_000, 20_111, 20_217])
def test_the_wave_goes_on_where_it_was(length):
    x = tone(3)
    found = met(of(x), Span(50_000, 50_000 + length), len(x), RATE)
    joined = np.concatenate([x[: found.start], x[found.stop :]])[found.start - 600 : found.start + 600]
    known = x[found.start - 600 : found.start + 600]
    assert np.corrcoef(joined, known)[0, 1] > 0.99
    assert step(x, found) < 2


def test_a_cut_goes_to_where_the_sound_is_alike():
    """Two vowels and a consonant between: edges that stand in unlike sound move to where both sides are the same."""
    rng = np.random.default_rng(2)
    hiss = (rng.standard_normal(4000) * 0.05).astype(np.float32)
    x = np.concatenate([tone(1), hiss, tone(1), hiss, tone(1)])
    first, second = RATE, 2 * RATE + 4000  # where each hiss begins
    span = Span(first + 900, second + 2100)  # both in a hiss, but not at the same place of it
    found = met(of(x), span, len(x), RATE)
    assert abs((found.start - first) - (found.stop - second)) < 400


@settings(max_examples=60)
@given(st.integers(0, 90_000), st.integers(1, 60_000), st.integers(0, 5))
def test_edges_stay_near_and_in_order_and_inside(start, length, seed):
    x = speech_like(seconds=2.5, seed=seed)
    span = Span(min(start, len(x) - 1), min(start + length, len(x)))
    if not len(span):
        return
    found = met(of(x), span, len(x), RATE)
    most = round(0.057 * RATE) + 2
    assert abs(found.start - span.start) <= most
    assert abs(found.stop - span.stop) <= most
    assert 0 <= found.start < found.stop <= len(x)
    assert found == met(of(x), span, len(x), RATE)


def test_a_short_stretch_stays_as_it_is():
    x = noise(seconds=1, rms_db=-20)
    assert met(of(x), Span(1000, 1200), len(x), RATE) == Span(1000, 1200)


def test_only_word_cuts_are_eased_and_their_joins_are_for_like_sound():
    x = speech_like(seconds=3)
    tokens = Tokens(["a", "b"], np.arange(2), np.array([40_000, 70_000]), np.array([60_000, 90_000]))
    words, hand = Span(40_000, 60_000), Span(70_000, 80_000)
    better = eased([words, hand], tokens, of(x), len(x), RATE)
    assert better[0] != words
    assert better[1] == hand
    last, first = taken_out(better, like={better[0]})
    assert (first.join, last.join) == (MET, SOFT)


def slowly(x, span):
    """The same choice a second way: every pair on its own, frame by frame, band by band."""
    frame, step, reach = round(0.02 * RATE), round(0.002 * RATE), min(round(0.05 * RATE), len(span) // 3)
    offsets = range(-reach, reach + 1, step)
    edges = np.searchsorted(np.fft.rfftfreq(frame, 1 / RATE), np.geomspace(100, 7500, 15))

    def shape(first):
        power = np.abs(np.fft.rfft(x[first : first + frame] * np.hanning(frame))) ** 2
        return np.array([10 * np.log10(power[a : max(b, a + 1)].mean() / frame + 1e-9) for a, b in itertools.pairwise(edges)])

    ends = [{o: (shape(at + o - frame), shape(at + o)) for o in offsets} for at in (span.start, span.stop)]
    costs = {}
    for i, j in itertools.product(offsets, offsets):
        (ahead, cut), (kept, behind) = ends[0][i], ends[1][j]
        unlike = [np.abs(a - b).mean() for a, b in ((ahead, kept), (cut, behind), (ahead, behind))]
        costs[i, j] = (unlike[0] + unlike[1] + 1.5 * unlike[2]) / 3, max(ahead.max(), behind.max()), (abs(i) + abs(j)) / reach
    quietest = min(loud for _, loud, _ in costs.values())
    i, j = min(costs, key=lambda k: costs[k][0] + 0.02 * (costs[k][1] - quietest) + 0.5 * costs[k][2])
    return Span(span.start + i, span.stop + j)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_the_choice_is_that_of_a_second_way(seed, monkeypatch):
    monkeypatch.setattr("faithful_reel.core.splice.meeting._slide", lambda *_: 0)
    rng = np.random.default_rng(seed)
    x = np.concatenate([tone(0.05, hz) * rng.uniform(0.1, 1) for hz in rng.uniform(90, 300, 40)]) + noise(seconds=2, rms_db=-50)
    start = int(rng.integers(10_000, 30_000))
    span = Span(start, start + int(rng.integers(9000, 30_000)))
    assert met(of(x), span, len(x), RATE) == slowly(x, span)
