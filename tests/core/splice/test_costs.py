"""Where a join is proposed, to the sample, and what makes one proposal dearer than another."""

from __future__ import annotations

import numpy as np
import pytest
from support.sounds import noise, sine

from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import ToneSource
from faithful_reel.core.reel.reel import Join
from faithful_reel.core.splice.boundaries import Boundary, Pair, Side, best_pair, next_valley
from faithful_reel.core.splice.place import MOST_GAIN_DB, Choice, level_match, planned_splice, speech_level
from faithful_reel.core.splice.seam import Likeness, Seam, likeness, natural_seam, seam_at
from faithful_reel.core.units import Span

RATE = 10_000
WORD = 3000


def even(*gaps, offset=0, level=0.1, seed=1):
    """Words of 0.3 s of noise of one level, pauses as loud, so that only gaps and words count: gaps in seconds."""
    spans, at = [], offset + RATE
    for gap in gaps:
        spans.append(Span(at, at + round(gap * RATE)))
        at += round(gap * RATE) + WORD
    x = np.full(at - offset + RATE, level, np.float32)
    x[1::2] *= -1
    return Side(x, offset, tuple(spans), tuple(spans))


def ranked(a, b, tokens, *, entering=True, nearest=0):
    return Pair(a, b, RATE).ranked(tokens, entering=entering, nearest=nearest)


@pytest.mark.parametrize("gap", [0.5, 0.2, 0.06, 0.24, 0.3])
def test_the_cut_keeps_its_distance_from_the_word_in_both_sounds(gap):
    a, b = even(gap, 0.5), even(gap + 0.1, 0.5, offset=777)
    [into] = ranked(a, b, [0])
    distance = a.entering[0].stop - into.original
    assert b.entering[0].stop - into.take == distance
    assert 0.013 * RATE <= distance <= len(a.entering[0])
    [out] = ranked(a, b, [0], entering=False)
    distance = out.original - a.leaving[0].start
    assert out.take - b.leaving[0].start == distance
    assert 0 < distance <= len(a.leaving[0])
    for found in (into, out):
        assert found.gap_s == pytest.approx(gap)
        assert 2 <= found.crossfade <= 0.2 * RATE
        assert found.crossfade % 2 == 0
        assert not found.like


def test_the_crossfade_is_no_longer_than_the_quiet_that_is_there():
    side = even(0.6)
    gap = side.entering[0]
    side.sound[gap.start : gap.start + 4000] = 0.0001  # quiet but for the last 0.2 s, which a breath fills
    [found] = ranked(side, side, [0])
    assert found.original + found.crossfade // 2 <= gap.start + 4000
    assert found.crossfade > 0.1 * RATE


def test_a_longer_pause_is_cheaper_up_to_a_quarter_second():
    side = even(0.1, 0.2, 0.25, 0.6)
    costs = {b.token: b.score for b in ranked(side, side, range(4), nearest=1)}
    assert costs[0] == pytest.approx(-4 + 1.5)
    assert costs[1] == pytest.approx(-8)
    assert costs[2] == pytest.approx(-10 + 1.5)
    assert costs[3] == pytest.approx(-10 + 3.0)


def test_far_from_what_must_change_only_pauses_are_looked_for():
    side = even(*([0.02] * 9), 0.3)
    tokens = {b.token for b in ranked(side, side, range(10), nearest=0)}
    assert tokens == {0, 1, 2, 3, 4, 5, 9}


def test_of_like_pauses_the_one_that_replaces_fewest_words_is_first():
    side = even(0.3, 0.3, 0.3, 0.3)
    assert [b.token for b in ranked(side, side, range(4), nearest=3)] == [3, 2, 1, 0]
    assert ranked(side, side, range(4), nearest=1, entering=False)[0].token == 1
    scores = [b.score for b in ranked(side, side, range(4), nearest=3)]
    assert np.diff(scores) == pytest.approx([1.5, 1.5, 1.5])


def test_the_shorter_of_the_two_pauses_counts_and_the_louder_of_the_two_sounds():
    long_, short = even(0.6), even(0.1)
    assert ranked(long_, short, [0])[0].score == pytest.approx(-4)
    assert ranked(short, long_, [0])[0].score == pytest.approx(-4)
    louder = even(0.6, level=0.2)
    step = 20 * np.log10(2)
    assert ranked(long_, louder, [0])[0].score == pytest.approx(-10 + step + 0.3 * step, abs=0.02)
    assert ranked(louder, long_, [0])[0].score == pytest.approx(-10 + 0.3 * step, abs=0.02)  # beside speech as loud


