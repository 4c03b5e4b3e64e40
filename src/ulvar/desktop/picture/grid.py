"""The grid of right ascension and declination, compass and scale bar; labels that do not run into each other."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPen

from ulvar.astrometry import Wcs
from ulvar.desktop.parts.theme import font
from ulvar.desktop.picture.overlays import Scene, halo_text

# Round steps of declination [arcsec] and of right ascension [s of time].
_DEC_STEPS = (1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1200, 1800, 3600, 7200, 18000, 36000, 54000)
_RA_STEPS = (0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1200, 1800, 3600, 7200, 10800, 21600)
# About so far apart are lines on screen [px].
_APART = 130.0
_MARGIN = 4.0


@dataclass(frozen=True)
class GridLine:
    """A line of the grid: its name and where it runs on screen, in pieces without a jump."""

    words: str
    of_ra: bool
    pieces: tuple[tuple[QPointF, ...], ...]


def paint_grid(painter: QPainter, scene: Scene) -> None:
    """Draw the grid where it is wanted, compass and scale bar where the picture is solved."""
    wcs = scene.overlay.wcs
    if wcs is None:
        return
    if scene.overlay.grid:
        lines = list(grid_lines(scene, wcs))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(scene.sky.color("note", 0.6), 1))
        for line in lines:
            for piece in line.pieces:
                painter.drawPolyline(list(piece))
        for box, words in grid_labels(scene, lines):
            halo_text(painter, QPointF(box.left(), box.bottom() - 4), words, scene.sky.color("note"))
    _compass(painter, scene, wcs)


def grid_lines(scene: Scene, wcs: Wcs) -> Iterator[GridLine]:
    """Yield the lines that cross the view."""
    sight = scene.sight
    # What the view shows is looked at all over, not at its corners alone: a pole may be in its middle.
    u, v = np.meshgrid(np.linspace(0, sight.width, 25), np.linspace(0, sight.height, 25))
    places = [sight.to_image(QPointF(a, b)) for a, b in zip(u.ravel().tolist(), v.ravel().tolist())]
    with np.errstate(invalid="ignore"):
        ra, dec = wcs.sky(np.array([p.x() for p in places]), np.array([p.y() for p in places]))
    seen = np.isfinite(ra) & np.isfinite(dec)
    if seen.sum() < 4:
        return
    ra, dec = ra[seen], dec[seen]
    per_px = wcs.scale_arcsec_px / sight.scale
    dec_step = _step(_DEC_STEPS, _APART * per_px)
    low, high = float(dec.min()), float(dec.max())
    polar = [_holds(sight, wcs, pole) for pole in (-90.0, 90.0)]
    low, high = (-90.0 if polar[0] else low), (90.0 if polar[1] else high)
    middle = float(ra[len(ra) // 2])
    turned = (ra - middle + 180) % 360 - 180
    left, right = (-180.0, 180.0) if any(polar) else (float(turned.min()), float(turned.max()))
    # Lines of right ascension keep their distance where they are closest to parallel: towards the equator.
    widest = math.cos(math.radians(min(abs(low), abs(high)) if low * high > 0 else 0.0))
    ra_step = _step(_RA_STEPS, _APART * per_px / 15 / max(widest, 1e-3))
    along = np.linspace(left, right, 121)
    for k in range(math.ceil(low * 3600 / dec_step), math.floor(high * 3600 / dec_step) + 1):
        value = k * dec_step / 3600
        if abs(value) < 90:
            yield GridLine(
                dec_words(k * dec_step, dec_step), False, _pieces(scene, wcs, middle + along, np.full(121, value))
            )
    # Towards a pole they end before they run together.
    upper, lower = (89.0 if polar[1] else high), (-89.0 if polar[0] else low)
    across = np.linspace(max(low, lower), min(high, upper), 121)
    first, last = math.ceil((middle + left) * 240 / ra_step), math.floor((middle + right) * 240 / ra_step)
    if any(polar):
        last = first + round(86400 / ra_step) - 1
    for k in range(first, last + 1):
        value = k * ra_step / 240
        yield GridLine(ra_words(k * ra_step, ra_step), True, _pieces(scene, wcs, np.full(121, value), across))


def _step(steps: Sequence[float], wanted: float) -> float:
    return next((step for step in steps if step >= wanted), steps[-1])


def _holds(sight, wcs: Wcs, dec: float) -> bool:  # type: ignore[no-untyped-def]
    """Whether a pole is in view."""
    with np.errstate(invalid="ignore"):
        x, y = (float(v) for v in wcs.pixel(0.0, dec))
    if not (math.isfinite(x) and math.isfinite(y)):
        return False
    back = wcs.sky(x, y)[1]
    if abs(float(back) - dec) > 1e-3:
        return False
    at = sight.to_screen(x, y)
    return bool(0 <= at.x() <= sight.width and 0 <= at.y() <= sight.height)


def _pieces(scene: Scene, wcs: Wcs, ra: np.ndarray, dec: np.ndarray) -> tuple[tuple[QPointF, ...], ...]:
    """Return a line on screen, broken where the projection does not reach or jumps."""
    with np.errstate(invalid="ignore"):
        x, y = wcs.pixel(ra % 360, dec)
    pieces: list[tuple[QPointF, ...]] = []
    piece: list[QPointF] = []
    far = 3 * (scene.sight.width + scene.sight.height)
    for a, b in zip(np.atleast_1d(x).tolist(), np.atleast_1d(y).tolist()):
        at = scene.sight.to_screen(a, b) if math.isfinite(a) and math.isfinite(b) else None
        jumped = at is not None and piece and (at - piece[-1]).manhattanLength() > far
        if at is None or jumped:
            if len(piece) > 1:
                pieces.append(tuple(piece))
            piece = []
        if at is not None:
            piece.append(at)
    if len(piece) > 1:
        pieces.append(tuple(piece))
    return tuple(pieces)


def dec_words(arcsec: float, step: float) -> str:
    """Return a declination [arcsec] in degrees, minutes and, where the step needs them, seconds."""
    total = round(abs(arcsec))
    sign = "−" if arcsec < 0 else "+"
    text = f"{sign}{total // 3600}° {total // 60 % 60:02d}′"
    return text if step % 60 == 0 else text + f" {total % 60:02d}″"


def ra_words(seconds: float, step: float) -> str:
    """Return a right ascension [s of time] in hours, minutes and, where the step needs them, seconds."""
    tenths = round(seconds * 10) % 864_000
    text = f"{tenths // 36_000}h {tenths // 600 % 60:02d}m"
    if step % 60 == 0:
        return text
    return text + (f" {tenths // 10 % 60:02d}s" if step >= 1 else f" {tenths % 600 / 10:04.1f}s")


def reserved(scene: Scene) -> list[QRectF]:
    """Return what labels keep off: the compass, the scale bar, the words at the top."""
    sight = scene.sight
    boxes = [QRectF(sight.width - 92, sight.height - 88, 92, 88), QRectF(0, sight.height - 44, 150, 44)]
    overlay = scene.overlay
    rows = bool(overlay.caption) + bool(len(overlay.residuals)) + bool(overlay.roles and overlay.aperture)
    return [*boxes, QRectF(0, 0, 330, 10 + 18 * rows)] if rows else boxes


def grid_labels(scene: Scene, lines: Sequence[GridLine]) -> list[tuple[QRectF, str]]:
    """Return where each line's name stands: where it enters the view, clear of all other names; a line without room has none."""
    metrics = QFontMetricsF(font("value"))
    height = metrics.height()
    taken = reserved(scene)
    view = QRectF(0, 0, scene.sight.width, scene.sight.height).adjusted(_MARGIN, _MARGIN, -_MARGIN, -_MARGIN)
    placed = []
    for line in lines:
        width = metrics.horizontalAdvance(line.words)
        for at in _entries(line, view):
            for box in _beside(at, width, height, view):
                if view.contains(box) and not any(box.adjusted(-6, -2, 6, 2).intersects(other) for other in taken):
                    taken.append(box)
                    placed.append((box, line.words))
                    break
            else:
                continue
            break
    return placed


