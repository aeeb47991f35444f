"""A row of widgets that goes on in the next line where there is no more room."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QRect, QSize, Qt
from PyQt6.QtWidgets import QLayout, QLayoutItem, QWidget

SPACE = 6


class Flow(QLayout):
    """Lays its widgets out from left to right, in as many lines as they need."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._items: list[QLayoutItem] = []
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem | None) -> None:  # noqa: N802 - Qt's name
        """One more."""
        if item is not None:
            self._items.append(item)

    def count(self) -> int:
        """How many there are."""
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:  # noqa: N802 - Qt's name
        """One of them."""
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:  # noqa: N802 - Qt's name
        """One of them, which is no longer laid out."""
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:  # noqa: N802 - Qt's name
        """It takes no more than it needs."""
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:  # noqa: N802 - Qt's name
        """The narrower, the higher."""
        return True

    def heightForWidth(self, width: int) -> int:  # noqa: N802 - Qt's name
        """How high it is then."""
        return self._laid(QRect(0, 0, width, 0), place=False)

    def setGeometry(self, rect: QRect) -> None:  # noqa: N802 - Qt's name
        """Lay out."""
        super().setGeometry(rect)
        self._laid(rect, place=True)

    def sizeHint(self) -> QSize:  # noqa: N802 - Qt's name
        """As small as it can be."""
        return self.minimumSize()

    def minimumSize(self) -> QSize:  # noqa: N802 - Qt's name
        """As large as the largest of them."""
        size = QSize()
        for item in self._items:
            size = size.expandedTo(item.minimumSize())
        return size

    def _laid(self, rect: QRect, *, place: bool) -> int:
        x, y = rect.x(), rect.y()
        row: list[tuple[QLayoutItem, int]] = []

        def laid() -> int:
            """Lay the row out, everything in its middle; how high it is."""
            high = max((item.sizeHint().height() for item, _ in row), default=0)
            for item, left in row if place else ():
                size = item.sizeHint()
                item.setGeometry(QRect(QPoint(left, y + (high - size.height()) // 2), size))
            row.clear()
            return high

        for item in self._items:
            width = item.sizeHint().width()
            if x > rect.x() and x + width > rect.right() + 1:
                y += laid() + SPACE
                x = rect.x()
            row.append((item, x))
            x += width + SPACE
        return y + laid() - rect.y()
