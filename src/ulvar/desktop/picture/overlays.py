"""Marks on the picture: detections, catalogue stars, roles with apertures, residual arrows."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
from PySide6.QtCore import QLine, QLineF, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QBrush, QColor, QPainter, QPainterPath, QPen, QPixmap, QPolygonF

from ulvar.astrometry import Wcs
from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.theme import Theme, font
from ulvar.desktop.picture.pictures import Picture
from ulvar.desktop.picture.sight import Sight

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
    chosen: tuple[float, float] | None = None
    trails: np.ndarray = field(default_factory=lambda: np.empty((0, 5)))
    regions: list[list[tuple[float, float]]] = field(default_factory=list)
    mask: np.ndarray | None = None
    saturation: float | None = None
    aperture: tuple[float, float, float] | None = None
    wcs: Wcs | None = None
    grid: bool = False
    caption: str = ""
    # A moving body: its place, and whether it is marked there or expected.
    body: tuple[float, float, bool] | None = None
    # Named places and moving bodies; a pair of stars with what is measured of it.
    places: list[tuple[str, float, float]] = field(default_factory=list)
    bodies: list[tuple[str, float, float]] = field(default_factory=list)
    pair: tuple[tuple[float, float], tuple[float, float], str] | None = None
    # Candidates and variable stars: name, place, ``good``, ``bad`` or ``varies``, and whether it is the one that is looked at.
    candidates: list[tuple[str, float, float, str, bool]] = field(default_factory=list)


@dataclass(frozen=True)
class Scene:
    """What marks are painted by: where the picture lies, what it is, and the colours.

    Attributes
    ----------
    sight : Sight
    overlay : Overlay
    picture : Picture or None
    theme, sky : Theme
        The window's, and that of what is drawn on the picture.
    ratio : float
        Device pixels for a screen pixel.
    """

    sight: Sight
    overlay: Overlay
    picture: Picture | None
    theme: Theme
    sky: Theme
    ratio: float


def _color(scene: Scene, role: str) -> QColor:
    if scene.theme.name == "red":
        return scene.sky.color("text")
    return QColor(_SKY[role])


def paint_overlay(painter: QPainter, scene: Scene) -> None:
    """Paint all marks that the overlay holds."""
    overlay = scene.overlay
    _mask(painter, scene)
    _regions(painter, scene)
    _trails(painter, scene)
    _defects(painter, scene)
    _detections(painter, scene)
    _catalogue(painter, scene)
    _residuals(painter, scene)
    for mark in overlay.roles:
        _role(painter, scene, mark)
    if overlay.roles and overlay.aperture is not None:
        row = 20 + 18 * (bool(overlay.caption) + bool(len(overlay.residuals)))
        halo_text(painter, QPointF(12, row), aperture_words(overlay.aperture), scene.sky.color("text"))
    if overlay.caption:
        halo_text(painter, QPointF(12, 20), overlay.caption, scene.sky.color("text"))


def halo_text(painter: QPainter, place: QPointF, text: str, color: QColor) -> None:
    """Draw text with a black halo, readable over stars."""
    path = QPainterPath()
    path.addText(place, font("value"), text)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(
        QPen(QColor("#000000"), 3, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin)
    )
    painter.drawPath(path)
    painter.fillPath(path, color)


def _stamp(
    painter: QPainter, scene: Scene, places: np.ndarray, reach: int, pen: QPen, draw: Callable[[QPainter], object]
) -> None:
    """Put the same small mark at many image positions: drawn once about (0, 0), then copied.

    Hundreds of lines cost more than all else on the picture.
    """
    ratio = scene.ratio
    side = 2 * reach + 1
    mark = QPixmap(QSize(side, side) * ratio)
    mark.setDevicePixelRatio(ratio)
    mark.fill(Qt.GlobalColor.transparent)
    inside = QPainter(mark)
    inside.translate(reach, reach)
    inside.setPen(pen)
    draw(inside)
    inside.end()
    for x, y in scene.sight.places(places):
        painter.drawPixmap(math.floor(x) - reach, math.floor(y) - reach, mark)


def _detections(painter: QPainter, scene: Scene) -> None:
    pen = QPen(scene.sky.color("good") if scene.theme.name != "red" else scene.sky.color("text"), 1)
    ticks = [QLine(dx * 4, dy * 4, dx * 8, dy * 8) for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1))]
    _stamp(painter, scene, scene.overlay.detections, 8, pen, lambda p: p.drawLines(ticks))
    if scene.overlay.chosen is not None:
        painter.setPen(QPen(scene.sky.color("cur"), 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(scene.sight.to_screen(*scene.overlay.chosen), 11, 11)


# Kinds of masked pixels: words, bits, colour, sign. The sign tells them apart where colour does not.
MASK_KINDS = (
    ("saturated", 2 | 4, "#FF8257", "full"), ("hot", 8, "#E69F00", "plus"), ("cold or column", 16 | 32, "#56B4E9", "minus"),
    ("cosmic ray", 64, "#CC79A7", "cross"), ("trail", 128, "#009E73", "slash"), ("no data", 1, "#98A3AE", "open"),
)  # fmt: skip
# Of more than that in view signs would run into each other: single dots show where they lie.
_SIGNS = 1500


def mask_words(mask: int) -> str:
    """Return the kinds of a masked pixel in words; empty for one that is not masked."""
    return ", ".join(words for words, bits, _, _ in MASK_KINDS if mask & bits)


def _draw_signs(painter: QPainter, sign: str, color: QColor, places: Sequence[QPointF], side: float) -> None:
    """Draw a kind's sign at places, so wide."""
    r = side / 2
    if sign in ("full", "open"):
        painter.setPen(Qt.PenStyle.NoPen if sign == "full" else QPen(color, 1.4))
        painter.setBrush(color if sign == "full" else Qt.BrushStyle.NoBrush)
        painter.drawRects([QRectF(p.x() - r, p.y() - r, side, side) for p in places])
        return
    strokes = {
        "plus": ((-1, 0, 1, 0), (0, -1, 0, 1)), "minus": ((-1, 0, 1, 0),), "cross": ((-1, -1, 1, 1), (-1, 1, 1, -1)),
        "slash": ((-1, 1, 1, -1),),
    }[sign]  # fmt: skip
    painter.setPen(QPen(color, max(1.4, side / 5)))
    painter.drawLines(
        [QLineF(p.x() + a * r, p.y() + b * r, p.x() + c * r, p.y() + d * r) for p in places for a, b, c, d in strokes]
    )