def _entries(line: GridLine, view: QRectF) -> list[QPointF]:
    """Return where a line crosses the view's edges: names of declination begin at the left, those of right ascension at the bottom."""
    found: list[tuple[int, QPointF]] = []
    order = (
        {"bottom": 0, "top": 1, "left": 2, "right": 3} if line.of_ra else {"left": 0, "right": 1, "bottom": 2, "top": 3}
    )
    for piece in line.pieces:
        for a, b in zip(piece, piece[1:]):
            if view.contains(a) == view.contains(b):
                continue
            for edge, at in _crossings(a, b, view):
                found.append((order[edge], at))
    found.sort(key=lambda one: one[0])
    return [at for _, at in found]


def _crossings(a: QPointF, b: QPointF, view: QRectF) -> Iterator[tuple[str, QPointF]]:
    dx, dy = b.x() - a.x(), b.y() - a.y()
    for edge, value in (("left", view.left()), ("right", view.right())):
        if dx and 0 <= (t := (value - a.x()) / dx) <= 1 and view.top() <= a.y() + t * dy <= view.bottom():
            yield edge, QPointF(value, a.y() + t * dy)
    for edge, value in (("top", view.top()), ("bottom", view.bottom())):
        if dy and 0 <= (t := (value - a.y()) / dy) <= 1 and view.left() <= a.x() + t * dx <= view.right():
            yield edge, QPointF(a.x() + t * dx, value)


