"""Proofing a chapter: every ear hears it without the script, the readings are held against the text and each other."""

from __future__ import annotations

import importlib.util
import itertools
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from faithful_reel.core.audio.files import let_go
from faithful_reel.core.collate.clicks import Click
from faithful_reel.core.collate.findings import Difference, Evidence, Finding
from faithful_reel.core.collate.links import Link, collated
from faithful_reel.core.collate.noises import flaws_of, levels_of
from faithful_reel.core.collate.places import EARS, Judged, Place, Reading, read_chunk, reads_as, run_key
from faithful_reel.core.collate.retakes import beside_kept, judged_alike, where_faint, with_marks
from faithful_reel.core.errors import SignalError
from faithful_reel.core.hear.aligner import HELPERS, Aligner
from faithful_reel.core.hear.ears import ENGLISH, Ears
from faithful_reel.core.hear.grammar import Grammar
from faithful_reel.core.hear.helper import give_back
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.hear.pauses import Chunk, chunks_of
from faithful_reel.core.hear.pronounce import phone_distance, phones_of
from faithful_reel.core.hear.recogniser import THREADS, Ear, Heard, hear, passing, words_in
from faithful_reel.core.jobs import Part, Unwatched, Watch, at_once
from faithful_reel.core.text.spoken import plain, sound_key, spoken_forms
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import EAR_RATE, Signal, Span

TIDIED = "every ear wrote it once; the sound fits it said twice"
BY_ONE_EAR = "by the multilingual ear alone, without a witness"
NEAR_CUT, FAR_CUT, TIE = 3, 40, 0.65
"""Words by which the first ear may be wrong about where a chunk begins, and by which it may be, clauses at a time, where it
took the first copy of one for the last or lost what a chunk begins or ends with.  What two ways may differ by and still be as
good, by an ear: where one more row of words is too many.
"""
BELIEVED = 2
"""Ears that say in which chunk words stand: those that have least against it, since one may have lost a clause there."""
GIVE_BACK_EVERY = 32
"""Chunks; what the first pass took would else stay with us while two ears are at work."""
LEAST = 0.05
"""Below this nothing is said: one ear misheard what the sound itself does not bear out.  Of what lies between it and what is
shown, at most 15 in a thousand words of real readings are nothing (measured).
"""


@dataclass(frozen=True, slots=True)
class Placed:
    """Where a written word is spoken, in samples at the ear's rate; None where it is not read."""

    start: int
    stop: int
    confidence: float


@dataclass(frozen=True, slots=True)
class Proof:
    """All that was found out about a chapter; positions in samples at the ear's rate (16 kHz)."""

    heard: tuple[Heard, ...]
    placed: tuple[Placed | None, ...]
    findings: tuple[Finding, ...]
    links: tuple[Link, ...]
    seconds: float


@dataclass(frozen=True, slots=True)
class Pass:
    """What one pass over the recording gave; heard words carry aligned edges."""

    chunks: list[Chunk]
    heard: list[Heard]
    owner: list[int]  # chunk of every heard word
    links: list[Link]


def listen(x: Signal, chapter: Chapter, ear: Ear, watch: Watch) -> Pass:
    """One ear over the whole recording, (n,) at 16 kHz, collated, every heard word placed by alignment.

    Raises
    ------
    SignalError
        Nobody speaks in the recording.
    """
    first = first_pass(x, chapter, ear, Part(watch, 0.0, 0.8))
    with Aligner() as aligner:
        heard = _with_edges(x, chapter, first.chunks, first.heard, first.owner, first.links, aligner, Part(watch, 0.8, 1.0))
    return replace(first, heard=heard)


