"""Which stretch of a pickup recording reads which line: all lines together, among slates, chatter, restarts and lines alike."""

from __future__ import annotations

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from support.sounds import noise

from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.pickups.judging import proposed
from faithful_reel.core.pickups.ledger import Take
from faithful_reel.core.pickups.sorting import Match, Sorted, begun_before, islands_of, matches_of, restarts
from faithful_reel.core.units import EAR_RATE, Span

TOWN = "By nine o’clock the whole town had come down to look."
GULL = "A gull stood there on one leg, as though it had bought the land."
CHILDREN = "Children ran out over the ribs of sand, and nobody listened."
LINES = [TOWN, GULL, CHILDREN]


def found(lines, *islands, marked=()):
    """(line, the words that were heard of it) of every match, each island a string."""
    heard = [w for island in islands for w in island.split()]
    owner = [k for k, island in enumerate(islands) for _ in island.split()]
    matches = matches_of([line.split() for line in lines], heard, owner, marked)
    return [(m.line, " ".join(heard[j] for j in m.words)) for m in matches]


def test_takes_are_found_in_any_order_among_slates_and_chatter():
    rows = found(
        LINES,
        "Pickup two.", "a gull stood there on one leg as though it had bought the land", "Sorry, once more.",
        "A gull stood there on one leg, as though it had bought the land.", "Pickup one.",
        "By 9 o'clock the whole town had come down to look.", "That was a car.",
    )  # fmt: skip
    assert [line for line, _ in rows] == [1, 1, 0]
    assert rows[2][1] == "By 9 o'clock the whole town had come down to look."


def test_a_slate_in_the_same_breath_is_not_the_takes():
    [(line, words)] = found(LINES, "Pickup one by nine o'clock the whole town had come down to look")
    assert (line, words) == (0, "by nine o'clock the whole town had come down to look")


def test_a_line_read_into_another_is_two_takes():
    rows = found(LINES, f"{TOWN} {CHILDREN}")
    assert rows == [(0, TOWN), (2, CHILDREN)]


def test_lines_alike_do_not_claim_each_others_takes():
    best, worst = (
        "It was the best of times, it was the age of wisdom.",
        "It was the worst of times, it was the age of foolishness.",
    )
    rows = found([best, worst], worst, best, worst)
    assert [line for line, _ in rows] == [1, 0, 1]


def test_the_same_words_asked_for_twice_go_to_the_lines_in_their_order():
    said = "No, he said at last."
    rows = found([TOWN, said, GULL, said], TOWN, said, GULL, said)
    assert [line for line, _ in rows] == [0, 1, 2, 3]


def test_a_number_is_known_in_any_of_its_words():
    line = "That was in the winter of 1958."
    for said in ("nineteen fifty eight", "nineteen hundred and fifty eight", "1958"):
        for pause in ((f"that was in the winter of {said}",), ("that was in the winter of", said)):
            assert found([line], *pause, "take two") == [(0, f"that was in the winter of {said}")]


def test_a_word_misheard_at_an_end_belongs_to_its_line():
    rows = found(LINES, "Buy nine o'clock the whole town had come down to cook")
    assert rows == [(0, "Buy nine o'clock the whole town had come down to cook")]
    assert found([TOWN], "bye mine a clock the whole town had come")[0][0] == 0


def test_a_line_that_an_ear_writes_in_other_words_is_known_by_its_sound():
    assert found(["Dorrit poured more tea.", TOWN], "door at board more teeth") == [(0, "door at board more teeth")]
    assert found(["Dorrit poured more tea.", TOWN], "we should stop for lunch") == []


def test_other_talk_reads_no_line():
    assert found(LINES, "Hang on, there was a car.", "Let me try that again.", "Was that all right?") == []
    assert found(LINES) == []
    assert found([], TOWN) == []


def test_a_short_line_is_not_found_within_other_words():
    assert found(["No.", TOWN], "No I think that was fine so let us go on") == []
    assert found(["No.", TOWN], "Pickup four.", "No.") == [(0, "No.")]


def test_half_a_line_is_told_as_such():
    heard = "Children ran out over the ribs".split()
    [m] = matches_of([CHILDREN.split()], heard, [0] * len(heard))
    assert m.tokens == range(6)
    whole = "Children ran out over the ribs of sand and nobody".split()
    [m] = matches_of([CHILDREN.split()], whole, [0] * len(whole))
    assert m.tokens == range(11)  # what little lacks is for the ears to tell


LONG = (
    "She had walked eleven miles along the bottom of the bay, and nobody had asked her for the letter, which was dry, "
    "and the seal on it was old."
)


def test_a_part_that_holds_what_the_line_is_asked_for_is_a_take_where_it_stands_alone():
    at = LONG.split().index("dry,")
    part, asked = "which was dry, and the seal", [range(at, at + 1)]
    assert found([LONG], part) == []
    assert found([LONG], part, marked=asked) == [(0, part)]
    assert found([LONG], "Sorry.", part, LONG, marked=asked) == [(0, part), (0, LONG)]
    assert found([LONG], "nobody had asked her for it", marked=asked) == []  # a part that does not hold it
    assert found([LONG], f"the harbour {part} of a man whom the town knew well", marked=asked) == []
    assert found([LONG], "was dry, and", marked=asked) == []


