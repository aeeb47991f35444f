"""What a step takes away from lanes that it was not meant for: how soft it may be to be told."""

from __future__ import annotations

import numpy as np
import pytest

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.reel.commands import CutAndClose
from faithful_reel.core.reel.reel import Lane, Piece, Reel
from faithful_reel.core.work.gone import going
from faithful_reel.core.work.timeline import Tokens

RATE, LENGTH = 1000, 40_000
NONE = Tokens([], np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0, np.int64))


@pytest.mark.parametrize(("peak", "told"), [(0.0005, False), (0.002, False), (0.01, True), (0.2, True)])
def test_a_soft_voice_that_stands_out_of_its_lanes_quiet_is_told_and_the_quiet_itself_is_not(peak, told):
    lanes = (
        Lane("voice", (Piece("a", 0, LENGTH),)),
        Lane("clerk", (Piece("b", 0, LENGTH),)),
        Lane("sea", (Piece("m", 0, LENGTH),), music=True),
    )
    before = Book(rate=RATE, chapters=(ChapterState("c1", "One", "t", "a", "", (), Reel(lanes)),))
    after = before.with_chapter(
        "c1", lambda c: c.__class__(c.id, c.title, c.text, c.recording, "", (), CutAndClose(20_000, 21_000).apply(c.reel))
    )

    def columns(_chapter, number):
        def look(edges):
            inside = (edges[1:] > 20_000) & (edges[:-1] < 21_000)
            high = np.where(inside, peak, 0.0009) if number == 1 else np.full(len(edges) - 1, 0.1)
            return np.stack([-high, high]).astype(np.float32)

        return look

    rows = going(before, after, columns, lambda _c: NONE, {"l1"})
    assert [g.name for g in rows] == (["clerk", "sea"] if told else ["sea"])
    assert [g.name for g in going(before, after, columns, lambda _c: NONE, {"l1"}, music=True)] == ["sea"]
    voices = going(before, after, columns, lambda _c: NONE, {"l1"}, music=False)
    assert [g.name for g in voices] == (["clerk"] if told else [])
    assert not told or 900 <= voices[0].samples <= 1000
