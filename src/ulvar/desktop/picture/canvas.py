"""The picture itself: zoom at the cursor, pan, turn, marks on top."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QImage,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QTransform,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from ulvar.desktop.parts.theme import THEMES, Theme, font
from ulvar.desktop.picture.colour import balanced, stretched
from ulvar.desktop.picture.grid import paint_grid
from ulvar.desktop.picture.overlays import Overlay, Scene, halo_text, paint_overlay
from ulvar.desktop.picture.pictures import Picture
from ulvar.desktop.picture.rings import Grip, drawn_to, grip_at
from ulvar.desktop.picture.sight import Sight
from ulvar.desktop.picture.skymarks import paint_sky
from ulvar.desktop.picture.stretch import Stretch, colour_table
from ulvar.desktop.picture.toolmarks import paint_body, paint_loupe, paint_tools

# What a drag or click does beside panning: a line, a rectangle, a circle about its middle, a polygon by clicks.
_DRAWN = ("line", "region", "box", "circle")


BEFORE_AFTER = ("before", "after")


class Canvas(QWidget):
    """Shows a picture; image rows run upwards, as FITS counts them, unless it is turned."""

    clicked = Signal(float, float)
    line_drawn = Signal(float, float, float, float)
    region_drawn = Signal(int, int, int, int)
    shape_drawn = Signal(str, object)
    hovered = Signal(float, float)
    # While a ring is drawn: whose it is, and the radii; and when it is let go.
    ring_drawn = Signal(object, object)
    ring_dropped = Signal(object, object)
    zoomed = Signal()
    moved = Signal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.picture: Picture | None = None
        self.problem = ""
        self.stretch = Stretch()
        self.overlay = Overlay()
        self.sight = Sight()
        self.fitted = True
        # Before and after: the second picture left of the border, which is a share of the width.
        self.second: Picture | None = None
        self.second_stretch = Stretch()
        # What stands left and right of the border.
        self.sides = BEFORE_AFTER
        self.border = 0.5
        self.mode = "pan"
        self.line: tuple[QPointF, QPointF] | None = None
        self.box: QRectF | None = None
        self.loupe: QPointF | None = None
        # Where the keyboard points, as an image position.
        self.pointer: QPointF | None = None
        self.loupe_words: list[str] = []
        self.title = ""
        self.corners: list[QPointF] = []
        self.corner: QPointF | None = None
        self._on_border = False
        self._grip: Grip | None = None
        self.pressed: QPointF | None = None
        self._moved = False
        self._image: tuple[Picture, tuple, QImage] | None = None
        # Every pixel of it is painted: what lies behind need not be.
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setMouseTracking(True)
        self.setMinimumWidth(120)
        self.setCursor(Qt.CursorShape.CrossCursor)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setAccessibleName("Picture")

    @property
    def sky(self) -> Theme:
        """The theme of what is drawn on the picture, which is dark whatever the window is."""
        return THEMES["dark"] if self.theme.name == "light" else self.theme

    # ---- geometry

    def set_picture(self, picture: Picture | None, problem: str = "") -> None:
        """Show another picture; place and zoom stay when the size is the same."""
        changed = picture is not None and (self.picture is None or self.picture.shape != picture.shape)
        self.picture, self.problem = picture, problem
        if changed or self.fitted:
            self.fit()
        self.update()

    def _measure(self) -> None:
        self.sight.width, self.sight.height = self.width(), self.height()

    def fit(self) -> None:
        """Show the whole picture."""
        self._measure()
        self.fitted = True
        if self.picture is None:
            return
        height, width = self.picture.shape
        self.sight.fit(width, height)
        self.update()
        self.zoomed.emit()

    def one_to_one(self) -> None:
        """One image pixel to one screen pixel, about the middle of the view."""
        self.look(self.sight.centre, 1.0)
        self.zoomed.emit()

    def look(self, centre: QPointF, scale: float) -> None:
        """Show a place at a scale."""
        self.fitted = False
        self.sight.centre, self.sight.scale = QPointF(centre), scale
        self.update()

    def zoom(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom by a factor; the image point at `at` (widget position) stays where it is."""
        if self.picture is None:
            return
        self.sight.zoom(factor, at)
        self.fitted = False
        self.update()
        self.zoomed.emit()

    def turn(self, degrees: float, mirrored: bool) -> None:
        """Turn the picture; fitted pictures stay whole."""
        self.sight.turn_deg, self.sight.mirrored = degrees, mirrored
        if self.fitted:
            self.fit()
        self.update()

    # ---- painting

    def scene(self, sharp: float = 0.0) -> Scene:
        """Return what marks are painted by."""
        return Scene(self.sight, self.overlay, self.picture, self.theme, self.sky, sharp or self.devicePixelRatioF())

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the visible part, then the marks."""
        self._measure()
        with QPainter(self) as painter:
            self.paint_on(painter, self.devicePixelRatioF())

    def paint_on(self, painter: QPainter, sharp: float) -> None:
        """Draw it all, with so many dots for each of the widget's along a side."""
        painter.fillRect(self.rect(), QColor("#000000"))
        if self.picture is None:
            painter.setPen(self.sky.color("block" if self.problem else "mute"))
            painter.setFont(font("label"))
            box = QRectF(self.rect()).adjusted(24, 24, -24, -24)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.problem)
            return
        self._paint_pixels(painter, self.picture, self.stretch, sharp)
        if self.second is not None:
            painter.save()
            painter.setClipRect(QRectF(0, 0, self.border * self.width(), self.height()))
            painter.fillRect(self.rect(), QColor("#000000"))
            self._paint_pixels(painter, self.second, self.second_stretch, sharp)
            painter.restore()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        scene = self.scene(sharp)
        paint_grid(painter, scene)
        paint_overlay(painter, scene)
        paint_sky(painter, scene)
        if self.overlay.body is not None:
            paint_body(painter, self.sight, self.overlay.body, self.sky)
        paint_tools(painter, self)
        if self.title:
            halo_text(painter, QPointF(10, 20), self.title, self.sky.color("text"))
        paint_loupe(painter, self)

    def as_image(self, grey: np.ndarray, stretch: Stretch) -> QImage:
        grey = np.ascontiguousarray(grey)
        height, width = grey.shape
        red = self.theme.name == "red"
        if stretch.colours == "Grey" and not red:
            return QImage(grey.data, width, height, width, QImage.Format.Format_Grayscale8).copy()
        image = QImage(grey.data, width, height, width, QImage.Format.Format_Indexed8)
        image.setColorTable(colour_table(stretch.colours, red_only=red))
        return image.copy()

    def _image_of(self, picture: Picture, level: int, part: tuple[int, int, int, int], stretch: Stretch) -> QImage:
        values = picture.part(level, *part)
        if not picture.balance:
            return self.as_image(stretch.apply(values, picture.sample.values)[::-1], stretch)
        if self.theme.name == "red":
            # No hue but red: what remains is brightness.
            grey = balanced(values, picture.balance).mean(axis=2)
            return self.as_image(stretch.apply(grey, picture.sample.values)[::-1], stretch)
        shown = np.ascontiguousarray(stretched(values, stretch, picture.balance, picture.sample.values)[::-1])
        height, width, _ = shown.shape
        return QImage(shown.data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()

    def _paint_pixels(self, painter: QPainter, picture: Picture, stretch: Stretch, sharp: float) -> None:
        height, width = picture.shape
        level = 0
        shrunk = picture.shape[0] / picture.levels[0].shape[0]
        while level + 1 < len(picture.levels) and self.sight.scale * sharp * shrunk * 2**level < 0.55:
            level += 1
        pixels = picture.levels[level]
        fy, fx = height / pixels.shape[0], width / pixels.shape[1]
        left, low, right, high = self.sight.in_view()
        x0, x1 = max(0, math.floor((left - 1) / fx)), min(pixels.shape[1], math.ceil((right + 2) / fx))
        y0, y1 = max(0, math.floor((low - 1) / fy)), min(pixels.shape[0], math.ceil((high + 2) / fy))
        if x1 <= x0 or y1 <= y0:
            return
        # The same part under moving marks is not stretched again.
        key = (level, x0, x1, y0, y1, stretch, self.theme.name)
        if self._image is None or self._image[0] is not picture or self._image[1] != key:
            image = self._image_of(picture, level, (x0, y0, x1, y1), stretch)
            if picture is not self.second:
                self._image = (picture, key, image)
        else:
            image = self._image[2]
        dots = self.sight.scale * sharp
        # A picture saved with a dot for each pixel holds the pixels themselves.
        smooth = dots < 2.0 and not (abs(dots - 1.0) < 1e-9 and self.sight.turn_deg % 90 == 0)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, smooth)
        # From image pixels of this level, whose squares reach half a pixel beyond their centres, to the screen.
        painter.save()
        move = QTransform()
        move.translate(self.sight.width / 2, self.sight.height / 2)
        move.rotate(self.sight.turn_deg)
        move.scale(-self.sight.scale if self.sight.mirrored else self.sight.scale, self.sight.scale)
        move.translate(-self.sight.centre.x(), self.sight.centre.y())
        painter.setTransform(move, True)
        target = QRectF(x0 * fx - 0.5, -(y1 * fy - 0.5), (x1 - x0) * fx, (y1 - y0) * fy)
        painter.drawImage(target, image)
        painter.restore()

    # ---- mouse and keys

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Keep the whole picture in view if it was."""
        self._measure()
        if self.fitted:
            self.fit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Zoom at the cursor."""
        self.zoom(1.25 ** (event.angleDelta().y() / 120), event.position())

    def draw(self, mode: str) -> None:
        """Let the next drag or clicks draw something; ``pan`` calls it off."""
        self.mode = mode
        self.corners, self.corner = [], None
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Start a click, a pan or a drawing."""
        self.pressed, self._moved = event.position(), False
        near = self.second is not None and abs(event.position().x() - self.border * self.width()) < 10
        self._on_border = near and self.mode == "pan"
        free = self.mode == "pan" and not self._on_border and event.button() == Qt.MouseButton.LeftButton
        self._grip = grip_at(self.sight, self.overlay, event.position()) if free else None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Pan or draw, and read out."""
        if self.pressed is not None and event.buttons() & (Qt.MouseButton.LeftButton | Qt.MouseButton.MiddleButton):
            delta = event.position() - self.pressed
            if self._on_border:
                self._moved = True
                self.border = min(max(event.position().x() / max(1, self.width()), 0.02), 0.98)
                self.update()
            elif self._grip is not None and self.overlay.aperture is not None:
                if self._moved or delta.manhattanLength() > 2:
                    self._moved = True
                    self.overlay.aperture = drawn_to(self.overlay.aperture, self._grip, self.sight, event.position())
                    self.ring_drawn.emit(self._grip, self.overlay.aperture)
                    self.update()
                return
            elif self.mode == "line":
                self._moved = True
                self.line = (self.sight.to_image(self.pressed), self.sight.to_image(event.position()))
                self.update()
            elif self.mode in _DRAWN:
                self._moved = True
                self.corner = event.position()
                self.update()
            elif self.mode == "pan" and (self._moved or delta.manhattanLength() > 4):
                self._moved = True
                self.fitted = False
                self.sight.centre += self.sight.to_image(self.pressed) - self.sight.to_image(event.position())
                self.pressed = event.position()
                self.update()
                self.moved.emit()
        elif self.mode == "polygon" and self.corners:
            self.corner = event.position()
            self.update()
        elif self.mode == "pan" and self.pressed is None:
            held = grip_at(self.sight, self.overlay, event.position()) is not None
            if held != (self.cursor().shape() == Qt.CursorShape.SizeAllCursor):
                self.setCursor(Qt.CursorShape.SizeAllCursor if held else Qt.CursorShape.CrossCursor)
        place = self.sight.to_image(event.position())
        self.hovered.emit(place.x(), place.y())

    def leaveEvent(self, event: object) -> None:
        """The loupe goes with the cursor."""
        self.loupe = None
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """End a click, a pan or a drawing."""
        press, self.pressed = self.pressed, None
        corner, grip = self.corner, self._grip
        self._on_border, self._grip = False, None
        if press is None:
            return
        if grip is not None and self._moved:
            self.ring_dropped.emit(grip, self.overlay.aperture)
            return
        place = self.sight.to_image(event.position())
        if self.mode == "polygon" and not self._moved:
            self.corners.append(place)
        elif not self._moved and event.button() == Qt.MouseButton.LeftButton:
            self.clicked.emit(place.x(), place.y())
        elif self.mode == "line" and self.line is not None:
            a, b = self.line
            self.line_drawn.emit(a.x(), a.y(), b.x(), b.y())
        elif self.mode in ("region", "box", "circle") and corner is not None:
            self.corner = None
            self._finish_drag(self.sight.to_image(press), self.sight.to_image(corner))
        self.update()

    def _finish_drag(self, a: QPointF, b: QPointF) -> None:
        low, high = (min(a.x(), b.x()), min(a.y(), b.y())), (max(a.x(), b.x()), max(a.y(), b.y()))
        if self.mode == "circle":
            self.mode = "pan"
            radius = math.hypot(b.x() - a.x(), b.y() - a.y())
            self.shape_drawn.emit("circle", [(a.x(), a.y()), (radius, radius)])
        elif self.mode == "box":
            self.box = QRectF(QPointF(*low), QPointF(*high))
            self.shape_drawn.emit("box", [low, high])
        else:
            self.mode = "pan"
            self.region_drawn.emit(round(low[0]), round(low[1]), round(high[0]) + 1, round(high[1]) + 1)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Close the polygon."""
        if self.mode == "polygon" and len(self.corners) >= 2:
            corners = [(p.x(), p.y()) for p in self.corners]
            self.draw("pan")
            if len(corners) >= 3:
                self.shape_drawn.emit("polygon", corners)

    def pen(self, token: str, width: float = 1.8) -> QPen:
        """Return a pen in a token's colour."""
        return QPen(self.theme.color(token), width)
