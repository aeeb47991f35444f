"""Sorting a pickup recording: each island of speech is heard on its own, and all lines are looked for in it together."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.audio.voice import VoiceBands, runs
from faithful_reel.core.collate.links import NEAR_SOUND
from faithful_reel.core.hear.ears import Ears
from faithful_reel.core.hear.memory import Memory
from faithful_reel.core.hear.pauses import EDGE_S, LONGEST_S, Chunk
from faithful_reel.core.hear.pronounce import phone_distance, phone_distances, phones_of
from faithful_reel.core.hear.recogniser import Heard, hear, passing
from faithful_reel.core.jobs import Watch
from faithful_reel.core.text.spoken import plain, sound_key, spoken_forms
from faithful_reel.core.units import EAR_RATE, Signal, Span

ISLAND_S = 0.4
"""A pause from which on what follows is heard on its own: in one go an ear tidies a line that is begun twice (measured)."""
SAME, NEAR, OTHER, UNREAD, EXTRA, APART = 1.0, 0.4, -0.7, -0.6, -0.5, 0.2
"""What a word counts that is read as written, one that sounds like it, another one; what one costs that is not read or not
written, and a pause between two islands.  Own choice."""
LEAST_SHARE, LEAST_WORDS = 0.4, 3
"""A take reads this share of its line at least, and so many words of a longer one."""
LEAST_MARKED, FEW_TRIES = 4, 3
"""Less is one where it stands alone in its island and holds all words that the line is asked for, so many words at least."""
LEAST_PHONES, MOST_APART = 7, 0.42
"""A line of so many phones is known by its sound where so small a share of them differs."""
HARDLY = 0.25
"""Where no more of a line is lacking, the take is one of the whole line."""
FOLLOWS, AGAIN = 0.25, 0.3
"""What counts for the next line on the sheet to follow, and for another take of the same one: it decides between lines alike."""


@dataclass(frozen=True, slots=True)
class Match:
    """A stretch that reads a line, or part of it: heard words, and the line's tokens that they read.  `line` is its number."""

    line: int
    words: range
    tokens: range
    score: float


@dataclass(frozen=True, slots=True)
class Sorted:
    """What was heard in a pickup recording, the stretches that read lines, in order, and the words that read none.

    `owner` is the island of every heard word; positions at 16 kHz.
    """

    heard: tuple[Heard, ...]
    owner: tuple[int, ...]
    islands: tuple[Span, ...]
    matches: tuple[Match, ...]

    def where(self, match: Match) -> Span:
        """The islands that a match lies in, up to the middle of the gap to the nearest word that reads another line or take."""
        first, last = match.words.start, match.words.stop - 1
        start, stop = self.islands[self.owner[first]].start, self.islands[self.owner[last]].stop
        read = {j for m in self.matches for j in m.words}
        before = next((j for j in range(first - 1, -1, -1) if j in read or self.owner[j] != self.owner[first]), -1)
        after = next((j for j in range(last + 1, len(self.heard)) if j in read or self.owner[j] != self.owner[last]), -1)
        if before >= 0 and self.owner[before] == self.owner[first]:
            start = (self.heard[before].stop + self.heard[before + 1].start) // 2
        if after >= 0 and self.owner[after] == self.owner[last]:
            stop = (self.heard[after - 1].stop + self.heard[after].start) // 2
        return Span(min(start, stop), max(start, stop))

    @property
    def left(self) -> list[range]:
        """Runs of heard words that read no line."""
        taken = {j for m in self.matches for j in m.words}
        free = np.array([j not in taken for j in range(len(self.heard))], bool)
        return [range(a, b) for a, b in runs(free)]


