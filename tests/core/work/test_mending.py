"""What stands between the book and the window: places of words, mending, splicing a pickup, the demo book."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from support.chapters import LENGTH, RATE, STEP, TEXT, TOKENS, TONE, made, place
from support.sounds import sine

from faithful_reel.core.book.pickups import placed_span
from faithful_reel.core.collate.findings import Evidence, Finding, Kind
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.pickups.ledger import Pickup, Take
from faithful_reel.core.reel.commands import ChangeGain, CutAndClose, CutAndFill, ReplaceByTake, ToneSource
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.splice.match import Switches
from faithful_reel.core.splice.seam import natural_seam, seam_at
from faithful_reel.core.work.mending import before_onset, by_hand, finding_span, mending_edit, pickup_for, tone_level, tone_of
from faithful_reel.core.work.splicing import placed_joins, preview_splice
from faithful_reel.core.work.timeline import Hearing, span_of, tokens_of, word_at


def test_every_word_stands_where_it_is_heard():
    book, chapter, hearing = made()
    tokens = tokens_of(book, chapter, TOKENS, hearing)
    assert [t.text for t in tokens] == TOKENS
    assert [t.start for t in tokens] == [place(i) for i in range(len(TOKENS))]
    assert span_of(tokens, 2, 3).start == place(2)
    assert span_of(tokens, 2, 3).stop == place(3) + LENGTH


def test_words_move_with_the_cuts_and_vanish_with_them():
    book, chapter, hearing = made()
    cut = replace(chapter, reel=CutAndClose(place(2), place(4)).apply(chapter.reel))
    tokens = tokens_of(book, cut, TOKENS, hearing)
    assert [t.start for t in tokens[:2]] == [place(0), place(1)]
    assert [t.start for t in tokens[2:4]] == [-1, -1]
    assert tokens[4].start == place(2)
    assert span_of(tokens, 2, 3) is None


def test_extra_words_stand_before_the_word_that_follows_them():
    read = [*TOKENS[:4], "+again", *TOKENS[4:]]
    book, chapter, hearing = made(read=read)
    tokens = tokens_of(book, chapter, TOKENS, hearing)
    assert [t.text for t in tokens] == [w.lstrip("+") for w in read]
    assert [t.extra for t in tokens].index(True) == 4


def test_without_a_hearing_words_have_no_place():
    book, chapter, _ = made()
    assert all(t.start == -1 for t in tokens_of(book, chapter, TOKENS, None))


def finding(kind, start, stop, word=4, count=0, heard=""):
    return Finding("f", kind, "", heard, word, count, start, stop, 0.9)


@pytest.mark.parametrize("kind", [Kind.ADDED, Kind.REPEATED, Kind.FALSE_START])
def test_extra_words_are_cut_with_the_pause_behind_them(kind):
    book, chapter, hearing = made(read=[*TOKENS[:4], "+again", *TOKENS[4:]])
    edit = mending_edit(book, chapter, tokens_of(book, chapter, TOKENS, hearing), finding(kind, place(4), place(4) + LENGTH))
    assert isinstance(edit, CutAndClose)
    assert edit.stop - edit.start == STEP
    assert place(3) + LENGTH < edit.start < place(4)
    after = replace(chapter, reel=edit.apply(chapter.reel))
    starts = [t.start for t in tokens_of(book, after, TOKENS, hearing) if t.start >= 0]
    assert [b - a for a, b in itertools.pairwise(starts)] == [STEP] * (len(TOKENS) - 1)


def looks(x):
    """Minima and maxima of an array between positions."""

    def columns(edges):
        at = edges.astype(int)
        return np.array([[x[a:b].min(), x[a:b].max()] for a, b in itertools.pairwise(at)]).T

    return columns


def test_a_cut_goes_to_the_quietest_moment_before_an_onset():
    """A breath fills the pauses but for 40 ms; both ends of the cut go there, and never into the words."""
    book, chapter, hearing = made(read=[*TOKENS[:4], "+again", *TOKENS[4:]])
    x = np.full(len(chapter.reel), 0.05)
    still = round(0.04 * RATE)
    gaps = [place(k) - round(0.09 * RATE) for k in (4, 5)]
    for gap in gaps:
        x[gap : gap + still] = 0.001
    again = finding(Kind.REPEATED, place(4), place(4) + LENGTH)
    edit = mending_edit(book, chapter, tokens_of(book, chapter, TOKENS, hearing), again, looks(x))
    assert all(gap < at < gap + still for gap, at in zip(gaps, (edit.start, edit.stop), strict=True))
    loud = mending_edit(book, chapter, tokens_of(book, chapter, TOKENS, hearing), again, looks(np.full(len(x), 0.05)))
    assert place(3) + LENGTH < loud.start < place(4)
    assert place(4) + LENGTH < loud.stop < place(5)


@given(st.integers(0, 5000), st.integers(1, 3000))
def test_a_cut_lies_in_the_pause(start, length):
    x = np.random.default_rng(length).standard_normal(9000)
    assert start <= before_onset(looks(x), start, start + length, 1000) <= start + length


@pytest.mark.parametrize(("breath", "cut"), [((300, 620), (0, 300)), ((300, 540), (540, 700)), ((60, 700), (0, 60))])
def test_the_next_words_breath_stays_whole(breath, cut):
    """A pause of 700 ms with a breath in it: what is quiet shortly before the word is taken, else what is before the breath."""
    x = np.random.default_rng(3).uniform(-0.004, 0.004, 700)
    x[slice(*breath)] = np.random.default_rng(4).uniform(-0.03, 0.03, breath[1] - breath[0])
    x[620:] *= np.where(breath[1] > 600, 3, 1)  # the room answers to the breath until the word comes
    assert cut[0] <= before_onset(looks(x), 0, 700, 1000) < cut[1]


def test_digital_silence_in_a_pause_does_not_make_a_breath_of_the_room():
    x = np.random.default_rng(3).uniform(-0.001, 0.001, 700)
    x[100:200] = 0
    assert before_onset(looks(x), 0, 700, 1000) > 540


def test_a_long_pause_is_cut_from_its_middle():
    book, chapter, _hearing = made()
    edit = mending_edit(book, chapter, (), finding(Kind.PAUSE, 50_000, 50_000 + 4 * RATE))
    assert isinstance(edit, CutAndClose)
    assert edit.stop - edit.start == pytest.approx(4 * RATE - 0.9 * RATE, abs=2)
    assert mending_edit(book, chapter, (), finding(Kind.PAUSE, 50_000, 60_000)) is None


def flawed(kind, start, stop, flaw, usual):
    return replace(finding(kind, start, stop), evidence=Evidence(flaw=flaw, usual=usual))


def test_a_pause_is_cut_down_to_what_is_usual_with_the_reader():
    book, chapter, _hearing = made()
    pause = flawed(Kind.PAUSE, 50_000, 50_000 + 4 * RATE, "long pause", 0.6)
    edit = mending_edit(book, chapter, (), pause)
    assert edit.stop - edit.start == pytest.approx(4 * RATE - 0.6 * RATE, abs=2)
    short = flawed(Kind.PAUSE, 50_000, 50_000 + round(0.1 * RATE), "short pause", 0.6)
    assert mending_edit(book, chapter, (), short) is None


@pytest.mark.parametrize(("kind", "flaw"), [(Kind.NOISE, "breath"), (Kind.LEVEL, "level jump")])
def test_what_sticks_out_is_brought_to_the_usual_level(kind, flaw):
    book, chapter, _ = made()
    assert mending_edit(book, chapter, (), flawed(kind, 50_000, 60_000, flaw, -5.5)) == ChangeGain(50_000, 60_000, -5.5, "l1")


@pytest.mark.parametrize("flaw", ["plosive", "hum"])
def test_what_is_under_words_is_not_laid_over(flaw):
    book, chapter, _ = made()
    assert mending_edit(book, chapter, (), flawed(Kind.NOISE, 50_000, 60_000, flaw, None)) is None


def test_a_click_in_a_word_is_not_laid_over_and_it_is_said_why():
    book, chapter, hearing = made()
    tokens = tokens_of(book, chapter, TOKENS, hearing)
    click = flawed(Kind.NOISE, place(4) + 900, place(4) + 1400, "click", None)
    assert mending_edit(book, chapter, tokens, click) is None
    assert by_hand(click).startswith("The click lies in a word")
    assert "hum" in by_hand(flawed(Kind.NOISE, 0, 9, "hum", None))


def test_a_noise_is_laid_over_with_the_chapters_tone():
    book, chapter, _ = made()
    edit = mending_edit(book, chapter, (), finding(Kind.NOISE, 50_000, 50_200))
    assert isinstance(edit, CutAndFill)
    assert edit.start < 50_000
    assert edit.stop > 50_200
    assert edit.tone == TONE
    assert tone_of(book, replace(chapter, recording="r2")).recording == ""


@pytest.mark.parametrize("kind", [Kind.MISREAD, Kind.SKIPPED, Kind.LEVEL, Kind.OTHER])
def test_other_kinds_are_for_the_hand(kind):
    book, chapter, hearing = made()
    assert mending_edit(book, chapter, tokens_of(book, chapter, TOKENS, hearing), finding(kind, place(4), place(4) + 10)) is None


def test_what_was_cut_has_no_place_and_nothing_to_mend():
    book, chapter, _ = made()
    cut = replace(chapter, reel=CutAndClose(40_000, 90_000).apply(chapter.reel))
    gone = finding(Kind.NOISE, 50_000, 50_200)
    assert finding_span(cut, gone) is None
    assert mending_edit(book, cut, (), gone) is None


def test_a_pickup_asks_for_the_whole_sentence():
    pickup = pickup_for(made()[1], TEXT, finding(Kind.MISREAD, 0, 10, word=7, count=1))
    assert pickup.line == "A line of green bottles lay there."
    assert (pickup.first_word, pickup.word_count) == (4, 7)


# --- splicing -----------------------------------------------------------------------------------------------------


def sound_of(words, *, hz, level):
    x = np.random.default_rng(1).standard_normal(place(len(words)) + RATE).astype(np.float32) * 0.0005
    for slot in range(len(words)):
        x[place(slot) : place(slot) + LENGTH] += sine(hz + 13 * slot, seconds=LENGTH / RATE, db=level) * np.hanning(
            LENGTH
        ).astype(np.float32)
    return x


LINE = TOKENS[4:11]


@pytest.fixture
def spliced():
    words = tuple((place(i), place(i) + LENGTH) for i in range(len(LINE)))
    take = Take("r2", words[0][0], words[-1][1], 0, " ".join(LINE), words)
    pickup = Pickup(
        "p1", "c1", ("f",), " ".join(LINE), "great", 4, len(LINE), place(7), place(7) + LENGTH, takes=(take,), chosen=0
    )
    read = [t if t != "green" else "great" for t in TOKENS]
    book, chapter, hearing = made(read=read, takes=(pickup,))
    sounds = {"r1": sound_of(read, hz=150, level=-14), "r2": sound_of(LINE, hz=150, level=-22)}

    def source(recording, start, stop):
        x = sounds[recording]
        out = np.zeros(stop - start, np.float32)
        lo, hi = max(0, start), min(len(x), stop)
        out[lo - start : hi - start] = x[lo:hi]
        return out

    return book, chapter, hearing, pickup, source


def preview(spliced, **more):
    book, chapter, hearing, pickup, source = spliced
    return preview_splice(book, chapter, pickup, hearing, lambda reel: Renderer(reel, source), **more)


def test_the_wrong_word_comes_from_the_take(spliced):
    book, chapter, hearing, pickup, _ = spliced
    made_ = preview(spliced)
    assert made_.plan.command.start < place(7) < place(7) + LENGTH < made_.plan.command.stop
    assert made_.plan.gain_db == pytest.approx(8.0, abs=0.5)
    put = replace(pickup, placed=(made_.placed(made_.matched.id, 0, pickup.word_count),))
    after = replace(chapter, reel=made_.reel)
    tokens = tokens_of(replace(book, pickups=(put,)), after, TOKENS, hearing)
    assert all(t.start >= 0 for t in tokens)  # the replaced words have their place in the take
    starts = [t.start for t in tokens]
    assert starts == sorted(starts)
    assert placed_span(made_.reel, pickup.id) is not None
    assert len(placed_joins(made_.reel)) == 2


def seams(spliced, made_):
    chapter, source = spliced[1], spliced[4]
    x = Renderer(made_.reel, made_.source(source)).render(0, len(made_.reel))
    natural = natural_seam(x, [place(k) - 3000 for k in range(1, 4)], RATE)
    assert len(chapter.reel) > 0
    return [seam_at(x, at, RATE) for at in made_.joins], natural


def test_the_joins_are_as_smooth_as_natural_boundaries(spliced):
    joins, natural = seams(spliced, preview(spliced))
    for seam in joins:
        assert abs(seam.level_step_db) < 3
        assert seam.click_db < max(natural.click_db, 3) + 2


def test_without_level_match_the_step_is_seen(spliced):
    plain = preview(spliced, switches=Switches(level=False))
    assert plain.plan.gain_db == 0.0
    step = abs(seams(spliced, plain)[0][0].level_step_db)
    # the second half of what is measured is the original again
    assert step > abs(seams(spliced, preview(spliced))[0][0].level_step_db) + 1.5


def test_no_take_a_cut_line_and_an_unheard_line_are_refused(spliced):
    book, chapter, hearing, pickup, source = spliced
    with pytest.raises(EditRefused, match="No take"):
        preview((book, chapter, hearing, replace(pickup, chosen=-1), source))
    cut = replace(chapter, reel=CutAndClose(place(4), place(11)).apply(chapter.reel))
    with pytest.raises(EditRefused, match="cut out"):
        preview((book, cut, hearing, pickup, source))
    deaf = Hearing((), (None,) * len(hearing.placed), tuple((a, b, 0, 0, False) for a, b, *_ in hearing.links))
    with pytest.raises(EditRefused, match="not heard"):
        preview((book, chapter, deaf, pickup, source))


@pytest.mark.parametrize("off", [-(RATE // 50), 0, RATE // 50])
def test_a_finding_whose_edges_lie_a_little_in_its_neighbours_is_cut_all_the_same(off):
    """Edges are known to 20 ms: a word that ends or begins by as much inside of it is still before or behind it."""
    book, chapter, hearing = made(read=[*TOKENS[:4], "+again", *TOKENS[4:]])
    tokens = tokens_of(book, chapter, TOKENS, hearing)
    wide = finding(Kind.ADDED, place(3) + LENGTH - off, place(5) + off)
    edit = mending_edit(book, chapter, tokens, wide)
    assert isinstance(edit, CutAndClose)
    assert place(3) + LENGTH - RATE // 50 <= edit.start
    assert edit.stop <= place(5)


def test_the_lead_before_a_cut_never_reaches_into_the_word_before():
    book, chapter, hearing = made(read=[*TOKENS[:4], "+again", *TOKENS[4:]])
    tokens = tokens_of(book, chapter, TOKENS, hearing)
    early = finding(Kind.ADDED, place(3) + LENGTH - RATE // 50, place(4) + LENGTH)
    assert mending_edit(book, chapter, tokens, early).start == early.start


def test_a_finding_that_reaches_far_into_its_neighbour_is_cut_up_to_the_word_after_that():
    book, chapter, hearing = made(read=[*TOKENS[:4], "+again", *TOKENS[4:]])
    tokens = tokens_of(book, chapter, TOKENS, hearing)
    far = finding(Kind.ADDED, place(4), place(5) + RATE // 50 + 1)
    edit = mending_edit(book, chapter, tokens, far)
    assert edit.stop > place(5) + LENGTH
    last = finding(Kind.ADDED, place(4), place(14))
    assert mending_edit(book, chapter, tokens, last) is None  # nothing comes behind it


def test_words_of_several_takes_and_of_takes_elsewhere():
    """A line of another chapter, or without a choice, places nothing and hides none that follows it."""
    elsewhere = Pickup("q", "c2", (), "x", "", 0, 1, 0, 1, takes=(Take("r2", 0, 9, 0, "x", ((0, 9),)),), chosen=0)
    undecided = replace(elsewhere, id="u", chapter="c1", chosen=-1)
    take = Take("r2", 500, 9500, 0, "line of", ((500, 4000), (5000, 9500)))
    mine = Pickup("p", "c1", (), "line of", "", 5, 2, 0, 1, takes=(take,), chosen=0)
    book, chapter, hearing = made(takes=(elsewhere, undecided, mine))
    edit = ReplaceByTake(place(5) - 500, place(7) - 500, "r2", 0, 10_000, 0.0, TONE, take="p")
    after = replace(chapter, reel=edit.apply(chapter.reel))
    tokens = tokens_of(book, after, TOKENS, hearing)
    assert [t.start for t in tokens[4:8]] == [place(4), place(5), place(5) + 4500, place(7) - 2 * STEP + 10_000]
    assert tokens[5].stop == place(5) + 3500


def test_the_word_at_a_position():
    book, chapter, hearing = made()
    tokens = tokens_of(book, chapter, TOKENS, hearing)
    assert [word_at(tokens, at) for at in (0, place(0) - 1, place(0), place(1) - 1, place(1), 10**8)] == [
        -1,
        -1,
        0,
        0,
        1,
        len(TOKENS) - 1,
    ]
    assert word_at(tokens_of(book, chapter, TOKENS, None), 10**6) == -1
    at_once = replace(hearing, placed=(Placed(0, 9, 0.9), *hearing.placed[1:]))
    assert span_of(tokens_of(book, chapter, TOKENS, at_once), 0, 0).start == 0


def test_room_tone_stays_under_its_level():
    book, chapter, _ = made()
    assert tone_level(book, chapter) == pytest.approx(3 * 10 ** (-62 / 20))
    assert tone_level(book, replace(chapter, recording="")) is None
    assert tone_of(book, chapter) == TONE
    assert tone_of(book, replace(chapter, recording="r2")) == ToneSource("", 0, 0)
    assert tone_of(book, replace(chapter, recording="")) == ToneSource("", 0, 0)
