"""Where a take stands, where its joins are, and the words of its line in all three sounds."""

from __future__ import annotations

import itertools
from dataclasses import replace
from types import SimpleNamespace

import numpy as np
import pytest
from support.chapters import LENGTH, RATE, STEP, TOKENS, TONE, made, place

from faithful_reel.core.book.model import Recording
from faithful_reel.core.book.pickups import SpliceTakes, TakeOut, placed_span
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.pickups.ledger import Part, Pickup, State, Take
from faithful_reel.core.pickups.placing import take_bounds, take_rows
from faithful_reel.core.reel.commands import CutAndClose, ReplaceByTake, SplitAt
from faithful_reel.core.reel.reel import Join, Lane, Piece, Reel, RoomTone, reel_of
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.splice.match import Switches
from faithful_reel.core.splice.place import Choice
from faithful_reel.core.units import Span
from faithful_reel.core.work import splicing
from faithful_reel.core.work.splicing import (
    NEAR_WORDS,
    in_place,
    line_in_reel,
    placed_joins,
    preview_parts,
    preview_splice,
    recording_reel,
    splice_of,
    take_reel,
)
from faithful_reel.core.work.timeline import Hearing, tokens_of

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
    shown = in_place(book, inside, pickup, hearing)
    assert shown.span == Span(place(5) - 2000, place(7) - 2000 + more)
    assert [w.text for w in shown.words] == LINE
    assert [w.from_take for w in shown.words] == [False, True, True, False, False, False, False]
    for i, w in enumerate(shown.words, 4):
        assert w.original == (place(i), place(i) + LENGTH)
        assert w.take == (spoken(i), spoken(i) + LENGTH)
        start = spoken(i) - spoken(5) + place(5) if w.from_take else place(i) + (more if i >= 7 else 0)
        assert w.result == (start, start + LENGTH)
    assert shown.joins == (shown.span.start, shown.span.stop)
    assert shown.lane == 0


def test_a_word_that_the_take_has_not_and_one_that_was_cut_have_no_place(state):
    book, chapter, hearing, pickup = state
    take = pickup.takes[0]
    unread = replace(pickup, takes=(replace(take, words=(*take.words[:1], (-1, -1), *take.words[2:5])),))
    inside, more = with_take(chapter, 5, 7)
    shown = in_place(replace(book, pickups=(unread,)), inside, unread, hearing)
    assert [w.take is None for w in shown.words] == [False, True, False, False, False, True, True]
    assert not shown.words[1].from_take
    assert shown.words[1].result is None  # neither: its own sound was replaced
    assert shown.words[5].result == (place(9) + more, place(9) + more + LENGTH)
    unplaced = replace(hearing, placed=(*hearing.placed[:4], None, *hearing.placed[5:]))
    assert in_place(book, inside, pickup, unplaced).words[0][1:3] == (None, None)


def test_no_take_in_or_no_such_take_is_nothing_to_show(state):
    book, chapter, hearing, pickup = state
    assert in_place(book, chapter, pickup, hearing) is None
    inside, _ = with_take(chapter, 5, 7)
    assert in_place(book, replace(inside, reel=None), pickup, hearing) is None
    assert in_place(book, inside, replace(pickup, chosen=1), hearing) is None
    assert in_place(book, inside, replace(pickup, chosen=-1), hearing) is None
    assert in_place(book, inside, pickup, hearing) is not None


def read_otherwise(hearing, word=6):
    """What was heard, one word of it departing."""
    return replace(hearing, links=tuple((a, b, c, d, same and a != word) for a, b, c, d, same in hearing.links))


def test_a_preview_shows_the_words_as_they_would_be(state):
    book, chapter, hearing, pickup = state
    read = read_otherwise(hearing)
    made_ = preview_splice(book, chapter, pickup, read, render_of)
    command, matched = made_.plan.command, made_.matched
    grown = (command.take_stop - command.take_start) - (command.stop - command.start)
    inside = [w.from_take for w in made_.words]
    assert inside[2]
    assert inside == [made_.plan.chosen_in.token <= i < made_.plan.chosen_out.token for i in range(len(LINE))]
    for i, w in enumerate(made_.words):
        if w.from_take:
            assert w.result == tuple(matched.position(at) + command.start - command.take_start for at in w.take)
        elif i < made_.plan.chosen_in.token:
            assert w.result == w.original
        else:
            assert w.result == tuple(at + grown for at in w.original)
    assert made_.joins == (command.start, command.stop + grown)
    assert made_.original.start < place(4) < place(10) < made_.original.stop
    assert made_.take == Span(spoken(4), spoken(10) + LENGTH)
    assert command.recording == matched.id
    assert command.gain_db == matched.amounts.level_db


