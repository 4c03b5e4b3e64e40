"""The picture itself: zoom at the cursor, pan, marks on top."""

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
    QWheelEvent,
    qRgb,
)
from PySide6.QtWidgets import QWidget

from ulvar.desktop.overlays import Overlay, halo_text, paint_overlay
from ulvar.desktop.pictures import Picture
from ulvar.desktop.stretch import Stretch
from ulvar.desktop.theme import Theme, font

_RED = [qRgb(i, 0, 0) for i in range(256)]


class Canvas(QWidget):
    """Shows a picture; image rows run upwards, as FITS counts them."""

    clicked = Signal(float, float)
    line_drawn = Signal(float, float, float, float)
    region_drawn = Signal(int, int, int, int)
    hovered = Signal(float, float)
    zoomed = Signal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.picture: Picture | None = None
        self.problem = ""
        self.stretch = Stretch()
        self.overlay = Overlay()
        self.scale = 1.0
        self.centre = QPointF(0, 0)
        self.fitted = True
        # Before and after: the second picture left of the border, which is a share of the width.
        self.second: Picture | None = None
        self.second_stretch = Stretch()
        self.border = 0.5
        # What a drag does: pan, line or region.
        self.mode = "pan"
        self.line: tuple[QPointF, QPointF] | None = None
        self._corner: QPointF | None = None
        self._on_border = False
        self._press: QPointF | None = None
        self._moved = False
        self.setMouseTracking(True)
        self.setMinimumWidth(240)
        self.setCursor(Qt.CursorShape.CrossCursor)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setAccessibleName("Picture")

    # ---- geometry

    def set_picture(self, picture: Picture | None, problem: str = "") -> None:
        """Show another picture; place and zoom stay when the size is the same."""
        changed = picture is not None and (self.picture is None or self.picture.data.shape != picture.data.shape)
        self.picture, self.problem = picture, problem
        if changed or self.fitted:
            self.fit()
        self.update()

    def fit(self) -> None:
        """Show the whole picture."""
        self.fitted = True
        if self.picture is None:
            return
        height, width = self.picture.data.shape
        self.scale = min(self.width() / width, self.height() / height)
        self.centre = QPointF((width - 1) / 2, (height - 1) / 2)
        self.update()
        self.zoomed.emit()

    def one_to_one(self) -> None:
        """One image pixel to one screen pixel, about the middle of the view."""
        self.fitted = False
        self.scale = 1.0
        self.update()
        self.zoomed.emit()

    def zoom(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom by a factor; the image point at `at` (widget position) stays where it is."""
        if self.picture is None:
            return
        place = at or QPointF(self.width() / 2, self.height() / 2)
        before = self.to_image(place)
        self.scale = min(max(self.scale * factor, 0.01), 64.0)
        self.fitted = False
        after = self.to_image(place)
        self.centre += before - after
        self.update()
        self.zoomed.emit()

    def to_image(self, place: QPointF) -> QPointF:
        """Return the image position (0-based, pixel centres) at a widget position."""
        x = self.centre.x() + (place.x() - self.width() / 2) / self.scale
        y = self.centre.y() - (place.y() - self.height() / 2) / self.scale
        return QPointF(x, y)

    def to_screen(self, x: float, y: float) -> QPointF:
        """Return the widget position of an image position."""
        return QPointF(
            self.width() / 2 + (x - self.centre.x()) * self.scale,
            self.height() / 2 - (y - self.centre.y()) * self.scale,
        )

    # ---- painting

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the visible part, then the marks."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor("#000000"))
        if self.picture is None:
            painter.setPen(self.theme.color("block" if self.problem else "mute"))
            painter.setFont(font("label"))
            box = QRectF(self.rect()).adjusted(24, 24, -24, -24)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.problem)
            return
        self._paint_pixels(painter, self.picture, self.stretch)
        if self.second is not None:
            painter.save()
            painter.setClipRect(QRectF(0, 0, self.border * self.width(), self.height()))
            painter.fillRect(self.rect(), QColor("#000000"))
            self._paint_pixels(painter, self.second, self.second_stretch)
            painter.restore()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        paint_overlay(painter, self)
        self._paint_tools(painter)

    def _paint_tools(self, painter: QPainter) -> None:
        painter.setPen(QPen(self.theme.color("cur"), 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if self.second is not None:
            x = self.border * self.width()
            painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
            painter.setBrush(self.theme.color("cur"))
            painter.drawRoundedRect(QRectF(x - 3, self.height() / 2 - 14, 6, 28), 3, 3)
            for text, place in (("before", x - 12), ("after", x + 12)):
                width = painter.fontMetrics().horizontalAdvance(text)
                left = place - width - 4 if text == "before" else place
                halo_text(painter, self, QPointF(left, 40), text, self.theme.color("text"))
        if self.line is not None:
            a, b = (self.to_screen(p.x(), p.y()) for p in self.line)
            painter.setPen(QPen(self.theme.color("cur"), 1.6))
            painter.drawLine(a, b)
            painter.setBrush(self.theme.color("cur"))
            for end in (a, b):
                painter.drawEllipse(end, 3.5, 3.5)
        if self._corner is not None and self._press is not None:
            painter.setPen(QPen(self.theme.color("cur"), 1.6, Qt.PenStyle.DashLine))
            painter.setBrush(self.theme.color("cur", 0.16))
            painter.drawRect(QRectF(self._press, self._corner))

    def _paint_pixels(self, painter: QPainter, picture: Picture, stretch: Stretch) -> None:
        height, width = picture.data.shape
        level = 0
        while level + 1 < len(picture.levels) and self.scale * 2**level < 0.55:
            level += 1
        pixels = picture.levels[level]
        fy, fx = height / pixels.shape[0], width / pixels.shape[1]
        low, high = self.to_image(QPointF(0, self.height())), self.to_image(QPointF(self.width(), 0))
        x0, x1 = max(0, math.floor((low.x() - 1) / fx)), min(pixels.shape[1], math.ceil((high.x() + 2) / fx))
        y0, y1 = max(0, math.floor((low.y() - 1) / fy)), min(pixels.shape[0], math.ceil((high.y() + 2) / fy))
        if x1 <= x0 or y1 <= y0:
            return
        grey = np.ascontiguousarray(stretch.apply(pixels[y0:y1, x0:x1], picture.sample)[::-1])
        image = QImage(grey.data, grey.shape[1], grey.shape[0], grey.shape[1], QImage.Format.Format_Grayscale8)
        if self.theme.name == "red":
            image = QImage(grey.data, grey.shape[1], grey.shape[0], grey.shape[1], QImage.Format.Format_Indexed8)
            image.setColorTable(_RED)
        # A pixel's square reaches half a pixel beyond its centre.
        top_left = self.to_screen(x0 * fx - 0.5, y1 * fy - 0.5)
        bottom_right = self.to_screen(x1 * fx - 0.5, y0 * fy - 0.5)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, self.scale < 2.0)
        painter.drawImage(QRectF(top_left, bottom_right), image)

    # ---- mouse and keys

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Keep the whole picture in view if it was."""
        if self.fitted:
            self.fit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Zoom at the cursor."""
        self.zoom(1.25 ** (event.angleDelta().y() / 120), event.position())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Start a click or a pan."""
        self._press, self._moved = event.position(), False
        near = self.second is not None and abs(event.position().x() - self.border * self.width()) < 10
        self._on_border = near and self.mode == "pan"

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Pan, and read out."""
        if self._press is not None and event.buttons() & (Qt.MouseButton.LeftButton | Qt.MouseButton.MiddleButton):
            delta = event.position() - self._press
            if self._on_border:
                self._moved = True
                self.border = min(max(event.position().x() / max(1, self.width()), 0.02), 0.98)
                self.update()
            elif self.mode == "line":
                self._moved = True
                self.line = (self.to_image(self._press), self.to_image(event.position()))
                self.update()
            elif self.mode == "region":
                self._moved = True
                self._corner = event.position()
                self.update()
            elif self._moved or delta.manhattanLength() > 4:
                self._moved = True
                self.fitted = False
                self.centre -= QPointF(delta.x() / self.scale, -delta.y() / self.scale)
                self._press = event.position()
                self.update()
        place = self.to_image(event.position())
        self.hovered.emit(place.x(), place.y())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Tell where the picture was clicked."""
        if self._press is not None and not self._moved and event.button() == Qt.MouseButton.LeftButton:
            place = self.to_image(event.position())
            self.clicked.emit(place.x(), place.y())
        if self.mode == "line" and self.line is not None and self._moved:
            a, b = self.line
            self.line_drawn.emit(a.x(), a.y(), b.x(), b.y())
        if self.mode == "region" and self._corner is not None and self._press is not None:
            a, b = self.to_image(self._press), self.to_image(self._corner)
            low, high = (min(a.x(), b.x()), min(a.y(), b.y())), (max(a.x(), b.x()), max(a.y(), b.y()))
            self._corner = None
            self.mode = "pan"
            self.region_drawn.emit(round(low[0]), round(low[1]), round(high[0]) + 1, round(high[1]) + 1)
        self._press = None
        self._on_border = False
        self.update()

    def pen(self, token: str, width: float = 1.8) -> QPen:
        """Return a pen in a token's colour."""
        return QPen(self.theme.color(token), width)
