"""Where the picture lies in the widget: place, zoom, turn. Marks and tools ask it; it knows nothing of widgets."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF


class Sight:
    """The way from image positions (0-based, rows upwards) to places of a widget, and back.

    Attributes
    ----------
    width, height : float
        Of the widget.
    scale : float
        Screen pixels for an image pixel.
    centre : QPointF
        Image position in the middle of the widget.
    turn_deg : float
        Degrees that the picture is turned by, clockwise on the screen, after being mirrored.
    mirrored : bool
    """

    def __init__(self) -> None:
        self.width = self.height = 1.0
        self.scale = 1.0
        self.centre = QPointF(0, 0)
        self.turn_deg = 0.0
        self.mirrored = False

    def fit(self, width: int, height: int) -> None:
        """Take the whole of an image of this size in view."""
        c, s = abs(math.cos(math.radians(self.turn_deg))), abs(math.sin(math.radians(self.turn_deg)))
        self.scale = min(self.width / (width * c + height * s), self.height / (width * s + height * c))
        self.centre = QPointF((width - 1) / 2, (height - 1) / 2)

    def zoom(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom by a factor; the image point at `at` (widget position) stays where it is."""
        place = at or QPointF(self.width / 2, self.height / 2)
        before = self.to_image(place)
        self.scale = min(max(self.scale * factor, 0.01), 64.0)
        self.centre += before - self.to_image(place)

    def _turned(self, dx: Any, dy: Any, back: bool = False) -> tuple[Any, Any]:
        angle = math.radians(-self.turn_deg if back else self.turn_deg)
        c, s = math.cos(angle), math.sin(angle)
        if back:
            x, y = dx * c - dy * s, dx * s + dy * c
            return (-x if self.mirrored else x), y
        x = -dx if self.mirrored else dx
        return x * c - dy * s, x * s + dy * c

    def to_image(self, place: QPointF) -> QPointF:
        """Return the image position (0-based, pixel centres) at a widget position."""
        dx, dy = self._turned(place.x() - self.width / 2, place.y() - self.height / 2, back=True)
        return QPointF(self.centre.x() + dx / self.scale, self.centre.y() - dy / self.scale)

    def to_screen(self, x: float, y: float) -> QPointF:
        """Return the widget position of an image position."""
        dx, dy = self._turned((x - self.centre.x()) * self.scale, -(y - self.centre.y()) * self.scale)
        return QPointF(self.width / 2 + dx, self.height / 2 + dy)

    def places(self, points: np.ndarray) -> list[list[float]]:
        """Return the widget positions of the image positions that are in view, or nearly; shape (n, 2) in and out."""
        if not len(points):
            return []
        dx, dy = self._turned(
            (points[:, 0] - self.centre.x()) * self.scale, -(points[:, 1] - self.centre.y()) * self.scale
        )
        x, y = self.width / 2 + dx, self.height / 2 + dy
        near = (np.abs(dx) < self.width / 2 + 10) & (np.abs(dy) < self.height / 2 + 10)
        return np.column_stack([x[near], y[near]]).tolist()

    def in_view(self) -> tuple[float, float, float, float]:
        """Return x0, y0, x1, y1 of the image that the widget shows, at least."""
        corners = [self.to_image(QPointF(x, y)) for x in (0, self.width) for y in (0, self.height)]
        xs, ys = [c.x() for c in corners], [c.y() for c in corners]
        return min(xs), min(ys), max(xs), max(ys)
