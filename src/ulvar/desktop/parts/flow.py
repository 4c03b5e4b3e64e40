"""A layout that wraps its widgets into rows."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem, QWidget


class FlowLayout(QLayout):
    """Widgets side by side, in as many rows as the width asks for."""

    def __init__(self, parent: QWidget, spacing: int) -> None:
        super().__init__(parent)
        self._items: list[QLayoutItem] = []
        self.setContentsMargins(0, 0, 0, 0)
        self.setSpacing(spacing)

    def addItem(self, item: QLayoutItem) -> None:
        """Add an item."""
        self._items.append(item)

    def count(self) -> int:
        """Return how many items there are."""
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        """Return an item."""
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        """Remove and return an item."""
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        """It does not grow by itself."""
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        """Its height follows its width."""
        return True

    def heightForWidth(self, width: int) -> int:
        """Return the height needed."""
        return self._arrange(QRect(0, 0, width, 0), move=False)

    def setGeometry(self, rect: QRect) -> None:
        """Place the items."""
        super().setGeometry(rect)
        self._arrange(rect, move=True)

    def sizeHint(self) -> QSize:
        """Return the smallest size."""
        return self.minimumSize()

    def minimumSize(self) -> QSize:
        """Return the size of the largest item."""
        size = QSize()
        for item in self._items:
            size = size.expandedTo(item.minimumSize())
        return size

    def _arrange(self, rect: QRect, *, move: bool) -> int:
        x, y, row = rect.x(), rect.y(), 0
        for item in self._items:
            hint = item.sizeHint()
            if x + hint.width() > rect.right() + 1 and row > 0:
                x, y, row = rect.x(), y + row + self.spacing(), 0
            if move:
                item.setGeometry(QRect(QPoint(x, y), hint))
            x += hint.width() + self.spacing()
            row = max(row, hint.height())
        return y + row - rect.y()
