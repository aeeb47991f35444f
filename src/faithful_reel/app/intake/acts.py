"""The acts of the Intake desk: bringing in, pairing, arranging chapters, finding again what was lost."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

from PyQt6.QtWidgets import QDialog, QInputDialog

from faithful_reel.app.actions import Act, Menu
from faithful_reel.app.asking import LEAVE, MANUSCRIPTS, SOUNDS, Asking
from faithful_reel.app.desks import DeskName
from faithful_reel.app.intake.dialogs import SplitDialog
from faithful_reel.app.intake.panel import IntakePanel
from faithful_reel.app.intake.presenter import Heard, IntakePresenter
from faithful_reel.app.transport.presenter import Transport

AT = DeskName.INTAKE
BRING, REMOVE = "Bring them in", "Remove them"


@dataclass
class IntakeActs:
    """What the user can do at the Intake desk; acts on a chapter work on the row that is chosen there."""

    presenter: IntakePresenter
    panel: IntakePanel
    ask: Asking
    transport: Transport

    @property
    def acts(self) -> Sequence[Act[IntakeActs]]:
        """The table below."""
        return ACTS

    def manuscript(self) -> None:
        """Bring in a manuscript."""
        if path := self.ask.file("Bring in a manuscript", MANUSCRIPTS):
            self.presenter.bring_manuscript(path)

    def recordings(self) -> None:
        """Bring in recordings."""
        if paths := self.ask.several("Bring in recordings", SOUNDS):
            self.presenter.bring_recordings(paths)

    def pair(self) -> None:
        """Pair by ear."""
        self.presenter.pair_by_ear()

    def hear(self, place: Heard) -> None:
        """Hear the recording at hand, or a place of it; again: stop."""
        if self.transport.playing:
            self.transport.stop()
        else:
            self.presenter.hear(self.transport, place)

    def hear_chapter(self) -> None:
        """Hear where the chosen chapter begins; again: stop."""
        if self.transport.playing:
            self.transport.stop()
        else:
            self.presenter.hear_chapter(self.transport, self.panel.chapters.key)

    def make_one(self) -> None:
        """Make one recording of the chosen ones."""
        self.presenter.make_one(self.panel.recordings.chosen_keys())

    def search(self) -> None:
        """Look for lost recordings."""
        if path := self.ask.folder("Look for lost recordings in"):
            self.presenter.find_lost(path)

    def replace(self) -> None:
        """Choose the file of the lost recording at hand."""
        recording = self.presenter.recording()
        if recording is None or recording.hash not in self.presenter.faults:
            self.presenter.bench.tell("Choose a lost recording in the table first.")
        elif path := self.ask.file("Choose the file of the lost recording", SOUNDS):
            self.presenter.replace_lost(recording.hash, path)

    def strays(self) -> None:
        """Bring in or remove the recordings that the book does not know."""
        presenter = self.presenter
        found = presenter.strays()
        if not found:
            presenter.bench.tell("Every file that was among the recordings when the book was opened is known to it.")
            return
        told = [f"{p.stem[:12]}…   {p.suffix[1:]}   {p.stat().st_size / 1e6:.1f} MB" for p in found]
        words = "These were received, and no step of this book uses them:"
        answer = self.ask.choose("Unknown recordings", words, told, (BRING, REMOVE, LEAVE))
        if answer == BRING:
            presenter.bring_recordings(found)
        elif answer == REMOVE:
            presenter.remove_strays(found)

    # --- chapters -------------------------------------------------------------------------------------------------

    def _chapter(self) -> str:
        chapter = self.panel.chapters.key
        if not chapter:
            self.presenter.bench.tell("Choose a chapter in the table first.")
        return chapter

    def rename(self) -> None:
        """Give the chapter another title."""
        if chapter := self._chapter():
            title = self.presenter.bench.book.chapter(chapter).title
            text, taken = QInputDialog.getText(self.panel.window(), "Rename the chapter", "Title:", text=title)
            if taken:
                self.presenter.rename(chapter, text)

    def split(self) -> None:
        """Make two chapters of it."""
        if chapter := self._chapter():
            bench = self.presenter.bench
            dialog = SplitDialog(bench.text(bench.book.chapter(chapter)), self.panel)
            if dialog.exec() == QDialog.DialogCode.Accepted and dialog.at:
                self.presenter.split(chapter, dialog.at)

    def join(self) -> None:
        """Join it with the chapter below."""
        if chapter := self._chapter():
            self.presenter.join(chapter)

    def earlier(self) -> None:
        """Read it before the chapter above."""
        if chapter := self._chapter():
            self.presenter.move(chapter, -1)

    def later(self) -> None:
        """Read it after the chapter below."""
        if chapter := self._chapter():
            self.presenter.move(chapter, 1)

    def leave_out(self) -> None:
        """It is not read aloud."""
        if chapter := self._chapter():
            self.presenter.leave_out(chapter)

    def put_back(self) -> None:
        """Read the chosen part aloud after all."""
        if chapter := self.panel.aside.key or self.panel.aside.key_at(0):
            self.presenter.put_back(chapter)
        else:
            self.presenter.bench.tell("No part of the manuscript is left out.")


A, B, C, L = IntakeActs, Menu.BOOK, Menu.CHAPTER, Menu.LISTEN
ACTS: tuple[Act[IntakeActs], ...] = (
    Act("intake.manuscript", B, "Bring in a manuscript…", "Ctrl+Shift+M", "Chapters, or corrections of them", A.manuscript, apart=True),
    Act("intake.recordings", B, "Bring in recordings…", "Ctrl+Shift+R", "Copy recordings into the book", A.recordings),
    Act("intake.pair", B, "Pair by ear", "Ctrl+Shift+E", "Find by ear which chapter each recording reads", A.pair),
    Act("intake.make_one", B, "Make one recording of these", "", "Several files that together read one chapter, in this order", A.make_one, AT),
    Act("intake.search", B, "Look for lost recordings…", "", "Find them by their bytes, whatever they are called now", A.search, AT),
    Act("intake.replace", B, "Choose the file of a lost recording…", "", "Say yourself which file it is", A.replace, AT),
    Act("intake.strays", B, "Unknown recordings…", "", "Files among the recordings that no step of the book uses", A.strays),
    Act("intake.hear", L, "Hear the recording", "F3", "That at hand at Intake, from its beginning; again: stop", partial(A.hear, place=Heard.WHOLE), AT, rank=2, within="At Intake", apart=True),
    Act("intake.hear_clipped", L, "Hear its first clipped place", "F4", "A second before it and two after it", partial(A.hear, place=Heard.CLIPPED), AT, rank=2, within="At Intake"),
    Act("intake.hear_tone", L, "Hear its room tone", "F5", "Again and again; again: stop", partial(A.hear, place=Heard.TONE), AT, rank=2, within="At Intake"),
    Act("intake.hear_chapter", L, "Hear where the chapter begins", "F7", "The chosen chapter, at its first word, as far as that is known", A.hear_chapter, AT, rank=2, within="At Intake"),
    Act("intake.rename", C, "Rename the chapter…", "F2", "Give the chapter another title", A.rename, AT, rank=2, apart=True),
    Act("intake.split", C, "Split the chapter…", "", "Make two chapters of it", A.split, AT, rank=2),
    Act("intake.join", C, "Join with the chapter below", "", "Make one chapter of the two", A.join, AT, rank=2),
    Act("intake.earlier", C, "Chapter earlier", "Alt+Up", "Read it before the chapter above", A.earlier, AT, rank=2),
    Act("intake.later", C, "Chapter later", "Alt+Down", "Read it after the chapter below", A.later, AT, rank=2),
    Act("intake.leave_out", C, "Leave the chapter out", "", "It is not read aloud; work on it is kept", A.leave_out, AT, rank=2),
    Act("intake.put_back", C, "Put a part back", "", "Read the chosen part aloud after all", A.put_back, AT, rank=2),
)  # fmt: skip
