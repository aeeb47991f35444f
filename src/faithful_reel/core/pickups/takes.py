"""Lines: where one stands in a script, which of its words were not read as written, and the gaps between its words."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence

from faithful_reel.core.collate.links import Link
from faithful_reel.core.errors import FileProblem
from faithful_reel.core.text.spoken import sound_key, spoken_forms
from faithful_reel.core.units import Span

LEAST_LIKE = 0.6


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


Row = tuple[int, Span]
"""What is heard at a place: the written word, counted in the whole chapter, or -1 for what is not written."""


def gaps_of(rows: Sequence[Row], tokens: range, bounds: Span) -> tuple[tuple[Span | None, ...], tuple[Span | None, ...]]:
    """The gaps before every token of `tokens` and after the last, as a take enters there and as it leaves.

    Entering: from the end of the last word that is kept to the start of whatever is heard next, so that a cut there takes extra
    words out.  Leaving: from the end of whatever was heard last to the next word that is kept.  None where the words beside a
    gap are not heard.  What is heard between this line and its neighbours, such as another take of either, stays where it is.

    Parameters
    ----------
    rows : sequence of (int, Span)
        What is heard, in the order of time.
    tokens : range
        The words of the line.
    bounds : Span
        Closes the gaps at both ends.
    """
    at = {word: k for k, (word, _) in enumerate(rows) if word >= 0}
    order = sorted(at)
    entering: list[Span | None] = []
    leaving: list[Span | None] = []
    for token in range(tokens.start, tokens.stop + 1):
        k = bisect_left(order, token)
        left = at[order[k - 1]] if k else None
        right = at[order[k]] if k < len(order) else None
        if left is None and right is None:
            entering.append(None)
            leaving.append(None)
            continue
        entering.append(_after(rows, left, right, bounds))
        leaving.append(_before(rows, left, right, bounds))
    return (leaving[0], *entering[1:]), (*leaving[:-1], entering[-1])


def _after(rows: Sequence[Row], left: int | None, right: int | None, bounds: Span) -> Span:
    if left is None:
        assert right is not None
        return _before(rows, left, right, bounds)
    start = max(bounds.start, rows[left][1].stop)
    after = rows[left + 1][1].start if left + 1 < len(rows) else bounds.stop
    return Span(start, max(start, min(after, bounds.stop)))


def _before(rows: Sequence[Row], left: int | None, right: int | None, bounds: Span) -> Span:
    if right is None:
        return _after(rows, left, right, bounds)
    stop = min(bounds.stop, rows[right][1].start)
    before = rows[right - 1][1].stop if right else bounds.start
    return Span(min(stop, max(before, bounds.start)), stop)


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
