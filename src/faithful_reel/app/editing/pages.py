"""Lists beside the galley: offcuts, markers, versions.  What stands in them, and what is done with a line.  No Qt."""

from __future__ import annotations

import time
import uuid
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import chain
from typing import ClassVar

from faithful_reel.app.editing.presenter import Editing
from faithful_reel.app.workbench import Observed
from faithful_reel.core.book.kept import DescribeVersion, DropVersion, KeepVersion, SwapVersion
from faithful_reel.core.book.model import Book, ChapterState, Version
from faithful_reel.core.book.past import changes
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.jobs import Watch, watched
from faithful_reel.core.memo import Memo
from faithful_reel.core.reel.commands import PutMarker, RemoveMarkers
from faithful_reel.core.reel.cutting import Content
from faithful_reel.core.reel.exchanges import covered
from faithful_reel.core.reel.reel import Lane, Marker, Reel
from faithful_reel.core.units import Span
from faithful_reel.core.work.editing import Copied
from faithful_reel.core.work.offcuts import Offcut, Said, is_back, offcuts_of, put_back
from faithful_reel.core.work.timeline import span_of, tokens_of, word_at

LEAD_S, TAIL_S = 1.0, 1.5
NO_LINE = "Nothing in the list is chosen."


@dataclass(frozen=True, slots=True)
class Line:
    """One line of a list; `checked` is None where it has no box."""

    key: str
    cells: tuple[str, ...]
    color: str = ""
    checked: bool | None = None


@dataclass(frozen=True, slots=True)
class Described:
    """What can be said of something: its name, colour, note."""

    name: str
    color: str
    note: str


class Page(Observed):
    """One list.  `key` is the line at hand."""

    title: ClassVar[str]
    heads: ClassVar[tuple[str, ...]]
    widths: ClassVar[tuple[int, ...]]
    """How wide the columns are at first, in pixels as drawn; 0 for that which takes the room that is left."""
    buttons: ClassVar[tuple[tuple[str, str], ...]]
    """What stands on the buttons, and the acts that they do."""
    enter: ClassVar[str] = "list.hear"
    """The act that Enter and a double click do."""
    told: ClassVar[str] = ""

    def __init__(self, editing: Editing) -> None:
        super().__init__()
        self.editing, self.bench, self.transport = editing, editing.bench, editing.transport
        self.key = ""

    @property
    def empty(self) -> str:
        """What to do to have lines, while there are none."""
        return ""

    def look(self) -> None:
        """Make sure that what the lines are made of is there, or is being made."""

    def lines(self) -> Sequence[Line]:
        """What stands in the list now."""
        raise NotImplementedError

    def about(self) -> str:
        """All there is to say of the line at hand; where it is empty what is `told` of the list stands there."""
        return ""

    def check(self, key: str, *, on: bool) -> None:
        """Choose a line for what is done with several."""

    def choose(self) -> None:
        """The user took another line in hand."""

    def go(self) -> None:
        """Bring the line at hand into view."""

    def hear(self) -> None:
        """Hear the line at hand."""

    def copy(self) -> Copied | None:
        """The sound of the line at hand, to be pasted."""
        self.bench.tell(f"Nothing can be copied from the list “{self.title}”.")
        return None

    def description(self) -> Described | None:
        """The name, colour and note of the line at hand; None where it has none to change."""
        self.bench.tell(f"Nothing in the list “{self.title}” has a name that could be changed.")
        return None

    def describe(self, said: Described) -> None:
        """Give the line at hand another name, colour and note."""

    def remove(self) -> None:
        """Take the line at hand out of the list."""
        self.bench.tell(f"Nothing can be taken out of the list “{self.title}”.")

    def hear_content(self, content: Content) -> None:
        """Hear what was copied, its lanes together."""
        self.transport.hear_reel(Reel(tuple(Lane(f"{lane}", segments) for lane, segments in content)))