def test_words_that_were_not_heard_beside_it_give_no_boundary():
    side = even(0.3, 0.3, 0.3)
    holed = Side(side.sound, side.offset, (None, *side.entering[1:]), (*side.leaving[:2], None))
    assert [b.token for b in ranked(holed, side, range(3), nearest=0)] == [1, 2]
    assert [b.token for b in ranked(side, holed, range(3), nearest=0, entering=False)] == [0, 1]


def test_where_words_run_together_both_cuts_lie_within_their_reach():
    a, b = even(0.02), even(0.02, offset=500)
    [found] = ranked(a, b, [0])
    for side, at in ((a, found.original), (b, found.take)):
        assert abs(at - side.entering[0].stop) <= round(0.036 * RATE)
    assert not found.in_pause
    assert found.score > ranked(even(0.3), even(0.3), [0])[0].score + 10  # a pause is dear to it


@pytest.mark.parametrize(("alike_s", "seconds"), [(0.5, 0.16), (0.05, 0.05), (0.02, 0.02), (0.0, 0.01)])
def test_where_words_touch_the_crossfade_is_as_long_as_both_readings_are_alike(alike_s, seconds):
    a, b = even(0.0), even(0.0)
    a.sound[:], b.sound[:] = (noise(seconds=len(a.sound) / RATE, rms_db=-20, seed=k, rate=RATE) for k in (1, 2))
    edge, half = a.entering[0].stop, round(alike_s * RATE / 2)
    b.sound[edge - half : edge + half] = a.sound[edge - half : edge + half]
    assert Pair(a, b, RATE)._shared_length(edge, edge) == round(seconds * RATE)


def test_a_crossfade_in_shared_sound_stays_inside_of_what_there_is():
    side = even(0.0)
    short = Side(side.sound[: RATE + 300], 0, side.entering, side.leaving)
    assert Pair(side, short, RATE)._shared_length(RATE, RATE) == round(0.05 * RATE)


def closed(at_s, *, seed=1, level=0.1, fall=0.2):
    """Noise of 0.6 s, one word, in which there is a closure of 40 ms."""
    x = noise(seconds=3, rms_db=20 * np.log10(level), seed=seed, rate=RATE)
    at = RATE + round(at_s * RATE)
    x[at - 200 : at + 200] *= fall
    word = Span(RATE, RATE + 6000)
    return Side(x, 0, (Span(RATE, RATE), Span(word.stop, word.stop)), (Span(RATE, RATE), Span(word.stop, word.stop)), (word,))


@pytest.mark.parametrize(("fall", "first"), [(0.2, "edge"), (0.003, "inside")])
def test_a_closure_inside_a_word_that_both_read_is_proposed_and_first_only_where_it_is_all_but_silent(fall, first):
    a = closed(0.3, fall=fall)
    b = Side(a.sound * np.float32(0.7), 0, a.entering, a.leaving, a.words)
    found = ranked(a, b, [1], entering=True, nearest=1)
    assert len(found) == 2
    edge, inside = found if first == "edge" else found[::-1]
    assert abs(edge.original - a.entering[1].stop) < 400
    assert abs(inside.original - (RATE + 3000)) < 250
    assert inside.take == pytest.approx(inside.original, abs=100)
    assert not inside.in_pause


def test_no_join_is_proposed_inside_a_word_without_a_closure_or_that_is_read_once():
    a = closed(0.3)
    steady = noise(seconds=3, rms_db=-20, seed=1, rate=RATE)
    plain = Side(steady, 0, a.entering, a.leaving, a.words)
    assert len(ranked(plain, plain, [1], entering=True, nearest=1)) == 1
    unheard = Side(a.sound, 0, a.entering, a.leaving, (None,))
    assert len(ranked(a, unheard, [1], entering=True, nearest=1)) == 1
    assert len(ranked(a, a, [0], entering=False, nearest=3)) == 1  # too far away


