"""The acts of the lists beside the galley, and what goes out of the book and comes in."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QInputDialog

from faithful_reel.app.actions import Act, Menu
from faithful_reel.app.asking import SOUNDS, Asking
from faithful_reel.app.desks import DeskName, Desks
from faithful_reel.app.editing.copies_page import CopiesPage
from faithful_reel.app.editing.cutting import Cutting
from faithful_reel.app.editing.list_pane import DRAGGED, ListPane
from faithful_reel.app.editing.others_page import OthersPage
from faithful_reel.app.editing.outward import Outward
from faithful_reel.app.editing.pages import Described, MarkersPage, OffcutsPage, Page, VersionsPage
from faithful_reel.app.editing.pieces_page import PiecesPage
from faithful_reel.app.editing.presenter import Editing
from faithful_reel.app.editing.sources import ElsewherePage, ShelfPage
from faithful_reel.app.editing.sweeping import SweepPage
from faithful_reel.app.proof.panel import ProofPanel
from faithful_reel.app.transport.close_view import CloseView
from faithful_reel.app.widgets.parts import ActSource
from faithful_reel.core.audio.encode import SUFFIXES
from faithful_reel.core.book.keeping import ARCHIVE_SUFFIX
from faithful_reel.core.files import shown
from faithful_reel.core.text.tables import SUFFIXES as TABLES
from faithful_reel.core.work.exchange import SUFFIX
from faithful_reel.core.work.exporting import WordTimes

AT = DeskName.PROOF
FINDINGS = f"Lists ({' '.join('*' + s for s in TABLES)})"
KINDS = ";;".join(f"{s[1:].upper()} (*{s})" for s in SUFFIXES)


@dataclass
class ListActs:
    """Opens the lists, and does with the line at hand what is asked: a question at most, then the list's presenter."""

    editing: Editing
    cutting: Cutting
    outward: Outward
    offcuts: OffcutsPage
    shelf: ShelfPage
    markers: MarkersPage
    sweep: SweepPage
    elsewhere: ElsewherePage
    versions: VersionsPage
    pieces: PiecesPage
    others: OthersPage
    copies: CopiesPage
    panel: ProofPanel
    loupe: CloseView
    desks: Desks
    ask: Asking

    def __post_init__(self) -> None:
        self.bench = self.editing.bench
        lists: tuple[Page, ...] = (
            self.offcuts, self.shelf, self.markers, self.sweep, self.elsewhere, self.versions, self.pieces, self.others,
            self.copies,
        )  # fmt: skip
        self.panes = {page.title: ListPane(page) for page in lists}
        for pane in self.panes.values():
            self.panel.add_side(pane)
            pane.left.connect(partial(self.panel.toggle_side, pane))
            pane.files_dropped.connect(self.shelf.take_files)
        self.panel.side.currentChanged.connect(self._side_changed)
        self.loupe.dropped.connect(self._dropped)
        self.loupe.dropped_as = DRAGGED
        self.bench.listen(self._refresh)
        self.editing.listen(self._refresh)

    @property
    def acts(self) -> Sequence[Act[ListActs]]:
        """The table below."""
        return ACTS

    def bind(self, acts: ActSource) -> None:
        """Whose acts the panes do."""
        for pane in self.panes.values():
            pane.bind(acts)

    def close(self) -> None:
        """Let go of what a list holds open."""
        self.copies.close()

    @property
    def open(self) -> ListPane | None:
        """The list that stands beside the galley now; None for the docket or the names."""
        shown = self.panel.side.currentWidget()
        return shown if isinstance(shown, ListPane) else None

    def _refresh(self) -> None:
        pane = self.open
        self.sweep.open = pane is not None and pane.page is self.sweep
        if pane is not None:
            pane.refresh()

    def _side_changed(self) -> None:
        """Another list is open, or none: what a sweep would take out is crossed out only beside its list."""
        self._refresh()
        self.sweep.draw()

    def toggle(self, title: str) -> None:
        """A list in the docket's place, or the docket again."""
        self.desks.show(AT)
        self.panel.toggle_side(self.panes[title])

    def _open(self, page: Page) -> None:
        if self.open is not self.panes[page.title]:
            self.toggle(page.title)

    def _at_hand(self) -> Page | None:
        pane = self.open
        if pane is None:
            self.bench.tell("No list is open. Open one first (View, Lists).")
        return pane.page if pane is not None else None

    def _shown(self, page: Page) -> bool:
        """Whether a list is open: nothing acts on a line that is not seen."""
        pane = self.open
        if pane is None or pane.page is not page:
            self.bench.tell(f"The list “{page.title}” is not open. Open it first (View, Lists).")
            return False
        return True

    def _dropped(self, told: str, position: int, lane: int) -> None:
        """A line of a list was dropped on the loupe."""
        title, _, key = told.partition("\n")
        page = self.panes[title].page if title in self.panes else None
        if page is None:
            return
        page.key = key
        if isinstance(page, ShelfPage):
            page.paste(position, lane)
            return
        copied = page.copy()
        if copied is not None:
            self.cutting.copied = copied
            self.editing.let_go()
            self.editing.transport.put(position)
            self.cutting.paste()

    # --- the line at hand -----------------------------------------------------------------------------------------

    def hear(self) -> None:
        """Hear it."""
        page = self._at_hand()
        if page is not None:
            page.hear()

    def go(self) -> None:
        """Bring it into view."""
        page = self._at_hand()
        if page is not None:
            page.go()

    def copy(self) -> None:
        """Its sound, to be pasted."""
        page = self._at_hand()
        copied = page.copy() if page is not None else None
        if copied is not None:
            self.cutting.copied = copied
            self.bench.report(f"Copied: {copied.words or 'sound'}.")

    def describe(self) -> None:
        """Ask for its name, colour and note."""
        page = self._at_hand()
        known = page.description() if page is not None else None
        if page is None or known is None:
            return
        said = self.ask.description(page.title, known.name, known.color, known.note)
        if said is not None:
            page.describe(Described(*said))

    def remove(self) -> None:
        """Out of the list."""
        page = self._at_hand()
        if page is not None:
            page.remove()

    def put_back(self) -> None:
        """An offcut."""
        if self._shown(self.offcuts):
            self.offcuts.put_back()

    def piece_join(self) -> None:
        """Hear it."""
        if self._shown(self.pieces):
            self.pieces.hear_join()

    def measure_joins(self) -> None:
        """Of the chapter."""
        if self._shown(self.pieces):
            self.pieces.measure()

    def marker_here(self) -> None:
        """Move it."""
        if self._shown(self.markers):
            self.markers.here()

    def loop(self) -> None:
        """To the next marker."""
        if self._shown(self.markers):
            self.markers.loop()

    def write_markers(self) -> None:
        """Ask where to."""
        if self.editing.ready():
            asked = self.ask.new_file("Write the markers", "markers.csv", "CSV (*.csv)")
            if asked:
                self.outward.write_markers(_named(asked, (".csv",)))

    # --- findings of others ---------------------------------------------------------------------------------------

    def bring_findings(self) -> None:
        """Ask which list, and who said so where it does not tell it."""
        path = self.ask.file("Bring in a list of findings", FINDINGS)
        if path is None:
            return
        who, taken = QInputDialog.getText(
            self.ask.parent, "Bring in a list of findings", "Who found them", text=shown(path.with_suffix(""))
        )
        if taken:
            self._open(self.others)
            self.others.bring(path, who)

    def take_findings(self) -> None:
        """Those that are marked."""
        if self._shown(self.others):
            self.others.take_in()

    def next_place(self) -> None:
        """Of the line at hand."""
        if self._shown(self.others):
            self.others.next_place()

    def is_here(self) -> None:
        """The line at hand."""
        if self._shown(self.others):
            self.others.is_here()

    # --- another copy ---------------------------------------------------------------------------------------------

    def compare(self) -> None:
        """Ask with which."""
        path = self.ask.file("Compare with an archive of this book", f"Archives (*{ARCHIVE_SUFFIX})")
        if path is not None:
            self._open(self.copies)
            self.copies.compare(path)

    def take_over(self) -> None:
        """All that is marked."""
        if self._shown(self.copies):
            self.copies.take_over()

    def mark_copies(self, *, on: bool) -> None:
        """All or none."""
        if self._shown(self.copies):
            self.copies.mark_all(on=on)

    # --- the shelf ------------------------------------------------------------------------------------------------

    def keep(self, *, house: bool) -> None:
        """Ask for a name."""
        marked = self.shelf.marked()
        if marked is None:
            return
        title = "Put on the shelf of the house" if house else "Put on the shelf"
        said = self.ask.description(title, marked[0], "", "")
        if said is not None:
            self.shelf.keep(marked[1], Described(*said), house=house)
            self._open(self.shelf)

    def paste(self) -> None:
        """From the shelf."""
        if self._shown(self.shelf):
            self.shelf.paste()

    def shelve_files(self) -> None:
        """Ask which."""
        paths = self.ask.several("Sound files for the shelf", SOUNDS)
        if paths:
            self._open(self.shelf)
            self.shelf.take_files(paths)

    # --- the sweep ------------------------------------------------------------------------------------------------

    def sweep_make(self) -> None:
        """All in one step."""
        if self._shown(self.sweep):
            self.sweep.make()

    def sweep_check(self) -> None:
        """One of them."""
        if self._shown(self.sweep):
            self.sweep.turn()

    def sweep_all(self, *, on: bool) -> None:
        """All of them."""
        if self._shown(self.sweep):
            self.sweep.check_all(on=on)

    # --- other places, versions -----------------------------------------------------------------------------------

    def find_elsewhere(self) -> None:
        """Look for what is marked."""
        self._open(self.elsewhere)
        self.elsewhere.find()

    def as_if(self) -> None:
        """Before it is done."""
        if self._shown(self.elsewhere):
            self.elsewhere.hear_as_if()

    def mend(self) -> None:
        """Where time goes that another voice fills, it is asked first."""
        if not self._shown(self.elsewhere):
            return
        self.elsewhere.mend()

    def keep_version(self) -> None:
        """Ask for a name."""
        if self.editing.ready():
            name, taken = QInputDialog.getText(self.ask.parent, "Keep a version", "Name")
            if taken and self.versions.keep(name):
                self._open(self.versions)

    def swap(self) -> None:
        """The version at hand."""
        if self._shown(self.versions):
            self.versions.swap()

    def hear_now(self) -> None:
        """The same words as they are now."""
        self.versions.hear_now()

    # --- out and in -----------------------------------------------------------------------------------------------

    def write_span(self) -> None:
        """Ask where to."""
        name = self.outward.name("what is marked")
        if name:
            asked = self.ask.new_file("Write what is marked", f"{name}.wav", KINDS)
            if asked:
                self.outward.write_span(_named(asked, SUFFIXES))

    def write_pieces(self) -> None:
        """Ask where to, and as what."""
        if not self.editing.ready():
            return
        kinds = {s[1:].upper(): s for s in SUFFIXES}
        kind, taken = QInputDialog.getItem(self.ask.parent, "Write the pieces", "Each as", list(kinds), 0, editable=False)
        folder = self.ask.folder("Folder for the pieces") if taken else None
        if folder is not None:
            self.outward.write_pieces(folder, kinds[kind])

    def write_words(self) -> None:
        """Ask where to, and as what."""
        name = self.outward.name("words")
        if name:
            suffixes = [k.value for k in WordTimes]
            kinds = ";;".join(f"{s[1:]} (*{s})" for s in suffixes)
            asked = self.ask.new_file("Write the times of the words", f"{name}{suffixes[0]}", kinds)
            if asked:
                self.outward.write_words(_named(asked, suffixes))

    def write_timeline(self) -> None:
        """Ask where to."""
        name = self.outward.name("")
        if name:
            asked = self.ask.new_file("Write the chapter's reel", f"{name}{SUFFIX}", f"OpenTimelineIO (*{SUFFIX})")
            if asked:
                self.outward.write_timeline(_named(asked, (SUFFIX,)))

    def read_timeline(self) -> None:
        """Ask which."""
        if self.bench.chapter is None:
            self.bench.tell("This book has no chapters yet. Bring in the manuscript at Intake.")
            return
        path = self.ask.file("Bring in a reel", f"OpenTimelineIO (*{SUFFIX});;All files (*)")
        if path is not None:
            self.outward.read_timeline(path)

    def redraw(self) -> None:
        """What is marked."""
        self.outward.redraw()

    def print_span(self) -> None:
        """What is marked on the lane at hand, or all of it, as a new recording."""
        self.outward.print_span()