def islands_of(x: Signal) -> list[Span]:
    """Where somebody speaks in (n,) audio at 16 kHz, with pauses of `ISLAND_S` between; none is longer than an ear hears."""
    bands = VoiceBands(EAR_RATE)
    bands.feed(np.atleast_2d(x))
    voice = bands.voice()
    size, gap = voice.size, round(ISLAND_S * EAR_RATE)
    spoken: list[list[int]] = []
    for a, b in runs(voice.speaks, 3):
        if spoken and a * size - spoken[-1][1] < gap:
            spoken[-1][1] = b * size
        else:
            spoken.append([a * size, b * size])
    edge, longest = round(EDGE_S * EAR_RATE), round(LONGEST_S * EAR_RATE)
    found: list[Span] = []
    for start, stop in spoken:
        at = start
        while stop - at > longest:
            third = (at + 2 * longest // 3) // size
            cut = (third + int(np.argmin(voice.levels[third : (at + longest) // size]))) * size
            found.append(Span(max(0, at - edge), cut))
            at = cut
        found.append(Span(max(0, at - edge), min(len(x), stop + edge)))
    return found


def sorted_session(
    x: Signal,
    lines: Sequence[Sequence[str]],
    ears: Ears,
    watch: Watch,
    memory: Memory | None = None,
    marked: Sequence[range] = (),
) -> Sorted:
    """Hear a pickup recording, (n,) at 16 kHz, island by island, and find which stretch reads which of the lines.

    The third ear hears them, where there is one: it takes no longer for many short ones than for a long one.
    """
    islands = islands_of(x)
    ear = ears.third or ears.first
    with passing(ear):
        heard = list(hear(ear, x, [Chunk(s) for s in islands], watch, memory))
    return _sorted(heard, islands, lines, marked)


def _sorted(
    heard: Sequence[list[Heard]], islands: Sequence[Span], lines: Sequence[Sequence[str]], marked: Sequence[range]
) -> Sorted:
    words = [w for row in heard for w in row]
    owner = [k for k, row in enumerate(heard) for _ in row]
    return Sorted(tuple(words), tuple(owner), tuple(islands), tuple(matches_of(lines, [w.text for w in words], owner, marked)))


def matches_of(
    lines: Sequence[Sequence[str]], heard: Sequence[str], owner: Sequence[int], marked: Sequence[range] = ()
) -> list[Match]:
    """Which stretches of heard words read which lines, all lines together, so that lines alike do not claim each other's takes.

    Every line is looked for by local alignment (Smith and Waterman, 1981), again and again without the words that it has
    claimed; of all stretches found those are kept that do not overlap and together count most.  `marked` are the tokens that each
    line is asked for, where that is known: a part that holds them is a take.
    """
    said, of_word = _atoms(heard)
    if not said:
        return []
    apart = np.array([j > 0 and owner[of_word[j]] != owner[of_word[j - 1]] for j in range(len(said))])
    found: list[Match] = []
    atoms = [_atoms(line, said) for line in lines]
    counts = _scores({w for wanted, _ in atoms for w in wanted}, set(said))
    for number, (wanted, of_token) in enumerate(atoms):
        if not wanted:
            continue
        rows = np.array([[counts[w, s] for s in said] for w in wanted])
        asked = marked[number] if number < len(marked) else range(0)
        few = 0
        while few < FEW_TRIES:
            score, pairs = _best(rows, apart)
            exact = sum(rows[i, j] == SAME for i, j in pairs)
            if exact < min(LEAST_WORDS, len(wanted)) or score <= 0:
                break
            first, last = pairs[0], pairs[-1]
            words = range(of_word[first[1]], of_word[last[1]] + 1)
            made = Match(number, words, range(of_token[first[0]], of_token[last[0]] + 1), score)
            whole = score >= LEAST_SHARE * len(wanted)
            if whole or (exact >= LEAST_MARKED and holds(made.tokens, asked) and _alone(made, owner)):
                found.append(made)
            few += not whole
            rows[:, first[1] : last[1] + 1] = -10.0
    kept = _without_overlap([m for m in found if len(lines[m.line]) > 2 or _alone(m, owner)])
    kept = sorted([*kept, *_by_sound(kept, lines, heard, owner)], key=lambda m: m.words.start)
    return _completed(kept, lines, owner)


def holds(tokens: range, asked: range) -> bool:
    """Whether a stretch of a line holds all that the line is asked for; never where that is not known."""
    return len(asked) > 0 and tokens.start <= asked.start and asked.stop <= tokens.stop


def _atoms(tokens: Sequence[str], said: Sequence[str] = ()) -> tuple[list[str], list[int]]:
    """Tokens as plain words, and the token of each; a number in its words as they stand in `said`, where they do."""
    row = f" {' '.join(said)} "
    words: list[tuple[str, int]] = []
    for k, token in enumerate(tokens):
        forms = [[plain(w) for w in form] for form in spoken_forms(token)]
        words += [(w, k) for w in next((form for form in forms if f" {' '.join(form)} " in row), forms[0])]
    return [w for w, _ in words], [k for _, k in words]


def _scores(wanted: set[str], said: set[str]) -> dict[tuple[str, str], float]:
    mine, theirs = sorted(wanted), sorted(said)
    phones = [[phones_of(w) for w in row] for row in (mine, theirs)]
    near = phone_distances(*phones) <= NEAR_SOUND
    keys = [[sound_key(w) for w in row] for row in (mine, theirs)]
    return {
        (a, b): SAME if keys[0][i] == keys[1][j] else NEAR if phones[0][i] and phones[1][j] and near[i, j] else OTHER
        for i, a in enumerate(mine)
        for j, b in enumerate(theirs)
    }


@numba.njit(cache=True, nogil=True)
def _local(rows, apart, unread, extra, pause):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Scores of the best alignments that end in every cell, and where each came from (0 nowhere, 1 both, 2 line, 3 heard)."""
    n, m = rows.shape
    score = np.zeros((n + 1, m + 1))
    back = np.zeros((n + 1, m + 1), np.uint8)
    for i in range(1, n + 1):
        for j in range(1, m + 1):
            cost = pause if apart[j - 1] else 0.0
            best, came = 0.0, 0
            both = rows[i - 1, j - 1] + (score[i - 1, j - 1] - cost if score[i - 1, j - 1] > cost else 0.0)
            if both > best + 1e-9:
                best, came = both, 1
            if score[i - 1, j] + unread > best + 1e-9:
                best, came = score[i - 1, j] + unread, 2
            if score[i, j - 1] + extra - cost > best + 1e-9:
                best, came = score[i, j - 1] + extra - cost, 3
            score[i, j] = best
            back[i, j] = came
    return score, back


def _best(rows: NDArray[np.float64], apart: NDArray[np.bool_]) -> tuple[float, list[tuple[int, int]]]:
    """The best local alignment: its score, and the pairs (word of the line, heard word) in it."""
    score, back = _local(rows, apart, UNREAD, EXTRA, APART)
    i, j = divmod(int(score.argmax()), score.shape[1])
    total = float(score[i, j])
    pairs: list[tuple[int, int]] = []
    while i and j and back[i, j]:
        came = back[i, j]
        if came == 1:
            pairs.append((i - 1, j - 1))
            if score[i - 1, j - 1] <= (APART if apart[j - 1] else 0.0):
                break
        i, j = i - (came != 3), j - (came != 2)
    return total, pairs[::-1]


def _alone(match: Match, owner: Sequence[int]) -> bool:
    """Whether hardly anything else is said in the island of a match: a line of a word or two is often part of another."""
    island = owner[match.words.start]
    return owner.count(island) <= len(match.words) + 1


def _without_overlap(found: Sequence[Match]) -> list[Match]:
    """The matches that do not overlap and count most together, in order."""
    rows = sorted(found, key=lambda m: (m.words.stop, m.words.start))
    total = [m.score for m in rows]
    before = [-1] * len(rows)
    for k, m in enumerate(rows):
        for j, n in enumerate(rows[:k]):
            if n.words.stop > m.words.start:
                continue
            more = AGAIN if n.line == m.line else FOLLOWS if n.line + 1 == m.line else 0.0
            if total[j] + m.score + more > total[k] + 1e-9:
                total[k], before[k] = total[j] + m.score + more, j
    at = int(np.argmax(total)) if total else -1
    kept = []
    while at >= 0:
        kept.append(rows[at])
        at = before[at]
    return kept[::-1]


def _by_sound(
    matches: Sequence[Match], lines: Sequence[Sequence[str]], heard: Sequence[str], owner: Sequence[int]
) -> list[Match]:
    """Readings of whole lines among the words that read none, by their sound alone: a line that an ear writes in other words."""
    taken = {j for m in matches for j in m.words}
    phones = [tuple(p for w in spoken_forms(t)[0] for p in phones_of(w)) for t in heard]
    wanted = [tuple(p for t in line for w in spoken_forms(t)[0] for p in phones_of(w)) for line in lines]
    runs_left: dict[int, list[int]] = {}
    for j, island in enumerate(owner):
        if j not in taken:
            runs_left.setdefault(island, []).append(j)
    found: list[Match] = []
    for free in runs_left.values():
        tries: list[tuple[float, int, range]] = []
        for number, line in enumerate(wanted):
            if len(line) < LEAST_PHONES:
                continue
            for first, last in itertools.combinations(range(len(free) + 1), 2):
                words = range(free[first], free[last - 1] + 1)
                said = tuple(p for j in words for p in phones[j])
                if len(words) == last - first and 0.6 * len(line) < len(said) < 1.6 * len(line):
                    apart = phone_distance(line, said) / max(len(line), len(said))
                    tries.append((apart, number, words))
        if tries and (best := min(tries, key=lambda t: t[0]))[0] <= MOST_APART:
            apart, number, words = best
            found.append(Match(number, words, range(len(lines[number])), (1 - apart) * len(lines[number])))
    return found


def _completed(matches: Sequence[Match], lines: Sequence[Sequence[str]], owner: Sequence[int]) -> list[Match]:
    """Matches that reach to the ends of their lines where as many words as are lacking were heard on the spot, as others."""
    taken = {j for m in matches for j in m.words}
    out = []
    for m in matches:
        words, tokens = m.words, m.tokens
        while tokens.start and (j := words.start - 1) >= 0 and j not in taken and owner[j] == owner[m.words.start]:
            words, tokens = range(j, words.stop), range(tokens.start - 1, tokens.stop)
        last = m.words.stop - 1
        while tokens.stop < len(lines[m.line]) and (j := words.stop) < len(owner) and j not in taken and owner[j] == owner[last]:
            words, tokens = range(words.start, j + 1), range(tokens.start, tokens.stop + 1)
        lacking = len(lines[m.line]) - len(tokens)
        if lacking <= max(1, HARDLY * len(lines[m.line])):  # what is not read of it is for the ears to tell
            tokens = range(len(lines[m.line]))
        taken |= set(words)
        out.append(Match(m.line, words, tokens, m.score))
    return out


def restarts(matches: Sequence[Match], lines: Sequence[Sequence[str]]) -> set[int]:
    """Numbers of the matches that are only a beginning of what is read again right after them, once or several times."""
    begun: set[int] = set()
    for k in range(len(matches) - 2, -1, -1):
        m, following = matches[k], matches[k + 1]
        read = next(n for j, n in enumerate(matches[k + 1 :], k + 1) if j not in begun)
        if (
            m.line == read.line
            and read.tokens.start <= m.tokens.start
            and m.tokens.stop < read.tokens.stop
            and len(m.tokens) < 0.75 * len(lines[m.line])
            and following.words.start - m.words.stop <= 1
        ):
            begun.add(k)
    return begun


def begun_before(found: Sorted, lines: Sequence[Sequence[str]]) -> list[range]:
    """Runs of words that read no line, but the first two or more words of the line that is read right after them."""
    runs_begun = []
    for run in found.left:
        following = next((m for m in found.matches if m.words.start == run.stop), None)
        if following is None or len(run) < 2:
            continue
        said = [sound_key(w) for j in run for w in map(plain, spoken_forms(found.heard[j].text)[0])]
        wanted = [sound_key(w) for w in _atoms(lines[following.line])[0]]
        if said == wanted[: len(said)]:
            runs_begun.append(run)
    return runs_begun
