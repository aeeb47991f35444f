"""Which words a narrator reads again: of a long sentence the clause, with what it needs around it."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_reel.core.pickups.lines import LEAST_WORDS, MOST_WORDS, line_around
from faithful_reel.core.text.words import chapter_of

CLAUSES = [
    "When the tide had gone out further than anyone in the harbour could remember,",
    "the clerk, who had kept the book for thirty years, went down to the steps;",
    "he looked at the mud and the ribs of the old boats, and at the green stones under them,",
    "and wrote nothing,",
    "because there was no column in the book for a thing that had not happened yet.",
]
LONG = chapter_of("One", [" ".join(CLAUSES), "Nobody spoke."])


def text_of(line):
    return " ".join(LONG.words[k].text for k in line)


def word(text):
    return next(k for k, w in enumerate(LONG.words) if w.text == text)


def test_a_short_sentence_is_read_whole():
    at = word("spoke.")
    assert text_of(line_around(LONG, at, at + 1)) == "Nobody spoke."


@pytest.mark.parametrize(
    ("wrong", "line"),
    [
        ("further", CLAUSES[0]),
        ("thirty", "the clerk, who had kept the book for thirty years,"),
        ("nothing,", "and at the green stones under them, and wrote nothing,"),
        ("column", CLAUSES[4]),
    ],
)
def test_of_a_long_sentence_it_is_the_clause_with_what_it_needs(wrong, line):
    at = word(wrong)
    found = text_of(line_around(LONG, at, at + 1))
    assert line in found
    assert LEAST_WORDS <= len(found.split()) <= MOST_WORDS


@pytest.mark.parametrize(
    ("lengths", "at", "line"),
    [
        ((12, 13), 0, range(25)),  # the longest sentence that is read whole
        ((12, 14), 0, range(12)),
        ((16, 9, 30), 20, range(25)),  # the most that a clause is filled up to
        ((17, 9, 30), 20, range(17, 26)),
    ],
)
def test_a_line_has_up_to_25_words(lengths, at, line):
    words = ",".join(" ".join("w" * n) for n in lengths).replace(",", ", ")
    assert line_around(chapter_of("", [f"{words}."]), at, at + 1) == line


def test_a_clause_ends_where_the_reader_pauses_too():
    plain = chapter_of("One", [" ".join(f"w{k}" for k in range(95)) + "."])
    start = next(k for k, w in enumerate(plain.words) if w.text == "w0")
    assert len(line_around(plain, start + 50, start + 51)) == 95
    pauses = {start + k for k in range(12, 95, 12)}
    assert line_around(plain, start + 50, start + 51, pauses) == range(start + 48, start + 60)


def test_words_over_two_sentences_are_both_in_the_line():
    first, last = word("yet."), word("spoke.")
    line = line_around(LONG, first, last + 1)
    assert line.start <= first
    assert line.stop > last
    assert len(line) <= MOST_WORDS


@given(st.lists(st.tuples(st.integers(1, 30), st.sampled_from(",.;: ")), min_size=1, max_size=12), st.data())
def test_the_line_holds_the_words_and_ends_at_clauses(clauses, data):
    words = [f"w{i}{k}{end.strip() if k == n - 1 else ''}" for i, (n, end) in enumerate(clauses) for k in range(n)]
    text = chapter_of("", [" ".join(words)])
    first = data.draw(st.integers(0, len(text.words) - 1))
    stop = data.draw(st.integers(first + 1, len(text.words)))
    line = line_around(text, first, stop)
    assert line.start <= first < stop <= line.stop
    for edge in (line.start, line.stop):
        assert edge in (0, len(text.words)) or text.words[edge - 1].text[-1] in ",.;:"
