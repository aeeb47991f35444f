"""Words by estimate: their lengths and the pauses of the sound, against readings whose words were placed by hand or by a voice."""

from __future__ import annotations

import json
from itertools import pairwise

import numpy as np
import pytest

from faithful_reel.core.audio.files import mono_blocks
from faithful_reel.core.audio.overview import overview_of
from faithful_reel.core.book.demo import demo_files
from faithful_reel.core.text.manuscript import read_script
from faithful_reel.core.text.words import chapter_of
from faithful_reel.core.units import Span
from faithful_reel.core.work.estimate import FRAME_S, estimated, estimated_in

RATE = 16_000
FRAME = round(FRAME_S * RATE)
PARAGRAPHS = [
    "The tide had gone out further than anyone in the harbour could remember.",
    "It left the old ferry lying on its side in the mud, and beside it a line of green bottles that nobody would admit to owning.",
    "Nell counted them twice from the window of the customs house, because counting was what she was paid for.",
]


def read_evenly(chapter, rng, *, skip=range(0), pause=1.0):
    """Peak levels of a voice that reads with usual pauses, and where each word begins, in frames; words of `skip` are not read."""
    levels, starts = [-70.0] * 20, {}
    for k, word in enumerate(chapter.words):
        if k in skip:
            continue
        starts[k] = len(levels)
        letters = sum(c.isalnum() for c in word.text)
        levels += [
            -18.0 + rng.normal(0, 3) for _ in range(max(4, round((letters * rng.uniform(0.85, 1.15) + 1.5) * 0.065 / FRAME_S)))
        ]
        following = chapter.words[k + 1] if k + 1 < len(chapter.words) else None
        if following is None or following.paragraph != word.paragraph:
            levels += [-70.0] * round(0.9 * pause / FRAME_S)
        elif word.text[-1] in ",.":
            levels += [-70.0] * round(0.35 * pause / FRAME_S)
    return np.array(levels), starts


def off(placed, starts):
    return np.array([abs(placed[k].start / FRAME - at) * FRAME_S for k, at in starts.items() if placed[k]])


def test_words_stand_near_where_they_are_read():
    chapter = chapter_of("one", PARAGRAPHS * 4)
    peaks, starts = read_evenly(chapter, np.random.default_rng(1))
    errors = off(estimated(peaks, FRAME, chapter), starts)
    assert len(errors) == len(chapter.words)
    assert np.median(errors) < 0.1
    assert errors.max() < 0.7


def test_places_rise_and_every_word_has_one():
    chapter = chapter_of("one", PARAGRAPHS)
    peaks, _ = read_evenly(chapter, np.random.default_rng(2))
    placed = estimated(peaks, FRAME, chapter)
    assert all(p is not None and p.start < p.stop for p in placed)
    assert all(a.start <= b.start for a, b in pairwise(placed))
    assert all(p.confidence == 0 for p in placed)  # nobody heard them


def test_a_sentence_that_is_not_read_does_not_move_the_rest_for_long():
    chapter = chapter_of("one", PARAGRAPHS * 6)
    gone = next(s for s in chapter.sentences() if s.start > 60)
    peaks, starts = read_evenly(chapter, np.random.default_rng(3), skip=gone)
    errors = off(estimated(peaks, FRAME, chapter), {k: at for k, at in starts.items() if k > gone.stop + 60})
    assert np.median(errors) < 0.5


@pytest.mark.parametrize("peaks", [np.zeros(0), np.full(5000, -120.0), np.full(5000, -20.0)])
def test_sound_that_is_no_reading_gives_no_places(peaks):
    chapter = chapter_of("one", PARAGRAPHS)
    assert all(p is None for p in estimated(peaks, FRAME, chapter))
    assert estimated(peaks, FRAME, chapter_of("none", [])) == ()


def test_a_recording_of_another_length_is_not_taken_for_this_text():
    chapter = chapter_of("one", PARAGRAPHS * 40)
    peaks, _ = read_evenly(chapter_of("short", PARAGRAPHS), np.random.default_rng(4))
    assert all(p is None for p in estimated(peaks, FRAME, chapter))


def test_a_stretch_of_a_recording_is_placed_in_it():
    chapter = chapter_of("one", PARAGRAPHS)
    rng = np.random.default_rng(5)
    peaks, starts = read_evenly(chapter, rng)
    x = np.repeat(10 ** (peaks / 20), FRAME) * rng.choice([-1.0, 1.0], len(peaks) * FRAME)
    lead = 7 * RATE
    drawn = overview_of([np.concatenate([np.full(lead, 0.3), x]).astype(np.float32)])
    placed = estimated_in(drawn, Span(lead, lead + len(x)), RATE, chapter)
    errors = [abs((placed[k].start - lead) / FRAME - at) * FRAME_S for k, at in starts.items()]
    assert np.median(errors) < 0.15


@pytest.mark.parametrize("number", [1, 2, 3])
def test_the_demo_chapters_stand_where_their_voice_says_them(number):
    """Against the word times that the demo's own voice gave; the chapters hold retakes, false starts and long pauses."""
    files = demo_files()
    truth = json.loads((files / "truth.json").read_text())[f"chapter-{number}"]
    chapter = read_script(files / f"chapter-{number}.txt")
    drawn = overview_of(mono_blocks(files / truth["recording"], 44_100))
    placed = estimated_in(drawn, Span(0, drawn.length), 44_100, chapter)
    errors = [abs(placed[k].start / 44_100 - start) for k, start, _ in truth["words"]]
    assert np.median(errors) < 0.15
    assert np.percentile(errors, 75) < 1.5  # the rest: around a sentence that is read three times
