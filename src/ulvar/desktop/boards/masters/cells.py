"""A cell of the match board: what fits, how far off it is, why."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QSizePolicy,
    QWidget,
)

from ulvar.calibration import Choice, Fit
from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.theme import Theme, font
from ulvar.desktop.parts.widgets import number
from ulvar.flows import PREFIX
from ulvar.frames import Group, Role


class MatchCell(QWidget):
    """One choice: what, how far off, and why not.

    Attributes
    ----------
    picked : Signal
        Emitted with the cell when it is clicked, or by Return.
    menu_wanted : Signal
        Emitted with the cell and a place of the screen.
    chosen : bool
        Whether its refusals are told under the board.
    """

    picked = Signal(object)
    menu_wanted = Signal(object, QPoint)

    def __init__(self, theme: Theme, group: Group, choice: Choice) -> None:
        super().__init__()
        self.theme, self.group, self.choice = theme, group, choice
        self.chosen = False
        self.setFixedHeight(58)
        self.setMinimumWidth(84)
        self.setMaximumWidth(150)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        first, second = self.lines()
        self.setAccessibleName(f"{group.filter} {choice.kind.value}: {first}, {second}")
        self.setToolTip(f"{first}. {second}")

    def sizeHint(self) -> QSize:
        """Its usual size; on a narrow board it gives way."""
        return QSize(140, 58)

    def lines(self) -> tuple[str, str]:
        """Return what, and how far off or why."""
        choice = self.choice
        if choice.fit is Fit.NOT_NEEDED:
            return "not needed", choice.reason
        if choice.fit is Fit.NONE_TAKEN:
            return ("none", "by hand") if choice.pinned else ("none taken", "no such frames here")
        if choice.candidate is None:
            return "nothing safe", choice.reason
        facts = choice.candidate.facts
        if choice.kind is Role.FLAT:
            first = f"{facts.filter} × {choice.candidate.count}"
        else:
            parts = [] if facts.exposure_s is None or choice.kind is Role.BIAS else [f"{facts.exposure_s:g} s"]
            bias = ["bias"] if choice.kind is Role.DARK_FLAT and choice.candidate.kind is Role.BIAS else []
            first = " ".join([*bias, *parts, f"× {choice.candidate.count}"])
        if choice.candidate.key.startswith(PREFIX):
            first += "  library"
        off = choice.off
        told = []
        if choice.pinned:
            return first, f"by hand: {choice.reason}" if choice.reason else "by hand"
        if choice.fit is Fit.NEAR:
            return first, choice.reason
        if "exposure_s" in off:
            told.append(f"{number(off['exposure_s'], 1)} s")
        if "temperature_c" in off:
            told.append(f"{number(off['temperature_c'], 1)} °C")
        if "age_d" in off:
            told.append(f"{off['age_d']:.0f} d")
        return first, "   ".join(told) or choice.reason or "fits"

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the cell."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t, fit = self.theme, self.choice.fit
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        chosen = self.chosen or self.hasFocus()
        plain = fit in (Fit.NOT_NEEDED, Fit.NONE_TAKEN)
        if fit is Fit.NOTHING_SAFE:
            painter.setPen(QPen(t.color("block"), 1, Qt.PenStyle.DashLine))
            painter.setBrush(t.color("block", 0.12))
            painter.drawRoundedRect(box, 4, 4)
        elif not plain:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("raised"))
            painter.drawRoundedRect(box, 4, 4)
        if chosen:
            painter.setPen(QPen(t.color("cur"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box, 4, 4)
        first, second = self.lines()
        painter.setFont(font("label" if plain else "value"))
        painter.setPen(t.color("block" if fit is Fit.NOTHING_SAFE else "mute" if plain else "text"))
        width = self.width()
        first = painter.fontMetrics().elidedText(first, Qt.TextElideMode.ElideRight, width - (18 if plain else 38))
        painter.drawText(QRectF(10, 9, width - 12, 18), Qt.AlignmentFlag.AlignVCenter, first)
        painter.setFont(font("label"))
        painter.setPen(t.color("check" if fit is Fit.NEAR else "mute" if plain else "soft"))
        text = painter.fontMetrics().elidedText(second, Qt.TextElideMode.ElideRight, width - 18)
        painter.drawText(QRectF(10, 30, width - 16, 18), Qt.AlignmentFlag.AlignVCenter, text)
        if fit is Fit.FITS:
            painter.setPen(QPen(t.color("good"), 1.8))
            painter.drawPolyline(
                [box.topRight().__class__(x, y) for x, y in ((width - 21, 18), (width - 17, 22), (width - 10, 13))]
            )
        elif fit is Fit.NEAR:
            glyphs.draw_severity(painter, t, width - 15, 17, "check", 5.5)
        elif fit is Fit.NOTHING_SAFE:
            glyphs.draw_severity(painter, t, width - 15, 17, "blocks", 6)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Tell the refusals of this cell, and show its master."""
        self.picked.emit(self)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """Offer what else could be used."""
        self.menu_wanted.emit(self, event.globalPos())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Enter shows, the menu key offers what else could be used."""
        if event.key() == Qt.Key.Key_Menu:
            self.menu_wanted.emit(self, self.mapToGlobal(self.rect().center()))
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.picked.emit(self)
        else:
            super().keyPressEvent(event)
