"""The one holder of the current book: commands, undo, redo, the history."""

from __future__ import annotations

import contextlib
from collections.abc import Callable

from faithful_reel.core.book.commands import BookCommand
from faithful_reel.core.book.labels import step_label
from faithful_reel.core.book.model import Book
from faithful_reel.core.book.store import BookStore
from faithful_reel.core.errors import AppError, EditRefused, StoreProblem
from faithful_reel.core.reel.bounds import reel_within
from faithful_reel.core.reel.reel import Reel


def _playable(before: Book, after: Book) -> Book:
    """A book of whose chapters all that a command changed can be played; raises `EditRefused` for one that can not.

    It stands here, not in the commands: a journal that was written before a rule came is still replayed as it was.
    """
    reels = {c.id: c.reel for c in (*before.chapters, *before.left_out)}
    changed = [c for c in after.chapters if c.reel is not None and c.reel is not reels.get(c.id)]
    lengths = {r.hash: r.length for r in after.recordings} if changed else {}
    for chapter in changed:
        assert chapter.reel is not None
        reel_within(chapter.reel, reels.get(chapter.id), lengths)
    return after


def _reels_of(book: Book) -> dict[str, Reel | None]:
    return {c.id: c.reel for c in book.chapters}


MOST_HELD = 400
"""Books that undo and redo find in memory; older ones are read from disk."""


class Session:
    """The open book and its journal; alone holds the current book.  What a command changes shows only when it is on disk."""

    def __init__(self, store: BookStore) -> None:
        self.store = store
        self._states: dict[int, Book] = {}
        self._listeners: list[Callable[[Book, Book], None]] = []
        self._opened_at = store.head
        self.book = store.book_at(store.head)
        store.mend_states(self.book)
        self._states[store.head] = self.book

    def listen(self, listener: Callable[[Book, Book], None], *, first: bool = False) -> None:
        """Call `listener(before, after)` after every change, with `first` before those that are there."""
        self._listeners.insert(0 if first else len(self._listeners), listener)

    def do(self, command: BookCommand, may: Callable[[Book, Book], None] | None = None) -> None:
        """Carry out a command: apply, write, show.  If it raises, nothing has changed.

        `may(before, after)` is asked before it is written, and raises where it is not to be.  Other steps may be taken while
        it waits for an answer, as where a job comes to its end: the command is carried out on the book as it is then, and
        refused where the sound that it was asked about is another one.

        Raises
        ------
        EditRefused
            The command can not be carried out, or no longer.
        StoreProblem
            It could not be written.
        """
        before = self.book
        after = _playable(before, command.apply(before))
        if may is not None:
            may(before, after)
            if self.book is not before:
                asked, now = _reels_of(before), _reels_of(self.book)
                if any(reel is not asked.get(c) and now.get(c) is not asked.get(c) for c, reel in _reels_of(after).items()):
                    raise EditRefused("The chapter was changed while you were asked. Nothing was done; look, and try again.")
                after = _playable(self.book, command.apply(self.book))
        step = self.store.append(command, after, step_label(command, self.book))
        self._hold(step, after)
        self._become(after)

    def _hold(self, step: int, book: Book) -> None:
        self._states[step] = book
        if len(self._states) > MOST_HELD:
            self._states.pop(next(iter(self._states)))

    def remember(self, steps: int = 20) -> None:
        """Have the books of so many steps before this one at hand, so that undo waits for none of them."""
        head = self.store.head
        with contextlib.suppress(StoreProblem):  # undo tells it, where it is asked for
            for at, known in self.store.books_to(head, ahead=steps):
                if at != head:
                    self._hold(at, known)

    def can_undo(self) -> str:
        """What undo would take back; empty where there is nothing."""
        head = self.store.head
        return self.store.step(head).label if head > 0 else ""

    def can_redo(self) -> str:
        """What redo would do again; empty where there is nothing."""
        following = self.store.following(self.store.head)
        return self.store.step(following).label if following else ""

    def undo(self) -> str:
        """Go back one step; its label, empty where there is none."""
        label = self.can_undo()
        if label:
            self.go_to(self.store.step(self.store.head).parent)
        return label

    def redo(self) -> str:
        """Go forward one step; its label, empty where there is none."""
        label = self.can_redo()
        if label:
            self.go_to(self.store.following(self.store.head))
        return label

    def go_to(self, step: int) -> None:
        """Stand at any step of the journal."""
        book = self.state(step)
        self.store.go_to(step)
        self._become(book)

    def state(self, step: int) -> Book:
        """The book as it was at any step of the journal."""
        if step not in self._states:
            for at, known in self.store.books_to(step):  # those before it come next
                self._hold(at, known)
        return self._states[step]

    def reel_before(self, chapter: str) -> Reel | None:
        """A chapter's reel as it was before the last step that changed it, as far as that is held; None where it is not."""
        now = _reels_of(self.book).get(chapter)
        step = self.store.head
        while step > 0:
            step = self.store.step(step).parent
            known = self._states.get(step)
            if known is None:
                return None
            was = _reels_of(known).get(chapter)
            if was is not now and was != now:
                return was
        return None

    def close(self) -> None:
        """Keep the book's state where it moved since it was opened, and let go of it."""
        if self.store.head != self._opened_at:
            with contextlib.suppress(StoreProblem):  # a shortcut only: every step is on disk already
                self.store.keep_state(self.book)
        self.store.close()

    def _become(self, after: Book) -> None:
        before, self.book = self.book, after
        for listener in self._listeners:
            try:
                listener(before, after)
            except AppError as problem:  # the step is taken: who hears of it and fails has a fault, and refuses nothing
                raise RuntimeError(f"a step was taken, and showing it failed: {problem}") from problem
