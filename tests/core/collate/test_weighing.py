"""How several hearings of a chunk are weighed: whom to believe, what was said, and each departure on its own."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_reel.core.collate.again import GRAMMAR
from faithful_reel.core.collate.findings import SHOWN, Finding, Kind, departures, differences, is_shown
from faithful_reel.core.collate.links import collated
from faithful_reel.core.collate.places import _told_otherwise, _Track, confidence_of, features_of, read_chunk
from faithful_reel.core.collate.proofing import _recut
from faithful_reel.core.collate.retakes import judged_alike
from faithful_reel.core.hear.pronounce import phone_distance, phone_distances, phones_of
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.units import EAR_RATE, Span

STEP = EAR_RATE // 4


def heard(text, ear, sure=0.8):
    return [Heard(w, k * STEP, (k + 1) * STEP, sure, ear) for k, w in enumerate(text.split())]


def weighed(written, phones=None, sound=None, read=None, **ears):
    """The chunk's reading: `ears` are what each one heard, with how sure where it is a pair."""
    tokens = written.split()
    said = {name: heard(*((text, name) if isinstance(text, str) else (text[0], name, text[1]))) for name, text in ears.items()}
    return read_chunk(range(len(tokens)), tokens, frozenset([0]), said, phones, sound, read)


class Phones:
    """Fits best what was really said: every phone amiss costs 60 nats (about what one costs on real sound)."""

    def __init__(self, truth):
        self.truth, self.asked = truth, []

    def __call__(self, span, texts):
        self.asked.append(span)
        true = tuple(p for w in self.truth.split() for p in phones_of(w))
        return [-60.0 * phone_distance([p for w in words for p in phones_of(w.strip(".,").lower())], true) for words in texts]


def test_where_most_ears_hear_nothing_the_other_is_not_believed():
    (place,) = weighed("", first=("You", 0.03), second="", third="").places
    assert place.confidence < 0.2
    assert not place.agreed


def test_a_breath_that_two_ears_make_a_word_of_is_hardly_believed():
    sure = {
        ear: weighed("", first=("You", ear), second="I will go back now", third=("You", 0.7)).places[0] for ear in (0.03, 0.7)
    }
    assert sure[0.03].confidence < sure[0.7].confidence
    assert sure[0.03].confidence < 0.4


def test_each_departure_of_a_place_is_judged_on_its_own():
    """Two words in a row are heard otherwise; only one of them was said so."""
    phones = Phones("the old ferry lay on that blue mud bank")
    text = "the old ferry lay on the blue mud bank"
    reading = weighed(
        text,
        phones,
        first="the old ferry lay on that blew mad bank",
        second="the old ferry lay on that blue mad bank",
        third=("the old ferry lay on that blue mad bank", 0.5),
    )
    sure = {text.split()[d.difference.written.start]: d.confidence for p in reading.places for d in p.departures}
    assert sure["the"] > 0.8
    assert sure["mud"] < 0.2


def test_what_sounds_the_very_same_is_no_departure():
    """ "the" may be spoken like "thee": where the phones of both fit alike, nothing is said of it, whatever the ears wrote."""
    ears = dict.fromkeys(("first", "second", "third"), "to eat it by the grave and the")
    alike = weighed("to eat it by the grave and thee", lambda _, texts: [-100.0] * len(texts), **ears)
    otherwise = weighed("to eat it by the grave and thee", Phones("to eat it by the grave and the"), **ears)
    assert [p.confidence < 0.3 < q.confidence for p, q in zip(alike.places, otherwise.places, strict=True)] == [True]


def test_of_several_hearings_the_one_that_fits_the_sound_is_told():
    phones = Phones("she took the green lamp down")
    (place,) = weighed(
        "she took the red lamp down",
        phones,
        first="she took the grim lamp down",
        second="she took the green lamp down",
        third="she took the cream lamp down",
    ).places
    assert place.said == ("green",)


