"""The ears: weights known by hash, hearing, judging, aligning; on the demo book, whose truth is known."""

from __future__ import annotations

import contextlib
import json
import os
import signal
from dataclasses import replace
from pathlib import Path

import numpy as np
import pocketsphinx
import pytest
from support.sounds import speech_like

from faithful_reel.core.audio.files import ear_sound, read_mono
from faithful_reel.core.collate.findings import READING, Kind, is_shown
from faithful_reel.core.collate.proofing import aligned, in_rate, proofed
from faithful_reel.core.errors import Cancelled, EarMissing, SignalError
from faithful_reel.core.hear import weights
from faithful_reel.core.hear.aligner import BEHIND, HELPERS, Aligner
from faithful_reel.core.hear.ears import Ears, ear_of, installed_ears
from faithful_reel.core.hear.helper import Helper
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.hear.pauses import chunks_of
from faithful_reel.core.hear.pronounce import is_word, phone_distance, phones_of
from faithful_reel.core.hear.recogniser import Heard, hear
from faithful_reel.core.text.manuscript import read_script
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.units import EAR_RATE, Span

FERRY = "it left the old ferry lying on its side in the mud".split()
FERRY_SPAN = Span(round(16.95 * EAR_RATE), round(20.4 * EAR_RATE))
"""Words of the demo's first chapter, and where they are read."""


@pytest.mark.parametrize(
    ("word", "phones"),
    [
        ("harbour", "HH AA R B ER"),
        ("o'clock", "AH K L AA K"),
        ("Harbour,", "HH AA R B ER"),
        ("grandmother's", "G R AE N D M AH DH ER Z"),
    ],
)
def test_known_words_come_from_the_dictionary(word, phones):
    """CMU pronouncing dictionary, as pocketsphinx carries it."""
    assert " ".join(phones_of(word)) == phones


@pytest.mark.parametrize("word", ["varrow", "merrowby", "ysolde", "brackenthwaite"])
def test_unknown_words_are_guessed(word):
    phones = phones_of(word)
    assert len(word) / 3 <= len(phones) <= len(word) + 3
    assert not is_word(word)


def test_near_sounds_are_nearer():
    near = phone_distance(phones_of("ship"), phones_of("chip"))
    assert near < phone_distance(phones_of("ship"), phones_of("lip")) < phone_distance(phones_of("ship"), phones_of("garden"))
    assert phone_distance(phones_of("tide"), phones_of("tied")) == 0


def test_an_own_folder_without_a_model_is_told(tmp_path):
    with pytest.raises(EarMissing, match="holds no model"):
        weights.find_first_ear(tmp_path)


def test_without_weights_it_says_so(monkeypatch):
    monkeypatch.setattr(weights, "_package_folder", lambda _: None)
    monkeypatch.delenv(weights.EAR_VARIABLE, raising=False)
    with pytest.raises(EarMissing, match="not installed"):
        weights.find_first_ear()
    assert weights.find_second_ear() is None


def test_other_weights_than_the_pinned_ones_are_refused(monkeypatch, tmp_path):
    (tmp_path / "model").mkdir()
    (tmp_path / "model" / "model.bin").write_bytes(b"something else")
    monkeypatch.setattr(weights, "_package_folder", lambda _: tmp_path)
    monkeypatch.delenv(weights.EAR_VARIABLE, raising=False)
    with pytest.raises(EarMissing, match="not the ones"):
        weights.find_first_ear()


def test_the_aligner_places_words_and_tells_a_text_that_does_not_fit(demo):
    x = read_mono(demo / "chapter-1.flac", EAR_RATE)
    truth = json.loads((demo / "truth.json").read_text())["chapter-1"]["words"]
    with Aligner() as aligner:
        placed = aligner.align(x, FERRY_SPAN, FERRY)
        right, wrong = aligner.fits(x, FERRY_SPAN, [FERRY, [*FERRY[:4], "lorry", *FERRY[5:]]])
        assert aligner.align(x, Span(FERRY_SPAN.start, FERRY_SPAN.start + 800), FERRY * 3) is None
        assert aligner.fits(x, Span(0, 0), [FERRY]) == [None]
    assert placed is not None
    assert right is not None
    assert wrong is not None
    assert right > wrong + 20  # nats: the phones of "ferry" fit better
    starts = {index: start for index, start, _ in truth}
    errors = [abs(p.start / EAR_RATE - starts[17 + k]) for k, p in enumerate(placed)]
    assert np.median(errors) < 0.04


