"""Sorting what came in: which stretch of a pickup recording reads which line."""

from __future__ import annotations

import difflib
from collections.abc import Sequence
from dataclasses import dataclass

from faithful_reel.core.collate.links import Link, collated
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.hear.recogniser import Heard
from faithful_reel.core.text.spoken import sound_key, spoken_forms
from faithful_reel.core.units import Span

LEAST_LIKE = 0.6


@dataclass(frozen=True, slots=True)
class FoundTake:
    """One reading of a line: heard words `words`, and how many of the line's tokens it departs from."""

    words: range
    departures: int
    likeness: float


def _keys(tokens: Sequence[str]) -> list[str]:
    return [" ".join(sound_key(w) for w in spoken_forms(t)[0]) for t in tokens]


def find_line(script: Sequence[str], line: Sequence[str]) -> int:
    """Position in the script's tokens at which the line stands.

    Raises
    ------
    FileProblem
        Nothing like the line is in the script.
    """
    wanted, have = _keys(line), _keys(script)
    best, best_at = 0.0, -1
    for at in range(max(1, len(have) - len(wanted) + 1)):
        window = have[at : at + len(wanted)]
        hits = sum(a == b for a, b in zip(window, wanted, strict=False))
        score = hits / len(wanted)
        if score > best:
            best, best_at = score, at
    if best_at < 0 or best < LEAST_LIKE:
        raise FileProblem(f"The line “{' '.join(line)}” is not in the script. Give it as the script has it.")
    return best_at


def find_takes(line: Sequence[str], heard: Sequence[Heard]) -> list[FoundTake]:
    """Every reading of a line in a recording, in order; readings do not overlap."""
    wanted, said = _keys(line), _keys([h.text for h in heard])
    slack = max(1, len(wanted) // 6)
    scored: list[tuple[float, int, int]] = []
    for at in range(len(said)):
        window = said[at : at + len(wanted) + slack]
        blocks = difflib.SequenceMatcher(None, wanted, window, autojunk=False).get_matching_blocks()
        hits = sum(b.size for b in blocks)
        if hits and blocks[0].b == 0:
            last = max(b.b + b.size for b in blocks if b.size)
            missing = len(wanted) - max(b.a + b.size for b in blocks if b.size)
            stop = min(len(said), at + last + min(missing, slack))
            start = max(0, at - min(blocks[0].a, slack))
            scored.append((hits / len(wanted), start, stop))
    scored.sort(key=lambda s: (-s[0], s[1]))
    taken: list[FoundTake] = []
    for likeness, start, stop in scored:
        if likeness < LEAST_LIKE or any(start < t.words.stop and stop > t.words.start for t in taken):
            continue
        links = collated(list(line), [h.text for h in heard[start:stop]])
        # words before and after the line that belong to something else are not the take's
        inner = [link for link in links if link.written]
        first = min((link.heard.start for link in inner if link.heard), default=0)
        last = max((link.heard.stop for link in inner if link.heard), default=stop - start)
        departures = sum(not link.same for link in links if link.written or first <= link.heard.start < last)
        taken.append(FoundTake(range(start + first, start + last), departures, round(likeness, 3)))
    return sorted(taken, key=lambda t: t.words.start)


def proposed(takes: Sequence[FoundTake]) -> int:
    """The take to use: the last one that departs least from the line (common practice).  -1 where there is none."""
    if not takes:
        return -1
    least = min(t.departures for t in takes)
    return max(i for i, t in enumerate(takes) if t.departures == least)


def line_gaps(links: Sequence[Link], heard: Sequence[Heard], tokens: range, bounds: Span) -> tuple[Span | None, ...]:
    """The gap before every token of `tokens` and after the last, between what is kept and whatever is heard next.

    Before a token: from the end of the last word linked to an earlier token to the start of the next heard word,
    whatever that is, so that a cut there takes extra words out.  `bounds` closes the gaps at both ends.
    """
    first_for: dict[int, int] = {}
    last_for: dict[int, int] = {}
    for link in links:
        if link.written and link.heard and len(link.written) == 1:
            first_for[link.written.start] = link.heard.start
            last_for[link.written.start] = link.heard.stop - 1
        elif link.written and link.heard:
            first_for[link.written.start] = link.heard.start
            last_for[link.written.stop - 1] = link.heard.stop - 1
    gaps: list[Span | None] = []
    for token in range(tokens.start, tokens.stop + 1):
        left = last_for.get(token - 1)
        right = first_for.get(token)
        if left is None and right is None:  # neither was read: between the words around that were
            right = next((first_for[t] for t in range(token + 1, tokens.stop) if t in first_for), None)
        if left is None and right is None:
            left = next((last_for[t] for t in range(token - 2, tokens.start - 1, -1) if t in last_for), None)
        if left is None and right is None:
            gaps.append(None)
            continue
        if left is not None:
            start = heard[left].stop
            after = heard[left + 1].start if left + 1 < len(heard) else bounds.stop
        else:
            assert right is not None
            start = heard[right - 1].stop if right else bounds.start
            after = heard[right].start
        start, after = max(bounds.start, start), min(bounds.stop, after)
        gaps.append(Span(start, max(start, after)))
    return tuple(gaps)


def leaving_gaps(links: Sequence[Link], heard: Sequence[Heard], tokens: range, bounds: Span) -> tuple[Span | None, ...]:
    """As `line_gaps`, but from whatever was heard last to the next word that is kept."""
    flipped = line_gaps(links, heard, tokens, bounds)
    first_for = {link.written.start: link.heard.start for link in links if link.written and link.heard}
    gaps: list[Span | None] = []
    for offset, token in enumerate(range(tokens.start, tokens.stop + 1)):
        right = first_for.get(token)
        if right is None:
            gaps.append(flipped[offset])
            continue
        start = heard[right - 1].stop if right else bounds.start
        gaps.append(Span(max(bounds.start, min(start, heard[right].start)), min(bounds.stop, heard[right].start)))
    return tuple(gaps)


def changed_tokens(links: Sequence[Link], tokens: range) -> range:
    """The tokens of a line, counted within it, that were not read as written; all of it where none departs.

    Extra words before the first and after the last token belong to the neighbours and do not count.
    """
    changed: list[int] = []
    for link in links:
        if link.same:
            continue
        if link.written:
            changed += [i for i in link.written if i in tokens]
        elif tokens.start < link.written.start < tokens.stop:
            changed += [link.written.start - 1, link.written.start]
    if not changed:
        return range(len(tokens))
    return range(min(changed) - tokens.start, max(changed) + 1 - tokens.start)
