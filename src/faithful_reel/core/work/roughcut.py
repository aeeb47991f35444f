"""The rough cut: a raw recording becomes a clean reel of the best readings, in one step."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from operator import attrgetter

import numpy as np

from faithful_reel.core.book.commands import EDITION, RoughCut
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.findings import AGAIN, SURE, Decision, Finding, Kind
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.commands import ReelCommand
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.reel.several import edited
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.work.mending import Columns, mending_edit
from faithful_reel.core.work.readings import better_retake, retakes_of, swapped
from faithful_reel.core.work.timeline import Hearing, finding_spans, tokens_of

Looks = Callable[[Reel], Columns]


def rough_cut(
    book: Book, chapter: ChapterState, text: Chapter, hearing: Hearing | None, looks: Looks | None = None
) -> tuple[RoughCut, Hearing]:
    """The command that leaves the best reading of every line in a chapter, and shortens its too long pauses.

    Of a line that was read several times the last complete reading stays, unless an earlier one is better
    (`better_retake`): then that one is put in its place.  Cut from the end to the beginning, each with the pause that
    follows it, so that the pause before the line stays as it was read.  Also given: what was heard, linked to the
    readings that are kept; the command's `hearing` is its key, to be filled in by whoever stores it.

    Raises
    ------
    EditRefused
        The chapter was not heard yet, or there is nothing to cut.
    """
    if hearing is None or chapter.reel is None:
        raise EditRefused("Hear the chapter first: only then is it known what was read again.")
    original = chapter
    swaps: list[ReelCommand] = []
    others: list[Finding] = []
    undecided = [f for f in chapter.findings if f.decision is Decision.OPEN]
    better = {t.words: t for t in retakes_of(text, undecided) if better_retake(text, undecided, t.finding)}
    for take in better.values():  # of several better readings of a line the last
        try:
            swap, hearing = swapped(replace(book, chapters=(chapter,)), chapter, text, hearing, take.finding)
        except EditRefused:  # the reading that was kept is cut already
            continue
        swaps += swap.edits
        others.append(swap.finding)
        chapter = swap.apply(replace(book, chapters=(chapter,))).chapters[0]
    texts = [w.text for w in text.words]
    open_ = [f for f in chapter.findings if f.decision is Decision.OPEN and f.confidence >= SURE]
    retakes = [f for f in open_ if f.kind in AGAIN]
    starts = hearing.words[0]
    # words that are not written and run straight into a repeat are the beginning of that reading
    heads = [
        f
        for f in open_
        if f.kind is Kind.ADDED
        and any(f.stop <= r.start and not np.any((starts >= f.stop) & (starts < r.start)) for r in retakes)
    ]
    pauses = [f for f in open_ if f.kind is Kind.PAUSE]
    wanted = [*retakes, *heads, *pauses]
    edits, mended = mending_edits(book, chapter, texts, hearing, wanted, looks)
    edits = (*swaps, *edits)
    if not edits:
        raise EditRefused("There is nothing to cut: no open false start, repeat or long pause in this chapter.")
    gone = _cut_away(original, edits, {f.id: f for f in chapter.findings}.values())
    return RoughCut(
        chapter.id,
        edits,
        tuple(dict.fromkeys((*mended, *gone))),
        hearing=chapter.hearing,
        swapped=tuple(others),
        edition=EDITION,
    ), hearing


def _cut_away(chapter: ChapterState, edits: Iterable[ReelCommand], findings: Iterable[Finding]) -> list[str]:
    """Open findings whose sound was in the reel and is not any more: marks of retakes, noises, what was misread there."""
    open_ = [f for f in findings if f.decision is Decision.OPEN and f.kind is not Kind.SKIPPED]
    reel = edited(chapter.reel, edits) if chapter.reel is not None else None
    before = finding_spans(chapter, open_)
    after = finding_spans(replace(chapter, reel=reel), open_)
    return [f.id for f, was, now in zip(open_, before, after, strict=True) if was is not None and now is None]


def mending_edits(
    book: Book,
    chapter: ChapterState,
    texts: Sequence[str],
    hearing: Hearing | None,
    findings: Iterable[Finding],
    looks: Looks | None = None,
) -> tuple[tuple[ReelCommand, ...], tuple[str, ...]]:
    """The edits that mend several findings, from the end to the beginning, and the ids of those that they mend.

    `looks` gives for a reel what `mending_edit` takes as its columns.
    """
    edits: list[ReelCommand] = []
    mended: list[str] = []
    state = chapter
    for finding in sorted(findings, key=attrgetter("start"), reverse=True):
        if state.reel is None:
            break
        columns = looks(state.reel) if looks else None
        edit = mending_edit(book, state, tokens_of(book, state, texts, hearing), finding, columns)
        if edit is None:
            continue
        state = replace(state, reel=edit.apply(state.reel))
        edits.append(edit)
        mended.append(finding.id)
    return tuple(edits), tuple(mended)
