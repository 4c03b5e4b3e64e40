"""Pictures of widgets as arrays, and where they have a colour."""

import numpy as np
from PySide6.QtGui import QColor, QImage

from ulvar.desktop.parts.theme import THEMES

DARK = THEMES["dark"]


def pixels(image: QImage) -> np.ndarray:
    """Return a picture as an array, shape (height, width, 3)."""
    image = image.convertToFormat(QImage.Format.Format_RGB888)
    rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    return rows[:, : 3 * image.width()].reshape(image.height(), image.width(), 3).astype(int)


def near(found: np.ndarray, color: QColor, within: int = 40) -> np.ndarray:
    """Return where a picture is nearly of a colour."""
    return np.abs(found - np.array(color.getRgb()[:3])).max(axis=-1) <= within
