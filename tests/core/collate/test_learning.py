"""What decisions teach: openly, by narrator, and never so that anything is hidden."""

from __future__ import annotations

import math
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_reel.core.collate.findings import Decision, Finding, Kind, is_shown
from faithful_reel.core.collate.learning import FAINTEST, forgetting, lessons_of, tally, weighed
from faithful_reel.core.collate.names import ACCEPTED


def misread(n, *, decision=Decision.OPEN, kept=False, sure=0.45, written="the", heard="a", note=""):
    return Finding(
        f"f{n}", Kind.MISREAD, written, heard, n, 1, n * 100, n * 100 + 50, sure, decision=decision, note=note, kept=kept
    )


def learned(findings, narrator="Nell", forgotten=()):
    return lessons_of([tally(findings, narrator)], forgotten)


def test_passes_sink_and_what_proved_real_rises():
    passed = [misread(n, decision=Decision.STET) for n in range(5)]
    (sunk,) = weighed((misread(9),), "Nell", learned(passed))
    assert sunk.confidence < 0.35
    real = [misread(n, decision=Decision.PICKUP) for n in range(3)] + [misread(4, kept=True)]
    (risen,) = weighed((misread(9),), "Nell", learned(real))
    assert risen.confidence > 0.65
    assert "real 4 times" in risen.evidence.learned


def test_few_decisions_teach_nothing():
    assert learned([misread(n, decision=Decision.STET) for n in range(2)]) == ()


def test_it_is_of_one_narrator_only():
    lessons = learned([misread(n, decision=Decision.STET) for n in range(5)])
    alike = (misread(9),)
    assert weighed(alike, "Somebody else", lessons) is alike
    assert weighed(alike, "Nell", lessons)[0].confidence < 0.45


def test_other_words_are_moved_less_and_only_by_their_kind():
    passed = [misread(n, decision=Decision.STET) for n in range(8)]
    same, kind, other = weighed(
        (misread(9), misread(10, written="in", heard="on"), misread(11, written="harbour", heard="herring")),
        "Nell",
        learned(passed),
    )
    assert same.confidence < kind.confidence < 0.45
    assert other.confidence == 0.45


def test_what_was_decided_or_kept_is_not_moved():
    lessons = learned([misread(n, decision=Decision.STET) for n in range(5)])
    rows = (misread(7, decision=Decision.MEND), misread(8, kept=True))
    assert weighed(rows, "Nell", lessons) is rows


def test_names_accepted_for_the_book_and_findings_by_hand_teach_nothing():
    accepted = [misread(n, decision=Decision.STET, note=ACCEPTED) for n in range(9)]
    by_hand = [replace(misread(n, decision=Decision.MEND), id=f"h{n:04d}") for n in range(9)]
    assert learned([*accepted, *by_hand]) == ()


def test_what_is_forgotten_counts_no_more_but_later_decisions_do():
    passed = [misread(n, decision=Decision.STET) for n in range(7)]
    lessons = learned(passed)
    gone = forgetting(lessons, ())
    assert learned(passed, forgotten=gone) == ()
    more = [*passed, *(misread(20 + n, decision=Decision.STET) for n in range(3))]
    again = learned(more, forgotten=gone)
    assert [one.told for one in again] == ["passed 3 times"]
    assert learned(more, forgotten=(*gone, *forgetting(again, gone))) == ()


@pytest.mark.parametrize(
    ("kind", "written", "heard", "about"),
    [
        (Kind.ADDED, "", "and", "“and” added"),
        (Kind.SKIPPED, "and", "", "“and” skipped"),
        (Kind.REPEATED, "the old", "the old", "words read again"),
        (Kind.FALSE_START, "the old", "the old", "a false start"),
        (Kind.MISREAD, "walked", "walks", "“walks” for “walked”"),
    ],
)
def test_every_kind_is_named(kind, written, heard, about):
    rows = [Finding(f"f{n}", kind, written, heard, n, 1, n, n + 1, 0.4, decision=Decision.STET) for n in range(9)]
    assert about in [one.words for one in learned(rows)]


@given(st.integers(0, 40), st.integers(0, 40), st.floats(0.03, 1.0))
def test_nothing_is_ever_dropped_or_made_certain(passed, real, sure):
    rows = [misread(n, decision=Decision.STET) for n in range(passed)]
    rows += [misread(100 + n, decision=Decision.MEND) for n in range(real)]
    (found,) = weighed((misread(999, sure=sure),), "Nell", learned(rows))
    assert found.confidence >= min(FAINTEST, sure) - 5e-4
    if passed > real:
        assert found.confidence <= sure + 5e-4
    if real > passed:
        assert found.confidence >= min(sure, 0.999) - 5e-4


def test_a_lesson_hides_nothing_and_may_bring_a_doubt_up():
    shown = misread(9, sure=0.41)
    (sunk,) = weighed((shown,), "Nell", learned([misread(n, decision=Decision.STET) for n in range(30)]))
    assert sunk.confidence < 0.1
    assert is_shown(sunk)
    doubt = misread(9, sure=0.2)
    assert not is_shown(doubt)
    (risen,) = weighed((doubt,), "Nell", learned([misread(n, decision=Decision.MEND) for n in range(30)]))
    assert is_shown(risen)


def test_by_how_much_is_as_written_down():
    """Log odds with two more decisions on each side; the kind counts half; 2.5 logits at most."""
    (sunk,) = weighed((misread(9, sure=0.5),), "Nell", learned([misread(n, decision=Decision.STET) for n in range(5)]))
    assert sunk.confidence == pytest.approx(2 / 9, abs=1e-3)
    (most,) = weighed((misread(9, sure=0.5),), "Nell", learned([misread(n, decision=Decision.MEND) for n in range(300)]))
    assert most.confidence == pytest.approx(1 / (1 + math.exp(-2.5)), abs=1e-3)
    (least,) = weighed((misread(9, sure=0.5),), "Nell", learned([misread(n, decision=Decision.STET) for n in range(300)]))
    assert least.confidence == pytest.approx(1 / (1 + math.exp(2.5)), abs=1e-3)
