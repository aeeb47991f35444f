"""Proofing a chapter: hear it without the script, collate, ask the second ear and the witness where the two differ."""

from __future__ import annotations

import difflib
import itertools
import math
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np

from faithful_reel.core.audio.roomtone import frame_levels
from faithful_reel.core.collate.findings import Difference, Evidence, Finding, Kind, differences
from faithful_reel.core.collate.links import Link, collated
from faithful_reel.core.errors import SignalError
from faithful_reel.core.hear.aligner import Aligned, Aligner, refined
from faithful_reel.core.hear.pauses import Chunk, chunks_of
from faithful_reel.core.hear.pronounce import common_words, is_word, phone_distance, phones_of
from faithful_reel.core.hear.recogniser import Ear, Heard
from faithful_reel.core.jobs import Part, Unwatched, Watch
from faithful_reel.core.text.spoken import plain, sound_key, spoken_forms
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import EAR_RATE, Signal, Span

SHOWN = 0.5
"""Findings at or above this confidence are shown at first; the others are folded away, never dropped."""
LONG_PAUSE_S = 2.2
LONGEST_NOISE_S = 0.5
_WORDS = (Kind.MISREAD, Kind.SKIPPED, Kind.ADDED)


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
class Listening:
    """What one pass over the recording gave; heard words carry aligned edges."""

    chunks: list[Chunk]
    heard: list[Heard]
    owner: list[int]  # chunk of every heard word
    links: list[Link]


