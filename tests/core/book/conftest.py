"""An open book with two chapters, one of which has a recording and findings."""

from __future__ import annotations

import pytest
from support.books import RECORDING, finding

from faithful_reel.core.book.commands import AddChapters, AddRecording, PairRecording, PlaceHearing
from faithful_reel.core.book.session import Session
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.text.words import Chapter, chapter_of


@pytest.fixture
def session(tmp_path):
    with BookStore(tmp_path / "a.reelbook", create=True) as store:
        made = Session(store)
        key = store.put(Chapter, chapter_of("One", ["Some words here."]))
        made.do(AddChapters((("c1", "One", key), ("c2", "Two", key))))
        made.do(AddRecording(RECORDING))
        made.do(PairRecording("c1", "r1"))
        made.do(PlaceHearing("c1", "", tuple(finding(n) for n in range(1, 6))))
        yield made
