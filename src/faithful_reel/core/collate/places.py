"""Places where the ears do not all read what is written: who heard what there, and how much the sound bears it out."""

from __future__ import annotations

import difflib
import itertools
import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial

from faithful_reel.core.collate.again import BACK, GRAMMAR, Read, said_again
from faithful_reel.core.collate.findings import AGAIN, MOST_SWAPPED, SHOWN, Difference, departures
from faithful_reel.core.collate.links import Link, collated
from faithful_reel.core.hear.pronounce import common_words, is_word, phone_distance, phones_read
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.text.spoken import plain, sound_key, spoken_forms
from faithful_reel.core.units import EAR_RATE, Span

EARS = ("first", "second", "third")
RANK = ("second", "first", "third")
"""Whose words are the ground that others are put into."""
MOST_ALTERNATIVES = 4
LONGEST = 40
"""Words of the longest reading that is held against its phones."""
TRUSTED = 0.5
"""Share of its words in which an ear must agree with another, to be believed in a chunk at all."""
LINE, ALIKE = 5, 0.75
"""Words from which on two hearings need not be the same word by word to be the same line, and the share that must be."""
VOTE = 30.0
"""Nats that an ear's word for a reading counts, where the ears heard several; and that all of it are words."""
TWICE = 2
"""Such votes for a reading that is nothing but words of the text, some of them twice."""
CONTEXT = 2
"""Words on both sides of a place that are held against the phones with it."""
EDGE = EAR_RATE // 12
SAME_SOUND = 0.05
"""Nats that lie between two readings of the very same phones, since words are spoken in more ways than one."""
UNFIT = 80.0
"""Nats that a reading is taken to be worse where its phones can not be fitted to the sound at all."""

Witness = Callable[[Span, Sequence[Sequence[str]]], Sequence[float | None]]
Margins = Callable[[Sequence[str], Sequence[Sequence[str]]], list[float | None]]
"""Of how many nats better the sound around a place fits each of several rows of words than the first given one."""
SUREST = 0.5
AGREED_SURE, SURELY = 0.35, 0.6
"""Where every ear hears the same other words of the dictionary, each sure by the first, the phones say less against it; by the
second, they may rank but not fold it away (measured).
"""


@dataclass(frozen=True, slots=True)
class Vote:
    """What one ear read at a place: words, its own confidence, whether that is a right reading of the text there.

    `sures` is how sure it is of each word.
    """

    ear: str
    words: tuple[str, ...]
    sure: float
    right: bool
    sures: tuple[float, ...] = ()


@dataclass(frozen=True, slots=True)
class Judged:
    """One departure of a place: how sure it is real, how many nats better its phones fit than the text's, by what features."""

    difference: Difference
    confidence: float
    margin: float | None
    features: Mapping[str, float]


@dataclass(frozen=True, slots=True)
class Place:
    """Neighbouring written words at which some ear departs from the text; judged as one.

    `written` counts in the chapter's tokens and may be empty: something was heard between two words.  `said` is the
    reading that departs, the likeliest of those that the ears gave; `margin` how many nats better its phones fit the
    sound than those of the text; `departures` what it comes down to, each judged on its own.  `at` is where it stands
    in the chunk's agreed words, and `agreed` whether those read it as `said`.
    """

    written: range
    said: tuple[str, ...]
    votes: tuple[Vote, ...]
    margin: float | None
    confidence: float
    departures: tuple[Judged, ...]
    at: range
    agreed: bool


@dataclass(frozen=True, slots=True)
class Reading:
    """A chunk as the ears agree on it, where they do not all read what is written, and what each of them heard."""

    words: tuple[Heard, ...]
    places: tuple[Place, ...]
    by_ear: Mapping[str, Sequence[Heard]] = field(default_factory=dict)


def run_key(tokens: Iterable[str]) -> str:
    """What a row of tokens sounds like, however it is divided into words."""
    return "".join(sound_key(w) for t in tokens for w in spoken_forms(t)[0])


