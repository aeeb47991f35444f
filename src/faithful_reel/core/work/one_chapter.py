"""The words of the shell that edit plain files: a book of one chapter, made in memory, on which the window's own code works."""

from __future__ import annotations

import itertools
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

from faithful_reel.core.audio.encode import write_audio
from faithful_reel.core.audio.files import channels_of, ear_sound_of, full_range_info, mono_blocks
from faithful_reel.core.audio.pcm import PcmWriter
from faithful_reel.core.audio.sources import FileSources
from faithful_reel.core.book.commands import EDITION
from faithful_reel.core.book.model import Book, ChapterState, Recording
from faithful_reel.core.book.pickups import ReceiveTakes
from faithful_reel.core.book.recordings import examined
from faithful_reel.core.collate.findings import Decision, Finding
from faithful_reel.core.collate.proofing import Proof, in_rate, proofed
from faithful_reel.core.errors import EditRefused, FileProblem
from faithful_reel.core.files import hash_of, refuse_over, shown, why
from faithful_reel.core.hear.ears import Ears
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.jobs import Part, Unwatched, Watch
from faithful_reel.core.pickups.ledger import Pickup, State
from faithful_reel.core.pickups.takes import find_line
from faithful_reel.core.reel.reel import Reel, reel_of
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.splice.match import Switches
from faithful_reel.core.splice.place import Choice, Plan
from faithful_reel.core.splice.seam import JudgedSeam, Seam, natural_seam, seam_at
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import Signal, Span
from faithful_reel.core.work.hearing_again import heard_again
from faithful_reel.core.work.mending import Columns, before_onset
from faithful_reel.core.work.receiving import matched_takes
from faithful_reel.core.work.roughcut import rough_cut
from faithful_reel.core.work.seams import natural_of, seam_in
from faithful_reel.core.work.splicing import Preview, preview_splice
from faithful_reel.core.work.timeline import Hearing, hearing_of

MOST_TRIED = 6
"""So many pairs of places are tried for a splice of which every word is heard as written."""
MOST_PAUSES = 200
"""Pauses of the recording that a rough cut's joins are compared with."""


@dataclass(frozen=True, slots=True)
class OneChapter:
    """A chapter recording with its text and what was heard of it; the book's rate is the recording's own."""

    book: Book
    text: Chapter
    hearing: Hearing

    @property
    def chapter(self) -> ChapterState:
        """The only one."""
        return self.book.chapters[0]


def one_chapter(audio: Path, text: Chapter, heard: Proof) -> OneChapter:
    """A book whose only chapter is read by a file; `heard` is at the ear's rate.

    Raises
    ------
    FileProblem
        The file can not be read.
    """
    rate = full_range_info(audio).rate
    recording = _recording(audio, rate)
    proof = in_rate(heard, rate, Span(0, recording.length))
    hearing = hearing_of(proof)
    reel = reel_of(recording.hash, recording.length)
    chapter = ChapterState("c", text.title, "text", recording.hash, "hearing", proof.findings, reel)
    return OneChapter(Book(rate=rate, chapters=(chapter,), recordings=(recording,)), text, hearing)


def _recording(path: Path, rate: int) -> Recording:
    known = examined(path, rate)
    name = hash_of(path)
    return replace(known, hash=name, tone=replace(known.tone, recording=name) if known.tone else None)


# --- rough ------------------------------------------------------------------------------------------------------------


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


def rough_file(
    audio: Path, script: Chapter, out: Path, ears: Ears, watch: Watch | None = None, memory: Memory | None = None
) -> RoughFile:
    """Make a rough cut of a raw recording and write it to `out`, at the recording's rate and with its channels.

    `memory` as in `proofed`.

    Raises
    ------
    FileProblem, SignalError
        The recording can not be used, or the result not be written; nothing is left behind.
    """
    refuse_over(out, audio)
    heard = proofed(ear_sound_of(audio), script, ears, Part(watch or Unwatched(), 0.0, 0.9), memory=memory)
    return rough_of(heard, audio, script, out)


