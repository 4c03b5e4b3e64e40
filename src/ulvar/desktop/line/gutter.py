"""Left of the night line: the value axis, and the counts that are its legend."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from ulvar.desktop.line.state import LineState
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.theme import Theme, font
from ulvar.frames import Role
from ulvar.night import SERIES_STATIONS


class Gutter(QWidget):
    """Value axis beside the plot."""

    def __init__(self, state: LineState, theme: Theme) -> None:
        super().__init__()
        self._state, self.theme = state, theme
        self.setFixedWidth(62)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setFont(font("unit"))
        painter.setPen(self.theme.color("mute"))
        for y, text in self._state.value_ticks():
            painter.drawText(
                QRectF(0, y - 8, self.width() - 6, 16),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                text,
            )


class Legend(QWidget):
    """Counts beside their dots: the legend."""

    def __init__(self, model: Model, theme: Theme, state: LineState) -> None:
        super().__init__()
        self._model, self._state = model, state
        self.theme = theme
        self.setMinimumHeight(74)

    def entries(self) -> list[tuple[str, int, str]]:
        """Return (dot kind, count, words)."""
        if self._model.station in SERIES_STATIONS and self._model.scores():
            return self._series_entries()
        lights = self._model.lights()
        out = self._model.left_out()
        marked = self._model.jobs.files_with_findings()
        kept = [f for f in lights if f.path not in out]
        with_finding = sum(f.path in marked for f in kept)
        calibration = sum(f.role not in (Role.LIGHT, Role.UNKNOWN) for f in self._model.exposures())
        rows = [("kept", len(kept) - with_finding, "kept"), ("finding", with_finding, "with a finding"),
                ("left_out", len(lights) - len(kept), "left out (X)"),
                ("unreadable", len(self._model.failed()), "unreadable")]  # fmt: skip
        if self._model.station in ("intake", "masters"):
            rows.insert(2, ("calibration", calibration, "calibration frames"))
        return [row for row in rows if row[1]]

    def _series_entries(self) -> list[tuple[str, int, str]]:
        """Count the exposures of the series as the board does: in the stack, ruled out, left out; and the others."""
        model = self._model
        members = model.members()
        kept, ruled, gone = model.looking.counts()
        lights = {f.path for f in model.lights()}
        unscored = len(members) - gone - kept - ruled
        rows = [("kept", kept, "in the stack"), ("ruled", ruled, "ruled out"), ("left_out", gone, "left out (X)"),
                ("unscored", unscored, "not scored"), ("other", len(lights - members), "of other series")]  # fmt: skip
        return [row for row in rows if row[1] or row[0] == "kept"]

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        moon = self._state.moon_words
        if moon:
            # Beside the counts: over the dots it could not be read.
            y = 9 + 16 * min(5, len(self.entries()))
            painter.setPen(QPen(self.theme.color("note", 0.8), 1.2, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(3, y), QPointF(15, y))
            painter.setFont(font("label"))
            painter.setPen(self.theme.color("soft"))
            painter.drawText(QRectF(60, y - 9, 120, 18), Qt.AlignmentFlag.AlignVCenter, moon)
            if y + 22 < self.height():
                painter.setFont(font("unit"))
                painter.setPen(self.theme.color("mute"))
                painter.drawText(QRectF(60, y + 6, 120, 16), Qt.AlignmentFlag.AlignVCenter, "altitude, top = 90°")
        for i, (kind, count, words) in enumerate(self.entries()[: 5 if moon else 6]):
            y = 9 + 16 * i
            if kind == "calibration":
                painter.fillRect(QRectF(8, y - 4, 3, 7), self.theme.color("soft"))
            else:
                glyphs.draw_dot(painter, self.theme, 9, y, kind)
            painter.setFont(font("value"))
            painter.setPen(self.theme.color("text"))
            painter.drawText(
                QRectF(18, y - 9, 34, 18),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                str(count),
            )
            painter.setFont(font("label"))
            painter.setPen(self.theme.color("soft"))
            painter.drawText(QRectF(60, y - 9, 120, 18), Qt.AlignmentFlag.AlignVCenter, words)