def paused(breaths, *, gap=1.0, seed=5):
    """Two words with a pause between them in which breaths lie, (start, stop) in seconds from its beginning."""
    x = np.random.default_rng(seed).standard_normal(round((2.6 + gap) * RATE)).astype(np.float32) * np.float32(1e-4)
    first, second = Span(RATE, RATE + 3000), Span(RATE + 3000 + round(gap * RATE), RATE + 6000 + round(gap * RATE))
    for word in (first, second):
        x[word.start : word.stop] *= 1000
    for start, stop in breaths:
        x[first.stop + round(start * RATE) : first.stop + round(stop * RATE)] *= 20
    gaps = (Span(0, first.start), Span(first.stop, second.start), Span(second.stop, len(x)))
    return Side(x, 0, gaps, gaps, (first, second))


EARLY, LATE = (0.15, 0.4), (0.6, 0.85)


@pytest.mark.parametrize(
    ("original", "take", "left"),
    [((EARLY,), (LATE,), 1), ((LATE,), (EARLY,), 1), ((EARLY,), (EARLY,), 1), ((EARLY,), (), 1), ((), (LATE,), 1), ((), (), 0)],
)
@pytest.mark.parametrize("entering", [True, False])
def test_a_pause_keeps_one_breath_whichever_side_breathes(original, take, left, entering):
    if not entering:  # the take comes first
        original, take = take, original
    a, b = paused(original), paused(take, seed=9)
    [found] = [f for f in ranked(a, b, [1], entering=entering, nearest=1) if f.in_pause]
    spans = [[(RATE + 3000 + round(s * RATE), RATE + 3000 + round(e * RATE)) for s, e in side] for side in (original, take)]
    before, after = spans if entering else spans[::-1]
    at = (found.original, found.take) if entering else (found.take, found.original)
    assert sum(stop <= at[0] + 60 for _, stop in before) + sum(start >= at[1] - 60 for start, _ in after) == left
    assert not any(start + 60 < at[0] < stop - 60 for start, stop in before)
    assert not any(start + 60 < at[1] < stop - 60 for start, stop in after)


def test_breaths_are_let_be_where_they_are_to_be():
    a, b = paused((EARLY,)), paused((LATE,), seed=9)
    [both] = [f for f in Pair(a, b, RATE, one_breath=False).ranked([1], entering=True, nearest=1) if f.in_pause]
    assert RATE + 3000 + round(0.4 * RATE) - 60 <= both.original <= RATE + 3000 + round(0.6 * RATE) + 60  # between: both stay


@pytest.mark.parametrize("early", [0, 20, 200])
@pytest.mark.parametrize("entering", [True, False])
def test_a_recording_that_begins_or_ends_with_the_line_can_still_be_joined_there(early, entering):
    """A take that was cut off with its first or last sample: there is one place, and it lies inside of the sound."""
    a = even(0.02, 0.02, 0.3)
    whole = even(0.02, 0.02, 0.3)
    word = whole.entering[1].stop, whole.leaving[2].start
    first, last = (word[0] - early, len(whole.sound)) if entering else (0, word[1] + early)
    gaps = whole.entering if entering else whole.leaving
    b = Side(whole.sound[first:last], first, gaps, gaps, ())
    [found] = ranked(a, b, [1 if entering else 2], entering=entering, nearest=1 if entering else 2)
    assert b.holds(found.take)
    assert a.holds(found.original)
    assert found.take == pytest.approx(word[0] if entering else word[1], abs=0.04 * RATE)


@pytest.mark.parametrize("late", range(-50, 51, 10))
def test_waves_are_not_brought_together_beyond_the_end_of_a_recording(late):
    a = even(0.0, 0.0)
    t = np.arange(len(a.sound))
    tone = np.sin(2 * np.pi * 90 * t / RATE).astype(np.float32) * np.linspace(0.1, 0.2, len(t), dtype=np.float32)
    end = a.leaving[1].start
    b = Side(np.roll(tone, late)[:end], 0, a.entering, a.leaving, ())
    [found] = ranked(Side(tone, 0, a.entering, a.leaving, ()), b, [1], entering=False)
    assert b.holds(found.take)


@pytest.mark.parametrize("way", [1, -1])
def test_the_next_quiet_place(way):
    x = noise(seconds=1, rms_db=-20, rate=RATE)
    for at in (3000, 4400, 5600, 7000):
        x[at - 100 : at + 100] *= 0.05
    assert 5000 + next_valley(x, 5000, way, RATE) == pytest.approx(5600 if way > 0 else 4400, abs=80)
    assert next_valley(noise(seconds=1, rms_db=-20, rate=RATE) * 0, 5000, way, RATE) == 0
    assert next_valley(x[:20], 5, way, RATE) == 0


