"""What the small windows share: a title, a sentence, a body, and two buttons."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.parts.widgets import hairline, label


class Panel(QDialog):
    """A small window over the main one.

    Parameters
    ----------
    parent : QWidget
    title, sentence : str
    action : str
        What the filled button says; empty for a window that only shows.
    """

    def __init__(self, parent: QWidget, title: str, sentence: str, action: str = "") -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle(title)
        self.setMinimumWidth(440)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 16, 16, 12)
        column.setSpacing(10)
        column.addWidget(label(title, "board"))
        self.sentence = label(sentence, wrap=True)
        column.addWidget(self.sentence)
        self.body = QVBoxLayout()
        self.body.setSpacing(8)
        column.addLayout(self.body, 1)
        self.problem = label("", "blocks", wrap=True)
        self.problem.hide()
        column.addWidget(self.problem)
        column.addWidget(hairline())
        row = QHBoxLayout()
        row.addStretch(1)
        self.cancel = QPushButton("Cancel" if action else "Close")
        self.cancel.setToolTip("Change nothing (Esc)" if action else "Close this window (Esc)")
        self.cancel.clicked.connect(self.reject)
        row.addWidget(self.cancel)
        self.action = QPushButton(action)
        self.action.setProperty("kind", "action")
        self.action.clicked.connect(self.apply)
        self.action.setToolTip(f"{action} (Enter)")
        self.action.setDefault(True)
        row.addWidget(self.action)
        column.addLayout(row)
        # Shown before it has a place it would be a window of its own for a moment.
        self.action.setVisible(bool(action))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Take Enter for the filled button alone: after a number it would press whatever button comes first, as the one that closes."""
        if event.key() not in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            super().keyPressEvent(event)
        elif self.action.isVisible():
            self.action.click()

    def apply(self) -> None:
        """Do what the filled button says."""
        self.accept()

    def tell(self, problem: str) -> None:
        """Say what is wrong with the input; an empty text takes the word back."""
        self.problem.setText(problem)
        self.problem.setVisible(bool(problem))
