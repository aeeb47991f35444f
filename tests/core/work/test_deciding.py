"""What deciding a finding does: to its sound, to the ledger, and what it says where it can not be done."""

from __future__ import annotations

from dataclasses import replace

import pytest
from support.chapters import LENGTH, STEP, TEXT, TOKENS, TONE, made, place

from faithful_reel.core.book.commands import EDITION, Decide, DecideSeveral, EditReel
from faithful_reel.core.collate.findings import Decision, Evidence, Finding, Kind
from faithful_reel.core.pickups.ledger import Pickup, State
from faithful_reel.core.reel.commands import ChangeGain, CutAndClose, CutAndFill, PutBackSound, ReplaceByTake, SetGain
from faithful_reel.core.reel.reel import Lane, Piece, Reel, Rest
from faithful_reel.core.units import Span
from faithful_reel.core.work.deciding import deciding, fate, following_open, noted_on_sound, noted_on_words, open_count
from faithful_reel.core.work.mending import mending_edit
from faithful_reel.core.work.timeline import tokens_of

READ = [*TOKENS[:4], "+again", *TOKENS[4:8], "+once", *TOKENS[8:]]
"""An extra word before word 4, another before word 8."""


def found(name, kind=Kind.ADDED, slot=4, word=4, count=0, **more):
    return Finding(name, kind, "", "x", word, count, place(slot), place(slot) + LENGTH, 0.9, **more)


@pytest.fixture
def state():
    book, chapter, hearing = made(read=READ)
    findings = (found("f1"), found("f2", slot=9, word=8), found("f3", Kind.MISREAD, slot=6, word=5, count=1))
    chapter = replace(chapter, findings=findings)
    return replace(book, chapters=(chapter,)), chapter, hearing


def decide(state, names, decision, note=""):
    book, _, hearing = state
    chapter = book.chapters[0]
    return deciding(book, chapter, TEXT, hearing, [chapter.finding(n) for n in names], decision, note)


def done(state, names, decision, note=""):
    """The book after a decision, with what was decided."""
    told = decide(state, names, decision, note)
    return (told.command.apply(state[0]), *state[1:]), told


def length(state):
    return len(state[0].chapters[0].reel)


def test_one_mend_is_an_edit_of_the_reel_that_takes_the_word_out():
    book, chapter, hearing = made(read=READ)
    state = replace(book, chapters=(replace(chapter, findings=(found("f1"),)),)), chapter, hearing
    after, told = done(state, ["f1"], Decision.MEND)
    assert isinstance(told.command, EditReel)
    assert told.command.findings == ("f1",)
    assert told.command.edition == EDITION
    assert not told.restores
    assert told.refused == ()
    assert length(after) == length(state) - STEP
    assert after[0].chapters[0].finding("f1").decision is Decision.MEND


def test_what_no_edit_can_mend_is_marked_with_its_note(state):
    after, told = done(state, ["f3"], Decision.MEND, "read again")
    assert isinstance(told.command, Decide)
    assert told.command.edition == EDITION
    assert length(after) == length(state)
    finding = after[0].chapters[0].finding("f3")
    assert (finding.decision, finding.note) == (Decision.MEND, "read again")


def test_several_mends_are_one_step_and_none_is_cut_twice(state):
    after, told = done(state, ["f1", "f2"], Decision.MEND)
    assert isinstance(told.command, DecideSeveral)
    assert length(after) == length(state) - 2 * STEP
    again, _ = done(after, ["f1", "f2"], Decision.MEND)
    assert length(again) == length(after)
    one_more, _ = done(done(state, ["f1"], Decision.MEND)[0], ["f1", "f2"], Decision.MEND)
    assert length(one_more) == length(state) - 2 * STEP


def test_a_mend_that_is_mended_again_cuts_nothing_more(state):
    after, _ = done(state, ["f1"], Decision.MEND)
    again, _ = done(after, ["f1"], Decision.MEND)
    assert length(again) == length(after)


@pytest.mark.parametrize("decision", [Decision.OPEN, Decision.STET, Decision.PICKUP])
def test_any_other_decision_brings_a_mends_sound_back(state, decision):
    after, _ = done(state, ["f1", "f2"], Decision.MEND)
    back, told = done(after, ["f1", "f2"], decision)
    assert told.restores
    assert told.refused == ()
    assert length(back) == length(state)
    assert {back[0].chapters[0].finding(n).decision for n in ("f1", "f2")} == {decision}
    one, told = done(after, ["f2"], decision)
    assert length(one) == length(state) - STEP
    assert told.restores


def test_what_was_not_mended_brings_nothing_back(state):
    told = decide(state, ["f1"], Decision.STET)
    assert isinstance(told.command, Decide)
    assert told.command.edition == EDITION
    assert not told.restores
    assert decide(state, ["f1", "f2"], Decision.STET).restores is False


