"""Spoken forms: what counts as a right reading."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_reel.core.text.spoken import plain, sound_key, spoken_forms


@pytest.mark.parametrize(
    ("token", "reading"),
    [
        ("1904", "nineteen oh four"),
        ("1904", "one thousand nine hundred and four"),
        ("2026", "twenty twenty six"),
        ("2,500", "twenty five hundred"),
        ("1920s", "nineteen twenties"),
        ("'60s", "sixties"),
        ("21st", "twenty first"),
        ("3:15", "three fifteen"),
        ("3:15", "quarter past three"),
        ("6:45", "quarter to seven"),
        ("9:05", "nine oh five"),
        ("£3.50", "three pounds fifty"),
        ("£1", "one pound"),
        ("$12", "twelve dollars"),
        ("50%", "fifty percent"),
        ("3.14", "three point one four"),
        ("1/2", "a half"),
        ("3/4", "three fourths"),
        ("XIV", "fourteen"),
        ("Mr.", "mister"),
        ("St.", "saint"),
        ("e.g.", "for example"),
        ("U.S.", "u s"),
        ("“Forty-two,”", "forty two"),
        ("o’clock", "o'clock"),
        ("&", "and"),
        ("B12", "b twelve"),
        ("tide—which", "tide which"),
    ],
)
def test_a_right_reading_counts(token, reading):
    assert tuple(reading.split()) in spoken_forms(token)


@pytest.mark.parametrize(
    ("token", "wrong"), [("1904", "nineteen fourteen"), ("3:15", "three fifty"), ("Mr.", "missus"), ("twelve", "twenty")]
)
def test_a_wrong_reading_does_not(token, wrong):
    assert tuple(wrong.split()) not in spoken_forms(token)


@pytest.mark.parametrize("token", ["—", "…", "***", "“”"])
def test_a_mark_that_is_not_read_has_one_empty_form(token):
    assert spoken_forms(token) == ((),)


@pytest.mark.parametrize(
    ("a", "b"), [("harbour", "harbor"), ("colour", "color"), ("their", "there"), ("realise", "realize"), ("theatre", "theater")]
)
def test_spellings_and_homophones_share_a_key(a, b):
    assert sound_key(a) == sound_key(b)


@pytest.mark.parametrize(("a", "b"), [("was", "were"), ("this", "that"), ("woman", "women"), ("ship", "ships"), ("in", "on")])
def test_near_words_do_not_share_a_key(a, b):
    assert sound_key(a) != sound_key(b)


@given(st.text(min_size=1, max_size=24))
def test_any_token_has_plain_forms(token):
    for form in spoken_forms(token):
        for word in form:
            assert word
            assert " " not in word
            assert word == word.lower()


@given(st.integers(min_value=0, max_value=9_999_999))
def test_numbers_are_read_in_words_only(number):
    assert all(not any(c.isdigit() for c in word) for form in spoken_forms(str(number)) for word in form)


@given(st.text(max_size=20))
def test_plain_is_idempotent(text):
    assert plain(plain(text)) == plain(text)
