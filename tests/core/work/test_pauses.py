"""Pauses by ear: what goes comes out of the quiet, breaths and words stay, what comes is room tone."""

from __future__ import annotations

import numpy as np
import pytest
from support.paused import RATE, TEXT, WORD, columns_of, made
from support.sounds import noise

from faithful_reel.core.collate.flaws import Place
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import LengthenPause, ToneSource
from faithful_reel.core.reel.reel import reel_of
from faithful_reel.core.reel.several import edited
from faithful_reel.core.units import Span
from faithful_reel.core.work.pauses import (
    LOUDEST,
    Pacing,
    changed_pauses,
    in_proportion,
    moved_by,
    pause_near,
    pauses_by_level,
    pauses_in,
    pauses_of,
    quiet_parts,
    shorter,
    to_usual,
    usual_lengths,
)
from faithful_reel.core.work.timeline import tokens_of

TONE = ToneSource("r", 0, 9000)


def chapter_with(pauses):
    """Its text, its tokens and its sound."""
    book, chapter, hearing, x = made(pauses)
    return TEXT, tokens_of(book, chapter, [w.text for w in TEXT.words], hearing), x


def with_breath(seconds=1.2, at=0.5, lasts=0.25, level=0.02, rate=RATE):
    """A second of words, a pause with a breath in it, another second of words; where the pause and the breath are."""
    length = round((2 + seconds) * rate)
    x = noise(seconds=2 + seconds, rms_db=-70, rate=rate)[:length].copy()
    pause = Span(rate, rate + round(seconds * rate))
    x[: pause.start] = x[pause.stop :] = 0.3
    breath = Span(pause.start + round(at * rate), pause.start + round((at + lasts) * rate))
    x[breath.start : breath.stop] += noise(seconds=lasts, rms_db=20 * np.log10(level), rate=rate)[: len(breath)]
    return x, pause, breath


