"""The desks by name.  No Qt."""

from __future__ import annotations

from enum import StrEnum

from faithful_reel.app.workbench import Observed


class DeskName(StrEnum):
    """The main views, in the order of the work."""

    INTAKE = "intake"
    PROOF = "proof"
    PICKUPS = "pickups"
    SPLICE = "splice"
    MASTER = "master"
    RELEASE = "release"

    @property
    def words(self) -> str:
        """As it is written on the screen."""
        return self.value.capitalize()

    @property
    def key(self) -> str:
        """The key that goes there."""
        return f"Ctrl+{list(DeskName).index(self) + 1}"


class Desks(Observed):
    """Which desk is at hand."""

    def __init__(self, current: DeskName) -> None:
        super().__init__()
        self.current = current

    def show(self, desk: DeskName) -> None:
        """Go to a desk."""
        if desk is not self.current:
            self.current = desk
            self.changed()
