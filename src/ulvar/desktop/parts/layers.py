"""What many repaintings of a widget have in common, painted once."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter, QPixmap
from PySide6.QtWidgets import QWidget


class Layer:
    """A part of a widget's painting that is kept until what it shows changes.

    Hundreds of round dots take milliseconds to draw. A step to the next exposure moves a cursor over dots that stay.
    """

    def __init__(self) -> None:
        self._key: tuple | None = None
        self._pixmap = QPixmap()

    def paint(self, painter: QPainter, widget: QWidget, key: tuple, draw: Callable[[QPainter], None]) -> None:
        """Put the layer on the widget; `draw` is called when `key`, all that it depends on, is another than last time."""
        ratio = widget.devicePixelRatioF()
        whole = (widget.size(), ratio, key)
        if self._key != whole:
            self._key = whole
            self._pixmap = QPixmap(widget.size() * ratio)
            self._pixmap.setDevicePixelRatio(ratio)
            self._pixmap.fill(Qt.GlobalColor.transparent)
            layer = QPainter(self._pixmap)
            layer.setRenderHint(QPainter.RenderHint.Antialiasing)
            draw(layer)
            layer.end()
        painter.drawPixmap(0, 0, self._pixmap)
