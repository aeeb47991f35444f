"""From a line and its take to a plan: what `splice` does, and the Splice desk."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from faithful_reel.core.audio.encode import write_audio
from faithful_reel.core.audio.files import full_range_info, read_mono, resampled
from faithful_reel.core.audio.roomtone import find_room_tone
from faithful_reel.core.collate.links import Link, collated
from faithful_reel.core.collate.proofing import listen
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.files import refuse_over
from faithful_reel.core.hear.recogniser import Ear, Heard
from faithful_reel.core.jobs import Part, Unwatched, Watch
from faithful_reel.core.pickups.ledger import Take
from faithful_reel.core.pickups.takes import changed_tokens, find_line, find_takes, leaving_gaps, line_gaps, proposed
from faithful_reel.core.reel.commands import ToneSource
from faithful_reel.core.reel.reel import Reel, reel_of
from faithful_reel.core.reel.render import FileSources, Renderer
from faithful_reel.core.splice.boundaries import Side
from faithful_reel.core.splice.place import Plan, planned_splice
from faithful_reel.core.splice.seam import Seam, natural_seam, seam_at
from faithful_reel.core.text.words import Chapter, chapter_of
from faithful_reel.core.units import EAR_RATE, Signal, Span

CONTEXT_S = 2.0


def line_side(
    sound: Signal,
    offset: int,
    links: Sequence[Link],
    heard: Sequence[Heard],
    tokens: range,
    place: Callable[[Span], Span | None] = lambda span: span,
) -> Side:
    """One side of a splice.  `place` maps a stretch of the recording to where it is heard; None where it was cut."""
    bounds = Span(0, max(h.stop for h in heard) + EAR_RATE * 60)

    def placed(gaps: Sequence[Span | None]) -> tuple[Span | None, ...]:
        return tuple(place(gap) if gap is not None else None for gap in gaps)

    entering, leaving = line_gaps(links, heard, tokens, bounds), leaving_gaps(links, heard, tokens, bounds)
    # what is read between two lines, such as another take of either, stays where it is
    return Side(sound, offset, placed((leaving[0], *entering[1:])), placed((*leaving[:-1], entering[-1])))


def take_side(sound: Signal, offset: int, line: Sequence[str], heard: Sequence[Heard], words: range) -> Side:
    """The take's side: its heard words `words` collated with the line, with what is heard before and after left in place."""
    links = [
        Link(link.written, range(link.heard.start + words.start, link.heard.stop + words.start), link.same)
        for link in collated(list(line), [h.text for h in heard[words.start : words.stop]])
    ]
    return line_side(sound, offset, links, heard, range(len(line)))


@dataclass(frozen=True, slots=True)
class Spliced:
    """A splice that was made: where, how smooth, and what was replaced; positions in samples of the result's rate."""

    plan: Plan
    join_in: int
    join_out: int
    seam_in: Seam
    seam_out: Seam
    natural: Seam | None
    rate: int

    def as_json(self) -> dict[str, object]:
        """As documented in docs/headless.md."""
        seam: dict[str, object] = {"in": self.seam_in.as_json(), "out": self.seam_out.as_json(), "gain_db": self.plan.gain_db}
        if self.natural:
            seam["natural"] = self.natural.as_json()
        return {
            "join_in": round(self.join_in / self.rate, 4),
            "join_out": round(self.join_out / self.rate, 4),
            "seam": seam,
            "replaced": [round(self.plan.command.start / self.rate, 4), round(self.plan.command.stop / self.rate, 4)],
        }


