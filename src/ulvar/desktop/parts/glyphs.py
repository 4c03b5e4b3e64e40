"""Marks drawn with a painter: beads, dots, severities, roles, icons. The same glyph looks the same everywhere."""

from __future__ import annotations

import math
from collections.abc import Iterable

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QIcon, QPainter, QPainterPath, QPen, QPixmap, QPolygonF

from ulvar.desktop.parts.theme import Theme


def round_pen(color: QColor, width: float = 1.6, style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> QPen:
    """Return a pen with round ends and corners."""
    pen = QPen(color, width, style)
    pen.setCapStyle(Qt.PenCapStyle.RoundCap)
    pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
    return pen


def triangle(x: float, y: float, r: float) -> QPolygonF:
    """Return an upright triangle about a point."""
    return QPolygonF([QPointF(x, y - r), QPointF(x + r, y + 0.8 * r), QPointF(x - r, y + 0.8 * r)])


def draw_bead(painter: QPainter, theme: Theme, x: float, y: float, state: str) -> None:
    """Draw a station's bead: empty, part, done, stale, attention, running."""
    r = 6.5
    painter.save()
    if state == "attention":
        painter.setPen(round_pen(theme.color("block"), 1.2))
        painter.setBrush(theme.color("block"))
        painter.drawPolygon(triangle(x, y + 0.5, 8.0))
        painter.setPen(round_pen(theme.color("panel"), 1.7))
        painter.drawLine(QPointF(x, y - 2.5), QPointF(x, y + 2.0))
        painter.drawPoint(QPointF(x, y + 4.6))
    elif state == "done":
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.color("soft"))
        painter.drawEllipse(QPointF(x, y), r + 0.5, r + 0.5)
        painter.setPen(round_pen(theme.color("panel"), 1.6))
        painter.drawPolyline([QPointF(x - 3, y), QPointF(x - 0.8, y + 2.4), QPointF(x + 3.2, y - 2.4)])
    elif state == "stale":
        painter.setPen(round_pen(theme.color("soft"), 1.5, Qt.PenStyle.DashLine))
        painter.setBrush(theme.color("panel"))
        painter.drawEllipse(QPointF(x, y), r, r)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.color("soft"))
        painter.drawEllipse(QPointF(x, y), 2.2, 2.2)
    else:
        painter.setBrush(theme.color("panel"))
        painter.setPen(round_pen(theme.color("soft" if state == "part" else "edge"), 1.5))
        painter.drawEllipse(QPointF(x, y), r, r)
        if state == "part":
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.color("soft"))
            painter.drawPie(QRectF(x - r + 2, y - r + 2, 2 * r - 4, 2 * r - 4), -90 * 16, 180 * 16)
        if state == "running":
            painter.setPen(round_pen(theme.color("cur"), 2.4))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawArc(QRectF(x - r, y - r, 2 * r, 2 * r), 90 * 16, -260 * 16)
    painter.restore()


def draw_severity(painter: QPainter, theme: Theme, x: float, y: float, word: str, r: float = 7.0) -> None:
    """Draw a finding's severity: filled triangle with !, open triangle, ring with a dot."""
    painter.save()
    if word == "blocks":
        painter.setPen(round_pen(theme.color("block"), 1.2))
        painter.setBrush(theme.color("block"))
        painter.drawPolygon(triangle(x, y, r))
        painter.setPen(round_pen(theme.color("panel"), 1.5))
        painter.drawLine(QPointF(x, y - 0.35 * r), QPointF(x, y + 0.2 * r))
        painter.drawPoint(QPointF(x, y + 0.56 * r))
    elif word == "check":
        painter.setPen(round_pen(theme.color("check"), 1.5))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolygon(triangle(x, y, r))
    else:
        painter.setPen(round_pen(theme.color("note"), 1.5))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QPointF(x, y), 0.8 * r, 0.8 * r)
        painter.setBrush(theme.color("note"))
        painter.drawEllipse(QPointF(x, y), 1.2, 1.2)
    painter.restore()