def test_a_beginning_that_is_read_again_is_a_restart():
    heard = "By nine o'clock the whole town By nine o'clock the whole town had come down to look".split()
    owner = [0] * 6 + [1] * 11
    matches = matches_of([TOWN.split()], heard, owner)
    assert [m.words for m in matches] == [range(6), range(6, 17)]
    assert restarts(matches, [TOWN.split()]) == {0}
    assert restarts(matches[1:], [TOWN.split()]) == set()
    again = [Match(0, range(6 * k, 6 * k + 6), range(6), 6.0) for k in range(2)]
    read = Match(0, range(12, 23), range(11), 11.0)
    assert restarts([*again, read], [TOWN.split()]) == {0, 1}  # begun twice
    assert restarts([*again, Match(1, range(12, 23), range(11), 11.0)], [TOWN.split(), TOWN.split()]) == set()
    assert restarts([], []) == set()


def test_two_words_of_a_line_that_is_read_right_after_are_its_beginning():
    def begun(text, lines=(TOWN,)):
        words = text.split()
        said = tuple(Heard(w, 0, 1, 0.9) for w in words)
        tokens = [line.split() for line in lines]
        found = Sorted(said, (0,) * len(words), (Span(0, 9),), tuple(matches_of(tokens, words, [0] * len(words))))
        return begun_before(found, tokens)

    assert begun(f"by nine {TOWN}") == [range(2)]
    assert begun(f"all right {TOWN}") == []
    assert begun(f"{TOWN} by nine") == []


def test_what_fits_no_line_is_listed():
    heard = tuple(range(5))
    sorted_ = Sorted(heard, (0, 0, 1, 1, 2), (Span(0, 9),), (Match(0, range(2, 4), range(2), 2.0),))
    assert sorted_.left == [range(2), range(4, 5)]


SAYINGS = (
    TOWN,
    GULL,
    CHILDREN,
    "He did not like surprises, and he liked visitors less.",
    "Write that down, please, before it is gone.",
)
TALK = ("Pickup seven.", "Sorry.", "Next one.", "Was that all right?", "There was a lorry outside.")


@settings(max_examples=40, deadline=None)
@given(st.lists(st.tuples(st.integers(0, 4), st.integers(-1, 4)), min_size=1, max_size=10))
def test_every_take_of_any_session_is_found_once_at_its_line(takes):
    islands, wanted = [], []
    for line, talk in takes:
        if talk >= 0:
            islands.append(TALK[talk])
        islands.append(SAYINGS[line])
        wanted.append((line, SAYINGS[line]))
    assert found(SAYINGS, *islands) == wanted


def test_a_take_reaches_to_the_nearest_word_of_another_one():
    """Words beside it that read no line may still be its own: an ear may write a number as several."""
    said = tuple(Heard("w", 100 * k, 100 * k + 80, 0.9) for k in range(12))
    first, second = Match(0, range(2, 4), range(2), 2.0), Match(1, range(6, 9), range(3), 3.0)
    sorted_ = Sorted(said, (0,) * 10 + (1,) * 2, (Span(0, 1000), Span(1000, 1200)), (first, second))
    assert sorted_.where(first) == Span(0, 590)
    assert sorted_.where(second) == Span(390, 1000)
    assert sorted_.where(Match(2, range(10, 12), range(2), 2.0)) == Span(1000, 1200)


# --- islands, and which take is proposed ------------------------------------------------------------------------------


def test_islands_are_what_is_spoken_between_pauses():
    def voice(seconds):
        return noise(seconds=seconds, rms_db=-24, rate=EAR_RATE)

    def pause(seconds):
        return noise(seconds=seconds, rms_db=-70, rate=EAR_RATE, seed=2)

    x = np.concatenate([pause(0.8), voice(1.0), pause(0.2), voice(1.0), pause(0.6), voice(0.5), pause(1.0)]).astype(np.float32)
    islands = islands_of(x)
    assert len(islands) == 2  # a pause of 0.2 s is within a line
    assert abs(islands[0].start / EAR_RATE - 0.68) < 0.1
    assert abs(islands[0].stop / EAR_RATE - 3.12) < 0.1
    long_ = np.concatenate([pause(0.8), voice(30.0), pause(1.0)]).astype(np.float32)
    assert all(len(span) <= 12 * EAR_RATE for span in islands_of(long_))
    assert islands_of(pause(3.0).astype(np.float32)) == []


def take(departures=0, *, part=False, remarks=()):
    return Take("r", 0, 9, departures, "", part=part, remarks=tuple(remarks))


def test_the_proposed_take_is_whole_as_written_clean_and_the_last():
    assert proposed([]) == (-1, "")
    assert proposed([take()]) == (0, "as written")
    assert proposed([take(), take()]) == (1, "the last clean one")
    assert proposed([take(), take(1)]) == (0, "the only clean one")
    assert proposed([take(), take(remarks=["a click"])]) == (0, "the only clean one")
    assert proposed([take(1), take(part=True)]) == (0, "the take that departs least")
    assert proposed([take(part=True)]) == (0, "no take has the whole line")
    assert proposed([take(remarks=["a click"]), take(remarks=["a pause"])])[0] == 1