def test_an_ear_does_not_rest_while_another_job_listens(demo, ears):
    x = read_mono(demo / "chapter-1.flac", EAR_RATE)
    chunks = chunks_of(x, EAR_RATE)[:3]
    passing = hear(ears.first, x, chunks)
    first = next(passing)
    ears.first.rest()  # what a job does whose first pass is over
    assert first
    assert all(words for words in passing)
    ears.first.rest()
    assert next(hear(ears.first, x, chunks)) == first  # and wakes again


def test_how_a_text_fits_does_not_depend_on_what_was_asked_before(demo):
    x = read_mono(demo / "chapter-1.flac", EAR_RATE)
    with Aligner() as aligner:
        fresh = [aligner.fits(x, FERRY_SPAN, [FERRY]) for _ in range(HELPERS)]
        for second in range(2, 14, 3):
            aligner.fits(x, Span(second * EAR_RATE, (second + 3) * EAR_RATE), [["quite", "another", "thing"]])
        later = [aligner.fits(x, FERRY_SPAN, [FERRY]) for _ in range(HELPERS)]
    assert fresh[0][0] is not None
    assert all(scores == fresh[0] for scores in [*fresh, *later])


@pytest.mark.parametrize("changed", [{4: ["lorry"]}, {4: ["ferry", "ferry"]}, {3: []}, {1: ["lets"], 8: ["sight"]}])
def test_how_two_texts_fit_is_compared_as_with_all_senones_computed(demo, changed):
    """The decoder's scores of two texts can be compared where it computes every senone of every frame (its option
    `compallsen`); that takes three times as long and is not done, so it is what ours is held against."""
    x = read_mono(demo / "chapter-1.flac", EAR_RATE)
    other = [w for k, word in enumerate(FERRY) for w in changed.get(k, [word])]
    with Aligner() as aligner:
        mine = aligner.fits(x, FERRY_SPAN, [FERRY, other])
    beams = dict.fromkeys(("beam", "pbeam", "wbeam"), 1e-300)
    decoder = pocketsphinx.Decoder(lm=None, compallsen=True, bestpath=False, loglevel="FATAL", **beams)
    audio = (np.clip(x[FERRY_SPAN.start : FERRY_SPAN.stop], -1, 1) * 32767).astype(np.int16).tobytes()
    reference = []
    for text in (FERRY, other):
        decoder.reinit_feat()
        decoder.set_align_text(" ".join(text))
        decoder.start_utt()
        decoder.process_raw(audio, False, True)
        decoder.end_utt()
        reference.append(sum(np.log(s.ascore) * 1024 for s in decoder.seg()))
    assert mine[0] - mine[1] == pytest.approx(reference[0] - reference[1], abs=2)
    assert abs(reference[0] - reference[1]) > 10


def test_of_three_texts_those_that_can_not_be_held_against_the_sound_are_told(demo):
    x = read_mono(demo / "chapter-1.flac", EAR_RATE)
    with Aligner() as aligner:
        alone, short = aligner.fits(x, FERRY_SPAN, [FERRY, [*FERRY[:4], *FERRY[5:]]])
        fitting = aligner.fits(x, FERRY_SPAN, [FERRY, FERRY * 8, [], [*FERRY[:4], *FERRY[5:]]])
        behind = aligner.fits(x, FERRY_SPAN, [FERRY, ["mud"]])
        unfit = aligner.fits(x, FERRY_SPAN, [FERRY * 8, []])
    assert fitting[1:3] == [None, None]  # too many words for the sound, and none
    assert fitting[0] - fitting[3] == pytest.approx(alone - short, abs=2)
    assert behind[0] - behind[1] == BEHIND
    assert unfit == [None, None]


def test_a_model_that_can_not_be_loaded_is_told(tmp_path, demo):
    (tmp_path / "model.bin").write_bytes(b"no model at all")
    ears = installed_ears(tmp_path, only_first=True)
    with pytest.raises(EarMissing, match="can not be loaded"):
        proofed(ear_sound(demo / "chapter-3.flac"), read_script(demo / "chapter-3.txt"), ears)


def children():
    """Processes that this one has started and that still run (Linux proc(5), task/children)."""
    return {int(pid) for task in Path("/proc/self/task").iterdir() for pid in (task / "children").read_text().split()}


def test_a_pass_that_is_cancelled_gives_its_memory_back(demo, ears):
    class Stopping:
        def tick(self, _done, note=""):
            if note == "listening":
                raise Cancelled

    before = children()
    with pytest.raises(Cancelled):
        proofed(ear_sound(demo / "chapter-3.flac"), read_script(demo / "chapter-3.txt"), ears, Stopping())
    assert children() <= before


