"""The picture of a film, in which stars are marked by clicks."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QImage, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QWidget,
)

from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.theme import Theme, font
from ulvar.photometry import ListedStar


class FilmPicture(QWidget):
    """The mean of a film's first frames; a click takes a place, marks show what was taken."""

    clicked = Signal(float, float)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.stars: list[ListedStar] = []
        self.rings: tuple[float, float, float] | None = None
        self.words = "No film is open."
        self._image: QImage | None = None
        self._size = (1, 1)
        self.setMinimumSize(420, 300)
        self.setAccessibleName("The mean of the film's first frames")
        self.setToolTip(
            "Click the target first, even where nothing is seen, then stars to follow; a click on a mark takes it away"
        )

    def show_picture(self, grey: np.ndarray | None) -> None:
        """Show a picture, uint8, shape (height, width), first row at the top."""
        if grey is None:
            self._image = None
        else:
            height, width = grey.shape
            self._size = width, height
            self._image = QImage(
                np.ascontiguousarray(grey).data, width, height, width, QImage.Format.Format_Grayscale8
            ).copy()
        self.update()

    def _box(self) -> tuple[QRectF, float]:
        width, height = self._size
        scale = min(self.width() / width, self.height() / height)
        return QRectF(
            (self.width() - scale * width) / 2, (self.height() - scale * height) / 2, scale * width, scale * height
        ), scale

    def to_screen(self, x: float, y: float) -> QPointF:
        """Return where a place of the frame [px, 0-based] is drawn."""
        box, scale = self._box()
        return QPointF(box.left() + (x + 0.5) * scale, box.top() + (y + 0.5) * scale)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw picture, rings and names."""
        with QPainter(self) as painter:
            t = self.theme
            painter.fillRect(self.rect(), t.color("plot"))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setFont(font("value"))
            if self._image is None:
                painter.setPen(t.color("mute"))
                painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, self.words)
                return
            box, scale = self._box()
            painter.drawImage(box, self._image)
            for star in self.stars:
                place = self.to_screen(star.x or 0.0, star.y or 0.0)
                color = t.color(glyphs.role_token(star.role))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(color, 1.6))
                if self.rings is None:
                    painter.drawPath(glyphs.role_path(star.role, place.x(), place.y(), 8))
                else:
                    painter.drawEllipse(place, self.rings[0] * scale, self.rings[0] * scale)
                    painter.setPen(QPen(color, 1, Qt.PenStyle.DotLine))
                    for radius in self.rings[1:]:
                        painter.drawEllipse(place, radius * scale, radius * scale)
                reach = (self.rings[2] if self.rings else 8.0 / scale) * scale
                words = painter.fontMetrics().horizontalAdvance(star.name)
                left = (
                    place.x() + reach + 4
                    if place.x() + reach + 8 + words < self.width()
                    else place.x() - reach - 8 - words
                )
                painter.fillRect(QRectF(left - 2, place.y() - 9, words + 4, 18), t.color("raised", 0.85))
                painter.setPen(color)
                painter.drawText(QPointF(left, place.y() + 4), star.name)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take a place."""
        box, scale = self._box()
        if self._image is not None and box.contains(event.position()):
            self.clicked.emit(
                (event.position().x() - box.left()) / scale - 0.5, (event.position().y() - box.top()) / scale - 0.5
            )
