"""The act of the Release desk."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from faithful_reel.app.actions import Act, Menu
from faithful_reel.app.asking import Asking
from faithful_reel.app.release.presenter import ReleasePresenter


@dataclass
class ReleaseActs:
    """What the user can do at the Release desk."""

    presenter: ReleasePresenter
    ask: Asking

    @property
    def acts(self) -> Sequence[Act[ReleaseActs]]:
        """The table below."""
        return ACTS

    def write(self) -> None:
        """Release; where lanes of a chapter are not heard, and so are not in its file, it is asked first."""
        mastering, chapters = self.presenter.mastering, self.presenter.bench.book.chapters
        missing = mastering.left_unheard(c for c in chapters if c.master is not None)
        if not self.ask.all_the_same("Release", missing):
            return
        if path := self.ask.folder("Release into a folder"):
            self.presenter.release(path)


ACTS: tuple[Act[ReleaseActs], ...] = (
    Act("release.write", Menu.MASTER, "Release…", "Ctrl+R", "Write, tag and check the finished files", ReleaseActs.write, apart=True),
)  # fmt: skip