def test_of_several_the_ones_that_can_not_come_back_are_told_and_the_others_come(state):
    after, _ = done(state, ["f1", "f2"], Decision.MEND)
    book, _, hearing = after
    chapter = book.chapters[0]
    cut = CutAndClose(place(1), place(5)).apply(chapter.reel)  # the place of f1's cut is gone, with words around it
    moved = replace(book, chapters=(replace(chapter, reel=cut),)), chapter, hearing
    back, told = done(moved, ["f1", "f2"], Decision.OPEN)
    assert len(told.refused) == 0 or "Other sound" in told.refused[0]
    assert length(back) > length(moved)
    assert {f.decision for f in back[0].chapters[0].findings} == {Decision.OPEN}


def test_a_level_that_was_mended_goes_back_to_none():
    book, chapter, hearing = made()
    breath = found("f1", Kind.LEVEL, slot=2, word=2, evidence=Evidence(flaw="level jump", usual=-6.0))
    state = replace(book, chapters=(replace(chapter, findings=(breath,)),)), chapter, hearing
    after, told = done(state, ["f1"], Decision.MEND)
    assert told.command.edit == ChangeGain(place(2), place(2) + LENGTH, -6.0, "l1")
    back, told = done(after, ["f1"], Decision.STET)
    assert told.restores
    assert {s.gain_db for s in back[0].chapters[0].reel.lanes[0].segments} == {0.0}


def test_a_level_that_was_set_before_it_was_mended_is_that_again():
    book, chapter, hearing = made()
    breath = found("f1", Kind.LEVEL, slot=2, word=2, evidence=Evidence(flaw="level jump", usual=-6.0))
    softer = SetGain(0, len(chapter.reel), -3.0).apply(chapter.reel)
    chapter = replace(chapter, findings=(breath,), reel=softer)
    after, _ = done((replace(book, chapters=(chapter,)), chapter, hearing), ["f1"], Decision.MEND)
    assert {s.gain_db for s in after[0].chapters[0].reel.lanes[0].segments} == {-3.0, -9.0}
    back, _ = done(after, ["f1"], Decision.OPEN)
    assert {s.gain_db for s in back[0].chapters[0].reel.lanes[0].segments} == {-3.0}


def test_a_pickup_asks_for_every_line_with_its_note(state):
    after, told = done(state, ["f1", "f3"], Decision.PICKUP, "softer")
    lines = after[0].pickups
    assert [p.line for p in lines] == ["A line of green bottles lay there."] * len(lines)
    assert {n for p in lines for n in p.findings} == {"f1", "f3"}
    assert all("softer" in p.note for p in lines)
    assert not told.restores
    single, told = done(state, ["f3"], Decision.PICKUP)
    assert isinstance(told.command, Decide)
    assert [p.findings for p in single[0].pickups] == [("f3",)]


def test_the_edits_of_a_reopened_mend_are_put_backs(state):
    after, _ = done(state, ["f1"], Decision.MEND)
    told = decide(after, ["f1"], Decision.OPEN)
    assert isinstance(told.command, DecideSeveral)
    assert [type(e) for e in told.command.edits] == [PutBackSound]


# --- what became of it ------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("state_", "told"),
    [
        (State.SPLICED, "Read again: the take is in."),
        (State.PASSED, "Read again: the take is in, and passed."),
        (State.CHOSEN, ""),
        (State.SENT, ""),
    ],
)
def test_the_fate_of_a_finding_that_is_read_again(state, state_, told):
    book, chapter, _ = state
    pickup = Pickup("p", chapter.id, ("f3",), "line", "x", 4, 7, 0, 1, state=state_)
    book = replace(book, pickups=(pickup,))
    assert fate(book, chapter, chapter.finding("f3")) == told
    assert fate(book, chapter, chapter.finding("f1")) == ""
    assert fate(replace(book, pickups=(replace(pickup, chapter="other"),)), chapter, chapter.finding("f3")) == ""


def test_the_fate_of_a_finding_that_was_cut(state):
    book, chapter, _ = state
    cut = replace(chapter, reel=CutAndClose(place(3), place(6)).apply(chapter.reel))
    assert fate(book, cut, cut.finding("f1")) == "Gone: its sound was cut or replaced."
    assert fate(book, cut, cut.finding("f2")) == ""
    assert fate(book, cut, replace(found("f9", Kind.SKIPPED), start=place(4), stop=place(4))) == ""
    assert fate(book, replace(chapter, reel=None), chapter.finding("f1")) == ""


def test_the_next_open_finding_is_behind_the_one_at_hand():
    rows = [("c1", found("a")), ("c1", found("b", decision=Decision.STET)), ("c2", found("c")), ("c2", found("d"))]
    assert following_open(rows, -1)[1].id == "a"
    assert following_open(rows, 0)[1].id == "c"
    assert following_open(rows, 2)[1].id == "d"
    assert following_open(rows, 3) is None


def test_open_ones_are_counted_without_those_that_are_folded(state):
    _, chapter, _ = state
    other = replace(chapter, findings=(found("a", decision=Decision.STET), found("b")))
    assert open_count([chapter, other]) == 4
    assert open_count([chapter, other], lambda f: f.id == "f1") == 3
    assert open_count([]) == 0


