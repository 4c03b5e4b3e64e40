"""Progress out of a task, and the wish to stop into it."""

from __future__ import annotations

import threading
from typing import Protocol


class Progress(Protocol):
    """Called with work done, work in all, and a short text for people."""

    def __call__(self, done: int, total: int, text: str) -> None: ...


def silent(done: int, total: int, text: str) -> None:
    """Report nothing: the default progress of library calls."""


class StopRequested(Exception):
    """Raised inside a task when its stop token was set."""


class StopToken:
    """A wish to stop that a task looks at between items."""

    def __init__(self) -> None:
        self._event = threading.Event()

    def stop(self) -> None:
        """Ask the task to stop after the items now in flight."""
        self._event.set()

    @property
    def stopping(self) -> bool:
        """Whether stop was asked."""
        return self._event.is_set()

    def check(self) -> None:
        """Raise `StopRequested` if stop was asked."""
        if self._event.is_set():
            raise StopRequested("stopped by the user")