class OffcutsPage(Page):
    """Everything that was ever cut from the chapter at hand."""

    title = "Offcuts"
    heads = ("words", "at", "length", "step", "when", "")
    widths = (0, 78, 56, 80, 66, 50)
    buttons = (("Hear", "list.hear"), ("Put back", "offcut.back"), ("Copy", "list.copy"))
    told = "All that was ever cut from this chapter. What is put back goes where it was, wherever that is now."

    def __init__(self, editing: Editing) -> None:
        super().__init__(editing)
        self._known: dict[str, tuple[int, Book, list[Offcut]]] = {}
        self._asked: tuple[str, int] = ("", -1)
        self._said: Memo[Said] = Memo()

    @property
    def empty(self) -> str:
        """As `Page`."""
        busy = self.bench.chapter is not None and self.bench.chapter.id not in self._known
        return "Looking through the journal." if busy else "Nothing was cut from this chapter yet."

    def look(self) -> None:
        """Walk the journal where it went on, beside the work."""
        chapter, store = self.bench.chapter, self.bench.session.store
        if chapter is None:
            return
        head, known = store.head, self._known.get(chapter.id)
        if (known is not None and known[0] == head) or self._asked == (chapter.id, head):
            return
        self._asked = chapter.id, head
        folder, book, chapter_id = store.folder, self.bench.book, chapter.id
        since, before, kept = known or (0, None, [])

        def walk(watch: Watch) -> tuple[str, int, Book, list[Offcut]]:
            watch.tick(0.0, "offcuts")
            steps = changes(folder, head, since, before)  # one after the other: all books at once would not fit into memory
            first = next(steps, None)
            fresh = before is None or (first is not None and first.before is not before)
            row = watched(chain([first] if first else [], steps), watch, head - since)
            return chapter_id, head, book, [*offcuts_of(row, chapter_id), *([] if fresh else kept)]

        self.bench.jobs.start("Offcuts", walk, done=self._walked, stopped=self._stopped, quiet=True)

    def _walked(self, made: tuple[str, int, Book, list[Offcut]]) -> None:
        self._known[made[0]] = made[1:]
        self.changed()

    def _stopped(self, why: BaseException) -> None:
        self._asked = ("", -1)
        self.bench.stopped(why)

    def _offcuts(self) -> list[Offcut]:
        chapter = self.bench.chapter
        return self._known[chapter.id][2] if chapter is not None and chapter.id in self._known else []

    def words(self, offcut: Offcut) -> str:
        """What is said in it."""
        chapter = self.bench.chapter
        if chapter is None:
            return ""
        hearing, text, pickups = self.bench.hearing(chapter), self.bench.text(chapter), self.bench.book.pickups

        def made() -> Said:
            return Said(self.bench.book, chapter, text, hearing.heard if hearing else ())

        said = self._said.of(chapter.id, (hearing, text, pickups, chapter.recording), made)
        return said.words(replace(offcut, content=offcut.content[:1]).sounds())

    def lines(self) -> Sequence[Line]:
        """As `Page`."""
        found, rate = self.editing.found(), self.bench.book.rate
        if found is None:
            return ()
        there = covered(found[1].lanes)
        return [
            Line(
                cut.id,
                (
                    self.words(cut) or "sound",
                    self.bench.time(cut.span.start, 0),
                    f"{len(cut.span) / rate:.2f} s",
                    cut.label,
                    cut.at.replace("T", " "),
                    "is back" if is_back(cut, there) else "",
                ),
            )
            for cut in self._offcuts()
        ]

    def offcut(self) -> Offcut | None:
        """The one at hand."""
        found = next((c for c in self._offcuts() if c.id == self.key), None)
        if found is None:
            self.bench.tell(NO_LINE)
        return found

    def hear(self) -> None:
        """As `Page`."""
        cut = self.offcut()
        if cut is not None:
            self.hear_content(cut.content)

    def copy(self) -> Copied | None:
        """As `Page`."""
        cut, found = self.offcut(), self.editing.found()
        if cut is None or found is None:
            return None
        music = {lane.id: lane.music for lane in found[1].lanes}
        lanes = tuple((name, music.get(str(k), False)) for name, (k, _) in zip(cut.lanes, cut.content, strict=False))
        return Copied("", (), self.words(cut), cut.content[: len(cut.lanes)], lanes)

    def put_back(self) -> bool:
        """Put the offcut at hand back where it was."""
        cut, found = self.offcut(), self.editing.found()
        if cut is None or found is None:
            return False
        chapter, reel = found
        try:
            edits = put_back(cut, reel)
        except EditRefused as problem:
            self.bench.warn(str(problem))
            return False
        done = self.editing.do(chapter, lambda: edits, "Put an offcut back", self.words(cut))
        if done:
            at = edits[0].start  # type: ignore[union-attr]  # a paste
            self.editing.select(at, at + len(cut.span))
            self.transport.go_to(at, look=True)
        return done


