"""What a changed manuscript, a split or a join of chapters does to the work that was done on the words."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from faithful_reel.core.book.commands import EDITION, JoinChapters, ReviseChapters, Revised, SplitChapter
from faithful_reel.core.book.model import Book, ChapterState
from faithful_reel.core.collate.findings import Decision, Finding
from faithful_reel.core.collate.proofing import Placed
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.jobs import Unwatched, Watch
from faithful_reel.core.pickups.ledger import Pickup, State
from faithful_reel.core.text.revision import Change, Revision, joined_text, matched, parts_of, revision
from faithful_reel.core.text.words import Chapter
from faithful_reel.core.work.timeline import Hearing, tokens_of

Put = Callable[[type, object], str]
"""Keeps a large value in the book and gives its key: `BookStore.put`."""


@dataclass(frozen=True, slots=True)
class ChapterRevision:
    """What a corrected manuscript does to one chapter; `chapter` is empty for a new one."""

    chapter: str
    title: str
    changes: tuple[Change, ...]
    kept: int
    fallen: tuple[Finding, ...]
    fallen_pickups: tuple[Pickup, ...] = ()


@dataclass(frozen=True, slots=True)
class Reimport:
    """A corrected manuscript laid over a book: the command that takes it over, and what it changes."""

    command: ReviseChapters
    chapters: tuple[ChapterRevision, ...]
    gone: tuple[str, ...]


def reimport(book: Book, text_of: Callable[[ChapterState], Chapter], hearing_of: Callable[[ChapterState], Hearing | None],
             new: tuple[Chapter, ...], put: Put, watch: Watch | None = None) -> Reimport:  # fmt: skip
    """Lay a corrected manuscript over the book's chapters.

    Findings, decisions and pickups whose words are all still there are kept, at their new places; chapters that the new
    manuscript does not have any more are named in `gone` and stay as they are.  What was left out stays left out.
    """
    states = (*book.chapters, *book.left_out)
    old = [text_of(c) for c in states]
    rows: list[Revised] = []
    told: list[ChapterRevision] = []
    count = len(book.chapters)
    found = matched(old[:count], new)
    aside = [n for n, index in enumerate(found) if index < 0]  # what no chapter is a version of may be of a part that is left out
    for n, index in zip(aside, matched(old[count:], [new[n] for n in aside]), strict=True):
        found[n] = index + count if index >= 0 else -1
    watch = watch or Unwatched()
    for number, (chapter, index) in enumerate(zip(new, found, strict=True)):
        watch.tick(0.5 + 0.5 * number / len(new), "comparing")
        key = put(Chapter, chapter)
        if index < 0:
            rows.append(Revised("", key, chapter.title, "", (), ()))
            told.append(ChapterRevision("", chapter.title, (), 0, ()))
            continue
        state, before = states[index], old[index]
        if chapter == before:
            continue
        change = revision([w.text for w in before.words], [w.text for w in chapter.words])
        kept, fallen = _moved_findings(state, change)
        hearing = hearing_of(state)
        heard = put(Hearing, _moved_hearing(hearing, change, len(chapter.words))) if hearing else ""
        own = [p for p in book.pickups if p.chapter == state.id]
        pickups = tuple(
            moved for p in own if (moved := _moved_pickup(p, change, kept, [w.text for w in chapter.words])) is not None
        )
        lost = tuple(p for p in own if p.id not in {q.id for q in pickups})
        rows.append(Revised(state.id, key, chapter.title, heard, kept, pickups))
        told.append(ChapterRevision(state.id, chapter.title, change.changes, len(kept), fallen, lost))
    gone = tuple(c.title for k, c in enumerate(book.chapters) if k not in found)
    return Reimport(ReviseChapters(tuple(rows)), tuple(told), gone)


def _moved_findings(state: ChapterState, change: Revision) -> tuple[tuple[Finding, ...], tuple[Finding, ...]]:
    kept, fallen = [], []
    for finding in state.findings:
        place = change.span_of(finding.word_index, finding.word_count)
        if place is None:
            fallen.append(finding)
        else:
            kept.append(replace(finding, word_index=place))
    return tuple(kept), tuple(fallen)


def _moved_pickup(pickup: Pickup, change: Revision, kept: tuple[Finding, ...], words: Sequence[str]) -> Pickup | None:
    """A line at its new place.  One that was corrected beside what it is asked for is to be sent as it is written now."""
    there = {f.id for f in kept}
    findings = tuple(f for f in pickup.findings if f in there)
    place = change.span_of(pickup.first_word, pickup.word_count)
    if place is not None:
        return replace(pickup, first_word=place, findings=findings)
    ends = [change.place_of[k] for k in (pickup.first_word, pickup.first_word + pickup.word_count - 1)]
    unread = pickup.state in (State.TO_SEND, State.SENT) and not pickup.takes
    if not unread or not findings or len(findings) < len(pickup.findings) or min(ends) < 0 or ends[1] < ends[0]:
        return None
    line = " ".join(words[ends[0] : ends[1] + 1])
    return replace(
        pickup, first_word=ends[0], word_count=ends[1] + 1 - ends[0], line=line, findings=findings, state=State.TO_SEND
    )


def _moved_hearing(hearing: Hearing, change: Revision, count: int) -> Hearing:
    """What was heard, on the new words: those that are new were not looked for yet; heard words of old ones are extra now."""
    placed: list[Placed | None] = [None] * count
    for old, new in enumerate(change.place_of):
        if new >= 0:
            placed[new] = hearing.placed[old]
    links = []
    for a, b, c, d, same in hearing.links:
        places = [p for p in change.place_of[a:b] if p >= 0]
        if places and places == list(range(places[0], places[0] + b - a)):
            links.append((places[0], places[-1] + 1, c, d, same))
    voices = tuple((recording, _moved_hearing(heard, change, count)) for recording, heard in hearing.voices)
    return Hearing(hearing.heard, tuple(placed), tuple(links), voices)


def split_chapter(book: Book, chapter: ChapterState, text: Chapter, hearing: Hearing | None, at: int, titles: tuple[str, str],
                  put: Put) -> SplitChapter:  # fmt: skip
    """The command that splits a chapter before a word; its reel is cut in the pause before that word.

    Raises
    ------
    EditRefused
        One part would have no words, or the word where to cut the sound is not heard.
    """
    if not 0 < at < len(text.words):
        raise EditRefused("A chapter can only be split between two of its words.")
    first, second = parts_of(text, at, titles)
    cut = 0
    keys = ("", "")
    if hearing is not None:
        tokens = tokens_of(book, chapter, [w.text for w in text.words], hearing)
        before = [t.stop for t in tokens if 0 <= t.word < at and t.start >= 0]
        after = [t.start for t in tokens if t.word >= at and t.start >= 0]
        if not before or not after:
            raise EditRefused("The words around this place are not heard in the reel, so the sound can not be split there.")
        cut = (max(before) + min(after)) // 2
        keys = put(Hearing, _sliced(hearing, 0, at)), put(Hearing, _sliced(hearing, at, len(text.words)))
    elif chapter.recording:
        raise EditRefused("Hear the chapter first: only then is it known where the sound of the second part begins.")
    return SplitChapter(chapter.id, at, cut, (put(Chapter, first), put(Chapter, second)), titles, keys, EDITION)


def _sliced(hearing: Hearing, first: int, stop: int) -> Hearing:
    links = tuple((a - first, b - first, c, d, s) for a, b, c, d, s in hearing.links if first <= a and b <= stop)
    voices = tuple((recording, _sliced(heard, first, stop)) for recording, heard in hearing.voices)
    return Hearing(hearing.heard, hearing.placed[first:stop], links, voices)


def join_chapters(first: ChapterState, second: ChapterState, texts: tuple[Chapter, Chapter],
                  hearings: tuple[Hearing | None, Hearing | None], put: Put) -> JoinChapters:  # fmt: skip
    """The command that joins a chapter with the one after it.

    Raises
    ------
    EditRefused
        They are read by different recordings, or only one was heard.
    """
    key = put(Chapter, joined_text(*texts))
    if not first.recording and not second.recording:
        return JoinChapters(first.id, second.id, key, "", len(texts[0].words), EDITION)
    if first.recording != second.recording or (hearings[0] is None) != (hearings[1] is None):
        raise EditRefused(
            "These chapters are read by different recordings. Take the pairs apart, join the chapters, and pair them anew."
        )
    heard = ""
    if hearings[0] is not None and hearings[1] is not None:
        a, b, n = hearings[0], hearings[1], len(texts[0].words)
        heard = put(Hearing, _joined_hearing(a, b, n))
    return JoinChapters(first.id, second.id, key, heard, len(texts[0].words), EDITION)


def _joined_hearing(a: Hearing, b: Hearing, words: int) -> Hearing:
    """Two hearings of one recording end to end, the first of so many words; of each voice that both have, likewise."""
    k = 0 if a.heard == b.heard else len(a.heard)
    links = (*a.links, *((i + words, j + words, c + k, d + k, s) for i, j, c, d, s in b.links))
    heard = a.heard if not k else a.heard + b.heard
    nothing = Hearing((), (None,) * words, ()), Hearing((), (None,) * len(b.placed), ())
    ours, theirs = dict(a.voices), dict(b.voices)
    voices = tuple(
        (r, _joined_hearing(ours.get(r, nothing[0]), theirs.get(r, nothing[1]), words)) for r in dict.fromkeys((*ours, *theirs))
    )
    return Hearing(heard, a.placed + b.placed, links, voices)


def decided(findings: tuple[Finding, ...]) -> int:
    """How many of them carry a decision."""
    return sum(f.decision is not Decision.OPEN for f in findings)
