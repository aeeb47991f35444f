"""Spoken words compared by their sound."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.signal import lfilter

from faithful_reel.core.hear.likeness import cepstra, odd_ones, unlikeness
from faithful_reel.core.units import EAR_RATE

FORMANTS = {"a": (730, 1090), "i": (270, 2290), "u": (300, 870), "e": (530, 1840)}
"""First two formants of four vowels, men's averages (Peterson and Barney, 1952, from memory)."""


def spoken(vowels, *, pitch=120.0, seconds=0.12, level=0.1, seed=1):
    """A row of vowels: a pulse train through two resonances each."""
    parts, phase = [], 0.0
    rng = np.random.default_rng(seed)
    for v in vowels:
        n = round(seconds * EAR_RATE)
        t = phase + np.cumsum(np.full(n, pitch / EAR_RATE))
        phase = t[-1]
        x = (np.diff(np.floor(t), prepend=0) > 0).astype(float) + 0.01 * rng.standard_normal(n)
        for f in FORMANTS[v]:
            r = np.exp(-np.pi * 90 / EAR_RATE)
            x = lfilter([1.0], [1, -2 * r * np.cos(2 * np.pi * f / EAR_RATE), r * r], x)
        parts.append(x)
    y = np.concatenate(parts)
    return (level * y / np.abs(y).max()).astype(np.float32)


def many(rows):
    return unlikeness([cepstra(x) for x in rows])


def test_the_one_that_is_spoken_otherwise_is_odd():
    rows = [spoken("aie", pitch=110 + 4 * k, seconds=0.11 + 0.005 * k, seed=k) for k in range(5)]
    rows.insert(2, spoken("uie", pitch=115, seed=9))
    assert [i for i, _ in odd_ones(many(rows))] == [2]


def test_alike_ones_are_not_odd_whatever_their_level_and_pace():
    rows = [spoken("aie", pitch=110 + 4 * k, seconds=0.10 + 0.01 * k, level=0.02 * (k + 1), seed=k) for k in range(6)]
    assert odd_ones(many(rows)) == []


def test_two_places_can_not_tell_which_is_odd():
    assert odd_ones(many([spoken("aie"), spoken("uue")])) == []
    assert odd_ones(many([])) == []


def test_a_place_too_short_to_be_heard_is_left_out():
    rows = [spoken("ai", seed=k) for k in range(4)] + [np.zeros(50, np.float32)]
    table = many(rows)
    assert np.isinf(table[4, :4]).all()
    assert odd_ones(table) == []


def slow(a, b):
    """The textbook recursion with its own table: Sakoe and Chiba (1978), symmetric form."""
    n, m = len(a), len(b)
    d = np.sqrt(((a[:, None] - b[None]) ** 2).sum(-1))
    g = np.full((n + 1, m + 1), np.inf)
    g[0, 0] = 0
    for i in range(1, n + 1):
        for j in range(1, m + 1):
            g[i, j] = min(g[i - 1, j - 1] + 2 * d[i - 1, j - 1], g[i - 1, j] + d[i - 1, j - 1], g[i, j - 1] + d[i - 1, j - 1])
    return g[n, m] / (n + m)


@given(st.integers(1, 7), st.integers(1, 7), st.integers(0, 99))
def test_the_warped_distance_is_the_textbooks(n, m, seed):
    rng = np.random.default_rng(seed)
    a, b = (rng.standard_normal((k, 13)).astype(np.float32) for k in (n, m))
    table = unlikeness([a, b])
    assert table[0, 1] == pytest.approx(slow(a, b), rel=1e-4)
    assert table[0, 0] == 0
    assert table[0, 1] == table[1, 0]
