"""What is drawn of named places: the pair of stars, marks where nothing need be seen, moving bodies."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPainterPath, QPen

from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.theme import font
from ulvar.desktop.picture.overlays import Scene, halo_text, role_frame, role_name_at


def paint_sky(painter: QPainter, scene: Scene) -> None:
    """Draw all named places that the overlay holds."""
    for name, x, y in scene.overlay.places:
        _place(painter, scene, name, scene.sight.to_screen(x, y))
    for name, x, y in scene.overlay.bodies:
        _body(painter, scene, name, scene.sight.to_screen(x, y))
    taken = [_box(mark.name).translated(role_name_at(scene, mark)) for mark in scene.overlay.roles]
    for name, x, y, kind, chosen in scene.overlay.candidates:
        _candidate(painter, scene, (name, kind, chosen), scene.sight.to_screen(x, y), taken)
    if scene.overlay.pair is not None:
        _pair(painter, scene)


def _stroke(painter: QPainter, scene: Scene, path: QPainterPath, style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> None:
    """Draw a path with a dark edge, so that it is seen on any ground."""
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for color, width, way in ((QColor("#000000"), 3.6, Qt.PenStyle.SolidLine), (scene.sky.color("cur"), 1.6, style)):
        painter.setPen(QPen(color, width, way))
        painter.drawPath(path)


def _place(painter: QPainter, scene: Scene, name: str, at: QPointF) -> None:
    """Draw four strokes that leave the place itself free, and its name."""
    path = QPainterPath()
    for dx, dy in ((1, 1), (-1, 1), (1, -1), (-1, -1)):
        path.moveTo(at + QPointF(5 * dx, 5 * dy))
        path.lineTo(at + QPointF(12 * dx, 12 * dy))
    _stroke(painter, scene, path)
    halo_text(painter, at + QPointF(16, -10), name, scene.sky.color("cur"))


def _box(name: str) -> QRectF:
    """Return what a name that begins at (0, 0) covers."""
    return QFontMetricsF(font("value")).boundingRect(name)


def _beside(scene: Scene, at: QPointF, name: str, taken: list[QRectF]) -> QPointF:
    """Return where a name goes, which is taken then: to the right of its star, or about it where there is room and no other one."""
    box, view = _box(name), QRectF(0, 0, scene.sight.width, scene.sight.height)
    tried = [at + QPointF(dx, dy) for dx in (18, -18 - box.width()) for dy in (-10, 36)]
    free = (
        p
        for p, there in ((p, box.translated(p)) for p in tried)
        if view.contains(there) and not any(there.intersects(one) for one in taken)
    )
    place = next(free, tried[0])
    taken.append(box.translated(place))
    return place


def _candidate(
    painter: QPainter, scene: Scene, what: tuple[str, str, bool], at: QPointF, taken: list[QRectF]
) -> None:  # fmt: skip
    """Draw a dotted hexagon about a good candidate, a cross beside one that is not, a wave under a star that varies."""
    name, kind, chosen = what
    red = scene.theme.name == "red"
    color = scene.sky.color("text") if red else QColor({"good": "#56B4E9", "bad": "#C3CBD3", "varies": "#CC79A7"}[kind])
    path = QPainterPath()
    if kind == "bad":
        for dx, dy in ((1, 1), (-1, 1)):
            path.moveTo(at + QPointF(14 - 4 * dx, -14 - 4 * dy))
            path.lineTo(at + QPointF(14 + 4 * dx, -14 + 4 * dy))
    elif kind == "good":
        path = glyphs.role_path("comparison", at.x(), at.y(), 15.0)
    else:
        path.moveTo(at + QPointF(-14, 14))
        path.cubicTo(at + QPointF(-7, 4), at + QPointF(-7, 24), at + QPointF(0, 14))
        path.cubicTo(at + QPointF(7, 4), at + QPointF(7, 24), at + QPointF(14, 14))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    style = Qt.PenStyle.DotLine if kind == "good" else Qt.PenStyle.SolidLine
    for shade, width, way in ((QColor("#000000"), 3.4, Qt.PenStyle.SolidLine), (color, 2.4 if chosen else 1.5, style)):
        painter.setPen(QPen(shade, width, way))
        painter.drawPath(path)
    if chosen:
        painter.setPen(QPen(scene.sky.color("cur"), 2))
        painter.drawEllipse(at, 21, 21)
    if kind != "bad" or chosen:
        halo_text(painter, _beside(scene, at, name, taken), name, scene.sky.color("cur") if chosen else color)


def _body(painter: QPainter, scene: Scene, name: str, at: QPointF) -> None:
    """Draw a diamond about a body, and its name."""
    path = QPainterPath(at + QPointF(0, -13))
    for dx, dy in ((13, 0), (0, 13), (-13, 0), (0, -13)):
        path.lineTo(at + QPointF(dx, dy))
    _stroke(painter, scene, path)
    halo_text(painter, at + QPointF(17, 4), name, scene.sky.color("cur"))


def _pair(painter: QPainter, scene: Scene) -> None:
    """Draw a ring about either star, a line between the rings, and what was measured beside the second."""
    assert scene.overlay.pair is not None
    (x1, y1), (x2, y2), words = scene.overlay.pair
    a, b = scene.sight.to_screen(x1, y1), scene.sight.to_screen(x2, y2)
    dx, dy = b.x() - a.x(), b.y() - a.y()
    length = math.hypot(dx, dy)
    ring = min(9.0, max(3.0, length / 2 - 1))
    path = QPainterPath()
    for end in (a, b):
        path.addEllipse(end, ring, ring)
    if length > 2 * ring + 2:
        ux, uy = dx / length, dy / length
        path.moveTo(a + QPointF(ring * ux, ring * uy))
        path.lineTo(b - QPointF(ring * ux, ring * uy))
    _stroke(painter, scene, path)
    color = scene.sky.color("cur")
    wide = QFontMetricsF(font("value")).horizontalAdvance(words)
    # The first star has its number: the angle is seen from there.
    away = -1.0 if dy > 0 else 1.0
    halo_text(painter, a + QPointF(-3, 4 + away * (ring + 12)), "1", color)
    # What is measured stands beside the middle of the line: to the left, for stars have their names at the right.
    middle = QPointF((a.x() + b.x()) / 2, (a.y() + b.y()) / 2)
    steep = abs(dy) > abs(dx)
    beside = middle + (QPointF(-wide - ring - 6, 4) if steep else QPointF(-wide / 2, ring + 18))
    for mark in scene.overlay.roles if steep else ():
        frame = role_frame(scene, mark)
        if (frame.contains(a) or frame.contains(b)) and _box(words).translated(beside).intersects(frame):
            beside.setX(frame.left() - wide - 6)
    halo_text(painter, beside, words, color)