def reads_as(tokens: Sequence[str], written: Sequence[str]) -> bool:
    """Whether heard tokens are a right reading of written ones."""
    return all(link.same for link in collated(list(written), list(tokens)))


class _Track:
    """One ear's words against the segment's, with the place of every written boundary among the heard words."""

    def __init__(self, words: Sequence[Heard], segment: Sequence[str]) -> None:
        self.words, self.segment = words, segment
        self.links: list[Link] = collated(list(segment), [w.text for w in words])

    def differing(self) -> list[tuple[int, int]]:
        """Where this ear departs from the text; words in another order are one place."""
        apart = [link for link in self.links if not link.same]
        swapped = [
            (a.written.start, b.written.stop)
            for a, b in itertools.pairwise(apart)
            if b.written.stop - a.written.start <= MOST_SWAPPED
            and not (a.written and a.heard)
            and not (b.written and b.heard)
            and bool(a.written) != bool(b.written)
            and self._key(a) == self._key(b)
        ]
        return [(link.written.start, link.written.stop) for link in apart] + swapped

    def _key(self, link: Link) -> str:
        return run_key([*(self.segment[i] for i in link.written), *(self.words[j].text for j in link.heard)])

    def widened(self, lo: int, hi: int) -> tuple[int, int]:
        """The boundaries moved out of any link that they would cut through."""
        for link in self.links:
            a, b = link.written.start, link.written.stop
            if a < lo < b or (a < hi < b) or (not link.same and lo <= a and b <= hi):
                lo, hi = min(lo, a), max(hi, b)
        return lo, hi

    def part(self, lo: int, hi: int) -> range:
        """The heard words that stand at written [lo, hi), insertions at both of its ends included."""
        start, stop = 0, len(self.words)
        for link in self.links:
            if link.written.stop <= lo and not (link.written.start == link.written.stop == lo):
                start = link.heard.stop
        for link in reversed(self.links):
            if link.written.start >= hi and not (link.written.start == link.written.stop == hi):
                stop = link.heard.start
        return range(start, max(start, stop))


