"""Pictures of widgets as arrays, and where they have a colour."""

import numpy as np
from PySide6.QtGui import QColor
from tools.looks import pixels as pixels

from ulvar.desktop.parts.theme import THEMES

DARK = THEMES["dark"]


def near(found: np.ndarray, color: QColor, within: int = 40) -> np.ndarray:
    """Return where a picture is nearly of a colour."""
    return np.abs(found - np.array(color.getRgb()[:3])).max(axis=-1) <= within
