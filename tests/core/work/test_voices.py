"""Two narrators of one chapter: each heard, each collated with its own words."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest

from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.book.packing import adapter
from faithful_reel.core.collate.findings import Decision, Evidence, Finding, Kind
from faithful_reel.core.collate.flaws import Flaw
from faithful_reel.core.collate.proofing import Placed, Proof
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.reel.commands import ChangeGain, CutAndClose, CutAndFill, OrderLanes, PutBackSound, ToneSource
from faithful_reel.core.reel.reel import Lane, Piece, Reel, Rest
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.units import EAR_RATE, Span
from faithful_reel.core.work import hearing_again
from faithful_reel.core.work.gone import going, lane_words
from faithful_reel.core.work.hearing import other_voices, owners_of
from faithful_reel.core.work.mending import mending_edit, restoring_edits
from faithful_reel.core.work.timeline import Hearing, Tokens, finding_spans, tokens_of, voice_tokens

RATE = 44_100
TEXT = chapter_of("", ["The tide went out. No, said he. It came back. Not yet."])
TONE, OWN = ToneSource("a", 0, 900), ToneSource("b", 0, 800)
STEP, LENGTH = 22_050, 15_000


def at(k):
    return 44_100 + STEP * k


def hearing(words, *, voices=(), extra=()):
    heard, placed, links = [], [None] * len(TEXT.words), []
    for k in sorted(words):
        links.append((k, k + 1, len(heard), len(heard) + 1, True))
        heard.append(Heard(TEXT.words[k].text, at(k), at(k) + LENGTH, 0.9))
        placed[k] = Placed(at(k), at(k) + LENGTH, 0.9)
    for k, said in extra:
        links.append((k, k, len(heard), len(heard) + 1, False))
        heard.append(Heard(said, at(k), at(k) + LENGTH, 0.9))
    return Hearing(tuple(heard), tuple(placed), tuple(links), voices)


A_WORDS, B_WORDS = {0, 1, 2, 3, 5, 6, 7, 8, 9}, {4, 10, 11}


def made(*, a_extra=(), late=0):
    length = at(20)
    clerk = Lane("clerk", (*((Rest(late),) if late else ()), Piece("b", 0, length)), tone=OWN)
    reel = Reel((Lane("voice", (Piece("a", 0, length),)), clerk, Lane("sea", (Piece("m", 0, length),), music=True)))
    chapter = ChapterState("c1", "One", "t", "a", "h", (), reel)
    tones = {"a": TONE, "b": OWN, "m": None}
    book = Book(
        recordings=tuple(Recording(r, r, ".wav", RATE, 1, length, -3, -60, -20, t) for r, t in tones.items()), chapters=(chapter,)
    )
    return book, chapter, hearing(A_WORDS, voices=(("b", hearing(B_WORDS)),), extra=a_extra)


TEXTS = [w.text for w in TEXT.words]


def test_every_word_stands_where_its_voice_says_it():
    book, chapter, heard = made(late=700)
    tokens = tokens_of(book, chapter, TEXTS, heard)
    assert [t.lane for t in tokens] == [1 if k in B_WORDS else 0 for k in range(len(TEXTS))]
    assert [t.start for t in tokens] == [at(k) + (700 if k in B_WORDS else 0) for k in range(len(TEXTS))]
    assert [t.lane for t in tokens.heard()] == [t.lane for t in tokens]
    assert tokens[4].lane == 1
    assert [t.lane for t in tokens[4:6]] == [1, 0]
    alone = voice_tokens(chapter, TEXTS, "b", heard.voices[0][1])
    assert [t.word for t in alone.heard()] == sorted(B_WORDS)
    assert lane_words(tokens, [Span(at(3), at(6))], 1) == "No,"
    assert lane_words(tokens, [Span(at(3), at(6))], 0) == "out. said"


def test_every_word_keeps_its_voice_when_lanes_change_places():
    book, chapter, heard = made()
    turned = replace(chapter, reel=OrderLanes((2, 1, 0)).apply(chapter.reel))
    tokens = tokens_of(book, turned, TEXTS, heard)
    assert [t.lane for t in tokens] == [1 if k in B_WORDS else 2 for k in range(len(TEXTS))]
    assert [t.start for t in tokens] == [at(k) for k in range(len(TEXTS))]
    clerk_first = replace(chapter, reel=OrderLanes((1, 0, 2)).apply(chapter.reel))
    assert [t.lane for t in tokens_of(book, clerk_first, TEXTS, heard)] == [0 if k in B_WORDS else 1 for k in range(len(TEXTS))]
    added = Finding("f", Kind.ADDED, "", "um", 6, 0, at(6) + LENGTH + 1000, at(6) + LENGTH + 3000, 0.9)
    alone = replace(turned, reel=OrderLanes((1, 0)).apply(Reel((chapter.reel.lanes[0], chapter.reel.lanes[2]))))
    words = tokens_of(book, alone, TEXTS, replace(heard, voices=()))
    assert isinstance(mending_edit(book, alone, words, added), CutAndClose)  # nobody else speaks


def test_a_cut_moves_both_voices_and_takes_a_voice_away_with_its_lane():
    book, chapter, heard = made()
    cut = replace(chapter, reel=CutAndClose(at(4) - 100, at(5) - 100).apply(chapter.reel))
    tokens = tokens_of(book, cut, TEXTS, heard)
    assert tokens[4].start == -1
    assert [tokens[k].start for k in (5, 10)] == [at(4), at(9)]
    without = replace(chapter, reel=Reel(chapter.reel.lanes[:1]))
    assert [t.word for t in tokens_of(book, without, TEXTS, heard).heard()] == sorted(A_WORDS)


def as_it_stands(monkeypatch, cut, *found, known=()):
    """What each hearing of a chapter of two voices is given to read, and what is told where all of them find `found`."""
    book, chapter, heard = made()
    chapter = replace(chapter, reel=CutAndClose(*cut).apply(chapter.reel), findings=known)
    asked = []

    def proofed(x, text, *_, **__):
        asked.append([w.text for w in text.words])
        return Proof((), (), found, (), len(x) / EAR_RATE)

    monkeypatch.setattr(hearing_again, "proofed", proofed)
    monkeypatch.setattr(hearing_again, "lane_sound", lambda _r, _k, _o, start, stop: np.zeros(stop - start, np.float32))
    return asked, hearing_again.heard_as_it_stands(book, chapter, TEXT, heard, None, None, Unwatched()).findings


def test_what_was_changed_is_heard_voice_by_voice(monkeypatch):
    """“No,” is the clerk's and was cut: nobody tells that the narrator skipped it, and the clerk's other words are not asked for."""
    cut = at(4) - 100, at(5) - 100
    asked, _ = as_it_stands(monkeypatch, cut)
    assert asked == [["The", "tide", "went", "out.", "said", "he.", "It", "came", "back."], ["No,", "Not", "yet."]]
    _, found = as_it_stands(monkeypatch, cut, Finding("", Kind.SKIPPED, "No,", "", 0, 1, 0, 0, 0.9))
    assert [(f.word_index, f.written) for f in found if f.word_index == 4] == [(4, "No,")]


def test_what_came_once_stands_for_what_went_once():
    """The clerk's lane has a stretch twice; both go and it comes once, elsewhere: one of them is gone."""
    book, chapter, _ = made()
    first, last = Piece("b", 0, 9000), Piece("b", 40_000, 60_000)
    twice = Lane("clerk", (first, first, last), id="l2")
    reel = Reel((chapter.reel.lanes[0], twice))
    before = replace(book, chapters=(replace(chapter, reel=reel),))

    def gone_with(*segments):
        after = reel.with_lane(1, replace(twice, segments=segments))
        loud = np.ones((2, 1 << 16), np.float32)
        rows = going(
            before,
            before.with_chapter("c1", lambda c: replace(c, reel=after)),
            lambda *_: lambda e: loud[:, 1 : len(e)],
            lambda _: Tokens([], *[np.zeros(0, np.int64)] * 3),
        )
        return [(g.name, g.length) for g in rows]

    assert gone_with(first, last) == [("clerk", 9000)]
    assert gone_with(last, first) == [("clerk", 9000)]  # one was moved, the other is gone
    assert gone_with(last, first, first) == []
    assert gone_with(last) == [("clerk", 18_000)]


