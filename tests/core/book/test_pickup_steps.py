"""Commands on the ledger: what is joined, split, sent, given, put in and taken out again; nothing is lost on the way."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from faithful_reel.core.book.commands import EDITION, EditReel, EditReels, LeaveOut, PutBack
from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.book.pickups import (
    AddPickups,
    ChangePickups,
    ChooseParts,
    ChooseTake,
    DropTake,
    GiveTake,
    HeardAgain,
    JoinLines,
    PassPickup,
    ReceiveTakes,
    SendRound,
    Splice,
    SpliceTakes,
    SplitLine,
    TakeOut,
    is_in,
    placed_span,
    settled,
)
from faithful_reel.core.collate.findings import Finding, Kind
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.pickups.ledger import Part, Pickup, Placed, Round, State, Take, Unmatched, Want
from faithful_reel.core.reel.commands import CutAndClose, CutAndFill, OrderLanes, Paste, ReplaceByTake, SetGain, ToneSource
from faithful_reel.core.reel.reel import Join, Lane, Piece, Reel, Rest, reel_of
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.units import Span
from faithful_reel.core.work.asking import heard_instead, widened_line
from faithful_reel.core.work.editing import as_copy, content_for, copy_of, moved_to

LENGTH = 900_000
TONE = ToneSource("r1", 0, 9_000)


def line(name, first=4, count=5, **more):
    return Pickup(name, "c1", (), "a line of green bottles", "that", first, count, 0, 9, **more)


def take(start=100, recording="r2", **more):
    return Take(recording, start, start + 900, 0, "a line", **more)


def book(*pickups, reel=None):
    chapter = ChapterState("c1", "One", "t", "r1", "h", (), reel or reel_of("r1", LENGTH))
    recording = Recording("r1", "one.wav", ".wav", 44_100, 1, LENGTH, -3, -62, -24, TONE)
    return Book(chapters=(chapter,), recordings=(recording,), pickups=tuple(pickups))


def placed(name, start, stop, length, *, recording="k", lane=0):
    edit = ReplaceByTake(start, stop, recording, 50, 50 + length, 1.5, TONE, Join(200), Join(300), take=name, lane=lane)
    kept = Recording(recording, "kept", ".flac", 44_100, 1, length + 100, 0, 0, 0, None)
    return Splice(name, (edit,), (Placed(recording, ((50, 60),), 0),), (kept,))


# --- asking and sending ----------------------------------------------------------------------------------------------


def test_a_line_is_not_asked_for_twice():
    before = book(line("p"))
    with pytest.raises(EditRefused, match="already"):
        AddPickups((line("q"),)).apply(before)
    after = AddPickups((line("q", first=40),)).apply(before)
    assert [p.id for p in after.pickups] == ["p", "q"]


def test_several_lines_are_changed_at_once():
    before = book(line("p"), line("q", 20), line("r", 40, state=State.SPLICED))
    after = ChangePickups(("p", "q"), want=Want.EMPHASIS, note=" softer ").apply(before)
    assert [(p.want, p.note) for p in after.pickups] == [(Want.EMPHASIS, "softer")] * 2 + [(Want.WORDS, "")]
    dropped = ChangePickups(("p",), state=State.DROPPED).apply(after)
    assert dropped.pickup("p").state is State.DROPPED
    assert ChangePickups(("p",), state=State.TO_SEND).apply(dropped).pickup("p").state is State.TO_SEND
    spliced = SpliceTakes((placed("r", 1_000, 5_000, 3_000),)).apply(book(line("p"), line("r", 40, takes=(take(),), chosen=0)))
    with pytest.raises(EditRefused, match="Take it out first"):
        ChangePickups(("p", "r"), state=State.DROPPED).apply(spliced)
    with pytest.raises(EditRefused, match="all else follows"):
        ChangePickups(("p",), state=State.PASSED).apply(before)
    with pytest.raises(EditRefused, match="No line"):
        ChangePickups(()).apply(before)


def test_a_line_that_has_not_gone_out_is_made_longer_and_keeps_what_asks_for_it():
    text = chapter_of("One", ["First of all.", "A line of green bottles, which nobody counted, lay there."])
    asked = replace(line("p", 5, 4), findings=("f1",), note="softer")
    before = book(asked)
    wide = widened_line(text, asked)
    after = wide.apply(before).pickup("p")
    assert (after.findings, after.note) == (("f1",), "softer")
    assert after.line == "A line of green bottles, which nobody counted, lay there."
    wider = widened_line(text, after).apply(wide.apply(before)).pickup("p")
    assert wider.line.startswith("First of all. A line")
    for pickup in (line("p", state=State.SENT), line("p", takes=(take(),))):
        with pytest.raises(EditRefused, match="not gone out"):
            wide.apply(book(pickup))
    again = wide.apply(EditReel("c1", CutAndClose(5, 9)).apply(before))
    assert again.pickup("p").line == after.line


def test_what_was_heard_instead_is_that_of_all_findings_of_a_line():
    found = tuple(
        Finding(f"f{k}", Kind.MISREAD, "x", heard, k, 1, 0, 9, 0.9) for k, heard in enumerate(("that", "those", "that"))
    )
    chapter = ChapterState("c1", "One", "t", findings=found)
    assert heard_instead(chapter, replace(line("p"), findings=("f0", "f1", "f2"))) == "that; those"
    assert heard_instead(chapter, line("p")) == "that"


def test_lines_are_joined_in_the_place_of_the_first_and_split_again():
    before = book(line("a", 0), line("p"), line("b", 12), line("q", 9))
    whole = line("p", 4, 10)
    after = JoinLines(("p", "q"), whole).apply(before)
    assert [p.id for p in after.pickups] == ["a", "p", "b"]
    apart = SplitLine("p", (line("p-4"), line("p-9", 9))).apply(after)
    assert [p.id for p in apart.pickups] == ["a", "p-4", "p-9", "b"]
    out = ChangePickups(("p",), state=State.TO_SEND).apply(book(line("p", state=State.SENT, takes=(take(),)), line("q", 9)))
    with pytest.raises(EditRefused, match="not gone out"):
        JoinLines(("p", "q"), whole).apply(out)
    with pytest.raises(EditRefused, match="nothing to split"):
        SplitLine("p", (line("x"),)).apply(after)


def test_a_round_sends_its_lines_once():
    before = book(line("p"), line("q", 20, state=State.SENT, round=1))
    sent = SendRound(Round(2, ("p", "q"), "2026-11-28", "2026-12-05")).apply(before)
    assert [(p.state, p.round) for p in sent.pickups] == [(State.SENT, 2)] * 2
    assert sent.rounds[-1].due == "2026-12-05"
    with pytest.raises(EditRefused, match="went out already"):
        SendRound(Round(2, ("p",))).apply(sent)
    with pytest.raises(EditRefused, match="come in already"):
        SendRound(Round(3, ("p",))).apply(book(line("p", state=State.IN, takes=(take(),))))
    with pytest.raises(EditRefused, match="nothing to send"):
        SendRound(Round(3, ())).apply(sent)


# --- takes -----------------------------------------------------------------------------------------------------------


def test_what_fits_no_line_is_kept_once_and_can_be_given_to_one_and_back():
    left = (Unmatched("r2", 500, 900, "pickup one"), Unmatched("r2", 2_000, 3_000, "a line of grey bottles"))
    received = ReceiveTakes("r2", (("p", (take(),), 0),), EDITION, left)
    state = received.apply(received.apply(book(line("p"), line("q", 40))))
    assert state.unmatched == left
    given_ = GiveTake("q", replace(take(2_000), stop=3_000)).apply(state)
    assert given_.unmatched == left[:1]
    assert (given_.pickup("q").state, given_.pickup("q").chosen) == (State.CHOSEN, 0)
    back = DropTake("q", 0).apply(given_)
    assert back.pickup("q").takes == ()
    assert back.pickup("q").state is State.TO_SEND
    assert [u.start for u in back.unmatched] == [500, 2_000]
    with pytest.raises(EditRefused):
        DropTake("q", 0).apply(back)


def test_dropping_a_take_keeps_the_choice_on_the_same_one():
    state = book(line("p", takes=(take(1), take(2_000), take(4_000)), chosen=2, state=State.CHOSEN))
    assert DropTake("p", 0).apply(state).pickup("p").chosen == 1
    assert DropTake("p", 2).apply(state).pickup("p").chosen == 1


def test_words_of_several_takes_make_up_the_line_or_are_refused():
    state = book(line("p", takes=(take(), take(3_000)), chosen=1, state=State.IN))
    parts = Part(0, 0, 2), Part(1, 2, 5)
    chosen = ChooseParts("p", parts).apply(state).pickup("p")
    assert (chosen.parts, chosen.chosen, chosen.state) == (parts, 0, State.CHOSEN)
    assert ChooseTake("p", 1).apply(ChooseParts("p", parts).apply(state)).pickup("p").parts == ()
    for wrong in (
        (Part(0, 0, 5),),
        (Part(0, 0, 2), Part(1, 3, 5)),
        (Part(0, 0, 2), Part(2, 2, 5)),
        (Part(0, 0, 2), Part(1, 2, 4)),
    ):
        with pytest.raises(EditRefused, match="make up the line"):
            ChooseParts("p", wrong).apply(state)


# --- in and out ------------------------------------------------------------------------------------------------------


def test_a_line_that_is_in_is_heard_then_passed():
    state = SpliceTakes((placed("p", 1_000, 5_000, 3_000),)).apply(book(line("p", takes=(take(),), chosen=0)))
    assert state.pickup("p").state is State.SPLICED
    assert "k" in {r.hash for r in state.recordings}
    wrong = HeardAgain((), (("p", "“grey” for “green”"),)).apply(state)
    assert (wrong.pickup("p").state, wrong.pickup("p").told) == (State.SPLICED, "“grey” for “green”")
    heard = HeardAgain(("p",)).apply(wrong)
    assert (heard.pickup("p").state, heard.pickup("p").told) == (State.HEARD, "")
    passed = PassPickup("p").apply(heard)
    assert passed.pickup("p").state is State.PASSED
    assert HeardAgain(("p",)).apply(passed).pickup("p").state is State.PASSED
    with pytest.raises(EditRefused, match="spliced already"):
        SpliceTakes((placed("p", 1_000, 5_000, 3_000),)).apply(state)
    for command in (GiveTake("p", take()), DropTake("p", 0), ChooseTake("p", 0)):
        with pytest.raises(EditRefused, match="Take it out first"):
            command.apply(state)


def test_several_lines_go_in_as_one_step_and_each_comes_out_alone():
    before = book(line("p", takes=(take(),), chosen=0), line("q", 40, takes=(take(),), chosen=0))
    both = SpliceTakes((placed("p", 1_000, 5_000, 3_000), placed("q", 20_000, 22_000, 4_000, recording="k2")))
    assert both.label == "Splice 2 pickups"
    state = both.apply(before)
    assert len(state.chapters[0].reel) == LENGTH - 1_000 + 2_000
    one = TakeOut("p", edition=2).apply(state)
    assert placed_span(one.chapters[0].reel, "p") is None
    assert placed_span(one.chapters[0].reel, "q") == (0, Span(21_000, 25_000))
    assert TakeOut("q", edition=2).apply(one).chapters[0].reel == before.chapters[0].reel


def test_a_word_copied_from_a_take_does_not_stretch_it():
    state = SpliceTakes((placed("p", 1_000, 5_000, 3_000),)).apply(book(line("p", takes=(take(),), chosen=0)))
    reel = state.chapters[0].reel
    lane = reel.lanes[0]
    patched = lane.replaced(Span(2_000, 2_500), lane.between(Span(8_000, 8_600)))  # one word of it read elsewhere
    assert placed_span(reel.with_lane(0, patched), "p") == (0, Span(1_000, 4_100))
    for word in (Span(1_500, 2_000), Span(3_500, 4_000)):
        far = lane.replaced(Span(30_000, 30_000), lane.between(word))
        assert placed_span(reel.with_lane(0, far), "p") == (0, Span(1_000, 4_000))


def test_what_lies_under_a_later_splice_comes_out_after_it():
    before = book(line("p", takes=(take(),), chosen=0), line("q", 5, takes=(take(),), chosen=0))
    state = SpliceTakes((placed("p", 1_000, 9_000, 8_500),)).apply(before)
    over = SpliceTakes((placed("q", 3_000, 5_000, 2_500, recording="k2"),)).apply(state)
    with pytest.raises(EditRefused, match="put in over it"):
        TakeOut("p", edition=2).apply(over)
    back = TakeOut("q", edition=2).apply(over)
    assert back.chapters[0].reel == state.chapters[0].reel
    assert TakeOut("p", edition=2).apply(back).chapters[0].reel == before.chapters[0].reel


def test_a_take_that_is_no_longer_there_can_not_be_taken_out():
    state = SpliceTakes((placed("p", 1_000, 5_000, 3_000),)).apply(book(line("p", takes=(take(),), chosen=0)))
    other = state.with_chapter("c1", lambda c: replace(c, reel=reel_of("r1", LENGTH)))
    with pytest.raises(EditRefused, match="no longer in the reel"):
        TakeOut("p", edition=2).apply(other)
    with pytest.raises(EditRefused, match="not in the reel"):
        TakeOut("p", edition=2).apply(book(line("p")))


@settings(max_examples=80, deadline=None)
@given(
    st.lists(st.tuples(st.integers(0, 800_000), st.integers(1, 60_000), st.integers(1, 60_000)), min_size=1, max_size=5),
    st.data(),
)
def test_taking_out_in_any_order_that_is_let_brings_back_the_reel(spots, data):
    names = [f"p{k}" for k in range(len(spots))]
    state = before = book(*(line(n, 10 * k, takes=(take(),), chosen=0) for k, n in enumerate(names)))
    for k, (at, size, length) in enumerate(spots):
        assume(at + size <= len(state.chapters[0].reel))
        state = SpliceTakes((placed(names[k], at, at + size, length, recording=f"k{k}"),)).apply(state)
    left = list(names)
    for _ in range(3 * len(names)):
        if not left:
            break
        name = data.draw(st.sampled_from(left))
        try:
            state = TakeOut(name, edition=2).apply(state)
        except EditRefused:
            continue
        left.remove(name)
    for name in reversed(names):
        if name in left and (found := _out(state, name)) is not None:
            state = found
            left.remove(name)
    if not left:
        assert state.chapters[0].reel == before.chapters[0].reel


def _out(state, name):
    try:
        return TakeOut(name, edition=2).apply(state)
    except EditRefused:
        return None


@pytest.mark.parametrize("length", [3_000, 5_000])
def test_other_lanes_are_as_they_were_when_a_take_comes_out(length):
    music = Lane("music", (Piece("m", 0, 400_000), Rest(500_000)), music=True)
    reel = Reel((*reel_of("r1", LENGTH).lanes, music))
    before = book(line("p", takes=(take(),), chosen=0), reel=reel)
    state = SpliceTakes((placed("p", 1_000, 5_000, length),)).apply(before)
    assert [len(lane) for lane in state.chapters[0].reel.lanes] == [LENGTH - 4_000 + length] * 2
    back = TakeOut("p", edition=2).apply(state).chapters[0].reel
    assert [len(lane) for lane in back.lanes] == [LENGTH] * 2
    assert back.lanes[0] == reel.lanes[0]
    assert back.lanes[1].segments[0] == music.segments[0]


def in_with(*lanes):
    """A book with a take of 3,000 samples of “k” in the place of 4,000 from 1,000 on."""
    reel = Reel((*reel_of("r1", LENGTH).lanes, *lanes))
    before = book(line("p", takes=(take(),), chosen=0), reel=reel)
    return before, SpliceTakes((placed("p", 1_000, 5_000, 3_000),)).apply(before)


def heard_on(book, lane):
    """Which sound is heard where on a lane, in pieces."""
    row = []
    for s in book.chapters[0].reel.lanes[lane].segments:
        start = s.start if isinstance(s, Piece) else None
        if row and start is not None and row[-1][0] == s.recording and row[-1][2] == start:
            row[-1] = (s.recording, row[-1][1], s.stop)
        else:
            row.append((s.recording if start is not None else "", start or 0, s.stop if start is not None else len(s)))
    return row


@pytest.mark.parametrize("to", [500, 40_000])
@pytest.mark.parametrize("lanes", [(), (Lane("clerk", (Piece("s", 0, LENGTH),)),)])
def test_a_take_of_which_half_was_moved_away_takes_nothing_else_with_it(to, lanes):
    _, state = in_with(*lanes)
    half = copy_of(state.chapters[0], [Span(2_500, 4_000)], [k.id for k in state.chapters[0].reel.lanes], "")
    moved = moved_to(state, state.chapters[0], half, state.chapters[0], to, None)
    state = EditReels(tuple(moved), "Move").apply(state)
    back = TakeOut("p", edition=2).apply(state)
    words = [(a, b) for name, a, b in heard_on(back, 0) if name == "r1"]
    assert min(words)[0] == 0
    assert sum(b - a for a, b in words) == LENGTH
    assert not [name for name, _, _ in heard_on(back, 0) if name == "k"]
    if lanes:  # what was moved of the other voice stays where it was moved to
        assert sum(b - a for name, a, b in heard_on(back, 1) if name == "s") == LENGTH - 1_000
    else:
        assert heard_on(back, 0) == ([("r1", 0, LENGTH)] if to > 5_000 else heard_on(back, 0))
        assert len(back.chapters[0].reel) == LENGTH


def test_a_copy_of_a_word_of_a_take_stays_when_the_take_comes_out():
    _, state = in_with()
    word = copy_of(state.chapters[0], [Span(1_500, 1_800)], ["l1"], "")
    paste = Paste(400_000, 400_000, as_copy(content_for(state.chapters[0], word, None), state), edition=2)
    back = TakeOut("p", edition=2).apply(EditReel("c1", paste).apply(state))
    assert heard_on(back, 0) == [("r1", 0, 401_000), ("k", 550, 850), ("r1", 401_000, LENGTH)]


def test_copies_that_older_journals_hold_as_takes_go_each_for_itself():
    _, state = in_with()
    word = copy_of(state.chapters[0], [Span(1_500, 1_800)], ["l1"], "")
    state = EditReel("c1", Paste(400_000, 400_000, word.content)).apply(state)
    back = TakeOut("p", edition=2).apply(state)
    assert heard_on(back, 0) == [("r1", 0, LENGTH)]


def test_a_click_that_was_laid_over_inside_of_a_take_goes_with_it():
    before, state = in_with()
    state = EditReel("c1", CutAndFill(2_000, 2_100, TONE)).apply(state)
    assert TakeOut("p", edition=2).apply(state).chapters[0].reel == before.chapters[0].reel


def test_lanes_may_be_in_another_order_when_a_take_comes_out():
    _, state = in_with(Lane("clerk", (Piece("s", 0, LENGTH),)))
    turned = EditReel("c1", OrderLanes((1, 0))).apply(state)
    back = TakeOut("p", edition=2).apply(turned)
    assert (heard_on(back, 0), heard_on(back, 1)) == ([("s", 0, LENGTH)], [("r1", 0, LENGTH)])


def test_a_line_whose_take_is_gone_is_not_in_whatever_was_done_with_it_once():
    _, state = in_with()
    gone = EditReel("c1", CutAndClose(900, 4_100)).apply(state)
    paired = state.with_chapter("c1", lambda c: replace(c, reel=reel_of("r1", LENGTH)))
    for now in (gone, paired):
        assert state.pickup("p").state is State.SPLICED
        assert not is_in(now, now.pickup("p"))
        assert settled(now).pickup("p").state is State.CHOSEN
        assert DropTake("p", 0).apply(now).pickup("p").takes == ()
        assert ChangePickups(("p",), state=State.TO_SEND).apply(now).pickup("p").state is State.TO_SEND
        again = SpliceTakes((placed("p", 1_000, 5_000, 3_000, recording="k2"),)).apply(paired)
        assert is_in(again, again.pickup("p"))
    assert settled(state) is state


def test_lines_of_a_chapter_that_is_left_out_are_not_shown_and_come_back_with_it():
    _, state = in_with()
    aside = LeaveOut("c1").apply(state)
    assert settled(aside).pickups == ()
    assert settled(PutBack("c1", 0).apply(aside)).pickups == state.pickups


def test_what_older_journals_took_out_they_take_out_still():
    before, state = in_with()
    assert TakeOut("p").apply(state).chapters[0].reel == before.chapters[0].reel


def test_gain_changed_inside_of_a_take_goes_with_it():
    state = SpliceTakes((placed("p", 1_000, 5_000, 3_000),)).apply(book(line("p", takes=(take(),), chosen=0)))
    edited = EditReel("c1", SetGain(1_500, 2_500, -3.0, 0)).apply(state)
    assert TakeOut("p", edition=2).apply(edited).chapters[0].reel == reel_of("r1", LENGTH)
