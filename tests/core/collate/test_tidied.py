"""Repeats that no ear wrote down: only words that last too long are tried, and only a better fit counts."""

from __future__ import annotations

from faithful_reel.core.collate.links import Link
from faithful_reel.core.collate.tidied import LEAST_NATS, tidied
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.units import EAR_RATE

WORDS = "he said that the boat was late again".split()


def spoken(stretched=(), factor=2.6):
    at, heard = 0, []
    for k, text in enumerate(WORDS):
        length = round(
            (0.045 + 0.075 * {"said": 3, "that": 3, "boat": 3, "was": 3, "late": 3, "again": 4}.get(text, 2)) * EAR_RATE
        )
        length = round(length * (factor if k in stretched else 1))
        heard.append(Heard(text, at, at + length, 0.9))
        at += length
    return heard


def looked(heard, fit):
    links = [Link(range(k, k + 1), range(k, k + 1), same=True) for k in range(len(heard))]
    asked = []

    def counted(span, words):
        asked.append(list(words))
        return fit(words)

    found = tidied(heard, [0] * len(heard), links, counted, lambda look, odd: [look(j) for j in odd])
    return found, asked


def likes(repeat, by):
    """Fits better by so many nats where `repeat` is said twice in a row; every other word too many costs 80."""

    def fit(words):
        text = " ".join(words)
        if f"{repeat} {repeat}" in text:
            return -1000.0 + by
        return -1000.0 - 80.0 * (len(words) - len(dict.fromkeys(words)))

    return fit


def test_an_even_reading_is_not_looked_at():
    assert looked(spoken(), likes("that", 100)) == ([], [])


def test_a_long_word_that_fits_twice_is_a_repeat():
    (found,), _ = looked(spoken({2}), likes("that", 4 * LEAST_NATS))
    assert found.words == range(2, 3)
    assert found.confidence > 0.8


def test_a_long_word_that_does_not_fit_twice_is_only_long():
    found, asked = looked(spoken({2}), likes("late", 100))
    assert found == []
    assert len(asked) == 2  # once and twice; nothing longer is tried


def test_a_weak_gain_is_not_told():
    assert looked(spoken({2}), likes("that", LEAST_NATS - 1))[0] == []


def test_words_that_are_misread_are_left_to_the_ears():
    heard = spoken({2})
    links = [Link(range(k, k + 1), range(k, k + 1), same=k != 2) for k in range(len(heard))]
    assert (
        tidied(heard, [0] * len(heard), links, lambda _s, w: likes("that", 100)(w), lambda look, odd: [look(j) for j in odd])
        == []
    )


def test_nothing_heard_gives_nothing():
    assert tidied([], [], [], lambda _s, _w: 0.0, lambda look, odd: [look(j) for j in odd]) == []