# --- by hand ----------------------------------------------------------------------------------------------------------


def test_a_note_on_words_holds_them_and_their_sound(state):
    book, chapter, hearing = state
    tokens = tokens_of(book, chapter, TOKENS, hearing)
    noted = noted_on_words(chapter, TEXT, tokens, Kind.OTHER, 1, 2, "stress")
    assert (noted.id, noted.kind, noted.written, noted.note) == ("h0001", Kind.OTHER, "tide went", "stress")
    assert (noted.word_index, noted.word_count) == (1, 2)
    assert (noted.start, noted.stop) == (place(1), place(2) + LENGTH)
    assert (noted.confidence, noted.heard, noted.evidence.note) == (1.0, "", "noted by hand")
    second = noted_on_words(replace(chapter, findings=(noted,)), TEXT, tokens, Kind.OTHER, 1, 1, "")
    assert second.id == "h0002"


def test_a_note_is_kept_in_time_of_the_recording_whatever_was_cut(state):
    book, chapter, hearing = state
    cut = replace(chapter, reel=CutAndClose(0, place(1)).apply(chapter.reel))
    tokens = tokens_of(book, cut, TOKENS, hearing)
    noted = noted_on_words(cut, TEXT, tokens, Kind.OTHER, 2, 2, "")
    assert (noted.start, noted.stop) == (place(2), place(2) + LENGTH)
    unheard = noted_on_words(cut, TEXT, tokens, Kind.OTHER, 0, 0, "")
    assert (unheard.start, unheard.stop) == (0, 0)
    assert unheard.written == "The"


def test_a_note_on_sound_stands_at_the_word_that_is_heard_there_or_next(state):
    book, chapter, hearing = state
    tokens = tokens_of(book, chapter, TOKENS, hearing)
    inside = noted_on_sound(chapter, TEXT, tokens, Kind.NOISE, Span(place(2) + 100, place(2) + 400), "click")
    assert (inside.word_index, inside.word_count, inside.written) == (2, 0, "")
    assert (inside.start, inside.stop) == (place(2) + 100, place(2) + 400)
    between = noted_on_sound(chapter, TEXT, tokens, Kind.NOISE, Span(place(2) + LENGTH, place(2) + LENGTH + 50), "")
    assert between.word_index == 3
    behind = noted_on_sound(chapter, TEXT, tokens, Kind.NOISE, Span(place(30), place(30) + 5), "")
    assert behind.word_index == 0


def test_a_note_on_room_tone_has_no_length_in_a_recording_and_is_mended_by_nothing(state):
    book, chapter, hearing = state
    reel = CutAndFill(place(2), place(3), TONE).apply(chapter.reel)
    chapter = replace(chapter, reel=reel)
    tokens = tokens_of(book, chapter, TOKENS, hearing)
    for noted in (
        noted_on_sound(chapter, TEXT, tokens, Kind.NOISE, Span(place(2) + 100, place(2) + 400), "hiss"),
        noted_on_sound(chapter, TEXT, tokens, Kind.ADDED, Span(place(3) - 400, place(3) - 100), "hiss"),
    ):
        assert (noted.start, noted.stop) in ((place(2), place(2)), (place(3), place(3)))
        assert mending_edit(book, chapter, list(tokens), noted) is None


def test_a_note_on_a_take_or_another_voice_is_kept_in_the_time_of_its_own_recording(state):
    book, chapter, hearing = state
    taken = ReplaceByTake(place(2), place(4), "r2", 500, 500 + place(4) - place(2), 0.0, TONE, take="p").apply(chapter.reel)
    voices = Reel((*taken.lanes, Lane("clerk", (Rest(place(1)), Piece("r3", 0, 90_000)))))
    chapter = replace(chapter, reel=voices)
    tokens = tokens_of(book, chapter, TOKENS, hearing)
    span = Span(place(2) + 100, place(2) + 400)
    on_take = noted_on_sound(chapter, TEXT, tokens, Kind.NOISE, span, "click")
    assert (on_take.recording, on_take.start, on_take.stop) == ("r2", 600, 900)
    on_clerk = noted_on_sound(chapter, TEXT, tokens, Kind.NOISE, span, "click", 1)
    at = place(2) + 100 - place(1)
    assert (on_clerk.recording, on_clerk.start, on_clerk.stop) == ("r3", at, at + 300)
    for noted, lane in ((on_take, "l1"), (on_clerk, "l2")):
        edit = mending_edit(book, chapter, list(tokens), noted)
        assert edit.lane == lane
        assert edit.start <= span.start < span.stop <= edit.stop


def test_a_note_over_a_join_reaches_from_the_first_sound_to_the_last(state):
    book, chapter, hearing = state
    chapter = replace(chapter, reel=CutAndClose(place(2), place(3)).apply(chapter.reel))
    tokens = tokens_of(book, chapter, TOKENS, hearing)
    noted = noted_on_sound(chapter, TEXT, tokens, Kind.OTHER, Span(place(2) - 100, place(2) + 200), "")
    assert (noted.start, noted.stop) == (place(2) - 100, place(3) + 200)