def test_levels_of_a_stretch():
    side = even(0.3, offset=100)
    assert side.level(200, 900) == pytest.approx(-20, abs=0.01)
    assert side.level(-500, 150) == pytest.approx(-20, abs=0.01)
    assert side.level(900, 900) == -120.0
    assert Side(np.zeros(10, np.float32), 0, (), ()).level(0, 10) == pytest.approx(-120)


def boundary(token, at, take, score=0.0):
    return Boundary(token, at, take, score, 80, 0.1)


def test_the_best_pair_is_the_cheapest_that_leaves_some_of_the_take():
    entering = [boundary(1, 100, 100, 0.0), boundary(0, 50, 50, 2.0)]
    leaving = [boundary(1, 100, 100, -5.0), boundary(3, 300, 300, 0.0), boundary(2, 90, 200, -1.0)]
    first, last = best_pair(entering, leaving)
    assert (first.token, last.token) == (0, 1)  # 2 - 5; together with token 1 nothing of the take is left
    first, last = best_pair(entering[:1], leaving[1:])
    assert (first.token, last.token) == (1, 3)  # the other one would end before it begins
    with pytest.raises(EditRefused, match="No place was found"):
        best_pair(entering[:1], leaving[:1])
    with pytest.raises(EditRefused):
        best_pair([], leaving)
    with pytest.raises(EditRefused):
        best_pair([boundary(2, 10, 10)], [boundary(1, 20, 20)])
    same = best_pair([boundary(0, 100, 10)], [boundary(0, 100, 20)])
    assert [b.take for b in same] == [10, 20]


# --- the plan ---------------------------------------------------------------------------------------------------------


def planned(changed, **more):
    a, b = even(0.3, 0.3, 0.3, 0.3, 0.3), even(0.3, 0.3, 0.3, 0.3, 0.3, offset=500)
    return a, b, planned_splice(a, b, changed, RATE, recording="r2", tone=ToneSource("t", 0, 9), take_id="p", **more)


def test_a_plan_replaces_the_words_that_changed_and_no_more():
    a, b, plan = planned(range(1, 3), gain_db=6.0)
    assert (plan.chosen_in.token, plan.chosen_out.token) == (1, 3)
    assert {x.token for x in plan.entering} == {0, 1}
    assert {x.token for x in plan.leaving} == {3, 4}
    command = plan.command
    assert (command.start, command.stop) == (plan.chosen_in.original, plan.chosen_out.original)
    assert (command.take_start, command.take_stop) == (plan.chosen_in.take, plan.chosen_out.take)
    assert a.entering[1].stop - command.start == b.entering[1].stop - command.take_start
    assert command.stop - a.leaving[3].start == command.take_stop - b.leaving[3].start
    assert (command.recording, command.take, command.tone) == ("r2", "p", ToneSource("t", 0, 9))
    assert command.join_in == Join(plan.chosen_in.crossfade, "equal_power")
    assert command.join_out == Join(plan.chosen_out.crossfade, "equal_power")
    assert plan.gain_db == command.gain_db == 6.0


def test_a_pair_by_hand():
    *_, plan = planned(range(1, 3), choice=Choice(1, 1))
    assert (plan.chosen_in.token, plan.chosen_out.token) == (0, 4)
    for wrong in (Choice(2, 0), Choice(0, 2)):
        with pytest.raises(EditRefused, match="no such boundary"):
            planned(range(1, 3), choice=wrong)


def test_a_pair_by_hand_that_leaves_nothing_is_refused():
    with pytest.raises(EditRefused, match="leave nothing"):
        planned(range(1, 3), choice=Choice(moved_in=50_000))
    with pytest.raises(EditRefused, match="leave nothing"):
        planned(range(1, 3), choice=Choice(moved_out=-50_000))


