"""Pairing by ear: samples of a recording are heard, and their words say which chapters it reads, and where."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from statistics import median

import numpy as np

from faithful_reel.core.audio.files import resampled
from faithful_reel.core.audio.roomtone import FRAME_S, frame_levels, quiet_runs, quiet_threshold
from faithful_reel.core.hear.pauses import chunks_of
from faithful_reel.core.hear.recogniser import Ear, hear
from faithful_reel.core.jobs import Unwatched, Watch
from faithful_reel.core.text.spoken import sound_key, spoken_forms
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.units import EAR_RATE, Signal, Span

SAMPLE_S = 14.0
EVERY_S = 300.0
FEWEST, MOST = 3, 40
COMMONEST = 4
"""Runs of three words that stand more often than this in the book tell nothing."""
SEARCH_S = 25.0
READING = 2.6
"""Words a second of common narration: 155 words a minute (common practice)."""

Sound = Callable[[int, int], Signal]
"""Gives samples `start` to `stop` of a recording, mono, at the book's rate."""


@dataclass(frozen=True, slots=True)
class Sample:
    """What was heard in one short stretch of a recording; positions in samples at the book's rate."""

    start: int
    stop: int
    words: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Vote:
    """Which chapter a sample reads, from which of its words on, and how sure that is, 0 to 1."""

    sample: Sample
    chapter: int
    word: int
    sure: float


@dataclass(frozen=True, slots=True)
class Passage:
    """A stretch of a recording that reads one chapter, or a part of it that begins near `first_word`."""

    recording: str
    chapter: int
    start: int
    stop: int
    first_word: int
    sure: float


def sampled(sound: Sound, length: int, rate: int, ear: Ear, watch: Watch | None = None) -> tuple[Sample, ...]:
    """Hear a few short stretches of a recording: near its beginning, its end, and every five minutes between."""
    watch = watch or Unwatched()
    size = min(length, round(SAMPLE_S * rate))
    count = max(FEWEST, min(MOST, round(length / rate / EVERY_S) + 1))
    starts = sorted({int(s) for s in np.linspace(min(2 * rate, length - size), max(0, length - size - rate), count)})
    samples = []
    for index, start in enumerate(starts):
        watch.tick(index / len(starts), "listening")
        x = resampled(sound(start, start + size), rate, EAR_RATE)
        words = [w.text for chunk in hear(ear, x, chunks_of(x, EAR_RATE)) for w in chunk]
        samples.append(Sample(start, start + size, tuple(words)))
    return tuple(samples)


class Finder:
    """Finds which chapter words come from, by runs of three words that are rare in the book."""

    def __init__(self, chapters: Sequence[Chapter]) -> None:
        places: dict[tuple[str, ...], list[tuple[int, int]]] = defaultdict(list)
        for number, chapter in enumerate(chapters):
            for run, at in _runs([w.text for w in chapter.words]):
                places[run].append((number, at))
        self._places = {run: found for run, found in places.items() if len(found) <= COMMONEST}

    def vote(self, sample: Sample) -> Vote | None:
        """The chapter that a sample reads; None where too little of it is in the book."""
        score: Counter[int] = Counter()
        at: dict[int, list[int]] = defaultdict(list)
        for run, offset in _runs(sample.words):
            for chapter, place in self._places.get(run, ()):
                score[chapter] += 1
                at[chapter].append(place - offset)
        if not score:
            return None
        (chapter, best), *rest = score.most_common(2)
        if best < 3:
            return None
        second = rest[0][1] if rest else 0
        return Vote(sample, chapter, max(0, int(median(at[chapter]))), (best - second) / best)


def _runs(texts: Sequence[str]) -> list[tuple[tuple[str, ...], int]]:
    keys, owner = [], []
    for index, text in enumerate(texts):
        for word in spoken_forms(text)[0]:
            keys.append(sound_key(word))
            owner.append(index)
    return [((keys[k], keys[k + 1], keys[k + 2]), owner[k]) for k in range(len(keys) - 2)]


def passages(
    recording: str, samples: Sequence[Sample], length: int, rate: int, finder: Finder, sound: Sound
) -> tuple[Passage, ...]:
    """Which stretches of a recording read which chapters, in order; empty where nothing of the book was heard in it.

    Where one chapter follows another in a recording, it is cut in the longest pause near the place where the second
    one's first words must be, given how far the samples around it are into their chapters.
    """
    votes = [v for s in samples if (v := finder.vote(s)) is not None]
    groups: list[list[Vote]] = []
    for vote in votes:
        if groups and groups[-1][-1].chapter == vote.chapter:
            groups[-1].append(vote)
        elif len(groups) > 1 and groups[-2][-1].chapter == vote.chapter and len(groups[-1]) == 1:
            groups[-2].append(vote)  # one stray sample between two of the same chapter
            groups.pop()
        else:
            groups.append([vote])
    cuts = [0]
    for before, after in pairwise(groups):
        cuts.append(_cut(before[-1], after[0], length, rate, sound))
    cuts.append(length)
    heard = max(1, sum(len(s.words) > 5 for s in samples))
    return tuple(
        Passage(
            recording,
            group[0].chapter,
            cuts[k],
            cuts[k + 1],
            group[0].word,
            round(min(v.sure for v in group) * (min(1.0, len(votes) / heard) if len(groups) == 1 else 1.0), 2),
        )
        for k, group in enumerate(groups)
    )


def _cut(before: Vote, after: Vote, length: int, rate: int, sound: Sound) -> int:
    guess = after.sample.start - round(after.word / READING * rate)
    guess = min(max(guess, before.sample.stop), after.sample.start)
    reach = round(SEARCH_S * rate)
    search = Span(
        max(before.sample.stop, guess - reach), min(length, max(guess + reach // 2, guess + 1), after.sample.start + rate)
    )
    if len(search) < rate:
        return guess
    levels = frame_levels(sound(search.start, search.stop), rate)
    runs = quiet_runs(levels, quiet_threshold(levels), round(0.3 / FRAME_S))
    if not runs:
        return guess
    start, stop = max(runs, key=lambda run: run[1] - run[0])
    return search.start + round((start + stop) / 2 * FRAME_S * rate)
