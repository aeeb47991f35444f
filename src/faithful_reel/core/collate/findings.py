"""Findings: differences and flaws, from the links between heard and written words."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import StrEnum

from faithful_reel.core.collate.links import Link
from faithful_reel.core.hear.pronounce import phone_distance, phones_of
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.text.spoken import sound_key, spoken_forms
from faithful_reel.core.text.words import Chapter


class Kind(StrEnum):
    """What a finding is."""

    MISREAD = "misread"
    SKIPPED = "skipped"
    ADDED = "added"
    REPEATED = "repeated"
    FALSE_START = "false_start"
    PAUSE = "pause"
    NOISE = "noise"
    LEVEL = "level"
    OTHER = "other"


READING = frozenset({Kind.MISREAD, Kind.SKIPPED, Kind.ADDED, Kind.REPEATED, Kind.FALSE_START})
"""The kinds that are departures from the written words."""


class Decision(StrEnum):
    """What is to be done about a finding."""

    OPEN = "open"
    STET = "stet"
    MEND = "mend"
    PICKUP = "pickup"


@dataclass(frozen=True, slots=True)
class Evidence:
    """Why a finding is believed.

    `ear` is the first ear's own confidence in what it heard; `witness` how many nats the sound favours the heard over
    the written words; `second` what the second ear heard, None where it was not asked.
    """

    ear: float = 0.0
    witness: float | None = None
    second: str | None = None
    note: str = ""


@dataclass(frozen=True, slots=True)
class Finding:
    """One difference or flaw.  `start` and `stop` are samples of the recording, so that no edit moves them."""

    id: str
    kind: Kind
    written: str
    heard: str
    word_index: int
    word_count: int
    start: int
    stop: int
    confidence: float
    evidence: Evidence = field(default_factory=Evidence)
    decision: Decision = Decision.OPEN
    note: str = ""


@dataclass(frozen=True, slots=True)
class Difference:
    """A reading error before its evidence: word ranges and kind; what `Finding` is made of."""

    kind: Kind
    written: range
    heard: range


_CLAUSE_END = re.compile(r"[.,;:!?…—–-][\"'”’)]*$")


def differences(chapter: Chapter, heard: Sequence[Heard], links: Sequence[Link]) -> list[Difference]:
    """Name every link that is not a right reading.  Extra words that repeat the text are told from added ones."""
    written = [w.text for w in chapter.words]
    said = [h.text for h in heard]
    sentence_starts = {s.start for s in chapter.sentences()}
    found: list[Difference] = []
    for link in links:
        if link.same:
            continue
        if not link.heard:
            found.append(Difference(Kind.SKIPPED, link.written, link.heard))
        elif link.written:
            found.append(Difference(Kind.MISREAD, link.written, link.heard))
        else:
            found += _extra(written, said, sentence_starts, link)
    return found


def _near(a: str, b: str) -> bool:
    """Whether two tokens are the same word, or one that the ear could take for it."""
    left, right = spoken_forms(a), spoken_forms(b)
    if any(tuple(map(sound_key, f)) == tuple(map(sound_key, g)) for f in left for g in right):
        return True
    p = tuple(x for word in left[0] for x in phones_of(word))
    q = tuple(x for word in right[0] for x in phones_of(word))
    return phone_distance(p, q) <= 0.35 * max(len(p), len(q), 1)


def _extra(written: list[str], said: list[str], sentence_starts: set[int], link: Link) -> list[Difference]:
    """Split heard words with no written ones into readings of nearby text and truly added words."""
    here = link.written.start
    found: list[Difference] = []
    at, stop = link.heard.start, link.heard.stop
    added_from = at
    while at < stop:
        best: tuple[float, int, int] = (0.0, -1, 0)
        left = stop - at
        starts = {here, *(s for s in range(max(0, here - left - 30), min(len(written), here + 2)) if s in sentence_starts)}
        starts |= {here - n for n in range(1, min(left, 25) + 1) if here - n >= 0}
        for start in starts:
            if start >= len(written) or (left < 4 and not _near(written[start], said[at])):
                continue
            hits, length = 0, 0
            for k in range(min(left, len(written) - start)):
                if _near(written[start + k], said[at + k]):
                    hits += 1
                    length = k + 1
                elif k + 1 - hits > 1 + k // 4:
                    break
            adjacent = start + length == here or start == here or (start in sentence_starts and start <= here)
            if length and adjacent and hits >= 0.7 * length:
                score = hits - 0.5 * (length - hits) - (0.2 if start > here else 0.0) + (0.1 if start == here else 0.0)
                if score > best[0]:
                    best = (score, start, length)
        _, start, length = best
        if length:
            if added_from < at:
                found.append(Difference(Kind.ADDED, range(here, here), range(added_from, at)))
            broken_off = start in sentence_starts and not _CLAUSE_END.search(written[start + length - 1])
            kind = Kind.FALSE_START if broken_off else Kind.REPEATED
            found.append(Difference(kind, range(start, start + length), range(at, at + length)))
            at += length
            added_from = at
        else:
            at += 1
    if added_from < stop:
        found.append(Difference(Kind.ADDED, range(here, here), range(added_from, stop)))
    return found
