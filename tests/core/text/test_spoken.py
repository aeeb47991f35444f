"""Spoken forms: what counts as a right reading."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_reel.core.text.spoken import plain, readings, sound_key, spoken_forms


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
        ("1,000,000", "one million"),
        ("100", "a hundred"),
        ("2004", "two thousand four"),
        ("1800", "eighteen hundred"),
        ("6pm", "six p m"),
        ("6:30pm", "half past six p m"),
        ("11.20", "twenty past eleven"),
        ("10:50", "ten to eleven"),
        ("18:00", "eighteen hundred hours"),
        ("12/03/1904", "the twelfth of march nineteen oh four"),
        ("12/03/1904", "december third nineteen oh four"),
        ("1904-03-12", "march the twelfth nineteen oh four"),
        ("$5m", "five million dollars"),
        ("£2.5bn", "two point five billion pounds"),
        ("50p", "fifty pence"),
        ("£0.75", "seventy five pence"),
        ("5%", "five per cent"),
        ("10km", "ten kilometres"),
        ("1kg", "one kilogram"),
        ("20°C", "twenty degrees celsius"),
        ("90°", "ninety degrees"),
        ("6'2\"", "six foot two"),
        ("70mph", "seventy miles an hour"),
        ("½", "a half"),
        ("2½", "two and a half"),
        ("¾", "three quarters"),
        ("3/4", "three quarters"),
        ("2/3", "two thirds"),
        ("555-0142", "five five five oh one four two"),
        ("555-0142", "double five five oh one four two"),
        ("1914–18", "nineteen fourteen to eighteen"),
        ("10-12", "ten to twelve"),
        ("-5", "minus five"),
        ("007", "oh oh seven"),
        ("VIII", "the eighth"),
        ("XII", "twelve"),
        ("MPs", "m ps"),
        ("B.B.C.", "b b c"),
        ("ABCDE", "a b c d e"),
        ("@", "at"),
        ("#", "number"),
        ("and/or", "and or"),
        ("and/or", "and slash or"),
        ("R&B", "r and b"),
        ("Ave.", "avenue"),
        ("Sept.", "september"),
        ("etc.", "et cetera"),
        ("vs", "versus"),
        ("wait…what", "wait what"),
        ("mother-in-law’s", "mother in law's"),
        ("’twas", "twas"),
        ("naïve", "naive"),
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
    ("a", "b"),
    [
        ("harbour", "harbor"),
        ("colour", "color"),
        ("their", "there"),
        ("realise", "realize"),
        ("theatre", "theater"),
        ("tyre", "tire"),
        ("grey", "gray"),
        ("storey", "story"),
        ("travelled", "traveled"),
        ("defence", "defense"),
        ("judgement", "judgment"),
        ("manoeuvre", "maneuver"),
        ("pyjamas", "pajamas"),
        ("catalogue", "catalog"),
        ("analyse", "analyze"),
        ("programme", "program"),
    ],
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


@pytest.mark.parametrize(
    ("text", "index", "reading"),
    [
        ("on 3 March he", 1, "the third of"),
        ("on March 3, he", 2, "the third"),
        ("on March 3rd he", 2, "third"),
        ("some £3 million went", 1, "three"),
        ("some £3 million went", 2, "million pounds"),
        ("weighed 5 kg.", 2, "kilograms"),
        ("ran 10 km, then", 2, "kilometres"),
        ("it was 20 °C outside", 3, "degrees celsius"),
        ("King Henry VIII spoke", 2, "the eighth"),
        ("World War II ended", 2, "two"),
        ("King Charles I spoke", 2, "the first"),
        ("Chapter I began", 1, "one"),
        ("about 2 in. wide", 2, "inches"),
    ],
)
def test_neighbours_allow_more_readings(text, index, reading):
    assert tuple(reading.split()) in readings(text.split())[index]


@pytest.mark.parametrize(
    ("text", "index", "wrong"),
    [
        ("he had 3 boats", 2, "third"),
        ("and I saw", 1, "the first"),
        ("World War II ended", 2, "the second"),
        ("some £3 then", 1, "three"),
        ("he sat in here", 2, "inches"),
    ],
)
def test_without_such_neighbours_they_are_wrong(text, index, wrong):
    assert tuple(wrong.split()) not in readings(text.split())[index]


@given(st.lists(st.text(min_size=1, max_size=12), max_size=8))
def test_readings_hold_all_that_a_token_has_alone_or_fewer(tokens):
    found = readings(tokens)
    assert len(found) == len(tokens)
    assert all(forms for forms in found)
    assert all(w and " " not in w for forms in found for f in forms for w in f)
