"""How large the window is, and text and controls in it, in steps from 85 to 150 %."""

from __future__ import annotations

from PySide6.QtCore import QSettings, QSize, Qt
from PySide6.QtWidgets import QWidget

STEPS = (85, 100, 115, 130, 150)
USUAL = 100
_KEY = "text percent"
# The window's least size, and the first one.
LEAST, FIRST = QSize(1024, 700), QSize(1280, 800)


def size_as_before(window: QWidget, settings: QSettings) -> None:
    """Give a window the size that it was left with, or the first one."""
    size = settings.value("size")
    window.resize(size if isinstance(size, QSize) and size.isValid() else FIRST)
    if settings.value("maximised") in (True, "true"):
        window.setWindowState(Qt.WindowState.WindowMaximized)


def chosen_percent(settings: QSettings) -> int:
    """Return the step that was chosen; the usual one where nothing sensible is stored."""
    try:
        percent = int(str(settings.value(_KEY, USUAL)))
    except ValueError:
        return USUAL
    return percent if percent in STEPS else USUAL


def change_size(settings: QSettings, by: int) -> str:
    """Go a step larger or smaller, or with 0 back to the usual size; returns what happens, in words."""
    before = chosen_percent(settings)
    place = STEPS.index(before) + by
    percent = USUAL if by == 0 else STEPS[min(max(place, 0), len(STEPS) - 1)]
    settings.setValue(_KEY, percent)
    if percent == before and by != 0:
        return f"Text and controls are at {percent}\u00a0% already, the {'largest' if by > 0 else 'smallest'} there is."
    return f"Text and controls will be at {percent}\u00a0% when Ulvar is started again."
