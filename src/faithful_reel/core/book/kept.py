"""Commands on what is kept beside the reels: versions of a chapter, the book's shelf, colours and notes of chapters.

`apply` raises `EditRefused` where an order does not fit, and changes nothing then.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

from faithful_reel.core.book.model import Book, ChapterState, Recording, Shelved, Version
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.reel.bounds import lane_within, segment_within
from faithful_reel.core.reel.commands import Paste
from faithful_reel.core.reel.reel import Piece, Reel, recordings_of

LONGEST_NAME, LONGEST_NOTE = 200, 4000


@dataclass(frozen=True, slots=True)
class DescribeChapter:
    """Give a chapter a colour and a note."""

    chapter: str
    color: str
    note: str
    label: ClassVar[str] = "Describe the chapter"

    def apply(self, book: Book) -> Book:
        """The book with the description."""
        return book.with_chapter(self.chapter, lambda c: replace(c, color=self.color, note=self.note[:LONGEST_NOTE]))


@dataclass(frozen=True, slots=True)
class KeepVersion:
    """Keep a chapter's reel as it is now, under a name."""

    chapter: str
    id: str
    name: str
    note: str = ""
    at: str = ""
    label: ClassVar[str] = "Keep a version"

    def apply(self, book: Book) -> Book:
        """The book with the version."""
        found = book.chapter(self.chapter)
        if found.reel is None:
            raise EditRefused("This chapter has no recording yet. Pair one with it at Intake.")
        if not self.name.strip():
            raise EditRefused("A version needs a name.")
        if any(v.id == self.id for v in found.versions):
            raise EditRefused("There is a version of this id already.")
        made = Version(self.id, self.name.strip()[:LONGEST_NAME], found.reel, self.note[:LONGEST_NOTE], self.at)
        return book.with_chapter(self.chapter, lambda c: replace(c, versions=(*c.versions, made)))


@dataclass(frozen=True, slots=True)
class PutPrint:
    """Put a print, a new recording, in the place of what it is of; the reel as it was is kept as a version.  One step."""

    recording: Recording
    kept: KeepVersion
    edit: Paste
    words: str
    label: ClassVar[str] = "Print"

    @property
    def chapter(self) -> str:
        """Whose reel it is."""
        return self.kept.chapter

    def apply(self, book: Book) -> Book:
        """The book with the recording, the version and the print."""
        book = self.kept.apply(book)
        if all(r.hash != self.recording.hash for r in book.recordings):
            book = replace(book, recordings=(*book.recordings, self.recording))
        reel = book.chapter(self.chapter).reel
        assert reel is not None  # a version of it was kept
        edited = self.edit.apply(reel)
        return book.with_chapter(self.chapter, lambda c: replace(c, reel=edited))


@dataclass(frozen=True, slots=True)
class PutRedrawn:
    """Put sound of which a short stretch was drawn anew, a recording made of it, in the place of what it was made of."""

    chapter: str
    recording: Recording
    edit: Paste
    words: str
    label: ClassVar[str] = "Redraw"

    def apply(self, book: Book) -> Book:
        """The book with the recording, and the reel with the stretch."""
        if all(r.hash != self.recording.hash for r in book.recordings):
            book = replace(book, recordings=(*book.recordings, self.recording))
        reel = book.chapter(self.chapter).reel
        if reel is None:
            raise EditRefused("This chapter has no recording yet. Pair one with it at Intake.")
        edited = self.edit.apply(reel)
        return book.with_chapter(self.chapter, lambda c: replace(c, reel=edited))


@dataclass(frozen=True, slots=True)
class DescribeVersion:
    """Give a version another name and note."""

    chapter: str
    id: str
    name: str
    note: str
    label: ClassVar[str] = "Describe a version"

    def apply(self, book: Book) -> Book:
        """The book with the description."""
        _version(book.chapter(self.chapter), self.id)
        if not self.name.strip():
            raise EditRefused("A version needs a name.")
        name, note = self.name.strip()[:LONGEST_NAME], self.note[:LONGEST_NOTE]

        def described(c: ChapterState) -> ChapterState:
            return replace(c, versions=tuple(replace(v, name=name, note=note) if v.id == self.id else v for v in c.versions))

        return book.with_chapter(self.chapter, described)