def first_pass(
    x: Signal,
    chapter: Chapter,
    ear: Ear,
    watch: Watch,
    early: Callable[[Proof], None] | None = None,
    memory: Memory | None = None,
) -> Pass:
    """One ear over the whole recording, (n,) at 16 kHz, collated; words at the ear's own times.

    `early` and `memory` as in `proofed`.

    Raises
    ------
    SignalError
        Nobody speaks in the recording.
    """
    chunks = chunks_of(x, EAR_RATE)
    if not chunks:
        raise SignalError("Nobody speaks in this recording. Choose the recording of this chapter.")
    heard: list[Heard] = []
    owner: list[int] = []
    told = 20 * EAR_RATE
    for index, words in enumerate(hear(ear, x, chunks, watch, memory)):
        heard += words
        owner += [index] * len(words)
        let_go(x)
        if early and heard and chunks[index].span.stop >= told:
            told = round(1.5 * chunks[index].span.stop)
            early(_so_far(x, chapter, chunks[: index + 1], heard, owner))
    if not heard:
        raise SignalError("No words were heard in this recording. Choose the recording of this chapter.")
    return Pass(chunks, heard, owner, collated([w.text for w in chapter.words], [h.text for h in heard]))


def _with_edges(
    x: Signal,
    chapter: Chapter,
    chunks: list[Chunk],
    heard: list[Heard],
    owner: list[int],
    links: list[Link],
    aligner: Aligner,
    watch: Watch,
) -> list[Heard]:
    """Replace the recogniser's stamps by aligned edges, chunk by chunk, as-heard words only."""
    spoken = {j: spoken_forms(h.text)[0] for j, h in enumerate(heard)}
    for link in links:  # a number is aligned as the reading that the two sides agree on
        if link.same and len(link.heard) == len(link.written) == 1:
            mine = {tuple(map(sound_key, f)): f for f in spoken_forms(heard[link.heard.start].text)}
            for form in spoken_forms(chapter.words[link.written.start].text):
                if (key := tuple(map(sound_key, form))) in mine:
                    spoken[link.heard.start] = mine[key]
                    break
    out = list(heard)
    by_chunk: dict[int, list[int]] = {}
    for j, chunk in enumerate(owner):
        by_chunk.setdefault(chunk, []).append(j)

    def edges(chunk: int) -> dict[int, Span]:
        return aligner.edges(x, chunks[chunk].span, [(j, spoken[j]) for j in by_chunk[chunk]])

    for done, found in enumerate(at_once(edges, list(by_chunk)), 1):
        for j, span in found.items():
            out[j] = replace(heard[j], start=span.start, stop=span.stop)
        let_go(x)
        watch.tick(done / len(by_chunk), "placing words")
    return out


def placed_words(chapter: Chapter, heard: Sequence[Heard], links: Sequence[Link]) -> tuple[Placed | None, ...]:
    """For every written word the stretch that reads it, rightly or not; None for a word that was not read."""
    placed: list[Placed | None] = [None] * len(chapter.words)
    for link in links:
        if not link.written or not link.heard:
            continue
        parts = [heard[j] for j in link.heard]
        start, stop = parts[0].start, parts[-1].stop
        sure = min(p.confidence for p in parts) * (1.0 if link.same else 0.5)
        count = len(link.written)
        if count == len(parts):
            for i, part in zip(link.written, parts, strict=True):
                placed[i] = Placed(part.start, part.stop, part.confidence * (1.0 if link.same else 0.5))
            continue
        sizes = [len(plain(chapter.words[i].text)) or 1 for i in link.written]
        cuts = np.concatenate([[0], np.cumsum(sizes)]) / sum(sizes) * (stop - start) + start
        for k, i in enumerate(link.written):
            placed[i] = Placed(round(cuts[k]), round(cuts[k + 1]), sure)
    return tuple(placed)


def aligned(
    x: Signal, chapter: Chapter, ears: Ears, watch: Watch | None = None, memory: Memory | None = None
) -> tuple[Placed | None, ...]:
    """Where every written word is spoken, by what the ears agree on: what the headless `align` gives.

    `x` is (n,) at 16 kHz; all else, and what is raised, as in `proofed`.
    """
    return proofed(x, chapter, ears, watch, memory=memory).placed


