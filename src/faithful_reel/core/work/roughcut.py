"""The rough cut: a raw recording becomes a clean reel of the best readings, in one step."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from operator import attrgetter
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.audio.encode import write_audio
from faithful_reel.core.audio.files import ear_sound, full_range_info
from faithful_reel.core.audio.roomtone import find_room_tone
from faithful_reel.core.book.commands import EDITION, RoughCut
from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.collate.findings import AGAIN, SURE, Decision, Finding, Kind
from faithful_reel.core.collate.proofing import Proof, in_rate, proofed
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.files import refuse_over
from faithful_reel.core.hear.ears import Ears
from faithful_reel.core.jobs import Part, Unwatched, Watch
from faithful_reel.core.reel.commands import ReelCommand, ToneSource
from faithful_reel.core.reel.reel import Reel, reel_of
from faithful_reel.core.reel.render import FileSources, Renderer
from faithful_reel.core.splice.seam import Seam, natural_seam, seam_at
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Signal, Span
from faithful_reel.core.work.mending import Columns, before_onset, mending_edit
from faithful_reel.core.work.readings import better_take, swapped, takes_of
from faithful_reel.core.work.timeline import Hearing, finding_spans, hearing_of, tokens_of

TONE_SEARCH_S = 60
MOST_PAUSES = 200
"""Pauses of the recording that a rough cut's joins are compared with."""
Looks = Callable[[Reel], Columns]


def rough_cut(
    book: Book, chapter: ChapterState, text: Chapter, hearing: Hearing | None, looks: Looks | None = None
) -> tuple[RoughCut, Hearing]:
    """The command that leaves the best reading of every line in a chapter, and shortens its too long pauses.

    Of a line that was read several times the last complete reading stays, unless an earlier one is better
    (`better_take`): then that one is put in its place.  Cut from the end to the beginning, each with the pause that
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
    better = {t.words: t for t in takes_of(text, undecided) if better_take(text, undecided, t.finding)}
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
    reel = chapter.reel
    for edit in edits:
        reel = edit.apply(reel) if reel is not None else None
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


@dataclass(frozen=True, slots=True)
class RoughFile:
    """A rough cut that was made of a file; positions in seconds, of cuts in the original, of joins in the result."""

    cuts: tuple[tuple[Finding, float, float], ...]
    joins: tuple[tuple[float, Seam], ...]
    natural: Seam | None
    before_s: float
    after_s: float

    def as_json(self) -> dict[str, object]:
        """As documented in docs/headless.md."""
        return {
            "cuts": [
                {"kind": f.kind.value, "heard": f.heard, "start": round(a, 3), "end": round(b, 3), "confidence": f.confidence}
                for f, a, b in self.cuts
            ],
            "joins": [{"at": round(at, 3), **seam.as_json()} for at, seam in self.joins],
            "natural": self.natural.as_json() if self.natural else None,
            "seconds_before": round(self.before_s, 3),
            "seconds_after": round(self.after_s, 3),
        }


def rough_file(audio: Path, script: Chapter, out: Path, ears: Ears, watch: Watch | None = None) -> RoughFile:
    """Make a rough cut of a raw recording and write it to `out`, at the recording's rate and with its channels.

    Raises
    ------
    FileProblem, SignalError
        The recording can not be used, or the result not be written; nothing is left behind.
    """
    refuse_over(out, audio)
    heard = proofed(ear_sound(audio), script, ears, Part(watch or Unwatched(), 0.0, 0.9))
    return rough_of(heard, audio, script, out)


def rough_of(heard: Proof, audio: Path, script: Chapter, out: Path) -> RoughFile:
    """As `rough_file`, of a recording that was heard already: `heard` at the ear's rate."""
    refuse_over(out, audio)
    info = full_range_info(audio)
    proof = in_rate(heard, info.rate, Span(0, info.frames))
    files = FileSources(lambda _: audio, channels=info.channels)
    try:
        book, chapter = _one_chapter(audio, files, proof, info.rate, info.frames)
        found = _reel_of(book, chapter, script, proof, partial(_looks, files))
        renderer = Renderer(found.reel or reel_of("audio", info.frames), files)
        write_audio(out, (np.atleast_2d(x) for x in renderer.blocks()), info.rate, channels=info.channels)
        joins = list(itertools.accumulate(map(len, renderer.reel.lanes[0].segments)))[:-1]
        pauses = [(a.stop, b.start) for a, b in itertools.pairwise(proof.heard) if b.start - a.stop > info.rate // 10]
        pauses = pauses[:: len(pauses) // MOST_PAUSES + 1]
        raw = _looks(files, reel_of("audio", info.frames))  # a line is cut before an onset, a long pause in its middle
        natural_at = [at for a, b in pauses for at in ((a + b) // 2, before_onset(raw, a, b, info.rate))]
        natural_at = [at + k * info.rate // 150 for at in natural_at for k in (-2, -1, 0, 1, 2)]  # clicks within 3 ms are chance
        return RoughFile(
            _cuts(proof, found, info.rate),
            tuple((at / info.rate, _seam(renderer.render, at, len(renderer), info.rate)) for at in joins),
            natural_seam(_mono(files("audio", 0, info.frames)), natural_at, info.rate),
            info.frames / info.rate,
            len(renderer) / info.rate,
        )
    finally:
        files.close()


def _one_chapter(audio: Path, files: FileSources, proof: Proof, rate: int, frames: int) -> tuple[Book, ChapterState]:
    tone = find_room_tone(_mono(files("audio", 0, min(frames, TONE_SEARCH_S * rate))), rate)
    source = ToneSource("audio", tone.start, tone.stop) if tone else None
    recording = Recording("audio", audio.name, audio.suffix, rate, 1, frames, 0.0, -60.0, -20.0, source)
    chapter = ChapterState("c", "", "t", "audio", "h", proof.findings, reel_of("audio", frames))
    return Book(rate=rate, chapters=(chapter,), recordings=(recording,)), chapter


def _looks(files: FileSources, reel: Reel) -> Columns:
    """Minima and maxima of a reel, rendered where they are asked for."""
    render = Renderer(reel, files).render

    def columns(edges: NDArray[np.float64]) -> NDArray[np.float32]:
        at = edges.astype(int)
        x = _mono(render(int(at[0]), int(at[-1])))
        starts = at[:-1] - at[0]
        return np.stack([np.minimum.reduceat(x, starts), np.maximum.reduceat(x, starts)])

    return columns


def _reel_of(book: Book, chapter: ChapterState, script: Chapter, proof: Proof, looks: Looks) -> ChapterState:
    try:
        return rough_cut(book, chapter, script, hearing_of(proof), looks)[0].apply(book).chapters[0]
    except EditRefused:  # a clean reading: the rough cut is the recording as it is
        return chapter


def _cuts(proof: Proof, cut: ChapterState, rate: int) -> tuple[tuple[Finding, float, float], ...]:
    mended = {f.id for f in cut.findings if f.decision is Decision.MEND}
    return tuple((f, f.start / rate, f.stop / rate) for f in proof.findings if f.id in mended)


def _mono(x: Signal) -> Signal:
    mixed: Signal = np.atleast_2d(x).mean(axis=0, dtype=np.float32)
    return mixed


def _seam(render: Callable[[int, int], Signal], at: int, length: int, rate: int) -> Seam:
    first = max(0, at - 4 * rate)
    return seam_at(_mono(render(first, min(length, at + 4 * rate))), at - first, rate)
