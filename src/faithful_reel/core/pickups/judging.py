"""What each take of a pickup recording is worth: heard by all ears against its line, as a chapter is."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace
from operator import attrgetter

import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.audio.voice import Voice, VoiceBands, runs
from faithful_reel.core.collate.findings import AGAIN, READING, SHOWN, Finding, Kind
from faithful_reel.core.collate.proofing import Placed, Proof, proofed
from faithful_reel.core.errors import SignalError
from faithful_reel.core.hear.aligner import HELPERS, Aligner
from faithful_reel.core.hear.ears import Ears
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.hear.pronounce import phone_distance, phones_read
from faithful_reel.core.jobs import Part, Watch, at_once
from faithful_reel.core.pickups.ledger import Take
from faithful_reel.core.pickups.sorting import LEAST_SHARE, Match, Sorted, begun_before, restarts, sorted_session
from faithful_reel.core.text.spoken import spoken_forms
from faithful_reel.core.text.words import Chapter, Word
from faithful_reel.core.units import EAR_RATE, Signal, Span

UNCOVERED_S = 0.1
"""Sound of a voice that no word covers, from which on a take is not trusted to be whole."""
INNER_PAUSE_S = 0.5
"""A pause inside of a take, where no clause ends, that is told."""
AROUND_S = 0.25
MISREAD = 0.35
"""What reads so large a share of a line's sound otherwise reads another line.  Own choice."""
MOSTLY_PLACED = 0.7
"""So many words of a take that reads only what its line is asked for must be placed.  Own choice."""
LOST = 0.5
"""A take that was found by ear, but of whose words so small a share was placed there, is heard for itself."""
CLAUSE_ENDS = ".,;:!?…—–-"


@dataclass(frozen=True, slots=True)
class LineTakes:
    """The takes of one line, in order, the proposed one (-1 for none), and why it is proposed."""

    takes: tuple[Take, ...]
    best: int
    why: str = ""


@dataclass(frozen=True, slots=True)
class Leftover:
    """What was said and reads no line: samples of the recording, and the words."""

    start: int
    stop: int
    heard: str


@dataclass(frozen=True, slots=True)
class Session:
    """What a pickup recording holds: the takes of every line, by its number, and what fits none."""

    lines: tuple[LineTakes, ...]
    left: tuple[Leftover, ...]


def session_of(
    x: Signal,
    lines: Sequence[str],
    ears: Ears,
    recording: str,
    rate: int,
    watch: Watch,
    memory: Memory | None = None,
    marked: Sequence[range] = (),
) -> Session:
    """Sort and judge a pickup recording, (n,) at 16 kHz; the positions given back are at `rate`.

    First every island of speech is heard by one ear and all lines are looked for together.  Then all ears hear the whole
    recording against a script of the lines that were found, in their order, by the same rules as a chapter.  What was found
    and is not heard again is told with what fits no line.  `marked` as in `matches_of`.
    """
    tokens = [line.split() for line in lines]
    found = sorted_session(x, tokens, ears, Part(watch, 0.0, 0.25), memory, marked)
    found = _placed(x, found, Part(watch, 0.25, 0.3), memory)
    begun = restarts(found.matches, tokens)
    matches = [m for k, m in enumerate(found.matches) if k not in begun]
    script, places = _script(found, matches, tokens)
    try:
        proof = proofed(x, script, ears, Part(watch, 0.3, 0.9), memory=memory) if matches else None
    except SignalError:
        proof = None
    takes: list[list[Take]] = [[] for _ in lines]
    lost = list(matches)
    if proof is not None:
        voice = _voice(x)
        with Aligner(memory) as aligner:
            for done, (m, at) in enumerate(zip(matches, places, strict=True)):
                part = Part(watch, 0.9 + 0.1 * done / len(matches), 0.9 + 0.1 * (done + 1) / len(matches))
                part.tick(0.0, "judging takes")
                line, where = tokens[m.line], found.where(m)
                judged = _Judged(x, voice, proof, m, at, line, where)
                if judged.found < LOST and (alone := _alone(x, where, [line[t] for t in m.tokens], ears, part, memory)):
                    judged = _Judged(x, voice, alone, m, 0, line, where)
                take = judged.take(recording, aligner)
                if take is not None:
                    takes[m.line].append(_at_rate(take, rate))
                    lost.remove(m)
    scale = rate / EAR_RATE
    left = tuple(
        Leftover(
            round(found.heard[r.start].start * scale),
            round(found.heard[r.stop - 1].stop * scale),
            " ".join(found.heard[j].text for j in r),
        )
        for r in sorted([*_told_left(found, begun, tokens), *(m.words for m in lost)], key=attrgetter("start"))
    )
    return Session(tuple(LineTakes(tuple(row), *proposed(row)) for row in takes), left)


