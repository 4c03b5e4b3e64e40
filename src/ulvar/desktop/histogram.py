"""The histogram strip under the picture, with handles for floor and ceiling."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPolygonF
from PySide6.QtWidgets import QWidget

from ulvar.desktop.pictures import Picture
from ulvar.desktop.stretch import Stretch
from ulvar.desktop.theme import Theme


class Histogram(QWidget):
    """Histogram of the picture with handles for floor and ceiling."""

    changed = Signal(float, float)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.picture: Picture | None = None
        self.stretch = Stretch()
        self._range = (0.0, 1.0)
        self._bars = np.zeros(1)
        self.second: np.ndarray | None = None
        self._dragged = ""
        self.setFixedHeight(28)
        self.setMinimumWidth(80)
        self.setToolTip("Drag the amber handles: the level shown black and the level shown white [ADU]")
        self.setAccessibleName("Histogram with floor and ceiling")

    def show_picture(self, picture: Picture | None, stretch: Stretch) -> None:
        """Show a picture's histogram."""
        self.picture, self.stretch = picture, stretch
        if picture is not None and picture.sample.size:
            low, high = float(np.percentile(picture.sample, 0.1)), float(np.percentile(picture.sample, 99.7))
            low, high = min(low, stretch.floor), max(high, stretch.ceiling)
            pad = 0.06 * max(high - low, 1e-6)
            self._range = low - pad, high + pad
            bars, _ = np.histogram(picture.sample, bins=120, range=self._range)
            self._bars = np.sqrt(bars / max(1, bars.max()))
        self.update()

    def _x(self, value: float) -> float:
        low, high = self._range
        return 6 + (value - low) / max(high - low, 1e-12) * (self.width() - 12)

    def _value(self, x: float) -> float:
        low, high = self._range
        return low + (x - 6) / max(1, self.width() - 12) * (high - low)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw bars and handles."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), self.theme.color("plot"))
        if self.picture is None:
            return
        step = (self.width() - 12) / len(self._bars)
        for i, value in enumerate(self._bars):
            painter.fillRect(
                QRectF(
                    6 + i * step,
                    self.height() - 2 - value * (self.height() - 6),
                    step + 0.4,
                    value * (self.height() - 6),
                ),
                self.theme.color("mute"),
            )
        if self.second is not None and self.second.size:
            # The exposure before calibration, as an outline.
            bars, _ = np.histogram(self.second, bins=120, range=self._range)
            heights = np.sqrt(bars / max(1, bars.max()))
            painter.setPen(self.theme.color("comparison"))
            painter.drawPolyline(
                [
                    QPointF(6 + (i + 0.5) * step, self.height() - 2 - h * (self.height() - 6))
                    for i, h in enumerate(heights)
                ]
            )
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.theme.color("cur"))
        for value in (self.stretch.floor, self.stretch.ceiling):
            x = self._x(value)
            painter.fillRect(QRectF(x - 0.7, 0, 1.4, self.height()), self.theme.color("cur"))
            painter.drawPolygon(
                QPolygonF(
                    [
                        QPointF(x - 4, self.height()),
                        QPointF(x + 4, self.height()),
                        QPointF(x, self.height() - 6),
                    ]
                )
            )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take the nearer handle."""
        x = event.position().x()
        near_floor = abs(x - self._x(self.stretch.floor)) <= abs(x - self._x(self.stretch.ceiling))
        self._dragged = "floor" if near_floor else "ceiling"
        self.mouseMoveEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Move the handle."""
        if not self._dragged:
            return
        value = self._value(event.position().x())
        if self._dragged == "floor":
            self.stretch = replace(self.stretch, floor=min(value, self.stretch.ceiling - 1e-6))
        else:
            self.stretch = replace(self.stretch, ceiling=max(value, self.stretch.floor + 1e-6))
        self.update()
        self.changed.emit(self.stretch.floor, self.stretch.ceiling)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Let go."""
        self._dragged = ""