def measured(reel: Reel, plan: Plan, renderer: Renderer, natural_at: Sequence[int], rate: int) -> Spliced:
    """Measure the two joins of a splice in the reel that it gave."""
    join_in = plan.command.start
    join_out = join_in + plan.command.take_stop - plan.command.take_start
    start = max(0, join_in - 4 * rate)
    stop = min(len(reel), join_out + 4 * rate)
    x = np.atleast_2d(renderer.render(start, stop)).mean(axis=0)
    natural = natural_seam(x, [at - start for at in natural_at if start + rate // 2 < at < stop - rate // 2], rate)
    return Spliced(plan, join_in, join_out, seam_at(x, join_in - start, rate), seam_at(x, join_out - start, rate), natural, rate)


def _at_rate(heard: Sequence[Heard], rate: int) -> list[Heard]:
    return [replace(h, start=round(h.start * rate / EAR_RATE), stop=round(h.stop * rate / EAR_RATE)) for h in heard]


def splice_file(
    audio: Path, script: Chapter, pickup: Path, line: str, out: Path, ear: Ear, watch: Watch | None = None
) -> Spliced:
    """Put the line of a pickup recording into a chapter recording and write the result to `out`.

    Raises
    ------
    FileProblem
        The line is not in the script, was not heard in the recording or not in the pickup.
    """
    refuse_over(out, audio, pickup)
    watch = watch or Unwatched()
    tokens = line.split()
    if not tokens:
        raise FileProblem("The line is empty. Give the corrected words.")
    at = find_line([w.text for w in script.words], tokens)
    info, pickup_info = full_range_info(audio), full_range_info(pickup)
    rate = info.rate
    sound = read_mono(audio, rate)
    first = listen(resampled(sound, rate, EAR_RATE), script, ear, Part(watch, 0.0, 0.6))
    take_sound = read_mono(pickup, rate)
    line_chapter = chapter_of("line", [line])
    second = listen(resampled(take_sound, rate, EAR_RATE), line_chapter, ear, Part(watch, 0.6, 0.9))
    takes = find_takes(tokens, second.heard)
    chosen = proposed(takes)
    if chosen < 0:
        raise FileProblem(f"The line was not heard in {pickup.name}. Check that this is the right pickup file.")
    heard, take_heard = _at_rate(first.heard, rate), _at_rate(second.heard, rate)
    span = range(at, at + len(tokens))
    if not any(link.heard for link in first.links if link.written and link.written.start in span):
        raise FileProblem(f"The line was not heard in {audio.name}, so there is no place to put it. Check the script.")
    words = takes[chosen].words
    around = [heard[j] for link in first.links if link.written.start in span and link.written for j in link.heard]
    lo, hi = max(0, min(h.start for h in around) - round(CONTEXT_S * rate)), max(h.stop for h in around) + round(CONTEXT_S * rate)
    take_lo = max(0, take_heard[words.start].start - rate // 2)
    take_hi = take_heard[words.stop - 1].stop + rate // 2
    tone = find_room_tone(sound, rate)
    plan = planned_splice(
        line_side(sound[lo:hi], lo, first.links, heard, span),
        take_side(take_sound[take_lo:take_hi], take_lo, tokens, take_heard, takes[chosen].words),
        changed_tokens(first.links, span),
        rate,
        recording="pickup",
        tone=ToneSource("audio", tone.start, tone.stop) if tone else ToneSource("", 0, 0),
    )
    reel = plan.command.apply(reel_of("audio", len(sound)))
    return _written(reel, plan, heard, audio, pickup, pickup_info.rate, take_sound, out, rate, info.channels)


def _written(
    reel: Reel,
    plan: Plan,
    heard: Sequence[Heard],
    audio: Path,
    pickup: Path,
    pickup_rate: int,
    take_sound: Signal,
    out: Path,
    rate: int,
    channels: int,
) -> Spliced:
    files = FileSources(lambda name: audio if name == "audio" else pickup, channels=channels)

    def source(recording: str, start: int, stop: int) -> Signal:
        if recording == "pickup" and (pickup_rate != rate or channels > 1):
            x = np.zeros(stop - start, np.float32)
            lo, hi = max(0, start), min(len(take_sound), stop)
            x[lo - start : hi - start] = take_sound[lo:hi]
            return np.broadcast_to(x, (channels, len(x))) if channels > 1 else x
        return files(recording, start, stop)

    try:
        renderer = Renderer(reel, source)
        write_audio(out, (np.atleast_2d(x) for x in renderer.blocks()), rate, channels=channels)
        natural_at = [(a.stop + b.start) // 2 for a, b in itertools.pairwise(heard) if a.stop < plan.command.start - rate // 10]
        return measured(reel, plan, renderer, natural_at[-8:], rate)
    finally:
        files.close()


def heard_in(x: Signal, rate: int, ear: Ear, watch: Watch) -> list[Heard]:
    """Everything said in a pickup recording at 16 kHz, with aligned edges; positions at `rate`."""
    return _at_rate(listen(x, chapter_of("pickups", ["pickups"]), ear, watch).heard, rate)


def takes_of(line: str, heard: Sequence[Heard], recording: str) -> tuple[tuple[Take, ...], int]:
    """The takes of one line in what was heard, and the one that is proposed (-1 for none)."""
    tokens = line.split()
    found = find_takes(tokens, heard)
    takes = []
    for take in found:
        words = heard[take.words.start : take.words.stop]
        edges = [(-1, -1)] * len(tokens)
        for link in collated(tokens, [h.text for h in words]):
            if link.written and len(link.written) == len(link.heard):
                for i, j in zip(link.written, link.heard, strict=True):
                    edges[i] = (words[j].start, words[j].stop)
            elif link.written and link.heard:
                edges[link.written.start] = (words[link.heard.start].start, words[link.heard.stop - 1].stop)
        first, stop = max(0, take.words.start - 1), min(len(heard), take.words.stop + 1)
        takes.append(
            Take(
                recording,
                words[0].start,
                words[-1].stop,
                take.departures,
                " ".join(h.text for h in words),
                tuple(edges),
                tuple((h.text, h.start, h.stop) for h in heard[first:stop]),
                (take.words.start - first, take.words.stop - first),
            )
        )
    return tuple(takes), proposed(found)
