"""What the editor's decisions tell about the doubts that are left: openly, by narrator, and never so that anything is hidden."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

from faithful_reel.core.collate.findings import READING, Decision, Evidence, Finding, Kind, by_hand
from faithful_reel.core.collate.names import ACCEPTED
from faithful_reel.core.hear.pronounce import common_words
from faithful_reel.core.text.spoken import plain

Forgotten = tuple[str, int, int]
"""A lesson's key, and how many of its decisions were passed and real when it was forgotten."""
Tally = Mapping[str, tuple[int, int]]
"""How often findings of a kind were passed and proved real, by the keys of lessons."""
FEWEST = {"words": 3, "kind": 6}
"""Decisions from which on something is learned: of the very words, and of a kind of finding (own rule)."""
WEIGHT = {"words": 1.0, "kind": 0.5}
"""What a lesson counts, in logits: the very words say more than the kind (own rule)."""
BEFORE = 2
"""Decisions that each side is taken to have had before the first, so that few of them say little (own rule)."""
MOST = 2.5
"""Logits that confidence is moved by at most, up or down."""
FAINTEST = 0.05
"""No lesson makes the ear less sure than that.  What the ear shows stays shown: a lesson ranks, and may bring a doubt up."""
APART = "\t"
"""Stands between the parts of a lesson's key: narrator, breadth, what it is about."""


@dataclass(frozen=True, slots=True)
class Lesson:
    """What was decided about findings that are alike: `words` says which, `breadth` is "words" or "kind"."""

    key: str
    narrator: str
    breadth: str
    words: str
    passed: int
    real: int

    @property
    def logits(self) -> float:
        """How far it moves a confidence: the log odds of its decisions, with `BEFORE` more on each side."""
        return WEIGHT[self.breadth] * math.log((self.real + BEFORE) / (self.passed + BEFORE))

    @property
    def told(self) -> str:
        """The decisions in words."""
        parts = [f"passed {_times(self.passed)}" if self.passed else "", f"real {_times(self.real)}" if self.real else ""]
        return ", ".join(filter(None, parts))


def _times(count: int) -> str:
    return {1: "once", 2: "twice"}.get(count, f"{count} times")


def tally(findings: Iterable[Finding], narrator: str) -> Tally:
    """What was decided about one narrator's findings.

    Passed are those that are let stand, real those that are kept, mended or read again; what an editor noted by hand and what
    stands as an accepted name teaches nothing.
    """
    found: dict[str, tuple[int, int]] = {}
    for f in findings:
        passed = f.decision is Decision.STET and f.note != ACCEPTED
        real = f.decision in (Decision.MEND, Decision.PICKUP) or (f.decision is Decision.OPEN and f.kept)
        if (passed or real) and not by_hand(f):
            for breadth, about in _about(f):
                key = APART.join((narrator, breadth, about))
                before = found.get(key, (0, 0))
                found[key] = before[0] + passed, before[1] + real
    return found


def lessons_of(tallies: Iterable[Tally], forgotten: Sequence[Forgotten] = ()) -> tuple[Lesson, ...]:
    """What a book's decisions teach, the plainest first; what was forgotten counts no more."""
    sums: dict[str, tuple[int, int]] = {}
    for one in tallies:
        for key, (passed, real) in one.items():
            before = sums.get(key, (0, 0))
            sums[key] = before[0] + passed, before[1] + real
    less = {key: (passed, real) for key, passed, real in forgotten}
    lessons = []
    for key, (passed, real) in sums.items():
        narrator, breadth, about = key.split(APART)
        gone = less.get(key, (0, 0))
        lesson = Lesson(key, narrator, breadth, about, max(0, passed - gone[0]), max(0, real - gone[1]))
        if lesson.passed + lesson.real >= FEWEST[breadth] and lesson.logits:
            lessons.append(lesson)
    return tuple(sorted(lessons, key=lambda one: (-abs(one.logits), one.key)))


def forgetting(lessons: Iterable[Lesson], forgotten: Sequence[Forgotten]) -> tuple[Forgotten, ...]:
    """What is kept of lessons so that they count no more."""
    before = {key: (passed, real) for key, passed, real in forgotten}
    gone = ((one, before.get(one.key, (0, 0))) for one in lessons)
    return tuple((one.key, one.passed + already[0], one.real + already[1]) for one, already in gone)


def weighed(findings: tuple[Finding, ...], narrator: str, lessons: Sequence[Lesson]) -> tuple[Finding, ...]:
    """One narrator's findings with what was learned; those that nothing was learned about are the same objects.

    Only findings that nobody decided or kept are moved.
    """
    known = {one.key: one for one in lessons if one.narrator == narrator}
    if not known:
        return findings
    moved = []
    for f in findings:
        found = [known[k] for k in _keys(f, narrator) if k in known] if f.decision is Decision.OPEN and not f.kept else []
        moved.append(_moved(f, tuple(found)) if found else f)
    return tuple(moved) if any(a is not b for a, b in zip(moved, findings, strict=True)) else findings


@lru_cache(maxsize=16_384)
def _moved(f: Finding, lessons: tuple[Lesson, ...]) -> Finding:
    by = min(MOST, max(-MOST, sum(one.logits for one in lessons)))
    p = min(0.999, max(0.001, f.confidence))
    sure = 1 / (1 + math.exp(-(math.log(p / (1 - p)) + by)))
    sure = round(max(sure, min(FAINTEST, f.confidence)), 3)
    told = "; ".join(f"{one.words}: {one.told}" for one in lessons)
    own = f"{100 * f.confidence:.0f} % by the ear alone. In this book {told}"
    evidence: Evidence = replace(f.evidence, learned=own, by_ear=f.confidence)
    return replace(f, confidence=sure, evidence=evidence)


def _keys(f: Finding, narrator: str) -> list[str]:
    return [APART.join((narrator, breadth, about)) for breadth, about in _about(f)]


@lru_cache(maxsize=16_384)
def _about(f: Finding) -> tuple[tuple[str, str], ...]:
    """What a finding is an example of: (breadth, in words)."""
    written, heard = plain(f.written).strip(), plain(f.heard).strip()
    if f.kind not in READING:
        return (("kind", f.evidence.flaw or f.kind.value),)
    single = " " not in f.written.strip() and " " not in f.heard.strip()
    if f.kind is Kind.MISREAD and single and written and heard:
        return (("words", f"“{heard}” for “{written}”"), ("kind", _change(written, heard)))
    small = "a small word" if (written or heard) in common_words() and single else "words"
    if f.kind is Kind.ADDED:
        own = (("words", f"“{heard}” added"),) if single and heard else ()
        return (*own, ("kind", f"{small} added"))
    if f.kind is Kind.SKIPPED:
        own = (("words", f"“{written}” skipped"),) if single and written else ()
        return (*own, ("kind", f"{small} skipped"))
    if f.kind is Kind.MISREAD:
        return (("kind", "several words read otherwise"),)
    return (("kind", "words read again" if f.kind is Kind.REPEATED else "a false start"),)


def _change(written: str, heard: str) -> str:
    """What kind of misread one word is."""
    if {written, heard} <= common_words():
        return "a small word for a small word"
    shorter, longer = sorted((written, heard), key=len)
    alike = next((k for k, (a, b) in enumerate(zip(shorter, longer, strict=False)) if a != b), len(shorter))
    return "another ending" if alike >= max(2, len(longer) - 3) else "another word"
