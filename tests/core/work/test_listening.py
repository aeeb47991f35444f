"""What counts as listened to: by recordings, so that edits do not move it, and joins are to be heard again."""

from __future__ import annotations

import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_reel.core.reel.commands import CutAndClose, CutAndFill, SetGain, ToneSource
from faithful_reel.core.reel.reel import reel_of
from faithful_reel.core.units import Span
from faithful_reel.core.work.listening import after_edit, merged, share, sources, unheard, without

RATE = 100
REEL = reel_of("r", 2000)
ROWS = st.lists(st.tuples(st.sampled_from("ab"), st.integers(0, 40), st.integers(0, 40)), max_size=8)


def points(rows):
    return {(r, k) for r, a, b in rows for k in range(a, b)}


@given(ROWS)
def test_merged_stretches_cover_the_same_and_do_not_touch(rows):
    found = merged(rows)
    assert points(found) == points(rows)
    assert all(a[0] != b[0] or a[2] < b[1] for a, b in itertools.pairwise(found))


@given(ROWS, ROWS)
def test_without_is_the_difference_of_sets(rows, gone):
    rows, gone = merged(rows), merged(gone)
    assert points(without(rows, gone)) == points(rows) - points(gone)


@given(st.integers(0, 1999), st.integers(1, 500), ROWS)
def test_heard_and_unheard_are_all_of_the_reel(start, length, rows):
    reel = CutAndClose(start, min(2000, start + length)).apply(REEL)
    listened = merged(("r", a * 50, b * 50) for _, a, b in rows)
    left = unheard(reel, listened)
    assert all(0 <= s.start < s.stop <= len(reel) for s in left)
    there = {p for _, p in points(listened)}
    heard = sum(k in there for k in range(2000) if not start <= k < start + length)
    assert sum(map(len, left)) == len(reel) - heard
    assert share(reel, left) == pytest.approx(heard / len(reel))


def test_what_was_played_is_known_by_its_recording():
    reel = CutAndClose(500, 700).apply(REEL)
    assert sources(reel, Span(400, 600)) == (("r", 400, 500), ("r", 700, 800))
    assert unheard(reel, (("r", 0, 500), ("r", 700, 1900))) == [Span(1700, 1800)]


def test_room_tone_needs_no_ear():
    reel = CutAndFill(500, 700, ToneSource("r", 0, 100)).apply(REEL)
    assert unheard(reel, (("r", 0, 500), ("r", 700, 2000))) == []


def test_a_new_join_is_to_be_heard_again_and_an_old_one_is_not():
    all_of_it = (("r", 0, 2000),)
    once = CutAndClose(500, 700).apply(REEL)
    left = after_edit(all_of_it, REEL, once, RATE)
    assert left == (("r", 0, 400), ("r", 500, 700), ("r", 800, 2000))
    assert unheard(once, left) == [Span(400, 600)]
    again = merged((*left, *sources(once, Span(400, 600))))
    twice = CutAndClose(1500, 1600).apply(once)
    assert unheard(twice, after_edit(again, once, twice, RATE)) == [Span(1400, 1600)]


def test_a_changed_gain_is_heard_at_its_ends():
    louder = SetGain(600, 900, 3.0).apply(REEL)
    assert unheard(louder, after_edit((("r", 0, 2000),), REEL, louder, RATE)) == [Span(500, 700), Span(800, 1000)]


def test_nothing_changes_without_an_edit():
    rows = (("r", 5, 9),)
    assert after_edit(rows, REEL, REEL, RATE) is rows
    assert after_edit((), REEL, CutAndClose(5, 9).apply(REEL), RATE) == ()