def read_chunk(
    segment: range,
    written: Sequence[str],
    starts: frozenset[int],
    heard: Mapping[str, Sequence[Heard]],
    phones: Witness | None = None,
    sound: Span | None = None,
    read: Read | None = None,
) -> Reading:
    """Hold what the ears heard in one chunk against the stretch of text that it reads.

    Parameters
    ----------
    segment : range
        Tokens of the chapter that this chunk reads; empty where it only repeats.
    written : sequence of str
        The whole chapter's tokens.
    starts : frozenset of int
        The tokens that begin a sentence.
    heard : mapping
        What each ear heard, by its name.  The words of the one that agrees best with the others are the ground that
        the others' are put into.
    phones : callable
        How well the sound of a stretch fits each of several rows of words by their phones alone, in nats; None of one that it
        does not fit at all.
    sound : Span
        Where the chunk is, in samples at the ear's rate: what no ear wrote down at its ends is held against the phones too.
    read : callable
        Decodes a stretch by a grammar: it is asked for repeats that the ears tidied away.
    """
    text = [written[i] for i in segment]
    names = _trusted(heard)
    tracks = [_Track(heard[name], text) for name in names]
    ground = tracks[0]
    weights = WEIGHTS if len(names) > 1 else ALONE
    spans = _merged([span for track in tracks for span in track.differing()], tracks)
    repeats: tuple[tuple[int, int], ...] = ()
    if read and sound and ground.words:
        heard_there = [(lo, hi, [track.words[j].text for j in track.part(lo, hi)]) for lo, hi in spans for track in tracks]
        ways = [way for way in heard_there if len(way[2]) <= way[1] - way[0]]  # what is more may be a repeat, misheard
        again = said_again(written[: segment.start], text, written[segment.stop :], ways, sound, read)
        if again and not _told_otherwise(again.stretches, text, spans, tracks):
            tracks.append(_Track(again.words, text))
            names.append(GRAMMAR)
            repeats = again.stretches
            spans = _merged([*spans, *repeats, *tracks[-1].differing()], tracks)
    parts = [ground.part(lo, hi) for lo, hi in spans]
    versions: list[list[list[Heard]]] = []
    fits: list[Margins | None] = []
    asked: list[tuple[list[Vote], list[tuple[str, ...]]]] = []
    for lo, hi in spans:
        twice = any(lo <= a and b <= hi for a, b in repeats)  # of all else the grammar is no judge
        voting = [k for k, name in enumerate(names) if twice or name != GRAMMAR]
        version = [[tracks[k].words[j] for j in tracks[k].part(lo, hi)] for k in voting]
        votes = [
            Vote(
                names[k],
                tuple(w.text for w in said),
                min((w.confidence for w in said), default=_around(tracks[k], lo, hi)),
                reads_as([w.text for w in said], text[lo:hi]),
                tuple(w.confidence for w in said),
            )
            for k, said in zip(voting, version, strict=True)
        ]
        versions.append(version)
        sounding = tracks[-1] if twice else ground  # whose words tell where the place lies in the sound
        fits.append(partial(_margins, phones, sounding.words, sound, sounding.part(lo, hi)) if phones else None)
        others: dict[str, tuple[str, ...]] = {}
        for vote in votes:
            if not vote.right:
                others.setdefault(run_key(vote.words), vote.words)
        alternatives = list(others.values())[:MOST_ALTERNATIVES]
        asked.append((votes, alternatives))
    places: list[Place] = []
    for (lo, hi), fitting, (votes, alternatives) in zip(spans, fits, asked, strict=True):
        if alternatives:
            span = range(segment.start + lo, segment.start + hi)
            places.append(_place(span, written, starts, votes, alternatives, fitting, weights))
    return replace(_agreed(ground, parts, versions, places, asked), by_ear=heard)


def _place(
    span: range,
    written: Sequence[str],
    starts: frozenset[int],
    votes: list[Vote],
    alternatives: list[tuple[str, ...]],
    fitting: Margins | None,
    weights: Mapping[str, float],
) -> Place:
    """What was said at a place where the ears part, and how sure that is: what was said first, before whether it was."""
    text = written[span.start : span.stop]
    as_read = next((v.words for v in votes if v.right), tuple(_bare(t) for t in text))
    rows = [said for said in alternatives if max(len(said), len(as_read)) <= LONGEST]
    margins = dict(zip(rows, fitting(as_read, rows), strict=True)) if fitting and rows else {}
    around = written[max(0, span.start - 30) : span.start], written[span.stop : span.stop + 30]
    near_by = {run_key([t]) for t in written[max(0, span.start - BACK) : span.stop + BACK]}
    judged = []
    for k, said in enumerate(alternatives):
        ears = sum(run_key(v.words) == run_key(said) for v in votes)
        margin = margins.get(said)
        if margin == -UNFIT and ears > 1:
            margin = None  # two ears have it: the stretch was taken too short
        features = features_of(text, said, votes, margin, *around)
        twice = len(said) > len(span) and all(run_key([t]) in near_by for t in said)
        likely = ears + all(map(is_word, said)) + TWICE * twice
        fit = VOTE * likely + (-math.inf if margin is None else margin)
        judged.append((fit, -k, said, margin, features))
    _, _, said, margin, features = max(judged, key=lambda one: one[:2])
    sure = confidence_of(features, weights)
    found = departures(written, starts, span, said)
    if len(found) > 1 or (span and found and (_again(found[0]) or found[0].written != span)):
        split = _split(written, starts, span, as_read, said, votes, found, weights, sure, fitting)
    else:
        split = tuple(Judged(d, sure, margin, features) for d in found)
    return Place(span, said, tuple(votes), margin, sure, split, range(0), agreed=False)


