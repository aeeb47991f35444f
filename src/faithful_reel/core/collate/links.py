"""Collation proper: which heard words speak which written words."""

from __future__ import annotations

import difflib
from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.hear.pronounce import phone_distance, phone_distances, phones_of
from faithful_reel.core.text.spoken import Form, readings, sound_key, spoken_forms

ANCHOR = 5
_SWAP, _OPEN, _EXTEND = 1.15, 0.55, 0.42
NEAR_COST, NEAR_SOUND = 0.4, 0.5
"""What a swap costs of two words whose phones differ by no more than this share.  There is no finer scale: of two copies of
a line the last is to be taken, not the one in which a name was heard a little better."""
LONGEST_DOUBLE, _DOUBLED = 6, 0.1
"""Words that are heard twice on the spot, at most, and what each of the first copy costs where it is not written."""
MOST_COMPARED = 4_000_000
"""Pairs of different words whose sounds are compared; in a larger stretch read from another text all swaps cost alike."""


@dataclass(frozen=True, slots=True)
class Link:
    """Written tokens `written` against heard tokens `heard`; half-open ranges, either may be empty.

    `same` tells whether the heard words are a right reading of the written ones.
    """

    written: range
    heard: range
    same: bool


@dataclass(frozen=True, slots=True)
class _Atoms:
    """A row of tokens spelled out as plain words: keys, and the token that each atom belongs to."""

    words: tuple[str, ...]
    keys: tuple[str, ...]
    owner: tuple[int, ...]

    def doubled(self) -> NDArray[np.bool_]:
        """Which of them are said again right after them, alone or with their neighbours."""
        found = np.zeros(len(self.keys), bool)
        for count in range(1, LONGEST_DOUBLE + 1):
            for at in range(len(self.keys) - 2 * count + 1):
                if self.keys[at : at + count] == self.keys[at + count : at + 2 * count]:
                    found[at : at + count] = True
        return found


def _atoms(forms: Sequence[Form]) -> _Atoms:
    words, owner = [], []
    for index, form in enumerate(forms):
        words += list(form)
        owner += [index] * len(form)
    return _Atoms(tuple(words), tuple(sound_key(w) for w in words), tuple(owner))


def _chosen_forms(written: Sequence[str], heard: _Atoms) -> list[Form]:
    """For every written token the reading that stands near its place in what was heard, else the plainest."""
    places: dict[str, list[int]] = {}
    for at, key in enumerate(heard.keys):
        places.setdefault(key, []).append(at)
    chosen: list[Form] = []
    for index, forms in enumerate(readings(written)):
        if len(forms) > 1:
            expected = index / max(1, len(written)) * len(heard.keys)
            reach = 40 + 0.15 * len(heard.keys)
            hits = []
            for order, form in enumerate(forms):
                keys = tuple(sound_key(w) for w in form)
                if not keys:
                    continue
                near = [
                    at
                    for at in places.get(keys[0], ())
                    if abs(at - expected) <= reach and heard.keys[at : at + len(keys)] == keys
                ]
                if near:
                    hits.append((-len(keys), min(abs(at - expected) for at in near), order))
            chosen.append(forms[min(hits)[2]] if hits else forms[0])
        else:
            chosen.append(forms[0])
    return chosen


