"""Collation: links, and the findings that follow from them."""

from __future__ import annotations

import random

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from faithful_reel.core.collate.findings import Kind, differences
from faithful_reel.core.collate.links import collated
from faithful_reel.core.collate.places import SAME_SOUND, Vote, confidence_of, features_of, read_chunk
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
    starts = frozenset(s.start for s in chapter.sentences())
    return [
        (d.kind.value, " ".join(chapter.words[i].text for i in d.written), " ".join(heard[j].text for j in d.heard))
        for d in differences([w.text for w in chapter.words], starts, [h.text for h in heard], links)
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


def place(written, readings, margin=None, sure=0.9):
    """Features of a place where the ears read this: a text for each; "=" stands for a right reading."""
    votes = [
        Vote(ear, tuple((written if text == "=" else text).split()), sure, text == "=")
        for ear, text in zip(("first", "second", "third"), readings, strict=False)
    ]
    said = next(v.words for v in votes if not v.right)
    return features_of(written.split(), said, votes, margin)


def sure_of(*args, **more):
    return confidence_of(place(*args, **more))


def test_what_all_ears_hear_and_the_phones_bear_out_is_sure():
    assert sure_of("green", ("great",) * 3, 60.0) > 0.8


def test_what_two_ears_read_rightly_is_doubted():
    assert sure_of("Nell", ("no", "=", "="), -20.0, 0.5) < 0.1
    assert sure_of("between", ("but we in", "=", "="), 10.0, 0.5) < 0.5


def test_swallowed_endings_and_names_are_doubted():
    assert sure_of("asked Nell", ("ask Nell",) * 3, 30.0) < sure_of("asked Nell", ("told Nell",) * 3, 30.0)
    assert sure_of("Tarrow", ("tarot",) * 3, 30.0) < sure_of("Martin", ("Marvin",) * 3, 30.0)  # no ear knows the first
    assert sure_of("Tarrow", ("tarot",) * 3, 30.0) < sure_of("tarrow", ("tarot",) * 3, 30.0)  # the first is a name
    assert sure_of("Martin", ("Marvin",) * 3, 30.0) < sure_of("martin", ("marvin",) * 3, 30.0)


def test_an_ending_that_the_next_word_swallows_is_doubted():
    votes = [Vote(ear, ("hour",), 0.9, right=False) for ear in ("first", "second", "third")]
    swallowed = confidence_of(features_of(["hours"], ["hour"], votes, 50.0, after=["should"]))
    assert swallowed < confidence_of(features_of(["hours"], ["hour"], votes, 50.0, after=["before"]))


@given(st.floats(-200, 300), st.floats(0, 1))
def test_more_evidence_never_makes_less_sure(margin, sure):
    readings = ("great", "great", "=")
    assume(min(abs(margin), abs(margin + 1)) >= SAME_SOUND)  # with less between them the two sound the same
    assert sure_of("green", readings, margin, sure) <= sure_of("green", readings, margin + 1, sure) + 1e-9


def test_features_are_bounded():
    assert all(-2 <= v <= 2 for v in place("green", ("great", "=", "grain"), 1e6).values())


def ears_read(text, *readings, starts=(0,)):
    written = text.split()
    heard = {
        ear: [Heard(t, 100 * i, 100 * i + 90, 0.9, ear) for i, t in enumerate(reading.split())]
        for ear, reading in zip(("first", "second", "third"), readings, strict=False)
    }
    return read_chunk(range(len(written)), written, frozenset(starts), heard)


def test_where_the_ears_agree_with_the_text_there_is_no_place():
    assert ears_read("He had 3 boats.", "he had three boats", "he had 3 boats", "He had three boats.").places == ()


def test_the_agreed_words_are_what_some_ear_heard_never_the_script():
    reading = ears_read("the old ferry lay in the mud", *["the old fairy lay in the mud"] * 3)
    assert [w.text for w in reading.words] == "the old fairy lay in the mud".split()
    lone = ears_read("the old ferry lay in the mud", "the old fairy lay in the mud", *["the old ferry lay in the mud"] * 2)
    assert [w.text for w in lone.words] == "the old ferry lay in the mud".split()
    assert [p.said for p in lone.places] == [("fairy",)]  # doubted, not dropped
    assert lone.places[0].confidence < 0.5


def test_an_ear_that_lost_itself_is_left_out():
    text = "the old ferry lay on its side in the mud of the harbour"
    assert ears_read(text, text, text, "thank you thank you thank you").places == ()


def test_a_repeat_that_one_ear_tidied_away_is_found():
    reading = ears_read(
        "he said that the boat was late", "he said that the boat was late", *["he said that that the boat was late"] * 2
    )
    assert [(j.difference.kind, j.difference.written) for p in reading.places for j in p.departures] == [
        (Kind.REPEATED, range(2, 3))
    ]
    assert reading.places[0].confidence > 0.5


def test_a_name_beside_a_repeat_is_judged_on_its_own():
    reading = ears_read("then Dorrit went down to the pier", *["then Dorit went down to the went down to the pier"] * 3)
    judged = {j.difference.kind: j.confidence for p in reading.places for j in p.departures}
    assert judged[Kind.REPEATED] > 0.7
    assert judged.get(Kind.MISREAD, 0.0) < judged[Kind.REPEATED]


def test_a_misread_that_runs_into_a_repeat_is_two_findings():
    assert ("repeated", "counted", "counted,") in found("Door counted, counted twice", "Dorrit counted twice")


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
        "name",
        "other",
    }


def test_the_first_of_two_copies_is_the_one_too_many_though_words_beside_it_were_misheard():
    links = collated("people who owned goats usually did".split(), "people view him goats usually goats usually did".split())
    same = {(link.written.start, link.heard.start) for link in links if link.same}
    assert {(3, 5), (4, 6)} <= same
    assert not any(set(link.heard) & {3, 4} and link.written for link in links)


@pytest.mark.parametrize(
    ("first", "finding"),
    [
        ("He had held the post since 1904 and did not like her prices.", ("repeated", "He had held the post since 1904 and did not like surprises.")),
        ("He had held the post since 1904 and dig not.", ("false_start", "He had held the post since 1904 and did not")),
    ],
)  # fmt: skip
def test_the_misheard_end_of_a_reading_belongs_to_it(first, finding):
    again = "He had held the post since 1904"
    kind, text = finding
    assert found(TEXT.replace(again, f"{first} {again}")) == [(kind, text, first)]


def test_what_the_narrator_says_between_two_readings_is_no_part_of_the_first():
    again = "He had held the post since 1904"
    assert found(TEXT.replace(again, f"{again} oh bother {again}")) == [
        ("false_start", again, again),
        ("added", "", "oh bother"),
    ]