def draw_dot(painter: QPainter, theme: Theme, x: float, y: float, kind: str) -> None:
    """Draw an exposure's dot: kept, other (series), unscored, ruled (out of the stack), finding, left_out, unreadable."""
    painter.save()
    if kind == "left_out":
        painter.setPen(round_pen(theme.color("off"), 1.3))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QPointF(x, y), 3.0, 3.0)
        painter.drawLine(QPointF(x - 4, y + 4), QPointF(x + 4, y - 4))
    elif kind == "ruled":
        # Open, as what is left out, but without its stroke: a rule can change its mind.
        painter.setPen(round_pen(theme.color("off"), 1.3))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QPointF(x, y), 3.0, 3.0)
    elif kind == "unscored":
        painter.setPen(round_pen(theme.color("text", 0.7), 1.6))
        painter.drawLine(QPointF(x - 2.4, y), QPointF(x + 2.4, y))
    elif kind == "unreadable":
        painter.setPen(round_pen(theme.color("block"), 1.7))
        painter.drawLine(QPointF(x - 3.6, y - 3.6), QPointF(x + 3.6, y + 3.6))
        painter.drawLine(QPointF(x - 3.6, y + 3.6), QPointF(x + 3.6, y - 3.6))
    else:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.color("text", 0.68 if kind == "other" else 1.0))
        r = 2.4 if kind == "other" else 3.0
        painter.drawEllipse(QPointF(x, y), r, r)
        if kind == "finding":
            painter.setPen(round_pen(theme.color("check"), 1.4))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(QPointF(x, y), 5.6, 5.6)
    painter.restore()


def draw_dots(painter: QPainter, theme: Theme, dots: Iterable[tuple[float, float, str]]) -> None:
    """Draw many exposures' dots (x, y, kind): as `draw_dot`, with one call for all of the plain kinds."""
    plain: dict[str, list[QPointF]] = {}
    special = []
    for x, y, kind in dots:
        if kind in ("kept", "other"):
            plain.setdefault(kind, []).append(QPointF(x, y))
        else:
            special.append((x, y, kind))
    for kind, places in plain.items():
        other = kind == "other"
        painter.setPen(round_pen(theme.color("text", 0.68 if other else 1.0), 4.8 if other else 6.0))
        painter.drawPoints(places)
    for x, y, kind in special:
        draw_dot(painter, theme, x, y, kind)


SHAPES = ("disc", "square", "diamond", "triangle")


def shape_path(shape: str, x: float, y: float, r: float) -> QPainterPath:
    """Return the outline of a plotted point of one of `SHAPES`, all of about one area."""
    path = QPainterPath()
    if shape == "square":
        path.addRect(QRectF(x - 0.88 * r, y - 0.88 * r, 1.76 * r, 1.76 * r))
    elif shape == "diamond":
        s = 1.25 * r
        path.addPolygon(QPolygonF([QPointF(x, y - s), QPointF(x + s, y), QPointF(x, y + s), QPointF(x - s, y)]))
    elif shape == "triangle":
        path.addPolygon(triangle(x, y, 1.25 * r))
    else:
        path.addEllipse(QPointF(x, y), r, r)
    path.closeSubpath()
    return path


def role_path(role: str, x: float, y: float, r: float) -> QPainterPath:
    """Return the outline of a role's mark about a point: corner ticks, hexagon, diamond."""
    path = QPainterPath()
    if role == "target":
        tick = 0.45 * r
        for sx in (-1, 1):
            for sy in (-1, 1):
                path.moveTo(x + sx * (r - tick), y + sy * r)
                path.lineTo(x + sx * r, y + sy * r)
                path.lineTo(x + sx * r, y + sy * (r - tick))
    elif role == "comparison":
        corners = [QPointF(x + r * math.sin(k * math.pi / 3), y - r * math.cos(k * math.pi / 3)) for k in range(6)]
        path.addPolygon(QPolygonF([*corners, corners[0]]))
    else:
        path.addPolygon(
            QPolygonF(
                [
                    QPointF(x, y - r),
                    QPointF(x + r, y),
                    QPointF(x, y + r),
                    QPointF(x - r, y),
                    QPointF(x, y - r),
                ]
            )
        )
    return path


def role_token(role: str) -> str:
    """Return the colour token of a role."""
    return {"target": "target", "comparison": "comparison", "check": "check_star"}.get(role, "off")


