"""Flaws of pace, level and sound, on a made reading whose every pause and noise is known."""

from __future__ import annotations

import json
from dataclasses import replace
from functools import cache

import numpy as np
import pytest
import soundfile
from support.sounds import DEMO

from faithful_reel.core.collate.clicks import Click, clicks_in, clicks_of
from faithful_reel.core.collate.findings import Finding, Kind
from faithful_reel.core.collate.flaws import Flaw, Limits, Place, flaw, gaps_of, habits
from faithful_reel.core.collate.links import Link
from faithful_reel.core.collate.noises import flaws_of, levels_of
from faithful_reel.core.collate.retakes import beside_kept, where_faint, with_marks
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.units import EAR_RATE, Span

SENTENCE = "We saw, far out, nine ships in one row."
PARAGRAPH = " ".join([SENTENCE] * 4)
PAUSES = {Place.WITHIN: 0.02, Place.CLAUSE: 0.3, Place.SENTENCE: 0.7, Place.PARAGRAPH: 1.0, Place.SCENE: 2.0}


@cache
def voice(length):
    """A vowel of so many samples at full scale RMS."""
    t = np.arange(length) / EAR_RATE
    x = sum(np.sin(2 * np.pi * 160 * m * t + m) / m for m in range(1, 12)) * np.hanning(length) ** 0.3
    return x / np.sqrt(np.mean(x**2))


class Tape:
    """A reading of `chapter`, word after word, with what goes wrong at its words."""

    def __init__(self, *, pause=None, gain_db=None, paragraphs=5, floor_db=-66.0, words=None):
        self.chapter = replace(chapter_of("c", words or [PARAGRAPH] * paragraphs), breaks=(3,))
        rng = np.random.default_rng(11)
        n = len(self.chapter.words)
        plain = [Heard(w.text, k * 10, k * 10 + 5, 0.9) for k, w in enumerate(self.chapter.words)]
        self.links = [Link(range(k, k + 1), range(k, k + 1), same=True) for k in range(n)]
        self.places = [g.place for g in gaps_of(self.chapter, plain, self.links)]
        parts, self.heard, at = [np.zeros(EAR_RATE, np.float32)], [], EAR_RATE
        for k, word in enumerate(self.chapter.words):
            length = round((0.3 + 0.02 * (k % 3)) * EAR_RATE)
            level = -22 + 1.0 * np.sin(k) + (gain_db or {}).get(word.sentence, 0.0)
            parts.append((voice(length) * 10 ** (level / 20)).astype(np.float32))
            self.heard.append(Heard(word.text, at, at + length, 0.9))
            gap = PAUSES[self.places[k]] * rng.uniform(0.9, 1.1) if k < n - 1 else 1.0
            gap = (pause or {}).get(k, gap)
            parts.append(np.zeros(round(gap * EAR_RATE), np.float32))
            at += length + len(parts[-1])
        self.x = np.concatenate(parts)
        self.x += (10 ** (floor_db / 20) * rng.standard_normal(len(self.x))).astype(np.float32)

    def add(self, word, sound, after_s=0.25):
        """Lay a sound into the pause after a word."""
        start = self.heard[word].stop + round(after_s * EAR_RATE)
        self.x[start : start + len(sound)] += sound.astype(np.float32)

    def found(self, limits=None):
        flaws = flaws_of(self.x, self.chapter, self.heard, self.links, limits or Limits())
        return [(Flaw(f.evidence.flaw), f.word_index) for f in flaws if f.confidence >= 0.5]


def last_of(tape, sentence):
    return max(i for i, w in enumerate(tape.chapter.words) if w.sentence == sentence)


def test_a_clean_reading_has_no_flaw():
    assert Tape().found() == []


def test_every_gap_is_told_by_its_place_in_the_text():
    tape = Tape()
    words = tape.chapter.words
    for k, place in enumerate(tape.places):
        a, b = words[k], words[k + 1]
        if b.paragraph != a.paragraph:
            wanted = Place.SCENE if b.paragraph == 3 else Place.PARAGRAPH
        elif b.sentence != a.sentence:
            wanted = Place.SENTENCE
        else:
            wanted = Place.CLAUSE if a.text.endswith(",") else Place.WITHIN
        assert place is wanted
    habit = habits(gaps_of(tape.chapter, tape.heard, tape.links), Limits())
    assert habit[Place.CLAUSE][0] == pytest.approx(0.3, rel=0.1)
    assert habit[Place.SENTENCE][0] == pytest.approx(0.7, rel=0.1)
    # one scene break only: no habit of its own, so the default at this reader's pace
    assert 1.5 < habit[Place.SCENE][0] < 2.6