class MarkersPage(Page):
    """The markers of the chapter at hand."""

    title = "Markers"
    heads = ("name", "time", "note")
    widths = (110, 96, 0)
    enter = "list.go"
    buttons = (
        ("Go there", "list.go"), ("Hear from here", "list.hear"), ("Describe…", "list.describe"),
        ("To the cursor", "marker.here"),
        ("Loop to the next", "marker.loop"), ("Remove", "list.remove"), ("Write the list…", "marker.export"),
    )  # fmt: skip
    told = "Drop a marker with its key while you listen. Markers stay with their sound when time before them is taken out."

    @property
    def empty(self) -> str:
        """As `Page`."""
        return "No markers in this chapter yet. Drop one while you listen (Sound, Drop a marker)."

    def _markers(self) -> list[Marker]:
        found = self.editing.found()
        return sorted(found[1].markers, key=lambda m: m.at) if found else []

    def lines(self) -> Sequence[Line]:
        """As `Page`."""
        return [Line(m.id, (m.name or "marker", self.editing.time(m.at), m.note), m.color) for m in self._markers()]

    def marker(self) -> Marker | None:
        """The one at hand."""
        found = next((m for m in self._markers() if m.id == self.key), None)
        if found is None:
            self.bench.tell(NO_LINE)
        return found

    def go(self) -> None:
        """As `Page`."""
        marker = self.marker()
        if marker is not None:
            self.transport.go_to(marker.at, look=True)

    def hear(self) -> None:
        """As `Page`."""
        marker = self.marker()
        if marker is not None:
            self.transport.go_to(marker.at, look=True)
            self.transport.play_from(marker.at)

    def loop(self) -> None:
        """Hear from the marker at hand to the next one, again and again; the span is what is heard."""
        marker, found = self.marker(), self.editing.found()
        if marker is None or found is None:
            return
        stop = next((m.at for m in self._markers() if m.at > marker.at), len(found[1]))
        self.editing.select(marker.at, stop)
        self.transport.set_looping(on=True)
        self.transport.play_from(marker.at, stop)

    def description(self) -> Described | None:
        """As `Page`."""
        marker = self.marker()
        return Described(marker.name, marker.color, marker.note) if marker is not None else None

    def describe(self, said: Described) -> None:
        """As `Page`."""
        marker, found = self.marker(), self.editing.found()
        if marker is not None and found is not None:
            made = replace(marker, name=said.name.strip(), color=said.color, note=said.note)
            self.editing.do(found[0], lambda: [PutMarker(made)], "Describe a marker", made.name)

    def here(self) -> bool:
        """Move the marker at hand to the cursor."""
        marker, found = self.marker(), self.editing.found()
        if marker is None or found is None:
            return False
        made = replace(marker, at=self.transport.spot)
        return self.editing.do(found[0], lambda: [PutMarker(made)], "Move a marker", made.name)

    def remove(self) -> None:
        """As `Page`."""
        marker, found = self.marker(), self.editing.found()
        if marker is not None and found is not None:
            self.editing.do(found[0], lambda: [RemoveMarkers((marker.id,))], "Remove a marker", marker.name)