def rough_of(heard: Proof, audio: Path, script: Chapter, out: Path) -> RoughFile:
    """As `rough_file`, of a recording that was heard already: `heard` at the ear's rate."""
    refuse_over(out, audio)
    one = one_chapter(audio, script, heard)
    rate, channels = one.book.rate, full_range_info(audio).channels
    files = FileSources(lambda _: audio, channels=channels)
    looks = partial(_looks, files)
    assert one.chapter.reel is not None
    try:
        try:
            command, _ = rough_cut(one.book, one.chapter, script, one.hearing, looks)
            made = command.apply(one.book).chapters[0]
        except EditRefused:  # a clean reading: the rough cut is the recording as it is
            made = one.chapter
        assert made.reel is not None
        renderer = Renderer(made.reel, files)
        write_audio(out, (np.atleast_2d(x) for x in renderer.blocks()), rate, channels=channels)
        joins = list(itertools.accumulate(map(len, made.reel.lanes[0].segments)))[:-1]
        mended = {f.id for f in made.findings if f.decision is Decision.MEND}
        return RoughFile(
            tuple((f, f.start / rate, f.stop / rate) for f in one.chapter.findings if f.id in mended),
            tuple((at / rate, _seam(renderer, at, rate)) for at in joins),
            _natural(one, files),
            len(one.chapter.reel) / rate,
            len(renderer) / rate,
        )
    finally:
        files.close()