def _named(asked: tuple[Path, str], suffixes: Sequence[str]) -> Path:
    """The file that was asked for, with the suffix of its kind where it has none of these."""
    path, kind = asked
    known = {s.lower() for s in suffixes}
    suffix = kind[kind.find("*") + 1 : kind.rfind(")")] if "*" in kind else suffixes[0]
    return path if path.suffix.lower() in known else Path(f"{path}{suffix if suffix.lower() in known else suffixes[0]}")


L, S, E, B, V = ListActs, Menu.SOUND, Menu.EDIT, Menu.CHAPTER, Menu.VIEW
LISTS, HAND, FROM_OTHERS, OUT = "Lists", "In the list", "From others", "Out and in"
ACTS: tuple[Act[ListActs], ...] = (
    Act("list.offcuts", V, "Offcuts", "Ctrl+Alt+4", "All that was ever cut from the chapter, to be put back", partial(L.toggle, title="Offcuts"), within=LISTS, apart=True),
    Act("list.shelf", V, "Shelf", "Ctrl+Alt+5", "Sounds kept for reuse, of the book and of the house", partial(L.toggle, title="Shelf"), within=LISTS),
    Act("list.markers", V, "Markers", "Ctrl+Alt+6", "The markers of the chapter", partial(L.toggle, title="Markers"), within=LISTS),
    Act("list.sweep", V, "Sweep", "Ctrl+Alt+7", "Pauses, breaths and hesitations, each change shown before it is made", partial(L.toggle, title="Sweep"), within=LISTS),
    Act("list.elsewhere", V, "From another place", "Ctrl+Alt+8", "Where the same reader says the same words", partial(L.toggle, title="From another place"), within=LISTS),
    Act("list.versions", V, "Versions", "Ctrl+Alt+9", "The chapter as it was kept under a name", partial(L.toggle, title="Versions"), within=LISTS),
    Act("list.pieces", V, "Pieces and joins", "Shift+P", "The pieces of the lane in hand, where each is from and how it takes over", partial(L.toggle, title="Pieces and joins"), within=LISTS),
    Act("list.others", V, "Findings of others", "Ctrl+Alt+0", "Somebody else's list, each line at its place before it is taken in", partial(L.toggle, title="Findings of others"), within=LISTS),
    Act("others.bring", Menu.PROOF, "Bring in a list of findings…", "Ctrl+Shift+F", "A table of a proof-listener: CSV, XLSX, DOCX or ODT, its columns in any order", L.bring_findings, AT, rank=1),
    Act("others.take", E, "Take the findings in", "Ctrl+Alt+A", "All lines that are marked, as one step", L.take_findings, AT, rank=2, within=FROM_OTHERS),
    Act("others.next", E, "Next place of the line", "Ctrl+Alt+X", "The next place that it may mean", L.next_place, AT, rank=2, within=FROM_OTHERS),
    Act("others.here", E, "The line means this place", "Ctrl+Alt+Return", "The words or the sound that is marked, or the place that is shown", L.is_here, AT, rank=2, within=FROM_OTHERS),
    Act("list.copies", V, "Another copy", "Ctrl+Alt+F", "What somebody else's copy of the book has more, chapter by chapter", partial(L.toggle, title="Another copy"), within=LISTS),
    Act("copies.compare", Menu.BOOK, "Compare with another copy…", "Ctrl+Alt+Z", "An archive of this book that came back: what it has more is taken over or left", L.compare, AT, rank=2),
    Act("copies.take", E, "Take over what is marked", "Ctrl+Alt+E", "From the other copy; what is of one kind in a chapter as one step", L.take_over, AT, rank=2, within=FROM_OTHERS),
    Act("copies.all", E, "Mark all that does not clash", "", "In the list of another copy", partial(L.mark_copies, on=True), AT, rank=2, within=FROM_OTHERS),
    Act("copies.none", E, "Mark nothing of the other copy", "", "In the list of another copy", partial(L.mark_copies, on=False), AT, rank=2, within=FROM_OTHERS),
    Act("piece.join", E, "Hear how the piece takes over", "", "That at hand in the list", L.piece_join, AT, rank=2, within=HAND),
    Act("piece.measure", E, "Measure the joins", "", "Against natural boundaries of the same reading, beside the work", L.measure_joins, AT, rank=2, within=HAND),
    Act("list.hear", E, "Hear the line", "Ctrl+Alt+Y", "The line at hand of the list that is open", L.hear, AT, rank=2, within=HAND, apart=True),
    Act("list.go", E, "Go to the line's place", "", "Bring it into view", L.go, AT, rank=2, within=HAND),
    Act("list.copy", E, "Copy the line's sound", "", "To be pasted anywhere", L.copy, AT, rank=2, within=HAND),
    Act("list.describe", E, "Describe the line…", "", "Its name, colour and note", L.describe, AT, rank=2, within=HAND),
    Act("list.remove", E, "Take the line out of the list", "", "Its sound stays in the book", L.remove, AT, rank=2, within=HAND),
    Act("offcut.back", E, "Put the offcut back", "", "Where it was, also where its place has moved since", L.put_back, AT, rank=2, within=HAND, apart=True),
    Act("shelf.paste", E, "Paste from the shelf", "Ctrl+Alt+Q", "At the cursor, or over what is marked", L.paste, AT, rank=2, within=HAND),
    Act("marker.here", E, "Move the marker to the cursor", "", "That at hand in the list", L.marker_here, AT, rank=2, within=HAND),
    Act("marker.loop", E, "Loop from marker to marker", "", "From that at hand to the next one", L.loop, AT, rank=2, within=HAND),
    Act("version.swap", E, "Swap the version in", "", "What is there now is kept as a version", L.swap, AT, rank=2, within=HAND),
    Act("version.now", E, "Hear the same words as they are now", "", "To be compared with a version", L.hear_now, AT, rank=2, within=HAND),
    Act("sweep.make", E, "Make the changes of the sweep", "", "All that are taken in, in one step", L.sweep_make, AT, rank=2, within=HAND),
    Act("sweep.check", E, "Leave a change out, or take it in", "", "That at hand in the sweep", L.sweep_check, AT, rank=2, within=HAND),
    Act("sweep.all", E, "Take all changes in", "", "Of the sweep", partial(L.sweep_all, on=True), AT, rank=2, within=HAND),
    Act("sweep.none", E, "Leave all changes out", "", "Of the sweep", partial(L.sweep_all, on=False), AT, rank=2, within=HAND),
    Act("elsewhere.as_if", E, "Hear in place", "", "What would follow if it were mended with the place at hand", L.as_if, AT, rank=2, within=HAND),
    Act("elsewhere.mend", E, "Mend with the place", "", "Put its sound where the words are", L.mend, AT, rank=2, within=HAND),
    Act("elsewhere.find", E, "Mend from another place…", "Ctrl+Alt+W", "Look where the same reader says what is marked", L.find_elsewhere, AT, rank=1),
    Act("shelf.keep", E, "Put on the shelf…", "Ctrl+Alt+C", "What is marked, for this book", partial(L.keep, house=False), AT, rank=1, within="Shelf", apart=True),
    Act("shelf.house", E, "Put on the shelf of the house…", "", "What is marked, for all books", partial(L.keep, house=True), AT, rank=1, within="Shelf"),
    Act("shelf.files", E, "Put sound files on the shelf…", "", "Copied into the book", L.shelve_files, AT, rank=1, within="Shelf"),
    Act("version.keep", B, "Keep a version…", "Ctrl+Alt+B", "The chapter as it is now, under a name", L.keep_version, AT, rank=2, apart=True),
    Act("edit.redraw", S, "Redraw what is marked", "Shift+D", "A click or a pop of at most 20 ms, drawn anew from the sound on both sides; time stays", L.redraw, AT, rank=1, apart=True),
    Act("edit.print", S, "Print into a new recording", "", "What is marked, as it sounds; what it was made of is kept as a version", L.print_span, AT, rank=1, apart=True),
    Act("export.span", B, "Write what is marked as sound…", "", "WAV, FLAC or MP3 with cue markers", L.write_span, AT, rank=2, within=OUT),
    Act("export.pieces", B, "Write the pieces as files…", "", "Each piece of what is marked, by its name", L.write_pieces, AT, rank=2, within=OUT),
    Act("export.words", B, "Write the times of the words…", "", "WebVTT, SRT, TextGrid or CSV", L.write_words, AT, rank=2, within=OUT),
    Act("marker.export", B, "Write the markers…", "", "As CSV", L.write_markers, AT, rank=2, within=OUT),
    Act("export.timeline", B, "Write the reel as OpenTimelineIO…", "", "Lanes, pieces, gains, fades, markers", L.write_timeline, AT, rank=2, within=OUT),
    Act("import.timeline", B, "Bring in a reel of OpenTimelineIO…", "", "In the place of the chapter's, which is kept as a version", L.read_timeline, AT, rank=2, within=OUT),
)  # fmt: skip