def _alone(x: Signal, where: Span, line: Sequence[str], ears: Ears, watch: Watch, memory: Memory | None) -> Proof | None:
    """A proof of one take, heard for itself: of lines that are read again and again an ear may tidy one away."""
    by = max(0, where.start - round(AROUND_S * EAR_RATE))
    script = Chapter("take", tuple(Word(token, 0, 0) for token in line))
    try:
        proof = proofed(x[by : where.stop + round(AROUND_S * EAR_RATE)], script, ears, watch, memory=memory)
    except SignalError:
        return None
    return replace(
        proof,
        heard=tuple(replace(h, start=h.start + by, stop=h.stop + by) for h in proof.heard),
        placed=tuple(p and replace(p, start=p.start + by, stop=p.stop + by) for p in proof.placed),
        findings=tuple(replace(f, start=f.start + by, stop=f.stop + by) for f in proof.findings),
    )


def _placed(x: Signal, found: Sorted, watch: Watch, memory: Memory | None) -> Sorted:
    """As found, with true edges of the words in islands that a match shares: what a fast ear says of them is rough."""
    match_of = {j: k for k, m in enumerate(found.matches) for j in m.words}
    words: dict[int, list[int]] = {}
    for j, island in enumerate(found.owner):
        words.setdefault(island, []).append(j)
    shared = [island for island, own in words.items() if len({match_of.get(j, -1) for j in own}) > 1]
    heard = list(found.heard)
    with Aligner(memory) as aligner:

        def edges(island: int) -> dict[int, Span]:
            return aligner.edges(x, found.islands[island], [(j, spoken_forms(found.heard[j].text)[0]) for j in words[island]])

        for done, placed in enumerate(at_once(edges, shared, HELPERS), 1):
            for j, span in placed.items():
                heard[j] = replace(heard[j], start=span.start, stop=span.stop)
            watch.tick(done / len(shared), "placing words")
    return replace(found, heard=tuple(heard))


def proposed(takes: Sequence[Take]) -> tuple[int, str]:
    """The take to use and why: whole before half, as written before not, clean before not, and of those alike the last one.

    -1 where there is none.  That the last of complete takes is meant is common practice.
    """
    if not takes:
        return -1, ""
    worth = [(t.part, t.departures, len(t.remarks), -k) for k, t in enumerate(takes)]
    best = min(range(len(takes)), key=lambda k: worth[k])
    take = takes[best]
    alike = sum(w[:3] == worth[best][:3] for w in worth)
    if take.part:
        why = "no take has the whole line"
    elif take.departures:
        why = "the take that departs least"
    elif take.remarks:
        why = "as written" if alike == 1 else "the last as written"
    elif len(takes) == 1:
        why = "as written"
    else:
        why = "the only clean one" if alike == 1 else "the last clean one"
    return best, why


def _script(found: Sorted, matches: Sequence[Match], lines: Sequence[Sequence[str]]) -> tuple[Chapter, list[int]]:
    """The text that the recording reads by what was found, and where in it every match begins.

    What reads no line stands there as it was heard, so that it claims nothing of what does.
    """
    owner = {j: k for k, m in enumerate(matches) for j in m.words}
    words: list[Word] = []
    places = [0] * len(matches)
    begun: set[int] = set()
    for j, heard in enumerate(found.heard):
        k = owner.get(j)
        if k is None:
            words.append(Word(heard.text, -1, -1))
        elif k not in begun:
            begun.add(k)
            places[k] = len(words)
            words += [Word(lines[matches[k].line][t], k, k) for t in matches[k].tokens]
    rows = enumerate(list(group) for _, group in itertools.groupby(words, lambda w: w.sentence))
    return Chapter("pickups", tuple(replace(w, sentence=n, paragraph=n) for n, group in rows for w in group)), places


