"""Lines of small dots: evidence in findings and tables."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.theme import Theme


class Sparkline(QWidget):
    """A line of small dots, for evidence."""

    def __init__(self, theme: Theme, values: Sequence[float], token: str = "soft") -> None:
        super().__init__()
        self.theme, self._values, self._token = theme, np.asarray(values, dtype=float), token
        self.setFixedHeight(30)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the dots."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), self.theme.color("plot"))
        draw_spark(painter, self.theme, QRectF(self.rect()), self._values, self._token)


def draw_spark(
    painter: QPainter,
    theme: Theme,
    box: QRectF,
    values: np.ndarray,
    token: str,
    scale: tuple[float, float] | None = None,
) -> None:
    """Draw values as small dots in a box; `scale` fixes the range so that several can be compared."""
    good = np.isfinite(values)
    if not good.any():
        return
    low, high = scale or (float(values[good].min()), float(values[good].max()))
    span = max(high - low, 1e-12)
    # Wide round pen points in one call: an ellipse each is ten times the work.
    painter.setPen(glyphs.round_pen(theme.color(token), 2.6))
    share = np.clip((values[good] - low) / span, 0, 1)
    across = box.left() + 4 + (box.width() - 8) * np.flatnonzero(good) / max(1, len(values) - 1)
    down = box.bottom() - 4 - share * (box.height() - 8)
    painter.drawPoints([QPointF(x, y) for x, y in zip(across.tolist(), down.tolist())])
