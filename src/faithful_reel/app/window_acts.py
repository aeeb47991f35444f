"""The acts of the window itself: undo, history, the desks, the view, the chapters."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

from faithful_reel.app.actions import Act, Menu
from faithful_reel.app.desks import DeskName
from faithful_reel.app.window import Window


@dataclass
class WindowActs:
    """What the user can do wherever the work is."""

    window: Window

    def __post_init__(self) -> None:
        self.bench, self.transport = self.window.bench, self.window.transport

    @property
    def acts(self) -> Sequence[Act[WindowActs]]:
        """The table below."""
        return ACTS

    def undo(self) -> None:
        """Take the last step back."""
        self.transport.stop()
        self.bench.undo()

    def redo(self) -> None:
        """Do it again."""
        self.transport.stop()
        self.bench.redo()

    def grow(self) -> None:
        """The loupe in the middle, or the page."""
        self.window.grow_loupe()

    def history(self) -> None:
        """Open or close the history."""
        self.window.show_history()

    def go_to_step(self) -> None:
        """Stand at the step that is chosen in the history."""
        if self.window.history.isVisible():
            self.window.history.go_to_step()
        else:
            self.bench.tell("Open the history first, and choose a step in it (Ctrl+H).")

    def desk(self, desk: DeskName) -> None:
        """Go to a desk."""
        self.window.desks.show(desk)

    def _step_chapter(self, by: int) -> None:
        ids = [c.id for c in self.bench.book.chapters]
        if self.bench.chapter_id in ids:
            self.bench.open_chapter(ids[min(len(ids) - 1, max(0, ids.index(self.bench.chapter_id) + by))])

    def next_chapter(self) -> None:
        """The next chapter."""
        self._step_chapter(1)

    def previous_chapter(self) -> None:
        """The chapter before."""
        self._step_chapter(-1)

    def night(self) -> None:
        """Dark paper, or light again."""
        self.window.set_theme("day" if self.window.theme.name == "night" else "night")

    def messages(self) -> None:
        """Read again."""
        self.window.show_messages()

    def next_part(self) -> None:
        """The keys go to the next part of the window."""
        self.window.next_part(1)

    def previous_part(self) -> None:
        """The keys go to the part before."""
        self.window.next_part(-1)

    def taller(self) -> None:
        """Strips taller."""
        self.window.zoom(1.25, 1.0)

    def lower(self) -> None:
        """Strips lower."""
        self.window.zoom(0.8, 1.0)

    def wider(self) -> None:
        """Lines wider in time."""
        self.window.zoom(1.0, 1.35)

    def narrower(self) -> None:
        """Lines narrower in time."""
        self.window.zoom(1.0, 1 / 1.35)


def _to(desk: DeskName) -> Act[WindowActs]:
    return Act(
        f"view.{desk.value}", Menu.VIEW, desk.words, desk.key, f"The {desk.words} desk", partial(WindowActs.desk, desk=desk)
    )


A, E, V = WindowActs, Menu.EDIT, Menu.VIEW
ACTS: tuple[Act[WindowActs], ...] = (
    Act("edit.undo", E, "Undo", "Ctrl+Z", "Take the last step back", A.undo),
    Act("edit.redo", E, "Redo", "Ctrl+Shift+Z", "Do the step again", A.redo),
    Act("edit.history", E, "History", "Ctrl+H", "All steps; go back or forward to any of them", A.history),
    Act("edit.go_to_step", E, "Go to the chosen step", "", "The later steps are kept and can be gone to again", A.go_to_step),
    *map(_to, DeskName),
    Act("view.next_chapter", Menu.CHAPTER, "Next chapter", "Ctrl+PgDown", "Take the next chapter in hand", A.next_chapter),
    Act("view.previous_chapter", Menu.CHAPTER, "Previous chapter", "Ctrl+PgUp", "Take the chapter before in hand", A.previous_chapter),
    Act("view.next_part", V, "Next part of the window", "F6", "The keys go to the contents, the desk, the side, the loupe, the foot in turn", A.next_part, apart=True),
    Act("view.previous_part", V, "Part before", "Shift+F6", "The keys go back a part", A.previous_part),
    Act("view.messages", V, "Messages", "Ctrl+Alt+Shift+M", "Read the last messages again", A.messages, apart=True),
    Act("view.night", V, "Night", "Ctrl+Shift+N", "Dark paper", A.night, checkable=True, apart=True),
    Act("view.grow", V, "Loupe fills the window", "Ctrl+L", "All lanes under each other, in even time; again: the page comes back", A.grow, checkable=True, apart=True),
    Act("view.taller", V, "Strips taller", "Ctrl+Alt+Up", "More of the sound under every line", A.taller, apart=True),
    Act("view.lower", V, "Strips lower", "Ctrl+Alt+Down", "More lines on the page", A.lower),
    Act("view.wider", V, "Lines wider in time", "Ctrl+Alt+Right", "Fewer seconds on a line", A.wider),
    Act("view.narrower", V, "Lines narrower in time", "Ctrl+Alt+Left", "More seconds on a line", A.narrower),
)  # fmt: skip
