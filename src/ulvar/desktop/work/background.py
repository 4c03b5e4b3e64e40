"""Work of a page in a thread of its own, with the answer as a signal."""

from __future__ import annotations

import logging
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

from PySide6.QtCore import QObject, Signal

from ulvar.frames import FrameError
from ulvar.night import NightClosed

log = logging.getLogger(__name__)


class Asker(QObject):
    """Runs one question after the other; stale answers are dropped by who asked."""

    found = Signal(object, object)

    def __init__(self, name: str) -> None:
        super().__init__()
        self._pool = ThreadPoolExecutor(1, thread_name_prefix=name)

    def ask(self, key: object, work: Callable[[], object]) -> None:
        """Start; `found` comes with the key and what the work returned, or the reason as text."""

        def run() -> None:
            try:
                self.found.emit(key, work())
            except FrameError as error:
                self.found.emit(key, error.reason)
            except NightClosed as error:
                # Nothing is wrong: who asked has gone on to another night, or the window ends.
                self.found.emit(key, str(error))
            except Exception as error:
                # Nobody reads the future: without this the question would stay open.
                log.exception("in the background")
                self.found.emit(key, f"{type(error).__name__}: {error}")

        self._pool.submit(run)

    def close(self, *, wait: bool = False) -> None:
        """End the thread: soon, or when this returns."""
        self._pool.shutdown(wait=wait, cancel_futures=True)
