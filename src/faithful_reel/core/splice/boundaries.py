"""Where to join: ranked places at which one sound can take over from the other, each looked for on both sides together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numba
import numpy as np
from numpy.typing import NDArray
from scipy.fft import next_fast_len, rfft

from faithful_reel.core.audio.roomtone import levels_of_frames
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.splice.meeting import places_apart, shapes_at
from faithful_reel.core.units import Signal, Span

LEAD_S = 0.014
"""Left before an onset, so that the consonant is whole (about 10 ms, common practice; 14 were measured to be better)."""
TAIL_S = 0.03
"""Left after the end of a word, which rings on."""
PAUSE_S = 0.06
"""A gap from which on, on both sides, there is a pause to join in."""
REACH_S, STEP_S, SLIDE_S = 0.03, 0.002, 0.006
"""Where words touch a join is looked for so far around their edge, in such steps; then waves are brought together so far."""
SURE_S = 0.01
"""Where it is known how the two readings lie over one another, the two cuts lie hardly farther apart."""
LAG_S, ALONG_S, LEAST_LIKENESS = 0.35, 0.35, 0.5
"""So far the edges of the two readings may be told differently, so much of them is compared to find that out, and so alike they
must be for it."""
HOP_S, OUTSIDE_S, LEAST_FRAMES, BANDS = 0.004, 0.06, 10, 12
PACES = (0.93, 1.0, 1.075)
"""A take may be read so much faster or slower here: the best of these is taken."""
FEWEST_AGREE, AGREE_S, NEAR_GUESS = 3, 0.08, 0.35
"""So many words further on have to agree within so much on where an edge must be, for it to be looked for only there, within so
much of the way."""
LONGEST_S, SHORT_S = 0.2, 0.01
"""The longest crossfade, in quiet, and that of joins in speech (common practice; measured)."""
NEAR_TOKENS = 5
"""Where words touch a join is looked for so many words away from what must be replaced; farther off only in pauses."""
A_WORD, TOUCHING = 1.5, 12.0
"""What every word counts that is replaced without need, and a join where words touch; in the cost's dB."""
BLOCK, SPARSE = 128, 4
LIKE = 0.5
"""From this correlation on both sides are the same sound, and cross with equal gain."""
VALLEY_DB, VALLEY_EDGE_S, VALLEY_TOKENS = 9.0, 0.03, 2
"""Inside of a word both readings are joined where each falls by so much, so far from its edges, so many words away at most."""
IN_WORD = 20.0
"""What a join inside a word costs beside one at its edge, in the cost's dB: it is found more easily (measured)."""
NEAR_VALLEY_DB, NEAR_VALLEY_S = 6.0, 0.05
BREATH_DB, BREATH_S, BREATH_GAP_S = 8.0, 0.1, 0.04
"""What stands so far over a pause's floor for so long, whatever shorter gaps are in it, is a breath."""
LENGTHS_S, SAME = (0.16, 0.12, 0.08, 0.05, 0.03, 0.02), 0.7
"""Inside of shared sound the crossfade is the longest of these over which both sides are so alike."""


@dataclass(frozen=True, slots=True)
class Side:
    """One of the two sounds: (n,) audio that starts at `offset`, and the gaps before each token of the line and after the last.

    `entering[k]` reaches from the last word kept before token k to whatever is heard next, `leaving[k]` from whatever
    was heard last to token k; None where the words beside it were not heard.  `words` is where every token is; None where it
    is not, empty where that is not known.  All positions are samples of the whole recording or reel.
    """

    sound: Signal
    offset: int
    entering: tuple[Span | None, ...]
    leaving: tuple[Span | None, ...]
    words: tuple[Span | None, ...] = ()

    def level(self, start: int, stop: int) -> float:
        """RMS in dB of a stretch."""
        x = self.sound[max(0, start - self.offset) : max(0, stop - self.offset)]
        return float(10 * np.log10(np.mean(np.square(x, dtype=np.float64)) + 1e-12)) if len(x) else -120.0

    def holds(self, at: int) -> bool:
        """Whether a position lies in the sound, or at one of its ends."""
        return self.offset <= at <= self.offset + len(self.sound)

    def within(self, gap: Span) -> Span:
        """What of a gap, of which at least one end lies in the sound, lies in it."""
        return Span(max(gap.start, self.offset), min(gap.stop, self.offset + len(self.sound)))

    def around(self, start: int, stop: int) -> Signal:
        """Samples from one position to another, zeros outside of the sound."""
        out = np.zeros(max(0, stop - start))
        first, last = max(start, self.offset), min(stop, self.offset + len(self.sound))
        if last > first:
            out[first - start : last - start] = self.sound[first - self.offset : last - self.offset]
        return out


