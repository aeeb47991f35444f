"""Overviews, room tone, tempo, pauses."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from support.sounds import noise, sine, speech_like

from faithful_reel.core.audio.overview import BASE, overview_of
from faithful_reel.core.audio.roomtone import find_room_tone, frame_levels
from faithful_reel.core.audio.tempo import Tempo
from faithful_reel.core.hear.pauses import LONGEST_S, chunks_of


@settings(max_examples=40, deadline=None)
@given(st.lists(st.integers(1, 3000), min_size=1, max_size=8), st.integers(0, 1000))
def test_overview_does_not_depend_on_the_blocks(sizes, seed):
    x = np.random.default_rng(seed).standard_normal(sum(sizes)).astype(np.float32)
    parts = np.split(x, np.cumsum(sizes)[:-1])
    a, b = overview_of(parts), overview_of([x])
    assert a.length == b.length == len(x)
    assert all(np.array_equal(p, q) for p, q in zip(a.levels, b.levels, strict=True))


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 20_000), st.integers(300, 30_000), st.integers(1, 60))
def test_columns_hold_the_extremes_of_their_samples(start, length, width):
    x = noise(seconds=1.2, rms_db=-10)
    stop = min(len(x), start + length)
    found = overview_of([x]).columns(np.linspace(start, stop, width + 1))
    edges = np.linspace(start, stop, width + 1).astype(int)
    for k in range(width):
        part = x[edges[k] : edges[k + 1]]
        if len(part):
            assert found[0, k] <= part.min() + 1e-7
            assert found[1, k] >= part.max() - 1e-7


def test_columns_do_not_reach_far_beyond_their_samples():
    x = np.zeros(100_000, np.float32)
    x[50_000] = 1.0
    found = overview_of([x]).columns(np.linspace(0, 100_000, 101))
    assert found[1].nonzero()[0].tolist() in ([50], [49, 50], [50, 51], [49, 50, 51])


def test_columns_outside_are_empty_and_an_empty_overview_draws_nothing():
    found = overview_of([np.ones(1000, np.float32)]).columns(np.linspace(5000, 9000, 11))
    assert not found.any()
    assert overview_of([]).columns(np.linspace(0, 10, 4)).shape == (2, 3)


def test_the_last_partial_bin_counts():
    x = np.zeros(BASE + 5, np.float32)
    x[-1] = -0.75
    assert overview_of([x]).levels[0][0, -1] == pytest.approx(-0.75)


def test_room_tone_is_found_at_the_head_and_skips_its_start():
    tone = noise(seconds=6, rms_db=-62)
    tone[:400] += 0.3  # a click of the mouse
    x = np.concatenate([tone, speech_like(seconds=20, floor_db=-62)])
    span = find_room_tone(x, 44_100)
    assert span is not None
    assert span.start >= 0.4 * 44_100
    assert span.stop <= 6.6 * 44_100
    assert len(span) > 3 * 44_100
    assert frame_levels(x[span.start : span.stop], 44_100).max() < -55


def test_a_loud_room_has_room_tone_too():
    """Else what is cut out of it would be filled with a hiss that is far too soft: a hole in the room."""
    x = speech_like(seconds=8, rms_db=-16, floor_db=-37)
    assert find_room_tone(x, 44_100) is not None
    assert find_room_tone(noise(seconds=8, rms_db=-30), 44_100) is None  # nothing stands over it: it may be anything


def test_no_room_tone_in_steady_voice_or_digital_silence():
    assert find_room_tone(sine(200, seconds=5, db=-10), 44_100) is None
    silent = np.concatenate([np.zeros(88_200, np.float32), noise(seconds=4, rms_db=-20)])
    assert find_room_tone(silent, 44_100) is None


@pytest.mark.parametrize("speed", [0.75, 1.0, 1.5, 2.5])
def test_tempo_changes_length_not_pitch(speed):
    tempo = Tempo(44_100, speed)
    x = sine(440, seconds=4, db=-6)
    y = np.concatenate([*(tempo.feed(x[at : at + 4410]) for at in range(0, len(x), 4410)), tempo.flush()])
    assert len(y) == pytest.approx(len(x) / speed, rel=0.02)
    middle = y[len(y) // 4 : -len(y) // 4]
    spectrum = np.abs(np.fft.rfft(middle * np.hanning(len(middle))))
    assert spectrum.argmax() * 44_100 / len(middle) == pytest.approx(440, abs=3)


@pytest.mark.parametrize("speed", [0.5, 3.0])
def test_tempo_refuses_other_speeds(speed):
    with pytest.raises(ValueError, match="speed"):
        Tempo(44_100, speed)


def test_chunks_cover_all_speech_and_are_short():
    x = speech_like(seconds=60, rate=16_000)
    chunks = chunks_of(x, 16_000)
    levels = frame_levels(x, 16_000)
    covered = np.zeros(len(levels), bool)
    for chunk in chunks:
        covered[chunk.span.start // 320 : chunk.span.stop // 320 + 1] = True
    assert covered[levels > -35].all()
    assert all(len(c.span) <= (LONGEST_S + 0.5) * 16_000 for c in chunks)
    assert all(a.span.stop <= b.span.start + 0.25 * 16_000 for a, b in itertools.pairwise(chunks))


def test_silence_and_noise_have_no_chunks():
    assert chunks_of(np.zeros(160_000, np.float32), 16_000) == []
    assert chunks_of(noise(seconds=10, rms_db=-60, rate=16_000), 16_000) == []


def test_speech_without_any_pause_is_cut_all_the_same():
    x = np.concatenate([noise(seconds=1, rms_db=-65, rate=16_000), noise(seconds=40, rms_db=-20, rate=16_000)])
    assert all(len(c.span) <= (LONGEST_S + 0.5) * 16_000 for c in chunks_of(x, 16_000))