@pytest.mark.parametrize(("word", "seconds"), [(4, 0.9), (1, 1.3), (8, 2.2)])
def test_a_pause_is_long_by_its_place(word, seconds):
    """The same 0.9 s is long within a sentence and usual between paragraphs."""
    tape = Tape(pause={word: seconds})
    assert tape.found() == [(Flaw.LONG_PAUSE, word + 1)]


def test_a_pause_that_is_nearly_too_long_is_folded_away():
    tape = Tape(pause={8: 1.55})
    flaws = flaws_of(tape.x, tape.chapter, tape.heard, tape.links)
    assert [(f.evidence.flaw, f.word_index) for f in flaws] == [("long pause", 9)]
    assert flaws[0].confidence < 0.5
    assert flaws[0].evidence.usual == pytest.approx(0.7, abs=0.08)


def test_a_sentence_begun_too_soon():
    tape = Tape(pause={8: 0.05})
    assert tape.found() == [(Flaw.SHORT_PAUSE, 9)]


def test_speech_that_no_ear_made_out_is_no_pause():
    tape = Tape(pause={8: 3.0})
    t = np.arange(2 * EAR_RATE) / EAR_RATE
    tape.add(8, 0.1 * np.sin(2 * np.pi * 200 * t), 0.4)
    assert tape.found() == []


def test_words_beside_a_retake_have_no_habit():
    tape = Tape()
    spare = replace(tape.heard[8], text="row")
    heard = [*tape.heard[:9], replace(spare, start=spare.stop + 2000, stop=spare.stop + 6000), *tape.heard[9:]]
    links = [
        Link(k.written, range(k.heard.start + (k.heard.start > 8), k.heard.stop + (k.heard.start > 8)), same=True)
        for k in tape.links
    ]
    links.insert(9, Link(range(9, 9), range(9, 10), same=False))
    places = [g.place for g in gaps_of(tape.chapter, heard, links)]
    assert places[8:10] == [Place.RETAKE, Place.RETAKE]
    assert places.count(Place.RETAKE) == 2


def noise(seconds, db, low=0.0, high=8000.0, seed=5):
    x = np.random.default_rng(seed).standard_normal(round(seconds * EAR_RATE))
    spectrum = np.fft.rfft(x)
    hz = np.fft.rfftfreq(len(x), 1 / EAR_RATE)
    spectrum[(hz < low) | (hz > high)] = 0
    x = np.fft.irfft(spectrum, len(x)) * np.hanning(len(x)) ** 0.5
    return x / np.sqrt(np.mean(x**2)) * 10 ** (db / 20)


@pytest.mark.parametrize(("first", "count", "db"), [(12, 4, -8.0), (20, 2, -8.0), (30, 9, 8.0)])
def test_a_passage_unlike_what_is_on_both_sides_is_told_once(first, count, db):
    tape = Tape(paragraphs=13, gain_db=dict.fromkeys(range(first, first + count), db))
    (found,) = [f for f in flaws_of(tape.x, tape.chapter, tape.heard, tape.links) if f.kind is Kind.LEVEL]
    words = [w for w in tape.chapter.words if first <= w.sentence < first + count]
    assert (Flaw(found.evidence.flaw), found.word_index) == (Flaw.JUMP, tape.chapter.words.index(words[0]))
    assert abs(found.stop - tape.heard[tape.chapter.words.index(words[-1])].stop) < EAR_RATE // 10
    assert found.evidence.usual == pytest.approx(-db, abs=1.0)
    assert found.confidence >= 0.5


def test_half_a_chapter_at_another_level_is_no_passage():
    assert Tape(paragraphs=13, gain_db=dict.fromkeys(range(26, 52), -8.0)).found() == []


def planted_clicks():
    """The demo's first chapter with clicks of 1 to 6 samples at -12 to -17 dBFS twice in three seconds; and where they are."""
    x, rate = soundfile.read(DEMO / "chapter-1.flac", dtype="float32")
    rng = np.random.default_rng(7)
    places = [round((k + rng.uniform(0, 1)) * 1.5 * rate) for k in range(1, 62)]
    for n, at in enumerate(places):
        x[at : at + 1 + n % 6] += rng.choice([-1, 1]) * 10 ** (rng.uniform(-17, -12) / 20)
    return np.clip(x, -1, 1), rate, places


