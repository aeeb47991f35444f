"""Hearing what a splice or an edit gave: the stretch of the reel as it now stands, by the ears, held against the manuscript."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import soxr

from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.findings import AGAIN, READING, SHOWN, Finding
from faithful_reel.core.collate.proofing import proofed
from faithful_reel.core.errors import EditRefused, SignalError
from faithful_reel.core.hear.ears import Ears
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.jobs import Watch
from faithful_reel.core.pickups.judging import in_words
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import EAR_RATE
from faithful_reel.core.work.seams import lane_sound
from faithful_reel.core.work.timeline import Hearing, tokens_of

AROUND_WORDS, EDGE_S = 6, 0.3
"""So many words are heard with the line on either side, and so much sound beyond them."""


@dataclass(frozen=True, slots=True)
class HeardSo:
    """How a line sounds now: what is wrong, in a few words each; nothing where it is as written."""

    wrong: tuple[str, ...]
    findings: tuple[Finding, ...] = ()

    @property
    def right(self) -> bool:
        """Whether it is as written."""
        return not self.wrong


def heard_again(
    book: Book,
    chapter: ChapterState,
    text: Chapter,
    hearing: Hearing,
    words: range,
    render_of: Callable[[Reel], Renderer],
    ears: Ears,
    watch: Watch,
    memory: Memory | None = None,
) -> HeardSo:
    """Hear written words `words` of a chapter in its reel as it stands.

    Raises
    ------
    EditRefused
        They are not heard in the reel.
    """
    reel = chapter.reel
    tokens = tokens_of(book, chapter, [w.text for w in text.words], hearing)
    own = [t for t in tokens if t.word in words and t.start >= 0]
    if reel is None or not own:
        raise EditRefused("This line is not heard in the chapter.")
    lane = own[0].lane
    near = range(max(0, words.start - AROUND_WORDS), min(len(text.words), words.stop + AROUND_WORDS))
    placed = {t.word: t for t in tokens if t.word in near and t.start >= 0 and t.lane == lane}
    first, stop = words.start, words.stop
    while first - 1 in placed and placed[first - 1].stop <= placed.get(first, own[0]).start + book.rate // 10:
        first -= 1
    while stop in placed and placed[stop].start >= placed.get(stop - 1, own[-1]).stop - book.rate // 10:
        stop += 1
    edge = round(EDGE_S * book.rate)
    spoken = [placed[k] for k in range(first, stop) if k in placed]
    start, end = max(0, min(t.start for t in spoken) - edge), min(len(reel), max(t.stop for t in spoken) + edge)
    x = lane_sound(reel, lane, render_of, start, end)
    heard = np.asarray(soxr.resample(x, book.rate, EAR_RATE, quality="HQ"), np.float32)
    part = Chapter(text.title, text.words[first:stop])
    try:
        proof = proofed(heard, part, ears, watch, memory=memory)
    except SignalError:
        return HeardSo(("nothing is heard there",))
    mine = range(words.start - first, words.stop - first)
    found = [f for f in proof.findings if f.kind in READING and f.confidence >= SHOWN and _within(f, mine)]
    return HeardSo(tuple(map(in_words, found)), tuple(found))


def _within(f: Finding, words: range) -> bool:
    """Whether a finding is of the line: on its words, or between two of them; what is said at its ends was there before."""
    if f.word_count and f.kind not in AGAIN:
        return any(k in words for k in range(f.word_index, f.word_index + f.word_count))
    return words.start <= f.word_index < words.stop if f.kind in AGAIN else words.start < f.word_index < words.stop
