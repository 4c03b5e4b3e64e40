"""Plots that are looked into: wheel and drag move along the axis, rulers read durations, depths and slopes, many points stay quick."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPen, QWheelEvent

from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme, font

# One notch of the wheel, and how far in and out it goes (share of the whole).
_NOTCH, _CLOSEST = 1.25, 1e-4
# Levels at a ruler's ends are taken from points within this share of what is in sight.
_NEAR = 0.012
# More points than this are drawn as pixels.
_MANY = 2500

# What is in sight along each plot's axis, by the plot's name; None is all of it.
Sight = dict[str, tuple[float, float] | None]


@dataclass(frozen=True)
class Ruler:
    """A measure between two places: the axis from `x0` to `x1`, levels there with errors, how many points made them."""

    x0: float
    x1: float
    y0: float
    y1: float
    error0: float
    error1: float
    count0: int
    count1: int

    @property
    def length(self) -> float:
        """Along the axis."""
        return abs(self.x1 - self.x0)

    @property
    def step(self) -> tuple[float, float]:
        """Difference of the levels, later less earlier, and its error."""
        sign = 1 if self.x1 >= self.x0 else -1
        return sign * (self.y1 - self.y0), math.hypot(self.error0, self.error1)

    @property
    def slope(self) -> tuple[float, float]:
        """Difference over length, and its error."""
        step, error = self.step
        return (step / self.length, error / self.length) if self.length > 0 else (math.nan, math.nan)


def ruler_between(points: Points, x0: float, y0: float, x1: float, y1: float, within: float) -> Ruler:
    """Return the measure between two places: the level at each end is the mean of the points within `within` of it.

    Where there is none, the place itself counts, without an error.
    """

    def level(x: float, y: float) -> tuple[float, float, int]:
        near = (np.abs(points.x - x) <= within) & np.isfinite(points.y)
        values = points.y[near]
        if not len(values):
            return y, math.nan, 0
        told = points.error[near] if points.error is not None else np.full(len(values), math.nan)
        by_errors = math.sqrt(float((told**2).sum())) / len(values) if np.isfinite(told).all() else 0.0
        by_scatter = float(np.std(values, ddof=1)) / math.sqrt(len(values)) if len(values) > 2 else 0.0
        error = max(by_errors, by_scatter)
        return float(values.mean()), error if error > 0 else math.nan, len(values)

    (a, ea, na), (b, eb, nb) = level(x0, y0), level(x1, y1)
    return Ruler(x0, x1, a, b, ea, eb, na, nb)


class ZoomPlot(Plot):
    """A plot that is zoomed by the wheel and moved by dragging with Shift or the middle button; a double click shows all again.

    Parameters
    ----------
    theme : Theme
    on_range : callable
        Told the range of the axis that is in sight, so that other plots follow; None for all.
    on_ruler : callable
        Told a ruler that was drawn.

    Further ones as `Plot`.
    """

    def __init__(
        self, theme: Theme, *, on_range: Callable[[tuple[float, float] | None], None] | None = None,
        on_ruler: Callable[[Ruler], None] | None = None, x_label: str = "", y_label: str = "",
        on_pick: Callable[[str], None] | None = None, y_down: bool = False, show_x: bool = True, ticks: int = 4,
        on_brush: Callable[[list[str]], None] | None = None,
    ) -> None:  # fmt: skip
        super().__init__(
            theme,
            x_label=x_label,
            y_label=y_label,
            on_pick=on_pick,
            y_down=y_down,
            show_x=show_x,
            ticks=ticks,
            on_brush=on_brush,
        )
        self.home: tuple[float, float] | None = None
        self.rulers: list[Ruler] = []
        self.measuring = False
        self.ruler_words: Callable[[Ruler], str] = lambda ruler: ""
        self._on_range, self._on_ruler = on_range, on_ruler
        self._panned: QPointF | None = None
        self._ruled: tuple[float, float] | None = None
        self._end: QPointF | None = None
        self.setToolTip(self.toolTip() + "; the wheel zooms, Shift and drag moves, a double click shows all")

    # ---- range

    def show_range(self, limits: tuple[float, float] | None) -> None:
        """Show a part of the axis; its points fill the height."""
        self.x_range = limits or self.home
        self.y_range = None
        if limits is not None:
            inside = [
                p.y[(p.x >= limits[0]) & (p.x <= limits[1]) & np.isfinite(p.y)] for p in self.series if not p.line
            ]
            values = np.concatenate(inside) if inside else np.empty(0)
            if len(values) > 1 and np.ptp(values) > 0:
                pad = 0.12 * float(np.ptp(values))
                self.y_range = float(values.min()) - pad, float(values.max()) + pad
        self.update()

    def _tell(self, limits: tuple[float, float] | None) -> None:
        self.show_range(limits)
        if self._on_range is not None:
            self._on_range(limits)

    def from_screen(self, place: QPointF) -> tuple[float, float]:
        """Return the values at a place of the widget."""
        area, (x0, x1), (y0, y1) = self._area(), self._limits("x"), self._limits("y")
        share = (place.y() - area.top()) / max(area.height(), 1.0)
        share = share if self.y_down else 1 - share
        return x0 + (place.x() - area.left()) / max(area.width(), 1.0) * (x1 - x0), y0 + share * (y1 - y0)

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Zoom about the place under the mouse."""
        if self.home is None or not event.angleDelta().y():
            event.ignore()
            return
        low, high = self._limits("x")
        middle, _ = self.from_screen(event.position())
        factor = _NOTCH ** (-event.angleDelta().y() / 120)
        whole = self.home[1] - self.home[0]
        width = max(_CLOSEST * whole, (high - low) * factor)
        if width >= 0.999 * whole:
            self._tell(None)
        else:
            start = middle - (middle - low) / (high - low) * width
            start = min(max(start, self.home[0]), self.home[1] - width)
            self._tell((start, start + width))
        event.accept()

    # ---- mouse

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Begin to move, to measure, or what a plot does."""
        moves = event.button() == Qt.MouseButton.MiddleButton or event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        if moves and self.home is not None:
            self._panned = event.position()
        elif self.measuring and event.button() == Qt.MouseButton.LeftButton:
            self._ruled, self._end = self.from_screen(event.position()), event.position()
        else:
            super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Move, draw the ruler, or the rectangle."""
        if self._panned is not None and self.home is not None:
            low, high = self._limits("x")
            shift = (self._panned.x() - event.position().x()) / max(self._area().width(), 1.0) * (high - low)
            shift = min(max(shift, self.home[0] - low), self.home[1] - high)
            self._panned = event.position()
            if shift:
                self._tell((low + shift, high + shift))
        elif self._ruled is not None:
            self._end = event.position()
            self.update()
        else:
            super().mouseMoveEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """End what was begun."""
        if self._panned is not None:
            self._panned = None
        elif self._ruled is not None:
            (x0, y0), (x1, y1) = self._ruled, self.from_screen(event.position())
            self._ruled = self._end = None
            low, high = self._limits("x")
            if abs(x1 - x0) > 0.005 * (high - low) and self.series:
                ruler = ruler_between(self.series[0], x0, y0, x1, y1, _NEAR * (high - low))
                # Two stay: what is compared.
                self.rulers = [*self.rulers[-1:], ruler]
                if self._on_ruler is not None:
                    self._on_ruler(ruler)
            self.update()
        else:
            super().mouseReleaseEvent(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Show all again."""
        if self.home is not None:
            self._tell(None)

    # ---- painting

    def paint_on(self, painter: QPainter) -> None:
        """Draw it all, rulers over it."""
        super().paint_on(painter)
        area = self._area()
        painter.setClipRect(area)
        painter.setFont(font("value"))
        for ruler in self.rulers:
            self._draw_ruler(painter, ruler, self.theme.color("check"), self.ruler_words(ruler))
        if self._ruled is not None and self._end is not None:
            painter.setPen(QPen(self.theme.color("check"), 1.4, Qt.PenStyle.DashLine))
            painter.drawLine(self.to_screen(*self._ruled), self._end)
        painter.setClipping(False)

    def _draw_ruler(self, painter: QPainter, ruler: Ruler, color: QColor, words: str) -> None:
        a, b = self.to_screen(ruler.x0, ruler.y0), self.to_screen(ruler.x1, ruler.y1)
        painter.setPen(QPen(color, 1.6))
        painter.drawLine(a, b)
        for end in (a, b):
            painter.drawLine(QPointF(end.x(), end.y() - 6), QPointF(end.x(), end.y() + 6))
        area, width = self._area(), painter.fontMetrics().horizontalAdvance(words) + 10
        left = min(max((a.x() + b.x() - width) / 2, area.left()), area.right() - width)
        top = min(a.y(), b.y()) - 26
        top = top if top > area.top() else max(a.y(), b.y()) + 8
        box = QRectF(left, top, width, 18)
        painter.fillRect(box, self.theme.color("raised", 0.92))
        painter.setPen(color)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

    def _draw_points(self, painter: QPainter) -> None:
        if sum(len(p.x) for p in self.series if not p.line) <= _MANY:
            super()._draw_points(painter)
            return
        painter.setClipRect(self._area().adjusted(-1, -1, 1, 1))
        for points in self.series:
            if points.line:
                painter.setPen(QPen(self.theme.color(points.token), 1.6))
                painter.drawPolyline(self._line_through(points.x, points.y))
            else:
                color = points.color or self.theme.color(points.token)
                painter.drawImage(0, 0, self._as_pixels(points, color))

    def _as_pixels(self, points: Points, color: QColor) -> QImage:
        """Return many points as a picture: each pixel the more opaque the more points it holds."""
        area, (x0, x1), (y0, y1) = self._area(), self._limits("x"), self._limits("y")
        width, height = self.width(), self.height()
        share = (points.y - y0) / (y1 - y0)
        share = share if self.y_down else 1 - share
        with np.errstate(invalid="ignore"):
            column = area.left() + (points.x - x0) / (x1 - x0) * area.width()
            row = area.top() + share * area.height()
            inside = (column >= 1) & (column < width - 1) & (row >= 1) & (row < height - 1)
        place = row[inside].astype(np.int64) * width + column[inside].astype(np.int64)
        held = np.bincount(place, minlength=width * height).reshape(height, width).astype(np.float32)
        # A point is a small cross, so that a lonely one is seen.
        held[1:-1, 1:-1] = np.maximum.reduce(
            [held[1:-1, 1:-1], 0.6 * held[:-2, 1:-1], 0.6 * held[2:, 1:-1], 0.6 * held[1:-1, :-2], 0.6 * held[1:-1, 2:]]
        )
        alpha = (255 * (1 - np.exp(-0.9 * held))).astype(np.uint32)
        # Premultiplied, as it is drawn fastest.
        pixels = alpha << 24
        for shift, value in ((16, color.red()), (8, color.green()), (0, color.blue())):
            pixels |= (alpha * value // 255) << shift
        return QImage(
            pixels.astype(np.uint32).tobytes(), width, height, 4 * width, QImage.Format.Format_ARGB32_Premultiplied
        )

    def _points_key(self) -> tuple:
        """All that the places and looks of the points go by; of many points their identity, for reading them all takes longer than drawing."""
        if sum(len(p.x) for p in self.series) <= _MANY:
            return super()._points_key()
        shown = tuple((id(p.x), id(p.y), p.token, p.line, len(p.x)) for p in self.series)
        return self.theme.name, self._limits("x"), self._limits("y"), self.y_down, shown
