"""Findings: differences and flaws, from the links between heard and written words."""

from __future__ import annotations

import difflib
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import StrEnum

from faithful_reel.core.collate.links import Link, collated
from faithful_reel.core.hear.pronounce import is_word, phone_distance, phones_read
from faithful_reel.core.text.spoken import sound_key, spoken_forms


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
    NAME = "name"
    OTHER = "other"


READING = frozenset({Kind.MISREAD, Kind.SKIPPED, Kind.ADDED, Kind.REPEATED, Kind.FALSE_START})
"""The kinds that are departures from the written words."""
AGAIN = frozenset({Kind.REPEATED, Kind.FALSE_START})
"""The kinds that are a stretch of the text read again."""
SURE = 0.5
"""How sure a finding must be, for a command to act by it on its own."""
SHOWN = 0.35
"""How sure a departure from the words must be, not to be folded away at first; flaws must be `SURE`.  Nothing is dropped.

Chosen at a natural rate of near words (benchmarks/ear), for at most three false findings in a thousand words of real readings.
"""


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
    the written words; `second` and `third` what those ears heard, None where they were not asked.  `flaw` says what a
    finding of the sound is, closer than its kind; `usual` what is normal there: seconds of a pause, or the dB that a level
    must be changed by.  Of another reading of a line, `level_db` and `pace` are how much louder and how many times as fast
    it is as the one that is kept,
    and `departs` how many of its words are not as written.
    """

    ear: float = 0.0
    witness: float | None = None
    second: str | None = None
    third: str | None = None
    note: str = ""
    flaw: str = ""
    usual: float | None = None
    level_db: float | None = None
    pace: float | None = None
    departs: int | None = None
    learned: str = ""
    """What the decisions of the book changed of how sure it is, in words; empty as it is kept."""
    by_ear: float | None = None
    """How sure the ear alone is, where something was learned; None as it is kept."""


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
    recording: str = ""
    """Of another voice than the chapter's own: its recording."""
    kept: bool = False
    """Whether an editor heard it and says that it is there: then it is shown, however sure the ear is."""
    by: tuple[str, ...] = ()
    """Who said so in a list that was brought in."""


BY_HAND = "h"
"""What the ids of findings by hand begin with."""


def by_hand(finding: Finding) -> bool:
    """Whether an editor noted a finding, and no ear."""
    return finding.id.startswith(BY_HAND)


def is_shown(finding: Finding) -> bool:
    """Whether a finding stands in the docket at first, and is not folded away: what the ear shows no lesson folds."""
    sure = max(finding.confidence, finding.evidence.by_ear or 0.0)
    return finding.kept or sure >= (SHOWN if finding.kind in READING else SURE)


def is_doubt(finding: Finding) -> bool:
    """Whether a finding is folded away and not decided, so that it is worth a listen."""
    return finding.decision is Decision.OPEN and not is_shown(finding)


@dataclass(frozen=True, slots=True)
class Difference:
    """A reading error before its evidence: word ranges and kind; what `Finding` is made of."""

    kind: Kind
    written: range
    heard: range


FARTHEST = 4
"""Words read again may end so many words, and two more for each of them, before where the reading goes on (own rule)."""
MOST_SWAPPED = 4
"""Words that may be read in another order and still are one misread."""
FEW, NEAR_BY = 3, 2
"""So few words may equal the opening of a sentence by chance: they are a reading of it only so many words from its place."""
LONGEST_END = 3
"""Words at the end of another reading that may be misheard together."""
_CLAUSE_END = re.compile(r"[.,;:!?…—–-][\"'”’)]*$")


def differences(written: Sequence[str], starts: frozenset[int], said: Sequence[str], links: Sequence[Link]) -> list[Difference]:
    """Name every link that is not a right reading.  Extra words that repeat the text are told from added ones.

    Parameters
    ----------
    written : sequence of str
        The chapter's tokens.
    starts : frozenset of int
        The tokens that begin a sentence.
    said : sequence of str
        What was heard.
    links : sequence of Link
        Between the two.
    """
    found: list[Difference] = []
    for link in links:
        if link.same:
            continue
        if not link.heard:
            found.append(Difference(Kind.SKIPPED, link.written, link.heard))
        elif link.written:
            found += _misread(written, said, link)
        else:
            found += _extra(written, said, starts, link)
    return found