def test_what_was_planned_is_what_stands_in_the_reel(state):
    book, chapter, hearing, pickup = state
    read = read_otherwise(hearing)
    made_ = preview_splice(book, chapter, pickup, read, render_of)
    kept = Recording("kept", "k", ".flac", RATE, 1, len(made_.matched.sound), 0, 0, 0, None)
    book = replace(book, recordings=(*book.recordings, kept))
    after = SpliceTakes((splice_of(pickup, [made_], [(kept, 0.0)]),)).apply(book)
    inside, put = after.chapters[0], after.pickups[0]
    assert put.state is State.SPLICED
    shown = in_place(after, inside, put, read)
    assert [w.result for w in shown.words] == [w.result for w in made_.words]
    assert [w.from_take for w in shown.words] == [w.from_take for w in made_.words]
    assert shown.span == Span(*made_.joins)
    back = TakeOut(put.id).apply(after)
    assert back.chapters[0].reel == chapter.reel
    assert back.pickups[0].placed == ()
    assert back.pickups[0].state is State.CHOSEN


def test_other_boundaries_than_the_first_can_be_chosen(state):
    book, chapter, hearing, pickup = state
    read = read_otherwise(hearing)

    def plan(choice):
        return preview_splice(book, chapter, pickup, read, render_of, choice=choice).plan

    chosen = plan(Choice(1, 0))
    assert chosen.chosen_in == chosen.entering[1]
    assert chosen.chosen_out == chosen.leaving[0]
    with pytest.raises(EditRefused, match="no such boundary"):
        plan(Choice(99, 0))
    with pytest.raises(EditRefused, match="no recording"):
        preview_splice(book, replace(chapter, reel=None), pickup, read, render_of)
    with pytest.raises(EditRefused, match="No take is chosen"):
        preview_splice(book, chapter, replace(pickup, chosen=1), read, render_of)


def test_a_line_made_of_two_takes_stands_in_two_pieces_and_comes_out_whole(state):
    book, chapter, hearing, pickup = state
    second = replace(pickup.takes[0], recording="r3", words=tuple((a + 50, b + 50) for a, b in pickup.takes[0].words))
    pickup = replace(pickup, takes=(*pickup.takes, second), parts=(Part(0, 0, 3), Part(1, 3, len(LINE))), chosen=0)
    book = replace(book, pickups=(pickup,))
    previews = preview_parts(book, chapter, pickup, read_otherwise(hearing), render_of)
    assert [p.matched.switches for p in previews] == [Switches(), Switches()]
    assert {b.token for b in (*previews[0].plan.leaving, *previews[1].plan.entering)} == {
        3
    }  # neither goes over the other's words
    rows = [(Recording(f"k{k}", "k", ".flac", RATE, 1, 9, 0, 0, 0, None), 0.0) for k in range(2)]
    after = SpliceTakes((splice_of(pickup, previews, rows),)).apply(book)
    reel = after.chapters[0].reel
    takes = [s.take for s in reel.lanes[0].segments if isinstance(s, Piece) and s.take]
    assert takes == ["p", "p#1"]
    assert [p.take for p in after.pickups[0].placed] == [0, 1]
    tokens = [t for t in tokens_of(after, after.chapters[0], TOKENS, hearing) if t.word in pickup.words]
    assert all(t.start >= 0 for t in tokens)
    assert [t.start for t in tokens] == sorted(t.start for t in tokens)
    assert TakeOut("p").apply(after).chapters[0].reel == chapter.reel


def test_takes_of_books_that_did_not_keep_what_is_around_them_can_be_put_in(state):
    *_, pickup = state
    take = pickup.takes[0]
    assert (take.said, take.clear) == ((), (0, 0))
    edge = round(0.6 * RATE)
    assert take_bounds(take, RATE) == Span(max(0, take.start - edge), take.stop + edge)
    assert take_rows(take) == [(k, Span(a, b)) for k, (a, b) in enumerate(take.words)]
    told = replace(take, said=(("um", take.words[0][0] - 900, take.words[0][0] - 300),), clear=(take.start - 100, take.stop + 50))
    assert take_rows(told)[0][0] == -1
    assert take_bounds(told, RATE) == Span(take.start - 100, take.stop + 50)


# --- reels of whole recordings ----------------------------------------------------------------------------------------


def test_a_recording_and_a_take_as_reels(state):
    book, chapter, _, pickup = state
    assert recording_reel(book, "r1") == Reel((Lane("original", (Piece("r1", 0, book.recordings[0].length),)),))
    take = pickup.takes[0]
    assert take_reel(book, take).lanes[0].segments == (Piece("r2", 0, book.recordings[1].length),)
    lost = replace(book, recordings=book.recordings[:1])
    assert take_reel(lost, take).lanes[0].segments == (Piece("r2", 0, take.stop + round(0.25 * RATE)),)
    assert len(chapter.reel) == book.recordings[0].length