def proofed(
    x: Signal,
    chapter: Chapter,
    ears: Ears,
    watch: Watch | None = None,
    early: Callable[[Proof], None] | None = None,
    memory: Memory | None = None,
    clicks: Callable[[Watch], Sequence[Click]] | None = None,
) -> Proof:
    """Hear, collate, weigh.

    Parameters
    ----------
    x : (n,) float32 array
        The recording at 16 kHz, mono.
    chapter : Chapter
        What is written.
    ears : Ears
        The first ear hears all and tells which stretch of the text every chunk reads; the others, where they are
        installed, hear it again, the second where one of the two before it departs from the text.  Where the readings
        part the phones are asked how well each fits the sound.
    early : callable
        Called, in the job's own thread, with a proof of as much as the first ear has heard: after 20 s of sound, and
        each time half as much again was heard.
    memory : Memory
        What was heard before, by content: what is found there is not heard again.
    clicks : callable
        Gives the clicks of a few samples, which are looked for at the recording's own rate (`clicks_in`); asked at the end,
        since first findings do not wait for them.

    Raises
    ------
    SignalError
        Nobody speaks in the recording.
    """
    watch = watch or Unwatched()
    memory = memory or Memory()
    with passing(ears.first):
        first = first_pass(x, chapter, ears.first, Part(watch, 0.0, 0.2 if ears.language == ENGLISH else 1.0), early, memory)
    if ears.language != ENGLISH:
        return _by_one_ear(x, chapter, first, clicks(watch) if clicks else ())
    with Aligner(memory) as aligner:
        readings = read_again(x, chapter, first, ears, aligner, Part(watch, 0.2, 0.9), memory)
        heard, owner, links = _agreed(chapter, readings)
        heard = _with_edges(x, chapter, first.chunks, heard, owner, links, aligner, Part(watch, 0.9, 0.97))
        placed = placed_words(chapter, heard, links)
        levels = levels_of(x)
        departed = where_faint(_departures(chapter, readings, heard, placed), heard, levels)
        written, starts = [w.text for w in chapter.words], frozenset(s.start for s in chapter.sentences())
        departed = judged_alike(departed, _at(readings, heard), written, starts, lambda span, texts: aligner.fits(x, span, texts))
    found = departed + flaws_of(x, chapter, heard, links, levels=levels, clicks=clicks(Part(watch, 0.97, 1.0)) if clicks else ())
    spans = [Span(p.start, p.stop) if p else None for p in placed]
    findings = with_marks(beside_kept(found, heard, spans, levels), heard)
    findings.sort(key=lambda f: (f.start, f.word_index))
    watch.tick(1.0, "done")
    numbered = tuple(replace(f, id=f"f{n:04d}") for n, f in enumerate(findings, 1))
    return Proof(tuple(heard), placed, numbered, tuple(links), len(x) / EAR_RATE)


def _by_one_ear(x: Signal, chapter: Chapter, first: Pass, clicks: Sequence[Click]) -> Proof:
    """A proof by the first ear alone, with times of its own: what there is for other languages than English."""
    written = [w.text for w in chapter.words]
    starts = frozenset(s.start for s in chapter.sentences())
    segments = segments_of(first, written)
    mine: list[list[Heard]] = [[] for _ in first.chunks]
    for word, chunk in zip(first.heard, first.owner, strict=True):
        mine[chunk].append(word)
    readings = [read_chunk(segments[k], written, starts, {"first": words}) for k, words in enumerate(mine)]
    heard, _, links = _agreed(chapter, readings)
    placed = placed_words(chapter, heard, links)
    departed = [replace(f, evidence=replace(f.evidence, note=BY_ONE_EAR)) for f in _departures(chapter, readings, heard, placed)]
    findings = sorted(departed + flaws_of(x, chapter, heard, links, clicks=clicks), key=lambda f: (f.start, f.word_index))
    numbered = tuple(replace(f, id=f"f{n:04d}") for n, f in enumerate(findings, 1))
    return Proof(tuple(heard), placed, numbered, tuple(links), len(x) / EAR_RATE)


def wake(watch: Watch) -> None:
    """Import and compile what a hearing stands on: that holds Python's lock for long moments, so better before the work."""
    watch.tick(0.0, "waking")
    if importlib.util.find_spec("pocketsphinx"):  # what is missing is told when it is needed
        collated(["one", "two"], ["one", "too", "many"])