def _natural(one: OneChapter, files: FileSources) -> Seam | None:
    """What joins are like in this recording where nothing was cut: a line is cut before an onset, a pause in its middle."""
    rate, reel = one.book.rate, one.chapter.reel
    assert reel is not None
    pauses = [(a.stop, b.start) for a, b in itertools.pairwise(one.hearing.heard) if b.start - a.stop > rate // 10]
    pauses = pauses[:: len(pauses) // MOST_PAUSES + 1]
    raw = _looks(files, reel)
    places = [at for a, b in pauses for at in ((a + b) // 2, before_onset(raw, a, b, rate))]
    places = [at + k * rate // 150 for at in places for k in (-2, -1, 0, 1, 2)]  # clicks within 3 ms are chance
    return natural_seam(_mono(files(one.chapter.recording, 0, len(reel))), places, rate)


def _looks(files: FileSources, reel: Reel) -> Columns:
    """Minima and maxima of a reel, rendered where they are asked for."""
    render = Renderer(reel, files).render

    def columns(edges: NDArray[np.float64]) -> NDArray[np.float32]:
        at = edges.astype(int)
        x = _mono(render(int(at[0]), int(at[-1])))
        starts = at[:-1] - at[0]
        return np.stack([np.minimum.reduceat(x, starts), np.maximum.reduceat(x, starts)])

    return columns


def _mono(x: Signal) -> Signal:
    mixed: Signal = np.atleast_2d(x).mean(axis=0, dtype=np.float32)
    return mixed


def _seam(renderer: Renderer, at: int, rate: int) -> Seam:
    first = max(0, at - 4 * rate)
    return seam_at(_mono(renderer.render(first, min(len(renderer), at + 4 * rate))), at - first, rate)


# --- splice -----------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class SplicedFile:
    """A line that was put into a file: how, and the seams of both joins."""

    preview: Preview
    seam_in: JudgedSeam
    seam_out: JudgedSeam
    wrong: tuple[str, ...] = ()
    """What the ears do not hear as written in the line as it then stands."""

    def as_json(self) -> dict[str, object]:
        """As documented in docs/headless.md."""
        seams = {"in": self.seam_in.as_json(), "out": self.seam_out.as_json()}
        return self.preview.as_json() | {"seam": seams, "wrong": list(self.wrong)}


def splice_file(
    audio: Path,
    script: Chapter,
    pickup: Path,
    line: str,
    out: Path,
    ears: Ears,
    watch: Watch | None = None,
    memory: Memory | None = None,
    switches: Switches | None = None,
) -> SplicedFile:
    """Put the line of a pickup recording into a chapter recording and write the result to `out`.

    `memory` as in `proofed`; what is matched by `switches`, else as usual.  The ears hear the line as it then stands; where it is
    not as written the next best places are tried, and what is still wrong is told.

    Raises
    ------
    FileProblem, SignalError
        The line is not in the script, was not heard in the recording or not in the pickup; or a file can not be used.
    EditRefused
        No boundary fits.
    """
    refuse_over(out, audio, pickup)
    watch = watch or Unwatched()
    tokens = line.split()
    if not tokens:
        raise FileProblem("The line is empty. Give the corrected words.")
    at = find_line([w.text for w in script.words], tokens)
    full_range_info(pickup)
    one = one_chapter(audio, script, proofed(ear_sound_of(audio), script, ears, Part(watch, 0.0, 0.6), memory=memory))
    span = range(at, at + len(tokens))
    there = [k for k in one.hearing.link_rows() if k.written and k.written.start in span and k.heard]
    if not there:
        raise FileProblem(f"The line was not heard in {audio.name}, so there is no place to put it. Check the script.")
    with _at_rate(pickup, one.book.rate) as sound:
        return _spliced(one, audio, pickup, sound, _wanted(one, line, span), out, ears, Part(watch, 0.6, 1.0), memory, switches)


def _wanted(one: OneChapter, line: str, span: range) -> Pickup:
    heard = [one.hearing.heard[j] for k in one.hearing.link_rows() if k.written and k.written.start in span for j in k.heard]
    said = " ".join(h.text for h in heard)
    start, stop = min(h.start for h in heard), max(h.stop for h in heard)
    return Pickup("pickup", one.chapter.id, (), line, said, span.start, len(span), start, stop)


def _spliced(
    one: OneChapter,
    audio: Path,
    pickup: Path,
    sound: Path,
    wanted: Pickup,
    out: Path,
    ears: Ears,
    watch: Watch,
    memory: Memory | None,
    switches: Switches | None,
) -> SplicedFile:
    rate = one.book.rate
    taken = hash_of(pickup)
    matched, _ = matched_takes(sound, taken, rate, [wanted], ears, Part(watch, 0.0, 0.5), memory)
    if not matched:
        raise FileProblem(f"The line was not heard in {pickup.name}. Check that this is the right pickup file.")
    book = ReceiveTakes(taken, matched, EDITION).apply(replace(one.book, pickups=(wanted,)))
    paths = {one.chapter.recording: audio} | ({taken: sound} if taken != one.chapter.recording else {})
    mixed = FileSources(paths.__getitem__)
    files = FileSources(paths.__getitem__, channels=full_range_info(audio).channels)
    try:
        plain = partial(Renderer, source=mixed)
        preview, wrong = _as_written(one, book, plain, ears, Part(watch, 0.5, 1.0), memory, switches)
        whole = Renderer(preview.reel, preview.source(files))
        write_audio(out, (np.atleast_2d(x) for x in whole.blocks()), rate, channels=full_range_info(audio).channels)

        def rendering(reel: Reel) -> Renderer:
            return Renderer(reel, preview.source(mixed))

        natural = natural_of(book, one.chapter, one.hearing, preview.lane, rendering)
        lane = preview.lane
        seams = [seam_in(preview.reel, lane, at, natural, rendering, rate) for at in preview.joins]
        return SplicedFile(preview, seams[0], seams[1], wrong)
    finally:
        mixed.close()
        files.close()


def _as_written(
    one: OneChapter,
    book: Book,
    render_of: Callable[[Reel], Renderer],
    ears: Ears,
    watch: Watch,
    memory: Memory | None,
    switches: Switches | None,
) -> tuple[Preview, tuple[str, ...]]:
    """The best splice, of a few, of which the ears hear every word as written; else that with the least wrong, and that."""
    pickup = book.pickups[0]
    plan = partial(preview_splice, book, one.chapter, pickup, one.hearing, render_of, switches=switches)
    best = plan()
    least: tuple[str, ...] = ()
    for k, choice in enumerate((None, *_next_best(best.plan))):
        watch.tick(k / MOST_TRIED, "hearing the result")
        try:
            made = best if choice is None else plan(choice=choice)
        except EditRefused:
            continue
        put = replace(pickup, placed=(made.placed(made.matched.id, pickup.chosen, pickup.word_count),), state=State.SPLICED)
        chapter = replace(one.chapter, reel=made.reel)
        now = replace(book, pickups=(put,), chapters=(chapter,))
        source = made.source(render_of(made.reel).source)
        wrong = heard_again(
            now, chapter, one.text, one.hearing, put.words, partial(Renderer, source=source), ears, Unwatched(), memory
        ).wrong
        if choice is None or len(wrong) < len(least):
            best, least = made, wrong
        if not least:
            break
    return best, least


def _next_best(plan: Plan) -> list[Choice]:
    """Other pairs of places than the chosen one, the cheapest first."""
    pairs = [
        (a.score + b.score, Choice(i, j))
        for (i, a), (j, b) in itertools.product(enumerate(plan.entering[:MOST_TRIED]), enumerate(plan.leaving[:MOST_TRIED]))
        if (i, j) != (0, 0) and (a, b) != (plan.chosen_in, plan.chosen_out) and b.take > a.take and b.original >= a.original
    ]
    return [choice for _, choice in sorted(pairs, key=lambda pair: pair[0])][: MOST_TRIED - 1]


@contextmanager
def _at_rate(path: Path, rate: int) -> Iterator[Path]:
    """A file's sound, mixed down and at a rate, in a temporary file without a name: it is gone however we end."""
    with tempfile.TemporaryFile() as held:
        copy = Path(f"/proc/self/fd/{held.fileno()}")
        try:
            with PcmWriter(copy, rate, 1, "FLOAT", "RF64") as file:
                for x in mono_blocks(path, rate, channels_of(path).weights):
                    file.write(x)
        except (soundfile.LibsndfileError, OSError) as problem:
            raise FileProblem(f"{shown(path)} could not be decoded{why(problem)}. Make room and try again.") from problem
        yield copy