def listen(x: Signal, chapter: Chapter, ear: Ear, watch: Watch) -> Listening:
    """First ear over the whole recording, collated, every heard word placed by alignment.

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
    for index, words in enumerate(ear.hear(x, chunks, Part(watch, 0.0, 0.8))):
        heard += words
        owner += [index] * len(words)
    if not heard:
        raise SignalError("No words were heard in this recording. Choose the recording of this chapter.")
    links = collated([w.text for w in chapter.words], [h.text for h in heard])
    heard = _with_edges(x, chapter, chunks, heard, owner, links, Part(watch, 0.8, 1.0))
    return Listening(chunks, heard, owner, links)


def _with_edges(
    x: Signal, chapter: Chapter, chunks: list[Chunk], heard: list[Heard], owner: list[int], links: list[Link], watch: Watch
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
    aligner = Aligner()
    out = list(heard)
    by_chunk: dict[int, list[int]] = {}
    for j, chunk in enumerate(owner):
        by_chunk.setdefault(chunk, []).append(j)
    for done, (chunk, members) in enumerate(by_chunk.items(), 1):
        words, of = [], []
        for j in members:
            for word in spoken[j]:
                if phones_of(word):
                    words.append(plain(word))
                    of.append(j)
        result = aligner.align(x, chunks[chunk].span, words) if words else None
        if result is not None:
            edges: dict[int, list[Aligned]] = {}
            for j, word_edges in zip(of, refined(x, result[0]), strict=True):
                edges.setdefault(j, []).append(word_edges)
            for j, parts in edges.items():
                out[j] = replace(heard[j], start=parts[0].start, stop=parts[-1].stop)
        watch.tick(done / len(by_chunk), "placing words")
    return out


def placed_words(chapter: Chapter, listening: Listening) -> tuple[Placed | None, ...]:
    """For every written word the stretch that reads it, rightly or not; None for a word that was not read."""
    placed: list[Placed | None] = [None] * len(chapter.words)
    for link in listening.links:
        if not link.written or not link.heard:
            continue
        parts = [listening.heard[j] for j in link.heard]
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


def aligned(x: Signal, chapter: Chapter, ear: Ear, watch: Watch | None = None) -> tuple[Placed | None, ...]:
    """Where every written word is spoken: what the headless `align` gives."""
    return placed_words(chapter, listen(x, chapter, ear, watch or Unwatched()))


def proofed(x: Signal, chapter: Chapter, ear: Ear, second: Ear | None = None, watch: Watch | None = None) -> Proof:
    """Hear, collate, weigh.

    Parameters
    ----------
    x : (n,) float32 array
        The recording at 16 kHz, mono.
    chapter : Chapter
        What is written.
    ear, second : Ear
        The first ear hears all; the second, where there is one, only chunks in which the first differs from the text.

    Raises
    ------
    SignalError
        Nobody speaks in the recording.
    """
    watch = watch or Unwatched()
    listening = listen(x, chapter, ear, Part(watch, 0.0, 0.55))
    found = differences(chapter, listening.heard, listening.links)
    weighed = _weighed(x, chapter, listening, found, ear, second, Part(watch, 0.55, 0.97))
    findings = [
        _finding(chapter, listening, difference, evidence, confidence)
        for difference, (evidence, confidence) in zip(found, weighed, strict=True)
    ]
    findings += _flaws(x, listening)
    findings.sort(key=lambda f: (f.start, f.word_index))
    watch.tick(1.0, "done")
    numbered = tuple(replace(f, id=f"f{n:04d}") for n, f in enumerate(findings, 1))
    return Proof(tuple(listening.heard), placed_words(chapter, listening), numbered, tuple(listening.links), len(x) / EAR_RATE)


# --- weighing -----------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class _Block:
    """Neighbouring word differences that are weighed as one."""

    members: tuple[int, ...]
    written: range
    heard: range
    chunk: int


def _chunk_of(listening: Listening, heard: range) -> int:
    if heard:
        return listening.owner[heard.start]
    return listening.owner[min(heard.start, len(listening.owner) - 1)]


def _blocks(listening: Listening, found: Sequence[Difference]) -> list[_Block]:
    blocks: list[_Block] = []
    for index, d in enumerate(found):
        if d.kind not in _WORDS:
            continue
        chunk = _chunk_of(listening, d.heard)
        last = blocks[-1] if blocks else None
        if last and last.chunk == chunk and last.heard.stop == d.heard.start and last.written.stop == d.written.start:
            blocks[-1] = _Block(
                (*last.members, index),
                range(last.written.start, max(last.written.stop, d.written.stop)),
                range(last.heard.start, max(last.heard.stop, d.heard.stop)),
                chunk,
            )
        else:
            blocks.append(_Block((index,), d.written, d.heard, chunk))
    return blocks


def _matching(first: Sequence[str], second: Sequence[str], part: range) -> range:
    """The words of the second hearing that stand where `part` of the first does."""
    a, b = [_key(t) for t in first], [_key(t) for t in second]
    start, stop = 0, len(b)
    for block in difflib.SequenceMatcher(None, a, b, autojunk=False).get_matching_blocks():
        if block.size and block.a < part.start:
            start = block.b + min(block.size, part.start - block.a)
        if block.size and block.a + block.size > part.stop:
            stop = block.b + max(0, part.stop - block.a)
            break
    return range(start, max(start, stop))


def _key(token: str) -> str:
    return " ".join(sound_key(w) for w in spoken_forms(token)[0])


def _run_key(tokens: Sequence[str]) -> str:
    return "".join(_key(t) for t in tokens).replace(" ", "")


def _reads_as(tokens: Sequence[str], written: Sequence[str]) -> bool:
    """Whether heard tokens are a right reading of written ones."""
    return all(link.same for link in collated(list(written), list(tokens)))


def _weighed(
    x: Signal, chapter: Chapter, listening: Listening, found: Sequence[Difference], ear: Ear, second: Ear | None, watch: Watch
) -> list[tuple[Evidence, float]]:
    """Evidence and confidence of every difference."""
    results: list[tuple[Evidence, float]] = [(Evidence(), 0.5)] * len(found)
    for index, d in enumerate(found):
        if d.kind not in _WORDS:
            sure = float(np.mean([listening.heard[j].confidence for j in d.heard]))
            length = len(d.heard)
            results[index] = (
                Evidence(ear=sure, note="the same words, read again"),
                0.97 if length > 2 else 0.85 if length > 1 else 0.7,
            )
    by_chunk: dict[int, list[_Block]] = {}
    for block in _blocks(listening, found):
        by_chunk.setdefault(block.chunk, []).append(block)

    def weigh(chunk: int) -> list[tuple[_Block, Evidence, float]]:
        return _weigh_chunk(x, chapter, listening, by_chunk[chunk], ear, second)

    with ThreadPoolExecutor(2, thread_name_prefix="witness") as pool:
        futures = [pool.submit(weigh, chunk) for chunk in by_chunk]
        try:
            for done, future in enumerate(futures, 1):
                for block, evidence, confidence in future.result():
                    for member in block.members:
                        results[member] = (evidence, confidence)
                watch.tick(done / len(futures), "weighing differences")
        finally:
            for future in futures:
                future.cancel()
    return results


def _weigh_chunk(
    x: Signal, chapter: Chapter, listening: Listening, blocks: list[_Block], ear: Ear, second: Ear | None
) -> list[tuple[_Block, Evidence, float]]:
    chunk = blocks[0].chunk
    span = listening.chunks[chunk].span
    members = [j for j, owner in enumerate(listening.owner) if owner == chunk]
    first = [listening.heard[j].text for j in members]
    offset = members[0] if members else 0
    places: list[tuple[int, int | None, list[str] | None]] = []

    def texts_of(other: list[str] | None) -> list[str]:
        """As heard; then for every block as written and, where there is a second hearing, as that has it."""
        texts = [" ".join(first)]
        for block in blocks:
            part = range(block.heard.start - offset, block.heard.stop - offset)
            written = [_as_spoken(chapter.words[i].text) for i in block.written]
            texts.append(" ".join([*first[: part.start], *written, *first[part.stop :]]))
            said, at_written = None, len(texts) - 1
            if other is not None:
                said = [other[j] for j in _matching(first, other, part)]
                texts.append(" ".join([*first[: part.start], *said, *first[part.stop :]]))
            places.append((at_written, at_written + 1 if other is not None else None, said))
        return texts

    scores = (second or ear).judge(x, span, texts_of, listening=second is not None)
    weighed = []
    for block, (at_written, at_other, said) in zip(blocks, places, strict=True):
        mine = [listening.heard[j].text for j in block.heard]
        written = [chapter.words[i].text for i in block.written]
        best = scores[0]
        sure = round(min((listening.heard[j].confidence for j in block.heard), default=0.9), 3)
        differs = said is not None and not _reads_as(said, written)
        if differs and at_other is not None and said is not None and scores[at_other] > scores[at_written]:
            # both ears depart from the script: the second is the better one, so its reading is the one to judge
            best = max(best, scores[at_other])
            differs = _run_key(said) != _run_key(mine)
            mine = said
        else:
            differs = differs and said is not None and _run_key(said) != _run_key(mine)
        margin = best - scores[at_written]
        evidence = Evidence(ear=sure, witness=round(margin, 2), second=None if said is None else " ".join(said))
        weighed.append((block, evidence, confidence_of(written, mine, said, margin, sure, both_differ=differs)))
    return weighed


def _as_spoken(token: str) -> str:
    return token.strip('"“”‘()[]')


def features_of(
    written: Sequence[str],
    heard: Sequence[str],
    second: Sequence[str] | None,
    margin: float,
    ear: float,
    *,
    both_differ: bool = False,
) -> dict[str, float]:
    """What a difference is judged by; each between about -1 and 1."""
    w = tuple(p for t in written for word in spoken_forms(t)[0] for p in phones_of(word))
    h = tuple(p for t in heard for word in spoken_forms(t)[0] for p in phones_of(word))
    distance = phone_distance(w, h) / max(len(w), len(h), 1)
    names = [t for t in written if _name_like(t)] if distance < 0.5 else []
    strange = any(not is_word(t) for t in names)
    words = [word for t in heard for word in spoken_forms(t)[0]]
    agrees = second is not None and _run_key(second) == _run_key(heard)
    return {
        "one": 1.0,
        "margin": min(max(margin, -2.0), 14.0) / 7 - 0.8,
        "agrees": float(agrees and not both_differ),
        "both_differ": float(both_differ),
        "cleared": float(second is not None and _reads_as(second, written)),
        "alone": float(second is None),
        "ear": ear - 0.8,
        "name": float(bool(names) and not strange),
        "strange_name": float(strange),
        "nonsense": float(any(not is_word(word) for word in words)),
        "split": float(len(written) != len(heard) and bool(written) and bool(heard)),
        "elided": float(bool(w) and w != h and _without_stops(w) == _without_stops(h)),
        "near": float(bool(written) and bool(heard) and distance < 0.2),
        "far": float(bool(written) and bool(heard) and distance > 0.6),
        "gap": float(not written or not heard),
    }


def _without_stops(phones: tuple[str, ...]) -> tuple[str, ...]:
    """Phones without T and D after a consonant, which running speech swallows ("asked Nell")."""
    vowels = ("A", "E", "I", "O", "U")
    return tuple(p for i, p in enumerate(phones) if not (p in ("T", "D") and i and not phones[i - 1].startswith(vowels)))


WEIGHTS = {
    "one": -0.9,
    "margin": 2.2,
    "agrees": 1.9,
    "both_differ": 1.1,
    "cleared": -2.2,
    "alone": 0.6,
    "ear": 1.2,
    "name": -1.2,
    "strange_name": -3.2,
    "nonsense": -1.6,
    "split": -1.0,
    "near": -0.5,
    "elided": -1.5,
    "far": 0.3,
    "gap": 0.3,
}


def confidence_of(
    written: Sequence[str],
    heard: Sequence[str],
    second: Sequence[str] | None,
    margin: float,
    ear: float,
    *,
    both_differ: bool = False,
) -> float:
    """How sure a word difference is real, 0 to 1: a logistic sum of its features."""
    found = features_of(written, heard, second, margin, ear, both_differ=both_differ)
    z = sum(WEIGHTS[name] * value for name, value in found.items())
    return round(1 / (1 + math.exp(-z)), 3)


def _name_like(token: str) -> bool:
    bare = token.strip("\"“”‘’()[].,;:!?…—–-'")
    return bool(bare) and bare[0].isupper() and plain(bare) not in common_words()


# --- findings -----------------------------------------------------------------------------------------------------


def _finding(chapter: Chapter, listening: Listening, d: Difference, evidence: Evidence, confidence: float) -> Finding:
    heard = listening.heard
    if d.heard:
        start, stop = heard[d.heard.start].start, heard[d.heard.stop - 1].stop
    else:
        before = heard[d.heard.start - 1].stop if d.heard.start else 0
        after = heard[d.heard.start].start if d.heard.start < len(heard) else before
        start, stop = min(before, after), max(before, after)
    return Finding(
        id="",
        kind=d.kind,
        written=" ".join(chapter.words[i].text for i in d.written),
        heard=" ".join(heard[j].text for j in d.heard),
        word_index=d.written.start,
        word_count=len(d.written),
        start=start,
        stop=stop,
        confidence=confidence,
        evidence=evidence,
    )


def _flaws(x: Signal, listening: Listening) -> list[Finding]:
    """Pauses that are too long, noises in pauses, clipped words."""
    heard = sorted(listening.heard, key=lambda h: h.start)
    written_at = _written_positions(listening)
    flaws: list[Finding] = []

    def flaw(kind: Kind, start: int, stop: int, confidence: float, note: str) -> None:
        index = written_at(start)
        flaws.append(Finding("", kind, "", "", index, 0, start, stop, confidence, Evidence(note=note)))

    size = EAR_RATE // 200
    levels = frame_levels(x, EAR_RATE // 4)  # 5 ms frames
    usual = [b.start - a.stop for a, b in itertools.pairwise(heard) if b.start - a.stop > 0.25 * EAR_RATE]
    limit = max(LONG_PAUSE_S, 2.5 * float(np.median(usual)) / EAR_RATE if usual else 0.0)
    floor = float(np.percentile(levels, 5)) if len(levels) else -100.0
    margin = round(0.09 * EAR_RATE)
    for a, b in itertools.pairwise(heard):
        gap = b.start - a.stop
        inside = levels[(a.stop + margin) // size : (b.start - margin) // size]
        if gap > limit * EAR_RATE and np.mean(inside > max(floor + 15, -52.0)) < 0.15:
            flaw(
                Kind.PAUSE,
                a.stop,
                b.start,
                0.9,
                f"{gap / EAR_RATE:.1f} s of pause; the reader's usual one is {np.median(usual) / EAR_RATE:.1f} s",
            )
        first = (a.stop + margin) // size
        loud = np.flatnonzero(inside > max(floor + 24, -42.0))
        long = (loud[-1] - loud[0]) * 0.005 if len(loud) else 0.0
        if len(loud) and len(inside) >= 6 and long < LONGEST_NOISE_S:  # what lasts longer is speech that no ear made out
            peak = float(inside[loud].max())
            what = "a click" if long < 0.03 else "a noise"
            flaw(
                Kind.NOISE,
                int(first + loud[0]) * size,
                int(first + loud[-1] + 1) * size,
                0.75,
                f"{what} in a pause, {peak:.0f} dB",
            )
    return flaws + _clipped(x, flaw_at=written_at)


def _clipped(x: Signal, *, flaw_at: Callable[[int], int]) -> list[Finding]:
    """Runs at one and the same greatest level, near full scale: a word that was cut off by the converter."""
    near = np.flatnonzero(np.abs(x) > 0.93)
    if len(near) < 8:
        return []
    found: list[Finding] = []
    start = previous = int(near[0])
    count = 0
    for at in [*near.tolist(), len(x) + EAR_RATE]:
        if at - previous > EAR_RATE // 2:
            if count >= 6:
                note = f"{count} samples at full scale"
                found.append(Finding("", Kind.LEVEL, "", "", flaw_at(start), 0, start, previous + 1, 0.85, Evidence(note=note)))
            start, count = at, 0
        previous = at
        count += 1
    return found


def _written_positions(listening: Listening) -> Callable[[int], int]:
    starts, indices = [], []
    for link in listening.links:
        if link.written and link.heard:
            starts.append(listening.heard[link.heard.start].start)
            indices.append(link.written.start)

    def at(position: int) -> int:
        k = int(np.searchsorted(starts, position))
        return indices[min(k, len(indices) - 1)] if indices else 0

    return at


def in_rate(proof: Proof, rate: int, span: Span) -> Proof:
    """The proof with positions at `rate`, clipped to the recording's `span`."""

    def scaled(position: int) -> int:
        return min(span.stop, max(span.start, round(position * rate / EAR_RATE)))

    return Proof(
        tuple(replace(h, start=scaled(h.start), stop=scaled(h.stop)) for h in proof.heard),
        tuple(p and Placed(scaled(p.start), scaled(p.stop), p.confidence) for p in proof.placed),
        tuple(replace(f, start=scaled(f.start), stop=scaled(f.stop)) for f in proof.findings),
        proof.links,
        proof.seconds,
    )
