"""The histogram strip under the picture, with handles for black, knee and white."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QFocusEvent, QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QToolTip, QWidget

from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.picture.pictures import Picture
from ulvar.desktop.picture.stretch import Sample, Stretch
from ulvar.engine import percent, true_minus
from ulvar.frames import sorted_quantiles

_MARGIN = 6
_BARS = 120
_ARROWS = (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down)
# Colours of red, green and blue outlines.
_BANDS = ("block", "good", "comparison")


class Histogram(QWidget):
    """Histogram of the picture with handles for black, knee and white; saturation is marked.

    With the keyboard here, Up and Down choose a handle, Left and Right move it, with Shift ten times as far.
    """

    changed = Signal(object)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.picture: Picture | None = None
        self.stretch = Stretch()
        self.saturation: float | None = None
        self._range = (0.0, 1.0)
        self._bars = np.zeros(1)
        self.second: Sample | None = None
        self._dragged = ""
        self.setFixedHeight(28)
        self.setMinimumWidth(80)
        self.setToolTip(
            "Drag the handles: black, knee (above it light is compressed), white, in ADU. The upright line at the right is "
            "saturation. By the keyboard: Up and Down choose a handle, Left and Right move it, with Shift ten times as far."
        )
        self.setAccessibleName("Histogram with black, knee and white")
        # A click leaves the arrows to the exposures.
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        # The handle that the keyboard moves.
        self._chosen = "floor"

    def show_picture(self, picture: Picture | None, stretch: Stretch) -> None:
        """Show a picture's histogram."""
        self.picture, self.stretch = picture, stretch
        if picture is not None and picture.sample.values.size:
            low, high = (float(v) for v in sorted_quantiles(picture.sample.values, (0.001, 0.997)))
            low, high = min(low, stretch.floor), max(high, stretch.ceiling)
            pad = 0.06 * max(high - low, 1e-6)
            self._range = low - pad, high + pad
            self._bars = self._heights(picture.sample)
        self.update()

    def _heights(self, sample: Sample) -> np.ndarray:
        bars = sample.histogram(*self._range, _BARS)
        return np.sqrt(bars / max(1, bars.max()))

    def _x(self, value: float) -> float:
        low, high = self._range
        return _MARGIN + (value - low) / max(high - low, 1e-12) * (self.width() - 2 * _MARGIN)

    def _value(self, x: float) -> float:
        low, high = self._range
        return low + (x - _MARGIN) / max(1, self.width() - 2 * _MARGIN) * (high - low)

    def saturated_share(self) -> float:
        """Return the share of sampled pixels at saturation."""
        if self.saturation is None or self.picture is None or not self.picture.sample.values.size:
            return 0.0
        values = self.picture.sample.values
        return float(1 - np.searchsorted(values, self.saturation) / len(values))

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw bars, curve and handles."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), self.theme.color("plot"))
        if self.picture is None:
            return
        step = (self.width() - 2 * _MARGIN) / len(self._bars)
        tall = self.height() - 6
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.theme.color("mute"))
        painter.drawRects(
            [QRectF(_MARGIN + i * step, self.height() - 2 - h * tall, step + 0.4, h * tall) for i, h in enumerate(self._bars) if h]
        )  # fmt: skip
        # The bands of a colour picture, or the exposure before calibration, as outlines.
        outlines = [(sample, token) for sample, token in zip(self.picture.bands, _BANDS)]
        if self.second is not None:
            outlines.append((self.second, "comparison"))
        for sample, token in outlines:
            if not sample.values.size:
                continue
            painter.setPen(QPen(self.theme.color(token), 1.2))
            painter.drawPolyline(
                [
                    QPointF(_MARGIN + (i + 0.5) * step, self.height() - 2 - h * tall)
                    for i, h in enumerate(self._heights(sample))
                ]
            )
        self._paint_saturation(painter)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.theme.color("cur"))
        for handle, value in (("floor", self.stretch.floor), ("ceiling", self.stretch.ceiling)):
            x = self._x(value)
            wide = 3.0 if self.hasFocus() and handle == self._chosen else 1.4
            painter.fillRect(QRectF(x - wide / 2, 0, wide, self.height()), self.theme.color("cur"))
            painter.drawPolygon(
                QPolygonF([QPointF(x - 4, self.height()), QPointF(x + 4, self.height()), QPointF(x, self.height() - 6)])
            )
        if self.stretch.has_knee:
            x = self._x(self.stretch.knee_adu)
            painter.setBrush(self.theme.color("plot"))
            painter.setPen(QPen(self.theme.color("cur"), 1.4))
            if self.hasFocus() and self._chosen == "knee":
                painter.setBrush(self.theme.color("cur"))
            painter.drawEllipse(QPointF(x, 7), 3.6, 3.6)
        if self.hasFocus():
            painter.setPen(QPen(self.theme.color("cur"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))

    def _paint_saturation(self, painter: QPainter) -> None:
        if self.saturation is None:
            return
        # Full scale lies far beyond what a sky shows; then the mark stands at the end of the strip.
        x = min(max(self._x(self.saturation), _MARGIN), self.width() - 2.0)
        token = "block" if self.saturated_share() > 0 else "mute"
        painter.setPen(QPen(self.theme.color(token), 2))
        painter.drawLine(QPointF(x, 2), QPointF(x, self.height() - 2))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take the nearest handle; the knee's is the ring at the top."""
        x, y = event.position().x(), event.position().y()
        knee = self.stretch.has_knee and abs(x - self._x(self.stretch.knee_adu)) < 7 and y < 14
        near_floor = abs(x - self._x(self.stretch.floor)) <= abs(x - self._x(self.stretch.ceiling))
        self._dragged = self._chosen = "knee" if knee else "floor" if near_floor else "ceiling"
        self.mouseMoveEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Move the handle."""
        if self._dragged:
            self._put(self._dragged, self._value(event.position().x()))

    def _put(self, handle: str, value: float) -> None:
        """Set a handle to a level [ADU], as far as the others allow."""
        s = self.stretch
        if handle == "floor":
            s = replace(s, floor=min(value, s.ceiling - 1e-6))
        elif handle == "ceiling":
            s = replace(s, ceiling=max(value, s.floor + 1e-6))
        else:
            s = replace(s, knee=min(max((value - s.floor) / max(s.ceiling - s.floor, 1e-12), 1e-3), 0.9))
        self.stretch = s
        self.update()
        self.changed.emit(s)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Let go."""
        self._dragged = ""

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Choose and move a handle."""
        handles = ["floor", *(["knee"] if self.stretch.has_knee else []), "ceiling"]
        chosen = self._chosen if self._chosen in handles else "floor"
        step = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1}.get(Qt.Key(event.key()))
        way = {Qt.Key.Key_Right: 1.0, Qt.Key.Key_Left: -1.0}.get(Qt.Key(event.key()))
        if step is not None:
            self._chosen = handles[(handles.index(chosen) + step) % len(handles)]
            self.update()
        elif way is not None and self.picture is not None:
            far = 10.0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
            s = self.stretch
            level = {"floor": s.floor, "knee": s.knee_adu, "ceiling": s.ceiling}[chosen]
            self._put(chosen, level + way * far * (self._value(1.0) - self._value(0.0)))
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        """Show which handle the keyboard moves."""
        super().focusInEvent(event)
        self.update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """Show it no more."""
        super().focusOutEvent(event)
        self.update()

    def event(self, event: QEvent) -> bool:
        """Tell the levels of the handles; arrows are its own while the keyboard is here."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride and event.key() in _ARROWS:
            event.accept()
            return True
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip and self.picture is not None:
            s = self.stretch
            lines = [true_minus(f"black {s.floor:.1f} ADU, white {s.ceiling:.1f} ADU")]
            if s.has_knee:
                lines.append(true_minus(f"knee {s.knee_adu:.1f} ADU"))
            if self.saturation is not None:
                lines.append(
                    f"saturation {self.saturation:.0f} ADU: {percent(self.saturated_share(), 2)} of the pixels"
                )
            QToolTip.showText(event.globalPos(), "\n".join([*lines, self.toolTip()]), self)
            return True
        return super().event(event)