def test_what_was_tidied_away_at_the_end_of_a_chunk_is_held_against_all_of_its_sound():
    phones = Phones("it lay it lay there still")
    sound = Span(0, 40 * STEP)
    weighed(
        "it lay there still",
        phones,
        sound,
        first="it lay it lay there still",
        second="it lay there still",
        third="it lay there still",
    )
    assert {(s.start, s.stop) for s in phones.asked} == {(0, 40 * STEP)}


@pytest.mark.parametrize(
    ("ears", "cut"),
    [
        # the first ear missed two words, another heard them at the beginning of the next chunk
        ([("he had a map", "a painting and a hat"), ("he had a map", "a bomb a painting and a hat")], 4),
        # a line is begun in one chunk and begun anew in the next: the last copy is taken
        ([("he had a map a bomb", "a bomb a painting and a hat")] * 2, 4),
        # nothing speaks against where the first ear put it
        ([("he had a map a bomb", "a painting and a hat")] * 2, 6),
    ],
)
def test_a_chunk_begins_where_the_ears_together_hear_it_begin(ears, cut):
    written = "he had a map, a bomb, a painting and a hat".split()
    versions = [{str(n): heard(pair[chunk], str(n)) for n, pair in enumerate(ears)} for chunk in (0, 1)]
    assert _recut([range(6), range(6, 11)], written, versions) == [range(cut), range(cut, 11)]


def test_a_line_read_twice_belongs_to_the_chunk_that_reads_it_last():
    """Across a chunk that reads nothing of its own, and by more words than a chunk's beginning is commonly wrong."""
    written = "the end was near. every morning at ten to six, the ferry left".split()
    versions = [
        {"first": heard(text, "first")}
        for text in ("the end was near every morning at ten to six", "the ferry", "every morning at ten to six the ferry left")
    ]
    segments = _recut([range(10), range(10, 10), range(10, 13)], written, versions)
    assert segments == [range(4), range(4, 4), range(4, 13)]


SURE = {"first": 0.8, "second": 0.8, "third": 0.8}
LOST = "the north wind in the sun. bobby ripped the ledger. mary rolled the barrel into the shed. " * 2


@pytest.mark.parametrize("lost", [LOST[:51], LOST[:89], LOST.strip()])
@pytest.mark.parametrize("start", ["the a red fox has read many books.", "the."])
def test_clauses_that_the_first_ear_lost_stay_with_their_chunk(start, lost):
    """At a chunk's end, where "the" of the next chunk is then found in what was lost; and at a chunk's beginning."""
    end = "he turned sharply."
    written = f"{end} {lost} {start}".split()
    cut = len(f"{end} {lost}".split())
    before, after = [heard(f"{end} {lost}", ear) for ear in SURE], [heard(start.replace(" a ", " "), ear) for ear in SURE]
    first = heard(end, "first")
    versions = [dict(zip(SURE, [first, *before[1:]], strict=True)), dict(zip(SURE, after, strict=True))]
    assert _recut([range(4), range(4, len(written))], written, versions) == [range(cut), range(cut, len(written))]
    written = f"{start} {lost} {end}".split()
    cut = len(start.split())
    before, after = after, [heard(f"{lost} {end}", ear) for ear in SURE]
    versions = [dict(zip(SURE, before, strict=True)), dict(zip(SURE, [first, *after[1:]], strict=True))]
    assert _recut([range(len(written) - 3), range(len(written) - 3, len(written))], written, versions) == [
        range(cut),
        range(cut, len(written)),
    ]


def test_a_remark_between_chunks_is_given_no_text_that_the_first_ear_lost():
    """ "The phone" is in no text; its "the" was found in the clause that the first ear did not hear in the chunk before."""
    written = f"he turned sharply. {LOST[:51]}".split()
    said = [heard(f"he turned sharply. {LOST[:51]}", ear) for ear in SURE]
    remark = {ear: heard("sorry the phone", ear) for ear in SURE}
    versions = [dict(zip(SURE, [heard("he turned sharply.", "first"), *said[1:]], strict=True)), remark]
    assert _recut([range(3), range(3, 13)], written, versions) == [range(13), range(13, 13)]


