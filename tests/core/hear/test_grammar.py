"""Grammars of words: what was spoken is traced through them, and a repeat that only the sound shows is found."""

from __future__ import annotations

from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_reel.core.collate.again import AHEAD, BACK, said_again
from faithful_reel.core.hear.grammar import Arc, Grammar, Step, traced
from faithful_reel.core.hear.recogniser import Heard, _singly
from faithful_reel.core.units import Span

SOUND = Span(0, 160_000)
LINE = Grammar(4, 0, 3, (Arc(0, 1, "the"), Arc(1, 2, "old"), Arc(2, 3, "sea")), (), ((1, 0), (2, 1), (2, 0), (3, 2)))


def said(grammar, words):
    """The way of a text through a grammar, as what was said: its words, and its jumps in brackets."""
    steps = traced(grammar, words.split())
    return None if steps is None else " ".join(grammar.arcs[s.arc].word if s.arc is not None else f"{s.jump}" for s in steps)


def test_the_plain_way_jumps_nowhere():
    assert said(LINE, "the old sea") == "the old sea"


def test_a_stretch_said_twice_is_one_jump():
    assert said(LINE, "the old the old sea") == "the old (2, 0) the old sea"
    assert said(LINE, "the the old sea") == "the (1, 0) the old sea"


def test_what_no_way_speaks_is_not_traced():
    assert said(LINE, "the sea") is None
    assert said(LINE, "") is None


def test_a_silent_token_is_passed():
    assert said(Grammar(3, 0, 2, (Arc(0, 1, "well"),), ((1, 2),), ()), "well") == "well"


def test_steps_count_the_words_that_speak_them():
    steps = traced(LINE, "the old old sea".split())
    assert steps == [Step(0, 0), Step(1, 1), Step(None, 2, (2, 1)), Step(1, 2), Step(2, 3)]


@settings(max_examples=60, deadline=None)
@given(st.lists(st.sampled_from("a b c".split()), min_size=1, max_size=8), st.data())
def test_any_walk_is_traced_with_no_more_jumps_than_it_made(tokens, data):
    jumps = tuple((k, k - n) for k in range(1, len(tokens) + 1) for n in range(1, 4) if k >= n)
    grammar = Grammar(len(tokens) + 1, 0, len(tokens), tuple(Arc(k, k + 1, w) for k, w in enumerate(tokens)), (), jumps)
    at, words, jumped = 0, [], 0
    while at < len(tokens):
        words.append(tokens[at])
        at += 1
        if jumped < 5 and data.draw(st.booleans()):
            at -= data.draw(st.integers(1, min(3, at)))
            jumped += 1
    steps = traced(grammar, words)
    assert steps is not None
    assert [grammar.arcs[s.arc].word for s in steps if s.arc is not None] == words
    assert sum(s.jump is not None for s in steps) <= jumped


# --- the grammar of a chunk -----------------------------------------------------------------------------------------


def decoded(spoken):
    """A decoder that hears these words, a tenth of a second each, whatever the grammar; keeps what it was asked."""

    def read(span, grammar):
        read.asked = grammar
        return [(word, span.start + 1600 * k, span.start + 1600 * (k + 1)) for k, word in enumerate(spoken.split())]

    return read


def heard(text, spoken, before="", after="", ways=()):
    found = said_again(before.split(), text.split(), after.split(), ways, SOUND, decoded(spoken))
    return found and (" ".join(w.text for w in found.words), found.stretches)


def test_nothing_said_again_is_nothing():
    assert heard("He ran on.", "he ran on") is None


def test_a_word_said_twice_is_told_with_its_place():
    assert heard("He ran on.", "he ran ran on") == ("He ran ran on.", ((1, 2),))


def test_a_beginning_of_what_follows_is_told_at_the_end():
    assert heard("He ran on.", "he ran on and then", after="And then he stopped at the very end") == (
        "He ran on. And then",
        ((3, 3),),
    )


def test_the_last_words_before_the_chunk_may_be_said_again():
    assert heard("ran on.", "and he ran on", before="so and he") == ("and he ran on.", ((0, 0),))


def test_what_an_ear_heard_may_be_said_as_well():
    assert heard("He ran on.", "he he went on", ways=[(1, 2, ("went",))]) == ("He He went on.", ((0, 1),))
    assert heard("He ran on.", "he he on", ways=[(1, 2, ())]) == ("He He on.", ((0, 1),))


def test_numbers_have_more_forms_than_are_known_and_are_not_said_again():
    read = decoded("at nine forty forty")
    assert said_again((), "at 9:40 sharp, he said".split(), (), (), SOUND, read) is None
    assert {stop for pair in read.asked.jumps for stop in pair} <= {3, 4, 5}


def test_what_can_not_be_decoded_is_nothing():
    assert said_again((), ("he", "ran"), (), (), SOUND, lambda _span, _grammar: None) is None
    assert said_again((), (), ("he", "ran"), (), SOUND, decoded("he")) is None


def test_only_a_few_words_around_the_chunk_are_in_its_grammar():
    read = decoded("he ran on")
    said_again(["a"] * 50, "he ran on".split(), ["b"] * 50, (), SOUND, read)
    words = [arc.word for arc in read.asked.arcs]
    assert (words.count("a"), words.count("b")) == (BACK, AHEAD)


def test_a_word_that_an_ear_writes_as_one_with_its_repeat_is_two():
    assert [(h.text, h.start, h.stop) for h in _singly(Heard("hand-hand", 10, 30, 0.9))] == [("hand", 10, 20), ("hand", 20, 30)]
    for whole in ("half-hearted", "-", "hand", "-hand"):
        assert _singly(Heard(whole, 0, 10, 0.9)) == [Heard(whole, 0, 10, 0.9)]