def icon(theme: Theme, name: str, token: str = "soft", size: int = 16) -> QIcon:
    """Return one of the line icons drawn for Ulvar."""
    scale = 3
    pixmap = QPixmap(size * scale, size * scale)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.scale(scale * size / 16, scale * size / 16)
    painter.setPen(round_pen(theme.color(token), 1.4))
    _DRAW.get(name, _draw_dot_icon)(painter)
    painter.end()
    pixmap.setDevicePixelRatio(scale)
    return QIcon(pixmap)


def _draw_dot_icon(p: QPainter) -> None:
    p.drawEllipse(QPointF(8, 8), 3, 3)


def _draw_colour(p: QPainter) -> None:
    for x, y in ((8, 5.6), (5.6, 9.8), (10.4, 9.8)):
        p.drawEllipse(QPointF(x, y), 3.6, 3.6)


def _draw_stars(p: QPainter) -> None:
    for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
        p.drawLine(QPointF(8 + 2.5 * dx, 8 + 2.5 * dy), QPointF(8 + 6 * dx, 8 + 6 * dy))


def _draw_apertures(p: QPainter) -> None:
    p.drawEllipse(QPointF(8, 8), 6, 6)
    p.drawEllipse(QPointF(8, 8), 2.5, 2.5)


def _draw_catalogue(p: QPainter) -> None:
    for x, y in ((3, 3), (10, 5), (5, 10)):
        p.drawRect(QRectF(x, y, 3.2, 3.2))


def _draw_fit(p: QPainter) -> None:
    p.drawPath(role_path("target", 8, 8, 5.5))


def _draw_invert(p: QPainter) -> None:
    p.drawEllipse(QPointF(8, 8), 5.5, 5.5)
    p.setBrush(p.pen().color())
    p.drawPie(QRectF(2.5, 2.5, 11, 11), -90 * 16, 180 * 16)


def _draw_blink(p: QPainter) -> None:
    p.drawRoundedRect(QRectF(2.5, 2.5, 8, 8), 1.5, 1.5)
    p.setBrush(p.pen().color())
    p.drawRoundedRect(QRectF(6, 6, 7.5, 7.5), 1.5, 1.5)


def _draw_find(p: QPainter) -> None:
    p.drawEllipse(QPointF(7, 7), 4.2, 4.2)
    p.drawLine(QPointF(10.2, 10.2), QPointF(13.5, 13.5))


def _draw_stop(p: QPainter) -> None:
    p.setBrush(p.pen().color())
    p.drawRoundedRect(QRectF(5, 5, 6, 6), 1, 1)


def _draw_residuals(p: QPainter) -> None:
    p.drawLine(QPointF(3, 13), QPointF(12.5, 3.5))
    p.drawPolyline([QPointF(7, 3.5), QPointF(12.5, 3.5), QPointF(12.5, 9)])


def _draw_open(p: QPainter) -> None:
    p.drawPolyline(
        [
            QPointF(2, 12.5),
            QPointF(2, 3.5),
            QPointF(6.5, 3.5),
            QPointF(8, 5.5),
            QPointF(14, 5.5),
            QPointF(14, 12.5),
            QPointF(2, 12.5),
        ]
    )


def _draw_swipe(p: QPainter) -> None:
    p.drawRoundedRect(QRectF(2.5, 3.5, 11, 9), 1.5, 1.5)
    p.drawLine(QPointF(8, 1.5), QPointF(8, 14.5))


def _draw_difference(p: QPainter) -> None:
    p.drawRoundedRect(QRectF(2.5, 2.5, 8, 8), 1.5, 1.5)
    p.drawRoundedRect(QRectF(6, 6, 7.5, 7.5), 1.5, 1.5)


def _draw_profile(p: QPainter) -> None:
    p.drawPolyline([QPointF(2, 12), QPointF(5.5, 12), QPointF(8, 3.5), QPointF(10.5, 12), QPointF(14, 12)])


def _draw_defects(p: QPainter) -> None:
    p.drawRect(QRectF(2.5, 2.5, 11, 11))
    p.fillRect(QRectF(5, 5, 2, 2), p.pen().color())
    p.fillRect(QRectF(9, 8.5, 2, 2), p.pen().color())


def _draw_masks(p: QPainter) -> None:
    p.drawRect(QRectF(2.5, 2.5, 11, 11))
    for x, y in ((3, 3), (6.5, 6.5), (10, 10)):
        p.fillRect(QRectF(x, y, 3, 3), p.pen().color())


