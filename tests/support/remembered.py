"""A book in memory: the journal of a store without a disk, each step read back from its JSON as the store does."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from faithful_reel.core.book.model import Book
from faithful_reel.core.book.packing import adapter, packed
from faithful_reel.core.book.past import Change


@dataclass(frozen=True)
class Noted:
    """A step."""

    id: int
    parent: int
    label: str


class Remembered:
    """Stands for a `BookStore`; `changes` are the steps that lead to the head."""

    folder = Path("nowhere.reelbook")

    def __init__(self, book: Book) -> None:
        self.head, self.steps, self.books, self.next = 0, {0: Noted(0, -1, "")}, {0: book}, {}
        self.kinds, self.values = {}, {}

    def book_at(self, step: int) -> Book:
        """The book at a step."""
        return self.books[step]

    def mend_states(self, book: Book) -> None:
        """Nothing is damaged."""

    def append(self, command, after, label=""):
        """As `BookStore.append`."""
        kind = type(command)
        back = adapter(kind).validate_json(adapter(kind).dump_json(command))
        assert back == command
        step = len(self.steps)
        self.steps[step], self.books[step], self.next[self.head] = Noted(step, self.head, label or command.label), after, step
        self.kinds[step] = back
        self.head = step
        return step

    def step(self, step):
        """One entry."""
        return self.steps[step]

    def following(self, step):
        """Where redo leads."""
        return self.next.get(step, 0)

    def go_to(self, step):
        """Stand there."""
        self.head = step

    def count(self):
        """How many steps were taken."""
        return len(self.steps) - 1

    def replayed(self) -> Book:
        """The book as its steps lead to it from the beginning."""
        book = self.books[0]
        for change in self.chain():
            book = self.kinds[change].apply(book)
        return book

    def chain(self) -> list[int]:
        """The steps that lead to the head."""
        found, at = [], self.head
        while at > 0:
            found.append(at)
            at = self.steps[at].parent
        return found[::-1]

    @property
    def changes(self) -> list[Change]:
        """As `past.changes` gives them."""
        return [
            Change(s, "2026-01-05T10:00:00", self.steps[s].label, self.books[self.steps[s].parent], self.books[s])
            for s in self.chain()
        ]

    def note(self, key, value):
        """Keep a small fact."""
        self.values[f"note {key}"] = value

    def noted(self, key):
        """A small fact that was kept."""
        return self.values.get(f"note {key}")

    def put(self, kind, value):
        """Keep a value."""
        row = packed(kind, value)
        self.values[row.key] = value
        return row.key

    def get(self, kind, key):
        """A value that was kept."""
        return self.values[key]

    def close(self):
        """Nothing is open."""
