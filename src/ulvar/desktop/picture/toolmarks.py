"""What tools draw over the picture: borders, lines, rectangles, the loupe, the cursor of the keyboard."""

from __future__ import annotations

import math
from typing import Protocol

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPainterPath, QPen, QPolygonF

from ulvar.desktop.parts.theme import Theme, font
from ulvar.desktop.picture.overlays import halo_text
from ulvar.desktop.picture.pictures import Picture
from ulvar.desktop.picture.sight import Sight
from ulvar.desktop.picture.stretch import Stretch


class Shown(Protocol):
    """What the marks of tools are painted by: the picture's canvas."""

    picture: Picture | None
    second: Picture | None
    sides: tuple[str, str]
    stretch: Stretch
    theme: Theme
    sight: Sight
    border: float
    mode: str
    line: tuple[QPointF, QPointF] | None
    box: QRectF | None
    loupe: QPointF | None
    loupe_words: list[str]
    pointer: QPointF | None
    corners: list[QPointF]
    corner: QPointF | None
    pressed: QPointF | None

    @property
    def sky(self) -> Theme:
        """The theme of what is drawn on the picture."""

    def width(self) -> int:
        """Return its width [px]."""

    def height(self) -> int:
        """Return its height [px]."""

    def as_image(self, grey: np.ndarray, stretch: Stretch) -> QImage:
        """Return grey levels as an image in the colours of the stretch."""


def paint_tools(painter: QPainter, canvas: Shown) -> None:
    """Draw the border of a comparison, the line, the rectangle, what is being drawn, and the cursor of the keyboard."""
    painter.setPen(QPen(canvas.sky.color("cur"), 1.6))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if canvas.second is not None:
        x = canvas.border * canvas.width()
        painter.drawLine(QPointF(x, 0), QPointF(x, canvas.height()))
        painter.setBrush(canvas.sky.color("cur"))
        painter.drawRoundedRect(QRectF(x - 3, canvas.height() / 2 - 14, 6, 28), 3, 3)
        left, right = canvas.sides
        for text, start in ((left, x - 12 - painter.fontMetrics().horizontalAdvance(left)), (right, x + 12)):
            halo_text(painter, QPointF(start, 40), text, canvas.sky.color("text"))
    if canvas.line is not None:
        a, b = (canvas.sight.to_screen(p.x(), p.y()) for p in canvas.line)
        painter.setPen(QPen(canvas.sky.color("cur"), 1.6))
        painter.drawLine(a, b)
        painter.setBrush(canvas.sky.color("cur"))
        for end in (a, b):
            painter.drawEllipse(end, 3.5, 3.5)
    if canvas.box is not None:
        painter.setPen(QPen(canvas.sky.color("cur"), 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        sides = (canvas.box.topLeft(), canvas.box.topRight(), canvas.box.bottomRight(), canvas.box.bottomLeft())
        painter.drawPolygon(QPolygonF([canvas.sight.to_screen(p.x(), p.y()) for p in sides]))
    painter.setPen(QPen(canvas.sky.color("cur"), 1.6, Qt.PenStyle.DashLine))
    painter.setBrush(canvas.sky.color("cur", 0.16))
    if canvas.corners:
        ends = [canvas.sight.to_screen(p.x(), p.y()) for p in canvas.corners]
        painter.drawPolyline(QPolygonF([*ends, canvas.corner] if canvas.corner is not None else ends))
    elif canvas.corner is not None and canvas.pressed is not None:
        if canvas.mode == "circle":
            delta = canvas.corner - canvas.pressed
            radius = math.hypot(delta.x(), delta.y())
            painter.drawEllipse(canvas.pressed, radius, radius)
        else:
            painter.drawRect(QRectF(canvas.pressed, canvas.corner))
    if canvas.pointer is not None:
        _paint_cursor(painter, canvas.sight.to_screen(canvas.pointer.x(), canvas.pointer.y()), canvas.sky)


def _paint_cursor(painter: QPainter, at: QPointF, theme: Theme) -> None:
    """Draw a cross that leaves its middle free, dark about the lines so that it is seen on any star."""
    for color, width in ((QColor("#000000"), 4.4), (theme.color("cur"), 2.0)):
        painter.setPen(QPen(color, width))
        for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
            painter.drawLine(at + QPointF(6 * dx, 6 * dy), at + QPointF(16 * dx, 16 * dy))


def paint_body(painter: QPainter, sight: Sight, place: tuple[float, float, bool], theme: Theme) -> None:
    """Draw corners about a moving body, dashed where it is expected by its marks in other exposures."""
    x, y, marked = place
    at, reach, arm = sight.to_screen(x, y), 15.0, 8.0
    path = QPainterPath()
    for sx, sy in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
        corner = at + QPointF(sx * reach, sy * reach)
        path.moveTo(corner - QPointF(sx * arm, 0))
        path.lineTo(corner)
        path.lineTo(corner - QPointF(0, sy * arm))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for color, width in ((QColor("#000000"), 4.0), (theme.color("cur"), 1.8)):
        painter.setPen(QPen(color, width, Qt.PenStyle.SolidLine if marked else Qt.PenStyle.DotLine))
        painter.drawPath(path)
    words = "moving body" if marked else "moving body, expected"
    halo_text(painter, at + QPointF(reach + 6, -reach + 4), words, theme.color("cur"))


def paint_loupe(painter: QPainter, canvas: Shown) -> None:
    """Magnify the pixels under the cursor in a corner, with what is measured there."""
    if canvas.loupe is None or canvas.picture is None or canvas.picture.quick:
        return
    reach, side = 7, 10
    x, y = round(canvas.loupe.x()), round(canvas.loupe.y())
    data = canvas.picture.data
    n = 2 * reach + 1
    values = np.full((n, n), np.nan, dtype=np.float32)
    y0, y1 = max(0, y - reach), min(data.shape[0], y + reach + 1)
    x0, x1 = max(0, x - reach), min(data.shape[1], x + reach + 1)
    if y1 <= y0 or x1 <= x0:
        return
    values[y0 - y + reach : y1 - y + reach, x0 - x + reach : x1 - x + reach] = data[y0:y1, x0:x1]
    image = canvas.as_image(canvas.stretch.apply(values, canvas.picture.sample.values)[::-1], canvas.stretch)
    size = n * side
    # It steps aside when the cursor comes near.
    at = canvas.sight.to_screen(canvas.loupe.x(), canvas.loupe.y())
    left = 10.0 if at.x() > canvas.width() / 2 else canvas.width() - size - 10.0
    box = QRectF(left, 10, size, size)
    tall = 8 + 16 * len(canvas.loupe_words)
    painter.fillRect(box.adjusted(-3, -3, 3, 3 + tall), canvas.theme.color("panel", 0.94))
    painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, False)
    painter.drawImage(box, image)
    painter.setPen(QPen(canvas.sky.color("cur"), 1.4))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(QRectF(box.left() + reach * side, box.top() + reach * side, side, side))
    painter.setFont(font("value"))
    painter.setPen(canvas.theme.color("text"))
    for i, words in enumerate(canvas.loupe_words):
        painter.drawText(QPointF(box.left() + 4, box.bottom() + 16 + 16 * i), words)