def _told_otherwise(
    stretches: Sequence[tuple[int, int]], text: Sequence[str], spans: Sequence[tuple[int, int]], tracks: Sequence[_Track]
) -> bool:
    """Whether two ears agree on a row between two written words that the grammar takes in another cut to be said again."""
    for lo, hi in spans:
        rows = [[run_key([track.words[j].text]) for j in track.part(lo, hi)] for track in tracks]
        for row in (row for row in rows if lo == hi and rows.count(row) > 1):
            for a, b in stretches:
                own = [run_key([t]) for t in text[a:b]]
                if own != row and len(set(own) & set(row)) > 1 and lo <= b and a <= hi + len(row):
                    return True
    return False


def _split(
    written: Sequence[str],
    starts: frozenset[int],
    span: range,
    as_read: Sequence[str],
    said: Sequence[str],
    votes: Sequence[Vote],
    found: Sequence[Difference],
    weights: Mapping[str, float],
    together: float,
    fitting: Margins | None,
) -> tuple[Judged, ...]:
    """Judge each departure of a place on its own: a name misheard beside a repeat is none the surer for it."""
    others = [(v, departures(written, starts, span, v.words)) for v in votes]
    judged = []
    for d in found:
        mine = [said[j] for j in d.heard]
        own = []
        for vote, theirs in others:
            here = [e for e in theirs if e.written == d.written or _overlap(e.written, d.written) or (_again(d) and _again(e))]
            same = [e for e in here if e.written == d.written and run_key(vote.words[j] for j in e.heard) == run_key(mine)]
            words = tuple(mine) if same else tuple(vote.words[j] for e in here for j in e.heard)
            sure = min((vote.sures[j] for e in here for j in e.heard if vote.sures), default=vote.sure)
            own.append(Vote(vote.ear, words, sure, not here))
        at = range(d.written.start, d.written.start) if _again(d) else d.written  # what is said again is not there twice
        text = [written[i] for i in at]
        margin = None
        if fitting and max(len(said), len(span)) <= LONGEST:
            (margin,) = fitting([*said[: d.heard.start], *(_bare(t) for t in text), *said[d.heard.stop :]], [said])
            if margin and margin > 0 and not _again(d) and len(as_read) == len(span):  # and where all the rest is as written
                lo, hi = d.written.start - span.start, d.written.stop - span.start
                (alone,) = fitting(as_read, [[*as_read[:lo], *mine, *as_read[hi:]]])
                margin = margin if alone is None else min(margin, alone)
        around = written[max(0, at.start - 30) : at.start], written[at.stop : at.stop + 30]
        features = features_of(text, mine, own, margin, *around)
        sure = confidence_of(features, weights)
        judged.append(Judged(d, max(sure, together) if _again(d) else sure, margin, features))
    return tuple(judged)


def _again(d: Difference) -> bool:
    """Whether a departure is a stretch read again, or as good as one: three words and more that are not written."""
    return d.kind in AGAIN or (not d.written and len(d.heard) > 2)


def _overlap(a: range, b: range) -> bool:
    return a.start < b.stop and b.start < a.stop


def _agreed(
    ground: _Track,
    parts: list[range],
    versions: list[list[list[Heard]]],
    places: list[Place],
    asked: list[tuple[list[Vote], list[tuple[str, ...]]]],
) -> Reading:
    """The ground's words with every place as it is likeliest read by some ear; never by the script alone."""
    words: list[Heard] = []
    out: list[Place] = []
    judged = iter(places)
    at = 0
    for part, version, (votes, alternatives) in zip(parts, versions, asked, strict=True):
        words += ground.words[at : part.start]
        at = part.stop
        place = next(judged) if alternatives else None
        chosen = version[0]
        agreed = False
        if place is not None:
            right = next((v for v, vote in zip(version, votes, strict=True) if vote.right), None)
            agreed = place.confidence >= SUREST or right is None
            if agreed:
                key = run_key(place.said)
                chosen = next(v for v in version if run_key(w.text for w in v) == key)
            elif right is not None:
                chosen = right
        start = len(words)
        words += _timed(chosen, ground, part)
        if place is not None:
            out.append(replace(place, at=range(start, len(words)), agreed=agreed))
    words += ground.words[at:]
    return Reading(tuple(words), tuple(out))


