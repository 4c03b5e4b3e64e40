"""Fields that change only when they are meant: the wheel over one that has not the keyboard scrolls what lies below."""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QSlider, QWidget


class _Meant:
    """A field that leaves a turn of the wheel to the panel below unless it was clicked or tabbed into."""

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Change only with the keyboard here."""
        assert isinstance(self, QWidget)
        if self.hasFocus():
            super().wheelEvent(event)  # type: ignore[misc]
        else:
            event.ignore()


class Choice(_Meant, QComboBox):
    """A choice among a few."""

    def __init__(self) -> None:
        super().__init__()
        # By default the wheel alone would give it the keyboard.
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def fill_with(self, entries: Iterable[tuple[str, str, str]], chosen: str) -> None:
        """Add (key, words, tip) each, and stand on the chosen key, or on the first."""
        for key, words, tip in entries:
            self.addItem(words, key)
            self.setItemData(self.count() - 1, tip, Qt.ItemDataRole.ToolTipRole)
        self.setCurrentIndex(max(0, self.findData(chosen)))


class Number(_Meant, QDoubleSpinBox):
    """A number that is typed."""

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)


class Slide(_Meant, QSlider):
    """A number that is slid."""

    def __init__(self, orientation: Qt.Orientation = Qt.Orientation.Horizontal) -> None:
        super().__init__(orientation)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