def _told_left(found: Sorted, begun: set[int], lines: Sequence[Sequence[str]]) -> list[range]:
    """Runs of words that read no line; the beginnings of lines that are read again are none of them."""
    begins = {j for k in begun for j in found.matches[k].words}
    before = begun_before(found, lines)
    return [r for r in found.left if not begins.issuperset(r) and r not in before]


def _voice(x: Signal) -> Voice:
    bands = VoiceBands(EAR_RATE)
    bands.feed(np.atleast_2d(x))
    return bands.voice()


def _at_rate(take: Take, rate: int) -> Take:
    def at(position: int) -> int:
        return round(position * rate / EAR_RATE) if position >= 0 else position

    return replace(
        take,
        start=at(take.start),
        stop=at(take.stop),
        words=tuple((at(a), at(b)) for a, b in take.words),
        said=tuple((text, at(a), at(b)) for text, a, b in take.said),
        clear=(at(take.clear[0]), at(take.clear[1])),
    )


class _Judged:
    """One take in the proof of its recording; `within` is where it was found; positions at 16 kHz.

    `found` is the share of its words that were placed there.
    """

    def __init__(self, x: Signal, voice: Voice, proof: Proof, match: Match, at: int, line: Sequence[str], within: Span) -> None:
        self.x, self.voice, self.proof, self.match, self.line, self.within = x, voice, proof, match, line, within
        self.own = range(at, at + len(match.tokens))
        placed = [proof.placed[k] for k in self.own]
        inside = [p is not None and within.start <= (p.start + p.stop) // 2 < within.stop for p in placed]
        self.found = sum(inside) / len(inside)
        self.strayed = any(p is not None and not here for p, here in zip(placed, inside, strict=True))
        self.placed: list[Placed | None] = [p if here else None for p, here in zip(placed, inside, strict=True)]
        self.findings = [f for f in proof.findings if self._mine(f)]

    def _span(self) -> Span | None:
        spoken = [p for p in self.placed if p is not None]
        return Span(min(p.start for p in spoken), max(p.stop for p in spoken)) if spoken else None

    def _mine(self, f: Finding) -> bool:
        """Whether a finding is in this take, not beside it."""
        if not self.within.start <= (f.start + f.stop) // 2 < self.within.stop:
            return False
        if f.kind in READING - AGAIN and f.word_count:
            return f.word_index in self.own
        span = self._span() or self.within
        return span.start <= f.start and f.stop <= span.stop

    def _align(self, aligner: Aligner) -> None:
        """Edges by the written words, where the take is as written though an ear heard other words."""
        links = [k for k in self.proof.links if k.written and k.written.start in self.own]
        if self._departs() or (not self.strayed and all(k.same for k in links) and all(self.placed)):
            return
        span = self._span()
        reach = round(AROUND_S * EAR_RATE)
        within = self.within
        if span is not None and not self.strayed:
            within = Span(max(within.start, span.start - reach), max(span.stop, min(within.stop, span.stop + reach)))
        spoken = [(k, spoken_forms(self.line[t])[0]) for k, t in enumerate(self.match.tokens)]
        for k, edges in aligner.edges(self.x, within, spoken).items():
            self.placed[k] = Placed(edges.start, edges.stop, 0.5)

    def _departs(self) -> int:
        shown = [f for f in self.findings if f.kind in READING and f.confidence >= SHOWN]
        return sum(max(1, f.word_count) for f in shown)

    def _apart(self) -> float:
        """The share of the sound of what it should read that it reads otherwise."""
        own = [self.line[t] for t in self.match.tokens]
        misread = [f for f in self.findings if f.kind is Kind.MISREAD and f.confidence >= SHOWN]
        apart = sum(phone_distance(phones_read(f.written.split()), phones_read(f.heard.split())) for f in misread)
        lacking = len(phones_read(word for word, p in zip(own, self.placed, strict=True) if p is None))
        return (apart + lacking) / max(1, len(phones_read(own)))

    def take(self, recording: str, aligner: Aligner) -> Take | None:
        """The take with its judgement; None where too little of it was heard in the end to be one."""
        self._align(aligner)
        span = self._span()
        few = len(self.match.tokens) < LEAST_SHARE * len(self.line)  # a part that holds what the line is asked for
        least = MOSTLY_PLACED * len(self.match.tokens) if few else LEAST_SHARE * len(self.line)
        if span is None or sum(p is not None for p in self.placed) < least or self._apart() > MISREAD:
            return None
        heard = self.proof.heard
        words = [(-1, -1)] * len(self.line)
        for t, p in zip(self.match.tokens, self.placed, strict=True):
            if p is not None:
                words[t] = p.start, p.stop
        inside = [j for j, h in enumerate(heard) if span.start <= (h.start + h.stop) // 2 < span.stop]
        first, stop = (inside[0], inside[-1] + 1) if inside else (0, 0)
        low, high = max(0, first - 1), min(len(heard), stop + 1)
        part = len(self.match.tokens) < len(self.line)
        return Take(
            recording,
            span.start,
            span.stop,
            self._departs() + sum(a < 0 for a, _ in words),
            " ".join(heard[j].text for j in inside),
            tuple(words),
            tuple((h.text, h.start, h.stop) for h in heard[low:high]),
            (first - low, stop - low),
            part=part,
            remarks=tuple(self._remarks(span, [heard[j].start for j in inside], [heard[j].stop for j in inside])),
            clear=self._clear(span),
        )

    def _clear(self, span: Span) -> tuple[int, int]:
        """How far the quiet reaches before and after the take: to where somebody speaks."""
        size = self.voice.size
        speaks = self.voice.speaks
        a, b = span.start // size, min(len(speaks), -(-span.stop // size))
        slack = 4  # what belongs to the take's own first and last sound
        before = np.flatnonzero(speaks[: max(0, a - slack)])
        after = np.flatnonzero(speaks[b + slack :])
        return (int(before[-1] + 1) * size if len(before) else 0), (int(after[0]) + b + slack) * size if len(after) else len(
            self.x
        )

    def _remarks(self, span: Span, starts: Sequence[int], stops: Sequence[int]) -> list[str]:
        """What is to be said against a take, in a few words each."""
        found: list[str] = []
        if len(self.match.tokens) < len(self.line):
            half = "the beginning" if self.match.tokens.start == 0 else "the end"
            found.append(f"only {half} of the line")
        for f in self.findings:
            if f.kind in READING and f.confidence >= SHOWN:
                found.append(in_words(f))
            elif f.kind is Kind.NOISE and f.confidence >= SHOWN:
                found.append(f.evidence.flaw.replace("_", " ") or "a noise")
        if not any(f.kind in READING for f in self.findings) and self._uncovered(span, starts, stops):
            found.append("something is heard that no word covers")
        for a, b in itertools.pairwise(k for k, p in enumerate(self.placed) if p is not None):
            left, right = self.placed[a], self.placed[b]
            assert left is not None
            assert right is not None
            ends = self.line[self.match.tokens[a]].rstrip("\"'”’)")[-1:] in CLAUSE_ENDS
            if right.start - left.stop > INNER_PAUSE_S * EAR_RATE and not ends:
                found.append(f"a pause before “{self.line[self.match.tokens[b]]}”")
        return found

    def _uncovered(self, span: Span, starts: Sequence[int], stops: Sequence[int]) -> bool:
        size = self.voice.size
        free: NDArray[np.bool_] = self.voice.speaks.copy()
        slack = 3
        for a, b in zip(starts, stops, strict=True):
            free[max(0, a // size - slack) : -(-b // size) + slack] = False
        inner = free[span.start // size : -(-span.stop // size)]
        return bool(runs(inner, round(UNCOVERED_S * EAR_RATE / size)))


def in_words(f: Finding) -> str:
    """A departure from the written words in a few words."""
    match f.kind:
        case Kind.MISREAD:
            return f"“{f.heard}” for “{f.written}”"
        case Kind.SKIPPED:
            return f"“{f.written}” is not read"
        case Kind.ADDED:
            return f"“{f.heard}” is added"
        case Kind.REPEATED:
            return f"“{f.written}” is said twice"
        case _:
            return "begun twice"
