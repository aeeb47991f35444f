"""Which words of a book are worth a look, and which readings of a name are accepted."""

from __future__ import annotations

import pytest

from faithful_reel.core.collate.findings import Finding, Kind
from faithful_reel.core.collate.names import Why, is_accepted, is_rare, name_key, names_of
from faithful_reel.core.text.words import Word, chapter_of

FIRST = chapter_of(
    "one",
    [
        "Dorrit rowed. The boat belonged to Dorrit's aunt, Mrs. Amsel. Every morning the boat was dry.",
        "The office stood by the quay, near the estuary, and Every Man knew it.",
    ],
)
SECOND = chapter_of(
    "two", ["Amsel waited for Dorrit. The señora sang.", [Word("zdravo", 0, 0, italic=True), Word("friends", 0, 0)]]
)


def listed():
    return {w.key: w for w in names_of([("c1", FIRST), ("c2", SECOND)])}


def test_names_rare_and_foreign_words_with_every_place():
    found = listed()
    assert {k: w.why for k, w in found.items() if w.why is Why.NAME} == {"dorrit": Why.NAME, "amsel": Why.NAME}
    assert {k for k, w in found.items() if w.why is Why.FOREIGN} == {"senora", "zdravo"}
    assert {"quay", "estuary"} <= {k for k, w in found.items() if w.why is Why.RARE}
    assert not {"boat", "office", "every", "morning", "mrs"} & set(found)
    assert found["dorrit"].places == (("c1", 0), ("c1", 6), ("c2", 3))
    assert found["dorrit"].text == "Dorrit"
    assert [w.why for w in names_of([("c1", FIRST)])] == sorted([w.why for w in names_of([("c1", FIRST)])], key=list(Why).index)


def test_a_word_that_begins_sentences_only_is_no_name():
    assert "gulls" not in {w.key for w in names_of([("c", chapter_of("c", ["Gulls cried. Gulls came."]))]) if w.why is Why.NAME}


@pytest.mark.parametrize(("token", "key"), [("Dorrit's", "dorrit"), ("“Dorrit,”", "dorrit"), ("Dorrits’", "dorrits"), ("—", "")])
def test_names_are_compared_without_their_genitive(token, key):
    assert name_key(token) == key


def test_rare_is_by_the_language_model():
    assert [w for w in ("the", "boat", "lamp", "estuary", "zyzzyx") if is_rare(w)] == ["estuary", "zyzzyx"]


def misread(written, heard, **more):
    return Finding("f", more.pop("kind", Kind.MISREAD), written, heard, 3, more.pop("count", 1), 0, 9, 0.8)


@pytest.mark.parametrize(
    ("finding", "right"),
    [
        (misread("Tarrow", "taro"), True),
        (misread("Tarrow's", "Tarot"), True),  # another spelling of much the same sound
        (misread("Tarrow", "Martin"), False),
        (misread("Martin", "taro"), False),
        (misread("Tarrow", "taro", kind=Kind.ADDED), False),
        (misread("Nell Tarrow", "taro", count=2), False),
        (misread("Tarrow", ""), False),
    ],
)
def test_an_accepted_name_covers_its_own_sound_only(finding, right):
    assert is_accepted(finding, (("tarrow", "taro"),)) is right
