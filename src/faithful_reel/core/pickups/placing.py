"""The sides of a splice, the takes of a line in what was heard, and the seams of what was made."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from faithful_reel.core.collate.links import Link, collated
from faithful_reel.core.collate.proofing import listen
from faithful_reel.core.hear.recogniser import Ear, Heard
from faithful_reel.core.jobs import Watch
from faithful_reel.core.pickups.ledger import Take
from faithful_reel.core.pickups.takes import find_takes, leaving_gaps, line_gaps, proposed
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.reel.render import Renderer
from faithful_reel.core.splice.boundaries import Side
from faithful_reel.core.splice.place import Plan
from faithful_reel.core.splice.seam import Seam, natural_seam, seam_at
from faithful_reel.core.text.words import chapter_of
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
    """One side of a splice; `sound` is (n,) and begins at `offset`.

    `place` maps a stretch of the recording to where it is heard; None where it was cut.
    """
    bounds = Span(0, max(h.stop for h in heard) + EAR_RATE * 60)

    def placed(gaps: Sequence[Span | None]) -> tuple[Span | None, ...]:
        return tuple(place(gap) if gap is not None else None for gap in gaps)

    entering, leaving = line_gaps(links, heard, tokens, bounds), leaving_gaps(links, heard, tokens, bounds)
    # what is read between two lines, such as another take of either, stays where it is
    return Side(sound, offset, placed((leaving[0], *entering[1:])), placed((*leaving[:-1], entering[-1])))


def take_side(sound: Signal, offset: int, line: Sequence[str], heard: Sequence[Heard], words: range) -> Side:
    """The take's side: its heard words `words` collated with the line, with what is heard before and after left in place.

    `sound` is (n,) and begins at `offset` of the take's recording.
    """
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


def heard_in(x: Signal, rate: int, ear: Ear, watch: Watch) -> list[Heard]:
    """Everything said in a pickup recording, (n,) at 16 kHz, with aligned edges; positions at `rate`."""
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