class VersionsPage(Page):
    """The versions of the chapter at hand that were kept."""

    title = "Versions"
    heads = ("name", "length", "when", "note")
    widths = (0, 66, 76, 76)
    buttons = (
        ("Keep…", "version.keep"), ("Hear at the cursor", "list.hear"), ("Hear now", "version.now"), ("Swap in", "version.swap"),
        ("Describe…", "list.describe"), ("Drop", "list.remove"),
    )  # fmt: skip
    told = "Hear the same words in both, as often as you like. Swapping keeps what was as a version, too."

    @property
    def empty(self) -> str:
        """As `Page`."""
        return "No versions of this chapter yet. Keep one before you try something else."

    def _versions(self) -> tuple[Version, ...]:
        return self.bench.chapter.versions if self.bench.chapter is not None else ()

    def lines(self) -> Sequence[Line]:
        """As `Page`."""
        found, rate = self.editing.found(), self.bench.book.rate
        now = found[1] if found else None
        return [
            Line(
                v.id,
                (
                    v.name + (" (as it is now)" if v.reel == now else ""),
                    f"{len(v.reel) / rate:.1f} s",
                    v.at.replace("T", " "),
                    v.note,
                ),
            )
            for v in self._versions()
        ]

    def version(self) -> Version | None:
        """The one at hand."""
        found = next((v for v in self._versions() if v.id == self.key), None)
        if found is None:
            self.bench.tell(NO_LINE)
        return found

    def hear(self) -> None:
        """Hear the version where it says what is at the cursor or marked."""
        version, found = self.version(), self.editing.found()
        if version is not None and found is not None:
            span = self._same_words(found[0], version.reel)
            self.transport.hear_reel(version.reel, span.start, span.stop)

    def hear_now(self) -> None:
        """Hear the same words as the chapter is now."""
        found = self.editing.found()
        if found is not None:
            span = self._same_words(found[0], found[1])
            self.transport.hear_reel(found[1], span.start, span.stop)

    def _same_words(self, chapter: ChapterState, reel: Reel) -> Span:
        """Where another reel of a chapter says the words that are marked, or those from the word at the cursor on."""
        text, hearing = self.bench.text(chapter), self.bench.hearing(chapter)
        there = tokens_of(self.bench.book, replace(chapter, reel=reel), [w.text for w in text.words], hearing)
        first, last = self.editing.words()
        if first < 0:
            first = last = word_at(self.bench.tokens(chapter), self.transport.spot)
        span = span_of(there, first, last) if first >= 0 else None
        rate = self.bench.book.rate
        at = span.start if span is not None else min(self.transport.spot, len(reel))
        stop = span.stop if span is not None and last > first else at + round(6 * rate)
        return Span(max(0, at - round(LEAD_S * rate)), min(len(reel), stop + round(TAIL_S * rate)))

    def keep(self, name: str) -> bool:
        """Keep the chapter as it is, under a name."""
        chapter = self.bench.chapter
        return chapter is not None and self.bench.do(KeepVersion(chapter.id, new_id(), name, "", now()))

    def swap(self) -> bool:
        """Put the version at hand in the chapter's place."""
        version, chapter = self.version(), self.bench.chapter
        if version is None or chapter is None:
            return False
        self.transport.stop()
        return self.bench.do(SwapVersion(chapter.id, version.id, new_id(), f"before “{version.name}”", now()))

    def description(self) -> Described | None:
        """As `Page`."""
        version = self.version()
        return Described(version.name, "", version.note) if version is not None else None

    def describe(self, said: Described) -> None:
        """As `Page`."""
        version, chapter = self.version(), self.bench.chapter
        if version is not None and chapter is not None:
            self.bench.do(DescribeVersion(chapter.id, version.id, said.name, said.note))

    def remove(self) -> None:
        """As `Page`."""
        version, chapter = self.version(), self.bench.chapter
        if version is not None and chapter is not None:
            self.bench.do(DropVersion(chapter.id, version.id))


def new_id() -> str:
    """An id that nothing else has."""
    return uuid.uuid4().hex[:12]


def now() -> str:
    """The time, as steps of the journal have it."""
    return time.strftime("%Y-%m-%dT%H:%M:%S")
