"""What decisions, hearings and takes do to each other: no note, take or choice is lost, and old journals are read as they were."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_reel.core.book.commands import EDITION, Decide, DecideSeveral, EditReel, NoteFinding, PlaceHearing, SplitChapter
from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.book.pickups import MarkSent, NotePickup, ReceiveTakes
from faithful_reel.core.collate.findings import SHOWN, Decision, Evidence, Finding, Kind, differences, is_shown
from faithful_reel.core.collate.links import collated
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.pickups.ledger import Pickup, State, Take
from faithful_reel.core.reel.commands import CutAndClose, CutAndFill, PutBackSound, ReplaceByTake, SetGain, ToneSource
from faithful_reel.core.reel.reel import Lane, Piece, Reel, Rest, reel_of, split_reel
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.work.mending import finding_span, mending_edit, restoring_edits
from faithful_reel.core.work.reporting import report_rows
from faithful_reel.core.work.splicing import in_place
from faithful_reel.core.work.timeline import tokens_of

RATE = 44_100
TONE = ToneSource("r1", 0, 9_000)
TEXT = chapter_of("One", ["The tide went out. A line of green bottles lay there. Nobody spoke."])


def finding(name, kind=Kind.MISREAD, index=3, start=90_000, *, heard="that", stop=None, count=1, **more):
    return Finding(name, kind, "this", heard, index, count, start, start + 8_000 if stop is None else stop, 0.9, **more)


def book(*findings, pickups=(), length=900_000):
    chapter = ChapterState("c1", "One", "t", "r1", "h", tuple(findings), reel_of("r1", length))
    recording = Recording("r1", "one.wav", ".wav", RATE, 1, length, -3, -62, -24, TONE)
    return Book(chapters=(chapter,), recordings=(recording,), pickups=tuple(pickups))


def asked(name="p", finding="f1", *, state=State.TO_SEND, takes=(), chosen=-1, note=""):
    return Pickup(name, "c1", (finding,), "A line of green bottles", "that", 4, 5, 0, 9, state, tuple(takes), chosen, note)


def take(recording="r2", start=100, *, departures=0):
    return Take(recording, start, start + 900, departures, "a line of green bottles")


# --- hearing again ------------------------------------------------------------------------------------------------


def test_every_note_and_decision_outlives_a_new_hearing_even_of_findings_that_are_alike():
    old = [
        finding("f1", Kind.NOISE, 3, 90_000, heard="", note="the chair", decision=Decision.MEND),
        finding("f2", Kind.NOISE, 3, 130_000, heard="", note="the pen"),
        finding("f3", note="ask the author"),
        finding("h0001", Kind.OTHER, 7, 400_000, heard=""),
    ]
    heard = (
        finding("f1", Kind.NOISE, 3, 129_900, heard=""),
        finding("f2", Kind.NOISE, 3, 90_300, heard=""),
        finding("f4", index=9, start=500_000),
        finding("h0001", index=11, start=600_000),
    )
    after = PlaceHearing("c1", "h2", heard, EDITION).apply(book(*old)).chapters[0].findings
    told = {f.note: f for f in after if f.note}
    assert set(told) == {"the chair", "the pen", "ask the author"}
    assert (told["the chair"].start, told["the chair"].decision) == (90_300, Decision.MEND)
    assert told["the pen"].start == 129_900
    assert len({f.id for f in after}) == len(after) == 6
    assert [f.start for f in after] == sorted(f.start for f in after)


def test_a_finding_keeps_its_name_so_that_its_pickup_still_knows_it():
    before = book(finding("f7", decision=Decision.PICKUP), pickups=[asked(finding="f7", state=State.SENT)])
    after = PlaceHearing("c1", "h2", (finding("f1"),), EDITION).apply(before)
    assert [f.id for f in after.chapters[0].findings] == ["f7"]
    reopened = Decide("c1", ("f7",), Decision.OPEN, edition=EDITION).apply(after)
    assert reopened.pickups[0].state is State.DROPPED  # it had gone out


@given(st.lists(st.tuples(st.integers(0, 4), st.integers(0, 9), st.booleans()), max_size=12), st.integers(0, 12))
def test_no_hearing_loses_what_was_decided_or_makes_two_of_one_name(rows, split):
    made = [
        finding(
            f"f{k}", index=i, start=10_000 * s, note=f"n{k}" if noted else "", decision=Decision.STET if noted else Decision.OPEN
        )
        for k, (i, s, noted) in enumerate(rows)
    ]
    fresh = tuple(finding(f"f{k}", index=f.word_index, start=f.start + 40) for k, f in enumerate(made[split:] + made[:2]))
    after = PlaceHearing("c1", "h2", fresh, EDITION).apply(book(*made)).chapters[0].findings
    assert {f.note for f in made if f.note} <= {f.note for f in after}
    assert len({f.id for f in after}) == len(after)


def test_journals_of_the_first_edition_are_read_as_they_were_written():
    """Replaying an old journal must give the names that its later steps use."""
    before = book(finding("f7", decision=Decision.STET))
    assert [f.id for f in PlaceHearing("c1", "h2", (finding("f1"),)).apply(before).chapters[0].findings] == ["f1"]
    waiting = book(finding("f1", decision=Decision.PICKUP), pickups=[asked(state=State.SENT)])
    assert Decide("c1", ("f1",), Decision.OPEN).apply(waiting).pickups == ()
    received = ReceiveTakes("r2", (("p", (take(),), 0),))
    assert len(received.apply(received.apply(book(finding("f1"), pickups=[asked()]))).pickups[0].takes) == 2


# --- the ledger ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("state", "after"),
    [
        (State.TO_SEND, None),
        (State.SENT, "dropped"),
        (State.IN, "dropped"),
        (State.CHOSEN, "dropped"),
        (State.SPLICED, "spliced"),
    ],
)
@pytest.mark.parametrize("decision", [Decision.OPEN, Decision.STET])
def test_a_line_that_nobody_asks_for_any_more_is_dropped_with_its_takes_kept(state, after, decision):
    takes = (take(),) if state not in (State.TO_SEND, State.SENT) else ()
    before = book(finding("f1", decision=Decision.PICKUP), pickups=[asked(state=state, takes=takes, chosen=0 if takes else -1)])
    found = Decide("c1", ("f1",), decision, edition=EDITION).apply(before).pickups
    assert [p.state.value for p in found] == ([after] if after else [])
    assert [p.takes for p in found] == ([takes] if after else [])


@pytest.mark.parametrize(("takes", "state"), [((), State.SENT), ((take(),), State.IN)])
def test_a_dropped_line_that_is_asked_for_again_is_what_it_was(takes, state):
    before = book(finding("f1"), pickups=[replace(asked(state=State.DROPPED, takes=takes, chosen=len(takes) - 1), findings=())])
    found = Decide("c1", ("f1",), Decision.PICKUP, pickup=asked("other"), edition=EDITION).apply(before).pickups
    assert [(p.id, p.state, p.takes, p.findings) for p in found] == [("p", state, takes, ("f1",))]


def test_a_note_goes_with_the_pickup_and_stays_with_the_finding():
    state = book(finding("f1"), finding("f2", index=5))
    state = NoteFinding("c1", "f1", " slower, as before ").apply(state)
    line = replace(asked(), note=state.chapters[0].finding("f1").note)
    state = Decide("c1", ("f1",), Decision.PICKUP, pickup=line, edition=EDITION).apply(state)
    state = Decide("c1", ("f2",), Decision.PICKUP, note="mind the name", pickup=asked("q"), edition=EDITION).apply(state)
    assert state.pickups[0].note == "slower, as before; mind the name"
    state = NoteFinding("c1", "f1", "faster").apply(state)
    assert state.pickups[0].note == "mind the name; faster"
    assert state.chapters[0].finding("f1").note == "faster"
    assert NotePickup("p", " only this ").apply(state).pickups[0].note == "only this"


def test_the_same_recording_twice_brings_its_takes_once():
    received = ReceiveTakes("r2", (("p", (take(), take(start=5_000)), 1),), EDITION)
    once = received.apply(book(finding("f1"), pickups=[asked(state=State.SENT)]))
    assert received.apply(once) == once
    assert (len(once.pickups[0].takes), once.pickups[0].chosen, once.pickups[0].state) == (2, 1, State.IN)


@pytest.mark.parametrize(
    ("state", "old", "new", "chosen"),
    [
        (State.CHOSEN, 2, 0, 0),  # the editor's own choice stays, whatever comes
        (State.IN, 0, 2, 0),  # a worse take does not push out what was proposed
        (State.IN, 1, 1, 1),  # of equals the later is normally meant
        (State.IN, 2, 0, 1),
    ],
)
def test_a_later_recording_never_overwrites_a_choice_with_a_worse_take(state, old, new, chosen):
    before = book(finding("f1"), pickups=[asked(state=state, takes=[take(departures=old)], chosen=0)])
    after = ReceiveTakes("r3", (("p", (take("r3", departures=new),), 0),), EDITION).apply(before).pickups[0]
    assert len(after.takes) == 2
    assert after.chosen == chosen
    assert after.state is state


def test_sending_does_not_wake_what_was_dropped():
    state = book(finding("f1"), pickups=[asked(state=State.DROPPED)])
    assert MarkSent(()).apply(state).pickups[0].state is State.DROPPED


# --- reopening ----------------------------------------------------------------------------------------------------


def sound(name, start, stop):
    """Every recording is a slow ramp, so that any sample out of its place is seen."""
    x = (np.arange(start, stop) + (7_000_000 if name == "r2" else 0)) / 8_000_000
    return np.where(np.arange(start, stop) < 0, 0, x).astype(np.float32)


def heard_from(reel):
    return Renderer(reel, sound).render(0, len(reel))


MENDED = {
    "a repeat": (finding("f1", Kind.REPEATED, 4, 300_000, stop=330_000), CutAndClose(295_000, 335_000)),
    "a pause": (finding("f1", Kind.PAUSE, 4, 300_000, stop=400_000, heard=""), CutAndClose(320_000, 380_000)),
    "a noise": (finding("f1", Kind.NOISE, 4, 300_000, stop=310_000, heard=""), CutAndFill(299_000, 311_000, TONE)),
    "a jump": (
        finding("f1", Kind.LEVEL, 4, 300_000, stop=340_000, evidence=Evidence(flaw="level jump", usual=-4.0)),
        SetGain(300_000, 340_000, -4.0),
    ),
}


@pytest.mark.parametrize("what", MENDED)
def test_reopening_brings_back_what_mending_took(what):
    found, edit = MENDED[what]
    if what == "a jump":
        from faithful_reel.core.collate.flaws import Flaw

        found = replace(found, evidence=replace(found.evidence, flaw=Flaw.JUMP.value))
    before = book(found)
    mended = EditReel("c1", edit, ("f1",), EDITION).apply(before)
    assert not np.array_equal(heard_from(mended.chapters[0].reel), heard_from(before.chapters[0].reel))
    edits = restoring_edits(mended, mended.chapters[0], mended.chapters[0].findings[0])
    assert edits
    again = DecideSeveral("c1", (Decide("c1", ("f1",), Decision.OPEN, edition=EDITION),), edits).apply(mended).chapters[0]
    assert again.findings[0].decision is Decision.OPEN
    assert len(again.reel) == len(before.chapters[0].reel)
    assert np.allclose(heard_from(again.reel), heard_from(before.chapters[0].reel), atol=1e-6)


def test_reopening_one_of_two_mends_leaves_the_other_out():
    first = finding("f1", Kind.REPEATED, 4, 300_000, stop=330_000)
    second = finding("f2", Kind.REPEATED, 4, 340_000, stop=370_000)
    state = book(first, second)
    state = EditReel("c1", CutAndClose(295_000, 335_000), ("f1",), EDITION).apply(state)
    state = EditReel("c1", CutAndClose(295_000, 335_000), ("f2",), EDITION).apply(state)  # 335,000 to 375,000 as it came
    chapter = state.chapters[0]
    for edit in restoring_edits(state, chapter, chapter.finding("f2")):
        state = EditReel("c1", edit).apply(state)
    chapter = state.chapters[0]
    assert finding_span(chapter, second) is not None
    assert finding_span(chapter, first) is None
    pieces = [(s.start, s.stop) for s in chapter.reel.lanes[0].segments]
    assert pieces == [(0, 295_000), (330_000, 900_000)]  # in one again with what it runs on into


def test_reopening_at_the_head_of_a_chapter_brings_nothing_of_the_chapter_before_it():
    one = book()
    recording, reel = one.chapters[0].recording, one.chapters[0].reel
    early, late = split_reel(reel, 250_000)
    second = replace(one.chapters[0], id="c2", reel=late, findings=(finding("f1", Kind.REPEATED, 4, 250_000, stop=330_000),))
    shared = replace(one, chapters=(replace(one.chapters[0], reel=early), second))
    mended = EditReel("c2", CutAndClose(0, 85_000), ("f1",), EDITION).apply(shared)
    (edit,) = restoring_edits(mended, mended.chapter("c2"), mended.chapter("c2").finding("f1"))
    assert (edit.recording, edit.start, edit.stop) == (recording, 250_000, 335_000)
    assert edit.apply(mended.chapter("c2").reel) == late


def test_sound_is_put_over_as_much_as_it_is_long_or_over_nothing():
    reel = reel_of("r1", 100_000)
    with pytest.raises(EditRefused):
        PutBackSound(10_000, "r1", 0, 500, 0.0, TONE, over=400).apply(reel)


def test_where_other_sound_lies_now_reopening_says_so():
    found = finding("f1", Kind.REPEATED, 4, 300_000, stop=330_000)
    state = EditReel("c1", CutAndClose(295_000, 335_000), ("f1",), EDITION).apply(book(found))
    state = EditReel("c1", ReplaceByTake(290_000, 300_000, "r2", 0, 9_000, 0.0, TONE, take="p")).apply(state)
    with pytest.raises(EditRefused, match="History"):
        restoring_edits(state, state.chapters[0], state.chapters[0].findings[0])


@given(st.lists(st.tuples(st.integers(0, 80), st.integers(1, 9)), min_size=1, max_size=5), st.data())
def test_any_cut_put_back_is_the_reel_it_was(cuts, data):
    reel = reel_of("r1", 100_000)
    for at, length in cuts:
        if 1_000 * (at + length) < len(reel):
            reel = CutAndClose(1_000 * at, 1_000 * (at + length)).apply(reel)
    at = data.draw(st.integers(1, len(reel) - 1_002))
    length = data.draw(st.integers(1, 1_000))
    (piece,) = [s for s, p in zip(reel.lanes[0].segments, reel.lanes[0].starts(), strict=False) if p <= at < p + len(s)][:1]
    offset = at - reel.lanes[0].starts()[reel.lanes[0].segments.index(piece)]
    if at + length > reel.lanes[0].starts()[reel.lanes[0].segments.index(piece)] + len(piece):
        return
    cut = CutAndClose(at, at + length).apply(reel) if length < len(reel) else reel
    back = PutBackSound(at, "r1", piece.start + offset, piece.start + offset + length, 0.0, TONE).apply(cut)
    assert len(back) == len(reel)
    assert np.allclose(heard_from(back), heard_from(reel), atol=1e-6)


def test_putting_back_keeps_the_other_lanes_in_step():
    reel = Reel((Lane("voice", (Piece("r1", 0, 50_000),)), Lane("other", (Piece("r2", 0, 50_000),))))
    back = PutBackSound(20_000, "r1", 60_000, 65_000, 0.0, TONE).apply(reel)
    assert [len(lane) for lane in back.lanes] == [55_000, 55_000]
    assert back.lanes[1].segments[1] == Rest(5000)
    with pytest.raises(EditRefused):
        PutBackSound(70_000, "r1", 0, 10, 0.0, TONE).apply(reel)


# --- what became of a finding -------------------------------------------------------------------------------------


def test_a_finding_of_which_hardly_anything_is_left_is_gone_and_not_at_another_word():
    found = finding("f1", Kind.NOISE, 4, 300_000, stop=310_000)
    replaced = ReplaceByTake(240_000, 309_000, "r2", 0, 60_000, 0.0, TONE, take="p").apply(book(found).chapters[0].reel)
    chapter = replace(book(found).chapters[0], reel=replaced)
    assert finding_span(chapter, found) is None
    kept = ReplaceByTake(240_000, 303_000, "r2", 0, 60_000, 0.0, TONE, take="p").apply(book(found).chapters[0].reel)
    assert finding_span(replace(chapter, reel=kept), found) is not None


def test_the_report_has_what_the_docket_shows():
    doubts = [replace(finding(f"f{k}", start=1000 * k), confidence=c) for k, c in enumerate((0.1, SHOWN - 0.01, SHOWN, 0.4, 0.6))]
    state = book(*doubts)
    rows = report_rows(state, state.chapters, lambda _: TEXT)
    assert [r.sure for r in rows] == [f.confidence for f in doubts if is_shown(f)] == [SHOWN, 0.4, 0.6]
    rows = report_rows(state, state.chapters, lambda _: TEXT, lambda f: f.confidence > 0.5)
    assert [r.sure for r in rows] == [0.1, SHOWN - 0.01, SHOWN, 0.4]


def test_a_finding_over_a_split_ends_at_it():
    state = book(finding("f1", index=2, count=5), finding("f2", index=6))
    split = SplitChapter("c1", 4, 200_000, ("a", "b"), ("One", "Two"), edition=EDITION).apply(state)
    assert [(f.id, f.word_index, f.word_count) for c in split.chapters for f in c.findings] == [("f1", 2, 2), ("f2", 2, 1)]


# --- takes that are in --------------------------------------------------------------------------------------------


def said(*words, step=20_000, length=14_000, start=50_000):
    return [Heard(word, start + k * step, start + k * step + length, 0.9) for k, word in enumerate(words)]


def test_a_take_that_is_in_is_seen_in_all_three_sounds():
    line = "A line of green bottles"
    heard = said("The", "tide", "went", "out.", *line.split(), "lay", "there.")
    placed = tuple(None for _ in TEXT.words)
    from faithful_reel.core.collate.proofing import Placed
    from faithful_reel.core.work.timeline import Hearing

    placed = tuple(Placed(h.start, h.stop, 0.9) for h in heard) + (None,) * (len(TEXT.words) - len(heard))
    links = tuple((k, k + 1, k, k + 1, True) for k in range(len(heard)))
    hearing = Hearing(tuple(heard), placed, links)
    words = tuple((h.start - 120_000, h.stop - 120_000) for h in heard[4:9])
    kept = Take("r2", words[0][0], words[-1][1], 0, line, words)
    state = book(pickups=[asked(state=State.SPLICED, takes=[kept], chosen=0)])
    edit = ReplaceByTake(
        heard[4].start - 3_000, heard[8].stop + 3_000, "r2", words[0][0] - 3_000, words[-1][1] + 3_000, 0.0, TONE, take="p"
    )
    state = EditReel("c1", edit).apply(state)

    shown = in_place(state, state.chapters[0], state.pickups[0], hearing)
    assert shown is not None
    assert [w[0] for w in shown.words] == line.split()
    for text, original, result, theirs, inside in shown.words:
        assert inside, text
        assert original[1] - original[0] == result[1] - result[0] == theirs[1] - theirs[0]
    gone = replace(state, chapters=(replace(state.chapters[0], reel=reel_of("r1", 900_000)),))
    assert in_place(gone, gone.chapters[0], gone.pickups[0], hearing) is None
    assert len(tokens_of(state, state.chapters[0], [w.text for w in TEXT.words], hearing)) == len(TEXT.words)


# --- false starts -------------------------------------------------------------------------------------------------


def kinds(written, read):
    tokens, heard = written.split(), read.split()
    starts = frozenset([0, *(i + 1 for i, t in enumerate(tokens[:-1]) if t.endswith("."))])
    return {d.kind for d in differences(tokens, starts, heard, collated(tokens, heard))}


def test_two_added_words_far_from_the_sentences_opening_are_no_false_start():
    rest = " ".join(f"word{k}" for k in range(40))
    written = f"It was cold. And so {rest} the end."
    assert Kind.FALSE_START not in kinds(written, written.replace("word38", "and so word38"))
    assert Kind.FALSE_START in kinds("And so the long night fell.", "And so and so the long night fell.") | kinds(
        "It was cold. And so the night fell.", "It was cold. And so the and so the night fell."
    ) or Kind.REPEATED in kinds("And so the long night fell.", "And so and so the long night fell.")


def test_a_pickup_of_a_mended_finding_can_not_be_mended_twice():
    found = finding("f1", Kind.REPEATED, 4, 300_000, stop=330_000)
    state = EditReel("c1", CutAndClose(295_000, 335_000), ("f1",), EDITION).apply(book(found))
    assert mending_edit(state, state.chapters[0], (), state.chapters[0].findings[0]) is None
