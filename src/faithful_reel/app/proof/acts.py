"""The acts of the Proof desk: hearing, deciding, listening to findings, editing on the page."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QLocale
from PyQt6.QtWidgets import QCheckBox, QDialog, QDialogButtonBox, QInputDialog, QVBoxLayout

from faithful_reel.app.actions import Act, Menu, On
from faithful_reel.app.asking import Asking
from faithful_reel.app.desks import DeskName, Desks
from faithful_reel.app.editing.by_ear import NEXT, ByEar
from faithful_reel.app.editing.presenter import Editing
from faithful_reel.app.proof.names_presenter import NamesPresenter
from faithful_reel.app.proof.panel import ProofPanel
from faithful_reel.app.proof.presenter import ProofPresenter
from faithful_reel.app.settings import Settings
from faithful_reel.app.transport.presenter import Transport
from faithful_reel.app.widgets.parts import ActSource, label
from faithful_reel.app.workbench import Hearers
from faithful_reel.core.book.commands import SetLanguage
from faithful_reel.core.collate.findings import Decision, Kind
from faithful_reel.core.collate.flaws import Flaw
from faithful_reel.core.hear.ears import ENGLISH, LANGUAGES
from faithful_reel.core.reel.reel import Reel
from faithful_reel.core.work.reporting import SUFFIXES

AT = DeskName.PROOF


@dataclass
class ProofActs:
    """What the user can do at the Proof desk; a dialog at most, then the presenter."""

    presenter: ProofPresenter
    names: NamesPresenter
    panel: ProofPanel
    transport: Transport
    editing: Editing
    desks: Desks
    ask: Asking
    settings: Settings
    ear: ByEar

    def __post_init__(self) -> None:
        self.bench = self.presenter.bench
        self._finding = ""
        galley, names = self.panel.galley, self.panel.names
        galley.word_clicked.connect(self._word_clicked)
        galley.word_activated.connect(self.transport.play_from)
        self.panel.search.time_wanted.connect(self._go_to_time)
        names.hear_wanted.connect(self.hear_medley)
        names.place_wanted.connect(self.go_to_place)
        self.presenter.listen(self.show_finding)
        self.bench.listen(self.show_finding)

    @property
    def acts(self) -> Sequence[Act[ProofActs]]:
        """The table below."""
        return ACTS

    def bind(self, acts: ActSource) -> None:
        """Where the acts of the page's menu come from."""
        self._bound = acts
        self.presenter.listen(self._follow)

    def _follow(self) -> None:
        self._bound["proof.doubtful"].setChecked(self.presenter.show_doubtful)

    # --- hearing and places ---------------------------------------------------------------------------------------

    def show_finding(self) -> None:
        """Bring the finding at hand into the loupe, once."""
        finding = self.presenter.finding()
        if finding is None or finding.id == self._finding:
            return
        self._finding = finding.id
        span = self.presenter.span(finding)
        if span is not None and self.transport.aside:  # it is seen once what sounds beside it is over
            self.transport.spot = span.start
        elif span is not None and not self.transport.playing:
            seconds = max(3.0, 2.5 * len(span) / self.bench.book.rate)
            self.transport.look_at((span.start + span.stop) // 2, spot=span.start, span_s=seconds)

    def _word_clicked(self, _cell: int, position: int) -> None:
        if position >= 0:
            self.transport.go_to(position, look=True)

    def _go_to_time(self, position: int) -> None:
        chapter = self.bench.chapter
        if chapter is None or chapter.reel is None or position >= len(chapter.reel):
            self.bench.tell("This chapter does not last that long.")
            return
        self._show(position)

    def _show(self, position: int) -> None:
        self.transport.go_to(position)
        self.panel.galley.set_playhead(position, follow=True)

    def go_to_place(self, chapter: str, word: int) -> None:
        """Put the cursor on a word of any chapter."""
        self.bench.open_chapter(chapter)
        self.desks.show(AT)
        self.panel.galley.go_to_word(word)

    def hear_medley(self, reel: Reel) -> None:
        """Hear places one after another."""
        self.transport.hear_reel(reel)

    def hear(self) -> None:
        """Hear the chapter at hand."""
        if self.bench.chapter:
            self.presenter.hear_chapter(self.bench.chapter.id)
        else:
            self.bench.tell("There is nothing to hear: this book has no chapters yet.")

    def hear_changed(self) -> None:
        """Hear what was changed in the chapter at hand."""
        if self.bench.chapter:
            self.presenter.hear_changed(self.bench.chapter.id)
        else:
            self.bench.tell("There is nothing to hear: this book has no chapters yet.")

    def listen(self) -> None:
        """Hear the finding at hand with its lead-in."""
        finding = self.presenter.finding()
        if finding is None or self.presenter.span(finding) is None:
            self.bench.tell(
                "This finding is no longer heard in the reel." if finding else "No finding is at hand. Choose one in the docket."
            )
            return
        self._hear_finding(finding.id)

    def elsewhere(self) -> None:
        """Hear the word at the cursor wherever else it is spoken."""
        chapter, word = self.bench.chapter, self.panel.galley.cursor_word
        if chapter is None or word < 0:
            self.bench.tell("Put the cursor on a word first.")
            return
        self.names.elsewhere(chapter.id, word, self.hear_medley)

    def unheard(self) -> None:
        """Go on to what was not listened to."""
        at = self.presenter.next_unheard(self.transport.spot)
        if at < 0:
            self.bench.tell("All of this chapter was listened to.")
            return
        self._show(at)

    # --- findings -------------------------------------------------------------------------------------------------

    def following(self) -> None:
        """The next finding."""
        self.presenter.step(1)

    def previous(self) -> None:
        """The finding before."""
        self.presenter.step(-1)

    def _decide(self, decision: Decision) -> None:
        """Decide; where it is wanted the next finding is heard at once, before anything is painted."""
        self.transport.stop()
        before, wanted = self.presenter.current, self.ear.on[NEXT]
        following = self.presenter.following() if wanted else None
        self.ear.then = partial(self._hear_finding, following.id) if following is not None else None
        done = self.presenter.decide(decision)
        self.ear.then = None
        if done and wanted and not self.transport.playing and self.presenter.current != before:
            self.listen()

    def _hear_finding(self, finding_id: str) -> None:
        chapter = self.bench.chapter
        finding = next((f for f in self.bench.findings(chapter) if f.id == finding_id), None) if chapter is not None else None
        span = self.presenter.span(finding) if finding is not None else None
        if span is not None:
            self.transport.play_from(span.start, span.stop + self.bench.book.rate, lead=True)

    def stet(self) -> None:
        """Let it stand."""
        self._decide(Decision.STET)

    def mend(self) -> None:
        """Repair it."""
        self._decide(Decision.MEND)

    def pickup(self) -> None:
        """Have it read again."""
        self._decide(Decision.PICKUP)

    def reopen(self) -> None:
        """Take the decision back."""
        self._decide(Decision.OPEN)

    def swap(self) -> None:
        """The other reading in the place of the one that is kept."""
        self.transport.stop()
        self.presenter.swap_take()

    def alike(self) -> None:
        """All that are like it."""
        self.presenter.take_alike()

    def accept(self) -> None:
        """The name is right."""
        self.presenter.accept()

    def doubtful(self) -> None:
        """Unfold, or fold again."""
        self.presenter.unfold(shown=not self.presenter.show_doubtful)

    def remark(self) -> None:
        """Write a note on the finding at hand."""
        if self.presenter.finding() is None:
            self.bench.tell("No finding is at hand. Choose one in the docket first (N).")
        else:
            self.panel.docket.card.write()

    def note(self) -> None:
        """A finding by hand on marked sound, on selected words, or on the word being heard."""
        span = self.editing.span
        if span is not None and not self.editing.on_words:
            found = self.editing.found()
            lane = self.editing.own_lane(found[1]) if found is not None else None
            self.panel.note.open(f"{self.bench.time(span.start)} to {self.bench.time(span.stop)}", sound=span, lane=lane)
            return
        first, last = self.panel.galley.selection
        heard = self._heard_now()
        if heard >= 0 and first == last:
            first = last = heard
        if first < 0:
            self.bench.tell("Select the words first: click on the galley, then Shift+click. Or mark a stretch in the loupe.")
            return
        text = self.presenter.words(first, last)
        self.panel.note.open(f"“{text if len(text) < 32 else text[:30] + ' …'}”", words=(first, last))

    def _heard_now(self) -> int:
        return self.presenter.word_at(self.transport.player.position) if self.transport.playing else -1

    def flag(self) -> None:
        """A finding at once on the word being heard."""
        heard = self._heard_now() if self.transport.playing else self.panel.galley.cursor_word
        if heard < 0:
            self.bench.tell("No word is heard here. Play, and flag at the word; or put the cursor on it.")
        elif self.presenter.note_finding(Kind.OTHER, heard, heard, "flagged while listening"):
            self.bench.tell("Flagged. Its note can be written with F.")

    # --- the chapter ----------------------------------------------------------------------------------------------

    def rough(self) -> None:
        """Cut the chapter down to its best readings."""
        self.transport.stop()
        self.presenter.rough_cut()

    def search(self) -> None:
        """Ask for words to find."""
        self.panel.search.open()

    def show_names(self) -> None:
        """The names in the docket's place, or the docket again."""
        self.desks.show(AT)
        self.panel.toggle_names()

    def sign(self) -> None:
        """Sign the chapter off, or take that back."""
        self.presenter.sign_off()

    def ask_flaws(self) -> None:
        """Which kinds of flaws are shown."""
        dialog = QDialog(self.ask.parent)
        dialog.setWindowTitle("Kinds of flaws")
        box = QVBoxLayout(dialog)
        box.addWidget(label("Flaws of these kinds are shown; the others are folded away, never dropped.", "quiet"))
        boxes: dict[Flaw, QCheckBox] = {}
        for flaw in Flaw:
            boxes[flaw] = QCheckBox(flaw.value)
            boxes[flaw].setChecked(flaw.value not in self.presenter.off)
            box.addWidget(boxes[flaw])
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(dialog.accept)
        buttons.rejected.connect(dialog.reject)
        box.addWidget(buttons)
        if dialog.exec():
            off = sorted(flaw.value for flaw, made in boxes.items() if not made.isChecked())
            self.settings.setValue("proof/off", ",".join(off))
            self.presenter.switch_off(frozenset(off))

    def ask_report(self) -> None:
        """Whose findings, and where to."""
        chapter = self.bench.chapter
        if chapter is None:
            self.bench.tell("There is nothing to report: this book has no chapters yet.")
            return
        choices = [chapter.title, "the whole book"]
        whose, taken = QInputDialog.getItem(self.ask.parent, "Proof report", "Findings of", choices, 0, editable=False)
        if not taken:
            return
        whole = whose == choices[1]
        name = "proof report" if whole else f"proof report, {chapter.title.replace(':', ',').replace('/', '-')}"
        kinds = ";;".join(f"{s[1:].upper()} (*{s})" for s in SUFFIXES)
        asked = self.ask.new_file("Write the report", f"{name}{SUFFIXES[0]}", kinds)
        if asked:
            out, kind = asked
            suffix = kind[kind.find("*") + 1 : -1] or SUFFIXES[0]
            self.presenter.report(out if out.suffix.lower() in SUFFIXES else Path(f"{out}{suffix}"), whole=whole)

    def ask_ear(self) -> None:
        """Which ear hears."""
        path = self.ask.folder("Folder of another ear (cancel: the shipped one)")
        self.settings.setValue("hear/ear", str(path) if path else "")
        self.bench.ears = Hearers(path)
        self.bench.tell(f"The ear is now {path.name}." if path else "The ear is the shipped one.")

    def ask_language(self) -> None:
        """Which language is read."""
        names = {QLocale.languageToString(QLocale(code).language()): code for code in LANGUAGES}
        at = list(names.values()).index(self.bench.book.language)
        name, taken = QInputDialog.getItem(self.ask.parent, "Language", "The book is read in", list(names), at, editable=False)
        if taken and names[name] != self.bench.book.language and self.bench.do(SetLanguage(names[name])):
            alone = (
                " The multilingual ear hears it alone, without a witness: expect more doubt." if names[name] != ENGLISH else ""
            )
            self.bench.tell(f"The book is read in {name}.{alone} Chapters that were heard already can be heard again.")


A, C, P = ProofActs, Menu.CHAPTER, Menu.PROOF
ACTS: tuple[Act[ProofActs], ...] = (
    Act("proof.hear", C, "Hear this chapter", "Ctrl+E", "Recognise the chapter and collate it with the manuscript", A.hear),
    Act("proof.stands", C, "Hear what was changed", "Ctrl+Shift+I", "The chapter as it stands now: only where it was cut or put in", A.hear_changed),
    Act("proof.rough", C, "Rough cut", "Ctrl+Shift+X", "Cut false starts and repeats, shorten long pauses, in one step", A.rough, AT),
    Act("proof.language", C, "Language of the book…", "", "Other languages than English: by the multilingual ear alone", A.ask_language, rank=1),
    Act("proof.ear", C, "Choose another ear…", "", "A folder with another recogniser in faster-whisper's layout", A.ask_ear, rank=1),
    Act("proof.search", P, "Find words…", "Ctrl+F", "In the manuscript or in what was heard; also a page or a time", A.search, AT),
    Act("proof.next", P, "Next finding", "N", "Go to the next finding", A.following, AT),
    Act("proof.previous", P, "Previous finding", "B", "Go to the finding before", A.previous, AT),
    Act("proof.unheard", P, "Go to what was not heard yet", "U", "The next stretch that was not listened to", A.unheard, AT),
    Act("proof.listen", P, "Listen to the finding", "H", "Hear it with its lead-in", A.listen, AT, On.FINDING),
    Act("proof.stet", P, "Stet", "S", "Let it stand", A.stet, AT, On.FINDING, apart=True),
    Act("proof.mend", P, "Mend", "M", "Repair it from the sound that is there", A.mend, AT, On.FINDING),
    Act("proof.pickup", P, "Pickup", "P", "Have the line read again", A.pickup, AT, On.FINDING),
    Act("proof.swap", P, "Swap the take", "T", "Put the other reading of the line in the place of the one that is kept", A.swap, AT, On.FINDING),
    Act("proof.reopen", P, "Reopen", "O", "Take the decision back", A.reopen, AT, On.FINDING),
    Act("proof.accept", P, "Accept the name for the book", "A", "This reading of the name is right wherever it is heard", A.accept, AT, On.FINDING),
    Act("proof.alike", P, "Take all that are alike in hand", "Shift+A", "All open findings of the book that are like the one at hand, to be decided at once", A.alike, AT, On.FINDING),
    Act("proof.remark", P, "Write a note on the finding…", "E", "What the narrator should watch for; it goes out with the pickup", A.remark, AT, On.FINDING),
    Act("proof.note", P, "Note a finding…", "F", "A finding by hand on selected words or marked sound", A.note, AT, On.PAGE, apart=True),
    Act("proof.flag", P, "Flag the word being heard", "G", "A finding at once, without stopping the sound", A.flag, AT, On.PAGE),
    Act("proof.elsewhere", P, "Hear the word elsewhere", "W", "All other places of the word, one after another", A.elsewhere, AT, On.PAGE),
    Act("proof.names", P, "Names and words", "Ctrl+Shift+W", "Where every name is spoken, and how", A.show_names),
    Act("proof.doubtful", P, "Unfold doubtful findings", "D", "Show the findings that the ear is not sure of", A.doubtful, AT, checkable=True, apart=True),
    Act("proof.flaws", P, "Kinds of flaws…", "", "Which flaws of the sound are shown", A.ask_flaws),
    Act("proof.sign", C, "Sign the chapter off", "Ctrl+Shift+O", "It is proofed as it stands; again: take that back", A.sign, AT, rank=1, apart=True),
    Act("proof.report", C, "Write a report…", "Ctrl+Shift+T", "The findings of this chapter, or of the book", A.ask_report, rank=1),
)  # fmt: skip
