"""A word is mended from another place where the same reader says it; the likest comes first."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.signal import lfilter
from support.sounds import speech_like

from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.reel.commands import ToneSource
from faithful_reel.core.reel.reel import Lane, Piece, Reel, reel_of
from faithful_reel.core.text.spoken import plain
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.units import Span
from faithful_reel.core.work.elsewhere import UNNAMED, mended_from, places_elsewhere, ranked, same_reader, same_word
from faithful_reel.core.work.timeline import Hearing

RATE = 44_100
STEP, LENGTH = RATE // 2, RATE // 3
TEXTS = {
    "c1": chapter_of("", ["The tide went out. We saw the tide again, and the tide."]),
    "c2": chapter_of("", ["Nobody saw the tide. Tide tables lied."]),
    "c3": chapter_of("", ["The tide."]),
}
NARRATORS = {"c1": "N", "c2": "N", "c3": "another"}


def at(k):
    return RATE + STEP * k


def hearing(text, *, misread=()):
    words = [w.text for w in text.words]
    heard = tuple(Heard("x" if k in misread else w, at(k), at(k) + LENGTH, 0.9) for k, w in enumerate(words))
    placed = tuple(Placed(h.start, h.stop, 0.9) for h in heard)
    return Hearing(heard, placed, tuple((k, k + 1, k, k + 1, k not in misread) for k in range(len(words))))


def made(misread=None):
    hearings = {c: hearing(t, misread=(misread or {}).get(c, ())) for c, t in TEXTS.items()}
    recordings = tuple(
        Recording(c, c, ".wav", RATE, 1, 20 * RATE, -3, -60, -20, ToneSource(c, 0, 99), narrator=NARRATORS[c]) for c in TEXTS
    )
    chapters = tuple(ChapterState(c, c, "t", c, "h", (), reel_of(c, 20 * RATE)) for c in TEXTS)
    return Book(chapters=chapters, recordings=recordings), lambda chapter: (TEXTS[chapter.id], hearings[chapter.id])


def where(places):
    return [(p.chapter, p.first) for p in places]


def test_every_place_where_the_same_reader_says_it_but_the_one_placehand():
    book, read = made()
    found = places_elsewhere(book, book.chapters[0], (1, 1), read, "c1")
    assert sorted(where(found)) == [("c1", 7), ("c1", 11), ("c2", 3), ("c2", 4)]
    assert all(p.recording != "c3" for p in found)
    seven = next(p for p in found if (p.chapter, p.first) == ("c1", 7))
    assert seven.around == "We saw the tide again, and the"
    assert seven.start <= at(7) < at(7) + LENGTH <= seven.stop
    assert seven.stop - seven.start <= LENGTH + 2 * round(0.03 * RATE) + 2


def test_who_nobody_named_is_told_and_another_lane_is_another_voice():
    book, read = made()
    nobody = replace(book, recordings=tuple(replace(r, narrator="") for r in book.recordings))
    found = places_elsewhere(nobody, nobody.chapters[0], (1, 1), read, "c1")
    assert {(p.chapter, p.told) for p in found} == {("c1", ""), ("c2", UNNAMED), ("c3", UNNAMED)}
    assert [p.chapter for p in found][-1] != "c1"
    two = Reel((Lane("voice", (Piece("c1", 0, RATE),)), Lane("other", (Piece("c3", 0, RATE),))))
    beside = replace(nobody, chapters=(replace(nobody.chapters[0], reel=two), *nobody.chapters[1:]))
    assert same_reader(beside, "c1", "c3") is False
    assert same_reader(replace(nobody, narrator="N"), "c1", "c2") is True
    assert same_reader(replace(book, narrator="N"), "c1", "c3") is False


@pytest.mark.parametrize(
    ("text", "word", "there", "same"),
    [
        ("We polish it.", 1, "He is Polish.", False),
        ("We polish it.", 1, "Polish it well.", True),
        ("We read the résumé.", 3, "We resume the work.", False),
        ("We read the résumé.", 3, "The re\u0301sume\u0301 is long.", True),
        ("THE POLISH SEA", 1, "Off the Polish coast.", True),
    ],
)
def test_words_thplaceonly_look_alike_are_two(text, word, there, same):
    here, other = chapter_of("", [text]), chapter_of("", [there])
    place = next(k for k, w in enumerate(other.words) if plain(w.text) == plain(here.words[word].text))
    assert same_word(here, word, other, place) is same


def test_several_words_and_words_thplacewere_misread_there():
    book, read = made({"c1": {6}})
    assert where(places_elsewhere(book, book.chapters[0], (0, 1), read, "c1")) == [("c1", 10), ("c2", 2)]
    assert places_elsewhere(book, book.chapters[0], (2, 2), read, "c1") == []


def test_the_same_end_of_the_sentence_and_the_same_neighbours_come_first():
    book, read = made()
    found = places_elsewhere(book, book.chapters[0], (11, 11), read, "c1")  # "the tide."
    assert where(found)[0] == ("c2", 3)  # also at a full stop, also after "the"


def test_the_words_of_a_second_voice_are_looked_for_with_thplacereader_only():
    book, read = made()
    second = hearing(TEXTS["c2"])  # in c2 a second narrator, who reads c3 too, says all of it as well

    def both(chapter):
        text, heard = read(chapter)
        return text, replace(heard, voices=(("c3", second),)) if chapter.id == "c2" else heard

    found = places_elsewhere(book, book.chapters[1], (3, 3), both, "c3")
    assert {(p.chapter, p.recording, p.first) for p in found} == {("c2", "c3", 4), ("c3", "c3", 1)}
    assert {p.recording for p in places_elsewhere(book, book.chapters[1], (3, 3), both, "c2")} == {"c1", "c2"}


def test_a_chapter_thplacewas_not_heard_is_left_out():
    book, read = made()
    chapters = (book.chapters[0], replace(book.chapters[1], hearing=""), book.chapters[2])
    assert {p.chapter for p in places_elsewhere(replace(book, chapters=chapters), book.chapters[0], (1, 1), read, "c1")} == {"c1"}


def test_those_thplacesound_like_the_place_come_first_placethe_level_thplaceis_needed():
    book, read = made()
    base = np.roll(speech_like(seconds=20, rms_db=-22), -round(0.35 * RATE))  # so that it speaks there
    dull = lfilter([0.06], [1, -0.94], base).astype(np.float32)
    dull *= np.float32(np.sqrt(np.mean(base**2) / np.mean(dull**2)))
    places = [replace(p, unlike=0.0) for p in places_elsewhere(book, book.chapters[0], (1, 1), read, "c1")]
    kinds = dict(zip(where(places), ("dull", "alike", "loud", "dull"), strict=True))

    span = Span(at(1), at(1) + LENGTH)

    def sound(recording, start, stop):
        place = next(p for p in places if p.recording == recording and (start + stop) // 2 in range(p.start, p.stop))
        x = {"dull": dull, "alike": base, "loud": base * 2}[kinds[place.chapter, place.first]]
        before = place.start - start
        return x[span.start - before : span.start - before + stop - start]  # what is said is the same

    ticked = []

    class Counts(Unwatched):
        def tick(self, done, what=""):
            ticked.append(done)

    found = ranked(places, lambda a, b: base[a:b], span, 20 * RATE, sound, RATE, Counts())
    assert [kinds[k] for k in where(found)] == ["alike", "loud", "dull", "dull"]
    assert found[1].gain_db == pytest.approx(-6.0, abs=0.8)
    assert found[0].gain_db == pytest.approx(0.0, abs=0.8)
    assert len(ticked) == 4
    (edit,) = mended_from(found[1], span, 0, "tide")
    piece = edit.content[0][1][0]
    assert (edit.start, edit.stop, piece.recording, piece.gain_db, piece.name) == (
        span.start,
        span.stop,
        found[1].recording,
        found[1].gain_db,
        "tide",
    )
