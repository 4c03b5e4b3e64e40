"""When Python looks for cyclic garbage: while nobody uses the window, not in the middle of a click.

A full collection walks every object there is, and takes a tenth of a second or more with a night open.
"""

from __future__ import annotations

import gc
from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer

_EVERY_MS = 5000
# Never of itself: collections of the whole are asked for by `Sweeper` alone.
_NEVER = 1_000_000_000


def sweep_when_idle_only() -> None:
    """Leave small collections to Python and take the large one out of its hands; what is loaded now is never walked."""
    young, middle, _ = gc.get_threshold()
    gc.set_threshold(young, middle, _NEVER)
    gc.collect()
    gc.freeze()


class Sweeper:
    """Collects garbage once the window has been left alone for a few seconds, after it was used.

    Parameters
    ----------
    parent : QObject
        The window.
    state : callable
        All that changes when somebody uses the window: the cursor's place, the current exposure …
    busy : callable
        Whether something runs or plays.
    """

    def __init__(self, parent: QObject, state: Callable[[], tuple], busy: Callable[[], bool]) -> None:
        self._state, self._busy = state, busy
        self._seen: tuple = ()
        self._swept: tuple = ()
        self._timer = QTimer(parent)
        self._timer.setInterval(_EVERY_MS)
        self._timer.timeout.connect(self.look)
        self._timer.start()

    def look(self) -> bool:
        """Collect if nothing has happened since the last look, and something since the last collection."""
        now = self._state()
        idle = now == self._seen and not self._busy()
        self._seen = now
        if not idle or now == self._swept:
            return False
        self._swept = now
        gc.collect()
        return True

    def stop(self) -> None:
        """Look no more."""
        self._timer.stop()
