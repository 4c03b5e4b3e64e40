"""Fields that change only when they are meant: the wheel over one that has not the keyboard scrolls what lies below."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QSlider, QWidget


def _passed_on(widget: QWidget, event: QWheelEvent) -> bool:
    """Leave a turn of the wheel to the panel below unless the field was clicked or tabbed into."""
    if widget.hasFocus():
        return False
    event.ignore()
    return True


class Choice(QComboBox):
    """A choice among a few."""

    def __init__(self) -> None:
        super().__init__()
        # By default the wheel alone would give it the keyboard.
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Change only with the keyboard here."""
        if not _passed_on(self, event):
            super().wheelEvent(event)


class Number(QDoubleSpinBox):
    """A number that is typed."""

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Change only with the keyboard here."""
        if not _passed_on(self, event):
            super().wheelEvent(event)


class Slide(QSlider):
    """A number that is slid."""

    def __init__(self, orientation: Qt.Orientation = Qt.Orientation.Horizontal) -> None:
        super().__init__(orientation)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Change only with the keyboard here."""
        if not _passed_on(self, event):
            super().wheelEvent(event)
