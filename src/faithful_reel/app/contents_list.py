"""The contents at the left of the window."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QListWidget, QListWidgetItem

from faithful_reel.app.contents import Contents
from faithful_reel.app.theme import Theme
from faithful_reel.app.widgets.delegates import ContentsDelegate
from faithful_reel.app.widgets.parts import ROLE, tip


class ContentsList(QListWidget):
    """Every chapter with a bar of what is decided; choosing one takes it in hand."""

    def __init__(self, contents: Contents, choose: Callable[[str], None]) -> None:
        super().__init__()
        self._contents, self._choose = contents, choose
        self.setAccessibleName("Contents")
        self.setMinimumWidth(120)
        self._delegate = ContentsDelegate(self)
        self.setItemDelegate(self._delegate)
        self.currentItemChanged.connect(self._chosen)

    def set_theme(self, theme: Theme) -> None:
        """Draw in another theme."""
        self._delegate.theme = theme

    def refresh(self, at_hand: str) -> None:
        """Show how the chapters stand."""
        self.blockSignals(True)
        lines = self._contents.lines()
        while self.count() > len(lines):
            self.takeItem(self.count() - 1)
        while self.count() < len(lines):
            self.addItem(QListWidgetItem())
        for row, line in enumerate(lines):
            item = self.item(row)
            if item is None:
                continue
            shown = (line.title, line.share, line.state, line.color, line.note)
            if item.data(ROLE) != shown or item.data(ROLE + 1) != line.chapter:
                item.setData(ROLE, shown)
                item.setData(ROLE + 1, line.chapter)
                item.setData(Qt.ItemDataRole.AccessibleTextRole, f"{line.title}: {line.state}")
                item.setToolTip(tip("\n".join(filter(None, (f"{line.title}: {line.state}", line.note)))))
            if line.chapter == at_hand and self.currentItem() is not item:
                self.setCurrentItem(item)
        self.blockSignals(False)

    def _chosen(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self._choose(str(item.data(ROLE + 1)))
