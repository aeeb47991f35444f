"""The book as one frozen value.  Large contents (text, hearings, sound) stand beside it, known by their hashes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from faithful_reel.core.collate.findings import Finding
from faithful_reel.core.collate.learning import Forgotten
from faithful_reel.core.collate.names import Accepted
from faithful_reel.core.errors import EditRefused
from faithful_reel.core.files import plain
from faithful_reel.core.hear.ears import ENGLISH
from faithful_reel.core.measure.health import Health
from faithful_reel.core.pickups.ledger import Pickup, Round, Unmatched
from faithful_reel.core.reel.commands import ToneSource
from faithful_reel.core.reel.reel import Reel, Segment


@dataclass(frozen=True, slots=True)
class Stretch:
    """A stretch of another recording, in samples at the book's rate."""

    recording: str
    start: int
    stop: int


@dataclass(frozen=True, slots=True)
class Recording:
    """A recording as received: known by the SHA-256 of its bytes.  `length` is in samples at the book's rate.

    One with `parts` is no file of its own but those stretches of others, end to end: a chapter that came in several
    files, or one chapter of several in a file.  `file` is the hash of the file that the editor gave for one that was
    lost; empty where the file is the one received.  `made` is the stretch of a pickup recording that it was made of, where it is
    a take brought to its chapter's sound, and `how` says by what.

    `mix` is how much of each channel is worked on; empty for their mean.
    """

    hash: str
    name: str
    suffix: str
    rate: int
    channels: int
    length: int
    peak_db: float
    noise_floor_db: float
    rms_db: float
    tone: ToneSource | None
    size: int = 0
    file: str = ""
    narrator: str = ""
    parts: tuple[Stretch, ...] = ()
    health: Health | None = None
    made: Stretch | None = None
    how: str = ""
    mix: tuple[float, ...] = ()

    @property
    def stored(self) -> str:
        """The name of its file in the book's `recordings` folder."""
        return plain(f"{self.file or self.hash}{self.suffix}")


@dataclass(frozen=True, slots=True)
class Master:
    """A mastered chapter file: its name in the book's `masters` folder, what was done, and the independent check.

    `limits` is the key of the profile's limits as they were, `digest` the SHA-256 of the file that was checked; empty in masters
    from before they were kept.
    """

    file: str
    profile: str
    reel_key: str
    steps: tuple[str, ...]
    figures: dict[str, float | int | str | bool | None]
    verdicts: tuple[tuple[str, str, str, bool], ...]
    limits: str = ""
    digest: str = ""

    @property
    def stored(self) -> str:
        """The name of its file in the book's `masters` folder."""
        return plain(self.file)

    @property
    def passed(self) -> bool:
        """Whether every rule passes."""
        return all(v[3] for v in self.verdicts)


@dataclass(frozen=True, slots=True)
class Version:
    """A chapter's reel as it was once, under a name; `at` is when it was kept (local time, ISO 8601)."""

    id: str
    name: str
    reel: Reel
    note: str = ""
    at: str = ""


@dataclass(frozen=True, slots=True)
class Shelved:
    """Sound that is kept for reuse: segments of one lane, end to end."""

    id: str
    name: str
    segments: tuple[Segment, ...]
    color: str = ""
    note: str = ""

    def __len__(self) -> int:
        return sum(len(s) for s in self.segments)


@dataclass(frozen=True, slots=True)
class ChapterState:
    """All that was decided about one chapter.  `text` and `hearing` are keys of contents."""

    id: str
    title: str
    text: str
    recording: str = ""
    hearing: str = ""
    findings: tuple[Finding, ...] = ()
    reel: Reel | None = None
    master: Master | None = None
    released: str = ""
    signed: str = ""
    """The key of the reel and the text that were signed off; empty before."""
    color: str = ""
    note: str = ""
    versions: tuple[Version, ...] = ()
    heard_as: str = ""
    """The key of the reel as which its changed stretches were heard; empty before."""

    def finding(self, finding_id: str) -> Finding:
        """The finding with this id.

        Raises
        ------
        EditRefused
            It is no longer there.
        """
        for finding in self.findings:
            if finding.id == finding_id:
                return finding
        raise EditRefused("This finding is no longer there.")


@dataclass(frozen=True, slots=True)
class Book:
    """All of one production."""

    title: str = "Untitled"
    author: str = ""
    narrator: str = ""
    rate: int = 44_100
    chapters: tuple[ChapterState, ...] = ()
    recordings: tuple[Recording, ...] = ()
    pickups: tuple[Pickup, ...] = ()
    left_out: tuple[ChapterState, ...] = ()
    accepted: Accepted = ()
    forgotten: tuple[Forgotten, ...] = ()
    say: tuple[tuple[str, str], ...] = ()
    """(name, how it is to be spoken), for the call sheet."""
    language: str = ENGLISH
    shelf: tuple[Shelved, ...] = ()
    rounds: tuple[Round, ...] = ()
    unmatched: tuple[Unmatched, ...] = ()

    @property
    def brought(self) -> tuple[Recording, ...]:
        """The recordings that came in, without the matched takes that were made of them."""
        return tuple(r for r in self.recordings if r.made is None)

    def chapter(self, chapter_id: str) -> ChapterState:
        """The chapter with this id.

        Raises
        ------
        EditRefused
            It is no longer there.
        """
        for chapter in self.chapters:
            if chapter.id == chapter_id:
                return chapter
        raise EditRefused("This chapter is no longer there.")

    def recording(self, recording_hash: str) -> Recording:
        """The recording with this hash.

        Raises
        ------
        EditRefused
            It is no longer there.
        """
        for recording in self.recordings:
            if recording.hash == recording_hash:
                return recording
        raise EditRefused("This recording is no longer in the book.")

    def pickup(self, pickup_id: str) -> Pickup:
        """The pickup with this id.

        Raises
        ------
        EditRefused
            It is no longer there.
        """
        for pickup in self.pickups:
            if pickup.id == pickup_id:
                return pickup
        raise EditRefused("This pickup is no longer there.")

    def with_chapter(self, chapter_id: str, change: Callable[[ChapterState], ChapterState]) -> Book:
        """The book with one chapter changed; all others are the same objects."""
        self.chapter(chapter_id)
        return replace(self, chapters=tuple(change(c) if c.id == chapter_id else c for c in self.chapters))

    def with_pickup(self, pickup_id: str, change: Callable[[Pickup], Pickup]) -> Book:
        """The book with one pickup changed."""
        self.pickup(pickup_id)
        return replace(self, pickups=tuple(change(p) if p.id == pickup_id else p for p in self.pickups))