def _so_far(x: Signal, chapter: Chapter, chunks: list[Chunk], heard: list[Heard], owner: list[int]) -> Proof:
    """A proof of the beginning of a recording, by the first ear alone; its times are the ear's own."""
    written = [w.text for w in chapter.words]
    links = collated(written[: 2 * len(heard) + 60], [h.text for h in heard])
    while links and not links[-1].same:  # what comes next was not heard yet
        links.pop()
    read = links[-1].written.stop if links else 0
    heard = heard[: links[-1].heard.stop if links else 0]
    listening = Pass(chunks, heard, owner[: len(heard)], links)
    mine: dict[int, list[Heard]] = {}
    for word, chunk in zip(heard, owner, strict=False):
        mine.setdefault(chunk, []).append(word)
    starts = frozenset(s.start for s in chapter.sentences())
    segments = segments_of(listening, written[:read])
    readings = [read_chunk(segments[k], written, starts, {"first": words}) for k, words in mine.items()]
    agreed = [w for reading in readings for w in reading.words]
    links = collated(written[:read], [w.text for w in agreed])
    placed = placed_words(chapter, agreed, links)
    findings = sorted(_departures(chapter, readings, agreed, placed), key=lambda f: (f.start, f.word_index))
    numbered = tuple(replace(f, id=f"f{n:04d}") for n, f in enumerate(findings, 1))
    return Proof(tuple(agreed), placed, numbered, tuple(links), len(x) / EAR_RATE)


def _agreed(chapter: Chapter, readings: Sequence[Reading]) -> tuple[list[Heard], list[int], list[Link]]:
    heard = [w for reading in readings for w in reading.words]
    owner = [k for k, reading in enumerate(readings) for _ in reading.words]
    return heard, owner, collated([w.text for w in chapter.words], [h.text for h in heard])


def _at(readings: Sequence[Reading], heard: Sequence[Heard]) -> list[Reading]:
    """The readings with their words where they were placed."""
    found, at = [], 0
    for reading in readings:
        found.append(replace(reading, words=tuple(heard[at : at + len(reading.words)])))
        at += len(reading.words)
    return found


def read_again(
    x: Signal, chapter: Chapter, first: Pass, ears: Ears, aligner: Aligner, watch: Watch, memory: Memory
) -> list[Reading]:
    """What the ears agree on in every chunk of (n,) audio at 16 kHz, and where they do not all read what is written."""
    written = [w.text for w in chapter.words]
    starts = frozenset(s.start for s in chapter.sentences())
    versions: list[dict[str, list[Heard]]] = [{ears.first.witness: []} for _ in first.chunks]
    for word, chunk in zip(first.heard, first.owner, strict=True):
        versions[chunk][ears.first.witness].append(word)
    others = [ear for ear in (ears.second, ears.third) if ear is not None]
    segments = segments_of(first, written)

    def again(chunk: int) -> dict[str, list[Heard]]:
        """What the others hear in a chunk; the second, which takes longest, only where one before it departs from the text."""
        text = [written[i] for i in segments[chunk]]
        heard: dict[str, list[Heard]] = {}
        if ears.third:
            heard[ears.third.witness] = words_in(ears.third, x, first.chunks[chunk].span, memory)
        alike = [reads_as([w.text for w in words], text) for words in (*versions[chunk].values(), *heard.values())]
        if ears.second and not (ears.third and all(alike)):
            heard[ears.second.witness] = words_in(ears.second, x, first.chunks[chunk].span, memory)
        return heard

    with passing(*others):
        for chunk, heard in enumerate(at_once(again, range(len(first.chunks)), THREADS) if others else ()):
            versions[chunk] |= heard
            let_go(x)
            if chunk % GIVE_BACK_EVERY == 0:
                give_back()
            watch.tick(0.7 * (chunk + 1) / len(first.chunks), "listening again")
    segments = _recut(segments, written, versions)

    def fits(span: Span, texts: Sequence[Sequence[str]]) -> list[float | None]:
        return aligner.fits(x, span, texts)

    def decoded(span: Span, grammar: Grammar) -> list[tuple[str, int, int]] | None:
        return aligner.read(x, span, grammar)

    def read(chunk: int) -> Reading:
        sound = first.chunks[chunk].span
        asked = (fits, sound, decoded) if others else ()
        return read_chunk(segments[chunk], written, starts, versions[chunk], *asked)

    readings: list[Reading] = []
    for reading in at_once(read, range(len(first.chunks)), HELPERS):
        readings.append(reading)
        let_go(x)
        watch.tick(0.7 + 0.3 * len(readings) / len(first.chunks), "weighing")
    return readings


