"""A sweep over pauses, breaths and hesitations: every change is told before it is made, and all are made in one step."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from support.paused import RATE, TEXT, WORD, columns_of, made

from faithful_reel.core.book.commands import EditReels
from faithful_reel.core.collate.findings import Decision, Evidence, Finding, Kind
from faithful_reel.core.collate.flaws import Flaw
from faithful_reel.core.reel.commands import ChangeGain, CutAndClose
from faithful_reel.core.reel.reel import Lane, Piece, Reel
from faithful_reel.core.units import Span
from faithful_reel.core.work.sweep import Sweeping, SweepSettings, quietest_stretch, sweeps, swept, told
from faithful_reel.core.work.timeline import tokens_of


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
    assert all(isinstance(r.edit, CutAndClose) for r in rows)
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
    assert row.edit == ChangeGain(start, start + 3000, -7.5, "l1")
    assert (row.becomes, row.findings) == ("-7.5 dB", ("b",))


def test_all_are_made_in_one_step_and_settle_their_findings():
    pause_start = round((1.0 + 5 * WORD + 0.1 * 3 + 0.9) * RATE)
    finding = Finding("p", Kind.PAUSE, "", "", 5, 0, pause_start, pause_start + RATE, 0.8, Evidence(flaw=Flaw.LONG_PAUSE.value))
    book, chapter, hearing, x = made(PAUSES, findings=(finding,))
    rows = swept_over(book, chapter, hearing, x, SweepSettings(frozenset({Sweeping.PAUSES}), variety=0.0))
    order = swept(rows)
    mended = tuple(("c1", f) for r in order for f in r.findings)
    after = EditReels(tuple(("c1", r.edit) for r in order), "Sweep", mended).apply(book)
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


def test_without_a_hearing_there_is_nothing_to_sweep():
    book, chapter, _, x = made(PAUSES)
    tokens = tokens_of(book, chapter, [w.text for w in TEXT.words], None)
    assert sweeps(book, chapter, TEXT, tokens, None, Span(0, len(chapter.reel)), SweepSettings(), [columns_of(x)]) == []
