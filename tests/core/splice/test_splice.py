"""Boundaries, level match, seams."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from support.sounds import noise, sine

from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import ToneSource
from faithful_reel.core.splice.boundaries import Pair, Side, best_pair
from faithful_reel.core.splice.place import Choice, level_match, planned_splice
from faithful_reel.core.splice.seam import Likeness, Seam, likeness, natural_seam, seam_at
from faithful_reel.core.units import Span

RATE = 44_100
TONE = ToneSource("t", 0, 1000)


def words(lengths, gaps, *, db=-18.0, floor=-66.0, seed=1):
    """Bursts of voice with given lengths and the pauses after them, in seconds: sound, (start, stop) of each."""
    parts, edges, at = [], [], 0
    parts.append(np.zeros(round(0.3 * RATE)))
    at += len(parts[0])
    for k, (length, gap) in enumerate(zip(lengths, gaps, strict=True)):
        n = round(length * RATE)
        voice = sine(140 + 10 * k, seconds=length, db=db) + 0.3 * sine(1200, seconds=length, db=db)
        voice[: n // 20] *= np.linspace(0, 1, n // 20)
        voice[-(n // 20) :] *= np.linspace(1, 0, n // 20)
        parts += [voice, np.zeros(round(gap * RATE))]
        edges.append((at, at + n))
        at += n + round(gap * RATE)
    x = np.concatenate(parts)
    return (x + noise(seconds=len(x) / RATE + 1, rms_db=floor, seed=seed)[: len(x)]).astype(np.float32), edges


def side(x, edges):
    bounds = [(0, edges[0][0]), *((a[1], b[0]) for a, b in itertools.pairwise(edges)), (edges[-1][1], len(x))]
    gaps = tuple(Span(a, b) for a, b in bounds)
    return Side(x, 0, gaps, gaps, tuple(Span(a, b) for a, b in edges))


def ranked(sides, tokens, *, entering, nearest):
    return Pair(*sides, RATE).ranked(tokens, entering=entering, nearest=nearest)


LENGTHS = [0.3, 0.4, 0.25, 0.5]
GAPS = [0.2, 0.01, 0.3, 0.4]


@pytest.fixture
def sides():
    return side(*words(LENGTHS, GAPS)), side(*words(LENGTHS, GAPS, db=-26.0, seed=5))


def test_a_real_pause_beats_words_that_run_together(sides):
    found = ranked(sides, range(4), entering=True, nearest=3)
    assert found[-1].token == 2  # 10 ms only
    assert found[0].token in (0, 1, 3)


def test_the_cut_stands_before_the_onset_at_the_same_distance_in_both(sides):
    for boundary in ranked(sides, range(4), entering=True, nearest=3):
        if boundary.in_pause:
            left = sides[0].entering[boundary.token].stop - boundary.original
            right = sides[1].entering[boundary.token].stop - boundary.take
            assert abs(left - right) <= 0.004 * RATE  # a frame of what they are laid over one another by
            assert left - boundary.crossfade / 2 >= 0.006 * RATE  # the consonant is whole


def test_a_pair_leaves_some_of_the_take(sides):
    entering = ranked(sides, range(3), entering=True, nearest=2)
    leaving = ranked(sides, range(3, 5), entering=False, nearest=3)
    first, last = best_pair(entering, leaving)
    assert first.take < last.take
    assert first.token <= last.token
    with pytest.raises(EditRefused):
        best_pair(leaving, [])


def test_the_level_of_the_take_is_matched():
    a, b = words(LENGTHS, GAPS, db=-18.0)[0], words(LENGTHS, GAPS, db=-26.0)[0]
    assert level_match(a, b, RATE) == pytest.approx(8.0, abs=0.3)
    assert level_match(a, a * 0.001, RATE) == 15.0  # never more


def test_a_plan_replaces_the_changed_words_and_no_more_than_needed(sides):
    plan = planned_splice(*sides, range(2, 3), RATE, recording="take", tone=TONE)
    assert plan.chosen_in.token <= 2
    assert plan.chosen_out.token >= 3
    assert plan.command.stop > plan.command.start
    assert plan.command.take_stop > plan.command.take_start
    louder = planned_splice(*sides, range(2, 3), RATE, recording="take", tone=TONE, gain_db=8.0)
    assert louder.gain_db == louder.command.gain_db == 8.0


def test_other_proposals_can_be_chosen(sides):
    best = planned_splice(*sides, range(3, 4), RATE, recording="take", tone=TONE)
    other = planned_splice(*sides, range(3, 4), RATE, recording="take", tone=TONE, choice=Choice(1, 0))
    assert other.chosen_in == best.entering[1]
    with pytest.raises(EditRefused):
        planned_splice(*sides, range(3, 4), RATE, recording="take", tone=TONE, choice=Choice(99, 0))


def test_a_line_that_was_not_heard_has_no_place(sides):
    deaf = Side(sides[0].sound, 0, (None,) * 5, (None,) * 5)
    with pytest.raises(EditRefused):
        planned_splice(deaf, sides[1], range(4), RATE, recording="take", tone=TONE)


def test_an_end_moved_by_hand_gives_on_one_side_what_it_takes_on_the_other(sides):
    best = planned_splice(*sides, range(2, 3), RATE, recording="take", tone=TONE).command
    moved = planned_splice(
        *sides, range(2, 3), RATE, recording="take", tone=TONE, choice=Choice(moved_in=40, moved_out=-7)
    ).command
    assert (moved.start, moved.take_start) == (best.start + 40, best.take_start + 40)
    assert (moved.stop, moved.take_stop) == (best.stop - 7, best.take_stop - 7)


@pytest.mark.parametrize("late", [-0.09, -0.03, 0.05, 0.12])
def test_an_edge_that_was_told_wrong_is_found_by_the_sound(sides, late):
    original, take = sides
    off = round(late * RATE)
    word = take.words[3]
    wrong = Span(word.start + off, word.stop + off)
    gaps = tuple(Span(g.start, g.stop + off) if k == 3 else g for k, g in enumerate(take.entering))
    told = Side(take.sound, 0, gaps, take.leaving, (*take.words[:3], wrong))
    right = ranked(sides, [3], entering=True, nearest=3)[0]
    found = ranked((original, told), [3], entering=True, nearest=3)[0]
    apart = (found.take - found.original) - (right.take - right.original)
    assert abs(apart) <= 0.008 * RATE


def test_where_words_touch_two_copies_meet_to_the_sample(sides):
    original = sides[0]
    shift = 333
    moved = np.concatenate([np.zeros(shift, np.float32), original.sound])
    gaps = tuple(Span(g.start + shift, g.stop + shift) for g in original.entering)
    copy = Side(moved, 0, gaps, gaps, tuple(Span(w.start + shift, w.stop + shift) for w in original.words))
    [found] = [b for b in ranked((original, copy), range(1, 4), entering=True, nearest=2) if not b.in_pause]
    assert found.take - found.original == shift
    assert found.like


def test_a_take_that_begins_with_its_first_sample_is_not_read_before_it(sides):
    take = sides[1]
    first = take.words[0].start
    cut = Side(take.sound[first:], first, (Span(first, first), *take.entering[1:]), take.leaving, take.words)
    for boundary in ranked((sides[0], cut), [0], entering=True, nearest=0):
        assert boundary.take >= first


def test_seam_tells_a_level_step():
    x, edges = words([0.5] * 4, [0.25] * 4)
    at = (edges[1][1] + edges[2][0]) // 2
    y = x.copy()
    y[at:] *= 10 ** (6 / 20)
    assert seam_at(y, at, RATE).level_step_db == pytest.approx(6.0, abs=0.7)
    assert abs(seam_at(x, at, RATE).level_step_db) < 0.7


def test_seam_tells_a_floor_step():
    x, edges = words([0.5] * 4, [0.25] * 4, floor=-70)
    at = (edges[1][1] + edges[2][0]) // 2
    y = x.copy()
    y[at:] += noise(seconds=len(x) / RATE + 1, rms_db=-58, seed=9)[: len(x) - at]
    assert seam_at(y, at, RATE).floor_step_db > 9


def test_seam_tells_another_tone():
    x, edges = words([0.5] * 4, [0.25] * 4)
    at = (edges[1][1] + edges[2][0]) // 2
    y = x.copy()
    y[at:] = np.convolve(y[at:], np.ones(40) / 40, "same")
    assert seam_at(y, at, RATE).tone_step_db > seam_at(x, at, RATE).tone_step_db + 2


def test_seam_tells_a_click():
    x, edges = words([0.5] * 4, [0.25] * 4)
    at = (edges[1][1] + edges[2][0]) // 2
    y = x.copy()
    y[at:] += 0.02
    assert seam_at(y, at, RATE).click_db > 15
    assert seam_at(x, at, RATE).click_db < 6


def test_natural_boundaries_give_the_measure():
    x, edges = words([0.5] * 6, [0.25] * 6)
    at = [(a[1] + b[0]) // 2 for a, b in itertools.pairwise(edges)]
    natural = natural_seam(x, at, RATE)
    assert natural is not None
    assert natural.level_step_db < 2
    assert natural_seam(x, [], RATE) is None


@pytest.mark.parametrize(
    ("seam", "told"),
    [
        (Seam(-5.0, 3.0, 6.0, 2.0), Likeness.WITHIN),
        (Seam(-5.9, 3.0, 6.0, 2.0), Likeness.CLOSE),
        (Seam(-5.0, 3.0, 7.3, 2.0), Likeness.OUT),
        (Seam(-5.0, 3.0, 6.0, 4.1), Likeness.OUT),
    ],
)
def test_a_join_is_told_beside_natural_boundaries(seam, told):
    assert likeness(seam, Seam(5.0, 4.0, 6.0, 4.0)) is told
