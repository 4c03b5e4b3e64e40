"""What is on the screen at once: a window of the right size and colours, while the one that works is loaded."""

from __future__ import annotations

import gc
import importlib
import threading
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, QSettings, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from ulvar.desktop.parts.theme import THEMES, font
from ulvar.desktop.shell.sizing import LEAST, size_as_before

# The window and all that it imports.
_MODULES = ("ulvar.desktop.shell.window", "ulvar.desktop.shell.places", "ulvar.desktop.work.warming")
# Heights of the path above and of the night line below, as the window has them [px].
_PATH, _LINE = 56, 164


class Opening(QWidget):
    """An empty window in the place of the one that is being loaded; it can be moved, sized and closed.

    Parameters
    ----------
    settings : QSettings
        With the size that was left, and the theme.
    path : Path or None
        What is going to be opened, for the sentence.
    """

    def __init__(self, settings: QSettings, path: Path | None) -> None:
        super().__init__()
        self.theme = THEMES.get(str(settings.value("theme", "dark")), THEMES["dark"])
        self.text = "Ulvar is starting" if path is None else f"Opening {path.resolve().name}"
        self.setWindowTitle("Ulvar")
        self.setAccessibleName(self.text)
        self.setMinimumSize(LEAST)
        size_as_before(self, settings)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint the regions without anything in them, and the sentence."""
        painter = QPainter(self)
        width, height = self.width(), self.height()
        painter.fillRect(self.rect(), QColor(self.theme.base))
        for top, tall in ((0, _PATH), (height - _LINE, _LINE)):
            painter.fillRect(0, top, width, tall, QColor(self.theme.panel))
        painter.setPen(QColor(self.theme.soft))
        painter.setFont(font("section"))
        painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, f"{self.text} …")
        painter.end()


class Loading(QObject):
    """Imports the window in another thread, while the empty one answers.

    Parameters
    ----------
    opening : Opening
    show : callable
        Makes and shows the window, in the thread of this object.

    Attributes
    ----------
    error : BaseException or None
        Why it could not be loaded, or shown.
    """

    _done = Signal(object)

    def __init__(self, opening: Opening, show: Callable[[], QWidget]) -> None:
        super().__init__(opening)
        self._opening, self._show = opening, show
        self.error: BaseException | None = None
        self._ended = False
        self._done.connect(self._loaded)
        self._thread = threading.Thread(target=self._load, name="loading", daemon=True)
        self._thread.start()

    def wait(self) -> None:
        """Return when nothing is imported any more: a process that ends in the middle of it may crash."""
        self._ended = True
        self._thread.join()

    def _load(self) -> None:
        error: BaseException | None = None
        try:
            for name in _MODULES:
                if not self._ended:
                    importlib.import_module(name)
        except BaseException as raised:
            error = raised
        self._done.emit(error)

    def _loaded(self, error: BaseException | None) -> None:
        self._thread.join()
        # What is loaded stays as long as the process; it is not looked through for garbage.
        gc.freeze()
        if self._opening.isVisible():
            try:
                if error is not None:
                    raise error
                window = self._show()
                window.raise_()
                window.activateWindow()
            except BaseException as raised:
                self.error = raised
        # The last window that closes ends the application.
        self._opening.close()
