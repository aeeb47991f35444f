"""Numbers as they are spoken against two libraries made for that; revised texts against a third."""

from __future__ import annotations

import re

import inflect
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from rapidfuzz.distance import Levenshtein
from text_to_num import text2num

from faithful_reel.core.text.revision import revision
from faithful_reel.core.text.spoken import spoken_forms

SPOKEN = inflect.engine()


def words(text: str) -> tuple[str, ...]:
    """Words of a number without its hyphens and commas."""
    return tuple(re.sub(r"[,\-]", " ", text).split())


@pytest.mark.published("inflect 7.6: cardinal numbers in words")
@given(number=st.one_of(st.integers(0, 3000), st.integers(0, 10**9)))
def test_cardinals_as_inflect_writes_them_are_right_readings(number):
    forms = spoken_forms(str(number))
    assert words(SPOKEN.number_to_words(number)) in forms
    assert words(SPOKEN.number_to_words(number, andword="")) in forms


@pytest.mark.published("inflect 7.6: ordinal numbers in words")
@given(number=st.integers(1, 9999))
def test_ordinals_as_inflect_writes_them_are_right_readings(number):
    written = SPOKEN.ordinal(number)
    assert words(SPOKEN.ordinal(SPOKEN.number_to_words(number))) in spoken_forms(written)


@pytest.mark.published("text2num 3.1: numbers read back from words")
@given(number=st.integers(0, 10**7))
def test_the_plainest_reading_of_a_number_is_read_back_as_that_number(number):
    read = " ".join(next(f for f in spoken_forms(f"{number:,}") if "hundred" not in f or number >= 100))
    assert text2num(read, "en") == number


@pytest.mark.published("RapidFuzz 3.14: the least number of words changed between two texts")
@pytest.mark.parametrize("seed", range(20))
def test_a_revised_text_changes_no_more_words_than_it_must(seed):
    rng = np.random.default_rng(seed)
    old = [f"word{n}" for n in rng.integers(0, 400, 120)]
    new = [w for w in old if rng.random() > 0.04]
    for at in rng.integers(0, len(new), 4):
        new[at] = f"other{at}"
    changed = sum(max(c.stop - c.first, c.new_stop - c.new_first) for c in revision(old, new).changes)
    assert changed <= 1.3 * Levenshtein.distance(old, new)