@numba.njit(cache=True, nogil=True)
def _table(a, b, swaps, open_, extend, extends):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Gotoh's algorithm (1982): three states, affine gaps, a cost for every pair.  Returns the traceback bits of every cell.

    A word that was not heard costs `extend`, one that is not written its own of `extends`.

    Bits 0-1: where the match state came from (0 match, 1 written gap, 2 heard gap); bit 2: the heard gap (heard words
    with no written ones) goes on; bit 3: the written gap goes on.
    """
    n, m = a.size, b.size
    big = 1e18
    back = np.zeros((n + 1, m + 1), np.uint8)
    match = np.full(m + 1, big)
    extra = np.full(m + 1, big)  # heard words that are not written
    missing = np.full(m + 1, big)  # written words that were not heard
    match[0] = 0.0
    for j in range(1, m + 1):
        extra[j] = extends[j - 1] + (open_ if j == 1 else extra[j - 1])
        back[0, j] = 4 if j > 1 else 0
        match[j] = extra[j]
        back[0, j] |= 1
    for i in range(1, n + 1):
        diagonal = match[0]
        missing[0] = open_ + extend * i
        match[0] = missing[0]
        extra[0] = big
        back[i, 0] = 2 | (8 if i > 1 else 0)
        for j in range(1, m + 1):
            bits = 0
            if missing[j] + extend < match[j] + open_ + extend:
                missing[j] = missing[j] + extend
                bits |= 8
            else:
                missing[j] = match[j] + open_ + extend
            if extra[j - 1] < match[j - 1] + open_:
                extra[j] = extra[j - 1] + extends[j - 1]
                bits |= 4
            else:
                extra[j] = match[j - 1] + open_ + extends[j - 1]
            best = diagonal + swaps[a[i - 1], b[j - 1]]
            diagonal = match[j]
            if extra[j] < best - 1e-9:  # as good but for rounding is no better: the last copy is taken
                best = extra[j]
                bits |= 1
            if missing[j] < best - 1e-9:
                best = missing[j]
                bits = (bits & 12) | 2
            match[j] = best
            back[i, j] = bits
    return back


def _swap_costs(a: Sequence[str], b: Sequence[str]) -> NDArray[np.float64]:
    """What it costs to take one word for another: nothing where their keys are the same, less where they sound alike."""
    costs = np.full((len(a), len(b)), _SWAP)
    if costs.size <= MOST_COMPARED:
        mine, theirs = ([phones_of(w) for w in words] for words in (a, b))
        known = np.outer(*(np.array([bool(p) for p in row], bool) for row in (mine, theirs)))  # not in other letters
        costs[known & (phone_distances(mine, theirs) <= NEAR_SOUND)] = NEAR_COST
    at = {word: j for j, word in enumerate(b)}
    for i, word in enumerate(a):
        if word in at:
            costs[i, at[word]] = 0.0
    return costs


def _aligned(a: Sequence[str], b: Sequence[str], doubled: NDArray[np.bool_]) -> list[tuple[int, int]]:
    """Pairs (i, j) of aligned words, same or swapped.  Of equal ways the one that takes the last copy of a repeat."""
    mine, theirs = list(dict.fromkeys(a)), list(dict.fromkeys(b))
    codes_a, codes_b = ({w: k for k, w in enumerate(words)} for words in (mine, theirs))
    row_a, row_b = (np.array([codes[w] for w in row], np.int64) for codes, row in ((codes_a, a), (codes_b, b)))
    back = _table(row_a, row_b, _swap_costs(mine, theirs), _OPEN, _EXTEND, np.where(doubled, _DOUBLED, _EXTEND))
    i, j, state = len(a), len(b), 0
    pairs: list[tuple[int, int]] = []
    while i or j:
        bits = int(back[i, j])
        if state == 0:
            came = bits & 3
            if came == 0:
                i, j = i - 1, j - 1
                pairs.append((i, j))
                continue
            state = came
        if state == 1:
            state = 1 if bits & 4 else 0
            j -= 1
        else:
            state = 2 if bits & 8 else 0
            i -= 1
    return pairs[::-1]


def _anchors(a: Sequence[str], b: Sequence[str]) -> list[tuple[int, int]]:
    """Starts of `ANCHOR`-word runs that occur once on either side, in rising order on both."""

    def once(keys: Sequence[str]) -> dict[tuple[str, ...], int]:
        seen: dict[tuple[str, ...], int] = {}
        for at in range(len(keys) - ANCHOR + 1):
            gram = tuple(keys[at : at + ANCHOR])
            seen[gram] = -1 if gram in seen else at
        return {gram: at for gram, at in seen.items() if at >= 0}

    left, right = once(a), once(b)
    pairs = sorted((at, right[gram]) for gram, at in left.items() if gram in right)
    tails: list[int] = []
    chain: list[int] = []
    before = [-1] * len(pairs)
    for index, (_, j) in enumerate(pairs):  # longest rising run, by patience
        at = bisect_left(tails, j)
        if at == len(tails):
            tails.append(j)
            chain.append(index)
        else:
            tails[at], chain[at] = j, index
        before[index] = chain[at - 1] if at else -1
    result = []
    at = chain[-1] if chain else -1
    while at >= 0:
        result.append(pairs[at])
        at = before[at]
    return result[::-1]


def collated(written: Sequence[str], heard: Sequence[str]) -> list[Link]:
    """Link written tokens with heard tokens, in order; every token of both sides is in exactly one link."""
    heard_atoms = _atoms([spoken_forms(t)[0] for t in heard])
    written_atoms = _atoms(_chosen_forms(written, heard_atoms))
    a, b = written_atoms.keys, heard_atoms.keys
    doubled = heard_atoms.doubled()
    pairs: list[tuple[int, int]] = []
    at_a = at_b = 0
    # cut in the middle of an anchor, and seldom: a repeat near an anchor must stay in one table
    cuts = [(i + ANCHOR // 2, j + ANCHOR // 2) for i, j in _anchors(written_atoms.keys, heard_atoms.keys)]
    last = len(cuts) - 1
    for index, (i, j) in enumerate([*cuts, (len(a), len(b))]):
        if index <= last and i - at_a < 400:
            continue
        if i < at_a or j < at_b:
            continue
        pairs += [(p + at_a, q + at_b) for p, q in _aligned(a[at_a:i], b[at_b:j], doubled[at_b:j])]
        at_a, at_b = i, j
    twice = set(range(len(heard))) - {owner for owner, first in zip(heard_atoms.owner, doubled, strict=True) if not first}
    return _links(written_atoms, heard_atoms, pairs, len(written), len(heard), twice)


def _links(w: _Atoms, h: _Atoms, pairs: list[tuple[int, int]], n_written: int, n_heard: int, doubled: set[int]) -> list[Link]:
    """Token links from atom pairs: tokens held together by a same pair form a link, the rest are differences."""
    groups: list[list[int]] = []  # [written start, stop, heard start, stop) of same links, in tokens
    spoiled_w: set[int] = set()
    spoiled_h: set[int] = set()
    paired_w, paired_h = dict(pairs), {q: p for p, q in pairs}
    same = {(p, q) for p, q in pairs if w.keys[p] == h.keys[q]}
    for p in range(len(w.keys)):
        if p not in paired_w or (p, paired_w[p]) not in same:
            spoiled_w.add(w.owner[p])
    for q in range(len(h.keys)):
        if q not in paired_h or (paired_h[q], q) not in same:
            spoiled_h.add(h.owner[q])
    for p, q in pairs:
        if (p, q) in same and w.owner[p] not in spoiled_w and h.owner[q] not in spoiled_h:
            i, j = w.owner[p], h.owner[q]
            if groups and (groups[-1][1] > i or groups[-1][3] > j):
                groups[-1][1], groups[-1][3] = max(groups[-1][1], i + 1), max(groups[-1][3], j + 1)
            else:
                groups.append([i, i + 1, j, j + 1])
    silent = {i for i, token in enumerate(_silent_tokens(w, n_written)) if token}
    links: list[Link] = []
    i = j = 0
    for start_w, stop_w, start_h, stop_h in [*groups, [n_written, n_written, n_heard, n_heard]]:
        if start_w > i or start_h > j:
            links += _difference(w, h, range(i, start_w), range(j, start_h), silent, doubled)
        if stop_w > start_w:
            links.append(Link(range(start_w, stop_w), range(start_h, stop_h), same=True))
        i, j = stop_w, stop_h
    return links


def _silent_tokens(w: _Atoms, count: int) -> list[bool]:
    spoken = set(w.owner)
    return [i not in spoken for i in range(count)]


def _text(atoms: _Atoms, tokens: range) -> list[str]:
    return [word for word, owner in zip(atoms.words, atoms.owner, strict=True) if owner in tokens]


def _difference(w: _Atoms, h: _Atoms, written: range, heard: range, silent: set[int], doubled: set[int]) -> list[Link]:
    """Pair the tokens of a differing stretch by how they sound; joined and split words count as the same."""
    lo = [i for i in written if i not in silent]
    if not lo or not heard:
        quiet = [Link(range(i, i + 1), range(heard.start, heard.start), same=True) for i in written if i in silent]
        rest = [Link(range(lo[0], lo[-1] + 1), range(heard.start, heard.start), same=False)] if lo else []
        extra = [Link(range(written.start, written.start), heard, same=False)] if heard else []
        return extra + (quiet if not lo else rest)
    return _paired(w, h, written, heard, doubled)


def _paired(w: _Atoms, h: _Atoms, written: range, heard: range, doubled: set[int]) -> list[Link]:
    """Least-cost pairing of two short rows of tokens: 1-1, 1-2, 2-1 by phones; gaps cost by their length."""
    n, m = len(written), len(heard)
    if n * m > 40_000:  # a long stretch read from another text: nothing to pair
        return [
            Link(range(written.start, written.start), heard, same=False),
            Link(written, range(heard.stop, heard.stop), same=False),
        ]
    left = [_text(w, range(i, i + 1)) for i in written]
    right = [_text(h, range(j, j + 1)) for j in heard]
    left_phones = [tuple(p for word in words for p in phones_of(word)) for words in left]
    right_phones = [tuple(p for word in words for p in phones_of(word)) for words in right]
    cost = np.full((n + 1, m + 1), np.inf)
    move = np.zeros((n + 1, m + 1, 2), np.int8)
    cost[0, 0] = 0
    for i in range(n + 1):
        for j in range(m + 1):
            if i == j == 0:
                continue
            options = []
            for di, dj in ((1, 1), (1, 2), (2, 1), (1, 0), (0, 1), (2, 2)):
                if di > i or dj > j or not np.isfinite(cost[i - di, j - dj]):
                    continue
                if not di and heard[j - 1] in doubled:
                    pair = _DOUBLED
                else:
                    pair = _pair_cost(left, right, left_phones, right_phones, i - di, di, j - dj, dj)
                options.append((cost[i - di, j - dj] + pair, di, dj))
            if options:
                best = min(options)
                cost[i, j], move[i, j] = best[0], best[1:]
    links: list[Link] = []
    i, j = n, m
    while i or j:
        di, dj = (int(v) for v in move[i, j])
        i, j = i - di, j - dj
        words = "".join(x for k in range(i, i + di) for x in left[k])
        spoken = "".join(x for k in range(j, j + dj) for x in right[k])
        same = sound_key(words.replace("'", "")) == sound_key(spoken.replace("'", "")) if di and dj else not words and not dj
        links.append(
            Link(range(written.start + i, written.start + i + di), range(heard.start + j, heard.start + j + dj), same=same)
        )
    return links[::-1]


def _pair_cost(
    left: list[list[str]],
    right: list[list[str]],
    lp: list[tuple[str, ...]],
    rp: list[tuple[str, ...]],
    i: int,
    di: int,
    j: int,
    dj: int,
) -> float:
    a = tuple(p for k in range(i, i + di) for p in lp[k])
    b = tuple(p for k in range(j, j + dj) for p in rp[k])
    if not di or not dj:
        return 0.0 if not a and not b else 0.62 + 0.04 * len(a or b)
    distance = phone_distance(a, b) / max(1, len(a), len(b))
    words = "".join(x for k in range(i, i + di) for x in left[k])
    spoken = "".join(x for k in range(j, j + dj) for x in right[k])
    if words == spoken:
        distance = 0.0
    elif difflib.SequenceMatcher(None, words, spoken).ratio() > 0.8:
        distance *= 0.8
    return 0.05 * (di + dj) + 1.1 * distance * (di + dj) / 2 + (0.1 if di != dj else 0.0)