def test_of_a_line_read_three_times_the_last_copies_chunk_has_the_text():
    """Once behind a question and twice in the next chunk: two rows too many in one chunk are no better than one in each."""
    line = "your grandmother did but she was in no hurry."
    written = f"who sent this? {line}".split()
    versions = [{ear: heard(text, ear) for ear in SURE} for text in (f"who sent this {line}", f"{line} {line}")]
    assert _recut([range(3), range(3, 12)], written, versions) == [range(3), range(3, 12)]


def test_a_line_broken_off_is_not_given_words_that_were_read_only_the_second_time():
    """The first ear lost the line when it was read again: one ear alone does not say where it stands."""
    line, begun = (
        "the children made a camp under the wall of the chapel and told each other stories.",
        "the children made a camp under the wall of the",
    )
    again = f"{line} the bakers brought bread"
    written = again.split()
    ears = {"first": "the bakers brought bread", "second": again, "third": again}
    versions = [{ear: heard(begun, ear) for ear in ears}, {ear: heard(text, ear) for ear, text in ears.items()}]
    assert _recut([range(16), range(16, 20)], written, versions) == [range(0), range(20)]


@pytest.mark.parametrize("ears", [["first"], ["first", "third"], list(SURE)])
def test_a_chunks_last_word_stays_with_it_however_wrongly_it_was_read(ears):
    written = "he turned sharply and faced the table. she went home".split()
    versions = [{ear: heard(text, ear) for ear in ears} for text in ("he turned sharply and faced the moon", "she went home")]
    assert _recut([range(7), range(7, 10)], written, versions) == [range(7), range(7, 10)]


def test_words_that_sound_alike_are_held_against_each_other():
    """By equal words alone "one" would be found in "swung", and five words on both sides be left over."""
    written = "the last one gave way. the door swung open by itself".split()
    links = collated(written, "the last day away. the doors one open by itself".split())
    pairs = {tuple(written[i] for i in link.written): link for link in links}
    assert not any(len(link.heard) == 0 and len(link.written) > 1 for link in links)
    assert ("open",) in pairs
    assert pairs[("open",)].same


def test_of_two_copies_of_a_line_the_last_is_taken_however_well_its_name_was_heard():
    written = "dorrit had closed her window".split()
    links = collated(written, "dorit had closed her window dort had closed her window".split())
    assert [link.heard.start for link in links if link.written == range(1, 2)] == [6]


@given(st.lists(st.lists(st.sampled_from(["AA", "AH", "IY", "P", "B", "S", "M"]), max_size=5).map(tuple), min_size=1, max_size=4))
def test_distances_of_many_are_those_of_each_pair(words):
    """Against the edit distance written out (Levenshtein), with the costs that the docstring names."""

    def apart(a, b):
        if not a or not b:
            return 0.9 * max(len(a), len(b))
        near = {"AA", "AH"}, {"P", "B"}
        vowels = {"AA", "AH", "IY"}
        alike = a[-1] == b[-1]
        swap = 0.0 if alike else 0.4 if {a[-1], b[-1]} in near else 0.7 if {a[-1], b[-1]} <= vowels else 1.0
        return min(apart(a[:-1], b[:-1]) + swap, apart(a[:-1], b) + 0.9, apart(a, b[:-1]) + 0.9)

    found = phone_distances(words, words)
    for i, a in enumerate(words):
        for j, b in enumerate(words):
            assert found[i, j] == pytest.approx(apart(a, b) / max(1, len(a), len(b)))


@pytest.mark.parametrize(
    ("word", "phones"),
    [
        ("buriest", "B EH R IY IH S T"),
        ("riper", "R AY P ER"),
        ("lampless", "L AE M P L AH S"),
        ("mak'st", "M EY K S T"),
        ("knowest", "N OW IH S T"),
    ],
)
def test_words_with_an_ending_are_pronounced_by_their_stem(word, phones):
    """Stems from the CMU pronouncing dictionary; "-est" and "-'st" of verbs as older books have them."""
    assert " ".join(phones_of(word)) == phones


