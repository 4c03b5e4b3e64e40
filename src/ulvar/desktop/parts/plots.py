"""Small plots drawn with a painter: axes, points, lines, notes."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.layers import Layer
from ulvar.desktop.parts.theme import Theme, font
from ulvar.desktop.parts.ticks import nice_ticks, tick_text

# Height of the vertical axis's label [px].
_LABEL = 17
# Over the plot [px].
_TOP = 8


@dataclass
class Points:
    """One series: values, errors, kind of each dot (see `glyphs.draw_dot`), and what a click on one opens.

    With a `color` its dots are drawn in it, in a `shape` of their own; its name then stands at the right with a bar.
    """

    x: np.ndarray
    y: np.ndarray
    error: np.ndarray | None = None
    kinds: Sequence[str] = ()
    keys: Sequence[str] = ()
    token: str = "text"
    name: str = ""
    line: bool = False
    color: QColor | None = None
    shape: str = "disc"

    @cached_property
    def places(self) -> dict[str, list[int]]:
        """Which points a key has."""
        found: dict[str, list[int]] = {}
        for place, key in enumerate(self.keys):
            found.setdefault(key, []).append(place)
        return found


class Plot(QWidget):
    """A plot with axes; a click takes the nearest point.

    Parameters
    ----------
    theme : Theme
    x_label, y_label : str
        With units.
    on_pick : callable
        Called with the key of the point that was clicked.
    y_down : bool
        Magnitudes: brighter upwards.
    on_brush : callable
        Called with the keys of the points in a rectangle that was dragged.
    """

    def __init__(
        self, theme: Theme, *, x_label: str = "", y_label: str = "", on_pick: Callable[[str], None] | None = None,
        y_down: bool = False, show_x: bool = True, ticks: int = 4, on_brush: Callable[[list[str]], None] | None = None,
    ) -> None:  # fmt: skip
        super().__init__()
        self.theme = theme
        self.x_label, self.y_label, self.y_down, self.show_x = x_label, y_label, y_down, show_x
        self.series: list[Points] = []
        self.curves: list[tuple[np.ndarray, np.ndarray, str]] = []
        self.current = ""
        self.marker: float | None = None
        self.bands: list[tuple[float, float, str]] = []
        self.notes: list[tuple[float, float, str, str]] = []
        self.x_range: tuple[float, float] | None = None
        self.y_range: tuple[float, float] | None = None
        self.empty = "Nothing to show yet."
        self.exporting = False
        # Names of numbers, by value and step, where they are no plain ones, and where they stand.
        self.x_words: Callable[[float, float], str] = tick_text
        self.y_words: Callable[[float, float], str] = tick_text
        self.places_of: Callable[[float, float, int], list[float]] = nice_ticks
        # Keys that are selected together; a drag over the plot selects when `on_brush` is given.
        self.selected: set[str] = set()
        self._ticks = ticks
        self._on_pick = on_pick
        self._on_brush = on_brush
        self._press: QPointF | None = None
        self._corner: QPointF | None = None
        self._points_layer = Layer()
        words = " against ".join(part for part in (y_label, x_label) if part)
        self.setAccessibleName(f"Plot of {words}" if words else "Plot")
        uses = [
            *(["click a point for its exposure"] if on_pick is not None else []),
            *(["drag a rectangle to select several"] if on_brush is not None else []),
        ]
        self.setToolTip(f"{words or 'Plot'}{': ' if uses else ''}{'; '.join(uses)}")

    def _area(self) -> QRectF:
        # On a strip the label has no room beside the points: it stands over the strip.
        top = _TOP if self._tall else _LABEL
        return QRectF(52, top, self.width() - 60, self.height() - top - self._foot)

    @property
    def _foot(self) -> int:
        return 32 if self.show_x else 4

    @property
    def _tall(self) -> bool:
        return not self.y_label or self.height() - _TOP - self._foot >= 4 * _LABEL

    def _limits(self, which: str) -> tuple[float, float]:
        fixed = self.x_range if which == "x" else self.y_range
        if fixed is not None:
            return fixed
        values = [getattr(s, which)[np.isfinite(getattr(s, which))] for s in self.series]
        joined = np.concatenate(values) if values else np.empty(0)
        if joined.size == 0:
            return 0.0, 1.0
        low, high = float(joined.min()), float(joined.max())
        if high - low < 1e-12:
            low, high = low - 0.5, high + 0.5
        # On a strip a dot and its ring need more room than that.
        pad = (0.08 if which == "x" or self._tall else 0.16) * (high - low)
        low, high = low - pad, high + pad
        if which == "y" and self.y_label and self._tall:
            # Room for the label over the highest point, which would be under it.
            room = _LABEL / (self._area().height() - _LABEL) * (high - low)
            low, high = (low - room, high) if self.y_down else (low, high + room)
        return low, high

    def to_screen(self, x: float, y: float) -> QPointF:
        """Return where a value falls in the widget."""
        return self._all_to_screen(np.array([x]), np.array([y]))[0]

    def _all_to_screen(self, x: np.ndarray, y: np.ndarray) -> list[QPointF]:
        """Return where values fall; the limits are looked for once for all of them."""
        area = self._area()
        (x0, x1), (y0, y1) = self._limits("x"), self._limits("y")
        share = (np.asarray(y, dtype=float) - y0) / (y1 - y0)
        share = share if self.y_down else 1 - share
        across = area.left() + (np.asarray(x, dtype=float) - x0) / (x1 - x0) * area.width()
        return [QPointF(a, b) for a, b in zip(across.tolist(), (area.top() + share * area.height()).tolist())]

    def _line_through(self, x: np.ndarray, y: np.ndarray) -> list[QPointF]:
        good = np.isfinite(y)
        return self._all_to_screen(np.asarray(x)[good], np.asarray(y)[good])

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw it all."""
        with QPainter(self) as painter:
            self.paint_on(painter)

    def paint_on(self, painter: QPainter) -> None:
        """Draw it all with a painter whose origin is the plot's corner."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t, area = self.theme, self._area()
        painter.fillRect(area, t.color("plot"))
        painter.setFont(font("unit"))
        if not any(np.isfinite(s.y).any() for s in self.series):
            painter.setPen(t.color("mute"))
            painter.drawText(area, Qt.AlignmentFlag.AlignCenter, self.empty)
            return
        self._axes(painter, area)
        painter.setClipRect(area.adjusted(-1, -1, 1, 1))
        for low, high, token in self.bands:
            a, b = self.to_screen(low, self._limits("y")[0]), self.to_screen(high, self._limits("y")[0])
            painter.fillRect(QRectF(a.x(), area.top(), b.x() - a.x(), area.height()), t.color(token, 0.10))
            painter.setPen(QPen(t.color("soft"), 1, Qt.PenStyle.DashLine))
            for edge in (a.x(), b.x()):
                painter.drawLine(QPointF(edge, area.top()), QPointF(edge, area.bottom()))
        for xs, ys, token in self.curves:
            painter.setPen(QPen(t.color(token), 1.8))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(self._line_through(xs, ys))
        if self.marker is not None:
            painter.setPen(QPen(t.color("cur"), 1.2))
            x = self.to_screen(self.marker, self._limits("y")[0]).x()
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
        if self.exporting:
            # Drawn anew, as sharp as the paper is.
            painter.save()
            self._draw_points(painter)
            painter.restore()
        else:
            self._points_layer.paint(painter, self, self._points_key(), self._draw_points)
        for points in self.series:
            self._mark_points(painter, points)
        if self._press is not None and self._corner is not None:
            painter.setPen(QPen(t.color("cur"), 1))
            painter.setBrush(t.color("cur", 0.16))
            painter.drawRect(QRectF(self._press, self._corner))
        painter.setClipping(False)
        self._name_axis(painter, area)
        painter.setFont(font("value"))
        for box, text, color, bar in self._placed_notes(painter, area):
            painter.fillRect(box, t.color("raised", 0.9))
            if bar:
                painter.fillRect(QRectF(box.left() + 4, box.top() + 4, 4, box.height() - 8), color)
            painter.setPen(color)
            painter.drawText(box.adjusted(8 if bar else 0, 0, 0, 0), Qt.AlignmentFlag.AlignCenter, text)

    def _notes(self) -> list[tuple[float, float, str, QColor, bool]]:
        """Return notes and names of series: place, words, colour, and whether a bar of the colour stands before them."""
        result = [(x, y, text, self.theme.color(token), False) for x, y, text, token in self.notes]
        for points in self.series:
            last = np.flatnonzero(np.isfinite(points.y))
            if points.name and not points.line and len(last):
                x, y = float(points.x[last[-1]]), float(points.y[last[-1]])
                color = points.color or self.theme.color(points.token)
                result.append((x, y, points.name, color, points.color is not None))
        return result

    def _placed_notes(self, painter: QPainter, area: QRectF) -> list[tuple[QRectF, str, QColor, bool]]:
        """Return where notes stand: as near to their places as the data, and one another, leave free."""
        notes = self._notes()
        if not notes:
            return []
        data = [(p.x(), p.y()) for s in self.series for p in self._all_to_screen(s.x, s.y)]
        data += [(p.x(), p.y()) for xs, ys, _ in self.curves for p in self._line_through(xs, ys)]
        points = np.array([place for place in data if math.isfinite(sum(place))]).reshape(-1, 2)
        # The axis's own words are in the way too.
        words = painter.fontMetrics().horizontalAdvance(self.y_label)
        taken: list[QRectF] = [QRectF(area.left(), area.top(), words + 10, 18)] if self._tall else []
        result = []
        for x, y, text, color, bar in notes:
            width, height = painter.fontMetrics().horizontalAdvance(text) + (20 if bar else 12), 20.0
            lefts = np.arange(area.left() + 2, max(area.right() - width, area.left() + 3), 12.0)
            tops = np.arange(area.top() + 2, area.bottom() - height, 6.0)[:, np.newaxis]
            place = self.to_screen(x, y)
            cost = np.hypot(lefts + width / 2 - place.x(), tops + height / 2 - place.y())
            # A point that is hidden costs more than any way over the plot: columns and rows that hold it, multiplied.
            across = (points[:, :1] > lefts - 4) & (points[:, :1] < lefts + width + 4)
            down = (points[:, 1] > tops - 3) & (points[:, 1] < tops + height + 3)
            cost += 5000.0 * (down.astype(float) @ across.astype(float))
            for other in taken:
                beside = (lefts >= other.right()) | (lefts + width <= other.left())
                apart = (tops >= other.bottom()) | (tops + height <= other.top())
                cost += 50000.0 * ~(beside | apart)
            best = QRectF()
            if cost.size:
                row, column = np.unravel_index(int(np.argmin(cost)), cost.shape)
                best = QRectF(float(lefts[column]), float(tops[row, 0]), width, height)
            taken.append(best.adjusted(-2, -2, 2, 2))
            result.append((best, text, color, bar))
        return result

    def _name_axis(self, painter: QPainter, area: QRectF) -> None:
        painter.setFont(font("unit"))
        painter.setPen(self.theme.color("soft"))
        place = QPointF(5, 12) if self._tall else QPointF(0, -5)
        painter.drawText(area.topLeft() + place, self.y_label)

    def _axes(self, painter: QPainter, area: QRectF) -> None:
        t = self.theme
        y0, y1 = self._limits("y")
        ticks = self.places_of(y0, y1, self._ticks)
        step = ticks[1] - ticks[0] if len(ticks) > 1 else 1.0
        for value in ticks:
            y = self.to_screen(self._limits("x")[0], value).y()
            painter.setPen(QPen(t.color("grid"), 1))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(t.color("mute"))
            painter.drawText(
                QRectF(0, y - 8, area.left() - 6, 16),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                self.y_words(value, step),
            )
        x0, x1 = self._limits("x")
        ticks = self.places_of(x0, x1, max(3, int(area.width() // 90)))
        step = ticks[1] - ticks[0] if len(ticks) > 1 else 1.0
        for value in ticks:
            x = self.to_screen(value, y0).x()
            painter.setPen(QPen(t.color("grid"), 1))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            if self.show_x:
                painter.setPen(t.color("mute"))
                text = self.x_words(value, step)
                half = painter.fontMetrics().horizontalAdvance(text) / 2 + 1
                # A number at the end of the axis stays inside the widget.
                middle = min(max(x, half), self.width() - half)
                painter.drawText(QRectF(middle - 40, area.bottom() + 2, 80, 14), Qt.AlignmentFlag.AlignCenter, text)
        if self.show_x and self.x_label:
            painter.setPen(t.color("mute"))
            painter.drawText(
                QRectF(area.left(), area.bottom() + 15, area.width(), 16),
                Qt.AlignmentFlag.AlignRight,
                self.x_label,
            )

    def _points_key(self) -> tuple:
        """All that the places and looks of the points go by."""
        shown = [
            (
                s.x.tobytes(),
                s.y.tobytes(),
                b"" if s.error is None else s.error.tobytes(),
                tuple(s.kinds),
                s.token,
                s.line,
                None if s.color is None else s.color.name(),
                s.shape,
            )
            for s in self.series
        ]
        return (self.theme.name, self._limits("x"), self._limits("y"), self.y_down, shown)

    def _draw_points(self, painter: QPainter) -> None:
        t = self.theme
        painter.setClipRect(self._area().adjusted(-1, -1, 1, 1))
        for points in self.series:
            if points.line:
                painter.setPen(QPen(t.color(points.token), 1.6))
                painter.drawPolyline(self._line_through(points.x, points.y))
                continue
            places = self._all_to_screen(points.x, points.y)
            if points.error is not None:
                ends = zip(
                    self._all_to_screen(points.x, points.y - points.error),
                    self._all_to_screen(points.x, points.y + points.error),
                )
                painter.setPen(QPen(t.color("mute"), 1))
                painter.drawLines([QLineF(a, b) for a, b in ends if math.isfinite(a.x() + a.y() + b.y())])
            kinds = points.kinds or ["kept"] * len(places)
            there = [(p, kind) for p, kind in zip(places, kinds) if math.isfinite(p.x() + p.y())]
            own = points.token != "text" or points.color is not None
            if points.color is not None:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(points.color)
                for place, kind in there:
                    if kind == "kept":
                        painter.drawPath(glyphs.shape_path(points.shape, place.x(), place.y(), 3.2))
                painter.setBrush(Qt.BrushStyle.NoBrush)
            elif own:
                painter.setPen(glyphs.round_pen(t.color(points.token), 4.8))
                painter.drawPoints([p for p, kind in there if kind == "kept"])
            glyphs.draw_dots(painter, t, [(p.x(), p.y(), kind) for p, kind in there if not (own and kind == "kept")])

    def _mark_points(self, painter: QPainter, points: Points) -> None:
        """Mark the selected and the current point of a series."""
        t, shown = self.theme, not points.line
        marked = [i for key in {*self.selected, self.current} - {""} for i in points.places.get(key, ())]
        for i, place in zip(
            marked, self._all_to_screen(points.x[marked], points.y[marked]) if marked and shown else ()
        ):
            if not math.isfinite(place.x() + place.y()):
                continue
            if (key := points.keys[i]) in self.selected:
                painter.setPen(QPen(t.color("cur"), 1.2))
                painter.setBrush(t.color("cur", 0.25))
                painter.drawEllipse(place, 4.5, 4.5)
            if key == self.current:
                painter.setPen(QPen(t.color("cur"), 2))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawEllipse(place, 6, 6)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Start a click or a rectangle."""
        self._press = event.position()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Draw the rectangle out."""
        if self._press is not None and self._on_brush is not None:
            if (event.position() - self._press).manhattanLength() > 5:
                self._corner = event.position()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Take the nearest point within 20 px, or those in the rectangle."""
        press, corner = self._press, self._corner
        self._press = self._corner = None
        if press is None:
            return
        if corner is not None and self._on_brush is not None:
            box = QRectF(press, corner).normalized()
            self._on_brush([key for key, place in self._places() if box.contains(place)])
            self.update()
            return
        best, chosen = 400.0, ""
        for key, place in self._places():
            distance = (place.x() - press.x()) ** 2 + (place.y() - press.y()) ** 2
            if distance < best:
                best, chosen = distance, key
        if chosen and self._on_pick is not None:
            self._on_pick(chosen)

    def _places(self) -> list[tuple[str, QPointF]]:
        return [
            (key, place)
            for points in self.series
            for key, place in zip(points.keys, self._all_to_screen(points.x, points.y))
            if math.isfinite(place.x() + place.y())
        ]