@dataclass(frozen=True, slots=True)
class SwapVersion:
    """Put a version in the place of the chapter's reel; the reel that was is kept as a version, unless it is one already."""

    chapter: str
    id: str
    kept: str
    """The id and the name under which the reel that was is kept."""
    name: str
    at: str = ""
    label: ClassVar[str] = "Swap in a version"

    def apply(self, book: Book) -> Book:
        """The book with the other reel."""
        found = book.chapter(self.chapter)
        version = _version(found, self.id)
        if found.reel == version.reel:
            raise EditRefused(f"The chapter is as the version “{version.name}” already.")
        versions = found.versions
        if found.reel is not None and all(v.reel != found.reel for v in versions):
            versions = (*versions, Version(self.kept, self.name[:LONGEST_NAME], found.reel, "", self.at))
        return book.with_chapter(self.chapter, lambda c: replace(c, reel=version.reel, versions=versions))


@dataclass(frozen=True, slots=True)
class TakeReel:
    """Put a reel from outside in the place of the chapter's; the reel that was is kept as a version."""

    chapter: str
    reel: Reel
    label: str
    kept: str
    """The id and the name under which the reel that was is kept."""
    name: str
    at: str = ""

    def apply(self, book: Book) -> Book:
        """The book with the other reel."""
        found = book.chapter(self.chapter)
        reel = replace(self.reel, lanes=tuple(map(lane_within, self.reel.lanes)))
        known = {r.hash for r in book.recordings}
        if len({lane.name for lane in reel.lanes}) < len(reel.lanes):
            raise EditRefused("Every lane has a name of its own, and two of these have the same.")
        if not len(reel) or any(r not in known for r in recordings_of(reel)):
            raise EditRefused("This reel plays nothing, or recordings that are not in this book.")
        lengths = {r.hash: r.length for r in book.recordings}
        pieces = (s for lane in reel.lanes for s in lane.segments if isinstance(s, Piece))
        if any(not 0 <= p.start < p.stop <= lengths[p.recording] for p in pieces):
            raise EditRefused("This reel plays more of a recording than there is.")
        versions = found.versions
        if found.reel is not None and all(v.reel != found.reel for v in versions):
            versions = (*versions, Version(self.kept, self.name[:LONGEST_NAME], found.reel, "", self.at))
        return book.with_chapter(self.chapter, lambda c: replace(c, reel=reel, versions=versions))


@dataclass(frozen=True, slots=True)
class DropVersion:
    """Keep a version no longer; its sound stays in the book."""

    chapter: str
    id: str
    label: ClassVar[str] = "Drop a version"

    def apply(self, book: Book) -> Book:
        """The book without the version."""
        _version(book.chapter(self.chapter), self.id)
        return book.with_chapter(self.chapter, lambda c: replace(c, versions=tuple(v for v in c.versions if v.id != self.id)))


def _version(chapter: ChapterState, version_id: str) -> Version:
    for version in chapter.versions:
        if version.id == version_id:
            return version
    raise EditRefused("This version is no longer there.")


@dataclass(frozen=True, slots=True)
class PutOnShelf:
    """Keep sound on the book's shelf."""

    shelved: Shelved
    label: ClassVar[str] = "Put on the shelf"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the sound on its shelf."""
        kept = replace(self.shelved, segments=tuple(segment_within(s) for s in self.shelved.segments))
        if not len(kept):
            raise EditRefused("There is no sound to put on the shelf.")
        if not kept.name.strip():
            raise EditRefused("What is put on the shelf needs a name.")
        if any(s.id == kept.id for s in book.shelf):
            raise EditRefused("This is on the shelf already.")
        known = {r.hash for r in book.recordings}
        if any(s.recording and s.recording not in known for s in kept.segments):
            raise EditRefused("Its recording is not in this book.")
        return replace(book, shelf=(*book.shelf, kept))


@dataclass(frozen=True, slots=True)
class DescribeShelved:
    """Give what is on the shelf another name, colour and note."""

    id: str
    name: str
    color: str
    note: str
    label: ClassVar[str] = "Describe what is on the shelf"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book with the description."""
        _shelved(book, self.id)
        if not self.name.strip():
            raise EditRefused("What is on the shelf needs a name.")
        name, note = self.name.strip()[:LONGEST_NAME], self.note[:LONGEST_NOTE]
        return replace(
            book, shelf=tuple(replace(s, name=name, color=self.color, note=note) if s.id == self.id else s for s in book.shelf)
        )


@dataclass(frozen=True, slots=True)
class TakeOffShelf:
    """Keep sound on the shelf no longer; its recording stays in the book."""

    id: str
    label: ClassVar[str] = "Take off the shelf"
    chapter: ClassVar[str] = ""

    def apply(self, book: Book) -> Book:
        """The book without it on its shelf."""
        _shelved(book, self.id)
        return replace(book, shelf=tuple(s for s in book.shelf if s.id != self.id))


def _shelved(book: Book, shelved_id: str) -> Shelved:
    for shelved in book.shelf:
        if shelved.id == shelved_id:
            return shelved
    raise EditRefused("This is no longer on the shelf.")