def _timed(chosen: list[Heard], ground: _Track, part: range) -> list[Heard]:
    """Words of another ear, at the ground's times: shared out by their length."""
    if [ground.words[j] for j in part] == chosen or not chosen:
        return chosen
    before = ground.words[part.start - 1].stop if part.start else (ground.words[0].start if ground.words else chosen[0].start)
    after = ground.words[part.stop].start if part.stop < len(ground.words) else chosen[-1].stop
    start = ground.words[part.start].start if part else before
    stop = ground.words[part.stop - 1].stop if part else max(after, before)
    sizes = [len(w.text) for w in chosen]
    at, out = 0, []
    for w, size in zip(chosen, sizes, strict=True):
        a = start + (stop - start) * at // max(1, sum(sizes))
        at += size
        b = start + (stop - start) * at // max(1, sum(sizes))
        out.append(Heard(w.text, a, max(b, a + 1), w.confidence, w.witness))
    return out


def _around(track: _Track, lo: int, hi: int) -> float:
    """How sure an ear is of the words on both sides of a gap."""
    part = track.part(lo, hi)
    beside = [track.words[j].confidence for j in (part.start - 1, part.stop) if 0 <= j < len(track.words)]
    return min(beside, default=0.5)


def _trusted(heard: Mapping[str, Sequence[Heard]]) -> list[str]:
    """The ears, the one that agrees best with the others first; one that lost itself in this chunk is left out."""
    silent = [n for n, words in heard.items() if not words]
    if 2 * len(silent) > len(heard):  # it is the one that heard something that is not to be believed
        return sorted(heard, key=lambda n: (n not in silent, RANK.index(n)))
    keys = {name: [run_key([w.text]) for w in words] for name, words in heard.items()}
    alike = {
        name: max((_alike(mine, other) for n, other in keys.items() if n != name), default=1.0) for name, mine in keys.items()
    }
    names = sorted((n for n in heard if alike[n] >= TRUSTED), key=lambda n: (-round(alike[n] * 4), RANK.index(n)))
    return names or sorted(heard, key=RANK.index)


def _alike(a: Sequence[str], b: Sequence[str]) -> float:
    return difflib.SequenceMatcher(None, a, b, autojunk=False).ratio()


def _margins(
    phones: Witness,
    words: Sequence[Heard],
    sound: Span | None,
    part: range,
    as_read: Sequence[str],
    rows: Sequence[Sequence[str]],
) -> list[float | None]:
    """Of how many nats better the sound around a place fits each row than what is written; None where neither fits."""
    most = max(map(len, rows))
    found: Sequence[float | None] = ()
    for context in (CONTEXT, CONTEXT + 2):
        reach = context + max(0, most - len(part))  # what was tidied away may be counted to any of the words it repeats
        lo, hi = max(0, part.start - reach), min(len(words), part.stop + reach)
        if lo == hi:
            return [None] * len(rows)
        start = sound.start if sound and lo == 0 else max(0, words[lo].start - EDGE)
        stop = sound.stop if sound and hi == len(words) else max(words[lo].start, words[hi - 1].stop) + EDGE
        left, right = ([w.text for w in words[lo : part.start]], [w.text for w in words[part.stop : hi]])
        if not (left or as_read or right):
            return [None] * len(rows)
        found = phones(Span(start, max(start, stop)), [[*left, *row, *right] for row in (as_read, *rows)])
        if None not in found:
            break
    written, *others = found
    if written is None:
        return [None if other is None else UNFIT for other in others]
    return [-UNFIT if other is None else other - written for other in others]


