"""Where the editor was in every chapter of a book, kept with the settings.  No Qt."""

from __future__ import annotations

import hashlib
from pathlib import Path

from faithful_reel.app.settings import Settings, flag, keep_names, keep_rows, names, rows, text
from faithful_reel.core.files import is_folder

MOST_RECENT = 12


class Places:
    """The last chapter of a book, and a row of numbers for each of its chapters."""

    def __init__(self, settings: Settings, book: Path) -> None:
        self._settings = settings
        self._key = f"books/{hashlib.sha256(str(book.resolve()).encode('utf-8', 'surrogateescape')).hexdigest()[:16]}"
        self._kept = rows(settings, f"{self._key}/places")

    def kept(self, chapter: str) -> list[float]:
        """Three numbers: the word at the top, how far down its line, the word at the cursor; empty where nothing is known."""
        found = self._kept.get(chapter, [])
        return found if len(found) == 3 else []

    def keep(self, chapter: str, place: tuple[float, float, float]) -> None:
        """Remember a chapter's place."""
        self._kept[chapter] = list(place)

    @property
    def chapter(self) -> str:
        """The chapter that was at hand."""
        return text(self._settings, f"{self._key}/chapter")

    @property
    def queue(self) -> list[str]:
        """The chapters that wait to be heard, in order."""
        return names(self._settings, f"{self._key}/queue")

    @property
    def queue_paused(self) -> bool:
        """Whether hearing them was paused."""
        return flag(self._settings, f"{self._key}/queue paused")

    def keep_queue(self, chapters: list[str], *, paused: bool) -> None:
        """Remember which chapters wait to be heard."""
        keep_names(self._settings, f"{self._key}/queue", chapters)
        self._settings.setValue(f"{self._key}/queue paused", "on" if paused else "")

    def save(self, chapter: str) -> None:
        """Write all of it into the settings."""
        self._settings.setValue(f"{self._key}/chapter", chapter)
        keep_rows(self._settings, f"{self._key}/places", self._kept)


def recent_books(settings: Settings) -> list[Path]:
    """The books that were open before and are still there, the last one first."""
    return [p for n in names(settings, "books/recent") if is_folder(p := Path(n))]


def remember_book(settings: Settings, book: Path) -> None:
    """Put a book at the head of the recent ones."""
    path = str(book.resolve())
    others = [n for n in names(settings, "books/recent") if n != path]
    keep_names(settings, "books/recent", [path, *others][:MOST_RECENT])