class TestHelper:
    """A process of our own that is killed, as the system does where memory runs out."""

    def test_its_end_is_told_once_and_it_begins_anew(self):
        before, helper = children(), Helper("faithful_reel.core.hear.phones_child")
        question = "edges", bytes(2 * EAR_RATE), [("mud", "M AH D")], ()
        try:
            first = helper.ask(question)
            (child,) = children() - before
            os.kill(child, signal.SIGKILL)
            with pytest.raises(EarMissing, match="Try again"):
                helper.ask(question)
            assert helper.ask(question) == first
        finally:
            helper.rest()
        assert children() == before

    def test_it_ends_when_nobody_can_ask_it_any_more(self):
        before, helper = children(), Helper("faithful_reel.core.hear.phones_child")
        helper.ask(("edges", bytes(2 * EAR_RATE), [("mud", "M AH D")], ()))
        assert len(children() - before) == 1
        del helper
        assert children() == before


@pytest.mark.slow
class TestDemoBook:
    """What honest hearing comes down to, on the three raw chapters."""

    def test_nine_of_ten_planted_reading_errors_are_found(self, proofs):
        planted = hits = 0
        for truth, _, proof in proofs:
            shown = [f for f in proof.findings if is_shown(f) and f.kind in READING]
            for error in (p for p in truth["planted"] if p["kind"] in READING):
                planted += 1
                hits += any(f.start / EAR_RATE <= error["end"] + 0.3 and f.stop / EAR_RATE >= error["start"] - 0.3 for f in shown)
        assert planted >= 25
        assert hits >= 0.9 * planted

    def test_at_most_five_false_findings_in_a_thousand_words(self, proofs):
        false = words = 0
        for truth, chapter, proof in proofs:
            words += len(chapter.words)
            for f in (f for f in proof.findings if is_shown(f)):
                near = [
                    p for p in truth["planted"] if f.start / EAR_RATE <= p["end"] + 0.3 and f.stop / EAR_RATE >= p["start"] - 0.3
                ]
                false += not near
        assert 1000 * false / words <= 5

    def test_planted_pauses_noises_and_clipping_are_found(self, proofs):
        missed = []
        for truth, _, proof in proofs:
            for flaw in (p for p in truth["planted"] if p["kind"] in ("pause", "noise", "level")):
                missed += [flaw] * (
                    not any(f.kind == flaw["kind"] and abs(f.start / EAR_RATE - flaw["start"]) < 0.4 for f in proof.findings)
                )
        assert missed == []

    def test_the_kinds_are_told_apart(self, proofs):
        right = named = 0
        for truth, _, proof in proofs:
            for error in (p for p in truth["planted"] if p["kind"] in READING):
                over = [
                    f
                    for f in proof.findings
                    if f.kind in READING
                    and is_shown(f)
                    and f.start / EAR_RATE < error["end"] + 0.1
                    and f.stop / EAR_RATE > error["start"] - 0.1
                ]
                if over:
                    named += 1
                    right += any(f.kind == error["kind"] for f in over)
        assert right >= 0.85 * named

    def test_positions_can_be_told_at_the_books_rate(self, proofs):
        proof = proofs[0][2]
        scaled = in_rate(proof, 44_100, Span(0, round(proof.seconds * 44_100)))
        assert scaled.findings[3].start == pytest.approx(proof.findings[3].start * 44_100 / EAR_RATE, abs=1)
        assert all(h.stop <= round(proof.seconds * 44_100) for h in scaled.heard)


@pytest.mark.slow
def test_word_edges_within_30_ms_of_the_synthesisers_truth(demo, ears, proofs, heard_file):
    assert proofs
    truth = json.loads((demo / "truth.json").read_text())
    errors = []
    for number in (1, 2, 3):
        chapter = read_script(demo / f"chapter-{number}.txt")
        with Memory(heard_file) as memory:  # heard by `proofs` already
            placed = aligned(read_mono(demo / f"chapter-{number}.flac", EAR_RATE), chapter, ears, memory=memory)
        for index, start, stop in truth[f"chapter-{number}"]["words"]:
            place = placed[index]
            if place is not None:
                errors += [abs(place.start / EAR_RATE - start), abs(place.stop / EAR_RATE - stop)]
    assert len(errors) > 900
    assert np.median(errors) <= 0.030


@pytest.mark.slow
def test_silence_and_another_text_are_told(ears):
    with pytest.raises(SignalError, match="Nobody speaks"):
        proofed(np.zeros(EAR_RATE * 5, np.float32), chapter_of("x", ["Some words."]), ears)


