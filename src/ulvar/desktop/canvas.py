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

from ulvar.desktop.overlays import Overlay, paint_overlay
from ulvar.desktop.pictures import Picture
from ulvar.desktop.stretch import Stretch
from ulvar.desktop.theme import Theme, font

_RED = [qRgb(i, 0, 0) for i in range(256)]


class Canvas(QWidget):
    """Shows a picture; image rows run upwards, as FITS counts them."""

    clicked = Signal(float, float)
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
        self._paint_pixels(painter)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        paint_overlay(painter, self)

    def _paint_pixels(self, painter: QPainter) -> None:
        assert self.picture is not None
        height, width = self.picture.data.shape
        level = 0
        while level + 1 < len(self.picture.levels) and self.scale * 2**level < 0.55:
            level += 1
        pixels = self.picture.levels[level]
        fy, fx = height / pixels.shape[0], width / pixels.shape[1]
        low, high = self.to_image(QPointF(0, self.height())), self.to_image(QPointF(self.width(), 0))
        x0, x1 = max(0, math.floor((low.x() - 1) / fx)), min(pixels.shape[1], math.ceil((high.x() + 2) / fx))
        y0, y1 = max(0, math.floor((low.y() - 1) / fy)), min(pixels.shape[0], math.ceil((high.y() + 2) / fy))
        if x1 <= x0 or y1 <= y0:
            return
        grey = np.ascontiguousarray(self.stretch.apply(pixels[y0:y1, x0:x1], self.picture.sample)[::-1])
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

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Pan, and read out."""
        if self._press is not None and event.buttons() & (Qt.MouseButton.LeftButton | Qt.MouseButton.MiddleButton):
            delta = event.position() - self._press
            if self._moved or delta.manhattanLength() > 4:
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
        self._press = None

    def pen(self, token: str, width: float = 1.8) -> QPen:
        """Return a pen in a token's colour."""
        return QPen(self.theme.color(token), width)
