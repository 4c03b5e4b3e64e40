"""Marks on the picture: detections, catalogue stars, roles with apertures, residual arrows, compass and scale bar."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen

from ulvar.astrometry import Wcs
from ulvar.desktop import glyphs
from ulvar.desktop.theme import font

if TYPE_CHECKING:
    from ulvar.desktop.canvas import Canvas

# On the sky the roles keep these colours in dark and light alike.
_SKY = {"target": "#E69F00", "comparison": "#56B4E9", "check": "#CC79A7", "off": "#C3CBD3"}


@dataclass(frozen=True)
class RoleMark:
    """A star with a role in the picture."""

    name: str
    role: str
    x: float
    y: float
    suspect: bool = False


@dataclass
class Overlay:
    """What is drawn over the picture, in image positions."""

    detections: np.ndarray = field(default_factory=lambda: np.empty((0, 2)))
    catalogue: np.ndarray = field(default_factory=lambda: np.empty((0, 2)))
    residuals: np.ndarray = field(default_factory=lambda: np.empty((0, 4)))
    roles: list[RoleMark] = field(default_factory=list)
    defects: np.ndarray = field(default_factory=lambda: np.empty((0, 2)))
    aperture: tuple[float, float, float] | None = None
    wcs: Wcs | None = None
    grid: bool = False
    caption: str = ""


def _color(canvas: Canvas, role: str) -> QColor:
    if canvas.theme.name == "red":
        return canvas.theme.color("text")
    return QColor(_SKY[role])


def paint_overlay(painter: QPainter, canvas: Canvas) -> None:
    """Paint all marks that the overlay holds."""
    overlay = canvas.overlay
    _grid(painter, canvas)
    _defects(painter, canvas)
    _detections(painter, canvas)
    _catalogue(painter, canvas)
    _residuals(painter, canvas)
    for mark in overlay.roles:
        _role(painter, canvas, mark)
    if overlay.wcs is not None:
        _compass(painter, canvas, overlay.wcs)
    if overlay.caption:
        halo_text(painter, canvas, QPointF(12, 20), overlay.caption, canvas.theme.color("text"))


def halo_text(painter: QPainter, canvas: Canvas, place: QPointF, text: str, color: QColor) -> None:
    """Draw text with a black halo, readable over stars."""
    path = QPainterPath()
    path.addText(place, font("value"), text)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(
        QPen(QColor("#000000"), 3, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin)
    )
    painter.drawPath(path)
    painter.fillPath(path, color)


def _detections(painter: QPainter, canvas: Canvas) -> None:
    painter.setPen(QPen(canvas.theme.color("good") if canvas.theme.name != "red" else canvas.theme.color("text"), 1))
    for x, y in canvas.overlay.detections:
        p = canvas.to_screen(float(x), float(y))
        for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
            painter.drawLine(QPointF(p.x() + 4 * dx, p.y() + 4 * dy), QPointF(p.x() + 8 * dx, p.y() + 8 * dy))


def _defects(painter: QPainter, canvas: Canvas) -> None:
    """Frames about defective pixels; of many only those in sight are drawn, and not more than can be told apart."""
    pixels = canvas.overlay.defects
    if not len(pixels):
        return
    low, high = canvas.to_image(QPointF(0, canvas.height())), canvas.to_image(QPointF(canvas.width(), 0))
    inside = (
        (pixels[:, 0] > low.x() - 1) & (pixels[:, 0] < high.x() + 1)
        & (pixels[:, 1] > low.y() - 1) & (pixels[:, 1] < high.y() + 1)
    )  # fmt: skip
    seen = pixels[inside]
    step = max(1, len(seen) // 6000)
    side = max(3.0, canvas.scale + 2)
    painter.setPen(QPen(canvas.theme.color("check"), 1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRects(
        [
            QRectF(p.x() - side / 2, p.y() - side / 2, side, side)
            for p in (canvas.to_screen(float(x), float(y)) for x, y in seen[::step])
        ]
    )


def _catalogue(painter: QPainter, canvas: Canvas) -> None:
    painter.setPen(QPen(_color(canvas, "comparison"), 1.1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for x, y in canvas.overlay.catalogue:
        p = canvas.to_screen(float(x), float(y))
        painter.drawRect(QRectF(p.x() - 5, p.y() - 5, 10, 10))


def _residuals(painter: QPainter, canvas: Canvas) -> None:
    if not len(canvas.overlay.residuals):
        return
    # Residuals are a small part of a pixel; arrows are drawn so that a typical one is seen.
    length = float(np.median(np.hypot(canvas.overlay.residuals[:, 2], canvas.overlay.residuals[:, 3])))
    factor = 16 / max(length, 1e-6)
    painter.setPen(QPen(_color(canvas, "comparison"), 1.3))
    for x, y, dx, dy in canvas.overlay.residuals:
        a = canvas.to_screen(float(x), float(y))
        b = QPointF(a.x() + factor * dx, a.y() - factor * dy)
        painter.drawLine(a, b)
        angle = math.atan2(b.y() - a.y(), b.x() - a.x())
        for turn in (2.6, -2.6):
            painter.drawLine(b, QPointF(b.x() + 5 * math.cos(angle + turn), b.y() + 5 * math.sin(angle + turn)))
    halo_text(
        painter,
        canvas,
        QPointF(12, 20),
        f"arrows: residuals, median {length:.3f} px",
        canvas.theme.color("text"),
    )


def _role(painter: QPainter, canvas: Canvas, mark: RoleMark) -> None:
    p = canvas.to_screen(mark.x, mark.y)
    color = _color(canvas, "off" if mark.suspect else mark.role)
    radius = 26.0
    if canvas.overlay.aperture is not None:
        aperture, inner, outer = (r * canvas.scale for r in canvas.overlay.aperture)
        radius = max(20.0, outer + 6)
        ring = QPainterPath()
        ring.addEllipse(p, outer, outer)
        ring.addEllipse(p, inner, inner)
        band = QColor(color)
        band.setAlphaF(0.22)
        painter.fillPath(ring, band)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(color, 1.2))
        painter.drawEllipse(p, aperture, aperture)
    style = Qt.PenStyle.DashLine if mark.suspect else Qt.PenStyle.SolidLine
    pen = QPen(color, 1.8, style)
    pen.setCapStyle(Qt.PenCapStyle.FlatCap)
    painter.setPen(pen)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPath(glyphs.role_path(mark.role, p.x(), p.y(), radius))
    halo_text(painter, canvas, QPointF(p.x() + radius * 0.9 + 4, p.y() - radius * 0.72), mark.name, color)


def _compass(painter: QPainter, canvas: Canvas, wcs: Wcs) -> None:
    """Arrows to north and east, and a bar of a round angle."""
    middle = canvas.centre
    ra, dec = wcs.sky(middle.x(), middle.y())
    step = 30 / 3600
    north = wcs.pixel(ra, dec + step)
    east = wcs.pixel(ra + step / max(math.cos(math.radians(float(dec))), 1e-6), dec)
    origin = QPointF(canvas.width() - 44, canvas.height() - 40)
    painter.setPen(QPen(QColor("#E8ECF0") if canvas.theme.name != "red" else canvas.theme.color("text"), 1.5))
    for letter, (x, y) in (("N", north), ("E", east)):
        dx, dy = float(x) - middle.x(), -(float(y) - middle.y())
        norm = math.hypot(dx, dy) or 1.0
        end = QPointF(origin.x() + 24 * dx / norm, origin.y() + 24 * dy / norm)
        painter.drawLine(origin, end)
        place = QPointF(origin.x() + 34 * dx / norm - 4, origin.y() + 34 * dy / norm + 4)
        pen = painter.pen()
        halo_text(painter, canvas, place, letter, pen.color())
        painter.setPen(pen)
    per_px = wcs.scale_arcsec_px / canvas.scale
    length, label = next(
        ((v, t) for v, t in ((10, "10″"), (30, "30″"), (60, "1′"), (120, "2′"), (300, "5′"), (600, "10′"), (1800, "30′"), (3600, "1°"))
         if v / per_px > 60), (7200, "2°"),
    )  # fmt: skip
    width = length / per_px
    y = canvas.height() - 20
    painter.drawLine(QPointF(14, y), QPointF(14 + width, y))
    for x in (14, 14 + width):
        painter.drawLine(QPointF(x, y - 4), QPointF(x, y + 4))
    halo_text(painter, canvas, QPointF(20 + width, y + 4), label, painter.pen().color())


def _grid(painter: QPainter, canvas: Canvas) -> None:
    """Lines of equal right ascension and declination."""
    overlay = canvas.overlay
    if not overlay.grid or overlay.wcs is None:
        return
    wcs = overlay.wcs
    corners = [canvas.to_image(QPointF(x, y)) for x in (0, canvas.width()) for y in (0, canvas.height())]
    ra, dec = wcs.sky(np.array([c.x() for c in corners]), np.array([c.y() for c in corners]))
    step = next((s for s in (1 / 60, 2 / 60, 5 / 60, 10 / 60, 0.5, 1, 2, 5) if float(np.ptp(dec)) / s < 7), 10)
    painter.setPen(QPen(canvas.theme.color("note", 0.6), 1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    ra0 = float(ra[0])
    turned = (ra - ra0 + 180) % 360 - 180
    ra_step = step / max(math.cos(math.radians(float(dec.mean()))), 0.05)
    ra_step = next((s for s in (1 / 60, 2 / 60, 0.0625, 0.125, 0.25, 0.5, 1, 2, 5, 10) if s >= ra_step), 15)
    for value in np.arange(math.floor(dec.min() / step) * step, dec.max() + step, step):
        line = np.linspace(ra0 + turned.min(), ra0 + turned.max(), 60)
        _polyline(painter, canvas, *wcs.pixel(line, np.full(60, value)))
    low, high = ra0 + turned.min(), ra0 + turned.max()
    for value in np.arange(math.floor(low / ra_step) * ra_step, high + ra_step, ra_step):
        line = np.linspace(dec.min(), dec.max(), 60)
        _polyline(painter, canvas, *wcs.pixel(np.full(60, value), line))


def _polyline(painter: QPainter, canvas: Canvas, x: np.ndarray, y: np.ndarray) -> None:
    painter.drawPolyline([canvas.to_screen(float(a), float(b)) for a, b in zip(x, y) if math.isfinite(a)])