_CLAUSE_END = re.compile(r"[.,;:!?…—–-][\"'”’)]*$")


def segments_of(first: Pass, written: Sequence[str]) -> list[range]:
    """Which tokens of the chapter every chunk reads, by what the first ear made of it; together they are the chapter.

    Words that it heard in no chunk are given to the chunk before or after them: the cut is made where a clause ends.
    """
    count = len(first.chunks)
    lo, hi = [-1] * count, [-1] * count
    for link in first.links:
        if link.written and link.heard:
            chunk = first.owner[link.heard.start]
            lo[chunk] = link.written.start if lo[chunk] < 0 else lo[chunk]
            hi[chunk] = link.written.stop
    segments: list[range] = []
    at = 0
    pending: list[int] = []  # chunks that read nothing of their own, since the last that did
    last = -1
    for chunk in [*(k for k in range(count) if lo[k] >= 0), count]:
        start = lo[chunk] if chunk < count else len(written)
        stop = start if chunk < count and last < 0 else _cut(written, at, start, last=chunk == count)
        if last < 0:
            stop = at
        pending = list(range(last + 1, chunk))
        if last >= 0:
            segments[last] = range(segments[last].start, stop)
        segments += [range(stop, stop) for _ in pending]
        if chunk < count:
            segments.append(range(stop, hi[chunk]))
            at, last = hi[chunk], chunk
    return segments


def _recut(segments: list[range], written: Sequence[str], versions: Sequence[dict[str, list[Heard]]]) -> list[range]:
    """The segments with every cut where the ears together have least to say against it.

    Of ways that are as good the first: of a line that was read twice the last copy is taken.
    """
    out = list(segments)

    def against(segment: range, chunk: int) -> float:
        text = [written[i] for i in segment]
        by_ear = sorted(_unlike(text, [w.text for w in words]) for words in versions[chunk].values())
        return sum(by_ear[:BELIEVED]) / len(by_ear[:BELIEVED])

    def heard_so(chunk: int, part: slice, words: Sequence[str]) -> bool:
        return all(run_key(w.text for w in said[part]) == run_key(words) for said in versions[chunk].values())

    owners: list[int] = []
    while owners != (now := [k for k, segment in enumerate(out) if segment]):  # again where one gave all it had away
        owners = now
        for before, after in itertools.pairwise(owners):
            _cut_anew(before, after, out, written, heard_so, against)
    return out


def _cut_anew(
    before: int,
    after: int,
    out: list[range],
    written: Sequence[str],
    heard_so: Callable[[int, slice, Sequence[str]], bool],
    against: Callable[[range, int], float],
) -> None:
    """Cut between the segments of two chunks where there is least to say against it."""
    start, cut, stop = out[before].start, out[after].start, out[after].stop
    if heard_so(before, slice(-2, None), written[cut - 2 : cut]) and heard_so(after, slice(2), written[cut : cut + 2]):
        return  # nobody has anything to say against it
    near = range(max(start, cut - NEAR_CUT), min(stop, cut + NEAR_CUT) + 1)
    far = range(max(start, cut - FAR_CUT), min(stop, cut + FAR_CUT) + 1)
    clauses = [k for k in far if k == 0 or _CLAUSE_END.search(written[k - 1])]
    tries = [(against(range(start, k), before) + against(range(k, stop), after), k) for k in sorted({*near, *clauses})]
    least = min(tries)[0]
    cut = next(k for weight, k in tries if weight <= least + TIE)
    out[before], out[after] = range(start, cut), range(cut, stop)
    out[before + 1 : after] = [range(cut, cut)] * (after - before - 1)


