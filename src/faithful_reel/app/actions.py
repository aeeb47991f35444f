"""Every act of the user: id, words, key, where it stands in the menus.  Menus, keys, tests and scripts go through these."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QEvent, QObject, QSettings, pyqtSlot
from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QWidget

from faithful_reel.app.settings import text


@dataclass(frozen=True, slots=True)
class Act:
    """One act; `key` may be changed by the user and stays changed."""

    id: str
    menu: str
    text: str
    key: str
    tip: str


ACTS: tuple[Act, ...] = (
    Act("book.new", "Book", "New book…", "Ctrl+N", "Make a new book in a folder"),
    Act("book.open", "Book", "Open book…", "Ctrl+O", "Open a book from its folder"),
    Act(
        "intake.manuscript",
        "Book",
        "Bring in a manuscript…",
        "Ctrl+Shift+M",
        "Chapters, or corrections of them",
    ),
    Act("intake.recordings", "Book", "Bring in recordings…", "Ctrl+Shift+R", "Copy recordings into the book"),
    Act("intake.pair", "Book", "Pair by ear", "Ctrl+Shift+E", "Find by ear which chapter each recording reads"),
    Act("pickups.receive", "Book", "Receive a pickup recording…", "Ctrl+Shift+P", "Find which stretch of it reads which line"),
    Act("pickups.send", "Book", "Write the call sheet…", "Ctrl+Shift+L", "All lines to send, as CSV"),
    Act("book.archive", "Book", "Export as one archive…", "", "The whole book in a single file"),
    Act("book.unpack", "Book", "Unpack an archive…", "", "Make a book of an archive, and open it"),
    Act("book.quit", "Book", "Quit", "Ctrl+Q", "Close the book; everything is saved already"),
    Act("edit.undo", "Edit", "Undo", "Ctrl+Z", "Take the last step back"),
    Act("edit.redo", "Edit", "Redo", "Ctrl+Shift+Z", "Do the step again"),
    Act("edit.history", "Edit", "History", "Ctrl+H", "All steps; go back or forward to any of them"),
    Act("edit.cut_close", "Edit", "Cut and close", "Del", "Take the selected words out; what follows moves up"),
    Act(
        "edit.cut_fill",
        "Edit",
        "Cut and fill with room tone",
        "Shift+Del",
        "Lay room tone over the selected words; nothing moves",
    ),
    Act("edit.split", "Edit", "Split at the cursor", "Ctrl+B", "Cut the piece in two; the sound stays as it is"),
    Act("edit.join_earlier", "Edit", "Join earlier by 5 ms", "Alt+Left", "Move the join nearest to the cursor to the left"),
    Act("edit.join_later", "Edit", "Join later by 5 ms", "Alt+Right", "Move the join nearest to the cursor to the right"),
    Act("edit.softer", "Edit", "Selection 1 dB softer", "Ctrl+Down", "Set the gain of the selected words to −1 dB"),
    Act("edit.louder", "Edit", "Selection 1 dB louder", "Ctrl+Up", "Set the gain of the selected words to +1 dB"),
    Act("proof.hear", "Proof", "Hear this chapter", "Ctrl+E", "Recognise the chapter and collate it with the manuscript"),
    Act("proof.rough", "Proof", "Rough cut", "Ctrl+Shift+X", "Cut false starts and repeats, shorten long pauses, in one step"),
    Act("proof.language", "Proof", "Language of the book…", "", "Other languages than English: by the multilingual ear alone"),
    Act("proof.ear", "Proof", "Choose another ear…", "", "A folder with another recogniser in faster-whisper's layout"),
    Act("proof.search", "Proof", "Find words…", "Ctrl+F", "In the manuscript or in what was heard; also a page or a time"),
    Act("proof.next", "Proof", "Next finding", "N", "Go to the next finding"),
    Act("proof.previous", "Proof", "Previous finding", "B", "Go to the finding before"),
    Act("proof.listen", "Proof", "Listen to the finding", "H", "Hear it with its lead-in"),
    Act("proof.stet", "Proof", "Stet", "S", "Let it stand"),
    Act("proof.mend", "Proof", "Mend", "M", "Repair it from the sound that is there"),
    Act("proof.pickup", "Proof", "Pickup", "P", "Have the line read again"),
    Act("proof.swap", "Proof", "Swap the take", "T", "Put the other reading of the line in the place of the one that is kept"),
    Act("proof.reopen", "Proof", "Reopen", "O", "Take the decision back"),
    Act("proof.accept", "Proof", "Accept the name for the book", "A", "This reading of the name is right wherever it is heard"),
    Act(
        "proof.note",
        "Proof",
        "Note a finding…",
        "F",
        "A finding by hand on selected words or marked sound",
    ),
    Act(
        "proof.remark", "Proof", "Write a note on the finding…", "E", "What the narrator is to mind; it goes out with the pickup"
    ),
    Act("proof.flag", "Proof", "Flag the word being heard", "G", "A finding at once, without stopping the sound"),
    Act(
        "proof.elsewhere",
        "Proof",
        "Hear the word elsewhere",
        "W",
        "All other places of the word, one after another",
    ),
    Act("proof.names", "Proof", "Names and words", "Ctrl+Shift+W", "Where every name is spoken, and how"),
    Act("proof.unheard", "Proof", "Go to what was not heard yet", "U", "The next stretch that was not listened to"),
    Act("proof.sign", "Proof", "Sign the chapter off", "Ctrl+Shift+O", "It is proofed as it stands; again: take that back"),
    Act("proof.flaws", "Proof", "Kinds of flaws…", "", "Which flaws of the sound are shown"),
    Act(
        "proof.report",
        "Proof",
        "Write a report…",
        "Ctrl+Shift+T",
        "The findings of this chapter, or of the book",
    ),
    Act("proof.doubtful", "Proof", "Unfold doubtful findings", "D", "Show the findings that the ear is not sure of"),
    Act("splice.place", "Splice", "Put the take in", "Ctrl+Return", "Splice the take at the chosen boundaries"),
    Act("splice.pass", "Splice", "Pass", "Ctrl+Shift+Return", "The splice was heard and is good"),
    Act("master.this", "Master", "Master this chapter", "Ctrl+M", "Bring the chapter to the profile"),
    Act("master.all", "Master", "Master all chapters", "Ctrl+Alt+M", "Every chapter whose master is missing or out of date"),
    Act("release.write", "Master", "Release…", "Ctrl+R", "Write, tag and check the finished files"),
    Act("play.toggle", "Listen", "Play or stop", "Space", "Play from the cursor, or stop"),
    Act("play.back", "Listen", "Back by the lead-in", "Backspace", "Play again from a little earlier"),
    Act("play.loop", "Listen", "Loop", "L", "Play the stretch again and again"),
    Act("play.faster", "Listen", "Faster", "]", "Up to 2.5 times"),
    Act("play.slower", "Listen", "Slower", "[", "Down to 0.75 times"),
    Act("view.intake", "View", "Intake", "Ctrl+1", "The Intake desk"),
    Act("view.proof", "View", "Proof", "Ctrl+2", "The Proof desk"),
    Act("view.pickups", "View", "Pickups", "Ctrl+3", "The Pickups desk"),
    Act("view.splice", "View", "Splice", "Ctrl+4", "The Splice desk"),
    Act("view.master", "View", "Master", "Ctrl+5", "The Master desk"),
    Act("view.release", "View", "Release", "Ctrl+6", "The Release desk"),
    Act("view.night", "View", "Night", "Ctrl+Shift+N", "Dark paper"),
    Act("view.spectrum", "View", "Spectrogram in the loupe", "Ctrl+Shift+S", "Frequencies instead of the waveform"),
    Act("view.taller", "View", "Strips taller", "Ctrl+Alt+Up", "More of the sound under every line"),
    Act("view.lower", "View", "Strips lower", "Ctrl+Alt+Down", "More lines on the page"),
    Act("view.wider", "View", "Lines wider in time", "Ctrl+Alt+Right", "Fewer seconds on a line"),
    Act("view.narrower", "View", "Lines narrower in time", "Ctrl+Alt+Left", "More seconds on a line"),
    Act("view.closer", "View", "Loupe closer", "Ctrl++", "Look closer"),
    Act("view.farther", "View", "Loupe farther", "Ctrl+-", "Look from farther"),
    Act("view.next_chapter", "View", "Next chapter", "Ctrl+PgDown", "Take the next chapter in hand"),
    Act("view.previous_chapter", "View", "Previous chapter", "Ctrl+PgUp", "Take the chapter before in hand"),
    Act("help.keys", "Help", "Keys…", "F1", "All acts and their keys"),
    Act("help.about", "Help", "About", "", "Version and licences"),
)
AT_DESK: dict[str, frozenset[str]] = {
    "proof": frozenset(
        [
            "proof.search",
            "proof.rough",
            "proof.next",
            "proof.previous",
            "proof.listen",
            "proof.stet",
            "proof.mend",
            "proof.pickup",
            "proof.swap",
            "proof.reopen",
            "proof.accept",
            "proof.note",
            "proof.remark",
            "proof.flag",
            "proof.elsewhere",
            "proof.unheard",
            "proof.sign",
            "proof.doubtful",
            "edit.cut_close",
            "edit.cut_fill",
            "edit.split",
            "edit.join_earlier",
            "edit.join_later",
            "edit.softer",
            "edit.louder",
        ]
    ),
    "splice": frozenset({"splice.place", "splice.pass"}),
}
"""Acts that work on what one desk shows: at the other desks they say so, so that a key pressed there decides nothing unseen."""
ON_THE_FINDING = frozenset(
    ["proof.listen", "proof.stet", "proof.mend", "proof.pickup", "proof.swap", "proof.reopen", "proof.accept", "proof.remark"]
)
"""Acts on the finding at hand, which the docket shows."""
ON_THE_PAGE = (
    ON_THE_FINDING | {a for a in AT_DESK["proof"] if a.startswith("edit.")} | {"proof.flag", "proof.note", "proof.elsewhere"}
)
"""Acts whose keys work on the page and in the docket only, not from a field or a list elsewhere."""
CHECKABLE = frozenset({"proof.doubtful", "play.loop", "view.night", "view.spectrum"})


class KeyedAction(QAction):
    """An action that knows whether it is done by its key or from the menu."""

    by_key = False

    def event(self, event: QEvent | None) -> bool:
        """A key arrives as an event of its own kind."""
        self.by_key = event is not None and event.type() is QEvent.Type.Shortcut
        try:
            return super().event(event)
        finally:
            self.by_key = False


class Actions(QObject):
    """The acts as Qt actions; `run(id)` does what the menu would.

    `why_not(id, by_key)` says why an act can not be done now, empty where it can; that is told.
    """

    def __init__(
        self,
        window: QWidget,
        handlers: dict[str, Callable[[], None]],
        settings: QSettings,
        why_not: Callable[[str, bool], str],
        tell: Callable[[str], None],
    ) -> None:
        super().__init__(window)
        self._handlers, self._settings = handlers, settings
        self._why_not, self._tell = why_not, tell
        self._actions: dict[str, QAction] = {}
        for act in ACTS:
            action = KeyedAction(act.text, window)
            action.setObjectName(act.id)
            action.setShortcut(QKeySequence(text(settings, f"keys/{act.id}", act.key)))
            action.setToolTip(f"{act.tip} ({action.shortcut().toString()})" if act.key else act.tip)
            action.setStatusTip(act.tip)
            action.setCheckable(act.id in CHECKABLE)
            action.triggered.connect(self._triggered)
            window.addAction(action)
            self._actions[act.id] = action

    def __getitem__(self, act_id: str) -> QAction:
        return self._actions[act_id]

    @pyqtSlot()
    def _triggered(self) -> None:
        sender = self.sender()
        if not isinstance(sender, KeyedAction):
            return
        why = self._why_not(sender.objectName(), sender.by_key)
        if why:
            if sender.isCheckable():
                sender.setChecked(not sender.isChecked())
            self._tell(why)
        else:
            self._handlers[sender.objectName()]()

    def run(self, act_id: str) -> None:
        """Do an act as the menu would."""
        self._actions[act_id].trigger()

    def set_key(self, act_id: str, key: str) -> None:
        """Give an act another key, now and from now on."""
        self._actions[act_id].setShortcut(QKeySequence(key))
        self._settings.setValue(f"keys/{act_id}", key)