def test_a_whole_line_is_heard_again_though_not_every_word_of_it_is():
    line = "dorrit had closed her window for the hour".split()
    said = "doors had closed her window for an hour".split()
    (place,) = weighed("", first=" ".join(said), second=" ".join(line), third=" ".join(line)).places
    features = features_of([], said, place.votes, None, (), line)
    assert features["again"] == 1.0
    assert confidence_of(features) > 0.8
    assert features_of([], ["doors"], [], None, (), ["dorrit"])["again"] == 0.0


def test_departures_are_shown_sooner_than_flaws(finding):
    assert is_shown(finding(Kind.MISREAD, 0.36))
    assert not is_shown(finding(Kind.PAUSE, 0.42))
    assert not is_shown(finding(Kind.MISREAD, 0.34))


@pytest.fixture
def finding():
    from faithful_reel.core.collate.findings import Finding

    return lambda kind, sure: Finding("f1", kind, "a", "b", 0, 1, 0, 10, sure)


def test_a_repeat_that_only_the_grammar_reads_is_found_where_the_sound_bears_it_out():
    """Every ear wrote it once."""
    text = "he said that the boat was late"

    phones = Phones("he said that that the boat was late")

    def read(span, _grammar):
        return [(w, span.start + 100 * k, span.start + 100 * k + 90) for k, w in enumerate(phones.truth.split())]

    reading = weighed(text, phones, Span(0, 40 * STEP), read, first=text, second=text, third=text)
    (judged,) = (j for p in reading.places for j in p.departures)
    assert (judged.difference.kind, judged.difference.written) == (Kind.REPEATED, range(2, 3))
    assert judged.margin > 0
    assert judged.features["tidied"] == 1.0
    assert judged.features["first_right"] == 0.0
    (vote,) = (v for v in reading.places[0].votes if v.ear == GRAMMAR)
    assert vote.words == ("that", "that")


def test_a_line_begun_twice_that_two_ears_agree_on_is_not_cut_anew_by_the_grammar():
    text = "Mr Gray the harbour master walked"
    begun = "Mr Gray the harbour Mr Gray the harbour master walked"

    def read(span, _grammar):
        taken = "mister gray the harbour master gray the harbour master walked".split()
        return [(w, span.start + 100 * k, span.start + 100 * k + 90) for k, w in enumerate(taken)]

    reading = weighed(text, Phones(begun), Span(0, 60 * STEP), read, first=begun, second=begun, third=begun)
    assert [(j.difference.kind, j.difference.written) for p in reading.places for j in p.departures] == [
        (Kind.FALSE_START, range(4))
    ]
    assert all(v.ear != GRAMMAR for p in reading.places for v in p.votes)


@pytest.mark.parametrize(
    ("row", "told"),
    [
        (("Mr Gray the harbour", "Mr Gray the harbour", ""), True),
        (("Mr Gray the harbour", "", ""), False),  # one ear alone is no witness
        (("the harbour master", "the harbour master", ""), False),  # the very row that the grammar takes
        (("Mr", "Mr", ""), False),  # hardly a word in common
    ],
)
def test_what_two_ears_agree_on_stands_against_the_grammars_cut(row, told):
    """Between written words 4 and 5; the grammar takes "the harbour master" to be said again there."""
    text = "Mr Gray the harbour master walked".split()
    tracks = [
        _Track([Heard(w, k, k + 1, 0.9) for k, w in enumerate([*text[:4], *said.split(), *text[4:]])], text) for said in row
    ]
    assert _told_otherwise([(2, 5)], text, [(0, 0), (4, 4)], tracks) is told


def agreeing(said, sure=SURE, written="the old ferry lay in the mud", phones=None):
    """The one departure of a place at which the ears hear `said`; an ear that is not in `sure` hears what is written."""
    ears = {ear: (said, sure[ear]) if ear in sure else written for ear in ("first", "second", "third")}
    (place,) = weighed(written, phones, Span(0, 8 * STEP), **ears).places
    return place.departures[0]