def _merged(spans: list[tuple[int, int]], tracks: Sequence[_Track]) -> list[tuple[int, int]]:
    """Touching spans joined, and widened until none cuts through any ear's link."""
    merged = sorted(set(spans))
    while True:
        wider: list[tuple[int, int]] = []
        for span in merged:
            lo, hi = span
            for track in tracks:
                lo, hi = track.widened(lo, hi)
            if wider and lo <= wider[-1][1]:
                lo, hi = min(lo, wider[-1][0]), max(hi, wider.pop()[1])
            wider.append((lo, hi))
        if wider == merged:
            return merged
        merged = wider


def _bare(token: str) -> str:
    return token.strip('"“”‘()[]')


# --- how sure -----------------------------------------------------------------------------------------------------


def features_of(
    written: Sequence[str],
    said: Sequence[str],
    votes: Sequence[Vote],
    margin: float | None,
    before: Sequence[str] = (),
    after: Sequence[str] = (),
) -> dict[str, float]:
    """What a place is judged by; each between about -1 and 2.  `before` and `after` are the written words around it."""
    w, h = phones_read(written), phones_read(said)
    distance = phone_distance(w, h) / max(len(w), len(h), 1)
    names = [t for t in written if _name_like(t)] if distance < 0.6 else []
    strange = any(not is_word(t) for t in names)
    key = run_key(said)
    same = {
        v.ear: v
        for v in votes
        if v.ear in EARS and not v.right and (run_key(v.words) == key or (not written and _same_line(v.words, said)))
    }
    tidied = any(v.ear == GRAMMAR and run_key(v.words) == key for v in votes)
    right = {} if tidied else {v.ear: v for v in votes if v.right}  # that others do not write it says little then
    found = {"one": 1.0}
    for ear in EARS:
        found[f"{ear}_has"] = float(ear in same)
        found[f"{ear}_right"] = float(ear in right)
        found[f"{ear}_sure"] = same[ear].sure - 0.7 if ear in same else 0.0
        found[f"{ear}_sure_right"] = right[ear].sure - 0.7 if ear in right else 0.0
    asked = [v for v in votes if v.ear in EARS]
    known = w != h and all(is_word(t) for t in (*written, *said))
    agreed = known and not tidied and len(same) == len(asked) == len(EARS) and min(v.sure for v in asked) >= AGREED_SURE
    alike = bool(written) and bool(said) and margin is not None and abs(margin) < SAME_SOUND
    breath = margin is None and not written and len(said) == 1
    fits = math.tanh(margin / 60) if margin is not None else 0.0
    found |= {
        "margin": fits,
        "great_margin": max(-1.0, min(2.0, margin / 150)) if margin is not None else 0.0,
        "margin_against_two": fits if len(right) > 1 else 0.0,
        "all_agree": float(agreed),
        "agree_against": min(0.0, fits) if agreed else 0.0,
        "surely_agreed": float(agreed and not alike and min(v.sure for v in asked) >= SURELY),
        "no_margin": float(margin is None and not written),
        "breath": (0.5 - min((v.sure for v in same.values()), default=0.5)) if breath else 0.0,
        "name": float(bool(names) and not strange),
        "strange_name": float(strange),
        "unknown": float(not names and any(not is_word(t) for t in written)),
        "split": float(len(written) != len(said) and bool(written) and bool(said)),
        "elided": float(bool(w) and w != h and _without_stops(w) == _without_stops(h)),
        "merged": float(_merges(w, h, phones_read(after[:1])[:1])),
        "no_word": float(any(not is_word(t) for t in said)),
        "same_sound": float(alike),
        "near": float(bool(written) and bool(said) and distance < 0.2),
        "missing": float(not said),
        "extra": float(not written),
        "tidied": float(tidied),
        "tidied_margin": max(-1.0, min(2.0, (margin or 0.0) / 100)) if tidied else 0.0,
        "again": float(
            not (written or tidied)
            and any(run_key(near) == key or _same_line(near, said) for near in (before[-len(said) :], after[: len(said)]))
        ),
        "line": float(not written and len(said) >= LINE and len(same) > 1),
        "long": float(len(written) > 3),
    }
    return found