def ear_at(k, first):
    """Where a word begins in a stretch whose first word is `first`, at the ear's rate."""
    return round((at(k) - at(first) + 0.3 * RATE) * EAR_RATE / RATE)


def test_words_of_the_neighbours_are_not_told_as_added_or_repeated(monkeypatch):
    """The stretch ends 0.3 s behind “said”, in “he.”, which is not of it: the ear hears it, and it stands once."""
    monkeypatch.setattr(hearing_again, "AROUND_WORDS", 1)
    cut = at(3) + 10, at(3) + 20
    ends = [
        Finding("", kind, "", "he", 2, count, ear_at(6, 1), ear_at(6, 1) + 2200, 0.99)
        for kind, count in ((Kind.REPEATED, 1), (Kind.ADDED, 0))
    ]
    assert as_it_stands(monkeypatch, cut, *ends)[1] == ()
    inside = [replace(f, start=ear_at(4, 1), stop=ear_at(4, 1) + 2200) for f in ends]
    assert [f.kind for f in as_it_stands(monkeypatch, cut, *inside)[1]] == [Kind.REPEATED, Kind.ADDED]


@pytest.mark.parametrize(
    ("heard", "shift", "cut", "told"),
    [
        ("want", 0, (at(3) + 10, at(3) + 20), 0),
        ("wend", 1000, (at(3) + 10, at(3) + 20), 0),
        ("want", 4500, (at(3) + 10, at(3) + 20), 1),  # elsewhere
        ("want", 0, (at(2) + 9000, at(2) + 9900), 1),  # it was cut in the middle: another departure
    ],
)
def test_a_departure_that_was_let_stand_is_not_told_anew_in_other_letters(monkeypatch, heard, shift, cut, told):
    stood = Finding("f1", Kind.MISREAD, "went", "wants", 2, 1, at(2), at(2) + LENGTH, 0.9, decision=Decision.STET)
    start = ear_at(2, 0) + shift
    anew = Finding("", Kind.MISREAD, "went", heard, 2, 1, start, start + LENGTH * EAR_RATE // RATE, 0.9)
    assert len(as_it_stands(monkeypatch, cut, anew, known=(stood,))[1]) == told


def test_what_was_heard_of_two_voices_is_kept_and_read_again():
    kind = adapter(Hearing)
    heard = made()[2]
    assert kind.validate_json(kind.dump_json(heard)) == heard
    old = kind.dump_json(heard).replace(b',"voices":[]', b"")
    assert kind.validate_json(old) == heard


@pytest.mark.parametrize(
    ("read", "owners"),
    [
        ([{0, 1, 2, 3, 5, 6, 7, 8, 9}, {4, 10, 11}], "000010000011"),
        (
            [{0, 1, 2, 3, 7, 8, 9}, {4, 6, 10, 11}],
            "000011100011",
        ),  # "said" lies between two of the second voice, "he." is its own
        ([{0, 1, 3, 7, 8, 9}, {4, 5, 6, 11}], "000011100011"),  # "Not" begins a sentence of the second voice
        ([set(), set()], "000000000000"),
        ([set(), {4}], "111111111111"),
        ([{0}, {11}], "000011111111"),
    ],
)
def test_whose_each_word_is(read, owners):
    assert "".join(map(str, owners_of(TEXT, read))) == owners


def test_findings_of_another_voice_are_where_its_recording_is():
    _, chapter, _ = made(late=700)
    own = Finding("f1", Kind.MISREAD, "x", "y", 4, 1, at(4), at(5), 0.9)
    other = replace(own, id="v1-f1", recording="b")
    assert finding_spans(chapter, [own, other]) == [Span(at(4), at(5)), Span(at(4) + 700, at(5) + 700)]


def test_a_noise_of_the_second_voice_is_laid_over_on_its_lane_and_can_be_put_back():
    book, chapter, heard = made()
    noise = Finding("n", Kind.NOISE, "", "", 4, 0, at(3) + LENGTH + 2000, at(3) + LENGTH + 4000, 0.9, recording="b")
    tokens = tokens_of(book, chapter, TEXTS, heard)
    edit = mending_edit(book, chapter, tokens, noise)
    assert isinstance(edit, CutAndFill)
    assert (edit.lane, edit.tone) == ("l2", OWN)
    reel = edit.apply(chapter.reel)
    assert reel.lanes[0] is chapter.reel.lanes[0]
    mended = replace(chapter, reel=reel, findings=(replace(noise, decision=Decision.MEND),))
    (back,) = restoring_edits(book, mended, mended.findings[0])
    assert isinstance(back, PutBackSound)
    assert (back.lane, back.recording) == (1, "b")
    assert back.apply(reel).lanes[1].segments == chapter.reel.lanes[1].segments
    breath = replace(noise, evidence=Evidence(flaw=Flaw.BREATH.value, usual=-6.0))
    assert mending_edit(book, chapter, tokens, breath) == ChangeGain(noise.start, noise.stop, -6.0, "l2")


def test_an_added_word_under_another_voice_is_laid_over_and_takes_none_of_its_words():
    book, chapter, heard = made(a_extra=((4, "um"),))
    added = Finding("f", Kind.ADDED, "", "um", 4, 0, at(4) + 1000, at(4) + 9000, 0.9)
    tokens = tokens_of(book, chapter, TEXTS, heard)
    edit = mending_edit(book, chapter, tokens, added)
    assert isinstance(edit, CutAndFill)
    assert edit.lane == "l1"
    assert edit.start <= added.start < added.stop <= edit.stop
    after = replace(chapter, reel=edit.apply(chapter.reel))
    assert tokens_of(book, after, TEXTS, heard)[4].start == tokens[4].start
    alone = replace(chapter, reel=Reel(chapter.reel.lanes[:1]))
    assert isinstance(mending_edit(book, alone, tokens_of(book, alone, TEXTS, heard), added), CutAndClose)


def test_which_lanes_are_other_voices():
    _, chapter, _ = made()
    assert other_voices(chapter) == ["b"]
    assert other_voices(replace(chapter, reel=None)) == []
    turned = replace(chapter, reel=OrderLanes((1, 2, 0)).apply(chapter.reel))
    assert other_voices(turned) == ["b"]
    patched = Lane("voice", (Piece("a", 0, 50), Piece("c", 0, 500)))  # its own, though most of it is from elsewhere
    assert other_voices(replace(chapter, reel=Reel((patched,)))) == []
    same = Lane("copy", (Piece("a", 0, 50),))
    assert other_voices(replace(chapter, reel=Reel((chapter.reel.lanes[0], same)))) == []


def test_both_voices_of_the_demo_are_heard_and_what_was_planted_is_found(both_voices, demo):
    """Every word by its own voice within 0.15 s; the talk before, the long pause and the misread word are findings."""
    book, text, found, _ = both_voices
    chapter = book.chapters[-1]
    truth = json.loads((demo / "two-voices.json").read_text())
    tokens = {t.word: t for t in tokens_of(book, chapter, [w.text for w in text.words], found.hearing)}
    lanes = {"narrator": 0, "clerk": 1}
    wrong = [
        k for k, who, a, _ in truth["words"]
        if tokens[k].lane != lanes[who] or not np.isclose(tokens[k].start / book.rate, a, atol=0.15)
    ]  # fmt: skip
    assert len(wrong) <= 1, [tokens[k] for k in wrong]
    spans = dict(zip(found.findings, finding_spans(chapter, found.findings), strict=True))
    for planted in truth["planted"]:
        if planted["kind"] == "cough":  # lies under the other voice's words, and is no word
            continue
        kinds = {"talk": (Kind.ADDED, Kind.FALSE_START), "pause": (Kind.PAUSE,), "misread": (Kind.MISREAD,)}[planted["kind"]]
        middle = (planted["start"] + planted["end"]) / 2 * book.rate
        assert any(f.kind in kinds and s is not None and s.start <= middle <= s.stop for f, s in spans.items()), planted
    assert not any(f.kind is Kind.SKIPPED for f in found.findings)
    surely = [f for f in found.findings if f.confidence >= 0.5]
    assert len(surely) <= len(truth["planted"]) + 1


def test_a_take_that_would_take_another_voices_words_away_is_refused_with_what_to_do():
    from faithful_reel.core.errors import EditRefused
    from faithful_reel.core.reel.commands import ReplaceByTake
    from faithful_reel.core.work.splicing import _refuse_taking_words

    _, chapter, heard = made()
    over = ReplaceByTake(at(2), at(4) + LENGTH, "a", 0, 20_000, 0.0, TONE)  # "No," is in what would be lost
    with pytest.raises(EditRefused, match="words of clerk would go"):
        _refuse_taking_words(chapter, heard, over)
    _refuse_taking_words(chapter, heard, replace(over, stop=at(3)))  # nobody else speaks there
    _refuse_taking_words(chapter, heard, replace(over, take_stop=90_000))  # it is longer
    long = at(6) - at(2)
    _refuse_taking_words(chapter, heard, replace(over, stop=at(6), take_stop=long - 3000))  # what is lost comes after the word
    lanes = chapter.reel.lanes
    alone = replace(chapter, reel=Reel((lanes[0], replace(lanes[1], linked=False), *lanes[2:])))
    _refuse_taking_words(alone, heard, over)


def test_other_voices_stay_through_revisions_splits_joins_and_swapped_takes():
    from faithful_reel.core.work.revising import _joined_hearing, _sliced

    _, _, heard = made()
    first, second = _sliced(heard, 0, 6), _sliced(heard, 6, len(TEXT.words))
    assert [p is not None for p in first.voices[0][1].placed] == [k in B_WORDS for k in range(6)]
    again = _joined_hearing(first, second, 6)
    assert again == heard


def test_readings_of_another_voice_are_no_takes_of_the_first():
    from faithful_reel.core.work.readings import retakes_of

    again = Finding("f", Kind.REPEATED, "It came back.", "It came back.", 7, 3, at(7), at(9), 0.95)
    assert len(retakes_of(TEXT, [again])) == 1
    assert retakes_of(TEXT, [replace(again, recording="b")]) == ()