def _misread(written: Sequence[str], said: Sequence[str], link: Link) -> list[Difference]:
    """A misread; where more was heard than is written and it ends in the words that follow, those were read twice."""
    here, at = link.written, link.heard
    for count in range(len(at) - len(here), 0, -1):
        following = range(here.stop, here.stop + count)
        tail = range(at.stop - count, at.stop)
        if following.stop <= len(written) and all(
            _key(written[i]) == _key(said[j]) for i, j in zip(following, tail, strict=True)
        ):
            own = [] if near(written[here.start], said[at.start]) and len(here) == len(at) - count == 1 else [here]
            first = [Difference(Kind.MISREAD, here, range(at.start, tail.start)) for here in own]
            return [*first, Difference(Kind.REPEATED, following, tail)]
    return _without_unknown(written, said, here, at)


def _without_unknown(written: Sequence[str], said: Sequence[str], here: range, at: range) -> list[Difference]:
    """A misread, apart from words at its ends that no dictionary holds and that an ear only spells in its own way."""

    def spelt(i: int, j: int) -> bool:
        return not is_word(written[i]) and near(written[i], said[j])

    before: list[Difference] = []
    after: list[Difference] = []
    while here and at and spelt(here.start, at.start):
        before.append(Difference(Kind.MISREAD, here[:1], at[:1]))
        here, at = here[1:], at[1:]
    while here and at and spelt(here.stop - 1, at.stop - 1):
        after.append(Difference(Kind.MISREAD, here[-1:], at[-1:]))
        here, at = here[:-1], at[:-1]
    kind = Kind.MISREAD if here and at else Kind.SKIPPED if here else Kind.ADDED
    return [*before, *([Difference(kind, here, at)] if here or at else ()), *after[::-1]]


def departures(written: Sequence[str], starts: frozenset[int], span: range, said: Sequence[str]) -> list[Difference]:
    """The differences of one place: the tokens `span` of the chapter against what was said there."""
    at = span.start
    links = [
        Link(range(k.written.start + at, k.written.stop + at), k.heard, k.same)
        for k in collated([written[i] for i in span], list(said))
    ]
    return _swapped(differences(written, starts, said, links), written, said)


def _swapped(found: list[Difference], written: Sequence[str], said: Sequence[str]) -> list[Difference]:
    """Two or three words read in another order are one misread, not one left out and one too many, nor two misreads."""
    out: list[Difference] = []
    for d in found:
        before = out[-1] if out else None
        if before is not None and not {before.kind, d.kind} & AGAIN:
            text = range(before.written.start, d.written.stop)
            heard = range(before.heard.start, d.heard.stop)
            own, theirs = ([_key(row[k]) for k in part] for row, part in ((written, text), (said, heard)))
            if 1 < len(own) <= MOST_SWAPPED and sorted(own) == sorted(theirs):
                out[-1] = Difference(Kind.MISREAD, text, heard)
                continue
        out.append(d)
    return out


def near(a: str, b: str) -> bool:
    """Whether two tokens are the same word, or one that the ear could take for it."""
    left, right = spoken_forms(a), spoken_forms(b)
    if any(tuple(map(sound_key, f)) == tuple(map(sound_key, g)) for f in left for g in right):
        return True
    return _alike(phones_read([a]), phones_read([b]))


def _alike(p: tuple[str, ...], q: tuple[str, ...]) -> bool:
    return phone_distance(p, q) <= 0.35 * max(len(p), len(q), 1)


def _extra(written: Sequence[str], said: Sequence[str], sentence_starts: frozenset[int], link: Link) -> list[Difference]:
    """Split heard words with no written ones into readings of nearby text and truly added words."""
    here = link.written.start
    found: list[Difference] = []
    at, stop = link.heard.start, link.heard.stop
    added_from = at
    # the text that may be read again: sixty words back and as far on as there are heard ones
    base = max(0, here - 90)
    window = [_key(t) for t in written[base : here + (stop - at) + 8]]
    w_keys = [""] * base + window
    h_keys = [_key(t) for t in said[at:stop]]
    first = at
    while at < stop:
        if _extends_last(found, written, said, sentence_starts, range(at, stop)):
            return found
        read, start, length = _reread(w_keys, h_keys[at - first :], here, sentence_starts)
        if not read and stop - at <= 3:
            read, start, length = _short_reread(written, said, at, stop, here)
        while read and at + read < stop and start + length < len(written) and near(written[start + length], said[at + read]):
            read, length = read + 1, length + 1  # the last word was misheard
        if read:
            if added_from < at and not _extends_last(found, written, said, sentence_starts, range(added_from, at)):
                found.append(Difference(Kind.ADDED, range(here, here), range(added_from, at)))
            found.append(_read_again(written, sentence_starts, range(start, start + length), range(at, at + read)))
            at += read
            added_from = at
        else:
            at += 1
    if added_from < stop:
        found.append(Difference(Kind.ADDED, range(here, here), range(added_from, stop)))
    return found