def test_clicks_of_few_samples_are_found_in_words_and_in_pauses_and_nothing_else(tmp_path):
    """TREATING's figure for single samples 25 dB over the residual: 90 to 100 % at six false ones a minute (own, measured)."""
    x, rate, places = planted_clicks()
    soundfile.write(tmp_path / "clicks.wav", x, rate, subtype="PCM_24")
    found = [c.at * rate / EAR_RATE for c in clicks_in(tmp_path / "clicks.wav")]
    hit = [at for at in places if any(abs(f - at) < rate // 500 for f in found)]
    truth = json.loads((DEMO / "truth.json").read_text())["chapter-1"]["planted"]
    own = [p["start"] * rate for p in truth if p.get("what") in ("click", "clipped")]  # the clipped word begins with a step
    false = [f for f in found if all(abs(f - at) > rate // 50 for at in (*places, *own))]
    assert len(hit) >= 0.95 * len(places)
    assert false == []
    assert clicks_in(tmp_path / "clicks.wav", within=Span(10 * EAR_RATE, 20 * EAR_RATE)) == [
        Click(c.at - 10 * EAR_RATE, c.peak_db)
        for c in clicks_in(tmp_path / "clicks.wav")
        if 10 * EAR_RATE <= c.at < 20 * EAR_RATE
    ]


@pytest.mark.parametrize("rate", [8_000, 44_100, 96_000])
def test_neither_dc_nor_silence_nor_the_ends_of_a_file_click(rate):
    x, _ = soundfile.read(DEMO / "chapter-2.flac", dtype="float32", stop=30 * 44_100)
    for y in (x + np.float32(0.3), np.zeros_like(x), x[:1], x[:900], x * np.float32(0.02)):
        assert clicks_of(y, rate) == []


def test_a_click_in_a_word_is_told_there_and_those_that_are_told_already_are_not():
    tape = Tape()
    word, end = tape.heard[12], last_of(tape, 1)
    tape.add(end, 0.1 * np.sin(np.arange(32)) * np.hanning(32))
    clicks = [
        Click(word.start + 900, -14.0),
        Click(word.start + 1000, -15.0),
        Click(tape.heard[end].stop + EAR_RATE // 4 + 16, -13.0),
    ]
    found = flaws_of(tape.x, tape.chapter, tape.heard, tape.links, clicks=clicks)
    assert [(f.evidence.flaw, f.word_index) for f in sorted(found, key=lambda f: f.start)] == [("click", 12), ("click", end + 1)]
    told = min(found, key=lambda f: f.start)
    assert told.evidence.note == "a click in a word, −14 dB"
    tape.x[word.stop - 900 : word.stop - 850] = 0.95  # and it is clipped: it clicks wherever its waves are cut off
    kinds = [f.evidence.flaw for f in flaws_of(tape.x, tape.chapter, tape.heard, tape.links, clicks=clicks)]
    assert sorted(kinds) == ["click", "clipped"]
    assert word.start < told.start < word.start + 900 < told.stop < word.stop


def test_a_click_a_thump_and_a_knock_in_pauses_are_told_apart():
    tape = Tape()
    ends = [last_of(tape, s) for s in (1, 5, 9)]
    tape.add(ends[0], 0.1 * np.sin(np.arange(32)) * np.hanning(32))
    t = np.arange(round(0.15 * EAR_RATE)) / EAR_RATE
    tape.add(ends[1], 0.1 * np.sin(2 * np.pi * 55 * t) * np.hanning(len(t)))
    tape.add(ends[2], 0.06 * np.sin(2 * np.pi * 900 * t) * np.hanning(len(t)))
    assert tape.found() == [(Flaw.CLICK, ends[0] + 1), (Flaw.THUMP, ends[1] + 1), (Flaw.NOISE, ends[2] + 1)]


def test_only_a_breath_that_sticks_out_is_a_flaw():
    tape = Tape()
    ends = [last_of(tape, s) for s in range(18)]
    for k, end in enumerate(ends):
        tape.add(end, noise(0.3, -48 + (14 if k == 7 else 0), 400, 4000, seed=k), 0.15)
    assert tape.found() == [(Flaw.BREATH, ends[7] + 1)]


def test_a_plosive_sticks_out_of_this_readers_own():
    tape = Tape(words=["The boat put out past the pier, and Bob took the tiller back. " * 4] * 2)
    word = next(i for i, w in enumerate(tape.chapter.words) if w.text == "put" and i > 20)
    t = np.arange(round(0.09 * EAR_RATE)) / EAR_RATE
    at = tape.heard[word].start
    tape.x[at : at + len(t)] += (0.5 * np.sin(2 * np.pi * 40 * t) * np.hanning(len(t))).astype(np.float32)
    assert tape.found() == [(Flaw.PLOSIVE, word)]


def test_clipping():
    tape = Tape()
    start = tape.heard[12].start + 800
    tape.x[start : start + 60 : 3] = 1.0
    assert (Flaw.CLIPPED, 12) in tape.found()


@pytest.mark.parametrize(("sentence", "by"), [(6, 6.0), (11, -6.0)])
def test_a_sentence_that_jumps_in_level(sentence, by):
    tape = Tape(gain_db={sentence: by})
    flaws = [f for f in flaws_of(tape.x, tape.chapter, tape.heard, tape.links) if f.confidence >= 0.5]
    assert [(f.evidence.flaw, tape.chapter.words[f.word_index].sentence) for f in flaws] == [("level jump", sentence)]
    assert flaws[0].evidence.usual == pytest.approx(-by, abs=1.0)


def test_a_voice_that_grows_slowly_does_not_jump():
    tape = Tape(gain_db={s: 0.6 * s for s in range(20)})
    assert tape.found() == []


def test_hum_is_told_once():
    tape = Tape()
    t = np.arange(len(tape.x)) / EAR_RATE
    tape.x += (10 ** (-52 / 20) * np.sin(2 * np.pi * 50 * t) + 10 ** (-58 / 20) * np.sin(2 * np.pi * 150 * t)).astype(np.float32)
    found = tape.found()
    assert found.count((Flaw.HUM, 0)) == 1
    assert {what for what, _ in found} == {Flaw.HUM}


def test_unlike_floors_of_joined_recordings_are_no_noise():
    tape = Tape(floor_db=-75)
    half = len(tape.x) // 2
    tape.x[half:] += (10 ** (-48 / 20) * np.random.default_rng(2).standard_normal(len(tape.x) - half)).astype(np.float32)
    assert [w for w, _ in tape.found()] == []


def test_nothing_heard_has_no_flaws():
    tape = Tape()
    assert flaws_of(tape.x[:100], tape.chapter, [], []) == []
    assert flaws_of(np.zeros(0, np.float32), tape.chapter, tape.heard, tape.links) == []


def test_the_thresholds_are_data():
    tape = Tape(pause={8: 2.2})
    assert tape.found(Limits(long_s=(9.0,) * 6)) == []


def test_a_clap_between_two_readings_marks_the_retake():
    heard = [Heard(w, k * EAR_RATE, k * EAR_RATE + 9000, 0.9) for k, w in enumerate("the boat the boat left".split())]
    again = Finding("f1", Kind.REPEATED, "the boat", "the boat", 0, 2, heard[0].start, heard[1].stop, 0.4)
    clap = flaw(Flaw.CLICK, 0, heard[1].stop + 900, heard[1].stop + 1400, 0.75, "a click in a pause, -20 dB")
    other = flaw(Flaw.CLICK, 2, heard[3].stop + 900, heard[3].stop + 1400, 0.75, "a click in a pause, -20 dB")
    found = with_marks([again, clap, other], heard)
    assert [f.evidence.flaw for f in found] == ["", "retake mark", "click"]
    assert found[0].confidence == pytest.approx(9 * 0.4 / (1 + 8 * 0.4), abs=1e-3)  # nine times as likely
    assert found[2] is other
    spoken = flaw(Flaw.CLICK, 0, heard[1].start + 900, heard[1].start + 1200, 0.75, "a click in a word, −14 dB")
    assert with_marks([again, spoken], heard) == [again, spoken]


@pytest.mark.parametrize(("quieter_db", "doubted"), [(8.0, False), (16.0, True)])
def test_a_repeat_without_a_voice_is_doubted(quieter_db, doubted):
    """The second sentence, said to be read again, so much quieter than the others."""
    tape = Tape(gain_db={1: -quieter_db})
    words = tape.heard[9:11]
    again = Finding("f", Kind.REPEATED, "the", "the", 0, 2, words[0].start, words[-1].stop, 0.8)
    misread = replace(again, kind=Kind.MISREAD)
    found, other = where_faint([again, misread], [*tape.heard[:9], *tape.heard[18:]], levels_of(tape.x))
    assert other is misread
    if doubted:
        assert found.confidence == pytest.approx(0.08 * 0.8 / (1 - 0.92 * 0.8), abs=1e-3)  # a twelfth as likely
        assert "fainter than the words" in found.evidence.note
    else:
        assert found is again


def test_where_no_words_are_around_nothing_is_doubted():
    again = Finding("f", Kind.REPEATED, "the", "the", 0, 1, 0, EAR_RATE, 0.8)
    assert where_faint([again], [], np.full(400, -60.0)) == [again]


def test_another_reading_stands_beside_the_one_that_is_kept():
    """The first sentence read again, 6 dB softer and twice as fast."""
    tape = Tape(gain_db={1: -6.0})
    kept, again = tape.heard[:9], tape.heard[9:18]
    fast = [replace(h, stop=h.start + (h.stop - h.start) // 2) for h in again]
    finding = Finding("f", Kind.REPEATED, SENTENCE, SENTENCE, 0, 9, fast[0].start, fast[-1].stop, 0.9)
    slip = replace(finding, word_count=1)
    spans = [Span(h.start, h.stop) for h in kept]
    told, left = beside_kept([finding, slip], [*kept, *fast], spans, levels_of(tape.x))
    assert told.evidence.level_db == pytest.approx(-6, abs=1)
    assert told.evidence.pace == pytest.approx(2, rel=0.05)
    assert left is slip