def _unlike(written: Sequence[str], heard: Sequence[str]) -> float:
    """How much a chunk differs from a stretch of text; little where they sound alike, or a line may be begun twice."""

    def phones(row: Sequence[str], part: range) -> tuple[str, ...]:
        return tuple(p for k in part for p in phones_of(row[k]))

    total, more = 0.0, False
    for link in collated(written, heard):
        if not link.same and not link.written:
            total += 0.4 * len(link.heard) + (0.0 if more else 0.6)
        elif not link.same:
            mine, theirs = phones(written, link.written), phones(heard, link.heard)
            apart = phone_distance(mine, theirs) / max(1, len(mine), len(theirs))
            total += max(len(link.written), len(link.heard)) * (0.2 + 0.8 * min(1.0, apart))
        more = not link.same and not link.written
    return total


def _cut(written: Sequence[str], start: int, stop: int, *, last: bool) -> int:
    """Where words [start, stop) that no chunk was heard to read are cut in two."""
    if last:
        return stop
    for at in range(stop - 1, start - 1, -1):
        if _CLAUSE_END.search(written[at]):
            return at + 1
    return start if start == 0 or _CLAUSE_END.search(written[start - 1]) else stop


# --- findings -----------------------------------------------------------------------------------------------------


def _departures(
    chapter: Chapter, readings: Sequence[Reading], heard: Sequence[Heard], placed: Sequence[Placed | None]
) -> list[Finding]:
    written = [w.text for w in chapter.words]
    findings: list[Finding] = []
    base = 0
    for reading in readings:
        for place in reading.places:
            for judged in place.departures:
                if judged.confidence < LEAST:
                    continue
                difference, at = judged.difference, place.at
                if place.agreed and difference.heard:
                    at = range(at.start + difference.heard.start, at.start + difference.heard.stop)
                elif place.agreed:
                    at = range(at.start + difference.heard.start, at.start + difference.heard.start)
                at = range(base + at.start, base + at.stop)
                findings.append(_finding(written, place, judged, *_times(heard, placed, difference, at)))
        base += len(reading.words)
    return findings


def _times(heard: Sequence[Heard], placed: Sequence[Placed | None], difference: Difference, at: range) -> tuple[int, int]:
    """Where a difference is in the recording: its heard words, else the gap in which it must be."""
    if at:
        return heard[at.start].start, heard[at.stop - 1].stop
    own = [p for i in difference.written if (p := placed[i]) is not None]
    if own:
        return own[0].start, own[-1].stop
    before = heard[at.start - 1].stop if at.start else 0
    after = heard[at.start].start if at.start < len(heard) else before
    return min(before, after), max(before, after)


def _finding(written: Sequence[str], place: Place, judged: Judged, start: int, stop: int) -> Finding:
    d = judged.difference
    votes = {v.ear: v for v in place.votes}
    others = {ear: " ".join(votes[ear].words) for ear in ("second", "third") if ear in votes}
    return Finding(
        id="",
        kind=d.kind,
        written=" ".join(written[i] for i in d.written),
        heard=" ".join(place.said[j] for j in d.heard),
        word_index=d.written.start,
        word_count=len(d.written),
        start=start,
        stop=stop,
        confidence=judged.confidence,
        evidence=Evidence(
            ear=round(votes["first"].sure, 3) if "first" in votes else 0.0,
            witness=None if judged.margin is None else round(judged.margin, 1),
            second=others.get("second"),
            third=others.get("third"),
            note=TIDIED if judged.features["tidied"] and not any(judged.features[f"{ear}_has"] for ear in EARS) else "",
        ),
    )


def in_rate(proof: Proof, rate: int, span: Span, *, offset: int = 0) -> Proof:
    """The proof with positions at `rate`, clipped to the recording's `span`; `offset` is where, at the ear's rate, it begins."""

    def scaled(position: int) -> int:
        return min(span.stop, max(span.start, round((position + offset) * rate / EAR_RATE)))

    return Proof(
        tuple(replace(h, start=scaled(h.start), stop=scaled(h.stop)) for h in proof.heard),
        tuple(p and Placed(scaled(p.start), scaled(p.stop), p.confidence) for p in proof.placed),
        tuple(replace(f, start=scaled(f.start), stop=scaled(f.stop)) for f in proof.findings),
        proof.links,
        proof.seconds,
    )