def test_what_all_ears_agree_on_is_told_apart():
    said = "the old ferry lay in the mug"
    assert agreeing(said).features["all_agree"] == 1.0
    assert agreeing(said, {"first": 0.8, "second": 0.8}).features["all_agree"] == 0.0
    assert agreeing(said, SURE | {"third": 0.3}).features["all_agree"] == 0.0  # not sure enough
    assert agreeing("the old ferry lay in the mudlor").features["all_agree"] == 0.0  # no word
    against = agreeing(said, phones=Phones("the old ferry lay in the mud"))
    assert against.features["agree_against"] < 0
    assert against.confidence < agreeing(said, phones=Phones(said)).confidence


def test_what_all_ears_are_sure_of_is_not_folded_away_by_the_phones():
    written, said = "the old ferry lay in the mud", "the young lorry lay in the mud"
    against = Phones(written)
    (place,) = weighed(written, against, Span(0, 8 * STEP), **dict.fromkeys(SURE, (said, 0.65))).places
    assert all(j.margin < -50 for j in place.departures)
    assert {j.confidence for j in place.departures} == {SHOWN}
    (place,) = weighed(written, against, Span(0, 8 * STEP), **dict.fromkeys(SURE, (said, 0.55))).places
    assert all(j.confidence < SHOWN for j in place.departures)


def test_words_read_in_another_order_are_one_misread():
    found = departures("had been always there".split(), frozenset([0]), range(1, 3), "always been".split())
    assert [(d.kind, d.written, d.heard) for d in found] == [(Kind.MISREAD, range(1, 3), range(2))]
    found = departures("had been always there".split(), frozenset([0]), range(1, 3), "been never".split())
    assert [(d.kind, d.written) for d in found] == [(Kind.MISREAD, range(2, 3))]
    tipped = "before tipped it over".split()  # words so unlike that each seems to be misread as the other
    found = departures(tipped, frozenset([0]), range(1, 3), ["it", "tipped"])
    assert [(d.kind, d.written, d.heard) for d in found] == [(Kind.MISREAD, range(1, 3), range(2))]
    found = departures(tipped, frozenset([0]), range(1, 3), ["he", "tipped"])
    assert len(found) > 1
    twice = "before it tipped over over".split()  # what is said twice beside them stays
    found = departures(tipped, frozenset([0]), range(4), twice)
    assert [(d.kind, d.written) for d in found] == [(Kind.MISREAD, range(1, 3)), (Kind.REPEATED, range(3, 4))]


OPENING = "It was late. It was the old ferry that lay on its side in the deep brown mud of the bay"


@pytest.mark.parametrize(("at", "kind"), [(3, Kind.FALSE_START), (5, Kind.FALSE_START), (9, Kind.ADDED), (17, Kind.ADDED)])
def test_few_words_that_equal_an_opening_are_a_false_start_only_near_it(at, kind):
    written = OPENING.split()
    said = [*written[:at], "it", "was", *written[at:]]
    links = collated(written, said)
    (found,) = differences(written, frozenset([0, 3]), said, links)
    assert found.kind is kind


def test_another_reading_is_judged_by_all_ears():
    """Of "the old ferry lay", read twice, one ear hears "fairy" both times; the others and the sound say that it is as written."""
    text = "the old ferry lay in the mud"
    twice = "the old ferry lay the old ferry lay in the mud"
    phones = Phones(twice)
    says = {"first": twice.replace("ferry", "fairy"), "second": twice, "third": twice}
    reading = weighed(text, phones, Span(0, 12 * STEP), **says)
    again = Finding("f", Kind.REPEATED, "the old ferry lay", "the old fairy lay", 0, 4, 0, 4 * STEP - 1, 0.9)
    (judged,) = judged_alike([again], [reading], text.split(), frozenset([0]), Phones("the old ferry lay"))
    assert judged.evidence.departs == 0
    wrong = {ear: twice.replace("ferry", "lorry", 1) for ear in says}
    reading = weighed(text, Phones(wrong["first"]), Span(0, 12 * STEP), **wrong)
    (judged,) = judged_alike([again], [reading], text.split(), frozenset([0]), Phones("the old lorry lay"))
    assert judged.evidence.departs == 1