def test_the_pause_at_the_cursor_is_the_nearest_and_rather_that_just_heard():
    text, tokens, _ = chapter_with({3: 0.6, 7: 0.4})
    pauses = pauses_of(text, tokens)
    third = next(p for p in pauses if p.word == 3)
    inside = third.span.start + RATE // 10
    assert pause_near(pauses, inside, RATE) is third
    assert pause_near(pauses, third.span.stop + RATE // 4, RATE) is not None
    long = [p for p in pauses if len(p.span) > 0.3 * RATE]
    between = third.span.stop + 2 * (long[1].span.start - third.span.stop) // 3  # nearer to that which comes
    assert pause_near(long, between, RATE) is third  # who stops the sound does it afterwards
    assert pause_near(long, long[-1].span.stop + 3 * RATE, RATE) is None
    assert pauses_of(text, tokens, third.span) == [
        p for p in pauses if p.span.stop >= third.span.start and p.span.start <= third.span.stop
    ]


def test_a_breath_and_its_air_stay_and_the_quiet_goes_the_longest_part_first():
    x, pause, breath = with_breath()
    columns = columns_of(x)
    parts = quiet_parts(columns, pause, RATE)
    assert len(parts) == 2
    assert all(p.stop <= breath.start - 0.02 * RATE or p.start >= breath.stop + 0.02 * RATE for p in parts)
    assert parts[0].start >= pause.start + 0.05 * RATE
    assert parts[1].stop <= pause.stop - 0.05 * RATE
    going = shorter(columns, pause, round(0.05 * RATE), RATE)
    longest = max(parts, key=len)
    assert [len(g) for g in going] == [round(0.05 * RATE)]
    assert longest.start <= going[0].start < going[0].stop <= longest.stop
    early, pause_2, _ = with_breath(at=0.2)
    second = quiet_parts(columns_of(early), pause_2, RATE)[1]
    taken = shorter(columns_of(early), pause_2, round(0.05 * RATE), RATE)[0]
    assert second.start <= taken.start < taken.stop <= second.stop  # the second part is the longer one there
    all_of_it = shorter(columns, pause, len(pause), RATE)
    assert sum(map(len, all_of_it)) == sum(map(len, parts))  # what is wanted more of is not there
    assert not any(g.start < breath.stop and g.stop > breath.start for g in all_of_it)


def test_a_pause_that_is_all_breath_has_no_quiet():
    x, pause, _ = with_breath(seconds=0.4, at=0.0, lasts=0.4)
    columns = columns_of(x)
    assert not shorter(columns, pause, 800, RATE, tone=0.001)
    loud = noise(seconds=3, rms_db=-20, rate=RATE)
    assert not quiet_parts(columns_of(loud), Span(RATE, 2 * RATE), RATE)  # louder than any room: somebody speaks
    assert LOUDEST < 0.1
    edits = [(p, -800) for p in pauses_by_level(columns, RATE + 100, len(x), RATE)]
    with pytest.raises(EditRefused, match="Nothing quiet is left"):
        changed_pauses(edits, Pacing(columns, TONE, 0, RATE, 0.001))


def test_pauses_are_found_by_level_where_no_word_was_heard():
    x, pause, _ = with_breath(level=1e-5)
    found = pauses_by_level(columns_of(x), pause.start + 100, len(x), RATE)
    assert len(found) == 1
    assert found[0].span.start == pytest.approx(pause.start, abs=0.01 * RATE)
    assert found[0].span.stop == pytest.approx(pause.stop, abs=0.01 * RATE)
    assert pauses_by_level(columns_of(np.zeros(RATE, np.float32)), 10, RATE, RATE) == []


def test_several_change_in_proportion_the_last_first_and_no_word_is_touched():
    text, tokens, x = chapter_with({3: 0.8, 7: 0.4, 11: 0.6})
    pauses = [p for p in pauses_of(text, tokens) if len(p.span) > 0.3 * RATE]
    rows = in_proportion(pauses, -round(0.2 * RATE))
    assert [round(by / RATE, 2) for _, by in rows] == [-0.2, -0.1, -0.15]
    edits = changed_pauses(rows, Pacing(columns_of(x), TONE, 0, RATE))
    total = moved_by(edits, len(x)) - len(x)
    assert total == pytest.approx(-0.45 * RATE, abs=3)
    assert [e.start for e in edits] == sorted((e.start for e in edits), reverse=True)
    words = [t for t in tokens.heard()]  # noqa: C416 - tokens, not columns
    assert not any(e.start < t.stop and e.stop > t.start for e in edits for t in words)
    after = edited(reel_of("r", len(x)), edits)
    assert len(after) == len(x) + total
    first = pauses[0].span
    assert moved_by(edits, first.start) == first.start
    assert moved_by(edits, first.stop) == first.stop - (edits[-1].stop - edits[-1].start)
    inside = pauses_in(pauses, Span(pauses[0].span.start + 10, pauses[0].span.stop - 10), RATE)
    assert inside == [pauses[0]]
    assert pauses_in(pauses, Span(0, len(x)), RATE) == pauses


def test_longer_comes_as_room_tone_in_the_middle_of_the_quiet():
    x, pause, breath = with_breath(at=0.9)
    pauses = pauses_by_level(columns_of(x), pause.start, len(x), RATE)
    edits = changed_pauses([(pauses[0], 400)], Pacing(columns_of(x), TONE, 0, RATE))
    assert (edits[0].length, type(edits[0])) == (400, LengthenPause)
    assert moved_by(edits, edits[0].at) == edits[0].at
    assert moved_by(edits, edits[0].at + 1) == edits[0].at + 401
    assert pause.start + 0.1 * RATE < edits[0].at < breath.start


def test_as_usual_is_what_this_reader_does_at_such_a_place():
    text, tokens, _ = chapter_with(dict.fromkeys(range(14), 0.15) | {3: 0.6, 7: 0.6, 11: 1.4})
    pauses = pauses_of(text, tokens)
    usual = usual_lengths(pauses, RATE)
    rows = to_usual([p for p in pauses if p.word == 11], usual, RATE)
    assert len(rows) == 1
    assert rows[0][0].place is Place.SENTENCE
    assert len(rows[0][0].span) + rows[0][1] == round(usual[Place.SENTENCE] * RATE)
    assert to_usual([p for p in pauses if p.place is Place.RETAKE], usual, RATE) == []
    assert WORD == 0.3
