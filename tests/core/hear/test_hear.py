"""The ears: weights known by hash, hearing, judging, aligning; on the demo book, whose truth is known."""

from __future__ import annotations

import contextlib
import json
import os
import signal
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from support.sounds import speech_like

from faithful_reel.core.audio.files import ear_sound, read_mono
from faithful_reel.core.collate.findings import READING, Kind, is_shown
from faithful_reel.core.collate.proofing import aligned, in_rate, proofed
from faithful_reel.core.errors import Cancelled, EarMissing, SignalError
from faithful_reel.core.hear import weights
from faithful_reel.core.hear.aligner import HELPERS, Aligner
from faithful_reel.core.hear.ears import Ears, ear_of, installed_ears
from faithful_reel.core.hear.helper import Helper
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.hear.pauses import chunks_of
from faithful_reel.core.hear.pronounce import is_word, phone_distance, phones_of
from faithful_reel.core.hear.recogniser import Heard, hear
from faithful_reel.core.text.manuscript import read_script
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.units import EAR_RATE, Span


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
    words = ["it", "left", "the", "old", "ferry", "lying", "on", "its", "side", "in", "the", "mud"]
    span = Span(round(16.95 * EAR_RATE), round(20.4 * EAR_RATE))
    with Aligner() as aligner:
        placed = aligner.align(x, span, words)
        right, wrong = aligner.fit(x, span, words), aligner.fit(x, span, [*words[:4], "lorry", *words[5:]])
        assert aligner.align(x, Span(span.start, span.start + 800), words * 3) is None
        assert aligner.fit(x, Span(0, 0), words) is None
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
    words = ["it", "left", "the", "old", "ferry", "lying", "on", "its", "side", "in", "the", "mud"]
    span = Span(round(16.95 * EAR_RATE), round(20.4 * EAR_RATE))
    with Aligner() as aligner:
        fresh = [aligner.fit(x, span, words) for _ in range(HELPERS)]
        for second in range(2, 14, 3):
            aligner.fit(x, Span(second * EAR_RATE, (second + 3) * EAR_RATE), ["quite", "another", "thing"])
        later = [aligner.fit(x, span, words) for _ in range(HELPERS)]
    assert fresh[0] is not None
    assert {*fresh, *later} == {fresh[0]}


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


class TestOtherLanguages:
    def test_one_ear_hears_alone_and_says_so(self):
        """A made ear that hears a German line, one word otherwise; neither phones nor other ears are asked."""
        script = chapter_of("x", ["Das alte Boot lag im Hafen."])
        said = "Das alte Brot lag im Hafen.".split()

        class German:
            witness, key = "first", "made"

            def busy(self):
                return contextlib.nullcontext()

            def rest(self):
                pass

            def words(self, _x, span):
                hop = (span.stop - span.start) // len(said)
                return [Heard(w, span.start + k * hop, span.start + k * hop + hop // 2, 0.9) for k, w in enumerate(said)]

        x = speech_like(seconds=6, rate=EAR_RATE)
        x[: EAR_RATE // 2] *= 0.01
        proof = proofed(x, script, Ears(German(), language="de"))
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
