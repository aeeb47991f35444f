"""A line is heard as it stands in the reel: as written, without a word, with a word said twice; by the real ears on the demo."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import soundfile
from support.sounds import DEMO

from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.collate.proofing import in_rate
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.jobs import Unwatched
from faithful_reel.core.reel.commands import CutAndClose
from faithful_reel.core.reel.reel import Lane, Piece, Reel, reel_of
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.units import Span
from faithful_reel.core.work.hearing_again import heard_again
from faithful_reel.core.work.timeline import hearing_of

RATE = 44_100


@pytest.fixture(scope="module")
def chapter(proofs):
    """The first chapter of the demo: book, chapter, text, hearing, what renders a reel, and a sentence that is read as written."""
    truth, text, proof = proofs[0]
    x, _ = soundfile.read(DEMO / "chapter-1.flac", dtype="float32")
    hearing = hearing_of(in_rate(proof, RATE, Span(0, len(x))))
    state = ChapterState("c1", "One", "t", "r", "h", (), reel_of("r", len(x)))
    book = Book(chapters=(state,), recordings=(Recording("r", "r", ".flac", RATE, 1, len(x), -3, -62, -24, None),))

    def render_of(reel):
        def source(_recording, start, stop):
            out = np.zeros(stop - start, np.float32)
            part = x[max(0, start) : stop]
            out[max(0, -start) : max(0, -start) + len(part)] = part
            return out

        return Renderer(reel, source)

    spoiled = {
        w
        for p in truth["planted"]
        for w in range(p.get("word_index", 0) - 1, p.get("word_index", 0) + p.get("word_count", 0) + 1)
    }
    sentence = next(s for s in text.sentences() if len(s) >= 8 and not spoiled & set(s) and all(hearing.placed[k] for k in s))
    return book, state, text, hearing, render_of, range(sentence.start, sentence.stop)


def heard(chapter, ears, reel=None, words=None):
    book, state, text, hearing, render_of, line = chapter
    state = replace(state, reel=reel or state.reel)
    book = replace(book, chapters=(state,))
    return heard_again(book, state, text, hearing, words or line, render_of, ears, Unwatched())


def test_a_line_that_is_as_written_is_right(chapter, ears):
    assert heard(chapter, ears).right


def longest(chapter):
    _, _, _, hearing, _, line = chapter
    inner = range(line.start + 1, line.stop - 1)
    return max(inner, key=lambda k: hearing.placed[k].stop - hearing.placed[k].start)


def test_a_word_that_a_cut_took_is_told(chapter, ears):
    _, state, text, hearing, _, _ = chapter
    word = longest(chapter)
    place = hearing.placed[word]
    told = heard(chapter, ears, CutAndClose(place.start, place.stop).apply(state.reel))
    assert not told.right
    assert text.words[word].text.strip(".,").casefold() in " ".join(told.wrong).casefold()


def test_a_word_that_is_there_twice_is_told(chapter, ears):
    _, state, _, hearing, _, line = chapter
    word = longest(chapter)
    place, after = hearing.placed[word], hearing.placed[word + 1]
    length = state.reel.lanes[0].segments[0].stop
    twice = Reel((Lane("voice", (Piece("r", 0, after.start), Piece("r", place.start, length))),))
    assert not heard(chapter, ears, twice, line).right


def test_what_is_wrong_beside_the_line_is_not_the_lines(chapter, ears):
    """A cut in the next sentence does not make this line wrong."""
    book, state, text, hearing, _, line = chapter
    place = hearing.placed[line.stop + 1]
    assert place is not None
    reel = CutAndClose(place.start, place.stop).apply(state.reel)
    assert heard(chapter, ears, reel).right
    assert book.chapters[0] is state
    assert len(text.words) > line.stop + 1


def test_a_line_that_was_cut_out_can_not_be_heard(chapter, ears):
    _, state, _, hearing, _, line = chapter
    cut = CutAndClose(hearing.placed[line.start].start - 500, hearing.placed[line.stop - 1].stop + 500).apply(state.reel)
    with pytest.raises(EditRefused, match="not heard"):
        heard(chapter, ears, cut)