def test_a_take_is_made_as_loud_within_bounds():
    loud, soft = sine(300, seconds=2, db=-10, rate=RATE), sine(300, seconds=2, db=-18, rate=RATE)
    assert level_match(loud, soft, RATE) == pytest.approx(8, abs=0.05)
    assert level_match(soft, loud, RATE) == pytest.approx(-8, abs=0.05)
    assert level_match(loud, soft * 0.01, RATE) == MOST_GAIN_DB
    assert level_match(soft * 0.01, loud, RATE) == -MOST_GAIN_DB
    assert speech_level(np.zeros(3, np.float32), RATE) == -120.0
    burst = np.concatenate([soft, soft[: len(soft) // 10] * 8, np.full(RATE, 1e-4, np.float32)])
    assert speech_level(burst, RATE) == pytest.approx(speech_level(soft, RATE), abs=0.5)  # one loud word, and a pause


# --- seams ------------------------------------------------------------------------------------------------------------


def spoken(levels, floors, rate=44_100):
    """Voice of 0.5 s and pause of 0.3 s in turn, each with its own level."""
    parts = []
    for k, (level, floor) in enumerate(zip(levels, floors, strict=True)):
        parts.append(noise(seconds=0.5, rms_db=level, seed=k, rate=rate))
        parts.append(noise(seconds=0.3, rms_db=floor, seed=100 + k, rate=rate))
    return np.concatenate(parts)


def test_steps_have_their_sign_and_size():
    rate = 44_100
    x = spoken([-20, -20, -12, -12], [-70, -70, -60, -60])
    at = round(1.6 * rate)
    seam = seam_at(x, at, rate)
    assert seam.level_step_db == pytest.approx(8, abs=0.5)
    assert seam.floor_step_db == pytest.approx(10, abs=1)
    back = seam_at(x[::-1].copy(), len(x) - at, rate)
    assert back.level_step_db == pytest.approx(-8, abs=0.7)
    assert seam.tone_step_db < 2


def test_a_seam_with_silence_on_one_side_has_no_steps():
    rate = 44_100
    x = np.concatenate([noise(seconds=1, rms_db=-70), noise(seconds=1, rms_db=-70, seed=2)])
    seam = seam_at(x, rate, rate)
    assert abs(seam.level_step_db) < 1
    assert seam_at(np.zeros(4, np.float32), 2, rate) == Seam(0.0, 0.0, 0.0, 0.0)


def test_a_click_is_found_within_three_milliseconds_and_not_further():
    rate = 44_100
    x = noise(seconds=1, rms_db=-50)
    near, far = x.copy(), x.copy()
    near[rate // 2 + 100] += 0.5
    far[rate // 2 + 200] += 0.5
    assert seam_at(near, rate // 2, rate).click_db > 30
    assert seam_at(far, rate // 2, rate).click_db < 6
    assert seam_at(near, 200, rate).click_db < 6


def test_natural_figures_are_the_greatest_of_all():
    rate = 44_100
    x = spoken([-20, -26, -20, -20], [-70, -70, -70, -62])
    places = [round(s * rate) for s in (0.8, 1.6, 2.4)]
    natural = natural_seam(x, places, rate)
    seams = [seam_at(x, at, rate) for at in places]
    assert natural.level_step_db == max(abs(s.level_step_db) for s in seams)
    assert natural.floor_step_db == max(abs(s.floor_step_db) for s in seams)
    assert natural.tone_step_db == max(s.tone_step_db for s in seams)
    assert natural.click_db == max(s.click_db for s in seams)
    assert natural.as_json() == {k: round(v, 2) for k, v in natural.as_json().items()}


@pytest.mark.parametrize(
    ("seam", "natural", "told"),
    [
        (Seam(1.0, 1.0, 1.0, 3.0), Seam(0.1, 0.1, 0.1, 0.1), Likeness.WITHIN),  # under 1 dB nothing stands out
        (Seam(1.1, 0.0, 0.0, 0.0), Seam(0.1, 0.1, 0.1, 0.1), Likeness.CLOSE),
        (Seam(0.0, -1.1, 0.0, 0.0), Seam(0.1, 0.1, 0.1, 0.1), Likeness.CLOSE),
        (Seam(0.0, 0.0, 1.3, 0.0), Seam(0.1, 0.1, 0.1, 0.1), Likeness.OUT),
        (Seam(0.0, 0.0, 0.0, 3.1), Seam(9, 9, 9, 0.1), Likeness.OUT),
        (Seam(6.0, 0.0, 0.0, 0.0), Seam(5.0, 9, 9, 9), Likeness.CLOSE),
        (Seam(6.1, 0.0, 0.0, 0.0), Seam(5.0, 9, 9, 9), Likeness.OUT),
    ],
)
def test_a_join_beside_natural_ones(seam, natural, told):
    assert likeness(seam, natural) is told
