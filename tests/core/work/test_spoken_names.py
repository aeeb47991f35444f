"""Words of the book where they are spoken."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from support.chapters import LENGTH, RATE, TOKENS, made, place

from faithful_reel.core.collate.findings import Evidence, Finding, Kind
from faithful_reel.core.collate.names import BookWord, Why
from faithful_reel.core.reel.reel import Piece, RoomTone
from faithful_reel.core.units import EAR_RATE
from faithful_reel.core.work.names import Spoken, medley, numbered, odd_names, spoken_places

AROUND, BETWEEN = round(0.35 * RATE), round(0.4 * RATE)


def test_places_are_those_that_were_heard_in_the_order_asked_for():
    book, chapter, hearing = made(read=[*TOKENS[:4], "+again", None, "lines", *TOKENS[6:]])
    chapters = {"c1": (chapter, hearing), "c2": (replace(chapter, id="c2"), None)}
    asked = [("c1", 5), ("c1", 0), ("c1", 4), ("c2", 0), ("c3", 0), ("c1", 99)]
    assert spoken_places(chapters, asked) == [
        Spoken("c1", 5, "r1", place(6), place(6) + LENGTH, "lines"),
        Spoken("c1", 0, "r1", place(0), place(0) + LENGTH, "The"),
    ]
    assert len(book.chapters) == 1


def test_what_was_heard_of_two_words_at_once_is_told_at_both():
    _, chapter, hearing = made()
    joined = replace(hearing, links=((0, 2, 0, 2, False), *hearing.links[2:]))
    told = spoken_places({"c1": (chapter, joined)}, [("c1", 0), ("c1", 1), ("c1", 2)])
    assert [s.heard for s in told] == ["The tide", "The tide", TOKENS[2]]
    unlinked = replace(hearing, links=hearing.links[1:])
    assert spoken_places({"c1": (chapter, unlinked)}, [("c1", 0)])[0].heard == ""


def test_a_medley_is_every_place_with_a_little_around_it_and_tone_between():
    book, *_ = made()
    length = book.recordings[0].length
    spoken = [
        Spoken("c1", i, "r1", a, b, "x") for i, (a, b) in enumerate([(50_000, 60_000), (100, 9000), (length - 100, length)])
    ]
    first, tone, second, other, third = medley(book, spoken).lanes[0].segments
    assert first == Piece("r1", 50_000 - AROUND, 60_000 + AROUND)
    assert (second.start, second.stop) == (0, 9000 + AROUND)
    assert (third.start, third.stop) == (length - 100 - AROUND, length)
    assert isinstance(tone, RoomTone)
    assert (len(tone), len(other)) == (BETWEEN, BETWEEN)
    assert tone.recording == "r1"
    assert tone.seed != other.seed
    assert len(medley(book, [spoken[0]] * 60).lanes[0].segments) == 2 * 40 - 1


def spoken_at(i, hz, recording="r1"):
    return Spoken("c1", i, recording, i * RATE, i * RATE + RATE // 2, f"w{i}"), hz


def names_heard(rows, *, words=None):
    """Findings on one name whose places are chirps that rise from a frequency each."""
    n = EAR_RATE * (len(rows) + 1)
    sounds = {s.recording: np.full(n, 1e-4, np.float32) for s, _ in rows}
    for s, hz in rows:
        t = np.arange(EAR_RATE // 2) / EAR_RATE
        sounds[s.recording][s.word * EAR_RATE : s.word * EAR_RATE + EAR_RATE // 2] = (
            np.sin(2 * np.pi * (hz * t + hz * t * t)) * 0.3
        )
    asked, ticks = [], []

    def ear_sound_of(recording):
        asked.append(recording)
        return sounds[recording]

    class Watch:
        def tick(self, done, note=""):
            ticks.append(done)

    word = BookWord("varrow", "Varrow", Why.NAME, ())
    found = odd_names(words or [word], lambda _: [s for s, _ in rows], ear_sound_of, RATE, Watch())
    return found, asked, ticks


def test_the_one_place_that_sounds_unlike_the_others_is_found():
    rows = [spoken_at(0, 300), spoken_at(1, 310), spoken_at(2, 2400), spoken_at(3, 305), spoken_at(4, 300, "r2")]
    found, asked, ticks = names_heard(rows)
    assert sorted(asked) == ["r1", "r2"]  # every recording once
    assert ticks == sorted(ticks)
    assert ticks[-1] == 1.0
    [(chapter, finding)] = found
    assert chapter == "c1"
    assert (finding.kind, finding.written, finding.heard) == (Kind.NAME, "Varrow", "w2")
    assert (finding.word_index, finding.word_count) == (2, 1)
    assert (finding.start, finding.stop) == (2 * RATE, 2 * RATE + RATE // 2)
    assert finding.evidence.note.startswith("spoken unlike the 4 other places of “Varrow”")
    assert 0.5 <= finding.confidence <= 0.9


def test_places_alike_and_too_few_of_them_give_nothing():
    assert names_heard([spoken_at(i, 300 + i) for i in range(5)])[0] == []
    found, asked, _ = names_heard([spoken_at(0, 300), spoken_at(1, 2400)])
    assert (found, asked) == ([], [])


def test_ids_are_new_in_their_chapter():
    book, chapter, _ = made()
    finding = Finding("", Kind.NAME, "x", "x", 0, 1, 0, 1, 0.9, Evidence())
    book = replace(book, chapters=(replace(chapter, findings=(replace(finding, id="n0001"),)), replace(chapter, id="c2")))
    rows = numbered(book, [("c1", finding), ("c2", finding), ("c1", finding)])
    assert [(c, f.id) for c, f in rows] == [("c1", "n0002"), ("c2", "n0001"), ("c1", "n0003")]
    assert rows[0][1].written == "x"


@pytest.mark.parametrize("hz", [300, 2400])
def test_how_sure_grows_with_the_distance_and_never_over_nine_tenths(hz):
    rows = [spoken_at(i, 300 + i) for i in range(6)] + [spoken_at(6, hz)]
    assert all(f.confidence <= 0.9 for _, f in names_heard(rows)[0])