def _mask(painter: QPainter, scene: Scene) -> None:
    """Mark masked and saturated pixels by kind; where many share a screen pixel, one of them is enough to show."""
    overlay, picture = scene.overlay, scene.picture
    if picture is None or picture.quick or (overlay.mask is None and overlay.saturation is None):
        return
    left, low, right, high = scene.sight.in_view()
    height, width = picture.shape
    x0, x1, y0, y1 = max(0, int(left)), min(width, int(right) + 2), max(0, int(low)), min(height, int(high) + 2)
    if x1 <= x0 or y1 <= y0:
        return
    part = np.zeros((y1 - y0, x1 - x0), dtype=np.uint16)
    if overlay.mask is not None and overlay.mask.shape == picture.shape:
        part |= overlay.mask[y0:y1, x0:x1]
    if overlay.saturation is not None:
        part[picture.data[y0:y1, x0:x1] >= overlay.saturation] |= 2
    seen = []
    for words, bits, color, sign in MASK_KINDS:
        ys, xs = np.nonzero(part & bits)
        if not len(xs):
            continue
        tint = scene.sky.color("text") if scene.theme.name == "red" else QColor(color)
        seen.append((words, len(xs), tint, sign))
        crowded = len(xs) > _SIGNS
        if len(xs) > 20_000:
            step = len(xs) // 20_000 + 1
            ys, xs = ys[::step], xs[::step]
        places = [scene.sight.to_screen(float(x + x0), float(y + y0)) for x, y in zip(xs, ys)]
        side = max(1.6, scene.sight.scale) if crowded else max(5.0, 0.8 * scene.sight.scale)
        _draw_signs(painter, "full" if crowded else sign, tint, places, side)
    for i, (words, count, tint, sign) in enumerate(seen):
        place = QPointF(26, 24 + 18 * i)
        _draw_signs(painter, sign, tint, [QPointF(17, place.y() - 5)], 9.0)
        halo_text(painter, place, f"{words} {count:,}".replace(",", "\u2009"), scene.sky.color("text"))
    if not seen:
        halo_text(painter, QPointF(12, 24), "no masked pixels in view", scene.sky.color("text"))


def _regions(painter: QPainter, scene: Scene) -> None:
    """Regions without star finding: hatched, with a dashed edge."""
    for corners in scene.overlay.regions:
        shape = QPolygonF([scene.sight.to_screen(x, y) for x, y in corners])
        painter.setPen(QPen(_color(scene, "off"), 1.4, Qt.PenStyle.DashLine))
        painter.setBrush(QBrush(scene.sky.color("off", 0.5), Qt.BrushStyle.BDiagPattern))
        painter.drawPolygon(shape)