def test_a_thousand_lines_in_one_act_read_each_sound_at_once(state, monkeypatch, tmp_path):
    """What was planned before is read from memory, however many lines there are before: not one reader inside the other."""
    book, chapter, hearing, pickup = state
    count = 1_200
    number = itertools.count()

    def planned(_book, _chapter, _pickup, _hearing, rendering, **_):
        k = next(number)
        source = rendering(chapter.reel).source
        assert [source(f"m{j}", 0, 1)[0] for j in (0, k - 1) if 0 <= j < k] == [j for j in (0, k - 1) if 0 <= j < k]
        sound = SimpleNamespace(sound=np.full(10, k, np.float32), hash=f"m{k}")
        return [SimpleNamespace(lane=0, reel=chapter.reel, joins=(), matched=sound)]

    monkeypatch.setattr(splicing, "preview_parts", planned)
    monkeypatch.setattr(splicing, "natural_of", lambda *_: None)
    monkeypatch.setattr(splicing, "keep_matched", lambda *given: [(given[-1][0].matched, 0.0)])
    monkeypatch.setattr(splicing, "splice_of", lambda *_: None)
    monkeypatch.setattr(splicing, "SpliceTakes", lambda _: SimpleNamespace(apply=lambda book: book))
    many = splicing.planned_many(tmp_path, book, [pickup] * count, lambda _: hearing, render_of, {}, Switches(), Unwatched())
    assert (len(many.splices), many.left) == (count, ())


def test_joins_are_those_with_a_crossfade():
    lane = Lane(
        "voice", (Piece("r1", 0, 100), Piece("r1", 100, 250, join=Join(0)), Piece("r1", 400, 500), RoomTone("r1", 0, 50, 30))
    )
    assert placed_joins(Reel((lane,))) == (250, 350)


def test_a_take_is_found_by_its_pickup(state):
    _, chapter, _, _ = state
    assert placed_span(chapter.reel, "p") is None
    inside, more = with_take(chapter, 5, 7)
    reel = inside.reel
    assert placed_span(reel, "p") == (0, Span(place(5) - 2000, place(7) - 2000 + more))
    assert placed_span(reel, "q") is None
    earlier = CutAndClose(0, 1000).apply(reel)
    assert placed_span(earlier, "p") == (0, Span(place(5) - 3000, place(7) - 3000 + more))
    assert placed_span(SplitAt(100).apply(reel), "p") == (0, Span(place(5) - 2000, place(5) - 2000 + 2 * STEP + more))


MANY, ODD = 60, 30


@pytest.fixture
def long_line(state):
    """A line of sixty words, the thirtieth misread, with a take of it; and a take that is read as the chapter is."""
    book, chapter, _, _ = state
    heard = tuple(Heard(f"w{k}" if k != ODD else "odd", place(k), place(k) + LENGTH, 0.9) for k in range(MANY))
    links = tuple((k, k + 1, k, k + 1, k != ODD) for k in range(MANY))
    hearing = Hearing(heard, tuple(Placed(h.start, h.stop, 0.9) for h in heard), links)
    words = tuple((place(k), place(k) + LENGTH) for k in range(MANY))
    take = Take("r2", words[0][0], words[-1][1], 0, "", words)
    text = " ".join(f"w{k}" for k in range(MANY))
    pickup = Pickup("p", "c1", (), text, "odd", 0, MANY, place(0), place(MANY), takes=(take,), chosen=0)
    chapter = replace(chapter, reel=reel_of("r1", place(MANY) + RATE))
    return replace(book, chapters=(chapter,), pickups=(pickup,)), chapter, hearing, pickup


def test_of_a_long_line_only_what_stands_beside_the_words_that_change_is_looked_at(long_line):
    book, chapter, hearing, pickup = long_line
    line = line_in_reel(book, chapter, pickup, hearing, render_of)
    assert (line.changed, line.near) == (range(ODD, ODD + 1), range(ODD - NEAR_WORDS, ODD + 1 + NEAR_WORDS))
    assert [w is not None for w in line.words] == [True] * MANY
    sound = Span(line.spoken.offset, line.spoken.offset + len(line.spoken.sound))
    assert place(ODD - NEAR_WORDS - 9) < sound.start <= place(ODD - NEAR_WORDS)
    assert place(ODD + NEAR_WORDS) + LENGTH <= sound.stop < place(ODD + NEAR_WORDS + 10)
    known = [k for k, w in enumerate(line.spoken.words) if w is not None]
    assert set(range(ODD - NEAR_WORDS, ODD)) <= set(known)
    assert all(sound.start <= w.start and w.stop <= sound.stop for w in line.spoken.words if w is not None)


def test_a_join_is_never_where_there_is_no_sound_to_look_at(long_line):
    book, chapter, hearing, pickup = long_line
    made_ = preview_splice(book, chapter, pickup, hearing, render_of)
    reach = place(NEAR_WORDS + 9) - place(0)
    for boundary in (*made_.plan.entering, *made_.plan.leaving):
        assert abs(boundary.original - place(ODD)) < reach
    assert abs(made_.plan.command.start - place(ODD)) < 6 * STEP
    assert len(made_.words) == MANY
    assert all(w.original and w.take for w in made_.words)
    assert made_.words[0].result == (place(0), place(0) + LENGTH)


def test_what_a_part_takes_is_looked_at_where_the_part_is(long_line):
    book, chapter, hearing, pickup = long_line
    line = line_in_reel(book, chapter, pickup, hearing, render_of, range(2, 5))
    assert (line.changed, line.near) == (range(2, 5), range(5 + NEAR_WORDS))