@dataclass(frozen=True, slots=True)
class Boundary:
    """One proposal: the cut before token `token`, at `original` in one and `take` in the other sound.

    `score` is a cost in dB-like units, least is best; `crossfade` a length in samples; `gap_s` the shorter pause; `like` tells
    whether both sides are the same sound there.
    """

    token: int
    original: int
    take: int
    score: float
    crossfade: int
    gap_s: float
    like: bool = False

    @property
    def in_pause(self) -> bool:
        """Whether it lies in a pause."""
        return self.gap_s >= PAUSE_S


class Pair:
    """The two sounds of a splice, and where one can take over from the other.

    `original` and `take` are the two sides, the take as it will be heard; their gaps are counted alike.  `pace` is how many
    times as fast the take is read; `one_breath` keeps a pause that is joined at one breath, where there is one in either.
    """

    def __init__(self, original: Side, take: Side, rate: int, pace: float = 1.0, *, one_breath: bool = True) -> None:
        self.original, self.take, self.rate, self.pace, self.one_breath = original, take, rate, pace, one_breath
        self._hop, self._frame = max(1, round(HOP_S * rate)), round(0.016 * rate)
        looks = [_Look(side.sound, self._frame, self._hop, rate) for side in (original, take)]
        least = np.maximum(*(look.ground for look in looks)) + 4.0
        for look in looks:
            look.least = least
        self._looks = looks

    def ranked(self, tokens: Sequence[int], *, entering: bool, nearest: int) -> list[Boundary]:
        """All usable boundaries before the tokens in `tokens`, best first.

        Parameters
        ----------
        tokens : sequence of int
            Candidate positions in the line, 0 to the number of its tokens.
        entering : bool
            Whether the take begins here (else it ends here).
        nearest : int
            The position that replaces no more words than must be; others cost a little for each word.

        Notes
        -----
        The cost is the level in dB of the louder side at the cut under that of the speech around it, less up to 10 dB for the
        length of the pause, the unlikeness of the two sides in third-octaves, 12 dB for a join where words touch, and 1.5 dB for
        every word that is replaced without need.  Own weights, found on real readings (docs/decisions/0037).
        """
        found: list[Boundary] = []
        for token in tokens:
            sides = (self.original, self.take)
            a, b = (side.entering[token] if entering else side.leaving[token] for side in sides)
            if (
                a is None
                or b is None
                or not all(side.holds(gap.stop if entering else gap.start) for side, gap in zip(sides, (a, b), strict=True))
            ):
                continue
            a, b = (side.within(gap) for side, gap in zip(sides, (a, b), strict=True))
            if abs(token - nearest) > NEAR_TOKENS and min(len(a), len(b)) < PAUSE_S * self.rate:
                continue
            edges, sure = self._edges(token, a, b, entering=entering)
            away = [edge - gap.start if entering else gap.stop - edge for gap, edge in zip((a, b), edges, strict=True)]
            extra = abs(token - nearest)
            if min(len(a), len(b), *away) >= PAUSE_S * self.rate:
                found.append(self._in_pause(token, (a, b), edges, entering=entering, extra=extra))
            else:
                found.append(self._touching(token, (a, b), edges, entering=entering, extra=extra, sure=sure))
            if extra <= VALLEY_TOKENS and (inside := self._in_word(token, entering=entering, extra=extra)) is not None:
                found.append(inside)
        held = [b for b in found if self.original.holds(b.original) and self.take.holds(b.take)]
        return sorted(held, key=lambda boundary: boundary.score)

    def _edges(self, token: int, a: Span, b: Span, *, entering: bool) -> tuple[tuple[int, int], bool]:
        """Places in the two sounds that belong together: the edge of the gap in the original, and where that is in the take.

        And whether that was found by their sound.
        """
        here, there = (a.stop, b.stop) if entering else (a.start, b.start)
        index = token if entering else token - 1
        words = [side.words[index] if 0 <= index < len(side.words) else None for side in (self.original, self.take)]
        if words[0] is None or words[1] is None:
            return (here, there), False
        mine, theirs = (words[0].start, words[1].start) if entering else (words[0].stop, words[1].stop)
        lag = self._lag(token, mine, theirs, entering=entering)
        return ((here, here - mine + theirs), False) if lag is None else ((here, here - mine + theirs + lag), True)

    def _in_word(self, token: int, *, entering: bool, extra: int) -> Boundary | None:
        """A join inside of the word that is kept beside a boundary, where both readings fall: a closure mostly."""
        index = token - 1 if entering else token
        words = [side.words[index] if 0 <= index < len(side.words) else None for side in (self.original, self.take)]
        mine, theirs = words
        if mine is None or theirs is None:
            return None
        edge, size = round(VALLEY_EDGE_S * self.rate), max(1, round(0.005 * self.rate))
        levels = levels_of_frames(self.original.around(mine.start, mine.stop), size)
        inner = np.arange(-(-edge // size), len(levels) - -(-edge // size))
        if len(inner) < 2:
            return None
        around = np.minimum(np.maximum.accumulate(levels), np.maximum.accumulate(levels[::-1])[::-1])
        deep = (around - levels)[inner]
        if deep.max() < VALLEY_DB:
            return None
        here = mine.start + int(inner[deep.argmax()] * size + size // 2)
        guess = theirs.start + round((here - mine.start) * len(theirs) / len(mine))
        first = index if entering else index + 1
        lag = self._lag(first, here, guess, entering=entering)
        if lag is None:
            return None
        at = Span(here, here)
        found = self._touching(token, (at, at), (here, guess + lag), entering=entering, extra=extra, sure=True)
        inside = edge <= found.original - mine.start <= len(mine) - edge
        return replace(found, score=round(found.score + IN_WORD, 2)) if inside else None

    def _lag(self, token: int, mine: int, theirs: int, *, entering: bool) -> int | None:
        """How many samples later the take's edge of a word really lies than told, by the sound of the words in both readings.

        Those are the words that come where the take begins and those that go where it ends, as far as both sides have them:
        their spectra in bands are laid over one another, the edge itself counting most.  None where they are not alike.
        """
        ends, sides = (mine, theirs), (self.original, self.take)
        along = min(_shared(side, token, end, entering=entering) for side, end in zip(sides, ends, strict=True))
        frames = min(along, round(ALONG_S * self.rate)) // self._hop
        guess = self._guess(token, mine, theirs, entering=entering)
        if frames < LEAST_FRAMES:
            return guess
        outside, reach = round(OUTSIDE_S / HOP_S), round(LAG_S / HOP_S)
        first, count = (-outside if entering else -frames), outside + frames
        centres = [(end - side.offset - self._frame // 2) // self._hop for side, end in zip(sides, ends, strict=True)]
        one = self._looks[0].rows(centres[0] + first + np.arange(count))
        last = self._looks[1].count - 1
        if one.std() < 1.0 or last < 0:
            return guess
        near = np.linspace(1.0, 0.3, count) if entering else np.linspace(0.3, 1.0, count)
        weights = near / near.sum()
        one = one - weights @ one
        norm = float(np.sqrt((weights @ one**2).sum())) + 1e-9
        far = np.abs(np.arange(2 * reach + 1) - reach - (guess or 0) / self._hop) / reach
        cost = 0.15 * far + (2.0 * (far > NEAR_GUESS) if guess is not None else 0.0)
        best, at = -1.0, 0
        for pace in (self.pace, *(p for p in PACES if abs(p - self.pace) > 0.03)):
            there = centres[1] + np.rint((first + np.arange(count)) / pace).astype(int)
            look = self._looks[1].rows(np.arange(there[0] - reach, there[-1] + reach + 1))
            likeness = _likeness(one, weights, look, there - there[0], 2 * reach + 1) / norm - cost
            k = int(likeness.argmax())
            if likeness[k] > best + (0.0 if pace == self.pace else 0.02):
                best, at = float(likeness[k]), k
        return (at - reach) * self._hop if best > LEAST_LIKENESS else guess

    def _guess(self, token: int, mine: int, theirs: int, *, entering: bool) -> int | None:
        """The same by the onsets of the words further on, as if both were read at one pace; None where they do not agree."""
        pairs = list(zip(self.original.words, self.take.words, strict=False))
        near = pairs[token + 1 : token + 5] if entering else pairs[max(0, token - 4) : token][::-1]
        lags = []
        for here, there in near:
            if here is None or there is None:  # beyond it something is read in one of them only
                break
            lags.append(there.start + round((mine - here.start) / self.pace) - theirs)
        if len(lags) < FEWEST_AGREE or float(np.ptp(lags)) > AGREE_S * self.rate:
            return None
        return round(float(np.median(lags)))

    def _in_pause(self, token: int, gaps: tuple[Span, Span], edges: tuple[int, int], *, entering: bool, extra: int) -> Boundary:
        """A join in a pause: as far from the word that the take begins or ends with in both, so that the pause keeps its length.

        It lies where both sides are quietest over the crossfade, which is as long as the quiet on both sides lets it be.
        """
        original, take, rate = self.original, self.take, self.rate
        lead, tail = round(LEAD_S * rate), round(TAIL_S * rate)
        (a, b), sign = gaps, -1 if entering else 1
        away = [edge - gap.start if entering else gap.stop - edge for gap, edge in zip(gaps, edges, strict=True)]
        room = max(1, min(away))
        size = max(2, round(0.005 * rate))
        first, last = (lead, room - tail) if entering else (tail, room - lead)
        if last - first < 2 * size:
            first = last = room // 2
            width, middle = 1, first
        else:
            rows = []
            for side, edge in zip((original, take), edges, strict=True):
                low, high = (edge - last, edge - first) if entering else (edge + first, edge + last)
                row = levels_of_frames(side.around(low, high), size)
                rows.append(row[::-1] if entering else row)
            levels = np.maximum(*rows)
            quiet = levels <= np.percentile(levels, 30) + 6.0
            if self.one_breath:
                alone = _one_breath(rows[0], rows[1], size, rate)
                quiet = quiet & alone if (quiet & alone).any() else quiet
            at, width = _widest(quiet, round(LONGEST_S * rate / size))
            middle = first + round((at + width / 2) * size)
        length = max(min(round(SHORT_S * rate), room), min(round(LONGEST_S * rate), width * size))
        length = max(2, min(length, 2 * (middle - (lead if entering else tail) // 2), 2 * (room - middle)))
        cut_a, cut_b = edges[0] + sign * middle, edges[1] + sign * middle
        half = max(size, min(length, round(0.02 * rate)) // 2)
        sides_db = [original.level(cut_a - half, cut_a + half), take.level(cut_b - half, cut_b + half)]
        gap = min(len(a), len(b)) / rate
        score = max(max(sides_db) - _speech(original, a, rate), -60.0) + 0.3 * abs(sides_db[0] - sides_db[1])
        score += -40 * min(gap, 0.25) + A_WORD * extra
        return Boundary(token, cut_a, cut_b, round(score, 2), length // 2 * 2, round(gap, 4))

    def _touching(
        self, token: int, gaps: tuple[Span, Span], edges: tuple[int, int], *, entering: bool, extra: int, sure: bool
    ) -> Boundary:
        """A join where words touch: of all pairs of places around their edge that where both readings are most alike."""
        original, take, rate = self.original, self.take, self.rate
        a, b = gaps
        step, frame = max(1, round(STEP_S * rate)), round(0.02 * rate)
        reach = round(REACH_S * rate)
        offsets = np.arange(-reach, reach + 1, step)
        before_a, after_a = shapes_at(original.around, edges[0], offsets, frame, rate)
        before_b, after_b = shapes_at(take.around, edges[1], offsets, frame, rate)
        # rows: the place in the original, columns: in the take
        context = places_apart(before_a, before_b) + places_apart(after_a, after_b)
        meet = (before_a, after_b) if entering else (after_a, before_b)
        loud = np.maximum(meet[0].max(axis=1)[:, None], meet[1].max(axis=1)[None, :])
        apart = np.abs(offsets[:, None] - offsets[None, :]) / (rate * (SURE_S if sure else REACH_S))
        cost = (context + 6.0 * places_apart(*meet)) / 7 + 0.05 * (loud - loud.min()) + 3.0 * apart**2
        cost[:, edges[1] + offsets < take.offset] = np.inf
        cost[:, edges[1] + offsets > take.offset + len(take.sound)] = np.inf
        cost[edges[0] + offsets < original.offset] = np.inf
        i, j = np.unravel_index(int(cost.argmin()), cost.shape)
        cut_a, cut_b = int(edges[0] + offsets[i]), int(edges[1] + offsets[j])
        slide, likeness = self._slid(cut_a, cut_b)
        cut_a = min(max(cut_a, original.offset), original.offset + len(original.sound))
        cut_b = min(max(cut_b + slide, take.offset), take.offset + len(take.sound))
        half = round(0.006 * rate)
        depth = max(original.level(cut_a - half, cut_a + half), take.level(cut_b - half, cut_b + half))
        unlike = min(float(cost[i, j]), 99.0)
        score = max(depth - _speech(original, a, rate), -60.0) + unlike + TOUCHING + A_WORD * extra
        gap = min(len(a), len(b)) / rate
        length = self._shared_length(cut_a, cut_b) if likeness > LIKE else round(SHORT_S * rate)
        return Boundary(token, cut_a, cut_b, round(score, 2), length // 2 * 2, round(gap, 4), likeness > LIKE)

    def _shared_length(self, at_a: int, at_b: int) -> int:
        """How long two readings of the same sound may cross, each centred at its cut."""
        original, take, rate = self.original, self.take, self.rate
        room = min(at_a - original.offset, at_b - take.offset, take.offset + len(take.sound) - at_b)
        for seconds in LENGTHS_S:
            half = round(seconds * rate / 2)
            if half > room:
                continue
            mine, theirs = original.around(at_a - half, at_a + half), take.around(at_b - half, at_b + half)
            norm = float(np.sqrt(np.sum(np.square(mine)) * np.sum(np.square(theirs)))) + 1e-12
            if float(mine @ theirs) / norm >= SAME:
                return 2 * half
        return round(SHORT_S * rate)

    def _slid(self, at_a: int, at_b: int) -> tuple[int, float]:
        """How far the take slides so that its wave runs on with the original's, and how alike both are then."""
        original, take, rate = self.original, self.take, self.rate
        half, most = round(0.008 * rate), round(SLIDE_S * rate)
        here = original.around(at_a - half, at_a + half)
        rows = np.lib.stride_tricks.sliding_window_view(take.around(at_b - half - most, at_b + half + most), 2 * half)
        norms = np.sqrt(np.sum(np.square(rows), axis=1) * np.sum(np.square(here))) + 1e-12
        likeness = rows @ here / norms
        best = int((likeness - 0.05 * np.abs(np.arange(-most, most + 1)) / most).argmax())
        return (best - most, float(likeness[best])) if likeness[best] > 0.4 else (0, float(likeness[most]))


def _shared(side: Side, token: int, end: int, *, entering: bool) -> int:
    """How far a side goes on from an edge in words that are known."""
    words = side.words[token:] if entering else side.words[:token][::-1]
    far = end
    for word in words:
        if word is None:
            break
        far = word.stop if entering else word.start
    return abs(far - end)


def bands_of(x: Signal, frame: int, hop: int, rate: int, top: float | None = None) -> NDArray[np.float64]:
    """Levels in dB of frames of (n,) audio in bands even in octaves, (frames, BANDS), at most 50 dB under the top one."""
    if len(x) < frame:
        return np.zeros((0, BANDS))
    rows = np.lib.stride_tricks.sliding_window_view(np.asarray(x, np.float32), frame)[::hop]
    size, window = next_fast_len(frame, real=True), np.hanning(frame).astype(np.float32)
    hz = np.fft.rfftfreq(size, 1 / rate)
    edges = np.searchsorted(hz, np.geomspace(120, min(7000.0, 0.45 * rate), BANDS + 1))
    bins = np.arange(len(hz))[:, None]
    table = np.asarray((bins >= edges[:-1]) & (bins < np.maximum(edges[1:], edges[:-1] + 1)), np.float32)
    found = []
    for first in range(0, len(rows), BLOCK):  # some at a time, which stay in the processor's cache
        spectra = rfft(rows[first : first + BLOCK] * window, size, axis=1)
        found.append((np.square(spectra.real) + np.square(spectra.imag)) @ table)
    levels = 10 * np.log10(np.asarray(np.concatenate(found), np.float64) + 1e-12)
    return np.asarray(np.maximum(levels, (levels.max() if top is None else top) - 50))


@numba.njit(cache=True, nogil=True, fastmath=True)
def _likeness(one, weights, rows, there, count):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """(count,): how alike the frames of one, centred by weights, are to rows from each place on; not yet by their own norm."""
    frames, bands = one.shape
    found = np.zeros(count)
    mean = np.zeros(bands)
    for k in range(count):
        across = square = 0.0
        mean[:] = 0.0
        for c in range(frames):
            w = weights[c]
            for b in range(bands):
                value = rows[there[c] + k, b]
                across += w * value * one[c, b]
                square += w * value * value
                mean[b] += w * value
        for b in range(bands):
            square -= mean[b] * mean[b]
        found[k] = across / (np.sqrt(max(square, 0.0)) + 1e-9)
    return found


class _Look:
    """Levels in bands of frames of (n,) audio, worked out where they are asked for; `least` is put under them."""

    def __init__(self, x: Signal, frame: int, hop: int, rate: int) -> None:
        self._x, self._frame, self._hop, self._rate = x, frame, hop, rate
        self.count = max(0, (len(x) - frame) // hop + 1)
        some = bands_of(x, frame, SPARSE * hop, rate)
        self.ground = np.percentile(some, 8, axis=0) if len(some) else np.full(BANDS, -120.0)
        self._top = float(some.max()) if len(some) else 0.0
        self.least = self.ground
        self._known = np.zeros(-(-self.count // BLOCK), bool)
        self._table = np.zeros((self.count, BANDS))

    def rows(self, at: NDArray[np.int64]) -> NDArray[np.float64]:
        """Frames by their numbers, (..., BANDS); beyond the ends the outermost ones."""
        if not self.count:
            return np.zeros((*at.shape, BANDS))
        at = np.clip(at, 0, self.count - 1)
        for block in range(int(at.min()) // BLOCK, int(at.max()) // BLOCK + 1):
            if not self._known[block]:
                self._known[block] = True
                first, stop = block * BLOCK, min(self.count, (block + 1) * BLOCK)
                x = self._x[first * self._hop : (stop - 1) * self._hop + self._frame]
                self._table[first:stop] = np.maximum(bands_of(x, self._frame, self._hop, self._rate, self._top), self.least)
        return np.asarray(self._table[at])


def _widest(quiet: NDArray[np.bool_], most: int) -> tuple[int, int]:
    """The first and the count of the longest run of quiet frames, no more than `most` of its middle."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], quiet, [False]])))
    if not len(edges):
        return 0, 1
    start, stop = max(edges.reshape(-1, 2).tolist(), key=lambda run: run[1] - run[0])
    width = min(most, stop - start)
    return int(start + (stop - start - width) // 2), int(width)


def next_valley(x: Signal, at: int, way: int, rate: int) -> int:
    """How many samples away, later (1) or earlier (-1), the next quiet place of (n,) audio is from sample `at`; 0 where none is.

    A place is quiet that lies at least 6 dB under what is on both sides of it within 50 ms.
    """
    size = max(1, round(0.005 * rate))
    side = x[at:] if way > 0 else x[:at][::-1]
    levels = levels_of_frames(side, size)
    reach = round(NEAR_VALLEY_S * rate / size)
    for k in range(2, len(levels) - 1):
        before, after = levels[max(0, k - reach) : k], levels[k + 1 : k + 1 + reach]
        if levels[k] <= min(before[-1], after[0]) and min(before.max(), after.max()) - levels[k] >= NEAR_VALLEY_DB:
            return way * (k * size + size // 2)
    return 0


def _breaths(levels: NDArray[np.float64], size: int, rate: int) -> NDArray[np.int64]:
    """(breaths, 2): first frame and the one after the last, in levels in dB of a pause; what reaches an end is a word's."""
    loud = levels > np.percentile(levels, 20) + BREATH_DB
    edges = np.flatnonzero(np.diff(np.concatenate([[False], loud, [False]]))).reshape(-1, 2)
    runs: list[list[int]] = []
    for start, stop in edges.tolist():
        if runs and start - runs[-1][1] < BREATH_GAP_S * rate / size:
            runs[-1][1] = stop
        else:
            runs.append([start, stop])
    whole = [r for r in runs if r[0] > 0 and r[1] < len(levels) and r[1] - r[0] >= BREATH_S * rate / size]
    return np.array(whole, dtype=np.int64).reshape(-1, 2)


def _one_breath(kept: NDArray[np.float64], take: NDArray[np.float64], size: int, rate: int) -> NDArray[np.bool_]:
    """Frames of a pause, counted away from the take's word, at which a join cuts no breath and leaves one where there is any.

    Beyond the join stands what the original has, before it what the take has.
    """
    mine, theirs = _breaths(kept, size, rate), _breaths(take, size, rate)
    at = np.arange(len(kept))[:, None]
    count = (at < mine[:, 0]).sum(axis=1) + (at >= theirs[:, 1]).sum(axis=1)
    through = ((at >= mine[:, 0]) & (at < mine[:, 1])).any(axis=1) | ((at >= theirs[:, 0]) & (at < theirs[:, 1])).any(axis=1)
    return np.asarray(~through & (count == min(1, max(len(mine), len(theirs)))))


def _speech(side: Side, gap: Span, rate: int) -> float:
    return max(side.level(gap.start - round(0.3 * rate), gap.stop + round(0.3 * rate)), -60.0)


def best_pair(entering: Sequence[Boundary], leaving: Sequence[Boundary]) -> tuple[Boundary, Boundary]:
    """The best entering and leaving boundaries that leave some of the take between them.

    Raises
    ------
    EditRefused
        No two boundaries fit together.
    """
    pairs = [
        (a.score + b.score, i, j)
        for i, a in enumerate(entering)
        for j, b in enumerate(leaving)
        if b.take > a.take and b.original >= a.original and b.token >= a.token
    ]
    if not pairs:
        raise EditRefused(
            "No place was found where this take could be joined. Take a longer line that holds the words around it."
        )
    _, i, j = min(pairs)
    return entering[i], leaving[j]