def _same_line(a: Sequence[str], b: Sequence[str]) -> bool:
    """Whether two rows of words are two hearings of a line; not every word of it must be the same."""
    return len(b) >= LINE and _alike([run_key([t]) for t in a], [run_key([t]) for t in b]) >= ALIKE


def _merges(w: tuple[str, ...], h: tuple[str, ...], following: tuple[str, ...]) -> bool:
    """Whether two words differ by a last sound that the next word's first one swallows ("hours should", "had done")."""
    longer, shorter = (w, h) if len(w) > len(h) else (h, w)
    if not shorter or not following or longer[:-1] != shorter:
        return False
    hissing = longer[-1] in ("S", "Z") and following[0] in ("S", "Z", "SH", "CH", "JH")
    return hissing or (longer[-1] in ("T", "D") and following[0][0] not in "AEIOUH")


def _without_stops(phones: tuple[str, ...]) -> tuple[str, ...]:
    """Phones without T and D after a consonant, which running speech swallows ("asked Nell")."""
    vowels = ("A", "E", "I", "O", "U")
    return tuple(p for i, p in enumerate(phones) if not (p in ("T", "D") and i and not phones[i - 1].startswith(vowels)))


def _name_like(token: str) -> bool:
    bare = token.strip("\"“”‘’()[].,;:!?…—–-'")
    return bool(bare) and bare[0].isupper() and plain(bare) not in common_words()


WEIGHTS = {
    "one": -3.54,
    "first_has": 0.75,
    "first_right": -1.24,
    "first_sure": 1.46,
    "first_sure_right": -0.3,
    "second_has": 0.52,
    "second_right": -1.44,
    "second_sure": 1.53,
    "second_sure_right": -0.32,
    "third_has": 1.18,
    "third_right": -0.75,
    "third_sure": 1.54,
    "third_sure_right": -0.99,
    "margin": 1.92,
    "great_margin": 2.75,
    "margin_against_two": 0.02,
    "all_agree": 0.66,
    "agree_against": -0.35,
    "surely_agreed": 0.71,
    "no_margin": 0.81,
    "breath": -7.0,  # set by hand: nobody breathes in the tuning chapters so that an ear makes a word of it
    "name": -0.73,
    "strange_name": -0.6,  # set by hand: no ear knows an invented name
    "unknown": -0.46,
    "split": -0.66,
    "elided": -0.8,  # set by hand: hardly any stand in the tuning chapters, and readers swallow these all the time
    "merged": -2.07,
    "no_word": -0.59,
    "same_sound": -4.0,  # set by hand: nothing of the kind stands in the tuning chapters ("thee" and "the")
    "near": -0.29,
    "missing": 1.6,
    "extra": 0.34,
    "tidied": 0.1,
    "tidied_margin": 0.77,
    "again": 1.09,
    "line": 0.5,  # set by hand: two ears do not make up the same line, and hardly any in the tuning chapters lacks a margin
}
"""Fitted by logistic regression at a natural rate of errors (benchmarks/ear/fit.py)."""
ALONE = {
    "one": 0.47,
    "first_sure": 2.32,
    "name": -1.07,
    "strange_name": -1.5,
    "split": 0.53,
    "elided": -0.69,
    "merged": -1.24,
    "near": -2.06,
    "missing": 0.93,
    "extra": 2.4,
    "again": -0.45,
    "long": 0.63,
}
"""The same for the first ear alone, before the others are asked; fitted in the same way on its votes."""


def confidence_of(features: Mapping[str, float], weights: Mapping[str, float] = WEIGHTS) -> float:
    """How sure a departure is real, 0 to 1: a logistic sum of its features; what all ears are sure of is shown."""
    z = sum(weights.get(name, 0.0) * value for name, value in features.items())
    sure = round(1 / (1 + math.exp(-z)), 3)
    return max(sure, SHOWN) if features.get("surely_agreed") else sure