class MadeEar:
    """An ear that hears what it is told to; it keeps where it was asked."""

    def __init__(self, witness, heard):
        self.witness, self.key, self.asked = witness, f"made {witness}", []
        self._heard = heard

    def busy(self):
        return contextlib.nullcontext()

    def rest(self):
        pass

    def words(self, _x, span):
        self.asked.append(span)
        return self._heard(span)


class TestTheSecondEar:
    """It takes longest, and is asked where one of the others departs from the text."""

    @pytest.fixture
    def read(self, demo):
        """The sound of a chapter and its text, and a way to make an ear that hears all of it rightly but some words."""
        truth = json.loads((demo / "truth.json").read_text())["chapter-1"]
        planted = min(p["word_index"] for p in truth["planted"] if "word_index" in p)
        words = [(index, round(a * EAR_RATE), round(b * EAR_RATE)) for index, a, b in truth["words"] if index < planted - 2]
        chapter = read_script(demo / "chapter-1.txt")
        written = [w.text for w in chapter.words[: words[-1][0] + 1]]
        x = read_mono(demo / "chapter-1.flac", EAR_RATE)[: words[-1][2] + EAR_RATE // 4]

        def ear(witness, **instead):
            def heard(span):
                inside = [(written[k], a, b) for k, a, b in words if span.start <= (a + b) // 2 < span.stop]
                return [Heard(instead.get(text, text), a, b, 0.9, witness) for text, a, b in inside if instead.get(text, text)]

            return MadeEar(witness, heard)

        return x, chapter_of("x", [" ".join(written)]), ear

    def test_it_is_asked_where_an_ear_departs_from_the_text(self, read):
        x, script, ear = read
        for first, third in (({}, {"ferry": "fairy"}), ({"ferry": "fairy"}, {}), ({"ferry": ""}, {})):
            ears = Ears(ear("first", **first), ear("second"), ear("third", **third))
            proof = proofed(x, script, ears)
            assert len(ears.third.asked) == len(ears.first.asked) > 1
            assert len(ears.second.asked) == 1
            (place,) = (p for p, word in zip(proof.placed, script.words, strict=True) if word.text == "ferry")
            assert ears.second.asked[0].start <= place.start < place.stop <= ears.second.asked[0].stop

    def test_without_the_third_it_hears_all_of_it(self, read):
        x, script, ear = read
        ears = Ears(ear("first"), ear("second"))
        proofed(x, script, ears)
        # Two hearings run side by side: which of them asks first is chance.
        assert set(ears.second.asked) == set(ears.first.asked)
        assert len(ears.second.asked) == len(ears.first.asked) > 1


class TestOtherLanguages:
    def test_one_ear_hears_alone_and_says_so(self):
        """A made ear that hears a German line, one word otherwise; neither phones nor other ears are asked."""
        script = chapter_of("x", ["Das alte Boot lag im Hafen."])
        said = "Das alte Brot lag im Hafen.".split()

        def heard(span):
            hop = (span.stop - span.start) // len(said)
            return [Heard(w, span.start + k * hop, span.start + k * hop + hop // 2, 0.9) for k, w in enumerate(said)]

        x = speech_like(seconds=6, rate=EAR_RATE)
        x[: EAR_RATE // 2] *= 0.01
        proof = proofed(x, script, Ears(MadeEar("first", heard), language="de"))
        readings = [f for f in proof.findings if f.kind in READING]
        assert {(f.kind, f.written, f.heard) for f in readings} >= {(Kind.MISREAD, "Boot", "Brot")}
        assert {f.evidence.note for f in readings} == {"by the multilingual ear alone, without a witness"}
        assert [h.text for h in proof.heard][:6] == said

    def test_a_language_that_no_ear_knows_is_refused(self):
        with pytest.raises(EarMissing, match="No ear knows the language xx"):
            installed_ears(language="xx")

    @pytest.mark.slow
    def test_the_multilingual_ear_hears_english_as_well_when_told_so(self, demo):
        """The same path on real sound: English through the ear that other languages get."""
        script = read_script(demo / "chapter-3.txt")
        ears = installed_ears(language="de")
        alone = replace(ears, first=ear_of(ears.first.weights, language="en"))
        x = ear_sound(demo / "chapter-3.flac")[: 25 * EAR_RATE]
        proof = proofed(x, script, alone)
        read = [p for p in proof.placed if p is not None]
        assert len(read) >= 30
