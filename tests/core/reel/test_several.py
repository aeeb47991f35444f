"""Many edits in one pass are what they are one after the other, and what a reel is known by does not depend on what was asked before."""

from __future__ import annotations

import contextlib
import hashlib
from dataclasses import replace

from hypothesis import example, given, settings
from hypothesis import strategies as st

from faithful_reel.core.book import packing
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import CutAndClose, CutAndFill, InsertPause, Paste, SetGain, ToneSource
from faithful_reel.core.reel.cutting import copied
from faithful_reel.core.reel.exchanges import Exchange, Playing, covered, exchanges, uncovered
from faithful_reel.core.reel.reel import LIKE, RUNS_ON, SOFT, Fade, Lane, Marker, Piece, Reel
from faithful_reel.core.reel.several import edited
from faithful_reel.core.reel.timing import LINKED
from faithful_reel.core.units import Span

TONE = ToneSource("t", 5, 900)
REEL = Reel(
    (
        Lane("voice", (Piece("a", 0, 300, fade_in=Fade(40), fade_out=Fade(90)), Piece("a", 400, 700, join=RUNS_ON)), tone=TONE),
        Lane("other", (Piece("b", 50, 450), Piece("b", 10, 60, -0.0))),
        Lane("apart", (Piece("m", 0, 650),), music=True, linked=False, late=7),
    ),
    (Marker("m1", 120), Marker("m2", 590)),
)
PLACE, LONG = st.integers(-5, 640), st.integers(0, 160)
LANES = st.sampled_from([LINKED, 0, 1, 2, "l2"])


@st.composite
def several(draw):
    """Edits as acts give them, cuts backwards and fills forwards, and such as none gives."""
    ways = st.sampled_from(["cuts", "fills", "any"])
    found = []
    for way in draw(st.lists(ways, min_size=1, max_size=3)):
        places = draw(st.lists(PLACE, min_size=1, max_size=6))
        lane, join = draw(LANES), draw(st.sampled_from([SOFT, LIKE]))
        ends = sorted(places) if way != "any" else places
        spans = [(a, min(a + draw(LONG), b)) if way != "any" else (a, a + draw(LONG)) for a, b in zip(ends, [*ends[1:], 640])]
        if way == "cuts":
            found += [CutAndClose(a, b, join, lane=lane) for a, b in spans[::-1]]
        elif way == "fills":
            found += [CutAndFill(a, b, draw(st.sampled_from([TONE, None])), k) for a, b in spans for k in (0, draw(LANES))]
        else:
            made = [(CutAndClose(a, b, lane=lane), InsertPause(a, b - a, TONE), SetGain(a, b, -1.0)) for a, b in spans]
            found += [draw(st.sampled_from(row)) for row in made]
    return found


def one_by_one(reel, edits):
    for edit in edits:
        reel = edit.apply(reel)
    return reel


def outcome(act, *args):
    try:
        return act(*args)
    except EditRefused as problem:
        return str(problem)


@settings(max_examples=400, deadline=None)
@given(several(), st.booleans())
@example([CutAndClose(300, 400, LIKE), CutAndClose(200, 300, SOFT)], True)  # they touch
@example([CutAndClose(100, 600), CutAndClose(0, 100)], False)  # all of it
@example([CutAndFill(100, 200, TONE, 0), CutAndFill(200, 300, None, 0), CutAndFill(250, 260, TONE, 1)], True)
def test_edits_in_one_pass_are_what_they_are_one_by_one(edits, apart):
    reel = REEL if apart else replace(REEL, lanes=REEL.lanes[:2])
    assert outcome(edited, reel, edits) == outcome(one_by_one, reel, edits)


def test_what_many_cuts_exchanged_is_told_exactly():
    lane = Lane("", tuple(Piece("a", 10 * k, 10 * k + 6) for k in range(300)))
    cuts = [CutAndClose(at, at + 2) for at in range(1700, 2, -30)]
    after = edited(Reel((lane,)), cuts).lanes[0]
    gone = [Span(at, at + 2) for at in range(1700, 2, -30)][::-1]
    assert exchanges(lane, after) == [Exchange(s, Span(s.start - 2 * k, s.start - 2 * k)) for k, s in enumerate(gone)]


@settings(max_examples=200, deadline=None)
@given(several(), st.lists(st.tuples(st.sampled_from("abm"), st.integers(0, 700), st.integers(1, 300)), min_size=1, max_size=8))
def test_what_is_heard_is_known_step_by_step(edits, sounds):
    """A copy of a stretch is in the reel twice, so that pieces lie over one another in their recording."""
    reel = Paste(100, 100, copied(REEL, Span(40, 330), (0, 1))).apply(REEL)
    playing = Playing()
    playing.follow(reel)
    for edit in edits:
        with contextlib.suppress(EditRefused):
            reel = edit.apply(reel)
        playing.follow(reel)
        there = covered(reel.lanes)
        for recording, start, length in sounds:
            sound = (recording, start, start + length)
            assert playing.uncovered(sound) == uncovered(there, sound)


def test_a_key_is_that_of_the_whole_reel_whatever_was_asked_before(monkeypatch):
    def anew(reel):
        return hashlib.sha256(repr(packing._heard(packing.json_of(Reel, reel))).encode()).hexdigest()[:16]

    monkeypatch.setattr(packing, "MOST_WRITTEN", 6)
    reel = REEL
    for k in range(40):
        edit = SetGain(30 + k, 90 + k, -0.0 if k % 2 else 0.0, lane=k % 3) if k % 4 else CutAndClose(5 * k, 5 * k + 3)
        reel = edit.apply(reel)
        assert packing.reel_key(reel) == anew(reel)
    assert packing.reel_key(replace(reel, markers=())) == packing.reel_key(reel)
