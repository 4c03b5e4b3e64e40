"""Combine, page Field: width and elongation of stars over the frame."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QVBoxLayout, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.theme import Theme, font
from ulvar.desktop.parts.widgets import label
from ulvar.engine import counted
from ulvar.stars import FieldMap

# The shade spans at least this share of the FWHM.
_LEAST_SPAN = 0.25
_PALE, _DEEP = 0.06, 0.56


def shade_span(low: float, high: float) -> float:
    """Return over what range of FWHM the shade runs [px]: an even field is to look even."""
    return max(high - low, _LEAST_SPAN * low)


class FieldPlot(QWidget):
    """Cells of the field: shade and number are the FWHM, a bar is the elongation."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.map: FieldMap | None = None
        self.aspect = 1.5
        self.setMinimumHeight(220)
        self.setAccessibleName("Map of width and elongation of stars over the field")
        self.setToolTip(
            "Each cell: median FWHM [px], shaded from the sharpest to the widest; the bar lies along the long axis"
        )

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the cells."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = self.theme
        if self.map is None:
            painter.setPen(t.color("mute"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Fewer than 20 stars can be judged.")
            return
        box = self._box()
        rows, columns = self.map.fwhm_px.shape
        good = self.map.fwhm_px[np.isfinite(self.map.fwhm_px)]
        low, high = (float(good.min()), float(good.max())) if good.size else (0.0, 1.0)
        # A field that is even to a few per cent is not to look like a slope.
        span = shade_span(low, high)
        painter.fillRect(box, t.color("plot"))
        cell_w, cell_h = box.width() / columns, box.height() / rows
        cells = {
            (r, c): QRectF(box.left() + c * cell_w, box.bottom() - (r + 1) * cell_h, cell_w - 1, cell_h - 1)
            for r in range(rows)
            for c in range(columns)
        }
        # All of a kind together: pens and fonts are changed once.
        empty = [cell for at, cell in cells.items() if not math.isfinite(self.map.fwhm_px[at])]
        full = {at: cell for at, cell in cells.items() if math.isfinite(self.map.fwhm_px[at])}
        painter.setPen(t.color("mute"))
        painter.setFont(font("unit"))
        for cell in empty:
            painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, "–")
        for at, cell in full.items():
            painter.fillRect(cell, t.color("check", _PALE + (_DEEP - _PALE) * (self.map.fwhm_px[at] - low) / span))
        painter.setPen(QPen(t.color("text"), 2))
        for at, cell in full.items():
            self._bar(painter, cell, float(self.map.ellipticity[at]), float(self.map.angle_deg[at]))
        painter.setPen(t.color("text"))
        painter.setFont(font("value"))
        for at, cell in full.items():
            foot = cell.adjusted(0, 0, -5, -3)
            words = f"{self.map.fwhm_px[at]:.2f}"
            painter.drawText(foot, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom, words)

    def _box(self) -> QRectF:
        """Return where the field is drawn."""
        width = min(float(self.width()), (self.height() - 2) * self.aspect)
        return QRectF(0, 0, width, width / self.aspect)

    def bar_px(self, ellipticity: float) -> float:
        """Return the length of a cell's bar on the screen; a third, and all beyond it, fills the cell."""
        if self.map is None:
            return 0.0
        rows, columns = self.map.fwhm_px.shape
        cell = min(self._box().width() / columns, self._box().height() / rows) - 1
        return 0.9 * cell * min(3 * ellipticity, 1.0)

    def _bar(self, painter: QPainter, cell: QRectF, ellipticity: float, angle_deg: float) -> None:
        length = self.bar_px(ellipticity) / 2
        angle = math.radians(angle_deg)
        dx, dy = length * math.cos(angle), -length * math.sin(angle)
        middle = cell.center() - QPointF(0, 4)
        if length < 2:
            painter.drawPoint(middle)
        else:
            painter.drawLine(middle - QPointF(dx, dy), middle + QPointF(dx, dy))


class FieldLegend(QWidget):
    """What the shade and the bar mean, drawn with the numbers of the map."""

    def __init__(self, plot: FieldPlot) -> None:
        super().__init__()
        self._plot = plot
        self.setFixedHeight(34)
        self.setAccessibleName("Legend of the field map")
        self.setToolTip(
            "Shade: FWHM from the sharpest cell on, over a quarter of it at least. Bar: ellipticity, along the long axis."
        )

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw a strip of shades and a bar."""
        field = self._plot.map
        good = field.fwhm_px[np.isfinite(field.fwhm_px)] if field is not None else np.empty(0)
        if not good.size:
            return
        low, high = float(good.min()), float(good.max())
        painter = QPainter(self)
        t = self._plot.theme
        for k in range(60):
            painter.fillRect(QRectF(2 * k, 0, 2, 12), t.color("check", _PALE + (_DEEP - _PALE) * k / 59))
        painter.setFont(font("unit"))
        painter.setPen(t.color("soft"))
        end = low + shade_span(low, high)
        painter.drawText(QRectF(0, 14, 150, 16), Qt.AlignmentFlag.AlignLeft, f"{low:.2f} to {end:.2f} px FWHM")
        long = self._plot.bar_px(1 / 3)
        painter.setPen(QPen(t.color("text"), 2))
        painter.drawLine(QPointF(160, 6), QPointF(160 + long, 6))
        painter.setPen(t.color("soft"))
        painter.drawText(QRectF(160, 14, 200, 16), Qt.AlignmentFlag.AlignLeft, "ellipticity of one third")


class FieldPage(QWidget):
    """The map of the exposure on screen, with what it says."""

    def __init__(self, parent: QWidget, model: Model, theme: Theme) -> None:
        super().__init__(parent)
        self._model = model
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(8)
        self.title = label("", "value")
        column.addWidget(self.title)
        self.plot = FieldPlot(theme)
        column.addWidget(self.plot, 4)
        self.words = label("", wrap=True)
        column.addWidget(self.words)
        self.legend = FieldLegend(self.plot)
        column.addWidget(self.legend)
        column.addWidget(label("As the sensor sees it, x to the right, y upwards.", "unit", wrap=True))
        column.addStretch(1)

    def refresh(self) -> None:
        """The map belongs to the exposure on screen, which is told right after."""

    def show_current(self, path: str) -> None:
        """Show the map of another exposure."""
        stars = self._model.looking.star_table(path)
        facts = self._model.facts(path)
        self.title.setText(facts.stem if facts is not None else "")
        self.plot.map = None
        self.legend.update()
        if stars is None or facts is None:
            self.words.setText("This exposure is not scored.")
        else:
            self.plot.aspect = facts.width / max(1, facts.height)
            self.plot.map = self._model.looking.field_map(path)
            found = self.plot.map
            self.words.setText(
                "\n".join(
                    [f"FWHM {found.middle_px:.2f} px in the middle, from {int(found.count.sum())} stars.", *found.words]
                )
                if found is not None
                else f"{counted(len(stars), 'star')}, of which too few are bright, alone and unsaturated."
            )
        self.plot.update()
