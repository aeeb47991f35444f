"""Collation: links, and the findings that follow from them."""

from __future__ import annotations

import random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_reel.core.collate.findings import Kind, differences
from faithful_reel.core.collate.links import collated
from faithful_reel.core.collate.proofing import confidence_of, features_of
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.text.words import chapter_of

TEXT = (
    "The tide had gone out further than anyone in the harbour could remember. Mr. Gray, the harbour master, walked slowly along "
    "the wall with his hands behind him. He had held the post since 1904 and did not like surprises. A gull stood there on one leg, "
    "as though it had bought the land. We shall have to learn to farm."
)


def found(read: str, text: str = TEXT):
    chapter = chapter_of("x", [text])
    heard = [Heard(t, i * 100, i * 100 + 90, 0.9) for i, t in enumerate(read.split())]
    links = collated([w.text for w in chapter.words], read.split())
    return [
        (d.kind.value, " ".join(chapter.words[i].text for i in d.written), " ".join(heard[j].text for j in d.heard))
        for d in differences(chapter, heard, links)
    ]


SAME = TEXT.replace("1904", "nineteen oh four")


@pytest.mark.parametrize(
    "read",
    [
        TEXT,
        SAME,
        TEXT.replace("harbour", "harbor").replace("Mr.", "mister"),
        TEXT.replace("1904", "nineteen hundred and four"),
        TEXT.lower().replace(",", "").replace(".", ""),
        TEXT.replace("anyone", "any one").replace("further than", "furtherthan"),
    ],
)
def test_right_readings_give_no_finding(read):
    assert found(read) == []


@pytest.mark.parametrize(
    ("change", "finding"),
    [
        (("had gone", "has gone"), ("misread", "had", "has")),
        (("surprises", "surprise"), ("misread", "surprises.", "surprise.")),
        (("walked slowly along", "walked along"), ("skipped", "slowly", "")),
        (("in the harbour could", "in the whole harbour could"), ("added", "", "whole")),
        (("nineteen oh four", "nineteen fourteen"), ("misread", "1904", "nineteen fourteen")),
        (("on one leg,", "on one leg, on one leg,"), ("repeated", "on one leg,", "on one leg,")),
        (("He had held", "He had He had held"), ("false_start", "He had", "He had")),
        (("since nineteen", "since since nineteen"), ("repeated", "since", "since")),
    ],
)
def test_one_planted_error_is_one_finding(change, finding):
    assert change[0] in SAME
    assert found(SAME.replace(*change)) == [finding]


def test_a_line_read_three_times_is_two_repeats_and_the_last_counts():
    line = "We shall have to learn to farm."
    chapter = chapter_of("x", [TEXT])
    read = SAME + f" {line} {line}"
    links = collated([w.text for w in chapter.words], read.split())
    assert [f[0] for f in found(read)] == ["repeated", "repeated"]
    last = [link for link in links if link.written and link.written.start == len(chapter.words) - 1]
    assert last[0].heard.start == len(read.split()) - 1


def test_a_repeat_heard_with_errors_is_still_a_repeat():
    read = SAME.replace("A gull stood there", "Gull stood there on one leg as thought it had bought the lamb. A gull stood there")
    kinds = [f[0] for f in found(read)]
    assert "repeated" in kinds
    assert kinds.count("added") <= 1


def test_a_skipped_sentence_is_one_finding():
    assert found(SAME.replace("He had held the post since nineteen oh four and did not like surprises. ", "")) == [
        ("skipped", "He had held the post since 1904 and did not like surprises.", "")
    ]


WORDS = [
    "the",
    "tide",
    "went",
    "out",
    "over",
    "sand",
    "and",
    "nobody",
    "in",
    "town",
    "had",
    "seen",
    "such",
    "a",
    "thing",
    "before",
    "then",
    "the",
    "bells",
    "rang",
    "twice",
]


@settings(max_examples=150, deadline=None)
@given(st.lists(st.sampled_from(WORDS), min_size=1, max_size=40), st.lists(st.sampled_from(WORDS), max_size=40))
def test_every_token_of_both_sides_is_in_exactly_one_link_in_order(written, heard):
    links = collated(written, heard)
    assert [i for link in links for i in link.written] == list(range(len(written)))
    assert [j for link in links for j in link.heard] == list(range(len(heard)))


@settings(max_examples=60, deadline=None)
@given(st.lists(st.sampled_from(WORDS), min_size=3, max_size=60))
def test_a_text_links_with_itself(tokens):
    assert all(link.same and len(link.written) == len(link.heard) == 1 for link in collated(tokens, tokens))


def test_a_long_chapter_with_scattered_errors_is_linked_well():
    rng = random.Random(5)
    written = [rng.choice(WORDS) + rng.choice(("", "s", "ed", "ing")) for _ in range(9000)]
    heard = list(written)
    for at in sorted(rng.sample(range(9000), 60), reverse=True):
        heard[at : at + 1] = rng.choice(([], ["zebra"], [heard[at], "zebra"]))
    wrong = [link for link in collated(written, heard) if not link.same]
    assert 40 <= len(wrong) <= 75


# --- weighing -----------------------------------------------------------------------------------------------------


def sure(written, heard, second, margin, ear=0.95):
    return confidence_of(written.split(), heard.split(), None if second is None else second.split(), margin, ear)


def test_both_ears_and_the_sound_make_a_sure_finding():
    assert sure("green", "great", "great", 10.0) > 0.8


def test_a_second_ear_that_hears_the_script_clears_it():
    assert sure("Nell", "no", "Nell", 1.0, 0.4) < 0.1


def test_swallowed_endings_and_names_are_doubted():
    assert sure("asked Nell", "ask Nell", "ask Nell", 6.0) < sure("asked Nell", "told Nell", "told Nell", 6.0)
    assert sure("Tarrow", "tarot", "tarot", 8.0) < 0.5  # a name that no ear can know
    assert sure("Martin", "Marvin", "Marvin", 8.0) > 0.5  # a known name read as another


@given(st.floats(-5, 30), st.floats(0, 1))
def test_more_evidence_never_makes_less_sure(margin, ear):
    assert sure("green", "great", "great", margin, ear) <= sure("green", "great", "great", margin + 1, ear) + 1e-9


def test_features_are_bounded():
    values = features_of(["green"], ["great"], None, 1e6, 1.0)
    assert all(-1.6 <= v <= 1.6 for v in values.values())


def test_kinds_are_the_documented_ones():
    assert {k.value for k in Kind} == {
        "misread",
        "skipped",
        "added",
        "repeated",
        "false_start",
        "pause",
        "noise",
        "level",
        "other",
    }