def told(written, said, span=None):
    """(kind, written words, heard words) of every departure."""
    tokens, words = written.split(), said.split()
    found = departures(tokens, frozenset([0]), span or range(len(tokens)), words)
    return [(d.kind, " ".join(tokens[i] for i in d.written), " ".join(words[j] for j in d.heard)) for d in found]


def test_a_word_that_an_ear_only_spells_otherwise_does_not_cover_the_one_beside_it():
    """ "niggarding" and "mak'st" stand in no dictionary: what is heard of them is a guess, and judged for itself."""
    assert told("on niggarding:", "in niggerding.") == [
        (Kind.MISREAD, "on", "in"),
        (Kind.MISREAD, "niggarding:", "niggerding."),
    ]
    assert told("churl of mak'st", "churl makes") == [(Kind.SKIPPED, "of", ""), (Kind.MISREAD, "mak'st", "makes")]
    assert told("mak'st waste", "makes taste") == [(Kind.MISREAD, "mak'st", "makes"), (Kind.MISREAD, "waste", "taste")]
    assert told("on riding:", "in reading.") == [(Kind.MISREAD, "on riding:", "in reading.")]  # both are words


@given(st.lists(st.sampled_from("on mak'st niggarding waste old".split()), min_size=1, max_size=5), st.data())
def test_departures_lose_no_word_of_either_side(written, data):
    said = data.draw(st.lists(st.sampled_from("in makes niggerding waste old".split()), max_size=5))
    links = collated(written, said)
    found = departures(written, frozenset([0]), range(len(written)), said)
    apart = [k for link in links if not link.same for k in link.written]
    assert sorted(i for d in found if d.kind in (Kind.MISREAD, Kind.SKIPPED) for i in d.written) == apart
    assert sorted(j for d in found for j in d.heard) == [k for link in links if not link.same for k in link.heard]


def test_each_departure_has_the_confidence_of_its_own_words():
    """An ear that is sure of "in" and guesses at what follows is no less sure of "in"."""
    written = "the churl was on niggarding again"

    def read(name, *guess):
        words = heard("the churl was in niggerding again", name)
        return [Heard(w.text, w.start, w.stop, guess[0] if k == 4 else 0.9, name) for k, w in enumerate(words)]

    said = {name: read(name, 0.2) for name in SURE}
    reading = read_chunk(
        range(6), written.split(), frozenset([0]), said, Phones("the churl was in niggarding again"), Span(0, 8 * STEP)
    )
    first, second = reading.places[0].departures
    assert (first.difference.written, second.difference.written) == (range(3, 4), range(4, 5))
    assert first.features["second_sure"] == pytest.approx(0.2)
    assert second.features["second_sure"] == pytest.approx(-0.5)
    assert first.confidence > 0.8
    assert second.confidence < SHOWN


def test_words_in_another_order_are_one_place_and_no_repeat():
    written, said = "within own thine bud", "within thine own bud"

    def read(span, _grammar):  # by its grammar the swapped word could only be said twice
        return [(w, span.start + 100 * k, span.start + 100 * k + 90) for k, w in enumerate("within thine own bud".split())]

    reading = weighed(written, Phones(said), Span(0, 8 * STEP), read, first=said, second=said, third=said)
    (place,) = reading.places
    assert [(j.difference.kind, j.difference.written) for j in place.departures] == [(Kind.MISREAD, range(1, 3))]
    assert (1, 3) in _Track(heard(said, "first"), written.split()).differing()
    other = _Track(heard("within thine bright bud", "first"), written.split())  # one left out, and another one put in
    assert other.differing() == [(1, 2), (3, 3)]
