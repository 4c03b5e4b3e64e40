"""Findings as cards: mark, title, severity, sentence, evidence, mend."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.sparks import Sparkline
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import label, short_words
from ulvar.inspection import Finding


class SeverityMark(QWidget):
    """A finding's glyph."""

    def __init__(self, theme: Theme, word: str) -> None:
        super().__init__()
        self._theme, self._word = theme, word
        self.setFixedSize(18, 18)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw it."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self._word == "done":
            glyphs.draw_bead(painter, self._theme, 9, 9, "done")
        else:
            glyphs.draw_severity(painter, self._theme, 9, 9, self._word)


def _wrapped(text: str, kind: str, longest: int) -> QLabel:
    """Return a label that never widens the slip: a long file name is cut in the middle, the tip has it whole."""
    shown = short_words(text, longest)
    result = label(shown, kind, wrap=True)
    if shown != text:
        result.setToolTip(text)
    return result


class CardButton(QPushButton):
    """A finding's button: pressed by the mouse, or by Enter. Space belongs to the picture."""

    def __init__(self, text: str) -> None:
        super().__init__(text)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setProperty("space", "picture")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Enter presses it."""
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.click()
        elif event.key() == Qt.Key.Key_Space:
            event.ignore()
        else:
            super().keyPressEvent(event)


class FindingCard(QWidget):
    """One finding: mark, title, severity word, sentence, evidence, mend, Show.

    Parameters
    ----------
    finding : Finding
    theme : Theme
    mend : callable
        Called when its button is pressed: does what it offers, or takes that back.
    show : callable or None
    done : str
        What was done about it: it stands in the place of the sentence, with the way back.
    """

    def __init__(
        self, finding: Finding, theme: Theme, mend: Callable[[Finding], None], show: Callable[[Finding], None] | None,
        done: str = "",
    ) -> None:  # fmt: skip
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 2, 0, 6)
        column.setSpacing(4)
        top = QHBoxLayout()
        top.setSpacing(8)
        word = "done" if done else finding.severity.word
        top.addWidget(SeverityMark(theme, word), 0, Qt.AlignmentFlag.AlignTop)
        top.addWidget(_wrapped(finding.title, "label" if done else "value", 22), 1)
        top.addWidget(label(word.title(), word), 0, Qt.AlignmentFlag.AlignTop)
        column.addLayout(top)
        body = QVBoxLayout()
        body.setContentsMargins(26, 0, 0, 0)
        body.setSpacing(6)
        text = _wrapped(done or finding.text, "label", 30)
        if done:
            text.setToolTip(finding.text)
        body.addWidget(text)
        series = finding.evidence.get("series")
        if series and len(series) > 3 and not done:
            body.addWidget(Sparkline(theme, [float("nan") if v is None else v for v in series], finding.severity.word))
        if finding.mend is not None or show is not None:
            row = QHBoxLayout()
            row.setSpacing(6)
            if finding.mend is not None:
                words = "Put back" if done else finding.mend.label
                self.mend = CardButton(words)
                self.mend.setToolTip(f"{words}; undo with Ctrl+Z")
                self.mend.clicked.connect(lambda: mend(finding))
                row.addWidget(self.mend)
            if show is not None:
                shown = CardButton("Show")
                shown.setProperty("kind", "plain")
                shown.setToolTip("Show the first of its exposures, and select them all")
                shown.clicked.connect(lambda: show(finding))
                row.addWidget(shown)
            row.addStretch(1)
            body.addLayout(row)
        column.addLayout(body)
