"""Boundaries, level match, seams."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from support.sounds import noise, sine

from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import ToneSource
from faithful_reel.core.splice.boundaries import Side, best_pair, ranked_boundaries
from faithful_reel.core.splice.place import level_match, planned_splice
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
    return Side(x, 0, gaps, gaps)


LENGTHS = [0.3, 0.4, 0.25, 0.5]
GAPS = [0.2, 0.01, 0.3, 0.4]


@pytest.fixture
def sides():
    return side(*words(LENGTHS, GAPS)), side(*words(LENGTHS, GAPS, db=-26.0, seed=5))


def test_a_real_pause_beats_words_that_run_together(sides):
    ranked = ranked_boundaries(*sides, range(4), RATE, entering=True, nearest=3)
    assert ranked[-1].token == 2  # 10 ms only
    assert ranked[0].token in (0, 1, 3)


def test_the_cut_stands_before_the_onset_at_the_same_distance_in_both(sides):
    for boundary in ranked_boundaries(*sides, range(4), RATE, entering=True, nearest=3):
        if boundary.gap_s >= 0.045:
            left = sides[0].entering[boundary.token].stop - boundary.original
            right = sides[1].entering[boundary.token].stop - boundary.take
            assert left == right >= 0.01 * RATE


def test_a_pair_leaves_some_of_the_take(sides):
    entering = ranked_boundaries(*sides, range(3), RATE, entering=True, nearest=2)
    leaving = ranked_boundaries(*sides, range(3, 5), RATE, entering=False, nearest=3)
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
    assert plan.gain_db == pytest.approx(8.0, abs=0.5)
    assert plan.command.stop > plan.command.start
    assert planned_splice(*sides, range(2, 3), RATE, recording="take", tone=TONE, match_level=False).gain_db == 0.0


def test_other_proposals_can_be_chosen(sides):
    best = planned_splice(*sides, range(3, 4), RATE, recording="take", tone=TONE)
    other = planned_splice(*sides, range(3, 4), RATE, recording="take", tone=TONE, choose=(1, 0))
    assert other.chosen_in == best.entering[1]
    with pytest.raises(EditRefused):
        planned_splice(*sides, range(3, 4), RATE, recording="take", tone=TONE, choose=(99, 0))


def test_a_line_that_was_not_heard_has_no_place(sides):
    deaf = Side(sides[0].sound, 0, (None,) * 5, (None,) * 5)
    with pytest.raises(EditRefused):
        planned_splice(deaf, sides[1], range(4), RATE, recording="take", tone=TONE)


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
