"""At the first start on a machine kernels are compiled beside the window, and the window says so."""

from __future__ import annotations

import subprocess
from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer

from ulvar.simulation.warming import start_warming

BEGUN = "Fast routines are made ready for this machine, once; until then first steps take longer."
DONE = "The fast routines are ready."
# After the first paint, and then once a second [ms].
_BEGIN_MS, _LOOK_MS = 1500, 1000


class Warmer(QObject):
    """Starts the compiling of kernels where it was never done, and tells when it begins and ends.

    Parameters
    ----------
    parent : QObject
    say : callable
        Shows a sentence.
    start : callable, optional
        Returns the process, None where there is nothing to do.
    """

    def __init__(
        self,
        parent: QObject,
        say: Callable[[str], object],
        start: Callable[[], subprocess.Popen[bytes] | None] = start_warming,
    ) -> None:
        super().__init__(parent)
        self._say, self._start = say, start
        self._process: subprocess.Popen[bytes] | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._look)
        self._timer.start(_BEGIN_MS)
        self._begun = False

    def _look(self) -> None:
        if not self._begun:
            self._begun = True
            self._process = self._start()
            if self._process is not None:
                self._say(BEGUN)
        elif self._process is not None and self._process.poll() is not None:
            if self._process.returncode == 0:
                self._say(DONE)
            self._process = None
        if self._process is not None:
            self._timer.start(_LOOK_MS)

    def stop(self) -> None:
        """End the compiling; the next start goes on with what is missing."""
        self._timer.stop()
        if self._process is not None:
            self._process.terminate()
            self._process.wait(10)
            self._process = None
