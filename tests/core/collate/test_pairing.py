"""Which recording reads which chapter."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile

from faithful_reel.core.collate.pairing import Finder, Sample, passages, sampled
from faithful_reel.core.text.manuscript import read_manuscript
from faithful_reel.core.text.words import chapter_of

RATE = 44_100


@pytest.fixture(scope="module")
def chapters(demo):
    return read_manuscript(demo / "manuscript.txt").chapters


@pytest.fixture(scope="module")
def sounds(demo):
    return [soundfile.read(demo / f"chapter-{n}.flac", dtype="float32")[0] for n in (1, 2, 3)]


def source(x):
    return lambda start, stop: x[start:stop]


def said(chapter, first, stop, start=0):
    return Sample(start, start + RATE, tuple(w.text.lower() for w in chapter.words[first:stop]))


def test_words_tell_their_chapter_and_their_place(chapters):
    finder = Finder(chapters)
    vote = finder.vote(said(chapters[1], 40, 70))
    assert (vote.chapter, vote.word, vote.sure) == (1, 40, 1.0)
    assert finder.vote(Sample(0, RATE, ("nothing", "of", "this", "stands", "there"))) is None
    assert finder.vote(Sample(0, RATE, ())) is None


def test_what_stands_in_every_chapter_tells_nothing():
    same = "the end of the day came and went as it always had before"
    finder = Finder([chapter_of(str(n), [same]) for n in range(6)])
    assert finder.vote(Sample(0, RATE, tuple(same.split()))) is None


def test_a_stray_sample_does_not_cut_a_chapter(chapters):
    finder = Finder(chapters)
    quiet = source(np.zeros(100 * RATE, np.float32))
    samples = [said(chapters[0], 0, 30), said(chapters[2], 5, 30, 20 * RATE), said(chapters[0], 60, 90, 40 * RATE)]
    found = passages("r", samples, 100 * RATE, RATE, finder, quiet)
    assert [(p.chapter, p.start, p.stop) for p in found] == [(0, 0, 100 * RATE)]


@pytest.mark.slow
def test_raw_recordings_are_known_by_ear(chapters, sounds, ears):
    finder = Finder(chapters)
    for number, x in enumerate(sounds):
        samples = sampled(source(x), len(x), RATE, ears.first)
        (found,) = passages("r", samples, len(x), RATE, finder, source(x))
        assert (found.chapter, found.start, found.stop) == (number, 0, len(x))
        assert found.sure > 0.6
        assert found.first_word < 12


@pytest.mark.slow
def test_two_chapters_in_one_file_are_cut_in_the_pause_between_them(chapters, sounds, ears):
    x = np.concatenate([sounds[1], sounds[2]])
    finder = Finder(chapters)
    samples = sampled(source(x), len(x), RATE, ears.first)
    found = passages("r", samples, len(x), RATE, finder, source(x))
    assert [p.chapter for p in found] == [1, 2]
    # the second chapter's ten seconds of room tone begin where the first one's file ended
    assert len(sounds[1]) - 2 * RATE < found[0].stop < len(sounds[1]) + 10 * RATE
    assert found[0].stop == found[1].start


@pytest.mark.slow
def test_parts_of_a_chapter_are_put_in_order(chapters, sounds, ears):
    half = len(sounds[0]) // 2
    finder = Finder(chapters)
    order = []
    for x in (sounds[0][half:], sounds[0][:half]):
        samples = sampled(source(x), len(x), RATE, ears.first)
        (found,) = passages("r", samples, len(x), RATE, finder, source(x))
        order.append((found.chapter, found.first_word))
    assert [c for c, _ in order] == [0, 0]
    assert order[0][1] > order[1][1]
