"""The values along a drawn line, under the picture."""

from __future__ import annotations

import cv2
import numpy as np
from PySide6.QtWidgets import QVBoxLayout, QWidget

from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.picture.pictures import Picture


def sample_line(
    data: np.ndarray, start: tuple[float, float], end: tuple[float, float]
) -> tuple[np.ndarray, np.ndarray]:
    """Return distance [px] and value along a line, one sample a pixel, bilinear; NaN outside the frame."""
    length = float(np.hypot(end[0] - start[0], end[1] - start[1]))
    steps = max(2, round(length) + 1)
    x = np.linspace(start[0], end[0], steps).astype(np.float32)
    y = np.linspace(start[1], end[1], steps).astype(np.float32)
    values = cv2.remap(data, x[None, :], y[None, :], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[0]
    height, width = data.shape
    outside = (x < -0.5) | (y < -0.5) | (x > width - 0.5) | (y > height - 0.5)
    return np.linspace(0, length, steps), np.where(outside, np.nan, values.astype(np.float64))


class ProfileStrip(QWidget):
    """A plot of one or two pictures along a line."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setFixedHeight(130)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 4, 8, 4)
        self.plot = Plot(theme, x_label="along the line, px", y_label="ADU")
        self.plot.empty = "Drag a line on the picture: the values along it appear here."
        column.addWidget(self.plot)

    def show_line(
        self, picture: Picture, second: Picture | None, start: tuple[float, float], end: tuple[float, float]
    ) -> None:
        """Show the values of a picture, and of a second one beside it."""
        series = []
        if second is not None and second.data.shape == picture.data.shape:
            x, y = sample_line(second.data, start, end)
            series.append(Points(x, y, token="mute", name="before", line=True))
        x, y = sample_line(picture.data, start, end)
        series.append(Points(x, y, token="cur", name="after" if series else "", line=True))
        self.plot.series = series
        self.plot.update()

    def forget(self) -> None:
        """Show nothing."""
        self.plot.series = []
        self.plot.update()
