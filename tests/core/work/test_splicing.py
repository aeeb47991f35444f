"""Where a take stands, where its joins are, and the words of its line in all three sounds."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from support.chapters import LENGTH, RATE, STEP, TOKENS, TONE, made, place

from faithful_reel.core.errors import EditRefused
from faithful_reel.core.pickups.ledger import Pickup, Take
from faithful_reel.core.reel.commands import CutAndClose, ReplaceByTake, SplitAt
from faithful_reel.core.reel.reel import Join, Lane, Piece, Reel, RoomTone
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.units import Span
from faithful_reel.core.work.splicing import (
    in_place,
    piece_of,
    placed_joins,
    preview_splice,
    recording_reel,
    take_gaps,
    take_reel,
)

LINE = TOKENS[4:11]
SHIFT, SLOWER = 700, 300
"""How far the take's recording runs behind the chapter's, and by how much more with every word."""


def spoken(word):
    """Where a word begins in the take."""
    return place(word) + SHIFT + SLOWER * (word - 4)


def noisy(_recording, start, stop):
    return (np.random.default_rng(abs(start)).standard_normal(stop - start) * 0.01).astype(np.float32)


def render_of(reel):
    return Renderer(reel, noisy)


@pytest.fixture
def state():
    words = tuple((spoken(4 + i), spoken(4 + i) + LENGTH) for i in range(len(LINE)))
    take = Take("r2", words[0][0], words[-1][1], 0, " ".join(LINE), words)
    pickup = Pickup(
        "p", "c1", ("f",), " ".join(LINE), "great", 4, len(LINE), place(7), place(7) + LENGTH, takes=(take,), chosen=0
    )
    return *made(takes=(pickup,)), pickup


def with_take(chapter, first, stop):
    """The chapter with words `first` to `stop` from the take, and how much longer it is."""
    edit = ReplaceByTake(
        place(first) - 2000, place(stop) - 2000, "r2", spoken(first) - 2000, spoken(stop) - 2000, 0.0, TONE, take="p"
    )
    return replace(chapter, reel=edit.apply(chapter.reel)), SLOWER * (stop - first)


def test_a_take_that_is_in_tells_where_every_word_of_its_line_is(state):
    book, chapter, hearing, pickup = state
    inside, more = with_take(chapter, 5, 7)
    shown = in_place(book, inside, pickup, hearing, render_of)
    assert shown.span == Span(place(5) - 2000, place(7) - 2000 + more)
    assert [w.text for w in shown.words] == LINE
    assert [w.from_take for w in shown.words] == [False, True, True, False, False, False, False]
    for i, w in enumerate(shown.words, 4):
        assert w.original == (place(i), place(i) + LENGTH)
        assert w.take == (spoken(i), spoken(i) + LENGTH)
        start = spoken(i) - spoken(5) + place(5) if w.from_take else place(i) + (more if i >= 7 else 0)
        assert w.result == (start, start + LENGTH)
    assert shown.natural is not None


def test_a_word_that_the_take_has_not_and_one_that_was_cut_have_no_place(state):
    book, chapter, hearing, pickup = state
    take = pickup.takes[0]
    unread = replace(pickup, takes=(replace(take, words=(*take.words[:1], (-1, -1), *take.words[2:5])),))
    inside, more = with_take(chapter, 5, 7)
    shown = in_place(book, inside, unread, hearing, render_of)
    assert [w.take is None for w in shown.words] == [False, True, False, False, False, True, True]
    assert not shown.words[1].from_take
    assert shown.words[1].result is None  # neither: its own sound was replaced
    assert shown.words[5].result == (place(9) + more, place(9) + more + LENGTH)
    unplaced = replace(hearing, placed=(*hearing.placed[:4], None, *hearing.placed[5:]))
    assert in_place(book, inside, pickup, unplaced, render_of).words[0][1:3] == (None, None)


def test_no_take_in_or_no_such_take_is_nothing_to_show(state):
    book, chapter, hearing, pickup = state
    assert in_place(book, chapter, pickup, hearing, render_of) is None
    inside, _ = with_take(chapter, 5, 7)
    assert in_place(book, replace(inside, reel=None), pickup, hearing, render_of) is None
    assert in_place(book, inside, replace(pickup, chosen=1), hearing, render_of) is None
    assert in_place(book, inside, replace(pickup, chosen=-1), hearing, render_of) is None
    assert in_place(book, inside, pickup, hearing, render_of) is not None


def test_seams_are_measured_at_the_ends_of_the_take(state):
    book, chapter, hearing, pickup = state

    def stepping(recording, start, stop):  # words in noise; the take is 20 dB louder than the chapter, its room as well
        behind = (spoken(9) - place(9)) if recording == "r2" else 0
        at = (np.arange(start, stop) - behind - place(0)) % STEP
        return noisy(recording, start, stop) * np.where(at < LENGTH, 10, 0.1) * (10 if recording == "r2" else 1)

    inside, _ = with_take(chapter, 9, 11)  # more than 4 s after the beginning
    shown = in_place(book, inside, pickup, hearing, lambda reel: Renderer(reel, stepping))
    assert shown.seam_in.level_step_db == pytest.approx(20, abs=3)
    assert shown.seam_out.level_step_db == pytest.approx(-20, abs=3)
    assert shown.natural.level_step_db < 15


def test_a_preview_shows_the_words_as_they_would_be(state):
    book, chapter, hearing, pickup = state
    read = replace(hearing, links=tuple((a, b, c, d, same and a != 6) for a, b, c, d, same in hearing.links))  # word 6 departs
    made_ = preview_splice(book, chapter, pickup, read, Renderer(chapter.reel, noisy).render, render_of)
    command = made_.plan.command
    grown = (command.take_stop - command.take_start) - (command.stop - command.start)
    inside = [w.from_take for w in made_.words]
    assert inside[2]
    assert inside == [made_.plan.chosen_in.token <= i < made_.plan.chosen_out.token for i in range(len(LINE))]
    for i, w in enumerate(made_.words):
        if w.from_take:
            assert w.result == tuple(at + command.start - command.take_start for at in w.take)
        elif i < made_.plan.chosen_in.token:
            assert w.result == w.original
        else:
            assert w.result == tuple(at + grown for at in w.original)
    after = in_place(book, replace(chapter, reel=made_.reel), pickup, read, render_of)
    assert [w.result for w in after.words] == [w.result for w in made_.words]
    assert made_.original.start < place(4) < place(10) < made_.original.stop
    assert made_.take == Span(spoken(4) - RATE // 2, spoken(10) + LENGTH + RATE // 2)


def test_other_boundaries_than_the_first_can_be_chosen(state):
    book, chapter, hearing, pickup = state
    read = replace(hearing, links=tuple((a, b, c, d, same and a != 6) for a, b, c, d, same in hearing.links))
    render = Renderer(chapter.reel, noisy).render

    def plan(choose):
        return preview_splice(book, chapter, pickup, read, render, render_of, choose=choose).plan

    chosen = plan((1, 0))
    assert chosen.chosen_in == chosen.entering[1]
    assert chosen.chosen_out == chosen.leaving[0]
    with pytest.raises(EditRefused, match="no such boundary"):
        plan((99, 0))
    with pytest.raises(EditRefused, match="no recording"):
        preview_splice(book, replace(chapter, reel=None), pickup, read, render, render_of)
    with pytest.raises(EditRefused, match="No take is chosen"):
        preview_splice(book, chapter, replace(pickup, chosen=1), read, render, render_of)


def test_takes_of_books_that_did_not_keep_what_is_around_them(state):
    *_, pickup = state
    gaps = take_gaps(pickup.takes[0], RATE)
    edge = round(0.25 * RATE)
    assert gaps[0] == Span(pickup.takes[0].start - edge, pickup.takes[0].start)
    assert gaps[-1] == Span(pickup.takes[0].stop, pickup.takes[0].stop + edge)
    assert [g.start for g in gaps[1:-1]] == [stop for _, stop in pickup.takes[0].words[:-1]]
    unread = replace(pickup.takes[0], words=((0, 10), (-1, -1), (30, 40)))
    assert [g is None for g in take_gaps(unread, RATE)] == [False, True, True, False]
    early = replace(pickup.takes[0], start=100, words=((100, 200),))
    assert take_gaps(early, RATE)[0].start == 0


# --- reels of whole recordings ----------------------------------------------------------------------------------------


def test_a_recording_and_a_take_as_reels(state):
    book, chapter, _, pickup = state
    assert recording_reel(book, "r1") == Reel((Lane("original", (Piece("r1", 0, book.recordings[0].length),)),))
    take = pickup.takes[0]
    assert take_reel(book, take).lanes[0].segments == (Piece("r2", 0, book.recordings[1].length),)
    lost = replace(book, recordings=book.recordings[:1])
    assert take_reel(lost, take).lanes[0].segments == (Piece("r2", 0, take.stop + round(0.25 * RATE)),)
    assert len(chapter.reel) == book.recordings[0].length


def test_joins_are_those_with_a_crossfade():
    lane = Lane(
        "voice", (Piece("r1", 0, 100), Piece("r1", 100, 250, join=Join(0)), Piece("r1", 400, 500), RoomTone("r1", 0, 50, 30))
    )
    assert placed_joins(Reel((lane,))) == (250, 350)


def test_a_take_is_found_by_its_pickup(state):
    _, chapter, _, _ = state
    assert piece_of(chapter.reel, "p") is None
    inside, more = with_take(chapter, 5, 7)
    reel = inside.reel
    assert piece_of(reel, "p") == Span(place(5) - 2000, place(7) - 2000 + more)
    assert piece_of(reel, "q") is None
    earlier = CutAndClose(0, 1000).apply(reel)
    assert piece_of(earlier, "p") == Span(place(5) - 3000, place(7) - 3000 + more)
    assert piece_of(SplitAt(100).apply(reel), "p") == Span(place(5) - 2000, place(5) - 2000 + 2 * STEP + more)
