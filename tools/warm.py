"""Workers that outlive the command or the window of a test."""

from __future__ import annotations

import atexit
import threading
from typing import ClassVar

from ulvar.engine import PoolKeeper


class WarmPools(PoolKeeper):
    """Keeps its workers when a command or a window is done: the next one need not wait for others to start."""

    kept: ClassVar[dict[tuple[int | None, bool], WarmPools]] = {}

    def close(self) -> None:
        """End nothing."""

    @classmethod
    def all_of_it(cls) -> list[object]:
        """Return the workers that are kept, and the threads that look after them."""
        found: list[object] = []
        for one in cls.kept.values():
            if one._pool is not None:
                found += (getattr(one._pool, "_processes", None) or {}).values()
                found += [getattr(one._pool, "_executor_manager_thread", None)]
        return found + [t for t in threading.enumerate() if t.name.startswith("QueueFeederThread")]

    @classmethod
    def of(cls, workers: int | None = None, *, polite: bool = True) -> WarmPools:
        """Return the one of so many workers."""
        key = workers, polite
        if key not in cls.kept:
            cls.kept[key] = cls(workers, polite=polite)
            atexit.register(PoolKeeper.close, cls.kept[key])
        return cls.kept[key]