def _trails(painter: QPainter, scene: Scene) -> None:
    """A line on either side of a trail, so that it stays in sight."""
    painter.setPen(QPen(_color(scene, "check"), 1.2, Qt.PenStyle.DashLine))
    for x0, y0, x1, y1, broad in scene.overlay.trails:
        length = math.hypot(x1 - x0, y1 - y0) or 1.0
        nx, ny = -(y1 - y0) / length, (x1 - x0) / length
        aside = broad + 6 / scene.sight.scale
        for side in (-aside, aside):
            painter.drawLine(
                scene.sight.to_screen(x0 + side * nx, y0 + side * ny),
                scene.sight.to_screen(x1 + side * nx, y1 + side * ny),
            )


def _defects(painter: QPainter, scene: Scene) -> None:
    """Frames about defective pixels; of many only those in sight are drawn, and not more than can be told apart."""
    pixels = scene.overlay.defects
    if not len(pixels):
        return
    left, low, right, high = scene.sight.in_view()
    inside = (
        (pixels[:, 0] > left - 1) & (pixels[:, 0] < right + 1) & (pixels[:, 1] > low - 1) & (pixels[:, 1] < high + 1)
    )  # fmt: skip
    seen = pixels[inside]
    step = max(1, len(seen) // 6000)
    side = max(3.0, scene.sight.scale + 2)
    painter.setPen(QPen(scene.sky.color("check"), 1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRects(
        [
            QRectF(p.x() - side / 2, p.y() - side / 2, side, side)
            for p in (scene.sight.to_screen(float(x), float(y)) for x, y in seen[::step])
        ]
    )


def _catalogue(painter: QPainter, scene: Scene) -> None:
    pen = QPen(_color(scene, "comparison"), 1)
    _stamp(painter, scene, scene.overlay.catalogue, 5, pen, lambda p: p.drawRect(-5, -5, 10, 10))


def _residuals(painter: QPainter, scene: Scene) -> None:
    if not len(scene.overlay.residuals):
        return
    # Residuals are a small part of a pixel; arrows are drawn so that a typical one is seen.
    length = float(np.median(np.hypot(scene.overlay.residuals[:, 2], scene.overlay.residuals[:, 3])))
    factor = 16 / max(length, 1e-6)
    painter.setPen(QPen(_color(scene, "comparison"), 1.3))
    for x, y, dx, dy in scene.overlay.residuals:
        a = scene.sight.to_screen(float(x), float(y))
        # As long on the screen at any zoom, turned with the picture.
        step = factor / scene.sight.scale
        b = scene.sight.to_screen(float(x) + step * float(dx), float(y) + step * float(dy))
        painter.drawLine(a, b)
        angle = math.atan2(b.y() - a.y(), b.x() - a.x())
        for turn in (2.6, -2.6):
            painter.drawLine(b, QPointF(b.x() + 5 * math.cos(angle + turn), b.y() + 5 * math.sin(angle + turn)))
    # An arrow of the median's length beside its number says by how much all are enlarged.
    painter.drawLine(QPointF(12, 15), QPointF(28, 15))
    halo_text(painter, QPointF(36, 20), f"residual of {length:.3f} px, the median", scene.sky.color("text"))


def _role(painter: QPainter, scene: Scene, mark: RoleMark) -> None:
    p = scene.sight.to_screen(mark.x, mark.y)
    color = _color(scene, "off" if mark.suspect else mark.role)
    radius = _role_radius(scene)
    if scene.overlay.aperture is not None:
        aperture, inner, outer = (r * scene.sight.scale for r in scene.overlay.aperture)
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
    halo_text(painter, role_name_at(scene, mark), mark.name, color)


def _role_radius(scene: Scene) -> float:
    return 26.0 if scene.overlay.aperture is None else max(20.0, scene.overlay.aperture[2] * scene.sight.scale + 6)


def role_frame(scene: Scene, mark: RoleMark) -> QRectF:
    """Return what the mark of a star with a role covers."""
    reach = QPointF(1, 1) * _role_radius(scene)
    at = scene.sight.to_screen(mark.x, mark.y)
    return QRectF(at - reach, at + reach)


def role_name_at(scene: Scene, mark: RoleMark) -> QPointF:
    """Return where the name of a star with a role begins."""
    radius = _role_radius(scene)
    return scene.sight.to_screen(mark.x, mark.y) + QPointF(radius * 0.9 + 4, -radius * 0.72)


def aperture_words(radii: tuple[float, float, float]) -> str:
    """Return aperture and annulus with their units."""
    aperture, inner, outer = radii
    return f"aperture {aperture:.1f} px, annulus {inner:.1f} to {outer:.1f} px"