def _draw_regions(p: QPainter) -> None:
    p.drawPolygon(QPolygonF([QPointF(3, 5), QPointF(10, 2.5), QPointF(13.5, 9), QPointF(6, 13.5)]))
    p.drawLine(QPointF(5.5, 9), QPointF(10, 4.5))
    p.drawLine(QPointF(7.5, 11), QPointF(11.5, 7))


def _draw_aligned(p: QPainter) -> None:
    p.drawRect(QRectF(2.5, 2.5, 8, 8))
    p.drawRect(QRectF(5.5, 5.5, 8, 8))
    p.drawPoint(QPointF(8, 8))


def _draw_deep(p: QPainter) -> None:
    for i in range(3):
        y = 4.5 + 3.5 * i
        p.drawPolyline(QPolygonF([QPointF(2.5, y), QPointF(8, y + 2.5), QPointF(13.5, y)]))


def _draw_loupe(p: QPainter) -> None:
    p.drawEllipse(QPointF(7, 7), 4.6, 4.6)
    p.drawLine(QPointF(10.5, 10.5), QPointF(13.5, 13.5))
    p.drawLine(QPointF(5, 7), QPointF(9, 7))
    p.drawLine(QPointF(7, 5), QPointF(7, 9))


def _draw_closeup(p: QPainter) -> None:
    path = QPainterPath(QPointF(2, 13))
    path.cubicTo(QPointF(6, 13), QPointF(6, 3), QPointF(8, 3))
    path.cubicTo(QPointF(10, 3), QPointF(10, 13), QPointF(14, 13))
    p.drawPath(path)


def _draw_box(p: QPainter) -> None:
    p.drawRect(QRectF(2.5, 3.5, 11, 9))
    for x, h in ((5, 3), (8, 6), (11, 4)):
        p.drawLine(QPointF(x, 12), QPointF(x, 12 - h))


def _draw_north(p: QPainter) -> None:
    p.drawLine(QPointF(8, 14), QPointF(8, 2.5))
    p.drawPolyline(QPolygonF([QPointF(4.5, 6), QPointF(8, 2.5), QPointF(11.5, 6)]))


def _draw_pair(p: QPainter) -> None:
    p.drawEllipse(QPointF(4.2, 11.2), 2.4, 2.4)
    p.drawEllipse(QPointF(11.8, 4.4), 2.4, 2.4)
    p.drawLine(QPointF(6.2, 9.4), QPointF(9.8, 6.2))


def _draw_more(p: QPainter) -> None:
    p.setBrush(p.pen().color())
    for x in (3.5, 8, 12.5):
        p.drawEllipse(QPointF(x, 8), 1, 1)


def _draw_down(p: QPainter) -> None:
    p.drawPolyline([QPointF(4, 6), QPointF(8, 10), QPointF(12, 6)])


_DRAW = {
    "down": _draw_down,
    "colour": _draw_colour,
    "masks": _draw_masks, "regions": _draw_regions, "aligned": _draw_aligned, "deep": _draw_deep, "loupe": _draw_loupe,
    "closeup": _draw_closeup, "box": _draw_box, "north": _draw_north, "more": _draw_more,
    "swipe": _draw_swipe, "difference": _draw_difference, "profile": _draw_profile, "defects": _draw_defects,
    "stars": _draw_stars, "apertures": _draw_apertures, "catalogue": _draw_catalogue, "fit": _draw_fit,
    "invert": _draw_invert, "blink": _draw_blink, "find": _draw_find, "stop": _draw_stop,
    "residuals": _draw_residuals, "pair": _draw_pair, "open": _draw_open,
}  # fmt: skip


def draw_mark(painter: QPainter, theme: Theme, x: float, y: float) -> None:
    """Draw Ulvar's own mark: three dots on a line, the last one risen."""
    painter.save()
    painter.setPen(round_pen(theme.color("soft"), 1.4))
    painter.drawPolyline([QPointF(x - 8, y + 4), QPointF(x - 1, y - 1), QPointF(x + 8, y - 4)])
    painter.setPen(Qt.PenStyle.NoPen)
    for dx, dy, token in ((-8, 4, "text"), (-1, -1, "accent"), (8, -4, "text")):
        painter.setBrush(theme.color(token))
        painter.drawEllipse(QPointF(x + dx, y + dy), 3.2, 3.2)
    painter.restore()