def _beside(at: QPointF, width: float, height: float, view: QRectF) -> Iterator[QRectF]:
    """Yield boxes next to a crossing, inside the view: right above the line, right below, left."""
    for dx, dy in ((4, -height - 2), (4, 3), (-width - 4, -height - 2), (-width - 4, 3)):
        box = QRectF(at.x() + dx, at.y() + dy, width, height)
        if box.bottom() > view.bottom():
            box.moveBottom(view.bottom())
        if box.top() < view.top():
            box.moveTop(view.top())
        if box.right() > view.right():
            box.moveRight(view.right())
        if box.left() < view.left():
            box.moveLeft(view.left())
        yield box


def _compass(painter: QPainter, scene: Scene, wcs: Wcs) -> None:
    """Arrows to north and east, and a bar of a round angle."""
    middle = scene.sight.centre
    ra, dec = wcs.sky(middle.x(), middle.y())
    step = 30 / 3600
    north = wcs.pixel(ra, dec + step)
    east = wcs.pixel(ra + step / max(math.cos(math.radians(float(dec))), 1e-6), dec)
    origin = QPointF(scene.sight.width - 44, scene.sight.height - 40)
    painter.setPen(QPen(QColor("#E8ECF0") if scene.theme.name != "red" else scene.sky.color("text"), 1.5))
    for letter, (x, y) in (("N", north), ("E", east)):
        here, there = scene.sight.to_screen(middle.x(), middle.y()), scene.sight.to_screen(float(x), float(y))
        dx, dy = there.x() - here.x(), there.y() - here.y()
        norm = math.hypot(dx, dy) or 1.0
        end = QPointF(origin.x() + 24 * dx / norm, origin.y() + 24 * dy / norm)
        painter.drawLine(origin, end)
        place = QPointF(origin.x() + 34 * dx / norm - 4, origin.y() + 34 * dy / norm + 4)
        pen = painter.pen()
        halo_text(painter, place, letter, pen.color())
        painter.setPen(pen)
    per_px = wcs.scale_arcsec_px / scene.sight.scale
    length, label = next(
        ((v, t) for v, t in ((1, "1″"), (2, "2″"), (5, "5″"), (10, "10″"), (30, "30″"), (60, "1′"), (120, "2′"), (300, "5′"), (600, "10′"), (1800, "30′"),
         (3600, "1°"), (7200, "2°"), (18000, "5°")) if v / per_px > 60), (36000, "10°"),
    )  # fmt: skip
    width = length / per_px
    foot = scene.sight.height - 20
    painter.drawLine(QPointF(14, foot), QPointF(14 + width, foot))
    for tick in (14.0, 14 + width):
        painter.drawLine(QPointF(tick, foot - 4), QPointF(tick, foot + 4))
    halo_text(painter, QPointF(20 + width, foot + 4), label, painter.pen().color())
