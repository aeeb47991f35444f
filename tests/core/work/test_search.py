"""Finding a place by words, by page, by time."""

from __future__ import annotations

from dataclasses import replace

import pytest
from support.chapters import RATE, TEXT, TOKENS, made

from faithful_reel.core.text.words import Chapter, chapter_of
from faithful_reel.core.work.search import Place, found, page_start

RHYME = chapter_of("x", ["The bell rang. The bell fell. A boat, and the bell rang."])


def word(wanted, text=RHYME, **more):
    return found(wanted, text, None, RATE, **({"after": -1} | more)).word


def test_words_are_found_in_a_row_and_round_the_end():
    assert word("the bell") == 0
    assert word("the bell", after=0) == 3
    assert word("the bell", after=3) == 9
    assert word("the bell", after=9) == 0
    assert word("“bell, RANG") == 1
    assert word("nothing") == -1
    assert word("bell rang the moon") == -1


def test_backwards():
    assert word("the bell", after=9, back=True) == 3
    assert word("the bell", after=0, back=True) == 9
    assert word("nothing", after=4, back=True) == -1


def test_the_last_word_may_be_a_beginning_and_the_others_not():
    assert word("bell f") == 4
    assert word("be fell") == -1
    assert word("bo") == 7
    assert word("rang") == 2
    assert word("rang", after=2) == 11  # the last word of all


@pytest.mark.parametrize("wanted", ["", "   ", "—", "..."])
def test_nothing_is_found_of_nothing(wanted):
    assert found(wanted, RHYME, None, RATE, after=2) == Place()


@pytest.mark.parametrize("wanted", ["p 12", "p12", "p. 12", "page 12", " PAGE 12 "])
def test_a_page(wanted):
    paged = Chapter("x", tuple(replace(w, page=11 + i // 4) for i, w in enumerate(RHYME.words)), ())
    assert word(wanted, paged) == 4
    assert page_start(paged, 13) == 8
    assert page_start(paged, 99) == -1
    assert word("p 99", paged) == -1


@pytest.mark.parametrize(
    ("wanted", "seconds"), [("0:20", 20), ("3:20", 200), ("1:02:03", 3723), ("0:00.5", 0.5), ("10:00", 600), ("0:03:20", 200)]
)
def test_a_time(wanted, seconds):
    assert found(wanted, RHYME, None, RATE, after=5) == Place(position=round(seconds * RATE))


def test_what_was_heard_is_found_at_the_written_word_it_belongs_to():
    read = ["+well", *TOKENS[:4], "+again", "+and", *TOKENS[4:6], "grey", *TOKENS[7:]]  # for "of"
    _, _, hearing = made(read=read)

    def at(wanted, after=-1):
        return found(wanted, TEXT, hearing, RATE, after=after, heard=True).word

    assert at("grey") == 6
    assert at("again and") == 3  # extra words stand at the written one before them
    assert at("well") == 0
    assert at("of") == -1
    assert at("again and a line") == 3
    assert found("again", TEXT, None, RATE, after=-1, heard=True) == Place()
    assert found("green", TEXT, hearing, RATE, after=-1).word == 7
    assert at("spoke") == len(TOKENS) - 1


def test_several_written_words_that_were_heard_as_one_are_found_at_the_first():
    _, _, hearing = made()
    joined = replace(
        hearing, links=((0, 2, 0, 1, False), (2, 3, 1, 3, False), *((i, i + 1, i, i + 1, True) for i in range(3, len(TOKENS))))
    )
    numbers = [found(w, TEXT, joined, RATE, after=-1, heard=True).word for w in TOKENS[:4]]
    assert numbers == [0, 2, 2, 3]