def _read_again(written: Sequence[str], sentence_starts: frozenset[int], text: range, heard: range) -> Difference:
    broken_off = text.start in sentence_starts and not _CLAUSE_END.search(written[text.stop - 1])
    return Difference(Kind.FALSE_START if broken_off else Kind.REPEATED, text, heard)


def _extends_last(
    found: list[Difference], written: Sequence[str], said: Sequence[str], sentence_starts: frozenset[int], heard: range
) -> bool:
    """Whether heard words sound, all together, like what follows the last reading in the text: then they are made its end."""
    last = found[-1] if found else None
    if not last or last.kind not in AGAIN or last.heard.stop != heard.start or len(heard) > LONGEST_END:
        return False
    own = phones_read(said[j] for j in heard)
    stops = range(last.written.stop + max(1, len(heard) - 1), min(len(written), last.written.stop + len(heard) + 1) + 1)
    texts = {stop: phones_read(written[last.written.stop : stop]) for stop in stops}
    nearest = min(texts, key=lambda stop: phone_distance(own, texts[stop]), default=None)
    if nearest is None or not _alike(own, texts[nearest]):
        return False
    text = range(last.written.start, nearest)
    found[-1] = _read_again(written, sentence_starts, text, range(last.heard.start, heard.stop))
    return True


def _key(token: str) -> str:
    return " ".join(sound_key(w) for w in spoken_forms(token)[0])


def _short_reread(written: Sequence[str], said: Sequence[str], at: int, stop: int, here: int) -> tuple[int, int, int]:
    """One to three words that sound like those just before or just after `here`."""
    for count in range(stop - at, 0, -1):
        for start in (here, here - count):
            if start >= 0 and start + count <= len(written) and all(near(written[start + k], said[at + k]) for k in range(count)):
                return count, start, count
    return 0, 0, 0


def _reread(w_keys: list[str], h_keys: list[str], here: int, sentence_starts: frozenset[int]) -> tuple[int, int, int]:
    """The longest start of `h_keys` that reads text around `here` again: (heard words, first written word, written words).

    The text may begin at `here`, at a sentence start up to 60 words before, or end at `here`.  Seven words in ten must
    agree; none found gives zeros.
    """
    best, found = 0.0, (0, 0, 0)
    starts = {
        here,
        *(s for s in range(max(0, here - 60), here) if s in sentence_starts),
        *range(max(0, here - min(len(h_keys), 25)), here),
    }
    for start in sorted(starts):
        text = w_keys[start : start + len(h_keys) + 4]
        if not text:
            continue
        blocks = [b for b in difflib.SequenceMatcher(None, text, h_keys, autojunk=False).get_matching_blocks() if b.size]
        hits, heard, written = 0, 0, 0
        for block in blocks:
            new_heard, new_written = block.b + block.size, block.a + block.size
            if hits and (block.b - heard > 3 or block.a - written > 3):
                break
            if hits + block.size < 0.7 * max(new_heard, new_written):
                break
            hits, heard, written = hits + block.size, new_heard, new_written
        ends_here = start + written == here
        if (
            not hits
            or not (start == here or start in sentence_starts or ends_here)
            or (hits < 2 and not (start == here or ends_here))
        ):
            continue
        if start != here and here - (start + written) > (FARTHEST + 2 * hits if hits > FEW else NEAR_BY):
            continue  # nobody goes so far back for so little
        score = hits + 0.1 * (start == here) + 0.05 * ends_here
        if score > best:
            best, found = score, (heard, start, written)
    return found
