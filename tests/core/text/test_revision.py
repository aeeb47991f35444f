"""Two versions of a text."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from faithful_reel.core.text.revision import joined_text, matched, parts_of, revision
from faithful_reel.core.text.words import Chapter, chapter_of

OLD = "The tide had gone out further than anyone in the harbour could remember.".split()


def test_words_that_stayed_are_found_at_their_new_places():
    new = "At last the tide had gone out much further than anyone there could remember!".split()
    change = revision(OLD, new)
    assert [new[p] for p in change.place_of if p >= 0] == "the tide had gone out further than anyone could remember!".split()
    assert [(c.old, c.new) for c in change.changes] == [("", "At last"), ("", "much"), ("in the harbour", "there")]
    assert change.span_of(1, 3) == 3
    assert change.span_of(4, 2) is None  # "out" and "further" stand apart now
    assert change.span_of(8, 1) is None
    assert change.span_of(8, 0) == 12  # between words: before the next one that stayed


@given(st.lists(st.sampled_from("a b c d e".split()), max_size=30), st.lists(st.sampled_from("a b c d e".split()), max_size=30))
def test_changes_turn_the_old_text_into_the_new_one(old, new):
    change = revision(old, new)
    built, at = [], 0
    for c in change.changes:
        built += old[at : c.first] + c.new.split()
        at = c.stop
    assert built + old[at:] == new
    assert all(old[i] == new[p] for i, p in enumerate(change.place_of) if p >= 0)
    stayed = [p for p in change.place_of if p >= 0]
    assert stayed == sorted(set(stayed))


def test_chapters_are_matched_by_their_words_not_by_their_titles():
    tide = chapter_of("One", ["The tide went out and did not come in again that day."])
    fog = chapter_of("Two", ["Fog lay over the quay until the evening bell had rung."])
    new = chapter_of("Chapter the First", ["The tide went out and did not come in again for two days."])
    other = chapter_of("Three", ["Nothing of this was in the book before."])
    assert matched([tide, fog], [other, fog, new]) == [-1, 1, 0]


@given(at=st.integers(1, 24))
def test_parts_joined_again_are_the_whole(at):
    whole = Chapter(
        "x",
        chapter_of("x", ["One two three. Four five.", "Six seven eight nine ten.", "A b c d e f. G h i j k l m n o."]).words,
        (1, 2),
    )
    first, second = parts_of(whole, at, ("x", "y"))
    assert [w.text for w in first.words + second.words] == [w.text for w in whole.words]
    assert second.words[0].sentence == second.words[0].paragraph == 0
    again = joined_text(first, second)
    assert [w.text for w in again.words] == [w.text for w in whole.words]
    if whole.words[at].paragraph != whole.words[at - 1].paragraph:
        assert again.words == whole.words
