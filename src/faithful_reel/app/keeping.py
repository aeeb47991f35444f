"""The acts of keeping a book: new, open, archive, backup, close; and what is told of how it was found."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer

from faithful_reel.app.actions import Act, Menu
from faithful_reel.app.asking import Asking, with_suffix
from faithful_reel.app.intake.presenter import IntakePresenter
from faithful_reel.app.places import recent_books
from faithful_reel.app.settings import Settings
from faithful_reel.app.start import RecentBooks
from faithful_reel.app.workbench import Workbench
from faithful_reel.core.book.condition import SUFFIX
from faithful_reel.core.book.keeping import ARCHIVE_SUFFIX, archived, backed_up, unpacked
from faithful_reel.core.book.recordings import left_at_desk
from faithful_reel.core.collate.proofing import wake
from faithful_reel.core.files import same_file, shown

BACKUP_MS = 10 * 60_000
ARCHIVES, BOOKS = f"Archives (*{ARCHIVE_SUFFIX})", f"Books (*{SUFFIX})"


class Keeping(QObject):
    """Keeps the book safe, and opens others beside it."""

    def __init__(
        self,
        bench: Workbench,
        intake: IntakePresenter,
        ask: Asking,
        settings: Settings,
        open_beside: Callable[[Path, bool], None],
    ) -> None:
        super().__init__()
        self.bench, self._intake, self._ask, self._settings, self._open_beside = bench, intake, ask, settings, open_beside
        self.close: Callable[[], object] = lambda: None
        self._backed_up = bench.session.store.count()
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.back_up)
        self._timer.start(BACKUP_MS)

    @property
    def acts(self) -> Sequence[Act[Keeping]]:
        """The table below."""
        return ACTS

    @property
    def _folder(self) -> Path:
        return self.bench.session.store.folder

    def new(self) -> None:
        """A new book in a window of its own."""
        if asked := self._ask.new_file("New book", f"Untitled{SUFFIX}", BOOKS):
            self._open_beside(asked[0], True)

    def open(self) -> None:
        """Another book in a window of its own."""
        if path := self._ask.folder(f"Open a book (a folder NAME{SUFFIX})"):
            self._open(path)

    def _open(self, path: Path) -> None:
        if same_file(path, self._folder):
            self.bench.tell(f"{shown(path)} is open in this window.")
        else:
            self._open_beside(path, False)

    def recent(self) -> None:
        """One of the books that were open before."""
        dialog = RecentBooks(recent_books(self._settings), self._ask.parent)
        if dialog.exec() and (path := dialog.chosen):
            self._open(path)

    def archive(self) -> None:
        """The whole book into one file."""
        asked = self._ask.new_file("Export the book as one archive", f"{self._folder.stem}{ARCHIVE_SUFFIX}", ARCHIVES)
        if asked:
            out = with_suffix(asked[0], ARCHIVE_SUFFIX)
            job = partial(archived, self._folder, out)
            self.bench.jobs.start(f"Export {out.name}", job, done=self._archived, stopped=self.bench.stopped)

    def _archived(self, out: Path) -> None:
        self.bench.report(f"The whole book is in {out.name}, {out.stat().st_size / 2**20:.0f} MB.")

    def unpack(self) -> None:
        """A book of an archive, and open it."""
        source = self._ask.file("Unpack an archive of a book", ARCHIVES)
        asked = self._ask.new_file("Unpack the book as", str(source.with_name(source.stem + SUFFIX)), BOOKS) if source else None
        if source and asked:
            job = partial(unpacked, source, asked[0])
            self.bench.jobs.start(f"Unpack {source.name}", job, done=self._unpacked, stopped=self.bench.stopped)

    def _unpacked(self, folder: Path) -> None:
        self._open_beside(folder, False)

    def quit(self) -> None:
        """Close the window."""
        self.close()

    def back_up(self) -> None:
        """Write a backup of the database beside the work, where the book moved since the last one."""
        head = self.bench.session.store.count()
        if head != self._backed_up:
            self._backed_up = head
            folder = self._folder
            self.bench.jobs.start(
                "Back up", lambda _watch: backed_up(folder), done=_nothing, stopped=self.bench.stopped, quiet=True
            )

    def wake_ears(self) -> None:
        """Import what the ears stand on while nobody waits for it."""
        self.bench.jobs.start("Wake the ears", wake, done=_nothing, stopped=self.bench.stopped, quiet=True)

    def tell_state(self) -> None:
        """Say how the book was found: not closed, steps lost, recordings missing; and look closer beside the work."""
        store = self.bench.session.store
        if self._intake.faults:
            self._tell_faults()
        elif store.crashed and store.lost_steps:
            self.bench.tell(
                f"The last {store.lost_steps} steps that were saved are missing: the book's log (book.sqlite-wal) is gone. "
                f"If you have it, close the book, lay it beside book.sqlite, and open it again. {store.count()} steps are here."
            )
        elif store.crashed:
            steps = store.count()
            self.bench.tell(f"The book was not closed the last time. Its database is whole, and all {steps} steps are here.")
        if left := left_at_desk(self._folder):
            names = ", ".join(p.name for p in left[:4]) + (" and more" if len(left) > 4 else "")
            self.bench.warn(
                f"Recorded at the desk and not in the book yet: {names}. Use Receive a pickup recording, from the folder "
                f"{shown(left[0].parent)}; then the file can go."
            )
        elif unknown := len(self._intake.strays()):
            files = "1 recording was received and is" if unknown == 1 else f"{unknown} recordings were received and are"
            self.bench.tell(f"{files} used by no step of this book. Unknown recordings… lists what there is.")
        self._intake.check_touched(self._tell_faults)

    def _tell_faults(self) -> None:
        found = self._intake.faults
        if found:
            named = [f"{self.bench.book.recording(r).name} ({kind.value})" for r, kind in found.items()]
            names = ", ".join(named[:4]) + (" and more" if len(named) > 4 else "")
            self.bench.tell(f"{len(found)} of the book's recordings are missing or changed: {names}. Find them again at Intake.")

    def stop(self) -> None:
        """No more backups: the book is about to be closed."""
        self._timer.stop()


def _nothing(_result: object) -> None:
    pass


A, B = Keeping, Menu.BOOK
ACTS: tuple[Act[Keeping], ...] = (
    Act("book.new", B, "New book…", "Ctrl+N", "Make a new book in a folder", A.new),
    Act("book.open", B, "Open book…", "Ctrl+O", "Open a book from its folder", A.open),
    Act("book.recent", B, "Recent books…", "Ctrl+Shift+B", "The books that were open before", A.recent),
    Act("book.archive", B, "Export as one archive…", "", "The whole book in a single file", A.archive, apart=True, rank=1),
    Act("book.unpack", B, "Unpack an archive…", "", "Make a book of an archive, and open it", A.unpack, rank=1),
    Act("book.quit", B, "Quit", "Ctrl+Q", "Close the book; everything is saved already", A.quit, apart=True, rank=2),
)  # fmt: skip
