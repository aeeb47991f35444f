"""A sweep over pauses, breaths and hesitations: every change is told before it is made, and all are made in one step."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from support.paused import RATE, TEXT, WORD, columns_of, made
from support.sounds import noise

from faithful_reel.core.book.commands import EditReels
from faithful_reel.core.collate.findings import Decision, Evidence, Finding, Kind
from faithful_reel.core.collate.flaws import Flaw
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.reel.commands import ChangeGain, CutAndClose
from faithful_reel.core.reel.reel import Lane, Piece, Reel, RoomTone
from faithful_reel.core.units import Span
from faithful_reel.core.work.sweep import Doing, Sweeping, SweepSettings, quietest_stretch, sweeps, swept, told
from faithful_reel.core.work.timeline import Hearing, tokens_of


def swept_over(book, chapter, hearing, x, settings, within=None, *more):
    tokens = tokens_of(book, chapter, [w.text for w in TEXT.words], hearing)
    whole = Span(0, len(chapter.reel))
    return sweeps(book, chapter, TEXT, tokens, hearing, within or whole, settings, [columns_of(x), *map(columns_of, more)])


PAUSES = {3: 1.6, 7: 0.5, 2: 0.9, 11: 1.9}


def test_pauses_over_the_readers_habit_are_told_with_what_becomes_of_them():
    book, chapter, hearing, x = made(PAUSES)
    rows = swept_over(book, chapter, hearing, x, SweepSettings(frozenset({Sweeping.PAUSES}), variety=0.0))
    assert [(r.kind, round(len(r.span) / RATE, 2)) for r in rows] == [(Sweeping.PAUSES, s) for s in (0.9, 1.6, 1.9)]
    assert "between sentences" in rows[1].now
    assert " | " in rows[1].words
    for row in rows:
        assert row.span.start + 0.1 * RATE <= row.going.start < row.going.stop <= row.span.stop - 0.1 * RATE
        assert float(row.becomes.split()[0]) == pytest.approx((len(row.span) - len(row.going)) / RATE, abs=0.01)


@pytest.mark.parametrize(("variety", "least", "many"), [(1.0, 0.5, 0), (0.0, 1.0, 2), (0.0, 1.7, 1), (0.5, 0.5, 3)])
def test_variety_and_the_least_length_are_kept(variety, least, many):
    book, chapter, hearing, x = made(PAUSES)
    settings = SweepSettings(frozenset({Sweeping.PAUSES}), least_s=least, variety=variety)
    rows = swept_over(book, chapter, hearing, x, settings)
    assert len(rows) == many
    half = [len(r.span) - len(r.going) for r in swept_over(book, chapter, hearing, x, replace(settings, variety=variety / 2))]
    assert all(len(r.span) - len(r.going) >= h for r, h in zip(rows, half, strict=False))


def test_a_longer_rest_on_both_sides_is_kept():
    book, chapter, hearing, x = made(PAUSES)
    rows = swept_over(book, chapter, hearing, x, SweepSettings(frozenset({Sweeping.PAUSES}), keep_s=0.4, variety=0.0))
    assert all(r.going.start - r.span.start >= 0.4 * RATE and r.span.stop - r.going.stop >= 0.4 * RATE for r in rows)
    assert len(rows) == 3


def test_only_within_the_stretch():
    book, chapter, hearing, x = made(PAUSES)
    rows = swept_over(book, chapter, hearing, x, SweepSettings(variety=0.0))
    within = Span(rows[1].span.start, rows[1].span.stop)
    assert [r.span for r in swept_over(book, chapter, hearing, x, SweepSettings(variety=0.0), within)] == [within]


def test_a_breath_in_a_pause_stays_whole():
    x = np.full(2 * RATE, 1e-4, np.float32)
    x[RATE : RATE + RATE // 4] = 0.05  # a breath in the second half
    got = quietest_stretch(columns_of(x), Span(0, 2 * RATE), RATE // 2, RATE // 10, RATE)
    assert len(got) == RATE // 2
    assert got.stop <= RATE
    assert quietest_stretch(columns_of(x), Span(0, RATE // 4), RATE // 2, RATE // 10, RATE) is None


def test_hesitations_are_taken_out_and_other_added_words_are_not():
    book, chapter, hearing, x = made({}, extras=((3, "um,"), (9, "really"), (12, "Er")))
    found = Finding("f1", Kind.ADDED, "", "um,", 4, 0, hearing.heard[4].start, hearing.heard[4].stop, 0.9)
    chapter = replace(chapter, findings=(found,))
    rows = swept_over(book, chapter, hearing, x, SweepSettings(frozenset({Sweeping.FILLERS})))
    assert [r.now.split(",")[0] for r in rows] == ["“um", "“Er”"]
    assert all(isinstance(r.edits[0], CutAndClose) for r in rows)
    assert [r.findings for r in rows] == [("f1",), ()]
    for row, said in zip(rows, (hearing.heard[4], next(h for h in hearing.heard if h.text == "Er")), strict=True):
        assert row.going.start <= said.start < said.stop <= row.going.stop


def test_breaths_that_stick_out_are_brought_to_the_usual():
    book, chapter, hearing, x = made(PAUSES)
    start = hearing.heard[3].stop + RATE // 4
    breath = Finding("b", Kind.NOISE, "", "", 4, 0, start, start + 3000, 0.8, Evidence(flaw=Flaw.BREATH.value, usual=-7.5))
    done = replace(breath, id="d", decision=Decision.STET)
    other = replace(breath, id="o", evidence=Evidence(flaw=Flaw.CLICK.value, usual=-3.0))
    chapter = replace(chapter, findings=(breath, done, other))
    (row,) = swept_over(book, chapter, hearing, x, SweepSettings(frozenset({Sweeping.BREATHS})))
    assert row.edits[0] == ChangeGain(start, start + 3000, -7.5, "l1")
    assert (row.becomes, row.findings) == ("-7.5 dB", ("b",))


def test_all_are_made_in_one_step_and_settle_their_findings():
    pause_start = round((1.0 + 5 * WORD + 0.1 * 3 + 0.9) * RATE)
    finding = Finding("p", Kind.PAUSE, "", "", 5, 0, pause_start, pause_start + RATE, 0.8, Evidence(flaw=Flaw.LONG_PAUSE.value))
    book, chapter, hearing, x = made(PAUSES, findings=(finding,))
    rows = swept_over(book, chapter, hearing, x, SweepSettings(frozenset({Sweeping.PAUSES}), variety=0.0))
    order = swept(rows)
    mended = tuple(("c1", f) for r in order for f in r.findings)
    after = EditReels(tuple(("c1", r.edits[0]) for r in order), "Sweep", mended).apply(book)
    assert len(chapter.reel) - len(after.chapters[0].reel) == sum(len(r.going) for r in rows)
    assert after.chapters[0].findings[0].decision is Decision.MEND
    assert told(rows) == "3 pauses"
    again = swept_over(after, after.chapters[0], hearing, x, SweepSettings(frozenset({Sweeping.PAUSES}), variety=0.0, times=2.5))
    assert again == []


def test_where_another_voice_sounds_that_is_told():
    book, chapter, hearing, x = made(PAUSES)
    rows = swept_over(book, chapter, hearing, x, SweepSettings(variety=0.0))
    voice = np.full(len(x), 1e-4, np.float32)
    voice[rows[1].going.start : rows[1].going.stop] = 0.4
    lanes = (*chapter.reel.lanes, Lane("Clerk", (Piece("s", 0, len(x)),)))
    both = swept_over(book, replace(chapter, reel=Reel(lanes)), hearing, x, SweepSettings(variety=0.0), None, voice)
    assert [r.other for r in both] == ["", "Clerk", ""]


def test_a_breath_of_another_voice_stays_whole_too():
    book, chapter, hearing, x = made(PAUSES)
    row = swept_over(book, chapter, hearing, x, SweepSettings(variety=0.0, times=3.0))[-1]
    voice = np.full(len(x), 1e-4, np.float32)
    breath = Span(row.span.start + RATE // 2, row.span.start + RATE)
    voice[breath.start : breath.stop] = 0.004  # quieter than a word
    lanes = (*chapter.reel.lanes, Lane("Clerk", (Piece("s", 0, len(x)),)))
    two = swept_over(book, replace(chapter, reel=Reel(lanes)), hearing, x, SweepSettings(variety=0.6, times=3.0), None, voice)[-1]
    assert two.going.stop <= breath.start or two.going.start >= breath.stop


def test_of_two_that_overlap_one_is_made():
    book, chapter, hearing, x = made(PAUSES)
    rows = swept_over(book, chapter, hearing, x, SweepSettings(variety=0.0))
    twice = [*rows, replace(rows[0], id="again")]
    assert [r.id for r in swept(twice)] == [r.id for r in rows[::-1]]


def test_without_a_hearing_pauses_are_swept_by_level_and_nothing_else():
    book, chapter, _, x = made(PAUSES)
    rows = swept_over(book, chapter, None, x, SweepSettings(least_s=0.7, variety=0.0))
    assert [(r.kind, round(len(r.span) / RATE, 1)) for r in rows] == [(Sweeping.PAUSES, s) for s in (0.9, 1.6, 1.9)]
    assert all(not (x[r.going.start : r.going.stop] == np.float32(0.3)).any() for r in rows)
    x[x != np.float32(0.3)] = 0.02  # a dense reading: what is softest there is speech, and no room
    assert swept_over(book, chapter, None, x, SweepSettings(least_s=0.7, variety=0.0)) == []


@pytest.mark.parametrize("does", [Doing.FILL, Doing.SPLIT])
def test_dead_air_is_filled_or_only_split_and_time_stays(does):
    book, chapter, hearing, x = made(PAUSES)
    settings = SweepSettings(frozenset({Sweeping.PAUSES}), least_s=0.7, does=does)
    rows = swept_over(book, chapter, hearing, x, settings)
    assert [round(len(r.span) / RATE, 1) for r in rows] == [0.9, 1.6, 1.9]
    after = EditReels(tuple(("c1", e) for r in swept(rows) for e in r.edits), "Sweep").apply(book).chapters[0].reel
    assert len(after) == len(chapter.reel)
    tones = [s for s in after.lanes[0].segments if isinstance(s, RoomTone)]
    assert len(tones) == (3 if does is Doing.FILL else 0)
    assert len(after.lanes[0].segments) == 7
    assert not any(r.less or r.findings for r in rows)
    first = rows[0].span
    x[first.start + 2000 : first.start + 6000] = 0.02  # somebody breathes there
    loud = swept_over(book, chapter, hearing, x, settings)
    assert [bool(r.other) for r in loud] == [does is Doing.FILL, False, False]


def test_a_lane_is_laid_with_its_tone_where_its_voice_is_silent_and_another_speaks():
    book, chapter, hearing, x = made({3: 3.0, 7: 2.0})
    lanes = (*chapter.reel.lanes, Lane("clerk", (Piece("s", 0, len(x)),)))
    other = noise(seconds=len(x) / RATE, rms_db=-70, rate=RATE)[: len(x)].copy()
    first = next(h for h in hearing.heard if h.text == "Five")
    silent = Span(first.start - round(3.0 * RATE), first.start)  # of the narrator; the clerk speaks into it
    said = Heard("aside", silent.start + RATE, silent.start + 2 * RATE, 0.9)
    other[said.start : said.stop] = 0.2
    two = replace(hearing, voices=(("s", Hearing((said,), (None,) * len(TEXT.words), ())),))
    chapter = replace(chapter, reel=Reel(lanes))
    entry = replace(book.recordings[0], hash="s", name="s")
    book = replace(book, chapters=(chapter,), recordings=(*book.recordings, entry))
    x[said.start : said.stop] += 0.01  # the other voice, in the narrator's microphone
    settings = SweepSettings(frozenset({Sweeping.SILENCES}), least_s=0.7)
    rows = [r for r in swept_over(book, chapter, two, x, settings, None, other) if r.lane == 0]
    assert len(rows) == 1
    assert rows[0].span.start <= said.start
    assert rows[0].span.stop >= said.stop
    assert not rows[0].other
    after = rows[0].edits[0].apply(chapter.reel)
    assert after.lanes[1] is chapter.reel.lanes[1]
    assert len(after) == len(chapter.reel)
    x[said.start : said.stop] = 0.25  # as loud as the narrator: it may be the narrator
    again = [r for r in swept_over(book, chapter, two, x, settings, None, other) if r.lane == 0]
    assert again[0].other == "voice itself"
